"""What the grid knows of walls and colliders: node distances, who owns them, open shares, velocities."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.geometry.deforming import Deforming, motions
from basin.geometry.distance import Distance, solid_distance
from basin.geometry.pose import Placement, scale_of
from basin.grid.fractions import EDGE, open_faces
from basin.grid.layout import PAD, TILE, Layout
from basin.grid.tiles import Tiles, at
from basin.kernels import kernel, shared
from basin.liquid.room import RIM, Room, kernel_room
from basin.liquid.thin import Remembered, ThinWalls, Triangles, thin_walls

SKIN = 1e-3  # voxels that bodies are thicker: a wall a voxel thick may have its nodes just on its faces
MOMENT = 1e-6  # shot seconds: substeps land on frames as well as they can
FAR = 5.0  # voxels; distances are not needed beyond


@dataclass(frozen=True)
class Touch:
    """How liquid meets a solid.

    Attributes
    ----------
    advancing, receding : contact angles (radians, through the liquid) with which its surface ends there as it moves on
        over the solid and as it draws back
    slip : m below the solid's surface at which liquid that slides along it would be at rest: 0 sticks, infinity is free
    holds : whether it never parts from there, since more of it is behind
    """

    advancing: float = 0.5 * np.pi
    receding: float = 0.5 * np.pi
    slip: float = 0.0
    holds: bool = False


NEUTRAL = Touch()
ADVANCING, RECEDING, SLIP, HOLDS = range(4)  # columns of `Solids.touch`


@dataclass(frozen=True)
class Body:
    """A collider as the solver sees it: its distance in its own frame, and its pose over shot time.

    Attributes
    ----------
    thin : float64 (m, 3, 3), its triangles in its own frame if it is too thin for the grid, else None
    start, end : shot seconds between which it is there
    blown : velocity (3,) that liquid has on its surface besides its motion, m per liquid second at a shot time
    """

    name: str
    distance: Distance | Deforming
    pose: Placement
    thin: np.ndarray | None = None
    start: float = 0.0
    end: float = np.inf
    blown: Callable[[float], np.ndarray] | None = None
    touch: Touch = NEUTRAL

    def changes(self) -> bool:
        """Whether it moves, deforms, comes or goes."""
        deforms = isinstance(self.distance, Deforming)
        return deforms or self.pose.moves() or self.start > 0.0 or np.isfinite(self.end)

    def rows(self) -> int:
        """How many motions it has: one for each triangle if it deforms."""
        return len(self.distance.sequence.triangle) if isinstance(self.distance, Deforming) else 1

    def is_there(self, time: float) -> bool:
        """Whether liquid meets it at a shot time."""
        return self.start <= time + MOMENT and time - MOMENT <= self.end


@dataclass(frozen=True)
class Solids:
    """Walls and colliders at one moment, as fields on tiles.

    Attributes
    ----------
    phi : float32, distance at nodes in voxels, negative in solids
    owner : int32 at nodes, row in `motion` of the nearest body, or of its nearest triangle; -1 for the walls
    open : face fractions [u, v, w], 1 where no solid is
    own : float32, open share of each cell
    near, wide : float32, open share of the kernels about each cell (`basin.liquid.room`)
    middle : float32 (..., 3), centroid of the wider kernel's open part, voxels from the cell's centre
    beside : rows of the tiles that a solid reaches
    motion : float64 (rows, 3, 4), velocity = motion @ (x, 1) in voxels/s over voxels
    body : int32 (rows,), number of each row's body
    touch : float64 (rows + 1, 4), advancing and receding contact angle (radians), slip length (voxels) and whether it
        holds liquid, of each row, last those of the walls
    moving : whether any motion is not zero
    thin : walls that the fields cannot tell
    """

    tiles: Tiles
    phi: np.ndarray
    owner: np.ndarray
    open: list[np.ndarray]
    own: np.ndarray
    near: np.ndarray
    wide: np.ndarray
    middle: np.ndarray
    beside: np.ndarray
    motion: np.ndarray
    body: np.ndarray
    touch: np.ndarray
    moving: bool
    thin: ThinWalls


@kernel(inline="always")
def velocity_of(motion, who, x, y, z):
    """Velocity (voxels/s) of a body at a place in voxels; the walls (-1) rest."""
    if who < 0:
        return 0.0, 0.0, 0.0
    m = motion[who]
    return (
        m[0, 0] * x + m[0, 1] * y + m[0, 2] * z + m[0, 3],
        m[1, 0] * x + m[1, 1] * y + m[1, 2] * z + m[1, 3],
        m[2, 0] * x + m[2, 1] * y + m[2, 2] * z + m[2, 3],
    )


@kernel
def solid_of(phi, owner, where, i, j, k):
    """Row in `motion` of the deepest solid at a cell's corners; -1 for the walls."""
    deepest, who = np.float32(1e9), -1
    for a in range(2):
        for b in range(2):
            for c in range(2):
                d = at(phi, where, i + a, j + b, k + c)
                if d < deepest:
                    deepest, who = d, at(owner, where, i + a, j + b, k + c)
    return who


