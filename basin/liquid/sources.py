"""Puts liquid in: fills at a moment, inflows over a span, strewn about lattices; and takes it out in drains."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
from scipy.ndimage import uniform_filter
from scipy.spatial import cKDTree

from basin.geometry.deforming import Deforming
from basin.geometry.distance import Distance, shape_distance
from basin.geometry.pose import Placement, Shifted, box_in, scale_of
from basin.geometry.shapes import Box, Disc, FlatOpening, Tub
from basin.grid.layout import Layout
from basin.grid.tiles import Tiles
from basin.liquid.particles import Particles, new_ids
from basin.liquid.solids import Body, SolidWorld, Touch
from basin.randomness import uniform
from basin.settings import Curve, value_at

GOLDEN = (5**0.5 - 1) / 2
MOST_LAYERS, MOST_STEPS = 16, 64
MOST_NODES = 30_000_000  # of a lattice that is laid out whole
MOST_ACROSS = 1000  # spacings of an opening's radius that is laid out whole
DRAWN_OUT, RESOLVED = (
    16.0,
    2.5,
)  # voxels: fall over which streams should not part, and the width of a thread that is resolved
PLUG, OFF = 2.0, 0.3  # voxels: thickness of a nozzle's plug, and how far it stays behind what is born
BORN = 1.0  # voxels ahead of a mouth that count as full
HUNGRY = 0.15  # of a voxel's volume
CROWDED = 0.4  # of the spacing: nearer to liquid that is already there, nothing is put in


Given = Mapping[tuple[str, ...], Callable[[np.ndarray, np.ndarray, float], np.ndarray]]


@dataclass(frozen=True)
class FillSource:
    """Liquid put in once.

    Attributes
    ----------
    number : index among the scene's sources
    distance : shape in its own frame, which may deform
    is_box : whether the shape is a box, whose lattice then fits it exactly
    velocity : (3,) m per liquid second
    carry : share of the shape's own velocity that the liquid is given
    frame : frame at which it appears
    given : what its liquid carries: for attributes whose columns lie side by side, what gives their values (n, w) at
        points (n, 3) in the source's own frame, for ids (n,), at a shot second
    """

    number: int
    name: str
    distance: Distance | Deforming
    is_box: bool
    pose: Placement
    velocity: np.ndarray
    carry: float
    frame: int
    given: Given = field(default_factory=dict)


@dataclass(frozen=True)
class InflowSource:
    """Liquid poured from `start` to `end` (liquid seconds), through a flat opening or out of a shape.

    Attributes
    ----------
    distance : shape that it comes out of, in its own frame; None with an `opening`
    velocity : (3,) m per liquid second; with a `flow` only its direction counts
    flow : m3 per liquid second, a number or a curve over shot seconds; None for what the velocity gives
    across : m2 of a shape that is seen along the velocity (its pose at the start)
    full : whether the shape is only kept full, without a velocity of its own
    carry : share of the source's own velocity that the liquid is given
    given : what its liquid carries: for attributes whose columns lie side by side, what gives their values (n, w) at
        points (n, 3) in the source's own frame, for ids (n,), at a shot second
    """

    number: int
    name: str
    distance: Distance | Deforming | None
    opening: FlatOpening | None
    pose: Placement
    velocity: np.ndarray
    start: float
    end: float
    flow: float | Curve | None = None
    flow_unit: float = 1.0
    across: float = 0.0
    full: bool = False
    carry: float = 0.0
    given: Given = field(default_factory=dict)

    def hangs(self, gravity: float, dx: float, time_scale: float) -> bool:
        """Whether what it pours through a flat opening is so thick that a voxel of it and more hangs on what follows.

        Weight and viscosity balance over (nu^2 / g)^(1/3); what is thinner falls off in drops.
        """
        thick = self.given.get(("viscosity",))
        if self.opening is None or thick is None:
            return False
        nu = float(thick(np.zeros((1, 3)), np.zeros(1, np.int32), self.start / time_scale).max())
        return bool(nu**2 > gravity * dx**3)

    def opens(self, before: float, now: float) -> bool:
        """Whether it begins between two liquid seconds."""
        return before < self.start <= now or now <= 0 == self.start

    def area_at(self, shot_time: float) -> float:
        """Area (m2) that liquid leaves through, across its way."""
        if self.opening is None:
            return self.across
        matrix, way = self.pose.matrix(shot_time), self.velocity / max(float(np.linalg.norm(self.velocity)), 1e-12)
        scale = scale_of(matrix)
        return self.opening.area() * scale**2 * abs(float(way @ matrix[:3, 1]) / scale)

    def speed_at(self, shot_time: float) -> np.ndarray:
        """Velocity (3,) of the liquid against the source, m per liquid second."""
        if self.flow is None:
            return self.velocity
        way = self.velocity / max(float(np.linalg.norm(self.velocity)), 1e-12)
        area = self.area_at(shot_time)
        flow = float(value_at(self.flow, shot_time)[0]) * self.flow_unit
        return way * (max(flow, 0.0) / max(area, 1e-12))


def nozzle(inflow: InflowSource, layout: Layout, time_scale: float, hangs: bool) -> Body | None:
    """The end of the pipe that a flat opening pours from: a plug just behind it, whose face gives liquid.

    The face goes at the stream's speed. Without it a slow stream would fall away from its opening and come in
    pulses, since air could follow it. A thick one hangs on it as on more of its own.
    """
    if inflow.opening is None:
        return None
    matrix = inflow.pose.matrix(inflow.start / time_scale)
    scale = scale_of(matrix)
    thick, off = PLUG * layout.dx / scale, OFF * layout.dx / scale
    ahead = float(inflow.velocity @ matrix[:3, 1]) > 0.0
    shift = np.array([0.0, -off - thick if ahead else off, 0.0])
    if isinstance(inflow.opening, Disc):
        radius = inflow.opening.radius
        solid = 0.999999 * min(thick, radius)  # a tub that is all wall and floor
        shape = shape_distance(Tub(radius=radius, height=thick, wall=solid), None, layout.dx)
    else:
        shift[1] += thick / 2
        shape = shape_distance(Box(size=(inflow.opening.width, thick, inflow.opening.depth)), None, layout.dx)
    span = (inflow.start / time_scale, inflow.end / time_scale)
    return Body(inflow.name, shape, Shifted(inflow.pose, shift), None, *span, inflow.speed_at, Touch(holds=hangs))


def fill_mouths(phi: np.ndarray, tiles: Tiles, inflows: Sequence[InflowSource], time_scale: float, time: float) -> None:
    """Let the level set (voxels) go on behind flat openings that pour at a shot second, in place.

    The liquid there has no particles: between what was born and the nozzle's face would be air, now and then, and
    what hangs on it would fall. Ahead of them what was just born is too thin a layer to be told from drops.
    """
    layout, now = tiles.layout, time * time_scale
    for inflow in inflows:
        if inflow.opening is None or not inflow.start <= now <= inflow.end:
            continue
        matrix = inflow.pose.matrix(time)
        scale = scale_of(matrix)
        thick, born = PLUG * layout.dx / scale, BORN * layout.dx / scale
        wide, deep = inflow.opening.half()
        inverse = np.linalg.inv(matrix)
        low, high = box_in(np.array([-wide, -thick, -deep]), np.array([wide, thick, deep]), inverse)
        first = np.maximum(np.floor(layout.to_voxels(low)).astype(int), 0)
        last = np.minimum(np.ceil(layout.to_voxels(high)).astype(int), layout.cells)
        cell = _nodes(first, np.maximum(last, first)).astype(int)
        local = layout.to_metres(cell + 0.5) @ inverse[:3, :3].T + inverse[:3, 3]
        ahead = local[:, 1] if float(inflow.velocity @ matrix[:3, 1]) > 0.0 else -local[:, 1]
        level = np.maximum(inflow.opening.beyond(local[:, 0], local[:, 2]), ahead - born) * (scale / layout.dx)
        inside = (level < 0) & (ahead > -thick)
        i, j, k = cell[inside].T
        row = tiles.where[(i >> 3) + 1, (j >> 3) + 1, (k >> 3) + 1]
        at = (row, i & 7, j & 7, k & 7)
        phi[at] = np.where(row > 0, np.minimum(phi[at], level[inside].astype(np.float32)), phi[at])
    if inflows:
        tiles.wrap(phi)


def own_velocity(
    pose: Placement,
    time_scale: float,
    shot_time: float,
    points: np.ndarray,
    shape: Distance | Deforming | None = None,
) -> np.ndarray:
    """Velocity (n, 3), m per liquid second, of points (n, 3) of the scene that go along with a pose and a shape."""
    found = np.zeros_like(points)
    here = pose.matrix(shot_time)
    if pose.moves():
        motion = pose.motion(shot_time) / time_scale
        found = found + points @ motion[:3, :3].T + motion[:3, 3]
    if isinstance(shape, Deforming):
        inverse = np.linalg.inv(here)
        own = shape.velocity_at(points @ inverse[:3, :3].T + inverse[:3, 3], shot_time)
        found = found + own @ here[:3, :3].T / time_scale
    return np.asarray(found)


def strewn(node: np.ndarray) -> np.ndarray:
    """Where particles lie about the nodes (n, 3) of a lattice: offsets in its spacing, up to half of it.

    Each axis' offset turns by golden sections along the other two. Seen along an axis the particles
    are then spread evenly, without the planes of a plain lattice, which a flow that stretches them
    draws apart into ridges; yet neighbours keep 0.73 of the spacing, where random offsets as large
    would leave clumps.
    """
    turned = GOLDEN * np.roll(node, -1, axis=1) + GOLDEN**2 * np.roll(node, -2, axis=1)
    return np.asarray(turned % 1.0 - 0.5)


def fill_particles(
    fill: FillSource, layout: Layout, solids: SolidWorld, per_cell: int, time: float
) -> tuple[np.ndarray, float]:
    """Positions (n, 3) in metres of a fill's lattice where nothing solid is, and each particle's volume in voxels^3.

    The lattice lies along the shape's own axes, so a turned box is filled flush.
    """
    matrix = fill.pose.matrix(time)
    scale = scale_of(matrix)
    spacing = layout.dx / per_cell ** (1 / 3) / scale
    distance = fill.distance.at_time(time)
    low, high = distance.low, distance.high
    extent = high - low
    count = np.maximum(np.round(extent / spacing), 1).astype(int)
    if fill.is_box:
        steps = extent / count
    else:
        count = np.ceil(extent / spacing).astype(int) + 1
        steps = np.full(3, spacing)
        low = (low + high) / 2 - count * spacing / 2
    first, last = np.zeros(3, int), count
    if np.prod(count.astype(float)) > MOST_NODES:  # most of it lies outside: only what reaches the domain
        least, most = box_in(layout.low, layout.low + layout.size, matrix)
        first = np.clip(np.floor((least - low) / steps).astype(int) - 1, 0, count)
        last = np.clip(np.ceil((most - low) / steps).astype(int) + 1, 0, count)
    node = _nodes(first, last)
    points = low + (node + 0.5 + strewn(node)) * steps
    middle = low + (node + 0.5) * steps
    away = distance.at(middle)
    points = points[distance.at(points) < 0]
    each = float(np.prod(steps)) * (scale / layout.dx) ** 3
    in_box = each * int((away < 0).sum()) / max(len(points), 1)
    points = points @ matrix[:3, :3].T + matrix[:3, 3]
    points = points[open_places(layout.to_voxels(points).astype(np.float32), layout, solids, time)]
    if fill.is_box:  # whose lattice fits it
        return points, in_box
    # how many strewn points a shape catches is a matter of luck, and a flat side along the lattice catches a whole
    # layer or none: the shares of the lattice's cells, within the shape and free of solids, tell its volume better
    share = np.clip(0.5 - away / spacing, 0.0, 1.0)
    held = np.flatnonzero(share)
    place = layout.to_voxels(middle[held] @ matrix[:3, :3].T + matrix[:3, 3])
    free = np.minimum(place - layout.wall_low, layout.wall_high - place).min(axis=1)
    free = np.minimum(free, solids.distance_of(place.astype(np.float32), time)) * layout.dx / (scale * spacing)
    whole = float(np.minimum(share[held], np.clip(0.5 + free, 0.0, 1.0)).sum())
    return points, each * whole / max(len(points), 1)


def _nodes(first: np.ndarray, last: np.ndarray) -> np.ndarray:
    """Nodes (n, 3) of a lattice from a first to before a last one along each axis."""
    axes = [np.arange(first[d], last[d]) for d in range(3)]
    return np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)


@dataclass(frozen=True)
class Stream:
    """What an inflow pours into.

    Attributes
    ----------
    per_cell : particles of a cell
    time_scale : liquid seconds per shot second
    fall : gravity, m per liquid second squared: what it will draw out is born in thinner layers
    """

    layout: Layout
    per_cell: int
    time_scale: float
    fall: float = 0.0


def inflow_particles(
    inflow: InflowSource, stream: Stream, before: float, now: float
) -> tuple[np.ndarray, np.ndarray, float]:
    """What was poured since `before` (liquid seconds): positions at `now` and velocities (n, 3) in metres, and each
    particle's volume in voxels^3.

    Layers of a lattice that moves with the stream are born as they pass the opening, each at its own moment and
    where the opening then was, and advanced by the time since, so the rate is exact and no layer is doubled or
    missed between substeps.
    """
    begin, end = max(before, inflow.start), min(now, inflow.end)
    none = np.zeros((0, 3))
    # a shape is full when it opens, but not if litres are given
    opening = inflow.flow is None and inflow.opens(before, now)
    if end <= begin and not (inflow.distance is not None and opening):
        return none, none, 0.0
    if inflow.opening is not None:
        return _through_opening(inflow, stream, begin, end, now)
    return _out_of_shape(inflow, stream, before, now, opening)


def _drawn_out(speed: float, width: float, fall: float, dx: float) -> int:
    """How many layers to a spacing a stream needs that gravity draws out to less than the grid resolves.

    A wider one narrows by its own pressure; thinner layers would only make it uneven. A power of two, so that a stream
    whose speed changes seldom changes them.
    """
    drawn = float(np.sqrt(1.0 + 2.0 * fall * DRAWN_OUT * dx / max(speed, 1e-9) ** 2))
    if width > RESOLVED * dx * np.sqrt(drawn):
        return 1
    return min(2 ** int(np.log2(drawn) + 0.5), MOST_LAYERS)


def _through_opening(
    inflow: InflowSource, stream: Stream, begin: float, end: float, now: float
) -> tuple[np.ndarray, np.ndarray, float]:
    layout, per_cell, time_scale = stream.layout, stream.per_cell, stream.time_scale
    spacing = layout.dx / per_cell ** (1 / 3)
    middle = 0.5 * (begin + end) / time_scale
    velocity, matrix = inflow.speed_at(middle), inflow.pose.matrix(middle)
    scale = scale_of(matrix)
    assert inflow.opening is not None
    reach = scale * np.array(inflow.opening.half())
    area = scale**2 * inflow.opening.area()
    through = abs(float(velocity @ matrix[:3, 1]) / scale)
    none = np.zeros((0, 3))
    if through * spacing == 0:
        return none, none, 0.0
    least, most = box_in(layout.low, layout.low + layout.size, matrix)
    half = np.ceil(reach / spacing)
    wide = bool((half > MOST_ACROSS).any())  # most of it lies outside: only what faces the domain
    span = [
        (max(-h, scale * least[d] / spacing - 2), min(h, scale * most[d] / spacing + 2))
        for d, h in zip((0, 2), half, strict=True)
    ]
    ends = span if wide else [(-h, h) for h in half]
    row, column = (g.ravel() for g in np.meshgrid(*(np.arange(int(a), int(b)) for a, b in ends), indexing="ij"))
    a, b = (row + 0.5) * spacing, (column + 0.5) * spacing
    inside = inflow.opening.holds(a / scale, b / scale)
    if not inside.any() and wide:
        return none, none, 0.0
    if not inside.any():
        a, b, inside = np.zeros_like(a), np.zeros_like(b), np.arange(len(a)) == 0
    a, b = a[inside], b[inside]
    # an opening that runs ahead of its stream draws it out: thinner layers then, so that no gaps are left
    moved = own_velocity(inflow.pose, time_scale, middle, matrix[None, :3, 3])[0] * (1 - inflow.carry)
    ahead = int(np.ceil(float(np.linalg.norm(moved)) / through))
    thin = spacing / min(max(ahead, _drawn_out(through, 2 * float(reach.min()), stream.fall, layout.dx)), MOST_LAYERS)
    across = spacing**2 if wide else area / len(a)
    volume = across * thin / layout.dx**3
    if inflow.flow is None:
        passed = (begin - inflow.start) * through, (end - inflow.start) * through
    else:
        passed = _poured(inflow, time_scale, begin) / area, _poured(inflow, time_scale, end) / area
    first, last = (int(np.ceil(way / thin - 0.5 - 1e-9)) for way in passed)
    beyond = int((np.linalg.norm(layout.size) + np.abs([least, most]).max() * scale) / thin) + 2
    layers = np.arange(max(first, last - beyond, 0), max(last, 0))  # older ones have left the domain already
    shape = (len(layers), len(a))
    node = np.stack(
        [np.broadcast_to(v, shape).ravel() for v in (row[inside], column[inside], layers[:, None])], axis=-1
    )
    shift = strewn(node).reshape(*shape, 3)
    born = end - (passed[1] - (layers[:, None] + 0.5 - shift[..., 2]) * thin) / through
    age = (now - born).reshape(-1, 1)
    at, across, along = _poses(inflow.pose, born.ravel() / time_scale)
    flat = (a + shift[..., 0] * spacing).reshape(-1, 1) * across + (b + shift[..., 1] * spacing).reshape(-1, 1) * along
    place = at + flat
    flown = velocity + inflow.carry * own_velocity(inflow.pose, time_scale, middle, place)
    return place + age * flown, flown, volume


def _poses(pose: Placement, times: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Origin and unit X and Z axes (n, 3) of a pose at shot times (n,), between a few of them straight."""
    knots = np.linspace(times.min(), times.max(), 9) if len(times) and pose.moves() else np.zeros(1)
    matrices = np.stack([pose.matrix(float(t)) for t in knots])
    axes = [
        matrices[:, :3, 3],
        *(matrices[:, :3, d] / np.linalg.norm(matrices[:, :3, d], axis=1)[:, None] for d in (0, 2)),
    ]
    found = (np.stack([np.interp(times, knots, axis[:, d]) for d in range(3)], axis=1) for axis in axes)
    at, across, along = found
    return at, across, along


