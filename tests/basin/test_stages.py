"""Stages and attributes are declared once: what is declared in a test is found wherever people look for it."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from basin import attributes, readings
from basin.attributes import Attribute
from basin.cache import Cache, open_cache
from basin.exchange import write_ply
from basin.readings import Reading
from basin.scene import parse_scene
from basin.stages import carrying, stage
from basin.stages.carrying import Carrying
from basin.stages.files import SceneFiles
from basin.stages.liquid_stage import LiquidStage
from basin.stages.pieces import frame_pieces
from basin.stages.run import run
from basin.stages.samples import tiny_scene
from basin.stages.stage import Look
from basin.stages.view import attributes as choices
from tests.frames import frame_keys, job
from tests.toy_stage import CENTRE

ROOT = Path(__file__).resolve().parent.parent.parent


class Declared(SimpleTestCase):
    """A stage in a folder of its own, and nothing else touched."""

    def test_a_stage_is_found_by_the_command_line(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            home = Path(name)
            (home / "centre_stage.py").write_text(CENTRE)
            (home / "scene.json").write_text(json.dumps({**tiny_scene(), "time": {"last": 2}}))
            env = {**os.environ, "PYTHONPATH": f"{home}:{ROOT}", stage.OTHERS: "centre_stage"}

            def basin(*arguments: str) -> str:
                return subprocess.check_output([sys.executable, "-m", "basin", *arguments], env=env, text=True)

            self.assertIn(
                "liquid,air,surface,whitewater,mist,sea,sea_foam,wake,centre",
                basin("run", "--help").replace("\n", "").replace(" ", ""),
            )
            scene, out = str(home / "scene.json"), str(home / "out")
            basin("run", scene, "--to", out, "--stages", "liquid,centre")
            told = json.loads(basin("info", out, "--json"))
            self.assertEqual(told["centre"]["frames"], [1, 2])
            self.assertNotIn("surface", told)
            self.assertIn("centre", basin("forecast", scene))
            frames = open_cache(out).stage("centre")
            y = float(frames.frame(2)["position"][0, 1])
            self.assertAlmostEqual(frames.records()[2].readings["height"], y, places=6)
            self.assertTrue(0.0 < y < 0.4)

    def test_stages_come_after_those_that_they_read(self) -> None:
        self.assertEqual(list(stage.stages())[:3], ["liquid", "air", "surface"])
        self.assertEqual([one.name for one in stage.usual()], ["liquid", "surface"])

        class Late(LiquidStage):
            name = "late"
            reads = ("nobody",)

        with mock.patch.dict(stage._declared), self.assertRaisesRegex(LookupError, "late reads nobody"):
            stage.register(Late())
            stage.stages()
        with self.assertRaisesRegex(
            LookupError, "'foam' is no stage; there are liquid, air, surface, whitewater, mist, sea, sea_foam and wake"
        ):
            stage.named(["foam"])

    def test_every_reading_that_is_measured_is_declared(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            document = {**tiny_scene(), "time": {"last": 2}}
            for element in document["elements"][:2]:
                element["viscosity"] = 2.0
            cache = Cache(Path(name))
            list(run(parse_scene(document), Path(name), cache, stages=tuple(stage.stages())))
            for one in stage.stages().values():
                found = cache.stage(one.name).records()[2].readings
                self.assertEqual({row.name for row in readings.told(one.readings, found)}, set(found))
            names = [
                row.label for row in readings.told(LiquidStage.readings, cache.stage("liquid").records()[2].readings)
            ]
        self.assertIn("Force on paddle x", names)
        self.assertIn("Residual of the pressure after viscosity", names)
        with self.assertRaisesRegex(KeyError, "no stage declares: warmth"):
            readings.told([Reading("speed_max", "Speed", "m/s")], ["warmth"])

    def test_air_is_looked_for_on_demand_in_frames_of_the_liquid(self) -> None:
        """Still water traps none; a splash does, as much in slow motion; what is shown is the liquid's own points."""
        with tempfile.TemporaryDirectory() as name:
            found = {}
            for title, drop, slower in (("still", 0.0, 1.0), ("splash", 0.2, 1.0), ("slowed", 0.2, 0.5)):
                document = {**tiny_scene(), "time": {"last": 4, "fps": 24 * slower, "time_scale": slower}}
                pool = {**document["elements"][0], "shape": {"kind": "box", "size": [0.4, 0.1, 0.4]}}
                pool["pose"] = {"translation": [0.2, 0.05, 0.2]}
                ball = {**pool, "name": "ball", "shape": {"kind": "sphere", "radius": 0.08}}
                ball |= {"pose": {"translation": [0.2, 0.22, 0.2]}, "velocity": [0, -3 * slower, 0]}
                document["elements"] = [pool, *([ball] if drop else [])]
                document["domain"] = {"low": [0, 0, 0], "size": [0.4, 0.4, 0.4]}
                cache = Cache(Path(name) / title)
                list(run(parse_scene(document), Path(name), cache, quality="final"))
                self.assertEqual(cache.stage("air").records(), {})
                list(run(parse_scene(document), Path(name), cache, stages=("air",), quality="final"))
                found[title] = cache.stage("air").records()[4].readings
                if title == "splash":
                    shown = stage.stages()["air"].pack(cache.stage("air"), 4, Look("trapped", 10**6, 0.1, []))
                    told = json.loads(shown[8 : 8 + int.from_bytes(shown[4:8], "little")])
                    self.assertEqual((told["by"], told["unit"]), ("trapped", "m/s"))
                    self.assertLessEqual({"crest", "energy", "vorticity", "speed"}, set(told["choices"]))
                    self.assertEqual(told["total"], len(cache.stage("liquid").frame(4)["id"]))
        for reading in ("trapped_high", "vorticity_high", "energy_high"):
            self.assertLess(found["still"][reading], 0.05 * found["splash"][reading], reading)
            self.assertAlmostEqual(found["slowed"][reading] / found["splash"][reading], 1.0, delta=0.05, msg=reading)
        self.assertGreater(found["splash"]["crest_high"], 0.0)

    def test_the_projection_after_viscosity_is_measured(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            document = {**tiny_scene(), "time": {"last": 3}}
            for element in document["elements"][:2]:
                element["viscosity"] = 2.0
            cache = Cache(Path(name))
            list(run(parse_scene(document), Path(name), cache, stages=("liquid",)))
            found = cache.stage("liquid").records()[3].readings
        self.assertGreater(found["second_iterations"], 0)
        for name in ("residual", "viscous_residual", "second_residual"):
            self.assertGreater(found[name], 0.0, name)
            self.assertLess(found[name], 1e-4, name)


class Attributes(SimpleTestCase):
    """An attribute of particles, declared in one row for what becomes of it and one for where it comes from."""

    def test_an_attribute_reaches_cache_viewport_surface_and_files(self) -> None:
        salt = Attribute("salt", unit="g/kg", blend="mean", shown="ramp")
        row = Carrying(
            "salted",
            ("salt",),
            wanted=lambda scene: True,
            given=lambda element, scene, files: lambda points, number, time: 30 + 100 * points[:, :1],
            depends=lambda element, scene, files: ["salt", 30],
        )
        document = {**tiny_scene(), "time": {"last": 2}}
        scene = parse_scene(document)
        before = frame_keys(scene, SceneFiles(Path(".")), "final", "liquid")
        with (
            tempfile.TemporaryDirectory() as name,
            mock.patch.dict(attributes.ATTRIBUTES, {"salt": salt}),
            mock.patch.object(carrying, "CARRYING", [*carrying.CARRYING, row]),
        ):
            home, cache = Path(name), Cache(Path(name) / "cache")
            self.assertNotEqual(frame_keys(scene, SceneFiles(home), "final", "liquid")[1], before[1])
            list(run(scene, home, cache))
            for kind in ("liquid", "surface"):
                frame = cache.stage(kind).frame(2)
                self.assertEqual(frame["salt"].shape, (len(frame["position"]),))
                self.assertIn("salt", choices(frame))
                self.assertTrue(10 - 1e-3 <= float(frame["salt"].min()) < float(frame["salt"].max()) <= 50 + 1e-3)
            first = cache.stage("liquid").frame(1)
            pool = first["source"] == 0
            np.testing.assert_allclose(first["salt"][pool], 30 + 100 * (first["position"][pool, 0] - 0.2), atol=0.02)
            (piece,) = frame_pieces(stage.Job(scene, SceneFiles(home), cache, "final"), self.delivery(), 2)
            write_ply(home / "out.ply", piece.position, piece.triangle, piece.attributes)
            head = (home / "out.ply").read_bytes().split(b"end_header")[0]
            self.assertIn(b"property float salt", head)
            # a run goes on from a restart state that holds it
            longer = parse_scene({**document, "time": {"last": 3}})
            done = list(run(longer, home, cache, stages=("liquid",)))
            self.assertEqual([one.reused for one in done], [True, True, False])
            self.assertIn("salt", cache.stage("liquid").frame(3))
        self.assertNotIn("salt", attributes.ATTRIBUTES)

    def delivery(self):  # type: ignore[no-untyped-def]
        document = {**tiny_scene(), "deliveries": [{"name": "all", "format": "ply"}]}
        return parse_scene(document).deliveries[0]


class States(SimpleTestCase):
    """Restart states are kept by what is valid, not by their frames' numbers."""

    def test_a_rerun_after_an_edit_keeps_its_own_states(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            store = Cache(Path(name)).stage("liquid")
            old = {n: f"old {n}" for n in range(1, 41)}
            for n in range(1, 41):
                store.write_state(n, old[n], {"a": np.zeros(1)}, old)
            self.assertEqual(store.states(), [12, 24, 36, 39, 40])
            new = {n: old[n] if n < 20 else f"new {n}" for n in range(1, 41)}
            for n in (20, 21, 22):
                store.write_state(n, new[n], {"a": np.ones(1)}, new)
            self.assertEqual(store.states(), [12, 21, 22])
            self.assertEqual(str(store.state(22)["key"]), "new 22")

    def test_a_run_that_is_stopped_again_after_an_edit_goes_on_where_it_was(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            home, cache = Path(name), Cache(Path(name) / "cache")
            document = {**tiny_scene(), "time": {"last": 6}}
            list(run(parse_scene(document), home, cache, stages=("liquid",)))
            document["liquid"] = {**document["liquid"], "flip_share": 0.9}
            changed = parse_scene(document)
            list(run(changed, home, cache, stages=("liquid",), frames=(1, 3)))
            begun: list[int] = []
            made = LiquidStage.walk

            def walk(self, work, state):  # type: ignore[no-untyped-def]
                begun.append(0 if state is None else 1)
                return made(self, work, state)

            with mock.patch.object(LiquidStage, "walk", walk):
                list(run(changed, home, cache, stages=("liquid",), frames=(1, 4)))
        self.assertEqual(begun, [1])


class Keys(SimpleTestCase):
    """Files are hashed once."""

    def test_a_mesh_is_read_once_for_the_keys_of_many_frames_and_not_again_for_another_report(self) -> None:
        from basin.geometry.mesh import TriangleMesh
        from basin.geometry.primitives import sphere_mesh

        with tempfile.TemporaryDirectory() as name:
            home = Path(name)
            ball = sphere_mesh(0.05)
            write_ply(home / "ball.ply", ball.position, ball.triangle)
            document = {**tiny_scene(), "time": {"last": 240}}
            shape = {"kind": "mesh", "file": "ball.ply"}
            document["elements"].append({"kind": "collider", "name": "ball", "shape": shape})
            scene = parse_scene(document)
            with mock.patch.object(TriangleMesh, "digest", autospec=True, side_effect=TriangleMesh.digest) as hashed:
                first = stage.all_keys(job(scene, SceneFiles(home)))
                again = stage.all_keys(job(scene, SceneFiles(home)))
                self.assertEqual(hashed.call_count, 1)
                self.assertEqual(first, again)
                write_ply(home / "ball.ply", 1.1 * ball.position, ball.triangle)
                self.assertNotEqual(stage.all_keys(job(scene, SceneFiles(home))), first)
                self.assertEqual(hashed.call_count, 2)
