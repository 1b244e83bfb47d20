"""People, takes, runs and their leases, through the API and the services."""

from __future__ import annotations

import io
import json
import os
import sys
import threading
import zipfile
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import redis
from django.conf import settings
from django.contrib.auth.models import User
from django.db import OperationalError
from django.db.models import QuerySet
from django.test import Client, SimpleTestCase, override_settings
from django.utils import timezone

from basin.cache import open_cache
from basin.stages import stage, warm
from basin.stages.judge import Asked
from basin.stages.liquid_stage import LiquidStage
from studio import events
from studio.errors import Refused
from studio.productions import judging
from studio.productions.models import Take
from studio.productions.services import load_demo
from studio.runs import services, work
from studio.runs.models import Run
from tests.studio.case import CUBE, StudioCase
from tests.toy_stage import CENTRE
from tests.waiting import until


class Declared(StudioCase):
    """A stage that somebody else declares is there for the page, without another file being touched."""

    def test_its_card_its_frames_and_its_measures(self) -> None:
        (self.root / "centre_of_test.py").write_text(CENTRE)
        with (
            mock.patch.object(sys, "path", [str(self.root), *sys.path]),
            mock.patch.dict(os.environ, {stage.OTHERS: "centre_of_test"}),
            mock.patch.dict(stage._declared),
        ):
            self.addCleanup(sys.modules.pop, "centre_of_test", None)
            cards = {card["name"]: card for card in self.client.get("/api/stages").json()}
            self.assertEqual((cards["centre"]["verb"], cards["centre"]["reads"]), ("Weigh", ["liquid"]))
            self.assertEqual(self.ask(["liquid", "centre"]).status_code, 200)
            self.assertTrue(services.work_once())
            base = f"/api/takes/{self.take.pk}"
            report = {r["stage"]: r for r in self.client.get(f"{base}/stages/draft").json()}["centre"]
            self.assertEqual(report["states"], ["current"] * 4)
            self.assertEqual(report["measures"][0], {"name": "height", "label": "Height of the centre", "unit": "m"})
            self.assertEqual(self.client.get(f"{base}/view/draft/centre/2").content[:4], b"ZBV1")
            (production,) = self.client.get("/api/productions").json()
            vessels = production["shots"][0]["takes"][0]["vessels"]
            self.assertEqual([v["stage"] for v in vessels], ["liquid", "surface", "centre"])
            self.assertIn("centre", self.client.get(f"{base}/forecast/draft").json()["costs"])


class Access(StudioCase):
    """Who may see what."""

    def test_nobody_sees_anything_unless_signed_in(self) -> None:
        stranger = Client()
        self.assertEqual(stranger.get("/api/session").json(), {"name": None})
        for url in ("/api/productions", f"/api/takes/{self.take.pk}", "/api/runs", f"/api/takes/{self.take.pk}/poses"):
            self.assertEqual(stranger.get(url).status_code, 401, url)
        self.assertEqual(stranger.get("/api/events").status_code, 401)

    def test_sign_in_and_out(self) -> None:
        guest = Client()
        wrong = guest.post(
            "/api/session", json.dumps({"name": "mira", "password": "x"}), content_type="application/json"
        )
        self.assertEqual(wrong.status_code, 403)
        self.assertEqual(wrong.json()["problems"][0]["says"], "Name and password do not match.")
        right = guest.post(
            "/api/session", json.dumps({"name": "mira", "password": "clay"}), content_type="application/json"
        )
        self.assertEqual(right.json(), {"name": "mira"})
        guest.delete("/api/session")
        self.assertEqual(guest.get("/api/session").json(), {"name": None})

    def test_takes_of_others_are_not_there(self) -> None:
        other = Client()
        other.force_login(User.objects.create_user("jon"))
        self.assertEqual(other.get("/api/productions").json(), [])
        base = f"/api/takes/{self.take.pk}"
        for url in (base, f"{base}/stages/draft", f"{base}/forecast/draft", f"{base}/view/draft/liquid/1"):
            self.assertEqual(other.get(url).status_code, 404, url)

    def test_changes_need_the_csrf_token(self) -> None:
        strict = Client(enforce_csrf_checks=True)
        strict.force_login(self.person)
        reply = strict.post(f"/api/takes/{self.take.pk}/runs", "{}", content_type="application/json")
        self.assertEqual(reply.status_code, 403)


