"""How large a liquid becomes, and what its frames take in memory and on disk; measured by `benchmarks.memory`."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.geometry.distance import MOST_NODES
from basin.geometry.shapes import MeshShape
from basin.liquid.carried import Carried
from basin.scene import Fill, Force, Inflow, Scene
from basin.settings import Curve
from basin.stages.assembly import scene_layout
from basin.stages.carrying import carried_by
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.stage import Cost

BYTES_AT_REST = 450_000_000  # the program itself with its compiled kernels
BYTES_PER_PARTICLE = 850
BYTES_PER_NUMBER = 12  # of what each particle carries along: as it is, sorted, and in the state before a pair
BYTES_OF_VISCOSITY = 110  # more for each particle
BYTES_PER_TILE = 16  # of the index, for every tile of the domain
BYTES_PER_NODE = 12  # of a mesh's sampled distance, while it is made
FRAME_BYTES_PER_PARTICLE = 38
STATE_BYTES_PER_PARTICLE = 74
TILE_BYTES = 512 * 16
TILES_PER_PARTICLE = 1 / 1500  # at 8 particles per cell, tiles a third full
MESHING_AT_REST = 380_000_000
MESHING_PER_PARTICLE = 225  # in one process, at half the liquid's voxel; more by the square of finer ones
VERTICES_PER_PARTICLE = 0.5  # to the power of 2/3
VERTEX_BYTES = 60


@dataclass(frozen=True)
class Size:
    """Of a liquid at its largest.

    Attributes
    ----------
    voxels : of the domain
    nodes : at which the distances of meshes are sampled
    """

    voxels: int
    particles: int
    nodes: float
    carried: Carried


def liquid_size(scene: Scene, files: SceneFiles, quality: str) -> Size:
    """From the scene alone; meshes that cannot be read count as nothing."""
    dx = scene.voxel_size(quality)
    layout = scene_layout(scene, quality)
    voxels = int(np.prod([float(n) for n in layout.cells]))
    domain = float(np.prod(scene.domain.size))
    duration = (scene.time.last - scene.time.first) / scene.time.fps
    volume, nodes = 0.0, 0.0
    for element in scene.elements:
        try:
            mesh = element_mesh(element, files)
        except ValueError:
            continue
        if mesh is None or isinstance(element, Force):
            continue
        if isinstance(element.shape, MeshShape):
            nodes += min(float(np.prod(np.ptp(mesh.position, axis=0) / dx + 8)), MOST_NODES)
        if not isinstance(element, Fill | Inflow):
            continue
        matrix = scene.placement(element).matrix(0.0)
        scale = abs(float(np.linalg.det(matrix[:3, :3])))
        if isinstance(element, Fill):
            placed = mesh.transformed(matrix).position
            low, high = np.array(scene.domain.low), np.array(scene.domain.low) + np.array(scene.domain.size)
            extent = np.maximum(np.ptp(placed, axis=0), 1e-12)
            inside = np.clip(np.minimum(placed.max(axis=0), high) - np.maximum(placed.min(axis=0), low), 0, None)
            volume += abs(mesh.volume()) * scale * float(np.prod(inside / extent))
        else:
            span = max(min(element.until(), duration) - element.start, 0.0)
            if element.amount == "full":
                volume += abs(mesh.volume()) * scale
                continue
            if element.amount == "total":
                volume += element.total * 1e-3
                continue
            if element.amount == "flow":
                flows = [k.value for k in element.flow.keys] if isinstance(element.flow, Curve) else [element.flow]
                volume += float(np.max(flows)) * 1e-3 * span
                continue
            across = mesh.area() * scale ** (2 / 3) / (1 if mesh.open_edges() else 4)
            volume += across * float(np.linalg.norm(element.velocity)) * span
    particles = int(min(volume, domain) / dx**3 * scene.liquid.particles_per_cell)
    return Size(voxels, particles, nodes, carried_by(scene))


def liquid_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of simulating the liquid; disk for all frames and kept states."""
    size = liquid_size(scene, files, quality)
    numbers = size.carried.width
    each = BYTES_PER_PARTICLE + numbers * BYTES_PER_NUMBER
    if "viscosity" in size.carried:
        each += BYTES_OF_VISCOSITY
    memory = BYTES_AT_REST + size.particles * each + size.voxels / 512 * BYTES_PER_TILE + size.nodes * BYTES_PER_NODE
    frames = scene.time.last - scene.time.first + 1
    per_frame = size.particles * (FRAME_BYTES_PER_PARTICLE + 4 * numbers + TILES_PER_PARTICLE * TILE_BYTES)
    states = min(frames, 2 + frames // 12) * size.particles * (STATE_BYTES_PER_PARTICLE + 4 * numbers)
    return Cost(int(memory), int(per_frame * frames + states))


def surface_cost(scene: Scene, files: SceneFiles, quality: str) -> Cost:
    """Of meshing the liquid in one process; disk for all frames."""
    size = liquid_size(scene, files, quality)
    finer = (0.5 / scene.surface.voxel_share) ** 2
    memory = MESHING_AT_REST + size.particles * MESHING_PER_PARTICLE * finer
    vertices = VERTICES_PER_PARTICLE * size.particles ** (2 / 3) * finer * 12
    frames = scene.time.last - scene.time.first + 1
    return Cost(int(memory), int(vertices * VERTEX_BYTES * frames))
