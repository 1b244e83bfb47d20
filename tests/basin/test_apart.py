"""Functions called apart: whatever they do, who called them goes on, and they reach nothing that they are not given."""

from __future__ import annotations

import ctypes
import os
import socket
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin import apart

CONFINES = ctypes.CDLL(None).syscall(444, None, 0, 1) > 0  # Landlock


def call(name: str, *given: Any, reach: Path | None = None, seconds: int = 60) -> apart.Answer:
    return apart.call(f"tests.apart_samples:{name}", *given, reach=[reach] if reach else [], seconds=seconds)


class Calls(SimpleTestCase):
    """What comes back."""

    def test_words_and_arrays(self) -> None:
        facts, (some, none) = call("doubled", "ab")
        self.assertEqual(facts, {"words": "abab"})
        np.testing.assert_array_equal(some, np.arange(6, dtype=np.float32).reshape(2, 3))
        self.assertEqual(none.shape, (0, 3))

    def test_sentences(self) -> None:
        with self.assertRaisesRegex(apart.Told, "^not this one$"):
            call("refused")

    def test_a_crash_an_error_and_greed_end_the_call_alone(self) -> None:
        for name, says in (("wild", "ended its reader"), ("broken", "ended its reader"), ("greedy", "more than 4 GB")):
            with self.subTest(name), self.assertRaisesRegex(apart.Ended, says):
                call(name)
            self.assertEqual(call("doubled", "a")[0], {"words": "aa"})

    def test_what_never_ends_is_ended(self) -> None:
        begin = time.monotonic()
        with self.assertRaisesRegex(apart.Ended, "takes longer than 1 s"):
            call("endless", seconds=1)
        self.assertLess(time.monotonic() - begin, 10)

    def test_it_ends_when_nobody_waits(self) -> None:
        token = apart.nobody_waits.set(lambda: True)
        try:
            begin = time.monotonic()
            with self.assertRaises(apart.Ended):
                call("endless")
            self.assertLess(time.monotonic() - begin, 10)
        finally:
            apart.nobody_waits.reset(token)

    def test_the_helper_begins_again_when_it_is_lost(self) -> None:
        call("doubled", "a")
        helper = apart._one[0]
        helper._process.kill()
        helper._process.wait()
        self.assertEqual(call("doubled", "b")[0], {"words": "bb"})


@unittest.skipUnless(CONFINES, "this kernel has no Landlock")
class Confined(SimpleTestCase):
    """What it reaches."""

    def setUp(self) -> None:
        holding = tempfile.TemporaryDirectory()
        self.addCleanup(holding.cleanup)
        self.home = Path(holding.name)
        for name in ("mine", "others"):
            (self.home / name).mkdir()
            (self.home / name / "file").write_text("1234")

    def test_its_own_folder_and_no_other(self) -> None:
        self.assertEqual(call("read", str(self.home / "mine" / "file"), reach=self.home / "mine")[0], 4)
        for other in (self.home / "others" / "file", self.home / "mine" / ".." / "others" / "file"):
            with self.assertRaises(apart.Ended):
                call("read", str(other), reach=self.home / "mine")
        os.symlink(self.home / "others" / "file", self.home / "mine" / "link")
        with self.assertRaises(apart.Ended):
            call("read", str(self.home / "mine" / "link"), reach=self.home / "mine")

    def test_it_writes_nothing(self) -> None:
        with self.assertRaises(apart.Ended):
            call("written", str(self.home / "mine" / "new"), reach=self.home / "mine")
        self.assertFalse((self.home / "mine" / "new").exists())

    def test_it_speaks_to_nobody(self) -> None:
        with socket.create_server(("127.0.0.1", 0)) as server, self.assertRaises(apart.Ended):
            call("spoken", server.getsockname()[1])
