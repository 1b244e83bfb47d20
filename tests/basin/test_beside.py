"""Processes that work for this one, and give way to what matters more."""

from __future__ import annotations

import os
import threading

import numba
from django.test import SimpleTestCase

from basin.stages.beside import Beside, ProcessEnded, give_way, several


def policies() -> list[int]:
    """How each thread of this process is scheduled, once kernels have made theirs."""
    numba.njit(parallel=True)(lambda n: [i for i in numba.prange(n)])
    started = threading.Barrier(3)
    for _ in range(2):
        threading.Thread(target=started.wait, daemon=True).start()
    found = [os.sched_getscheduler(int(one)) for one in os.listdir("/proc/self/task")]
    started.wait()
    return found


def niceness() -> int:
    return os.nice(0)


_begun: list[int] = []


def begin(with_what: int) -> None:
    _begun.append(with_what)


def begun() -> list[int]:
    return _begun


def fails(message: str) -> None:
    raise ValueError(message)


class Processes(SimpleTestCase):
    """One that is asked, and several that take turns."""

    def one(self) -> Beside:
        process = Beside()
        self.addCleanup(process.end)
        return process

    def test_who_gives_way_runs_when_nobody_else_wants_to_with_all_its_threads(self) -> None:
        process = self.one()
        own = os.sched_getscheduler(0)
        process.call(give_way)
        found = process.call(policies)
        self.assertGreaterEqual(len(found), 2)
        self.assertEqual(set(found), {os.SCHED_IDLE})
        self.assertEqual(process.call(niceness), 19)
        self.assertEqual(os.sched_getscheduler(0), own)  # who asks goes on as before

    def test_what_is_raised_there_is_raised_here_and_the_next_call_is_answered(self) -> None:
        process = self.one()
        with self.assertRaisesMessage(ValueError, "too thick"):
            process.call(fails, "too thick")
        self.assertEqual(process.call(niceness), os.nice(0))

    def test_a_process_that_has_gone_is_told(self) -> None:
        process = self.one()
        with self.assertRaises(ProcessEnded):
            process.call(os._exit, 3)
        with self.assertRaises(ProcessEnded):
            process.call(niceness)

    def test_all_of_several_are_made_ready_before_they_work(self) -> None:
        with several(2, begin, 7) as work:
            answers = [one.result() for one in [work(begun) for _ in range(4)]]
        self.assertEqual(answers, [[7]] * 4)
