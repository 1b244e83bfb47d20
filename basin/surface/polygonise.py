"""Marching cubes with welded vertices and triangles that face outwards.

Lorensen & Cline 1987. The case table is derived, not copied: on every face of a cell the corners
inside the liquid are cut off one run at a time, which settles ambiguous faces alike for both cells
that share them, so the mesh has no holes; loops are then cut into triangles without diagonals that
lie in a cell's face, so every edge has exactly two triangles.
"""

from __future__ import annotations

from functools import cache

import numpy as np
from numba import njit, prange

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
_EDGE_AT = np.array([[*CORNER[c], axis] for c, axis in EDGE], dtype=np.int64)


@njit(cache=True, parallel=True)
def _count(phi, vertices, triangles, count):
    nx, ny, nz = phi.shape
    for i in prange(nx):
        v, t = 0, 0
        for j in range(ny):
            for k in range(nz):
                inside = phi[i, j, k] < 0
                if i + 1 < nx and (phi[i + 1, j, k] < 0) != inside:
                    v += 1
                if j + 1 < ny and (phi[i, j + 1, k] < 0) != inside:
                    v += 1
                if k + 1 < nz and (phi[i, j, k + 1] < 0) != inside:
                    v += 1
                if i + 1 < nx and j + 1 < ny and k + 1 < nz:
                    t += count[_case(phi, i, j, k)]
        vertices[i] = v
        triangles[i] = t


@njit(cache=True)
def _case(phi, i, j, k):
    case = 0
    for c in range(8):
        if phi[i + (c >> 2), j + (c >> 1 & 1), k + (c & 1)] < 0:
            case |= 1 << c
    return case


@njit(cache=True, parallel=True)
def _vertices(phi, first, number, position):
    nx, ny, nz = phi.shape
    for i in prange(nx):
        n = first[i]
        for j in range(ny):
            for k in range(nz):
                a = phi[i, j, k]
                for axis in range(3):
                    ni, nj, nk = i + (axis == 0), j + (axis == 1), k + (axis == 2)
                    if ni >= nx or nj >= ny or nk >= nz:
                        continue
                    b = phi[ni, nj, nk]
                    if (a < 0) == (b < 0):
                        continue
                    t = a / (a - b)
                    position[n, 0] = i + (t if axis == 0 else 0.0)
                    position[n, 1] = j + (t if axis == 1 else 0.0)
                    position[n, 2] = k + (t if axis == 2 else 0.0)
                    number[axis, i, j, k] = n
                    n += 1


@njit(cache=True, parallel=True)
def _triangles(phi, first, number, count, table, edge_at, triangle):
    nx, ny, nz = phi.shape
    for i in prange(nx - 1):
        n = first[i]
        for j in range(ny - 1):
            for k in range(nz - 1):
                case = _case(phi, i, j, k)
                for t in range(count[case]):
                    for c in range(3):
                        e = edge_at[table[case, t, c]]
                        triangle[n, c] = number[e[3], i + e[0], j + e[1], k + e[2]]
                    n += 1


def polygonise(phi: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Surface phi = 0 of node values, negative inside.

    Parameters
    ----------
    phi : float32 (nx, ny, nz)

    Returns
    -------
    (position, triangle) : float32 (n, 3) in node units, int32 (m, 3) counter-clockwise from
        outside. The mesh is open only where the surface leaves the array.
    """
    phi = np.ascontiguousarray(phi, np.float32)
    # a node on the surface, or within rounding of it, would make triangles without area
    least = np.float32(SLIVER * np.abs(np.diff(phi, axis=0)).max()) if phi.shape[0] > 1 else np.float32(0)
    phi = np.where(np.abs(phi) < least, np.where(phi < 0, -least, least), phi)
    vertices, triangles = np.zeros(phi.shape[0], np.int64), np.zeros(phi.shape[0], np.int64)
    _count(phi, vertices, triangles, COUNT)
    first_vertex = np.concatenate([[0], np.cumsum(vertices)])
    first_triangle = np.concatenate([[0], np.cumsum(triangles)])
    position = np.empty((first_vertex[-1], 3), np.float32)
    triangle = np.empty((first_triangle[-1], 3), np.int32)
    number = np.empty((3, *phi.shape), np.int32)
    _vertices(phi, first_vertex, number, position)
    _triangles(phi, first_triangle, number, COUNT, TABLE, _EDGE_AT, triangle)
    return position, triangle
