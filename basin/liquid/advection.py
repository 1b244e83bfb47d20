"""Moves particles: third-order Runge-Kutta through the grid's velocity, kept out of solids."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.lanes import AHEAD, CONTRACT, prefetch
from basin.grid.layout import PAD
from basin.grid.tiles import all_within, at, gradient, load, row_of, sample, sample_velocity, value_in, velocity_in
from basin.kernels import kernel, shared
from basin.liquid.particles import Particles, V, X
from basin.liquid.solids import FAR as SOLIDS_FAR
from basin.liquid.solids import velocity_of
from basin.liquid.sorting import Arranged, Tiling
from basin.liquid.thin import seen_velocity

CLEARANCE = 0.02  # voxels that particles keep from solids
LEAP = np.float32(2.0)  # voxels: longest of them, since far from a mesh its distance is too large
STRIDE = np.float32(0.35)  # voxels between looks along a path near a solid
RIM = 3  # cells about a tile that its block holds: enough for moves of two voxels
BLOCK = 8 + 2 * RIM
TOUCH = np.float32(0.5 * CLEARANCE)  # nearer than that, a path has met the solid
SUNK = np.float32(-0.1)  # voxels inside a solid that a path may graze
HALF_TOUCH = np.float32(0.25 * CLEARANCE)
MOST_BENDS = 4
FARTHEST_OUT = np.float32(4.0)  # voxels that a path is pushed by one solid: what swallows all at once lets go slowly
FARTHEST = 10  # voxels: no particle comes farther in a substep, by flow, spacing and walls together
NARROW = 1.5  # voxels between two walls of the domain


@kernel(inline="always")
def sampled(line, within, u, v, w, where, i0, j0, k0, x, y, z):
    """Velocity at a place: from the tile's block of `BLOCK` cells a side that begins at a cell, or beyond it through
    the index, unless all is known to lie within."""
    px, py, pz = x - np.float32(i0), y - np.float32(j0), z - np.float32(k0)
    if not within:
        h, most = np.float32(0.5), np.float32(BLOCK - 1)
        if px < h or py < h or pz < h or px >= most or py >= most or pz >= most or px != px:
            return sample_velocity(u, v, w, where, x, y, z)
    return velocity_in(line, BLOCK, px, py, pz)


@shared(fastmath=CONTRACT)
def _advance(tile_start, first, record, u, v, w, where, dt, farthest, ballistic, hidden, start):
    # Ralston's third-order method: the field is frozen over the substep, so the order is that of
    # the path through it.
    h = np.float32(dt)
    masked = hidden.shape[0] > 0
    for t in prange(first.shape[0]):
        block = np.empty((3, BLOCK, BLOCK, BLOCK), np.float32)
        i0, j0, k0 = first[t, 0] - RIM, first[t, 1] - RIM, first[t, 2] - RIM
        load(u, where, i0, j0, k0, block[0])
        load(v, where, i0, j0, k0, block[1])
        load(w, where, i0, j0, k0, block[2])
        line = block.reshape(3 * BLOCK**3)
        within = all_within(line, np.float32(RIM - 1.0) / h)
        for index in range(tile_start[t], tile_start[t + 1]):
            p = np.uint64(index)
            prefetch(record, p + np.uint64(AHEAD))
            x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
            if ballistic[p]:
                mx, my, mz = h * record[p, V], h * record[p, V + 1], h * record[p, V + 2]
            elif masked and hidden[p] != 0:
                # straight on: what it sees from elsewhere is not known
                px, py, pz = x - np.float32(i0), y - np.float32(j0), z - np.float32(k0)
                a = seen_velocity(line, BLOCK, px, py, pz, hidden[p])
                mx, my, mz = h * a[0], h * a[1], h * a[2]
            else:
                a = sampled(line, within, u, v, w, where, i0, j0, k0, x, y, z)
                s = h * np.float32(0.5)
                b = sampled(line, within, u, v, w, where, i0, j0, k0, x + s * a[0], y + s * a[1], z + s * a[2])
                s = h * np.float32(0.75)
                c = sampled(line, within, u, v, w, where, i0, j0, k0, x + s * b[0], y + s * b[1], z + s * b[2])
                s = h / np.float32(9.0)
                mx = s * (np.float32(2.0) * a[0] + np.float32(3.0) * b[0] + np.float32(4.0) * c[0])
                my = s * (np.float32(2.0) * a[1] + np.float32(3.0) * b[1] + np.float32(4.0) * c[1])
                mz = s * (np.float32(2.0) * a[2] + np.float32(3.0) * b[2] + np.float32(4.0) * c[2])
            length = np.sqrt(mx * mx + my * my + mz * mz)
            held = farthest / length if length > farthest else np.float32(1.0)
            start[p, 0], start[p, 1], start[p, 2] = x, y, z
            record[p, X], record[p, X + 1], record[p, X + 2] = x + held * mx, y + held * my, z + held * mz


@kernel(inline="always")
def _distance(line, phi, where, i0, j0, k0, x, y, z):
    """Node distance at a place: from the tile's block, or beyond it through the index."""
    zero, most = np.float32(0.0), np.float32(BLOCK - 1)
    px, py, pz = x - np.float32(i0), y - np.float32(j0), z - np.float32(k0)
    if px < zero or py < zero or pz < zero or px >= most or py >= most or pz >= most or px != px:
        return sample(phi, where, x, y, z)
    return value_in(line, BLOCK, px, py, pz)


