"""``./zinc bench``: time per particle of each solver step and per voxel of meshing, beside the memory's speed.

Writes docs/performance.md (`--large` adds ten million particles). All in one run, so that the machine's
drift does not enter the ratios.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

import numba
import numpy as np
import pyamg
from numba import njit, prange
from scipy import fft
from scipy.ndimage import map_coordinates
from scipy.sparse import diags
from scipy.sparse.linalg import cg
from scipy.spatial import cKDTree
from skimage.measure import marching_cubes

from basin import keep_memory
from basin.grid import poisson
from basin.grid.layout import PAD
from basin.grid.tiles import tile_set, tiles_near
from basin.liquid import levelset, parting, pressure, step, transfer
from basin.liquid.sorting import Arranged, sorted_particles
from basin.liquid.step import Liquid
from basin.liquid.viscosity import Viscous
from basin.liquid.world import Tally
from basin.scene import parse_scene
from basin.sea.field import STRETCHES, Sea
from basin.sea.foam import Foam, Law
from basin.sea.folding import jacobian
from basin.sea.settings import SeaSettings, WaveSet
from basin.stages.air_stage import frame_potentials, grid_of
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles
from basin.stages.liquid_stage import frame_arrays
from basin.surface.cloud import Cloud, Reach
from basin.surface.field import Points, particle_field
from basin.surface.mesh import surface_frame
from basin.surface.polygonise import polygonise
from basin.surface.settings import SurfaceSettings
from basin.whitewater.fields import Between
from basin.whitewater.laws import Fluids
from basin.whitewater.life import BUBBLE, FOAM, KINDS, SPRAY, Around, Life, Whitewater, depth_at
from basin.whitewater.potentials import REACH
from basin.whitewater.settings import Layer
from benchmarks import warp_transfers
from tests.reference.small import crown
from tests.reference.tanks import CLOSED, box_collider, box_fill, liquid
from tests.reference.thick import assembled

STEP = 1 / 240  # s, of a frame of whitewater that is one substep
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


def pool_document(cells: int, plate: float = 0.0, viscosity: float = 0.0) -> dict[str, Any]:
    """A tank a third full, in motion, `cells` voxels long: about `cells`^3 particles.

    Parameters
    ----------
    plate : thickness in voxels of a slanting plate in the water; 0 for none
    viscosity : of the liquid, Pa s
    """
    dx = 1.0 / cells
    fill: dict[str, Any] = {
        "kind": "fill",
        "name": "w",
        "shape": {"kind": "box", "size": [0.5, 0.5, 0.5]},
        "pose": {"translation": [0.25, 0.25, 0.25]},
        "velocity": [1.5, 0.5, 0.5],
        "viscosity": viscosity,
    }
    document: dict[str, Any] = {
        "format": "zinc-scene/1",
        "domain": {"low": [0, 0, 0], "size": [1, 0.75, 0.5]},
        "liquid": {"voxel_size": dx},
        "elements": [fill],
    }
    if plate > 0:
        pose = {"translation": [0.5, 0.25, 0.25], "rotation": [0, 20, 35]}
        shape = {"kind": "box", "size": [plate * dx, 0.5, 0.3]}
        document["elements"] = [fill, {"kind": "collider", "name": "plate", "shape": shape, "pose": pose}]
    return document


def sloshing(cells: int, plate: float = 0.0, viscosity: float = 0.0) -> Liquid:
    """The pool on its first frame."""
    scene = parse_scene(pool_document(cells, plate, viscosity))
    run = Liquid(liquid_world(scene, SceneFiles(Path(".")), "final"))
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


def small() -> list[str]:
    """Substeps of as few particles as rehearsals and drafts have."""
    most = numba.get_num_threads()
    lines = [
        "The same pool with as few particles as rehearsals and drafts have (20 thousand in 12 ms asked):",
        "",
        f"| particles | ms a substep, one thread | {most} threads |",
        "|---|---|---|",
    ]
    for cells in (22, 27, 37):
        took = []
        for count in (1, most):
            numba.set_num_threads(count)
            run = sloshing(cells)
            took.append(1e3 * sum(substeps(run, 10, 41).values()))
        lines.append(f"| {len(run.state.particles):,} | {took[0]:.1f} | {took[1]:.1f} |")
    return lines


def memory() -> list[str]:
    """What a process of its own holds."""
    command = [sys.executable, "-m", "benchmarks.memory"]
    return ["Memory: " + "; ".join(subprocess.check_output(command, text=True).splitlines()) + "."]


def domains() -> list[str]:
    """The same liquid, a block that collapses on an open floor, in domains of several sizes."""
    lines = [
        "The same liquid in domains of several sizes; the index of tiles is the only array of the domain's size.",
        "",
        "| domain, voxels | particles | tiles | index, MB | seconds a substep |",
        "|---|---|---|---|---|",
    ]
    for side in (0.3, 0.6, 2.0):
        block = {
            "kind": "fill",
            "name": "block",
            "shape": {"kind": "box", "size": [0.04, 0.04, 0.04]},
            "pose": {"translation": [side / 2, 0.02, side / 2]},
        }
        document = {
            "format": "zinc-scene/1",
            "domain": {"low": [0, 0, 0], "size": [side] * 3},
            "liquid": {"voxel_size": 0.001},
            "elements": [block],
        }
        run = Liquid(liquid_world(parse_scene(document), SceneFiles(Path(".")), "final"))
        run.begin()
        seconds = sum(substeps(run, 6, 15).values())
        tiles = run.fields(0.0).tiles
        size = " x ".join(str(c) for c in run.world.layout.inner)
        held = f"{len(run.state.particles):,} | {len(tiles)} | {tiles.where.nbytes / 1e6:.1f}"
        lines.append(f"| {size} | {held} | {seconds:.3f} |")
    return lines


def plates() -> list[str]:
    """What a wall thinner than a voxel costs."""
    free, thick, thin = (sum(substeps(sloshing(64, plate=p), 6, 9).values()) for p in (0.0, 1.5, 0.3))
    return [
        f"A slanting plate in the pool of 262 k particles: {thick / free:.2f} times the time of the free pool at a "
        f"thickness of 1.5 voxels, held by the grid, and {thin / free:.2f} times at 0.3 voxels, held by rays."
    ]


def noise(system: pressure.System) -> np.ndarray:
    """A right side for every unknown."""
    right = system.values()
    places = system.places()
    right.reshape(-1)[places] = np.random.default_rng(0).normal(size=len(places))
    return right


def grown(cells: int) -> tuple[int, int, float]:
    """Liquid cells, iterations and seconds (with set-up) of the pressure in a half-full box with waves."""
    dx = 1.0 / cells
    empty = {
        "format": "zinc-scene/1",
        "domain": {"low": [0, 0, 0], "size": [1, 1, 1]},
        "liquid": {"voxel_size": dx},
        "elements": [
            {
                "kind": "collider",
                "name": "ball",
                "shape": {"kind": "sphere", "radius": 0.2},
                "pose": {"translation": [0.5, 0.4, 0.5]},
            }
        ],
    }
    run = Liquid(liquid_world(parse_scene(empty), SceneFiles(Path(".")), "final"))
    low = np.full((1, 3), PAD)
    tiles = tiles_near(run.world.layout, low, low + np.array([[cells, cells * 5 // 8, cells]]), 4)
    solids = run.solid_world.at(tiles, 0.0, 0.01)
    within = np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1).reshape(1, 512, 3)
    place = tiles.first[:, None, :] + within
    x, y, z = np.moveaxis((place - PAD + 0.5) / cells, -1, 0)
    phi = np.clip((y - 0.5 - 0.06 * np.cos(np.pi * x) * np.cos(2 * np.pi * z)) * cells, -3, 3).astype(np.float32)
    phi[0] = 3
    system = pressure.assemble(phi.reshape(tiles.field().shape), solids)
    right, count = noise(system), len(system.places())
    best, made = np.inf, None
    for _ in range(2):
        start = time.perf_counter()
        made = poisson.Solver(system).solve(right, 1e-6)
        best = min(best, time.perf_counter() - start)
    assert made and made.residual <= 1e-6
    return count, made.iterations, best


def first_frame() -> list[str]:
    """Seconds from the command to the first frame of a draft on disk, with warm kernels."""
    scene = Path(__file__).resolve().parent.parent / "demo" / "scenes" / "TM020.json"
    found = []
    for _ in range(2):  # the first one warms the cache of kernels
        with tempfile.TemporaryDirectory() as folder:
            command = [sys.executable, "-m", "basin", "run", str(scene), "--to", folder, "--quality", "draft"]
            start = time.perf_counter()
            subprocess.run([*command, "--stages", "liquid", "--frames", "1-1"], check=True, capture_output=True)
            found.append(time.perf_counter() - start)
            start = time.perf_counter()
            subprocess.run([*command, "--frames", "1-3"], check=True, capture_output=True)
            found.append(time.perf_counter() - start)
    return [
        f"TM020 as a draft, kernels compiled: first frame on disk {found[2]:.1f} s after the command, and the next two "
        f"with three surfaces {found[3]:.1f} s after another one."
    ]


def split_by_step(large: bool, bandwidth: float) -> tuple[list[str], Liquid]:
    """A table of ns per particle at several sizes; and the pool of a million particles, in motion."""
    table: dict[str, list[float]] = {}
    counts, each, held = [], [], None
    for cells in (64, 100, 159, 216) if large else (64, 100, 159):
        run = sloshing(cells)
        split = substeps(run, 12 if cells < 128 else 4, 7)
        n = len(run.state.particles)
        counts.append(n)
        each.append(sum(split.values()))
        for name, seconds in split.items():
            table.setdefault(name, []).append(seconds / n * 1e9)
        held = run if cells == 100 else held
    assert held
    totals = [sum(v[i] for v in table.values()) for i in range(len(counts))]
    floor = 64 / bandwidth
    lines = [
        "| step | " + " | ".join(f"{n:,} particles" for n in counts) + " |",
        "|---|" + "---|" * len(counts),
        *(f"| {name} | " + " | ".join(f"{v:.0f}" for v in values) + " |" for name, values in table.items()),
        "| **all** | " + " | ".join(f"**{t:.0f}**" for t in totals) + " |",
        "| seconds per substep | " + " | ".join(f"{s:.3f}" for s in each) + " |",
        "",
        f"Reading and writing a particle's 64 bytes once takes {floor:.1f} ns at the triad's speed; "
        f"particles to grid takes {table['particles to grid'][-1] / floor:.0f} times that.",
    ]
    return lines, held


def transfers(run: Liquid) -> list[str]:
    """Particles to grid and back beside the same in another compiler."""
    particles, tiling = sorted_particles(run.state.particles.copy(), run.world.layout)
    tiles = tiling.surroundings(4)
    n = len(particles)
    there, back, momenta = warp_transfers.seconds(particles, run.world.layout.cells)
    velocity, mass = transfer.to_grid(particles, tiling, tiles)
    own = best_of(lambda: transfer.to_grid(particles, tiling, tiles))
    dense = [tiles.dense(v) * tiles.dense(m) for v, m in zip(velocity, mass, strict=True)]
    apart = max(float(np.abs(a - b).max() / np.abs(b).max()) for a, b in zip(dense, momenta, strict=True))
    grid = (Arranged(particles, tiling, tiles), velocity, velocity, 0.0, np.zeros(n, bool), np.zeros(3))
    own_back = best_of(lambda: transfer.to_particles(*grid))
    ours, theirs = (own / n * 1e9, own_back / n * 1e9), (there / n * 1e9, back / n * 1e9)
    version = warp_transfers.wp.__version__
    return [
        f"{n:,} sorted particles, affine: to the grid {ours[0]:.0f} ns a particle, back {ours[1]:.0f}. The same in "
        f"Warp {version} on the CPU (one thread, atomic sums): {theirs[0]:.0f} and {theirs[1]:.0f}, "
        f"{there / own:.1f} and {back / own_back:.1f} times ours; the momenta on the grid differ by {apart:.0e} of the "
        "largest.",
    ]


def pressures(run: Liquid) -> list[str]:
    """Our solver beside general ones, and at three sizes."""
    particles, tiling = sorted_particles(run.state.particles, run.world.layout)
    tiles = tiling.surroundings(4)
    solids = run.solid_world.at(tiles, 0.0, 0.01)
    phi = levelset.level_set(levelset.density(particles, tiling, tiles), solids)
    system = pressure.assemble(phi, solids)
    right, places = noise(system), system.places()
    mine = best_of(lambda: poisson.Solver(system).solve(right, 1e-6), 3)
    matrix, right = system.as_csr(), right.reshape(-1)[places]
    other = best_of(lambda: cg(matrix, right, rtol=1e-6), 1)
    amg = best_of(lambda: pyamg.smoothed_aggregation_solver(matrix).solve(right, tol=1e-6, accel="cg"), 1)
    cells = len(right)
    lines = [
        f"{cells:,} liquid cells, residual 1e-6: ours {mine / cells * 1e9:.0f} ns per cell, SciPy's CG without "
        f"preconditioner {other / cells * 1e9:.0f} ns per cell, {other / mine:.1f} times ours; PyAMG's smoothed "
        f"aggregation with CG (one thread) {amg / cells * 1e9:.0f}, {amg / mine:.1f} times ours; all with set-up.",
        "",
        "A half-full box with waves and a ball, noise as the right side, to a true residual of 1e-6:",
        "",
        "| voxels | liquid cells | iterations | ns per cell, with set-up |",
        "|---|---|---|---|",
    ]
    for size in (64, 128, 256):
        count, iterations, seconds = grown(size)
        lines.append(f"| {size}^3 | {count:,} | {iterations} | {seconds / count * 1e9:.0f} |")
    return lines


class Beside(parting.Parting):
    """One that solves without parting first, and notes what both took."""

    found: ClassVar[list[tuple[float, ...]]] = []

    def __init__(self, *given: Any):
        begin = time.perf_counter()
        super().__init__(*given)
        self.setup = time.perf_counter() - begin

    def project(self, velocity: list[np.ndarray], kick: np.ndarray, *rest: Any) -> Any:  # type: ignore[override]
        own, cells = [field.copy() for field in velocity], len(self.system.places())
        begin = time.perf_counter()
        _, alone = pressure.project(self.system, self.surface, self.solids, own, kick)
        middle = time.perf_counter()
        result = super().project(velocity, kick, *rest)
        end = time.perf_counter()
        took = (1e3 * (self.setup + middle - begin), 1e3 * (self.setup + end - middle))
        self.found.append((cells, len(self.face), alone.iterations, result[1].iterations, *took))
        return result


def partings() -> list[str]:
    """Solves in which liquid may part from walls, beside single solves of the same right sides."""
    lines = [
        "Whole projections of the same velocities, set-up included, medians over six frames:",
        "",
        "| scene | liquid cells | faces parted from | iterations, one solve and parting | ms | ratio |",
        "|---|---|---|---|---|---|",
    ]
    dam = [box_fill((0, 0, 0), (0.6, 0.6, 0.5)), box_collider((1.2, 0, 0.15), (1.36, 0.16, 0.35), "box")]
    slot = [
        box_fill((0, 0.325, 0), (1, 0.825, 0.1)),
        box_collider((-0.2, 0.3, -0.2), (0.45, 0.325, 0.3), "left"),
        box_collider((0.55, 0.3, -0.2), (1.2, 0.325, 0.3), "right"),
    ]
    for name, run in (
        ("dam break against a box", liquid(0.0125, (2, 1, 0.5), dam)),
        ("jet through a slot", liquid(0.0125, (1, 1, 0.1), slot, {**CLOSED, "y_min": "open"}, substeps_max=64)),
    ):
        for frame in range(2, 9):
            run.advance_frame(frame)
        Beside.found.clear()
        with mock.patch.object(step, "Parting", Beside):
            for frame in range(9, 15):
                run.advance_frame(frame)
        cells, faces, once, parted, single, own = np.median(Beside.found, axis=0)
        told = f"| {name} | {cells:,.0f} | {faces:.0f} | {once:.0f}, {parted:.0f} | {single:.1f}, {own:.1f} |"
        lines.append(f"{told} {own / single:.2f} |")
    return lines


BYTES = 336  # that an iteration moves per cell at least: three vectors' fields read and written, weights read
STIFF = (1.0, 100.0, 10000.0)  # nu dt / dx^2


def viscous(bandwidth: float) -> list[str]:
    """The viscous step of a free block of 64^3 cells, beside the memory's speed and SciPy."""
    side = 64
    run = liquid(1.0, (side + 16.0,) * 3, [box_fill((0, 0, 0), (1, 1, 1))], dict.fromkeys(CLOSED, "open"))
    layout = run.world.layout
    tiles = tile_set(layout, np.arange(int(np.prod(layout.tiles))))
    solids = run.solid_world.at(tiles, 0.0, 0.01)
    cell = tiles.first[:, None, None, None, :] + np.stack(np.meshgrid(*[np.arange(8)] * 3, indexing="ij"), axis=-1)
    off = np.abs(cell + 0.5 - (PAD + 8 + side / 2)).max(axis=-1) - side / 2
    phi = np.clip(off, -2.5, 2.5).astype(np.float32)
    cells = side**3
    lines = [
        f"A free block of {side}^3 cells, noise as its flow, to a true residual of 1e-6:",
        "",
        "| nu dt / dx^2 | iterations | ms per 1,000 cells | ns per cell and iteration | times the memory's limit |",
        "|---|---|---|---|---|",
    ]
    noisy = [np.random.default_rng(d).standard_normal(phi.shape).astype(np.float32) for d in range(3)]
    for stiff in STIFF:
        matrix = Viscous(phi, tiles.field(stiff), solids, 1.0)

        def step(matrix: Viscous = matrix) -> None:
            matrix.damp([u.copy() for u in noisy])

        taken = matrix.damp([u.copy() for u in noisy]).iterations
        seconds = best_of(step, 2 if stiff < 1e3 else 1)
        each = seconds / cells / taken * 1e9
        limit = BYTES / bandwidth
        lines.append(f"| {stiff:g} | {taken} | {seconds / cells * 1e6:.2f} | {each:.0f} | {each / limit:.1f} |")
    matrix = Viscous(phi, tiles.field(100.0), solids, 1.0)
    mine = best_of(lambda: matrix.damp([u.copy() for u in noisy]), 1)
    whole, free = assembled(matrix)
    mass = np.stack([tiles.dense(f) for f in matrix._mass])[free]
    right = mass * np.stack([tiles.dense(f) for f in noisy])[free]
    jacobi = diags(1.0 / whole.diagonal())
    other = best_of(lambda: cg(whole, right, rtol=1e-6, M=jacobi), 1)
    return [
        *lines,
        "",
        f"At 100, SciPy's CG with the same diagonal on the assembled matrix takes {other / mine:.1f} times as long "
        "(one thread, its assembly left out).",
    ]


