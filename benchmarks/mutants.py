"""``./zinc bench --mutants [solver | surface | thick | hand | air | sea]``: what breaks tests; writes docs/mutants.md.

A test that nothing spoilt breaks proves nothing.
"""

from __future__ import annotations

import io
import re
import sys
import unittest
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import django
import numpy as np
from numba import njit

from benchmarks import mutants_air, mutants_hand, mutants_sea, mutants_surface, mutants_thick
from benchmarks.mutants_surface import around, with_names

ELSEWHERE = ("meshed_beside_each_other", "SameBits")
PAGE = Path(__file__).resolve().parent.parent / "docs" / "mutants.md"
MODULES = (
    "tests.basin.test_parting",
    *(
        f"tests.reference.test_{name}"
        for name in ("channels", "inertia", "paths", "reaction", "stillness", "volume_and_bits", "walls", "waves")
    ),
)


@contextmanager
def gravity_off() -> Iterator[None]:
    """Gravity 2 % too strong."""
    from basin.liquid import forces

    kick = forces.gravity_kick
    with mock.patch.object(forces, "gravity_kick", lambda g, *rest: kick(np.asarray(g) * 1.02, *rest)):
        yield


@contextmanager
def gravity_far_off() -> Iterator[None]:
    """Gravity 15 % too strong, for what only goes with its root and is known to some per cent."""
    from basin.liquid import forces

    kick = forces.gravity_kick
    with mock.patch.object(forces, "gravity_kick", lambda g, *rest: kick(np.asarray(g) * 1.15, *rest)):
        yield


@contextmanager
def narrow_gaps_flow() -> Iterator[None]:
    """A gap between wall and air passes all that comes into its cell."""
    from basin.liquid import pressure

    with mock.patch.object(pressure, "_apply", with_names(pressure._apply, NARROW=0.0)):
        yield


@contextmanager
def drag_on_gravity() -> Iterator[None]:
    """Forces see the velocities that gravity has already been added to."""
    from basin.liquid import forces

    added, pushed, kick = forces.add, forces.push, forces.gravity_kick
    held = [np.zeros(3)]

    def noted(*arguments: Any) -> np.ndarray:
        held[0] = kick(*arguments)
        return held[0]

    def after(velocity: list[np.ndarray], *rest: Any) -> None:
        added(velocity, held[0])
        pushed(velocity, *rest)
        added(velocity, -held[0])

    with mock.patch.object(forces, "gravity_kick", noted), mock.patch.object(forces, "push", after):
        yield


@contextmanager
def no_swing() -> Iterator[None]:
    """What the halves of a pair do unlike is not made up for."""
    from basin.liquid import swing

    with mock.patch.object(swing, "turn", lambda *arguments: None):
        yield


@contextmanager
def no_ghost_fluid() -> Iterator[None]:
    """The surface half way between cell centres, wherever it is."""
    from basin.liquid import levelset

    made = levelset.level_set

    def flags(*arguments: Any) -> np.ndarray:
        return np.where(made(*arguments) < 0, -1.0, 1.0).astype(np.float32)

    with mock.patch.object(levelset, "level_set", flags):
        yield


@contextmanager
def gravity_turned() -> Iterator[None]:
    """Gravity turned by half a degree in the plane of the slabs."""
    from basin.liquid import forces

    kick, (c, s) = forces.gravity_kick, (np.cos(np.deg2rad(0.5)), np.sin(np.deg2rad(0.5)))
    turn = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])
    with mock.patch.object(forces, "gravity_kick", lambda g, *rest: kick(turn @ np.asarray(g), *rest)):
        yield


@contextmanager
def straight_paths() -> Iterator[None]:
    """Particles go on with the velocity of their start (forward Euler)."""
    from basin.liquid import advection

    made: Callable = advection.advance

    def straight(*arguments: Any) -> np.ndarray:
        return made(*arguments[:4], np.ones_like(arguments[4]))

    with mock.patch.object(advection, "advance", straight):
        yield


@contextmanager
def walls_hold() -> Iterator[None]:
    """Liquid hangs on every wall."""
    from basin.liquid.parting import NO_CELLS, Parting

    with mock.patch.object(Parting, "_pulled", lambda *arguments: NO_CELLS):
        yield


@contextmanager
def air_everywhere() -> Iterator[None]:
    """Liquid parts from walls where no air can follow."""
    from basin.liquid import parting

    def reached(first: Any, where: Any, index: Any, surface: Any, pulled: Any, mark: Any) -> None:
        mark.reshape(-1)[pulled] = 1

    with mock.patch.object(parting, "_reached", reached):
        yield


