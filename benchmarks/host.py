"""What a host that lends its processors to others too takes from a measurement, as the kernel counts it."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field
from pathlib import Path
from types import TracebackType

STAT = Path("/proc/stat")
EVERY = 0.2  # seconds between two looks
WORK, STOLEN = (0, 1, 2, 5, 6), 7  # columns of a processor's line: user, nice, system and interrupts; steal


@dataclass
class Alone:
    """Seconds of the lines within it, and how many they would have been on a machine of one's own.

    Each interval counts by the share of its wishes that the processors at work were given: work / (work + stolen),
    in the mean over processors, weighted by their work. An idle processor's stolen time held nobody up.
    """

    seconds: float = 0.0
    alone: float = 0.0
    _ended: threading.Event = field(default_factory=threading.Event)
    _watch: threading.Thread | None = None

    def __enter__(self) -> Alone:
        """Begin to watch."""
        self._watch = threading.Thread(target=self._look, daemon=True)
        self._watch.start()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        """Take the last interval in."""
        self._ended.set()
        if self._watch:
            self._watch.join()

    @property
    def share(self) -> float:
        """Of the seconds, those that were one's own."""
        return self.alone / self.seconds if self.seconds else 1.0

    def _look(self) -> None:
        """Add intervals up until the end."""
        then, before = time.perf_counter(), _processors()
        over = False
        while not over:
            over = self._ended.wait(EVERY)
            now, after = time.perf_counter(), _processors()
            self.seconds += now - then
            self.alone += (now - then) * _share(before, after)
            then, before = now, after


def _processors() -> list[tuple[int, int]]:
    """Of each processor the ticks that it worked and that were stolen, since the machine's start."""
    rows = [line.split()[1:] for line in STAT.read_text().splitlines() if line[:3] == "cpu" and line[3] != " "]
    return [(sum(int(row[at]) for at in WORK), int(row[STOLEN])) for row in rows]


def _share(before: list[tuple[int, int]], after: list[tuple[int, int]]) -> float:
    """Of an interval, that was one's own."""
    spans = [(b[0] - a[0], b[1] - a[1]) for a, b in zip(before, after, strict=True)]
    work = sum(span[0] for span in spans)
    return sum(own * own / (own + stolen) for own, stolen in spans if own) / work if work else 1.0
