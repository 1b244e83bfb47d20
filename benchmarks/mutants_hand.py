"""What is spoilt of what gestures are told for `benchmarks.mutants`, and which tests should notice."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import replace
from unittest import mock

import numpy as np

from basin.scene import rescale
from basin.stages.gestures import room
from benchmarks.mutants_surface import around

MODULES = tuple(f"tests.basin.test_{name}" for name in ("setting_up", "gestures", "rehearsal", "pace", "advice"))


def _powers() -> AbstractContextManager:
    made = rescale.powers
    return mock.patch.object(rescale, "powers", lambda *given: {**made(*given), "m/s": 1.0})


def _leaky() -> AbstractContextManager:
    return mock.patch.object(room, "PASSES", -0.5)


def _no_time_of_flight(made: Callable, *given: object) -> object:
    found = made(*given)
    return found and (replace(found[0], time=found[0].time - found[0].times[-1]), found[1])


MUTANTS: dict[str, Callable[[], AbstractContextManager]] = {
    "streams fall with 10 % more": around(
        "stages.gestures.flight", "value_at", lambda made, *a: 1.1 * np.asarray(made(*a))
    ),
    "streams keep their width": around("stages.gestures.flight", "_opening", lambda made, *a: 1.1 * made(*a)),
    "colliders are met half a second late": around(
        "stages.gestures.flight",
        "_distances",
        lambda made, element, scene, files, path, moments, dx: made(element, scene, files, path, moments - 0.5, dx),
    ),
    "openings face inwards": around(
        "stages.gestures.openings",
        "_round",
        lambda made, *a: (found := made(*a)) and replace(found, normal=[-x for x in found.normal]),
    ),
    "rooms without the cells at walls": around(
        "stages.gestures.room", "_beside", lambda made, grid, held: np.zeros_like(held)
    ),
    "rooms leak through thin walls": _leaky,
    "what is there already is forgotten": around("stages.gestures.room", "_already", lambda made, *a: 0.0),
    "full without the time of flight": around("stages.gestures.filling", "_met", _no_time_of_flight),
    "flow by keys at its last value": around(
        "stages.gestures.filling", "value_at", lambda made, curve, time: made(curve, 1e9)
    ),
    "forces turned round": around("liquid.forces", "felt", lambda made, *a: -made(*a)),
    "the domain forgets flights": around("stages.gestures.fit", "flight", lambda made, *a, **k: None),
    "the domain forgets what it rests on": around("stages.gestures.fit", "_kept", lambda made, *a: []),
    "speeds go with lengths": _powers,
    "meshes stay as large": around("scene.rescale", "_grown", lambda made, *a: 1.0),
    "a rehearsal takes any frame": around(
        "stages.gestures.rehearse", "all_keys", lambda made, job: {"liquid": _Anything(job)}
    ),
    "a rehearsal loses a tenth": around(
        "stages.gestures.rehearse",
        "coarser",
        lambda made, arrays, world: made({**arrays, "volume": 0.9 * np.asarray(arrays["volume"])}, world),
    ),
}


class _Anything(dict):  # type: ignore[type-arg]
    """Keys that are those of whatever is on disk."""

    def __init__(self, job: object) -> None:
        super().__init__({n: r.key for n, r in job.cache.stage("liquid").records().items()})  # type: ignore[attr-defined]


AIMED: dict[str, tuple[str, ...]] = {
    "streams fall with 10 % more": ("Flights",),
    "streams keep their width": ("Flights", "WhenFull"),
    "colliders are met half a second late": ("Flights",),
    "openings face inwards": ("Openings",),
    "rooms without the cells at walls": ("Rooms", "WhenFull"),
    "rooms leak through thin walls": ("Vessels", "WhenFull"),
    "what is there already is forgotten": ("WhenFull",),
    "full without the time of flight": ("WhenFull",),
    "flow by keys at its last value": ("WhenFull",),
    "forces turned round": ("Pushes",),
    "the domain forgets flights": ("Fits",),
    "the domain forgets what it rests on": ("Fits",),
    "speeds go with lengths": ("Lasting",),
    "meshes stay as large": ("Lasting",),
    "a rehearsal takes any frame": ("FromACachedFrame",),
    "a rehearsal loses a tenth": ("FromACachedFrame",),
}
