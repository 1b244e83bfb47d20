"""From particles to a level set at the surface's own voxel.

By the method "density" the body of the liquid is the half-full contour of a smooth particle density (kernel
of Wendland, C2), turned into a distance. "anisotropic" does the same with kernels that follow the neighbours
(Yu & Turk 2013), "averaged" is the field of Zhu & Bridson 2005, "spheres" the union of balls. Particles too lonely to
show, and groups too small to matter, are balls of their own, drawn out along their way if asked for.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from dataclasses import field as of_its_own
from functools import cache

import numpy as np
from scipy import ndimage

from basin.surface import splat
from basin.surface.cloud import BAND, MOST_BAND, Cloud, Reach, furthest
from basin.surface.drops import Drops
from basin.surface.kernels import WIDER, ellipsoids
from basin.surface.layers import Layers, Walls, layers_of
from basin.surface.settings import SurfaceSettings

ALGORITHM = "surface-11"
MARGIN = 3  # empty voxels around the liquid, so that meshes close
LONELY = 0.45  # filled share at a particle below which it is drawn as a sphere
LEAST_REACH = 2.0  # voxels: a narrower kernel would fall between the nodes
TRUSTED = 0.6  # kernel radii from the surface within which density tells the distance
FARTHER = 1.5  # radii that anisotropic kernels below the surface reach
MOST_VOXELS = 400_000_000
NO_SPRAY = np.zeros(0, np.float32)


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
    layers : films, sheets and threads in it, drawn thicker than they are
    drops : balls that are to be joined when all else is done, or that were; None without any
    spray : volumes (n,) in m3 of the particles that are too lonely to show otherwise and are balls
    """

    phi: np.ndarray
    low: np.ndarray
    voxel: float
    layers: Layers | None = None
    drops: Drops | None = None
    spray: np.ndarray = of_its_own(default_factory=lambda: NO_SPRAY)

    def planes(self, start: int, end: int) -> np.ndarray:
        """Positions (n, 3) in metres of the nodes of planes along x."""
        shape = (end - start, *self.phi.shape[1:])
        index = np.indices(shape, np.float64).reshape(3, -1).T
        index[:, 0] += start
        return np.asarray(index * self.voxel + self.low)

    def with_drops(self) -> Field:
        """The same with its drops joined, if it holds distances."""
        if self.drops is None:
            return self
        drops, phi = self.drops.among(self.at(self.drops.centre), self.voxel), self.phi.copy()
        if len(drops) == 0:
            return replace(self, drops=None)
        drops.draw(self.low, self.voxel, phi)
        return replace(self, phi=phi, drops=drops)

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


def _averaged(cloud: Cloud, reach: float, radius: float) -> np.ndarray:
    """Distance to the weighted mean of the particles within reach, less a radius (Zhu & Bridson 2005)."""
    some = cloud.some
    found = np.zeros((*cloud.shape, 4), np.float32)
    splat.mean_place(cloud.slabs(some, reach), some, cloud.cells.position, cloud.low, cloud.voxel, reach, found)
    phi = splat.off_mean(found, np.float32(radius), np.float32(cloud.voxel), np.float32(reach))
    cloud.fill_deep(phi, -radius)
    return np.asarray(phi)


def _balls(cloud: Cloud, reach: float, radius: float, most: float) -> np.ndarray:
    """Union of balls of a radius in spacings, the largest of which has one of `most` metres."""
    phi = np.full(cloud.shape, reach, np.float32)
    cloud.with_balls(phi, radius, cloud.some)
    cloud.fill_deep(phi, -most)
    return phi


@dataclass(frozen=True)
class _Shape:
    """What a method makes of particles: a level set, and see `Field`."""

    phi: np.ndarray
    layers: Layers | None = None
    drops: Drops | None = None
    spray: np.ndarray = of_its_own(default_factory=lambda: NO_SPRAY)


