"""What is measured on frames: the name of a number, and what people call it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Reading:
    """A number that a stage measures on each of its frames.

    Attributes
    ----------
    name : under which frames' manifests keep it; what ends with a dot begins the names of one for each element
    label : for people; of several, {} stands for the rest of the name
    unit : nothing for counts and shares
    """

    name: str
    label: str
    unit: str = ""


def told(declared: Iterable[Reading], found: Iterable[str]) -> list[Reading]:
    """The readings that are there, in the order of their declaration; KeyError for one that nobody declared."""
    names = sorted(set(found))
    rows = list(declared)
    result = []
    for row in rows:
        if row.name.endswith("."):
            for name in [n for n in names if n.startswith(row.name)]:
                rest = name.removeprefix(row.name).replace(".", " ")
                result.append(Reading(name, row.label.format(rest), row.unit))
        elif row.name in names:
            result.append(row)
    missing = set(names) - {row.name for row in result}
    if missing:
        raise KeyError(f"readings that no stage declares: {', '.join(sorted(missing))}")
    return result
