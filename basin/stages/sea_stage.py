"""The sea's stages: its patches at each frame, which stand alone, and the foam on them, from frame to frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from basin.cache import StageCache
from basin.readings import Reading
from basin.scene import Scene
from basin.sea.field import SHIFTS, SLOPES, STRETCHES, VELOCITIES, Blow, Sea, blow_at
from basin.sea.foam import COVERED, Foam, Law, stokes_drift, threshold_for, usual_share
from basin.sea.folding import jacobian, least_stretch
from basin.sea.numbers import combined
from basin.settings import Curve, value_at
from basin.stages import samples
from basin.stages.costs import sea_cost, sea_foam_cost, sea_points
from basin.stages.keys import digest
from basin.stages.stage import Cost, Dial, Job, Keys, Look, Made, Stage, Walk, register
from basin.stages.view import pack_sea

ALGORITHM, FOAM_ALGORITHM = "sea-1", "sea-foam-1"
SEA, WAKE = "sea", "wake"
STANDARD = 9.80665  # m/s2, CGPM 1901
WITHOUT = {
    "wind",
    "towards",
    "unlike",
    "level",
}  # of what a frame's waves depend on: told apart, or only how they are laid
FEWEST = 24  # frames over which a share of foam is looked for
SEARCHED = 256  # points along a patch on which it is


def pull_of(scene: Scene) -> float:
    """Gravity that a scene's sea has, m/s2; the earth's where there is none."""
    return float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0))) or STANDARD


def sea_of(scene: Scene, quality: str, most: int | None = None) -> Sea:
    """A scene's sea at a quality; its patches have at most so many points a side."""
    time, pull = scene.time, pull_of(scene)
    coarser = scene.quality.factor(quality)
    if most is not None:
        coarser = max(coarser, max(one.resolution for one in scene.sea.sets) / most)
    return Sea(scene.sea, pull, fps=time.fps, time_scale=time.time_scale, first=time.first, coarser=coarser)


def sea_dial(job: Job) -> Dial:
    """What a sea's size follows from."""
    count = " and ".join(f"{round(n**0.5)} by {round(n**0.5)}" for n in sea_points(job.scene, job.quality))
    return Dial(f"patches of {count} points", "Use fewer points", "sea.sets[0].resolution")


def sea_readings(sea: Sea, fields: list[np.ndarray]) -> dict[str, float]:
    """What is measured on a frame's fields."""
    together = combined(sea, fields)
    slopes = sum(float((one[SLOPES].astype(np.float64) ** 2).sum(axis=0).mean()) for one in fields)
    return {
        "height": 4.0 * float(sum(one[0].astype(np.float64).var() for one in fields)) ** 0.5,
        "crest": float(fields[0][0].max()),
        "trough": float(fields[0][0].min()),
        "squeezed": float(jacobian(together, 1.0).min()),
        "folded": 100.0 * float((least_stretch(together) < -1.0).mean()),
        "slope": slopes,
    }