def _of_density(cloud: Cloud, radius: float, settings: SurfaceSettings, spacing: float, walls: Walls | None) -> _Shape:
    """Distance to the half-full contour of the particles' density, with layers too thin to show in it as they are and
    balls for those too lonely."""
    some = cloud.some
    volume = cloud.volume[some]
    density = np.zeros(cloud.shape, np.float32)
    kernels = (_Balls if settings.method == "density" else _Ellipsoids)(cloud, radius, some)
    kernels.add(density, np.arange(len(some)), volume)
    cloud.fill_deep(density, 1.0)
    layers, (thin, there, alone) = None, np.zeros((3, len(some)), bool)
    if settings.thinnest > 0:
        layers, held, few = layers_of(cloud, cloud.thin, radius, spacing, settings.thinnest * spacing, walls)
        at = np.searchsorted(some, cloud.thin)
        thin[at], there[at], alone[at] = True, held, few & ~held
    drops, faint = None, (density[tuple(cloud.node(some).T)] < LONELY) & ~there & ~alone
    at = np.flatnonzero(alone)
    kernels.add(density, at, -volume[at])  # others lie as far from drops as they would without them
    phi = np.asarray(splat.contour(density, _distances(), np.float32(radius)))
    if layers is not None:
        layers.join(phi, cloud, some[there])
    if settings.spray_radius > 0:
        cloud.with_balls(phi, settings.spray_radius, some[faint])
        kinds = ((some[alone], False), (some[thin & ~there & ~alone], True))
        sure, maybe = (Drops.of(cloud, which, settings.spray_radius, lost) for which, lost in kinds)
        drops = sure.joined(maybe) or None
    spray = faint if layers is None else alone
    return _Shape(phi, layers, drops, volume[spray])


@cache
def _distances() -> np.ndarray:
    """Distance in kernel radii at evenly spaced densities, as far as density tells it."""
    distance, share = profile()
    return np.clip(np.interp(np.linspace(0, 1, 4097), share, distance), -TRUSTED, TRUSTED).astype(np.float32)


class _Balls:
    """Round kernels of some particles."""

    def __init__(self, cloud: Cloud, radius: float, some: np.ndarray) -> None:
        self.cloud, self.radius, self.some = cloud, radius, some

    def add(self, density: np.ndarray, which: np.ndarray, volume: np.ndarray) -> None:
        """Add those of some (m,) of them with volumes (m,) to a density."""
        cloud, some = self.cloud, self.some[which]
        starts = cloud.slabs(some, self.radius)
        splat.balls(starts, some, cloud.cells.position, volume, cloud.low, cloud.voxel, self.radius, density)


class _Ellipsoids:
    """Anisotropic kernels of some particles."""

    def __init__(self, cloud: Cloud, radius: float, some: np.ndarray) -> None:
        self.cloud, self.some = cloud, some
        self.centre, self.inverse, self.reach = ellipsoids(cloud.cells, radius, cloud.way, some)
        off = np.abs(self.centre[:, 0] - cloud.cells.position[some, 0]) + self.reach[:, 0]
        self.furthest = float(off.max(initial=0.0))

    def add(self, density: np.ndarray, which: np.ndarray, volume: np.ndarray) -> None:
        """Add those of some (m,) of them with volumes (m,) to a density."""
        starts = self.cloud.slabs(self.some[which], self.furthest)
        args = (self.centre[which], self.inverse[which], self.reach[which], volume)
        splat.ellipsoids(starts, *args, self.cloud.low, self.cloud.voxel, density)


def _without_specks(made: _Shape, cloud: Cloud, points: Points, settings: SurfaceSettings) -> _Shape:
    """Take pieces with too few particles out of a level set, in place; they become drops."""
    phi = made.phi
    piece, count = ndimage.label(phi < 0, np.ones((3, 3, 3), bool))
    if count == 0:
        return made
    every = np.arange(len(points.position))
    own = piece[tuple(splat.nearest_node(every, points.position, cloud.low, cloud.voxel).T)]
    small = np.bincount(own, minlength=count + 1) < settings.specks
    small[0] = False
    phi[small[piece]] = 0.5 * cloud.voxel
    if settings.spray_radius == 0:
        return made
    some = np.flatnonzero(small[own[cloud.cells.order]])
    drops = Drops.of(cloud, some, settings.spray_radius)
    return replace(made, drops=(drops if made.drops is None else made.drops.joined(drops)) or None)


