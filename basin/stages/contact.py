"""What small bodies that fly and float meet of a scene: its colliders, and its winds and other forces."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.distance import Distance
from basin.liquid import forces
from basin.scene import Collider, Force, Scene
from basin.scene.model import Source
from basin.settings import value_at
from basin.stages.assembly import distance_of, forces_of
from basin.stages.files import SceneFiles
from basin.whitewater.laws import Fluids
from basin.whitewater.life import Air, Whitewater, named

CLEAR = 1e-3  # voxels that they keep from a solid
LOOKS = 16  # along a way that may have passed through a solid
PROBE = 0.25  # voxels: over which a solid's outward normal is found


@dataclass(frozen=True)
class _Met:
    """A collider that acts."""

    element: Collider
    distance: Distance | Deforming


class ColliderContact:
    """The colliders of a scene; their meshes are sampled once."""

    def __init__(self, scene: Scene, files: SceneFiles, quality: str) -> None:
        self.scene, self.voxel = scene, scene.voxel_size(quality)
        self._all = [
            _Met(one, distance_of(one, scene, files, one.sampling or self.voxel)) for one in scene.of_kind(Collider)
        ]

    def acting(self, begin: float, end: float) -> list[_Met]:
        """Those that act at any moment between two, shot seconds."""
        return [met for met in self._all if met.element.acts(begin, end)]

    def over(self, begin: float, end: float) -> FrameContact | None:
        """Contact over a frame between two shot seconds; None where no collider acts."""
        acting = self.acting(begin, end)
        return FrameContact(self, acting, begin, end) if acting else None

    def distance(self, points: np.ndarray, time: float) -> np.ndarray:
        """Distance (n,), m, of points from the nearest collider at a shot second; infinite if there is none."""
        found = np.full(len(points), np.inf)
        for met in self.acting(time, time):
            found = np.minimum(found, self.placed(met, points, time))
        return found

    def placed(self, met: _Met, points: np.ndarray, time: float) -> np.ndarray:
        """Distance (n,), m, of points from one collider at a shot second."""
        return met.distance.at_time(time).placed_at(points, self.scene.placement(met.element).matrix(time))


class FrameContact:
    """`basin.whitewater.life.Solids` over a frame."""

    def __init__(self, of: ColliderContact, acting: list[_Met], begin: float, end: float) -> None:
        self.of, self.acting, self.begin, self.span = of, acting, begin, end - begin
        self.slower = of.scene.time.time_scale

    def kept_out(
        self, before: np.ndarray, after: np.ndarray, start: float, end: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Those that met a solid, see `Solids`."""
        rows, places, normals, own = [], [], [], []
        place = after.astype(float)
        was = before.astype(float)
        for met in self.acting:
            row, at, normal, speed = self._met(met, was, place, start, end)
            place[row] = at
            rows.append(row)
            places.append(at)
            normals.append(normal)
            own.append(speed)
        row = np.concatenate(rows)
        # what met several is where the last of them left it
        last = len(row) - 1 - np.unique(row[::-1], return_index=True)[1]
        found = (np.concatenate(many)[last] for many in (places, normals, own))
        place, normal, speed = found
        return row[last], place, normal, speed

    def _met(
        self, met: _Met, before: np.ndarray, after: np.ndarray, start: float, end: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """The same of one collider."""
        pose = self.of.scene.placement(met.element)
        began, ended = self.begin + start * self.span, self.begin + end * self.span
        matrix = pose.matrix(ended)
        carry = matrix @ np.linalg.inv(pose.matrix(began))  # how it moved places along
        held = met.distance.at_time(ended)
        close = self._close(held, matrix, before, after)
        if not len(close):
            empty = np.zeros((0, 3))
            return close, empty, empty, empty
        begin = before[close] @ carry[:3, :3].T + carry[:3, 3]  # as if the solid had not moved
        place = after[close]
        off = held.placed_at(place, matrix)
        way = place - begin
        far = np.linalg.norm(way, axis=1)
        off_before = held.placed_at(begin, matrix)
        hit = off < 0
        # may have come through: it can have, if its way is longer than from the solid and back to where it is
        through = (off >= 0) & (off_before > 0) & (off_before + off < far)
        # would be let out on the other side of a thin one
        deep = np.flatnonzero(hit & (off_before > 0))
        through[deep] = (self._normal(held, matrix, place[deep]) * way[deep]).sum(axis=1) > 0
        passed = np.flatnonzero(through)
        if len(passed):
            share, met_it = self._traced(held, matrix, begin[passed], way[passed], far[passed])
            met_there = passed[met_it]
            place[met_there] = begin[met_there] + share[met_it, None] * way[met_there]
            off[met_there] = 0.0
            hit[met_there] = True
        some = np.flatnonzero(hit)
        place, off = place[some], off[some]
        normal = self._normal(held, matrix, place)
        for _ in range(2):
            place = place - (off - CLEAR * self.of.voxel)[:, None] * normal
            off = held.placed_at(place, matrix)
        back = np.linalg.inv(carry)
        seconds = (ended - began) * self.slower
        own = (place - (place @ back[:3, :3].T + back[:3, 3])) / max(seconds, 1e-12)
        if isinstance(met.distance, Deforming):
            inverse = np.linalg.inv(matrix)
            speed = met.distance.velocity_at(place @ inverse[:3, :3].T + inverse[:3, 3], ended)
            own = own + speed @ matrix[:3, :3].T / self.slower
        return close[some], place, normal, own

    @staticmethod
    def _close(held: Distance, matrix: np.ndarray, before: np.ndarray, after: np.ndarray) -> np.ndarray:
        """Rows of those whose ways come into the box about a collider."""
        if not np.isfinite(np.concatenate([held.low, held.high])).all():
            return np.arange(len(after))
        corner = held.corners(matrix)
        low, high = corner.min(axis=0), corner.max(axis=0)
        within = (np.maximum(before, after) >= low).all(axis=1) & (np.minimum(before, after) <= high).all(axis=1)
        return np.flatnonzero(within)

    @staticmethod
    def _traced(
        held: Distance, matrix: np.ndarray, begin: np.ndarray, way: np.ndarray, far: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray]:
        """Share of their ways (n,) at which some meet a solid, and whether they do, by steps as long as it is away."""
        share = np.zeros(len(begin))
        met = np.zeros(len(begin), bool)
        for _ in range(LOOKS):
            off = held.placed_at(begin + share[:, None] * way, matrix)
            met |= (off < 1e-3 * far) & (share < 1)
            step = np.maximum(off, 1e-3 * far) / np.maximum(far, 1e-12)
            share = np.where(met, share, np.minimum(share + step, 1.0))
        return share, met

    def _normal(self, held: Distance, matrix: np.ndarray, place: np.ndarray) -> np.ndarray:
        """Unit vectors out of a solid (n, 3)."""
        h = PROBE * self.of.voxel * np.eye(3)
        slope = [held.placed_at(place + h[d], matrix) - held.placed_at(place - h[d], matrix) for d in range(3)]
        out = np.stack(slope, axis=1)
        return np.asarray(out / np.maximum(np.linalg.norm(out, axis=1, keepdims=True), 1e-12))

    def near(self, points: np.ndarray, reach: float, share: float) -> np.ndarray:
        """How near points are to a solid, see `Solids`."""
        away = self.of.distance(points.astype(float), self.begin + share * self.span)
        return np.clip(1.0 - np.maximum(away, 0.0) / reach, 0.0, 1.0)


def fluids_of(scene: Scene) -> Fluids:
    """The liquid that whitewater is of: of several, the first one's density."""
    made = [source.made_of(scene.liquid.density) for source in scene.of_kind(Source)]
    density = made[0].density if made else scene.liquid.density
    gravity = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    viscosity = max(min((one.viscosity for one in made), default=0.0), Fluids.viscosity)
    tension = max((one.surface_tension for one in made), default=0.0) or Fluids.tension
    return Fluids(density, viscosity, tension, gravity)


def air_of(scene: Scene, begin: float, end: float) -> Air | None:
    """What flies feels of a scene's forces over a frame between two shot seconds; None where there are none."""
    by_whom: dict[tuple[str, str, bool], list[forces.Force]] = {}
    for element in scene.of_kind(Force):
        if element.acts_on != "liquid":
            whom = element.kinds, element.layer, element.but_layer
            by_whom.setdefault(whom, []).extend(forces_of(element, scene))
    if not by_whom:
        return None
    scale, names = scene.time.time_scale, [layer.name for layer in scene.whitewater.layers]

    def air(state: Whitewater, share: float, seconds: float) -> tuple[np.ndarray, np.ndarray]:
        wind, pushed = np.zeros((len(state), 3)), np.zeros((len(state), 3))
        for whom, acting in by_whom.items():
            push = forces.push_at(acting, begin + share * (end - begin), scale, seconds, scene.liquid.density)
            some = np.flatnonzero(named(state.kind, state.layer, names, *whom))
            if push is None or not len(some):
                continue
            felt = forces.on_bodies(state.position[some], state.velocity[some], push)
            wind[some] += felt[0]
            pushed[some] += felt[1]
        return wind, pushed

    return air
