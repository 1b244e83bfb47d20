"""Deliveries and formats: read back by independent readers, renewed, resumed, refused; animation and cameras in."""

from __future__ import annotations

import json
import os
import shutil
import struct
import tempfile
from collections import namedtuple
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from alembic3d import Abc, AbcGeom
from django.test import SimpleTestCase
from pxr import Gf, Usd, UsdGeom, UsdValidation

from basin.cache import Cache
from basin.exchange import UnusableFile, parts, read_camera, read_mesh, read_sequence, told, write_obj
from basin.exchange import verify as verifying
from basin.exchange.alembic import AlembicFile
from basin.exchange.exr import read_exr
from basin.exchange.gltf import write_glb
from basin.exchange.pieces import METRES, Piece, axes, turned
from basin.exchange.usd import UsdFile
from basin.exchange.vdb import read_vdb
from basin.geometry.shapes import MeshShape
from basin.grid.layout import PAD
from basin.scene import Scene, SceneError, parse_scene
from basin.stages import deliver as delivering
from basin.stages.assembly import check_scene, viewed_mesh
from basin.stages.deliver import Delivered, DeliveryFailure, deliver, delivery_states
from basin.stages.files import SceneFiles, keep_mesh
from basin.stages.imports import import_camera, stand_in
from basin.stages.pieces import element_pieces
from basin.stages.run import run
from basin.stages.stage import Job
from tests.reference.tanks import box_collider, box_fill

Usage = namedtuple("Usage", "total used free")


def document() -> dict[str, Any]:
    """A small pool with a post that moves, and a helper that stays at home."""
    post = box_collider((0.05, 0.0, 0.05), (0.07, 0.2, 0.07), "moving post")
    thick = {"colour": [0.8, 0.1, 0.1], "viscosity": 2.5}
    way = [(0.0, 0.06), (1 / 24, 0.06 + 0.1 / 24), (1.0, 0.16)]
    post["pose"]["translation"] = {"keys": [{"time": t, "value": [x, 0.1, 0.06], "segment": "linear"} for t, x in way]}
    return {
        "format": "zinc-scene/1",
        "name": "pool",
        "time": {"last": 3},
        "domain": {"low": [0, 0, 0], "size": [0.24, 0.24, 0.24]},
        "liquid": {"voxel_size": 0.02},
        "elements": [
            {**box_fill((0, 0, 0), (0.24, 0.1, 0.24), paint={"kind": "random", "seed": 2}), **thick},
            post,
            box_collider((0.1, 0, 0.1), (0.14, 0.24, 0.14), "helper", delivered=False),
        ],
    }


class Case(SimpleTestCase):
    """A scene whose frames are made once for all tests of a class."""

    home: Path
    cache: Cache

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        holding = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holding.cleanup)
        cls.home = Path(holding.name)
        cls.cache = Cache(cls.home / "cache")
        for _ in run(parse_scene(document()), cls.home, cls.cache):
            pass

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.to = Path(holding.name) / "out"

    def scene(self, **delivery: Any) -> Scene:
        return parse_scene({**document(), "deliveries": [{"name": "out", **delivery}]})

    def job(self, scene: Scene) -> Job:
        return Job(scene, SceneFiles(self.home), self.cache, "final")

    def go(self, scene: Scene, **more: Any) -> list[Delivered]:
        return list(deliver(self.job(scene), scene.deliveries[0], self.to, **more))

    def names(self) -> list[str]:
        return sorted(p.name for p in self.to.iterdir() if p.name not in (".lock", "manifest.json"))

    def held(self, stage: str, frame: int) -> Any:
        return self.cache.stage(stage).frame(frame)


