"""When a vessel will be full of what pours into it, and what must pour for it to be full then.

Conservation of volume alone: what has arrived by a time is what has left the opening by the time of flight before.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from basin.scene import Inflow, Scene, parse_scene
from basin.scene.rescale import times
from basin.settings import Curve, value_at
from basin.stages.files import SceneFiles
from basin.stages.gestures.flight import Flight, flight
from basin.stages.gestures.room import NoRoom, Room, find_room

LONGEST = 3600.0  # shot seconds that a filling is followed
STEPS = 4000
NEARLY = 1e-3  # of what is missing: an end that was set to when it is full has few digits
RATES = 49  # that are tried first: the flight is quicker when more pours
Given = Literal["speed", "rate", "litres", "full"]


class NotFilled(ValueError):
    """Nothing that pours so fills anything so; the message is a sentence for the artist."""


@dataclass(frozen=True)
class Filling:
    """What an inflow fills.

    Attributes
    ----------
    vessel : what the stream first meets
    litres : that are missing up to the level, beside what is there
    level, height, runs_over : m, as of a `Room`
    arrives : shot second at which the first liquid is there
    full : shot second at which the level is reached; None if what pours is not enough
    frame : the same as a frame
    stops : shot second at which the inflow has given just that much; None if it never has
    open : where what it falls into runs out below the level; empty if it does not
    leak : where it leaks (m), if it has walls and is open
    walled : whether what it falls into has walls, and so leaks if it is open
    """

    vessel: str
    litres: float
    level: float
    height: float
    runs_over: float | None
    arrives: float
    full: float | None
    frame: int | None
    stops: float | None
    open: str
    walled: bool
    leak: list[float] | None = None


def filling(scene: Scene, files: SceneFiles, index: int, quality: str, level: float | None = None) -> Filling | None:
    """What an inflow fills, up to a level or to where it runs over; None if its stream goes elsewhere."""
    found = _met(scene, files, index, quality, level)
    if found is None:
        return None
    way, room = found
    element = scene.elements[index]
    assert isinstance(element, Inflow)
    missing = max(room.litres - room.already, 0.0)
    stops = None if room.open else _given_by(element, scene, way, missing)
    delay = way.time - max(element.start, element.spans()[0][0])
    full = None if stops is None else stops + delay
    frame = None if full is None else int(np.ceil(scene.time.first + full * scene.time.fps - 1e-6))
    where = (room.level, room.height, room.runs_over)
    return Filling(way.met, missing, *where, way.time, full, frame, stops, room.open, room.walled, room.leak)


def _met(scene: Scene, files: SceneFiles, index: int, quality: str, level: float | None) -> tuple[Flight, Room] | None:
    way = flight(scene, files, index, quality)
    if way is None or way.leaves or not way.met:
        return None
    frame = min(max(way.frame, scene.time.first), scene.time.last)
    seed = _above(way, max(scene.voxel_size(quality), scene.voxel_size("draft")))
    try:
        return way, find_room(scene, files, seed, level, frame, quality)
    except NoRoom:
        return None


def _above(way: Flight, dx: float) -> tuple[float, float, float]:
    """A point of a stream a little before what it meets."""
    path = np.array(way.path)
    back = np.linalg.norm(path - path[-1], axis=1) >= 1.5 * dx
    x, y, z = path[np.flatnonzero(back)[-1]] if back.any() else path[0]
    return float(x), float(y), float(z)


def _given_by(element: Inflow, scene: Scene, way: Flight, litres: float) -> float | None:
    """Shot second by which an inflow has given so many litres; None if it never has."""
    if litres <= 0:
        return max(element.start, 0.0)
    left = litres
    for begin, until in element.spans():
        begin, until = max(begin, 0.0), min(until, LONGEST)
        if until <= begin:
            continue
        soon = min(until, begin + 2 * scene.time.shot_time(scene.time.last))
        times = np.unique(np.concatenate([np.linspace(begin, soon, STEPS), np.linspace(begin, until, STEPS)]))
        if element.amount == "flow" and isinstance(element.flow, Curve):
            rate = np.array([max(float(value_at(element.flow, float(t))[0]), 0.0) for t in times])
        else:
            rate = np.full(len(times), way.litres_per_second)
        given = np.concatenate([[0.0], np.cumsum(0.5 * (rate[1:] + rate[:-1]) * np.diff(times))])
        if given[-1] >= left * (1 - NEARLY):
            return float(np.interp(left, given, times))
        left -= float(given[-1])
    return None


def solved(
    scene: Scene, files: SceneFiles, index: int, quality: str, given: Given, value: float, level: float | None = None
) -> dict[str, Any]:
    """An inflow's settings so that its speed (m/s), rate (l/s), litres until the shot's end, or the shot second at
    which what it fills is full, is the value given.

    Raises
    ------
    NotFilled
        If there is no such inflow: it fills nothing, or would have to be full before it arrives.
    """
    element = scene.elements[index]
    way = flight(scene, files, index, quality)
    if not isinstance(element, Inflow) or way is None or way.litres_per_second <= 0:
        raise NotFilled("It does not pour a stream.")
    if value <= 0:
        raise NotFilled("That must be above nothing.")
    if given == "speed":
        rate = way.litres_per_second * value / max(way.leaving, 1e-12)
    elif given == "rate":
        rate = value
    elif given == "litres":
        if way.litres <= 0:
            raise NotFilled("It pours nothing before the shot's end.")
        rate = way.litres_per_second * value / way.litres
    else:
        rate = _rate_for(scene, files, index, quality, value, level)
    return with_rate(element, way, rate)


def with_rate(element: Inflow, way: Flight, rate: float) -> dict[str, Any]:
    """An inflow's settings with another rate (l/s): its litres where litres are given, else its speed."""
    settings = element.model_dump(mode="json")
    factor = rate / way.litres_per_second
    if element.amount == "total":
        settings["total"] = float(f"{element.total * factor:.5g}")
    elif element.amount == "flow":
        settings["flow"] = times(settings["flow"], factor)
    else:
        settings["velocity"] = [float(f"{v * factor:.5g}") for v in element.velocity]
    return settings


