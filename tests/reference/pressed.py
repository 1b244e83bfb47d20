"""Pressure on colliders, substep by substep: jets that stop and wedges that strike water."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from numba import njit

from basin.exchange import write_ply
from basin.geometry.mesh import TriangleMesh, facing_out
from basin.grid.layout import PAD
from basin.liquid import reaction
from basin.liquid.step import Liquid
from tests.reference.tanks import CLOSED, box_collider, box_fill, liquid, position

CORNERS = np.stack(np.meshgrid(*[[0, 1]] * 3, indexing="ij"), axis=-1).reshape(-1, 3)
OPEN = dict.fromkeys(CLOSED, "open")
Pressed = list[tuple[np.ndarray, np.ndarray]]


@njit
def again(cell: np.ndarray, where: np.ndarray, after: Any, before: Any) -> np.ndarray:
    """How much of a change cells (n, 3) take once more."""
    found = np.empty(len(cell))
    for n in range(len(cell)):
        i, j, k = cell[n, 0], cell[n, 1], cell[n, 2]
        found[n] = reaction._again(where, i, j, k, *after, *before)
    return found


def pressed(run: Liquid, frames: Iterable[int]) -> Iterator[Pressed]:
    """Per frame, for each substep: centres (n, 3) in metres of the cells that colliders cut, and pressures (n,), Pa.

    Substeps come in pairs, of which one takes the change of both (`basin.liquid.step`), so only means over whole
    frames are pressures.
    """
    w, seen = run.world, []
    made = reaction.impulses

    def spy(system: Any, value: np.ndarray, solids: Any, after: Any, before: Any, reflects: bool, centre: Any) -> Any:
        tiles, cell = solids.tiles, system.cells()
        at = tuple((cell[:, None, :] + CORNERS).transpose(2, 0, 1))
        phi, owner = tiles.dense(solids.phi)[at], tiles.dense(solids.owner)[at]
        who = owner[np.arange(len(cell)), phi.argmin(axis=1)]
        cut = (who >= 0) & (phi.min(axis=1) < 0)
        push = value.reshape(-1)[system.places()][cut].astype(float)
        if reflects:
            push *= 1.0 + again(cell[cut], tiles.where, tuple(after), tuple(before))
        seen.append(((cell[cut] + 0.5 - PAD) * w.layout.dx + w.layout.low, push))
        return made(system, value, solids, after, before, reflects, centre)

    with mock.patch.object(reaction, "impulses", spy):
        for frame in frames:
            seen.clear()
            run.advance_frame(frame)
            scale = w.density * w.layout.dx**2 / run.state.dt_before
            yield [(place, push * scale) for place, push in seen]


def stopped_jet(dx: float) -> tuple[float, float]:
    """Pressure (Pa) where a jet of 0.1 m at 10 m/s stops on a plate, and the speed (m/s) of its water beyond 0.15 m."""
    pose = {"translation": [0.03, 0.3, 0.3], "rotation": [0, 0, -90]}
    jet = {"kind": "inflow", "name": "jet", "shape": {"kind": "disc", "radius": 0.05}, "velocity": [10, 0, 0]}
    plate = box_collider((0.2, 0.0, 0.0), (0.3, 0.6, 0.6), "plate")
    run = liquid(dx, (0.35, 0.6, 0.6), [{**jet, "pose": pose}, plate], walls=OPEN, gravity=(0, 0, 0), fps=120.0)
    most = [np.mean([push.max(initial=0.0) for _, push in steps]) for steps in pressed(run, range(2, 14))]
    speed = np.linalg.norm(run.state.particles.velocity, axis=1) * dx
    away = np.hypot(*(position(run)[:, 1:] - 0.3).T) > 0.15
    return float(np.mean(most[6:])), float(np.median(speed[away]))


def wedge(angle: float, half: float, deep: float) -> TriangleMesh:
    """A prism along Z whose keel is at the origin, with flanks at an angle (degrees) to the water."""
    high = half * np.tan(np.deg2rad(angle))
    outline = [(0, 0), (half, high), (half, high + 0.2), (-half, high + 0.2), (-half, high)]
    point = np.array([[x, y, z] for z in (-deep, deep) for x, y in outline])
    caps = [[0, a + 1, a] for a in (1, 2, 3)] + [[5, a, a + 1] for a in (6, 7, 8)]
    sides = [t for i in range(5) for j in [(i + 1) % 5] for t in ([i, j, j + 5], [i, j + 5, i + 5])]
    return facing_out(TriangleMesh(point, np.array(caps + sides, np.int32)))


def wedge_entry(dx: float, angle: float, until: float) -> tuple[float, float]:
    """Rate at which the wetted half-width of a wedge grows that enters water at 1 m/s, and its largest pressure
    coefficient.

    The flow is the same at all times but for its size (Wagner), so pressures are averaged over x / (V t) in the second
    half of the time; the jet's root is the farthest place with a tenth of the largest.
    """
    wide, depth, step = 2.0, 0.8, 0.1
    keys = [
        {"time": 0.0, "value": [wide / 2, depth, 2 * dx], "segment": "linear"},
        {"time": 1.0, "value": [wide / 2, depth - 1.0, 2 * dx]},
    ]
    body = {"kind": "collider", "name": "wedge", "shape": {"kind": "mesh", "file": "wedge.ply"}}
    total, count = np.zeros(80), np.zeros(80)
    with tempfile.TemporaryDirectory() as name:
        mesh = wedge(angle, 0.6, 0.5)
        write_ply(Path(name) / "wedge.ply", mesh.position, mesh.triangle)
        elements = [box_fill((0, 0, 0), (wide, depth, 4 * dx)), {**body, "pose": {"translation": {"keys": keys}}}]
        box = (wide, depth + 0.5, 4 * dx)
        run = liquid(
            dx, box, elements, walls={**CLOSED, "y_max": "open"}, folder=Path(name), fps=200, gravity=(0, 0, 0)
        )
        for frame, steps in enumerate(pressed(run, range(2, int(until * 200) + 2)), start=1):
            time = frame / 200
            if time < until / 2:
                continue
            for place, push in steps:
                bins = np.minimum((np.abs(place[:, 0] - wide / 2) / time / step).astype(int), 79)
                total += np.bincount(bins, push, 80)
                count += np.bincount(bins, minlength=80)
    profile = total / np.maximum(count, 1) / (0.5 * run.world.density)
    root = (np.flatnonzero(profile > 0.1 * profile.max())[-1] + 0.5) * step
    return float(root), float(profile.max())
