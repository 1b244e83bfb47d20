"""Viscous films too thin for the grid.

A film on a wall flows as its thickness h allows: the wall pulls at it with 3 nu / h^2 of its mean velocity (Nusselt
1916; Oron, Davis & Bankoff 1997, Rev Mod Phys 69(3)). So thin places hardly flow, thick ones fill them, and a coat
stays whole. What presses it on the wall drives it down its own slope too, with g grad h.

Where a film is thinner than half a voxel no cell holds it; thinner than a voxel only some do, others not, as the wall
leans across the grid. So particles of such films fly on their own: each is told its film's thickness by its neighbours'
volume per area, and is slowed by it and borne by the wall. Thicker films are the grid's; `basin.liquid.viscosity`
weighs what strains against their wall.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import at, gradient, load, sample
from basin.kernels import kernel, shared
from basin.liquid.particles import M, V, X
from basin.liquid.solids import SLIP, Solids, velocity_of
from basin.liquid.sorting import Arranged, Cells

RADIUS = 2.0  # voxels, of what a particle sees; at most two
THIN = 0.8  # voxels: thicker films are the grid's
HOLDS = 3.0  # 1/s: what a wall holds back more slowly is the grid's too, as liquid without viscosity is
AT_WALL = 0.9  # voxels: particles farther from a wall do not lie on it
LYING = (-0.25, 1.5)  # voxels from the wall between which neighbours are of the same film
OVER = 1.0  # voxels off the wall, where there is no liquid over a thin film:
SHALLOW = -0.2  # its level there is no deeper
FEWEST = 2  # neighbours that make a film; with fewer a particle is a drop as wide as its volume
MOST = 640  # particles looked at about a cell: more than a film has
ITSELF = 0.5  # of a particle is left out: it sees itself for sure, which is one too many if they lie at random
EDGE = 0.34  # of the radius: how far beside a particle at a straight rim the mean of its neighbours lies
MISSING = 0.3  # share of a film that is missing there; half, less what ragged rims only seem to lack
THINNEST = 0.05  # voxels


@kernel
def _about(begin, end, where, record, i, j, k, found):
    """Places and volumes (m, 4) of the particles in the cells about one, into `found`; how many, or as many as fit."""
    n = 0
    for di in range(-2, 3):
        for dj in range(-2, 3):
            for dk in range(-2, 3):
                first, after = at(begin, where, i + di, j + dj, k + dk), at(end, where, i + di, j + dj, k + dk)
                for p in range(first, min(after, first + found.shape[0] - n)):
                    x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
                    # where it is seen, which in periodic domains is not where it is
                    found[n, 0] = i + di + (x - np.floor(x))
                    found[n, 1] = j + dj + (y - np.floor(y))
                    found[n, 2] = k + dk + (z - np.floor(z))
                    found[n, 3] = record[p, M]
                    n += 1
    return n


@kernel
def _thickness(place, away, normal, volume, found, count):
    """Volume per area about a particle as far from a wall, voxels, and its slope (3,) along the wall.

    By the particles that lie on the same wall; of a drop by itself its width.
    """
    n, total, per_area, a0, a1, a2 = -1, 0.0, 0.0, 0.0, 0.0, 0.0
    for q in range(count):
        dx, dy, dz = found[q, 0] - place[0], found[q, 1] - place[1], found[q, 2] - place[2]
        up = dx * normal[0] + dy * normal[1] + dz * normal[2]
        dx, dy, dz = dx - up * normal[0], dy - up * normal[1], dz - up * normal[2]
        squared = (dx * dx + dy * dy + dz * dz) / (RADIUS * RADIUS)
        if squared >= 1.0 or away + up < LYING[0] or away + up > LYING[1]:
            continue
        n += 1
        w = (1.0 - squared) * found[q, 3]
        total += w
        a0, a1, a2 = a0 + w * dx, a1 + w * dy, a2 + w * dz
        per_area += (1.0 - squared) * w
    if n < FEWEST:
        return np.cbrt(volume), 0.0, 0.0, 0.0
    beside = (a0 * a0 + a1 * a1 + a2 * a2) / (total * total * EDGE * EDGE * RADIUS * RADIUS)
    per_area -= ITSELF * volume
    thick = per_area * 3.0 / (np.pi * RADIUS * RADIUS * (1.0 - MISSING * min(beside, 1.0)))
    steep = 12.0 / (np.pi * RADIUS**4)
    return thick, a0 * steep, a1 * steep, a2 * steep


@shared
def _measure(start, first, record, where, begin, end, nu, level, phi, ballistic, film):
    for t in prange(first.shape[0]):
        node = np.empty((9, 9, 9), np.float32)
        load(phi, where, first[t, 0], first[t, 1], first[t, 2], node)
        if node.min() > AT_WALL + 1.0:
            continue
        found = np.empty((MOST, 4), np.float32)
        last, count = -1, 0
        for p in range(start[t], start[t + 1]):
            if nu[p] <= 0.0:
                continue
            x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
            away = sample(phi, where, x, y, z)
            if away > AT_WALL:
                continue
            normal = gradient(phi, where, x, y, z)
            if not ballistic[p]:
                up = OVER - away
                high = x + up * normal[0], y + up * normal[1], z + up * normal[2]
                if sample(level, where, high[0] - 0.5, high[1] - 0.5, high[2] - 0.5) < SHALLOW:
                    continue
            i, j, k = int(x), int(y), int(z)
            cell = ((i & 7) * 8 + (j & 7)) * 8 + (k & 7)
            if cell != last:
                last, count = cell, _about(begin, end, where, record, i, j, k, found)
            thick, s0, s1, s2 = _thickness((x, y, z), away, normal, record[p, M], found, count)
            thick = max(thick, THINNEST)
            if ballistic[p] or (thick < THIN and 3.0 * nu[p] > HOLDS * thick * thick):
                film[p, 0], film[p, 1], film[p, 2], film[p, 3] = thick, s0, s1, s2
                ballistic[p] = True


def measured(
    at_hand: Arranged, cells: Cells, level: np.ndarray, ballistic: np.ndarray, nu: np.ndarray, solids: Solids
) -> np.ndarray:
    """Thickness of the thin films that particles lie in, voxels, and its slope: float32 (n, 4), 0 for others.

    Those of films fly on their own from now.

    Parameters
    ----------
    cells : where the particles of cells near walls are
    level : level set of the liquid at cells' centres, voxels
    ballistic : bool (n,), particles that no cell holds; those of films are added in place
    nu : float32 (n,), kinematic viscosity, voxels^2 per second
    """
    tiling, tiles = at_hand.tiling, at_hand.tiles
    record = at_hand.particles.record
    film = np.zeros((len(record), 4), np.float32)
    if not (nu > 0).any():
        return film
    places = (tiling.start, tiling.first, record, tiles.where)
    _measure(*places, cells.begin, cells.end, nu, level, solids.phi, ballistic, film)
    return film


@shared
def _slow(start, record, where, film, nu, kick, dt, phi, owner, motion, touch):
    for t in prange(start.shape[0] - 1):
        for p in range(start[t], start[t + 1]):
            if film[p, 0] <= 0.0:
                continue
            x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
            normal = gradient(phi, where, x, y, z)
            weight = min(kick[0] * normal[0] + kick[1] * normal[1] + kick[2] * normal[2], np.float32(0.0))
            who = at(owner, where, int(x + 0.5), int(y + 0.5), int(z + 0.5))
            # Nusselt's 1916 mean of a film, and what Navier's 1823 slip adds to it: h^2 / 3 + b h
            keep = 1.0 / (1.0 + nu[p] * dt / (film[p, 0] * (film[p, 0] / 3.0 + touch[who, SLIP])))
            own = velocity_of(motion, who, x, y, z)
            r = record[p, V] - own[0], record[p, V + 1] - own[1], record[p, V + 2] - own[2]
            off = r[0] * normal[0] + r[1] * normal[1] + r[2] * normal[2]
            # what is below bears it, unless it comes off or has not come down yet
            borne = off <= 0.0 and sample(phi, where, x, y, z) <= film[p, 0]
            for d in range(3):
                along = r[d] - off * normal[d] + weight * film[p, 1 + d]
                record[p, V + d] = own[d] + keep * along + (0.0 if borne else off) * normal[d]


def slow(at_hand: Arranged, film: np.ndarray, nu: np.ndarray, kick: np.ndarray, solids: Solids, dt: float) -> None:
    """Let walls slow the particles of films along themselves, and bear them, in place.

    Parameters
    ----------
    film : float32 (n, 4), as measured
    nu : float32 (n,), kinematic viscosity, voxels^2 per second
    kick : (3,), voxels per second that gravity has given: what lies on a wall runs down its own slope
    dt : seconds that it acts
    """
    record = at_hand.particles.record
    walls = (solids.phi, solids.owner, solids.motion, solids.touch)
    _slow(at_hand.tiling.start, record, at_hand.tiles.where, film, nu, kick.astype(np.float32), dt, *walls)
