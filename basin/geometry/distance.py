"""Signed distance of shapes: closed formulas for primitives, a sampled grid for meshes.

A solid is a plain tuple ``(kind, size, field, origin, dx)`` so that kernels can take it without
knowing a class: `kind` chooses the formula, `size` (3,) holds its lengths in metres, and for
meshes `field` holds distances (m, negative inside) at nodes `dx` apart from `origin`.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from dataclasses import field as of_its_own

import igl
import numpy as np
from numba import prange
from scipy import ndimage

from basin.geometry.mesh import TriangleMesh
from basin.geometry.pose import scale_of
from basin.geometry.shapes import Box, Disc, GroundPlane, Shape, Slot, Sphere, Tub, Tube
from basin.kernels import kernel, shared

PLANE, BOX, SPHERE, TUB, TUBE, FIELD = range(6)
NOTHING_NEAR = np.zeros((1, 1, 1), np.int32)
MOST_NODES = 40_000_000  # at which a mesh's distance is sampled: about a gigabyte while it is made
HALF = 0.501  # steps; a little more than half, for what is rounded
BAND = 3  # nodes on each side of the surface with exact distances; beyond, a distance transform


Region = tuple[np.ndarray, np.ndarray]  # lowest and highest corner (3,)


@dataclass(frozen=True)
class Distance:
    """Signed distance of one shape in its own frame, metres.

    Attributes
    ----------
    low, high : (3,), where it can be negative; infinite if that is everywhere
    nearest : int32, like `field`: the nearest triangle of a mesh that deforms; else (1, 1, 1)
    sign : -1 for a solid that fills all but the shape
    shell : thickness of a solid that lies about the shape's surface; 0 for a whole one
    """

    kind: int
    size: np.ndarray
    field: np.ndarray
    origin: np.ndarray
    dx: float
    low: np.ndarray
    high: np.ndarray
    sign: float = 1.0
    shell: float = 0.0
    nearest: np.ndarray = of_its_own(default_factory=lambda: NOTHING_NEAR)

    def at_time(self, time: float) -> Distance:
        """The distance at a shot time: this one, which does not change."""
        return self

    def at(self, points: np.ndarray) -> np.ndarray:
        """Distances (n,) in metres at points (n, 3) of the shape's own frame."""
        return self._at(points, np.eye(4))

    def placed_at(self, points: np.ndarray, matrix: np.ndarray) -> np.ndarray:
        """Distances (n,) in metres of points (n, 3) of the scene from the shape where a matrix (4, 4) places it."""
        return self._at(points, np.linalg.inv(matrix)) * scale_of(matrix)

    def _at(self, points: np.ndarray, matrix: np.ndarray) -> np.ndarray:
        """Distances (n,) in metres of points (n, 3) that a matrix (4, 4) takes to the shape's own frame."""
        found = np.empty(len(points))
        place = np.ascontiguousarray(points, dtype=np.float64)
        _distances(place, matrix, self.kind, self.size, self.field, self.origin, self.dx, found)
        return self.sign * (np.abs(found) - self.shell / 2 if self.shell > 0 else found)

    def corners(self, matrix: np.ndarray) -> np.ndarray:
        """Corners (8, 3) in the scene of the box of the shape that a matrix (4, 4) places; finite ones only."""
        corner = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])
        own = corner * (self.high - self.low) + self.low
        return np.asarray(own @ matrix[:3, :3].T + matrix[:3, 3])

    def inside_out(self) -> Distance:
        """The solid that fills all but this one: a vessel."""
        return replace(self, sign=-self.sign, low=np.full(3, -np.inf), high=np.full(3, np.inf))

    def hollow(self, thickness: float) -> Distance:
        """A shell of a thickness about this shape's surface."""
        return replace(self, shell=thickness, low=self.low - thickness / 2, high=self.high + thickness / 2)


def shape_distance(
    shape: Shape, mesh: TriangleMesh | None, dx: float, within: Region | None = None, most: float = MOST_NODES
) -> Distance:
    """Signed distance of a shape; meshes are sampled every `dx` metres, large ones within a region if one is given.

    Raises
    ------
    TypeError
        For a disc, which is flat, or a mesh shape without its mesh.
    """
    none = np.zeros((1, 1, 1), np.float32)
    zero = np.zeros(3)

    def formula(kind: int, size: tuple[float, ...], low: tuple[float, ...], high: tuple[float, ...]) -> Distance:
        return Distance(kind, np.array(size, dtype=float), none, zero, 1.0, np.array(low), np.array(high))

    match shape:
        case GroundPlane():
            return formula(PLANE, (0, 0, 0), (-np.inf,) * 3, (np.inf, 0.0, np.inf))
        case Box():
            x, y, z = (s / 2 for s in shape.size)
            return formula(BOX, (x, y, z), (-x, -y, -z), (x, y, z))
        case Sphere():
            r = shape.radius
            return formula(SPHERE, (r, 0, 0), (-r, -r, -r), (r, r, r))
        case Tub() | Tube():
            kind = TUB if isinstance(shape, Tub) else TUBE
            r, h = shape.radius, shape.height
            return formula(kind, (r, h, shape.wall), (-r, 0, -r), (r, h, r))
        case Disc() | Slot():
            raise TypeError("a flat opening has no inside")
    if mesh is None:
        raise TypeError("a mesh shape needs its mesh")
    return mesh_distance(mesh, dx, within=within, most=most)


