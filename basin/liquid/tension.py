"""Surface tension: the curvature of the free surface, and the pressure that it adds there.

The surface pulls itself together: liquid under a surface bent by kappa, the sum of its two curvatures, is pressed by
sigma * kappa more than the air (Young 1805, Laplace 1806). The pressure solve meets that jump right at the surface
(`basin.liquid.pressure`). Curvatures are those of paraboloids fitted to the level set about each crossing of the
surface, as Renardy & Renardy (2002, J. Comput. Phys. 183) fit them to fractions of volume.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.geometry.distance import point_triangle_distance
from basin.grid.tiles import all_below, at, load, none_below, row_of
from basin.kernels import kernel, shared
from basin.liquid.levelset import FAITHFUL, solve_symmetric
from basin.liquid.solids import ADVANCING, RECEDING, Solids, solid_of, velocity_of
from basin.liquid.thin import seen_cell

REACH = 2  # cells about a cell to which its paraboloid is fitted
WIDEST = 2.8  # voxels along the surface at which a cell counts no more
OPEN = 0.5  # share of a cell that is no solid from which its level counts
STEEPEST = 1.5  # voxels: heights above the tangent plane beyond are of another surface
FEWEST = 8  # cells that tell a paraboloid
SHARPEST = 2.0  # 1/voxel: that of a drop of one voxel's radius
NEAR_WALL = 2.5  # voxels to a solid within which a paraboloid ends on it with its contact angle
BLIND = 1.5  # voxels by which what nodes say of a thin wall may be wrong
STEP = 1e-3  # voxels: for the slope of a distance
HELD = 2.0  # weight of that end, of all cells' together
MOST_TURN = 1.2  # radians by which the surface may have to turn there
UNKNOWN = np.float32(np.nan)
BLURRED = 0.75  # voxels^2: variance of the level set's kernel
SEEN = BLURRED + 0.75  # with what paraboloids add to it; ripples, drops and cylinders in tests hold both
ROUNDER = 1.15  # of the cubes of both curvatures, what a paraboloid finds too much
SOFTER = 0.5  # voxels^2 that a softening adds to it
FASTEST = (3.0 / np.e) ** 1.5  # of k^3 exp(-k^2 / 2)
MOST_SOFTENINGS = 24
SHARP = 0.4  # of s dt^2, see `Softening`, up to which curvatures are made as sharp as can be
EVEN = 0.75  # of the same, up to which they need no softening
SLOWEST = 0.002  # voxels a substep below which a line on a solid rests, however weak the tension


@kernel
def _slope(level, free, i, j, k, axis):
    """Slope of a level along an axis, by the neighbours that are no solid."""
    di, dj, dk = (1 if axis == 0 else 0), (1 if axis == 1 else 0), (1 if axis == 2 else 0)
    here = level[i, j, k]
    low, high = level[i - di, j - dj, k - dk], level[i + di, j + dj, k + dk]
    below, above = free[i - di, j - dj, k - dk] >= OPEN, free[i + di, j + dj, k + dk] >= OPEN
    if below and above:
        return 0.5 * (high - low)
    return high - here if above else (here - low if below else np.float32(0.0))


@kernel
def _crosses(level, i, j, k, mask):
    """Whether the surface passes between a cell and one of its six neighbours that it sees, by its mask."""
    inside = level[i, j, k] < 0.0
    for axis in range(3):
        for side in (-1, 1):
            di, dj, dk = side * (axis == 0), side * (axis == 1), side * (axis == 2)
            seen = seen_cell(mask, 9 * di + 3 * dj + dk + 13)
            if seen and (level[i + di, j + dj, k + dk] < 0.0) != inside:
                return True
    return False


@kernel
def _wall_at(node, i, j, k):
    """Distance of a cell's centre to the nearest solid, and the direction away from it, by its corners."""
    total, x, y, z = 0.0, 0.0, 0.0, 0.0
    for p in range(2):
        for q in range(2):
            for r in range(2):
                d = node[i + p, j + q, k + r]
                total += 0.125 * d
                x, y, z = x + (2 * p - 1) * d, y + (2 * q - 1) * d, z + (2 * r - 1) * d
    size = np.sqrt(x * x + y * y + z * z)
    if size < 1e-6:
        return 1e9, 0.0, 0.0, 0.0
    return total, x / size, y / size, z / size


