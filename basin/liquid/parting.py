"""Where liquid parts from walls: the pressure on them is not below the air's, where air can follow.

The inequality of Batty, Bertails & Bridson 2007, section 4, as an active set within one multigrid solve (Chentanez &
Mueller 2012 have it in theirs): where the pressure, while it converges, pulls on a wall harder than its adhesion
bears, the wall is opened as if air were behind; where liquid would go through what is open into the wall, it is closed
again. Both change the diagonal of a few rows of the matrix and of all its coarser levels, and the solve goes on from
where it was. It begins with what was open in the substep before, which is what mostly opens again.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numba import prange

from basin.grid.fractions import SLIT
from basin.grid.pencils import LIVE
from basin.grid.poisson import Solution
from basin.grid.tiles import at, row_of
from basin.kernels import kernel, shared
from basin.liquid.pressure import (
    Surface,
    System,
    apply_gradient,
    at_surface,
    right_side,
    solid_face_velocity,
    surface_gap,
)
from basin.liquid.solids import Solids, solid_of, velocity_of

LOOSE = 1e-2  # residual at which it is looked where liquid pulls on walls; times the largest pressure, what is sure
# What the grid's own steps pull with, along walls askew to it, is no reason to part:
SLIDING = 0.2  # of the speed along the wall that the pull would have to change in the substep
HANGING = 0.5  # voxels of liquid whose weight a wall bears
MOST_TURNS = 2  # of looking; what is left over opens in the next substep
CHUNK = 64  # pencils
NO_CELLS = np.zeros(0, np.int64)
BITS = 20  # of a cell's index along an axis


@kernel
def _across(i, j, k, s):
    """The axis of a cell's side (2 * axis + 1 for above), the cell beyond it, and the face between."""
    axis = s >> 1
    step = 1 if s & 1 else -1
    ni, nj, nk = i + (step if axis == 0 else 0), j + (step if axis == 1 else 0), k + (step if axis == 2 else 0)
    return axis, (ni, nj, nk), ((ni, nj, nk) if step > 0 else (i, j, k))


@kernel
def wall_beyond(where, index, ou, ov, ow, i, j, k, s):
    """Whether what lies on side s of a cell is no liquid, and solid at least in part."""
    axis, n, f = _across(i, j, k, s)
    if at(index, where, n[0], n[1], n[2]) >= 0:
        return False
    opened = ou if axis == 0 else (ov if axis == 1 else ow)
    return at(opened, where, f[0], f[1], f[2]) < 1.0


@kernel
def _sliding(where, u, v, w, who, motion, i, j, k):
    """Speed of a cell's liquid against a solid."""
    x = 0.5 * (at(u, where, i, j, k) + at(u, where, i + 1, j, k))
    y = 0.5 * (at(v, where, i, j, k) + at(v, where, i, j + 1, k))
    z = 0.5 * (at(w, where, i, j, k) + at(w, where, i, j, k + 1))
    s = velocity_of(motion, who, i + 0.5, j + 0.5, k + 0.5)
    return np.sqrt((x - s[0]) ** 2 + (y - s[1]) ** 2 + (z - s[2]) ** 2)


@shared
def _pulled(
    first, links, where, index, value, least, bears, u, v, w, owner, near, motion, ou, ov, ow, chunk, count, found
):
    """Places of cells at a wall whose pressure is below `least`, what the wall bears and what slides along it: of each
    chunk a list."""
    for n in prange(count.shape[0]):
        for r in range(max(n * chunk, 1), min((n + 1) * chunk, first.shape[0])):
            for c in range(8):
                if value[r, c] >= least or (links[r, LIVE] >> c) & 1 == 0:
                    continue
                i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
                for s in range(6):
                    if wall_beyond(where, index, ou, ov, ow, i, j, k, s):
                        who = solid_of(near, owner, where, i, j, k)
                        if value[r, c] < least - bears[who] - SLIDING * _sliding(where, u, v, w, who, motion, i, j, k):
                            found[n, count[n]] = 8 * r + c
                            count[n] += 1
                        break


@kernel
def _reached(first, where, index, surface, pulled, mark):
    """Of pulled places those that air can come to: next to it, or beside one that it comes to; marked, in place."""
    grown = True
    while grown:
        grown = False
        for n in range(pulled.shape[0]):
            place = pulled[n]
            r, c = place >> 3, place & 7
            if mark[r, c] != 0:
                continue
            i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
            near = surface[r, c] > 0.0
            for a in range(-1, 2):
                for b in range(-1, 2):
                    for d in range(-1, 2):
                        o = at(index, where, i + a, j + b, k + d)
                        if o < 0:
                            continue
                        beside = abs(a) + abs(b) + abs(d) == 1
                        if mark[o >> 3, o & 7] != 0 or (beside and surface[o >> 3, o & 7] > 0.0):
                            near = True
            if near:
                mark[r, c] = 1
                grown = True


