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

from basin.grid.neighbours import binned, row, span
from basin.kernels import kernel, shared
from basin.surface.cloud import Cloud
from basin.surface.kernels import eigen
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
SMALL = 1e-9  # squared, by a disc's reaches, that one voxel along a row of nodes changes its place
WALLS = 2.5  # spacings from a particle within which walls are looked for
MISSING = 0.3  # share that is missing at a straight edge; half, less what ragged edges only seem to lack
EDGE = 0.34  # of the reach: how far beside a particle at a straight edge the mean of its neighbours lies
CORNER = np.float32(
    0.5
)  # product of the normals of walls below which liquid on both is no layer bent, but two that meet
BESIDE = THICKEST + 0.5  # kernel radii off a wall to where liquid that goes on beside it is looked for
GOES_ON, WETS = 0.5, 0.25  # share of what is at the wall that is there at least, of which this share is full at least
AT_WALL = 0.5  # voxels above a wall up to which it is told on which side of it something is
LYING = (1.1, 1.6)  # spacings off a wall: below it a layer lies on it, above it is in the air
NONE, HALF, ONE = np.float32(0.0), np.float32(0.5), np.float32(1.0)

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
        centre, *told = self.arrays()
        single = [a.astype(np.float32) for a in told]
        draw(cloud.slabs(some, reach), centre, *single, cloud.low, cloud.voxel, phi)

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
    """Offsets and volumes of the particles about one, itself included, by radii, into `near` (4, m).

    Those of all cells that `WIDEST` radii touch: along a layer some count that are farther off across it.

    Returns how many there are, and how many others lie within the radius alone.
    """
    x, y, z = position[own, 0], position[own, 1], position[own, 2]
    wide, per, n, others = WIDEST * radius, 1.0 / radius, 0, -1
    faces = facing[own, 0] != 0.0 or facing[own, 1] != 0.0 or facing[own, 2] != 0.0
    i0, i1 = span(x, wide, low[0], edge, shape[0])
    j0, j1 = span(y, wide, low[1], edge, shape[1])
    for i in range(i0, i1):
        for j in range(j0, j1):
            begin, end = row(start, low, shape, edge, i, j, x, y, z, wide)
            for p in range(begin, min(end, begin + near.shape[1] - n)):
                if faces and _apart(facing, p, own):
                    continue
                dx, dy, dz = (position[p, 0] - x) * per, (position[p, 1] - y) * per, (position[p, 2] - z) * per
                others += dx * dx + dy * dy + dz * dz < 1.0
                near[0, n], near[1, n], near[2, n], near[3, n] = dx, dy, dz, volume[p] * per * per * per
                n += 1
    return n, others


@kernel(fastmath=True)
def _moments(near, count, per):
    """Of offsets and volumes from `_gathered`: how many are nearer than 1 / sqrt(per), weights, sums and squares."""
    x, y, z, volume = near[0], near[1], near[2], near[3]
    n, total, mx, my, mz = NONE, NONE, NONE, NONE, NONE
    xx, yy, zz, xy, xz, yz = NONE, NONE, NONE, NONE, NONE, NONE
    for p in range(count):
        dx, dy, dz = x[p], y[p], z[p]
        q = ONE - (dx * dx + dy * dy + dz * dz) * per
        n += ONE if q > NONE else NONE
        w = max(q, NONE) * volume[p]
        total += w
        ux, uy, uz = w * dx, w * dy, w * dz
        mx, my, mz = mx + ux, my + uy, mz + uz
        xx, yy, zz = xx + ux * dx, yy + uy * dy, zz + uz * dz
        xy, xz, yz = xy + ux * dy, xz + ux * dz, yz + uy * dz
    return n, total, mx, my, mz, xx, yy, zz, xy, xz, yz


