"""What the grid knows of walls and colliders: node distances, who owns them, face velocities."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange

from basin.geometry.distance import Distance, solid_distance
from basin.geometry.pose import Pose
from basin.grid.fractions import face_fractions, open_volume
from basin.grid.layout import PAD, Layout

FAR = 5.0  # voxels; distances are not needed beyond


@dataclass(frozen=True)
class Body:
    """A collider as the solver sees it: its distance in its own frame, and its pose over shot time."""

    name: str
    distance: Distance
    pose: Pose


@dataclass(frozen=True)
class Solids:
    """Walls and colliders at one moment.

    Attributes
    ----------
    phi : float32 (Nx+1, Ny+1, Nz+1), distance at nodes in voxels, negative in solids
    owner : int16, same shape, index of the nearest body, -1 for the walls
    open : face fractions [u, v, w], 1 where no solid is
    volume : float32 (Nx, Ny, Nz), open share of each cell
    motion : float64 (bodies, 3, 4), velocity = motion @ (x, 1) in voxels/s over voxels
    moving : whether any motion is not zero
    """

    phi: np.ndarray
    owner: np.ndarray
    open: tuple[np.ndarray, np.ndarray, np.ndarray]
    volume: np.ndarray
    motion: np.ndarray
    moving: bool


@njit(cache=True, parallel=True)
def _stamp(phi, owner, lo, hi, inverse, scale, index, kind, size, field, origin, spacing, low, dx, pad):
    for i in prange(lo[0], hi[0]):
        for j in range(lo[1], hi[1]):
            for k in range(lo[2], hi[2]):
                x = low[0] + (i - pad) * dx
                y = low[1] + (j - pad) * dx
                z = low[2] + (k - pad) * dx
                bx = inverse[0, 0] * x + inverse[0, 1] * y + inverse[0, 2] * z + inverse[0, 3]
                by = inverse[1, 0] * x + inverse[1, 1] * y + inverse[1, 2] * z + inverse[1, 3]
                bz = inverse[2, 0] * x + inverse[2, 1] * y + inverse[2, 2] * z + inverse[2, 3]
                d = solid_distance(bx, by, bz, kind, size, field, origin, spacing) * scale / dx
                if d < phi[i, j, k]:
                    phi[i, j, k] = d
                    owner[i, j, k] = index


def stamp(phi: np.ndarray, owner: np.ndarray, layout: Layout, body: Body, index: int, matrix: np.ndarray) -> None:
    """Lower the node distances to those of a body placed by `matrix` (4, 4), in place."""
    d = body.distance
    corners = np.array(
        [[x, y, z] for x in (d.low[0], d.high[0]) for y in (d.low[1], d.high[1]) for z in (d.low[2], d.high[2])]
    )
    if np.isfinite(corners).all():
        placed = layout.to_voxels(corners @ matrix[:3, :3].T + matrix[:3, 3])
        lo = np.clip(np.floor(placed.min(axis=0) - FAR), 0, phi.shape).astype(np.int64)
        hi = np.clip(np.ceil(placed.max(axis=0) + FAR) + 1, 0, phi.shape).astype(np.int64)
    else:
        lo, hi = np.zeros(3, np.int64), np.array(phi.shape)
    if (lo >= hi).any():
        return
    scale = float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))
    inverse = np.linalg.inv(matrix)
    _stamp(
        phi, owner, lo, hi, inverse, scale, index, d.kind, d.size, d.field, d.origin, d.dx, layout.low, layout.dx, PAD
    )


def wall_distances(layout: Layout) -> list[np.ndarray]:
    """Per axis, the distance of its nodes to the closed walls square to it, capped at `FAR` voxels."""
    result = []
    for axis in range(3):
        node = np.arange(layout.cells[axis] + 1, dtype=np.float64)
        along = np.full(len(node), FAR)
        if layout.closed[axis, 0]:
            along = np.minimum(along, node - PAD)
        if layout.closed[axis, 1]:
            along = np.minimum(along, float(layout.wall_high[axis]) - node)
        result.append(along.astype(np.float32))
    return result


def _along(axis: int, values: np.ndarray) -> np.ndarray:
    """Values along one axis, ready to broadcast over the grid."""
    shape = [1, 1, 1]
    shape[axis] = len(values)
    return values.reshape(shape)


class _Walls:
    """The closed walls: distances and open shares, which are products of their axes' own.

    They stay apart from the bodies' node distances, since one distance cannot tell a body's face from
    a wall's where the two meet in a cell: there liquid sliding along both would be squeezed.
    """

    def __init__(self, layout: Layout):
        self.distances = wall_distances(layout)
        across = [(d > 0).astype(np.float32) for d in self.distances]
        within = []
        for d in self.distances:
            # open share of the intervals between nodes
            a, b = d[:-1], d[1:]
            cut = np.maximum(a, b) / np.maximum(np.abs(a - b), 1e-6)
            within.append(np.where((a > 0) != (b > 0), np.clip(cut, 0, 1), (np.minimum(a, b) >= 0)).astype(np.float32))
        # a face on a wall is shut, one beside it as open as the cells that it parts
        self.faces = [[across[d] if d == axis else within[d] for d in range(3)] for axis in range(3)]
        self.cells = within

    def lower(self, phi: np.ndarray) -> np.ndarray:
        """Node distances to bodies and walls."""
        for axis, d in enumerate(self.distances):
            phi = np.minimum(phi, _along(axis, d))
        return phi

    def narrow(self, field: np.ndarray, shares: list[np.ndarray]) -> None:
        """Take the walls' part off open shares, in place."""
        for axis, share in enumerate(shares):
            field *= _along(axis, share)


