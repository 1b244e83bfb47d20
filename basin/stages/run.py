"""The one run loop: yields each frame once it is safely on disk.

The command line, the worker and the tests all drive this generator.
"""

from __future__ import annotations

import errno
import shutil
import time as clock
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numba

from basin import keep_memory
from basin.cache import Cache, DamagedFrame, StageCache
from basin.cache.store import FrameRecord
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.beside import ProcessEnded, several
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.stage import Job, Keys, Made, Stage, Walk, all_keys, named, usual

LEFT_FREE = 200_000_000  # bytes of the disk
FRAMES_A_WORKER = 8  # fewer are made sooner than a process has begun


class RunFailure(RuntimeError):
    """A run that cannot go on; frames made so far are kept."""


@dataclass(frozen=True)
class FrameDone:
    """A frame that is on disk.

    Attributes
    ----------
    reused : it was current already and not made again
    """

    stage: str
    frame: int
    readings: dict[str, float]
    reused: bool = False


def frame_states(scene: Scene, files: SceneFiles, cache: Cache, quality: str, stage: str) -> dict[int, str]:
    """One of "current", "stale", "missing" or "failed" for every frame of the shot, derived from keys."""
    return states_by_keys(cache.stage(stage), all_keys(Job(scene, files, cache, quality))[stage])


def states_by_keys(store: StageCache, keys: Keys) -> dict[int, str]:
    """The same from keys at hand."""
    records = store.records()
    states = {}
    for frame, key in keys.items():
        record = records.get(frame)
        if record is None:
            states[frame] = "missing"
        elif record.error:
            states[frame] = "failed" if record.key == key else "missing"
        elif not store.whole(record):
            states[frame] = "missing"
        else:
            states[frame] = "current" if record.key == key else "stale"
    return states


def frames_to_make(stage: Stage, scene: Scene, first: int | None, last: int | None) -> range:
    """Frames that a run of a stage passes, when those from a first to a last one are wanted."""
    begin = scene.time.first if stage.sequential or first is None else max(first, scene.time.first)
    return range(begin, min(scene.time.last if last is None else last, scene.time.last) + 1)


def run(
    scene: Scene,
    folder: Path,
    cache: Cache,
    *,
    stages: tuple[str, ...] | None = None,
    quality: str = "final",
    frames: tuple[int, int] | None = None,
    threads: int | None = None,
    stop: Callable[[], bool] = lambda: False,
) -> Iterator[FrameDone]:
    """Make the frames that are not current, stage by stage.

    Parameters
    ----------
    folder : where the scene's mesh files are
    stages : the usual ones if left out
    frames : first and last frame wanted; sequential stages also make what lies before them
    stop : asked between substeps; True ends the run, whole frames stay

    Raises
    ------
    SceneError, StageBusy, RunFailure
    """
    keep_memory()
    wanted = _wanted(stages, scene)
    job = Job(scene, SceneFiles(folder), cache, quality)
    expected = forecast(job)
    refusal = expected.refusal([stage.name for stage in wanted])
    if refusal:
        raise SceneError([refusal])
    short = expected.lacking(cache.folder, [stage.name for stage in wanted])
    if short:
        raise RunFailure(str(short))
    if threads is not None:
        numba.set_num_threads(max(1, min(threads, numba.config.NUMBA_NUM_THREADS)))
    first, last = frames or (None, None)
    time = scene.time
    if frames and (frames[0] > time.last or frames[1] < time.first):
        raise RunFailure(
            f"frames {frames[0]} to {frames[1]} lie outside the shot, which has {time.first} to {time.last}"
        )
    for stage in wanted:
        if not stop():
            with cache.stage(stage.name).locked():
                make = _in_sequence if stage.sequential else _apart
                yield from make(stage, job, frames_to_make(stage, scene, first, last), stop)


def _wanted(names: tuple[str, ...] | None, scene: Scene) -> list[Stage]:
    return usual(scene) if names is None else named(names)


def _in_sequence(stage: Stage, job: Job, frames: range, stop: Callable[[], bool]) -> Iterator[FrameDone]:
    store, keys = job.store(stage.name), all_keys(job)[stage.name]
    records = store.records()
    sound = frames.start - 1  # the last frame of the unbroken, whole and current beginning
    while sound + 1 in frames and _is_kept(store, records.get(sound + 1), keys[sound + 1]):
        sound += 1
        yield FrameDone(stage.name, sound, records[sound].readings, reused=True)
    if sound + 1 not in frames:
        return
    for name in stage.reads:
        states = states_by_keys(job.store(name), all_keys(job)[name])
        lacking = [frame for frame in range(sound + 1, frames.stop) if states[frame] != "current"]
        if lacking[:1] == [sound + 1]:
            raise RunFailure(f"frame {sound + 1} of the {name} is missing or out of date; make it first")
        if lacking:
            frames = range(frames.start, lacking[0])
    walk, at = _resumed(stage, job, keys, sound)
    for frame in range(at + 1, frames.stop):
        start = clock.perf_counter()
        try:
            made = walk.advance(frame, stop)
        except stage.failures as error:
            store.write_failure(frame, keys[frame], str(error))
            raise RunFailure(f"frame {frame}: {error}") from error
        if made is None:
            return
        if frame <= sound:
            continue  # on the way from an older restart state; the frame on disk is whole
        made = _timed(made, start)
        with _room(store):
            store.write_state(frame, keys[frame], walk.state(), keys)
            record = store.write(frame, keys[frame], made.arrays, made.readings)
        yield FrameDone(stage.name, frame, record.readings)
        if stop():
            return


