"""Scenes, caches and disks that are not as they should be: a sentence, or the same frames, never a crash."""

from __future__ import annotations

import errno
import json
import shutil
import tempfile
import time
import warnings
from contextlib import redirect_stderr, redirect_stdout
from io import StringIO
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from basin.__main__ import main
from basin.cache import Cache
from basin.cache.store import FrameRecord
from basin.exchange import write_obj
from basin.geometry.primitives import sphere_mesh
from basin.scene import SceneError, parse_scene
from basin.stages import run as running
from basin.stages.assembly import check_scene
from basin.stages.files import SceneFiles
from basin.stages.run import RunFailure, run
from basin.stages.samples import tiny_scene
from tests.spoilt import spoilt_scene, used_scene

MANY = 120  # spoilt documents; `./zinc bench --attack` takes 6 000
DEMO = Path(__file__).resolve().parents[2] / "demo" / "scenes"


def short(last: int = 3, **more: Any) -> dict[str, Any]:
    return {**tiny_scene(), "time": {"last": last}, **more}


class Documents(SimpleTestCase):
    """Numbers and words beyond what can be."""

    def test_spoilt_documents_get_sentences_within_a_second(self) -> None:
        """After Miller, Fredriksen & So 1990: values at random; nothing but sentences may come of them."""
        documents = [json.loads(path.read_text()) for path in sorted(DEMO.glob("*.json"))]
        files = SceneFiles(DEMO)
        for document in documents:
            check_scene(parse_scene(document), files)  # reads the meshes
        sound = 0
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            for seed in range(MANY):
                begin = time.process_time()
                try:
                    used_scene(spoilt_scene(documents[seed % len(documents)], seed), SceneFiles(DEMO))
                    sound += 1
                except (SceneError, ValueError) as error:
                    self.assertTrue(str(error))
                self.assertLess(time.process_time() - begin, 1.5, seed)
        self.assertTrue(0.2 * MANY < sound < 0.8 * MANY, sound)

    def test_limits_are_named(self) -> None:
        chain = [{"kind": "collider", "name": f"c{n}", **({"attached": f"c{n - 1}"} if n else {})} for n in range(40)]
        many = [{"kind": "collider", "name": f"c{n}"} for n in range(300)]
        disc = {"kind": "inflow", "name": "a", "velocity": [0, -1e300, 0]}
        key = {"keys": [{"time": 0, "value": 1.0}, {"time": 1e-300, "value": 2.0}]}
        for change, says in (
            ({"liquid": {"voxel_size": 1e-300}}, "too little; at least 1e-06"),
            ({"liquid": {"voxel_size": 2e-6}}, "voxels long; at most 100,000"),
            ({"domain": {"size": [1e308, 1, 1]}}, "beyond what is possible; at most 100000"),
            ({"domain": {"size": [1e-30, 1, 1]}}, "1e-06 m at least"),
            ({"time": {"last": 50_000}}, "50,000 frames; at most 10,000"),
            ({"name": "a\0b"}, "at most 1000 characters"),
            ({"name": "\ud800"}, "string|characters"),
            ({"elements": [disc]}, "beyond what is possible; at most 10000"),
            ({"elements": chain}, "attached over more than 16 others"),
            ({"elements": many}, "at most 200"),
            ({"elements": [{"kind": "collider", "name": "a", "pose": {"scale": 0}}]}, "scale lies between"),
            ({"elements": [{"kind": "collider", "name": "a", "pose": {"scale": key}}]}, "1e-06 s apart"),
            ({"deliveries": [{"name": f"d{n}"} for n in range(21)]}, "21 deliveries; at most 20"),
        ):
            with self.assertRaisesRegex(SceneError, says):
                parse_scene({**tiny_scene(), **change})


