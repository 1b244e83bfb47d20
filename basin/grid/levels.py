"""Levels of the multigrid cycle below the finest: lists of rows.

Coarse cells are blocks of 2x2x2, but a block whose cells do not all hang together becomes several
coarse cells: a thin wall with a hole, or a pocket beside it, is never smeared across the wall. The
coarse matrix is Galerkin's with constant interpolation, halved (over-correction, Braess 1995); the
smoother is red-black Gauss-Seidel, whose colours survive the splitting because parts of one block
never touch. Work and storage follow the number of cells; every sum has a fixed order.
"""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, field

import numpy as np
from numba import prange

from basin.kernels import kernel, shared

SWEEPS = 2
COARSEST_SWEEPS = 12
LEAST_COUPLINGS = 6  # stored of one row, some of them perhaps with weight 0 and to itself
FEW = 4096  # rows that one thread sweeps alone
MOST_COUPLINGS = 4096  # of one row; a plate full of holes couples many parts
MOST_PARTS = 64  # rows of one block that are looked at together; more stay apart
NOBODY, NOTHING = np.empty(0, np.uint32), np.empty(0, np.float32)


@dataclass
class Level:
    """One level below the finest: rows sorted by colour, `reds` of them red; the matrix by rows (CSR) without diagonal.

    Attributes
    ----------
    place : int32 (n, 3), block of each row
    surface : float64 (n,), coupling to the free surface
    start, column, weight : uint32 (n + 1,), uint32, float32: couplings to other rows (positive), filled
        up to LEAST_COUPLINGS; unsigned, which spares each look-up a test for negative indices
    parent : uint32 (n,), row of the next level; `member_start`, `member` list a parent's rows
    next : the level below, set by `coarser`
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
    next: Level | None = field(init=False, default=None)
    parent: np.ndarray = field(init=False)
    member_start: np.ndarray = field(init=False)
    member: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        n = len(self.place)
        self.diagonal, self.inverse = np.empty(n, np.float32), np.empty(n, np.float32)
        self.mixed = _colours_touch(self.reds, self.start, self.column)
        _diagonals(self.surface, self.start, self.weight, self.diagonal, self.inverse)
        self.value, self.right = np.zeros(n, np.float32), np.zeros(n, np.float32)

    @property
    def sweeps(self) -> int:
        """Of each colour, on the way down and on the way up."""
        return SWEEPS if self.next else COARSEST_SWEEPS

    def apart(self) -> Level:
        """The same with a diagonal of its own."""
        own = copy(self)
        own.surface, own.diagonal, own.inverse = self.surface.copy(), self.diagonal.copy(), self.inverse.copy()
        return own

    def hold(self, rows: np.ndarray, more: np.ndarray) -> None:
        """Couple rows (some perhaps more than once) more strongly to the free surface."""
        np.add.at(self.surface, rows, more)
        np.add.at(self.diagonal, rows, more.astype(np.float32))
        self.inverse[rows] = np.float32(1.0) / self.diagonal[rows]

    def begin(self) -> None:
        """From zero: sweeps over red rows, then black ones, and so on."""
        if len(self.value) < FEW:
            _down_alone(self.sweeps, *self._own())
            return
        _first_reds(self.reds, self.inverse, self.right, self.value)
        self._smooth(False)
        for _ in range(self.sweeps - 1):
            self._smooth(True)
            self._smooth(False)

    def restrict(self) -> None:
        """The next level's right side."""
        assert self.next
        matrix = (self.start, self.column, self.weight, self.diagonal, self.right, self.value)
        restrict = _restrict_alone if len(self.value) < FEW else _restrict
        restrict(self.member_start, self.member, *matrix, self.next.right)

    def finish(self) -> None:
        """Add the next level's values if there is one, and sweep in the opposite order."""
        parent, handed = (self.parent, self.next.value) if self.next else (NOBODY, NOTHING)
        if len(self.value) < FEW:
            _up_alone(self.sweeps, parent, handed, *self._own())
            return
        _prolong(parent, handed, self.value)
        for _ in range(self.sweeps):
            self._smooth(False)
            self._smooth(True)

    def _own(self) -> tuple[object, ...]:
        matrix = (self.start, self.column, self.weight, self.inverse, self.right, self.value)
        return (self.reds, self.mixed, *matrix)

    def _smooth(self, red: bool) -> None:
        begin, end = (0, self.reds) if red else (self.reds, len(self.value))
        matrix = (self.start, self.column, self.weight, self.inverse, self.right, self.value)
        if self.mixed:
            _sweep_mixed(begin, end, *matrix, self.value.copy())
        else:
            _sweep(begin, end, *matrix)


@kernel(parallel=True)
def _diagonals(surface, start, weight, diagonal, inverse):
    for i in prange(diagonal.shape[0]):
        total = surface[i]
        for e in range(start[i], start[i + 1]):
            total += weight[e]
        diagonal[i] = total
        inverse[i] = 1.0 / total if total > 0.0 else 0.0


@kernel
def _bounds(place):
    low, high = place[0].copy(), place[0].copy()
    for i in range(place.shape[0]):
        for d in range(3):
            low[d] = min(low[d], place[i, d])
            high[d] = max(high[d], place[i, d])
    return low, high


@kernel
def _colours_touch(reds, start, column):
    for i in range(start.shape[0] - 1):
        for e in range(start[i], start[i + 1]):
            if column[e] != i and (column[e] < reds) == (i < reds):
                return True
    return False


