"""The scene document: what is refused, and with which sentence."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path
from typing import Any

import igl
import numpy as np
from django.test import SimpleTestCase
from scipy.interpolate import PchipInterpolator

from basin.__main__ import main
from basin.exchange import UnusableFile, convert, read_mesh, write_obj, write_ply
from basin.geometry.distance import mesh_distance, point_triangle_distance, shape_distance
from basin.geometry.mesh import TriangleMesh
from basin.geometry.primitives import box_mesh, sphere_mesh, torus_mesh, tub_mesh
from basin.geometry.shapes import Tub
from basin.scene import SceneError, parse_scene
from basin.settings import Curve
from basin.stages.assembly import check_scene
from basin.stages.files import SceneFiles
from basin.stages.imports import import_mesh
from tests.frames import cost, frame_keys


def document(**more: Any) -> dict[str, Any]:
    """A small valid scene."""
    fill = {
        "kind": "fill",
        "name": "water",
        "shape": {"kind": "box", "size": [0.5, 0.2, 0.5]},
        "pose": {"translation": [0, 0.1, 0]},
    }
    return {"format": "zinc-scene/1", "elements": [fill], **more}


class Refusals(SimpleTestCase):
    """Bad scenes are answered with the field and what to do."""

    def refused(self, scene: dict[str, Any]) -> str:
        with self.assertRaises(SceneError) as caught:
            parse_scene(scene)
        return str(caught.exception)

    def test_frame_range_backwards(self) -> None:
        self.assertIn("time: frame range runs backwards (9 to 3)", self.refused(document(time={"first": 9, "last": 3})))

    def test_unknown_setting_is_named(self) -> None:
        self.assertIn("liquid.voxel: unknown setting", self.refused(document(liquid={"voxel": 1})))

    def test_periodic_axis_needs_both_walls(self) -> None:
        self.assertIn("periodic", self.refused(document(domain={"walls": {"x_min": "periodic"}})))

    def test_two_elements_of_one_name(self) -> None:
        twice = document()
        twice["elements"] *= 2
        self.assertIn("two elements are named 'water'", self.refused(twice))

    def test_numbers_must_be_finite(self) -> None:
        self.assertIn("liquid.voxel_size", self.refused(document(liquid={"voxel_size": float("nan")})))

    def test_other_formats_are_refused(self) -> None:
        self.assertIn("format: expected 'zinc-scene/1'", self.refused({"format": "zinc-scene/9"}))

    def test_source_wholly_outside_is_refused_and_partly_is_said(self) -> None:
        scene = document()
        scene["elements"][0]["pose"]["translation"] = [0.4, 0.1, 0]
        found = check_scene(parse_scene(scene), SceneFiles(Path(".")))
        self.assertEqual(found.problems, [])
        self.assertIn("partly outside", found.remarks[0].says)
        scene["elements"][0]["pose"]["translation"] = [5, 0.1, 0]
        found = check_scene(parse_scene(scene), SceneFiles(Path(".")))
        self.assertIn("wholly outside the domain", found.problems[0].says)

    def remarks(self, *elements: dict[str, Any], **more: Any) -> str:
        scene = document(**more)
        scene["elements"] += elements
        found = check_scene(parse_scene(scene), SceneFiles(Path(".")))
        self.assertEqual(found.problems, [])
        return "\n".join(map(str, found.remarks))

    def test_fill_inside_a_collider_is_said_and_a_vessel_proposed(self) -> None:
        around = {"kind": "collider", "name": "egg", "shape": {"kind": "sphere", "radius": 5.0}}
        self.assertIn("inside elements[1] (egg)", self.remarks(around))
        self.assertEqual(self.remarks({**around, "side": "inside"}), "")

    def test_force_that_does_nothing_is_said(self) -> None:
        weak = {"kind": "force", "name": "calm", "effect": {"kind": "drag", "rate": 0.0}}
        self.assertIn("pushes nothing", self.remarks(weak))
        far = {"kind": "force", "name": "far", "effect": {"kind": "vortex"}, "zone": {"kind": "sphere"}}
        self.assertIn("no effect", self.remarks({**far, "pose": {"translation": [90, 0, 0]}}))

    def test_collider_that_teleports_is_said(self) -> None:
        keys = [{"time": 0.5, "value": [0, 1, 0], "segment": "step"}, {"time": 0.6, "value": [60, 1, 0]}]
        block = {"kind": "collider", "name": "block", "pose": {"translation": {"keys": keys}}}
        self.assertIn("jumps by", self.remarks(block))
        self.assertEqual(self.remarks({**block, "start": 900.0}), "")  # it is never there

    def test_amounts_that_cannot_be(self) -> None:
        inflow = {"kind": "inflow", "name": "tap"}
        for more, told in (
            ({"amount": "total"}, "a total needs an end"),
            ({"amount": "full"}, "a flat opening holds nothing"),
            ({"amount": "flow", "velocity": [0, 0, 0]}, "no direction"),
            ({"start": 2.0, "end": 1.0}, "end lies before start"),
        ):
            scene = document()
            scene["elements"].append({**inflow, **more})
            self.assertIn(told, self.refused(scene))

    def test_periodic_axis_that_is_widened_is_said(self) -> None:
        size, walls = [1, 1, 0.05], {"z_min": "periodic", "z_max": "periodic"}
        told = self.remarks(domain={"low": [-0.5, 0, 0], "size": size, "walls": walls}, liquid={"voxel_size": 0.02})
        self.assertIn("z is periodic, which takes 6 voxels or more; it becomes 0.12 m wide", told)

    def test_voxel_too_fine_for_the_machine(self) -> None:
        expected = cost(parse_scene(document(liquid={"voxel_size": 0.0002})), SceneFiles(Path(".")))
        self.assertFalse(expected.fits)
        self.assertIn("Use a coarser voxel", str(expected.refusal(["liquid"])))

    def test_command_line_exits_with_2_and_names_the_field(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "scene.json"
            path.write_text(json.dumps(document(time={"first": 9, "last": 3})))
            self.assertEqual(main(["check", str(path)]), 2)
            path.write_text("{")
            self.assertEqual(main(["check", str(path)]), 2)
            path.write_text(json.dumps(document()))
            self.assertEqual(main(["check", str(path)]), 0)


class Meshes(SimpleTestCase):
    """Mesh files: what is read, and how bad ones are told."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.folder = Path(holding.name)

    def told(self, name: str, data: bytes) -> str:
        path = self.folder / name
        path.write_bytes(data)
        with self.assertRaises(UnusableFile) as caught:
            read_mesh(path)
        return str(caught.exception)

    def test_round_trip_in_both_formats(self) -> None:
        mesh = torus_mesh(0.5, 0.2)
        for write, name in ((write_ply, "a.ply"), (write_obj, "a.obj")):
            write(self.folder / name, mesh.position, mesh.triangle, {"velocity": np.zeros_like(mesh.position)})
            back = read_mesh(self.folder / name)
            self.assertEqual(back.open_edges(), 0)
            self.assertAlmostEqual(back.volume() / mesh.volume(), 1.0, places=5)

    def test_units_and_axes_keep_shape_and_handedness(self) -> None:
        mesh = tub_mesh(0.3, 0.4, 0.03)
        for up in "xyz":
            turned = convert(mesh, "cm", up)
            self.assertAlmostEqual(turned.volume() / mesh.volume(), 1e-6)
        z_up = convert(TriangleMesh(np.array([[0.0, 0.0, 1.0]]), np.zeros((0, 3), np.int32)), "m", "z")
        np.testing.assert_allclose(z_up.position[0], [0, 1, 0])

    def test_bad_files_get_a_sentence(self) -> None:
        self.assertIn("empty", self.told("a.obj", b""))
        self.assertIn("not a readable PLY", self.told("a.ply", b"this is no mesh"))
        self.assertIn("truncated", self.told("b.ply", b"ply\nformat ascii 1.0\nelement vertex 900000\nend_header\n"))
        self.assertIn("no triangles", self.told("c.obj", b"v 0 0 0\nv 1 0 0\n"))
        self.assertIn("not finite", self.told("d.obj", b"v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"))
        self.assertIn(".obj, .ply, .stl", self.told("e.txt", b"x"))

    def test_open_mesh_is_refused_with_its_open_edges(self) -> None:
        cube = box_mesh((0.2, 0.2, 0.2))
        write_ply(self.folder / "open.ply", cube.position, cube.triangle[:-1])
        scene = document()
        scene["elements"][0]["shape"] = {"kind": "mesh", "file": "open.ply"}
        problem = check_scene(parse_scene(scene), SceneFiles(self.folder)).problems[0]
        self.assertIn("elements[0] (water).shape.file: 3 open edges", str(problem))

    def test_mesh_ten_thousand_times_too_large_gets_a_unit_proposed(self) -> None:
        cube = box_mesh((500.0, 500.0, 500.0))
        write_ply(self.folder / "big.ply", cube.position, cube.triangle)
        scene = parse_scene(document())
        self.assertEqual(import_mesh(self.folder / "big.ply", "m", "y", scene).proposed_unit, "mm")
        self.assertIsNone(import_mesh(self.folder / "big.ply", "mm", "y", scene).proposed_unit)
        raw = document()
        raw["elements"][0]["shape"] = {"kind": "mesh", "file": "big.ply"}
        problem = check_scene(parse_scene(raw), SceneFiles(self.folder)).problems[0]
        self.assertIn("is its unit 'mm'?", problem.says)
        self.assertEqual((problem.where, problem.element), ("elements[0].shape.unit", "water"))
        assert problem.remedy
        self.assertEqual((problem.remedy.path, problem.remedy.value), (("elements", 0, "shape", "unit"), "mm"))

    def test_files_outside_the_scene_are_refused(self) -> None:
        raw = document()
        raw["elements"][0]["shape"] = {"kind": "mesh", "file": "../secret.ply"}
        (problem,) = check_scene(parse_scene(raw), SceneFiles(self.folder)).problems
        self.assertIn("outside the scene's folder", problem.says)


