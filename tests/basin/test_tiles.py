"""Tiled storage: the same values as dense arrays give, and a cost that follows the liquid."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase
from scipy.ndimage import map_coordinates

from basin.grid.layout import PAD, TILE, Layout, make_layout
from basin.grid.tiles import Tiles, all_below, all_within, all_zero, load, none_below, sample, tile_set, tiles_near
from basin.liquid.extrapolation import outwards
from basin.liquid.particles import Particles
from basin.liquid.sorting import sorted_particles
from basin.liquid.step import Liquid
from basin.liquid.transfer import to_grid
from tests.reference.tanks import box_fill, liquid

OPEN = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "open")


def box(cells: tuple[int, int, int], walls: str = "closed") -> Layout:
    """A domain of so many voxels of 1 m, all walls alike."""
    return make_layout(np.zeros(3), np.array(cells, float), 1.0, [(walls, walls)] * 3)


def filled(layout: Layout, values: np.ndarray) -> tuple[Tiles, np.ndarray]:
    """All tiles of a layout, and a dense array (cells) as their field."""
    tiles = tile_set(layout, np.arange(np.prod(layout.tiles)))
    field = tiles.field(0, values.dtype.type)
    for row in range(1, len(tiles) + 1):
        i, j, k = tiles.first[row]
        part = values[i : i + TILE, j : j + TILE, k : k + TILE]
        field[row, : part.shape[0], : part.shape[1], : part.shape[2]] = part
    return tiles, field


def drops(rng: np.random.Generator, count: int, low: float, high: float) -> Particles:
    """Particles strewn over a cube, in random motion."""
    p = Particles.at(rng.uniform(low, high, (count, 3)), rng.uniform(0.1, 0.2, count))
    p.velocity[:] = rng.normal(size=(count, 3))
    p.affine[:] = rng.normal(size=(count, 3, 3))
    return p


class Lookups(SimpleTestCase):
    """Blocks and samples against NumPy's indexing and SciPy's interpolation of the same values."""

    def setUp(self) -> None:
        self.values = np.random.default_rng(3).normal(size=(27, 19, 22)).astype(np.float32)
        self.tiles, self.field = filled(box((21, 13, 16)), self.values)

    def test_dense_and_back(self) -> None:
        np.testing.assert_array_equal(self.tiles.dense(self.field), self.values)

    def test_block_across_tiles(self) -> None:
        block = np.empty((13, 12, 11), np.float32)
        load(self.field, self.tiles.where, 5, 4, 6, block)
        np.testing.assert_array_equal(block, self.values[5:18, 4:16, 6:17])

    def test_block_beyond_the_grid_is_empty(self) -> None:
        block = np.ones((4, 4, 4), np.float32)
        load(self.field, self.tiles.where, -6, 3, 3, block)
        self.assertEqual(float(np.abs(block).max()), 0.0)

    def test_samples(self) -> None:
        place = np.random.default_rng(4).uniform(0, [26, 18, 21], (500, 3)).astype(np.float32)
        mine = [sample(self.field, self.tiles.where, *p) for p in place]
        np.testing.assert_allclose(mine, map_coordinates(self.values, place.T, order=1), atol=2e-5)


class WhichTiles(SimpleTestCase):
    """The tiles about boxes of cells, counted by hand."""

    def test_reach(self) -> None:
        layout = box((64, 64, 64))
        low = high = np.array([[20, 20, 20]])  # the middle of a tile that spans 16 to 23
        self.assertEqual(len(tiles_near(layout, low, high, 3)), 1)
        self.assertEqual(len(tiles_near(layout, low, high, 4)), 8)
        self.assertEqual(len(tiles_near(layout, low, high, 5)), 27)

    def test_periodic_images_are_there(self) -> None:
        layout = box((64, 64, 64), "periodic")
        cell = np.array([[PAD, 20, 20]])
        numbers = tiles_near(layout, cell, cell, 1).number
        places = np.unravel_index(numbers, layout.tiles)[0]
        self.assertEqual(sorted(set(places.tolist())), [0, (PAD + 64) // TILE])


class PeriodicTransfer(SimpleTestCase):
    """What is scattered beyond a periodic wall comes back in on the far side: mass and momentum are whole."""

    def test_sums(self) -> None:
        layout = box((20, 9, 13), "periodic")
        p = drops(np.random.default_rng(5), 4000, PAD, PAD + 9)
        p.position[:, 0] += np.random.default_rng(6).uniform(0, 11, len(p)).astype(np.float32)
        p, tiling = sorted_particles(p, layout)
        tiles = tiling.surroundings(4)
        velocity, mass = to_grid(p, tiling, tiles)
        inside = tuple(slice(PAD, PAD + n) for n in layout.inner)
        for axis in range(3):
            m = tiles.dense(mass[axis])[inside].astype(np.float64)
            v = tiles.dense(velocity[axis])[inside].astype(np.float64)
            self.assertAlmostEqual(m.sum() / p.volume.sum(dtype=np.float64), 1.0, delta=1e-5)
            own = (p.volume.astype(np.float64) * p.velocity[:, axis]).sum()
            self.assertLess(abs((m * v).sum() - own), 1e-5 * p.volume.sum() * 3)


class Outwards(SimpleTestCase):
    """Extrapolation against the same rule written plainly over whole arrays."""

    def test_four_layers(self) -> None:
        rng = np.random.default_rng(7)
        layout = box((24, 24, 24))
        self.check(layout, (rng.uniform(size=layout.cells) < 0.02).astype(np.uint8))

    def test_from_what_is_known_in_one_corner_alone(self) -> None:
        layout = box((40, 24, 40))
        known = np.zeros(layout.cells, np.uint8)
        known[14:16, 7:9, 15:18] = 1  # about the edges of tiles
        self.check(layout, known)

    def check(self, layout: Layout, known: np.ndarray) -> None:
        rng = np.random.default_rng(8)
        value = (rng.normal(size=layout.cells) * known).astype(np.float32)
        tiles, field = filled(layout, value)
        _, flag = filled(layout, known)
        none = tiles.field(), tiles.field(dtype=np.uint8)  # of faces along the other axes nothing is known
        given = [none, (field, flag), none]
        others, found, _ = outwards([v for v, _ in given], [k for _, k in given], 4, tiles)
        self.assertFalse(others.any())
        mine = tiles.dense(found)
        value, known = (np.pad(a, 1).astype(np.float64) for a in (value, known))
        for _ in range(4):
            shifted = [(np.roll(value, s, a), np.roll(known, s, a)) for a in range(3) for s in (1, -1)]
            total, count = (sum(x[n] for x in shifted) for n in (0, 1))
            fresh = (known == 0) & (count > 0)
            value[fresh], known[fresh] = (total / np.maximum(count, 1))[fresh], 1
            value[[0, -1]], value[:, [0, -1]], value[:, :, [0, -1]] = 0, 0, 0
            known[[0, -1]], known[:, [0, -1]], known[:, :, [0, -1]] = 0, 0, 0
        # the tiles reach a little beyond the layout, where the plain arrays end: leave its last cells out
        middle = (slice(4, -4),) * 3
        np.testing.assert_allclose(mine[middle], value[1:-1, 1:-1, 1:-1][middle], atol=1e-5)


class CostFollowsTheLiquid(SimpleTestCase):
    """The domain's size changes neither the liquid nor the storage of its fields (requirement)."""

    def blob(self, size: float) -> Liquid:
        drop = {
            "kind": "fill",
            "name": "drop",
            "shape": {"kind": "sphere", "radius": 0.1},
            "pose": {"translation": [0.6, 0.6, 0.6]},
            "velocity": [0.3, -1, 0.2],
        }
        ground = {
            "kind": "collider",
            "name": "step",
            "shape": {"kind": "box", "size": [0.5, 0.1, 0.5]},
            "pose": {"translation": [0.6, 0.35, 0.6], "rotation": [0, 20, 10]},
        }
        return liquid(0.02, (size, size, size), [drop, ground], walls=OPEN)

    def test_same_bits_and_tiles_in_a_domain_eight_times_as_large(self) -> None:
        small, large = self.blob(1.2), self.blob(2.4)
        for frame in range(2, 6):
            a, b = small.advance_frame(frame), large.advance_frame(frame)
            assert a and b
            self.assertEqual(len(a[0].tiles), len(b[0].tiles))
        self.assertEqual(small.state.lost, 0.0)  # what leaves the smaller domain cannot be alike
        np.testing.assert_array_equal(small.state.particles.position, large.state.particles.position)
        np.testing.assert_array_equal(small.state.particles.velocity, large.state.particles.velocity)

    def test_a_domain_of_2000_voxels_a_side_runs(self) -> None:
        run = liquid(0.01, (20.0, 20.0, 20.0), [box_fill((9.9, 0.0, 9.9), (10.1, 0.2, 10.1))])
        made = run.advance_frame(2)
        assert made
        self.assertGreater(len(run.state.particles), 60_000)
        self.assertLess(len(made[0].tiles), 400)
        self.assertAlmostEqual(float(run.state.particles.position[:, 1].min()), PAD, delta=0.5)


