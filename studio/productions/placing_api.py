"""Addresses of setting up by hand: what a gesture would do, answered while it is made."""

from __future__ import annotations

from typing import Annotated, Any

from django.http import HttpRequest, HttpResponse
from ninja import Field, Router, Schema

from basin.scene import Scene, SceneError
from basin.scene.rescale import Keeps, lasting, rescaled
from basin.stages.files import SceneFiles, UnusableFile
from basin.stages.gestures.filling import Filling, Given, NotFilled, filling, solved
from basin.stages.gestures.fit import Fitted, fitted
from basin.stages.gestures.flight import Flight, flight
from basin.stages.gestures.numbers import numbers
from basin.stages.gestures.openings import Opening, openings
from basin.stages.gestures.pushes import Pushes, pushes
from basin.stages.gestures.rehearse import Rehearsed
from basin.stages.gestures.room import NoRoom, Room, find_room
from basin.stages.regime import Regime
from basin.stages.sea_told import SeaTold, sea_told
from studio.errors import Refused
from studio.productions import rehearsing, services
from studio.productions.access import take_for, user_of
from studio.productions.reports import scene_of

router = Router(tags=["placing"])
Frame = Annotated[int, Field(ge=0, le=1_000_000)]
Metres = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]
Seconds = Annotated[float, Field(gt=0, le=1e6, allow_inf_nan=False)]
Point = tuple[Metres, Metres, Metres]


class FlightRequest(Schema):
    scene: dict[str, Any]
    element: int = Field(ge=0, le=10_000)
    frame: Frame | None = None


class WavesRequest(Schema):
    """A scene as it is on the page."""

    scene: dict[str, Any]


class RegimeRequest(FlightRequest):
    length: Seconds | None = None
    speed: Seconds | None = None


class FillingRequest(FlightRequest):
    level: Metres | None = None


class SolveRequest(FillingRequest):
    given: Given
    value: Seconds


class ElementReply(Schema):
    element: dict[str, Any]


class StandInRequest(Schema):
    element: int = Field(ge=0, le=10_000)
    triangles: int = Field(ge=1, le=10_000_000)


class ShapeReply(Schema):
    shape: dict[str, Any]


class RescaledReply(Schema):
    factor: float
    scene: dict[str, Any]


class RoomRequest(Schema):
    seed: Point
    level: Metres | None = None
    frame: Frame


class RehearsalRequest(Schema):
    scene: dict[str, Any]
    after: Frame | None = None
    by: str = Field("speed", max_length=80)
    start: Frame | None = None
    quality: str = Field("draft", max_length=10)
    session: str = Field(max_length=80)


class Left(Schema):
    left: bool


class RoomFile(Schema):
    file: str


