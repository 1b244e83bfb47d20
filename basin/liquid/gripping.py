"""What walls thinner than the grid do to viscous liquid that goes along them.

Such a wall holds no face, so it would part no shear. Where a ray from a face to the next one meets a triangle, the
strain between the two counts no more; instead either is held by the side of the wall that it sees: over the way d to
it the velocity falls to the wall's own, or to that at its slip length b behind it (Navier 1823), which has the energy

    1/2 dt nu (u - wall's)^2 / (d + b)

of a layer as thick as d: friction, which adds to the face's mass. That itself goes only as far as half of the layer.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.tiles import at, load
from basin.kernels import kernel, shared
from basin.liquid.fullness import CELL, depth_between, full
from basin.liquid.solids import SLIP, Solids, velocity_of
from basin.liquid.thin import first_hit, near_block

NEAREST = np.float32(0.1)  # voxels: least way between a face's centre and the wall that it strains against
FACE_SEES = 1.001  # voxels about a face within which a triangle may part it from the next


@kernel(inline="always")
def reach(way, slip):
    """How far the mass about a face goes towards a wall that far off: halfway, and farther as what slides goes along.

    What moves at the wall itself, b / (d + b) as fast as the face, is carried by its other half.
    """
    return 0.5 * way * (1.0 + (slip / (way + slip) if slip < np.inf else 1.0))


@kernel
def _beside(corner, near, n, p, d, e, side):
    """Triangle that lies between a face's middle p and the next one `side` along an axis, and how far; -1 for none.

    `d` is room for the way.
    """
    d[:] = 0.0
    d[e] = side
    share, m = first_hit(corner, near, 0, n, p, d)
    return (m, max(share, np.float64(NEAREST))) if share <= 1.0 else (-1, 1.0)


@shared
def _weigh(
    row, first, where, phi, wide, nu, dt, corner, body, start, listed, motion, touch, mass, edge, extent, who, held
):
    for s in prange(row.shape[0]):
        t = row[s]
        depth, room = np.empty((10, 10, 10), np.float32), np.empty((10, 10, 10), np.float32)
        load(phi, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, depth)
        load(wide, where, first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1, room)
        near = np.empty(start[s + 1] - start[s], np.int64)
        blocks, count = np.full((64, 3), -1, np.int64), np.full(64, -1, np.int64)
        lists = np.empty((64, len(near)), np.int64)
        p, d = np.empty(3), np.empty(3)
        for cell in range(512):
            a, b, c = cell // 64, cell // 8 % 8, cell % 8
            i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
            line = ((a + 1) * 10 + b + 1) * 10 + c + 1
            for axis in range(3):
                if mass[axis, t, a, b, c] < 0:
                    continue
                p[0], p[1], p[2] = i + 0.5 * (axis != 0), j + 0.5 * (axis != 1), k + 0.5 * (axis != 2)
                o = near_block(
                    corner, listed, start[s], start[s + 1], p[0], p[1], p[2], FACE_SEES, blocks, count, lists
                )
                if count[o] == 0:
                    continue
                filled = full(depth_between(depth.reshape(1000), room.reshape(1000), line, CELL[axis], 0))
                thick = 0.5 * (nu[t, a, b, c] + at(nu, where, i - (axis == 0), j - (axis == 1), k - (axis == 2)))
                for turn in range(4):
                    e, side = (axis + 1 + turn // 2) % 3, 2 * (turn % 2) - 1
                    if at(mass[axis], where, i + side * (e == 0), j + side * (e == 1), k + side * (e == 2)) < 0:
                        continue  # a wall holds that one: the strain between both knows it
                    m, way = _beside(corner, lists[o], count[o], p, d, e, side)
                    if m < 0:
                        continue
                    if side < 0:
                        edge[axis + e - 1, t, a, b, c] = 0
                    if filled <= 0:
                        continue
                    n = body[m]
                    slip = touch[n, SLIP]
                    extent[axis, s, turn // 2, cell] -= np.float32(0.5 - reach(way, slip))
                    who[s, axis, turn, cell] = n
                    held[s, axis, turn, cell, 0] = dt * thick * filled / (way + slip)
                    x, y, z = p[0] + side * way * (e == 0), p[1] + side * way * (e == 1), p[2] + side * way * (e == 2)
                    held[s, axis, turn, cell, 1] = velocity_of(motion, n, x, y, z)[axis]


@shared
def _drag(row, first, inverse, who, held, u, v, w, body, centre, part):
    for s in prange(row.shape[0]):
        t = row[s]
        p, push = np.empty(3), np.empty(3)
        for cell in range(512):
            a, b, c = cell // 64, cell // 8 % 8, cell % 8
            for axis in range(3):
                if inverse[axis, t, a, b, c] <= 0:
                    continue
                speed = u[t, a, b, c] if axis == 0 else (v[t, a, b, c] if axis == 1 else w[t, a, b, c])
                for turn in range(4):
                    if held[s, axis, turn, cell, 0] <= 0:
                        continue
                    n = body[who[s, axis, turn, cell]]
                    p[0] = first[t, 0] + a + 0.5 * (axis != 0) - centre[n, 0]
                    p[1] = first[t, 1] + b + 0.5 * (axis != 1) - centre[n, 1]
                    p[2] = first[t, 2] + c + 0.5 * (axis != 2) - centre[n, 2]
                    push[:] = 0.0
                    push[axis] = held[s, axis, turn, cell, 0] * (speed - held[s, axis, turn, cell, 1])
                    for d in range(3):
                        e, f = (d + 1) % 3, (d + 2) % 3
                        part[t, n, d] += push[d]
                        part[t, n, 3 + d] += p[e] * push[f] - p[f] * push[e]


@dataclass(frozen=True)
class Grip:
    """What thin walls hold of a moment's liquid.

    Attributes
    ----------
    row : tiles near thin walls, (n,)
    who : int32 (n, 3, 4, 512), rows of the bodies that faces see, on their four sides
    held : float32 (n, 3, 4, 512, 2), what the friction there weighs, as mass does, and the wall's speed, voxels/s
    hold, pull : float32 (3, tiles + 1, 8, 8, 8), sums of the weights at faces, and of the weights times the speeds
    """

    row: np.ndarray
    who: np.ndarray
    held: np.ndarray
    hold: np.ndarray
    pull: np.ndarray

    @staticmethod
    def of(
        solids: Solids, phi: np.ndarray, nu: np.ndarray, dt: float, edge: np.ndarray, mass: np.ndarray
    ) -> Grip | None:
        """For a step; None without thin walls.

        Parameters
        ----------
        phi, nu : level set and viscosity (voxels^2/s) at cells' centres
        edge : what shears weigh: those that a wall parts become nothing, in place
        mass : of faces, below zero where a solid holds them: less where a wall is nearer than the next, in place
        """
        tiles, thin = solids.tiles, solids.thin
        row = np.flatnonzero(thin.slot >= 0)
        if len(row) == 0:
            return None
        extent = np.ones((3, len(row), 2, 512), np.float32)
        who = np.full((len(row), 3, 4, 512), -1, np.int32)
        held = np.zeros((*who.shape, 2), np.float32)
        walls = (thin.corner, thin.body, thin.start, thin.listed, solids.motion, solids.touch)
        _weigh(row, tiles.first, tiles.where, phi, solids.wide, nu, dt, *walls, mass, edge, extent, who, held)
        here = mass[:, row]
        mass[:, row] = np.where(here > 0, here * extent.prod(axis=2).reshape(here.shape), here)
        hold, pull = np.zeros_like(mass), np.zeros_like(mass)
        for out, value in ((hold, held[..., 0]), (pull, held.prod(axis=-1))):
            out[:, row] = value.sum(axis=2).swapaxes(0, 1).reshape(here.shape)
        return Grip(row, who, held, hold, pull)

    def fastest(self) -> float:
        """Speed of the fastest wall that holds anything, voxels/s."""
        return float(np.abs(self.held[..., 1]).max(initial=0.0))

    def drag(self, solids: Solids, inverse: np.ndarray, flow: np.ndarray, centre: np.ndarray, part: np.ndarray) -> None:
        """Add what the friction does to bodies, impulse and moment, to `part` (tiles + 1, bodies, 6).

        Parameters
        ----------
        inverse : (3, tiles + 1, 8, 8, 8), above zero at faces that count
        flow : float64, like it, velocities, voxels/s
        centre : float64 (bodies, 3), voxels, about which the moments are
        """
        _drag(self.row, solids.tiles.first, inverse, self.who, self.held, *flow, solids.body, centre, part)
