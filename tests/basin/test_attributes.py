"""What vertices of a surface carry, against fields that are known."""

from __future__ import annotations

import tempfile
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from django.test import SimpleTestCase
from scipy.spatial import cKDTree

from basin.cache import Cache
from basin.scene import parse_scene
from basin.stages.run import run
from basin.surface.attributes import fitted, vertex_attributes
from basin.surface.field import Points
from basin.surface.health import health
from basin.surface.mesh import SurfaceFrame, surface_frame
from basin.surface.settings import SurfaceSettings

SPACING = 0.02
SLOPE = np.array([[1.0, 2.0, -0.5], [0.3, -2.0, 4.0], [-3.0, 0.7, 1.0]])  # row = component, per metre
FLOW = np.array([0.1, -0.2, 0.3])


def ball(radius: float = 0.2) -> np.ndarray:
    """Particles strewn in a ball (n, 3)."""
    line = np.arange(-radius, radius, SPACING) + SPACING / 2
    place = np.stack(np.meshgrid(line, line, line, indexing="ij"), axis=-1).reshape(-1, 3)
    place += np.random.default_rng(5).uniform(-0.3, 0.3, place.shape) * SPACING
    return place[np.linalg.norm(place, axis=1) < radius]


def meshed(place: np.ndarray, carried: dict[str, np.ndarray]) -> SurfaceFrame:
    volume = np.full(len(place), SPACING**3, np.float32)
    return surface_frame(
        Points(place.astype(np.float32), volume, SPACING, carried), SPACING, SurfaceSettings(hold_volume=False)
    )


class LinearFields(SimpleTestCase):
    """Moving least squares of first order give linear fields back exactly (Lancaster & Salkauskas 1981)."""

    def setUp(self) -> None:
        self.place = ball()
        carried = {
            "velocity": (self.place @ SLOPE.T + FLOW).astype(np.float32),
            "mark": (self.place[:, 0] * 3 + 1).astype(np.float32),
            "id": np.arange(len(self.place), dtype=np.uint32),
        }
        self.frame = meshed(self.place, carried)

    def test_velocity_and_vorticity_of_a_linear_flow(self) -> None:
        at = self.frame.position.astype(float)
        found = self.frame.attributes
        self.assertGreater(len(at), 1000)
        # the surface lies up to half a spacing outside of the particles, where means are off by that times the slope
        np.testing.assert_allclose(found["velocity"], at @ SLOPE.T + FLOW, atol=2e-5)
        curl = [SLOPE[2, 1] - SLOPE[1, 2], SLOPE[0, 2] - SLOPE[2, 0], SLOPE[1, 0] - SLOPE[0, 1]]
        np.testing.assert_allclose(found["vorticity"], np.linalg.norm(curl), rtol=2e-4)

    def test_marks_stay_within_what_particles_have(self) -> None:
        mark, own = self.frame.attributes["mark"], self.place[:, 0] * 3 + 1
        at = np.clip(self.frame.position[:, 0] * 3 + 1, own.min(), own.max())
        np.testing.assert_allclose(mark, at, atol=2e-5)

    def test_ids_are_those_of_the_nearest(self) -> None:
        _, near = cKDTree(self.place).query(self.frame.position.astype(float))
        same = self.frame.attributes["id"] == near
        self.assertGreater(float(same.mean()), 0.999)  # but for ties in single precision

    def test_particles_in_a_plane_tell_no_slope(self) -> None:
        axis = np.arange(6) * SPACING
        flat = np.stack(np.meshgrid(axis, axis, [0.0], indexing="ij"), axis=-1).reshape(-1, 3)
        value = (flat[:, :1] * 5).astype(np.float32)
        above = np.array([[0.05, 0.05, 0.9 * SPACING]])
        mean, slope, _ = fitted(above, flat, value, 2 * SPACING)
        self.assertLess(float(mean[0, 0]), value.max())
        self.assertEqual(float(np.abs(slope).max()), 0.0)

    def test_far_away_the_nearest_particle_counts(self) -> None:
        flow = np.array([[1.0, 2.0, 3.0], [4.0, 5.0, 6.0]], np.float32)
        place = np.array([[0.0, 0, 0], [9.0, 0, 0]])
        found = vertex_attributes(np.array([[5.0, 1.0, 0.0]]), place, {"velocity": flow}, 0.1)
        np.testing.assert_array_equal(found["velocity"], flow[1:])


