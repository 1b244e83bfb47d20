"""What is done to the mesh itself: fairing, subdividing, thinning, laying out flat."""

from __future__ import annotations

import fast_simplification
import numpy as np
import trimesh
import xatlas
from numba import get_num_threads
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from basin.geometry.mesh import TriangleMesh, vertex_normals
from basin.grid.neighbours import binned

PASS_BAND = (0.6307, -0.6732)  # lambda and mu of Taubin 1995: 1/lambda + 1/mu = 0.1
ENOUGH = 0.02  # of the volume: what is off by less is left
BLOCK = 4.0  # voxels: edge of the cells whose particles are asked for together
SMOOTH, ROUGH = 0.02, 0.08  # less than one, the mean of the ways that a vertex's triangles face: no move, and all of it
SWELLS, SHRINKS = 0.9, 0.4  # voxels that a body grows by at most where it is ragged, and shrinks
THIN_UNIT = float(np.finfo(float).eps) ** 0.5 / 3  # collapses cost up to the epsilon, a sum of squared lengths


def faired(position: np.ndarray, triangle: np.ndarray, passes: int) -> np.ndarray:
    """Vertices (n, 3) smoothed with little loss of volume (Taubin 1995): umbrella steps in and out, in turn."""
    count = len(position)
    if count == 0 or passes == 0:
        return position
    t = triangle.astype(np.int64)
    a = np.concatenate([t[:, 0], t[:, 1], t[:, 2], t[:, 1], t[:, 2], t[:, 0]])
    b = np.concatenate([t[:, 1], t[:, 2], t[:, 0], t[:, 0], t[:, 1], t[:, 2]])
    beside = sparse.csr_matrix((np.ones(len(a)), (a, b)), shape=(count, count))
    beside.data[:] = 1.0  # a side has two triangles and would count twice
    beside = sparse.diags(1.0 / np.maximum(np.asarray(beside.sum(axis=1)).ravel(), 1.0)) @ beside
    place = np.asarray(position, np.float64)
    for _ in range(passes):
        for share in PASS_BAND:
            place = place + share * (beside @ place - place)
    return place


def subdivided(position: np.ndarray, triangle: np.ndarray, times: int) -> tuple[np.ndarray, np.ndarray]:
    """A mesh with each triangle cut into four and rounded (Loop 1987), some times."""
    if times == 0 or len(triangle) == 0:
        return position, triangle
    place, faces = trimesh.remesh.subdivide_loop(position, triangle.astype(np.int64), iterations=times)
    return np.asarray(place), np.asarray(faces, np.int32)


def thinned(position: np.ndarray, triangle: np.ndarray, tolerance: float) -> tuple[np.ndarray, np.ndarray]:
    """A mesh with fewer triangles that stays within about `tolerance` metres of the given one.

    Sides are collapsed in the order of their quadric error (Garland & Heckbert 1997, by `fast-simplification`) while
    that stays below a bound; flat parts lose nearly all of their triangles, curved ones few.
    """
    if tolerance <= 0 or len(triangle) == 0:
        return position, triangle
    low = position.min(axis=0)
    scale = THIN_UNIT / tolerance
    place, faces = fast_simplification.simplify(
        ((position - low) * scale).astype(np.float64), triangle.astype(np.int32), 0.5, lossless=True
    )
    return np.asarray(place, np.float64) / scale + low, np.asarray(faces, np.int32)


