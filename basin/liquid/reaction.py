"""What the liquid's pressure does to the colliders: forces and torques."""

from __future__ import annotations

import numpy as np

from basin.grid.tiles import at
from basin.kernels import kernel
from basin.liquid.pressure import System
from basin.liquid.solids import Solids, solid_of
from basin.liquid.transfer import mirrored


@kernel
def _middle(field, where, i, j, k, di, dj, dk):
    return 0.5 * (at(field, where, i, j, k) + at(field, where, i + di, j + dj, k + dk))


@kernel
def _again(where, i, j, k, u, v, w, u0, v0, w0):
    """How much of a change is taken once more in a cell, by the rule that its particles follow."""
    x, y, z = (
        _middle(u, where, i, j, k, 1, 0, 0),
        _middle(v, where, i, j, k, 0, 1, 0),
        _middle(w, where, i, j, k, 0, 0, 1),
    )
    x0, y0 = _middle(u0, where, i, j, k, 1, 0, 0), _middle(v0, where, i, j, k, 0, 1, 0)
    return mirrored(x, y, z, x0, y0, _middle(w0, where, i, j, k, 0, 0, 1))


@kernel
def _press(first, where, value, ou, ov, ow, phi, owner, body, after, before, reflects, centre, total):
    # in the order of the places, so that the sums have the same bits on any number of threads
    for place in range(value.shape[0]):
        push = value[place]
        if push == 0.0:
            continue
        i, j, k = first[place >> 3, 0], first[place >> 3, 1], first[place >> 3, 2] + (place & 7)
        # the solid's surface in a cell closes what its open faces leave (the divergence theorem)
        x = np.float64(at(ou, where, i, j, k)) - at(ou, where, i + 1, j, k)
        y = np.float64(at(ov, where, i, j, k)) - at(ov, where, i, j + 1, k)
        z = np.float64(at(ow, where, i, j, k)) - at(ow, where, i, j, k + 1)
        if x == 0.0 and y == 0.0 and z == 0.0:
            continue
        who = solid_of(phi, owner, where, i, j, k)
        if who < 0:
            continue
        who = body[who]
        if reflects:
            push *= 1.0 + _again(where, i, j, k, after[0], after[1], after[2], before[0], before[1], before[2])
        x, y, z = x * push, y * push, z * push
        rx, ry, rz = i + 0.5 - centre[who, 0], j + 0.5 - centre[who, 1], k + 0.5 - centre[who, 2]
        total[who, 0] += x
        total[who, 1] += y
        total[who, 2] += z
        total[who, 3] += ry * z - rz * y
        total[who, 4] += rz * x - rx * z
        total[who, 5] += rx * y - ry * x


def impulses(
    system: System,
    value: np.ndarray,
    solids: Solids,
    after: list[np.ndarray],
    before: list[np.ndarray],
    reflects: bool,
    centre: np.ndarray,
) -> np.ndarray:
    """Impulse and its moment that a projection gives to every body, per density: float64 (bodies, 6), in voxels.

    Parameters
    ----------
    value : what was solved for, like the system's pencils, voxels^2/s: pressure times time over density
    after, before : face velocities [u, v, w] with and without what the projection changed
    reflects : whether particles take that change twice, but for impacts
    centre : (bodies, 3), voxels, about which the moments are
    """
    total = np.zeros((len(centre), 6))
    if len(centre):
        owners = (solids.phi, solids.owner, solids.body)
        where = (system.first, solids.tiles.where, value.reshape(-1), *solids.open, *owners)
        faces = (tuple(after), tuple(before), reflects)
        _press(*where, *faces, np.ascontiguousarray(centre, np.float64), total)
    return total
