"""Pressure: cut cells at solids, ghost fluid at the free surface.

Finite volumes over the open part of each cell: the flux through open faces plus that of the solid's
own motion vanishes. Batty, Bertails & Bridson 2007; Ng, Min & Gibou 2009 for the moving solid's
term; Gibou, Fedkiw, Cheng & Kang 2002 for the second-order surface. Pressure is in velocity units:
p = (physical pressure) * dt / (rho * dx^2), voxels and seconds. At the free surface it is the air's, 0, or with surface
tension what the curvature there adds to it (`basin.liquid.tension`; Kang, Fedkiw & Liu 2000, J. Sci. Comput. 15).
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numba import prange

from basin.grid.fractions import SLIT
from basin.grid.layout import PAD
from basin.grid.pencils import LIVE, Matrix, link, list_pencils
from basin.grid.poisson import Solution, Solver
from basin.grid.tiles import all_below, at, load, row_of
from basin.kernels import kernel, shared
from basin.liquid.solids import Solids, velocity_of

LEAST_DEPTH = 0.005  # smallest depth, in voxels, of a liquid cell's centre below the surface
NARROW = 0.25  # of a face
NO_TENSION = np.zeros((0, 8, 8, 8), np.float32)


@dataclass(frozen=True)
class Surface:
    """The free surface of one moment.

    Attributes
    ----------
    phi : level set at cells, voxels
    tense : what tension makes the pressure at the surface near each cell, in units of the pressure; not a number where
        no surface was found; a field without rows if there is no tension
    """

    phi: np.ndarray
    tense: np.ndarray = field(default_factory=lambda: NO_TENSION)


@dataclass(frozen=True)
class System(Matrix):
    """The pressure matrix of one moment over liquid cells.

    Attributes
    ----------
    index : int32 field, place of each cell among the pencils, -1 for none; wrapped on periodic axes
    live : uint8 (tiles + 1, 8, 8), a bit for each cell of a tile's pencils that has a place
    """

    index: np.ndarray
    live: np.ndarray

    @cached_property
    def solver(self) -> Solver:
        """Made once, for all right sides; it knows the matrix alone, or both would hold each other in memory."""
        return Solver(self.bare())

    def apart(self) -> System:
        """The same with a coupling to the surface of its own, and the solver."""
        own = replace(self, surface=self.surface.copy())
        own.__dict__["solver"] = self.solver.apart(own.bare())
        return own


@kernel
def surface_gap(inside, outside):
    """Share of the way from a liquid cell's centre to the surface towards an air cell."""
    # The cell's own distance is bounded, not the gap: then the gaps of one cell in all directions
    # still belong to one plane. Bounding each gap by itself turns gravity along the surface into a
    # steady current wherever a surface lies askew to the grid.
    inside = min(inside, -LEAST_DEPTH)
    return inside / (inside - max(outside, 0.0))


@kernel
def at_surface(inside, outside, own, other):
    """Pressure at the surface between a liquid cell and an air cell, from what tension makes of it at both cells."""
    if own != own or other != other:  # no surface was found there
        return other if own != own and other == other else (own if own == own else np.float32(0.0))
    gap = surface_gap(inside, outside)
    return own + gap * (other - own)


@shared
def _live_cells(first, where, phi, ou, ov, ow, low, high, live, count):
    """A bit for each liquid cell of a tile's pencils, and the number of pencils that have any."""
    for t in prange(1, first.shape[0]):
        n = 0
        for a in range(8):
            i = first[t, 0] + a
            for b in range(8):
                j = first[t, 1] + b
                bits = 0
                for c in range(8):
                    k = first[t, 2] + c
                    if phi[t, a, b, c] >= 0.0:
                        continue
                    if i < low or j < low or k < low or i >= high[0] or j >= high[1] or k >= high[2]:
                        continue
                    widest = max(ou[t, a, b, c], ov[t, a, b, c], ow[t, a, b, c])
                    beyond = max(at(ou, where, i + 1, j, k), at(ov, where, i, j + 1, k), at(ow, where, i, j, k + 1))
                    if max(widest, beyond) > SLIT:
                        bits |= 1 << c
                live[t, a, b] = bits
                n += bits > 0
        count[t] = n


