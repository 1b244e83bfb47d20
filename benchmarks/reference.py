"""``./zinc bench --reference``: the reference cases at several sizes; writes the measured part of docs/validation.md.

The tests hold one size of each case; here are the others, the observed order of the error, the run with
halved substeps, and what the tests only bound.
"""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import django
import numpy as np

from basin import keep_memory
from benchmarks.figures import curves
from tests.reference.potential_flow import DEPTHS, FRONTS

PAGE = Path(__file__).resolve().parent.parent / "docs" / "validation.md"
BEGIN, END = "<!-- measured: begin -->", "<!-- measured: end -->"


@dataclass(frozen=True)
class Row:
    """One quantity of a case, measured over expected.

    Attributes
    ----------
    sizes : voxels over the case's length, ascending
    run : size -> measured / expected
    figure : draws the case's curves, and links them
    """

    case: str
    what: str
    source: str
    tolerance: str
    sizes: tuple[float, ...]
    run: Callable[[Any], float]
    figure: Callable[[], str] = lambda: "-"


def rows() -> list[Row]:
    """All measured quantities."""
    from tests.reference import cases, test_reaction, test_walls
    from tests.reference.pressed import stopped_jet, wedge_entry

    lamb, dirichlet, airy, grimshaw = (
        "Lamb 1932 sec. 228",
        "Dirichlet; Longuet-Higgins 1972",
        "Airy 1845",
        "Grimshaw 1971",
    )
    kept: dict[str, Callable] = {
        name: cache(getattr(cases, name))
        for name in (
            "stretched_drop",
            "sloshing",
            "travelling_wave",
            "solitary_wave",
            "vortices",
            "collapsing_column",
            "turning",
        )
    }
    moments = tuple(np.arange(0.1, 2.51, 0.1).tolist())

    def part(name: str, which: int, **more: Any) -> Callable[[int], float]:
        return lambda size: kept[name](size, **more)[which]

    def period(which: int, **more: Any) -> Callable[[int], float]:
        omega = cases.wave_frequency(np.pi, 0.5)

        def run(size: int) -> float:
            time, mode = kept["sloshing"](size, **more)
            found, decay = cases.fitted_wave(time, mode, omega)
            return omega / found if which == 0 else float(np.exp(-decay * 2 * np.pi / omega))

        return run

    def front(square: int) -> Callable[[int], float]:
        def run(size: int) -> float:
            places, _ = kept["collapsing_column"](size, square, moments)
            known = FRONTS[square]
            ratios = [float(np.interp(t, moments, places)) / place for t, place in known.items()]
            return max(ratios, key=lambda r: abs(r - 1))

        return run

    def fronts() -> str:
        found = {
            f"n^2 = {q}, {n} voxels": (moments, kept["collapsing_column"](n, q, moments)[0])
            for q in (1, 2)
            for n in (12, 48)
        }
        known = {f"potential flow, n^2 = {q}": (list(FRONTS[q]), list(FRONTS[q].values())) for q in (1, 2)}
        return curves("a08-front", "T = n t sqrt(g / a)", "front Z = x / a", found, known)

    def sloshed() -> str:
        found = {f"{n} voxels": kept["sloshing"](n) for n in (32, 64, 96)}
        time = np.linspace(0, 6, 400)
        known = {"Lamb": (time, 0.02 * np.cos(cases.wave_frequency(np.pi, 0.5) * time))}
        return curves("a10-mode", "s", "first mode, m", found, known)

    def slid(size: int) -> float:
        return test_walls.travelled(test_walls.slide(0.25 / size), 25)[0] / 0.6129

    def pushed(cells: int) -> float:
        return test_reaction.added_mass(0.1 / cells, 0.3)[0]

    def struck(cells: int) -> float:
        return test_reaction.struck_plate(0.1 / cells)[0]

    @cache
    def stopped(cells: int) -> tuple[float, float]:
        pressure, speed = stopped_jet(0.1 / cells)
        return pressure / (0.5 * test_reaction.WATER * 10**2), speed / 10

    rise = cases.dipped_ball
    theirs = "own potential flow"
    return [
        *_thick(),
        *_small(),
        Row(
            "A05",
            "speed of a jet under 0.3 m, over sqrt(2 g h)",
            "Torricelli 1643",
            "4 % at 8",
            (4, 8, 12),
            lambda n: cases.efflux_speed(0.05 / n),
        ),
        Row("A08", "front of a square column, worst of T = 0.5 to 2.5", theirs, "2 % at 24", (12, 24, 48), front(1)),
        Row("A08", "the same, twice as high as wide", theirs, "2 % at 24", (12, 24, 48), front(2), fronts),
        Row("A10", "first sloshing period, 1.1820 s", lamb, "1 % at 64", (32, 64, 96), period(0), sloshed),
        Row("A10", "the same with halved substeps", lamb, "", (64,), period(0, halved=True)),
        Row("A10", "amplitude kept per period", "-", "reported", (32, 64, 96), period(1)),
        Row("A10", "the same, FLIP share 0.95", "-", "reported", (64,), period(1, flip_share=0.95)),
        Row("A14", "slope under 2 m/s2 sideways, 0.2039", "Euler", "2 % at 64", (32, 48, 64), cases.leaning_surface),
        Row(
            "A16",
            "speed of a wave 1 m long, 1.2470 m/s",
            airy,
            "1.5 % at 32, 0.5 % at 64",
            (16, 32, 64),
            part("travelling_wave", 0),
        ),
        Row("A16", "the same with halved substeps", airy, "", (32,), part("travelling_wave", 0, halved=True)),
        Row("A16", "amplitude kept per period", "-", "reported", (16, 32, 64), part("travelling_wave", 1)),
        Row(
            "A17",
            "speed of a solitary wave, a / h = 0.3",
            grimshaw,
            "1.5 % at 20",
            (5, 10, 20),
            part("solitary_wave", 0),
        ),
        Row("A17", "the same with halved substeps", grimshaw, "", (10,), part("solitary_wave", 0, halved=True)),
        Row("A17", "height left after 15 depths", "-", "0.92 at 20", (5, 10, 20), part("solitary_wave", 1)),
        Row("A19", "depth behind a jump, Froude number 3", "Belanger 1838", "4 % at 8", (6, 8, 12), cases.bore),
        Row("A21", "discharge over a broad crest", "Belanger 1849", "6 % at 10", (6, 10, 14), cases.weir),
        Row(
            "A23",
            "long half axis after 1 s, 0.22755 m",
            dirichlet,
            "1.5 % at 20",
            (10, 20, 40),
            part("stretched_drop", 0),
        ),
        Row(
            "A23",
            "short half axis after 1 s, 0.04395 m",
            dirichlet,
            "1.5 % at 20",
            (10, 20, 40),
            part("stretched_drop", 1),
        ),
        Row(
            "A26",
            "energy kept by vortices in one turnover",
            "Taylor & Green 1937",
            "3 % at 32",
            (16, 32, 64),
            part("vortices", 0),
        ),
        *(
            Row(
                "A34",
                f"contraction under a floor of {t} voxels, 0.612",
                "Kirchhoff 1869",
                "5 % at 16",
                (8, 16),
                _slot(t),
            )
            for t in (2.0, 1.5, 0.2)
        ),
        Row(
            "A34",
            "contraction by a knife edge of 45 degrees, 4 voxels thick, 0.612",
            "Kirchhoff 1869",
            "5 % at 16",
            (8, 16),
            lambda n: cases.contraction(n, 4.0, plate="knife") / 0.612,
        ),
        *(
            Row(
                "A34",
                f"contraction under a gate of {t} voxels, 0.612",
                "Kirchhoff 1869",
                "8 % at 8",
                (8,),
                _gate(t),
            )
            for t in (2.0, 1.5, 0.2)
        ),
        *(
            Row("A36", what, "Newton", tolerance, (24, 40), part("turning", which, half=half, flip_share=share))
            for what, tolerance, which, half, share in (
                ("angular momentum kept in a turn, full", "1 % at 24, 0.5 % at 40", 0, False, 0.0),
                ("angular momentum kept in a turn, half full", "1 % at 24, 0.5 % at 40", 0, True, 0.0),
                ("angular momentum kept half full, FLIP share 0.95", "1 % at 24, 0.5 % at 40", 0, True, 0.95),
                ("paraboloid after two turns, 35.98 mm", "5 %", 1, True, 0.0),
                ("paraboloid after two turns, FLIP share 0.95", "5 %", 1, True, 0.95),
            )
        ),
        *_bores(),
        Row(
            "A37",
            "1 + difference of a tank shaken by keys and by the force felt in it, 5 s",
            "definition",
            "2 %",
            (32, 64),
            _shaken,
        ),
        Row("D01", "way down a slope of 30 degrees, 0.6129 m", "Galilei", "2 %", (12, 20, 30), slid),
        Row(
            "D08",
            "impulse of a ball set going in a sphere 2.5 times as wide",
            "Stokes 1843",
            "5 % at 8",
            (4, 8),
            pushed,
        ),
        Row(
            "D10",
            "rise of the level by a ball, 16.76 mm",
            "Archimedes",
            "3 %",
            (5, 8),
            lambda n: rise(n, 1)[0] / 16.755,
        ),
        Row("D10", "the level after five dips, over that before", "-", "1 %", (5,), lambda n: 1 + rise(n, 5)[1] / 300),
        Row(
            "D12",
            "wetting of a wedge of 30 degrees, over Wagner's limit",
            "Wagner 1932",
            "0.64 to 1.12",
            (48, 80),
            lambda n: wedge_entry(1 / n, 30.0, 0.14)[0] / 2.721,
        ),
        Row(
            "D12",
            "the same of 20 degrees",
            "Wagner 1932",
            "0.64 to 1.12",
            (48, 80),
            lambda n: wedge_entry(1 / n, 20.0, 0.1)[0] / 4.316,
        ),
        Row(
            "D12",
            "largest pressure coefficient at 30 degrees, 6.93",
            "Zhao & Faltinsen 1993",
            "20 %",
            (48, 80),
            lambda n: wedge_entry(1 / n, 30.0, 0.14)[1] / 6.93,
        ),
        Row("-", "pressure where a jet of 10 m/s stops", "Bernoulli", "2 % at 8", (8, 16), lambda n: stopped(n)[0]),
        Row("-", "speed of its water beyond", "Bernoulli", "5 % at 8", (8, 16), lambda n: stopped(n)[1]),
        Row(
            "-",
            "width of a slow tap's thread after 0.1 m, 0.38",
            "continuity",
            "12 % at 16",
            (8, 16, 24),
            lambda n: test_reaction.thread(test_reaction.pouring_tap(0.02 / n, 0.2)) / 0.38,
        ),
        Row("-", "force of a jet on a plate, 8 voxels across", "momentum theorem", "8 %", (4, 8), struck),
    ]


