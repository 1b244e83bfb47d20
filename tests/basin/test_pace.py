"""How long a run will take: reckoned from the scene, and learned from what runs took."""

from __future__ import annotations

import tempfile
import time
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import Scene, parse_scene
from basin.stages import measuring, samples
from basin.stages.costs import CALMS, SPLASHES, SPREADS, STIRS, fastest, liquid_seconds, liquid_size, surface_seconds
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast, voxel_for
from basin.stages.pace import Pace
from basin.stages.run import run
from basin.stages.stage import Job

G = 9.80665


class Learning(SimpleTestCase):
    """A machine's own runs say how fast it is."""

    def setUp(self) -> None:
        self.file = Path(self.enterContext(tempfile.TemporaryDirectory())) / "pace.json"
        self.pace = Pace(self.file)

    def test_before_any_run_it_is_what_was_reckoned_in_a_wide_range(self) -> None:
        found = self.pace.expect("liquid", 100.0)
        self.assertAlmostEqual(found.likely, 100.0)
        self.assertLess(found.least, 60.0)
        self.assertGreater(found.most, 170.0)

    def test_a_machine_that_is_twice_as_slow_is_believed_after_some_runs(self) -> None:
        for _ in range(12):
            self.pace.learn("liquid", 50.0, 100.0)
        found = self.pace.expect("liquid", 30.0)
        self.assertAlmostEqual(found.likely, 60.0, delta=8.0)
        self.assertLess(found.most / found.least, 2.2)
        self.assertAlmostEqual(self.pace.expect("surface", 30.0).likely, 30.0)

    def test_runs_that_differ_leave_a_wide_range(self) -> None:
        for n in range(12):
            self.pace.learn("liquid", 50.0, 25.0 if n % 2 else 100.0)
        found = self.pace.expect("liquid", 50.0)
        self.assertGreater(found.most / found.least, 3.0)

    def test_what_is_too_short_or_nothing_is_not_learned_and_a_spoilt_file_is_none(self) -> None:
        self.pace.learn("liquid", 50.0, 0.5)
        self.pace.learn("liquid", 0.0, 50.0)
        self.assertEqual(self.pace.stamp(), 0)
        for text in ("", "[1, 2]", '{"liquid": ["x"]}', '{"liquid": [-1, 1e999]}'):
            self.file.write_text(text)
            self.assertAlmostEqual(self.pace.expect("liquid", 10.0).likely, 10.0)


class Measuring(SimpleTestCase):
    """A machine that has made nothing is measured once."""

    def test_stages_that_nothing_is_known_of(self) -> None:
        pace = Pace(Path(self.enterContext(tempfile.TemporaryDirectory())) / "pace.json")
        with mock.patch.object(measuring, "LONG_ENOUGH", 0.0), mock.patch("basin.stages.pace.LONG_ENOUGH", 0.0):
            pace.learn("surface", 1.0, 1.0)
            self.assertEqual(measuring.measure(pace, 6), ["liquid"])
            self.assertTrue(pace.knows("liquid"))
            self.assertEqual(measuring.measure(pace, 6), [])

    def test_a_fast_machine_makes_more_frames(self) -> None:
        pace = Pace(Path(self.enterContext(tempfile.TemporaryDirectory())) / "pace.json")
        asked = []

        def scene(frames: int) -> Scene:
            asked.append(frames)
            return parse_scene({**samples.tiny_scene(), "time": {"last": 2}})

        with mock.patch.object(measuring, "measured_scene", scene):
            measuring.measure(pace)
        self.assertEqual([n for n in dict.fromkeys(asked) if n > measuring.BEGINNING], [48, 192])

    def test_it_has_about_as_many_particles_as_it_says(self) -> None:
        found = liquid_size(measuring.measured_scene(12), SceneFiles(Path(".")), "final")
        self.assertAlmostEqual(found.particles / 15_000, 1.0, delta=0.2)


