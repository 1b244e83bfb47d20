"""The liquid's level set from its particles, and the density that it is drawn from.

Particles are splatted with quadratic B-splines and divided by what a full neighbourhood would give
there, so that a wall beside the liquid does not look like air. The half-full contour is the
surface. A volume kept by the particles is so a volume kept by the surface.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange
from scipy.ndimage import convolve1d
from scipy.special import ndtri

from basin.grid.layout import Layout
from basin.liquid.particles import Particles
from basin.liquid.sorting import Tiling

FAR = np.float32(2.5)
WIDTH = np.float32(np.sqrt(0.75))  # voxels: the spline's variance 1/4 and the binomial's 1/2
FAINTEST = np.float32(0.002)
LEAST_ROOM = np.float32(0.30)  # neighbourhoods with less open space than this take their neighbours' word


@njit(cache=True, parallel=True)
def _splat(chosen, start, position, volume, density):
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        wx = np.empty(3, np.float32)
        wy = np.empty(3, np.float32)
        wz = np.empty(3, np.float32)
        for p in range(start[t], start[t + 1]):
            i, j, k = int(position[p, 0]), int(position[p, 1]), int(position[p, 2])
            _spline(position[p, 0] - np.float32(i) - np.float32(0.5), wx)
            _spline(position[p, 1] - np.float32(j) - np.float32(0.5), wy)
            _spline(position[p, 2] - np.float32(k) - np.float32(0.5), wz)
            for di in range(3):
                a = volume[p] * wx[di]
                for dj in range(3):
                    b = a * wy[dj]
                    for dk in range(3):
                        density[i + di - 1, j + dj - 1, k + dk - 1] += b * wz[dk]


@njit(cache=True, inline="always")
def _spline(d, out):
    """Quadratic B-spline weights of the cells at -1, 0, 1 for an offset d in [-0.5, 0.5]."""
    out[0] = np.float32(0.5) * (np.float32(0.5) - d) ** 2
    out[1] = np.float32(0.75) - d * d
    out[2] = np.float32(0.5) * (np.float32(0.5) + d) ** 2


def density(particles: Particles, tiling: Tiling, layout: Layout) -> np.ndarray:
    """Particle volume per voxel volume at cell centres, float32 (Nx, Ny, Nz)."""
    result = np.zeros(layout.cells, np.float32)
    for chosen in tiling.colours:
        if len(chosen):
            _splat(chosen, tiling.start, particles.position, particles.volume, result)
    layout.fold(result)
    return result


def room(open_share: np.ndarray) -> np.ndarray:
    """What `density` gives where all open space is liquid: the cells' open shares seen through the spline."""
    result = open_share
    for axis in range(3):
        padded = np.concatenate([result.take([0], axis), result, result.take([-1], axis)], axis=axis, dtype=np.float32)
        n = result.shape[axis]
        low, mid, high = (np.take(padded, range(s, s + n), axis) for s in range(3))
        result = (low + high) * np.float32(1 / 6) + mid * np.float32(2 / 3)
    return np.ascontiguousarray(result)


@njit(cache=True, parallel=True)
def _into_walls(space, phi, out):
    nx, ny, nz = phi.shape
    for i in prange(1, nx - 1):
        for j in range(1, ny - 1):
            for k in range(1, nz - 1):
                e = space[i, j, k]
                if e >= LEAST_ROOM or e <= 0.0:
                    continue
                total, weight = 0.0, 0.0
                for di in range(-1, 2):
                    for dj in range(-1, 2):
                        for dk in range(-1, 2):
                            s = space[i + di, j + dj, k + dk]
                            if s >= LEAST_ROOM:
                                # nearer and roomier neighbours know better
                                f = s * s / (di * di + dj * dj + dk * dk)
                                total += f * phi[i + di, j + dj, k + dk]
                                weight += f
                if weight > 0.0:
                    out[i, j, k] = total / weight


def softened(field: np.ndarray) -> np.ndarray:
    """Binomial mean (1, 2, 1)/4 along each axis: with the spline, close to a Gaussian of `WIDTH`."""
    for axis in range(3):
        field = convolve1d(field, np.array([0.25, 0.5, 0.25], np.float32), axis=axis, mode="nearest")
    return field


def level_set(share: np.ndarray, space: np.ndarray) -> np.ndarray:
    """Distance to the liquid's surface at cell centres in voxels, negative inside, within +-2.5.

    Across a flat surface the softened share falls with the normal distribution whatever the
    surface's direction, so its inverse is the distance. A kernel that is not the same in all
    directions would leave a pattern of errors locked to the grid, which drives currents along a
    resting surface that lies askew.

    Parameters
    ----------
    share : float32 (Nx, Ny, Nz) from `density`
    space : the same shape, from `room`
    """
    wide = softened(space)
    with np.errstate(divide="ignore", invalid="ignore"):
        filled = np.nan_to_num(softened(share) / wide)
    phi = (-WIDTH * ndtri(np.clip(filled, FAINTEST, 1 - FAINTEST))).astype(np.float32)
    phi[wide < LEAST_ROOM] = FAR
    out = phi.copy()
    _into_walls(wide, phi, out)
    return out


@njit(cache=True, parallel=True)
def _ballistic(position, phi, out):
    nx, ny, nz = phi.shape
    for p in prange(position.shape[0]):
        i, j, k = int(position[p, 0]), int(position[p, 1]), int(position[p, 2])
        free = True
        for di in range(max(i - 1, 0), min(i + 2, nx)):
            for dj in range(max(j - 1, 0), min(j + 2, ny)):
                for dk in range(max(k - 1, 0), min(k + 2, nz)):
                    if phi[di, dj, dk] < 0.0:
                        free = False
        out[p] = free


def ballistic(particles: Particles, phi: np.ndarray) -> np.ndarray:
    """Which particles have no liquid cell among their 27 neighbours: they fly on their own."""
    result = np.empty(len(particles), np.bool_)
    _ballistic(particles.position, phi, result)
    return result
