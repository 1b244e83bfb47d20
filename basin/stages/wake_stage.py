"""The wakes' stage: waves that colliders make on a scene's sea, and their foam, from frame to frame."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from basin.cache import StageCache
from basin.geometry.mesh import TriangleMesh
from basin.geometry.shapes import GroundPlane, MeshShape
from basin.readings import Reading
from basin.scene import Collider, Scene
from basin.sea.dispersion import Water
from basin.sea.field import SHIFTS, SLOPES, STRETCHES, VELOCITIES, Sea
from basin.sea.foam import COVERED, SOFT, Foam, on_points
from basin.sea.folding import jacobian
from basin.sea.hulls import draught
from basin.sea.settings import points_of
from basin.sea.wake import WaveField, inside, reach_of
from basin.stages import samples
from basin.stages.assembly import distance_of
from basin.stages.costs import wake_cost, wake_points
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.keys import digest, mesh_key
from basin.stages.sea_stage import SEA, WAKE, law_of, pull_of, sea_of
from basin.stages.stage import Cost, Dial, Job, Keys, Look, Made, Stage, Walk, register
from basin.stages.view import pack_sea

ALGORITHM = "wake-1"
MOST_STEPS = 8  # of a frame
MOST_LOOKED = 64  # points along a patch by which drift is reckoned
MOMENT = 1e-3  # shot seconds over which a speed is looked at


def makes_waves(scene: Scene, element: Collider) -> bool:
    """Whether a collider makes waves on the sea."""
    moves = scene.placement(element).moves() or (isinstance(element.shape, MeshShape) and element.shape.is_sequence())
    made = element.at_sea == "makes waves" or (element.at_sea == "by itself" and moves)
    return made and not isinstance(element.shape, GroundPlane)


def sends_back(scene: Scene, element: Collider) -> bool:
    """Whether a collider sends waves of wakes back."""
    return element.at_sea == "sends waves back" or (element.at_sea == "by itself" and not makes_waves(scene, element))


@dataclass(frozen=True)
class Hull:
    """A collider that makes waves."""

    scene: Scene
    files: SceneFiles
    element: Collider

    def mesh(self, time: float) -> TriangleMesh:
        """Its mesh in the scene at a shot time; before the shot it comes along as it goes at first."""
        shape = self.element.shape
        if isinstance(shape, MeshShape):
            own = self.files.mesh_at(shape, self.scene.time, max(time, 0.0))
        else:
            found_own = element_mesh(self.element, self.files)
            assert found_own is not None
            own = found_own
        pose = self.scene.placement(self.element)
        found = own.transformed(pose.matrix(max(time, 0.0)))
        if time >= 0:
            return found
        motion = pose.motion(0.0)
        middle = pose.matrix(0.0)[:3, 3]
        return TriangleMesh(found.position + time * (motion[:3, :3] @ middle + motion[:3, 3]), found.triangle)

    def at(self, time: float) -> tuple[np.ndarray, np.ndarray]:
        """Its middle (2,), m, and velocity (2,), m per shot second."""
        now, soon = (self.mesh(t).bounds() for t in (time, time + MOMENT))
        middle, after = (np.mean(b, axis=0)[[0, 2]] for b in (now, soon))
        return middle, (after - middle) / MOMENT


def hulls_of(scene: Scene, files: SceneFiles) -> list[Hull]:
    """What makes waves."""
    return [Hull(scene, files, one) for one in scene.of_kind(Collider) if makes_waves(scene, one)]


def still_water(scene: Scene) -> Water:
    """On which wakes go."""
    return Water(pull_of(scene), scene.sea.depth)


def field_of(scene: Scene, quality: str) -> WaveField:
    """The window of wakes at a quality, without any waves."""
    wake = scene.wake
    count = points_of(wake, scene.quality.factor(quality))
    return WaveField(wake.size / count, count, still_water(scene), wake.fades, wake.eddies)


class WakeWalk(Walk):
    """Wakes on their way through a shot, from some frames before its first."""

    def __init__(self, job: Job, state: Mapping[str, np.ndarray] | None) -> None:
        self.job, self.scene, self.wake = job, job.scene, job.scene.wake
        self.field = field_of(job.scene, job.quality)
        self.foam = Foam(self.field.size, self.field.count)
        self.deep = np.zeros_like(self.field.height)
        self.hulls = hulls_of(job.scene, job.files)
        self.shores = [one for one in self.scene.of_kind(Collider) if sends_back(self.scene, one)]
        if state is not None:
            for name in ("height", "potential", "draught", "origin"):
                setattr(self.field, name, np.array(state[name]))
            self.deep = np.array(state["deep"])
            self.foam.fresh, self.foam.lace = np.array(state["fresh"]), np.array(state["lace"])
            self.foam.drifted = np.array(state["drifted"])
            self._meet_shores()

    @cached_property
    def _distances(self) -> list[Any]:
        spacing = 0.5 * self.field.cell
        return [distance_of(one, self.scene, self.job.files, spacing) for one in self.shores]

    @cached_property
    def _sea(self) -> Sea:
        """By which foam drifts."""
        return sea_of(self.scene, self.job.quality, MOST_LOOKED)

    def _meet_shores(self) -> None:
        """Where shores stand in the window."""
        if not self.shores:
            return
        flat = self.field.points()
        place = np.stack([flat[:, 0], np.full(len(flat), self.scene.sea.level), flat[:, 1]], axis=1)
        solid = np.zeros(len(place), bool)
        for one, distance in zip(self.shores, self._distances, strict=True):
            solid |= distance.at_time(0.0).placed_at(place, self.scene.placement(one).matrix(0.0)) < 0
        self.field.set_shores(solid.reshape(self.field.count, self.field.count))

    def _follow(self, time: float) -> None:
        """Have the window about what makes waves, or where it stays."""
        wake = self.wake
        place = np.array([wake.place[0], wake.place[2]])
        if not wake.stays and self.hulls:
            seen = [hull.at(time) for hull in self.hulls]
            wet = [hull.mesh(time).bounds()[0][1] < self.scene.sea.level for hull in self.hulls]
            seen = [one for one, in_water in zip(seen, wet, strict=True) if in_water] or seen
            place = np.mean([one[0] for one in seen], axis=0)
            way = np.mean([one[1] for one in seen], axis=0)
            speed = float(np.linalg.norm(way))
            if speed > 0:
                place = place - way / speed * wake.behind * self.field.size * min(speed / self._full_speed, 1.0)
        if self.field.follow(place):
            self._meet_shores()

    @cached_property
    def _full_speed(self) -> float:
        """The fastest that any hull goes, m per shot second."""
        time = self.scene.time
        shot = np.linspace(0.0, time.shot_time(time.last), 24)
        return max((float(np.linalg.norm(h.at(t)[1])) for h in self.hulls for t in shot), default=1.0) or 1.0

    def _step(self, frame: int) -> None:
        """From the frame before to this one."""
        time, field = self.scene.time, self.field
        end = time.shot_time(frame)
        start = end - 1.0 / time.fps
        self._follow(end)
        gone = max((self._gone(hull, start, end) for hull in self.hulls), default=0.0)
        steps = int(np.clip(np.ceil(gone / field.cell), 1, MOST_STEPS))
        seconds = time.time_scale / time.fps / steps
        churned = np.zeros_like(field.height)
        for n in range(steps):
            acting, deep = self._pressed(start + (n + 1) * (end - start) / steps, seconds)
            churned = np.maximum(churned, np.abs(deep - self.deep) / seconds)
            self.deep = deep
            field.step(seconds, acting)
        if self.wake.foam:
            self._make_foam(frame, churned, seconds * steps)

    def _gone(self, hull: Hull, start: float, end: float) -> float:
        ways = hull.mesh(end).position - hull.mesh(start).position
        return float(np.linalg.norm(ways[:, [0, 2]], axis=1).max(initial=0.0))

    def _pressed(self, time: float, seconds: float) -> tuple[np.ndarray, np.ndarray]:
        """Draught (n, n) of what is in the water: how much of it makes waves, and all.

        Water that comes to rest before a body rises by V^2 / 2g (Bernoulli 1738), whatever its draught; linear theory
        knows no such bound, so no more than that much of it acts.
        """
        acting, deep = [], []
        for hull in self.hulls:
            if not hull.element.acts(max(time, 0.0), max(time, 0.0)):
                continue
            mesh = hull.mesh(time)
            own, begin = draught(mesh.position, mesh.triangle, self.scene.sea.level, self.wake.reach, self.field.cell)
            if own.size == 0:
                continue
            ways = mesh.position - hull.mesh(time - seconds / self.scene.time.time_scale).position
            speed = float(np.linalg.norm(ways, axis=1).max(initial=0.0)) / seconds
            most = speed**2 / (2 * self.field.water.gravity)
            share = np.float32(min(most / max(float(own.max()), 1e-6), 1.0) * self.wake.strength)
            acting.append((own * share, begin))
            deep.append((own, begin))
        return self.field.press(acting), self.field.press(deep)

    def _make_foam(self, frame: int, churned: np.ndarray, seconds: float) -> None:
        """Foam at bow and stern, and where waves break."""
        wake, foam = self.wake, self.foam
        squeeze = jacobian(self.field.fields()[STRETCHES], wake.choppiness)
        born = np.clip((churned - wake.churn) / wake.churn, 0.0, 1.0)
        born = np.maximum(born, np.clip((wake.breaks - squeeze) / SOFT, 0.0, 1.0)).astype(np.float32)
        law = law_of(self.scene, self._sea, max(frame, self.scene.time.first))
        foam.step(-SOFT * born, 0.0, law, seconds)
        kept = on_points(self._inside(), foam.drifted / self.field.cell)
        foam.fresh *= kept
        foam.lace *= kept

    def _inside(self) -> np.ndarray:
        """1 (n, n) inside of the window, softly 0 at its edges."""
        n = self.field.count
        sides = [inside((np.arange(n) - begin) % n, n) for begin in self.field.origin]
        return np.asarray(np.outer(*sides), np.float32)

    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Go on to a frame; None if asked to stop before it."""
        time = self.scene.time
        if frame == time.first:
            begin = time.shot_time(frame - self.wake.run_up - 1)
            self._follow(begin)
            self._meet_shores()  # a window that lies where it lay has not gone on
            acting, self.deep = self._pressed(begin, time.time_scale / time.fps)
            self.field.rest(acting)
            for before in range(time.first - self.wake.run_up, time.first):
                if stop():
                    return None
                self._step(before)
        if stop():
            return None
        self._step(frame)
        return self._made(frame)

    def _made(self, frame: int) -> Made:
        field = self.field
        lying = self.foam.on_patch() if self.wake.foam else np.zeros_like(field.height)
        at = self.scene.time.shot_time(frame)
        seen = [hull.at(at) for hull in self.hulls]
        fields, chop = field.fields(), np.float32(self.wake.choppiness)
        fields[0] -= self.deep - field.draught  # what of a hull makes no waves lies in its dent all the same
        sideways = np.array([1.0, chop, chop], np.float32)[:, None, None]
        slower = np.array([chop, 1.0, chop], np.float32)[:, None, None] * np.float32(self.scene.time.time_scale)
        arrays = {
            "shift": fields[SHIFTS] * sideways,
            "slope": fields[SLOPES].astype(np.float16),
            "stretch": (fields[STRETCHES] * chop).astype(np.float16),
            "velocity": (fields[VELOCITIES] * slower).astype(np.float16),
            "foam": lying.astype(np.float16),
            "origin": field.origin,
            "cell": np.array(field.cell),
            "bodies": np.array([[*place, *way] for place, way in seen]).reshape(-1, 4),
        }
        free = self.deep < 1e-3
        speed = max((float(np.linalg.norm(way)) for _, way in seen), default=0.0) / self.scene.time.time_scale
        told = reach_of(speed, field.water, self.wake.fades, np.inf)
        displaced = float(self.deep.sum()) * field.cell**2
        readings = {
            "crest": float(field.height[free].max(initial=0.0)),
            "trough": float(field.height[free].min(initial=0.0)),
            "displaced": displaced,
            "speed": speed,
            "wavelength": told.wavelength,
            "angle": told.angle,
            "length": told.length,
            "covered": float((lying > COVERED).sum()) * field.cell**2,
        }
        return Made(arrays, readings)

    def state(self) -> dict[str, np.ndarray]:
        """The restart state."""
        field, foam = self.field, self.foam
        own = {name: getattr(field, name) for name in ("height", "potential", "draught", "origin")}
        return {**own, "deep": self.deep, "fresh": foam.fresh, "lace": foam.lace, "drifted": foam.drifted}


