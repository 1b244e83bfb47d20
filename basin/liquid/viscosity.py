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

The matrix is symmetric and positive definite; it is solved by conjugate gradients in double precision, after a
multigrid cycle in single precision (see `basin.liquid.coarser`), or its diagonal where little is stiff. Walls thinner
than the grid can tell hold faces on both their sides by friction (see `basin.liquid.gripping`).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.grid.fractions import SLIT
from basin.grid.tiles import Tiles, all_zero, load, none_below
from basin.kernels import kernel, shared
from basin.liquid import levelset
from basin.liquid.coarser import Cycle
from basin.liquid.fullness import CELL, clipped, depth_between, full
from basin.liquid.gripping import NEAREST, Grip, reach
from basin.liquid.levelset import LEAST_ROOM
from basin.liquid.particles import M, Particles
from basin.liquid.pressure import solid_at_face, solid_face_velocity
from basin.liquid.solids import SLIP, Solids, solid_of, velocity_of
from basin.liquid.sorting import Tiling
from basin.liquid.strains import Strains

TOLERANCE = 1e-6  # of the momentum that there is
MOST_STEPS = 3000
AS_CELLS = np.zeros((0, 1, 8, 8, 8), np.float32)
NO_BODIES = np.zeros((0, 3))
# with the diagonal alone, iterations by the root of it over the mass, at most by faces along an axis; with cycles
ALONE, CYCLES = (10.5, 11.0), 13.0
ALONE_TAKES, CYCLE_TAKES, BEGINS = (3e-4, 11e-9), (2.5e-3, 100e-9), (0.015, 300e-9)  # seconds each, and a face
TOUCHES = np.float32(1e-3)  # voxels: a face's centre this near to a solid is in it
NODE = (121, 11, 1)  # steps along the axes between nodes of a tile and its rim that lie as a line
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
    particles: Particles, value: np.ndarray, tiling: Tiling, tiles: Tiles, like: np.ndarray, hidden: np.ndarray
) -> np.ndarray:
    """Kinematic viscosity at cells' centres, of the unit of the particles': the harmonic mean of those about them.

    Layers of unlike liquids that shear share their stress, so what gives, the inverse, is what adds up; the plain mean
    would make the thick one too thick by most of a voxel. For the parameters see `mean_at_cells`.
    """
    return mean_at_cells(particles, value, tiling, tiles, like, hidden, harmonic=True)


def mean_at_cells(
    particles: Particles,
    value: np.ndarray,
    tiling: Tiling,
    tiles: Tiles,
    like: np.ndarray,
    hidden: np.ndarray,
    harmonic: bool = False,
) -> np.ndarray:
    """What particles are at cells' centres: the mean of those about them by volume.

    Parameters
    ----------
    value : float32 (n,), of each particle
    like : float32 (t + 1,), the same of tiles, for cells that no particle is near
    """
    field = np.broadcast_to(like[:, None, None, None], tiles.field().shape).copy()
    if len(particles) == 0 or value.min() == value.max():
        return field
    held = levelset.density(particles, tiling, tiles, hidden)
    weighed = particles.copy()
    if harmonic:
        weighed.record[:, M] /= np.maximum(value, np.float32(THINNEST) * value.max())
    else:
        weighed.record[:, M] *= value
    total = levelset.density(weighed, tiling, tiles, hidden)
    near = held > SEEN
    field[near] = held[near] / total[near] if harmonic else total[near] / held[near]
    return field


@kernel(inline="always")
def _centre(node, n, first, second):
    """Distance to solids at the middle of the face between four nodes, in a block that lies as one line."""
    return np.float32(0.25) * (node[n] + node[n + first] + node[n + second] + node[n + first + second])


@kernel
def _held(middle, opened):
    """Whether a face moves with a solid, whose distance from its middle is known; `opened` is the share not in one."""
    return middle <= TOUCHES or opened <= SLIT


