"""The liquid's level set from its particles, and the density that it is drawn from.

Particles are splatted with quadratic B-splines and divided by what a full neighbourhood would give
there, so that a wall beside the liquid does not look like air. The half-full contour is the
surface. A volume kept by the particles is so a volume kept by the surface.
"""

from __future__ import annotations

import numpy as np
from numba import prange
from scipy.special import ndtri

from basin.grid.lanes import AHEAD, CONTRACT, add_spline, prefetch
from basin.grid.tiles import WITHIN, Tiles, add, all_below, load, none_below, row_of
from basin.kernels import kernel, shared
from basin.liquid.particles import M, Particles, X
from basin.liquid.room import WHOLE, mean_of_block
from basin.liquid.solids import Solids
from basin.liquid.sorting import EVERYTHING_SEEN, Tiling
from basin.liquid.thin import seen_cell

FAR = np.float32(2.5)
WIDE = 12  # floats in a row of a tile's block: rows of four that begin at its last cells stay within it
WIDTH = np.float32(np.sqrt(0.75))  # voxels: the spline's variance 1/4 and the binomial's 1/2
FAINTEST = np.float32(0.002)
FARTHEST = np.float32(-WIDTH * ndtri(FAINTEST))  # voxels: what the faintest share stands for
FAITHFUL = np.float32(1.6)  # voxels: beyond, the kernel's tail is too thin to tell the distance
LEAST_ROOM = np.float32(0.30)  # neighbourhoods with less open space than this take their neighbours' word
WELL_SEEN = (0.5, 0.7)  # open share of a neighbourhood from which its own value counts, and counts alone
FLATTER = 0.001  # pull of a fitted plane's slope towards zero


@kernel
def _spline(d):
    """Quadratic B-spline weights of the cells at -1, 0, 1 for an offset d in [-0.5, 0.5]."""
    h = np.float32(0.5)
    return h * (h - d) ** 2, np.float32(0.75) - d * d, h * (h + d) ** 2


@kernel
def _add_to_seen(line, place, m, a, b, c, mask):
    """The same as `add_spline`, but for the cells that the particle does not see."""
    wx, wy, wz = _spline(a), _spline(b), _spline(c)
    for q in range(27):
        if seen_cell(mask, q):
            i, j, k = q // 9, q // 3 % 3, q % 3
            line[place + np.uint64((i * WIDE + j) * WIDE + k)] += m * wx[i] * wy[j] * wz[k]


@kernel(parallel=True, fastmath=CONTRACT)
def _splat(chosen, start, first, where, record, hidden, density):
    h, one = np.float32(0.5), np.uint64(1)
    masked = hidden.shape[0] > 0
    for n in prange(chosen.shape[0]):
        t = chosen[n]
        block = np.zeros((10, WIDE, WIDE), np.float32)
        line = block.reshape(10 * WIDE * WIDE)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        fx, fy, fz = np.float32(i0), np.float32(j0), np.float32(k0)
        for index in range(start[t], start[t + 1]):
            p = np.uint64(index)
            prefetch(record, p + np.uint64(AHEAD))
            x = min(record[p, X] - fx, WITHIN)
            y = min(record[p, X + 1] - fy, WITHIN)
            z = min(record[p, X + 2] - fz, WITHIN)
            i, j, k = np.uint64(x), np.uint64(y), np.uint64(z)
            a, b, c = x - np.float32(i) - h, y - np.float32(j) - h, z - np.float32(k) - h
            place = ((i - one) * np.uint64(WIDE) + j - one) * np.uint64(WIDE) + k - one
            if masked and hidden[p] != 0:
                _add_to_seen(line, place, record[p, M], a, b, c, hidden[p])
            else:
                add_spline(line, place, np.uint64(WIDE), record[p, M], a, b, c)
        add(density, where, i0, j0, k0, block[:, :10, :10])


def density(particles: Particles, tiling: Tiling, tiles: Tiles, hidden: np.ndarray = EVERYTHING_SEEN) -> np.ndarray:
    """Particle volume per voxel volume at cell centres, a field on `tiles`.

    Parameters
    ----------
    hidden : what particles do not see for thin walls (`basin.liquid.thin.unseen`)
    """
    result = tiles.field()
    for chosen in tiling.colours:
        if len(chosen):
            _splat(chosen, tiling.start, tiling.first, tiles.where, particles.record, hidden, result)
    tiles.fold(result)
    return result


@kernel
def _mean_of_seen(block, i, j, k, mask):
    """Binomial mean over the neighbours that a cell sees; the others count as empty."""
    total = np.float32(0.0)
    for q in range(27):
        if seen_cell(np.uint64(mask), q):
            a, b, c = q // 9, q // 3 % 3, q % 3
            weight = 2.0 ** (-3 - abs(a - 1) - abs(b - 1) - abs(c - 1))
            total += np.float32(weight) * block[i + a, j + b, k + c]
    return total