@kernel
def _thin_wall_at(corner, listed, begin, end, p):
    """(distance, direction away from it, triangle) of the nearest of some thin walls within reach of a place p; -1."""
    least, which = NEAR_WALL + 2.0, -1
    for e in range(begin, end):
        m = listed[e]
        above = corner[m, 3] @ (p - corner[m, 0])
        if abs(above) < least:
            d = point_triangle_distance(p, corner[m, 0], corner[m, 1], corner[m, 2])
            if d < least:
                least, which = d, m
    if which < 0:
        return (1e9, 0.0, 0.0, 0.0), -1
    away = np.zeros(3)
    for axis in range(3):
        for side in (-1.0, 1.0):
            p[axis] += side * STEP
            d = point_triangle_distance(p, corner[which, 0], corner[which, 1], corner[which, 2])
            p[axis] -= side * STEP
            away[axis] += side * d
    away /= max(np.sqrt(away @ away), 1e-9)
    return (least, away[0], away[1], away[2]), which


@kernel
def _mask_at(where, slot, hidden, i, j, k):
    """What a cell does not see of its neighbours."""
    s = slot[row_of(where, i, j, k)]
    return np.uint64(hidden[s, i & 7, j & 7, k & 7]) if s >= 0 else np.uint64(0)


@kernel
def _unseen(where, slot, hidden, i, j, k, free):
    """Take the room from what a cell does not see of the 5^3 cells about it, in place.

    What is two cells away is seen if the one between is, and sees it.
    """
    own = _mask_at(where, slot, hidden, i, j, k)
    for di in range(-REACH, REACH + 1):
        for dj in range(-REACH, REACH + 1):
            for dk in range(-REACH, REACH + 1):
                a, b, c = min(max(di, -1), 1), min(max(dj, -1), 1), min(max(dk, -1), 1)
                seen = seen_cell(own, 9 * a + 3 * b + c + 13)
                if seen and (a != di or b != dj or c != dk):
                    between = _mask_at(where, slot, hidden, i + a, j + b, k + c)
                    seen = seen_cell(between, 9 * (di - a) + 3 * (dj - b) + dk - c + 13)
                if not seen:
                    free[di + REACH, dj + REACH, dk + REACH] = 0.0


@kernel
def _meets(touch, speed, creep):
    """Contact angle of a line that moves over a solid at a speed towards the air (voxels/s)."""
    share = min(max(0.5 + 0.5 * speed / creep, 0.0), 1.0)
    return touch[RECEDING] + share * (touch[ADVANCING] - touch[RECEDING])