@shared
def _stamp(
    row,
    first,
    inner,
    periodic,
    inverse,
    scale,
    index,
    kind,
    size,
    field,
    nearest,
    origin,
    spacing,
    sign,
    shell,
    low,
    dx,
    bodies,
    owner,
):
    for n in prange(row.shape[0]):
        t = row[n]
        for a in range(8):
            i = first[n, 0] + a
            i = PAD + (i - PAD) % inner[0] if periodic[0] else i
            for b in range(8):
                j = first[n, 1] + b
                j = PAD + (j - PAD) % inner[1] if periodic[1] else j
                for c in range(8):
                    k = first[n, 2] + c
                    k = PAD + (k - PAD) % inner[2] if periodic[2] else k
                    x = low[0] + (i - PAD) * dx
                    y = low[1] + (j - PAD) * dx
                    z = low[2] + (k - PAD) * dx
                    bx = inverse[0, 0] * x + inverse[0, 1] * y + inverse[0, 2] * z + inverse[0, 3]
                    by = inverse[1, 0] * x + inverse[1, 1] * y + inverse[1, 2] * z + inverse[1, 3]
                    bz = inverse[2, 0] * x + inverse[2, 1] * y + inverse[2, 2] * z + inverse[2, 3]
                    d = solid_distance(bx, by, bz, kind, size, field, origin, spacing)
                    d = sign * (abs(d) - 0.5 * shell if shell > 0.0 else d) * scale / dx - SKIN
                    if d < bodies[t, a, b, c]:
                        bodies[t, a, b, c] = d
                        owner[t, a, b, c] = index
                        if nearest.shape[0] > 1:
                            p = min(max(int((bx - origin[0]) / spacing + 0.5), 0), nearest.shape[0] - 1)
                            q = min(max(int((by - origin[1]) / spacing + 0.5), 0), nearest.shape[1] - 1)
                            r = min(max(int((bz - origin[2]) / spacing + 0.5), 0), nearest.shape[2] - 1)
                            owner[t, a, b, c] = index + nearest[p, q, r]


@dataclass(frozen=True)
class _Placed:
    """A body at a moment: its first row, its distance, its pose, and the box of cells (3,) that it can reach."""

    index: int
    distance: Distance
    matrix: np.ndarray
    low: np.ndarray
    high: np.ndarray

    def reaches(self, layout: Layout, first: np.ndarray, rim: int) -> np.ndarray:
        """Which tiles, by their lowest cells (n, 3), it changes within `rim` cells of them, bool (n,)."""
        over = (first - rim <= self.high) & (first + TILE + rim >= self.low)
        return np.asarray((over | layout.periodic).all(axis=1))

    def stamp(self, layout: Layout, row: np.ndarray, first: np.ndarray, bodies: np.ndarray, owner: np.ndarray) -> None:
        """Lower the distances of tiles to those of this body, in place."""
        d = self.distance
        scale = scale_of(self.matrix)
        shape = (d.kind, d.size, d.field, d.nearest, d.origin, d.dx, d.sign, d.shell)
        _stamp(
            row,
            first,
            np.array(layout.inner),
            layout.periodic,
            np.linalg.inv(self.matrix),
            scale,
            self.index,
            *shape,
            layout.low,
            layout.dx,
            bodies,
            owner,
        )


