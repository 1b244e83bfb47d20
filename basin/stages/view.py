"""Frames packed for a graphics processor: a small JSON header, then plain arrays.

Layout: ``ZBV1``, uint32 length of the header, the header (JSON, padded with blanks to four bytes),
then the arrays in the order and types that the header lists, each padded to four bytes.
"""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from basin.cache import StageCache
from basin.geometry.mesh import TriangleMesh
from basin.stages.solid import SolverSolid

LEVELS = 65535
LEAST_TOP = 0.01  # m/s: the colours of liquid at rest do not stretch over its last whispers


def pack(header: dict[str, Any], arrays: list[tuple[str, np.ndarray]]) -> bytes:
    """Join a header and arrays as described above."""
    header = {**header, "arrays": [[name, a.dtype.str.lstrip("<|"), a.size] for name, a in arrays]}
    text = json.dumps(header, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    parts = [b"ZBV1", np.uint32(len(text)).tobytes(), text]
    for _, array in arrays:
        data = np.ascontiguousarray(array).tobytes()
        parts += [data, b"\0" * (-len(data) % 4)]
    return b"".join(parts)


def _within_bounds(position: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    low, high = position.min(axis=0), position.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    return low, span, np.round((position - low) / span * LEVELS).astype("<u2")


def pack_particles(store: StageCache, frame: int, budget: int) -> bytes:
    """A liquid frame as points with speed, thinned to `budget` by a hash of the ids."""
    data = store.frame(frame)
    position, velocity, identity = data["position"], data["velocity"], data["id"]
    total = len(position)
    if total == 0:
        return pack({"kind": "points", "count": 0, "total": 0}, [])
    chance = (identity.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(32)
    order = np.argsort(chance, kind="stable")[:budget]
    low, span, place = _within_bounds(position[order])
    speed = np.sqrt((velocity[order] ** 2).sum(axis=1))
    top = max(float(speed.max()), LEAST_TOP)
    shade = np.round(speed / top * 255).astype(np.uint8)
    histogram, _ = np.histogram(speed, bins=40, range=(0, top))
    header = {
        "kind": "points",
        "count": len(order),
        "total": total,
        "low": low.tolist(),
        "span": span.tolist(),
        "top": top,
        "histogram": histogram.tolist(),
        "spacing": float(data["particle_spacing"]),
    }
    return pack(header, [("position", place.ravel()), ("shade", shade)])


def pack_surface(store: StageCache, frame: int) -> bytes:
    """A surface frame as an indexed mesh with normals and speed."""
    data = store.frame(frame)
    return pack_mesh(data["position"], data["triangle"], data["velocity"])


def pack_mesh(position: np.ndarray, triangle: np.ndarray, velocity: np.ndarray | None = None, **more: Any) -> bytes:
    """Any mesh: 16-bit positions, octahedral normals in two signed bytes, 8-bit speed; `more` goes into the header."""
    if len(triangle) == 0:
        return pack({"kind": "mesh", "count": 0, "total": 0}, [])
    low, span, place = _within_bounds(np.asarray(position, np.float64))
    speed = np.zeros(len(position)) if velocity is None else np.sqrt((velocity**2).sum(axis=1))
    top = max(float(speed.max()), LEAST_TOP)
    header = {
        "kind": "mesh",
        "count": len(position),
        "total": len(triangle),
        "low": low.tolist(),
        "span": span.tolist(),
        "top": top,
        **more,
    }
    arrays = [
        ("position", place.ravel()),
        ("normal", octahedral(vertex_normals(position, triangle)).ravel()),
        ("shade", np.round(speed / top * 255).astype(np.uint8)),
        ("index", triangle.astype("<u4").ravel()),
    ]
    return pack(header, arrays)


def pack_element(mesh: TriangleMesh) -> bytes:
    """A collider or source for viewing, with flat sides: each triangle has its own corners."""
    corner = mesh.position[mesh.triangle].reshape(-1, 3)
    return pack_mesh(corner, np.arange(len(corner)).reshape(-1, 3))


def pack_solid(solid: SolverSolid) -> bytes:
    """A collider as the solver sees it, with its errors in mm."""
    told = {"voxel": 1000 * solid.voxel, "largest": 1000 * solid.largest, "mean": 1000 * solid.mean}
    return pack_mesh(solid.mesh.position, solid.mesh.triangle, None, **told)


def vertex_normals(position: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """Area-weighted unit normals, float64 (n, 3)."""
    a, b, c = (np.asarray(position, np.float64)[triangle[:, i]] for i in range(3))
    face = np.cross(b - a, c - a)
    normal = np.zeros((len(position), 3))
    for axis in range(3):
        for corner in range(3):
            normal[:, axis] += np.bincount(triangle[:, corner], face[:, axis], len(position))
    return normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-30)


def octahedral(normal: np.ndarray) -> np.ndarray:
    """Unit vectors (n, 3) to int8 (n, 2) (Cigolle et al. 2014, "A survey of efficient representations")."""
    flat = normal / np.maximum(np.abs(normal).sum(axis=1, keepdims=True), 1e-30)
    sign = np.where(flat[:, :2] >= 0, 1.0, -1.0)
    folded = np.where(flat[:, 2:] >= 0, flat[:, :2], (1 - np.abs(flat[:, 1::-1])) * sign)
    return np.round(folded * 127).astype(np.int8)