@kernel
def _bent(level, free, wall, angle, a, b):
    """Curvature of the surface nearest to a cell (1/voxel); not a number if too little is known of it.

    Parameters
    ----------
    level, free : (5, 5, 5), about the cell: levels, and how much of each that it sees is no solid
    wall : distance of the cell's centre to a solid and the direction away from it
    angle : at which the surface meets that
    """
    i, j, k = REACH, REACH, REACH
    nx, ny, nz = _slope(level, free, i, j, k, 0), _slope(level, free, i, j, k, 1), _slope(level, free, i, j, k, 2)
    size = np.sqrt(nx * nx + ny * ny + nz * nz)
    if size < 0.1:
        return UNKNOWN
    nx, ny, nz = nx / size, ny / size, nz / size
    # two directions along the surface
    if abs(nx) < 0.6:
        tx, ty, tz = np.float32(0.0), nz, -ny
    else:
        tx, ty, tz = -nz, np.float32(0.0), nx
    size = np.sqrt(tx * tx + ty * ty + tz * tz)
    tx, ty, tz = tx / size, ty / size, tz / size
    sx, sy, sz = ny * tz - nz * ty, nz * tx - nx * tz, nx * ty - ny * tx
    a[:] = 0.0
    b[:] = 0.0
    row = np.empty(6)
    count = 0
    away = level[i, j, k]
    for di in range(-REACH, REACH + 1):
        for dj in range(-REACH, REACH + 1):
            for dk in range(-REACH, REACH + 1):
                value = level[i + di, j + dj, k + dk]
                if abs(value) >= FAITHFUL or free[i + di, j + dj, k + dk] < OPEN:
                    continue
                x, y, z = di + away * nx, dj + away * ny, dk + away * nz
                p, q = x * tx + y * ty + z * tz, x * sx + y * sy + z * sz
                far = (p * p + q * q) / (WIDEST * WIDEST)
                height = x * nx + y * ny + z * nz - value
                if far >= 1.0 or abs(height) > STEEPEST:
                    continue
                weight = (1.0 - far) * (1.0 - far) * (1.0 - (value / FAITHFUL) ** 2)
                row[0], row[1], row[2], row[3], row[4], row[5] = 1.0, p, q, p * p, p * q, q * q
                for r in range(6):
                    for c in range(r + 1):
                        a[r, c] += weight * row[r] * row[c]
                    b[r] += weight * row[r] * height
                count += 1
    if count < FEWEST:
        return UNKNOWN
    lean = wall[1] * nx + wall[2] * ny + wall[3] * nz
    flat = np.sqrt(max(1.0 - lean * lean, 0.0))
    beyond = wall[0] - away * lean  # of the surface next to the cell
    if beyond < NEAR_WALL and flat > 0.1:
        # along the surface, away from the solid: there it begins with a slope that makes its contact angle
        p, q = (wall[1] * tx + wall[2] * ty + wall[3] * tz) / flat, (wall[1] * sx + wall[2] * sy + wall[3] * sz) / flat
        way = max(beyond, 0.0) / flat
        if way < NEAR_WALL:
            turn = min(max(angle - np.arccos(min(max(lean, -1.0), 1.0)), -MOST_TURN), MOST_TURN)
            weight = HELD * a[0, 0] * (1.0 - (way / NEAR_WALL) ** 2)
            x, y, slope = -p * way, -q * way, np.tan(turn)
            row[0], row[1], row[2], row[3], row[4], row[5] = 0.0, p, q, 2.0 * x * p, x * q + y * p, 2.0 * y * q
            for r in range(6):
                for c in range(r + 1):
                    a[r, c] += weight * row[r] * row[c]
                b[r] += weight * row[r] * slope
    for r in range(3, 6):
        a[r, r] += 1e-3 * a[0, 0]
    solve_symmetric(a, b, 6)
    p, q = b[1], b[2]
    steep = 1.0 + p * p + q * q
    both = -2.0 * (b[3] * (1.0 + q * q) - b[4] * p * q + b[5] * (1.0 + p * p)) / steep**1.5
    product = (4.0 * b[3] * b[5] - b[4] * b[4]) / steep**2
    # what paraboloids make of rounder forms, and the level set's surface that lies on the inner side of bends
    seen = 1.0 + ROUNDER * (both * both - 3.0 * product) + 0.5 * BLURRED * (both * both - 2.0 * product)
    return np.float32(min(max(both / max(seen, 1.0), -SHARPEST), SHARPEST))


