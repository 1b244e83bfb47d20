"""Processes that call functions for this one, and end with it.

Plain pipes rather than `multiprocessing`, whose processes a queue's worker may not start and a killed parent leaves
behind: a process beside us ends when its pipe does.
"""

from __future__ import annotations

import os
import pickle
import queue
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any, TypeVar

T = TypeVar("T")
ROOT = Path(__file__).resolve().parent.parent.parent
PATIENCE = 10.0  # seconds until one that was asked to end is ended


class ProcessEnded(RuntimeError):
    """A process beside this one has gone, mostly because memory ran out."""


class Beside:
    """A process that calls functions, one after the other. Functions and what they take and give are pickled."""

    def __init__(self) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", "basin.stages.beside"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, cwd=ROOT
        )
        self._turn = threading.Lock()

    def call(self, function: Callable[..., T], *given: Any) -> T:
        """What the function returns there; what it raises is raised here.

        Raises
        ------
        ProcessEnded
            If the process has gone.
        """
        assert self._process.stdin
        assert self._process.stdout
        with self._turn:
            try:
                pickle.dump((function, given), self._process.stdin)
                self._process.stdin.flush()
                well, value = pickle.load(self._process.stdout)
            except (OSError, EOFError, pickle.UnpicklingError):
                raise ProcessEnded("a process that was meshing has ended; memory may have run out") from None
        if well:
            found: T = value
            return found
        raise value

    def end(self) -> None:
        """Let it end after what it does now."""
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe:
                try:
                    pipe.close()
                except OSError:
                    continue
        try:
            self._process.wait(PATIENCE)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()


def give_way() -> None:
    """Let this process, before it has threads, run only when no other wants to, or as rarely as may be."""
    os.nice(19)
    if hasattr(os, "SCHED_IDLE"):
        os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))


@contextmanager
def several(count: int, begin: Callable[..., None], *given: Any) -> Iterator[Callable[..., Future[Any]]]:
    """Processes made ready by `begin`, and what gives one of them that is idle something to do."""
    idle: queue.Queue[Beside] = queue.Queue()
    all_of_them = [Beside() for _ in range(count)]

    def ready(one: Beside) -> None:
        one.call(begin, *given)
        idle.put(one)

    def work(function: Callable[..., Any], *arguments: Any) -> Any:
        one = idle.get()
        try:
            return one.call(function, *arguments)
        finally:
            idle.put(one)

    with ThreadPoolExecutor(count) as threads:
        try:
            for begun in [threads.submit(ready, one) for one in all_of_them]:
                begun.result()
            yield lambda function, *arguments: threads.submit(work, function, *arguments)
        finally:
            threads.shutdown(wait=True, cancel_futures=True)
            for one in all_of_them:
                one.end()


def main() -> None:
    """Call what is asked for until nobody asks any more."""
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # what functions print must not come between the answers
    while True:
        try:
            function, given = pickle.load(sys.stdin.buffer)
        except EOFError:
            return
        try:
            answer: tuple[bool, Any] = True, function(*given)
        except Exception as error:
            answer = False, error
        try:
            pickle.dump(answer, answers)
            answers.flush()
        except BrokenPipeError:
            return


if __name__ == "__main__":
    main()
