"""How foam lies together: how much of the surface it covers, and where it drifts to for it.

Bubbles at a surface draw each other on (Vella & Mahadevan 2005, "The Cheerios effect"), and where they lie in more than
one layer they give way.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import at, row_of, sample_with_slope
from basin.kernels import kernel, shared
from basin.whitewater.fields import Between, level_at

SLIGHT = np.float32(0.05)  # more cover a voxel on: below it, foam drifts the more slowly


@kernel
def _lay(position, area, low, voxel, where, out):
    """Add areas (n,), voxels, to the cells that hold places (n, 3), m."""
    for p in range(position.shape[0]):
        i = np.int64(np.floor((position[p, 0] - low[0]) / voxel))
        j = np.int64(np.floor((position[p, 1] - low[1]) / voxel))
        k = np.int64(np.floor((position[p, 2] - low[2]) / voxel))
        if min(i, j, k) < 0 or (i >> 3) + 2 > where.shape[0] or (j >> 3) + 2 > where.shape[1]:
            continue
        if (k >> 3) + 2 > where.shape[2]:
            continue
        t = row_of(where, i, j, k)
        if t > 0:
            out[t, i & 7, j & 7, k & 7] += np.float32(area[p])


@shared
def _about(field, where, first, out):
    """Sums over 27 cells, of a layer of 3 by 3: so much of it is covered, in the mean."""
    for t in prange(1, first.shape[0]):
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    total = np.float32(0.0)
                    for i in range(first[t, 0] + a - 1, first[t, 0] + a + 2):
                        for j in range(first[t, 1] + b - 1, first[t, 1] + b + 2):
                            for k in range(first[t, 2] + c - 1, first[t, 2] + c + 2):
                                total += at(field, where, i, j, k)
                    out[t, a, b, c] = total / np.float32(9.0)


@shared
def _drift(position, layer, low, voxel, where, cover, field, gathers, spreads, out):
    h = np.float32(0.5)
    for p in prange(position.shape[0]):
        x = np.float32((position[p, 0] - low[0]) / voxel)
        y = np.float32((position[p, 1] - low[1]) / voxel)
        z = np.float32((position[p, 2] - low[2]) / voxel)
        covered, a, b, c = sample_with_slope(cover, where, x - h, y - h, z - h)
        _, nx, ny, nz = level_at(field, where, x, y, z)
        steep = nx * nx + ny * ny + nz * nz
        if steep > np.float32(0.04):
            off = (a * nx + b * ny + c * nz) / steep
            a, b, c = a - off * nx, b - off * ny, c - off * nz
        one = np.float32(1.0)
        far = np.sqrt(a * a + b * b + c * c) + SLIGHT
        fast = gathers[layer[p]] * max(one - covered, np.float32(0.0))
        fast -= spreads[layer[p]] * min(max(covered - one, np.float32(0.0)), one)
        out[p, 0], out[p, 1], out[p, 2] = a * fast / far, b * fast / far, c * fast / far


def cover_of(position: np.ndarray, radius: np.ndarray, between: Between) -> np.ndarray:
    """How much of the surface foam covers about each cell, 1 for one whole layer, float32 (tiles + 1, 8, 8, 8)."""
    laid = np.zeros((len(between.first), 8, 8, 8), np.float32)
    area = np.pi * (np.asarray(radius, float) / between.voxel) ** 2
    _lay(position, area, between.low, between.voxel, between.where, laid)
    out = np.zeros_like(laid)
    _about(laid, between.where, between.first, out)
    return out


def drifts(
    position: np.ndarray,
    radius: np.ndarray,
    layer: np.ndarray,
    between: Between,
    field: np.ndarray,
    gathers: np.ndarray,
    spreads: np.ndarray,
) -> np.ndarray:
    """Velocities (n, 3), m/s, along the surface with which foam drifts together, or apart.

    Parameters
    ----------
    position, radius : (n, 3) and (n,), m; layer : of each; gathers, spreads : of each layer, m/s
    field : of the liquid now, as `Between.at` has it
    """
    out = np.zeros((len(position), 3), np.float32)
    if len(position) and (gathers.any() or spreads.any()):
        cover = cover_of(position, radius, between)
        at_place = (position, layer, between.low, between.voxel, between.where)
        _drift(*at_place, cover, field, np.float32(gathers), np.float32(spreads), out)
    return out
