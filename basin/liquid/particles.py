"""The liquid's particles: plain arrays in one order."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np
from numba import njit, prange

CHUNK = 1 << 15  # particles looked at together


@njit(cache=True, parallel=True)
def _take(index, x, v, c, m, n, s, b, new_x, new_v, new_c, new_m, new_n, new_s, new_b):
    for p in prange(index.shape[0]):
        q = index[p]
        for d in range(3):
            new_x[p, d] = x[q, d]
            new_v[p, d] = v[q, d]
            for e in range(3):
                new_c[p, d, e] = c[q, d, e]
        new_m[p] = m[q]
        new_n[p] = n[q]
        new_s[p] = s[q]
        new_b[p] = b[q]


@njit(cache=True, parallel=True)
def _fastest(velocity, part):
    for c in prange(part.shape[0]):
        most = 0.0
        for p in range(c * CHUNK, min((c + 1) * CHUNK, velocity.shape[0])):
            s = velocity[p, 0] ** 2 + velocity[p, 1] ** 2 + velocity[p, 2] ** 2
            if not s <= most:  # so that what is not a number comes through
                most = s
            if s != s:
                break
        part[c] = most


@dataclass
class Particles:
    """Liquid particles in the domain's frame.

    Attributes
    ----------
    position : float32 (n, 3), voxels of the padded grid
    velocity : float32 (n, 3), voxels per liquid second
    affine : float32 (n, 3, 3), velocity gradient, 1/s; row = velocity component
    volume : float32 (n,), voxels^3; with the density it is the mass, and is conserved
    id : uint32 (n,), birth counter
    source : uint8 (n,), index of the source that made it
    born : float32 (n,), liquid seconds from the first frame
    """

    position: np.ndarray
    velocity: np.ndarray
    affine: np.ndarray
    volume: np.ndarray
    id: np.ndarray
    source: np.ndarray
    born: np.ndarray

    def __len__(self) -> int:
        return len(self.position)

    @staticmethod
    def empty() -> Particles:
        """No particles."""
        f = np.float32
        return Particles(
            np.zeros((0, 3), f),
            np.zeros((0, 3), f),
            np.zeros((0, 3, 3), f),
            np.zeros(0, f),
            np.zeros(0, np.uint32),
            np.zeros(0, np.uint8),
            np.zeros(0, f),
        )

    def taken(self, index: np.ndarray) -> Particles:
        """The particles at an index or mask, in that order."""
        if index.dtype == np.bool_:
            index = np.flatnonzero(index)
        index = index.astype(np.uint32, copy=False)
        n = len(index)
        new = Particles(
            **{
                f.name: np.empty((n, *getattr(self, f.name).shape[1:]), getattr(self, f.name).dtype)
                for f in fields(self)
            }
        )
        _take(index, *(getattr(p, f.name) for p in (self, new) for f in fields(self)))
        return new

    def copy(self) -> Particles:
        """Particles that do not change with these."""
        return Particles(*(getattr(self, f.name).copy() for f in fields(self)))

    def fastest(self) -> float:
        """Largest speed in voxels per second; not a number if one velocity is not."""
        part = np.empty(-(-len(self) // CHUNK))
        _fastest(self.velocity, part)
        return float(np.sqrt(part.max())) if len(part) else 0.0

    def joined(self, other: Particles) -> Particles:
        """These particles followed by others."""
        return Particles(
            **{f.name: np.concatenate([getattr(self, f.name), getattr(other, f.name)]) for f in fields(self)}
        )

    def arrays(self) -> dict[str, np.ndarray]:
        """Arrays by name, for the restart state."""
        return {f.name: getattr(self, f.name) for f in fields(self)}
