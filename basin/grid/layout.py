"""Where the staggered (MAC) grid lies, and how its arrays are padded and wrapped.

Lengths inside the solver are voxels, measured from the corner of the padded grid. Cell (i, j, k)
spans [i, i+1) x [j, j+1) x [k, k+1); its node is its low corner, and its face of `u` that at x = i.
`PAD` cells surround the domain: solid behind closed walls, air behind open ones, copies of
the far side on periodic axes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

PAD = 3
TILE = 8


@dataclass(frozen=True)
class Layout:
    """Geometry of one padded staggered grid.

    Attributes
    ----------
    low : float64 (3,), metres: smallest corner of the domain
    size : float64 (3,), metres: edge lengths of the domain
    dx : voxel edge in metres
    inner : cells of the domain per axis, the last one perhaps cut by the wall
    closed : bool (3, 2), whether the low and high wall of each axis is solid
    periodic : bool (3,)
    """

    low: np.ndarray
    size: np.ndarray
    dx: float
    inner: tuple[int, int, int]
    closed: np.ndarray
    periodic: np.ndarray

    @property
    def cells(self) -> tuple[int, int, int]:
        """Cells per axis with padding."""
        nx, ny, nz = (n + 2 * PAD for n in self.inner)
        return nx, ny, nz

    @property
    def tiles(self) -> tuple[int, int, int]:
        """8^3 tiles per axis that cover the padded grid."""
        tx, ty, tz = (-(-n // TILE) for n in self.cells)
        return tx, ty, tz

    @property
    def wall_low(self) -> np.ndarray:
        """Smallest corner of the domain in voxels, float32 (3,)."""
        return np.full(3, PAD, np.float32)

    @property
    def wall_high(self) -> np.ndarray:
        """Largest corner of the domain in voxels, float32 (3,)."""
        return (PAD + self.size / self.dx).astype(np.float32)

    def to_voxels(self, position: np.ndarray) -> np.ndarray:
        """Metres of the scene to voxels of the padded grid, float64."""
        return (np.asarray(position, np.float64) - self.low) / self.dx + PAD

    def to_metres(self, position: np.ndarray) -> np.ndarray:
        """Voxels of the padded grid to metres of the scene, float32."""
        return ((position.astype(np.float64) - PAD) * self.dx + self.low).astype(np.float32)

    def voxel_matrix(self, matrix: np.ndarray) -> np.ndarray:
        """An affine matrix (4, 4) over metres, as one over voxels."""
        change = np.eye(4)
        change[:3, :3] /= self.dx
        change[:3, 3] = PAD - self.low / self.dx
        return np.asarray(change @ matrix @ np.linalg.inv(change))


def make_layout(low: np.ndarray, size: np.ndarray, dx: float, walls: Sequence[tuple[str, str]]) -> Layout:
    """Layout of a domain; on periodic axes the domain becomes a whole number of voxels.

    Parameters
    ----------
    walls : ("closed" | "open" | "periodic" | "calm", closed too) for the low and high wall of x, y, z.
    """
    periodic = np.array([w[0] == "periodic" for w in walls])
    size = np.array(size, np.float64)
    size = np.where(periodic, np.maximum(np.round(size / dx), 2 * PAD) * dx, size)
    nx, ny, nz = (max(int(np.ceil(s / dx - 1e-6)), 1) for s in size)
    closed = np.array([[side in ("closed", "calm") for side in pair] for pair in walls])
    return Layout(np.array(low, np.float64), size, float(dx), (nx, ny, nz), closed, periodic)
