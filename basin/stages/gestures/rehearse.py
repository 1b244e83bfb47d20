"""A coarse liquid that plays while its scene is edited, frame after frame; nothing of it is kept."""

from __future__ import annotations

import time as clock
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from basin.cache import Cache, DamagedFrame
from basin.liquid.particles import Particles, new_ids
from basin.liquid.step import Liquid, LiquidFailure
from basin.liquid.world import LiquidState, LiquidWorld
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.costs import liquid_size
from basin.stages.files import SceneFiles, UnusableFile
from basin.stages.liquid_stage import particle_arrays
from basin.stages.stage import Job, all_keys
from basin.stages.view import pack_points

PARTICLES = 20_000  # at the fullest frame: what two processors move ten times a second
SUBSTEPS = 4  # of a frame at most: fast liquid goes further in one than it would in a run
COARSEST = 16.0  # times the final voxel
BUDGET = 60_000  # points that are sent


class RehearsalFailure(ValueError):
    """A scene that cannot be rehearsed; the message is a sentence for the artist."""


@dataclass(frozen=True)
class Rehearsed:
    """What is to be seen.

    Attributes
    ----------
    folder : of the scene's files
    scene : the scene document as it is now
    after : frame that was seen last; None begins again
    by : attribute to colour by
    cache, quality, start : where frames of a run are, of which quality, and the one to begin from if it is current;
        else it begins from the first
    """

    folder: Path
    scene: dict[str, Any]
    after: int | None
    by: str = "speed"
    cache: Path | None = None
    quality: str = "draft"
    start: int | None = None


def rehearsed_scene(document: dict[str, Any], files: SceneFiles) -> Scene:
    """The scene with a draft as coarse as a rehearsal is; SceneError if it is none."""
    scene = parse_scene(document)
    fullest = liquid_size(scene, files, "draft").particles
    factor = min(scene.quality.draft * max(1.0, (fullest / PARTICLES) ** (1 / 3)), COARSEST)
    most = min(scene.liquid.substeps_max, SUBSTEPS)
    least = min(scene.liquid.substeps_min, most)
    liquid = scene.liquid.model_copy(update={"substeps_max": most, "substeps_min": least})
    quality = scene.quality.model_copy(update={"draft": round(factor, 3)})
    return scene.model_copy(update={"liquid": liquid, "quality": quality})


@dataclass
class Rehearsal:
    """Keeps one scene's liquid at hand."""

    _key: Any = None
    _scene: Scene | None = None
    _liquid: Liquid | None = None
    _world: LiquidWorld | None = None
    _begun: tuple[int, Mapping[str, Any]] | None = None
    _frame: int = 0

    def _begin(self) -> None:
        """Stand before the first frame, or on the cached one that it begins from."""
        assert self._scene
        assert self._world
        if self._begun is None:
            self._liquid, self._frame = Liquid(self._world), self._scene.time.first - 1
        else:
            state = coarser(self._begun[1], self._world)
            self._liquid, self._frame = Liquid(self._world, state), self._begun[0]

    def _come_to(self, liquid: Liquid, frame: int) -> int:
        """Bring a liquid to a frame, without the level set that only a cache has use for; its substeps."""
        assert self._scene
        if frame == self._scene.time.first:
            liquid.come_to(frame)
            return 0
        made = liquid.move(frame)
        return made[1].substeps if made else 0

    def next(self, asked: Rehearsed) -> bytes:
        """The frame after the one that was seen, packed; the first if the scene is another one.

        Raises
        ------
        RehearsalFailure
            If the scene cannot be run as it is.
        """
        begun = clock.perf_counter()
        key = (asked.folder, asked.scene, asked.start)
        try:
            if key != self._key or asked.after is None or self._liquid is None:
                files = SceneFiles(asked.folder)
                self._liquid = None
                self._scene = rehearsed_scene(asked.scene, files)
                self._world = liquid_world(self._scene, files, "draft")
                self._begun = _cached(asked, files)
                self._key = key
                self._begin()
            assert self._scene
            if self._frame >= self._scene.time.last:  # round again
                self._begin()
            assert self._liquid
            substeps = self._come_to(self._liquid, self._frame + 1)
        except (SceneError, UnusableFile, LiquidFailure, OverflowError) as error:
            self._liquid = None
            raise RehearsalFailure(str(error)) from None
        self._frame += 1
        told = {
            "frame": self._frame,
            "voxel": self._scene.voxel_size("draft"),
            "coarser": self._scene.quality.draft,
            "substeps": float(substeps),
            "seconds": clock.perf_counter() - begun,
            "begun": self._begun[0] if self._begun else self._scene.time.first,
        }
        arrays = particle_arrays(self._liquid, self._frame)
        return pack_points(arrays, BUDGET, asked.by, self._scene.time.shot_time(self._frame), rehearsal=told)


def _cached(asked: Rehearsed, files: SceneFiles) -> tuple[int, Mapping[str, Any]] | None:
    """The frame to begin from and its arrays; None if it is not there, out of date, or has liquid below a band."""
    scene = parse_scene(asked.scene)
    if asked.cache is None or asked.start is None or not scene.time.first < asked.start < scene.time.last:
        return None
    store = Cache(asked.cache).stage("liquid")
    record = store.records().get(asked.start)
    if record is None or record.error or not store.whole(record):
        return None
    keys = all_keys(Job(scene, files, Cache(asked.cache), asked.quality))["liquid"]
    if keys.get(asked.start) != record.key:
        return None
    try:
        arrays = store.frame(asked.start)
    except DamagedFrame:
        return None
    return None if arrays["tile_held"].any() else (asked.start, arrays)


def coarser(arrays: Mapping[str, Any], world: LiquidWorld) -> LiquidState:
    """A liquid's frame as a state of a world with larger voxels: what lies in an eighth of a cell becomes one particle.

    Volume and momentum stay; turning within an eighth of a cell does not.
    """
    layout, scale = world.layout, world.time_scale
    place = layout.to_voxels(np.asarray(arrays["position"], np.float64))
    volume = np.asarray(arrays["volume"], np.float64) / layout.dx**3
    velocity = np.asarray(arrays["velocity"], np.float64) / (scale * layout.dx)
    eighth = np.floor(place * 2).astype(np.int64)
    eighth -= eighth.min(axis=0, initial=0)
    wide = eighth.max(axis=0, initial=0) + 1
    _, first, where = np.unique(
        (eighth[:, 0] * wide[1] + eighth[:, 1]) * wide[2] + eighth[:, 2], return_index=True, return_inverse=True
    )
    total = np.bincount(where, volume, len(first))

    def mean(values: np.ndarray) -> np.ndarray:
        columns = values.reshape(len(values), -1).T
        return np.stack([np.bincount(where, volume * c, len(first)) / total for c in columns], axis=1)

    particles = Particles.at(mean(place).astype(np.float32), total.astype(np.float32), world.carried.width)
    particles.velocity[:] = mean(velocity)
    particles.id[:] = new_ids(0, len(first))
    particles.source[:] = np.asarray(arrays["source"])[first]
    particles.born[:] = mean(np.asarray(arrays["born"], np.float64) * scale)[:, 0]
    for row in world.carried.columns:
        if row.name in arrays:
            by = 1 / world.density if row.per_density else 1.0
            particles.carried[:, world.carried.at(row.name)] = mean(np.asarray(arrays[row.name], np.float64)) * by
    return LiquidState(particles, next_id=len(first))


_held = Rehearsal()


def next_frame(asked: Rehearsed) -> bytes:
    """`Rehearsal.next` of what this process keeps."""
    return _held.next(asked)