@kernel
def survey(node, opened, near, held):
    """Distances to solids at the middles of all faces of a block (3, 1000), and which move with one."""
    for i in range(10):
        for j in range(10):
            for k in range(10):
                n, p = (i * 11 + j) * 11 + k, (i * 10 + j) * 10 + k
                near[0, p] = _centre(node, n, NODE[1], NODE[2])
                near[1, p] = _centre(node, n, NODE[0], NODE[2])
                near[2, p] = _centre(node, n, NODE[0], NODE[1])
                for d in range(3):
                    held[d, p] = _held(near[d, p], opened[d, p])


@kernel(inline="always")
def way_to_wall(free, held):
    """How far from a face the wall is, towards one beside it that the wall holds, by their distances to it."""
    return max(free / (free - min(held, np.float32(0.0))), NEAREST)


@kernel
def _extent(near, held, p, axis, slip):
    """Volume of which a face's velocity moves the mass: halfway to its neighbours, or to a wall before them."""
    volume = np.float32(1.0)
    for d in range(3):
        length = np.float32(0.0)
        for side in (-1, 1):
            beside = p + side * CELL[d]
            if held[axis, beside]:
                length += np.float32(reach(way_to_wall(near[axis, p], near[axis, beside]), slip))
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
    alone = clipped((near + np.float32(0.5) * step - thick) / FADES)
    more = np.float32(0.75) * (np.float32(1.0) + near) / max(thick, THINNEST_FILM)
    return np.float32(1.0) + alone * max(more - np.float32(1.0), np.float32(0.0))


@kernel
def _against(free, held, depth, slip):
    """What a strain between a free face and one beside it that a wall holds weighs, by their distances to it.

    Along a wall with a slip length the velocity falls to the wall's own so far behind it (Navier 1823), and the energy
    of the layer and of the friction on the wall is that of the whole way, which is longer where it goes askew.
    """
    askew = min(max(free - held, np.float32(0.2)), np.float32(1.0))
    weight = _thin(free, free - min(held, np.float32(0.0)), depth) / way_to_wall(free, held)
    return weight / (np.float32(1.0) + weight * slip / askew)


@kernel
def _stretched(near, held, p, axis, depth, own, slip):
    """Share of a cell that is open, or what its stretch along an axis weighs against a wall."""
    low, high = p, p + CELL[axis]
    if held[axis, low] == held[axis, high]:
        return own
    free, wall = (high, low) if held[axis, low] else (low, high)
    return _against(near[axis, free], near[axis, wall], depth, slip)


@kernel
def _shear(near, held, opened, p, x, y, depth, slip):
    """Share of the cube about an edge that is open, or what a shear there weighs against a wall.

    The edge begins at cell p's low corner, between two faces square to x and two square to y; `depth` is the liquid's
    level there.
    """
    weight, walled = np.float32(0.0), False
    for turn in range(2):
        here, across = (x, y) if turn == 0 else (y, x)
        # faces square to `across`, a step along `here` apart
        low = p - CELL[here]
        if held[across, p] != held[across, low]:
            walled = True
            free, wall = (low, p) if held[across, p] else (p, low)
            weight = max(weight, _against(near[across, free], near[across, wall], depth, slip))
    return weight if walled else opened


@kernel
def _mean(nu, p, one, other):
    """The harmonic mean of the four cells about an edge."""
    a, b, c, d = nu[p], nu[p - one], nu[p - other], nu[p - one - other]
    if min(min(a, b), min(c, d)) <= np.float32(0.0):
        return np.float32(0.0)
    one_of, other_of = np.float32(1.0) / a + np.float32(1.0) / b, np.float32(1.0) / c + np.float32(1.0) / d
    return np.float32(4.0) / (one_of + other_of)


