"""Beginning, copying, ordering, putting away and taking off the sheet."""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from basin.scene import SceneError, parse_scene
from studio.errors import Refused
from studio.productions import reports
from studio.productions.access import visible
from studio.productions.models import Membership, Production, Role, Shot, Take

KEPT = timedelta(days=7)  # that what is removed can be taken back
QUALITIES = ("draft", "proof", "final")
STARTS = Path(settings.ROOT) / "demo" / "starts"
MARGIN = 500_000_000  # bytes that stay free on the disk
T = TypeVar("T", Production, Shot, Take)


@dataclass(frozen=True)
class Start:
    """A small scene that a shot can begin with."""

    name: str
    title: str
    says: str
    first: int
    last: int
    fps: float
    folder: Path

    def document(self) -> dict[str, Any]:
        """Its scene."""
        document: dict[str, Any] = json.loads((self.folder / "scene.json").read_text(encoding="utf-8"))
        return document


@cache
def starts() -> tuple[Start, ...]:
    """The starting scenes, in their order."""
    found = []
    for entry in json.loads((STARTS / "index.json").read_text(encoding="utf-8")):
        folder = STARTS / entry["name"]
        time = parse_scene(json.loads((folder / "scene.json").read_text(encoding="utf-8"))).time
        found.append(Start(**entry, first=time.first, last=time.last, fps=time.fps, folder=folder))
    return tuple(found)


def empty() -> dict[str, Any]:
    """The scene of an empty shot."""
    document: dict[str, Any] = json.loads((STARTS / "empty.json").read_text(encoding="utf-8"))
    return document


def begin_production(user: User, name: str, description: str) -> Production:
    """A production of somebody's own."""
    with transaction.atomic():
        made = Production(description=description, position=_next(Production.objects.filter(members=user)))
        made.name = _free_name(name, _beside(made, user))
        made.save()
        Membership.objects.create(production=made, user=user, role=Role.OWNER)
    return made


def begin_shot(
    production: Production, name: str, description: str, start: str, time: dict[str, Any], unit: str, up: str
) -> Take:
    """A shot with its first take: empty, or one of the starting scenes."""
    begun = next((s for s in starts() if s.name == start), None)
    if start and begun is None:
        raise Refused(["There is no such starting scene; choose one from the list."])
    document: dict[str, Any] = begun.document() if begun else empty()
    with transaction.atomic():
        Production.objects.select_for_update().get(pk=production.pk)
        shot = Shot(production=production, description=description, unit=unit, up=up)
        shot.position = _next(production.shots.all())
        shot.name = document["name"] = _free_name(name, _beside(shot))
        shot.save()
        document["time"] = {**document.get("time", {}), **time}
        try:
            scene = parse_scene(document).model_dump(mode="json")
        except SceneError as error:
            raise Refused(error.problems) from None
        take = Take.objects.create(shot=shot, name="take 1", scene=scene)
    if begun and (begun.folder / "meshes").is_dir():
        shutil.copytree(begun.folder / "meshes", take.folder / "meshes", dirs_exist_ok=True)
    return take


def begin_take(shot: Shot) -> Take:
    """An empty take in a shot; it has the frames of the newest take that there is."""
    with transaction.atomic():
        Shot.objects.select_for_update().get(pk=shot.pk)
        takes = list(shot.takes.filter(removed=None))
        document: dict[str, Any] = {**empty(), "name": shot.name}
        if takes and isinstance(takes[-1].scene.get("time"), dict):
            document["time"] = takes[-1].scene["time"]
        name = _free_name(f"take {len(takes) + 1}", takes)
        scene = parse_scene(document).model_dump(mode="json")
        return Take.objects.create(shot=shot, name=name, scene=scene, position=_next(shot.takes.all()))


def change(one: Production | Shot | Take, user: User, wanted: dict[str, Any]) -> None:
    """Another name, description or place; or put away, or back."""
    if "name" in wanted:
        one.name = _free_name(wanted["name"], _beside(one, user), strict=True)
    if "description" in wanted:
        one.description = wanted["description"]
    if "archived" in wanted:
        one.archived = timezone.now() if wanted["archived"] else None
    one.save(update_fields=[*{"name", "description", "archived"} & wanted.keys()])
    if "place" in wanted:
        _put(one, [*_beside(one, user), one], wanted["place"])


