"""``./zinc bench --reference``: the reference cases at several sizes; writes the measured part of docs/validation.md.

The tests hold one size of each case; here are the others, the observed order of the error, the run with
halved substeps, and what the tests only bound.
"""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import django
import numpy as np

PAGE = Path(__file__).resolve().parent.parent / "docs" / "validation.md"
BEGIN, END = "<!-- measured: begin -->", "<!-- measured: end -->"


@dataclass(frozen=True)
class Row:
    """One quantity of a case, measured over expected.

    Attributes
    ----------
    sizes : voxels over the case's length, ascending
    run : size -> measured / expected
    """

    case: str
    what: str
    source: str
    tolerance: str
    sizes: tuple[int, ...]
    run: Callable[[int], float]


def rows() -> list[Row]:
    """All measured quantities."""
    from tests.reference import cases, test_walls

    lamb, dirichlet = "Lamb 1932 sec. 228", "Dirichlet; Longuet-Higgins 1972"
    drop = cache(cases.stretched_drop)
    slosh = cache(cases.sloshing_period)

    travelling = cache(cases.travelling_wave)
    alone = cache(cases.solitary_wave)

    def wave(which: int, **more: Any) -> Callable[[int], float]:
        return lambda size: travelling(size, **more)[which]

    def solitary(which: int) -> Callable[[int], float]:
        return lambda size: alone(size)[which]

    def axis(which: int) -> Callable[[int], float]:
        return lambda size: drop(size)[which]

    def sloshed(which: int, **more: Any) -> Callable[[int], float]:
        return lambda size: slosh(size, **more)[which]

    def slid(size: int) -> float:
        return test_walls.travelled(test_walls.slide(0.25 / size), 25)[0] / 0.6129

    return [
        Row(
            "A10",
            "first sloshing period, 1.1820 s",
            lamb,
            "1 % at 64",
            (32, 64, 96),
            lambda n: cases.sloshing_period(n)[0],
        ),
        Row(
            "A10", "the same with halved substeps", lamb, "", (64,), lambda n: cases.sloshing_period(n, halved=True)[0]
        ),
        Row("A10", "amplitude kept per period", "-", "reported", (32, 64, 96), lambda n: cases.sloshing_period(n)[1]),
        Row("A10", "amplitude kept per period, FLIP share 0.95", "-", "reported", (64,), sloshed(1, flip_share=0.95)),
        Row("A14", "slope under 2 m/s2 sideways, 0.2039", "Euler", "2 %", (32, 64), cases.leaning_surface),
        Row("A16", "speed of a wave 1 m long, 1.2470 m/s", "Airy 1845", "1.5 % at 32, 0.5 % at 64", (32, 64), wave(0)),
        Row("A16", "the same with halved substeps", "Airy 1845", "", (64,), wave(0, halved=True)),
        Row("A16", "amplitude kept per period", "-", "reported", (32, 64), wave(1)),
        Row("A17", "speed of a solitary wave, a / h = 0.3", "Grimshaw 1971", "1.5 % at 20", (10, 20), solitary(0)),
        Row("A17", "height left after 15 depths", "-", "0.92 at 20", (10, 20), solitary(1)),
        Row(
            "A26", "energy kept by vortices in one turnover", "-", "reported", (32, 64), lambda n: cases.vortices(n)[0]
        ),
        Row("A23", "long half axis after 1 s, 0.22755 m", dirichlet, "1.5 % at 20", (10, 20, 40), axis(0)),
        Row("A23", "short half axis after 1 s, 0.04395 m", dirichlet, "1.5 % at 20", (10, 20, 40), axis(1)),
        Row("D01", "way down a slope of 30 degrees, 0.6129 m", "Galilei", "2 %", (12, 20, 30), slid),
    ]


def order(sizes: tuple[int, ...], found: list[float]) -> str:
    """Observed order between the coarsest and the finest size; a dash for fewer than two."""
    if len(sizes) < 2:
        return "-"
    errors = [max(abs(f - 1), 1e-9) for f in (found[0], found[-1])]
    return f"{np.log(errors[0] / errors[1]) / np.log(sizes[-1] / sizes[0]):.1f}"


def stillness() -> list[str]:
    """A01 in its three containers."""
    from tests.reference import test_stillness

    lines = [
        "",
        "A01, 64 voxels a metre, 4 substeps a frame: speeds over sqrt(g H) after 5 s (0.2 % rms, 1 % largest asked at "
        "FLIP share 0).",
        "",
        "| container | FLIP share | rms | largest | largest at any frame from 2.5 s on |",
        "|---|---|---|---|---|",
    ]
    with tempfile.TemporaryDirectory() as name:
        containers = {
            "box": test_stillness.tank,
            "gravity tilted by 17 degrees": test_stillness.tilted_tank,
            "vessel turned by 23 degrees": lambda **more: test_stillness.turned_vessel(Path(name), **more),
        }
        for container, make in containers.items():
            for share in (0.0, 0.95):
                rms, most, loudest = test_stillness.speeds_after(make(flip_share=share), 5.0)
                lines.append(f"| {container} | {share} | {rms:.3%} | {most:.3%} | {loudest:.3%} |")
    return lines


