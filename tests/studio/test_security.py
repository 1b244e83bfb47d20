"""Who is let in, what is answered whatever is asked, and what harms nobody."""

from __future__ import annotations

import asyncio
import json
import os
import re
import runpy
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

from asgiref.sync import sync_to_async
from asgiref.testing import ApplicationCommunicator
from django.conf import settings
from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.core.checks import run_checks
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import OperationalError, connection
from django.test import AsyncClient, Client, SimpleTestCase, override_settings
from django.utils import timezone

from basin.apart import nobody_waits
from studio import events, guard
from studio.accounts.api import LOCKED
from studio.accounts.middleware import SEEN, Allowance
from studio.accounts.models import Deed
from studio.answers import check_plain
from studio.api import api
from studio.asgi import application
from studio.errors import Refused
from studio.productions import reports, uploads
from studio.productions.models import Membership, Production, Role, Take
from studio.runs import crashes, services
from studio.runs.models import Run
from tests.studio.case import CUBE, StudioCase

# every action of the API: method, address, body, what its owner is answered, and the least role that may do it
DOCUMENT: dict[str, Any] = {"revision": 0, "scene": {}}
RATE = {"given": "rate", "value": 1.0}
ACTIONS: list[tuple[str, str, Any, int, str]] = [
    ("get", "/api/session", None, 200, ""),
    ("put", "/api/session/password", {"old": "no", "new": "no"}, 403, ""),
    ("get", "/api/scene-schema", None, 200, ""),
    ("get", "/api/stages", None, 200, ""),
    ("get", "/api/productions", None, 200, ""),
    ("get", "/api/starts", None, 200, ""),
    ("get", "/api/removed", None, 200, ""),
    ("get", "/api/readiness", None, 200, ""),
    ("get", "/api/runs", None, 200, ""),
    ("post", "/api/productions", {"name": " "}, 422, ""),
    ("get", "/api/takes/{take}", None, 200, "viewer"),
    ("get", "/api/takes/{take}/text", None, 200, "viewer"),
    ("put", "/api/takes/{take}/text", {"revision": 0, "text": "{}"}, 422, "editor"),
    ("put", "/api/takes/{take}/scene", DOCUMENT, 422, "editor"),
    ("post", "/api/takes/{take}/undo", {"revision": 0}, 409, "editor"),
    ("post", "/api/takes/{take}/redo", {"revision": 0}, 409, "editor"),
    ("get", "/api/takes/{take}/forecast/draft", None, 200, "viewer"),
    ("get", "/api/takes/{take}/budget/draft?what=particles&value=0", None, 422, "viewer"),
    ("get", "/api/takes/{take}/stages/draft", None, 200, "viewer"),
    ("delete", "/api/takes/{take}/stages/draft/liquid", None, 200, "editor"),
    ("get", "/api/takes/{take}/view/draft/liquid/1", None, 404, "viewer"),
    ("post", "/api/takes/{take}/judge/draft", {"scene": {}, "frame": 1}, 422, "viewer"),
    ("post", "/api/takes/{take}/births/draft", {"scene": {}, "frame": 1}, 422, "viewer"),
    ("post", "/api/takes/{take}/freeze/draft", {"scene": {}, "frame": 1}, 422, "editor"),
    ("get", "/api/takes/{take}/frozen", None, 200, "viewer"),
    ("get", "/api/takes/{take}/frozen/a.ply", None, 404, "viewer"),
    ("get", "/api/takes/{take}/elements/0/mesh", None, 200, "viewer"),
    ("get", "/api/takes/{take}/elements/0/solid/draft/1", None, 422, "viewer"),
    ("get", "/api/takes/{take}/poses", None, 200, "viewer"),
    ("post", "/api/takes/{take}/flight/draft", {"scene": {}, "element": 0}, 422, "viewer"),
    ("post", "/api/takes/{take}/filling/draft", {"scene": {}, "element": 0}, 422, "viewer"),
    ("post", "/api/takes/{take}/filling/draft/solve", {"scene": {}, "element": 0, **RATE}, 422, "viewer"),
    ("post", "/api/takes/{take}/pushes/draft", {"scene": {}, "element": 0}, 422, "viewer"),
    ("get", "/api/takes/{take}/fit/draft", None, 200, "viewer"),
    ("post", "/api/takes/{take}/standin", {"element": 9, "triangles": 500}, 404, "editor"),
    ("get", "/api/takes/{take}/backdrop/1", None, 404, "viewer"),
    ("get", "/api/takes/{take}/lasting?action=1&seconds=2", None, 200, "viewer"),
    ("post", "/api/takes/{take}/regime/draft", {"scene": {}, "element": 0}, 422, "viewer"),
    ("post", "/api/takes/{take}/waves/draft", {"scene": {}}, 422, "viewer"),
    ("post", "/api/takes/{take}/rehearse", {"scene": {}, "session": "a"}, 422, "viewer"),
    ("delete", "/api/takes/{take}/rehearse?session=a", None, 200, "viewer"),
    ("get", "/api/takes/{take}/openings", None, 200, "viewer"),
    ("post", "/api/takes/{take}/room/draft", {"seed": [9e5, 0, 0], "frame": 1}, 422, "viewer"),
    ("post", "/api/takes/{take}/room/draft/keep", {"seed": [0, 0, 0], "frame": 1}, 422, "editor"),
    ("get", "/api/takes/{take}/camera", None, 200, "viewer"),
    ("post", "/api/takes/{take}/uploads", {}, 422, "editor"),
    ("get", "/api/takes/{take}/uploads/0", None, 200, "viewer"),
    ("post", "/api/takes/{take}/meshes?upload=0", {}, 404, "editor"),
    ("post", "/api/takes/{take}/images?upload=0", {}, 404, "editor"),
    ("post", "/api/takes/{take}/camera?upload=0", {}, 404, "editor"),
    ("get", "/api/takes/{take}/meshes/facts?file=a.ply", None, 422, "viewer"),
    ("get", "/api/takes/{take}/deliveries/draft", None, 200, "viewer"),
    ("get", "/api/takes/{take}/deliveries/draft/download?name=a", None, 404, "viewer"),
    ("post", "/api/takes/{take}/deliver/draft?name=a", {}, 404, "editor"),
    ("post", "/api/takes/{take}/runs", {"stages": ["none"]}, 422, "editor"),
    ("post", "/api/runs/{run}/stop", {}, 200, "editor"),
    ("post", "/api/productions/{production}/shots", {"name": " "}, 422, "editor"),
    ("post", "/api/shots/{shot}/takes", {}, 200, "editor"),
    ("get", "/api/productions/{production}/people", None, 200, "viewer"),
    ("put", "/api/productions/{production}/people", {"name": "nobody", "role": "viewer"}, 404, "owner"),
    ("delete", "/api/productions/{production}/people/nobody", None, 404, "owner"),
    ("get", "/api/sheet/take/{take}/weight", None, 200, "viewer"),
    ("patch", "/api/sheet/take/{take}", {"description": "one"}, 200, "editor"),
    ("patch", "/api/sheet/shot/{shot}", {"description": "one"}, 200, "editor"),
    ("patch", "/api/sheet/production/{production}", {"description": "one"}, 200, "owner"),
    ("post", "/api/sheet/take/{take}/duplicate", {}, 200, "editor"),
    ("delete", "/api/sheet/take/{gone}", None, 200, "editor"),
    ("post", "/api/sheet/take/{gone}/restore", {}, 200, "editor"),
    ("delete", "/api/sheet/production/{other}", None, 200, "owner"),
    ("post", "/api/sheet/production/{other}/restore", {}, 200, "owner"),
    ("post", "/api/session", {"name": "nobody", "password": "no"}, 403, ""),
    ("delete", "/api/session", None, 200, ""),
]
OPEN = (("get", "/api/session"), ("post", "/api/session"))  # what nobody may ask for