@contextmanager
def walls_stay_open() -> Iterator[None]:
    """What has been opened is not closed again where liquid goes into the wall."""
    from basin.liquid.parting import NO_CELLS, Parting

    with mock.patch.object(Parting, "_close", lambda *arguments: NO_CELLS):
        yield


@contextmanager
def no_affine() -> Iterator[None]:
    """Plain particle-in-cell."""
    from basin.liquid import transfer

    made = transfer.to_particles

    def plain(particles: Any, *rest: Any) -> float:
        speed = made(particles, *rest)
        particles.affine[:] = 0
        return speed

    with mock.patch.object(transfer, "to_particles", plain):
        yield


@contextmanager
def no_reflection() -> Iterator[None]:
    """Both substeps of a pair only take the divergence away."""
    from basin.liquid import transfer

    made: Callable = transfer.to_particles

    def once(*arguments: Any) -> float:
        return float(made(*arguments[:8], False, *arguments[9:]))

    with mock.patch.object(transfer, "to_particles", once):
        yield


@contextmanager
def flattened_at_walls() -> Iterator[None]:
    """Distances beside walls as the plane's height alone."""
    from basin.liquid import levelset

    with mock.patch.object(levelset, "_at_walls", with_names(levelset._at_walls, WELL_SEEN=(2.0, 3.0))):
        yield


@contextmanager
def rounded_fractions() -> Iterator[None]:
    """Faces either open or shut."""
    from basin.liquid import solids

    made = solids.open_faces

    def rounded(row: np.ndarray, *rest: Any) -> None:
        made(row, *rest)
        for field in rest[-1]:
            field[row] = np.round(field[row])

    with mock.patch.object(solids, "open_faces", rounded):
        yield


@contextmanager
def blind_to_walls() -> Iterator[None]:
    """The level set beside walls as the cut kernel gives it."""
    from basin.liquid import levelset

    with mock.patch.object(levelset, "_at_walls", lambda *arguments: None):
        yield


@contextmanager
def joined_sides() -> Iterator[None]:
    """Cells that a thin wall parts stay open on both of its sides."""
    from basin.grid import fractions

    whole = njit(lambda a, b, c, d, e, f, g, h: 0)
    with mock.patch.object(fractions, "_open_faces", with_names(fractions._open_faces, lesser_sides=whole)):
        yield


@contextmanager
def no_rays() -> Iterator[None]:
    """Walls thinner than a voxel are left to the grid."""
    from basin.liquid import solids, thin

    with mock.patch.object(solids, "thin_walls", lambda tiles, *rest: thin.ThinWalls.none(tiles)):
        yield


@contextmanager
def nothing_handed_up() -> Iterator[None]:
    """What rises from below a band's edge stays there."""
    from basin.liquid import band
    from basin.liquid.particles import Particles

    def kept(*arguments: Any) -> Particles:
        return Particles.empty(arguments[3].like.carried.shape[1])

    with mock.patch.object(band, "flowed", kept):
        yield


@contextmanager
def weak_reaction() -> Iterator[None]:
    """Bodies feel a fifth too little of what presses on them."""
    from basin.liquid import reaction

    made = reaction.impulses
    with mock.patch.object(reaction, "impulses", lambda *arguments: 0.8 * made(*arguments)):
        yield


@contextmanager
def no_spacing() -> Iterator[None]:
    """Particles are not moved towards even spacing."""
    from basin.liquid import spacing

    def left(at_hand: Any, *rest: Any) -> list[np.ndarray]:
        return [at_hand.tiles.field() for _ in range(3)]

    with mock.patch.object(spacing, "spread", left):
        yield


@contextmanager
def particles_lost() -> Iterator[None]:
    """A thousandth of the particles goes in each substep."""
    from basin.liquid import resampling

    made = resampling.resampled

    def fewer(*arguments: Any) -> Any:
        particles, next_id = made(*arguments)
        return particles.taken(particles.id % 997 != 0), next_id

    with mock.patch.object(resampling, "resampled", fewer):
        yield


def _more(made: Callable, source: Any, stream: Any, start: float, end: float) -> Any:
    """A tenth of the time is poured again."""
    return made(source, stream, end - 1.1 * (end - start), end)


def _now_and_then(made: Callable, source: Any, stream: Any, start: float, end: float) -> Any:
    """Sources give nothing for half of every tenth of a second."""
    points, pace, volume = made(source, stream, start, end)
    some = slice(0, 0) if end % 0.1 < 0.05 else slice(None)
    return points[some], pace[some] if np.ndim(pace) > 1 else pace, volume


