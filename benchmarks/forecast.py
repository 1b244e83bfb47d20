"""``python -m benchmarks.forecast``: seconds that were reckoned for starting scenes and demo shots, and that they took.

Before anything is learned from runs; each scene is reckoned, then made, at draft.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from basin.cache import Cache
from basin.scene import load_scene
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.run import run
from basin.stages.stage import Job

ROOT = Path(__file__).resolve().parent.parent / "demo"


def main() -> None:
    """Measure all of them; with ``--large`` the shots of the demo too."""
    scenes = sorted((ROOT / "starts").glob("*/scene.json"))
    if "--large" in sys.argv:
        scenes += sorted((ROOT / "scenes").glob("TM0*.json"))
    print("scene                     stage    reckoned  took  ratio")
    for file in scenes:
        scene, files = load_scene(file), SceneFiles(file.parent)
        with tempfile.TemporaryDirectory() as folder:
            cache = Cache(Path(folder))
            expected = forecast(Job(scene, files, cache, "draft"))
            for stage, cost in expected.costs.items():
                begun = time.perf_counter()
                for _ in run(scene, file.parent, cache, stages=(stage,), quality="draft"):
                    pass
                took = time.perf_counter() - begun
                print(f"{scene.name:25} {stage:8} {cost.seconds:6.0f} s {took:5.0f} s {cost.seconds / took:5.2f}")


if __name__ == "__main__":
    main()
