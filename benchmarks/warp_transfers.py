# mypy: ignore-errors
# (Warp reads its kernels' annotations as values)
"""The affine transfers of `basin.liquid.transfer` once more in Warp, a general compiler for Python, to compare with.

Written as its users would: a dense grid, a thread per particle, atomic sums. On a CPU Warp runs on one thread.
"""

from __future__ import annotations

import time
from pathlib import Path

import numpy as np
import warp as wp

from basin.liquid.particles import Particles

wp.config.quiet = True
wp.config.kernel_cache_dir = str(Path(__file__).resolve().parent.parent / "var" / "warp")


@wp.func
def _corner(field: wp.array3d(dtype=wp.float32), i: int, j: int, k: int, q: int) -> wp.float32:
    return field[i + q / 4, j + q / 2 % 2, k + q % 2]


@wp.kernel
def _scatter(
    position: wp.array(dtype=wp.vec3),
    own: wp.array(dtype=wp.float32),
    slope: wp.array(dtype=wp.vec3),
    volume: wp.array(dtype=wp.float32),
    shift: wp.vec3,
    momentum: wp.array3d(dtype=wp.float32),
    mass: wp.array3d(dtype=wp.float32),
):
    p = wp.tid()
    x = position[p] - shift
    i, j, k = int(x[0]), int(x[1]), int(x[2])
    a, b, c = x[0] - float(i), x[1] - float(j), x[2] - float(k)
    for q in range(8):
        da, db, dc = float(q / 4), float(q / 2 % 2), float(q % 2)
        weight = (1.0 - wp.abs(da - a)) * (1.0 - wp.abs(db - b)) * (1.0 - wp.abs(dc - c)) * volume[p]
        speed = own[p] + wp.dot(slope[p], wp.vec3(da - a, db - b, dc - c))
        wp.atomic_add(momentum, i + q / 4, j + q / 2 % 2, k + q % 2, weight * speed)
        wp.atomic_add(mass, i + q / 4, j + q / 2 % 2, k + q % 2, weight)


@wp.kernel
def _gather(
    position: wp.array(dtype=wp.vec3),
    own: wp.array(dtype=wp.float32),
    slope: wp.array(dtype=wp.vec3),
    shift: wp.vec3,
    field: wp.array3d(dtype=wp.float32),
):
    p = wp.tid()
    x = position[p] - shift
    i, j, k = int(x[0]), int(x[1]), int(x[2])
    a, b, c = x[0] - float(i), x[1] - float(j), x[2] - float(k)
    value = 0.0
    rise = wp.vec3(0.0, 0.0, 0.0)
    for q in range(8):
        da, db, dc = float(q / 4), float(q / 2 % 2), float(q % 2)
        u, v, w = 1.0 - wp.abs(da - a), 1.0 - wp.abs(db - b), 1.0 - wp.abs(dc - c)
        f = _corner(field, i, j, k, q)
        value += u * v * w * f
        rise += f * wp.vec3((2.0 * da - 1.0) * v * w, u * (2.0 * db - 1.0) * w, u * v * (2.0 * dc - 1.0))
    own[p] = value
    slope[p] = rise


def seconds(particles: Particles, cells: tuple[int, int, int]) -> tuple[float, float, list[np.ndarray]]:
    """Least seconds to the grid and back for sorted particles in a box of cells, and the momenta (for a check)."""
    wp.init()
    position = wp.array(particles.position.copy(), dtype=wp.vec3, device="cpu")
    volume = wp.array(particles.volume.copy(), dtype=wp.float32, device="cpu")
    own = [wp.array(particles.velocity[:, d].copy(), dtype=wp.float32, device="cpu") for d in range(3)]
    slope = [wp.array(particles.affine[:, d].copy(), dtype=wp.vec3, device="cpu") for d in range(3)]
    shifts = [wp.vec3(*(0.0 if d == e else 0.5 for e in range(3))) for d in range(3)]
    momentum, mass = ([wp.zeros(cells, dtype=wp.float32, device="cpu") for _ in range(3)] for _ in range(2))
    there = back = np.inf
    for _ in range(4):
        begin = time.perf_counter()
        for d in range(3):
            momentum[d].zero_()
            mass[d].zero_()
            inputs = [position, own[d], slope[d], volume, shifts[d], momentum[d], mass[d]]
            wp.launch(_scatter, len(particles), inputs=inputs, device="cpu")
        there = min(there, time.perf_counter() - begin)
        sums = [m.numpy().copy() for m in momentum]
        begin = time.perf_counter()
        for d in range(3):
            inputs = [position, own[d], slope[d], shifts[d], mass[d]]
            wp.launch(_gather, len(particles), inputs=inputs, device="cpu")
        back = min(back, time.perf_counter() - begin)
        own = [wp.array(particles.velocity[:, d].copy(), dtype=wp.float32, device="cpu") for d in range(3)]
        slope = [wp.array(particles.affine[:, d].copy(), dtype=wp.vec3, device="cpu") for d in range(3)]
    return there, back, sums
