"""Conjugate gradients with multigrid against SciPy's direct solver, and on shapes that are hard for multigrid."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numba
import numpy as np
from django.test import SimpleTestCase
from scipy.sparse.linalg import spsolve

from basin.grid.pencils import Matrix, link, list_pencils
from basin.grid.poisson import Solution, Solver

Walls = Callable[[list[np.ndarray]], None]


@dataclass(frozen=True)
class Case:
    """A matrix, its solver, and its unknowns' cells (m, 3)."""

    matrix: Matrix
    solver: Solver
    cell: np.ndarray

    def solved(self, right: np.ndarray, tolerance: float) -> tuple[np.ndarray, Solution]:
        """The values of the unknowns (m,) for a right side (m,), and the rest of the outcome."""
        given = self.matrix.values()
        given.reshape(-1)[self.matrix.places()] = right
        found = self.solver.solve(given, tolerance)
        values = found.value.reshape(-1)[self.matrix.places()]
        return values, found


def in_tiles(field: np.ndarray) -> np.ndarray:
    """A dense field as tiles (n + 1, 8, 8, 8), zero beyond it and in tile 0."""
    wide = np.pad(field, [(0, -n % 8) for n in field.shape])
    x, y, z = (n // 8 for n in wide.shape)
    tiles = wide.reshape(x, 8, y, 8, z, 8).transpose(0, 2, 4, 1, 3, 5).reshape(-1, 8, 8, 8)
    return np.concatenate([np.zeros((1, 8, 8, 8), field.dtype), tiles])


def matrix_of(liquid: np.ndarray, walls: Walls | None = None, air: bool = True, wrapped: int | None = None) -> Case:
    """The matrix of a liquid mask in a closed box; `walls` may shut faces (faces[axis][i] lies below cell i).

    Every liquid cell that touches air through an open face has the free surface half a voxel away.
    """
    shape = liquid.shape
    faces = [np.ones(shape) for _ in range(3)]
    for axis in range(3):
        if axis != wrapped:
            np.moveaxis(faces[axis], axis, 0)[0] = 0.0
    if walls:
        walls(faces)
    cell = np.moveaxis(np.indices(shape), 0, -1).astype(np.int32)
    corner = np.stack([in_tiles(cell[..., axis])[:, 0, 0, 0] for axis in range(3)], axis=1)
    live = (in_tiles(liquid) << np.arange(8)).sum(axis=-1).astype(np.uint8)
    start = np.cumsum((live > 0).sum(axis=(1, 2)))
    n = int(start[-1])
    first, links = np.zeros((n + 1, 3), np.int32), np.zeros((n + 1, 8), np.uint32)
    index = np.full((len(corner), 8, 8, 8), -1, np.int32)
    list_pencils(corner, live, start, first, links, index)
    place = np.full(shape, -1)
    for number in range(1, len(corner)):
        i, j, k = corner[number]
        part = place[i : i + 8, j : j + 8, k : k + 8]
        part[:] = index[number][tuple(slice(size) for size in part.shape)]
    coupling = [np.zeros((n + 1, 8), np.float32) for _ in range(3)]
    surface = np.zeros((n + 1, 8), np.float32)
    for axis in range(3):
        for side in range(2):
            beside = np.roll(place, 1 if side == 0 else -1, axis)
            share = faces[axis] if side == 0 else np.roll(faces[axis], -1, axis)
            joined = liquid & (beside >= 0) & (share > 0)
            for own, other in zip(place[joined], beside[joined], strict=True):
                link(links, own >> 3, own & 7, 2 * axis + side, other)
            if side == 0:
                coupling[axis].reshape(-1)[place[joined]] = share[joined]
            outer = liquid & (beside < 0) & (share > 0)
            if air:
                surface.reshape(-1)[place[outer]] += 2 * share[outer]
    matrix = Matrix(first, *coupling, surface, links)
    return Case(matrix, Solver(matrix), matrix.cells())


def noise(matrix: Case) -> np.ndarray:
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
        mine, found = matrix.solved(right, 1e-10)
        other = spsolve(matrix.matrix.as_csr(), right)
        np.testing.assert_allclose(mine, other, atol=1e-8 * np.abs(other).max())
        self.assertLess(found.residual, 1e-10)
        residual = right - matrix.matrix.as_csr() @ mine
        self.assertAlmostEqual(float(np.linalg.norm(residual) / np.linalg.norm(right)), found.residual, places=12)

    def test_matrix_is_the_definitions(self) -> None:
        """Every row by hand from the mask: the sum over open faces, in a box that wraps within a pencil."""
        liquid = pool(10)
        for wrapped in (None, 0, 1, 2):
            case = matrix_of(liquid, wrapped=wrapped)
            dense = case.matrix.as_csr().toarray()
            number = {tuple(c): n for n, c in enumerate(case.cell.tolist())}
            expected = np.zeros_like(dense)
            for cell, row in number.items():
                for axis in range(3):
                    for step in (-1, 1):
                        beside = list(cell)
                        beside[axis] += step
                        if axis == wrapped:
                            beside[axis] %= 10
                        if not 0 <= beside[axis] < 10:
                            continue
                        other = number.get(tuple(beside))
                        expected[row, row] += 2.0 if other is None else 1.0
                        if other is not None:
                            expected[row, other] -= 1.0
            np.testing.assert_array_equal(dense, expected)

    def test_odd_periodic_axis(self) -> None:
        for axis in range(3):
            matrix = matrix_of(np.moveaxis(pool(13), 1, (axis + 1) % 3), wrapped=axis)
            self.assertTrue(matrix.solver.multigrid.finest.mixed)
            right = noise(matrix)
            other = spsolve(matrix.matrix.as_csr(), right)
            np.testing.assert_allclose(matrix.solved(right, 1e-10)[0], other, atol=1e-8 * np.abs(other).max())

    def test_colours_stay_apart_without_odd_axes(self) -> None:
        for matrix in (matrix_of(pool(13)), matrix_of(pool(14), wrapped=2), matrix_of(pool(14), wrapped=0)):
            self.assertFalse(matrix.solver.multigrid.finest.mixed)

    def test_closed_box_with_net_flux_stays_bounded(self) -> None:
        matrix = matrix_of(np.ones((7, 7, 7), bool), air=False)
        value, found = matrix.solved(noise(matrix) + 5.0, 1e-8)
        self.assertEqual(found.closed_components, 1)
        self.assertAlmostEqual(found.squeezed / abs((noise(matrix) + 5.0).sum()), 1.0, places=9)
        self.assertLess(found.residual, 1e-8)
        self.assertLess(np.abs(value).max(), 100.0)
        self.assertAlmostEqual(float(value.mean()), 0.0, places=9)

    def test_drops_that_nothing_joins(self) -> None:
        # the second level has rows but no couplings; whatever lies in fresh memory must not become its surface
        liquid = np.zeros((17, 17, 17), bool)
        liquid[::4, ::4, ::4] = liquid[1::4, ::4, ::4] = True
        matrix = matrix_of(liquid)
        right = noise(matrix)
        other = spsolve(matrix.matrix.as_csr(), right)
        spoilt = [np.full(125, np.nan) for _ in range(50)]
        del spoilt
        value, found = matrix.solved(right, 1e-10)
        self.assertEqual(found.closed_components, 0)
        np.testing.assert_allclose(value, other, atol=1e-8 * np.abs(other).max())

    def test_no_liquid(self) -> None:
        self.assertEqual(matrix_of(np.zeros((5, 5, 5), bool)).solved(np.zeros(0), 1e-6)[1].iterations, 0)

    def test_bits_do_not_depend_on_threads(self) -> None:
        found = []
        most = numba.config.NUMBA_NUM_THREADS  # type: ignore[attr-defined]
        for threads in (1, most):
            numba.set_num_threads(threads)
            matrix = matrix_of(pool(33), wrapped=0)
            found.append(matrix.solved(noise(matrix), 1e-6)[0].tobytes())
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

    def iterations(self, matrix: Case, closed: int = 0) -> int:
        _, found = matrix.solved(noise(matrix), 1e-6)
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


class HeldMore(SimpleTestCase):
    """A matrix whose coupling to the surface grows: the same values as one made so, and a look on the way."""

    def held(self, case: Case, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """Some places, one of them twice, and by how much more they are held."""
        at_walls = ((case.cell == 0) | (case.cell == case.cell.max(axis=0))).any(axis=1)
        some = rng.choice(case.matrix.places()[at_walls], 200, replace=False)
        return np.append(some, some[0]), rng.uniform(0.5, 2.0, 201)

    def test_as_one_that_is_made_anew(self) -> None:
        case, rng = matrix_of(pool(24), hole), np.random.default_rng(3)
        places, more = self.held(case, rng)
        surface = case.matrix.surface.copy()
        np.add.at(surface.reshape(-1), places, more.astype(np.float32))
        anew = replace(case.matrix, surface=surface)
        own = replace(case.matrix, surface=case.matrix.surface.copy())
        solver = case.solver.apart(own)
        solver.hold(places, more)
        right = case.matrix.values()
        right.reshape(-1)[case.matrix.places()] = noise(case)
        expected = spsolve(anew.as_csr(), right.reshape(-1)[case.matrix.places()])
        found, fresh = solver.solve(right, 1e-10), Solver(anew).solve(right, 1e-10)
        np.testing.assert_allclose(found.value.reshape(-1)[case.matrix.places()], expected, atol=1e-7)
        self.assertLessEqual(found.iterations, fresh.iterations + 1)
        before = spsolve(case.matrix.as_csr(), right.reshape(-1)[case.matrix.places()])
        again = case.solver.solve(right, 1e-10)  # is as it was
        np.testing.assert_allclose(again.value.reshape(-1)[case.matrix.places()], before, atol=1e-7)

    def test_while_it_is_solved(self) -> None:
        case, rng = matrix_of(pool(24), hole), np.random.default_rng(4)
        places, more = self.held(case, rng)
        own = replace(case.matrix, surface=case.matrix.surface.copy())
        solver, right = case.solver.apart(own), case.matrix.values()
        right.reshape(-1)[case.matrix.places()] = noise(case)
        looked = []

        def look(value: np.ndarray) -> np.ndarray | None:
            looked.append(value.copy())
            if len(looked) > 1:
                return None
            solver.hold(places, more)
            return 2.0 * right

        found = solver.solve(right, 1e-10, look=look, loose=1e-2, turns=3)
        self.assertEqual(len(looked), 2)
        self.assertLess(found.residual, 1e-10)
        expected = spsolve(own.as_csr(), 2.0 * right.reshape(-1)[case.matrix.places()])
        np.testing.assert_allclose(found.value.reshape(-1)[case.matrix.places()], expected, atol=1e-7)
