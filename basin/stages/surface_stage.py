"""The surface stage: a liquid frame of the cache, the scene's colliders and shapes that are joined, meshed."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from basin.attributes import passed_on
from basin.cache import StageCache
from basin.clumps import Handed, handed
from basin.geometry.deforming import Deforming
from basin.geometry.distance import Distance, shape_distance
from basin.geometry.pose import scale_of
from basin.geometry.shapes import MeshShape
from basin.readings import Reading
from basin.scene import Collider, Scene, SceneError
from basin.stages import samples
from basin.stages.assembly import distance_of
from basin.stages.costs import surface_cost
from basin.stages.files import SceneFiles
from basin.stages.keys import surface_keys
from basin.stages.stage import Cost, Job, Keys, Look, Made, Stage, register
from basin.stages.view import pack_surface
from basin.surface.field import ALGORITHM, Points, Simulated, SurfaceFailure
from basin.surface.filters import Solids
from basin.surface.health import READINGS, health
from basin.surface.mesh import Joined, Surroundings, surface_frame
from basin.surface.settings import Join, JoinedCache, SurfaceSettings

FAR = 3.0  # domains' lengths: shapes that are joined may not reach farther beyond it


def frame_points(data: Mapping[str, np.ndarray]) -> Points:
    """The particles of a liquid frame."""
    carried = {name: data[name] for name in passed_on(data)}
    return Points(data["position"], data["volume"], float(data["particle_spacing"]), carried)


def handed_of(data: Mapping[str, np.ndarray], radius: float) -> Handed:
    """Drops of a liquid frame up to a radius, m."""
    spacing = float(data["particle_spacing"])
    return handed(data["position"], data["velocity"], data["volume"], data["id"], spacing, radius)


def frame_grid(data: Mapping[str, np.ndarray]) -> Simulated:
    """What the simulation's grid knew of a liquid frame."""
    return Simulated(data["grid_low"], float(data["grid_voxel"]), data["tile"], data["tile_held"], data["tile_phi"])


class SurfaceWorld:
    """What surfaces of a scene are made among at any frame; distances of meshes are sampled once."""

    def __init__(self, scene: Scene, files: SceneFiles, quality: str) -> None:
        self.scene, self.files, self.quality = scene, files, quality
        self.settings = scene.surface
        self.voxel = scene.voxel_size(quality) * self.settings.voxel_share
        self._distances: dict[int, Distance | Deforming] = {}

    def with_surface(self, scene: Scene) -> SurfaceWorld:
        """The same for a scene that differs in its surface alone; what was sampled is kept."""
        other = SurfaceWorld(scene, self.files, self.quality)
        other._distances = self._distances
        return other

    def frame(self, data: Mapping[str, np.ndarray], frame: int) -> tuple[Points, float, SurfaceSettings, Surroundings]:
        """What `surface_frame` takes, of a liquid frame.

        Raises
        ------
        SceneError
            If a joined cache has no such frame.
        """
        points, grids = self._kept(data), [frame_grid(data)]
        for joined in self.settings.caches:
            store = self._other(joined, frame)
            other = store.frame(frame + joined.offset)
            points = points.joined(frame_points(other))
            grids.append(frame_grid(other))
        low = np.array(self.scene.domain.low)
        domain = (low, low + np.array(self.scene.domain.size))
        solids = self._solids(frame)
        joins = [self._joined(join, frame) for join in self.settings.joins]
        around = Surroundings(grids, 1.0 / self.scene.time.fps, domain, solids, joins, self._walls(solids, domain))
        return points, self.voxel, self.settings, around

    def _kept(self, data: Mapping[str, np.ndarray]) -> Points:
        """A frame's particles without what whitewater takes over of them."""
        points, taking = frame_points(data), self.scene.whitewater.taking()
        if taking is None:
            return points
        stays = 1.0 - handed_of(data, taking[1]).share
        return replace(points, volume=points.volume * stays).some(np.flatnonzero(stays > 0))

    def volume(self, liquid: float, frame: int) -> float | None:
        """Volume (m3) that a frame's surface should hold with its own liquid's; None where cuts or shapes change it, or
        drops are taken over."""
        if self.settings.cuts or self.settings.joins or self.scene.whitewater.taking() is not None:
            return None
        others = [(self._other(joined, frame), frame + joined.offset) for joined in self.settings.caches]
        return liquid + sum(store.records()[own].readings["volume"] for store, own in others)

    def _other(self, joined: JoinedCache, frame: int) -> StageCache:
        own = frame + joined.offset
        store = self.files.other_cache(joined.folder)
        if own not in store.records():
            raise SceneError(
                [f"joined cache {joined.folder}: has no frame {own}; run it there first, or change the offset"]
            )
        return store

    def _solids(self, frame: int) -> Solids | None:
        time = self.scene.time.shot_time(frame)
        acting = [
            (index, element)
            for index, element in enumerate(self.scene.elements)
            if isinstance(element, Collider) and element.acts(time, time)
        ]
        if not acting:
            return None

        def nearest(points: np.ndarray) -> np.ndarray:
            away = [self._distance(index, element, time, points) for index, element in acting]
            return np.asarray(np.min(away, axis=0))

        return nearest

    def _walls(self, solids: Solids | None, domain: tuple[np.ndarray, np.ndarray]) -> Solids | None:
        """Colliders, and the walls of the domain that are closed."""
        closed = np.array([[wall == "closed" for wall in pair] for pair in self.scene.domain.walls.pairs()])
        if not closed.any():
            return solids

        def nearest(points: np.ndarray) -> np.ndarray:
            to_low = np.where(closed[:, 0], points - domain[0], np.inf)
            to_high = np.where(closed[:, 1], domain[1] - points, np.inf)
            away = np.minimum(to_low, to_high).min(axis=1)
            return np.asarray(away if solids is None else np.minimum(away, solids(points)))

        return nearest

    def _distance(self, index: int, element: Collider, time: float, points: np.ndarray) -> np.ndarray:
        """Distance (n,) of points from a collider, which is sampled when it is first asked for."""
        if index not in self._distances:
            dx = element.sampling or self.scene.voxel_size(self.quality)
            self._distances[index] = distance_of(element, self.scene, self.files, dx)
        held = self._distances[index].at_time(time)
        return held.placed_at(points, self.scene.placement(element).matrix(time))

    def _joined(self, join: Join, frame: int) -> Joined:
        time = self.scene.time.shot_time(frame)
        matrix = join.pose.matrix(time)
        shape = join.shape
        mesh = self.files.mesh_at(shape, self.scene.time, time) if isinstance(shape, MeshShape) else None
        size = scale_of(matrix)
        held = shape_distance(shape, mesh, self.voxel / size)
        corner = held.corners(matrix)
        low, high = corner.min(axis=0), corner.max(axis=0)
        domain = np.array(self.scene.domain.size)
        middle = np.array(self.scene.domain.low) + domain / 2
        if (np.abs(np.concatenate([low - middle, high - middle])) > FAR * domain.max()).any():
            raise SceneError(["a joined shape lies far outside the domain; move it nearer or make it smaller"])
        return Joined(lambda points: held.placed_at(points, matrix), low, high)


