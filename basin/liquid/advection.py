"""Moves particles: third-order Runge-Kutta through the grid's velocity, kept out of solids."""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from basin.grid.layout import PAD, Layout
from basin.grid.sampling import gradient, sample, sample_velocity
from basin.liquid.particles import Particles

CLEARANCE = 0.02  # voxels that particles keep from solids
STRIDE = 0.35  # voxels between looks along a path near a solid
SUNK = -0.1  # voxels inside a solid at which a path ends; with STRIDE less than half a voxel deep


@njit(cache=True, parallel=True)
def _advance(position, velocity, u, v, w, dt, ballistic, out):
    # Ralston's third-order method: the field is frozen over the substep, so the order is that of
    # the path through it.
    h = np.float32(dt)
    for p in prange(position.shape[0]):
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        if ballistic[p]:
            out[p, 0], out[p, 1], out[p, 2] = x + h * velocity[p, 0], y + h * velocity[p, 1], z + h * velocity[p, 2]
            continue
        a0, a1, a2 = sample_velocity(u, v, w, x, y, z)
        s = h * np.float32(0.5)
        b0, b1, b2 = sample_velocity(u, v, w, x + s * a0, y + s * a1, z + s * a2)
        s = h * np.float32(0.75)
        c0, c1, c2 = sample_velocity(u, v, w, x + s * b0, y + s * b1, z + s * b2)
        s = h / np.float32(9.0)
        out[p, 0] = x + s * (np.float32(2.0) * a0 + np.float32(3.0) * b0 + np.float32(4.0) * c0)
        out[p, 1] = y + s * (np.float32(2.0) * a1 + np.float32(3.0) * b1 + np.float32(4.0) * c1)
        out[p, 2] = z + s * (np.float32(2.0) * a2 + np.float32(3.0) * b2 + np.float32(4.0) * c2)


@njit(cache=True, parallel=True)
def _keep_out(start, position, velocity, phi, owner, motion, ballistic, friction):
    for p in prange(position.shape[0]):
        x0, y0, z0 = start[p, 0], start[p, 1], start[p, 2]
        dx, dy, dz = position[p, 0] - x0, position[p, 1] - y0, position[p, 2] - z0
        length = np.sqrt(dx * dx + dy * dy + dz * dz)
        steps = 1
        if sample(phi, x0, y0, z0) < length + 1.0:
            steps = max(int(np.ceil(length / STRIDE)), 1)
        # walk the path: the first place inside a solid ends it, so a wall a voxel thick is not jumped
        x, y, z = position[p, 0], position[p, 1], position[p, 2]
        for n in range(1, steps + 1):
            f = np.float32(n / steps)
            x, y, z = x0 + f * dx, y0 + f * dy, z0 + f * dz
            if sample(phi, x, y, z) < SUNK:
                break
        hit = False
        for _ in range(6):
            d = sample(phi, x, y, z)
            if d >= CLEARANCE * 0.5:
                break
            hit = True
            g = gradient(phi, x, y, z)
            push = np.float32(CLEARANCE - d)
            x, y, z = x + push * g[0], y + push * g[1], z + push * g[2]
        position[p, 0], position[p, 1], position[p, 2] = x, y, z
        if hit and ballistic[p]:
            g = gradient(phi, x, y, z)
            who = owner[int(x + 0.5), int(y + 0.5), int(z + 0.5)]
            s0, s1, s2 = 0.0, 0.0, 0.0
            if who >= 0:
                m = motion[who]
                s0 = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3]
                s1 = m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3]
                s2 = m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3]
            r0, r1, r2 = velocity[p, 0] - s0, velocity[p, 1] - s1, velocity[p, 2] - s2
            normal = min(r0 * g[0] + r1 * g[1] + r2 * g[2], 0.0)
            keep = 1.0 - friction
            velocity[p, 0] = s0 + keep * (r0 - normal * g[0])
            velocity[p, 1] = s1 + keep * (r1 - normal * g[1])
            velocity[p, 2] = s2 + keep * (r2 - normal * g[2])


def advance(particles: Particles, velocity: list[np.ndarray], dt: float, ballistic: np.ndarray) -> np.ndarray:
    """Positions (n, 3) after `dt` liquid seconds, before walls are heeded."""
    out = np.empty_like(particles.position)
    _advance(particles.position, particles.velocity, *velocity, dt, ballistic, out)
    return out


def keep_out(
    start: np.ndarray,
    particles: Particles,
    phi: np.ndarray,
    owner: np.ndarray,
    motion: np.ndarray,
    ballistic: np.ndarray,
    friction: float,
) -> None:
    """Stop paths from `start` at solids and push particles out of them, in place."""
    _keep_out(start, particles.position, particles.velocity, phi, owner, motion, ballistic, friction)


def wrapped_and_drained(particles: Particles, layout: Layout) -> tuple[Particles, float]:
    """Wrap periodic axes and drop what left through open walls; returns the volume lost (voxels^3)."""
    low, high = layout.wall_low, layout.wall_high
    for wrapped in np.flatnonzero(layout.periodic):
        axis = int(wrapped)
        n = np.float32(layout.inner[axis])
        along = particles.position[:, axis]
        along -= np.floor((along - np.float32(PAD)) / n) * n
        along[along >= high[axis]] = low[axis]
    inside = np.ones(len(particles), bool)
    for axis in (0, 1, 2):
        if layout.periodic[axis]:
            continue
        along = particles.position[:, axis]
        for side, limit in ((0, low[axis]), (1, high[axis])):
            beyond = along < limit if side == 0 else along > limit
            if layout.closed[axis, side]:
                # a solid wall cannot be passed; what numerical pushing left beyond goes back onto it
                along[beyond] = limit + np.float32(CLEARANCE * (1 - 2 * side))
            else:
                inside &= ~beyond
    finite = np.isfinite(particles.position).all(axis=1)
    inside &= finite
    if inside.all():
        return particles, 0.0
    return particles.taken(inside), float(particles.volume[~inside].sum(dtype=np.float64))
