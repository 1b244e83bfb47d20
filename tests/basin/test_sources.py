"""Where liquid comes from and what moves it: spread of particles, inflows, scaled colliders, STL."""

from __future__ import annotations

import struct
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase
from scipy.spatial import cKDTree

from basin.exchange import read_mesh, write_ply
from basin.geometry.primitives import box_mesh
from basin.grid.layout import PAD
from basin.liquid.sources import strewn
from basin.liquid.step import Liquid
from tests.reference.tanks import box_fill, liquid, position

LATTICE = np.stack(np.meshgrid(*[np.arange(24)] * 3, indexing="ij"), axis=-1).reshape(-1, 3)


class Strewn(SimpleTestCase):
    """Particles about lattice nodes: even along every axis, and never clumped."""

    def test_no_planes_along_any_axis(self) -> None:
        offset = strewn(LATTICE)
        self.assertLess(float(np.abs(offset).max()), 0.5001)
        for axis in range(3):
            share, _ = np.histogram((offset[:, axis] + 0.5) % 1.0, bins=4)
            self.assertLess(float(np.abs(share / len(offset) * 4 - 1).max()), 0.12)  # 24 nodes a side are few

    def test_neighbours_keep_their_distance(self) -> None:
        place = LATTICE + strewn(LATTICE)
        near = cKDTree(place).query(place, 2)[0][:, 1]
        random = LATTICE + np.random.default_rng(1).random(LATTICE.shape) - 0.5
        self.assertGreater(float(near.min()), 0.7)
        self.assertLess(float(cKDTree(random).query(random, 2)[0][:, 1].min()), 0.2)  # what is spared

    def test_a_node_has_its_place_whatever_is_asked_with_it(self) -> None:
        np.testing.assert_allclose(strewn(LATTICE)[100:200], strewn(LATTICE[100:200]), atol=1e-12)


def poured(shape: dict[str, Any], folder: Path | None = None, **more: Any) -> Liquid:
    """Nine frames of an inflow that falls through an open floor without gravity."""
    walls = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "open")
    element = {"kind": "inflow", "name": "spout", "shape": shape, "velocity": [0, -1.0, 0], **more}
    run = liquid(0.02, (0.6, 1.0, 0.6), [element], walls=walls, folder=folder, gravity=(0.0, 0.0, 0.0))
    for frame in range(2, 10):
        run.advance_frame(frame)
    return run


class Inflows(SimpleTestCase):
    """Flow is area times speed (continuity)."""

    def volume(self, run: Liquid) -> float:
        return float(run.state.particles.volume.sum()) * run.world.layout.dx**3

    def test_disc(self) -> None:
        run = poured({"kind": "disc", "radius": 0.1}, pose={"translation": [0.3, 0.8, 0.3]})
        expected = np.pi * 0.1**2 * (8 / 24 - run.state.dt_before)  # what passed by the last substep's start
        self.assertAlmostEqual(self.volume(run) / expected, 1.0, delta=0.05)
        self.assertLess(float(np.hypot(*(position(run)[:, [0, 2]] - 0.3).T).max()), 0.1 + 0.02)

    def test_mesh(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.2, 0.1, 0.16))
            write_ply(Path(name) / "spout.ply", mesh.position, mesh.triangle, None)
            shape = {"kind": "mesh", "file": "spout.ply"}
            run = poured(shape, Path(name), pose={"translation": [0.3, 0.8, 0.3]})
        expected = 0.2 * 0.16 * (0.1 + 8 / 24 - run.state.dt_before)  # the mesh's own filling, then the flow
        self.assertAlmostEqual(self.volume(run) / expected, 1.0, delta=0.05)

    def test_it_closes(self) -> None:
        run = poured({"kind": "disc", "radius": 0.1}, pose={"translation": [0.3, 0.8, 0.3]}, end=0.1)
        self.assertAlmostEqual(self.volume(run) / (np.pi * 0.1**2 * 0.1), 1.0, delta=0.08)


class ScaledCollider(SimpleTestCase):
    """A keyed scale: the surface moves with the rate of the radius, and pushes the liquid."""

    def test_growing_sphere(self) -> None:
        dx = 0.02
        keys = [{"time": 0.0, "value": 1.0, "segment": "linear"}, {"time": 1.0, "value": 2.0}]
        ball = {
            "kind": "collider",
            "name": "ball",
            "shape": {"kind": "sphere", "radius": 0.1},
            "pose": {"translation": [0.3, 0.3, 0.3], "scale": {"keys": keys}},
        }
        run = liquid(dx, (0.6, 0.8, 0.6), [ball, box_fill((0, 0, 0), (0.6, 0.5, 0.6))])
        solids = run.solid_world.at(run.fields(0.0).tiles, 0.5, 0.01)
        middle = PAD + 15
        radius = 0.15 / dx
        line = solids.tiles.dense(solids.phi)[middle:, middle, middle]
        crossing = np.flatnonzero(line > 0)[0]
        at = crossing - line[crossing] / (line[crossing] - line[crossing - 1])
        self.assertAlmostEqual(float(at), radius, delta=0.05)
        # d(0.1 m (1 + t))/dt = 0.1 m/s at the surface
        speed = solids.motion[0] @ np.array([middle + radius, middle, middle, 1.0])
        self.assertAlmostEqual(float(speed[0]) * dx, 0.1, delta=0.002)
        for frame in range(2, 14):
            run.advance_frame(frame)
        # half a second: 4/3 pi (0.15^3 - 0.1^3) m3 of water lifted over 0.36 m2 (Archimedes)
        place = position(run)
        inside = np.linalg.norm(place - 0.3, axis=1) < 0.145
        self.assertEqual(int(inside.sum()), 0)
        height = np.average(place[:, 1], weights=run.state.particles.volume)
        self.assertGreater(float(height), 0.25)


class Stl(SimpleTestCase):
    """Binary STL (the format's published layout: 80 bytes, count, 50 bytes a triangle)."""

    def test_welded_and_closed(self) -> None:
        mesh = box_mesh((2.0, 1.0, 0.5))
        corners = mesh.position[mesh.triangle].astype("<f4")
        body = b"".join(struct.pack("<3f", 0, 0, 0) + c.tobytes() + b"\0\0" for c in corners)
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "stone.stl"
            path.write_bytes(b"\0" * 80 + struct.pack("<I", len(corners)) + body)
            found = read_mesh(path)
        self.assertEqual(len(found.triangle), len(mesh.triangle))
        self.assertEqual(found.open_edges(), 0)
        np.testing.assert_allclose(np.subtract(*found.bounds()[::-1]), [2.0, 1.0, 0.5], atol=1e-6)
