"""Speed and substeps."""

from __future__ import annotations

import numpy as np

from basin.scene import Advice, Fill, Remedy
from basin.settings import value_at
from basin.stages.advice.look import Look
from basin.stages.files import element_mesh

SOFT = 1.6  # times the CFL limit from which an impact is visibly soft
MOST = 400


def too_fast(look: Look) -> list[Advice]:
    """Liquid that moves more voxels in a substep, at the final voxel, than the limit that the scene itself sets."""
    scene = look.scene
    found = [(way.speed, element.name, index, look.arrival(way)) for index, element, way in look.flights]
    pull = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))) * scene.time.time_scale**2
    for index, element in enumerate(scene.elements):
        if isinstance(element, Fill):
            mesh = element_mesh(element, look.files)
            if mesh is None or not len(mesh.position):
                continue
            placed = mesh.transformed(scene.placement(element).matrix(0.0)).position
            fall = max(float(placed[:, 1].min()) - scene.domain.low[1], 0.0)
            start = float(np.linalg.norm(element.velocity))
            speed = float(np.sqrt(start**2 + 2 * pull * fall))
            when = (speed - start) / max(pull, 1e-9)
            found.append((speed, element.name, index, look.at(placed.mean(axis=0), when)))
    if not found:
        return []
    speed, name, index, show = max(found, key=lambda one: one[0])
    frame_voxels = speed / scene.time.fps / scene.liquid.voxel_size
    moved = frame_voxels / scene.liquid.substeps_max
    if moved <= SOFT * scene.liquid.cfl:
        return []
    wanted = min(int(np.ceil(frame_voxels / scene.liquid.cfl / 2)) * 2, MOST)
    return [
        Advice(
            f"it moves {moved:.2g} voxels a substep when it arrives, at {speed:.2g} m/s",
            f"elements[{index}]",
            name,
            "its impact is soft",
            Remedy(f"Allow {wanted} substeps", ("liquid", "substeps_max"), wanted),
            show=show,
        )
    ]
