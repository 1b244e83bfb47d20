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
from basin.geometry.pose import Attached, Pose, Shifted
from basin.geometry.primitives import box_mesh
from basin.grid.layout import PAD
from basin.liquid.sources import strewn
from basin.liquid.step import Liquid
from basin.scene import parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles
from basin.stages.pieces import element_pieces
from tests.reference.cases import mean_level
from tests.reference.tanks import CLOSED, box_fill, liquid, position, velocity

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


class Limits(SimpleTestCase):
    """Where liquid ends: a cap on particles, and what strays from where it belongs."""

    SPOUT = {"kind": "disc", "radius": 0.1}

    def test_inflows_hold_back_at_a_cap(self) -> None:
        pose = {"translation": [0.3, 0.8, 0.3]}
        free = poured(self.SPOUT, pose=pose)
        walls = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "open")
        element = {"kind": "inflow", "name": "spout", "shape": self.SPOUT, "velocity": [0, -1.0, 0], "pose": pose}
        cap = len(free.state.particles) // 2
        run = liquid(0.02, (0.6, 1.0, 0.6), [element], walls=walls, gravity=(0.0, 0.0, 0.0), particles_most=cap)
        for frame in range(2, 10):
            run.advance_frame(frame)
        # one substep may still pass it: a disc's area times what it moves, at 8 particles to a voxel
        self.assertGreaterEqual(len(run.state.particles), cap)
        self.assertLess(len(run.state.particles), cap + np.pi * 5**2 * 1.1 * 8)

    def test_what_lies_outside_of_a_drains_shape_is_thrown_away(self) -> None:
        fill = {"kind": "fill", "name": "cube", "shape": {"kind": "box", "size": [0.4, 0.4, 0.4]}}
        fill["pose"] = {"translation": [0.3, 0.2, 0.3]}
        drain = {"kind": "drain", "name": "kept", "shape": {"kind": "sphere", "radius": 0.15}, "takes": "outside"}
        drain["pose"] = {"translation": [0.3, 0.2, 0.3]}
        run = liquid(0.02, (0.6, 0.6, 0.6), [fill, drain], walls=CLOSED, gravity=(0.0, 0.0, 0.0))
        run.advance_frame(2)
        far = np.linalg.norm(position(run) - [0.3, 0.2, 0.3], axis=1)
        self.assertLess(float(far.max()), 0.15 + 1e-4)
        held = float(run.state.particles.volume.sum()) * 0.02**3
        self.assertAlmostEqual(held / (4 / 3 * np.pi * 0.15**3), 1.0, delta=0.03)