def dam_break() -> list[str]:
    """A07 beside potential flow."""
    from tests.reference import test_inertia
    from tests.reference.potential_flow import DEPTHS
    from tests.reference.tanks import G

    lines = [
        "",
        "A07: depth at the dam over Ritter's 4/9 h0, at times t sqrt(g / h0).",
        "",
        "| | " + " | ".join(str(t) for t in DEPTHS) + " | 2 to 4 |",
        "|---|" + "---|" * (len(DEPTHS) + 1),
        "| potential flow (tests/reference/potential_flow.py) | "
        + " | ".join(f"{d:.3f}" for d in DEPTHS.values())
        + " | |",
    ]
    for dx in (0.015, 0.01):
        run = test_inertia.dam_break(dx)
        found: list[tuple[float, float]] = []
        for frame in range(2, 72):
            run.advance_frame(frame)
            near = np.abs((run.state.particles.position[:, 0] - 3) * dx - 1.2) < 2 * dx
            depth = run.state.particles.volume[near].sum() * dx**3 / (4 * dx * 3 * dx)
            found.append(((frame - 1) / 120 * np.sqrt(G / 0.3), float(depth) / (0.3 * 4 / 9)))
        moment, height = np.array(found).T
        means = [height[np.abs(moment - t) < 0.1].mean() for t in DEPTHS]
        means.append(height[(moment >= 2) & (moment < 4)].mean())
        lines.append(f"| voxel {dx * 1000:.0f} mm | " + " | ".join(f"{m:.3f}" for m in means) + " |")
    return lines


def volume() -> list[str]:
    """A25, slabs and a cube."""
    from tests.reference import cases

    lines = [
        "",
        "A25: a tank of 1 m shaken by 5 mm at its first natural frequency for 20 s, at rest for 10 s; the level is "
        "that of the level set. Asked: 1 % for a slab of 64, 2 % for a cube of 32, a quarter voxel, mass exact.",
        "",
        "| tank | level | in voxels | mass | deep cells without particles | most particles in a cell |",
        "|---|---|---|---|---|---|",
    ]
    for name, cells, deep in (("slab of 32", 32, False), ("slab of 64", 64, False), ("cube of 32", 32, True)):
        f = cases.shaken_level(cells, deep=deep)
        told = (
            f"{f['level']:+.2%}",
            f"{f['voxels']:+.2f}",
            f"{f['mass']:.1e}",
            f"{f['voids']:.2%}",
            f"{f['clump']:.0f}",
        )
        lines.append(f"| {name} | " + " | ".join(told) + " |")
    return lines


def band() -> list[str]:
    """Deep water with a band of particles beside the same full of them."""
    from tests.reference import cases

    full, energy, many = cases.deep_tank(0.0, 5.0)
    banded, left, few = cases.deep_tank(6.0, 5.0)
    apart, kept = np.sqrt(((banded - full) ** 2).mean(axis=1)), left / energy - 1
    return [
        "",
        "Band: a standing wave of 2 voxels on 4 m of water at 62.5 mm for 5 s, with 6 voxels of particles beside a "
        f"tank full of them: {many / few:.1f} times fewer particles (3 asked), column heights {apart.max():.2f} voxels "
        f"rms apart at most (0.5), energy {float(kept.min()):+.1%} to {float(kept.max()):+.1%} (5 %).",
    ]


def main() -> None:
    """Measure, and write between the marks of the page."""
    django.setup()
    start = time.perf_counter()
    lines = [
        "| case | quantity | source | tolerance | measured over expected (voxels) | order |",
        "|---|---|---|---|---|---|",
    ]
    for row in rows():
        found = [row.run(size) for size in row.sizes]
        told = ", ".join(f"{f:.4f} ({n})" for n, f in zip(row.sizes, found, strict=True))
        degree = "-" if row.tolerance == "reported" else order(row.sizes, found)
        lines.append(f"| {row.case} | {row.what} | {row.source} | {row.tolerance} | {told} | {degree} |")
        print(lines[-1], flush=True)
    for part in (stillness, dam_break, volume, band):
        more = part()
        print("\n".join(more), flush=True)
        lines += more
    lines += ["", f"Measured in {(time.perf_counter() - start) / 60:.0f} minutes by `./zinc bench --reference`."]
    text = PAGE.read_text(encoding="utf-8")
    before, after = text.split(BEGIN)[0], text.split(END)[1]
    PAGE.write_text(before + BEGIN + "\n" + "\n".join(lines) + "\n" + END + after, encoding="utf-8")


if __name__ == "__main__":
    main()