def _place(layout: Layout, index: int, body: Body, matrix: np.ndarray, time: float) -> _Placed:
    d = body.distance.at_time(time)
    if not np.isfinite([d.low, d.high]).all():
        return _Placed(index, d, matrix, np.full(3, -np.inf), np.full(3, np.inf))
    placed = layout.to_voxels(d.corners(matrix))
    return _Placed(index, d, matrix, placed.min(axis=0) - FAR, placed.max(axis=0) + FAR)


class _Walls:
    """The closed walls: distances and open shares, which are products of their axes' own.

    They stay apart from the bodies' node distances, since one distance cannot tell a body's face from
    a wall's where the two meet in a cell: there liquid sliding along both would be squeezed.

    Attributes
    ----------
    distance : float32 (3, n), distance of the nodes along each axis to the walls square to it, capped
        at `FAR` voxels; all three begin at cell -`EDGE`
    across, within : float64 (3, n), open share that the walls leave of nodes' planes and of cells
    """

    def __init__(self, layout: Layout):
        longest = max(layout.cells) + 2 * EDGE + TILE
        self.distance = np.empty((3, longest), np.float32)
        self.across, self.within = np.empty((3, longest)), np.empty((3, longest))
        for axis in range(3):
            node = np.clip(np.arange(-EDGE, longest + 1 - EDGE), 0, layout.cells[axis]).astype(np.float64)
            d = np.full(len(node), FAR)
            if layout.closed[axis, 0]:
                d = np.minimum(d, node - PAD)
            if layout.closed[axis, 1]:
                d = np.minimum(d, float(layout.wall_high[axis]) - node)
            a, b = d[:-1], d[1:]
            cut = np.maximum(a, b) / np.maximum(np.abs(a - b), 1e-6)
            self.distance[axis] = a
            self.across[axis] = a > 0
            self.within[axis] = np.where((a > 0) != (b > 0), np.clip(cut, 0, 1), np.minimum(a, b) >= 0)
        self._low = np.where(layout.closed[:, 0], PAD + FAR, -np.inf)
        self._high = np.where(layout.closed[:, 1], layout.wall_high - FAR, np.inf)

    def reach(self, first: np.ndarray, rim: int) -> np.ndarray:
        """Which tiles, by their lowest cells (n, 3), have a wall near within `rim` cells of them, bool (n,)."""
        return np.asarray(((first - rim <= self._low) | (first + TILE + rim >= self._high)).any(axis=1))

    def lower(self, row: np.ndarray, first: np.ndarray, bodies: np.ndarray, phi: np.ndarray, owner: np.ndarray) -> None:
        """Node distances to bodies and walls, and who owns them, in place."""
        _lower(row, first, self.distance, bodies, phi, owner)


@kernel(parallel=True)
def _lower(row, first, distance, bodies, phi, owner):
    for n in prange(row.shape[0]):
        t = row[n]
        for a in range(8):
            x = distance[0, first[n, 0] + a + EDGE]
            for b in range(8):
                y = min(x, distance[1, first[n, 1] + b + EDGE])
                for c in range(8):
                    z = min(y, distance[2, first[n, 2] + c + EDGE])
                    if z < bodies[t, a, b, c]:
                        phi[t, a, b, c] = z
                        owner[t, a, b, c] = -1
                    else:
                        phi[t, a, b, c] = bodies[t, a, b, c]


class _Pool:
    """Tiled fields that are made once and kept; rows 0 and 1 are blank.

    Attributes
    ----------
    where : int32 (tiles + 2 per axis), row of each tile, 0 for not made yet
    """

    def __init__(self, layout: Layout, blank: dict[str, np.ndarray]):
        self._shape = layout.tiles
        self.where = np.zeros(tuple(n + 2 for n in layout.tiles), np.int32)
        self.fields = {
            name: np.full((2, TILE, TILE, TILE, *value.shape), value, value.dtype) for name, value in blank.items()
        }
        self._blank, self._count = blank, 2

    def missing(self, number: np.ndarray) -> np.ndarray:
        """Those of some tiles that were not made yet."""
        return number[self.rows(number) == 0]

    def rows(self, number: np.ndarray) -> np.ndarray:
        """Rows of tiles."""
        return self.where[self._at(number)]

    def leave_blank(self, number: np.ndarray) -> None:
        """Note that tiles hold nothing."""
        self.where[self._at(number)] = 1

    def make_room(self, number: np.ndarray) -> np.ndarray:
        """New rows for tiles."""
        row = np.arange(self._count, self._count + len(number), dtype=np.int32)
        self._count += len(number)
        for name, value in self._blank.items():
            held = self.fields[name]
            if len(held) < self._count:
                grown = np.empty((max(self._count, 2 * len(held)), *held.shape[1:]), held.dtype)
                grown[: len(held)] = held
                self.fields[name] = grown
            self.fields[name][row] = value
        self.where[self._at(number)] = row
        return row

    def taken(self, name: str, row: np.ndarray) -> np.ndarray:
        """A field of its own with blank row 0 and the given rows (n,) after it."""
        return self.fields[name][np.concatenate([[0], row])]

    def _at(self, number: np.ndarray) -> tuple[np.ndarray, ...]:
        return tuple(np.asarray(i) + 1 for i in np.unravel_index(number, self._shape))


