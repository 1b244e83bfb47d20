"""Asking for runs, stopping them, and working on them under a lease."""

from __future__ import annotations

import logging
import os
import socket
import threading
import time as clock
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import DatabaseError, close_old_connections, connection, transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from basin.cache import StageBusy
from basin.scene import SceneError
from basin.stages import warm
from basin.stages.deliver import DeliveryFailure, delivery_named
from basin.stages.run import FrameDone, RunFailure
from basin.stages.stage import named, usual
from studio.errors import Refused
from studio.events import publish
from studio.productions.models import Take
from studio.productions.reports import pace, scene_of, take_forecast
from studio.productions.services import quality_of
from studio.runs import crashes
from studio.runs.models import Run
from studio.runs.work import Files, is_at_work, works

MOST_ATTEMPTS = 3
ACTIVE = (Run.Status.WAITING, Run.Status.RUNNING)


def ask_for_run(
    user: User | None, take: Take, quality: str, stages: list[str], first: int | None = None, last: int | None = None
) -> Run:
    """Queue a run.

    No names are the usual stages. Refused if the scene cannot run, does not fit the machine, or is being made already.
    """
    quality_of(quality)
    try:
        names = [stage.name for stage in (named(stages) if stages else usual(scene_of(take)))]
    except LookupError as error:
        raise Refused([f"{error.args[0]}."]) from None
    time = scene_of(take).time
    if first is not None and last is not None and last < first:
        raise Refused([f"These frames run backwards ({first} to {last}); swap them."])
    if (first or time.first) > time.last or (last if last is not None else time.last) < time.first:
        raise Refused([f"These frames lie outside the shot, which has {time.first} to {time.last}."])
    _, said = take_forecast(take, quality, names)
    if said.problems:
        raise Refused(said.problems)
    return _queued(Run(take=take, by=user, quality=quality, stages=",".join(names), first=first, last=last))


def ask_for_delivery(user: User | None, take: Take, quality: str, name: str) -> Run:
    """Queue the writing of a delivery; Refused if there is none of the name, or it is being written already."""
    quality_of(quality)
    try:
        delivery_named(scene_of(take), name)
    except DeliveryFailure as error:
        raise Refused([str(error)], 404) from None
    return _queued(Run(take=take, by=user, quality=quality, stages=Files.name, delivery=name))


def _queued(row: Run) -> Run:
    """Queue a run, unless part of it is being made already."""
    row.scene = row.take.scene
    row.total = sum(part.total() for part in works(row))
    with transaction.atomic():
        Take.objects.select_for_update().get(pk=row.take_id)
        for other in Run.objects.filter(take=row.take, quality=row.quality, delivery=row.delivery, status__in=ACTIVE):
            shared = [name for name in other.stage_names() if name in row.stage_names()]
            if shared:
                what = f"{shared[0]} {row.delivery!r}" if row.delivery else shared[0]
                raise Refused([f"The {what} of this take is being made already; stop that run first."], 409)
        row.save()
    publish(run_event(row))
    wake()
    return row


def _work(row: Run, tell: Callable[[str], None], stop: Callable[[], bool]) -> Iterator[FrameDone]:
    """Make what a run asks for, frame by frame or file by file."""
    for part in works(row):
        _until_ready(part.groups(), tell, stop)
        yield from part.go(stop)


def _until_ready(groups: list[warm.Group], tell: Callable[[str], None], stop: Callable[[], bool]) -> None:
    """Wait for groups of kernels, if they are being compiled."""
    told: list[str] = []

    def left(seconds: float) -> None:
        said = f"making the solver ready, {warm.spoken(seconds)} left"
        if told[-1:] != [said]:
            told.append(said)
            tell(said)

    warm.wait_for(groups, left, stop)
    if told:
        tell("")


def wake() -> None:
    """Tell a worker that there is something to do; the sweep finds it anyway if this is lost."""
    from studio.runs.tasks import work

    try:
        work.delay()
    except Exception:  # the broker being away must not lose the run: its row is in the database
        return


def ask_to_stop(asked: Run) -> Run:
    """Stop a run: at once if it waits, within a substep if it runs."""
    with transaction.atomic():
        row = Run.objects.select_for_update().get(pk=asked.pk)
        if row.status == Run.Status.WAITING:
            row.status, row.finished = Run.Status.STOPPED, timezone.now()
        row.stop_requested = True
        row.save()
    publish(run_event(row))
    return row


def claim(owner: str) -> Run | None:
    """Take the oldest run that waits or whose worker has gone.

    Whose lease has run out but who still holds what the run writes is alive, and only cannot reach the database.
    """
    now = timezone.now()
    with transaction.atomic():
        free = Q(status=Run.Status.WAITING) | Q(status=Run.Status.RUNNING, lease_until__lt=now)
        waiting = Run.objects.select_for_update(skip_locked=True).filter(free).order_by("created", "pk")
        row = next(
            (one for one in waiting if one.status == Run.Status.WAITING or not is_at_work(one)),
            None,
        )
        if row is None:
            return None
        row.attempts += 1
        row.lease_owner, row.lease_until = owner, now + timedelta(seconds=settings.LEASE_SECONDS)
        row.started = row.started or now
        if row.attempts > MOST_ATTEMPTS:
            row.status, row.finished = Run.Status.FAILED, now
            row.message = f"{crashes.told(row)}, {MOST_ATTEMPTS} times; whole frames are kept"
            row.save()
            publish(run_event(row))
            return None
        row.status = Run.Status.RUNNING
        if row.attempts > 1:
            row.message = f"{crashes.told(row)}; attempt {row.attempts} of {MOST_ATTEMPTS}"
        row.save()
    return row


