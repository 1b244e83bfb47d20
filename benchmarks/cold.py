"""``./zinc bench --cold``: from ``./zinc start`` with nothing compiled to moving liquid; writes docs/performance.md.

First each kernel's compiling alone, in one process, which also renews `basin/stages/kernels.json`; then a real start
with ports, data and a folder of kernels of its own, packages being there; with ``--start`` that alone.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import time
import urllib.request
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

from basin import kernels
from basin.stages import warm
from benchmarks.speed import PAGE, replaced

ROOT = Path(__file__).resolve().parent.parent
PORTS = {"ZINC_WEB_PORT": "8290", "ZINC_DATABASE_PORT": "33290", "ZINC_REDIS_PORT": "63290"}
LONGEST = 900.0  # seconds that are waited for anything
MOVING = 3  # frame of which liquid has moved
SHOWN = 12


def table() -> list[str]:
    """Seconds of compiling, by stage and the largest kernels."""
    if "--start" not in sys.argv:
        subprocess.run([sys.executable, "-m", "basin.stages.warm", "--record"], check=True)
    rows = sorted(warm.table(), key=lambda row: -row.seconds)
    whole = sum(row.seconds for row in rows)
    by_group = {g: sum(row.seconds for row in rows if (row.stage, row.number) == g) for g in warm.groups()}
    parallel = [r for r in rows if kernels.KERNELS[r.kernel].targetoptions.get("parallel")]
    lines = [
        f"{len(rows)} kernels with their types take {whole:.0f} s of one processor alone, "
        f"{sum(row.seconds for row in parallel):.0f} s of them the {len(parallel)} that keep Numba's parallel loops. "
        "By group, in the order in which they are made ready: "
        + ", ".join(f"{g.stage} {g.number}: {seconds:.0f} s" for g, seconds in by_group.items())
        + ".",
        "",
        "| kernel | seconds | parallel |",
        "|---|---|---|",
    ]
    own = {row.kernel for row in parallel}
    return lines + [
        f"| `{row.kernel.removeprefix('basin.')}` | {row.seconds:.1f} | {'yes' if row.kernel in own else 'no'} |"
        for row in rows[:SHOWN]
    ]


def until(what: Callable[[], bool], process: subprocess.Popen[bytes], begin: float) -> float:
    """Seconds from the beginning until something holds."""
    while not what():
        if process.poll() is not None or time.monotonic() - begin > LONGEST:
            raise RuntimeError("the start ended, or took too long")
        time.sleep(0.1)
    return time.monotonic() - begin


def answers() -> bool:
    """Whether the page is there."""
    try:
        return bool(urllib.request.urlopen(f"http://127.0.0.1:{PORTS['ZINC_WEB_PORT']}/", timeout=2).status == 200)
    except OSError:
        return False


def start() -> list[str]:
    """A start from nothing but packages."""
    stamp = ROOT / "web" / "dist" / ".stamp"
    stamp.unlink(missing_ok=True)  # so that the page is built
    with tempfile.TemporaryDirectory() as name:
        home = Path(name)
        env = {**os.environ, **PORTS, "ZINC_VAR": str(home / "var"), kernels.PLACE: str(home / "kernels")}
        begin = time.monotonic()
        process = subprocess.Popen(
            [sys.executable, str(ROOT / "zinc"), "start"], env=env, stdout=subprocess.PIPE, cwd=ROOT
        )
        assert process.stdout
        out = process.stdout.fileno()
        os.set_blocking(out, False)
        told: list[float] = []

        def listen() -> None:
            with suppress(BlockingIOError):
                if os.read(out, 1 << 16):
                    told.append(time.monotonic() - begin)

        def and_listen(what: Callable[[], bool]) -> Callable[[], bool]:
            def both() -> bool:
                listen()
                return what()

            return both

        def frames(take: str, stage: str, number: int) -> Callable[[], bool]:
            path = home / "var" / "start" / "takes" / take / "draft" / stage / f"frame-{number:06d}.npz"
            return and_listen(path.exists)

        try:
            page = until(and_listen(answers), process, begin)
            liquid = until(frames("take-1", "liquid", MOVING), process, begin)
            ready = home / "kernels"
            count = len(warm.groups())
            done = until(and_listen(lambda: len(list(ready.glob("*/ready/*/*"))) == count), process, begin)
        finally:
            process.send_signal(signal.SIGTERM)
            process.wait(60)
    silent = max(b - a for a, b in zip([0.0, *told], told, strict=False) if b <= done)
    return [
        "",
        f"`./zinc start` with packages there and nothing built or compiled: the page answers after {page:.0f} s, the "
        f"demo's first shot (TM010, thick and with thin walls) has moved liquid on disk after {liquid:.0f} s, all "
        f"kernels are ready after {done:.0f} s by two processes, beside the demo's runs. The longest silence of the "
        f"command was {silent:.1f} s.",
    ]


def main() -> None:
    """Measure and write the section."""
    lines = [*table(), *start()]
    text = PAGE.read_text(encoding="utf-8")
    PAGE.write_text(replaced(text, "Cold start", lines), encoding="utf-8")
    print("\n".join(lines))


if __name__ == "__main__":
    main()