SHARES = ("u", "v", "w", "own", "near", "wide", "middle")


class SolidWorld:
    """Walls and bodies of a scene; gives `Solids` at any shot time.

    What the still ones do to a tile is found when the liquid first comes there, and kept. Liquid
    time runs `time_scale` times as fast as shot time.
    """

    def __init__(self, layout: Layout, bodies: list[Body], time_scale: float, walls: Touch = NEUTRAL):
        self.layout, self.bodies, self.time_scale = layout, bodies, time_scale
        self._walls = _Walls(layout)
        counts = [b.rows() for b in bodies]
        self._row = np.cumsum([0, *counts])
        self._body = np.repeat(np.arange(len(bodies), dtype=np.int32), counts)
        touch = [
            (t.advancing, t.receding, t.slip / layout.dx, float(t.holds)) for t in (*(b.touch for b in bodies), walls)
        ]
        self._touch = np.repeat(np.array(touch), [*counts, 1], axis=0)
        still = [(i, b) for i, b in enumerate(bodies) if not b.changes()]
        self._still = [_place(layout, int(self._row[i]), b, b.pose.matrix(0.0), 0.0) for i, b in still]
        self._changing = [(i, b) for i, b in enumerate(bodies) if b.changes()]
        far, one = np.array(FAR, np.float32), np.array(1.0, np.float32)
        self._nodes = _Pool(layout, {"bodies": far, "phi": far, "owner": np.array(-1, np.int32)})
        blank = dict.fromkeys(("u", "v", "w", "own", "near", "wide"), one)
        self._shares = _Pool(layout, {**blank, "middle": np.zeros(3, np.float32)})
        self._remembered = Remembered()
        self._last: tuple[bytes, Solids] | None = None
        self._placed: tuple[bytes, Tiles, tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]] | None = None

    def at(self, tiles: Tiles, time: float, dt: float) -> Solids:
        """Solids at a shot time, with their velocities over the next `dt` shot seconds."""
        moving = self._there(time)
        now = [body.pose.matrix(time) for _, body in moving]
        later = [body.pose.matrix(time + dt) for _, body in moving] if dt > 0 else now
        blown = [(i, b.blown(time)) for i, b in enumerate(self.bodies) if b.blown is not None and b.is_there(time)]
        same = _stamped(moving, [*now, *later], time, dt) + np.array([v for _, v in blown]).tobytes()
        if self._last is not None and self._last[0] == same and _alike(self._last[1].tiles, tiles):
            return self._last[1]
        motion = np.zeros((int(self._row[-1]), 3, 4))
        for (index, body), a, b in zip(moving, now, later, strict=True):
            if dt > 0:
                rows = slice(self._row[index], self._row[index + 1])
                motion[rows] = (self._change(body, a, b, time, dt) - np.eye(4)[:3]) / (dt * self.time_scale)
        for index, speed in blown:
            motion[self._row[index], :, 3] += speed / self.layout.dx
        phi, owner, bodies, moved = self._nodes_at(tiles, time)
        row = self._still_shares(tiles)
        u, v, w, own, near, wide, middle = (self._shares.taken(name, row) for name in SHARES)
        room = Room(own, near, wide, middle)
        beside = row > 1
        if len(moved):
            beside[moved - 1] = True
            args = (moved, tiles.first[moved], tiles.where, bodies)
            open_faces(*args, self._walls.across, self._walls.within, [u, v, w])
            kernel_room(*args, self._walls.within, room)
        thin = self._thin(tiles, time, dt, bodies, [u, v, w], room)
        beside[np.flatnonzero(thin.slot[1:] >= 0)] = True
        reached = (np.flatnonzero(beside) + 1).astype(np.int32)
        moves = (motion, self._body, self._touch, bool(np.any(motion)))
        solids = Solids(tiles, phi, owner, [u, v, w], own, near, wide, middle, reached, *moves, thin)
        self._last = (same, solids)
        return solids

    def _change(self, body: Body, a: np.ndarray, b: np.ndarray, time: float, dt: float) -> np.ndarray:
        """Maps (rows, 3, 4) over voxels that take a body's places to where they are `dt` shot seconds later."""
        if not isinstance(body.distance, Deforming):
            return np.asarray(self.layout.voxel_matrix(b @ np.linalg.inv(a))[None, :3])
        four = [
            self.layout.to_voxels(body.distance.frames(t) @ m[:3, :3].T + m[:3, 3])
            for t, m in ((time, a), (time + dt, b))
        ]
        return motions(*four)

    def _thin(
        self, tiles: Tiles, time: float, dt: float, bodies: np.ndarray, opened: list[np.ndarray], room: Room
    ) -> ThinWalls:
        """Walls thinner than the grid can tell, over the next `dt` shot seconds; shuts faces, takes room away."""
        chosen = [(i, b, b.thin) for i, b in enumerate(self.bodies) if b.thin is not None and b.is_there(time)]
        if not chosen or len(tiles) == 0:
            return ThinWalls.none(tiles)
        if not self._changing:  # then the distances at hand are those to bodies and walls together
            bodies = self._nodes.taken("bodies", self._nodes.rows(tiles.number))
        back = np.tile(np.eye(4)[:3], (int(self._row[-1]), 1, 1))
        corner, owner = [], []
        for index, body, triangles in chosen:
            now, later = body.pose.matrix(time), body.pose.matrix(time + dt)
            rows = np.arange(self._row[index], self._row[index + 1], dtype=np.int32)
            if isinstance(body.distance, Deforming):
                triangles = body.distance.frames(time)[:, :3]
            placed = triangles.reshape(-1, 3) @ now[:3, :3].T + now[:3, 3]
            corner.append(self.layout.to_voxels(placed).reshape(-1, 3, 3))
            owner.append(np.broadcast_to(rows, len(triangles)).copy())
            change = np.tile(np.eye(4), (len(rows), 1, 1))
            change[:, :3] = self._change(body, now, later, time, dt)
            back[rows] = np.linalg.inv(change)[:, :3]
        walls = Triangles(np.concatenate(corner), np.concatenate(owner), back)
        return thin_walls(tiles, walls, bodies, self._walls.within, opened, room, self._remembered)

    def distance_at(self, tiles: Tiles, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Node distances and owners at a shot time."""
        phi, owner, _, _ = self._nodes_at(tiles, time)
        return phi, owner

    def distance_of(self, place: np.ndarray, time: float) -> np.ndarray:
        """Distance (n,) in voxels of places (n, 3) to the nearest solid at a shot time; no more than `FAR`."""
        result = np.full(len(place), FAR)
        for axis in range(3):
            if self.layout.closed[axis, 0]:
                result = np.minimum(result, place[:, axis] - float(PAD))
            if self.layout.closed[axis, 1]:
                result = np.minimum(result, float(self.layout.wall_high[axis]) - place[:, axis])
        metres = self.layout.to_metres(place).astype(np.float64)
        for body in self.bodies:
            if not body.is_there(time):
                continue
            own = body.distance.at_time(time)
            result = np.minimum(result, own.placed_at(metres, body.pose.matrix(time)) / self.layout.dx)
        return result

    def _nodes_at(self, tiles: Tiles, time: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(phi, owner, distance to bodies alone, rows of tiles that moving bodies change)."""
        moving = self._there(time)
        matrices = [body.pose.matrix(time) for _, body in moving]
        same = _stamped(moving, matrices, time)
        if self._placed is not None and self._placed[0] == same and _alike(self._placed[1], tiles):
            return self._placed[2]
        self._make_nodes(tiles.number)
        row = self._nodes.rows(tiles.number)
        phi, owner = self._nodes.taken("phi", row), self._nodes.taken("owner", row)
        bodies, moved = phi, np.zeros(0, np.int32)
        if self._changing:
            bodies = self._nodes.taken("bodies", row)
            first = tiles.first[1:]
            touched, derived = np.zeros(len(tiles), bool), np.zeros(len(tiles), bool)
            for (index, body), matrix in zip(moving, matrices, strict=True):
                placed = _place(self.layout, int(self._row[index]), body, matrix, time)
                here = np.flatnonzero(placed.reaches(self.layout, first, 0))
                placed.stamp(self.layout, (here + 1).astype(np.int32), first[here], bodies, owner)
                touched[here] = True
                derived |= placed.reaches(self.layout, first, RIM)
            here = np.flatnonzero(touched)
            self._walls.lower((here + 1).astype(np.int32), first[here], bodies, phi, owner)
            moved = (np.flatnonzero(derived) + 1).astype(np.int32)
        self._placed = (same, tiles, (phi, owner, bodies, moved))
        return self._placed[2]

    def _there(self, time: float) -> list[tuple[int, Body]]:
        """Those that move, come or go, and are there at a shot time, by number."""
        return [(i, b) for i, b in self._changing if b.is_there(time)]

    def _make_nodes(self, number: np.ndarray) -> None:
        """See to it that tiles' distances to still solids are known."""
        missing = self._nodes.missing(number)
        if len(missing) == 0:
            return
        first = _first_cells(self.layout, missing)
        reached = [p.reaches(self.layout, first, 0) for p in self._still]
        near = self._walls.reach(first, 0) | np.any([np.zeros(len(missing), bool), *reached], axis=0)
        self._nodes.leave_blank(missing[~near])
        row = np.zeros(len(missing), np.int32)
        row[near] = self._nodes.make_room(missing[near])
        held = self._nodes.fields
        for placed, here in zip(self._still, reached, strict=True):
            placed.stamp(self.layout, row[here], first[here], held["bodies"], held["owner"])
        self._walls.lower(row[near], first[near], held["bodies"], held["phi"], held["owner"])

    def _still_shares(self, tiles: Tiles) -> np.ndarray:
        """Rows in the pool of shares of tiles; makes those that are missing."""
        missing = self._shares.missing(tiles.number)
        if len(missing):
            first = _first_cells(self.layout, missing)
            reached = [p.reaches(self.layout, first, RIM) for p in self._still]
            near = self._walls.reach(first, RIM) | np.any([np.zeros(len(missing), bool), *reached], axis=0)
            self._shares.leave_blank(missing[~near])
            row = self._shares.make_room(missing[near])
            self._make_nodes(_with_neighbours(self.layout, missing[near]))
            args = (row, first[near], self._nodes.where, self._nodes.fields["bodies"])
            held = self._shares.fields
            open_faces(*args, self._walls.across, self._walls.within, [held[name] for name in "uvw"])
            kernel_room(*args, self._walls.within, Room(*(held[name] for name in SHARES[3:])))
        return self._shares.rows(tiles.number)


def _stamped(bodies: list[tuple[int, Body]], matrices: list[np.ndarray], *times: float) -> bytes:
    """Tells apart which bodies are where, and in what form."""
    form = [times for _, b in bodies if isinstance(b.distance, Deforming)]
    return np.array([i for i, _ in bodies]).tobytes() + np.array(matrices).tobytes() + np.array(form).tobytes()


def _alike(a: Tiles, b: Tiles) -> bool:
    return a is b or np.array_equal(a.number, b.number)


def _first_cells(layout: Layout, number: np.ndarray) -> np.ndarray:
    return np.stack(np.unravel_index(number, layout.tiles), axis=1).astype(np.int32) * TILE


def _with_neighbours(layout: Layout, number: np.ndarray) -> np.ndarray:
    """Tiles and their neighbours, by number."""
    place = np.stack(np.unravel_index(number, layout.tiles), axis=1)
    step = np.stack(np.meshgrid(*[np.arange(-1, 2)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
    every = (place[:, None] + step).reshape(-1, 3)
    every = every[((every >= 0) & (every < np.array(layout.tiles))).all(axis=1)]
    return np.unique(np.ravel_multi_index(tuple(every.T), layout.tiles))
