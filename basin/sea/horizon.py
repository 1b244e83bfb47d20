"""A sea to the horizon that does not repeat, from patches that do.

About a place the patch lies as it is. Farther out it is laid anew at random places, a triangle of them blended at each
point with weights whose squares sum to one, which keeps the heights' variance (Heitz & Neyret 2018, "High-performance
by-example noise using a histogram-preserving blending operator", for a field that is normal already). The page's
shader does the same, with the same numbers.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.kernels import kernel, shared

# of a patch: edge of the triangles; of larger ones two points a patch apart lie about the same corner, and are alike
ACROSS = 0.5
SOFT = 0.5  # of the distance from which it is laid anew: over so much it goes over


@kernel
def mixed(x):  # type: ignore[no-untyped-def]
    """A 32-bit number made of another (Jarzynski & Olano 2020, PCG hash), for both languages."""
    state = np.uint32(x * np.uint32(747796405) + np.uint32(2891336453))
    word = np.uint32(((state >> np.uint32((state >> np.uint32(28)) + np.uint32(4))) ^ state) * np.uint32(277803737))
    return np.uint32((word >> np.uint32(22)) ^ word)


@kernel
def placed(i, j, key):  # type: ignore[no-untyped-def]
    """Where, in shares of a patch, it is laid at a corner of the triangles."""
    first = mixed(
        np.uint32(np.int64(i) & 0xFFFFFFFF) ^ mixed(np.uint32(np.int64(j) & 0xFFFFFFFF) ^ mixed(np.uint32(key)))
    )
    second = mixed(first)
    return np.float64(first >> np.uint32(8)) / 16777216.0, np.float64(second >> np.uint32(8)) / 16777216.0


@kernel
def _at(field, u, v):  # type: ignore[no-untyped-def]
    n = field.shape[0]
    x, z = u * n, v * n
    i, j = int(np.floor(x)), int(np.floor(z))
    s, t = x - i, z - j
    i0, j0 = i % n, j % n
    i1, j1 = (i0 + 1) % n, (j0 + 1) % n
    return (field[i0, j0] * (1 - t) + field[i0, j1] * t) * (1 - s) + (field[i1, j0] * (1 - t) + field[i1, j1] * t) * s


@kernel
def corners(x, z, key, index, weight):  # type: ignore[no-untyped-def]
    """Places (3, 2) in shares of a patch and weights (3,) that sum to one, at a point in triangles' edges."""
    skew = (x - z * 0.5773502691896258, z * 1.1547005383792517)
    i, j = int(np.floor(skew[0])), int(np.floor(skew[1]))
    s, t = skew[0] - i, skew[1] - j
    upper = 1 if s + t > 1.0 else 0
    third = 1.0 - s - t
    if upper:
        weight[0], weight[1], weight[2] = -third, 1.0 - s, 1.0 - t
    else:
        weight[0], weight[1], weight[2] = third, t, s
    index[0, 0], index[0, 1] = placed(i + upper, j + upper, key)
    index[1, 0], index[1, 1] = placed(i, j + 1, key)
    index[2, 0], index[2, 1] = placed(i + 1, j, key)


@shared
def _over(point, fields, size, key, middle, from_, even, out):  # type: ignore[no-untyped-def]
    for p in prange(point.shape[0]):
        index, weight = np.empty((3, 2)), np.empty(3)
        x, z = point[p, 0], point[p, 1]
        away = np.sqrt((x - middle[0]) ** 2 + (z - middle[1]) ** 2)
        far = min(max((away - from_) / (SOFT * from_), 0.0), 1.0)
        far = far * far * (3.0 - 2.0 * far)
        corners(x / (ACROSS * size), z / (ACROSS * size), key, index, weight)
        squares = weight[0] ** 2 + weight[1] ** 2 + weight[2] ** 2
        # normal fields keep their variance by the squares of weights, shares their mean by the sum
        scale = 1.0 if even else 1.0 / np.sqrt(squares)
        whole = 1.0 if even else 1.0 / np.sqrt((1.0 - far) ** 2 + far**2)
        u, v = x / size, z / size
        for f in range(fields.shape[0]):
            found = 0.0
            if far < 1.0:
                found = (1.0 - far) * _at(fields[f], u, v)
            if far > 0.0:
                laid = 0.0
                for c in range(3):
                    laid += weight[c] * _at(fields[f], u + index[c, 0], v + index[c, 1])
                found += far * scale * laid
            out[p, f] += found * whole


