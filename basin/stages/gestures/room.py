"""The room that liquid would take in what stands there: found on the solver's own grid from a point within it."""

from __future__ import annotations

import json
from collections import OrderedDict
from dataclasses import dataclass
from threading import Lock

import numpy as np
from scipy import ndimage
from skimage.measure import find_contours

from basin.geometry.distance import Distance
from basin.geometry.mesh import TriangleMesh
from basin.kernels import kernel
from basin.scene import Collider, Fill, Scene
from basin.stages.assembly import scene_layout
from basin.stages.files import SceneFiles
from basin.stages.gestures.flight import kept_distance
from basin.surface.polygonise import polygonise

MOST_NODES = 1_500_000  # of the grid that is looked at; more is looked at more coarsely
FAR = 4.0  # voxels from what is solid; distances beyond are not told apart
INTO = 0.6  # voxels that the shape reaches into the walls, so that no gap is left at them
PASSES = 0.5  # voxels from what is solid
SEARCHES = 14  # halvings of the width of a leak
MOST_KEPT = 4


@dataclass(frozen=True)
class Room:
    """What a vessel would hold up to a level.

    Attributes
    ----------
    litres, kilograms, particles : of what it holds
    already : litres of it that fills have put in before
    level, height, bottom : m; height above the lowest point
    runs_over : level (m) at which it begins to run over; None if a closed ceiling comes first
    open : where it runs out below the level already; empty if it holds
    walled : whether it has walls all around at the height of the point, which on open ground it has not
    leak : the narrowest point (m) of the widest way out of a room that has walls and is open; None if it holds
    contours : outlines (n, 3) of the level's surface, m
    """

    litres: float
    kilograms: float
    particles: int
    already: float
    level: float
    height: float
    bottom: float
    runs_over: float | None
    open: str
    walled: bool
    leak: list[float] | None
    contours: list[list[list[float]]]


class NoRoom(ValueError):
    """There is no room about that point."""


@dataclass(frozen=True)
class _Grid:
    """Distance (m) from what is solid at nodes `dx` apart from `low`, and which nodes lie at an open wall."""

    phi: np.ndarray
    low: np.ndarray
    dx: float
    out: np.ndarray

    @property
    def free(self) -> np.ndarray:
        """Nodes (bool) that liquid passes: half a voxel off what is solid, since of two nodes with a wall between them
        that is thinner than a voxel one is nearer."""
        return np.asarray(self.phi > PASSES * self.dx)

    def heights(self) -> np.ndarray:
        """Height (m) of each plane of nodes."""
        return np.asarray(self.low[1] + np.arange(self.phi.shape[1]) * self.dx)


_kept: OrderedDict[str, _Grid] = OrderedDict()
_lock = Lock()


def find_room(
    scene: Scene, files: SceneFiles, seed: tuple[float, float, float], level: float | None, frame: int, quality: str
) -> Room:
    """The room about a point up to a level; to where it runs over if no level is given.

    Raises
    ------
    NoRoom
        If the point lies in something solid or outside the domain.
    """
    grid = _grid(scene, files, frame, quality)
    start = _node(grid, seed)
    beneath = _held(grid, start, float(grid.heights()[start[1]]))
    lowest = int(np.flatnonzero(beneath.any(axis=(0, 2)))[0])
    top = _runs_over(grid, start, lowest)
    ceiling = float(grid.heights()[-1])
    if level is None:
        level = min(top if top is not None else ceiling, ceiling)
    held = _held(grid, start, level)
    level = min(level, float(grid.heights()[np.flatnonzero(held.any(axis=(0, 2)))[-1]]) + grid.dx)
    least = _bottom(grid, beneath[:, lowest], lowest)
    share = np.clip(0.5 + grid.phi / grid.dx, 0.0, 1.0)
    under = np.clip(0.5 + (level - grid.heights()) / grid.dx, 0.0, 1.0)
    # nodes at the domain's faces and in walls hold the part of their cell that is open and below the level
    near = held | _beside(grid, held)
    cells = share * under[None, :, None] * near * _half_faces(grid)
    volume = float(cells.sum()) * grid.dx**3
    where, walled = np.argwhere(held & grid.out), _walled(grid, start)
    return Room(
        litres=volume * 1000,
        kilograms=volume * scene.liquid.density,
        particles=round(volume / scene.voxel_size(quality) ** 3 * scene.liquid.particles_per_cell),
        already=_already(grid, cells, scene, files, frame) * 1000,
        level=level,
        height=level - least,
        bottom=least,
        runs_over=top,
        open=_side(grid, where[0]) if len(where) else "",
        walled=walled,
        leak=_leak(grid, start, level) if len(where) and walled else None,
        contours=_contours(grid, held, level),
    )