@shared
def _filled(share, where, first, wide, slot, hidden, out):
    for t in prange(1, first.shape[0]):
        s = slot[t]
        block = np.empty((10, 10, 10), np.float32)
        load(share, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block)
        soft = mean_of_block(block, 0.25, 0.5)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    room = wide[t, i, j, k]
                    mean = soft[i, j, k]
                    if s >= 0 and hidden[s, i, j, k] != 0:
                        mean = _mean_of_seen(block, i, j, k, hidden[s, i, j, k])
                    out[t, i, j, k] = mean / room if room >= LEAST_ROOM else np.float32(0.0)


@kernel
def solve_symmetric(a, b, n):
    """Solve the symmetric positive system a x = b of n rows in place (Cholesky)."""
    for c in range(n):
        for r in range(c, n):
            t = a[r, c]
            for k in range(c):
                t -= a[r, k] * a[c, k]
            a[r, c] = np.sqrt(max(t, 1e-12)) if r == c else t / a[c, c]
    for r in range(n):
        for k in range(r):
            b[r] -= a[r, k] * b[k]
        b[r] /= a[r, r]
    for r in range(n - 1, -1, -1):
        for k in range(r + 1, n):
            b[r] -= a[k, r] * b[k]
        b[r] /= a[r, r]


@kernel
def _near_surface(block, flags):
    """Which cells of a block have values on both sides of what can be told, or any that can, among their neighbours.

    Parameters
    ----------
    flags : uint8 (2, 10, 10, 10), scratch; the second becomes 3 at such cells, but for those at the block's edge
    """
    one, other = flags.reshape(2, 1000)
    line = block.reshape(1000)
    for n in range(1000):
        one[n] = np.uint8(line[n] < FAITHFUL) | (np.uint8(line[n] > -FAITHFUL) << np.uint8(1))
    for n in range(1, 999):
        other[n] = one[n - 1] | one[n] | one[n + 1]
    for n in range(10, 990):
        one[n] = other[n - 10] | other[n] | other[n + 10]
    for n in range(100, 900):
        other[n] = one[n - 100] | one[n] | one[n + 100]


@shared
def _at_walls(beside, first, where, wide, middle, slot, hidden, phi, out):
    # each field as one line: an unsigned place in it spares the tests of four indices
    rooms, values, middles = wide.reshape(wide.size), phi.reshape(phi.size), middle.reshape(middle.size)
    eight, three, cut_off = np.uint64(8), np.uint64(3), 1e-3
    for n in prange(beside.shape[0]):
        t = beside[n]
        s = slot[t]
        block = np.empty((10, 10, 10), np.float32)
        load(phi, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block)
        line = block.reshape(1000)
        if none_below(line, FAITHFUL) or all_below(line, -FAITHFUL):
            continue  # beyond what a kernel can tell only the side counts, and that is known
        flags = np.empty((2, 10, 10, 10), np.uint8)
        _near_surface(block, flags)
        a, b = np.zeros((4, 4)), np.zeros(4)
        for ci in range(8):
            for cj in range(8):
                for ck in range(8):
                    if flags[1, ci + 1, cj + 1, ck + 1] != 3:
                        continue
                    if wide[t, ci, cj, ck] >= WHOLE or wide[t, ci, cj, ck] <= 0.0:
                        continue
                    most = -FAR
                    # sums of the plane's least squares, each a number of its own: an array would be in memory
                    one = mx = my = mz = xx = xy = yy = xz = yz = zz = 0.0
                    value_one = value_x = value_y = value_z = 0.0
                    i, j, k = first[t, 0] + ci, first[t, 1] + cj, first[t, 2] + ck
                    mask = np.uint64(hidden[s, ci, cj, ck]) if s >= 0 else np.uint64(0)
                    for di in range(-1, 2):
                        for dj in range(-1, 2):
                            for dk in range(-1, 2):
                                if not seen_cell(mask, 9 * di + 3 * dj + dk + 13):
                                    continue
                                ni, nj, nk = i + di, j + dj, k + dk
                                m = row_of(where, ni, nj, nk)
                                p = ((m * eight + np.uint64(ni & 7)) * eight + np.uint64(nj & 7)) * eight
                                p += np.uint64(nk & 7)
                                e = rooms[p]
                                if e < LEAST_ROOM:
                                    continue
                                q = three * p
                                x = di + middles[q]
                                y = dj + middles[q + np.uint64(1)]
                                z = dk + middles[q + np.uint64(2)]
                                value = values[p]
                                most = max(most, value)
                                weight = e * e / (1.0 + x * x + y * y + z * z)
                                weight *= cut_off if abs(value) > FAITHFUL else 1.0  # it only says on which side
                                wx, wy, wz = weight * x, weight * y, weight * z
                                one, mx, my, mz = one + weight, mx + wx, my + wy, mz + wz
                                xx, xy, yy = xx + wx * x, xy + wy * x, yy + wy * y
                                xz, yz, zz = xz + wz * x, yz + wz * y, zz + wz * z
                                value_one, value_x = value_one + weight * value, value_x + wx * value
                                value_y, value_z = value_y + wy * value, value_z + wz * value
                    if one <= 0.0:
                        continue
                    a[0, 0], a[1, 0], a[2, 0], a[3, 0] = one, mx, my, mz
                    a[1, 1], a[2, 1], a[2, 2] = xx, xy, yy
                    a[3, 1], a[3, 2], a[3, 3] = xz, yz, zz
                    b[0], b[1], b[2], b[3] = value_one, value_x, value_y, value_z
                    for d in range(1, 4):
                        a[d, d] += FLATTER * a[0, 0]
                    solve_symmetric(a, b, 4)
                    # Deep down all that a slope can show is that a few particles are missing; air that none of the
                    # neighbours sees is none, and a hole there would let the liquid jet.
                    value, here = phi[t, ci, cj, ck], wide[t, ci, cj, ck]
                    if abs(value) <= FAITHFUL and here > WELL_SEEN[0]:
                        own = value
                        for d in range(3):
                            own -= b[d + 1] * middle[t, ci, cj, ck, d]
                        trust = min((here - WELL_SEEN[0]) / (WELL_SEEN[1] - WELL_SEEN[0]), 1.0)
                        b[0] += trust * (own - b[0])
                    fitted = min(max(np.float32(b[0]), -FAR), FAR)
                    out[t, ci, cj, ck] = most if most < 0.0 <= fitted else fitted