@shared
def _assemble(first, live, where, index, phi, ou, ov, ow, x, y, z, surface, links):
    for t in prange(1, first.shape[0]):
        if live[t].max() == 0:
            continue
        i0, j0, k0 = first[t, 0], first[t, 1], first[t, 2]
        places, depth = np.empty((10, 10, 10), np.int32), np.empty((10, 10, 10), np.float32)
        load(index, where, i0 - 1, j0 - 1, k0 - 1, places)
        load(phi, where, i0 - 1, j0 - 1, k0 - 1, depth)
        opened = np.empty((3, 10, 10, 10), np.float32)
        load(ou, where, i0 - 1, j0 - 1, k0 - 1, opened[0])
        load(ov, where, i0 - 1, j0 - 1, k0 - 1, opened[1])
        load(ow, where, i0 - 1, j0 - 1, k0 - 1, opened[2])
        places_line, depth_line, open_line = places.reshape(1000), depth.reshape(1000), opened.reshape(3000)
        for a in range(8):
            for b in range(8):
                if live[t, a, b] == 0:
                    continue
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    place = places_line[np.uint64(p)]
                    if (live[t, a, b] >> c) & 1 == 0:
                        continue  # beyond a periodic wall lie places too, those of the cells that it repeats
                    held = 0.0
                    for s in range(6):
                        axis = s >> 1
                        step = 100 if axis == 0 else (10 if axis == 1 else 1)
                        upper = p + step if s & 1 else p
                        f = open_line[np.uint64(1000 * axis + upper)]
                        if f <= SLIT:
                            continue
                        o = np.uint64(p + step if s & 1 else p - step)
                        n = places_line[o]
                        if n < 0:
                            held += f / surface_gap(depth_line[np.uint64(p)], depth_line[o])
                            continue
                        link(links, place >> 3, c, s, n)
                        if s == 0:
                            x[place >> 3, c] = f
                        elif s == 2:
                            y[place >> 3, c] = f
                        elif s == 4:
                            z[place >> 3, c] = f
                    surface[place >> 3, c] = held


def assemble(phi: np.ndarray, solids: Solids) -> System:
    """Matrix over the cells whose centre is in liquid and that have an open face."""
    tiles = solids.tiles
    count = np.zeros(len(tiles) + 1, np.int64)
    live = np.zeros((len(tiles) + 1, 8, 8), np.uint8)
    high = np.array(tiles.layout.cells) - PAD
    _live_cells(tiles.first, tiles.where, phi, *solids.open, PAD, high, live, count)
    start = np.cumsum(count)
    n = int(start[-1])
    first, links = np.zeros((n + 1, 3), np.int32), np.zeros((n + 1, 8), np.uint32)
    index = tiles.field(-1, np.int32)
    list_pencils(tiles.first, live, start, first, links, index)
    tiles.wrap(index)
    x, y, z, surface = (np.zeros((len(first), 8), np.float32) for _ in range(4))
    _assemble(tiles.first, live, tiles.where, index, phi, *solids.open, x, y, z, surface, links)
    return System(first, x, y, z, surface, links, index, live)


@kernel(inline="always")
def _through(field, opened, where, i, j, k, kick):
    """Flux through a face; a slit's without the kick, which the wall bears there."""
    f = at(opened, where, i, j, k)
    flow = at(field, where, i, j, k)
    return f * (flow - kick if f <= SLIT else flow)


@kernel
def solid_at_face(axis, i, j, k, where, phi, owner):
    """Row of the deepest solid at a face's centre, by its corners; -1 for the walls."""
    best, who = 1e9, -1
    for a in range(2):
        for b in range(2):
            if axis == 0:
                ni, nj, nk = i, j + a, k + b
            elif axis == 1:
                ni, nj, nk = i + a, j, k + b
            else:
                ni, nj, nk = i + a, j + b, k
            d = at(phi, where, ni, nj, nk)
            if d < best:
                best = d
                who = at(owner, where, ni, nj, nk)
    return who


@kernel
def solid_face_velocity(axis, i, j, k, where, phi, owner, motion):
    """Velocity component of the deepest solid at a face centre (voxels/s)."""
    who = solid_at_face(axis, i, j, k, where, phi, owner)
    x = i + (0.0 if axis == 0 else 0.5)
    y = j + (0.0 if axis == 1 else 0.5)
    z = k + (0.0 if axis == 2 else 0.5)
    return velocity_of(motion, who, x, y, z)[axis]


@kernel
def _tension_in(where, index, depth, tense, ou, ov, ow, i, j, k):
    """What the pressure at the surface about a liquid cell adds to the right side."""
    total, own = 0.0, at(tense, where, i, j, k)
    for s in range(6):
        axis, side = s // 2, s % 2
        step = 1 if side else -1
        ni, nj, nk = i + (step if axis == 0 else 0), j + (step if axis == 1 else 0), k + (step if axis == 2 else 0)
        if at(index, where, ni, nj, nk) >= 0:
            continue
        opened = ou if axis == 0 else (ov if axis == 1 else ow)
        f = at(opened, where, ni, nj, nk) if side else at(opened, where, i, j, k)
        if f > SLIT:
            inside, outside = at(depth, where, i, j, k), at(depth, where, ni, nj, nk)
            total += f / surface_gap(inside, outside) * at_surface(inside, outside, own, at(tense, where, ni, nj, nk))
    return total


