"""Particles in the order of 8^3 tiles and cells, which makes the transfers local and lets tiles of
one colour be scattered at the same time without touching the same faces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from basin.grid.layout import TILE, Layout
from basin.liquid.particles import Particles


@dataclass(frozen=True)
class Tiling:
    """Which particles lie in which tile.

    Attributes
    ----------
    tile : int64 (t,), indices of tiles with particles, ascending
    start : int64 (t + 1,), their first particles
    colours : eight arrays of positions in `tile`; tiles of one colour are two apart
    """

    tile: np.ndarray
    start: np.ndarray
    colours: list[np.ndarray]


@njit(cache=True, parallel=True)
def _keys(position, tiles, cells, out):
    for p in prange(position.shape[0]):
        key_tile = np.int64(0)
        key_cell = np.int64(0)
        for d in range(3):
            c = min(max(int(position[p, d]), 0), cells[d] - 1)
            key_tile = key_tile * tiles[d] + c // 8
            key_cell = key_cell * 8 + c % 8
        out[p] = key_tile * 512 + key_cell


def sorted_particles(particles: Particles, layout: Layout) -> tuple[Particles, Tiling]:
    """Stable sort by (tile, cell); also says where each tile's particles are."""
    key = np.empty(len(particles), np.int64)
    _keys(particles.position, np.array(layout.tiles), np.array(layout.cells), key)
    if np.any(key[1:] < key[:-1]):
        order = np.argsort(key, kind="stable")
        particles, key = particles.taken(order), key[order]
    tile, start = np.unique(key // TILE**3, return_index=True)
    place = np.stack(np.unravel_index(tile, layout.tiles), axis=1)
    colour = (place % 2) @ np.array([4, 2, 1])
    return particles, Tiling(tile, np.append(start, len(key)), [np.flatnonzero(colour == c) for c in range(8)])
