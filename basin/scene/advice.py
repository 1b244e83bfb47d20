"""What is said of a scene, as data: problems that bar a run, remarks, and what mends them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Remedy:
    """An edit of the scene that mends what is said: the value at a path, and what the edit is called."""

    label: str
    path: tuple[str | int, ...]
    value: Any


@dataclass(frozen=True)
class Show:
    """A frame at which something is seen, and the point (m) of the scene where, if it is at one."""

    point: tuple[float, float, float] | None
    frame: int


@dataclass(frozen=True)
class Advice:
    """One thing that is said.

    Attributes
    ----------
    says : what was seen, and what to change
    where : path into the scene, as in "elements[2].shape.file"; nothing for the whole
    element : name of the element that it is about; nothing for none
    leads_to : what comes of it if it stays
    remedy : an edit that mends it; None if there is not one alone
    rule : what found it; with the element's name it says what can be put aside
    show : where and when it is seen; None if it is nowhere
    """

    says: str
    where: str = ""
    element: str = ""
    leads_to: str = ""
    remedy: Remedy | None = None
    rule: str = ""
    show: Show | None = None

    @property
    def aside(self) -> str:
        """What a scene lists to have it put aside; empty for what must be said."""
        return f"{self.rule}:{self.element}" if self.rule else ""

    def __str__(self) -> str:
        place = self.where
        if self.element:
            head, bracket, rest = place.partition("]")
            place = f"{head}{bracket} ({self.element}){rest}"
        said = f"{self.says}: {self.leads_to}" if self.leads_to else self.says
        return f"{place}: {said}" if place else said


def advised(said: Sequence[Advice | str]) -> list[Advice]:
    """Plain sentences as advice too."""
    return [Advice(one) if isinstance(one, str) else one for one in said]