class Inflows(SimpleTestCase):
    """Flow is area times speed (continuity)."""

    def volume(self, run: Liquid) -> float:
        return float(run.state.particles.volume.sum()) * run.world.layout.dx**3

    def test_disc(self) -> None:
        run = poured({"kind": "disc", "radius": 0.1}, pose={"translation": [0.3, 0.8, 0.3]})
        expected = np.pi * 0.1**2 * (8 / 24 - run.state.dt_before)  # what passed by the last substep's start
        self.assertAlmostEqual(self.volume(run) / expected, 1.0, delta=0.05)
        self.assertLess(float(np.hypot(*(position(run)[:, [0, 2]] - 0.3).T).max()), 0.1 + 0.02)

    def test_slot(self) -> None:
        turned = {"translation": [0.3, 0.8, 0.3], "rotation": [0, 30, 0]}
        run = poured({"kind": "slot", "width": 0.3, "depth": 0.1}, pose=turned)
        expected = 0.3 * 0.1 * (8 / 24 - run.state.dt_before)
        self.assertAlmostEqual(self.volume(run) / expected, 1.0, delta=0.05)
        place = (position(run) - [0.3, 0.8, 0.3]) @ Pose.model_validate(turned).matrix(0.0)[:3, :3]
        self.assertLess(float(np.abs(place[:, 0]).max()), 0.15 + 0.01)  # a particle's spacing
        self.assertLess(float(np.abs(place[:, 2]).max()), 0.05 + 0.01)
        self.assertGreater(float(np.abs(place[:, 0]).max()), 0.14)

    def test_under_liquid_all_that_is_asked_for_comes(self) -> None:
        """Continuity: what a source gives by its speed is its area times that, in a pool too, which rises by it."""
        walls = {**CLOSED, "y_max": "open"}
        pool = box_fill((0, 0, 0), (0.4, 0.2, 0.4))
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.1, 0.05, 0.1))
            write_ply(Path(name) / "spout.ply", mesh.position, mesh.triangle)
            for shape, area in (
                ({"kind": "mesh", "file": "spout.ply"}, 0.01),
                ({"kind": "slot", "width": 0.1, "depth": 0.1}, 0.01),
                ({"kind": "disc", "radius": 0.05}, np.pi * 0.05**2),
            ):
                source = {"kind": "inflow", "name": "spout", "shape": shape, "velocity": [0, 0.5, 0]}
                source["pose"] = {"translation": [0.2, 0.06, 0.2]}
                run = liquid(0.0125, (0.4, 0.5, 0.4), [pool, source], walls=walls, folder=Path(name))
                begun = self.volume(run)
                for frame in range(2, 26):
                    run.advance_frame(frame)
                asked = area * 0.5 * (1.0 - run.state.dt_before)
                self.assertAlmostEqual((self.volume(run) - begun) / asked, 1.0, delta=0.05, msg=str(shape))
                if shape["kind"] == "mesh":  # seen too: in the surface's level what is too dense would not count
                    self.assertAlmostEqual(mean_level(run, 1.0) / (self.volume(run) / 0.16), 1.0, delta=0.03)

    def test_mesh(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.2, 0.1, 0.16))
            write_ply(Path(name) / "spout.ply", mesh.position, mesh.triangle)
            shape = {"kind": "mesh", "file": "spout.ply"}
            run = poured(shape, Path(name), pose={"translation": [0.3, 0.8, 0.3]})
        expected = 0.2 * 0.16 * (0.1 + 8 / 24 - run.state.dt_before)  # the mesh's own filling, then the flow
        self.assertAlmostEqual(self.volume(run) / expected, 1.0, delta=0.05)

    def test_streams_do_not_pulse(self) -> None:
        """Spectral peak of the density along the stream at the rates of layers and of substeps (5 % asked)."""
        disc, spacing = {"kind": "disc", "radius": 0.1}, 0.01
        for speed, more in ((1.0, {}), (0.5, {}), (0.64, {"amount": "flow", "flow": 20.0})):
            run = poured(disc, **{"pose": {"translation": [0.3, 0.95, 0.3]}, "velocity": [0, -speed, 0], **more})
            y, volume = position(run)[:, 1], run.state.particles.volume.astype(float)
            low, high = np.quantile(y, [0.1, 0.9])
            count = int((high - low) / spacing * 8)
            dense, _ = np.histogram(y, count, range=(low, high), weights=volume)
            wave = np.fft.rfftfreq(count, (high - low) / count)
            peak = 4 * np.abs(np.fft.rfft((dense / dense.mean() - 1) * np.hanning(count))) / count
            for period in (spacing, speed * run.state.dt_before):
                there = np.abs(wave - 1 / period) < 1.5 / (high - low)
                self.assertLess(float(peak[there].max()), 0.05, (speed, more, period))

    def test_slow_streams_do_not_part_as_they_fall(self) -> None:
        """Largest void along a stream that gravity draws out, in spacings (1.5 asked); plain layers leave 7 to 16.

        Out of a mesh, whose lattice does not go along with the shape's own axes, 2 are held.
        """
        dx = 0.0125
        fading = {"keys": [{"time": 0.0, "value": 0.6, "segment": "linear"}, {"time": 0.8, "value": 0.05}]}
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.04, 0.03, 0.04))
            write_ply(Path(name) / "spout.ply", mesh.position, mesh.triangle)
            of_mesh = {"kind": "mesh", "file": "spout.ply"}
            for flow, shape, most in ((0.6, None, 1.5), (0.2, None, 1.5), (fading, None, 1.5), (0.6, of_mesh, 2.0)):
                pose = {"translation": [0.15, 0.55, 0.15]}
                tap = {"kind": "inflow", "name": "tap", "velocity": [0, -1, 0], "pose": pose, "amount": "flow"}
                tap |= {"flow": flow, "shape": shape or {"kind": "disc", "radius": 0.02}}
                run = liquid(dx, (0.3, 0.6, 0.3), [tap], walls=dict.fromkeys(CLOSED, "open"), folder=Path(name))
                for frame in range(2, 20):
                    run.advance_frame(frame)
                    y = np.sort(position(run)[:, 1])
                    y = y[(y > 0.2) & (y < 0.53)]
                    if frame > 12:
                        void = np.diff(np.concatenate([[0.2], y, [0.53]])).max() / (dx / 2)
                        self.assertLess(float(void), most, (flow, shape, frame))

    def test_what_is_thick_hangs_on_what_follows(self) -> None:
        """A plug of 0.5 m2/s that is pushed out for 0.4 s stretches by g L / 3 nu < 0.3 per second (Trouton 1906), so
        it is as long as what was poured; half as much again is allowed, and a tenth that dripped off its first layers.
        What falls freely comes 0.8 m down.
        """
        speed = 0.1
        tap: dict[str, Any] = {"kind": "inflow", "name": "tap", "velocity": [0, -speed, 0], "viscosity": 500.0}
        tap["shape"] = {"kind": "disc", "radius": 0.0625}
        for off in (0.0, 0.005):  # of a voxel's 0.0125
            tap["pose"] = {"translation": [0.125, 0.95 + off, 0.125]}
            run = liquid(0.0125, (0.25, 1.0, 0.25), [tap], dict.fromkeys(CLOSED, "open"), density=1000.0)
            for frame in range(2, 12):
                run.advance_frame(frame)
            y = position(run)[:, 1]
            fell = 0.95 + off - np.quantile(y, 0.1)
            self.assertLess(float(fell), 1.5 * speed * 10 / 24, off)
            # and nothing is missing of it up to the tap
            held = float(run.state.particles.volume.sum()) * 0.0125**3
            self.assertAlmostEqual(held / (np.pi * 0.0625**2 * speed * 10 / 24), 1.0, delta=0.1)

    def test_it_closes(self) -> None:
        run = poured({"kind": "disc", "radius": 0.1}, pose={"translation": [0.3, 0.8, 0.3]}, end=0.1)
        self.assertAlmostEqual(self.volume(run) / (np.pi * 0.1**2 * 0.1), 1.0, delta=0.08)


