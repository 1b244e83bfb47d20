"""Deep liquid without particles: a band of them under the surface, and volume and velocity on the grid below.

After Ferstl, Ando, Wojtan, Westermann & Thuerey 2016, "Narrow band FLIP for liquid simulations". Here the deep
liquid keeps its volume: a cell below the band holds what its particles held, passes it on with the flow, and gives
particles to the band where the flow leaves it upwards; what comes down is taken in. So the edge neither loses nor
gains. Velocities below are carried by the grid itself, along paths of second order through a cubic interpolation
(Catmull & Rom 1974), whose losses are small where flow is smooth; below a band it is.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.tiles import Tiles, all_zero, at, load, velocity_in
from basin.kernels import kernel, shared
from basin.liquid.levelset import FARTHEST, LEAST_ROOM
from basin.liquid.particles import M, Particles, X, new_ids
from basin.liquid.room import mean_of_block
from basin.liquid.solids import Solids
from basin.liquid.sorting import Arranged, Tiling
from basin.liquid.sources import DrainZone
from basin.randomness import uniform

DEEPEST = 8  # cells about a tile in which air is looked for
FULL = np.float32(1e4)  # depth of what is farther from it
ASIDE = 6  # cells about a tile from which the grid's own flow may come: no way is longer
WIDE = 8 + 2 * ASIDE
EVENING = 0.02  # share of the difference between neighbouring cells' volumes that is evened out per step
LEAST_SHARE = np.float32(0.1)  # open share of cells that take part in that
# fractions of the plastic constant's sequence (Roberts 2018): any number of points that fill a cell evenly
SPREAD = 1.0 / 1.2207440846057596 ** np.arange(1, 4)
TURNED = np.array([[0.0, 0.6180340, 0.3819660], [0.3819660, 0.0, 0.6180340], [0.6180340, 0.3819660, 0.0]])
SLACK = 0.5  # voxels that the band's edge may stray before cells change hands


@dataclass
class Bulk:
    """Liquid below the band, on tiles of its own.

    Attributes
    ----------
    number : int64 (n,), the tiles' places in the grid of tiles
    volume : float32 (n, 8, 8, 8), voxels^3 that each cell holds; 0 where there are particles
    owed : float32 (n, 8, 8, 8), the part of it that has left for the band, but is less than a particle yet
    velocity : float32 (3, n, 8, 8, 8), face velocities that have moved with the liquid, voxels/s
    """

    number: np.ndarray
    volume: np.ndarray
    owed: np.ndarray
    velocity: np.ndarray

    @staticmethod
    def none() -> Bulk:
        """Nothing."""
        f = np.float32
        nothing = np.zeros((0, 8, 8, 8), f)
        return Bulk(np.zeros(0, np.int64), nothing, nothing, np.zeros((3, 0, 8, 8, 8), f))

    def total(self) -> float:
        """Volume held, voxels^3."""
        return float(self.volume.sum(dtype=np.float64))

    def boxes(self, shape: tuple[int, int, int]) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest cells (n, 3) of the tiles that hold volume, for a grid of `shape` tiles."""
        held = (self.volume > 0).any(axis=(1, 2, 3))
        first = np.stack(np.unravel_index(self.number[held], shape), axis=1).astype(np.int64) * 8
        return first, first + 7

    def on(self, tiles: Tiles) -> Below:
        """The same as fields on other tiles."""
        row = tiles.rows(self.number)
        volume, owed, *velocity = (tiles.field() for _ in range(5))
        for field, mine in ((volume, self.volume), (owed, self.owed), *zip(velocity, self.velocity, strict=True)):
            field[row[row > 0]] = mine[row > 0]
        return Below(volume, owed, velocity)

    @staticmethod
    def of(tiles: Tiles, below: Below) -> Bulk:
        """The part of fields on tiles that lies about cells with volume."""
        held = np.zeros(len(below.volume), bool)
        _beside(below.volume, tiles.where, tiles.first, held)
        held[0] = False
        velocity = np.stack([u[held] for u in below.velocity])
        return Bulk(tiles.number[held[1:]], below.volume[held], below.owed[held], velocity)


@dataclass
class Below:
    """Liquid below the band as fields on the tiles of a substep; see `Bulk`."""

    volume: np.ndarray
    owed: np.ndarray
    velocity: list[np.ndarray]


