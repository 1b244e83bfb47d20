"""Storage that follows the liquid: fields in 8^3 tiles, found through a compact index.

A field is an array (tiles + 1, 8, 8, 8). Its row 0 stands for everywhere else and is never written
by a kernel; the others lie in ascending order of place, so that what is summed over them does not
depend on how the liquid came there. Cells, nodes and faces share the tiles: a cell's own node and
faces are its low ones.

Kernels take (field, where): one look-up finds any cell. What works on whole tiles copies a tile and
its rim into a small block first, which a core's nearest cache holds.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.layout import PAD, TILE, Layout
from basin.kernels import kernel, shared

# Largest place of a tile's particle in the tile's block with a rim of one cell. In the first tiles, whose blocks begin
# at -1, a place just under 8 rounds up to 9 without it, and its cell's far corners lie outside the block.
WITHIN = np.nextafter(np.float32(TILE + 1), np.float32(0.0))


@kernel(inline="always")
def row_of(where, i, j, k):
    """Row of the tile that holds a cell; unsigned, which spares look-ups the test for negative indices."""
    return np.uint64(where[np.uint64((i >> 3) + 1), np.uint64((j >> 3) + 1), np.uint64((k >> 3) + 1)])


@kernel(inline="always")
def at(field, where, i, j, k):
    """Value of a tiled field at a cell; cells up to 8 beyond the layout may be asked for."""
    return field[row_of(where, i, j, k), np.uint64(i & 7), np.uint64(j & 7), np.uint64(k & 7)]


@kernel
def load(field, where, i0, j0, k0, out):
    """Copy the block of `out`'s shape that begins at cell (i0, j0, k0)."""
    for a in range(out.shape[0]):
        i = i0 + a
        for b in range(out.shape[1]):
            j = j0 + b
            c = 0
            while c < out.shape[2]:
                k = k0 + c
                low = k & 7
                n = min(8 - low, out.shape[2] - c)
                line = field[row_of(where, i, j, k), np.uint64(i & 7), np.uint64(j & 7)]
                to = out[a, b]
                for d in range(n):
                    to[np.uint64(c + d)] = line[np.uint64(low + d)]
                c += n


@kernel
def add(field, where, i0, j0, k0, block):
    """Add a block that begins at cell (i0, j0, k0); what lies in no tile is dropped."""
    for a in range(block.shape[0]):
        i = i0 + a
        for b in range(block.shape[1]):
            j = j0 + b
            c = 0
            while c < block.shape[2]:
                k = k0 + c
                low = k & 7
                n = min(8 - low, block.shape[2] - c)
                t = row_of(where, i, j, k)
                if t > 0:
                    line = field[t, np.uint64(i & 7), np.uint64(j & 7)]
                    source = block[a, b]
                    for d in range(n):
                        line[np.uint64(low + d)] += source[np.uint64(c + d)]
                c += n


@kernel
def all_zero(line):
    """Whether all values are zero; what is no number is not. Counted, which vectors do, as they do not look for the
    least of floats."""
    other = np.int32(0)
    for n in range(line.shape[0]):
        other += np.int32(line[n] != 0)
    return other == 0


@kernel
def all_within(line, limit):
    """Whether all values are nearer to zero than a limit; what is no number is not."""
    beyond = np.int32(0)
    for n in range(line.shape[0]):
        beyond += np.int32(not abs(line[n]) < limit)
    return beyond == 0


@kernel
def none_below(line, limit):
    """Whether no value lies below a limit."""
    below = np.int32(0)
    for n in range(line.shape[0]):
        below += np.int32(line[n] < limit)
    return below == 0


@kernel
def all_below(line, limit):
    """Whether all values lie below a limit."""
    others = np.int32(0)
    for n in range(line.shape[0]):
        others += np.int32(not line[n] < limit)
    return others == 0


@kernel(inline="always")
def blend(line, p, n, a, b, c):
    """Trilinear value in a block of width n that lies as one line: between place p and the next cells."""
    one, u, y, x = np.float32(1.0), np.uint64(1), np.uint64(n), np.uint64(n * n)
    c00 = line[p] * (one - c) + line[p + u] * c
    c01 = line[p + y] * (one - c) + line[p + y + u] * c
    c10 = line[p + x] * (one - c) + line[p + x + u] * c
    c11 = line[p + x + y] * (one - c) + line[p + x + y + u] * c
    return (c00 * (one - b) + c01 * b) * (one - a) + (c10 * (one - b) + c11 * b) * a


