"""The finest level of the multigrid cycle: pencils, and how their cells join to the rows of the next level."""

from __future__ import annotations

from copy import copy

import numpy as np
from numba import prange

from basin.grid.lanes import defect_of_pencil, relax_pencil
from basin.grid.levels import LEAST_COUPLINGS, SWEEPS, Level
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
from basin.kernels import kernel, shared

CHUNK = 256  # pencils or rows to a piece of work


@kernel(parallel=True)
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


@shared
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


@kernel(parallel=True)
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


@kernel(inline="always")
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


@shared
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


@kernel(parallel=True)
def _packed(start, wide_column, wide_weight, column, weight):
    for c in prange(start.shape[0] - 1):
        for e in range(start[c], start[c + 1]):
            column[e] = wide_column[c, e - start[c]]
            weight[e] = wide_weight[c, e - start[c]]


@kernel(parallel=True)
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


@kernel(inline="always")
def _lanes_of(links, r, red):
    return np.uint32(ODD_LANES if ((links[r, ENDS] & ODD) != 0) == red else EVEN_LANES)


@kernel(parallel=True)
def _first_red_lanes(links, inverse, right, value):
    for r in prange(1, value.shape[0]):
        lanes = _lanes_of(links, r, True)
        for c in range(8):
            value[r, c] = right[r, c] * inverse[r, c] if (lanes >> c) & 1 else np.float32(0.0)


@kernel(parallel=True)
def _relax(source, value, x, y, z, right, inverse, links, red):
    # a lane reads lanes of the other colour alone, so the order of the pencils does not matter
    for r in prange(1, value.shape[0]):
        lanes, plain = _lanes_of(links, r, red), (links[r, ENDS] & PLAIN) != 0
        relax_pencil(source, value, x, y, z, right, inverse, links, np.uint64(r), lanes, plain)


@kernel(parallel=True)
def _defects(value, x, y, z, diagonal, right, links, out):
    for r in prange(1, value.shape[0]):
        plain = (links[r, ENDS] & PLAIN) != 0
        defect_of_pencil(value, x, y, z, diagonal, right, links, np.uint64(r), out, plain)


@kernel(parallel=True)
def _gather(member, members, defect, coarse_right):
    for c in prange(members.shape[0]):
        total = np.float32(0.0)
        for m in range(members[c]):
            total += defect[member[c, m]]
        coarse_right[c] = total


@kernel(parallel=True)
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

    def apart(self, matrix: Matrix, below: Level) -> Finest:
        """The same with a diagonal of its own."""
        own = copy(self)
        own.matrix, own.next = matrix, below
        own.diagonal, own.inverse = self.diagonal.copy(), self.inverse.copy()
        return own

    def hold(self, places: np.ndarray, more: np.ndarray) -> np.ndarray:
        """Couple cells more strongly to the free surface; returns their rows of the next level."""
        diagonal, inverse = self.diagonal.reshape(-1), self.inverse.reshape(-1)
        np.add.at(diagonal, places, more.astype(np.float32))
        inverse[places] = np.float32(1.0) / diagonal[places]
        return self.parent.reshape(-1)[places]

    def begin(self) -> None:
        """From zero: one sweep over red cells, then black ones, and so on."""
        _first_red_lanes(self.matrix.links, self.inverse, self.right, self.value)
        self._smooth(False)
        for _ in range(SWEEPS - 1):
            self._smooth(True)
            self._smooth(False)

    def restrict(self) -> None:
        """The next level's right side."""
        m = self.matrix
        _defects(self.value, m.x, m.y, m.z, self.diagonal, self.right, m.links, self.defect)
        _gather(self.member, self.members, self.defect.reshape(-1), self.next.right)

    def finish(self) -> None:
        """Add the next level's values, and sweep in the opposite order."""
        _hand_down(self.matrix.links, self.parent, self.next.value, self.value)
        for _ in range(SWEEPS):
            self._smooth(False)
            self._smooth(True)

    def _smooth(self, red: bool) -> None:
        """Sweep over the cells of one colour."""
        m = self.matrix
        source = self.value.copy() if self.mixed else self.value
        _relax(source, self.value, m.x, m.y, m.z, self.right, self.inverse, m.links, red)
