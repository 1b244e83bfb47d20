"""Viscosity: an implicit step that takes the least of inertia and dissipation together.

Over a step dt the velocity u* becomes the u that makes

    1/2 sum of m |u - u*|^2  +  dt sum of V nu (e_xx^2 + e_yy^2 + e_zz^2 + 2 e_xy^2 + 2 e_xz^2 + 2 e_yz^2)

least (Batty & Bridson 2008, "Accurate viscous free surfaces for buckling, coiling, and rotating liquids"): e is the
symmetric gradient of the staggered velocity, stretches at cells' centres and shears at their edges; m and V are the
shares of the cubes about faces, centres and edges that liquid fills. A free surface then bears no stress by itself,
and turning as a whole is free, since it has no strain. Liquid sticks to solids: faces whose centre lies in one move
with it. Between such a face and the next in the liquid the velocity falls over the way d along the axis from that one
to the wall, not over a voxel, so a shear or a stretch there weighs 1/d: the energy of a layer as thick as d whose slope
is 1/d. The mass about such a face goes half as far as d: across a channel these are linear finite elements with lumped
masses, whose steady flow is exact. Along walls that lean across the grid stretches take as much as shears do; weighed
by their cell's open share alone they would let films flow too fast.

The matrix is symmetric and positive definite; it is solved by conjugate gradients with its diagonal, in double
precision and without being stored, tile by tile. Walls thinner than the grid can tell part no shear.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.fractions import SLIT
from basin.grid.tiles import Tiles, all_zero, load, none_below
from basin.kernels import kernel, shared
from basin.liquid import levelset
from basin.liquid.band import MadeOf
from basin.liquid.levelset import LEAST_ROOM
from basin.liquid.particles import M, Particles
from basin.liquid.pressure import solid_face_velocity
from basin.liquid.solids import Solids
from basin.liquid.sorting import Tiling

TOLERANCE = 1e-6  # of the momentum that there is
MOST_STEPS = 3000
TOUCHES = np.float32(1e-3)  # voxels: a face's centre this near to a solid is in it
NEAREST = np.float32(0.1)  # voxels: least way between a face's centre and the wall that it strains against
# steps along the axes between nodes and between cells in blocks of a tile and its rim that lie as lines
NODE, CELL = (121, 11, 1), (100, 10, 1)
BETWEEN = np.array(
    [[0, 1, 2], [0, 2, 1], [1, 2, 0]]
)  # of edges: the axes that their faces are square to, and their own
# a film's thickness from what its level says of it, which blurs both its sides: measured from 0.4 to 1 voxels
FILM = (np.float32(0.25), np.float32(0.64))
THINNEST_FILM = np.float32(0.2)  # voxels
FADES = np.float32(0.2)  # voxels of thickness over which a second face across a film comes to count
LAYER = 1.0  # seconds in which the layer that a wall holds back grows to be seen
THINNEST = 1e-6  # of the thickest: what is thinner gives way all the same
STAGE = 1.0 - 0.5**0.5  # share of a step that each of its two stages is solved over
SEEN = np.float32(0.05)  # particle volume in a voxel from which on its particles tell its viscosity


@dataclass(frozen=True)
class Damped:
    """What a step of viscosity took: iterations, and the residual they left, as a share of the momentum."""

    iterations: int
    residual: float


def at_cells(
    particles: Particles, column: int, tiling: Tiling, tiles: Tiles, like: MadeOf, hidden: np.ndarray
) -> np.ndarray:
    """Kinematic viscosity at cells' centres, of the unit that particles carry: the harmonic mean of those about them.

    By volume. Layers of unlike liquids that shear share their stress, so what gives, the inverse, is what adds up;
    the plain mean would make the thick one too thick by most of a voxel.

    Parameters
    ----------
    column : of `particles.carried`
    like : what the tiles' particles are, for cells that none is near
    """
    nu = particles.carried[:, column]
    field = np.broadcast_to(like.carried[:, column, None, None, None], tiles.field().shape).copy()
    if len(particles) == 0 or nu.min() == nu.max():
        return field
    held = levelset.density(particles, tiling, tiles, hidden)
    weighed = particles.copy()
    weighed.record[:, M] /= np.maximum(nu, np.float32(THINNEST) * nu.max())
    total = levelset.density(weighed, tiling, tiles, hidden)
    near = held > SEEN
    field[near] = held[near] / total[near]
    return field


@kernel(inline="always")
def _clipped(x):
    return min(max(x, np.float32(0.0)), np.float32(1.0))


@kernel
def _depth(phi, wide, p, one, other):
    """Level at the middle of the cells p, p - one, p - other, p - one - other; of a face with `other` 0.

    Cells with hardly any room know nothing and are left out.
    """
    total, count = np.float32(0.0), np.float32(0.0)
    for a in range(2):
        for b in range(2 if other > 0 else 1):
            q = p - a * one - b * other
            if wide[q] >= LEAST_ROOM:
                total += phi[q]
                count += np.float32(1.0)
    return total / count if count > 0 else np.float32(1.0)


@kernel(inline="always")
def _full(depth):
    """Share that liquid fills of a cube whose middle is at a level."""
    return _clipped(np.float32(0.5) - depth)


@kernel(inline="always")
def _centre(node, n, first, second):
    """Distance to solids at the middle of the face between four nodes, in a block that lies as one line."""
    return np.float32(0.25) * (node[n] + node[n + first] + node[n + second] + node[n + first + second])


@kernel
def _held(node, opened, n, p, axis):
    """Whether the face square to an axis at node n and cell p moves with a solid."""
    inside = _centre(node, n, NODE[(axis + 1) % 3], NODE[(axis + 2) % 3]) <= TOUCHES
    return inside or opened[axis, p] <= SLIT


@kernel(inline="always")
def _way(free, held):
    """How far from a face the wall is, towards one beside it that the wall holds, by their distances to it."""
    return max(free / (free - min(held, np.float32(0.0))), NEAREST)


@kernel
def _extent(node, opened, n, p, axis):
    """Volume of which a face's velocity moves the mass: halfway to its neighbours, or to a wall before them."""
    one, two = NODE[(axis + 1) % 3], NODE[(axis + 2) % 3]
    near = _centre(node, n, one, two)
    volume = np.float32(1.0)
    for d in range(3):
        length = np.float32(0.0)
        for side in (-1, 1):
            beside = n + side * NODE[d]
            if _held(node, opened, beside, p + side * CELL[d], axis):
                length += np.float32(0.5) * _way(near, _centre(node, beside, one, two))
            else:
                length += np.float32(0.5)
        volume *= length
    return volume