class SolidWorld:
    """Walls and bodies of a scene; gives `Solids` at any shot time.

    The still ones are stamped once. Liquid time runs `time_scale` times as fast as shot time.
    """

    def __init__(self, layout: Layout, bodies: list[Body], time_scale: float):
        self.layout, self.bodies, self.time_scale = layout, bodies, time_scale
        self._walls = _Walls(layout)
        self._phi = np.full(tuple(n + 1 for n in layout.cells), FAR, np.float32)
        self._owner = np.full(self._phi.shape, -1, np.int16)
        for index, body in enumerate(bodies):
            if not body.pose.moves():
                stamp(self._phi, self._owner, layout, body, index, body.pose.matrix(0.0))
        self._moving = [(i, b) for i, b in enumerate(bodies) if b.pose.moves()]
        self._last: tuple[bytes, Solids] | None = None
        self._placed: tuple[bytes, np.ndarray, np.ndarray] | None = None
        self._bodies_placed = self._phi

    def at(self, time: float, dt: float) -> Solids:
        """Solids at a shot time, with their velocities over the next `dt` shot seconds."""
        now = [body.pose.matrix(time) for _, body in self._moving]
        later = [body.pose.matrix(time + dt) for _, body in self._moving] if dt > 0 else now
        same = np.array([*now, *later]).tobytes()
        if self._last is not None and self._last[0] == same:
            return self._last[1]
        motion = np.zeros((len(self.bodies), 3, 4))
        for (index, _), a, b in zip(self._moving, now, later, strict=True):
            if dt > 0:
                change = self.layout.voxel_matrix(b @ np.linalg.inv(a)) - np.eye(4)
                motion[index] = change[:3] / (dt * self.time_scale)
        phi, owner = self.distance_at(time)
        open_faces, volume = face_fractions(self._bodies_placed), open_volume(self._bodies_placed)
        for axis in range(3):
            self._walls.narrow(open_faces[axis], self._walls.faces[axis])
        self._walls.narrow(volume, self._walls.cells)
        solids = Solids(phi, owner, open_faces, volume, motion, bool(np.any(motion)))
        self._last = (same, solids)
        return solids

    def distance_at(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Node distances and owners at a shot time, shared by all who ask for the same poses."""
        matrices = [body.pose.matrix(time) for _, body in self._moving]
        same = np.array(matrices).tobytes()
        if self._placed is None or self._placed[0] != same:
            phi, owner = self._phi.copy(), self._owner.copy()
            for (index, body), matrix in zip(self._moving, matrices, strict=True):
                stamp(phi, owner, self.layout, body, index, matrix)
            self.layout.wrap(phi)
            self.layout.wrap(owner)
            self._bodies_placed = phi
            phi = self._walls.lower(phi)
            owner = np.where(phi < self._bodies_placed, np.int16(-1), owner)
            self._placed = (same, phi, owner)
        return self._placed[1], self._placed[2]
