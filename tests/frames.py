"""Keys and forecasts of scenes that have no cache."""

from __future__ import annotations

from basin.cache import Cache
from basin.scene import Scene
from basin.stages.files import SceneFiles
from basin.stages.forecast import Forecast, forecast
from basin.stages.stage import Job, all_keys


def job(scene: Scene, files: SceneFiles, quality: str = "final") -> Job:
    """Of a scene whose frames are nowhere."""
    return Job(scene, files, Cache(files.folder / "nowhere"), quality)


def frame_keys(scene: Scene, files: SceneFiles, quality: str, stage: str) -> dict[int, str]:
    """Keys of a stage's frames."""
    return all_keys(job(scene, files, quality))[stage]


def cost(scene: Scene, files: SceneFiles, quality: str = "final") -> Forecast:
    """Forecast of a scene."""
    return forecast(job(scene, files, quality))
