"""Particles and voxels onto nodes, compiled.

Each task fills one slab of node planes and walks the particles that can reach it in their order, so sums do not
depend on the number of threads. Positions are taken to the slab's nodes in double precision, the rest is single.
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.grid.lanes import add_wendland, lower_to_distance
from basin.kernels import kernel, shared

SLAB = 8  # planes of nodes that one task fills
WIDE = 8  # nodes of a row worked on at once: single numbers in a vector
NONE, ONE, FOUR, FIVE = np.float32(0.0), np.float32(1.0), np.float32(4.0), np.float32(5.0)


@kernel
def sums(cell, value, count):
    """Sum of the values (n,) in each of some cells, by their numbers (n,)."""
    found = np.zeros(count, np.float32)
    for n in range(cell.shape[0]):
        found[cell[n]] += value[n]
    return found


def widened(flags: np.ndarray, cells: int) -> np.ndarray:
    """Flags, bool (nx, ny, nz), with all within some cells along each axis set too."""
    found = np.zeros(flags.shape, np.uint8)
    _widen(np.ascontiguousarray(flags).view(np.uint8), cells, found)
    return found.view(np.bool_)


@kernel
def _add_flags(to, of):
    for k in range(to.shape[0]):
        to[k] |= of[k]


@kernel(parallel=True)
def _widen(flags, cells, found):
    nx, ny, nz = flags.shape
    across = np.zeros((nx, ny, nz), np.uint8)
    for i in prange(nx):
        along = np.zeros((ny, nz), np.uint8)
        held = np.zeros(ny, np.uint8)
        for j in range(ny):
            line, own = along[j], flags[i, j]
            last = -cells - 1
            for k in range(nz):
                if own[k]:
                    for e in range(max(k - cells, last + 1, 0), min(k + cells + 1, nz)):
                        line[e] = 1
                    last = k + cells
                    held[j] = 1
        for j in range(ny):
            for b in range(max(j - cells, 0), min(j + cells + 1, ny)):
                if held[b]:
                    _add_flags(across[i, j], along[b])
    for i in prange(nx):
        for a in range(max(i - cells, 0), min(i + cells + 1, nx)):
            _add_flags(found[i].reshape(ny * nz), across[a].reshape(ny * nz))


@kernel(parallel=True)
def belled(held):
    """Mean over cells and those beside them, weighed 1, 2, 1 along each axis; there is nothing beyond the edge."""
    nx, ny, nz = held.shape
    found = np.empty_like(held)
    for i in prange(nx):
        near = np.empty(nz + 2, np.float32)
        for j in range(ny):
            near[:] = 0
            for a in range(max(i - 1, 0), min(i + 2, nx)):
                for b in range(max(j - 1, 0), min(j + 2, ny)):
                    weight = np.float32((2 - abs(a - i)) * (2 - abs(b - j)) / 64)
                    for k in range(nz):
                        near[k + 1] += weight * held[a, b, k]
            for k in range(nz):
                found[i, j, k] = near[k] + near[k + 1] + near[k + 1] + near[k + 2]
    return found


@kernel(parallel=True)
def within(start, flags):
    """The particles of flagged cells, ascending, int64."""
    cells = flags.shape[0]
    parts = max(min(cells // 4096, 256), 1)
    first = np.zeros(parts + 1, np.int64)
    for part in prange(parts):
        count = 0
        for cell in range(part * cells // parts, (part + 1) * cells // parts):
            if flags[cell]:
                count += start[cell + 1] - start[cell]
        first[part + 1] = count
    for part in range(parts):
        first[part + 1] += first[part]
    found = np.empty(first[parts], np.int64)
    for part in prange(parts):
        at = first[part]
        for cell in range(part * cells // parts, (part + 1) * cells // parts):
            if flags[cell]:
                for n in range(start[cell], start[cell + 1]):
                    found[at] = n
                    at += 1
    return found


@kernel(parallel=True)
def fainter(some, known, position, low, voxel, density, least, found):
    """Which of some particles lie within the nodes where a density is less than some, but for known ones."""
    for m in prange(some.shape[0]):
        n = some[m]
        i = int(np.rint((position[n, 0] - low[0]) / voxel))
        j = int(np.rint((position[n, 1] - low[1]) / voxel))
        k = int(np.rint((position[n, 2] - low[2]) / voxel))
        within = min(i, j, k) >= 0 and i < density.shape[0] and j < density.shape[1] and k < density.shape[2]
        found[m] = within and not known[m] and density[i, j, k] < least


@kernel(parallel=True)
def nearest_node(some, position, low, voxel):
    """The nearest node of some particles, int64 (m, 3)."""
    found = np.empty((some.shape[0], 3), np.int64)
    for m in prange(some.shape[0]):
        for d in range(3):
            found[m, d] = int(np.rint((position[some[m], d] - low[d]) / voxel))
    return found


@kernel(parallel=True)
def fill(values, cells, at_i, at_j, at_k, value):
    """Set the nodes that lie in flagged cells; cells of nodes are given along each axis."""
    for i in prange(values.shape[0]):
        for j in range(values.shape[1]):
            for k in range(values.shape[2]):
                if cells[at_i[i], at_j[j], at_k[k]]:
                    values[i, j, k] = value


@kernel
def _in_slab(position, n, low, voxel, first):
    """Where a particle is among the nodes of a slab that begins with a plane."""
    x, y, z = (position[n, 0] - low[0]) / voxel, (position[n, 1] - low[1]) / voxel, (position[n, 2] - low[2]) / voxel
    return np.float32(x - first), np.float32(y), np.float32(z)


@kernel
def _add_row(line, begin, end, z, c, b, a, share):
    """Add a kernel along a row of nodes, whose squared distance at dz from z is c + 2 b dz + a dz^2 in radii."""
    for n in range(begin, end, WIDE):
        if n + WIDE <= line.shape[0]:  # those beyond the kernel's reach add nothing
            add_wendland(line, np.uint64(n), np.float32(n) - z, c, b, a, share)
            continue
        for k in range(n, min(n + WIDE, line.shape[0])):
            dz = np.float32(k) - z
            rest = ONE - np.sqrt(min(max(c + (b + b + a * dz) * dz, NONE), ONE))
            power = (rest * rest) * (rest * rest)
            line[k] += power * (FIVE - FOUR * rest) * share


@shared
def balls(starts, some, position, volume, low, voxel, radius, density):
    """Add kernels of some particles to a density: Wendland's within a radius about each."""
    reach = np.float32(radius / voxel)
    r2 = reach * reach
    per = ONE / r2
    norm = 21.0 / (2.0 * np.pi * radius**3)
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, density.shape[0])
        for m in range(starts[slab, 0], starts[slab, 1]):
            n = some[m]
            x, y, z = _in_slab(position, n, low, voxel, lo)
            share = np.float32(norm * volume[m])
            begin, end = max(int(np.ceil(z - reach)), 0), min(int(z + reach) + 1, density.shape[2])
            short = end - begin <= WIDE  # one step for each row, however long it is
            for i in range(max(int(np.ceil(x - reach)), 0), min(int(np.floor(x + reach)) + 1, hi - lo)):
                dx = np.float32(i) - x
                for j in range(max(int(np.ceil(y - reach)), 0), min(int(y + reach) + 1, density.shape[1])):
                    dy = np.float32(j) - y
                    rest = r2 - dx * dx - dy * dy
                    if rest <= 0:
                        continue
                    if not short:
                        half = np.sqrt(rest)
                        begin, end = max(int(np.ceil(z - half)), 0), min(int(z + half) + 1, density.shape[2])
                    _add_row(density[lo + i, j], begin, end, z, (dx * dx + dy * dy) * per, NONE, per, share)


