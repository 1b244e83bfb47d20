"""Where whitewater is born: of the air that the liquid traps, or at an element of the scene."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.distance import Distance
from basin.geometry.mesh import TriangleMesh
from basin.geometry.shapes import MeshShape
from basin.liquid.paint import GREY, seen_through
from basin.randomness import uniform
from basin.scene import Force
from basin.scene.model import Span
from basin.settings import value_at
from basin.stages.air_stage import LIQUID, grid_of
from basin.stages.assembly import distance_of
from basin.stages.contact import ColliderContact, fluids_of
from basin.stages.files import element_mesh, picture_of
from basin.stages.stage import Job
from basin.whitewater.births import Newborn, Wanted, born, readiness, whitewater
from basin.whitewater.fields import Grid
from basin.whitewater.life import OF_IMPACT, REBOUNDS, Whitewater, depth_at, flow_of, upwards
from basin.whitewater.potentials import NAMES, chosen
from basin.whitewater.rain import rain, splashing
from basin.whitewater.settings import FROM, LEAST_TO, Layer

AIR = "air"
PARTS = ("trapped", "crest", "vorticity")
PLACES = 8192  # of an element, among which births of a frame are spread
AT_CROSSING = 1.5  # voxels about the liquid's surface
OFF = 0.3  # voxels off an element's surface
OF_ELEMENT = 4  # as a source, after the potentials and bursts: see `Whitewater.source`
LOOKS = 48  # for solids, on the way of a drop of rain
UNIT_SPEED = 1.0  # m/s through the surface that count as one


class Frames:
    """The liquid's frames, as whitewater reads them; the grids of two are kept at hand."""

    def __init__(self, job: Job) -> None:
        self.job, self.scene = job, job.scene
        self.liquid, self.air = job.store(LIQUID), job.store(AIR)
        self.slower = job.scene.time.time_scale
        self.seconds = self.slower / job.scene.time.fps  # liquid seconds of a frame
        self.fluids = fluids_of(job.scene)
        self.contact = ColliderContact(job.scene, job.files, job.quality)
        self._grids: dict[int, Grid] = {}

    def data(self, frame: int) -> Mapping[str, np.ndarray]:
        """A frame of the liquid."""
        return self.liquid.frame(frame)

    def grid(self, frame: int) -> Grid:
        """Its grid."""
        if frame not in self._grids:
            while len(self._grids) > 1:
                self._grids.pop(min(self._grids))
            self._grids[frame] = grid_of(self.data(frame), self.slower)
        return self._grids[frame]


class Births(ABC):
    """What gives birth to a layer."""

    def __init__(self, frames: Frames, layer: Layer, number: int) -> None:
        self.frames, self.layer, self.number = frames, layer, number

    @abstractmethod
    def ready(self, frame: int) -> float:
        """How ready a frame is: at a rate of so many births a second, so many times that."""

    @abstractmethod
    def born(self, frame: int, rate: float) -> Whitewater:
        """What is born in a frame."""

    def _epoch(self, frame: int) -> int:
        return frame + 100_003 * (self.number + 1) + 1_000_003 * self.layer.seed

    def _made(
        self, found: Newborn, parts: np.ndarray, sources: list[int], frame: int, flies: np.ndarray | None = None
    ) -> Whitewater:
        grid, epoch = self.frames.grid(frame), self._epoch(frame)
        made = whitewater(found, parts, sources, self.layer, epoch, lambda at: depth_at(grid, at), flies)
        return replace(made, layer=np.full(len(made), self.number, np.uint8))

    def _limited(self, frame: int, data: Mapping[str, np.ndarray]) -> np.ndarray:
        """How much (n,) the layer's limits leave, at places with what is known there."""
        left = np.ones(len(data["position"]))
        for limit in self.layer.limits:
            low, high = sorted((limit.none, limit.full))
            share = chosen(self._by(limit.by, frame, data), low, high)
            left *= share if limit.none < limit.full else 1.0 - share
        return left

    def _by(self, by: str, frame: int, data: Mapping[str, np.ndarray]) -> np.ndarray:
        """What a limit goes by."""
        time, position = self.frames.scene.time.shot_time(frame), np.asarray(data["position"], float)
        if by in ("x", "height", "z"):
            return position[:, ("x", "height", "z").index(by)]
        if by == "speed":
            return np.linalg.norm(data["velocity"], axis=1)
        if by == "collider":
            return self.frames.contact.distance(position, time)
        if by == "depth":
            return depth_at(self.frames.grid(frame), position) * self.frames.grid(frame).voxel
        if by == "age":
            return np.asarray(time - data["born"], float) if "born" in data else np.zeros(len(position))
        return np.asarray(data["mark"], float) if "mark" in data else np.zeros(len(position))


