"""Particles and voxels onto nodes, compiled.

Each task fills one slab of eight planes of nodes and walks the particles that can reach it in their order, so sums do
not depend on the number of threads.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange


def slabs(x: np.ndarray, low: float, voxel: float, reach: float, nodes: int) -> np.ndarray:
    """First and last particle (sorted by x) that can reach each slab of 8 node planes."""
    first = np.arange(0, nodes, 8) * voxel + low
    return np.stack([np.searchsorted(x, first - reach), np.searchsorted(x, first + 8 * voxel + reach)], axis=1).astype(
        np.int64
    )


@njit(cache=True, parallel=True)
def balls(starts, position, volume, low, voxel, radius, density):
    """Add particles' kernels to a density: Wendland's within a radius about each."""
    reach = radius / voxel
    r2 = reach * reach
    slabs = starts.shape[0]
    norm = 21.0 / (2.0 * np.pi * radius**3)
    for slab in prange(slabs):
        lo, hi = slab * 8, min(slab * 8 + 8, density.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x = (position[n, 0] - low[0]) / voxel
            y = (position[n, 1] - low[1]) / voxel
            z = (position[n, 2] - low[2]) / voxel
            for i in range(max(int(np.ceil(x - reach)), lo), min(int(x + reach) + 1, hi)):
                dx = i - x
                for j in range(int(np.ceil(y - reach)), int(y + reach) + 1):
                    dy = j - y
                    rest = r2 - dx * dx - dy * dy
                    if rest <= 0:
                        continue
                    half = np.sqrt(rest)
                    for k in range(int(np.ceil(z - half)), int(z + half) + 1):
                        dz = k - z
                        s2 = (dx * dx + dy * dy + dz * dz) / r2
                        if s2 >= 1.0:
                            continue
                        s = np.sqrt(s2)
                        q = (1.0 - s) * (1.0 - s)
                        density[i, j, k] += np.float32(q * q * (4.0 * s + 1.0) * norm * volume[n])


@njit(cache=True, parallel=True)
def capsules(starts, position, half, radius, low, voxel, phi):
    """Add to a level set the balls (n,) of radius swept from position - half to position + half."""
    for slab in prange(starts.shape[0]):
        lo, hi = slab * 8, min(slab * 8 + 8, phi.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x = (position[n, 0] - low[0]) / voxel
            y = (position[n, 1] - low[1]) / voxel
            z = (position[n, 2] - low[2]) / voxel
            u, v, w = half[n, 0] / voxel, half[n, 1] / voxel, half[n, 2] / voxel
            squared = u * u + v * v + w * w
            reach = radius[n] / voxel + 3.0
            for i in range(max(int(np.ceil(x - reach - abs(u))), lo), min(int(x + reach + abs(u)) + 1, hi)):
                for j in range(
                    max(int(np.ceil(y - reach - abs(v))), 0), min(int(y + reach + abs(v)) + 1, phi.shape[1])
                ):
                    for k in range(
                        max(int(np.ceil(z - reach - abs(w))), 0), min(int(z + reach + abs(w)) + 1, phi.shape[2])
                    ):
                        dx, dy, dz = i - x, j - y, k - z
                        if squared > 0.0:
                            t = min(max((dx * u + dy * v + dz * w) / squared, -1.0), 1.0)
                            dx, dy, dz = dx - t * u, dy - t * v, dz - t * w
                        d = np.sqrt(dx * dx + dy * dy + dz * dz) * voxel - radius[n]
                        if d < phi[i, j, k]:
                            phi[i, j, k] = d


@njit(cache=True, parallel=True)
def ellipsoids(starts, centre, inverse, reach, volume, low, voxel, density):
    """Add particles' kernels to a density: Wendland's within the ellipsoid x M x = 1 about each centre."""
    for slab in prange(starts.shape[0]):
        lo, hi = slab * 8, min(slab * 8 + 8, density.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            m = inverse[n]
            determinant = (
                m[0, 0] * (m[1, 1] * m[2, 2] - m[1, 2] * m[2, 1])
                - m[0, 1] * (m[1, 0] * m[2, 2] - m[1, 2] * m[2, 0])
                + m[0, 2] * (m[1, 0] * m[2, 1] - m[1, 1] * m[2, 0])
            )
            share = volume[n] * 21.0 / (2.0 * np.pi) * np.sqrt(determinant)
            x = (centre[n, 0] - low[0]) / voxel
            y = (centre[n, 1] - low[1]) / voxel
            z = (centre[n, 2] - low[2]) / voxel
            ri, rj = reach[n, 0] / voxel, reach[n, 1] / voxel
            a, v2 = m[2, 2], voxel * voxel
            for i in range(max(int(np.ceil(x - ri)), lo), min(int(x + ri) + 1, hi)):
                dx = i - x
                for j in range(max(int(np.ceil(y - rj)), 0), min(int(y + rj) + 1, density.shape[1])):
                    dy = j - y
                    b = m[0, 2] * dx + m[1, 2] * dy
                    c = m[0, 0] * dx * dx + 2.0 * m[0, 1] * dx * dy + m[1, 1] * dy * dy
                    inside = b * b - a * (c - 1.0 / v2)
                    if inside <= 0.0:
                        continue
                    half = np.sqrt(inside) / a
                    middle = z - b / a
                    for k in range(max(int(np.ceil(middle - half)), 0), min(int(middle + half) + 1, density.shape[2])):
                        dz = k - z
                        s2 = (c + 2.0 * b * dz + a * dz * dz) * v2
                        if s2 >= 1.0:
                            continue
                        s = np.sqrt(max(s2, 0.0))
                        q = (1.0 - s) * (1.0 - s)
                        density[i, j, k] += np.float32(q * q * (4.0 * s + 1.0) * share)


@njit(cache=True, parallel=True)
def mean_place(starts, position, low, voxel, radius, weight, place):
    """Sums of kernel weights, and of weighted offsets from each node, of the particles within a radius."""
    reach = radius / voxel
    r2 = reach * reach
    for slab in prange(starts.shape[0]):
        lo, hi = slab * 8, min(slab * 8 + 8, weight.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x = (position[n, 0] - low[0]) / voxel
            y = (position[n, 1] - low[1]) / voxel
            z = (position[n, 2] - low[2]) / voxel
            for i in range(max(int(np.ceil(x - reach)), lo), min(int(x + reach) + 1, hi)):
                for j in range(int(np.ceil(y - reach)), int(y + reach) + 1):
                    for k in range(int(np.ceil(z - reach)), int(z + reach) + 1):
                        s2 = ((i - x) ** 2 + (j - y) ** 2 + (k - z) ** 2) / r2
                        if s2 >= 1.0:
                            continue
                        w = (1.0 - s2) ** 3
                        weight[i, j, k] += np.float32(w)
                        place[0, i, j, k] += np.float32(w * (x - i))
                        place[1, i, j, k] += np.float32(w * (y - j))
                        place[2, i, j, k] += np.float32(w * (z - k))


@njit(cache=True)
def _tile_of(a, b, c, first, where):
    ta, tb, tc = (a >> 3) - first[0], (b >> 3) - first[1], (c >> 3) - first[2]
    if min(ta, tb, tc) < 0 or ta >= where.shape[0] or tb >= where.shape[1] or tc >= where.shape[2]:
        return -1
    return where[ta, tb, tc]


@njit(cache=True, parallel=True)
def full_voxels(phi, low, step, where, first, held, grid_low, dx):
    """Add the simulation's full voxels to a level set."""
    # Half of the trilinear share of full voxels is their outline: flush with the faces of those at walls. Towards
    # the band there are always particles, whose surface is farther out.
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                x = (low[0] + i * step - grid_low[0]) / dx - 0.5
                y = (low[1] + j * step - grid_low[1]) / dx - 0.5
                z = (low[2] + k * step - grid_low[2]) / dx - 0.5
                ci, cj, ck = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
                share = 0.0
                for q in range(8):
                    a, b, c = ci + (q >> 2), cj + ((q >> 1) & 1), ck + (q & 1)
                    t = _tile_of(a, b, c, first, where)
                    if t >= 0 and held[t, a & 7, b & 7, c & 7]:
                        share += (1 - abs(x - a)) * (1 - abs(y - b)) * (1 - abs(z - c))
                if share > 0.0:
                    phi[i, j, k] = min(phi[i, j, k], np.float32((0.5 - share) * dx))


@njit(cache=True, parallel=True)
def into_body(phi, low, step, where, first, level, grid_low, dx, depth):
    """Pass over to the simulation's own level set from a depth on, over another half of it."""
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                x = (low[0] + i * step - grid_low[0]) / dx - 0.5
                y = (low[1] + j * step - grid_low[1]) / dx - 0.5
                z = (low[2] + k * step - grid_low[2]) / dx - 0.5
                ci, cj, ck = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
                own, whole = 0.0, True
                for q in range(8):
                    a, b, c = ci + (q >> 2), cj + ((q >> 1) & 1), ck + (q & 1)
                    t = _tile_of(a, b, c, first, where)
                    if t < 0:
                        whole = False
                        break
                    own += level[t, a & 7, b & 7, c & 7] * (1 - abs(x - a)) * (1 - abs(y - b)) * (1 - abs(z - c))
                if whole and own < -depth:
                    s = min((-depth - own) / (0.5 * depth), 1.0)
                    phi[i, j, k] = np.float32((1.0 - s) * phi[i, j, k] + s * own)
