"""Openings that liquid could come out of: rims, edges of open meshes, flat faces."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from basin.geometry.mesh import TriangleMesh, welded
from basin.scene import Collider, Scene
from basin.stages.files import SceneFiles, element_mesh

FLAT = np.cos(np.radians(1.0))  # of two triangles' normals that lie in one face
BEND = np.cos(np.radians(25.0))  # of two faces with an edge between them that is one
SQUARE = 0.005  # of its area by which a loop may differ from the rectangle about it and count as one
ROUND = 0.25  # of a loop's radius by which its points may lie off its plane
LEAST = 0.02  # of a mesh's diagonal: smaller loops are no openings
MOST = 60  # openings of one element
MOST_TRIANGLES = 200_000


@dataclass(frozen=True)
class Opening:
    """An outline that a source can take.

    Attributes
    ----------
    element : index of what it is of
    middle : (3,) m; normal : (3,) which way is out
    radius : m, of a disc of its area
    sides, along : of a rectangle its width and depth (m), and which way (3,) its width lies; empty if it is none
    loop : (n, 3) m
    """

    element: int
    middle: list[float]
    normal: list[float]
    radius: float
    sides: list[float]
    along: list[float]
    loop: list[list[float]]


def openings(scene: Scene, files: SceneFiles, frame: int) -> list[Opening]:
    """Openings of all colliders as they stand at a frame, the largest of each first."""
    time = scene.time.shot_time(frame)
    found = []
    for index, element in enumerate(scene.elements):
        if isinstance(element, Collider):
            mesh = element_mesh(element, files)
            if mesh is None or len(mesh.triangle) > MOST_TRIANGLES:
                continue
            found += _of_mesh(index, welded(mesh).transformed(scene.placement(element).matrix(time)))
    return found


def _of_mesh(index: int, mesh: TriangleMesh) -> list[Opening]:
    low, high = mesh.bounds()
    least = LEAST * float(np.linalg.norm(high - low))
    normal = _normals(mesh)
    made: list[Opening] = []
    for loop, out in [*_rims(mesh), *_faces(mesh, normal)]:
        points = mesh.position[loop]
        opening = _round(index, points, out, least)
        if opening is not None and not any(_same(opening, other) for other in made):
            made.append(opening)
    return sorted(made, key=lambda one: -one.radius)[:MOST]


def _normals(mesh: TriangleMesh) -> np.ndarray:
    """Unit normals (m, 3) of triangles; zero where they have no area."""
    a, b, c = (mesh.position[mesh.triangle[:, i]] for i in range(3))
    n = np.cross(b - a, c - a)
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1), 1e-30)[:, None])


def _rims(mesh: TriangleMesh) -> list[tuple[list[int], np.ndarray | None]]:
    """Loops of edges that have one triangle alone."""
    return [(loop, None) for loop in _loops(mesh.triangle)]


def _faces(mesh: TriangleMesh, normal: np.ndarray) -> list[tuple[list[int], np.ndarray | None]]:
    """Outlines of flat faces of several triangles, inner ones too; each faces as its face does."""
    pairs = _neighbours(mesh.triangle)
    turn = np.einsum("ij,ij->i", normal[pairs[:, 0]], normal[pairs[:, 1]])
    joined = pairs[turn > FLAT]
    m = len(mesh.triangle)
    graph = coo_matrix((np.ones(len(joined)), (joined[:, 0], joined[:, 1])), shape=(m, m))
    _, face = connected_components(graph, directed=False)
    sizes = np.bincount(face)
    curved = np.zeros(len(sizes), bool)  # a facet of something round
    curved[face[pairs[(turn <= FLAT) & (turn > BEND)].ravel()]] = True
    found: list[tuple[list[int], np.ndarray | None]] = []
    for number in np.argsort(-sizes)[: 4 * MOST]:
        if sizes[number] < 2:
            break
        if curved[number]:
            continue
        members = np.flatnonzero(face == number)
        found += [(loop, normal[members[0]]) for loop in _loops(mesh.triangle[members])]
    return found


def _neighbours(triangle: np.ndarray) -> np.ndarray:
    """Pairs (n, 2) of triangles that share an edge."""
    edges = np.sort(np.concatenate([triangle[:, [0, 1]], triangle[:, [1, 2]], triangle[:, [2, 0]]]), axis=1)
    owner = np.tile(np.arange(len(triangle)), 3)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    edges, owner = edges[order], owner[order]
    same = (edges[1:] == edges[:-1]).all(axis=1)
    return np.stack([owner[:-1][same], owner[1:][same]], axis=1)


def _loops(triangle: np.ndarray) -> list[list[int]]:
    """Closed loops of the edges of triangles that no other of them has the other way round."""
    there = {(int(t[i]), int(t[(i + 1) % 3])) for t in triangle for i in range(3)}
    follow: dict[int, list[int]] = defaultdict(list)
    for a, b in there:
        if (b, a) not in there:
            follow[a].append(b)
    loops = []
    for start in sorted(follow):
        loop, at = [], start
        while follow.get(at):
            loop.append(at)
            at = follow[at].pop()
            if at == start:
                break
        if at == start and len(loop) > 2:
            loops.append(loop)
    return loops


def _round(index: int, points: np.ndarray, out: np.ndarray | None, least: float) -> Opening | None:
    """An opening of a loop; None if it is too small, or not flat."""
    after = np.roll(points, -1, axis=0)
    rough = points.mean(axis=0)
    area = 0.5 * np.cross(points - rough, after - rough).sum(axis=0)  # Newell's, about the middle
    size = float(np.linalg.norm(area))
    if size <= 0.0:
        return None
    normal = area / size
    radius = float(np.sqrt(size / np.pi))
    span = np.linalg.norm(after - points, axis=1)[:, None]
    middle = ((points + after) / 2 * span).sum(axis=0) / max(float(span.sum()), 1e-30)
    off = np.abs((points - middle) @ normal).max()
    if radius < least or off > ROUND * radius:
        return None
    if out is not None and normal @ out < 0:
        normal = -normal
    along, across, corner = _box_about(points, normal, after - points)
    sides = np.array([np.ptp(points @ along), np.ptp(points @ across)])
    square = abs(float(sides.prod()) - size) < SQUARE * size
    middle = corner + 0.5 * (sides[0] * along + sides[1] * across) if square else middle
    loop = points[:: max(len(points) // 48, 1)].tolist()
    width, way = (sides.tolist(), along.tolist()) if square else ([], [])
    return Opening(index, middle.tolist(), normal.tolist(), radius, width, way, loop)


def _box_about(points: np.ndarray, normal: np.ndarray, edges: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """The rectangle about a flat loop along its longest edge: its two ways (3,), and the corner where both begin."""
    edge = edges[int(np.linalg.norm(edges, axis=1).argmax())]
    along = edge - (edge @ normal) * normal
    along /= max(float(np.linalg.norm(along)), 1e-30)
    across = np.cross(normal, along)
    corner = (points @ along).min() * along + (points @ across).min() * across + (points @ normal).mean() * normal
    return along, across, corner


def _same(one: Opening, other: Opening) -> bool:
    apart = float(np.linalg.norm(np.subtract(one.middle, other.middle)))
    return apart < 0.02 * one.radius and abs(one.radius - other.radius) < 0.02 * one.radius