@kernel(parallel=True)
def _near_solids(phi, first, where, near):
    """Which tiles have a solid within their own or their neighbours' distances, by row."""
    some = np.zeros(phi.shape[0], np.bool_)
    for t in prange(1, phi.shape[0]):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    some[t] |= phi[t, i, j, k] < SOLIDS_FAR
    for t in prange(1, phi.shape[0]):
        for i in range(-8, 9, 8):
            for j in range(-8, 9, 8):
                for k in range(-8, 9, 8):
                    near[t] |= some[row_of(where, first[t, 0] + i, first[t, 1] + j, first[t, 2] + k)]


@kernel(inline="always")
def _opposed(a, b):
    """Whether two normals belong to opposite sides of a wall."""
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2] < np.float32(-0.3)


@kernel
def _pushed_out(line, phi, where, i0, j0, k0, x, y, z):
    """The place outside solids that following the distance leads to, or on the way there."""
    left = FARTHEST_OUT
    for _ in range(6):
        d = _distance(line, phi, where, i0, j0, k0, x, y, z)
        if d >= TOUCH or left <= np.float32(0.0):
            break
        g = gradient(phi, where, x, y, z)
        push = min(np.float32(CLEARANCE - d), left)
        left -= push
        x, y, z = x + push * g[0], y + push * g[1], z + push * g[2]
    return x, y, z


