"""Rain: how many drops of which sizes fall, and which of them splash."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from basin.whitewater.laws import Fluids, terminal

NUMBER = 8e6  # drops per m3 and m of diameter, at none (Marshall & Palmer 1948, "The distribution of raindrops with
STEEP, POWER = 4100.0, -0.21  # size"): so many per m, by mm/h to this power
SIZES = np.linspace(1e-4, 6e-3, 600)  # m: smaller ones are drizzle that hardly splashes, larger ones break
SPLASHES = 57.7  # Mundo, Sommerfeld & Tropea 1995: We^(1/2) Re^(1/4) from which a drop throws others


@dataclass(frozen=True)
class Rain:
    """What falls.

    Attributes
    ----------
    flux : drops per m2 and s
    depth : m/s of water
    reached : (m,) share of the drops that arrive which are smaller than `SIZES`
    speed : (m,), m/s, of these
    """

    flux: float
    depth: float
    reached: np.ndarray
    speed: np.ndarray

    def drops(self, chance: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Diameters (n,), m, and speeds (n,), m/s, of drops that arrive, from chance (n,) in [0, 1)."""
        size = np.interp(chance, self.reached, SIZES)
        return size, np.interp(size, SIZES, self.speed)


@lru_cache(maxsize=32)
def rain(rate: float, fluids: Fluids) -> Rain:
    """Rain of a rate, mm/h, of a liquid's drops."""
    row = fluids.row()
    speed = np.array([terminal(False, size, row) for size in SIZES])
    number = NUMBER * np.exp(-STEEP * rate**POWER * SIZES)
    arrive = number * speed * (SIZES[1] - SIZES[0])
    flux = float(arrive.sum())
    depth = float((arrive * np.pi / 6 * SIZES**3).sum())
    return Rain(flux, depth, (np.cumsum(arrive) - 0.5 * arrive) / flux, speed)


def splashing(speed: np.ndarray, size: np.ndarray, fluids: Fluids) -> np.ndarray:
    """Whether drops (n,) so large, m, that arrive so fast, m/s, throw others, bool (n,)."""
    weber = fluids.density * speed**2 * size / max(fluids.tension, 1e-12)
    reynolds = fluids.density * speed * size / max(fluids.viscosity, 1e-12)
    return np.asarray(np.sqrt(weber) * reynolds**0.25 > SPLASHES)
