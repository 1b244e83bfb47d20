"""A float32 multigrid cycle on listed cells, the preconditioner of `basin.grid.poisson`.

Coarse cells are blocks of 2x2x2, but a block whose cells do not all hang together becomes several
coarse cells: a thin wall with a hole, or a pocket beside it, is never smeared across the wall. The
coarse matrix is Galerkin's with constant interpolation, halved (over-correction, Braess 1995); the
smoother is red-black Gauss-Seidel, whose colours survive the splitting because parts of one block
never touch. Work and storage follow the number of cells; every sum has a fixed order.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import njit, prange

SWEEPS = 2
COARSEST = 48  # rows below which a level is swept instead of coarsened
COARSEST_SWEEPS = 12
MOST_COUPLINGS = 4096  # of one row; a plate full of holes couples many parts
MOST_PARTS = 64  # rows of one block that are looked at together; more stay apart


@dataclass
class Level:
    """One level: rows sorted by colour, `reds` of them red; the matrix by rows (CSR) without diagonal.

    Attributes
    ----------
    place : int32 (n, 3), block of each row
    surface : float64 (n,), coupling to the free surface
    start, column, weight : uint32 (n + 1,), uint32, float32: couplings to other rows (positive);
        unsigned, which spares each look-up a test for negative indices
    parent : uint32 (n,), row of the next level; `member_start`, `member` list a parent's rows
    mixed : whether rows of one colour touch (odd periodic axes), which then see each other's old values
    """

    place: np.ndarray
    reds: int
    surface: np.ndarray
    start: np.ndarray
    column: np.ndarray
    weight: np.ndarray
    mixed: bool = field(init=False)
    diagonal: np.ndarray = field(init=False)
    inverse: np.ndarray = field(init=False)
    value: np.ndarray = field(init=False)
    right: np.ndarray = field(init=False)
    parent: np.ndarray = field(init=False)
    member_start: np.ndarray = field(init=False)
    member: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        n = len(self.place)
        self.diagonal, self.inverse = np.empty(n, np.float32), np.empty(n, np.float32)
        self.mixed = _colours_touch(self.reds, self.start, self.column)
        _diagonals(self.surface, self.start, self.weight, self.diagonal, self.inverse)
        self.value, self.right = np.zeros(n, np.float32), np.zeros(n, np.float32)


@njit(cache=True, parallel=True)
def _diagonals(surface, start, weight, diagonal, inverse):
    for i in prange(diagonal.shape[0]):
        total = surface[i]
        for e in range(start[i], start[i + 1]):
            total += weight[e]
        diagonal[i] = total
        inverse[i] = 1.0 / total if total > 0.0 else 0.0


@njit(cache=True)
def _bounds(place):
    low, high = place[0].copy(), place[0].copy()
    for i in range(place.shape[0]):
        for d in range(3):
            low[d] = min(low[d], place[i, d])
            high[d] = max(high[d], place[i, d])
    return low, high


@njit(cache=True)
def _colours_touch(reds, start, column):
    for i in range(start.shape[0] - 1):
        for e in range(start[i], start[i + 1]):
            if (column[e] < reds) == (i < reds):
                return True
    return False


@njit(cache=True)
def _block_keys(place, low, shape):
    n = place.shape[0]
    key = np.empty(n, np.int64)
    for i in range(n):
        x, y, z = (place[i, 0] - low[0]) >> 1, (place[i, 1] - low[1]) >> 1, (place[i, 2] - low[2]) >> 1
        key[i] = (x * np.int64(shape[1]) + y) * shape[2] + z
    return key


@njit(cache=True)
def _group(key, count):
    """Counting sort by key: (start (count + 1,), rows in ascending order within each key)."""
    start = np.zeros(count + 1, np.uint32)
    for i in range(key.shape[0]):
        start[key[i] + 1] += 1
    for k in range(count):
        start[k + 1] += start[k]
    fill = start[:-1].copy()
    row = np.empty(key.shape[0], np.uint32)
    for i in range(key.shape[0]):
        row[fill[key[i]]] = i
        fill[key[i]] += 1
    return start, row


@njit(cache=True, parallel=True)
def _hang_together(first, row, start, column, weight, block, part, parts):
    """Within each block number the parts that couplings join; `part[i]` of row i, `parts[b]` their count."""
    for b in prange(parts.shape[0]):
        lo, hi = first[b], first[b + 1]
        parts[b] = 0
        for a in range(lo, hi):
            part[row[a]] = -1
        for a in range(lo, hi):
            if part[row[a]] >= 0:
                continue
            number = parts[b]
            parts[b] += 1
            part[row[a]] = number
            if hi - lo > MOST_PARTS:
                continue
            grown = True
            while grown:
                grown = False
                for c in range(lo, hi):
                    i = row[c]
                    if part[i] >= 0:
                        continue
                    for e in range(start[i], start[i + 1]):
                        j = column[e]
                        if block[j] == b and part[j] == number and weight[e] > 0:
                            part[i] = number
                            grown = True
                            break


@njit(cache=True, parallel=True)
def _couple(
    counting,
    member_start,
    member,
    start,
    column,
    weight,
    surface,
    parent,
    count,
    new_start,
    new_column,
    new_weight,
    out,
):
    """Sum the fine couplings between coarse rows; the first pass only counts them."""
    rows = member_start.shape[0] - 1
    for chunk in prange((rows + 255) // 256):
        other = np.empty(MOST_COUPLINGS, np.uint32)
        total = np.empty(MOST_COUPLINGS, np.float64)
        for c in range(chunk * 256, min((chunk + 1) * 256, rows)):
            n = 0
            held = 0.0
            for a in range(member_start[c], member_start[c + 1]):
                i = member[a]
                held += surface[i]
                for e in range(start[i], start[i + 1]):
                    d = parent[column[e]]
                    if d == c:
                        continue
                    at = 0
                    while at < n and other[at] != d:
                        at += 1
                    if at == n:
                        if n == MOST_COUPLINGS:
                            continue
                        other[n] = d
                        total[n] = 0.0
                        n += 1
                    total[at] += weight[e]
            if counting:
                count[c] = n
            else:
                out[c] = 0.5 * held
                lo = np.int64(new_start[c])
                for at in range(n):
                    new_column[lo + at] = other[at]
                    new_weight[lo + at] = 0.5 * total[at]


def coarser(fine: Level) -> Level | None:
    """The next level, or None when blocks no longer join rows."""
    low, high = _bounds(fine.place)
    low &= ~1  # blocks begin at even cells, so that their parity alternates like the cells' own
    shape = ((high - low) >> 1) + 1
    key = _block_keys(fine.place, low, shape)
    present, block = (
        np.unique(key, return_inverse=True) if np.prod(shape) > 4 * len(key) + 4096 else _ranked(key, shape)
    )
    first, row = _group(block, len(present))
    part, parts = np.empty(len(key), np.int32), np.empty(len(present), np.int32)
    _hang_together(first, row, fine.start, fine.column, fine.weight, block, part, parts)
    cell = np.stack(np.unravel_index(present, tuple(shape)), axis=1).astype(np.int32)
    black = (cell.sum(axis=1) & 1).astype(bool)
    order = np.concatenate([np.flatnonzero(~black), np.flatnonzero(black)])
    offset = np.empty(len(present), np.int64)
    ends = np.cumsum(parts[order])
    offset[order] = ends - parts[order]
    n = int(ends[-1])
    if n > 0.9 * len(key):
        return None
    parent = (offset[block] + part).astype(np.uint32)
    member_start, member = _group(parent, n)
    count = np.empty(n, np.int32)
    none_i, none_f = np.empty(0, np.uint32), np.empty(0, np.float32)
    surface = np.empty(n)
    matrix = (member_start, member, fine.start, fine.column, fine.weight, fine.surface, parent, count)
    _couple(True, *matrix, none_i, none_i, none_f, surface)
    start = np.zeros(n + 1, np.uint32)
    np.cumsum(count, out=start[1:], dtype=np.uint32)
    column, weight = np.empty(start[-1], np.uint32), np.empty(start[-1], np.float32)
    _couple(False, *matrix, start, column, weight, surface)
    fine.parent, fine.member_start, fine.member = parent, member_start, member
    reds = int(parts[~black].sum())
    return Level(np.repeat(cell[order], parts[order], axis=0), reds, surface, start, column, weight)


def _ranked(key: np.ndarray, shape: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The same as np.unique with inverse, through a table, for well filled boxes."""
    rank = np.full(int(np.prod(shape)), -1, np.int64)
    rank[key] = 0
    present = np.flatnonzero(rank == 0)
    rank[present] = np.arange(len(present))
    return present, rank[key]