@shared
def _keep_out(
    tile_start, first, number, near, start, record, where, phi, owner, motion, ballistic, friction, dt, narrow
):
    for t in prange(number.shape[0]):
        if not near[number[t]]:
            continue
        block = np.empty((BLOCK, BLOCK, BLOCK), np.float32)
        i0, j0, k0 = first[t, 0] - RIM, first[t, 1] - RIM, first[t, 2] - RIM
        load(phi, where, i0, j0, k0, block)
        line = block.reshape(BLOCK**3)
        for p in range(tile_start[t], tile_start[t + 1]):
            x0, y0, z0 = start[p, 0], start[p, 1], start[p, 2]
            dx, dy, dz = record[p, X] - x0, record[p, X + 1] - y0, record[p, X + 2] - z0
            length = np.sqrt(dx * dx + dy * dy + dz * dz)
            d = _distance(line, phi, where, i0, j0, k0, x0, y0, z0)
            if d > length + np.float32(1.0):
                continue
            hit = d < TOUCH
            x, y, z = x0, y0, z0
            if hit:
                x, y, z = _pushed_out(line, phi, where, i0, j0, k0, x, y, z)
                d = _distance(line, phi, where, i0, j0, k0, x, y, z)
                if narrow and SUNK < d < HALF_TOUCH:
                    continue  # between walls a voxel apart the distances know no room: nothing to go by
                d = np.float32(CLEARANCE)
            # Walk the path, as far at a time as the distance allows. Where it sinks into a solid, or comes
            # out of one whose far side it is, it goes on from the last place outside along the wall: so
            # even a wall a voxel thick, whose inside the node distances hardly know, is not passed. What
            # only grazes is let through, since distances dip where two solids meet.
            for _ in range(MOST_BENDS):
                length = np.sqrt(dx * dx + dy * dy + dz * dz)
                if not length > np.float32(1e-5):
                    break
                gone, gone_out, inside, met = np.float32(0.0), np.float32(0.0), False, False
                ox, oy, oz, out = x, y, z, d
                normal = (np.float32(0.0), np.float32(0.0), np.float32(0.0))
                while gone < length:
                    step = min(min(max(d - STRIDE, STRIDE), LEAP), length - gone)
                    f = step / length
                    nx, ny, nz = x + f * dx, y + f * dy, z + f * dz
                    ahead = _distance(line, phi, where, i0, j0, k0, nx, ny, nz)
                    if ahead < TOUCH:
                        if not inside:
                            inside = True
                            ox, oy, oz, out, gone_out = x, y, z, d, gone
                            normal = gradient(phi, where, x, y, z)
                        if ahead < SUNK:
                            met = True
                            break
                    elif inside:
                        if _opposed(normal, gradient(phi, where, nx, ny, nz)):
                            met = True
                            break
                        inside = False
                    x, y, z, d = nx, ny, nz, ahead
                    gone += step
                if inside and not met:
                    nx, ny, nz = _pushed_out(line, phi, where, i0, j0, k0, x, y, z)
                    d = _distance(line, phi, where, i0, j0, k0, nx, ny, nz)
                    met = d < HALF_TOUCH or _opposed(normal, gradient(phi, where, nx, ny, nz))
                    x, y, z = nx, ny, nz
                hit |= inside
                if not met:
                    break
                x, y, z, d = ox, oy, oz, out
                left = np.float32(1.0) - gone_out / length
                dx, dy, dz = left * dx, left * dy, left * dz
                into = dx * normal[0] + dy * normal[1] + dz * normal[2]
                if into >= np.float32(0.0):
                    break
                dx, dy, dz = dx - into * normal[0], dy - into * normal[1], dz - into * normal[2]
            record[p, X], record[p, X + 1], record[p, X + 2] = x, y, z
            if hit and ballistic[p]:
                g = gradient(phi, where, x, y, z)
                who = at(owner, where, int(x + 0.5), int(y + 0.5), int(z + 0.5))
                s0, s1, s2 = velocity_of(motion, who, x, y, z)
                r0, r1, r2 = record[p, V] - s0, record[p, V + 1] - s1, record[p, V + 2] - s2
                normal = min(r0 * g[0] + r1 * g[1] + r2 * g[2], 0.0)
                keep = 1.0 - friction
                record[p, V] = s0 + keep * (r0 - normal * g[0])
                record[p, V + 1] = s1 + keep * (r1 - normal * g[1])
                record[p, V + 2] = s2 + keep * (r2 - normal * g[2])
                # where two solids meet no one direction tells what stopped it: it is no faster than it has come
                mx, my, mz = x - x0, y - y0, z - z0
                came = np.sqrt(mx * mx + my * my + mz * mz) / dt
                speed = np.sqrt(record[p, V] ** 2 + record[p, V + 1] ** 2 + record[p, V + 2] ** 2)
                if came < np.float32(0.5) * speed:
                    record[p, V], record[p, V + 1], record[p, V + 2] = mx / dt, my / dt, mz / dt


