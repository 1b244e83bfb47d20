"""Drops: particles too lonely for the field, and those of specks, drawn as balls when all else is done.

A ball hardly wider than the nodes lie apart comes and goes as it moves between them, and what smooths takes it away. So
drops join the field after the filters, each wide enough that there is always a node in it; its vertices are taken back
to where they enclose its own volume.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from basin.kernels import kernel
from basin.surface.cloud import BAND, Cloud, draw_balls
from basin.surface.splat import SLAB

SEEN = 0.9  # voxels: radius that is drawn at least; no place is farther than 0.87 from the nearest node
CLEAR = 0.5  # voxels that stay between a drop that is drawn wider and other liquid
BESIDE = 1.6  # widths within which a drop that hardly clears other liquid hangs on one that does
ON_IT = 0.3  # voxels from what is drawn of a drop within which a vertex is of it,
AT_IT = 0.15  # and if the drop touches other liquid
SWELLS = 4  # rounds in which balls are brought to their volumes, which is exact for a single one
LEAST_SWOLLEN, MOST_SWOLLEN = 0.8, 1.5  # times the radius that their vertices then lie off
ALONG = 5  # places along a way at which vertices look for a drop that is drawn out


@kernel
def _enclosed(position, triangle, own, origin):
    """Volumes (g,) within the triangles (t, 3) of some bodies, and their first moments (g, 3), each about an origin.

    Parameters
    ----------
    own : body of each triangle (t,)
    """
    volume, moment = np.zeros(len(origin)), np.zeros((len(origin), 3))
    for t in range(triangle.shape[0]):
        g = own[t]
        p, q, r = triangle[t, 0], triangle[t, 1], triangle[t, 2]
        ax, ay, az = position[p, 0] - origin[g, 0], position[p, 1] - origin[g, 1], position[p, 2] - origin[g, 2]
        bx, by, bz = position[q, 0] - origin[g, 0], position[q, 1] - origin[g, 1], position[q, 2] - origin[g, 2]
        cx, cy, cz = position[r, 0] - origin[g, 0], position[r, 1] - origin[g, 1], position[r, 2] - origin[g, 2]
        share = ax * (by * cz - bz * cy) + ay * (bz * cx - bx * cz) + az * (bx * cy - by * cx)
        volume[g] += share / 6
        moment[g, 0] += share / 24 * (ax + bx + cx)
        moment[g, 1] += share / 24 * (ay + by + cy)
        moment[g, 2] += share / 24 * (az + bz + cz)
    return volume, moment


@dataclass(frozen=True)
class Drops:
    """Balls (m,), metres, swept from centre - half to centre + half (m, 3).

    Attributes
    ----------
    radius : (m,), and drawn : that of what is drawn
    lost : bool (m,), those that are drops only if the filters have taken them away
    free : bool (m,), those that touch no other liquid
    """

    centre: np.ndarray
    half: np.ndarray
    radius: np.ndarray
    drawn: np.ndarray
    lost: np.ndarray
    free: np.ndarray

    def __len__(self) -> int:
        return len(self.centre)

    @staticmethod
    def of(cloud: Cloud, some: np.ndarray, radius: float, lost: bool = False) -> Drops:
        """Of some particles (ascending), with a radius in spacings of their volumes."""
        centre, half, size = cloud.balls(radius, some)
        return Drops(centre, half, size, size, np.full(len(size), lost), np.zeros(len(size), bool))

    def some(self, which: np.ndarray) -> Drops:
        """Some of them, by flags (m,)."""
        return Drops(*(a[which] for a in vars(self).values()))

    def joined(self, other: Drops) -> Drops:
        """Both."""
        return Drops(*(np.concatenate(pair) for pair in zip(vars(self).values(), vars(other).values(), strict=True)))

    def among(self, away: np.ndarray, voxel: float) -> Drops:
        """Those that are drops, drawn as wide as they need to be seen, as far as other liquid allows.

        What hardly clears other liquid is none: it would be a crumb on it, and its volume is in what that is held to.

        Parameters
        ----------
        away : distance (m,) from other liquid
        """
        some = ~self.lost | (away > self.radius)
        made = self.some(some)
        most = away[some] - CLEAR * voxel
        wide = np.minimum(np.maximum(made.radius, SEEN * voxel), most)
        made = replace(made, drawn=np.maximum(made.radius, wide), free=most >= made.radius)
        return made.some(made.free | made._hangs_on_free())

    def _hangs_on_free(self) -> np.ndarray:
        """Which, bool (m,), lie beside a drop that is free: what lies on other liquid alone is part of that."""
        if not self.free.any():
            return self.free
        away, _ = cKDTree(self.centre[self.free]).query(self.centre)
        return np.asarray(away < 2 * BESIDE * (self.radius + np.linalg.norm(self.half, axis=1)))

    def draw(self, low: np.ndarray, voxel: float, phi: np.ndarray) -> None:
        """Join them to a level set, in place."""
        order = np.argsort(self.centre[:, 0], kind="stable")
        centre, half, drawn = self.centre[order], self.half[order], self.drawn[order]
        reach = float((np.abs(half[:, 0]) + drawn).max()) + BAND * voxel
        slab = low[0] + np.arange(0, phi.shape[0], SLAB) * voxel
        starts = np.searchsorted(centre[:, 0], np.stack([slab - reach, slab + SLAB * voxel + reach], axis=1))
        draw_balls(starts.astype(np.int64), centre, half, drawn, (low, voxel, phi), BAND)

    def take_back(self, position: np.ndarray, triangle: np.ndarray, voxel: float) -> tuple[np.ndarray, np.ndarray]:
        """Vertices (n, 3) of a mesh, metres, with those of drops moved so that each encloses its volume.

        Returns, too, which are of drops, bool (n,).
        """
        steps = np.linspace(-1, 1, ALONG) if self.half.any() else np.zeros(1)
        along = (self.centre[:, None] + steps[:, None] * self.half[:, None]).reshape(-1, 3)
        reach = ON_IT * voxel + float((self.drawn + np.linalg.norm(self.half, axis=1) / (ALONG - 1)).max())
        _, own = cKDTree(along).query(position, distance_upper_bound=reach, workers=-1)
        near = np.flatnonzero(own < len(along))
        drop = own[near] // len(steps)
        foot = self._foot(position[near], drop)
        off = position[near] - foot
        away = np.linalg.norm(off, axis=1)
        of = np.abs(away - self.drawn[drop]) < np.where(self.free[drop], ON_IT, AT_IT) * voxel
        near, drop, foot, off = near[of], drop[of], foot[of], off[of] / np.maximum(away[of], 1e-30)[:, None]
        whose = np.full(len(position), -1)
        whose[near] = drop
        moved = self.free[drop]
        near, drop, foot, off = near[moved], drop[moved], foot[moved], off[moved]
        group, alone = self._groups(whose[triangle])
        own = np.where(whose >= 0, group[whose], -1)[triangle]
        whole = (own[:, 0] >= 0) & (own == own[:, :1]).all(axis=1)
        own, corners = own[whole, 0], triangle[whole]
        origin = np.zeros((len(alone), 3))
        origin[group] = self.centre
        wanted = np.bincount(group, self._volume(), len(alone))
        found, swollen = position.copy(), np.ones(len(alone))
        for _ in range(SWELLS):
            found[near] = foot + off * (self.radius * swollen[group])[drop, None]
            volume, _ = _enclosed(found, corners, own, origin)
            grows = alone & (volume > 0)
            swollen[grows] *= np.cbrt(wanted[grows] / volume[grows])
            swollen = np.clip(swollen, LEAST_SWOLLEN, MOST_SWOLLEN)
        found[near] = foot + off * (self.radius * swollen[group])[drop, None]
        # and to its middle: a coarse ball has more corners to one side
        _, lies = _enclosed(found, corners, own, origin)
        held = self.centre - origin[group]
        should = np.stack([np.bincount(group, self._volume() * held[:, d], len(alone)) for d in range(3)], axis=1)
        shift = np.where(alone[:, None], (should - lies) / np.maximum(wanted, 1e-30)[:, None], 0.0)
        found[near] += shift[group[drop]]
        return found, whose >= 0

    def _groups(self, owner: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Which group of drops that hang together each belongs to (m,), and which groups (g,) touch nothing else.

        Parameters
        ----------
        owner : drop of each corner of the triangles (t, 3), -1 for none
        """
        first, other = owner[:, [0, 1, 2]].ravel(), owner[:, [1, 2, 0]].ravel()
        both = (first >= 0) & (other >= 0)
        pairs = coo_matrix((np.ones(both.sum()), (first[both], other[both])), (len(self), len(self)))
        count, group = connected_components(pairs, directed=False)
        alone = np.ones(count, bool)
        alone[group[~self.free]] = False
        alone[group[first[(first >= 0) & (other < 0)]]] = False
        return group, alone

    def _volume(self) -> np.ndarray:
        """Volumes (m,), m3."""
        length = 2 * np.linalg.norm(self.half, axis=1)
        return np.asarray(np.pi * self.radius**2 * (4 / 3 * self.radius + length))

    def _foot(self, place: np.ndarray, drop: np.ndarray) -> np.ndarray:
        """Nearest places (n, 3) on drops' ways."""
        half, off = self.half[drop], place - self.centre[drop]
        share = (off * half).sum(axis=1) / np.maximum((half * half).sum(axis=1), 1e-30)
        return np.asarray(self.centre[drop] + np.clip(share, -1, 1)[:, None] * half)
