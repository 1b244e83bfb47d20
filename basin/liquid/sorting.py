"""Particles in the order of 8^3 tiles and cells, which makes the transfers local and lets tiles of
one colour be scattered at the same time without touching the same faces."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import prange

from basin.grid.lanes import AHEAD, prefetch
from basin.grid.layout import TILE, Layout
from basin.grid.tiles import Tiles, load, none_below, tiles_near
from basin.kernels import kernel, shared
from basin.liquid.particles import Particles, X

CHUNK = 1 << 15  # particles counted together
NEAR_WALLS = 4.0  # voxels from a wall within which a tile's cells are told where their particles are
NO_BOXES = np.zeros((0, 3), np.int64)


EVERYTHING_SEEN = np.zeros(0, np.uint64)


@dataclass(frozen=True)
class Tiling:
    """Which particles lie in which tile.

    Attributes
    ----------
    layout : the grid
    number : int64 (t,), numbers of the tiles with particles, ascending
    first : int32 (t, 3), their lowest cells
    start : int64 (t + 1,), their first particles
    low, high : int64 (t, 3), the box of cells in which each tile's particles lie
    colours : eight arrays of positions in `number`; tiles of one colour are two apart
    """

    layout: Layout
    number: np.ndarray
    first: np.ndarray
    start: np.ndarray
    low: np.ndarray
    high: np.ndarray
    colours: list[np.ndarray]

    def surroundings(self, reach: int, low: np.ndarray = NO_BOXES, high: np.ndarray = NO_BOXES) -> Tiles:
        """All tiles within `reach` cells of a particle, or of boxes of cells, low and high (n, 3)."""
        return tiles_near(self.layout, np.concatenate([self.low, low]), np.concatenate([self.high, high]), reach)


@kernel(parallel=True)
def _keys(record, tiles, cells, tile, cell):
    for p in prange(record.shape[0]):
        prefetch(record, np.uint64(p) + np.uint64(AHEAD))
        number = np.int64(0)
        within = 0
        for d in range(3):
            x = record[p, d]
            if not (x >= np.float32(0.0) and x < np.float32(cells[d])):  # also what is no number
                x = np.float32(cells[d]) - np.float32(0.5) if x > np.float32(0.0) else np.float32(0.0)
                record[p, d] = x  # whoever looks at a tile's particles may trust that they are in it
            c = min(int(x), cells[d] - 1)
            number = number * tiles[d] + (c >> 3)
            within = within * 8 + (c & 7)
        tile[p] = number
        cell[p] = within


@kernel
def _unlike(tile, seen, out):
    """Each tile number once, in the order of its first particle."""
    n = 0
    last = np.int64(-1)
    for p in range(tile.shape[0]):
        t = tile[p]
        if t != last and seen[t] == 0:
            seen[t] = 1
            out[n] = t
            n += 1
        last = t
    return n


@kernel(parallel=True)
def _count(tile, rank, count):
    for c in prange(count.shape[0]):
        for p in range(c * CHUNK, min((c + 1) * CHUNK, tile.shape[0])):
            count[c, rank[tile[p]]] += 1


@kernel
def _offsets(count, start):
    """Counts of chunks (c, t) become the places of their first particles; tiles' starts (t + 1,)."""
    total = 0
    for t in range(count.shape[1]):
        start[t] = total
        for c in range(count.shape[0]):
            n = count[c, t]
            count[c, t] = total
            total += n
    start[count.shape[1]] = total


@kernel(parallel=True)
def _by_tile(tile, rank, place, order):
    for c in prange(place.shape[0]):
        for p in range(c * CHUNK, min((c + 1) * CHUNK, tile.shape[0])):
            t = rank[tile[p]]
            order[place[c, t]] = p
            place[c, t] += 1


@shared
def _by_cell(start, cell, order, first, result, moved, low, high):
    for t in prange(start.shape[0] - 1):
        place = np.zeros(513, np.int64)
        for n in range(start[t], start[t + 1]):
            place[cell[order[n]] + 1] += 1
        for d in range(3):
            low[t, d], high[t, d] = 1 << 40, -1
        place[0] = start[t]
        for c in range(512):
            if place[c + 1] > 0:
                for d in range(3):
                    i = first[t, d] + ((c >> (6 - 3 * d)) & 7)
                    low[t, d], high[t, d] = min(low[t, d], i), max(high[t, d], i)
            place[c + 1] += place[c]
        for n in range(start[t], start[t + 1]):
            p = order[n]
            at = place[cell[p]]
            place[cell[p]] += 1
            result[at] = p
            if at != p:
                moved[t] = 1