def level_set(share: np.ndarray, solids: Solids) -> np.ndarray:
    """Distance to the liquid's surface at cell centres in voxels, negative inside, within +-2.5.

    Across a flat surface the softened share falls with the normal distribution whatever the
    surface's direction, so its inverse is the distance. A kernel that is not the same in all
    directions would leave a pattern of errors locked to the grid, which drives currents along a
    resting surface that lies askew.

    Where a wall cuts the kernel, what is left of it has its middle away from the cell's centre, and
    the distance belongs there. The slope of a plane through such values of the neighbourhood (least
    squares) carries it to the centre; else a surface that meets a leaning wall would seem bent, and
    flow. Only where the wall leaves too little of the kernel does the plane's height count as well: it
    is a mean over three cells, and flattens waves (case A16).

    Parameters
    ----------
    share : from `density`, on the tiles of `solids`
    """
    tiles = solids.tiles
    filled = tiles.field()
    thin = (solids.thin.slot, solids.thin.hidden)
    _filled(share, tiles.where, tiles.first, solids.wide, *thin, filled)
    phi = np.where(filled > np.float32(0.5), -FARTHEST, FARTHEST)
    between = (filled > FAINTEST) & (filled < 1 - FAINTEST)
    phi[between] = -WIDTH * ndtri(filled[between])
    phi[solids.wide < LEAST_ROOM] = FAR
    out = phi.copy()
    _at_walls(solids.beside, tiles.first, tiles.where, solids.wide, solids.middle, *thin, phi, out)
    return out


@shared
def _ballistic(start, first, where, record, index, out):
    for t in prange(first.shape[0]):
        block = np.empty((10, 10, 10), np.int32)
        load(index, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block)
        if none_below(block.reshape(1000), 0):
            continue
        fx, fy, fz = np.float32(first[t, 0]), np.float32(first[t, 1]), np.float32(first[t, 2])
        for p in range(start[t], start[t + 1]):
            x, y, z = record[p, X] - fx, record[p, X + 1] - fy, record[p, X + 2] - fz
            i, j, k = min(int(x), 7), min(int(y), 7), min(int(z), 7)
            if block[i + 1, j + 1, k + 1] < 0:
                out[p] = block[i : i + 3, j : j + 3, k : k + 3].max() < 0


def ballistic(particles: Particles, tiling: Tiling, index: np.ndarray, tiles: Tiles) -> np.ndarray:
    """Which particles have no cell with a pressure among their 27 neighbours: they fly on their own.

    A film at a wall may have cells whose centres lie in it, but no room to flow: nothing would ever move it.

    Parameters
    ----------
    index : int32 field, row of each cell in the pressure's matrix, -1 for none
    """
    result = np.zeros(len(particles), np.bool_)
    _ballistic(tiling.start, tiling.first, tiles.where, particles.record, index, result)
    return result
