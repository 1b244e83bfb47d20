"""How foam, spray and bubbles live: laws of the literature along their ways, kinds, lives, and what is asked for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numba
import numpy as np
from django.test import SimpleTestCase
from scipy.stats import kstest

from basin.whitewater import births, life
from basin.whitewater.births import born
from basin.whitewater.fields import Between, Grid
from basin.whitewater.laws import Fluids, terminal
from basin.whitewater.life import BUBBLE, FOAM, SPRAY, Around, Life, Whitewater, depth_at
from basin.whitewater.rafts import drifts
from basin.whitewater.settings import Layer
from tests.basin.test_whitewater import VOXEL, grid

WATER = Fluids()
DOWN = np.array([0.0, -9.80665, 0.0])
STILL = np.zeros(3)
MIDDLE = 1.2  # of the grids, m
Flow = Callable[[np.ndarray], np.ndarray]


def flat(height: float = MIDDLE) -> Flow:
    """The level of liquid up to a height."""
    return lambda at: np.clip(at[..., 1] - height, -0.25, 0.25)


def steady(velocity: np.ndarray) -> Flow:
    """The same flow everywhere."""
    return lambda at: np.broadcast_to(velocity, at.shape)


def around(before: Grid, after: Grid, seconds: float, **more: Any) -> Around:
    """No walls, no solids."""
    open_, wide = np.zeros((3, 2), bool), np.full(3, 1e4)
    given = {"gravity": DOWN, "low": -wide, "high": wide, "closed": open_, "periodic": np.zeros(3, bool), **more}
    return Around(before, after, seconds, **given)


def some(kind: int, position: np.ndarray, radius: float, velocity: np.ndarray = STILL, **more: Any) -> Whitewater:
    """Whitewater of a kind at places (n, 3)."""
    n = len(position)
    row = {
        "position": np.asarray(position, np.float32),
        "velocity": np.broadcast_to(np.asarray(velocity, np.float32), (n, 3)).copy(),
        "id": np.zeros(n, np.int64),
        "source": np.zeros(n, np.uint8),
        "radius": np.full(n, radius, np.float32),
        "kind": np.full(n, kind, np.uint8),
        "layer": np.zeros(n, np.uint8),
        "seen": np.full((n, 3), np.nan, np.float32),
        **{name: np.zeros(n, np.float32) for name in ("age", "patience", "spent", "begins")},
    }
    return Whitewater(**{**row, **more})


def lives(layer: Layer, newborn: Whitewater, frames: int, seconds: float, **more: Any) -> Life:
    """What is born in the first of some frames lives through them, over water at rest."""
    water = grid(flat(), steady(STILL))
    made = Life([layer], WATER)
    for frame in range(frames):
        fresh = newborn if frame == 0 else newborn.only(np.zeros(len(newborn), bool))
        made.frame(around(water, water, seconds, **more), fresh)
    return made


class Ordered(SimpleTestCase):
    """Whitewater lies in order of place, so that neighbours are looked up together; what becomes of it is the same."""

    def test_neighbours_lie_together_and_none_is_lost(self) -> None:
        """As NumPy's stable sort by the same blocks has them; fields look up the same."""
        water = grid(flat(), steady(STILL))
        between = Between(water, water)
        place = np.random.default_rng(3).uniform(0.2, 2.2, (5000, 3)).astype(np.float32)
        order = between.in_order(place)
        assert order is not None
        self.assertIsNone(between.in_order(place[order]))
        self.assertEqual(sorted(order.tolist()), list(range(5000)))
        cell = np.floor((place[order] - between.low) / between.voxel).astype(int) // 4
        changes = 1 + int((np.diff(cell, axis=0) != 0).any(axis=1).sum())
        self.assertEqual(changes, len(np.unique(cell, axis=0)))
        within = np.flatnonzero((cell[1:] == cell[:-1]).all(axis=1))
        self.assertTrue((order[within + 1] > order[within]).all())

    def test_the_order_in_which_they_come_changes_nothing(self) -> None:
        """Spray without foam to drift among: the same ids at the same places, to the last bit."""
        chance = np.random.default_rng(4)
        at = chance.uniform([0.4, 1.3, 0.4], [2.0, 2.0, 2.0], (400, 3))
        found = []
        for turn in (slice(None), slice(None, None, -1)):
            made = lives(Layer(lands=0.0), some(SPRAY, at[turn], 1e-3), 5, 1 / 24).state
            found.append(made.position[np.lexsort(made.position.T)])
        np.testing.assert_array_equal(*found)


