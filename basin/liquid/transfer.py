"""Velocities between particles and the staggered grid: affine particle-in-cell with a FLIP share.

Jiang, Schroeder, Selle, Teran & Stomakhin 2015 (APIC); Zhu & Bridson 2005 (FLIP). The FLIP share
adds back the part of each particle's own velocity that the grid cannot carry. Each tile's particles
scatter into, and gather from, a small block of the tile with a rim of one cell.
"""

from __future__ import annotations

import numpy as np
from numba import get_num_threads, get_thread_id, prange

from basin.grid.lanes import AHEAD, CONTRACT, add_to_corners, prefetch
from basin.grid.tiles import WITHIN, Tiles, load, row_of
from basin.kernels import kernel, shared
from basin.liquid.particles import C, M, Particles, V, X
from basin.liquid.sorting import EVERYTHING_SEEN, Arranged, Tiling
from basin.liquid.thin import seen_face, seen_value

LIGHTEST = np.float32(1e-9)  # voxels^3: faces with less mass carry no velocity
# A change of velocity up to the first share of itself is turning flow, and is reflected; beyond the second one it
# is an impact: thrown back, the liquid would leave it faster than it came.
TURNING, IMPACT = np.float32(0.25), np.float32(0.5)
CELLS = 9  # per axis, from whose low corners a tile's particles reach faces


@kernel
def _reduce(corners, touched, where, i0, j0, k0, momentum, mass):
    """Add a tile's sums by corner to the fields, row after row."""
    for i in range(CELLS):
        for j in range(CELLS):
            row = np.uint64((i * CELLS + j) * CELLS)
            some = False
            for k in range(CELLS):
                some |= touched[row + np.uint64(k)] > 0
            if not some:
                continue
            for q in range(4):
                gi, gj = i0 + i + (q >> 1), j0 + j + (q & 1)
                a, b = np.uint64(gi & 7), np.uint64(gj & 7)
                low, high = np.uint64(2 * q), np.uint64(2 * q + 1)
                for k in range(CELLS + 1):
                    gk = k0 + k
                    t = row_of(where, gi, gj, gk)
                    if t == 0:
                        continue
                    m, v = np.float32(0.0), np.float32(0.0)
                    if k < CELLS:
                        n = row + np.uint64(k)
                        v, m = corners[n, low], corners[n, low + np.uint64(8)]
                    if k > 0:
                        n = row + np.uint64(k - 1)
                        v, m = v + corners[n, high], m + corners[n, high + np.uint64(8)]
                    c = np.uint64(gk & 7)
                    momentum[t, a, b, c] += v
                    mass[t, a, b, c] += m


@kernel(inline="always")
def _share(corners, touched, x, y, z, m, own, cx, cy, cz):
    """A particle's share of one component at the corners of its cell among that component's faces."""
    n = np.uint64(CELLS)
    i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    cell = (i * n + j) * n + k
    touched[cell] = 1
    add_to_corners(corners, cell, m, a, b, c, own - cx * a - cy * b - cz * c, cx, cy, cz)


