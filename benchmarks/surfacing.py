"""Methods of surfacing side by side: roughness of a resting pool, thinnest sheet kept, volume and time.

What they make of films, sheets and threads, too, and a splash in a wide box.

Writes its table into docs/validation.md between its marks.
"""

from __future__ import annotations

import sys
import time as clock
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import numpy as np
import trimesh

from basin.geometry.mesh import TriangleMesh
from basin.stages.liquid_stage import frame_arrays
from basin.stages.surface_stage import frame_grid, frame_points
from basin.surface.field import Points, particle_field
from basin.surface.filters import Solids
from basin.surface.health import health
from basin.surface.level import Bricks
from basin.surface.mesh import Surroundings, surface_frame
from basin.surface.settings import Filter, SurfaceSettings
from benchmarks.memory import peak
from tests.basin.test_layers import curtain, flat_film, in_cup, strewn
from tests.reference.tanks import box_fill, liquid

PAGE = Path(__file__).resolve().parent.parent / "docs" / "validation.md"
BEGIN, END = "<!-- surfacing: begin -->", "<!-- surfacing: end -->"
SIZE, LEVEL, DX = (0.6, 0.4, 0.6), 0.2, 0.01
FRAMES = 24

CHOICES: list[tuple[str, SurfaceSettings]] = [
    ("balls, 0.9 spacings", SurfaceSettings(method="spheres", filters=[])),
    ("weighted mean, R = 2, r = 0.9 (Zhu & Bridson 2005)", SurfaceSettings(method="averaged", filters=[])),
    (
        "weighted mean, R = 2, r = 0.5",
        SurfaceSettings(method="averaged", particle_radius=0.5, filters=[]),
    ),
    (
        "weighted mean, R = 3, r = 1",
        SurfaceSettings(method="averaged", kernel_radius=3.0, particle_radius=1.0, filters=[]),
    ),
    ("density, 2 spacings, no filter", SurfaceSettings(filters=[])),
    ("density, 2 spacings, bell 0.7 (our default)", SurfaceSettings()),
    ("anisotropic, 2 spacings (after Yu & Turk 2013)", SurfaceSettings(method="anisotropic", filters=[])),
    ("anisotropic, 3 spacings", SurfaceSettings(method="anisotropic", kernel_radius=3.0, filters=[])),
    (
        "density, 3 spacings, sheets of 0.15, bell 0.7",
        SurfaceSettings(kernel_radius=3.0, thinnest=0.15),
    ),
    ("density, 2 spacings, curvature 3", SurfaceSettings(filters=[Filter(does="curvature", width=3.0)])),
    (
        "anisotropic, 2.5 spacings, sheets of 0.15, curvature 3",
        SurfaceSettings(
            method="anisotropic", kernel_radius=2.5, thinnest=0.15, filters=[Filter(does="curvature", width=3.0)]
        ),
    ),
]


def pool() -> tuple[Points, Surroundings]:
    """A pool that has rested for a second, from the solver."""
    run = liquid(DX, SIZE, [box_fill((0, 0, 0), (SIZE[0], LEVEL, SIZE[2]))])
    made = None
    for frame in range(2, FRAMES + 1):
        made = run.advance_frame(frame)
    assert made
    data = frame_arrays(run, made[0])
    return frame_points(data), Surroundings([frame_grid(data)])


def thinnest_sheet(settings: SurfaceSettings) -> float:
    """Thickness in spacings of the thinnest sheet of strewn particles that shows no hole.

    A layer with places a = 1 / sqrt(thickness) spacings apart, each moved by up to 0.15 of that.
    """
    rng = np.random.default_rng(4)
    kept = np.inf
    for thickness in np.arange(1.0, 0.05, -0.05):
        apart = 1.0 / np.sqrt(thickness)
        line = np.arange(-10, 10.01, apart)
        place = np.stack(np.meshgrid(line, [0.0], line, indexing="ij"), axis=-1).reshape(-1, 3)
        place[:, ::2] += rng.uniform(-0.15, 0.15, (len(place), 2)) * apart
        still = {"velocity": np.zeros((len(place), 3), np.float32)}
        points = Points(place.astype(np.float32), np.ones(len(place), np.float32), 1.0, still)
        spread = settings.model_copy(update={"spray_radius": 0.0})
        surface = surface_frame(points, 0.5, spread)
        field = surface.field or particle_field(points, 0.5, spread)
        assert field
        at = np.arange(-6, 6, 0.2)
        across = np.stack(np.meshgrid(at, np.arange(-1, 1.01, 0.25), at, indexing="ij"), axis=-1)
        inside = field.at(across.reshape(-1, 3)).reshape(across.shape[:3]).min(axis=1) < 0
        if not inside.all():
            break
        kept = float(thickness)
    return kept


