"""Marching cubes with welded vertices and triangles that face outwards.

Lorensen & Cline 1987. The case table is derived, not copied: on every face of a cell the corners
inside the liquid are cut off one run at a time, which settles ambiguous faces alike for both cells
that share them, so the mesh has no holes; loops are then cut into triangles without diagonals that
lie in a cell's face, so every edge has exactly two triangles.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import prange

from basin.kernels import kernel, shared

SLAB = 16  # planes that one task meshes
SLIVER = 1e-4  # of a voxel: nearer to the surface than this, nodes are moved off it
CORNER = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)], dtype=np.int64)
# edges: (corner, axis) with the corner at the low end; 4 per axis
EDGE = [(c, axis) for axis in range(3) for c in range(8) if CORNER[c][axis] == 0]
_EDGE_OF = {frozenset((c, c + (4, 2, 1)[axis])): n for n, (c, axis) in enumerate(EDGE)}
# corners around each face, counter-clockwise seen from outside
FACES = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]


def _loops(case: int) -> list[list[int]]:
    """Closed loops of crossed edges for a case (bit c set: corner c is inside)."""
    follow: dict[int, int] = {}
    for face in FACES:
        inside = [bool(case >> c & 1) for c in face]
        for n in range(4):
            if inside[n] and not inside[n - 1]:  # a run of inside corners begins here
                enter = _EDGE_OF[frozenset((face[n - 1], face[n]))]
                m = n
                while inside[(m + 1) % 4]:
                    m += 1
                leave = _EDGE_OF[frozenset((face[m % 4], face[(m + 1) % 4]))]
                follow[enter] = leave
    loops = []
    while follow:
        start, at = next(iter(follow.items()))
        loop = [start]
        del follow[start]
        while at != start:
            loop.append(at)
            at = follow.pop(at)
        loops.append(loop)
    return loops


def _faces_of(edge: int) -> set[int]:
    corner, axis = EDGE[edge]
    ends = {corner, corner + (4, 2, 1)[axis]}
    return {n for n, face in enumerate(FACES) if ends <= set(face)}


def _cut(loop: tuple[int, ...]) -> tuple[int, list[tuple[int, int, int]]]:
    """Triangles of a loop with the fewest diagonals that lie in a face: (count, triangles)."""

    @cache
    def best(i: int, j: int) -> tuple[int, tuple[tuple[int, int, int], ...]]:
        if j - i < 2:
            return 0, ()
        options = []
        for m in range(i + 1, j):
            cost = 0
            parts: tuple[tuple[int, int, int], ...] = ((loop[i], loop[m], loop[j]),)
            for a, b in ((i, m), (m, j)):
                if b - a > 1:
                    cost += bool(_faces_of(loop[a]) & _faces_of(loop[b]))
                more, pieces = best(a, b)
                cost, parts = cost + more, parts + pieces
            options.append((cost, parts))
        return min(options, key=lambda o: o[0])

    cost, triangles = best(0, len(loop) - 1)
    return cost, list(triangles)


def _table() -> tuple[np.ndarray, np.ndarray]:
    cases = [[t for loop in _loops(case) for t in _cut(tuple(loop))[1]] for case in range(256)]
    count = np.array([len(c) for c in cases], np.int64)
    table = np.zeros((256, int(count.max()), 3), np.int64)
    for case, triangles in enumerate(cases):
        for n, triangle in enumerate(triangles):
            table[case, n] = triangle
    return count, table


COUNT, TABLE = _table()
EDGES = np.array([[*CORNER[c], axis] for c, axis in EDGE], dtype=np.int64)[TABLE]  # (256, most, 3, 4)
# rows are read eight nodes in a word, a byte of 0 or 1 each
BITS, BYTES = np.arange(8, dtype=np.uint64), np.arange(8, dtype=np.uint64) * np.uint64(8)
NONE, BYTE, ONES = np.uint64(0), np.uint64(255), np.uint64(0x0101010101010101)


@shared
def _signs(phi, inside, steepest):
    """Which nodes are inside, rows filled up with their last, and the largest step along x from plane to plane."""
    nx, ny, nz = phi.shape
    for i in prange(nx):
        most = np.float32(0.0)
        following = min(i + 1, nx - 1)
        for j in range(ny):
            for k in range(nz):
                a = phi[i, j, k]
                inside[i, j, k] = a < 0
                most = max(most, abs(phi[following, j, k] - a))
            for k in range(nz, inside.shape[2]):
                inside[i, j, k] = inside[i, j, nz - 1]
        steepest[i] = most


@kernel
def _following(row, w):
    """Each node's next one along z, of eight in a word."""
    beyond = row[w + 1] if w + 1 < row.shape[0] else row[w] >> BYTES[7]
    return row[w] >> BYTES[1] | beyond << BYTES[7]


@kernel
def _crossings(a, b, c, valid, w):
    """Which edges along x, y and z, from eight nodes of row a to its neighbours b (along y) and c (along x)."""
    return (a[w] ^ c[w]) & valid[w], (a[w] ^ b[w]) & valid[w], a[w] ^ _following(a, w)


@kernel
def _cases(a, b, c, d, cells, w):
    """Cases of eight cells, a byte each; 0 beyond the last."""
    own = a[w] | b[w] << BITS[2] | c[w] << BITS[4] | d[w] << BITS[6]
    far = _following(a, w) | _following(b, w) << BITS[2] | _following(c, w) << BITS[4] | _following(d, w) << BITS[6]
    return (own | far << BITS[1]) & cells[w]


