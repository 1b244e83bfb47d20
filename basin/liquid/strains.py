"""Matrices of strains on a staggered grid: masses at faces, and what stretches and shears of its velocity weigh.

    u A u = sum of m u^2  +  sum of w e^2

over faces, and over stretches at cells' centres and shears at their edges, each the plain sum of the differences of the
two or four face velocities about it. Nothing is stored but m and w: the matrix acts tile by tile.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.tiles import all_zero, load, row_of
from basin.kernels import kernel, shared


@dataclass(frozen=True)
class Strains:
    """A matrix, and where its unknowns are.

    Attributes
    ----------
    first, where : of the tiles (see `basin.grid.tiles.Tiles`)
    row : int64 (n,), ascending: the tiles that hold unknowns
    about : int32 (n, 27), the rows of the tiles about each and its own, x changing slowest
    weight : float32 (n, 6, 10, 10, 10), theirs with a rim of one cell: of stretches along x, y and z at cells' centres,
        of shears xy, xz, yz at the edges that begin at cells' low corners
    mass : float32 (3, tiles + 1, 8, 8, 8), of faces at the low sides of cells
    inverse : float32, like it, of the matrix's diagonal; 0 where there is no unknown
    """

    first: np.ndarray
    where: np.ndarray
    row: np.ndarray
    about: np.ndarray
    weight: np.ndarray
    mass: np.ndarray
    inverse: np.ndarray

    @staticmethod
    def of(
        first: np.ndarray,
        where: np.ndarray,
        cell: np.ndarray,
        edge: np.ndarray,
        mass: np.ndarray,
        inside: np.ndarray | None = None,
    ) -> Strains:
        """From the weights of cells, edges and faces, each (3, tiles + 1, 8, 8, 8).

        Parameters
        ----------
        mass : below zero at faces that are no unknowns
        inside : bool field, cells whose low faces are unknowns; all are without it
        """
        inverse, live = np.zeros_like(mass), np.zeros(len(first), bool)
        flags = np.ones(mass.shape[1:], bool) if inside is None else inside
        _diagonal(first, where, flags, *cell, *edge, mass, inverse, live)
        row = np.flatnonzero(live)
        weight = np.empty((len(row), 6, 10, 10, 10), np.float32)
        _gather(row, first, where, *cell, *edge, weight)
        about = np.empty((len(row), 27), np.int32)
        _look_about(row, first, where, about)
        return Strains(first, where, row, about, weight, mass, inverse)

    def single(self) -> tuple[np.ndarray, ...]:
        """What kernels of single precision take first."""
        return self.row, self.about, self.weight, self.mass, self.inverse

    def times(self, flow: np.ndarray, out: np.ndarray, part: np.ndarray, massive: bool = True) -> None:
        """`out` becomes the matrix, or that of strains alone, times a velocity, both float64 like the mass.

        `part` (n,) becomes their product, tile by tile.
        """
        _apply(self.row, self.about, self.weight, self.mass, self.inverse, massive, *flow, out, part)


@shared
def _diagonal(first, where, inside, cell_x, cell_y, cell_z, xy, xz, yz, mass, inverse, live):
    for t in prange(1, first.shape[0]):
        block = np.empty((6, 10, 10, 10), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(cell_x, where, i0, j0, k0, block[0])
        load(cell_y, where, i0, j0, k0, block[1])
        load(cell_z, where, i0, j0, k0, block[2])
        load(xy, where, i0, j0, k0, block[3])
        load(xz, where, i0, j0, k0, block[4])
        load(yz, where, i0, j0, k0, block[5])
        line = block.reshape((6, 1000))
        if all_zero(block.reshape(6000)):
            continue
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    if not inside[t, a, b, c]:
                        continue
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    for d in range(3):
                        m = mass[d, t, a, b, c]
                        if m < 0:
                            continue
                        step = 100 if d == 0 else (10 if d == 1 else 1)
                        stiff = line[d, p] + line[d, p - step]
                        first_edge, second_edge = (3, 4) if d == 0 else ((3, 5) if d == 1 else (4, 5))
                        first_step = 10 if d == 0 else 100
                        second_step = 10 if d == 2 else 1
                        stiff += line[first_edge, p] + line[first_edge, p + first_step]
                        stiff += line[second_edge, p] + line[second_edge, p + second_step]
                        if stiff > 0:
                            inverse[d, t, a, b, c] = np.float32(1.0) / (m + stiff)
                            live[t] = True


@kernel(parallel=True)
def _gather(row, first, where, cell_x, cell_y, cell_z, xy, xz, yz, weight):
    """The weights of tiles with their rims, as lines, so that iterations need not look for them."""
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(cell_x, where, i0, j0, k0, weight[n, 0])
        load(cell_y, where, i0, j0, k0, weight[n, 1])
        load(cell_z, where, i0, j0, k0, weight[n, 2])
        load(xy, where, i0, j0, k0, weight[n, 3])
        load(xz, where, i0, j0, k0, weight[n, 4])
        load(yz, where, i0, j0, k0, weight[n, 5])


@shared
def _look_about(row, first, where, about):
    for n in prange(row.shape[0]):
        t = row[n]
        for a in range(3):
            for b in range(3):
                for c in range(3):
                    about[n, (a * 3 + b) * 3 + c] = row_of(
                        where, first[t, 0] + 8 * a - 8, first[t, 1] + 8 * b - 8, first[t, 2] + 8 * c - 8
                    )


@kernel
def _with_rim(field, about, out):
    """A tile's values (8, 8, 8) and a rim of one cell about them, 10^3 in a line."""
    for i in range(10):
        a, x = (i + 7) >> 3, (i + 7) & 7
        for j in range(10):
            b, y = (j + 7) >> 3, (j + 7) & 7
            tile, p = (a * 3 + b) * 3, (i * 10 + j) * 10
            own = field[np.uint64(about[tile + 1]), np.uint64(x), np.uint64(y)]
            out[p] = field[np.uint64(about[tile]), np.uint64(x), np.uint64(y), np.uint64(7)]
            for k in range(8):
                out[p + 1 + k] = own[k]
            out[p + 9] = field[np.uint64(about[tile + 2]), np.uint64(x), np.uint64(y), np.uint64(0)]


