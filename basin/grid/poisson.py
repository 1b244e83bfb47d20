"""Conjugate gradients with a modified incomplete Cholesky preconditioner on listed cells.

The matrix is symmetric and has at most six neighbours a row: `diagonal` (n,), `neighbour`
(n, 6) with -1 for none and `weight` (n, 6), the positive coupling (the matrix entry is -weight).
Everything is float64 and serial, so that results do not depend on the number of threads.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy.sparse import coo_matrix, csr_matrix
from scipy.sparse.csgraph import connected_components

MIC_SHARE = 0.97
MIC_FLOOR = 0.25


@dataclass(frozen=True)
class Solution:
    """Result of a solve: values (n,), iterations, and the residual recomputed at the end."""

    value: np.ndarray
    iterations: int
    residual: float
    closed_components: int


@njit(cache=True)
def _factor(diagonal, neighbour, weight, out):
    """MIC(0) of Gustafsson 1978, as in Bridson, Fluid Simulation, 2nd ed., ch. 5."""
    n = diagonal.shape[0]
    for i in range(n):
        e = diagonal[i]
        for s in range(6):
            j = neighbour[i, s]
            if j < 0 or j >= i:
                continue
            w = weight[i, s]
            p = out[j]
            dropped = 0.0
            for t in range(6):
                k = neighbour[j, t]
                if k > j and k != i:
                    dropped += weight[j, t]
            e -= w * w * p * p + MIC_SHARE * w * dropped * p * p
        if e < MIC_FLOOR * diagonal[i]:
            e = diagonal[i]
        out[i] = 1.0 / np.sqrt(e) if e > 0 else 0.0


@njit(cache=True)
def _precondition(neighbour, weight, factor, r, z):
    n = r.shape[0]
    for i in range(n):
        t = r[i]
        for s in range(6):
            j = neighbour[i, s]
            if j >= 0 and j < i:
                t += weight[i, s] * factor[j] * z[j]
        z[i] = t * factor[i]
    for i in range(n - 1, -1, -1):
        t = z[i]
        for s in range(6):
            j = neighbour[i, s]
            if j > i:
                t += weight[i, s] * factor[i] * z[j]
        z[i] = t * factor[i]


@njit(cache=True, parallel=True)
def _multiply(diagonal, neighbour, weight, x, y):
    for i in prange(x.shape[0]):
        t = diagonal[i] * x[i]
        for s in range(6):
            j = neighbour[i, s]
            if j >= 0:
                t -= weight[i, s] * x[j]
        y[i] = t


@njit(cache=True)
def _dot(a, b):
    total = 0.0
    for i in range(a.shape[0]):
        total += a[i] * b[i]
    return total


@njit(cache=True)
def _advance(x, r, s, q, alpha):
    for i in range(x.shape[0]):
        x[i] += alpha * s[i]
        r[i] -= alpha * q[i]


@njit(cache=True)
def _turn(s, z, beta):
    for i in range(s.shape[0]):
        s[i] = z[i] + beta * s[i]


def as_matrix(diagonal: np.ndarray, neighbour: np.ndarray, weight: np.ndarray) -> csr_matrix:
    """The same matrix for a general library, scipy CSR (n, n)."""
    n = len(diagonal)
    row, slot = np.nonzero(neighbour >= 0)
    column = neighbour[row, slot]
    entries = coo_matrix((-weight[row, slot], (row, column)), shape=(n, n))
    return (entries + coo_matrix((diagonal, (np.arange(n), np.arange(n))), shape=(n, n))).tocsr()


def closed_parts(neighbour: np.ndarray, weight: np.ndarray, has_surface: np.ndarray) -> list[np.ndarray]:
    """Index arrays of connected parts that touch no free surface (their pressure is free by a constant)."""
    n = len(neighbour)
    row, slot = np.nonzero((neighbour >= 0) & (weight > 0))
    graph = coo_matrix((np.ones(len(row), np.int8), (row, neighbour[row, slot])), shape=(n, n))
    count, label = connected_components(graph, directed=False)
    touches = np.zeros(count, bool)
    touches[label[has_surface]] = True
    return [np.flatnonzero(label == part) for part in np.flatnonzero(~touches)]


def solve(
    diagonal: np.ndarray,
    neighbour: np.ndarray,
    weight: np.ndarray,
    right: np.ndarray,
    has_surface: np.ndarray,
    tolerance: float,
    most: int = 2000,
) -> Solution:
    """Solve A x = right to ``|right - A x| <= tolerance |right|`` (2-norm, recomputed).

    Parts without a free surface have the mean of their right side taken out, so that a squeezed
    pocket keeps no net flux instead of diverging.

    Parameters
    ----------
    has_surface : bool (n,), rows coupled to the free surface, where the pressure is zero.
    """
    n = len(right)
    x = np.zeros(n)
    closed = closed_parts(neighbour, weight, has_surface)
    right = right.copy()
    for part in closed:
        right[part] -= right[part].mean()
    norm = np.sqrt(_dot(right, right))
    if n == 0 or norm == 0.0:
        return Solution(x, 0, 0.0, len(closed))
    factor = np.zeros(n)
    _factor(diagonal, neighbour, weight, factor)
    r, z, q = right.copy(), np.zeros(n), np.empty(n)
    iterations = 0
    residual = 1.0
    for _restart in range(3):  # the recursive residual may lie: recompute it and go on from there
        _precondition(neighbour, weight, factor, r, z)
        s = z.copy()
        rho = _dot(r, z)
        while iterations < most and np.sqrt(_dot(r, r)) > 0.8 * tolerance * norm:
            _multiply(diagonal, neighbour, weight, s, q)
            curvature = _dot(s, q)
            if curvature <= 0:
                break
            _advance(x, r, s, q, rho / curvature)
            _precondition(neighbour, weight, factor, r, z)
            rho_next = _dot(r, z)
            _turn(s, z, rho_next / rho)
            rho = rho_next
            iterations += 1
        _multiply(diagonal, neighbour, weight, x, q)
        r = right - q
        residual = float(np.sqrt(_dot(r, r)) / norm)
        if residual <= tolerance:
            break
    for part in closed:
        x[part] -= x[part].mean()
    return Solution(x, iterations, residual, len(closed))
