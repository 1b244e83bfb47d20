"""A matrix on pencils: rows of eight cells along z, of which only those that hold an unknown are kept.

A pencil's values lie side by side and its neighbours along x and y are pencils too, so that work on eight
cells is work on vectors, and the look-ups that a list of cells needs are shared by eight of them.
Arrays of values are (n + 1, 8); pencil 0 stands for everywhere else and holds zeros. A cell's *place* is
8 times its pencil plus its lane.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange
from scipy.sparse import coo_matrix, csr_matrix

from basin.kernels import kernel

LOW_X, HIGH_X, LOW_Y, HIGH_Y, BEFORE, AFTER, ENDS, LIVE = range(8)  # columns of `Matrix.links`
ODD = 1 << 8  # in a pencil's ENDS: whether its first cell's indices have an odd sum
PLAIN = 1 << 9  # there too, set by the solver: all couplings of all eight cells are 1, and no surface is near
EVEN_LANES, ODD_LANES = 0x55, 0xAA


@dataclass(frozen=True)
class Matrix:
    """(A p)_i = surface_i p_i + sum over neighbours j of weight_ij (p_i - p_j), symmetric.

    Attributes
    ----------
    first : int32 (n + 1, 3), lowest cell of each pencil, by 8^3 tiles and within a tile by x and y
    x, y, z : float32 (n + 1, 8), positive coupling to the cell below along each axis; 0 for none
    surface : float32 (n + 1, 8), coupling to the free surface, where the value is zero
    links : uint32 (n + 1, 8): the pencils below and above along x and y; the places of the cells
        before the first lane and after the last one (0 for none of all these); ENDS: those lanes
        (bits 0 to 2 and 4 to 6; a periodic axis may end within a pencil) and ODD; LIVE: a bit for
        each lane with an unknown
    """

    first: np.ndarray
    x: np.ndarray
    y: np.ndarray
    z: np.ndarray
    surface: np.ndarray
    links: np.ndarray

    def bare(self) -> Matrix:
        """The same arrays without what a subclass adds."""
        return Matrix(self.first, self.x, self.y, self.z, self.surface, self.links)

    def places(self) -> np.ndarray:
        """Places of the unknowns, int64 (m,), ascending."""
        lanes = self.links[:, LIVE, None] >> np.arange(8, dtype=np.uint32)
        return np.flatnonzero(lanes & 1)

    def cells(self) -> np.ndarray:
        """Cells of the unknowns, int32 (m, 3), in the order of their places."""
        place = self.places()
        cell = self.first[place >> 3].copy()
        cell[:, 2] += (place & 7).astype(np.int32)
        return cell

    def values(self, dtype: type = np.float64) -> np.ndarray:
        """Zeros (n + 1, 8)."""
        return np.zeros(self.surface.shape, dtype)

    def couplings(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (e,), those of the cells below them (e,), and their couplings float32 (e,)."""
        lane = np.arange(8)
        below = [8 * self.links[:, column, None].astype(np.int64) + lane for column in (LOW_X, LOW_Y)]
        own = np.arange(self.surface.size).reshape(-1, 8)
        before = self.links[:, BEFORE, None]
        below.append(np.where(lane == (self.links[:, ENDS, None] & 7), before, own - 1))
        weight = np.stack([self.x, self.y, self.z])
        joined = weight > 0
        return np.broadcast_to(own, weight.shape)[joined], np.stack(below)[joined], weight[joined]

    def as_csr(self) -> csr_matrix:
        """The same matrix over the unknowns for a general library, float64 (m, m)."""
        place = self.places()
        m = len(place)
        rank = np.full(self.surface.size, -1)
        rank[place] = np.arange(m)
        own, below, weight = self.couplings()
        i, j, w = rank[own], rank[below], weight.astype(np.float64)
        rows = np.concatenate([np.arange(m), i, j, i, j])
        columns = np.concatenate([np.arange(m), j, i, i, j])
        surface = self.surface.reshape(-1)[place].astype(np.float64)
        return coo_matrix((np.concatenate([surface, -w, -w, w, w]), (rows, columns)), shape=(m, m)).tocsr()


@kernel(parallel=True)
def list_pencils(first_cell, live, start, first, links, index):
    """Write the pencils of tiles, and the places of their cells into a field; `start[t - 1]` counts those before t."""
    for t in prange(1, first_cell.shape[0]):
        r = start[t - 1]
        for a in range(8):
            for b in range(8):
                bits = live[t, a, b]
                if bits == 0:
                    continue
                r += 1
                i, j, k = first_cell[t, 0] + a, first_cell[t, 1] + b, first_cell[t, 2]
                first[r, 0], first[r, 1], first[r, 2] = i, j, k
                links[r, LIVE] = bits
                links[r, ENDS] = (7 << 4) | (ODD if (i + j + k) & 1 else 0)
                for c in range(8):
                    if (bits >> c) & 1:
                        index[t, a, b, c] = 8 * r + c


@kernel(inline="always")
def link(links, r, c, s, neighbour):
    """Note the place of a cell's neighbour on side s (2 * axis + 1 for above) in its pencil's links."""
    if s < 4:
        links[r, s] = neighbour >> 3
    elif s == 4 and (c == 0 or neighbour != 8 * r + c - 1):
        links[r, BEFORE] = neighbour
        links[r, ENDS] = (links[r, ENDS] & ~np.uint32(7)) | np.uint32(c)
    elif s == 5 and (c == 7 or neighbour != 8 * r + c + 1):
        links[r, AFTER] = neighbour
        links[r, ENDS] = (links[r, ENDS] & ~np.uint32(7 << 4)) | np.uint32(c << 4)
