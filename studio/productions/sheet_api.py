"""Addresses of the contact sheet: what there is, beginning it, keeping it in order, and who has a part in it."""

from __future__ import annotations

from contextlib import suppress
from typing import Annotated, Any, Literal

from django.db.models import Prefetch
from django.http import HttpRequest
from ninja import Field, Router, Schema

from basin.stages.stage import stages
from studio.errors import Refused, Said, told
from studio.productions import keeping, reports
from studio.productions.access import found, production_of, user_of, visible
from studio.productions.models import Membership, Production, Role, Shot, Take

router = Router(tags=["sheet"])
Kind = Literal["production", "shot", "take"]
KINDS: dict[str, type[Production | Shot | Take]] = {"production": Production, "shot": Shot, "take": Take}
Name = Annotated[str, Field(min_length=1, max_length=120)]
Description = Annotated[str, Field(max_length=4000)]
RoleName = Literal["viewer", "editor", "owner"]
Unit = Literal["m", "cm", "mm", "in", "ft"]
Up = Literal["x", "y", "z"]


class StageVessel(Schema):
    stage: str
    current: int
    stale: int
    total: int
    bytes: int


class TakeCard(Schema):
    id: int
    name: str
    description: str
    archived: bool
    changed: str
    vessels: list[StageVessel]
    problems: list[Said] = []


class ShotCard(Schema):
    id: int
    name: str
    description: str
    archived: bool
    first: int
    last: int
    takes: list[TakeCard]


class ProductionCard(Schema):
    id: int
    name: str
    description: str
    archived: bool
    role: str
    people: int
    shots: list[ShotCard]


class StartCard(Schema):
    name: str
    title: str
    says: str
    first: int
    last: int
    fps: float


class Begun(Schema):
    kind: Kind
    id: int
    take: int | None = None


class NewProduction(Schema):
    name: Name
    description: Description = ""


class NewShot(Schema):
    name: Name
    description: Description = ""
    start: str = Field("", max_length=40)
    first: int | None = Field(None, ge=0, le=1_000_000)
    last: int | None = Field(None, ge=0, le=1_000_000)
    fps: float | None = Field(None, gt=0, le=1000)
    unit: Unit = "m"
    up: Up = "y"


class Change(Schema):
    name: Name | None = None
    description: Description | None = None
    archived: bool | None = None
    place: int | None = Field(None, ge=0, le=10_000)


class Copy(Schema):
    frames: bool = False


class Weight(Schema):
    takes: int
    frames: int
    bytes: int
    seconds: float


class Removed(Schema):
    kind: Kind
    id: int
    name: str
    where: str
    removed: str
    until: str


class Person(Schema):
    name: str
    role: RoleName


@router.get("/productions", response=list[ProductionCard])
def productions(request: HttpRequest) -> list[ProductionCard]:
    """The contact sheet: what there is and how full its vessels are (draft)."""
    takes = Prefetch("takes", Take.objects.filter(removed=None))
    shots = Prefetch("shots", Shot.objects.filter(removed=None).prefetch_related(takes))
    parts = Membership.objects.all()
    rows = visible(Production, user_of(request)).filter(removed=None)
    return [
        _production_card(production, user_of(request).pk)
        for production in rows.prefetch_related(shots, Prefetch("memberships", parts))
    ]


def _production_card(production: Production, user: int) -> ProductionCard:
    parts = list(production.memberships.all())
    return ProductionCard(
        id=production.pk,
        name=production.name,
        description=production.description,
        archived=production.archived is not None,
        role=next(Role(part.role).label for part in parts if part.user_id == user),
        people=len(parts),
        shots=[_shot_card(shot) for shot in production.shots.all()],
    )


def _shot_card(shot: Shot) -> ShotCard:
    takes, first, last = [], 1, 1
    for take in shot.takes.all():
        takes.append(_take_card(take))
        with suppress(Refused):
            time = reports.scene_of(take).time
            first, last = time.first, time.last
    return ShotCard(
        id=shot.pk,
        name=shot.name,
        description=shot.description,
        archived=shot.archived is not None,
        first=first,
        last=last,
        takes=takes,
    )


def _take_card(take: Take) -> TakeCard:
    """A take on the sheet; one that cannot be read says so and is empty."""
    own: dict[str, Any] = {
        "id": take.pk,
        "name": take.name,
        "description": take.description,
        "archived": take.archived is not None,
        "changed": take.changed.isoformat(),
    }
    try:
        report = reports.stage_report(take, "draft")
    except Refused as error:
        return TakeCard(**own, vessels=[], problems=told(error.problems))
    vessels = [
        StageVessel(
            stage=r["stage"],
            current=r["states"].count("current"),
            stale=r["states"].count("stale"),
            total=len(r["states"]),
            bytes=r["bytes"],
        )
        for r in report
        if r["bytes"] or not stages()[r["stage"]].on_demand(None)  # what nobody asked for is not lacking
    ]
    return TakeCard(**own, vessels=vessels)


