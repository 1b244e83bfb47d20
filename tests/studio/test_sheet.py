"""Beginning, keeping in order, sharing and taking off the sheet; undo that is kept with the take."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.test import Client
from django.utils import timezone

from basin.cache import Cache
from basin.scene import parse_scene
from basin.stages.run import run
from studio.productions import keeping
from studio.productions.models import Membership, Production, Role, Shot, Take
from studio.runs.models import Run
from tests.studio.case import StudioCase


class SheetCase(StudioCase):
    """Words for what is asked of the sheet."""

    def patch(self, url: str, body: dict[str, Any]) -> Any:
        return self.client.patch(url, json.dumps(body), content_type="application/json")

    def sheet(self) -> list[dict[str, Any]]:
        return list(self.client.get("/api/productions").json())

    def told(self, reply: Any, status: int) -> str:
        self.assertEqual(reply.status_code, status, reply.content)
        return str(reply.json()["problems"][0]["says"])


class Beginning(SheetCase):
    """From nothing to a take that can be run."""

    def test_a_production_a_shot_and_a_take_of_ones_own(self) -> None:
        begun = self.post("/api/productions", {"name": " Weir ", "description": "two shots"}).json()
        own = next(p for p in self.sheet() if p["id"] == begun["id"])
        self.assertEqual((own["name"], own["role"], own["people"], own["shots"]), ("Weir", "owner", 1, []))
        shot = {"name": "W010", "last": 30, "fps": 25, "unit": "cm", "up": "z"}
        made = self.post(f"/api/productions/{begun['id']}/shots", shot).json()
        take = self.client.get(f"/api/takes/{made['take']}").json()
        self.assertEqual((take["scene"]["elements"], take["unit"], take["up"]), ([], "cm", "z"))
        self.assertEqual((take["scene"]["time"]["last"], take["scene"]["time"]["fps"]), (30, 25.0))
        again = self.post(f"/api/productions/{begun['id']}/shots", shot).json()
        self.assertEqual(Shot.objects.get(pk=again["id"]).name, "W010 2")
        backwards = {"name": "W020", "first": 9, "last": 3}
        self.assertIn("backwards", self.told(self.post(f"/api/productions/{begun['id']}/shots", backwards), 422))
        self.assertIn(
            "starting scene",
            self.told(self.post(f"/api/productions/{begun['id']}/shots", {"name": "W030", "start": "none"}), 422),
        )
        self.assertEqual(Shot.objects.filter(production=begun["id"]).count(), 2)

    def test_every_starting_scene_can_be_run_as_it_is(self) -> None:
        offers = self.client.get("/api/starts").json()
        self.assertEqual(len(offers), 6)
        for offer in offers:
            with self.subTest(offer["name"]):
                url = f"/api/productions/{self.take.shot.production_id}/shots"
                made = self.post(url, {"name": offer["title"], "start": offer["name"]}).json()
                detail = self.client.get(f"/api/takes/{made['take']}").json()
                self.assertEqual((detail["problems"], detail["remarks"]), ([], []))
                self.assertEqual(detail["scene"]["time"]["last"], offer["last"])
                cost = self.client.get(f"/api/takes/{made['take']}/forecast/draft").json()
                self.assertTrue(cost["fits"])
                self.assertEqual(cost["problems"], [])

    def test_starting_scenes_are_what_their_script_writes(self) -> None:
        from demo import starts

        starts.write(self.root)
        there = sorted(p.relative_to(keeping.STARTS) for p in keeping.STARTS.rglob("*") if p.is_file())
        made = sorted(p.relative_to(self.root) for p in self.root.rglob("*") if p.is_file())
        self.assertEqual(there, made)
        for path in there:
            self.assertEqual((keeping.STARTS / path).read_bytes(), (self.root / path).read_bytes(), path)


class Keeping(SheetCase):
    """Names, order, copies, and what is taken off."""

    def test_renamed_described_ordered_and_put_away(self) -> None:
        production = self.take.shot.production
        for name in ("A", "B"):
            self.post(f"/api/productions/{production.pk}/shots", {"name": name})
        names = lambda: [s["name"] for s in self.sheet()[0]["shots"]]  # noqa: E731
        self.assertEqual(names(), ["TM900", "A", "B"])
        last = Shot.objects.get(name="B")
        self.patch(f"/api/sheet/shot/{last.pk}", {"place": 0, "description": "first now"})
        self.assertEqual(names(), ["B", "TM900", "A"])
        self.assertEqual(self.sheet()[0]["shots"][0]["description"], "first now")
        self.patch(f"/api/sheet/shot/{last.pk}", {"name": "C", "archived": True})
        self.assertEqual(names(), ["C", "TM900", "A"])
        self.assertTrue(self.sheet()[0]["shots"][0]["archived"])
        self.assertIn("already", self.told(self.patch(f"/api/sheet/shot/{last.pk}", {"name": "A"}), 409))
        self.assertIn("name", self.told(self.patch(f"/api/sheet/shot/{last.pk}", {"name": "  "}), 422))

    def made(self) -> Path:
        cache = Cache(self.take.cache_folder("draft"))
        list(run(parse_scene(self.take.scene), self.take.folder, cache, stages=("liquid",), quality="draft"))
        (self.take.folder / "meshes").mkdir()
        (self.take.folder / "meshes" / "a.ply").write_text("kept")
        return self.take.folder

    def states(self, take: int) -> list[str]:
        report = self.client.get(f"/api/takes/{take}/stages/draft").json()
        return list(report[0]["states"])

    def test_duplicates_with_frames_and_without(self) -> None:
        self.made()
        bare = self.post(f"/api/sheet/take/{self.take.pk}/duplicate", {}).json()
        full = self.post(f"/api/sheet/take/{self.take.pk}/duplicate", {"frames": True}).json()
        self.assertEqual([t["name"] for t in self.sheet()[0]["shots"][0]["takes"]], ["one", "one 2", "one 3"])
        self.assertEqual(self.states(bare["id"]), ["missing"] * 4)
        self.assertEqual(self.states(full["id"]), ["current"] * 4)
        for made in (bare, full):
            self.assertEqual((Take.objects.get(pk=made["id"]).folder / "meshes" / "a.ply").read_text(), "kept")
        # what becomes of one is nothing to the other: frames of the copy go, those of the first stay readable
        self.client.delete(f"/api/takes/{full['id']}/stages/draft/liquid")
        self.assertEqual(self.states(self.take.pk), ["current"] * 4)
        stage = Cache(self.take.cache_folder("draft")).stage("liquid")
        self.assertGreater(len(stage.frame(4)["position"]), 10)

    def test_a_production_is_copied_whole(self) -> None:
        made = self.post(f"/api/sheet/production/{self.take.shot.production_id}/duplicate", {}).json()
        copy = next(p for p in self.sheet() if p["id"] == made["id"])
        self.assertEqual((copy["name"], copy["role"]), ("Mill 2", "owner"))
        self.assertEqual([t["name"] for s in copy["shots"] for t in s["takes"]], ["one"])

    def test_no_copy_where_the_disk_has_no_room(self) -> None:
        self.made()
        full = mock.patch("studio.productions.keeping.shutil.disk_usage", return_value=mock.Mock(free=100))
        with full:
            reply = self.post(f"/api/sheet/take/{self.take.pk}/duplicate", {"frames": True})
        self.assertIn("disk", self.told(reply, 507))
        self.assertEqual(Take.objects.count(), 1)

    def test_removing_says_what_goes_and_can_be_taken_back(self) -> None:
        folder = self.made()
        shot = self.take.shot
        told = self.client.get(f"/api/sheet/shot/{shot.pk}/weight").json()
        self.assertEqual((told["takes"], told["frames"]), (1, 4))
        self.assertEqual(told["bytes"], sum(p.stat().st_size for p in folder.rglob("*") if p.is_file()))
        self.client.delete(f"/api/sheet/shot/{shot.pk}")
        self.assertEqual(self.sheet()[0]["shots"], [])
        self.assertEqual(self.client.get(f"/api/takes/{self.take.pk}").status_code, 404)
        (gone,) = self.client.get("/api/removed").json()
        self.assertEqual((gone["kind"], gone["name"], gone["where"]), ("shot", "TM900", "Mill"))
        self.post(f"/api/productions/{shot.production_id}/shots", {"name": "TM900"})
        self.post(f"/api/sheet/shot/{shot.pk}/restore", {})
        self.assertEqual([s["name"] for s in self.sheet()[0]["shots"]], ["TM900 2", "TM900"])
        self.assertEqual(self.states(self.take.pk), ["current"] * 4)

    def test_after_a_week_it_is_gone_for_good(self) -> None:
        folder = self.made()
        self.client.delete(f"/api/sheet/take/{self.take.pk}")
        for days, left in ((6.9, 1), (7.1, 0)):
            Take.objects.update(removed=timezone.now() - timedelta(days=days))
            keeping.sweep()
            self.assertEqual((Take.objects.count(), folder.exists()), (left, bool(left)))

    def test_what_is_being_made_is_not_removed(self) -> None:
        Run.objects.create(take=self.take, by=self.person, quality="draft", stages="liquid", status="running")
        for kind, key in (("take", self.take.pk), ("shot", self.take.shot_id)):
            self.assertIn("being made", self.told(self.client.delete(f"/api/sheet/{kind}/{key}"), 409))
        self.assertFalse(Take.objects.exclude(removed=None).exists())


class People(SheetCase):
    """Who has a part in a production."""

    def test_invited_raised_and_sent_away(self) -> None:
        url = f"/api/productions/{self.take.shot.production_id}/people"
        jon = User.objects.create_user("jon")
        self.assertIn("./zinc person", self.told(self.put(url, {"name": "nobody", "role": "editor"}), 404))
        self.put(url, {"name": "jon", "role": "viewer"})
        his = Client()
        his.force_login(jon)
        self.assertEqual(his.get(f"/api/takes/{self.take.pk}").json()["role"], "viewer")
        change = json.dumps({"revision": 1, "scene": self.take.scene})
        refused = his.put(f"/api/takes/{self.take.pk}/scene", change, content_type="application/json")
        self.assertEqual(self.told(refused, 403), "You are viewer in Mill; this needs an editor.")
        people = self.put(url, {"name": "jon", "role": "owner"}).json()
        self.assertEqual(people, [{"name": "jon", "role": "owner"}, {"name": "mira", "role": "owner"}])
        self.assertEqual(self.client.delete(f"{url}/jon").json(), [{"name": "mira", "role": "owner"}])
        self.assertEqual(his.get(f"/api/takes/{self.take.pk}").status_code, 404)

    def test_a_production_always_has_an_owner(self) -> None:
        url = f"/api/productions/{self.take.shot.production_id}/people"
        self.assertIn("no owner", self.told(self.put(url, {"name": "mira", "role": "viewer"}), 409))
        self.assertIn("no owner", self.told(self.client.delete(f"{url}/mira"), 409))
        self.assertEqual(Membership.objects.get().role, Role.OWNER)

    def test_somebody_elses_production_may_have_the_same_name(self) -> None:
        other = Client()
        other.force_login(User.objects.create_user("jon"))
        reply = other.post("/api/productions", json.dumps({"name": "Mill"}), content_type="application/json")
        self.assertEqual(Production.objects.get(pk=reply.json()["id"]).name, "Mill")


class Undo(SheetCase):
    """Edits undone and done again: after a reload, in another tab, by another person."""

    def edit(self, last: int) -> dict[str, Any]:
        detail = self.client.get(f"/api/takes/{self.take.pk}").json()
        scene = {**detail["scene"], "time": {**detail["scene"]["time"], "last": last}}
        return dict(
            self.put(f"/api/takes/{self.take.pk}/scene", {"revision": detail["revision"], "scene": scene}).json()
        )

    def step(self, way: str) -> Any:
        revision = self.client.get(f"/api/takes/{self.take.pk}").json()["revision"]
        return self.post(f"/api/takes/{self.take.pk}/{way}", {"revision": revision})

    def last(self, reply: Any) -> tuple[int, int, int]:
        detail = reply.json()
        return detail["scene"]["time"]["last"], detail["undoable"], detail["redoable"]

    def test_there_and_back(self) -> None:
        for last in (5, 6, 7):
            self.edit(last)
        self.assertEqual(self.last(self.step("undo")), (6, 2, 1))
        self.assertEqual(self.last(self.step("undo")), (5, 1, 2))
        self.assertEqual(self.last(self.client.get(f"/api/takes/{self.take.pk}")), (5, 1, 2))  # after a reload
        self.assertEqual(self.last(self.step("redo")), (6, 2, 1))
        self.edit(9)  # another way from here: what was undone before is gone
        self.assertIn("nothing to do again", self.told(self.step("redo"), 409))
        self.assertEqual([self.last(self.step("undo"))[0] for _ in range(3)], [6, 5, 4])
        self.assertIn("nothing to undo", self.told(self.step("undo"), 409))

    def test_two_hundred_steps_are_kept(self) -> None:
        with mock.patch("studio.productions.history.MOST_STEPS", 5):
            for last in range(10, 20):
                self.edit(last)
            self.assertEqual(self.last(self.client.get(f"/api/takes/{self.take.pk}"))[1:], (5, 0))
            seen = [self.last(self.step("undo"))[0] for _ in range(5)]
        self.assertEqual(seen, [18, 17, 16, 15, 14])
        self.assertIn("nothing to undo", self.told(self.step("undo"), 409))

    def test_an_old_page_undoes_nothing_of_somebody_elses(self) -> None:
        detail = self.edit(5)
        self.edit(6)
        stale = self.post(f"/api/takes/{self.take.pk}/undo", {"revision": detail["revision"]})
        self.assertIn("Somebody else", self.told(stale, 409))
        self.assertEqual(self.last(self.client.get(f"/api/takes/{self.take.pk}"))[0], 6)

    def test_an_edit_is_told_to_open_pages(self) -> None:
        with mock.patch("studio.productions.history.publish") as told:
            self.edit(5)
        self.assertEqual(
            told.call_args.args[0] | {"revision": 0},
            {"type": "take", "take": self.take.pk, "revision": 0, "by": "mira"},
        )

    def test_a_copy_begins_without_what_was_undone(self) -> None:
        self.edit(5)
        made = self.post(f"/api/sheet/take/{self.take.pk}/duplicate", {}).json()
        self.assertEqual(self.last(self.client.get(f"/api/takes/{made['id']}")), (5, 0, 0))