@dataclass(frozen=True)
class Arranged:
    """Particles in the order of their tiles, on tiles that hold their surroundings.

    Attributes
    ----------
    hidden : what particles do not see for thin walls (`basin.liquid.thin.unseen`), empty where there are none
    """

    particles: Particles
    tiling: Tiling
    tiles: Tiles
    hidden: np.ndarray = field(default_factory=lambda: EVERYTHING_SEEN)


def sorted_particles(particles: Particles, layout: Layout) -> tuple[Particles, Tiling]:
    """Stable sort by (tile, cell); also says where each tile's particles are."""
    n = len(particles)
    tile, cell = np.empty(n, np.int64), np.empty(n, np.int16)
    _keys(particles.record, np.array(layout.tiles), np.array(layout.cells), tile, cell)
    every = int(np.prod(layout.tiles))
    number = np.empty(min(n, every), np.int64)
    number = np.sort(number[: _unlike(tile, np.zeros(every, np.uint8), number)])
    rank = np.empty(every, np.int32)  # only entries of tiles with particles are ever touched
    rank[number] = np.arange(len(number), dtype=np.int32)
    count = np.zeros((-(-n // CHUNK), len(number)), np.int64)
    start = np.zeros(len(number) + 1, np.int64)
    _count(tile, rank, count)
    _offsets(count, start)
    order, result = np.empty(n, np.uint32), np.empty(n, np.uint32)
    _by_tile(tile, rank, count, order)
    place = np.stack(np.unravel_index(number, layout.tiles), axis=1)
    first = (place * TILE).astype(np.int32)
    moved = np.zeros(len(number), np.uint8)
    low, high = np.empty((len(number), 3), np.int64), np.empty((len(number), 3), np.int64)
    _by_cell(start, cell, order, first, result, moved, low, high)
    if moved.any():
        particles = particles.taken(result)
    colour = (place % 2) @ np.array([4, 2, 1])
    colours = [np.flatnonzero(colour == c) for c in range(8)]
    return particles, Tiling(layout, number, first, start, low, high, colours)


@kernel
def _in_cell(record, p, i, j, k):
    return int(record[p, X]) == i and int(record[p, X + 1]) == j and int(record[p, X + 2]) == k


@shared
def _cells(start, first, record, where, phi, near, begin, end):
    """Where each cell's particles begin, and after the last of them, in tiles near walls, which are flagged."""
    for t in prange(first.shape[0]):
        node = np.empty((9, 9, 9), np.float32)
        load(phi, where, first[t, 0], first[t, 1], first[t, 2], node)
        if none_below(node.reshape(729), np.float32(NEAR_WALLS)):
            continue
        near[t] = 1
        row = where[(first[t, 0] >> 3) + 1, (first[t, 1] >> 3) + 1, (first[t, 2] >> 3) + 1]
        p = start[t]
        while p < start[t + 1]:
            i, j, k = int(record[p, X]), int(record[p, X + 1]), int(record[p, X + 2])
            begin[row, i & 7, j & 7, k & 7] = p
            while p < start[t + 1] and _in_cell(record, p, i, j, k):
                p += 1
            end[row, i & 7, j & 7, k & 7] = p


@dataclass(frozen=True)
class Cells:
    """Where each cell's particles begin, and after the last of them: int32 fields, of cells near walls alone.

    `near` flags the tiles (t,) that have such cells.
    """

    begin: np.ndarray
    end: np.ndarray
    near: np.ndarray


def cells_at_walls(at_hand: Arranged, phi: np.ndarray) -> Cells:
    """Where particles, in the order in which they were sorted, lie in cells within a few voxels of walls.

    Copies beyond periodic walls know too; `phi` is the distance from walls at nodes, voxels.
    """
    tiles, tiling = at_hand.tiles, at_hand.tiling
    flags = np.zeros(len(tiling.first), np.uint8)
    found = Cells(tiles.field(dtype=np.int32), tiles.field(dtype=np.int32), flags)
    _cells(tiling.start, tiling.first, at_hand.particles.record, tiles.where, phi, flags, found.begin, found.end)
    tiles.wrap(found.begin, found.end)
    return found