def _resting(made: Callable, *given: Any, **named: Any) -> Any:
    """Solids that are elsewhere a moment later, and know nothing of it."""
    solids = made(*given, **named)
    return replace(solids, motion=0 * solids.motion, moving=False)


MUTANTS: dict[str, Callable] = {
    "gravity 2 % off": gravity_off,
    "gravity 15 % off": gravity_far_off,
    "narrow gaps flow": narrow_gaps_flow,
    "drag on gravity's kick": drag_on_gravity,
    "ghost fluid off": no_ghost_fluid,
    "gravity turned by 0.5 degrees": gravity_turned,
    "straight paths": straight_paths,
    "walls hold": walls_hold,
    "air comes everywhere": air_everywhere,
    "walls stay open": walls_stay_open,
    "no affine term": no_affine,
    "no reflection": no_reflection,
    "no swing": no_swing,
    "surface flattened at walls": flattened_at_walls,
    "face fractions rounded": rounded_fractions,
    "level set blind to walls": blind_to_walls,
    "thin walls joined": joined_sides,
    "no rays": no_rays,
    "nothing handed up": nothing_handed_up,
    "reaction a fifth too weak": weak_reaction,
    "no spacing": no_spacing,
    "particles lost": particles_lost,
    "a tenth more is poured": around("liquid.sources", "inflow_particles", _more),
    "sources stop and go": around("liquid.sources", "inflow_particles", _now_and_then),
    "walls that move rest": around("liquid.solids", "Solids", _resting),
}


def outcomes(modules: tuple[str, ...], mutant: Callable | None, wanted: set[str] | None = None) -> dict[str, bool]:
    """Whether each of the wanted tests of some modules passes (all for None)."""
    every = _tests(modules)
    suite = unittest.TestSuite(t for t in every if wanted is None or _name(t) in wanted)
    result = unittest.TestResult()
    tests = list(_flat(suite))
    stream = io.StringIO()
    held, sys.stdout = sys.stdout, stream
    try:
        if mutant is None:
            suite.run(result)
        else:
            with mutant():
                suite.run(result)
    finally:
        sys.stdout = held
    # what fails within a `subTest` is told as a test of its own
    failed = [getattr(t, "test_case", t) for t, _ in [*result.failures, *result.errors]]
    broken = {t.id() for t in failed}
    return {_name(t): t.id() not in broken for t in tests}


def _name(test: unittest.TestCase) -> str:
    return test.id().removeprefix("tests.").removeprefix("reference.")


def _tests(modules: tuple[str, ...]) -> list[unittest.TestCase]:
    """The tests of some modules but those whose other processes are not spoilt along."""
    every = _flat(unittest.defaultTestLoader.loadTestsFromNames(modules))
    return [test for test in every if not any(part in test.id() for part in ELSEWHERE)]