def tensions() -> list[str]:
    """Substeps of a crown with and without surface tension."""
    lines = [
        "A quarter of a crown (case C14), 24 voxels to the drop, frames 3 to 8: what tension adds to a substep (less",
        "than half asked), and to their number.",
        "",
        "| surface tension | particles | substeps | ms a substep | of it tension's |",
        "|---|---|---|---|---|",
    ]
    for tense in (False, True):
        run = crown(24, tense)
        run.advance_frame(2)
        count, split = 0, 0.0
        begin = time.perf_counter()
        for frame in range(3, 9):
            made = run.advance_frame(frame)
            assert made is not None
            count, split = count + made[1].substeps, split + made[1].split["tension"]
        took = time.perf_counter() - begin
        name = "0.0728 N/m" if tense else "none"
        number = len(run.state.particles)
        lines.append(f"| {name} | {number:,} | {count} | {1e3 * took / count:.0f} | {100 * split / took:.1f} % |")
    return lines


def surfaces(run: Liquid, bandwidth: float) -> list[str]:
    """Meshing of the pool by its parts against the memory's speed, and marching cubes beside general libraries."""
    particles, layout = run.state.particles, run.world.layout
    position = layout.to_metres(particles.position)
    volume = particles.volume * np.float32(layout.dx**3)
    spacing = layout.dx / 2
    points = Points(position, volume, spacing, {"velocity": particles.velocity})
    made = particle_field(points, spacing, SurfaceSettings(filters=[]))
    assert made
    grid = (made.low, spacing, made.parts[0].phi.shape)
    shell = len(Cloud.about(position, volume, None, grid, Reach(2 * spacing, 2 * spacing)).some)
    lines = [
        f"{len(position):,} particles, {shell:,} of them in the shell near the surface, surface voxel half of the "
        "liquid's, kernels of 2 spacings, no filters; sorting and telling the shell are in:",
        "",
        "| method | field, ns per particle of the shell | of all | whole frame, s |",
        "|---|---|---|---|",
    ]
    for method in ("density", "anisotropic", "averaged", "spheres"):
        settings = SurfaceSettings(method=method, filters=[])
        particle_field(points, spacing, settings)
        field = best_of(lambda settings=settings: particle_field(points, spacing, settings), 3)
        surface_frame(points, spacing, settings)
        whole = best_of(lambda settings=settings: surface_frame(points, spacing, settings), 3)
        lines.append(f"| {method} | {field / shell * 1e9:.0f} | {field / len(position) * 1e9:.0f} | {whole:.2f} |")
    nodes = 4 / 3 * np.pi * 2.0**3  # that a kernel of two spacings reaches, one apart
    floor = nodes * 8 / bandwidth
    lines += [
        "",
        f"A kernel reaches {nodes:.0f} nodes; reading and writing those once takes {floor:.0f} ns a particle at the "
        "triad's speed.",
        "",
        *_marching(),
    ]
    return lines


