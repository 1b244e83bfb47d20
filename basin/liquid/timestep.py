"""How long a substep may be."""

from __future__ import annotations

import math
from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """What bounds the length of a substep: voxel (m), voxels that liquid may move, substeps of a frame, and liquid
    seconds in which the surface's shortest ripples can be followed."""

    dx: float
    cfl: float
    least: int
    most: int
    ripples: float = math.inf


def steps_left(remaining: float, taken: int, speed: float, pull: float, limits: Limits) -> int:
    """Number of equal substeps in which to take the rest of a frame, always even: they come in pairs.

    Limited by the fastest particle or collider moving `cfl` voxels, by accelerations adding no more than
    half of that within a pair (which also keeps the shortest gravity waves stable), by ripples that surface
    tension drives, and by the settings' least and most per frame.

    Parameters
    ----------
    remaining : liquid seconds to the next frame
    taken : substeps already taken in this frame
    speed : voxels per second
    pull : bound of the accelerations, m/s2
    """
    pull, cfl, least = pull / limits.dx, limits.cfl, limits.least
    longest = cfl / max(speed + pull * remaining / max(least, 1) * 0.5, 1e-9)
    if pull > 0:
        longest = min(longest, 0.35 * math.sqrt(cfl / pull))
    longest = min(longest, limits.ripples)
    wanted = min(max(math.ceil(remaining / longest - 1e-9), least - taken), limits.most - taken)
    return max(wanted + wanted % 2, 2)
