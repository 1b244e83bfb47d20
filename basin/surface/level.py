"""A level set on nodes: in one box, or in bricks where only some of a large one has a surface in it.

What works on a level set asks it for its `parts`, works on each, and hands them back to `of`. Bricks know some nodes of
their neighbours besides, their rim, and `of` brings those up to date: what looks no farther than the rim does as in one
box.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from dataclasses import field as of_its_own

import numpy as np
from scipy import ndimage

from basin.surface.drops import Drops
from basin.surface.layers import Layers
from basin.surface.polygonise import polygonise, steepest

NO_SPRAY = np.zeros(0, np.float32)
EVERY = (slice(None), slice(None), slice(None))


@dataclass(frozen=True)
class Field:
    """A level set on nodes.

    Attributes
    ----------
    phi : float32 (nx, ny, nz), metres, negative in the liquid
    low : float64 (3,), position of node (0, 0, 0) in metres
    voxel : spacing of the nodes in metres
    layers : films, sheets and threads in it, drawn thicker than they are
    drops : balls that are to be joined when all else is done, or that were; None without any
    spray : volumes (n,) in m3 of the particles that are too lonely to show otherwise and are balls
    own : slices of the nodes that are not others' of which it knows besides
    """

    phi: np.ndarray
    low: np.ndarray
    voxel: float
    layers: Layers | None = None
    drops: Drops | None = None
    spray: np.ndarray = of_its_own(default_factory=lambda: NO_SPRAY)
    own: tuple[slice, ...] = EVERY

    @property
    def parts(self) -> list[Field]:
        """Itself."""
        return [self]

    def of(self, parts: Iterable[Field]) -> Field:
        """What its part has become."""
        (part,) = parts
        return part

    def planes(self, start: int, end: int) -> np.ndarray:
        """Positions (n, 3) in metres of the nodes of planes along x."""
        shape = (end - start, *self.phi.shape[1:])
        index = np.indices(shape, np.float64).reshape(3, -1).T
        index[:, 0] += start
        return np.asarray(index * self.voxel + self.low)

    def with_drops(self) -> Field:
        """The same with its drops joined, if it holds distances."""
        if self.drops is None:
            return self
        drops, phi = self.drops.among(self.at(self.drops.centre), self.voxel), self.phi.copy()
        if len(drops) == 0:
            return replace(self, drops=None)
        drops.draw(self.low, self.voxel, phi)
        return replace(self, phi=phi, drops=drops)

    def at(self, points: np.ndarray, of: np.ndarray | None = None) -> np.ndarray:
        """The level set, or another array on its nodes, at points (n, 3), trilinear."""
        held = self.phi if of is None else of
        return np.asarray(
            ndimage.map_coordinates(held, ((points - self.low) / self.voxel).T, order=1, mode="nearest"), np.float64
        )

    def deeper(self, depth: float) -> np.ndarray:
        """Places (n, 3), metres, of its own nodes that lie deeper than some metres."""
        node = np.argwhere(self.phi[self.own] < -depth)
        return np.asarray((node + [s.start or 0 for s in self.own]) * self.voxel + self.low)

    def polygonised(self) -> tuple[np.ndarray, np.ndarray]:
        """Its surface: float64 (n, 3) metres, int32 (m, 3)."""
        vertex, triangle = polygonise(self.phi)
        return vertex.astype(np.float64) * self.voxel + self.low, triangle


@dataclass(frozen=True)
class Bricks:
    """A level set in bricks of nodes, where it has a surface.

    Attributes
    ----------
    parts : one for each brick, with a rim of nodes of those about it
    place : int64 (n, 3), which brick each is along each axis; first : int64 (n, 3), its own first node among all
    size : nodes of a brick along each axis; shape : nodes of all of them if there was one in each place
    low : float64 (3,), position of the first of these in metres
    """

    parts: list[Field]
    place: np.ndarray
    first: np.ndarray
    size: int
    shape: tuple[int, ...]
    low: np.ndarray

    @property
    def voxel(self) -> float:
        """Spacing of the nodes in metres."""
        return self.parts[0].voxel

    @property
    def layers(self) -> Layers | None:
        """Those of all parts, each once."""
        own = [(n, part.layers) for n, part in enumerate(self.parts) if part.layers is not None]
        kept = [layers.some(self._brick_of(layers.centre) == n) for n, layers in own]
        return Layers.joined(kept) if kept else None

    @property
    def drops(self) -> Drops | None:
        """Those of all parts, each once."""
        found: Drops | None = None
        for n, part in enumerate(self.parts):
            if part.drops is not None:
                own = part.drops.some(self._brick_of(part.drops.centre) == n)
                found = own if found is None else found.joined(own)
        return found if found is None or len(found) else None

    @property
    def spray(self) -> np.ndarray:
        """Volumes (n,), m3, of all parts'."""
        return np.concatenate([part.spray for part in self.parts])

    def of(self, parts: Iterable[Field]) -> Bricks:
        """What its parts have become; each takes on what its neighbours know of their own nodes."""
        made = replace(self, parts=list(parts))
        number = made._numbers()
        for n, own in enumerate(made.place):
            phi = made.parts[n].phi
            first, after = made._begins(n), made._begins(n) + phi.shape
            for step in np.ndindex(3, 3, 3):
                m = number.get(tuple(own + np.array(step) - 1), n)
                if m == n:
                    continue
                low = np.maximum(self.first[m], first)
                high = np.minimum(self.first[m] + [s.stop - s.start for s in made.parts[m].own], after)
                if (high > low).all():
                    there = made._begins(m)
                    phi[_slices(low - first, high - first)] = made.parts[m].phi[_slices(low - there, high - there)]
        return made

    def at(self, points: np.ndarray) -> np.ndarray:
        """The level set at points (n, 3), trilinear; as far out as can be told where there is none."""
        brick = self._brick_of(points)
        found = np.full(len(points), max(float(part.phi.max()) for part in self.parts))
        for n, part in enumerate(self.parts):
            some = brick == n
            if some.any():
                found[some] = part.at(points[some])
        return found

    def deeper(self, depth: float) -> np.ndarray:
        """Places (n, 3), metres, of nodes that lie deeper than some metres."""
        return np.concatenate([part.deeper(depth) for part in self.parts])

    def polygonised(self) -> tuple[np.ndarray, np.ndarray]:
        """Its surface: float64 (n, 3) metres, int32 (m, 3); vertices that neighbours share are one."""
        most = max(steepest(part.phi) for part in self.parts)
        vertices, triangles, edges, count = [], [], [], 0
        for n, part in enumerate(self.parts):
            own = tuple(slice(s.start, s.stop + 1) for s in part.own)  # up to the first nodes of those beside it
            vertex, triangle = polygonise(part.phi[own], most)
            along = (vertex % 1).argmax(axis=1)  # each lies on an edge between nodes
            node = np.floor(vertex).astype(np.int64) + self.first[n]
            edges.append(np.ravel_multi_index((*node.T, along), (*(np.array(self.shape) + 1), 3)))
            vertices.append((vertex.astype(np.float64) + self.first[n]) * self.voxel + self.low)
            triangles.append(triangle.astype(np.int64) + count)
            count += len(vertex)
        _, kept, renamed = np.unique(np.concatenate(edges), return_index=True, return_inverse=True)
        return np.concatenate(vertices)[kept], renamed.ravel()[np.concatenate(triangles)].astype(np.int32)

    def _numbers(self) -> dict[tuple[int, ...], int]:
        return {tuple(place): n for n, place in enumerate(self.place)}

    def _begins(self, n: int) -> np.ndarray:
        """First node of a part among all, int64 (3,)."""
        return np.asarray(self.first[n] - [s.start for s in self.parts[n].own])

    def _brick_of(self, points: np.ndarray) -> np.ndarray:
        """Which part points (n, 3) lie in, int64 (n,), -1 for none."""
        count = -(-np.array(self.shape) // self.size)
        number = np.full(tuple(count), -1)
        number[tuple(self.place.T)] = np.arange(len(self.place))
        node = np.clip((points - self.low) / self.voxel, 0, np.array(self.shape) - 1)
        return np.asarray(number[tuple((node // self.size).astype(np.int64).T)])


Whole = Field | Bricks


def each(whole: Whole, change: Callable[[Field], Field]) -> Whole:
    """A level set with all of its parts changed alike."""
    return whole.of(change(part) for part in whole.parts)


def _slices(low: np.ndarray, high: np.ndarray) -> tuple[slice, ...]:
    return tuple(slice(a, b) for a, b in zip(low.tolist(), high.tolist(), strict=True))