@shared
def _weigh(
    first, where, phi, nu, nu_edge, dt, node_phi, owner, touch, open_u, open_v, open_w, own, wide, cell, edge, mass
):
    slides = (touch[:, SLIP] > 0.0).any()
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
        node_line, near, held = node.reshape(1331), np.empty((3, 1000), np.float32), np.empty((3, 1000), np.bool_)
        survey(node_line, share.reshape((3, 1000)), near, held)
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    p = ((a + 1) * 10 + b + 1) * 10 + c + 1
                    n = ((a + 1) * 11 + b + 1) * 11 + c + 1
                    slip = np.float32(0.0)
                    if slides and node_line[n] < np.float32(3.0):
                        who = solid_of(node_phi, owner, where, i0 + 1 + a, j0 + 1 + b, k0 + 1 + c)
                        slip = np.float32(touch[who, SLIP])
                    if room_line[p] >= LEAST_ROOM:
                        stiff = np.float32(2.0 * dt) * thick_line[p] * full(depth_line[p])
                        for d in range(3):
                            weight = _stretched(near, held, p, d, depth_line[p], own[t, a, b, c], slip)
                            cell[d, t, a, b, c] = stiff * weight
                    for e in range(3):
                        x, y, along = BETWEEN[e, 0], BETWEEN[e, 1], BETWEEN[e, 2]
                        level = depth_between(depth_line, room_line, p, CELL[x], CELL[y])
                        weight = full(level)
                        if weight > 0:
                            middle = np.float32(0.5) * (node_line[n] + node_line[n + NODE[along]])
                            opened = clipped(np.float32(0.5) + middle)
                            weight *= _shear(near, held, opened, p, x, y, level, slip)
                            if nu_edge.shape[0] > 0:
                                weight *= np.float32(dt) * nu_edge[e, t, a, b, c]
                            else:
                                weight *= np.float32(dt) * _mean(thick_line, p, CELL[x], CELL[y])
                        edge[e, t, a, b, c] = weight
                    for d in range(3):
                        if held[d, p]:
                            mass[d, t, a, b, c] = np.float32(-1.0)
                        else:
                            filled = full(depth_between(depth_line, room_line, p, CELL[d], 0))
                            mass[d, t, a, b, c] = filled * _extent(near, held, p, d, slip)


@shared
def _go(row, far, way, through, found, left, part):
    """Go `far` along `way`; `part` is, tile by tile, the square of what is left."""
    for n in prange(row.shape[0]):
        t = row[n]
        square = 0.0
        for d in range(3):
            x, r = found[d, t].reshape(512), left[d, t].reshape(512)
            p, q = way[d, t].reshape(512), through[d, t].reshape(512)
            for e in range(512):
                x[e] += far * p[e]
                r[e] -= far * q[e]
                square += r[e] * r[e]
        part[n] = square


@shared
def _divided(row, left, inverse, out, part):
    """`out` becomes what is left over the diagonal; `part` is, tile by tile, the product of both."""
    for n in prange(row.shape[0]):
        t = row[n]
        product = 0.0
        for d in range(3):
            r, s, z = left[d, t].reshape(512), inverse[d, t].reshape(512), out[d, t].reshape(512)
            for e in range(512):
                z[e] = r[e] * s[e]
                product += r[e] * z[e]
        part[n] = product


@shared
def _product(row, left, other, part):
    for n in prange(row.shape[0]):
        t = row[n]
        product = 0.0
        for d in range(3):
            r, z = left[d, t].reshape(512), other[d, t].reshape(512)
            for e in range(512):
                product += r[e] * z[e]
        part[n] = product


@shared
def _turn(row, share, other, way):
    for n in prange(row.shape[0]):
        t = row[n]
        for d in range(3):
            p, z = way[d, t].reshape(512), other[d, t].reshape(512)
            for e in range(512):
                p[e] = z[e] + share * p[e]


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


