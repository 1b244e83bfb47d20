"""What is spoilt of trapped air and of what is born of it for `benchmarks.mutants`, and which tests should notice."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import replace

import numpy as np
from numba import njit

from basin.stages import surface_stage
from basin.whitewater import laws, life, mist, potentials
from benchmarks.mutants_surface import around, exchanged, with_names

MODULES = (
    *(f"tests.basin.test_whitewater{part}" for part in ("", "_life", "_stage")),
    "tests.basin.test_mist",
    "tests.basin.test_stages",
)


@njit
def _whichever_way(line, first, after, px, py, pz, vx, vy, vz, nx, ny, nz, inverse):
    """Neighbours that part count as those that come together."""
    total = np.float32(0.0)
    for q in range(first, after):
        far = np.sqrt((px - line[0, q]) ** 2 + (py - line[1, q]) ** 2 + (pz - line[2, q]) ** 2)
        fast = np.sqrt((vx - line[3, q]) ** 2 + (vy - line[4, q]) ** 2 + (vz - line[5, q]) ** 2)
        total += np.float32(2.0) * fast * max(np.float32(1.0) - far * inverse, np.float32(0.0))
    return total, np.float32(0.0)


@njit
def _hollows_too(line, first, after, px, py, pz, vx, vy, vz, nx, ny, nz, inverse):
    """Whatever bends is a crest."""
    bent = np.float32(0.0)
    for q in range(first, after):
        far = np.sqrt((px - line[0, q]) ** 2 + (py - line[1, q]) ** 2 + (pz - line[2, q]) ** 2)
        bend = line[9, q] - (line[6, q] * nx + line[7, q] * ny + line[8, q] * nz)
        bent += bend * max(np.float32(1.0) - far * inverse, np.float32(0.0))
    return np.float32(0.0), bent


@njit
def _weightless(size, density, tension, pull):
    return 0.0


def _gathered(sums: Callable) -> Callable[[], AbstractContextManager]:
    return exchanged("whitewater.potentials", "_gather", with_names(potentials._gather, _sums=sums))


def _round(part: str) -> Callable[[], AbstractContextManager]:
    """Drops or bubbles are spheres whatever their size."""
    drag = with_names(getattr(laws, f"{part}_drag"), eotvos=_weightless)
    grip = with_names(getattr(laws, f"{part}_grip"), **{f"{part}_drag": drag})
    return exchanged("whitewater.laws", "terminal", with_names(laws.terminal, **{f"{part}_grip": grip}))


def _squared(made: Callable, identity: object, frame: int, count: int) -> np.ndarray:
    found = np.array(made(identity, frame, count))
    if count > 1:
        found[:, 0] **= 2
    return found


LANDS = life.CHANCES["lands"]


@njit
def _as_it_is(speed, falls, rate, dt):
    return speed


@njit
def _left(level, where, x, y, z):
    return x, y, z, np.float32(0.0)


def _lived(**names: object) -> Callable[[], AbstractContextManager]:
    """The kernel of lives with other names in it."""
    return exchanged("whitewater.life", "_live", with_names(life._live, **names))


def _alike(newborn: life.Whitewater) -> life.Whitewater:
    return replace(newborn, patience=np.ones(len(newborn), np.float32))


def _halved(made: Callable, of_bubble: bool, fluids: object, size: object, speed: object, *tables: np.ndarray) -> None:
    made(of_bubble, fluids, size, speed, *tables)
    if of_bubble:
        for table in tables:
            table *= 0.5


def _parting(made: Callable, *given: object) -> None:
    *most, out = given
    made(*most, out)
    out *= -1  # type: ignore[operator]


def _all(_made: Callable, kind: np.ndarray, *given: object) -> np.ndarray:
    return np.ones(len(kind), bool)


def _without_own(made: Callable, *given: object) -> tuple:
    row, place, normal, own = made(*given)
    return row, place, normal, np.zeros_like(own)


MUTANTS: dict[str, Callable[[], AbstractContextManager]] = {
    "a shorter reach": exchanged("whitewater.potentials", "REACH", 1.5),
    "what parts traps air": _gathered(_whichever_way),
    "hollows are crests": _gathered(_hollows_too),
    "crests that fall break": exchanged("whitewater.potentials", "OUTWARDS", -2.0),
    "half the vorticity": around(
        "whitewater.potentials", "_vorticity", lambda made, *a: made(*a[:-2], 2.0 * a[-2], a[-1])
    ),
    "air of the shot's own seconds": around(
        "stages.air_stage", "frame_potentials", lambda made, data, _: made(data, 1.0)
    ),
    "large drops are spheres": _round("drop"),
    "large bubbles are spheres": _round("bubble"),
    "large bubbles are as many": exchanged("whitewater.laws", "LARGE", 1.6),
    "births are rounded down": around(
        "whitewater.births", "uniform", lambda made, who, frame, count: made(who, frame, count) * (count > 1)
    ),
    "births gather on the axis": around("whitewater.births", "uniform", _squared),
    "what is asked for in all is taken for the fullest frame": around(
        "stages.whitewater_stage", "WhitewaterWalk._measured", lambda made, walk, rates, *rest: rates
    ),
    "births at the frame's begin": around(
        "whitewater.life", "_live", lambda made, *a: made(*a[:5], np.zeros_like(a[5]), *a[6:])
    ),
    "drag asked for as long steps overshoot": _lived(_towards=_as_it_is),
    "bubbles rise in falling water": _lived(HARDEST=0.0),
    "foam is left where the flow takes it": _lived(_onto=_left),
    "all foam lives as long": exchanged("whitewater.life", "Life._sound", staticmethod(_alike)),
    "all that lands is foam": around(
        "whitewater.life", "uniform", lambda made, who, column, count: made(who, column, count) * (column != LANDS)
    ),
    "bubbles rise by a rate of the frame": around(
        "whitewater.laws", "_fill_grips", lambda made, of_bubble, *rest: _halved(made, of_bubble, *rest)
    ),
    "foam parts where it is thin": around("whitewater.rafts", "_drift", _parting),
    "walls are passed": around(
        "stages.contact",
        "FrameContact._met",
        lambda made, self, met, before, after, *rest: made(self, met, after, after, *rest),
    ),
    "still walls": around("stages.contact", "FrameContact._met", _without_own),
    "wind without its zone": around(
        "liquid.forces", "_on_bodies", lambda made, points, *rest: made(np.zeros_like(points), *rest)
    ),
    "limits are left out": around("stages.birthplaces", "chosen", lambda made, value, *_: np.ones(len(value))),
    "a state without its rates": around(
        "stages.whitewater_stage", "WhitewaterWalk.state", lambda made, walk: {**made(walk), "rates": np.zeros(9)}
    ),
    "all that lands splashes": exchanged("whitewater.rain", "SPLASHES", 1.0),
    "rain falls through roofs": around(
        "stages.birthplaces", "OfRain._below", lambda made, *a: (made(*a)[0], np.ones(len(a[-1]), bool))
    ),
    "an image is left out": around(
        "stages.birthplaces", "OfElement._bright", lambda made, self, place, time: np.ones(len(place))
    ),
    "forces push all kinds": around("stages.contact", "named", _all),
    "all kinds leave": around("stages.pieces", "named", _all),
    "foam is filled as a volume": exchanged("whitewater.denser", "FOAM", 9),
    "drops taken over are meshed too": around(
        "stages.surface_stage", "SurfaceWorld._kept", lambda made, self, data: surface_stage.frame_points(data)
    ),
    "drops go over at once": exchanged("clumps", "SOFT", 1.001),
    "mist goes into solids": exchanged("whitewater.mist", "_on", with_names(mist._on, SOLID=9)),
    "air is left to gather": exchanged("whitewater.mist", "_apart", lambda air, voxel, closed: None),
    "mist does not sink": around("whitewater.mist", "terminal", lambda made, *given: 0.0),
}
AIMED: dict[str, tuple[str, ...]] = {
    "a shorter reach": ("Potentials",),
    "what parts traps air": ("Potentials",),
    "hollows are crests": ("Potentials",),
    "crests that fall break": ("Potentials",),
    "half the vorticity": ("Potentials",),
    "air of the shot's own seconds": ("Declared",),
    "large drops are spheres": ("Falling",),
    "large bubbles are spheres": ("Rising",),
    "large bubbles are as many": ("Rising",),
    "births are rounded down": ("Births",),
    "births gather on the axis": ("Births",),
    "what is asked for in all is taken for the fullest frame": ("Amounts",),
    "births at the frame's begin": ("test_whitewater_life.Spray",),
    "drag asked for as long steps overshoot": ("test_whitewater_life.Spray", "test_whitewater_life.Bubbles"),
    "bubbles rise in falling water": ("test_whitewater_life.Bubbles",),
    "foam is left where the flow takes it": ("test_whitewater_life.Foam", "Among"),
    "all foam lives as long": ("test_whitewater_life.Foam",),
    "all that lands is foam": ("test_whitewater_life.Spray",),
    "bubbles rise by a rate of the frame": ("test_whitewater_life.Bubbles",),
    "foam parts where it is thin": ("test_whitewater_life.Foam",),
    "walls are passed": ("Meeting",),
    "still walls": ("Meeting",),
    "wind without its zone": ("Meeting",),
    "limits are left out": ("Amounts",),
    "a state without its rates": ("Among",),
    "all that lands splashes": ("test_whitewater_life.Spray",),
    "rain falls through roofs": ("Rained",),
    "an image is left out": ("AtElements",),
    "forces push all kinds": ("Meeting",),
    "all kinds leave": ("Leaving",),
    "foam is filled as a volume": ("Denser",),
    "drops taken over are meshed too": ("TakenOver",),
    "drops go over at once": ("TakenOver",),
    "mist goes into solids": ("test_mist.Carried",),
    "air is left to gather": ("test_mist.Shedding", "test_mist.Parting"),
    "mist does not sink": ("test_mist.Carried",),
}
