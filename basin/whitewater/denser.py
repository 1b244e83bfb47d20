"""More points than were simulated, between those that are near each other: for delivery, never for the simulation.

So many that they lie a spacing apart: what a point has for itself, its share of the volume (of foam, which lies in a
sheet, of the area) by the nearest of its kind and layer, is filled with one for each spacing to the third (square).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from basin.randomness import mixed, uniform
from basin.whitewater.life import FOAM

NEAREST = 12  # of a point, between which and it others are put
ASIDE = 0.35  # of the way between two, by which what is put between them may lie beside it
EPOCH = 0xDE45E
OURS = np.uint64(1 << 62)  # ids of what is put between others have it, those of what lived have not


@dataclass(frozen=True)
class Links:
    """Between which points others are put.

    Attributes
    ----------
    one, other : (m,) rows
    name : uint64 (m,), of the two, whatever their rows
    count : int64 (m,), how many
    """

    one: np.ndarray
    other: np.ndarray
    name: np.ndarray
    count: np.ndarray

    def total(self) -> int:
        """How many are put between in all."""
        return int(self.count.sum())


def links(data: Mapping[str, np.ndarray], spacing: float, reach: float) -> Links:
    """Where others are put, so that they lie `spacing` apart, between those nearer than `reach` to each other, m."""
    found = []
    group = data["kind"].astype(np.int64) * 256 + data["layer"]
    for value in np.unique(group):
        rows = np.flatnonzero(group == value)
        if len(rows) > 1:
            across = 2 if value // 256 == FOAM else 3
            found.append(_links(data, rows, spacing, reach, across))
    if not found:
        none = np.zeros(0, np.int64)
        return Links(none, none, none.astype(np.uint64), none)
    return Links(*(np.concatenate(parts) for parts in zip(*found, strict=True)))


def _links(
    data: Mapping[str, np.ndarray], rows: np.ndarray, spacing: float, reach: float, across: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
    """`links` of one kind and layer, in so many dimensions."""
    place = data["position"][rows].astype(float)
    tree = cKDTree(place)
    far, near = tree.query(place, k=min(NEAREST, len(rows) - 1) + 1, distance_upper_bound=reach)
    far, near = far[:, 1:], near[:, 1:]
    there = np.isfinite(far)
    count = there.sum(axis=1)
    ball = np.pi if across == 2 else 4.0 / 3.0 * np.pi
    # of the ball about it up to the last of the nearest, its part: without bias where they lie by chance
    wide = np.where(count == NEAREST, far[:, -1] if far.shape[1] else 0.0, reach)
    own = np.where(count == NEAREST, ball * wide**across / NEAREST, ball * wide**across / (count + 1))
    more = np.maximum(own / spacing**across - 1.0, 0.0)
    weight = np.where(there, (1.0 - np.where(there, far, 0.0) / reach) ** 2, 0.0)
    part = more[:, None] * weight / np.maximum(weight.sum(axis=1, keepdims=True), 1e-30)
    a, column = np.nonzero(there)
    b = near[a, column]
    low, high = np.minimum(rows[a], rows[b]), np.maximum(rows[a], rows[b])
    pair, at = np.unique(low * np.int64(len(data["id"])) + high, return_inverse=True)
    wanted = np.bincount(at, part[a, column], len(pair))
    away = np.zeros(len(pair))
    away[at] = far[a, column]
    # no more than the ball between the two holds, or a lone pair would become a rod
    wanted = np.minimum(wanted, (np.pi / 4 if across == 2 else np.pi / 6) * (away / spacing) ** across)
    one, other = pair // len(data["id"]), pair % len(data["id"])
    ids = np.sort(np.stack([data["id"][one], data["id"][other]]).astype(np.uint64), axis=0)
    name = mixed(ids[0] * np.uint64(0x9E3779B97F4A7C15) + mixed(ids[1]))
    number = np.floor(wanted + uniform(name, EPOCH, 1)[:, 0]).astype(np.int64)
    some = number > 0
    return one[some], other[some], name[some], number[some]


def denser(data: Mapping[str, np.ndarray], spacing: float, reach: float) -> dict[str, np.ndarray]:
    """A frame's whitewater, then what is put between it: with velocities, radii and all else between those of the two
    beside it, and an id of its own that lasts as long as both are near each other.

    Parameters
    ----------
    data : arrays (n, ...), with position, id, kind and layer; spacing, reach : see `links`
    """
    made = links(data, spacing, reach)
    row = np.repeat(np.arange(len(made.one)), made.count)
    nth = np.arange(len(row)) - np.repeat(np.cumsum(made.count) - made.count, made.count)
    name = mixed(made.name[row] + nth.astype(np.uint64) * np.uint64(0xD1342543DE82EF95))
    chance = uniform(name, EPOCH, 4).astype(float)
    # the one of the smaller id first, so that places last whatever the rows
    turned = data["id"][made.one] > data["id"][made.other]
    one = np.where(turned, made.other, made.one)[row]
    other = np.where(turned, made.one, made.other)[row]
    share = chance[:, 0]
    found: dict[str, np.ndarray] = {}
    for key, value in data.items():
        if value.ndim == 0 or not np.issubdtype(value.dtype, np.floating):
            found[key] = value if value.ndim == 0 else np.concatenate([value, value[one]])
            continue
        t = share.reshape(-1, *[1] * (value.ndim - 1))
        between = value[one] * (1 - t) + value[other] * t
        found[key] = np.concatenate([value, between.astype(value.dtype)])
    begin, end = data["position"][one].astype(float), data["position"][other].astype(float)
    flat = data["kind"][one] == FOAM
    away = np.linalg.norm(end - begin, axis=1)
    aside = (2 * chance[:, 1:] - 1) * (ASIDE * away)[:, None]
    aside[flat] = 0.0  # foam would leave the surface
    found["position"][len(data["id"]) :] += aside.astype(np.float32)
    found["id"] = np.concatenate([data["id"], ((name >> np.uint64(2)) | OURS).astype(np.int64)])
    return found
