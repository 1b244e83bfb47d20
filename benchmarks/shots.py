"""``./zinc bench --shots``: the demo's meshes along their shots; writes its part of docs/validation.md.

Every frame at draft, with ``--proof`` at proof too, with ``--stress`` those of the stress shots: volume against the
liquid's, what is too small to be drawn as more than spray, holes on walls that open and close at once, and by how much
a film that hardly moves flickers. ``--only TEXT`` measures shots whose name has that text anew; ``--kept FOLDER`` takes
liquids that are current from there, where each shot has a folder of its number.
"""

from __future__ import annotations

import sys
import tempfile
import time as clock
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import trimesh
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from basin.cache import Cache, StageCache
from basin.geometry.mesh import vertex_normals
from basin.scene import load_scene
from basin.stages.files import SceneFiles
from basin.stages.run import run
from basin.stages.surface_stage import SurfaceWorld
from basin.surface.filters import Solids
from basin.surface.health import health
from basin.surface.mesh import SurfaceFrame, surface_frame

SHOTS = Path(__file__).resolve().parent.parent / "demo" / "scenes"
PAGE = Path(__file__).resolve().parent.parent / "docs" / "validation.md"
BEGIN, END = "<!-- shots: begin -->", "<!-- shots: end -->"
BRIEF = 3  # frames within which a hole that opens and closes is a fault
OFF_WALL = 0.25  # voxels from a wall: where it is looked at whether liquid lies on it
OVER_WALL = (0.25, 0.5, 0.75, 1.0, 1.25, 1.5)  # voxels: liquid at any of these covers it
CALM = 0.1  # voxels a frame: what moves less is calm
ON_WALL = 1.0  # voxels: calm mesh nearer to a wall than this is a film's
HEAD = (
    "| shot | quality | worst volume | frames off by over 3 % | left as spray, most | in layers, most | holes that "
    "pop | pockets that do | flicker, voxels, 95 of 100 | holes at the end | seconds, median | most |"
)


