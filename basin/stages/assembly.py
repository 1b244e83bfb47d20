"""From a scene document to what the liquid is computed from; here bad scenes are told."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from basin.exchange import MeshFileError, read_mesh
from basin.exchange.formats import METRES
from basin.geometry.distance import Distance, shape_distance
from basin.geometry.mesh import TriangleMesh, least_thickness
from basin.geometry.pose import scale_of
from basin.geometry.shapes import Box, ColliderShape, Disc, GroundPlane, MeshShape, Sphere, Tub, Tube, primitive_mesh
from basin.grid.layout import Layout, make_layout
from basin.liquid import forces
from basin.liquid.solids import Body
from basin.liquid.sources import DrainZone, FillSource, InflowSource
from basin.liquid.step import LONGEST_MOVE, LiquidWorld
from basin.liquid.thin import THICKNESS
from basin.scene import Collider, Drain, Fill, Force, Inflow, Scene, SceneError
from basin.settings import Curve, value_at

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


Shaped = Fill | Inflow | Collider | Drain
LITRE = 1e-3  # m3


def element_mesh(element: Shaped | Force, files: SceneFiles) -> TriangleMesh | None:
    """Mesh of an element in its own frame; None for a force that acts everywhere."""
    if isinstance(element, Force):
        return primitive_mesh(element.zone) if isinstance(element.zone, Box | Sphere) else None
    shape = element.shape
    return files.mesh(shape) if isinstance(shape, MeshShape) else primitive_mesh(shape)


def viewed_mesh(element: Shaped | Force, scene: Scene, files: SceneFiles) -> TriangleMesh:
    """What is shown of an element: its mesh, or a small ball for what acts everywhere about a centre or an axis."""
    return element_mesh(element, files) or primitive_mesh(Sphere(radius=0.02 * max(scene.domain.size)))


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
        if isinstance(element, Force) and _is_nothing(element):
            remarks.append(f"{where}.effect: is zero and pushes nothing; give it strength or take it out")
        if mesh is None:
            continue
        shape = element.zone if isinstance(element, Force) else element.shape
        if isinstance(shape, MeshShape):
            edges = mesh.open_edges()
            if edges and not (isinstance(element, Collider) and element.side == "shell"):
                problems.append(
                    f"{where}.shape.file: {edges} open edges; close the mesh in the modelling program"
                    + (", or let it be a shell" if isinstance(element, Collider) else "")
                )
                continue
            extent = float(np.ptp(mesh.position, axis=0).max())
            unit = proposed_unit(extent, shape.unit, reference)
            if unit:
                problems.append(
                    f"{where}.shape.unit: the mesh is {extent:.4g} m long and the domain {reference:.4g} m; "
                    f"is its unit {unit!r}?"
                )
                continue
        if isinstance(element, Collider):
            jump = _longest_jump(element, scene)
            if jump > LONGEST_MOVE * scene.liquid.substeps_max * scene.liquid.voxel_size:
                remarks.append(
                    f"{where}.pose: jumps by {jump:.3g} m within a frame, more than the substeps can follow; liquid is "
                    "thrown about or left behind. Let one collider end and another one start instead"
                )
            thin = _thickness(element)
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
        if isinstance(element, Force | Drain):
            if (most <= low).any() or (least >= high).any():
                remarks.append(f"{where}: lies wholly outside the domain and has no effect; move it inside")
        elif (most <= low).any() or (least >= high).any():
            problems.append(f"{where}: lies wholly outside the domain; move it inside or enlarge the domain")
        elif (least < low - 1e-6).any() or (most > high + 1e-6).any():
            remarks.append(f"{where}: lies partly outside the domain; that part is left out")
        if isinstance(element, Fill):
            around = _drowned(element, mesh, time, scene, files)
            if around is not None:
                remarks.append(
                    f"{where}: lies wholly inside elements[{around}] ({scene.elements[around].name}), so no liquid "
                    "comes of it. If that is a vessel, let liquid be inside of it"
                )
    layout = scene_layout(scene, "final")
    for axis in np.flatnonzero(layout.periodic):
        width = layout.inner[axis] * layout.dx
        if abs(width - scene.domain.size[axis]) > 0.5 * layout.dx:
            remarks.append(
                f"domain.size: {'xyz'[axis]} is periodic, which takes {layout.inner[axis]} voxels or more; it becomes "
                f"{width:.3g} m wide"
            )
    if not any(isinstance(e, Fill | Inflow) for e in scene.elements):
        remarks.append("elements: there is no fill and no inflow, so there will be no liquid")
    return Checked(problems, remarks)


def _is_nothing(force: Force) -> bool:
    """Whether a force has a strength, rate or velocity that is always zero."""
    given = [v for name, v in force.effect if name in ("strength", "rate", "velocity")]
    return not any(isinstance(v, Curve) or np.any(np.array(v)) for v in given)


def _longest_jump(collider: Collider, scene: Scene) -> float:
    """Most that the collider's origin moves within a frame (m)."""
    if not collider.pose.moves():
        return 0.0
    times = [scene.time.shot_time(f) for f in range(scene.time.first, scene.time.last + 1)]
    place = np.array([value_at(collider.pose.translation, t) for t in times if collider.start <= t <= collider.until()])
    return float(np.linalg.norm(np.diff(place.reshape(-1, 3), axis=0), axis=1).max(initial=0.0))


