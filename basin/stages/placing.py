"""Where the elements of a scene are at every frame, and what is seen of them."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image

from basin.exchange.light import encoded
from basin.geometry.mesh import TriangleMesh
from basin.geometry.shapes import MeshShape
from basin.liquid.paint import Picture
from basin.scene import Scene
from basin.settings import Curve, value_at
from basin.stages.assembly import viewed_mesh
from basin.stages.files import SceneFiles

BACKDROP = 1920  # pixels


@dataclass(frozen=True)
class Placed:
    """Where an element is: matrices column by column, one if it is still, else one per frame.

    Attributes
    ----------
    shown : per frame whether it is to be seen; one if that never changes
    deforms : whether its mesh is another one at every frame
    """

    matrices: list[list[float]]
    shown: list[bool]
    deforms: bool


def placed_elements(scene: Scene) -> list[Placed]:
    """Where all elements are."""
    frames = range(scene.time.first, scene.time.last + 1)
    found = []
    for element in scene.elements:
        placement, shape = scene.placement(element), getattr(element, "shape", None)
        matrices = [
            placement.matrix(scene.time.shot_time(n)).T.ravel().astype(np.float64).tolist()
            for n in (frames if placement.moves() else frames[:1])
        ]
        switches = frames if isinstance(element.shown, Curve) else frames[:1]
        shown = [bool(value_at(element.shown, scene.time.shot_time(n))[0] >= 0.5) for n in switches]
        found.append(Placed(matrices, shown, isinstance(shape, MeshShape) and shape.is_sequence()))
    return found


@dataclass(frozen=True)
class Seen:
    """Where a shot is seen from: eye and the point it looks at in metres, upright angle and roll in degrees."""

    eye: list[float]
    target: list[float]
    angle: float
    roll: float


def camera_path(scene: Scene) -> list[Seen]:
    """The shot camera, once if it is still, else at every frame."""
    view = scene.camera
    moves = any(isinstance(value, Curve) for value in (view.eye, view.target, view.angle, view.roll))
    frames = range(scene.time.first, (scene.time.last if moves else scene.time.first) + 1)
    times = [scene.time.shot_time(n) for n in frames]
    return [
        Seen(
            value_at(view.eye, t).tolist(),
            value_at(view.target, t).tolist(),
            float(value_at(view.angle, t)[0]),
            float(value_at(view.roll, t)[0]),
        )
        for t in times
    ]


def seen_mesh(folder: Path, scene: Scene, index: int, frame: int | None) -> TriangleMesh:
    """An element's mesh in its own frame, at a frame if it deforms; UnusableFile if it cannot be read."""
    shape = getattr(scene.elements[index], "shape", None)
    if frame is None or not isinstance(shape, MeshShape) or not shape.is_sequence():
        return viewed_mesh(scene.elements[index], scene, SceneFiles(folder))
    return SceneFiles(folder).sequence(shape, scene.time).mesh(scene.time.shot_time(frame))


def backdrop(folder: Path, scene: Scene, frame: int) -> bytes:
    """The image behind the shot camera at a frame as PNG, about BACKDROP pixels wide; UnusableFile without one."""
    pictures = SceneFiles(folder).pictures(Picture(file=scene.camera.backdrop))
    image = pictures.at_frame(frame)
    step = max(image.shape[1] // BACKDROP, 1)
    levels = np.round(255 * np.clip(encoded(image[::step, ::step]), 0, 1)).astype(np.uint8)
    held = io.BytesIO()
    Image.fromarray(levels).save(held, "PNG", compress_level=1)
    return held.getvalue()
