"""The sea's stages: runs, keys, restarts, what the viewport is given, costs, advice."""

from __future__ import annotations

import json
import struct
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.scene import Scene, SceneError, parse_scene
from basin.sea.field import STRETCHES
from basin.sea.folding import jacobian
from basin.stages.advice import checked
from basin.stages.bodies import bodies
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.run import run
from basin.stages.sea_stage import sea_of
from basin.stages.sea_told import presets, sea_told
from basin.stages.stage import Job, Look, all_keys, named, stages, usual

NOWHERE = SceneFiles(Path("/nowhere"))


def sea_scene(frames: int = 6, foam: dict[str, Any] | None = None, **sea: Any) -> Scene:
    """A small sea, and nothing else."""
    given = {"made": True, "wind": 12.0, "fetch": 20.0, "sets": [{"size": 80.0, "resolution": 64}], "unlike": 60.0}
    return parse_scene(
        {
            "format": "zinc-scene/1",
            "name": "sea",
            "time": {"first": 1, "last": frames},
            "sea": {**given, **sea},
            "sea_foam": {"run_up": 24, **(foam or {})},
        }
    )


def made(scene: Scene, folder: str, **given: Any) -> Cache:
    """All of its frames at final."""
    cache = Cache(Path(folder))
    for _ in run(scene, Path(folder), cache, **given):
        pass
    return cache


