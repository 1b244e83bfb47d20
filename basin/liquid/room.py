"""What the density's kernels find of open space about each cell.

Particles are splatted with quadratic B-splines; a wall that cuts the kernel takes part of its room.
The wider kernel is the spline followed by a binomial mean (`basin.liquid.levelset`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.fractions import open_volumes
from basin.grid.tiles import load
from basin.kernels import kernel, shared

RIM = 3  # cells about a tile whose solids count
WHOLE = 0.999  # open share of a kernel that no wall cuts
TAPS = np.convolve([1 / 6, 2 / 3, 1 / 6], [0.25, 0.5, 0.25])  # the spline averaged over a cell, and the binomial


@kernel
def _narrowed(field, side, middle, axis, out):
    """One axis of a symmetric kernel of three taps; `out` is two shorter along it."""
    for i in range(out.shape[0]):
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                if axis == 0:
                    out[i, j, k] = side * (field[i, j, k] + field[i + 2, j, k]) + middle * field[i + 1, j, k]
                elif axis == 1:
                    out[i, j, k] = side * (field[i, j, k] + field[i, j + 2, k]) + middle * field[i, j + 1, k]
                else:
                    out[i, j, k] = side * (field[i, j, k] + field[i, j, k + 2]) + middle * field[i, j, k + 1]


@kernel
def mean_of_block(block, side, middle):
    """A symmetric kernel of three taps along each axis; the result (n-2)^3 loses the rim."""
    n = block.shape[0]
    a = np.empty((n - 2, n, n), np.float32)
    b = np.empty((n - 2, n - 2, n), np.float32)
    c = np.empty((n - 2, n - 2, n - 2), np.float32)
    _narrowed(block, np.float32(side), np.float32(middle), 0, a)
    _narrowed(a, np.float32(side), np.float32(middle), 1, b)
    _narrowed(b, np.float32(side), np.float32(middle), 2, c)
    return c


@shared
def _kernel_room(row, first, where, bodies, within, own, near, wide, middle):
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[n, 0] - 2, first[n, 1] - 2, first[n, 2] - 2
        node = np.empty((13, 13, 13), np.float32)
        load(bodies, where, i0, j0, k0, node)
        free = np.empty((12, 12, 12), np.float32)
        open_volumes(node, within, i0, j0, k0, free)
        narrow = mean_of_block(free, 1 / 6, 2 / 3)
        broad = mean_of_block(narrow, 0.25, 0.5)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    own[t, i, j, k] = free[i + 2, j + 2, k + 2]
                    near[t, i, j, k] = narrow[i + 1, j + 1, k + 1]
                    share = broad[i, j, k]
                    wide[t, i, j, k] = share
                    middle[t, i, j, k] = 0.0
                    if share >= WHOLE or share <= 0.0:
                        continue
                    total, mx, my, mz = 0.0, 0.0, 0.0, 0.0
                    for di in range(5):
                        for dj in range(5):
                            for dk in range(5):
                                w = TAPS[di] * TAPS[dj] * TAPS[dk] * free[i + di, j + dj, k + dk]
                                total += w
                                mx += w * (di - 2)
                                my += w * (dj - 2)
                                mz += w * (dk - 2)
                    if total > 0.0:
                        middle[t, i, j, k, 0] = mx / total
                        middle[t, i, j, k, 1] = my / total
                        middle[t, i, j, k, 2] = mz / total


@dataclass(frozen=True)
class Room:
    """Open share of the kernels about the cells of tiles.

    Attributes
    ----------
    own : open share of the cells themselves
    near : what the density gives where all open space is liquid
    wide : the same through the wider kernel
    middle : centroid of the wider kernel's open part, voxels from the cell's centre; 0 where it is whole
    """

    own: np.ndarray
    near: np.ndarray
    wide: np.ndarray
    middle: np.ndarray


def kernel_room(
    row: np.ndarray, first: np.ndarray, where: np.ndarray, bodies: np.ndarray, within: np.ndarray, room: Room
) -> None:
    """Find the room of some tiles, in place.

    Parameters
    ----------
    row, first : rows of the results (n,) and lowest cells (n, 3) of the tiles
    bodies : distances to bodies at nodes (voxels), tiled by `where`
    within : (3, n), what the walls leave of cells along each axis (`basin.grid.fractions`)
    """
    _kernel_room(row, first, where, bodies, within, room.own, room.near, room.wide, room.middle)
