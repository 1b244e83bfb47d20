"""Drag of viscous films too thin for the grid.

A film on a wall flows as its thickness h allows: the wall pulls at it with 3 nu / h^2 of its mean velocity (Nusselt
1916; Oron, Davis & Bankoff 1997, Rev Mod Phys 69(3)). So thin places hardly flow, thick ones fill them, and a coat
stays whole. Where a film is thinner than half a voxel no cell holds it: its particles fly on their own and would slide
as if there were no viscosity. Here each is told its film's thickness by its neighbours' volume per area, and slowed by
it. Thicker films are the grid's; `basin.liquid.viscosity` weighs what shears against their wall.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import at, gradient, load, sample
from basin.kernels import kernel, shared
from basin.liquid.particles import M, V, X
from basin.liquid.solids import Solids, velocity_of
from basin.liquid.sorting import Arranged

RADIUS = 1.5  # voxels, of what a particle sees; at most two
AT_WALL = 0.75  # voxels: particles farther from a wall do not lie on it
FEWEST = 4  # neighbours that make a film; with fewer a particle is a drop as wide as its volume
MOST = 400  # particles looked at about a cell: more than a film has
EDGE = 0.34  # of the radius: how far beside a particle at a straight rim the mean of its neighbours lies
MISSING = 0.3  # share of a film that is missing there; half, less what ragged rims only seem to lack
THINNEST = 0.05  # voxels


@kernel
def _in_cell(record, p, i, j, k):
    return int(record[p, X]) == i and int(record[p, X + 1]) == j and int(record[p, X + 2]) == k


@shared
def _cells(start, first, record, where, begin, end):
    """Where each cell's particles begin, and after the last of them: int32 fields, in place."""
    for t in prange(first.shape[0]):
        row = where[(first[t, 0] >> 3) + 1, (first[t, 1] >> 3) + 1, (first[t, 2] >> 3) + 1]
        p = start[t]
        while p < start[t + 1]:
            i, j, k = int(record[p, X]), int(record[p, X + 1]), int(record[p, X + 2])
            begin[row, i & 7, j & 7, k & 7] = p
            while p < start[t + 1] and _in_cell(record, p, i, j, k):
                p += 1
            end[row, i & 7, j & 7, k & 7] = p


@kernel
def _about(begin, end, where, record, i, j, k, found):
    """Places and volumes (m, 4) of the particles in the cells about one, into `found`; how many, or as many as fit."""
    n = 0
    for di in range(-2, 3):
        for dj in range(-2, 3):
            for dk in range(-2, 3):
                first, after = at(begin, where, i + di, j + dj, k + dk), at(end, where, i + di, j + dj, k + dk)
                for p in range(first, min(after, first + found.shape[0] - n)):
                    found[n, 0], found[n, 1], found[n, 2] = record[p, X], record[p, X + 1], record[p, X + 2]
                    found[n, 3] = record[p, M]
                    n += 1
    return n


@kernel
def _thickness(place, normal, volume, found, count):
    """Volume per area about a particle on a wall, voxels, by the particles that lie on the same one."""
    n, total, per_area, a0, a1, a2 = -1, 0.0, 0.0, 0.0, 0.0, 0.0
    for q in range(count):
        dx, dy, dz = found[q, 0] - place[0], found[q, 1] - place[1], found[q, 2] - place[2]
        up = dx * normal[0] + dy * normal[1] + dz * normal[2]
        dx, dy, dz = dx - up * normal[0], dy - up * normal[1], dz - up * normal[2]
        squared = (dx * dx + dy * dy + dz * dz) / (RADIUS * RADIUS)
        if squared >= 1.0 or abs(up) > AT_WALL:
            continue
        n += 1
        w = (1.0 - squared) * found[q, 3]
        total += w
        a0, a1, a2 = a0 + w * dx, a1 + w * dy, a2 + w * dz
        per_area += (1.0 - squared) * w
    if n < FEWEST:
        return np.cbrt(volume)
    beside = (a0 * a0 + a1 * a1 + a2 * a2) / (total * total * EDGE * EDGE * RADIUS * RADIUS)
    return per_area * 3.0 / (np.pi * RADIUS * RADIUS * (1.0 - MISSING * min(beside, 1.0)))


@shared
def _slow(start, first, record, where, ballistic, begin, end, nu, dt, phi, owner, motion):
    for t in prange(first.shape[0]):
        node = np.empty((9, 9, 9), np.float32)
        load(phi, where, first[t, 0], first[t, 1], first[t, 2], node)
        if node.min() > AT_WALL + 1.0:
            continue
        found = np.empty((MOST, 4), np.float32)
        last, count = -1, 0
        for p in range(start[t], start[t + 1]):
            if not ballistic[p] or nu[p] <= 0.0:
                continue
            x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
            if sample(phi, where, x, y, z) > AT_WALL:
                continue
            i, j, k = int(x), int(y), int(z)
            cell = ((i & 7) * 8 + (j & 7)) * 8 + (k & 7)
            if cell != last:
                last, count = cell, _about(begin, end, where, record, i, j, k, found)
            normal = gradient(phi, where, x, y, z)
            thick = max(_thickness((x, y, z), normal, record[p, M], found, count), THINNEST)
            keep = 1.0 / (1.0 + 3.0 * nu[p] * dt / (thick * thick))
            who = at(owner, where, int(x + 0.5), int(y + 0.5), int(z + 0.5))
            own = velocity_of(motion, who, x, y, z)
            r = record[p, V] - own[0], record[p, V + 1] - own[1], record[p, V + 2] - own[2]
            away = r[0] * normal[0] + r[1] * normal[1] + r[2] * normal[2]
            for d in range(3):  # along the wall; what comes off it does so freely
                record[p, V + d] = own[d] + keep * (r[d] - away * normal[d]) + away * normal[d]


def slow(at_hand: Arranged, ballistic: np.ndarray, nu: np.ndarray, solids: Solids, dt: float) -> None:
    """Let walls slow the particles of films that no cell holds, in place.

    Parameters
    ----------
    ballistic : bool (n,), particles that no cell holds
    nu : float32 (n,), kinematic viscosity, voxels^2 per second
    dt : seconds that it acts
    """
    if not ballistic.any():
        return
    tiling, tiles = at_hand.tiling, at_hand.tiles
    record = at_hand.particles.record
    begin, end = tiles.field(dtype=np.int32), tiles.field(dtype=np.int32)
    _cells(tiling.start, tiling.first, record, tiles.where, begin, end)
    places = (tiling.start, tiling.first, record, tiles.where, ballistic)
    _slow(*places, begin, end, nu, dt, solids.phi, solids.owner, solids.motion)
