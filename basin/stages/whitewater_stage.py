"""The whitewater stage: foam, spray and bubbles, born of the air that the liquid traps, from frame to frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from basin.attributes import Attribute, declare
from basin.cache import StageCache
from basin.readings import Reading
from basin.scene import Scene
from basin.settings import value_at
from basin.stages import samples
from basin.stages.air_stage import LIQUID
from basin.stages.birthplaces import AIR, Frames, births_of
from basin.stages.contact import air_of
from basin.stages.costs import whitewater_cost
from basin.stages.files import picture_of
from basin.stages.keys import digest, forces_on_whitewater
from basin.stages.stage import Cost, Job, Keys, Look, Made, Stage, Walk, register
from basin.stages.surface_stage import handed_of
from basin.stages.view import pack_points
from basin.whitewater.births import rate_for_all
from basin.whitewater.life import ALGORITHM, KINDS, OF_LIQUID, Around, Life, Whitewater

PILOT = 30_000  # births of a run ahead that tells what a rate leads to
LITRE = 1e-3
TAKEN = 1 << 61  # ids of drops of the liquid begin there
DRAWN = 0.35  # of the liquid's spacing: how large whitewater is drawn

declare(
    Attribute("radius", unit="m", shown="ramp"),
    Attribute("life", unit="s", shown="ramp", from_nothing=True),
    Attribute("kind", shown="names", names=KINDS),
    Attribute("layer", shown="ramp"),
)


class NoWhitewater(RuntimeError):
    """Whitewater cannot be made as it is asked for; the message says what to change."""


class WhitewaterWalk(Walk):
    """Whitewater on its way through a shot."""

    def __init__(self, job: Job, state: Mapping[str, np.ndarray] | None) -> None:
        self.job, self.scene = job, job.scene
        self.layers = job.scene.whitewater.layers
        self.frames = Frames(job)
        self.births = [births_of(self.frames, layer, n) for n, layer in enumerate(self.layers)]
        self.rates: np.ndarray | None = None
        self.life = self._life()
        if state is not None:
            self.rates = None if np.isnan(state["rates"]).any() else np.asarray(state["rates"])
            self.life = self._life(Whitewater.of(state), int(state["next_id"]))

    def _life(self, state: Whitewater | None = None, next_id: int = 0) -> Life:
        return Life(self.layers, self.frames.fluids, state, next_id)

    def _newborn(self, frame: int, rates: np.ndarray) -> Whitewater:
        """What is born in a frame, of all layers."""
        return Whitewater().joined(*(one.born(frame, rate) for one, rate in zip(self.births, rates, strict=True)))

    def live(self, frame: int, rates: np.ndarray, stop: Callable[[], bool] = lambda: False) -> dict[str, int] | None:
        """Live on to a frame in which some are born at rates; see `Life.frame`."""
        return self.life.frame(self._around(frame), self._newborn(frame, rates), stop)

    def _around(self, frame: int) -> Around:
        """What whitewater lives in on its way to a frame."""
        time, walls = self.scene.time, self.scene.domain.walls.pairs()
        before, after = self.frames.grid(frame - 1), self.frames.grid(frame)
        end = time.shot_time(frame)
        begin = end - 1.0 / time.fps
        gravity = value_at(self.scene.liquid.gravity, begin)
        low = np.array(self.scene.domain.low)
        closed = np.array([[wall == "closed" for wall in pair] for pair in walls])
        periodic = np.array([pair[0] == "periodic" for pair in walls])
        high = low + np.array(self.scene.domain.size)
        contact = self.frames.contact.over(begin, end)
        air = air_of(self.scene, begin, end)
        return Around(before, after, self.frames.seconds, gravity, low, high, closed, periodic, contact, air)

    def solved(self, stop: Callable[[], bool]) -> np.ndarray | None:
        """Births a second of the readiest particle for each layer, from what is asked for; None if stopped.

        Raises
        ------
        NoWhitewater
            If an amount cannot be reached, or frames that it is solved over are not there.
        """
        rates = np.array([layer.rate for layer in self.layers])
        asked = [n for n, layer in enumerate(self.layers) if layer.ask != "rate" and layer.born_of != "drops"]
        if not any(layer.of_the_shot() for layer in self.layers):
            return rates
        frames = self._shot()
        ready = np.zeros((len(self.layers), len(frames)))
        for m, frame in enumerate(frames):
            if stop():
                return None
            for n in asked:
                ready[n, m] = self.births[n].ready(frame)
        for n in asked:
            layer = self.layers[n]
            try:
                rates[n] = rate_for_all(ready[n], self.frames.seconds, layer.particles if layer.ask == "all" else PILOT)
            except ValueError as error:
                raise NoWhitewater(f"layer {layer.name!r}: {error}") from error
        ahead = [n for n in asked if self.layers[n].ask != "all"]
        return self._measured(rates, ahead, frames, stop) if ahead else rates

    def _shot(self) -> range:
        """All frames of the shot after the first."""
        time = self.scene.time
        frames = range(time.first + 1, time.last + 1)
        if not len(frames):
            raise NoWhitewater("the shot has one frame, in which nothing moves; give it more")
        for name, store in ((LIQUID, self.frames.liquid), (AIR, self.frames.air)):
            keys, records = self.job.keys[name], store.records()
            lacking = [f for f in range(time.first, time.last + 1) if f not in records or records[f].key != keys[f]]
            if lacking:
                raise NoWhitewater(
                    f"amounts and empty ranges go by the whole shot, and the {name} lacks {len(lacking)} frames, from "
                    f"{lacking[0]} on; run it to its end first, or ask for a rate in ranges of your own"
                )
        return frames

    def _measured(
        self, rates: np.ndarray, ahead: list[int], frames: range, stop: Callable[[], bool]
    ) -> np.ndarray | None:
        """Rates from a run ahead with few: all that is counted goes in proportion."""
        only = np.zeros(len(rates))
        only[ahead] = rates[ahead]
        pilot = self._life()
        fullest, air = np.zeros(len(rates)), np.zeros(len(rates))
        for frame in frames:
            newborn = self._newborn(frame, only)
            inside = newborn.kind != KINDS.index("spray")
            volume = 4.0 / 3.0 * np.pi * newborn.radius[inside].astype(float) ** 3
            air += np.bincount(newborn.layer[inside], volume, len(rates))
            if pilot.frame(self._around(frame), newborn, stop) is None:
                return None
            fullest = np.maximum(fullest, np.bincount(pilot.state.layer, minlength=len(rates)))
        found = np.array(rates)
        for n in ahead:
            layer = self.layers[n]
            counted, wanted = (air[n], layer.litres * LITRE) if layer.ask == "air" else (fullest[n], layer.particles)
            if counted <= 0:
                what = "air" if layer.ask == "air" else "whitewater"
                raise NoWhitewater(
                    f"layer {layer.name!r}: no {what} of it lives to the end of a frame; widen its ranges"
                )
            found[n] *= wanted / counted
        return found

    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Go on to a frame; None if asked to stop between substeps."""
        told = {"born": 0, "popped": 0, "landed": 0, "left": 0}
        if frame > self.scene.time.first and self.layers:
            if self.rates is None:
                self.rates = self.solved(stop)
            if self.rates is None:
                return None
            done = self.live(frame, self.rates, stop)
            if done is None:
                return None
            told = done
        arrays, litres = self._arrays(), 0.0
        taking = self.scene.whitewater.taking()
        if taking is not None:
            over = taken_over(self.frames.data(frame), *taking)
            litres = 1e3 * float((4.0 / 3.0 * np.pi * over["radius"].astype(float) ** 3).sum())
            arrays = {name: np.concatenate([value, over[name]]) for name, value in arrays.items()}
        counts = {**{name: float(count) for name, count in told.items()}, **self._counts(arrays)}
        return Made(arrays, {**counts, "taken_over": litres})

    def _arrays(self) -> dict[str, np.ndarray]:
        """A frame of what lives: places in metres, times in shot seconds."""
        state, slower = self.life.state, np.float32(self.frames.slower)
        return {
            "position": state.position,
            "velocity": state.velocity * slower,
            "id": state.id,
            "radius": state.radius,
            "age": state.age / slower,
            "life": self.life.whole_lives() / slower,
            "kind": state.kind,
            "source": state.source,
            "layer": state.layer,
        }

    def _counts(self, arrays: Mapping[str, np.ndarray]) -> dict[str, float]:
        kinds = np.bincount(arrays["kind"], minlength=len(KINDS))
        layers = np.bincount(arrays["layer"], minlength=len(self.layers))
        found = {"count": float(len(arrays["id"])), **dict(zip(KINDS, kinds.astype(float).tolist(), strict=True))}
        return found | {f"layer.{one.name}": float(layers[n]) for n, one in enumerate(self.layers)}

    def state(self) -> dict[str, np.ndarray]:
        """The restart state."""
        rates = np.full(len(self.layers), np.nan) if self.rates is None else self.rates
        return {**self.life.state.arrays(), "rates": rates, "next_id": np.array(self.life.next_id)}


