"""Particles on walls keep apart: pairs are pushed alike, what is even stays, and films spread along their wall alone.

That a pair's middle stays is Newton's third law; how far apart is even follows from the volumes.
"""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase
from scipy.spatial import cKDTree

from basin.grid.layout import PAD
from basin.liquid.crowding import FARTHEST, IN_BODY, IN_FILM, LONGEST, keep_apart
from basin.liquid.particles import Particles
from basin.liquid.sorting import EVERYTHING_SEEN, Arranged, cells_at_walls, sorted_particles
from tests.reference.tanks import CLOSED, liquid

VOLUME = 0.125  # voxels: eight to each
WIDE = 0.5  # voxels: as far apart as such particles lie if even


class KeepApart(SimpleTestCase):
    """On the floor of a box of 24 voxels."""

    def pushed(
        self,
        place: np.ndarray,
        steps: int,
        thick: float = 0.0,
        walls: dict[str, str] | None = None,
        hidden: bool = False,
    ) -> np.ndarray:
        """Places (n, 3) of particles from the box's corner, voxels, after some substeps, in their order."""
        run = liquid(0.01, (0.24, 0.24, 0.24), [], walls)
        particles = Particles.at((place + PAD).astype(np.float32), VOLUME)
        particles.id[:] = np.arange(len(place))
        for _ in range(steps):
            particles, tiling = sorted_particles(particles, run.world.layout)
            tiles = tiling.surroundings(4)
            solids = run.solid_world.at(tiles, 0.0, 0.01)
            film = np.full((len(place), 4), thick, np.float32) if thick else None
            seen = np.ones(len(place), np.uint64) if hidden else EVERYTHING_SEEN
            at_hand = Arranged(particles, tiling, tiles, seen)
            keep_apart(at_hand, cells_at_walls(at_hand, solids.phi), film, solids)
        return np.asarray(particles.position[np.argsort(particles.id)].astype(np.float64) - PAD)

    def test_a_heap_comes_apart_about_its_middle(self) -> None:
        heap = np.random.default_rng(1).normal(0, 0.02, (24, 3)) + np.array([12, 0.8, 12])
        heap[3] = heap[4]  # two at one place
        found = self.pushed(heap, 150)
        nearest = cKDTree(found).query(found, k=2)[0][:, 1]
        self.assertLess(float(np.ptp(heap, axis=0).max()), IN_BODY * WIDE)
        self.assertGreater(nearest.min(), 0.9 * IN_BODY * WIDE)
        # exactly but for the longest pushes, which are cut short
        np.testing.assert_allclose(found.mean(axis=0), heap.mean(axis=0), atol=0.01)
        first = self.pushed(heap, 1)
        self.assertLess(float(np.linalg.norm(first - heap, axis=1).max()), 1.01 * LONGEST)

    def test_what_is_even_or_far_from_walls_stays(self) -> None:
        line = (np.arange(6) + 0.5) * WIDE
        even = np.stack(np.meshgrid(line + 8, line[:3], line + 8, indexing="ij"), axis=-1).reshape(-1, 3)
        np.testing.assert_allclose(self.pushed(even, 5), even, atol=1e-6)
        high = np.random.default_rng(2).normal(0, 0.02, (8, 3)) + np.array([12, 12, 12])
        np.testing.assert_allclose(self.pushed(high, 5), high, atol=1e-5)

    def test_what_a_thin_wall_hides_is_left_alone(self) -> None:
        heap = np.random.default_rng(3).normal(0, 0.02, (8, 3)) + np.array([12, 0.5, 12])
        np.testing.assert_allclose(self.pushed(heap, 5, hidden=True), heap, atol=1e-5)

    def test_films_spread_along_their_wall(self) -> None:
        """Particles of a film 0.3 voxels thick come as far apart as it is thin; none leaves its height."""
        rng = np.random.default_rng(4)
        thick = 0.3
        heap = np.stack([rng.normal(12, 0.05, 30), rng.uniform(0.05, 0.25, 30), rng.normal(12, 0.05, 30)], axis=1)
        found = self.pushed(heap, 400, thick)
        apart = min(IN_FILM * np.sqrt(VOLUME / thick), FARTHEST)
        nearest = cKDTree(found[:, ::2]).query(found[:, ::2], k=2)[0][:, 1]
        self.assertGreater(nearest.min(), 0.9 * apart)
        np.testing.assert_allclose(found[:, 1], heap[:, 1], atol=1e-4)
        np.testing.assert_allclose(found.mean(axis=0), heap.mean(axis=0), atol=0.01)

    def test_an_even_films_rim_does_not_creep(self) -> None:
        """Strewn evenly but for a fifth of their distance: no rim goes on by more than that in 300 substeps."""
        thick, rng = 0.4, np.random.default_rng(5)
        wide = float(np.sqrt(VOLUME / thick))
        line = (np.arange(14) - 6.5) * wide + 12
        place = np.stack(np.meshgrid(line, [0.2], line, indexing="ij"), axis=-1).reshape(-1, 3)
        place[:, ::2] += rng.uniform(-0.2, 0.2, (len(place), 2)) * wide
        found = self.pushed(place, 300, thick)
        self.assertLess(float(np.abs(found[:, ::2] - 12).max() - np.abs(place[:, ::2] - 12).max()), 0.2 * wide)

    def test_pairs_across_a_periodic_edge(self) -> None:
        pair = np.array([[0.02, 0.5, 12], [23.98, 0.5, 12]])
        found = self.pushed(pair, 1, walls={**CLOSED, "x_min": "periodic", "x_max": "periodic"})
        self.assertGreater(found[0, 0], 0.03)
        self.assertLess(found[1, 0], 23.97)