class SurfaceStage(Stage):
    """Triangles about the liquid."""

    name = "surface"
    title = "Surface"
    verb = "Mesh"
    seen = "Surface"
    absent = "This frame is not meshed yet."
    letter = "s"
    kind = "mesh"
    definition = "SurfaceSettings"
    part = "surface"
    judged = True
    gives = ("heights",)
    reads = ("liquid",)
    readings = (*READINGS, Reading("speed_max", "Largest speed", "m/s"), Reading("seconds", "Seconds per frame", "s"))
    failures = (SurfaceFailure,)

    def on_demand(self, scene: Scene | None) -> bool:
        """Where a sea is all that there is."""
        return scene is not None and scene.is_sea_alone()

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """See `basin.stages.keys`."""
        return surface_keys(job.scene, job.files, read["liquid"], ALGORITHM)

    def world(self, job: Job) -> SurfaceWorld:
        """Colliders and what is joined."""
        return SurfaceWorld(job.scene, job.files, job.quality)

    def make(self, job: Job, world: SurfaceWorld, frame: int) -> Made:
        """Mesh a frame of the liquid."""
        source = job.store("liquid")
        data = source.frame(frame)
        surface = surface_frame(*world.frame(data, frame))
        volume = world.volume(source.records()[frame].readings["volume"], frame)
        speed = (surface.attributes["velocity"] ** 2).sum(axis=1)
        fastest = float(speed.max()) ** 0.5 if len(speed) else 0.0
        more = {"rest_share": data["rest_share"]} if "rest_share" in data else {}
        arrays = {"position": surface.position, "triangle": surface.triangle, **surface.attributes, **more}
        return Made(arrays, {**health(surface, world.voxel, volume), "speed_max": fastest})

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """Triangles."""
        return pack_surface(store, frame, look.bodies, look.by, look.time)

    def cost(self, job: Job) -> Cost:
        """By the liquid's size and the fineness of the mesh."""
        return surface_cost(job.scene, job.files, job.quality)

    def warm_up(self) -> list[dict[str, Any]]:
        """The usual surface first, then every method and filter."""
        return samples.surfaces()

    def needs(self, scene: Scene) -> Collection[int]:
        """The usual surface needs the first alone."""
        return [0] if scene.surface == type(scene.surface)() else range(len(samples.surfaces()))


register(SurfaceStage())