def taken_over(data: Mapping[str, np.ndarray], layer: int, radius: float) -> dict[str, np.ndarray]:
    """Small drops of a liquid frame as spray of a layer, of their mass, place and speed; ids by that of one of their
    particles."""
    found = handed_of(data, radius)
    count = len(found.row)
    zero = np.zeros(count, np.float32)
    return {
        "position": found.position.astype(np.float32),
        "velocity": found.velocity.astype(np.float32),
        "id": data["id"][found.row].astype(np.int64) + TAKEN,
        "radius": np.cbrt(3.0 / (4.0 * np.pi) * found.volume).astype(np.float32),
        "age": zero,
        "life": zero.copy(),
        "kind": np.full(count, KINDS.index("spray"), np.uint8),
        "source": np.full(count, OF_LIQUID, np.uint8),
        "layer": np.full(count, layer, np.uint8),
    }


class WhitewaterStage(Stage):
    """Foam, spray and bubbles."""

    name = "whitewater"
    title = "Whitewater"
    verb = "Make foam"
    seen = "Whitewater"
    absent = "This frame has no whitewater yet."
    colouring = "kind"
    over = "surface"
    definition = "WhitewaterSettings"
    part = "whitewater"
    reads = (LIQUID, AIR)
    sequential = True
    readings = (
        Reading("count", "Particles"),
        Reading("spray", "Spray"),
        Reading("foam", "Foam"),
        Reading("bubbles", "Bubbles"),
        Reading("born", "Born"),
        Reading("popped", "Foam that popped"),
        Reading("landed", "Spray that fell back"),
        Reading("left", "Left the domain"),
        Reading("taken_over", "Drops taken over", "l"),
        Reading("layer.", "Layer {}"),
        Reading("seconds", "Seconds per frame", "s"),
    )
    failures = (NoWhitewater,)

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where a scene has layers of it."""
        return scene is None or not scene.whitewater.layers

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of the liquid's frames up to each, and of all of them where an amount is solved for over the shot."""
        own = job.scene.whitewater.model_dump(exclude_defaults=True)
        whole = any(layer.of_the_shot() for layer in job.scene.whitewater.layers)
        last = read[LIQUID][job.scene.time.last]
        named = {layer.element for layer in job.scene.whitewater.layers if layer.born_of == "element"}
        elements: list[object] = [e.model_dump(mode="json") for e in job.scene.elements if e.name in named]
        pictures = [layer for layer in job.scene.whitewater.layers if layer.picture and layer.born_of == "element"]
        elements += [job.files.pictures_digest(picture_of(layer)) for layer in pictures]
        before = digest([ALGORITHM, own, last if whole else "", *elements])
        keys, time, pushed = {}, job.scene.time, forces_on_whitewater(job.scene)
        for frame, key in read[LIQUID].items():
            end = time.shot_time(frame)
            before = digest([before, key, read[AIR][frame], pushed(frame, end - 1.0 / time.fps, end)])
            keys[frame] = before
        return keys

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> WhitewaterWalk:
        """From a restart state, or from nothing."""
        return WhitewaterWalk(job, state)

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """Points."""
        data = store.frame(frame)
        spacing = float(store.beside(LIQUID).frame(frame)["particle_spacing"])
        shown = {**{name: data[name] for name in data}, "particle_spacing": np.array(spacing * DRAWN)}
        return pack_points(shown, look.budget, look.by, look.time)

    def cost(self, job: Job) -> Cost:
        """By what is asked for."""
        return whitewater_cost(job.scene, job.files, job.quality)

    def warm_up(self) -> list[dict[str, Any]]:
        """Water with a layer is enough."""
        return samples.whitewaters()


register(WhitewaterStage())