def sampling_of(
    mesh: TriangleMesh, dx: float, within: Region | None, most: float = MOST_NODES
) -> tuple[float, np.ndarray, np.ndarray]:
    """How finely, and between which corners, the distance of a mesh is sampled if every `dx` metres are asked for.

    One that takes more than `most` nodes is sampled within a region alone, or more coarsely.
    """
    low, high = mesh.bounds()

    def count(step: float) -> float:
        return float(np.prod(np.ceil((high - low) / step) + 2 * (BAND + 1) + 1))

    if count(dx) > most and within is not None:
        low, high = np.maximum(low, within[0] - BAND * dx), np.minimum(high, within[1] + BAND * dx)
        high = np.maximum(high, low)
    while count(dx) > most:
        dx *= 1.1
    return dx, low, high


def mesh_distance(
    mesh: TriangleMesh, dx: float, nearest: bool = False, within: Region | None = None, most: float = MOST_NODES
) -> Distance:
    """Signed distance of a closed mesh on a grid of nodes; which triangle is nearest too, if asked for.

    Exact point-triangle distances within `BAND` nodes of the surface, the sign from the
    generalized winding number (Jacobson et al. 2013; libigl), a distance transform beyond.
    """
    dx, low, high = sampling_of(mesh, dx, within, most)
    origin = low - (BAND + 1) * dx
    shape = tuple(int(n) for n in np.ceil((high - low) / dx).astype(int) + 2 * (BAND + 1) + 1)
    far = np.float32((BAND + 1) * dx)
    field = np.full(shape, far, np.float32)
    corner = mesh.position[mesh.triangle].astype(np.float64)
    triangle = np.zeros(shape if nearest else (1, 1, 1), np.int32)
    _splat_triangles(field, corner, origin, dx, BAND, triangle)
    exact = field < far
    if exact.any():
        if nearest:
            reach, there = ndimage.distance_transform_edt(~exact, return_indices=True)
            triangle = triangle[tuple(there)]
        else:
            reach = ndimage.distance_transform_edt(~exact)
        reach = reach.astype(np.float32) * np.float32(dx)
        field[~exact] = (BAND * np.float32(dx) + reach)[~exact]
    outside = _outside(mesh, field, exact, origin, dx)
    field[~outside] *= -1
    return Distance(FIELD, np.zeros(3), field, origin, float(dx), low, high, nearest=triangle)


def _outside(mesh: TriangleMesh, field: np.ndarray, exact: np.ndarray, origin: np.ndarray, dx: float) -> np.ndarray:
    """Which nodes (bool) lie outside of a mesh by their distances from it without a sign.

    Between two neighbours more than half a step from the surface it does not pass, so that all that are joined by such
    lie on one side; of an open mesh, those alone that lie far from it.
    """
    alike = ~exact if mesh.open_edges() else field > HALF * dx
    labels, count = ndimage.label(alike)
    outside = np.ones(field.shape, bool)
    outside[~alike] = _winding(mesh, origin + np.argwhere(~alike) * dx) < 0.5
    if count:
        one = np.zeros(count + 1, np.int64)  # a node of each
        one[labels.ravel()] = np.arange(labels.size)
        seeds = np.stack(np.unravel_index(one[1:], field.shape), axis=1)
        one_outside = np.concatenate([[True], _winding(mesh, origin + seeds * dx) < 0.5])
        outside[alike] = one_outside[labels[alike]]
    return outside


def _winding(mesh: TriangleMesh, points: np.ndarray) -> np.ndarray:
    if len(points) == 0:
        return np.zeros(0)
    position = np.ascontiguousarray(mesh.position, np.float64)
    triangle = np.ascontiguousarray(mesh.triangle, np.int64)
    return np.asarray(igl.fast_winding_number(position, triangle, np.ascontiguousarray(points, np.float64))).ravel()


@kernel(inline="always")
def _dot(ax, ay, az, bx, by, bz):
    return ax * bx + ay * by + az * bz


