"""Walls thinner than the grid can tell: triangles and lines of sight.

A wall of less than about a voxel leaves no mark on distances at nodes that could be trusted. What it parts is
found by rays instead (after Guendelman, Selle, Losasso & Fedkiw 2005, "Coupling water and smoke to thin deformable
and rigid shells"): the face between two cells is shut if a triangle lies between their centres; a particle gives to
and takes from no face or cell that it does not see; a kernel's room is what its cell sees of it; and no path
crosses a triangle that moves along with its body over the substep.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.fractions import open_volumes
from basin.grid.tiles import Tiles, load
from basin.kernels import kernel, shared
from basin.liquid.particles import Particles, V, X
from basin.liquid.room import Room
from basin.liquid.sorting import EVERYTHING_SEEN, Arranged, Tiling

THICKNESS = 1.1  # voxels: thinner walls need triangles
# voxels about a cell, the middle of a kernel or a particle within which a triangle may hide something from it
CELL_SEES, KERNEL_SEES, PARTICLE_SEES = 1.001, 1.251, 1.501
REACH = 7.0  # voxels beyond a tile within which triangles are listed for it: a substep's way and a little more
USUAL = 2.5  # voxels that a particle goes in a substep at most, as a rule
CLEARANCE = 0.02  # voxels that paths keep from a triangle
EDGE = 1e-6  # of a triangle's size that it is larger for rays, so that none slips between two of them
MOST_BENDS = 4
# the spline averaged over halves of cells, and their middles: where a cell looks for its kernel's room
HALVES = np.array([1 / 48, 7 / 48, 1 / 3, 1 / 3, 7 / 48, 1 / 48])
MIDDLES = np.array([-1.25, -0.75, -0.25, 0.25, 0.75, 1.25])
BINOMIAL = np.array([0.25, 0.5, 0.25])


@dataclass(frozen=True)
class ThinWalls:
    """Triangles of thin walls at one moment, in voxels, and what lies on their tiles.

    Attributes
    ----------
    corner : float64 (m, 4, 3), corners of the triangles and, fourth, their unit normals
    body : int32 (m,), ascending, rows of their motions: one for a body, or for each triangle of one that deforms
    back : float64 (rows, 3, 4), takes a place at the substep's end to where its body had it at the start
    slot : int32 (tiles + 1,), number of each tile's list, -1 for none
    start, listed : lists of triangles (CSR) by that number
    hidden : uint32 (lists, 8, 8, 8), which of its 27 neighbours a cell does not see
    """

    corner: np.ndarray
    body: np.ndarray
    back: np.ndarray
    slot: np.ndarray
    start: np.ndarray
    listed: np.ndarray
    hidden: np.ndarray

    @staticmethod
    def none(tiles: Tiles) -> ThinWalls:
        """No thin walls on these tiles."""
        slot = np.full(len(tiles) + 1, -1, np.int32)
        body, start = np.zeros(0, np.int32), np.zeros(1, np.int64)
        nothing = np.zeros((0, 8, 8, 8), np.uint32)
        return ThinWalls(np.zeros((0, 4, 3)), body, np.zeros((0, 3, 4)), slot, start, body, nothing)

    def __len__(self) -> int:
        return len(self.start) - 1


@kernel(inline="always")
def _near_plane(corner, m, x, y, z, reach):
    """Whether a triangle's plane comes into the box that reaches so far about a place."""
    nx, ny, nz = corner[m, 3, 0], corner[m, 3, 1], corner[m, 3, 2]
    away = nx * (x - corner[m, 0, 0]) + ny * (y - corner[m, 0, 1]) + nz * (z - corner[m, 0, 2])
    return abs(away) <= reach * (abs(nx) + abs(ny) + abs(nz))


@kernel
def _comes_near(corner, m, first, t, reach):
    """Whether a triangle's box and plane come within reach of a tile."""
    for d in range(3):
        low = min(corner[m, 0, d], corner[m, 1, d], corner[m, 2, d])
        high = max(corner[m, 0, d], corner[m, 1, d], corner[m, 2, d])
        if low > first[t, d] + 8 + reach or high < first[t, d] - reach:
            return False
    return _near_plane(corner, m, first[t, 0] + 4.0, first[t, 1] + 4.0, first[t, 2] + 4.0, 4.0 + reach)


