"""Keeps the number of particles per cell within bounds; volume and momentum are conserved.

On demand there are more and smaller particles about the surface, where its form and what tension makes of it go by them
(as Ando, Thuerey & Tsuruno 2012, "Preserving fluid sheets with adaptively sampled anisotropic particles", and others
spend them). They part along the surface, so that it stays where it is.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import at, gradient
from basin.kernels import shared
from basin.liquid.particles import M, Particles, X, new_ids
from basin.liquid.sorting import Arranged
from basin.randomness import uniform

FEWEST_SHARE = 0.26
MOST_SHARE = 2.0
SMALLEST_SHARE = 0.2  # of a fresh particle's volume: smaller ones are not split again
DEEP = -0.75
SHALLOW = -1.5  # voxels: above, particles are at the surface
BIGGER = 1.5  # times as large as meant: those at the surface are split
BESIDE = 0.5  # spacings that a pair is apart, along each axis at most, of its parent
LOW, AT_SURFACE = 1, 2  # why one is split


@shared
def _choose(first, record, phi, where, fewest, most, smallest, finer, meant, hidden, remove_into, split, changed):
    """Per cell run of sorted particles: pairs to merge, and which to split, why.

    At the surface there may be `finer` times as many, each of a volume of `meant`. `first` (t + 1,) says where each
    tile's particles begin; `remove_into[p]` is the particle that takes p's volume, or -1; `changed` (t,) marks tiles
    where anything is to be done.
    """
    masked = hidden.shape[0] > 0
    for t in prange(first.shape[0] - 1):
        n = first[t + 1]
        start = first[t]
        while start < n:
            i, j, k = int(record[start, 0]), int(record[start, 1]), int(record[start, 2])
            end = start + 1
            while end < n and int(record[end, 0]) == i and int(record[end, 1]) == j and int(record[end, 2]) == k:
                end += 1
            count = end - start
            level = at(phi, where, i, j, k)
            shallow = finer > 1 and level > SHALLOW
            for _ in range(max(count - (finer * most if shallow else most), 0)):
                # the closest pair of the cell, the smaller one goes
                best, keep, gone = 1e9, -1, -1
                for a in range(start, end):
                    if remove_into[a] >= 0:
                        continue
                    for b in range(a + 1, end):
                        if remove_into[b] >= 0:
                            continue
                        if masked and hidden[a] != hidden[b]:
                            continue  # a thin wall may part them
                        d = 0.0
                        for c in range(3):
                            d += (record[a, c] - record[b, c]) ** 2
                        if d < best:
                            best, keep, gone = d, a, b
                if gone < 0:
                    break
                remove_into[gone] = keep
                changed[t] = 1
            if shallow:
                for a in range(start, end):
                    if record[a, M] > BIGGER * meant and not (masked and hidden[a] != 0):
                        split[a] = AT_SURFACE
                        changed[t] = 1
            elif count < fewest and level < DEEP:
                heavy = start
                for a in range(start, end):
                    if record[a, M] > record[heavy, M]:
                        heavy = a
                if record[heavy, M] > 2.0 * smallest and not (masked and hidden[heavy] != 0):
                    split[heavy] = LOW
                    changed[t] = 1
            start = end


@shared
def _merge(first, changed, remove_into, record, carried):
    for t in prange(first.shape[0] - 1):
        if not changed[t]:
            continue
        for p in range(first[t], first[t + 1]):
            q = remove_into[p]
            if q < 0:
                continue
            while remove_into[q] >= 0:
                q = remove_into[q]
            total = record[p, M] + record[q, M]
            f = record[p, M] / total
            for d in range(M):
                record[q, d] += f * (record[p, d] - record[q, d])
            for d in range(carried.shape[1]):
                carried[q, d] += f * (carried[p, d] - carried[q, d])
            record[q, M] = total


@shared
def _along_surface(record, phi, where, offset):
    """Take from offsets (n, 3) of particles what goes across the surface, in place."""
    h = np.float32(0.5)
    for p in prange(offset.shape[0]):
        x, y, z = gradient(phi, where, record[p, X] - h, record[p, X + 1] - h, record[p, X + 2] - h)
        across = x * offset[p, 0] + y * offset[p, 1] + z * offset[p, 2]
        offset[p, 0] -= across * x
        offset[p, 1] -= across * y
        offset[p, 2] -= across * z


def resampled(
    at_hand: Arranged, phi: np.ndarray, per_cell: int, next_id: int, epoch: int, finer: int = 1
) -> tuple[Particles, int]:
    """Merge where cells are crowded, split where deep cells run low, and what is too large at the surface.

    Parameters
    ----------
    finer : times as many as `per_cell` there are at the surface
    next_id : first free id; one child of a split keeps its parent's
    epoch : number of the substep, seeds the offsets of the split

    Returns
    -------
    (particles, next_id)

    Raises
    ------
    OverflowError
        When there are no more ids.
    """
    particles, tiling, hidden = at_hand.particles, at_hand.tiling, at_hand.hidden
    into = np.full(len(particles), -1, np.int64)
    split = np.zeros(len(particles), np.uint8)
    fewest = max(int(FEWEST_SHARE * per_cell), 1)
    most = int(np.ceil(MOST_SHARE * per_cell))
    smallest = SMALLEST_SHARE / per_cell
    changed = np.zeros(len(tiling.number), np.uint8)
    limits = (fewest, most, smallest, finer, 1.0 / (per_cell * finer))
    _choose(tiling.start, particles.record, phi, at_hand.tiles.where, *limits, hidden, into, split, changed)
    if not changed.any():
        return particles, next_id
    _merge(tiling.start, changed, into, particles.record, particles.carried)
    split[into >= 0] = 0
    some = split > 0
    child = particles.taken(some)
    if len(child):
        offset = (uniform(child.id, epoch, 3) - np.float32(0.5)) * np.float32(0.5)
        above = np.flatnonzero(split[some] == AT_SURFACE)
        if len(above):
            beside = offset[above] * np.float32(2 * BESIDE) * np.cbrt(child.volume[above])[:, None]
            _along_surface(child.record[above], phi, at_hand.tiles.where, beside)
            offset[above] = beside
        child.record[:, M] *= np.float32(0.5)
        particles.volume[some] = child.volume
        # one goes each way, so that the pair keeps its centre; velocities follow the affine field
        drift = np.einsum("nij,nj->ni", child.affine, offset)
        child.position[:] += offset
        child.velocity[:] += drift
        particles.position[some] -= offset
        particles.velocity[some] -= drift
        child.id = new_ids(next_id, len(child))
        next_id += len(child)
    particles = particles.taken(into < 0)
    return (particles.joined(child) if len(child) else particles), next_id
