"""One frame's surface: particles in, triangles with attributes out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from basin.surface.attributes import vertex_attributes
from basin.surface.field import Deep, particle_field
from basin.surface.polygonise import polygonise
from basin.surface.settings import SurfaceSettings


@dataclass(frozen=True)
class SurfaceFrame:
    """A meshed frame: float32 (n, 3) metres, int32 (m, 3), and by name what its vertices carry (n, ...).

    There is always a `velocity`, float32 (n, 3), m/s per shot second.
    """

    position: np.ndarray
    triangle: np.ndarray
    attributes: dict[str, np.ndarray]


def surface_frame(
    position: np.ndarray,
    carried: Mapping[str, np.ndarray],
    volume: np.ndarray,
    spacing: float,
    voxel: float,
    settings: SurfaceSettings,
    deep: Deep | None = None,
) -> SurfaceFrame:
    """Mesh the liquid that particles and full voxels stand for (see `particle_field`); empty without particles.

    Parameters
    ----------
    carried : arrays (n, ...) of the particles by name, a `velocity` among them (see `vertex_attributes`)
    """
    field = particle_field(position, volume, spacing, voxel, settings, deep)
    if field is None:
        none = np.zeros((0, 3), np.float32)
        return SurfaceFrame(none, np.zeros((0, 3), np.int32), {"velocity": none})
    vertex, triangle = polygonise(field.phi)
    placed = vertex.astype(np.float64) * field.voxel + field.low
    attributes = vertex_attributes(placed, position, carried, settings.softness * spacing)
    return SurfaceFrame(placed.astype(np.float32), triangle, attributes)
