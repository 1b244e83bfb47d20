"""``./zinc bench --flows``: pictures of the flow about the edge of an opening, of turning liquid and of a bore.

Under docs/figures/, to be looked at beside what the reference bench measures.
"""

from __future__ import annotations

import matplotlib

matplotlib.use("Agg")

import numpy as np
from matplotlib import pyplot
from matplotlib.figure import Figure

from benchmarks.figures import FOLDER
from tests.reference.cases import (
    BELOW,
    BORE_FPS,
    FPS,
    OMEGA,
    ROOM,
    SLOT,
    TANK,
    bore_tank,
    slot_tank,
    stepped,
    turning_heights,
    turning_liquid,
)
from tests.reference.tanks import G, position, velocity

EDGES: tuple[tuple[int, float, str], ...] = (
    (8, 1.5, "boxes"),
    (12, 1.5, "boxes"),
    (16, 1.5, "boxes"),
    (8, 4.0, "boxes"),
    (16, 4.0, "boxes"),
    (16, 1.5, "knife"),
)
AT = 10  # frames: the flow is steady, and the tank nearly full
TURNED = (24, 40)  # voxels across
STILL, PUSHED = 0.1, 0.75  # m and m/s: a bore's depth before it, and its piston
BORES: tuple[tuple[int, bool], ...] = ((8, False), (16, False), (8, True), (16, True))
RUNS_ON = 10  # still depths that a bore has gone


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
    _save(figure, "a34-edge")


def turned() -> None:
    """Half full after two turns: seen from above, how much slower than at the start, and its height by the radius."""
    figure, axes = pyplot.subplots(len(TURNED), 2, figsize=(11, 9.6), dpi=90, layout="constrained")
    for row, cells in zip(axes, TURNED, strict=True):
        dx = 2 * ROOM / cells
        run = turning_liquid(cells, half=True)
        for frame in range(2, 2 + 2 * round(2 * np.pi / OMEGA * FPS)):
            run.advance_frame(frame)
        x, u = position(run), velocity(run)
        _, one = np.unique(np.floor(x[:, :2] / dx).astype(int), axis=0, return_index=True)  # of each column
        lag = (x[one, 0] * u[one, 1] - x[one, 1] * u[one, 0]) / (OMEGA * (x[one, :2] ** 2).sum(axis=1)) - 1
        seen = row[0].quiver(*x[one, :2].T, *u[one, :2].T, lag, cmap="coolwarm_r", clim=(-0.1, 0.1), scale=16)
        row[0].set(aspect="equal", title=f"{cells} voxels across, after two turns at {OMEGA:g} rad/s")
        figure.colorbar(seen, ax=row[0], label="angular speed gained since the start")
        radius = np.linspace(0, ROOM, 100)
        square, height = turning_heights(run, dx)
        row[1].plot(np.linalg.norm(x[:, :2], axis=1), x[:, 2], ",", color="0.7")
        row[1].plot(radius, 0.08 + OMEGA**2 / (2 * G) * (radius**2 - ROOM**2 / 2), color="tab:orange", label="Newton")
        row[1].plot(np.sqrt(square), height, "o", color="tab:blue", label="volume in rings")
        row[1].set(xlabel="radius, m", ylabel="height, m")
        row[1].legend()
        print(row[0].get_title(), flush=True)
    _save(figure, "a36-turning")


def bores() -> None:
    """Sections of bores, by a piston and at a wall, each with the front and the depth that it should have."""
    behind, front = stepped(STILL, PUSHED)
    figure, axes = pyplot.subplots(len(BORES), 1, figsize=(11, 10), dpi=90, layout="constrained")
    for axis, (cells, stream) in zip(axes, BORES, strict=True):
        run, start = bore_tank(cells, STILL, PUSHED, stream)
        own = -PUSHED if stream else 0.0
        frames = round(RUNS_ON * STILL / front * BORE_FPS)
        for frame in range(2, 2 + frames):
            run.advance_frame(frame)
        x, u = position(run), velocity(run)
        wall, there = (start + (own + speed) * frames / BORE_FPS for speed in (PUSHED, front))
        dots = axis.scatter(*x[:, :2].T, c=u[:, 0] - own, s=10 / cells, cmap="viridis", clim=(0, 1.4 * PUSHED), lw=0)
        axis.plot([wall, there, there, there + 0.8], [behind, behind, STILL, STILL], color="tab:red", linewidth=1)
        axis.set(xlim=(wall - 0.05, there + 0.8), ylim=(0, 2.2 * behind), aspect="equal")
        title = f"{cells} voxels deep, {'a stream at a wall' if stream else 'a piston'}"
        axis.set_title(f"{title}; red: Rankine-Hugoniot", fontsize=9)
        figure.colorbar(dots, ax=axis, label="m/s given")
        print(title, flush=True)
    _save(figure, "a35-bore")


def _save(figure: Figure, name: str) -> None:
    FOLDER.mkdir(exist_ok=True)
    figure.savefig(FOLDER / f"{name}.png", metadata={"Software": None})
    pyplot.close(figure)


if __name__ == "__main__":
    edges()
    turned()
    bores()
