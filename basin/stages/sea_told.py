"""What a scene's sea is, for who sets it: its numbers, its spectrum as a curve, and seas to begin with."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

from basin.scene import Scene
from basin.sea.numbers import BEAUFORT, Numbers, curve, numbers
from basin.sea.settings import beaufort
from basin.stages.keys import digest
from basin.stages.sea_stage import sea_of

ENOUGH = 120  # points of a curve
KEPT = 16
MOST = 1024  # points along a patch that are looked at while settings change

_told: OrderedDict[str, SeaTold] = OrderedDict()


@dataclass(frozen=True)
class Preset:
    """A sea in one click: what it is called, what its height and period are by a published table, and its settings."""

    name: str
    height: float
    period: float
    wind: float


@dataclass(frozen=True)
class SeaTold:
    """Of a sea.

    Attributes
    ----------
    numbers : what is asked for, held, measured
    length, energy : m, from long to short; share of the variance in a tenfold of lengths, per decade
    presets : seas by Beaufort's force
    """

    numbers: Numbers
    length: list[float]
    energy: list[float]
    presets: list[Preset]


def presets() -> list[Preset]:
    """Seas by Beaufort's force, fully grown: heights of WMO's table, periods of Pierson & Moskowitz at that height."""
    found = []
    for force, height, word in BEAUFORT[1:11]:
        # Hs = 0.2203 U^2 / g and Tp = 7.163 U / g by the same spectrum, so Tp = 15.26 sqrt(Hs / g) = 4.87 sqrt(Hs)
        found.append(
            Preset(f"{force} {word}", height, round(15.26 * (height / 9.81) ** 0.5, 2), round(beaufort(force), 1))
        )
    return found


def sea_told(scene: Scene, quality: str) -> SeaTold:
    """Of a scene's sea at a quality; the same again from what is kept."""
    key = digest([scene.sea.model_dump(), scene.time.model_dump(), scene.quality.factor(quality)])
    if key in _told:
        _told.move_to_end(key)
        return _told[key]
    sea = sea_of(scene, quality, MOST)
    spectrum = sea.spectrum(scene.time.first)
    k, density = curve(spectrum)
    total = max(float(np.trapezoid(density, k)), 1e-30)
    some = np.linspace(0, len(k) - 1, ENOUGH).astype(int)
    per_decade = density * k * np.log(10.0) / total
    told = SeaTold(
        numbers(sea, scene.time.first, scene.time.last),
        [float(v) for v in 2 * np.pi / k[some]],
        [round(float(v), 5) for v in per_decade[some]],
        presets(),
    )
    _told[key] = told
    while len(_told) > KEPT:
        _told.popitem(last=False)
    return told