@dataclass
class Coverage:
    """Which places next to walls liquid covered, frame by frame."""

    places: list[np.ndarray] = field(default_factory=list)  # int (n, 3) of nodes next to walls
    covered: list[np.ndarray] = field(default_factory=list)  # bool (n,)

    def holes(self) -> int:
        """Patches that were covered, were bare for at most `BRIEF` frames with liquid all round, and are covered."""
        if len(self.places) < 3:
            return 0
        low = np.min([p.min(axis=0) for p in self.places if len(p)], axis=0)
        size = np.max([p.max(axis=0) for p in self.places if len(p)], axis=0) - low + 3
        number = [np.ravel_multi_index(tuple((p - low + 1).T), tuple(size)) for p in self.places]
        every = np.unique(np.concatenate(number))
        state = np.full((len(number), len(every)), -1, np.int8)  # unknown, bare, covered
        for row, (own, wet) in enumerate(zip(number, self.covered, strict=True)):
            state[row, np.searchsorted(every, own)] = wet
        brief = np.zeros(state.shape, bool)
        for length in range(1, BRIEF + 1):
            for begin in range(1, len(state) - length):
                gone = (state[begin : begin + length] == 0).all(axis=0)
                brief[begin : begin + length] |= gone & (state[begin - 1] == 1) & (state[begin + length] == 1)
        frame, at = np.nonzero(brief)
        if len(frame) == 0:
            return 0
        place = np.stack([frame, *np.unravel_index(every[at], tuple(size))], axis=1)
        pair = cKDTree(place).query_pairs(1.01, p=np.inf, output_type="ndarray")
        graph = coo_matrix((np.ones(len(pair)), (pair[:, 0], pair[:, 1])), shape=(len(place), len(place)))
        _, group = connected_components(graph, directed=False)
        step = np.stack(np.meshgrid(*[[-1, 0, 1]] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
        open_to = np.zeros(group.max() + 1, bool)
        for way in step:  # a patch next to one that stays bare is a rim that moves, no hole
            beside = np.ravel_multi_index(tuple((place[:, 1:] + way).T), tuple(size))
            row = np.minimum(np.searchsorted(every, beside), len(every) - 1)
            bare = (every[row] == beside) & (state[frame, row] == 0) & ~brief[frame, row]
            np.logical_or.at(open_to, group[bare], True)
        return int((~open_to).sum())


@dataclass
class Along:
    """What is found along a shot."""

    first: int
    error: list[float] = field(default_factory=list)
    spray: list[float] = field(default_factory=list)
    layers: list[float] = field(default_factory=list)
    took: list[float] = field(default_factory=list)
    flicker: list[np.ndarray] = field(default_factory=list)
    wall: Coverage = field(default_factory=Coverage)  # what is seen of it through holes
    beneath: Coverage = field(default_factory=Coverage)  # the wall itself, bare in pockets beneath liquid too
    handles: int = 0  # of the last frame's mesh: holes through a film, mostly

    def row(self, name: str, quality: str) -> str:
        """The table's line."""
        error = np.array(self.error)
        worst = int(np.abs(error).argmax())
        flicker = np.concatenate([*self.flicker, np.zeros(0)])
        calm = f"{np.quantile(flicker, 0.95):.3f}" if len(flicker) else "-"
        far = int((np.abs(error) > 0.03).sum())
        return (
            f"| {name} | {quality} | {100 * error[worst]:+.2f} % ({self.first + worst}) | {far} "
            f"of {len(error)} | {100 * max(self.spray):.2f} % | {100 * max(self.layers):.0f} % | {self.wall.holes()} | "
            f"{max(self.beneath.holes() - self.wall.holes(), 0)} | {calm} | {self.handles} | "
            f"{np.median(self.took):.2f} | {max(self.took):.2f} |"
        )


def walls_near(solids: Solids, h: float, low: np.ndarray, high: np.ndarray) -> tuple[np.ndarray, ...]:
    """Nodes next to walls within a box, h metres apart, the places (m) on the walls beneath them, and normals."""
    first, after = np.floor(low / h).astype(int) - 1, np.ceil(high / h).astype(int) + 2
    node = np.stack(np.meshgrid(*map(np.arange, first, after), indexing="ij"), axis=-1).reshape(-1, 3)
    away = solids(node * h)
    node, away = node[np.abs(away) < 0.6 * h], away[np.abs(away) < 0.6 * h]
    if len(node) == 0:
        return node, node * h, node * h
    steps = 0.25 * h * np.eye(3)
    slope = np.stack([solids(node * h + s) - solids(node * h - s) for s in steps], axis=1) / (0.5 * h)
    length = np.linalg.norm(slope, axis=1)
    sound = length > 0.7  # not on a wall's middle or edge
    normal = slope[sound] / length[sound, None]
    return node[sound], node[sound] * h - normal * away[sound, None], normal


def flicker(now: SurfaceFrame, after: SurfaceFrame, solids: Solids, h: float, seconds: float) -> np.ndarray:
    """By how many voxels (h metres) vertices of calm films miss the surface some seconds later, beyond their motion.

    Parameters
    ----------
    solids : distance from walls at the later frame
    """
    if len(after.position) == 0 or len(now.position) == 0:
        return np.zeros(0)
    place, way = now.position.astype(np.float64), now.attributes["velocity"] * seconds
    calm = np.flatnonzero(np.linalg.norm(way, axis=1) < CALM * h)
    away = solids(place[calm])
    calm = calm[(away < ON_WALL * h) & (away > 0.1 * h)]  # what lies on the wall itself cannot flicker
    moved = place[calm] + way[calm]
    next_place = after.position.astype(np.float64)
    distance, nearest = cKDTree(next_place).query(moved)
    normal = vertex_normals(next_place, after.triangle)[nearest]
    facing = (vertex_normals(place, now.triangle)[calm] * normal).sum(axis=1) > 0
    there = facing & (distance < h)
    return np.abs(((moved - next_place[nearest]) * normal).sum(axis=1))[there] / h


def along(file: Path, quality: str, kept: Path | None = None) -> Along:
    """All frames of a shot, meshed one at a time on all processors; its liquid is made anew, but for frames that are
    kept and current."""
    scene = load_scene(file)
    found = Along(scene.time.first)
    with tempfile.TemporaryDirectory() as folder:
        cache = Cache(Path(folder) if kept is None else kept)
        for _ in run(scene, file.parent, cache, stages=("liquid",), quality=quality):
            pass
        liquid = cache.stage("liquid")
        world = SurfaceWorld(scene, SceneFiles(file.parent), quality)
        surface_frame(*world.frame(liquid.frame(scene.time.last), scene.time.last))  # compiled and sampled
        before: SurfaceFrame | None = None
        for frame in range(scene.time.first, scene.time.last + 1):
            before = _add(found, world, liquid, frame, before)
        if before is not None and len(before.position):
            mesh = trimesh.Trimesh(before.position, before.triangle, process=False)
            found.handles = mesh.body_count - mesh.euler_number // 2
    return found


def _add(
    found: Along, world: SurfaceWorld, liquid: StageCache, frame: int, before: SurfaceFrame | None
) -> SurfaceFrame:
    data = liquid.frame(frame)
    start = clock.perf_counter()
    points, voxel, settings, around = world.frame(data, frame)
    made = surface_frame(points, voxel, settings, around)
    found.took.append(clock.perf_counter() - start)
    read = health(made, world.voxel, liquid.records()[frame].readings["volume"])
    found.error.append(read.get("volume_error", 0.0))
    found.spray.append(read.get("spray_volume", 0.0) / max(float(data["volume"].sum()), 1e-30))
    found.layers.append(read.get("layers", 0.0) / max(len(data["position"]), 1))
    if around.solids is None:
        return made
    h = world.scene.voxel_size(world.quality)
    if len(made.position):
        node, place, normal = walls_near(around.solids, h, made.position.min(axis=0), made.position.max(axis=0))
        assert made.field is not None
        wet = np.stack([made.field.at(place + off * h * normal) < 0 for off in OVER_WALL])
        for coverage, covered in ((found.wall, np.any(wet, axis=0)), (found.beneath, wet[OVER_WALL.index(OFF_WALL)])):
            coverage.places.append(node)
            coverage.covered.append(covered)
    if before is not None:
        found.flicker.append(flicker(before, made, around.solids, h, around.frame_seconds))
    return made


def main() -> int:
    """Measure and renew the page."""
    qualities = ["draft", *(["proof"] if "--proof" in sys.argv else [])]
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv else ""
    files = [
        f
        for f in sorted(SHOTS.glob("*.json"))
        if "." not in f.stem and (f.stem[:2] == "TM" or "--stress" in sys.argv or only)
    ]
    kept_in = Path(sys.argv[sys.argv.index("--kept") + 1]) if "--kept" in sys.argv else None
    head, rest = PAGE.read_text(encoding="utf-8").split(BEGIN)
    kept, tail = rest.split(END)
    old = {tuple(x.strip() for x in line.split("|")[1:3]): line for line in kept.splitlines() if line[:3] == "| T"}
    rows = dict(old) if only else {}
    for quality in qualities:
        for file in files:
            scene = load_scene(file)
            name = scene.name
            if only in name and not scene.is_sea_alone():
                kept_here = None if kept_in is None else kept_in / file.stem
                rows[name, quality] = along(file, quality, kept_here).row(name, quality)
                print(rows[name, quality], flush=True)
    table = [HEAD, "| --- | --- " + "| ---: " * 10 + "|", *rows.values()]
    PAGE.write_text(f"{head}{BEGIN}\n" + "\n".join(table) + f"\n{END}{tail}", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
