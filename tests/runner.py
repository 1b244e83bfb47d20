"""Django's test runner, which also says which tests took longest, and gives each of its processes one thread."""

from __future__ import annotations

import time
import unittest
from typing import Any

import numba
from django.conf import settings
from django.test import runner
from django.test.runner import DiscoverRunner, ParallelTestSuite, RemoteTestResult, RemoteTestRunner
from django.test.utils import TimeKeeper

SLOWEST = 60


class Timed(unittest.TextTestResult):
    """Notes how long each test takes."""

    def __init__(self, *arguments: Any, **more: Any) -> None:
        super().__init__(*arguments, **more)
        self.seconds: list[tuple[float, str]] = []
        self._begin = 0.0

    def startTest(self, test: unittest.TestCase) -> None:
        self._begin = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.took(test, time.perf_counter() - self._begin)

    def took(self, test: unittest.TestCase, seconds: float) -> None:
        """Note a time."""
        self.seconds.append((seconds, test.id()))


class TimedBeside(RemoteTestResult):
    """The same in a process beside; its times are those that count."""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        numba.set_num_threads(1)  # the one before may have asked for more
        self._begin = time.perf_counter()

    def stopTest(self, test: unittest.TestCase) -> None:
        super().stopTest(test)
        self.events.append(("took", self.test_index, time.perf_counter() - self._begin))


class RunnerBeside(RemoteTestRunner):
    resultclass = TimedBeside


def begin_process(*arguments: Any, **more: Any) -> None:
    """Each process has its own part of the broker, so that what they say does not mix."""
    runner._init_worker(*arguments, **more)
    settings.REDIS_URL = settings.REDIS_URL.rpartition("/")[0] + f"/{runner._worker_id}"


LONGEST_FIRST = ("tests.browser", "tests.reference", "tests.studio")


def by_length(suites: list[unittest.TestSuite]) -> list[unittest.TestSuite]:
    """Suites of one process each, what takes long first, so that none is left alone with it at the end.

    Tests of the page, each with services of its own, need not wait for the others of their class.
    """
    pieces: list[unittest.TestSuite] = []
    for suite in suites:
        tests = list(suite)
        of_the_page = bool(tests) and tests[0].id().startswith(LONGEST_FIRST[0])
        pieces += [unittest.TestSuite([test]) for test in tests] if of_the_page else [suite]

    def turn(suite: unittest.TestSuite) -> int:
        name = next(iter(suite)).id() if suite.countTestCases() else ""
        return next((n for n, part in enumerate(LONGEST_FIRST) if name.startswith(part)), len(LONGEST_FIRST))

    return sorted(pieces, key=turn)


class Beside(ParallelTestSuite):
    init_worker = begin_process
    runner_class = RunnerBeside

    def __init__(self, subsuites: list[unittest.TestSuite], *arguments: Any, **more: Any) -> None:
        super().__init__(by_length(subsuites), *arguments, **more)


class Runner(DiscoverRunner):
    """What ``manage.py test`` uses."""

    parallel_test_suite = Beside

    def setup_test_environment(self, **more: Any) -> None:
        super().setup_test_environment(**more)
        settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]  # the real one is slow on purpose

    def get_resultclass(self) -> type[unittest.TextTestResult]:
        return Timed

    def suite_result(self, suite: Any, result: Timed, **more: Any) -> Any:
        if isinstance(self.time_keeper, TimeKeeper):
            longest: dict[str, float] = {}
            for seconds, name in result.seconds:
                longest[name] = max(seconds, longest.get(name, 0.0))
            print(f"\nThe slowest {SLOWEST} of {len(longest)} tests:")
            for name, seconds in sorted(longest.items(), key=lambda pair: -pair[1])[:SLOWEST]:
                print(f"  {seconds:7.1f} s  {name}")
        return super().suite_result(suite, result, **more)
