"""Pressure: cut cells at solids, ghost fluid at the free surface.

Finite volumes over the open part of each cell: the flux through open faces plus that of the solid's
own motion vanishes. Batty, Bertails & Bridson 2007; Ng, Min & Gibou 2009 for the moving solid's
term; Gibou, Fedkiw, Cheng & Kang 2002 for the second-order surface. Pressure is in velocity units:
p = (physical pressure) * dt / (rho * dx^2), voxels and seconds.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from basin.grid import poisson
from basin.grid.layout import PAD, Layout
from basin.liquid.solids import Solids

LEAST_DEPTH = 0.005  # smallest depth, in voxels, of a liquid cell's centre below the surface


@dataclass(frozen=True)
class System(poisson.Matrix):
    """The pressure matrix of one moment over liquid cells in lexicographic order.

    Attributes
    ----------
    index : int32 (Nx, Ny, Nz), row of each cell, -1 for none; wrapped on periodic axes
    """

    index: np.ndarray


@njit(cache=True)
def _surface_gap(inside, outside):
    """Share of the way from a liquid cell's centre to the surface towards an air cell."""
    # The cell's own distance is bounded, not the gap: then the gaps of one cell in all directions
    # still belong to one plane. Bounding each gap by itself turns gravity along the surface into a
    # steady current wherever a surface lies askew to the grid.
    inside = min(inside, -LEAST_DEPTH)
    return inside / (inside - max(outside, 0.0))


@njit(cache=True, parallel=True)
def _assemble(cell, index, phi, ou, ov, ow, neighbour, weight, surface):
    for r in prange(cell.shape[0]):
        i, j, k = cell[r, 0], cell[r, 1], cell[r, 2]
        surface[r] = 0.0
        for s in range(6):
            axis, side = s // 2, s % 2
            step = 1 if side else -1
            ni = i + (step if axis == 0 else 0)
            nj = j + (step if axis == 1 else 0)
            nk = k + (step if axis == 2 else 0)
            if axis == 0:
                f = ou[i + side, j, k]
            elif axis == 1:
                f = ov[i, j + side, k]
            else:
                f = ow[i, j, k + side]
            neighbour[r, s] = -1
            weight[r, s] = 0.0
            if f <= 0.0:
                continue
            n = index[ni, nj, nk]
            if n >= 0:
                neighbour[r, s] = n
                weight[r, s] = f
            else:
                surface[r] += f / _surface_gap(phi[i, j, k], phi[ni, nj, nk])


def assemble(phi: np.ndarray, solids: Solids, layout: Layout) -> System:
    """Matrix over the cells whose centre is in liquid and that have an open face."""
    ou, ov, ow = solids.open
    openness = ou[:-1] + ou[1:] + ov[:, :-1] + ov[:, 1:] + ow[:, :, :-1] + ow[:, :, 1:]
    inner = (slice(PAD, -PAD),) * 3
    liquid = np.zeros(phi.shape, bool)
    liquid[inner] = (phi[inner] < 0) & (openness[inner] > 0)
    cell = np.argwhere(liquid).astype(np.int32)
    index = np.full(phi.shape, -1, np.int32)
    index[liquid] = np.arange(len(cell), dtype=np.int32)
    layout.wrap(index)
    n = len(cell)
    surface = np.empty(n)
    neighbour, weight = np.empty((n, 6), np.int32), np.empty((n, 6))
    _assemble(cell, index, phi, ou, ov, ow, neighbour, weight, surface)
    return System(cell, neighbour, weight, surface, index)


