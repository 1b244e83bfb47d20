"""How much of a face or a cell is open, from signed distances of the solid at the nodes."""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.tiles import load
from basin.kernels import kernel, shared

# Faces open no more than this are slits: so narrow a gap has next to no liquid of its own, and under pressure
# would flow as if without inertia. Pressure does not act on them; what flows through them already goes on, or
# a wall askew to the grid would brake what slides along it (case D01).
SLIT = 0.1
EDGE = 16  # entries of the walls' shares before their first cell and after their last


@kernel
def open_area(a, b, c, d):
    """Share of a unit square with positive distance, corners in order around it.

    Exact when the distance is linear (the polygon of marching squares).
    """
    px = np.empty(8)
    py = np.empty(8)
    n = 0
    xs = (0.0, 1.0, 1.0, 0.0)
    ys = (0.0, 0.0, 1.0, 1.0)
    values = (a, b, c, d)
    for i in range(4):
        j = (i + 1) % 4
        p, q = values[i], values[j]
        if p > 0:
            px[n], py[n] = xs[i], ys[i]
            n += 1
        if (p > 0) != (q > 0):
            t = p / (p - q)
            px[n], py[n] = xs[i] + t * (xs[j] - xs[i]), ys[i] + t * (ys[j] - ys[i])
            n += 1
    area = 0.0
    for i in range(n):
        j = (i + 1) % n
        area += px[i] * py[j] - px[j] * py[i]
    return min(max(0.5 * area, 0.0), 1.0)


@kernel
def _parts(solid, label):
    """Number the groups of open corners (bits xyz) that edges of the cell join; returns their count."""
    for c in range(8):
        label[c] = -1 if solid[c] else c
    for _ in range(3):
        for c in range(8):
            if label[c] < 0:
                continue
            for bit in (1, 2, 4):
                n = c ^ bit
                if label[n] >= 0:
                    label[c] = label[n] = min(label[c], label[n])
    count = 0
    for c in range(8):
        if label[c] == c:
            count += 1
    return count


@kernel
def lesser_sides(a, b, c, d, e, f, g, h):
    """Which faces of a cell (bits 0 to 5: low and high x, y, z) belong to a side that a thin wall parts off.

    A thin wall may leave open corners on both of its sides in one cell; only the roomier side stays
    open there, so that the pressure cannot reach through. Corner distances with x changing fastest.
    """
    value = (a, b, c, d, e, f, g, h)
    solid = np.empty(8, np.bool_)
    label = np.empty(8, np.int64)
    room = np.zeros(8)
    for n in range(8):
        solid[n] = value[n] <= 0
    if _parts(solid, label) < 2:
        return 0
    for n in range(8):
        if label[n] >= 0:
            room[label[n]] += value[n]
    main = np.argmax(room)
    shut = 0
    for n in range(8):
        if label[n] >= 0 and label[n] != main:
            for axis in range(3):
                shut |= 1 << (2 * axis + ((n >> axis) & 1))
    return shut


@kernel
def _half_space(distance, nx, ny, nz):
    """Volume of a unit cell on the positive side of a plane at `distance` from its centre.

    Scardovelli & Zaleski 2000 (analytical relations for linear interfaces), n of unit length.
    """
    nx, ny, nz = abs(nx), abs(ny), abs(nz)
    total = nx + ny + nz
    if total < 1e-9:
        return 1.0 if distance > 0 else 0.0
    m1 = min(nx, ny, nz) / total
    m3 = max(nx, ny, nz) / total
    m2 = 1.0 - m1 - m3
    alpha = 0.5 + distance / total
    if alpha <= 0.0:
        return 0.0
    if alpha >= 1.0:
        return 1.0
    mirrored = alpha > 0.5
    if mirrored:
        alpha = 1.0 - alpha
    m12 = m1 + m2
    if alpha < m1:
        volume = alpha**3 / (6.0 * m1 * m2 * m3)
    elif alpha < m2:
        volume = alpha * (alpha - m1) / (2.0 * m2 * m3) + m1 * m1 / max(6.0 * m2 * m3, 1e-30)
    elif alpha < min(m12, m3):
        volume = (alpha * alpha * (3.0 * m12 - alpha) + m1 * m1 * (m1 - 3.0 * alpha) + m2 * m2 * (m2 - 3.0 * alpha)) / (
            6.0 * max(m1 * m2, 1e-12) * m3
        )
        if m1 * m2 < 1e-9:
            volume = (alpha - 0.5 * m12) / m3
    elif m3 < m12:
        volume = (
            alpha * alpha * (3.0 - 2.0 * alpha)
            + m1 * m1 * (m1 - 3.0 * alpha)
            + m2 * m2 * (m2 - 3.0 * alpha)
            + m3 * m3 * (m3 - 3.0 * alpha)
        ) / (6.0 * max(m1 * m2 * m3, 1e-12))
    else:
        volume = (2.0 * alpha - m12) / (2.0 * m3)
    return 1.0 - volume if mirrored else volume


