"""A multigrid cycle for matrices of strains, on grids twice as coarse each time.

A coarser velocity stands for the finer one that lies between its faces' values, linear along each axis; so it can turn
and stretch as a whole. Strains of that one are means of the coarse strains about them, halved; and by Jensen's
inequality the energy of a mean is at most the mean of energies. So coarse weights that are a quarter of the fine ones,
shared out by the same means, make a matrix of the same kind that is nowhere softer than the fine one is between coarse
values (Galerkin's), and just as stiff for what strains evenly: what the cycle takes from it is never too much, however
thin or ragged the liquid is. Galerkin's own matrix would couple each face with some hundred others.

Where a wall holds one of the faces about a strain, the fine velocity is not the mean of coarse ones. There each of the
others is held by itself, as strongly as the strain can hold all of them: the square of a sum of n is at most n times
the sum of their squares.

Each level is smoothed by Chebyshev's polynomials of its diagonal before and after (Adams, Brezina, Hu & Tuminaro 2003,
J. Comput. Phys. 188); the coarsest is solved.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numba import prange

from basin.grid.tiles import Tiles, load
from basin.kernels import kernel, shared
from basin.liquid.strains import Strains, begin, relax, remains, take

STEPS = 2  # of the smoother, before and after
LARGEST = 4.0  # eigenvalue of the matrix over its diagonal: a strain has four faces at most; inside a body it is 3
RANGE = 8.0  # of eigenvalues that are smoothed, the largest over the least
FEW = 400  # unknowns that are solved for at once: a body three cells across is no coarser than that
LEAST = 1e-7  # of a diagonal, that is added to it there
MOST_LEVELS = 12
HALVED = 0.25  # squared: strains are half of those between faces twice as far apart
ALONE = 16  # tiles that one thread is done with before another one would begin
ROOM = 5  # tiles that an index has besides the grid's, so that coarser tiles can look for finer ones beyond its end
# shares that the cells or faces of a finer grid from one before to two after a coarse one's first have in it
PAIR, CENTRED, FACED = 0, 1, 2
SHARES = np.array([[0.0, 1.0, 1.0, 0.0], [0.25, 0.75, 0.75, 0.25], [0.5, 1.0, 0.5, 0.0]], np.float32)
OF_CELLS = np.array([[PAIR if a == d else CENTRED for a in range(3)] for d in range(3)])
OF_EDGES = np.array([[CENTRED if a == d else FACED for a in range(3)] for d in (2, 1, 0)])
OF_FACES = np.array([[FACED if a == d else CENTRED for a in range(3)] for d in range(3)])


@dataclass(frozen=True)
class _Level:
    """A matrix and what a cycle needs besides it: velocities before and after a step, steps, right sides."""

    matrix: Strains
    flow: np.ndarray
    other: np.ndarray
    way: np.ndarray
    right: np.ndarray

    @staticmethod
    def of(matrix: Strains) -> _Level:
        return _Level(matrix, *(np.zeros(matrix.mass.shape, np.float32) for _ in range(4)))


class Cycle:
    """A preconditioner: nearly the inverse of a matrix, symmetric and positive definite as it is."""

    def __init__(self, matrix: Strains, tiles: Tiles):
        """Make coarser matrices; `tiles` are those of the matrix, and wrap its velocities if they are periodic."""
        self._tiles = tiles
        roomy = np.pad(matrix.where, ((0, ROOM - 2),) * 3)
        self._levels = [_Level.of(replace(matrix, where=roomy))]
        while len(self._levels) < MOST_LEVELS and int((self._levels[-1].matrix.inverse > 0).sum()) > FEW:
            self._levels.append(_Level.of(_coarsened(self._levels[-1].matrix)))
        self._last = _inverse(self._levels[-1].matrix)

    def __call__(self, left: np.ndarray) -> np.ndarray:
        """About the matrix's inverse times `left`, float64 like its mass; float32, and good until the next call."""
        finest = self._levels[0]
        _do(take, finest.matrix.row, left, finest.right)
        return self._solved(0)

    def _solved(self, n: int) -> np.ndarray:
        level = self._levels[n]
        if n == len(self._levels) - 1:
            some, inverse = self._last
            level.flow[some] = _times(inverse, level.right[some])
            return level.flow
        m = level.matrix
        flow, other = level.flow, level.other
        far, steps = _chebyshev()
        _do(begin, m.row, m.inverse, level.right, far, level.way, flow)
        self._wrap(n, flow)
        flow, other = self._smoothed(n, flow, other, steps)
        _do(remains, *m.single(), level.right, flow, other)
        below = self._levels[n + 1]
        c = below.matrix
        _do(_gathered, c.row, c.first, m.where, OF_FACES, np.float32(1.0), other, below.right)
        _do(_spread, m.row, m.first, c.where, m.inverse, self._twice(n + 1), flow)
        self._wrap(n, flow)
        flow, _ = self._smoothed(n, flow, other, [(np.float32(0.0), far), *steps])
        return flow

    def _twice(self, n: int) -> np.ndarray:
        """What two cycles from a level on make of its right side: little for coarse ones, and a better cycle above."""
        once = self._solved(n)
        if n == len(self._levels) - 1:
            return once
        m = self._levels[n].matrix
        first, right = once.copy(), self._levels[n].right
        left = right.copy()
        _do(remains, *m.single(), left, first, right)
        return first + self._solved(n)

    def _smoothed(
        self, n: int, flow: np.ndarray, other: np.ndarray, steps: list[tuple[np.float32, np.float32]]
    ) -> tuple[np.ndarray, np.ndarray]:
        """A velocity after steps of the smoother, and an array that is free."""
        level = self._levels[n]
        m = level.matrix
        for keep, far in steps:
            _do(relax, *m.single(), level.right, flow, keep, far, level.way, other)
            flow, other = other, flow
            self._wrap(n, flow)
        return flow, other

    def _wrap(self, n: int, flow: np.ndarray) -> None:
        if n == 0:  # coarser grids end at walls that are periodic
            self._tiles.wrap(*flow)


