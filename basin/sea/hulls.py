"""How deep bodies reach into still water, over a grid: what they press on it with."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import gaussian_filter

from basin.kernels import kernel

ROUNDED = 1.0  # cells over which a hull's edge is smoothed, so that it makes no waves that the grid cannot hold
MARGIN = 5  # cells about it
OFF = 1e-4 * np.array([0.731, 0.519])  # of a cell: samples lie beside the edges that triangles share


@kernel
def _columns(corner, triangle, level, reach, low, spacing, out):  # type: ignore[no-untyped-def]
    """Adds up, over triangles, how deep below the level each lies along a column, at most `reach`; down counts as
    plus, up as minus: what is between is inside."""
    for t in range(triangle.shape[0]):
        a, b, c = corner[triangle[t, 0]], corner[triangle[t, 1]], corner[triangle[t, 2]]
        # turned about the vertical: the sign of its area as seen from above
        area = (b[0] - a[0]) * (c[2] - a[2]) - (c[0] - a[0]) * (b[2] - a[2])
        if area == 0.0 or min(a[1], b[1], c[1]) >= level:
            continue
        i0 = max(int(np.ceil((min(a[0], b[0], c[0]) - low[0]) / spacing)), 0)
        i1 = min(int(np.floor((max(a[0], b[0], c[0]) - low[0]) / spacing)), out.shape[0] - 1)
        j0 = max(int(np.ceil((min(a[2], b[2], c[2]) - low[1]) / spacing)), 0)
        j1 = min(int(np.floor((max(a[2], b[2], c[2]) - low[1]) / spacing)), out.shape[1] - 1)
        for i in range(i0, i1 + 1):
            x = low[0] + i * spacing
            for j in range(j0, j1 + 1):
                z = low[1] + j * spacing
                u = ((b[0] - x) * (c[2] - z) - (c[0] - x) * (b[2] - z)) / area
                v = ((c[0] - x) * (a[2] - z) - (a[0] - x) * (c[2] - z)) / area
                w = 1.0 - u - v
                if u < 0.0 or v < 0.0 or w < 0.0:
                    continue
                deep = min(max(level - (u * a[1] + v * b[1] + w * c[1]), 0.0), reach)
                out[i, j] += deep if area > 0.0 else -deep


def draught(
    position: np.ndarray, triangle: np.ndarray, level: float, reach: float, cell: float
) -> tuple[np.ndarray, np.ndarray]:
    """Depth (m) of a closed mesh below a level, inside it, at grid points.

    Parameters
    ----------
    position (n, 3), triangle (t, 3) : metres; either way round
    reach : m below the level, beyond which nothing counts
    cell : spacing of the grid, m, whose points lie at its multiples

    Returns
    -------
    depths (a, b), float32, rows along x, and the numbers (2,) of the first point; empty if nothing is in the water
    """
    none = np.zeros((0, 0), np.float32), np.zeros(2, np.int64)
    if len(position) == 0 or position[:, 1].min() >= level:
        return none
    flat = position[:, [0, 2]]
    begin = np.floor(flat.min(axis=0) / cell).astype(np.int64) - MARGIN
    end = np.ceil(flat.max(axis=0) / cell).astype(np.int64) + MARGIN
    a, b = (end - begin + 1).tolist()
    fine = np.zeros((2 * a, 2 * b))
    # two samples a side about each point
    low = (begin - 0.25 + OFF) * cell
    corner = np.ascontiguousarray(position, np.float64)
    _columns(corner, np.ascontiguousarray(triangle, np.int64), level, reach, low, 0.5 * cell, fine)
    whole = fine if fine.sum() >= 0 else -fine
    mean = np.clip(whole, 0.0, reach).reshape(a, 2, b, 2).mean(axis=(1, 3))
    return gaussian_filter(mean, ROUNDED, mode="constant").astype(np.float32), begin
