"""What differs between two states of a scene, in words."""

from __future__ import annotations

from typing import Any

from django.test import SimpleTestCase

from basin.scene.differences import differences
from tests.basin.test_setting_up import scene_with, spout, tub


class Differences(SimpleTestCase):
    """Each setting that frames depend on, with what it was and is."""

    def told(self, before: Any, after: Any) -> list[str]:
        return [str(one) for one in differences(before, after)]

    def test_settings_elements_and_kinds(self) -> None:
        before = scene_with([spout([0, 1, 0], [0, -1, 0]), tub([0, 0, 0])])
        self.assertEqual(self.told(before, before), [])
        finer = scene_with([spout([0, 1, 0], [0, -2, 0]), tub([0, 0, 0], radius=0.35)], liquid={"voxel_size": 0.01})
        self.assertEqual(
            self.told(before, finer),
            [
                "liquid: voxel size 0.02 → 0.01 m",
                "Spout: velocity (0, -1, 0) → (0, -2, 0) m/s",
                "Tub: radius 0.3 → 0.35 m",
            ],
        )
        self.assertEqual(self.told(before, scene_with([spout([0, 1, 0], [0, -1, 0])])), ["Tub: taken out"])
        ball = {**tub([0, 0, 0]), "shape": {"kind": "sphere", "radius": 0.1}}
        self.assertEqual(self.told(before, scene_with([spout([0, 1, 0], [0, -1, 0]), ball])), ["Tub: tub → sphere"])
        keys = {"keys": [{"time": 0, "value": [0, 1, 0]}, {"time": 1, "value": [0, 2, 0]}]}
        moves = scene_with([spout([0, 1, 0], [0, -1, 0], pose={"translation": keys}), tub([0, 0, 0])])
        self.assertEqual(self.told(before, moves), ["Spout: translation (0, 1, 0) → 2 keys m"])

    def test_what_changes_no_frame_is_no_difference(self) -> None:
        one = scene_with([spout([0, 1, 0], [0, -1, 0])])
        other = scene_with([spout([0, 1, 0], [0, -1, 0], hidden=True, locked=True, group="a")], aside=["x:y"])
        self.assertEqual(self.told(one, other), [])
