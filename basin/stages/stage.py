"""What a stage is: all that the run loop, keys, forecast, command line, API and page know of it.

A stage is declared once, by a `Stage` that is given to `register`. Nothing else asks for one by its name, but the
stages that read its frames.
"""

from __future__ import annotations

import importlib
import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

import numpy as np

from basin.cache import Cache, StageCache
from basin.readings import Reading
from basin.scene import Advice, Scene
from basin.stages.bodies import Bodies
from basin.stages.files import SceneFiles

OWN = (
    "basin.stages.liquid_stage",
    "basin.stages.air_stage",
    "basin.stages.surface_stage",
    "basin.stages.whitewater_stage",
    "basin.stages.mist_stage",
    "basin.stages.sea_stage",
    "basin.stages.wake_stage",
)
OTHERS = "ZINC_STAGES"  # modules that register stages of their own, in the environment, with commas between
Keys = dict[int, str]


@dataclass(frozen=True)
class Made:
    """A frame that was computed: its arrays, and what was measured on it."""

    arrays: dict[str, np.ndarray]
    readings: dict[str, float]


@dataclass(frozen=True)
class Job:
    """What frames are made from: a scene, its files, and the cache of a take at a quality.

    Attributes
    ----------
    kept_keys : what knows its keys, if they have been reckoned before
    """

    scene: Scene
    files: SceneFiles
    cache: Cache
    quality: str
    kept_keys: Callable[[Job], dict[str, Keys]] | None = None

    @cached_property
    def keys(self) -> dict[str, Keys]:
        """Keys of every frame of every stage."""
        return self.kept_keys(self) if self.kept_keys else reckoned_keys(self)

    def store(self, stage: str) -> StageCache:
        """Frames of a stage."""
        return self.cache.stage(stage)


@dataclass(frozen=True)
class Look:
    """How a frame is looked at: coloured by an attribute, with so many points at most, at its shot second.

    `bodies` is what the scene's liquids look like where they are coloured by nothing; `made` are the stages that the
    scene makes, whose frames may be seen together.
    """

    by: str
    budget: int
    time: float
    bodies: Bodies
    made: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Cost:
    """What a stage's frames will take: bytes, and seconds of this kind of machine."""

    memory: int
    disk: int
    seconds: float = 0.0


@dataclass(frozen=True)
class Dial:
    """What a stage's size follows from if not the liquid's voxel: in words, what helps, a path of the scene."""

    what: str
    remedy: str
    where: str


