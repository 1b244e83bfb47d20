"""The turns of a loop shared among threads, as many as Numba has been told to use."""

from __future__ import annotations

import itertools
import os
import threading
from collections.abc import Callable
from typing import Any

import numba

PIECES = 6  # for each thread: whose pieces are light takes more of them


class _Helper:
    """A thread that waits for something to do."""

    def __init__(self) -> None:
        self._asked, self._done = threading.Lock(), threading.Lock()
        self._asked.acquire()
        self._done.acquire()
        self._action: Callable[[], None] = lambda: None
        self._error: BaseException | None = None
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            self._asked.acquire()
            try:
                self._action()
            except BaseException as error:
                self._error = error
            self._done.release()

    def ask(self, action: Callable[[], None]) -> None:
        """Let it begin."""
        self._action = action
        self._asked.release()

    def wait(self) -> None:
        """Wait until it is done; raises what it raised."""
        self._done.acquire()
        error, self._error = self._error, None
        if error is not None:
            raise error


_helpers: list[_Helper] = []
_turn = threading.Lock()


def _forget() -> None:
    """A forked process has none of its parent's threads."""
    global _turn
    _helpers.clear()
    _turn = threading.Lock()


os.register_at_fork(after_in_child=_forget)


def share(piece: Callable[..., Any], begin: int, end: int, given: tuple[Any, ...]) -> None:
    """Call ``piece(first, after, *given)`` for pieces that make up the turns from `begin` to before `end`.

    `piece` must let other threads run meanwhile. A thread that finds the others at work does all of its turns itself.
    """
    threads = min(numba.get_num_threads(), end - begin)
    if threads < 2 or not _turn.acquire(blocking=False):
        if begin < end:
            piece(begin, end, *given)
        return
    try:
        size = -(-(end - begin) // (PIECES * threads))
        pieces = iter(range(begin, end, size))  # whose next one only one thread gets, under Python's own lock

        def work() -> None:
            for first in pieces:
                piece(first, min(first + size, end), *given)

        while len(_helpers) < threads - 1:
            _helpers.append(_Helper())
        helping = list(itertools.islice(_helpers, threads - 1))
        for helper in helping:
            helper.ask(work)
        try:
            work()
        finally:
            for helper in helping:
                helper.wait()
    finally:
        _turn.release()