class Spray(SimpleTestCase):
    """Cases F01 and F04: what flies."""

    def falling(self, radius: float, seconds: float, frames: int) -> list[float]:
        """Speeds of a drop that begins at rest, after each frame."""
        water = grid(flat(), steady(STILL))
        made, speeds = Life([Layer(scatter=0.0)], WATER), []
        newborn = some(SPRAY, np.array([[1.2, 500.0, 1.2]]), radius)
        for _ in range(frames):
            made.frame(around(water, water, seconds), newborn)
            newborn = newborn.only(np.zeros(len(newborn), bool))
            speeds.append(float(-made.state.velocity[0, 1]))
        return speeds

    def test_drops_fall_as_fast_as_raindrops(self) -> None:
        """Gunn & Kinzer 1949, as in `Falling`, reached on the way and never overshot, however long the frames."""
        for size, speed in ((0.5, 2.06), (1, 4.03), (2, 6.49), (3, 8.06)):
            for seconds in (1 / 24, 0.5):
                speeds = self.falling(size / 2e3, seconds, round(6 / seconds))
                self.assertAlmostEqual(speeds[-1] / speed, 1.0, delta=0.06, msg=f"{size} mm")
                self.assertLess(max(speeds), 1.02 * speeds[-1], f"{size} mm in frames of {seconds} s")

    def constant(self, made: Life, rate: float) -> None:
        """Drag in proportion to the speed, whatever the size."""
        rates, falls, hold = made._drops
        made._drops = np.full_like(rates, rate), np.full_like(falls, 0.0), np.full_like(hold, rate)

    def test_linear_drag(self) -> None:
        """x(1) = 3.1478, y(1) = 0.5428 m with a rate of 0.5 1/s from (4, 6) m/s, within 0.5 % (case F04)."""
        for frames in (1, 24):
            made = Life([Layer()], WATER)
            self.constant(made, 0.5)
            newborn = some(SPRAY, np.array([[0.0, 100.0, 0.0]]), 1e-3, np.array([4.0, 6.0, 0.0]))
            empty = grid(lambda at: np.full(at.shape[:-1], 0.25), steady(STILL))
            gravity = np.array([0.0, -9.81, 0.0])
            for _ in range(frames):
                made.frame(around(empty, empty, 1.0 / frames, gravity=gravity), newborn)
                newborn = newborn.only(np.zeros(len(newborn), bool))
            x, y, _ = made.state.position[0] - [0.0, 100.0, 0.0]
            self.assertAlmostEqual(float(x) / 3.1478, 1.0, delta=5e-3)
            self.assertAlmostEqual(float(y) / 0.5428, 1.0, delta=5e-3)

    def test_stopping_distance(self) -> None:
        """A droplet of 20 um stops after its speed times rho d^2 / 18 mu of air (Stokes), within 5 % at 0.05 m/s."""
        size, speed = 2e-5, 0.05
        newborn = some(SPRAY, np.array([[0.0, 50.0, 0.0]]), size / 2, np.array([speed, 0.0, 0.0]))
        made = lives(Layer(), newborn, 24, 1 / 24, gravity=STILL)
        time = WATER.density * size**2 / (18 * 1.82e-5)
        self.assertAlmostEqual(float(made.state.position[0, 0]) / (speed * time), 1.0, delta=0.05)

    def test_wind_carries_it(self) -> None:
        """A small one to its own speed; one of 2 mm, which falls at 6.5 m/s, needs that over g, 0.66 s, for most."""

        def wind(state: Whitewater, _share: float, _s: float) -> tuple[np.ndarray, np.ndarray]:
            return np.tile([6.0, 0.0, 0.0], (len(state), 1)), np.zeros((len(state), 3))

        at = np.array([[0.0, 300.0, 0.0]])
        speeds = [
            float(lives(Layer(), some(SPRAY, at, radius), 12, 1 / 24, air=wind).state.velocity[0, 0])
            for radius in (5e-5, 1e-3)
        ]
        self.assertAlmostEqual(speeds[0], 6.0, delta=0.05)
        self.assertLess(speeds[1], 6.0 * (1 - np.exp(-0.5 / 0.66)))
        calm = lives(Layer(windage=0.0), some(SPRAY, at, 5e-5), 12, 1 / 24, air=wind).state.velocity[0]
        np.testing.assert_allclose(calm, [0.0, -9.80665 * 0.5, 0.0], atol=1e-3)

    def test_what_falls_back_hard_throws_drops(self) -> None:
        """Two for each of those of 2 mm at 6 m/s: We^(1/2) Re^(1/4) is 330, of those of 0.2 mm at 0.5 m/s 2.5, of
        which 57.7 splash (Mundo, Sommerfeld & Tropea 1995). What is thrown goes up, and is smaller and slower."""
        across = np.random.default_rng(2).uniform(MIDDLE - 0.3, MIDDLE + 0.3, (400, 2))
        at = np.column_stack([across[:, 0], np.full(400, MIDDLE + 0.02), across[:, 1]])
        found = []
        for radius, speed in ((1e-3, 6.0), (1e-4, 0.5)):
            made = lives(
                Layer(splashes=2.0, lands=0.0), some(SPRAY, at, radius, np.array([0, -speed, 0])), 4, 1 / 96
            ).state
            found.append(made.only(made.source == life.OF_IMPACT))
        self.assertAlmostEqual(len(found[0]) / 400, 2.0, delta=0.25)
        self.assertEqual(len(found[1]), 0)
        self.assertTrue((found[0].kind == SPRAY).all())
        self.assertTrue((found[0].radius < 0.5e-3).all())
        self.assertLess(float(np.linalg.norm(found[0].velocity, axis=1).max()), 3.0)
        self.assertTrue((found[0].position[:, 1] > MIDDLE - VOXEL).all())

    def test_wind_drives_foam_and_pushes_move_bubbles(self) -> None:
        """Foam by 3 % of the wind (Wu 1975, "Wind-induced drift currents", from memory); a bubble that is pushed aside
        as hard as it is lifted goes at 45 degrees."""

        def blows(state: Whitewater, _share: float, _s: float) -> tuple[np.ndarray, np.ndarray]:
            return np.tile([10.0, 0.0, 0.0], (len(state), 1)), np.zeros((len(state), 3))

        on = np.full((1, 3), MIDDLE)
        foam = lives(Layer(foam_life=1000.0, clings=0.0), some(FOAM, on, 1e-3, patience=np.ones(1, np.float32)), 24,
                     1 / 24, air=blows).state  # fmt: skip
        self.assertAlmostEqual(float(foam.position[0, 0]) - MIDDLE, 0.3, delta=0.01)
        lifted = (WATER.density - 1.204) / (1.204 + 0.5 * WATER.density) * 9.80665

        def pushes(state: Whitewater, _share: float, _s: float) -> tuple[np.ndarray, np.ndarray]:
            return np.zeros((len(state), 3)), np.tile([lifted, 0.0, 0.0], (len(state), 1))

        deep = np.array([[MIDDLE, 0.6, MIDDLE]])
        bubble = lives(Layer(), some(BUBBLE, deep, 5e-4), 24, 1 / 24, air=pushes).state
        way = bubble.position[0] - deep[0]
        self.assertAlmostEqual(float(way[0] / way[1]), 1.0, delta=0.02)

    def test_what_falls_back_becomes_foam_by_its_share(self) -> None:
        at = np.random.default_rng(2).uniform([0.4, 1.5, 0.4], [2.0, 1.9, 2.0], (4000, 3))
        for share in (0.0, 0.3, 1.0):
            made = lives(Layer(lands=share, foam_life=1000.0), some(SPRAY, at, 1e-3), 24, 1 / 24)
            self.assertAlmostEqual(len(made.state) / 4000, share, delta=0.03)
            self.assertTrue((made.state.kind == FOAM).all())

    def test_drops_on_a_wall_dry(self) -> None:
        """By an exponential law of a second in the mean (ours): e^-1, e^-2 are left of 4,000, within 4 deviations."""
        at = np.random.default_rng(3).uniform([0.4, 1.9, 0.4], [2.0, 1.9, 2.0], (4000, 3))
        floor = np.array([[False, False], [True, False], [False, False]])
        low = np.array([-1e4, 1.9, -1e4])
        for seconds in (1.0, 2.0):
            made = lives(Layer(), some(SPRAY, at, 1e-3), round(24 * seconds), 1 / 24, low=low, closed=floor)
            expected = np.exp(-seconds)
            off = 4 * np.sqrt(expected * (1 - expected) / 4000)
            self.assertAlmostEqual(len(made.state) / 4000, expected, delta=off + 1 / 24)

    def test_births_over_a_frame_show_no_pulses(self) -> None:
        """A jet that gives birth evenly lays an even line: its spectrum at the frames' and substeps' rate is under 5 %
        of its mean (spectral test of an even line; the same with no drag nor weight)."""
        seconds, speed, frames = 1 / 24, 6.0, 8
        water = grid(flat(0.3), steady(np.array([speed, 0.0, 0.0])))
        made = Life([Layer(windage=0.0, scatter=0.0)], WATER)
        way = np.array([[speed, 0.0, 0.0]])
        for frame in range(frames):
            end = np.array([[0.0, 5.0, 0.0]])  # the nozzle stands still, what leaves it goes on
            found = born(np.array([20_000.0]), end, way, np.array([1e-4]), np.array([1]), frame, seconds)
            ahead = np.outer(1 - found.moment, [speed * seconds, 0, 0])
            newborn = some(SPRAY, found.position + ahead, 1e-3, way[0], begins=found.moment.astype(np.float32))
            made.frame(around(water, water, seconds, gravity=STILL), newborn)
        x = made.state.position[:, 0] / (speed * seconds)  # frames
        self.assertGreater(len(x), 150_000)
        for waves in (1, *range(2, 9)):
            self.assertLess(abs(np.exp(2j * np.pi * waves * x).mean()), 0.05, f"{waves} a frame")


