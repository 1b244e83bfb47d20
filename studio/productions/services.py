"""What can be done with productions, shots and takes."""

from __future__ import annotations

import json
import re
import shutil
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from basin.cache import Cache, DamagedFrame, StageBusy
from basin.scene import Scene, SceneError, parse_scene
from basin.stages import files
from basin.stages.advice import checked
from basin.stages.assembly import Checked
from basin.stages.bodies import bodies
from basin.stages.deliver import DeliveryFailure, delivery_named
from basin.stages.files import SceneFiles, UnusableFile
from basin.stages.gestures.room import room_mesh
from basin.stages.imports import CameraFacts, MeshFacts, images_digest, import_camera, import_mesh, stand_in
from basin.stages.keys import digest
from basin.stages.placing import backdrop, seen_mesh
from basin.stages.solid import solver_solid
from basin.stages.stage import Look, Stage, named, usual
from basin.stages.view import pack_element, pack_solid
from studio.answers import check_plain
from studio.errors import Refused
from studio.productions import history, uploads
from studio.productions.keeping import QUALITIES
from studio.productions.models import Production, Role, Take
from studio.productions.reports import delivery_folder, scene_of


def check_scene_of(take: Take, document: dict[str, Any]) -> Scene:
    """A scene document that could be kept for a take; Refused if it could not."""
    try:
        scene = parse_scene(document)
    except SceneError as error:
        raise Refused(error.problems) from None
    _check_joined(take, scene)
    return scene


def keep_scene(take: Take, document: dict[str, Any], revision: int, user: User) -> tuple[Take, Checked]:
    """Store a changed scene; returns the take and what is said of it.

    The document itself must be valid. Refused (409) if somebody else changed it since `revision`.
    """
    scene = check_scene_of(take, document)
    held = history.kept(take, scene.model_dump(mode="json"), revision, user)
    return held, checked(scene, SceneFiles(take.folder))


def step_scene(take: Take, by: int, revision: int, user: User) -> tuple[Take, Checked]:
    """Undo an edit (-1) or do it again (1); returns the take and what is said of it."""
    with transaction.atomic():
        held = history.stepped(take, by, revision, user)
        scene = scene_of(held)  # one that cannot be used stays undone
    return held, checked(scene, SceneFiles(take.folder))


def keep_text(take: Take, text: str, revision: int, user: User) -> tuple[Take, Checked]:
    """`keep_scene` of a document as text; Refused if it is none."""
    try:
        document = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise Refused([f"This is not a JSON document ({error})."]) from None
    check_plain(document)
    if not isinstance(document, dict):
        raise Refused(["The document must be a JSON object."])
    return keep_scene(take, document, revision, user)


def _check_joined(take: Take, scene: Scene) -> None:
    """Refused if a scene joins caches of another production, or folders that are no take's cache."""
    for joined in scene.surface.caches:
        named = re.fullmatch(r"\.\./take-(\d+)/(draft|proof|final)", joined.folder)
        if joined.folder and not (
            named and Take.objects.filter(pk=int(named[1]), shot__production=take.shot.production_id).exists()
        ):
            raise Refused([f"{joined.folder}: is no take of this production; choose one from the list."])


def quality_of(name: str) -> str:
    """A quality's name, checked."""
    if name not in QUALITIES:
        raise Refused([f"{name!r} is no quality; there are draft, proof and final."], 404)
    return name


def stage_of(name: str) -> Stage:
    """A stage by its name; Refused (404) if there is none."""
    try:
        return named([name])[0]
    except LookupError as error:
        raise Refused([f"{error.args[0]}."], 404) from None


def frame_key(take: Take, quality: str, stage: str, frame: int) -> str:
    """Key of a frame that is there; Refused (404) if it is not."""
    record = Cache(take.cache_folder(quality)).stage(stage).records().get(frame)
    if record is None or record.error:
        raise Refused([f"{stage_of(stage).title} frame {frame} is not there yet."], 404)
    return record.key


