"""The level set's pieces against NumPy: planes at walls by least squares, particles that nothing holds, densities."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase

from basin.grid.tiles import tile_set
from basin.liquid.levelset import FAITHFUL, FAR, FARTHEST, FLATTER, LEAST_ROOM, WELL_SEEN, _at_walls, ballistic, density
from basin.liquid.particles import Particles
from basin.liquid.room import WHOLE
from basin.liquid.sorting import sorted_particles
from tests.basin.test_tiles import box, filled

NOTHING_HIDDEN = np.zeros((0, 8, 8, 8), np.uint32)


class PlanesAtWalls(SimpleTestCase):
    """What cells at walls take of their neighbours, by NumPy's general solver, one cell at a time."""

    def setUp(self) -> None:
        rng = np.random.default_rng(11)
        self.layout = box((24, 16, 24))
        cells = self.layout.cells
        self.tiles = tile_set(self.layout, np.arange(np.prod(self.layout.tiles)))
        self.room = rng.uniform(-0.2, 1.2, cells).clip(0, 1).astype(np.float32)
        self.room[self.room > WHOLE] = 1.0
        self.middle = rng.uniform(-0.3, 0.3, (*cells, 3)).astype(np.float32)
        # some of it as far from the surface as can be told
        self.phi = rng.normal(0, 1.4, cells).clip(-FAR, FAR).astype(np.float32)
        self.phi[: cells[0] // 3] = FAR

    def found(self) -> np.ndarray:
        tiles = self.tiles
        _, room = filled(self.layout, self.room)
        _, phi = filled(self.layout, self.phi)
        middle = np.stack([filled(self.layout, self.middle[..., d])[1] for d in range(3)], axis=-1)
        out, beside = phi.copy(), np.arange(1, len(tiles) + 1)
        slot = np.full(len(tiles) + 1, -1, np.int64)
        _at_walls(beside, tiles.first, tiles.where, room, np.ascontiguousarray(middle), slot, NOTHING_HIDDEN, phi, out)
        return tiles.dense(out)

    def plane(self, i: int, j: int, k: int) -> float:
        """The value of a cell by weighted least squares over its neighbourhood."""
        about = np.stack(np.meshgrid(*[[-1, 0, 1]] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
        place = tuple((about + np.array([i, j, k])).T)
        room, value = self.room[place].astype(float), self.phi[place].astype(float)
        seen = self.room[place] >= LEAST_ROOM
        off = about + self.middle[place].astype(float)
        weight = room**2 / (1 + (off**2).sum(axis=1))
        weight[np.abs(self.phi[place]) > FAITHFUL] *= 1e-3
        rows, w, v = np.column_stack([np.ones(27), off])[seen], weight[seen], value[seen]
        if not len(rows):
            return float(self.phi[i, j, k])
        normal = rows.T @ (w[:, None] * rows) + FLATTER * w.sum() * np.diag([0.0, 1, 1, 1])
        height, *slope = np.linalg.solve(normal, rows.T @ (w * v))
        own, here = float(self.phi[i, j, k]), float(self.room[i, j, k])
        if abs(own) <= FAITHFUL and here > WELL_SEEN[0]:
            trust = min((here - WELL_SEEN[0]) / (WELL_SEEN[1] - WELL_SEEN[0]), 1.0)
            height += trust * (own - np.dot(slope, self.middle[i, j, k]) - height)
        fitted = min(max(height, -float(FAR)), float(FAR))
        highest = max(v.max(), -float(FAR))
        return float(highest if highest < 0 <= fitted else fitted)

    def test_they_are_numpys(self) -> None:
        found, changed = self.found(), 0
        # cells at the layout's own edge have neighbours that no array holds
        for i, j, k in np.argwhere((self.room > 0) & (self.room < WHOLE)):
            if min(i, j, k) < 1 or i > 22 or j > 14 or k > 22:
                continue
            near = self.phi[i - 1 : i + 2, j - 1 : j + 2, k - 1 : k + 2]
            if near.min() >= FARTHEST or near.max() <= -FARTHEST:
                self.assertEqual(found[i, j, k], self.phi[i, j, k])
                continue
            self.assertAlmostEqual(float(found[i, j, k]), self.plane(i, j, k), delta=2e-4, msg=f"cell {i}, {j}, {k}")
            changed += 1
        self.assertGreater(changed, 1500)

    def test_whole_and_shut_cells_keep_their_own(self) -> None:
        kept = (self.room >= WHOLE) | (self.room <= 0)
        np.testing.assert_array_equal(self.found()[kept], self.phi[kept])

    def test_a_plane_is_told_at_the_cells_middle_wherever_the_room_lies(self) -> None:
        """A flat surface, each value that of the plane where the cell's open part has its middle."""
        slope = np.array([0.2, -0.5, 0.3])
        at = np.stack(np.meshgrid(*[np.arange(n) for n in self.layout.cells], indexing="ij"), axis=-1)
        through = np.array([12.0, 8.0, 12.0])
        self.phi = ((at + self.middle - through) @ slope).astype(np.float32)
        exact, found = (at - through) @ slope, self.found()
        inner = (slice(2, -2),) * 3
        cut = (self.room > 0) & (self.room < WHOLE) & (np.abs(exact) < 0.8)
        self.assertGreater(int(cut[inner].sum()), 300)
        # the slope is pulled towards zero by a thousandth
        np.testing.assert_allclose(found[inner][cut[inner]], exact[inner][cut[inner]], atol=0.02)


class Alone(SimpleTestCase):
    """Particles that no cell with a pressure is near, and what they weigh on the grid."""

    def strewn(self) -> tuple[Particles, np.random.Generator]:
        rng = np.random.default_rng(5)
        return Particles.at(rng.uniform(3, 20, (3000, 3)), rng.uniform(0.05, 0.15, 3000)), rng

    def test_those_without_a_pressure_among_27_cells(self) -> None:
        particles, rng = self.strewn()
        layout = box((24, 24, 24))
        particles, tiling = sorted_particles(particles, layout)
        index = np.where(rng.uniform(size=layout.cells) < 0.02, 1, -1).astype(np.int32)
        tiles, field = filled(layout, index)
        field[0] = -1
        found = ballistic(particles, tiling, field, tiles)
        for n in range(len(particles)):
            i, j, k = particles.position[n].astype(int)
            self.assertEqual(bool(found[n]), bool((index[i - 1 : i + 2, j - 1 : j + 2, k - 1 : k + 2] < 0).all()))
        self.assertTrue(found.any())
        self.assertFalse(found.all())

    def test_the_density_holds_all_volume_with_its_middle(self) -> None:
        particles, _ = self.strewn()
        layout = box((24, 24, 24))
        particles, tiling = sorted_particles(particles, layout)
        tiles = tiling.surroundings(4)
        held = tiles.dense(density(particles, tiling, tiles)).astype(float)
        volume = particles.volume.astype(float)
        self.assertAlmostEqual(held.sum() / volume.sum(), 1.0, places=5)
        at = np.stack(np.meshgrid(*[np.arange(n) + 0.5 for n in layout.cells], indexing="ij"), axis=-1)
        # quadratic B-splines keep the first moment
        middle = (held[..., None] * at).sum(axis=(0, 1, 2)) / held.sum()
        np.testing.assert_allclose(middle, (volume[:, None] * particles.position).sum(axis=0) / volume.sum(), atol=1e-4)
