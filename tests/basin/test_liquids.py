"""Named liquids against published formulas, and what a source makes of a name."""

from __future__ import annotations

from pathlib import Path
from typing import Any, get_args

import numpy as np
from django.test import SimpleTestCase
from pydantic import ValidationError

from basin.scene import parse_scene
from basin.scene.liquids import LIQUIDS, Name
from basin.scene.model import Collider, Domain, Fill
from basin.stages.assembly import check_scene, liquid_world
from basin.stages.bodies import bodies
from basin.stages.files import SceneFiles
from tests.reference.tanks import box_fill, liquid


def water(celsius: float) -> tuple[float, float, float]:
    """Density by Kell 1975 (J. Chem. Eng. Data 20), viscosity by IAPWS R12-08 at 0.1 MPa, tension by IAPWS R1-76.

    Coefficients from memory.
    """
    t, kelvin = celsius, celsius + 273.15
    terms = (999.83952, 16.945176, -7.9870401e-3, -46.170461e-6, 105.56302e-9, -280.54253e-12)
    density = sum(c * t**n for n, c in enumerate(terms)) / (1 + 16.87985e-3 * t)
    x = kelvin / 300
    viscosity = 1e-6 * (280.68 * x**-1.9 + 511.45 * x**-7.7 + 61.131 * x**-19.6 + 0.45903 * x**-40)
    far = 1 - kelvin / 647.096
    return density, viscosity, 0.2358 * far**1.256 * (1 - 0.625 * far)


def sea_water(t: float, salt: float = 35.0) -> tuple[float, float, float]:
    """Density by UNESCO EOS-80, viscosity by Sharqawy & al. 2010, tension by Nayar & al. 2014; from memory."""
    pure = (999.842594, 6.793952e-2, -9.095290e-3, 1.001685e-4, -1.120083e-6, 6.536332e-9)
    first = (0.824493, -4.0899e-3, 7.6438e-5, -8.2467e-7, 5.3875e-9)
    second = (-5.72466e-3, 1.0227e-4, -1.6546e-6)
    density = sum(c * t**n for n, c in enumerate(pure)) + salt * sum(c * t**n for n, c in enumerate(first))
    density += salt**1.5 * sum(c * t**n for n, c in enumerate(second)) + 4.8314e-4 * salt**2
    a, b = 1.541 + 1.998e-2 * t - 9.52e-5 * t**2, 7.974 - 7.561e-2 * t + 4.724e-4 * t**2
    share = salt / 1000
    _, viscosity, tension = water(t)
    return density, viscosity * (1 + a * share + b * share**2), tension * (1 + 3.766e-4 * salt + 2.347e-6 * salt * t)


def glycerine(share: float, t: float = 20.0) -> float:
    """Viscosity of a mixture with water by mass: Cheng 2008, Ind. Eng. Chem. Res. 47; from memory."""
    thin = 1.790e-3 * np.exp((-1230 - t) * t / (36100 + 360 * t))
    thick = 12.1 * np.exp((-1233 + t) * t / (9900 + 70 * t))
    a = 0.705 - 0.0017 * t
    b = (4.9 + 0.036 * t) * a**2.5
    alpha = 1 - share + a * b * share * (1 - share) / (a * share + b * (1 - share))
    return float(thin**alpha * thick ** (1 - alpha))