def _put(one: T, all_of_them: Sequence[T], place: int) -> None:
    """Give something the n-th place among those beside it."""
    others = sorted((o for o in all_of_them if o.pk != one.pk), key=lambda o: (o.position, o.pk))
    others.insert(max(0, min(place, len(others))), one)
    for n, other in enumerate(others):
        if other.position != n:
            other.position = n
            other.save(update_fields=["position"])


def _beside(one: Production | Shot | Take, user: User | None = None) -> list[Any]:
    """What stands on the sheet beside something, without it."""
    if isinstance(one, Take):
        rows: Iterable[Any] = Take.objects.filter(shot=one.shot_id, removed=None)
    elif isinstance(one, Shot):
        rows = Shot.objects.filter(production=one.production_id, removed=None)
    else:
        rows = Production.objects.filter(members=user, removed=None)
    return [row for row in rows if row.pk != one.pk]


def _next(rows: Any) -> int:
    last = rows.aggregate(last=Max("position"))["last"]
    return 0 if last is None else last + 1


def _free_name(name: str, beside: Iterable[Any], *, strict: bool = False) -> str:
    """A name that nothing beside has; Refused if the name is none, or is taken and must be that one."""
    name = name.strip()
    if not name:
        raise Refused(["Give it a name."])
    taken = {one.name for one in beside}
    if name not in taken:
        return name
    if strict:
        raise Refused([f"There is {name!r} already; choose another name."], 409)
    stem = re.sub(r" \d+$", "", name)[:110]
    return next(told for n in range(2, 10**6) if (told := f"{stem} {n}") not in taken)


def takes_of(one: Production | Shot | Take) -> list[Take]:
    """All takes of something that is not removed in itself, or the take itself."""
    if isinstance(one, Take):
        return [one]
    if isinstance(one, Shot):
        return list(one.takes.filter(removed=None))
    return list(Take.objects.filter(shot__production=one, removed=None, shot__removed=None))


@dataclass(frozen=True)
class Weight:
    """What would be gone: takes, frames, bytes on disk, seconds of work."""

    takes: int
    frames: int
    bytes: int
    seconds: float


def weight(one: Production | Shot | Take) -> Weight:
    """How much there is of something."""
    takes = takes_of(one)
    frames, seconds = 0, 0.0
    for take in takes:
        for quality in QUALITIES:
            try:
                report = reports.stage_report(take, quality)
            except Refused:
                continue
            frames += sum(sum(s in ("current", "stale") for s in part["states"]) for part in report)
            seconds += sum(part["seconds"] for part in report)
    return Weight(len(takes), frames, sum(_bytes_in(take.folder) for take in takes), seconds)


def _bytes_in(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file())


def remove(one: Production | Shot | Take) -> None:
    """Take something off the sheet; a week long it can be taken back. Refused (409) while it is being made."""
    _check_idle(takes_of(one))
    type(one).objects.filter(pk=one.pk).update(removed=timezone.now())
    sweep()


def _check_idle(takes: list[Take]) -> None:
    for take in takes:
        if take.runs.filter(status__in=("waiting", "running")).exists():
            raise Refused([f"Something of {take.shot.name} is being made; stop that run first."], 409)


def take_back(one: Production | Shot | Take, user: User) -> None:
    """Put what was removed on the sheet again, under another name if its own is taken."""
    one.name = _free_name(one.name, _beside(one, user))
    one.removed = None
    one.save(update_fields=["name", "removed"])


def removed(user: User) -> list[Production | Shot | Take]:
    """What somebody may still take back, what was removed last first."""
    rows: list[Production | Shot | Take] = [
        *visible(Production, user).exclude(removed=None),
        *visible(Shot, user).exclude(removed=None).select_related("production"),
        *visible(Take, user).exclude(removed=None).select_related("shot__production"),
    ]
    return sorted(rows, key=lambda one: one.removed or timezone.now(), reverse=True)


