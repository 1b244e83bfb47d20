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
from basin.scene.model import Span
from basin.settings import Curve, value_over
from basin.stages import carrying
from basin.stages.files import SceneFiles
from basin.surface.settings import Join

MOMENT = 1e-3  # shot seconds: what the speed of a pose at a moment depends on
Part = Callable[[int, float, float], str]


def liquid_keys(scene: Scene, files: SceneFiles, quality: str, algorithm: str) -> dict[int, str]:
    """Keys of the liquid's frames by number; UnusableFile if a file cannot be read."""
    time = scene.time
    still = {
        "algorithm": algorithm,
        "voxel": scene.voxel_size(quality),
        "step": [round(1 / time.fps, 12), time.time_scale],
        "domain": scene.domain.model_dump(exclude_defaults=True),
        "liquid": scene.liquid.model_dump(exclude_defaults=True, exclude={"voxel_size", "gravity", "thickness"}),
        **carrying.words(scene),
    }
    parts = [_part(scene, files, index) for index in range(len(scene.elements))]
    parts.append(_listed('"gravity"', _over(scene.liquid.gravity)))
    if scene.liquid.thickness != 1.0:
        parts.append(_listed('"thickness"', _over(scene.liquid.thickness)))
    keys: dict[int, str] = {}
    before = digest(still)
    for frame in range(time.first, time.last + 1):
        start, end = time.shot_time(frame - 1), time.shot_time(frame)
        if frame == time.first:
            start = end
        found = [part(frame, start, end) for part in parts]
        before = _digest(f'["{before}",[{",".join(filter(None, found))}]]')
        keys[frame] = before
    return keys


def _listed(*words: str | Part) -> Part:
    """The JSON text of a list, of what stays as it is and of what is to be asked for each frame."""

    def told(frame: int, start: float, end: float) -> str:
        return f"[{','.join(word if isinstance(word, str) else word(frame, start, end) for word in words)}]"

    return told


def _over(value: Any) -> str | Part:
    """The text of what frames over a span depend on of a value or a pose; made once if it never changes."""
    if isinstance(value, Curve):
        return lambda _frame, start, end: _text(value.over(start, end))
    if hasattr(value, "moves") and value.moves():
        return lambda _frame, start, end: _text(value.over(start, end))
    return _text(value.over(0.0, 0.0) if hasattr(value, "over") else value_over(value, 0.0, 0.0))


def _acting(element: Span, part: Part) -> Part:
    """A part that is none while its element does not act."""
    spans = element.spans()

    def told(frame: int, start: float, end: float) -> str:
        return part(frame, start, end) if any(a <= end and b >= start for a, b in spans) else ""

    return told


def _acts(element: Span) -> Part:
    spans = element.spans()

    def told(_frame: int, start: float, end: float) -> str:
        return _text([(max(a, start), min(b, end)) for a, b in spans if a <= end and b >= start])

    return told


def surface_keys(scene: Scene, files: SceneFiles, liquid: dict[int, str], algorithm: str) -> dict[int, str]:
    """Keys of the surface's frames from those of the liquid's; UnusableFile if a file cannot be read."""
    settings: list[Any] = [algorithm, scene.surface.model_dump(exclude_defaults=True, exclude={"joins"})]
    taking = scene.whitewater.taking()
    if taking is not None:
        settings.append(taking[1])
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
    """What gives the text that an element adds to a frame over [start, end]; none if it has no part in it."""
    element = scene.elements[index]
    pose = scene.placement(element)
    if isinstance(element, Force):
        return _force(element, pose) if element.acts_on != "whitewater" else lambda _frame, _start, _end: ""
    shape = _shape(scene, files, element.shape)
    if isinstance(element, Collider):
        side = [element.side, element.thickness if element.side == "shell" else 0.0]
        if element.sampling:
            side.append(element.sampling)
        own = _listed('"collider"', shape, _text(side), _over(pose), _acts(element))
        return _acting(element, own)
    if isinstance(element, Drain):
        takes = [_text(element.takes)] if element.takes != "inside" else []
        return _acting(element, _listed('"drain"', shape, _over(pose), _acts(element), *takes))
    dyed = [_text(one) for one in carrying.depends(element, scene, files)]
    if isinstance(element, Fill):
        at = scene.time.first if element.start_frame is None else element.start_frame

        def placed(_frame: int, _start: float, end: float) -> str:
            return _text(pose.over(end - MOMENT, end + MOMENT) if element.carry else pose.over(end, end))

        own = _listed('"fill"', _text(index), shape, placed, _text(element.velocity), _text(element.carry), *dyed)
        return lambda frame, start, end: own(frame, start, end) if frame == at else ""
    return _inflow(element, index, pose, shape, dyed)


def _shape(scene: Scene, files: SceneFiles, shape: Any) -> str | Part:
    """The text of a shape; made once if it does not deform."""
    if not isinstance(shape, MeshShape):
        return _text(shape.model_dump())
    if not shape.is_sequence():
        return _text(files.mesh_digest(shape))
    return lambda _frame, start, end: _text(mesh_key(shape, scene, files, start, end))


def _force(element: Force, pose: Any) -> Part:
    def effect(_frame: int, start: float, end: float) -> str:
        return _text(
            {name: value_over(v, start, end) if isinstance(v, Curve) else v for name, v in element.effect},
        )

    zone = _text([element.zone.model_dump(), element.softness])
    return _acting(element, _listed('"force"', effect, zone, _over(pose), _acts(element)))


def forces_on_whitewater(scene: Scene) -> Part:
    """The text of what forces do to whitewater over a span beyond what they do to the liquid."""
    told: list[str | Part] = []
    for element in scene.of_kind(Force):
        whom = [element.acts_on, element.kinds, element.layer, element.but_layer]
        if whom != ["liquid and whitewater", "all kinds", "", False]:
            told.append(_text(whom))
        if element.acts_on == "whitewater":
            told.append(_force(element, scene.placement(element)))
    return _listed('"forces"', *told)


def _inflow(element: Inflow, index: int, pose: Any, shape: str | Part, dyed: list[str]) -> Part:
    def flow(_frame: int, start: float, end: float) -> str:
        return _text(["flow", value_over(element.flow, min(element.start, start), end)])

    amount: str | Part = _text(element.amount)
    if element.amount == "flow":
        amount = flow
    elif element.amount == "total":
        amount = _text(["total", element.total, element.spans()])
    given = [_text(element.velocity), _text(element.carry), amount, _text(element.start)]
    own = _listed('"inflow"', _text(index), shape, _over(pose), *given, _acts(element), *dyed)
    return _acting(element, own)


def mesh_key(shape: MeshShape, scene: Scene, files: SceneFiles, start: float, end: float) -> Any:
    """What frames over [start, end] depend on of a mesh."""
    if not shape.is_sequence():
        return files.mesh_digest(shape)
    return files.sequence_digests(shape, scene.time, start, end)


def digest(value: Any) -> str:
    """Of anything that JSON can tell."""
    return _digest(_text(value))


def _text(value: Any) -> str:
    return json.dumps(value, sort_keys=True, separators=(",", ":"))


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:32]
