"""The liquid's particles: plain arrays in one order."""

from __future__ import annotations

from dataclasses import dataclass, fields

import numpy as np


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
        return Particles(**{f.name: np.ascontiguousarray(getattr(self, f.name)[index]) for f in fields(self)})

    def joined(self, other: Particles) -> Particles:
        """These particles followed by others."""
        return Particles(
            **{f.name: np.concatenate([getattr(self, f.name), getattr(other, f.name)]) for f in fields(self)}
        )

    def arrays(self) -> dict[str, np.ndarray]:
        """Arrays by name, for the restart state."""
        return {f.name: getattr(self, f.name) for f in fields(self)}