@kernel
def _share_seen(corners, touched, x, y, z, m, own, cx, cy, cz, axis, mask):
    """The same for a particle that does not see all of them; those that it sees take the others' part."""
    i, j, k = int(x), int(y), int(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    weight = np.zeros(8, np.float32)
    for q in range(8):
        if seen_face(mask, axis, q):
            wx, wy, wz = a if q >> 2 else 1 - a, b if (q >> 1) & 1 else 1 - b, c if q & 1 else 1 - c
            weight[q] = wx * wy * wz
    total = weight.sum()
    if total <= np.float32(1e-6):
        return
    cell = (i * CELLS + j) * CELLS + k
    touched[cell] = 1
    for q in range(8):
        part = m * weight[q] / total
        speed = own + cx * ((q >> 2) - a) + cy * (((q >> 1) & 1) - b) + cz * ((q & 1) - c)
        corners[cell, q] += part * speed
        corners[cell, q + 8] += part


@kernel(parallel=True, fastmath=CONTRACT)
def _scatter(chosen, start, first, where, record, hidden, scratch, marks, u, v, w, mu, mv, mw):
    # One tile a task; tiles of one colour are 8 cells apart and a particle reaches one cell beyond
    # its tile, so no two tasks write the same face and the order within a tile fixes the bits. A
    # cell's eight corners lie side by side, momentum then mass: one cache line, added to in vectors.
    h = np.float32(0.5)
    masked = hidden.shape[0] > 0
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        corners, touched = scratch[get_thread_id()], marks[get_thread_id()]
        corners[:] = 0.0
        touched[:] = 0
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        fx, fy, fz = np.float32(i0), np.float32(j0), np.float32(k0)
        for index in range(start[t], start[t + 1]):
            p = np.uint64(index)
            prefetch(record, p + np.uint64(AHEAD))
            x = min(record[p, X] - fx, WITHIN)
            y = min(record[p, X + 1] - fy, WITHIN)
            z = min(record[p, X + 2] - fz, WITHIN)
            m = record[p, M]
            own = record[p, V], record[p, V + 1], record[p, V + 2]
            if masked and hidden[p] != 0:
                for d in range(3):
                    sx, sy, sz = h if d != 0 else 0 * h, h if d != 1 else 0 * h, h if d != 2 else 0 * h
                    place = (corners[d], touched[d], x - sx, y - sy, z - sz, m, record[p, V + d])
                    e = C + 3 * d
                    _share_seen(*place, record[p, e], record[p, e + 1], record[p, e + 2], d, hidden[p])
                continue
            a = record[p, C], record[p, C + 1], record[p, C + 2]
            _share(corners[0], touched[0], x, y - h, z - h, m, own[0], a[0], a[1], a[2])
            a = record[p, C + 3], record[p, C + 4], record[p, C + 5]
            _share(corners[1], touched[1], x - h, y, z - h, m, own[1], a[0], a[1], a[2])
            a = record[p, C + 6], record[p, C + 7], record[p, C + 8]
            _share(corners[2], touched[2], x - h, y - h, z, m, own[2], a[0], a[1], a[2])
        _reduce(corners[0], touched[0], where, i0, j0, k0, u, mu)
        _reduce(corners[1], touched[1], where, i0, j0, k0, v, mv)
        _reduce(corners[2], touched[2], where, i0, j0, k0, w, mw)


@kernel(parallel=True)
def _divide(momentum, mass):
    for t in prange(momentum.shape[0]):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    m = mass[t, i, j, k]
                    momentum[t, i, j, k] = momentum[t, i, j, k] / m if m > LIGHTEST else np.float32(0.0)


def to_grid(
    particles: Particles, tiling: Tiling, tiles: Tiles, hidden: np.ndarray = EVERYTHING_SEEN
) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Mass-weighted face velocities (voxels/s) and face masses (voxels^3), each [u, v, w] on `tiles`.

    Parameters
    ----------
    hidden : what particles do not see for thin walls (`basin.liquid.thin.unseen`)
    """
    velocity = [tiles.field() for _ in range(3)]
    mass = [tiles.field() for _ in range(3)]
    scratch = np.empty((get_num_threads(), 3, CELLS**3, 16), np.float32)
    marks = np.empty((get_num_threads(), 3, CELLS**3), np.uint8)
    for chosen in tiling.colours:
        if len(chosen):
            place = (chosen, tiling.start, tiling.first, tiles.where)
            _scatter(*place, particles.record, hidden, scratch, marks, *velocity, *mass)
    tiles.fold(*velocity, *mass)
    for axis in range(3):
        _divide(velocity[axis], mass[axis])
    return velocity, mass


@kernel(inline="always")
def _inside(line, offset, x, y, z):
    """Trilinear value and gradient in the block of 10^3 that begins at an offset of a line, at index coordinates."""
    u, w, v = np.uint64(1), np.uint64(10), np.uint64(100)
    i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    p = np.uint64(offset) + i * v + j * w + k
    f00, f01, f10, f11 = line[p], line[p + w], line[p + v], line[p + v + w]
    d00, d01 = line[p + u] - f00, line[p + w + u] - f01
    d10, d11 = line[p + v + u] - f10, line[p + v + w + u] - f11
    f00, f01, f10, f11 = f00 + c * d00, f01 + c * d01, f10 + c * d10, f11 + c * d11
    e0, e1 = d00 + b * (d01 - d00), d10 + b * (d11 - d10)
    g0, g1 = f01 - f00, f11 - f10
    v0, v1 = f00 + b * g0, f10 + b * g1
    return v0 + a * (v1 - v0), v1 - v0, g0 + a * (g1 - g0), e0 + a * (e1 - e0)


@kernel(inline="always")
def _velocity_and_gradient(line, x, y, z):
    """The three components, each with its gradient, in three blocks that lie in a line."""
    h = np.float32(0.5)
    return (
        _inside(line, 0, x, y - h, z - h),
        _inside(line, 1000, x - h, y, z - h),
        _inside(line, 2000, x - h, y - h, z),
    )


@kernel(inline="always")
def mirrored(x, y, z, x0, y0, z0):
    """How much of the projection's change from one velocity to another is taken once more: 1 in smooth flow, 0 in an
    impact."""
    a, b, c = x - x0, y - y0, z - z0
    share = np.sqrt((a * a + b * b + c * c) / (x * x + y * y + z * z + np.float32(1e-12)))
    return min(max((IMPACT - share) / (IMPACT - TURNING), np.float32(0.0)), np.float32(1.0))


@kernel(inline="always")
def _keep(record, p, d, now, was, again, flip):
    """A particle's component and its gradient: the grid's, its change once more, and a share of its own."""
    own, row = np.uint64(V + d), np.uint64(C + 3 * d)
    record[p, own] = now[0] + again * (now[0] - was[0]) + flip * (record[p, own] - was[0])
    record[p, row] = now[1] + again * (now[1] - was[1])
    record[p, row + np.uint64(1)] = now[2] + again * (now[2] - was[2])
    record[p, row + np.uint64(2)] = now[3] + again * (now[3] - was[3])


@kernel
def _gather_seen(record, p, fx, fy, fz, new, held, flip, mask):
    """The same for a particle that does not see all faces; beside thin walls nothing is reflected."""
    x, y, z = record[p, X] - fx, record[p, X + 1] - fy, record[p, X + 2] - fz
    h = np.float32(0.5)
    for d in range(3):
        px, py, pz = x if d == 0 else x - h, y if d == 1 else y - h, z if d == 2 else z - h
        now = seen_value(new, 1000 * d, 10, px, py, pz, d, mask)
        if now[0]:
            was = seen_value(held, 1000 * d, 10, px, py, pz, d, mask)
            record[p, V + d] = now[1] + flip * (record[p, V + d] - was[1])
            record[p, C + 3 * d], record[p, C + 3 * d + 1], record[p, C + 3 * d + 2] = now[2], now[3], now[4]


@kernel(fastmath=CONTRACT)
def _gather_tile(begin, end, record, fx, fy, fz, new, held, held_too, flip, ballistic, hidden, kick, reflects):
    """The particles of one tile; returns the square of the largest speed."""
    fastest = np.float32(0.0)
    masked = hidden.shape[0] > 0
    for index in range(begin, end):
        p = np.uint64(index)
        prefetch(record, p + np.uint64(AHEAD))
        if ballistic[p]:
            for d in range(3):
                record[p, V + d] += kick[d]
            for d in range(9):
                record[p, C + d] = 0.0
        elif masked and hidden[p] != 0:
            _gather_seen(record, p, fx, fy, fz, new, held if held_too else new, flip, hidden[p])
        else:
            x = min(record[p, X] - fx, WITHIN)
            y = min(record[p, X + 1] - fy, WITHIN)
            z = min(record[p, X + 2] - fz, WITHIN)
            now = _velocity_and_gradient(new, x, y, z)
            was, again = now, np.float32(0.0)
            if held_too:
                was = _velocity_and_gradient(held, x, y, z)
                if reflects:
                    again = mirrored(now[0][0], now[1][0], now[2][0], was[0][0], was[1][0], was[2][0])
            _keep(record, p, 0, now[0], was[0], again, flip)
            _keep(record, p, 1, now[1], was[1], again, flip)
            _keep(record, p, 2, now[2], was[2], again, flip)
        a, b, c = record[p, V], record[p, V + 1], record[p, V + 2]
        speed = a * a + b * b + c * c
        if not speed <= fastest and fastest == fastest:  # what is not a number comes through, and stays
            fastest = speed
    return fastest


@shared
def _gather(start, first, where, record, u, v, w, u0, v0, w0, flip, ballistic, hidden, kick, reflects, most):
    held_too = flip > 0.0 or reflects
    for t in prange(first.shape[0]):
        after = np.empty((3, 10, 10, 10), np.float32)
        before = np.empty((3, 10, 10, 10), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(u, where, i0, j0, k0, after[0])
        load(v, where, i0, j0, k0, after[1])
        load(w, where, i0, j0, k0, after[2])
        if held_too:
            load(u0, where, i0, j0, k0, before[0])
            load(v0, where, i0, j0, k0, before[1])
            load(w0, where, i0, j0, k0, before[2])
        fx, fy, fz = np.float32(i0), np.float32(j0), np.float32(k0)
        lines = (after.reshape(3000), before.reshape(3000))
        own = (start[t], start[t + 1], record, fx, fy, fz)
        most[t] = _gather_tile(*own, *lines, held_too, flip, ballistic, hidden, kick, reflects)


def to_particles(
    at_hand: Arranged,
    after: list[np.ndarray],
    before: list[np.ndarray],
    flip_share: float,
    ballistic: np.ndarray,
    kick: np.ndarray,
    reflects: bool = False,
) -> float:
    """Velocity and affine matrix of every particle, in place; returns the largest speed (voxels/s).

    Parameters
    ----------
    after, before : face velocities [u, v, w] after the projection and as first transferred.
    ballistic : bool (n,), particles with no liquid around them, which only feel `kick` (3,).
    reflects : take the change that the projection made twice, but for impacts.
    """
    tiling = at_hand.tiling
    most = np.zeros(len(tiling.number), np.float32)
    places = (tiling.start, tiling.first, at_hand.tiles.where, at_hand.particles.record)
    change = (np.float32(flip_share), ballistic, at_hand.hidden, kick.astype(np.float32), reflects)
    _gather(*places, *after, *before, *change, most)
    return float(np.sqrt(most.max())) if len(most) else 0.0
