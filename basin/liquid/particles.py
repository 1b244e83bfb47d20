"""The liquid's particles: a record of one cache line each, and what is rarely asked for beside it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.lanes import AHEAD, prefetch
from basin.kernels import kernel

MOST_BORN = 2**31  # ids that there are
CHUNK = 1 << 15  # particles looked at together
RECORD = 16  # floats: 64 bytes
# places in a record, for kernels
X, V, C, M = 0, 3, 6, 15
FIELDS = ("record", "id", "source", "born", "carried")


def new_ids(first: int, count: int) -> np.ndarray:
    """The next ids, uint32 (count,); OverflowError when there are no more."""
    if first + count > MOST_BORN:
        raise OverflowError("more than 2^31 particles were born; use a coarser voxel")
    return np.arange(first, first + count, dtype=np.uint32)


def records(count: int) -> np.ndarray:
    """Room for records (count, 16), each on a cache line of its own."""
    raw = np.empty(count * RECORD + RECORD, np.float32)
    offset = (-raw.ctypes.data % 64) // 4
    return raw[offset : offset + count * RECORD].reshape(count, RECORD)


@kernel(parallel=True)
def _take(index, record, number, source, born, carried, new_record, new_number, new_source, new_born, new_carried):
    most = index.shape[0] - 1
    for p in prange(index.shape[0]):
        prefetch(record, index[min(p + AHEAD, most)])
        q = np.uint64(index[p])
        for d in range(16):
            new_record[p, d] = record[q, d]
        new_number[p] = number[q]
        new_source[p] = source[q]
        new_born[p] = born[q]
        for d in range(carried.shape[1]):
            new_carried[p, d] = carried[q, d]


@kernel(parallel=True)
def _fastest(record, part):
    for c in prange(part.shape[0]):
        most = np.float32(0.0)
        for p in range(c * CHUNK, min((c + 1) * CHUNK, record.shape[0])):
            s = record[p, V] ** 2 + record[p, V + 1] ** 2 + record[p, V + 2] ** 2
            if not s <= most:  # so that what is not a number comes through
                most = s
            if s != s:
                break
        part[c] = most


@dataclass
class Particles:
    """Liquid particles in the domain's frame.

    Kernels walk over whole records, so a particle costs one trip to memory whatever is asked of it;
    everything else sees `position` and the like, which are views.

    Attributes
    ----------
    record : float32 (n, 16): position, velocity, affine matrix by rows, volume
    id : uint32 (n,), birth counter
    source : uint16 (n,), index of the source that made it
    born : float32 (n,), liquid seconds from the first frame
    carried : float32 (n, w), what the liquid carries along (`basin.liquid.carried`); w is mostly 0
    """

    record: np.ndarray
    id: np.ndarray
    source: np.ndarray
    born: np.ndarray
    carried: np.ndarray

    def __len__(self) -> int:
        return len(self.record)

    @property
    def position(self) -> np.ndarray:
        """View (n, 3), voxels of the padded grid."""
        return self.record[:, X : X + 3]

    @property
    def velocity(self) -> np.ndarray:
        """View (n, 3), voxels per liquid second."""
        return self.record[:, V : V + 3]

    @property
    def affine(self) -> np.ndarray:
        """View (n, 3, 3), velocity gradient, 1/s; row = velocity component."""
        return self.record[:, C : C + 9].reshape(-1, 3, 3)

    @property
    def volume(self) -> np.ndarray:
        """View (n,), voxels^3; with the density it is the mass, and is conserved."""
        return self.record[:, M]

    @staticmethod
    def at(position: np.ndarray, volume: np.ndarray | float, width: int = 0) -> Particles:
        """Resting particles (n, 3) in voxels with ids from 0, of source 0, born at the start, that carry zeros."""
        n = len(position)
        record = records(n)
        record[:] = 0
        record[:, X : X + 3], record[:, M] = position, volume
        rest = np.zeros(n, np.uint16), np.zeros(n, np.float32), np.zeros((n, width), np.float32)
        return Particles(record, np.arange(n, dtype=np.uint32), *rest)

    @staticmethod
    def empty(width: int = 0) -> Particles:
        """No particles."""
        return Particles.at(np.zeros((0, 3)), 0.0, width)

    def taken(self, index: np.ndarray) -> Particles:
        """The particles at an index or mask, in that order."""
        if index.dtype == np.bool_:
            index = np.flatnonzero(index)
        n = len(index)
        new = Particles(records(n), *(np.empty((n, *a.shape[1:]), a.dtype) for a in self._beside()))
        _take(index.astype(np.uint32, copy=False), *self.arrays().values(), *new.arrays().values())
        return new

    def copy(self) -> Particles:
        """Particles that do not change with these."""
        new = records(len(self))
        new[:] = self.record
        return Particles(new, *(a.copy() for a in self._beside()))

    def _beside(self) -> tuple[np.ndarray, ...]:
        return self.id, self.source, self.born, self.carried

    def fastest(self) -> float:
        """Largest speed in voxels per second; not a number if one velocity is not."""
        part = np.empty(-(-len(self) // CHUNK))
        _fastest(self.record, part)
        return float(np.sqrt(part.max())) if len(part) else 0.0

    def joined(self, other: Particles) -> Particles:
        """These particles followed by others."""
        n = len(self)
        new = records(n + len(other))
        new[:n], new[n:] = self.record, other.record
        rest = zip(self._beside(), other._beside(), strict=True)
        return Particles(new, *(np.concatenate(pair) for pair in rest))

    def arrays(self) -> dict[str, np.ndarray]:
        """Arrays by name, in the order of the fields; for the restart state."""
        return {name: getattr(self, name) for name in FIELDS}

    @staticmethod
    def of(arrays: Mapping[str, np.ndarray]) -> Particles:
        """What `arrays` gave, aligned anew."""
        record = records(len(arrays["record"]))
        record[:] = arrays["record"]
        source = np.ascontiguousarray(arrays["source"], np.uint16)  # 8 bits in older states
        rest = (np.ascontiguousarray(arrays[name]) for name in ("born", "carried"))
        return Particles(record, np.ascontiguousarray(arrays["id"]), source, *rest)
