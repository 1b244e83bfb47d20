"""From a scene document to what the liquid is computed from; here bad scenes are told."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from basin.cache import Cache, StageCache
from basin.exchange import Pictures, UnusableFile, read_mesh, read_pictures, read_sequence
from basin.exchange.formats import METRES
from basin.geometry.deforming import Deforming, MeshSequence
from basin.geometry.distance import Distance, shape_distance
from basin.geometry.mesh import TriangleMesh, grounded, least_thickness
from basin.geometry.pose import Pose, scale_of
from basin.geometry.shapes import Box, ColliderShape, Disc, GroundPlane, MeshShape, Sphere, Tub, Tube, primitive_mesh
from basin.grid.layout import Layout, make_layout
from basin.liquid import forces
from basin.liquid.carried import Carried
from basin.liquid.effects import Drag
from basin.liquid.paint import Birth, Picture
from basin.liquid.solids import Body
from basin.liquid.sources import DrainZone, FillSource, InflowSource
from basin.liquid.step import LONGEST_MOVE, LiquidWorld
from basin.liquid.thin import THICKNESS
from basin.scene import Collider, Drain, Fill, Force, Inflow, Scene, SceneError
from basin.scene.model import Source, Span, Time
from basin.settings import Curve, value_at

OUT_OF_PROPORTION = 50.0  # times the domain's longest edge


@dataclass
class SceneFiles:
    """Meshes and images of a scene, read once each.

    Attributes
    ----------
    folder : where the scene document's files are relative to
    """

    folder: Path
    _cache: dict[tuple[str, str, str], TriangleMesh] = field(default_factory=dict)
    _sequences: dict[tuple[str, str, str], MeshSequence] = field(default_factory=dict)
    _pictures: dict[str, Pictures] = field(default_factory=dict)
    _others: dict[str, dict[int, str]] = field(default_factory=dict)

    def mesh(self, shape: MeshShape) -> TriangleMesh:
        """The mesh of a shape in metres, a sequence's first one; UnusableFile if it cannot be used."""
        key = (shape.file, shape.unit, shape.up)
        if key not in self._cache:
            path = self._inside(shape.file, "mesh")
            if shape.is_sequence():
                self._cache[key] = self._numbered(shape).mesh(-np.inf)
            else:
                self._cache[key] = read_mesh(path, shape.unit, shape.up)
        return self._cache[key]

    def mesh_at(self, shape: MeshShape, time: Time, moment: float) -> TriangleMesh:
        """The mesh of a shape at a shot second, as `mesh` if it does not deform."""
        return self.sequence(shape, time).mesh(moment) if shape.is_sequence() else self.mesh(shape)

    def sequence(self, shape: MeshShape, time: Time) -> MeshSequence:
        """The meshes of a shape whose file is a sequence, numbered like the frames; UnusableFile as above."""
        return self._numbered(shape, time.fps).played(time.first, time.fps)

    def _numbered(self, shape: MeshShape, fps: float = 24.0) -> MeshSequence:
        key = (shape.file, shape.unit, f"{shape.up} {fps}")
        if key not in self._sequences:
            self._inside(shape.file, "mesh")
            self._sequences[key] = read_sequence(self.folder, shape.file, shape.unit, shape.up, fps)
        return self._sequences[key]

    def pictures(self, paint: Picture) -> Pictures:
        """The image or images of a paint; UnusableFile if they cannot be used."""
        if paint.file not in self._pictures:
            self._inside(paint.file, "image")
            self._pictures[paint.file] = read_pictures(self.folder, paint.file)
        return self._pictures[paint.file]

    def other_cache(self, folder: str) -> StageCache:
        """The liquid of a cache that is joined, beside the scene's folder or within it; UnusableFile if elsewhere."""
        path = (self.folder / folder).resolve()
        if not folder:
            raise UnusableFile("a joined cache names no folder; choose a take, or take it out")
        if not path.is_relative_to(self.folder.resolve().parent):
            raise UnusableFile(f"joined cache {folder}: lies elsewhere than the scene")
        return Cache(path).stage("liquid")

    def other_key(self, folder: str, frame: int) -> str:
        """What tells a frame of a joined cache from others; empty if it is not there."""
        if folder not in self._others:
            self._others[folder] = {n: record.key for n, record in self.other_cache(folder).records().items()}
        return self._others[folder].get(frame, "")

    def _inside(self, file: str, kind: str) -> Path:
        path = (self.folder / file).resolve()
        if not file:
            raise UnusableFile(f"no {kind} file is named; import one")
        if not path.is_relative_to(self.folder.resolve()):
            raise UnusableFile(f"{file}: lies outside the scene's folder")
        return path


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
MOST_LOOKED_AT = 12  # meshes of a sequence whose thickness is measured
FINER = 0.5  # of a voxel: how finely the meshes of sources are sampled
CALMING = 2.0  # drag at a calm wall, in gravity's own rate over its depth


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
        except UnusableFile as error:
            problems.append(f"{where}.shape.file: {error}")
            continue
        if isinstance(element, Source) and isinstance(element.paint, Picture):
            try:
                files.pictures(element.paint)
            except UnusableFile as error:
                problems.append(f"{where}.paint.file: {error}")
                continue
        if isinstance(element, Force) and _is_nothing(element):
            remarks.append(f"{where}.effect: is zero and pushes nothing; give it strength or take it out")
        if mesh is None:
            continue
        shape = element.zone if isinstance(element, Force) else element.shape
        if isinstance(shape, MeshShape):
            edges = mesh.open_edges()
            if edges and not (isinstance(element, Collider) and element.side in ("shell", "ground")):
                problems.append(
                    f"{where}.shape.file: {edges} open edges; close the mesh in the modelling program"
                    + (", or let it be a shell or the ground" if isinstance(element, Collider) else "")
                )
                continue
            if shape.is_sequence():
                sequence = files.sequence(shape, scene.time)
                ends = sequence.start, sequence.start + sequence.step * (len(sequence.position) - 1)
                if ends[0] > 1e-9 or ends[1] < scene.time.shot_time(scene.time.last) - 1e-9:
                    frames = [scene.time.first + round(t * scene.time.fps) for t in ends]
                    remarks.append(
                        f"{where}.shape.file: its files are numbered {frames[0]} to {frames[1]}, the frames "
                        f"{scene.time.first} to {scene.time.last}; beyond them it stays as it is"
                    )
            extent = float(np.ptp(mesh.position, axis=0).max())
            unit = proposed_unit(extent, shape.unit, reference)
            if unit:
                problems.append(
                    f"{where}.shape.unit: the mesh is {extent:.4g} m long and the domain {reference:.4g} m; "
                    f"is its unit {unit!r}?"
                )
                continue
        if isinstance(element, Span) and not element.spans():
            remarks.append(f"{where}.active: is never on, so it does nothing")
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
        placed = mesh.transformed(scene.placement(element).matrix(time)).position
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
    problems += _surface_problems(scene, files)
    return Checked(problems, remarks)


