"""Passes over a level set: blur, median, flow by curvature, out and in, each where its mask says."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numba import prange
from scipy import ndimage
from scipy.optimize import brentq

from basin.grid.neighbours import binned, row, span
from basin.kernels import kernel, shared
from basin.surface.field import Points
from basin.surface.level import Field, Whole
from basin.surface.settings import ByCollider, BySpeed, ByThickness, Filter, Mask
from basin.surface.splat import widened

Solids = Callable[[np.ndarray], np.ndarray]  # distance (n,) in metres of points (n, 3) from the nearest collider
STEP = 1 / 6  # squared voxels: longest step of the flow by curvature that is stable
RENEWED = 6  # steps of the flow after which the distance is found again
FARTHEST_MOVE = 2.0  # voxels that a surface is moved at most to hold its volume
BLOCK = 4  # nodes along each axis that one look at their middle may do for
MOST_AT_ONCE = 4096  # blocks whose nodes are asked for together
NEAR = 4.0  # voxels about the surface in which filters of small reach work


@dataclass(frozen=True)
class Context:
    """What masks look at: particles, and the colliders' distance if there are any."""

    points: Points
    solids: Solids | None = None


def filtered(whole: Whole, filters: list[Filter], hold_volume: bool, context: Context) -> Whole:
    """A level set after filters in their order.

    With `hold_volume` it is moved at the end by what all filters but growing and shrinking took.
    """
    for one in filters:
        before = volume(whole)
        share = [mask(part, one.mask, context) for part in whole.parts]
        for _ in range(one.repeats):
            whole = whole.of(_acted(part, one, own) for part, own in zip(whole.parts, share, strict=True))
        if hold_volume and one.does not in ("grow", "shrink"):
            whole = with_volume(whole, before, share)
    return whole


def _acted(field: Field, one: Filter, share: np.ndarray | None) -> Field:
    changed = _pass(field, one)
    phi = changed.phi if share is None else field.phi + share * (changed.phi - field.phi)
    return replace(field, phi=phi.astype(np.float32))


def volume(whole: Whole) -> float:
    """Volume in m3 by the share of each voxel that its node's distance says is full."""
    return sum(
        float(np.clip(0.5 - part.phi[part.own] / part.voxel, 0, 1).sum(dtype=np.float64)) * part.voxel**3
        for part in whole.parts
    )


class _Held:
    """What a field's own nodes hold, m3, when it is moved where a share (on its nodes) says how much."""

    def __init__(self, field: Field, share: np.ndarray | None) -> None:
        phi = field.phi[field.own]
        edge = (FARTHEST_MOVE + 0.5) * field.voxel  # beyond, no move changes whether a node's voxel is full
        near = np.abs(phi) < edge
        # most nodes are as far out as can be told: alike, if they are moved alike
        self.plateau, self.alike, self.voxel = float(phi.max()), 0, field.voxel
        if share is None and phi.max() < edge:
            self.alike = int(np.count_nonzero(phi == phi.max()))
            near &= phi < phi.max()
        self.phi = phi[near]
        self.weight = np.ones_like(self.phi) if share is None else share[field.own][near].astype(np.float32)
        self.rest = float(np.count_nonzero(phi <= -edge)) * field.voxel**3

    def after(self, move: float) -> float:
        """When it is moved by some metres."""
        full = float(_full(self.phi, self.weight, move, self.voxel).sum())
        alike = self.alike * min(max(0.5 - (self.plateau - move) / self.voxel, 0.0), 1.0)
        return self.rest + (full + alike) * self.voxel**3