@kernel
def open_volume(a, b, c, d, e, f, g, h):
    """Open share of a unit cell from the distances at its corners, z changing fastest, then y, then x."""
    least = min(a, b, c, d, e, f, g, h)
    if least >= 0.0:
        return 1.0
    if max(a, b, c, d, e, f, g, h) <= 0.0:
        return 0.0
    gx = ((e + f + g + h) - (a + b + c + d)) * 0.25
    gy = ((c + d + g + h) - (a + b + e + f)) * 0.25
    gz = ((b + d + f + h) - (a + c + e + g)) * 0.25
    length = np.sqrt(gx * gx + gy * gy + gz * gz)
    centre = (a + b + c + d + e + f + g + h) * 0.125
    if length < 1e-6:
        return 1.0 if centre > 0 else 0.0
    return _half_space(centre / length, gx / length, gy / length, gz / length)


@kernel
def open_volumes(node, walls, i0, j0, k0, out):
    """Open shares of the cells of a block that begins at cell (i0, j0, k0), from its nodes and the walls.

    Parameters
    ----------
    node : distances to bodies, one more per axis than `out`
    walls : (3, n), open share that the walls leave of each cell along each axis, from cell -`EDGE` on
    """
    for i in range(out.shape[0]):
        for j in range(out.shape[1]):
            for k in range(out.shape[2]):
                a, b, c, d = node[i, j, k], node[i, j, k + 1], node[i, j + 1, k], node[i, j + 1, k + 1]
                e, f = node[i + 1, j, k], node[i + 1, j, k + 1]
                g, h = node[i + 1, j + 1, k], node[i + 1, j + 1, k + 1]
                share = walls[0, i0 + i + EDGE] * walls[1, j0 + j + EDGE] * walls[2, k0 + k + EDGE]
                out[i, j, k] = share * open_volume(a, b, c, d, e, f, g, h) if share > 0.0 else 0.0


@kernel
def _open_face(node, axis, i, j, k):
    if axis == 0:
        return open_area(node[i, j, k], node[i, j + 1, k], node[i, j + 1, k + 1], node[i, j, k + 1])
    if axis == 1:
        return open_area(node[i, j, k], node[i + 1, j, k], node[i + 1, j, k + 1], node[i, j, k + 1])
    return open_area(node[i, j, k], node[i + 1, j, k], node[i + 1, j + 1, k], node[i, j + 1, k])


@kernel
def _unless(shut, share):
    return 0.0 if shut else share


@shared
def _open_faces(row, first, where, bodies, across, within, u, v, w):
    for n in prange(row.shape[0]):
        t = row[n]
        i0, j0, k0 = first[n, 0], first[n, 1], first[n, 2]
        node = np.empty((10, 10, 10), np.float32)
        load(bodies, where, i0 - 1, j0 - 1, k0 - 1, node)
        shut = np.zeros((9, 9, 9), np.uint8)
        cut = False
        for i in range(9):
            for j in range(9):
                for k in range(9):
                    a, b, c, d = node[i, j, k], node[i + 1, j, k], node[i, j + 1, k], node[i + 1, j + 1, k]
                    e, f = node[i, j, k + 1], node[i + 1, j, k + 1]
                    g, h = node[i, j + 1, k + 1], node[i + 1, j + 1, k + 1]
                    if min(a, b, c, d, e, f, g, h) > 0.0:
                        continue
                    cut = True
                    if max(a, b, c, d, e, f, g, h) > 0.0:
                        shut[i, j, k] = lesser_sides(a, b, c, d, e, f, g, h)
        for i in range(8):
            x, xs = across[0, i0 + i + EDGE], within[0, i0 + i + EDGE]
            for j in range(8):
                y, ys = across[1, j0 + j + EDGE], within[1, j0 + j + EDGE]
                for k in range(8):
                    z, zs = across[2, k0 + k + EDGE], within[2, k0 + k + EDGE]
                    p, q, r = x * ys * zs, xs * y * zs, xs * ys * z
                    if cut:
                        own = shut[i + 1, j + 1, k + 1]
                        p *= _unless(own & 1 or shut[i, j + 1, k + 1] & 2, _open_face(node, 0, i + 1, j + 1, k + 1))
                        q *= _unless(own & 4 or shut[i + 1, j, k + 1] & 8, _open_face(node, 1, i + 1, j + 1, k + 1))
                        r *= _unless(own & 16 or shut[i + 1, j + 1, k] & 32, _open_face(node, 2, i + 1, j + 1, k + 1))
                    u[t, i, j, k], v[t, i, j, k], w[t, i, j, k] = p, q, r


def open_faces(
    row: np.ndarray,
    first: np.ndarray,
    where: np.ndarray,
    bodies: np.ndarray,
    across: np.ndarray,
    within: np.ndarray,
    out: list[np.ndarray],
) -> None:
    """Open share of every face of some tiles, from distances to bodies at nodes and the walls' own shares.

    Parameters
    ----------
    row, first : rows of `out` (n,) and lowest cells (n, 3) of the tiles
    bodies : distances at nodes (voxels), positive outside, tiled by `where`
    across, within : (3, cells + 2 `EDGE`), what the walls leave of nodes and cells along each axis
    out : tiled fields [u, v, w], written in place

    References
    ----------
    Batty, Bertails & Bridson 2007, "A fast variational framework for accurate solid-fluid coupling".
    """
    _open_faces(row, first, where, bodies, across, within, *out)
