"""Judging one frame, and many frames meshed beside each other."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from django.test import SimpleTestCase

from basin.cache import Cache
from basin.exchange import read_mesh
from basin.geometry.mesh import TriangleMesh
from basin.scene import Scene, SceneError, parse_scene
from basin.stages import run as running
from basin.stages import surface_stage
from basin.stages.beside import Beside, ProcessEnded
from basin.stages.files import SceneFiles
from basin.stages.judge import Asked, Judge, JudgeFailure, left_out, needed_radius, smallest_sheet
from basin.stages.run import RunFailure, run
from basin.surface.field import Points
from basin.surface.mesh import surface_frame
from basin.surface.settings import SurfaceSettings
from tests.basin.test_delivery import Case, document
from tests.reference.tanks import box_fill
from tests.reference.test_surfacing import lattice
from tests.waiting import until


def header(packed: bytes) -> dict[str, Any]:
    """The header of a packed frame."""
    length = int(np.frombuffer(packed[4:8], "<u4")[0])
    found: dict[str, Any] = json.loads(packed[8 : 8 + length])
    return found


class Looking(Case):
    """A frame meshed again with other settings."""

    def asked(self, **more: Any) -> Asked:
        return Asked(self.home, self.cache.folder, document(), "final", 2, **more)

    def test_same_surface_as_the_run(self) -> None:
        found = header(Judge().look(self.asked()))
        readings = self.cache.stage("surface").records()[2].readings
        self.assertEqual(found["facts"]["triangles"], readings["triangles"])
        self.assertAlmostEqual(found["facts"]["volume_error"], readings["volume_error"], places=6)
        self.assertEqual(found["facts"]["open_edges"], 0)
        self.assertEqual(found["facts"]["left_out"], 0)
        # and it lies where that does
        frame = self.cache.stage("surface").frame(2)
        np.testing.assert_allclose(found["low"], frame["position"].min(axis=0), atol=1e-6)
        np.testing.assert_allclose(found["span"], np.ptp(frame["position"], axis=0), atol=1e-6)

    def test_difference_is_the_way_from_the_last_setting(self) -> None:
        judge = Judge()
        first = header(judge.look(self.asked()))
        self.assertNotIn("difference", first["choices"])
        grown = document()
        filters = [{"width": 0.7}, {"does": "grow", "width": 0.5}]
        grown["surface"] = {"filters": filters}
        found = header(judge.look(replace(self.asked(by="difference"), scene=grown)))
        self.assertEqual(found["by"], "difference")
        self.assertAlmostEqual((found["near"] + found["far"]) / 2, 5.0, delta=1.5)  # half a voxel of 10 mm
        again = header(judge.look(replace(self.asked(by="difference"), scene=grown)))
        self.assertEqual(again["near"], found["near"])  # looked at twice, it is still against what was before

    def test_what_cuts_take_away_is_not_missing(self) -> None:
        cut = document()
        cut["surface"] = {"cuts": [{"by": "height", "height": 0.05}]}
        found = header(Judge().look(replace(self.asked(), scene=cut)))
        self.assertLess(found["span"][1], 0.07)
        self.assertNotIn("left_out", found["facts"])
        self.assertNotIn("left_out", found)

    def test_region(self) -> None:
        whole = header(Judge().look(self.asked()))
        middle = (0.2, 0.1, 0.2)
        found = header(Judge().look(self.asked(middle=middle, reach=0.03)))
        self.assertLess(found["total"], whole["total"] / 4)
        for low, span, centre in zip(found["low"], found["span"], middle, strict=True):
            self.assertGreater(low, centre - 0.03 - 0.015)
            self.assertLess(low + span, centre + 0.03 + 0.015)
        self.assertNotIn("volume_error", found["facts"])  # a part has no volume to be compared

    def test_coarser_is_quicker_to_look_at(self) -> None:
        whole, coarse = header(Judge().look(self.asked())), header(Judge().look(self.asked(coarser=2.0)))
        self.assertAlmostEqual(coarse["total"] / whole["total"], 0.25, delta=0.08)

    def test_colliders_are_sampled_once(self) -> None:
        judge = Judge()
        with mock.patch.object(surface_stage, "distance_of", wraps=surface_stage.distance_of) as sampled:
            judge.look(self.asked())
            for gap in (0.0, 1.0, 2.0):
                changed = {**document(), "surface": {"colliders": "remove", "gap": gap}}
                judge.look(replace(self.asked(), scene=changed))
            self.assertEqual(sampled.call_count, 2)  # there are two of them
            moved = {**document(), "surface": {"colliders": "remove"}}
            moved["elements"][2]["pose"]["translation"] = [0.18, 0.12, 0.18]
            judge.look(replace(self.asked(), scene=moved))
            self.assertEqual(sampled.call_count, 4)

    def test_freezing(self) -> None:
        path = self.to / "frozen.ply"
        count = Judge().freeze(self.asked(coarser=4.0), path)
        mesh = read_mesh(path)
        self.assertEqual((len(mesh.triangle), mesh.open_edges()), (count, 0))
        self.assertEqual([p.name for p in self.to.iterdir()], ["frozen.ply"])

    def test_what_cannot_be_is_told(self) -> None:
        for change, words in (
            ({"frame": 99}, "frame 99 has no liquid yet"),
            ({"scene": {**document(), "surface": {"voxel_share": 9}}}, "voxel_share"),
        ):
            with self.assertRaisesRegex(JudgeFailure, words):
                Judge().look(replace(self.asked(), **change))

    def test_frames_meshed_beside_each_other_are_the_same(self) -> None:
        scene = parse_scene({**document(), "surface": {"voxel_share": 0.45}})
        found = []
        for workers in (1, 2):
            cache = Cache(self.to.parent / f"by {workers}")
            cache.folder.mkdir(parents=True)
            (cache.folder / "liquid").symlink_to(self.cache.folder / "liquid")
            with mock.patch.object(running, "FRAMES_A_WORKER", 1 if workers == 2 else 99):
                made = [d for d in run(scene, self.home, cache, stages=("surface",))]
            self.assertEqual([d.frame for d in made], [1, 2, 3])
            found.append([cache.stage("surface").frame(n) for n in (1, 2, 3)])
        for one, other in zip(*found, strict=True):
            for name in one:
                np.testing.assert_array_equal(one[name], other[name], err_msg=name)


class JoinedCaches(SimpleTestCase):
    """Liquid of another cache is meshed with a scene's own as if it were one; volumes are those of the boxes."""

    def scene(self, low: float, high: float, frames: tuple[int, int], surface: dict[str, Any], **liquid: Any) -> Scene:
        element = box_fill((low, 0, 0), (high, 0.24, 0.48))
        return parse_scene(
            {
                "format": "zinc-scene/1",
                "time": {"first": frames[0], "last": frames[1]},
                "domain": {"low": [0, 0, 0], "size": [0.96, 0.48, 0.48]},
                "liquid": {"voxel_size": 0.03, "gravity": [0, 0, 0], **liquid},
                "surface": surface,
                "elements": [element],
            }
        )

    def test_two_halves_are_one_pool(self) -> None:
        with tempfile.TemporaryDirectory() as holding:
            home = Path(holding)
            (home / "left").mkdir()
            (home / "right").mkdir()
            # one half with particles near its surface only, and its frames numbered otherwise
            far = self.scene(0.48, 0.96, (11, 12), {}, band=3.0)
            for _ in run(far, home / "right", Cache(home / "right" / "final")):
                pass
            joined = {"caches": [{"folder": "../right/final", "offset": 10}]}
            near = self.scene(0.0, 0.48, (1, 2), joined)
            cache = Cache(home / "left" / "final")
            for _ in run(near, home / "left", cache):
                pass
            record = cache.stage("surface").records()[2]
            frame = cache.stage("surface").frame(2)
            mesh = TriangleMesh(frame["position"].astype(np.float64), frame["triangle"])
            self.assertEqual((mesh.open_edges(), mesh.euler_characteristic()), (0, 2))  # no wall between, no hollow
            self.assertAlmostEqual(mesh.volume() / (0.96 * 0.24 * 0.48), 1.0, delta=0.03)
            self.assertLess(abs(record.readings["volume_error"]), 0.03)
            asked = Asked(home / "left", cache.folder, near.model_dump(mode="json"), "final", 2)
            seen = header(Judge().look(asked))["facts"]
            self.assertEqual(seen["triangles"], record.readings["triangles"])
            self.assertAlmostEqual(seen["volume_error"], record.readings["volume_error"], places=6)
            # a frame that the other has not got
            late = self.scene(0.0, 0.48, (1, 3), joined)
            with self.assertRaisesRegex(RunFailure, "has no frame 13; run it there first, or change the offset"):
                list(run(late, home / "left", cache))

    def test_volume_is_not_compared_where_cuts_or_shapes_change_it(self) -> None:
        for surface in ({"cuts": [{"by": "height", "height": 0.1}]}, {"joins": [{"shape": {"kind": "box"}}]}):
            scene = self.scene(0.0, 0.48, (1, 1), surface)
            world = surface_stage.SurfaceWorld(scene, SceneFiles(Path(".")), "final")
            self.assertIsNone(world.volume(1.0, 1))
        plain = surface_stage.SurfaceWorld(self.scene(0.0, 0.48, (1, 1), {}), SceneFiles(Path(".")), "final")
        self.assertEqual(plain.volume(1.0, 1), 1.0)


