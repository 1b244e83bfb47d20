"""Foam of a sea: born where crests break, fresh at first, then lace, adrift with waves and wind.

It lies on a patch in places that go along with its drift, so drifting blurs nothing; births are looked up where these
places are at the moment. The displacement of a linear sea has no drift of its own; that of Stokes is added.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.kernels import kernel, shared
from basin.sea.dispersion import Water

COVERED = 0.5  # of foam: from there the sea counts as covered
SOFT = 0.15  # of the Jacobian: below the threshold by so much it is born as fast as it can be
BORN = 8.0  # 1/s, there
HALVINGS = 18


def usual_share(wind: float) -> float:
    """Share of the sea that whitecaps cover in a wind at 10 m, m/s (Monahan & O'Muircheartaigh 1980)."""
    return float(3.84e-6 * wind**3.41)


def stokes_drift(
    kx: np.ndarray, kz: np.ndarray, variance: np.ndarray, omega: np.ndarray, water: Water, depth: float = 0.0
) -> np.ndarray:
    """Mean drift (2,), m/s, at a depth (m) of waves of a variance each (m2): the sum of a^2 omega k e^(-2 k depth).

    In shallow water times cosh 2k(h - d) / (2 sinh^2 kh) (Stokes 1847; Longuet-Higgins 1953).
    """
    k = np.hypot(kx, kz)
    if water.depth is None:
        sunk = np.exp(-2 * k * depth)
    else:
        full, some = np.minimum(k * water.depth, 50.0), np.minimum(k * (water.depth - depth), 50.0)
        sunk = np.cosh(2 * some) / np.maximum(2 * np.sinh(full) ** 2, 1e-30)
    weight = 2.0 * variance * omega * sunk
    return np.array([float((weight * kx).sum()), float((weight * kz).sum())])


@kernel
def looked(field, x, z):  # type: ignore[no-untyped-def]
    """A periodic field (n, n) between its points."""
    n = field.shape[0]
    i, j = int(np.floor(x)), int(np.floor(z))
    u, v = x - i, z - j
    i0, j0 = i % n, j % n
    i1, j1 = (i0 + 1) % n, (j0 + 1) % n
    low = field[i0, j0] * (1 - v) + field[i0, j1] * v
    high = field[i1, j0] * (1 - v) + field[i1, j1] * v
    return low * (1 - u) + high * u


@shared
def _aged(fresh, lace, squeeze, x, z, threshold, soft, born, left, kept, leaves, out_fresh, out_lace, spread):  # type: ignore[no-untyped-def]
    """A step: fading, births, spreading. x, z : how far places have drifted, in cells; `spread` of a step, 0 to 1/4."""
    n = fresh.shape[0]
    for i in prange(n):
        up, down = (i + 1) % n, (i - 1) % n
        for j in range(n):
            east, west = (j + 1) % n, (j - 1) % n
            f, g = fresh[i, j], lace[i, j]
            f += spread * (fresh[up, j] + fresh[down, j] + fresh[i, east] + fresh[i, west] - 4 * f)
            g += spread * (lace[up, j] + lace[down, j] + lace[i, east] + lace[i, west] - 4 * g)
            gone = f * (1 - left)
            f -= gone
            g = min(g * kept + leaves * gone, np.float32(1.0))
            breaks = (threshold - looked(squeeze, i + x, j + z)) / soft
            breaks = min(max(breaks, np.float32(0.0)), np.float32(1.0))
            f += (1 - f) * (1 - np.exp(-born * breaks))
            out_fresh[i, j] = f
            out_lace[i, j] = g


@dataclass(frozen=True)
class Law:
    """How foam lives: times to fade (s), share that becomes lace, spreading (m2/s), drift (2,) in m/s."""

    fresh: float
    lace: float
    leaves: float
    spreads: float
    drift: np.ndarray


class Foam:
    """Foam of a patch on its way.

    Attributes
    ----------
    fresh, lace : (n, n), how thick it lies, 0 to 1
    drifted : (2,) m, how far its places have gone since the beginning
    """

    def __init__(
        self, size: float, count: int, fresh: np.ndarray | None = None, lace: np.ndarray | None = None
    ) -> None:
        self.size = size
        self.fresh = np.zeros((count, count), np.float32) if fresh is None else fresh
        self.lace = np.zeros((count, count), np.float32) if lace is None else lace
        self.drifted = np.zeros(2)

    def step(self, squeeze: np.ndarray, threshold: float, law: Law, seconds: float) -> None:
        """Go on by a time; `squeeze` (n, n) is the Jacobian at its end."""
        cell = self.size / len(self.fresh)
        self.drifted = self.drifted + law.drift * seconds
        share = law.spreads * seconds / cell**2
        turns = max(int(np.ceil(share / 0.2)), 1)
        at = self.drifted / cell
        part = seconds / turns
        left, kept = (np.float32(np.exp(-part / t)) for t in (law.fresh, law.lace))
        given = (np.float32(threshold), np.float32(SOFT), np.float32(BORN * part), left, kept, np.float32(law.leaves))
        for _ in range(turns):
            out = np.empty_like(self.fresh), np.empty_like(self.lace)
            place = (np.float32(at[0] % len(self.fresh)), np.float32(at[1] % len(self.fresh)))
            _aged(self.fresh, self.lace, squeeze, *place, *given, *out, np.float32(share / turns))
            self.fresh, self.lace = out

    @property
    def all(self) -> np.ndarray:
        """Both, (n, n), 0 to 1."""
        return np.minimum(self.fresh + self.lace * (1 - self.fresh), 1.0)

    def on_patch(self) -> np.ndarray:
        """Both, where they lie now: on the patch's own points, (n, n)."""
        cell = self.size / len(self.fresh)
        return on_points(self.all, -self.drifted / cell)

    def covered(self) -> float:
        """Share of the sea that is covered."""
        return float((self.all > COVERED).mean())


@shared
def _moved(field, x, z, out):  # type: ignore[no-untyped-def]
    for i in prange(field.shape[0]):
        for j in range(field.shape[1]):
            out[i, j] = looked(field, i + x, j + z)


def on_points(field: np.ndarray, by: np.ndarray) -> np.ndarray:
    """A periodic field (n, n) looked up at its points moved by some cells."""
    out, n = np.empty_like(field), len(field)
    _moved(field, np.float32(by[0] % n), np.float32(by[1] % n), out)
    return out


def threshold_for(squeezes: Sequence[np.ndarray], size: float, law: Law, seconds: float, share: float) -> float:
    """The threshold at which so large a share is covered in the mean, by trying it.

    `squeezes` : Jacobians (n, n) of moments that lie `seconds` apart; their first half lets the foam come into balance.
    """
    low = float(min(one.min() for one in squeezes)) - SOFT
    high = float(max(one.max() for one in squeezes)) + SOFT
    for _ in range(HALVINGS):
        middle = 0.5 * (low + high)
        foam, seen = Foam(size, len(squeezes[0])), []
        for nth, one in enumerate(squeezes):
            foam.step(one, middle, law, seconds)
            if 2 * nth >= len(squeezes):
                seen.append(foam.covered())
        low, high = (middle, high) if np.mean(seen) < share else (low, middle)
    return 0.5 * (low + high)