class WakeStage(Stage):
    """Wakes."""

    name = WAKE
    title = "Wakes"
    verb = "Make the wakes"
    seen = "Sea with wakes"
    absent = "This frame has no wakes yet."
    kind = "sea"
    definition = "WakeSettings"
    part = "wake"
    asked_by = "made"
    reads = (SEA,)
    sequential = True
    readings = (
        Reading("crest", "Highest crest", "m"),
        Reading("trough", "Deepest trough", "m"),
        Reading("displaced", "Water displaced", "m3"),
        Reading("speed", "Speed of the fastest", "m/s"),
        Reading("wavelength", "Waves that follow it", "m"),
        Reading("angle", "Arms at", "deg"),
        Reading("length", "Fades to a tenth behind", "m"),
        Reading("covered", "Covered by foam", "m2"),
        Reading("seconds", "Seconds per frame", "s"),
    )

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where a scene makes them."""
        return scene is None or not (scene.sea.made and scene.wake.made)

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of the water, of what moves up to each frame, and of how foam lives; waves of the wind do not matter."""
        scene, time = job.scene, job.scene.time
        still = [
            ALGORITHM,
            scene.wake.model_dump(exclude_defaults=True),
            scene.sea_foam.model_dump(exclude_defaults=True, exclude={"pattern", "run_up"}),
            scene.sea.model_dump(exclude_defaults=True, exclude={"unlike", "seed", "hero", "loop"}),
            [np.asarray(value).tolist() for value in (pull_of(scene), scene.quality.factor(job.quality))],
            [time.time_scale, time.fps],
        ]
        met = [e for e in scene.of_kind(Collider) if makes_waves(scene, e) or sends_back(scene, e)]
        before = digest([still, [[one.at_sea, one.side, one.thickness] for one in met]])
        keys = {}
        for frame in read[SEA]:
            end = time.shot_time(frame)
            start = end - 1.0 / time.fps if frame > time.first else -MOMENT
            moved = []
            for one in met:
                shape: Any = one.shape.model_dump()
                if isinstance(one.shape, MeshShape):
                    shape = mesh_key(one.shape, scene, job.files, max(start, 0.0), end)
                moved.append([shape, scene.placement(one).over(start, end), one.acts(start, end)])
            before = digest([before, moved])
            keys[frame] = before
        return keys

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> WakeWalk:
        """From a restart state, or from the run-up's beginning."""
        return WakeWalk(job, state)

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """The sea with its wakes."""
        return pack_sea(store.beside(SEA).frame(frame), None, look.by, store.frame(frame))

    def cost(self, job: Job) -> Cost:
        """By the points of its window."""
        return wake_cost(job.scene, job.quality)

    def concerns(self, scene: Scene) -> bool:
        """Where there is a sea."""
        return scene.sea.made

    def dial(self, job: Job) -> Dial:
        """The points of its window."""
        count = round(wake_points(job.scene, job.quality) ** 0.5)
        return Dial(f"a window of {count} by {count} points", "Use fewer points", "wake.resolution")

    def warm_up(self) -> list[dict[str, Any]]:
        """A small one."""
        return samples.wakes()


register(WakeStage())