def _bores() -> list[Row]:
    """Quantities of bores in both frames, and of stronger ones."""
    from tests.reference import cases

    seen = cache(cases.pushed_bore)

    def part(name: str, still: float, speed: float, stream: bool) -> Callable[[int], float]:
        depth, front = cases.stepped(still, speed)
        known = {"depth": depth, "front": front, "crossing": front, "balance": 1.0}[name]
        return lambda n: getattr(seen(n, still, speed, stream), name) / known + (name == "balance")

    whats = {
        "depth": ("depth behind", "4 %"),
        "front": ("speed by the liquid set going", "3 %"),
        "crossing": ("speed by where half its height is", "reported"),
        "balance": ("1 + momentum gained more than flowed in and pressed", "reported"),
    }
    found = [
        Row("A35", f"{what} a bore, {how}", "Stoker 1957", tolerance, (8, 12, 16), part(name, 0.1, 0.75, stream))
        for stream, how in ((False, "piston"), (True, "stream at a wall"))
        for name, (what, tolerance) in whats.items()
    ]
    return found + [
        Row(
            "A35",
            f"{whats[name][0]} a bore, {v} m/s into {h} m",
            "Stoker 1957",
            tolerance,
            (8,),
            part(name, h, v, False),
        )
        for h, v in ((0.15, 0.8), (0.2, 1.2))
        for name, tolerance in (("depth", "4 %"), ("front", "3 %"))
    ]


