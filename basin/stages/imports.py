"""Looks at a mesh file before it becomes part of a scene."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import fast_simplification
import numpy as np

from basin.exchange import (
    UnusableFile,
    parts,
    read_camera,
    read_mesh,
    read_pictures,
    read_sequence,
    sequence_names,
    told,
)
from basin.exchange.files import IMAGES, MOVING, PLAIN
from basin.exchange.pieces import METRES, axes
from basin.geometry.mesh import TriangleMesh
from basin.geometry.shapes import MeshShape
from basin.scene import Scene
from basin.scene.model import View
from basin.stages.assembly import proposed_unit
from basin.stages.files import SceneFiles

__all__ = ["MeshFacts", "images_digest", "import_mesh", "sequence_names"]

# of the files that can be brought in, by what they hold
ENDINGS = {
    "meshes": [f".{kind}" for kind in (*PLAIN, *MOVING)],
    "cameras": [f".{kind}" for kind in MOVING],
    "images": list(IMAGES),
}


@dataclass(frozen=True)
class MeshPart:
    """One of several meshes in a file."""

    name: str
    polygons: int


@dataclass(frozen=True)
class MeshFacts:
    """What an imported mesh is: size in metres, triangles, open edges, and a unit if the size looks wrong.

    A mesh that deforms is told by its first file or moment, and how many of them there are. `animated` is a file with
    animation; `told_unit` and `told_up` are what the file says of itself; `parts` are the names of its
    meshes and how many polygons each has, where it has several.
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
    animated: bool = False
    told_unit: str | None = None
    told_up: str | None = None
    parts: list[MeshPart] = field(default_factory=list)

    def at(self, file: str) -> MeshFacts:
        """The same facts for the place where the file is kept."""
        return replace(self, file=file)


def import_mesh(
    path: Path, unit: str, up: str, scene: Scene, tell: Callable[[int], None] = lambda _: None
) -> MeshFacts:
    """Read a mesh, or a sequence with # for its numbers, and compare it with the scene's domain; `tell` hears how many
    files have been read.

    UnusableFile if it is unusable.
    """
    frames = 1
    said = None if "#" in path.name else told(path)
    animated = said is not None and said.moments > 1
    if animated or "#" in path.name:
        sequence = read_sequence(path.parent, path.name, unit, up, scene.time.fps, tell)
        mesh, frames, digest = sequence.mesh(-np.inf), len(sequence.position), sequence.digest()
    else:
        mesh = read_mesh(path, unit, up)
        digest = mesh.digest()
    several = [] if "#" in path.name else [MeshPart(*one) for one in parts(path)]
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
        animated=animated,
        told_unit=said.unit if said else None,
        told_up=said.up if said else None,
        parts=several if len(several) > 1 else [],
    )


@dataclass(frozen=True)
class CameraFacts:
    """A camera as the scene's, with the unit and the up axis it was read in, and whether its file told them."""

    camera: View
    unit: str
    up: str
    told: bool


def import_camera(path: Path, unit: str | None, up: str | None, scene: Scene) -> CameraFacts:
    """The camera in a file as the scene's: a key for each sample within the shot, linear between; UnusableFile if none.

    Where no unit or axis is chosen, the file's own count, or metres and Y where it does not say. The camera looks at a
    point as far before it as the domain's middle is.
    """
    said = told(path)
    unit, up = unit or said.unit or "m", up or said.up or "y"
    samples = read_camera(path, scene.time.fps, unit, up)
    middle = np.array(scene.domain.low) + np.array(scene.domain.size) / 2
    rows = []
    for number, matrix, angle in samples:
        eye, ahead = matrix[:3, 3], -matrix[:3, 2] / np.linalg.norm(matrix[:3, 2])
        target = eye + ahead * max(float((middle - eye) @ ahead), 0.1)
        time = (number - scene.time.first) / scene.time.fps
        rows.append((time, eye.tolist(), target.tolist(), angle, _roll(matrix)))

    def keyed(values: list[Any]) -> Any:
        if all(v == values[0] for v in values):
            return values[0]
        keys = [{"time": row[0], "value": v, "segment": "linear"} for row, v in zip(rows, values, strict=True)]
        return {"keys": keys}

    eyes, targets, angles, rolls = ([row[i] for row in rows] for i in (1, 2, 3, 4))
    rolls = np.round(np.degrees(np.unwrap(rolls)), 6).tolist()  # turning on, not back by a whole turn
    view = View.model_validate(
        {"eye": keyed(eyes), "target": keyed(targets), "angle": keyed(angles), "roll": keyed(rolls)}
    )
    return CameraFacts(view, unit, up, said.unit is not None and said.up is not None)


def _roll(matrix: np.ndarray) -> float:
    """Turn (radians) of a camera's axes (4, 4) about its line of sight from the upright ones; 0 looking straight up."""
    back, up = matrix[:3, 2] / np.linalg.norm(matrix[:3, 2]), matrix[:3, 1]
    right = np.cross([0.0, 1.0, 0.0], back)
    if np.linalg.norm(right) < 1e-6:
        return 0.0
    right /= np.linalg.norm(right)
    return float(np.arctan2(up @ right, up @ np.cross(back, right)))


def images_digest(folder: Path, pattern: str) -> str:
    """Tells an image or a sequence from others; UnusableFile if a file is no usable image."""
    return read_pictures(folder, pattern).digest()


LEAST_STAND_IN = 100  # triangles


def stand_in(shape: MeshShape, files: SceneFiles, triangles: int) -> TriangleMesh:
    """A coarser mesh that acts in the place of a fine one, in the units and axes of its file.

    By quadric edge collapse (Garland & Heckbert 1997, as the `fast_simplification` library has it); what was closed
    stays closed, and holds the volume that it held: it is grown or shrunk about its middle by what it lost.

    Raises
    ------
    UnusableFile
        If the mesh deforms, has no more triangles than that, or is none after it.
    """
    if shape.is_sequence():
        raise UnusableFile("a mesh that deforms has no stand-in; thin it in the modelling program")
    fine = files.mesh(shape.shown())
    if len(fine.triangle) <= triangles or triangles < LEAST_STAND_IN:
        raise UnusableFile(f"the mesh has {len(fine.triangle):,} triangles; ask for {LEAST_STAND_IN} or more of them")
    share = 1.0 - triangles / len(fine.triangle)
    place, faces = fast_simplification.simplify(fine.position.astype(np.float32), fine.triangle, share)
    made = TriangleMesh(np.asarray(place, np.float64), np.asarray(faces, np.int32))
    if not len(made.triangle) or (made.open_edges() and not fine.open_edges()):
        raise UnusableFile("so few triangles cannot hold its form; ask for more of them")
    position = made.position
    if not made.open_edges() and made.volume() > 0:
        middle = position.mean(axis=0)
        position = middle + (position - middle) * float(np.cbrt(fine.volume() / made.volume()))
    return TriangleMesh(position @ axes(shape.up).T / METRES[shape.unit], made.triangle)
