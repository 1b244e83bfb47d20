"""What gestures are told while they are made: flights, openings, rooms."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.exchange import write_ply
from basin.geometry.pose import Pose
from basin.geometry.primitives import lathe_mesh
from basin.liquid.step import Liquid
from basin.scene import Collider, parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles, keep_mesh
from basin.stages.gestures.flight import Flight, flight, kept_distance
from basin.stages.gestures.openings import openings
from basin.stages.gestures.room import NoRoom, _grid, find_room, room_mesh

OPEN = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "open")
G = 9.80665


def scene_with(elements: list[dict[str, Any]], **more: Any) -> Any:
    document = {
        "format": "zinc-scene/1",
        "name": "set up",
        "time": {"first": 1, "last": 48, "fps": 24},
        "domain": {"low": [-1, 0, -1], "size": [2, 2, 2], "walls": {**OPEN, "y_min": "closed"}},
        "liquid": {"voxel_size": 0.02},
        "quality": {"draft": 2.0},
        "elements": elements,
        **more,
    }
    return parse_scene(document)


def spout(at: list[float], velocity: list[float], **more: Any) -> dict[str, Any]:
    disc = {"kind": "disc", "radius": 0.03}
    pose = more.pop("pose", {"translation": at})
    return {"kind": "inflow", "name": "Spout", "shape": disc, "velocity": velocity, "pose": pose, **more}


def tub(at: list[float], radius: float = 0.3, height: float = 0.4, wall: float = 0.06) -> dict[str, Any]:
    shape = {"kind": "tub", "radius": radius, "height": height, "wall": wall}
    return {"kind": "collider", "name": "Tub", "shape": shape, "pose": {"translation": at}}


class Flights(SimpleTestCase):
    """Against the parabola and Torricelli's speed, as any textbook of mechanics has them."""

    def flown(self, elements: list[dict[str, Any]], quality: str = "final", **more: Any) -> Flight:
        found = flight(scene_with(elements, **more), SceneFiles(Path(".")), 0, quality)
        assert found is not None
        return found

    def test_a_stream_falls_on_the_floor_after_the_time_of_a_fall(self) -> None:
        found = self.flown([spout([0, 1.5, 0], [0, -0.5, 0])])
        speed = np.sqrt(0.25 + 2 * G * 1.5)
        self.assertAlmostEqual(found.time, (speed - 0.5) / G, delta=0.01)
        self.assertAlmostEqual(found.speed, speed, delta=0.01 * speed)
        self.assertEqual((found.met, found.leaves), ("the floor", False))
        self.assertEqual(found.frame, int(np.ceil(1 + 24 * found.time)))

    def test_a_level_jet_lands_where_the_parabola_does(self) -> None:
        found = self.flown(
            [spout([-0.8, 0.8, 0], [1.2, 0, 0], pose={"translation": [-0.8, 0.8, 0], "rotation": [0, 0, -90]})]
        )
        self.assertAlmostEqual(found.path[-1][0], -0.8 + 1.2 * np.sqrt(2 * 0.8 / G), delta=0.02)

    def test_it_keeps_its_litres_and_thins(self) -> None:
        found = self.flown([spout([0, 1.5, 0], [0, -0.5, 0])])
        area = np.pi * 0.03**2
        self.assertAlmostEqual(found.litres_per_second, area * 0.5 * 1000, delta=1e-6)
        self.assertAlmostEqual(found.width, 0.06 * np.sqrt(0.5 / found.speed), delta=1e-4)
        self.assertAlmostEqual(found.litres, found.litres_per_second * 47 / 24, delta=1e-6)
        self.assertAlmostEqual(found.voxels, found.width / 0.02, delta=1e-6)

    def test_litres_give_the_speed(self) -> None:
        found = self.flown([spout([0, 1.5, 0], [0, -1, 0], amount="flow", flow=2.0)])
        self.assertAlmostEqual(found.litres_per_second, 2.0, delta=1e-6)
        self.assertAlmostEqual(found.leaving, 2e-3 / (np.pi * 0.03**2), delta=1e-6)

    def test_a_collider_in_the_way_is_met_first_and_one_that_does_not_act_is_not(self) -> None:
        ball = {"kind": "collider", "name": "Ball", "shape": {"kind": "sphere", "radius": 0.2}}
        ball["pose"] = {"translation": [0, 0.6, 0]}
        found = self.flown([spout([0, 1.5, 0], [0, -0.5, 0]), ball])
        self.assertEqual(found.met, "Ball")
        self.assertAlmostEqual(found.path[-1][1], 0.8, delta=0.02)
        gone = self.flown([spout([0, 1.5, 0], [0, -0.5, 0]), {**ball, "start": 1.5}])
        self.assertEqual(gone.met, "the floor")

    def test_a_moving_collider_is_met_where_it_is_by_then(self) -> None:
        keys = [{"time": 0.0, "value": [0.0, 0.2, 0.0]}, {"time": 0.5, "value": [0.0, 1.0, 0.0]}]
        plate = {"kind": "collider", "name": "Plate", "shape": {"kind": "box", "size": [0.6, 0.1, 0.6]}}
        plate["pose"] = {"translation": {"keys": keys}}
        found = self.flown([spout([0, 1.5, 0], [0, -0.5, 0]), plate])
        pose = scene_with([spout([0, 1.5, 0], [0, -0.5, 0]), plate]).elements[1].pose
        self.assertAlmostEqual(found.path[-1][1], pose.matrix(found.time)[1, 3] + 0.05, delta=0.02)

    def test_through_an_open_wall_it_leaves(self) -> None:
        found = self.flown([spout([0, 1.5, 0], [6, 0, 0], pose={"translation": [0, 1.5, 0], "rotation": [0, 0, -90]})])
        self.assertEqual((found.met, found.leaves), ("", True))
        self.assertAlmostEqual(found.path[-1][0], 1.0, delta=0.03)

    def test_slow_motion_flies_the_same_way_more_slowly(self) -> None:
        plain = self.flown([spout([0, 1.5, 0], [0, -0.5, 0])])
        slow = self.flown([spout([0, 1.5, 0], [0, -0.125, 0])], time={"first": 1, "last": 96, "time_scale": 0.25})
        self.assertAlmostEqual(slow.time, 4 * plain.time, delta=0.02)
        self.assertAlmostEqual(slow.speed, plain.speed / 4, delta=0.01)

    def test_only_inflows_fly(self) -> None:
        self.assertIsNone(flight(scene_with([tub([0, 0, 0])]), SceneFiles(Path(".")), 0, "final"))