class Formats(Case):
    """What leaves is what the cache holds, by readers that are not ours, in the unit and axes asked for."""

    def placed(self, stage: str, frame: int) -> np.ndarray:
        """Points of a frame in centimetres with Z up, by hand: (x, -z, y)."""
        x, y, z = self.held(stage, frame)["position"].astype(np.float64).T * 100
        return np.stack([x, -z, y], axis=1)

    def test_ply_and_obj(self) -> None:
        for kind in ("ply", "obj"):
            self.go(self.scene(format=kind, liquid=True, unit="cm", up="z", offset=1000, pattern="tank_{piece}.######"))
            path = self.to / f"tank_surface.001002.{kind}"
            found = trimesh.load(path, process=False, maintain_order=True)
            np.testing.assert_allclose(found.vertices, self.placed("surface", 2), rtol=2e-6, atol=1e-6)
            np.testing.assert_array_equal(found.faces, self.held("surface", 2)["triangle"])
            if kind == "ply":
                carried = found.metadata["_ply_raw"]["vertex"]["data"]
                np.testing.assert_array_equal(carried["viscosity"], self.held("surface", 2)["viscosity"])
                np.testing.assert_allclose(carried["viscosity"], 2.5, rtol=1e-5)  # Pa s, whatever the unit of length
            points = trimesh.load(self.to / f"tank_liquid.001002.{kind}", process=False, maintain_order=True)
            self.assertEqual(len(points.vertices), len(self.held("liquid", 2)["position"]))
        self.assertEqual(len(self.names()), 6)  # the PLY files of the earlier form have gone

    def test_text_holds_single_precision(self) -> None:
        """Nine digits give every float32 back (IEEE 754-2019, 5.12.2); seven do not."""
        self.to.mkdir()
        rng = np.random.default_rng(6)
        place = (rng.normal(size=(500, 3)) * 10.0 ** rng.integers(-3, 4, (500, 1))).astype(np.float32)
        flow = rng.normal(size=(500, 3)).astype(np.float32)
        triangle = np.arange(498).reshape(-1, 3)
        write_obj(self.to / "any.obj", place, triangle, {"velocity": flow})
        lines = (self.to / "any.obj").read_text().splitlines()
        for mark, wanted in (("v ", place), ("#v ", flow)):
            found = np.array([line.split()[1:] for line in lines if line.startswith(mark)], np.float32)
            np.testing.assert_array_equal(found, wanted)

    def test_files_are_no_larger_than_the_disk_is_asked_for(self) -> None:
        for kind in (*delivering.GROWN, "exr"):
            for what in ({}, {"surface": False, "liquid": True}):
                scene = self.scene(format=kind, **what)
                shutil.rmtree(self.to, ignore_errors=True)
                self.go(scene)
                made = sum((self.to / name).stat().st_size for name in self.names())
                shutil.rmtree(self.to)
                full = mock.patch.object(shutil, "disk_usage", return_value=Usage(1, 1, made + delivering.SPARE))
                with full, self.assertRaisesRegex(DeliveryFailure, "make room", msg=f"{kind} {what}"):
                    self.go(scene)

    def test_gltf_tells_every_id_apart_and_wrong_values_are_noticed(self) -> None:
        self.to.mkdir()
        ids = np.array([5, 2**24, 2**24 + 1, 2**31 - 1], np.uint32)  # a float32 takes the second and third for one
        place = np.arange(12.0).reshape(4, 3).astype(np.float32)
        carried = {"id": ids, "velocity": place + 1, "viscosity": place[:, 0]}
        piece = Piece("drops", place, None, carried)
        path = self.to / "drops.glb"
        write_glb(path, [piece])
        verifying.verify_glb(path, [piece])
        data = path.read_bytes()  # read by hand, as section 3.6 of the standard says
        length = int.from_bytes(data[12:16], "little")
        told, binary = json.loads(data[20 : 20 + length]), data[28 + length :]
        accessor = told["accessors"][told["meshes"][0]["primitives"][0]["attributes"]["_ID"]]
        self.assertEqual((accessor["componentType"], accessor["type"]), (5123, "VEC2"))  # unsigned short
        begin = told["bufferViews"][accessor["bufferView"]]["byteOffset"]
        halves = np.frombuffer(binary, "<u2", 8, begin).reshape(4, 2).astype(np.int64)
        np.testing.assert_array_equal(halves[:, 0] + 65536 * halves[:, 1], ids)
        for name, wrong in (("velocity", place + 1.001), ("id", ids + 1), ("viscosity", place[:, 1])):
            with self.assertRaises(verifying.Differs, msg=name):
                verifying.verify_glb(
                    path, [replace(piece, attributes={**carried, name: wrong.astype(carried[name].dtype)})]
                )

    def test_a_file_of_all_frames_is_opened_once_to_be_read_back(self) -> None:
        with mock.patch.object(verifying, "opened", side_effect=verifying.opened) as opened:
            self.go(self.scene(format="usd", one_file=True))
        self.assertEqual(opened.call_count, 1)
        with mock.patch.object(verifying.Abc, "IArchive", side_effect=verifying.Abc.IArchive) as archive:
            self.go(self.scene(format="abc", one_file=True))
        self.assertEqual(archive.call_count, 1)

    def test_glb(self) -> None:
        self.go(self.scene(format="glb", elements=True))
        found = trimesh.load(self.to / "out.0002.glb", process=False, maintain_order=True, force="scene")
        self.assertEqual(set(found.geometry), {"surface", "moving_post"})
        surface = found.geometry["surface"]
        np.testing.assert_array_equal(surface.vertices.astype(np.float32), self.held("surface", 2)["position"])
        np.testing.assert_array_equal(surface.faces, self.held("surface", 2)["triangle"])
        head = (self.to / "out.0002.glb").read_bytes()
        told = json.loads(head[20 : 20 + struct.unpack("<I", head[12:16])[0]])
        names = told["meshes"][0]["primitives"][0]["attributes"]
        self.assertLessEqual({"POSITION", "NORMAL", "COLOR_0", "_VELOCITY", "_VORTICITY", "_VISCOSITY"}, set(names))
        flow = told["accessors"][names["_VELOCITY"]]
        view = told["bufferViews"][flow["bufferView"]]
        start = 28 + struct.unpack("<I", head[12:16])[0] + view["byteOffset"]
        values = np.frombuffer(head[start : start + view["byteLength"]], "<f4").reshape(-1, 3)
        np.testing.assert_array_equal(values, self.held("surface", 2)["velocity"])

    def test_usd_is_valid_and_carries_everything(self) -> None:
        for one_file in (True, False):
            scene = self.scene(format="usd", liquid=True, elements=True, unit="cm", up="z", one_file=one_file)
            self.go(scene)
            path = self.to / ("out.usd" if one_file else "out.0002.usd")
            stage = Usd.Stage.Open(str(path))
            self.assertEqual(UsdGeom.GetStageUpAxis(stage), "Z")
            self.assertAlmostEqual(UsdGeom.GetStageMetersPerUnit(stage), 0.01)
            self.assertEqual(stage.GetTimeCodesPerSecond(), 24.0)
            self.assertEqual((stage.GetStartTimeCode(), stage.GetEndTimeCode()), (1.0, 3.0) if one_file else (2.0, 2.0))
            errors = UsdValidation.ValidationContext(
                UsdValidation.ValidationRegistry().GetOrLoadAllValidators()
            ).Validate(stage)
            self.assertEqual([e.GetMessage() for e in errors], [])
            mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/delivery/surface"))
            np.testing.assert_allclose(mesh.GetPointsAttr().Get(2), self.placed("surface", 2), rtol=2e-6, atol=1e-5)
            corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(2)).reshape(-1, 3)
            np.testing.assert_array_equal(corners, self.held("surface", 2)["triangle"])
            x, y, z = self.held("surface", 2)["velocity"].T * 100
            np.testing.assert_allclose(mesh.GetVelocitiesAttr().Get(2), np.stack([x, -z, y], 1), rtol=1e-5, atol=1e-4)
            vars = UsdGeom.PrimvarsAPI(mesh)
            self.assertEqual(vars.GetPrimvar("vorticity").GetInterpolation(), "vertex")
            np.testing.assert_array_equal(vars.GetPrimvar("displayColor").Get(2), self.held("surface", 2)["colour"])
            np.testing.assert_array_equal(vars.GetPrimvar("viscosity").Get(2), self.held("surface", 2)["viscosity"])
            speed = np.linalg.norm(self.held("surface", 2)["velocity"], axis=1)
            np.testing.assert_allclose(vars.GetPrimvar("speed").Get(2), speed, rtol=1e-5, atol=1e-7)
            age = np.array(vars.GetPrimvar("age").Get(2))
            np.testing.assert_allclose(age, 1 / 24, atol=1e-6)  # all was there at the start
            points = UsdGeom.Points(stage.GetPrimAtPath("/delivery/liquid"))
            np.testing.assert_array_equal(points.GetIdsAttr().Get(2), self.held("liquid", 2)["id"])
            self.assertAlmostEqual(points.GetWidthsAttr().Get(2)[0], 1.0, places=5)  # cm
            self.assertFalse(stage.GetPrimAtPath("/delivery/helper"))

    def test_alembic(self) -> None:
        self.go(self.scene(format="abc", liquid=True, one_file=True, offset=10))
        top = Abc.IArchive(str(self.to / "out.abc")).getTop()
        schema = AbcGeom.IPolyMesh(top, "surface").getSchema()
        self.assertEqual(schema.getNumSamples(), 3)
        self.assertAlmostEqual(schema.getTimeSampling().getSampleTime(1), 12 / 24)
        value = schema.getValue(Abc.ISampleSelector(12 / 24))
        np.testing.assert_array_equal(np.array(value.getPositions(), np.float32), self.held("surface", 2)["position"])
        corners = np.array(value.getFaceIndices()).reshape(-1, 3)[:, ::-1]  # clockwise there
        np.testing.assert_array_equal(corners, self.held("surface", 2)["triangle"])
        np.testing.assert_array_equal(np.array(value.getVelocities(), np.float32), self.held("surface", 2)["velocity"])
        points = AbcGeom.IPoints(top, "liquid").getSchema().getValue(Abc.ISampleSelector(12 / 24))
        np.testing.assert_array_equal(np.array(points.getIds()), self.held("liquid", 2)["id"])

    def test_vdb(self) -> None:
        self.go(self.scene(format="vdb", unit="cm", up="z"))
        found = read_vdb(self.to / "out.0002.vdb")
        names = found["names"].tolist()
        self.assertEqual(set(names), {"surface", "density", "velocity"})
        n = names.index("surface")
        data = self.held("liquid", 2)
        level, low, matrix = found[f"values{n}"], found[f"low{n}"], found[f"matrix{n}"]
        tile = int(np.flatnonzero((data["tile"] == 1).all(axis=1))[0])
        start = 8 - low
        block = tuple(slice(s, s + 8) for s in start)
        wanted = data["tile_phi"][tile] * 100
        stored = wanted < 5.9  # what is as the background, three voxels, need not be
        np.testing.assert_allclose(level[block][stored], wanted[stored], atol=1e-4)
        # the middle of voxel (8, 8, 8), in centimetres with Z up
        x, y, z = 100 * (data["grid_low"] + 8.5 * 0.02)
        np.testing.assert_allclose(matrix @ [8, 8, 8, 1], [x, -z, y, 1], atol=1e-9)
        # the level set's volume is the liquid's, but for what goes on into the domain's walls
        cells = np.round(np.array(self.scene().domain.size) / 0.02).astype(int)
        room = tuple(slice(max(PAD - at, 0), PAD + n - at) for at, n in zip(low, cells, strict=True))
        filled = np.clip(0.5 - level[room] / 2.0, 0, 1).sum() * 2.0**3 * 1e-6
        self.assertAlmostEqual(filled / self.cache.stage("liquid").records()[2].readings["volume_seen"], 1.0, delta=0.1)

    def test_heights(self) -> None:
        self.go(self.scene(format="exr", resolution=48))
        image = read_exr(self.to / "out.0001.exr")
        self.assertEqual(image["height"].shape, (48, 48))
        away = np.s_[4:8, 30:44]  # pixels well off both posts
        np.testing.assert_allclose(image["height"][away], 0.1, atol=0.003)
        np.testing.assert_allclose(image["depth"][away], 0.1, atol=0.006)
        self.assertEqual(float(image["A"][away].min()), 1.0)

    def test_elements_move_with_velocity(self) -> None:
        self.go(self.scene(format="usd", surface=False, elements=True, one_file=True))
        stage = Usd.Stage.Open(str(self.to / "out.usd"))
        post = UsdGeom.Mesh(stage.GetPrimAtPath("/delivery/moving_post"))
        moved = np.array(post.GetPointsAttr().Get(3)) - np.array(post.GetPointsAttr().Get(2))
        np.testing.assert_allclose(moved, np.tile([[0.1 / 24, 0, 0]], (len(moved), 1)), atol=1e-6)
        np.testing.assert_allclose(post.GetVelocitiesAttr().Get(2), np.tile([[0.1, 0, 0]], (len(moved), 1)), atol=1e-5)