class Numbers(SimpleTestCase):
    """Facts beside the picture, where they are known."""

    def test_radius_that_a_lattice_needs(self) -> None:
        """Half the diagonal of a cell: sqrt(3) / 2 spacings."""
        place = lattice(12, 12, 12)
        still = {"velocity": np.zeros((len(place), 3), np.float32)}
        points = Points(place.astype(np.float32), np.ones(len(place), np.float32), 1.0, still)
        frame = surface_frame(points, 0.25, SurfaceSettings())
        found = needed_radius(frame, points)
        assert found is not None
        self.assertAlmostEqual(found, np.sqrt(3) / 2, delta=0.02)
        # balls of that radius leave no hole, smaller ones do
        for radius, pieces in ((found + 0.02, 1), (found - 0.1, 2)):
            settings = SurfaceSettings(method="spheres", particle_radius=radius, filters=[])
            mesh = surface_frame(points, 0.1, settings)
            inside = (np.abs(mesh.position) < 4).all(axis=1)
            self.assertEqual(bool(inside.any()), pieces == 2)

    def test_smallest_sheet(self) -> None:
        for layers in (2, 4):
            place = lattice(24, layers, 24)
            still = {"velocity": np.zeros((len(place), 3), np.float32)}
            points = Points(place.astype(np.float32), np.ones(len(place), np.float32), 1.0, still)
            sheet = smallest_sheet(surface_frame(points, 0.5, SurfaceSettings(filters=[])))
            assert sheet is not None
            self.assertAlmostEqual(sheet, layers, delta=0.35)

    def test_what_is_left_out_is_what_no_mesh_shows(self) -> None:
        """Of a body and three drops apart, the drops alone, if spray is not drawn; else nothing."""
        drops = np.array([[12.0, 0, 0], [0, 13.0, 0], [-12.0, 3.0, 0]])
        place = np.concatenate([lattice(12, 12, 12), drops]).astype(np.float32)
        still = {"velocity": np.zeros((len(place), 3), np.float32)}
        points = Points(place, np.ones(len(place), np.float32), 1.0, still)
        for method in ("density", "anisotropic"):
            for radius, expected in ((0.0, [1728, 1729, 1730]), (0.62, [])):
                frame = surface_frame(points, 0.5, SurfaceSettings(method=method, spray_radius=radius))
                self.assertEqual(np.flatnonzero(left_out(frame, points)).tolist(), expected, method)


