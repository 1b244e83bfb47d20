"""Velocities beyond the liquid: outwards into the air, and onto the walls."""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import Tiles, all_zero, at, gradient_in, load, row_of, value_in, velocity_in
from basin.kernels import kernel, shared
from basin.liquid.solids import Solids, velocity_of

DEEPEST = np.float32(-2.5)  # voxels inside a solid: faces below are never sampled
THERE = np.float32(0.01)  # voxels^3 of particles about a face from which on its velocity is theirs
RIM = 2  # voxels beyond the liquid's own faces
AT_ONCE = 2  # layers: more in one pass over the tiles need much larger blocks


@kernel
def _layer(value, known, width, layer, new_value, new_known):
    """One layer: cells not known take the mean of their known neighbours.

    The block is walked as one line, without branches and with unsigned indices, so that it runs in
    vectors. What cells at its edge take from the next row is wrong, and moves inwards by a cell a
    layer: it does not reach the tile.
    """
    one = np.float32(1.0)
    x, y, z = np.uint64(width * width), np.uint64(width), np.uint64(1)
    for n in range(width * width * layer, width * width * (width - layer)):
        p = np.uint64(n)
        total = value[p - x] + value[p + x] + value[p - y] + value[p + y] + value[p - z] + value[p + z]
        count = known[p - x] + known[p + x] + known[p - y] + known[p + y] + known[p - z] + known[p + z]
        has = known[p] > np.float32(0.0)
        new_value[p] = value[p] if has else total / max(count, one)
        new_known[p] = one if has else min(count, one)


@kernel
def _near(some, where, i0, j0, k0):
    """Whether a tile, by its lowest cell, or one beside it is marked."""
    for i in range(-8, 9, 8):
        for j in range(-8, 9, 8):
            for k in range(-8, 9, 8):
                if some[row_of(where, i0 + i, j0 + j, k0 + k)]:
                    return True
    return False


@kernel
def _tile_outwards(field, valid, where, i0, j0, k0, t, layers, out, reached):
    """One tile of a face field, within a block that reaches as far as the layers do: what the block's edge lacks never
    comes as far as the tile itself. Returns whether anything is known in it then."""
    width = 8 + 2 * layers
    unknown = 0
    for i in range(8):
        for j in range(8):
            for k in range(8):
                out[t, i, j, k] = field[t, i, j, k]
                reached[t, i, j, k] = valid[t, i, j, k]
                unknown += valid[t, i, j, k] == 0
    if unknown == 0:
        return True
    known = np.empty((2, width, width, width), np.float32)
    load(valid, where, i0 - layers, j0 - layers, k0 - layers, known[0])
    flag = known.reshape((2, width**3))
    if all_zero(flag[0]):
        out[t] = 0.0
        return False
    value = np.empty((2, width, width, width), np.float32)
    load(field, where, i0 - layers, j0 - layers, k0 - layers, value[0])
    flat = value.reshape((2, width**3))
    for n in range(width**3):
        flat[0, n] *= flag[0, n]
    for layer in range(1, layers + 1):
        old = (layer - 1) & 1
        _layer(flat[old], flag[old], width, layer, flat[1 - old], flag[1 - old])
    last, count = layers & 1, 0
    for i in range(8):
        for j in range(8):
            for k in range(8):
                out[t, i, j, k] = value[last, i + layers, j + layers, k + layers]
                reached[t, i, j, k] = known[last, i + layers, j + layers, k + layers] > 0
                count += reached[t, i, j, k]
    return count > 0


@shared
def _outwards(u, v, w, ku, kv, kw, some, where, first, layers, nu, nv, nw, ru, rv, rw, more):
    for t in prange(1, first.shape[0]):
        i0, j0, k0 = first[t, 0], first[t, 1], first[t, 2]
        if _near(some, where, i0, j0, k0):
            more[t] = _tile_outwards(u, ku, where, i0, j0, k0, t, layers, nu, ru)
            more[t] |= _tile_outwards(v, kv, where, i0, j0, k0, t, layers, nv, rv)
            more[t] |= _tile_outwards(w, kw, where, i0, j0, k0, t, layers, nw, rw)


@shared
def _any_known(ku, kv, kw, some):
    for t in prange(some.shape[0]):
        known = 0
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    known += ku[t, i, j, k] | kv[t, i, j, k] | kw[t, i, j, k]
        some[t] = known > 0