class Numbers(SimpleTestCase):
    """Case I01: what the library says against published formulas, within 1 %, and the ranges of handbooks."""

    def test_water_and_sea_water(self) -> None:
        for name, (density, viscosity, tension) in {
            "water 5 C": water(5),
            "water 20 C": water(20),
            "water 60 C": water(60),
            "sea water 10 C": sea_water(10),
            "sea water 20 C": sea_water(20),
        }.items():
            own = LIQUIDS[name]
            self.assertAlmostEqual(own.density / density, 1.0, delta=0.001, msg=name)
            self.assertAlmostEqual(own.viscosity / viscosity, 1.0, delta=0.01, msg=name)
            self.assertAlmostEqual(own.surface_tension / tension, 1.0, delta=0.01, msg=name)

    def test_glycerine_with_water(self) -> None:
        for name, share in (("60 % ", 0.6), ("80 % ", 0.8), ("90 % ", 0.9), ("", 1.0)):
            own = LIQUIDS[f"glycerine {name}20 C"]
            self.assertAlmostEqual(own.viscosity / glycerine(share), 1.0, delta=0.01, msg=name)

    def test_others_lie_in_their_ranges(self) -> None:
        """Ranges of handbooks, from memory (dairy and food handbooks, Steffe 1996, CRC Handbook, Perry)."""
        for name, density, viscosity, tension in (
            ("whole milk 20 C", (1027, 1033), (1.5e-3, 2.2e-3), (0.045, 0.050)),
            ("olive oil 20 C", (908, 918), (0.075, 0.090), (0.031, 0.034)),
            ("motor oil 20 C", (870, 890), (0.2, 0.35), (0.030, 0.035)),
            ("ethylene glycol 20 C", (1113, 1114), (0.0207, 0.0212), (0.048, 0.049)),
            ("honey 20 C", (1380, 1450), (2, 20), (0.04, 0.09)),
            ("melted chocolate 40 C", (1230, 1320), (1, 5), (0.02, 0.05)),
            ("blood 37 C", (1043, 1060), (3e-3, 2e-2), (0.052, 0.058)),
            ("ketchup 20 C", (1100, 1150), (5, 20), (0.03, 0.07)),
            ("mercury 20 C", (13534, 13560), (1.5e-3, 1.6e-3), (0.465, 0.487)),
            ("basaltic lava 1150 C", (2600, 2750), (10, 1000), (0.25, 0.40)),
        ):
            own = LIQUIDS[name]
            for value, (low, high) in (
                (own.density, density),
                (own.viscosity, viscosity),
                (own.surface_tension, tension),
            ):
                self.assertTrue(low <= value <= high, (name, value))

    def test_each_says_where_its_numbers_come_from(self) -> None:
        self.assertEqual(get_args(Name), ("own numbers", *LIQUIDS))
        self.assertGreaterEqual(len(LIQUIDS), 25)
        for name, own in LIQUIDS.items():
            self.assertGreater(len(own.source), 5, name)
            self.assertIn(f"{own.temperature:g} C", name)

    def test_the_manual_has_them_all(self) -> None:
        page = (Path(__file__).resolve().parents[2] / "docs" / "manual" / "04-colliders.md").read_text()
        for name, own in LIQUIDS.items():
            row = next(line for line in page.splitlines() if line.startswith(f"| {name} |"))
            cells = [cell.strip() for cell in row.split("|")[2:6]]
            told = [own.density, own.viscosity, own.yield_stress, own.surface_tension]
            np.testing.assert_allclose([float(cell) for cell in cells], told, err_msg=name)


class Named(SimpleTestCase):
    """A source that names a liquid."""

    def scene(self, density: float = 998.2, **more: Any) -> Any:
        fill = box_fill((0.2, 0.2, 0.2), (0.6, 0.6, 0.6), **more)
        return parse_scene({"format": "zinc-scene/1", "liquid": {"density": density}, "elements": [fill]})

    def test_it_has_that_liquid_s_numbers_over_its_own_density(self) -> None:
        run = liquid(0.1, (1, 1, 1), [box_fill((0, 0, 0), (0.5, 0.5, 0.5), liquid="honey 20 C", viscosity=3.0)])
        carried, own = run.world.carried, LIQUIDS["honey 20 C"]
        for name in ("viscosity", "surface_tension"):
            value = run.state.particles.carried[:, carried.at(name)]
            np.testing.assert_allclose(value, getattr(own, name) / own.density, rtol=1e-6)
        self.assertAlmostEqual(run.world.tension, own.surface_tension / own.density)

    def test_unlike_ones_each_have_their_own(self) -> None:
        fills = [
            box_fill((0, 0, 0), (0.5, 0.5, 0.5), "a", liquid="water 20 C"),
            box_fill((0.5, 0, 0), (1, 0.5, 0.5), "b", liquid="ketchup 20 C"),
        ]
        run = liquid(0.1, (1, 1, 1), fills)
        stress = run.state.particles.carried[:, run.world.carried.at("yield_stress")][:, 0]
        left = run.state.particles.position[:, 0] < run.world.layout.to_voxels(np.array([0.5, 0, 0]))[0]
        self.assertEqual(float(stress[left].max()), 0.0)
        np.testing.assert_allclose(stress[~left], 25.0 / 1130, rtol=1e-6)

    def test_another_density_is_said_and_mended(self) -> None:
        files = SceneFiles(Path("."))
        told = [a for a in check_scene(self.scene(liquid="honey 20 C"), files).remarks if a.where.endswith("liquid")]
        self.assertEqual([a.remedy.path for a in told if a.remedy], [("liquid", "density")])
        rest = check_scene(self.scene(1415.0, liquid="honey 20 C"), files).remarks
        self.assertFalse([a for a in rest if a.where.endswith("liquid")])

    def test_tension_that_no_voxel_shows_is_said(self) -> None:
        """Capillary length of water, 2.7 mm (de Gennes, Brochard & Quere 2004): voxels of 2 cm do not have it."""
        files = SceneFiles(Path("."))
        told = [str(a) for a in check_scene(self.scene(surface_tension=0.0728), files).remarks]
        self.assertTrue(any("5.5 mm, twice the capillary length" in says for says in told), told)
        told = [str(a) for a in check_scene(self.scene(surface_tension=0.0728 * 400), files).remarks]
        self.assertFalse(any("capillary length" in says for says in told), told)

    def test_thousandths_are_asked_about(self) -> None:
        files = SceneFiles(Path("."))
        told = [a.remedy for a in check_scene(self.scene(viscosity=1000.0), files).remarks if a.remedy]
        self.assertEqual([(r.path, r.value) for r in told], [(("elements", 0, "viscosity"), 1.0)])

    def test_what_no_liquid_has_is_refused(self) -> None:
        for bad in ({"surface_tension": -0.1}, {"surface_tension": 1e6}, {"liquid": "tea"}):
            with self.assertRaises(ValidationError):
                Fill(name="a", **bad)
        for bad in ({"contact_angle": -1}, {"contact_angle": 181}, {"receding_angle": 100}, {"slip_length": -1}):
            with self.assertRaises(ValidationError):
                Collider(name="a", **bad)
        with self.assertRaises(ValidationError):
            Domain(receding_angle=120)

    def test_angles_of_nothing_and_of_all_are_run(self) -> None:
        """A drop on a floor that it wets wholly, and on one not at all: it goes on, at finite speeds."""
        for angle in (0.0, 180.0):
            fill = box_fill((0.3, 0, 0.3), (0.7, 0.3, 0.7), surface_tension=10.0)
            run = liquid(0.05, (1, 1, 1), [fill], domain={"contact_angle": angle})
            for frame in range(2, 6):
                run.advance_frame(frame)
            self.assertTrue(np.isfinite(run.state.particles.velocity).all())
            self.assertLess(run.state.particles.fastest() * 0.05, 5.0)

    def test_tension_that_no_substep_follows_goes_on_limited(self) -> None:
        """10 N/m in voxels of a millimetre, two substeps a frame: the frame's readings say what share acts."""
        fill = box_fill((0.004, 0.004, 0.004), (0.012, 0.012, 0.012), surface_tension=10.0)
        run = liquid(0.001, (0.016, 0.016, 0.016), [fill], substeps_max=2, gravity=(0, 0, 0))
        made = run.advance_frame(2)
        assert made is not None
        self.assertLess(made[1].tension_share, 0.1)
        self.assertGreater(made[1].tension_width, 5.0)
        self.assertTrue(np.isfinite(run.state.particles.velocity).all())
        self.assertGreater(liquid_world(self.scene(surface_tension=0.1), SceneFiles(Path(".")), "final").tension, 0)