class Distances(SimpleTestCase):
    """Sampled distances of a mesh against the closed formula of the same vessel."""

    def test_mesh_distance_agrees_with_the_formula_near_the_surface(self) -> None:
        tub = Tub(radius=0.3, height=0.4, wall=0.05)
        exact = shape_distance(tub, None, 0.01)
        sampled = mesh_distance(tub_mesh(0.3, 0.4, 0.05, around=256), 0.01)
        points = np.random.default_rng(0).uniform([-0.35, -0.05, -0.35], [0.35, 0.45, 0.35], (4000, 3))
        near = np.abs(exact.at(points)) < 0.02
        error = np.abs(exact.at(points) - sampled.at(points))[near]
        self.assertLess(float(np.quantile(error, 0.95)), 0.001)
        self.assertLess(float(error.max()), 0.01)  # sharp edges are rounded by less than a node
        clear = near & (np.abs(exact.at(points)) > 0.003)
        self.assertTrue((np.sign(exact.at(points)) == np.sign(sampled.at(points)))[clear].all())

    def test_every_node_lies_on_the_side_that_its_winding_number_tells(self) -> None:
        """Winding numbers summed over all triangles (Jacobson et al. 2013) by libigl, node by node."""
        thin, one = tub_mesh(0.3, 0.4, 0.012, around=24), sphere_mesh(0.2, 8)
        across = TriangleMesh(
            np.concatenate([one.position, one.position + np.array([0.25, 0.03, 0.0])]),
            np.concatenate([one.triangle, one.triangle + len(one.position)]),
        )
        for mesh in (thin, across):
            field = mesh_distance(mesh, 0.02)
            nodes = field.origin + np.argwhere(np.ones(field.field.shape, bool)) * field.dx
            within = np.ravel(igl.winding_number(mesh.position.astype(float), mesh.triangle.astype(np.int64), nodes))
            distant = np.abs(field.field.ravel()) > 1e-6
            self.assertTrue(((field.field.ravel() < 0) == (within > 0.5))[distant].all())

    def test_a_hole_narrower_than_the_band_lets_no_outside_in(self) -> None:
        ball = sphere_mesh(0.2, 32)
        mesh = TriangleMesh(ball.position, ball.triangle[3:])
        self.assertGreater(mesh.open_edges(), 0)
        self.assertLess(float(mesh_distance(mesh, 0.01).at(np.zeros((1, 3)))[0]), -0.15)


