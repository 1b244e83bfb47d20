"""A collider as the solver's grid sees it, as a mesh to look at, and how far that is from what was asked."""

from __future__ import annotations

from dataclasses import dataclass

import igl
import numpy as np
from scipy.ndimage import map_coordinates

from basin.geometry.distance import Distance
from basin.geometry.mesh import TriangleMesh, grounded
from basin.geometry.pose import scale_of
from basin.geometry.shapes import MeshShape
from basin.grid.layout import PAD
from basin.scene import Collider, Scene, SceneError
from basin.stages.assembly import distance_of, scene_layout
from basin.stages.files import SceneFiles
from basin.surface.polygonise import polygonise

MOST_NODES = 60_000_000
BESIDE = 3  # voxels about a shape that are looked at
MOST_POINTS = 400_000  # of the shape's own edges that are compared


@dataclass(frozen=True)
class SolverSolid:
    """A collider's surface on the solver's grid.

    Attributes
    ----------
    mesh : in metres of the scene, open where it leaves the domain
    voxel : m
    largest, mean : m between the two surfaces; the mean is of the grid's own corners
    """

    mesh: TriangleMesh
    voxel: float
    largest: float
    mean: float


def solver_solid(scene: Scene, files: SceneFiles, index: int, frame: int, quality: str) -> SolverSolid:
    """The surface of a collider at a frame as the node distances of a quality's grid have it, within the domain.

    Raises
    ------
    SceneError
        If the element is no collider, does not come into the domain, or has too many voxels to be shown.
    """
    element = scene.elements[index]
    if not isinstance(element, Collider):
        raise SceneError([f"{element.name}: only colliders are solid"])
    layout, time = scene_layout(scene, quality), scene.time.shot_time(frame)
    matrix = scene.placement(element).matrix(time)
    held = distance_of(element, scene, files, element.sampling or layout.dx).at_time(time)
    low, high = np.full(3, PAD), np.array(layout.inner) + PAD
    if np.isfinite([held.low, held.high]).all():
        box = layout.to_voxels(held.corners(matrix))
        low = np.maximum(low, np.floor(box.min(axis=0)).astype(int) - BESIDE)
        high = np.minimum(high, np.ceil(box.max(axis=0)).astype(int) + BESIDE)
    shape = high - low + 1
    if (shape < 2).any():
        raise SceneError([f"{element.name}: lies outside the domain at frame {frame}"])
    if np.prod(shape.astype(float)) > MOST_NODES:
        raise SceneError([f"{element.name}: has too many voxels to be shown at {quality}; look at a coarser quality"])
    node = np.stack(np.meshgrid(*(np.arange(a, b + 1) for a, b in zip(low, high, strict=True)), indexing="ij"), axis=-1)
    field = np.empty(tuple(shape), np.float32)
    for i, plane in enumerate(node):
        metres = (plane.reshape(-1, 3) - PAD) * layout.dx + layout.low
        field[i] = held.placed_at(metres, matrix).reshape(shape[1:])
    place, triangle = polygonise(field)
    if len(triangle) == 0:
        raise SceneError([f"{element.name}: has no surface in the domain at frame {frame}"])
    metres = (place.astype(np.float64) + low - PAD) * layout.dx + layout.low
    off = _off(element, scene, files, metres, matrix, time)
    largest = float(off.max())
    own = _edges(element, scene, files, time, layout.dx / 2 / scale_of(matrix))
    if own is not None:
        own = own @ matrix[:3, :3].T + matrix[:3, 3]
        at = layout.to_voxels(own) - low
        inside = ((at >= 1) & (at <= shape - 2)).all(axis=1)
        seen = np.abs(map_coordinates(field, at[inside].T, order=1))
        largest = max(largest, float(seen.max(initial=0.0)))
    return SolverSolid(TriangleMesh(metres, triangle), layout.dx, largest, float(off.mean()))


def _edges(element: Collider, scene: Scene, files: SceneFiles, time: float, spacing: float) -> np.ndarray | None:
    """Points (n, 3) along a mesh's edges in its own frame, where a grid errs most.

    None for other shapes, and for shells, whose edges lie within them.
    """
    if not isinstance(element.shape, MeshShape) or element.side == "shell":
        return None
    mesh = files.mesh_at(element.shape, scene.time, time)
    edge = np.unique(np.sort(mesh.triangle[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
    start, way = mesh.position[edge[:, 0]], mesh.position[edge[:, 1]] - mesh.position[edge[:, 0]]
    length = np.linalg.norm(way, axis=1)
    count = np.ceil(length / max(spacing, float(length.sum()) / MOST_POINTS)).astype(int) + 1
    which = np.repeat(np.arange(len(edge)), count)
    place = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
    share = place / np.maximum(count[which] - 1, 1)
    return np.asarray(start[which] + share[:, None] * way[which])


def _off(
    element: Collider, scene: Scene, files: SceneFiles, points: np.ndarray, matrix: np.ndarray, time: float
) -> np.ndarray:
    """Distance (n,) in metres of points (n, 3) of the scene from the surface that was asked for."""
    if not isinstance(element.shape, MeshShape):
        exact = distance_of(element, scene, files, 1.0)
        assert isinstance(exact, Distance)
        return np.abs(exact.placed_at(points, matrix))
    mesh = files.mesh_at(element.shape, scene.time, time)
    mesh = grounded(mesh) if element.side == "ground" else mesh
    inverse = np.linalg.inv(matrix)
    own = np.ascontiguousarray(points @ inverse[:3, :3].T + inverse[:3, 3])
    position, triangle = np.ascontiguousarray(mesh.position), np.ascontiguousarray(mesh.triangle, np.int64)
    away = np.sqrt(np.asarray(igl.point_mesh_squared_distance(own, position, triangle)[0]).ravel())
    if element.side == "shell":
        away = np.abs(away - element.thickness / 2)
    return np.asarray(away * scale_of(matrix))