@kernel
def _open_walls(first, where, index, phi, places, banned, ou, ov, ow, face, was, more):
    """Open the walls about some cells in place: faces (6 * place + side), how far open they were, and what that adds
    to their cells' coupling to the surface; returns how many."""
    count = 0
    for n in range(places.shape[0]):
        r, c = places[n] >> 3, places[n] & 7
        i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
        for s in range(6):
            if (banned[r, c] >> s) & 1 or not wall_beyond(where, index, ou, ov, ow, i, j, k, s):
                continue
            axis, o, f = _across(i, j, k, s)
            field = ou if axis == 0 else (ov if axis == 1 else ow)
            t = row_of(where, f[0], f[1], f[2])
            if t <= 0:
                continue
            open_before = field[t, f[0] & 7, f[1] & 7, f[2] & 7]
            field[t, f[0] & 7, f[1] & 7, f[2] & 7] = 1.0
            gap = surface_gap(at(phi, where, i, j, k), at(phi, where, o[0], o[1], o[2]))
            face[count], was[count] = 6 * places[n] + s, open_before
            more[count] = (1.0 - (open_before if open_before > SLIT else 0.0)) / gap
            count += 1
    return count


@kernel
def _pressed(first, where, phi, tense, face, value, u, v, w, least, owner, near, motion, out):
    """Which opened faces liquid would go through into the wall, faster than `least`."""
    for n in range(face.shape[0]):
        place, s = face[n] // 6, face[n] % 6
        r, c = place >> 3, place & 7
        i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
        axis, o, f = _across(i, j, k, s)
        field = u if axis == 0 else (v if axis == 1 else w)
        inside, outside, push = at(phi, where, i, j, k), at(phi, where, o[0], o[1], o[2]), value[r, c]
        if tense.shape[0] > 0:
            push -= at_surface(inside, outside, at(tense, where, i, j, k), at(tense, where, o[0], o[1], o[2]))
        its = solid_face_velocity(axis, f[0], f[1], f[2], where, near, owner, motion)
        speed = (at(field, where, f[0], f[1], f[2]) - its) * (1 if s & 1 else -1)
        out[n] = speed + push / surface_gap(inside, outside) > least


@kernel
def _close_walls(first, where, face, was, banned, ou, ov, ow):
    """Close faces again as far as they were, in place, and let them be opened no more."""
    for n in range(face.shape[0]):
        place, s = face[n] // 6, face[n] % 6
        r, c = place >> 3, place & 7
        i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
        axis, _, f = _across(i, j, k, s)
        field = ou if axis == 0 else (ov if axis == 1 else ow)
        field[row_of(where, f[0], f[1], f[2]), f[0] & 7, f[1] & 7, f[2] & 7] = was[n]
        banned[r, c] |= 1 << s


@kernel
def _places_of(cells, where, index, ou, ov, ow, found):
    """Places of cells (packed indices) that are liquid at a wall; returns how many."""
    count = 0
    mask = (1 << BITS) - 1
    for n in range(cells.shape[0]):
        i, j, k = cells[n] >> (2 * BITS), (cells[n] >> BITS) & mask, cells[n] & mask
        if (i >> 3) + 2 >= where.shape[0] or (j >> 3) + 2 >= where.shape[1] or (k >> 3) + 2 >= where.shape[2]:
            continue  # not of this grid
        place = at(index, where, i, j, k)
        if place < 0:
            continue
        for s in range(6):
            if wall_beyond(where, index, ou, ov, ow, i, j, k, s):
                found[count] = place
                count += 1
                break
    return count