def _poured(inflow: InflowSource, time_scale: float, time: float) -> float:
    """Volume (m3) that a stated flow gave from its start to a liquid time."""
    assert inflow.flow is not None
    start, until = inflow.start, min(time, inflow.end)
    if not isinstance(inflow.flow, Curve):
        return max(inflow.flow, 0.0) * inflow.flow_unit * (until - start)
    knots = np.union1d(
        np.linspace(start, until, 257), [t for k in inflow.flow.keys if start < (t := k.time * time_scale) < until]
    )
    rate = [max(float(inflow.flow.at(t / time_scale)[0]), 0.0) * inflow.flow_unit for t in knots]
    return float(np.trapezoid(rate, knots))


def _out_of_shape(
    inflow: InflowSource, stream: Stream, before: float, now: float, opening: bool
) -> tuple[np.ndarray, np.ndarray, float]:
    """A lattice that goes with the stream; what of it is in the shape now and was not before, in short steps."""
    assert inflow.distance is not None
    layout, time_scale = stream.layout, stream.time_scale
    distance, spacing = inflow.distance, layout.dx / stream.per_cell ** (1 / 3)

    def origin(time: float) -> np.ndarray:
        return inflow.pose.matrix(time / time_scale)[:3, 3]

    def placed(time: float) -> np.ndarray:
        return distance.at_time(time / time_scale).corners(inflow.pose.matrix(time / time_scale))

    def inside(where: np.ndarray, time: float) -> np.ndarray:
        return distance.at_time(time / time_scale).placed_at(where, inflow.pose.matrix(time / time_scale)) < 0

    begin, end = max(before, inflow.start), min(now, inflow.end)
    velocity = inflow.speed_at(0.5 * (begin + end) / time_scale)
    lattice = np.full(3, spacing)
    if velocity.any():
        axis = int(np.abs(velocity).argmax())
        width = float(np.delete(np.ptp(placed(begin), axis=0), axis).min())
        lattice[axis] /= _drawn_out(float(np.linalg.norm(velocity)), width, stream.fall, layout.dx)
    flown = velocity * (end - begin) + inflow.carry * (origin(end) - origin(begin))
    farthest = float(np.abs(placed(end) - placed(begin) - flown).max())
    steps = min(max(int(np.ceil(farthest / (2 * spacing))), 1), MOST_STEPS)
    times = np.linspace(begin, end, steps + 1)
    found, paces = [], []
    for last, time in pairwise(times):
        drift = inflow.carry * (origin(time) - origin(inflow.start))
        if inflow.flow is None:
            drift = drift + velocity * (time - inflow.start)
        else:
            way = velocity / max(float(np.linalg.norm(velocity)), 1e-12)
            drift = drift + way * _poured(inflow, time_scale, time) / inflow.across
        flow = velocity * (time - last) + inflow.carry * (origin(time) - origin(last))
        box = placed(time)
        # what is born farther away does not reach the domain within this substep
        reach = np.linalg.norm(velocity) * (now - before) + farthest + float(np.linalg.norm(flown)) + 4 * layout.dx
        least = np.maximum(box.min(axis=0), layout.low - reach) - drift
        most = np.minimum(box.max(axis=0), layout.low + layout.size + reach) - drift
        node = _nodes(np.floor(least / lattice).astype(int), np.ceil(most / lattice).astype(int) + 1)
        points = (node + 0.5 + strewn(node)) * lattice + drift
        points = points[inside(points, time)]
        if not (opening and last == times[0]):
            points = points[~inside(points - flow, last)]
        own = own_velocity(inflow.pose, time_scale, time / time_scale, points, distance)
        pace = velocity + inflow.carry * own
        found.append(points + pace * (now - time))
        paces.append(pace)
    return np.concatenate(found), np.concatenate(paces), float(np.prod(lattice)) / layout.dx**3


