"""A coarse liquid that plays while its scene is edited."""

from __future__ import annotations

import json
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.stages.rehearse import PARTICLES, Rehearsal, RehearsalFailure, Rehearsed

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
        begun = time.perf_counter()
        self.next(falling(), after)
        self.assertLess(time.perf_counter() - begun, 2.0)  # a tenth of a second alone; tests have company
