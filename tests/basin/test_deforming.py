"""Meshes that deform, elements attached to others, switches, calm walls, ground and discarded margins."""

from __future__ import annotations

import io
import json
import tempfile
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase, tag
from scipy.spatial.transform import Rotation

from basin.__main__ import main
from basin.exchange import UnusableFile, read_mesh, read_sequence, sequence_names, write_ply
from basin.geometry.deforming import motions
from basin.geometry.distance import mesh_distance
from basin.geometry.mesh import TriangleMesh, grounded
from basin.geometry.primitives import box_mesh, sphere_mesh
from basin.grid.layout import PAD
from basin.liquid.solids import velocity_of
from basin.liquid.step import Liquid
from basin.liquid.world import Tally
from basin.scene import SceneError, parse_scene
from basin.stages.assembly import check_scene
from basin.stages.files import SceneFiles
from basin.stages.imports import import_mesh
from basin.stages.liquid_stage import frame_readings
from basin.stages.solid import solver_solid
from tests.frames import frame_keys
from tests.long import LONG
from tests.reference.tanks import CLOSED, box_fill, liquid, position, velocity

FPS = 24.0
BARE: dict[str, Any] = {"format": "zinc-scene/1"}


def wrote(folder: Path, meshes: list[TriangleMesh], first: int = 1) -> dict[str, Any]:
    """Meshes as a numbered sequence in a folder; the shape that names it."""
    for number, mesh in enumerate(meshes, first):
        write_ply(folder / f"body.{number:04d}.ply", mesh.position, mesh.triangle)
    return {"kind": "mesh", "file": "body.####.ply"}


def column(mesh: TriangleMesh, count: int, way: np.ndarray) -> list[TriangleMesh]:
    """A mesh that moves by the same way from each frame to the next."""
    return [TriangleMesh(mesh.position + n * way, mesh.triangle) for n in range(count)]


