"""What gestures are told: what forces do, when vessels are full, what domain fits, and how long things last."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase
from scipy import ndimage

from basin.exchange import write_ply
from basin.geometry.primitives import sphere_mesh
from basin.liquid.step import Liquid
from basin.scene import Collider, Scene, parse_scene
from basin.scene.liquids import LIQUIDS
from basin.scene.rescale import lasting, rescaled
from basin.settings import Curve
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles
from basin.stages.gestures import room
from basin.stages.gestures.filling import Filling, NotFilled, filling, solved
from basin.stages.gestures.fit import fitted
from basin.stages.gestures.flight import MOST_NODES, flight, kept_distance
from basin.stages.gestures.pushes import pushes
from tests.basin.test_setting_up import G, scene_with, spout

FILES = SceneFiles(Path("."))
LOW, HIGH = [0, 1.5, 0], [0, -0.5, 0]
TUB = {"kind": "collider", "name": "Tub", "shape": {"kind": "tub", "radius": 0.33, "height": 0.5, "wall": 0.03}}
HELD = np.pi * 0.3**2  # m2 that the tub's inside measures across


def force(effect: dict[str, Any], **more: Any) -> Scene:
    """A scene with a force half a metre up."""
    return scene_with(
        [{"kind": "force", "name": "Push", "effect": effect, "pose": {"translation": [0, 0.5, 0]}, **more}]
    )


class Pushes(SimpleTestCase):
    """Lines follow the force that the solver gives."""

    def lines(self, scene: Scene) -> list[np.ndarray]:
        return [np.array(line) for line in pushes(scene, 0, 1, "draft").lines]

    def test_a_vortex_goes_round_its_axis(self) -> None:
        for line in self.lines(force({"kind": "vortex", "strength": 3.0})):
            far = np.hypot(line[:, 0], line[:, 2])
            self.assertLess(float(np.ptp(far)), 0.02 * float(far.mean()) + 1e-4)
            self.assertLess(float(np.ptp(line[:, 1])), 1e-4)
            turned = np.cross(line[0], line[1])[1]
            self.assertGreater(turned, 0)  # from z to x: right-handed about Y

    def test_an_attraction_draws_in_and_below_nothing_pushes_away(self) -> None:
        for sign in (1, -1):
            for line in self.lines(force({"kind": "attraction", "strength": 5.0 * sign, "core": 0.02})):
                far = np.linalg.norm(line - [0, 0.5, 0], axis=1)
                if far[0] > 0.3:
                    self.assertLess(sign * float(far[-1] - far[0]), 0)

    def test_its_strength_is_the_settings_and_nothing_acts_outside_of_its_zone_or_time(self) -> None:
        zone = {"kind": "sphere", "radius": 0.2}
        found = pushes(force({"kind": "vortex", "strength": 3.0}, zone=zone, softness=0.0), 0, 1, "draft")
        self.assertAlmostEqual(found.strongest, 3.0, places=5)
        for line in found.lines:
            self.assertLess(float(np.linalg.norm(np.array(line[0]) - [0, 0.5, 0])), 0.2 + 1e-6)
        self.assertEqual(pushes(force({"kind": "vortex"}, start=1.0), 0, 1, "draft").lines, [])

    def test_wind_blows_along(self) -> None:
        for line in self.lines(force({"kind": "wind", "velocity": [0, 0, 4]})):
            self.assertLess(float(np.abs(line[:, :2] - line[0, :2]).max()), 1e-4)
            self.assertGreater(float(line[-1, 2]), float(line[0, 2]))


class WhenFull(SimpleTestCase):
    """Volume over rate, after the time of flight (conservation of volume; free fall)."""

    def full(self, scene: Scene, level: float | None = None) -> Filling:
        found = filling(scene, FILES, 0, "final", level)
        assert found
        return found

    def test_a_tub_under_a_tap(self) -> None:
        scene = scene_with([spout(LOW, HIGH, amount="flow", flow=20.0), TUB])
        found = self.full(scene)
        self.assertEqual((found.vessel, found.open), ("Tub", ""))
        litres = HELD * (0.5 - 0.03) * 1000
        self.assertAlmostEqual(found.litres / litres, 1.0, delta=0.05)
        self.assertAlmostEqual(found.runs_over or 0, 0.5, delta=0.03)
        way = flight(scene, FILES, 0, "final")
        assert way
        assert found.full
        self.assertAlmostEqual(found.full, found.litres / 20.0 + way.time, delta=0.02)
        self.assertEqual(found.frame, int(np.ceil(1 + 24 * found.full - 1e-6)))

    def test_half_of_it_takes_half_as_long_and_what_is_there_counts(self) -> None:
        scene = scene_with([spout(LOW, HIGH, amount="flow", flow=20.0), TUB])
        half = self.full(scene, 0.03 + 0.235)
        self.assertAlmostEqual(half.litres / (HELD * 235), 1.0, delta=0.05)
        water = {"kind": "fill", "name": "Water", "shape": {"kind": "box", "size": [0.7, 0.2, 0.7]}}
        water["pose"] = {"translation": [0, 0.13, 0]}
        begun = self.full(scene_with([spout(LOW, HIGH, amount="flow", flow=20.0), TUB, water]))
        self.assertAlmostEqual(begun.litres / (HELD * (0.47 - 0.2) * 1000), 1.0, delta=0.06)

    def test_a_flow_by_keys_is_added_up(self) -> None:
        keys = {"keys": [{"time": t, "value": v, "segment": "linear"} for t, v in ((0, 0), (2, 40), (90, 40))]}
        found = self.full(scene_with([spout(LOW, HIGH, amount="flow", flow=keys), TUB]))
        assert found.stops
        # 40 l in the first two seconds (a triangle), then 40 l/s
        self.assertAlmostEqual(found.stops, 2 + (found.litres - 40) / 40, delta=0.02)

    def test_an_end_set_to_when_it_is_full_is_enough(self) -> None:
        found = self.full(scene_with([spout(LOW, HIGH, amount="flow", flow=20.0), TUB]))
        assert found.stops
        ended = scene_with([spout(LOW, HIGH, amount="flow", flow=20.0, end=round(found.stops - 4e-5, 4)), TUB])
        self.assertEqual(self.full(ended).frame, found.frame)
        early = scene_with([spout(LOW, HIGH, amount="flow", flow=20.0, end=round(0.9 * found.stops, 4)), TUB])
        self.assertIsNone(self.full(early).full)

    def test_the_other_way_round(self) -> None:
        for given in ({"amount": "flow", "flow": 20.0}, {}):
            scene = scene_with([spout(LOW, HIGH, **given), TUB])
            with self.subTest(given):
                document = scene.model_dump(mode="json")
                document["elements"][0] = solved(scene, FILES, 0, "final", "full", 4.0)
                self.assertAlmostEqual(self.full(parse_scene(document)).full or 0, 4.0, delta=0.03)
        scene = scene_with([spout(LOW, HIGH, amount="flow", flow=20.0), TUB])
        self.assertEqual(solved(scene, FILES, 0, "final", "rate", 5.0)["flow"], 5.0)
        with self.assertRaisesRegex(NotFilled, "arrive first"):
            solved(scene, FILES, 0, "final", "full", 0.05)

    def test_rate_speed_and_litres_of_a_velocity(self) -> None:
        scene = scene_with([spout(LOW, HIGH), TUB])
        way = flight(scene, FILES, 0, "final")
        assert way
        for given, value, factor in (
            ("speed", 1.0, 2.0),
            ("rate", 3 * way.litres_per_second, 3.0),
            ("litres", 0.5 * way.litres, 0.5),
        ):
            found = solved(scene, FILES, 0, "final", given, value)["velocity"]  # type: ignore[arg-type]
            np.testing.assert_allclose(found, np.array(HIGH) * factor, atol=1e-4)

    def test_what_runs_out_never_fills(self) -> None:
        bottomless = {**TUB, "shape": {"kind": "tube", "radius": 0.33, "height": 0.5, "wall": 0.03}}
        bottomless["pose"] = {"translation": [0, 0.2, 0]}
        found = filling(scene_with([spout([0.31, 1.5, 0], HIGH), bottomless]), FILES, 0, "final")
        assert found
        self.assertTrue(found.open)
        self.assertIsNone(found.full)

    def test_litres_in_all_and_slopes_of_keys_go_along(self) -> None:
        total = scene_with([spout(LOW, HIGH, amount="total", total=200.0, end=8.0), TUB])
        document = total.model_dump(mode="json")
        document["elements"][0] = solved(total, FILES, 0, "final", "full", 4.0)
        self.assertEqual(document["elements"][0]["end"], 8.0)
        self.assertAlmostEqual(self.full(parse_scene(document)).full or 0, 4.0, delta=0.05)
        keys = [{"time": t, "value": 10.0 + 5 * t, "slope": 5.0} for t in (0.0, 4.0)]
        swelling = scene_with([spout(LOW, HIGH, amount="flow", flow={"keys": keys}), TUB])
        twice = solved(swelling, FILES, 0, "final", "rate", 20.0)["flow"]["keys"]
        self.assertEqual([(k["value"], k["slope"]) for k in twice], [(20.0, 10.0), (60.0, 10.0)])


class Fits(SimpleTestCase):
    """A domain about all that liquid can be at, and no larger."""

    def test_it_holds_what_flies_and_what_moves(self) -> None:
        keys = {"keys": [{"time": 0, "value": [-0.5, 0.3, 0]}, {"time": 1, "value": [0.6, 0.3, 0]}]}
        plate = {"kind": "collider", "name": "Plate", "shape": {"kind": "box", "size": [0.2, 0.1, 0.2]}}
        scene = scene_with([spout(LOW, HIGH), {**plate, "pose": {"translation": keys}}])
        found = fitted(scene, FILES, "final")
        assert found
        low, high = np.array(found.low), np.array(found.low) + np.array(found.size)
        self.assertLess(low[0], -0.6)
        self.assertGreater(high[0], 0.7)
        self.assertGreater(high[1], 1.5)
        self.assertEqual(found.kept, ["y_min"])  # the floor is closed, and liquid falls to it
        self.assertEqual(low[1], scene.domain.low[1])
        self.assertEqual(found.voxels, int(np.prod(np.round((high - low) / 0.02))))

    def test_walls_that_hold_liquid_stay(self) -> None:
        pool = {"kind": "fill", "name": "Pool", "shape": {"kind": "box", "size": [2, 0.4, 2]}}
        domain = {"low": [-1, 0, -1], "size": [2, 2, 2], "walls": {"y_max": "open"}}
        scene = scene_with([{**pool, "pose": {"translation": [0, 0.2, 0]}}], domain=domain)
        found = fitted(scene, FILES, "final")
        assert found
        self.assertEqual(found.kept, ["x_min", "x_max", "y_min", "z_min", "z_max"])
        self.assertLess(found.size[1], scene.domain.size[1])

    def test_nothing_has_no_size(self) -> None:
        self.assertIsNone(fitted(scene_with([]), FILES, "final"))


class Lasting(SimpleTestCase):
    """Froude similarity (R. S. Froude 1874; any textbook of fluid mechanics): times go by the root of lengths."""

    def test_four_times_as_large_lasts_twice_as_long(self) -> None:
        self.assertEqual(lasting(1.5, 3.0), 4.0)
        self.assertAlmostEqual(lasting(1.0, 8.0, "weber"), 4.0)
        self.assertAlmostEqual(lasting(1.0, 16.0, "reynolds"), 4.0)
        with self.assertRaisesRegex(ValueError, "times as large"):
            lasting(1e-3, 10.0)
        scene = scene_with([spout(LOW, HIGH, amount="flow", flow=2.0, start=0.5), TUB])
        larger = rescaled(scene, 4.0)
        inflow = larger.elements[0]
        self.assertEqual(inflow.pose.translation, (0.0, 6.0, 0.0))
        self.assertEqual(inflow.velocity, (0.0, -1.0, 0.0))
        self.assertEqual((inflow.flow, inflow.start), (2.0 * 4**2.5, 1.0))
        self.assertEqual(larger.elements[1].shape.radius, 4 * 0.33)
        self.assertEqual(larger.liquid.voxel_size, 4 * scene.liquid.voxel_size)
        self.assertEqual(larger.liquid.gravity, scene.liquid.gravity)
        self.assertEqual(larger.time.last - 1, 2 * (scene.time.last - 1))

    def test_a_stream_arrives_twice_as_late_at_the_scaled_place(self) -> None:
        scene = scene_with([spout([-0.8, 0.8, 0], [1.2, 0, 0]), {**TUB, "pose": {"translation": [0.1, 0, 0]}}])
        before, after = (flight(s, FILES, 0, "draft") for s in (scene, rescaled(scene, 4.0)))
        assert before
        assert after
        self.assertAlmostEqual(after.time, 2 * before.time, delta=0.02)
        np.testing.assert_allclose(after.path[-1], 4 * np.array(before.path[-1]), atol=0.05)
        self.assertAlmostEqual(after.litres_per_second, before.litres_per_second * 4**2.5, delta=0.01)
        self.assertEqual(after.met, before.met)

    def test_keys_slopes_and_what_is_attached_to_a_mesh(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            mesh = sphere_mesh(0.1)
            write_ply(Path(folder) / "ladle.ply", mesh.position, mesh.triangle)
            keys = [{"time": t, "value": [x, 1, 0], "slope": [2.0, 0, 0]} for t, x in ((0, 0), (1, 0.5))]
            ladle = {"kind": "collider", "name": "Ladle", "shape": {"kind": "mesh", "file": "ladle.ply"}}
            ladle["pose"] = {"translation": {"keys": keys}, "scale": 1.5}
            tap = spout([0.1, 0.2, 0], HIGH, attached="Ladle")
            scene = scene_with([ladle, tap])
            larger = rescaled(scene, 4.0)
            for time in (0.0, 0.3, 1.0):
                for n in range(2):
                    was = scene.placement(scene.elements[n]).matrix(time)
                    now = larger.placement(larger.elements[n]).matrix(2 * time)
                    np.testing.assert_allclose(now[:3, 3], 4 * was[:3, 3], atol=1e-6)
            # a mesh is four times as large by its pose; a disc by its radius
            self.assertEqual(larger.elements[0].pose.scale, 6.0)
            own = larger.placement(larger.elements[1]).matrix(0.0)
            was = scene.placement(scene.elements[1]).matrix(0.0)
            np.testing.assert_allclose(own[:3, :3], was[:3, :3], atol=1e-9)
            self.assertEqual(larger.elements[1].shape.radius, 4 * 0.03)
            back = rescaled(larger, 0.25)
            self.assertEqual(back.model_dump(), scene.model_dump())


class Alike(SimpleTestCase):
    """Liquid that looks alike where it is larger or slower: the same way of every particle."""

    @staticmethod
    def splash(**more: Any) -> dict[str, Any]:
        """A block that falls to a floor, thick, and with tension enough to show."""
        fill = {"kind": "fill", "name": "a", "shape": {"kind": "box", "size": [0.06, 0.06, 0.06]}}
        own = {"viscosity": 4.0, "surface_tension": 1.5, "velocity": [0.3, -0.2, 0.0]}
        pose = {"translation": [0.08, 0.06, 0.08]}
        return {
            "format": "zinc-scene/1",
            "time": {"first": 1, "last": 9},
            "domain": {"low": [0, 0, 0], "size": [0.16, 0.16, 0.16]},
            "liquid": {"voxel_size": 0.01, "substeps_min": 8, "substeps_max": 8},
            "elements": [{**fill, **own, "pose": pose, **more}],
        }

    @staticmethod
    def way(scene: Scene, seconds: float) -> dict[int, np.ndarray]:
        """Places in voxels after so many shot seconds, by particles' numbers."""
        run = Liquid(liquid_world(scene, FILES, "final"))
        run.begin()
        for frame in range(2, round(seconds * scene.time.fps) + 2):
            run.advance_frame(frame)
        p = run.state.particles
        return dict(zip(p.id.tolist(), p.position.astype(float), strict=True))

    def apart(self, one: dict[int, np.ndarray], other: dict[int, np.ndarray]) -> tuple[float, float]:
        """How far the middles of two runs are from each other, and, RMS, the particles that both have (voxels)."""
        both = sorted(set(one) & set(other))
        self.assertGreater(len(both), 0.98 * len(one))
        off = np.array([one[n] - other[n] for n in both])
        return float(np.linalg.norm(off.mean(axis=0))), float(np.sqrt((off**2).sum(axis=1).mean()))

    def test_four_times_as_large_with_a_liquid_to_match(self) -> None:
        """Case H02, with Reynolds and Weber numbers kept too: its middle within 1e-3 of its size, 6 voxels."""
        scene = parse_scene(self.splash())
        larger = rescaled(scene, 4.0, alike=True)
        made = larger.elements[0]
        self.assertEqual((made.viscosity, made.surface_tension), (4.0 * 8, 1.5 * 16))
        # twice as long, so half as many frames a second show the same moments
        larger = larger.model_copy(update={"time": larger.time.model_copy(update={"fps": scene.time.fps / 2})})
        before, after = self.way(scene, 0.25), self.way(larger, 0.5)
        middle, each = self.apart(before, after)
        self.assertLess(middle, 6e-3)
        self.assertLess(each, 0.1)
        other = rescaled(scene, 4.0)
        other = other.model_copy(update={"time": larger.time})
        self.assertGreater(self.apart(before, self.way(other, 0.5))[1], 0.3)

    def test_the_same_liquid_keeps_its_weber_or_its_reynolds_number(self) -> None:
        """Without weight: times by k^1.5 with tension alone, by k^2 with viscosity alone (dimensions)."""
        for keeps, own in (("weber", {"viscosity": 0.0}), ("reynolds", {"surface_tension": 0.0, "viscosity": 8.0})):
            with self.subTest(keeps):
                document = self.splash(**own)
                document["liquid"]["gravity"] = [0, 0, 0]
                scene = parse_scene(document)
                larger = rescaled(scene, 4.0, keeps=keeps)
                slower = 8.0 if keeps == "weber" else 16.0
                self.assertAlmostEqual(larger.elements[0].velocity[0], 0.3 * 4 / slower)
                time = larger.time.model_copy(update={"fps": scene.time.fps / slower})
                larger = larger.model_copy(update={"time": time})
                before, after = self.way(scene, 0.25), self.way(larger, 0.25 * slower)
                middle, each = self.apart(before, after)
                self.assertLess(middle, 6e-3)
                self.assertLess(each, 0.1)
                with self.assertRaisesRegex(ValueError, "all three"):
                    rescaled(scene, 4.0, alike=True, keeps=keeps)

    def test_named_liquids_and_those_that_thin(self) -> None:
        """Stress goes as size, and is viscosity * rate ^ index; a named one's numbers go over to another density."""
        scene = parse_scene(self.splash(liquid="ketchup 20 C"))
        made, own = rescaled(scene, 4.0, alike=True).elements[0], LIQUIDS["ketchup 20 C"]
        over = scene.liquid.density / own.density
        self.assertEqual((made.liquid, made.flow_index), ("own numbers", own.flow_index))
        self.assertAlmostEqual(made.viscosity / (own.viscosity * over * 4**1.15), 1.0, places=7)
        self.assertAlmostEqual(made.yield_stress / (own.yield_stress * over * 4), 1.0, places=7)
        self.assertEqual(rescaled(scene, 4.0).elements[0].liquid, "ketchup 20 C")

    def test_slower_is_gravity_speeds_tension_and_viscosity(self) -> None:
        """Time s as fast: as gravity s^2 g, speeds s v, tension s^2 sigma and viscosity s mu (dimensions)."""
        s = 0.5
        slow = self.splash()
        slow["time"]["time_scale"] = s
        # speeds of a scene are as seen, so those of liquid seconds are s times as large with half the time
        same = self.splash(viscosity=4.0 * s, surface_tension=1.5 * s * s)
        same["liquid"]["gravity"] = [0, -G * s * s, 0]
        a, b = self.way(parse_scene(slow), 0.25), self.way(parse_scene(same), 0.25)
        middle, each = self.apart(a, b)
        self.assertLess(middle, 6e-3)
        self.assertLess(each, 0.1)