def outwards(velocity: list[np.ndarray], valid: list[np.ndarray], layers: int, tiles: Tiles) -> list[np.ndarray]:
    """Face velocities that beyond the valid faces are the mean of their neighbours, `layers` far.

    Parameters
    ----------
    valid : uint8 fields, 1 where the velocity is the liquid's
    """
    some = np.zeros(len(tiles) + 1, np.bool_)
    _any_known(*valid, some)
    for done in range(0, layers, AT_ONCE):
        tiles.wrap(*velocity, *valid)
        values, reached = [tiles.field() for _ in range(3)], [tiles.field(dtype=np.uint8) for _ in range(3)]
        more, until = np.zeros_like(some), min(AT_ONCE, layers - done)
        _outwards(*velocity, *valid, some, tiles.where, tiles.first, until, *values, *reached, more)
        velocity, valid, some = values, reached, more
    return velocity


def at_rim(
    velocity: list[np.ndarray], before: list[np.ndarray], valid: list[np.ndarray], mass: list[np.ndarray], tiles: Tiles
) -> tuple[list[np.ndarray], list[np.ndarray]]:
    """Velocities and valid faces with those at the rim, beyond the liquid's own, that particles reach all the same.

    They keep what the particles say and change as their neighbours do: a mean of the neighbours' velocities would
    slow turning liquid down, and velocities without what the pressure does would let it go.

    Parameters
    ----------
    before : velocities as the particles gave them; mass : particle volume (voxels^3) about each face
    """
    change = [
        np.where(known > 0, u - u0, np.float32(0.0)) for u, u0, known in zip(velocity, before, valid, strict=True)
    ]
    carried = outwards(change, valid, RIM, tiles)
    found, reached = [], []
    for u, u0, more, known, held in zip(velocity, before, carried, valid, mass, strict=True):
        rim = (known == 0) & (held > THERE)
        found.append(np.where(rim, u0 + more, u))
        reached.append(np.maximum(known, rim))
    tiles.wrap(*found, *reached)
    return found, reached


@shared
def _onto_walls(beside, first, where, ou, ov, ow, u, v, w, phi, owner, motion, moving, friction, new_u, new_v, new_w):
    for n in prange(beside.shape[0]):
        t = beside[n]
        i0, j0, k0 = first[t, 0] - 1, first[t, 1] - 1, first[t, 2] - 1
        velocity = np.empty((3, 10, 10, 10), np.float32)
        load(u, where, i0, j0, k0, velocity[0])
        load(v, where, i0, j0, k0, velocity[1])
        load(w, where, i0, j0, k0, velocity[2])
        lines = velocity.reshape(3000)
        if not moving and all_zero(lines):
            continue
        node = np.empty((11, 11, 11), np.float32)
        load(phi, where, i0, j0, k0, node)
        nodes = node.reshape(1331)
        for axis in range(3):
            opened = ou if axis == 0 else (ov if axis == 1 else ow)
            field = new_u if axis == 0 else (new_v if axis == 1 else new_w)
            for a in range(8):
                for b in range(8):
                    for c in range(8):
                        if opened[t, a, b, c] > 0.0:
                            continue
                        x = np.float32(a + (1.0 if axis == 0 else 1.5))
                        y = np.float32(b + (1.0 if axis == 1 else 1.5))
                        z = np.float32(c + (1.0 if axis == 2 else 1.5))
                        if value_in(nodes, 11, x, y, z) < DEEPEST:
                            continue
                        g = gradient_in(nodes, 11, x, y, z)
                        s = velocity_in(lines, 10, x, y, z)
                        x, y, z = x + np.float32(i0), y + np.float32(j0), z + np.float32(k0)
                        who = at(owner, where, int(x + 0.5), int(y + 0.5), int(z + 0.5))
                        s0, s1, s2 = velocity_of(motion, who, x, y, z)
                        normal = (s[0] - s0) * g[0] + (s[1] - s1) * g[1] + (s[2] - s2) * g[2]
                        own = s[0] if axis == 0 else (s[1] if axis == 1 else s[2])
                        its = s0 if axis == 0 else (s1 if axis == 1 else s2)
                        sliding = own - its - normal * g[axis]
                        field[t, a, b, c] = its + (1.0 - friction) * sliding


def onto_walls(velocity: list[np.ndarray], solids: Solids, friction: float) -> list[np.ndarray]:
    """Face velocities whose shut faces take the solid's velocity along its normal and slide along it."""
    tiles = solids.tiles
    result = [field.copy() for field in velocity]
    wall = (solids.phi, solids.owner, solids.motion, solids.moving, friction)
    _onto_walls(solids.beside, tiles.first, tiles.where, *solids.open, *velocity, *wall, *result)
    tiles.wrap(*result)
    return result
