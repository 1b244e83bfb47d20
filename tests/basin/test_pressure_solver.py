"""Conjugate gradients with multigrid against SciPy's direct solver, and on shapes that are hard for multigrid."""

from __future__ import annotations

from collections.abc import Callable

import numba
import numpy as np
from django.test import SimpleTestCase
from scipy.sparse.linalg import spsolve

from basin.grid.poisson import Matrix

Walls = Callable[[list[np.ndarray]], None]


def matrix_of(liquid: np.ndarray, walls: Walls | None = None, air: bool = True, wrapped: int | None = None) -> Matrix:
    """The matrix of a liquid mask in a closed box; `walls` may shut faces (faces[axis][i] lies below cell i).

    Every liquid cell that touches air through an open face has the free surface half a voxel away.
    """
    index = np.full(liquid.shape, -1, np.int32)
    cell = np.argwhere(liquid).astype(np.int32)
    index[liquid] = np.arange(len(cell), dtype=np.int32)
    faces = [np.ones(liquid.shape) for _ in range(3)]
    for axis in range(3):
        if axis != wrapped:
            np.moveaxis(faces[axis], axis, 0)[0] = 0.0
    if walls:
        walls(faces)
    neighbour = np.full((len(cell), 6), -1, np.int32)
    weight, surface = np.zeros((len(cell), 6)), np.zeros(len(cell))
    for axis in range(3):
        for side in range(2):
            beside = np.roll(index, 1 if side == 0 else -1, axis)[liquid]
            share = (faces[axis] if side == 0 else np.roll(faces[axis], -1, axis))[liquid]
            joined = (beside >= 0) & (share > 0)
            neighbour[joined, 2 * axis + side] = beside[joined]
            weight[joined, 2 * axis + side] = share[joined]
            if air:
                surface += np.where((beside < 0) & (share > 0), 2 * share, 0)
    return Matrix(cell, neighbour, weight, surface)


def noise(matrix: Matrix) -> np.ndarray:
    """A right side with long and short waves."""
    c = matrix.cell
    return np.sin(c[:, 0] * 0.1) * np.cos(c[:, 1] * 0.14) + 0.3 * np.random.default_rng(0).standard_normal(len(c))


def pool(n: int) -> np.ndarray:
    """A bumpy pool, true below the surface."""
    i, j, _ = np.indices((n, n, n))
    return np.asarray(j < n / 2 + 0.15 * n * np.cos(np.pi * i / n))


class AgainstSciPy(SimpleTestCase):
    """SciPy's sparse direct solver (SuperLU) on the same matrix."""

    def test_solution_is_scipys(self) -> None:
        matrix = matrix_of(pool(14))
        right = noise(matrix)
        mine = matrix.solver.solve(right, 1e-10)
        other = spsolve(matrix.as_csr(), right)
        np.testing.assert_allclose(mine.value, other, atol=1e-8 * np.abs(other).max())
        self.assertLess(mine.residual, 1e-10)
        residual = right - matrix.as_csr() @ mine.value
        self.assertAlmostEqual(float(np.linalg.norm(residual) / np.linalg.norm(right)), mine.residual, places=12)

    def test_odd_periodic_axis(self) -> None:
        matrix = matrix_of(pool(13), wrapped=2)
        right = noise(matrix)
        other = spsolve(matrix.as_csr(), right)
        np.testing.assert_allclose(matrix.solver.solve(right, 1e-10).value, other, atol=1e-8 * np.abs(other).max())

    def test_closed_box_with_net_flux_stays_bounded(self) -> None:
        matrix = matrix_of(np.ones((7, 7, 7), bool), air=False)
        found = matrix.solver.solve(noise(matrix) + 5.0, 1e-8)
        self.assertEqual(found.closed_components, 1)
        self.assertAlmostEqual(found.squeezed / abs((noise(matrix) + 5.0).sum()), 1.0, places=9)
        self.assertLess(found.residual, 1e-8)
        self.assertLess(np.abs(found.value).max(), 100.0)
        self.assertAlmostEqual(float(found.value.mean()), 0.0, places=9)

    def test_drops_that_nothing_joins(self) -> None:
        # the second level has rows but no couplings; whatever lies in fresh memory must not become its surface
        liquid = np.zeros((17, 17, 17), bool)
        liquid[::4, ::4, ::4] = liquid[1::4, ::4, ::4] = True
        matrix = matrix_of(liquid)
        right = noise(matrix)
        other = spsolve(matrix.as_csr(), right)
        spoilt = [np.full(125, np.nan) for _ in range(50)]
        del spoilt
        found = matrix.solver.solve(right, 1e-10)
        self.assertEqual(found.closed_components, 0)
        np.testing.assert_allclose(found.value, other, atol=1e-8 * np.abs(other).max())

    def test_no_liquid(self) -> None:
        self.assertEqual(matrix_of(np.zeros((5, 5, 5), bool)).solver.solve(np.zeros(0), 1e-6).iterations, 0)

    def test_bits_do_not_depend_on_threads(self) -> None:
        found = []
        most = numba.config.NUMBA_NUM_THREADS  # type: ignore[attr-defined]
        for threads in (1, most):
            numba.set_num_threads(threads)
            matrix = matrix_of(pool(33), wrapped=0)
            found.append(matrix.solver.solve(noise(matrix), 1e-6).value.tobytes())
        self.assertEqual(found[0], found[1])


