"""How much of a face or a cell is open, from signed distances of the solid at the nodes."""

from __future__ import annotations

import numpy as np
from numba import njit, prange

# Open fractions below this count as shut: so narrow a gap has next to no liquid of its own, and what flows
# there follows the pressure without inertia. The price is a little friction on slopes (case D01).
SMALLEST = 0.1


@njit(cache=True)
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


@njit(cache=True, parallel=True)
def _face_fractions(phi, axis, out):
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                if axis == 0:
                    f = open_area(phi[i, j, k], phi[i, j + 1, k], phi[i, j + 1, k + 1], phi[i, j, k + 1])
                elif axis == 1:
                    f = open_area(phi[i, j, k], phi[i + 1, j, k], phi[i + 1, j, k + 1], phi[i, j, k + 1])
                else:
                    f = open_area(phi[i, j, k], phi[i + 1, j, k], phi[i + 1, j + 1, k], phi[i, j + 1, k])
                out[i, j, k] = f if f > SMALLEST else 0.0


@njit(cache=True)
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


@njit(cache=True)
def _part_sides(phi, u, v, w):
    # Serial: two cells may shut the same face, and thin walls are few.
    nx, ny, nz = phi.shape[0] - 1, phi.shape[1] - 1, phi.shape[2] - 1
    solid = np.empty(8, np.bool_)
    label = np.empty(8, np.int64)
    room = np.empty(8)
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                some = phi[i, j, k] <= 0
                mixed = False
                for c in range(8):
                    solid[c] = phi[i + (c & 1), j + ((c >> 1) & 1), k + (c >> 2)] <= 0
                    mixed |= solid[c] != some
                if not mixed or _parts(solid, label) < 2:
                    continue
                room[:] = 0.0
                for c in range(8):
                    if label[c] >= 0:
                        room[label[c]] += phi[i + (c & 1), j + ((c >> 1) & 1), k + (c >> 2)]
                main = np.argmax(room)
                for c in range(8):
                    if label[c] >= 0 and label[c] != main:
                        u[i + (c & 1), j, k] = 0.0
                        v[i, j + ((c >> 1) & 1), k] = 0.0
                        w[i, j, k + (c >> 2)] = 0.0


def face_fractions(phi: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Open share of every face from node distances (Nx+1, Ny+1, Nz+1), positive outside solids.

    A thin wall may leave open corners on both of its sides in one cell; only the roomier side stays
    open there, so that the pressure cannot reach through.

    References
    ----------
    Batty, Bertails & Bridson 2007, "A fast variational framework for accurate solid-fluid coupling".
    """
    nx, ny, nz = (n - 1 for n in phi.shape)
    shapes = [(nx + 1, ny, nz), (nx, ny + 1, nz), (nx, ny, nz + 1)]
    result = [np.empty(shape, np.float32) for shape in shapes]
    for axis in range(3):
        _face_fractions(phi, axis, result[axis])
    _part_sides(phi, *result)
    return result[0], result[1], result[2]


@njit(cache=True)
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


@njit(cache=True, parallel=True)
def _open_volume(phi, out):
    nx, ny, nz = out.shape
    for i in prange(nx):
        for j in range(ny):
            for k in range(nz):
                a, b, c, d = phi[i, j, k], phi[i, j, k + 1], phi[i, j + 1, k], phi[i, j + 1, k + 1]
                e, f, g, h = phi[i + 1, j, k], phi[i + 1, j, k + 1], phi[i + 1, j + 1, k], phi[i + 1, j + 1, k + 1]
                least = min(a, b, c, d, e, f, g, h)
                if least >= 0.0:
                    out[i, j, k] = 1.0
                    continue
                if max(a, b, c, d, e, f, g, h) <= 0.0:
                    out[i, j, k] = 0.0
                    continue
                gx = ((e + f + g + h) - (a + b + c + d)) * 0.25
                gy = ((c + d + g + h) - (a + b + e + f)) * 0.25
                gz = ((b + d + f + h) - (a + c + e + g)) * 0.25
                length = np.sqrt(gx * gx + gy * gy + gz * gz)
                centre = (a + b + c + d + e + f + g + h) * 0.125
                if length < 1e-6:
                    out[i, j, k] = 1.0 if centre > 0 else 0.0
                else:
                    out[i, j, k] = _half_space(centre / length, gx / length, gy / length, gz / length)


def open_volume(phi: np.ndarray) -> np.ndarray:
    """Open share of every cell from node distances, float32 (Nx, Ny, Nz)."""
    nx, ny, nz = (n - 1 for n in phi.shape)
    out = np.empty((nx, ny, nz), np.float32)
    _open_volume(phi, out)
    return out
