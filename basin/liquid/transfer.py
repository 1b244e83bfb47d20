"""Velocities between particles and the staggered grid: affine particle-in-cell with a FLIP share.

Jiang, Schroeder, Selle, Teran & Stomakhin 2015 (APIC); Zhu & Bridson 2005 (FLIP). The FLIP share
adds back the part of each particle's own velocity that the grid cannot carry. Each tile's particles
scatter into, and gather from, a small block of the tile with a rim of one cell.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from basin.grid.lanes import add_to_corners
from basin.grid.tiles import WITHIN, Tiles, load, row_of
from basin.liquid.particles import Particles
from basin.liquid.sorting import Tiling

LIGHTEST = np.float32(1e-9)  # voxels^3: faces with less mass carry no velocity
# A change of velocity up to the first share of itself is turning flow, and is reflected; beyond the second one it
# is an impact: thrown back, the liquid would leave it faster than it came.
TURNING, IMPACT = np.float32(0.25), np.float32(0.5)
CELLS = 9  # per axis, from whose low corners a tile's particles reach faces


@njit(cache=True)
def _reduce(corners, touched, where, i0, j0, k0, momentum, mass):
    """Add a tile's sums by corner to the fields, cell after cell."""
    for n in range(CELLS**3):
        if not touched[n]:
            continue
        i, j, k = i0 + n // (CELLS * CELLS), j0 + n // CELLS % CELLS, k0 + n % CELLS
        for q in range(8):
            gi, gj, gk = i + (q >> 2), j + ((q >> 1) & 1), k + (q & 1)
            t = row_of(where, gi, gj, gk)
            if t > 0:
                momentum[t, np.uint64(gi & 7), np.uint64(gj & 7), np.uint64(gk & 7)] += corners[n, q]
                mass[t, np.uint64(gi & 7), np.uint64(gj & 7), np.uint64(gk & 7)] += corners[n, q + 8]


@njit(cache=True, parallel=True)
def _scatter(axis, chosen, start, first, where, position, velocity, affine, volume, momentum, mass):
    # One tile a task; tiles of one colour are 8 cells apart and a particle reaches one cell beyond
    # its tile, so no two tasks write the same face and the order within a tile fixes the bits. A
    # cell's eight corners lie side by side, momentum then mass: one cache line, added to in vectors.
    sx = np.float32(0.0 if axis == 0 else 0.5)
    sy = np.float32(0.0 if axis == 1 else 0.5)
    sz = np.float32(0.0 if axis == 2 else 0.5)
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        corners = np.zeros((CELLS**3, 16), np.float32)
        touched = np.zeros(CELLS**3, np.uint8)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        for p in range(start[t], start[t + 1]):
            m = volume[p]
            x = min(position[p, 0] - np.float32(i0), WITHIN) - sx
            y = min(position[p, 1] - np.float32(j0), WITHIN) - sy
            z = min(position[p, 2] - np.float32(k0), WITHIN) - sz
            i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
            a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
            cx, cy, cz = affine[p, axis, 0], affine[p, axis, 1], affine[p, axis, 2]
            base = velocity[p, axis] - cx * a - cy * b - cz * c
            cell = (i * np.uint64(CELLS) + j) * np.uint64(CELLS) + k
            touched[cell] = 1
            add_to_corners(corners, cell, m, a, b, c, base, cx, cy, cz)
        _reduce(corners, touched, where, i0, j0, k0, momentum, mass)


@njit(cache=True, parallel=True)
def _divide(momentum, mass):
    for t in prange(momentum.shape[0]):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    m = mass[t, i, j, k]
                    momentum[t, i, j, k] = momentum[t, i, j, k] / m if m > LIGHTEST else np.float32(0.0)


