"""Takes parts of the liquid away, joins shapes to it, and fits it to colliders."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from basin.surface.filters import Solids, on_nodes
from basin.surface.level import Field
from basin.surface.settings import Cut

Box = tuple[np.ndarray, np.ndarray]  # smallest and largest corner, metres


def cut_distance(cut: Cut, points: np.ndarray, domain: Box) -> np.ndarray:
    """Distance (n,) in metres of points (n, 3) from what a cut takes away: negative where liquid stays."""
    match cut.by:
        case "plane":
            normal = np.array(cut.normal) / np.linalg.norm(cut.normal)
            found = (points - np.array(cut.centre)) @ normal
        case "height":
            found = points[:, 1] - cut.height
        case _:
            if cut.by == "box":
                middle, half = np.array(cut.centre), np.array(cut.size) / 2
            else:
                middle, half = (domain[0] + domain[1]) / 2, (domain[1] - domain[0]) / 2 - cut.margin
            q = np.abs(points - middle) - half
            found = np.linalg.norm(np.maximum(q, 0), axis=1) + np.minimum(q.max(axis=1), 0)
    return np.asarray(found if cut.away == "outside" else -found)


def capped(field: Field, cuts: list[Cut], domain: Box) -> Field:
    """A field after those cuts that are capped: closed where they cut."""
    phi = field.phi
    for cut in cuts:
        if not cut.capped:
            continue
        phi = phi.copy()
        for i in range(0, phi.shape[0], 8):
            end = min(i + 8, phi.shape[0])
            away = cut_distance(cut, field.planes(i, end), domain).reshape(phi[i:end].shape)
            phi[i:end] = np.maximum(phi[i:end], away)
    return replace(field, phi=phi)


def opened(position: np.ndarray, triangle: np.ndarray, cuts: list[Cut], domain: Box) -> tuple[np.ndarray, np.ndarray]:
    """A mesh (float64 (n, 3) metres, int32 (m, 3)) after those cuts that are not capped: open where they cut."""
    for cut in cuts:
        if not cut.capped and len(triangle):
            position, triangle = clipped(position, triangle, cut_distance(cut, position, domain))
    return position, triangle


def clipped(position: np.ndarray, triangle: np.ndarray, away: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The part of a mesh where a value (n,) of its vertices is below 0; sides that cross it are cut once for both of
    their triangles."""
    inside = (away < 0)[triangle]
    count = inside.sum(axis=1)
    whole = triangle[count == 3]
    # turned so that the one corner that differs from the other two comes first
    crossing = triangle[(count == 1) | (count == 2)].astype(np.int64)
    if len(crossing):
        lies = (away < 0)[crossing]
        odd = np.where(lies.sum(axis=1) == 1, lies.argmax(axis=1), (~lies).argmax(axis=1))
        turn = (odd[:, None] + np.arange(3)) % 3
        crossing = np.take_along_axis(crossing, turn, axis=1)
        side = np.sort(np.concatenate([crossing[:, [0, 1]], crossing[:, [0, 2]]]), axis=1)
        edge, where = np.unique(side, axis=0, return_inverse=True)
        a, b = away[edge[:, 0]], away[edge[:, 1]]
        share = np.clip(a / (a - b), 0, 1)
        made = position[edge[:, 0]] + share[:, None] * (position[edge[:, 1]] - position[edge[:, 0]])
        new = where.ravel() + len(position)
        first, second = new[: len(crossing)], new[len(crossing) :]
        one = (away < 0)[crossing[:, 0]]
        tip = np.stack([crossing[:, 0], first, second], axis=1)[one]
        rest = ~one
        lower = np.stack([first, crossing[:, 1], crossing[:, 2]], axis=1)[rest]
        upper = np.stack([first, crossing[:, 2], second], axis=1)[rest]
        whole = np.concatenate([whole, tip, lower, upper])
        position = np.concatenate([position, made])
    used, renamed = np.unique(whole, return_inverse=True)
    return position[used], renamed.reshape(-1, 3).astype(np.int32)


def with_shape(field: Field, distance: Solids) -> Field:
    """A field and a shape whose distance is given."""
    phi = field.phi.copy()
    for i in range(0, phi.shape[0], 8):
        end = min(i + 8, phi.shape[0])
        phi[i:end] = np.minimum(phi[i:end], distance(field.planes(i, end)).reshape(phi[i:end].shape))
    return replace(field, phi=phi)


def fitted_to(field: Field, solids: Solids, gap: float, reach: float) -> Field:
    """A field drawn up to colliders, less what comes nearer to them than a gap (m; negative overlaps).

    Liquid that lies within `reach` metres of a wall touches it: what is nearer to the wall, or within it, is as the
    liquid at that distance, straight out of the wall.
    """
    h = field.voxel
    beyond = max(reach, 3 * h - min(gap, 0.0))
    about = min(beyond + reach, float(field.phi.max()))  # what has no liquid so near stays as it is
    away = on_nodes(field, solids, about, beyond + 2 * h)
    near = (field.phi < about) & (away < reach) & (away > -max(-gap, 0.0) - 3 * h)
    phi = field.phi.copy()
    at = np.argwhere(near)
    if len(at):
        gradient = np.stack([_slope(away, at, axis, h) for axis in range(3)], axis=1)
        length = np.linalg.norm(gradient, axis=1, keepdims=True)
        out = gradient / np.maximum(length, 1e-9)
        place = at * h + field.low + (reach - away[near])[:, None] * out
        phi[near] = np.minimum(phi[near], field.at(place))
    return replace(field, phi=np.maximum(phi, gap - away).astype(np.float32))


def _slope(value: np.ndarray, at: np.ndarray, axis: int, h: float) -> np.ndarray:
    """Central differences of an array on nodes at some of them, one-sided at its edges."""
    up, down = at.copy(), at.copy()
    up[:, axis] = np.minimum(up[:, axis] + 1, value.shape[axis] - 1)
    down[:, axis] = np.maximum(down[:, axis] - 1, 0)
    steps = np.maximum(up[:, axis] - down[:, axis], 1)
    return np.asarray((value[tuple(up.T)] - value[tuple(down.T)]) / (steps * h))
