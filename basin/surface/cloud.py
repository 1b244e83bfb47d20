"""The particles that shape a surface, in the order of cells on the nodes that they are to fill."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.grid.neighbours import Binned, bounds, cell_numbers, sorted_into
from basin.surface import splat

SPARSE = 0.5  # share of liquid about a cell below which there is air about
FULL = 0.98  # share of liquid about a cell, crowds counting as full, above which it is of a body; layers have 0.8
BESIDE = 2  # cells about a body whose particles are its surface
NEAR = 3  # cells about such ones whose nodes are worked out; what lies outside of them is deep
LONGEST = 4.0  # radii that a ball is drawn out to each side at most
BAND = 1.5  # voxels beyond a ball that its distance is written to, for marching cubes
MOST_BAND = 4.0  # with what filters look at besides


@dataclass(frozen=True)
class Reach:
    """How far particles are looked at.

    Attributes
    ----------
    radius : of the kernels, metres
    shapes : metres from which a particle shapes a node
    beside : metres within which it has a look at others
    room : voxels about the surface that are looked at besides
    """

    radius: float
    shapes: float
    beside: float = 0.0
    room: float = 0.0


@dataclass(frozen=True)
class Cloud:
    """The particles of a frame that shape its surface, and those beside them, about the nodes of a field, or beyond.

    Attributes
    ----------
    cells : these particles in cells half a kernel radius wide
    some : int64 ascending, which of them shape the surface; thin : those of them without a body of liquid near by
    deep : bool, cells of which none of this is known
    volume : float32 (n,), m3; way : float64 (n, 3), metres that each is drawn out to both sides, if any is
    low : float64 (3,), metres, of the first node; voxel : distance of nodes; shape : how many
    band : voxels beyond a ball that its distance is written to
    """

    cells: Binned
    some: np.ndarray
    thin: np.ndarray
    deep: np.ndarray
    volume: np.ndarray
    way: np.ndarray | None
    low: np.ndarray
    voxel: float
    shape: tuple[int, ...]
    band: float

    @staticmethod
    def about(
        position: np.ndarray,
        volume: np.ndarray,
        way: np.ndarray | None,
        grid: tuple[np.ndarray, float, tuple[int, ...]],
        reach: Reach,
        origin: np.ndarray | None = None,
    ) -> Cloud:
        """Sort particles for kernels of a radius; `grid` is low, voxel and shape, `origin` (m) a corner of cells."""
        low, voxel, shape = grid
        edge = reach.radius / 2
        corner = low if origin is None else origin
        least, most = bounds(position)
        first = corner + np.floor((np.minimum(low, least) - corner) / edge) * edge
        last = np.maximum((np.array(shape) - 1) * voxel + (low - first), most - first)
        count = (last / edge).astype(np.int64) + 1  # by the numbers by which `fill_deep` finds nodes' cells
        cell = cell_numbers(position, first, count, edge)
        held = splat.sums(cell, volume, int(np.prod(count))).reshape(tuple(count.tolist()))
        # over a bell four cells wide, so that the particles' own noise is none
        bell = splat.belled(held)
        near = splat.widened(bell < SPARSE * edge**3, NEAR)
        body = splat.widened(splat.belled(np.minimum(bell, np.float32(edge**3))) > FULL * edge**3, BESIDE)
        wanted = splat.widened(near, int(np.ceil(reach.shapes / edge)))
        kept = splat.widened(wanted, int(np.ceil(reach.beside / edge))) if reach.beside > 0 else wanted
        cells = sorted_into(position, cell, kept.ravel(), first, count, edge)
        some = np.asarray(splat.within(cells.start, wanted.ravel()))
        thin = np.asarray(splat.within(cells.start, (wanted & ~body).ravel()))
        ways = None if way is None else way[cells.order]
        band = min(BAND + reach.room, MOST_BAND)
        return Cloud(cells, some, thin, ~near, volume[cells.order], ways, low, voxel, shape, band)

    def slabs(self, some: np.ndarray, reach: float) -> np.ndarray:
        """First and last of some particles (ascending) that can reach each slab of node planes."""
        edge, count = self.cells.edge, int(self.cells.shape[0])
        plane = np.searchsorted(some, self.cells.start[:: int(self.cells.shape[1] * self.cells.shape[2])])
        first = np.arange(0, self.shape[0], splat.SLAB) * self.voxel + (self.low[0] - self.cells.low[0])
        begin = np.clip(np.floor((first - reach) / edge).astype(int), 0, count)
        end = np.clip(np.floor((first + splat.SLAB * self.voxel + reach) / edge).astype(int) + 1, 0, count)
        return np.stack([plane[begin], plane[end]], axis=1).astype(np.int64)

    def node(self, some: np.ndarray) -> np.ndarray:
        """The nearest node of some particles, int64 (m, 3)."""
        return np.asarray(splat.nearest_node(some, self.cells.position, self.low, self.voxel))

    def fill_deep(self, values: np.ndarray, value: float) -> None:
        """Set nodes in deep cells, in place."""
        off = self.low - self.cells.low
        at = [
            ((np.arange(n) * self.voxel + o) / self.cells.edge).astype(np.int64)
            for n, o in zip(self.shape, off, strict=True)
        ]
        splat.fill(values, self.deep, *at, np.float32(value))

    def balls(self, radius: float, some: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Middles (m, 3), halves of the ways that they are drawn out along (m, 3), and radii (m,) of balls about some
        particles, metres, of a radius in spacings of their volumes."""
        position, size = self.cells.position[some], radius * np.cbrt(self.volume[some]).astype(np.float64)
        if self.way is None or len(some) == 0:
            return position, np.zeros((len(some), 3)), size
        way = self.way[some]
        half = way * np.minimum(1.0, LONGEST * size / np.maximum(np.linalg.norm(way, axis=1), 1e-30))[:, None]
        return position, half, _drawn_radius(size, np.linalg.norm(half, axis=1))

    def with_balls(self, phi: np.ndarray, radius: float, some: np.ndarray) -> None:
        """Add balls about some particles (ascending) to a level set in place, of a radius in spacings of each."""
        if len(some) == 0:
            return
        position, half, size = self.balls(radius, some)
        reach = float((np.abs(half[:, 0]) + size).max()) + self.band * self.voxel
        draw_balls(self.slabs(some, reach), position, half, size, (self.low, self.voxel, phi), self.band)