def _surface_problems(scene: Scene, files: SceneFiles) -> list[str]:
    """What is wrong with the meshes and caches that are joined to the surface."""
    problems = []
    for index, join in enumerate(scene.surface.joins):
        if isinstance(join.shape, MeshShape):
            where = f"surface.joins[{index}].shape.file"
            try:
                edges = files.mesh(join.shape).open_edges()
            except UnusableFile as error:
                problems.append(f"{where}: {error}")
                continue
            if edges:
                problems.append(f"{where}: {edges} open edges; close the mesh in the modelling program")
    for index, cache in enumerate(scene.surface.caches):
        where = f"surface.caches[{index}].folder"
        try:
            if not files.other_cache(cache.folder).records():
                problems.append(f"{where}: {cache.folder} has no liquid frames; run it there first")
        except UnusableFile as error:
            problems.append(f"{where}: {error}")
    return problems


def _is_nothing(force: Force) -> bool:
    """Whether a force has a strength, rate or velocity that is always zero."""
    given = [v for name, v in force.effect if name in ("strength", "rate", "velocity")]
    return not any(isinstance(v, Curve) or np.any(np.array(v)) for v in given)


def _longest_jump(collider: Collider, scene: Scene) -> float:
    """Most that the collider's origin moves within a frame (m)."""
    pose = scene.placement(collider)
    if not pose.moves():
        return 0.0
    times = [scene.time.shot_time(f) for f in range(scene.time.first, scene.time.last + 1)]
    place = np.array([pose.matrix(t)[:3, 3] for t in times if collider.acts(t, t)])
    return float(np.linalg.norm(np.diff(place.reshape(-1, 3), axis=0), axis=1).max(initial=0.0))