def _shaken(cells: int) -> float:
    """1 + the largest difference of the two waves, over the largest wave."""
    from tests.reference import cases

    keys, theory = cases.shaken(cells, "keys")
    force, _ = cases.shaken(cells, "force")
    return 1.0 + float(np.abs(keys - force).max() / np.abs(theory).max())


def _slot(thick: float) -> Callable[[int], float]:
    from tests.reference import cases

    return lambda cells: cases.contraction(cells, thick) / 0.612


def _gate(thick: float) -> Callable[[int], float]:
    from tests.reference import cases

    return lambda cells: cases.under_gate(cells, thick) / 0.612


def _thick() -> list[Row]:
    """Quantities of thick liquids."""
    from tests.reference import thick

    def dying(n: float) -> float:
        """Over the exact rate, less what is lost without viscosity."""
        rates = [thick.decaying_wave(round(n), nu)[0] for nu in (0.02, 0.0)]
        return (rates[0] - rates[1]) / thick.wave_roots(1.0, 0.02)[0]

    run_out = cache(lambda n: thick.spread([1.0, 5.0], 0.05 / n))
    swung = cache(lambda n: thick.swinging(24, n))
    flow = cache(lambda n: thick.film(n, np.pi / 6, 0.02, 0.005, 0.3))
    return [
        Row(
            "A26",
            "rate at which 0.01 m2/s stops vortices, less that without",
            "Taylor & Green 1937",
            "3 % at 64",
            (16, 32, 64),
            lambda n: (thick.vortices(n, 0.01) - thick.vortices(n, 0.0)) / 1.5791,
        ),
        Row(
            "B01",
            "speed amid a channel, planes on the faces",
            "Poiseuille 1840",
            "1 % at 16",
            (8, 16, 32),
            lambda n: thick.poiseuille(n, 1.0, fps=100)[0],
        ),
        Row(
            "B01",
            "the same, planes 0.3 voxels off the faces",
            "Poiseuille 1840",
            "1 % at 16",
            (8, 16, 32),
            lambda n: thick.poiseuille(n, 1.0, 0.3, fps=100)[0],
        ),
        Row(
            "B03",
            "speed amid a gap, 0.1 s after a plane slides off",
            "Couette 1890",
            "1.5 % of the plane's",
            (8, 16, 32),
            lambda n: 1 + thick.couette(0.1, n) - 0.26276,
        ),
        Row(
            "B04",
            "1 + rms error of the profile above a plane, steps of 1/200 s",
            "Stokes 1851",
            "1.5 %",
            (5, 10, 20),
            lambda n: 1 + thick.stokes(200.0, n),
        ),
        *(
            Row(
                "B04",
                f"speed {layers} layer{'s' * (layers - 1)} above a floor that swings, 24 pairs of substeps a swing",
                "Stokes 1851",
                "3 %",
                (4, 8),
                lambda n, layers=layers: abs(swung(n)[layers - 1]),  # type: ignore[misc]
            )
            for layers in (1, 2)
        ),
        Row(
            "B03",
            "1 + voxels by which a layer a thousand times as thick as the other seems too thick",
            "Couette 1890",
            "0.25",
            (20, 40),
            lambda n: 1 + thick.layered(1000.0, n),
        ),
        Row(
            "B06",
            "surface speed of a film at 30 degrees",
            "Nusselt 1916",
            "4 % at 10",
            (5, 10, 20),
            lambda n: flow(n)[0],
        ),
        Row("B06", "its flow", "Nusselt 1916", "6 % at 10", (5, 10, 20), lambda n: flow(n)[1]),
        *(
            Row("B06", f"flow of a film of {h:g} voxels", "Nusselt 1916", f"{off} %", (h,), lambda n: flow(n)[1])
            for h, off in ((1.5, 10), (0.75, 20), (0.4, 35))
        ),
        Row(
            "B06",
            "speed amid a film on a slope across the grid",
            "Nusselt 1916",
            "35, 20, 10, 10 %",
            (0.4, 0.75, 1.5, 3),
            thick.leaning_film,
        ),
        *(
            Row(
                "B15",
                f"speed of a draining coat by its thickness, {where}",
                "Jeffreys 1930",
                "35, 20, 10 %",
                (0.4, 0.75, 1.5),
                lambda n, lean=lean: thick.draining(n, lean),  # type: ignore[misc]
            )
            for where, lean in (("upright", False), ("leaning", True))
        ),
        Row(
            "B18",
            "surface speed of a film of 8 mm, 30 Pa, 30 degrees, 0.0194 m/s",
            "Liu & Mei 1989",
            "10 %",
            (8, 12),
            lambda n: float(np.divide(*thick.yielding_film(0.008, n))),
        ),
        *(
            Row(
                "B18",
                f"half-length of a slumped block, {stress:g} Pa",
                "Liu & Mei 1989",
                "10 %",
                (20,),
                lambda n, stress=stress: thick.slumped(stress, 0.1 / n)[0],  # type: ignore[misc]
            )
            for stress in (30.0, 100.0)
        ),
        Row("B07", "rate at which a wave on deep liquid of 0.02 m2/s dies", "Lamb 1932", "5 %", (24, 48), dying),
        Row("B09", "front after 1 s, 0.299 m", "Huppert 1982", "5 %", (5, 10), lambda n: run_out(n)[0] / 0.299),
        Row("B09", "front after 5 s, 0.396 m", "Huppert 1982", "5 %", (5, 10), lambda n: run_out(n)[1] / 0.396),
        Row(
            "B16",
            "angular momentum of a free disc after a quarter turn",
            "Newton",
            "0.13 % (0.5 % a turn)",
            (10, 20),
            lambda n: thick.turning_disc(n, 1.0, 0.25)[0],
        ),
    ]