@kernel
def _listing(first, where, corner, reach, start, listed):
    """List the triangles near each tile, in their order; while `listed` is empty, only count them into `start`.

    Each triangle looks at the tiles about its own box alone.
    """
    filling = listed.shape[0] > 0
    at = np.zeros(first.shape[0], np.int64)
    lo, hi = np.empty(3, np.int64), np.empty(3, np.int64)
    for m in range(corner.shape[0]):
        for d in range(3):
            low = min(corner[m, 0, d], corner[m, 1, d], corner[m, 2, d]) - reach
            high = max(corner[m, 0, d], corner[m, 1, d], corner[m, 2, d]) + reach
            # a tile counts where the box only touches it, too
            lo[d] = max(np.int64(np.ceil(low / 8.0)) - 1, 0)
            hi[d] = min(np.int64(np.floor(high / 8.0)) + 1, where.shape[d] - 2)
        for i in range(lo[0], hi[0]):
            for j in range(lo[1], hi[1]):
                for k in range(lo[2], hi[2]):
                    t = where[i + 1, j + 1, k + 1]
                    own = first[t, 0] == 8 * i and first[t, 1] == 8 * j and first[t, 2] == 8 * k
                    if t > 0 and own and _comes_near(corner, m, first, t, reach):
                        if filling:
                            listed[start[t] + at[t]] = m
                        at[t] += 1
    if not filling:
        for t in range(1, first.shape[0]):
            start[t + 1] = at[t]


@kernel
def _near(corner, listed, begin, end, x, y, z, reach, near):
    """Those of a list of triangles that come within reach of a place, into a list as long; returns their number."""
    n = 0
    for e in range(begin, end):
        m = listed[e]
        a, b, c = corner[m, 0], corner[m, 1], corner[m, 2]
        if min(a[0], b[0], c[0]) > x + reach or max(a[0], b[0], c[0]) < x - reach:
            continue
        if min(a[1], b[1], c[1]) > y + reach or max(a[1], b[1], c[1]) < y - reach:
            continue
        if min(a[2], b[2], c[2]) > z + reach or max(a[2], b[2], c[2]) < z - reach:
            continue
        if _near_plane(corner, m, x, y, z, reach):
            near[n] = m
            n += 1
    return n


@kernel
def near_block(corner, listed, begin, end, x, y, z, reach, held, count, lists):
    """Row of `lists` with the triangles within reach of the block of 2^3 cells about a place, found when first asked.

    Particles of a tile lie in 64 blocks; a scan of the tile's whole list for each of them would be most of the work.

    Parameters
    ----------
    held : int64 (64, 3), which block each row is of, -1 at first; count : int64 (64,) of its triangles
    """
    i, j, k = np.int64(np.floor(x)) >> 1, np.int64(np.floor(y)) >> 1, np.int64(np.floor(z)) >> 1
    b = ((i & 3) * 4 + (j & 3)) * 4 + (k & 3)
    if count[b] < 0 or held[b, 0] != i or held[b, 1] != j or held[b, 2] != k:
        held[b, 0], held[b, 1], held[b, 2] = i, j, k
        mx, my, mz = 2.0 * i + 1.0, 2.0 * j + 1.0, 2.0 * k + 1.0
        count[b] = _near(corner, listed, begin, end, mx, my, mz, reach + 1.0, lists[b])
    return b


