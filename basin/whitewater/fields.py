"""What a frame of the liquid knows on its grid, and what lies between two frames."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

UNSEEN = np.float32(2.5)  # voxels: level where there is no tile


@dataclass(frozen=True)
class Grid:
    """What a liquid frame knows on its grid.

    Attributes
    ----------
    low : corner of the cell (0, 0, 0), m; voxel : m
    where : int32 (tiles + 2 per axis), row of each tile in the fields, 0 for none
    first : int32 (n + 1, 3), lowest cell of each row's tile
    level : float32 (n + 1, 8, 8, 8), distance to the surface at cells' centres, voxels, negative inside
    velocity : three fields of the same shape, at the low faces of cells, m/s
    """

    low: np.ndarray
    voxel: float
    where: np.ndarray
    first: np.ndarray
    level: np.ndarray
    velocity: tuple[np.ndarray, np.ndarray, np.ndarray]

    @staticmethod
    def of(
        low: np.ndarray, voxel: float, tile: np.ndarray, level: np.ndarray, *velocity: np.ndarray, slower: float = 1.0
    ) -> Grid:
        """From sparse tiles: their places (n, 3), levels (m) and velocities (n, 8, 8, 8), which are divided."""
        shape = tuple(tile.max(axis=0) + 4) if len(tile) else (4, 4, 4)
        where = np.zeros(shape, np.int32)
        where[tuple((tile + 1).T)] = np.arange(1, len(tile) + 1)
        first = np.zeros((len(tile) + 1, 3), np.int32)
        first[0] = -1_000_000
        first[1:] = 8 * tile

        def with_none(field: np.ndarray, none: np.float32, factor: float) -> np.ndarray:
            out = np.full((len(tile) + 1, 8, 8, 8), none, np.float32)
            np.multiply(field, np.float32(factor), out=out[1:])
            return out

        u, v, w = (with_none(field, np.float32(0.0), 1.0 / slower) for field in velocity)
        return Grid(np.asarray(low, float), voxel, where, first, with_none(level, UNSEEN, 1.0 / voxel), (u, v, w))

    def cells(self, position: np.ndarray) -> np.ndarray:
        """Places (n, 3), m, in cells, float32."""
        return np.asarray((position - self.low) / self.voxel, np.float32)


class Between:
    """Two frames' fields on the tiles of both, and all that lies between them.

    Attributes
    ----------
    where, first : as `Grid` has them
    low, voxel : of both
    """

    def __init__(self, before: Grid, after: Grid) -> None:
        self.low, self.voxel = after.low, after.voxel
        shape = np.maximum(before.where.shape, after.where.shape)
        places = [np.argwhere(grid.where) for grid in (before, after)]
        self.where = np.zeros(tuple(shape), np.int32)
        for place in places:
            self.where[tuple(place.T)] = 1
        held = np.argwhere(self.where)
        self.where[tuple(held.T)] = np.arange(1, len(held) + 1)
        self.first = np.concatenate([np.full((1, 3), -1_000_000), 8 * (held - 1)]).astype(np.int32)
        self._ends = []
        for grid, place in zip((before, after), places, strict=True):
            rows = np.zeros(len(held) + 1, np.int64)
            rows[self.where[tuple(place.T)]] = grid.where[tuple(place.T)]
            self._ends.append((grid, rows))

    def level(self, share: float) -> np.ndarray:
        """Level at a share of the way from one to the other, voxels, float32 (tiles + 1, 8, 8, 8)."""
        return self._blended([(grid.level, rows) for grid, rows in self._ends], share)

    def velocity(self, share: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Velocities at the low faces of cells, m/s; where one of both has none it is the other's."""
        held = [(rows > 0)[:, None, None, None] for _, rows in self._ends]
        weight = np.where(held[0] & held[1], share, np.where(held[1], 1.0, 0.0)).astype(np.float32)
        found = []
        for axis in range(3):
            a, b = (grid.velocity[axis][rows] for grid, rows in self._ends)
            found.append(a + (b - a) * weight)
        return found[0], found[1], found[2]

    @staticmethod
    def _blended(ends: list[tuple[np.ndarray, np.ndarray]], share: float) -> np.ndarray:
        (a, at_a), (b, at_b) = ends
        if share >= 1.0:
            return np.ascontiguousarray(b[at_b])
        found = a[at_a]
        found += (b[at_b] - found) * np.float32(share)
        return found