@shared
def _curvature(
    first,
    where,
    phi,
    own,
    solid,
    owner,
    motion,
    touch,
    corner,
    body,
    slot,
    start,
    listed,
    hidden,
    u,
    v,
    w,
    creep,
    out,
):
    for t in prange(1, first.shape[0]):
        i0, j0, k0 = first[t, 0], first[t, 1], first[t, 2]
        level = np.empty((12, 12, 12), np.float32)
        load(phi, where, i0 - REACH, j0 - REACH, k0 - REACH, level)
        line = level.reshape(1728)
        if none_below(line, 0.0) or all_below(line, 0.0):
            continue
        free, node = np.empty((12, 12, 12), np.float32), np.empty((9, 9, 9), np.float32)
        load(own, where, i0 - REACH, j0 - REACH, k0 - REACH, free)
        load(solid, where, i0, j0, k0, node)
        a, b, place = np.empty((6, 6)), np.empty(6), np.empty(3)
        about, room = np.empty((5, 5, 5), np.float32), np.empty((5, 5, 5), np.float32)
        s = slot[t]
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    mask = np.uint64(hidden[s, i, j, k]) if s >= 0 else np.uint64(0)
                    if not _crosses(level, i + REACH, j + REACH, k + REACH, mask):
                        continue
                    p, q, r = i0 + i, j0 + j, k0 + k
                    about[:] = level[i : i + 5, j : j + 5, k : k + 5]
                    room[:] = free[i : i + 5, j : j + 5, k : k + 5]
                    wall, angle, who = (1e9, 0.0, 0.0, 0.0), 0.0, -1
                    if node[i, j, k] < NEAR_WALL + 3.0:
                        wall = _wall_at(node, i, j, k)
                        who = solid_of(solid, owner, where, p, q, r)
                    if s >= 0:
                        _unseen(where, slot, hidden, p, q, r, room)
                        place[0], place[1], place[2] = p + 0.5, q + 0.5, r + 0.5
                        thin, m = _thin_wall_at(corner, listed, start[s], start[s + 1], place)
                        if m >= 0 and thin[0] < wall[0] + BLIND:
                            wall, who = thin, body[m]
                    if wall[0] < NEAR_WALL + 2.0:
                        angle = touch[who, ADVANCING]
                        if touch[who, RECEDING] != angle:
                            its = velocity_of(motion, who, p + 0.5, q + 0.5, r + 0.5)
                            x = 0.5 * (at(u, where, p, q, r) + at(u, where, p + 1, q, r)) - its[0]
                            y = 0.5 * (at(v, where, p, q, r) + at(v, where, p, q + 1, r)) - its[1]
                            z = 0.5 * (at(w, where, p, q, r) + at(w, where, p, q, r + 1)) - its[2]
                            nx = _slope(about, room, REACH, REACH, REACH, 0)
                            ny = _slope(about, room, REACH, REACH, REACH, 1)
                            nz = _slope(about, room, REACH, REACH, REACH, 2)
                            lean = nx * wall[1] + ny * wall[2] + nz * wall[3]
                            nx, ny, nz = nx - lean * wall[1], ny - lean * wall[2], nz - lean * wall[3]
                            size = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-6)
                            angle = _meets(touch[who], (x * nx + y * ny + z * nz) / size, creep)
                    out[t, i, j, k] = _bent(about, room, wall, angle, a, b)


def _thin_of(solids: Solids) -> tuple[np.ndarray, ...]:
    thin = solids.thin
    return thin.corner, thin.body, thin.slot, thin.start, thin.listed, thin.hidden


def curvature(phi: np.ndarray, solids: Solids, velocity: list[np.ndarray], creep: float) -> np.ndarray:
    """Sum of both curvatures (1/voxel) at cells beside the surface, that of a drop positive; else not a number.

    Where the surface ends on a solid it is bent so that it does so with the solid's contact angle: the advancing one
    where it moves on over it, the receding one where it draws back.

    Parameters
    ----------
    phi : level set, voxels, on the tiles of `solids`
    velocity : face velocities, voxels/s
    creep : voxels/s below which a line neither moves on nor draws back
    """
    tiles = solids.tiles
    out = tiles.field(np.nan)
    walls = (solids.own, solids.phi, solids.owner, solids.motion, solids.touch)
    _curvature(tiles.first, tiles.where, phi, *walls, *_thin_of(solids), *velocity, creep, out)
    tiles.wrap(out)
    return out