class Actions(StudioCase):
    """Each action as owner, as somebody else and as nobody."""

    def test_every_action_of_the_api_is_in_the_table(self) -> None:
        there = {
            (method, path)
            for path, operations in api.get_openapi_schema(path_prefix="/api/")["paths"].items()
            for method in operations
        }
        told = {
            (
                method,
                url.partition("?")[0]
                .replace("{take}", "{take_id}")
                .replace("{run}", "{run_id}")
                .replace("/draft", "/{quality}")
                .replace("/liquid", "/{stage}"),
            )
            for method, url, *_ in ACTIONS
        }
        told = {(m, re.sub("/sheet/[a-z]+/", "/sheet/{kind}/", p).replace("nobody", "{name}")) for m, p in told}
        blurred = {(m, _blurred(p)) for m, p in told}
        self.assertEqual({(m, _blurred(p)) for m, p in there}, blurred)

    def test_who_may(self) -> None:
        run = Run.objects.create(take=self.take, by=self.person, quality="proof", stages="surface")
        gone = Take.objects.create(shot=self.take.shot, name="gone", scene=self.take.scene)
        mill = self.take.shot.production
        other = Production.objects.create(name="Other")
        parts = {Role(r).label: User.objects.create_user(Role(r).label) for r in Role}
        for role in Role:
            for production in (mill, other):
                production.members.add(parts[role.label], through_defaults={"role": role})
        stranger = User.objects.create_user("jon")
        keys = {"take": self.take.pk, "run": run.pk, "shot": self.take.shot_id, "production": mill.pk}
        for method, url, body, owners, least in ACTIONS:
            address = url.format(**keys, gone=gone.pk, other=other.pk)
            with self.subTest(f"{method} {url}"):
                nobodys = owners if (method, url) in OPEN else 401
                self.assertEqual(self.answer(None, method, address, body), nobodys)
                sent = not url.endswith("/uploads")  # without a file it is no request, whoever asks
                self.assertEqual(self.answer(stranger, method, address, body), 404 if least and sent else owners)
                for role in Role:
                    lets = not least or not sent or role >= Role[least.upper()]
                    answers = [self.answer(parts[role.label], method, address, body)]
                    if lets and role is not Role.OWNER and method == "delete" and "/sheet/" in url:
                        type(self)._again(url, gone, other)
                    if lets and role is not Role.OWNER and "/restore" in url:
                        type(self)._again(url, gone, other)
                    self.assertEqual(answers, [owners if lets else 403], role.label)

    @staticmethod
    def _again(url: str, gone: Take, other: Production) -> None:
        """As it was before the action, so that the next may do it too."""
        at = timezone.now() if "/restore" in url else None
        Take.objects.filter(pk=gone.pk).update(removed=at if "take" in url else gone.removed)
        Production.objects.filter(pk=other.pk).update(removed=at if "production" in url else None)

    def answer(self, who: User | None, method: str, address: str, body: Any) -> int:
        client = Client(raise_request_exception=False)
        if who:
            client.force_login(who)
        with mock.patch("studio.accounts.api.clock.sleep"):
            reply = getattr(client, method)(
                address, json.dumps(body) if body is not None else None, content_type="application/json"
            )
        if reply.status_code >= 400:
            self.assertTrue(reply.json()["problems"][0]["says"])
        return int(reply.status_code)


