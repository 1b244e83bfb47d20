"""Functions for `tests.basin.test_apart` that behave badly, called apart."""

from __future__ import annotations

import ctypes
import socket
from pathlib import Path

import numpy as np

from basin.apart import Answer, Told


def doubled(words: str) -> Answer:
    """All kinds of values."""
    return {"words": words * 2}, [np.arange(6, dtype=np.float32).reshape(2, 3), np.zeros((0, 3), np.int32)]


def refused() -> Answer:
    """A sentence."""
    raise Told("not this one")


def wild() -> Answer:
    """An access to memory that is not there."""
    ctypes.string_at(16)
    return None, []


def greedy() -> Answer:
    """Five gigabytes."""
    return None, [np.ones(5 * 10**9 // 8)]


def endless() -> Answer:
    """Never ends."""
    while True:
        pass


def broken() -> Answer:
    """An error that is none of ours."""
    raise KeyError("gone")


def read(file: str) -> Answer:
    """The length of a file."""
    return len(Path(file).read_bytes()), []


def written(file: str) -> Answer:
    """Leaves a file behind."""
    Path(file).write_text("x")
    return None, []


def spoken(port: int) -> Answer:
    """Speaks to somebody."""
    socket.create_connection(("127.0.0.1", port), 5).close()
    return None, []
