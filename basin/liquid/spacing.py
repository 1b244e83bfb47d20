"""Keeps the particles at their rest density without touching their velocities.

A second, loose solve with the pressure's matrix gives displacements that take crowding apart and
close voids (Kugelstadt, Longva, Thuerey & Bender 2019, "Implicit density projection for volume
conserving liquids"). Because only positions move, no kinetic energy is pumped in.
"""

from __future__ import annotations

import numpy as np
from numba import njit, prange

from basin.grid.layout import Layout
from basin.grid.sampling import sample_velocity
from basin.liquid.particles import Particles
from basin.liquid.pressure import System, apply_gradient
from basin.liquid.solids import Solids

RATE = 0.25  # share of the density error taken out per substep
LARGEST_ERROR = 0.5  # of the density, beyond which it is corrected over several substeps
LONGEST_MOVE = 0.2  # voxels per substep
LEAST_ROOM = 0.6  # of a cell's neighbourhood; in narrower corners the density is too uncertain to act on
DEEP = -0.4  # all neighbours at least this far below the surface: from there on, cells are full at rest


@njit(cache=True, parallel=True)
def _excess(cell, share, space, phi, out):
    for r in prange(cell.shape[0]):
        i, j, k = cell[r, 0], cell[r, 1], cell[r, 2]
        e = space[i, j, k]
        if e < LEAST_ROOM:
            out[r] = 0.0
            continue
        error = min(max(share[i, j, k] / e - 1.0, -LARGEST_ERROR), LARGEST_ERROR)
        if error < 0.0:
            # near the surface less than full is as it should be
            for s in range(6):
                axis, step = s // 2, 1 if s % 2 else -1
                if (
                    phi[i + (step if axis == 0 else 0), j + (step if axis == 1 else 0), k + (step if axis == 2 else 0)]
                    > DEEP
                ):
                    error = 0.0
        out[r] = RATE * error * e


@njit(cache=True, parallel=True)
def _move(position, u, v, w, skip):
    for p in prange(position.shape[0]):
        if skip[p]:
            continue
        d = sample_velocity(u, v, w, position[p, 0], position[p, 1], position[p, 2])
        for axis in range(3):
            position[p, axis] += min(max(d[axis], np.float32(-LONGEST_MOVE)), np.float32(LONGEST_MOVE))


def spread(
    particles: Particles,
    system: System,
    share: np.ndarray,
    space: np.ndarray,
    phi: np.ndarray,
    solids: Solids,
    layout: Layout,
    skip: np.ndarray,
) -> None:
    """Move particles towards even spacing, in place; those in `skip` (bool (n,)) stay."""
    right = np.empty(len(system.cell))
    _excess(system.cell, share, space, phi, right)
    if len(right) == 0 or np.abs(right).max() < 0.01 * RATE:
        return
    found = system.solver.solve(right, 0.03)
    shift = [np.zeros(layout.faces(axis), np.float32) for axis in range(3)]
    apply_gradient(system, found.value, phi, solids, shift)
    for field in shift:
        layout.wrap(field)
    _move(particles.position, *shift, skip)