@kernel
def point_triangle_distance(p, a, b, c):
    """Distance of a point to a triangle (Ericson, Real-Time Collision Detection, 5.1.5)."""
    # by components: small arrays would be made anew for each point
    abx, aby, abz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    acx, acy, acz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    x, y, z = p[0] - a[0], p[1] - a[1], p[2] - a[2]
    d1, d2 = _dot(abx, aby, abz, x, y, z), _dot(acx, acy, acz, x, y, z)
    if d1 <= 0 and d2 <= 0:
        return math.sqrt(x * x + y * y + z * z)
    bx, by, bz = p[0] - b[0], p[1] - b[1], p[2] - b[2]
    d3, d4 = _dot(abx, aby, abz, bx, by, bz), _dot(acx, acy, acz, bx, by, bz)
    if d3 >= 0 and d4 <= d3:
        return math.sqrt(bx * bx + by * by + bz * bz)
    cx, cy, cz = p[0] - c[0], p[1] - c[1], p[2] - c[2]
    d5, d6 = _dot(abx, aby, abz, cx, cy, cz), _dot(acx, acy, acz, cx, cy, cz)
    if d6 >= 0 and d5 <= d6:
        return math.sqrt(cx * cx + cy * cy + cz * cz)
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    total = va + vb + vc
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        v, w = d1 / (d1 - d3), 0.0
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        v, w = 0.0, d2 / (d2 - d6)
    elif va <= 0 and (d4 - d3) >= 0 and (d5 - d6) >= 0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        v = 1.0 - w
    elif total == 0.0:
        return math.sqrt(min(x * x + y * y + z * z, bx * bx + by * by + bz * bz, cx * cx + cy * cy + cz * cz))
    else:
        v, w = vb / total, vc / total
    x, y, z = x - v * abx - w * acx, y - v * aby - w * acy, z - v * abz - w * acz
    return math.sqrt(x * x + y * y + z * z)


@kernel
def _splat_triangles(field, corner, origin, dx, band, nearest):
    nx, ny, nz = field.shape
    noting = nearest.shape[0] == nx
    p = np.empty(3)
    for t in range(corner.shape[0]):
        a, b, c = corner[t, 0], corner[t, 1], corner[t, 2]
        lo = np.empty(3, np.int64)
        hi = np.empty(3, np.int64)
        for d in range(3):
            lo[d] = math.floor((min(a[d], b[d], c[d]) - origin[d]) / dx) - band
            hi[d] = math.ceil((max(a[d], b[d], c[d]) - origin[d]) / dx) + band
        for i in range(max(lo[0], 0), min(hi[0] + 1, nx)):
            p[0] = origin[0] + i * dx
            for j in range(max(lo[1], 0), min(hi[1] + 1, ny)):
                p[1] = origin[1] + j * dx
                for k in range(max(lo[2], 0), min(hi[2] + 1, nz)):
                    p[2] = origin[2] + k * dx
                    d = point_triangle_distance(p, a, b, c)
                    if d < field[i, j, k] and d <= band * dx:
                        field[i, j, k] = d
                        if noting:
                            nearest[i, j, k] = t


@kernel
def _rectangle(x, y, x0, x1, y0, y1):
    """Signed distance to a rectangle in the plane."""
    dx = max(x0 - x, x - x1)
    dy = max(y0 - y, y - y1)
    return math.sqrt(max(dx, 0.0) ** 2 + max(dy, 0.0) ** 2) + min(max(dx, dy), 0.0)


@kernel
def solid_distance(x, y, z, kind, size, field, origin, dx):
    """Signed distance (m) of a solid at a point of its own frame (m)."""
    if kind == 0:
        return y
    if kind == 1:
        qx, qy, qz = abs(x) - size[0], abs(y) - size[1], abs(z) - size[2]
        out = math.sqrt(max(qx, 0.0) ** 2 + max(qy, 0.0) ** 2 + max(qz, 0.0) ** 2)
        return out + min(max(qx, max(qy, qz)), 0.0)
    if kind == 2:
        return math.sqrt(x * x + y * y + z * z) - size[0]
    if kind == 3 or kind == 4:
        r = math.sqrt(x * x + z * z)
        shell = _rectangle(r, y, size[0] - size[2], size[0], 0.0, size[1])
        if kind == 4:
            return shell
        return min(shell, _rectangle(r, y, -size[0], size[0], 0.0, size[2]))
    nx, ny, nz = field.shape
    fx, fy, fz = (x - origin[0]) / dx, (y - origin[1]) / dx, (z - origin[2]) / dx
    cx = min(max(fx, 0.0), nx - 1.001)
    cy = min(max(fy, 0.0), ny - 1.001)
    cz = min(max(fz, 0.0), nz - 1.001)
    i, j, k = int(cx), int(cy), int(cz)
    a, b, c = cx - i, cy - j, cz - k
    value = 0.0
    for di in range(2):
        wx = a if di else 1 - a
        for dj in range(2):
            wy = b if dj else 1 - b
            for dk in range(2):
                value += wx * wy * (c if dk else 1 - c) * field[i + di, j + dj, k + dk]
    ox, oy, oz = (fx - cx) * dx, (fy - cy) * dx, (fz - cz) * dx
    return value + math.sqrt(ox * ox + oy * oy + oz * oz)


@shared
def _distances(points, matrix, kind, size, field, origin, dx, result):
    for i in prange(points.shape[0]):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        x = matrix[0, 0] * px + matrix[0, 1] * py + matrix[0, 2] * pz + matrix[0, 3]
        y = matrix[1, 0] * px + matrix[1, 1] * py + matrix[1, 2] * pz + matrix[1, 3]
        z = matrix[2, 0] * px + matrix[2, 1] * py + matrix[2, 2] * pz + matrix[2, 3]
        result[i] = solid_distance(x, y, z, kind, size, field, origin, dx)