@njit(cache=True, parallel=True)
def _divergence(cell, u, v, w, ou, ov, ow, moving, owner, phi, motion, out):
    for r in prange(cell.shape[0]):
        i, j, k = cell[r, 0], cell[r, 1], cell[r, 2]
        total = ou[i + 1, j, k] * u[i + 1, j, k] - ou[i, j, k] * u[i, j, k]
        total += ov[i, j + 1, k] * v[i, j + 1, k] - ov[i, j, k] * v[i, j, k]
        total += ow[i, j, k + 1] * w[i, j, k + 1] - ow[i, j, k] * w[i, j, k]
        if moving:
            for s in range(6):
                axis, side = s // 2, s % 2
                fi = i + (side if axis == 0 else 0)
                fj = j + (side if axis == 1 else 0)
                fk = k + (side if axis == 2 else 0)
                f = ou[fi, fj, fk] if axis == 0 else (ov[fi, fj, fk] if axis == 1 else ow[fi, fj, fk])
                if f < 1.0:
                    speed = solid_face_velocity(axis, fi, fj, fk, phi, owner, motion)
                    total += (1.0 - f) * (speed if side else -speed)
        out[r] = -total


@njit(cache=True)
def solid_face_velocity(axis, i, j, k, phi, owner, motion):
    """Velocity component of the deepest solid at a face centre (voxels/s)."""
    best, who = 1e9, -1
    for a in range(2):
        for b in range(2):
            if axis == 0:
                ni, nj, nk = i, j + a, k + b
            elif axis == 1:
                ni, nj, nk = i + a, j, k + b
            else:
                ni, nj, nk = i + a, j + b, k
            if phi[ni, nj, nk] < best:
                best = phi[ni, nj, nk]
                who = owner[ni, nj, nk]
    if who < 0:
        return 0.0
    x = i + (0.0 if axis == 0 else 0.5)
    y = j + (0.0 if axis == 1 else 0.5)
    z = k + (0.0 if axis == 2 else 0.5)
    m = motion[who, axis]
    return m[0] * x + m[1] * y + m[2] * z + m[3]


@njit(cache=True, parallel=True)
def _apply(axis, index, phi, opened, value, field, valid):
    nx, ny, nz = index.shape
    for i in prange(field.shape[0]):
        for j in range(field.shape[1]):
            for k in range(field.shape[2]):
                valid[i, j, k] = 0
                if opened[i, j, k] <= 0.0:
                    continue
                li, lj, lk = i - (1 if axis == 0 else 0), j - (1 if axis == 1 else 0), k - (1 if axis == 2 else 0)
                if li < 0 or lj < 0 or lk < 0 or i >= nx or j >= ny or k >= nz:
                    continue
                a, b = index[li, lj, lk], index[i, j, k]
                if a < 0 and b < 0:
                    continue
                if a >= 0 and b >= 0:
                    jump = value[b] - value[a]
                elif a >= 0:
                    jump = -value[a] / _surface_gap(phi[li, lj, lk], phi[i, j, k])
                else:
                    jump = value[b] / _surface_gap(phi[i, j, k], phi[li, lj, lk])
                field[i, j, k] -= np.float32(jump)
                valid[i, j, k] = 1


def apply_gradient(
    system: System, value: np.ndarray, phi: np.ndarray, solids: Solids, velocity: list[np.ndarray]
) -> list[np.ndarray]:
    """Take the gradient of `value` off the face velocities, in place; returns which faces it reached."""
    valid = [np.empty(field.shape, np.uint8) for field in velocity]
    for axis in range(3):
        _apply(axis, system.index, phi, solids.open[axis], value, velocity[axis], valid[axis])
    return valid


def project(
    system: System, phi: np.ndarray, solids: Solids, velocity: list[np.ndarray], tolerance: float = 1e-6
) -> tuple[list[np.ndarray], poisson.Solution]:
    """Make the face velocities divergence-free, in place.

    Returns
    -------
    (valid, solution) : faces that carry liquid velocities, as uint8; the solve's outcome with the
        pressure in `solution.value` (n,).
    """
    right = np.empty(len(system.cell))
    _divergence(system.cell, *velocity, *solids.open, solids.moving, solids.owner, solids.phi, solids.motion, right)
    solution = system.solver.solve(right, tolerance)
    valid = apply_gradient(system, solution.value, phi, solids, velocity)
    return valid, solution