def measured(points: Points, around: Surroundings, settings: SurfaceSettings) -> tuple[float, float, float]:
    """Roughness of the pool's level in spacings (rms), its volume error, and seconds (the better of two)."""
    seconds = []
    for _ in range(2):
        start = clock.perf_counter()
        frame = surface_frame(points, DX / 2, settings, around)
        seconds.append(clock.perf_counter() - start)
    place = frame.position.astype(np.float64)
    middle = (np.abs(place[:, [0, 2]] - 0.3) < 0.2).all(axis=1) & (place[:, 1] > LEVEL / 2)
    rough = float(place[middle, 1].std()) / points.spacing
    held = float(points.volume.sum(dtype=np.float64))
    return rough, TriangleMesh(place, frame.triangle).volume() / held - 1, min(seconds)


THIN: list[tuple[str, Callable[[], Points], Solids | None]] = [
    ("film of a quarter of a voxel on a plane", lambda: strewn(flat_film(0.5, 24), 24 * 24 * 0.5), lambda p: p[:, 1]),
    ("film of half a voxel in a cup", lambda: _cup(1.0), lambda p: _in_cup(p)),
    ("sheet of a third of a voxel in the air", lambda: strewn(flat_film(0.6, 24), 24 * 24 * 0.6), None),
    ("falling curtain of a voxel to a quarter", lambda: _curtain(), None),
    ("thread of half a voxel", lambda: _thread(), None),
]
Method = Literal["density", "anisotropic", "averaged", "spheres"]
CUP = (10.0, 12.0)  # spacings: radius, height


def _cup(thick: float) -> Points:
    radius, high = CUP
    place = in_cup(thick, radius, high)
    return strewn(place, np.pi * radius**2 * thick + np.pi * (radius**2 - (radius - thick) ** 2) * (high - thick))


def _in_cup(place: np.ndarray) -> np.ndarray:
    return np.asarray(np.minimum(CUP[0] - np.hypot(place[:, 0], place[:, 2]), place[:, 1]))


def _curtain() -> Points:
    place, _ = curtain(2.0, 0.5, 16.0)
    return strewn(place, float(len(place)))


def _thread() -> Points:
    along = (np.arange(24) - 11.5) * 4 / np.pi
    place = np.stack([along, *np.random.default_rng(2).uniform(-0.15, 0.15, (2, 24))], axis=1)
    return strewn(place, 24.0)


def thin_rows() -> list[str]:
    """What methods make of films, sheets and threads: pieces, holes and volume of the mesh, by default filters."""
    methods: tuple[Method, ...] = ("density", "anisotropic", "averaged", "spheres")
    lines = [
        "Films, sheets and threads as tests/basin/test_layers.py strews them, voxels of the liquid's, by each method "
        "with the default filters: pieces, holes through them, and volume against the particles'. All should be in "
        "one piece without a hole; balls are not meant for them.",
        "",
        "| shape | " + " | ".join(methods) + " |",
        "| --- " + "| ---: " * len(methods) + "|",
    ]
    for name, made, walls in THIN:
        found = []
        for method in methods:
            points = made()
            settings = SurfaceSettings(method=method, colliders="remove" if walls else "leave")
            frame = surface_frame(points, 1.0, settings, Surroundings(solids=walls, walls=walls))
            mesh = trimesh.Trimesh(frame.position, frame.triangle, process=False)
            holes = mesh.body_count - mesh.euler_number // 2
            volume = TriangleMesh(frame.position.astype(np.float64), frame.triangle).volume()
            held = float(points.volume.sum(dtype=np.float64))
            found.append(f"{mesh.body_count}, {holes}, {100 * (volume / held - 1):+.1f} %")
        lines.append(f"| {name} | " + " | ".join(found) + " |")
        print(lines[-1], flush=True)
    return lines


