"""Conjugate gradients in float64 around a float32 multigrid cycle, on listed cells.

The matrix is symmetric with at most six neighbours a row. Sums are taken over fixed chunks in a
fixed order, so that results do not depend on the number of threads.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import njit, prange
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

from basin.grid.multigrid import Level, Multigrid

CHUNK = 4096  # rows summed together


@dataclass(frozen=True)
class Solution:
    """Result of a solve.

    Attributes
    ----------
    value : float64 (n,)
    residual : recomputed at the end, over the right side
    closed_components : parts without a free surface
    squeezed : what had to be taken off the right side for them, the sizes of their sums added up
    """

    value: np.ndarray
    iterations: int
    residual: float
    closed_components: int
    squeezed: float = 0.0


@dataclass(frozen=True)
class Matrix:
    """(A x)_i = surface_i x_i + sum over s of weight_is (x_i - x_neighbour(i,s)).

    Attributes
    ----------
    cell : int32 (n, 3), where each row's cell lies
    neighbour : int32 (n, 6), row of each neighbour, -1 for none
    weight : float64 (n, 6), positive coupling, the same seen from both rows; 0 for none
    surface : float64 (n,), coupling to the free surface, where the pressure is zero
    """

    cell: np.ndarray
    neighbour: np.ndarray
    weight: np.ndarray
    surface: np.ndarray

    @cached_property
    def solver(self) -> Solver:
        """Made once, for all right sides."""
        return Solver(self)

    def as_csr(self) -> csr_matrix:
        """The same matrix for a general library (n, n)."""
        n = len(self.surface)
        row, slot = np.nonzero(self.neighbour >= 0)
        column, w = self.neighbour[row, slot], self.weight[row, slot]
        entries = coo_matrix((-w, (row, column)), shape=(n, n))
        diagonal = self.surface + np.where(self.neighbour >= 0, self.weight, 0.0).sum(axis=1)
        return (entries + coo_matrix((diagonal, (np.arange(n), np.arange(n))), shape=(n, n))).tocsr()


@njit(cache=True)
def _by_colour(cell, rank):
    """Rank of each row when rows with an even sum of indices come first; returns their number."""
    reds = 0
    for i in range(cell.shape[0]):
        reds += 1 - ((cell[i, 0] + cell[i, 1] + cell[i, 2]) & 1)
    r, b = 0, reds
    for i in range(cell.shape[0]):
        if (cell[i, 0] + cell[i, 1] + cell[i, 2]) & 1:
            rank[i] = b
            b += 1
        else:
            rank[i] = r
            r += 1
    return reds


@njit(cache=True, parallel=True)
def _sort_rows(rank, cell, neighbour, weight, surface, place, held, count):
    for i in prange(rank.shape[0]):
        r = rank[i]
        held[r] = surface[i]
        for d in range(3):
            place[r, d] = cell[i, d]
        n = 0
        for s in range(6):
            if neighbour[i, s] >= 0 and weight[i, s] > 0.0:
                n += 1
        count[r] = n


@njit(cache=True, parallel=True)
def _couplings(rank, neighbour, weight, start, column, value):
    for i in prange(rank.shape[0]):
        at = start[rank[i]]
        for s in range(6):
            if neighbour[i, s] >= 0 and weight[i, s] > 0.0:
                column[at] = rank[neighbour[i, s]]
                value[at] = weight[i, s]
                at += 1


@njit(cache=True, parallel=True)
def _multiply(surface, start, column, weight, x, y):
    for i in prange(y.shape[0]):
        own = np.float64(x[i])
        t = surface[i] * own
        for e in range(start[i], start[i + 1]):
            t += np.float64(weight[e]) * (own - np.float64(x[column[e]]))
        y[i] = t


@njit(cache=True, parallel=True)
def _chunked(a, b, part):
    for c in prange(part.shape[0]):
        total = 0.0
        for i in range(c * CHUNK, min((c + 1) * CHUNK, a.shape[0])):
            total += np.float64(a[i]) * np.float64(b[i])
        part[c] = total


def _dot(a: np.ndarray, b: np.ndarray) -> float:
    part = np.empty(-(-len(a) // CHUNK))
    _chunked(a, b, part)
    total = 0.0
    for value in part:
        total += float(value)
    return total


@njit(cache=True, parallel=True)
def _advance(x, r, s, q, alpha, right):
    for i in prange(x.shape[0]):
        x[i] += alpha * np.float64(s[i])
        r[i] -= alpha * q[i]
        right[i] = r[i]


@njit(cache=True, parallel=True)
def _turn(s, z, beta):
    for i in prange(s.shape[0]):
        s[i] = np.float32(np.float64(z[i]) + beta * np.float64(s[i]))


@njit(cache=True)
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
    """A matrix made ready: rows by colour, coarser levels, and the parts without a free surface."""

    def __init__(self, matrix: Matrix):
        n = len(matrix.surface)
        self.rank = np.empty(n, np.int32)
        reds = _by_colour(matrix.cell, self.rank)
        place, held, count = np.empty((n, 3), np.int32), np.empty(n), np.empty(n, np.int32)
        _sort_rows(self.rank, matrix.cell, matrix.neighbour, matrix.weight, matrix.surface, place, held, count)
        start = np.zeros(n + 1, np.uint32)
        np.cumsum(count, out=start[1:], dtype=np.uint32)
        column, weight = np.empty(start[-1], np.uint32), np.empty(start[-1], np.float32)
        _couplings(self.rank, matrix.neighbour, matrix.weight, start, column, weight)
        self.finest = Level(place, reds, held, start, column, weight)
        self.multigrid = Multigrid(self.finest)
        self.label, self.size = self._closed_parts()

    def _closed_parts(self) -> tuple[np.ndarray, np.ndarray]:
        """Number of each row's closed part (0 for none), and the parts' sizes.

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
        number = np.where(touches, 0, np.cumsum(~touches)).astype(np.int32)
        row = number[label] if n else np.zeros(0, np.int32)
        for level in reversed(levels[:-1]):
            row = row[level.parent]
        size = np.bincount(row, minlength=int((~touches).sum()) + 1).astype(np.float64)
        return row, size

    def solve(self, right: np.ndarray, tolerance: float, most: int = 300) -> Solution:
        """Solve A x = right to ``|right - A x| <= tolerance |right|`` (2-norm, recomputed).

        Parts without a free surface have the mean of their right side taken out, so that a squeezed
        pocket keeps no net flux instead of diverging.
        """
        n, closed = len(right), len(self.size) - 1
        b = np.empty(n)
        b[self.rank] = right
        squeezed = self._level(b)
        x = np.zeros(n)
        norm = np.sqrt(_dot(b, b)) if n else 0.0
        if norm == 0.0:
            return Solution(x, 0, 0.0, closed, squeezed)
        f = self.finest
        matrix = (f.surface, f.start, f.column, f.weight)
        r, q, s = b.copy(), np.empty(n), np.zeros(n, np.float32)
        f.right[:] = r
        iterations, residual = 0, 1.0
        for _again in range(4):  # the recursive residual may lie: recompute it and go on from there
            rho = 0.0
            s[:] = 0
            while iterations < most and np.sqrt(_dot(r, r)) > 0.9 * tolerance * norm:
                self.multigrid.cycle()
                self._level(f.value)
                rho_next = _dot(r, f.value)
                _turn(s, f.value, rho_next / rho if rho > 0.0 else 0.0)
                rho = rho_next
                _multiply(*matrix, s, q)
                curvature = _dot(s, q)
                if curvature <= 0.0:
                    break
                _advance(x, r, s, q, rho / curvature, f.right)
                iterations += 1
            _multiply(*matrix, x, q)
            r = b - q
            f.right[:] = r
            residual = float(np.sqrt(_dot(r, r)) / norm)
            if residual <= tolerance or iterations >= most:
                break
        self._level(x)
        return Solution(x[self.rank], iterations, residual, closed, squeezed)

    def _level(self, values: np.ndarray) -> float:
        return float(_without_means(values, self.label, self.size)) if len(self.size) > 1 else 0.0
