"""Addresses of productions, shots and takes."""

from __future__ import annotations

import json
import re
from dataclasses import asdict, replace
from typing import Annotated, Any, Literal

from django.http import FileResponse, HttpRequest, HttpResponse
from ninja import Field, File, Router, Schema, UploadedFile

from basin.scene import scene_schema
from basin.stages.judge import Asked
from basin.stages.preview import births as births_of_frame
from basin.stages.stage import stages
from studio.errors import Refused, Said, told
from studio.productions import history, judging, reports, services, uploads
from studio.productions.access import role_in, take_for, user_of
from studio.productions.models import Take

router = Router(tags=["productions"])
Frame = Annotated[int, Field(ge=0, le=1_000_000)]
Revision = Annotated[int, Field(ge=0, lt=2**31)]
Metres = Annotated[float, Field(ge=-1e6, le=1e6, allow_inf_nan=False)]


class StageCard(Schema):
    """A stage as it is declared."""

    name: str
    title: str
    verb: str
    seen: str
    absent: str
    letter: str
    kind: str
    colouring: str
    definition: str
    part: str
    asked_by: str
    judged: bool
    reads: list[str]
    over: str


class TakeDetail(Schema):
    id: int
    name: str
    shot: str
    production: str
    role: str
    undoable: int
    redoable: int
    unit: str
    up: str
    revision: int
    scene: dict[str, Any]
    problems: list[Said] = []
    remarks: list[Said] = []


class SceneChange(Schema):
    revision: Revision
    scene: dict[str, Any]


class AtRevision(Schema):
    revision: Revision


class TakeText(Schema):
    name: str
    shot: str
    revision: int
    text: str
    problems: list[Said]


class TextChange(Schema):
    revision: Revision
    text: str


class CostReply(Schema):
    memory: int
    disk: int


class TimeReply(Schema):
    likely: float
    least: float
    most: float


class ForecastReply(Schema):
    quality: str
    voxel_size: float
    voxels: int
    particles: int
    memory: int
    disk: int
    frames: int
    fits: bool
    costs: dict[str, CostReply]
    times: dict[str, TimeReply]
    seconds: TimeReply
    problems: list[Said]
    remarks: list[Said]


class Voxel(Schema):
    voxel_size: float


class Measure(Schema):
    name: str
    label: str
    unit: str


class StageReport(Schema):
    stage: str
    first: int
    states: list[str]
    readings: list[dict[str, float]]
    measures: list[Measure]
    errors: dict[str, str]
    bytes: int
    seconds: float
    concerns: bool


class DeliveryReport(Schema):
    name: str
    format: str
    current: int
    stale: int
    total: int
    bytes: int
    folder: str
    points: int | None
    fullest: int | None


class JudgeRequest(Schema):
    scene: dict[str, Any]
    frame: Frame
    middle: tuple[Metres, Metres, Metres] | None = None
    reach: float = Field(1.0, gt=0, lt=1e6)
    coarser: float = Field(1.0, ge=1, le=16)
    by: str = Field("", max_length=80)
    session: str = Field("", max_length=80)


class BirthsRequest(Schema):
    scene: dict[str, Any]
    frame: Frame
    lived: int = Field(0, ge=0, le=48)
    session: str = Field("", max_length=80)


class FreezeRequest(Schema):
    scene: dict[str, Any]
    frame: Frame
    name: str = "frozen"


class Frozen(Schema):
    file: str
    triangles: int
    bytes: int


class MeshPart(Schema):
    name: str
    polygons: int


class MeshReply(Schema):
    file: str
    unit: str
    up: str
    size: list[float]
    low: list[float]
    triangles: int
    open_edges: int
    proposed_unit: str | None
    frames: int
    animated: bool
    told_unit: str | None
    told_up: str | None
    parts: list[MeshPart]


class PlacedReply(Schema):
    matrices: list[list[float]]
    shown: list[bool]
    deforms: bool


class Camera(Schema):
    camera: dict[str, Any]
    unit: str
    up: str
    told: bool


class Seen(Schema):
    eye: list[float]
    target: list[float]
    angle: float
    roll: float


class Kept(Schema):
    file: str


class Sent(Schema):
    upload: str
    files: int


class Reading(Schema):
    read: int


class Freed(Schema):
    bytes: int


def _plain(text: bytes) -> HttpResponse:
    """JSON that is at hand."""
    return HttpResponse(text, content_type="application/json")