@kernel
def _thin(near, step, depth):
    """How much more a strain of a film against its wall weighs that has only one face across it.

    The face's velocity u is that of the particles at its own distance d from the wall; in the mean over a film of
    thickness h it is u h / 2d, and the mass about the face goes (1 + d) / 2 far. So a weight of 1 / d lets it flow
    3 (1 + d) / 4h times as fast as Nusselt (1916). `near` is d, `step` how much farther the next face would be, and
    `depth` the liquid's level there.
    """
    thick = FILM[0] + FILM[1] * (near - depth)
    alone = _clipped((near + np.float32(0.5) * step - thick) / FADES)
    more = np.float32(0.75) * (np.float32(1.0) + near) / max(thick, THINNEST_FILM)
    return np.float32(1.0) + alone * max(more - np.float32(1.0), np.float32(0.0))


@kernel
def _against(node, n, beside, one, two, depth):
    """What a strain between a free face, at node n, and one beside it that a wall holds weighs."""
    free, held = _centre(node, n, one, two), _centre(node, beside, one, two)
    return _thin(free, free - min(held, np.float32(0.0)), depth) / _way(free, held)


@kernel
def _stretched(node, opened, n, p, axis, depth, own):
    """Share of a cell that is open, or what its stretch along an axis weighs against a wall."""
    one, two = NODE[(axis + 1) % 3], NODE[(axis + 2) % 3]
    low, high = n, n + NODE[axis]
    low_in, high_in = _held(node, opened, low, p, axis), _held(node, opened, high, p + CELL[axis], axis)
    if low_in == high_in:
        return own
    return _against(node, high if low_in else low, low if low_in else high, one, two, depth)


