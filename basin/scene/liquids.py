"""Liquids whose numbers are known: what a source can be said to give.

Numbers at room pressure. Where the literature has one number it is here with its source; where it has a range, a number
amid it and the range beside. What is from memory of the literature says "range".
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Name = Literal[
    "own numbers",
    "water 5 C",
    "water 20 C",
    "water 60 C",
    "sea water 10 C",
    "sea water 20 C",
    "whole milk 20 C",
    "ethanol 20 C",
    "olive oil 20 C",
    "motor oil 20 C",
    "ethylene glycol 20 C",
    "glycerine 60 % 20 C",
    "glycerine 80 % 20 C",
    "glycerine 90 % 20 C",
    "glycerine 20 C",
    "maple syrup 20 C",
    "sugar syrup 70 % 20 C",
    "molasses 20 C",
    "honey 20 C",
    "honey 40 C",
    "melted chocolate 40 C",
    "blood 37 C",
    "wall paint 20 C",
    "glaze slip 20 C",
    "casting slip 20 C",
    "ketchup 20 C",
    "mayonnaise 20 C",
    "soft clay 20 C",
    "mercury 20 C",
    "basaltic lava 1150 C",
    "molten glass 1200 C",
]
Colour = tuple[float, float, float]


@dataclass(frozen=True)
class Liquid:
    """A liquid's numbers.

    Attributes
    ----------
    temperature : degrees Celsius
    density : kg/m3
    viscosity : Pa s, that at a shear of one per second where it depends on it
    surface_tension : N/m, against air
    source : where the numbers come from, and how far they may be off
    yield_stress : Pa
    flow_index : see `basin.liquid.yielding`
    refractive_index : for yellow light
    absorption : per metre, in red, green and blue (650, 550, 450 nm); None where light is scattered rather than
        absorbed, or does not come in at all
    seen : linear red, green and blue of what scatters light or mirrors it, as it is seen (common practice, no source)
    mirrors : share of light that a metal throws back; 0 of what is none
    """

    temperature: float
    density: float
    viscosity: float
    surface_tension: float
    source: str
    yield_stress: float = 0.0
    flow_index: float = 1.0
    refractive_index: float | None = None
    absorption: Colour | None = None
    seen: Colour | None = None
    mirrors: float = 0.0


IAPWS = "IAPWS R12-08 and R1-76; density by Kell 1975; absorption by Pope & Fry 1997"
SEA = "35 g/kg. Density by UNESCO EOS-80, viscosity by Sharqawy 2010, tension by Nayar 2014"
CLEAR = (0.340, 0.0565, 0.0092)  # of pure water
CHENG = "viscosity by Cheng 2008; density from handbooks; tension between water's and glycerine's"

LIQUIDS: dict[str, Liquid] = {
    "water 5 C": Liquid(5, 999.96, 1.518e-3, 0.0749, IAPWS, refractive_index=1.334, absorption=CLEAR),
    "water 20 C": Liquid(20, 998.2, 1.0016e-3, 0.0727, IAPWS, refractive_index=1.333, absorption=CLEAR),
    "water 60 C": Liquid(60, 983.2, 0.466e-3, 0.0662, IAPWS, refractive_index=1.327, absorption=CLEAR),
    "sea water 10 C": Liquid(10, 1027.0, 1.397e-3, 0.0752, SEA, refractive_index=1.341, absorption=CLEAR),
    "sea water 20 C": Liquid(20, 1024.8, 1.076e-3, 0.0738, SEA, refractive_index=1.340, absorption=CLEAR),
    "whole milk 20 C": Liquid(
        20,
        1030,
        2.0e-3,
        0.047,
        "range, dairy handbooks: 1027 to 1033 kg/m3, 0.0015 to 0.0022 Pa s, 0.045 to 0.050 N/m",
        seen=(0.86, 0.83, 0.76),
    ),
    "ethanol 20 C": Liquid(20, 789.4, 1.19e-3, 0.0224, "CRC Handbook", refractive_index=1.361),
    "olive oil 20 C": Liquid(
        20,
        911,
        0.084,
        0.032,
        "range: 908 to 918 kg/m3, 0.075 to 0.090 Pa s, 0.031 to 0.034 N/m",
        refractive_index=1.468,
        absorption=(6.0, 12.0, 140.0),
    ),
    "motor oil 20 C": Liquid(
        20,
        880,
        0.28,
        0.032,
        "SAE 30; range: 870 to 890 kg/m3, 0.2 to 0.35 Pa s, 0.030 to 0.035 N/m",
        absorption=(8.0, 35.0, 180.0),
    ),
    "ethylene glycol 20 C": Liquid(20, 1113, 0.0209, 0.0484, "Perry; tension by Jasper 1972", refractive_index=1.432),
    "glycerine 60 % 20 C": Liquid(20, 1154, 0.0109, 0.068, CHENG, refractive_index=1.413),
    "glycerine 80 % 20 C": Liquid(20, 1208, 0.061, 0.066, CHENG, refractive_index=1.443),
    "glycerine 90 % 20 C": Liquid(20, 1235, 0.224, 0.065, CHENG, refractive_index=1.458),
    "glycerine 20 C": Liquid(
        20, 1261, 1.41, 0.0634, "Cheng 2008; density and tension from handbooks", refractive_index=1.4746
    ),
    "maple syrup 20 C": Liquid(
        20,
        1325,
        0.16,
        0.07,
        "66 % sugar; range: 1320 to 1335 kg/m3, about 0.1 to 0.2 Pa s",
        absorption=(5.0, 35.0, 160.0),
    ),
    "sugar syrup 70 % 20 C": Liquid(
        20, 1347, 0.48, 0.077, "sucrose; density and viscosity from sugar tables, tension a range: 0.074 to 0.080 N/m"
    ),
    "molasses 20 C": Liquid(
        20, 1400, 10.0, 0.06, "range: 1350 to 1450 kg/m3, 5 to 20 Pa s; tension unsure", absorption=(60.0, 150.0, 400.0)
    ),
    "honey 20 C": Liquid(
        20,
        1415,
        8.0,
        0.06,
        "range: 1380 to 1450 kg/m3, 2 to 20 Pa s with 20 to 15 % of water; tension unsure",
        refractive_index=1.49,
        absorption=(4.0, 22.0, 140.0),
    ),
    "honey 40 C": Liquid(
        40,
        1400,
        1.0,
        0.06,
        "range: 0.3 to 2 Pa s; it falls to a third in 6 to 10 degrees; tension unsure",
        refractive_index=1.49,
        absorption=(4.0, 22.0, 140.0),
    ),
    "melted chocolate 40 C": Liquid(
        40,
        1275,
        3.0,
        0.03,
        "range: 1230 to 1320 kg/m3, 1 to 5 Pa s, yield 5 to 25 Pa; tension unsure",
        yield_stress=12.0,
        seen=(0.12, 0.045, 0.02),
    ),
    "blood 37 C": Liquid(
        37,
        1055,
        0.012,
        0.055,
        "range: 1043 to 1060 kg/m3, 0.003 to 0.004 Pa s sheared fast, 0.01 and more slowly, 0.052 to 0.058 N/m",
        yield_stress=0.005,
        flow_index=0.75,
        seen=(0.22, 0.008, 0.008),
    ),
    "wall paint 20 C": Liquid(
        20,
        1300,
        6.0,
        0.035,
        "range: 1200 to 1400 kg/m3, 0.1 Pa s at 1000/s to 10 at 1/s, yield 0.1 to 10 Pa, 0.025 to 0.045 N/m",
        yield_stress=2.0,
        flow_index=0.5,
        seen=(0.72, 0.72, 0.68),
    ),
    "glaze slip 20 C": Liquid(
        20,
        1450,
        0.8,
        0.06,
        "range: 1400 to 1500 kg/m3, 0.02 to 1 Pa s, yield 0.5 to 20 Pa; unsure",
        yield_stress=4.0,
        flow_index=0.7,
        seen=(0.62, 0.58, 0.5),
    ),
    "casting slip 20 C": Liquid(
        20,
        1750,
        1.0,
        0.06,
        "range: 1700 to 1800 kg/m3, 0.02 to 1 Pa s, yield 0.5 to 20 Pa; unsure",
        yield_stress=10.0,
        flow_index=0.7,
        seen=(0.55, 0.5, 0.44),
    ),
    "ketchup 20 C": Liquid(
        20,
        1130,
        12.0,
        0.045,
        "range, Steffe 1996: yield 15 to 40 Pa, 5 to 20 Pa s at 1/s, index 0.2 to 0.4; tension unsure",
        yield_stress=25.0,
        flow_index=0.3,
        seen=(0.42, 0.02, 0.008),
    ),
    "mayonnaise 20 C": Liquid(
        20,
        920,
        25.0,
        0.035,
        "range, Steffe 1996: yield 50 to 100 Pa; the rest unsure",
        yield_stress=80.0,
        flow_index=0.5,
        seen=(0.86, 0.8, 0.56),
    ),
    "soft clay 20 C": Liquid(
        20,
        1800,
        100.0,
        0.06,
        "common practice, no source: yield 100 to 2000 Pa by its water",
        yield_stress=500.0,
        flow_index=0.4,
        seen=(0.34, 0.22, 0.14),
    ),
    "mercury 20 C": Liquid(
        20, 13546, 1.554e-3, 0.4865, "CRC Handbook; tension 0.465 to 0.487 N/m", seen=(0.6, 0.6, 0.62), mirrors=0.75
    ),
    "basaltic lava 1150 C": Liquid(
        1150,
        2700,
        100.0,
        0.35,
        "range: 2600 to 2750 kg/m3, 10 to 1000 Pa s, yield 0 to 1000 Pa; tension by Walker & "
        "Mullins 1981: 0.25 to 0.40 N/m",
        yield_stress=50.0,
        seen=(0.9, 0.18, 0.02),
    ),
    "molten glass 1200 C": Liquid(
        1200,
        2380,
        80.0,
        0.31,
        "soda-lime; range: 50 to 120 Pa s, 0.30 to 0.32 N/m",
        refractive_index=1.50,
        seen=(1.0, 0.36, 0.06),
    ),
}