class Sequences(SimpleTestCase):
    """Files frame by frame, and what lies between them."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)

    def read(self) -> Any:
        return read_sequence(self.folder, "body.####.ply").played(1, FPS)

    def test_files_are_met_at_their_frames_and_motion_between_is_even(self) -> None:
        way = np.array([0.1, 0.02, 0.0])
        wrote(self.folder, column(box_mesh((0.2, 0.2, 0.2)), 5, way))
        sequence = self.read()
        start = sequence.positions(0.0)
        for frame in (0.0, 1.0, 2.5, 3.75, 4.0):
            np.testing.assert_allclose(sequence.positions(frame / FPS), start + frame * way, atol=1e-6)
        np.testing.assert_allclose(sequence.positions(9.0), start + 4 * way, atol=1e-6)
        self.assertGreater(sequence.mesh(0.1).volume(), 0.0)

    def test_two_sequences_that_begin_alike_are_two(self) -> None:
        mesh, way = box_mesh((0.2, 0.2, 0.2)), np.array([0.1, 0.0, 0.0])
        digests = set()
        for n in (1.0, 2.0):
            wrote(self.folder, column(mesh, 3, n * way))
            digests.add(import_mesh(self.folder / "body.####.ply", "m", "y", parse_scene(BARE)).digest)
        self.assertEqual(len(digests), 2)

    def test_keys_follow_the_files(self) -> None:
        """A file changed at frame 4 leaves the frames before it that do not look at it current."""
        mesh, way = box_mesh((0.2, 0.2, 0.2)), np.array([0.01, 0.0, 0.0])
        shape = wrote(self.folder, column(mesh, 8, way))
        element = {"kind": "collider", "name": "b", "shape": shape}
        scene = parse_scene({**BARE, "time": {"last": 8}, "elements": [element]})
        before = frame_keys(scene, SceneFiles(self.folder), "draft", "liquid")
        moved = TriangleMesh(mesh.position + np.array([0.0, 0.05, 0.0]), mesh.triangle)
        write_ply(self.folder / "body.0006.ply", moved.position, moved.triangle)
        after = frame_keys(scene, SceneFiles(self.folder), "draft", "liquid")
        same = [frame for frame in before if before[frame] == after[frame]]
        self.assertEqual(same, [1, 2, 3, 4])

    def test_names_that_make_a_sequence(self) -> None:
        pattern, kept = sequence_names(["a_9.PLY", "a_10.ply"])
        self.assertEqual((pattern, kept), ("a_##.ply", {"a_9.PLY": "a_09.ply", "a_10.ply": "a_10.ply"}))
        for names in (["a1.ply", "b2.ply"], ["a1.ply", "a2.obj"], ["a.ply", "b.ply"]):
            with self.assertRaisesRegex(UnusableFile, "named alike"):
                sequence_names(names)

    def test_missing_file_is_named(self) -> None:
        wrote(self.folder, column(box_mesh((0.2, 0.2, 0.2)), 5, np.zeros(3)))
        (self.folder / "body.0003.ply").unlink()
        with self.assertRaisesRegex(UnusableFile, "number 3 of the sequence is missing, between 1 and 5"):
            self.read()

    def test_other_points_are_refused(self) -> None:
        wrote(self.folder, [box_mesh((0.2, 0.2, 0.2)), sphere_mesh(0.1)])
        with self.assertRaisesRegex(UnusableFile, r"0002\.ply: has .* points, body\.0001\.ply"):
            self.read()

    def test_no_file_at_all_refuses_the_scene(self) -> None:
        document = {
            "format": "zinc-scene/1",
            "elements": [{"kind": "collider", "name": "b", "shape": {"kind": "mesh", "file": "b_##.ply"}}],
        }
        (problem,) = check_scene(parse_scene(document), SceneFiles(self.folder)).problems
        self.assertIn("no file of this sequence is there", problem.says)

    def test_frames_beyond_the_files_are_said(self) -> None:
        shape = wrote(self.folder, column(box_mesh((0.2, 0.2, 0.2)), 5, np.zeros(3)))
        document = {
            "format": "zinc-scene/1",
            "time": {"last": 9},
            "elements": [box_fill((-0.2, 0, -0.2), (0.2, 0.2, 0.2)), {"kind": "collider", "name": "b", "shape": shape}],
        }
        remarks = check_scene(parse_scene(document), SceneFiles(self.folder)).remarks
        self.assertTrue(any("numbered 1 to 5" in remark.says for remark in remarks), remarks)


class Motions(SimpleTestCase):
    """A body's motion triangle by triangle."""

    def test_maps_of_a_turning_body_are_its_turn(self) -> None:
        """SciPy's rotation, as the general library."""
        mesh = sphere_mesh(0.3)
        corner = mesh.position[mesh.triangle]
        tip = corner.mean(axis=1) + np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
        before = np.concatenate([corner, tip[:, None]], axis=1)
        turn = Rotation.from_euler("xyz", (3.0, 5.0, 1.0), degrees=True).as_matrix()
        found = motions(before, before @ turn.T + np.array([0.1, 0.2, 0.3]))
        np.testing.assert_allclose(found[:, :, :3], np.broadcast_to(turn, found[:, :, :3].shape), atol=1e-6)
        np.testing.assert_allclose(found[:, :, 3], np.broadcast_to([0.1, 0.2, 0.3], found[:, :, 3].shape), atol=1e-6)

    def test_nodes_of_a_growing_sphere_move_outwards_at_its_rate(self) -> None:
        dx, rate = 0.02, 1.2  # m/s
        with tempfile.TemporaryDirectory() as name:
            shape = wrote(Path(name), [sphere_mesh(0.2 + n * rate / FPS) for n in range(3)])
            body = {"kind": "collider", "name": "b", "shape": shape, "pose": {"translation": [0.4, 0.4, 0.4]}}
            run = liquid(dx, (0.8, 0.8, 0.8), [body, box_fill((0, 0, 0), (0.8, 0.8, 0.8))], folder=Path(name))
        tiles = run.fields(0.0).tiles
        solids = run.solid_world.at(tiles, 0.5 / FPS, 0.2 / FPS)
        centre = np.full(3, 0.4 / dx + PAD)
        checked = 0
        for t, a, b, c in np.argwhere(np.abs(solids.phi) < 0.8)[::37]:
            place = tiles.first[t] + np.array([a, b, c])
            out = place - centre
            if t == 0 or abs(np.linalg.norm(out) * dx - 0.225) > 0.03:
                continue
            speed = np.array(velocity_of(solids.motion, solids.owner[t, a, b, c], *place.astype(float))) * dx
            normal = out / np.linalg.norm(out)
            self.assertAlmostEqual(float(speed @ normal) / rate, 1.0, delta=0.1)
            self.assertLess(float(np.linalg.norm(speed - (speed @ normal) * normal)), 0.12 * rate)
            checked += 1
        self.assertGreater(checked, 50)