@kernel
def _lower_row(line, begin, end, z, across, own, unit):
    """Lower a row of nodes to the distance of a ball, `across` (squared voxels) beside its middle."""
    for n in range(begin, end, WIDE):
        if n + WIDE <= line.shape[0]:  # beyond the band it is as true
            lower_to_distance(line, np.uint64(n), np.float32(n) - z, across, own, unit)
            continue
        for k in range(n, min(n + WIDE, line.shape[0])):
            dz = np.float32(k) - z
            line[k] = min(line[k], (np.sqrt(across + dz * dz) - own) * unit)


@shared
def spheres(starts, position, radius, band, low, voxel, phi):
    """Add to a level set the balls (n,) of radius about positions, as far as some voxels beyond them."""
    unit = np.float32(voxel)
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, phi.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x, y, z = _in_slab(position, n, low, voxel, lo)
            own = np.float32(radius[n] / voxel)
            reach = own + np.float32(band)
            r2 = reach * reach
            begin, end = max(int(np.ceil(z - reach)), 0), min(int(z + reach) + 1, phi.shape[2])
            short = end - begin <= WIDE
            for i in range(max(int(np.ceil(x - reach)), 0), min(int(np.floor(x + reach)) + 1, hi - lo)):
                dx = np.float32(i) - x
                for j in range(max(int(np.ceil(y - reach)), 0), min(int(y + reach) + 1, phi.shape[1])):
                    dy = np.float32(j) - y
                    across = dx * dx + dy * dy
                    if across >= r2:
                        continue
                    if not short:
                        along = np.sqrt(r2 - across)
                        begin, end = max(int(np.ceil(z - along)), 0), min(int(z + along) + 1, phi.shape[2])
                    _lower_row(phi[lo + i, j], begin, end, z, across, own, unit)