@router.get("/scene-schema", response=dict[str, Any])
def schema(request: HttpRequest) -> dict[str, Any]:
    """JSON schema of scenes, from which the settings panel is made."""
    return scene_schema()


@router.get("/stages", response=list[StageCard])
def declared_stages(request: HttpRequest) -> list[StageCard]:
    """All stages, in their order."""
    names = [*StageCard.model_fields]
    return [StageCard(**{name: getattr(stage, name) for name in names}) for stage in stages().values()]


def _detail(request: HttpRequest, take: Take, said: reports.Checked) -> TakeDetail:
    role = role_in(user_of(request), take.shot.production)
    undoable, redoable = history.steps(take)
    return TakeDetail(
        id=take.pk,
        name=take.name,
        shot=take.shot.name,
        production=take.shot.production.name,
        role=role.label if role else "",
        undoable=undoable,
        redoable=redoable,
        unit=take.shot.unit,
        up=take.shot.up,
        revision=take.revision,
        scene=reports.scene_of(take).model_dump(mode="json"),
        problems=told(said.problems),
        remarks=told(said.remarks),
    )


@router.get("/takes/{take_id}", response=TakeDetail)
def take(request: HttpRequest, take_id: int) -> TakeDetail:
    """A take with its scene."""
    found = take_for(request, take_id)
    return _detail(request, found, reports.take_forecast(found, "draft")[1])


@router.put("/takes/{take_id}/scene", response=TakeDetail)
def change_scene(request: HttpRequest, take_id: int, change: SceneChange) -> TakeDetail:
    """Keep a changed scene."""
    found = take_for(request, take_id)
    return _detail(request, *services.keep_scene(found, change.scene, change.revision, user_of(request)))


@router.post("/takes/{take_id}/undo", response=TakeDetail)
def undo(request: HttpRequest, take_id: int, seen: AtRevision) -> TakeDetail:
    """Undo the newest edit, whoever made it."""
    found = take_for(request, take_id)
    return _detail(request, *services.step_scene(found, -1, seen.revision, user_of(request)))


@router.post("/takes/{take_id}/redo", response=TakeDetail)
def redo(request: HttpRequest, take_id: int, seen: AtRevision) -> TakeDetail:
    """Do again what was undone."""
    found = take_for(request, take_id)
    return _detail(request, *services.step_scene(found, 1, seen.revision, user_of(request)))


@router.get("/takes/{take_id}/text", response=TakeText)
def take_as_text(request: HttpRequest, take_id: int) -> TakeText:
    """A take's document as it was kept, whether it can be used or not."""
    found = take_for(request, take_id)
    text = json.dumps(found.scene, indent=2, ensure_ascii=False)
    problems: list[Said] = []
    try:
        reports.scene_of(found)
    except Refused as error:
        problems = told(error.problems)
    return TakeText(name=found.name, shot=found.shot.name, revision=found.revision, text=text, problems=problems)


@router.put("/takes/{take_id}/text", response=TakeDetail)
def change_text(request: HttpRequest, take_id: int, change: TextChange) -> TakeDetail:
    """Keep a document that was changed as text."""
    found = take_for(request, take_id)
    return _detail(request, *services.keep_text(found, change.text, change.revision, user_of(request)))


@router.get("/takes/{take_id}/forecast/{quality}", response=ForecastReply)
def forecast(request: HttpRequest, take_id: int, quality: str) -> ForecastReply:
    """What a run would cost."""
    found = take_for(request, take_id)
    expected, said = reports.take_forecast(found, services.quality_of(quality))
    whole: dict[str, Any] = {
        "memory": expected.memory,
        "disk": expected.disk,
        "fits": expected.fits,
        "seconds": asdict(expected.seconds),
    }
    return ForecastReply(**{**asdict(expected), **whole}, problems=told(said.problems), remarks=told(said.remarks))


@router.get("/takes/{take_id}/budget/{quality}", response=Voxel)
def budget(
    request: HttpRequest, take_id: int, quality: str, what: Literal["particles", "memory", "seconds"], value: float
) -> Voxel:
    """The final voxel size that a number of particles, bytes or seconds allows."""
    found = take_for(request, take_id)
    return Voxel(voxel_size=reports.voxel_for_budget(found, services.quality_of(quality), what, value))


@router.get("/takes/{take_id}/stages/{quality}", response=list[StageReport])
def stage_reports(request: HttpRequest, take_id: int, quality: str) -> HttpResponse:
    """State of every frame of every stage."""
    found = take_for(request, take_id)
    return _plain(reports.stage_report_text(found, services.quality_of(quality)))


