"""``./zinc bench``: time per particle of each solver step and per voxel of meshing, beside the memory's speed.

Writes docs/performance.md (`--large` adds ten million particles). All in one run, so that the machine's
drift does not enter the ratios.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
import time
from pathlib import Path

import numba
import numpy as np
import pyamg
from numba import njit, prange
from scipy.sparse.linalg import cg
from skimage.measure import marching_cubes

from basin import keep_memory
from basin.grid import poisson
from basin.liquid import levelset, pressure
from basin.liquid.sorting import sorted_particles
from basin.liquid.step import Liquid, Tally
from basin.scene import parse_scene
from basin.stages.assembly import SceneFiles, liquid_world
from basin.surface.mesh import surface_frame
from basin.surface.polygonise import polygonise
from basin.surface.settings import SurfaceSettings

PAGE = Path(__file__).resolve().parent.parent / "docs" / "performance.md"


@njit(parallel=True)
def _triad(a, b, c):
    for i in prange(a.shape[0]):
        a[i] = b[i] + np.float32(2.0) * c[i]


def triad() -> float:
    """Best of ten: GB/s moved by a = b + 2 c over 200 MB arrays."""
    a, b, c = (np.ones(50_000_000, np.float32) for _ in range(3))
    best = np.inf
    for _ in range(11):
        start = time.perf_counter()
        _triad(a, b, c)
        best = min(best, time.perf_counter() - start)
    return 3 * a.nbytes / best / 1e9


def sloshing(cells: int) -> Liquid:
    """A tank a third full, in motion, `cells` voxels long: about `cells`^3 particles."""
    dx = 1.0 / cells
    fill = {
        "kind": "fill",
        "name": "w",
        "shape": {"kind": "box", "size": [0.5, 0.5, 0.5]},
        "pose": {"translation": [0.25, 0.25, 0.25]},
        "velocity": [1.5, 0.5, 0.5],
    }
    document = {
        "format": "zinc-scene/1",
        "domain": {"low": [0, 0, 0], "size": [1, 0.75, 0.5]},
        "liquid": {"voxel_size": dx},
        "elements": [fill],
    }
    run = Liquid(liquid_world(parse_scene(document), SceneFiles(Path(".")), "final"))
    run.begin()
    return run


def substeps(run: Liquid, warm: int, measured: int) -> dict[str, float]:
    """Run some substeps of a voxel and a half's way, and measure some more: median seconds of each step."""
    found: list[dict[str, float]] = []
    time_now = 0.0
    for _ in range(warm + measured):
        tally = Tally()
        dt = 1.5 / max(run.state.particles.fastest(), 1e-6)
        run.pair(time_now, dt, tally)
        time_now += 2 * dt
        found.append({name: seconds / 2 for name, seconds in tally.split.items()})
    # the machine is shared: a median is not moved by what others do for a moment
    return {name: float(np.median([split[name] for split in found[warm:]])) for name in found[-1]}


def best_of(call: object, times: int = 5) -> float:
    """Least seconds of several calls."""
    best = np.inf
    for _ in range(times):
        start = time.perf_counter()
        call()  # type: ignore[operator]
        best = min(best, time.perf_counter() - start)
    return best


def threads() -> list[str]:
    """One thread against all, for a substep and for the triad."""
    most = numba.get_num_threads()
    found = []
    for count in (1, most):
        numba.set_num_threads(count)
        run = sloshing(64)
        found.append((triad(), sum(substeps(run, 6, 7).values())))
    gain, own = found[0][1] / found[1][1], found[1][0] / found[0][0]
    return [f"{most} threads do a substep {gain:.2f} times as fast as one, the triad {own:.2f} times."]


def memory() -> list[str]:
    """What a process of its own holds."""
    command = [sys.executable, "-m", "benchmarks.memory"]
    return ["Memory: " + "; ".join(subprocess.check_output(command, text=True).splitlines()) + "."]


