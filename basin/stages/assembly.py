"""From a scene document to what the liquid is computed from; here bad scenes are told."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.exchange import UnusableFile
from basin.exchange.formats import METRES
from basin.geometry.deforming import Deforming, MeshSequence
from basin.geometry.distance import MOST_NODES, Distance, Region, sampling_of, shape_distance
from basin.geometry.mesh import TriangleMesh, grounded, least_thickness
from basin.geometry.pose import Pose, box_in, scale_of
from basin.geometry.shapes import (
    Box,
    ColliderShape,
    FlatOpening,
    GroundPlane,
    MeshShape,
    Sphere,
    Tub,
    Tube,
    primitive_mesh,
)
from basin.grid.layout import Layout, make_layout
from basin.liquid import forces
from basin.liquid.effects import Drag
from basin.liquid.paint import Picture
from basin.liquid.solids import Body, Touch
from basin.liquid.sources import DrainZone, FillSource, InflowSource
from basin.liquid.step import LONGEST_MOVE
from basin.liquid.thickness import Thickness
from basin.liquid.thin import THICKNESS
from basin.liquid.world import LiquidWorld
from basin.scene import Advice, Collider, Drain, Fill, Force, Inflow, Remedy, Scene, SceneError
from basin.scene.model import AnyElement, Domain, Source, Span
from basin.settings import Curve, value_at
from basin.stages.carrying import carried_by, given_by
from basin.stages.files import SceneFiles, Shaped, element_mesh, picture_of

MOST_TRIANGLES = 40  # of a thin wall on the side of a voxel, from where on that is said
OUT_OF_PROPORTION = 50.0  # times the domain's longest edge


@dataclass(frozen=True)
class Checked:
    """Outcome of a check: problems refuse the scene, remarks are only said."""

    problems: list[Advice]
    remarks: list[Advice]


def scene_layout(scene: Scene, quality: str) -> Layout:
    """The liquid's grid at a quality."""
    return make_layout(
        np.array(scene.domain.low), np.array(scene.domain.size), scene.voxel_size(quality), scene.domain.walls.pairs()
    )


LITRE = 1e-3  # m3
MOST_LOOKED_AT = 12  # meshes of a sequence whose thickness is measured
FINER = 0.5  # of a voxel: how finely the meshes of sources are sampled
CALMING = 2.0  # drag at a calm wall, in gravity's own rate over its depth


def viewed_mesh(element: Shaped | Force, scene: Scene, files: SceneFiles) -> TriangleMesh:
    """What is shown of an element: its mesh, or a small ball for what acts everywhere about a centre or an axis."""
    shape = getattr(element, "shape", None)
    if isinstance(shape, MeshShape):
        return files.mesh(shape.shown())
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
    found = Checked([], [])
    for index, element in enumerate(scene.elements):
        _check_element(_Told(found, f"elements[{index}]", element.name, index), index, element, scene, files)
    layout = scene_layout(scene, "final")
    for axis in np.flatnonzero(layout.periodic):
        width = layout.inner[axis] * layout.dx
        if abs(width - scene.domain.size[axis]) > 0.5 * layout.dx:
            found.remarks.append(
                Advice(
                    f"{'xyz'[axis]} is periodic, which takes {layout.inner[axis]} voxels or more; it becomes "
                    f"{width:.3g} m wide",
                    where="domain.size",
                )
            )
    if not any(isinstance(e, Fill | Inflow) for e in scene.elements) and not scene.sea.made:
        found.remarks.append(
            Advice("there is no fill and no inflow", where="elements", leads_to="there will be no liquid")
        )
    _check_surface(found, scene, files)
    _check_whitewater(found, scene, files)
    return found


@dataclass(frozen=True)
class _Told:
    """What is said of one element."""

    found: Checked
    path: str
    name: str
    index: int = 0

    def place(self, where: str) -> tuple[str | int, ...]:
        """Path of a setting of the element, as remedies have it."""
        return ("elements", self.index, *where.strip(".").split("."))

    def problem(self, where: str, says: str, remedy: Remedy | None = None) -> None:
        self.found.problems.append(Advice(says, self.path + where, self.name, remedy=remedy))

    def remark(self, where: str, says: str, leads_to: str = "", remedy: Remedy | None = None) -> None:
        self.found.remarks.append(Advice(says, self.path + where, self.name, leads_to, remedy))