def _rate_for(scene: Scene, files: SceneFiles, index: int, quality: str, full: float, level: float | None) -> float:
    """The rate (l/s) with which what an inflow fills is full at a shot second, by bisection."""
    element = scene.elements[index]
    way = flight(scene, files, index, quality)
    found = filling(scene, files, index, quality, level)
    if found is None or way is None or not isinstance(element, Inflow):
        raise NotFilled("Its stream fills nothing.")
    if found.open:
        raise NotFilled(f"What it fills runs out by {found.open}.")
    missing: dict[str, float | None] = {found.vessel: found.litres}  # by what is met: rooms are dear to find

    def in_time(rate: float) -> bool:
        document = scene.model_dump(mode="json")
        quick = with_rate(element, way, rate)
        # an end would stop it short of full; litres in all are poured by their end
        document["elements"][index] = quick if element.amount == "total" else {**quick, "end": None}
        quicker = parse_scene(document)
        then, poured = flight(quicker, files, index, quality), quicker.elements[index]
        assert isinstance(poured, Inflow)
        if then is None or then.leaves or not then.met:
            return False
        if then.met not in missing:
            other = filling(quicker, files, index, quality, level)
            missing[then.met] = other.litres if other and not other.open else None
        litres = missing[then.met]
        stops = None if litres is None else _given_by(poured, quicker, then, litres)
        return stops is not None and stops + then.time - max(poured.start, poured.spans()[0][0]) <= full

    # a stream that is too quick meets something else: the slowest rate that is in time is looked for from below
    rates = way.litres_per_second * np.geomspace(1e-2, 1e2, RATES)
    first = next((n for n, rate in enumerate(rates) if in_time(float(rate))), 0)
    if first == 0:
        raise NotFilled("No rate fills it by then: the stream must arrive first, and still meet it.")
    least, most = float(rates[first - 1]), float(rates[first])
    while most / least > 1.0005:
        middle = float(np.sqrt(least * most))
        least, most = (least, middle) if in_time(middle) else (middle, most)
    return most