@kernel(parallel=True)
def capsules(starts, position, half, radius, band, low, voxel, phi):
    """Add to a level set the balls (n,) of radius swept from position - half to position + half."""
    unit = np.float32(voxel)
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, phi.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            x, y, z = _in_slab(position, n, low, voxel, lo)
            u, v, w = np.float32(half[n, 0] / voxel), np.float32(half[n, 1] / voxel), np.float32(half[n, 2] / voxel)
            squared = max(u * u + v * v + w * w, np.float32(1e-12))
            own = np.float32(radius[n] / voxel)
            reach = own + np.float32(band)
            far_i, far_j, far_k = reach + abs(u), reach + abs(v), reach + abs(w)
            for i in range(max(int(np.ceil(x - far_i)), 0), min(int(np.floor(x + far_i)) + 1, hi - lo)):
                for j in range(max(int(np.ceil(y - far_j)), 0), min(int(y + far_j) + 1, phi.shape[1])):
                    for k in range(max(int(np.ceil(z - far_k)), 0), min(int(z + far_k) + 1, phi.shape[2])):
                        dx, dy, dz = np.float32(i) - x, np.float32(j) - y, np.float32(k) - z
                        t = min(max((dx * u + dy * v + dz * w) / squared, -ONE), ONE)
                        ex, ey, ez = dx - t * u, dy - t * v, dz - t * w
                        d = (np.sqrt(ex * ex + ey * ey + ez * ez) - own) * unit
                        if d < phi[lo + i, j, k]:
                            phi[lo + i, j, k] = d


@shared
def ellipsoids(starts, centre, inverse, reach, volume, low, voxel, density):
    """Add particles' kernels to a density: Wendland's within the ellipsoid x M x = 1 about each centre."""
    v2 = voxel * voxel
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, density.shape[0])
        for n in range(starts[slab, 0], starts[slab, 1]):
            m = inverse[n]
            x, y, z = _in_slab(centre, n, low, voxel, lo)
            ri, rj = np.float32(reach[n, 0] / voxel), np.float32(reach[n, 1] / voxel)
            first, after = max(int(np.ceil(x - ri)), 0), min(int(np.floor(x + ri)) + 1, hi - lo)
            if after <= first:
                continue
            determinant = (
                m[0, 0] * (m[1, 1] * m[2, 2] - m[1, 2] * m[2, 1])
                - m[0, 1] * (m[1, 0] * m[2, 2] - m[1, 2] * m[2, 0])
                + m[0, 2] * (m[1, 0] * m[2, 1] - m[1, 1] * m[2, 0])
            )
            share = np.float32(volume[n] * 21.0 / (2.0 * np.pi) * np.sqrt(determinant))
            xx, yy, a = np.float32(m[0, 0] * v2), np.float32(m[1, 1] * v2), np.float32(m[2, 2] * v2)
            xy, xz, yz = np.float32(m[0, 1] * v2), np.float32(m[0, 2] * v2), np.float32(m[1, 2] * v2)
            per = ONE / a
            for i in range(first, after):
                dx = np.float32(i) - x
                for j in range(max(int(np.ceil(y - rj)), 0), min(int(y + rj) + 1, density.shape[1])):
                    dy = np.float32(j) - y
                    b = xz * dx + yz * dy
                    c = (xx * dx + np.float32(2.0) * xy * dy) * dx + yy * dy * dy
                    inside = b * b - a * (c - ONE)
                    if inside <= 0:
                        continue
                    half = np.sqrt(inside) * per
                    middle = z - b * per
                    begin = max(int(np.ceil(middle - half)), 0)
                    end = min(int(middle + half) + 1, density.shape[2])
                    _add_row(density[lo + i, j], begin, end, z, c, b, a, share)