def wide_rows() -> list[str]:
    """A crown 40 m across, meshed at 2 cm: bricks where there is liquid."""
    rng, h, radius = np.random.default_rng(1), 0.02, 19.5
    turn = np.arange(int(2 * np.pi * radius / h)) * h / radius
    ring = np.stack(np.meshgrid(turn, np.arange(150) * h, np.arange(3) * h, indexing="ij"), axis=-1).reshape(-1, 3)
    out = radius + ring[:, 2] + ring[:, 1] * (0.15 + 0.1 * np.sin(12 * ring[:, 0]))
    place = np.stack([out * np.cos(ring[:, 0]), ring[:, 1], out * np.sin(ring[:, 0])], axis=1)
    place += rng.uniform(-0.15, 0.15, place.shape) * h
    far, round_about = rng.uniform(17, 20.5, 50_000), rng.uniform(0, 2 * np.pi, 50_000)
    drops = np.stack([far * np.cos(round_about), rng.uniform(0.5, 4, 50_000), far * np.sin(round_about)], axis=1)
    place = np.concatenate([place, drops]).astype(np.float32)
    still = {"velocity": np.zeros_like(place)}
    points = Points(place, np.full(len(place), h**3, np.float32), h, still)
    surface_frame(points.some(np.arange(50_000)), h, SurfaceSettings())  # compiled
    start = clock.perf_counter()
    frame = surface_frame(points, h, SurfaceSettings())
    seconds = clock.perf_counter() - start
    assert isinstance(frame.field, Bricks)
    nodes = sum(part.phi.size for part in frame.field.parts)
    found = health(frame, h, float(points.volume.sum(dtype=np.float64)))
    box = float(np.prod(np.array(frame.field.shape, float)))
    line = (
        f"A crown 40 m across, of {len(place):,} particles, meshes at 2 cm in {seconds:.0f} s by the default settings: "
        f"{found['triangles'] / 1e6:.1f} million triangles without an open edge ({found['open_edges']:.0f}), volume "
        f"within {100 * abs(found['volume_error']):.2f} %. Its box has {box / 1e6:.0f} "
        f"million nodes, its {len(frame.field.parts)} bricks {nodes / 1e6:.0f} million; the command held at most "
        f"{peak() / nodes:.0f} bytes for each of these."
    )
    print(line)
    return [line]


def rows(choices: list[tuple[str, SurfaceSettings]]) -> list[str]:
    """The table's lines."""
    points, around = pool()
    lines = [
        f"A pool of {len(points.position):,} particles that has rested for a second, "
        "surface voxel half of the liquid's; "
        "roughness and sheets in particle spacings; time of the whole frame with attributes.",
        "",
        "| method | roughness, rms | thinnest sheet | volume | seconds |",
        "| --- | ---: | ---: | ---: | ---: |",
    ]
    for name, settings in choices:
        surface_frame(points, DX / 2, settings, around)  # compiled
        rough, volume, seconds = measured(points, around, settings)
        lines.append(
            f"| {name} | {rough:.3f} | {thinnest_sheet(settings):.2f} | {100 * volume:+.1f} % | {seconds:.2f} |"
        )
        print(lines[-1], flush=True)
    return lines


def main() -> int:
    """Measure and renew the page; `--only WORD` prints the rows with the word (`thin` and `wide` those of films and of
    the splash) and leaves the page."""
    words = sys.argv[sys.argv.index("--only") + 1 :] if "--only" in sys.argv else []
    if "thin" in words:
        thin_rows()
    if "wide" in words:
        wide_rows()
    if words:
        rows([c for c in CHOICES if any(word in c[0] for word in words)])
        return 0
    lines = [*wide_rows(), "", *thin_rows(), "", *rows(CHOICES)]
    text = PAGE.read_text(encoding="utf-8")
    head, rest = text.split(BEGIN)
    _, tail = rest.split(END)
    PAGE.write_text(f"{head}{BEGIN}\n" + "\n".join(lines) + f"\n{END}{tail}", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