@kernel(fastmath=True)
def _spread(near, count, per, axes):
    """Volume per area and per length, still to be divided by what their weights amount to, along a layer's axes."""
    x, y, z, volume = near[0], near[1], near[2], near[3]
    ax, ay, az = np.float32(axes[0, 0]), np.float32(axes[0, 1]), np.float32(axes[0, 2])
    bx, by, bz = np.float32(axes[1, 0]), np.float32(axes[1, 1]), np.float32(axes[1, 2])
    area, line = NONE, NONE
    for p in range(count):
        a, b = x[p] * ax + y[p] * ay + z[p] * az, x[p] * bx + y[p] * by + z[p] * bz
        f = ONE - a * a * per
        g = max(f - b * b * per, NONE)
        f = max(f, NONE)
        area += volume[p] * g * g
        line += volume[p] * f * f
    return area, line


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
    near, second, vector = np.empty((4, MOST), np.float32), np.empty((3, 3)), np.empty((3, 3))
    for m in prange(some.shape[0]):
        own = some[m]
        found, others = _gathered(own, position, start, low, shape, edge, volume, facing, radius, near)
        wide = 1.0 if others >= ENOUGH else WIDEST
        r, per = wide * radius, np.float32(1.0 / (wide * wide))
        sums = _moments(near, found, per)
        total, n = sums[1], int(sums[0]) - 1
        mx, my, mz = sums[2] / total * radius, sums[3] / total * radius, sums[4] / total * radius
        scale = radius * radius / total
        second[0, 0], second[1, 1], second[2, 2] = (
            sums[5] * scale - mx * mx,
            sums[6] * scale - my * my,
            sums[7] * scale - mz * mz,
        )
        second[0, 1] = second[1, 0] = sums[8] * scale - mx * my
        second[0, 2] = second[2, 0] = sums[9] * scale - mx * mz
        second[1, 2] = second[2, 1] = sums[10] * scale - my * mz
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
        # at its edge a layer is as thick as beside it: what is missing there is told by how far the mean lies beside
        along = mx * axes[m, 0, 0] + my * axes[m, 0, 1] + mz * axes[m, 0, 2]
        other = 0.0 if thin else beside
        seen = 1.0 - MISSING * min((along * along + other * other) / (EDGE * EDGE * r * r), 1.0)
        if side[m] < r:  # beyond a wall there is nothing for sure
            seen = 1.0 - _beyond_side(side[m] / r)
        per_area, per_length = _spread(near, found, per, axes[m])
        area[m] = per_area * radius**3 * 3.0 / (np.pi * r * r * seen)
        line[m] = per_length * radius**3 * 15.0 / (16.0 * r * seen)


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
    return np.sqrt(a * a + (ONE - thread) * b * b)


@kernel
def _weight(q, across, c, lying, lowest):
    """Weight of a disc at squared distances along and across it, by its reaches; 0 where it says nothing.

    What lies on a wall says nothing of what is at a height `c` below its `lowest`.
    """
    if q >= ONE or across >= ONE or (lying > HALF and c < lowest):
        return NONE * q
    rest = ONE - q
    return rest * rest * rest * (ONE - across)


@kernel
def _add(sums, s, w, offset, axes, m, place, told):
    """Add what one disc says of a place to a row of sums; views of rows would cost more than the sums.

    Parameters
    ----------
    offset : along the disc's second and third axis; place : from its middle, as it is
    told : the disc's half thickness, what is drawn of it, how much it is a thread, rim, reach
    """
    b, c = offset
    x, y, z = place
    half, drawn, thread, rim, reach = told
    nx, ny, nz = axes[m, 2, 0], axes[m, 2, 1], axes[m, 2, 2]
    towards = sums[s, NX] * nx + sums[s, NY] * ny + sums[s, NZ] * nz
    side = -w if towards < 0.0 else w  # normals have no side of their own
    sums[s, WEIGHT] += w
    sums[s, PER_HALF] += w / half  # so that its mean is that over the area, however closely particles lie together
    sums[s, DRAWN] += w * drawn
    sums[s, BESIDE] += w * thread * b * b
    sums[s, HIGH] += side * c
    sums[s, NX] += side * nx
    sums[s, NY] += side * ny
    sums[s, NZ] += side * nz
    sums[s, OX] += w * x
    sums[s, OY] += w * y
    sums[s, OZ] += w * z
    sums[s, RIMS] += w * rim
    sums[s, REACHES] += w * reach


