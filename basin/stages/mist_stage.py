"""The mist stage: fine droplets that whitewater leaves in the air, as a density on a grid, from frame to frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from basin.attributes import Attribute, declare
from basin.cache import StageCache
from basin.randomness import uniform
from basin.readings import Reading
from basin.scene import Scene
from basin.settings import value_at
from basin.stages import samples
from basin.stages.air_stage import LIQUID, grid_of
from basin.stages.contact import ColliderContact, air_of, fluids_of
from basin.stages.costs import mist_cost
from basin.stages.keys import digest, forces_on_whitewater
from basin.stages.stage import Cost, Job, Keys, Look, Made, Stage, Walk, register
from basin.stages.view import pack_points
from basin.whitewater.laws import terminal
from basin.whitewater.life import Whitewater, depth_at, flow_of, named
from basin.whitewater.mist import ALGORITHM, FREE, MOST_VOXELS, SOLID, WET, Box, Mist, Shed, Surroundings

WHITEWATER = "whitewater"
TILE = 8
SEEN = 1e-5  # kg/m3: thinner is not kept in frames; it takes half a thousandth of the light a metre
POINTS, LEAST = 60_000, 0.03  # at most that stand for it where it is looked at; of light that each takes, at least
SOFT = 1.4  # voxels: how large each is drawn; a bell, whose volume is a third of its square's times pi

declare(Attribute("density", unit="g/m3", shown="ramp", from_nothing=True, least_span=1e-3))


class NoMist(RuntimeError):
    """Mist cannot be made as it is asked for; the message says what to change."""


def mist_box(scene: Scene, quality: str) -> Box:
    """Voxels of a scene's mist."""
    voxel = scene.mist.voxel or 2.0 * scene.voxel_size(quality)
    size = np.array(scene.domain.size)
    count = np.maximum(np.ceil(size / voxel - 1e-9).astype(int), 4)
    closed = np.array([[wall == "closed" for wall in pair] for pair in scene.domain.walls.pairs()])
    return Box(np.array(scene.domain.low), voxel, (int(count[0]), int(count[1]), int(count[2])), closed)