def draw_balls(
    starts: np.ndarray,
    position: np.ndarray,
    half: np.ndarray,
    radius: np.ndarray,
    nodes: tuple[np.ndarray, float, np.ndarray],
    band: float,
) -> None:
    """Add balls (m,) to a level set in place, swept from position - half to position + half (m, 3).

    Parameters
    ----------
    starts : first and last ball of each slab of node planes (see `Cloud.slabs`)
    nodes : the first one's place, their distance, the level set
    band : voxels beyond a ball that its distance is written to
    """
    low, voxel, phi = nodes
    if half.any():
        splat.capsules(starts, position, half, radius, band, low, voxel, phi)
    else:
        splat.spheres(starts, position, radius, band, low, voxel, phi)


def furthest(way: np.ndarray | None, radius: float) -> float:
    """Metres that something of a radius is drawn out at most along ways (n, 3), if there are any."""
    return 0.0 if way is None else min(float(np.abs(way).max(initial=0.0)), LONGEST * radius)


def _drawn_radius(radius: np.ndarray, half: np.ndarray) -> np.ndarray:
    """Radius (n,) of a ball swept over a length to both sides that keeps the volume of a ball at rest."""
    found = radius.astype(np.float64)
    for _ in range(20):  # Newton on 4/3 r^3 + 2 h r^2 = 4/3 R^3, whose left side is convex
        over = 4 / 3 * found**3 + 2 * half * found**2 - 4 / 3 * radius**3
        found = found - over / np.maximum(4 * found**2 + 4 * half * found, 1e-30)
    return found
