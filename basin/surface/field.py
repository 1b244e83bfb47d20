"""From particles to a level set at the surface's own voxel.

By the method "density" the body of the liquid is the half-full contour of a smooth particle density (kernel
of Wendland, C2), turned into a distance; particles too lonely to show in it are added as spheres of their
own. "averaged" is the field of Zhu & Bridson 2005, "spheres" the union of balls.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy.ndimage import convolve1d

from basin.surface.settings import SurfaceSettings

ALGORITHM = "surface-3"
MARGIN = 3  # empty voxels around the liquid, so that meshes close
LONELY = 0.45  # filled share at a particle below which it is drawn as a sphere
LEAST_REACH = 2.0  # voxels: a narrower kernel would fall between the nodes
TRUSTED = 0.6  # kernel radii from the surface within which density tells the distance
MOST_VOXELS = 400_000_000


class SurfaceFailure(RuntimeError):
    """The surface cannot be made; the message says why and what to change."""


@dataclass(frozen=True)
class Deep:
    """Liquid that no particles stand for: voxels of the simulation that are full.

    Attributes
    ----------
    low : float64 (3,), corner of the simulation's grid in metres; voxel : its voxel's edge
    tile : int32 (t, 3), tiles of 8^3 voxels, and held : uint8 (t, 8, 8, 8), which of their voxels are full
    """

    low: np.ndarray
    voxel: float
    tile: np.ndarray
    held: np.ndarray

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Smallest and largest corner of the tiles that hold something, metres."""
        some = self.tile[self.held.any(axis=(1, 2, 3))]
        if len(some) == 0:
            return np.full(3, np.inf), np.full(3, -np.inf)
        return self.low + some.min(axis=0) * 8 * self.voxel, self.low + (some.max(axis=0) + 1) * 8 * self.voxel


@dataclass(frozen=True)
class Field:
    """A level set on nodes.

    Attributes
    ----------
    phi : float32 (nx, ny, nz), metres, negative in the liquid
    low : float64 (3,), position of node (0, 0, 0) in metres
    voxel : spacing of the nodes in metres
    """

    phi: np.ndarray
    low: np.ndarray
    voxel: float


def profile(samples: int = 512) -> tuple[np.ndarray, np.ndarray]:
    """Filled share against distance to a flat surface, in kernel radii.

    Integral of the kernel W(s) = (1-s)^4 (4s+1) * 21/(2 pi) (Wendland 1995) over a half space at
    distance d from its centre: what the density shows across a flat surface.
    """
    z = np.linspace(-1, 1, samples)
    # marginal of the kernel along one axis: 2 pi * integral over the radius at height z
    s = np.linspace(0, 1, 2001)
    antiderivative = 2 * np.pi * 21 / (2 * np.pi) * (1 - s) ** 4 * (4 * s + 1) * s
    tail = np.concatenate([[0], np.cumsum((antiderivative[1:] + antiderivative[:-1]) / 2 * (s[1] - s[0]))])
    marginal = np.interp(1.0, s, tail) - np.interp(np.abs(z), s, tail)
    share = np.concatenate([[0], np.cumsum((marginal[1:] + marginal[:-1]) / 2 * (z[1] - z[0]))])
    return -z, share / share[-1]