def _small() -> list[Row]:
    """Quantities of surface tension and wetting."""
    from tests.reference import small
    from tests.reference.thick import leaning_film, slipping_film

    still = cache(lambda n: small.still_drop(n, 24, 24))
    thick = float((small.DENSE * small.TENSE * 0.2 / 120) ** 0.5)
    kelvin, caps = "Kelvin 1871", cache(lambda n, angle: small.cap(n, angle, 3.0))
    edge = cache(lambda n: small.retracting_sheet(n, 1.0))
    blob = cache(lambda n: small.square_blob(n, 6.0))
    return [
        Row(
            "C01",
            "pressure jump of a drop",
            "Laplace 1806",
            "3 % at 10, 1 % at 20",
            (6, 10, 20),
            lambda n: still(n)["jump"],
        ),
        Row(
            "C01",
            "1 + RMS error of its curvature",
            "Laplace 1806",
            "0.15",
            (6, 10, 20),
            lambda n: 1 + still(n)["rough"],
        ),
        Row(
            "C02",
            "1 + 1000 capillary numbers of currents in a drop that hangs still, La = 120",
            "Popinet & Zaleski 1999",
            "10 acceptable, 1 good",
            (10, 20),
            lambda n: 1 + 1000 * small.still_drop(n, 24, 24, thick)["capillary"],
        ),
        Row(
            "C03",
            "period of a drop's second mode",
            "Rayleigh 1879",
            "4 % at 12",
            (8, 12),
            lambda n: small.oscillating_drop(n)[0],
        ),
        Row(
            "C05",
            "frequency of ripples without gravity",
            kelvin,
            "3 % at 24",
            (12, 16, 24),
            lambda n: small.ripple(n, False),
        ),
        Row(
            "C05",
            "the same where gravity does half",
            kelvin,
            "3 % at 24",
            (12, 16, 24),
            lambda n: small.ripple(n, True),
        ),
        Row("C07", "rate at which a column falls apart", "Rayleigh 1878", "8 % at 8", (4, 6, 8), small.column_growth),
        *(
            Row(
                "C09",
                f"height of a puddle that meets its floor at {angle} degrees",
                "de Gennes, Brochard & Quere 2004",
                "8 % with 8 voxels in it",
                (4, 6),
                lambda n, angle=angle: small.puddle(n, angle),  # type: ignore[misc]
            )
            for angle in (60, 90, 120)
        ),
        *(
            Row(
                "C11",
                f"{what} of a drop on a floor of {angle} degrees",
                "Young 1805",
                tolerance,
                (6, 10),
                lambda n, angle=angle, of=of: caps(n, angle)[of] / (angle if of == 0 else 1.0),  # type: ignore[misc]
            )
            for angle in (60, 120)
            for of, what, tolerance in ((0, "angle", "5 degrees"), (1, "foot", "6 %"))
        ),
        Row("C14", "radius of a crown by the root of time", "Yarin & Weiss 1995", "15 %", (10, 16), small.crown_radius),
        Row("C12", "speed of a sheet's edge", "Taylor 1959, Culick 1960", "8 % at 10", (4, 6), lambda n: edge(n)[0]),
        Row(
            "C17",
            "climb of a meniscus of 45 degrees",
            "Batchelor 1967",
            "10 %",
            (4, 6, 9),
            lambda n: small.meniscus(n, 45),
        ),
        Row("C18", "film that a plate draws out of a bath", "Landau & Levich 1942", "20 % at 4", (2, 3), small.dip),
        Row("C19", "radius of a square that becomes a disc", "geometry", "1.5 %", (16, 24), lambda n: blob(n)[0]),
        *(
            Row(
                "D02",
                f"flow of a film on a floor with a slip of {slip:g} of it",
                "Navier 1823",
                "5 % at 10",
                (0.5, 5, 10),
                lambda n, slip=slip: slipping_film(n, slip),  # type: ignore[misc]
            )
            for slip in (0.25, 1.0)
        ),
        Row(
            "D02",
            "the same on a floor that leans, a slip of a half",
            "Navier 1823",
            "reported",
            (3, 6),
            lambda n: leaning_film(n, 0.02 if n < 5 else 0.04, slip=0.5),
        ),
    ]