class Extremes(SimpleTestCase):
    """Scenes that are valid."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)

    def made(self, document: dict[str, Any]) -> list[dict[str, float]]:
        scene = parse_scene(document)
        return [d.readings for d in run(scene, self.home, Cache(self.home / "cache"), stages=("liquid",))]

    def test_a_solid_that_swallows_all_liquid_at_once(self) -> None:
        ball = {"kind": "collider", "name": "ball", "shape": {"kind": "sphere", "radius": 5.0}, "start": 0.05}
        grown = {"keys": [{"time": 0, "value": 0.1}, {"time": 0.08, "value": 50.0}]}
        growing = {"kind": "collider", "name": "ball", "pose": {"scale": grown}, "shape": {"kind": "sphere"}}
        for one in (ball, growing):
            found = self.made(short(elements=[*tiny_scene()["elements"], one]))
            self.assertEqual(len(found), 3)
            self.assertTrue(all(np.isfinite(r["volume"]) for r in found))
            self.assertLessEqual(found[-1]["volume"], 1.05 * found[0]["volume"] + 0.01)
            shutil.rmtree(self.home / "cache")

    def test_sources_larger_than_the_domain_cost_what_is_in_it(self) -> None:
        """Half a pool 0.4 m wide, whatever the size of what it is cut from (tolerance: a layer of particles, 7 %)."""
        ball = sphere_mesh(8.0, 16)
        write_obj(self.home / "ball.obj", ball.position, ball.triangle)
        box = {"kind": "fill", "name": "a", "shape": {"kind": "box", "size": [90, 0.4, 90]}}
        sphere = {"kind": "fill", "name": "a", "shape": {"kind": "sphere", "radius": 500}}

        def disc(radius: float) -> dict[str, Any]:
            shape = {"shape": {"kind": "disc", "radius": radius}, "pose": {"translation": [0.2, 0.35, 0.2]}}
            return {"kind": "inflow", "name": "a", "velocity": [0, -1, 0], **shape}

        mesh = {"kind": "inflow", "name": "a", "shape": {"kind": "mesh", "file": "ball.obj"}, "velocity": [0, -1, 0]}
        poured = self.made(short(elements=[disc(0.6)]))[-1]["volume"]  # all of the domain's width already
        shutil.rmtree(self.home / "cache")
        for element, least, most in (
            (box, 0.93 * 0.032, 1.07 * 0.032),
            ({**sphere, "pose": {"translation": [0.2, -499.8, 0.2]}}, 0.93 * 0.032, 1.07 * 0.032),
            (disc(500), 0.99 * poured, 1.01 * poured),
            (mesh, 0.9 * 0.064, 1.07 * 0.064),
        ):
            begin = time.process_time()
            found = self.made(short(elements=[element]))
            self.assertLess(time.process_time() - begin, 20)
            self.assertTrue(least < found[-1]["volume"] < most, (element, found[-1]["volume"]))
            shutil.rmtree(self.home / "cache")


class Caches(SimpleTestCase):
    """Frames and manifests that somebody else changed."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)
        self.scene = parse_scene(short())

    def make(self, to: str) -> dict[str, Any]:
        cache = Cache(self.home / to)
        list(run(self.scene, self.home, cache, stages=("liquid",)))
        frames = [cache.stage("liquid").frame(n) for n in (1, 2, 3)]
        return {f"{n} {name}": frame[name].tobytes() for n, frame in enumerate(frames) for name in frame}

    def test_any_flipped_bit_is_mended_to_the_same_bits(self) -> None:
        sound = self.make("sound")
        files = sorted(p for p in (self.home / "sound" / "liquid").iterdir() if p.stat().st_size)
        rng = np.random.default_rng(7)
        for n in range(6):
            shutil.copytree(self.home / "sound", self.home / "spoilt")
            for path in (files[n % len(files)], self.home / "sound" / "liquid" / "manifest.jsonl"):
                held = bytearray(path.read_bytes())
                held[int(rng.integers(len(held)))] ^= 1 << int(rng.integers(8))
                (self.home / "spoilt" / "liquid" / path.name).write_bytes(held)
            self.assertEqual(self.make("spoilt"), sound, n)
            shutil.rmtree(self.home / "spoilt")

    def test_lines_of_a_manifest_that_are_not_whole_are_left_out(self) -> None:
        store = Cache(self.home).stage("liquid")
        store.folder.mkdir()
        for frame in (1, 2):
            store.write(frame, f"key {frame}", {"a": np.zeros(3)}, {"volume": 1.0})
        journal = store.folder / "manifest.jsonl"
        whole = journal.read_text()
        self.assertEqual(sorted(store.records()), [1, 2])
        for spoilt, left in (
            (whole.replace('"volume": 1.0', '"volume": 7.0', 1), [2]),
            (whole.replace("key 1", "key 2"), [2]),
            (whole.replace('"frame": 2', '"frame": 3'), [1]),
            (whole + '{"frame": "x"}\n[]\n{"frame": 9, "key": 3}\n"frame"\n' + "[" * 100_000 + "\n", [1, 2]),
        ):
            journal.write_text(spoilt)
            self.assertEqual(sorted(store.records()), left)
        journal.write_bytes(whole.encode() + b"\xff\xfe\n")
        self.assertEqual(sorted(store.records()), [1, 2])
        without = json.dumps({"frame": 4, "key": "k", "size": 1, "crc": 2, "readings": {}, "error": ""})
        journal.write_text(whole + without + "\n")  # as they were written before lines had sums
        self.assertEqual(store.records()[4], FrameRecord(4, "k", 1, 2))

    def test_a_disk_that_fills_up_on_the_way(self) -> None:
        cache = Cache(self.home / "cache")
        with mock.patch.object(running.shutil, "disk_usage", return_value=mock.Mock(free=1000)):
            with self.assertRaisesRegex(RunFailure, "free. Make room"):
                list(run(self.scene, self.home, cache, stages=("liquid",)))
            with (
                mock.patch("basin.stages.forecast.Forecast.lacking", return_value=None),
                self.assertRaisesRegex(RunFailure, "the disk is full; whole frames are kept"),
            ):
                list(run(self.scene, self.home, cache, stages=("liquid",)))
        whole, written = np.savez, []

        def full(*arguments: Any, **arrays: Any) -> None:
            written.append(1)
            if len(written) > 3:
                raise OSError(errno.ENOSPC, "No space left on device")
            whole(*arguments, **arrays)

        with mock.patch("numpy.savez", full), self.assertRaisesRegex(RunFailure, "the disk is full"):
            list(run(self.scene, self.home, cache, stages=("liquid",)))
        left = [p.name for p in (self.home / "cache" / "liquid").iterdir() if p.suffix == ".tmp"]
        self.assertEqual(left, [])
        self.assertEqual(sorted(cache.stage("liquid").records()), [1])