@kernel(inline="always")
def _stretch(out, weight, u, begin, end, step):
    """Stress of a stretch along an axis, whole lines at a time, over the rims too."""
    for p in range(begin, end):
        out[p] = weight[p] * (u[p + step] - u[p])


@kernel(inline="always")
def _sheared(out, weight, u, v, begin, end, across_u, across_v):
    """Stress of a shear: of u across an axis and of v across the other."""
    for p in range(begin, end):
        out[p] = weight[p] * (u[p] - u[p - across_u] + v[p] - v[p - across_v])


@kernel(inline="always")
def _stress(weight, x, y, z, out):
    """Stresses (6, 1000) of the velocities in a block, each 10^3 in a line."""
    _stretch(out[0], weight[0], x, 0, 900, 100)
    _stretch(out[1], weight[1], y, 100, 900, 10)
    _stretch(out[2], weight[2], z, 100, 900, 1)
    _sheared(out[3], weight[3], x, y, 100, 1000, 10, 100)
    _sheared(out[4], weight[4], x, z, 100, 1000, 1, 100)
    _sheared(out[5], weight[5], y, z, 100, 900, 1, 10)


@kernel(inline="always")
def _pull(out, mass, inverse, massive, u, stretch, along, one, step_one, two, step_two):
    """A component of the matrix times the velocity in a tile, and its product with the velocity."""
    total = 0.0
    for a in range(8):
        for b in range(8):
            q, p = (a * 8 + b) * 8, ((a + 1) * 10 + b + 1) * 10 + 1
            for k in range(8):
                pull = stretch[p + k - along] - stretch[p + k]
                pull += one[p + k] - one[p + k + step_one] + two[p + k] - two[p + k + step_two]
                pull += mass[q + k] * u[p + k] if massive else 0.0
                pull = pull if inverse[q + k] > 0 else 0.0
                out[q + k] = pull
                total += pull * u[p + k]
    return total


