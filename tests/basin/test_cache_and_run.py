"""Frames on disk and the run loop: damage, interruption, reuse, locks."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.__main__ import main
from basin.cache import Cache, DamagedFrame, StageBusy, open_cache
from basin.exchange import read_mesh
from basin.geometry.mesh import TriangleMesh
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.files import SceneFiles
from basin.stages.run import frame_states, run
from basin.stages.samples import tiny_scene


class Runs(SimpleTestCase):
    """The one run loop on a tiny scene."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.folder = Path(holding.name)
        self.document: dict[str, Any] = {**tiny_scene(), "time": {"last": 5}}
        self.cache = Cache(self.folder / "cache")

    @property
    def scene(self) -> Scene:
        return parse_scene(self.document)

    def go(self, **more: Any) -> list[tuple[str, int, bool]]:
        return [(d.stage, d.frame, d.reused) for d in run(self.scene, self.folder, self.cache, **more)]

    def states(self, stage: str) -> list[str]:
        found = frame_states(self.scene, SceneFiles(self.folder), self.cache, "final", stage)
        return [found[n] for n in sorted(found)]

    def test_frames_can_be_read_as_the_manual_says(self) -> None:
        self.go()
        frame = open_cache(self.cache.folder).stage("liquid").frame(3)
        self.assertEqual(frame["position"].dtype, np.float32)
        self.assertEqual(frame["position"].shape[1], 3)
        self.assertEqual(frame["velocity"].shape, frame["position"].shape)
        surface = open_cache(self.cache.folder).stage("surface").frame(3)
        mesh = TriangleMesh(surface["position"].astype(float), surface["triangle"])
        self.assertEqual(mesh.open_edges(), 0)
        self.assertEqual(surface["velocity"].shape, surface["position"].shape)

    def test_second_run_makes_nothing_again(self) -> None:
        self.assertFalse(any(reused for *_, reused in self.go()))
        self.assertTrue(all(reused for *_, reused in self.go()))

    def test_changed_settings_make_frames_stale_and_they_are_made_again(self) -> None:
        self.go()
        self.document["surface"] = {"smoothing": 3}
        self.assertEqual(self.states("liquid"), ["current"] * 5)
        self.assertEqual(self.states("surface"), ["stale"] * 5)
        self.assertEqual([f for s, f, r in self.go() if not r], [1, 2, 3, 4, 5])
        self.assertEqual(self.states("surface"), ["current"] * 5)

    def test_truncated_frame_is_told_and_made_again_with_the_same_bytes(self) -> None:
        self.go(stages=("liquid",))
        store = self.cache.stage("liquid")
        whole = store.path(3).read_bytes()
        store.path(3).write_bytes(whole[: len(whole) // 2])
        with self.assertRaises(DamagedFrame):
            np.asarray(store.frame(3)["position"])
        self.assertEqual(self.states("liquid")[2], "missing")
        self.go(stages=("liquid",))
        self.assertEqual(store.path(3).read_bytes(), whole)

    def test_flipped_byte_is_found(self) -> None:
        self.go(stages=("liquid",))
        store = self.cache.stage("liquid")
        data = bytearray(store.path(2).read_bytes())
        data[len(data) // 2] ^= 1
        store.path(2).write_bytes(bytes(data))
        self.assertFalse(store.verify(store.records()[2]))
        with self.assertRaises(DamagedFrame):
            for array in store.frame(2).values():
                array.sum()

    def test_stopped_run_keeps_whole_frames_and_goes_on(self) -> None:
        made = []
        for done in run(self.scene, self.folder, self.cache, stages=("liquid",), stop=lambda: len(made) >= 2):
            made.append(done.frame)
        self.assertEqual(made, [1, 2])
        self.assertEqual(self.states("liquid"), ["current"] * 2 + ["missing"] * 3)
        self.assertEqual([f for _, f, r in self.go(stages=("liquid",)) if not r], [3, 4, 5])

    def test_manifest_line_cut_short_costs_one_frame(self) -> None:
        self.go(stages=("liquid",))
        journal = self.cache.stage("liquid").folder / "manifest.jsonl"
        text = journal.read_text()
        journal.write_text(text[:-30])
        self.assertEqual(self.states("liquid"), ["current"] * 4 + ["missing"])
        self.go(stages=("liquid",))
        self.assertEqual(self.states("liquid"), ["current"] * 5)

    def test_two_writers_of_one_stage_are_kept_apart(self) -> None:
        with self.cache.stage("liquid").locked(), self.assertRaises(StageBusy):
            self.go(stages=("liquid",))

    def test_scene_too_large_for_the_machine_is_refused(self) -> None:
        self.document["liquid"]["voxel_size"] = 1e-4
        with self.assertRaisesRegex(SceneError, "this machine has"):
            self.go()

    def test_command_line_runs_informs_and_delivers(self) -> None:
        path = self.folder / "scene.json"
        path.write_text(json.dumps(self.document))
        out = self.folder / "out"
        self.assertEqual(main(["run", str(path), "--to", str(out), "--frames", "1-2", "--threads", "1"]), 0)
        self.assertEqual(main(["info", str(out), "--json"]), 0)
        self.document["deliveries"] = [{"name": "mesh", "format": "ply", "last": 2}]
        path.write_text(json.dumps(self.document))
        given = ["deliver", str(path), "--cache", str(out), "--to", str(self.folder / "ex")]
        self.assertEqual(main(given), 0)
        files = sorted(p.name for p in (self.folder / "ex").glob("*.ply"))
        self.assertEqual(files, ["surface.0001.ply", "surface.0002.ply"])
        self.assertEqual(read_mesh(self.folder / "ex" / files[0]).open_edges(), 0)
        self.assertEqual(main([*given, "--name", "no such"]), 1)
        self.assertEqual(main(["info", str(self.folder / "nowhere")]), 1)
