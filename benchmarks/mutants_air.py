"""What is spoilt of trapped air and of what is born of it for `benchmarks.mutants`, and which tests should notice."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager

import numpy as np
from numba import njit

from basin.whitewater import laws, potentials
from benchmarks.mutants_surface import around, exchanged, with_names

MODULES = ("tests.basin.test_whitewater", "tests.basin.test_stages")


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
    "lives twice as long": around(
        "whitewater.births", "rate_for_fullest", lambda made, ready, s, life, n: made(ready, s, 2 * life, n)
    ),
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
    "lives twice as long": ("Births",),
}
