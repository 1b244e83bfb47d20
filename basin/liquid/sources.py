"""Puts liquid in: fills at a moment, inflows over a span. Strewn about lattices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from basin.geometry.distance import Distance
from basin.geometry.pose import Pose
from basin.grid.layout import Layout
from basin.liquid.particles import Particles
from basin.liquid.solids import SolidWorld

GOLDEN = (5**0.5 - 1) / 2
CROWDED = 0.4  # of the spacing: nearer to liquid that is already there, nothing is put in


@dataclass(frozen=True)
class FillSource:
    """Liquid put in once.

    Attributes
    ----------
    number : index among the scene's sources
    distance : shape in its own frame
    is_box : whether the shape is a box, whose lattice then fits it exactly
    velocity : (3,) m per liquid second
    frame : frame at which it appears
    """

    number: int
    name: str
    distance: Distance
    is_box: bool
    pose: Pose
    velocity: np.ndarray
    frame: int


@dataclass(frozen=True)
class InflowSource:
    """Liquid poured from `start` to `end` (liquid seconds), through a disc or out of a shape."""

    number: int
    name: str
    distance: Distance | None
    radius: float
    pose: Pose
    velocity: np.ndarray
    start: float
    end: float


def strewn(node: np.ndarray) -> np.ndarray:
    """Where particles lie about the nodes (n, 3) of a lattice: offsets in its spacing, up to half of it.

    Each axis' offset turns by golden sections along the other two. Seen along an axis the particles
    are then spread evenly, without the planes of a plain lattice, which a flow that stretches them
    draws apart into ridges; yet neighbours keep 0.73 of the spacing, where random offsets as large
    would leave clumps.
    """
    turned = GOLDEN * np.roll(node, -1, axis=1) + GOLDEN**2 * np.roll(node, -2, axis=1)
    return np.asarray(turned % 1.0 - 0.5)


def fill_particles(fill: FillSource, layout: Layout, per_cell: int, time: float) -> tuple[np.ndarray, float]:
    """Positions (n, 3) in metres of a fill's lattice, and each particle's volume in voxels^3.

    The lattice lies along the shape's own axes, so a turned box is filled flush.
    """
    matrix = fill.pose.matrix(time)
    scale = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
    spacing = layout.dx / per_cell ** (1 / 3) / scale
    low, high = fill.distance.low, fill.distance.high
    extent = high - low
    count = np.maximum(np.round(extent / spacing), 1).astype(int)
    if fill.is_box:
        steps = extent / count
    else:
        count = np.ceil(extent / spacing).astype(int) + 1
        steps = np.full(3, spacing)
        low = (low + high) / 2 - count * spacing / 2
    node = np.stack(np.meshgrid(*(np.arange(n) for n in count), indexing="ij"), axis=-1).reshape(-1, 3)
    points = low + (node + 0.5 + strewn(node)) * steps
    held = int((fill.distance.at(low + (node + 0.5) * steps) < 0).sum())
    points = points[fill.distance.at(points) < 0]
    # how many strewn points a shape catches is a matter of luck; the plain lattice tells its volume better
    volume = float(np.prod(steps)) * (scale / layout.dx) ** 3 * held / max(len(points), 1)
    return points @ matrix[:3, :3].T + matrix[:3, 3], volume


def inflow_particles(
    inflow: InflowSource, layout: Layout, per_cell: int, shot_time: float, before: float, now: float
) -> tuple[np.ndarray, float]:
    """Positions (n, 3) in metres at `now` of what was poured since `before` (liquid seconds).

    Layers of a lattice that moves with the stream are born as they pass the opening, each advanced
    by the time since, so the rate is exact and no layer is doubled or missed between substeps.
    """
    begin, end = max(before, inflow.start), min(now, inflow.end)
    none = np.zeros((0, 3))
    speed = float(np.linalg.norm(inflow.velocity))
    opening = before < inflow.start <= now or now <= 0 == inflow.start  # a shape is full when it opens
    if end <= begin and not (inflow.distance is not None and opening):
        return none, 0.0
    matrix = inflow.pose.matrix(shot_time)
    spacing = layout.dx / per_cell ** (1 / 3)
    if inflow.distance is None:
        scale = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
        radius = inflow.radius * scale
        normal = matrix[:3, 1] / scale
        through = abs(float(inflow.velocity @ normal))
        if through * spacing == 0:
            return none, 0.0
        half = int(np.ceil(radius / spacing))
        row, column = (g.ravel() for g in np.meshgrid(*[np.arange(-half, half)] * 2, indexing="ij"))
        a, b = (row + 0.5) * spacing, (column + 0.5) * spacing
        inside = a * a + b * b < radius * radius
        if not inside.any():
            a, b, inside = np.zeros_like(a), np.zeros_like(b), np.arange(len(a)) == 0
        a, b = a[inside], b[inside]
        volume = np.pi * radius**2 * spacing / len(a) / layout.dx**3
        first = int(np.ceil((begin - inflow.start) * through / spacing - 0.5 - 1e-9))
        last = int(np.ceil((end - inflow.start) * through / spacing - 0.5 - 1e-9))
        layers = np.arange(max(first, 0), max(last, 0))
        passed = inflow.start + (layers + 0.5) * spacing / through
        shape = (len(layers), len(a))
        node = np.stack(
            [np.broadcast_to(v, shape).ravel() for v in (row[inside], column[inside], layers[:, None])], axis=-1
        )
        shift = strewn(node).reshape(*shape, 3) * spacing
        across, along = matrix[:3, 0] / scale, matrix[:3, 2] / scale
        flat = (a + shift[..., 0])[..., None] * across + (b + shift[..., 1])[..., None] * along
        ahead = (now - passed)[:, None, None] + (shift[..., 2] / through)[..., None]
        return (matrix[:3, 3] + flat + ahead * inflow.velocity).reshape(-1, 3), volume
    corners = (
        np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        * (inflow.distance.high - inflow.distance.low)
        + inflow.distance.low
    )
    placed = corners @ matrix[:3, :3].T + matrix[:3, 3]
    drift = inflow.velocity * (now - inflow.start)
    low = np.floor((placed.min(axis=0) - drift) / spacing).astype(int)
    high = np.ceil((placed.max(axis=0) - drift) / spacing).astype(int)
    axes = [np.arange(low[d], high[d] + 1) for d in range(3)]
    node = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
    points = (node + 0.5 + strewn(node)) * spacing + drift
    inverse = np.linalg.inv(matrix)

    def inside_shape(where: np.ndarray) -> np.ndarray:
        return np.asarray(inflow.distance.at(where @ inverse[:3, :3].T + inverse[:3, 3]) < 0)  # type: ignore[union-attr]

    born = inside_shape(points)
    if not opening:
        if speed == 0:
            return none, 0.0
        born &= ~inside_shape(points - inflow.velocity * (now - before))
    return points[born], spacing**3 / layout.dx**3


def open_places(place: np.ndarray, layout: Layout, solids: SolidWorld, time: float) -> np.ndarray:
    """Which places (n, 3) in voxels lie in the domain and outside solids at a shot time, bool (n,)."""
    inside = np.asarray(((place >= layout.wall_low) & (place < layout.wall_high)).all(axis=1))
    result = inside.copy()
    result[inside] = solids.distance_of(place[inside], time) > 0
    return result


def put_in(
    particles: Particles,
    place: np.ndarray,
    volume: float,
    velocity: np.ndarray,
    number: int,
    born: float,
    next_id: int,
    per_cell: int,
) -> tuple[Particles, int]:
    """Append new particles at places (n, 3) in voxels; those too near to liquid that is there are left out.

    Parameters
    ----------
    velocity : (3,) voxels per second

    Raises
    ------
    OverflowError
        When the birth counter passes 2^31.
    """
    if len(particles) and len(place):
        spacing = per_cell ** (-1 / 3)
        near, _ = cKDTree(particles.position).query(place, distance_upper_bound=CROWDED * spacing)
        place = place[~np.isfinite(near)]
    n = len(place)
    if n == 0:
        return particles, next_id
    if next_id + n >= 2**31:
        raise OverflowError("more than 2^31 particles were born; use a coarser voxel")
    fresh = Particles.at(place, volume)
    fresh.velocity[:] = velocity
    fresh.id[:] = np.arange(next_id, next_id + n)
    fresh.source[:], fresh.born[:] = number, born
    return particles.joined(fresh), next_id + n