def room_mesh(
    scene: Scene, files: SceneFiles, seed: tuple[float, float, float], level: float, frame: int, quality: str
) -> TriangleMesh:
    """The room as a closed mesh in metres of the scene; NoRoom as `find_room`."""
    grid = _grid(scene, files, frame, quality)
    held = _held(grid, _node(grid, seed), level)
    near = ndimage.binary_dilation(held, np.ones((3, 3, 3), bool))
    solid = -(grid.phi + INTO * grid.dx)
    field = np.maximum(solid, grid.heights()[None, :, None] - level)
    # on the other side of a wall that is thinner than this reach, other room begins
    inside = held | (near & (grid.phi <= 0)) | (near & (grid.heights()[None, :, None] > level))
    field = np.where(inside, field, np.maximum(field, 0.5 * grid.dx)).astype(np.float32)
    closed = np.pad(field, 1, constant_values=np.float32(0.5 * grid.dx))
    place, triangle = polygonise(closed)
    if not len(triangle):
        raise NoRoom("There is no room there at this voxel; look at a finer one.")
    return TriangleMesh(place.astype(np.float64) * grid.dx + grid.low - grid.dx, triangle)


def _grid(scene: Scene, files: SceneFiles, frame: int, quality: str) -> _Grid:
    layout, time = scene_layout(scene, quality), scene.time.shot_time(frame)
    colliders = [c for c in scene.of_kind(Collider) if c.acts(time, time)]
    key = json.dumps(
        [
            str(files.folder),
            scene.domain.model_dump(mode="json"),
            scene.time.model_dump(mode="json"),
            layout.dx,
            frame,
            [[c.model_dump(mode="json"), scene.placement(c).matrix(time).tolist()] for c in colliders],
        ]
    )
    with _lock:
        if key in _kept:
            _kept.move_to_end(key)
            return _kept[key]
    low, size = np.array(scene.domain.low), np.array(scene.domain.size)
    dx = layout.dx
    while float(np.prod(np.round(size / dx) + 1)) > MOST_NODES:
        dx *= 1.1
    shape = tuple(int(n) + 1 for n in np.maximum(np.round(size / dx), 1))
    phi = np.full(shape, np.float64(FAR * dx))
    for collider in colliders:
        held, matrix = kept_distance(collider, scene, files, dx).at_time(time), scene.placement(collider).matrix(time)
        first, last = _reached(held, matrix, low, dx, shape)
        if (last <= first).any():
            continue
        axes = [low[d] + np.arange(first[d], last[d]) * dx for d in range(3)]
        points = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        block = phi[first[0] : last[0], first[1] : last[1], first[2] : last[2]]
        np.minimum(block, held.placed_at(points, matrix).reshape(block.shape), out=block)
    out = np.zeros(shape, bool)
    for n, axis in enumerate("xyz"):
        for end, plane in (("min", 0), ("max", -1)):
            wall = getattr(scene.domain.walls, f"{axis}_{end}")
            if wall == "open":
                np.moveaxis(out, n, 0)[plane] = True
    grid = _Grid(phi, low, dx, out)
    with _lock:
        _kept[key] = grid
        while len(_kept) > MOST_KEPT:
            _kept.popitem(last=False)
    return grid


def _reached(
    held: Distance, matrix: np.ndarray, low: np.ndarray, dx: float, shape: tuple[int, ...]
) -> tuple[np.ndarray, np.ndarray]:
    """First nodes, and those after the last, that are nearer to a placed shape than what counts as far."""
    if not (np.isfinite(held.low).all() and np.isfinite(held.high).all()):
        return np.zeros(3, int), np.array(shape)
    at = (held.corners(matrix) - low) / dx
    first, last = np.floor(at.min(axis=0) - FAR), np.ceil(at.max(axis=0) + FAR) + 1
    return np.clip(first, 0, shape).astype(int), np.clip(last, 0, shape).astype(int)