def _blurred(path: str) -> str:
    """An address with its variable parts alike."""
    fixed = ("shots", "takes", "runs", "view", "elements", "frozen", "uploads")
    parts = path.split("/")
    return "/".join(
        "*" if "{" in p or (n and parts[n - 1] in fixed and p not in ("mesh",)) or p.isdigit() else p
        for n, p in enumerate(parts)
    )


class SigningIn(StudioCase):
    """Passwords, sessions and what is written down of them."""

    def setUp(self) -> None:
        super().setUp()
        patch = mock.patch("studio.accounts.api.clock.sleep")
        self.slept = patch.start()
        self.addCleanup(patch.stop)
        self.guest = Client()

    def sign_in(self, password: str, client: Client | None = None) -> Any:
        return (client or self.guest).post(
            "/api/session", json.dumps({"name": "mira", "password": password}), content_type="application/json"
        )

    def test_wrong_passwords_are_slowed_and_then_locked_out(self) -> None:
        told = [self.sign_in("wrong").status_code for _ in range(settings.AXES_FAILURE_LIMIT + 1)]
        self.assertEqual(told[0], 403)
        self.assertEqual(told[-2:], [429, 429])
        waits = [call.args[0] for call in self.slept.call_args_list]
        self.assertEqual(waits, sorted(waits))
        self.assertGreater(waits[3], waits[0])
        locked = self.sign_in("clay")
        self.assertEqual((locked.status_code, locked.json()["problems"][0]["says"]), (429, LOCKED))
        self.assertEqual(self.sign_in("clay", Client(REMOTE_ADDR="10.0.0.9")).status_code, 429)  # the name is locked
        with override_settings(AXES_COOLOFF_TIME=0.0):
            self.assertEqual(self.sign_in("clay").status_code, 200)

    def test_signing_in_needs_the_csrf_token(self) -> None:
        strict = Client(enforce_csrf_checks=True)
        self.assertEqual(self.sign_in("clay", strict).status_code, 403)
        strict.get("/")
        token = strict.cookies["csrftoken"].value
        reply = strict.post(
            "/api/session",
            json.dumps({"name": "mira", "password": "clay"}),
            content_type="application/json",
            headers={"X-CSRFToken": token},
        )
        self.assertEqual(reply.status_code, 200)

    def test_a_new_password_must_be_one_and_ends_other_sessions(self) -> None:
        elsewhere = Client()
        elsewhere.force_login(self.person)
        self.sign_in("clay")

        def change(old: str, new: str) -> Any:
            body = json.dumps({"old": old, "new": new})
            return self.guest.put("/api/session/password", body, content_type="application/json")

        self.assertEqual(change("wrong", "river-of-clay").status_code, 403)
        for weak in ("short", "1234567890123", "password123", "mira-mira"):
            self.assertEqual(change("clay", weak).status_code, 422, weak)
        self.assertEqual(change("clay", "river-of-clay").json(), {"name": "mira"})
        self.assertEqual(self.guest.get("/api/productions").status_code, 200)
        self.assertEqual(elsewhere.get("/api/productions").status_code, 401)

    def test_idle_sessions_end(self) -> None:
        session = self.client.session
        session[SEEN] = int(time.time()) - settings.IDLE_SECONDS - 1
        session.save()
        self.assertEqual(self.client.get("/api/productions").status_code, 401)

    def test_a_refusal_that_comes_late_takes_no_new_session_away(self) -> None:
        self.client.session.flush()
        reply = self.client.get("/api/productions")
        self.assertEqual(reply.status_code, 401)
        self.assertNotIn(settings.SESSION_COOKIE_NAME, reply.cookies)

    def test_deeds_are_written_down(self) -> None:
        self.ask(["liquid"])
        self.sign_in("wrong")
        self.client.get("/api/productions")
        found = [(d.person, d.method, d.what, d.status) for d in Deed.objects.order_by("pk")]
        self.assertEqual(found[0], ("mira", "POST", f"/api/takes/{self.take.pk}/runs", 200))
        self.assertEqual(found[1], ("", "POST", "/api/session", 403))
        self.assertEqual(len(found), 2)

    def test_a_stream_ends_with_its_session(self) -> None:
        async def listened() -> float:
            client = AsyncClient()
            await client.aforce_login(self.person)
            reply = await client.get("/api/events")
            self.assertEqual(reply.status_code, 200)
            stream = reply.streaming_content.__aiter__()
            self.assertEqual(await stream.__anext__(), b": open\n\n")
            await Session.objects.all().adelete()
            begin = time.monotonic()
            async for _ in stream:
                pass
            return time.monotonic() - begin

        with mock.patch.object(events, "LOOKED_AT", 0.2):
            self.assertLess(asyncio.run(listened()), 5)

    def test_nobody_asks_more_than_is_allowed(self) -> None:
        with override_settings(REQUESTS_OF_A_PERSON=(3, 0.0), REQUESTS_OF_NOBODY=(2, 0.0)):
            client, guest = Client(), Client()
            client.force_login(self.person)
            told = [client.get("/api/productions").status_code for _ in range(5)]
            self.assertEqual(told, [200, 200, 200, 429, 429])
            self.assertEqual([guest.get("/api/session").status_code for _ in range(3)], [200, 200, 429])

    def test_allowance_comes_back(self) -> None:
        allowance = Allowance(1, 2.0)
        with mock.patch("studio.accounts.middleware.clock.monotonic", side_effect=[0.0, 0.0, 0.3, 0.6]):
            self.assertEqual([allowance.takes(who) for who in "abaa"], [True, True, False, True])