def particle_field(
    points: Points,
    voxel: float,
    settings: SurfaceSettings,
    simulated: Sequence[Simulated] = (),
    frame_seconds: float = 0.0,
    beyond: tuple[np.ndarray, np.ndarray] | None = None,
    room: float = 0.0,
    walls: Walls | None = None,
) -> Field | None:
    """Level set of the liquid that particles, and full voxels below them, stand for; None without any.

    Parameters
    ----------
    voxel : of the surface, metres
    frame_seconds : shot seconds of a frame, for the way that particles are drawn out
    beyond : smallest and largest corner (m) of what else is to have room in the field
    room : voxels beyond the surface that are wanted besides
    walls : distance (n,) in metres of points (n, 3) from the nearest wall, on which layers lie

    Raises
    ------
    SurfaceFailure
        If it needs more voxels than there may be.
    """
    empty = not any(grid.held.any() for grid in simulated)
    if len(points.position) == 0 and empty and beyond is None:
        return None
    radius = max(settings.kernel_radius * points.spacing, LEAST_REACH * voxel)
    least, most = np.full(3, np.inf), np.full(3, -np.inf)
    if len(points.position):
        columns = points.position.T  # by columns: numpy is slow at the least of rows
        least, most = np.array([c.min() for c in columns]), np.array([c.max() for c in columns])
    corners = [] if beyond is None else [beyond]
    corners += [grid.bounds() for grid in simulated]
    for low_corner, high_corner in corners:
        least, most = np.minimum(least, low_corner), np.maximum(most, high_corner)
    way = None
    if settings.stretch > 0 and frame_seconds > 0:
        way = settings.stretch * frame_seconds / 2 * points.carried["velocity"].astype(np.float64)
    margin = (MARGIN + room) * voxel + 1.5 * radius + furthest(way, radius)
    low = np.floor((least - margin) / voxel) * voxel
    shape = np.ceil((most + margin - low) / voxel).astype(int) + 1
    if np.prod(shape.astype(float)) > MOST_VOXELS:
        raise SurfaceFailure(
            f"the surface would need {np.prod(shape.astype(float)) / 1e6:.0f} million voxels; use a coarser voxel"
        )
    nodes = tuple(shape.tolist())
    if len(points.position):
        made = _of_particles(points, way, radius, (low, voxel, nodes), settings, room, walls)
    else:
        made = _Shape(np.full(nodes, radius, np.float32))
    for grid in simulated:
        _with_grid(made.phi, low, voxel, grid, settings.body)
    return Field(made.phi, low, voxel, made.layers, made.drops, made.spray)


def _of_particles(
    points: Points,
    way: np.ndarray | None,
    radius: float,
    grid: tuple[np.ndarray, float, tuple[int, ...]],
    settings: SurfaceSettings,
    room: float,
    walls: Walls | None,
) -> _Shape:
    """Level set of the particles by the settings' method, on a grid (see `Cloud.about`)."""

    def looked_at(reach: Reach) -> Cloud:
        return Cloud.about(points.position, points.volume, way, grid, reach)

    if settings.method == "averaged":
        cloud = looked_at(Reach(radius, radius, room=room))
        made = _Shape(_averaged(cloud, radius, settings.particle_radius * points.spacing))
    elif settings.method == "spheres":
        most = settings.particle_radius * float(np.cbrt(points.volume.max()))
        reach = most + min(BAND + room, MOST_BAND) * grid[1] + furthest(way, most)
        cloud = looked_at(Reach(radius, reach, room=room))
        made = _Shape(_balls(cloud, radius, settings.particle_radius, most))
    elif settings.method == "density":
        cloud = looked_at(Reach(radius, radius, room=room))
        made = _of_density(cloud, radius, settings, points.spacing, walls)
    else:
        cloud = looked_at(Reach(radius, FARTHER * radius + furthest(way, radius), WIDER * radius, room))
        made = _of_density(cloud, radius, settings, points.spacing, walls)
    if settings.specks > 1:
        made = _without_specks(made, cloud, points, settings)
    return made


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