class Bodies(SimpleTestCase):
    """Looks of liquids: Fresnel's and Beer's laws by hand."""

    def look(self, **source: Any) -> tuple[np.ndarray, float, bool]:
        document = {"format": "zinc-scene/1", "elements": [box_fill((0, 0, 0), (1, 1, 1), "it", **source)]}
        found = bodies(parse_scene(document))
        return found.light[0], float(found.mirrors[0]), bool(found.own[0])

    def test_mirrors_by_refractive_index(self) -> None:
        """Water throws back 2.04 % of what comes straight (n = 1.333), glycerine 3.68 % (1.4746)."""
        self.assertAlmostEqual(self.look(liquid="water 20 C")[1], 0.0204, delta=1e-4)
        self.assertAlmostEqual(self.look(liquid="glycerine 20 C")[1], 0.0368, delta=1e-4)
        self.assertGreater(self.look(liquid="mercury 20 C")[1], 0.5)

    def test_colours_by_absorption(self) -> None:
        red, green, blue = self.look(liquid="honey 20 C")[0]
        self.assertAlmostEqual(red / green, float(np.exp(0.04 * (22 - 4))), places=6)
        self.assertLess(blue, 0.01 * red)  # amber
        np.testing.assert_array_equal(self.look(liquid="water 20 C")[0], self.look()[0])  # clear as without a name
        painted = self.look(liquid="honey 20 C", colour=[0.1, 0.2, 0.3])
        np.testing.assert_allclose(painted[0], [0.1, 0.2, 0.3])
        self.assertTrue(painted[2])

    def test_vertices_have_the_look_of_their_source(self) -> None:
        elements = [box_fill((0, 0, 0), (1, 1, 1), "a", liquid="honey 20 C"), box_fill((2, 0, 0), (3, 1, 1), "b")]
        elements[1]["colour"] = [0.0, 1.0, 0.0]
        found = bodies(parse_scene({"format": "zinc-scene/1", "elements": elements}))
        data = {"source": np.array([0, 1, 1], np.uint16), "colour": np.array([[0, 0, 1], [0, 1, 0], [0, 0, 1.0]])}
        coded = found.coded(data)
        np.testing.assert_array_equal(coded[1:, :3], [[0, 255, 0], [0, 0, 255]])
        self.assertGreater(int(coded[0, 0]), int(coded[0, 2]) + 100)
        self.assertEqual(int(coded[1, 3]), round(255 * 0.0204))
