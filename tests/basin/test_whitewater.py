"""Foam, spray and bubbles: laws of the literature, and where air is trapped."""

from __future__ import annotations

from collections.abc import Callable

import numba
import numpy as np
from django.test import SimpleTestCase
from scipy.stats import kstest

from basin.whitewater import births, laws, potentials
from basin.whitewater.births import Wanted
from basin.whitewater.fields import Grid
from basin.whitewater.laws import AIR_DENSITY, AIR_VISCOSITY, Fluids

WATER = Fluids()
VOXEL, SPACING = 0.1, 0.05


def grid(level: Callable[[np.ndarray], np.ndarray], flow: Callable[[np.ndarray], np.ndarray]) -> Grid:
    """Three tiles a side, in voxels of 0.1 m, with a level (m) and a flow (m/s) by places (..., 3)."""
    tile = np.stack(np.meshgrid(*[np.arange(3)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    cell = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
    at = 8 * tile[:, None, None, None] + cell
    half = np.array([0.5, 0.5, 0.5])
    faces = [flow(VOXEL * (at + half - 0.5 * np.eye(3)[d]))[..., d] for d in range(3)]
    return Grid.of(np.zeros(3), VOXEL, tile, level(VOXEL * (at + half)), *faces)


def lattice(*kept: tuple[float, float]) -> np.ndarray:
    """Places on a cubic lattice about (1.2, 1.2, 1.2), within bounds along each axis."""
    line = [np.arange(low, high, SPACING) for low, high in kept]
    return np.stack(np.meshgrid(*line, indexing="ij"), axis=-1).reshape(-1, 3)


def everywhere(at: np.ndarray) -> np.ndarray:
    """A level far inside."""
    return np.full(at.shape[:-1], -0.25)


def turning(at: np.ndarray) -> np.ndarray:
    """As a solid, 3 rad/s about a leaning axis."""
    return np.cross(3.0 * np.array([2.0, 1.0, 2.0]) / 3.0, at - 1.2)


class Falling(SimpleTestCase):
    """Cases F01 and F02: how fast drops fall through air."""

    def test_drag_of_spheres(self) -> None:
        """Schiller & Naumann 1933, as the list of cases works it out."""
        for reynolds, expected in ((0.1, 247.4), (1, 27.60), (10, 4.151), (20, 2.610), (100, 1.092), (500, 0.563)):
            self.assertAlmostEqual(
                laws.sphere_drag(float(reynolds)) / expected, 1.0, delta=1e-3
            )  # the list has three digits
        self.assertEqual(laws.sphere_drag(5000.0), 0.44)

    def test_small_drops(self) -> None:
        """Spheres by that law fall at 0.0711, 0.248, 0.706 m/s (0.05, 0.1, 0.2 mm), within 2 %."""
        for size, speed in ((0.05, 0.0711), (0.1, 0.248), (0.2, 0.706)):
            self.assertAlmostEqual(laws.terminal(False, size * 1e-3, WATER.row()) / speed, 1.0, delta=0.02)

    def test_raindrops(self) -> None:
        """Gunn & Kinzer 1949, J Meteor 6: within 6 % up to 3 mm, within 10 % up to 5.8 mm."""
        for size, speed in ((0.5, 2.06), (1, 4.03), (2, 6.49), (3, 8.06), (4, 8.83), (5, 9.09), (5.8, 9.17)):
            off = 0.06 if size <= 3 else 0.1
            self.assertAlmostEqual(
                laws.terminal(False, size * 1e-3, WATER.row()) / speed, 1.0, delta=off, msg=str(size)
            )

    def test_drag_of_a_flattened_drop_comes_up_with_its_speed(self) -> None:
        size, fluids = 5e-3, WATER.row()
        slow = laws.sphere_drag(AIR_DENSITY * 0.1 * size / AIR_VISCOSITY)
        self.assertAlmostEqual(laws.drop_drag(0.1, size, fluids) / slow, 1.0, delta=1e-3)
        self.assertGreater(laws.drop_drag(9.0, size, fluids), 1.3 * 0.44)
        speeds = np.linspace(0.5, 20, 200)
        pulled = [laws.drop_drag(v, size, fluids) * v * v for v in speeds]
        self.assertTrue(np.all(np.diff(pulled) > 0))

    def test_the_wind_that_breaks_them(self) -> None:
        """Pilch & Erdman 1987: 7.26 mm at 10 m/s, 1.81 at 20, 29 at 5 (case F13)."""
        for speed, size in ((10, 7.26), (20, 1.81), (5, 29.0)):
            self.assertAlmostEqual(laws.breaks_up(speed, WATER) * 1e3 / size, 1.0, delta=0.01)
        self.assertGreater(laws.breaks_up(20, WATER, 0.1), laws.breaks_up(20, WATER))


class Rising(SimpleTestCase):
    """Cases F05 and F07: bubbles."""

    def test_speed(self) -> None:
        """Clift, Grace & Weber 1978: 0.18 to 0.30 m/s between 2 and 10 mm, 0.2 to 0.25 where water is not clean."""
        for size in (2, 3, 5, 8, 10):
            speed = laws.terminal(True, size * 1e-3, WATER.row())
            self.assertTrue(0.2 <= speed <= 0.255, f"{size} mm: {speed:.3f}")

    def test_caps(self) -> None:
        """Davies & Taylor 1950: 0.707 sqrt(g d) of a cap of 20 mm, within 5 %; Mendelson 1967 has 0.327."""
        speed = laws.terminal(True, 0.02, WATER.row())
        self.assertAlmostEqual(speed / (0.707 * np.sqrt(9.81 * 0.02)), 1.0, delta=0.05)

    def test_tiny_ones_by_stokes(self) -> None:
        """Stokes 1851: g d^2 / 18 nu, for a sphere that does not slip, of 0.05 mm, within 5 %."""
        size = 5e-5
        expected = 9.80665 * size**2 * (998.2 - AIR_DENSITY) / (18 * 1e-3)
        self.assertAlmostEqual(laws.terminal(True, size, WATER.row()) / expected, 1.0, delta=0.05)

    def test_largest_that_turbulence_leaves_whole(self) -> None:
        """Hinze 1955, Deane & Stokes 2002 (We 4.7): radii of 2.75, 0.986, 0.436 mm at 1, 13, 100 W/kg."""
        for rate, radius in ((1, 2.75), (13, 0.986), (100, 0.436)):
            self.assertAlmostEqual(laws.hinze_radius(rate, WATER) * 1e3 / radius, 1.0, delta=5e-3)

    def test_numbers_by_size(self) -> None:
        """Deane & Stokes 2002: numbers fall as r^-3/2 up to Hinze's radius and as r^-10/3 beyond; slopes within 3 %."""
        share = (np.arange(400_000) + 0.5) / 400_000
        radius = laws.bubble_radii(share, 1e-3, 1e-4, 1e-2)
        self.assertGreaterEqual(float(radius.min()), 1e-4)
        self.assertLessEqual(float(radius.max()), 1e-2)
        for low, high, power in ((1e-4, 9e-4, -1.5), (1.1e-3, 6e-3, -10 / 3)):
            edges = np.geomspace(low, high, 12)
            count, _ = np.histogram(radius, edges)
            middle = np.sqrt(edges[:-1] * edges[1:])
            slope = np.polyfit(np.log(middle), np.log(count / np.diff(edges)), 1)[0]
            self.assertAlmostEqual(slope / power, 1.0, delta=0.03)
        # both laws meet at Hinze's radius
        below, _ = np.histogram(radius, [0.9e-3, 0.99e-3])
        above, _ = np.histogram(radius, [1.01e-3, 1.1e-3])
        self.assertAlmostEqual(float(above[0] / below[0]), 0.9**2.4, delta=0.15)

    def test_all_larger_or_all_smaller_than_hinze_s(self) -> None:
        share = (np.arange(1000) + 0.5) / 1000
        for hinze in (1e-6, 1.0):
            radius = laws.bubble_radii(share, hinze, 1e-4, 1e-2)
            self.assertTrue(np.isfinite(radius).all())
            self.assertTrue(np.all(np.diff(radius) > 0))
            self.assertTrue(radius[0] >= 1e-4 and radius[-1] <= 1e-2)


class Sizes(SimpleTestCase):
    """Drops of ligaments."""

    def test_a_gamma_distribution(self) -> None:
        """Villermaux, Marmottant & Duplat 2004: mean as asked, variance mean^2 / order (of a gamma distribution)."""
        share = (np.arange(200_000) + 0.5) / 200_000
        radius = laws.drop_radii(share, 2e-4)
        self.assertAlmostEqual(float(radius.mean()) / 2e-4, 1.0, delta=2e-3)
        self.assertAlmostEqual(float(radius.var()) / (2e-4**2 / 4), 1.0, delta=0.01)


class Potentials(SimpleTestCase):
    """Cases F09 and F10 (Ihmsen, Akinci, Akinci & Teschner 2012): where air is trapped, on known fields."""

    def amid(self, flow: Callable[[np.ndarray], np.ndarray]) -> dict[str, float]:
        """Of a particle amid a lattice two spacings from anything else."""
        at = lattice((1.0, 1.42), (1.0, 1.42), (1.0, 1.42))
        at = np.random.default_rng(1).permutation(at)  # in no order
        found, _, _ = potentials.potentials(at, flow(at), SPACING, grid(everywhere, flow))
        middle = int(np.argmin(np.linalg.norm(at - 1.2, axis=1)))
        return {name: float(value[middle]) for name, value in found.items()}

    def test_compression(self) -> None:
        """2 a h 4.9135 where all comes together at a rate a and the reach h is two spacings."""
        found = self.amid(lambda at: -3.0 * (at - 1.2))
        self.assertAlmostEqual(found["trapped"] / (2 * 3.0 * 0.1 * 4.9135), 1.0, delta=2e-5)

    def test_what_parts_or_goes_along_traps_nothing(self) -> None:
        self.assertAlmostEqual(self.amid(lambda at: 3.0 * (at - 1.2))["trapped"], 0.0, delta=1e-5)
        still = self.amid(lambda at: np.broadcast_to([2.0, -1.0, 0.5], at.shape))
        self.assertAlmostEqual(still["trapped"], 0.0, delta=1e-5)
        self.assertAlmostEqual(still["vorticity"], 0.0, delta=1e-4)
        self.assertAlmostEqual(still["energy"], 2.625, places=5)

    def test_turning(self) -> None:
        """The sum of |v_ij| W, not nothing; the curl is twice the rate."""
        found = self.amid(turning)
        place = lattice((1.0, 1.42), (1.0, 1.42), (1.0, 1.42)) - 1.2
        weight = np.maximum(1 - np.linalg.norm(place, axis=1) / 0.1, 0)
        expected = (np.linalg.norm(turning(place + 1.2), axis=1) * weight).sum()
        self.assertAlmostEqual(found["trapped"] / expected, 1.0, delta=1e-4)
        self.assertAlmostEqual(found["vorticity"] / 6.0, 1.0, delta=1e-4)

    def test_two_that_meet(self) -> None:
        """Twice their speed times W if they come together, once if they pass, nothing if they part."""
        at = np.array([[1.2, 1.2, 1.2], [1.24, 1.2, 1.2]])
        for way, times in (([-1.0, 0.0, 0.0], 2.0), ([0.0, 1.0, 0.0], 1.0), ([1.0, 0.0, 0.0], 0.0)):
            velocity = np.array([[0.0, 0.0, 0.0], way])
            found, _, _ = potentials.potentials(at, velocity, SPACING, grid(everywhere, turning))
            np.testing.assert_allclose(found["trapped"], times * (1 - 0.04 / 0.1), atol=1e-5)

    def bent(self, curved: float, up: float) -> float:
        """Largest crest of a surface that lies at 1.2 + curved (x^2 + z^2) amid, and moves up at a speed."""

        def above(at: np.ndarray) -> np.ndarray:
            return at[..., 1] - 1.2 - curved * ((at[..., 0] - 1.2) ** 2 + (at[..., 2] - 1.2) ** 2)

        at = lattice((0.9, 1.5), (0.9, 1.5), (0.9, 1.5))
        at = at[above(at) < 0]
        flow = np.broadcast_to([0.0, up, 0.0], at.shape)
        level = grid(lambda x: np.clip(above(x), -0.25, 0.25), lambda x: np.broadcast_to([0.0, up, 0.0], x.shape))
        found, normal, depth = potentials.potentials(at, flow, SPACING, level)
        amid = (np.hypot(at[:, 0] - 1.2, at[:, 2] - 1.2) < 0.06) & (depth < 0.6)
        self.assertTrue(amid.any())
        np.testing.assert_allclose(normal[amid][:, 1], 1.0, atol=0.05)
        return float(found["crest"][amid].max())

    def test_crests_are_convex_and_go_out(self) -> None:
        self.assertAlmostEqual(self.bent(0.0, 1.0), 0.0, places=4)
        self.assertGreater(self.bent(-3.0, 1.0), 0.05)
        self.assertEqual(self.bent(-3.0, -1.0), 0.0)  # it falls
        self.assertLess(self.bent(3.0, 1.0), 0.2 * self.bent(-3.0, 1.0))  # a hollow

    def test_ranges(self) -> None:
        """Phi of 5, 10, 12.5, 20 and 30 between 5 and 20 is 0, a third, a half, 1 and 1 (case F09)."""
        found = potentials.chosen(np.array([0.0, 5.0, 10.0, 12.5, 20.0, 30.0]), 5.0, 20.0)
        np.testing.assert_allclose(found, [0, 0, 1 / 3, 0.5, 1, 1], atol=1e-12)
        with self.assertRaisesRegex(ValueError, "upside down"):
            potentials.chosen(np.zeros(1), 3.0, 3.0)

    def test_none_and_one(self) -> None:
        for n in (0, 1):
            found, normal, _ = potentials.potentials(
                np.full((n, 3), 1.2), np.zeros((n, 3)), SPACING, grid(everywhere, turning)
            )
            self.assertEqual([len(v) for v in found.values()], [n] * 4)
            self.assertEqual(normal.shape, (n, 3))

    def test_the_same_bits_by_one_thread_and_two(self) -> None:
        rng = np.random.default_rng(3)
        at = rng.uniform(0.5, 1.9, (20_000, 3))
        held, found = numba.get_num_threads(), []
        for threads in (1, 2):
            numba.set_num_threads(threads)
            try:
                found.append(potentials.potentials(at, turning(at), 0.05, grid(everywhere, turning))[0])
            finally:
                numba.set_num_threads(held)
        for name, value in found[0].items():
            np.testing.assert_array_equal(value, found[1][name], name)


class Births(SimpleTestCase):
    """Case F11 and amounts: what is born is as many as asked, evenly over place and time."""

    def test_places_are_even_over_a_cylinder_about_the_way(self) -> None:
        """Ihmsen et al. 2012: E[r] = 2/3 of the radius, E[r^2] half of its square, evenly along, within 0.5 %."""
        way = np.array([[1.0, -2.0, 0.5]])
        found = births.born(np.array([2e5]), np.ones((1, 3)), way, np.array([0.02]), np.array([7]), 3, 0.1)
        along = way[0] / np.linalg.norm(way)
        off = found.position - 1.0
        far = off @ along
        r = np.linalg.norm(off - far[:, None] * along, axis=1)
        self.assertAlmostEqual(float(r.mean()) / (0.02 * 2 / 3), 1.0, delta=5e-3)
        self.assertAlmostEqual(float((r**2).mean()) / (0.02**2 / 2), 1.0, delta=5e-3)
        self.assertGreater(kstest(-far / (0.1 * np.linalg.norm(way)), "uniform").pvalue, 1e-3)
        self.assertGreater(kstest(found.moment, "uniform").pvalue, 1e-3)
        # all around it
        side = np.cross(along, [0.0, 0.0, 1.0])
        angle = np.arctan2(off @ np.cross(along, side / np.linalg.norm(side)), off @ (side / np.linalg.norm(side)))
        self.assertGreater(kstest((angle + np.pi) / (2 * np.pi), "uniform").pvalue, 1e-3)

    def test_the_mean_number_is_exact_however_few_are_expected(self) -> None:
        """Within 0.5 % over a hundred thousand, of 0.003 to 2.7 each; not rounded down."""
        rng = np.random.default_rng(5)
        identity = np.arange(100_000)
        for expected in (0.05, 0.3, 2.7):
            at, way = rng.uniform(0, 1, (len(identity), 3)), np.zeros((len(identity), 3))
            each = np.full(len(identity), expected)
            total = sum(
                len(births.born(each, at, way, np.full(len(at), 0.01), identity, frame, 0.04)) for frame in range(4)
            )
            self.assertAlmostEqual(total / (4 * expected * len(identity)), 1.0, delta=0.01 if expected < 0.1 else 5e-3)

    def test_they_are_the_same_in_any_order(self) -> None:
        rng = np.random.default_rng(6)
        at, way, identity = rng.uniform(0, 1, (500, 3)), rng.normal(size=(500, 3)), np.arange(500) * 3
        expected, radius = rng.uniform(0, 3, 500), np.full(500, 0.01)
        turn = rng.permutation(500)
        a = births.born(expected, at, way, radius, identity, 9, 0.04)
        b = births.born(expected[turn], at[turn], way[turn], radius[turn], identity[turn], 9, 0.04)
        self.assertEqual(len(a), len(b))
        order_a, order_b = np.lexsort(a.position.T), np.lexsort(b.position.T)
        np.testing.assert_array_equal(a.position[order_a], b.position[order_b])

    def test_asked_for_in_all(self) -> None:
        """By a rate solved for, as many as asked for within 5 %, whatever the frames' readiness."""
        rng = np.random.default_rng(8)
        ready = rng.uniform(0, 1, (20, 3000)) ** 4
        rate = births.rate_for_all(ready.sum(axis=1), 1 / 24, 5000)
        at, way, radius = np.zeros((3000, 3)), np.ones((3000, 3)), np.full(3000, 0.01)
        total = sum(
            len(births.born(one * rate / 24, at, way, radius, np.arange(3000), n, 1 / 24))
            for n, one in enumerate(ready)
        )
        self.assertAlmostEqual(total / 5000, 1.0, delta=0.05)

    def test_readiness(self) -> None:
        """(0.5 Phi of the trapped + Phi of the crests) Phi of the energy, by hand."""
        found = {"trapped": np.array([5.0, 20.0]), "crest": np.array([3.0, 8.0]), "energy": np.array([7.5, 50.0])}
        wanted = {"trapped": Wanted(0.0, 10.0, 0.5), "crest": Wanted(2.0, 6.0)}
        ready = births.readiness(found, wanted, Wanted(5.0, 10.0))
        np.testing.assert_allclose(ready, [[0.5 * 0.5 * 0.5, 0.5], [0.25 * 0.5, 1.0]])

    def test_what_cannot_be_reached_is_said(self) -> None:
        with self.assertRaisesRegex(ValueError, "widen them"):
            births.rate_for_all([0.0, 0.0], 0.04, 10)
