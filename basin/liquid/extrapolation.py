"""Velocities beyond the liquid: outwards into the air, and onto the walls."""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from basin.grid.layout import Layout
from basin.grid.sampling import gradient, sample_velocity
from basin.liquid.solids import Solids


@njit(cache=True, parallel=True)
def _layer(field, valid, out, out_valid):
    nx, ny, nz = field.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                out[i, j, k] = field[i, j, k]
                out_valid[i, j, k] = valid[i, j, k]
                if valid[i, j, k]:
                    continue
                total, count = np.float32(0.0), 0
                if i > 0 and valid[i - 1, j, k]:
                    total += field[i - 1, j, k]
                    count += 1
                if i < nx - 1 and valid[i + 1, j, k]:
                    total += field[i + 1, j, k]
                    count += 1
                if j > 0 and valid[i, j - 1, k]:
                    total += field[i, j - 1, k]
                    count += 1
                if j < ny - 1 and valid[i, j + 1, k]:
                    total += field[i, j + 1, k]
                    count += 1
                if k > 0 and valid[i, j, k - 1]:
                    total += field[i, j, k - 1]
                    count += 1
                if k < nz - 1 and valid[i, j, k + 1]:
                    total += field[i, j, k + 1]
                    count += 1
                if count:
                    out[i, j, k] = total / np.float32(count)
                    out_valid[i, j, k] = 1


def outwards(velocity: list[np.ndarray], valid: list[np.ndarray], layers: int, layout: Layout) -> None:
    """Give faces beyond the liquid the mean of their neighbours, layer by layer, in place."""
    for axis in range(3):
        field, known = velocity[axis], valid[axis]
        field[known == 0] = 0
        for _ in range(layers):
            layout.wrap(field)
            layout.wrap(known)
            out, out_known = np.empty_like(field), np.empty_like(known)
            _layer(field, known, out, out_known)
            field, known = out, out_known
        layout.wrap(field)
        velocity[axis][:] = field


@njit(cache=True, parallel=True)
def _onto_walls(axis, field, opened, u, v, w, phi, owner, motion, friction):
    nx, ny, nz = field.shape
    for i in prange(1, nx - 1):
        for j in range(1, ny - 1):
            for k in range(1, nz - 1):
                if opened[i, j, k] > 0.0:
                    continue
                x = np.float32(i + (0.0 if axis == 0 else 0.5))
                y = np.float32(j + (0.0 if axis == 1 else 0.5))
                z = np.float32(k + (0.0 if axis == 2 else 0.5))
                g = gradient(phi, x, y, z)
                a = sample_velocity(u, v, w, x, y, z)
                who = owner[int(x + 0.5), int(y + 0.5), int(z + 0.5)]
                s0, s1, s2 = 0.0, 0.0, 0.0
                if who >= 0:
                    m = motion[who]
                    s0 = m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3]
                    s1 = m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3]
                    s2 = m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3]
                normal = (a[0] - s0) * g[0] + (a[1] - s1) * g[1] + (a[2] - s2) * g[2]
                own = a[0] if axis == 0 else (a[1] if axis == 1 else a[2])
                solid = s0 if axis == 0 else (s1 if axis == 1 else s2)
                sliding = own - solid - normal * g[axis]
                field[i, j, k] = solid + (1.0 - friction) * sliding


def onto_walls(velocity: list[np.ndarray], solids: Solids, friction: float, layout: Layout) -> None:
    """Shut faces take the solid's velocity along its normal and slide along it, in place."""
    source = [field.copy() for field in velocity]
    for axis in range(3):
        _onto_walls(axis, velocity[axis], solids.open[axis], *source, solids.phi, solids.owner, solids.motion, friction)
        layout.wrap(velocity[axis])