def _check_element(told: _Told, index: int, element: AnyElement, scene: Scene, files: SceneFiles) -> None:
    try:
        mesh = element_mesh(element, files)
    except UnusableFile as error:
        return told.problem(".shape.file", str(error))
    if isinstance(element, Source) and isinstance(element.paint, Picture):
        try:
            files.pictures(element.paint)
        except UnusableFile as error:
            return told.problem(".paint.file", str(error))
    if isinstance(element, Force) and _is_nothing(element):
        told.remark(".effect", "is zero and pushes nothing; give it strength or take it out")
    if mesh is None:
        return None
    if not _check_mesh(told, index, element, mesh, scene, files):
        return None
    # a collider that is plainly switched off is there to be seen and delivered
    shown_alone = isinstance(element, Collider) and not isinstance(element.active, Curve)
    if isinstance(element, Span) and not element.spans() and not shown_alone:
        told.remark(".active", "is never on, so it does nothing")
    if isinstance(element, Collider):
        return _check_collider(told, element, mesh, scene)
    return _check_place(told, element, mesh, scene, files)


def _check_mesh(
    told: _Told, index: int, element: Shaped | Force, mesh: TriangleMesh, scene: Scene, files: SceneFiles
) -> bool:
    """Whether an element's mesh can be used."""
    shape = element.zone if isinstance(element, Force) else element.shape
    if not isinstance(shape, MeshShape):
        return True
    edges = mesh.open_edges()
    if edges and not (isinstance(element, Collider) and element.side in ("shell", "ground")):
        told.problem(
            ".shape.file",
            f"{edges} open edges; close the mesh in the modelling program"
            + (", or let it be a shell or the ground" if isinstance(element, Collider) else ""),
        )
        return False
    if shape.is_sequence():
        sequence = files.sequence(shape, scene.time)
        ends = sequence.start, sequence.start + sequence.step * (len(sequence.position) - 1)
        if ends[0] > 1e-9 or ends[1] < scene.time.shot_time(scene.time.last) - 1e-9:
            frames = [scene.time.first + round(t * scene.time.fps) for t in ends]
            told.remark(
                ".shape.file",
                f"its files are numbered {frames[0]} to {frames[1]}, the frames {scene.time.first} to "
                f"{scene.time.last}; beyond them it stays as it is",
            )
    reference = float(max(scene.domain.size))
    extent = float(np.ptp(mesh.position, axis=0).max())
    unit = proposed_unit(extent, shape.unit, reference)
    if unit:
        told.problem(
            ".shape.unit",
            f"the mesh is {extent:.4g} m long and the domain {reference:.4g} m; is its unit {unit!r}?",
            Remedy("Use it", ("elements", index, "shape", "unit"), unit),
        )
    return not unit


def _check_sampling(told: _Told, element: Shaped, mesh: TriangleMesh, scene: Scene, dx: float) -> None:
    """Say where a mesh is so large that its distance is sampled more coarsely than asked for."""
    if isinstance(element.shape, MeshShape):
        found, _, _ = sampling_of(mesh, dx, _region(element, scene))
        if found > 1.01 * dx:
            told.remark(
                ".shape",
                f"is so large that its distance is known every {1000 * found:.3g} mm only, not every {1000 * dx:.3g}",
                "its form is coarse. Cut off what lies far outside of the domain",
            )


