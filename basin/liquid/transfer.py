"""Velocities between particles and the staggered grid: affine particle-in-cell with a FLIP share.

Jiang, Schroeder, Selle, Teran & Stomakhin 2015 (APIC); Zhu & Bridson 2005 (FLIP). The FLIP share
adds back the part of each particle's own velocity that the grid cannot carry.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from basin.grid.layout import Layout
from basin.grid.sampling import sample_velocity
from basin.liquid.particles import Particles
from basin.liquid.sorting import Tiling


@njit(cache=True, parallel=True)
def _scatter(chosen, start, position, velocity, affine, volume, u, v, w, mu, mv, mw):
    # One tile a task; tiles of one colour are 8 cells apart and a particle reaches one cell beyond
    # its tile, so no two tasks write the same face and the order within a tile fixes the bits.
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        for p in range(start[t], start[t + 1]):
            m = volume[p]
            for axis in range(3):
                field = u if axis == 0 else (v if axis == 1 else w)
                mass = mu if axis == 0 else (mv if axis == 1 else mw)
                x = position[p, 0] - np.float32(0.0 if axis == 0 else 0.5)
                y = position[p, 1] - np.float32(0.0 if axis == 1 else 0.5)
                z = position[p, 2] - np.float32(0.0 if axis == 2 else 0.5)
                i, j, k = int(x), int(y), int(z)
                a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
                cx, cy, cz = affine[p, axis, 0], affine[p, axis, 1], affine[p, axis, 2]
                base = velocity[p, axis] - cx * a - cy * b - cz * c
                for di in range(2):
                    wx = m * (a if di else np.float32(1.0) - a)
                    for dj in range(2):
                        wxy = wx * (b if dj else np.float32(1.0) - b)
                        at = base + cx * np.float32(di) + cy * np.float32(dj)
                        for dk in range(2):
                            weight = wxy * (c if dk else np.float32(1.0) - c)
                            field[i + di, j + dj, k + dk] += weight * (at + cz * np.float32(dk))
                            mass[i + di, j + dj, k + dk] += weight


@njit(cache=True, parallel=True)
def _divide(momentum, mass):
    for i in prange(momentum.shape[0]):
        for j in range(momentum.shape[1]):
            for k in range(momentum.shape[2]):
                m = mass[i, j, k]
                momentum[i, j, k] = momentum[i, j, k] / m if m > np.float32(1e-9) else np.float32(0.0)


def to_grid(particles: Particles, tiling: Tiling, layout: Layout) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Mass-weighted face velocities (voxels/s) and face masses (voxels^3), each [u, v, w]."""
    velocity = [np.zeros(layout.faces(axis), np.float32) for axis in range(3)]
    mass = [np.zeros(layout.faces(axis), np.float32) for axis in range(3)]
    p = particles
    for chosen in tiling.colours:
        if len(chosen):
            _scatter(chosen, tiling.start, p.position, p.velocity, p.affine, p.volume, *velocity, *mass)
    for axis in range(3):
        layout.fold(velocity[axis])
        layout.fold(mass[axis])
        _divide(velocity[axis], mass[axis])
    return velocity, mass


@njit(cache=True, parallel=True)
def _gather(position, velocity, affine, u, v, w, u0, v0, w0, flip, ballistic, kick):
    half = np.float32(0.5)
    one = np.float32(1.0)
    for p in prange(position.shape[0]):
        if ballistic[p]:
            for axis in range(3):
                velocity[p, axis] += kick[axis]
                for d in range(3):
                    affine[p, axis, d] = 0.0
            continue
        if flip > 0.0:
            old = sample_velocity(u0, v0, w0, position[p, 0], position[p, 1], position[p, 2])
        else:
            old = (np.float32(0.0), np.float32(0.0), np.float32(0.0))
        for axis in range(3):
            field = u if axis == 0 else (v if axis == 1 else w)
            x = position[p, 0] - (np.float32(0.0) if axis == 0 else half)
            y = position[p, 1] - (np.float32(0.0) if axis == 1 else half)
            z = position[p, 2] - (np.float32(0.0) if axis == 2 else half)
            i, j, k = int(x), int(y), int(z)
            a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
            value = np.float32(0.0)
            gx, gy, gz = np.float32(0.0), np.float32(0.0), np.float32(0.0)
            for di in range(2):
                wx = a if di else one - a
                sx = one if di else -one
                for dj in range(2):
                    wy = b if dj else one - b
                    sy = one if dj else -one
                    for dk in range(2):
                        wz = c if dk else one - c
                        sz = one if dk else -one
                        f = field[i + di, j + dj, k + dk]
                        value += wx * wy * wz * f
                        gx += sx * wy * wz * f
                        gy += wx * sy * wz * f
                        gz += wx * wy * sz * f
            velocity[p, axis] = value + flip * (velocity[p, axis] - old[axis])
            affine[p, axis, 0], affine[p, axis, 1], affine[p, axis, 2] = gx, gy, gz


def to_particles(
    particles: Particles,
    after: list[np.ndarray],
    before: list[np.ndarray],
    flip_share: float,
    ballistic: np.ndarray,
    kick: np.ndarray,
) -> None:
    """Velocity and affine matrix of every particle, in place.

    Parameters
    ----------
    after, before : face velocities [u, v, w] after the projection and as first transferred.
    ballistic : bool (n,), particles with no liquid around them, which only feel `kick` (3,).
    """
    p = particles
    _gather(
        p.position, p.velocity, p.affine, *after, *before, np.float32(flip_share), ballistic, kick.astype(np.float32)
    )
