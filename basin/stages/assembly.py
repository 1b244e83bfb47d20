"""From a scene document to what the liquid is computed from; here bad scenes are told."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from basin.exchange import MeshFileError, read_mesh
from basin.exchange.formats import METRES
from basin.geometry.distance import Distance, shape_distance
from basin.geometry.mesh import TriangleMesh, least_thickness
from basin.geometry.shapes import Box, ColliderShape, Disc, MeshShape, Tub, Tube, primitive_mesh
from basin.grid.layout import Layout, make_layout
from basin.liquid.solids import Body
from basin.liquid.sources import FillSource, InflowSource
from basin.liquid.step import LiquidWorld
from basin.liquid.thin import THICKNESS
from basin.scene import Collider, Fill, Inflow, Scene, SceneError

OUT_OF_PROPORTION = 50.0  # times the domain's longest edge


@dataclass
class SceneFiles:
    """Meshes of a scene, read once each.

    Attributes
    ----------
    folder : where the scene document's mesh files are relative to
    """

    folder: Path
    _cache: dict[tuple[str, str, str], TriangleMesh] = field(default_factory=dict)

    def mesh(self, shape: MeshShape) -> TriangleMesh:
        """The mesh of a shape in metres; MeshFileError if it cannot be used."""
        key = (shape.file, shape.unit, shape.up)
        if key not in self._cache:
            path = (self.folder / shape.file).resolve()
            if not shape.file:
                raise MeshFileError("no mesh file is named; import one")
            if not path.is_relative_to(self.folder.resolve()):
                raise MeshFileError(f"{shape.file}: lies outside the scene's folder")
            self._cache[key] = read_mesh(path, shape.unit, shape.up)
        return self._cache[key]


@dataclass(frozen=True)
class Checked:
    """Outcome of a check: problems refuse the scene, remarks are only said."""

    problems: list[str]
    remarks: list[str]


def scene_layout(scene: Scene, quality: str) -> Layout:
    """The liquid's grid at a quality."""
    return make_layout(
        np.array(scene.domain.low), np.array(scene.domain.size), scene.voxel_size(quality), scene.domain.walls.pairs()
    )


def element_mesh(element: Fill | Inflow | Collider, files: SceneFiles) -> TriangleMesh:
    """Mesh of any element in its own frame, for viewing and bounds."""
    shape = element.shape
    return files.mesh(shape) if isinstance(shape, MeshShape) else primitive_mesh(shape)


def proposed_unit(extent: float, unit: str, reference: float) -> str | None:
    """A unit that brings a size into proportion with the domain, if the present one does not.

    Parameters
    ----------
    extent : longest edge of the mesh in metres under `unit`
    reference : longest edge of the domain in metres
    """
    if reference / OUT_OF_PROPORTION <= extent <= reference * OUT_OF_PROPORTION:
        return None
    plain = extent / METRES[unit]
    fitting = sorted(METRES, key=lambda u: abs(np.log(max(plain * METRES[u], 1e-12) / reference)))
    best = fitting[0]
    return best if best != unit else None


def check_scene(scene: Scene, files: SceneFiles) -> Checked:
    """Everything about a scene that validation of single fields cannot see."""
    problems: list[str] = []
    remarks: list[str] = []
    low = np.array(scene.domain.low)
    high = low + np.array(scene.domain.size)
    reference = float(max(scene.domain.size))
    for index, element in enumerate(scene.elements):
        where = f"elements[{index}] ({element.name})"
        try:
            mesh = element_mesh(element, files)
        except MeshFileError as error:
            problems.append(f"{where}.shape.file: {error}")
            continue
        if isinstance(element.shape, MeshShape):
            edges = mesh.open_edges()
            if edges:
                problems.append(f"{where}.shape.file: {edges} open edges; close the mesh in the modelling program")
                continue
            extent = float(np.ptp(mesh.position, axis=0).max())
            unit = proposed_unit(extent, element.shape.unit, reference)
            if unit:
                problems.append(
                    f"{where}.shape.unit: the mesh is {extent:.4g} m long and the domain {reference:.4g} m; "
                    f"is its unit {unit!r}?"
                )
                continue
        if isinstance(element, Collider):
            thin = _thickness(element.shape)
            if thin is not None and thin < scene.liquid.voxel_size:
                remarks.append(
                    f"{where}: {thin * 1000:.3g} mm thick, less than a voxel of the final; rays hold the liquid back, "
                    "which takes longer and leaves a rougher wall. Thicken it or use a finer voxel"
                )
            continue
        time = 0.0
        if isinstance(element, Fill) and element.start_frame is not None:
            time = scene.time.shot_time(element.start_frame)
            if not scene.time.first <= element.start_frame <= scene.time.last:
                remarks.append(f"{where}.start_frame: lies outside the frame range; the fill never appears")
        placed = mesh.transformed(element.pose.matrix(time)).position
        least, most = placed.min(axis=0), placed.max(axis=0)
        if (most <= low).any() or (least >= high).any():
            problems.append(f"{where}: lies wholly outside the domain; move it inside or enlarge the domain")
        elif (least < low - 1e-6).any() or (most > high + 1e-6).any():
            remarks.append(f"{where}: lies partly outside the domain; that part is left out")
    if not any(isinstance(e, Fill | Inflow) for e in scene.elements):
        remarks.append("elements: there is no fill and no inflow, so there will be no liquid")
    return Checked(problems, remarks)


