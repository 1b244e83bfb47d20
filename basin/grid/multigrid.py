"""A float32 multigrid cycle, the preconditioner of `basin.grid.poisson`: pencils, and lists of cells below them.

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

from basin.grid.lanes import defect_of_pencil, relax_pencil
from basin.grid.pencils import (
    AFTER,
    BEFORE,
    ENDS,
    EVEN_LANES,
    LIVE,
    LOW_X,
    LOW_Y,
    ODD,
    ODD_LANES,
    PLAIN,
    Matrix,
)

SWEEPS = 2
COARSEST = 48  # rows below which a level is swept instead of coarsened
COARSEST_SWEEPS = 12
CHUNK = 256  # pencils to a piece of work
LEAST_COUPLINGS = 6  # stored of one row, some of them perhaps with weight 0 and to itself
FEW = 4096  # rows that one thread sweeps alone
NOBODY, NOTHING = np.empty(0, np.uint32), np.empty(0, np.float32)
MOST_COUPLINGS = 4096  # of one row; a plate full of holes couples many parts
MOST_PARTS = 64  # rows of one block that are looked at together; more stay apart


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
            if column[e] != i and (column[e] < reds) == (i < reds):
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


@njit(cache=True, inline="always")
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


@njit(cache=True, inline="always")
def _solved(i, start, column, weight, inverse, right, value):
    """What a row's equation gives for its own value."""
    return (right[i] + _pulled(i, start, column, weight, value)) * inverse[i]


@njit(cache=True, inline="always")
def _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old):
    total = right[i]
    for e in range(start[i], start[i + 1]):
        j = column[e]
        total += weight[e] * (old[j] if begin <= j < end else value[j])
    return total * inverse[i]


@njit(cache=True, inline="always")
def _left_over(c, member_start, member, start, column, weight, diagonal, right, value):
    """The sum of what is left of the right sides of a coarse row's cells."""
    total = np.float32(0.0)
    for a in range(member_start[c], member_start[c + 1]):
        i = member[a]
        total += right[i] - diagonal[i] * value[i] + _pulled(i, start, column, weight, value)
    return total


@njit(cache=True, parallel=True)
def _sweep(begin, end, start, column, weight, inverse, right, value):
    for i in prange(begin, end):
        value[i] = _solved(i, start, column, weight, inverse, right, value)


@njit(cache=True, parallel=True)
def _sweep_mixed(begin, end, start, column, weight, inverse, right, value, old):
    for i in prange(begin, end):
        value[i] = _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old)


@njit(cache=True, parallel=True)
def _first_reds(reds, inverse, right, value):
    for i in prange(value.shape[0]):
        value[i] = right[i] * inverse[i] if i < reds else np.float32(0.0)


@njit(cache=True, parallel=True)
def _restrict(member_start, member, start, column, weight, diagonal, right, value, coarse_right):
    for c in prange(coarse_right.shape[0]):
        coarse_right[c] = _left_over(c, member_start, member, start, column, weight, diagonal, right, value)


@njit(cache=True, parallel=True)
def _prolong(parent, coarse_value, value):
    for i in prange(value.shape[0]):
        value[i] += coarse_value[parent[i]]


@njit(cache=True)
def _sweep_alone(red, reds, mixed, start, column, weight, inverse, right, value):
    begin, end = (0, reds) if red else (reds, value.shape[0])
    if mixed:
        old = value.copy()
        for i in range(begin, end):
            value[i] = _solved_mixed(i, begin, end, start, column, weight, inverse, right, value, old)
    else:
        for i in range(begin, end):
            value[i] = _solved(i, start, column, weight, inverse, right, value)


@njit(cache=True)
def _down_alone(sweeps, reds, mixed, start, column, weight, inverse, right, value):
    """The same as a level's sweeps on the way down, by one thread: to call others would take longer."""
    for i in range(value.shape[0]):
        value[i] = right[i] * inverse[i] if i < reds else np.float32(0.0)
    for sweep in range(sweeps):
        if sweep > 0:
            _sweep_alone(True, reds, mixed, start, column, weight, inverse, right, value)
        _sweep_alone(False, reds, mixed, start, column, weight, inverse, right, value)


@njit(cache=True)
def _restrict_alone(member_start, member, start, column, weight, diagonal, right, value, coarse_right):
    for c in range(coarse_right.shape[0]):
        coarse_right[c] = _left_over(c, member_start, member, start, column, weight, diagonal, right, value)


@njit(cache=True)
def _up_alone(sweeps, parent, coarse_value, reds, mixed, start, column, weight, inverse, right, value):
    for i in range(parent.shape[0]):
        value[i] += coarse_value[parent[i]]
    for _ in range(sweeps):
        _sweep_alone(False, reds, mixed, start, column, weight, inverse, right, value)
        _sweep_alone(True, reds, mixed, start, column, weight, inverse, right, value)