def missing_particles(
    inflow: InflowSource, particles: Particles, layout: Layout, per_cell: int, shot_time: float, epoch: int
) -> tuple[np.ndarray, float]:
    """What a shape that is kept full lacks: positions (n, 3) in metres, and each particle's volume in voxels^3.

    Cells get the particles that the mean of them and their neighbours is short of, at random places in the shape,
    once that is more than `HUNGRY`: particles never lie evenly, and filled up cell by cell the shape would swell. Of
    cells that lie in it in part, that part counts.
    """
    assert inflow.distance is not None
    matrix, d = inflow.pose.matrix(shot_time), inflow.distance.at_time(shot_time)
    box = layout.to_voxels(d.corners(matrix))
    low = np.maximum(np.floor(box.min(axis=0)).astype(int), 0)
    high = np.minimum(np.ceil(box.max(axis=0)).astype(int), np.array(layout.cells) - 1)
    if (high < low).any():
        return np.zeros((0, 3)), 0.0
    size = high - low + 1
    cell = np.floor(particles.position).astype(int) - low
    near = np.flatnonzero(((cell >= 0) & (cell < size)).all(axis=1))
    within = d.placed_at(layout.to_metres(particles.position[near]).astype(np.float64), matrix) < 0
    near = near[within]
    number = np.ravel_multi_index(tuple(cell[near].T), tuple(size))
    held = np.bincount(number, particles.volume[near], minlength=int(np.prod(size)))
    node = low + np.stack(np.unravel_index(np.arange(len(held)), tuple(size)), axis=1)
    centre = layout.to_metres(node + 0.5).astype(np.float64)
    share = np.clip(0.5 - d.placed_at(centre, matrix) / layout.dx, 0.0, 1.0)
    wanted = uniform_filter(share.reshape(size), 3, mode="constant").ravel()
    about = uniform_filter(held.reshape(size), 3, mode="constant").ravel()
    short = 1.0 - about / np.maximum(wanted, 1e-9)
    lacking = np.where((share > 0) & (short > HUNGRY), np.floor(short * per_cell + 0.5), 0).astype(int)
    node = np.repeat(node, lacking, axis=0)
    jitter = uniform(np.arange(len(node)) + (inflow.number << 32), epoch, 3)
    points = np.asarray(layout.to_metres(node + jitter), np.float64)
    return points[d.placed_at(points, matrix) < 0], 1.0 / per_cell


