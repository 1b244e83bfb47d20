"""Triangle meshes as plain arrays, and what can be asked of them."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass

import numpy as np
from numba import prange
from skimage.draw import polygon

from basin.kernels import kernel


@dataclass(frozen=True)
class TriangleMesh:
    """Triangles of a surface.

    Attributes
    ----------
    position : float64 (n, 3), metres
    triangle : int32 (m, 3), counter-clockwise seen from outside
    """

    position: np.ndarray
    triangle: np.ndarray

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Smallest and largest corner, (3,) each, in metres."""
        return self.position.min(axis=0), self.position.max(axis=0)

    def volume(self) -> float:
        """Enclosed volume in m3 by the divergence theorem; positive when triangles face out."""
        a, b, c = (self.position[self.triangle[:, i]] for i in range(3))
        return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6.0)

    def area(self) -> float:
        """Surface area in m2."""
        a, b, c = (self.position[self.triangle[:, i]] for i in range(3))
        return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())

    def open_edges(self) -> int:
        """Edges that do not have exactly one triangle on each side, in opposite directions."""
        edges = np.concatenate([self.triangle[:, [0, 1]], self.triangle[:, [1, 2]], self.triangle[:, [2, 0]]])
        n = np.int64(len(self.position))
        forward = edges[:, 0].astype(np.int64) * n + edges[:, 1]
        backward = edges[:, 1].astype(np.int64) * n + edges[:, 0]
        ways, count = np.unique(forward, return_counts=True)
        opposite, opposite_count = np.unique(backward, return_counts=True)
        matched = np.zeros(len(ways), dtype=np.int64)
        at = np.searchsorted(opposite, ways)
        at[at == len(opposite)] = 0
        found = opposite[at] == ways if len(opposite) else np.zeros(len(ways), bool)
        matched[found] = opposite_count[at[found]]
        return int(np.maximum(count - matched, 0).sum())

    def euler_characteristic(self) -> int:
        """V - E + F over the vertices that triangles use."""
        edges = np.sort(
            np.concatenate([self.triangle[:, [0, 1]], self.triangle[:, [1, 2]], self.triangle[:, [2, 0]]]), axis=1
        )
        vertices = len(np.unique(self.triangle))
        return vertices - len(np.unique(edges, axis=0)) + len(self.triangle)

    def shadow(self, way: np.ndarray, cells: int = 512) -> float:
        """Area (m2) of the mesh as seen along a direction (3,), rasterised at `cells` to its longer side."""
        way = way / np.linalg.norm(way)
        first = np.cross(way, np.eye(3)[np.abs(way).argmin()])
        first /= np.linalg.norm(first)
        flat = self.position @ np.stack([first, np.cross(way, first)], axis=1)
        low, extent = flat.min(axis=0), np.ptp(flat, axis=0)
        edge = float(extent.max()) / cells
        pixel = (flat - low) / edge
        seen = np.zeros(tuple(np.ceil(extent / edge).astype(int) + 1), bool)
        for corners in pixel[self.triangle]:
            seen[polygon(corners[:, 0] - 0.5, corners[:, 1] - 0.5, seen.shape)] = True
        return float(seen.sum()) * edge * edge

    def transformed(self, matrix: np.ndarray) -> TriangleMesh:
        """The mesh moved by an affine matrix (4, 4)."""
        moved = self.position @ matrix[:3, :3].T + matrix[:3, 3]
        triangle = self.triangle if np.linalg.det(matrix[:3, :3]) > 0 else self.triangle[:, ::-1].copy()
        return TriangleMesh(moved, triangle)

    def digest(self) -> str:
        """Hex digest of the contents, for cache keys."""
        data = hashlib.sha256(np.ascontiguousarray(self.position, np.float64).tobytes())
        data.update(np.ascontiguousarray(self.triangle, np.int32).tobytes())
        return data.hexdigest()[:32]


