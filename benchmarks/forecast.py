"""``./zinc bench --forecast``: seconds reckoned for starting scenes, and that they took; writes docs/performance.md.

As on a machine that has only just been set up: after the few seconds of measuring that a first start does, before
anything is learned from runs. Each starting scene is reckoned, then made, at draft; with ``--proof`` at proof too, with
``--large`` the demo's shots as well. ``--only TEXT`` measures scenes whose name has that text anew, and keeps the other
rows of the page. The page is written after every scene. What a host gave to others while it was measured is taken off.
"""

from __future__ import annotations

import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

from basin.cache import Cache
from basin.scene import Scene, load_scene
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.measuring import measure
from basin.stages.pace import Pace
from basin.stages.run import run
from basin.stages.stage import Job, stages
from benchmarks.host import Alone
from benchmarks.speed import PAGE, replaced

ROOT = Path(__file__).resolve().parent.parent / "demo"
ASKED = 1.5  # times that a forecast may be off


def probed() -> dict[str, float]:
    """What the measuring of a first start finds now: a factor for each stage."""
    with tempfile.TemporaryDirectory() as folder:
        pace = Pace(Path(folder) / "pace.json")
        with Alone() as watch:
            measure(pace)
        return {name: factors[-1] * watch.share for name, factors in pace.factors().items()}


def told(folder: Path, *probes: dict[str, float]) -> Pace:
    """What is known after some measurings."""
    pace = Pace(folder / f"{len(list(folder.iterdir()))}.json")
    for probe in probes:
        for name, factor in probe.items():
            pace.learn(name, 100.0, 100.0 * factor)
    return pace


def took(scene: Scene, folder: Path, quality: str) -> dict[str, Alone]:
    """Each stage's whole run."""
    found = {}
    with tempfile.TemporaryDirectory() as made:
        for stage in stages():
            with Alone() as found[stage]:
                for _ in run(scene, folder, Cache(Path(made)), stages=(stage,), quality=quality):
                    pass
    return found


def reckoned(scene: Scene, folder: Path, quality: str, pace: Pace) -> dict[str, float]:
    """Seconds of each stage that the forecast has."""
    with tempfile.TemporaryDirectory() as empty:
        found = forecast(Job(scene, SceneFiles(folder), Cache(Path(empty)), quality), pace)
    return {stage: time_of.likely for stage, time_of in found.times.items()}


@dataclass(frozen=True)
class Row:
    """A stage's run, seconds: reckoned by the first measuring and by those before and after it, and what it took."""

    first: float
    meanwhile: float
    took: float
    alone: float


Key = tuple[str, str, str]  # scene, quality, stage


def kept_rows() -> dict[Key, Row]:
    """The figures of the page as it is."""
    part = PAGE.read_text(encoding="utf-8").split("## Forecasts\n")[1].split("\n## ")[0]
    cells = [[cell.strip() for cell in line.strip("|").split("|")] for line in part.splitlines() if line[:1] == "|"]
    return {(row[0], row[1], row[2]): Row(*map(float, row[3:7])) for row in cells[2:]}


def after_others(rows: dict[Key, Row], plain: dict[Key, float]) -> dict[Key, float]:
    """Seconds reckoned once all other runs are learned from."""
    found = {}
    with tempfile.TemporaryDirectory() as folder:
        for n, key in enumerate(rows):
            pace = Pace(Path(folder) / f"{n}.json")
            for other, row in rows.items():
                if other != key:
                    pace.learn(other[2], plain[other], row.alone)
            found[key] = pace.expect(key[2], plain[key]).likely
    return found


def write(rows: dict[Key, Row], plain: dict[Key, float]) -> None:
    """Exchange the page's table."""
    learned = after_others(rows, plain)
    ratios = {
        key: (row.first / row.alone, row.meanwhile / row.alone, learned[key] / row.alone) for key, row in rows.items()
    }
    off = [[max(ratio, 1 / ratio) for ratio in three] for three in ratios.values()]
    said = [
        f"{sum(ratio <= ASKED for ratio in column)} of {len(column)}, the worst {max(column):.2f} times off"
        for column in zip(*off, strict=True)
    ]
    lines = [
        f"`./zinc bench --forecast --proof --large`: seconds reckoned, and that runs then took. The machine is one "
        f"that others share: what its host took away meanwhile, as the kernel counts it, is taken off what was "
        f"measured (alone); the ratios are to that. Within {ASKED} times after the few seconds of measuring of a first "
        f"start: {said[0]}; by such measurings right before and after each scene: {said[1]}; once all other runs "
        f"of the table are learned from, as on a machine in use: {said[2]}.",
        "",
        "| scene | quality | stage | at first, s | meanwhile | took | alone | ratio at first | meanwhile | learned |",
        "|---|---|---|---|---|---|---|---|---|---|",
        *(
            f"| {' | '.join(key)} | {row.first:.1f} | {row.meanwhile:.1f} | {row.took:.1f} | {row.alone:.1f} | "
            f"{' | '.join(f'{ratio:.2f}' for ratio in ratios[key])} |"
            for key, row in rows.items()
        ),
    ]
    PAGE.write_text(replaced(PAGE.read_text(encoding="utf-8"), "Forecasts", lines), encoding="utf-8")


def main() -> None:
    """Measure all of them."""
    starts, shots = sorted((ROOT / "starts").glob("*/scene.json")), sorted((ROOT / "scenes").glob("TM0??.json"))
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    asked = ["draft", *(["proof"] if "--proof" in sys.argv else [])]
    rows = kept_rows() if only else {}
    plain: dict[Key, float] = {}
    jobs = []
    with tempfile.TemporaryDirectory() as kept:
        for quality in ("draft", "proof"):
            for file in [*starts, *shots]:
                scene = load_scene(file)
                for stage, value in reckoned(scene, file.parent, quality, told(Path(kept))).items():
                    plain[scene.name, quality, stage] = value
                if quality in asked and only in scene.name and (file in starts or only or "--large" in sys.argv):
                    jobs.append((scene, file.parent, quality))
        first = before = probed() if jobs else {}
        for scene, folder, quality in jobs:
            runs = took(scene, folder, quality)
            after = probed()
            at_first = reckoned(scene, folder, quality, told(Path(kept), first))
            meanwhile = reckoned(scene, folder, quality, told(Path(kept), before, after))
            for stage, watch in runs.items():
                row = Row(at_first[stage], meanwhile[stage], watch.seconds, watch.alone)
                rows[scene.name, quality, stage] = row
                print(scene.name, quality, stage, row, flush=True)
            before = after
            write(rows, plain)
        write(rows, plain)


if __name__ == "__main__":
    main()