@njit(cache=True, parallel=True)
def _pencils_touch(links, touches):
    """Whether cells of one colour are neighbours, which odd periodic axes bring about; one flag for each chunk."""
    for chunk in prange(touches.shape[0]):
        for r in range(max(chunk * CHUNK, 1), min((chunk + 1) * CHUNK, links.shape[0])):
            odd = (links[r, ENDS] & ODD) != 0
            for s in range(4):
                o = links[r, s]
                if o > 0 and ((links[o, ENDS] & ODD) != 0) == odd:
                    touches[chunk] = True
            for s in range(2):
                o = links[r, BEFORE + s]
                lane = (links[r, ENDS] >> (4 * s)) & 7
                if o > 0 and (((links[o >> 3, ENDS] & ODD) != 0) != ((o & 1) == 1)) == (odd != ((lane & 1) == 1)):
                    touches[chunk] = True


@njit(cache=True, parallel=True)
def _split_blocks(first, x, y, z, links, begin, part, parts):
    """Number the parts of each tile's 4^3 blocks that couplings join; `parts[t]` counts them, red and black."""
    for t in prange(begin.shape[0] - 1):
        here = np.zeros((8, 8), np.int64)
        for r in range(begin[t], begin[t + 1]):
            here[first[r, 0] & 7, first[r, 1] & 7] = r
        place, number = np.empty(8, np.int64), np.empty(8, np.int64)
        count = np.zeros(2, np.int64)
        for a in range(4):
            for b in range(4):
                for c in range(4):
                    colour = (a + b + c) & 1
                    for q in range(8):
                        r = here[2 * a + (q >> 2), 2 * b + ((q >> 1) & 1)]
                        lane = 2 * c + (q & 1)
                        alive = (links[r, LIVE] >> lane) & 1
                        place[q] = 8 * r + lane if alive else 0
                        number[q] = -1
                    for q in range(8):
                        if place[q] == 0 or number[q] >= 0:
                            continue
                        number[q] = count[colour]
                        count[colour] += 1
                        grown = True
                        while grown:
                            grown = False
                            for p in range(8):
                                if place[p] == 0 or number[p] >= 0:
                                    continue
                                for axis in range(3):
                                    bit = 4 >> axis
                                    o = p ^ bit
                                    if place[o] == 0 or number[o] != number[q]:
                                        continue
                                    upper = place[p | bit]
                                    field = x if axis == 0 else (y if axis == 1 else z)
                                    if field[upper >> 3, upper & 7] > 0:
                                        number[p] = number[q]
                                        grown = True
                                        break
                    for q in range(8):
                        if place[q] > 0:
                            part[place[q] >> 3, place[q] & 7] = 2 * number[q] + colour
        parts[t, 0], parts[t, 1] = count[0], count[1]


@njit(cache=True, parallel=True)
def _number_parts(first, links, begin, offset, part, parent, place, member, count):
    """Parents of all cells; place, cells and number of cells of each parent."""
    for t in prange(begin.shape[0] - 1):
        for r in range(begin[t], begin[t + 1]):
            for c in range(8):
                if (links[r, LIVE] >> c) & 1 == 0:
                    continue
                row = offset[t, part[r, c] & 1] + (part[r, c] >> 1)
                parent[r, c] = row
                member[row, count[row]] = 8 * r + c
                count[row] += 1
                place[row, 0], place[row, 1], place[row, 2] = first[r, 0] >> 1, first[r, 1] >> 1, (first[r, 2] + c) >> 1


@njit(cache=True, inline="always")
def _faces_of(place, x, y, z, links, other, weight, e):
    """Write a cell's six neighbours' places and couplings from entry e on; arrays as one line, all unsigned."""
    eight, one = np.uint64(8), np.uint64(1)
    r, lane = place // eight, place % eight
    for column, line in ((LOW_X, x), (LOW_Y, y)):
        low = eight * np.uint64(links[r, np.uint64(column)]) + lane
        high = eight * np.uint64(links[r, np.uint64(column + 1)]) + lane
        other[e], weight[e] = low, line[place]
        other[e + one], weight[e + one] = high, line[high]
        e += np.uint64(2)
    ends = np.uint64(links[r, np.uint64(ENDS)])
    low = np.uint64(links[r, np.uint64(BEFORE)]) if lane == ends & np.uint64(7) else place - one
    high = np.uint64(links[r, np.uint64(AFTER)]) if lane == (ends >> np.uint64(4)) & np.uint64(7) else place + one
    other[e], weight[e] = low, z[place]
    other[e + one], weight[e + one] = high, z[high]