@dataclass(frozen=True)
class MadeOf:
    """What the particles of tiles are, for those that come up from below the band, where nobody knows any more.

    Attributes
    ----------
    source : uint16 (t + 1,), the source that most of a tile's particles are of
    carried : float32 (t + 1, w), what they carry in the mean
    born : float32 (t + 1,), liquid seconds, in the mean
    """

    source: np.ndarray
    carried: np.ndarray
    born: np.ndarray


@dataclass(frozen=True)
class Births:
    """What is needed to make particles: how many a cell has, the first free id, the number of the substep, what they
    are made of."""

    per_cell: int
    next_id: int
    epoch: int
    like: MadeOf


@shared
def _beside(volume, where, first, held):
    for t in prange(1, first.shape[0]):
        for i in range(-8, 9, 8):
            for j in range(-8, 9, 8):
                for k in range(-8, 9, 8):
                    n = where[((first[t, 0] + i) >> 3) + 1, ((first[t, 1] + j) >> 3) + 1, ((first[t, 2] + k) >> 3) + 1]
                    if n > 0 and not held[t]:
                        held[t] = not all_zero(volume[n].reshape(512))


@shared
def _add_share(volume, where, first, share):
    for t in prange(1, first.shape[0]):
        block = np.empty((10, 10, 10), np.float32)
        load(volume, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, block)
        if not all_zero(block.reshape(1000)):
            share[t] += mean_of_block(block, 1 / 6, 2 / 3)


def add_share(share: np.ndarray, volume: np.ndarray, tiles: Tiles) -> None:
    """Add to the particles' density what cells without particles hold, in place."""
    if not volume.any():
        return
    tiles.wrap(volume)
    _add_share(volume, tiles.where, tiles.first, share)


@kernel
def _lower_envelope(field, out):
    """Along the first axis: the least of a window's squared distances, plus the square of the way there."""
    flat, rows = field.reshape((field.shape[0], -1)), out.reshape((out.shape[0], -1))
    rows[:] = FULL
    for i in range(out.shape[0]):
        for m in range(i, i + 2 * DEEPEST + 1):
            way = np.float32((m - i - DEEPEST) ** 2)
            for n in range(flat.shape[1]):
                rows[i, n] = min(rows[i, n], flat[m, n] + way)


@shared
def _depth(air, where, first, depth):
    n = 8 + 2 * DEEPEST
    for t in prange(1, first.shape[0]):
        depth[t] = FULL
        block = np.empty((n, n, n), np.uint8)
        load(air, where, first[t, 0] - DEEPEST, first[t, 1] - DEEPEST, first[t, 2] - DEEPEST, block)
        if all_zero(block.reshape(n * n * n)):
            continue
        # squared distances axis by axis (Felzenszwalb & Huttenlocher 2012), the axes turned on each time
        field = np.where(block > 0, np.float32(0.0), FULL)
        one, two, three = (
            np.empty((8, n, n), np.float32),
            np.empty((8, n, 8), np.float32),
            np.empty((8, 8, 8), np.float32),
        )
        _lower_envelope(field, one)
        _lower_envelope(np.ascontiguousarray(one.transpose(1, 2, 0)), two)
        _lower_envelope(np.ascontiguousarray(two.transpose(1, 2, 0)), three)
        found = three.transpose(1, 2, 0)
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    if found[i, j, k] <= DEEPEST * DEEPEST:
                        depth[t, i, j, k] = np.sqrt(found[i, j, k]) - np.float32(0.5)


def depth_under_surface(phi: np.ndarray, solids: Solids) -> np.ndarray:
    """Depth (voxels, within one) of cells under the nearest air; `FULL` beyond eight.

    Parameters
    ----------
    phi : level set; where the tiles end there is liquid or solid, but no air
    """
    tiles = solids.tiles
    air = ((phi >= 0) & (solids.wide >= LEAST_ROOM)).astype(np.uint8)
    air[0] = 0
    depth = tiles.field()
    _depth(air, tiles.where, tiles.first, depth)
    return depth


@kernel(parallel=True)
def _take_in(start, row, first, record, depth, moving, band, volume, gone):
    for t in prange(row.shape[0]):
        r = row[t]
        if moving[r]:
            continue
        for p in range(start[t], start[t + 1]):
            i = min(max(int(record[p, X]) - first[t, 0], 0), 7)
            j = min(max(int(record[p, X + 1]) - first[t, 1], 0), 7)
            k = min(max(int(record[p, X + 2]) - first[t, 2], 0), 7)
            if depth[r, i, j, k] >= band or volume[r, i, j, k] > 0.0:
                volume[r, i, j, k] += record[p, M]
                gone[p] = True