@kernel
def _shear(node, opened, n, p, x, y, along, depth):
    """Share of the cube about an edge that is open, or what a shear there weighs against a wall.

    The edge lies along an axis, at node n and cell p, between two faces square to x and two square to y; `depth` is the
    liquid's level there.
    """
    weight, walled = np.float32(0.0), False
    for turn in range(2):
        here, across = (x, y) if turn == 0 else (y, x)
        # faces square to `across`, a step along `here` apart
        low = n - NODE[here]
        high_in = _held(node, opened, n, p, across)
        low_in = _held(node, opened, low, p - CELL[here], across)
        if high_in != low_in:
            walled = True
            found = _against(node, low if high_in else n, n if high_in else low, NODE[here], NODE[along], depth)
            weight = max(weight, found)
    if walled:
        return weight
    return _clipped(np.float32(0.5) + np.float32(0.5) * (node[n] + node[n + NODE[along]]))


@kernel
def _mean(nu, p, one, other):
    """The harmonic mean of the four cells about an edge."""
    a, b, c, d = nu[p], nu[p - one], nu[p - other], nu[p - one - other]
    if min(min(a, b), min(c, d)) <= np.float32(0.0):
        return np.float32(0.0)
    one_of, other_of = np.float32(1.0) / a + np.float32(1.0) / b, np.float32(1.0) / c + np.float32(1.0) / d
    return np.float32(4.0) / (one_of + other_of)


@shared
def _weigh(first, where, phi, nu, dt, node_phi, open_u, open_v, open_w, own, wide, cell, edge, mass):
    for t in prange(1, first.shape[0]):
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        depth, thick = np.empty((10, 10, 10), np.float32), np.empty((10, 10, 10), np.float32)
        load(phi, where, i0, j0, k0, depth)
        if none_below(depth.reshape(1000), np.float32(1.5)):  # then no cube about a face or an edge holds any
            continue
        load(nu, where, i0, j0, k0, thick)
        room, node = np.empty((10, 10, 10), np.float32), np.empty((11, 11, 11), np.float32)
        share = np.empty((3, 10, 10, 10), np.float32)
        load(wide, where, i0, j0, k0, room)
        load(open_u, where, i0, j0, k0, share[0])
        load(open_v, where, i0, j0, k0, share[1])
        load(open_w, where, i0, j0, k0, share[2])
        load(node_phi, where, i0, j0, k0, node)
        depth_line, thick_line, room_line = depth.reshape(1000), thick.reshape(1000), room.reshape(1000)
        node_line, opened = node.reshape(1331), share.reshape((3, 1000))
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    n = ((a + 1) * 11 + b + 1) * 11 + c + 1
                    if room_line[p] >= LEAST_ROOM:
                        stiff = np.float32(2.0 * dt) * thick_line[p] * _full(depth_line[p])
                        for d in range(3):
                            weight = _stretched(node_line, opened, n, p, d, depth_line[p], own[t, a, b, c])
                            cell[d, t, a, b, c] = stiff * weight
                    for e in range(3):
                        x, y, along = BETWEEN[e, 0], BETWEEN[e, 1], BETWEEN[e, 2]
                        level = _depth(depth_line, room_line, p, CELL[x], CELL[y])
                        weight = _full(level)
                        if weight > 0:
                            weight *= _shear(node_line, opened, n, p, x, y, along, level)
                            weight *= np.float32(dt) * _mean(thick_line, p, CELL[x], CELL[y])
                        edge[e, t, a, b, c] = weight
                    for d in range(3):
                        if _held(node_line, opened, n, p, d):
                            mass[d, t, a, b, c] = np.float32(-1.0)
                        else:
                            full = _full(_depth(depth_line, room_line, p, CELL[d], 0))
                            mass[d, t, a, b, c] = full * _extent(node_line, opened, n, p, d)


@shared
def _diagonal(first, where, inside, cell_x, cell_y, cell_z, xy, xz, yz, mass, inverse, live):
    for t in prange(1, first.shape[0]):
        block = np.empty((6, 10, 10, 10), np.float32)
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(cell_x, where, i0, j0, k0, block[0])
        load(cell_y, where, i0, j0, k0, block[1])
        load(cell_z, where, i0, j0, k0, block[2])
        load(xy, where, i0, j0, k0, block[3])
        load(xz, where, i0, j0, k0, block[4])
        load(yz, where, i0, j0, k0, block[5])
        line = block.reshape((6, 1000))
        if all_zero(block.reshape(6000)):
            continue
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    if not inside[t, a, b, c]:
                        continue
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    for d in range(3):
                        m = mass[d, t, a, b, c]
                        if m < 0:
                            continue
                        step = 100 if d == 0 else (10 if d == 1 else 1)
                        stiff = line[d, p] + line[d, p - step]
                        first_edge, second_edge = (3, 4) if d == 0 else ((3, 5) if d == 1 else (4, 5))
                        first_step = 10 if d == 0 else 100
                        second_step = 10 if d == 2 else 1
                        stiff += line[first_edge, p] + line[first_edge, p + first_step]
                        stiff += line[second_edge, p] + line[second_edge, p + second_step]
                        if stiff > 0:
                            inverse[d, t, a, b, c] = np.float32(1.0) / (m + stiff)
                            live[t] = True


