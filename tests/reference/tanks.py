"""Scenes of the reference cases, and how their results are measured (catalogue's rules M1 to M4)."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from basin.grid.layout import PAD
from basin.liquid.particles import Particles
from basin.liquid.step import Liquid
from basin.scene import parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles

G = 9.80665
CLOSED = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "closed")


def box_fill(low: tuple[float, ...], high: tuple[float, ...], name: str = "water", **more: Any) -> dict[str, Any]:
    """A fill between two corners."""
    size = [b - a for a, b in zip(low, high, strict=True)]
    centre = [(a + b) / 2 for a, b in zip(low, high, strict=True)]
    return {
        "kind": "fill",
        "name": name,
        "shape": {"kind": "box", "size": size},
        "pose": {"translation": centre},
        **more,
    }


def box_collider(low: tuple[float, ...], high: tuple[float, ...], name: str, **more: Any) -> dict[str, Any]:
    """A still box collider between two corners."""
    return {**box_fill(low, high, name, **more), "kind": "collider"}


def liquid(
    dx: float,
    size: tuple[float, float, float],
    elements: list[dict[str, Any]],
    walls: dict[str, str] | None = None,
    folder: Path | None = None,
    fps: float = 24.0,
    low: tuple[float, float, float] = (0.0, 0.0, 0.0),
    domain: dict[str, Any] | None = None,
    **settings: Any,
) -> Liquid:
    """A liquid at final quality on its first frame."""
    scene = parse_scene(
        {
            "format": "zinc-scene/1",
            "time": {"fps": fps, "last": 1000},
            "domain": {"low": low, "size": size, "walls": walls or CLOSED, **(domain or {})},
            "liquid": {"voxel_size": dx, **settings},
            "elements": elements,
        }
    )
    result = Liquid(liquid_world(scene, SceneFiles(folder or Path(".")), "final"))
    result.begin()
    return result


def particles_at(place: np.ndarray) -> Particles:
    """Resting particles at places in voxels of the domain (n, 3), eight to a voxel."""
    return Particles.at(place + PAD, 0.125)


def position(run: Liquid) -> np.ndarray:
    """Particle positions in metres, float64 (n, 3)."""
    w = run.world.layout
    return (run.state.particles.position.astype(np.float64) - PAD) * w.dx + w.low


def velocity(run: Liquid) -> np.ndarray:
    """Particle velocities in m/s, float64 (n, 3)."""
    return run.state.particles.velocity.astype(np.float64) * run.world.layout.dx


def column_heights(run: Liquid, edges: np.ndarray, depth: float) -> np.ndarray:
    """M1: liquid volume over each interval of x, per its area (m)."""
    volume = run.state.particles.volume * run.world.layout.dx**3
    total, _ = np.histogram(position(run)[:, 0], bins=edges, weights=volume)
    return total / (np.diff(edges) * depth)


def mechanical_energy(run: Liquid) -> float:
    """Kinetic and potential energy per mass (J/kg)."""
    energy = 0.5 * (velocity(run) ** 2).sum(axis=1) + G * position(run)[:, 1]
    return float(np.average(energy, weights=run.state.particles.volume))
