"""Random numbers that depend on who asks and when, never on order or threads."""

from __future__ import annotations

import numpy as np

THINNED = 0x7417


def mixed(x: np.ndarray) -> np.ndarray:
    """SplitMix64 finaliser (Steele, Lea & Flood 2014), uint64 to uint64."""
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return np.asarray(x ^ (x >> np.uint64(31)))


def among(identity: np.ndarray, share: float) -> np.ndarray:
    """Whether each of some is among a share of all, bool (n,): those of a smaller share are among those of a larger."""
    return uniform(identity, THINNED, 1)[:, 0] < share


def uniform(identity: np.ndarray, epoch: int, count: int) -> np.ndarray:
    """Float32 (n, count) in [0, 1), from each identity, the epoch and the column."""
    golden = 0x9E3779B97F4A7C15
    base = mixed(np.asarray(identity, np.uint64) * np.uint64(golden) + np.uint64((epoch * 0xD1342543DE82EF95) % 2**64))
    columns = (np.arange(1, count + 1, dtype=np.uint64) * np.uint64(golden))[None, :]
    bits = mixed(base[:, None] + columns)
    return ((bits >> np.uint64(40)).astype(np.float32) * np.float32(2.0**-24)).astype(np.float32)