@kernel(parallel=True)
def _gather(row, first, where, cell_x, cell_y, cell_z, xy, xz, yz, weight):
    """The weights of tiles with their rims, as lines, so that iterations need not look for them."""
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        load(cell_x, where, i0, j0, k0, weight[n, 0])
        load(cell_y, where, i0, j0, k0, weight[n, 1])
        load(cell_z, where, i0, j0, k0, weight[n, 2])
        load(xy, where, i0, j0, k0, weight[n, 3])
        load(xz, where, i0, j0, k0, weight[n, 4])
        load(yz, where, i0, j0, k0, weight[n, 5])


@kernel(inline="always")
def _stretch(out, weight, u, begin, end, step):
    """Stress of a stretch along an axis, whole lines at a time, over the rims too."""
    for p in range(begin, end):
        out[p] = weight[p] * (u[p + step] - u[p])


@kernel(inline="always")
def _sheared(out, weight, u, v, begin, end, across_u, across_v):
    """Stress of a shear: of u across an axis and of v across the other."""
    for p in range(begin, end):
        out[p] = weight[p] * (u[p] - u[p - across_u] + v[p] - v[p - across_v])


@kernel(inline="always")
def _pull(out, mass, inverse, u, stretch, along, one, step_one, two, step_two):
    """A component of the matrix times the velocity in a tile, and its product with the velocity."""
    total = 0.0
    for a in range(8):
        for b in range(8):
            q, p = (a * 8 + b) * 8, ((a + 1) * 10 + b + 1) * 10 + 1
            for k in range(8):
                pull = mass[q + k] * u[p + k] + stretch[p + k - along] - stretch[p + k]
                pull += one[p + k] - one[p + k + step_one] + two[p + k] - two[p + k + step_two]
                pull = pull if inverse[q + k] > 0 else 0.0
                out[q + k] = pull
                total += pull * u[p + k]
    return total


@shared(fastmath=True)
def _apply(row, first, where, weight, mass, inverse, u, v, w, out, part):
    """The matrix times a velocity; `part` is its product with the velocity, tile by tile."""
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        flow, stress = np.empty((3, 10, 10, 10)), np.empty((6, 1000))
        load(u, where, i0, j0, k0, flow[0])
        load(v, where, i0, j0, k0, flow[1])
        load(w, where, i0, j0, k0, flow[2])
        x, y, z = flow[0].reshape(1000), flow[1].reshape(1000), flow[2].reshape(1000)
        stiff = weight[n].reshape((6, 1000))
        _stretch(stress[0], stiff[0], x, 0, 900, 100)
        _stretch(stress[1], stiff[1], y, 100, 900, 10)
        _stretch(stress[2], stiff[2], z, 100, 900, 1)
        _sheared(stress[3], stiff[3], x, y, 100, 1000, 10, 100)
        _sheared(stress[4], stiff[4], x, z, 100, 1000, 1, 100)
        _sheared(stress[5], stiff[5], y, z, 100, 900, 1, 10)
        total = _pull(
            out[0, t].reshape(512),
            mass[0, t].reshape(512),
            inverse[0, t].reshape(512),
            x,
            stress[0],
            100,
            stress[3],
            10,
            stress[4],
            1,
        )
        total += _pull(
            out[1, t].reshape(512),
            mass[1, t].reshape(512),
            inverse[1, t].reshape(512),
            y,
            stress[1],
            10,
            stress[3],
            100,
            stress[5],
            1,
        )
        total += _pull(
            out[2, t].reshape(512),
            mass[2, t].reshape(512),
            inverse[2, t].reshape(512),
            z,
            stress[2],
            1,
            stress[4],
            100,
            stress[5],
            10,
        )
        part[n] = total