@shared
def _softened(first, where, bent, share, slot, hidden, out):
    for t in prange(1, first.shape[0]):
        block = np.empty((10, 10, 10), np.float32)
        load(bent, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    own = block[i + 1, j + 1, k + 1]
                    if own != own:
                        continue
                    total, weight = np.float32(0.0), np.float32(0.0)
                    mask = np.uint64(hidden[slot[t], i, j, k]) if slot[t] >= 0 else np.uint64(0)
                    for p in range(3):
                        for q in range(3):
                            for r in range(3):
                                value = block[i + p, j + q, k + r]
                                if value == value and seen_cell(mask, 9 * p + 3 * q + r):
                                    w = np.float32((1 + (p == 1)) * (1 + (q == 1)) * (1 + (r == 1)))
                                    total, weight = total + w * value, weight + w
                    out[t, i, j, k] = own + share * (total / weight - own)


def softened(bent: np.ndarray, softening: Softening, solids: Solids) -> np.ndarray:
    """Curvatures sharper or softer along the surface, by means over neighbours with binomial weights."""
    tiles = solids.tiles
    shares = [np.float32(-softening.sharper)] if softening.sharper > 0 else [np.float32(1.0)] * softening.times
    for share in shares:
        out = tiles.field(np.nan)
        _softened(tiles.first, tiles.where, bent, share, solids.thin.slot, solids.thin.hidden, out)
        tiles.wrap(out)
        bent = out
    return bent


@dataclass(frozen=True)
class Softening:
    """What is done to curvatures so that a step can follow the surface's ripples.

    Ripples of k (1/voxel) go w^2 = s k^3 with s = sigma / (rho dx^3); kicks 2 dt apart follow them up to w dt = 1 (as
    every scheme does that takes turns with positions). The level set and the paraboloids blur the surface like a
    Gaussian of variance `SEEN`, so that the fastest ones are at k = sqrt(3 / variance). In short steps the blur is made
    up for, to second order; in long ones each softening adds to it. So a step may be as long as one likes: what is too
    short for it to be followed has its tension later.

    Attributes
    ----------
    sharper : times what a softening takes away, given back once more
    times : softenings
    share : of the tension that can act
    """

    sharper: float
    times: int
    share: float

    @staticmethod
    def of(stiffness: float) -> Softening:
        """For a step of which s dt^2 is known."""
        needed = (2.0 * FASTEST * stiffness) ** (2.0 / 3.0)
        times = int(min(max(np.ceil((needed - SEEN) / SOFTER), 0), MOST_SOFTENINGS))
        able = ((SEEN + SOFTER * MOST_SOFTENINGS) / max(needed, 1e-9)) ** 1.5
        sharper = SEEN / SOFTER * min(max((EVEN - stiffness) / (EVEN - SHARP), 0.0), 1.0)
        return Softening(sharper, times, float(min(able, 1.0)))

    @property
    def width(self) -> float:
        """Voxels over which curvatures are means: twice the Gaussian's standard deviation; at least one."""
        return float(max(2.0 * np.sqrt(SEEN - SOFTER * self.sharper + SOFTER * self.times), 1.0))


def creep(stiffness: float) -> float:
    """Voxels a substep below which a line on a solid rests: as much as its contact angle's pull can give it in one."""
    return max(float(stiffness), SLOWEST)


def adhesion(solids: Solids) -> np.ndarray:
    """Pull that each body's rows, and last the walls, bear before liquid parts from them, of sigma over a voxel.

    To part it makes a surface of its own and leaves a dry wall, against the work sigma (1 + cos of the contact angle)
    for each area (Dupre 1869); air can come between only in places as wide as a voxel.
    """
    return np.asarray(1.0 + np.cos(solids.touch[:, RECEDING]))
