"""What runs consist of: frames of stages, or files of a delivery."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from typing import ClassVar

from basin.cache import Cache, is_held
from basin.stages import warm
from basin.stages.deliver import LOCK, deliver, delivery_named, delivery_states
from basin.stages.run import FrameDone, frames_to_make, run
from basin.stages.stage import Job, Stage, named
from studio.productions.reports import delivery_folder, job_of
from studio.runs.models import Run


class Work(ABC):
    """A part of a run."""

    def __init__(self, row: Run) -> None:
        self.row = row

    @property
    def job(self) -> Job:
        """What it is made from, as the take is now."""
        return job_of(self.row.take, self.row.quality)

    @abstractmethod
    def total(self) -> int:
        """How many frames or files it is."""

    @abstractmethod
    def is_held(self) -> bool:
        """Whether somebody is at it."""

    def groups(self) -> list[warm.Group]:
        """Kernels that it needs."""
        return []

    @abstractmethod
    def go(self, stop: Callable[[], bool]) -> Iterator[FrameDone]:
        """Do what is not done, frame by frame or file by file."""


class Frames(Work):
    """Frames of a stage."""

    def __init__(self, row: Run, stage: Stage) -> None:
        super().__init__(row)
        self.stage = stage

    def total(self) -> int:
        return len(frames_to_make(self.stage, self.job.scene, self.row.first, self.row.last))

    def is_held(self) -> bool:
        return Cache(self.row.take.cache_folder(self.row.quality)).stage(self.stage.name).is_held()

    def groups(self) -> list[warm.Group]:
        return warm.needed(self.job.scene, [self.stage.name])

    def go(self, stop: Callable[[], bool]) -> Iterator[FrameDone]:
        job = self.job
        first, last = self.row.first, self.row.last
        span = (job.scene.time.first if first is None else first, job.scene.time.last if last is None else last)
        stages = (self.stage.name,)
        yield from run(
            job.scene, job.files.folder, job.cache, stages=stages, quality=job.quality, frames=span, stop=stop
        )


class Files(Work):
    """Files of the delivery that the run names."""

    name: ClassVar[str] = "delivery"

    def __init__(self, row: Run) -> None:
        super().__init__(row)
        self.folder = delivery_folder(row.take, row.quality, row.delivery)

    def total(self) -> int:
        job = self.job
        return len(delivery_states(job, delivery_named(job.scene, self.row.delivery), self.folder))

    def is_held(self) -> bool:
        return is_held(self.folder / LOCK)

    def go(self, stop: Callable[[], bool]) -> Iterator[FrameDone]:
        job = self.job
        for one in deliver(job, delivery_named(job.scene, self.row.delivery), self.folder, stop):
            yield FrameDone(self.name, one.frame, {}, one.reused)


def is_at_work(row: Run) -> bool:
    """Whether somebody is at a part of a run; nobody is at a stage that there is no more."""
    try:
        return any(part.is_held() for part in works(row))
    except LookupError:
        return False


def works(row: Run) -> list[Work]:
    """What a run consists of, in order; LookupError for a stage that there is not."""
    return [Files(row)] if row.delivery else [Frames(row, stage) for stage in named(row.stage_names())]