@njit(cache=True, parallel=True)
def _couple_parts(x, y, z, surface, links, parent, member, members, column, weight, count, held):
    """Sum the couplings between the parts; a part has at most 8 cells, so 24 faces."""
    rows = members.shape[0]
    for chunk in prange((rows + CHUNK - 1) // CHUNK):
        total = np.empty(24)
        other, coupling = np.empty(48, np.uint64), np.empty(48, np.float32)
        for c in range(chunk * CHUNK, min((chunk + 1) * CHUNK, rows)):
            own = 0.0
            faces = np.uint64(0)
            for m in range(members[c]):
                place = np.uint64(member[c, m])
                own += surface[place]
                _faces_of(place, x, y, z, links, other, coupling, faces)
                faces += np.uint64(6)
            n = 0
            for e in range(faces):
                if coupling[e] <= 0.0:
                    continue
                d = parent[other[e]]
                if d == np.uint32(c):
                    continue
                at = 0
                while at < n and column[c, at] != d:
                    at += 1
                if at == n:
                    column[c, at] = d
                    total[at] = 0.0
                    n += 1
                total[at] += coupling[e]
            for at in range(n):
                weight[c, at] = 0.5 * total[at]
            for at in range(n, LEAST_COUPLINGS):
                column[c, at], weight[c, at] = c, 0.0
            count[c], held[c] = max(n, LEAST_COUPLINGS), 0.5 * own


@njit(cache=True, parallel=True)
def _packed(start, wide_column, wide_weight, column, weight):
    for c in prange(start.shape[0] - 1):
        for e in range(start[c], start[c + 1]):
            column[e] = wide_column[c, e - start[c]]
            weight[e] = wide_weight[c, e - start[c]]


@njit(cache=True, parallel=True)
def _diagonals_of_pencils(x, y, z, surface, links, one, none, diagonal, inverse):
    for r in prange(1, surface.shape[0]):
        defect_of_pencil(one, x, y, z, none, surface, links, np.uint64(r), diagonal, False)
        plain = links[r, LIVE] == 255
        for c in range(8):
            plain = plain and surface[r, c] == 0.0 and x[r, c] == 1.0 and y[r, c] == 1.0 and z[r, c] == 1.0
            plain = plain and diagonal[r, c] == 6.0
        if plain:
            links[r, ENDS] |= PLAIN
        for c in range(8):
            inverse[r, c] = np.float32(1.0) / diagonal[r, c] if diagonal[r, c] > 0.0 else np.float32(0.0)


@njit(cache=True, inline="always")
def _lanes_of(links, r, red):
    return np.uint32(ODD_LANES if ((links[r, ENDS] & ODD) != 0) == red else EVEN_LANES)


@njit(cache=True, parallel=True)
def _first_red_lanes(links, inverse, right, value):
    for r in prange(1, value.shape[0]):
        lanes = _lanes_of(links, r, True)
        for c in range(8):
            value[r, c] = right[r, c] * inverse[r, c] if (lanes >> c) & 1 else np.float32(0.0)


@njit(cache=True, parallel=True)
def _relax(source, value, x, y, z, right, inverse, links, red):
    # a lane reads lanes of the other colour alone, so the order of the pencils does not matter
    for r in prange(1, value.shape[0]):
        lanes, plain = _lanes_of(links, r, red), (links[r, ENDS] & PLAIN) != 0
        relax_pencil(source, value, x, y, z, right, inverse, links, np.uint64(r), lanes, plain)


@njit(cache=True, parallel=True)
def _defects(value, x, y, z, diagonal, right, links, out):
    for r in prange(1, value.shape[0]):
        plain = (links[r, ENDS] & PLAIN) != 0
        defect_of_pencil(value, x, y, z, diagonal, right, links, np.uint64(r), out, plain)


@njit(cache=True, parallel=True)
def _gather(member, members, defect, coarse_right):
    for c in prange(members.shape[0]):
        total = np.float32(0.0)
        for m in range(members[c]):
            total += defect[member[c, m]]
        coarse_right[c] = total


@njit(cache=True, parallel=True)
def _hand_down(links, parent, coarse_value, value):
    for r in prange(1, value.shape[0]):
        for c in range(8):
            if (links[r, LIVE] >> c) & 1:
                value[r, c] += coarse_value[parent[r, c]]


class Finest:
    """The level of the pencils: `value` (n + 1, 8) from `right` (n + 1, 8), both float32.

    Attributes
    ----------
    parent : uint32 (n + 1, 8), row of the next level
    """

    def __init__(self, matrix: Matrix):
        m = self.matrix = matrix
        self.value, self.right, self.defect = (matrix.values(np.float32) for _ in range(3))
        self.diagonal, self.inverse = matrix.values(np.float32), matrix.values(np.float32)
        one = np.ones_like(self.value)
        weights = (m.x, m.y, m.z, m.surface, m.links)
        _diagonals_of_pencils(*weights, one, self.defect, self.diagonal, self.inverse)
        touches = np.zeros(-(-len(m.links) // CHUNK), bool)
        _pencils_touch(m.links, touches)
        self.mixed = bool(touches.any())
        self.next = self._coarser()

    def _coarser(self) -> Level:
        m = self.matrix
        tile = m.first[1:] >> 3
        change = np.flatnonzero((tile[1:] != tile[:-1]).any(axis=1)) + 2
        begin = np.concatenate([[1], change, [len(m.first)]]) if len(tile) else np.array([1])
        part = np.empty(m.surface.shape, np.int16)
        parts = np.empty((len(begin) - 1, 2), np.int64)
        _split_blocks(m.first, m.x, m.y, m.z, m.links, begin, part, parts)
        offset = (np.cumsum(parts.T) - parts.T.reshape(-1)).reshape(2, -1).T.copy()
        n, reds = int(parts.sum()), int(parts[:, 0].sum())
        self.parent, place = np.zeros(m.surface.shape, np.uint32), np.empty((n, 3), np.int32)
        self.member, self.members = np.empty((n, 8), np.uint32), np.zeros(n, np.uint8)
        numbers = (m.first, m.links, begin, offset, part)
        _number_parts(*numbers, self.parent, place, self.member, self.members)
        count, held = np.empty(n, np.int32), np.empty(n)
        wide_column, wide_weight = np.empty((n, 24), np.uint32), np.empty((n, 24), np.float32)
        lines = [field.reshape(-1) for field in (m.x, m.y, m.z, m.surface)]
        matrix = (*lines, m.links, self.parent.reshape(-1), self.member, self.members)
        _couple_parts(*matrix, wide_column, wide_weight, count, held)
        start = np.zeros(n + 1, np.uint32)
        np.cumsum(count, out=start[1:], dtype=np.uint32)
        column, weight = np.empty(start[-1], np.uint32), np.empty(start[-1], np.float32)
        _packed(start, wide_column, wide_weight, column, weight)
        return Level(place, reds, held, start, column, weight)

    def begin(self) -> None:
        """From zero: one sweep over red cells, then black ones, and so on."""
        _first_red_lanes(self.matrix.links, self.inverse, self.right, self.value)
        self.smooth(False)
        for _ in range(SWEEPS - 1):
            self.smooth(True)
            self.smooth(False)

    def restrict(self) -> None:
        """The next level's right side."""
        m = self.matrix
        _defects(self.value, m.x, m.y, m.z, self.diagonal, self.right, m.links, self.defect)
        _gather(self.member, self.members, self.defect.reshape(-1), self.next.right)

    def finish(self) -> None:
        """Add the next level's values, and sweep in the opposite order."""
        _hand_down(self.matrix.links, self.parent, self.next.value, self.value)
        for _ in range(SWEEPS):
            self.smooth(False)
            self.smooth(True)

    def smooth(self, red: bool) -> None:
        """Sweep over the cells of one colour."""
        m = self.matrix
        source = self.value.copy() if self.mixed else self.value
        _relax(source, self.value, m.x, m.y, m.z, self.right, self.inverse, m.links, red)


class Multigrid:
    """Levels over one matrix; `cycle` applies the preconditioner: the finest level's value from its right side."""

    def __init__(self, matrix: Matrix):
        self.finest = Finest(matrix)
        self.levels = [self.finest.next]  # those below it
        while len(self.levels[-1].place) > COARSEST:
            next_level = coarser(self.levels[-1])
            if next_level is None:
                break
            self.levels.append(next_level)

    def cycle(self) -> None:
        """One symmetric V-cycle from zero."""
        self.finest.begin()
        self.finest.restrict()
        self._below(0)
        self.finest.finish()

    def _below(self, depth: int) -> None:
        level = self.levels[depth]
        last = depth == len(self.levels) - 1
        coarse = None if last else self.levels[depth + 1]
        matrix = (level.start, level.column, level.weight)
        sweeps = COARSEST_SWEEPS if last else SWEEPS
        if len(level.value) < FEW:
            own = (level.reds, level.mixed, *matrix, level.inverse, level.right, level.value)
            _down_alone(sweeps, *own)
            if coarse:
                members = (level.member_start, level.member)
                _restrict_alone(*members, *matrix, level.diagonal, level.right, level.value, coarse.right)
                self._below(depth + 1)
            handed = (level.parent, coarse.value) if coarse else (NOBODY, NOTHING)
            _up_alone(sweeps, *handed, *own)
            return
        _first_reds(level.reds, level.inverse, level.right, level.value)
        self._smooth(level, False)
        for _ in range(sweeps - 1):
            self._smooth(level, True)
            self._smooth(level, False)
        if coarse:
            members = (level.member_start, level.member)
            _restrict(*members, *matrix, level.diagonal, level.right, level.value, coarse.right)
            self._below(depth + 1)
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
