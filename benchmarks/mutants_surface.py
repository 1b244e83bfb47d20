"""Spoilt surfacing, textures and deliveries, for ``./zinc bench --mutants``."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import replace
from types import FunctionType
from typing import Any
from unittest import mock

import numpy as np
from numba import njit

from basin.kernels import Shared

MODULES = (
    "tests.reference.test_surface",
    "tests.reference.test_surfacing",
    "tests.basin.test_layers",
    "tests.basin.test_drops",
    "tests.basin.test_bricks",
    "tests.basin.test_attributes",
    "tests.basin.test_texture",
    "tests.basin.test_delivery",
    "tests.basin.test_judge",
)


def with_names(kernel: Any, **names: Any) -> Callable:
    """A kernel compiled again with other functions or numbers under the names that it calls."""
    if isinstance(kernel, Shared):
        return Shared(with_names(kernel.piece, **names), kernel.bounds)
    plain = kernel.py_func
    spoilt = FunctionType(plain.__code__, {**plain.__globals__, **names}, plain.__name__)
    return njit(parallel=bool(kernel.targetoptions.get("parallel")), nogil=True)(spoilt)


def exchanged(module: str, name: str, value: Any) -> Callable[[], AbstractContextManager]:
    """A mutant that puts something else under a name of a module of the core."""
    return lambda: mock.patch(f"basin.{module}.{name}", value)


def around(module: str, name: str, spoil: Callable) -> Callable[[], AbstractContextManager]:
    """A mutant that calls `spoil` with the function that is there and its arguments in its place."""

    @contextmanager
    def spoilt() -> Iterator[None]:
        home: Any = __import__(f"basin.{module}", fromlist=[name])
        *owners, own = name.split(".")
        for owner in owners:
            home = getattr(home, owner)
        made = getattr(home, own)
        with mock.patch.object(home, own, lambda *a, **k: spoil(made, *a, **k)):
            yield

    return spoilt


def _of_drops(name: str, spoil: Callable) -> Callable[[], AbstractContextManager]:
    def spoilt() -> AbstractContextManager:
        from basin.surface.drops import Drops

        made = getattr(Drops, name)
        return mock.patch.object(Drops, name, lambda *a: spoil(made, *a))

    return spoilt


def _with_company(made: Callable, *given: Any) -> Any:
    layers, there, few = made(*given)
    return layers, there, np.zeros_like(few)


def _middles() -> AbstractContextManager:
    from basin.surface import polygonise

    number = with_names(polygonise._number, _off=njit(lambda value, least: -1.0 if value < 0 else 1.0))
    return mock.patch.object(polygonise, "_mesh", with_names(polygonise._mesh, _number=number))


def _case(change: Callable[[np.ndarray], np.ndarray]) -> Callable[[], AbstractContextManager]:
    def spoilt() -> AbstractContextManager:
        from basin.surface import polygonise

        edges = polygonise.EDGES.copy()
        edges[0b00010111] = change(edges[0b00010111])
        return mock.patch.object(polygonise, "EDGES", edges)

    return spoilt


def _ratio() -> AbstractContextManager:
    from basin.surface import kernels

    lengths = with_names(kernels._lengths, MOST_RATIO=5.0)
    return mock.patch.object(kernels, "_shaped", with_names(kernels._shaped, _lengths=lengths))


def _plain_weights() -> AbstractContextManager:
    from basin.surface import kernels

    moments = with_names(kernels._moments, ONE=np.float32(1.05))
    return mock.patch.object(kernels, "_shaped", with_names(kernels._shaped, _moments=moments))


def _through_walls() -> AbstractContextManager:
    from basin.surface import layers

    apart = with_names(layers._apart, CORNER=np.float32(-2.0))
    gathered = with_names(layers._gathered, _apart=apart)
    return mock.patch.object(layers, "_look", with_names(layers._look, _gathered=gathered))


def _unsettled() -> AbstractContextManager:
    from basin.surface.level import Bricks

    return mock.patch.object(Bricks, "of", lambda self, parts: replace(self, parts=list(parts)))


def _laplace() -> AbstractContextManager:
    from basin.surface import finish

    return mock.patch.object(finish, "PASS_BAND", (0.6307, 0.6732))


def _no_slope() -> AbstractContextManager:
    from basin.surface import attributes

    return mock.patch.object(attributes, "_fitted", with_names(attributes._fitted, LEAST_PIVOT=2.0))


def _pulled(made: Callable, slot: np.ndarray, position: np.ndarray, *rest: Any) -> None:
    """Centres of kernels a twentieth of the way towards the middle of all."""
    made(slot, position, *rest)
    own = position[slot >= 0]
    rest[-3][:] = own + 0.05 * (position.mean(axis=0) - own)


def _early(made: Callable, cell: np.ndarray, kept: np.ndarray, start: np.ndarray) -> np.ndarray:
    """The first of the particles in full cells is never seen."""
    order: np.ndarray = made(cell, kept, start)
    start[:-1] += np.diff(start) > 3
    return order


def _on_nodes(made: Callable, *arguments: Any) -> None:
    """Feet at the nodes nearest to them."""
    made(*arguments)
    arguments[-1][:, :3] = np.rint(arguments[-1][:, :3])


MUTANTS: dict[str, Callable[[], AbstractContextManager]] = {
    "vertices amid edges": _middles,
    "a case turned inside out": _case(lambda edges: edges[:, ::-1]),
    "a case without its last triangle's corner": _case(lambda edges: edges[[0, 0, *range(2, len(edges))]]),
    "no node moved off the surface": exchanged("surface.polygonise", "SLIVER", 0.0),
    "contour 0.05 radii farther out": around(
        "surface.field", "_distances", lambda made: (made() - np.float32(0.05)).astype(np.float32)
    ),
    "means reach 5 % farther": around(
        "surface.field", "_averaged", lambda made, cloud, reach, radius, some: made(cloud, 1.05 * reach, radius, some)
    ),
    "axes of up to 5 to 1": _ratio,
    "moments with other weights": _plain_weights,
    "kernels shifted along the normal too": around("surface.kernels", "_shaped", _pulled),
    "drawn-out balls as thick as before": exchanged("surface.cloud", "_drawn_radius", lambda radius, half: radius),
    "nodes near the surface taken for deep": exchanged("surface.cloud", "NEAR", 0),
    "nothing is deep": exchanged("surface.cloud", "SPARSE", 100.0),
    "rows of neighbours end a cell early": around("grid.neighbours", "_sorted", _early),
    "drops no wider than they are": exchanged("surface.drops", "SEEN", 0.0),
    "drops as wide as drawn": _of_drops("take_back", lambda made, own, at, *a: (at, np.zeros(len(at), bool))),
    "drops' volumes not met": exchanged("surface.drops", "SWELLS", 0),
    "what filters take away is gone": _of_drops(
        "among", lambda made, own, away, *a: made(own, np.where(own.lost, -np.inf, away), *a)
    ),
    "drops on other liquid are seen": _of_drops("_hangs_on_free", lambda made, own: np.ones(len(own), bool)),
    "a coat's loose particles fly": exchanged("surface.layers", "LYING", (0.5, 0.9)),
    "pools lie on their sides": exchanged("surface.layers", "GOES_ON", 100.0),
    "bricks know nothing of those beside them": _unsettled,
    "bricks see no particle of those beside them": exchanged("surface.field", "SEEN_OFF", -4.0),
    "no layers": exchanged("surface.layers", "THICKEST", 0.0),
    "layers know no wall": around("surface.field", "layers_of", lambda made, *a: made(*a[:-1], None)),
    "layers see through walls": _through_walls,
    "layers as thick as drawn": exchanged("surface.layers", "_take_back", lambda *a: None),
    "ragged bodies' volumes not held": exchanged("surface.mesh", "held_apart", lambda position, *a: position),
    "the mesh's volume not held": exchanged("surface.mesh", "held", lambda position, *a: position),
    "specks stay": exchanged("surface.field", "_without_specks", lambda made, *a: made),
    "nobody is lonely": around("surface.field", "layers_of", _with_company),
    "contour's scale 3 % off": around(
        "surface.splat", "contour", lambda made, density, told, scale: made(density, told, np.float32(0.97) * scale)
    ),
    "nodes 3 % less full": around("surface.filters", "_full", lambda made, *a: np.float32(0.97) * made(*a)),
    "moved however far for the volume": exchanged("surface.filters", "FARTHEST_MOVE", 100.0),
    "the simulation's level set left out": exchanged("surface.splat", "into_body", lambda *a: None),
    "full voxels left out": exchanged("surface.splat", "full_voxels", lambda *a: None),
    "flow 3 % too fast": around(
        "surface.filters", "_flow", lambda made, phi, other, step, *a: made(phi, other, np.float32(1.03) * step, *a)
    ),
    "distances from nodes, not feet": around("surface.filters", "_feet", _on_nodes),
    "volume not held": exchanged("surface.filters", "with_volume", lambda field, *a: field),
    "masks let everything through": exchanged("surface.filters", "mask", lambda *a: None),
    "median of one node more": around(
        "surface.filters", "_median", lambda made, p, m, reach, n: made(p, m, reach + 1, n)
    ),
    "caps left out": exchanged("surface.mesh", "capped", lambda field, *a: field),
    "open cuts left out": exchanged("surface.mesh", "opened", lambda position, triangle, *a: (position, triangle)),
    "half the gap": around("surface.mesh", "fitted_to", lambda made, f, s, gap, r: made(f, s, gap / 2, r)),
    "joined after the filters": exchanged("surface.mesh", "with_shape", lambda field, *a: field),
    "fairing without its step out": _laplace,
    "thinned three times as far": exchanged("surface.finish", "THIN_UNIT", float(np.finfo(float).eps) ** 0.5 / 9),
    "millimetres of thinning taken for metres": around(
        "surface.mesh", "thinned", lambda made, p, t, by: made(p, t, 1000 * by)
    ),
    "means without slopes": _no_slope,
    "both rest positions renewed at once": around(
        "liquid.texture", "renewed", lambda made, n, clock: [0, 1] if made(n, clock) else []
    ),
    "weights of rest positions exchanged": around(
        "liquid.texture", "second_share", lambda made, n, clock: 1 - made(n, clock)
    ),
    "velocities keep their unit": exchanged("exchange.pieces", "RATES", ()),
    "turned the other way": around("exchange.pieces", "axes", lambda made, up: made(up).T),
    "feet of 0.3 m": exchanged(
        "exchange.pieces", "METRES", {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3}
    ),
    "nothing read back": exchanged("stages.deliver", "_kept", lambda *a: False),
    "every file kept": around("stages.deliver", "_kept", lambda made, folder, entry, wanted: entry is not None),
    "judged a millimetre off": around(
        "stages.judge",
        "_within",
        lambda made, s, asked: replace(made(s, asked), position=made(s, asked).position + 1e-3),
    ),
}


# what each should break; where that fails, all are tried
AIMED: dict[str, tuple[str, ...]] = {
    "ragged bodies' volumes not held": ("too_loose",),
    "drops on other liquid are seen": ("no_crumb",),
    "a coat's loose particles fly": ("loose_coat",),
    "pools lie on their sides": ("shallow_pool",),
    "bricks know nothing of those beside them": ("InBricks",),
    "bricks see no particle of those beside them": ("InBricks",),
    "vertices amid edges": ("ExactShapes",),
    "a case turned inside out": ("Watertight", "facet_normals"),
    "a case without its last triangle's corner": ("Watertight", "AgainstScikitImage"),
    "no node moved off the surface": ("degenerate",),
    "contour 0.05 radii farther out": ("StillPool", "lone_particle"),
    "means reach 5 % farther": ("BallsAboutMeans",),
    "axes of up to 5 to 1": ("bounded_ratio",),
    "moments with other weights": ("numpys",),
    "kernels shifted along the normal too": ("half_space",),
    "drawn-out balls as thick as before": ("drawn_out",),
    "nodes near the surface taken for deep": ("shell_alone",),
    "nothing is deep": ("noise_makes",),
    "rows of neighbours end a cell early": ("Neighbours",),
    "drops no wider than they are": ("test_drops",),
    "drops as wide as drawn": ("test_drops",),
    "drops' volumes not met": ("test_drops",),
    "what filters take away is gone": ("test_drops",),
    "nobody is lonely": ("left_out",),
    "contour's scale 3 % off": ("PartsOfFields",),
    "nodes 3 % less full": ("HeldVolume",),
    "moved however far for the volume": ("HeldVolume",),
    "no layers": ("test_layers", "thin_sheets"),
    "layers know no wall": ("test_layers",),
    "layers see through walls": ("test_layers",),
    "layers as thick as drawn": ("test_layers",),
    "the mesh's volume not held": ("test_layers",),
    "specks stay": ("specks",),
    "the simulation's level set left out": ("simulations_own",),
    "full voxels left out": ("one_body",),
    "flow 3 % too fast": ("Flows",),
    "distances from nodes, not feet": ("distance_is_found", "move_by_their_width"),
    "volume not held": ("volume_is_held",),
    "masks let everything through": ("Masks", "by_speed", "by_distance", "by_thickness"),
    "median of one node more": ("median",),
    "caps left out": ("capped_and_open",),
    "open cuts left out": ("capped_and_open",),
    "half the gap": ("in_millimetres",),
    "joined after the filters": ("joined_before",),
    "fairing without its step out": ("taubin",),
    "thinned three times as far": ("thinning_stays",),
    "millimetres of thinning taken for metres": ("in_millimetres",),
    "means without slopes": ("test_attributes",),
    "both rest positions renewed at once": ("Clock", "Travelling"),
    "weights of rest positions exchanged": ("Clock", "Travelling"),
    "velocities keep their unit": ("test_delivery.Formats", "InPlace", "elements_move"),
    "turned the other way": ("InPlace", "Formats"),
    "feet of 0.3 m": ("InPlace", "Formats"),
    "nothing read back": ("Renewal",),
    "every file kept": ("Renewal",),
    "judged a millimetre off": ("Looking",),
}
