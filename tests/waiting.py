"""Waiting for a condition, instead of sleeping."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Any

_never = threading.Event()


def until(what: Callable[[], Any], why: str, seconds: float = 30.0) -> None:
    """Wait until something holds; AssertionError, saying why that is bad, if it does not come about."""
    end = time.monotonic() + seconds
    while not what():
        if time.monotonic() > end:
            raise AssertionError(why)
        _never.wait(0.02)