def hole(faces: list[np.ndarray]) -> None:
    """A wall without thickness, with a hole of two by two."""
    n = len(faces[0])
    faces[0][n // 2] = 0.0
    faces[0][n // 2, 10:12, 20:22] = 1.0


def baffles(faces: list[np.ndarray]) -> None:
    """Walls without thickness nine cells apart, each with a hole elsewhere."""
    n = len(faces[0])
    for a in range(4, n, 9):
        faces[0][a] = 0.0
        low = (a * 7) % (n - 28) + 5
        faces[0][a, 10:13, low : low + 4] = 1.0


def pockets(faces: list[np.ndarray]) -> None:
    """Two closed pockets under a wall."""
    faces[0][15, :15] = 0.0
    faces[0][31, :15] = 0.0
    faces[1][15:31, 15] = 0.0
    faces[2][15:31, :15, 32] = 0.0


class HardShapes(SimpleTestCase):
    """Requirement: a true residual of 1e-6 in at most 30 iterations, and no growth with size beyond 3."""

    def iterations(self, matrix: Matrix, closed: int = 0) -> int:
        found = matrix.solver.solve(noise(matrix), 1e-6)
        self.assertLess(found.residual, 1e-6)
        self.assertEqual(found.closed_components, closed)
        return found.iterations

    def test_iterations_hardly_grow_with_size(self) -> None:
        counts = [self.iterations(matrix_of(pool(n))) for n in (32, 64, 96)]
        self.assertLessEqual(max(counts), 15)
        self.assertLessEqual(counts[-1] - counts[0], 3, counts)

    def test_thin_wall_with_a_hole(self) -> None:
        self.assertLessEqual(self.iterations(matrix_of(pool(64), hole)), 30)

    def test_baffles(self) -> None:
        self.assertLessEqual(self.iterations(matrix_of(pool(64), baffles)), 30)

    def test_closed_pockets(self) -> None:
        self.assertLessEqual(self.iterations(matrix_of(pool(64), pockets), closed=2), 30)

    def test_thin_sheet_and_many_drops(self) -> None:
        i, j, k = np.indices((64, 64, 64))
        sheet = np.abs(j - (45 + 3 * np.sin(i * 0.2) + 2.5 * np.cos(k * 0.26))) < 1.0
        rng = np.random.default_rng(5)
        drops = np.zeros((64, 64, 64), bool)
        for _ in range(300):
            x, y, z = rng.uniform(4, 60, 3)
            drops |= (i - x) ** 2 + (j - y) ** 2 + (k - z) ** 2 < rng.uniform(0.8, 3.5) ** 2
        for shape in (sheet, drops, sheet | drops | (j < 16)):
            self.assertLessEqual(self.iterations(matrix_of(shape)), 30)
