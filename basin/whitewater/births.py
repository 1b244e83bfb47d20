"""What is born of trapped air: how many, where, when and how fast, by chance that depends on nothing but who asks.

Places as Ihmsen, Akinci, Akinci & Teschner 2012, section 3.3, have them: even over a cylinder about the way of a
particle of the liquid, as wide as that. How many is a number of chance whose mean is exact: amounts can be asked for.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from basin.randomness import uniform
from basin.whitewater.laws import bubble_radii, drop_radii
from basin.whitewater.life import BUBBLE, FOAM, LANDS, SPRAY, SUNK, Whitewater
from basin.whitewater.potentials import NAMES, chosen
from basin.whitewater.settings import Layer

MOST_OF_ONE = 2**20  # births of a liquid particle in a frame
SKIN = 0.5  # voxels above the surface up to which what is born lies on it
LEAST_RADIUS = 2e-5  # m, of drops: smaller ones hang in the air as mist
CREST = NAMES.index("crest")
APART = 50_021  # from the epoch of places: what is born must not go by where and when it is
Depth = Callable[[np.ndarray], np.ndarray]


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
    identity : uint64 (n,), of its own, for chance
    """

    position: np.ndarray
    velocity: np.ndarray
    moment: np.ndarray
    parent: np.ndarray
    identity: np.ndarray

    def __len__(self) -> int:
        return len(self.parent)


def readiness(potentials: Mapping[str, np.ndarray], wanted: Mapping[str, Wanted], energy: Wanted) -> np.ndarray:
    """How ready particles of the liquid are to give birth, float64 (parts, n): each potential's part, times energy's.

    Ihmsen et al. 2012, eq. 8, without its time; they add up.

    Raises
    ------
    ValueError
        If a range is upside down.
    """
    stirred = energy.share * chosen(np.asarray(potentials["energy"], float), energy.low, energy.high)
    parts = [w.share * chosen(np.asarray(potentials[name], float), w.low, w.high) for name, w in wanted.items()]
    return np.array(parts).reshape(len(wanted), -1) * stirred


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
    return Newborn(place, way, moment, parent, own)


def _square_to(way: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit vectors (n, 3) square to each way and to each other; any two if it is none."""
    length = np.linalg.norm(way, axis=1, keepdims=True)
    along = np.where(length > 0, way / np.maximum(length, 1e-300), [0.0, 0.0, 1.0])
    least = np.eye(3)[np.abs(along).argmin(axis=1)]
    across = np.cross(along, least)
    across /= np.linalg.norm(across, axis=1, keepdims=True)
    return across, np.cross(along, across)


def whitewater(
    found: Newborn,
    parts: np.ndarray,
    sources: Sequence[int],
    layer: Layer,
    epoch: int,
    depth: Depth,
    flies: np.ndarray | None = None,
) -> Whitewater:
    """What is born, as whitewater of a layer's sizes: above the liquid and of crests it is spray, amid it a bubble.

    Parameters
    ----------
    parts : (k, n), readiness of all of the liquid's particles; sources : (k,), which source each part is
    depth : voxels that places (n, 3) lie under the surface
    flies : bool (n,), what is spray wherever it is; nothing else
    """
    chance = uniform(found.identity, epoch + APART, 5).astype(float)
    share = parts[:, found.parent]
    which = (np.cumsum(share, axis=0) < chance[:, 0] * share.sum(axis=0)).sum(axis=0)
    source = np.asarray(sources, np.uint8)[np.minimum(which, len(sources) - 1)]
    deep = depth(found.position)
    kind = np.where(deep > LANDS, BUBBLE, np.where(deep < -SKIN, SPRAY, FOAM))
    kind[(source == CREST) & (deep < SUNK)] = SPRAY
    if flies is not None:
        kind[flies] = SPRAY
    drop = drop_radii(chance[:, 1], layer.drop_radius * 1e-3, layer.drop_order)
    bubble = bubble_radii(chance[:, 1], layer.hinze * 1e-3, layer.bubble_least * 1e-3, layer.bubble_most * 1e-3)
    radius = np.where(kind == SPRAY, np.maximum(drop, LEAST_RADIUS), bubble)
    speed = np.linalg.norm(found.velocity, axis=1)
    height, turn = 2 * chance[:, 2] - 1, 2 * np.pi * chance[:, 3]
    flat = np.sqrt(1 - height**2)
    aside = np.stack([flat * np.cos(turn), height, flat * np.sin(turn)], axis=1) * np.cbrt(chance[:, 4])[:, None]
    velocity = found.velocity + (layer.scatter * speed * (kind == SPRAY))[:, None] * aside
    count, zero = len(found), np.zeros(len(found), np.float32)
    return Whitewater(
        found.position.astype(np.float32),
        velocity.astype(np.float32),
        np.zeros(count, np.int64),
        source,
        radius.astype(np.float32),
        zero,
        zero.copy(),
        zero.copy(),
        kind.astype(np.uint8),
        np.zeros(count, np.uint8),
        np.full((count, 3), np.nan, np.float32),
        found.moment.astype(np.float32),
    )


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
    total = float(np.sum(ready))
    if total <= 0:
        raise ValueError("nothing in this shot is within the ranges, so no amount can be reached; widen them")
    return asked / (total * seconds)
