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

from basin.grid.neighbours import bounds
from basin.surface import splat
from basin.surface.cloud import BAND, MOST_BAND, Cloud, Reach, furthest
from basin.surface.drops import Drops
from basin.surface.kernels import WIDER, ellipsoids
from basin.surface.layers import WIDEST, Layers, Walls, layers_of
from basin.surface.level import EVERY, NO_SPRAY, Bricks, Field, Whole
from basin.surface.settings import SurfaceSettings

ALGORITHM = "surface-11"
MARGIN = 3  # empty voxels around the liquid, so that meshes close
LONELY = 0.45  # filled share at a particle below which it is drawn as a sphere
LEAST_REACH = 2.0  # voxels: a narrower kernel would fall between the nodes
TRUSTED = 0.6  # kernel radii from the surface within which density tells the distance
FARTHER = 1.5  # radii that anisotropic kernels below the surface reach
IN_ONE_BOX = 40_000_000  # nodes; more are worked on in bricks, where there is a surface
BRICK = 96  # nodes along each axis of a brick, or more where particles reach far
SEEN_OFF = 2 + 3 * WIDEST  # kernel radii: others' others tell a particle that it lies in a layer
MOST_NODES = 1_200_000_000  # of all bricks


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

    def some(self, which: np.ndarray) -> Points:
        """Some of them, by their numbers (m,) or flags (n,)."""
        carried = {name: value[which] for name, value in self.carried.items()}
        return Points(self.position[which], self.volume[which], self.spacing, carried)

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

    def within(self, low: np.ndarray, high: np.ndarray) -> Simulated:
        """What it knows of a box between two corners (m), in whole tiles."""
        centre, half = self.low + (self.tile * 8 + 4) * self.voxel, 4 * self.voxel
        some = ((centre > low - half) & (centre < high + half)).all(axis=1)
        return replace(self, tile=self.tile[some], held=self.held[some], phi=self.phi[some])

    def rows(self, some: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Where chosen tiles are within the box about them, -1 for none, and the first tile of that box."""
        tile = self.tile[some]
        first = tile.min(axis=0)
        where = np.full(tuple(tile.max(axis=0) - first + 1), -1, np.int32)
        where[tuple((tile - first).T)] = np.arange(len(tile))
        return where, first


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


def _averaged(cloud: Cloud, reach: float, radius: float, some: np.ndarray) -> np.ndarray:
    """Distance to the weighted mean of some particles within reach, less a radius (Zhu & Bridson 2005)."""
    found = np.zeros((*cloud.shape, 4), np.float32)
    splat.mean_place(cloud.slabs(some, reach), some, cloud.cells.position, cloud.low, cloud.voxel, reach, found)
    phi = splat.off_mean(found, np.float32(radius), np.float32(cloud.voxel), np.float32(reach))
    cloud.fill_deep(phi, -radius)
    return np.asarray(phi)


def _of_means(cloud: Cloud, task: _Task, spacing: float) -> _Shape:
    """Distance to the particles' weighted mean, with layers too thin to show in it as they are."""
    settings, some, layers = task.settings, cloud.some, None
    if settings.thinnest > 0:
        layers, held, _ = layers_of(cloud, cloud.thin, task.radius, spacing, settings.thinnest * spacing, task.walls)
        some = np.delete(some, np.searchsorted(some, cloud.thin[held]))
    phi = _averaged(cloud, task.radius, settings.particle_radius * spacing, some)
    if layers is not None:
        layers.join(phi, cloud, cloud.thin[held])
    return _Shape(phi, layers)


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


def _of_density(
    cloud: Cloud,
    radius: float,
    settings: SurfaceSettings,
    spacing: float,
    walls: Walls | None,
    own: tuple[slice, ...],
) -> _Shape:
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
    drops, faint = None, np.zeros(len(some), bool)
    place = cloud.cells.position
    splat.fainter(some, there | alone, place, cloud.low, cloud.voxel, density, np.float32(LONELY), faint)
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
    spray = np.flatnonzero(faint if layers is None else alone)
    node = cloud.node(some[spray])
    for axis, part in enumerate(own):
        if part != slice(None):
            inside = (node[:, axis] >= part.start) & (node[:, axis] < part.stop)
            spray, node = spray[inside], node[inside]
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
    node = splat.nearest_node(every, points.position, cloud.low, cloud.voxel)
    within = ((node >= 0) & (node < phi.shape)).all(axis=1)
    own = np.zeros(len(node), piece.dtype)
    own[within] = piece[tuple(node[within].T)]
    small = np.bincount(own, minlength=count + 1) < settings.specks
    small[0] = False
    for axis in range(3):  # what goes on beyond the box is not all there
        small[np.take(piece, [0, -1], axis=axis)] = False
    phi[small[piece]] = 0.5 * cloud.voxel
    if settings.spray_radius == 0:
        return made
    some = np.flatnonzero(small[own[cloud.cells.order]])
    drops = Drops.of(cloud, some, settings.spray_radius)
    return replace(made, drops=(drops if made.drops is None else made.drops.joined(drops)) or None)


@dataclass(frozen=True)
class _Task:
    """What a field is made of, but for where (see `particle_field`).

    Attributes
    ----------
    radius : of kernels, metres
    frame_seconds : shot seconds that particles are drawn out for
    margin : metres beyond particles that a field has room for
    origin : float64 (3,), metres, from which on cells are counted, whichever box they are of
    """

    origin: np.ndarray
    settings: SurfaceSettings
    voxel: float
    radius: float
    frame_seconds: float
    margin: float
    room: float
    walls: Walls | None


def _way(points: Points, settings: SurfaceSettings, frame_seconds: float) -> np.ndarray | None:
    """Metres (n, 3) that particles are drawn out to both sides, if they are."""
    if settings.stretch <= 0 or frame_seconds <= 0:
        return None
    return settings.stretch * frame_seconds / 2 * points.carried["velocity"].astype(np.float64)


def particle_field(
    points: Points,
    voxel: float,
    settings: SurfaceSettings,
    simulated: Sequence[Simulated] = (),
    frame_seconds: float = 0.0,
    beyond: tuple[np.ndarray, np.ndarray] | None = None,
    room: float = 0.0,
    walls: Walls | None = None,
    rim: int = 0,
) -> Whole | None:
    """Level set of the liquid that particles, and full voxels below them, stand for; None without any.

    Parameters
    ----------
    voxel : of the surface, metres
    frame_seconds : shot seconds of a frame, for the way that particles are drawn out
    beyond : smallest and largest corner (m) of what else is to have room in the field
    room : voxels beyond the surface that are wanted besides
    walls : distance (n,) in metres of points (n, 3) from the nearest wall, on which layers lie
    rim : voxels that bricks know of their neighbours, as far as anything that works on them looks

    Raises
    ------
    SurfaceFailure
        If it needs more voxels than there may be.
    """
    empty = not any(grid.held.any() for grid in simulated)
    if len(points.position) == 0 and empty and beyond is None:
        return None
    radius = max(settings.kernel_radius * points.spacing, LEAST_REACH * voxel)
    least, most = bounds(points.position)
    corners = [] if beyond is None else [beyond]
    corners += [grid.bounds() for grid in simulated]
    for low_corner, high_corner in corners:
        least, most = np.minimum(least, low_corner), np.maximum(most, high_corner)
    way = _way(points, settings, frame_seconds)
    margin = (MARGIN + room) * voxel + 1.5 * radius + furthest(way, radius)
    low = np.floor((least - margin) / voxel) * voxel
    task = _Task(low, settings, voxel, radius, frame_seconds, margin, room, walls)
    shape = np.ceil((most + margin - low) / voxel).astype(int) + 1
    if np.prod(shape.astype(float)) <= IN_ONE_BOX:
        return _in_box(task, points, simulated, low, tuple(shape.tolist()))
    return _in_bricks(task, points, simulated, beyond, low, shape, rim)


def _in_box(
    task: _Task,
    points: Points,
    simulated: Sequence[Simulated],
    low: np.ndarray,
    shape: tuple[int, ...],
    own: tuple[slice, ...] = EVERY,
) -> Field:
    """A field on nodes from `low` (m) on, of particles that may lie beyond them; see `Field` for `own`."""
    if len(points.position):
        made = _of_particles(points, task, (low, task.voxel, shape), own)
    else:
        made = _Shape(np.full(shape, task.radius, np.float32))
    for grid in simulated:
        _with_grid(made.phi, low, task.voxel, grid, task.settings.body)
    return Field(made.phi, low, task.voxel, made.layers, made.drops, made.spray, own)


def _reached(
    points: Points,
    boxes: list[tuple[np.ndarray, np.ndarray]],
    margin: float,
    low: np.ndarray,
    edge: float,
    count: np.ndarray,
) -> np.ndarray:
    """Bricks, int64 (n, 3), of an edge (m) from `low` on, that particles reach within a margin, or boxes."""
    flags = np.zeros(tuple(count), bool)
    for off in np.ndindex(2, 2, 2):
        at = (points.position + margin * (2.0 * np.array(off) - 1) - low) // edge
        flags[tuple(np.clip(at, 0, count - 1).astype(np.int64).T)] = True
    for corners in boxes:
        least, most = (np.clip((c - low) // edge, 0, count - 1).astype(int) for c in corners)
        flags[tuple(slice(a, b + 1) for a, b in zip(least, most, strict=True))] = True
    return np.argwhere(flags)


def _in_bricks(
    task: _Task,
    points: Points,
    simulated: Sequence[Simulated],
    beyond: tuple[np.ndarray, np.ndarray] | None,
    low: np.ndarray,
    shape: np.ndarray,
    rim: int,
) -> Bricks:
    """Fields on those bricks of a box that anything reaches."""
    voxel, margin = task.voxel, task.margin
    reach = margin + SEEN_OFF * task.radius  # from which particles tell what a node is
    size = max(BRICK, int(np.ceil(reach / voxel)) + rim)
    boxes = [] if beyond is None else [beyond]
    for grid in simulated:
        full = grid.low + 8 * grid.voxel * grid.tile[grid.held.any(axis=(1, 2, 3))]
        boxes += [(corner, corner + 8 * grid.voxel) for corner in full]
    reached = _reached(points, boxes, margin, low, size * voxel, -(-shape // size))
    order = np.argsort(points.position[:, 0], kind="stable")  # each brick looks at a slab of them alone
    along = points.position[order, 0]
    place, firsts, parts, nodes = [], [], [], 0
    for brick in reached:
        first, after = brick * size, np.minimum((brick + 1) * size, shape)
        corner, far = low + first.astype(float) * voxel, low + (after - 1.0) * voxel
        slab = np.sort(order[np.searchsorted(along, corner[0] - reach) : np.searchsorted(along, far[0] + reach)])
        there = points.position[slab]
        grids = [grid.within(corner - margin, far + margin) for grid in simulated]
        whole = beyond is not None or any(grid.held.any() for grid in grids)
        if not whole:  # what no particle shapes is left out
            near = there[((there > corner - margin) & (there < far + margin)).all(axis=1)]
            if len(near) == 0:
                continue
            first = np.maximum(first, np.floor((near.min(axis=0) - margin - low) / voxel).astype(int))
            after = np.minimum(after, np.ceil((near.max(axis=0) + margin - low) / voxel).astype(int) + 1)
        begin, end = np.maximum(first - rim, 0), np.minimum(after + rim, shape)
        nodes += int(np.prod(end - begin))
        if nodes > MOST_NODES:
            raise SurfaceFailure(
                f"the surface would need more than {MOST_NODES / 1e6:.0f} million voxels; use a coarser voxel"
            )
        corner, far = low + begin * voxel, low + (end - 1) * voxel
        some = slab[((there > corner - reach) & (there < far + reach)).all(axis=1)]
        own = tuple(slice(int(a), int(b)) for a, b in zip(first - begin, after - begin, strict=True))
        parts.append(_in_box(task, points.some(some), grids, corner, tuple((end - begin).tolist()), own))
        place.append(brick)
        firsts.append(first)
    return Bricks(parts, np.array(place), np.array(firsts), size, tuple(shape.tolist()), low).of(parts)


def _of_particles(
    points: Points,
    task: _Task,
    grid: tuple[np.ndarray, float, tuple[int, ...]],
    own: tuple[slice, ...],
) -> _Shape:
    """Level set of the particles by the settings' method, on a grid (see `Cloud.about`)."""
    settings, radius, room, walls = task.settings, task.radius, task.room, task.walls
    way = _way(points, settings, task.frame_seconds)

    def looked_at(reach: Reach) -> Cloud:
        return Cloud.about(points.position, points.volume, way, grid, reach, task.origin)

    if settings.method == "averaged":
        cloud = looked_at(Reach(radius, radius, room=room))
        made = _of_means(cloud, task, points.spacing)
    elif settings.method == "spheres":
        most = settings.particle_radius * float(np.cbrt(points.volume.max()))
        reach = most + min(BAND + room, MOST_BAND) * grid[1] + furthest(way, most)
        cloud = looked_at(Reach(radius, reach, room=room))
        made = _Shape(_balls(cloud, radius, settings.particle_radius, most))
    elif settings.method == "density":
        cloud = looked_at(Reach(radius, radius, room=room))
        made = _of_density(cloud, radius, settings, points.spacing, walls, own)
    else:
        cloud = looked_at(Reach(radius, FARTHER * radius + furthest(way, radius), WIDER * radius, room))
        made = _of_density(cloud, radius, settings, points.spacing, walls, own)
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
