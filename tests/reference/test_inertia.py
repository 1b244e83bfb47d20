"""Free fall, dam break and efflux: cases A03, A07 and A05."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase, tag

from tests.long import LONG
from tests.reference import cases
from tests.reference.potential_flow import DEPTHS
from tests.reference.tanks import (
    G,
    box_fill,
    column_heights,
    liquid,
    mechanical_energy,
    position,
    velocity,
)


class FreeFall(SimpleTestCase):
    """Case A03 (Galilei): 1.2258 m after 0.5 s, 4.9033 m after 1 s; the block keeps its shape."""

    def test_block_falls_half_g_t_squared_and_keeps_its_shape(self) -> None:
        dx = 0.02
        run = liquid(dx, (0.5, 6.0, 0.5), [box_fill((0.15, 5.6, 0.15), (0.35, 5.8, 0.35))])

        def by_id() -> np.ndarray:
            return position(run)[np.argsort(run.state.particles.id)]

        start = by_id()
        for frame in range(2, 26):
            run.advance_frame(frame)
            if frame == 13:
                self.assertAlmostEqual((start - by_id()).mean(axis=0)[1] / 1.2258, 1.0, delta=0.001)
        fallen = by_id()
        self.assertEqual(len(fallen), len(start))
        self.assertAlmostEqual((start - fallen).mean(axis=0)[1] / 4.9033, 1.0, delta=0.001)
        shape = (fallen - fallen.mean(axis=0)) - (start - start.mean(axis=0))
        self.assertLess(np.sqrt((shape**2).sum(axis=1).mean()), 0.1 * dx)
        self.assertAlmostEqual(-velocity(run)[:, 1].mean() / G, 1.0, delta=0.001)


class DamBreak(SimpleTestCase):
    """Case A07 (Ritter 1892), h0 = 0.3 m: at the dam h = 4/9 h0 and q = 8/27 h0 c0."""

    def test_dam_section_and_front_follow_ritter(self) -> None:
        dx, h0, dam = 0.01, 0.3, 1.2
        c0 = float(np.sqrt(G * h0))
        run = cases.dam_break(dx)
        depth = 3 * dx
        edges = np.arange(0, 3 + dx / 2, dx)
        heights, flows, fronts = [], [], []
        energy = [mechanical_energy(run)]
        for frame in range(2, 72):
            run.advance_frame(frame)
            t = (frame - 1) / 100
            energy.append(mechanical_energy(run) / energy[0])
            x, speed = position(run)[:, 0], velocity(run)[:, 0]
            volume = run.state.particles.volume * dx**3
            near = np.abs(x - dam) < 2 * dx
            column = column_heights(run, edges, depth)
            fronts.append((t, edges[np.flatnonzero(column > 0.5 * dx)[-1] + 1] - dam))
            heights.append((t * np.sqrt(G / h0), volume[near].sum() / (4 * dx * depth)))
            flows.append((volume[near] * speed[near]).sum() / (4 * dx * depth))
        time, height = np.array(heights).T
        # Ritter's shallow water leaves out the vertical acceleration: true potential flow nears 4/9 h0 from
        # above, and is still 6 % high on the mean of 2 to 4 (potential_flow.py), so that is the measure
        for moment, expected in DEPTHS.items():
            now = np.abs(time - moment) < 0.1
            self.assertAlmostEqual(height[now].mean() / (4 * h0 / 9) / expected, 1.0, delta=0.02)
        late_half = time > 3.0
        self.assertAlmostEqual(height[late_half].mean() / (4 * h0 / 9), 1.0, delta=0.06)
        settled = time > 2.0
        self.assertAlmostEqual(np.array(flows)[settled].mean() / (8 / 27 * h0 * c0), 1.0, delta=0.06)
        # without friction nothing takes mechanical energy away (Bernoulli 1738); 0.6 % in 0.5 s is ours
        self.assertGreater(energy[50], 0.994)
        self.assertLess(max(energy[1:]), 1.002)
        late = np.array([f for f in fronts if f[0] > 0.25])
        front = np.polyfit(late[:, 0], late[:, 1], 1)[0] / (2 * c0)
        self.assertGreater(front, 0.75)
        self.assertLess(front, 1.03)


@tag(LONG)
class Efflux(SimpleTestCase):
    """Case A05 (Torricelli 1643): v = sqrt(2 g h), 4 % at the contracted section."""

    def test_jet_leaves_at_torricellis_speed(self) -> None:
        self.assertAlmostEqual(cases.efflux_speed(0.00625), 1.0, delta=0.04)


class Contraction(SimpleTestCase):
    """Case A34 (Kirchhoff 1869, von Mises 1917): a tenth of the channel open contracts to 0.612; 8 % at 8 voxels.

    Liquid that turns around the edge and hangs on its far side makes it 0.9.
    """

    def test_under_a_thick_floor(self) -> None:
        self.assertAlmostEqual(cases.contraction(8, 2.0) / 0.612, 1.0, delta=0.08)

    def test_under_one_thinner_than_a_voxel(self) -> None:
        self.assertAlmostEqual(cases.contraction(8, 0.2) / 0.612, 1.0, delta=0.08)

    def test_by_a_knife_edge(self) -> None:
        self.assertAlmostEqual(cases.contraction(8, 4.0, plate="knife") / 0.612, 1.0, delta=0.08)


class Turning(SimpleTestCase):
    """Case A36 (Newton): a still wall without friction, though a mesh, does not slow a turning cylinder down."""

    def test_a_full_vessel_keeps_its_angular_momentum(self) -> None:
        for flip_share in (0.0, 0.95):
            kept, _ = cases.turning(24, half=False, flip_share=flip_share)
            self.assertLess(abs(kept - 1.0), 0.01, f"FLIP share {flip_share}: {kept:.4f} kept in a turn")

    def test_half_full_it_keeps_that_and_its_paraboloid(self) -> None:
        kept, rises = cases.turning(24, half=True)
        self.assertLess(abs(kept - 1.0), 0.01, f"{kept:.4f} kept in a turn")
        self.assertLess(abs(rises - 1.0), 0.05, f"{rises:.4f} of the paraboloid")