@router.delete("/takes/{take_id}/stages/{quality}/{stage}", response=Freed)
def delete_stage(request: HttpRequest, take_id: int, quality: str, stage: str) -> Freed:
    """Delete a stage's frames."""
    found = take_for(request, take_id)
    freed = services.delete_stage(found, services.quality_of(quality), services.stage_of(stage).name)
    return Freed(bytes=freed)


@router.get("/takes/{take_id}/view/{quality}/{stage}/{frame}")
def view(
    request: HttpRequest,
    take_id: int,
    quality: str,
    stage: str,
    frame: int,
    budget: int = 400_000,
    by: str = "",
) -> HttpResponse:
    """A frame packed for the viewport, coloured by an attribute; immutable under its key."""
    found = take_for(request, take_id)
    where = (found, services.quality_of(quality), services.stage_of(stage).name, frame)
    tag = f'"{services.frame_key(*where)}-{budget}-{by}-{services.look_tag(found)}"'
    if request.headers.get("If-None-Match") == tag:
        return HttpResponse(status=304, headers={"ETag": tag})
    packed = services.view(*where, max(1, min(budget, 5_000_000)), by)
    headers = {"ETag": tag, "Cache-Control": "private, no-cache"}
    return HttpResponse(packed, content_type="application/octet-stream", headers=headers)


def _asked(take: Take, quality: str, scene: dict[str, Any], frame: int) -> Asked:
    services.check_scene_of(take, scene)
    return Asked(take.folder, take.cache_folder(services.quality_of(quality)), scene, quality, frame)


@router.post("/takes/{take_id}/judge/{quality}")
def judge(request: HttpRequest, take_id: int, quality: str, wanted: JudgeRequest) -> HttpResponse:
    """A frame meshed with the settings of a scene that need not be kept, packed for the viewport with its facts."""
    found = take_for(request, take_id)
    how = wanted.model_dump(include={"middle", "reach", "coarser", "by"})
    asked = replace(_asked(found, quality, wanted.scene, wanted.frame), **how)
    packed = judging.judged(found, (user_of(request).pk, wanted.session), asked)
    return HttpResponse(packed, content_type="application/octet-stream")


@router.post("/takes/{take_id}/births/{quality}")
def births(request: HttpRequest, take_id: int, quality: str, wanted: BirthsRequest) -> HttpResponse:
    """Births of a frame by the layers of a scene that need not be kept, packed for the viewport."""
    found = take_for(request, take_id)
    asked = replace(_asked(found, quality, wanted.scene, wanted.frame), lived=wanted.lived)
    packed = judging.judged(found, (user_of(request).pk, wanted.session), asked, births_of_frame)
    return HttpResponse(packed, content_type="application/octet-stream")


@router.post("/takes/{take_id}/freeze/{quality}", response=Frozen)
def freeze(request: HttpRequest, take_id: int, quality: str, wanted: FreezeRequest) -> Frozen:
    """Keep a frame's surface as a mesh that others can use while the rest is tuned."""
    found = take_for(request, take_id)
    if not re.fullmatch(r"\w[\w -]{0,60}", wanted.name):
        raise Refused(["A name is made of letters, digits, blanks and dashes."])
    file, triangles = judging.frozen(found, _asked(found, quality, wanted.scene, wanted.frame), wanted.name)
    return Frozen(file=file, triangles=triangles, bytes=(found.folder / file).stat().st_size)


@router.get("/takes/{take_id}/frozen", response=list[str])
def frozen(request: HttpRequest, take_id: int) -> list[str]:
    """Names of the surfaces that were frozen."""
    return [p.name for p in judging.frozen_files(take_for(request, take_id))]


@router.get("/takes/{take_id}/frozen/{name}")
def frozen_file(request: HttpRequest, take_id: int, name: str) -> FileResponse:
    """A frozen surface."""
    found = take_for(request, take_id)
    for path in judging.frozen_files(found):
        if path.name == name:
            return FileResponse(path.open("rb"), as_attachment=True, filename=name)
    raise Refused(["There is no such frozen surface."], 404)


@router.get("/takes/{take_id}/elements/{index}/mesh")
def element_mesh(request: HttpRequest, take_id: int, index: int, frame: int | None = None) -> HttpResponse:
    """An element's mesh packed for the viewport; at a frame if it deforms."""
    found = take_for(request, take_id)
    return HttpResponse(services.element_view(found, index, frame), content_type="application/octet-stream")