@kernel(parallel=True)
def _go(row, far, way, through, found, left, inverse, part):
    """Go `far` along `way`; `part` is, tile by tile, the residual's square and its product with its preconditioned."""
    for n in prange(row.shape[0]):
        t = row[n]
        square, product = 0.0, 0.0
        for d in range(3):
            x, r = found[d, t].reshape(512), left[d, t].reshape(512)
            p, q, s = way[d, t].reshape(512), through[d, t].reshape(512), inverse[d, t].reshape(512)
            for e in range(512):
                x[e] += far * p[e]
                r[e] -= far * q[e]
                square += r[e] * r[e]
                product += r[e] * r[e] * s[e]
        part[n, 0], part[n, 1] = square, product


@kernel(parallel=True)
def _turn(row, share, left, inverse, way):
    for n in prange(row.shape[0]):
        t = row[n]
        for d in range(3):
            p, r, s = way[d, t].reshape(512), left[d, t].reshape(512), inverse[d, t].reshape(512)
            for e in range(512):
                p[e] = s[e] * r[e] + share * p[e]


@kernel(parallel=True)
def _of_solids(first, where, axis, mass, phi, owner, motion, field):
    """Faces in solids take their velocity, in place."""
    for t in prange(1, first.shape[0]):
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    if mass[t, a, b, c] < 0:
                        i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                        field[t, a, b, c] = solid_face_velocity(axis, i, j, k, where, phi, owner, motion)


class Viscous:
    """The matrix of one step."""

    def __init__(self, phi: np.ndarray, nu: np.ndarray, solids: Solids, dt: float):
        """Weigh a moment's liquid.

        Parameters
        ----------
        phi : level set at cells' centres, voxels
        nu : kinematic viscosity there, voxels^2 per second
        dt : seconds that it acts
        """
        tiles = self.tiles = solids.tiles
        self._solids = solids
        shape = (3, *phi.shape)
        self._cell, self._edge, self._mass, self._inverse = (np.zeros(shape, np.float32) for _ in range(4))
        grid = (tiles.first, tiles.where)
        room = (solids.phi, *solids.open, solids.own, solids.wide)
        _weigh(*grid, phi, nu, dt, *room, self._cell, self._edge, self._mass)
        tiles.wrap(*self._cell, *self._edge)
        live = np.zeros(len(tiles) + 1, bool)
        _diagonal(
            *grid,
            tiles.between_walls(np.flatnonzero(tiles.layout.periodic)),
            *self._cell,
            *self._edge,
            self._mass,
            self._inverse,
            live,
        )
        self._row = np.flatnonzero(live)
        self._weight = np.empty((len(self._row), 6, 10, 10, 10), np.float32)
        _gather(self._row, *grid, *self._cell, *self._edge, self._weight)

    def damp(
        self, velocity: list[np.ndarray], tolerance: float = TOLERANCE, guess: list[np.ndarray] | None = None
    ) -> Damped:
        """Let viscosity act on face velocities (voxels/s), in place.

        Faces beyond the liquid must hold velocities that go on from its own; those at its rim change with it. As
        much of a guess at the change is taken as is of use.
        """
        tiles, row, solids = self.tiles, self._row, self._solids
        start = np.stack(velocity).astype(np.float64)
        for axis in range(3):
            held = (self._mass[axis], solids.phi, solids.owner, solids.motion, start[axis])
            _of_solids(tiles.first, tiles.where, axis, *held)
        tiles.wrap(*start)
        left, found, way = np.zeros_like(start), np.zeros_like(start), np.zeros_like(start)
        part = np.zeros(len(row))
        # the mass takes no part in the change that stress alone brings about
        self._times(start, left, part, np.zeros_like(self._mass))
        np.negative(left, out=left)
        # walls give momentum too: liquid at rest beside one that moves is not there yet
        fastest = float(np.abs(start[self._mass < 0]).max(initial=0.0)) if solids.moving else 0.0
        mass = np.where(self._inverse > 0, self._mass, np.float32(0.0))
        momentum = float(np.sqrt(((mass * start) ** 2 + (mass * fastest) ** 2).sum(axis=(2, 3, 4)).sum()))
        through, sums = np.zeros_like(start), np.zeros((len(row), 2))
        if guess is not None:
            way = np.where(self._inverse > 0, np.stack(guess), 0.0)
            tiles.wrap(*way)
            self._times(way, through, part, self._mass)
            far = float((way * left).sum() / max(part.sum(), 1e-30))
            _go(row, far, way, through, found, left, self._inverse, sums)
        _go(row, 0.0, way, through, found, left, self._inverse, sums)
        square, product = sums.sum(axis=0)
        taken, turn = 0, 0.0
        while np.sqrt(square) > tolerance * momentum and taken < MOST_STEPS:
            _turn(row, turn, left, self._inverse, way)
            tiles.wrap(*way)
            self._times(way, through, part, self._mass)
            _go(row, product / part.sum(), way, through, found, left, self._inverse, sums)
            before = product
            square, product = sums.sum(axis=0)
            taken, turn = taken + 1, product / before
        for axis in range(3):
            velocity[axis] += found[axis].astype(np.float32)
        tiles.wrap(*velocity)
        return Damped(taken, float(np.sqrt(square)) / momentum if momentum > 0 else 0.0)

    def faces(self) -> list[np.ndarray]:
        """Which faces it acts on, as uint8 fields: beyond the liquid's own they go on from it without stress."""
        acted = [(inverse > 0).astype(np.uint8) for inverse in self._inverse]
        self.tiles.wrap(*acted)
        return acted

    def _times(self, flow: np.ndarray, out: np.ndarray, part: np.ndarray, mass: np.ndarray) -> None:
        own = (self._weight, mass, self._inverse)
        _apply(self._row, self.tiles.first, self.tiles.where, *own, *flow, out, part)


