"""Bricks: a surface is the same in bricks as in one box, and costs what it is large, not what its box is."""

from __future__ import annotations

from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy.spatial import cKDTree

from basin.surface import field
from basin.surface.field import Points, SurfaceFailure
from basin.surface.health import health
from basin.surface.level import Bricks, Field
from basin.surface.mesh import SurfaceFrame, Surroundings, surface_frame
from basin.surface.settings import ByCollider, ByThickness, Cut, Filter, SurfaceSettings
from tests.reference.test_surfacing import lattice, points


def floor(place: np.ndarray) -> np.ndarray:
    """Distance from a floor at -6."""
    return np.asarray(place[:, 1] + 6.0)


def scenery() -> Points:
    """A ball, a film on the floor, a loose sheet in the air, spray and specks, over 120 by 30 by 60 spacings."""
    rng = np.random.default_rng(5)
    ball = lattice(20, 20, 20)
    ball = ball[np.linalg.norm(ball, axis=1) < 9] + np.array([-45.0, 6, -20])
    film = np.stack(np.meshgrid(np.arange(-50, 50.1, 0.8), [-5.8], np.arange(-20, 25.1, 0.8), indexing="ij"), axis=-1)
    sheet = np.stack(np.meshgrid(np.arange(-20, 40.1, 0.9), [12.0], np.arange(-10, 20.1, 0.9), indexing="ij"), axis=-1)
    spray = rng.uniform([-60, 15, -30], [60, 24, 30], (150, 3))
    speck = np.array([50.0, 20, 0]) + lattice(1, 3, 1)
    loose = [part.reshape(-1, 3) for part in (film, sheet)]
    loose = [part + rng.uniform(-0.1, 0.1, part.shape) * [1, 0.3, 1] for part in loose]
    return points(np.concatenate([ball, *loose, spray, speck]))


class InBricks(SimpleTestCase):
    """Against the same in one box, whose own checks are in tests/reference and tests/basin/test_layers.py."""

    def made(self, settings: SurfaceSettings, bricks: bool) -> SurfaceFrame:
        around = Surroundings(domain=(np.full(3, -70.0), np.full(3, 70.0)), solids=floor, walls=floor)
        with mock.patch.multiple(field, IN_ONE_BOX=1 if bricks else 10**9, BRICK=32):
            return surface_frame(scenery(), 0.8, settings, around)

    def test_each_method_and_filter_makes_the_same_mesh(self) -> None:
        """Closed; 999 of 1000 vertices within a thousandth of a voxel, and all within a fiftieth.

        Rounding alone differs, but may tip a node that lies on the surface.
        """
        cut = Cut(by="plane", centre=(10, 0, 0), normal=(1, 0.2, 0), capped=True)
        several = [
            Filter(does="gaussian", width=1.0, mask=ByThickness(none=8, full=4)),
            Filter(does="median", width=1.0),
            Filter(does="curvature", width=1.0),
            Filter(does="mean", width=1.0, mask=ByCollider(none=6, full=2)),
        ]
        # more passes than a brick's rim could hold by itself
        grown = [Filter(width=1.0, repeats=12), Filter(does="grow", width=1.0), Filter(does="shrink", width=1.0)]
        for settings in (
            SurfaceSettings(colliders="remove"),
            SurfaceSettings(method="anisotropic", specks=5, filters=several),
            SurfaceSettings(method="averaged", filters=grown, cuts=[cut]),
            SurfaceSettings(method="spheres"),
        ):
            one, many = self.made(settings, False), self.made(settings, True)
            self.assertIsInstance(one.field, Field)
            self.assertIsInstance(many.field, Bricks)
            assert isinstance(many.field, Bricks)
            self.assertGreater(len(many.field.parts), 8)
            mine, his = health(many, 0.8, None), health(one, 0.8, None)
            for name in ("open_edges", "flipped"):
                self.assertEqual(mine[name], 0.0, settings.method)
            for name in ("layers", "spray"):
                self.assertEqual(mine.get(name), his.get(name), (settings.method, name))
            self.assertAlmostEqual(mine["triangles"] / his["triangles"], 1.0, delta=1e-3)
            self.assertAlmostEqual(mine["mesh_volume"] / his["mesh_volume"], 1.0, delta=1e-5)
            off, _ = cKDTree(one.position).query(many.position)
            self.assertLess(float(np.quantile(off, 0.999)), 1e-3 * 0.8, settings.method)
            self.assertLess(float(off.max()), 0.02 * 0.8, settings.method)

    def test_a_level_is_known_in_bricks_too(self) -> None:
        one, many = self.made(SurfaceSettings(), False).field, self.made(SurfaceSettings(), True).field
        assert one and many
        near = one.polygonised()[0]
        some = near + np.random.default_rng(2).uniform(-0.5, 0.5, near.shape)
        np.testing.assert_allclose(many.at(some), one.at(some), atol=1e-4)
        self.assertGreater(float(many.at(np.array([[0.0, 500.0, 0.0]]))[0]), 0.0)
        deep = one.deeper(1.0)
        self.assertEqual(len(many.deeper(1.0)), len(deep))

    def test_two_balls_far_apart_mesh_as_one_does(self) -> None:
        """60 m apart at 2 cm: 2e10 nodes lie between. Each volume within 1 % of 4/3 pi r^3 (Archimedes)."""
        h, radius = 0.02, 0.25
        ball = h * lattice(26, 26, 26)
        ball = ball[np.linalg.norm(ball, axis=1) < radius]
        place = np.concatenate([ball, ball + np.array([60.0, 35.0, 40.0])])
        share = 4 / 3 * np.pi * radius**3 / len(ball)
        still = np.zeros((len(place), 3), np.float32)
        both = Points(place.astype(np.float32), np.full(len(place), share, np.float32), h, {"velocity": still})
        mesh = surface_frame(both, h, SurfaceSettings())
        assert isinstance(mesh.field, Bricks)
        self.assertLess(sum(part.phi.size for part in mesh.field.parts), 30_000_000)
        found = health(mesh, h, float(both.volume.sum()))
        self.assertEqual(found["open_edges"], 0.0)
        self.assertLess(abs(found["volume_error"]), 0.01)

    def test_what_would_fill_the_memory_is_refused_in_words(self) -> None:
        with (
            mock.patch.multiple(field, IN_ONE_BOX=1, MOST_NODES=100_000),
            self.assertRaisesMessage(SurfaceFailure, "use a coarser voxel"),
        ):
            surface_frame(scenery(), 0.8, SurfaceSettings())
