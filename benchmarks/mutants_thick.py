"""What is spoilt of viscosity for `benchmarks.mutants`, and which tests should notice."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
from numba import njit

from basin.liquid import crowding, films, gripping, levelset, strains, tension, viscosity
from basin.liquid.particles import M
from benchmarks.mutants_surface import around, exchanged, with_names

_as_it_is, _as_it_holds = films._thickness, viscosity._against
MODULES = (
    "tests.basin.test_viscosity",
    "tests.basin.test_coarser",
    "tests.basin.test_crowding",
    "tests.basin.test_tension",
    "tests.reference.test_small",
    "tests.reference.test_thick",
    "tests.reference.test_reaction",
)


@njit
def _of_one(out, weight, u, v, begin, end, across_u, across_v):
    for p in range(begin, end):
        out[p] = weight[p] * (u[p] - u[p - across_u])


@njit
def _unwalled(near, held, opened, p, x, y, depth, slip):
    return opened


@njit
def _whole(near, held, p, axis, slip):
    return np.float32(1.0)


@njit
def _halfway(way, slip):
    return 0.5 * way


@njit
def _all_seen(where, slot, hidden, i, j, k, free):
    pass


@njit
def _no_wall(corner, listed, begin, end, p):
    return (1e9, 0.0, 0.0, 0.0), -1


@njit
def _all_or_none(depth):
    return np.float32(1.0) if depth < 1.0 else np.float32(0.0)


@njit
def _like_any(near, step, depth):
    return np.float32(1.0)


@njit
def _level_everywhere(place, away, normal, volume, found, count):
    return _as_it_is(place, away, normal, volume, found, count)[0], 0.0, 0.0, 0.0


@njit
def _a_voxel(free, held):
    return np.float32(1.0)


@njit
def _as_open(near, held, p, axis, depth, own, slip):
    return own


@njit
def _twice(place, away, normal, volume, found, count):
    thick, x, y, z = _as_it_is(place, away, normal, volume, found, count)
    return 2.0 * thick, x, y, z


@njit
def _no_way(field, where, x, y, z):
    return np.float32(0.0), np.float32(0.0), np.float32(0.0)


@njit
def _always_on(touch, speed, creep):
    return touch[0]


@njit
def _sticks(free, held, depth, slip):
    return _as_it_holds(free, held, depth, np.float32(0.0))


def _weighed(**names: Any) -> Callable[[], AbstractContextManager]:
    """Weights found with other parts."""
    return lambda: mock.patch.object(viscosity, "_weigh", with_names(viscosity._weigh, **names))


def _applied(**names: Any) -> Callable[[], AbstractContextManager]:
    stress = with_names(strains._stress, **names)
    return lambda: mock.patch.object(strains, "_apply", with_names(strains._apply, _stress=stress))


def _walled(**names: Any) -> dict[str, Any]:
    """What strains weigh against walls, with other parts."""
    against = with_names(viscosity._against, **names)
    parts = {"_shear": viscosity._shear, "_stretched": viscosity._stretched}
    return {name: with_names(part, _against=against) for name, part in parts.items()}


def _roughly() -> AbstractContextManager:
    damp = viscosity.Viscous.damp
    return mock.patch.object(viscosity.Viscous, "damp", lambda self, flow, *_, **__: damp(self, flow, 0.05))


def _plain_mean(particles: Any, value: Any, tiling: Any, tiles: Any, like: Any, hidden: Any) -> Any:
    """The mean of viscosities, not of what gives."""
    held = levelset.density(particles, tiling, tiles, hidden)
    weighed = particles.copy()
    weighed.record[:, M] *= value
    return levelset.density(weighed, tiling, tiles, hidden) / np.maximum(held, np.float32(1e-6))


def _in_one(flow: Any, _pushed: Any, phi: Any, nu: Any, solids: Any, dt: float, nu_edge: Any, centre: Any) -> Any:
    """A single stage to the end of the step."""
    matrix = viscosity.Viscous(phi, nu, solids, dt, nu_edge)
    return matrix.damp(flow), matrix.faces(), matrix.drag(flow, centre)


MUTANTS: dict[str, Callable[[], AbstractContextManager]] = {
    "viscosity 3 % too strong": around("liquid.viscosity", "at_cells", lambda made, *a: np.float32(1.03) * made(*a)),
    "acts for half the time": around(
        "liquid.viscosity", "Viscous", lambda made, phi, nu, solids, dt: made(phi, nu, solids, 0.5 * dt)
    ),
    "shears see one velocity": _applied(_sheared=_of_one),
    "walls a voxel away": _weighed(**_walled(way_to_wall=_a_voxel)),
    "masses at walls whole": _weighed(_extent=_whole),
    "walls hold nothing": _weighed(_shear=_unwalled, _stretched=_as_open, _extent=_whole),
    "stretches as open as their cells": _weighed(_stretched=_as_open),
    "cubes at the surface full or empty": _weighed(full=_all_or_none),
    "a film's one face like any other": _weighed(**_walled(_thin=_like_any)),
    "films too thin for the grid slide": exchanged("liquid.films", "slow", lambda *a: None),
    "the grid keeps films of half a voxel": exchanged("liquid.films", "_measure", with_names(films._measure, THIN=0.0)),
    "their thickness is twice as much": exchanged(
        "liquid.films", "_measure", with_names(films._measure, _thickness=_twice)
    ),
    "films do not run down their own slope": exchanged(
        "liquid.films", "_measure", with_names(films._measure, _thickness=_level_everywhere)
    ),
    "particles on walls lie in heaps": exchanged("liquid.crowding", "_push", with_names(crowding._push, RATE=0.0)),
    "those of films are pushed off their wall": exchanged(
        "liquid.crowding", "_push", with_names(crowding._push, gradient=_no_way)
    ),
    "what is even is pushed": exchanged("liquid.crowding", "_rooms", with_names(crowding._rooms, IN_BODY=1.5)),
    "coarser grids are half as stiff": exchanged("liquid.coarser", "HALVED", 0.125),
    "smoothed for half of the eigenvalues": exchanged("liquid.coarser", "LARGEST", 2.0),
    "colliders feel no shear": exchanged("liquid.viscosity", "_drag", lambda *a: None),
    "yield ignored": around(
        "liquid.yielding", "apparent", lambda made, nu, stress, *a: made(nu, np.float32(0.0) * stress, *a)
    ),
    "flow index ignored": around(
        "liquid.yielding", "apparent", lambda made, nu, stress, index, *a: made(nu, stress, np.ones_like(index), *a)
    ),
    "edges see the rate of their cells": around(
        "liquid.yielding", "apparent", lambda made, *a: (made(*a)[0], viscosity.AS_CELLS)
    ),
    "what sticks slides": exchanged("liquid.viscosity", "stick", lambda *a: None),
    "the rim goes on from inside": exchanged("liquid.extrapolation", "THERE", np.float32(1e9)),
    "solved to a twentieth": _roughly,
    "walls that move rest": exchanged("liquid.viscosity", "_of_solids", lambda *a: None),
    "dynamic taken for kinematic": around(
        "liquid.viscosity", "at_cells", lambda made, particles, *a: np.float32(1000.0) * made(particles, *a)
    ),
    "unlike liquids take the plain mean": exchanged("liquid.viscosity", "at_cells", _plain_mean),
    "of first order": exchanged("liquid.viscosity", "act", _in_one),
    "other forces act before it": around(
        "liquid.viscosity", "act", lambda made, flow, pushed, *a: made(flow, [0.0 * u for u in pushed], *a)
    ),
    "twice as thick": around("liquid.viscosity", "at_cells", lambda made, *a: np.float32(2.0) * made(*a)),
    "curvature 10 % too large": around("liquid.tension", "curvature", lambda made, *a: np.float32(1.1) * made(*a)),
    "rounder forms as a paraboloid finds them": exchanged(
        "liquid.tension", "_curvature", with_names(tension._curvature, _bent=with_names(tension._bent, ROUNDER=0.0))
    ),
    "blurred waves stay so": around(
        "liquid.tension", "softened", lambda made, bent, softening, *a: made(bent, replace(softening, sharper=0.0), *a)
    ),
    "long steps are not softened": around("liquid.tension", "softened", lambda made, bent, *a: bent),
    "contact angles ignored": exchanged(
        "liquid.tension", "_curvature", with_names(tension._curvature, _bent=with_names(tension._bent, NEAR_WALL=0.0))
    ),
    "lines that draw back advance": exchanged(
        "liquid.tension", "_curvature", with_names(tension._curvature, _meets=_always_on)
    ),
    "slip ignored": _weighed(
        _shear=with_names(viscosity._shear, _against=_sticks),
        _stretched=with_names(viscosity._stretched, _against=_sticks),
    ),
    "thin walls let go": exchanged("liquid.viscosity", "Grip", mock.Mock(of=lambda *a: None)),
    "what slides has no mass at the wall": exchanged(
        "liquid.gripping", "_weigh", with_names(gripping._weigh, reach=_halfway)
    ),
    "thin walls feel no shear": exchanged("liquid.gripping", "_drag", lambda *a: None),
    "surfaces see through thin walls": exchanged(
        "liquid.tension", "_curvature", with_names(tension._curvature, _unseen=_all_seen, _thin_wall_at=_no_wall)
    ),
    "gravity 15 % off": around("liquid.forces", "gravity_kick", lambda made, g, *a: made(1.15 * np.asarray(g), *a)),
}
AIMED: dict[str, tuple[str, ...]] = {
    "particles on walls lie in heaps": ("KeepApart",),
    "those of films are pushed off their wall": ("KeepApart",),
    "what is even is pushed": ("KeepApart",),
    "viscosity 3 % too strong": ("Channel",),
    "acts for half the time": ("Channel", "Vortices"),
    "shears see one velocity": ("Step",),
    "walls a voxel away": ("Walls",),
    "masses at walls whole": ("Walls",),
    "walls hold nothing": ("Walls", "DraggedAlong"),
    "stretches as open as their cells": ("LeaningFilm",),
    "cubes at the surface full or empty": ("Film",),
    "a film's one face like any other": ("Film",),
    "films too thin for the grid slide": ("Film",),
    "the grid keeps films of half a voxel": ("LeaningFilm",),
    "their thickness is twice as much": ("Film",),
    "films do not run down their own slope": ("Levelling",),
    "coarser grids are half as stiff": ("CoarserGrids",),
    "smoothed for half of the eigenvalues": ("CoarserGrids",),
    "colliders feel no shear": ("Dragging",),
    "yield ignored": ("Yielding",),
    "flow index ignored": ("Yielding",),
    "edges see the rate of their cells": ("Yielding",),
    "what sticks slides": ("Channel",),
    "the rim goes on from inside": ("TurningDisc",),
    "solved to a twentieth": ("Channel", "TurningDisc"),
    "walls that move rest": ("Walls", "DraggedAlong"),
    "dynamic taken for kinematic": ("Sources", "Channel"),
    "unlike liquids take the plain mean": ("Layers", "Sources"),
    "of first order": ("Swinging",),
    "other forces act before it": ("Channel", "Film"),
    "twice as thick": ("RunningOut",),
    "curvature 10 % too large": ("Still", "Bent"),
    "rounder forms as a paraboloid finds them": ("Bent",),
    "blurred waves stay so": ("Ripples",),
    "long steps are not softened": ("Still",),
    "contact angles ignored": ("Meeting", "Wetting"),
    "lines that draw back advance": ("Meeting",),
    "slip ignored": ("Slipping",),
    "thin walls let go": ("ThinWalls",),
    "what slides has no mass at the wall": ("ThinWalls",),
    "thin walls feel no shear": ("ThinWalls",),
    "surfaces see through thin walls": ("Wetting",),
    "gravity 15 % off": ("ThinLiquid",),
}
