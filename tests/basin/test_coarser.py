"""The multigrid cycle of viscosity against linear algebra, and how many iterations it leaves to take."""

from __future__ import annotations

from itertools import pairwise

import numba
import numpy as np
from django.test import SimpleTestCase

from basin.grid.tiles import Tiles
from basin.liquid import coarser
from basin.liquid.coarser import Cycle
from basin.liquid.solids import Solids
from basin.liquid.strains import Strains
from basin.liquid.viscosity import Viscous
from tests.basin.test_viscosity import anyhow, ball, faces, grid, level
from tests.reference.tanks import CLOSED, box_collider
from tests.reference.thick import assembled

OPEN = dict.fromkeys(CLOSED, "open")
SIDE = 24.0


def energy(matrix: Strains, flow: np.ndarray, massive: bool = True) -> float:
    """A velocity's product with a matrix and itself, which of strains alone is what they dissipate."""
    part = np.zeros(len(matrix.row))
    matrix.times(flow, np.zeros_like(flow), part, massive)
    return float(part.sum())


def between(fine: Strains, coarse: Strains, flow: np.ndarray) -> np.ndarray:
    """The finer velocity that a coarser one stands for, where it is free."""
    found = np.zeros(fine.mass.shape)
    coarser._spread(fine.row, fine.first, coarse.where, fine.inverse, flow, found)
    return found


def levels(matrix: Viscous) -> list[Strains]:
    return [level.matrix for level in Cycle(matrix.strains, matrix.tiles)._levels]


def bodies() -> dict[str, tuple[Tiles, np.ndarray, Solids, np.ndarray]]:
    """Liquids of viscosity 1 in a box of 24 voxels: where, their level, what is solid, and shares of viscosity."""
    tiles, solids = grid((2.4, 2.4, 2.4), OPEN)
    on_floor, floor = grid((2.4, 2.4, 2.4), {**OPEN, "y_min": "closed"})
    middle = SIDE / 2

    def block(at: np.ndarray) -> np.ndarray:
        return np.asarray(abs(at - middle).max(axis=-1) - middle)

    def thread(at: np.ndarray) -> np.ndarray:
        """Two voxels about a line that winds."""
        y = at[..., 1]
        beside = np.hypot(at[..., 0] - middle - 4 * np.sin(y / 6), at[..., 2] - middle - 3 * np.cos(y / 9))
        return np.asarray(np.maximum(beside - 2.0, abs(y - middle) - middle))

    def sheet(at: np.ndarray) -> np.ndarray:
        """Two voxels thick, leaning and wavy."""
        x, y, z = np.moveaxis(at - middle, -1, 0)
        return np.asarray(np.maximum(abs(y + 0.3 * x + 2 * np.sin(z / 5)) - 1.0, block(at)))

    def film(at: np.ndarray) -> np.ndarray:
        return np.asarray(np.maximum(at[..., 1] - 2.3, block(at)))

    plain = tiles.field(1.0)
    unlike = np.where(level(tiles, lambda at: at[..., 0] - middle) > 0, np.float32(1e-4), np.float32(1.0))
    return {
        "block": (tiles, level(tiles, block), solids, plain),
        "ball": (tiles, level(tiles, ball(middle, 9.5)), solids, plain),
        "thread of four voxels": (tiles, level(tiles, thread), solids, plain),
        "sheet in the air": (tiles, level(tiles, sheet), solids, plain),
        "film on a floor": (on_floor, level(on_floor, film), floor, on_floor.field(1.0)),
        "two liquids, one 10,000 times as thick": (tiles, level(tiles, block), solids, unlike),
    }


