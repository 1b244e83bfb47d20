"""``./zinc bench --forecast``: seconds reckoned for starting scenes, and that they took; writes docs/performance.md.

As on a machine that has only just been set up: after the few seconds of measuring that a first start does, before
anything is learned from runs. Each scene is reckoned, then made, at draft; with ``--proof`` at proof too, with
``--large`` the shots of the demo as well.
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
from basin.stages.measuring import measure
from basin.stages.pace import Pace
from basin.stages.run import run
from basin.stages.stage import Job
from benchmarks.speed import PAGE, replaced

ROOT = Path(__file__).resolve().parent.parent / "demo"
ASKED = 1.5  # times that a forecast may be off


def rows(file: Path, quality: str, pace: Pace) -> list[tuple[str, float]]:
    """A scene's stages as rows of the page's table, each with how many times it is off."""
    scene, files, found = load_scene(file), SceneFiles(file.parent), []
    with tempfile.TemporaryDirectory() as folder:
        cache = Cache(Path(folder))
        expected = forecast(Job(scene, files, cache, quality), pace)
        for stage, time_of in expected.times.items():
            begun = time.perf_counter()
            for _ in run(scene, file.parent, cache, stages=(stage,), quality=quality):
                pass
            took = time.perf_counter() - begun
            ratio = time_of.likely / took
            row = f"| {scene.name} | {quality} | {stage} | {time_of.likely:.0f} | {took:.0f} | {ratio:.2f} |"
            print(row, flush=True)
            found.append((row, max(ratio, 1 / ratio)))
    return found


def main() -> None:
    """Measure all of them."""
    scenes = sorted((ROOT / "starts").glob("*/scene.json"))
    if "--large" in sys.argv:
        scenes += sorted((ROOT / "scenes").glob("TM0*.json"))
    qualities = ("draft", "proof") if "--proof" in sys.argv else ("draft",)
    with tempfile.TemporaryDirectory() as folder:
        pace = Pace(Path(folder) / "pace.json")
        measure(pace)
        found = [one for quality in qualities for file in scenes for one in rows(file, quality, pace)]
    good = sum(off <= ASKED for _, off in found)
    lines = [
        f"`./zinc bench {' '.join(sys.argv[1:])}`: seconds reckoned after the measuring of a first "
        "start, before anything is learned from runs, and that runs then took. "
        f"{good} of {len(found)} are within {ASKED} times; the worst is {max(off for _, off in found):.2f} times off.",
        "",
        "| scene | quality | stage | reckoned, s | took, s | ratio |",
        "|---|---|---|---|---|---|",
        *(row for row, _ in found),
    ]
    PAGE.write_text(replaced(PAGE.read_text(encoding="utf-8"), "Forecasts", lines), encoding="utf-8")


if __name__ == "__main__":
    main()