class Answers(StudioCase):
    """JSON sentences everywhere."""

    def told(self, reply: Any, status: int) -> str:
        self.assertEqual(reply.status_code, status)
        self.assertEqual(reply["Content-Type"].partition(";")[0], "application/json")
        says = reply.json()["problems"][0]["says"]
        self.assertNotIn("Traceback", says)
        return str(says)

    def test_documents_that_are_none(self) -> None:
        address = f"/api/takes/{self.take.pk}/scene"
        for body in ("{", "[" * 100_000, '{"revision": NaN, "scene": {}}', '{"revision": 1e999, "scene": {}}', "\xff"):
            reply = self.client.put(address, body.encode("latin-1"), content_type="application/json")
            self.assertIn(reply.status_code, (400, 422))
            self.assertTrue(reply.json()["problems"])
        deep: Any = 1
        for _ in range(100):
            deep = [deep]
        self.assertRaises(Refused, check_plain, deep)
        for name in ("a\0b", "\ud800", "\x1b[2J"):
            body = json.dumps({"revision": 1, "scene": {**self.take.scene, "name": name}})
            self.told(self.client.put(address, body, content_type="application/json"), 400)
        self.told(
            self.client.post("/api/session", '{"name": "\\ud800", "password": "x"}', content_type="application/json"),
            400,
        )

    def test_numbers_of_requests(self) -> None:
        for first, last in ((2**40, None), (-5, None), (3, 2), (200, 300), (1, 2**70)):
            reply = self.post(f"/api/takes/{self.take.pk}/runs", {"quality": "draft", "first": first, "last": last})
            self.told(reply, 422)
        self.assertEqual(Run.objects.count(), 0)
        for take in (0, 2**63, 10**40):
            self.told(self.client.get(f"/api/takes/{take}"), 404)
        for index in (2**63, 10**30):
            self.told(self.client.get(f"/api/takes/{self.take.pk}/elements/{index}/mesh"), 404)
        self.told(self.client.get(f"/api/takes/{self.take.pk}/view/draft/liquid/{10**30}"), 404)

    def test_addresses(self) -> None:
        self.told(self.client.get("/api/no/such"), 404)
        self.told(self.client.get(f"/api/takes/{self.take.pk}/view/draft/liquid/1?by=%00"), 400)
        self.told(self.client.get("/api/takes/1?by=" + "a" * 5000), 400)
        self.told(self.client.patch("/api/productions"), 405)

    def test_a_database_that_is_away(self) -> None:
        away = mock.patch.object(connection, "cursor", side_effect=OperationalError(2002, "gone"))
        client = Client(raise_request_exception=False)
        client.force_login(self.person)
        with away, self.assertLogs("django.request"):
            self.assertIn("database is away", self.told(client.get("/api/productions"), 503))
        ours = mock.patch("studio.productions.sheet_api.visible", side_effect=KeyError("ours"))
        with ours, self.assertLogs("studio"):
            self.assertIn("error in the program", self.told(client.get("/api/productions"), 500))

    def test_health(self) -> None:
        with mock.patch("studio.health.is_held", return_value=True):
            told = Client().get("/api/health")
        self.assertEqual((told.status_code, told.json()["database"], told.json()["broker"]), (200, True, True))
        away = mock.patch.object(connection, "cursor", side_effect=OperationalError(2002, "gone"))
        with away, mock.patch("studio.health.is_held", return_value=False):
            told = Client().get("/api/health")
        self.assertEqual((told.status_code, told.json()["database"], told.json()["worker"]), (503, False, False))

    def test_pages_say_what_may_run_in_them(self) -> None:
        policy = self.client.get("/")["Content-Security-Policy"]
        self.assertIn("default-src 'self'", policy)
        self.assertIn("frame-ancestors 'none'", policy)
        self.assertNotIn("script-src", policy)  # scripts are under the default: ours alone, none within the page
        self.assertNotIn("http", policy)