def sweep() -> int:
    """Let go for good of what was removed more than a week ago; returns how many takes are gone."""
    old = timezone.now() - KEPT
    gone = [
        *Take.objects.filter(removed__lt=old),
        *Take.objects.filter(shot__removed__lt=old),
        *Take.objects.filter(shot__production__removed__lt=old),
    ]
    for take in gone:
        shutil.rmtree(take.folder, ignore_errors=True)
    for kind in (Take, Shot, Production):
        kind.objects.filter(removed__lt=old).delete()
    return len({take.pk for take in gone})


def duplicate(one: Production | Shot | Take, user: User, *, frames: bool) -> Production | Shot | Take:
    """A copy beside the first, with its frames or without; Refused (409) while they are made, (507) if the disk has no
    room for it."""
    if frames:
        _check_idle(takes_of(one))
    _check_room(takes_of(one), frames)
    with transaction.atomic():
        if isinstance(one, Take):
            return _copied_take(one, one.shot, _free_name(one.name, [*_beside(one), one]), frames)
        if isinstance(one, Shot):
            return _copied_shot(one, one.production, _free_name(one.name, [*_beside(one), one]), frames)
        made = begin_production(user, one.name, one.description)
        for shot in one.shots.filter(removed=None):
            _copied_shot(shot, made, shot.name, frames)
    return made


def _copied_shot(shot: Shot, production: Production, name: str, frames: bool) -> Shot:
    made = Shot.objects.create(
        production=production,
        name=name,
        description=shot.description,
        unit=shot.unit,
        up=shot.up,
        position=_next(production.shots.all()),
    )
    for take in shot.takes.filter(removed=None):
        _copied_take(take, made, take.name, frames)
    return made


def _copied_take(take: Take, shot: Shot, name: str, frames: bool) -> Take:
    made = Take.objects.create(
        shot=shot, name=name, description=take.description, scene=take.scene, position=_next(shot.takes.all())
    )
    if take.folder.is_dir():
        left_out = {"uploads"} if frames else {"uploads", "deliveries", *QUALITIES}
        shutil.copytree(
            take.folder,
            made.folder,
            ignore=lambda folder, names: left_out & set(names) if Path(folder) == take.folder else set(),
            copy_function=_copied_file,
        )
    return made


def _copied_file(source: str, target: str) -> None:
    """Frames are written once and never changed, so a copy can share them; journals go on to grow."""
    if source.endswith(".npz"):
        os.link(source, target)
    else:
        shutil.copy2(source, target)


def _check_room(takes: list[Take], frames: bool) -> None:
    heavy = 0
    for take in takes:
        for path in take.folder.rglob("*"):
            inside = path.relative_to(take.folder).parts[0]
            if path.is_file() and path.suffix != ".npz" and (frames or inside not in QUALITIES):
                heavy += path.stat().st_size
    if takes and heavy + MARGIN > shutil.disk_usage(settings.DATA).free:
        raise Refused([f"A copy takes {heavy / 1e9:.1f} GB, and the disk has not so much left."], 507)


def people_of(production: Production) -> list[Membership]:
    """Who has a part in a production, owners first."""
    return list(production.memberships.select_related("user").order_by("-role", "user__username"))


def give_part(production: Production, name: str, role: Role) -> None:
    """Let somebody in, or give them another role; Refused if that would leave no owner."""
    user = User.objects.filter(username=name, is_active=True).first()
    if user is None:
        raise Refused(
            [f"Nobody here is called {name!r}; who looks after the machine makes accounts: ./zinc person NAME."], 404
        )
    with transaction.atomic():
        Production.objects.select_for_update().get(pk=production.pk)
        if role < Role.OWNER:
            _check_owned(production, user)
        Membership.objects.update_or_create(production=production, user=user, defaults={"role": role})


def end_part(production: Production, name: str) -> None:
    """Somebody has no part in a production any more; Refused if that would leave no owner."""
    with transaction.atomic():
        Production.objects.select_for_update().get(pk=production.pk)
        part = production.memberships.filter(user__username=name).first()
        if part is None:
            raise Refused([f"{name} has no part in {production.name}."], 404)
        _check_owned(production, part.user)
        part.delete()


def _check_owned(production: Production, without: User) -> None:
    if not production.memberships.filter(role=Role.OWNER).exclude(user=without).exists():
        raise Refused([f"{production.name} would have no owner; make somebody else its owner first."], 409)
