"""A key per frame: says whether a frame on disk still answers to the scene.

``key(n) = H(key(n-1), still settings, what moves or pours over [n-1, n], algorithm)`` for the
liquid; ``H(settings, key of the liquid frame)`` for the surface. Defaults are left out of what is
hashed, so that a new setting leaves old caches current.
"""

from __future__ import annotations

import hashlib
import json
from typing import Any

from basin.geometry.shapes import MeshShape
from basin.liquid.paint import Gradient, Picture
from basin.liquid.step import ALGORITHM as LIQUID
from basin.scene import Collider, Drain, Fill, Force, Inflow, Scene
from basin.settings import Curve, value_over
from basin.stages.assembly import SceneFiles, birth_span, is_painted, is_viscous
from basin.surface.field import ALGORITHM as SURFACE
from basin.surface.settings import Join

MOMENT = 1e-3  # shot seconds: what the speed of a pose at a moment depends on


def frame_keys(scene: Scene, files: SceneFiles, quality: str, stage: str) -> dict[int, str]:
    """Keys of every frame of a stage by frame number; UnusableFile if a mesh cannot be read."""
    liquid = _liquid_keys(scene, files, quality)
    if stage == "liquid":
        return liquid
    own = scene.surface.model_dump(exclude_defaults=True, exclude={"joins"})
    settings = [SURFACE, own]
    keys = {}
    for frame, key in liquid.items():
        joined = [_join(join, scene, files, scene.time.shot_time(frame)) for join in scene.surface.joins]
        joined += [files.other_key(cache.folder, frame + cache.offset) for cache in scene.surface.caches]
        keys[frame] = _digest([settings, key, *([joined] if joined else [])])
    return keys


def _join(join: Join, scene: Scene, files: SceneFiles, time: float) -> Any:
    """What a frame at a time depends on of a shape that is joined to its surface."""
    shape: Any = join.shape.model_dump()
    if isinstance(join.shape, MeshShape):
        shape = _mesh(join.shape, scene, files, time, time)
    return [shape, join.pose.over(time, time)]


def _liquid_keys(scene: Scene, files: SceneFiles, quality: str) -> dict[int, str]:
    time = scene.time
    still = {
        "algorithm": LIQUID,
        "voxel": scene.voxel_size(quality),
        "step": [round(1 / time.fps, 12), time.time_scale],
        "domain": scene.domain.model_dump(exclude_defaults=True),
        "liquid": scene.liquid.model_dump(exclude_defaults=True, exclude={"voxel_size", "gravity"}),
    }
    if is_painted(scene):
        still["painted"] = True  # frames and restart states hold colours then, before the first source pours too
    if is_viscous(scene):
        still["viscous"] = True
    keys: dict[int, str] = {}
    before = _digest(still)
    for frame in range(time.first, time.last + 1):
        start, end = time.shot_time(frame - 1), time.shot_time(frame)
        if frame == time.first:
            start = end
        parts = [_part(scene, files, index, frame, start, end) for index in range(len(scene.elements))]
        parts.append(["gravity", value_over(scene.liquid.gravity, start, end)])
        before = _digest([before, [p for p in parts if p]])
        keys[frame] = before
    return keys


def _part(scene: Scene, files: SceneFiles, index: int, frame: int, start: float, end: float) -> Any:
    """What an element adds to the frame over [start, end]; None if it has no part in it."""
    element = scene.elements[index]
    pose = scene.placement(element)
    moved = pose.over(start, end)
    acts = [] if isinstance(element, Fill) else element.acts(start, end)
    if isinstance(element, Force):
        effect = {
            name: value_over(value, start, end) if isinstance(value, Curve) else value for name, value in element.effect
        }
        zone = [element.zone.model_dump(), element.softness]
        return ["force", effect, zone, moved, acts] if acts else None
    shape: Any = element.shape.model_dump()
    if isinstance(element.shape, MeshShape):
        shape = _mesh(element.shape, scene, files, start, end)
    if isinstance(element, Collider):
        side = [element.side, element.thickness if element.side == "shell" else 0.0]
        if element.sampling:
            side.append(element.sampling)
        return ["collider", shape, side, moved, acts] if acts else None
    if isinstance(element, Drain):
        return ["drain", shape, moved, acts] if acts else None
    dyed = [_paint(element, scene, files)] if is_painted(scene) else []
    dyed += [["viscosity", element.viscosity]] if is_viscous(scene) else []
    if isinstance(element, Fill):
        at = scene.time.first if element.start_frame is None else element.start_frame
        own = [shape, pose.over(end - MOMENT, end + MOMENT) if element.carry else pose.over(end, end)]
        return ["fill", index, *own, element.velocity, element.carry, *dyed] if at == frame else None
    if not acts:
        return None
    amount: Any = element.amount
    if amount == "flow":
        amount = [amount, value_over(element.flow, min(element.start, start), end)]
    elif amount == "total":
        amount = [amount, element.total, element.spans()]
    own = [shape, moved, element.velocity, element.carry, amount, element.start]
    return ["inflow", index, *own, acts, *dyed]


def _paint(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Any:
    """What the colours and marks of a source depend on."""
    own = [element.paint.model_dump(), element.colour, element.colour_to, element.mark, element.mark_to]
    if isinstance(element.paint, Picture):
        own.append([files.pictures(element.paint).digest(), scene.time.first, scene.time.fps])
    if isinstance(element.paint, Gradient) and element.paint.along == "time":
        own.append(list(birth_span(element, scene)))
    return own


def _mesh(shape: MeshShape, scene: Scene, files: SceneFiles, start: float, end: float) -> Any:
    """What frames over [start, end] depend on of a mesh."""
    if not shape.is_sequence():
        return files.mesh(shape).digest()
    sequence = files.sequence(shape, scene.time)
    own = [sequence.mesh(end).digest()]
    if sequence.changes_over(start, end):
        step = sequence.step  # velocities at a moment come from the files on both sides
        own = [sequence.mesh(t).digest() for t in (start - step, start, 0.5 * (start + end), end, end + step)]
    return own


def _digest(value: Any) -> str:
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:32]