class Renewal(Case):
    """Files are renewed when they have to be, and only then."""

    def states(self, scene: Scene) -> list[str]:
        found = delivery_states(self.job(scene), scene.deliveries[0], self.to)
        return [found[name] for name in sorted(found)]

    def test_second_delivery_writes_nothing(self) -> None:
        scene = self.scene(format="ply")
        self.assertEqual(self.states(scene), ["missing"] * 3)
        self.assertFalse(any(d.reused for d in self.go(scene)))
        self.assertEqual(self.states(scene), ["current"] * 3)
        self.assertTrue(all(d.reused for d in self.go(scene)))

    def test_only_what_changed_is_renewed(self) -> None:
        scene = self.scene(format="glb", elements=True)
        self.go(scene)
        changed = document()
        changed["elements"][1]["pose"]["translation"]["keys"][2]["value"][0] = 0.2
        # keys of the liquid change with the post: hold them, to see what follows from the elements alone
        later = parse_scene(
            {**changed, "deliveries": [{"name": "out", "format": "glb", "elements": True, "surface": False}]}
        )
        before = parse_scene({**document(), "deliveries": later.model_dump(mode="json")["deliveries"]})
        self.go(before)
        self.assertEqual(self.states(later), ["current", "stale", "stale"])
        self.assertEqual([d.reused for d in self.go(later)], [True, False, False])

    def test_damaged_and_missing_files_are_written_again(self) -> None:
        scene = self.scene(format="ply")
        self.go(scene)
        first, second, _ = (self.to / name for name in self.names())
        data = bytearray(first.read_bytes())
        data[-1] ^= 1
        first.write_bytes(data)
        second.unlink()
        self.assertEqual([d.reused for d in self.go(scene)], [False, False, True])

    def test_goes_on_after_a_stop_and_leaves_no_half_files(self) -> None:
        scene = self.scene(format="ply")
        asked = iter([False, True])
        made = self.go(scene, stop=lambda: next(asked))
        self.assertEqual([d.frame for d in made], [1])
        (self.to / "surface.0002.ply.part").write_bytes(b"half")
        self.assertEqual([d.reused for d in self.go(scene)], [True, False, False])
        self.assertEqual(self.names(), [f"surface.000{n}.ply" for n in (1, 2, 3)])

    def test_manifest_names_files_with_their_checksums(self) -> None:
        self.go(self.scene(format="ply", first=2, step=1, offset=4))
        book = json.loads((self.to / "manifest.json").read_text())
        self.assertEqual(list(book["files"]), ["surface.0006.ply", "surface.0007.ply"])
        entry = book["files"]["surface.0006.ply"]
        import hashlib

        data = (self.to / "surface.0006.ply").read_bytes()
        self.assertEqual((entry["bytes"], entry["sha256"]), (len(data), hashlib.sha256(data).hexdigest()))


