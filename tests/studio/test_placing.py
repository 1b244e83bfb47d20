"""Gestures asked over the web, and rehearsals that come and go."""

from __future__ import annotations

import io
import json
from typing import Any
from unittest import mock

import numpy as np
import trimesh
from PIL import Image

from basin.cache import Cache
from studio.productions import rehearsing
from studio.productions.models import Take
from studio.runs.models import Run
from tests.studio.case import StudioCase
from tests.waiting import until

TUB = {"kind": "collider", "name": "Tub", "shape": {"kind": "tub", "radius": 0.15, "height": 0.2, "wall": 0.05}}
TAP = {
    "kind": "inflow",
    "name": "Tap",
    "shape": {"kind": "disc", "radius": 0.03},
    "velocity": [0, -0.5, 0],
    "pose": {"translation": [0.2, 0.35, 0.2]},
}


class Asked(StudioCase):
    """What a gesture would do, of a scene that is kept or not."""

    def setUp(self) -> None:
        super().setUp()
        self.base = f"/api/takes/{self.take.pk}"
        tub = {**TUB, "pose": {"translation": [0.2, 0.0, 0.2]}}
        self.scene = {**self.take.scene, "elements": [tub]}
        Take.objects.update(scene=self.scene)

    def test_a_stream_that_is_not_kept(self) -> None:
        scene = {**self.scene, "elements": [*self.scene["elements"], TAP]}
        told = self.post(f"{self.base}/flight/draft", {"scene": scene, "element": 1}).json()
        self.assertEqual((told["met"], told["leaves"]), ("Tub", False))
        # a fall of 0.3 m from 0.5 m/s
        self.assertAlmostEqual(told["speed"], (0.25 + 2 * 9.80665 * 0.3) ** 0.5, delta=0.2)
        self.assertEqual(self.post(f"{self.base}/flight/draft", {"scene": scene, "element": 7}).status_code, 404)
        self.assertEqual(len(Take.objects.get().scene["elements"]), 1)

    def test_when_it_is_full_and_what_must_pour_for_it(self) -> None:
        scene = {**self.scene, "elements": [*self.scene["elements"], TAP]}
        asked = {"scene": scene, "element": 1}
        told = self.post(f"{self.base}/filling/final", asked).json()
        self.assertEqual((told["vessel"], told["open"]), ("Tub", ""))
        litres = 3.14159 * 0.1**2 * 0.15 * 1000
        self.assertAlmostEqual(told["litres"], litres, delta=0.1 * litres)
        solved = self.post(f"{self.base}/filling/final/solve", {**asked, "given": "full", "value": 2.5}).json()
        scene["elements"][1] = solved["element"]
        again = self.post(f"{self.base}/filling/final", {"scene": scene, "element": 1}).json()
        self.assertAlmostEqual(again["full"], 2.5, delta=0.05)
        late = self.post(f"{self.base}/filling/final/solve", {**asked, "given": "full", "value": 0.01})
        self.assertEqual(late.status_code, 422)
        self.assertIn("arrive first", late.json()["problems"][0]["says"])
        wrong = self.post(f"{self.base}/filling/final/solve", {**asked, "given": "weight", "value": 1})
        self.assertEqual(wrong.status_code, 422)

    def test_pushes_fit_and_another_size(self) -> None:
        force = {"kind": "force", "name": "Push", "effect": {"kind": "attraction", "strength": 5}}
        scene = {**self.scene, "elements": [{**force, "pose": {"translation": [0.2, 0.2, 0.2]}}]}
        told = self.post(f"{self.base}/pushes/draft", {"scene": scene, "element": 0, "frame": 1}).json()
        self.assertAlmostEqual(told["strongest"], 5.0, places=3)
        self.assertGreater(len(told["lines"]), 10)
        Take.objects.update(scene={**self.scene, "elements": [*self.scene["elements"], TAP]})
        fits = self.client.get(f"{self.base}/fit/draft").json()
        self.assertGreater(fits["voxels"], 0)
        larger = self.client.get(f"{self.base}/lasting?action=1&seconds=2").json()
        self.assertEqual(larger["factor"], 4.0)
        self.assertEqual(larger["scene"]["elements"][0]["shape"]["radius"], 0.6)
        self.assertEqual(self.client.get(f"{self.base}/lasting?action=0.001&seconds=900").status_code, 422)
        self.assertEqual(Take.objects.get().scene["elements"][0]["shape"]["radius"], 0.15)  # nothing is kept

    def test_the_numbers_behind_a_look(self) -> None:
        tap = {**TAP, "liquid": "water 20 C"}
        scene = {**self.scene, "elements": [*self.scene["elements"], tap]}
        asked = {"scene": scene, "element": 1}
        told = self.post(f"{self.base}/regime/final", {**asked, "length": 0.02, "speed": 3}).json()
        weber = next(n["value"] for n in told["numbers"] if n["name"] == "Weber")
        self.assertAlmostEqual(weber, 998.2 * 9 * 0.02 / 0.0727, delta=1.0)
        self.assertTrue(any("crown" in says for says in told["says"]))
        self.assertEqual(told["taken"], "")
        # of what the tap does by itself: a fall of 0.3 m from 0.5 m/s, drawn out
        told = self.post(f"{self.base}/regime/final", asked).json()
        self.assertAlmostEqual(told["speed"], (0.25 + 2 * 9.80665 * 0.3) ** 0.5, delta=0.2)
        self.assertAlmostEqual(told["length"], 0.06 * (0.5 / told["speed"]) ** 0.5, delta=0.002)
        self.assertIn("meets Tub", told["taken"])
        ball = {"kind": "fill", "name": "Ball", "shape": {"kind": "sphere", "radius": 0.02}, "liquid": "water 20 C"}
        ball["pose"] = {"translation": [0.2, 0.27, 0.2]}
        told = self.post(f"{self.base}/regime/final", {"scene": {**self.scene, "elements": [ball, tap]}, "element": 0})
        # its lowest point falls a quarter of a metre to the floor of the domain
        self.assertAlmostEqual(told.json()["speed"], (2 * 9.80665 * 0.25) ** 0.5, delta=0.15)
        self.assertIn("meets the floor", told.json()["taken"])
        wrong = self.post(f"{self.base}/regime/final", {**asked, "element": 0, "length": 0.02, "speed": 3})
        self.assertEqual(wrong.status_code, 422)

    def test_a_stand_in_and_a_backdrop(self) -> None:
        mesh = trimesh.creation.icosphere(4, 0.1)
        (self.take.folder / "meshes").mkdir(parents=True, exist_ok=True)
        mesh.export(self.take.folder / "meshes" / "orb.ply")
        Image.new("RGB", (64, 36), (200, 90, 10)).save(self.take.folder / "back.png")
        orb = {"kind": "collider", "name": "Orb", "shape": {"kind": "mesh", "file": "meshes/orb.ply"}}
        camera = {"backdrop": "back.png"}
        Take.objects.update(scene={**self.scene, "elements": [orb], "camera": camera})
        shape = self.post(f"{self.base}/standin", {"element": 0, "triangles": 300}).json()["shape"]
        self.assertEqual(shape["fine"], "meshes/orb.ply")
        self.assertTrue((self.take.folder / shape["file"]).is_file())
        none = self.post(f"{self.base}/standin", {"element": 0, "triangles": 3})
        self.assertIn("ask for 100 or more", none.json()["problems"][0]["says"])
        seen = Image.open(io.BytesIO(self.client.get(f"{self.base}/backdrop/1").content))
        self.assertEqual((seen.size, seen.getpixel((5, 5))), ((64, 36), (200, 90, 10)))

    def test_openings(self) -> None:
        found = self.client.get(f"{self.base}/openings?frame=1").json()
        self.assertIn(0.1, [round(o["radius"], 2) for o in found])

    def test_a_room_is_told_and_kept_as_a_mesh_that_can_be_filled(self) -> None:
        seed = {"seed": [0.2, 0.1, 0.2], "level": 0.15, "frame": 1}
        told = self.post(f"{self.base}/room/final", seed).json()
        self.assertAlmostEqual(told["litres"], 3.14159 * 0.1**2 * 0.1 * 1000, delta=0.1 * told["litres"])
        file = self.post(f"{self.base}/room/final/keep", seed).json()["file"]
        self.assertTrue((self.take.folder / file).is_file())
        fill = {"kind": "fill", "name": "Fill", "shape": {"kind": "mesh", "file": file}}
        change = {"revision": 1, "scene": {**self.scene, "elements": [*self.scene["elements"], fill]}}
        self.assertEqual(self.put(f"{self.base}/scene", change).json()["problems"], [])
        outside = self.post(f"{self.base}/room/final", {**seed, "seed": [5.0, 0.0, 0.2]})
        self.assertEqual(outside.status_code, 422)

    def test_a_rehearsal_plays_and_is_gone_when_it_is_left(self) -> None:
        def frame(after: int | None, session: str = "a") -> Any:
            body = {"scene": self.scene, "after": after, "session": session}
            return self.post(f"{self.base}/rehearse", body)

        first = frame(None)
        length = int.from_bytes(first.content[4:8], "little")
        self.assertEqual(json.loads(first.content[8 : 8 + length])["rehearsal"]["frame"], 1)
        second = frame(1)
        length = int.from_bytes(second.content[4:8], "little")
        self.assertEqual(json.loads(second.content[8 : 8 + length])["rehearsal"]["frame"], 2)
        (one,) = rehearsing._there.values()
        with mock.patch.object(rehearsing, "MOST", 1):
            self.assertEqual(frame(None, "b").status_code, 409)
        self.assertEqual(self.client.delete(f"{self.base}/rehearse?session=a").json(), {"left": True})
        until(lambda: one.process._process.poll() is not None, "its process is still there", 15)
        self.assertEqual(rehearsing.count(), 0)
        self.assertEqual([p.name for p in self.take.folder.glob("*")], [])

    def test_one_that_nobody_asks_for_any_more_goes_by_itself(self) -> None:
        self.post(f"{self.base}/rehearse", {"scene": self.scene, "session": "a"})
        (one,) = rehearsing._there.values()
        with mock.patch.object(rehearsing, "UNSEEN", 0.6):
            until(lambda: rehearsing.count() == 0, "it is still there", 15)
        until(lambda: one.process._process.poll() is not None, "its process is still there", 15)

    def test_a_scene_that_cannot_run_is_told(self) -> None:
        broken = {**TAP, "shape": {"kind": "mesh", "file": "none.ply"}}
        reply = self.post(f"{self.base}/rehearse", {"scene": {**self.scene, "elements": [broken]}, "session": "a"})
        self.assertEqual(reply.status_code, 422)
        self.assertIn("none.ply", reply.json()["problems"][0]["says"])
        rehearsing.leave((self.person.pk, self.take.pk, "a"))


class OutOfDate(StudioCase):
    """Which setting changed since frames were made, and from what to what."""

    def test_it_is_told_of_the_first_stage_that_is_out_of_date(self) -> None:
        store = Cache(self.take.cache_folder("draft")).stage("liquid")
        store.write(1, "another key", {"position": np.zeros((1, 3), np.float32)}, {"seconds": 1.0})
        before = {**self.take.scene, "liquid": {**self.take.scene["liquid"], "flip_share": 0.25}}
        Run.objects.create(
            take=self.take, by=self.person, quality="draft", stages="liquid", status="done", scene=before
        )
        base = f"/api/takes/{self.take.pk}"

        def told() -> list[str]:
            remarks = self.client.get(f"{base}/forecast/draft").json()["remarks"]
            return [r["says"] for r in remarks if r["rule"] == "out_of_date"]

        now = self.take.scene["liquid"].get("flip_share", 0)
        self.assertEqual(told(), [f"is out of date; since its last run: liquid: flip share 0.25 → {now:.4g}"])
        aside = {**self.take.scene, "aside": ["out_of_date:Liquid"]}
        self.assertEqual(self.put(f"{base}/scene", {"revision": 1, "scene": aside}).status_code, 200)
        self.assertEqual(told(), [])
