"""Looks at a mesh file before it becomes part of a scene."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from basin.exchange import read_mesh, read_pictures, read_sequence, sequence_names
from basin.scene import Scene
from basin.stages.assembly import proposed_unit

__all__ = ["MeshFacts", "images_digest", "import_mesh", "sequence_names"]


@dataclass(frozen=True)
class MeshFacts:
    """What an imported mesh is: size in metres, triangles, open edges, and a unit if the size looks wrong.

    A mesh that deforms is told by its first file, and the number of its files.
    """

    file: str
    digest: str
    unit: str
    up: str
    size: list[float]
    low: list[float]
    triangles: int
    open_edges: int
    proposed_unit: str | None
    frames: int = 1

    def at(self, file: str) -> MeshFacts:
        """The same facts for the place where the file is kept."""
        return replace(self, file=file)


def import_mesh(path: Path, unit: str, up: str, scene: Scene) -> MeshFacts:
    """Read a mesh, or a sequence with # for its numbers, and compare it with the scene's domain.

    UnusableFile if it is unusable.
    """
    frames = 1
    if "#" in path.name:
        sequence = read_sequence(path.parent, path.name, unit, up)
        mesh, frames, digest = sequence.mesh(-np.inf), len(sequence.position), sequence.digest()
    else:
        mesh = read_mesh(path, unit, up)
        digest = mesh.digest()
    size = np.ptp(mesh.position, axis=0)
    return MeshFacts(
        file=path.name,
        digest=digest,
        unit=unit,
        up=up,
        size=size.tolist(),
        low=mesh.position.min(axis=0).tolist(),
        triangles=len(mesh.triangle),
        open_edges=mesh.open_edges(),
        proposed_unit=proposed_unit(float(size.max()), unit, float(max(scene.domain.size))),
        frames=frames,
    )


def images_digest(folder: Path, pattern: str) -> str:
    """Tells an image or a sequence from others; UnusableFile if a file is no usable image."""
    return read_pictures(folder, pattern).digest()