class OfAir(Births):
    """Births of particles of the liquid that trap air."""

    def __init__(self, frames: Frames, layer: Layer, number: int) -> None:
        super().__init__(frames, layer, number)
        keys, found = frames.job.keys[AIR], {}
        records = {f: record for f, record in frames.air.records().items() if record.key == keys.get(f)}
        for name in NAMES:
            low, high = getattr(layer, f"{name}_from"), getattr(layer, f"{name}_to")
            if high is None:  # from the shot's own values
                most = max((r.readings.get(f"{name}_high", 0.0) for r in records.values()), default=0.0)
                high = max(most, (low or 0.0) * 2, LEAST_TO[name])
            found[name] = Wanted(FROM[name] * high if low is None else low, high, getattr(layer, f"{name}_share", 1.0))
        self.wanted = {name: found[name] for name in PARTS if found[name].share > 0}
        self.energy = found["energy"]

    def _parts(self, frame: int, data: Mapping[str, np.ndarray]) -> np.ndarray:
        """Readiness (parts, n) of a frame's particles."""
        air = self.frames.air.frame(frame)
        ready = readiness({name: air[name] for name in NAMES}, self.wanted, self.energy)
        return ready * self._limited(frame, data) if self.layer.limits else ready

    def ready(self, frame: int) -> float:
        """Of all particles."""
        return float(self._parts(frame, self.frames.data(frame)).sum())

    def born(self, frame: int, rate: float) -> Whitewater:
        """About the ways of particles that are ready."""
        data, seconds = self.frames.data(frame), self.frames.seconds
        parts = self._parts(frame, data)
        expected = rate * seconds * parts.sum(axis=0)
        some = np.flatnonzero(expected)
        velocity = data["velocity"][some] / np.float32(self.frames.slower)
        radius = np.full(len(some), float(data["particle_spacing"]))
        found = born(
            expected[some], data["position"][some], velocity, radius, data["id"][some], self._epoch(frame), seconds
        )
        return self._made(found, parts[:, some], [NAMES.index(name) for name in self.wanted], frame)


class Taken(Births):
    """None: drops of the liquid are taken over as they are, frame by frame."""

    def ready(self, frame: int) -> float:
        """Never."""
        return 0.0

    def born(self, frame: int, rate: float) -> Whitewater:
        """Nothing."""
        return Whitewater()