@router.get("/starts", response=list[StartCard])
def starting_scenes(request: HttpRequest) -> list[keeping.Start]:
    """Small scenes that a shot can begin with."""
    return list(keeping.starts())


@router.post("/productions", response=Begun)
def begin_production(request: HttpRequest, wanted: NewProduction) -> Begun:
    """Begin a production; who begins it owns it."""
    made = keeping.begin_production(user_of(request), wanted.name, wanted.description)
    return Begun(kind="production", id=made.pk)


@router.post("/productions/{production_id}/shots", response=Begun)
def begin_shot(request: HttpRequest, production_id: int, wanted: NewShot) -> Begun:
    """Begin a shot, empty or from a starting scene, with its first take."""
    production = found(request, Production, production_id)
    time = {name: value for name in ("first", "last", "fps") if (value := getattr(wanted, name)) is not None}
    if wanted.first is not None and wanted.last is not None and wanted.last < wanted.first:
        raise Refused([f"These frames run backwards ({wanted.first} to {wanted.last}); swap them."])
    made = keeping.begin_shot(production, wanted.name, wanted.description, wanted.start, time, wanted.unit, wanted.up)
    return Begun(kind="shot", id=made.shot_id, take=made.pk)


@router.post("/shots/{shot_id}/takes", response=Begun)
def begin_take(request: HttpRequest, shot_id: int) -> Begun:
    """Begin an empty take in a shot."""
    made = keeping.begin_take(found(request, Shot, shot_id))
    return Begun(kind="take", id=made.pk, take=made.pk)


@router.patch("/sheet/{kind}/{key}", response=Begun)
def change(request: HttpRequest, kind: Kind, key: int, wanted: Change) -> Begun:
    """Rename, describe, put away or in another place."""
    one = found(request, KINDS[kind], key)
    given = {name: value for name, value in wanted.model_dump().items() if value is not None}
    keeping.change(one, user_of(request), given)
    return Begun(kind=kind, id=one.pk)


@router.get("/sheet/{kind}/{key}/weight", response=Weight)
def weight(request: HttpRequest, kind: Kind, key: int) -> keeping.Weight:
    """What would go with it: frames, bytes and hours of work."""
    return keeping.weight(found(request, KINDS[kind], key))


@router.post("/sheet/{kind}/{key}/duplicate", response=Begun)
def duplicate(request: HttpRequest, kind: Kind, key: int, wanted: Copy) -> Begun:
    """A copy beside it, with its frames or without."""
    made = keeping.duplicate(found(request, KINDS[kind], key), user_of(request), frames=wanted.frames)
    return Begun(kind=kind, id=made.pk, take=made.pk if isinstance(made, Take) else None)


@router.delete("/sheet/{kind}/{key}", response=Begun)
def remove(request: HttpRequest, kind: Kind, key: int) -> Begun:
    """Take it off the sheet; for a week it can be taken back."""
    one = found(request, KINDS[kind], key)
    keeping.remove(one)
    return Begun(kind=kind, id=one.pk)


@router.get("/removed", response=list[Removed])
def removed(request: HttpRequest) -> list[Removed]:
    """What can still be taken back."""
    return [
        Removed(
            kind=type(one).__name__.lower(),  # type: ignore[arg-type]
            id=one.pk,
            name=one.name,
            where=_where(one),
            removed=one.removed.isoformat(),
            until=(one.removed + keeping.KEPT).isoformat(),
        )
        for one in keeping.removed(user_of(request))
        if one.removed
    ]


def _where(one: Production | Shot | Take) -> str:
    if isinstance(one, Production):
        return ""
    return f"{production_of(one).name}, {one.shot.name}" if isinstance(one, Take) else production_of(one).name


@router.post("/sheet/{kind}/{key}/restore", response=Begun)
def restore(request: HttpRequest, kind: Kind, key: int) -> Begun:
    """Put what was removed on the sheet again."""
    one = found(request, KINDS[kind], key, removed=True)
    keeping.take_back(one, user_of(request))
    return Begun(kind=kind, id=one.pk)


@router.get("/productions/{production_id}/people", response=list[Person])
def people(request: HttpRequest, production_id: int) -> list[Person]:
    """Who has a part in a production."""
    return _people(found(request, Production, production_id))


@router.put("/productions/{production_id}/people", response=list[Person])
def give_part(request: HttpRequest, production_id: int, wanted: Person) -> list[Person]:
    """Let somebody in, or give them another role."""
    production = found(request, Production, production_id)
    keeping.give_part(production, wanted.name, Role[wanted.role.upper()])
    return _people(production)


@router.delete("/productions/{production_id}/people/{name}", response=list[Person])
def end_part(request: HttpRequest, production_id: int, name: str) -> list[Person]:
    """Somebody has no part in it any more."""
    production = found(request, Production, production_id)
    keeping.end_part(production, name)
    return _people(production)


def _people(production: Production) -> list[Person]:
    return [
        Person(name=part.user.get_username(), role=Role(part.role).label)  # type: ignore[arg-type]
        for part in keeping.people_of(production)
    ]
