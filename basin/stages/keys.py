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
from basin.liquid.step import ALGORITHM as LIQUID
from basin.scene import Collider, Fill, Inflow, Scene
from basin.stages.assembly import SceneFiles
from basin.surface.field import ALGORITHM as SURFACE


def frame_keys(scene: Scene, files: SceneFiles, quality: str, stage: str) -> dict[int, str]:
    """Keys of every frame of a stage by frame number; MeshFileError if a mesh cannot be read."""
    liquid = _liquid_keys(scene, files, quality)
    if stage == "liquid":
        return liquid
    settings = [SURFACE, scene.surface.model_dump(exclude_defaults=True)]
    return {frame: _digest([settings, key]) for frame, key in liquid.items()}


def _liquid_keys(scene: Scene, files: SceneFiles, quality: str) -> dict[int, str]:
    time = scene.time
    still = {
        "algorithm": LIQUID,
        "voxel": scene.voxel_size(quality),
        "step": [round(1 / time.fps, 12), time.time_scale],
        "domain": scene.domain.model_dump(exclude_defaults=True),
        "liquid": scene.liquid.model_dump(exclude_defaults=True, exclude={"voxel_size"}),
    }
    keys: dict[int, str] = {}
    before = _digest(still)
    for frame in range(time.first, time.last + 1):
        start, end = time.shot_time(frame - 1), time.shot_time(frame)
        if frame == time.first:
            start = end
        parts = [_part(scene, files, index, frame, start, end) for index in range(len(scene.elements))]
        before = _digest([before, [p for p in parts if p]])
        keys[frame] = before
    return keys


def _part(scene: Scene, files: SceneFiles, index: int, frame: int, start: float, end: float) -> Any:
    """What an element adds to the frame over [start, end]; None if it has no part in it."""
    element = scene.elements[index]
    shape: Any = element.shape.model_dump()
    if isinstance(element.shape, MeshShape):
        shape = files.mesh(element.shape).digest()
    if isinstance(element, Collider):
        return ["collider", shape, element.pose.over(start, end)]
    if isinstance(element, Fill):
        at = scene.time.first if element.start_frame is None else element.start_frame
        return ["fill", index, shape, element.pose.over(end, end), element.velocity] if at == frame else None
    if isinstance(element, Inflow):
        if element.start > end or (element.end is not None and element.end < start):
            return None
        span = [max(element.start, start), min(element.end, end) if element.end is not None else end]
        return ["inflow", index, shape, element.pose.over(start, end), element.velocity, element.start, span]
    return None


def _digest(value: Any) -> str:
    text = json.dumps(value, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()[:32]
