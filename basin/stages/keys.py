"""A key per frame: says whether a frame on disk still answers to the scene.

``key(n) = H(key(n-1), still settings, what moves or pours over [n-1, n], algorithm)`` for the
liquid; ``H(settings, key of the liquid frame)`` for the surface. Defaults are left out of what is
hashed, so that a new setting leaves old caches current.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from typing import Any

from basin.geometry.shapes import MeshShape
from basin.scene import Collider, Drain, Fill, Force, Inflow, Scene
from basin.settings import Curve, value_over
from basin.stages import carrying
from basin.stages.files import SceneFiles
from basin.surface.settings import Join

MOMENT = 1e-3  # shot seconds: what the speed of a pose at a moment depends on
Part = Callable[[int, float, float], Any]


def liquid_keys(scene: Scene, files: SceneFiles, quality: str, algorithm: str) -> dict[int, str]:
    """Keys of the liquid's frames by number; UnusableFile if a file cannot be read."""
    time = scene.time
    still = {
        "algorithm": algorithm,
        "voxel": scene.voxel_size(quality),
        "step": [round(1 / time.fps, 12), time.time_scale],
        "domain": scene.domain.model_dump(exclude_defaults=True),
        "liquid": scene.liquid.model_dump(exclude_defaults=True, exclude={"voxel_size", "gravity"}),
        **carrying.words(scene),
    }
    parts = [_part(scene, files, index) for index in range(len(scene.elements))]
    keys: dict[int, str] = {}
    before = digest(still)
    for frame in range(time.first, time.last + 1):
        start, end = time.shot_time(frame - 1), time.shot_time(frame)
        if frame == time.first:
            start = end
        found = [part(frame, start, end) for part in parts]
        found.append(["gravity", value_over(scene.liquid.gravity, start, end)])
        before = digest([before, [p for p in found if p]])
        keys[frame] = before
    return keys


def surface_keys(scene: Scene, files: SceneFiles, liquid: dict[int, str], algorithm: str) -> dict[int, str]:
    """Keys of the surface's frames from those of the liquid's; UnusableFile if a file cannot be read."""
    settings = [algorithm, scene.surface.model_dump(exclude_defaults=True, exclude={"joins"})]
    keys = {}
    for frame, key in liquid.items():
        joined = [_join(join, scene, files, scene.time.shot_time(frame)) for join in scene.surface.joins]
        joined += [files.other_key(cache.folder, frame + cache.offset) for cache in scene.surface.caches]
        keys[frame] = digest([settings, key, *([joined] if joined else [])])
    return keys


def _join(join: Join, scene: Scene, files: SceneFiles, time: float) -> Any:
    """What a frame at a time depends on of a shape that is joined to its surface."""
    shape: Any = join.shape.model_dump()
    if isinstance(join.shape, MeshShape):
        shape = mesh_key(join.shape, scene, files, time, time)
    return [shape, join.pose.over(time, time)]


def _part(scene: Scene, files: SceneFiles, index: int) -> Part:
    """What gives what an element adds to a frame over [start, end]; that is None if it has no part in it."""
    element = scene.elements[index]
    pose = scene.placement(element)
    if isinstance(element, Force):
        return _force(element, pose)
    plain: Any = element.shape.model_dump()

    def shape(start: float, end: float) -> Any:
        return mesh_key(element.shape, scene, files, start, end) if isinstance(element.shape, MeshShape) else plain

    if isinstance(element, Collider):
        side = [element.side, element.thickness if element.side == "shell" else 0.0]
        if element.sampling:
            side.append(element.sampling)

        def collider(_frame: int, start: float, end: float) -> Any:
            acts = element.acts(start, end)
            return ["collider", shape(start, end), side, pose.over(start, end), acts] if acts else None

        return collider
    if isinstance(element, Drain):

        def drain(_frame: int, start: float, end: float) -> Any:
            acts = element.acts(start, end)
            return ["drain", shape(start, end), pose.over(start, end), acts] if acts else None

        return drain
    dyed = carrying.depends(element, scene, files)
    if isinstance(element, Fill):
        at = scene.time.first if element.start_frame is None else element.start_frame

        def fill(frame: int, start: float, end: float) -> Any:
            if at != frame:
                return None
            own = [shape(start, end), pose.over(end - MOMENT, end + MOMENT) if element.carry else pose.over(end, end)]
            return ["fill", index, *own, element.velocity, element.carry, *dyed]

        return fill
    return _inflow(element, index, pose, shape, dyed)


def _force(element: Force, pose: Any) -> Part:
    zone = [element.zone.model_dump(), element.softness]

    def force(_frame: int, start: float, end: float) -> Any:
        acts = element.acts(start, end)
        if not acts:
            return None
        effect = {
            name: value_over(value, start, end) if isinstance(value, Curve) else value for name, value in element.effect
        }
        return ["force", effect, zone, pose.over(start, end), acts]

    return force


def _inflow(element: Inflow, index: int, pose: Any, shape: Callable[[float, float], Any], dyed: list[Any]) -> Part:
    def inflow(_frame: int, start: float, end: float) -> Any:
        acts = element.acts(start, end)
        if not acts:
            return None
        amount: Any = element.amount
        if amount == "flow":
            amount = [amount, value_over(element.flow, min(element.start, start), end)]
        elif amount == "total":
            amount = [amount, element.total, element.spans()]
        own = [shape(start, end), pose.over(start, end), element.velocity, element.carry, amount, element.start]
        return ["inflow", index, *own, acts, *dyed]

    return inflow


def mesh_key(shape: MeshShape, scene: Scene, files: SceneFiles, start: float, end: float) -> Any:
    """What frames over [start, end] depend on of a mesh."""
    if not shape.is_sequence():
        return files.mesh_digest(shape)
    return files.sequence_digests(shape, scene.time, start, end)


def digest(value: Any) -> str:
    """Of anything that JSON can tell."""
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:32]