class Takes(StudioCase):
    """Takes that cannot be read, and what is kept."""

    def test_one_that_cannot_be_read_is_listed_opened_mended_and_removed(self) -> None:
        sound = self.take.scene
        Take.objects.update(scene={**sound, "liquid": {"voxel_size": 1e-300}})
        (production,) = self.client.get("/api/productions").json()
        self.assertIn("too little", production["shots"][0]["takes"][0]["problems"][0]["says"])
        base = f"/api/takes/{self.take.pk}"
        text = self.client.get(f"{base}/text").json()
        self.assertIn("1e-300", text["text"])
        bad = {"revision": text["revision"], "text": text["text"].replace("1e-300", "1e300")}
        self.assertEqual(self.put(f"{base}/text", bad).status_code, 422)
        good = {"revision": text["revision"], "text": text["text"].replace("1e-300", "0.1")}
        self.assertEqual(self.put(f"{base}/text", good).status_code, 200)
        self.assertEqual(self.client.get(base).status_code, 200)
        self.assertEqual(self.client.delete(f"/api/sheet/take/{self.take.pk}").status_code, 200)
        self.assertEqual(self.client.get(base).status_code, 404)
        self.assertTrue(Take.objects.filter(pk=self.take.pk).exists())

    def test_reports_are_made_once_until_something_changes(self) -> None:
        base = f"/api/takes/{self.take.pk}"
        made: list[Any] = []
        whole = reports._stage_report

        def counted(job: Any) -> Any:
            made.append(job)
            return whole(job)

        with mock.patch.object(reports, "_stage_report", counted):
            for _ in range(3):
                self.client.get(f"{base}/stages/draft")
                self.client.get("/api/productions")
            self.assertEqual(len(made), 1)
            self.ask(["liquid"])
            self.assertTrue(services.work_once())
            report = self.client.get(f"{base}/stages/draft").json()
            self.assertEqual((len(made), report[0]["states"]), (2, ["current"] * 4))
            (self.take.folder / "draft" / "liquid" / "frame-000002.npz").unlink()
            self.assertEqual(self.client.get(f"{base}/stages/draft").json()[0]["states"][1], "missing")
            scene = {**self.take.scene, "time": {"last": 3}}
            self.put(f"{base}/scene", {"revision": 1, "scene": scene})
            self.assertEqual(len(self.client.get(f"{base}/stages/draft").json()[0]["states"]), 3)

    def test_long_shots_do_not_slow_the_list(self) -> None:
        Take.objects.update(scene={**self.take.scene, "time": {"last": 10_000}})
        begin = time.monotonic()
        self.client.get("/api/productions")
        first = time.monotonic() - begin
        begin = time.monotonic()
        for _ in range(5):
            self.assertEqual(self.client.get("/api/productions").status_code, 200)
        self.assertLess((time.monotonic() - begin) / 5, 0.3)
        self.assertLess(first, 10)

    def test_answers_are_kept_by_their_stamp(self) -> None:
        kept = reports.Kept()
        made = iter("abc")
        self.assertEqual([kept.get(1, 1, lambda: next(made)) for _ in range(3)], ["a"] * 3)
        self.assertEqual(kept.get(1, 2, lambda: next(made)), "b")
        self.assertEqual(kept.get(2, 1, lambda: next(made)), "c")