class MistWalk(Walk):
    """Mist on its way through a shot."""

    def __init__(self, job: Job, state: Mapping[str, np.ndarray] | None) -> None:
        self.job, self.scene = job, job.scene
        box = mist_box(job.scene, job.quality)
        if float(np.prod([float(n) for n in box.count])) > MOST_VOXELS:
            count = " by ".join(map(str, box.count))
            raise NoMist(
                f"the mist has {count} voxels; at most {MOST_VOXELS // 1_000_000} million, so give it a coarser voxel "
                "of its own"
            )
        given = {} if state is None else {"mass": np.array(state["mass"]), "air": np.array(state["air"])}
        self.mist = Mist(job.scene.mist, box, fluids_of(job.scene), **given)
        self.contact = ColliderContact(job.scene, job.files, job.quality)
        self.middles = box.middles().reshape(-1, 3)

    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Go on to a frame; None if asked to stop between substeps."""
        scene, time = self.scene, self.scene.time
        told = {"given": 0.0, "wet": 0.0, "left": 0.0, "faded": 0.0}
        if frame > time.first:
            end = time.shot_time(frame)
            begin = end - 1.0 / time.fps
            gravity = np.asarray(value_at(scene.liquid.gravity, begin))
            seconds = time.time_scale / time.fps
            done = self.mist.frame(self._shed(frame), self._around(frame, begin, end), gravity, seconds, stop)
            if done is None:
                return None
            told = done
        grams = {name: 1000.0 * value for name, value in told.items()}
        own = {"mist": 1000.0 * float(self.mist.mass.sum()), "thickest": 1000.0 * self._densest()}
        return Made(self._arrays(), {**own, **grams, "air_speed": float(np.abs(self.mist.air).max(initial=0.0))})

    def _densest(self) -> float:
        return float(self.mist.mass.max(initial=0.0)) / self.mist.box.voxel**3

    def _shed(self, frame: int) -> Shed:
        data, settings = self.job.store(WHITEWATER).frame(frame), self.scene.mist
        names = [layer.name for layer in self.scene.whitewater.layers]
        # what is in the liquid or on it gives nothing to the air
        some = named(data["kind"], data["layer"], names, "spray", settings.layer, settings.but_layer)
        slower = np.float32(self.scene.time.time_scale)
        return Shed(data["position"][some], data["velocity"][some] / slower, data["radius"][some])

    def _around(self, frame: int, begin: float, end: float) -> Surroundings:
        grid = grid_of(self.job.store(LIQUID).frame(frame), self.scene.time.time_scale)
        count, places = self.mist.box.count, self.middles
        state = np.full(len(places), FREE, np.uint8)
        low, high = grid.low, grid.low + grid.voxel * np.array(grid.where.shape) * TILE
        near = np.flatnonzero(((places > low) & (places < high)).all(axis=1))
        flow = np.zeros((len(places), 3))
        wet = near[depth_at(grid, places[near]) > 0]
        flow[wet] = flow_of(grid, places[wet])
        state[wet] = WET
        if self.contact.acting(end, end):
            solid = self.contact.distance(places, end) < 0
            state[solid] = SOLID
            flow[solid] = 0.0
        felt = air_of(self.scene, begin, end)
        wind = None if felt is None else self._blown(felt, end - begin).reshape(*count, 3)
        return Surroundings(state.reshape(count), flow.reshape(*count, 3), wind)

    def _blown(self, felt: Any, seconds: float) -> np.ndarray:
        """What winds and other forces make droplets go, m/s, at the middles of voxels."""
        places = self.middles.astype(np.float32)
        n = len(places)
        empty = Whitewater.still(places, np.full(n, 1e-6 * self.scene.mist.radius, np.float32))
        wind, push = felt(empty, 0.5, seconds * self.scene.time.time_scale)
        fluids = self.mist.fluids
        falls = terminal(False, 2e-6 * self.scene.mist.radius, fluids.row())
        return np.asarray(wind + push * (falls / max(fluids.pull, 1e-9)))

    def _arrays(self) -> dict[str, np.ndarray]:
        """A frame: tiles of 8^3 voxels with any mist, kg/m3, and the air's velocity there, m per shot second."""
        box = self.mist.box
        padded = [-(-n // TILE) * TILE for n in box.count]
        wide = [(0, p - n) for p, n in zip(padded, box.count, strict=True)]
        density = np.pad((self.mist.mass / box.voxel**3).astype(np.float32), wide)
        air = np.pad((self.mist.air * self.scene.time.time_scale).astype(np.float32), [*wide, (0, 0)])
        shape = [n for p in padded for n in (p // TILE, TILE)]
        tiles = density.reshape(shape).transpose(0, 2, 4, 1, 3, 5)
        tile = np.argwhere(tiles.max(axis=(3, 4, 5)) > SEEN).astype(np.int32)
        at = tuple(tile.T)
        flow = air.reshape(*shape, 3).transpose(0, 2, 4, 1, 3, 5, 6)[at]
        return {
            "tile": tile,
            "tile_density": np.where(tiles[at] > SEEN, tiles[at], 0.0).astype(np.float32),
            "tile_air": flow.astype(np.float16),
            "grid_low": box.low,
            "grid_voxel": np.array(box.voxel),
            "per_mass": np.array(1.5 / (1e-6 * self.scene.mist.radius * self.mist.fluids.density)),
        }

    def state(self) -> dict[str, np.ndarray]:
        """The restart state."""
        return {"mass": self.mist.mass, "air": self.mist.air}


class MistStage(Stage):
    """Mist."""

    name = "mist"
    title = "Mist"
    verb = "Make mist"
    seen = "Mist"
    absent = "This frame has no mist yet."
    colouring = "density"
    over = "surface"
    definition = "MistSettings"
    part = "mist"
    asked_by = "made"
    reads = (LIQUID, WHITEWATER)
    gives = ("mist",)
    sequential = True
    readings = (
        Reading("mist", "Mist in the air", "g"),
        Reading("thickest", "Where it is thickest", "g/m3"),
        Reading("given", "Came off", "g"),
        Reading("wet", "Fell into the liquid", "g"),
        Reading("faded", "Faded", "g"),
        Reading("left", "Left the domain", "g"),
        Reading("air_speed", "Fastest air", "m/s"),
        Reading("seconds", "Seconds per frame", "s"),
    )
    failures = (NoMist,)

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where a scene makes it."""
        return scene is None or not (scene.mist.made and scene.whitewater.layers)

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of whitewater's frames up to each; of the liquid they are already."""
        box = mist_box(job.scene, job.quality)
        before = digest([ALGORITHM, job.scene.mist.model_dump(exclude_defaults=True), box.voxel])
        keys, time, pushed = {}, job.scene.time, forces_on_whitewater(job.scene)
        for frame, key in read[WHITEWATER].items():
            end = time.shot_time(frame)
            before = digest([before, key, pushed(frame, end - 1.0 / time.fps, end)])
            keys[frame] = before
        return keys

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> MistWalk:
        """From a restart state, or from nothing."""
        return MistWalk(job, state)

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """Points, the more the thicker it is, drawn soft."""
        data = store.frame(frame)
        voxel = float(data["grid_voxel"])
        # as light sees it: droplets take twice their cross-section of it (van de Hulst 1957), 3 / (2 r rho) per mass
        taken = float(data["tile_density"].sum(dtype=np.float64)) * voxel**3 * float(data["per_mass"])
        one = np.pi / 3.0 * (SOFT * voxel) ** 2
        count = int(min(look.budget, POINTS, max(taken / (LEAST * one), 1.0)))
        soft = round(min(taken / (count * one), 1.0), 4)
        return pack_points(points_of(data, count), look.budget, look.by, look.time, soft=soft)

    def cost(self, job: Job) -> Cost:
        """By its voxels."""
        return mist_cost(job.scene, mist_box(job.scene, job.quality).count)

    def warm_up(self) -> list[dict[str, Any]]:
        """Whitewater with mist is enough."""
        return samples.mists()


def points_of(data: Mapping[str, np.ndarray], count: int) -> dict[str, np.ndarray]:
    """About so many points that stand for a frame of mist, as many in each voxel as there is of it."""
    density, voxel = data["tile_density"], float(data["grid_voxel"])
    flat = density.ravel().astype(float)
    total = flat.sum()
    number = np.arange(TILE**3).reshape(1, TILE, TILE, TILE) + np.arange(len(density))[:, None, None, None] * TILE**3
    identity = number.ravel().astype(np.uint64)
    chance = uniform(identity, 0, 1)[:, 0]
    many = np.floor(flat / total * count + chance).astype(np.int64) if total > 0 else np.zeros(len(flat), np.int64)
    row = np.repeat(np.arange(len(flat)), many)
    t, within = row // TILE**3, row % TILE**3
    index = data["tile"][t] * TILE + np.stack(np.unravel_index(within, (TILE,) * 3), axis=1)
    nth = np.arange(len(row)).astype(np.uint64)
    place = data["grid_low"] + (index + uniform(nth, 1, 3)) * voxel
    return {
        "position": place.astype(np.float32),
        "velocity": data["tile_air"].reshape(-1, 3)[row].astype(np.float32),
        "density": (1000.0 * flat[row]).astype(np.float32),
        "id": np.arange(len(row)),
        "particle_spacing": np.array(voxel),
    }


register(MistStage())