class Refusals(Case):
    """A clear sentence, and nothing half-written under a final name."""

    def told(self, scene: Scene, words: str) -> None:
        with self.assertRaisesRegex(DeliveryFailure, words):
            self.go(scene)
        left = [p.name for p in self.to.glob("*")] if self.to.exists() else []
        self.assertFalse([n for n in left if ".part" in n])

    def test_frames_must_be_there_and_current(self) -> None:
        scene = parse_scene(
            {**document(), "surface": {"voxel_share": 0.4}, "deliveries": [{"name": "out", "format": "ply"}]}
        )
        self.told(scene, "3 surface frames are missing or out of date at final .1, 2, 3.; run the surface first")

    def test_a_disk_too_small_is_told_before(self) -> None:
        with mock.patch.object(shutil, "disk_usage", return_value=Usage(1, 1, 1000)):
            self.told(self.scene(format="ply"), "needs about .* GB free; make room")
        self.assertEqual(self.names(), [])

    def test_a_disk_that_fills_up(self) -> None:
        def full(*_args: Any) -> None:
            raise OSError(28, os.strerror(28))

        with mock.patch.object(delivering, "write_ply", side_effect=full):
            self.told(self.scene(format="ply"), "the disk is full; whole files are kept")
        self.assertEqual(self.names(), [])

    def test_a_folder_that_goes_away(self) -> None:
        for kind in ("ply", "usd", "abc"):
            scene = self.scene(format=kind)
            made = deliver(self.job(scene), scene.deliveries[0], self.to)
            next(made)
            shutil.rmtree(self.to)
            with self.assertRaisesRegex(DeliveryFailure, "the folder out has gone away"):
                next(made)
            self.assertFalse(self.to.exists())

    def test_a_file_that_reads_back_otherwise(self) -> None:
        def spoilt(path: Path, position: np.ndarray, *rest: Any) -> None:
            verifying.Path(path).write_bytes(b"")
            from basin.exchange import write_ply

            write_ply(path, position + np.float32(1e-3), *rest)

        with mock.patch.object(delivering, "write_ply", side_effect=spoilt):
            self.told(self.scene(format="ply"), "points: read back with other values")
        self.assertEqual(self.names(), [])

    def test_two_at_once(self) -> None:
        self.to.mkdir(parents=True)
        with delivering._alone(self.to):
            self.told(self.scene(format="ply"), "is being written already")

    def test_settings_that_cannot_be(self) -> None:
        for given, words in (
            ({"pattern": "../{piece}.####"}, "no folders"),
            ({"pattern": "a/b.####"}, "no folders"),
            ({"pattern": "{piece}"}, "one run of #"),
            ({"pattern": "{shot}.####"}, "know {piece} alone"),
            ({"pattern": "all.####", "format": "ply"}, "each piece is a file of its own"),
            ({"name": "../up"}, "name is made of letters"),
            ({"name": "a/b"}, "name is made of letters"),
            ({"surface": False}, "nothing leaves"),
            ({"format": "glb", "unit": "cm"}, "glTF is in metres"),
            ({"format": "usd", "up": "x"}, "USD knows Y and Z"),
            ({"first": 9, "last": 2}, "run backwards"),
        ):
            with self.assertRaises(SceneError) as told:
                self.scene(**given)
            self.assertIn(words, str(told.exception))