def order(sizes: tuple[float, ...], found: list[float]) -> str:
    """Observed order between the coarsest and the finest size; a dash for fewer than two."""
    if len(sizes) < 2:
        return "-"
    errors = [max(abs(f - 1), 1e-9) for f in (found[0], found[-1])]
    return f"{np.log(errors[0] / errors[1]) / np.log(sizes[-1] / sizes[0]):.1f}"


def stillness() -> list[str]:
    """A01 in its three containers."""
    from tests.reference import test_stillness

    lines = [
        "",
        "A01, 64 voxels a metre, 4 substeps a frame: speeds over sqrt(g H) after 5 s (0.2 % rms, 1 % largest asked at "
        "FLIP share 0).",
        "",
        "| container | FLIP share | rms | largest | largest at any frame from 2.5 s on |",
        "|---|---|---|---|---|",
    ]
    with tempfile.TemporaryDirectory() as name:
        containers = {
            "box": test_stillness.tank,
            "gravity tilted by 17 degrees": test_stillness.tilted_tank,
            "vessel turned by 23 degrees": lambda **more: test_stillness.turned_vessel(Path(name), **more),
        }
        for container, make in containers.items():
            for share in (0.0, 0.95):
                rms, most, loudest = test_stillness.speeds_after(make(flip_share=share), 5.0)
                lines.append(f"| {container} | {share} | {rms:.3%} | {most:.3%} | {loudest:.3%} |")
    return lines