class WholeTiles(SimpleTestCase):
    """What is asked of all values of a tile at once, against NumPy's own answers; what is no number hides nothing."""

    def test_answers_are_numpys(self) -> None:
        rng = np.random.default_rng(3)
        for size in (1, 7, 512, 1001):
            for scale in (0.0, 0.4, 3.0):
                line = (scale * rng.uniform(-1, 1, size)).astype(np.float32)
                self.assertEqual(bool(all_zero(line)), not line.any())
                for limit in (-0.5, 0.0, 0.5, 2.0):
                    limit = np.float32(limit)
                    self.assertEqual(bool(none_below(line, limit)), bool(line.min() >= limit))
                    self.assertEqual(bool(all_below(line, limit)), bool(line.max() < limit))
                    self.assertEqual(bool(all_within(line, limit)), bool(np.abs(line).max() < limit))

    def test_one_value_is_found_wherever_it_is(self) -> None:
        for place in (0, 255, 511):
            line = np.zeros(512, np.float32)
            line[place] = -1e-30
            self.assertFalse(all_zero(line))
            self.assertFalse(none_below(line, np.float32(0.0)))

    def test_what_is_no_number_is_neither_zero_nor_near_nor_below(self) -> None:
        line = np.zeros(512, np.float32)
        line[77] = np.nan
        self.assertFalse(all_zero(line))
        self.assertFalse(all_within(line, np.float32(1.0)))
        self.assertFalse(all_below(line, np.float32(1.0)))

    def test_cells_without_a_place_are_told_from_those_with(self) -> None:
        index = np.full(512, -1, np.int32)
        self.assertTrue(all_below(index, 0))
        self.assertFalse(none_below(index, 0))
        index[300] = 0
        self.assertFalse(all_below(index, 0))
        self.assertTrue(none_below(np.maximum(index, 0), 0))