class Bubbles(SimpleTestCase):
    """Case F05: what rises."""

    def rise(self, radius: float, seconds: float) -> float:
        """Speed in still water, in the mean over the second half of half a metre."""
        newborn = some(BUBBLE, np.array([[1.2, 0.5, 1.2]]), radius)
        made = lives(Layer(), newborn, round(1.2 / seconds), seconds)
        return float(made.state.velocity[0, 1])

    def test_speed(self) -> None:
        """0.18 to 0.30 m/s of 2 to 10 mm (Clift, Grace & Weber 1978), the same in steps of 1/24 and 1/240 s."""
        for size in (2, 3, 5, 8, 10):
            speeds = [self.rise(size / 2e3, seconds) for seconds in (1 / 24, 1 / 240)]
            self.assertTrue(0.18 <= speeds[0] <= 0.30, f"{size} mm: {speeds[0]:.3f}")
            self.assertAlmostEqual(speeds[0] / speeds[1], 1.0, delta=0.01)
            law = terminal(True, size * 1e-3, WATER.row())
            self.assertAlmostEqual(speeds[0] / law, 1.0, delta=0.01)

    def test_in_water_that_falls_freely_it_stays_where_it_is(self) -> None:
        """There is no pressure in it, so nothing lifts (Einstein's lift): under a third of its speed at rest, as
        what it feels is a substep late."""
        seconds, made = 1 / 24, Life([Layer()], WATER)
        newborn = some(BUBBLE, np.array([[1.2, 1.0, 1.2]]), 2e-3)
        deep = lambda at: np.full(at.shape[:-1], -0.25)  # noqa: E731
        for frame in range(4):
            ends = [grid(deep, steady(DOWN * seconds * (frame + n))) for n in (0, 1)]
            made.frame(around(*ends, seconds), newborn)
            newborn = newborn.only(np.zeros(len(newborn), bool))
        against = made.state.velocity[0] - made.state.seen[0]
        self.assertLess(abs(float(against[1])), 0.3 * terminal(True, 4e-3, WATER.row()))

    def test_it_becomes_foam_at_the_surface_and_stays_foam(self) -> None:
        newborn = some(BUBBLE, np.array([[1.2, 1.0, 1.2]]), 2e-3)
        made = lives(Layer(foam_life=1000.0), newborn, 72, 1 / 24)
        self.assertEqual(made.state.kind.tolist(), [FOAM])
        self.assertAlmostEqual(float(made.state.position[0, 1]), MIDDLE, delta=0.05 * VOXEL)

    def test_bursts_throw_droplets_up(self) -> None:
        """As many as asked for in the mean, a tenth as large, upwards (Lhuissier & Villermaux 2012)."""
        at = np.random.default_rng(4).uniform([0.6, MIDDLE, 0.6], [1.8, MIDDLE, 1.8], (3000, 3))
        made = Life([Layer(foam_life=1e-3, bursts=2.5)], WATER)
        water = grid(flat(), steady(STILL))
        told = made.frame(around(water, water, 0.01), some(FOAM, at, 1e-3))
        assert told is not None
        drops = made.state.only(made.state.source == 3)
        self.assertAlmostEqual(len(drops) / told["popped"], 2.5, delta=0.1)
        np.testing.assert_allclose(drops.radius, 1e-4, rtol=1e-5)
        self.assertTrue((drops.kind == SPRAY).all())
        self.assertGreater(float((drops.velocity[:, 1] > 0).mean()), 0.9)
        self.assertEqual(len(np.unique(made.state.id)), len(made.state))