def unpacked(packed: bytes) -> dict[str, Any]:
    """A frame for the viewport, read as its layout says."""
    (length,) = struct.unpack("<I", packed[4:8])
    header: dict[str, Any] = json.loads(packed[8 : 8 + length])
    at = 8 + length
    for name, kind, size in header["arrays"]:
        header[name] = np.frombuffer(packed, np.dtype("<" + kind), size, at)
        at += -(-header[name].nbytes // 4) * 4
    return header


class Running(SimpleTestCase):
    """Frames of a sea that stands alone."""

    def test_a_shot_may_be_sea_alone(self) -> None:
        """Then nothing else is made, and nothing is said of liquid that is not there."""
        scene = sea_scene()
        self.assertEqual([stage.name for stage in usual(scene)], ["sea", "sea_foam"])
        self.assertEqual([s.name for s in stages().values() if s.concerns(scene)], ["sea", "sea_foam", "wake"])
        self.assertFalse([s for s in checked(scene, NOWHERE).remarks if "no fill" in s.says])
        dry = parse_scene({"format": "zinc-scene/1", "name": "dry"})
        self.assertNotIn("sea", [stage.name for stage in usual(dry)])
        self.assertFalse(stages()["sea"].concerns(dry))

    def test_frames_hold_what_the_sea_is(self) -> None:
        """Velocities are those of neighbouring frames' positions; readings those of the field."""
        scene = sea_scene(wind=7.0)
        with tempfile.TemporaryDirectory() as folder:
            store = made(scene, folder).stage("sea")
            before, now, after = (store.frame(n)["shift_0"].astype(float) for n in (3, 4, 5))
            rate = (after - before) / (2 / 24)
            velocity = store.frame(4)["velocity_0"].astype(float)[[1, 0, 2]]
            self.assertLess(float(np.abs(rate - velocity).max()), 0.05 * float(np.abs(velocity).max()))
            self.assertAlmostEqual(store.records()[4].readings["height"], 4 * now[0].std(), places=4)
            squeezed = jacobian(sea_of(scene, "final").fields(4)[0][STRETCHES], 1.0).min()
            self.assertAlmostEqual(store.records()[4].readings["squeezed"], float(squeezed), places=4)

    def test_the_same_bits_again_on_one_thread_and_after_a_stop(self) -> None:
        scene = sea_scene(8)
        with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as two:
            whole = made(scene, one, threads=2)
            made(scene, two, threads=1, frames=(1, 5))
            parts = made(scene, two, threads=1)
            for name in ("sea", "sea_foam"):
                for frame in (1, 6, 8):
                    first, second = whole.stage(name).frame(frame), parts.stage(name).frame(frame)
                    for array in first:
                        np.testing.assert_array_equal(first[array], second[array], f"{name} {frame} {array}")

    def test_keys_know_what_a_frame_depends_on(self) -> None:
        """A key of the wind at 3 leaves earlier frames current; how it is laid, and what foam's holes are like, all."""

        def keys(scene: Scene, stage: str = "sea") -> dict[int, str]:
            return all_keys(Job(scene, NOWHERE, Cache(Path("/nowhere")), "final"))[stage]

        plain, still = keys(sea_scene()), keys(sea_scene(), "sea_foam")
        wind = {"keys": [{"time": 0, "value": 12.0}, {"time": 2 / 24, "value": 12.0}, {"time": 1, "value": 14.0}]}
        turned = keys(sea_scene(wind=wind))
        self.assertEqual([n for n in plain if plain[n] != turned[n]], [4, 5, 6])
        self.assertEqual(plain, keys(sea_scene(unlike=500.0, level=2.0)))
        # of a hero the wind at its moment, of foam those by which its threshold is found
        late = {"keys": [{"time": 0.5, "value": 12.0}, {"time": 1, "value": 14.0}]}
        later = {"keys": [{"time": 0.5, "value": 12.0}, {"time": 1, "value": 15.0}]}
        hero = {"frame": 20, "height": 1.0}
        one, two = (keys(sea_scene(wind=wind, hero=hero)) for wind in (late, later))
        self.assertFalse(set(one.values()) & set(two.values()))
        one, two = (keys(sea_scene(wind=wind), "sea_foam") for wind in (late, later))
        self.assertFalse(set(one.values()) & set(two.values()))
        self.assertNotEqual(plain, keys(sea_scene(seed=2)))
        self.assertEqual(still, keys(sea_scene(foam={"pattern": 3.0}), "sea_foam"))
        self.assertNotEqual(still, keys(sea_scene(foam={"lace": 9.0}), "sea_foam"))
        self.assertEqual(plain, keys(sea_scene(foam={"lace": 9.0})))

    def test_foam_begins_in_balance(self) -> None:
        """What covers the sea in the first frames is about what covers it later; with no run-up it begins with none."""
        with tempfile.TemporaryDirectory() as folder:
            store = made(sea_scene(24, {"by": "share", "share": 0.05, "run_up": 120}), folder).stage("sea_foam")
            covered = [store.records()[n].readings["covered"] for n in range(1, 25)]
            self.assertTrue(2.5 < covered[0] < 10.0, covered[0])
            self.assertTrue(2.5 < np.mean(covered) < 10.0, np.mean(covered))
        with tempfile.TemporaryDirectory() as folder:
            store = made(sea_scene(2, {"by": "share", "share": 0.05, "run_up": 0}), folder).stage("sea_foam")
            self.assertLess(store.records()[1].readings["covered"], 2.5)

    def test_what_the_viewport_is_given(self) -> None:
        """Positions to sixteen bits, slopes as they are moved, the Jacobian and foam."""
        scene = sea_scene(1)
        with tempfile.TemporaryDirectory() as folder:
            cache = made(scene, folder)
            look = Look("", 1000, 0.0, bodies(scene))
            seen = unpacked(stages()["sea_foam"].pack(cache.stage("sea_foam"), 1, look))
            (patch,) = seen["patches"]
            moved = seen["shift_0"].reshape(64, 64, 3) / 65535 * patch["span"] + patch["low"]
            own = cache.stage("sea").frame(1)
            np.testing.assert_allclose(moved[..., 1], own["shift_0"][0], atol=1e-4)
            np.testing.assert_allclose(moved[..., 0], own["shift_0"][1], atol=1e-4)
            shade = seen["shade_0"].view("<f2").reshape(64, 64, 4).astype(float)
            np.testing.assert_allclose(shade[..., 3], cache.stage("sea_foam").frame(1)["foam"], atol=1e-3)
            # slopes over moved places, by differences of the moved surface along x where it hardly goes along z
            x = moved[..., 0] + np.arange(64)[:, None] * 80 / 64
            dx, dy = np.roll(x, -1, 0) - np.roll(x, 1, 0), np.roll(moved[..., 1], -1, 0) - np.roll(moved[..., 1], 1, 0)
            inner = slice(2, -2)
            correlated = np.corrcoef((dy / dx)[inner].ravel(), shade[inner, :, 0].ravel())[0, 1]
            self.assertGreater(correlated, 0.9)
            named_ = unpacked(stages()["sea"].pack(cache.stage("sea"), 1, Look("squeeze", 1000, 0.0, look.bodies)))
            self.assertEqual((named_["by"], sum(named_["histogram"])), ("squeeze", 64 * 64))

    def test_too_many_points_are_refused_before_anything_is_made(self) -> None:
        scene = sea_scene(sets=[{"size": 1000.0, "resolution": 16384}])
        found = forecast(Job(scene, NOWHERE, Cache(Path("/nowhere")), "final"))
        self.assertGreater(found.costs["sea"].memory, 16384**2 * 100)
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(SceneError) as caught:
            made(scene, folder)
        self.assertIn("16384 by 16384", str(caught.exception))


class Told(SimpleTestCase):
    """What is said of a sea."""

    def says(self, **sea: Any) -> list[str]:
        return [one.says for one in checked(sea_scene(**sea), NOWHERE).remarks if one.where.startswith("sea.")]

    def test_a_sea_that_is_well_set_has_no_advice(self) -> None:
        self.assertEqual(self.says(sets=[{"size": 160.0, "resolution": 512}]), [])

    def test_advice(self) -> None:
        well = [{"size": 160.0, "resolution": 512}]
        for given, words in (
            ({"wind": 0.0}, "no wind blows"),
            ({"sets": [{"size": 20.0, "resolution": 256}]}, "the patch is 20 m"),
            ({"sets": [{"size": 6000.0, "resolution": 64}]}, "points 93.8 m apart"),
            ({"sets": well, "depth": 1.0}, "in water 1 m deep"),
            ({"wind": 60.0}, "more than a hurricane"),
            ({"sets": well, "hero": {"height": 9.0}}, "a crest of 9 m"),
        ):
            self.assertTrue(any(words in one for one in self.says(**given)), (words, self.says(**given)))

    def test_a_remedy_mends_what_it_is_said_of(self) -> None:
        scene = sea_scene(sets=[{"size": 20.0, "resolution": 1024}])
        (advice,) = [a for a in checked(scene, NOWHERE).remarks if a.where == "sea.sets[0].size"]
        assert advice.remedy
        self.assertEqual(advice.remedy.path, ("sea", "sets", 0, "size"))
        self.assertEqual(self.says(sets=[{"size": advice.remedy.value, "resolution": 1024}]), [])

    def test_numbers_of_a_scene(self) -> None:
        told = sea_told(sea_scene(24, sets=[{"size": 160.0, "resolution": 128}]), "final")
        self.assertAlmostEqual(told.numbers.measured / told.numbers.held, 1.0, delta=0.15)
        self.assertLess(told.numbers.repeats, 0.05)
        # of the variance, a decade of lengths after the other
        length, energy = np.array(told.length), np.array(told.energy)
        self.assertAlmostEqual(float(-np.trapezoid(energy, np.log10(length))), 1.0, delta=0.05)
        self.assertIs(sea_told(sea_scene(24, sets=[{"size": 160.0, "resolution": 128}]), "final"), told)

    def test_seas_by_beaufort_s_force(self) -> None:
        """Heights of WMO's table; a fully grown sea of 2 m has a peak of 6.9 s (Pierson & Moskowitz 1964)."""
        fresh = next(p for p in presets() if p.name.startswith("5 "))
        self.assertEqual((fresh.height, fresh.wind), (2.0, 9.3))
        self.assertAlmostEqual(fresh.period, 6.9, delta=0.05)

    def test_there_is_one_list_of_stages(self) -> None:
        self.assertEqual([stage.name for stage in named(["sea", "sea_foam"])], ["sea", "sea_foam"])
