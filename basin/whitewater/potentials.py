"""Where a liquid traps air: potentials of its particles, after Ihmsen, Akinci, Akinci & Teschner 2012.

"Unified spray, foam and air bubbles for particle-based fluids", Vis Comput 28. Sums go over the neighbours j of a
particle i within a reach h, with W = 1 - r / h:

- trapped : sum of |v_ij| (1 - v_ij.x_ij / |v_ij| |x_ij|) W, m/s: how fast its neighbours come towards it
- crest : sum of (1 - n_i.n_j) W over those below its tangent plane whose normals spread from its own (so that layers
  under a hollow do not count), where it goes out of the surface (v.n >= 0.6 |v|)
- energy : |v|^2 / 2, J/kg

and beside them vorticity, 1/s, of the grid: eddies draw air in, too. All are of the liquid's own seconds, so that slow
motion traps as much.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.neighbours import binned
from basin.grid.tiles import at, gradient, sample
from basin.kernels import kernel, shared
from basin.whitewater.fields import Grid

ALGORITHM = "air-1"
REACH = 2.0  # particles' spacings
OUTWARDS = 0.6  # cosine between its velocity and the surface's normal from which a crest breaks
AT_SURFACE = 1.5  # voxels under the surface within which particles have a normal
NAMES = ("trapped", "crest", "vorticity", "energy")


@shared
def _vorticity(first, where, u, v, w, voxel, out):
    """Size of the curl at cells' centres, 1/s."""
    for t in prange(1, first.shape[0]):
        for a in range(8):
            for b in range(8):
                for c in range(8):
                    i, j, k = first[t, 0] + a, first[t, 1] + b, first[t, 2] + c
                    # differences of means of opposite faces, two cells apart
                    wy = at(w, where, i, j + 1, k) + at(w, where, i, j + 1, k + 1)
                    wy -= at(w, where, i, j - 1, k) + at(w, where, i, j - 1, k + 1)
                    vz = at(v, where, i, j, k + 1) + at(v, where, i, j + 1, k + 1)
                    vz -= at(v, where, i, j, k - 1) + at(v, where, i, j + 1, k - 1)
                    uz = at(u, where, i, j, k + 1) + at(u, where, i + 1, j, k + 1)
                    uz -= at(u, where, i, j, k - 1) + at(u, where, i + 1, j, k - 1)
                    wx = at(w, where, i + 1, j, k) + at(w, where, i + 1, j, k + 1)
                    wx -= at(w, where, i - 1, j, k) + at(w, where, i - 1, j, k + 1)
                    vx = at(v, where, i + 1, j, k) + at(v, where, i + 1, j + 1, k)
                    vx -= at(v, where, i - 1, j, k) + at(v, where, i - 1, j + 1, k)
                    uy = at(u, where, i, j + 1, k) + at(u, where, i + 1, j + 1, k)
                    uy -= at(u, where, i, j - 1, k) + at(u, where, i + 1, j - 1, k)
                    x, y, z = wy - vz, uz - wx, vx - uy
                    out[t, a, b, c] = np.float32(0.25 / voxel) * np.sqrt(x * x + y * y + z * z)


@shared
def _of_grid(cell, level, curl, where, normal, vorticity, depth):
    """What particles see of the grid: the surface's normal, if it is near, vorticity, and how deep they lie, voxels."""
    h = np.float32(0.5)
    for p in prange(cell.shape[0]):
        x, y, z = cell[p, 0] - h, cell[p, 1] - h, cell[p, 2] - h
        depth[p] = -sample(level, where, x, y, z)
        vorticity[p] = sample(curl, where, x, y, z)
        if depth[p] < AT_SURFACE:
            normal[p, 0], normal[p, 1], normal[p, 2] = gradient(level, where, x, y, z)


