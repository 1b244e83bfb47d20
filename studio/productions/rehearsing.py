"""Rehearsals: a process each, which gives way to runs and is gone when nobody looks any more."""

from __future__ import annotations

import threading
import time as clock
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import dataclass, field

from basin.stages.beside import Beside, ProcessEnded, give_way
from basin.stages.gestures.rehearse import RehearsalFailure, Rehearsed, next_frame
from studio.errors import Refused

MOST = 2  # at a time on this machine
UNSEEN = 15.0  # seconds that one goes on to be there without being asked for


@dataclass
class _One:
    process: Beside
    seen: float
    turn: threading.Lock = field(default_factory=threading.Lock)


_lock = threading.Lock()
_there: OrderedDict[Hashable, _One] = OrderedDict()


def rehearsed(whose: Hashable, asked: Rehearsed) -> bytes:
    """The next frame of somebody's rehearsal. Refused (422) if the scene cannot be run, (409) if others have both."""
    one = _of(whose)
    with one.turn:
        try:
            return one.process.call(next_frame, asked)
        except RehearsalFailure as error:
            raise Refused([str(error)]) from None
        except ProcessEnded:
            leave(whose)
            raise Refused(["The rehearsal has ended by itself; begin it again, with less in the scene."]) from None
        finally:
            one.seen = clock.monotonic()


def leave(whose: Hashable) -> bool:
    """End a rehearsal; whether there was one."""
    with _lock:
        one = _there.pop(whose, None)
    if one:
        threading.Thread(target=one.process.end, daemon=True).start()
    return one is not None


def count() -> int:
    """How many there are."""
    return len(_there)


def _of(whose: Hashable) -> _One:
    with _lock:
        _forget()
        one = _there.get(whose)
        if one is None:
            if len(_there) >= MOST:
                raise Refused(["Two others are rehearsing on this machine; wait until one of them leaves."], 409)
            one = _there[whose] = _One(Beside(), clock.monotonic())
            one.process.call(give_way)  # a run under way comes first
            _look_again()
        one.seen = clock.monotonic()
        return one


def _forget() -> None:
    """Let go of those that nobody has asked for in a while."""
    for key, one in list(_there.items()):
        if clock.monotonic() - one.seen > UNSEEN and not one.turn.locked():
            del _there[key]
            threading.Thread(target=one.process.end, daemon=True).start()


def _look_again() -> None:
    def look() -> None:
        with _lock:
            _forget()
            left = bool(_there)
        if left:
            _look_again()

    timer = threading.Timer(UNSEEN / 3, look)
    timer.daemon = True
    timer.start()