@shared
def _flowed(volume, room_of, u, v, w, ou, ov, ow, share, where, first, out, given, side_of):
    """What cells hold after a step of upwind fluxes between cells that hold something, and a little evening out.

    `given` is what leaves each of them for cells that hold nothing, `side_of` the side through which most does.
    """
    for t in prange(1, first.shape[0]):
        out[t] = volume[t]
        if all_zero(volume[t].reshape(512)):
            continue
        held, room = np.empty((10, 10, 10), np.float32), np.empty((10, 10, 10), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(volume, where, i0, j0, k0, held)
        load(room_of, where, i0, j0, k0, room)
        for i in range(1, 9):
            for j in range(1, 9):
                for k in range(1, 9):
                    if held[i, j, k] <= 0.0 or room[i, j, k] < LEAST_SHARE:
                        continue
                    own = held[i, j, k] / room[i, j, k]
                    change, most = 0.0, 0.0
                    for s in range(6):
                        axis, side = s // 2, s % 2
                        step = 1 if side else -1
                        a = i + (step if axis == 0 else 0)
                        b = j + (step if axis == 1 else 0)
                        c = k + (step if axis == 2 else 0)
                        fi, fj, fk = i0 + max(i, a), j0 + max(j, b), k0 + max(k, c)
                        if axis == 0:
                            flow = at(u, where, fi, fj, fk) * at(ou, where, fi, fj, fk)
                        elif axis == 1:
                            flow = at(v, where, fi, fj, fk) * at(ov, where, fi, fj, fk)
                        else:
                            flow = at(w, where, fi, fj, fk) * at(ow, where, fi, fj, fk)
                        leaves = flow * share * step
                        if held[a, b, c] > 0.0 and room[a, b, c] >= LEAST_SHARE:
                            other = held[a, b, c] / room[a, b, c]
                            change -= leaves * (own if leaves > 0.0 else other)
                            change += EVENING * min(room[i, j, k], room[a, b, c]) * (other - own)
                        elif held[a, b, c] <= 0.0 and leaves > 0.0:
                            given[t, i - 1, j - 1, k - 1] += np.float32(leaves * own)
                            if leaves > most:
                                most = leaves
                                side_of[t, i - 1, j - 1, k - 1] = s
                    out[t, i - 1, j - 1, k - 1] += np.float32(change)


def flowed(below: Below, shift: list[np.ndarray], solids: Solids, births: Births) -> Particles:
    """Pass on what cells hold with a shift of the liquid.

    What leaves one of them comes into its neighbour; what leaves for the band is owed, and given as soon as it
    makes a particle. What comes down from there its own particles carry.

    Parameters
    ----------
    below : changed in place; particles which leave take its velocity along
    shift : voxels, at faces

    Returns
    -------
    What the cells have given to the band.
    """
    tiles, volume, owed, per_cell = solids.tiles, below.volume, below.owed, births.per_cell
    farthest = max(float(np.abs(u[volume > 0]).max(initial=0.0)) for u in shift)
    steps = int(np.ceil(3 * farthest)) + 1  # an upwind step may not empty a cell
    side_of = tiles.field(0, np.uint8)
    for _ in range(steps):
        tiles.wrap(volume)
        after = np.zeros_like(volume)
        _flowed(volume, solids.own, *shift, *solids.open, 1 / steps, tiles.where, tiles.first, after, owed, side_of)
        volume = after
    owed[volume <= 0] = 0.0
    count = np.floor(np.minimum(owed, 0.5 * volume) * per_cell).astype(np.int32)
    count[~tiles.between_walls(range(3))] = 0
    each = np.float32(1 / per_cell)
    volume -= count * each
    owed -= count * each
    cell = np.repeat(np.argwhere(count > 0), count[count > 0], axis=0)
    side = side_of[count > 0].repeat(count[count > 0]).astype(int)
    number = new_ids(births.next_id, len(cell))
    place = (tiles.first[cell[:, 0]] + cell[:, 1:]).astype(np.float32)
    within = uniform(number, births.epoch, 3).clip(0.001, 0.999)
    axis, low = side // 2, side % 2 == 0
    way = np.zeros(len(cell), np.float32)
    for d in range(3):
        face = cell.copy()
        face[:, 1 + d] += ~low  # a tile's last cell has its high face in the next one
        through = face[:, 1 + d] < 8
        face[~through, 1 + d] = 7
        way = np.where(axis == d, np.abs(shift[d][tuple(face.T)]), way)
    beyond = within[np.arange(len(cell)), axis] * np.clip(way, 0.05, 1.0)
    place += within
    place[np.arange(len(cell)), axis] = np.where(
        low,
        tiles.first[cell[:, 0], axis] + cell[np.arange(len(cell)), 1 + axis] - beyond,
        tiles.first[cell[:, 0], axis] + cell[np.arange(len(cell)), 1 + axis] + 1 + beyond,
    )
    below.volume = volume
    return _particles_at(place, np.full(len(place), each), below.velocity, tiles, births)


def _particles_at(
    place: np.ndarray, volume: np.ndarray, velocity: list[np.ndarray], tiles: Tiles, births: Births
) -> Particles:
    """Particles (n, 3) that move with a flow and are what the others in their tiles are."""
    like = births.like
    fresh = Particles.at(place, volume, like.carried.shape[1])
    at = np.ascontiguousarray(fresh.position)
    fresh.velocity[:], fresh.affine[:] = _flow_at(at, *velocity, tiles.where)
    fresh.id[:] = new_ids(births.next_id, len(fresh))
    row = tiles.where[tuple((np.floor(at).astype(int) // 8 + 1).T)]
    fresh.source[:], fresh.carried[:], fresh.born[:] = like.source[row], like.carried[row], like.born[row]
    return fresh


@kernel(parallel=True)
def _moving_near(owner, phi, swift, out):
    for t in prange(1, phi.shape[0]):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    who = owner[t, i, j, k]
                    if who >= 0 and swift[who] and phi[t, i, j, k] < 5.0:
                        out[t] = True


def exchanged(
    at_hand: Arranged,
    below: Below,
    phi: np.ndarray,
    solids: Solids,
    band: float,
    births: Births,
    distance_of: Callable[[np.ndarray], np.ndarray],
) -> Particles:
    """Take in what lies below the band, and turn back into particles what the band has come down to.

    Parameters
    ----------
    below : its volume is changed in place
    phi : level set, which below the band becomes its least value
    band : voxels under the surface that keep particles
    distance_of : distance (n,) of places (n, 3) in voxels from the solids as they stand

    Returns
    -------
    particles in no order; those with ids from the first free one on are new
    """
    particles, tiling, tiles, volume = at_hand.particles, at_hand.tiling, solids.tiles, below.volume
    depth = depth_under_surface(phi, solids)
    swift = np.any(solids.motion != 0, axis=(1, 2))
    moving = np.zeros(len(tiles) + 1, bool)
    if swift.any():
        _moving_near(solids.owner, solids.phi, swift, moving)
    gone = np.zeros(len(particles), bool)
    there = (tiling.start, tiles.rows(tiling.number), tiling.first, particles.record)
    _take_in(*there, depth, moving, np.float32(band + SLACK), volume, gone)
    volume[0] = 0.0
    tiles.wrap(volume)
    freed = (volume > 0) & ((depth < band - SLACK) | moving[:, None, None, None]) & tiles.between_walls(range(3))
    cell = np.argwhere(freed)
    corner = tiles.first[cell[:, 0]] + cell[:, 1:]
    points = corner[:, None, :] + ((corner @ TURNED)[:, None, :] + np.arange(births.per_cell)[:, None] * SPREAD) % 1.0
    outside = distance_of(points.reshape(-1, 3)).reshape(len(cell), births.per_cell) > 0
    count = outside.sum(axis=1)
    each = volume[freed] / np.maximum(count, 1)
    fresh = _particles_at(points[outside], np.repeat(each, count), below.velocity, tiles, births)
    keep = volume[freed]
    keep[count > 0] = 0.0  # a cell without room for a particle keeps what it holds
    volume[freed] = keep
    phi[(volume > 0) & (solids.wide >= LEAST_ROOM)] = -FARTHEST  # full, however unevenly it is at the moment
    return particles.taken(~gone).joined(fresh)


@kernel(parallel=True)
def _means(start, row, source, kinds, carried, born, usual, mean, birth):
    for t in prange(row.shape[0]):
        r, n = row[t], start[t + 1] - start[t]
        count = np.zeros(kinds, np.int64)
        for p in range(start[t], start[t + 1]):
            count[source[p]] += 1
            birth[r] += born[p] / n
            for d in range(carried.shape[1]):
                mean[r, d] += carried[p, d]
        usual[r] = np.argmax(count)
        for d in range(carried.shape[1]):
            mean[r, d] /= n


def made_of(particles: Particles, tiling: Tiling, tiles: Tiles) -> MadeOf:
    """What sorted particles are, tile by tile; tiles without any are like a neighbour, or like the whole."""
    found = MadeOf(
        np.zeros(len(tiles) + 1, np.uint16),
        np.zeros((len(tiles) + 1, particles.carried.shape[1]), np.float32),
        np.zeros(len(tiles) + 1, np.float32),
    )
    if len(particles) == 0:
        return found
    row = tiles.rows(tiling.number)
    kinds = int(particles.source.max()) + 1
    means = found.source, found.carried, found.born
    _means(tiling.start, row, particles.source, kinds, particles.carried, particles.born, *means)
    known = np.zeros(len(tiles) + 1, bool)
    known[row] = True
    place = tiles.first[1:] // 8 + 1
    for step in np.vstack([np.eye(3, dtype=int), -np.eye(3, dtype=int)]):
        beside = tiles.where[tuple((place + step).T)]
        fresh = np.flatnonzero(~known[1:] & known[beside]) + 1
        for values in means:
            values[fresh] = values[beside[fresh - 1]]
        known[fresh] = True
    found.source[~known] = np.bincount(particles.source).argmax()
    found.carried[~known] = particles.carried.mean(axis=0, dtype=np.float64)
    found.born[~known] = particles.born.mean(dtype=np.float64)
    return found


@kernel
def _sloped(field, where, x, y, z):
    """Trilinear value and slopes at index coordinates."""
    i, j, k = int(x), int(y), int(z)
    a, b, c = x - i, y - j, z - k
    value, sx, sy, sz = 0.0, 0.0, 0.0, 0.0
    for q in range(8):
        di, dj, dk = q >> 2, (q >> 1) & 1, q & 1
        f = at(field, where, i + di, j + dj, k + dk)
        wx, wy, wz = a if di else 1 - a, b if dj else 1 - b, c if dk else 1 - c
        value += wx * wy * wz * f
        sx += (2 * di - 1) * wy * wz * f
        sy += (2 * dj - 1) * wx * wz * f
        sz += (2 * dk - 1) * wx * wy * f
    return value, sx, sy, sz


@kernel(parallel=True)
def _flow_at(place, u, v, w, where):
    """Velocity (n, 3) and its gradient (n, 3, 3) of face velocities at places (n, 3), as particles take them."""
    velocity, slope = np.empty((place.shape[0], 3), np.float32), np.empty((place.shape[0], 3, 3), np.float32)
    for p in prange(place.shape[0]):
        x, y, z = place[p, 0], place[p, 1], place[p, 2]
        velocity[p, 0], slope[p, 0, 0], slope[p, 0, 1], slope[p, 0, 2] = _sloped(u, where, x, y - 0.5, z - 0.5)
        velocity[p, 1], slope[p, 1, 0], slope[p, 1, 1], slope[p, 1, 2] = _sloped(v, where, x - 0.5, y, z - 0.5)
        velocity[p, 2], slope[p, 2, 0], slope[p, 2, 1], slope[p, 2, 2] = _sloped(w, where, x - 0.5, y - 0.5, z)
    return velocity, slope


@kernel(parallel=True)
def _merge(axis, volume, carried, where, first, field):
    for t in prange(1, first.shape[0]):
        for a in range(8):
            i = first[t, 0] + a - (1 if axis == 0 else 0)
            for b in range(8):
                j = first[t, 1] + b - (1 if axis == 1 else 0)
                for c in range(8):
                    k = first[t, 2] + c - (1 if axis == 2 else 0)
                    if volume[t, a, b, c] > 0.0 or at(volume, where, i, j, k) > 0.0:
                        field[t, a, b, c] = carried[t, a, b, c]


def merge(velocity: list[np.ndarray], carried: list[np.ndarray], volume: np.ndarray, tiles: Tiles) -> None:
    """Put the grid's own velocities at all faces of cells without particles, in place."""
    if not volume.any():
        return
    tiles.wrap(volume)
    for axis in range(3):
        _merge(axis, volume, carried[axis], tiles.where, tiles.first, velocity[axis])


@kernel
def _weights(t):
    """Catmull-Rom weights of the four nodes about a place t in [0, 1) between the middle ones."""
    t2, t3 = t * t, t * t * t
    return 0.5 * (2 * t2 - t - t3), 0.5 * (2 - 5 * t2 + 3 * t3), 0.5 * (t + 4 * t2 - 3 * t3), 0.5 * (t3 - t2)


@kernel
def _cubic(line, x, y, z):
    """Value of a block of `WIDE` cells a side, that lies as one line, at its index coordinates."""
    i, j, k = int(x), int(y), int(z)
    wx, wy, wz = _weights(x - i), _weights(y - j), _weights(z - k)
    total = 0.0
    for a in range(4):
        for b in range(4):
            p = ((i + a - 1) * WIDE + j + b - 1) * WIDE + k - 1
            along = wz[0] * line[p] + wz[1] * line[p + 1] + wz[2] * line[p + 2] + wz[3] * line[p + 3]
            total += wx[a] * wy[b] * along
    return total


@shared
def _carry(axis, row, first, where, own, u, v, w, dt, out):
    h = np.float32(dt)
    half, low, high = np.float32(0.5), np.float32(1.5), np.float32(WIDE - 2.5)
    for n in prange(row.shape[0]):
        t = row[n]
        block = np.empty((4, WIDE, WIDE, WIDE), np.float32)
        i0, j0, k0 = first[t, 0] - ASIDE, first[t, 1] - ASIDE, first[t, 2] - ASIDE
        load(u, where, i0, j0, k0, block[0])
        load(v, where, i0, j0, k0, block[1])
        load(w, where, i0, j0, k0, block[2])
        load(own, where, i0, j0, k0, block[3])
        flow, line = block[:3].reshape(3 * WIDE**3), block[3].reshape(WIDE**3)
        sx, sy, sz = half * (axis != 0), half * (axis != 1), half * (axis != 2)
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    x, y, z = np.float32(a + ASIDE) + sx, np.float32(b + ASIDE) + sy, np.float32(c + ASIDE) + sz
                    s = velocity_in(flow, WIDE, x, y, z)
                    px = min(max(x - half * h * s[0], low), high)
                    py = min(max(y - half * h * s[1], low), high)
                    pz = min(max(z - half * h * s[2], low), high)
                    s = velocity_in(flow, WIDE, px, py, pz)
                    px, py, pz = x - h * s[0] - sx, y - h * s[1] - sy, z - h * s[2] - sz
                    px, py, pz = min(max(px, low), high), min(max(py, low), high), min(max(pz, low), high)
                    out[t, a, b, c] = _cubic(line, px, py, pz)


def carry(
    velocity: list[np.ndarray],
    before: list[np.ndarray],
    volume: np.ndarray,
    tiles: Tiles,
    dt: float,
    reflects: bool,
) -> list[np.ndarray]:
    """Face velocities moved along the flow for `dt`, about cells that hold volume; elsewhere as they were.

    Parameters
    ----------
    velocity, before : after the projection, everywhere, and as first gathered
    reflects : take the projection's change twice, as particles do
    """
    own = [2 * after - first for after, first in zip(velocity, before, strict=True)] if reflects else velocity
    held = np.zeros(len(volume), bool)
    _beside(volume, tiles.where, tiles.first, held)
    held[0] = False
    row = np.flatnonzero(held)
    result = []
    for axis in range(3):
        moved = velocity[axis].copy()
        _carry(axis, row, tiles.first, tiles.where, own[axis], *velocity, dt, moved)
        result.append(moved)
    tiles.wrap(*result)
    return result


def drained(volume: np.ndarray, drains: list[DrainZone], tiles: Tiles, shot_time: float) -> float:
    """Empty the cells (in place) whose middles lie in drains; the volume (voxels^3) that they held."""
    held = np.argwhere(volume > 0)
    if len(held) == 0 or not drains:
        return 0.0
    middle = tiles.first[held[:, 0]] + held[:, 1:] + 0.5
    gone = np.zeros(len(held), bool)
    for drain in drains:
        gone |= drain.holds(middle, tiles.layout, shot_time)
    cells = tuple(held[gone].T)
    total = float(volume[cells].sum(dtype=np.float64))
    volume[cells] = 0.0
    return total