def look_tag(take: Take) -> str:
    """Tells looks of a take's liquids from each other."""
    found = bodies(scene_of(take))
    return digest([found.light.tolist(), found.mirrors.tolist(), found.own.tolist()])[:12]


def view(take: Take, quality: str, stage: str, frame: int, budget: int, by: str) -> bytes:
    """A frame packed for the viewport, coloured by an attribute."""
    scene = scene_of(take)
    made = frozenset(one.name for one in usual(scene))
    look = Look(by, budget, scene.time.shot_time(frame), bodies(scene), made)
    try:
        return stage_of(stage).pack(Cache(take.cache_folder(quality)).stage(stage), frame, look)
    except DamagedFrame as error:
        raise Refused([f"{error}; the next run makes it again."], 410) from None


def delete_stage(take: Take, quality: str, stage: str) -> int:
    """Delete a stage's frames; returns the bytes freed."""
    try:
        return Cache(take.cache_folder(quality)).stage(stage).delete()
    except StageBusy:
        raise Refused(["A run is writing this stage; stop it first."], 409) from None


def _scene_with(take: Take, index: int) -> Scene:
    """The take's scene; Refused (404) if it has no element of that index."""
    scene = scene_of(take)
    if not 0 <= index < len(scene.elements):
        raise Refused(["There is no such element."], 404)
    return scene


def element_view(take: Take, index: int, frame: int | None) -> bytes:
    """An element's mesh packed for the viewport, in its own frame; at a frame if it deforms."""
    scene = _scene_with(take, index)
    try:
        return pack_element(seen_mesh(take.folder, scene, index, frame))
    except ValueError as error:
        raise Refused([str(error)]) from None


def solid_view(take: Take, index: int, quality: str, frame: int) -> bytes:
    """A collider as the solver's grid has it at a frame, packed for the viewport."""
    scene = _scene_with(take, index)
    try:
        return pack_solid(solver_solid(scene, SceneFiles(take.folder), index, frame, quality))
    except ValueError as error:
        raise Refused([str(error)]) from None


def keep_mesh(take: Take, upload: str, unit: str, up: str) -> MeshFacts:
    """Keep an uploaded mesh, or a numbered sequence of one, beside the take's scene and say what it is.

    Refused if the files are no usable mesh; then nothing is kept.
    """

    def tell(count: int) -> None:
        uploads.read[upload] = count

    with uploads.taken(take, upload) as (held, file):
        facts = import_mesh(held / file, unit, up, scene_of(take), tell)
        return facts.at(_kept(take, "meshes", held, file, facts.digest))


def camera_of(take: Take, upload: str, unit: str | None, up: str | None) -> CameraFacts:
    """The camera in an uploaded file; Refused if there is none."""
    with uploads.taken(take, upload) as (held, file):
        return import_camera(held / file, unit, up, scene_of(take))


def keep_images(take: Take, upload: str) -> str:
    """Keep an uploaded image, or a numbered sequence, beside the take's scene; returns the name for the scene.

    Refused if a file is no usable image; then nothing is kept.
    """
    with uploads.taken(take, upload) as (held, file):
        return _kept(take, "images", held, file, images_digest(held, file))


def _kept(take: Take, kind: str, held: Path, file: str, digest: str) -> str:
    """Move held files to a place named by their content; returns it relative to the take's folder."""
    (take.folder / kind).mkdir(parents=True, exist_ok=True)
    target = take.folder / kind / f"{Path(file).stem.rstrip('#._-') or kind}-{digest[:8]}"
    if "#" not in file:
        target = target.with_name(target.name + Path(file).suffix.lower())
        shutil.move(held / file, target)
        return f"{kind}/{target.name}"
    if target.exists():
        shutil.rmtree(target)
    shutil.move(held, target)
    return f"{kind}/{target.name}/{file}"