def _flat(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from _flat(test)
        else:
            yield test


# what each mutant should break; the other pairs are tried by ``--all``, and where this fails
AIMED: dict[str, tuple[str, ...]] = {
    "gravity 2 % off": ("FreeFall", "HydrostaticPressure", "water_in_a_box", "test_from_wall_to_wall", "Film"),
    "gravity 15 % off": ("HydraulicJump", "PushedBore"),
    "narrow gaps flow": ("NarrowGap",),
    "drag on gravity's kick": ("DragAtRest",),
    "ghost fluid off": ("under_tilted_gravity", "Sloshing", "SolitaryWave"),
    "gravity turned by 0.5 degrees": ("LeaningSurface",),
    "straight paths": ("StretchingDrop", "test_paths"),
    "walls hold": ("test_parting", "Ceiling", "Contraction"),
    "air comes everywhere": ("test_parting", "Ceiling"),
    "walls stay open": ("test_parting",),
    "no affine term": ("Efflux", "DamBreak", "test_axes", "CollapsingColumn"),
    "no reflection": ("Vortices", "Turning"),
    "no swing": ("Turning",),
    "surface flattened at walls": ("TravellingWave",),
    "face fractions rounded": ("Slide",),
    "level set blind to walls": ("turned_vessel",),
    "thin walls joined": ("of_1_1_voxels",),
    "no rays": ("of_0_3_voxels", "Leaks"),
    "nothing handed up": ("Band",),
    "reaction a fifth too weak": ("test_reaction",),
    "no spacing": ("Volume",),
    "particles lost": ("Volume", "Stillness", "BrimfulVessel", "LevelRise"),
    "a tenth more is poured": ("BrimfulVessel", "LevelRise", "StoppedJet", "test_flow_and_thread"),
    "sources stop and go": ("slow_thread", "StoppedJet"),
    "walls that move rest": ("WedgeEntry", "ShakenTank", "PushedBore"),
}


GROUPS: dict[str, tuple[tuple[str, ...], dict[str, Callable], dict[str, tuple[str, ...]]]] = {
    "solver": (MODULES, MUTANTS, AIMED),
    "surface": (mutants_surface.MODULES, mutants_surface.MUTANTS, mutants_surface.AIMED),
    "thick": (mutants_thick.MODULES, mutants_thick.MUTANTS, mutants_thick.AIMED),
    "hand": (mutants_hand.MODULES, mutants_hand.MUTANTS, mutants_hand.AIMED),
    "air": (mutants_air.MODULES, mutants_air.MUTANTS, mutants_air.AIMED),
    "sea": (mutants_sea.MODULES, mutants_sea.MUTANTS, mutants_sea.AIMED),
}


def tried(name: str, page: str) -> list[str]:
    """Lines for the page about one group: what each mutant broke, and the tests that none did.

    With ``--new`` only mutants that the page, as it is, does not have; its other rows stay.
    """
    modules, mutants, aimed = GROUPS[name]
    names = [_name(t) for t in _tests(modules)]
    rows = dict(re.findall(r"^\| (?!spoilt|---)(.*?) \| (.*) \|$", page, re.MULTILINE)) if "--new" in sys.argv else {}
    fresh = {mutant: spoil for mutant, spoil in mutants.items() if mutant not in rows}
    wanted = {t for t in names if not rows or any(part in t for m in fresh for part in aimed[m])}
    well = outcomes(modules, None, wanted)
    table: dict[str, dict[str, bool]] = {}
    for mutant, spoil in fresh.items():
        table[mutant] = outcomes(modules, spoil, {t for t in names if any(part in t for part in aimed[mutant])})
        if all(table[mutant].values()):
            table[mutant] |= outcomes(modules, spoil, set(names) - set(table[mutant]))
        print(mutant, "breaks", [t for t, passed in table[mutant].items() if not passed], flush=True)
    noticed = {t for t in names for row in rows.values() if t.partition(".")[2] in row}
    left = {t for t in names if t not in noticed and all(found.get(t, True) for found in table.values())}
    if "--all" in sys.argv:
        for mutant, spoil in fresh.items():
            table[mutant] |= outcomes(modules, spoil, left - set(table[mutant]))
    for mutant, found in table.items():
        broken = [t.partition(".")[2] for t, passed in found.items() if not passed and well.get(t, True)]
        rows[mutant] = ", ".join(broken) or "**none**"
    lines = [f"## {name.capitalize()}", "", "| spoilt | tests that notice |", "|---|---|"]
    lines += [f"| {mutant} | {rows[mutant]} |" for mutant in mutants]
    unbroken = [t for t in names if t not in noticed and all(found.get(t, True) for found in table.values())]
    met = {t for found in table.values() for t in found}
    met |= {t for t in names if t.partition(".")[2] in page.partition("Tried with some")[2].partition("\n")[0]}
    for what, some in (
        ("Tried with some of these, and not broken", [t for t in unbroken if t in met]),
        ("Tried with none of these", [t for t in unbroken if t not in met]),
    ):
        lines += ["", f"{what}: {', '.join(t.partition('.')[2] for t in some) or 'no test'}."]
    return [*lines, ""]


def main() -> None:
    """Try the groups that are named, or all, and write their parts of the page."""
    django.setup()
    text = PAGE.read_text(encoding="utf-8")
    parts = dict(re.findall(r"^## (\w+)\n(.*?)(?=^## |\Z)", text, re.MULTILINE | re.DOTALL))
    for name in [g for g in GROUPS if g in sys.argv] or list(GROUPS):
        own = parts.get(name.capitalize(), "")
        parts[name.capitalize()] = "\n".join(tried(name, own)[2:])
    lines = [
        "# What spoilt breaks which test",
        "",
        "Written by `./zinc bench --mutants [solver | surface | thick | hand | air | sea]`, which puts something wrong",
        "in place of a part and runs the tests that should notice, or all if they do not (`--all` tries every pair",
        "left, `--new` only what this page does not have).",
        "",
    ]
    PAGE.write_text(
        "\n".join([*lines, ""]) + "\n".join(f"## {name}\n\n{part.strip()}\n" for name, part in parts.items()), "utf-8"
    )


if __name__ == "__main__":
    main()
