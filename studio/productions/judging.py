"""One frame meshed while settings change: a process of its own keeps its particles, and the newest edit wins."""

from __future__ import annotations

import itertools
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

from basin.stages.beside import Beside, ProcessEnded
from basin.stages.judge import Asked, JudgeFailure, freeze, look
from studio.errors import Refused
from studio.productions.models import Take

T = TypeVar("T")
_turn = threading.Lock()
_numbers = itertools.count()
_tickets: dict[Any, int] = {}  # of the newest that was asked for, while it is not answered
_tickets_lock = threading.Lock()
_process: list[Beside] = []


def judged(take: Take, asker: Any, asked: Asked, action: Callable[[Asked], bytes] = look) -> bytes:
    """A frame meshed with the settings asked for, or its births, packed for the viewport.

    Refused (409) if the same asker has asked for something newer of this take meanwhile, (422) if it cannot be made.
    """
    where = (take.pk, asker, action)
    with _tickets_lock:
        _tickets[where] = mine = next(_numbers)
    with _turn:
        with _tickets_lock:
            if _tickets.get(where) != mine:
                raise Refused(["A newer edit took its place."], 409)
        try:
            return _in_process(action, asked)
        finally:
            with _tickets_lock:
                if _tickets.get(where) == mine:
                    del _tickets[where]


def frozen(take: Take, asked: Asked, name: str) -> tuple[str, int]:
    """Keep a frame's surface as a mesh of its own; returns its file in the take's folder, and its triangles."""
    file = f"frozen/{name}.{asked.frame:04d}.ply"
    with _turn:
        return file, _in_process(freeze, asked, take.folder / file)


def frozen_files(take: Take) -> list[Path]:
    """Surfaces that were frozen, by name."""
    return sorted((take.folder / "frozen").glob("*.ply"))


def _in_process(action: Callable[..., T], *given: Any) -> T:
    try:
        if not _process:
            _process.append(Beside())
        return _process[0].call(action, *given)
    except JudgeFailure as error:
        raise Refused([str(error)]) from None
    except ProcessEnded:
        _process.pop().end()
        raise Refused(["Meshing this frame took more memory than there is; use a coarser voxel or a region."]) from None
