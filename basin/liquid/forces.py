"""Forces on the liquid, as changes of the face velocities."""

from __future__ import annotations

import numpy as np


def gravity_kick(gravity: np.ndarray, dx: float, dt: float) -> np.ndarray:
    """Velocity change (3,) in voxels/s that gravity (3,) in m/s2 gives in `dt` seconds."""
    return np.asarray(gravity, np.float64) / dx * dt


def add(velocity: list[np.ndarray], kick: np.ndarray) -> None:
    """Add a uniform kick (3,) to the face velocities, in place."""
    for axis in range(3):
        velocity[axis] += np.float32(kick[axis])
