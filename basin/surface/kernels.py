"""Anisotropic kernels: each particle's ellipsoid follows its neighbours (Yu & Turk 2013, ACM TOG 32(1)).

Theirs are squared lengths: an ellipsoid's axes are as the eigenvalues of the weighted covariance, none more than
`MOST_RATIO` times shorter than the longest. Their scale (1400) belongs to their kernel; ours is such that a particle
amid a full neighbourhood keeps a sphere of the kernel's radius. Two things are ours. Their shift of particles towards
their neighbours draws a flat surface in by nearly half a spacing; ours keeps the outermost where they are along the
normal and shifts them along the surface only, so a resting body keeps its volume. And kernels may be drawn out along
the motion.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.neighbours import Binned
from basin.kernels import kernel, shared

MOST_RATIO = 4.0  # k_r
WIDER = 1.25  # kernel radii within which neighbours are looked for
FEW = 8  # N_eps: with fewer neighbours a particle stays a sphere; theirs is 25, ours keeps sparse sheets flat
LONE = 0.5  # k_n: of the kernel's radius, of a sphere with few neighbours
LONGEST = 2.0  # kernel radii that an axis has at most
PRECISE = 1e-6  # of the trace: eigenvalues
GROUP = 3  # cells along each axis whose particles share a list of neighbours
SHIFT = 0.95  # lambda, within its 0.9 to 1
NONE, ONE = np.float32(0.0), np.float32(1.0)


@kernel
def _turned(p, q, r, matrix, vector):
    """One of Jacobi's turns: takes matrix[p, q] away; r is the third axis."""
    off = matrix[p, q]
    if off == 0.0:
        return
    theta = (matrix[q, q] - matrix[p, p]) / (2.0 * off)
    t = 1.0 / (abs(theta) + np.sqrt(theta * theta + 1.0))
    if theta < 0.0:
        t = -t
    c = 1.0 / np.sqrt(t * t + 1.0)
    s = t * c
    matrix[p, p] -= t * off
    matrix[q, q] += t * off
    matrix[p, q] = matrix[q, p] = 0.0
    f, g = matrix[p, r], matrix[q, r]
    matrix[p, r] = matrix[r, p] = c * f - s * g
    matrix[q, r] = matrix[r, q] = s * f + c * g
    for k in range(3):
        f, g = vector[k, p], vector[k, q]
        vector[k, p], vector[k, q] = c * f - s * g, s * f + c * g


@kernel
def eigen(matrix, vector):
    """Eigenvalues on the diagonal of a symmetric 3x3 matrix, in place, and vectors in columns: Jacobi's turns."""
    for a in range(3):
        for b in range(3):
            vector[a, b] = 1.0 if a == b else 0.0
    for _ in range(12):
        rest = abs(matrix[0, 1]) + abs(matrix[0, 2]) + abs(matrix[1, 2])
        if rest < PRECISE * (matrix[0, 0] + matrix[1, 1] + matrix[2, 2]):
            break
        _turned(0, 1, 2, matrix, vector)
        _turned(0, 2, 1, matrix, vector)
        _turned(1, 2, 0, matrix, vector)


@kernel(fastmath=True)
def _moments(x, y, z, count, at_x, at_y, at_z):
    """Of offsets, in radii, from a place: weights, how many there are within one, weighted sums, second moments."""
    total, near = NONE, NONE
    mx, my, mz = NONE, NONE, NONE
    xx, yy, zz, xy, xz, yz = NONE, NONE, NONE, NONE, NONE, NONE
    for p in range(count):
        dx, dy, dz = x[p] - at_x, y[p] - at_y, z[p] - at_z
        squared = dx * dx + dy * dy + dz * dz
        w = max(ONE - squared * np.sqrt(squared), NONE)
        near += ONE if squared < ONE else NONE
        total += w
        ux, uy, uz = w * dx, w * dy, w * dz
        mx, my, mz = mx + ux, my + uy, mz + uz
        xx, yy, zz = xx + ux * dx, yy + uy * dy, zz + uz * dz
        xy, xz, yz = xy + ux * dy, xz + ux * dz, yz + uy * dz
    return total, near, mx, my, mz, xx, yy, zz, xy, xz, yz


