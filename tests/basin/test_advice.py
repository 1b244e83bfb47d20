"""What is told before it goes wrong; each rule speaks where it should, is silent where it should, and mends."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.test import SimpleTestCase

from basin.scene import Advice, parse_scene
from basin.stages.advice import advice
from basin.stages.advice.look import Look
from basin.stages.advice.streams import against_a_wall, leaves_the_domain, too_thin
from basin.stages.files import SceneFiles
from studio.productions import keeping
from tests.basin.test_setting_up import scene_with, spout

FILES = SceneFiles(Path("."))
LEVEL = {"rotation": [0, 0, -90]}


class Streams(SimpleTestCase):
    """Streams that go astray."""

    def mended(self, scene: Any, said: Advice) -> Any:
        """The scene with a remedy applied."""
        assert said.remedy
        document = scene.model_dump(mode="json")
        holder = document
        for key in said.remedy.path[:-1]:
            holder = holder[key]
        holder[said.remedy.path[-1]] = said.remedy.value
        return parse_scene(document)

    def test_one_that_leaves_through_an_open_side(self) -> None:
        away = scene_with([spout([0, 1.5, 0], [6, 0, 0], pose={"translation": [0, 1.5, 0], **LEVEL})])
        (said,) = leaves_the_domain(Look(away, FILES))
        self.assertEqual((said.element, said.where), ("Spout", "elements[0]"))
        self.assertIn("leaves the domain at frame", said.says)
        self.assertEqual(leaves_the_domain(Look(scene_with([spout([0, 1.5, 0], [0, -1, 0])]), FILES)), [])

    def test_one_that_is_drawn_out_to_a_thread(self) -> None:
        thin = scene_with([spout([0, 1.9, 0], [0, -0.2, 0])])
        (said,) = too_thin(Look(thin, FILES))
        # continuity: 60 mm at 0.2 m/s are 11 mm at 6.1 m/s, half a voxel of 20 mm
        self.assertIn("11 mm across", said.says)
        self.assertEqual(too_thin(Look(self.mended(thin, said), FILES)), [])
        self.assertEqual(too_thin(Look(scene_with([spout([0, 1.9, 0], [0, -4, 0])]), FILES)), [])

    def test_one_that_lies_on_what_it_comes_out_of(self) -> None:
        block = {"kind": "collider", "name": "Block", "shape": {"kind": "box", "size": [0.4, 1, 0.4]}}
        block["pose"] = {"translation": [-0.2, 0.5, 0]}
        close = scene_with([spout([0, 0.6, 0], [1.5, 0, 0], pose={"translation": [0.002, 0.6, 0], **LEVEL}), block])
        (said,) = against_a_wall(Look(close, FILES))
        self.assertIn("lies on Block", said.says)
        mended = self.mended(close, said)
        self.assertEqual(against_a_wall(Look(mended, FILES)), [])
        self.assertAlmostEqual(mended.elements[0].pose.translation[0], 0.55 * 0.04, delta=1e-3)
        into = scene_with([spout([0, 0.6, 0], [-1.5, 0, 0], pose={"translation": [0.3, 0.6, 0], **LEVEL}), block])
        self.assertEqual(against_a_wall(Look(into, FILES)), [])

    def test_the_starting_scenes_need_none(self) -> None:
        for start in keeping.starts():
            with self.subTest(start.name):
                self.assertEqual(advice(parse_scene(start.document()), SceneFiles(start.folder)), [])
