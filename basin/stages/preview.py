"""Births of one frame, or of a few and what has become of them, seen while layers change; nothing is kept."""

from __future__ import annotations

import numpy as np

from basin.cache import Cache, DamagedFrame
from basin.scene import SceneError, parse_scene
from basin.stages.air_stage import LIQUID
from basin.stages.birthplaces import AIR, Frames, births_of
from basin.stages.files import SceneFiles
from basin.stages.judge import Asked, JudgeFailure
from basin.stages.stage import Job
from basin.stages.view import pack_points
from basin.stages.whitewater_stage import DRAWN, WhitewaterWalk
from basin.whitewater.life import Whitewater

SEEN = 8000  # births of each layer that are shown, if the frames are ready for any


def births(asked: Asked) -> bytes:
    """Births of a frame as points of their kinds, so many of each layer, or with those of some frames before it as they
    live at it; packed for the viewport.

    Raises
    ------
    JudgeFailure
        If the scene is not sound, or the frames have no liquid or no air yet.
    """
    try:
        scene = parse_scene(asked.scene)
    except SceneError as error:
        raise JudgeFailure(str(error)) from None
    job = Job(scene, SceneFiles(asked.folder), Cache(asked.cache), asked.quality)
    first = max(asked.frame - asked.lived, scene.time.first + 1) if asked.lived else asked.frame
    frames = range(first, asked.frame + 1)
    for name in (LIQUID, AIR):
        records = job.store(name).records()
        for frame in {max(first - bool(asked.lived), scene.time.first), *frames}:
            if frame not in records or records[frame].error:
                raise JudgeFailure(f"frame {frame} has no {name} yet; look for air there first")
    try:
        found, spacing = _lived(job, frames) if asked.lived else _newborn(job, asked.frame)
    except (DamagedFrame, ValueError) as error:
        raise JudgeFailure(str(error)) from None
    shown = {**found.arrays(), "id": np.arange(len(found)), "particle_spacing": np.array(spacing * DRAWN)}
    return pack_points(shown, len(found), "kind", scene.time.shot_time(asked.frame))


def _newborn(job: Job, frame: int) -> tuple[Whitewater, float]:
    """Births of a frame, and the liquid's spacing."""
    frames, found = Frames(job), Whitewater()
    for number, layer in enumerate(job.scene.whitewater.layers):
        one = births_of(frames, layer, number)
        ready = one.ready(frame)
        if ready > 0:
            found = found.joined(one.born(frame, SEEN / (ready * frames.seconds)))
    return found, float(frames.data(frame)["particle_spacing"])


def _lived(job: Job, frames: range) -> tuple[Whitewater, float]:
    """What lives after some frames, of births in them alone."""
    walk = WhitewaterWalk(job, None)
    ready = np.array([sum(one.ready(frame) for frame in frames) for one in walk.births])
    walk.rates = np.where(ready > 0, SEEN / np.maximum(ready * walk.frames.seconds, 1e-30), 0.0)
    for frame in frames:
        walk.live(frame, walk.rates)
    return walk.life.state, float(walk.frames.data(frames[-1])["particle_spacing"])
