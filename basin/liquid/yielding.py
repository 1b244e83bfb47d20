"""Liquids that flow only from a stress on, or the more easily the faster they are sheared (Herschel & Bulkley 1926).

    stress = yield stress + viscosity * rate^index,    rate = sqrt(2 e : e)

with the viscosity that at a rate of one per second. What the stress is over the rate is the viscosity of a step: the
rate is that of the velocities that particles bring along, what the step before left. Below the yield stress nothing
flows; here it creeps, with the viscosity that the yield stress has at `LEAST` (Bercovier & Engelman 1980, J. Comput.
Phys. 36). The step is implicit, so that costs no more than any stiff liquid.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import load
from basin.kernels import kernel, shared
from basin.liquid.pressure import solid_face_velocity
from basin.liquid.solids import Solids
from basin.liquid.viscosity import BETWEEN, CELL, survey, way_to_wall

LEAST = 0.01  # 1/s: rate below which what has not yielded creeps
THERE = np.float32(1e-3)  # particle volume about a face, voxels^3, from which on its velocity is known


@kernel
def _apparent(viscosity, stress, index, rate):
    """Stress over rate: all kinematic, in m2/s, m2/s2 and 1/s."""
    regular = np.sqrt(rate * rate + np.float32(LEAST * LEAST))
    return viscosity * regular ** (index - np.float32(1.0)) + stress / regular


def apparent(
    viscosity: np.ndarray,
    stress: np.ndarray,
    index: np.ndarray,
    velocity: list[np.ndarray],
    mass: list[np.ndarray],
    solids: Solids,
) -> tuple[np.ndarray, np.ndarray]:
    """Viscosity, m2/s, at cells' centres, as fields, and at their edges along z, y and x, (3, tiles + 1, 8, 8, 8).

    Edges see their own shear, not the mean of those about a cell: that at a wall is not that half a voxel off it.

    Parameters
    ----------
    viscosity, stress, index : at cells' centres, kinematic, m2/s at one per second and m2/s2
    velocity : at faces, voxels/s, as particles give it; mass : their volume about each face, voxels^3
    """
    tiles = solids.tiles
    rate, own, others = tiles.field(), *(np.zeros((3, *viscosity.shape), np.float32) for _ in range(2))
    body = (solids.phi, solids.owner, solids.motion, *solids.open)
    _rates(tiles.first, tiles.where, *velocity, *mass, *body, rate, own, others)
    tiles.wrap(rate, *own, *others)
    cells, edges = tiles.field(), np.zeros_like(own)
    _at_edges(tiles.first, tiles.where, viscosity, stress, index, rate, own, *others, cells, edges)
    return cells, edges


@kernel
def _slope(u, known, near, held, axis, p, q):
    """Difference of a velocity component between faces p and q, by the way to a wall that holds one; whether known."""
    if not (known[axis, p] and known[axis, q]):
        return np.float32(0.0), False
    off = u[axis, p] - u[axis, q]
    if held[axis, p] == held[axis, q]:
        return off, True
    free, wall = (q, p) if held[axis, p] else (p, q)
    return off / way_to_wall(near[axis, free], near[axis, wall]), True


@shared
def _rates(
    first, where, u, v, w, mass_u, mass_v, mass_w, phi, owner, motion, open_u, open_v, open_w, rate, own, others
):
    for t in prange(1, first.shape[0]):
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        flow, volume = np.empty((3, 10, 10, 10), np.float32), np.empty((3, 10, 10, 10), np.float32)
        load(mass_u, where, i0, j0, k0, volume[0])
        load(mass_v, where, i0, j0, k0, volume[1])
        load(mass_w, where, i0, j0, k0, volume[2])
        if not (volume > THERE).any():
            continue
        load(u, where, i0, j0, k0, flow[0])
        load(v, where, i0, j0, k0, flow[1])
        load(w, where, i0, j0, k0, flow[2])
        share, node = np.empty((3, 10, 10, 10), np.float32), np.empty((11, 11, 11), np.float32)
        load(open_u, where, i0, j0, k0, share[0])
        load(open_v, where, i0, j0, k0, share[1])
        load(open_w, where, i0, j0, k0, share[2])
        load(phi, where, i0, j0, k0, node)
        speed, near, held = flow.reshape((3, 1000)), np.empty((3, 1000), np.float32), np.empty((3, 1000), np.bool_)
        known, full = np.empty((3, 1000), np.bool_), volume.reshape((3, 1000))
        survey(node.reshape(1331), share.reshape((3, 1000)), near, held)
        for d in range(3):
            for p in range(1000):
                known[d, p] = held[d, p] or full[d, p] > THERE
                if held[d, p]:
                    i, j, k = i0 + p // 100, j0 + p // 10 % 10, k0 + p % 10
                    speed[d, p] = solid_face_velocity(d, i, j, k, where, phi, owner, motion)
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    total = np.float32(0.0)
                    shear = np.zeros(3, np.float32)
                    for d in range(3):
                        off, _ = _slope(speed, known, near, held, d, p + CELL[d], p)
                        total += np.float32(2.0) * off * off
                    for e in range(3):
                        x, y = BETWEEN[e, 0], BETWEEN[e, 1]
                        count = 0
                        for corner in range(4):
                            q = p + (CELL[x] if corner & 1 else 0) + (CELL[y] if corner & 2 else 0)
                            one, seen = _slope(speed, known, near, held, x, q, q - CELL[y])
                            other, both = _slope(speed, known, near, held, y, q, q - CELL[x])
                            still = held[x, q] and held[x, q - CELL[y]] and held[y, q] and held[y, q - CELL[x]]
                            if seen and both and not still:
                                squared = (one + other) * (one + other)
                                shear[e] += squared
                                count += 1
                                if corner == 0:
                                    own[e, t, a, b, c] = squared
                        shear[e] /= np.float32(max(count, 1))
                    for e in range(3):
                        others[e, t, a, b, c] = total + shear[0] + shear[1] + shear[2] - shear[e]
                    rate[t, a, b, c] = np.sqrt(total + shear[0] + shear[1] + shear[2])


@shared
def _at_edges(first, where, viscosity, stress, index, rate, own, rest_xy, rest_xz, rest_yz, cells, edges):
    for t in prange(1, first.shape[0]):
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        block = np.empty((6, 10, 10, 10), np.float32)
        load(viscosity, where, i0, j0, k0, block[0])
        load(stress, where, i0, j0, k0, block[1])
        load(index, where, i0, j0, k0, block[2])
        load(rest_xy, where, i0, j0, k0, block[3])
        load(rest_xz, where, i0, j0, k0, block[4])
        load(rest_yz, where, i0, j0, k0, block[5])
        line = block.reshape((6, 1000))
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    cells[t, a, b, c] = _apparent(line[0, p], line[1, p], line[2, p], rate[t, a, b, c])
                    for e in range(3):
                        x, y = CELL[BETWEEN[e, 0]], CELL[BETWEEN[e, 1]]
                        rest, gives = np.float32(0.0), np.float32(0.0)
                        for q in (p, p - x, p - y, p - x - y):
                            rest += np.float32(0.25) * line[3 + e, q]
                        sheared = np.sqrt(own[e, t, a, b, c] + rest)
                        for q in (p, p - x, p - y, p - x - y):
                            nu = _apparent(line[0, q], line[1, q], line[2, q], sheared)
                            gives += np.float32(0.25) / max(nu, np.float32(1e-20))
                        edges[e, t, a, b, c] = np.float32(1.0) / gives
