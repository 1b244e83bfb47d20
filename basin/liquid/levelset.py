"""The liquid's level set from its particles, and the density that it is drawn from.

Particles are splatted with quadratic B-splines and divided by what a full neighbourhood would give
there, so that a wall beside the liquid does not look like air. The half-full contour is the
surface. A volume kept by the particles is so a volume kept by the surface.
"""

from __future__ import annotations

from dataclasses import dataclass

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
FAITHFUL = np.float32(1.6)  # voxels: beyond, the kernel's tail is too thin to tell the distance
LEAST_ROOM = np.float32(0.30)  # neighbourhoods with less open space than this take their neighbours' word
WHOLE = np.float32(0.999)  # open share of a kernel that no wall cuts
FLATTER = 0.001  # pull of a fitted plane's slope towards zero
BOX_SPLINE = np.array([1 / 6, 2 / 3, 1 / 6], np.float32)  # the spline, averaged over a cell
BINOMIAL = np.array([0.25, 0.5, 0.25], np.float32)


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


@dataclass(frozen=True)
class Room:
    """What the kernel finds of open space around each cell.

    Attributes
    ----------
    near : float32 (Nx, Ny, Nz), what `density` gives where all open space is liquid
    wide : the same through the wider kernel of the level set
    cell : int32 (n, 3), cells whose kernel a wall cuts
    middle : float32 (n, 3), centroid of the open part of their kernel, voxels from the cell's centre
    row : int32 (Nx, Ny, Nz), row of a cell in `cell`, -1 for none
    """

    near: np.ndarray
    wide: np.ndarray
    cell: np.ndarray
    middle: np.ndarray
    row: np.ndarray


@njit(cache=True, parallel=True)
def _centroids(cell, open_share, taps, middle):
    nx, ny, nz = open_share.shape
    for r in prange(cell.shape[0]):
        total, mx, my, mz = 0.0, 0.0, 0.0, 0.0
        for di in range(-2, 3):
            i = min(max(cell[r, 0] + di, 0), nx - 1)
            for dj in range(-2, 3):
                j = min(max(cell[r, 1] + dj, 0), ny - 1)
                for dk in range(-2, 3):
                    k = min(max(cell[r, 2] + dk, 0), nz - 1)
                    w = taps[di + 2] * taps[dj + 2] * taps[dk + 2] * open_share[i, j, k]
                    total += w
                    mx += w * di
                    my += w * dj
                    mz += w * dk
        if total > 0.0:
            middle[r, 0], middle[r, 1], middle[r, 2] = mx / total, my / total, mz / total


def room(open_share: np.ndarray) -> Room:
    """The kernels' view of the cells' open shares, float32 (Nx, Ny, Nz)."""
    near = open_share
    for axis in range(3):
        near = convolve1d(near, BOX_SPLINE, axis=axis, mode="nearest")
    wide = softened(near)
    cut = (wide < WHOLE) & (wide > 0)
    cell = np.argwhere(cut).astype(np.int32)
    middle = np.zeros((len(cell), 3), np.float32)
    _centroids(cell, open_share, np.convolve(BOX_SPLINE, BINOMIAL), middle)
    row = np.full(open_share.shape, -1, np.int32)
    row[cut] = np.arange(len(cell), dtype=np.int32)
    return Room(near, wide, cell, middle, row)


@njit(cache=True)
def _solve4(a, b):
    """Solve the symmetric positive 4x4 system a x = b in place (Cholesky)."""
    for c in range(4):
        for r in range(c, 4):
            t = a[r, c]
            for k in range(c):
                t -= a[r, k] * a[c, k]
            a[r, c] = np.sqrt(max(t, 1e-12)) if r == c else t / a[c, c]
    for r in range(4):
        for k in range(r):
            b[r] -= a[r, k] * b[k]
        b[r] /= a[r, r]
    for r in range(3, -1, -1):
        for k in range(r + 1, 4):
            b[r] -= a[k, r] * b[k]
        b[r] /= a[r, r]


@njit(cache=True, parallel=True)
def _at_walls(cell, middle, row, wide, phi, out):
    nx, ny, nz = phi.shape
    for r in prange(cell.shape[0]):
        i, j, k = cell[r, 0], cell[r, 1], cell[r, 2]
        most = -FAR
        a = np.zeros((4, 4))
        b = np.zeros(4)
        x = np.empty(4)
        x[0] = 1.0
        for ni in range(max(i - 1, 0), min(i + 2, nx)):
            for nj in range(max(j - 1, 0), min(j + 2, ny)):
                for nk in range(max(k - 1, 0), min(k + 2, nz)):
                    e = wide[ni, nj, nk]
                    if e < LEAST_ROOM:
                        continue
                    x[1], x[2], x[3] = ni - i, nj - j, nk - k
                    n = row[ni, nj, nk]
                    if n >= 0:
                        for d in range(3):
                            x[1 + d] += middle[n, d]
                    value = phi[ni, nj, nk]
                    most = max(most, value)
                    weight = e * e / (1.0 + x[1] * x[1] + x[2] * x[2] + x[3] * x[3])
                    if abs(value) > FAITHFUL:
                        weight *= 1e-3  # cut off: it only says on which side
                    for p in range(4):
                        b[p] += weight * x[p] * value
                        for q in range(p + 1):
                            a[p, q] += weight * x[p] * x[q]
        if a[0, 0] <= 0.0:
            continue
        for d in range(1, 4):
            a[d, d] += FLATTER * a[0, 0]
        _solve4(a, b)
        # Deep down all that a slope can show is that a few particles are missing; air that none of the
        # neighbours sees is none, and a hole there would let the liquid jet.
        fitted = min(max(np.float32(b[0]), -FAR), FAR)
        out[i, j, k] = most if most < 0.0 <= fitted else fitted


def softened(field: np.ndarray) -> np.ndarray:
    """Binomial mean (1, 2, 1)/4 along each axis: with the spline, close to a Gaussian of `WIDTH`."""
    for axis in range(3):
        field = convolve1d(field, BINOMIAL, axis=axis, mode="nearest")
    return field


def level_set(share: np.ndarray, space: Room) -> np.ndarray:
    """Distance to the liquid's surface at cell centres in voxels, negative inside, within +-2.5.

    Across a flat surface the softened share falls with the normal distribution whatever the
    surface's direction, so its inverse is the distance. A kernel that is not the same in all
    directions would leave a pattern of errors locked to the grid, which drives currents along a
    resting surface that lies askew.

    Where a wall cuts the kernel, what is left of it has its middle away from the cell's centre, and
    the distance belongs there. A plane through such values of the neighbourhood (least squares)
    gives the cell's own; else a surface that meets a leaning wall would seem bent, and flow.

    Parameters
    ----------
    share : float32 (Nx, Ny, Nz) from `density`
    """
    with np.errstate(divide="ignore", invalid="ignore"):
        filled = np.nan_to_num(softened(share) / space.wide)
    phi = (-WIDTH * ndtri(np.clip(filled, FAINTEST, 1 - FAINTEST))).astype(np.float32)
    phi[space.wide < LEAST_ROOM] = FAR
    out = phi.copy()
    _at_walls(space.cell, space.middle, space.row, space.wide, phi, out)
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