def _drowned(fill: Fill, mesh: TriangleMesh, time: float, scene: Scene, files: SceneFiles) -> int | None:
    """Index of a collider that a fill lies wholly inside of; None for none."""
    matrix = fill.pose.matrix(time)
    least, most = mesh.transformed(matrix).bounds()
    for index, other in enumerate(scene.elements):
        if not isinstance(other, Collider) or other.side != "outside" or not other.start <= time <= other.until():
            continue
        try:
            around = element_mesh(other, files)
        except MeshFileError:
            continue  # told as its own problem
        assert around is not None
        low, high = around.transformed(other.pose.matrix(time)).bounds()
        bounded = not isinstance(other.shape, GroundPlane)
        if bounded and ((least < low).any() or (most > high).any()):
            continue
        own = mesh.position[:: max(len(mesh.position) // 500, 1)] @ matrix[:3, :3].T + matrix[:3, 3]
        coarse = float((high - low).max()) / 24
        shape = shape_distance(other.shape, around if isinstance(other.shape, MeshShape) else None, coarse)
        if (shape.placed_at(own, other.pose.matrix(time)) < 0).all():
            return index
    return None


def _thickness(element: Collider) -> float | None:
    """Smallest thickness of a collider that is told by its settings (m); None for the others."""
    shape: ColliderShape = element.shape
    if element.side != "outside":
        return element.thickness if element.side == "shell" else None
    if isinstance(shape, Box):
        return min(shape.size)
    return shape.wall if isinstance(shape, Tub | Tube) else None


def _thin_triangles(element: Collider, files: SceneFiles, dx: float) -> np.ndarray | None:
    """Triangles (m, 3, 3) of a collider in its own frame if it is somewhere too thin for the grid."""
    mesh = element_mesh(element, files)
    if element.side == "inside":
        return None
    assert mesh is not None
    told = not isinstance(element.shape, MeshShape) or element.side == "shell"
    thickness = _thickness(element) if told else least_thickness(mesh)
    scale = scale_of(element.pose.matrix(0.0))
    if thickness is None or thickness * scale >= THICKNESS * dx:
        return None
    return np.asarray(mesh.position[mesh.triangle], np.float64)


def _inflow(element: Inflow, number: int, files: SceneFiles, distance: Distance | None, scale: float) -> InflowSource:
    """An inflow as the solver sees it, at a time scale."""
    velocity = np.array(element.velocity) / scale
    flow: float | Curve | None = None
    if element.amount == "flow":
        flow = element.flow
    elif element.amount == "total":
        flow = element.total / (element.until() - element.start)
    across = 0.0
    if flow is not None and distance is not None:
        mesh = element_mesh(element, files)
        assert mesh is not None
        across = mesh.transformed(element.pose.matrix(element.start)).shadow(velocity)
    return InflowSource(
        number,
        element.name,
        distance,
        element.shape.radius if isinstance(element.shape, Disc) else 0.0,
        element.pose,
        velocity,
        element.start * scale,
        element.until() * scale,
        flow,
        LITRE / scale,
        across,
        element.amount == "full",
        element.carry,
    )


def _force(element: Force) -> forces.Force:
    zone, size = forces.EVERYWHERE, np.zeros(3)
    if isinstance(element.zone, Box):
        zone, size = forces.BOX, np.array(element.zone.size) / 2
    elif isinstance(element.zone, Sphere):
        zone, size = forces.SPHERE, np.full(3, element.zone.radius)
    own = (zone, size, element.softness, element.start, element.until())
    return forces.Force(element.name, element.effect, element.pose, *own)


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

    def distance(element: Shaped) -> Distance:
        shape = element.shape
        found = shape_distance(shape, files.mesh(shape) if isinstance(shape, MeshShape) else None, dx)
        if isinstance(element, Collider) and element.side == "inside":
            return found.inside_out()
        return found.hollow(element.thickness) if isinstance(element, Collider) and element.side == "shell" else found

    bodies = [
        Body(e.name, distance(e), e.pose, _thin_triangles(e, files, dx), e.start, e.until())
        for e in scene.of_kind(Collider)
    ]
    drains = [DrainZone(e.name, distance(e), e.pose, e.start, e.until()) for e in scene.of_kind(Drain)]
    fills, inflows = [], []
    for number, element in enumerate(scene.elements):
        if isinstance(element, Fill):
            frame = element.start_frame if element.start_frame is not None else scene.time.first
            velocity = np.array(element.velocity) / scale
            is_box = isinstance(element.shape, Box)
            own = (number, element.name, distance(element), is_box, element.pose, velocity, element.carry, frame)
            fills.append(FillSource(*own))
        elif isinstance(element, Inflow):
            inflows.append(
                _inflow(element, number, files, None if isinstance(element.shape, Disc) else distance(element), scale)
            )
    settings = scene.liquid
    return LiquidWorld(
        layout=scene_layout(scene, quality),
        bodies=bodies,
        fills=fills,
        inflows=inflows,
        drains=drains,
        forces=[_force(e) for e in scene.of_kind(Force)],
        gravity=value_at(settings.gravity, 0.0),
        gravity_keys=settings.gravity if isinstance(settings.gravity, Curve) else None,
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