def least_thickness(mesh: TriangleMesh, most: int = 2000) -> float:
    """Smallest way (m) straight through a closed mesh from the middles of its triangles, of about `most` of them."""
    corner = mesh.position[mesh.triangle].astype(np.float64)
    if len(corner) == 0:
        return 0.0
    normal = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    size = np.linalg.norm(normal, axis=1, keepdims=True)
    chosen = np.flatnonzero(size[:, 0] > 0)[:: max(len(corner) // most, 1)]
    inwards = -normal[chosen] / size[chosen]
    return float(_through(corner, chosen, corner[chosen].mean(axis=1), inwards).min(initial=np.inf))


@kernel(parallel=True)
def _through(corner, own, start, way):
    """Distance from places along unit vectors to the first triangle that is not the place's own (Moeller, Trumbore)."""
    out = np.full(start.shape[0], np.inf)
    for i in prange(start.shape[0]):
        for m in range(corner.shape[0]):
            if m == own[i]:
                continue
            e, f = corner[m, 1] - corner[m, 0], corner[m, 2] - corner[m, 0]
            h = np.cross(way[i], f)
            det = e @ h
            if abs(det) < 1e-30:
                continue
            s = start[i] - corner[m, 0]
            u = (s @ h) / det
            q = np.cross(s, e)
            v = (way[i] @ q) / det
            far = (f @ q) / det
            if u >= 0.0 and v >= 0.0 and u + v <= 1.0 and 0.0 < far < out[i]:
                out[i] = far
    return out


def vertex_normals(position: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """Area-weighted unit normals, float64 (n, 3), of a mesh's vertices; zero where there is none."""
    a, b, c = (np.asarray(position, np.float64)[triangle[:, i]] for i in range(3))
    face = np.cross(b - a, c - a)
    normal = np.zeros((len(position), 3))
    for axis in range(3):
        for corner in range(3):
            normal[:, axis] += np.bincount(triangle[:, corner], face[:, axis], len(position))
    return normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)


def welded(mesh: TriangleMesh) -> TriangleMesh:
    """Join vertices at the same place (1e-6 of the size) and drop triangles that collapse."""
    if len(mesh.position) == 0:
        return mesh
    kept, triangle = weld_map(mesh)
    return TriangleMesh(mesh.position[kept], triangle)


def weld_map(mesh: TriangleMesh) -> tuple[np.ndarray, np.ndarray]:
    """Which vertices stay when those at the same place are joined (k,), and the triangles that are left (m, 3)."""
    low, high = mesh.bounds()
    cell = max(float((high - low).max()), 1e-30) * 1e-6
    _, first, inverse = np.unique(
        np.round((mesh.position - low) / cell).astype(np.int64), axis=0, return_index=True, return_inverse=True
    )
    triangle = inverse.reshape(-1)[mesh.triangle].astype(np.int32)
    distinct = (
        (triangle[:, 0] != triangle[:, 1]) & (triangle[:, 1] != triangle[:, 2]) & (triangle[:, 2] != triangle[:, 0])
    )
    return first, triangle[distinct]


def grounded(mesh: TriangleMesh) -> TriangleMesh:
    """The closed solid below an open mesh that is seen from above: its rim goes straight down to a flat base.

    The base lies below the lowest point by as much as the mesh is wide.
    """
    a, b, c = (mesh.position[mesh.triangle[:, i]] for i in range(3))
    triangle = mesh.triangle if np.cross(b - a, c - a)[:, 1].sum() >= 0 else mesh.triangle[:, ::-1]
    edges = np.concatenate([triangle[:, [0, 1]], triangle[:, [1, 2]], triangle[:, [2, 0]]]).astype(np.int64)
    n = len(mesh.position)
    rim = edges[~np.isin(edges[:, 0] * n + edges[:, 1], edges[:, 1] * n + edges[:, 0])]
    low, high = mesh.bounds()
    base = mesh.position.copy()
    base[:, 1] = low[1] - float((high - low).max())
    first, second = rim[:, 0], rim[:, 1]
    sides = [np.stack([first, first + n, second], axis=1), np.stack([second, first + n, second + n], axis=1)]
    every = np.concatenate([triangle, triangle[:, ::-1] + n, *sides])
    return TriangleMesh(np.concatenate([mesh.position, base]), every.astype(np.int32))


def facing_out(mesh: TriangleMesh) -> TriangleMesh:
    """The same closed mesh with positive volume."""
    return TriangleMesh(mesh.position, mesh.triangle[:, ::-1].copy()) if mesh.volume() < 0 else mesh


def joined(meshes: list[TriangleMesh]) -> TriangleMesh:
    """All triangles of several meshes as one."""
    offsets = np.cumsum([0] + [len(m.position) for m in meshes[:-1]])
    return TriangleMesh(
        np.concatenate([m.position for m in meshes]),
        np.concatenate([m.triangle + o for m, o in zip(meshes, offsets, strict=True)]).astype(np.int32),
    )