@kernel
def _meets(sums, s, axes, m, place):
    """Whether a disc on a wall lies in front of those summed so far, on another wall that meets theirs at a corner."""
    x, y, z = sums[s, NX], sums[s, NY], sums[s, NZ]
    length = np.sqrt(x * x + y * y + z * z)
    x, y, z = x / length, y / length, z / length
    nx, ny, nz = axes[m, 2, 0], axes[m, 2, 1], axes[m, 2, 2]
    if x * nx + y * ny + z * nz >= CORNER:
        return False
    per = ONE / sums[s, WEIGHT]
    dx, dy, dz = sums[s, OX] * per - place[0], sums[s, OY] * per - place[1], sums[s, OZ] * per - place[2]
    before = dx * nx + dy * ny + dz * nz
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


@kernel
def _where_below(a, per_a, b, c, begin, end):
    """Of a range, the part where a z^2 + 2 b z + c < 1; `per_a` is 1 / a, or 0 where it is too small to matter."""
    if per_a == 0.0:
        return (begin, end) if c < 1.0 else (end + 1.0, end)
    root = b * b - a * (c - 1.0)
    if root <= 0.0:
        return end + 1.0, end
    root = np.sqrt(root)
    return max(begin, (-b - root) * per_a), min(end, (-b + root) * per_a)


@kernel
def _more(held, count):
    """An array with room for twice as many rows."""
    found = np.empty((2 * count, held.shape[1]), held.dtype)
    found[:count] = held[:count]
    return found