def unwrapped(position: np.ndarray, triangle: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Texture coordinates of a mesh laid out flat by xatlas.

    Returns
    -------
    int64 (k,), which vertex each new one was, since those on seams are there once for each side; int32 (m, 3),
    triangles of the new ones; float32 (k, 2) between 0 and 1
    """
    was, faces, flat = xatlas.parametrize(position.astype(np.float32), triangle.astype(np.uint32))
    return was.astype(np.int64), faces.astype(np.int32), flat.astype(np.float32)


def held(position: np.ndarray, triangle: np.ndarray, wanted: float | None, most: float, give: np.ndarray) -> np.ndarray:
    """Vertices (n, 3) moved along their normals by up to `most` metres, so that a closed mesh holds a volume (m3).

    Parameters
    ----------
    give : (n,), 0 to 1, share of the move that each vertex takes part in
    """
    if wanted is None or len(triangle) == 0:
        return position
    normal, move = vertex_normals(position, triangle), 0.0
    for _ in range(3):  # the volume is nearly linear in so small a move
        now = position + (move * give)[:, None] * normal
        mesh = TriangleMesh(now, triangle)
        area = float((_areas(now, triangle) * give[triangle].mean(axis=1)).sum())
        if area <= 0:
            return position
        move = float(np.clip(move + (wanted - mesh.volume()) / area, -most, most))
    return np.asarray(position + (move * give)[:, None] * normal)


def held_apart(
    position: np.ndarray, triangle: np.ndarray, wanted: float, points: tuple[np.ndarray, np.ndarray], voxel: float
) -> np.ndarray:
    """Vertices (n, 3) of a splash moved along their normals, each body by itself, so that all hold a volume (m3).

    Bodies hold what lies in them or nearest to them. Where they are ragged they may grow by up to `SWELLS` voxels and
    shrink by up to `SHRINKS`, where they are smooth not at all.

    Parameters
    ----------
    points : positions (m, 3), metres, and volumes (m,), m3, of particles
    """
    empty = len(triangle) == 0 or len(points[0]) == 0
    if empty or abs(TriangleMesh(position, triangle).volume() - wanted) < ENOUGH * wanted:
        return position
    count = len(position)
    sides = np.concatenate([triangle[:, [0, 1]], triangle[:, [1, 2]]]).astype(np.int64)
    graph = sparse.coo_matrix((np.ones(len(sides), np.int8), tuple(sides.T)), (count, count))
    bodies, body = connected_components(graph, directed=False)
    own = np.bincount(_bodies_of(points[0], position, body, voxel), points[1], bodies)
    of, give = body[triangle[:, 0]], _raggedness(position, triangle)
    found, move = position, np.zeros(bodies)
    normal = vertex_normals(position, triangle)
    for _ in range(4):
        corner = found[triangle]
        inside = np.bincount(of, np.einsum("ni,ni->n", corner[:, 0], np.cross(corner[:, 1], corner[:, 2])) / 6, bodies)
        area = np.bincount(of, _areas(found, triangle) * give[triangle].mean(axis=1), bodies)
        move = np.clip(move + (own - inside) / np.maximum(area, 1e-30), -SHRINKS * voxel, SWELLS * voxel)
        found = position + (move[body] * give)[:, None] * normal
    before, after = TriangleMesh(position, triangle).volume(), TriangleMesh(found, triangle).volume()
    share = (wanted - before) / (after - before) if after != before else 0.0
    return np.asarray(position + min(max(share, 0.0), 1.0) * (found - position))  # no more than is missing


def _bodies_of(points: np.ndarray, vertex: np.ndarray, body: np.ndarray, voxel: float) -> np.ndarray:
    """Which body particles (m, 3) lie in or nearest to, int64 (m,), by those of a mesh's vertices (n,).

    Those of a cell with no vertex near are asked for together: a tree is slow where all vertices are alike far away.
    """
    tree, cells = cKDTree(vertex), binned(points, BLOCK * voxel)
    count = np.diff(cells.start)
    full = np.flatnonzero(count)
    place = np.stack(np.unravel_index(full, tuple(cells.shape.tolist())), axis=1)
    away, nearest = tree.query(cells.low + (place + 0.5) * cells.edge, workers=get_num_threads())
    deep = np.repeat(away > cells.edge * 3**0.5, count[full])
    found = np.repeat(body[nearest], count[full])
    _, nearest = tree.query(cells.position[~deep], workers=get_num_threads())
    found[~deep] = body[nearest]
    of = np.empty(len(points), np.int64)
    of[cells.order] = found
    return of


def _raggedness(position: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """How ragged a mesh is at its vertices (n,): 0 where the triangles about one face nearly alike, up to 1."""
    across = _across(position, triangle)
    facing = across / np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-30)
    vertex = triangle.ravel()
    total = np.stack([np.bincount(vertex, np.repeat(facing[:, d], 3), len(position)) for d in range(3)], axis=1)
    alike = np.linalg.norm(total, axis=1) / np.maximum(np.bincount(vertex, minlength=len(position)), 1)
    return np.asarray(np.clip((1 - alike - SMOOTH) / (ROUGH - SMOOTH), 0, 1))


def _across(position: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    """Normals (m, 3) of triangles, as long as twice their areas."""
    corner = position[triangle]
    return np.asarray(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]))


def _areas(position: np.ndarray, triangle: np.ndarray) -> np.ndarray:
    return np.asarray(np.linalg.norm(_across(position, triangle), axis=1) / 2)