def own_number(add: int = 0) -> int:
    """What processes beside the tests are asked for."""
    if add < 0:
        raise SceneError(["less than nothing", "twice"])
    return os.getpid() + add


class BesideUs(SimpleTestCase):
    """Processes beside a run."""

    def test_they_call_and_tell(self) -> None:
        one = Beside()
        self.addCleanup(one.end)
        child = one.call(own_number)
        self.assertNotEqual(child, os.getpid())
        self.assertEqual(one.call(own_number, 5), child + 5)
        with self.assertRaises(SceneError) as told:
            one.call(own_number, -1)
        self.assertEqual([p.says for p in told.exception.problems], ["less than nothing", "twice"])
        os.kill(child, signal.SIGKILL)
        with self.assertRaises(ProcessEnded):
            one.call(own_number)

    def test_they_end_with_a_killed_parent(self) -> None:
        code = (
            "import os, threading\n"
            "from basin.stages.beside import Beside\n"
            "print(Beside().call(os.getpid), flush=True)\n"
            "threading.Event().wait(60)\n"
        )
        root = Path(__file__).resolve().parent.parent.parent
        parent = subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True, cwd=root)
        assert parent.stdout
        child = Path(f"/proc/{int(parent.stdout.readline())}")
        self.assertTrue(child.exists())
        parent.kill()
        parent.wait()
        parent.stdout.close()

        def gone() -> bool:
            return not child.exists() or (child / "stat").read_text().rsplit(")", 1)[1].split()[0] == "Z"

        until(gone, "it outlived its parent")