class InPlace(SimpleTestCase):
    """A shape imported, filled, meshed and delivered lies exactly where it lay, for every unit and axis."""

    def test_there_and_back(self) -> None:
        with tempfile.TemporaryDirectory() as holding:
            home = Path(holding)
            for unit in METRES:
                for up in ("x", "y", "z"):
                    self.one(home, unit, up)

    def one(self, home: Path, unit: str, up: str) -> None:
        block = trimesh.creation.box((0.10, 0.06, 0.08))
        block.apply_translation((0.12, 0.07, 0.11))
        # as a program with that unit and axis would write it
        own = np.asarray(block.vertices) @ axes(up).T / METRES[unit]
        (home / "block.obj").write_text(
            "".join(f"v {x!r} {y!r} {z!r}\n" for x, y, z in own.tolist())
            + "".join(f"f {a + 1} {b + 1} {c + 1}\n" for a, b, c in block.faces.tolist())
        )
        shape = {"kind": "mesh", "file": "block.obj", "unit": unit, "up": up}
        scene = parse_scene(
            {
                "format": "zinc-scene/1",
                "time": {"first": 1, "last": 1},
                "domain": {"low": [0, 0, 0], "size": [0.24, 0.24, 0.24]},
                "liquid": {"voxel_size": 0.01},
                "surface": {"hold_volume": False},  # what its rounded edges lack would lie on its sides
                "elements": [
                    {"kind": "fill", "name": "block", "shape": shape, "delivered": True},
                ],
                "deliveries": [
                    {"name": "out", "format": "ply", "elements": True, "unit": unit, "up": up},
                ],
            }
        )
        cache = Cache(home / f"{unit}{up}")
        for _ in run(scene, home, cache):
            pass
        to = home / f"out {unit} {up}"
        list(deliver(Job(scene, SceneFiles(home), cache, "final"), scene.deliveries[0], to))
        element = trimesh.load(to / "block.0001.ply", process=False)
        np.testing.assert_allclose(np.sort(element.vertices, axis=0), np.sort(own, axis=0), rtol=1e-5, atol=1e-5)
        surface = trimesh.load(to / "surface.0001.ply", process=False)
        np.testing.assert_allclose(
            surface.bounds * METRES[unit], np.stack([own.min(0), own.max(0)]) * METRES[unit], atol=0.002
        )
        self.assertGreater(surface.volume, 0)


