"""Conjugate gradients in float64 around a float32 multigrid cycle, on a matrix of pencils.

Sums are taken over fixed chunks in a fixed order, so that results do not depend on the number of threads.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from dataclasses import dataclass

import numpy as np
from numba import prange
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

from basin.grid.lanes import product_of_pencil
from basin.grid.multigrid import Multigrid
from basin.grid.pencils import ENDS, PLAIN, Matrix
from basin.kernels import kernel

PENCILS = 512  # summed together
NOTHING = 1e-9  # of a first right side, below which another one counts as nothing


@dataclass(frozen=True)
class Solution:
    """Result of a solve.

    Attributes
    ----------
    value : float64 (n + 1, 8), like the matrix's pencils
    residual : recomputed at the end, over the right side
    closed_components : parts without a free surface
    squeezed : what had to be taken off the right side for them, the sizes of their sums added up
    """

    value: np.ndarray
    iterations: int
    residual: float
    closed_components: int
    squeezed: float = 0.0


@kernel(parallel=True)
def _multiply(x, y, z, surface, links, value, out, part):
    """The matrix times value, and the parts of their product's sum."""
    for chunk in prange(part.shape[0]):
        part[chunk] = 0.0
        for r in range(max(chunk * PENCILS, 1), min((chunk + 1) * PENCILS, out.shape[0])):
            plain = (links[r, ENDS] & PLAIN) != 0
            product_of_pencil(value, x, y, z, surface, links, np.uint64(r), out, part[chunk], plain)


@kernel(parallel=True)
def _products(a, b, part):
    for chunk in prange(part.shape[0]):
        part[chunk] = 0.0
        for r in range(chunk * PENCILS, min((chunk + 1) * PENCILS, a.shape[0])):
            for lane in range(8):
                part[chunk, lane] += np.float64(a[r, lane]) * np.float64(b[r, lane])


def _sum(part: np.ndarray) -> float:
    """The sum of parts (n, 8), always in the same order."""
    total = 0.0
    for value in part.sum(axis=1).tolist():
        total += value
    return total


def _root_of_sum(part: np.ndarray) -> float:
    return float(np.sqrt(_sum(part)))


@kernel(parallel=True)
def _difference(b, q, r, right, part):
    """What is left of b when q is taken off, and parts of its square."""
    for chunk in prange(part.shape[0]):
        part[chunk] = 0.0
        for i in range(chunk * PENCILS, min((chunk + 1) * PENCILS, b.shape[0])):
            for lane in range(8):
                left = b[i, lane] - q[i, lane]
                r[i, lane], right[i, lane] = left, left
                part[chunk, lane] += left * left


@kernel(parallel=True)
def _advance(x, r, s, q, alpha, right, part):
    """Go on by alpha along s; parts of the square of what is left."""
    for chunk in prange(part.shape[0]):
        part[chunk] = 0.0
        for i in range(chunk * PENCILS, min((chunk + 1) * PENCILS, x.shape[0])):
            for lane in range(8):
                x[i, lane] += alpha * np.float64(s[i, lane])
                left = r[i, lane] - alpha * q[i, lane]
                r[i, lane], right[i, lane] = left, left
                part[chunk, lane] += left * left


@kernel(parallel=True)
def _turn(s, z, beta):
    for i in prange(s.shape[0]):
        for lane in range(8):
            s[i, lane] = np.float32(np.float64(z[i, lane]) + beta * np.float64(s[i, lane]))


@kernel
def _without_means(values, label, size):
    """Take the mean of each closed part off, in place; label 0 is for rows in none. Returns their sums' sizes."""
    total = np.zeros(size.shape[0])
    for i in range(values.shape[0]):
        total[label[i]] += values[i]
    for i in range(values.shape[0]):
        if label[i] > 0:
            values[i] -= total[label[i]] / size[label[i]]
    return np.abs(total[1:]).sum()


