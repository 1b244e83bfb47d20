"""One frame's surface: particles in, triangles with velocities out."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import map_coordinates

from basin.surface.field import Deep, particle_field
from basin.surface.polygonise import polygonise
from basin.surface.settings import SurfaceSettings


@dataclass(frozen=True)
class SurfaceFrame:
    """A meshed frame: float32 (n, 3) metres, int32 (m, 3), float32 (n, 3) m/s per shot second."""

    position: np.ndarray
    triangle: np.ndarray
    velocity: np.ndarray


def surface_frame(
    position: np.ndarray,
    velocity: np.ndarray,
    volume: np.ndarray,
    spacing: float,
    voxel: float,
    settings: SurfaceSettings,
    deep: Deep | None = None,
) -> SurfaceFrame:
    """Mesh the liquid that particles and full voxels stand for (see `particle_field`); empty without particles."""
    made = particle_field(position, velocity, volume, spacing, voxel, settings, deep)
    if made is None:
        none = np.zeros((0, 3), np.float32)
        return SurfaceFrame(none, np.zeros((0, 3), np.int32), none)
    field, mean = made
    vertex, triangle = polygonise(field.phi)
    carried = np.stack([map_coordinates(mean[d], vertex.T, order=1, mode="nearest") for d in range(3)], axis=1)
    placed = (vertex.astype(np.float64) * field.voxel + field.low).astype(np.float32)
    return SurfaceFrame(placed, triangle, np.ascontiguousarray(carried, dtype=np.float32))
