"""Meshes that deform: one set of triangles, their corners frame by frame, and the distance at any moment."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

import igl
import numpy as np

from basin.geometry.distance import Distance, mesh_distance
from basin.geometry.mesh import TriangleMesh

KEPT = 3  # distances that are kept: a substep looks at its beginning and its end
MOMENT = 1e-3  # shot seconds over which a velocity is taken


@dataclass(frozen=True)
class MeshSequence:
    """Corners of the same triangles at evenly spaced moments.

    Attributes
    ----------
    start, step : time of the first moment, and between two; files are read at the times of their numbers
    position : float64 (moments, n, 3), metres
    triangle : int32 (m, 3)
    """

    start: float
    step: float
    position: np.ndarray
    triangle: np.ndarray

    def positions(self, time: float) -> np.ndarray:
        """Corners (n, 3) at a shot time: on the given ones at their moments, smoothly between (Catmull & Rom 1974),
        and still before the first and after the last."""
        last = len(self.position) - 1
        x = min(max((time - self.start) / self.step, 0.0), float(last))
        i = min(int(x), max(last - 1, 0))
        s = x - i
        if s < 1e-9 or last == 0:
            return np.asarray(self.position[i])
        p, q = self.position[i], self.position[i + 1]
        before = self.position[i - 1] if i > 0 else 2 * p - q
        after = self.position[i + 2] if i + 2 <= last else 2 * q - p
        m, n = 0.5 * (q - before), 0.5 * (after - p)
        s2, s3 = s * s, s * s * s
        return np.asarray((2 * s3 - 3 * s2 + 1) * p + (s3 - 2 * s2 + s) * m + (3 * s2 - 2 * s3) * q + (s3 - s2) * n)

    def played(self, first: int, fps: float) -> MeshSequence:
        """The same with shot seconds for times, where a frame number `first` is at 0."""
        return replace(self, start=(self.start - first) / fps, step=self.step / fps)

    def mesh(self, time: float) -> TriangleMesh:
        """The mesh at a shot time."""
        return TriangleMesh(self.positions(time), self.triangle)

    def digest(self) -> str:
        """Hex digest of all its moments."""
        return TriangleMesh(self.position.reshape(-1, 3), self.triangle).digest()

    def changes_over(self, start: float, end: float) -> bool:
        """Whether it moves within a span."""
        return end > self.start and start < self.start + self.step * (len(self.position) - 1)


@dataclass(frozen=True)
class Deforming:
    """Distance of a mesh sequence, in its own frame, over shot time.

    Attributes
    ----------
    dx : metres between the nodes at which it is sampled
    turned : what is made of a mesh's distance: a shell, a vessel
    """

    sequence: MeshSequence
    dx: float
    turned: Callable[[Distance], Distance]
    _kept: dict[float, Distance] = field(default_factory=dict)

    def at_time(self, time: float) -> Distance:
        """The distance at a shot time."""
        if time not in self._kept:
            while len(self._kept) >= KEPT:
                self._kept.pop(next(iter(self._kept)))
            self._kept[time] = self.turned(mesh_distance(self.sequence.mesh(time), self.dx, nearest=True))
        return self._kept[time]

    def frames(self, time: float) -> np.ndarray:
        """Each triangle's corners and a fourth point off its plane (m, 4, 3): they tell how it moves and turns."""
        corner = self.sequence.positions(time)[self.sequence.triangle]
        normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        size = np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)
        tip = corner.mean(axis=1) + normal / np.sqrt(size)  # as far as the triangle is wide
        return np.concatenate([corner, tip[:, None]], axis=1)

    def velocity_at(self, points: np.ndarray, time: float) -> np.ndarray:
        """Velocity (n, 3), m per shot second, of the surface where it is nearest to points (n, 3), in its own frame."""
        a, b = self.sequence.positions(time - MOMENT), self.sequence.positions(time + MOMENT)
        speed = (b - a) / (2 * MOMENT)
        if len(points) == 0:
            return np.zeros((0, 3))
        position = np.ascontiguousarray(self.sequence.positions(time))
        triangle = np.ascontiguousarray(self.sequence.triangle, np.int64)
        found = igl.point_mesh_squared_distance(np.ascontiguousarray(points, np.float64), position, triangle)
        face, place = np.asarray(found[1]).ravel(), np.asarray(found[2])
        corner = position[triangle[face]]
        share = _barycentric(place, corner)
        return np.asarray(np.einsum("nk,nkd->nd", share, speed[triangle[face]]))


def _barycentric(place: np.ndarray, corner: np.ndarray) -> np.ndarray:
    """Shares (n, 3) of a triangle's corners (n, 3, 3) in places on it (n, 3)."""
    e, f, p = corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0], place - corner[:, 0]
    ee, ef, ff = (e * e).sum(1), (e * f).sum(1), (f * f).sum(1)
    pe, pf = (p * e).sum(1), (p * f).sum(1)
    det = np.maximum(ee * ff - ef * ef, 1e-300)
    u, v = (ff * pe - ef * pf) / det, (ee * pf - ef * pe) / det
    return np.stack([1 - u - v, u, v], axis=1)


def motions(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    """The affine maps (m, 3, 4) that take four points (m, 4, 3) each to where they are afterwards.

    Where the points lie in a plane the map only moves them.
    """
    ones = np.ones((*before.shape[:2], 1))
    homogeneous = np.concatenate([before, ones], axis=2)
    size = np.abs(np.linalg.det(before[:, 1:] - before[:, :1]))
    reach = np.linalg.norm(before[:, 1:] - before[:, :1], axis=2).max(axis=1)
    flat = size < 1e-9 * np.maximum(reach, 1e-30) ** 3
    homogeneous[flat] = np.eye(4)
    found = np.swapaxes(np.linalg.solve(homogeneous, after), 1, 2)
    found[flat] = np.eye(4)[:3]
    found[flat, :, 3] = (after - before)[flat].mean(axis=1)
    return np.ascontiguousarray(found)