class Foam(SimpleTestCase):
    """What rides the surface."""

    def test_it_rides_a_surface_that_moves(self) -> None:
        """Within half a voxel of the surface at every frame (the issue's own limit), on a wave that rises and runs."""
        seconds, made = 1 / 24, Life([Layer(foam_life=3600.0, gathers=0.0, bursts=0.0)], WATER)
        rng = np.random.default_rng(7)

        def level(time: float) -> Flow:
            return lambda at: np.clip(
                at[..., 1] - MIDDLE - 0.15 * np.sin(4 * (at[..., 0] - 1.5 * time)) - 0.3 * time, -0.25, 0.25
            )

        flow = steady(np.array([0.4, 0.3, 0.1]))
        x = rng.uniform(0.5, 1.6, (2000, 2))
        newborn = some(FOAM, np.stack([x[:, 0], MIDDLE + 0.15 * np.sin(4 * x[:, 0]), x[:, 1]], axis=1), 1e-3)
        for frame in range(12):
            ends = [grid(level((frame + n) * seconds), flow) for n in (0, 1)]
            made.frame(around(*ends, seconds), newborn)
            newborn = newborn.only(np.zeros(len(newborn), bool))
            self.assertGreaterEqual(len(made.state), 1995)  # some pop by chance
            self.assertTrue((made.state.kind == FOAM).all())
            self.assertLess(float(np.abs(depth_at(ends[1], made.state.position)).max()), 0.5)

    def test_lives_are_exponential(self) -> None:
        """Of 20,000 alike, exp(-t / mean) are left (Kolmogorov-Smirnov), in long frames and short ones the same ids."""
        mean, at = 0.4, np.random.default_rng(5).uniform([0.6, MIDDLE, 0.6], [1.8, MIDDLE, 1.8], (20_000, 3))
        layer = Layer(foam_life=mean, hinze=1.0, pops=0.0, gathers=0.0, spreads=0.0, bursts=0.0)
        left = {}
        for seconds in (1 / 12, 1 / 48):
            for frames in (round(n * 0.25 / seconds) for n in (1, 2, 4)):
                made = lives(layer, some(FOAM, at, 1e-3), frames, seconds)
                expected = np.exp(-frames * seconds / mean)
                off = 4 * np.sqrt(expected * (1 - expected) / len(at))
                self.assertAlmostEqual(len(made.state) / len(at), expected, delta=off)
                left[seconds, round(frames * seconds, 3)] = made.state.id
        for time in (0.25, 0.5, 1.0):
            together = np.intersect1d(left[1 / 12, time], left[1 / 48, time])
            self.assertGreaterEqual(len(together), 0.9999 * len(left[1 / 12, time]))
        share = Life._sound(some(FOAM, at, 1e-3, id=np.arange(len(at)))).patience
        self.assertGreater(kstest(share, "expon").pvalue, 1e-3)

    def test_large_ones_pop_sooner(self) -> None:
        """Lives fall as the radius to the power asked for: four times as large, half as long by a half."""
        made = Life([Layer(foam_life=2.0, hinze=1.0, pops=0.5)], WATER)
        one = np.ones(2, np.float32)
        made.state = replace(some(FOAM, np.zeros((2, 3)), 1e-3), radius=np.float32([1e-3, 4e-3]), patience=one)
        np.testing.assert_allclose(made.whole_lives(), [2.0, 1.0], rtol=1e-5)

    def test_it_draws_together_where_there_is_more_and_gives_way_where_it_is_piled(self) -> None:
        between = life.Between(*[grid(flat(), steady(STILL))] * 2)
        rng = np.random.default_rng(6)
        thin = np.stack([rng.normal(1.2, 0.25, 4000), np.full(4000, MIDDLE), rng.uniform(0.4, 2.0, 4000)], axis=1)
        for size, sign in ((3e-3, -1.0), (1.2e-2, 1.0)):
            drift = drifts(
                thin, np.full(4000, size), np.zeros(4000, np.uint8), between, between.at(1.0, 1.0), *np.ones((2, 1))
            )
            side = (np.abs(thin[:, 0] - 1.2) > 0.1) & (np.abs(thin[:, 0] - 1.2) < 0.35)
            out = (drift[side, 0] * np.sign(thin[side, 0] - 1.2)).mean()
            self.assertGreater(sign * out, 0.05, f"{size}")
            self.assertLess(float(np.abs(drift[:, 1]).max()), 1e-3)  # along the surface


