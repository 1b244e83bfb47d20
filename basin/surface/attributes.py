"""What vertices of a surface carry: values of the particles about them, by moving least squares."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numba import prange
from scipy.spatial import cKDTree

from basin.attributes import ATTRIBUTES, blended
from basin.grid.neighbours import binned, near, row, span
from basin.kernels import shared

LEAST_PIVOT = 0.005  # of the sum of weights: neighbours that lie flatter than this tell no slope


@shared
def _fitted(vertex, values, position, start, low, shape, edge, radius, mean, slope, nearest):
    width = values.shape[1]
    for m in prange(vertex.shape[0]):
        matrix = np.zeros((4, 4))
        right = np.zeros((4, width))
        basis = np.empty(4)
        best, who = np.inf, -1
        x, y, z = vertex[m, 0], vertex[m, 1], vertex[m, 2]
        first_i, after_i = span(x, radius, low[0], edge, shape[0])
        first_j, after_j = span(y, radius, low[1], edge, shape[1])
        for i in range(first_i, after_i):
            for j in range(first_j, after_j):
                begin, end = row(start, low, shape, edge, i, j, x, y, z, radius)
                for p in range(begin, end):
                    squared = 0.0
                    for d in range(3):
                        basis[1 + d] = (position[p, d] - vertex[m, d]) / radius
                        squared += basis[1 + d] ** 2
                    if squared >= 1.0:
                        continue
                    if squared < best:
                        best, who = squared, p
                    basis[0] = 1.0
                    w = (1.0 - squared) ** 3
                    for a in range(4):
                        for b in range(a + 1):
                            matrix[a, b] += w * basis[a] * basis[b]
                        for c in range(width):
                            right[a, c] += w * basis[a] * values[p, c]
        nearest[m] = who
        total = matrix[0, 0]
        if total <= 0.0:
            continue
        for c in range(width):
            mean[m, c] = right[0, c] / total
        # Cholesky's way (L D L^T); a small pivot says that the neighbours lie in a plane, on a line or in a point
        tells = True
        for a in range(4):
            for b in range(a):
                f = matrix[a, b]
                for k in range(b):
                    f -= matrix[a, k] * matrix[b, k] * matrix[k, k]
                matrix[a, b] = f / matrix[b, b]
            for k in range(a):
                matrix[a, a] -= matrix[a, k] ** 2 * matrix[k, k]
            if matrix[a, a] < LEAST_PIVOT * total:
                tells = False
                break
        if not tells:
            continue
        for c in range(width):
            for a in range(4):
                for b in range(a):
                    right[a, c] -= matrix[a, b] * right[b, c]
            for a in range(4):
                right[a, c] /= matrix[a, a]
            for a in range(3, -1, -1):
                for b in range(a + 1, 4):
                    right[a, c] -= matrix[b, a] * right[b, c]
            mean[m, c] = right[0, c]
            for d in range(3):
                slope[m, c, d] = right[1 + d, c] / radius


def fitted(
    vertex: np.ndarray, position: np.ndarray, values: np.ndarray, radius: float
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Values and slopes at vertices (m, 3) of a linear fit to the particles about each of them.

    Moving least squares of first order (Lancaster & Salkauskas 1981) with weights (1 - (d/r)^2)^3: exact for linear
    fields, on the outside of a body too. Where neighbours are few or lie flat it is their mean, without a slope, and
    where there are none the nearest particle's value.

    Parameters
    ----------
    position, values : (n, 3) and (n, k) of n > 0 particles
    radius : of the neighbourhood, metres

    Returns
    -------
    float64 (m, k), float64 (m, k, 3) per metre, and int64 (m,), the nearest particle
    """
    count, width = len(vertex), values.shape[1]
    some = near(position, vertex, radius)
    cells = binned(position[some], radius / 2)
    held = np.ascontiguousarray(values[some[cells.order]], np.float64)
    mean, slope = np.zeros((count, width)), np.zeros((count, width, 3))
    nearest = np.empty(count, np.int64)
    at = np.ascontiguousarray(vertex, np.float64)
    _fitted(at, held, *cells.rows(), radius, mean, slope, nearest)
    lost = nearest < 0
    nearest = some[cells.order[nearest]]
    if lost.any():
        _, nearest[lost] = cKDTree(position).query(at[lost])
    far = np.linalg.norm(position[nearest].astype(np.float64) - at, axis=1) >= radius
    mean[far] = values[nearest[far]]
    return mean, slope, nearest


def vertex_attributes(
    vertex: np.ndarray, position: np.ndarray, carried: Mapping[str, np.ndarray], radius: float
) -> dict[str, np.ndarray]:
    """Attributes of vertices (m, 3) from those of particles (n, 3) by name.

    How each of them gets there says `basin.attributes`; `vorticity` is the length of the curl of the velocity, 1/s.
    """
    if len(position) == 0:
        return {"velocity": np.zeros((len(vertex), 3), np.float32)}
    averaged = blended("mean", carried)
    columns = [np.asarray(carried[name]).reshape(len(position), -1) for name in averaged]
    mean, slope, nearest = fitted(vertex, position, np.concatenate(columns, axis=1), radius)
    found: dict[str, np.ndarray] = {}
    at = 0
    for name, column in zip(averaged, columns, strict=True):
        own = slice(at, at + column.shape[1])
        value = mean[:, own]
        if name == "velocity":
            g = slope[:, own]
            curl = np.stack([g[:, 2, 1] - g[:, 1, 2], g[:, 0, 2] - g[:, 2, 0], g[:, 1, 0] - g[:, 0, 1]], axis=1)
            found["vorticity"] = np.linalg.norm(curl, axis=1).astype(np.float32)
        if ATTRIBUTES[name].bounded:
            value = np.clip(value, column.min(axis=0), column.max(axis=0))
        found[name] = np.ascontiguousarray(value.reshape(-1, *carried[name].shape[1:]), np.float32)
        at += column.shape[1]
    for name in blended("nearest", carried):
        found[name] = carried[name][nearest]
    return found
