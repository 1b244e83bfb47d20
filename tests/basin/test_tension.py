"""Curvatures, contact angles and what steps can follow, each by itself, against geometry and the theory of ripples."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from django.test import SimpleTestCase

from basin.grid.tiles import Tiles
from basin.liquid import pressure, tension
from basin.liquid.solids import Solids
from basin.liquid.tension import EVEN, MOST_SOFTENINGS, SEEN, SOFTER, Softening
from basin.liquid.timestep import Limits, steps_left
from tests.basin.test_viscosity import grid, level, places
from tests.reference.tanks import CLOSED, box_collider

OPEN = dict.fromkeys(CLOSED, "open")
MIDDLE = np.array([24.3, 24.1, 23.8])
AWAY = 16.0  # voxels of the middle that count: beyond are the domain's edges


class Bent(SimpleTestCase):
    """Curvatures of forms whose curvature is known, from their exact distances less what a level set blurs them by."""

    tiles: Tiles
    solids: Solids

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.tiles, cls.solids = grid((4.8, 4.8, 4.8), OPEN)

    def seen(self, distance: Callable[[np.ndarray], np.ndarray]) -> np.ndarray:
        """Curvatures found within the middle of the domain."""
        still = [self.tiles.field()] * 3
        found = tension.curvature(level(self.tiles, distance), self.solids, still, 1.0)
        near = (np.abs(places(self.tiles, (0.5, 0.5, 0.5)) - MIDDLE) < AWAY).all(axis=-1)
        return found[np.isfinite(found) & near]

    def test_balls_and_cylinders(self) -> None:
        """Young & Laplace: 2 / R and 1 / R; 3 % in the mean and 5 % in the spread at 6 voxels and more (case C01)."""
        across = np.array([1.0, -1.0, 0.0]) / np.sqrt(2)

        def ball(radius: float) -> Callable[[np.ndarray], np.ndarray]:
            inner = radius - tension.BLURRED / radius  # of the ball whose blurred surface this is
            return lambda at: np.linalg.norm(at - MIDDLE, axis=-1) - inner

        def along(radius: float) -> Callable[[np.ndarray], np.ndarray]:
            inner = radius - 0.5 * tension.BLURRED / radius
            return lambda at: np.linalg.norm((at - MIDDLE)[..., :2], axis=-1) - inner

        def askew(radius: float) -> Callable[[np.ndarray], np.ndarray]:
            inner = radius - 0.5 * tension.BLURRED / radius
            return lambda at: np.hypot((at - MIDDLE) @ across, (at - MIDDLE)[..., 2]) - inner

        for radius in (6.0, 8.0, 12.0):
            for form, both in ((ball, 2.0), (along, 1.0), (askew, 1.0)):
                with self.subTest(radius=radius, form=form.__name__):
                    found = self.seen(form(radius)) * radius / both
                    self.assertGreater(len(found), 200)
                    self.assertAlmostEqual(float(found.mean()), 1.0, delta=0.03)
                    self.assertLess(float(found.std()), 0.05)
                    solid = form(radius)
                    hollow = self.seen(lambda at, solid=solid: -solid(at)) * radius / both  # type: ignore[misc]
                    self.assertAlmostEqual(float(hollow.mean()), -float(found.mean()), delta=1e-3)

    def test_saddles_have_none(self) -> None:
        """x y / R bends up one way as much as down the other: nothing within 0.01 per voxel near its middle."""
        found = self.seen(
            lambda at: (
                ((at - MIDDLE)[..., 1] - (at - MIDDLE)[..., 0] * (at - MIDDLE)[..., 2] / 40)
                / np.sqrt(1 + ((at - MIDDLE)[..., 0] ** 2 + (at - MIDDLE)[..., 2] ** 2) / 1600)
            )
        )
        self.assertLess(abs(float(found.mean())), 1e-3)
        self.assertLess(float(np.abs(found).max()), 0.02)

    def test_planes_have_none(self) -> None:
        way = np.array([0.3, 0.8, 0.52])
        way /= np.linalg.norm(way)
        self.assertLess(float(np.abs(self.seen(lambda at: (at - MIDDLE) @ way)).max()), 1e-5)

    def test_a_sheet_does_not_see_its_other_side(self) -> None:
        """Two planes 1.6 voxels apart, in a level set that turns amid them: no curvature beyond 0.02 per voxel."""
        found = self.seen(lambda at: np.abs((at - MIDDLE)[..., 1]) - 0.8)
        self.assertGreater(len(found), 200)
        self.assertLess(float(np.abs(found).max()), 0.02)


class Meeting(SimpleTestCase):
    """A flat surface that meets a floor: with its contact angle it stays flat, with another it is bent towards that."""

    def bend(self, leans: float, angle: float, receding: float | None = None, speed: float = 0.0) -> float:
        """Curvature in the row of cells on the floor, 1/voxel, of liquid to the left of a plane that leans.

        Parameters
        ----------
        leans : angle between floor and surface through the liquid, degrees; `angle` that of the floor
        speed : of the liquid to the right, voxels/s
        """
        touch = {"contact_angle": angle, "receding_angle": receding}
        tiles, solids = grid((2.4, 2.4, 2.4), OPEN, box_collider((-1, -1, -1), (4, 0.8, 4), "floor", **touch))
        theta = np.radians(leans)
        way = np.array([np.sin(theta), np.cos(theta), 0.0])
        phi = level(tiles, lambda at: (at - np.array([12.2, 8.0, 0.0])) @ way)
        flow = [tiles.field(speed), tiles.field(), tiles.field()]
        found = tension.curvature(phi, solids, flow, 0.1)
        at = places(tiles, (0.5, 0.5, 0.5))
        row = np.isfinite(found) & (at[..., 1] > 8) & (at[..., 1] < 9) & (np.abs(at[..., 2] - 12) < 6)
        self.assertGreater(int(row.sum()), 5)
        return float(found[row].mean())

    def test_with_its_own_angle_it_stays_flat(self) -> None:
        for angle in (30.0, 60.0, 90.0, 120.0, 150.0):
            self.assertLess(abs(self.bend(angle, angle)), 0.01, angle)

    def test_too_steep_on_a_floor_that_wets_is_sucked_on(self) -> None:
        """Young 1805: the surface's pull along the floor is less than the wall's, so pressure there is below the air's.

        To turn by an angle within a voxel or two is a curvature of about that angle; within a factor of two.
        """
        for angle, leans in ((60, 90), (90, 120), (45, 75)):
            turned = np.radians(leans - angle)
            self.assertAlmostEqual(self.bend(leans, angle), -turned, delta=0.5 * turned)
            self.assertAlmostEqual(self.bend(180 - leans, 180 - angle), turned, delta=0.5 * turned)

    def test_a_line_that_rests_between_its_angles_goes_by_how_it_moves(self) -> None:
        """Advancing over the floor it meets 110 degrees, drawing back 50: of 80, bent the one way and the other."""
        self.assertGreater(self.bend(80, 110, 50, speed=1.0), 0.2)
        self.assertLess(self.bend(80, 110, 50, speed=-1.0), -0.2)
        self.assertLess(abs(self.bend(80, 110, 50)), 0.02)


class Following(SimpleTestCase):
    """Ripples that a step can follow."""

    def fastest(self, stiffness: float) -> float:
        """Largest (w dt)^2 of all ripples, as they are seen after softening: above 1 kicks two steps apart blow up."""
        softening = Softening.of(stiffness)
        k = np.linspace(0.01, np.pi, 400)
        # a softening's mean along one axis of the surface: 1/4, 1/2, 1/4
        mean = 0.5 * (1 + np.cos(k))
        gain = 1 + softening.sharper * (1 - mean) if softening.sharper else mean**softening.times
        seen = np.exp(-0.5 * SEEN * k**2) * gain
        return float((stiffness * softening.share * k**3 * seen).max())

    def test_every_step_is_stable(self) -> None:
        for stiffness in np.geomspace(1e-4, 1e4, 60):
            self.assertLess(self.fastest(stiffness), 0.9, stiffness)

    def test_tension_is_whole_as_long_as_may_be(self) -> None:
        self.assertEqual(Softening.of(EVEN).times, 0)
        longest = (SEEN + SOFTER * MOST_SOFTENINGS) ** 1.5 / (2 * tension.FASTEST)
        self.assertEqual(Softening.of(0.99 * longest).share, 1.0)
        self.assertLess(Softening.of(1.1 * longest).share, 1.0)
        self.assertLess(Softening.of(1e4).share, 0.1)

    def test_substeps_follow_ripples_up_to_their_most(self) -> None:
        """A frame of 24 ms with ripples of 1 ms takes 24 substeps, or as many as it may."""
        self.assertEqual(steps_left(0.024, 0, 0.0, 0.0, Limits(0.001, 2.0, 1, 100, 0.001)), 24)
        self.assertEqual(steps_left(0.024, 0, 0.0, 0.0, Limits(0.001, 2.0, 1, 10, 0.001)), 10)


class Crossing(SimpleTestCase):
    """The pressure at the surface between two cells."""

    def test_between_what_both_know(self) -> None:
        known, unknown = np.float32(3.0), np.float32(np.nan)
        self.assertAlmostEqual(pressure.at_surface(-0.25, 0.75, np.float32(1.0), known), 1.5, places=6)
        self.assertEqual(pressure.at_surface(-0.25, 0.75, unknown, known), 3.0)
        self.assertEqual(pressure.at_surface(-0.25, 0.75, known, unknown), 3.0)
        self.assertEqual(pressure.at_surface(-0.25, 0.75, unknown, unknown), 0.0)
