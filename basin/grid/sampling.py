"""Trilinear samples of staggered velocities and node fields, for use inside kernels."""

from __future__ import annotations

import math

import numpy as np
from numba import njit


@njit(cache=True, inline="always")
def sample(field, x, y, z):
    """Trilinear value of `field` at index coordinates, clamped to its edge."""
    nx, ny, nz = field.shape
    x = min(max(x, np.float32(0.0)), np.float32(nx - 1.001))
    y = min(max(y, np.float32(0.0)), np.float32(ny - 1.001))
    z = min(max(z, np.float32(0.0)), np.float32(nz - 1.001))
    i, j, k = int(x), int(y), int(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    one = np.float32(1.0)
    c00 = field[i, j, k] * (one - c) + field[i, j, k + 1] * c
    c01 = field[i, j + 1, k] * (one - c) + field[i, j + 1, k + 1] * c
    c10 = field[i + 1, j, k] * (one - c) + field[i + 1, j, k + 1] * c
    c11 = field[i + 1, j + 1, k] * (one - c) + field[i + 1, j + 1, k + 1] * c
    return (c00 * (one - b) + c01 * b) * (one - a) + (c10 * (one - b) + c11 * b) * a


@njit(cache=True)
def sample_velocity(u, v, w, x, y, z):
    """Velocity of the staggered grid at a place in voxels."""
    half = np.float32(0.5)
    return sample(u, x, y - half, z - half), sample(v, x - half, y, z - half), sample(w, x - half, y - half, z)


@njit(cache=True)
def gradient(field, x, y, z):
    """Unit gradient of a node field (nodes at whole voxels); zero where it is flat."""
    h = np.float32(0.25)
    gx = sample(field, x + h, y, z) - sample(field, x - h, y, z)
    gy = sample(field, x, y + h, z) - sample(field, x, y - h, z)
    gz = sample(field, x, y, z + h) - sample(field, x, y, z - h)
    length = math.sqrt(gx * gx + gy * gy + gz * gz)
    if length < 1e-9:
        return np.float32(0.0), np.float32(0.0), np.float32(0.0)
    return np.float32(gx / length), np.float32(gy / length), np.float32(gz / length)