def _node(grid: _Grid, seed: tuple[float, float, float]) -> tuple[int, int, int]:
    """The open node nearest to a point, at most two away."""
    at = np.round((np.array(seed) - grid.low) / grid.dx).astype(int)
    first, last = np.maximum(at - 2, 0), np.minimum(at + 3, grid.phi.shape)
    if (last <= first).any():
        raise NoRoom("That lies outside the domain.")
    block = grid.free[tuple(slice(a, b) for a, b in zip(first, last, strict=True))]
    free = np.argwhere(block) + first
    if not len(free):
        raise NoRoom("That lies in something solid; press inside of a vessel.")
    best = free[((free - (np.array(seed) - grid.low) / grid.dx) ** 2).sum(axis=1).argmin()]
    return int(best[0]), int(best[1]), int(best[2])


def _held(grid: _Grid, start: tuple[int, int, int], level: float) -> np.ndarray:
    """Nodes (bool) that liquid about a node takes up to a level."""
    planes = int(np.searchsorted(grid.heights(), level, side="right"))
    planes = max(planes, start[1] + 1)
    labels, _ = ndimage.label(grid.free[:, :planes])
    held = np.zeros(grid.phi.shape, bool)
    held[:, :planes] = labels == labels[start]
    for _ in range(2):  # what lies between those and the walls
        more = _beside(grid, held) & (grid.phi > 0)
        more[:, planes:] = False
        held |= more
    return held


def _walled(grid: _Grid, start: tuple[int, int, int]) -> bool:
    """Whether the open nodes about a node, at its height, reach no side of the domain."""
    labels, _ = ndimage.label(grid.free[:, start[1]])
    room = labels == labels[start[0], start[2]]
    return not (room[[0, -1]].any() or room[:, [0, -1]].any())


def _leak(grid: _Grid, start: tuple[int, int, int], level: float) -> list[float] | None:
    """The narrowest point of the widest way from a node to an open wall below a level, by halving its width."""
    planes = max(int(np.searchsorted(grid.heights(), level, side="right")), start[1] + 1)
    phi, out = grid.phi[:, :planes], grid.out[:, :planes]

    def reached(width: float) -> np.ndarray | None:
        labels, _ = ndimage.label(phi > width)
        own = labels == labels[start]
        return own if labels[start] and (own & out).any() else None

    least, most = PASSES * grid.dx, float(phi[start])
    through = reached(least)
    if through is None:
        return None
    for _ in range(SEARCHES):
        middle = 0.5 * (least + most)
        found = reached(middle)
        if found is None:
            most = middle
        else:
            least, through = middle, found
    labels, _ = ndimage.label(phi > most)
    inside = labels == labels[start] if labels[start] else np.zeros(phi.shape, bool)
    # what the widest way has that the room alone has not, next to the room: its neck
    neck = through & ~inside & (phi <= most) & ndimage.binary_dilation(inside, iterations=2)
    nodes = np.argwhere(neck if neck.any() else through & (phi <= most))
    if not len(nodes):
        return None
    x, y, z = grid.low + nodes.mean(axis=0) * grid.dx
    return [float(x), float(y), float(z)]


def _bottom(grid: _Grid, held: np.ndarray, lowest: int) -> float:
    """Height (m) of the lowest point that liquid falls to without rising again, from the nodes of the lowest plane."""
    # the lowest nodes stand above what is solid by their distance from it
    above = float(grid.phi[:, lowest][held].max()) if lowest else 0.0
    return float(grid.heights()[lowest]) - min(above, grid.dx)


def _runs_over(grid: _Grid, start: tuple[int, int, int], lowest: int) -> float | None:
    """The level up to which liquid neither reaches an open wall nor falls lower than the vessel; None if it never does.

    Beyond it, liquid from a tub in a tank lies on the tank's floor.
    """
    heights = grid.heights()
    plane = _flooded(grid.free, grid.out, np.array(start), lowest)
    return float(heights[max(plane - 1, start[1])]) if plane >= 0 else None