@shared
def _drag(first, where, cell, edge, mass, u, v, w, phi, owner, body, centre, part):
    for t in prange(1, first.shape[0]):
        weight = np.empty((6, 512), np.float32)
        for d in range(3):
            weight[d], weight[3 + d] = cell[d, t].reshape(512), edge[d, t].reshape(512)
        if all_zero(weight.reshape(3072)):
            continue
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        flow, extent = np.empty((3, 10, 10, 10)), np.empty((3, 10, 10, 10), np.float32)
        load(u, where, i0, j0, k0, flow[0])
        load(v, where, i0, j0, k0, flow[1])
        load(w, where, i0, j0, k0, flow[2])
        for d in range(3):
            load(mass[d], where, i0, j0, k0, extent[d])
        speed, moved = flow.reshape((3, 1000)), extent.reshape((3, 1000))
        if not (extent < 0).any():
            continue
        of, axis = np.empty(4, np.int64), np.empty(4, np.int64)
        for own in range(512):
            p = ((own // 64 + 1) * 10 + own // 8 % 8 + 1) * 10 + own % 8 + 1
            for e in range(6):
                if weight[e, own] <= 0:
                    continue
                if e < 3:
                    count = 2
                    axis[0] = axis[1] = e
                    of[0], of[1] = p + CELL[e], p
                else:
                    count = 4
                    x, y = BETWEEN[e - 3, 0], BETWEEN[e - 3, 1]
                    axis[0] = axis[1] = x
                    axis[2] = axis[3] = y
                    of[0], of[1], of[2], of[3] = p, p - CELL[y], p, p - CELL[x]
                stress = 0.0
                for n in range(count):
                    stress += (1.0 - 2.0 * (n % 2)) * speed[axis[n], of[n]]
                stress *= weight[e, own]
                for n in range(count):
                    q, d = of[n], axis[n]
                    if moved[d, q] >= 0:
                        continue
                    i, j, k = i0 + q // 100, j0 + q // 10 % 10, k0 + q % 10
                    who = solid_at_face(d, i, j, k, where, phi, owner)
                    if who < 0:
                        continue
                    who = body[who]
                    push = -stress * (1.0 - 2.0 * (n % 2))
                    x0 = i + (0.0 if d == 0 else 0.5) - centre[who, 0]
                    y0 = j + (0.0 if d == 1 else 0.5) - centre[who, 1]
                    z0 = k + (0.0 if d == 2 else 0.5) - centre[who, 2]
                    part[t, who, d] += push
                    if d == 0:
                        part[t, who, 4] += z0 * push
                        part[t, who, 5] -= y0 * push
                    elif d == 1:
                        part[t, who, 3] -= z0 * push
                        part[t, who, 5] += x0 * push
                    else:
                        part[t, who, 3] += y0 * push
                        part[t, who, 4] -= x0 * push


class Viscous:
    """The matrix of one step."""

    def __init__(self, phi: np.ndarray, nu: np.ndarray, solids: Solids, dt: float, nu_edge: np.ndarray = AS_CELLS):
        """Weigh a moment's liquid.

        Parameters
        ----------
        phi : level set at cells' centres, voxels
        nu : kinematic viscosity there, voxels^2 per second
        dt : seconds that it acts
        nu_edge : the same at cells' edges along z, y and x, (3, tiles + 1, 8, 8, 8), if it is not cells' harmonic mean
        """
        tiles = self.tiles = solids.tiles
        self._solids = solids
        shape = (3, *phi.shape)
        self._cell, self._edge, self._mass = (np.zeros(shape, np.float32) for _ in range(3))
        grid = (tiles.first, tiles.where)
        room = (solids.phi, solids.owner, solids.touch, *solids.open, solids.own, solids.wide)
        _weigh(*grid, phi, nu, nu_edge, dt, *room, self._cell, self._edge, self._mass)
        self._grip = Grip.of(solids, phi, nu, dt, self._edge, self._mass)
        tiles.wrap(*self._cell, *self._edge)
        self._inside = tiles.between_walls(np.flatnonzero(tiles.layout.periodic))
        mass = self._mass if self._grip is None else self._mass + self._grip.hold
        self.strains = Strains.of(*grid, self._cell, self._edge, mass, self._inside)
        self._cycle = Cycle(self.strains, tiles) if self._stiff() else None

    def _stiff(self) -> bool:
        """Whether a cycle is worth its time: what the diagonal alone would take, by how stiff and wide all is."""
        free = self.strains.inverse > 0
        faces = int(free.sum())
        if faces == 0:
            return False
        stiff = float((1.0 / self.strains.inverse[free]).sum(dtype=np.float64))
        over = stiff / max(float(self._mass[free].sum(dtype=np.float64)), 1e-30)
        alone = min(ALONE[0] * np.sqrt(over), ALONE[1] * faces ** (1 / 3)) * (ALONE_TAKES[0] + ALONE_TAKES[1] * faces)
        cycles = CYCLES * (CYCLE_TAKES[0] + CYCLE_TAKES[1] * faces) + BEGINS[0] + BEGINS[1] * faces
        return bool(alone > cycles)

    def damp(
        self, velocity: list[np.ndarray], tolerance: float = TOLERANCE, guess: list[np.ndarray] | None = None
    ) -> Damped:
        """Let viscosity act on face velocities (voxels/s), in place.

        Faces beyond the liquid must hold velocities that go on from its own; those at its rim change with it. As
        much of a guess at the change is taken as is of use.
        """
        tiles, matrix, solids = self.tiles, self.strains, self._solids
        row = matrix.row
        start = self._with_solids(velocity)
        left, found, way, other = (np.zeros_like(start) for _ in range(4))
        part = np.zeros(len(row))
        # the mass takes no part in the change that stress alone brings about
        matrix.times(start, left, part, massive=False)
        np.negative(left, out=left)
        # walls give momentum too: liquid at rest beside one that moves is not there yet
        fastest = float(np.abs(start[self._mass < 0]).max(initial=0.0)) if solids.moving else 0.0
        if self._grip is not None:
            left += np.where(matrix.inverse > 0, self._grip.pull - self._grip.hold * start, 0.0)
            fastest = max(fastest, self._grip.fastest())
        mass = np.where(matrix.inverse > 0, self._mass, np.float32(0.0))
        momentum = float(np.sqrt(((mass * start) ** 2 + (mass * fastest) ** 2).sum(axis=(2, 3, 4)).sum()))
        through = np.zeros_like(start)
        if guess is not None:
            way[:] = np.where(matrix.inverse > 0, np.stack(guess), 0.0)
            tiles.wrap(*way)
            matrix.times(way, through, part)
            far = float((way * left).sum() / max(part.sum(), 1e-30))
            _go(row, far, way, through, found, left, part)
        _go(row, 0.0, way, through, found, left, part)
        square = part.sum()
        way[:] = 0.0
        taken, before = 0, np.inf
        while np.sqrt(square) > tolerance * momentum and taken < MOST_STEPS:
            nearly, product = self._nearly_solved(left, other, part)
            _turn(row, product / before, nearly, way)
            tiles.wrap(*way)
            matrix.times(way, through, part)
            _go(row, product / part.sum(), way, through, found, left, part)
            square, before = part.sum(), product
            taken += 1
        for axis in range(3):
            velocity[axis] += found[axis].astype(np.float32)
        tiles.wrap(*velocity)
        return Damped(taken, float(np.sqrt(square)) / momentum if momentum > 0 else 0.0)

    def _with_solids(self, velocity: list[np.ndarray]) -> np.ndarray:
        """Face velocities, float64 (3, tiles + 1, 8, 8, 8), with those of faces that solids hold."""
        tiles, solids = self.tiles, self._solids
        flow = np.stack(velocity).astype(np.float64)
        for axis in range(3):
            held = (self._mass[axis], solids.phi, solids.owner, solids.motion, flow[axis])
            _of_solids(tiles.first, tiles.where, axis, *held)
        tiles.wrap(*flow)
        return flow

    def drag(self, velocity: list[np.ndarray], centre: np.ndarray) -> np.ndarray:
        """Impulse and its moment that stress gives to every body, per density: float64 (bodies, 6), in voxels.

        Parameters
        ----------
        velocity : at faces, what the step has left, voxels/s
        centre : (bodies, 3), voxels, about which the moments are
        """
        tiles, solids = self.tiles, self._solids
        part = np.zeros((len(tiles) + 1, len(centre), 6))
        if len(centre):
            flow = self._with_solids(velocity)
            weights = [np.where(self._inside, w, np.float32(0)) for w in (self._cell, self._edge)]
            bodies = (solids.phi, solids.owner, solids.body, np.ascontiguousarray(centre, np.float64))
            _drag(tiles.first, tiles.where, *weights, self._mass, *flow, *bodies, part)
            if self._grip is not None:
                counts = np.where(self._inside, self.strains.inverse, np.float32(0))
                self._grip.drag(solids, counts, flow, np.ascontiguousarray(centre, np.float64), part)
        return np.asarray(part.sum(axis=0))

    def _nearly_solved(self, left: np.ndarray, free: np.ndarray, part: np.ndarray) -> tuple[np.ndarray, float]:
        """Nearly the matrix's inverse times what is left, which may be in a free array, and the product of both."""
        matrix, found = self.strains, free
        if self._cycle is None:
            _divided(matrix.row, left, matrix.inverse, found, part)
        else:
            found = self._cycle(left)
            _product(matrix.row, left, found, part)
        return found, float(part.sum())

    def faces(self) -> list[np.ndarray]:
        """Which faces it acts on, as uint8 fields: beyond the liquid's own they go on from it without stress."""
        acted = [(inverse > 0).astype(np.uint8) for inverse in self.strains.inverse]
        self.tiles.wrap(*acted)
        return acted


def act(
    velocity: list[np.ndarray],
    pushed: list[np.ndarray],
    phi: np.ndarray,
    nu: np.ndarray,
    solids: Solids,
    dt: float,
    nu_edge: np.ndarray = AS_CELLS,
    centre: np.ndarray = NO_BODIES,
) -> tuple[Damped, list[np.ndarray], np.ndarray]:
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
    what it took, the faces it acted on, and what it did to the bodies (see `Viscous.drag` for that and `centre`)
    """
    matrix = Viscous(phi, nu, solids, STAGE * dt, nu_edge)
    first = [u - np.float32(1.0 - STAGE) * change for u, change in zip(velocity, pushed, strict=True)]
    given = [u.copy() for u in first]
    begun = matrix.damp(first)
    for u, change, changed in zip(velocity, pushed, first, strict=True):
        start = u - change
        u[:] = start + np.float32((1.0 - STAGE) / STAGE) * (changed - start) + np.float32(STAGE) * change
    ended = matrix.damp(velocity, guess=[u1 - u for u1, u in zip(first, given, strict=True)])
    taken = Damped(begun.iterations + ended.iterations, max(begun.residual, ended.residual))
    dragged = (1.0 - STAGE) / STAGE * matrix.drag(first, centre) + matrix.drag(velocity, centre)
    return taken, matrix.faces(), dragged


@shared
def _stick(beside, first, where, axis, opened, nu, phi, owner, motion, touch, field):
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
                    who = solid_at_face(axis, i, j, k, where, phi, owner)
                    x = (
                        i + (0.0 if axis == 0 else 0.5),
                        j + (0.0 if axis == 1 else 0.5),
                        k + (0.0 if axis == 2 else 0.5),
                    )
                    its = velocity_of(motion, who, x[0], x[1], x[2])[axis]
                    deep, slip = min(max(-middle, 0.0), 0.5), touch[who, SLIP]
                    hold = LAYER * nu[t, a, b, c]
                    on = (slip - deep) / (slip + 1.0 - deep) if slip < np.inf else 1.0
                    share = (1.0 + hold * on) / (1.0 + hold)
                    field[t, a, b, c] = its + share * (field[t, a, b, c] - its)


def stick(velocity: list[np.ndarray], nu: np.ndarray, solids: Solids) -> None:
    """Let faces in solids, which hold what slides along them, go on from liquid that sticks, in place.

    Velocities fall evenly to the wall's own and on beyond it. Liquid whose layer at a wall, as it grows in a second, is
    thinner than a voxel still slides.
    """
    tiles = solids.tiles
    for axis in range(3):
        held = (nu, solids.phi, solids.owner, solids.motion, solids.touch, velocity[axis])
        _stick(solids.beside, tiles.first, tiles.where, axis, solids.open[axis], *held)
    tiles.wrap(*velocity)