class Slopes(SimpleTestCase):
    """Cubic Hermite segments: value and slope at both ends (textbook)."""

    def test_given_slopes_are_met_and_others_stay(self) -> None:
        keys = [{"time": 0.0, "value": 0.0}, {"time": 1.0, "value": 1.0, "slope": 3.0}, {"time": 3.0, "value": 0.5}]
        bent, plain = Curve(keys=keys), Curve(keys=[{**k, "slope": None} for k in keys])
        h = 1e-6

        def slope(curve: Curve, time: float) -> float:
            return float((curve.at(time + h) - curve.at(time - h))[0] / (2 * h))

        self.assertAlmostEqual(slope(bent, 1.0), 3.0, delta=1e-3)
        self.assertAlmostEqual(slope(bent, 2e-6), slope(plain, 2e-6), delta=1e-3)
        for time in (0.0, 1.0, 3.0):
            self.assertAlmostEqual(float(bent.at(time)[0]), float(plain.at(time)[0]), places=9)
        # a free fall is a parabola, which a cubic with its slopes holds exactly
        fall = [{"time": t, "value": -G / 2 * t * t, "slope": -G * t} for t in (0.0, 1.0)]
        self.assertAlmostEqual(float(Curve(keys=fall).at(0.4)[0]), -G / 2 * 0.16, places=9)

    def test_slopes_are_of_the_kind_of_the_value(self) -> None:
        with self.assertRaisesRegex(ValueError, "both numbers or both vectors"):
            Curve(keys=[{"time": 0.0, "value": 0.0, "slope": [1.0, 0.0, 0.0]}])


