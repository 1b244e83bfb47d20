"""What is told before it goes wrong; each rule speaks where it should, is silent where it should, and mends."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import Advice, parse_scene
from basin.stages.advice import advice, frames
from basin.stages.advice.look import Look
from basin.stages.advice.measure import STANDARD, empty_domain, out_of_scale, strange_gravity
from basin.stages.advice.pace import too_fast
from basin.stages.advice.places import apart, narrow_gap, out_of_sight, within_a_solid, without_effect
from basin.stages.advice.streams import (
    against_a_wall,
    few_voxels,
    leaves_the_domain,
    passes_through,
    thin_coat,
    too_thin,
    torn,
)
from basin.stages.advice.vessels import leaks, meets_a_wall, runs_over
from basin.stages.files import SceneFiles
from basin.stages.run import run
from basin.stages.stage import Job, stages
from studio.productions import keeping
from tests.basin.test_setting_up import G, scene_with, spout

FILES = SceneFiles(Path("."))
LEVEL = {"rotation": [0, 0, -90]}


def box(name: str, size: list[float], at: list[float], **more: Any) -> dict[str, Any]:
    kind = more.pop("kind", "collider")
    return {"kind": kind, "name": name, "shape": {"kind": "box", "size": size}, "pose": {"translation": at}, **more}


def mended(scene: Any, said: Advice) -> Any:
    """The scene with a remedy applied."""
    assert said.remedy
    document = scene.model_dump(mode="json")
    holder = document
    for key in said.remedy.path[:-1]:
        holder = holder[key]
    holder[said.remedy.path[-1]] = said.remedy.value
    return parse_scene(document)


class Streams(SimpleTestCase):
    """Streams that go astray."""

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
        self.assertEqual(too_thin(Look(mended(thin, said), FILES)), [])
        self.assertEqual(too_thin(Look(scene_with([spout([0, 1.9, 0], [0, -4, 0])]), FILES)), [])

    def test_a_thick_one_that_is_torn_by_what_is_set(self) -> None:
        """Each of the balances of a pour that is off is named in its turn, and mended, until none is."""
        plate = box("Plate", [0.6, 0.1, 0.6], [0, 0.05, 0], slip_length=None)
        pour = spout([0, 0.5, 0], [0, -2.0, 0], viscosity=5.0)
        scene = parse_scene(
            {
                **scene_with([pour, plate]).model_dump(mode="json"),
                "surface": {"thinnest": 0.0},
                "liquid": {"voxel_size": 0.01, "particles_per_cell": 4},
            }
        )
        for words in ("4 particles in each", "draws nothing that is thinner", "slides freely on Plate"):
            (said,) = torn(Look(scene, FILES))
            self.assertIn(words, said.says)
            scene = mended(scene, said)
        self.assertEqual(torn(Look(scene, FILES)), [])
        thin = {**pour, "viscosity": 0.001}
        document = {**scene_with([thin, plate]).model_dump(mode="json"), "surface": {"thinnest": 0.0}}
        self.assertEqual(torn(Look(parse_scene(document), FILES)), [])

    def test_a_coat_too_thin_for_the_voxel(self) -> None:
        """Jeffreys 1930 by hand: 0.1 Pa s at 998.2 kg/m3 leave sqrt(1e-4 * 0.1 / 9.8) = 1 mm after a second."""
        plate = box("Plate", [0.6, 0.1, 0.6], [0, 0.05, 0])
        scene = scene_with([spout([0, 0.5, 0], [0, -2.0, 0], viscosity=0.1), plate])
        (said,) = thin_coat(Look(scene, FILES))
        self.assertIn("1 mm thick after a second", said.says)
        self.assertEqual(thin_coat(Look(mended(scene, said), FILES)), [])
        for more in ({"viscosity": 0.001}, {"viscosity": 0.1, "yield_stress": 20.0}):
            self.assertEqual(thin_coat(Look(scene_with([spout([0, 0.5, 0], [0, -2.0, 0], **more), plate]), FILES)), [])

    def test_one_that_lies_on_what_it_comes_out_of(self) -> None:
        block = {"kind": "collider", "name": "Block", "shape": {"kind": "box", "size": [0.4, 1, 0.4]}}
        block["pose"] = {"translation": [-0.2, 0.5, 0]}
        close = scene_with([spout([0, 0.6, 0], [1.5, 0, 0], pose={"translation": [0.002, 0.6, 0], **LEVEL}), block])
        (said,) = against_a_wall(Look(close, FILES))
        self.assertIn("lies on Block", said.says)
        better = mended(close, said)
        self.assertEqual(against_a_wall(Look(better, FILES)), [])
        self.assertAlmostEqual(better.elements[0].pose.translation[0], 0.55 * 0.04, delta=1e-3)
        into = scene_with([spout([0, 0.6, 0], [-1.5, 0, 0], pose={"translation": [0.3, 0.6, 0], **LEVEL}), block])
        self.assertEqual(against_a_wall(Look(into, FILES)), [])

    def test_the_starting_scenes_need_none(self) -> None:
        for start in keeping.starts():
            with self.subTest(start.name):
                self.assertEqual(advice(parse_scene(start.document()), SceneFiles(start.folder)), [])

    def test_a_source_of_few_voxels(self) -> None:
        small = scene_with([spout([0, 1, 0], [0, -3, 0])], liquid={"voxel_size": 0.03})
        (said,) = few_voxels(Look(small, FILES))
        self.assertIn("60 mm across, 2.0 voxels", said.says)
        self.assertEqual(few_voxels(Look(mended(small, said), FILES)), [])
        thin = box("Film", [0.5, 0.03, 0.5], [0, 0.5, 0], kind="fill")
        self.assertEqual(len(few_voxels(Look(scene_with([thin]), FILES))), 1)

    def test_one_that_passes_through_what_does_not_act_yet(self) -> None:
        late = scene_with([spout([0, 1.5, 0], [0, -0.5, 0]), box("Lid", [0.4, 0.1, 0.4], [0, 0.8, 0], start=1.0)])
        (said,) = passes_through(Look(late, FILES))
        self.assertEqual(said.element, "Lid")
        # 0.65 m of fall from 0.5 m/s takes 0.316 s: frame 1 + 24 * 0.316
        assert said.show
        self.assertAlmostEqual(said.show.frame, 1 + 24 * (np.sqrt(0.25 + 2 * 9.80665 * 0.65) - 0.5) / 9.80665, delta=1)
        self.assertAlmostEqual(said.show.point[1], 0.85, delta=0.05)
        self.assertEqual(passes_through(Look(mended(late, said), FILES)), [])


class Vessels(SimpleTestCase):
    """What holds, what leaks, what runs over."""

    TAP = spout([0, 1.5, 0], [0, -0.5, 0], amount="flow", flow=50.0)

    def tub(self, height: float = 0.3) -> dict[str, Any]:
        return {"kind": "collider", "name": "Tub", "shape": {"kind": "tub", "radius": 0.3, "height": height}}

    def test_one_that_runs_over_within_the_shot(self) -> None:
        scene = scene_with([self.TAP, self.tub()])
        (said,) = runs_over(Look(scene, FILES))
        # a room of 0.27 m radius and 0.27 m height holds 61.8 l, at 50 l/s in 1.24 s after a fall of 0.45 s
        assert said.remedy
        self.assertAlmostEqual(said.remedy.value, np.pi * 0.27**2 * 0.27 / 0.05, delta=0.1)
        self.assertEqual(runs_over(Look(mended(scene, said), FILES)), [])
        self.assertEqual(runs_over(Look(scene_with([self.TAP, self.tub(0.9)]), FILES)), [])

    def test_one_with_a_hole_and_open_ground_is_none(self) -> None:
        def pipe(**shape: Any) -> dict[str, Any]:
            return {"kind": "collider", "name": "Pipe", "shape": {"kind": "tube", **shape}}

        funnel = [
            {**pipe(radius=0.3, height=0.3, wall=0.05), "pose": {"translation": [0, 0.5, 0]}},
            {**pipe(radius=0.27, height=0.08, wall=0.17), "name": "Floor", "pose": {"translation": [0, 0.5, 0]}},
        ]
        tap = spout([0.18, 1.5, 0], [0, -0.5, 0], amount="flow", flow=10.0)
        (said,) = leaks(Look(scene_with([tap, *funnel]), FILES))
        self.assertIn("runs out by", said.says)
        assert said.show
        # the hole is amid the floor, 0.1 m across and 0.08 m long
        self.assertLess(float(np.hypot(said.show.point[0], said.show.point[2])), 0.05)
        self.assertAlmostEqual(said.show.point[1], 0.54, delta=0.08)
        self.assertEqual(leaks(Look(scene_with([tap]), FILES)), [])
        self.assertEqual(leaks(Look(scene_with([self.TAP, self.tub()]), FILES)), [])

    def test_a_stream_against_a_closed_side(self) -> None:
        walls = {"x_max": "closed", "y_min": "closed"}
        domain = {"low": [-1, 0, -1], "size": [2, 2, 2], "walls": {**walls, "y_max": "open"}}
        away = scene_with([spout([0, 1.5, 0], [6.3, 0, 0], pose={"translation": [0, 1.5, 0], **LEVEL})], domain=domain)
        (said,) = meets_a_wall(Look(away, FILES))
        self.assertIn("the wall at most x of the domain at frame 5", said.says)  # 1 m at 6.3 m/s takes 0.159 s
        self.assertEqual(meets_a_wall(Look(mended(away, said), FILES)), [])
        self.assertEqual(meets_a_wall(Look(scene_with([self.TAP]), FILES)), [])


class Measure(SimpleTestCase):
    """Speed, size, time and gravity."""

    def test_what_is_too_fast_for_the_substeps(self) -> None:
        fast = scene_with([spout([0, 1.9, 0], [0, -8, 0])], liquid={"voxel_size": 0.01, "substeps_max": 8})
        (said,) = too_fast(Look(fast, FILES))
        # 10.06 m/s on the floor after 1.9 m; 41.9 voxels a frame of a 24th of a second, 5.2 a substep
        self.assertIn("5.2 voxels a substep", said.says)
        self.assertEqual(too_fast(Look(mended(fast, said), FILES)), [])
        dropped = box("Drop", [0.2, 0.2, 0.2], [0, 1.8, 0], kind="fill")
        slow = scene_with([dropped], liquid={"voxel_size": 0.01, "substeps_max": 4})
        self.assertEqual(len(too_fast(Look(slow, FILES))), 1)
        self.assertEqual(too_fast(Look(scene_with([dropped]), FILES)), [])

    def test_gravity_in_centimetres(self) -> None:
        odd = scene_with([box("Pool", [1, 0.4, 1], [0, 0.2, 0], kind="fill")], liquid={"gravity": [0, -980.665, 0]})
        (said,) = strange_gravity(Look(odd, FILES))
        self.assertIn("centimetres", said.leads_to)
        self.assertAlmostEqual(mended(odd, said).liquid.gravity[1], -STANDARD, places=4)
        self.assertEqual(strange_gravity(Look(mended(odd, said), FILES)), [])

    def test_a_scene_too_large_for_its_time(self) -> None:
        domain = {"low": [-100, 0, -100], "size": [200, 200, 200]}
        pool = box("Pool", [100, 150, 100], [0, 75, 0], kind="fill")
        large = scene_with([pool], domain=domain, liquid={"voxel_size": 2.0})
        (said,) = out_of_scale(Look(large, FILES))
        self.assertIn(f"{np.sqrt(2 * 150 / STANDARD):.2g} s", said.says)  # 5.5 s, and the shot has 2
        self.assertEqual(out_of_scale(Look(scene_with([box("P", [1, 1, 1], [0, 0.5, 0], kind="fill")]), FILES)), [])

    def test_an_empty_domain(self) -> None:
        domain = {"low": [-4, 0, -4], "size": [8, 8, 8], "walls": {"y_max": "open", "x_min": "open"}}
        small = scene_with([box("Block", [0.4, 0.4, 0.4], [0, 0.2, 0], kind="fill")], domain=domain)
        (said,) = empty_domain(Look(small, FILES))
        self.assertEqual(empty_domain(Look(mended(small, said), FILES)), [])
        self.assertEqual(mended(small, said).domain.walls.x_min, "open")


class Places(SimpleTestCase):
    """Where things stand."""

    def test_an_opening_within_a_solid(self) -> None:
        block = box("Block", [0.6, 0.6, 0.6], [0, 1.0, 0])
        (said,) = within_a_solid(Look(scene_with([spout([0, 1.0, 0], [0, -1, 0]), block]), FILES))
        self.assertIn("0.3 m inside of Block", said.says)
        self.assertEqual(within_a_solid(Look(scene_with([spout([0, 1.6, 0], [0, -1, 0]), block]), FILES)), [])

    def test_a_narrow_gap(self) -> None:
        left, right = box("Left", [0.4, 0.4, 0.4], [-0.2, 0.2, 0]), box("Right", [0.4, 0.4, 0.4], [0.23, 0.2, 0])
        near = scene_with([left, right])
        (said,) = narrow_gap(Look(near, FILES))
        self.assertIn("30 mm, 1.5 voxels", said.says)
        self.assertEqual(narrow_gap(Look(mended(near, said), FILES)), [])
        for away in (0.2, 0.5):  # one stands on the other; there is room
            other = {**right, "pose": {"translation": [away, 0.2, 0]}}
            self.assertEqual(narrow_gap(Look(scene_with([left, other]), FILES)), [])

    def test_what_is_apart_or_out_of_sight(self) -> None:
        far = scene_with([box("Far", [0.4, 0.4, 0.4], [5, 0.2, 0]), box("Near", [0.4, 0.4, 0.4], [0, 0.2, 0])])
        self.assertEqual([one.element for one in apart(Look(far, FILES))], ["Far"])
        within = scene_with([box("Inner", [0.1, 0.1, 0.1], [0, 0.2, 0]), box("Outer", [0.4, 0.4, 0.4], [0, 0.2, 0])])
        self.assertEqual([one.element for one in out_of_sight(Look(within, FILES))], ["Inner"])
        beside = scene_with([box("Inner", [0.1, 0.1, 0.1], [0.5, 0.2, 0]), box("Outer", [0.4, 0.4, 0.4], [0, 0.2, 0])])
        self.assertEqual(out_of_sight(Look(beside, FILES)), [])

    def test_a_force_without_effect(self) -> None:
        def push(**more: Any) -> Any:
            return scene_with(
                [{"kind": "force", "name": "Push", "effect": {"kind": "vortex", **more.pop("e", {})}, **more}]
            )

        late = push(start=5.0)
        (said,) = without_effect(Look(late, FILES))
        self.assertEqual(without_effect(Look(mended(late, said), FILES)), [])
        self.assertEqual(len(without_effect(Look(push(e={"strength": 1e-3}), FILES))), 1)
        self.assertEqual(without_effect(Look(push(), FILES)), [])


class Frames(SimpleTestCase):
    """What frames show that the scene does not."""

    def said(self, scene: Any) -> list[Advice]:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            cache = Cache(folder / "draft")
            for _ in run(scene, folder, cache, stages=("liquid",), quality="draft"):
                pass
            with mock.patch.object(frames, "SECONDS", 0.0):
                return stages()["liquid"].noticed(Job(scene, SceneFiles(folder), cache, "draft"))

    def test_what_flies_away_and_takes_the_time(self) -> None:
        pool = box("Pool", [2, 0.3, 2], [0, 0.15, 0], kind="fill")
        speck = box("Speck", [0.06, 0.06, 0.06], [0.04, 0.52, 0.04], kind="fill", velocity=[0, 9, 0])
        more = {
            "time": {"first": 1, "last": 5, "fps": 24},
            "domain": {"low": [-1, 0, -1], "size": [2, 4, 2]},
            "liquid": {"voxel_size": 0.04, "substeps_max": 40},
        }
        thrown = scene_with([pool, speck], **more)
        (said,) = self.said(thrown)
        self.assertIn("single particles fly away from the rest", said.says)
        assert said.show and said.show.point
        # thrown upwards at 9 m/s from half a metre (textbook)
        after = (said.show.frame - 1) / 24
        height = 0.52 + 9 * after - 0.5 * G * after**2
        self.assertAlmostEqual(said.show.point[1], height, delta=0.1)
        self.assertEqual(self.said(scene_with([pool], **more)), [])
        drained = mended(thrown, said)
        self.assertEqual([e.name for e in drained.elements], ["Pool", "Speck", "Strays"])
        (later,) = self.said(drained) or [None]
        self.assertTrue(later is None or later.show.frame < said.show.frame)


class Aside(SimpleTestCase):
    """What was put aside is not said again; another element's still is."""

    def test_put_aside(self) -> None:
        films = [box(name, [0.5, 0.03, 0.5], [0, y, 0], kind="fill") for name, y in (("One", 0.5), ("Two", 1.0))]
        scene = scene_with(films)
        said = [one for one in advice(scene, FILES) if one.rule == "few_voxels"]
        self.assertEqual([one.aside for one in said], ["few_voxels:One", "few_voxels:Two"])
        quiet = scene_with(films, aside=["few_voxels:One"])
        self.assertEqual([o.element for o in advice(quiet, FILES) if o.rule == "few_voxels"], ["Two"])
