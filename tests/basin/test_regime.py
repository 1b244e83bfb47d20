"""Numbers behind a look, against their definitions, and what is said of them."""

from __future__ import annotations

from django.test import SimpleTestCase

from basin.scene.model import Substance
from basin.stages.regime import clinging, landing, regime
from tests.reference.tanks import G

WATER = Substance(998.2, 1.0016e-3, 0.0, 1.0, 0.0728)
SYRUP = Substance(1400.0, 10.0, 0.0, 1.0, 0.06)


class Numbers(SimpleTestCase):
    """Definitions (White, Fluid Mechanics, 2011, table 5.2), worked by hand for water at 20 C."""

    def test_of_water(self) -> None:
        """20 mm at 3 m/s: the catalogue's crown (case C14) has a Weber number of 2468."""
        found = {n.name: n.value for n in regime(WATER, 0.02, 3.0, G, 0.001).numbers}
        for name, value in {
            "Reynolds": 59797,
            "Froude": 6.774,
            "Weber": 2468,
            "Bond": 53.79,
            "Ohnesorge": 8.308e-4,
            "Capillary": 0.04127,
        }.items():
            self.assertAlmostEqual(found[name] / value, 1.0, delta=1e-3, msg=name)

    def test_what_does_not_act_has_no_number(self) -> None:
        dry = Substance(1000.0, 0.0, 0.0, 1.0, 0.0)
        found = {n.name: n.value for n in regime(dry, 0.1, 1.0, 0.0, 0.001).numbers}
        self.assertEqual({name for name, value in found.items() if value is None}, set(found))
        (only,) = regime(dry, 0.1, 1.0, 0.0, 0.001).says
        self.assertIn("name a liquid", only)


class Words(SimpleTestCase):
    """What is said, from the sources that the remarks name."""

    def said(self, made: Substance, length: float, speed: float, voxel: float = 1e-3) -> str:
        return " ".join(regime(made, length, speed, G, voxel).says)

    def test_drops_splash_or_sink(self) -> None:
        """Milk and water drops of some mm at some m/s throw crowns, slower ones do not; syrup sinks."""
        self.assertIn("throws up a crown", self.said(WATER, 0.004, 3.0))
        # Bhola & Chandra 1999: We 493.6, Re 11960, sqrt(We) Re^(1/4) / (4 sqrt 3) = 33.5
        self.assertRegex(self.said(WATER, 0.004, 3.0), "about 3[34] drops")
        self.assertIn("sinks in", self.said(WATER, 0.004, 0.3))
        self.assertIn("sinks in", self.said(SYRUP, 0.02, 3.0))

    def test_threads_fall_into_drops_or_not(self) -> None:
        """Rayleigh 1878: a wave of 9.014 radii; a thread of 10 mm of water, 45 mm."""
        self.assertIn("one to every 45 mm", self.said(WATER, 0.010, 1.0))
        self.assertIn("does not fall into drops", self.said(SYRUP, 0.004, 1.0))

    def test_threads_coil_where_they_land(self) -> None:
        """Ribe 2004 by hand: honey of 0.005 m2/s, 6 mm across at 0.1 m/s; thin or short threads do not."""
        honey = Substance(1400.0, 7.0, 0.0, 1.0, 0.06)
        # weight (g U^3 / nu a^2)^(1/4) = 21.6, inertia (U^4 / nu a^2)^(1/3) = 13.0, viscosity U / H = 1 per second
        self.assertIn("coils about 3 times", " ".join(regime(honey, 0.006, 0.1, G, 1e-3, 0.1).says))
        for made, fall in ((honey, 0.03), (WATER, 0.1)):
            self.assertNotIn("coils", " ".join(regime(made, 0.006, 0.1, G, 1e-3, fall).says))

    def test_a_thick_thread_lands_slower(self) -> None:
        """Without inertia v = v_H / cos^2(k s), k^2 = g v_H / 6 nu, of slowness v at s above the floor, by hand."""
        self.assertAlmostEqual(landing(100.0, 0.6449, 5.0, G), 1.0, delta=0.02)
        # case B14 (Trouton 1906, Clarke 1968), from 0.1 m/s over half a metre: radii of 0.215 and 0.409 at the end
        for nu, radius in ((0.05, 0.215), (0.5, 0.409)):
            self.assertAlmostEqual(landing(nu, 0.1, 0.5, G) * radius**2 / 0.1, 1.0, delta=0.01)
        self.assertAlmostEqual(landing(1e-6, 1.0, 0.5, G), (1 + G) ** 0.5, delta=0.02)
        self.assertAlmostEqual(landing(0.0, 1.0, 0.5, G), (1 + G) ** 0.5, delta=1e-9)

    def test_lengths_in_voxels_and_the_voxel_that_would_do(self) -> None:
        """Capillary length of water 2.727 mm (case C09); of a thread of 2 mm four voxels are of half a millimetre."""
        told = self.said(WATER, 0.002, 1.0, 1e-3)
        self.assertIn("2.7 mm against weight: 2.7 voxels", told)
        self.assertIn("a voxel of 0.5 mm, with 8 times the particles", told)
        self.assertNotIn("times the particles", self.said(WATER, 0.02, 1.0, 1e-3))

    def test_films_that_cling(self) -> None:
        """By hand: sqrt(nu z / g t) (Jeffreys 1930); catalogue's case C18, 0.446 mm at 0.05 m/s; Young and Dupre."""
        made = Substance(1000.0, 0.1, 0.0, 1.0, 0.06)
        self.assertIn("a coat is 1 mm thick after a second", self.said(made, 0.01, 0.05))
        self.assertIn("keeps 0.45 mm of it: 0.45 voxels", self.said(made, 0.01, 0.05))
        self.assertIn("0.12 J/m2: 0 degrees", clinging(made, 0.0, "it"))
        self.assertIn("0.06 J/m2: 90 degrees", clinging(made, 90.0, "it"))

    def test_a_coat_that_stays(self) -> None:
        """Yield stress over density and gravity (case B18: 30 Pa, 1140 kg/m3, upright: 2.68 mm)."""
        self.assertIn("thinner than 2.7 mm stays", self.said(Substance(1140, 10, 30, 1, 0), 0.01, 0.1))
        self.assertAlmostEqual(30 / (1140 * G), 2.68e-3, delta=1e-5)