def _do(action: Any, row: np.ndarray, *given: Any) -> None:
    """A kernel over some tiles, on this thread alone if they are so few that asking others would take longer."""
    if len(row) < ALONE:
        action.piece(0, len(row), row, *given)
    else:
        action(row, *given)


def _chebyshev() -> tuple[np.float32, list[tuple[np.float32, np.float32]]]:
    """How far the first step of the smoother goes; what others keep of the step before, and how far they go."""
    middle, half = 0.5 * LARGEST * (1.0 + 1.0 / RANGE), 0.5 * LARGEST * (1.0 - 1.0 / RANGE)
    sigma = middle / half
    rho, steps = 1.0 / sigma, []
    for _ in range(STEPS - 1):
        after = 1.0 / (2.0 * sigma - rho)
        steps.append((np.float32(after * rho), np.float32(2.0 * after / half)))
        rho = after
    return np.float32(1.0 / middle), steps


def _coarsened(fine: Strains) -> Strains:
    """The matrix of a grid twice as coarse."""
    own = fine.first[fine.row] // 8
    count = own.max(axis=0) // 2 + 2
    flags = np.zeros(tuple(count), bool)
    for off in np.ndindex(2, 2, 2):  # cells beside a tile lie between coarse ones that may be in the next
        there = own // 2 + np.array(off) * np.where(own % 2 == 1, 1, -1)
        flags[tuple(there[((there >= 0) & (there < count)).all(axis=1)].T)] = True
    place = np.argwhere(flags).astype(np.int32)
    where = np.zeros(tuple(count + ROOM), np.int32)
    where[tuple(place.T + 1)] = np.arange(1, len(place) + 1)
    first = np.vstack([np.full((1, 3), -(1 << 20), np.int32), place * 8])
    shape = (3, fine.mass.shape[1], 8, 8, 8)
    cell, edge, ground = (np.zeros(shape, np.float32) for _ in range(3))
    _freed(fine.row, fine.first, fine.where, fine.weight, fine.mass, fine.inverse, cell, edge, ground)
    every = np.arange(1, len(first))
    found = [np.zeros((3, len(first), 8, 8, 8), np.float32) for _ in range(3)]
    kinds = ((cell, OF_CELLS, HALVED), (edge, OF_EDGES, HALVED), (ground, OF_FACES, 1.0))
    for (field, kind, scale), to in zip(kinds, found, strict=True):
        _do(_gathered, every, first, fine.where, kind, np.float32(scale), field, to)
    return Strains.of(first, where, *found)


