"""A coarse liquid that plays while its scene is edited, frame after frame; nothing of it is kept."""

from __future__ import annotations

import time as clock
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from basin.liquid.step import Liquid, LiquidFailure
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.costs import liquid_size
from basin.stages.files import SceneFiles, UnusableFile
from basin.stages.liquid_stage import LiquidWalk
from basin.stages.view import pack_points

PARTICLES = 20_000  # at the fullest frame: what two processors move ten times a second
SUBSTEPS = 6  # of a frame at most: fast liquid goes further in one than it would in a run
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
    """

    folder: Path
    scene: dict[str, Any]
    after: int | None
    by: str = "speed"


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
    _walk: LiquidWalk | None = None
    _frame: int = 0

    def next(self, asked: Rehearsed) -> bytes:
        """The frame after the one that was seen, packed; the first if the scene is another one.

        Raises
        ------
        RehearsalFailure
            If the scene cannot be run as it is.
        """
        begun = clock.perf_counter()
        key = (asked.folder, asked.scene)
        try:
            if key != self._key or asked.after is None or self._walk is None:
                files = SceneFiles(asked.folder)
                self._walk = None
                self._scene = rehearsed_scene(asked.scene, files)
                self._walk = LiquidWalk(Liquid(liquid_world(self._scene, files, "draft")))
                self._key, self._frame = key, self._scene.time.first - 1
            assert self._scene
            if self._frame >= self._scene.time.last:  # round again
                self._walk = LiquidWalk(Liquid(self._walk.liquid.world))
                self._frame = self._scene.time.first - 1
            made = self._walk.advance(self._frame + 1, lambda: False)
        except (SceneError, UnusableFile, LiquidFailure, OverflowError) as error:
            self._walk = None
            raise RehearsalFailure(str(error)) from None
        assert made is not None
        self._frame += 1
        told = {
            "frame": self._frame,
            "voxel": self._scene.voxel_size("draft"),
            "coarser": self._scene.quality.draft,
            "substeps": made.readings.get("substeps", 0.0),
            "seconds": clock.perf_counter() - begun,
        }
        return pack_points(made.arrays, BUDGET, asked.by, self._scene.time.shot_time(self._frame), rehearsal=told)


_held = Rehearsal()


def next_frame(asked: Rehearsed) -> bytes:
    """`Rehearsal.next` of what this process keeps."""
    return _held.next(asked)
