"""How large a liquid becomes, and what its frames take in memory and on disk; measured by `benchmarks.memory`."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.geometry.distance import MOST_NODES
from basin.geometry.mesh import TriangleMesh
from basin.geometry.pose import scale_of
from basin.geometry.shapes import MeshShape
from basin.liquid.carried import Carried
from basin.liquid.resampling import SHALLOW
from basin.scene import Collider, Fill, Force, Inflow, Scene
from basin.sea.settings import points_of
from basin.settings import Curve, value_at
from basin.stages.assembly import scene_layout
from basin.stages.carrying import carried_by
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.stage import Cost
from basin.whitewater.laws import bubble_radii
from basin.whitewater.settings import Layer

BYTES_AT_REST = 320_000_000  # the program itself with its compiled kernels
BYTES_PER_PARTICLE = 620
BYTES_PER_NUMBER = 12  # of what each particle carries along: as it is, sorted, and in the state before a pair
BYTES_PER_TILE = 16  # of the index, for every tile of the domain
BYTES_PER_NODE = 12  # of a mesh's sampled distance, while it is made
FRAME_BYTES_PER_PARTICLE = 38
STATE_BYTES_PER_PARTICLE = 80
TILE_BYTES = 512 * 16
TILES_PER_PARTICLE = 1 / 1500  # at 8 particles per cell, tiles a third full
MESHING_AT_REST = 380_000_000
MESHING_PER_PARTICLE = 225  # in one process, at half the liquid's voxel; more by the square of finer ones
VERTICES_PER_PARTICLE = 0.5  # to the power of 2/3
VERTEX_BYTES = 60
# before this machine's own runs say more (`basin.stages.pace`): of two processors; `benchmarks.forecast` compares
SECONDS_TO_BEGIN = 1.0  # until the first frame of a liquid, most of it for kernels that are loaded
SECONDS_A_SUBSTEP = 0.01
SECONDS_PER_SURFACE = 13e-6  # and substep, of as many particles to the power of 2/3 as lie at a surface
SPREADS = 2.5  # times as much surface has liquid that is strewn
SECONDS_PER_PARTICLE = 0.25e-6  # and substep
SECONDS_OF_VISCOSITY = 3.0e-6
SECONDS_TO_MESH = 3.0  # until the two processes that mesh are there
SECONDS_A_SURFACE = 0.1
SECONDS_PER_MESHED = 1.5e-6  # particle, at half the liquid's voxel
SECONDS_PER_POURED = 11e-6  # more of streams, whose films and drops are looked at and drawn by themselves
SECONDS_A_LOOK = 0.02  # for air, in a frame
SECONDS_PER_LOOKED = 0.6e-6  # particle
LOOKING_PER_PARTICLE, LOOKED_BYTES = 260, 8
# reckoned from what is kept and copied, not measured by `benchmarks.memory` yet
WHITE_MEMORY, WHITE_BYTES, WHITE_STATE = 320, 47, 74  # of a particle of whitewater
READING_PER_PARTICLE = 90  # of the liquid, two frames of which are held
SECONDS_PER_READ, SECONDS_PER_WHITE = 0.4e-6, 0.6e-6  # particle of the liquid, and of whitewater, and frame
# reckoned likewise, for each voxel of mist, of which this share is kept in frames
WAVE_MEMORY, WAVE_BYTES, SECONDS_PER_WAVE = 260, 28, 2.5e-7
FOAM_MEMORY, SECONDS_PER_FOAMED = 300, 1.5e-7
WAKE_MEMORY, WAKE_BYTES, WAKE_STATE, SECONDS_PER_WAKE = 320, 30, 20, 6e-7
MIST_MEMORY, MIST_BYTES, MIST_STATE, MIST_SHARE, SECONDS_PER_MIST = 400, 16, 32, 0.2, 1.5e-6
BORN_BY_RATE = 0.2  # of the liquid's particles, where a rate is asked for: a guess, since only a run can tell
SECONDS_PER_NODE = 20e-9  # of the surface's grid in the whole domain, which far spray makes it as large as
SECONDS_OF_CUTTING = 0.08e-6  # for each node of that grid, where meshes are taken out of the surface
SECONDS_OF_MASKING = 0.27e-6  # for each node and filter with a mask


@dataclass(frozen=True)
class Size:
    """Of a liquid at its largest.

    Attributes
    ----------
    voxels : of the domain
    nodes : at which the distances of meshes are sampled
    over : particles (n,) at each frame, if none left
    strewn : how many of them (n,) come of inflows, or are driven by forces: streams, sheets and drops
    poured : how many of them (n,) come of inflows
    """

    voxels: int
    particles: int
    nodes: float
    carried: Carried
    over: np.ndarray
    strewn: np.ndarray
    poured: np.ndarray


def liquid_size(scene: Scene, files: SceneFiles, quality: str) -> Size:
    """From the scene alone; meshes that cannot be read count as nothing."""
    dx = scene.voxel_size(quality)
    layout = scene_layout(scene, quality)
    voxels = int(np.prod([float(n) for n in layout.cells]))
    domain = float(np.prod(scene.domain.size))
    times = np.arange(scene.time.last - scene.time.first + 1) / scene.time.fps
    volume, poured, nodes, shallow = np.zeros(len(times)), np.zeros(len(times)), 0.0, np.zeros(len(times))
    for element in scene.elements:
        try:
            mesh = element_mesh(element, files)
        except ValueError:
            continue
        if mesh is None or isinstance(element, Force):
            continue
        if isinstance(element.shape, MeshShape):
            nodes += min(float(np.prod(np.ptp(mesh.position, axis=0) / dx + 8)), MOST_NODES)
        if isinstance(element, Fill):
            since = scene.time.shot_time(element.start_frame) if element.start_frame is not None else 0.0
            filled = _filled(element, mesh, scene)
            volume += filled * (times >= since - 1e-9)
            area = mesh.area() * scale_of(scene.placement(element).matrix(0.0)) ** 2
            shallow += min(filled, -SHALLOW * dx * area) * (times >= since - 1e-9)
        elif isinstance(element, Inflow):
            poured += _poured(element, mesh, scene, times)
    each = scene.liquid.particles_per_cell / dx**3
    finer = (scene.liquid.surface_particles - 1) * np.minimum(shallow + poured, domain)
    over = (np.minimum(volume + poured, domain) + finer) * each
    streams = np.minimum(poured * each, over)
    strewn = over if any(scene.of_kind(Force)) else streams
    return Size(voxels, int(over.max()), nodes, carried_by(scene), over, strewn, streams)


def _filled(element: Fill, mesh: TriangleMesh, scene: Scene) -> float:
    """Volume (m3) of a fill within the domain."""
    matrix = scene.placement(element).matrix(0.0)
    placed = mesh.transformed(matrix).position
    low, high = np.array(scene.domain.low), np.array(scene.domain.low) + np.array(scene.domain.size)
    extent = np.maximum(np.ptp(placed, axis=0), 1e-12)
    inside = np.clip(np.minimum(placed.max(axis=0), high) - np.maximum(placed.min(axis=0), low), 0, None)
    scale = abs(float(np.linalg.det(matrix[:3, :3])))
    return abs(mesh.volume()) * scale * float(np.prod(inside / extent))


def _poured(element: Inflow, mesh: TriangleMesh, scene: Scene, times: np.ndarray) -> np.ndarray:
    """Volume (m3) that an inflow has given by shot seconds (n,)."""
    scale = abs(float(np.linalg.det(scene.placement(element).matrix(0.0)[:3, :3])))
    until = min(element.until(), float(times[-1]))
    span = max(until - element.start, 0.0)
    gone = np.clip(times - element.start, 0.0, span)
    if element.amount == "full":
        return abs(mesh.volume()) * scale * (times >= element.start)
    if element.amount == "total":
        return np.asarray(element.total * 1e-3 * gone / max(span, 1e-12))
    if element.amount == "flow":
        flows = [k.value for k in element.flow.keys] if isinstance(element.flow, Curve) else [element.flow]
        return np.asarray(float(np.max(flows)) * 1e-3 * gone)
    across = mesh.area() * scale ** (2 / 3) / (1 if mesh.open_edges() else 4)
    return np.asarray(across * float(np.linalg.norm(element.velocity)) * gone)


SPLASHES = 1.35  # times as fast as what pours arrives, its spray leaves
CALMS = (
    0.7  # of the speed at which what is let go arrives, in the mean over a shot: it begins at rest and comes to rest
)


STIRS = 0.6  # of the speed that a fall through the domain's height gives: how waves splash that a solid raises


def fastest(scene: Scene, files: SceneFiles) -> float:
    """The speed (m per shot second) that the fastest liquid will have in the mean over the shot.

    It is that of what pours and falls, and of what pushes it.
    """
    time = scene.time
    pull = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))) * time.time_scale**2
    low, top = scene.domain.low[1], scene.domain.low[1] + scene.domain.size[1]
    found = 0.3 * float(np.sqrt(pull * scene.domain.size[1]))
    for element in scene.elements:
        try:
            mesh = element_mesh(element, files)
        except ValueError:
            continue
        placement = scene.placement(element)
        if isinstance(element, Collider) and placement.moves():
            moments = np.arange(time.last - time.first + 1) / time.fps
            place = np.array([placement.matrix(float(t))[:3, 3] for t in moments])
            if len(place) > 1:
                own = float(np.linalg.norm(np.diff(place, axis=0), axis=1).max()) * time.fps
                found = max(found, own + STIRS * float(np.sqrt(pull * scene.domain.size[1])) * (own > 0))
        if mesh is None or not isinstance(element, Fill | Inflow):
            continue
        low_end, high_end = mesh.transformed(placement.matrix(0.0)).bounds()
        fall = float(np.clip(0.5 * (low_end[1] + high_end[1]), low, top)) - low
        # what is poured falls all the way; what is there as a pool falls for a part of its height at most
        share = 1.0 if isinstance(element, Inflow) or low_end[1] > low + 0.25 * (top - low) else 0.5
        start = float(np.linalg.norm(element.velocity))
        if isinstance(element, Inflow) and element.amount in ("flow", "total"):
            given = np.diff(_poured(element, mesh, scene, np.array([element.start, element.start + 1.0])))
            start = float(given[0]) / max(mesh.area(), 1e-12)
        arrives = float(np.sqrt(start**2 + 2 * pull * share * fall))
        found = max(found, (SPLASHES if isinstance(element, Inflow) else CALMS) * arrives)
    for force in scene.of_kind(Force):
        strength = getattr(force.effect, "strength", 0.0)
        if isinstance(strength, float | int):
            span = min(force.until(), (time.last - time.first) / time.fps) - force.start
            found += min(abs(float(strength)) * max(span, 0.0), 2.0)
    return found


def liquid_seconds(size: Size, scene: Scene, files: SceneFiles, quality: str) -> float:
    """Seconds of this kind of machine that all frames of the liquid take."""
    settings = scene.liquid
    moved = fastest(scene, files) / scene.time.fps / scene.voxel_size(quality)
    # they come in pairs: to go from any number to the next even one adds one in the mean
    substeps = float(np.clip(max(moved / settings.cfl + 1, 2), settings.substeps_min, settings.substeps_max))
    each = SECONDS_PER_PARTICLE + (SECONDS_OF_VISCOSITY if "viscosity" in size.carried else 0.0)
    over, strewn = size.over[1:], size.strewn[1:]
    surface = (over - strewn) ** (2 / 3) + SPREADS * strewn ** (2 / 3)
    a_substep = SECONDS_A_SUBSTEP * (over > 0) + SECONDS_PER_SURFACE * surface + each * over
    return SECONDS_TO_BEGIN + float((substeps * a_substep).sum())


def surface_seconds(size: Size, scene: Scene) -> float:
    """Seconds of this kind of machine that all frames of the surface take, two at a time."""
    settings = scene.surface
    finer = (0.5 / settings.voxel_share) ** 2
    each = SECONDS_A_SURFACE + (SECONDS_PER_MESHED * size.over + SECONDS_PER_POURED * size.poured) * finer
    a_node = SECONDS_PER_NODE + SECONDS_OF_MASKING * sum(one.mask.kind != "everywhere" for one in settings.filters)
    if settings.colliders == "remove" and any(isinstance(c.shape, MeshShape) for c in scene.of_kind(Collider)):
        a_node += SECONDS_OF_CUTTING
    each = each + a_node * size.voxels / settings.voxel_share**3
    return SECONDS_TO_MESH + float(each.sum()) / 2


def liquid_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of simulating the liquid; disk for all frames and kept states."""
    size = liquid_size(scene, files, quality)
    numbers = size.carried.width
    each = BYTES_PER_PARTICLE + numbers * BYTES_PER_NUMBER
    memory = BYTES_AT_REST + size.particles * each + size.voxels / 512 * BYTES_PER_TILE + size.nodes * BYTES_PER_NODE
    frames = scene.time.last - scene.time.first + 1
    per_frame = size.particles * (FRAME_BYTES_PER_PARTICLE + 4 * numbers + TILES_PER_PARTICLE * TILE_BYTES)
    states = min(frames, 2 + frames // 12) * size.particles * (STATE_BYTES_PER_PARTICLE + 4 * numbers)
    return Cost(int(memory), int(per_frame * frames + states), liquid_seconds(size, scene, files, quality))


def air_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of looking for air in the liquid's frames, in one process; disk for all frames."""
    size = liquid_size(scene, files, quality)
    frames = scene.time.last - scene.time.first + 1
    seconds = SECONDS_TO_MESH + float((SECONDS_A_LOOK + SECONDS_PER_LOOKED * size.over).sum()) / 2
    memory = MESHING_AT_REST + size.particles * LOOKING_PER_PARTICLE
    return Cost(int(memory), size.particles * LOOKED_BYTES * frames, seconds)


def whitewater_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of whitewater: of the particles that are asked for, or of a share of the liquid's where a rate is; and of the
    liquid's frames, which are read."""
    frames = scene.time.last - scene.time.first + 1
    read = liquid_size(scene, files, quality)
    count = 0.0
    for layer in scene.whitewater.layers:
        if layer.born_of == "drops":
            continue
        asked = {"air": layer.litres * 1e-3 / mean_bubble(layer), "rate": BORN_BY_RATE * read.particles}
        count += asked.get(layer.ask, layer.particles)
    memory = MESHING_AT_REST + count * WHITE_MEMORY + read.particles * READING_PER_PARTICLE
    ahead = 2 if any(layer.ask in ("fullest", "air") for layer in scene.whitewater.layers) else 1
    each = SECONDS_PER_READ * read.over * ahead + SECONDS_PER_WHITE * count / 2
    seconds = SECONDS_TO_BEGIN + float(each.sum()) if scene.whitewater.layers else 0.0
    states = min(frames, 2 + frames // 12) * count * WHITE_STATE
    return Cost(int(memory), int(count * WHITE_BYTES * frames / 2 + states), seconds)


def mist_cost(scene: Scene, count: tuple[int, int, int]) -> Cost:
    """Of mist on a grid of so many voxels; on disk a share of them."""
    frames, voxels = scene.time.last - scene.time.first + 1, float(np.prod([float(n) for n in count]))
    seconds = SECONDS_TO_BEGIN + frames * voxels * SECONDS_PER_MIST if scene.mist.made else 0.0
    disk = voxels * (MIST_SHARE * MIST_BYTES * frames + min(frames, 2 + frames // 12) * MIST_STATE)
    return Cost(int(MESHING_AT_REST + voxels * MIST_MEMORY), int(disk if scene.mist.made else 0.0), seconds)


def sea_points(scene: Scene, quality: str) -> list[int]:
    """Points of each of a sea's patches at a quality."""
    factor = scene.quality.factor(quality)
    return [points_of(one, factor) ** 2 for one in scene.sea.sets]


def sea_cost(scene: Scene, quality: str) -> Cost:
    """Of a sea's patches, two processes at a time."""
    frames, points = scene.time.last - scene.time.first + 1, sum(sea_points(scene, quality))
    made = scene.sea.made
    seconds = SECONDS_TO_BEGIN + frames * points * SECONDS_PER_WAVE if made else 0.0
    memory = MESHING_AT_REST + (points * WAVE_MEMORY if made else 0)
    return Cost(int(memory), int(points * WAVE_BYTES * frames if made else 0), seconds)


def sea_foam_cost(scene: Scene, quality: str) -> Cost:
    """Of the foam on a sea's largest patch."""
    frames, points = scene.time.last - scene.time.first + 1, sea_points(scene, quality)[0]
    made = scene.sea.made and scene.sea_foam.made
    seconds = SECONDS_TO_BEGIN + (frames + 3 * scene.sea_foam.run_up) * points * SECONDS_PER_FOAMED if made else 0.0
    memory = MESHING_AT_REST + (points * FOAM_MEMORY if made else 0)
    disk = points * (2.0 * frames + 8.0 * min(frames, 2 + frames // 12)) if made else 0.0
    return Cost(int(memory), int(disk), seconds)


def wake_points(scene: Scene, quality: str) -> int:
    """Points of the window of wakes at a quality."""
    return points_of(scene.wake, scene.quality.factor(quality)) ** 2


def wake_cost(scene: Scene, quality: str) -> Cost:
    """Of wakes, a few steps a frame."""
    frames, points = scene.time.last - scene.time.first + 1, wake_points(scene, quality)
    if not (scene.sea.made and scene.wake.made):
        return Cost(MESHING_AT_REST, 0, 0.0)
    seconds = SECONDS_TO_BEGIN + (frames + scene.wake.run_up) * points * SECONDS_PER_WAKE
    disk = points * (WAKE_BYTES * frames + WAKE_STATE * min(frames, 2 + frames // 12))
    return Cost(int(MESHING_AT_REST + points * WAKE_MEMORY), int(disk), seconds)


def mean_bubble(layer: Layer) -> float:
    """Volume (m3) of a layer's bubbles in the mean."""
    share = (np.arange(1000) + 0.5) / 1000
    radius = bubble_radii(share, layer.hinze * 1e-3, layer.bubble_least * 1e-3, layer.bubble_most * 1e-3)
    return float(4.0 / 3.0 * np.pi * (radius**3).mean())


def surface_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of meshing the liquid in one process; disk for all frames."""
    size = liquid_size(scene, files, quality)
    finer = (0.5 / scene.surface.voxel_share) ** 2
    memory = MESHING_AT_REST + size.particles * MESHING_PER_PARTICLE * finer
    vertices = VERTICES_PER_PARTICLE * size.particles ** (2 / 3) * finer * 12
    frames = scene.time.last - scene.time.first + 1
    return Cost(int(memory), int(vertices * VERTEX_BYTES * frames), surface_seconds(size, scene))
