"""How fast this machine is: what its own runs took against what was reckoned, kept in a small file."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from pathlib import Path

MOST_RUNS = 30  # of each stage that are kept
RECENT = 0.85  # weight of a run against the one after it
UNSURE = 0.55  # of the logarithm of a time, before there are runs
LEAST = 0.2  # and however many there are
RECKONED = 0.3  # weight of what was reckoned: scenes differ by about a third from it, machines by much more
LONG_ENOUGH = 3.0  # seconds of a run that says something


@dataclass(frozen=True)
class Expected:
    """A time that is likely, and between which two it lies honestly (seconds)."""

    likely: float
    least: float
    most: float


class Pace:
    """What runs of each stage took on this machine, as factors of what was reckoned."""

    def __init__(self, file: Path) -> None:
        self._file = file

    def stamp(self) -> int:
        """What changes whenever something is learned."""
        try:
            return self._file.stat().st_mtime_ns
        except OSError:
            return 0

    def factors(self) -> dict[str, list[float]]:
        """How many times what was reckoned its kept runs took, by stage."""
        try:
            found = json.loads(self._file.read_text(encoding="utf-8"))
            return {str(k): [float(x) for x in v if 0 < float(x) < math.inf] for k, v in found.items()}
        except (OSError, ValueError, TypeError, AttributeError):
            return {}

    def knows(self, stage: str) -> bool:
        """Whether anything was learned of a stage."""
        return bool(self.factors().get(stage))

    def learn(self, stage: str, reckoned: float, took: float) -> None:
        """Take in what a whole run of a stage took (seconds)."""
        if reckoned <= 0 or took < LONG_ENOUGH:
            return
        factors = self.factors()
        factors[stage] = [*factors.get(stage, []), took / reckoned][-MOST_RUNS:]
        part = self._file.with_suffix(".part")
        part.write_text(json.dumps(factors), encoding="utf-8")
        part.replace(self._file)

    def expect(self, stage: str, reckoned: float) -> Expected:
        """The time that a stage will take, from what was reckoned."""
        logs = [math.log(f) for f in self.factors().get(stage, [])]
        weights = [RECENT ** (len(logs) - 1 - n) for n in range(len(logs))]
        total = sum(weights) + RECKONED
        mean = sum(w * x for w, x in zip(weights, logs, strict=True)) / total
        spread = sum(w * (x - mean) ** 2 for w, x in zip(weights, logs, strict=True)) + RECKONED * UNSURE**2
        width = max(math.sqrt(spread / total), LEAST)
        likely = reckoned * math.exp(mean)
        return Expected(likely, likely * math.exp(-width), likely * math.exp(width))