@dataclass
class Lease:
    """Keeps a run's row ours while we work on it; says when to stop."""

    run: Run
    owner: str

    def __post_init__(self) -> None:
        self._over = threading.Event()
        self.stop = threading.Event()
        self.lost = False
        self._thread = threading.Thread(target=self._beat, daemon=True)
        self._thread.start()

    def _beat(self) -> None:
        due = clock.monotonic() + settings.HEARTBEAT_SECONDS
        while not self._over.wait(0.5):
            try:
                if clock.monotonic() >= due:
                    self._renew()
                    due = clock.monotonic() + settings.HEARTBEAT_SECONDS
                if self._mine().filter(stop_requested=True).exists():
                    self.stop.set()
            except DatabaseError:  # it may come back; until then the work goes on, and its lock says that it does
                logging.getLogger(__name__).warning("run %s: the database does not answer", self.run.pk)
                connection.close()
        connection.close()

    def _mine(self) -> QuerySet[Run]:
        return Run.objects.filter(pk=self.run.pk, lease_owner=self.owner)

    def _renew(self) -> None:
        until = timezone.now() + timedelta(seconds=settings.LEASE_SECONDS)
        if not self._mine().update(lease_until=until):
            self.lost = True
            self.stop.set()

    def end(self) -> None:
        """Stop the heartbeat."""
        self._over.set()
        self._thread.join()


def work_once(owner: str | None = None) -> bool:
    """Work on one run to its end; False if there was none."""
    owner = owner or f"{socket.gethostname()}:{os.getpid()}:{uuid.uuid4().hex[:8]}"
    close_old_connections()
    row = claim(owner)
    if row is None:
        return False
    publish(run_event(row))
    lease = Lease(row, owner)
    status, message = Run.Status.DONE, ""
    done = 0

    def tell(message: str) -> None:
        row.message = message
        with _outlived():
            Run.objects.filter(pk=row.pk, lease_owner=owner).update(message=message)
        publish(run_event(row))

    spent: dict[str, tuple[int, float]] = {}  # frames that were made, and seconds, by stage
    try:
        began = clock.monotonic()
        for frame in crashes.noted(row, _work(row, tell, lease.stop.is_set)):
            done += 1
            took, began = clock.monotonic() - began, clock.monotonic()
            seconds = 0.0 if frame.reused else frame.readings.get("seconds", took)
            own = Run.objects.filter(pk=row.pk, lease_owner=owner)
            with _outlived():
                own.update(done=done, stage=frame.stage, frame=frame.frame, frame_seconds=seconds)
            row.done, row.stage, row.frame, row.frame_seconds = done, frame.stage, frame.frame, seconds
            if not frame.reused:
                count, before = spent.get(frame.stage, (0, 0.0))
                spent[frame.stage] = count + 1, before + min(took, frame.readings.get("seconds", took))
                publish({**run_event(row), "type": "frame", "readings": frame.readings})
        if lease.stop.is_set():
            status, message = Run.Status.STOPPED, "stopped; whole frames are kept"
    except (SceneError, Refused) as error:
        status, message = Run.Status.FAILED, "; ".join(map(str, error.problems))
    except (RunFailure, DeliveryFailure, StageBusy, ValueError, OSError) as error:
        status, message = Run.Status.FAILED, str(error)
    except Exception as error:  # ours to mend: tell it at once rather than fail the same way again and again
        logging.getLogger(__name__).exception("run %s", row.pk)
        status, message = Run.Status.FAILED, f"an error in the program ({type(error).__name__}: {error})"
    finally:
        lease.end()
    if lease.lost:
        return True  # somebody else has the run now
    if status == Run.Status.DONE and not row.delivery:
        _learn(row, spent)
    _tell_outcome(row, owner, status, message)
    row.refresh_from_db()
    publish(run_event(row))
    return True


def _learn(row: Run, spent: dict[str, tuple[int, float]]) -> None:
    """Let forecasts know what the stages took whose whole shot was made."""
    try:
        expected, _ = take_forecast(row.take, row.quality)
    except Refused:
        return  # the scene has been edited since into one that cannot be read
    for name, (count, seconds) in spent.items():
        if count == expected.frames and name in expected.costs:
            pace().learn(name, expected.costs[name].seconds, seconds)


@contextmanager
def _outlived() -> Iterator[None]:
    """What may fail while the database is away; the next time it is told anew."""
    try:
        yield
    except DatabaseError:
        connection.close()


def _tell_outcome(row: Run, owner: str, status: str, message: str) -> None:
    """Write how a run ended, as long as the database is away again and again."""
    while True:
        try:
            Run.objects.filter(pk=row.pk, lease_owner=owner).update(
                status=status, message=message, finished=timezone.now(), lease_owner="", lease_until=None
            )
            return
        except DatabaseError:
            connection.close()
            clock.sleep(settings.HEARTBEAT_SECONDS)


def run_event(row: Run) -> dict[str, Any]:
    """What the page is told of a run."""
    left = max(row.total - row.done, 0) * row.frame_seconds
    return {
        "type": "run",
        "run": row.pk,
        "take": row.take_id,
        "quality": row.quality,
        "status": str(row.status),
        "stages": row.stages,
        "delivery": row.delivery,
        "stage": row.stage,
        "frame": row.frame,
        "done": row.done,
        "total": row.total,
        "seconds_left": left,
        "message": row.message,
    }
