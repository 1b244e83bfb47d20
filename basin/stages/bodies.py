"""What liquid looks like where nothing else is asked for: its body's colour, and how much its surface mirrors.

A colour that a source was given comes first; then that of its named liquid: what scatters light as it is seen, what
absorbs it by Beer's law over the way through two fingers' breadth and back. Clear liquids, and those without a
name, have the colour of water in the open.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from basin.exchange.light import encoded
from basin.scene import Scene
from basin.scene.liquids import LIQUIDS, Colour
from basin.scene.model import WATER, Source

WAY = 0.04  # m that light goes through what it colours
GROUND = 0.8  # what is behind it, and comes back
CLEAR = 2.0  # per metre: what absorbs less is as water is
INDEX = 1.45  # refractive index of what has none: of organic liquids, in the mean


def mirrored(index: float) -> float:
    """Share of light that comes straight onto a surface and is thrown back, by the refractive index (Fresnel)."""
    return ((index - 1) / (index + 1)) ** 2


@dataclass(frozen=True)
class Bodies:
    """What liquids look like, by the number of the source that they came from.

    Attributes
    ----------
    light : (k, 3), linear red, green and blue
    mirrors : (k,), share of light from straight above that the surface throws back
    own : (k,), whether the colour is the one that the liquid carries
    """

    light: np.ndarray
    mirrors: np.ndarray
    own: np.ndarray

    def coded(self, data: Mapping[str, np.ndarray]) -> np.ndarray:
        """Bytes (n, 4) of the vertices of a surface frame: colour as a screen has it, and what is mirrored."""
        source = np.minimum(data["source"].astype(np.int64), len(self.own) - 1)
        light = self.light[source]
        if "colour" in data:  # which is blended where liquids meet
            light = np.where(self.own[source, None], data["colour"], light)
        seen = np.column_stack([encoded(np.clip(light, 0, 1)), self.mirrors[source]])
        return np.asarray(np.round(255 * seen), np.uint8)


def bodies(scene: Scene) -> Bodies:
    """How the liquids of a scene look; what is no source looks like water."""
    found = [_body(element) for element in scene.elements] or [_body(None)]
    light, mirrors, own = zip(*found, strict=True)
    return Bodies(np.array(light, float), np.array(mirrors, float), np.array(own, bool))


def _body(element: object) -> tuple[Colour, float, bool]:
    """Colour, mirrored share, and whether the colour is carried, of an element's liquid."""
    source = element if isinstance(element, Source) else Source(name="plain")
    named = LIQUIDS.get(source.liquid, LIQUIDS["water 20 C"])
    mirrors = named.mirrors or mirrored(named.refractive_index or INDEX)
    if source.painted():
        return source.colour, mirrors, True
    if named.seen is not None:
        return named.seen, mirrors, False
    if named.absorption is None or max(named.absorption) < CLEAR:
        return WATER, mirrors, False
    red, green, blue = (GROUND * float(np.exp(-a * WAY)) for a in named.absorption)
    return (red, green, blue), mirrors, False
