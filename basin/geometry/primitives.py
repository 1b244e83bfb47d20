"""Meshes of the simple shapes, for viewing, filling and colliding.

A lathe profile turned about Y makes the round ones; all are closed and face outwards.
"""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from basin.geometry.mesh import TriangleMesh, facing_out


def box_mesh(size: tuple[float, float, float]) -> TriangleMesh:
    """A box centred on the origin; `size` in metres."""
    corners = np.array([[x, y, z] for x in (-0.5, 0.5) for y in (-0.5, 0.5) for z in (-0.5, 0.5)]) * np.array(size)
    quads = [(0, 1, 3, 2), (4, 6, 7, 5), (0, 4, 5, 1), (2, 3, 7, 6), (0, 2, 6, 4), (1, 5, 7, 3)]
    triangle = np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))], dtype=np.int32)
    return facing_out(TriangleMesh(corners, triangle))


def lathe_mesh(profile: np.ndarray, around: int, closed_loop: bool) -> TriangleMesh:
    """Turn a profile of (radius, height) points about Y.

    Parameters
    ----------
    profile : float (k, 2), metres. Radius 0 at the ends makes poles; `closed_loop` joins the
        last point to the first (a ring, for a tube).
    around : number of facets about the axis.
    """
    angle = 2 * np.pi * np.arange(around) / around
    position: list[np.ndarray] = []
    rows: list[np.ndarray] = []
    count = 0
    for radius, height in profile:
        if radius <= 0:
            position.append(np.array([[0.0, height, 0.0]]))
            rows.append(np.full(around, count))
            count += 1
        else:
            ring = np.stack([radius * np.cos(angle), np.full(around, height), radius * np.sin(angle)], axis=1)
            position.append(ring)
            rows.append(count + np.arange(around))
            count += around
    pairs = list(pairwise(rows)) + ([(rows[-1], rows[0])] if closed_loop else [])
    triangle = []
    for low, high in pairs:
        low2, high2 = np.roll(low, -1), np.roll(high, -1)
        triangle += [np.stack([low, high, low2], axis=1), np.stack([low2, high, high2], axis=1)]
    faces = np.concatenate(triangle).astype(np.int32)
    faces = faces[(faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 2] != faces[:, 0])]
    return facing_out(TriangleMesh(np.concatenate(position), faces))


def sphere_mesh(radius: float, around: int = 32) -> TriangleMesh:
    """A sphere about the origin."""
    angle = np.linspace(-np.pi / 2, np.pi / 2, around // 2 + 1)
    profile = np.stack([radius * np.cos(angle), radius * np.sin(angle)], axis=1)
    profile[[0, -1], 0] = 0.0
    return lathe_mesh(profile, around, closed_loop=False)


def tub_mesh(radius: float, height: float, wall: float, around: int = 48) -> TriangleMesh:
    """An open round vessel standing on y = 0: outer radius, height, wall and floor thickness."""
    inner = radius - wall
    profile = [(0, 0), (radius, 0), (radius, height), (inner, height), (inner, wall), (0, wall)]
    return lathe_mesh(np.array(profile, dtype=float), around, closed_loop=False)


def tube_mesh(radius: float, height: float, wall: float, around: int = 48) -> TriangleMesh:
    """A pipe open at both ends, from y = 0 to `height`."""
    inner = radius - wall
    profile = [(radius, 0), (radius, height), (inner, height), (inner, 0)]
    return lathe_mesh(np.array(profile, dtype=float), around, closed_loop=True)


def disc_mesh(radius: float, around: int = 32) -> TriangleMesh:
    """A flat disc in the plane y = 0 (open: only for viewing)."""
    return lathe_mesh(np.array([[0.0, 0.0], [radius, 0.0]]), around, closed_loop=False)


def slot_mesh(width: float, depth: float) -> TriangleMesh:
    """A flat rectangle in the plane y = 0 (open: only for viewing)."""
    x, z = width / 2, depth / 2
    corners = np.array([[-x, 0, -z], [-x, 0, z], [x, 0, z], [x, 0, -z]], dtype=float)
    return TriangleMesh(corners, np.array([[0, 1, 2], [0, 2, 3]], dtype=np.int32))


def torus_mesh(ring: float, radius: float, around: int = 64) -> TriangleMesh:
    """A torus about Y: radius of the ring and of the pipe."""
    angle = 2 * np.pi * np.arange(around) / around
    profile = np.stack([ring + radius * np.cos(angle), radius * np.sin(angle)], axis=1)
    return lathe_mesh(profile, around, closed_loop=True)