def _inverse(matrix: Strains) -> tuple[tuple[np.ndarray, ...], np.ndarray]:
    """Where a matrix has unknowns, and its inverse there."""
    some = np.nonzero(matrix.inverse)
    number = np.full(matrix.mass.shape, -1, np.int32)
    number[some] = np.arange(len(some[0]))
    whole = np.zeros((len(some[0]), len(some[0])))
    _add_all(matrix.row, matrix.first, matrix.where, matrix.weight, matrix.mass, number, whole)
    whole[np.diag_indices_from(whole)] *= 1.0 + LEAST  # turns that cost nothing are no harm
    _invert(whole)
    return some, whole.astype(np.float32)


@kernel
def _invert(whole):
    """Turn a positive definite matrix into its inverse, by Gauss and Jordan: libraries' bits depend on threads."""
    for k in range(whole.shape[0]):
        per = 1.0 / whole[k, k]
        whole[k, k] = 1.0
        own = whole[k] * per
        for i in range(whole.shape[0]):
            share, row = whole[i, k], whole[i]
            if i != k and share != 0.0:
                row[k] = 0.0
                for j in range(own.shape[0]):
                    row[j] -= share * own[j]
        whole[k] = own


@kernel(fastmath=True)
def _times(matrix, vector):
    found = np.zeros(vector.shape[0], np.float32)
    for i in range(vector.shape[0]):
        total = np.float32(0.0)
        for j in range(vector.shape[0]):
            total += matrix[i, j] * vector[j]
        found[i] = total
    return found


@kernel
def _add_all(row, first, where, weight, mass, number, whole):
    """Add up a matrix by its unknowns' numbers (-1 for none)."""
    block, face, sign = np.empty((3, 10, 10, 10), np.int32), np.empty(4, np.int32), (1.0, -1.0, 1.0, -1.0)
    step = (100, 10, 1)
    for n in range(row.shape[0]):
        t = row[n]
        for d in range(3):
            load(number[d], where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block[d])
        of, stiff = block.reshape((3, 1000)), weight[n].reshape((6, 1000))
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    for e in range(6):
                        if e < 3:
                            face[0], face[1], face[2], face[3] = of[e, p + step[e]], of[e, p], -1, -1
                        else:
                            x, y = (0, 1) if e == 3 else ((0, 2) if e == 4 else (1, 2))
                            face[0], face[1], face[2], face[3] = (
                                of[x, p],
                                of[x, p - step[y]],
                                of[y, p],
                                of[y, p - step[x]],
                            )
                        for i in range(4):
                            for j in range(4):
                                if face[i] >= 0 and face[j] >= 0:
                                    whole[face[i], face[j]] += sign[i] * sign[j] * stiff[e, p]
                    for d in range(3):
                        if of[d, p] >= 0:
                            whole[of[d, p], of[d, p]] += mass[d, t, a, b, c]


@shared
def _freed(row, first, where, weight, mass, inverse, cell, edge, ground):
    """Weights of strains all of whose faces are free; masses of faces with what holds them by other ones added."""
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        block = np.empty((3, 10, 10, 10), np.float32)
        load(inverse[0], where, i0, j0, k0, block[0])
        load(inverse[1], where, i0, j0, k0, block[1])
        load(inverse[2], where, i0, j0, k0, block[2])
        free, held, stiff = block.reshape((3, 1000)), np.zeros((3, 1000), np.float32), weight[n].reshape((6, 1000))
        # all strains that touch the tile's own faces: those of its cells, and beside it
        for a in range(9):
            for b in range(9):
                for c in range(9):
                    p = (a * 10 + b) * 10 + c
                    own = a > 0 and b > 0 and c > 0
                    for d in range(3):
                        w, beside = stiff[d, p], p + (100 if d == 0 else (10 if d == 1 else 1))
                        if w <= 0:
                            continue
                        if free[d, p] > 0 and free[d, beside] > 0:
                            if own:
                                cell[d, t, a - 1, b - 1, c - 1] = w
                        else:
                            held[d, p] += w
                            held[d, beside] += w
        for a in range(1, 10):
            for b in range(1, 10):
                for c in range(1, 10):
                    p = (a * 10 + b) * 10 + c
                    own = a < 9 and b < 9 and c < 9
                    for e in range(3):
                        x, y = (0, 1) if e == 0 else ((0, 2) if e == 1 else (1, 2))
                        w = stiff[3 + e, p]
                        if w <= 0:
                            continue
                        q, r = p - (10 if y == 1 else 1), p - (100 if x == 0 else 10)
                        count = int(free[x, p] > 0) + int(free[x, q] > 0) + int(free[y, p] > 0) + int(free[y, r] > 0)
                        if count == 4:
                            if own:
                                edge[e, t, a - 1, b - 1, c - 1] = w
                        else:
                            held[x, p] += count * w
                            held[x, q] += count * w
                            held[y, p] += count * w
                            held[y, r] += count * w
        for d in range(3):
            for a in range(8):
                for b in range(8):
                    for c in range(8):
                        p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                        if free[d, p] > 0:
                            ground[d, t, a, b, c] = mass[d, t, a, b, c] + held[d, p]


