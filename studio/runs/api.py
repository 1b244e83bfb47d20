"""Addresses of runs."""

from __future__ import annotations

from typing import Annotated

from django.http import HttpRequest
from ninja import Field, Router, Schema

from basin.stages import warm
from studio.errors import Refused
from studio.productions.access import take_for, user_of, visible
from studio.productions.models import Take
from studio.runs import services
from studio.runs.models import Run

router = Router(tags=["runs"])


class RunReply(Schema):
    run: int
    take: int
    shot: str
    quality: str
    status: str
    stages: str
    delivery: str
    stage: str
    frame: int | None
    done: int
    total: int
    seconds_left: float
    message: str
    created: str
    started: str | None
    finished: str | None


class RunRequest(Schema):
    quality: str = Field("draft", max_length=20)
    stages: list[Annotated[str, Field(max_length=40)]] = Field([], max_length=40)
    first: int | None = Field(None, ge=0, le=1_000_000)
    last: int | None = Field(None, ge=0, le=1_000_000)


class Readiness(Schema):
    working: bool
    ready: list[str]
    done: int
    total: int
    seconds_left: dict[str, float]


def _reply(row: Run) -> RunReply:
    event = {k: v for k, v in services.run_event(row).items() if k != "type"}
    return RunReply(
        **event,
        shot=row.take.shot.name,
        created=row.created.isoformat(),
        started=row.started.isoformat() if row.started else None,
        finished=row.finished.isoformat() if row.finished else None,
    )


@router.get("/runs", response=list[RunReply])
def runs(request: HttpRequest) -> list[RunReply]:
    """The newest hundred runs of the user's productions."""
    mine = Run.objects.filter(take__in=visible(Take, user_of(request)))
    return [_reply(r) for r in mine.select_related("take__shot").order_by("-created", "-pk")[:100]]


@router.post("/takes/{take_id}/runs", response=RunReply)
def ask(request: HttpRequest, take_id: int, wanted: RunRequest) -> RunReply:
    """Ask for a run."""
    take = take_for(request, take_id)
    made = services.ask_for_run(
        user_of(request),
        take,
        wanted.quality,
        wanted.stages,
        wanted.first,
        wanted.last,
    )
    return _reply(made)


@router.post("/takes/{take_id}/deliver/{quality}", response=RunReply)
def deliver(request: HttpRequest, take_id: int, quality: str, name: str) -> RunReply:
    """Ask for a delivery to be written."""
    take = take_for(request, take_id)
    return _reply(services.ask_for_delivery(user_of(request), take, quality, name))


@router.post("/runs/{run_id}/stop", response=RunReply)
def stop(request: HttpRequest, run_id: int) -> RunReply:
    """Stop a run; whole frames stay."""
    row = Run.objects.filter(pk=run_id, take__in=visible(Take, user_of(request))).first()
    if row is None:
        raise Refused(["There is no such run."], 404)
    take_for(request, row.take_id)
    return _reply(services.ask_to_stop(row))


@router.get("/readiness", response=Readiness)
def readiness(request: HttpRequest) -> warm.Readiness:
    """How far the solver is from being ready, while its kernels are compiled."""
    return warm.readiness()