class GivenAmounts(SimpleTestCase):
    """Litres are litres (definition), whatever the opening and the time scale."""

    def litres(self, frames: int = 26, shape: dict[str, Any] | None = None, **more: Any) -> Liquid:
        disc = {"kind": "disc", "radius": 0.05}
        pose = {"translation": [0.1, 0.35, 0.1]}
        spout = {"kind": "inflow", "name": "spout", "shape": shape or disc, "velocity": [0, -1.0, 0], "pose": pose}
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.1, 0.04, 0.06))
            write_ply(Path(name) / "spout.ply", mesh.position, mesh.triangle)
            run = liquid(0.0125, (0.2, 0.4, 0.2), [{**spout, **more}], folder=Path(name))
        for frame in range(2, frames):
            run.advance_frame(frame)
        return run

    def volume(self, run: Liquid) -> float:
        return float(run.state.particles.volume.sum(dtype=np.float64)) * run.world.layout.dx**3 * 1000

    def test_flow_fills_a_vessel_to_its_level(self) -> None:
        run = self.litres(100, amount="flow", flow=8.0, end=1.0)
        self.assertAlmostEqual(self.volume(run) / 8.0, 1.0, delta=0.01)
        self.assertAlmostEqual(mean_level(run, 2.0) / 0.2, 1.0, delta=0.01)

    def test_total(self) -> None:
        run = self.litres(amount="total", total=2.0, start=0.2, end=0.7)
        self.assertAlmostEqual(self.volume(run) / 2.0, 1.0, delta=0.01)

    def test_keyed_flow(self) -> None:
        keys = {"keys": [{"time": 0.0, "value": 0.0, "segment": "linear"}, {"time": 1.0, "value": 4.0}]}
        run = self.litres(30, amount="flow", flow=keys, end=1.0)
        self.assertAlmostEqual(self.volume(run) / 2.0, 1.0, delta=0.013)  # half a layer

    def test_flow_out_of_a_mesh(self) -> None:
        run = self.litres(shape={"kind": "mesh", "file": "spout.ply"}, amount="flow", flow=3.0, start=0.1, end=0.6)
        self.assertAlmostEqual(self.volume(run) / 1.5, 1.0, delta=0.03)

    def test_slow_motion_pours_as_much_per_shot_second(self) -> None:
        pose = {"translation": [0.15, 0.35, 0.15]}
        element = {
            "kind": "inflow",
            "name": "spout",
            "shape": {"kind": "disc", "radius": 0.05},
            "velocity": [0, -1.0, 0],
        }
        document = {
            "format": "zinc-scene/1",
            "time": {"time_scale": 0.25},
            "domain": {"low": [0, 0, 0], "size": [0.3, 0.4, 0.3]},
            "liquid": {"voxel_size": 0.0125},
            "elements": [{**element, "pose": pose, "amount": "flow", "flow": 4.0, "end": 0.5}],
        }
        run = Liquid(liquid_world(parse_scene(document), SceneFiles(Path(".")), "final"))
        run.begin()
        for frame in range(2, 16):
            run.advance_frame(frame)
        self.assertAlmostEqual(self.volume(run) / 2.0, 1.0, delta=0.01)

    def test_kept_full_of_what_does_not_lie_along_the_grid(self) -> None:
        """It holds its volume, at rest, and pushes no longer: 1 % and, in a second more, half of one."""
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.2, 0.0931, 0.2))
            write_ply(Path(name) / "most.ply", mesh.position, mesh.triangle)
            pose = {"translation": [0.1, 0.04655, 0.1]}
            shape = {"kind": "mesh", "file": "most.ply"}
            spring = {"kind": "inflow", "name": "spring", "shape": shape, "pose": pose, "amount": "full"}
            run = liquid(0.0125, (0.2, 0.2, 0.2), [spring], folder=Path(name))
        held = []
        for frame in range(2, 50):
            run.advance_frame(frame)
            held.append(self.volume(run) / (40 * 0.0931))
        self.assertAlmostEqual(held[23], 1.0, delta=0.01)
        self.assertAlmostEqual(held[-1], held[23], delta=0.005)

    def test_kept_full(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            mesh = box_mesh((0.2, 0.1, 0.2))
            write_ply(Path(name) / "half.ply", mesh.position, mesh.triangle)
            shape, pose = {"kind": "mesh", "file": "half.ply"}, {"translation": [0.1, 0.05, 0.1]}
            spring = {"kind": "inflow", "name": "spring", "shape": shape, "pose": pose, "amount": "full"}
            drain = {"kind": "drain", "name": "hole", "shape": {"kind": "box", "size": [0.2, 0.04, 0.2]}, "start": 0.5}
            drain["pose"] = {"translation": [0.1, 0.02, 0.1]}
            run = liquid(0.0125, (0.2, 0.2, 0.2), [spring, drain], folder=Path(name))
        held = []
        for frame in range(2, 20):
            run.advance_frame(frame)
            held.append(self.volume(run))
        self.assertAlmostEqual(held[5] / 4.0, 1.0, delta=0.02)
        self.assertAlmostEqual(held[10] / 4.0, 1.0, delta=0.02)
        self.assertGreater(run.state.drained, 100.0)  # voxels: what the drain swallows comes again
        self.assertGreater(held[-1], 2.0)


def smooth(time: list[float], values: list[Any], **more: Any) -> dict[str, Any]:
    return {"keys": [{"time": t, "value": v, **more} for t, v in zip(time, values, strict=True)]}


class Motions(SimpleTestCase):
    """Case A37: what goes along with a pose has the derivative of its curves, one-sided at their ends; 0.1 %."""

    POSES: tuple[dict[str, Any], ...] = (
        {"rotation": smooth([0, 0.5, 1], [[0, 0, 0], [40, -70, 25], [200, 30, 90]])},
        {"translation": smooth([0, 1], [[0, 0, 0], [1, 2, -1]]), "scale": smooth([0, 1], [1.0, 2.0])},
        {
            "translation": smooth([0, 0.4, 1], [[0.1, 0, 0], [1, 2, -1], [0, 0, 0]]),
            "rotation": smooth([0, 1], [[10, 20, 30], [200, 90, -50]]),
            "scale": smooth([0, 0.6], [0.5, 1.5]),
        },
    )

    def test_it_is_the_derivative_of_the_matrix(self) -> None:
        place, step = np.array([0.3, -0.2, 0.7, 1.0]), 1e-6
        poses: list[Any] = [Pose.model_validate(one) for one in self.POSES]
        poses += [Attached(poses[2], poses[0]), Attached(poses[1], Attached(poses[0], poses[2]))]
        poses += [Shifted(poses[2], np.array([0.2, 0.1, -0.4]))]
        for pose in poses:
            for time in (0.13, 0.52, 0.87):
                own = np.linalg.inv(pose.matrix(time)) @ place
                moved = (pose.matrix(time + step) - pose.matrix(time - step)) @ own / (2 * step)
                np.testing.assert_allclose(pose.motion(time) @ place, moved, rtol=1e-6, atol=1e-7)

    def test_at_keys_and_beyond_them(self) -> None:
        line = Pose.model_validate(
            {"translation": smooth([0, 1, 3], [[0, 0, 0], [1, 0, 0], [7, 0, 0]], segment="linear")}
        )
        speeds = [line.motion(t)[0, 3] for t in (-0.1, 0.0, 0.5, 1.0, 2.0, 3.0, 3.1)]
        np.testing.assert_allclose(speeds, [0, 1, 1, 2, 3, 3, 0], atol=1e-12)
        curve = Pose.model_validate({"translation": smooth([0, 1], [[0, 0, 0], [1, 0, 0]], slope=[0.5, 0, 0])})
        np.testing.assert_allclose([curve.motion(t)[0, 3] for t in (0.0, 1.0)], [0.5, 0.5], atol=1e-12)

    def test_a_fill_that_turns_from_the_first_frame_on_has_its_whole_speed(self) -> None:
        turn = smooth([0, 2], [[0, 0, 0], [0, 180, 0]], segment="linear")
        fill = {**box_fill((0.2, 0.2, 0.2), (0.8, 0.6, 0.8)), "carry": 1.0}
        fill["pose"] = {**fill["pose"], "rotation": turn}
        run = liquid(0.05, (1, 1, 1), [fill])
        arm = position(run) - [0.5, 0.4, 0.5]
        np.testing.assert_allclose(velocity(run), np.cross([0, np.pi / 2, 0], arm), atol=1e-3 * np.pi / 2 * 0.42)

    def test_an_inflow_and_a_delivered_mesh_too(self) -> None:
        pose = {"translation": smooth([0, 1], [[0, 1, 0], [3, 1, 0]], segment="linear")}
        disc = {"kind": "inflow", "name": "hose", "shape": {"kind": "disc", "radius": 0.1}, "velocity": [0, -1, 0]}
        run = liquid(0.05, (4, 2, 1), [{**disc, "carry": 1.0, "pose": pose}], low=(-0.5, 0, -0.5))
        run.advance_frame(2)
        flung = velocity(run)[:, 0]
        self.assertGreater(len(flung), 20)
        np.testing.assert_allclose(flung, 3.0, rtol=0.03)  # the stream's own pressure pushes its rim apart
        scene = parse_scene(
            {
                "format": "zinc-scene/1",
                "elements": [{"kind": "collider", "name": "block", "shape": {"kind": "box"}, "pose": pose}],
            }
        )
        (piece,) = element_pieces(scene, SceneFiles(Path(".")), 0.0)
        np.testing.assert_allclose(piece.attributes["velocity"], [[3, 0, 0]] * len(piece.position), atol=1e-6)


class MovingSources(SimpleTestCase):
    """A hose that is swung: no gaps in its stream, and as much of its motion as is asked."""

    def test_no_voids_in_a_stream_from_an_opening_that_runs_ahead_of_it(self) -> None:
        keys = [{"time": 0.0, "value": [0.1, 0.5, 0.2], "segment": "linear"}, {"time": 1.0, "value": [6.1, 0.5, 0.2]}]
        hose = {
            "kind": "inflow",
            "name": "hose",
            "shape": {"kind": "disc", "radius": 0.03},
            "velocity": [0, -1.0, 0],
            "pose": {"translation": {"keys": keys}},
        }
        run = liquid(0.02, (1.0, 0.6, 0.4), [hose], walls=dict.fromkeys(CLOSED, "open"), gravity=(0, 0, 0))
        run.advance_frame(2)
        run.advance_frame(3)
        rng, now = np.random.default_rng(3), 2 / 24 - run.state.dt_before
        born, around, far = (
            rng.uniform(0.01, now - 0.01, 4000),
            rng.uniform(0, 2 * np.pi, 4000),
            0.02 * rng.uniform(0, 1, 4000),
        )
        place = np.stack(
            [0.1 + 6 * born + far * np.cos(around), 0.5 - (2 / 24 - born), 0.2 + far * np.sin(around)], axis=1
        )
        void, _ = cKDTree(position(run)).query(place)
        self.assertLess(float(void.max()), 1.5 * 0.01)

    def test_share_of_its_own_motion(self) -> None:
        keys = [{"time": 0.0, "value": [0.2, 0.5, 0.2], "segment": "linear"}, {"time": 1.0, "value": [2.2, 0.5, 0.2]}]
        moving = {"translation": {"keys": keys}}
        hose = {"kind": "inflow", "name": "hose", "shape": {"kind": "disc", "radius": 0.05}, "velocity": [0, -1.0, 0]}
        drop = {"kind": "fill", "name": "drop", "shape": {"kind": "sphere", "radius": 0.08}, "start_frame": 2}
        for element, frames in ((hose, 3), (drop, 2)):
            for share in (0.0, 0.5, 1.0):
                made = {**element, "pose": moving, "carry": share}
                run = liquid(0.02, (1.0, 0.6, 0.4), [made], walls=dict.fromkeys(CLOSED, "open"), gravity=(0, 0, 0))
                for frame in range(2, frames + 1):
                    run.advance_frame(frame)
                self.assertAlmostEqual(velocity(run)[:, 0].mean(), 2.0 * share, delta=0.02)


class Drains(SimpleTestCase):
    """What is thrown away is counted, from particles and from below a band; what is left goes on."""

    def test_kept_and_drained_stay_the_same(self) -> None:
        for band in (0.0, 4.0):
            drain = {
                "kind": "drain",
                "name": "hole",
                "shape": {"kind": "box", "size": [0.2, 0.1, 0.4]},
                "pose": {"translation": [0.1, 0.05, 0.2]},
                "start": 0.25,
            }
            run = liquid(0.025, (0.8, 0.6, 0.4), [box_fill((0, 0, 0), (0.8, 0.4, 0.4)), drain], band=band)
            whole = float(run.state.particles.volume.sum(dtype=np.float64))
            kept = []
            for frame in range(2, 26):
                run.advance_frame(frame)
                now = float(run.state.particles.volume.sum(dtype=np.float64)) + run.state.bulk.total()
                kept.append(now)
                self.assertAlmostEqual((now + run.state.drained) / whole, 1.0, places=5)
            self.assertAlmostEqual(kept[4] / whole, 1.0, places=5)
            self.assertLess(kept[-1], 0.8 * whole)
            self.assertLess(np.abs(velocity(run)).max(), 6.0)


class Sides(SimpleTestCase):
    """A shape as a vessel, and as a shell with liquid on both sides (requirement)."""

    def test_water_in_a_sphere_stays_in_it(self) -> None:
        for side in ("inside", "shell"):
            ball = {
                "kind": "collider",
                "name": "ball",
                "shape": {"kind": "sphere", "radius": 0.25},
                "pose": {"translation": [0.3, 0.3, 0.3]},
                "side": side,
                "thickness": 0.04,
            }
            run = liquid(0.02, (0.6, 0.6, 0.6), [ball, box_fill((0.1, 0.05, 0.1), (0.5, 0.3, 0.5))])
            if side == "shell":
                p = run.state.particles
                run.state.particles = p.taken(np.linalg.norm(position(run) - 0.3, axis=1) < 0.25)
            count = len(run.state.particles)
            self.assertGreater(count, 5000)
            for frame in range(2, 26):
                run.advance_frame(frame)
            self.assertLess(float(np.linalg.norm(position(run) - 0.3, axis=1).max()), 0.25)
            self.assertGreater(len(run.state.particles), 0.8 * count)

    def test_what_appears_in_the_water_and_goes_again_makes_no_explosion(self) -> None:
        block = {
            "kind": "collider",
            "name": "block",
            "shape": {"kind": "box", "size": [0.2, 0.2, 0.2]},
            "pose": {"translation": [0.3, 0.15, 0.3]},
            "start": 0.2,
            "end": 0.4,
        }
        run = liquid(0.02, (0.6, 0.6, 0.6), [block, box_fill((0, 0, 0), (0.6, 0.3, 0.6))])
        for frame in range(2, 20):
            run.advance_frame(frame)
            self.assertTrue(np.isfinite(run.state.particles.record).all())
            self.assertLess(float(np.linalg.norm(velocity(run), axis=1).max()), 5.0)
            inside = (np.abs(position(run) - [0.3, 0.15, 0.3]) < 0.09).all(axis=1)
            if 0.22 < (frame - 1) / 24 < 0.39:
                self.assertEqual(int(inside.sum()), 0)
        self.assertGreater(int(inside.sum()), 100)


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