@njit(cache=True, parallel=True)
def _sweep(begin, end, start, column, weight, inverse, right, value):
    for i in prange(begin, end):
        total = right[i]
        for e in range(start[i], start[i + 1]):
            total += weight[e] * value[column[e]]
        value[i] = total * inverse[i]


@njit(cache=True, parallel=True)
def _sweep_mixed(begin, end, start, column, weight, inverse, right, value, old):
    for i in prange(begin, end):
        total = right[i]
        for e in range(start[i], start[i + 1]):
            j = column[e]
            total += weight[e] * (old[j] if begin <= j < end else value[j])
        value[i] = total * inverse[i]


@njit(cache=True, parallel=True)
def _first_reds(reds, inverse, right, value):
    for i in prange(value.shape[0]):
        value[i] = right[i] * inverse[i] if i < reds else np.float32(0.0)


@njit(cache=True, parallel=True)
def _restrict(member_start, member, start, column, weight, diagonal, right, value, coarse_right):
    for c in prange(coarse_right.shape[0]):
        total = np.float32(0.0)
        for a in range(member_start[c], member_start[c + 1]):
            i = member[a]
            total += right[i] - diagonal[i] * value[i]
            for e in range(start[i], start[i + 1]):
                total += weight[e] * value[column[e]]
        coarse_right[c] = total