class CoarserGrids(SimpleTestCase):
    def small(self) -> Viscous:
        """A ball that lies on a block, 0.23 of a voxel into a cell."""
        tiles, solids = grid((0.8, 0.8, 0.8), OPEN, box_collider((-1, -1, -1), (2, 0.23, 2), "floor"))
        phi = level(tiles, lambda at: np.linalg.norm(at - [4.2, 3.4, 4.0], axis=-1) - 2.9)
        return Viscous(phi, tiles.field(50.0), solids, 1.0)

    def test_even_strains_dissipate_the_same_on_each(self) -> None:
        """What stretches, shears and turns evenly is linear, and all grids are exact for linear velocities."""
        tiles, solids = grid((1.6, 1.6, 1.6), OPEN)
        fine, coarse = levels(Viscous(level(tiles, ball()), tiles.field(50.0), solids, 1.0))[:2]
        for slope in (np.diag([1.0, 0.0, 0.0]), np.eye(3)[[1, 0, 2]] - np.diag([0, 0, 1.0]), np.ones((3, 3))):
            flows = []
            for matrix, voxels in ((fine, 1.0), (coarse, 2.0)):
                cell = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
                at = matrix.first[:, None, None, None] + cell + 0.5
                at[0] = 0.0
                flow = [((at - 0.5 * np.eye(3)[d]) * voxels) @ slope[d] for d in range(3)]
                flows.append(np.where(matrix.inverse > 0, np.stack(flow), 0.0))
            one, other = energy(fine, flows[0], False), energy(coarse, flows[1], False)
            self.assertGreater(one, 1.0)
            self.assertAlmostEqual(other / one, 1.0, delta=1e-4)

    def test_none_is_softer_than_the_finer_one(self) -> None:
        """Jensen's inequality: else what comes from there would be too much, and the cycle not positive."""
        rng = np.random.default_rng(2)
        for name, (_, phi, solids, nu) in bodies().items():
            every = levels(Viscous(phi, np.float32(100.0) * nu, solids, 1.0))
            self.assertGreater(len(every), 2, name)
            for fine, coarse in pairwise(every):
                for _ in range(3):
                    flow = np.where(coarse.inverse > 0, rng.standard_normal(coarse.mass.shape), 0.0)
                    own = energy(fine, between(fine, coarse, flow))
                    self.assertLessEqual(own, energy(coarse, flow) * (1 + 1e-5), name)

    def test_a_cycle_is_symmetric_and_nearly_the_inverse(self) -> None:
        """All eigenvalues of the cycle times the matrix, by NumPy: real, none above one; a good one has none near 0."""
        matrix = self.small()
        whole, free = assembled(matrix)
        tiles, cycle = matrix.tiles, Cycle(matrix.strains, matrix.tiles)
        self.assertGreater(len(cycle._levels), 1)
        number = [tiles.dense(np.arange(matrix.strains.mass[0].size).reshape(matrix.strains.mass[0].shape))] * 3
        at = [n[f] for n, f in zip(number, free, strict=True)]
        made = np.empty(whole.shape)
        unit = np.zeros(matrix.strains.mass.shape)
        column = 0
        for d in range(3):
            for place in at[d]:
                unit[d].reshape(-1)[place] = 1.0
                out = cycle(unit)
                unit[d].reshape(-1)[place] = 0.0
                made[:, column] = np.concatenate([out[e].reshape(-1)[at[e]] for e in range(3)])
                column += 1
        np.testing.assert_allclose(made, made.T, atol=1e-5 * np.abs(made).max())
        root = np.linalg.cholesky(whole.toarray())
        value = np.linalg.eigvalsh(root.T @ (made + made.T) / 2 @ root)
        self.assertLess(value.max(), 1 + 1e-3)
        self.assertGreater(value.min(), 0.1)

    def test_iterations_hardly_grow_with_the_viscosity(self) -> None:
        """Fewer than 40 at 10,000 voxels^2 a step, whatever the shape; sheets, which bend so easily, may take 60."""
        for name, (tiles, phi, solids, nu) in bodies().items():
            for stiff in (1.0, 100.0, 1e4, 1e5):
                matrix = Viscous(phi, np.float32(stiff) * nu, solids, 1.0)
                matrix._cycle = Cycle(matrix.strains, tiles)  # small ones of little viscosity do without
                taken = matrix.damp(faces(tiles, anyhow))
                self.assertLess(taken.residual, 1e-6, name)
                most = (60 if name == "sheet in the air" else 40) if stiff < 1e5 else 100
                self.assertLess(taken.iterations, most, f"{name}, {stiff:g}")

    def test_its_diagonal_alone_ends_at_the_same(self) -> None:
        tiles, phi, solids, nu = bodies()["thread of four voxels"]
        with_cycle = faces(tiles, anyhow)
        alone = [u.copy() for u in with_cycle]
        matrix = Viscous(phi, np.float32(100.0) * nu, solids, 1.0)
        matrix._cycle = Cycle(matrix.strains, tiles)
        few = matrix.damp(with_cycle, 1e-8).iterations
        matrix._cycle = None
        many = matrix.damp(alone, 1e-8).iterations
        mass = np.where(matrix.strains.inverse > 0, matrix._mass, 0.0)  # faces with hardly any are anyhow
        self.assertGreater(many, 5 * few)
        off, whole = (
            sum(float((m * (u - less * v) ** 2).sum()) for m, u, v in zip(mass, with_cycle, alone, strict=True))
            for less in (1.0, 0.0)
        )
        self.assertLess(off, 1e-12 * whole)

    def test_a_cycle_is_chosen_where_it_is_worth_its_time(self) -> None:
        _, phi, solids, nu = bodies()["block"]
        chosen = [Viscous(phi, np.float32(s) * nu, solids, 1.0)._cycle is not None for s in (0.1, 1.0, 1e3, 1e5)]
        self.assertEqual(chosen, [False, False, True, True])

    def test_the_same_bits_on_one_thread_and_two(self) -> None:
        """Requirement: cycles too, of which small levels are one thread's anyhow."""
        tiles, phi, solids, nu = bodies()["block"]
        matrix, found, before = Viscous(phi, np.float32(1e3) * nu, solids, 1.0), [], numba.get_num_threads()
        try:
            for threads in (1, 2):
                numba.set_num_threads(min(threads, before))
                matrix._cycle = Cycle(matrix.strains, tiles)
                flow = faces(tiles, anyhow)
                matrix.damp(flow)
                found.append(flow)
        finally:
            numba.set_num_threads(before)
        for one, other in zip(*found, strict=True):
            np.testing.assert_array_equal(one, other)