class Uploads(StudioCase):
    """Files on their way in."""

    def send(self, files: dict[str, bytes], upload: str = "") -> Any:
        held = [SimpleUploadedFile(name, data) for name, data in files.items()]
        return self.client.post(f"/api/takes/{self.take.pk}/uploads?upload={upload}", {"file": held})

    def test_many_files_come_in_several_requests(self) -> None:
        names = [f"grow_{n:04d}.obj" for n in range(1, 241)]
        upload = ""
        for begin in range(0, 240, 80):
            reply = self.send({name: CUBE.encode() for name in names[begin : begin + 80]}, upload).json()
            upload = reply["upload"]
        self.assertEqual(reply["files"], 240)
        facts = self.client.post(f"/api/takes/{self.take.pk}/meshes?upload={upload}").json()
        self.assertEqual(facts["frames"], 240)
        self.assertEqual(uploads.read, {})
        self.assertEqual(list((self.take.folder / "uploads").iterdir()), [])

    def test_what_nothing_was_made_of_goes(self) -> None:
        upload = self.send({"a.obj": b"x"}).json()["upload"]
        old = self.take.folder / "uploads" / upload
        os.utime(old, (0, 0))
        self.send({"b.obj": b"x"})
        self.assertFalse(old.exists())
        for wrong in ("../../x", "0" * 32, "x"):
            self.assertEqual(self.send({"a.obj": b""}, wrong).status_code, 404, wrong)

    def test_too_many_and_a_full_disk(self) -> None:
        with mock.patch.object(uploads, "MOST_FILES", 2):
            reply = self.send({f"{n}.obj": b"" for n in range(3)})
        self.assertIn("more than 2 files", reply.json()["problems"][0]["says"])
        with mock.patch.object(Path, "replace", side_effect=OSError(28, "No space left on device")):
            reply = self.send({"a.obj": b"x"})
        self.assertEqual(reply.status_code, 507)

    def test_a_file_that_ends_its_reader_ends_nothing_else(self) -> None:
        """What comes is read by a process of its own, that may die of it."""
        with mock.patch("basin.exchange.formats.call") as call:
            from basin.apart import Ended

            call.side_effect = Ended("ended its reader; it is damaged")
            reply = self.bring("meshes", {"bad.abc": b"Ogawa"})
        self.assertEqual(reply.status_code, 422)
        self.assertEqual(reply.json()["problems"][0]["says"], "bad.abc: ended its reader; it is damaged")
        self.assertEqual(self.bring("meshes", {"cube.obj": CUBE.encode()}).status_code, 200)