def paddled(element: dict[str, Any], folder: Path | None = None, frames: int = 13) -> Liquid:
    """Still water in a tank after a body has moved in it."""
    size = (1.0, 0.5, 0.1)
    run = liquid(0.02, size, [box_fill((0, 0, 0), (1.0, 0.25, 0.1)), element], folder=folder, fps=FPS)
    for frame in range(2, frames + 1):
        run.advance_frame(frame)
    return run


class DeformingColliders(SimpleTestCase):
    """Colliders that are sequences of meshes."""

    def test_a_paddle_moves_water_like_one_that_is_keyed(self) -> None:
        way = 0.6 / FPS
        keys = [{"time": t, "value": [0.1 + 0.6 * t, 0.25, 0.05], "segment": "linear"} for t in (0.0, 1.0)]
        mesh = box_mesh((0.08, 0.6, 0.3))
        placed = TriangleMesh(mesh.position + np.array([0.1, 0.25, 0.05]), mesh.triangle)
        with tempfile.TemporaryDirectory() as name:
            shape = wrote(Path(name), column(placed, 14, np.array([way, 0.0, 0.0])))
            deformed = paddled({"kind": "collider", "name": "p", "shape": shape}, Path(name))
            write_ply(Path(name) / "still.ply", mesh.position, mesh.triangle)
            keyed = {"kind": "collider", "name": "p", "shape": {"kind": "mesh", "file": "still.ply"}}
            rigid = paddled({**keyed, "pose": {"translation": {"keys": keys}}}, Path(name))
        mean = [float(np.average(velocity(r)[:, 0], weights=r.state.particles.volume)) for r in (deformed, rigid)]
        self.assertGreater(mean[1], 0.1)
        self.assertAlmostEqual(mean[0] / mean[1], 1.0, delta=0.02)
        tops = [np.percentile(position(r)[:, 1], 99) for r in (deformed, rigid)]
        self.assertAlmostEqual(tops[0], tops[1], delta=0.01)

    def test_a_swelling_body_lifts_the_level_by_its_volume(self) -> None:
        """Archimedes: what it gains of volume, the water's level gains over the tank's floor."""

        def swollen(n: int) -> TriangleMesh:
            mesh = box_mesh((0.2 + 0.012 * n, 0.1, 0.4))
            return TriangleMesh(mesh.position + np.array([0.5, 0.05, 0.05]), mesh.triangle)

        with tempfile.TemporaryDirectory() as name:
            shape = wrote(Path(name), [swollen(min(n, 12)) for n in range(40)])
            run = paddled({"kind": "collider", "name": "b", "shape": shape}, Path(name), frames=40)
        x = position(run)
        self.assertEqual(int(((np.abs(x[:, 0] - 0.5) < 0.15) & (x[:, 1] < 0.09)).sum()), 0)
        level = 2 * np.average(x[np.abs(x[:, 0] - 0.5) > 0.25][:, 1])
        self.assertAlmostEqual(level - (0.25 + 0.012 * 12 * 0.1 / 1.0), 0.0, delta=0.006)

    def test_a_wall_of_more_triangles_than_can_be_counted_on_is_tight(self) -> None:
        """Common practice, no source. Three thousand triangles are near each particle here."""
        side = np.linspace(0.0, 0.4, 61)
        x, z = (a.ravel() for a in np.meshgrid(side, side, indexing="ij"))
        place = np.stack([x, np.full_like(x, 0.2), z], axis=1)
        i, j = (a.ravel() for a in np.meshgrid(np.arange(60), np.arange(60), indexing="ij"))
        a, b, c, d = i * 61 + j, i * 61 + j + 1, (i + 1) * 61 + j, (i + 1) * 61 + j + 1
        faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([b, d, c], axis=1)])
        dx = 0.05
        block = box_fill((0.1, 0.22, 0.1), (0.3, 0.3, 0.3), velocity=[0, -3, 0])
        wall = {"kind": "collider", "name": "cloth", "shape": {"kind": "mesh", "file": "cloth.ply"}}
        wall |= {"side": "shell", "thickness": 0.002}
        with tempfile.TemporaryDirectory() as name:
            write_ply(Path(name) / "cloth.ply", place, faces)
            run = liquid(dx, (0.4, 0.4, 0.4), [block, wall], folder=Path(name), gravity=(0.0, 0.0, 0.0))
            corner = run.world.bodies[0].thin
            assert corner is not None
            self.assertGreater(len(corner), 7000)
            for n in range(3):
                run.pair(n * 0.02, 0.01, Tally())
        self.assertGreater(float(position(run)[:, 1].min()), 0.2)

    def test_a_mesh_that_is_too_dense_for_rays_is_said(self) -> None:
        ball = sphere_mesh(0.1)
        wall = {"kind": "collider", "name": "net", "shape": {"kind": "mesh", "file": "net.ply"}, "side": "shell"}
        document = {"format": "zinc-scene/1", "liquid": {"voxel_size": 0.2}, "elements": [{**wall, "thickness": 0.01}]}
        with tempfile.TemporaryDirectory() as name:
            write_ply(Path(name) / "net.ply", ball.position, ball.triangle)
            said = check_scene(parse_scene(document), SceneFiles(Path(name))).remarks
        (crowd,) = [one for one in said if "triangles to a voxel" in one.says]
        self.assertEqual((crowd.element, crowd.where), ("net", "elements[0].shape"))
        self.assertIn("many times as long", crowd.leads_to)

    def test_a_sheet_that_thins_below_a_voxel_is_tight(self) -> None:
        def sheet(n: int) -> TriangleMesh:
            mesh = box_mesh((0.04 - 0.003 * min(n, 12), 0.8, 0.4))
            return TriangleMesh(mesh.position + np.array([0.5, 0.2, 0.05]), mesh.triangle)

        with tempfile.TemporaryDirectory() as name:
            shape = wrote(Path(name), [sheet(n) for n in range(24)])
            wall = {"kind": "collider", "name": "b", "shape": shape}
            run = liquid(0.02, (1.0, 0.5, 0.1), [box_fill((0, 0, 0), (0.475, 0.3, 0.1)), wall], folder=Path(name))
            for frame in range(2, 25):
                run.advance_frame(frame)
        self.assertEqual(int((position(run)[:, 0] > 0.51).sum()), 0)


