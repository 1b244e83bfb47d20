"""Births of one frame, seen while the ranges of layers change; nothing lives and nothing is kept."""

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
from basin.stages.whitewater_stage import DRAWN
from basin.whitewater.life import Whitewater

SEEN = 8000  # births of each layer that are shown, if the frame is ready for any


def births(asked: Asked) -> bytes:
    """Births of a frame as points of their kinds, so many of each layer, packed for the viewport.

    Raises
    ------
    JudgeFailure
        If the scene is not sound, or the frame has no liquid or no air yet.
    """
    try:
        scene = parse_scene(asked.scene)
    except SceneError as error:
        raise JudgeFailure(str(error)) from None
    job = Job(scene, SceneFiles(asked.folder), Cache(asked.cache), asked.quality)
    for name in (LIQUID, AIR):
        record = job.store(name).records().get(asked.frame)
        if record is None or record.error:
            raise JudgeFailure(f"frame {asked.frame} has no {name} yet; look for air there first")
    try:
        frames, found = Frames(job), Whitewater()
        for number, layer in enumerate(scene.whitewater.layers):
            one = births_of(frames, layer, number)
            ready = one.ready(asked.frame)
            if ready > 0:
                found = found.joined(one.born(asked.frame, SEEN / (ready * frames.seconds)))
        spacing = float(frames.data(asked.frame)["particle_spacing"])
    except (DamagedFrame, ValueError) as error:
        raise JudgeFailure(str(error)) from None
    shown = {**found.arrays(), "id": np.arange(len(found)), "particle_spacing": np.array(spacing * DRAWN)}
    return pack_points(shown, len(found), "kind", scene.time.shot_time(asked.frame))
