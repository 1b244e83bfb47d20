"""What particles and the vertices of surfaces may carry: one table, for all that keep, show or write it.

A name that stands here is kept in frames, goes from particles to vertices, can be coloured by in the viewport, and
leaves in files, as its row says. What no row names is left as it is.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True)
class Attribute:
    """A row of the table.

    Attributes
    ----------
    width : numbers for each particle
    unit : as it is shown and delivered
    blend : how a vertex gets it from the particles about it: their fitted mean, or the nearest one's; "" if it does not
    bounded : whether a mean is kept within what particles have
    shown : whether it can be coloured by: as numbers on a ramp, as the colours that they are, as one of some `names`
    names : what its numbers from 0 on stand for
    from_nothing : whether its ramp begins at 0
    least_span : of its ramp, so that what hardly differs is not stretched over all colours
    leaves : whether it is written into deliveries
    per_density : whether particles carry it divided by the liquid's density
    """

    name: str
    width: int = 1
    unit: str = ""
    blend: Literal["", "mean", "nearest"] = ""
    bounded: bool = True
    shown: Literal["", "ramp", "colours", "names"] = ""
    from_nothing: bool = False
    least_span: float = 1e-6
    leaves: bool = True
    per_density: bool = False
    names: tuple[str, ...] = ()


ATTRIBUTES: dict[str, Attribute] = {}


def declare(*rows: Attribute) -> None:
    """Put rows into the table, after those that are there."""
    for row in rows:
        ATTRIBUTES[row.name] = row


declare(
    Attribute("velocity", 3, "m/s", blend="mean", bounded=False),
    # at rest, colours should not stretch over its last whispers
    Attribute("speed", unit="m/s", shown="ramp", from_nothing=True, least_span=0.01),
    Attribute("vorticity", unit="1/s", shown="ramp", from_nothing=True),
    Attribute("age", unit="s", shown="ramp"),
    Attribute("born", unit="s", blend="mean", leaves=False),  # as its age
    Attribute("source", blend="nearest", shown="ramp"),
    Attribute("id", blend="nearest"),
    Attribute("colour", 3, blend="mean", shown="colours"),
    Attribute("mark", blend="mean", shown="ramp"),
    Attribute("viscosity", unit="Pa s", blend="mean", shown="ramp", per_density=True),
    Attribute("yield_stress", unit="Pa", blend="mean", shown="ramp", per_density=True),
    Attribute("flow_index", blend="mean", shown="ramp"),
    Attribute("surface_tension", unit="N/m", blend="mean", shown="ramp", per_density=True),
    Attribute("rest_a", 3, "m", blend="mean", bounded=False),  # go on beyond the outermost particles
    Attribute("rest_b", 3, "m", blend="mean", bounded=False),
    Attribute("rest_share"),
    Attribute("uv", 2),
    Attribute("difference", unit="mm", shown="ramp", leaves=False),
    Attribute("texture", shown="ramp", leaves=False),
)


def blended(how: str, among: Iterable[str]) -> list[str]:
    """Names of those among some that go to vertices in a way, in the table's order."""
    there = set(among)
    return [row.name for row in ATTRIBUTES.values() if row.blend == how and row.name in there]


def passed_on(among: Iterable[str]) -> list[str]:
    """Names of those among some that go to vertices in any way."""
    there = set(among)
    return [row.name for row in ATTRIBUTES.values() if row.blend and row.name in there]


def leaving(among: Iterable[str]) -> list[str]:
    """Names of those among some that are written into deliveries."""
    there = set(among)
    return [row.name for row in ATTRIBUTES.values() if row.leaves and row.name in there]


def shown(among: Iterable[str]) -> list[str]:
    """Names of those among some that can be coloured by."""
    there = set(among)
    return [row.name for row in ATTRIBUTES.values() if row.shown and row.name in there]