class DeformingSources(SimpleTestCase):
    """Fills from a mesh in motion."""

    def test_fill_takes_the_form_and_the_speed_of_its_frame(self) -> None:
        way = np.array([0.02, 0.0, 0.0])
        with tempfile.TemporaryDirectory() as name:
            shape = wrote(Path(name), column(sphere_mesh(0.1), 9, way))
            fill = {"kind": "fill", "name": "w", "shape": shape, "start_frame": 5, "carry": 0.5}
            fill["pose"] = {"translation": [0.3, 0.3, 0.3]}
            run = liquid(0.02, (1.0, 0.6, 0.6), [fill], folder=Path(name), gravity=(0.0, 0.0, 0.0), fps=FPS)
            for frame in range(2, 6):
                run.advance_frame(frame)
        np.testing.assert_allclose(position(run).mean(axis=0), [0.3 + 4 * 0.02, 0.3, 0.3], atol=0.004)
        np.testing.assert_allclose(velocity(run).mean(axis=0), [0.5 * 0.02 * FPS, 0, 0], atol=0.005)
        held = float(run.state.particles.volume.sum()) * 0.02**3
        self.assertAlmostEqual(held / sphere_mesh(0.1).volume(), 1.0, delta=0.02)


class Attachments(SimpleTestCase):
    """An element's pose within that of another one."""

    def document(self, **attached: str | None) -> dict[str, Any]:
        turned = {"keys": [{"time": 0.0, "value": [0, 0, 0]}, {"time": 1.0, "value": [0, 90, 0]}]}
        poses = {
            "arm": {"translation": [0.1, 0.2, 0.0], "rotation": turned},
            "cup": {"translation": [0.3, 0.0, 0.0], "scale": 2.0},
            "tap": {"translation": [0.0, 0.1, 0.0]},
        }
        elements = [
            {
                "kind": "collider",
                "name": name,
                "shape": {"kind": "sphere"},
                "pose": pose,
                "attached": attached.get(name),
            }
            for name, pose in poses.items()
        ]
        return {"format": "zinc-scene/1", "elements": elements}

    def test_chain_of_poses(self) -> None:
        scene = parse_scene(self.document(cup="arm", tap="cup"))
        placed = scene.placement(scene.elements[2])
        self.assertTrue(placed.moves())
        # a quarter turn about y takes x to -z; the cup doubles the tap's way
        np.testing.assert_allclose(placed.matrix(1.0)[:3, 3], [0.1, 0.2 + 2 * 0.1, -0.3], atol=1e-12)
        np.testing.assert_allclose(placed.matrix(0.0)[:3, 3], [0.4, 0.4, 0.0], atol=1e-12)

    def test_rings_and_absent_elements_are_refused(self) -> None:
        with self.assertRaisesRegex(SceneError, "'arm' to 'arm'; take one of them off"):
            parse_scene(self.document(arm="arm"))
        with self.assertRaisesRegex(SceneError, "attached in a ring"):
            parse_scene(self.document(arm="tap", tap="cup", cup="arm"))
        with self.assertRaisesRegex(SceneError, "attached to 'mast', which is not there"):
            parse_scene(self.document(arm="mast"))


