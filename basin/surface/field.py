"""From particles to a level set at the surface's own voxel.

By the method "density" the body of the liquid is the half-full contour of a smooth particle density (kernel
of Wendland, C2), turned into a distance. "anisotropic" does the same with kernels that follow the neighbours
(Yu & Turk 2013), "averaged" is the field of Zhu & Bridson 2005, "spheres" the union of balls. Particles too lonely to
show, and groups too small to matter, are balls of their own, drawn out along their way if asked for.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from basin.surface import splat
from basin.surface.kernels import ellipsoids
from basin.surface.settings import SurfaceSettings

ALGORITHM = "surface-4"
MARGIN = 3  # empty voxels around the liquid, so that meshes close
LONELY = 0.45  # filled share at a particle below which it is drawn as a sphere
LEAST_REACH = 2.0  # voxels: a narrower kernel would fall between the nodes
TRUSTED = 0.6  # kernel radii from the surface within which density tells the distance
SHEET = 1.5  # density amid a sheet one kernel radius thick in all, kernels reaching beyond it to both sides
SURE = 0.9  # density that particles of sheets are lifted to
TOGETHER = 1.3  # of the density that a particle makes itself: with less about it, it is no part of a sheet
SHELL = 5  # cells of a kernel radius about a sparse one: what lies outside of them is deep
MOST_VOXELS = 400_000_000
LONGEST = 4.0  # radii that a ball is drawn out to each side at most


class SurfaceFailure(RuntimeError):
    """The surface cannot be made; the message says why and what to change."""


@dataclass(frozen=True)
class Points:
    """The particles of a frame.

    Attributes
    ----------
    position : float32 (n, 3), metres; volume : float32 (n,), m3 each
    spacing : rest distance of particles in metres
    carried : arrays (n, ...) by name, a `velocity` (m/s per shot second) among them
    """

    position: np.ndarray
    volume: np.ndarray
    spacing: float
    carried: dict[str, np.ndarray]

    def joined(self, other: Points) -> Points:
        """These and those of another simulation; of what they carry only what both do."""
        both = [name for name in self.carried if name in other.carried]
        return Points(
            np.concatenate([self.position, other.position]),
            np.concatenate([self.volume, other.volume]),
            max(self.spacing, other.spacing),
            {name: np.concatenate([self.carried[name], other.carried[name]]) for name in both},
        )


@dataclass(frozen=True)
class Simulated:
    """What the simulation's own grid knows: its level set, and voxels full of liquid that no particles stand for.

    Attributes
    ----------
    low : float64 (3,), corner of the simulation's grid in metres; voxel : its voxel's edge
    tile : int32 (t, 3), tiles of 8^3 voxels
    held : uint8 (t, 8, 8, 8), which of their voxels are full; phi : float32 (t, 8, 8, 8), metres, at their middles
    """

    low: np.ndarray
    voxel: float
    tile: np.ndarray
    held: np.ndarray
    phi: np.ndarray

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Smallest and largest corner of the tiles that hold something, metres."""
        some = self.tile[self.held.any(axis=(1, 2, 3))]
        if len(some) == 0:
            return np.full(3, np.inf), np.full(3, -np.inf)
        return self.low + some.min(axis=0) * 8 * self.voxel, self.low + (some.max(axis=0) + 1) * 8 * self.voxel

    def rows(self, some: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where chosen tiles are within the box about them, -1 for none, and the first tile of that box."""
        tile = self.tile[some]
        first = tile.min(axis=0)
        where = np.full(tuple(tile.max(axis=0) - first + 1), -1, np.int32)
        where[tuple((tile - first).T)] = np.arange(len(tile))
        return where, first


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

    def planes(self, start: int, end: int) -> np.ndarray:
        """Positions (n, 3) in metres of the nodes of planes along x."""
        shape = (end - start, *self.phi.shape[1:])
        index = np.indices(shape, np.float64).reshape(3, -1).T
        index[:, 0] += start
        return np.asarray(index * self.voxel + self.low)

    def at(self, points: np.ndarray, of: np.ndarray | None = None) -> np.ndarray:
        """The level set, or another array on its nodes, at points (n, 3), trilinear."""
        held = self.phi if of is None else of
        return np.asarray(
            ndimage.map_coordinates(held, ((points - self.low) / self.voxel).T, order=1, mode="nearest"), np.float64
        )


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


@dataclass(frozen=True)
class _Cloud:
    """Particles sorted along x, on the nodes that they are to fill."""

    position: np.ndarray
    volume: np.ndarray
    way: np.ndarray  # metres that each is drawn out to both sides
    low: np.ndarray
    voxel: float
    shape: tuple[int, ...]

    def slabs(self, x: np.ndarray, reach: float) -> np.ndarray:
        return splat.slabs(x, self.low[0], self.voxel, reach, self.shape[0])

    def with_balls(self, phi: np.ndarray, radius: float, some: np.ndarray | slice = slice(None)) -> None:
        """Add balls to a level set in place, of a radius (in spacings of its volume) about each of some particles."""
        position, way = self.position[some], self.way[some]
        if len(position) == 0:
            return
        size = radius * np.cbrt(self.volume[some])
        length = np.linalg.norm(way, axis=1)
        half = way * np.minimum(1.0, LONGEST * size / np.maximum(length, 1e-30))[:, None]
        thin = _drawn_radius(size, np.linalg.norm(half, axis=1))
        reach = float((np.abs(half[:, 0]) + thin).max()) + 3 * self.voxel
        starts = self.slabs(position[:, 0], reach)
        splat.capsules(starts, position, half, thin, self.low, self.voxel, phi)


def _drawn_radius(radius: np.ndarray, half: np.ndarray) -> np.ndarray:
    """Radius (n,) of a ball swept over a length to both sides that keeps the volume of a ball at rest."""
    found = radius.copy()
    for _ in range(20):  # Newton on 4/3 r^3 + 2 h r^2 = 4/3 R^3, whose left side is convex
        over = 4 / 3 * found**3 + 2 * half * found**2 - 4 / 3 * radius**3
        found = found - over / np.maximum(4 * found**2 + 4 * half * found, 1e-30)
    return found


def _averaged(cloud: _Cloud, reach: float, radius: float) -> np.ndarray:
    """Distance to the weighted mean of the particles within reach, less a radius (Zhu & Bridson 2005)."""
    weight, place = np.zeros(cloud.shape, np.float32), np.zeros((3, *cloud.shape), np.float32)
    starts = cloud.slabs(cloud.position[:, 0], reach)
    splat.mean_place(starts, cloud.position, cloud.low, cloud.voxel, reach, weight, place)
    there = weight > 0
    off = np.sqrt((place**2).sum(axis=0)) / np.where(there, weight, 1.0) * cloud.voxel
    return np.where(there, off - radius, reach).astype(np.float32)


def _of_density(cloud: _Cloud, radius: float, settings: SurfaceSettings, spacing: float) -> np.ndarray:
    """Distance to the half-full contour of the particles' density, with balls for those too lonely to show in it."""
    density = _density(cloud, radius, cloud.volume, settings.method == "anisotropic")
    node = np.round((cloud.position - cloud.low) / cloud.voxel).astype(int).T
    if settings.thinnest > 0:
        # the most that there is nearby: thin sheets are lifted, the surface of a body stays as it is
        size = 2 * int(np.ceil(radius / cloud.voxel)) + 1
        own = ndimage.maximum_filter(density, size=size)[tuple(node)]
        least = SHEET * settings.thinnest * spacing / radius
        lift = np.clip(SURE / np.maximum(own, 1e-6), 1.0, max(SURE / least, 1.0))
        alone = own < TOGETHER * 21 / (2 * np.pi) * cloud.volume / radius**3
        volume = cloud.volume * np.where(alone, 1.0, lift)
        density = _density(cloud, radius, volume, settings.method == "anisotropic")
    distance, share = profile()
    phi = (np.clip(np.interp(density, share, distance), -TRUSTED, TRUSTED) * radius).astype(np.float32)
    if settings.spray_radius > 0:
        cloud.with_balls(phi, settings.spray_radius, density[tuple(node)] < LONELY)
    return phi


def _density(cloud: _Cloud, radius: float, volume: np.ndarray, anisotropic: bool) -> np.ndarray:
    """Sum of the kernels of particles with given volumes (n,) on nodes: 1 amid liquid."""
    density = np.zeros(cloud.shape, np.float32)
    round_ones = np.ones(len(volume), bool)
    if anisotropic:
        shell = _shell(cloud.position, radius)
        centre, inverse, reach = ellipsoids(cloud.position, radius, cloud.way, shell)
        order = np.argsort(centre[:, 0], kind="stable")
        starts = cloud.slabs(centre[order, 0], float(reach[:, 0].max(initial=0.0)))
        args = (centre[order], inverse[order], reach[order], volume[shell][order])
        splat.ellipsoids(starts, *args, cloud.low, cloud.voxel, density)
        round_ones = ~shell
    starts = cloud.slabs(cloud.position[round_ones, 0], radius)
    splat.balls(starts, cloud.position[round_ones], volume[round_ones], cloud.low, cloud.voxel, radius, density)
    return density


def _shell(position: np.ndarray, radius: float) -> np.ndarray:
    """Which particles (n,) come near enough to air to shape the surface: within three cells of a sparse one."""
    cell = np.floor((position - position.min(axis=0)) / radius).astype(np.int64) + 3
    shape = tuple(cell.max(axis=0) + 4)
    where = np.ravel_multi_index(tuple(cell.T), shape)
    count = np.bincount(where, minlength=int(np.prod(shape))).reshape(shape)
    sparse = count < 0.6 * np.median(count[count > 0])
    near = ndimage.maximum_filter(sparse, size=SHELL)
    return np.asarray(near.ravel()[where])


def _without_specks(phi: np.ndarray, cloud: _Cloud, settings: SurfaceSettings) -> None:
    """Take pieces with too few particles out of a level set, in place, and put balls for them in."""
    piece, count = ndimage.label(phi < 0, np.ones((3, 3, 3), bool))
    if count == 0:
        return
    node = np.round((cloud.position - cloud.low) / cloud.voxel).astype(int)
    own = piece[node[:, 0], node[:, 1], node[:, 2]]
    small = np.bincount(own, minlength=count + 1) < settings.specks
    small[0] = False
    phi[small[piece]] = 0.5 * cloud.voxel
    if settings.spray_radius > 0:
        cloud.with_balls(phi, settings.spray_radius, small[own])


def particle_field(
    points: Points,
    voxel: float,
    settings: SurfaceSettings,
    simulated: Simulated | None = None,
    frame_seconds: float = 0.0,
    beyond: tuple[np.ndarray, np.ndarray] | None = None,
    room: float = 0.0,
) -> Field | None:
    """Level set of the liquid that particles, and full voxels below them, stand for; None without any.

    Parameters
    ----------
    voxel : of the surface, metres
    frame_seconds : shot seconds of a frame, for the way that particles are drawn out
    beyond : smallest and largest corner (m) of what else is to have room in the field
    room : voxels beyond the surface that are wanted besides

    Raises
    ------
    SurfaceFailure
        If it needs more voxels than there may be.
    """
    empty = simulated is None or not simulated.held.any()
    if len(points.position) == 0 and empty and beyond is None:
        return None
    radius = max(settings.kernel_radius * points.spacing, LEAST_REACH * voxel)
    least, most = np.full(3, np.inf), np.full(3, -np.inf)
    if len(points.position):
        least, most = points.position.min(axis=0), points.position.max(axis=0)
    corners = [] if beyond is None else [beyond]
    if simulated is not None:
        corners.append(simulated.bounds())
    for low_corner, high_corner in corners:
        least, most = np.minimum(least, low_corner), np.maximum(most, high_corner)
    way = np.zeros((len(points.position), 3))
    if settings.stretch > 0 and frame_seconds > 0:
        way = settings.stretch * frame_seconds / 2 * points.carried["velocity"].astype(np.float64)
    margin = (MARGIN + room) * voxel + 1.5 * radius + min(float(np.abs(way).max(initial=0.0)), LONGEST * radius)
    low = np.floor((least - margin) / voxel) * voxel
    shape = np.ceil((most + margin - low) / voxel).astype(int) + 1
    if np.prod(shape.astype(float)) > MOST_VOXELS:
        raise SurfaceFailure(
            f"the surface would need {np.prod(shape.astype(float)) / 1e6:.0f} million voxels; use a coarser voxel"
        )
    order = np.argsort(points.position[:, 0], kind="stable")
    position, volume = points.position[order].astype(np.float64), points.volume[order].astype(np.float64)
    cloud = _Cloud(position, volume, way[order], low, voxel, tuple(shape.tolist()))
    if len(position) == 0:
        phi = np.full(cloud.shape, radius, np.float32)
    elif settings.method == "averaged":
        phi = _averaged(cloud, radius, settings.particle_radius * points.spacing)
    elif settings.method == "spheres":
        phi = np.full(cloud.shape, radius, np.float32)
        cloud.with_balls(phi, settings.particle_radius)
    else:
        phi = _of_density(cloud, radius, settings, points.spacing)
    if settings.specks > 1 and len(position):
        _without_specks(phi, cloud, settings)
    if simulated is not None:
        _with_grid(phi, low, voxel, simulated, settings.body)
    return Field(phi, low, voxel)


def _with_grid(phi: np.ndarray, low: np.ndarray, voxel: float, simulated: Simulated, body: float) -> None:
    """Add the simulation's full voxels, and its level set from a depth on (voxels of its own; 0 for never)."""
    some = np.asarray(simulated.held.any(axis=(1, 2, 3)))
    if some.any():
        where, first = simulated.rows(some)
        held = simulated.held[some]
        splat.full_voxels(phi, low, voxel, where, first, held, simulated.low, simulated.voxel)
    if body > 0 and len(simulated.tile):
        where, first = simulated.rows(np.ones(len(simulated.tile), bool))
        depth = body * simulated.voxel
        level = simulated.phi.astype(np.float32)
        splat.into_body(phi, low, voxel, where, first, level, simulated.low, simulated.voxel, depth)
