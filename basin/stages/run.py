"""The one run loop: yields each frame once it is safely on disk.

The command line, the worker and the tests all drive these generators.
"""

from __future__ import annotations

import time as clock
from collections.abc import Callable, Iterator
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import numba
import numpy as np

from basin import keep_memory
from basin.cache import Cache, DamagedFrame, StageCache
from basin.cache.store import FrameRecord
from basin.liquid.step import Liquid, LiquidFailure, Tally
from basin.scene import Scene, SceneError
from basin.stages.assembly import SceneFiles, liquid_world
from basin.stages.beside import ProcessEnded, several
from basin.stages.forecast import forecast
from basin.stages.keys import frame_keys
from basin.stages.liquid_stage import frame_arrays, frame_readings, state_arrays, state_from
from basin.stages.surface_stage import SurfaceWorld, begin_worker, mesh_frame, work_frame
from basin.surface.field import SurfaceFailure

STAGES = ("liquid", "surface")
FRAMES_A_WORKER = 8  # fewer are meshed sooner than a process has begun


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
    return states_by_keys(cache.stage(stage), frame_keys(scene, files, quality, stage))


def states_by_keys(store: StageCache, keys: dict[int, str]) -> dict[int, str]:
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


def run(
    scene: Scene,
    folder: Path,
    cache: Cache,
    *,
    stages: tuple[str, ...] = STAGES,
    quality: str = "final",
    frames: tuple[int, int] | None = None,
    threads: int | None = None,
    stop: Callable[[], bool] = lambda: False,
) -> Iterator[FrameDone]:
    """Make the frames that are not current, stage by stage.

    Parameters
    ----------
    folder : where the scene's mesh files are
    frames : first and last frame wanted; the liquid also makes what lies before them
    stop : asked between substeps; True ends the run, whole frames stay

    Raises
    ------
    SceneError, StageBusy, RunFailure
    """
    keep_memory()
    files = SceneFiles(folder)
    expected = forecast(scene, files, quality)
    if not expected.fits:
        raise SceneError([expected.refusal()])
    if threads is not None:
        numba.set_num_threads(max(1, min(threads, numba.config.NUMBA_NUM_THREADS)))
    first, last = frames or (scene.time.first, scene.time.last)
    for stage in STAGES:
        if stage in stages and not stop():
            with cache.stage(stage).locked():
                if stage == "liquid":
                    yield from _run_liquid(scene, files, cache.stage(stage), quality, last, stop)
                else:
                    yield from _run_surface(scene, files, cache, quality, (first, last), stop)


def _run_liquid(
    scene: Scene, files: SceneFiles, store: StageCache, quality: str, last: int, stop: Callable[[], bool]
) -> Iterator[FrameDone]:
    world = liquid_world(scene, files, quality)
    keys = frame_keys(scene, files, quality, "liquid")
    records = store.records()
    last = min(last, scene.time.last)
    sound = scene.time.first - 1  # the last frame of the unbroken, whole and current beginning
    while sound < last:
        record = records.get(sound + 1)
        if record is None or record.error or record.key != keys[sound + 1] or not store.verify(record):
            break
        sound += 1
        yield FrameDone("liquid", sound, record.readings, reused=True)
    if sound >= last:
        return
    liquid, at = _resumed(Liquid(world), store, keys, sound)
    for frame in range(at + 1, last + 1):
        start = clock.perf_counter()
        try:
            if frame == scene.time.first:
                fields, tally = liquid.begin(), Tally()
            else:
                made = liquid.advance_frame(frame, stop)
                if made is None:
                    return
                fields, tally = made
        except (LiquidFailure, OverflowError) as error:
            store.write_failure(frame, keys[frame], str(error))
            raise RunFailure(f"frame {frame}: {error}") from error
        if frame <= sound:
            continue  # on the way from an older restart state; the frame on disk is whole
        readings = frame_readings(liquid, fields, tally, clock.perf_counter() - start)
        store.write_state(frame, keys[frame], state_arrays(liquid.state))
        record = store.write(frame, keys[frame], frame_arrays(liquid, fields, frame), readings)
        yield FrameDone("liquid", frame, record.readings)
        if stop():
            return


def _resumed(liquid: Liquid, store: StageCache, keys: dict[int, str], sound: int) -> tuple[Liquid, int]:
    """The liquid at the newest usable restart state at or before `sound`, and that frame."""
    for number in reversed([s for s in store.states() if s <= sound]):
        try:
            arrays = store.state(number)
            if str(arrays["key"]) == keys.get(number):
                return Liquid(liquid.world, state_from(arrays)), number
        except (DamagedFrame, KeyError, ValueError):
            continue
    return liquid, min(keys) - 1


def _run_surface(
    scene: Scene,
    files: SceneFiles,
    cache: Cache,
    quality: str,
    span: tuple[int, int],
    stop: Callable[[], bool],
) -> Iterator[FrameDone]:
    source, store = cache.stage("liquid"), cache.stage("surface")
    keys = frame_keys(scene, files, quality, "surface")
    liquid_states = states_by_keys(source, frame_keys(scene, files, quality, "liquid"))
    records, made = store.records(), source.records()
    frames = range(max(span[0], scene.time.first), min(span[1], scene.time.last) + 1)
    kept = {f for f in frames if _is_kept(store, records.get(f), keys[f])}
    todo = [f for f in frames if f not in kept and liquid_states[f] == "current"]
    with _meshed(scene, files, cache, quality, todo) as meshed:
        for frame in frames:
            if stop():
                return
            if frame in kept:
                yield FrameDone("surface", frame, records[frame].readings, reused=True)
            if frame not in todo:
                continue
            try:
                arrays, readings = meshed(frame, made[frame].readings["volume"])
            except ProcessEnded as error:
                raise RunFailure(f"frame {frame}: {error}") from error
            except (SurfaceFailure, DamagedFrame, SceneError) as error:
                store.write_failure(frame, keys[frame], str(error))
                raise RunFailure(f"frame {frame}: {error}") from error
            store.write(frame, keys[frame], arrays, readings)
            yield FrameDone("surface", frame, readings)


def _is_kept(store: StageCache, record: FrameRecord | None, key: str) -> bool:
    return record is not None and not record.error and record.key == key and store.verify(record)


Mesher = Callable[[int, float], tuple[dict[str, np.ndarray], dict[str, float]]]


@contextmanager
def _meshed(scene: Scene, files: SceneFiles, cache: Cache, quality: str, todo: list[int]) -> Iterator[Mesher]:
    """What meshes the frames to do, asked for in their order: by processes beside each other where there are many."""
    workers = min(numba.get_num_threads(), len(todo) // FRAMES_A_WORKER)
    if workers < 2:
        at_hand = SurfaceWorld(scene, files, quality)
        yield lambda frame, volume: mesh_frame(at_hand, cache, frame, volume)
        return
    volumes = {frame: record.readings["volume"] for frame, record in cache.stage("liquid").records().items()}
    given = (scene.model_dump(mode="json"), files.folder, cache.folder, quality)
    with several(workers, begin_worker, *given) as ask:
        ahead: dict[int, Future[tuple[dict[str, np.ndarray], dict[str, float]]]] = {}
        coming = iter(todo)

        def meshed(frame: int, _volume: float) -> tuple[dict[str, np.ndarray], dict[str, float]]:
            while len(ahead) < workers + 1 and (following := next(coming, None)) is not None:
                ahead[following] = ask(work_frame, following, volumes[following])
            return ahead.pop(frame).result()

        yield meshed
