"""What the pressure does between the halves of a pair to hold forces up, and what that does to liquid that turns.

Forces come whole in a pair's second half. So where the pressure holds them, as it makes of gravity the inwards pull of
liquid that turns in a vessel, the grid's flow swings about its mean: it lacks half of their work in the first half, and
has half too much in the second. Particles are carried by both, but what they carry through the first half lacks all of
it: along a curved way, velocity would turn with it. A steady swing X, added to particles before they go that way and
taken off again where they come to, gives what they missed; since it is the same field on both ends, what it does is
X(start) - X(end): nothing in falling or resting liquid, and in a turning vessel just what keeps its angular momentum.
Without it a pair changes that by the swing of the radial flow times the pair's half (derived here; case A36).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numba import prange

from basin.grid.lanes import AHEAD, CONTRACT, prefetch
from basin.grid.tiles import load, tile_set
from basin.kernels import shared
from basin.liquid.advection import BLOCK, RIM, sampled
from basin.liquid.particles import V, X
from basin.liquid.sorting import Arranged

if TYPE_CHECKING:
    from basin.liquid.world import LiquidFields

# of each pair in the mean: one pair's swing is noisy, and what it does comes back in the next one's
SHARE = np.float32(0.1)
UNKNOWN = np.float32(np.nan)


@shared
def _renew(first, second, before, u0, v0, w0, u, v, w, old, kick, length, most, pull):
    for n in prange(second.shape[0]):
        p, q, r = first[n], second[n], before[n]
        for axis in range(3):
            a = u0[p] if axis == 0 else (v0[p] if axis == 1 else w0[p])
            b = u[q] if axis == 0 else (v[q] if axis == 1 else w[q])
            for i in range(8):
                for j in range(8):
                    for k in range(8):
                        x, y = a[i, j, k], b[i, j, k]
                        if x == 0.0 or y == 0.0:  # beyond what was extrapolated
                            pull[axis, n + 1, i, j, k] = UNKNOWN
                            continue
                        now = min(max((y - x - kick[axis]) / length, -most), most)
                        held = old[axis, r, i, j, k]
                        pull[axis, n + 1, i, j, k] = now if held != held else held + SHARE * (now - held)


@dataclass(frozen=True)
class Swing:
    """The swing over a pair's length less what forces give to liquid that falls, mean of some ten pairs.

    Attributes
    ----------
    number : int64 (n,), the tiles' places in the grid of tiles, ascending
    pull : float32 (3, n + 1, 8, 8, 8), at faces, voxels/s^2; not a number where there was no liquid near, nor in row 0
    """

    number: np.ndarray
    pull: np.ndarray

    @staticmethod
    def none() -> Swing:
        """Nothing is known yet."""
        return Swing(np.zeros(0, np.int64), np.full((3, 1, 8, 8, 8), UNKNOWN))

    def renewed(self, first: LiquidFields, second: LiquidFields, kick: np.ndarray, length: float, most: float) -> Swing:
        """With the flow of a pair's halves.

        Parameters
        ----------
        kick : (3,) voxels/s that gravity gave
        length : of the pair, seconds
        most : voxels/s^2 that the pressure can be holding, for each component
        """
        row = first.tiles.rows(second.tiles.number)
        known = np.flatnonzero(row > 0)
        number = second.tiles.number[known]
        old = np.minimum(np.searchsorted(self.number, number), max(len(self.number) - 1, 0))
        held = self.number[old] == number if len(self.number) else np.zeros(len(number), bool)
        pull = np.empty((3, len(number) + 1, 8, 8, 8), np.float32)
        pull[:, 0] = UNKNOWN
        rows = (row[known], known + 1, np.where(held, old + 1, 0))
        given = (kick.astype(np.float32), np.float32(length), np.float32(most))
        _renew(*rows, *first.velocity, *second.velocity, self.pull, *given, pull)
        return Swing(number, pull)


@shared(fastmath=CONTRACT)
def _turn(tile_start, first, start, record, alone, hidden, u, v, w, where, length):
    masked = hidden.shape[0] > 0
    for t in prange(first.shape[0]):
        block = np.empty((3, BLOCK, BLOCK, BLOCK), np.float32)
        i, j, k = first[t, 0] - RIM, first[t, 1] - RIM, first[t, 2] - RIM
        load(u, where, i, j, k, block[0])
        load(v, where, i, j, k, block[1])
        load(w, where, i, j, k, block[2])
        line = block.reshape(3 * BLOCK**3)
        for index in range(tile_start[t], tile_start[t + 1]):
            p = np.uint64(index)
            prefetch(record, p + np.uint64(AHEAD))
            if alone[p] or (masked and hidden[p] != 0):
                continue
            x, y, z = start[p, 0], start[p, 1], start[p, 2]
            a = sampled(line, False, u, v, w, where, i, j, k, x, y, z)
            x, y, z = record[p, X], record[p, X + 1], record[p, X + 2]
            b = sampled(line, False, u, v, w, where, i, j, k, x, y, z)
            x, y, z = a[0] - b[0], a[1] - b[1], a[2] - b[2]
            if x == x and y == y and z == z:
                record[p, V] += length * x
                record[p, V + 1] += length * y
                record[p, V + 2] += length * z


def turn(start: np.ndarray, at_hand: Arranged, alone: np.ndarray, swing: Swing, length: float) -> None:
    """Give particles that have come from `start` (n, 3) what the swing turned of their velocities, in place.

    Parameters
    ----------
    alone : which fly alone (bool); these, and those that do not see all faces, are left as they are
    length : of the pair, seconds
    """
    if len(swing.number):
        where = tile_set(at_hand.tiles.layout, swing.number).where
        tiling, own = at_hand.tiling, (start, at_hand.particles.record, alone, at_hand.hidden)
        _turn(tiling.start, tiling.first, *own, *swing.pull, where, np.float32(length))
