"""``./zinc bench --forecast``: seconds reckoned for starting scenes, and that they took; writes docs/performance.md.

As on a machine that has only just been set up: after the few seconds of measuring that a first start does, before
anything is learned from runs. Each starting scene is reckoned, then made, at draft; with ``--proof`` at proof too, with
``--large`` the demo's shots as well. ``--only TEXT`` measures scenes whose name has that text anew, and keeps the other
rows of the page.
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path

from basin.cache import Cache
from basin.scene import Scene, load_scene
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.measuring import measure
from basin.stages.pace import Pace
from basin.stages.run import run
from basin.stages.stage import Job, stages
from benchmarks.speed import PAGE, replaced

ROOT = Path(__file__).resolve().parent.parent / "demo"
ASKED = 1.5  # times that a forecast may be off


def probed() -> dict[str, float]:
    """What the measuring of a first start finds now: a factor for each stage."""
    with tempfile.TemporaryDirectory() as folder:
        pace = Pace(Path(folder) / "pace.json")
        measure(pace)
        return {name: factors[-1] for name, factors in pace.factors().items()}


def told(folder: Path, *probes: dict[str, float]) -> Pace:
    """What is known after some measurings."""
    pace = Pace(folder / f"{len(list(folder.iterdir()))}.json")
    for probe in probes:
        for name, factor in probe.items():
            pace.learn(name, 100.0, 100.0 * factor)
    return pace


def took(scene: Scene, folder: Path, quality: str) -> dict[str, float]:
    """Seconds of each stage's whole run."""
    found = {}
    with tempfile.TemporaryDirectory() as made:
        for stage in stages():
            begun = time.perf_counter()
            for _ in run(scene, folder, Cache(Path(made)), stages=(stage,), quality=quality):
                pass
            found[stage] = time.perf_counter() - begun
    return found


def reckoned(scene: Scene, folder: Path, quality: str, pace: Pace) -> dict[str, float]:
    """Seconds of each stage that the forecast has."""
    with tempfile.TemporaryDirectory() as empty:
        found = forecast(Job(scene, SceneFiles(folder), Cache(Path(empty)), quality), pace)
    return {stage: time_of.likely for stage, time_of in found.times.items()}


def kept_rows() -> dict[tuple[str, ...], str]:
    """The figures of the page as it is, by scene, quality and stage."""
    part = PAGE.read_text(encoding="utf-8").split("## Forecasts\n")[1].split("\n## ")[0]
    cells = [[cell.strip() for cell in line.strip("|").split("|")] for line in part.splitlines() if line[:1] == "|"]
    return {tuple(row[:3]): " | ".join(row[3:]) for row in cells[2:]}


def main() -> None:
    """Measure all of them."""
    starts, shots = sorted((ROOT / "starts").glob("*/scene.json")), sorted((ROOT / "scenes").glob("TM0*.json"))
    files = [*starts, *(shots if "--large" in sys.argv else [])]
    qualities = ["draft", *(["proof"] if "--proof" in sys.argv else [])]
    jobs = [(quality, file) for quality in qualities for file in files]
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    rows = kept_rows() if only else {}
    with tempfile.TemporaryDirectory() as kept:
        first = before = probed()
        for quality, file in jobs:
            scene = load_scene(file)
            if only not in scene.name:
                continue
            seconds = took(scene, file.parent, quality)
            after = probed()
            at_first = reckoned(scene, file.parent, quality, told(Path(kept), first))
            meanwhile = reckoned(scene, file.parent, quality, told(Path(kept), before, after))
            for stage, value in seconds.items():
                early, now = at_first[stage], meanwhile[stage]
                figures = f"{early:.0f} | {now:.0f} | {value:.0f} | {early / value:.2f} | {now / value:.2f}"
                rows[scene.name, quality, stage] = figures
                print(scene.name, quality, stage, figures, flush=True)
            before = after
    ratios = [[float(cell) for cell in figures.split("|")[-2:]] for figures in rows.values()]
    off = [[max(ratio, 1 / ratio) for ratio in pair] for pair in ratios]
    good = [sum(ratio <= ASKED for ratio in column) for column in zip(*off, strict=True)]
    worst = [max(column) for column in zip(*off, strict=True)]
    lines = [
        f"`./zinc bench --forecast --proof --large`: seconds reckoned before anything is learned from runs, and that "
        f"runs then took. After the measuring of a first start {good[0]} of {len(off)} are within {ASKED} times, the "
        f"worst {worst[0]:.2f} times off; a machine that others share may be slower or faster by then, so it is "
        f"measured before and after each scene too: {good[1]} of {len(off)}, the worst {worst[1]:.2f}.",
        "",
        "| scene | quality | stage | reckoned at first, s | meanwhile, s | took, s | ratio at first | meanwhile |",
        "|---|---|---|---|---|---|---|---|",
        *(f"| {' | '.join(key)} | {figures} |" for key, figures in rows.items()),
    ]
    PAGE.write_text(replaced(PAGE.read_text(encoding="utf-8"), "Forecasts", lines), encoding="utf-8")


if __name__ == "__main__":
    main()
