"""What a frame of the liquid knows on its grid, and what lies between two frames."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.tiles import at, row_of
from basin.kernels import kernel, shared

SIDE = 9  # cells of a tile, and the first of the next
ACROSS, ALONG = 4 * SIDE, 4 * SIDE * SIDE  # numbers from a cell to the next along the second axis and the first
ASTRAY = 0.1  # of places that come after one of a later block, up to which they are left as they lie
UNSEEN = np.float32(2.5)  # voxels: level where there is no tile


@dataclass(frozen=True)
class Grid:
    """What a liquid frame knows on its grid.

    Attributes
    ----------
    low : corner of the cell (0, 0, 0), m; voxel : m
    where : int32 (tiles + 2 per axis), row of each tile in the fields, 0 for none
    first : int32 (n + 1, 3), lowest cell of each row's tile
    level : float32 (n + 1, 8, 8, 8), distance to the surface at cells' centres, voxels, negative inside
    velocity : three fields of the same shape, at the low faces of cells, m/s
    """

    low: np.ndarray
    voxel: float
    where: np.ndarray
    first: np.ndarray
    level: np.ndarray
    velocity: tuple[np.ndarray, np.ndarray, np.ndarray]

    @staticmethod
    def of(
        low: np.ndarray, voxel: float, tile: np.ndarray, level: np.ndarray, *velocity: np.ndarray, slower: float = 1.0
    ) -> Grid:
        """From sparse tiles: their places (n, 3), levels (m) and velocities (n, 8, 8, 8), which are divided."""
        shape = tuple(tile.max(axis=0) + 4) if len(tile) else (4, 4, 4)
        where = np.zeros(shape, np.int32)
        where[tuple((tile + 1).T)] = np.arange(1, len(tile) + 1)
        first = np.zeros((len(tile) + 1, 3), np.int32)
        first[0] = -1_000_000
        first[1:] = 8 * tile

        def with_none(field: np.ndarray, none: np.float32, factor: float) -> np.ndarray:
            out = np.full((len(tile) + 1, 8, 8, 8), none, np.float32)
            np.multiply(field, np.float32(factor), out=out[1:])
            return out

        u, v, w = (with_none(field, np.float32(0.0), 1.0 / slower) for field in velocity)
        return Grid(np.asarray(low, float), voxel, where, first, with_none(level, UNSEEN, 1.0 / voxel), (u, v, w))

    def cells(self, position: np.ndarray) -> np.ndarray:
        """Places (n, 3), m, in cells, float32."""
        return np.asarray((position - self.low) / self.voxel, np.float32)


@kernel(inline="always")
def _middle(field, where, i, j, k, di, dj, dk):
    """Velocity amid a cell: the mean of its two faces across an axis, or the lower one's where no tile is beyond."""
    low = at(field, where, i, j, k)
    if row_of(where, i + di, j + dj, k + dk) == 0:
        return low
    return np.float32(0.5) * (low + at(field, where, i + di, j + dj, k + dk))


@shared
def _packed(first, where, level, u, v, w, out):
    for t in prange(1, first.shape[0]):
        for a in range(SIDE):
            for b in range(SIDE):
                for c in range(SIDE):
                    i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                    one = out[t, a, b, c]
                    if row_of(where, i, j, k) == 0:
                        one[0] = one[1] = one[2] = np.float32(0.0)
                        one[3] = UNSEEN
                        continue
                    one[0] = _middle(u, where, i, j, k, 1, 0, 0)
                    one[1] = _middle(v, where, i, j, k, 0, 1, 0)
                    one[2] = _middle(w, where, i, j, k, 0, 0, 1)
                    one[3] = at(level, where, i, j, k)


@shared
def _blended(before, after, held, flow, level, out):
    """Between two packed fields (n, m, 4): velocities at one share of the way, levels at another."""
    for t in prange(1, out.shape[0]):
        share = flow if held[t] == 3 else np.float32(1.0 if held[t] == 2 else 0.0)
        for n in range(out.shape[1]):
            a, b, c = before[t, n], after[t, n], out[t, n]
            c[0] = a[0] + (b[0] - a[0]) * share
            c[1] = a[1] + (b[1] - a[1]) * share
            c[2] = a[2] + (b[2] - a[2]) * share
            c[3] = a[3] + (b[3] - a[3]) * level


@kernel(inline="always")
def _of_tile(where, x, y, z):
    """Row of the tile that holds a place in cells, first number in it of the cell below, and the way on from there.

    Places count from the middle of cell 0; those beyond all tiles are taken to their edge.
    """
    x = min(max(x, np.float32(-7.0)), np.float32(8 * where.shape[0] - 10))
    y = min(max(y, np.float32(-7.0)), np.float32(8 * where.shape[1] - 10))
    z = min(max(z, np.float32(-7.0)), np.float32(8 * where.shape[2] - 10))
    i, j, k = np.int64(np.floor(x)), np.int64(np.floor(y)), np.int64(np.floor(z))
    n = np.uint64((((i & 7) * SIDE + (j & 7)) * SIDE + (k & 7)) * 4)
    return row_of(where, i, j, k), n, x - np.float32(i), y - np.float32(j), z - np.float32(k)


