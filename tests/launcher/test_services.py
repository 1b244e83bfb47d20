"""Services begun, watched and ended, by small stand-ins for them."""

from __future__ import annotations

import contextlib
import io
import os
import signal
import socket
import subprocess
import sys
import tempfile
from pathlib import Path
from unittest import mock

from django.test import SimpleTestCase

from launcher import services, setup
from launcher.main import Supervised, main
from launcher.services import Profile
from launcher.setup import SetupError
from tests.waiting import until

# begins another process, tells its number, and stays; deaf to being asked where it is told so
PARENT = """
import signal, subprocess, sys, time
if "deaf" in sys.argv:
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
child = subprocess.Popen([sys.executable, "-c", "import time; time.sleep(60)"])
print(child.pid, flush=True)
time.sleep(60)
"""


def gone(pid: int) -> bool:
    """Whether a process has ended, reaped or not."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] == "Z"
    except OSError:
        return True


class Services(SimpleTestCase):
    """Processes that head sessions of their own."""

    def begin(self, *how: str) -> tuple[subprocess.Popen[bytes], int]:
        process = subprocess.Popen([sys.executable, "-c", PARENT, *how], stdout=subprocess.PIPE, start_new_session=True)
        self.addCleanup(services.end, process, 0.0)
        assert process.stdout
        self.addCleanup(process.stdout.close)
        return process, int(process.stdout.readline())

    def test_who_is_asked_ends_with_what_it_began(self) -> None:
        process, child = self.begin()
        services.end(process)
        self.assertEqual(process.returncode, -signal.SIGTERM)
        until(lambda: gone(child), "its child goes on")

    def test_who_does_not_listen_is_ended_with_what_it_began(self) -> None:
        process, child = self.begin("deaf")
        services.end(process, 0.2)
        self.assertEqual(process.returncode, -signal.SIGKILL)
        until(lambda: gone(child), "its child goes on")

    def test_one_that_was_killed_leaves_nothing_and_the_others_go_on(self) -> None:
        watched = Supervised()
        watched.SOON = watched.LATER = 0.0  # type: ignore[misc]
        began: dict[str, list[tuple[subprocess.Popen[bytes], int]]] = {"worker": [], "web server": []}

        def service(name: str) -> subprocess.Popen[bytes]:
            began[name].append(self.begin())
            return began[name][-1][0]

        for name in began:
            watched.begin(name, lambda name=name: service(name))  # type: ignore[misc]
        process, child = began["worker"][0]
        process.kill()
        process.wait()
        self.assertTrue(watched.ended("worker"))
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            watched.look()
            watched.look()
        until(lambda: gone(child), "what the killed one began goes on")
        self.assertIn("the worker ended (exit -9)", said.getvalue())
        self.assertIn("the worker runs again", said.getvalue())
        self.assertFalse(watched.ended("worker"))
        self.assertEqual([len(times) for times in began.values()], [2, 1])
        watched.end()
        for times in began.values():
            self.assertTrue(all(one.poll() is not None for one, _ in times))

    def test_one_that_does_not_come_up_is_told_and_tried_again(self) -> None:
        watched, tries = Supervised(), 0
        watched.SOON = watched.LATER = 0.0  # type: ignore[misc]

        def service() -> subprocess.Popen[bytes]:
            nonlocal tries
            tries += 1
            if tries == 2:
                raise SetupError("its folder is away")
            return self.begin()[0]

        watched.begin("database", service)
        os.killpg(watched._running["database"].pid, signal.SIGKILL)
        watched._running["database"].wait()
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            for _ in range(4):
                watched.look()
        self.assertIn("the database does not start: its folder is away", said.getvalue())
        self.assertIn("the database runs again", said.getvalue())
        watched.end()

    def test_a_taken_port_is_told_with_what_to_set(self) -> None:
        with socket.socket() as held:
            held.bind(("127.0.0.1", 0))
            held.listen()
            port = held.getsockname()[1]
            self.assertFalse(services.port_free(port))
            with self.assertRaisesMessage(SetupError, "set ZINC_WEB_PORT to a free one"):
                services.need_port(port, "page", "ZINC_WEB_PORT")


class SettingUp(SimpleTestCase):
    """What the commands say and keep."""

    def test_passwords_are_made_once_and_are_their_owners_alone(self) -> None:
        with tempfile.TemporaryDirectory() as home, mock.patch.object(services, "VAR", Path(home)):
            made = Profile("start").secrets()
            self.assertEqual(Profile("start").secrets(), made)
            self.assertEqual(len(set(made.values())), 4)
            self.assertEqual((Path(home) / "start" / "secrets.json").stat().st_mode & 0o777, 0o600)

    def test_a_step_that_fails_says_what_it_printed(self) -> None:
        said = io.StringIO()
        with contextlib.redirect_stdout(said), self.assertRaisesMessage(SetupError, "baking failed (exit 3)"):
            setup.quiet([sys.executable, "-c", "print('too hot'); raise SystemExit(3)"], "baking")
        self.assertIn("too hot", said.getvalue())
        with self.assertRaisesMessage(SetupError, "baking failed: /nowhere cannot be run"):
            setup.quiet(["/nowhere"], "baking")

    def test_a_step_that_takes_its_time_says_so(self) -> None:
        with tempfile.TemporaryDirectory() as home:
            told = Path(home) / "told"
            baking = f"import os, time\nwhile not os.path.exists({str(told)!r}): time.sleep(0.01)"
            with (
                mock.patch.object(setup, "say", side_effect=told.write_text),
                mock.patch.object(setup, "TOLD_EVERY", 0.05),
            ):
                setup.quiet([sys.executable, "-c", baking], "baking")
            self.assertEqual(told.read_text(), "... baking, 0 s")

    def test_steps_beside_each_other_tell_the_first_that_failed(self) -> None:
        done: list[str] = []

        def fails() -> None:
            raise SetupError("no flour")

        with self.assertRaisesMessage(SetupError, "no flour"):
            setup.beside(fails, lambda: done.append("page"))
        self.assertEqual(done, ["page"])

    def test_a_digest_tells_contents_and_names(self) -> None:
        with tempfile.TemporaryDirectory() as home, mock.patch.object(setup, "ROOT", Path(home)):
            one = Path(home) / "one"
            one.mkdir()
            (one / "a").write_text("x")
            first = setup.digest([one])
            self.assertEqual(setup.digest([one]), first)
            (one / "a").rename(one / "b")
            self.assertNotEqual(setup.digest([one]), first)

    def test_what_is_no_command_gets_the_list_of_them(self) -> None:
        said = io.StringIO()
        with contextlib.redirect_stdout(said):
            self.assertEqual(main(["stat"]), 2)
            self.assertEqual(main(["help"]), 0)
        self.assertEqual(said.getvalue().count("usage: ./zinc COMMAND"), 2)