def advance(
    at_hand: Arranged, velocity: list[np.ndarray], dt: float, farthest: float, ballistic: np.ndarray
) -> np.ndarray:
    """Move particles along the flow for `dt` liquid seconds, in place, before walls are heeded.

    No move is longer than `farthest` voxels. Returns the positions (n, 3) from which they came.
    """
    tiling, record, where = at_hand.tiling, at_hand.particles.record, at_hand.tiles.where
    start = np.empty((len(record), 3), np.float32)
    reach = np.float32(farthest)
    _advance(tiling.start, tiling.first, record, *velocity, where, dt, reach, ballistic, at_hand.hidden, start)
    return start


@dataclass(frozen=True)
class Walls:
    """Solids as paths meet them at a moment: distances at nodes, whose they are, and how those move."""

    phi: np.ndarray
    owner: np.ndarray
    motion: np.ndarray


def keep_out(
    at_hand: Arranged, start: np.ndarray, walls: Walls, ballistic: np.ndarray, friction: float, dt: float
) -> None:
    """Stop paths from `start` at solids and push particles out of them, in place."""
    tiling, tiles, phi = at_hand.tiling, at_hand.tiles, walls.phi
    near = np.zeros(len(phi), bool)
    _near_solids(phi, tiles.first, tiles.where, near)
    layout = tiles.layout
    narrow = bool((layout.closed.all(axis=1) & (layout.wall_high - layout.wall_low < NARROW)).any())
    paths = (tiles.rows(tiling.number), near, start, at_hand.particles.record)
    solids = (tiles.where, phi, walls.owner, walls.motion)
    _keep_out(tiling.start, tiling.first, *paths, *solids, ballistic, friction, np.float32(dt), narrow)


@kernel(parallel=True)
def _settle(chosen, start, record, low, high, inner, periodic, closed, leaves, gone):
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        for p in range(start[t], start[t + 1]):
            for d in range(3):
                x = record[p, d]
                if periodic[d]:
                    x -= np.float32(np.floor((x - np.float32(PAD)) / inner[d]) * inner[d])
                    if not x < high[d]:
                        x = low[d]
                    record[p, d] = x
                    continue
                # a solid wall cannot be passed; what numerical pushing left beyond goes back onto it
                if x < low[d]:
                    if closed[d, 0]:
                        record[p, d] = low[d] + np.float32(CLEARANCE)
                    else:
                        leaves[p] = True
                elif x > high[d]:
                    if closed[d, 1]:
                        record[p, d] = high[d] - np.float32(CLEARANCE)
                    else:
                        leaves[p] = True
                elif x != x:
                    leaves[p] = True
            if leaves[p]:
                gone[n] = 1


def wrapped_and_drained(particles: Particles, tiling: Tiling, discard: float = 0.0) -> tuple[Particles, float]:
    """Wrap periodic axes and drop what left through open walls, or came as near to one as `discard` voxels.

    Returns the volume lost (voxels^3) too.
    """
    layout = tiling.layout
    reach = FARTHEST + discard
    beside = (tiling.low < PAD + reach) | (tiling.high > layout.wall_high - reach)
    chosen = np.flatnonzero(beside.any(axis=1))
    leaves, gone = np.zeros(len(particles), bool), np.zeros(len(chosen), np.uint8)
    inner = np.array(layout.inner, np.float32)
    kept = np.where(layout.closed | layout.periodic[:, None], 0.0, discard).astype(np.float32)
    low, high = layout.wall_low + kept[:, 0], layout.wall_high - kept[:, 1]
    walls = (low, high, inner, layout.periodic, layout.closed)
    _settle(chosen, tiling.start, particles.record, *walls, leaves, gone)
    if not gone.any():
        return particles, 0.0
    return particles.taken(~leaves), float(particles.volume[leaves].sum(dtype=np.float64))