@kernel(inline="always")
def _hit(corner, m, px, py, pz, dx, dy, dz):
    """Where the way from p along d meets a triangle, as a share of d; 2 if it does not (Moeller & Trumbore 1997)."""
    ax, ay, az = corner[m, 0, 0], corner[m, 0, 1], corner[m, 0, 2]
    ex, ey, ez = corner[m, 1, 0] - ax, corner[m, 1, 1] - ay, corner[m, 1, 2] - az
    fx, fy, fz = corner[m, 2, 0] - ax, corner[m, 2, 1] - ay, corner[m, 2, 2] - az
    hx, hy, hz = dy * fz - dz * fy, dz * fx - dx * fz, dx * fy - dy * fx
    det = ex * hx + ey * hy + ez * hz
    if abs(det) < 1e-14:
        return 2.0
    sx, sy, sz = px - ax, py - ay, pz - az
    u = (sx * hx + sy * hy + sz * hz) / det
    if u < -EDGE or u > 1.0 + EDGE:
        return 2.0
    qx, qy, qz = sy * ez - sz * ey, sz * ex - sx * ez, sx * ey - sy * ex
    v = (dx * qx + dy * qy + dz * qz) / det
    if v < -EDGE or u + v > 1.0 + EDGE:
        return 2.0
    share = (fx * qx + fy * qy + fz * qz) / det
    return share if 0.0 <= share <= 1.0 else 2.0


@kernel
def _blocked(corner, near, n, px, py, pz, qx, qy, qz):
    """Whether one of the first n triangles of a list lies between p and q."""
    dx, dy, dz = qx - px, qy - py, qz - pz
    for e in range(n):
        m = near[e]
        nx, ny, nz = corner[m, 3, 0], corner[m, 3, 1], corner[m, 3, 2]
        above = nx * (px - corner[m, 0, 0]) + ny * (py - corner[m, 0, 1]) + nz * (pz - corner[m, 0, 2])
        way = nx * dx + ny * dy + nz * dz
        # most have both ends on the same side of the plane, well away from it
        if above * (above + way) > EDGE:
            continue
        if _hit(corner, m, px, py, pz, dx, dy, dz) <= 1.0:
            return True
    return False


@shared
def _sight_of_cells(row, first, corner, start, listed, hidden):
    """What cells do not see of their neighbours."""
    for s in prange(row.shape[0]):
        t = row[s]
        near = np.empty(start[s + 1] - start[s], np.int64)
        held, count = np.full((64, 3), -1, np.int64), np.full(64, -1, np.int64)
        lists = np.empty((64, len(near)), np.int64)
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    x, y, z = first[t, 0] + a + 0.5, first[t, 1] + b + 0.5, first[t, 2] + c + 0.5
                    o = near_block(corner, listed, start[s], start[s + 1], x, y, z, CELL_SEES, held, count, lists)
                    n = _near(corner, lists[o], 0, count[o], x, y, z, CELL_SEES, near)
                    mask = np.uint32(0)
                    if n > 0:
                        for q in range(27):
                            i, j, k = q // 9 - 1, q // 3 % 3 - 1, q % 3 - 1
                            if q != 13 and _blocked(corner, near, n, x, y, z, x + i, y + j, z + k):
                                mask |= np.uint32(1) << np.uint32(q)
                    hidden[s, a, b, c] = mask


