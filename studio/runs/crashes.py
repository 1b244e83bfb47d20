"""What can be told of a worker that was lost: where it was, and of what it died if it could still say so."""

from __future__ import annotations

import faulthandler
import re
from collections.abc import Iterator
from pathlib import Path
from typing import TypeVar

from django.conf import settings

from studio.runs.models import Run

T = TypeVar("T")


def _file(row: Run) -> Path:
    return settings.DATA / "crashes" / f"run-{row.pk}.txt"


def noted(row: Run, work: Iterator[T]) -> Iterator[T]:
    """Work, during which a crash of this process leaves behind where it was."""
    path = _file(row)
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w") as file:
        before = faulthandler.is_enabled()
        faulthandler.enable(file)
        try:
            yield from work
        finally:  # which a crash never comes to
            faulthandler.disable()
            if before:
                faulthandler.enable()
            path.unlink(missing_ok=True)


def told(row: Run) -> str:
    """How a run lost its worker, and after which frame."""
    try:
        text = _file(row).read_text(errors="replace")
    except OSError:
        text = ""
    after = f" after frame {row.frame}" if row.frame is not None else ""
    died = re.search(r"Fatal Python error: (.+)", text)
    if died is None:
        return f"its worker was lost{after}, mostly because memory ran out"
    place = re.search(r'basin/(\S+?)\.py", line \d+ in (\w+)', text)
    where = f" in {place[2]} of {place[1]}" if place else ""
    return f"its worker crashed{after} ({died[1].lower()}{where})"
