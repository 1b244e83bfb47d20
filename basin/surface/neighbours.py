"""Particles sorted into cells, so that those about a point are found in rows."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit


@dataclass(frozen=True)
class Binned:
    """Particles sorted by cells as wide as a radius.

    Attributes
    ----------
    position : float64 (n, 3) in the order of the cells, and order : int64 (n,), where each was before
    keys : int64 (n,), numbers of their cells, ascending
    low : float64 (3,), corner of the first cell; shape : int64 (3,), cells along each axis; radius : their width
    """

    position: np.ndarray
    order: np.ndarray
    keys: np.ndarray
    low: np.ndarray
    shape: np.ndarray
    radius: float


def binned(position: np.ndarray, radius: float) -> Binned:
    """Sort positions (n, 3), n > 0, into cells."""
    place = np.asarray(position, np.float64)
    low = place.min(axis=0)
    shape = ((place.max(axis=0) - low) / radius).astype(np.int64) + 1
    cell = ((place - low) / radius).astype(np.int64)
    keys = (cell[:, 0] * shape[1] + cell[:, 1]) * shape[2] + cell[:, 2]
    order = np.argsort(keys, kind="stable")
    return Binned(place[order], order, keys[order], low, shape, radius)


@njit(cache=True)
def first_not_below(keys: np.ndarray, key: int) -> int:
    """Index of the first of ascending keys that is not below a key."""
    low, high = 0, keys.shape[0]
    while low < high:
        middle = (low + high) >> 1
        if keys[middle] < key:
            low = middle + 1
        else:
            high = middle
    return low