class SeaStage(Stage):
    """Patches of the sea."""

    name = SEA
    title = "Sea"
    verb = "Make the sea"
    seen = "Sea"
    absent = "This frame has no sea yet."
    kind = "sea"
    definition = "SeaSettings"
    part = "sea"
    asked_by = "made"
    readings = (
        Reading("height", "Significant height", "m"),
        Reading("crest", "Highest crest", "m"),
        Reading("trough", "Deepest trough", "m"),
        Reading("squeezed", "Least Jacobian"),
        Reading("folded", "Folded", "%"),
        Reading("slope", "Mean square slope"),
        Reading("seconds", "Seconds per frame", "s"),
    )

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where a scene has one."""
        return scene is None or not scene.sea.made

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of the settings, and of the moment."""
        scene, time = job.scene, job.scene.time
        still = scene.sea.model_dump(exclude_defaults=True, exclude=WITHOUT)
        pull = np.asarray(value_at(scene.liquid.gravity, 0.0)).tolist()
        begin = digest([ALGORITHM, still, pull, scene.quality.factor(job.quality), time.time_scale, time.fps])
        if scene.sea.hero is not None:  # whose crest is raised in the waves of its own moment's wind
            own = blow_at(scene.sea, time.shot_time(scene.sea.hero.frame))
            begin = digest([begin, own.speed, own.towards])
        keys = {}
        for frame in range(time.first, time.last + 1):
            at = time.shot_time(frame)
            blow = blow_at(scene.sea, at)
            keys[frame] = digest([begin, round(at, 9), blow.speed, blow.towards])
        return keys

    def world(self, job: Job) -> Sea:
        """The waves."""
        return sea_of(job.scene, job.quality)

    def make(self, job: Job, world: Sea, frame: int) -> Made:
        """A frame: what points are moved by (m), their velocities (m per shot second), slopes and stretches."""
        fields = world.fields(frame)
        arrays: dict[str, np.ndarray] = {"size": np.array([patch.size for patch in world.patches])}
        for nth, (patch, own) in enumerate(zip(world.patches, fields, strict=True)):
            chop = np.float32(patch.set.choppiness)
            sideways = np.array([1.0, chop, chop], np.float32)[:, None, None]
            arrays[f"shift_{nth}"] = own[SHIFTS] * sideways
            slower = np.float32(world.time_scale)
            motion = own[VELOCITIES] * np.array([chop, 1.0, chop], np.float32)[:, None, None] * slower
            arrays[f"velocity_{nth}"] = motion.astype(np.float16)
            arrays[f"slope_{nth}"] = own[SLOPES].astype(np.float16)
            arrays[f"stretch_{nth}"] = (own[STRETCHES] * chop).astype(np.float16)
        return Made(arrays, sea_readings(world, fields))

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """Patches, as they are laid on the graphics card."""
        return pack_sea(store.frame(frame), by=look.by)

    def cost(self, job: Job) -> Cost:
        """By the points of its patches."""
        return sea_cost(job.scene, job.quality)

    def concerns(self, scene: Scene) -> bool:
        """Where there is a sea."""
        return scene.sea.made

    def dial(self, job: Job) -> Dial:
        """The points of its patches."""
        return sea_dial(job)

    def warm_up(self) -> list[dict[str, Any]]:
        """A small one."""
        return samples.seas()


def law_of(scene: Scene, sea: Sea, frame: int) -> Law:
    """How foam lives under the wind of a frame."""
    foam, patch, spectrum = scene.sea_foam, sea.patches[0], sea.spectrum(frame)
    there, back = patch.spread(spectrum)
    back[:, 0] = 0.0  # the first column holds k and -k both
    kx, kz = np.broadcast_arrays(patch.kx[:, None], patch.kz[None, :])
    drift = stokes_drift(kx, kz, 0.5 * there, patch.omega, sea.water)
    drift = drift - stokes_drift(kx, kz, 0.5 * back, patch.omega, sea.water)
    blow = spectrum.blow
    drift = drift + foam.wind * blow.speed * np.array([np.cos(blow.towards), np.sin(blow.towards)])
    return Law(foam.fresh, foam.lace, foam.leaves, foam.spreads, drift)


def searched(scene: Scene) -> range:
    """Frames over which a share of foam is looked for: half of them before the first."""
    first, reach = scene.time.first, max(scene.sea_foam.run_up, FEWEST)
    return range(first - reach, first + reach)