@dataclass(frozen=True)
class Laid:
    """How patches are laid.

    Attributes
    ----------
    middle : (2,) x and z about which a patch lies as it is; from_ : m, beyond which it is laid anew; seed
    """

    middle: np.ndarray
    from_: float
    seed: int

    def key(self, nth: int) -> int:
        """Of the chance of a patch."""
        return (self.seed * 16 + nth) & 0xFFFFFFFF

    def over(self, point: np.ndarray, patches: Sequence[tuple[float, np.ndarray]], *, even: bool = False) -> np.ndarray:
        """Sums (p, f) over patches (size, fields (f, n, n)) at points (p, 2) x and z of the surface at rest.

        `even` for shares, such as foam, whose mean is kept in place of the variance.
        """
        point = np.ascontiguousarray(point, np.float64)
        out = np.zeros((len(point), len(patches[0][1])))
        for nth, (size, fields) in enumerate(patches):
            _over(point, fields, size, self.key(nth), self.middle, self.from_, even, out)
        return out


def repetition(heights: np.ndarray, spacing: float, lags: Sequence[float]) -> float:
    """The largest correlation of heights (n, n) on a grid with themselves, moved by lags (m) along either axis or both.

    1 where they repeat; of waves without any, what chance leaves.
    """
    field = heights - heights.mean()
    variance = float((field**2).mean())
    worst = 0.0
    for lag in lags:
        by = round(lag / spacing)
        for i, j in ((by, 0), (0, by), (by, by), (by, -by)):
            a = field[max(-i, 0) : len(field) - max(i, 0), max(-j, 0) : len(field) - max(j, 0)]
            b = field[max(i, 0) : len(field) + min(i, 0), max(j, 0) : len(field) + min(j, 0)]
            a = a[: b.shape[0], : b.shape[1]]
            b = b[: a.shape[0], : a.shape[1]]
            worst = max(worst, abs(float((a * b).mean())) / max(variance, 1e-30))
    return worst


def quads(rows: int, columns: int) -> np.ndarray:
    """Triangles (t, 3) between points that lie in rows, so many quads by so many."""
    i, j = np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij")
    corner = (i * (columns + 1) + j).ravel()
    quad = np.stack([corner, corner + 1, corner + columns + 2, corner + columns + 1], axis=1)
    return np.concatenate([quad[:, [0, 1, 2]], quad[:, [0, 2, 3]]])


def fan(
    eye: np.ndarray, height: float, towards: float, angle: float, nearest: float, farthest: float, count: int
) -> tuple[np.ndarray, np.ndarray]:
    """Points (p, 2) and triangles (t, 3) of a grid that is fine where an eye is near and goes to the horizon.

    Rings about the point under the eye, each farther by the same share; `towards` and `angle` (radians) are the middle
    and half of the sector that is covered, `count` points along a ring.
    """
    rings = max(int(count * np.log(farthest / nearest) / max(2 * angle, 1e-3)), 8)
    radius = nearest * (farthest / nearest) ** (np.arange(rings + 1) / rings)
    turn = towards + np.linspace(-angle, angle, count + 1)
    place = np.stack([np.outer(radius, np.cos(turn)), np.outer(radius, np.sin(turn))], axis=-1) + eye[[0, 2]]
    return place.reshape(-1, 2), quads(rings, count)