class Switches(SimpleTestCase):
    """What is keyed on and off."""

    def test_inflow_pours_while_it_is_on(self) -> None:
        keys = [
            {"time": time, "value": value, "segment": "step"}
            for time, value in ((0.0, 1.0), (0.1, 0.0), (0.2, 1.0), (0.25, 0.0))
        ]
        tap = {"kind": "inflow", "name": "t", "shape": {"kind": "disc", "radius": 0.05}, "amount": "flow", "flow": 20.0}
        tap |= {"active": {"keys": keys}, "pose": {"translation": [0.2, 0.35, 0.2]}}
        run = liquid(0.02, (0.4, 0.4, 0.4), [tap], walls=CLOSED, fps=FPS)
        for frame in range(2, 13):
            run.advance_frame(frame)
        self.assertAlmostEqual(run.state.poured * 0.02**3 * 1000 / (20.0 * 0.15), 1.0, delta=0.02)

    def test_collider_that_comes_twice_has_one_reading(self) -> None:
        keys = [{"time": t, "value": v, "segment": "step"} for t, v in ((0.0, 1.0), (0.15, 0.0), (0.3, 1.0))]
        ball = {"kind": "collider", "name": "ball", "shape": {"kind": "sphere", "radius": 0.06}}
        ball |= {"active": {"keys": keys}, "pose": {"translation": [0.15, 0.1, 0.15]}}
        run = liquid(0.02, (0.3, 0.3, 0.3), [box_fill((0, 0, 0), (0.3, 0.2, 0.3)), ball], fps=FPS)
        lift = []
        for frame in range(2, 13):
            made = run.advance_frame(frame)
            assert made
            lift.append(frame_readings(run, *made)["force.ball"])
        self.assertGreater(min(lift[:3]), 1.0)
        self.assertEqual(max(lift[4:6]), 0.0)
        self.assertGreater(min(lift[8:]), 1.0)

    def test_never_on_is_said(self) -> None:
        document = {
            "format": "zinc-scene/1",
            "elements": [{"kind": "drain", "name": "d", "active": 0.0}],
        }
        remarks = check_scene(parse_scene(document), SceneFiles(Path("."))).remarks
        self.assertTrue(any("never on" in remark.says for remark in remarks))