class SeaFoamWalk(Walk):
    """Foam on its way through a shot, from some frames before its first."""

    def __init__(self, job: Job, state: Mapping[str, np.ndarray] | None) -> None:
        self.job, self.scene = job, job.scene
        self.sea = sea_of(job.scene, job.quality)
        self.patch = self.sea.patches[0]
        self.seconds = self.scene.time.time_scale / self.scene.time.fps
        self._kept: tuple[Blow, Law] | None = None
        if state is None:
            self.foam = Foam(self.patch.size, self.patch.count)
            self.threshold = self._threshold()
        else:
            self.foam = Foam(self.patch.size, self.patch.count, np.array(state["fresh"]), np.array(state["lace"]))
            self.foam.drifted = np.array(state["drifted"])
            self.threshold = float(state["threshold"])

    def _law(self, frame: int) -> Law:
        """How foam lives at a frame; the same as before while the wind is."""
        blow = self.sea.spectrum(frame).blow
        if self._kept is None or self._kept[0] != blow:
            self._kept = blow, law_of(self.scene, self.sea, frame)
        return self._kept[1]

    def _squeezed(self, frame: int) -> np.ndarray:
        moving = self.sea.moving(frame)[0]
        seconds = self.sea.shot_time(frame) * self.sea.time_scale
        return jacobian(moving.fields(seconds, some=STRETCHES), self.patch.set.choppiness)

    def _threshold(self) -> float:
        """From which squeeze on foam is born, so that as much of the sea is covered as is asked."""
        foam, time = self.scene.sea_foam, self.scene.time
        if foam.by == "threshold":
            return foam.threshold
        frames = list(searched(self.scene))
        wind = float(np.mean([self.sea.spectrum(f).blow.speed for f in frames[len(frames) // 2 :]]))
        share = foam.share if foam.by == "share" else usual_share(wind)
        # points are dropped, none smoothed: the Jacobian's values are spread the same
        step = max(self.patch.count // SEARCHED, 1)
        squeezes = [np.ascontiguousarray(self._squeezed(frame)[::step, ::step]) for frame in frames]
        law = self._law(time.first)
        return threshold_for(squeezes, self.patch.size, law, self.seconds, share)

    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Go on to a frame; None if asked to stop before it."""
        time = self.scene.time
        if frame == time.first:
            for before in range(time.first - self.scene.sea_foam.run_up, time.first):
                if stop():
                    return None
                self._step(before)
        if stop():
            return None
        self._step(frame)
        fresh = self.foam.fresh
        readings = {
            "covered": 100.0 * self.foam.covered(),
            "fresh": 100.0 * float((fresh > COVERED).mean()),
            "threshold": self.threshold,
            "drift": float(np.linalg.norm(self._law(frame).drift)),
        }
        return Made({"foam": self.foam.on_patch().astype(np.float16), "size": np.array([self.patch.size])}, readings)

    def _step(self, frame: int) -> None:
        self.foam.step(self._squeezed(frame), self.threshold, self._law(frame), self.seconds)

    def state(self) -> dict[str, np.ndarray]:
        """The restart state."""
        own = {"fresh": self.foam.fresh, "lace": self.foam.lace, "drifted": self.foam.drifted}
        return {**own, "threshold": np.array(self.threshold)}


class SeaFoamStage(Stage):
    """Foam of the sea."""

    name = "sea_foam"
    title = "Sea foam"
    verb = "Make its foam"
    seen = "Sea with foam"
    absent = "This frame has no foam of the sea yet."
    kind = "sea"
    definition = "SeaFoam"
    part = "sea_foam"
    reads = (SEA,)
    sequential = True
    readings = (
        Reading("covered", "Covered", "%"),
        Reading("fresh", "Covered by fresh foam", "%"),
        Reading("threshold", "Born below a Jacobian of"),
        Reading("drift", "Drift", "m/s"),
        Reading("seconds", "Seconds per frame", "s"),
    )

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where a scene makes it."""
        return scene is None or not (scene.sea.made and scene.sea_foam.made)

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of the sea's frames up to each."""
        before = digest([FOAM_ALGORITHM, job.scene.sea_foam.model_dump(exclude_defaults=True, exclude={"pattern"})])
        sea, time = job.scene.sea, job.scene.time
        if isinstance(sea.wind, Curve) or isinstance(sea.towards, Curve):  # by which its threshold is found
            blows = [blow_at(sea, time.shot_time(frame)) for frame in searched(job.scene)]
            before = digest([before, [[blow.speed, blow.towards] for blow in blows]])
        keys = {}
        for frame, key in read[SEA].items():
            before = digest([before, key])
            keys[frame] = before
        return keys

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> SeaFoamWalk:
        """From a restart state, or from the run-up's beginning."""
        return SeaFoamWalk(job, state)

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """The sea with its foam, and its wakes where they are there."""
        wakes = store.beside(WAKE)
        there = WAKE in look.made and wakes.path(frame).is_file()
        wake = wakes.frame(frame) if there else None
        return pack_sea(store.beside(SEA).frame(frame), store.frame(frame)["foam"], look.by, wake)

    def cost(self, job: Job) -> Cost:
        """By the points of the largest patch."""
        return sea_foam_cost(job.scene, job.quality)

    def concerns(self, scene: Scene) -> bool:
        """Where there is a sea."""
        return scene.sea.made

    def dial(self, job: Job) -> Dial:
        """The points of its patches."""
        return sea_dial(job)

    def warm_up(self) -> list[dict[str, Any]]:
        """The same."""
        return samples.seas()


register(SeaStage())
register(SeaFoamStage())