class Bodies(StudioCase):
    """What stands before Django."""

    def ask_raw(self, path: str, headers: dict[str, str], signed: bool = False) -> tuple[int, Any]:
        if signed:
            headers = {**headers, "cookie": f"sessionid={self.client.session.session_key}"}
        scope = {
            "type": "http",
            "http_version": "1.1",
            "method": "POST",
            "path": path,
            "query_string": b"",
            "headers": [(k.encode(), v.encode()) for k, v in headers.items()],
        }

        async def asked() -> tuple[int, Any]:
            communicator = ApplicationCommunicator(application, scope)
            start = await communicator.receive_output(5)  # without a byte of the body having been sent
            body = await communicator.receive_output(5)
            return start["status"], json.loads(body["body"])

        return asyncio.run(asked())

    def test_large_ones_are_refused_before_they_are_read(self) -> None:
        uploads_of = f"/api/takes/{self.take.pk}/uploads"
        for path, headers, signed, status in (
            (uploads_of, {"content-length": "1000000"}, False, 401),
            ("/api/session", {"content-length": "1000000"}, False, 401),
            (uploads_of, {"content-length": "9000000000"}, True, 413),
            (f"/api/takes/{self.take.pk}/scene", {"content-length": "99000000"}, True, 413),
            (uploads_of, {"transfer-encoding": "chunked"}, True, 411),
        ):
            found, said = self.ask_raw(path, headers, signed)
            self.assertEqual(found, status, (path, headers))
            self.assertTrue(said["problems"][0]["says"])

    def test_a_client_that_goes_away_is_noticed(self) -> None:
        """What is read apart for it ends then (`basin.apart.nobody_waits`)."""
        noticed: list[bool] = []

        async def slow(_scope: Any, receive: Any, _send: Any) -> None:
            noticed.append(nobody_waits.get()())
            self.assertEqual((await receive())["type"], "http.disconnect")
            noticed.append(await sync_to_async(lambda: nobody_waits.get()())())

        async def left() -> None:
            await guard.Guard(slow)({"type": "http", "path": "/", "headers": []}, gone, gone)

        async def gone(*_message: Any) -> dict[str, str]:
            return {"type": "http.disconnect"}

        asyncio.run(left())
        self.assertEqual(noticed, [False, True])
        self.assertFalse(nobody_waits.get()())

    def test_no_room_for_them(self) -> None:
        with mock.patch("studio.guard.shutil.disk_usage", return_value=mock.Mock(free=1_100_000_000)):
            found, said = self.ask_raw(f"/api/takes/{self.take.pk}/uploads", {"content-length": "1000000000"}, True)
        self.assertEqual(found, 507)
        self.assertIn("make room", said["problems"][0]["says"])


