"""Where the attributes that particles carry along come from in a scene: a row for each, or for several together.

`basin.attributes` says what becomes of them from there on.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from basin.attributes import ATTRIBUTES
from basin.liquid import texture
from basin.liquid.carried import Carried
from basin.liquid.paint import Birth, Gradient, Picture
from basin.liquid.sources import Given
from basin.scene import Fill, Inflow, Scene
from basin.scene.model import Source, Substance
from basin.stages.files import SceneFiles, element_mesh

Values = Callable[[np.ndarray, np.ndarray, float], np.ndarray]
GivenBy = Callable[["Fill | Inflow", Scene, SceneFiles], "Values | None"]
DigestOf = Callable[["Fill | Inflow", Scene, SceneFiles], Any]


def _no_value(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> None:
    return None


@dataclass(frozen=True)
class Carrying:
    """Attributes that liquid carries from its source.

    Attributes
    ----------
    word : tells in keys that frames hold it
    names : of the attributes
    wanted : whether a scene's liquid carries them
    given : what gives their values (n, w) at points (n, 3) of a source's own frame, for ids (n,), at a shot second;
        None where the liquid itself does
    depends : what those values depend on, for keys
    """

    word: str
    names: tuple[str, ...]
    wanted: Callable[[Scene], bool]
    given: GivenBy = _no_value
    depends: DigestOf = _no_value


def birth_span(element: Fill | Inflow, scene: Scene) -> tuple[float, float]:
    """Shot seconds from and until which a source gives liquid; for ever is until the shot's end."""
    if isinstance(element, Fill):
        return 0.0, float("inf")
    return element.start, min(element.until(), scene.time.shot_time(scene.time.last))


def _painted(scene: Scene) -> bool:
    by_mark = scene.liquid.thickens_with == "mark"
    return by_mark or any(source.painted() for source in scene.of_kind(Source))


def _paint(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Values:
    ends = np.array([[*element.colour, element.mark], [*element.colour_to, element.mark_to]])
    mesh = element_mesh(element, files)
    assert mesh is not None
    picture = None
    if isinstance(element.paint, Picture):
        pictures = files.pictures(element.paint)

        def picture(time: float) -> np.ndarray:
            return pictures.at_frame(scene.time.first + time * scene.time.fps)

    return Birth(element.paint, ends, *mesh.bounds(), *birth_span(element, scene), picture).at


def _of_paint(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Any:
    own = [element.paint.model_dump(), element.colour, element.colour_to, element.mark, element.mark_to]
    if isinstance(element.paint, Picture):
        own.append([files.pictures_digest(element.paint), scene.time.first, scene.time.fps])
    if isinstance(element.paint, Gradient) and element.paint.along == "time":
        own.append(list(birth_span(element, scene)))
    return own


def _made_of(element: Source, scene: Scene) -> Substance:
    return element.made_of(scene.liquid.density)


def _substances(scene: Scene) -> list[Substance]:
    return [_made_of(source, scene) for source in scene.of_kind(Source)]


def _viscous(scene: Scene) -> bool:
    return any(made.viscosity > 0 or made.yield_stress > 0 for made in _substances(scene))


def _yields(scene: Scene) -> bool:
    """Whether the viscosity of any liquid depends on how fast it is sheared."""
    return _viscous(scene) and any(made.yield_stress > 0 or made.flow_index != 1 for made in _substances(scene))


def _tense(scene: Scene) -> bool:
    return any(made.surface_tension > 0 for made in _substances(scene))


def _constant(*names: str) -> tuple[GivenBy, DigestOf]:
    """What gives a source's liquid numbers of its substance, and what a key has of them."""

    def numbers(element: Fill | Inflow, scene: Scene) -> list[float]:
        made = _made_of(element, scene)
        return [getattr(made, name) / (made.density if ATTRIBUTES[name].per_density else 1.0) for name in names]

    def given(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Values:
        own = numbers(element, scene)
        return lambda points, number, time: np.tile(own, (len(points), 1))

    def digest(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Any:
        return [names[0], *numbers(element, scene)]

    return given, digest


CARRYING = [
    Carrying("painted", ("colour", "mark"), _painted, _paint, _of_paint),
    Carrying("viscous", ("viscosity",), _viscous, *_constant("viscosity")),
    Carrying("yielding", ("yield_stress", "flow_index"), _yields, *_constant("yield_stress", "flow_index")),
    Carrying("tense", ("surface_tension",), _tense, *_constant("surface_tension")),
    Carrying("", texture.NAMES, lambda scene: scene.liquid.texture_clock > 0),  # its clock is a setting of the liquid
]


def carried_by(scene: Scene) -> Carried:
    """Columns of what a scene's particles carry."""
    return Carried(tuple(name for row in CARRYING if row.wanted(scene) for name in row.names))


def given_by(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> Given:
    """What gives a source's liquid its values."""
    made = {row.names: row.given(element, scene, files) for row in CARRYING if row.wanted(scene)}
    return {names: values for names, values in made.items() if values is not None}


def words(scene: Scene) -> dict[str, bool]:
    """What frames hold, for keys: before the first source pours too."""
    return {row.word: True for row in CARRYING if row.word and row.wanted(scene)}


def depends(element: Fill | Inflow, scene: Scene, files: SceneFiles) -> list[Any]:
    """What a source's part of keys says of what its liquid carries."""
    return [row.depends(element, scene, files) for row in CARRYING if row.word and row.wanted(scene)]