def dam_break() -> list[str]:
    """A07 beside potential flow."""
    from tests.reference import cases
    from tests.reference.tanks import G, position

    lines = [
        "",
        "A07: depth at the dam over Ritter's 4/9 h0, at times t sqrt(g / h0).",
        "",
        "| | " + " | ".join(str(t) for t in DEPTHS) + " | 2 to 4 |",
        "|---|" + "---|" * (len(DEPTHS) + 1),
        "| potential flow (tests/reference/potential_flow.py) | "
        + " | ".join(f"{d:.3f}" for d in DEPTHS.values())
        + " | |",
    ]
    drawn = {}
    for dx in (0.02, 0.015, 0.01):
        run = cases.dam_break(dx)
        found: list[tuple[float, float]] = []
        for frame in range(2, 72):
            run.advance_frame(frame)
            near = np.abs(position(run)[:, 0] - 1.2) < 2 * dx
            depth = run.state.particles.volume[near].sum() * dx**3 / (4 * dx * 3 * dx)
            found.append(((frame - 1) / 100 * np.sqrt(G / 0.3), float(depth) / (0.3 * 4 / 9)))
        moment, height = np.array(found).T
        drawn[f"voxel {dx * 1000:.0f} mm"] = (moment, height)
        means = [height[np.abs(moment - t) < 0.1].mean() for t in DEPTHS]
        means.append(height[(moment >= 2) & (moment < 4)].mean())
        lines.append(f"| voxel {dx * 1000:.0f} mm | " + " | ".join(f"{m:.3f}" for m in means) + " |")
    known = {"Ritter": ((0, 4), (1, 1)), "potential flow": (list(DEPTHS), list(DEPTHS.values()))}
    return [*lines, "", curves("a07-depth", "t sqrt(g / h0)", "depth at the dam over 4/9 h0", drawn, known)]


def volume() -> list[str]:
    """A25, slabs and a cube."""
    from tests.reference import cases

    lines = [
        "",
        "A25: a tank of 1 m shaken by 5 mm at its first natural frequency for 20 s, at rest for 10 s; the level is "
        "that of the level set. Asked: 1 % for a slab of 64, 2 % for a cube of 32, a quarter voxel, mass exact.",
        "",
        "| tank | level | in voxels | mass | deep cells without particles | most particles in a cell | "
        "most that a frame at rest adds to the energy, of its peak |",
        "|---|---|---|---|---|---|---|",
    ]
    drawn = {}
    for name, cells, deep in (("slab of 32", 32, False), ("slab of 64", 64, False), ("cube of 32", 32, True)):
        f = cases.shaken_level(cells, deep=deep)
        drawn[name] = (f["time"], f["energy"])
        told = (
            f"{f['level']:+.2%}",
            f"{f['voxels']:+.2f}",
            f"{f['mass']:.1e}",
            f"{f['voids']:.2%}",
            f"{f['clump']:.0f}",
            f"{np.diff(f['energy'][f['time'] > 20.1]).max() / f['energy'].max():+.1e}",
        )
        lines.append(f"| {name} | " + " | ".join(told) + " |")
    picture = curves("a25-energy", "s", "energy above rest, J/kg", drawn, {})
    return [
        *lines,
        "",
        f"The energy over the whole run: {picture}.",
    ]