class Lost(StudioCase):
    """Workers that are lost."""

    def test_where_it_was_is_told_while_it_happens_and_at_the_end(self) -> None:
        self.ask(["liquid"])
        row = services.claim("w")
        assert row is not None
        Run.objects.update(frame=13)
        work = crashes.noted(row, iter([1, 2]))
        next(work)
        crashes._file(row).write_text(
            'Fatal Python error: Segmentation fault\n\nThread 0x1 (most recent call first):\n  File "/x/numba/y.py", '
            'line 1 in call\n  File "/x/basin/liquid/advection.py", line 240 in keep_out\n'
        )
        says = "its worker crashed after frame 13 (segmentation fault in keep_out of liquid/advection)"
        for attempt in (2, 3):
            self.expire()
            row = services.claim("w")
            assert row is not None
            self.assertEqual(row.message, f"{says}; attempt {attempt} of 3")
        self.expire()
        self.assertIsNone(services.claim("w"))
        self.assertEqual(Run.objects.get().message, f"{says}, 3 times; whole frames are kept")
        self.assertEqual(Run.objects.get().status, "failed")

    def expire(self) -> None:
        Run.objects.update(lease_until="2020-01-01T00:00:00Z")

    @override_settings(CACHE_ROOT=None)
    def test_a_real_crash_leaves_its_place(self) -> None:
        code = (
            "import ctypes, django; django.setup()\n"
            "from studio.runs import crashes\n"
            "from types import SimpleNamespace\n"
            "def wild():\n    yield 1\n    ctypes.string_at(16)\n"
            "for _ in crashes.noted(SimpleNamespace(pk=987), wild()): pass\n"
        )
        env = {**os.environ, "ZINC_DATA": str(self.root)}
        ended = subprocess.run([sys.executable, "-c", code], env=env, cwd=settings.ROOT, capture_output=True)
        self.assertLess(ended.returncode, 0)
        with override_settings(DATA=self.root):
            row = Run(pk=987, frame=2)
            self.assertIn("its worker crashed after frame 2 (segmentation fault", crashes.told(row))


class Shipped(SimpleTestCase):
    """The settings as they are shipped."""

    def test_the_deployment_check_has_nothing_to_say(self) -> None:
        path = settings.ROOT / "studio" / "settings.py"
        for names in ("", "water.example"):
            with mock.patch.dict(os.environ, {"ZINC_NAMES": names, "ZINC_SECRET_KEY": ""}):
                os.environ.pop("DJANGO_ALLOW_ASYNC_UNSAFE", None)  # of the browser's tests
                shipped = runpy.run_path(str(path))
                given = {n: v for n, v in shipped.items() if n.isupper() and not n.startswith("DATABASES")}
                given.setdefault("SILENCED_SYSTEM_CHECKS", [])
                with override_settings(**given):
                    said = [one for one in run_checks(include_deployment_checks=True) if not one.is_silenced()]
            self.assertEqual(said, [])
            self.assertEqual(given["SILENCED_SYSTEM_CHECKS"] == [], bool(names))


class People(StudioCase):
    """Accounts, and the demo's."""

    @contextmanager
    def typed(self, text: str) -> Iterator[None]:
        with mock.patch("sys.stdin", mock.Mock(isatty=lambda: False, readline=lambda: text + "\n")):
            yield

    def test_accounts_are_made_with_a_password_that_is_one(self) -> None:
        from django.core.management import CommandError, call_command

        for name, password in (
            ("jon", "short"),
            ("demo", "river-of-clay"),
            ("", "river-of-clay"),
            ("a\0", "river-of-clay"),
        ):
            with self.typed(password), self.assertRaises(CommandError):
                call_command("person", name)
        with self.typed("river-of-clay"):
            call_command("person", "jon", stdout=mock.Mock())
        self.assertTrue(User.objects.get(username="jon").check_password("river-of-clay"))
        self.assertEqual(self.take.shot.production.members.count(), 1)  # it has an owner, who lets people in

    def test_what_nobody_owns_who_can_sign_in_goes_to_a_new_account(self) -> None:
        from django.core.management import call_command

        User.objects.update(is_active=False)
        with self.typed("river-of-clay"):
            call_command("person", "jon", stdout=mock.Mock())
        self.assertEqual(Membership.objects.get(user__username="jon").role, Role.OWNER)

    def test_the_demo_signs_in_on_loopback_only(self) -> None:
        from django.core.management import call_command

        for loopback, active in ((True, True), (False, False), (True, True)):
            with (
                override_settings(LOOPBACK=loopback),
                mock.patch("studio.productions.management.commands.demo.load_demo", return_value=[]),
            ):
                call_command("demo")
            self.assertEqual(User.objects.get(username="demo").is_active, active)
