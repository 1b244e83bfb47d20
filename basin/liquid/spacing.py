"""Keeps the particles at their rest density without touching their velocities.

A second, loose solve with the pressure's matrix gives displacements that take crowding apart and
close voids (Kugelstadt, Longva, Thuerey & Bender 2019, "Implicit density projection for volume
conserving liquids"). Because only positions move, no kinetic energy is pumped in.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.lanes import AHEAD, CONTRACT, prefetch
from basin.grid.pencils import LIVE
from basin.grid.tiles import WITHIN, all_zero, at, load, velocity_in
from basin.kernels import kernel, shared
from basin.liquid.particles import X
from basin.liquid.pressure import Surface, System, apply_gradient
from basin.liquid.solids import Solids
from basin.liquid.sorting import Arranged
from basin.liquid.thin import seen_velocity

RATE = 0.25  # share of the density error taken out per substep
LARGEST_ERROR = 0.5  # of the density, beyond which it is corrected over several substeps
LONGEST_MOVE = 0.2  # voxels per substep
LEAST_ROOM = 0.6  # of a cell's neighbourhood; in narrower corners the density is too uncertain to act on
DEEP = -0.4  # all neighbours at least this far below the surface: from there on, cells are full at rest


@kernel(parallel=True)
def _excess(first, links, where, share, space, phi, out):
    for r in prange(1, first.shape[0]):
        for c in range(8):
            i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
            e = at(space, where, i, j, k)
            if (links[r, LIVE] >> c) & 1 == 0 or e < LEAST_ROOM:
                continue
            error = min(max(at(share, where, i, j, k) / e - 1.0, -LARGEST_ERROR), LARGEST_ERROR)
            if error < 0.0:
                # near the surface less than full is as it should be
                for s in range(6):
                    axis, step = s // 2, 1 if s % 2 else -1
                    ni = i + (step if axis == 0 else 0)
                    nj = j + (step if axis == 1 else 0)
                    nk = k + (step if axis == 2 else 0)
                    if at(phi, where, ni, nj, nk) > DEEP:
                        error = 0.0
            out[r, c] = RATE * error * e


@shared(fastmath=CONTRACT)
def _move(start, first, record, u, v, w, where, skip, hidden):
    most = np.float32(LONGEST_MOVE)
    masked = hidden.shape[0] > 0
    for t in prange(first.shape[0]):
        block = np.empty((3, 10, 10, 10), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(u, where, i0, j0, k0, block[0])
        load(v, where, i0, j0, k0, block[1])
        load(w, where, i0, j0, k0, block[2])
        line = block.reshape(3000)
        if all_zero(line):
            continue
        fx, fy, fz = np.float32(i0), np.float32(j0), np.float32(k0)
        for index in range(start[t], start[t + 1]):
            p = np.uint64(index)
            prefetch(record, p + np.uint64(AHEAD))
            if skip[p]:
                continue
            x = min(record[p, X] - fx, WITHIN)
            y = min(record[p, X + 1] - fy, WITHIN)
            z = min(record[p, X + 2] - fz, WITHIN)
            seen = not (masked and hidden[p] != 0)
            d = velocity_in(line, 10, x, y, z) if seen else seen_velocity(line, 10, x, y, z, hidden[p])
            record[p, X] += min(max(d[0], -most), most)
            record[p, X + 1] += min(max(d[1], -most), most)
            record[p, X + 2] += min(max(d[2], -most), most)


def spread(
    at_hand: Arranged, system: System, density: np.ndarray, phi: np.ndarray, solids: Solids, skip: np.ndarray
) -> list[np.ndarray]:
    """Move particles towards even spacing, in place; those in `skip` (bool (n,)) stay.

    Returns the shift at faces, [u, v, w] in voxels, by which what the grid holds has to move too.
    """
    tiles = solids.tiles
    shift = [tiles.field() for _ in range(3)]
    right = system.values()
    _excess(system.first, system.links, tiles.where, density, solids.near, phi, right)
    if np.abs(right).max() < 0.01 * RATE:
        return shift
    found = system.solver.solve(right, 0.03)
    apply_gradient(system, found.value, Surface(phi), solids, shift)
    tiles.wrap(*shift)
    tiling, record = at_hand.tiling, at_hand.particles.record
    _move(tiling.start, tiling.first, record, *shift, tiles.where, skip, at_hand.hidden)
    return shift
