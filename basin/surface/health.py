"""What is wrong with a mesh, if anything: readings of every meshed frame."""

from __future__ import annotations

import numpy as np

from basin.geometry.mesh import TriangleMesh
from basin.readings import Reading
from basin.surface.mesh import SurfaceFrame

READINGS = (
    Reading("triangles", "Triangles"),
    Reading("mesh_volume", "Volume of the mesh", "m³"),
    Reading("volume_error", "Mesh against liquid, share"),
    Reading("layers", "Particles in films, sheets and threads"),
    Reading("spray", "Particles drawn as spray"),
    Reading("spray_volume", "Volume drawn as spray", "m³"),
    Reading("open_edges", "Open edges"),
    Reading("flipped", "Flipped edges"),
    Reading("degenerate", "Degenerate triangles"),
)
SLIVER = 1e-8  # of a voxel squared: triangles with less area count as degenerate


def health(surface: SurfaceFrame, voxel: float, liquid: float | None) -> dict[str, float]:
    """Readings of a meshed frame.

    Parameters
    ----------
    voxel : of the surface, metres
    liquid : volume (m3) that the mesh should hold, if that is known

    Returns
    -------
    `triangles`; `layers`, how many particles lie in films, sheets and threads; `spray`, how many were too lonely for
    the mesh and are balls in it, and `spray_volume` (m3) of those; `mesh_volume` (m3) and its `volume_error` against
    the liquid's; `open_edges`, sides of triangles without a neighbour; `flipped`, sides whose neighbour faces the other
    way; `degenerate` triangles
    """
    triangle = surface.triangle.astype(np.int64)
    found = {"triangles": float(len(triangle))}
    if surface.field is not None:
        found["layers"] = float(len(surface.field.layers or ()))
        found["spray"] = float(len(surface.field.spray))
        found["spray_volume"] = float(surface.field.spray.sum(dtype=np.float64))
    if len(triangle) == 0:
        return found
    count = len(surface.position)
    a = np.concatenate([triangle[:, 0], triangle[:, 1], triangle[:, 2]])
    b = np.concatenate([triangle[:, 1], triangle[:, 2], triangle[:, 0]])
    there, times = np.unique(a * count + b, return_counts=True)
    back = np.unique(b * count + a)
    corner = surface.position.astype(np.float64)[triangle]
    area = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1) / 2
    volume = TriangleMesh(surface.position.astype(np.float64), surface.triangle).volume()
    if liquid:
        found["volume_error"] = volume / liquid - 1
    return {
        **found,
        "mesh_volume": volume,
        "open_edges": float(len(np.setdiff1d(there, back, assume_unique=True))),
        "flipped": float((times - 1).sum()),
        "degenerate": float((area < SLIVER * voxel**2).sum()),
    }