@kernel
def _block_keys(place, low, shape):
    n = place.shape[0]
    key = np.empty(n, np.int64)
    for i in range(n):
        x, y, z = (place[i, 0] - low[0]) >> 1, (place[i, 1] - low[1]) >> 1, (place[i, 2] - low[2]) >> 1
        key[i] = (x * np.int64(shape[1]) + y) * shape[2] + z
    return key


@kernel
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


@kernel(parallel=True)
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


@shared
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
                count[c] = max(n, LEAST_COUPLINGS)
            else:
                out[c] = 0.5 * held
                lo = np.int64(new_start[c])
                for at in range(n, LEAST_COUPLINGS):
                    new_column[lo + at], new_weight[lo + at] = c, 0.0
                for at in range(n):
                    new_column[lo + at] = other[at]
                    new_weight[lo + at] = 0.5 * total[at]


def coarser(fine: Level) -> Level | None:
    """The next level, noted in this one, or None when blocks no longer join rows."""
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
    fine.next = Level(np.repeat(cell[order], parts[order], axis=0), reds, surface, start, column, weight)
    return fine.next


def _ranked(key: np.ndarray, shape: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The same as np.unique with inverse, through a table, for well filled boxes."""
    rank = np.full(int(np.prod(shape)), -1, np.int64)
    rank[key] = 0
    present = np.flatnonzero(rank == 0)
    rank[present] = np.arange(len(present))
    return present, rank[key]


@kernel(inline="always")
def _pulled(i, start, column, weight, value):
    """The sum over a row's couplings, of which it has at least six: a loop's end that cannot be foreseen costs more."""
    e = np.uint64(start[i])
    one, two, three = e + np.uint64(1), e + np.uint64(2), e + np.uint64(3)
    four, five = e + np.uint64(4), e + np.uint64(5)
    total = weight[e] * value[column[e]] + weight[one] * value[column[one]] + weight[two] * value[column[two]]
    rest = weight[three] * value[column[three]] + weight[four] * value[column[four]]
    total += rest + weight[five] * value[column[five]]
    for more in range(start[i] + np.uint32(LEAST_COUPLINGS), start[i + 1]):
        total += weight[more] * value[column[more]]
    return total


@kernel(inline="always")
def _solved(i, start, column, weight, inverse, right, value):
    """What a row's equation gives for its own value."""
    return (right[i] + _pulled(i, start, column, weight, value)) * inverse[i]


@kernel(inline="always")
def _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old):
    total = right[i]
    for e in range(start[i], start[i + 1]):
        j = column[e]
        total += weight[e] * (old[j] if begin <= j < end else value[j])
    return total * inverse[i]


@kernel(inline="always")
def _left_over(c, member_start, member, start, column, weight, diagonal, right, value):
    """The sum of what is left of the right sides of a coarse row's cells."""
    total = np.float32(0.0)
    for a in range(member_start[c], member_start[c + 1]):
        i = member[a]
        total += right[i] - diagonal[i] * value[i] + _pulled(i, start, column, weight, value)
    return total


@kernel(parallel=True)
def _sweep(begin, end, start, column, weight, inverse, right, value):
    for i in prange(begin, end):
        value[i] = _solved(i, start, column, weight, inverse, right, value)


@kernel(parallel=True)
def _sweep_mixed(begin, end, start, column, weight, inverse, right, value, old):
    for i in prange(begin, end):
        value[i] = _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old)


@kernel(parallel=True)
def _first_reds(reds, inverse, right, value):
    for i in prange(value.shape[0]):
        value[i] = right[i] * inverse[i] if i < reds else np.float32(0.0)


@kernel(parallel=True)
def _restrict(member_start, member, start, column, weight, diagonal, right, value, coarse_right):
    for c in prange(coarse_right.shape[0]):
        coarse_right[c] = _left_over(c, member_start, member, start, column, weight, diagonal, right, value)


@kernel(parallel=True)
def _prolong(parent, coarse_value, value):
    for i in prange(parent.shape[0]):
        value[i] += coarse_value[parent[i]]


@kernel
def _sweep_alone(red, reds, mixed, start, column, weight, inverse, right, value):
    begin, end = (0, reds) if red else (reds, value.shape[0])
    if mixed:
        old = value.copy()
        for i in range(begin, end):
            value[i] = _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old)
    else:
        for i in range(begin, end):
            value[i] = _solved(i, start, column, weight, inverse, right, value)


@kernel
def _down_alone(sweeps, reds, mixed, start, column, weight, inverse, right, value):
    """The same as a level's sweeps on the way down, by one thread: to call others would take longer."""
    for i in range(value.shape[0]):
        value[i] = right[i] * inverse[i] if i < reds else np.float32(0.0)
    for sweep in range(sweeps):
        if sweep > 0:
            _sweep_alone(True, reds, mixed, start, column, weight, inverse, right, value)
        _sweep_alone(False, reds, mixed, start, column, weight, inverse, right, value)


@kernel
def _restrict_alone(member_start, member, start, column, weight, diagonal, right, value, coarse_right):
    for c in range(coarse_right.shape[0]):
        coarse_right[c] = _left_over(c, member_start, member, start, column, weight, diagonal, right, value)


@kernel
def _up_alone(sweeps, parent, coarse_value, reds, mixed, start, column, weight, inverse, right, value):
    for i in range(parent.shape[0]):
        value[i] += coarse_value[parent[i]]
    for _ in range(sweeps):
        _sweep_alone(False, reds, mixed, start, column, weight, inverse, right, value)
        _sweep_alone(True, reds, mixed, start, column, weight, inverse, right, value)