def against_box() -> list[str]:
    """A33, for robustness."""
    from tests.reference import cases

    lines = [
        "",
        "A33: a dam break against a box in three dimensions (geometry of Kleefsman et al. 2005; no gauge values). "
        "Front before the box over Ritter's bound (1 at most), mass lost, most energy at any frame over the first, "
        "and what is left of it after 1.5 s.",
        "",
        "| voxels a metre | front | mass | most energy | left |",
        "|---|---|---|---|---|",
    ]
    for cells in (20, 30, 40):
        f = cases.dam_against_box(cells)
        lines.append(f"| {cells} | {f['front']:.3f} | {f['mass']:.1e} | {f['energy']:.4f} | {f['left']:.3f} |")
    return lines


def band() -> list[str]:
    """Deep water with a band of particles beside the same full of them."""
    from tests.reference import cases

    full, energy, many = cases.deep_tank(0.0, 5.0)
    banded, left, few = cases.deep_tank(6.0, 5.0)
    apart, kept = np.sqrt(((banded - full) ** 2).mean(axis=1)), left / energy - 1
    return [
        "",
        "Band: a standing wave of 2 voxels on 4 m of water at 62.5 mm for 5 s, with 6 voxels of particles beside a "
        f"tank full of them: {many / few:.1f} times fewer particles (3 asked), column heights {apart.max():.2f} voxels "
        f"rms apart at most (0.5), energy {float(kept.min()):+.1%} to {float(kept.max()):+.1%} (5 %).",
    ]


def _replace(lines: list[str]) -> None:
    """Put rows in the place of those of the same quantities in the page, or after the last one."""
    text = PAGE.read_text(encoding="utf-8").split("\n")
    begin = next(i for i, line in enumerate(text) if line.startswith(BEGIN))
    for line in lines:
        head = line.split("|")[1:3]
        table = [i for i in range(begin, len(text)) if text[i].startswith("| ")]
        last = next(i for i in range(table[0], len(text)) if not text[i + 1].startswith("|"))
        same = [i for i in range(table[0], last + 1) if text[i].split("|")[1:3] == head]
        if same:
            text[same[0]] = line
        else:
            text.insert(last + 1, line)
    PAGE.write_text("\n".join(text), encoding="utf-8")


def main() -> None:
    """Measure, and write between the marks of the page."""
    django.setup()
    keep_memory()
    start = time.perf_counter()
    lines = [
        "| case | quantity | source | tolerance | measured over expected (voxels) | order | figure |",
        "|---|---|---|---|---|---|---|",
    ]
    only = sys.argv[sys.argv.index("--only") + 1] if "--only" in sys.argv[:-1] else ""
    for row in rows():
        if only not in f"{row.case} {row.what}":
            continue
        found = [row.run(size) for size in row.sizes]
        told = ", ".join(f"{f:.4f} ({n})" for n, f in zip(row.sizes, found, strict=True))
        degree = "-" if row.tolerance == "reported" else order(row.sizes, found)
        lines.append(
            f"| {row.case} | {row.what} | {row.source} | {row.tolerance} | {told} | {degree} | {row.figure()} |"
        )
        print(lines[-1], flush=True)
    if only:
        _replace(lines[2:])
        return
    for part in (stillness, dam_break, volume, against_box, band):
        more = part()
        print("\n".join(more), flush=True)
        lines += more
    lines += ["", f"Measured in {(time.perf_counter() - start) / 60:.0f} minutes by `./zinc bench --reference`."]
    text = PAGE.read_text(encoding="utf-8")
    before, after = text.split(BEGIN)[0], text.split(END)[1]
    PAGE.write_text(before + BEGIN + "\n" + "\n".join(lines) + "\n" + END + after, encoding="utf-8")


if __name__ == "__main__":
    main()
