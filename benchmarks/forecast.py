"""``./zinc bench --forecast``: seconds reckoned for starting scenes, and that they took; writes docs/performance.md.

As on a machine that has only just been set up: after the few seconds of measuring that a first start does, before
anything is learned from runs. Each starting scene is reckoned, then made, at draft; with ``--proof`` at proof too, with
``--large`` the demo's shots as well, at draft, and with ``--long`` those at proof.
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


def main() -> None:
    """Measure all of them."""
    starts, shots = sorted((ROOT / "starts").glob("*/scene.json")), sorted((ROOT / "scenes").glob("TM0*.json"))
    jobs = [("draft", file) for file in starts]
    jobs += [("draft", file) for file in shots if "--large" in sys.argv]
    jobs += [("proof", file) for file in starts if "--proof" in sys.argv]
    jobs += [("proof", file) for file in shots if "--long" in sys.argv]
    rows, off = [], []
    with tempfile.TemporaryDirectory() as kept:
        first = before = probed()
        for quality, file in jobs:
            scene = load_scene(file)
            seconds = took(scene, file.parent, quality)
            after = probed()
            at_first = reckoned(scene, file.parent, quality, told(Path(kept), first))
            meanwhile = reckoned(scene, file.parent, quality, told(Path(kept), before, after))
            for stage, value in seconds.items():
                early, now = at_first[stage] / value, meanwhile[stage] / value
                rows.append(
                    f"| {scene.name} | {quality} | {stage} | {at_first[stage]:.0f} | {meanwhile[stage]:.0f} "
                    f"| {value:.0f} | {early:.2f} | {now:.2f} |"
                )
                print(rows[-1], flush=True)
                off.append([max(ratio, 1 / ratio) for ratio in (early, now)])
            before = after
    good = [sum(ratio <= ASKED for ratio in column) for column in zip(*off, strict=True)]
    worst = [max(column) for column in zip(*off, strict=True)]
    lines = [
        f"`./zinc bench {' '.join(sys.argv[1:])}`: seconds reckoned before anything is learned from runs, and that "
        f"runs then took. After the measuring of a first start {good[0]} of {len(off)} are within {ASKED} times, the "
        f"worst {worst[0]:.2f} times off; a machine that others share may be slower or faster by then, so it is "
        f"measured before and after each scene too: {good[1]} of {len(off)}, the worst {worst[1]:.2f}.",
        "",
        "| scene | quality | stage | reckoned at first, s | meanwhile, s | took, s | ratio at first | meanwhile |",
        "|---|---|---|---|---|---|---|---|",
        *rows,
    ]
    PAGE.write_text(replaced(PAGE.read_text(encoding="utf-8"), "Forecasts", lines), encoding="utf-8")


if __name__ == "__main__":
    main()
