"""``./zinc bench --flows``: a picture of the flow about the edge of an opening.

Under docs/figures/, to be looked at beside what the reference bench measures.
"""

from __future__ import annotations

import matplotlib

matplotlib.use("Agg")

import numpy as np
from matplotlib import pyplot

from benchmarks.figures import FOLDER
from tests.reference.cases import BELOW, SLOT, TANK, slot_tank
from tests.reference.tanks import position, velocity

EDGES: tuple[tuple[int, float, str], ...] = (
    (8, 1.5, "boxes"),
    (12, 1.5, "boxes"),
    (16, 1.5, "boxes"),
    (8, 4.0, "boxes"),
    (16, 4.0, "boxes"),
    (16, 1.5, "knife"),
)
AT = 10  # frames: the flow is steady, and the tank nearly full


def about_an_edge(cells: int, thick: float, plate: str) -> tuple[np.ndarray, np.ndarray, float]:
    """Places and velocities (n, 2) of what is near the left edge of a slot, in widths of it and of the fastest, and the
    floor's thickness in widths."""
    run = slot_tank(cells, thick, 0.0, plate)
    for frame in range(2, AT + 1):
        run.advance_frame(frame)
    x, u = position(run)[:, :2], velocity(run)[:, :2]
    edge = np.array([0.5 * (TANK - SLOT), BELOW + thick * SLOT / cells])
    place = (x - edge) / SLOT
    near = (np.abs(place[:, 0] - 0.1) < 0.6) & (place[:, 1] > -0.9) & (place[:, 1] < 0.4)
    place, u = place[near], u[near]
    cell = np.floor(place * cells).astype(int)
    _, where = np.unique(cell, axis=0, return_inverse=True)
    where, count = where.ravel(), np.bincount(where.ravel())
    mean = [np.stack([np.bincount(where, a[:, d]) / count for d in range(2)], axis=1) for a in (place, u)]
    return mean[0], mean[1] / np.linalg.norm(mean[1], axis=1).max(), thick / cells


def edges() -> None:
    """Arrows of what is near the edge, in six tanks."""
    figure, axes = pyplot.subplots(2, 3, figsize=(11, 7.4), dpi=90, layout="constrained")
    for axis, (cells, thick, plate) in zip(axes.ravel(), EDGES, strict=True):
        place, flow, high = about_an_edge(cells, thick, plate)
        back = high if plate == "knife" else 0.0
        axis.fill([-0.6, -0.6, -back, 0], [0, -high, -high, 0], color="0.75")
        axis.quiver(*place.T, *flow.T, np.linalg.norm(flow, axis=1), cmap="viridis", scale=18, width=0.003)
        axis.axvline(0, color="0.6", linewidth=0.6)
        axis.set(xlim=(-0.5, 0.6), ylim=(-0.85, 0.4), aspect="equal")
        axis.set_title(f"{cells} voxels across, floor of {thick:g}, {plate}", fontsize=9)
        print(axis.get_title(), flush=True)
    FOLDER.mkdir(exist_ok=True)
    figure.savefig(FOLDER / "a34-edge.png", metadata={"Software": None})
    pyplot.close(figure)


if __name__ == "__main__":
    edges()