@contextmanager
def _room(store: StageCache) -> Iterator[None]:
    """RunFailure if the disk is full, or nearly: other programs need some of it to go on."""
    full = "the disk is full; whole frames are kept. Make room and run again"
    if shutil.disk_usage(store.folder).free < LEFT_FREE:
        raise RunFailure(full)
    try:
        yield
    except OSError as error:
        for part in store.folder.glob("*.tmp"):
            part.unlink(missing_ok=True)
        if error.errno in (errno.ENOSPC, errno.EDQUOT):
            raise RunFailure(full) from None
        raise RunFailure(f"a frame could not be kept: {error.strerror or error}") from error


def _timed(made: Made, start: float) -> Made:
    return replace(made, readings={**made.readings, "seconds": clock.perf_counter() - start})


def _resumed(stage: Stage, job: Job, keys: Keys, sound: int) -> tuple[Walk, int]:
    """The walk from the newest usable restart state at or before `sound`, and that frame."""
    store = job.store(stage.name)
    for number in reversed([s for s in store.states() if s <= sound]):
        try:
            arrays = store.state(number)
            if str(arrays["key"]) == keys.get(number):
                return stage.walk(job, arrays), number
        except (DamagedFrame, KeyError, ValueError):
            continue
    return stage.walk(job, None), min(keys) - 1


def _apart(stage: Stage, job: Job, frames: range, stop: Callable[[], bool]) -> Iterator[FrameDone]:
    store, keys = job.store(stage.name), all_keys(job)
    records, own = store.records(), keys[stage.name]
    read = {name: states_by_keys(job.store(name), keys[name]) for name in stage.reads}
    kept = {f for f in frames if _is_kept(store, records.get(f), own[f])}
    todo = [f for f in frames if f not in kept and all(states[f] == "current" for states in read.values())]
    told: tuple[type[Exception], ...] = (DamagedFrame, SceneError, *stage.failures)
    with _made_apart(stage, job, todo) as made:
        for frame in frames:
            if stop():
                return
            if frame in kept:
                yield FrameDone(stage.name, frame, records[frame].readings, reused=True)
            if frame not in todo:
                continue
            try:
                done = made(frame)
            except ProcessEnded as error:
                raise RunFailure(f"frame {frame}: {error}") from error
            except told as error:
                store.write_failure(frame, own[frame], str(error))
                raise RunFailure(f"frame {frame}: {error}") from error
            with _room(store):
                store.write(frame, own[frame], done.arrays, done.readings)
            yield FrameDone(stage.name, frame, done.readings)


def _is_kept(store: StageCache, record: FrameRecord | None, key: str) -> bool:
    return record is not None and not record.error and record.key == key and store.verify(record)


@contextmanager
def _made_apart(stage: Stage, job: Job, todo: list[int]) -> Iterator[Callable[[int], Made]]:
    """What makes the frames to do, asked for in their order: by processes beside each other where there are many."""
    workers = min(numba.get_num_threads(), len(todo) // FRAMES_A_WORKER)
    if workers < 2:
        begin(stage.name, job)
        yield work
        return
    given = (job.scene.model_dump(mode="json"), job.files.folder, job.cache.folder, job.quality)
    with several(workers, begin_worker, stage.name, *given) as ask:
        ahead: dict[int, Future[Made]] = {}
        coming = iter(todo)

        def made(frame: int) -> Made:
            while len(ahead) < workers + 1 and (following := next(coming, None)) is not None:
                ahead[following] = ask(work, following)
            return ahead.pop(frame).result()

        yield made


_own: dict[str, tuple[Stage, Job, Any]] = {}


def begin(stage: str, job: Job) -> None:
    """Make this process ready to make frames of a stage that stand alone."""
    (made,) = named([stage])
    _own["work"] = made, job, made.world(job)


def begin_worker(stage: str, document: dict[str, Any], folder: Path, cache: Path, quality: str) -> None:
    """`begin` in a process of its own, on one core."""
    keep_memory()
    numba.set_num_threads(1)
    begin(stage, Job(parse_scene(document), SceneFiles(folder), Cache(cache), quality))


def work(frame: int) -> Made:
    """Make a frame of what was begun."""
    start = clock.perf_counter()
    stage, job, world = _own["work"]
    return _timed(stage.make(job, world, frame), start)
