"""Forces do what they claim: each against its own law."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.test import SimpleTestCase

from basin.liquid import forces
from basin.liquid.step import Liquid
from tests.reference.tanks import CLOSED, G, box_fill, liquid, position, velocity

OPEN = dict.fromkeys(CLOSED, "open")


def force(effect: dict[str, Any], **more: Any) -> dict[str, Any]:
    """A force element."""
    return {"kind": "force", "name": "push", "effect": effect, **more}


def block(elements: list[dict[str, Any]], fps: float = 24.0, **more: Any) -> Liquid:
    """A block of 0.2 m in the middle of an open domain of 1 m without weight."""
    fill = box_fill((0.4, 0.4, 0.4), (0.6, 0.6, 0.6), velocity=more.pop("speed", (0, 0, 0)))
    return liquid(0.025, (1, 1, 1), [fill, *elements], walls=OPEN, fps=fps, **{"gravity": (0, 0, 0), **more})


class Drag(SimpleTestCase):
    """v = v0 exp(-k t), and a way of v0 / k (1 - exp(-k t)): the definition of a linear drag."""

    def test_velocity_decays_with_its_time_constant(self) -> None:
        run = block([force({"kind": "drag", "rate": 4.0})], speed=(0.5, 0, 0))
        start = position(run).mean(axis=0)[0]
        for frame in range(2, 14):
            run.advance_frame(frame)
        self.assertAlmostEqual(velocity(run)[:, 0].mean() / (0.5 * np.exp(-2.0)), 1.0, delta=0.01)
        way = position(run).mean(axis=0)[0] - start
        self.assertAlmostEqual(way / (0.5 / 4.0 * (1 - np.exp(-2.0))), 1.0, delta=0.01)

    def test_drops_that_fly_alone_are_held_too(self) -> None:
        run = block([force({"kind": "drag", "rate": 4.0})], speed=(0.5, 0, 0))
        run.state.particles = run.state.particles.taken(np.arange(len(run.state.particles)) == 7)
        for frame in range(2, 14):
            run.advance_frame(frame)
        self.assertAlmostEqual(velocity(run)[0, 0] / (0.5 * np.exp(-2.0)), 1.0, delta=0.01)

    def test_only_while_and_where_it_acts(self) -> None:
        late = block([force({"kind": "drag", "rate": 4.0}, start=0.25, end=0.5)], speed=(0.1, 0, 0))
        away = block([force({"kind": "drag", "rate": 4.0}, zone={"kind": "sphere", "radius": 0.1})], speed=(0.1, 0, 0))
        for frame in range(2, 20):
            late.advance_frame(frame)
            away.advance_frame(frame)
        self.assertAlmostEqual(velocity(late)[:, 0].mean() / (0.1 * np.exp(-1.0)), 1.0, delta=0.1)  # whole substeps
        self.assertAlmostEqual(velocity(away)[:, 0].mean(), 0.1, places=5)


class Turbulence(SimpleTestCase):
    """Kraichnan 1970: no divergence, the stated root mean square, other noise later, none of it from elsewhere."""

    def test_field(self) -> None:
        run = block([force({"kind": "turbulence", "strength": 3.0, "size": 0.2, "tempo": 1.0})])
        rng, step = np.random.default_rng(2), 1e-4
        place = rng.uniform(0, 1, (len(run.state.particles), 3))

        def field(at: np.ndarray, time: float = 0.0) -> np.ndarray:
            wave = run.world.forces[0].waves(time)
            turned = np.cos(at @ wave[:, :3].T + wave[:, 6])
            return 3.0 * turned @ wave[:, 3:6]

        values = field(place)
        self.assertAlmostEqual(np.sqrt((values**2).sum(axis=1).mean()) / 3.0, 1.0, delta=0.1)
        slopes = [(field(place + step * e) - field(place - step * e)) / (2 * step) for e in np.eye(3)]
        divergence = sum(slopes[d][:, d] for d in range(3))
        self.assertLess(np.abs(divergence).max(), 1e-5 * np.abs(slopes).max())
        self.assertLess(abs(np.corrcoef(values[:, 0], field(place, 3.0)[:, 0])[0, 1]), 0.5)
        # the kernel gives what the formula says
        push = forces.push_at(run.world.forces, 0.0, 1.0, 0.01)
        assert push is not None
        p = run.state.particles
        p.position[:] = run.world.layout.to_voxels(place)
        forces.push_alone(p, np.ones(len(p), bool), run.world.layout, push)
        np.testing.assert_allclose(velocity(run), 0.01 * field(position(run)), atol=1e-5)


class AboutAnAxis(SimpleTestCase):
    """Newton: what a vortex gives per second is its acceleration times the arm, and nothing along the axis."""

    def test_angular_momentum(self) -> None:
        pose = {"translation": [0.5, 0.5, 0.5], "rotation": [90, 0, 0]}
        run = block([force({"kind": "vortex", "strength": 2.0}, pose=pose)])
        for frame in range(2, 4):
            run.advance_frame(frame)
        arm, v = position(run) - 0.5, velocity(run)
        turning = np.cross(arm, v)[:, 2].mean()
        self.assertAlmostEqual(turning / (2.0 * np.hypot(arm[:, 0], arm[:, 1]).mean() * 2 / 24), 1.0, delta=0.03)
        self.assertLess(abs(v[:, 2]).mean(), 0.005)


class Attraction(SimpleTestCase):
    """A constant pull a towards a point: the way is a t^2 / 2."""

    def test_way(self) -> None:
        run = block([force({"kind": "attraction", "strength": 1.0}, pose={"translation": [40.5, 0.5, 0.5]})])
        for frame in range(2, 14):
            run.advance_frame(frame)
        moved = position(run).mean(axis=0) - 0.5
        self.assertAlmostEqual(moved[0] / (0.5 * 0.5**2), 1.0, delta=0.01)
        self.assertLess(abs(moved[1]), 1e-3)


class Wind(SimpleTestCase):
    """Momentum that wind gives per area and second: air density * coefficient * speed^2, whatever the voxel."""

    def given(self, dx: float, density: float = 998.2) -> float:
        fill = box_fill((0, 0, 0), (0.4, 0.2, 0.1))
        walls = {**CLOSED, "x_min": "periodic", "x_max": "periodic"}
        wind = force({"kind": "wind", "velocity": [10, 0, 0], "grip": 0.02})
        run = liquid(dx, (0.4, 0.3, 0.1), [fill, wind], walls=walls, fps=24.0, density=density)
        for frame in range(2, 8):
            run.advance_frame(frame)
        momentum = float((velocity(run)[:, 0] * run.state.particles.volume).sum()) * dx**3
        return momentum / (1.204 / density * 0.02 * 10**2 * 0.4 * 0.1 * 6 / 24)

    def test_stress(self) -> None:
        # the surface runs along at up to 0.2 m/s by then, which takes 2 % off
        self.assertAlmostEqual(self.given(0.025), 0.98, delta=0.04)
        self.assertAlmostEqual(self.given(0.0125), 0.97, delta=0.04)
        # a heavier liquid is given as much momentum, so less speed
        self.assertAlmostEqual(self.given(0.025, 2000.0), 0.99, delta=0.04)


class KeyedGravity(SimpleTestCase):
    """Galilei, with gravity that turns at half a second."""

    def test_turned_over(self) -> None:
        keys = [
            {"time": 0.0, "value": [0, 0, 0], "segment": "step"},
            {"time": 0.25, "value": [0, G, 0], "segment": "step"},
            {"time": 0.5, "value": [G, 0, 0], "segment": "step"},
        ]
        run = block([], gravity={"keys": keys})
        for frame in range(2, 14):
            run.advance_frame(frame)
        self.assertAlmostEqual(velocity(run)[:, 1].mean() / (G * 0.25), 1.0, delta=0.001)
        self.assertAlmostEqual(velocity(run)[:, 0].mean(), 0.0, places=3)