def _drowned(fill: Fill, mesh: TriangleMesh, time: float, scene: Scene, files: SceneFiles) -> int | None:
    """Index of a collider that a fill lies wholly inside of; None for none."""
    matrix = scene.placement(fill).matrix(time)
    least, most = mesh.transformed(matrix).bounds()
    for index, other in enumerate(scene.elements):
        if not isinstance(other, Collider) or other.side != "outside" or not other.acts(time, time):
            continue
        try:
            around = element_mesh(other, files)
        except UnusableFile:
            continue  # told as its own problem
        assert around is not None
        there = scene.placement(other).matrix(time)
        low, high = around.transformed(there).bounds()
        bounded = not isinstance(other.shape, GroundPlane)
        if bounded and ((least < low).any() or (most > high).any()):
            continue
        own = mesh.position[:: max(len(mesh.position) // 500, 1)] @ matrix[:3, :3].T + matrix[:3, 3]
        coarse = float((high - low).max()) / 24
        shape = shape_distance(other.shape, around if isinstance(other.shape, MeshShape) else None, coarse)
        if (shape.placed_at(own, there) < 0).all():
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


def _thin_triangles(element: Collider, scene: Scene, files: SceneFiles, dx: float) -> np.ndarray | None:
    """Triangles (m, 3, 3) of a collider in its own frame if it is somewhere too thin for the grid."""
    mesh = element_mesh(element, files)
    if element.side in ("inside", "ground"):
        return None
    assert mesh is not None
    told = not isinstance(element.shape, MeshShape) or element.side == "shell"
    thickness = _thickness(element)
    if not told:
        assert isinstance(element.shape, MeshShape)
        forms = [mesh]
        if element.shape.is_sequence():
            sequence = files.sequence(element.shape, scene.time)
            some = sequence.position[:: max(len(sequence.position) // MOST_LOOKED_AT, 1)]
            forms = [TriangleMesh(p, sequence.triangle) for p in [*some, sequence.position[-1]]]
        thickness = min(least_thickness(form) for form in forms)
    scale = scale_of(scene.placement(element).matrix(0.0))
    if thickness is None or thickness * scale >= THICKNESS * dx:
        return None
    return np.asarray(mesh.position[mesh.triangle], np.float64)


def is_painted(scene: Scene) -> bool:
    """Whether particles carry colours and marks."""
    return any(source.painted() for source in scene.of_kind(Source))


def is_viscous(scene: Scene) -> bool:
    """Whether particles carry a viscosity."""
    return any(source.viscosity > 0 for source in scene.of_kind(Source))


def birth_span(element: Fill | Inflow, scene: Scene) -> tuple[float, float]:
    """Shot seconds from and until which a source gives liquid; for ever is until the shot's end."""
    if isinstance(element, Fill):
        return 0.0, float("inf")
    return element.start, min(element.until(), scene.time.shot_time(scene.time.last))


def _birth(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Birth | None:
    """What an element's liquid carries, if any source's does."""
    if not is_painted(scene):
        return None
    ends = np.array([[*element.colour, element.mark], [*element.colour_to, element.mark_to]])
    mesh = element_mesh(element, files)
    assert mesh is not None
    picture = None
    if isinstance(element.paint, Picture):
        pictures = files.pictures(element.paint)

        def picture(time: float) -> np.ndarray:
            return pictures.at_frame(scene.time.first + time * scene.time.fps)

    return Birth(element.paint, ends, *mesh.bounds(), *birth_span(element, scene), picture)


def _inflows(
    element: Inflow, number: int, scene: Scene, files: SceneFiles, distance: Distance | Deforming | None
) -> list[InflowSource]:
    """An inflow as the solver sees it: one for each span in which it pours."""
    scale, pose = scene.time.time_scale, scene.placement(element)
    velocity = np.array(element.velocity) / scale
    spans = element.spans()
    flow: float | Curve | None = None
    if element.amount == "flow":
        flow = element.flow
    elif element.amount == "total":
        flow = element.total / max(sum(b - a for a, b in spans), 1e-12)
    across = 0.0
    if flow is not None and distance is not None:
        mesh = element_mesh(element, files)
        assert mesh is not None
        across = mesh.transformed(pose.matrix(element.start)).shadow(velocity)
    radius = element.shape.radius if isinstance(element.shape, Disc) else 0.0
    given = (flow, LITRE / scale, across, element.amount == "full", element.carry, _birth(element, scene, files))
    thick = element.viscosity / scene.liquid.density
    own = (number, element.name, distance, radius, pose, velocity)
    return [InflowSource(*own, a * scale, b * scale, *given, thick) for a, b in spans]


def _calm(scene: Scene) -> list[forces.Force]:
    """What lets waves run out before calm walls: liquid comes to rest over a way."""
    low, size = np.array(scene.domain.low), np.array(scene.domain.size)
    gravity = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    deep = scene.domain.calm
    drag = Drag(rate=CALMING * float(np.sqrt(max(gravity, 1e-3) / deep)))
    found = []
    for axis, pair in enumerate(scene.domain.walls.pairs()):
        for side, wall in enumerate(pair):
            if wall != "calm":
                continue
            middle = low + size / 2
            middle[axis] = low[axis] + side * size[axis]
            half = size + 2 * deep  # its other edges, soft too, stay outside of the domain
            half[axis] = deep
            pose = Pose(translation=tuple(middle.tolist()))
            name = f"calm {'xyz'[axis]}{'-+'[side]}"
            found.append(forces.Force(name, drag, pose, forces.BOX, half, deep, 0.0, np.inf))
    return found


def _forces(element: Force, scene: Scene) -> list[forces.Force]:
    zone, size = forces.EVERYWHERE, np.zeros(3)
    if isinstance(element.zone, Box):
        zone, size = forces.BOX, np.array(element.zone.size) / 2
    elif isinstance(element.zone, Sphere):
        zone, size = forces.SPHERE, np.full(3, element.zone.radius)
    own = (element.name, element.effect, scene.placement(element), zone, size, element.softness)
    return [forces.Force(*own, a, b) for a, b in element.spans()]


def distance_of(element: Shaped, scene: Scene, files: SceneFiles, dx: float) -> Distance | Deforming:
    """What is solid of a collider, or what another element's shape holds, meshes sampled every `dx` metres."""
    shape, side = element.shape, element.side if isinstance(element, Collider) else "outside"

    def turned(found: Distance) -> Distance:
        if side == "inside":
            return found.inside_out()
        return found.hollow(element.thickness) if isinstance(element, Collider) and side == "shell" else found

    if isinstance(shape, MeshShape) and shape.is_sequence():
        sequence = files.sequence(shape, scene.time)
        if side == "ground":
            ground = [grounded(TriangleMesh(p, sequence.triangle)) for p in sequence.position]
            places = np.stack([g.position for g in ground])
            sequence = MeshSequence(sequence.start, sequence.step, places, ground[0].triangle)
        return Deforming(sequence, dx, turned)
    mesh = files.mesh(shape) if isinstance(shape, MeshShape) else None
    return turned(shape_distance(shape, grounded(mesh) if mesh and side == "ground" else mesh, dx))


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
    settings = scene.liquid
    dx = scene.voxel_size(quality)
    scale = scene.time.time_scale

    bodies, drains = [], []
    for collider in scene.of_kind(Collider):
        own_dx = collider.sampling or dx
        thin = _thin_triangles(collider, scene, files, dx)
        solid = (collider.name, distance_of(collider, scene, files, own_dx), scene.placement(collider), thin)
        bodies += [Body(*solid, max(a, 0.0), b) for a, b in collider.spans()]
    for drain in scene.of_kind(Drain):
        zone = (drain.name, distance_of(drain, scene, files, dx), scene.placement(drain))
        drains += [DrainZone(*zone, a, b) for a, b in drain.spans()]
    fills, inflows = [], []
    for number, element in enumerate(scene.elements):
        if isinstance(element, Fill):
            frame = element.start_frame if element.start_frame is not None else scene.time.first
            velocity = np.array(element.velocity) / scale
            is_box = isinstance(element.shape, Box)
            shape, pose = distance_of(element, scene, files, FINER * dx), scene.placement(element)
            own = (number, element.name, shape, is_box, pose, velocity, element.carry, frame)
            fills.append(FillSource(*own, _birth(element, scene, files), element.viscosity / settings.density))
        elif isinstance(element, Inflow):
            mouth = None if isinstance(element.shape, Disc) else distance_of(element, scene, files, FINER * dx)
            inflows += _inflows(element, number, scene, files, mouth)
    return LiquidWorld(
        layout=scene_layout(scene, quality),
        bodies=bodies,
        fills=fills,
        inflows=inflows,
        drains=drains,
        forces=[*_calm(scene), *(f for e in scene.of_kind(Force) for f in _forces(e, scene))],
        discard=scene.domain.discard / dx,
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
        carried=Carried(is_painted(scene), is_viscous(scene), settings.texture_clock > 0),
        texture_clock=settings.texture_clock,
        density=settings.density,
    )