class ComingIn(SimpleTestCase):
    """glTF, USD and Alembic as meshes, animation and cameras, and files that lie."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)
        self.ball = trimesh.creation.icosphere(2, 0.3)

    def piece(self, shift: float = 0.0) -> Piece:
        return Piece("ball", np.asarray(self.ball.vertices) + np.array([shift, 0, 0]), np.asarray(self.ball.faces))

    def two(self, kind: str) -> Path:
        """A file with a ball and, beside it, a smaller one, each a mesh of its own."""
        path = self.home / f"two.{kind}"
        small = Piece("small", np.asarray(self.ball.vertices) * 0.5 + [1, 0, 0], np.asarray(self.ball.faces))
        if kind == "usd":
            with UsdFile(path, 24, "m", "y", (1, 1)) as stage:
                stage.add(1, [self.piece(), small])
                stage.finish()
        elif kind == "abc":
            archive = AlembicFile(path, 24, 1)
            archive.add([self.piece(), small])
            archive.finish()
        else:
            whole = trimesh.Scene()
            for one in (self.piece(), small):
                mesh = trimesh.Trimesh(one.position, one.triangle, process=False)
                whole.add_geometry(mesh, node_name=one.name, geom_name=one.name)
            whole.export(path)
        return path

    def test_parts_of_a_file(self) -> None:
        volume = float(self.ball.volume)
        for kind in ("usd", "abc", "glb", "obj"):
            with self.subTest(kind):
                path = self.two(kind)
                found = parts(path)
                self.assertEqual([name.split("/")[-1] for name, _ in found], ["ball", "small"])
                self.assertEqual({count for _, count in found}, {len(self.ball.faces)})
                small = read_mesh(path, part=found[1][0])
                self.assertAlmostEqual(small.volume() / (volume / 8), 1.0, places=4)
                self.assertAlmostEqual(float(small.position[:, 0].min()), 0.85, delta=0.01)
                self.assertAlmostEqual(read_mesh(path).volume() / (volume * 9 / 8), 1.0, places=4)
                with self.assertRaisesRegex(UnusableFile, "has no mesh named nothing"):
                    read_mesh(path, part="nothing")
        self.ball.export(self.home / "one.stl")
        self.assertEqual(parts(self.home / "one.stl"), [])

    def test_a_stand_in_acts_and_the_fine_mesh_is_shown_and_leaves(self) -> None:
        fine = trimesh.creation.icosphere(5, 30)
        fine.export(self.home / "fine.ply")
        shape = MeshShape(file="fine.ply", unit="cm", up="z")
        files = SceneFiles(self.home)
        made = stand_in(shape, files, 500)
        self.assertLessEqual(len(made.triangle), 500)
        keep_mesh(self.home / "less.ply", made.position, made.triangle)
        standing = shape.model_copy(update={"file": "less.ply", "fine": "fine.ply"})
        # the same volume, within the rounding of a file; and where it was
        self.assertAlmostEqual(files.mesh(standing).volume() / files.mesh(shape).volume(), 1.0, places=5)
        self.assertAlmostEqual(files.mesh(standing).volume() / (4 / 3 * np.pi * 0.3**3), 1.0, delta=0.005)
        self.assertEqual(len(files.mesh(standing.shown()).triangle), len(fine.faces))
        scene = Scene.model_validate(
            {"elements": [{"kind": "collider", "name": "Stone", "shape": standing.model_dump(mode="json")}]}
        )
        self.assertEqual(len(viewed_mesh(scene.elements[0], scene, files).triangle), len(fine.faces))
        (piece,) = element_pieces(scene, files, 0.0)
        assert piece.triangle is not None
        self.assertEqual(len(piece.triangle), len(fine.faces))
        with self.assertRaisesRegex(UnusableFile, "ask for"):
            stand_in(shape, files, 10**6)

    def usd(self, name: str, frames: int = 3, up: str = "y") -> Path:
        path = self.home / name
        with UsdFile(path, 24, "cm", up, (1, frames)) as stage:
            for n in range(frames):
                stage.add(n + 1, [turned(self.piece(0.1 * n), "cm", up)])
            stage.finish()
        return path

    def alembic(self, name: str, frames: int = 3) -> Path:
        path = self.home / name
        archive = AlembicFile(path, 24, 1)
        for n in range(frames):
            archive.add([self.piece(0.1 * n)])
        archive.finish()
        return path

    def axes(self, path: Path) -> tuple[str | None, str | None]:
        said = told(path)
        return said.unit, said.up

    def test_meshes(self) -> None:
        glb = self.home / "ball.glb"
        write_glb(glb, [self.piece()])
        for path, unit in ((glb, "m"), (self.usd("ball.usda"), "cm"), (self.alembic("ball.abc"), "m")):
            mesh = read_mesh(path, unit)
            self.assertEqual(mesh.open_edges(), 0)
            self.assertAlmostEqual(mesh.volume() / self.ball.volume, 1.0, places=5)
        self.assertEqual(self.axes(self.usd("z.usd", up="z")), ("cm", "z"))
        self.assertEqual(self.axes(glb), ("m", "y"))

    def test_wrong_extensions_are_told(self) -> None:
        """A whole file of each format under the name of each other one: a sentence, and never a wrong mesh."""
        held = {"usda": self.usd("own.usda"), "usdc": self.usd("own.usdc"), "abc": self.alembic("own.abc")}
        held["glb"] = self.home / "own.glb"
        write_glb(held["glb"], [self.piece()])
        for kind in ("stl", "obj", "ply"):
            held[kind] = self.home / f"own.{kind}"
            self.ball.export(held[kind])
        tried = 0
        for kind, path in held.items():
            self.assertEqual(len(read_mesh(path).triangle), len(self.ball.faces), kind)
            for other in (*held, "gltf", "usdz", "usd"):
                if other == kind or (other == "usd" and kind in ("usda", "usdc")):  # which may be either
                    continue
                named = self.home / f"{kind} as.{other}"
                named.write_bytes(path.read_bytes())
                with self.subTest(kind=kind, named=other), self.assertRaises(UnusableFile) as told:
                    read_mesh(named)
                self.assertRegex(str(told.exception), rf"^{kind} as\.{other}: ")
                tried += 1
        self.assertEqual(tried, 61)

    def test_animation(self) -> None:
        for path, unit in ((self.usd("a.usdc"), "cm"), (self.alembic("a.abc"), "m")):
            sequence = read_sequence(self.home, path.name, unit, "y", 24.0)
            self.assertEqual((sequence.start, sequence.step), (1.0, 1.0))
            middle = sequence.position.mean(axis=1)
            np.testing.assert_allclose(middle[:, 0], [0.0, 0.1, 0.2], atol=1e-6)
        with self.assertRaisesRegex(UnusableFile, "has no animation"):
            read_sequence(self.home, self.usd("still.usd", 1).name)

    def test_animated_collider_moves_with_its_velocity(self) -> None:
        self.alembic("ball.abc", 5)
        shape = {"kind": "mesh", "file": "ball.abc", "animated": True}
        scene = parse_scene(
            {
                "format": "zinc-scene/1",
                "time": {"last": 5},
                "domain": {"low": [-1, -1, -1], "size": [3, 2, 2]},
                "liquid": {"voxel_size": 0.05},
                "elements": [
                    box_fill((-1, -1, -1), (2, 0, 1)),
                    {"kind": "collider", "name": "ball", "shape": shape},
                ],
            }
        )
        found = check_scene(scene, SceneFiles(self.home))
        self.assertEqual(found.problems, [])
        mesh = SceneFiles(self.home).sequence(scene.elements[1].shape, scene.time)  # type: ignore[union-attr,arg-type]
        np.testing.assert_allclose(mesh.positions(2 / 24).mean(axis=0), [0.2, 0, 0], atol=1e-6)

    def test_transforms_and_mirrors_are_followed(self) -> None:
        stage = Usd.Stage.CreateNew(str(self.home / "nested.usda"))
        top = UsdGeom.Xform.Define(stage, "/top")
        UsdGeom.Xformable(top).AddTranslateOp().Set(Gf.Vec3d(1, 2, 3))
        mirrored = UsdGeom.Xform.Define(stage, "/top/mirrored")
        UsdGeom.Xformable(mirrored).AddScaleOp().Set(Gf.Vec3f(-2, 1, 1))
        mesh = UsdGeom.Mesh.Define(stage, "/top/mirrored/box")
        mesh.GetPointsAttr().Set([(x, y, z) for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        mesh.GetFaceVertexCountsAttr().Set([4] * 6)
        mesh.GetFaceVertexIndicesAttr().Set([0, 1, 3, 2, 4, 6, 7, 5, 0, 4, 5, 1, 2, 3, 7, 6, 0, 2, 6, 4, 1, 5, 7, 3])
        stage.Save()
        found = read_mesh(self.home / "nested.usda")
        self.assertAlmostEqual(found.volume(), 2.0)
        np.testing.assert_allclose(found.bounds(), [[-1, 2, 3], [1, 3, 4]])

    def test_camera(self) -> None:
        path = self.home / "shot.usda"
        stage = Usd.Stage.CreateNew(str(path))
        camera = UsdGeom.Camera.Define(stage, "/cam")
        move = UsdGeom.Xformable(camera).AddTranslateOp()
        move.Set(Gf.Vec3d(0, 150, 300), 1)
        move.Set(Gf.Vec3d(50, 150, 300), 5)
        camera.GetFocalLengthAttr().Set(35.0)
        camera.GetVerticalApertureAttr().Set(24.0)
        stage.Save()
        samples = read_camera(path, 24.0, "cm", "y")
        self.assertEqual([s[0] for s in samples], [1.0, 5.0])
        np.testing.assert_allclose(samples[1][1][:3, 3], [0.5, 1.5, 3.0])
        self.assertAlmostEqual(samples[0][2], 2 * np.degrees(np.arctan(12 / 35)), places=4)  # handbook: 2 atan(h / 2f)
        # a roll of 20 degrees: the camera's own up, by hand, leans towards its right; on through a whole turn
        up = Gf.Matrix4d().SetLookAt(Gf.Vec3d(0, 1, 3), Gf.Vec3d(0, 1, 0), Gf.Vec3d(0, 1, 0)).GetInverse()
        rolled = Usd.Stage.CreateNew(str(self.home / "rolled.usda"))
        turning = UsdGeom.Xformable(UsdGeom.Camera.Define(rolled, "/cam")).AddTransformOp()
        for frame, degrees in ((1, 20), (2, 170), (3, 200)):
            # about its own Z, which points back: the right hand's turn leans it to its left
            turning.Set(Gf.Matrix4d().SetRotate(Gf.Rotation(Gf.Vec3d(0, 0, 1), -degrees)) * up, frame)
        rolled.Save()
        facts = import_camera(self.home / "rolled.usda", "m", "y", parse_scene(document()))
        np.testing.assert_allclose([k.value for k in facts.camera.roll.keys], [20, 170, 200], atol=1e-4)
        self.assertEqual((facts.unit, facts.told), ("m", True))
        with self.assertRaisesRegex(UnusableFile, "has no camera"):
            read_camera(self.usd("ball.usd"), 24.0, "m", "y")
        for name, words in (("torn.usda", "not a readable USDA file"), ("empty.usdc", ""), ("gone.abc", "")):
            if name != "gone.abc":
                (self.home / name).write_bytes(b"#usda 1.0\ndef {{{" if name == "torn.usda" else b"")
            with self.subTest(name), self.assertRaisesRegex(UnusableFile, f"^{name}: .*{words}"):
                import_camera(self.home / name, None, None, parse_scene(document()))
        with self.assertRaisesRegex(UnusableFile, "cameras are read from"):
            glb = self.home / "ball.glb"
            write_glb(glb, [self.piece()])
            read_camera(glb, 24.0, "m", "y")

    def test_files_that_lie(self) -> None:
        glb = self.home / "ball.glb"
        write_glb(glb, [self.piece()])
        data = glb.read_bytes()
        length = struct.unpack("<I", data[12:16])[0]
        told = json.loads(data[20 : 20 + length])
        told["accessors"][0]["count"] = 10**9
        text = json.dumps(told).encode()
        text += b" " * (-len(text) % 4)
        body = struct.pack("<II", len(text), 0x4E4F534A) + text + data[20 + length :]
        many = struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body
        stl = bytes(80) + struct.pack("<I", 10**8) + bytes(50)
        short = self.usd("whole.usdc").read_bytes()
        archive = self.alembic("whole.abc").read_bytes()
        nan = b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"
        for name, content, words in (
            ("cut.glb", data[:-40], "shorter than its header says"),
            ("many.glb", many, "counts more values than it holds"),
            ("text.glb", b"glTF but not really a file", "not a glTF file"),
            ("count.stl", stl, "its header counts 100,000,000 triangles"),
            ("cut.usdc", short[: len(short) // 2], "not a readable USDC file"),
            ("cut.abc", archive[: len(archive) // 3], "not a readable ABC file"),
            ("ply.usd", b"ply\nformat ascii 1.0\n", "not a readable USD file"),
            ("nan.obj", nan, "not finite"),
            ("none.obj", b"v 0 0 0\n", "holds no triangles"),
        ):
            (self.home / name).write_bytes(content)
            with self.assertRaisesRegex(UnusableFile, words):
                read_mesh(self.home / name)

    def test_ten_million_triangles(self) -> None:
        """A mesh of ten million triangles is read; one that says it has more than its bytes is not."""
        path = self.home / "big.stl"
        count = 10_000_000
        record = np.zeros(count, np.dtype([("n", "<f4", 3), ("v", "<f4", 9), ("a", "<u2")]))
        at = np.arange(count, dtype=np.float32)
        record["v"] = np.stack([at, at * 0, at * 0, at + 1, at * 0, at * 0, at, at * 0 + 1, at * 0], axis=1)
        with path.open("wb") as file:
            file.write(bytes(80) + struct.pack("<I", count))
            record.tofile(file)
        del record
        from basin.exchange.formats import read_points

        self.assertEqual(len(read_points(path).triangle), count)
