"""What a run will cost, before it is run."""

from __future__ import annotations

import os
from dataclasses import dataclass

import numpy as np

from basin.geometry.shapes import MeshShape
from basin.scene import Fill, Force, Inflow, Scene
from basin.settings import Curve
from basin.stages.assembly import SceneFiles, element_mesh, scene_layout

BYTES_AT_REST = 250_000_000  # the program itself with its compiled kernels
BYTES_PER_PARTICLE = 720  # 540 to 610 in a pool (python -m benchmarks.memory); a splash has more tiles for each
BYTES_PER_TILE = 16  # of the index, for every tile of the domain
BYTES_PER_NODE = 12  # of a mesh's sampled distance, while it is made
FRAME_BYTES_PER_PARTICLE = 37
STATE_BYTES_PER_PARTICLE = 73
TILE_BYTES = 512 * 16
TILES_PER_PARTICLE = 1 / 1500  # at 8 particles per cell, tiles a third full


@dataclass(frozen=True)
class Forecast:
    """Expected size of the liquid stage.

    Attributes
    ----------
    voxels : voxels of the domain; particles : most particles at any frame
    memory, disk : bytes; `disk` for all frames and kept states
    """

    quality: str
    voxel_size: float
    voxels: int
    particles: int
    memory: int
    disk: int
    frames: int
    memory_of_machine: int

    @property
    def fits(self) -> bool:
        """Whether the run fits this machine's memory."""
        return self.memory <= 0.9 * self.memory_of_machine

    def refusal(self) -> str:
        """Sentence that refuses a run which does not fit."""
        return (
            f"liquid.voxel_size: {self.voxel_size * 1000:.3g} mm means {self.particles / 1e6:.0f} million particles "
            f"in {self.voxels / 1e6:.0f} million voxels, about {self.memory / 1e9:.0f} GB of memory; this machine has "
            f"{self.memory_of_machine / 1e9:.0f} GB. Use a coarser voxel or a smaller domain."
        )


def forecast(scene: Scene, files: SceneFiles, quality: str) -> Forecast:
    """Forecast from the scene alone; meshes that cannot be read count as nothing."""
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
            nodes += float(np.prod(np.ptp(mesh.position, axis=0) / dx + 8))
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
    frames = scene.time.last - scene.time.first + 1
    per_frame = particles * (FRAME_BYTES_PER_PARTICLE + TILES_PER_PARTICLE * TILE_BYTES)
    states = min(frames, 2 + frames // 12) * particles * STATE_BYTES_PER_PARTICLE
    return Forecast(
        quality,
        dx,
        voxels,
        particles,
        int(BYTES_AT_REST + particles * BYTES_PER_PARTICLE + voxels / 512 * BYTES_PER_TILE + nodes * BYTES_PER_NODE),
        int(per_frame * frames + states),
        frames,
        os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"),
    )