class Scenes(StudioCase):
    """Keeping scenes and meshes."""

    def change(self, scene: dict[str, Any], revision: int) -> Any:
        return self.put(f"/api/takes/{self.take.pk}/scene", {"revision": revision, "scene": scene})

    def test_bad_scene_is_refused_and_the_kept_one_stays(self) -> None:
        reply = self.change({**self.take.scene, "time": {"first": 9, "last": 2}}, 1)
        self.assertEqual(reply.status_code, 422)
        self.assertIn("backwards", reply.json()["problems"][0]["says"])
        self.take.refresh_from_db()
        self.assertEqual(self.take.revision, 1)

    def test_second_writer_is_told(self) -> None:
        self.assertEqual(self.change(self.take.scene, 1).status_code, 200)
        self.assertEqual(self.change(self.take.scene, 1).status_code, 409)

    def upload(self, name: str, data: bytes, query: str = "") -> Any:
        return self.bring("meshes", {name: data}, query)

    def test_imported_mesh_tells_size_triangles_open_edges_and_unit(self) -> None:
        facts = self.upload("cube.obj", CUBE.encode(), "&unit=cm&up=z").json()
        self.assertEqual((facts["triangles"], facts["open_edges"]), (12, 0))
        for edge in facts["size"]:
            self.assertAlmostEqual(edge, 0.01)
        self.assertTrue((self.take.folder / facts["file"]).exists())
        damaged = self.upload("damaged.obj", CUBE.replace("f 1 5 8 4", "f 1 5 8 99").encode())
        self.assertEqual(damaged.status_code, 422)
        huge = "\n".join(
            f"v {' '.join(str(4000 * float(c)) for c in line.split()[1:])}" if line[:1] == "v" else line
            for line in CUBE.splitlines()
        )
        self.assertEqual(self.upload("huge.obj", huge.encode()).json()["proposed_unit"], "mm")

    def test_file_that_is_no_mesh_is_refused_and_not_kept(self) -> None:
        reply = self.upload("x.ply", b"hello")
        self.assertEqual(reply.status_code, 422)
        self.assertIn("not a readable PLY", reply.json()["problems"][0]["says"])
        self.assertFalse((self.take.folder / "meshes").exists())
        self.assertEqual(list((self.take.folder / "uploads").iterdir()), [])

    def send(self, names: list[str], data: list[bytes]) -> Any:
        return self.bring("meshes", dict(zip(names, data, strict=True)))

    def test_numbered_files_become_a_mesh_that_deforms(self) -> None:
        grown = [
            "\n".join(
                f"v {' '.join(str(n * float(c)) for c in line.split()[1:])}" if line[:1] == "v" else line
                for line in CUBE.splitlines()
            ).encode()
            for n in (1, 2, 3)
        ]
        facts = self.send(["grow_1.obj", "grow_2.obj", "grow_3.obj"], grown).json()
        self.assertEqual(facts["frames"], 3)
        self.assertTrue(facts["file"].endswith("grow_#.obj"))
        element = {"kind": "collider", "name": "grower", "shape": {"kind": "mesh", "file": facts["file"]}}
        scene = {**self.take.scene, "elements": [*self.take.scene["elements"], element]}
        self.assertEqual(self.change(scene, 1).status_code, 200)
        base, index = f"/api/takes/{self.take.pk}", len(scene["elements"]) - 1
        self.assertTrue(self.client.get(f"{base}/poses").json()[index]["deforms"])
        first, later = (self.client.get(f"{base}/elements/{index}/mesh?frame={n}").content for n in (1, 3))
        self.assertEqual(first[:4], b"ZBV1")
        self.assertNotEqual(first, later)

    def test_what_is_shown_and_the_solvers_solid(self) -> None:
        switch = {"keys": [{"time": 0, "value": 1, "segment": "step"}, {"time": 0.06, "value": 0}]}
        ball = {"kind": "collider", "name": "ball", "shape": {"kind": "sphere", "radius": 0.1}, "shown": switch}
        ball |= {"pose": {"translation": [0.5, 0.3, 0.5]}, "attached": self.take.scene["elements"][2]["name"]}
        scene = {**self.take.scene, "elements": [*self.take.scene["elements"], ball]}
        self.assertEqual(self.change(scene, 1).status_code, 200)
        base, index = f"/api/takes/{self.take.pk}", len(scene["elements"]) - 1
        placed = self.client.get(f"{base}/poses").json()
        self.assertEqual(placed[index]["shown"], [True, True, False, False])
        self.assertEqual(len(placed[index]["matrices"]), 4)  # it moves with what it is attached to
        self.assertEqual(placed[0]["shown"], [True])
        absent = self.client.get(f"{base}/elements/99/solid/draft/1")
        self.assertEqual(absent.status_code, 404)
        source = self.client.get(f"{base}/elements/0/solid/draft/1")
        self.assertIn("only colliders are solid", source.json()["problems"][0]["says"])
        self.assertEqual(self.client.get(f"{base}/elements/{index}/solid/poor/1").status_code, 404)
        whole = self.client.get(f"{base}/elements/2/solid/draft/1")
        self.assertEqual(whole.content[:4], b"ZBV1")
        header = json.loads(whole.content[8 : 8 + int.from_bytes(whole.content[4:8], "little")])
        self.assertGreater(header["voxel"], 0.0)
        self.assertGreaterEqual(header["largest"], header["mean"])

    def test_files_that_are_no_sequence_are_refused_and_not_kept(self) -> None:
        cube = CUBE.encode()
        for names, data, words in (
            (["a_1.obj", "b_2.obj"], [cube, cube], "named alike"),
            (["a_1.obj", "a_3.obj"], [cube, cube], "number 2 of the sequence is missing"),
            (["a_1.obj", "a_2.obj"], [cube, cube.replace(b"f 1 5 8 4", b"f 1 5 8")], "its triangles are not those"),
        ):
            reply = self.send(names, data)
            self.assertEqual(reply.status_code, 422)
            self.assertIn(words, str(reply.json()["problems"][0]))
            self.assertEqual([p for p in (self.take.folder / "meshes").glob("*") if p.is_dir()], [])

    def test_forecast_problems_bar_a_run(self) -> None:
        self.change({**self.take.scene, "liquid": {"voxel_size": 0.00005}}, 1)
        reply = self.post(f"/api/takes/{self.take.pk}/runs", {"quality": "final"})
        self.assertEqual(reply.status_code, 422)
        self.assertIn("this machine has", reply.json()["problems"][0]["says"])

    def test_demo_is_put_in_place_once(self) -> None:
        folder = Path(__file__).resolve().parent.parent.parent / "demo" / "scenes"
        takes = load_demo(folder, "Tide Mill", [self.person])
        first = [take.shot.name[:5] for take in takes if take.name == "first light"]
        self.assertEqual(first, ["TM010", "TM020", "TM024", "TM030", "TM034", "TM040"])
        others = {take.name for take in takes[6:]}
        self.assertEqual(others, {"a gentler drop", "a third of the tension", "four times the tension"})
        self.assertEqual({take.shot.name for take in takes[6:]}, {"TM030 Rain barrel"})
        self.assertEqual(load_demo(folder, "Tide Mill", [self.person]), [])
        self.assertEqual(len(self.client.get("/api/productions").json()), 2)


