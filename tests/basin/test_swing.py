"""The swing between a pair's halves: its mean over pairs, and what it gives to particles (definitions)."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from basin.grid.layout import PAD, Layout
from basin.grid.tiles import Tiles, tile_set
from basin.liquid.particles import Particles
from basin.liquid.sorting import Arranged, sorted_particles
from basin.liquid.swing import SHARE, Swing, turn
from basin.liquid.world import LiquidFields, LiquidState
from basin.stages.liquid_stage import state_arrays, state_from
from tests.reference.tanks import CLOSED, box_fill, liquid

KICK = np.array([0.0, -0.4, 0.0])
LENGTH = 0.04
SLOPE = np.array([[3.0, -2.0, 0.5], [1.0, 4.0, -1.0], [0.0, 2.0, 5.0]])  # 1/s^2, of a pull that is linear


class Swings(SimpleTestCase):
    """A pull that is linear in place is met exactly by its trilinear samples."""

    def setUp(self) -> None:
        self.layout: Layout = liquid(0.1, (3.2, 3.2, 3.2), [box_fill((0, 0, 0), (1, 1, 1))], CLOSED).world.layout
        every = np.stack(np.meshgrid(*[np.arange(n) for n in self.layout.tiles], indexing="ij"), -1).reshape(-1, 3)
        self.tiles: Tiles = tile_set(self.layout, np.ravel_multi_index(tuple(every.T), self.layout.tiles))

    def flow(self, pull: float, kick: np.ndarray = KICK, unknown: float = 1e9) -> tuple[LiquidFields, LiquidFields]:
        """Both halves of a pair, of which the second has more by the kick and `pull` times the linear one; nothing is
        known from a height in voxels on."""
        first, second = [], []
        cell = self.tiles.first[:, None, None, None] + np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), -1)
        for axis in range(3):
            place = cell + 0.5 * (np.arange(3) != axis)
            swing = kick[axis] + LENGTH * pull * (place @ SLOPE[axis])
            known = place[..., 1] < unknown
            first.append(np.where(known, 1.0, 0.0).astype(np.float32))
            second.append(np.where(known, 1.0 + swing, 0.0).astype(np.float32))
        nothing = self.tiles.field()
        more = (nothing, nothing, nothing)
        return LiquidFields(self.tiles, nothing, first, *more), LiquidFields(self.tiles, nothing, second, *more)

    def given(self, swing: Swing, alone: bool = False) -> tuple[np.ndarray, np.ndarray]:
        """What particles get on a way of some voxels, and where that ends, less where it begins (n, 3)."""
        rng = np.random.default_rng(3)
        particles, tiling = sorted_particles(
            Particles.at((PAD + rng.uniform(4, 26, (500, 3))).astype(np.float32), 0.125), self.layout
        )
        start = particles.position.copy()
        particles.position[:] += rng.uniform(-4, 4, start.shape).astype(np.float32)
        turn(start, Arranged(particles, tiling, self.tiles), np.full(500, alone), swing, LENGTH)
        return particles.velocity.copy(), particles.position - start

    def test_what_a_way_along_a_linear_pull_gives(self) -> None:
        swing = Swing.none().renewed(*self.flow(1.0), KICK, LENGTH, 1e6)
        found, way = self.given(swing)
        np.testing.assert_allclose(found, -LENGTH * way @ SLOPE.T, atol=2e-4)
        self.assertGreater(float(np.abs(found).max()), 0.5)
        np.testing.assert_array_equal(self.given(swing, alone=True)[0], 0.0)

    def test_falling_liquid_gets_nothing(self) -> None:
        found, _ = self.given(Swing.none().renewed(*self.flow(0.0), KICK, LENGTH, 1e6))
        np.testing.assert_allclose(found, 0.0, atol=1e-5)

    def test_it_is_a_mean_over_pairs_and_new_where_none_was_known(self) -> None:
        low = Swing.none().renewed(*self.flow(1.0, unknown=PAD + 14.0), KICK, LENGTH, 1e6)
        swing = low.renewed(*self.flow(3.0), KICK, LENGTH, 1e6)
        found, way = self.given(swing)
        expected = -LENGTH * way @ SLOPE.T
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = np.where(np.abs(expected) > 0.3, found / expected, np.nan)
        mean, new = 1.0 + float(SHARE) * 2.0, 3.0
        self.assertGreater(int((np.abs(ratio - mean) < 0.02).sum()), 100)
        self.assertGreater(int((np.abs(ratio - new) < 0.02).sum()), 100)

    def test_nothing_is_made_up_where_nothing_is_known(self) -> None:
        swing = Swing.none().renewed(*self.flow(1.0, unknown=PAD + 14.0), KICK, LENGTH, 1e6)
        found, way = self.given(swing)
        self.assertTrue(np.isfinite(found).all())
        still = (found == 0.0).all(axis=1)
        self.assertGreater(int(still.sum()), 100)
        np.testing.assert_allclose(found[~still], (-LENGTH * way @ SLOPE.T)[~still], atol=2e-4)

    def test_it_holds_no_more_than_forces_pull(self) -> None:
        swing = Swing.none().renewed(*self.flow(1.0), KICK, LENGTH, 7.0)
        self.assertEqual(float(np.nanmax(np.abs(swing.pull))), 7.0)

    def test_a_resumed_run_has_it(self) -> None:
        swing = Swing.none().renewed(*self.flow(1.0, unknown=PAD + 9.0), KICK, LENGTH, 1e6)
        kept = state_from(state_arrays(LiquidState(swing=swing))).swing
        np.testing.assert_array_equal(kept.number, swing.number)
        np.testing.assert_array_equal(kept.pull, swing.pull)