class Openings(SimpleTestCase):
    """Rims and faces are where the mesh has them."""

    def test_a_tub_has_its_rim_and_its_floor(self) -> None:
        found = openings(scene_with([tub([0.1, 0.2, 0], 0.3, 0.4, 0.06)]), SceneFiles(Path(".")), 1)
        up = [o for o in found if o.normal[1] > 0.99]
        radii = sorted(round(o.radius, 2) for o in up)
        self.assertIn(0.24, radii)  # within the wall
        self.assertIn(0.3, radii)
        floor = min(up, key=lambda o: o.middle[1])
        np.testing.assert_allclose(floor.middle, [0.1, 0.26, 0.0], atol=1e-6)
        self.assertTrue(all(abs(o.middle[0] - 0.1) < 1e-6 for o in found))

    def test_faces_of_a_box_are_rectangles_and_round_ones_are_none(self) -> None:
        turned = {"translation": [0.1, 0.4, 0.2], "rotation": [20, 30, -10]}
        box = {"kind": "collider", "name": "Box", "shape": {"kind": "box", "size": [0.3, 0.1, 0.5]}, "pose": turned}
        found = openings(scene_with([box, tub([2, 0, 0])]), SceneFiles(Path(".")), 1)
        matrix = Pose.model_validate(turned).matrix(0.0)
        faces = [o for o in found if o.element == 0]
        self.assertEqual(len(faces), 6)
        for face in faces:
            out = matrix[:3, :3].T @ face.normal
            axis = int(np.abs(out).argmax())
            self.assertAlmostEqual(abs(out[axis]), 1.0, places=6)
            sides = np.delete([0.3, 0.1, 0.5], axis)
            np.testing.assert_allclose(sorted(face.sides), sorted(sides), atol=1e-6)
            width = int(np.abs(matrix[:3, :3].T @ face.along).argmax())
            self.assertAlmostEqual(face.sides[0], [0.3, 0.1, 0.5][width], places=6)
            np.testing.assert_allclose(
                face.middle, matrix[:3, 3] + np.array([0.3, 0.1, 0.5])[axis] / 2 * np.array(face.normal), atol=1e-6
            )
        self.assertTrue(all(not o.sides for o in found if o.element == 1))

    def test_an_open_mesh_has_its_edge(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            mesh = lathe_mesh(np.array([(0.0, 0.0), (0.1, 0.0), (0.12, 0.2)]), 48, closed_loop=False)
            keep = mesh.position[mesh.triangle].mean(axis=1)[:, 1] < 0.199
            write_ply(Path(folder) / "cup.ply", mesh.position, mesh.triangle[keep])
            shape = {"kind": "mesh", "file": "cup.ply"}
            cup = {
                "kind": "collider",
                "name": "Cup",
                "shape": shape,
                "side": "shell",
                "pose": {"translation": [0, 0.5, 0]},
            }
            found = openings(scene_with([cup]), SceneFiles(Path(folder)), 1)
        rim = max(found, key=lambda o: o.middle[1])
        np.testing.assert_allclose(rim.middle, [0, 0.7, 0], atol=1e-6)
        self.assertAlmostEqual(rim.radius, 0.12, delta=0.002)
        self.assertAlmostEqual(abs(rim.normal[1]), 1.0, delta=1e-6)


class Rooms(SimpleTestCase):
    """What vessels hold, against their formulas."""

    def room(
        self, elements: list[dict[str, Any]], seed: tuple[float, float, float], level: float | None = None, **more: Any
    ) -> Any:
        return find_room(scene_with(elements, **more), SceneFiles(Path(".")), seed, level, 1, "final")

    def test_a_tub_holds_the_litres_of_its_cylinder_up_to_its_rim(self) -> None:
        found = self.room([tub([0, 0.2, 0])], (0, 0.35, 0), 0.5)
        self.assertAlmostEqual(found.litres, np.pi * 0.24**2 * (0.5 - 0.26) * 1000, delta=0.04 * found.litres)
        self.assertAlmostEqual(found.kilograms, found.litres * 0.9982, delta=1e-6 * found.litres)
        self.assertAlmostEqual(found.particles, found.litres / 1000 / 0.02**3 * 8, delta=1)
        self.assertAlmostEqual(found.runs_over, 0.6, delta=0.021)
        self.assertEqual(found.open, "")
        self.assertAlmostEqual(found.height, 0.5 - 0.26, delta=0.003)
        ring = np.array(found.contours[0])
        np.testing.assert_allclose(np.hypot(ring[:, 0], ring[:, 2]), 0.24, atol=0.02)

    def test_without_a_level_it_is_full_to_where_it_runs_over(self) -> None:
        found = self.room([tub([0, 0.2, 0])], (0, 0.35, 0))
        self.assertAlmostEqual(found.level, 0.6, delta=0.021)

    def test_a_hole_is_told(self) -> None:
        tube = {"kind": "tube", "radius": 0.3, "height": 0.4, "wall": 0.06}
        pipe = {"kind": "collider", "name": "Pipe", "shape": tube, "pose": {"translation": [0, 0.2, 0]}}
        found = self.room([pipe], (0, 0.35, 0), 0.5)
        self.assertNotEqual(found.open, "")
        self.assertLess(found.runs_over, 0.36)

    def test_a_tub_in_a_tank_runs_over_at_its_own_rim(self) -> None:
        domain = {"low": [-1, 0, -1], "size": [2, 2, 2], "walls": {**dict.fromkeys(OPEN, "closed"), "y_max": "open"}}
        found = self.room([tub([0, 0.2, 0])], (0, 0.35, 0), domain=domain)
        self.assertAlmostEqual(found.level, 0.6, delta=0.021)
        self.assertAlmostEqual(found.bottom, 0.26, delta=0.003)

    def test_a_tank_of_closed_walls_holds_its_box(self) -> None:
        walls = {**dict.fromkeys(OPEN, "closed"), "y_max": "open"}
        domain = {"low": [-1, 0, -1], "size": [2, 2, 2], "walls": walls}
        found = self.room([], (0, 0.3, 0), 0.5, domain=domain)
        self.assertAlmostEqual(found.litres, 2000.0, delta=0.02 * 2000)
        self.assertAlmostEqual(found.runs_over, 2.0, delta=0.021)

    def test_the_mesh_is_closed_and_holds_the_same(self) -> None:
        scene = scene_with([tub([0, 0.2, 0])])
        mesh = room_mesh(scene, SceneFiles(Path(".")), (0, 0.35, 0), 0.5, 1, "final")
        self.assertEqual(mesh.open_edges(), 0)
        # it reaches 0.6 voxel into the walls, which the solver's solids take back
        radius, depth = 0.24 + 0.6 * 0.02, 0.24 + 0.6 * 0.02
        self.assertAlmostEqual(mesh.volume(), np.pi * radius**2 * depth, delta=0.03 * mesh.volume())

    def test_a_fill_of_the_room_has_its_litres(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            files = SceneFiles(Path(folder))
            scene = scene_with([tub([0, 0.2, 0])])
            told = find_room(scene, files, (0, 0.35, 0), 0.5, 1, "draft").litres
            mesh = room_mesh(scene, files, (0, 0.35, 0), 0.5, 1, "draft")
            keep_mesh(Path(folder) / "room.ply", mesh.position, mesh.triangle)
            shape = {"kind": "mesh", "file": "room.ply"}
            scene = scene_with([tub([0, 0.2, 0]), {"kind": "fill", "name": "Room", "shape": shape}])
            liquid = Liquid(liquid_world(scene, SceneFiles(Path(folder)), "draft"))
            liquid.begin()
        held = liquid.state.particles.volume.sum(dtype=np.float64) * 0.04**3 * 1000
        self.assertAlmostEqual(held, told, delta=0.02 * told)

    def test_a_turned_and_scaled_vessel_is_seen_whole(self) -> None:
        turned = tub([0.2, 0.5, 0.1])
        turned["pose"] |= {"rotation": [25, 40, 10], "scale": 1.3}
        scene, files = scene_with([turned]), SceneFiles(Path("."))
        grid = _grid(scene, files, 1, "draft")
        nodes = grid.low + np.argwhere(np.ones(grid.phi.shape, bool)) * grid.dx
        (vessel,) = scene.of_kind(Collider)
        held = kept_distance(vessel, scene, files, grid.dx).at_time(0.0)
        whole = np.minimum(held.placed_at(nodes, scene.placement(vessel).matrix(0.0)), 4 * grid.dx)
        np.testing.assert_array_equal(grid.phi.ravel(), whole)

    def test_within_something_solid_there_is_no_room(self) -> None:
        block = {"kind": "collider", "name": "Block", "shape": {"kind": "box", "size": [0.6, 0.6, 0.6]}}
        block["pose"] = {"translation": [0, 0.5, 0]}
        for seed in ((0, 0.5, 0), (5.0, 0.5, 0)):
            with self.assertRaises(NoRoom):
                self.room([block], seed, 0.6)