def _marching() -> list[str]:
    """Our marching cubes beside scikit-image's and VTK's flying edges, on the same field."""
    import vtk
    from vtk.util.numpy_support import numpy_to_vtk

    size = 256
    x, y, z = np.meshgrid(*[np.linspace(-1, 1, size, dtype=np.float32)] * 3, indexing="ij")
    field = (np.sin(7 * x) * np.cos(6 * y) + np.sin(6 * y) * np.cos(7 * z) + np.sin(7 * z) * np.cos(6 * x)).astype(
        np.float32
    )
    field = np.maximum(field, np.sqrt(x * x + y * y + z * z) - np.float32(0.9))
    own_triangles = len(polygonise(field)[1])
    own = best_of(lambda: polygonise(field))
    skimage = best_of(lambda: marching_cubes(field, 0.0), 3)
    image = vtk.vtkImageData()
    image.SetDimensions(size, size, size)
    image.GetPointData().SetScalars(numpy_to_vtk(field.ravel(order="F"), deep=True))

    def flying() -> int:
        edges = vtk.vtkFlyingEdges3D()
        edges.SetInputData(image)
        edges.SetValue(0, 0.0)
        edges.ComputeNormalsOff()
        edges.ComputeGradientsOff()
        edges.ComputeScalarsOff()
        edges.Update()
        return int(edges.GetOutput().GetNumberOfPolys())

    theirs = flying()
    other = best_of(flying)
    return [
        f"Marching cubes of {size}^3, {own_triangles:,} triangles: ours {own * 1000:.0f} ms; VTK's flying edges "
        f"{other * 1000:.0f} ms ({theirs:,} triangles), {other / own:.2f} times ours; scikit-image (with normals) "
        f"{skimage * 1000:.0f} ms, {skimage / own:.1f} times ours.",
    ]


