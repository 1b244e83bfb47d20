"""Films, sheets and threads: liquid too thin for a kernel, drawn by its own place and thickness.

Where particles lie in a layer, no contour of their density is its surface: it vanishes, or is as thick as the kernel.
But the layer is known: its middle and its normal are those of each particle's neighbours (first and second moments),
its thickness is their volume per area. Each particle so is a round disc, a piece of thread or something in between,
and nodes take the weighted mean of the discs about them. A layer that lies on a wall has the wall's normal and begins
at the wall.

Marching cubes cannot see what is thinner than the nodes lie apart. Thin layers are therefore drawn as thick as they
need to be, and their vertices are taken back afterwards, in proportion, towards the layer's middle, or the wall.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.kernels import kernel, shared
from basin.surface.cloud import Cloud
from basin.surface.kernels import eigen
from basin.surface.neighbours import binned, row, span
from basin.surface.splat import SLAB

ENOUGH = 40  # neighbours that tell a layer; a wider look is taken for fewer, up to
WIDEST = 1.6  # kernel radii
MOST = 800  # particles that one looks at; amid a full body there are some 250
FEWEST = 5  # besides itself, without which a particle is no part of a sheet
IN_LINE = 3  # of a thread, or of what lies on a wall
THICKEST = 1.2  # kernel radii: what is thicker is no layer
AGREE = 0.3  # share of the neighbours in a layer too, without which a particle belongs to a body beside it
FLAT = (0.35, 0.5)  # of the moments along a layer, that across it: below it is flat, above it is a ball
FILLED = (0.5, 0.75)  # of the room that neighbours take up, their volume: above it is liquid, below a cloud of drops
COATS = (0.35, 0.6)  # the same beside a wall, where a coat's particles lie loosely
ROUND = (0.06, 0.20)  # of the largest moment, the middle one: fewer is a thread, more is a sheet
SEEN = 1.2  # voxels: half the thickness that is drawn at least; what filters blur by 0.7 voxels still shows then
BEYOND = 2.5  # voxels to which a layer's distance is written beyond it
REST = 0.6  # voxels below a wall to which what lies on it is written, so that it closes there
RIM = 0.85  # of the particles' distance along a layer: how far it is drawn beyond each, so that none leaves a hole
AMID = 0.32  # of the reach: nearer to it than this lies the mean of discs that are on all sides of a place
STEEP = 0.6  # by which the distance from that mean grows with that beyond a rim
GAP = 0.8  # of the reach: how far from the nearest disc a gap may be
LAGS = 0.5  # of the reach: how far beside a rim that is drawn the mean of its discs lies
OUTERMOST = 0.5  # of it: how far it goes on
WALLS = 2.5  # spacings from a particle within which walls are looked for
MISSING = 0.3  # share that is missing at a straight edge; half, less what ragged edges only seem to lack
EDGE = 0.34  # of the reach: how far beside a particle at a straight edge the mean of its neighbours lies
CORNER = np.float32(
    0.5
)  # product of the normals of walls below which liquid on both is no layer bent, but two that meet
BESIDE = THICKEST + 0.5  # kernel radii off a wall to where liquid that goes on beside it is looked for
GOES_ON, WETS = 0.5, 0.25  # share of what is at the wall that is there at least, of which this share is full at least
AT_WALL = 0.5  # voxels above a wall up to which it is told on which side of it something is
LYING = (1.1, 1.6)

# what a place sums of the discs about it: weights; of one over half thickness, thickness that is drawn, squared ways
# beside threads, height, normals, offsets, rims and reaches
WEIGHT, PER_HALF, DRAWN, BESIDE, HIGH, NX, NY, NZ, OX, OY, OZ, RIMS, REACHES = range(13)
SUMS = 13
# and a vertex besides: how much higher they are drawn, that upwards, ways across threads and along layers, the way out
# of the nearest disc
OVER_IN_ALL, OVER, SIDEWAYS, ALONG, OUTWARDS = 0, 1, 4, 7, 10
TOLD = 13

Walls = Callable[[np.ndarray], np.ndarray]


@dataclass(frozen=True)
class Layers:
    """Particles (m) of layers.

    Attributes
    ----------
    centre : float64 (m, 3), metres, of the disc that is drawn
    axes : float64 (m, 3, 3), rows: along the layer (a thread's own way), along it the other way, across it
    round : float64 (m,), 0 in a sheet, 1 in a thread; lying : float64 (m,), 1 on a wall, 0 in the air
    half, drawn : float64 (m,), metres: half of the thickness, and of what is drawn
    reach : float64 (m,), metres along the layer within which a particle counts
    rim : float64 (m,), metres along the layer that it goes on beyond the particle
    """

    centre: np.ndarray
    axes: np.ndarray
    round: np.ndarray
    lying: np.ndarray
    half: np.ndarray
    drawn: np.ndarray
    reach: np.ndarray
    rim: np.ndarray

    def __len__(self) -> int:
        return len(self.centre)

    def arrays(self) -> tuple[np.ndarray, ...]:
        """In the order of the fields."""
        return tuple(getattr(self, name) for name in self.__dataclass_fields__)

    def some(self, which: np.ndarray) -> Layers:
        """Some of them, by flags (m,)."""
        return Layers(*(a[which] for a in self.arrays()))

    @staticmethod
    def joined(every: Sequence[Layers]) -> Layers:
        """All of some."""
        return Layers(*(np.concatenate(both) for both in zip(*(one.arrays() for one in every), strict=True)))

    def join(self, phi: np.ndarray, cloud: Cloud, some: np.ndarray) -> None:
        """Join them to a level set on a cloud's nodes, in place; `some` are their particles (ascending)."""
        if len(self) == 0:
            return
        off = np.abs(self.centre - cloud.cells.position[some]).max()
        reach = float(np.hypot(self.reach, self.drawn + BEYOND * cloud.voxel).max() + off)
        draw(cloud.slabs(some, reach), *self.arrays(), cloud.low, cloud.voxel, phi)

    def take_back(self, position: np.ndarray, normals: np.ndarray, voxel: float) -> tuple[np.ndarray, np.ndarray]:
        """Vertices (n, 3) of a mesh, metres, with their normals, taken back to the thickness that layers have.

        Returns, too, for each vertex how far it may go for the volume's sake (n,): 1, but less where a layer is thin.
        """
        found, give = position.copy(), np.ones(len(position))
        if len(self) and len(position):
            reach = float(self.reach.max())
            cells = binned(self.centre, max(reach / 2, 1e-9))
            sorted_ = [a[cells.order] for a in self.arrays()]
            _take_back(position, normals, *cells.rows(), reach, *sorted_, voxel, found, give)
        return found, give


def layers_of(
    cloud: Cloud, some: np.ndarray, radius: float, spacing: float, thinnest: float, walls: Walls | None
) -> tuple[Layers, np.ndarray, np.ndarray]:
    """The layers among some particles (int64 ascending, of a cloud's cells), which of them are in one, and which have
    hardly any others about them, bool.

    Parameters
    ----------
    radius : of the kernels, metres; thinnest : metres, thinner ones are none
    walls : distance (n,) in metres of points (n, 3) from the nearest wall, if there is one
    """
    wall = _Wall.about(cloud, some, radius, spacing, walls)
    looked = _looked(cloud, some, radius, wall)
    largest = np.maximum(looked.value[:, 0], 1e-30)
    flat = 1.0 - _step(looked.value[:, 2] / np.maximum(looked.value[:, 1] + 0.5 * largest, 1e-30), FLAT)
    thread = 1.0 - _step(looked.value[:, 1] / largest, ROUND)
    # a uniform layer as thick as its second moment says
    room = np.sqrt(12 * np.maximum(looked.value, 1e-30))
    beside = np.isfinite(wall.away)
    full = looked.area / room[:, 2]
    solid = (
        np.where(beside, _step(full, COATS), _step(full, FILLED)),
        _step(looked.line / (room[:, 1] * room[:, 2]), FILLED),
    )
    half = (1.0 - thread) * 0.5 * looked.area + thread * np.sqrt(np.maximum(looked.line, 0.0) / np.pi)
    foot, axes, lying = wall.beneath(cloud.cells.position[some], looked, half, spacing)
    thread = thread * (1.0 - lying)
    sheet = (flat * solid[0] > 0.5) & (looked.count >= FEWEST)
    line = (np.maximum(thread * solid[1], lying) > 0.5) & (looked.count >= IN_LINE)
    there = (sheet | line) & (2 * half >= thinnest) & (2 * half <= THICKEST * radius)
    there[there] = _together(cloud, some[there], looked.reach[there]) > AGREE
    drawn = np.maximum(half, SEEN * cloud.voxel)
    middle = foot + (lying * drawn)[:, None] * axes[:, 2]
    apart = np.sqrt(cloud.volume[some] / np.maximum(looked.area, 1e-30))
    kept = [middle, axes, thread, lying, half, drawn, looked.reach, RIM * np.minimum(apart, looked.reach)]
    return Layers(*(a[there] for a in kept)), there, looked.count < FEWEST


@dataclass(frozen=True)
class _Wall:
    """Which wall some particles may lie on: its distance (m,), metres, infinite far away, and normal (m, 3), 0 there.

    `side` is how far another one is beside them, metres (m,), infinite without any.
    """

    away: np.ndarray
    normal: np.ndarray
    side: np.ndarray

    @staticmethod
    def about(cloud: Cloud, some: np.ndarray, radius: float, spacing: float, walls: Walls | None) -> _Wall:
        """Found by differences over half a spacing.

        A wall beside which liquid goes on, as far out as no film is thick, is the side of what a body or a film is in:
        none lies on it, but maybe on another one that is near there.
        """
        away, normal, side = np.full(len(some), np.inf), np.zeros((len(some), 3)), np.full(len(some), np.inf)
        if walls is None or len(some) == 0:
            return _Wall(away, normal, side)
        place = cloud.cells.position[some]
        found = walls(place)
        near = np.flatnonzero(found < WALLS * spacing)
        slope, told = _slope(walls, place[near], spacing)
        near, slope, found = near[told], slope[told], found[near[told]]
        place, foot = place[near], place[near] - found[:, None] * slope
        out = foot + BESIDE * radius * slope
        other, off = np.full(len(near), np.inf), np.zeros_like(slope)
        turned = np.flatnonzero(walls(out) < 0.98 * BESIDE * radius)  # another wall is nearer there
        way, told = _slope(walls, out[turned], spacing)
        apart = walls(out[turned]) - ((out[turned] - place[turned]) * way).sum(axis=1)
        meets = told & ((way * slope[turned]).sum(axis=1) < CORNER) & (apart < WALLS * spacing)
        other[turned[meets]], off[turned[meets]] = apart[meets], way[meets]
        held = [_held_about(cloud, middle, 0.5 * radius) for middle in (foot + 0.5 * radius * slope, out)]
        on = held[1] <= GOES_ON * np.maximum(held[0], WETS * 4 / 3 * np.pi * (0.5 * radius) ** 3)
        away[near], normal[near] = np.where(on, found, other), np.where(on[:, None], slope, off)
        side[near] = np.maximum(np.where(on, other, found), 0.0)
        return _Wall(away, normal, side)

    def beneath(
        self, position: np.ndarray, looked: _Looked, half: np.ndarray, spacing: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Middles of layers in the air and feet of those on a wall (m, 3), axes (m, 3, 3), which lie on it (m,)."""
        foot, axes, lying = looked.mean.copy(), looked.axes.copy(), np.zeros(len(half))
        near = np.flatnonzero(np.isfinite(self.away))
        wall = self.normal[near]
        height = self.away[near] + ((foot[near] - position[near]) * wall).sum(axis=1)
        on = 1.0 - _step((height - half[near]) / spacing, LYING)
        some = on > 0
        near, wall, height, on = near[some], wall[some], height[some], on[some]
        own = axes[near, 2]
        own = own * np.where((own * wall).sum(axis=1) < 0, -1.0, 1.0)[:, None]
        normal = _unit(on[:, None] * wall + (1 - on)[:, None] * own)
        along = axes[near, 0]
        other = np.abs((along * normal).sum(axis=1)) > 0.9
        along[other] = axes[near[other], 1]
        along = _unit(along - (along * normal).sum(axis=1, keepdims=True) * normal)
        axes[near] = np.stack([along, np.cross(normal, along), normal], axis=1)
        foot[near] -= (on * height)[:, None] * wall
        lying[near] = on
        return foot, axes, lying


def _slope(walls: Walls, place: np.ndarray, spacing: float) -> tuple[np.ndarray, np.ndarray]:
    """Ways (n, 3) straight off the nearest wall, by differences over half a spacing, and where there is one, bool."""
    off = np.concatenate([np.eye(3), -np.eye(3)]) * 0.25 * spacing
    around = walls((place[:, None] + off).reshape(-1, 3)).reshape(-1, 6)
    slope = around[:, :3] - around[:, 3:]
    length = np.linalg.norm(slope, axis=1)
    told = length > 0.25 * spacing  # of half a spacing: else it is the middle between two walls
    return slope / np.maximum(length, 1e-30)[:, None], told


def _held_about(cloud: Cloud, middle: np.ndarray, radius: float) -> np.ndarray:
    """Volume (n,), m3, of the particles in balls of a radius (m) about some places (n, 3)."""
    found = np.zeros(len(middle))
    _sum_about(middle, *cloud.cells.rows(), cloud.volume, radius, found)
    return found


@dataclass(frozen=True)
class _Looked:
    """What particles (m) see of their neighbours.

    Attributes
    ----------
    count : int64 (m,), how many; reach : (m,), metres within which
    mean : (m, 3), metres, their middle across the layer; axes : (m, 3, 3), rows, and value : (m, 3), second moments
        along them, the largest first
    area, line : (m,), volume per area (m) and per length (m2)
    """

    count: np.ndarray
    reach: np.ndarray
    mean: np.ndarray
    axes: np.ndarray
    value: np.ndarray
    area: np.ndarray
    line: np.ndarray


def _looked(cloud: Cloud, some: np.ndarray, radius: float, wall: _Wall) -> _Looked:
    n = len(some)
    found = _Looked(
        np.zeros(n, np.int64),
        *(np.zeros((n, *more)) for more in ((), (3,), (3, 3), (3,), (), ())),
    )
    facing = np.zeros((len(cloud.cells.order), 3), np.float32)
    facing[some] = wall.normal
    _look(some, *cloud.cells.rows(), cloud.volume, facing, wall.side, radius, *vars(found).values())
    return found


def _together(cloud: Cloud, some: np.ndarray, reach: np.ndarray) -> np.ndarray:
    """Share of the neighbours (m,) of some particles (ascending) that are among them too."""
    flags, found = np.zeros(len(cloud.cells.order), np.uint8), np.zeros(len(some))
    flags[some] = 1
    _count_flagged(some, *cloud.cells.rows(), flags, reach, found)
    return found


def _unit(vector: np.ndarray) -> np.ndarray:
    return np.asarray(vector / np.maximum(np.linalg.norm(vector, axis=1, keepdims=True), 1e-30))


def _step(x: np.ndarray, between: tuple[float, float]) -> np.ndarray:
    t = np.clip((x - between[0]) / (between[1] - between[0]), 0, 1)
    return t * t * (3 - 2 * t)


@kernel
def _apart(facing, p, own):
    """Whether two particles are near walls that meet at a corner or face away from each other: none is of both's."""
    x, y, z = facing[own, 0], facing[own, 1], facing[own, 2]
    a, b, c = facing[p, 0], facing[p, 1], facing[p, 2]
    both = (x * x + y * y + z * z > 0.0) and (a * a + b * b + c * c > 0.0)
    return both and x * a + y * b + z * c < CORNER


@kernel
def _gathered(own, position, start, low, shape, edge, volume, facing, radius, near):
    """Offsets, volumes and squared distances of the particles about one, itself included, into `near` (m, 5).

    Those of all cells that `WIDEST` radii touch: along a layer some count that are farther off across it.

    Returns how many there are, and how many others lie within the radius alone.
    """
    x, y, z = position[own, 0], position[own, 1], position[own, 2]
    wide, n, others = WIDEST * radius, 0, -1
    i0, i1 = span(x, wide, low[0], edge, shape[0])
    j0, j1 = span(y, wide, low[1], edge, shape[1])
    for i in range(i0, i1):
        for j in range(j0, j1):
            begin, end = row(start, low, shape, edge, i, j, x, y, z, wide)
            for p in range(begin, end):
                dx, dy, dz = position[p, 0] - x, position[p, 1] - y, position[p, 2] - z
                squared = dx * dx + dy * dy + dz * dz
                if n < near.shape[0] and not _apart(facing, p, own):
                    others += squared < radius * radius
                    near[n, 0], near[n, 1], near[n, 2], near[n, 3], near[n, 4] = dx, dy, dz, volume[p], squared
                    n += 1
    return n, others


@kernel
def _beyond_side(t):
    """Share of (1 - q)^2, q the squared distance in a disc of radius 1, on the far side of a line at a distance."""
    # its marginal is as (1 - t^2)^(5/2), whose integral is elementary
    root = np.sqrt(max(1.0 - t * t, 0.0))
    return 0.5 - (t * root * (8 * root**4 + 10 * root**2 + 15) / 48.0 + 15.0 * np.arcsin(min(t, 1.0)) / 48.0) / (
        5.0 * np.pi / 16.0
    )


@shared
def _look(
    some, position, start, low, shape, edge, volume, facing, side, radius, count, reach, mean, axes, value, area, line
):
    near, second, vector = np.empty((MOST, 5)), np.empty((3, 3)), np.empty((3, 3))
    for m in prange(some.shape[0]):
        own = some[m]
        found, others = _gathered(own, position, start, low, shape, edge, volume, facing, radius, near)
        r = radius if others >= ENOUGH else WIDEST * radius
        total, n = 0.0, -1
        mx = my = mz = xx = yy = zz = xy = xz = yz = 0.0
        for p in range(found):
            dx, dy, dz, q = near[p, 0], near[p, 1], near[p, 2], near[p, 4] / (r * r)
            if q < 1.0:
                w = (1.0 - q) * near[p, 3]
                n += 1
                total += w
                mx, my, mz = mx + w * dx, my + w * dy, mz + w * dz
                xx, yy, zz = xx + w * dx * dx, yy + w * dy * dy, zz + w * dz * dz
                xy, xz, yz = xy + w * dx * dy, xz + w * dx * dz, yz + w * dy * dz
        mx, my, mz = mx / total, my / total, mz / total
        second[0, 0], second[1, 1], second[2, 2] = xx / total - mx * mx, yy / total - my * my, zz / total - mz * mz
        second[0, 1] = second[1, 0] = xy / total - mx * my
        second[0, 2] = second[2, 0] = xz / total - mx * mz
        second[1, 2] = second[2, 1] = yz / total - my * mz
        eigen(second, vector)
        large, small = 0, 0
        for a in range(1, 3):
            if second[a, a] > second[large, large]:
                large = a
            if second[a, a] <= second[small, small]:
                small = a
        if large == small:
            large = (small + 1) % 3
        middle = 3 - large - small
        count[m], reach[m] = n, r
        for d in range(3):
            axes[m, 0, d], axes[m, 1, d], axes[m, 2, d] = vector[d, large], vector[d, middle], vector[d, small]
        value[m, 0], value[m, 1], value[m, 2] = second[large, large], second[middle, middle], second[small, small]
        # the mean of its neighbours across the layer alone: along it a particle stays where it is
        across = mx * axes[m, 2, 0] + my * axes[m, 2, 1] + mz * axes[m, 2, 2]
        beside = mx * axes[m, 1, 0] + my * axes[m, 1, 1] + mz * axes[m, 1, 2]
        thin = second[middle, middle] < ROUND[1] * second[large, large]
        for d in range(3):
            mean[m, d] = position[own, d] + across * axes[m, 2, d] + (beside * axes[m, 1, d] if thin else 0.0)
        per_area, per_length = 0.0, 0.0
        for p in range(found):
            a = near[p, 0] * axes[m, 0, 0] + near[p, 1] * axes[m, 0, 1] + near[p, 2] * axes[m, 0, 2]
            b = near[p, 0] * axes[m, 1, 0] + near[p, 1] * axes[m, 1, 1] + near[p, 2] * axes[m, 1, 2]
            q = (a * a + b * b) / (r * r)
            if q < 1.0:
                per_area += near[p, 3] * (1.0 - q) * (1.0 - q)
            q = a * a / (r * r)
            if q < 1.0:
                per_length += near[p, 3] * (1.0 - q) * (1.0 - q)
        # at its edge a layer is as thick as beside it: what is missing there is told by how far the mean lies beside
        along = mx * axes[m, 0, 0] + my * axes[m, 0, 1] + mz * axes[m, 0, 2]
        other = 0.0 if thin else beside
        seen = 1.0 - MISSING * min((along * along + other * other) / (EDGE * EDGE * r * r), 1.0)
        if side[m] < r:  # beyond a wall there is nothing for sure
            seen = 1.0 - _beyond_side(side[m] / r)
        area[m], line[m] = per_area * 3.0 / (np.pi * r * r * seen), per_length * 15.0 / (16.0 * r * seen)


@shared
def _sum_about(middle, position, start, low, shape, edge, volume, radius, found):
    for m in prange(middle.shape[0]):
        x, y, z = middle[m, 0], middle[m, 1], middle[m, 2]
        total = 0.0
        i0, i1 = span(x, radius, low[0], edge, shape[0])
        j0, j1 = span(y, radius, low[1], edge, shape[1])
        for i in range(i0, i1):
            for j in range(j0, j1):
                begin, end = row(start, low, shape, edge, i, j, x, y, z, radius)
                for p in range(begin, end):
                    dx, dy, dz = position[p, 0] - x, position[p, 1] - y, position[p, 2] - z
                    if dx * dx + dy * dy + dz * dz < radius * radius:
                        total += volume[p]
        found[m] = total


@shared
def _count_flagged(some, position, start, low, shape, edge, flags, reach, found):
    for m in prange(some.shape[0]):
        own, r = some[m], reach[m]
        x, y, z = position[own, 0], position[own, 1], position[own, 2]
        flagged, every = 0, 0
        i0, i1 = span(x, r, low[0], edge, shape[0])
        j0, j1 = span(y, r, low[1], edge, shape[1])
        for i in range(i0, i1):
            for j in range(j0, j1):
                begin, end = row(start, low, shape, edge, i, j, x, y, z, r)
                for p in range(begin, end):
                    dx, dy, dz = position[p, 0] - x, position[p, 1] - y, position[p, 2] - z
                    if dx * dx + dy * dy + dz * dz < r * r and p != own:
                        every += 1
                        flagged += flags[p]
        found[m] = flagged / max(every, 1)


@kernel
def _offsets(axes, m, x, y, z):
    """Offset along a layer's three axes."""
    a = x * axes[m, 0, 0] + y * axes[m, 0, 1] + z * axes[m, 0, 2]
    b = x * axes[m, 1, 0] + y * axes[m, 1, 1] + z * axes[m, 1, 2]
    c = x * axes[m, 2, 0] + y * axes[m, 2, 1] + z * axes[m, 2, 2]
    return a, b, c


@kernel
def _along(a, b, thread):
    """Distance along a layer of offsets along its axes."""
    return np.sqrt(a * a + (1.0 - thread) * b * b)


@kernel
def _weight(a, b, c, thread, lying, drawn, reach, voxel):
    """Weight of a disc at offsets along its axes; 0 where it says nothing."""
    q = (a * a + (1.0 - thread) * b * b) / (reach * reach)
    far = drawn + BEYOND * voxel
    across = (c * c + thread * b * b) / (far * far)
    if q >= 1.0 or across >= 1.0 or (lying > 0.5 and c < -drawn - REST * voxel):
        return 0.0
    return (1.0 - q) ** 3 * (1.0 - across)


@kernel
def _add(own, w, offset, axes, place, told):
    """Add what one disc says of a place to the sums `own`.

    Parameters
    ----------
    offset : along the disc's second and third axis; place : from its middle, as it is
    told : the disc's half thickness, what is drawn of it, how much it is a thread, rim, reach
    """
    b, c = offset
    x, y, z = place
    half, drawn, thread, rim, reach = told
    towards = own[NX] * axes[2, 0] + own[NY] * axes[2, 1] + own[NZ] * axes[2, 2]
    side = -w if towards < 0.0 else w  # normals have no side of their own
    own[WEIGHT] += w
    own[PER_HALF] += w / half  # so that its mean is that over the area, however closely particles lie together
    own[DRAWN] += w * drawn
    own[BESIDE] += w * thread * b * b
    own[HIGH] += side * c
    own[NX] += side * axes[2, 0]
    own[NY] += side * axes[2, 1]
    own[NZ] += side * axes[2, 2]
    own[OX] += w * x
    own[OY] += w * y
    own[OZ] += w * z
    own[RIMS] += w * rim
    own[REACHES] += w * reach


@kernel
def _meets(own, axes, place):
    """Whether a disc on a wall lies in front of those summed so far, on another wall that meets theirs at a corner."""
    length = np.sqrt(own[NX] * own[NX] + own[NY] * own[NY] + own[NZ] * own[NZ])
    x, y, z = own[NX] / length, own[NY] / length, own[NZ] / length
    if x * axes[2, 0] + y * axes[2, 1] + z * axes[2, 2] >= CORNER:
        return False
    per = 1.0 / own[WEIGHT]
    dx, dy, dz = own[OX] * per - place[0], own[OY] * per - place[1], own[OZ] * per - place[2]
    before = dx * axes[2, 0] + dy * axes[2, 1] + dz * axes[2, 2]
    return x * dx + y * dy + z * dz > 0.0 and before < 0.0


@kernel
def _upright(own, x, y, z):
    """Part of a vector along the mean normal, and that normal's length, from the sums of `_add`."""
    length = max(np.sqrt(own[NX] * own[NX] + own[NY] * own[NY] + own[NZ] * own[NZ]), 1e-20)
    return (own[NX] * x + own[NY] * y + own[NZ] * z) / length, length


@kernel
def _height(own):
    """Height over the middle of a layer from the sums of `_add`, exact on a ball too.

    A chord of a ball is at right angles to the sum of the normals at both its ends: so half of the height counts along
    each disc's normal and half along their mean.
    """
    along_mean, _ = _upright(own, own[OX], own[OY], own[OZ])
    return 0.5 * (own[HIGH] + along_mean) / own[WEIGHT]


@kernel
def _beyond(own, least):
    """How far along a layer a place lies beyond its rim, from the sums of `_add` and that beyond the nearest disc's.

    What is amid discs on all sides, their mean not far from it, and not too far from each, is a gap that chance made.
    """
    per = 1.0 / own[WEIGHT]
    up, length = _upright(own, own[OX], own[OY], own[OZ])
    up /= length
    x, y, z = own[OX] - up * own[NX], own[OY] - up * own[NY], own[OZ] - up * own[NZ]
    lag, reach = np.sqrt(x * x + y * y + z * z) * per, own[REACHES] * per
    return min(least, max((lag - AMID * reach) / STEEP, least + own[RIMS] * per - GAP * reach))


@kernel
def _level(own, beyond):
    """Level of a rounded disc from the sums of `_add` and the distance along it beyond its rim."""
    height, half = _height(own), own[WEIGHT] / own[PER_HALF]
    out = max(beyond + half, 0.0)
    return np.sqrt(out * out + height * height + own[BESIDE] / own[WEIGHT]) - own[DRAWN] / own[WEIGHT]


@kernel
def _span_of(m, d, centre, axes, thread, drawn, reach, low, voxel, first, after):
    """Nodes along an axis, among some, that a disc says something of: the first, and the one after the last."""
    side = axes[m, 2, d] ** 2 + thread[m] * axes[m, 1, d] ** 2
    extent = reach[m] * np.sqrt(max(1.0 - side, 0.0)) + (drawn[m] + BEYOND * voxel) * np.sqrt(side)
    at = (centre[m, d] - low[d]) / voxel
    return max(int(np.ceil(at - extent / voxel)), first), min(int(np.floor(at + extent / voxel)) + 1, after)


@shared
def draw(starts, centre, axes, thread, lying, half, drawn, reach, rim, low, voxel, phi):
    """Join layers to a level set, in place."""
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, phi.shape[0])
        j_low, j_high, k_low, k_high = phi.shape[1], 0, phi.shape[2], 0  # sums only where there are layers
        for m in range(starts[slab, 0], starts[slab, 1]):
            j0, j1 = _span_of(m, 1, centre, axes, thread, drawn, reach, low, voxel, 0, phi.shape[1])
            k0, k1 = _span_of(m, 2, centre, axes, thread, drawn, reach, low, voxel, 0, phi.shape[2])
            j_low, j_high, k_low, k_high = min(j_low, j0), max(j_high, j1), min(k_low, k0), max(k_high, k1)
        if j_high <= j_low or k_high <= k_low:
            continue
        # of discs on one wall, and on another that meets it
        sums = np.zeros((2, hi - lo, j_high - j_low, k_high - k_low, SUMS), np.float32)
        least = np.full(sums.shape[:4], np.float32(1e30), np.float32)
        for m in range(starts[slab, 0], starts[slab, 1]):
            told = (half[m], drawn[m], thread[m], rim[m], reach[m])
            i0, i1 = _span_of(m, 0, centre, axes, thread, drawn, reach, low, voxel, lo, hi)
            j0, j1 = _span_of(m, 1, centre, axes, thread, drawn, reach, low, voxel, j_low, j_high)
            k0, k1 = _span_of(m, 2, centre, axes, thread, drawn, reach, low, voxel, k_low, k_high)
            for i in range(i0, i1):
                x = low[0] + i * voxel - centre[m, 0]
                for j in range(j0, j1):
                    y = low[1] + j * voxel - centre[m, 1]
                    for k in range(k0, k1):
                        z = low[2] + k * voxel - centre[m, 2]
                        a, b, c = _offsets(axes, m, x, y, z)
                        w = _weight(a, b, c, thread[m], lying[m], drawn[m], reach[m], voxel)
                        if w > 0.0:
                            p, q, r, g = i - lo, j - j_low, k - k_low, 0
                            if lying[m] > 0.5 and sums[0, p, q, r, WEIGHT] > 0.0:
                                g = int(_meets(sums[0, p, q, r], axes[m], (x, y, z)))
                            _add(sums[g, p, q, r], w, (b, c), axes[m], (x, y, z), told)
                            least[g, p, q, r] = min(least[g, p, q, r], np.float32(_along(a, b, thread[m]) - rim[m]))
        for g in range(2):
            for p in range(sums.shape[1]):
                for q in range(sums.shape[2]):
                    for r in range(sums.shape[3]):
                        own = sums[g, p, q, r]
                        if own[WEIGHT] > 0.0:
                            i, j, k = lo + p, j_low + q, k_low + r
                            level = np.float32(_level(own, _beyond(own, least[g, p, q, r])))
                            phi[i, j, k] = min(phi[i, j, k], level)


@kernel
def _taken_back(place, own, told, lies, least, voxel):
    """Move a vertex that is drawn too far off to where a layer's surface is; how far it may go for the volume's sake.

    Parameters
    ----------
    own, told : sums of the discs about it, by `_add` and `_take_back`
    """
    beyond = _beyond(own, least)
    level = _level(own, beyond)
    acts = min(max(2.0 - 2.0 * abs(level) / voxel, 0.0), 1.0)
    if acts <= 0.0:
        return 1.0
    per, thin = 1.0 / own[WEIGHT], own[WEIGHT] / own[PER_HALF]
    less = 1.0 - thin / (own[DRAWN] * per)
    # towards the middle, or the foot, which lies beneath what is drawn: the mean of ups is shorter than each
    up = np.sqrt(told[OVER] ** 2 + told[OVER + 1] ** 2 + told[OVER + 2] ** 2)
    longer = told[OVER_IN_ALL] / max(up, 1e-20)
    height = _height(own)
    kept = height - level if height > 0.0 else height + level
    if lies > 0.5 * own[WEIGHT]:  # what has come through a wall goes back to it
        kept = max(kept, -own[DRAWN] * per)
    # in from the rim: as the thickness, and by what it is drawn beyond it, towards the mean of the discs, which at
    # the rim alone is far beside it
    out = max(beyond + thin, 0.0) * less
    back = (1.0 - OUTERMOST / RIM) * own[RIMS] * per / (LAGS * own[REACHES])
    up, length = _upright(own, told[ALONG], told[ALONG + 1], told[ALONG + 2])  # discs that lean have some
    down = (height - kept * (1.0 - less) - up * back) / length
    for d in range(3):
        move = down * own[NX + d] + per * (longer * told[OVER + d] + less * told[SIDEWAYS + d])
        place[d] -= acts * (move + out * told[OUTWARDS + d] + back * told[ALONG + d])
    return 1.0 - acts + acts * min(2.0 * thin / voxel, 1.0)


@shared
def _take_back(
    vertex, normals, position, start, low, shape, edge, most, centre, axes, thread, lying, half, drawn, reach,
    rim, voxel, found, give,
):  # fmt: skip
    for v in prange(vertex.shape[0]):
        x, y, z = vertex[v, 0], vertex[v, 1], vertex[v, 2]
        # of discs on one wall, and on another that meets it
        sums, told, lies, least = np.zeros((2, SUMS)), np.zeros((2, TOLD)), np.zeros(2), np.full(2, 1e30)
        look = most + 3.0 * voxel
        i0, i1 = span(x, look, low[0], edge, shape[0])
        j0, j1 = span(y, look, low[1], edge, shape[1])
        for i in range(i0, i1):
            for j in range(j0, j1):
                begin, end = row(start, low, shape, edge, i, j, x, y, z, look)
                for m in range(begin, end):
                    dx, dy, dz = x - centre[m, 0], y - centre[m, 1], z - centre[m, 2]
                    a, b, c = _offsets(axes, m, dx, dy, dz)
                    w = _weight(a, b, c, thread[m], lying[m], drawn[m], reach[m], voxel)
                    _, _, faces = _offsets(axes, m, normals[v, 0], normals[v, 1], normals[v, 2])
                    # at its wall liquid faces the wall: what does not is of the other side
                    if w <= 0.0 or (lying[m] > 0.5 and faces > 0.3 and c + drawn[m] < AT_WALL * voxel):
                        continue
                    g = 0
                    if lying[m] > 0.5 and sums[0, WEIGHT] > 0.0:
                        g = int(_meets(sums[0], axes[m], (dx, dy, dz)))
                    of = half[m], drawn[m], thread[m], rim[m], reach[m]
                    _add(sums[g], w, (b, c), axes[m], (dx, dy, dz), of)
                    lies[g] += w * lying[m]
                    high, flat = lying[m] * (drawn[m] - half[m]), 1.0 - thread[m]
                    along = _along(a, b, thread[m])
                    nearer = along - rim[m] < least[g]
                    per = 1.0 / max(along, 1e-12)
                    told[g, OVER_IN_ALL] += w * high
                    for d in range(3):
                        beside = a * axes[m, 0, d] + flat * b * axes[m, 1, d]
                        told[g, OVER + d] += w * high * axes[m, 2, d]
                        told[g, SIDEWAYS + d] += w * thread[m] * b * axes[m, 1, d]
                        told[g, ALONG + d] += w * beside
                        if nearer:
                            told[g, OUTWARDS + d] = beside * per
                    if nearer:
                        least[g] = along - rim[m]
        for g in range(2):
            if sums[g, WEIGHT] > 0.0:
                gives = _taken_back(found[v], sums[g], told[g], lies[g], least[g], voxel)
                give[v] = min(give[v], gives)