@kernel(inline="always")
def value_in(line, n, x, y, z):
    """Trilinear value in a block of width n that lies as one line, at its index coordinates; no test of bounds."""
    i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
    w = np.uint64(n)
    return blend(line, (i * w + j) * w + k, n, x - np.float32(i), y - np.float32(j), z - np.float32(k))


@kernel(inline="always")
def velocity_in(line, n, x, y, z):
    """Staggered velocity in three blocks of width n, one after the other in a line; no test of bounds."""
    h = np.float32(0.5)
    i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    x, y, z = x - h, y - h, z - h
    p, q, r = np.uint64(x), np.uint64(y), np.uint64(z)
    d, e, f = x - np.float32(p), y - np.float32(q), z - np.float32(r)
    w, size = np.uint64(n), np.uint64(n * n * n)
    return (
        blend(line, (i * w + q) * w + r, n, a, e, f),
        blend(line, size + (p * w + j) * w + r, n, d, b, f),
        blend(line, size + size + (p * w + q) * w + k, n, d, e, c),
    )


@kernel(inline="always")
def _unit(x, y, z):
    """A vector's direction; zero where it has none."""
    length = math.sqrt(x * x + y * y + z * z)
    if length < 1e-9:
        return np.float32(0.0), np.float32(0.0), np.float32(0.0)
    return np.float32(x / length), np.float32(y / length), np.float32(z / length)


@kernel(inline="always")
def gradient_in(line, n, x, y, z):
    """The same as `gradient` in a block of width n that lies as one line."""
    h = np.float32(0.25)
    gx = value_in(line, n, x + h, y, z) - value_in(line, n, x - h, y, z)
    gy = value_in(line, n, x, y + h, z) - value_in(line, n, x, y - h, z)
    gz = value_in(line, n, x, y, z + h) - value_in(line, n, x, y, z - h)
    return _unit(gx, gy, gz)


@kernel(inline="always")
def _within(x, tiles):
    low, high = np.float32(-7.0), np.float32(8 * tiles - 18)
    x = x if x > low else low  # also what is no number
    return x if x < high else high