@njit(cache=True, parallel=True)
def _splat(starts, position, volume, low, voxel, radius, shape_x, density):
    # One slab of nodes a task: each task walks the particles that can reach its slab, in order, so
    # the sums do not depend on the number of threads.
    reach = radius / voxel
    r2 = reach * reach
    slabs = starts.shape[0]
    norm = 21.0 / (2.0 * np.pi * radius**3)
    for slab in prange(slabs):
        lo, hi = slab * 8, min(slab * 8 + 8, shape_x)
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
def _spheres(starts, position, radius, low, voxel, phi):
    reach = radius.max() / voxel + 2.0 if radius.shape[0] else 0.0
    for slab in prange(starts.shape[0]):
        lo, hi = slab * 8, min(slab * 8 + 8, phi.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x = (position[n, 0] - low[0]) / voxel
            y = (position[n, 1] - low[1]) / voxel
            z = (position[n, 2] - low[2]) / voxel
            for i in range(max(int(np.ceil(x - reach)), lo), min(int(x + reach) + 1, hi)):
                for j in range(max(int(np.ceil(y - reach)), 0), min(int(y + reach) + 1, phi.shape[1])):
                    for k in range(max(int(np.ceil(z - reach)), 0), min(int(z + reach) + 1, phi.shape[2])):
                        d = np.sqrt((i - x) ** 2 + (j - y) ** 2 + (k - z) ** 2) * voxel - radius[n]
                        if d < phi[i, j, k]:
                            phi[i, j, k] = d


@njit(cache=True, parallel=True)
def _mean_place(starts, position, low, voxel, radius, weight, place):
    # sums of kernel weights and of weighted offsets from each node, in slabs as above
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


def _averaged(
    starts: np.ndarray,
    position: np.ndarray,
    low: np.ndarray,
    voxel: float,
    reach: float,
    radius: float,
    shape: np.ndarray,
) -> np.ndarray:
    """Distance to the weighted mean of the particles within reach, less a radius (Zhu & Bridson 2005)."""
    weight, place = np.zeros(tuple(shape), np.float32), np.zeros((3, *shape), np.float32)
    _mean_place(starts, position, low, voxel, reach, weight, place)
    there = weight > 0
    off = np.sqrt((place**2).sum(axis=0)) / np.where(there, weight, 1.0) * voxel
    return np.where(there, off - radius, reach).astype(np.float32)


def _slabs(x: np.ndarray, low: float, voxel: float, reach: float, nodes: int) -> np.ndarray:
    """First and last particle (sorted by x) that can reach each slab of 8 node planes."""
    first = np.arange(0, nodes, 8) * voxel + low
    return np.stack([np.searchsorted(x, first - reach), np.searchsorted(x, first + 8 * voxel + reach)], axis=1).astype(
        np.int64
    )


@njit(cache=True, parallel=True)
def _join_deep(phi, low, step, where, first, held, grid_low, dx):
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
                    ta, tb, tc = (a >> 3) - first[0], (b >> 3) - first[1], (c >> 3) - first[2]
                    if min(ta, tb, tc) < 0 or ta >= where.shape[0] or tb >= where.shape[1] or tc >= where.shape[2]:
                        continue
                    t = where[ta, tb, tc]
                    if t >= 0 and held[t, a & 7, b & 7, c & 7]:
                        share += (1 - abs(x - a)) * (1 - abs(y - b)) * (1 - abs(z - c))
                if share > 0.0:
                    phi[i, j, k] = min(phi[i, j, k], np.float32((0.5 - share) * dx))


def _with_deep(phi: np.ndarray, low: np.ndarray, voxel: float, deep: Deep) -> None:
    """Add full voxels to a level set, in place."""
    some = deep.held.any(axis=(1, 2, 3))
    if not some.any():
        return
    tile, held = deep.tile[some], deep.held[some]
    first = tile.min(axis=0)
    where = np.full(tuple(tile.max(axis=0) - first + 1), -1, np.int32)
    where[tuple((tile - first).T)] = np.arange(len(tile))
    _join_deep(phi, low, voxel, where, first, held, deep.low, deep.voxel)


def _with_spheres(phi: np.ndarray, position: np.ndarray, size: np.ndarray, low: np.ndarray, voxel: float) -> None:
    """Add balls of given sizes (n,) about positions (n, 3), sorted along x, to a level set, in place."""
    starts = _slabs(position[:, 0], low[0], voxel, float(size.max()) + 2 * voxel, phi.shape[0])
    _spheres(starts, position, size, low, voxel, phi)


def _of_density(
    starts: np.ndarray,
    position: np.ndarray,
    volume: np.ndarray,
    low: np.ndarray,
    voxel: float,
    radius: float,
    spray_radius: float,
    shape: np.ndarray,
) -> np.ndarray:
    """Distance to the half-full contour of the particles' density, with balls for those too lonely to show in it."""
    density = np.zeros(tuple(shape), np.float32)
    _splat(starts, position, volume, low, voxel, radius, shape[0], density)
    distance, share = profile()
    phi = (np.clip(np.interp(density, share, distance), -TRUSTED, TRUSTED) * radius).astype(np.float32)
    node = np.round((position - low) / voxel).astype(int)
    lonely = density[node[:, 0], node[:, 1], node[:, 2]] < LONELY
    if spray_radius > 0 and lonely.any():
        _with_spheres(phi, position[lonely], spray_radius * np.cbrt(volume[lonely]), low, voxel)
    return phi


def particle_field(
    position: np.ndarray,
    volume: np.ndarray,
    spacing: float,
    voxel: float,
    settings: SurfaceSettings,
    deep: Deep | None = None,
) -> Field | None:
    """Level set of the liquid that particles, and full voxels below them, stand for; None without any.

    Parameters
    ----------
    position : float32 (n, 3), metres
    volume : float32 (n,), m3 each
    spacing : rest distance of particles in metres

    Raises
    ------
    SurfaceFailure
        If the liquid spans more voxels than can be held.
    """
    if len(position) == 0:
        return None
    radius = max(settings.kernel_radius * spacing, LEAST_REACH * voxel)
    margin = radius + MARGIN * voxel
    least, most = position.min(axis=0).astype(np.float64), position.max(axis=0).astype(np.float64)
    if deep is not None:
        least, most = np.minimum(least, deep.bounds()[0]), np.maximum(most, deep.bounds()[1])
    low = np.floor((least - margin) / voxel) * voxel
    shape = np.ceil((most + margin - low) / voxel).astype(int) + 1
    if np.prod(shape.astype(float)) > MOST_VOXELS:
        raise SurfaceFailure(
            f"the surface would need {np.prod(shape.astype(float)) / 1e6:.0f} million voxels; use a coarser voxel"
        )
    order = np.argsort(position[:, 0], kind="stable")
    p, m = position[order].astype(np.float64), volume[order].astype(np.float64)
    starts = _slabs(p[:, 0], low[0], voxel, radius, shape[0])
    if settings.method == "averaged":
        phi = _averaged(starts, p, low, voxel, radius, settings.particle_radius * spacing, shape)
    elif settings.method == "spheres":
        phi = np.full(tuple(shape), radius, np.float32)
        _with_spheres(phi, p, settings.particle_radius * np.cbrt(m), low, voxel)
    else:
        phi = _of_density(starts, p, m, low, voxel, radius, settings.spray_radius, shape)
    if deep is not None:
        _with_deep(phi, low, voxel, deep)
    for _ in range(settings.smoothing):
        for axis in range(3):
            phi = convolve1d(phi, np.array([0.25, 0.5, 0.25], np.float32), axis=axis, mode="nearest")
    return Field(phi, low, voxel)