def _check_collider(told: _Told, element: Collider, mesh: TriangleMesh, scene: Scene) -> None:
    _check_sampling(told, element, mesh, scene, element.sampling or scene.liquid.voxel_size)
    jump = _longest_jump(element, scene)
    if jump > LONGEST_MOVE * scene.liquid.substeps_max * scene.liquid.voxel_size:
        told.remark(
            ".pose",
            f"jumps by {jump:.3g} m within a frame, more than the substeps can follow; liquid is thrown about or left "
            "behind. Let one collider end and another one start instead",
        )
    thin, voxel = _thickness(element), scene.liquid.voxel_size
    if thin is None or thin >= voxel or scene.is_sea_alone():
        return
    told.remark(
        "",
        f"{thin * 1000:.3g} mm thick, less than a voxel of the final; rays hold the liquid back, which takes longer "
        "and leaves a rougher wall. Thicken it or use a finer voxel",
    )
    scale = scale_of(scene.placement(element).matrix(0.0))
    crowd = len(mesh.triangle) / max(mesh.area() * scale**2 / voxel**2, 1.0)
    if crowd > MOST_TRIANGLES:
        told.remark(
            ".shape",
            f"its mesh has about {crowd:.0f} triangles to a voxel's side, and each of them is tried for every ray",
            "it holds the liquid, but its substeps take many times as long. Thin the mesh out",
        )


THOUSANDTHS = 800.0  # Pa s from which it is asked whether that was meant in thousandths
SMALL = 0.05  # m: voxels of scenes that people pour in; lava fields are coarser
UNLIKE = 0.02  # of a density, beyond which a scene's is not its liquid's


def _check_substance(told: _Told, element: Source, scene: Scene) -> None:
    made, own = element.made_of(scene.liquid.density), scene.liquid.density
    own_numbers = element.liquid == "own numbers"
    if abs(made.density / own - 1.0) > UNLIKE:
        told.remark(
            ".liquid",
            f"is {element.liquid} with {made.density:g} kg/m3, and the scene's density is {own:g}",
            "it flows as it should, but forces on colliders, wind and the numbers shown of it go by the scene's",
            Remedy("Take its density", ("liquid", "density"), made.density),
        )
    down, voxel = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))), scene.voxel_size("final")
    if made.surface_tension > 0 and down > 0:
        length = float(np.sqrt(made.surface_tension / (made.density * down)))
        if voxel > 2.0 * length:  # as high as any puddle that it holds up
            finer = 0.25 * length
            told.remark(
                ".surface_tension",
                f"holds up what is smaller than {2000 * length:.2g} mm, twice the capillary length, which is less than "
                f"a voxel of the final ({1000 * voxel:.3g} mm)",
                f"it costs time and hardly shows. A voxel of {1000 * finer:.2g} mm has four to that length, with "
                f"{float(f'{(voxel / finer) ** 3:.2g}'):,.0f} times the particles; or set 0",
                Remedy("Compute no tension", told.place(".surface_tension"), 0.0) if own_numbers else None,
            )
    if own_numbers and made.viscosity >= THOUSANDTHS and voxel < SMALL:
        told.remark(
            ".viscosity",
            f"of {made.viscosity:g} Pa s is that of pitch; numbers in mPa s are a thousand times as large",
            "it hardly flows at all",
            Remedy(f"It was mPa s: {made.viscosity / 1000:g} Pa s", told.place(".viscosity"), made.viscosity / 1000),
        )


def _check_place(
    told: _Told, element: Fill | Inflow | Drain | Force, mesh: TriangleMesh, scene: Scene, files: SceneFiles
) -> None:
    if not isinstance(element, Force):
        _check_sampling(
            told, element, mesh, scene, scene.liquid.voxel_size * (1.0 if isinstance(element, Drain) else FINER)
        )
    low = np.array(scene.domain.low)
    high = low + np.array(scene.domain.size)
    time = 0.0
    if isinstance(element, Fill) and element.start_frame is not None:
        time = scene.time.shot_time(element.start_frame)
        if not scene.time.first <= element.start_frame <= scene.time.last:
            told.remark(".start_frame", "lies outside the frame range; the fill never appears")
    placed = mesh.transformed(scene.placement(element).matrix(time)).position
    least, most = placed.min(axis=0), placed.max(axis=0)
    if isinstance(element, Force | Drain):
        if (most <= low).any() or (least >= high).any():
            told.remark("", "lies wholly outside the domain and has no effect; move it inside")
    elif (most <= low).any() or (least >= high).any():
        told.problem("", "lies wholly outside the domain; move it inside or enlarge the domain")
    elif (least < low - 1e-6).any() or (most > high + 1e-6).any():
        told.remark("", "lies partly outside the domain; that part is left out")
    if isinstance(element, Source):
        _check_substance(told, element, scene)
    if isinstance(element, Fill):
        around = _drowned(element, mesh, time, scene, files)
        if around is not None:
            told.remark(
                "",
                f"lies wholly inside elements[{around}] ({scene.elements[around].name}), so no liquid comes of it. If "
                "that is a vessel, let liquid be inside of it",
                remedy=Remedy("Use it as a vessel", ("elements", around, "side"), "inside"),
            )


