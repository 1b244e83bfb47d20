"""``./zinc bench --rehearsal``: frames a second of rehearsals, and what one beside a run takes from it; writes
docs/performance.md.

A rehearsal is a process of the lowest priority; the run is the command line's, on all processors.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from basin.scene import load_scene
from basin.stages.beside import Beside, give_way
from basin.stages.gestures.rehearse import Rehearsed, next_frame
from benchmarks.speed import PAGE, replaced

STARTS = Path(__file__).resolve().parent.parent / "demo" / "starts"
TURNS, FRAMES = 3, 24


def rehearsed(process: Beside, folder: Path, frames: int) -> list[float]:
    """Seconds of each frame of a rehearsal from its first one."""
    scene, after, took = load_scene(folder / "scene.json").model_dump(mode="json"), None, []
    for _ in range(frames):
        begun = time.perf_counter()
        process.call(next_frame, Rehearsed(folder, scene, after))
        took.append(time.perf_counter() - begun)
        after = 1 if after is None else after + 1
    return took


def run(folder: Path) -> float:
    """Seconds that a draft's liquid takes by the command line."""
    with tempfile.TemporaryDirectory() as to:
        command = [sys.executable, "-m", "basin", "run", str(folder / "scene.json"), "--to", to]
        begun = time.perf_counter()
        subprocess.run([*command, "--quality", "draft", "--stages", "liquid"], check=True, capture_output=True)
        return time.perf_counter() - begun


def main() -> None:
    """Measure the starting scenes alone, then a run with and without a rehearsal beside it, in turn."""
    process = Beside()
    process.call(give_way)
    lines = ["`./zinc bench --rehearsal` (10 frames a second asked):", "", "| scene | frames a second |", "|---|---|"]
    for folder in sorted(p.parent for p in STARTS.glob("*/scene.json")):
        took = rehearsed(process, folder, FRAMES)[2:]
        lines.append(f"| {folder.name} | {1 / statistics.median(took):.1f} |")
        print(lines[-1], flush=True)
    alone, beside = [], []
    for _ in range(TURNS):
        alone.append(run(STARTS / "wall"))
        going = threading.Event()

        def keep_on(going: threading.Event = going) -> None:
            while not going.is_set():
                rehearsed(process, STARTS / "drop", 20)

        thread = threading.Thread(target=keep_on)
        thread.start()
        beside.append(run(STARTS / "wall"))
        going.set()
        thread.join()
    process.end()
    a, b = statistics.median(alone), statistics.median(beside)
    lines += [
        "",
        f"A run of `wall` takes {a:.1f} s alone and {b:.1f} s beside a rehearsal of `drop`: {b / a:.2f} times "
        f"(medians of {TURNS} in turn; 1.1 asked).",
    ]
    print(lines[-1])
    PAGE.write_text(replaced(PAGE.read_text(encoding="utf-8"), "Rehearsals", lines), encoding="utf-8")


if __name__ == "__main__":
    main()
