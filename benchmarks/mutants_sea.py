"""What is spoilt of the sea for `benchmarks.mutants`, and which tests should notice."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import replace

import numpy as np

from basin.sea import horizon
from basin.sea.field import Blow
from basin.stages.sea_stage import SeaFoamWalk
from benchmarks.mutants_surface import around, exchanged, with_names

MODULES = ("tests.basin.test_sea", "tests.basin.test_sea_stage")


def _forward(made: Callable, *given: np.ndarray) -> None:
    *most, out = given
    made(*most, out)
    np.negative(out[1:3], out=out[1:3])


def _slow(made: Callable, self: object, k: np.ndarray) -> np.ndarray:
    return np.asarray(0.9 * made(self, k))


def _aside(made: Callable, *given: object) -> object:
    return replace(made(*given), drift=np.zeros(2))


MUTANTS: dict[str, Callable[[], AbstractContextManager]] = {
    "waves a tenth too slow": around("sea.dispersion", "Water.omega", _slow),
    "depth slows nothing": around("sea.dispersion", "Water.shallow", lambda made, self, k: np.ones_like(k)),
    "wind taken at 19.5 m": exchanged("sea.spectra", "PM_HEIGHT", 1.0),
    "peak as wide on both sides": exchanged("sea.spectra", "RIGHT", 0.07),
    "fetch grows by its root": around("sea.spectra", "jonswap_growth", lambda made, wind, x, g: made(wind, x**1.1, g)),
    "spreading by half the angle's half": around("sea.spectra", "cos2s", lambda made, a, s: made(0.5 * a, s)),
    "waves go both ways": around(
        "sea.field", "Spectrum.over_plane", lambda made, self, x, z: 0.5 * (made(self, x, z) + made(self, -x, -z))
    ),
    "half the energy": around("sea.field", "Spectrum.over_plane", lambda made, self, x, z: 0.5 * made(self, x, z)),
    "chance goes by the grid": around(
        "sea.field", "Patch._normal", lambda made, self, m, n: made(self, m + self.count, n)
    ),
    "both patches hold all": around(
        "sea.field", "holds", lambda made, sets: [replace(one, low=0.0) for one in made(sets)]
    ),
    "points move away from crests": around("sea.field", "_of_moment", _forward),
    "motion does not fade with depth": around(
        "sea.field", "Patch.sunk", lambda made, self, depth: np.ones(self._k.shape)
    ),
    "a hero that may slope": around(
        "sea.field",
        "raised",
        lambda made, p, w, h, place, t, height: made(p, w, h, (place[0] + 2, 0, place[2]), t, height),
    ),
    "frequencies are not bent": exchanged("sea.field", "looped", lambda omega, seconds: omega),
    "it folds a fifth later": around("sea.folding", "least_stretch", lambda made, given: made(given) / 1.2),
    "drift of half the steepness": around("sea.foam", "stokes_drift", lambda made, *a: 0.5 * made(*a)),
    "foam fades twice as fast": around(
        "sea.foam",
        "Foam.step",
        lambda made, self, squeeze, threshold, law, s: made(
            self, squeeze, threshold, replace(law, fresh=law.fresh / 2), s
        ),
    ),
    "births by the frame": around(
        "sea.foam",
        "_aged",
        lambda made, *a: made(*a[:7], np.float32(0.3), *a[8:]),
    ),
    "foam does not drift": around(
        "sea.foam",
        "Foam.step",
        lambda made, self, squeeze, threshold, law, s: made(self, squeeze, threshold, _aside(lambda x: x, law), s),
    ),
    "foam where it is stretched": around(
        "sea.foam", "_aged", lambda made, f, g, squeeze, *a: made(f, g, np.float32(2.0) - squeeze, *a)
    ),
    "triangles as large as patches": exchanged("sea.horizon", "_over", with_names(horizon._over, ACROSS=2.0)),
    "weights that sum to one": exchanged(
        "sea.horizon", "Laid.over", lambda self, point, patches, even=False: _evenly(self, point, patches)
    ),
    "no run-up": around(
        "stages.sea_stage", "SeaFoamWalk.advance", lambda made, self, frame, stop: made(_hurried(self), frame, stop)
    ),
    "keys without the wind": exchanged("stages.sea_stage", "blow_at", lambda settings, time: Blow(8.0, 0.0)),
}


def _evenly(self: horizon.Laid, point: np.ndarray, patches: list[tuple[float, np.ndarray]]) -> np.ndarray:
    out = np.zeros((len(point), len(patches[0][1])))
    for nth, (size, fields) in enumerate(patches):
        key = self.key(nth)
        horizon._over(np.ascontiguousarray(point, np.float64), fields, size, key, self.middle, self.from_, True, out)
    return out


def _hurried(walk: SeaFoamWalk) -> SeaFoamWalk:
    scene = walk.scene
    walk.scene = scene.model_copy(update={"sea_foam": scene.sea_foam.model_copy(update={"run_up": 0})})
    return walk


AIMED: dict[str, tuple[str, ...]] = {
    "waves a tenth too slow": ("Dispersion",),
    "depth slows nothing": ("Dispersion",),
    "wind taken at 19.5 m": ("Spectra",),
    "peak as wide on both sides": ("Spectra",),
    "fetch grows by its root": ("Spectra",),
    "spreading by half the angle's half": ("Spectra",),
    "waves go both ways": ("test_sea.Field",),
    "half the energy": ("test_sea.Field",),
    "chance goes by the grid": ("test_sea.Field",),
    "both patches hold all": ("test_sea.Field",),
    "points move away from crests": ("Folding", "test_sea.Field"),
    "motion does not fade with depth": ("test_sea.Field",),
    "a hero that may slope": ("test_sea.Field",),
    "frequencies are not bent": ("test_sea.Field",),
    "it folds a fifth later": ("Folding",),
    "drift of half the steepness": ("Drift",),
    "foam fades twice as fast": ("Foams",),
    "births by the frame": ("Foams",),
    "foam does not drift": ("Foams",),
    "foam where it is stretched": ("Foams",),
    "triangles as large as patches": ("Horizon",),
    "weights that sum to one": ("Horizon",),
    "no run-up": ("Running",),
    "keys without the wind": ("Running",),
}