@tag(LONG)
class CalmWalls(SimpleTestCase):
    """Waves that run towards a wall."""

    def come_back(self, wall: str) -> float:
        """Most kinetic energy in the first two metres after a wave has met the far wall, by what it was before."""
        dx, deep = 0.02, 0.2
        size = (3.4, 0.36, 4 * dx)
        hump = box_fill((0.0, deep, 0.0), (0.3, deep + 0.06, 4 * dx), name="hump")
        water = [box_fill((0, 0, 0), (size[0], deep, 4 * dx)), hump]
        run = liquid(dx, size, water, walls={**CLOSED, "x_max": wall}, domain={"calm": 1.4}, fps=FPS)
        energy = []
        for frame in range(2, 92):
            run.advance_frame(frame)
            here = position(run)[:, 0] < 2.0
            held = run.state.particles.volume[here] * (velocity(run)[here] ** 2).sum(axis=1)
            energy.append(float(held.sum()))
        return max(energy[64:]) / max(energy[8:30])

    def test_a_wave_runs_out_before_a_calm_wall_and_comes_back_from_a_closed_one(self) -> None:
        """Requirement: pool walls that do not reflect. What was left behind by the wave itself is in both."""
        closed, calm = self.come_back("closed"), self.come_back("calm")
        self.assertGreater(closed, 0.6)
        self.assertLess(calm, 0.25)