@kernel
def sample(field, where, x, y, z):
    """Trilinear value at index coordinates, which are first brought within 7 cells of the layout, whatever they are."""
    x, y, z = _within(x, where.shape[0]), _within(y, where.shape[1]), _within(z, where.shape[2])
    i, j, k = math.floor(x), math.floor(y), math.floor(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    p, q, r = i & 7, j & 7, k & 7
    if p < 7 and q < 7 and r < 7:
        return blend(field[row_of(where, i, j, k)].reshape(512), np.uint64((p * 8 + q) * 8 + r), 8, a, b, c)
    one = np.float32(1.0)
    c00 = at(field, where, i, j, k) * (one - c) + at(field, where, i, j, k + 1) * c
    c01 = at(field, where, i, j + 1, k) * (one - c) + at(field, where, i, j + 1, k + 1) * c
    c10 = at(field, where, i + 1, j, k) * (one - c) + at(field, where, i + 1, j, k + 1) * c
    c11 = at(field, where, i + 1, j + 1, k) * (one - c) + at(field, where, i + 1, j + 1, k + 1) * c
    return (c00 * (one - b) + c01 * b) * (one - a) + (c10 * (one - b) + c11 * b) * a


@kernel
def sample_with_slope(field, where, x, y, z):
    """Trilinear value at index coordinates as `sample` has it, and its slope there, per cell."""
    x, y, z = _within(x, where.shape[0]), _within(y, where.shape[1]), _within(z, where.shape[2])
    i, j, k = math.floor(x), math.floor(y), math.floor(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    p, q, r = i & 7, j & 7, k & 7
    one = np.float32(1.0)
    if p < 7 and q < 7 and r < 7:
        line = field[row_of(where, i, j, k)].reshape(512)
        n = np.uint64((p * 8 + q) * 8 + r)
        far, near, one_on = np.uint64(64), np.uint64(8), np.uint64(1)
        m = n + far
        v000, v001, v010, v011 = line[n], line[n + one_on], line[n + near], line[n + near + one_on]
        v100, v101, v110, v111 = line[m], line[m + one_on], line[m + near], line[m + near + one_on]
    else:
        v000, v001 = at(field, where, i, j, k), at(field, where, i, j, k + 1)
        v010, v011 = at(field, where, i, j + 1, k), at(field, where, i, j + 1, k + 1)
        v100, v101 = at(field, where, i + 1, j, k), at(field, where, i + 1, j, k + 1)
        v110, v111 = at(field, where, i + 1, j + 1, k), at(field, where, i + 1, j + 1, k + 1)
    c00, c01 = v000 + (v001 - v000) * c, v010 + (v011 - v010) * c
    c10, c11 = v100 + (v101 - v100) * c, v110 + (v111 - v110) * c
    b0, b1 = c00 + (c01 - c00) * b, c10 + (c11 - c10) * b
    along_y = (c01 - c00) * (one - a) + (c11 - c10) * a
    d0 = (v001 - v000) * (one - b) + (v011 - v010) * b
    d1 = (v101 - v100) * (one - b) + (v111 - v110) * b
    return b0 + (b1 - b0) * a, b1 - b0, along_y, d0 + (d1 - d0) * a


@kernel
def sample_velocity(u, v, w, where, x, y, z):
    """Velocity of the staggered grid at a place in voxels."""
    h = np.float32(0.5)
    return sample(u, where, x, y - h, z - h), sample(v, where, x - h, y, z - h), sample(w, where, x - h, y - h, z)


@kernel
def gradient(field, where, x, y, z):
    """Unit gradient of a node field (nodes at whole voxels); zero where it is flat."""
    h = np.float32(0.25)
    gx = sample(field, where, x + h, y, z) - sample(field, where, x - h, y, z)
    gy = sample(field, where, x, y + h, z) - sample(field, where, x, y - h, z)
    gz = sample(field, where, x, y, z + h) - sample(field, where, x, y, z - h)
    return _unit(gx, gy, gz)


@dataclass(frozen=True)
class Tiles:
    """Which tiles hold fields.

    Attributes
    ----------
    layout : the grid that they are part of
    number : int64 (n,), place of each in the whole grid of tiles, ascending
    where : int32 (tiles + 2 per axis), row in a field of each tile of the grid, 0 for none; an
        empty ring about the grid spares tests for its edge
    first : int32 (n + 1, 3), lowest cell of each row's tile; row 0 is out of the way
    """

    layout: Layout
    number: np.ndarray
    where: np.ndarray
    first: np.ndarray

    def __len__(self) -> int:
        return len(self.number)

    def field(self, value: float = 0, dtype: type = np.float32) -> np.ndarray:
        """A field (n + 1, 8, 8, 8) of one value."""
        if value == 0:
            return np.zeros((len(self) + 1, TILE, TILE, TILE), dtype)
        return np.full((len(self) + 1, TILE, TILE, TILE), value, dtype)

    def rows(self, number: np.ndarray) -> np.ndarray:
        """Rows of tiles by their numbers (n,), 0 for those that are not here."""
        return self.where[tuple(np.asarray(i) + 1 for i in np.unravel_index(number, self.layout.tiles))]

    def carried(self, field: np.ndarray, other: Tiles) -> np.ndarray:
        """A field of these tiles on others; zero where they do not meet."""
        row = self.rows(other.number)
        out = np.zeros((len(other) + 1, *field.shape[1:]), field.dtype)
        out[1:][row > 0] = field[row[row > 0]]
        return out

    def dense(self, field: np.ndarray) -> np.ndarray:
        """The field over all cells of the layout (Nx, Ny, Nz), for looking at and for tests."""
        out = np.empty(self.layout.cells, field.dtype)
        load(field, self.where, 0, 0, 0, out)
        return out

    def between_walls(self, axes: Iterable[int]) -> np.ndarray:
        """Which cells are between the walls of some axes, bool field; of periodic ones the copies beyond are not."""
        inside = np.ones((len(self) + 1, TILE, TILE, TILE), bool)
        for axis in axes:
            cells = self.first[:, axis, None] + np.arange(TILE)
            low = self.layout.wall_low[axis]
            own = (cells >= low - 1e-3) & (cells < low + self.layout.inner[axis])
            inside &= own.reshape(len(own), *(TILE if d == axis else 1 for d in range(3)))
        return inside

    def fold(self, *fields: np.ndarray) -> None:
        """Add what was scattered beyond a periodic wall to where it belongs, in place, and wrap."""
        if self.layout.periodic.any():
            for field in fields:
                _fold(field, self.where, self.first, np.array(self.layout.inner), self.layout.periodic)
        self.wrap(*fields)

    def wrap(self, *fields: np.ndarray) -> None:
        """Copy the domain's values beyond its periodic walls, in place."""
        if self.layout.periodic.any():
            for field in fields:
                _wrap(field, self.where, self.first, np.array(self.layout.inner), self.layout.periodic)


def tile_set(layout: Layout, number: np.ndarray) -> Tiles:
    """Tiles by their numbers (n,) in the grid of tiles, ascending and each once."""
    shape = layout.tiles
    where = np.zeros(tuple(n + 2 for n in shape), np.int32)
    place = np.stack(np.unravel_index(number, shape), axis=1).astype(np.int32)
    where[tuple(place.T + 1)] = np.arange(1, len(number) + 1, dtype=np.int32)
    first = np.vstack([np.full((1, 3), -(1 << 20), np.int32), place * TILE])
    return Tiles(layout, number, where, first)


@kernel
def _reached(low, high, reach, cells, inner, periodic, shape, seen, out):
    """Numbers of all tiles within `reach` cells of boxes of cells, and of their periodic images."""
    n = 0
    near = np.empty((3, 3, 2), np.int64)
    count = np.empty(3, np.int64)
    for t in range(low.shape[0]):
        for d in range(3):
            count[d] = 0
            for turn in range(-1, 2):
                if turn != 0 and not periodic[d]:
                    continue
                a = max(low[t, d] - reach + turn * inner[d], 0)
                b = min(high[t, d] + reach + turn * inner[d], cells[d] - 1)
                if a <= b:
                    near[d, count[d], 0], near[d, count[d], 1] = a >> 3, b >> 3
                    count[d] += 1
        for p in range(count[0]):
            for i in range(near[0, p, 0], near[0, p, 1] + 1):
                for q in range(count[1]):
                    for j in range(near[1, q, 0], near[1, q, 1] + 1):
                        for r in range(count[2]):
                            for k in range(near[2, r, 0], near[2, r, 1] + 1):
                                if seen[i, j, k] == 0:
                                    seen[i, j, k] = 1
                                    out[n] = (i * shape[1] + j) * shape[2] + k
                                    n += 1
    return n


def tiles_near(layout: Layout, low: np.ndarray, high: np.ndarray, reach: int) -> Tiles:
    """All tiles within `reach` cells of boxes of cells, low and high (n, 3), both ends inclusive."""
    shape = np.array(layout.tiles)
    images = 3 ** int(layout.periodic.sum())
    widest = (high - low + 2 * reach).max(axis=0, initial=0) // TILE + 2
    out = np.empty(min(int(np.prod(shape)), int(np.prod(widest)) * images * len(low)), np.int64)
    seen = np.zeros(tuple(shape), np.uint8)  # untouched parts cost nothing
    count = _reached(
        low, high, reach, np.array(layout.cells), np.array(layout.inner), layout.periodic, shape, seen, out
    )
    return tile_set(layout, np.sort(out[:count]))


@kernel
def _home(i, n, wraps):
    return PAD + (i - PAD) % n if wraps else i


@kernel(parallel=True)
def _wrap(field, where, first, inner, periodic):
    for t in prange(1, first.shape[0]):
        whole = True
        for d in range(3):
            if periodic[d] and (first[t, d] < PAD or first[t, d] + 8 > PAD + inner[d]):
                whole = False
        if whole:
            continue
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                    hi = _home(i, inner[0], periodic[0])
                    hj = _home(j, inner[1], periodic[1])
                    hk = _home(k, inner[2], periodic[2])
                    if hi != i or hj != j or hk != k:
                        field[t, a, b, c] = at(field, where, hi, hj, hk)


@kernel
def _has_image(i, n, wraps):
    return wraps and 0 <= i <= n + 2 * PAD


@shared
def _fold(field, where, first, inner, periodic):
    # only the domain's own cells are written and only those beyond it read, so the order is free
    reach = PAD + 1
    for t in prange(1, first.shape[0]):
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                    inside = True
                    beside = False
                    for d in range(3):
                        x = i if d == 0 else (j if d == 1 else k)
                        if periodic[d]:
                            if x < PAD or x >= PAD + inner[d]:
                                inside = False
                            elif x < PAD + reach or x >= PAD + inner[d] - reach:
                                beside = True
                    if not inside or not beside:
                        continue
                    total = field[t, a, b, c]
                    for p in range(-1, 2):
                        if p != 0 and not _has_image(i + p * inner[0], inner[0], periodic[0]):
                            continue
                        for q in range(-1, 2):
                            if q != 0 and not _has_image(j + q * inner[1], inner[1], periodic[1]):
                                continue
                            for r in range(-1, 2):
                                if r != 0 and not _has_image(k + r * inner[2], inner[2], periodic[2]):
                                    continue
                                if p != 0 or q != 0 or r != 0:
                                    total += at(field, where, i + p * inner[0], j + q * inner[1], k + r * inner[2])
                    field[t, a, b, c] = total
