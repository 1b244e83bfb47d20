"""Addresses of setting up by hand: what a gesture would do, answered while it is made."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from basin.scene import SceneError
from basin.stages.files import SceneFiles, UnusableFile
from basin.stages.flight import Flight, flight
from basin.stages.openings import Opening, openings
from basin.stages.rehearse import Rehearsed
from basin.stages.room import NoRoom, Room, find_room
from studio.errors import Refused
from studio.productions import rehearsing, services
from studio.productions.access import take_for, user_of
from studio.productions.reports import scene_of

router = Router(tags=["placing"])
Frame = Annotated[int, Field(ge=0, le=1_000_000)]
Metres = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
Point = tuple[Metres, Metres, Metres]


class FlightRequest(Schema):
    scene: dict[str, Any]
    element: int = Field(ge=0, le=10_000)
    frame: Frame | None = None


class FlightReply(Schema):
    path: list[list[float]]
    times: list[float]
    met: str
    leaves: bool
    time: float
    frame: int
    speed: float
    leaving: float
    width: float
    voxels: float
    litres_per_second: float
    litres: float


class OpeningReply(Schema):
    element: int
    middle: list[float]
    normal: list[float]
    radius: float
    loop: list[list[float]]


class RoomRequest(Schema):
    seed: Point
    level: Metres | None = None
    frame: Frame


class RoomReply(Schema):
    litres: float
    kilograms: float
    particles: int
    level: float
    height: float
    bottom: float
    runs_over: float | None
    open: str
    contours: list[list[list[float]]]


class RehearsalRequest(Schema):
    scene: dict[str, Any]
    after: Frame | None = None
    by: str = Field("speed", max_length=80)
    session: str = Field(max_length=80)


class Left(Schema):
    left: bool


class RoomFile(Schema):
    file: str


@router.post("/takes/{take_id}/flight/{quality}", response=FlightReply | None)
def stream_flight(request: HttpRequest, take_id: int, quality: str, wanted: FlightRequest) -> Flight | None:
    """How an inflow's stream flies, in a scene that need not be kept."""
    take = take_for(request, take_id)
    scene = services.check_scene_of(take, wanted.scene)
    if wanted.element >= len(scene.elements):
        raise Refused(["There is no such element."], 404)
    try:
        return flight(scene, SceneFiles(take.folder), wanted.element, services.quality_of(quality), wanted.frame)
    except (UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.get("/takes/{take_id}/openings", response=list[OpeningReply])
def found_openings(request: HttpRequest, take_id: int, frame: Frame = 0) -> list[Opening]:
    """Rims, edges and faces that a source could take the outline of."""
    take = take_for(request, take_id)
    try:
        return openings(scene_of(take), SceneFiles(take.folder), frame)
    except UnusableFile as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/room/{quality}", response=RoomReply)
def room(request: HttpRequest, take_id: int, quality: str, wanted: RoomRequest) -> Room:
    """What would fill the room about a point, up to a level or to where it runs over."""
    take = take_for(request, take_id)
    where = (scene_of(take), SceneFiles(take.folder), wanted.seed, wanted.level, wanted.frame)
    try:
        return find_room(*where, services.quality_of(quality))
    except (NoRoom, UnusableFile) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/room/{quality}/keep", response=RoomFile)
def keep_room(request: HttpRequest, take_id: int, quality: str, wanted: RoomRequest) -> RoomFile:
    """Keep the room as a mesh that a fill can have."""
    take = take_for(request, take_id)
    if wanted.level is None:
        raise Refused(["Say up to which level."])
    try:
        file = services.keep_room(take, wanted.seed, wanted.level, wanted.frame, services.quality_of(quality))
    except (NoRoom, UnusableFile) as error:
        raise Refused([str(error)]) from None
    return RoomFile(file=file)


@router.post("/takes/{take_id}/rehearse")
def rehearse(request: HttpRequest, take_id: int, wanted: RehearsalRequest) -> HttpResponse:
    """The next frame of a coarse liquid in a scene that need not be kept, packed for the viewport."""
    take = take_for(request, take_id)
    scene = services.check_scene_of(take, wanted.scene).model_dump(mode="json")
    asked = Rehearsed(take.folder, scene, wanted.after, wanted.by)
    packed = rehearsing.rehearsed((user_of(request).pk, take.pk, wanted.session), asked)
    return HttpResponse(packed, content_type="application/octet-stream")


@router.delete("/takes/{take_id}/rehearse", response=Left)
def leave_rehearsal(request: HttpRequest, take_id: int, session: str) -> Left:
    """End a rehearsal; nothing of it stays."""
    take = take_for(request, take_id)
    return Left(left=rehearsing.leave((user_of(request).pk, take.pk, session)))