class Reckoning(SimpleTestCase):
    """What a scene says by itself."""

    def scene(self, elements: list[dict[str, Any]], **more: Any) -> Any:
        document = {
            "format": "zinc-scene/1",
            "name": "reckoned",
            "time": {"first": 1, "last": 25, "fps": 24},
            "domain": {"low": [-0.5, 0, -0.5], "size": [1, 1, 1]},
            "liquid": {"voxel_size": 0.05},
            "quality": {"draft": 1.0, "proof": 1.0},
            "elements": elements,
            **more,
        }
        return parse_scene(document)

    def drop(self, height: float) -> dict[str, Any]:
        shape = {"kind": "sphere", "radius": 0.15}
        return {"kind": "fill", "name": "Drop", "shape": shape, "pose": {"translation": [0, height, 0]}}

    def test_a_drop_is_as_fast_as_its_fall_makes_it(self) -> None:
        found = fastest(self.scene([self.drop(0.8)]), SceneFiles(Path(".")))
        self.assertAlmostEqual(found, CALMS * (2 * G * 0.8) ** 0.5, delta=0.02 * found)

    def test_a_stream_that_splashes_is_faster_than_its_fall(self) -> None:
        tap = {"kind": "inflow", "name": "Tap", "shape": {"kind": "disc"}, "velocity": [0, -1.0, 0]}
        tap["pose"] = {"translation": [0, 0.9, 0]}
        found = fastest(self.scene([tap]), SceneFiles(Path(".")))
        self.assertAlmostEqual(found, SPLASHES * (1.0 + 2 * G * 0.9) ** 0.5, delta=0.02 * found)

    def test_particles_come_with_an_inflow_and_with_fills_of_later_frames(self) -> None:
        late = {**self.drop(0.8), "start_frame": 13}
        tap = {"kind": "inflow", "name": "Tap", "shape": {"kind": "disc"}, "amount": "flow", "flow": 12.0}
        tap["pose"] = {"translation": [0, 0.9, 0]}
        over = liquid_size(self.scene([late, tap]), SceneFiles(Path(".")), "draft").over
        drop = 4 / 3 * 3.14159 * 0.15**3
        self.assertAlmostEqual(over[11], 12e-3 * 11 / 24 / 0.05**3 * 8, delta=2)
        self.assertAlmostEqual(over[12], (12e-3 * 12 / 24 + drop) / 0.05**3 * 8, delta=0.03 * over[12])

    def test_a_solid_that_stirs_makes_waves_that_are_faster_than_it(self) -> None:
        pool = {"kind": "fill", "name": "Pool", "shape": {"kind": "box", "size": [1, 0.3, 1]}}
        pool["pose"] = {"translation": [0, 0.15, 0]}
        wall = {"kind": "collider", "name": "Wall", "shape": {"kind": "box", "size": [0.1, 1, 1]}}
        ends = [{"time": t, "value": [-0.4 + 0.2 * t, 0.5, 0], "segment": "linear"} for t in (0.0, 1.0)]
        still = fastest(self.scene([pool, wall]), SceneFiles(Path(".")))
        moved = fastest(self.scene([pool, {**wall, "pose": {"translation": {"keys": ends}}}]), SceneFiles(Path(".")))
        # the wall's speed, and a share of that of a fall from the domain's height
        self.assertAlmostEqual(moved, 0.2 + STIRS * G**0.5, delta=0.02 * moved)
        self.assertGreater(moved, still)

    def test_what_is_poured_or_driven_has_more_surface_than_what_lies(self) -> None:
        wind = {"kind": "force", "name": "Wind", "effect": {"kind": "wind", "velocity": [6, 0, 0]}}
        tap = {"kind": "inflow", "name": "Tap", "shape": {"kind": "disc"}, "amount": "flow", "flow": 12.0}
        tap["pose"] = {"translation": [0, 0.9, 0]}
        files = SceneFiles(Path("."))
        lies, driven, mixed = (
            liquid_size(self.scene(elements), files, "draft")
            for elements in ([self.drop(0.8)], [self.drop(0.8), wind], [self.drop(0.8), tap])
        )
        self.assertEqual(float(lies.strewn.max()), 0.0)
        np.testing.assert_allclose(driven.strewn, driven.over)
        self.assertAlmostEqual(float(mixed.strewn[24]), 12e-3 / 0.05**3 * 8, delta=2)
        plain = self.scene([self.drop(0.8)])
        times = [liquid_seconds(s, plain, files, "draft") for s in (lies, replace(lies, strewn=lies.over))]
        self.assertGreater(times[1], times[0])
        large = [replace(size, over=1000 * lies.over, strewn=1000 * size.strewn) for size in (lies, driven)]
        most = [liquid_seconds(size, plain, files, "draft") for size in large]
        self.assertLess(most[1] / most[0], SPREADS)  # the surface alone is as much more
        # what wind drives is a body still; a stream's mesh is of films and drops
        np.testing.assert_array_equal(driven.poured, 0.0)
        np.testing.assert_array_equal(mixed.poured, mixed.strewn)
        meshed = [
            surface_seconds(replace(lies, poured=some), plain) for some in (lies.poured, 0.5 * lies.over, lies.over)
        ]
        self.assertGreater(meshed[2] - meshed[1], meshed[1] - meshed[0])  # finer streams have more films and drops
        self.assertGreater(meshed[1], meshed[0])

    def test_a_budget_gives_the_voxel(self) -> None:
        job = Job(self.scene([self.drop(0.8)]), SceneFiles(Path(".")), Cache(Path("none")), "draft")
        voxel = voxel_for(job, "particles", 50_000)
        # eight to a cell in the volume of the ball
        self.assertAlmostEqual(voxel, (4 / 3 * 3.14159 * 0.15**3 * 8 / 50_000) ** (1 / 3), delta=0.02 * voxel)
        for what, value in (("memory", 2e9), ("seconds", 120.0)):
            document = job.scene.model_dump(mode="json")
            document["liquid"]["voxel_size"] = voxel_for(job, what, value)
            found = forecast(Job(parse_scene(document), job.files, job.cache, "draft"))
            told = {"memory": found.memory, "seconds": found.seconds.likely}[what]
            self.assertAlmostEqual(told, value, delta=0.1 * value)
        with self.assertRaisesRegex(ValueError, "no voxel"):
            voxel_for(job, "particles", 1.0)

    def test_a_run_takes_about_as_long(self) -> None:
        pool = {"kind": "fill", "name": "Pool", "shape": {"kind": "box", "size": [1, 0.3, 1]}}
        pool["pose"] = {"translation": [0, 0.15, 0]}
        scene = self.scene([pool, self.drop(0.8)], liquid={"voxel_size": 0.04})
        files = SceneFiles(Path("."))
        reckoned = liquid_seconds(liquid_size(scene, files, "draft"), scene, files, "draft")
        with tempfile.TemporaryDirectory() as folder:
            list(
                run(scene, Path("."), Cache(Path(folder) / "warm"), stages=("liquid",), quality="draft", frames=(1, 2))
            )
            begun = time.process_time()
            list(run(scene, Path("."), Cache(Path(folder) / "run"), stages=("liquid",), quality="draft"))
            took = time.process_time() - begun
        # seconds of a processor: what others do on the machine does not count
        self.assertLess(reckoned / took, 3.0)
        self.assertLess(took / reckoned, 5.0)