@kernel(parallel=True)
def mean_place(starts, some, position, low, voxel, radius, found):
    """Sums (nodes, 4) of weighted offsets from each node, in voxels, and of weights, of some particles in a radius."""
    reach = np.float32(radius / voxel)
    r2 = reach * reach
    per = ONE / r2
    for slab in prange(starts.shape[0]):
        lo, hi = slab * SLAB, min(slab * SLAB + SLAB, found.shape[0])
        for m in range(starts[slab, 0], starts[slab, 1]):
            n = some[m]
            x, y, z = _in_slab(position, n, low, voxel, lo)
            for i in range(max(int(np.ceil(x - reach)), 0), min(int(np.floor(x + reach)) + 1, hi - lo)):
                dx = x - np.float32(i)
                for j in range(max(int(np.ceil(y - reach)), 0), min(int(y + reach) + 1, found.shape[1])):
                    dy = y - np.float32(j)
                    rest = r2 - dx * dx - dy * dy
                    if rest <= 0:
                        continue
                    half = np.sqrt(rest)
                    for k in range(max(int(np.ceil(z - half)), 0), min(int(z + half) + 1, found.shape[2])):
                        dz = z - np.float32(k)
                        f = max(ONE - (dx * dx + dy * dy + dz * dz) * per, np.float32(0.0))
                        w = f * f * f
                        own = found[lo + i, j, k]
                        own[0] += w * dx
                        own[1] += w * dy
                        own[2] += w * dz
                        own[3] += w


@kernel(parallel=True)
def off_mean(found, radius, voxel, none):
    """Level set from the sums of `mean_place`: distance to the mean less a radius; `none` without weights."""
    phi = np.empty(found.shape[:3], np.float32)
    for i in prange(found.shape[0]):
        for j in range(found.shape[1]):
            for k in range(found.shape[2]):
                x, y, z, w = found[i, j, k, 0], found[i, j, k, 1], found[i, j, k, 2], found[i, j, k, 3]
                phi[i, j, k] = none
                if w > 0:
                    phi[i, j, k] = np.float32(np.sqrt(x * x + y * y + z * z) / w * voxel - radius)
    return phi


@kernel(parallel=True)
def contour(density, distance, scale):
    """Level set from a density: distances at evenly spaced densities from 0 to 1, times a scale."""
    phi = np.empty(density.shape, np.float32)
    for i in prange(density.shape[0]):
        for j in range(density.shape[1]):
            for k in range(density.shape[2]):
                at = min(max(density[i, j, k], np.float32(0.0)), ONE) * np.float32(distance.shape[0] - 1)
                low = min(int(at), distance.shape[0] - 2)
                f = at - np.float32(low)
                phi[i, j, k] = (distance[low] + f * (distance[low + 1] - distance[low])) * scale
    return phi


@kernel
def _tile_of(a, b, c, first, where):
    ta, tb, tc = (a >> 3) - first[0], (b >> 3) - first[1], (c >> 3) - first[2]
    if min(ta, tb, tc) < 0 or ta >= where.shape[0] or tb >= where.shape[1] or tc >= where.shape[2]:
        return -1
    return where[ta, tb, tc]


@kernel(parallel=True)
def full_voxels(phi, low, step, where, first, held, grid_low, dx):
    """Add the simulation's full voxels to a level set."""
    # Half of the trilinear share of full voxels is their outline: flush with the faces of those at walls. Towards
    # the band there are always particles, whose surface is farther out.
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                x = (low[0] + i * step - grid_low[0]) / dx - 0.5
                y = (low[1] + j * step - grid_low[1]) / dx - 0.5
                z = (low[2] + k * step - grid_low[2]) / dx - 0.5
                ci, cj, ck = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
                share = 0.0
                for q in range(8):
                    a, b, c = ci + (q >> 2), cj + ((q >> 1) & 1), ck + (q & 1)
                    t = _tile_of(a, b, c, first, where)
                    if t >= 0 and held[t, a & 7, b & 7, c & 7]:
                        share += (1 - abs(x - a)) * (1 - abs(y - b)) * (1 - abs(z - c))
                if share > 0.0:
                    phi[i, j, k] = min(phi[i, j, k], np.float32((0.5 - share) * dx))


@shared
def into_body(phi, low, step, where, first, level, grid_low, dx, depth):
    """Pass over to the simulation's own level set from a depth on, over another half of it."""
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                x = (low[0] + i * step - grid_low[0]) / dx - 0.5
                y = (low[1] + j * step - grid_low[1]) / dx - 0.5
                z = (low[2] + k * step - grid_low[2]) / dx - 0.5
                ci, cj, ck = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
                own, whole = 0.0, True
                for q in range(8):
                    a, b, c = ci + (q >> 2), cj + ((q >> 1) & 1), ck + (q & 1)
                    t = _tile_of(a, b, c, first, where)
                    if t < 0:
                        whole = False
                        break
                    own += level[t, a & 7, b & 7, c & 7] * (1 - abs(x - a)) * (1 - abs(y - b)) * (1 - abs(z - c))
                if whole and own < -depth:
                    s = min((-depth - own) / (0.5 * depth), 1.0)
                    phi[i, j, k] = np.float32((1.0 - s) * phi[i, j, k] + s * own)