@shared
def _count(inside, valid, cells, vertices, triangles, crossed, count):
    """Vertices and triangles of each plane, and the rows of cells that the surface crosses."""
    nx, ny, words = inside.shape
    for i in prange(nx):
        v, t = np.uint64(0), 0
        i1 = min(i + 1, nx - 1)
        for j in range(ny):
            j1 = min(j + 1, ny - 1)
            a, b, c, d = inside[i, j], inside[i, j1], inside[i1, j], inside[i1, j1]
            some = False
            for w in range(words):
                x, y, z = _crossings(a, b, c, valid, w)
                if x | y | z != NONE:
                    some = True
                    v += ((x + y + z) * ONES) >> BYTES[7]  # the sum of all bytes
                case = _cases(a, b, c, d, cells, w)
                if case == NONE or case == cells[w]:
                    continue
                some = True
                if i1 > i and j1 > j:
                    while case != NONE:
                        t += count[case & BYTE]
                        case >>= BYTES[1]
            crossed[i, j] = some
        vertices[i] = v
        triangles[i] = t


@kernel
def _off(value, least):
    """A node on the surface, or within rounding of it, would make triangles without area: it is moved off."""
    if abs(value) < least:
        return -least if value < 0 else least
    return value


@kernel
def _number(phi, inside, valid, crossed, i, n, least, write, number, position):
    """Number the crossed edges that begin in plane i, from n on, in `number` (3, ny, nz), and place their vertices."""
    nx, ny, _ = phi.shape
    i1 = min(i + 1, nx - 1)
    for j in range(ny):
        if crossed[i, j] == 0:
            continue
        j1 = min(j + 1, ny - 1)
        a, b, c = inside[i, j], inside[i, j1], inside[i1, j]
        for w in range(a.shape[0]):
            x, y, z = _crossings(a, b, c, valid, w)
            edges = x | y << BITS[1] | z << BITS[2]
            k = 8 * w
            while edges != NONE:
                if edges & BYTE:
                    f = _off(phi[i, j, k], least)
                    for axis in range(3):
                        if edges >> BITS[axis] & BITS[1]:
                            g = phi[i1, j, k] if axis == 0 else phi[i, j1, k] if axis == 1 else phi[i, j, k + 1]
                            number[axis, j, k] = n
                            if write:
                                position[n, 0] = i
                                position[n, 1] = j
                                position[n, 2] = k
                                position[n, axis] += f / (f - _off(g, least))
                            n += 1
                edges >>= BYTES[1]
                k += 1


@shared
def _mesh(phi, inside, valid, cells, crossed, first_vertex, first_triangle, least, count, table, position, triangle):
    """Vertices and triangles, slab by slab; a slab numbers the first plane of the next one for itself."""
    nx, ny, nz = phi.shape
    for slab in prange((nx + SLAB - 1) // SLAB):
        number = np.empty((2, 3, ny, nz), np.int32)
        low, high = slab * SLAB, min(slab * SLAB + SLAB, nx)
        _number(phi, inside, valid, crossed, low, first_vertex[low], least, True, number[low & 1], position)
        for i in range(low, min(high, nx - 1)):
            write, n = i + 1 < high, first_vertex[i + 1]
            _number(phi, inside, valid, crossed, i + 1, n, least, write, number[i + 1 & 1], position)
            n = first_triangle[i]
            for j in range(ny - 1):
                if crossed[i, j] == 0:
                    continue
                a, b, c, d = inside[i, j], inside[i, j + 1], inside[i + 1, j], inside[i + 1, j + 1]
                for w in range(a.shape[0]):
                    case = _cases(a, b, c, d, cells, w)
                    if case == cells[w]:
                        continue
                    k = 8 * w
                    while case != NONE:
                        own = case & BYTE
                        for t in range(count[own]):
                            for corner in range(3):
                                e = table[own, t, corner]
                                triangle[n, corner] = number[i + e[0] & 1, e[3], j + e[1], k + e[2]]
                            n += 1
                        case >>= BYTES[1]
                        k += 1


def steepest(phi: np.ndarray) -> float:
    """Largest step of node values along x."""
    return float(np.abs(np.diff(phi, axis=0)).max(initial=0.0))


def polygonise(phi: np.ndarray, steep: float | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Surface phi = 0 of node values, negative inside.

    Parameters
    ----------
    phi : float32 (nx, ny, nz)
    steep : largest step of values, where these are part of more

    Returns
    -------
    (position, triangle) : float32 (n, 3) in node units, int32 (m, 3) counter-clockwise from
        outside. The mesh is open only where the surface leaves the array.
    """
    phi = np.ascontiguousarray(phi, np.float32)
    nx, ny, nz = phi.shape
    signs, crossed = np.empty((nx, ny, -(-nz // 8) * 8), np.uint8), np.empty((nx, ny), np.uint8)
    inside = signs.view(np.uint64)
    valid, cells = (np.arange(signs.shape[2]) < nz).astype(np.uint8), np.zeros(signs.shape[2], np.uint8)
    cells[: nz - 1] = 255
    steps = np.empty(nx, np.float32)
    _signs(phi, signs, steps)
    rows = (inside, valid.view(np.uint64), cells.view(np.uint64))
    vertices, triangles = np.zeros(nx, np.int64), np.zeros(nx, np.int64)
    _count(*rows, vertices, triangles, crossed, COUNT)
    first_vertex = np.concatenate([[0], np.cumsum(vertices)])
    first_triangle = np.concatenate([[0], np.cumsum(triangles)])
    position = np.empty((first_vertex[-1], 3), np.float32)
    triangle = np.empty((first_triangle[-1], 3), np.int32)
    least = np.float32(SLIVER * (steps.max() if steep is None else steep))
    _mesh(phi, *rows, crossed, first_vertex, first_triangle, least, COUNT, EDGES, position, triangle)
    return position, triangle
