"""``python -m benchmarks.memory``: what stages hold in memory at two sizes of one pool; the forecast's figures.

Each size in a process of its own, so that none holds what another one left.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

from basin import keep_memory
from benchmarks.speed import pool_document, sloshing

SIZES = (64, 96)


def peak() -> int:
    """Most memory that this process has held, in bytes (getrusage would count its parent's too)."""
    lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmHWM"))


def liquid(cells: int, viscosity: float) -> tuple[int, int, float]:
    """Particles, bytes held, and voxels in tiles for each particle, of a pool after ten frames."""
    keep_memory()
    run = sloshing(cells, viscosity=viscosity)
    for frame in range(2, 12):
        made = run.advance_frame(frame)
    assert made
    count = len(run.state.particles)
    return count, peak(), len(made[0].tiles) * 512 / count


def meshing(cells: int) -> tuple[int, int]:
    """Particles, and bytes that the command holds which meshes one frame of a pool."""
    with tempfile.TemporaryDirectory() as name:
        scene = Path(name) / "pool.json"
        scene.write_text(json.dumps({**pool_document(cells), "time": {"last": 1}}))
        command = [sys.executable, "-m", "basin", "run", str(scene), "--to", f"{name}/cache", "--threads", "2"]
        for stage in ("liquid", "surface"):
            asked = [*command, "--stages", stage]
            process = subprocess.Popen(asked, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            _, _, used = os.wait4(process.pid, 0)
        told = json.loads(subprocess.check_output([sys.executable, "-m", "basin", "info", f"{name}/cache", "--json"]))
        assert told["surface"]["frames"] == [1]
        text = (Path(name) / "cache" / "liquid" / "manifest.jsonl").read_text().splitlines()[1]
        return int(json.loads(text)["readings"]["particles"]), used.ru_maxrss * 1024


def apart(what: str, cells: int, viscosity: float = 0.0) -> list[float]:
    """One of them in a process of its own."""
    command = [sys.executable, "-m", "benchmarks.memory", what, str(cells), str(viscosity)]
    found: list[float] = json.loads(subprocess.check_output(command))
    return found


def main() -> None:
    """Measure one thing, or all of them, and print bytes at rest and for each particle."""
    if len(sys.argv) > 3:
        what, cells, viscosity = sys.argv[1], int(sys.argv[2]), float(sys.argv[3])
        print(json.dumps(liquid(cells, viscosity) if what == "liquid" else meshing(cells)))
        return
    for name, what, viscosity in (("water", "liquid", 0.0), ("thick", "liquid", 5.0), ("meshing", "meshing", 0.0)):
        (n, low, *_), (m, high, *tiles) = (apart(what, cells, viscosity) for cells in SIZES)
        each = (high - low) / (m - n)
        more = f", {tiles[0]:.2f} voxels in tiles each" if tiles else ""
        print(f"{name}: {(low - n * each) / 1e6:.0f} MB and {each:.0f} bytes for each of {m:,.0f} particles{more}")


if __name__ == "__main__":
    main()
