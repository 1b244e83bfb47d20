"""One frame's surface: particles in, triangles with attributes out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from basin.geometry.mesh import vertex_normals
from basin.surface.attributes import vertex_attributes
from basin.surface.cutting import capped, fitted_to, opened, with_shape
from basin.surface.field import Points, Simulated, particle_field
from basin.surface.filters import Context, Solids, filtered, looks, redistanced, room
from basin.surface.finish import faired, held, held_apart, subdivided, thinned, unwrapped
from basin.surface.level import Whole, each
from basin.surface.settings import SurfaceSettings

GIVES = 0.15  # voxels: as far as vertices are moved for the volume at most
RIM = 6  # voxels besides that bricks know of their neighbours: distances within four look so far
AT_WALL = 0.1  # voxels: vertices nearer to a wall stay there
NOWHERE = (np.full(3, -np.inf), np.full(3, np.inf))


@dataclass(frozen=True)
class Joined:
    """A shape to be added: distance (n,) in metres of points (n, 3), and its smallest and largest corner."""

    distance: Callable[[np.ndarray], np.ndarray]
    low: np.ndarray
    high: np.ndarray


@dataclass(frozen=True)
class Surroundings:
    """What a surface is made among.

    Attributes
    ----------
    simulated : what the simulations' grids know
    frame_seconds : shot seconds of a frame
    domain : smallest and largest corner, metres
    solids : distance of points from the nearest collider, if there is one
    joined : shapes to be added
    walls : distance of points from the nearest collider or closed wall of the domain, if there is one
    """

    simulated: list[Simulated] = field(default_factory=list)
    frame_seconds: float = 0.0
    domain: tuple[np.ndarray, np.ndarray] = NOWHERE
    solids: Solids | None = None
    joined: list[Joined] = field(default_factory=list)
    walls: Solids | None = None


@dataclass(frozen=True)
class SurfaceFrame:
    """A meshed frame: float32 (n, 3) metres, int32 (m, 3), and by name what its vertices carry (n, ...).

    There is always a `velocity`, float32 (n, 3), m/s per shot second. `field` is the level set that was meshed.
    """

    position: np.ndarray
    triangle: np.ndarray
    attributes: dict[str, np.ndarray]
    field: Whole | None = None


def surface_frame(
    points: Points, voxel: float, settings: SurfaceSettings, among: Surroundings | None = None
) -> SurfaceFrame:
    """Mesh the liquid that particles and full voxels stand for (see `particle_field`); empty without any.

    In this order: field, joined shapes, filters, colliders, cuts, mesh, fairing, subdividing, thinning, attributes.
    """
    around = among or Surroundings()
    made = surface_field(points, voxel, settings, around)
    if made is None:
        none = np.zeros((0, 3), np.float32)
        return SurfaceFrame(none, np.zeros((0, 3), np.int32), {"velocity": none})
    placed, triangle = made.polygonised()
    give = np.ones(len(placed))
    if len(placed):
        placed, give = _as_thick_as_it_is(made, placed, triangle)
    placed, triangle = opened(placed, triangle, settings.cuts, around.domain)
    if settings.colliders == "remove" and around.solids is not None:
        give = np.where(around.solids(placed) < settings.gap / 1000 + AT_WALL * made.voxel, 0.0, give)
    if settings.hold_volume and not settings.cuts and not around.joined:
        holds = wanted(points, around.simulated, settings, made)
        placed = held(placed, triangle, holds, GIVES * made.voxel, give)
        if holds is not None:
            placed = held_apart(placed, triangle, holds, (points.position, points.volume), made.voxel)
    placed = faired(placed, triangle, settings.fairing)
    placed, triangle = subdivided(placed, triangle, settings.subdivide)
    placed, triangle = thinned(placed, triangle, settings.thinning / 1000)
    flat = {}
    if settings.unwrap and len(triangle):
        was, triangle, coordinates = unwrapped(placed, triangle)
        placed, flat = placed[was], {"uv": coordinates}
    attributes = vertex_attributes(placed, points.position, points.carried, settings.softness * points.spacing)
    return SurfaceFrame(placed.astype(np.float32), triangle, {**attributes, **flat}, made)


def _as_thick_as_it_is(made: Whole, vertex: np.ndarray, triangle: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Vertices (n, 3), metres, with those of layers and drops taken back to where these are, and how far each may go
    for the volume's sake (n,), 0 to 1."""
    placed, give = vertex.copy(), np.ones(len(vertex))
    rest = np.ones(len(vertex), bool)
    if made.drops is not None:
        of_drops, own = made.drops.take_back(vertex, triangle, made.voxel)
        placed[own], give[own], rest = of_drops[own], 0.0, ~own
    if made.layers is not None:
        normals = vertex_normals(vertex, triangle)
        placed[rest], give[rest] = made.layers.take_back(vertex[rest], normals[rest], made.voxel)
    return placed, give


def wanted(points: Points, simulated: list[Simulated], settings: SurfaceSettings, made: Whole) -> float | None:
    """Volume (m3) that a mesh should hold, less the spray if that is left out; None where filters change it."""
    if any(one.does in ("grow", "shrink") for one in settings.filters):
        return None
    full = sum(int(np.count_nonzero(grid.held)) * grid.voxel**3 for grid in simulated)
    left_out = float(made.spray.sum(dtype=np.float64)) if settings.spray_radius == 0 else 0.0
    return float(points.volume.sum(dtype=np.float64)) + full - left_out


def surface_field(points: Points, voxel: float, settings: SurfaceSettings, around: Surroundings) -> Whole | None:
    """The level set that is meshed, all but for cuts that are left open."""
    beyond = None
    if around.joined:
        beyond = (
            np.min([j.low for j in around.joined], axis=0),
            np.max([j.high for j in around.joined], axis=0),
        )
    more = room(settings.filters) + (-min(settings.gap, 0.0) / 1000 / voxel if settings.colliders == "remove" else 0.0)
    solids = around.solids if settings.colliders == "remove" else None
    reach = max(points.spacing, 2 * voxel)  # from walls that liquid is drawn up to
    looked = max(looks(settings.filters, voxel), 0.0 if solids is None else 2 * reach / voxel)
    rim = int(np.ceil(looked - min(settings.gap, 0.0) / 1000 / voxel)) + RIM
    made = particle_field(
        points, voxel, settings, around.simulated, around.frame_seconds, beyond, more, around.walls, rim
    )
    if made is None:
        return None
    for joined in around.joined:
        made = made.of([with_shape(part, joined.distance) for part in made.parts])
    made = filtered(made, settings.filters, settings.hold_volume, Context(points, around.solids))
    if solids is not None or made.drops is not None:
        made = each(made, lambda part: redistanced(part, 4).with_drops())
    if solids is not None:
        made = each(made, lambda part: fitted_to(part, solids, settings.gap / 1000, reach))
    return each(made, lambda part: capped(part, settings.cuts, around.domain))
