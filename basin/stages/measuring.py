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
from basin.stages.stage import Job, stages

FRAMES = 12
# share of what is reckoned for it that this scene takes: a block without anything about it has less to do than a shot
LIGHT = {"liquid": 0.68, "surface": 0.51}
MOST_FRAMES = 192  # of a machine so fast that fewer say nothing


def measure(pace: Pace, frames: int = FRAMES) -> list[str]:
    """Make frames of a small scene by every stage that nothing is known of; returns the stages that were measured."""
    wanted = [name for name in stages() if not pace.knows(name)]
    if not wanted:
        return []
    scene = measured_scene(frames)
    files = SceneFiles(Path())
    with tempfile.TemporaryDirectory() as folder:
        cache = Cache(Path(folder))
        expected = forecast(Job(scene, files, cache, "final")).costs
        took = {name: _made(scene, cache, name) for name in stages()}
    if min(took[name] for name in wanted) < LONG_ENOUGH and frames < MOST_FRAMES:
        return measure(pace, 4 * frames)
    for name in wanted:
        pace.learn(name, LIGHT.get(name, 1.0) * expected[name].seconds, took[name])
    return wanted


def measured_scene(frames: int) -> Scene:
    """A block of some fifteen thousand particles that falls into a pool."""
    return parse_scene({**samples.block_into_pool(), "time": {"last": frames}})


def _made(scene: Scene, cache: Cache, stage: str) -> float:
    begun = clock.perf_counter()
    for _ in run(scene, Path(), cache, stages=(stage,), quality="final"):
        pass
    return clock.perf_counter() - begun