class OfRain(Births):
    """Births where drops of rain fall onto the liquid and splash."""

    def _impacts(self, frame: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (n, 3) where drops splash, their speeds (n,), m/s, and how many there are of each in a second."""
        scene, grid = self.frames.scene, self.frames.grid(frame)
        low, size = np.array(scene.domain.low), np.array(scene.domain.size)
        chance = uniform(np.arange(PLACES), self._epoch(frame), 4).astype(float)
        falling = rain(self.layer.rain, self.frames.fluids)
        drop, speed = falling.drops(chance[:, 2])
        place = low + chance[:, [0, 3, 1]] * size
        place[:, 1] = low[1] + size[1]
        height, open_sky = self._below(frame, place)
        hits = open_sky & splashing(speed, drop, self.frames.fluids)
        each = falling.flux * size[0] * size[2] / PLACES
        place[:, 1] = height
        place, speed = place[hits], speed[hits]
        seen = {"position": place, "velocity": flow_of(grid, place) * self.frames.slower}
        return place, speed, each * self._limited(frame, seen)

    def _below(self, frame: int, above: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Heights (n,) at which what falls from places meets the liquid, and whether it meets it, and nothing else
        before."""
        grid, time = self.frames.grid(frame), self.frames.scene.time.shot_time(frame)
        step, at = 0.5 * grid.voxel, above.copy()
        met, left = np.zeros(len(at), bool), np.arange(len(at))
        for _ in range(int(np.ceil(self.frames.scene.domain.size[1] / step))):
            deep = depth_at(grid, at[left])
            wet = left[deep > 0]
            at[wet, 1] += deep[deep > 0] * grid.voxel
            met[wet] = True
            left = left[deep <= 0]
            if not len(left):
                break
            at[left, 1] -= step
        free = met.copy()
        down, share = above.copy(), np.flatnonzero(met)
        for _ in range(LOOKS):  # as far each time as any solid is away
            away = self.frames.contact.distance(down[share], time)
            free[share[away <= 0]] = False
            down[share, 1] -= np.maximum(away, 0.25 * grid.voxel)
            share = share[(away > 0) & (down[share, 1] > at[share, 1])]
            if not len(share):
                break
        return at[:, 1], free

    def ready(self, frame: int) -> float:
        """Of all drops that splash: of a second."""
        return float(self._impacts(frame)[2].sum())

    def born(self, frame: int, rate: float) -> Whitewater:
        """Drops that impacts throw, and foam that they leave."""
        place, speed, ready = self._impacts(frame)
        seconds, identity = self.frames.seconds, np.arange(len(place)) + PLACES * frame
        spread = np.full(len(place), 0.25 * self.frames.grid(frame).voxel)
        expected = rate * seconds * ready
        found = born(expected, place, np.zeros_like(place), spread, identity, self._epoch(frame), seconds)
        chance = uniform(found.identity, self._epoch(frame), 9).astype(float)
        flies = chance[:, 5] >= self.layer.under
        fast = flies * REBOUNDS * speed[found.parent] * (0.3 + 0.7 * chance[:, 6])
        pull = value_at(self.frames.scene.liquid.gravity, self.frames.scene.time.shot_time(frame))
        way = upwards(np.asarray(pull), chance[:, 7:] - 0.5)
        found = replace(found, velocity=flow_of(self.frames.grid(frame), found.position) + fast[:, None] * way)
        return self._made(found, np.ones((1, len(place))), [OF_IMPACT], frame, flies)


class OfElement(Births):
    """Births in an element, on its surface, or where that goes through the liquid's."""

    def __init__(self, frames: Frames, layer: Layer, number: int) -> None:
        super().__init__(frames, layer, number)
        (self.element,) = (e for e in frames.scene.elements if e.name == layer.element and not isinstance(e, Force))
        self._distance: Distance | Deforming | None = None

    def _places(self, frame: int) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Places (n, 3), their velocities (n, 3), m per liquid second, and how ready each is (n,), adding up to 1 where
        all are."""
        scene, time = self.frames.scene, self.frames.scene.time.shot_time(frame)
        none = np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0)
        if isinstance(self.element, Span) and not self.element.acts(time, time):
            return none
        pose = scene.placement(self.element)
        chance = uniform(np.arange(PLACES), self._epoch(frame), 4).astype(float)
        mesh = self._mesh(time).transformed(pose.matrix(time))
        if self.layer.where == "inside":
            place = self._inside(mesh, chance, time)
        else:
            place = on_surface(mesh, chance, OFF * self.frames.grid(frame).voxel)
        motion = pose.motion(time)
        own = (place @ motion[:3, :3].T + motion[:3, 3]) / self.frames.slower
        ready = np.full(len(place), 1.0 / max(len(place), 1))
        flow = flow_of(self.frames.grid(frame), place)
        if self.layer.where == "crossing":
            near = np.abs(depth_at(self.frames.grid(frame), place)) < AT_CROSSING
            ready *= near * np.linalg.norm(own - flow, axis=1) / UNIT_SPEED
        if self.layer.picture:
            ready *= self._bright(place, time)
        velocity = flow if self.layer.where == "inside" else own
        seen = {"position": place, "velocity": velocity * self.frames.slower}
        return place, velocity, ready * self._limited(frame, seen)

    def _bright(self, place: np.ndarray, time: float) -> np.ndarray:
        """How bright (n,) the layer's image is at places."""
        scene, layer = self.frames.scene, self.layer
        image = self.frames.job.files.pictures(picture_of(layer)).at_frame(scene.time.first + time * scene.time.fps)
        inverse = np.linalg.inv(scene.placement(self.element).matrix(time))
        own = place @ inverse[:3, :3].T + inverse[:3, 3]
        return np.clip(seen_through(image, own, layer.picture_along, layer.picture_width) @ GREY, 0.0, 1.0)

    def _mesh(self, time: float) -> TriangleMesh:
        shape = getattr(self.element, "shape", None)
        files = self.frames.job.files
        if isinstance(shape, MeshShape):
            return files.mesh_at(shape, self.frames.scene.time, time)
        mesh = element_mesh(self.element, files)
        assert mesh is not None
        return mesh

    def _inside(self, mesh: TriangleMesh, chance: np.ndarray, time: float) -> np.ndarray:
        """Places even over what it holds."""
        if self._distance is None:
            dx = self.frames.scene.voxel_size(self.frames.job.quality)
            self._distance = distance_of(self.element, self.frames.scene, self.frames.job.files, dx)
        low, high = mesh.bounds()
        place = low + chance[:, :3] * (high - low)
        matrix = self.frames.scene.placement(self.element).matrix(time)
        return place[self._distance.at_time(time).placed_at(place, matrix) < 0]

    def ready(self, frame: int) -> float:
        """Of all places: 1 where all of the element gives birth."""
        return float(self._places(frame)[2].sum())

    def born(self, frame: int, rate: float) -> Whitewater:
        """At places by chance, as ready as they are."""
        place, velocity, ready = self._places(frame)
        seconds, identity = self.frames.seconds, np.arange(len(place)) + PLACES * frame
        expected = rate * seconds * ready
        spread = np.full(len(place), 0.25 * self.frames.grid(frame).voxel)
        found = born(expected, place, velocity, spread, identity, self._epoch(frame), seconds)
        return self._made(found, np.ones((1, len(place))), [OF_ELEMENT], frame)


def on_surface(mesh: TriangleMesh, chance: np.ndarray, off: float) -> np.ndarray:
    """Places (n, 3) even over a mesh's surface and a way (m) off it, from chance (n, 3 or more)."""
    corner = mesh.position[mesh.triangle]
    across = np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0])
    area = np.linalg.norm(across, axis=1)
    which = np.searchsorted(np.cumsum(area), chance[:, 0] * area.sum()).clip(0, len(area) - 1)
    a, b = chance[:, 1:2], chance[:, 2:3]
    folded = a + b > 1
    a, b = np.where(folded, 1 - a, a), np.where(folded, 1 - b, b)
    one, two, three = (corner[which, n] for n in range(3))
    normal = across[which] / np.maximum(area[which], 1e-30)[:, None]
    return np.asarray(one + a * (two - one) + b * (three - one) + off * normal)


def births_of(frames: Frames, layer: Layer, number: int) -> Births:
    """What gives birth to a layer."""
    if layer.born_of == "drops":
        return Taken(frames, layer, number)
    if layer.born_of == "rain":
        return OfRain(frames, layer, number)
    return OfElement(frames, layer, number) if layer.born_of == "element" else OfAir(frames, layer, number)
