"""A coarse liquid that plays while its scene is edited."""

from __future__ import annotations

import json
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles
from basin.stages.gestures import rehearse
from basin.stages.gestures.rehearse import PARTICLES, Rehearsal, RehearsalFailure, Rehearsed
from basin.stages.run import run

FLOOR = dict.fromkeys(("x_min", "x_max", "y_min", "z_min", "z_max"), "closed")


def falling(**more: Any) -> dict[str, Any]:
    """A ball of water that falls in a closed box."""
    return {
        "format": "zinc-scene/1",
        "name": "falling",
        "time": {"first": 1, "last": 6, "fps": 24},
        "domain": {"low": [-0.5, 0, -0.5], "size": [1, 1, 1], "walls": {**FLOOR, "y_max": "open"}},
        "liquid": {"voxel_size": 0.01},
        "quality": {"draft": 4.0, "proof": 2.0},
        "elements": [
            {
                "kind": "fill",
                "name": "Ball",
                "shape": {"kind": "sphere", "radius": 0.15},
                "pose": {"translation": [0, 0.7, 0]},
            }
        ],
        **more,
    }


class Playing(SimpleTestCase):
    """Frame after frame, again when the scene changes, and nothing on disk."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.held = Rehearsal()

    def next(self, scene: dict[str, Any], after: int | None) -> tuple[dict[str, Any], np.ndarray]:
        """The header and the positions (n, 3) in metres of the next frame."""
        packed = self.held.next(Rehearsed(self.folder, scene, after))
        length = int.from_bytes(packed[4:8], "little")
        header = json.loads(packed[8 : 8 + length])
        place = np.frombuffer(packed, "<u2", 3 * header["count"], 8 + length).reshape(-1, 3)
        return header, np.array(header["low"]) + place / 65535 * np.array(header["span"])

    def test_it_falls_as_things_fall(self) -> None:
        height, after = [], None
        for _ in range(4):
            header, place = self.next(falling(), after)
            after = header["rehearsal"]["frame"]
            height.append(place[:, 1].mean())
        self.assertEqual(after, 4)
        # a free fall from rest (Galilei): g t^2 / 2
        self.assertAlmostEqual(height[0] - height[3], 0.5 * 9.80665 * (3 / 24) ** 2, delta=0.004)

    def test_an_edit_begins_again_and_the_last_frame_is_followed_by_the_first(self) -> None:
        seen, after = [], None
        for _ in range(3):
            after = self.next(falling(), after)[0]["rehearsal"]["frame"]
        other = falling(name="other")
        other["elements"][0]["pose"]["translation"] = [0.2, 0.7, 0]
        header, place = self.next(other, after)
        self.assertEqual(header["rehearsal"]["frame"], 1)
        self.assertAlmostEqual(place[:, 0].mean(), 0.2, delta=0.005)
        after = 1
        for _ in range(6):
            after = self.next(other, after)[0]["rehearsal"]["frame"]
            seen.append(after)
        self.assertEqual(seen, [2, 3, 4, 5, 6, 1])

    def test_a_large_scene_is_made_coarser_until_it_moves(self) -> None:
        full = falling(liquid={"voxel_size": 0.005})
        full["elements"][0] = {
            "kind": "fill",
            "name": "Pool",
            "shape": {"kind": "box", "size": [1, 0.6, 1]},
            "pose": {"translation": [0, 0.3, 0]},
        }
        header, _ = self.next(full, None)
        self.assertLess(header["total"], 1.2 * PARTICLES)
        self.assertGreater(header["total"], 0.7 * PARTICLES)
        self.assertAlmostEqual(header["rehearsal"]["voxel"], (0.6 * 8 / PARTICLES) ** (1 / 3), delta=0.002)

    def test_a_scene_that_cannot_run_says_so_and_the_next_one_plays(self) -> None:
        broken = falling()
        broken["elements"][0]["shape"] = {"kind": "mesh", "file": "none.ply"}
        with self.assertRaisesRegex(RehearsalFailure, "none.ply"):
            self.next(broken, None)
        self.assertEqual(self.next(falling(), None)[0]["rehearsal"]["frame"], 1)

    def test_nothing_is_left(self) -> None:
        self.next(falling(), None)
        self.assertEqual(list(self.folder.iterdir()), [])

    def test_a_frame_does_not_take_long(self) -> None:
        after = self.next(falling(), None)[0]["rehearsal"]["frame"]
        after = self.next(falling(), after)[0]["rehearsal"]["frame"]
        begun = time.process_time()
        self.next(falling(), after)
        self.assertLess(time.process_time() - begun, 2.0)  # a tenth of a second alone; tests have company


class FromACachedFrame(SimpleTestCase):
    """It goes on from a frame of a run, coarser, with the same volume and momentum."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.document = {**falling(), "quality": {"draft": 8.0, "proof": 3.0}}
        self.scene = parse_scene(self.document)
        self.cache = Cache(self.folder / "cache" / "proof")
        for _ in run(self.scene, self.folder, self.cache, stages=("liquid",), quality="proof", frames=(1, 4)):
            pass

    def begun(self, document: dict[str, Any], start: int | None) -> int:
        """The frame that a rehearsal begins from."""
        asked = Rehearsed(self.folder, document, None, "speed", self.cache.folder, "proof", start)
        packed = Rehearsal().next(asked)
        header = json.loads(packed[8 : 8 + int.from_bytes(packed[4:8], "little")])
        return int(header["rehearsal"]["frame"])

    def test_it_begins_behind_a_current_frame_and_else_at_the_first(self) -> None:
        self.assertEqual(self.begun(self.document, 3), 4)
        self.assertEqual(self.begun(self.document, 5), 1)  # is not there
        other = {**self.document, "liquid": {"voxel_size": 0.01, "flip_share": 0.5}}
        self.assertEqual(self.begun(other, 3), 1)  # is out of date

    def test_volume_and_momentum_stay(self) -> None:
        arrays = self.cache.stage("liquid").frame(4)
        world = liquid_world(self.scene, SceneFiles(self.folder), "draft")
        held = rehearse.coarser(arrays, world).particles
        dx = world.layout.dx
        volume, velocity = arrays["volume"].astype(np.float64), arrays["velocity"].astype(np.float64)
        self.assertLess(len(held), 0.1 * len(volume))  # voxels are 8 / 3 as long
        self.assertAlmostEqual(float(held.volume.sum(dtype=np.float64)) * dx**3 / float(volume.sum()), 1.0, places=5)
        momentum = (held.volume.astype(np.float64)[:, None] * held.velocity).sum(axis=0) * dx**4
        np.testing.assert_allclose(momentum, (volume[:, None] * velocity).sum(axis=0), rtol=1e-4, atol=1e-9)
        middle = (held.volume[:, None] * world.layout.to_metres(held.position)).sum(axis=0) / held.volume.sum()
        np.testing.assert_allclose(middle, (volume[:, None] * arrays["position"]).sum(axis=0) / volume.sum(), atol=1e-4)
