"""Mist: its mass is kept, it goes with the air that spray draws along, and it leaves as a density."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.exchange.vdb import read_vdb
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.deliver import deliver
from basin.stages.files import SceneFiles
from basin.stages.mist_stage import points_of
from basin.stages.run import RunFailure, run
from basin.stages.stage import Job, Look, all_keys, named, usual
from basin.whitewater.laws import AIR_DENSITY, Fluids, drop_grip, terminal
from basin.whitewater.mist import SOLID, WET, Box, Mist, Shed, Surroundings, _apart
from basin.whitewater.mist_settings import MistSettings
from tests.basin.test_whitewater_stage import HERE, Kept, splash

DOWN = np.array([0.0, -9.80665, 0.0])
STILL = np.zeros(3)
NOTHING = Shed(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0))
N, VOXEL = 24, 0.05
LASTING: dict[str, Any] = {"spreads": 0.0, "lives": 3600.0, "rests": 3600.0}


def mist(closed: bool = True, **settings: Any) -> Mist:
    """None yet, in a box of 1.2 m."""
    box = Box(np.zeros(3), VOXEL, (N, N, N), np.full((3, 2), closed))
    return Mist(MistSettings(**{**LASTING, **settings}), box, Fluids())


def around(wind: np.ndarray | None = None, state: np.ndarray | None = None) -> Surroundings:
    """Air alone, or what a state says."""
    held = np.zeros((N, N, N), np.uint8) if state is None else state
    blown = None if wind is None else np.broadcast_to(wind, (N, N, N, 3)).copy()
    return Surroundings(held, np.zeros((N, N, N, 3)), blown)


def middle(made: Mist) -> np.ndarray:
    """Where its mass is in the mean."""
    mean: np.ndarray = (made.mass[..., None] * made.box.middles()).sum(axis=(0, 1, 2)) / made.mass.sum()
    return mean


class Carried(SimpleTestCase):
    """What becomes of mass that is there."""

    def test_it_sinks_as_its_droplets_do(self) -> None:
        """At the terminal speed of 60 um droplets: 0.1 m/s (Stokes: 18 mu v = rho g d^2, a tenth too fast for them)."""
        made = mist(radius=30.0)
        made.mass[12, 12, 12] = 1.0
        begin = middle(made)
        for _ in range(24):
            made.frame(NOTHING, around(), DOWN, 1 / 24)
        stokes = 998.2 * 9.80665 * (6e-5) ** 2 / (18 * 1.82e-5)
        np.testing.assert_allclose((begin - middle(made)) / [1, stokes, 1], [0, 1, 0], atol=0.12)
        self.assertAlmostEqual(float(begin[1] - middle(made)[1]), terminal(False, 6e-5, Fluids().row()), delta=1e-4)

    def test_wind_carries_it_and_none_is_lost(self) -> None:
        made = mist(radius=0.01)
        made.mass[4, 12, 12] = 1.0
        begin = middle(made)
        for _ in range(12):
            told = made.frame(NOTHING, around(np.array([1.0, 0.0, 0.0])), DOWN, 1 / 24)
            assert told
        np.testing.assert_allclose(middle(made) - begin, [0.5, 0, 0], atol=1e-3)
        self.assertAlmostEqual(float(made.mass.sum()), np.exp(-0.5 / 3600), delta=1e-9)

    def test_what_goes_into_liquid_or_out_is_told_and_what_meets_a_solid_stays(self) -> None:
        for value, told_of in ((WET, "wet"), (SOLID, "")):
            made, state = mist(radius=0.01), np.zeros((N, N, N), np.uint8)
            made.mass[4, 12, 12] = 1.0
            state[8:] = value
            lost = 0.0
            for _ in range(24):
                told = made.frame(NOTHING, around(np.array([1.0, 0.0, 0.0]), state), STILL, 1 / 24)
                assert told
                lost += sum(told.values()) - told["given"]
                if told_of:
                    self.assertEqual(told["left"], 0.0)
            self.assertAlmostEqual(float(made.mass.sum()) + lost, 1.0, delta=1e-9)
            self.assertEqual(float(made.mass[8:].sum()), 0.0)
            self.assertAlmostEqual(float(made.mass.sum()), 0.0 if told_of else 1.0, delta=1e-3)
        made = mist(closed=False, radius=0.01)
        made.mass[22, 12, 12] = 1.0
        told = made.frame(NOTHING, around(np.array([5.0, 0.0, 0.0])), STILL, 1 / 24)
        assert told
        self.assertAlmostEqual(told["left"] + told["faded"] + float(made.mass.sum()), 1.0, delta=1e-9)
        self.assertGreater(told["left"], 0.9)

    def test_it_fades_and_spreads(self) -> None:
        """To exp(-1) in its life; its mean square way grows by 2 D t along each axis (Fick; 10 %)."""
        made = mist(radius=0.01, lives=1.0, spreads=0.01)
        made.mass[12, 12, 12] = 1.0
        for _ in range(24):
            made.frame(NOTHING, around(), STILL, 1 / 24)
        self.assertAlmostEqual(float(made.mass.sum()), np.exp(-1.0), delta=1e-6)
        off = made.box.middles()[..., 0] - middle(made)[0]
        self.assertAlmostEqual(float((made.mass * off**2).sum() / made.mass.sum()) / 0.02, 1.0, delta=0.1)


class Shedding(SimpleTestCase):
    """What spray gives to the air."""

    def test_mass_by_its_own_and_its_speed(self) -> None:
        """A drop of 1 mm at 4 m/s that sheds 0.05 of itself a second at 1 m/s: 0.2 of 4.2 mg in a second."""
        made = mist(tears=0.05, carries=0.0, radius=0.01)
        one = Shed(np.array([[0.6, 0.6, 0.6]]), np.array([[0.0, 0.0, 4.0]]), np.array([1e-3]))
        told = made.frame(one, around(), STILL, 0.05)
        assert told
        own = 4 / 3 * np.pi * 1e-9 * 998.2
        self.assertAlmostEqual(told["given"] / (own * 0.05 * 4.0 * 0.05), 1.0, delta=1e-6)
        self.assertAlmostEqual(float(made.mass.sum()) / told["given"], 1.0, delta=1e-4)

    def test_air_gets_the_momentum_that_drag_takes(self) -> None:
        """From Newton's third law: mass times grip times speed; within 2 %, before walls are felt."""
        made = mist(tears=0.0)
        speed, radius, seconds = 5.0, 1e-3, 1e-3
        one = Shed(np.array([[0.6, 0.6, 0.6]]), np.array([[0.0, -speed, 0.0]]), np.array([radius]))
        free = Mist.frame
        with apart_as_it_is():
            free(made, one, around(), STILL, seconds)
        given = float(made.air[..., 1].sum()) * AIR_DENSITY * VOXEL**3
        own = 4 / 3 * np.pi * radius**3 * 998.2
        taken = own * drop_grip(speed, 2 * radius, Fluids().row()) * speed * seconds
        self.assertAlmostEqual(-given / taken, 1.0, delta=0.02)

    def test_falling_spray_blows_outward_over_the_floor(self) -> None:
        """Air that is drawn down has to go somewhere (common knowledge of waterfalls, no source): outward below it,
        down amid it, and it gathers nowhere much."""
        chance = np.random.default_rng(1)
        low, high = [0.5, 0.2, 0.5], [0.7, 1.1, 0.7]
        place = chance.uniform(low, high, (4000, 3))
        shed = Shed(place, np.tile([0.0, -5.0, 0.0], (4000, 1)), np.full(4000, 1e-3))
        made = mist(rests=1.0)
        for _ in range(12):
            made.frame(shed, around(), DOWN, 1 / 24)
        self.assertLess(made.air[12, 12, 12, 1], -0.3)
        self.assertGreater(made.air[16, 1, 12, 0], 0.03)
        self.assertLess(made.air[7, 1, 12, 0], -0.03)


