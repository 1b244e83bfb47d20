"""A few seconds of measuring, for forecasts on a machine that has made nothing yet."""

from __future__ import annotations

import tempfile
import time as clock
from pathlib import Path

from basin.cache import Cache
from basin.scene import Scene, parse_scene
from basin.stages import samples
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.pace import LONG_ENOUGH, Pace
from basin.stages.run import run
from basin.stages.stage import Cost, Job, usual

BEGINNING = 4  # frames that are made and not counted
FRAMES = 48
# share of what is reckoned for it that this scene takes; such that the starting scenes are met in the mean
LIGHT = {"liquid": 1.05, "surface": 0.6}
MOST_FRAMES = 192  # of a machine so fast that fewer say nothing


def measure(pace: Pace, frames: int = FRAMES) -> list[str]:
    """Make frames of a small scene by the usual stages that nothing is known of; returns those that were measured.

    Its first frames are not counted: they wait for kernels from a cold disk and for processes that start, which
    says nothing of the machine's speed in a longer shot.
    """
    wanted = [stage.name for stage in usual() if not pace.knows(stage.name)]
    if not wanted:
        return []
    begun, whole = ({n: c.seconds for n, c in _costs(measured_scene(m)).items()} for m in (BEGINNING, frames))
    with tempfile.TemporaryDirectory() as folder:
        took = {stage.name: _made(measured_scene(frames), Cache(Path(folder)), stage.name) for stage in usual()}
    if min(took[name] for name in wanted) < LONG_ENOUGH and frames < MOST_FRAMES:
        return measure(pace, 4 * frames)
    for name in wanted:
        pace.learn(name, LIGHT.get(name, 1.0) * (whole[name] - begun[name]), took[name])
    return wanted


def _costs(scene: Scene) -> dict[str, Cost]:
    """Of the stages of a scene without files."""
    with tempfile.TemporaryDirectory() as folder:
        return forecast(Job(scene, SceneFiles(Path()), Cache(Path(folder)), "final")).costs


def measured_scene(frames: int) -> Scene:
    """A block of some fifteen thousand particles that falls into a pool."""
    return parse_scene({**samples.block_into_pool(), "time": {"last": frames}})


def _made(scene: Scene, cache: Cache, stage: str) -> float:
    """Seconds that a stage's frames after the first few take."""
    begun = clock.perf_counter()
    for frame in run(scene, Path(), cache, stages=(stage,), quality="final"):
        if frame.frame == scene.time.first + BEGINNING - 1:
            begun = clock.perf_counter()
    return clock.perf_counter() - begun
