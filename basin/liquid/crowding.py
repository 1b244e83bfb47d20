"""Particles on walls keep apart.

What the grid moves, it moves alike: particles that lie together stay together. On walls, where they come to rest, they
gather in heaps and rows, which no displacement as coarse as a cell takes apart, and a coat of them has lumps and holes.
So those near a wall are pushed off what lies nearer to them than it would if all were even, as Ando, Thuerey & Tsuruno
2012 push theirs (IEEE TVCG 18(8)), a little in each substep. Positions alone move, pair by pair, so that the middle of
both stays where it is; what is even already does not move at all, so that no rim creeps.

Particles of films too thin for the grid lie side by side: their room is along the wall, and wider the thinner they are.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import at, gradient, sample
from basin.kernels import kernel, shared
from basin.liquid.particles import M, X
from basin.liquid.solids import Solids
from basin.liquid.sorting import Arranged, Cells

NEAR = 1.5  # voxels from a wall within which particles keep apart
IN_BODY = 0.6  # of the width of a particle's cube: nearer than this to another it is pushed
IN_FILM = 0.75  # of its square's, in a film as thin as its own
FARTHEST = 1.0  # voxels: no particle is pushed off what is farther
ON_SAME = 1.0  # voxels across a film: what is farther off is of another wall's
RATE = 0.25  # share of what is missing that is given in a substep
LONGEST = 0.1  # voxels that a particle is pushed in a substep at most
ANYWHERE = (np.float32(0.267), np.float32(0.535), np.float32(0.802))  # the way apart of two at one place


@shared
def _rooms(start, first, record, where, near, phi, film, hidden, room):
    """How far particles near walls keep from others, voxels, and in their film: float32 (n, 2), 0 for others."""
    for t in prange(first.shape[0]):
        if not near[t]:
            continue
        for p in range(start[t], start[t + 1]):
            if hidden.shape[0] > 0 and hidden[p] != 0:  # what lies on both sides of a thin wall does not meet
                continue
            if sample(phi, where, record[p, X], record[p, X + 1], record[p, X + 2]) > NEAR:
                continue
            room[p, 0] = IN_BODY * np.cbrt(record[p, M])
            if film.shape[0] > 0 and film[p, 0] > 0:
                room[p, 1] = IN_FILM * np.sqrt(record[p, M] / film[p, 0])


@kernel
def _seen(x, cell):
    """A coordinate as it is seen from a cell beside it, which in periodic domains is not where it is."""
    return cell + (x - np.floor(x))


@shared
def _push(start, first, record, where, near, begin, end, phi, room, move):
    for t in prange(first.shape[0]):
        if not near[t]:
            continue
        for p in range(start[t], start[t + 1]):
            if room[p, 0] <= 0:
                continue
            x, y, z, own = record[p, X], record[p, X + 1], record[p, X + 2], record[p, M]
            i, j, k = int(x), int(y), int(z)
            flat = room[p, 1] > 0
            n0, n1, n2 = np.float32(0.0), np.float32(0.0), np.float32(0.0)
            if flat:
                n0, n1, n2 = gradient(phi, where, x, y, z)
            mx, my, mz = 0.0, 0.0, 0.0
            for cell in range(27):
                a, b, c = i + cell // 9 - 1, j + cell // 3 % 3 - 1, k + cell % 3 - 1
                for q in range(at(begin, where, a, b, c), at(end, where, a, b, c)):
                    if q == p or room[q, 0] <= 0:
                        continue
                    both = flat and room[q, 1] > 0
                    least = 0.5 * (room[p, 1] + room[q, 1] if both else room[p, 0] + room[q, 0])
                    least = min(least, FARTHEST)
                    dx, dy, dz = (
                        x - _seen(record[q, X], a),
                        y - _seen(record[q, X + 1], b),
                        z - _seen(record[q, X + 2], c),
                    )
                    squared = dx * dx + dy * dy + dz * dz
                    if squared < 1e-8:
                        way = 1e-4 if p < q else -1e-4
                        dx, dy, dz = way * ANYWHERE[0], way * ANYWHERE[1], way * ANYWHERE[2]
                    if both:
                        up = dx * n0 + dy * n1 + dz * n2
                        if abs(up) > ON_SAME:
                            continue
                        dx, dy, dz = dx - up * n0, dy - up * n1, dz - up * n2
                    squared = dx * dx + dy * dy + dz * dz
                    if squared >= least * least:
                        continue
                    away = np.sqrt(squared)
                    push = RATE * (least - away) * record[q, M] / (own + record[q, M]) / max(away, 1e-6)
                    mx, my, mz = mx + push * dx, my + push * dy, mz + push * dz
            length = np.sqrt(mx * mx + my * my + mz * mz)
            held = min(1.0, LONGEST / max(length, 1e-12))
            move[p, 0], move[p, 1], move[p, 2] = held * mx, held * my, held * mz


@shared
def _move(start, near, move, record):
    for t in prange(near.shape[0]):
        if near[t]:
            for p in range(start[t], start[t + 1]):
                for d in range(3):
                    record[p, X + d] += move[p, d]


def keep_apart(at_hand: Arranged, cells: Cells, film: np.ndarray | None, solids: Solids) -> None:
    """Push particles near walls off each other, in place.

    Parameters
    ----------
    cells : where the particles of cells near walls are
    film : float32 (n, 4), thickness of thin films (voxels) first, 0 for others; None without any
    """
    record, tiling, where = at_hand.particles.record, at_hand.tiling, at_hand.tiles.where
    room, move = np.zeros((len(record), 2), np.float32), np.zeros((len(record), 3), np.float32)
    thickness = np.zeros((0, 4), np.float32) if film is None else film
    places = (tiling.start, tiling.first, record, where, cells.near)
    _rooms(*places, solids.phi, thickness, at_hand.hidden, room)
    _push(*places, cells.begin, cells.end, solids.phi, room, move)
    _move(tiling.start, cells.near, move, record)