class Health(SimpleTestCase):
    """Readings of a mesh tell what was done to it."""

    def setUp(self) -> None:
        place = ball()
        self.whole = meshed(place, {"velocity": np.zeros((len(place), 3), np.float32)})
        self.liquid = len(place) * SPACING**3

    def told(self, triangle: np.ndarray, position: np.ndarray | None = None) -> dict[str, float]:
        place = self.whole.position if position is None else position
        return health(SurfaceFrame(place, triangle, {}), SPACING, self.liquid)

    def test_sound_mesh(self) -> None:
        told = self.told(self.whole.triangle)
        mesh = trimesh.Trimesh(self.whole.position, self.whole.triangle, process=False)
        self.assertTrue(mesh.is_watertight and mesh.is_winding_consistent)  # trimesh's own judgement
        self.assertEqual((told["open_edges"], told["flipped"], told["degenerate"]), (0, 0, 0))
        self.assertAlmostEqual(told["mesh_volume"] / mesh.volume, 1.0, places=5)
        self.assertAlmostEqual(told["volume_error"], mesh.volume / self.liquid - 1, places=5)
        self.assertLess(abs(told["volume_error"]), 0.05)

    def test_hole_turned_and_collapsed_triangles(self) -> None:
        triangle = self.whole.triangle
        self.assertEqual(self.told(triangle[1:])["open_edges"], 3)
        turned = triangle.copy()
        turned[7] = turned[7, ::-1]
        self.assertEqual(self.told(turned)["flipped"], 3)
        place = self.whole.position.copy()
        place[triangle[5, 1]] = place[triangle[5, 0]]
        self.assertGreaterEqual(self.told(triangle, place)["degenerate"], 2)
        self.assertEqual(self.told(np.zeros((0, 3), np.int32)), {"triangles": 0.0})


class SlowMotion(SimpleTestCase):
    """Velocities are per shot second: what a vertex does till the next frame, at a tenth of the speed too."""

    def test_velocity_leads_to_the_next_frame(self) -> None:
        drop: dict[str, Any] = {
            "kind": "fill",
            "name": "drop",
            "shape": {"kind": "sphere", "radius": 0.1},
            "pose": {"translation": [0.3, 0.6, 0.4]},
            "velocity": [0.4, -0.2, 0.0],
            "paint": {"kind": "gradient", "along": "x"},
        }
        document = {
            "format": "zinc-scene/1",
            "time": {"last": 4, "time_scale": 0.1},
            "domain": {"low": [0, 0, 0], "size": [0.8, 0.8, 0.8]},
            "liquid": {"voxel_size": 0.02},
            "quality": {"draft": 1, "proof": 1},
            "elements": [drop],
        }
        with tempfile.TemporaryDirectory() as name:
            cache = Cache(Path(name))
            list(run(parse_scene(document), Path(name), cache))
            frames = [dict(cache.stage("surface").frame(n)) for n in (2, 3, 4)]
        centre = [trimesh.Trimesh(f["position"], f["triangle"], process=False).center_mass for f in frames]
        for n, (now, later) in enumerate(pairwise(centre)):
            led = now + frames[n]["velocity"].mean(axis=0) / 24
            np.testing.assert_allclose(led, later, atol=2e-4)  # it goes 19 mm a frame
            self.assertGreater(float(np.linalg.norm(later - now)), 0.018)
        for frame in frames:  # the drop carries its gradient with it
            lean = np.polyfit(frame["position"][:, 0], frame["mark"], 1)[0]
            self.assertAlmostEqual(lean * 0.2, 1.0, delta=0.05)
            self.assertLessEqual({"vorticity", "born", "source", "id", "colour"}, set(frame))
