"""A person at the real page in Debian's Chromium: web server, database, queue, worker, solver, cache."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connections
from django.test import TransactionTestCase, override_settings
from playwright.sync_api import Page, Route, expect, sync_playwright

from basin.stages.samples import tiny_scene
from basin.stages.stage import OTHERS
from studio.productions.models import Production, Role, Take
from tests.toy_stage import CENTRE
from tests.waiting import until

os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "true"
PBKDF2 = "django.contrib.auth.hashers.PBKDF2PasswordHasher"
ROOT = Path(__file__).resolve().parent.parent.parent
PATIENT = 90.0  # seconds that anything of the page is waited for, at least: others may use the machine too
CHROMIUM = [
    *("--no-sandbox", "--disable-quic", "--no-first-run", "--disable-background-networking"),
    *("--disable-component-update", "--disable-sync", "--use-gl=angle", "--use-angle=swiftshader"),
    "--enable-unsafe-swiftshader",
]


class Gate:
    """Requests to an address that are held back until it is opened."""

    def __init__(self, page: Page, address: str) -> None:
        self.held: list[Route] | None = []
        page.route(address, self._come)

    def _come(self, route: Route) -> None:
        if self.held is None:
            route.continue_()
        else:
            self.held.append(route)

    def open(self) -> None:
        """Let them go, and those that come."""
        held, self.held = self.held or [], None
        for route in held:
            route.continue_()


def free_port() -> int:
    """A loopback port that nobody uses."""
    import socket

    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


class PageCase(TransactionTestCase):
    """A production with a shot, and the servers that a page needs."""

    def setUp(self) -> None:
        self.root = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.root, ignore_errors=True)
        own = override_settings(CACHE_ROOT=self.root / "takes")
        own.enable()
        self.addCleanup(own.disable)
        with override_settings(PASSWORD_HASHERS=[PBKDF2]):  # the web server knows no other
            person = User.objects.create_user("mira", password="clay")
        production = Production.objects.create(name="Mill")
        production.members.add(person, through_defaults={"role": Role.OWNER})
        scene: dict[str, Any] = {**tiny_scene(), "time": {"last": 8}, "elements": []}
        scene["camera"] = {"eye": [0.9, 0.6, 0.9], "target": [0.2, 0.15, 0.2], "angle": 35}
        self.take = Take.objects.create(shot=production.shots.create(name="TM900 Trial"), name="one", scene=scene)
        name = connections["default"].settings_dict["NAME"]
        self.env = {
            **os.environ,
            "ZINC_DATA": str(self.root),
            "ZINC_DATABASE_NAME": name,
            "PYTHONPATH": f"{ROOT}:{self.root}",
            "DJANGO_SETTINGS_MODULE": "studio.settings",
            "ZINC_REDIS_URL": settings.REDIS_URL,
            OTHERS: "centre_of_test",
        }
        (self.root / "centre_of_test.py").write_text(CENTRE)
        port = free_port()
        self.address = f"http://127.0.0.1:{port}"
        self.server = self.launch("uvicorn", "studio.asgi:application", "--port", str(port), "--lifespan", "off")
        self.worker = self.start_worker()
        until(self.answers, "the web server did not come up", 60)

    def answers(self) -> bool:
        try:
            urllib.request.urlopen(self.address, timeout=2)
        except OSError:
            return False
        return True

    def launch(self, *arguments: str) -> subprocess.Popen[bytes]:
        with (self.root / f"{arguments[0]}.log").open("ab") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", *arguments],
                env=self.env,
                cwd=ROOT,
                stdout=log,
                stderr=log,
                start_new_session=True,
            )
        self.addCleanup(self.end, process)
        return process

    def start_worker(self) -> subprocess.Popen[bytes]:
        beat = str(self.root / f"beat-{time.monotonic()}")
        return self.launch(
            *("celery", "-A", "studio", "worker", "-B", "-s", beat, "--concurrency=1"),
            *("--without-gossip", "--without-mingle", "--loglevel=error"),
        )

    def end(self, process: subprocess.Popen[bytes], how: int = signal.SIGTERM) -> None:
        if process.poll() is None:
            os.killpg(process.pid, how)
            try:
                process.wait(15)
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()

    def wait(self, what: Any, seconds: float, why: str) -> None:
        """Wait until something holds; longer than said where the machine has other things to do."""
        until(what, why, max(seconds, PATIENT))

    def at_the_page(self, person: Callable[[Page], None], own_policy: bool = False) -> None:
        """Let somebody work in a browser; errors of the page fail the test.

        Under the page's own policy nothing can be waited for by a function, which would have to be compiled in it.
        """
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=CHROMIUM)
            page = browser.new_page(viewport={"width": 1280, "height": 800}, bypass_csp=not own_policy)
            page.set_default_timeout(1000 * PATIENT)
            expect.set_options(timeout=1000 * PATIENT)
            errors: list[str] = []
            heard: list[str] = []
            page.on("pageerror", lambda error: errors.append(str(error)))

            def console(text: str) -> None:
                heard.append(f"console: {text}")
                if "Content Security Policy" in text:
                    errors.append(text)

            page.on("console", lambda message: console(message.text))
            page.on("requestfailed", lambda request: heard.append(f"failed: {request.url} {request.failure}"))
            page.on("response", lambda reply: heard.append(f"{reply.status} {reply.request.method} {reply.url}"))
            try:
                person(page)
            except Exception:
                self.tell(page, errors + heard)
                raise
            finally:
                browser.close()
            self.assertEqual(errors, [])

    def tell(self, page: Page, heard: list[str]) -> None:
        """What page, network and servers said before a failure."""
        if not page.is_closed():
            print("page:", page.inner_text("body")[:2000])
        print("\n".join(heard[-40:]))
        for log in sorted(self.root.glob("*.log")):
            print(f"{log.name}:", log.read_text(errors="replace")[-3000:])

    def sign_in(self, page: Page) -> None:
        """Come in with the right password."""
        page.goto(self.address)
        page.get_by_label("Name").fill("mira")
        page.get_by_label("Password").fill("clay")
        page.get_by_label("Password").press("Enter")

    def kept(self) -> list[dict[str, Any]]:
        """The elements of the take as they are kept."""
        self.take.refresh_from_db()
        found: list[dict[str, Any]] = self.take.scene["elements"]
        return found

    def scene(self) -> dict[str, Any]:
        self.take.refresh_from_db()
        scene: dict[str, Any] = self.take.scene
        return scene

    def run_draft(self, page: Page) -> None:
        """Make the draft's frames and wait for the last."""
        page.get_by_role("button", name="Run draft").click()
        done = "document.querySelector('svg[aria-label=\"liquid frames\"]')?.dataset"
        page.wait_for_function(f"{done}.current === '8' && {done}.stale === '0'")