class apart_as_it_is:
    """Air is not driven apart, so that what it was given can be added up."""

    def __enter__(self) -> None:
        from basin.whitewater import mist as module

        self.module, self.own = module, module._apart
        module._apart = lambda _air, _voxel, _closed: None  # type: ignore[assignment]

    def __exit__(self, *_: object) -> None:
        self.module._apart = self.own


class Staged(Kept):
    """As a stage: declared, resumable, delivered."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.scene = cls.misty()
        list(run(cls.scene, HERE, cls.cache(), stages=("whitewater",)))
        list(run(cls.scene, HERE, cls.cache(), stages=("mist",)))

    @classmethod
    def misty(cls, **more: Any) -> Scene:
        return splash({"particles": 6000}, mist={"made": True, "tears": 100.0, "voxel": 0.04, **more})

    def test_it_is_made_where_a_scene_makes_it(self) -> None:
        self.assertIn("mist", [s.name for s in usual(self.scene)])
        self.assertNotIn("mist", [s.name for s in usual(splash({}))])

    def test_mass_is_told_to_the_last_milligram(self) -> None:
        """What came off is in the air, or told where it went (the shot has 20 frames)."""
        records = self.cache().stage("mist").records()
        came = sum(r.readings["given"] for r in records.values())
        went = sum(r.readings[name] for r in records.values() for name in ("wet", "left", "faded"))
        self.assertGreater(came, 0.1)
        self.assertAlmostEqual((records[20].readings["mist"] + went) / came, 1.0, delta=1e-6)

    def test_frames_hold_what_there_is(self) -> None:
        store = self.cache().stage("mist")
        data, told = store.frame(20), store.records()[20].readings["mist"]
        self.assertAlmostEqual(float(data["tile_density"].sum()) * 0.04**3 * 1000 / told, 1.0, delta=0.01)

    def test_it_goes_on_where_it_was_stopped_with_the_same_bits(self) -> None:
        whole = self.cache().stage("mist").frame(20)
        held = {name: np.array(whole[name]) for name in whole}
        self.cache().stage("mist").delete()
        seen = 0

        def stop() -> bool:
            nonlocal seen
            seen += 1
            return seen > 9

        list(run(self.scene, HERE, self.cache(), stages=("mist",), stop=stop))
        self.assertLess(len(self.cache().stage("mist").records()), 20)
        list(run(self.scene, HERE, self.cache(), stages=("mist",)))
        again = self.cache().stage("mist").frame(20)
        for name, value in held.items():
            np.testing.assert_array_equal(again[name], value)

    def test_its_settings_change_its_frames_alone(self) -> None:
        keys = [all_keys(Job(s, SceneFiles(HERE), self.cache(), "final")) for s in (self.scene, self.misty(lives=9.0))]
        self.assertEqual(keys[0]["whitewater"], keys[1]["whitewater"])
        self.assertNotEqual(keys[0]["mist"], keys[1]["mist"])

    def test_it_leaves_as_openvdb(self) -> None:
        """Read back by OpenVDB itself: the same mass, in a grid of fog."""
        row = {"name": "out", "format": "vdb", "mist": True, "first": 12, "last": 12}
        scene = parse_scene({**self.scene.model_dump(mode="json"), "deliveries": [row]})
        with tempfile.TemporaryDirectory() as folder:
            list(deliver(Job(scene, SceneFiles(HERE), self.cache(), "final"), scene.deliveries[0], Path(folder)))
            (path,) = (p for p in Path(folder).iterdir() if p.suffix == ".vdb")
            found = read_vdb(path)
        data = self.cache().stage("mist").frame(12)
        self.assertEqual(found["names"].tolist(), ["density", "velocity"])
        self.assertIn("fog", str(found["kind0"]).lower())
        self.assertAlmostEqual(float(found["values0"].sum()) / float(data["tile_density"].sum()), 1.0, delta=1e-5)
        matrix = found["matrix0"]
        np.testing.assert_allclose(np.diag(matrix)[:3], 0.04, rtol=1e-6)
        np.testing.assert_allclose(matrix[:3, 3], np.array(scene.domain.low) + 0.02, atol=1e-6)

    def test_points_stand_for_it(self) -> None:
        """As many as are asked for within chance, about the middle of its mass; packed as soft ones."""
        data = self.cache().stage("mist").frame(20)
        seen = points_of(data, 20_000)
        self.assertAlmostEqual(len(seen["id"]) / 20_000, 1.0, delta=0.03)
        index = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
        at = data["grid_low"] + (data["tile"][:, None, None, None] * 8 + index + 0.5) * 0.04
        mass = data["tile_density"][..., None]
        mean = (mass * at).sum(axis=(0, 1, 2, 3)) / mass.sum()
        np.testing.assert_allclose(seen["position"].mean(axis=0), mean, atol=0.01)
        (stage,) = named(["mist"])
        packed = stage.pack(self.cache().stage("mist"), 20, Look("density", 5000, 0.0, None))  # type: ignore[arg-type]
        header = json.loads(packed[8 : 8 + int.from_bytes(packed[4:8], "little")])
        # what all points take of the light is what droplets of 30 um do: twice their cross-sections
        one = np.pi / 3 * (1.4 * 0.04) ** 2
        number = float(data["tile_density"].sum()) * 0.04**3 / (4 / 3 * np.pi * (3e-5) ** 3 * 998.2)
        self.assertAlmostEqual(header["soft"] * header["count"] * one / (2 * number * np.pi * 9e-10), 1.0, delta=0.05)
        self.assertEqual(header["by"], "density")

    def test_bad_settings_are_told(self) -> None:
        with self.assertRaises(SceneError):
            self.misty(lives=-1.0)
        with tempfile.TemporaryDirectory() as folder, self.assertRaises((RunFailure, SceneError)) as told:
            list(run(self.misty(voxel=0.001), HERE, Cache(Path(folder)), stages=("mist",)))
        self.assertRegex(str(told.exception), "coarser voxel|GB|first")


class Parting(SimpleTestCase):
    """Air that gathers is driven apart, whatever the sides."""

    def test_air_passes_a_channel_that_is_open_at_both_ends_alone(self) -> None:
        """What does not gather goes on; where one end is closed, or both are, it rests (continuity). To rounding."""
        for low, high, goes in ((False, False, 1.0), (True, False, 0.0), (False, True, 0.0), (True, True, 0.0)):
            closed = np.array([[low, high], [True, True], [True, True]])
            air = np.zeros((N, N, N, 3))
            air[..., 0] = 1.0
            for _ in range(60):  # approximate: what one voxel's checks hide is left for the next
                _apart(air, VOXEL, closed)
            self.assertLess(float(np.abs(air[..., 0].mean() - goes)), 0.02, (low, high))

    def test_nothing_gathers_after(self) -> None:
        """Of any smooth air, for sides of all sorts: a tenth at most of what gathered before."""
        x = np.moveaxis(np.indices((N, N, N)), 0, -1) / N
        for closed in (np.zeros((3, 2), bool), np.ones((3, 2), bool), np.array([[1, 0], [0, 1], [0, 0]], bool)):
            air = np.stack(
                [np.exp(-20 * ((x - [0.5, 0.4, 0.6]) ** 2).sum(axis=-1)) * w for w in (1.0, -0.5, 0.3)], axis=-1
            )
            before = np.abs(gathers(air)).max()
            _apart(air, VOXEL, closed)
            self.assertLess(float(np.abs(gathers(air)[1:-1, 1:-1, 1:-1]).max()), 0.1 * before)

    def test_air_blown_at_an_open_side_leaves_with_its_mist(self) -> None:
        """A plug of mist in a wind along x is gone from an open box, and stays before a closed wall."""
        left = []
        for closed in (False, True):
            made = mist(closed=closed, carries=0.0)
            made.mass[12, 8:16, 8:16] = 1e-3
            made.air[..., 0] = 1.0
            for _ in range(48):
                made.frame(NOTHING, around(), STILL, 1 / 24)
            left.append(float(made.mass.sum()) / (64e-3))
        self.assertLess(left[0], 0.2)
        self.assertGreater(left[1], 0.6)


def gathers(air: np.ndarray) -> np.ndarray:
    """How fast air gathers in each voxel, by central differences."""
    return np.asarray(sum(np.gradient(air[..., d], VOXEL, axis=d) for d in range(3)))