@shared
def _gathered(row, first, where, kinds, scale, field, out):
    """Sums of finer fields (m, tiles, 8, 8, 8) on coarser tiles, by the shares of `kinds` (m, 3) along each axis."""
    for n in prange(row.shape[0]):
        t = row[n]
        block = np.empty((18, 18, 18), np.float32)
        along, across = np.empty((18, 18, 8), np.float32), np.empty((18, 8, 8), np.float32)
        for d in range(field.shape[0]):
            load(field[d], where, 2 * first[t, 0] - 1, 2 * first[t, 1] - 1, 2 * first[t, 2] - 1, block)
            x, y, z = SHARES[kinds[d, 0]], SHARES[kinds[d, 1]], SHARES[kinds[d, 2]]
            for i in range(18):
                for j in range(18):
                    line = block[i, j]
                    for k in range(8):
                        p = 2 * k
                        along[i, j, k] = z[0] * line[p] + z[1] * line[p + 1] + z[2] * line[p + 2] + z[3] * line[p + 3]
            for i in range(18):
                for j in range(8):
                    p = 2 * j
                    for k in range(8):
                        across[i, j, k] = (
                            y[0] * along[i, p, k]
                            + y[1] * along[i, p + 1, k]
                            + y[2] * along[i, p + 2, k]
                            + y[3] * along[i, p + 3, k]
                        )
            for i in range(8):
                p = 2 * i
                for j in range(8):
                    for k in range(8):
                        out[d, t, i, j, k] = scale * (
                            x[0] * across[p, j, k]
                            + x[1] * across[p + 1, j, k]
                            + x[2] * across[p + 2, j, k]
                            + x[3] * across[p + 3, j, k]
                        )


@shared
def _spread(row, first, where, inverse, coarse, flow):
    """Add what lies between a coarser velocity's values to a finer one where it is free, in place."""
    for n in prange(row.shape[0]):
        t = row[n]
        block = np.empty((6, 6, 6), np.float32)
        along, across = np.empty((6, 6, 8), np.float32), np.empty((6, 8, 8), np.float32)
        near, far = np.empty(8, np.int64), np.empty(8, np.int64)
        for d in range(3):
            load(coarse[d], where, (first[t, 0] >> 1) - 1, (first[t, 1] >> 1) - 1, (first[t, 2] >> 1) - 1, block)
            for axis in range(2, -1, -1):
                for k in range(8):
                    near[k] = 1 + (k >> 1)
                    if axis == d:
                        far[k] = near[k] + (k & 1)
                    else:
                        far[k] = near[k] + (1 if k & 1 else -1)
                share = np.float32(0.5) if axis == d else np.float32(0.25)
                rest = np.float32(1.0) - share
                if axis == 2:
                    for i in range(6):
                        for j in range(6):
                            for k in range(8):
                                along[i, j, k] = rest * block[i, j, near[k]] + share * block[i, j, far[k]]
                elif axis == 1:
                    for i in range(6):
                        for j in range(8):
                            for k in range(8):
                                across[i, j, k] = rest * along[i, near[j], k] + share * along[i, far[j], k]
                else:
                    for i in range(8):
                        for j in range(8):
                            for k in range(8):
                                if inverse[d, t, i, j, k] > 0:
                                    value = rest * across[near[i], j, k] + share * across[far[i], j, k]
                                    flow[d, t, i, j, k] += value
