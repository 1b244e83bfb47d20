"""The domain that a scene needs: about its sources, the ways that streams fly, and what its colliders sweep."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.geometry.shapes import GroundPlane
from basin.scene import Collider, Fill, Inflow, Scene
from basin.settings import value_at
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.gestures.filling import filling
from basin.stages.gestures.flight import flight

MARGIN = 0.12  # of the size of what moves, about it
LEAST = 4.0  # voxels of a draft about it at least
LOOKS = 48  # moments at which moving things are looked at
SMALLEST = 8  # voxels of a draft
Box = tuple[np.ndarray, np.ndarray]


@dataclass(frozen=True)
class Fitted:
    """A domain: its corner and edges (m), its voxels beside those of the one that is there, and what was kept as it is.

    Attributes
    ----------
    low, size : (3,) m
    voxels, before : of the quality that was asked for
    kept : names of walls that liquid rests against, which stay where they are
    """

    low: list[float]
    size: list[float]
    voxels: int
    before: int
    kept: list[str]


@dataclass
class _Reach:
    """Boxes (low, high) about what liquid comes from and flies along; about colliders; and how far it splashes (m)."""

    liquid: list[Box]
    solid: list[Box]
    splash: float


def fitted(scene: Scene, files: SceneFiles, quality: str) -> Fitted | None:
    """The domain that fits, in whole voxels of a draft; None if nothing in the scene has a size."""
    found = _reach(scene, files)
    if not found.liquid:
        return None
    dx = scene.voxel_size("draft")
    before = np.array(scene.domain.low), np.array(scene.domain.low) + np.array(scene.domain.size)
    low, high = _around(found, dx)
    kept = _kept(scene, found, dx)
    for axis, end in kept:
        (low, high)[end][axis] = before[end][axis]
    # whole voxels of a draft from the corner that is there, so that nothing in the liquid's grid moves
    low = before[0] + np.floor((low - before[0]) / dx + 1e-9) * dx
    high = np.maximum(low + np.ceil((high - low) / dx - 1e-9) * dx, low + SMALLEST * dx)
    for axis, end in kept:
        (low, high)[end][axis] = before[end][axis]
    voxel = scene.voxel_size(quality)

    def count(size: np.ndarray) -> int:
        return int(np.prod(np.maximum(np.round(size / voxel), 1)))

    names = [f"{'xyz'[axis]}_{('min', 'max')[end]}" for axis, end in kept]
    corner, edges = [[round(float(x), 6) for x in v] for v in (low, high - low)]
    return Fitted(corner, edges, count(high - low), count(np.array(scene.domain.size)), names)


def _around(found: _Reach, dx: float) -> Box:
    """The box about all that liquid can be at: no higher than it comes from, as wide as it splashes."""
    low = np.min([b[0] for b in found.liquid + found.solid], axis=0)
    high = np.max([b[1] for b in found.liquid + found.solid], axis=0)
    wet = np.min([b[0] for b in found.liquid], axis=0), np.max([b[1] for b in found.liquid], axis=0)
    high[1] = min(high[1], wet[1][1])
    for axis in (0, 2):
        low[axis] = min(low[axis], wet[0][axis] - found.splash)
        high[axis] = max(high[axis], wet[1][axis] + found.splash)
    margin = max(MARGIN * float((wet[1] - wet[0]).max()), LEAST * dx)
    return low - margin, high + margin


def _reach(scene: Scene, files: SceneFiles) -> _Reach:
    found = _Reach([], [], 0.0)
    end = scene.time.shot_time(scene.time.last)
    pull = max(float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))) * scene.time.time_scale**2, 1e-6)
    floor = scene.domain.low[1]
    for index, element in enumerate(scene.elements):
        if not isinstance(element, Collider | Fill | Inflow) or isinstance(element.shape, GroundPlane):
            continue
        mesh = element_mesh(element, files)
        if mesh is None or not len(mesh.position):
            continue
        corner = np.stack([mesh.position.min(axis=0), mesh.position.max(axis=0)])
        corners = np.stack(np.meshgrid(*corner.T, indexing="ij"), axis=-1).reshape(-1, 3)
        pose, times = scene.placement(element), [0.0]
        if isinstance(element, Fill) and element.start_frame is not None:
            times = [scene.time.shot_time(element.start_frame)]
        elif pose.moves() and not isinstance(element, Fill):
            times = list(np.linspace(0.0, end, LOOKS))
        matrices = np.stack([pose.matrix(t) for t in times])
        placed = np.einsum("mij,nj->mni", matrices[:, :3, :3], corners) + matrices[:, None, :3, 3]
        box = placed.min(axis=(0, 1)), placed.max(axis=(0, 1))
        if isinstance(element, Collider):
            found.solid.append(box)
            continue
        found.liquid.append(box)
        if isinstance(element, Fill):
            fall = max(float(box[0][1]) - floor, 0.0)
            speed = float(np.sqrt(2 * pull * fall)) + float(np.linalg.norm(element.velocity))
            found.splash = max(found.splash, speed**2 / (4 * pull))
            continue
        way = flight(scene, files, index, "draft")
        if way is None:
            continue
        if not way.leaves:
            found.liquid.append((np.min(way.path, axis=0), np.max(way.path, axis=0)))
        fills = filling(scene, files, index, "draft")
        if fills is None or fills.open:  # what a vessel holds does not splash far
            up = min(way.speed**2 / (4 * pull), max(scene.domain.size))
            found.splash = max(found.splash, up)
            struck = np.array(way.path[-1])
            found.liquid.append((struck, struck + np.array([0.0, up, 0.0])))
    return found


def _kept(scene: Scene, found: _Reach, dx: float) -> list[tuple[int, int]]:
    """Walls (axis, end) that stay: closed ones that liquid falls to or lies against, or a collider goes through; those
    of a periodic or calm axis."""
    low, high = np.array(scene.domain.low), np.array(scene.domain.low) + np.array(scene.domain.size)
    pull = value_at(scene.liquid.gravity, 0.0)
    kept = []
    for axis, pair in enumerate(scene.domain.walls.pairs()):
        for end, wall in enumerate(pair):
            falls_to = pull[axis] * (2 * end - 1) > 0.5 * float(np.linalg.norm(pull)) > 0

            def beyond(box: Box, axis: int = axis, end: int = end) -> float:
                return float(low[axis] - box[0][axis] if end == 0 else box[1][axis] - high[axis])

            touched = any(beyond(b) > -1.5 * dx for b in found.liquid) or any(beyond(b) > 0 for b in found.solid)
            if wall in ("periodic", "calm") or (wall == "closed" and (falls_to or touched)):
                kept.append((axis, end))
    return kept
