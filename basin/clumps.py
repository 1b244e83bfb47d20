"""Which particles hang together, and what of a liquid's small drops goes over from its surface to whitewater."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

NEAR = 1.25  # spacings: edge of the cells of which those with particles beside each other hang together
SOFT = 1.6  # times the radius up to which all of a drop goes over, none does
# half of a cell's neighbours; the others have it as theirs
HALF = [(a, b, c) for a in (-1, 0, 1) for b in (-1, 0, 1) for c in (-1, 0, 1) if (a, b, c) > (0, 0, 0)]


def clumps(position: np.ndarray, spacing: float) -> np.ndarray:
    """Number (n,) of the clump that each of some places (n, 3), m, is in; numbers are as many as there are clumps."""
    if not len(position):
        return np.zeros(0, np.int64)
    cell = np.floor(np.asarray(position, float) / (NEAR * spacing)).astype(np.int64)
    cell -= cell.min(axis=0) - 1
    size = cell.max(axis=0) + 2
    code, where = np.unique((cell[:, 0] * size[1] + cell[:, 1]) * size[2] + cell[:, 2], return_inverse=True)
    links = []
    for a, b, c in HALF:
        beside = code + (a * size[1] + b) * size[2] + c
        at = np.minimum(np.searchsorted(code, beside), len(code) - 1)
        one = np.flatnonzero(code[at] == beside)
        links.append(np.stack([one, at[one]]))
    one, other = np.concatenate(links, axis=1)
    graph = coo_matrix((np.ones(len(one), bool), (one, other)), shape=(len(code), len(code)))
    _, number = connected_components(graph, directed=False)
    return np.asarray(number[where], np.int64)


@dataclass(frozen=True)
class Handed:
    """What goes over.

    Attributes
    ----------
    share : float32 (n,), of each particle
    row : (m,), a particle of each drop of which anything does: that of its smallest id
    position, velocity : (m, 3), of each drop's middle, m and m/s; volume : (m,), m3, of what goes over
    """

    share: np.ndarray
    row: np.ndarray
    position: np.ndarray
    velocity: np.ndarray
    volume: np.ndarray


def handed(
    position: np.ndarray, velocity: np.ndarray, volume: np.ndarray, identity: np.ndarray, spacing: float, radius: float
) -> Handed:
    """Drops up to a radius, m: those of less all, of more than `SOFT` times it nothing, between softly by their size.

    Parameters
    ----------
    position, velocity : (n, 3), m and m/s; volume : (n,), m3; identity : (n,)
    spacing : of the liquid's particles, m
    """
    number = clumps(position, spacing)
    held = np.asarray(volume, float)
    whole = np.bincount(number, held)
    size = np.cbrt(3.0 / (4.0 * np.pi) * whole)
    t = np.clip((SOFT - size / radius) / (SOFT - 1.0), 0.0, 1.0)
    part = t * t * (3.0 - 2.0 * t)
    share = part[number].astype(np.float32)
    drops = np.flatnonzero(part > 0)
    order = np.lexsort((identity, number))
    first = order[np.searchsorted(number[order], drops)]
    weight = np.maximum(whole[drops], 1e-300)
    middle, flow = (
        np.stack([np.bincount(number, held * value[:, d], len(whole))[drops] / weight for d in range(3)], axis=1)
        for value in (position, velocity)
    )
    return Handed(share, first, middle, flow, part[drops] * whole[drops])