@shared
def draw(starts, centre, axes, thread, lying, half, drawn, reach, rim, low, voxel, phi):
    """Join layers to a level set, in place; but for the centres, all about them is float32."""
    beyond, below = np.float32(BEYOND * voxel), np.float32(REST * voxel)
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, phi.shape[0])
        j_low, j_high, k_low, k_high = phi.shape[1], 0, phi.shape[2], 0  # looked at only where there are layers
        for m in range(starts[slab, 0], starts[slab, 1]):
            j0, j1 = _span_of(m, 1, centre, axes, thread, drawn, reach, low, voxel, 0, phi.shape[1])
            k0, k1 = _span_of(m, 2, centre, axes, thread, drawn, reach, low, voxel, 0, phi.shape[2])
            j_low, j_high, k_low, k_high = min(j_low, j0), max(j_high, j1), min(k_low, k0), max(k_high, k1)
        if j_high <= j_low or k_high <= k_low:
            continue
        # sums of discs on one wall, and on another that meets it, for those nodes alone that any reaches
        slot = np.full((2, hi - lo, j_high - j_low, k_high - k_low), -1, np.int32)
        sums, node, count = np.empty((1024, SUMS + 1), np.float32), np.empty((1024, 3), np.int32), 0
        for m in range(starts[slab, 0], starts[slab, 1]):
            told, far, flat = (half[m], drawn[m], thread[m], rim[m], reach[m]), drawn[m] + beyond, ONE - thread[m]
            i0, i1 = _span_of(m, 0, centre, axes, thread, drawn, reach, low, voxel, lo, hi)
            j0, j1 = _span_of(m, 1, centre, axes, thread, drawn, reach, low, voxel, j_low, j_high)
            k0, k1 = _span_of(m, 2, centre, axes, thread, drawn, reach, low, voxel, k_low, k_high)
            # squared distances along and across it are quadratic along a row of nodes, in voxels
            u, v, w = axes[m, 0, 2] * voxel, axes[m, 1, 2] * voxel, axes[m, 2, 2] * voxel
            per, per_far = 1.0 / (reach[m] * reach[m]), 1.0 / (far * far)
            a_along, a_across = (u * u + flat * v * v) * per, (w * w + thread[m] * v * v) * per_far
            along, across = (1.0 / a_along if a_along > SMALL else 0.0), (1.0 / a_across if a_across > SMALL else 0.0)
            lowest = -drawn[m] - below
            for i in range(i0, i1):
                x = low[0] + i * voxel - centre[m, 0]
                for j in range(j0, j1):
                    y = low[1] + j * voxel - centre[m, 1]
                    a, b, c = _offsets(axes, m, x, y, low[2] - centre[m, 2])
                    b_along, c_along = (u * a + flat * v * b) * per, (a * a + flat * b * b) * per
                    b_across, c_across = (w * c + thread[m] * v * b) * per_far, (c * c + thread[m] * b * b) * per_far
                    begin, end = _where_below(a_along, along, b_along, c_along, k0, k1 - 1.0)
                    begin, end = _where_below(a_across, across, b_across, c_across, begin, end)
                    for k in range(int(np.ceil(begin)), int(np.floor(end)) + 1):
                        q = np.float32((a_along * k + 2.0 * b_along) * k + c_along)
                        height = np.float32(c + w * k)
                        f = _weight(
                            q, np.float32((a_across * k + 2.0 * b_across) * k + c_across), height, lying[m], lowest
                        )
                        if f <= NONE:
                            continue
                        place = np.float32(x), np.float32(y), np.float32(low[2] + k * voxel - centre[m, 2])
                        g, s = 0, slot[0, i - lo, j - j_low, k - k_low]
                        if lying[m] > HALF and s >= 0 and _meets(sums, s, axes, m, place):
                            g, s = 1, slot[1, i - lo, j - j_low, k - k_low]
                        if s < 0:
                            if count == sums.shape[0]:
                                sums, node = _more(sums, count), _more(node, count)
                            s = count
                            slot[g, i - lo, j - j_low, k - k_low] = s
                            node[s, 0], node[s, 1], node[s, 2] = i, j, k
                            for d in range(SUMS):
                                sums[s, d] = NONE
                            sums[s, SUMS] = np.float32(1e30)
                            count += 1
                        _add(sums, s, f, (np.float32(b + v * k), height), axes, m, place, told)
                        sums[s, SUMS] = min(sums[s, SUMS], np.sqrt(max(q, NONE)) * reach[m] - rim[m])
        for s in range(count):
            i, j, k = node[s, 0], node[s, 1], node[s, 2]
            phi[i, j, k] = min(phi[i, j, k], np.float32(_level(sums[s], _beyond(sums[s], sums[s, SUMS]))))


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
    # of discs on one wall, and on another that meets it
    sums, told, lies, least = np.empty((2, SUMS)), np.empty((2, TOLD)), np.empty(2), np.empty(2)
    look, beyond, below = most + 3.0 * voxel, BEYOND * voxel, REST * voxel
    for v in prange(vertex.shape[0]):
        x, y, z = vertex[v, 0], vertex[v, 1], vertex[v, 2]
        sums[:], told[:], lies[:], least[:] = 0.0, 0.0, 0.0, 1e30
        i0, i1 = span(x, look, low[0], edge, shape[0])
        j0, j1 = span(y, look, low[1], edge, shape[1])
        for i in range(i0, i1):
            for j in range(j0, j1):
                begin, end = row(start, low, shape, edge, i, j, x, y, z, look)
                for m in range(begin, end):
                    dx, dy, dz = x - centre[m, 0], y - centre[m, 1], z - centre[m, 2]
                    a, b, c = _offsets(axes, m, dx, dy, dz)
                    along, far = _along(a, b, thread[m]), drawn[m] + beyond
                    q, across = (along / reach[m]) ** 2, (c * c + thread[m] * b * b) / (far * far)
                    w = _weight(q, across, c, lying[m], -drawn[m] - below)
                    if w <= 0.0:
                        continue
                    g = 0
                    if lying[m] > 0.5:
                        # at its wall liquid faces the wall: what does not is of the other side
                        _, _, faces = _offsets(axes, m, normals[v, 0], normals[v, 1], normals[v, 2])
                        if faces > 0.3 and c + drawn[m] < AT_WALL * voxel:
                            continue
                        if sums[0, WEIGHT] > 0.0:
                            g = int(_meets(sums, 0, axes, m, (dx, dy, dz)))
                    of = half[m], drawn[m], thread[m], rim[m], reach[m]
                    _add(sums, g, w, (b, c), axes, m, (dx, dy, dz), of)
                    lies[g] += w * lying[m]
                    nearer, high, flat = along - rim[m] < least[g], lying[m] * (drawn[m] - half[m]), 1.0 - thread[m]
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