def to_grid(particles: Particles, tiling: Tiling, tiles: Tiles) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Mass-weighted face velocities (voxels/s) and face masses (voxels^3), each [u, v, w] on `tiles`."""
    velocity = [tiles.field() for _ in range(3)]
    mass = [tiles.field() for _ in range(3)]
    p = particles
    own = (p.position, p.velocity, p.affine, p.volume)
    for chosen in tiling.colours:
        if len(chosen):
            for axis in range(3):
                place = (axis, chosen, tiling.start, tiling.first, tiles.where)
                _scatter(*place, *own, velocity[axis], mass[axis])
    tiles.fold(*velocity, *mass)
    for axis in range(3):
        _divide(velocity[axis], mass[axis])
    return velocity, mass


@njit(cache=True, inline="always")
def _inside(line, axis, x, y, z):
    """Trilinear value and gradient in the axis' block of 10^3 of a line of three, at its own index coordinates."""
    u, w, v = np.uint64(1), np.uint64(10), np.uint64(100)
    i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    p = np.uint64(axis * 1000) + i * v + j * w + k
    f00, f01, f10, f11 = line[p], line[p + w], line[p + v], line[p + v + w]
    d00, d01 = line[p + u] - f00, line[p + w + u] - f01
    d10, d11 = line[p + v + u] - f10, line[p + v + w + u] - f11
    f00, f01, f10, f11 = f00 + c * d00, f01 + c * d01, f10 + c * d10, f11 + c * d11
    e0, e1 = d00 + b * (d01 - d00), d10 + b * (d11 - d10)
    g0, g1 = f01 - f00, f11 - f10
    v0, v1 = f00 + b * g0, f10 + b * g1
    return v0 + a * (v1 - v0), v1 - v0, g0 + a * (g1 - g0), e0 + a * (e1 - e0)


@njit(cache=True, inline="always")
def _mirrored(now, was):
    """How much of the projection's change is taken once more: 1 in smooth flow, 0 in an impact."""
    change, speed = np.float32(0.0), np.float32(1e-12)
    for axis in range(3):
        change += (now[axis, 0] - was[axis, 0]) ** 2
        speed += now[axis, 0] ** 2
    share = np.sqrt(change / speed)
    return min(max((IMPACT - share) / (IMPACT - TURNING), np.float32(0.0)), np.float32(1.0))


@njit(cache=True, parallel=True)
def _gather(start, first, where, position, velocity, affine, u, v, w, u0, v0, w0, flip, ballistic, kick, reflects):
    half = np.float32(0.5)
    held_too = flip > 0.0 or reflects
    for t in prange(first.shape[0]):
        after = np.empty((3, 10, 10, 10), np.float32)
        before = np.empty((3, 10, 10, 10), np.float32)
        new, held = after.reshape(3000), before.reshape(3000)
        now, was = np.zeros((3, 4), np.float32), np.zeros((3, 4), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(u, where, i0, j0, k0, after[0])
        load(v, where, i0, j0, k0, after[1])
        load(w, where, i0, j0, k0, after[2])
        if held_too:
            load(u0, where, i0, j0, k0, before[0])
            load(v0, where, i0, j0, k0, before[1])
            load(w0, where, i0, j0, k0, before[2])
        for p in range(start[t], start[t + 1]):
            if ballistic[p]:
                for axis in range(3):
                    velocity[p, axis] += kick[axis]
                    for d in range(3):
                        affine[p, axis, d] = 0.0
                continue
            px = min(position[p, 0] - np.float32(i0), WITHIN)
            py = min(position[p, 1] - np.float32(j0), WITHIN)
            pz = min(position[p, 2] - np.float32(k0), WITHIN)
            for axis in range(3):
                x = px - (np.float32(0.0) if axis == 0 else half)
                y = py - (np.float32(0.0) if axis == 1 else half)
                z = pz - (np.float32(0.0) if axis == 2 else half)
                now[axis] = _inside(new, axis, x, y, z)
                if held_too:
                    was[axis] = _inside(held, axis, x, y, z)
            mirrored = _mirrored(now, was) if reflects else np.float32(0.0)
            for axis in range(3):
                own = flip * (velocity[p, axis] - was[axis, 0]) if held_too else np.float32(0.0)
                velocity[p, axis] = now[axis, 0] + mirrored * (now[axis, 0] - was[axis, 0]) + own
                for d in range(3):
                    affine[p, axis, d] = now[axis, d + 1] + mirrored * (now[axis, d + 1] - was[axis, d + 1])


def to_particles(
    particles: Particles,
    tiling: Tiling,
    tiles: Tiles,
    after: list[np.ndarray],
    before: list[np.ndarray],
    flip_share: float,
    ballistic: np.ndarray,
    kick: np.ndarray,
    reflects: bool = False,
) -> None:
    """Velocity and affine matrix of every particle, in place.

    Parameters
    ----------
    after, before : face velocities [u, v, w] after the projection and as first transferred.
    ballistic : bool (n,), particles with no liquid around them, which only feel `kick` (3,).
    reflects : take the change that the projection made twice, but for impacts.
    """
    p = particles
    own = (tiling.start, tiling.first, tiles.where, p.position, p.velocity, p.affine)
    _gather(*own, *after, *before, np.float32(flip_share), ballistic, kick.astype(np.float32), reflects)