class Solver:
    """A matrix made ready: coarser levels, and the parts without a free surface."""

    def __init__(self, matrix: Matrix):
        self.matrix = matrix
        self.multigrid = Multigrid(matrix)
        self.label, self.size = self._closed_parts()

    def _closed_parts(self) -> tuple[np.ndarray, np.ndarray]:
        """Number of each place's closed part (0 for none), and the parts' sizes.

        Coarse rows hang together, so the parts of the coarsest level are those of the finest.
        """
        levels = self.multigrid.levels
        last = levels[-1]
        n = len(last.place)
        links = (np.ones(len(last.column), np.int8), last.column.view(np.int32), last.start.view(np.int32))
        graph = csr_matrix(links, shape=(n, n))
        count, label = connected_components(graph, directed=False)
        touches = np.zeros(count, bool)
        touches[label[last.surface > 0]] = True
        closed = int((~touches).sum())
        if closed == 0:
            return np.zeros(0, np.int32), np.zeros(1)
        row = np.where(touches, 0, np.cumsum(~touches)).astype(np.int32)[label]
        for level in reversed(levels[:-1]):
            row = row[level.parent]
        places = self.matrix.places()
        found = np.zeros(self.matrix.surface.size, np.int32)
        found[places] = row[self.multigrid.finest.parent.reshape(-1)[places]]
        return found, np.bincount(found, minlength=closed + 1).astype(np.float64)

    def apart(self, matrix: Matrix) -> Solver:
        """The same for a matrix of its own, whose coupling to the surface may grow."""
        own = copy(self)
        own.matrix, own.multigrid, own.label = matrix, self.multigrid.apart(matrix), self.label.copy()
        return own

    def hold(self, places: np.ndarray, more: np.ndarray) -> None:
        """Couple unknowns at places (m,), some perhaps more than once, more strongly (m,) to the free surface."""
        np.add.at(self.matrix.surface.reshape(-1), places, more.astype(np.float32))
        if len(self.size) > 1:  # their parts are closed no more
            opened = np.unique(self.label[places])
            self.label[np.isin(self.label, opened)] = 0
        self.multigrid.hold(places, more)

    def solve(
        self,
        right: np.ndarray,
        tolerance: float,
        most: int = 300,
        look: Callable[[np.ndarray], np.ndarray | None] | None = None,
        loose: float = 0.0,
        turns: int = 0,
    ) -> Solution:
        """Solve A x = right (n + 1, 8) to ``|right - A x| <= tolerance |right|`` (2-norm, recomputed).

        Up to so many turns, whenever the residual is below `loose` of the first one, x is looked at; if a new right
        side comes of it, because the matrix has changed (`hold`), the solve goes on with that from where it is.

        Parts without a free surface have the mean of their right side taken out, so that a squeezed
        pocket keeps no net flux instead of diverging. Lanes without an unknown have to be zero.
        """
        closed, part = len(self.size) - 1, np.empty((-(-len(right) // PENCILS), 8))
        b, x = right.copy(), np.zeros(right.shape)
        squeezed = self._level(b)
        _products(b, b, part)
        left = norm = _root_of_sum(part)
        if norm == 0.0:
            return Solution(np.zeros(right.shape), 0, 0.0, closed, squeezed)
        m, f = self.matrix, self.multigrid.finest
        matrix = (m.x, m.y, m.z, m.surface, m.links)
        r, q, s = b.copy(), np.zeros(b.shape), np.zeros(b.shape, np.float32)
        f.right[:] = r
        iterations, first = 0, norm
        for _again in range(4):  # the recursive residual may lie: recompute it and go on from there
            rho = 0.0
            s[:] = 0
            while iterations < most and left > 0.9 * tolerance * norm:
                self.multigrid.cycle()
                self._level(f.value)
                _products(r, f.value, part)
                rho_next = _sum(part)
                _turn(s, f.value, rho_next / rho if rho > 0.0 else 0.0)
                rho = rho_next
                _multiply(*matrix, s, q, part)
                curvature = _sum(part)
                if curvature <= 0.0:
                    break
                _advance(x, r, s, q, rho / curvature, f.right, part)
                left = _root_of_sum(part)
                iterations += 1
                if turns > 0 and look is not None and left <= loose * first:
                    new = look(x)
                    turns = turns - 1 if new is not None else 0
                    if new is not None:
                        b, rho = new.copy(), 0.0
                        squeezed = self._level(b)
                        _products(b, b, part)
                        norm = max(_root_of_sum(part), NOTHING * first)  # it may be nothing: all falls freely
                        _multiply(*matrix, x, q, part)
                        _difference(b, q, r, f.right, part)
                        left = _root_of_sum(part)
            _multiply(*matrix, x, q, part)
            _difference(b, q, r, f.right, part)
            left = _root_of_sum(part)
            if left <= tolerance * norm or iterations >= most:
                break
        self._level(x)
        return Solution(x, iterations, left / norm, closed, squeezed)

    def _level(self, values: np.ndarray) -> float:
        return float(_without_means(values.reshape(-1), self.label, self.size)) if len(self.size) > 1 else 0.0