def act(
    velocity: list[np.ndarray],
    pushed: list[np.ndarray],
    phi: np.ndarray,
    nu: np.ndarray,
    solids: Solids,
    dt: float,
) -> tuple[Damped, list[np.ndarray]]:
    """Let viscosity act on face velocities (voxels/s) over a step of `dt` seconds, in place; `Viscous` has the rest.

    Two stages with one matrix: of second order, and without an echo of what is too stiff to be followed (Alexander
    1977, SIAM J. Numer. Anal. 14, theorem 5). A single one to the end of the step, of first order, makes the layer
    beside a wall that swings too thin.

    Parameters
    ----------
    pushed : what other forces changed of the velocity in this step, as fields: they act all the while beside the
        viscosity, or what flows steadily would be too slow

    Returns
    -------
    what it took, and the faces it acted on
    """
    matrix = Viscous(phi, nu, solids, STAGE * dt)
    first = [u - np.float32(1.0 - STAGE) * change for u, change in zip(velocity, pushed, strict=True)]
    given = [u.copy() for u in first]
    begun = matrix.damp(first)
    for u, change, changed in zip(velocity, pushed, first, strict=True):
        start = u - change
        u[:] = start + np.float32((1.0 - STAGE) / STAGE) * (changed - start) + np.float32(STAGE) * change
    ended = matrix.damp(velocity, guess=[u1 - u for u1, u in zip(first, given, strict=True)])
    taken = Damped(begun.iterations + ended.iterations, max(begun.residual, ended.residual))
    return taken, matrix.faces()


@shared
def _stick(beside, first, where, axis, opened, nu, phi, owner, motion, field):
    for n in prange(beside.shape[0]):
        t = beside[n]
        node = np.empty((9, 9, 9), np.float32)
        load(phi, where, first[t, 0], first[t, 1], first[t, 2], node)
        line = node.reshape(729)
        one, two = (9, 1) if axis == 0 else ((81, 1) if axis == 1 else (81, 9))
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    middle = _centre(line, (a * 9 + b) * 9 + c, one, two)
                    if middle > TOUCHES and opened[t, a, b, c] > SLIT:
                        continue
                    i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                    its = solid_face_velocity(axis, i, j, k, where, phi, owner, motion)
                    deep = min(max(-middle, 0.0), 0.5)
                    hold = LAYER * nu[t, a, b, c]
                    share = (1.0 - hold * deep / (1.0 - deep)) / (1.0 + hold)
                    field[t, a, b, c] = its + share * (field[t, a, b, c] - its)


def stick(velocity: list[np.ndarray], nu: np.ndarray, solids: Solids) -> None:
    """Let faces in solids, which hold what slides along them, go on from liquid that sticks, in place.

    Velocities fall evenly to the wall's own and on beyond it. Liquid whose layer at a wall, as it grows in a second, is
    thinner than a voxel still slides.
    """
    tiles = solids.tiles
    for axis in range(3):
        held = (nu, solids.phi, solids.owner, solids.motion, velocity[axis])
        _stick(solids.beside, tiles.first, tiles.where, axis, solids.open[axis], *held)
    tiles.wrap(*velocity)