@kernel
def flow_at(field, where, x, y, z):
    """Velocity at a place in cells of a field of `Between`, trilinear between the middles of cells."""
    h = np.float32(0.5)
    row, n, a, b, c = _of_tile(where, x - h, y - h, z - h)
    line = field[row]
    one = np.float32(1.0)
    u, v, w = np.float32(0.0), np.float32(0.0), np.float32(0.0)
    for corner in range(8):
        m = n + np.uint64((corner >> 2) * ALONG + ((corner >> 1) & 1) * ACROSS + (corner & 1) * 4)
        part = (a if corner & 4 else one - a) * (b if corner & 2 else one - b) * (c if corner & 1 else one - c)
        u += part * line[m]
        v += part * line[m + np.uint64(1)]
        w += part * line[m + np.uint64(2)]
    return u, v, w


@kernel
def level_at(field, where, x, y, z):
    """Level at a place in cells of such a field, and its slope there, per cell."""
    h, last = np.float32(0.5), np.uint64(3)
    row, n, a, b, c = _of_tile(where, x - h, y - h, z - h)
    line, one, n = field[row], np.float32(1.0), n + last
    m, k, j = n + np.uint64(ALONG), np.uint64(4), np.uint64(ACROSS)
    v000, v001, v010, v011 = line[n], line[n + k], line[n + j], line[n + j + k]
    v100, v101, v110, v111 = line[m], line[m + k], line[m + j], line[m + j + k]
    c00, c01 = v000 + (v001 - v000) * c, v010 + (v011 - v010) * c
    c10, c11 = v100 + (v101 - v100) * c, v110 + (v111 - v110) * c
    b0, b1 = c00 + (c01 - c00) * b, c10 + (c11 - c10) * b
    d0 = (v001 - v000) * (one - b) + (v011 - v010) * b
    d1 = (v101 - v100) * (one - b) + (v111 - v110) * b
    return b0 + (b1 - b0) * a, b1 - b0, (c01 - c00) * (one - a) + (c11 - c10) * a, d0 + (d1 - d0) * a


@shared
def _blocks(position, low, voxel, where, out):
    """Number of the block of 4^3 cells that each place is in; 0 where there is no tile."""
    for p in prange(position.shape[0]):
        i = np.int64(np.floor((position[p, 0] - low[0]) / voxel))
        j = np.int64(np.floor((position[p, 1] - low[1]) / voxel))
        k = np.int64(np.floor((position[p, 2] - low[2]) / voxel))
        i = min(max(i, -8), 8 * where.shape[0] - 10)
        j = min(max(j, -8), 8 * where.shape[1] - 10)
        k = min(max(k, -8), 8 * where.shape[2] - 10)
        row = row_of(where, i, j, k)
        out[p] = 8 * row + ((i & 4) + ((j & 4) >> 1) + ((k & 4) >> 2)) if row > 0 else 0


@kernel
def _counted(block, count):
    """Stable order of numbers (n,) below a count."""
    begin = np.zeros(count + 1, np.int64)
    for p in range(block.shape[0]):
        begin[block[p] + 1] += 1
    for n in range(count):
        begin[n + 1] += begin[n]
    out = np.empty(block.shape[0], np.int64)
    for p in range(block.shape[0]):
        at_block = begin[block[p]]
        out[at_block] = p
        begin[block[p]] = at_block + 1
    return out


class Between:
    """Two frames' fields on the tiles of both, and all that lies between them.

    A field (tiles + 1, 9 * 9 * 9 * 4) holds velocity and level amid a tile's cells and their upper neighbours', so that
    one look-up finds all that a place needs.

    Attributes
    ----------
    where, first : as `Grid` has them
    low, voxel : of both
    """

    def __init__(self, before: Grid, after: Grid) -> None:
        self.low, self.voxel = after.low, after.voxel
        shape = np.maximum(before.where.shape, after.where.shape) + 1
        wide = []
        for grid in (before, after):
            where = np.zeros(tuple(shape), np.int32)
            where[tuple(slice(n) for n in grid.where.shape)] = grid.where
            wide.append(where)
        self.where = ((wide[0] > 0) | (wide[1] > 0)).astype(np.int32)
        held = np.argwhere(self.where)
        self.where[tuple(held.T)] = np.arange(1, len(held) + 1)
        self.first = np.concatenate([np.full((1, 3), -1_000_000), 8 * (held - 1)]).astype(np.int32)
        self._held = np.zeros(len(held) + 1, np.uint8)
        self._ends = []
        for n, (grid, where) in enumerate(zip((before, after), wide, strict=True)):
            self._held[1:] += ((where[tuple(held.T)] > 0) << n).astype(np.uint8)
            out = np.empty((len(held) + 1, SIDE, SIDE, SIDE, 4), np.float32)
            out[0] = np.array([0.0, 0.0, 0.0, UNSEEN], np.float32)
            _packed(self.first, where, grid.level, *grid.velocity, out)
            self._ends.append(out.reshape(len(held) + 1, -1, 4))

    def in_order(self, position: np.ndarray) -> np.ndarray | None:
        """Rows (n,) of places (n, 3), m, block by block of 4^3 cells, so that neighbours are looked up together.

        None if they lie so already, but for a few.
        """
        block = np.empty(len(position), np.int32)
        _blocks(position, self.low, self.voxel, self.where, block)
        if np.count_nonzero(block[1:] < block[:-1]) < ASTRAY * len(block):
            return None
        return _counted(block, 8 * len(self.first))

    def at(self, flow: float, level: float) -> np.ndarray:
        """The field with velocities (m/s) at one share of the way and levels (voxels) at another.

        Velocities are the other frame's where one has none.
        """
        before, after = self._ends
        out = np.empty_like(after)
        out[0] = after[0]
        _blended(before, after, self._held, np.float32(flow), np.float32(level), out)
        return out.reshape(len(out), -1)