class PointsAndTriangles(SimpleTestCase):
    """Distance of a point to a triangle; libigl as the general library."""

    def test_distance_is_libigls(self) -> None:
        rng = np.random.default_rng(0)
        for _ in range(500):
            corner, point = rng.normal(size=(3, 3)), 2 * rng.normal(size=3)
            found = igl.point_mesh_squared_distance(point[None], corner, np.array([[0, 1, 2]]))[0]
            own = point_triangle_distance(point, *corner)
            self.assertAlmostEqual(own, float(np.sqrt(np.ravel(found)[0])), places=12)


class Curves(SimpleTestCase):
    """Keyframes: monotone cubics as in SciPy's PCHIP (Fritsch & Carlson 1980), linear and held segments."""

    def test_cubic_is_scipys_pchip(self) -> None:
        times, values = [0.0, 1.0, 2.5, 3.0], [0.0, 2.0, 2.5, -1.0]
        curve = Curve.model_validate({"keys": [{"time": t, "value": v} for t, v in zip(times, values, strict=True)]})
        reference = PchipInterpolator(times, values)
        for t in np.linspace(0, 3, 31):
            self.assertAlmostEqual(float(curve.at(t)[0]), float(reference(t)))

    def test_linear_and_step_segments(self) -> None:
        keys = [
            {"time": 0, "value": 0, "segment": "linear"},
            {"time": 2, "value": 4, "segment": "step"},
            {"time": 3, "value": 9},
        ]
        curve = Curve.model_validate({"keys": keys})
        self.assertAlmostEqual(float(curve.at(0.5)[0]), 1.0)
        self.assertAlmostEqual(float(curve.at(2.9)[0]), 4.0)
        self.assertAlmostEqual(float(curve.at(7.0)[0]), 9.0)


