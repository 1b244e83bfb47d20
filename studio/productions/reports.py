"""What is told of a take: its scene, what of its frames is current, what a run would cost.

Answers are made once and kept until what they were made from changes: the scene, a file that it names, a manifest.
"""

from __future__ import annotations

import json
import logging
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import asdict
from math import isfinite
from pathlib import Path
from typing import Any, TypeVar

from django.conf import settings

from basin import readings
from basin.cache import Cache
from basin.scene import Advice, Scene, SceneError, parse_scene
from basin.scene.differences import differences
from basin.stages.advice import checked
from basin.stages.assembly import Checked
from basin.stages.deliver import delivery_states
from basin.stages.files import SceneFiles
from basin.stages.forecast import Forecast, forecast, voxel_for
from basin.stages.pace import Pace
from basin.stages.pieces import whitewater_count
from basin.stages.placing import Seen, camera_path, placed_elements
from basin.stages.run import states_by_keys
from basin.stages.stage import Job, Keys, all_keys, reckoned_keys, stages
from studio.errors import Refused
from studio.productions.models import Take

T = TypeVar("T")
MOST_BYTES = 400_000_000  # of answers that are kept, about
SMALL = 20_000  # bytes of an answer that is not said to be larger
A_FRAME = 1_500  # bytes of a frame in a report, about


class Kept:
    """Answers by what they are of, each with a stamp of what it was made from; the longest unused go."""

    def __init__(self) -> None:
        self._held: OrderedDict[Hashable, tuple[Hashable, Any, int]] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()
        self._making: dict[Hashable, threading.Lock] = {}

    def get(
        self, of: Hashable, stamp: Hashable, make: Callable[[], T], size: Callable[[T], int] = lambda _: SMALL
    ) -> T:
        """The answer that is kept if its stamp is this one, else a new one; who asks meanwhile waits for it."""
        with self._lock:
            making = self._making.setdefault(of, threading.Lock())
        with making:
            with self._lock:
                known = self._held.get(of)
                if known is not None and known[0] == stamp:
                    self._held.move_to_end(of)
                    found: T = known[1]
                    return found
            made = make()
            with self._lock:
                self._forget(of)
                self._held[of] = stamp, made, size(made)
                self._bytes += self._held[of][2]
                while self._bytes > MOST_BYTES and len(self._held) > 1:
                    oldest = next(iter(self._held))
                    self._forget(oldest)
                    self._making.pop(oldest, None)
            return made

    def _forget(self, of: Hashable) -> None:
        if of in self._held:
            self._bytes -= self._held.pop(of)[2]


_kept = Kept()


def scene_of(take: Take) -> Scene:
    """The take's scene, validated; Refused if it cannot be."""
    try:
        return _kept.get(("scene", take.pk), _document(take), lambda: parse_scene(take.scene))
    except SceneError as error:
        raise Refused(error.problems) from None


def _document(take: Take) -> Hashable:
    return take.revision, take.changed


def _made_from(take: Take) -> Hashable:
    """What changes whenever a take's scene or a file that it names does."""
    return _document(take), take.folder, SceneFiles(take.folder).stamp(scene_of(take)), tuple(stages())


def job_of(take: Take, quality: str) -> Job:
    """What frames of a take are made from."""
    return _stamped(take, quality)[0]


def _stamped(take: Take, quality: str) -> tuple[Job, Hashable]:
    """What frames of a take are made from, and what changes whenever that does."""
    stamp = _made_from(take)

    def kept(job: Job) -> dict[str, Keys]:
        return _kept.get(("keys", take.pk, quality), stamp, lambda: reckoned_keys(job), _keys_bytes)

    return Job(scene_of(take), SceneFiles(take.folder), Cache(take.cache_folder(quality)), quality, kept), stamp


def _keys_bytes(keys: dict[str, Keys]) -> int:
    return 120 * sum(map(len, keys.values()))


def _cached(job: Job) -> Hashable:
    """What changes whenever a frame of a take comes or goes."""
    found = []
    for name in stages():
        store = job.store(name)
        found.append((store.stamp(), _folder_stamp(store.folder)))
    return tuple(found)


def _folder_stamp(folder: Path) -> Hashable:
    try:
        return folder.stat().st_mtime_ns
    except OSError:
        return None


def stage_report(take: Take, quality: str) -> list[dict[str, Any]]:
    """Per stage: the state of every frame, readings, bytes on disk and seconds spent."""
    job, made_from = _stamped(take, quality)
    stamp = (made_from, _cached(job))
    return _kept.get(("stages", take.pk, quality), stamp, lambda: _stage_report(job), _report_bytes)


def _report_bytes(report: list[dict[str, Any]]) -> int:
    return A_FRAME * sum(len(stage["states"]) for stage in report)


def stage_report_text(take: Take, quality: str) -> bytes:
    """The same as JSON."""
    job, made_from = _stamped(take, quality)
    stamp = (made_from, _cached(job))

    def made() -> bytes:
        return json.dumps(stage_report(take, quality), allow_nan=False).encode()

    return _kept.get(("text", take.pk, quality), stamp, made, len)


def _stage_report(job: Job) -> list[dict[str, Any]]:
    time = job.scene.time
    try:
        keys = all_keys(job)
    except ValueError as error:  # a mesh that cannot be read: nothing can be current
        logging.getLogger(__name__).warning("no frame can be current: %s", error)
        keys = {}
    report = []
    for stage in stages().values():
        store = job.store(stage.name)
        states = dict.fromkeys(range(time.first, time.last + 1), "missing")
        states |= states_by_keys(store, keys.get(stage.name, {}))
        records = store.records()
        there = [_finite(records[n].readings) if n in records else {} for n in sorted(states)]
        names = {name for r in there for name in r}
        report.append(
            {
                "stage": stage.name,
                "first": time.first,
                "states": [states[n] for n in sorted(states)],
                "readings": there,
                "measures": [asdict(m) for m in readings.told(stage.readings, names)],
                "errors": {str(n): records[n].error for n in sorted(states) if n in records and records[n].error},
                "bytes": store.size(),
                "concerns": stage.concerns(job.scene) or bool(records),
                "seconds": sum(r.readings.get("seconds", 0.0) for r in records.values()),
            }
        )
    return report