def _check_surface(found: Checked, scene: Scene, files: SceneFiles) -> None:
    """What is wrong with the meshes and caches that are joined to the surface."""
    for index, join in enumerate(scene.surface.joins):
        if isinstance(join.shape, MeshShape):
            where = f"surface.joins[{index}].shape.file"
            try:
                edges = files.mesh(join.shape).open_edges()
            except UnusableFile as error:
                found.problems.append(Advice(str(error), where))
                continue
            if edges:
                says = f"{edges} open edges; close the mesh in the modelling program"
                found.problems.append(Advice(says, where))
    for index, cache in enumerate(scene.surface.caches):
        where = f"surface.caches[{index}].folder"
        try:
            if not files.other_cache(cache.folder).records():
                says = f"{cache.folder} has no liquid frames; run it there first"
                found.problems.append(Advice(says, where))
        except UnusableFile as error:
            found.problems.append(Advice(str(error), where))


def _check_whitewater(found: Checked, scene: Scene, files: SceneFiles) -> None:
    """What is wrong with the elements that layers of whitewater are born of, and where layers are named."""
    by_name = {element.name: element for element in scene.elements}
    layers = {"", *(layer.name for layer in scene.whitewater.layers)}
    naming = [(f"elements[{n}].layer", e.layer) for n, e in enumerate(scene.elements) if isinstance(e, Force)]
    naming += [(f"deliveries[{n}].layer", d.layer) for n, d in enumerate(scene.deliveries) if d.whitewater]
    for where, name in naming:
        if name not in layers:
            found.problems.append(Advice(f"there is no layer {name!r} of whitewater; choose another one", where))
    for index, layer in enumerate(scene.whitewater.layers):
        if layer.born_of != "element":
            continue
        where = f"whitewater.layers[{index}].element"
        element = by_name.get(layer.element)
        if element is None:
            found.problems.append(Advice(f"there is no element {layer.element!r}; choose another one", where))
            continue
        if isinstance(element, Force):
            found.problems.append(Advice(f"{element.name!r} is a force and has no shape; choose another one", where))
            continue
        if layer.picture:
            try:
                files.pictures(picture_of(layer))
            except UnusableFile as error:
                found.problems.append(Advice(str(error), f"whitewater.layers[{index}].picture"))
        if layer.where != "inside":
            continue
        try:
            mesh = element_mesh(element, files)
        except UnusableFile:
            continue  # told of the element itself
        edges = mesh.open_edges() if mesh else 0
        if edges:
            says = (
                f"{element.name!r} has {edges} open edges and so no inside; close it, or let it be born on its surface"
            )
            found.problems.append(Advice(says, where))


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