def _thickness(shape: ColliderShape) -> float | None:
    """Smallest thickness of a collider that is told by its settings (m); None for the others."""
    if isinstance(shape, Box):
        return min(shape.size)
    return shape.wall if isinstance(shape, Tub | Tube) else None


def _thin_triangles(element: Collider, files: SceneFiles, dx: float) -> np.ndarray | None:
    """Triangles (m, 3, 3) of a collider in its own frame if it is somewhere too thin for the grid."""
    mesh = element_mesh(element, files)
    thickness = _thickness(element.shape) if not isinstance(element.shape, MeshShape) else least_thickness(mesh)
    scale = np.cbrt(abs(np.linalg.det(element.pose.matrix(0.0)[:3, :3])))
    if thickness is None or thickness * scale >= THICKNESS * dx:
        return None
    return np.asarray(mesh.position[mesh.triangle], np.float64)


def liquid_world(scene: Scene, files: SceneFiles, quality: str) -> LiquidWorld:
    """What the liquid stage computes from.

    Raises
    ------
    SceneError
        If `check_scene` finds problems.
    """
    problems = check_scene(scene, files).problems
    if problems:
        raise SceneError(problems)
    dx = scene.voxel_size(quality)
    scale = scene.time.time_scale

    def distance(element: Fill | Inflow | Collider) -> Distance:
        shape = element.shape
        return shape_distance(shape, files.mesh(shape) if isinstance(shape, MeshShape) else None, dx)

    bodies = [Body(e.name, distance(e), e.pose, _thin_triangles(e, files, dx)) for e in scene.of_kind(Collider)]
    fills, inflows = [], []
    for number, element in enumerate(scene.elements):
        if isinstance(element, Fill):
            frame = element.start_frame if element.start_frame is not None else scene.time.first
            velocity = np.array(element.velocity) / scale
            is_box = isinstance(element.shape, Box)
            fills.append(FillSource(number, element.name, distance(element), is_box, element.pose, velocity, frame))
        elif isinstance(element, Inflow):
            disc = element.shape if isinstance(element.shape, Disc) else None
            inflows.append(
                InflowSource(
                    number,
                    element.name,
                    None if disc else distance(element),
                    disc.radius if disc else 0.0,
                    element.pose,
                    np.array(element.velocity) / scale,
                    element.start * scale,
                    np.inf if element.end is None else element.end * scale,
                )
            )
    settings = scene.liquid
    return LiquidWorld(
        layout=scene_layout(scene, quality),
        bodies=bodies,
        fills=fills,
        inflows=inflows,
        gravity=np.array(settings.gravity),
        particles_per_cell=settings.particles_per_cell,
        band=settings.band,
        flip_share=settings.flip_share,
        wall_friction=settings.wall_friction,
        walls_let_go=settings.wall_contact == "leaving",
        substeps_min=settings.substeps_min,
        substeps_max=settings.substeps_max,
        cfl=settings.cfl,
        time_scale=scale,
        frame_seconds=1.0 / scene.time.fps,
        first_frame=scene.time.first,
    )
