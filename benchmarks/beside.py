"""``./zinc bench --beside COMMIT [--cells 100] [--turns 5]``: the substep beside that of another commit, in turns.

Both step the same sloshing pool (100 cells a side hold a million particles) in processes of their own, one after the
other and back, so that what else the machine does falls on both.
"""

from __future__ import annotations

import argparse
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

ROOT = Path(__file__).resolve().parent.parent
# run in either tree, so only with what both have
MEASURED = """
import sys
from basin import keep_memory
keep_memory()
from benchmarks.speed import sloshing, substeps
run = sloshing(int(sys.argv[1]))
split = substeps(run, 4, 9)
print(len(run.state.particles), 1e9 * sum(split.values()) / len(run.state.particles))
"""


def once(tree: Path, cells: int) -> tuple[int, float]:
    """Particles, and median nanoseconds of a substep for each, by the code of a tree."""
    call = [sys.executable, "-c", MEASURED, str(cells)]
    said = subprocess.run(call, cwd=tree, check=True, capture_output=True, text=True).stdout.split()
    return int(said[-2]), float(said[-1])


def main() -> None:
    """Take the other commit's tree, and measure in turns."""
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("--beside", metavar="COMMIT", required=True)
    options.add_argument("--cells", type=int, default=100)
    options.add_argument("--turns", type=int, default=5)
    given = options.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        tree = Path(folder)
        archive = subprocess.run(["git", "archive", given.beside], cwd=ROOT, check=True, capture_output=True).stdout
        subprocess.run(["tar", "x"], cwd=tree, input=archive, check=True)
        print(f"making {given.beside} ready", flush=True)
        once(tree, 32), once(ROOT, 32)  # compiles
        found: dict[Path, list[float]] = {tree: [], ROOT: []}
        for turn in range(given.turns):
            for one in (tree, ROOT) if turn % 2 == 0 else (ROOT, tree):
                particles, each = once(one, given.cells)
                found[one].append(each)
                name = given.beside if one == tree else "here"
                print(f"{name}: {each:.0f} ns a particle and substep, {particles} particles", flush=True)
    before, now = (float(np.median(found[one])) for one in (tree, ROOT))
    print(f"medians {before:.0f} and {now:.0f} ns; here takes {now / before:.3f} of {given.beside}")


if __name__ == "__main__":
    main()