def inflow_sources(
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
    given = given_by(element, scene, files)
    return [
        InflowSource(
            number=number,
            name=element.name,
            distance=distance,
            opening=element.shape if isinstance(element.shape, FlatOpening) else None,
            pose=pose,
            velocity=velocity,
            start=begin * scale,
            end=end * scale,
            flow=flow,
            flow_unit=LITRE / scale,
            across=across,
            full=element.amount == "full",
            carry=element.carry,
            given=given,
        )
        for begin, end in spans
    ]


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


def forces_of(element: Force, scene: Scene) -> list[forces.Force]:
    """A force as the solver sees it, once for each span in which it acts."""
    zone, size = forces.EVERYWHERE, np.zeros(3)
    if isinstance(element.zone, Box):
        zone, size = forces.BOX, np.array(element.zone.size) / 2
    elif isinstance(element.zone, Sphere):
        zone, size = forces.SPHERE, np.full(3, element.zone.radius)
    pose = scene.placement(element)
    return [
        forces.Force(element.name, element.effect, pose, zone, size, element.softness, begin, end)
        for begin, end in element.spans()
    ]


def distance_of(
    element: Shaped, scene: Scene, files: SceneFiles, dx: float, most: float = MOST_NODES
) -> Distance | Deforming:
    """What is solid of a collider, or what another element's shape holds, meshes sampled every `dx` metres.

    Still meshes that would take more than `most` nodes are sampled more coarsely.
    """
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
    mesh = grounded(mesh) if mesh and side == "ground" else mesh
    return turned(shape_distance(shape, mesh, dx, _region(element, scene), most))


def _region(element: Shaped, scene: Scene) -> Region | None:
    """The box about the domain in an element's own frame, with some way about it; None if it moves."""
    pose = scene.placement(element)
    if pose.moves():
        return None
    low, size = np.array(scene.domain.low), np.array(scene.domain.size)
    least, most = box_in(low, low + size, pose.matrix(0.0))
    margin = 0.1 * (most - least)
    return least - margin, most + margin


def _angles(met: Collider | Domain) -> tuple[float, float]:
    """Contact angles with which liquid moves on over a solid and draws back, radians."""
    receding = met.contact_angle if met.receding_angle is None else met.receding_angle
    return float(np.radians(met.contact_angle)), float(np.radians(receding))


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

    made = [source.made_of(settings.density) for source in scene.of_kind(Source)]
    bodies, drains = [], []
    for collider in scene.of_kind(Collider):
        own_dx = collider.sampling or dx
        thin = _thin_triangles(collider, scene, files, dx)
        solid = (collider.name, distance_of(collider, scene, files, own_dx), scene.placement(collider), thin)
        touch = Touch(*_angles(collider), np.inf if collider.slip_length is None else collider.slip_length)
        bodies += [Body(*solid, max(a, 0.0), b, touch=touch) for a, b in collider.spans()]
    for drain in scene.of_kind(Drain):
        zone = (drain.name, distance_of(drain, scene, files, dx), scene.placement(drain))
        outside = drain.takes == "outside"
        drains += [DrainZone(*zone, a, b, outside) for a, b in drain.spans()]
    fills, inflows = [], []
    for number, element in enumerate(scene.elements):
        if isinstance(element, Fill):
            frame = element.start_frame if element.start_frame is not None else scene.time.first
            velocity = np.array(element.velocity) / scale
            is_box = isinstance(element.shape, Box)
            shape, pose = distance_of(element, scene, files, FINER * dx), scene.placement(element)
            given = given_by(element, scene, files)
            fills.append(FillSource(number, element.name, shape, is_box, pose, velocity, element.carry, frame, given))
        elif isinstance(element, Inflow):
            mouth = None if isinstance(element.shape, FlatOpening) else distance_of(element, scene, files, FINER * dx)
            inflows += inflow_sources(element, number, scene, files, mouth)
    return LiquidWorld(
        layout=scene_layout(scene, quality),
        bodies=bodies,
        fills=fills,
        inflows=inflows,
        drains=drains,
        forces=[
            *_calm(scene),
            *(f for e in scene.of_kind(Force) if e.acts_on != "whitewater" for f in forces_of(e, scene)),
        ],
        discard=scene.domain.discard / dx,
        gravity=value_at(settings.gravity, 0.0),
        gravity_keys=settings.gravity if isinstance(settings.gravity, Curve) else None,
        thickness=Thickness(settings.thickness, settings.thickens_with, settings.thickenings),
        particles_per_cell=settings.particles_per_cell,
        surface_particles=settings.surface_particles,
        band=settings.band,
        flip_share=settings.flip_share,
        wall_friction=settings.wall_friction,
        wall_adhesion=settings.wall_adhesion,
        substeps_min=settings.substeps_min,
        substeps_max=settings.substeps_max,
        cfl=settings.cfl,
        time_scale=scale,
        frame_seconds=1.0 / scene.time.fps,
        first_frame=scene.time.first,
        carried=carried_by(scene),
        texture_clock=settings.texture_clock,
        density=settings.density,
        particles_most=settings.particles_most,
        tension=max((m.surface_tension / m.density for m in made), default=0.0),
        walls=Touch(*_angles(scene.domain)),
    )
