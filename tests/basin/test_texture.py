"""Texture coordinates that travel with the liquid."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.liquid import texture
from basin.scene import SceneError, parse_scene
from basin.stages.run import run
from tests.reference.tanks import box_fill, liquid


class Clock(SimpleTestCase):
    """When rest positions are renewed, and what they count."""

    def test_weight_is_nothing_where_one_is_renewed(self) -> None:
        for clock in (2, 6, 24):
            for n in range(1, 3 * clock):
                share = texture.second_share(n, clock)
                which = texture.renewed(n, clock)
                self.assertTrue(0 <= share <= 1)
                if 0 in which:
                    self.assertEqual(1 - share, 0)
                if 1 in which:
                    self.assertEqual(share, 0)

    def test_each_is_renewed_once_a_clock_half_of_it_apart(self) -> None:
        self.assertEqual([n for n in range(1, 25) if 0 in texture.renewed(n, 8)], [8, 16, 24])
        self.assertEqual([n for n in range(1, 25) if 1 in texture.renewed(n, 8)], [4, 12, 20])
        self.assertEqual(texture.renewed(0, 8), [0, 1])

    def test_an_odd_clock_is_refused(self) -> None:
        with self.assertRaisesRegex(SceneError, "texture_clock is odd"):
            parse_scene({"format": "zinc-scene/1", "liquid": {"texture_clock": 7}})


class Travelling(SimpleTestCase):
    """Rest positions are where particles were, on particles and on the surface."""

    def test_free_fall(self) -> None:
        """A block that falls freely: the way from its rest position is that of its fall since then, g t^2 / 2."""
        block = box_fill((0.1, 3.6, 0.1), (0.3, 3.8, 0.3))
        run_of = liquid(0.02, (0.4, 4.0, 0.4), [block], texture_clock=8)
        for frame in range(2, 8):
            run_of.advance_frame(frame)
        carried = run_of.state.particles.carried
        now = run_of.world.layout.to_metres(run_of.state.particles.position)
        g, t, since = 9.80665, 6 / 24, 4 / 24
        first, second = now - carried[:, :3], now - carried[:, 3:]
        np.testing.assert_allclose(first[:, 1].mean(), -g * t**2 / 2, rtol=0.02)
        np.testing.assert_allclose(second[:, 1].mean(), -g * (t**2 - since**2) / 2, rtol=0.02)
        self.assertLess(float(np.abs(first[:, [0, 2]]).max()), 0.002)

    def test_frames_and_surfaces_carry_them(self) -> None:
        with tempfile.TemporaryDirectory() as holding:
            scene = parse_scene(
                {
                    "format": "zinc-scene/1",
                    "time": {"last": 4},
                    "domain": {"low": [0, 0, 0], "size": [0.4, 0.4, 0.4]},
                    "liquid": {"voxel_size": 0.02, "texture_clock": 4, "band": 3.0},
                    "elements": [box_fill((0, 0, 0), (0.2, 0.3, 0.4), paint={"kind": "gradient"})],
                }
            )
            cache = Cache(Path(holding))
            for _ in run(scene, Path(holding), cache):
                pass
            points, surface = cache.stage("liquid").frame(4), cache.stage("surface").frame(4)
            self.assertEqual(points["colour"].shape, points["rest_a"].shape)
            self.assertEqual(float(points["rest_share"]), texture.second_share(3, 4))
            # those that rose from below the band too are no farther from rest than a dam's front can go (Ritter 1892)
            way = np.linalg.norm(points["position"] - points["rest_a"], axis=1)
            self.assertLess(float(way.max()), 2 * np.sqrt(9.80665 * 0.3) * 3 / 24)
            # a surface vertex rests where the particles beside it rest: the nearest is up to half a voxel off, and
            # what the liquid has moved changes by as much where it is drawn out
            place, rest = surface["position"], surface["rest_a"]
            middle = place[:, 1] > 0.1
            near = np.linalg.norm(points["position"][None] - place[middle][::50, None], axis=2).argmin(axis=1)
            off = points["rest_a"][near] - points["position"][near]
            self.assertLess(float(np.abs(rest[middle][::50] - place[middle][::50] - off).mean()), 0.01)