@router.get("/takes/{take_id}/elements/{index}/solid/{quality}/{frame}")
def solver_solid(request: HttpRequest, take_id: int, index: int, quality: str, frame: int) -> HttpResponse:
    """A collider as the solver's grid has it, packed for the viewport."""
    found = take_for(request, take_id)
    packed = services.solid_view(found, index, services.quality_of(quality), frame)
    return HttpResponse(packed, content_type="application/octet-stream")


@router.get("/takes/{take_id}/poses", response=list[PlacedReply])
def poses(request: HttpRequest, take_id: int) -> HttpResponse:
    """Matrices of every element, one per frame where it moves, and whether it is shown."""
    return _plain(reports.poses_text(take_for(request, take_id)))


@router.get("/takes/{take_id}/camera", response=list[Seen])
def camera(request: HttpRequest, take_id: int) -> list[reports.Seen]:
    """The shot camera, once if it is still, else at every frame."""
    return reports.seen_from(take_for(request, take_id))


@router.post("/takes/{take_id}/uploads", response=Sent)
def send_files(request: HttpRequest, take_id: int, file: File[list[UploadedFile]], upload: str = "") -> Sent:
    """Send files, to an upload that has begun if one is named; they are read when something is made of them."""
    found = take_for(request, take_id)
    upload = upload or uploads.begun(found)
    return Sent(upload=upload, files=uploads.received(found, upload, file))


@router.get("/takes/{take_id}/uploads/{upload}", response=Reading)
def how_far(request: HttpRequest, take_id: int, upload: str) -> Reading:
    """How many files of an upload have been read."""
    take_for(request, take_id)
    return Reading(read=uploads.read.get(upload, 0))


@router.post("/takes/{take_id}/meshes", response=MeshReply)
def import_mesh(request: HttpRequest, take_id: int, upload: str, unit: str = "m", up: str = "y") -> MeshReply:
    """Make a mesh of an upload, or one that deforms of its numbered files; elements may then name it."""
    found = take_for(request, take_id)
    _check_axes(unit, up)
    return MeshReply(**asdict(services.keep_mesh(found, upload, unit, up)))


@router.post("/takes/{take_id}/images", response=Kept)
def import_images(request: HttpRequest, take_id: int, upload: str) -> Kept:
    """Make an image of an upload, or a numbered sequence of them, for the colours of a source."""
    found = take_for(request, take_id)
    return Kept(file=services.keep_images(found, upload))


@router.post("/takes/{take_id}/camera", response=Camera)
def import_camera(request: HttpRequest, take_id: int, upload: str, unit: str = "", up: str = "") -> Camera:
    """Read a camera file, in its own unit and axes if none are chosen; what comes back can be put into the scene."""
    found = take_for(request, take_id)
    _check_axes(unit or "m", up or "y")
    facts = services.camera_of(found, upload, unit or None, up or None)
    return Camera(camera=facts.camera.model_dump(mode="json"), unit=facts.unit, up=facts.up, told=facts.told)


@router.get("/takes/{take_id}/meshes/facts", response=MeshReply)
def mesh_facts(request: HttpRequest, take_id: int, file: str, unit: str = "m", up: str = "y") -> MeshReply:
    """A kept mesh looked at under another unit or axis."""
    found = take_for(request, take_id)
    _check_axes(unit, up)
    return MeshReply(**asdict(services.mesh_facts(found, file, unit, up)))


def _check_axes(unit: str, up: str) -> None:
    if unit not in ("m", "cm", "mm", "in", "ft") or up not in ("x", "y", "z"):
        raise Refused(["Units are m, cm, mm, in and ft; the up axis is x, y or z."])


@router.get("/takes/{take_id}/deliveries/{quality}", response=list[DeliveryReport])
def deliveries(request: HttpRequest, take_id: int, quality: str) -> list[DeliveryReport]:
    """What of each delivery is written and current."""
    found = take_for(request, take_id)
    return [DeliveryReport(**r) for r in reports.delivery_report(found, services.quality_of(quality))]


@router.get("/takes/{take_id}/deliveries/{quality}/download")
def download(request: HttpRequest, take_id: int, quality: str, name: str) -> FileResponse:
    """A delivery's files and its manifest as a zip."""
    found = take_for(request, take_id)
    path = services.delivery_zip(found, services.quality_of(quality), name)
    handle = path.open("rb")
    path.unlink()  # the open file goes on to exist until it is sent
    return FileResponse(handle, as_attachment=True, filename=f"{found.shot.name}-{name}.zip".replace(" ", "_"))