class Parting:
    """A projection of one moment's velocities, with the system and the solids as liquid then meets them.

    Attributes
    ----------
    system, solids : with walls opened where liquid parts from them
    face : int64 (m,), those walls' faces, 6 * place + side
    """

    def __init__(self, system: System, surface: Surface, solids: Solids):
        self.system, self.surface, self.solids = system.apart(), surface, solids
        self.face, self._was, self._more = NO_CELLS, np.zeros(0), np.zeros(0)
        self._banned = np.zeros(system.surface.shape, np.uint8)
        self._apart = False

    def project(
        self,
        velocity: list[np.ndarray],
        kick: np.ndarray,
        bears: np.ndarray | float = 0.0,
        before: np.ndarray = NO_CELLS,
        tolerance: float = 1e-6,
    ) -> tuple[list[np.ndarray], Solution]:
        """See `basin.liquid.pressure.project`.

        Parameters
        ----------
        bears : pull that walls bear, in units of the pressure; or each body's rows' and last the walls' (rows + 1,)
        before : `cells` of the substep before
        """
        self._open(self._known(before))
        weight = HANGING * float(np.linalg.norm(kick))
        bears = np.broadcast_to(np.asarray(bears, np.float64), len(self.solids.touch)).copy()

        def look(value: np.ndarray) -> np.ndarray | None:
            unsure = LOOSE * float(np.abs(value).max())
            closed = self._close(value, velocity, unsure)
            opened = self._open(self._pulled(value, -unsure - weight, bears, velocity))
            rows = np.unique(np.concatenate([closed, opened]) // 8)
            if not len(rows):
                return None
            return right_side(self.system, self.solids, velocity, kick, self.surface, right, rows)

        right = right_side(self.system, self.solids, velocity, kick, self.surface)
        found = self.system.solver.solve(right, tolerance, look=look, loose=LOOSE, turns=MOST_TURNS)
        valid = apply_gradient(self.system, found.value, self.surface, self.solids, velocity)
        return valid, found

    def cells(self) -> np.ndarray:
        """Cells that have parted from a wall, as packed indices, int64 (m,)."""
        place = np.unique(self.face // 6)
        cell = self.system.first[place >> 3].astype(np.int64)
        return ((cell[:, 0] << BITS | cell[:, 1]) << BITS) | (cell[:, 2] + (place & 7))

    def _known(self, before: np.ndarray) -> np.ndarray:
        """Places of packed cells that are liquid at a wall still."""
        found = np.empty(len(before), np.int64)
        count = _places_of(before, self.solids.tiles.where, self.system.index, *self.solids.open, found)
        return found[:count]

    def _open(self, pulled: np.ndarray) -> np.ndarray:
        """Open the walls at places that air can come to; returns those."""
        if not len(pulled):
            return NO_CELLS
        m, tiles = self.system, self.solids.tiles
        mark = np.zeros(m.surface.shape, np.uint8)
        _reached(m.first, tiles.where, m.index, m.surface, pulled, mark)
        places = pulled[mark.reshape(-1)[pulled] != 0]
        if not len(places):
            return NO_CELLS
        if not self._apart:  # others go on with the walls as they are
            self.solids, self._apart = replace(self.solids, open=[field.copy() for field in self.solids.open]), True
        face, was, more = np.empty(6 * len(places), np.int64), np.empty(6 * len(places)), np.empty(6 * len(places))
        cells = (m.first, tiles.where, m.index, self.surface.phi, places, self._banned)
        count = _open_walls(*cells, *self.solids.open, face, was, more)
        tiles.wrap(*self.solids.open)
        self.system.solver.hold(face[:count] // 6, more[:count])
        self.face = np.concatenate([self.face, face[:count]])
        self._was, self._more = np.concatenate([self._was, was[:count]]), np.concatenate([self._more, more[:count]])
        return face[:count] // 6

    def _close(self, value: np.ndarray, velocity: list[np.ndarray], least: float) -> np.ndarray:
        """Close what has been opened and is pressed on; returns its places."""
        if not len(self.face):
            return NO_CELLS
        m, solids = self.system, self.solids
        pressed = np.zeros(len(self.face), bool)
        moving = (solids.owner, solids.phi, solids.motion)
        at_hand = (m.first, solids.tiles.where, self.surface.phi, self.surface.tense, self.face, value)
        _pressed(*at_hand, *velocity, least, *moving, pressed)
        if not pressed.any():
            return NO_CELLS
        face, was, left = self.face[pressed], self._was[pressed], ~pressed
        _close_walls(m.first, solids.tiles.where, face, was, self._banned, *solids.open)
        solids.tiles.wrap(*solids.open)
        m.solver.hold(face // 6, -self._more[pressed])
        self.face, self._was, self._more = self.face[left], self._was[left], self._more[left]
        return face // 6

    def _pulled(self, value: np.ndarray, least: float, bears: np.ndarray, velocity: list[np.ndarray]) -> np.ndarray:
        """Places of cells at walls whose pressure is below `least` by more than the walls bear."""
        m, solids = self.system, self.solids
        count = np.zeros(-(-len(value) // CHUNK), np.int64)
        found = np.empty((len(count), 8 * CHUNK), np.int64)
        grid = (m.first, m.links, solids.tiles.where, m.index)
        moving = (*velocity, solids.owner, solids.phi, solids.motion)
        _pulled(*grid, value, least, bears, *moving, *solids.open, CHUNK, count, found)
        return np.concatenate([row[:n] for row, n in zip(found, count, strict=True)])
