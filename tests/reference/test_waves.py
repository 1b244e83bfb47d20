"""Waves, a leaning surface and a drop in free flight, against the analytic theory of each."""

from __future__ import annotations

import numpy as np
from django.test import SimpleTestCase, tag

from tests.long import LONG
from tests.reference import cases


@tag(LONG)
class Sloshing(SimpleTestCase):
    """Case A10 (Lamb 1932, section 228): a tank of 1 m with 0.5 m of water, first period 1.1820 s, within 1 %."""

    def test_first_period(self) -> None:
        self.assertAlmostEqual(2 * 3.14159265 / cases.wave_frequency(3.14159265, 0.5), 1.1820, places=4)
        period, kept = cases.sloshing_period(64)
        self.assertAlmostEqual(period, 1.0, delta=0.01)
        # energy comes from nowhere; what the transfers take is reported by the bench
        self.assertLess(kept, 1.005)
        self.assertGreater(kept, 0.9)


@tag(LONG)
class LeaningSurface(SimpleTestCase):
    """Case A14 (Euler): under a sideways acceleration of 2 m/s2 the surface leans by a / g, within 2 %."""

    def test_slope(self) -> None:
        self.assertAlmostEqual(cases.leaning_surface(64), 1.0, delta=0.02)


@tag(LONG)
class ShakenTank(SimpleTestCase):
    """Case A37: shaken by the keys of its walls, or by the force that is felt in it, the same wave within 2 % of it."""

    def test_keys_and_force(self) -> None:
        keys, theory = cases.shaken(64, "keys", 2.5)
        force, _ = cases.shaken(64, "force", 2.5)
        top = float(np.abs(theory).max())
        self.assertLess(float(np.abs(keys - force).max()) / top, 0.02)
        for found in (keys, force):  # and that wave is linear theory's, within 5 % of it
            self.assertLess(float(np.abs(found - theory).max()) / top, 0.05)


class TravellingWave(SimpleTestCase):
    """Case A16 (Airy 1845): speed of a wave 1 m long over 0.5 m of water, within 1.5 % at 32 voxels to its length."""

    def test_speed(self) -> None:
        speed, kept = cases.travelling_wave(32)
        self.assertAlmostEqual(speed, 1.0, delta=0.015)
        # of the height, a share per period: ours
        self.assertGreater(kept, 0.99)
        self.assertLess(kept, 1.002)


class Vortices(SimpleTestCase):
    """Case A26 without viscosity (Taylor & Green 1937; Euler): energy stays. 3 % a turnover is ours, at 32 voxels."""

    def test_energy_stays(self) -> None:
        for flip_share in (0.0, 0.95):
            kept, _ = cases.vortices(32, flip_share)
            self.assertGreater(kept, 0.97)
            self.assertLess(kept, 1.0)


class StretchingDrop(SimpleTestCase):
    """Case A23 (Dirichlet; Longuet-Higgins 1972): half axes after 1 s within 1.5 %, 20 voxels to the radius."""

    def test_axes(self) -> None:
        for time, a, b in ((0.5, 0.15948, 0.06271), (1.0, 0.22755, 0.04395)):  # the theory is that of the list
            found = cases.drop_axes(time)
            self.assertAlmostEqual(found[0] / a, 1.0, places=4)
            self.assertAlmostEqual(found[1] / b, 1.0, places=3)
        a, b = cases.stretched_drop(20)
        # the list asks for 1.5 %; particles that go straight on for a substep are wrong by 0.5 %, and would pass
        self.assertAlmostEqual(a, 1.0, delta=0.004)
        self.assertAlmostEqual(b, 1.0, delta=0.004)
        self.assertAlmostEqual(a * b, 1.0, delta=0.01)


@tag(LONG)
class Band(SimpleTestCase):
    """Requirement (after Ferstl et al. 2016): deep water with a band of six voxels moves as it does full of particles.

    Two seconds here, five in the bench.
    """

    def test_standing_wave(self) -> None:
        full, energy, many = cases.deep_tank(0.0, 2.0)
        banded, left, few = cases.deep_tank(6.0, 2.0)
        self.assertGreater(many, 3 * few)
        self.assertAlmostEqual(banded[-1].sum() / full[-1].sum(), 1.0, places=6)
        self.assertLess(float(np.sqrt(((banded - full) ** 2).mean(axis=1)).max()), 0.5)
        self.assertLess(float(np.abs(left / energy - 1).max()), 0.05)
        self.assertGreater(float(np.ptp(full, axis=0).max()), 3.0)  # voxels: there is a wave
