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
from numba import njit, prange

from basin.surface.neighbours import binned, first_not_below

MOST_RATIO = 4.0  # k_r
WIDER = 1.25  # kernel radii within which neighbours are looked for
FEW = 8  # N_eps: with fewer neighbours a particle stays a sphere; theirs is 25, ours keeps sparse sheets flat
LONE = 0.5  # k_n: of the kernel's radius, of a sphere with few neighbours
LONGEST = 2.0  # kernel radii that an axis has at most
SHIFT = 0.95  # lambda, within its 0.9 to 1


@njit(cache=True)
def _eigen(matrix, vector):
    """Eigenvalues on the diagonal of a symmetric 3x3 matrix, in place, and vectors in columns: Jacobi's turns."""
    for a in range(3):
        for b in range(3):
            vector[a, b] = 1.0 if a == b else 0.0
    for _ in range(12):
        rest = abs(matrix[0, 1]) + abs(matrix[0, 2]) + abs(matrix[1, 2])
        if rest < 1e-14 * (matrix[0, 0] + matrix[1, 1] + matrix[2, 2]):
            break
        for p in range(2):
            for q in range(p + 1, 3):
                if matrix[p, q] == 0.0:
                    continue
                theta = (matrix[q, q] - matrix[p, p]) / (2.0 * matrix[p, q])
                t = 1.0 / (abs(theta) + np.sqrt(theta * theta + 1.0))
                if theta < 0.0:
                    t = -t
                c = 1.0 / np.sqrt(t * t + 1.0)
                s = t * c
                for k in range(3):
                    f, g = matrix[k, p], matrix[k, q]
                    matrix[k, p], matrix[k, q] = c * f - s * g, s * f + c * g
                for k in range(3):
                    f, g = matrix[p, k], matrix[q, k]
                    matrix[p, k], matrix[q, k] = c * f - s * g, s * f + c * g
                for k in range(3):
                    f, g = vector[k, p], vector[k, q]
                    vector[k, p], vector[k, q] = c * f - s * g, s * f + c * g


@njit(cache=True, parallel=True)
def _shaped(wanted, position, keys, low, shape, radius, kernel, way, centre, inverse, reach):
    for n in prange(wanted.shape[0]):
        own = wanted[n]
        x, y, z = position[own, 0], position[own, 1], position[own, 2]
        ci, cj, ck = int((x - low[0]) / radius), int((y - low[1]) / radius), int((z - low[2]) / radius)
        total, count = 0.0, 0
        mean = np.zeros(3)
        second = np.zeros((3, 3))
        offset = np.empty(3)
        for i in range(max(ci - 1, 0), min(ci + 2, shape[0])):
            for j in range(max(cj - 1, 0), min(cj + 2, shape[1])):
                row = (i * shape[1] + j) * shape[2]
                begin = first_not_below(keys, row + max(ck - 1, 0))
                end = first_not_below(keys, row + min(ck + 2, shape[2]))
                for p in range(begin, end):
                    squared = 0.0
                    for d in range(3):
                        offset[d] = (position[p, d] - position[own, d]) / radius
                        squared += offset[d] ** 2
                    if squared >= 1.0:
                        continue
                    w = 1.0 - squared * np.sqrt(squared)
                    total += w
                    count += 1
                    for a in range(3):
                        mean[a] += w * offset[a]
                        for b in range(3):
                            second[a, b] += w * offset[a] * offset[b]
        axes = np.zeros((3, 3))
        for a in range(3):
            mean[a] /= total
        for a in range(3):
            for b in range(3):
                second[a, b] = second[a, b] / total - mean[a] * mean[b]
        length = np.empty(3)
        if count > FEW:
            _eigen(second, axes)
            largest = max(second[0, 0], second[1, 1], second[2, 2])
            # as roomy as the sphere of a full neighbourhood, so that flat ones gather along the surface as many
            product = 1.0
            for a in range(3):
                length[a] = max(second[a, a], largest / MOST_RATIO)
                product *= length[a]
            for a in range(3):
                length[a] = min(length[a] / product ** (1.0 / 3.0), LONGEST)
            # the normal is where neighbours are missing: shift across it only what a full neighbourhood would ask for
            away = np.sqrt(mean[0] ** 2 + mean[1] ** 2 + mean[2] ** 2)
            tangential = min(away / 0.1, 1.0)
            least = 0
            for a in range(3):
                if second[a, a] < second[least, least]:
                    least = a
            along = 0.0
            for d in range(3):
                along += mean[d] * axes[d, least]
            for d in range(3):
                centre[n, d] = position[own, d] + SHIFT * radius * (mean[d] - tangential * along * axes[d, least])
        else:
            for a in range(3):
                axes[a, a] = 1.0
                length[a] = LONE
                centre[n, a] = position[own, a]
        # squared lengths of the ellipsoid as a matrix, drawn out along the motion
        for a in range(3):
            for b in range(3):
                second[a, b] = 0.0
                for k in range(3):
                    second[a, b] += axes[a, k] * (length[k] * kernel) ** 2 * axes[b, k]
        moved = np.sqrt(way[n, 0] ** 2 + way[n, 1] ** 2 + way[n, 2] ** 2)
        most = MOST_RATIO * min(length[0], length[1], length[2]) * kernel
        if moved > 0.0:
            f = min(moved, most) / moved
            for a in range(3):
                for b in range(3):
                    second[a, b] += f * way[n, a] * f * way[n, b]
        for a in range(3):
            reach[n, a] = np.sqrt(second[a, a])
        m = second
        cofactor = np.empty((3, 3))
        for a in range(3):
            for b in range(3):
                p, q, r, s = (a + 1) % 3, (a + 2) % 3, (b + 1) % 3, (b + 2) % 3
                cofactor[a, b] = m[p, r] * m[q, s] - m[p, s] * m[q, r]
        determinant = m[0, 0] * cofactor[0, 0] + m[0, 1] * cofactor[0, 1] + m[0, 2] * cofactor[0, 2]
        for a in range(3):
            for b in range(3):
                inverse[n, a, b] = cofactor[a, b] / determinant


def ellipsoids(
    position: np.ndarray, radius: float, way: np.ndarray, some: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Centres and shapes of the kernels of some particles.

    Parameters
    ----------
    position : (n, 3), metres, n > 0
    radius : of a kernel amid a full neighbourhood, metres
    way : (n, 3), metres by which kernels are drawn out to both sides
    some : bool (n,), which of them are wanted, m in all

    Returns
    -------
    float64 (m, 3), centres; (m, 3, 3), matrices M with x M x = 1 on the ellipsoid about the centre; (m, 3), how far it
    reaches along each axis
    """
    cells = binned(position, WIDER * radius)
    wanted = np.flatnonzero(some[cells.order])
    count = len(wanted)
    centre, inverse, reach = np.empty((count, 3)), np.empty((count, 3, 3)), np.empty((count, 3))
    drawn = np.ascontiguousarray(way[cells.order[wanted]], np.float64)
    args = (cells.position, cells.keys, cells.low, cells.shape, WIDER * radius, radius)
    _shaped(wanted, *args, drawn, centre, inverse, reach)
    back = np.argsort(cells.order[wanted])
    return centre[back], inverse[back], reach[back]