class Keys(SimpleTestCase):
    """What makes frames out of date, and what does not."""

    def keys(self, scene: dict[str, Any], stage: str = "liquid") -> dict[int, str]:
        return frame_keys(parse_scene(scene), SceneFiles(Path(".")), "final", stage)

    def moved(self, last: float) -> dict[str, Any]:
        scene = document(time={"last": 60})
        keys = [{"time": t, "value": [t, 0, 0]} for t in (0.0, 0.5, 1.0, 1.5)] + [{"time": 2.0, "value": [last, 0, 0]}]
        scene["elements"].append(
            {"kind": "collider", "name": "paddle", "shape": {"kind": "box"}, "pose": {"translation": {"keys": keys}}}
        )
        return scene

    def test_longer_range_loses_nothing(self) -> None:
        short, long = self.keys(document(time={"last": 10})), self.keys(document(time={"last": 40}))
        self.assertEqual(short, {n: long[n] for n in short})

    def test_names_are_no_part_of_a_key(self) -> None:
        renamed = document()
        renamed["elements"][0]["name"] = "pond"
        self.assertEqual(self.keys(document()), self.keys(renamed))

    def test_defaults_are_left_out(self) -> None:
        self.assertEqual(self.keys(document()), self.keys(document(liquid={"flip_share": 0.0})))

    def test_late_key_leaves_early_frames_current(self) -> None:
        a, b = self.keys(self.moved(2.0)), self.keys(self.moved(3.0))
        same = [n for n in a if a[n] == b[n]]
        # the last key bends the curve from the key before its neighbour on, at 1.0 s = frame 25
        self.assertEqual(same, list(range(1, 26)))

    def test_surface_settings_leave_the_liquid_alone(self) -> None:
        changed = document(surface={"smoothing": 5})
        self.assertEqual(self.keys(document()), self.keys(changed))
        self.assertNotEqual(self.keys(document(), "surface"), self.keys(changed, "surface"))