@kernel
def _covariance(sums, mean, second):
    """Mean and covariance from `_moments`."""
    total, _, mx, my, mz, xx, yy, zz, xy, xz, yz = sums
    mx, my, mz = mx / total, my / total, mz / total
    mean[0], mean[1], mean[2] = mx, my, mz
    second[0, 0], second[1, 1], second[2, 2] = xx / total - mx * mx, yy / total - my * my, zz / total - mz * mz
    second[0, 1] = second[1, 0] = xy / total - mx * my
    second[0, 2] = second[2, 0] = xz / total - mx * mz
    second[1, 2] = second[2, 1] = yz / total - my * mz


@kernel
def _gathered(position, start, low, shape, edge, i, j, k, radius, found):
    """Offsets (3, m), in radii from its middle, of the particles within a radius of a group of cells; how many."""
    count = 0
    reach, per = radius / edge, 1.0 / radius
    size = GROUP / 2 * edge * per
    x, y, z = low[0] + (i + GROUP / 2) * edge, low[1] + (j + GROUP / 2) * edge, low[2] + (k + GROUP / 2) * edge
    about = int(np.ceil(reach))
    for a in range(max(i - about, 0), min(i + GROUP + about, shape[0])):
        across = max(i - a - 1, a - i - GROUP, 0)
        for b in range(max(j - about, 0), min(j + GROUP + about, shape[1])):
            rest = reach * reach - across * across - max(j - b - 1, b - j - GROUP, 0) ** 2
            if rest <= 0.0:
                continue
            far = int(np.ceil(np.sqrt(rest)))
            row = (a * shape[1] + b) * shape[2]
            for p in range(start[row + max(k - far, 0)], start[row + min(k + GROUP + far, shape[2])]):
                dx, dy, dz = (position[p, 0] - x) * per, (position[p, 1] - y) * per, (position[p, 2] - z) * per
                u, v, w = max(abs(dx) - size, 0.0), max(abs(dy) - size, 0.0), max(abs(dz) - size, 0.0)
                if u * u + v * v + w * w < 1.0:
                    if count < found.shape[1]:
                        found[0, count], found[1, count], found[2, count] = dx, dy, dz
                    count += 1
    return count


@kernel
def _inverted(m, inverse):
    for a in range(3):
        for b in range(3):
            p, q, r, s = (a + 1) % 3, (a + 2) % 3, (b + 1) % 3, (b + 2) % 3
            inverse[a, b] = m[p, r] * m[q, s] - m[p, s] * m[q, r]
    determinant = m[0, 0] * inverse[0, 0] + m[0, 1] * inverse[0, 1] + m[0, 2] * inverse[0, 2]
    for a in range(3):
        for b in range(3):
            inverse[a, b] /= determinant


@kernel
def _lengths(second, axes, length):
    """Squared lengths of the axes in kernel radii from a covariance, which is left with its eigenvalues."""
    eigen(second, axes)
    largest = max(second[0, 0], second[1, 1], second[2, 2])
    # as roomy as the sphere of a full neighbourhood, so that flat ones gather along the surface as many
    product = 1.0
    for a in range(3):
        length[a] = max(second[a, a], largest / MOST_RATIO)
        product *= length[a]
    scale = 1.0 / np.cbrt(product)
    for a in range(3):
        length[a] = min(length[a] * scale, LONGEST)


@kernel
def _ellipsoid(axes, length, kernel, way, matrix):
    """Squared lengths of the ellipsoid as a matrix, drawn out along the motion."""
    for a in range(3):
        for b in range(3):
            matrix[a, b] = 0.0
            for k in range(3):
                matrix[a, b] += axes[a, k] * (length[k] * kernel) ** 2 * axes[b, k]
    moved = np.sqrt(way[0] ** 2 + way[1] ** 2 + way[2] ** 2)
    most = MOST_RATIO * min(length[0], length[1], length[2]) * kernel
    if moved > 0.0:
        f = min(moved, most) / moved
        for a in range(3):
            for b in range(3):
                matrix[a, b] += f * way[a] * f * way[b]


