"""Forces on the liquid, as changes of the face velocities."""

from __future__ import annotations

import numpy as np


def gravity_kick(gravity: np.ndarray, dx: float, dt_before: float, dt: float) -> np.ndarray:
    """Velocity change (3,) in voxels/s that gravity gives between two half steps.

    Velocities live half a substep behind positions (leapfrog), so the kick spans the second half
    of the last substep and the first half of this one; that makes free fall second order with
    changing substeps.
    """
    return np.asarray(gravity, np.float64) / dx * 0.5 * (dt_before + dt)


def add(velocity: list[np.ndarray], kick: np.ndarray) -> None:
    """Add a uniform kick (3,) to the face velocities, in place."""
    for axis in range(3):
        velocity[axis] += np.float32(kick[axis])
