"""What services raise when they cannot do what was asked, and how what is said travels."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from ninja import Schema

from basin.scene import Advice, advised


class Refused(Exception):
    """A refusal with what is said to the artist and an HTTP status."""

    def __init__(self, problems: Sequence[Advice | str], status: int = 422):
        super().__init__("; ".join(map(str, problems)))
        self.problems = advised(problems)
        self.status = status


class Remedy(Schema):
    """An edit of the scene that mends what is said."""

    label: str
    path: list[str | int]
    value: Any = None


class Show(Schema):
    """Where (m), if at one place, and at which frame something is seen."""

    point: list[float] | None
    frame: int


class Said(Schema):
    """One thing that is said: of what, what, what it leads to, what mends it, where it is seen, what found it."""

    says: str
    where: str
    element: str
    leads_to: str
    remedy: Remedy | None = None
    rule: str = ""
    show: Show | None = None


def told(advice: Sequence[Advice]) -> list[Said]:
    """Advice as it travels."""
    return [Said(**asdict(one)) for one in advice]