@shared
def _divergence(
    rows, first, links, where, u, v, w, ou, ov, ow, moving, owner, phi, motion, kick, index, depth, tense, out
):
    for n in prange(rows.shape[0]):
        r = rows[n]
        for c in range(8):
            if (links[r, LIVE] >> c) & 1 == 0:
                continue
            i, j, k = first[r, 0], first[r, 1], first[r, 2] + c
            total = _through(u, ou, where, i + 1, j, k, kick[0]) - _through(u, ou, where, i, j, k, kick[0])
            total += _through(v, ov, where, i, j + 1, k, kick[1]) - _through(v, ov, where, i, j, k, kick[1])
            total += _through(w, ow, where, i, j, k + 1, kick[2]) - _through(w, ow, where, i, j, k, kick[2])
            if moving:
                for s in range(6):
                    axis, side = s // 2, s % 2
                    fi = i + (side if axis == 0 else 0)
                    fj = j + (side if axis == 1 else 0)
                    fk = k + (side if axis == 2 else 0)
                    opened = ou if axis == 0 else (ov if axis == 1 else ow)
                    f = at(opened, where, fi, fj, fk)
                    if f < 1.0:
                        speed = solid_face_velocity(axis, fi, fj, fk, where, phi, owner, motion)
                        total += (1.0 - f) * (speed if side else -speed)
            if tense.shape[0] > 0:
                total -= _tension_in(where, index, depth, tense, ou, ov, ow, i, j, k)
            out[r, c] = -total


def right_side(
    system: System,
    solids: Solids,
    velocity: list[np.ndarray],
    kick: np.ndarray,
    surface: Surface,
    right: np.ndarray | None = None,
    rows: np.ndarray | None = None,
) -> np.ndarray:
    """What the system's matrix has to give, float64 (n + 1, 8); or that of some pencils (m,) anew, in place."""
    right = system.values() if right is None else right
    rows = np.arange(1, len(right)) if rows is None else rows
    moving = (solids.moving, solids.owner, solids.phi, solids.motion)
    own = (system.first, system.links, solids.tiles.where, *velocity, *solids.open, *moving, kick)
    _divergence(rows, *own, system.index, surface.phi, surface.tense, right)
    return right


@kernel(parallel=True)
def _apply(axis, first, where, index, phi, tense, opened, value, field, valid):
    for t in prange(1, first.shape[0]):
        # the tile before along the axis has the other cells of the lowest faces
        before = row_of(
            where,
            first[t, 0] - (8 if axis == 0 else 0),
            first[t, 1] - (8 if axis == 1 else 0),
            first[t, 2] - (8 if axis == 2 else 0),
        )
        if all_below(index[t].reshape(512), 0) and all_below(index[before].reshape(512), 0):
            continue
        for a in range(8):
            i = first[t, 0] + a
            for b in range(8):
                j = first[t, 1] + b
                for c in range(8):
                    k = first[t, 2] + c
                    valid[t, a, b, c] = 0
                    if opened[t, a, b, c] <= SLIT:
                        continue
                    li, lj, lk = i - (1 if axis == 0 else 0), j - (1 if axis == 1 else 0), k - (1 if axis == 2 else 0)
                    below, above = at(index, where, li, lj, lk), index[t, a, b, c]
                    if below < 0 and above < 0:
                        continue
                    if below >= 0 and above >= 0:
                        jump = value[above] - value[below]
                    else:
                        inside, outside = at(phi, where, li, lj, lk), phi[t, a, b, c]
                        if below < 0:
                            inside, outside = outside, inside
                        jump = value[above] if below < 0 else value[below]
                        if tense.shape[0] > 0:
                            own, other = at(tense, where, li, lj, lk), tense[t, a, b, c]
                            if below < 0:
                                own, other = other, own
                            jump -= at_surface(inside, outside, own, other)
                        jump = (jump if below < 0 else -jump) / surface_gap(inside, outside)
                    field[t, a, b, c] -= np.float32(jump)
                    # a gap between wall and air would have to pass all that comes into its cell, many times
                    # as fast, though that cell is far from full: its liquid moves as that beside it
                    at_air = below < 0 or above < 0
                    valid[t, a, b, c] = 0 if at_air and opened[t, a, b, c] < NARROW else 1


def apply_gradient(
    system: System, value: np.ndarray, surface: Surface, solids: Solids, velocity: list[np.ndarray]
) -> list[np.ndarray]:
    """Take the gradient of `value` off the face velocities, in place; returns which then are the liquid's."""
    tiles, value = solids.tiles, value.reshape(-1)
    valid = [tiles.field(0, np.uint8) for _ in velocity]
    grid = (tiles.first, tiles.where, system.index, surface.phi, surface.tense)
    for axis in range(3):
        _apply(axis, *grid, solids.open[axis], value, velocity[axis], valid[axis])
    return valid


def project(
    system: System,
    surface: Surface,
    solids: Solids,
    velocity: list[np.ndarray],
    kick: np.ndarray,
    tolerance: float = 1e-6,
) -> tuple[list[np.ndarray], Solution]:
    """Make the face velocities divergence-free, in place.

    Parameters
    ----------
    kick : (3,) voxels/s, what forces have just added to all velocities

    Returns
    -------
    (valid, solution) : faces that carry liquid velocities, as uint8; the solve's outcome with the
        pressure in `solution.value`, like the system's pencils.
    """
    solution = system.solver.solve(right_side(system, solids, velocity, kick, surface), tolerance)
    valid = apply_gradient(system, solution.value, surface, solids, velocity)
    return valid, solution