class Bounded(SimpleTestCase):
    """Whatever is typed, what a check looks at has a bounded size and is looked at once: a person waits for it."""

    def test_a_far_too_fine_voxel(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            ball = sphere_mesh(0.3)
            write_ply(Path(name) / "ball.ply", ball.position, ball.triangle)
            collider = {"kind": "collider", "name": "Ball", "shape": {"kind": "mesh", "file": "ball.ply"}}
            files = SceneFiles(Path(name))
            scene = scene_with([collider])
            dx = scene.voxel_size("draft")
            coarse, fine = (kept_distance(scene.of_kind(Collider)[0], scene, files, h).at_time(0.0) for h in (dx, 1e-4))
            self.assertAlmostEqual(coarse.dx, dx)
            self.assertLessEqual(fine.field.size, MOST_NODES)
            centre = np.zeros((1, 3))
            self.assertAlmostEqual(float(fine.placed_at(centre, np.eye(4))[0]), -0.3, delta=2 * fine.dx)

    def test_where_a_vessel_runs_over_is_found_at_once(self) -> None:
        """All that lies below a level is looked for twice, however many levels there are."""
        with mock.patch.object(room, "_held", wraps=room._held) as held:
            found = room.find_room(scene_with([TUB]), FILES, (0.0, 0.25, 0.0), None, 1, "final")
        self.assertAlmostEqual(found.runs_over or 0.0, 0.5, delta=0.05)
        self.assertLessEqual(held.call_count, 2)

    def test_planes_fill_as_labels_of_all_of_them_say(self) -> None:
        """Against SciPy's labels of everything below each plane, in random rooms."""
        rng = np.random.default_rng(5)
        reached = 0
        for _ in range(40):
            free = ndimage.gaussian_filter(rng.random((9, 12, 8)), 0.7) > 0.53
            out = np.zeros(free.shape, bool)
            out[0] = True
            i, j, k = (int(n) for n in rng.choice(np.argwhere(free)))
            lowest = int(rng.integers(0, j + 1))
            expected = -1
            for plane in range(j, free.shape[1]):
                labels, _ = ndimage.label(free[:, : plane + 1])
                own = labels == labels[i, j, k]
                if (own & out[:, : plane + 1]).any() or own[:, :lowest].any():
                    expected = plane
                    break
            self.assertEqual(room._flooded(free, out, np.array([i, j, k]), lowest), expected)
            reached += expected >= 0
        self.assertGreater(reached, 10)
        self.assertLess(reached, 40)