@shared
def _shaped(slot, position, start, low, shape, edge, radius, kernel, way, centre, inverse, reach):
    """Groups of cells share one list of neighbours, gathered once."""
    groups_j, groups_k = (shape[1] + GROUP - 1) // GROUP, (shape[2] + GROUP - 1) // GROUP
    per = 1.0 / radius
    for group in prange((shape[0] + GROUP - 1) // GROUP * groups_j):
        offset = np.empty((3, 1024), np.float32)
        mean, length = np.empty(3), np.empty(3)
        second, axes = np.empty((3, 3)), np.empty((3, 3))
        gi, gj = group // groups_j * GROUP, group % groups_j * GROUP
        middle_i, middle_j = low[0] + (gi + GROUP / 2) * edge, low[1] + (gj + GROUP / 2) * edge
        for gk in range(0, groups_k * GROUP, GROUP):
            middle_k = low[2] + (gk + GROUP / 2) * edge
            gathered = -1
            for i in range(gi, min(gi + GROUP, shape[0])):
                for j in range(gj, min(gj + GROUP, shape[1])):
                    row = (i * shape[1] + j) * shape[2]
                    for own in range(start[row + gk], start[row + min(gk + GROUP, shape[2])]):
                        n = slot[own]
                        if n < 0:
                            continue
                        if gathered < 0:
                            gathered = _gathered(position, start, low, shape, edge, gi, gj, gk, radius, offset)
                            if gathered > offset.shape[1]:
                                offset = np.empty((3, 2 * gathered), np.float32)
                                _gathered(position, start, low, shape, edge, gi, gj, gk, radius, offset)
                        x = np.float32((position[own, 0] - middle_i) * per)
                        y = np.float32((position[own, 1] - middle_j) * per)
                        z = np.float32((position[own, 2] - middle_k) * per)
                        sums = _moments(offset[0], offset[1], offset[2], gathered, x, y, z)
                        _covariance(sums, mean, second)
                        if sums[1] > FEW:
                            _lengths(second, axes, length)
                            # the normal is where neighbours are missing: shift across it only what a full
                            # neighbourhood asks for
                            away = np.sqrt(mean[0] ** 2 + mean[1] ** 2 + mean[2] ** 2)
                            tangential = min(away / 0.1, 1.0)
                            least = 0
                            for a in range(3):
                                if second[a, a] < second[least, least]:
                                    least = a
                            along = mean[0] * axes[0, least] + mean[1] * axes[1, least] + mean[2] * axes[2, least]
                            for d in range(3):
                                off = mean[d] - tangential * along * axes[d, least]
                                centre[n, d] = position[own, d] + SHIFT * radius * off
                        else:
                            for a in range(3):
                                for b in range(3):
                                    axes[a, b] = 1.0 if a == b else 0.0
                                length[a] = LONE
                                centre[n, a] = position[own, a]
                        _ellipsoid(axes, length, kernel, way[n], second)
                        for a in range(3):
                            reach[n, a] = np.sqrt(second[a, a])
                        _inverted(second, inverse[n])


def ellipsoids(
    cells: Binned, radius: float, way: np.ndarray | None, some: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres and shapes of the kernels of some particles.

    Parameters
    ----------
    cells : all particles (n)
    radius : of a kernel amid a full neighbourhood, metres
    way : (n, 3) in the cells' order, metres by which kernels are drawn out to both sides, if any are
    some : int64 (m,), ascending, which of them in the cells' order

    Returns
    -------
    float64 (m, 3), centres; (m, 3, 3), matrices M with x M x = 1 on the ellipsoid about the centre; (m, 3), how far it
    reaches along each axis
    """
    count = len(some)
    centre, inverse, reach = np.empty((count, 3)), np.empty((count, 3, 3)), np.empty((count, 3))
    drawn = np.zeros((count, 3)) if way is None else way[some]
    slot = np.full(len(cells.order), -1, np.int64)
    slot[some] = np.arange(count)
    _shaped(slot, *cells.rows(), WIDER * radius, radius, drawn, centre, inverse, reach)
    return centre, inverse, reach