LOOKED = 3 * (10 * 4) + 2 * 24 + 4 * 4  # bytes that a particle's sums move at least: its row, read for three columns


def airs(run: Liquid, bandwidth: float) -> list[str]:
    """Potentials of a frame's particles, beside the memory's speed and SciPy's neighbours."""
    data = frame_arrays(run, run.fields(0.0))
    lines = ["| particles | ns a particle | times the memory's limit |", "|---|---|---|"]
    every = len(data["id"])
    for count in (every // 8, every):
        some = {n: v[:count] if v.shape[:1] == (every,) else v for n, v in data.items()}
        frame_potentials(some, 1.0)
        each = best_of(lambda some=some: frame_potentials(some, 1.0), 3) / count * 1e9  # type: ignore[misc]
        lines.append(f"| {count:,} | {each:.0f} | {each / (LOOKED / bandwidth):.0f} |")
    along = data["position"][:, 0]
    few = np.flatnonzero(np.abs(along - along.mean()) < 0.1 * np.ptp(along))
    place, flow = data["position"][few].astype(float), data["velocity"][few].astype(float)
    reach = REACH * float(data["particle_spacing"])

    def library() -> np.ndarray:
        pair = cKDTree(place).query_pairs(reach, output_type="ndarray")
        way, rate = place[pair[:, 0]] - place[pair[:, 1]], flow[pair[:, 0]] - flow[pair[:, 1]]
        far = np.linalg.norm(way, axis=1)
        value = (np.linalg.norm(rate, axis=1) - (way * rate).sum(axis=1) / np.maximum(far, 1e-12)) * (1 - far / reach)
        return np.bincount(pair.ravel(), np.repeat(value, 2), len(place))

    own = {n: v[few] if v.shape[:1] == (every,) else v for n, v in data.items()}
    ours, other = best_of(lambda: frame_potentials(own, 1.0), 2), best_of(library, 1)
    return [
        *lines,
        "",
        f"Of {len(few):,} of them, SciPy's neighbours and NumPy's sums of the first potential alone take "
        f"{other / ours:.0f} times as long as all four (one thread).",
    ]


LIVED = 3 * (12 + 12 + 12) + 9 * 4 + 3 + 2 * (4 + 4 + 1)  # bytes that a particle of whitewater and step move at least


def whites(run: Liquid, bandwidth: float) -> list[str]:
    """A substep of whitewater amid a pool, by kind and number, beside the memory's speed and SciPy's interpolation."""
    grid = grid_of(frame_arrays(run, run.fields(0.0)), 1.0)
    layer, fluids, rng = Layer(bursts=0.0, foam_life=3600.0), Fluids(), np.random.default_rng(1)
    low = grid.low + grid.voxel * PAD
    size = np.array(run.world.layout.inner) * grid.voxel
    wide = np.full(3, 1e3)
    around = Around(
        *(grid, grid, STEP, np.array([0.0, -9.80665, 0.0]), low - wide, low + wide),
        *(np.zeros((3, 2), bool), np.zeros(3, bool)),
    )

    def some(kind: int, count: int) -> Whitewater:
        place = np.concatenate([rng.uniform(low, low + size, (count, 3)) for _ in range(12)])
        depth = depth_at(grid, place)
        fits = {SPRAY: depth < -2.0, FOAM: np.abs(depth) < 0.5, BUBBLE: depth > 2.0}[kind]
        place = np.resize(place[fits], (count, 3)).astype(np.float32)
        zero = np.zeros(count, np.float32)
        radius = rng.uniform(3e-4, 3e-3, count).astype(np.float32)
        byte, seen = np.zeros(count, np.uint8), np.zeros((count, 3), np.float32)
        kinds, ids = np.full(count, kind, np.uint8), np.arange(count)
        return Whitewater(place, seen, ids, byte, radius, zero, zero + 50, zero, kinds, byte, seen, zero)

    def step(state: Whitewater) -> float:
        life = Life([layer], fluids, state)
        none, count = state.only(np.zeros(0, np.int64)), len(state)
        life.frame(around, none)  # it lies in order from then on, as it does along a shot

        def once() -> None:
            life.frame(around, none)

        return best_of(once, 3) / count * 1e9

    lines = ["| kind | particles | ns a particle and step | times the memory's limit |", "|---|---|---|---|"]
    for kind, name in enumerate(KINDS):
        for count in (1_000_000, 4_000_000):
            each = step(some(kind, count))
            lines.append(f"| {name} | {count:,} | {each:.0f} | {each / (LIVED / bandwidth):.0f} |")
    held, foam = numba.get_num_threads(), some(FOAM, 1_000_000)
    by_threads = []
    for threads in (1, held):
        numba.set_num_threads(threads)
        by_threads.append(f"{step(foam):.0f} ns with {threads}")
    numba.set_num_threads(held)
    between = Between(grid, grid)
    laid = best_of(lambda: between.at(0.5, 1.0), 3)
    dense = rng.normal(size=tuple(int(n) for n in run.world.layout.inner)).astype(np.float32)
    cell = ((foam.position - low) / grid.voxel).T.astype(np.float64)
    other = best_of(lambda: [map_coordinates(dense, cell, order=1, mode="nearest") for _ in range(4)], 2)
    return [
        *lines,
        "",
        f"Foam by threads: {', '.join(by_threads)}. Laying the fields of a substep out takes {laid * 1000:.1f} ms "
        f"besides, of {len(between.first) - 1:,} tiles. SciPy's linear interpolation of the three velocities and the "
        f"level alone, once, takes {other / 1e6 * 1e9:.0f} ns a particle (one thread).",
    ]


def _sea_row(count: int, bandwidth: float) -> str:
    sea = Sea(SeaSettings(made=True, sets=[WaveSet(size=256.0, resolution=count)], hero=None))
    (moving,) = sea.moving(1)
    law = Law(1.5, 6.0, 0.4, 0.02, np.array([0.2, 0.0]))
    frame = best_of(lambda: jacobian(moving.fields(3.0)[STRETCHES], 1.0), 5)
    turn = best_of(lambda: moving.transforms(3.0), 5)
    bare = np.inf
    for _ in range(5):
        given = moving.transforms(3.0)
        start = time.perf_counter()
        fft.irfft2(given, axes=(1, 2), norm="forward", workers=2, overwrite_x=True)
        bare = min(bare, time.perf_counter() - start)
    squeeze, lying = jacobian(moving.fields(3.0)[STRETCHES], 1.0), Foam(256.0, count)
    step = best_of(lambda: lying.step(squeeze, 0.4, law, 1 / 24), 5)
    moved = moving.a.nbytes * 2 + moving.patch.omega.nbytes + moving.transforms(3.0).nbytes
    limits = turn / moved * bandwidth * 1e9
    times = f"{1000 * frame:.1f} | {1000 * bare:.1f} | {frame / bare:.2f} | {limits:.1f} | {1000 * step:.1f}"
    return f"| {count}^2 | {times} |"


def seas(bandwidth: float) -> list[str]:
    """A frame of a sea with all outputs against its bare transforms, and its foam; memory."""
    lines = [
        "All of heights, displacements, slopes, stretches, velocities (11 real transforms), with the Jacobian;",
        "the same transforms alone by the same library, in the same run.",
        "",
        "| points | ms a frame | transforms | ratio | turning waves, times the memory's limit | foam, ms a step |",
        "|---|---|---|---|---|---|",
    ]
    lines += [_sea_row(count, bandwidth) for count in (512, 1024, 2048)]
    return [*lines, "", "Asked: 1.5 times the transforms at 2048^2."]


def replaced(page: str, title: str, lines: list[str]) -> str:
    """The page with the lines under one heading exchanged."""
    before, after = page.split(f"## {title}\n", 1)
    rest = after.split("\n## ", 1)
    return f"{before}## {title}\n\n" + "\n".join(lines) + "\n" + (f"\n## {rest[1]}" if len(rest) > 1 else "")


def main() -> None:
    """Measure and write the page, or with ``--only`` and the first word of a heading that part of it."""
    keep_memory()
    made: list[Liquid] = []

    def pool() -> Liquid:
        if not made:
            made.append(sloshing(100))
            substeps(made[0], 12, 7)
        return made[0]

    def split() -> list[str]:
        lines, run = split_by_step("--large" in sys.argv, bandwidth)
        made.append(run)
        return lines

    bandwidth = triad()
    parts: dict[str, Callable[[], list[str]]] = {
        "A substep, ns per particle": split,
        "Small scenes": small,
        "Threads and memory": lambda: [*threads(), "", *memory()],
        "Domains, thin walls": lambda: [*domains(), "", *plates()],
        "First frame": first_frame,
        "Transfers against another compiler": lambda: transfers(pool()),
        "Pressure against general libraries": lambda: pressures(pool()),
        "Parting from walls": partings,
        "Viscosity": lambda: viscous(bandwidth),
        "Tension": tensions,
        "Surface": lambda: surfaces(pool(), bandwidth),
        "Air": lambda: airs(pool(), bandwidth),
        "Whitewater": lambda: whites(pool(), bandwidth),
        "Sea": lambda: seas(bandwidth),
    }
    chosen = [sys.argv[i + 1] for i, a in enumerate(sys.argv[:-1]) if a == "--only"]
    if sys.argv[1:] and not chosen and sys.argv[1:] != ["--large"]:
        sys.exit(
            f"bench: {' '.join(sys.argv[1:])!r} is no option of it; use --large, or --only with a heading's first word"
        )
    if chosen:
        word = chosen[0]
        if not any(title.startswith(word) for title in parts):
            sys.exit(f"bench: no heading begins with {word!r}; there are {', '.join(parts)}")
        text = PAGE.read_text(encoding="utf-8")
        for title, part in parts.items():
            if title.startswith(word):
                text = replaced(text, title, part())
    else:
        lines = [
            "# Speed, as measured",
            "",
            "Written by `./zinc bench`; the figures are of the machine that ran it last.",
            "",
            f"- {platform.machine()}, {os.cpu_count()} cores, {numba.config.NUMBA_NUM_THREADS} threads, "
            f"Python {platform.python_version()}, Numba {numba.__version__}",
            f"- memory triad: {bandwidth:.1f} GB/s",
        ]
        for title, part in parts.items():
            lines += ["", f"## {title}", "", *part()]
        text = "\n".join(lines) + "\n"
        for section in PAGE.read_text(encoding="utf-8").split("\n## ")[1:]:  # others' stay as they are
            if section.partition("\n")[0] not in parts:
                text += f"\n## {section.rstrip()}\n"
    PAGE.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
