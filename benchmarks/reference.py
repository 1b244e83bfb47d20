"""``./zinc bench --reference``: figures of the reference cases that a test only bounds; writes docs/figures.md."""

from __future__ import annotations

import tempfile
from pathlib import Path

import django
import numpy as np

PAGE = Path(__file__).resolve().parent.parent / "docs" / "figures.md"


def main() -> None:
    """Measure and write the page."""
    django.setup()
    from tests.reference import test_inertia, test_stillness, test_walls
    from tests.reference.potential_flow import DEPTHS
    from tests.reference.tanks import G

    lines = [
        "# Figures of the reference cases",
        "",
        "Written by `./zinc bench --reference`.",
        "",
        "## A01: speeds after 5 s over sqrt(g H), 64 voxels a metre, 4 substeps a frame",
        "",
        "| case | FLIP share | rms | largest | largest at any frame from 2.5 s on |",
        "|---|---|---|---|---|",
    ]
    with tempfile.TemporaryDirectory() as name:
        cases = {
            "box": test_stillness.tank,
            "gravity tilted by 17 degrees": test_stillness.tilted_tank,
            "vessel turned by 23 degrees": lambda **more: test_stillness.turned_vessel(Path(name), **more),
        }
        for case, make in cases.items():
            for share in (0.0, 0.95):
                run = make(flip_share=share)
                rms, most, loudest = test_stillness.speeds_after(run, 5.0)
                lines.append(f"| {case} | {share} | {rms:.3%} | {most:.3%} | {loudest:.3%} |")
    lines += [
        "",
        "## A07: depth at the dam over Ritter's 4/9 h0, at t sqrt(g / h0)",
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
            found.append(((frame - 1) / 100 * np.sqrt(G / 0.3), float(depth) / (4 * 0.3 / 9)))
        time, height = np.array(found).T
        means = [height[np.abs(time - t) < 0.1].mean() for t in DEPTHS] + [height[(time >= 2) & (time < 4)].mean()]
        lines.append(f"| voxel {dx * 1000:.0f} mm | " + " | ".join(f"{m:.3f}" for m in means) + " |")
    lines += [
        "",
        "## D01: way along a slope of 30 degrees after 0.5 s over 0.6129 m",
        "",
        "| voxel | way |",
        "|---|---|",
    ]
    for dx in (0.02, 0.0125):
        lines.append(f"| {dx * 1000:g} mm | {test_walls.travelled(test_walls.slide(dx), 25)[0] / 0.6129:.4f} |")
    text = "\n".join(lines) + "\n"
    PAGE.write_text(text, encoding="utf-8")
    print(text)


if __name__ == "__main__":
    main()
