"""Particles sorted into cells, so that those about a point are found in rows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.kernels import kernel

EVERY = np.zeros(0, np.bool_)
MOST_CELLS = 8  # times as many as particles, beyond a million: wider cells are slower, but as right


@dataclass(frozen=True)
class Binned:
    """Particles in the order of cells.

    Attributes
    ----------
    position : float64 (n, 3) in that order, metres, and order : int64 (n,), where each was before
    start : int32 (cells + 1,), first particle of each cell, the last axis running fastest
    low : float64 (3,), corner of the first cell; shape : int64 (3,), cells along each axis; edge : their width, metres
    """

    position: np.ndarray
    order: np.ndarray
    start: np.ndarray
    low: np.ndarray
    shape: np.ndarray
    edge: float

    def rows(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray, float]:
        """What `box` and `row` look up, with the positions before it."""
        return self.position, self.start, self.low, self.shape, self.edge


@kernel
def bounds(position):
    """Smallest and largest corner, float64 (3,), of places (n, 3); infinite without any."""
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for d in range(3):  # NumPy is slow at the least of rows
        least, most = np.inf, -np.inf
        for n in range(position.shape[0]):
            x = position[n, d]
            least, most = min(least, x), max(most, x)
        low[d], high[d] = least, most
    return low, high


def binned(position: np.ndarray, edge: float) -> Binned:
    """Sort positions (n, 3), n > 0, into cells of an edge, metres; wider ones where particles are far apart."""
    place = np.ascontiguousarray(position, np.float64)
    low, high = bounds(place)
    extent = high - low
    while np.prod(extent / edge + 1) > MOST_CELLS * (len(place) + 125_000):
        edge *= 1.25
    shape = (extent / edge).astype(np.int64) + 1
    return sorted_into(place, cell_numbers(place, low, shape, edge), EVERY, low, shape, edge)


def sorted_into(
    position: np.ndarray, cell: np.ndarray, kept: np.ndarray, low: np.ndarray, shape: np.ndarray, edge: float
) -> Binned:
    """Those of some positions (n, 3) that lie in kept cells, by the numbers of their cells (n,).

    Parameters
    ----------
    kept : bool (cells,), or `EVERY`
    """
    start = np.zeros(int(np.prod(shape)) + 1, np.int32)
    order = _sorted(cell, kept, start)
    return Binned(_taken(position, order), order, start, low, shape, edge)


def near(position: np.ndarray, places: np.ndarray, reach: float) -> np.ndarray:
    """Numbers, ascending, of those positions (n, 3) that may be within reach of some places (m, 3); all if none is."""
    if len(places) == 0:
        return np.arange(len(position))
    low, high = bounds(places)
    edge = reach
    while np.prod((high - low) / edge + 3) > MOST_CELLS * (len(position) + 125_000):
        edge *= 1.25
    flags = np.zeros(tuple(((high - low) / edge).astype(np.int64) + 3), np.bool_)
    _flag_about(np.ascontiguousarray(places, np.float64), low - edge, edge, flags)
    found = np.empty(len(position), np.bool_)
    _flagged(position, low - edge, edge, flags, found)
    some = np.flatnonzero(found)
    return some if len(some) else np.arange(len(position))


@kernel
def _flag_about(places, low, edge, flags):
    """Flag the cells of places and those beside them."""
    for m in range(places.shape[0]):
        i = min(int((places[m, 0] - low[0]) / edge), flags.shape[0] - 2)
        j = min(int((places[m, 1] - low[1]) / edge), flags.shape[1] - 2)
        k = min(int((places[m, 2] - low[2]) / edge), flags.shape[2] - 2)
        for a in range(i - 1, i + 2):
            for b in range(j - 1, j + 2):
                for c in range(k - 1, k + 2):
                    flags[a, b, c] = True


@kernel(parallel=True)
def _flagged(position, low, edge, flags, found):
    for n in prange(position.shape[0]):
        i = int(np.floor((position[n, 0] - low[0]) / edge))
        j = int(np.floor((position[n, 1] - low[1]) / edge))
        k = int(np.floor((position[n, 2] - low[2]) / edge))
        within = min(i, j, k) >= 0 and i < flags.shape[0] and j < flags.shape[1] and k < flags.shape[2]
        found[n] = within and flags[i, j, k]


@kernel(parallel=True)
def cell_numbers(position, low, shape, edge):
    """Numbers of the cells that positions (n, 3) lie in, int64, the last axis running fastest."""
    cell = np.empty(position.shape[0], np.int64)
    for n in prange(position.shape[0]):
        i = min(int((position[n, 0] - low[0]) / edge), shape[0] - 1)
        j = min(int((position[n, 1] - low[1]) / edge), shape[1] - 1)
        k = min(int((position[n, 2] - low[2]) / edge), shape[2] - 1)
        cell[n] = (i * shape[1] + j) * shape[2] + k
    return cell


@kernel
def _sorted(cell, kept, start):
    """Stable counting sort of those in kept cells; fills the cells' starts."""
    every = kept.shape[0] == 0
    for c in cell:
        if every or kept[c]:
            start[c + 1] += 1
    for c in range(start.shape[0] - 1):
        start[c + 1] += start[c]
    order = np.empty(start[-1], np.int64)
    for n in range(cell.shape[0]):
        c = cell[n]
        if every or kept[c]:
            order[start[c]] = n
            start[c] += 1
    for c in range(start.shape[0] - 1, 0, -1):
        start[c] = start[c - 1]
    start[0] = 0
    return order


@kernel(parallel=True)
def _taken(position, order):
    found = np.empty((order.shape[0], 3))
    for n in prange(order.shape[0]):
        for d in range(3):
            found[n, d] = position[order[n], d]
    return found


@kernel
def span(x, reach, low, edge, count):
    """First cell along an axis that may hold something within reach of x, and the one after the last."""
    return max(int(np.floor((x - reach - low) / edge)), 0), min(int(np.floor((x + reach - low) / edge)) + 1, count)


@kernel
def row(start, low, shape, edge, i, j, x, y, z, reach):
    """First particle of a row of cells that may be within reach of a point, and the one after the last."""
    dx = max(low[0] + i * edge - x, x - low[0] - (i + 1) * edge, 0.0)
    dy = max(low[1] + j * edge - y, y - low[1] - (j + 1) * edge, 0.0)
    rest = reach * reach - dx * dx - dy * dy
    if rest < 0.0:
        return 0, 0
    first, after = span(z, np.sqrt(rest), low[2], edge, shape[2])
    if after <= first:
        return 0, 0
    at = (i * shape[1] + j) * shape[2]
    return start[at + first], start[at + after]