class CommandLine(SimpleTestCase):
    """Sentences there too."""

    def test_what_cannot_be_is_said(self) -> None:
        with tempfile.TemporaryDirectory() as holding:
            home = Path(holding)
            scene, file = home / "scene.json", home / "file"
            scene.write_text(json.dumps({**short(), "deliveries": [{"name": "d"}]}))
            file.write_text("x")
            deep = home / "deep.json"
            deep.write_text("[" * 100_000)
            out = str(home / "out")
            for words, says in (
                (["run", str(scene), "--to", str(file)], "is a file; name a folder"),
                (["run", str(scene), "--to", str(file / "under")], "is a file; name a folder"),
                (["run", str(scene), "--to", out, "--frames", "90-95"], "lie outside the shot, which has 1 to 3"),
                (["deliver", str(scene), "--cache", holding, "--to", str(file)], "is a file; name a folder"),
                (["check", str(deep)], "nested too deep"),
                (["check", holding], "directory"),
                (["info", str(home / "none")], "no cache here"),
                (["solid", str(scene), "--element", "paddle", "--frame", "99"], "lies outside the shot"),
                (["solid", str(scene), "--element", "paddle", "--to", str(home / "no" / "a.ply")], "No such file"),
            ):
                told = StringIO()
                with redirect_stderr(told), redirect_stdout(StringIO()):
                    self.assertGreater(main(words), 0, words)
                self.assertIn(says, told.getvalue(), words)
                self.assertNotIn("Traceback", told.getvalue())