def open_places(place: np.ndarray, layout: Layout, solids: SolidWorld, time: float) -> np.ndarray:
    """Which places (n, 3) in voxels lie in the domain and outside solids at a shot time, bool (n,)."""
    inside = np.asarray(((place >= layout.wall_low) & (place < layout.wall_high)).all(axis=1))
    result = inside.copy()
    result[inside] = solids.distance_of(place[inside], time) > 0
    return result


@dataclass(frozen=True)
class Newborn:
    """Particles to be put in.

    Attributes
    ----------
    place : (n, 3), voxels
    volume : of each, voxels^3
    velocity : (n, 3), voxels per second
    source : number of the source that they are of
    born : liquid seconds
    crowded : of the spacing: nearer to liquid that is there already, none are put in
    """

    place: np.ndarray
    volume: float
    velocity: np.ndarray
    source: int
    born: float
    crowded: float = CROWDED


def put_in(particles: Particles, newborn: Newborn, per_cell: int, next_id: int) -> tuple[Particles, int]:
    """Append new particles.

    Returns
    -------
    (particles, next_id) : the new ones come last, and carry zeros

    Raises
    ------
    OverflowError
        When there are no more ids.
    """
    place, velocity = newborn.place, newborn.velocity
    if len(particles) and len(place):
        spacing = per_cell ** (-1 / 3)
        low, high = place.min(axis=0) - spacing, place.max(axis=0) + spacing
        there = particles.position[((particles.position > low) & (particles.position < high)).all(axis=1)]
        near, _ = cKDTree(there).query(place, distance_upper_bound=newborn.crowded * spacing)
        place, velocity = place[~np.isfinite(near)], velocity[~np.isfinite(near)]
    n = len(place)
    if n == 0:
        return particles, next_id
    fresh = Particles.at(place, newborn.volume, particles.carried.shape[1])
    fresh.velocity[:] = velocity
    fresh.id[:] = new_ids(next_id, n)
    fresh.source[:], fresh.born[:] = newborn.source, newborn.born
    return particles.joined(fresh), next_id + n


@dataclass(frozen=True)
class DrainZone:
    """Where liquid is thrown away between `start` and `end` (shot seconds): in a shape, or `outside` of it."""

    name: str
    distance: Distance | Deforming
    pose: Placement
    start: float
    end: float
    outside: bool = False

    def holds(self, place: np.ndarray, layout: Layout, shot_time: float) -> np.ndarray:
        """Which places (n, 3) in voxels it swallows at a shot time, bool (n,)."""
        if not self.start <= shot_time <= self.end:
            return np.zeros(len(place), bool)
        metres = layout.to_metres(place).astype(np.float64)
        inside = self.distance.at_time(shot_time).placed_at(metres, self.pose.matrix(shot_time)) < 0
        return ~inside if self.outside else inside


def drained(particles: Particles, drains: list[DrainZone], layout: Layout, shot_time: float) -> tuple[Particles, float]:
    """Particles outside all drains, and the volume (voxels^3) of the others."""
    gone = np.zeros(len(particles), bool)
    for drain in drains:
        gone |= drain.holds(particles.position, layout, shot_time)
    if not gone.any():
        return particles, 0.0
    return particles.taken(~gone), float(particles.volume[gone].sum(dtype=np.float64))
