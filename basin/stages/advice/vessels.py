"""Vessels and walls: what leaks, what runs over, what the domain stops."""

from __future__ import annotations

from basin.scene import Advice, Remedy, Show
from basin.stages.advice.look import Look
from basin.stages.gestures.flight import NAMED

SIDES = {words: name for name, words in NAMED.items() if name != "y_min"}


def leaks(look: Look) -> list[Advice]:
    """A vessel that a stream falls into and that runs out below: it has walls about the stream, and a hole."""
    ways = {index: way for index, _, way in look.flights}
    said = []
    for index, element, filled in look.fillings:
        if filled.open and filled.walled:
            says = f"what its stream falls into runs out by {filled.open}"
            leads, show = "it never fills", look.arrival(ways[index])
            if filled.leak:
                x, y, z = filled.leak
                show = Show((x, y, z), show.frame)
            said.append(Advice(says, f"elements[{index}]", element.name, leads, show=show))
    return said


def runs_over(look: Look) -> list[Advice]:
    """A vessel that is full before the shot ends, and goes on being poured into."""
    ways = {index: way for index, _, way in look.flights}
    said = []
    for index, element, filled in look.fillings:
        if filled.frame is None or filled.stops is None or filled.runs_over is None:
            continue
        if filled.frame > look.scene.time.last or element.until() <= filled.stops + 1e-3:
            continue
        said.append(
            Advice(
                f"{filled.vessel} is full of its {filled.litres:.3g} l at frame {filled.frame}",
                f"elements[{index}]",
                element.name,
                "it runs over from then on",
                Remedy("Pour until it is full", ("elements", index, "end"), round(filled.stops, 4)),
                show=look.arrival(ways[index]),
            )
        )
    return said


def meets_a_wall(look: Look) -> list[Advice]:
    """A stream that flies against a closed side or the ceiling of the domain, which nobody sees."""
    said = []
    for index, element, way in look.flights:
        name = SIDES.get(way.met)
        if name is None or way.frame > look.scene.time.last:
            continue
        said.append(
            Advice(
                f"its stream meets {way.met} of the domain at frame {way.frame}",
                f"elements[{index}]",
                element.name,
                "it runs down there as on glass",
                Remedy("Open that wall", ("domain", "walls", name), "open"),
                show=look.arrival(way),
            )
        )
    return said
