"""How much of the cubes about faces, centres and edges liquid fills, by the levels of the cells about them."""

from __future__ import annotations

import numpy as np

from basin.kernels import kernel
from basin.liquid.levelset import LEAST_ROOM

CELL = (100, 10, 1)  # steps along the axes between cells of a tile and its rim that lie as a line


@kernel(inline="always")
def clipped(x):
    """Between 0 and 1."""
    return min(max(x, np.float32(0.0)), np.float32(1.0))


@kernel
def depth_between(phi, wide, p, one, other):
    """Level at the middle of the cells p, p - one, p - other, p - one - other; of a face with `other` 0.

    Cells with hardly any room know nothing and are left out.
    """
    total, count = np.float32(0.0), np.float32(0.0)
    for a in range(2):
        for b in range(2 if other > 0 else 1):
            q = p - a * one - b * other
            if wide[q] >= LEAST_ROOM:
                total += phi[q]
                count += np.float32(1.0)
    return total / count if count > 0 else np.float32(1.0)


@kernel(inline="always")
def full(depth):
    """Share that liquid fills of a cube whose middle is at a level."""
    return clipped(np.float32(0.5) - depth)