@shared(fastmath=True)
def _apply(row, about, weight, mass, inverse, massive, u, v, w, out, part):
    for n in prange(row.shape[0]):
        t = row[n]
        x, y, z, stress = np.empty(1000), np.empty(1000), np.empty(1000), np.empty((6, 1000))
        _with_rim(u, about[n], x)
        _with_rim(v, about[n], y)
        _with_rim(w, about[n], z)
        _stress(weight[n].reshape((6, 1000)), x, y, z, stress)
        m0, m1, m2 = mass[0, t].reshape(512), mass[1, t].reshape(512), mass[2, t].reshape(512)
        s0, s1, s2 = inverse[0, t].reshape(512), inverse[1, t].reshape(512), inverse[2, t].reshape(512)
        to0, to1, to2 = out[0, t].reshape(512), out[1, t].reshape(512), out[2, t].reshape(512)
        total = _pull(to0, m0, s0, massive, x, stress[0], 100, stress[3], 10, stress[4], 1)
        total += _pull(to1, m1, s1, massive, y, stress[1], 10, stress[3], 100, stress[5], 1)
        total += _pull(to2, m2, s2, massive, z, stress[2], 1, stress[4], 100, stress[5], 10)
        part[n] = total


@kernel(fastmath=True)
def _times_in(n, t, about, weight, mass, inverse, flow, out):
    """The matrix times a velocity in one tile, float32 (3, 512)."""
    block, stress = np.empty((3, 1000), np.float32), np.empty((6, 1000), np.float32)
    x, y, z = block[0], block[1], block[2]
    _with_rim(flow[0], about[n], x)
    _with_rim(flow[1], about[n], y)
    _with_rim(flow[2], about[n], z)
    _stress(weight[n].reshape((6, 1000)), x, y, z, stress)
    m0, m1, m2 = mass[0, t].reshape(512), mass[1, t].reshape(512), mass[2, t].reshape(512)
    s0, s1, s2 = inverse[0, t].reshape(512), inverse[1, t].reshape(512), inverse[2, t].reshape(512)
    _pull(out[0], m0, s0, True, x, stress[0], 100, stress[3], 10, stress[4], 1)
    _pull(out[1], m1, s1, True, y, stress[1], 10, stress[3], 100, stress[5], 1)
    _pull(out[2], m2, s2, True, z, stress[2], 1, stress[4], 100, stress[5], 10)


@shared(fastmath=True)
def relax(row, about, weight, mass, inverse, right, flow, keep, far, way, out):
    """A step of a smoother, float32: `way` becomes keep way + far D^-1 (right - A flow), `out` becomes flow + way."""
    pulled = np.empty((3, 512), np.float32)
    for n in prange(row.shape[0]):
        t = row[n]
        _times_in(n, t, about, weight, mass, inverse, flow, pulled)
        for d in range(3):
            b, p, own = right[d, t].reshape(512), way[d, t].reshape(512), flow[d, t].reshape(512)
            s, to, a = inverse[d, t].reshape(512), out[d, t].reshape(512), pulled[d]
            for e in range(512):
                p[e] = keep * p[e] + far * s[e] * (b[e] - a[e])
                to[e] = own[e] + p[e]


@shared(fastmath=True)
def begin(row, inverse, right, far, way, out):
    """The first step of a smoother from rest: `way` and `out` become far D^-1 right."""
    for n in prange(row.shape[0]):
        t = row[n]
        for d in range(3):
            s, b = inverse[d, t].reshape(512), right[d, t].reshape(512)
            p, to = way[d, t].reshape(512), out[d, t].reshape(512)
            for e in range(512):
                p[e] = far * s[e] * b[e]
                to[e] = p[e]


@shared(fastmath=True)
def remains(row, about, weight, mass, inverse, right, flow, out):
    """`out` becomes right - A flow, float32."""
    pulled = np.empty((3, 512), np.float32)
    for n in prange(row.shape[0]):
        t = row[n]
        _times_in(n, t, about, weight, mass, inverse, flow, pulled)
        for d in range(3):
            b, s = right[d, t].reshape(512), inverse[d, t].reshape(512)
            to, a = out[d, t].reshape(512), pulled[d]
            for e in range(512):
                to[e] = b[e] - a[e] if s[e] > 0 else np.float32(0.0)


@shared
def take(row, flow, out):
    """Copy a velocity into one of another precision."""
    for n in prange(row.shape[0]):
        t = row[n]
        for d in range(3):
            u, to = flow[d, t].reshape(512), out[d, t].reshape(512)
            for e in range(512):
                to[e] = u[e]