class Ground(SimpleTestCase):
    """An open mesh as the ground."""

    def terrain(self, bumps: float = 0.1) -> TriangleMesh:
        i, k = np.meshgrid(np.linspace(-1, 1, 25), np.linspace(-1, 1, 25), indexing="ij")
        y = bumps * np.sin(3 * i) * np.cos(2 * k)
        at = np.arange(625).reshape(25, 25)
        a, b, c, d = (v.ravel() for v in (at[:-1, :-1], at[1:, :-1], at[:-1, 1:], at[1:, 1:]))
        triangle = np.concatenate([np.stack([a, b, c], 1), np.stack([b, d, c], 1)])
        return TriangleMesh(np.stack([i, y, k], axis=-1).reshape(-1, 3), triangle.astype(np.int32))

    def test_closed_below_whichever_way_it_faced(self) -> None:
        for mesh in (self.terrain(), TriangleMesh(self.terrain().position, self.terrain().triangle[:, ::-1].copy())):
            solid = grounded(mesh)
            self.assertEqual(solid.open_edges(), 0)
            self.assertGreater(solid.volume(), 0.0)
            distance = mesh_distance(solid, 0.05)
            x, z = np.random.default_rng(2).uniform(-0.9, 0.9, (2, 200))
            y = 0.1 * np.sin(3 * x) * np.cos(2 * z)
            for off in (-1.5, -0.3, -0.02, 0.02, 0.3):
                self.assertTrue((np.sign(distance.at(np.stack([x, y + off, z], 1))) == np.sign(off)).all(), off)

    def test_water_stays_above_it(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            mesh = self.terrain()
            write_ply(Path(name) / "ground.ply", mesh.position, mesh.triangle)
            ground = {
                "kind": "collider",
                "name": "g",
                "side": "ground",
                "shape": {"kind": "mesh", "file": "ground.ply"},
            }
            ground["pose"] = {"translation": [0.4, 0.2, 0.4], "scale": 0.45}
            water = box_fill((0.2, 0.3, 0.2), (0.6, 0.5, 0.6))
            run = liquid(0.02, (0.8, 0.6, 0.8), [ground, water], folder=Path(name))
            whole = float(run.state.particles.volume.sum())
            for frame in range(2, 20):
                run.advance_frame(frame)
        local = (position(run) - [0.4, 0.2, 0.4]) / 0.45
        height = 0.1 * np.sin(3 * local[:, 0]) * np.cos(2 * local[:, 2])
        self.assertGreater(float((local[:, 1] - height).min()) * 0.45, -0.008)  # the mesh's own facets
        self.assertAlmostEqual(float(run.state.particles.volume.sum()) / whole, 1.0, places=5)


class SolversSolid(SimpleTestCase):
    """What the grid makes of a collider, beside what was asked for."""

    def document(self, **collider: Any) -> dict[str, Any]:
        element = {"kind": "collider", "name": "c", **collider}
        return {
            "format": "zinc-scene/1",
            "domain": {"low": (0, 0, 0), "size": (1, 1, 1)},
            "liquid": {"voxel_size": 0.02},
            "elements": [element],
        }

    def test_a_spheres_error_is_that_of_chords(self) -> None:
        """Trilinear distances: corners lie off by h^2 / (8 R) at most (interpolation's error, any textbook)."""
        pose = {"translation": [0.5, 0.5, 0.5]}
        scene = parse_scene(self.document(shape={"kind": "sphere", "radius": 0.3}, pose=pose))
        errors = []
        for quality, dx in (("proof", 0.04), ("final", 0.02)):
            found = solver_solid(scene, SceneFiles(Path(".")), 0, 1, quality)
            self.assertEqual(found.mesh.open_edges(), 0)
            self.assertLess(found.largest, dx * dx / 8 / 0.3 * 1.1)
            errors.append(found.largest)
        self.assertAlmostEqual(errors[0] / errors[1], 4.0, delta=1.2)

    def test_lost_corners_are_told(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.3, 0.3, 0.3))
            write_ply(Path(name) / "box.ply", mesh.position, mesh.triangle)
            pose = {"translation": [0.503, 0.507, 0.511], "rotation": [10, 20, 30]}
            scene = parse_scene(self.document(shape={"kind": "mesh", "file": "box.ply"}, pose=pose))
            found = solver_solid(scene, SceneFiles(Path(name)), 0, 1, "final")
        self.assertGreater(found.largest, 0.002)  # a corner of a cube, cut by cells of 20 mm
        self.assertLess(found.largest, 0.02)
        self.assertLess(found.mean, 0.002)

    def test_command_line(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            path = Path(name) / "scene.json"
            pose = {"translation": [0.5, 0.5, 0.5]}
            path.write_text(json.dumps(self.document(shape={"kind": "sphere", "radius": 0.3}, pose=pose)))
            told = io.StringIO()
            with redirect_stdout(told):
                code = main(["solid", str(path), "--element", "c", "--to", str(Path(name) / "c.ply")])
            self.assertEqual(code, 0)
            self.assertRegex(told.getvalue(), r"off by 0\.\d+ mm at most")
            self.assertAlmostEqual(read_mesh(Path(name) / "c.ply").volume() / (4 / 3 * np.pi * 0.027), 1.0, delta=0.01)
            with redirect_stderr(told):
                self.assertEqual(main(["solid", str(path), "--element", "d"]), 2)
            self.assertIn("there is no such element; there are 'c'", told.getvalue())

    def test_only_colliders_that_are_there(self) -> None:
        away = self.document(shape={"kind": "sphere"}, pose={"translation": [5, 5, 5]})
        with self.assertRaisesRegex(SceneError, "outside the domain"):
            solver_solid(parse_scene(away), SceneFiles(Path(".")), 0, 1, "final")
        drain = {**self.document(), "elements": [{"kind": "drain", "name": "d"}]}
        with self.assertRaisesRegex(SceneError, "only colliders"):
            solver_solid(parse_scene(drain), SceneFiles(Path(".")), 0, 1, "final")


class Discarded(SimpleTestCase):
    """Liquid that comes near to an open wall."""

    def test_none_is_left_in_the_margin(self) -> None:
        walls, water = {**CLOSED, "x_max": "open"}, box_fill((0, 0, 0), (0.5, 0.2, 0.1))
        run = liquid(0.02, (1.0, 0.4, 0.1), [water], walls=walls, domain={"discard": 0.2})
        whole = float(run.state.particles.volume.sum(dtype=np.float64))
        for frame in range(2, 20):
            run.advance_frame(frame)
        self.assertLessEqual(float(position(run)[:, 0].max()), 0.8 + 1e-6)
        self.assertGreater(run.state.lost, 0.05 * whole)
        self.assertAlmostEqual(
            float(run.state.particles.volume.sum(dtype=np.float64)) + run.state.lost, whole, delta=1e-3
        )