@router.post("/takes/{take_id}/flight/{quality}", response=Flight | None)
def stream_flight(request: HttpRequest, take_id: int, quality: str, wanted: FlightRequest) -> Flight | None:
    """How an inflow's stream flies, in a scene that need not be kept."""
    scene, files = _scene_with(request, take_id, wanted)
    try:
        return flight(scene, files, wanted.element, services.quality_of(quality), wanted.frame)
    except (UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/filling/{quality}", response=Filling | None)
def filled(request: HttpRequest, take_id: int, quality: str, wanted: FillingRequest) -> Filling | None:
    """What an inflow fills, in a scene that need not be kept, and when it is full."""
    scene, files = _scene_with(request, take_id, wanted)
    try:
        return filling(scene, files, wanted.element, services.quality_of(quality), wanted.level)
    except (UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/filling/{quality}/solve", response=ElementReply)
def solve_filling(request: HttpRequest, take_id: int, quality: str, wanted: SolveRequest) -> ElementReply:
    """An inflow's settings for a speed, a rate, litres in all, or the time at which what it fills is full."""
    scene, files = _scene_with(request, take_id, wanted)
    given: Given = wanted.given
    try:
        asked = (services.quality_of(quality), given, wanted.value, wanted.level)
        return ElementReply(element=solved(scene, files, wanted.element, *asked))
    except (NotFilled, UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/pushes/{quality}", response=Pushes)
def shown_pushes(request: HttpRequest, take_id: int, quality: str, wanted: FlightRequest) -> Pushes:
    """What a force does, in a scene that need not be kept: lines along its push."""
    scene, _ = _scene_with(request, take_id, wanted)
    frame = scene.time.first if wanted.frame is None else wanted.frame
    return pushes(scene, wanted.element, frame, services.quality_of(quality))


@router.get("/takes/{take_id}/fit/{quality}", response=Fitted | None)
def fitted_domain(request: HttpRequest, take_id: int, quality: str) -> Fitted | None:
    """The domain that the scene needs."""
    take = take_for(request, take_id)
    try:
        return fitted(scene_of(take), SceneFiles(take.folder), services.quality_of(quality))
    except (UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.get("/takes/{take_id}/lasting", response=RescaledReply)
def lasting_scene(
    request: HttpRequest,
    take_id: int,
    action: Seconds,
    seconds: Seconds,
    alike: bool = False,
    keeps: Keeps = "froude",
) -> RescaledReply:
    """The scene at the size at which an action that takes some seconds takes others; nothing is kept.

    With a liquid that looks `alike` there, or the same one, of which a number is kept.
    """
    scene = scene_of(take_for(request, take_id))
    try:
        factor = lasting(action, seconds, keeps)
        return RescaledReply(factor=factor, scene=rescaled(scene, factor, alike, keeps).model_dump(mode="json"))
    except (ValueError, SceneError) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/regime/{quality}", response=Regime)
def regime_of(request: HttpRequest, take_id: int, quality: str, wanted: RegimeRequest) -> Regime:
    """What decides the look of a source's liquid, in a scene that need not be kept.

    Of what the source itself does, or of a length (m) and a speed (m/s, as seen).
    """
    scene, files = _scene_with(request, take_id, wanted)
    asked = (services.quality_of(quality), wanted.length, wanted.speed)
    try:
        return numbers(scene, files, wanted.element, *asked)
    except (UnusableFile, SceneError) as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/waves/{quality}", response=SeaTold)
def waves_of(request: HttpRequest, take_id: int, quality: str, wanted: WavesRequest) -> SeaTold:
    """What a scene's sea is by the numbers, of a scene that need not be kept."""
    scene = services.check_scene_of(take_for(request, take_id), wanted.scene)
    if not scene.sea.made:
        raise Refused(["This scene has no sea."], 422)
    return sea_told(scene, services.quality_of(quality))


@router.post("/takes/{take_id}/standin", response=ShapeReply)
def make_stand_in(request: HttpRequest, take_id: int, wanted: StandInRequest) -> ShapeReply:
    """A coarser mesh that acts in the place of an element's, which is shown and delivered still."""
    take = take_for(request, take_id)
    return ShapeReply(shape=services.stand_in_for(take, wanted.element, wanted.triangles))


@router.get("/takes/{take_id}/backdrop/{frame}")
def backdrop(request: HttpRequest, take_id: int, frame: int) -> HttpResponse:
    """The image behind the shot camera at a frame."""
    return HttpResponse(services.backdrop_of(take_for(request, take_id), frame), content_type="image/png")


def _scene_with(request: HttpRequest, take_id: int, wanted: FlightRequest) -> tuple[Scene, SceneFiles]:
    """A scene that need not be kept, and its files; Refused (404) if it has no such element."""
    take = take_for(request, take_id)
    scene = services.check_scene_of(take, wanted.scene)
    if wanted.element >= len(scene.elements):
        raise Refused(["There is no such element."], 404)
    return scene, SceneFiles(take.folder)


@router.get("/takes/{take_id}/openings", response=list[Opening])
def found_openings(request: HttpRequest, take_id: int, frame: Frame = 0) -> list[Opening]:
    """Rims, edges and faces that a source could take the outline of."""
    take = take_for(request, take_id)
    try:
        return openings(scene_of(take), SceneFiles(take.folder), frame)
    except UnusableFile as error:
        raise Refused([str(error)]) from None


@router.post("/takes/{take_id}/room/{quality}", response=Room)
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
    quality = services.quality_of(wanted.quality)
    cached = (take.cache_folder(quality), quality, wanted.start)
    asked = Rehearsed(take.folder, scene, wanted.after, wanted.by, *cached)
    packed = rehearsing.rehearsed((user_of(request).pk, take.pk, wanted.session), asked)
    return HttpResponse(packed, content_type="application/octet-stream")


@router.delete("/takes/{take_id}/rehearse", response=Left)
def leave_rehearsal(request: HttpRequest, take_id: int, session: str) -> Left:
    """End a rehearsal; nothing of it stays."""
    take = take_for(request, take_id)
    return Left(left=rehearsing.leave((user_of(request).pk, take.pk, session)))