def keep_room(take: Take, seed: tuple[float, float, float], level: float, frame: int, quality: str) -> str:
    """Keep the room about a point as a mesh beside the scene; returns its name. NoRoom if there is none."""
    mesh = room_mesh(scene_of(take), SceneFiles(take.folder), seed, level, frame, quality)
    file = f"meshes/room-{mesh.digest()[:12]}.ply"
    files.keep_mesh(take.folder / file, mesh.position, mesh.triangle)
    return file


def stand_in_for(take: Take, index: int, triangles: int) -> dict[str, Any]:
    """Make and keep a coarser mesh for an element's mesh; the element's shape with it. Refused if there can be none."""
    shape = getattr(_scene_with(take, index).elements[index], "shape", None)
    if shape is None or shape.kind != "mesh":
        raise Refused(["Only a mesh has a stand-in."])
    try:
        mesh = stand_in(shape, SceneFiles(take.folder), triangles)
    except UnusableFile as error:
        raise Refused([str(error)]) from None
    file = f"meshes/stand-in-{mesh.digest()[:12]}.ply"
    files.keep_mesh(take.folder / file, mesh.position, mesh.triangle)
    return {**shape.model_dump(mode="json"), "file": file, "fine": shape.fine or shape.file}


def backdrop_of(take: Take, frame: int) -> bytes:
    """The image behind the shot camera at a frame, as PNG; Refused (404) if there is none."""
    scene = scene_of(take)
    if not scene.camera.backdrop:
        raise Refused(["There is no backdrop."], 404)
    try:
        return backdrop(take.folder, scene, frame)
    except UnusableFile as error:
        raise Refused([str(error)]) from None


def mesh_facts(take: Take, file: str, unit: str, up: str) -> MeshFacts:
    """Facts about a kept mesh under another unit or axis."""
    path = (take.folder / file).resolve()
    if not path.is_relative_to(take.folder.resolve()):
        raise Refused(["That mesh is not part of this take."], 404)
    try:
        return import_mesh(path, unit, up, scene_of(take)).at(file)
    except ValueError as error:
        raise Refused([str(error)]) from None


def delivery_zip(take: Take, quality: str, name: str) -> Path:
    """A zip of a delivery's files and its manifest; the caller deletes it.

    Refused if there is no such delivery, or nothing of it has been written.
    """
    try:
        delivery_named(scene_of(take), name)
    except DeliveryFailure as error:
        raise Refused([str(error)], 404) from None
    folder = delivery_folder(take, quality, name)
    files = [
        p for p in sorted(folder.glob("*")) if p.is_file() and not p.name.startswith(".") and ".part" not in p.name
    ]
    if not files:
        raise Refused([f"Nothing of {name!r} has been written at {quality} yet; deliver it first."], 409)
    with tempfile.NamedTemporaryFile(dir=take.folder, suffix=".zip", delete=False) as target:
        path = Path(target.name)
    with zipfile.ZipFile(path, "w") as archive:
        for file in files:
            archive.write(file, file.name)
    return path


def load_demo(folder: Path, production: str, people: list[User]) -> list[Take]:
    """Put the demo production in place; returns takes that are new, each shot's first ones before the others.

    `SHOT.json` is a shot's first take, `SHOT.name-of-it.json` another one.
    """
    home, _ = Production.objects.get_or_create(name=production)
    home.members.add(*people, through_defaults={"role": Role.OWNER})
    fresh: list[Take] = []
    had = set(home.shots.values_list("name", flat=True))
    files = sorted(folder.glob("TM0*.json"), key=lambda path: ("." in path.stem, path.stem))
    for path in files:
        document = json.loads(path.read_text(encoding="utf-8"))
        if document["name"] in had:
            continue
        shot, _ = home.shots.get_or_create(name=document["name"])
        name = path.stem.partition(".")[2].replace("-", " ") or "first light"
        take = Take.objects.create(shot=shot, name=name, scene=parse_scene(document).model_dump(mode="json"))
        shutil.copytree(folder / "meshes", take.folder / "meshes", dirs_exist_ok=True)
        fresh.append(take)
    return fresh