@shared
def _room(row, first, where, bodies, within, corner, start, listed, hidden, near, wide, middle):
    """Kernels' room where triangles are near: only what the cells see of it (`basin.liquid.room`)."""
    for s in prange(row.shape[0]):
        t = row[s]
        i0, j0, k0 = first[t, 0] - 2, first[t, 1] - 2, first[t, 2] - 2
        node = np.empty((13, 13, 13), np.float32)
        load(bodies, where, i0, j0, k0, node)
        free = np.empty((12, 12, 12), np.float32)
        open_volumes(node, within, i0, j0, k0, free)
        share = np.zeros((10, 10, 10, 4))  # of the narrow kernel's room, and its first moments
        beside = np.empty(start[s + 1] - start[s], np.int64)
        held, count = np.full((64, 3), -1, np.int64), np.full(64, -1, np.int64)
        lists = np.empty((64, len(beside)), np.int64)
        for a in range(10):
            for b in range(10):
                for c in range(10):
                    x, y, z = i0 + a + 1.5, j0 + b + 1.5, k0 + c + 1.5
                    o = near_block(corner, listed, start[s], start[s + 1], x, y, z, KERNEL_SEES, held, count, lists)
                    n = _near(corner, lists[o], 0, count[o], x, y, z, KERNEL_SEES, beside)
                    for i in range(6):
                        for j in range(6):
                            for k in range(6):
                                open_part = HALVES[i] * HALVES[j] * HALVES[k] * free[a + i // 2, b + j // 2, c + k // 2]
                                dx, dy, dz = MIDDLES[i], MIDDLES[j], MIDDLES[k]
                                if open_part <= 0.0:
                                    continue
                                if n > 0 and _blocked(corner, beside, n, x, y, z, x + dx, y + dy, z + dz):
                                    continue
                                share[a, b, c, 0] += open_part
                                share[a, b, c, 1] += open_part * dx
                                share[a, b, c, 2] += open_part * dy
                                share[a, b, c, 3] += open_part * dz
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    total, mx, my, mz = 0.0, 0.0, 0.0, 0.0
                    for q in range(27):
                        if hidden[s, a, b, c] & (np.uint32(1) << np.uint32(q)):
                            continue
                        i, j, k = q // 9, q // 3 % 3, q % 3
                        weight = BINOMIAL[i] * BINOMIAL[j] * BINOMIAL[k]
                        seen = share[a + i, b + j, c + k]
                        total += weight * seen[0]
                        mx += weight * (seen[1] + (i - 1) * seen[0])
                        my += weight * (seen[2] + (j - 1) * seen[0])
                        mz += weight * (seen[3] + (k - 1) * seen[0])
                    near[t, a, b, c] = share[a + 1, b + 1, c + 1, 0]
                    wide[t, a, b, c] = total
                    if total > 0.0:
                        middle[t, a, b, c, 0] = mx / total
                        middle[t, a, b, c, 1] = my / total
                        middle[t, a, b, c, 2] = mz / total


@dataclass(frozen=True)
class Triangles:
    """Triangles of thin walls in voxels: corners, float64 (m, 3, 3), and `body` and `back` as in `ThinWalls`."""

    corner: np.ndarray
    body: np.ndarray
    back: np.ndarray


class Remembered:
    """What was found of tiles near thin walls, as long as neither the walls nor the bodies about them change."""

    def __init__(self) -> None:
        self._held: dict[bytes, tuple[np.ndarray, ...]] = {}
        self._used: dict[bytes, tuple[np.ndarray, ...]] = {}

    def turn(self) -> None:
        """Forget what was not asked for since the last turn but one."""
        self._held, self._used = self._used, {}

    def get(self, key: bytes) -> tuple[np.ndarray, ...] | None:
        """What was found of a tile; None if it has changed."""
        found = self._used.get(key) or self._held.get(key)
        if found is not None:
            self._used[key] = found
        return found

    def put(self, key: bytes, found: tuple[np.ndarray, ...]) -> None:
        """Keep what was found."""
        self._used[key] = found


def thin_walls(
    tiles: Tiles,
    triangles: Triangles,
    bodies: np.ndarray,
    within: np.ndarray,
    opened: list[np.ndarray],
    room: Room,
    remembered: Remembered,
) -> ThinWalls:
    """The thin walls near some tiles; shuts faces and takes room away in place.

    Parameters
    ----------
    bodies, within : distances to bodies at nodes and what the domain's walls leave (`basin.liquid.room`)
    opened : face fractions [u, v, w]
    """
    corner, body, back = triangles.corner, triangles.body, triangles.back
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
    corner = np.concatenate([corner, normal[:, None]], axis=1)
    start = np.zeros(len(tiles) + 2, np.int64)
    _listing(tiles.first, tiles.where, corner, REACH, start, np.zeros(0, np.int32))
    row = np.flatnonzero(start[1:]).astype(np.int32)
    np.cumsum(start, out=start)
    if len(row) == 0:
        return ThinWalls.none(tiles)
    listed = np.zeros(int(start[-1]), np.int32)
    _listing(tiles.first, tiles.where, corner, REACH, start, listed)
    slot = np.full(len(tiles) + 1, -1, np.int32)
    slot[row] = np.arange(len(row))
    begin = np.append(start[row], start[-1])
    hidden = np.zeros((len(row), 8, 8, 8), np.uint32)
    fields = (room.near, room.wide, room.middle)
    keys = [
        _tile_key(tiles, int(t), bodies, corner[listed[a:b]]) for t, a, b in zip(row, begin, begin[1:], strict=False)
    ]
    fresh = []
    for s, key in enumerate(keys):
        known = remembered.get(key)
        if known is None:
            fresh.append(s)
            continue
        hidden[s] = known[0]
        for field, value in zip(fields, known[1:], strict=True):
            field[row[s]] = value
    if fresh:
        some = np.array(fresh)
        lists = (
            np.append(0, np.cumsum(np.diff(begin)[some])),
            np.concatenate([listed[begin[s] : begin[s + 1]] for s in fresh]),
        )
        seen = np.zeros((len(some), 8, 8, 8), np.uint32)
        _sight_of_cells(row[some], tiles.first, corner, *lists, seen)
        _room(row[some], tiles.first, tiles.where, bodies, within, corner, *lists, seen, *fields)
        hidden[some] = seen
        for s in fresh:
            remembered.put(keys[s], (hidden[s].copy(), *(field[row[s]].copy() for field in fields)))
    remembered.turn()
    for field, neighbour in zip(opened, (4, 10, 12), strict=True):  # faces that nobody sees through are shut
        field[row] = np.where(hidden & np.uint32(1 << neighbour), np.float32(0), field[row])
    tiles.wrap(*opened)
    return ThinWalls(corner, body, back, slot, begin, listed, hidden)


def _tile_key(tiles: Tiles, row: int, bodies: np.ndarray, near: np.ndarray) -> bytes:
    """A digest of all that what is found of a tile depends on: its place, the triangles, the solids about it."""
    i, j, k = tiles.first[row] // 8
    about = tiles.where[i : i + 3, j : j + 3, k : k + 3].ravel()
    digest = hashlib.blake2b(tiles.first[row].tobytes(), digest_size=16)
    digest.update(np.ascontiguousarray(near).tobytes())
    digest.update(np.ascontiguousarray(bodies[about]).tobytes())
    return digest.digest()


@kernel
def seen_cell(mask, q):
    """Whether a particle sees the q-th of the 27 cells about it, z changing fastest."""
    return (mask >> np.uint64(q)) & np.uint64(1) == np.uint64(0)


@kernel
def seen_face(mask, axis, q):
    """Whether it sees the q-th corner of its cell among the faces of a component, z changing fastest."""
    return (mask >> np.uint64(27 + 8 * axis + q)) & np.uint64(1) == np.uint64(0)


@kernel
def seen_value(line, offset, width, x, y, z, axis, mask):
    """Trilinear value and gradient of a component at a place from the faces that a particle sees.

    What it does not see takes the mean of the rest.

    Returns
    -------
    (whether any is seen, value, and its slopes along x, y, z)
    """
    i, j, k = int(x), int(y), int(z)
    a, b, c = x - np.float32(i), y - np.float32(j), z - np.float32(k)
    total, held = np.float32(0.0), np.float32(0.0)
    for q in range(8):
        if seen_face(mask, axis, q):
            di, dj, dk = q >> 2, (q >> 1) & 1, q & 1
            weight = (a if di else 1 - a) * (b if dj else 1 - b) * (c if dk else 1 - c)
            total += weight
            held += weight * line[offset + ((i + di) * width + j + dj) * width + k + dk]
    zero = np.float32(0.0)
    if total <= np.float32(1e-6):
        return False, zero, zero, zero, zero
    mean = held / total
    gx, gy, gz = zero, zero, zero
    for q in range(8):
        if seen_face(mask, axis, q):
            di, dj, dk = q >> 2, (q >> 1) & 1, q & 1
            wx, wy, wz = a if di else 1 - a, b if dj else 1 - b, c if dk else 1 - c
            more = line[offset + ((i + di) * width + j + dj) * width + k + dk] - mean
            gx += (1 if di else -1) * wy * wz * more
            gy += (1 if dj else -1) * wx * wz * more
            gz += (1 if dk else -1) * wx * wy * more
    return True, np.float32(mean), np.float32(gx), np.float32(gy), np.float32(gz)


@kernel
def seen_velocity(line, width, x, y, z, mask):
    """Staggered velocity at a place in three blocks of a width in a line, from what a particle sees."""
    h, size = np.float32(0.5), width * width * width
    u = seen_value(line, 0, width, x, y - h, z - h, 0, mask)
    v = seen_value(line, size, width, x - h, y, z - h, 1, mask)
    w = seen_value(line, 2 * size, width, x - h, y - h, z, 2, mask)
    return u[1], v[1], w[1]


@shared
def _sight_of_particles(tile_start, row, record, corner, slot, start, listed, out):
    for t in prange(row.shape[0]):
        s = slot[row[t]]
        if s < 0:
            continue
        near = np.empty(start[s + 1] - start[s], np.int64)
        held, count = np.full((64, 3), -1, np.int64), np.full(64, -1, np.int64)
        lists = np.empty((64, len(near)), np.int64)
        for p in range(tile_start[t], tile_start[t + 1]):
            x, y, z = np.float64(record[p, X]), np.float64(record[p, X + 1]), np.float64(record[p, X + 2])
            o = near_block(corner, listed, start[s], start[s + 1], x, y, z, PARTICLE_SEES, held, count, lists)
            n = _near(corner, lists[o], 0, count[o], x, y, z, PARTICLE_SEES, near)
            if n == 0:
                continue
            mask = np.uint64(0)
            i, j, k = np.floor(x), np.floor(y), np.floor(z)
            for q in range(27):
                cx, cy, cz = i + q // 9 - 0.5, j + q // 3 % 3 - 0.5, k + q % 3 - 0.5
                if _blocked(corner, near, n, x, y, z, cx, cy, cz):
                    mask |= np.uint64(1) << np.uint64(q)
            for axis in range(3):
                sx, sy, sz = 0.0 if axis == 0 else 0.5, 0.0 if axis == 1 else 0.5, 0.0 if axis == 2 else 0.5
                i, j, k = np.floor(x - sx) + sx, np.floor(y - sy) + sy, np.floor(z - sz) + sz
                for q in range(8):
                    if _blocked(corner, near, n, x, y, z, i + (q >> 2), j + ((q >> 1) & 1), k + (q & 1)):
                        mask |= np.uint64(1) << np.uint64(27 + 8 * axis + q)
            out[p] = mask


def unseen(particles: Particles, tiling: Tiling, tiles: Tiles, thin: ThinWalls) -> np.ndarray:
    """What particles do not see, uint64 (n,): 27 cells about theirs, then eight faces a component; empty if no wall."""
    if len(thin) == 0:
        return EVERYTHING_SEEN
    out = np.zeros(len(particles), np.uint64)
    row = tiles.rows(tiling.number)
    _sight_of_particles(tiling.start, row, particles.record, thin.corner, thin.slot, thin.start, thin.listed, out)
    return out


@kernel
def _moved(matrix, x, y, z):
    return (
        matrix[0, 0] * x + matrix[0, 1] * y + matrix[0, 2] * z + matrix[0, 3],
        matrix[1, 0] * x + matrix[1, 1] * y + matrix[1, 2] * z + matrix[1, 3],
        matrix[2, 0] * x + matrix[2, 1] * y + matrix[2, 2] * z + matrix[2, 3],
    )


@kernel
def first_hit(corner, near, begin, end, p, d):
    """(share of the way, triangle) of the first of some triangles that it meets; share 2 for none."""
    least, which = 2.0, -1
    for e in range(begin, end):
        m = near[e]
        share = _hit(corner, m, p[0], p[1], p[2], d[0], d[1], d[2])
        if share < least:
            least, which = share, m
    return least, which


@kernel
def _within(p, low, high):
    for axis in range(3):  # noqa: SIM110 - a kernel
        if not low[axis] <= p[axis] <= high[axis]:
            return False
    return True


@kernel
def _held(corner, near, begin, end, p, d, low, high):
    """Go from p by d, but along some triangles instead of through them; returns the place and the last normal.

    A slide that would leave the domain ends where it began: put back onto the wall, it could lie behind the triangle.
    """
    normal = np.zeros(3)
    for _ in range(MOST_BENDS):
        share, m = first_hit(corner, near, begin, end, p, d)
        if share > 1.0:
            return p + d, normal
        g = corner[m, 3].copy() if corner[m, 3] @ d <= 0.0 else -corner[m, 3]
        normal[:] = g
        length = np.sqrt(d @ d)
        into = -(g @ d) / max(length, 1e-12)  # cosine: how far before the triangle the clearance begins
        back = min(CLEARANCE / max(into, 0.05) / max(length, 1e-12), share)
        p = p + (share - back) * d
        d = (1.0 - share) * d
        d = d - (d @ g) * g
        if not _within(p + d, low, high):
            return p, normal
    return p, normal


@shared
def _keep(
    tile_start,
    row,
    begin,
    record,
    corner,
    body,
    back,
    front,
    motion,
    slot,
    start,
    listed,
    low,
    high,
    ballistic,
    friction,
):
    for t in prange(row.shape[0]):
        s = slot[row[t]]
        if s < 0:
            continue
        near = np.empty(start[s + 1] - start[s], np.int64)
        held, count = np.full((64, 3), -1, np.int64), np.full(64, -1, np.int64)
        lists = np.empty((64, len(near)), np.int64)
        for p in range(tile_start[t], tile_start[t + 1]):
            span = np.float32(0.0)
            for d in range(3):
                span = max(span, abs(record[p, np.uint64(X + d)] - begin[p, d]))
            x, y, z = np.float64(begin[p, 0]), np.float64(begin[p, 1]), np.float64(begin[p, 2])
            if span <= USUAL:
                o = near_block(corner, listed, start[s], start[s + 1], x, y, z, USUAL + REACH - 5.0, held, count, lists)
                n = _near(corner, lists[o], 0, count[o], x, y, z, span + REACH - 5.0, near)
            else:
                n = _near(corner, listed, start[s], start[s + 1], x, y, z, span + REACH - 5.0, near)
            if n == 0:
                continue
            a = np.array([x, y, z])
            b = np.array([np.float64(record[p, X]), np.float64(record[p, X + 1]), np.float64(record[p, X + 2])])
            for axis in range(3):
                b[axis] = min(max(b[axis], low[axis]), high[axis])
            until = 0
            while until < n:  # a body's triangles lie side by side
                at = until
                who = body[near[at]]
                while until < n and body[near[until]] == who:
                    until += 1
                x, y, z = _moved(back[who], b[0], b[1], b[2])
                end = np.array([x, y, z])
                found, normal = _held(corner, near, at, until, a, end - a, low, high)
                if normal[0] == 0.0 and normal[1] == 0.0 and normal[2] == 0.0:
                    continue
                x, y, z = _moved(front[who], found[0], found[1], found[2])
                b[0], b[1], b[2] = x, y, z
                record[p, X], record[p, X + 1], record[p, X + 2] = x, y, z
                if ballistic[p]:
                    sx, sy, sz = _moved(motion[who], x, y, z)
                    r = np.array([record[p, V] - sx, record[p, V + 1] - sy, record[p, V + 2] - sz])
                    r = (1.0 - friction) * (r - min(r @ normal, 0.0) * normal)
                    record[p, V], record[p, V + 1], record[p, V + 2] = sx + r[0], sy + r[1], sz + r[2]


def keep_apart(
    at_hand: Arranged, begin: np.ndarray, thin: ThinWalls, motion: np.ndarray, ballistic: np.ndarray, friction: float
) -> None:
    """Bend paths from `begin` (n, 3) that cross a thin wall along it, in place.

    A path is looked at in the frame of the wall's body, which moves and turns over the substep.
    """
    if len(thin) == 0:
        return
    whole = np.zeros((len(thin.back), 4, 4))
    whole[:, :3], whole[:, 3, 3] = thin.back, 1.0
    front = np.ascontiguousarray(np.linalg.inv(whole)[:, :3])
    tiling, tiles = at_hand.tiling, at_hand.tiles
    paths = (tiling.start, tiles.rows(tiling.number), begin, at_hand.particles.record)
    walls = (thin.corner, thin.body, thin.back, front, motion, thin.slot, thin.start, thin.listed)
    layout = tiles.layout
    low = np.where(layout.closed[:, 0], layout.wall_low + CLEARANCE, -np.inf)
    high = np.where(layout.closed[:, 1], layout.wall_high - CLEARANCE, np.inf)
    _keep(*paths, *walls, low, high, ballistic, friction)
