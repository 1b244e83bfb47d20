"""What is born of trapped air: how many, where, when and how fast, by chance that depends on nothing but who asks.

Places as Ihmsen, Akinci, Akinci & Teschner 2012, section 3.3, have them: even over a cylinder about the way of a
particle of the liquid, as wide as that. How many is a number of chance whose mean is exact: amounts can be asked for.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from basin.randomness import uniform
from basin.whitewater.potentials import chosen

MOST_OF_ONE = 2**20  # births of a liquid particle in a frame


@dataclass(frozen=True)
class Wanted:
    """A potential's part in births: nothing of its `share` up to one value, all of it from another on."""

    low: float
    high: float
    share: float = 1.0


@dataclass(frozen=True)
class Newborn:
    """What is born in a frame.

    Attributes
    ----------
    position, velocity : (n, 3), m and m/s, at the moment of birth
    moment : (n,) in [0, 1), share of the frame that had gone by then
    parent : int64 (n,), row of the liquid's particle that it is born of
    """

    position: np.ndarray
    velocity: np.ndarray
    moment: np.ndarray
    parent: np.ndarray

    def __len__(self) -> int:
        return len(self.parent)


def readiness(potentials: Mapping[str, np.ndarray], wanted: Mapping[str, Wanted], energy: Wanted) -> np.ndarray:
    """How ready particles of the liquid are to give birth, float64 (n,): the sum of potentials' parts, times energy's.

    Ihmsen et al. 2012, eq. 8, without its time.

    Raises
    ------
    ValueError
        If a range is upside down.
    """
    total = np.zeros(len(potentials["energy"]))
    for name, part in wanted.items():
        total += part.share * chosen(np.asarray(potentials[name], float), part.low, part.high)
    return total * energy.share * chosen(np.asarray(potentials["energy"], float), energy.low, energy.high)


def born(
    expected: np.ndarray,
    position: np.ndarray,
    velocity: np.ndarray,
    radius: np.ndarray,
    identity: np.ndarray,
    frame: int,
    seconds: float,
) -> Newborn:
    """Births of a frame, in the order of their parents.

    Parameters
    ----------
    expected : (n,), how many each particle of the liquid has in this frame in the mean
    position, velocity : (n, 3), of these at the frame's end, m and m/s
    radius : (n,), of their balls, m; identity : their ids; frame, seconds : its number and length
    """
    count = np.floor(np.minimum(expected, MOST_OF_ONE - 1) + uniform(identity, frame, 1)[:, 0]).astype(np.int64)
    parent = np.repeat(np.arange(len(count)), count)
    nth = np.arange(len(parent)) - np.repeat(np.cumsum(count) - count, count)
    own = np.asarray(identity, np.uint64)[parent] * np.uint64(MOST_OF_ONE) + nth.astype(np.uint64)
    chance = uniform(own, frame, 3).astype(float)
    way = np.asarray(velocity, float)[parent]
    across, beside = _square_to(way)
    far = np.asarray(radius, float)[parent] * np.sqrt(chance[:, 0])
    turn = 2 * np.pi * chance[:, 1]
    off = far[:, None] * (np.cos(turn)[:, None] * across + np.sin(turn)[:, None] * beside)
    moment = chance[:, 2]
    place = np.asarray(position, float)[parent] - ((1.0 - moment) * seconds)[:, None] * way + off
    return Newborn(place, way, moment, parent)


def _square_to(way: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit vectors (n, 3) square to each way and to each other; any two if it is none."""
    length = np.linalg.norm(way, axis=1, keepdims=True)
    along = np.where(length > 0, way / np.maximum(length, 1e-300), [0.0, 0.0, 1.0])
    least = np.eye(3)[np.abs(along).argmin(axis=1)]
    across = np.cross(along, least)
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    return across, np.cross(along, across)


def rate_for_all(ready: Sequence[float], seconds: float, asked: float) -> float:
    """Births a second of the readiest particle that make so many in a shot.

    Parameters
    ----------
    ready : sum of `readiness` in each frame; seconds : length of a frame

    Raises
    ------
    ValueError
        If nothing in the shot is ready.
    """
    return asked / (_some(ready) * seconds)


def rate_for_fullest(ready: Sequence[float], seconds: float, life: float, asked: float) -> float:
    """The same for so many at the fullest frame, where each lives so long in the mean, by chance."""
    _some(ready)
    alive = fullest = 0.0
    kept = np.exp(-seconds / life)
    # those born through a frame are half of one old at its end, in the mean: (1 - kept) life / seconds of them are left
    fresh = (1.0 - kept) * life / seconds
    for each in ready:
        alive = alive * kept + each * seconds * fresh
        fullest = max(fullest, alive)
    return float(asked / fullest)


def _some(ready: Sequence[float]) -> float:
    total = float(np.sum(ready))
    if total <= 0:
        raise ValueError("nothing in this shot is within the ranges, so no amount can be reached; widen them")
    return total