class Walk(ABC):
    """A sequential stage on its way from frame to frame."""

    @abstractmethod
    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Make a frame from the one before it; None if asked to stop on the way."""

    @abstractmethod
    def state(self) -> dict[str, np.ndarray]:
        """What it can go on from later."""


class Stage(ABC):
    """A stage, declared.

    Attributes
    ----------
    name : in caches, addresses and commands
    title : for people
    verb : on the button that makes its frames
    seen : what is looked at in its frames
    absent : what is said of a frame that is not there
    letter : key that shows it
    kind : of what is seen, "points", "mesh" or "sea"
    colouring : attribute that it is coloured by at first
    definition, part : of its settings in the schema of scenes, and the part of a scene where they are
    asked_by : setting of its part that says whether it is wanted at all, if there is one
    judged : whether one frame can be made again and again while settings change
    over : stage whose frames are seen beneath its points
    gives : what leaves with deliveries beside its frames themselves
    reads : stages whose frames it is made from
    sequential : whether a frame is made from the one before it; else each stands alone
    readings : what is measured on its frames
    failures : what is raised where a frame cannot be made, which ends a run with its message
    """

    name: ClassVar[str]
    title: ClassVar[str]
    verb: ClassVar[str] = "Run"
    seen: ClassVar[str] = ""
    absent: ClassVar[str] = "This frame is not there yet."
    letter: ClassVar[str] = ""
    kind: ClassVar[str] = "points"
    colouring: ClassVar[str] = ""
    definition: ClassVar[str] = ""
    part: ClassVar[str] = ""
    asked_by: ClassVar[str] = ""
    judged: ClassVar[bool] = False
    over: ClassVar[str] = ""
    gives: ClassVar[tuple[str, ...]] = ()
    reads: ClassVar[tuple[str, ...]] = ()
    sequential: ClassVar[bool] = False
    readings: ClassVar[tuple[Reading, ...]] = ()
    failures: ClassVar[tuple[type[Exception], ...]] = ()

    @abstractmethod
    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Keys of all frames of the shot, from those of the stages that it reads."""

    @abstractmethod
    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """A frame packed for the viewport (`basin.stages.view`); DamagedFrame if it is not whole."""

    @abstractmethod
    def cost(self, job: Job) -> Cost:
        """What making its frames will take."""

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> Walk:
        """Begin at a state, or at the shot's beginning, if it is sequential."""
        raise NotImplementedError

    def world(self, job: Job) -> Any:
        """What its frames are made among, if they stand alone."""
        raise NotImplementedError

    def make(self, job: Job, world: Any, frame: int) -> Made:
        """Make a frame that stands alone."""
        raise NotImplementedError

    def on_demand(self, scene: Scene | None) -> bool:
        """Whether its frames of a scene are made only if it is asked for by its name; of none, of any scene."""
        return False

    def dial(self, job: Job) -> Dial | None:
        """What its size follows from; None is the liquid's voxel."""
        return None

    def concerns(self, scene: Scene) -> bool:
        """Whether a scene has anything to do with it; where not, it is out of sight unless it has frames."""
        return not scene.is_sea_alone()

    def noticed(self, job: Job) -> list[Advice]:
        """What its current frames show that the scene alone does not."""
        return []

    def warm_up(self) -> list[dict[str, Any]]:
        """Small scenes whose runs need all of its kernels, what is needed most first."""
        return []

    def needs(self, scene: Scene) -> Collection[int]:
        """Numbers of those scenes whose kernels a run of a scene needs."""
        return range(len(self.warm_up()))


_declared: dict[str, Stage] = {}


def register(stage: Stage) -> Stage:
    """Declare a stage."""
    _declared[stage.name] = stage
    return stage


def stages() -> dict[str, Stage]:
    """All stages by name, each after those that it reads; LookupError if it reads one that there is not."""
    modules = [*OWN, *filter(None, os.environ.get(OTHERS, "").split(","))]
    for module in modules:
        importlib.import_module(module)
    found: dict[str, Stage] = {}
    place = {module: n for n, module in enumerate(modules)}
    left = sorted(_declared.values(), key=lambda stage: place.get(type(stage).__module__, len(place)))
    while left:
        ready = [stage for stage in left if all(name in found for name in stage.reads)]
        if not ready:
            raise LookupError(f"stage {left[0].name} reads {', '.join(left[0].reads)}; not all of them are stages")
        found[ready[0].name] = ready[0]
        left.remove(ready[0])
    return found


def named(names: Any) -> list[Stage]:
    """Stages of some names, in their order; LookupError with a sentence for one that there is not."""
    there = stages()
    for name in names:
        if name not in there:
            raise LookupError(f"{name!r} is no stage; there are {listed(there)}")
    return [stage for stage in there.values() if stage.name in names]


def with_read(name: str) -> list[str]:
    """A stage and all those that it is made from, in their order."""
    there = stages()
    wanted, left = set(), [name]
    while left:
        one = left.pop()
        wanted.add(one)
        left += [other for other in there[one].reads if other not in wanted]
    return [one for one in there if one in wanted]


def usual(scene: Scene | None = None) -> list[Stage]:
    """Those that a run of a scene makes if it is not told which; without one, those that a run of any scene makes."""
    return [stage for stage in stages().values() if not stage.on_demand(scene)]


def listed(words: Any) -> str:
    """Words with commas between, and an "and"."""
    *most, last = list(words)
    return f"{', '.join(most)} and {last}" if most else str(last)


def all_keys(job: Job) -> dict[str, Keys]:
    """Keys of every frame of every stage, of a job reckoned once; UnusableFile if a file cannot be read."""
    return job.keys


def reckoned_keys(job: Job) -> dict[str, Keys]:
    """The same anew."""
    found: dict[str, Keys] = {}
    for stage in stages().values():
        found[stage.name] = stage.keys(job, {name: found[name] for name in stage.reads})
    return found