class Together(SimpleTestCase):
    """Chance, threads, frames."""

    def mixed(self, threads: int) -> Whitewater:
        rng = np.random.default_rng(11)
        at = rng.uniform(0.6, 1.8, (5000, 3))
        kind = np.where(at[:, 1] > 1.4, SPRAY, BUBBLE).astype(np.uint8)
        held = numba.get_num_threads()
        numba.set_num_threads(threads)
        try:
            made = lives(Layer(foam_life=0.2, bursts=1.0), replace(some(SPRAY, at, 1e-3), kind=kind), 12, 1 / 24)
        finally:
            numba.set_num_threads(held)
        return made.state

    def test_the_same_bits_by_one_thread_and_two(self) -> None:
        one, two = self.mixed(1), self.mixed(2)
        self.assertGreater(len(one), 500)
        for name, value in one.arrays().items():
            np.testing.assert_array_equal(value, two.arrays()[name], name)

    def test_counts_are_kept(self) -> None:
        """What was born is there, popped, left or landed and gone: nothing is lost on the way."""
        at = np.random.default_rng(12).uniform([0.6, 0.5, 0.6], [1.8, 1.9, 1.8], (3000, 3))
        kind = np.where(at[:, 1] > 1.3, SPRAY, BUBBLE).astype(np.uint8)
        water, made = grid(flat(), steady(STILL)), Life([Layer(foam_life=0.5, bursts=0.0, lands=0.0)], WATER)
        newborn, gone = replace(some(SPRAY, at, 1e-3), kind=kind), 0
        for _ in range(20):
            told = made.frame(around(water, water, 1 / 24), newborn)
            assert told is not None
            newborn = newborn.only(np.zeros(len(newborn), bool))
            gone += told["popped"] + told["left"] + told["landed"]
            self.assertEqual(gone + len(made.state), 3000)

    def test_kinds_at_birth(self) -> None:
        """Above the liquid spray, deep in it bubbles, between foam; of a crest spray; radii by their laws."""
        place = np.array([[1.2, 2.0, 1.2], [1.2, 0.6, 1.2], [1.2, 1.2, 1.2], [1.2, 1.19, 1.2]])
        found = births.Newborn(place, np.ones((4, 3)), np.zeros(4), np.arange(4), np.arange(4, dtype=np.uint64))
        parts = np.array([[1.0, 1.0, 1.0, 0.0], [0.0, 0.0, 0.0, 1.0]])
        water = grid(flat(), steady(STILL))
        made = births.whitewater(found, parts, [0, 1], Layer(), 1, lambda at: depth_at(water, at))
        self.assertEqual(made.kind.tolist(), [SPRAY, BUBBLE, FOAM, SPRAY])
        self.assertEqual(made.source.tolist(), [0, 0, 0, 1])
        # what is born goes neither by where nor by when: no correlation beyond chance
        way = np.tile([1.0, 0.0, 0.0], (1, 1))
        apart = births.born(np.array([40_000.0]), place[:1], way, np.array([0.01]), np.array([3]), 5, 0.04)
        drops = births.whitewater(apart, np.ones((1, 1)), [0], Layer(), 5, lambda at: np.full(len(at), -9.0))
        off = apart.position - place[0]
        chances = [np.hypot(off[:, 1], off[:, 2]), np.arctan2(off[:, 2], off[:, 1]), apart.moment]
        thrown = (drops.velocity - apart.velocity).T
        found_out = np.corrcoef([*chances, drops.radius, *thrown])[:3, 3:]
        self.assertLess(float(np.abs(found_out).max()), 4 / np.sqrt(len(drops)))
        many = replace(found, position=np.tile(place[1], (9000, 1)), velocity=np.ones((9000, 3)))
        many = replace(
            many, moment=np.zeros(9000), parent=np.zeros(9000, int), identity=np.arange(9000, dtype=np.uint64)
        )
        radius = births.whitewater(many, parts, [0, 1], Layer(), 1, lambda at: depth_at(water, at)).radius
        expected = births.bubble_radii((np.arange(9000) + 0.5) / 9000, 1e-3, 3e-4, 4e-3)
        self.assertGreater(kstest(radius, expected).pvalue, 1e-3)