def main() -> None:
    """Measure and write the page."""
    keep_memory()
    lines = [
        "# Speed, as measured",
        "",
        "Written by `./zinc bench`; the figures are of the machine that ran it last.",
        "",
        f"- {platform.machine()}, {os.cpu_count()} cores, {numba.config.NUMBA_NUM_THREADS} threads, "
        f"Python {platform.python_version()}, Numba {numba.__version__}",
    ]
    bandwidth = triad()
    lines += [f"- memory triad: {bandwidth:.1f} GB/s", "", "## A substep, ns per particle", ""]
    table: dict[str, list[float]] = {}
    counts, each = [], []
    sizes = (64, 100, 159, 216) if "--large" in sys.argv else (64, 100, 159)
    for cells in sizes:
        run = sloshing(cells)
        split = substeps(run, 12 if cells < 128 else 4, 7)
        n = len(run.state.particles)
        counts.append(n)
        each.append(sum(split.values()))
        for name, seconds in split.items():
            table.setdefault(name, []).append(seconds / n * 1e9)
        if cells == 100:
            held = run
    lines += ["| step | " + " | ".join(f"{n:,} particles" for n in counts) + " |", "|---|" + "---|" * len(counts)]
    lines += [f"| {name} | " + " | ".join(f"{v:.0f}" for v in values) + " |" for name, values in table.items()]
    totals = [sum(v[i] for v in table.values()) for i in range(len(counts))]
    lines += ["| **all** | " + " | ".join(f"**{t:.0f}**" for t in totals) + " |"]
    lines += ["| seconds per substep | " + " | ".join(f"{s:.3f}" for s in each) + " |"]
    floor = 64 / bandwidth
    lines += [
        "",
        f"Reading and writing a particle's 64 bytes once takes {floor:.1f} ns at the triad's speed; "
        f"particles to grid takes {table['particles to grid'][-1] / floor:.0f} times that.",
        "",
        *threads(),
        "",
        *memory(),
        "",
        "## Pressure against a general library",
        "",
    ]
    run = held
    layout = run.world.layout
    particles, tiling = sorted_particles(run.state.particles, layout)
    tiles = tiling.surroundings(4)
    solids = run.solid_world.at(tiles, 0.0, 0.01)
    phi = levelset.level_set(levelset.density(particles, tiling, tiles), solids)
    system = pressure.assemble(phi, solids)
    right = np.random.default_rng(0).normal(size=len(system.cell))
    mine = best_of(lambda: poisson.Solver(system).solve(right, 1e-6), 3)
    matrix = system.as_csr()
    other = best_of(lambda: cg(matrix, right, rtol=1e-6), 1)
    amg = best_of(lambda: pyamg.smoothed_aggregation_solver(matrix).solve(right, tol=1e-6, accel="cg"), 1)
    cells = len(right)
    lines += [
        f"{cells:,} liquid cells, residual 1e-6: ours {mine / cells * 1e9:.0f} ns per cell, SciPy's CG without "
        f"preconditioner {other / cells * 1e9:.0f} ns per cell, {other / mine:.1f} times ours; PyAMG's smoothed "
        f"aggregation with CG (one thread) {amg / cells * 1e9:.0f}, {amg / mine:.1f} times ours; all with set-up.",
        "",
        "## Surface",
        "",
    ]
    position = layout.to_metres(particles.position)
    volume = particles.volume * np.float32(layout.dx**3)
    settings = SurfaceSettings()
    spacing = layout.dx / 2

    def whole() -> None:
        surface_frame(position, particles.velocity, volume, spacing, layout.dx / 2, settings)

    whole()
    seconds = best_of(whole, 3)
    x, y, z = np.meshgrid(*[np.linspace(-1, 1, 200, dtype=np.float32)] * 3, indexing="ij")
    field = (np.sqrt(x * x + y * y + z * z) - 0.8).astype(np.float32)
    polygonise(field)
    own = best_of(lambda: polygonise(field))
    skimage = best_of(lambda: marching_cubes(field, 0.0), 3)
    lines += [
        f"- a frame of {len(position):,} particles: {seconds:.2f} s, {seconds / len(position) * 1e9:.0f} ns each",
        f"- marching cubes of 200^3: {own / field.size * 1e9:.1f} ns per voxel, scikit-image (with normals) "
        f"{skimage / field.size * 1e9:.1f}, {skimage / own:.1f} times ours",
        "",
    ]
    text = "\n".join(lines)
    PAGE.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
