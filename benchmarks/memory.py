"""``python -m benchmarks.memory``: bytes a particle takes at two sizes of one pool, beside the program itself."""

from __future__ import annotations

import sys
from pathlib import Path

from basin import keep_memory
from benchmarks.speed import sloshing


def peak() -> int:
    """Most memory that this process has held, in bytes (getrusage would count its parent's too)."""
    lines = Path("/proc/self/status").read_text(encoding="ascii").splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith("VmHWM"))


def main() -> None:
    """Run the pool at a size (voxels along it, as the first argument, or 64 and 96) and print."""
    keep_memory()
    sloshing(16).advance_frame(2)
    base = peak()
    print(f"at rest {base / 1e6:.0f} MB")
    for cells in [int(c) for c in sys.argv[1:]] or [64, 96]:
        run = sloshing(cells)
        for frame in range(2, 12):
            made = run.advance_frame(frame)
        assert made
        count = len(run.state.particles)
        each, voxels = (peak() - base) / count, len(made[0].tiles) * 512 / count
        print(f"{count:,} particles: {each:.0f} bytes and {voxels:.2f} voxels in tiles each")


if __name__ == "__main__":
    main()