@njit(cache=True, parallel=True)
def _prolong(parent, coarse_value, value):
    for i in prange(value.shape[0]):
        value[i] += coarse_value[parent[i]]


class Multigrid:
    """Levels over one matrix; `cycle` applies the preconditioner to the finest level's right side."""

    def __init__(self, finest: Level):
        self.levels = [finest]
        while len(self.levels[-1].place) > COARSEST:
            next_level = coarser(self.levels[-1])
            if next_level is None:
                break
            self.levels.append(next_level)

    def cycle(self, depth: int = 0) -> None:
        """One symmetric V-cycle from zero on `levels[depth]`: value from right."""
        level = self.levels[depth]
        _first_reds(level.reds, level.inverse, level.right, level.value)
        last = depth == len(self.levels) - 1
        sweeps = COARSEST_SWEEPS if last else SWEEPS
        self._smooth(level, False)
        for _ in range(sweeps - 1):
            self._smooth(level, True)
            self._smooth(level, False)
        if not last:
            coarse = self.levels[depth + 1]
            matrix = (level.start, level.column, level.weight, level.diagonal, level.right, level.value)
            _restrict(level.member_start, level.member, *matrix, coarse.right)
            self.cycle(depth + 1)
            _prolong(level.parent, coarse.value, level.value)
        for _ in range(sweeps):
            self._smooth(level, False)
            self._smooth(level, True)

    def _smooth(self, level: Level, red: bool) -> None:
        begin, end = (0, level.reds) if red else (level.reds, len(level.value))
        matrix = (level.start, level.column, level.weight, level.inverse, level.right, level.value)
        if level.mixed:
            _sweep_mixed(begin, end, *matrix, level.value.copy())
        else:
            _sweep(begin, end, *matrix)