@kernel(fastmath={"contract", "nsz", "arcp", "reassoc"}, error_model="numpy")
def _sums(line, first, after, px, py, pz, vx, vy, vz, nx, ny, nz, inverse):
    """Both sums of one particle over some of those about it, whose ten numbers lie in lines."""
    trapped, crest = np.float32(0.0), np.float32(0.0)
    zero, one, tiny = np.float32(0.0), np.float32(1.0), np.float32(1e-24)
    # as lines of their own from 0 on: then no index can count from the end, and several are done at once
    xs, ys, zs = line[0, first:after], line[1, first:after], line[2, first:after]
    us, vs, ws = line[3, first:after], line[4, first:after], line[5, first:after]
    ls, ms, ns, near = line[6, first:after], line[7, first:after], line[8, first:after], line[9, first:after]
    for q in range(after - first):
        dx, dy, dz = px - xs[q], py - ys[q], pz - zs[q]
        far = np.sqrt(dx * dx + dy * dy + dz * dz + tiny)
        weight = one - far * inverse
        weight = weight if weight > zero else zero
        ux, uy, uz = vx - us[q], vy - vs[q], vz - ws[q]
        fast = np.sqrt(ux * ux + uy * uy + uz * uz)
        trapped += (fast - (ux * dx + uy * dy + uz * dz) / far) * weight
        ox, oy, oz = ls[q], ms[q], ns[q]
        below = dx * nx + dy * ny + dz * nz
        parts = below - (dx * ox + dy * oy + dz * oz)  # of both normals along the way, above zero where they spread
        bend = near[q] - (ox * nx + oy * ny + oz * nz)
        bend = bend if below > zero else zero
        crest += bend * weight if parts > zero else zero
    return trapped, crest


@shared(fastmath={"contract", "nsz", "arcp", "reassoc"})
def _gather(line, start, shape, order, reach, outwards, trapped, crest):
    for r in prange(shape[0] * shape[1]):
        i, j = r // shape[1], r % shape[1]
        inverse = np.float32(1.0) / reach
        for k in range(shape[2]):
            cell = r * shape[2] + k
            for p in range(start[cell], start[cell + 1]):
                px, py, pz = line[0, p], line[1, p], line[2, p]
                vx, vy, vz = line[3, p], line[4, p], line[5, p]
                nx, ny, nz = line[6, p], line[7, p], line[8, p]
                total, bent = np.float32(0.0), np.float32(0.0)
                for a in range(max(i - 1, 0), min(i + 2, shape[0])):
                    for b in range(max(j - 1, 0), min(j + 2, shape[1])):
                        row = (a * shape[1] + b) * shape[2]
                        first, after = start[row + max(k - 1, 0)], start[row + min(k + 1, shape[2] - 1) + 1]
                        more = _sums(line, first, after, px, py, pz, vx, vy, vz, nx, ny, nz, inverse)
                        total += more[0]
                        bent += more[1]
                fast = np.sqrt(vx * vx + vy * vy + vz * vz)
                out = line[9, p] > 0 and vx * nx + vy * ny + vz * nz >= outwards * fast and fast > 0
                trapped[order[p]] = total
                crest[order[p]] = bent if out else np.float32(0.0)


def potentials(
    position: np.ndarray, velocity: np.ndarray, spacing: float, grid: Grid
) -> tuple[dict[str, np.ndarray], np.ndarray, np.ndarray]:
    """Potentials of particles, float32 (n,) each by its name, and their normals (n, 3) and depths (n,), voxels.

    Parameters
    ----------
    position, velocity : (n, 3), m and m per liquid second
    spacing : of the particles, m
    """
    n = len(position)
    velocity = np.asarray(velocity, np.float32)
    normal, vorticity, depth = np.zeros((n, 3), np.float32), np.zeros(n, np.float32), np.zeros(n, np.float32)
    curl = np.zeros_like(grid.level)
    _vorticity(grid.first, grid.where, *grid.velocity, grid.voxel, curl)
    _of_grid(grid.cells(position), grid.level, curl, grid.where, normal, vorticity, depth)
    trapped, crest = np.zeros(n, np.float32), np.zeros(n, np.float32)
    if n:
        reach = REACH * spacing
        bins = binned(position, reach)
        line = np.empty((10, n), np.float32)
        line[:3] = (bins.position - bins.low).T
        line[3:6], line[6:9] = velocity[bins.order].T, normal[bins.order].T
        line[9] = (normal[bins.order] ** 2).sum(axis=1)
        _gather(line, bins.start, bins.shape, bins.order, np.float32(reach), np.float32(OUTWARDS), trapped, crest)
    energy = np.float32(0.5) * (velocity * velocity).sum(axis=1)
    return dict(zip(NAMES, (trapped, crest, vorticity, energy), strict=True)), normal, depth


def chosen(value: np.ndarray, low: float, high: float) -> np.ndarray:
    """How much of a potential counts, between 0 and 1: nothing up to one value, all from another on.

    (min(I, high) - min(I, low)) / (high - low), Ihmsen et al. 2012, eq. 1.

    Raises
    ------
    ValueError
        If the range is upside down.
    """
    if not high > low:
        raise ValueError(f"a range from {low:g} to {high:g} is upside down")
    return np.asarray((np.minimum(value, high) - np.minimum(value, low)) / (high - low))