class Runs(StudioCase):
    """Asking, working, stopping, losing a worker."""

    def test_run_makes_frames_that_can_be_seen(self) -> None:
        self.assertEqual(self.ask().status_code, 200)
        self.assertTrue(services.work_once())
        self.assertFalse(services.work_once())
        row = Run.objects.get()
        self.assertEqual((row.status, row.done, row.total), ("done", 8, 8))
        report = self.client.get(f"/api/takes/{self.take.pk}/stages/draft").json()
        on_demand = dict.fromkeys(("air", "whitewater", "mist", "sea", "sea_foam", "wake"), "missing")
        made = {"liquid": "current", "surface": "current", **on_demand}
        self.assertEqual({s["stage"]: s["states"] for s in report}, {name: [state] * 4 for name, state in made.items()})
        self.assertGreater(report[0]["readings"][3]["particles"], 1000)
        base = f"/api/takes/{self.take.pk}"
        points = self.client.get(f"{base}/view/draft/liquid/2?budget=500")
        self.assertEqual(points.content[:4], b"ZBV1")
        again = self.client.get(f"{base}/view/draft/liquid/2?budget=500", headers={"If-None-Match": points["ETag"]})
        self.assertEqual(again.status_code, 304)
        self.assertEqual(self.client.get(f"{base}/view/draft/surface/9").status_code, 404)
        self.assertEqual(self.client.get(f"{base}/elements/2/mesh").content[:4], b"ZBV1")
        self.assertEqual([len(p["matrices"]) for p in self.client.get(f"{base}/poses").json()], [1, 1, 4])

    def keep(self, **changes: Any) -> Any:
        """Keep the take's scene with changes."""
        self.take.refresh_from_db()
        return self.client.put(
            f"/api/takes/{self.take.pk}/scene",
            json.dumps({"revision": self.take.revision, "scene": {**self.take.scene, **changes}}),
            content_type="application/json",
        )

    def test_delivery_is_written_told_and_downloaded(self) -> None:
        base = f"/api/takes/{self.take.pk}/deliveries/draft"
        write = f"/api/takes/{self.take.pk}/deliver/draft"
        self.assertEqual(self.keep(deliveries=[{"name": "for light", "format": "ply"}]).status_code, 200)
        early = self.client.post(f"{write}?name=for light")
        self.assertEqual(early.json()["total"], 4)
        services.work_once()
        self.assertIn("run the surface first", Run.objects.get().message)
        self.assertEqual(self.client.get(f"{base}/download?name=for light").status_code, 409)
        self.ask()
        services.work_once()
        self.client.post(f"{write}?name=for light")
        self.assertEqual(self.client.post(f"{write}?name=for light").status_code, 409)
        services.work_once()
        self.assertEqual(Run.objects.order_by("-pk")[0].status, "done")
        (report,) = self.client.get(base).json()
        self.assertEqual((report["current"], report["stale"], report["total"]), (4, 0, 4))
        archive = b"".join(self.client.get(f"{base}/download?name=for light"))  # type: ignore[arg-type]
        with zipfile.ZipFile(io.BytesIO(archive)) as held:
            self.assertEqual(held.namelist(), ["manifest.json", *(f"surface.000{n}.ply" for n in (1, 2, 3, 4))])
        self.assertEqual(self.client.post(f"{write}?name=other").status_code, 404)
        self.assertEqual(self.client.get(f"{base}/download?name=../..").status_code, 404)

    def test_a_frame_is_judged_with_settings_that_are_not_kept(self) -> None:
        base = f"/api/takes/{self.take.pk}"
        surface = {"voxel_share": 1.0, "method": "spheres"}
        wanted = {"scene": {**self.take.scene, "surface": surface}, "frame": 2, "session": "a"}
        early = self.post(f"{base}/judge/draft", wanted)
        self.assertIn("has no liquid yet", early.json()["problems"][0]["says"])
        self.ask(["liquid"])
        services.work_once()
        packed = self.post(f"{base}/judge/draft", wanted)
        self.assertEqual(packed.content[:4], b"ZBV1")
        report = {s["stage"]: s["states"] for s in self.client.get(f"{base}/stages/draft").json()}
        self.assertEqual(report["surface"], ["missing"] * 4)
        region = self.post(f"{base}/judge/draft", {**wanted, "middle": [0.2, 0.1, 0.2], "reach": 0.1})
        self.assertLess(len(region.content), len(packed.content))
        for bad in ({"middle": [0.2, 0.1]}, {"reach": 0}, {"coarser": 0.01}, {"coarser": -1}):
            told = self.post(f"{base}/judge/draft", {**wanted, **bad})
            self.assertEqual(told.status_code, 422)
            self.assertIn(next(iter(bad)), str(told.json()["problems"][0]))
        frozen = self.post(f"{base}/freeze/draft", {**wanted, "name": "hero"})
        self.assertEqual(frozen.json()["file"], "frozen/hero.0002.ply")
        self.assertEqual(self.client.get(f"{base}/frozen").json(), ["hero.0002.ply"])
        data = b"".join(self.client.get(f"{base}/frozen/hero.0002.ply"))  # type: ignore[arg-type]
        self.assertEqual(data[:3], b"ply")
        self.assertEqual(self.post(f"{base}/freeze/draft", {**wanted, "name": "../x"}).status_code, 422)

    def test_the_newest_edit_wins(self) -> None:
        asked = Asked(self.take.folder, self.take.cache_folder("draft"), {}, "draft", 1)
        order: list[int] = []

        all_asked = threading.Event()

        def slowly(_action: Any, _asked: Any) -> bytes:
            order.append(1)
            all_asked.wait(20)
            return b"made"

        told: list[int] = []

        def ask() -> None:
            try:
                judging.judged(self.take, "mira", asked)
                told.append(200)
            except Refused as refused:
                told.append(refused.status)

        with mock.patch.object(judging, "_in_process", side_effect=slowly):
            threads = [threading.Thread(target=ask) for _ in range(4)]
            for thread in threads:
                before = dict(judging._tickets)
                thread.start()
                until(lambda before=before: judging._tickets != before, "a request took no ticket")  # type: ignore[misc]
            all_asked.set()
            for thread in threads:
                thread.join()
        # the first is being made, the last one follows, and those between are dropped
        self.assertEqual(len(order), 2)
        self.assertEqual(sorted(told), [200, 200, 409, 409])
        self.assertEqual(judging._tickets, {})

    def test_camera_comes_from_a_file(self) -> None:
        text = """#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)
def Camera "cam" {
    float focalLength = 35
    float verticalAperture = 24
    double3 xformOp:translate.timeSamples = { 1: (0, 1, 3), 4: (1, 1, 3) }
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
"""
        base = f"/api/takes/{self.take.pk}/camera"
        reply = self.bring("camera", {"shot.usda": text.encode()}).json()["camera"]
        self.assertEqual([k["value"] for k in reply["eye"]["keys"]], [[0, 1, 3], [1, 1, 3]])
        self.assertEqual(self.keep(camera=reply).status_code, 200)
        path = self.client.get(base).json()
        self.assertEqual(len(path), 4)
        self.assertAlmostEqual(path[1]["eye"][0], 1 / 3, places=6)
        # what the file says of unit and axis counts, unless others are chosen; USD's own default is the centimetre
        stated = text.replace("= 1\n", "= 0.01\n", 1).replace('"Y"', '"Z"')
        for head, chosen, eye, unit in (
            (stated, "", [0, 0.03, -0.01], "cm"),
            (text.replace("    metersPerUnit = 1\n", ""), "", [0, 0.01, 0.03], "cm"),
            (text, "&unit=ft", [0, 0.3048, 0.9144], "ft"),
        ):
            got = self.bring("camera", {"shot.usda": head.encode()}, chosen).json()
            np.testing.assert_allclose(got["camera"]["eye"]["keys"][0]["value"], eye, atol=1e-12)
            self.assertEqual((got["unit"], got["told"]), (unit, True))
        self.assertEqual(self.bring("camera", {"a.usda": b""}, "&unit=mile").status_code, 422)
        wrong = self.bring("camera", {"shot.usda": b"no camera"})
        self.assertIn("not a readable USDA file", wrong.json()["problems"][0]["says"])

    def test_caches_are_joined_within_a_production_only(self) -> None:
        surface = {**self.take.scene.get("surface", {}), "caches": [{"folder": "../../etc"}]}
        refused = self.keep(surface=surface)
        self.assertIn("is no take of this production", refused.json()["problems"][0]["says"])
        surface["caches"] = [{"folder": f"../take-{self.take.pk}/draft"}]
        kept = self.keep(surface=surface)
        self.assertEqual(kept.status_code, 200)
        self.assertIn("has no liquid frames", kept.json()["problems"][0]["says"])

    def test_second_run_of_the_same_stage_is_refused(self) -> None:
        self.ask(["liquid"])
        refused = self.ask(["liquid", "surface"])
        self.assertEqual(refused.status_code, 409)
        self.assertIn("The liquid of this take is being made already", refused.json()["problems"][0]["says"])

    def test_an_error_of_ours_ends_the_run_with_a_message(self) -> None:
        self.ask(["liquid"])
        with mock.patch.object(work, "run", side_effect=KeyError("gone")), self.assertLogs("studio.runs.services"):
            services.work_once()
        row = Run.objects.get()
        self.assertEqual((row.status, row.message), ("failed", "an error in the program (KeyError: 'gone')"))

    def test_waiting_run_can_be_stopped(self) -> None:
        run = self.ask().json()["run"]
        self.assertEqual(self.post(f"/api/runs/{run}/stop", {}).json()["status"], "stopped")
        self.assertFalse(services.work_once())

    def test_a_run_is_claimed_once_and_offered_again_when_its_lease_runs_out(self) -> None:
        self.ask(["liquid"])
        first = services.claim("worker one")
        assert first is not None
        self.assertIsNone(services.claim("worker two"))
        Run.objects.update(lease_until=timezone.now() - timedelta(seconds=1))
        second = services.claim("worker two")
        assert second is not None
        self.assertEqual((second.pk, second.lease_owner, second.attempts), (first.pk, "worker two", 2))

    def test_worker_that_lost_its_lease_writes_no_outcome(self) -> None:
        self.ask(["liquid"])
        row = services.claim("worker one")
        assert row is not None
        with override_settings(HEARTBEAT_SECONDS=0.5):
            lease = services.Lease(row, "worker one")
            Run.objects.update(lease_owner="worker two")
            self.assertTrue(lease.stop.wait(5))
            lease.end()
        self.assertTrue(lease.lost)

    def test_a_run_that_loses_every_worker_fails_with_a_sentence(self) -> None:
        self.ask(["liquid"])
        for _ in range(services.MOST_ATTEMPTS + 1):
            services.claim("w")
            Run.objects.update(lease_until=timezone.now() - timedelta(seconds=1))
        self.assertIn("worker was lost", Run.objects.get().message)

    def test_a_run_whose_worker_cannot_reach_the_database_is_left_to_it(self) -> None:
        """The worker holds what it writes: however often its lease runs out, the run is never called lost."""
        self.ask(["liquid"])
        row = services.claim("worker one")
        assert row is not None
        with open_cache(self.root).stage(f"take-{self.take.pk}/draft/liquid").locked():
            for _ in range(services.MOST_ATTEMPTS + 2):
                Run.objects.update(lease_until=timezone.now() - timedelta(seconds=1))
                self.assertIsNone(services.claim("worker two"))
        self.assertEqual((Run.objects.get().status, Run.objects.get().attempts), ("running", 1))
        self.assertIsNotNone(services.claim("worker two"))  # now it has gone

    def test_a_heartbeat_goes_on_after_the_database_was_away(self) -> None:
        self.ask(["liquid"])
        row = services.claim("worker one")
        assert row is not None
        leased, away = row.lease_until, threading.Event()
        renew = services.Lease._renew

        def once_away(lease: services.Lease) -> None:
            if not away.is_set():
                away.set()
                raise OperationalError("the server has gone away")
            renew(lease)

        with (
            mock.patch.object(services.Lease, "_renew", once_away),
            self.assertLogs("studio.runs.services", "WARNING"),
            override_settings(HEARTBEAT_SECONDS=0.1),
        ):
            lease = services.Lease(row, "worker one")
            until(lambda: Run.objects.get().lease_until > leased, "the lease was not renewed")
            lease.end()
        self.assertTrue(away.is_set())
        self.assertFalse(lease.lost)

    def test_an_outcome_is_told_when_the_database_comes_back(self) -> None:
        self.ask(["liquid"])
        tries: list[int] = []
        update = QuerySet.update

        def away(rows: QuerySet, **values: object) -> int:
            if "finished" in values and len(tries) < 2:
                tries.append(1)
                raise OperationalError("the server has gone away")
            return update(rows, **values)

        with mock.patch.object(QuerySet, "update", away), override_settings(HEARTBEAT_SECONDS=0.01):
            self.assertTrue(services.work_once())
        self.assertEqual((len(tries), Run.objects.get().status), (2, "done"))

    def test_one_take_that_cannot_be_read_does_not_empty_the_sheet(self) -> None:
        other = Take.objects.create(shot=self.take.shot, name="torn", scene={"format": "nothing"})
        (production,) = self.client.get("/api/productions").json()
        cards = {card["id"]: card for card in production["shots"][0]["takes"]}
        self.assertEqual(len(cards[self.take.pk]["vessels"]), 2)
        self.assertEqual(cards[other.pk]["vessels"], [])
        self.assertIn("expected 'zinc-scene/1'", cards[other.pk]["problems"][0]["says"])

    def test_a_frame_that_is_at_hand_is_not_packed_again(self) -> None:
        self.ask(["liquid"])
        services.work_once()
        url = f"/api/takes/{self.take.pk}/view/draft/liquid/2"
        first = self.client.get(url)
        with mock.patch.object(LiquidStage, "pack", side_effect=AssertionError("packed")):
            again = self.client.get(url, headers={"If-None-Match": first["ETag"]})
        self.assertEqual((again.status_code, again["ETag"]), (304, first["ETag"]))

    def test_a_run_waits_for_its_kernels_and_says_so(self) -> None:
        self.ask(["liquid"])
        said: list[str] = []
        heard = services.run_event
        answers = iter([False, False, True])

        def event(row: Run) -> dict[str, object]:
            said.append(row.message)
            return heard(row)

        now = warm.Readiness(True, [], 3, 9, {"liquid 0": 130.0})
        with (
            mock.patch.object(warm, "is_ready", lambda group: next(answers, True)),
            mock.patch.object(warm, "readiness", lambda: now),
            mock.patch.object(warm.clock, "sleep"),
            mock.patch.object(services, "run_event", event),
        ):
            services.work_once()
        self.assertIn("making the solver ready, 2 min left", said)
        self.assertEqual((Run.objects.get().status, Run.objects.get().message), ("done", ""))

    def test_deleting_frames_is_refused_while_they_are_written(self) -> None:
        self.ask(["liquid"])
        services.work_once()
        url = f"/api/takes/{self.take.pk}/stages/draft/liquid"
        with open_cache(self.take.cache_folder("draft")).stage("liquid").locked():
            self.assertEqual(self.client.delete(url).status_code, 409)
        self.assertGreater(self.client.delete(url).json()["bytes"], 1000)
        self.assertEqual(
            self.client.get(f"/api/takes/{self.take.pk}/stages/draft").json()[0]["states"], ["missing"] * 4
        )

    def test_unknown_stage_is_refused(self) -> None:
        with self.assertRaises(Refused):
            services.ask_for_run(self.person, self.take, "draft", ["soup"])


class PartsOfTheBroker(SimpleTestCase):
    """Instances that share a broker, each with a part of its own, do not hear of each other's takes."""

    def test_what_is_told_in_one_is_not_heard_in_another(self) -> None:
        url = settings.REDIS_URL.rpartition("/")[0]
        with redis.Redis.from_url(settings.REDIS_URL) as connection, connection.pubsub() as heard:
            heard.psubscribe("zinc:events*")
            for part in ("14", "15"):
                with override_settings(REDIS_URL=f"{url}/{part}"):
                    events.publish({"type": "take", "take": 1})
            found = [m for _ in range(12) if (m := heard.get_message(timeout=0.5)) and m["type"] == "pmessage"]
        mine = [m["channel"].decode() for m in found if m["channel"].decode().endswith(("14", "15"))]
        self.assertEqual(mine, ["zinc:events:14", "zinc:events:15"])