def _finite(measured: dict[str, float]) -> dict[str, float]:
    """Without what JSON has no word for."""
    return {name: value for name, value in measured.items() if isfinite(value)}


def take_forecast(take: Take, quality: str, wanted: list[str] | None = None) -> tuple[Forecast, Checked]:
    """Forecast and check of a take's scene; what some stages (all, if none are named) do not fit is a problem too."""
    job, made_from = _stamped(take, quality)

    def made() -> tuple[Forecast, Checked]:
        return forecast(job, pace()), checked(job.scene, job.files)

    expected, found = _kept.get(("forecast", take.pk, quality), (made_from, pace().stamp()), made)
    names = wanted or list(expected.costs)
    if wanted is None:
        found = Checked(found.problems, [*found.remarks, *out_of_date(take, quality), *noticed(take, quality)])
    said = [expected.refusal(names), expected.lacking(job.cache.folder, names)]
    return expected, Checked([*found.problems, *(one for one in said if one)], found.remarks)


def voxel_for_budget(take: Take, quality: str, what: str, value: float) -> float:
    """The final voxel size that a budget allows; Refused if there is none."""
    if not value > 0 or not isfinite(value):
        raise Refused(["Give a number above zero."])
    try:
        return voxel_for(job_of(take, quality), what, value, pace())
    except ValueError as error:
        raise Refused([f"{str(error).capitalize()}."]) from None


def pace() -> Pace:
    """How fast this machine has been."""
    return Pace(Path(settings.DATA) / "pace.json")


def poses_text(take: Take) -> bytes:
    """Where all elements are, as JSON."""

    def made() -> bytes:
        return json.dumps([asdict(one) for one in placed_elements(scene_of(take))]).encode()

    return _kept.get(("poses text", take.pk), _document(take), made, len)


def seen_from(take: Take) -> list[Seen]:
    """Where the shot is seen from, once if that is still, else at every frame."""
    return _kept.get(("camera", take.pk), _document(take), lambda: camera_path(scene_of(take)))


def delivery_folder(take: Take, quality: str, name: str) -> Path:
    """Where a delivery's files are left."""
    return take.folder / "deliveries" / quality / name


def delivery_report(take: Take, quality: str) -> list[dict[str, Any]]:
    """Per delivery: how many of its files are current, stale and missing, bytes on disk, and where they are."""
    job, made_from = _stamped(take, quality)
    folders = [delivery_folder(take, quality, one.name) for one in job.scene.deliveries]
    stamp = (made_from, _cached(job), tuple(map(_folder_stamp, folders)))
    return _kept.get(("deliveries", take.pk, quality), stamp, lambda: _delivery_report(take, job))


def _delivery_report(take: Take, job: Job) -> list[dict[str, Any]]:
    report = []
    for delivery in job.scene.deliveries:
        folder = delivery_folder(take, job.quality, delivery.name)
        try:
            states = list(delivery_states(job, delivery, folder).values())
        except ValueError:  # a mesh that cannot be read
            states = []
        held = [p.stat().st_size for p in folder.iterdir() if p.is_file()] if folder.is_dir() else []
        points, fullest = whitewater_count(job, delivery) or (None, None)
        report.append(
            {
                "name": delivery.name,
                "format": delivery.format,
                "current": states.count("current"),
                "stale": states.count("stale"),
                "total": len(states),
                "bytes": sum(held),
                "folder": str(folder.relative_to(take.folder)),
                "points": points,
                "fullest": fullest,
            }
        )
    return report


def noticed(take: Take, quality: str) -> list[Advice]:
    """What current frames show, but for what was put aside."""
    job, made_from = _stamped(take, quality)

    def made() -> list[Advice]:
        try:
            return [one for stage in stages().values() for one in stage.noticed(job)]
        except ValueError:  # a mesh that cannot be read: nothing is current
            return []

    said = _kept.get(("noticed", take.pk, quality), (made_from, _cached(job)), made)
    return [one for one in said if one.aside not in job.scene.aside]


MOST_TOLD = 3  # settings


def out_of_date(take: Take, quality: str) -> list[Advice]:
    """What has changed since frames were made that are out of date, a stage at a time."""
    said: list[Advice] = []
    runs = list(take.runs.filter(quality=quality, delivery="").exclude(status="waiting").order_by("-created")[:20])
    for report in stage_report(take, quality):
        if "stale" not in report["states"]:
            continue
        run = next((r for r in runs if report["stage"] in r.stage_names() and r.scene), None)
        try:
            changed = differences(parse_scene(run.scene), scene_of(take)) if run else []
        except SceneError:
            continue  # made by an older program
        if not changed:
            continue
        stage = stages()[report["stage"]]
        own = [c for c in changed if not any(c.of == other.part != stage.part for other in stages().values())]
        shown = [str(one) for one in (own or changed)[:MOST_TOLD]]
        more = len(own or changed) - len(shown)
        told = "; ".join(shown) + (f"; and {more} more" if more else "")
        says = f"is out of date; since its last run: {told}"
        one = Advice(says, rule="out_of_date", element=stage.title)
        if one.aside not in scene_of(take).aside:
            said.append(one)
        break  # what comes after it is, because of it
    return said
