"""The same scene at another size, so that what happens in it lasts longer or shorter.

Froude similarity: under the same gravity, lengths times k make times and speeds the square root of k times what they
were. If the liquid stays what it is, viscosity and surface tension weigh less in what is larger: the Reynolds number
grows by k^1.5, the Weber number by k^2. If it is to look alike it has to be another liquid, k^1.5 times as thick and
with k^2 times the tension, which keeps all three numbers.

Where weight hardly matters, in what is small and quick, the same liquid keeps its Weber number if times go by k^1.5, or
its Reynolds number if they go by k^2; gravity stays what it is, so that the Froude number is then given up.
"""

from __future__ import annotations

from typing import Any, Literal

from pydantic import BaseModel

from basin.geometry.shapes import MeshShape
from basin.scene.document import parse_scene
from basin.scene.model import Scene, Source
from basin.settings import Curve, Key

Keeps = Literal["froude", "weber", "reynolds"]
TIMES: dict[str, float] = {"froude": 0.5, "weber": 1.5, "reynolds": 2.0}  # powers of the factor of size that they go by
LARGEST = 1e4  # factor of size


def powers(keeps: Keeps, alike: bool = False) -> dict[str, float]:
    """Powers of the factor of size that a number goes by, by its unit; others stay.

    If the liquid is to look `alike`, those of the liquid itself too: what pressures go by, and what keeps the Weber
    number.
    """
    time = TIMES[keeps]
    found = {"m": 1.0, "mm": 1.0, "m/s": 1.0 - time, "s": time, "1/s": -time, "l": 3.0, "l/s": 3.0 - time}
    return {**found, "Pa": 1.0, "N/m": 2.0} if alike else found


def lasting(action: float, seconds: float, keeps: Keeps = "froude") -> float:
    """The factor of size with which an action of some seconds lasts others."""
    if not (action > 0 and seconds > 0):
        raise ValueError("both times must be above nothing")
    factor = (seconds / action) ** (1 / TIMES[keeps])
    if not 1 / LARGEST <= factor <= LARGEST:
        raise ValueError(f"that would be {factor:.3g} times as large; at most {LARGEST:,.0f} times, or as many smaller")
    return factor


def rescaled(scene: Scene, factor: float, alike: bool = False, keeps: Keeps = "froude") -> Scene:
    """A scene `factor` times as large, with times and speeds as a number has them; frames go on to the same moment.

    Delivered units, gravity and the frame rate stay, and what the liquid is; unless it is to look `alike`, with another
    liquid, as it can where the Froude number is kept.
    """
    if alike and keeps != "froude":
        raise ValueError("a liquid that looks alike keeps all three numbers; choose the Froude number for it")
    document, longer = _scaled(scene, factor, powers(keeps, alike)), factor ** TIMES[keeps]
    time = scene.time
    frames = round((time.last - time.first) * longer)
    document["time"] = {**time.model_dump(mode="json"), "last": time.first + max(frames, 1)}
    document["deliveries"] = [d.model_dump(mode="json") for d in scene.deliveries]
    for part in ("sea", "wake", "sea_foam"):  # it is set by a wind, which is no liquid's
        document[part] = getattr(scene, part).model_dump(mode="json")
    if scene.liquid.thickens_with == "age":
        for point in document["liquid"]["thickenings"]:
            point["at"] = float(f"{point['at'] * longer:.9g}")
    for n, element in enumerate(scene.elements):
        made = document["elements"][n]
        if alike and isinstance(element, Source):
            made.update(_another(element, scene.liquid.density, factor))
        _resize(made, element, factor, _grown(scene, element.attached, factor))
        start = getattr(element, "start_frame", None)
        if start is not None:
            made["start_frame"] = time.first + round((start - time.first) * longer)
    for n, join in enumerate(scene.surface.joins):
        _resize(document["surface"]["joins"][n], join, factor, 1.0)
    return parse_scene(document)


def _another(source: Source, density: float, factor: float) -> dict[str, Any]:
    """Numbers of the liquid that looks like a source's where all is larger, in a scene of a density."""
    made = source.made_of(density)
    over = density / made.density  # a named liquid goes by its own
    # stress goes as lengths, and is viscosity * rate ^ index; rates go down as times go up
    powers = {"viscosity": 1.0 + 0.5 * made.flow_index, "yield_stress": 1.0, "surface_tension": 2.0}
    numbers = {name: float(f"{getattr(made, name) * over * factor**power:.9g}") for name, power in powers.items()}
    return {"liquid": "own numbers", "flow_index": made.flow_index, **numbers}


def _grown(scene: Scene, name: str | None, factor: float) -> float:
    """By how much an element's pose grows: a mesh has its size from its file, other shapes have theirs as numbers."""
    shape = next((getattr(e, "shape", None) for e in scene.elements if e.name == name), None)
    return factor if isinstance(shape, MeshShape) else 1.0


def _resize(made: dict[str, Any], part: Any, factor: float, within: float) -> None:
    """Set the pose of a scaled element in place; `within` is by how much what it is attached to has grown."""
    shape = getattr(part, "shape", None)
    own = 1.0
    if isinstance(shape, MeshShape):
        made["shape"], own = shape.model_dump(mode="json"), factor
    made["pose"]["translation"] = times(made["pose"]["translation"], 1 / within)
    made["pose"]["scale"] = times(made["pose"]["scale"], own / within)


def times(value: Any, factor: float) -> Any:
    """A number, vector or curve as a document has them, times a factor."""
    if isinstance(value, dict):
        keys = value["keys"]
        return {
            "keys": [{**k, "value": times(k["value"], factor), "slope": times(k.get("slope"), factor)} for k in keys]
        }
    if isinstance(value, list | tuple):
        return [times(v, factor) for v in value]
    return None if value is None else float(f"{value * factor:.9g}")


def _scaled(part: Any, factor: float, powers: dict[str, float], unit: str = "") -> Any:
    """A part as a document whose numbers go by the powers of their units."""
    power = powers.get(unit, 0.0)
    if isinstance(part, Curve):
        return {"keys": [_key(k, factor, power, powers["s"]) for k in part.keys]}
    if isinstance(part, BaseModel):
        made = {}
        for name, field in type(part).model_fields.items():
            extra = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
            told: Any = extra.get("zinc") or {}
            made[name] = _scaled(getattr(part, name), factor, powers, told.get("unit", ""))
        return made
    if isinstance(part, list | tuple):
        return [_scaled(one, factor, powers, unit) for one in part]
    if isinstance(part, float | int) and not isinstance(part, bool) and power:
        return float(f"{part * factor**power:.9g}")
    return part


def _key(key: Key, factor: float, power: float, time: float) -> dict[str, Any]:
    made = {"time": float(f"{key.time * factor**time:.9g}"), "value": key.value, "segment": key.segment}
    if power:
        made["value"] = times(key.value, factor**power)
    if key.slope is not None:
        made["slope"] = times(key.slope, factor ** (power - time))
    return made
