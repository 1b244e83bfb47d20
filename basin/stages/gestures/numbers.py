"""The numbers behind the look of a source's liquid, taken from what the source does."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.scene import Collider, Inflow, Scene, SceneError
from basin.scene.model import Fill, Source, Substance
from basin.settings import value_at
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.gestures.flight import as_thick, falls, flight
from basin.stages.regime import Regime, clinging, regime


@dataclass(frozen=True)
class Taken:
    """A length (m), a speed (m/s of liquid time), what they are of, and how far a stream has fallen (m) by then.

    `age` is how long it is there then, in shot seconds.
    """

    length: float
    speed: float
    of: str
    fall: float | None = None
    age: float = 0.0


def numbers(
    scene: Scene,
    files: SceneFiles,
    index: int,
    quality: str,
    length: float | None = None,
    speed: float | None = None,
) -> Regime:
    """What decides the look of a source's liquid; of what it does itself where no length or speed is given.

    Parameters
    ----------
    length : m
    speed : m per shot second, as it is seen

    Raises
    ------
    SceneError
        If the element is no source, or nothing tells how large or fast its liquid is.
    """
    source = scene.elements[index] if index < len(scene.elements) else None
    if not isinstance(source, Source):
        raise SceneError(["that is no fill and no inflow; pick one whose liquid it is"])
    down = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    taken = None
    if length is None or speed is None:
        found = _of_stream if isinstance(source, Inflow) else _of_fill
        taken = found(scene, files, index, quality)
    if taken is None:
        if length is None or speed is None:
            raise SceneError(["nothing tells how large and how fast it is; say both"])
        taken = Taken(length, speed / scene.time.time_scale, "")
    elif length is not None or speed is not None:
        given = taken.speed if speed is None else speed / scene.time.time_scale
        taken = Taken(taken.length if length is None else length, given, "", taken.fall, taken.age)
    made = as_thick(source, scene, taken.age)
    told = regime(made, taken.length, taken.speed, down, scene.voxel_size(quality), taken.fall)
    says = [*told.says, *_holds(scene, made)]
    return Regime(told.length, told.speed * scene.time.time_scale, told.numbers, says, taken.of)


def _holds(scene: Scene, made: Substance) -> list[str]:
    """How strongly a liquid holds to each collider."""
    if made.surface_tension == 0:
        return []
    return [clinging(made, e.contact_angle, e.name) for e in scene.of_kind(Collider)][:MOST_TOLD]


def _of_stream(scene: Scene, files: SceneFiles, index: int, quality: str) -> Taken | None:
    """Width and speed of an inflow's stream where it lands."""
    way = flight(scene, files, index, quality)
    if way is None or way.speed <= 0:
        return None
    fall = max(way.path[0][1] - way.path[-1][1], 0.0)
    where = f"its stream where it meets {way.met}" if way.met else "its stream where it leaves the domain"
    return Taken(way.width, way.speed / scene.time.time_scale, where, fall, way.times[-1])


def _of_fill(scene: Scene, files: SceneFiles, index: int, quality: str) -> Taken | None:
    """How small a fill is, and how fast when it meets something; one that lies as fast as a wave as high."""
    element = scene.elements[index]
    assert isinstance(element, Fill)
    mesh = element_mesh(element, files)
    if mesh is None or not len(mesh.position):
        return None
    placed = mesh.transformed(scene.placement(element).matrix(0.0)).position
    size = float((placed.max(axis=0) - placed.min(axis=0)).min())
    down = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    speed, met = falls(scene, files, index, placed, quality)
    if met and speed**2 > 2 * RESTS * down * size:
        return Taken(size, speed, f"all of it when it meets {met}")
    return (
        Taken(size, float(np.sqrt(down * size)) or speed, "all of it, as it lies, and a wave as high") if size else None
    )


MOST_TOLD = 4  # colliders
RESTS = 0.2  # of its size: what falls no farther lies
