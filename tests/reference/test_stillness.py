"""Still liquid stays still: case A01 (hydrostatics), in a box, a turned vessel, and under tilted gravity."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase, tag

from basin.exchange import write_ply
from basin.geometry.mesh import TriangleMesh, joined
from basin.geometry.primitives import box_mesh
from basin.grid.layout import PAD
from basin.liquid import forces, levelset, pressure
from basin.liquid.sorting import sorted_particles
from basin.liquid.step import Liquid
from tests.long import LONG
from tests.reference.tanks import G, box_fill, liquid, velocity

DX = 1 / 64
DEPTH = 4 * DX
SPEED = float(np.sqrt(G * 0.5))  # sqrt(g H), 2.214 m/s
SUBSTEPS = {"substeps_min": 4}


def tank(**more: Any) -> Liquid:
    """1 m x 0.5 m of water in a closed tank, four voxels deep (case A01)."""
    fill = box_fill((0, 0, 0), (1, 0.5, DEPTH))
    return liquid(DX, (1.0, 0.75, DEPTH), [fill], **{**SUBSTEPS, **more})


def tilted_tank(**more: Any) -> Liquid:
    """The same with gravity 17 degrees askew and the surface square to it."""
    a = np.deg2rad(17.0)
    fill = {
        "kind": "fill",
        "name": "water",
        "shape": {"kind": "box", "size": [3.0, 1.0, 3 * DEPTH]},
        "pose": {"translation": [0.5 - 0.5 * np.sin(a), 0.4 - 0.5 * np.cos(a), DEPTH / 2], "rotation": [0, 0, -17.0]},
    }
    gravity = (-G * np.sin(a), -G * np.cos(a), 0.0)
    return liquid(DX, (1.0, 0.75, DEPTH), [fill], gravity=gravity, **{**SUBSTEPS, **more})


def turned_vessel(folder: Path, **more: Any) -> Liquid:
    """Water in a box-shaped vessel, a mesh turned by 23 degrees about z, surface level in the scene.

    The vessel holds water to 0.5 m above its lowest inner corner's level at the middle.
    """
    wall, inner = 0.08, (0.8, 0.6)
    parts = [
        box_mesh((inner[0] + 2 * wall, wall, 0.4)).transformed(_moved(0, -inner[1] / 2 - wall / 2)),
        box_mesh((inner[0] + 2 * wall, wall, 0.4)).transformed(_moved(0, inner[1] / 2 + wall / 2)),
        box_mesh((wall, inner[1] + 0.02, 0.4)).transformed(_moved(-inner[0] / 2 - wall / 2, 0)),
        box_mesh((wall, inner[1] + 0.02, 0.4)).transformed(_moved(inner[0] / 2 + wall / 2, 0)),
    ]
    vessel: TriangleMesh = joined(parts)
    write_ply(folder / "vessel.ply", vessel.position, vessel.triangle)
    a = np.deg2rad(23.0)
    # the part of the turned inside that lies below y = 0, as an extruded polygon
    corners = np.array([[-0.4, -0.3], [0.4, -0.3], [0.4, 0.3], [-0.4, 0.3]])
    turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
    polygon = _below(corners @ turn.T, 0.05)
    from demo.tide_mill import extrusion

    water = extrusion([(float(x), float(y)) for x, y in polygon], 0.4)
    write_ply(folder / "water.ply", water.position, water.triangle)
    mesh = {"kind": "mesh"}
    elements = [
        {
            "kind": "collider",
            "name": "vessel",
            "shape": {**mesh, "file": "vessel.ply"},
            "pose": {"rotation": [0, 0, 23]},
        },
        {"kind": "fill", "name": "water", "shape": {**mesh, "file": "water.ply"}},
    ]
    return liquid(DX, (1.4, 1.2, DEPTH), elements, folder=folder, low=(-0.7, -0.6, -DEPTH / 2), **{**SUBSTEPS, **more})


def _moved(x: float, y: float) -> np.ndarray:
    matrix = np.eye(4)
    matrix[:2, 3] = x, y
    return matrix


def _below(polygon: np.ndarray, level: float) -> np.ndarray:
    """The part of a convex polygon with y < level (Sutherland-Hodgman)."""
    kept = []
    for p, q in zip(polygon, np.roll(polygon, -1, axis=0), strict=True):
        if p[1] < level:
            kept.append(p)
        if (p[1] < level) != (q[1] < level):
            kept.append(p + (q - p) * (level - p[1]) / (q[1] - p[1]))
    return np.array(kept)


def speeds_after(run: Liquid, seconds: float) -> tuple[float, float, float]:
    """Speeds over sqrt(g H) after a time at 24 frames a second: rms, largest, largest of its second half."""
    loudest = 0.0
    frames = round(seconds * 24)
    for frame in range(2, 2 + frames):
        run.advance_frame(frame)
        if frame > frames // 2:
            loudest = max(loudest, float(np.linalg.norm(velocity(run), axis=1).max()))
    speed = np.linalg.norm(velocity(run), axis=1)
    return float(np.sqrt((speed**2).mean())) / SPEED, float(speed.max()) / SPEED, loudest / SPEED


class Stillness(SimpleTestCase):
    """Case A01: after 5 s rms speed below 0.2 % and the largest below 1 % of sqrt(g H)."""

    def assert_still(self, run: Liquid) -> None:
        volume = run.state.particles.volume.sum(dtype=np.float64)
        rms, most, loudest = speeds_after(run, 5.0)
        self.assertLess(rms, 0.002, f"rms {rms:.5f}, largest {most:.5f}")
        self.assertLess(most, 0.010, f"rms {rms:.5f}, largest {most:.5f}")
        # nothing pops on the way either: a jet out of a wall has died down a few frames later
        self.assertLess(loudest, 0.015)
        self.assertAlmostEqual(run.state.particles.volume.sum(dtype=np.float64) / volume, 1.0, places=6)

    @tag(LONG)
    def test_water_in_a_box_stays_still(self) -> None:
        run = tank()
        self.assert_still(run)
        # and the surface has not moved: the bottom still bears 0.5 m of water
        _, bottom = pressure_down_the_middle(run)
        self.assertAlmostEqual(bottom / (998.2 * G * 0.5), 1.0, delta=0.01)

    @tag(LONG)
    def test_water_under_tilted_gravity_stays_still(self) -> None:
        self.assert_still(tilted_tank())

    def test_water_in_a_turned_vessel_stays_still(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            run = turned_vessel(Path(folder))
            self.assertGreater(len(run.state.particles), 20000)
            self.assert_still(run)


class DragAtRest(SimpleTestCase):
    """Still water in a zone of drag: drag only ever takes off, so there is no more unrest than without it."""

    def unrest(self, *zones: dict[str, Any]) -> float:
        """Largest speed in m/s that still water has come to after a quarter of a second."""
        run = liquid(0.02, (0.5, 0.3, 0.1), [box_fill((0, 0, 0), (0.5, 0.2, 0.1)), *zones])
        for frame in range(2, 8):
            run.advance_frame(frame)
        return float(np.abs(velocity(run)).max())

    def test_no_currents(self) -> None:
        zone = {"kind": "force", "name": "d", "effect": {"kind": "drag", "rate": 12.0}, "softness": 0.2}
        zone |= {"zone": {"kind": "box", "size": [0.4, 2.0, 2.0]}, "pose": {"translation": [0.5, 0.1, 0.1]}}
        # taken off gravity's kick as well, drag drives several times the particles' own unrest
        self.assertLess(self.unrest(zone), self.unrest())


def pressure_down_the_middle(run: Liquid) -> tuple[float, float]:
    """Slope (Pa/m) and value at the bottom (Pa) of the pressure that holds a tank's water, by least squares."""
    state, layout = run.state, run.world.layout
    particles, tiling = sorted_particles(state.particles, layout)
    tiles = tiling.surroundings(4)
    solids = run.solid_world.at(tiles, 0.0, 0.01)
    phi = levelset.level_set(levelset.density(particles, tiling, tiles), solids)
    field = [tiles.field() for _ in range(3)]
    dt = 0.01
    forces.add(field, forces.gravity_kick(run.world.gravity, layout.dx, dt))
    system = pressure.assemble(phi, solids)
    _, solution = pressure.project(system, pressure.Surface(phi), solids, field, np.zeros(3))
    cell = system.cells()
    pascal = solution.value.reshape(-1)[system.places()] * 998.2 * layout.dx**2 / dt
    column = (cell[:, 0] == PAD + 32) & (cell[:, 2] == PAD + 2)
    height = (cell[column, 1] + 0.5 - PAD) * layout.dx
    slope, bottom = np.polyfit(height, pascal[column], 1)
    return float(slope), float(bottom)


class HydrostaticPressure(SimpleTestCase):
    """Case A01: p(y) = rho g (H - y), 4894.5 Pa at the bottom of 0.5 m of water."""

    def test_pressure_grows_by_rho_g_with_depth(self) -> None:
        slope, bottom = pressure_down_the_middle(tank())
        self.assertAlmostEqual(slope / -9789.1, 1.0, delta=5e-4)
        self.assertAlmostEqual(bottom / (998.2 * G * 0.5), 1.0, delta=0.01)
