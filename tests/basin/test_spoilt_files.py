"""Files that are spoilt, or made to harm: a sentence for each, and whoever had them read goes on."""

from __future__ import annotations

import json
import os
import resource
import tempfile
import time
import zipfile
from pathlib import Path
from typing import ClassVar

import numpy as np
from django.test import SimpleTestCase
from PIL import Image
from pxr import Sdf, Usd, UsdGeom, UsdUtils, Vt

from basin import apart
from basin.exchange import UnusableFile, read_image, read_mesh, read_sequence, told
from basin.exchange.usd import fans
from basin.scene import parse_scene
from basin.stages.placing import seen_mesh
from tests.spoilt import BINARY, TEXT, sound, spoilt, used

MANY = 200  # of each binary format; `./zinc bench --attack` reads 20 000
GROWN = 300_000_000  # bytes that this process may grow by while it has them read


class Spoilt(SimpleTestCase):
    """At random."""

    def test_every_spoilt_file_gets_a_sentence_or_is_read(self) -> None:
        with tempfile.TemporaryDirectory() as holding:
            home = Path(holding)
            before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
            for kind, path in sound(home).items():
                used(path)
                data = path.read_bytes()
                read = 0
                for seed in range(MANY if kind in BINARY else MANY // 10):
                    one = home / f"spoilt.{kind}"
                    one.write_bytes(spoilt(data, seed))
                    try:
                        used(one)
                        read += 1
                    except UnusableFile as error:
                        self.assertRegex(str(error), rf"^spoilt\.{kind}: .{{10,}}")
                self.assertLess(read, MANY * 0.9, f"hardly one {kind} was spoilt")
            grown = 1024 * (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)
            self.assertLess(grown, GROWN)
        self.assertEqual(len(BINARY) + len(TEXT), 12)


class Elsewhere(SimpleTestCase):
    """Files that name others."""

    home: ClassVar[Path]

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)
        (self.home / "mine").mkdir()
        self.stranger = sound(self.home)["usda"]

    def layer(self, name: str, text: str) -> Path:
        path = self.home / "mine" / name
        path.write_text(f"#usda 1.0\n{text}\n")
        return path

    def prim(self, metadata: str, kind: str = "") -> str:
        return f'def {kind} "a" (\n    {metadata}\n)\n{{\n}}'

    def refused(self, path: Path, says: str = "refers to another file") -> None:
        for read in (told, read_mesh):
            with self.assertRaisesRegex(UnusableFile, says):
                read(path)

    def test_layers_that_name_layers(self) -> None:
        for n, place in enumerate((str(self.stranger), "../sound.usda", f"file:{self.stranger}")):
            for arc in ("references", "payload"):
                self.refused(self.layer(f"{arc}{n}.usda", self.prim(f"prepend {arc} = @{place}@</delivery>")))
            self.refused(self.layer(f"sub{n}.usda", f"(\n    subLayers = [\n        @{place}@\n    ]\n)"))
            variant = f'"x" (\n prepend references = @{place}@</delivery>\n) {{\n}}'
            chosen = self.prim('variants = {\n string v = "x"\n}\nprepend variantSets = "v"')
            text = chosen[:-1] + f'variantSet "v" = {{\n{variant}\n}}\n}}'
            self.refused(self.layer(f"variant{n}.usda", text))

    def test_value_clips(self) -> None:
        clips = f"clips = {{\n dictionary default = {{\n asset[] assetPaths = [@{self.stranger}@]\n }}\n}}"
        self.refused(self.layer("clips.usda", self.prim(clips, "Mesh")), "value clips")

    def test_packages_hold_together(self) -> None:
        whole = self.home / "mine" / "whole.usdz"
        root = self.layer("root.usda", self.prim("prepend references = @part.usda@</delivery>"))
        (self.home / "mine" / "part.usda").write_text(self.stranger.read_text())
        UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(root)), str(whole))
        self.assertEqual(read_mesh(whole).open_edges(), 0)
        away = self.layer("away.usda", self.prim(f"prepend references = @{self.stranger}@</delivery>"))
        bad = self.home / "mine" / "bad.usdz"
        writer = Sdf.ZipFileWriter.CreateNew(str(bad))
        writer.AddFile(str(away), "away.usda")
        writer.Save()
        self.refused(bad)

    def test_materials_and_textures_stay_closed(self) -> None:
        """What a mesh names beside itself is not opened: a pipe would wait for ever, and the sentence would come."""
        os.mkfifo(self.home / "mine" / "pipe")
        obj = self.home / "mine" / "named.obj"
        obj.write_text("mtllib pipe\nv 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
        self.assertEqual(len(read_mesh(obj).triangle), 1)
        document = json.loads((self.home / "sound.gltf").read_bytes())
        document |= {"images": [{"uri": "pipe"}], "textures": [{"source": 0}]}
        document["materials"] = [{"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}}}]
        document["meshes"][0]["primitives"][0]["material"] = 0
        textured = self.home / "mine" / "textured.gltf"
        textured.write_text(json.dumps(document))
        self.assertEqual(read_mesh(textured).open_edges(), 0)
        document["buffers"][0]["uri"] = "pipe"
        textured.write_text(json.dumps(document))
        with self.assertRaisesRegex(UnusableFile, "another file"):
            read_mesh(textured)

    def test_an_alembic_file_of_the_older_kind(self) -> None:
        path = self.home / "mine" / "old.abc"
        path.write_bytes(b"\x89HDF\r\n\x1a\n" + bytes(1000))
        self.refused(path, "export it again")

    def test_sequences_outside_of_the_take(self) -> None:
        shape = {"kind": "mesh", "file": "../sound.usda"}
        document = {"elements": [{"kind": "fill", "name": "a", "shape": shape}]}
        for file in ("../sound.usda", "../sound.####.ply", "/etc/passwd", "a\0b"):
            shape["file"] = file
            for frame in (None, 1):
                with self.assertRaises(ValueError):
                    seen_mesh(self.home / "mine", parse_scene(document), 0, frame)


class Costly(SimpleTestCase):
    """Small files that would take much."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)

    def within(self, seconds: float, path: Path, says: str = "") -> None:
        begin = time.monotonic()
        if says:
            with self.assertRaisesRegex(UnusableFile, says):
                used(path)
        else:
            used(path)
        self.assertLess(time.monotonic() - begin, seconds, path.name)

    def test_one_polygon_of_many_sides(self) -> None:
        turn = np.linspace(0, 2 * np.pi, 20_000, endpoint=False)
        ring = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
        corners = np.arange(20_000)
        cut = fans(np.array([20_000]), corners)
        self.assertEqual(len(cut), 19_998)
        rows = "".join(f"v {x:.6f} {y:.6f} 0\n" for x, y, _ in ring)
        obj = self.home / "ring.obj"
        obj.write_text(rows + "f " + " ".join(str(n + 1) for n in corners) + "\n")
        self.within(10, obj)
        stage = Usd.Stage.CreateNew(str(self.home / "ring.usdc"))
        mesh = UsdGeom.Mesh.Define(stage, "/ring")
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(ring.astype(np.float32)))
        mesh.CreateFaceVertexCountsAttr([20_000])
        mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(corners.astype(np.int32)))
        stage.Save()
        self.within(10, self.home / "ring.usdc")

    def test_fans_are_cut_as_ever(self) -> None:
        """A square and a triangle: the first triangles of all, then the second ones."""
        cut = fans(np.array([4, 3]), np.array([0, 1, 2, 3, 7, 8, 9]))
        self.assertEqual(cut.tolist(), [[0, 1, 2], [7, 8, 9], [0, 2, 3]])

    def test_motion_of_many_samples(self) -> None:
        stage = Usd.Stage.CreateNew(str(self.home / "long.usdc"))
        top = UsdGeom.Xform.Define(stage, "/top")
        moved = top.AddTranslateOp()
        for frame in range(9_000):
            moved.Set((frame, 0, 0), frame)
        mesh = UsdGeom.Mesh.Define(stage, "/top/mesh")
        mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(np.random.default_rng(1).random((30_000, 3), np.float32)))
        mesh.CreateFaceVertexCountsAttr([3])
        mesh.CreateFaceVertexIndicesAttr([0, 1, 2])
        stage.Save()
        begin = time.monotonic()
        with self.assertRaisesRegex(UnusableFile, "30,000 points at 9,000 moments are 6.5 GB; at most 1 GB"):
            read_sequence(self.home, "long.usdc")
        self.assertLess(time.monotonic() - begin, 10)

    def test_a_picture_of_many_pixels(self) -> None:
        Image.new("L", (9000, 9000)).save(self.home / "wide.png")
        self.within(5, self.home / "wide.png", "more than 64 million pixels")
        Image.new("RGB", (8000, 6000), (255, 0, 0)).save(self.home / "large.png")
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        held = read_image(self.home / "large.png")
        self.assertEqual(held.shape, (3000, 4000, 3))
        self.assertEqual(held[0, 0].tolist(), [1.0, 0.0, 0.0])
        self.assertLess(1024 * (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before), 600_000_000)

    def test_counts_that_are_not_there(self) -> None:
        ply = self.home / "many.ply"
        ply.write_bytes(
            b"ply\nformat binary_little_endian 1.0\nelement vertex 900000000\nproperty float x\nend_header\n"
        )
        self.within(5, ply, "at most 60,000,000 are read")
        nested = self.home / "deep.gltf"
        nested.write_text("[" * 100_000)
        self.within(5, nested, "not a readable glTF")

    def test_a_package_that_unpacks_to_much(self) -> None:
        path = self.home / "bomb.usdz"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.usda", "#usda 1.0\n" + " " * 50_000_000)
        self.within(10, path, "not a readable USDZ")

    def test_references_within_that_multiply(self) -> None:
        """Ten prims that each hold the one before them ten times are ten thousand million: they are ended."""
        text = "#usda 1.0\n"
        for n in range(1, 11):
            inner = "\n".join(f'def "c{k}" (\n prepend references = </p{n - 1}>\n) {{\n}}' for k in range(10))
            text += f'def "p{n}" {{\n{inner}\n}}\n'
        path = self.home / "laughs.usda"
        path.write_text(text + 'def "p0" {\ndef Mesh "m" {\n}\n}\n')
        begin = time.monotonic()
        with self.assertRaisesRegex(apart.Ended, "takes longer than 3 s|needs more than 4 GB"):
            apart.call("basin.exchange.decoders:told", str(path), reach=[self.home], seconds=3)
        self.assertLess(time.monotonic() - begin, 20)
