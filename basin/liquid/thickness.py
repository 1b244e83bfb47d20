"""How thick liquid is at a moment: what its viscosities and yield stresses are multiplied by, over shot time and by age
or mark.

Between two points the factor goes on evenly by its logarithm, as viscosity does where it follows a temperature
(Arrhenius); before the first and after the last it stays.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from basin.liquid.band import MadeOf
from basin.liquid.carried import Carried
from basin.liquid.particles import Particles
from basin.liquid.settings import Thickening
from basin.settings import Curve, value_at


@dataclass(frozen=True)
class Thickness:
    """Factors of viscosity and yield stress.

    Attributes
    ----------
    keys : the same for all liquid, or its keys over shot time
    by : what else it goes by: nothing, age in shot seconds, or mark
    points : what the factor is at which of them
    """

    keys: float | Curve = 1.0
    by: Literal["nothing", "age", "mark"] = "nothing"
    points: list[Thickening] = field(default_factory=list)

    def of(self, what: Particles | MadeOf, carried: Carried, shot_time: float, time_scale: float) -> np.ndarray:
        """Factors, one or (n,), of particles or of what tiles are made of."""
        if self.by == "nothing":
            return self.at(shot_time, np.float32(0.0))
        if self.by == "age":
            return self.at(shot_time, np.float32(shot_time) - what.born / np.float32(time_scale))
        return self.at(shot_time, what.carried[:, carried.at("mark").start])

    def at(self, shot_time: float, goes_by: np.ndarray | np.float32) -> np.ndarray:
        """Factors at a moment of ages or marks, one or (n,)."""
        factor = np.float32(max(float(value_at(self.keys, shot_time)[0]), 0.0))
        if self.by == "nothing" or not self.points:
            return np.asarray(factor)
        points = sorted(self.points, key=lambda point: point.at)
        logarithm = np.interp(goes_by, [p.at for p in points], [np.log(p.times) for p in points])
        return np.asarray(factor * np.exp(logarithm), np.float32)