def with_volume(whole: Whole, wanted: float, share: Sequence[np.ndarray | None] = (None,)) -> Whole:
    """A level set moved so that it holds a volume in m3.

    Parameters
    ----------
    share : of how much each part is moved, on its nodes; None wholly
    """
    shares = list(share) if len(share) == len(whole.parts) else list(share) * len(whole.parts)
    held = [_Held(part, own) for part, own in zip(whole.parts, shares, strict=True)]

    def after(move: float) -> float:
        return sum(one.after(move) for one in held)

    most = FARTHEST_MOVE * whole.voxel
    if not any(len(one.phi) for one in held) or not after(-most) < wanted < after(most):
        return whole
    move = np.float32(brentq(lambda m: after(m) - wanted, -most, most, xtol=1e-6 * whole.voxel))
    return whole.of(
        replace(part, phi=(part.phi - move * (1.0 if own is None else own)).astype(np.float32))
        for part, own in zip(whole.parts, shares, strict=True)
    )


@kernel(parallel=True)
def _full(phi, weight, move, voxel):
    """Sums of the nodes' full shares after a move, over runs of nodes, so that threads do not count."""
    run = 4096
    found = np.zeros((phi.shape[0] + run - 1) // run)
    for part in prange(found.shape[0]):
        total = 0.0
        for n in range(part * run, min(part * run + run, phi.shape[0])):
            total += min(max(0.5 - (phi[n] - move * weight[n]) / voxel, 0.0), 1.0)
        found[part] = total
    return found


def _pass(field: Field, one: Filter) -> Field:
    h, phi = field.voxel, field.phi
    match one.does:
        case "gaussian":
            return replace(field, phi=ndimage.gaussian_filter(phi, one.width, mode="nearest", truncate=3.0))
        case "mean":
            return replace(field, phi=_box(phi, one.width))
        case "median":
            reach = max(round(one.width), 1)
            made = phi.copy()
            _median(phi, made, reach, np.float32(NEAR * h))
            return replace(field, phi=made)
        case "curvature":
            time = one.width**2 / 4  # a ball of this radius just goes: r^2 = r0^2 - 4 t
            return curvature_flow(field, time * h * h)
    way = one.width * h * (1 if one.does == "grow" else -1)
    return moved(field, way)


def moved(field: Field, way: float) -> Field:
    """A field whose surface lies farther out by `way` metres, or in; as a distance, so that it does so evenly."""
    distance = redistanced(field, int(np.ceil(abs(way) / field.voxel)) + 2)
    return replace(distance, phi=(distance.phi - np.float32(way)).astype(np.float32))


@kernel(parallel=True)
def _beside(phi):
    """Which nodes have one of their 26 neighbours on the other side of the surface, and how many in each plane."""
    nx, ny, nz = phi.shape
    found, count = np.empty(phi.shape, np.uint8), np.empty(nx, np.int64)
    for i in prange(nx):
        n = 0
        inside, own = np.empty(nz, np.uint8), np.empty(nz, np.uint8)
        for j in range(ny):
            inside[:] = 0
            for neighbour in range(9):
                a = min(max(i + neighbour // 3 - 1, 0), nx - 1)
                b = min(max(j + neighbour % 3 - 1, 0), ny - 1)
                for k in range(nz):
                    inside[k] += np.uint8(phi[a, b, k] < 0)
            for k in range(nz):
                all_three = np.int64(inside[max(k - 1, 0)]) + inside[k] + inside[min(k + 1, nz - 1)]
                own[k] = 0 < all_three < 27
                n += own[k]
            found[i, j] = own
        count[i] = n
    return found, count


@kernel
def _along(below, here, above):
    """Difference per node from the values on both sides: the steeper one amid a sheet, whose two sides differ."""
    if (below < 0) != (here < 0) and (above < 0) != (here < 0):
        return above - here if abs(above - here) > abs(here - below) else here - below
    return 0.5 * (above - below)


@shared
def _feet(phi, beside, first, seed, foot):
    """Where nodes beside the surface have their nearest point on it, and its normal, in nodes: along the gradient."""
    nx, ny, nz = phi.shape
    for i in prange(nx):
        n = first[i]
        for j in range(ny):
            for k in range(nz):
                seed[i, j, k] = -1
                if not beside[i, j, k]:
                    continue
                f = phi[i, j, k]
                g0 = _along(phi[max(i - 1, 0), j, k], f, phi[min(i + 1, nx - 1), j, k])
                g1 = _along(phi[i, max(j - 1, 0), k], f, phi[i, min(j + 1, ny - 1), k])
                g2 = _along(phi[i, j, max(k - 1, 0)], f, phi[i, j, min(k + 1, nz - 1)])
                length = max(np.sqrt(g0 * g0 + g1 * g1 + g2 * g2), 1e-20)
                t = min(max(f / length, -1.7), 1.7)
                g0, g1, g2 = g0 / length, g1 / length, g2 / length
                foot[n, 0], foot[n, 1], foot[n, 2] = i - t * g0, j - t * g1, k - t * g2
                foot[n, 3], foot[n, 4], foot[n, 5] = g0, g1, g2
                seed[i, j, k] = n
                n += 1


@shared
def _spread(foot, seed, changed, new_seed, new_changed):
    """Take the nearest of the feet that neighbours know, where any of them has changed."""
    nx, ny, nz = seed.shape
    for i in prange(nx):
        near = np.empty(nz, np.uint8)
        for j in range(ny):
            near[:] = 0
            for neighbour in range(9):
                a = min(max(i + neighbour // 3 - 1, 0), nx - 1)
                b = min(max(j + neighbour % 3 - 1, 0), ny - 1)
                for k in range(nz):
                    near[k] |= changed[a, b, k]
            for k in range(nz):
                who = seed[i, j, k]
                if near[max(k - 1, 0)] | near[k] | near[min(k + 1, nz - 1)]:
                    best = np.float32(np.inf)
                    own_x, own_y, own_z = np.float32(i), np.float32(j), np.float32(k)
                    for a in range(max(i - 1, 0), min(i + 2, nx)):
                        for b in range(max(j - 1, 0), min(j + 2, ny)):
                            for c in range(max(k - 1, 0), min(k + 2, nz)):
                                s = seed[a, b, c]
                                if s < 0:
                                    continue
                                x, y, z = foot[s, 0] - own_x, foot[s, 1] - own_y, foot[s, 2] - own_z
                                squared = x * x + y * y + z * z
                                if squared < best:
                                    best, who = squared, s
                new_seed[i, j, k] = who
                new_changed[i, j, k] = who != seed[i, j, k]


@shared
def _to_feet(phi, foot, seed, far, h):
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                away = far
                s = seed[i, j, k]
                if s >= 0:
                    x, y, z = i - foot[s, 0], j - foot[s, 1], k - foot[s, 2]
                    straight = np.sqrt(x * x + y * y + z * z)
                    # feet lie a node apart: the plane through the nearest is nearer than itself
                    across = abs(x * foot[s, 3] + y * foot[s, 4] + z * foot[s, 5])
                    away = min(np.float32((across if across > 0.8 * straight else straight) * h), far)
                phi[i, j, k] = away if phi[i, j, k] >= 0 else -away


def redistanced(field: Field, band: int) -> Field:
    """A field with the distance to its own surface within `band` voxels, and that of the band's edge beyond.

    Nodes beside the surface find their nearest point on it along the gradient; others take the nearest of those that
    their neighbours know, a layer at a time.
    """
    phi = field.phi.copy()
    beside, count = _beside(phi)
    foot = np.empty((int(count.sum()), 6), np.float32)
    seed, other = np.empty(phi.shape, np.int32), np.empty(phi.shape, np.int32)
    _feet(phi, beside, np.concatenate([[0], np.cumsum(count)]), seed, foot)
    changed, new_changed = beside, np.empty_like(beside)
    for _ in range(band):
        _spread(foot, seed, changed, other, new_changed)
        seed, other, changed, new_changed = other, seed, new_changed, changed
    _to_feet(phi, foot, seed, np.float32((band + 1) * field.voxel), field.voxel)
    return replace(field, phi=phi)


def looks(filters: list[Filter], voxel: float) -> float:
    """Voxels from a node within which a pass of one of some filters, or its mask, looks."""
    found = 0.0
    for one in filters:
        reach = {"gaussian": 3 * one.width, "curvature": 2 * one.width + NEAR}.get(one.does, one.width + 2)
        if isinstance(one.mask, ByThickness):
            reach = max(reach, max(one.mask.full, one.mask.none) / voxel)
        found = max(found, reach)
    return found


def room(filters: list[Filter]) -> float:
    """Voxels that a field needs beyond the surface for filters to work in."""
    grown = sum(one.width * one.repeats for one in filters if one.does == "grow")
    return NEAR + grown if filters else 0.0


def _box(phi: np.ndarray, width: float) -> np.ndarray:
    """Mean over a box of half width `width` voxels about each node; parts of voxels count in part."""
    whole = int(np.floor(width + 0.5))
    weights = np.ones(2 * whole + 1)
    weights[[0, -1]] = width + 0.5 - whole if whole else 1.0
    weights /= weights.sum()
    for axis in range(3):
        phi = ndimage.convolve1d(phi, weights.astype(np.float32), axis=axis, mode="nearest")
    return phi


@shared
def _median(phi, made, reach, near):
    size = (2 * reach + 1) ** 3
    for i in prange(reach, phi.shape[0] - reach):
        values = np.empty(size, np.float32)
        for j in range(reach, phi.shape[1] - reach):
            for k in range(reach, phi.shape[2] - reach):
                if abs(phi[i, j, k]) > near:
                    continue
                n = 0
                for a in range(-reach, reach + 1):
                    for b in range(-reach, reach + 1):
                        for c in range(-reach, reach + 1):
                            values[n] = phi[i + a, j + b, k + c]
                            n += 1
                values.sort()
                made[i, j, k] = values[size // 2]


def curvature_flow(field: Field, time: float) -> Field:
    """A field after a flow by its curvature: every point of the surface moves in by k1 + k2, for `time` (m2).

    Osher & Sethian 1988, J. Comput. Phys. 79, central differences; a ball's radius goes as sqrt(r0^2 - 4 t).
    """
    h = field.voxel
    steps = max(int(np.ceil(time / (STEP * h * h))), 1)
    step = np.float32(time / steps / (h * h))
    phi, other = field.phi, np.empty_like(field.phi)
    for n in range(steps):
        if n % RENEWED == 0:  # the band about the surface goes along with it
            phi = redistanced(replace(field, phi=phi), int(NEAR) + 2).phi
            other[:] = phi
        _flow(phi, other, step, np.float32(NEAR * h), np.float32(h))
        phi, other = other, phi
    return replace(field, phi=phi)


@shared
def _flow(phi, made, step, near, voxel):
    for i in prange(1, phi.shape[0] - 1):
        for j in range(1, phi.shape[1] - 1):
            for k in range(1, phi.shape[2] - 1):
                f = phi[i, j, k]
                made[i, j, k] = f
                if abs(f) > near:
                    continue
                x = 0.5 * (phi[i + 1, j, k] - phi[i - 1, j, k])
                y = 0.5 * (phi[i, j + 1, k] - phi[i, j - 1, k])
                z = 0.5 * (phi[i, j, k + 1] - phi[i, j, k - 1])
                g = x * x + y * y + z * z
                xx = phi[i + 1, j, k] + phi[i - 1, j, k] - 2 * f
                yy = phi[i, j + 1, k] + phi[i, j - 1, k] - 2 * f
                zz = phi[i, j, k + 1] + phi[i, j, k - 1] - 2 * f
                if g < 0.1 * voxel * voxel:  # a ridge amid a sheet has no side that could be told to be bent
                    least = min(phi[i + 1, j, k], phi[i - 1, j, k], phi[i, j + 1, k], phi[i, j - 1, k])
                    if f < 0 and min(least, phi[i, j, k + 1], phi[i, j, k - 1]) > 0:
                        made[i, j, k] = -f  # a single node is all that is left of a ball
                    continue
                xy = 0.25 * (phi[i + 1, j + 1, k] + phi[i - 1, j - 1, k] - phi[i + 1, j - 1, k] - phi[i - 1, j + 1, k])
                xz = 0.25 * (phi[i + 1, j, k + 1] + phi[i - 1, j, k - 1] - phi[i + 1, j, k - 1] - phi[i - 1, j, k + 1])
                yz = 0.25 * (phi[i, j + 1, k + 1] + phi[i, j - 1, k - 1] - phi[i, j + 1, k - 1] - phi[i, j - 1, k + 1])
                bent = (
                    x * x * (yy + zz)
                    + y * y * (xx + zz)
                    + z * z * (xx + yy)
                    - 2 * (x * y * xy + x * z * xz + y * z * yz)
                )
                made[i, j, k] = f + step * bent / g


def mask(field: Field, where: Mask, context: Context) -> np.ndarray | None:
    """Share (0 to 1) on a field's nodes, near its surface, of how much something acts; None if wholly."""
    if isinstance(where, BySpeed):
        value = _speed(field, context.points)
    elif isinstance(where, ByCollider):
        if context.solids is None:
            return np.full(field.phi.shape, _rise(np.array(np.inf), where.none, where.full), np.float32)
        value = on_nodes(field, context.solids, NEAR * field.voxel, max(where.full, where.none))
    elif isinstance(where, ByThickness):
        value = _thickness(field, max(where.full, where.none))
    else:
        return None
    return _rise(value, where.none, where.full).astype(np.float32)


def _rise(value: np.ndarray, none: float, full: float) -> np.ndarray:
    """From 0 at `none` to 1 at `full`, either of them the larger one, without a kink at the ends."""
    span = full - none
    t = np.clip((value - none) / span, 0, 1) if span else (value >= full).astype(float)
    return np.asarray(t * t * (3 - 2 * t))


def on_nodes(field: Field, distance: Solids, near: float, far: float = np.inf) -> np.ndarray:
    """A distance of points on the nodes whose own is below `near` metres and on those beside them; infinite on others.

    Blocks of nodes whose middle tells that all of them are farther than `far` metres, on either side, have the
    distance of the middle: most blocks need one look.
    """
    h, shape = field.voxel, np.array(field.phi.shape)
    found = np.full(field.phi.shape, np.inf, np.float32)
    count = -(-shape // BLOCK)
    padded = np.zeros(tuple(count * BLOCK), bool)
    padded[tuple(slice(0, n) for n in shape)] = widened(field.phi < near, 1)
    split = padded.reshape(*(n for c in count for n in (c, BLOCK)))
    block = np.argwhere(split.any(axis=(1, 3, 5)))
    if len(block) == 0:
        return found
    middle = distance((block * BLOCK + (BLOCK - 1) / 2) * h + field.low)
    close = np.abs(middle) < far + ((BLOCK - 1) / 2 * np.sqrt(3) + 1) * h
    held = np.full(tuple(count), np.inf, np.float32)
    held[tuple(block.T)] = middle
    for axis, n in enumerate(shape):
        held = np.repeat(held, BLOCK, axis=axis).take(np.arange(n), axis=axis)
    found = held
    inner = np.indices((BLOCK,) * 3).reshape(3, -1).T
    for part in np.array_split(block[close], max(int(close.sum()) // MOST_AT_ONCE, 1)):
        node = (part[:, None] * BLOCK + inner).reshape(-1, 3)
        node = node[(node < shape).all(axis=1)]
        found[tuple(node.T)] = distance(node * h + field.low)
    return found


@shared
def _nearby_speed(phi, near, speed, position, start, low, shape, edge, radius, node_low, voxel, found):
    for i in prange(phi.shape[0]):
        for j in range(phi.shape[1]):
            for k in range(phi.shape[2]):
                if abs(phi[i, j, k]) > near:
                    continue
                x, y, z = node_low[0] + i * voxel, node_low[1] + j * voxel, node_low[2] + k * voxel
                first_a, after_a = span(x, radius, low[0], edge, shape[0])
                first_b, after_b = span(y, radius, low[1], edge, shape[1])
                total, weight = 0.0, 0.0
                for a in range(first_a, after_a):
                    for b in range(first_b, after_b):
                        begin, end = row(start, low, shape, edge, a, b, x, y, z, radius)
                        for p in range(begin, end):
                            dx, dy, dz = position[p, 0] - x, position[p, 1] - y, position[p, 2] - z
                            s = (dx * dx + dy * dy + dz * dz) / (radius * radius)
                            if s < 1.0:
                                w = (1.0 - s) ** 3
                                total += w * speed[p]
                                weight += w
                if weight > 0.0:
                    found[i, j, k] = total / weight


def _speed(field: Field, points: Points) -> np.ndarray:
    """Speed (m/s) of the particles about each node near the surface; 0 on others."""
    found = np.zeros(field.phi.shape)
    if len(points.position) == 0:
        return found
    radius = 2 * points.spacing
    cells = binned(points.position, radius / 2)
    speed = np.linalg.norm(points.carried["velocity"].astype(np.float64), axis=1)[cells.order]
    _nearby_speed(field.phi, NEAR * field.voxel, speed, *cells.rows(), radius, field.low, field.voxel, found)
    return found


def _thickness(field: Field, most: float) -> np.ndarray:
    """Thickness (m) of the liquid about each node: the widest ball within it that covers the node; up to `most`.

    By opening (Hildebrand & Ruegsegger 1997): a node belongs to a part of thickness t if balls of that
    width fit there. Looked at in five steps.
    """
    depth = distances(field.phi >= 0) * field.voxel - field.voxel / 2
    found = np.zeros(field.phi.shape, np.float32)
    for thick in np.linspace(most / 5, most, 5):
        core = depth >= thick / 2
        if not core.any():
            break
        away = distances(core) * field.voxel
        found[away <= thick / 2 + 1.5 * field.voxel] = thick
    return found


def distances(flags: np.ndarray) -> np.ndarray:
    """Distance (float32, in nodes) of each node from the nearest flagged one; infinite if none is.

    Felzenszwalb & Huttenlocher 2012, Theory of Computing 8: the lower envelope of parabolas, axis by axis.
    """
    squared = np.where(flags, np.float32(0), np.float32(np.inf))
    for axis in range(3):
        rows = np.ascontiguousarray(np.moveaxis(squared, axis, 2))
        _envelopes(rows)
        squared = np.moveaxis(rows, 2, axis)
    return np.sqrt(np.ascontiguousarray(squared))


@shared
def _envelopes(value):
    """Replace each row f by the least over q of f(q) + (p - q)^2."""
    nx, ny, nz = value.shape
    for i in prange(nx):
        at, edge, own = np.empty(nz, np.int64), np.empty(nz + 1), np.empty(nz)
        for j in range(ny):
            top = -1
            for q in range(nz):
                own[q] = value[i, j, q]
                if own[q] == np.inf:
                    continue
                s = -np.inf
                while top >= 0:
                    v = at[top]
                    s = (own[q] + q * q - own[v] - v * v) / (2.0 * (q - v))
                    if s > edge[top]:
                        break
                    top -= 1
                    s = -np.inf
                top += 1
                at[top], edge[top] = q, s
            if top < 0:
                continue
            n = 0
            for p in range(nz):
                while n < top and edge[n + 1] < p:
                    n += 1
                value[i, j, p] = np.float32((p - at[n]) ** 2 + own[at[n]])