@kernel
def _flooded(free, out, start, lowest):
    """The plane of nodes up to which open ones fill about one before a wall that is out, or a plane below the lowest,
    is reached; -1 if neither ever is. Planes fill one after another (Barnes, Lehman & Mulla 2014, priority flood)."""
    nx, ny, nz = free.shape
    seen = np.zeros((nx, ny, nz), np.bool_)
    now, later = np.empty(free.size, np.int64), np.empty(free.size, np.int64)
    waits, level = 0, start[1]
    now[0], count = (start[0] * ny + start[1]) * nz + start[2], 1
    seen[start[0], start[1], start[2]] = True
    while count > 0:
        while count > 0:
            count -= 1
            k = now[count] % nz
            j = now[count] // nz % ny
            i = now[count] // (ny * nz)
            if out[i, j, k] or j < lowest:
                return level
            for s in range(6):
                step = 1 if s & 1 else -1
                a, b, c = i + (step if s < 2 else 0), j + (step if s >> 1 == 1 else 0), k + (step if s > 3 else 0)
                if a < 0 or b < 0 or c < 0 or a >= nx or b >= ny or c >= nz or seen[a, b, c] or not free[a, b, c]:
                    continue
                seen[a, b, c] = True
                if b > level:
                    later[waits] = (a * ny + b) * nz + c
                    waits += 1
                else:
                    now[count] = (a * ny + b) * nz + c
                    count += 1
        now, later = later, now
        count, waits, level = waits, 0, level + 1
    return -1


def _beside(grid: _Grid, held: np.ndarray) -> np.ndarray:
    """Nodes (bool) next to held ones whose cells reach into the same room, and not into one behind a thin wall."""
    found = np.zeros(held.shape, bool)
    _next_to(held, grid.phi, found)
    return found


@kernel
def _next_to(held, phi, found):
    size = held.shape
    for i in range(size[0]):
        for j in range(size[1]):
            for k in range(size[2]):
                if held[i, j, k]:
                    continue
                for s in range(6):
                    axis, step = s >> 1, 1 if s & 1 else -1
                    x, y, z = step if axis == 0 else 0, step if axis == 1 else 0, step if axis == 2 else 0
                    a, b, c = i - x, j - y, k - z
                    if a < 0 or b < 0 or c < 0 or a >= size[0] or b >= size[1] or c >= size[2] or not held[a, b, c]:
                        continue
                    a, b, c = i + x, j + y, k + z
                    beyond = 0 <= a < size[0] and 0 <= b < size[1] and 0 <= c < size[2]
                    if not (beyond and phi[i, j, k] > 0 and phi[a, b, c] > phi[i, j, k]):
                        found[i, j, k] = True
                        break


def _half_faces(grid: _Grid) -> np.ndarray:
    """Share of each node's cell that lies within the domain."""
    share = np.ones(grid.phi.shape)
    for axis in range(3):
        for plane in (0, -1):
            np.moveaxis(share, axis, 0)[plane] *= 0.5
    return share


def _already(grid: _Grid, cells: np.ndarray, scene: Scene, files: SceneFiles, frame: int) -> float:
    """Volume (m3) of the room's cells (shares of them) in which fills have put liquid by a frame."""
    there = [f for f in scene.of_kind(Fill) if (scene.time.first if f.start_frame is None else f.start_frame) <= frame]
    held = np.argwhere(cells > 0)
    points, wet = grid.low + held * grid.dx, np.zeros(len(held))
    for fill in there:
        time = scene.time.shot_time(scene.time.first if fill.start_frame is None else fill.start_frame)
        phi = kept_distance(fill, scene, files, grid.dx).at_time(time)
        found = phi.placed_at(points, scene.placement(fill).matrix(time))
        wet = np.maximum(wet, np.clip(0.5 - found / grid.dx, 0.0, 1.0))
    return float((np.minimum(wet, 1.0) * cells[tuple(held.T)]).sum()) * grid.dx**3


def _side(grid: _Grid, node: np.ndarray) -> str:
    names = (
        ("the wall at least x", "the wall at most x"),
        ("the floor", "the ceiling"),
        ("the wall at least z", "the wall at most z"),
    )
    for axis in range(3):
        if node[axis] == 0:
            return names[axis][0]
        if node[axis] == grid.phi.shape[axis] - 1:
            return names[axis][1]
    return "an open wall"


def _contours(grid: _Grid, held: np.ndarray, level: float) -> list[list[list[float]]]:
    """Outlines of the level's surface where liquid is."""
    plane = min(int(np.searchsorted(grid.heights(), level, side="right")) - 1, held.shape[1] - 1)
    near = ndimage.binary_dilation(held[:, plane], iterations=1)
    flat = np.pad(np.where(near, grid.phi[:, plane], -0.5 * grid.dx), 1, constant_values=-0.5 * grid.dx)
    found = []
    for line in find_contours(flat, 0.0):
        x, z = (line - 1).T * grid.dx + grid.low[[0, 2]][:, None]
        found.append(np.stack([x, np.full(len(x), level), z], axis=1)[:: max(len(x) // 160, 1)].tolist())
    return found
