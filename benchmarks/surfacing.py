"""Methods of surfacing side by side: roughness of a resting pool, thinnest sheet kept, volume and time.

Writes its table into docs/validation.md between its marks.
"""

from __future__ import annotations

import sys
import time as clock
from pathlib import Path

import numpy as np

from basin.geometry.mesh import TriangleMesh
from basin.stages.liquid_stage import frame_arrays
from basin.stages.surface_stage import frame_grid, frame_points
from basin.surface.field import Points, particle_field
from basin.surface.mesh import Surroundings, surface_frame
from basin.surface.settings import Filter, SurfaceSettings
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
    """Measure and renew the page; `--only WORD` prints the rows with the word and leaves the page."""
    words = sys.argv[sys.argv.index("--only") + 1 :] if "--only" in sys.argv else []
    lines = rows([c for c in CHOICES if not words or any(word in c[0] for word in words)])
    if words:
        return 0
    text = PAGE.read_text(encoding="utf-8")
    head, rest = text.split(BEGIN)
    _, tail = rest.split(END)
    PAGE.write_text(f"{head}{BEGIN}\n" + "\n".join(lines) + f"\n{END}{tail}", encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
