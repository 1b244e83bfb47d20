"""Processes that work beside this one, and end with it."""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import current_process, get_context
from typing import Any

LOOKED_AFTER = 1.0  # seconds


def processes(count: int, begin: Callable[..., None] | None = None, *given: Any) -> ProcessPoolExecutor:
    """A pool of new processes (spawned, so that no threads or connections are copied), each made ready by `begin`.

    They end when this process does, however it ends.
    """
    # queues run their work in processes that may not have children, lest those be left behind; ours end by themselves
    current_process()._config["daemon"] = False  # type: ignore[attr-defined]
    context = get_context("spawn")
    return ProcessPoolExecutor(count, mp_context=context, initializer=_begin, initargs=(os.getpid(), begin, given))


def _begin(parent: int, begin: Callable[..., None] | None, given: tuple[Any, ...]) -> None:
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    if begin:
        begin(*given)


def _end_with(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(LOOKED_AFTER)
    os._exit(1)
