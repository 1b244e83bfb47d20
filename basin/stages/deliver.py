"""A delivery: files of open formats for who takes over, verified, resumable, with a manifest.

Files are written under a temporary name, read back, and then renamed; the manifest names each with its checksum and
what it was made from, so that a later delivery renews only what changed. See docs/delivery-format.md.
"""

from __future__ import annotations

import errno
import fcntl
import hashlib
import json
import os
import re
import shutil
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

from basin.cache import DamagedFrame
from basin.exchange import write_obj, write_ply
from basin.exchange.alembic import AlembicFile
from basin.exchange.exr import write_exr
from basin.exchange.gltf import write_glb
from basin.exchange.pieces import Piece, turned
from basin.exchange.usd import UsdFile
from basin.exchange.vdb import NoVdb, write_vdb
from basin.exchange.verify import (
    verify_alembic,
    verify_exr,
    verify_glb,
    verify_plain,
    verify_usd,
    verify_vdb,
)
from basin.scene import Delivery, Scene
from basin.stages.pieces import (
    delivered_elements,
    frame_grids,
    frame_images,
    frame_pieces,
    needed_stages,
    part_keys,
    piece_name,
)
from basin.stages.run import states_by_keys
from basin.stages.sea_pieces import OF_SEA, at_rest
from basin.stages.sea_stage import SEA
from basin.stages.stage import Job, all_keys

FORMAT = "zinc-delivery/1"
ALGORITHM = "delivery-1"
MANIFEST = "manifest.json"
LOCK = ".lock"
# bytes of files for one of the cache, rounded up; a test holds them
GROWN = {"obj": 3.0, "ply": 1.2, "glb": 1.6, "usd": 1.2, "abc": 1.4, "vdb": 2.5}
PIXEL = 6 * 4  # bytes of an image's channels, if none can be packed
SEA_PIXEL, SEA_POINT = 11 * 4, 80  # of a patch's; of a point of a sea's mesh with what it carries and two triangles
SPARE = 50_000_000  # bytes that are to be left free


class DeliveryFailure(RuntimeError):
    """A delivery that cannot be made or go on; what is whole stays. The message is a sentence for the artist."""


@dataclass(frozen=True)
class Delivered:
    """A file in its place.

    Attributes
    ----------
    frame : that it holds, as numbered in the shot; the last one if it holds all
    reused : it was there already and is unchanged
    """

    frame: int
    path: Path
    reused: bool = False


@dataclass(frozen=True)
class _Wanted:
    """A file that a delivery consists of."""

    name: str
    piece: str
    frames: tuple[int, ...]
    key: str


def delivery_frames(scene: Scene, delivery: Delivery) -> range:
    """Frames of the shot that leave."""
    first = max(scene.time.first if delivery.first is None else delivery.first, scene.time.first)
    last = min(scene.time.last if delivery.last is None else delivery.last, scene.time.last)
    return range(first, last + 1, delivery.step)


def delivery_named(scene: Scene, name: str) -> Delivery:
    """A delivery of a scene; DeliveryFailure if there is none of that name."""
    for delivery in scene.deliveries:
        if delivery.name == name:
            return delivery
    there = ", ".join(repr(d.name) for d in scene.deliveries) or "none"
    raise DeliveryFailure(f"there is no delivery named {name!r}; there are: {there}")


def delivery_states(job: Job, delivery: Delivery, folder: Path) -> dict[str, str]:
    """One of "current", "stale" or "missing" for every file that a delivery consists of."""
    held = _manifest(folder).get("files", {})
    states = {}
    for wanted in _wanted(job, delivery):
        entry, path = held.get(wanted.name), folder / wanted.name
        if entry is None or not path.is_file() or path.stat().st_size != entry["bytes"]:
            states[wanted.name] = "missing"
        else:
            states[wanted.name] = "current" if entry["key"] == wanted.key else "stale"
    return states


def deliver(
    job: Job, delivery: Delivery, folder: Path, stop: Callable[[], bool] = lambda: False
) -> Iterator[Delivered]:
    """Write the files of a delivery that are not there or not current; yields each once it is in its place.

    Raises
    ------
    DeliveryFailure
        If frames are missing or out of date, the disk is too small, the folder is used by another delivery or goes
        away, or a file does not read back as it was written.
    """
    if not delivery_frames(job.scene, delivery):
        raise DeliveryFailure("the delivery's frames lie outside the shot; change its first or last frame")
    _frames_there(job, delivery)
    with _told(folder), _alone(folder):
        for leftover in folder.glob("*.part*"):
            leftover.unlink()
        wanted = _wanted(job, delivery)
        book = _manifest(folder)
        held: dict[str, Any] = book.get("files", {})
        names = {w.name for w in wanted}
        for name in [n for n in held if n not in names]:  # of an earlier form of this delivery
            (folder / name).unlink(missing_ok=True)
            del held[name]
        missing = [w for w in wanted if not _kept(folder, held.get(w.name), w)]
        _room(job, delivery, folder, missing)
        book = {
            "format": FORMAT,
            "scene": job.scene.name,
            "quality": job.quality,
            "fps": job.scene.time.fps,
            "delivery": delivery.model_dump(mode="json"),
            "files": held,
        }
        for one in wanted:
            if stop():
                return
            if one not in missing:
                yield Delivered(one.frames[-1], folder / one.name, reused=True)
                continue
            if not (folder / LOCK).exists():  # some writers would make the folder anew
                raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), str(folder))
            made = _made(job, delivery, folder, one, stop)
            if made is None:
                return
            held[one.name] = made
            _write_manifest(folder, book)
            yield Delivered(one.frames[-1], folder / one.name)
        _write_manifest(folder, book)


def _wanted(job: Job, delivery: Delivery) -> list[_Wanted]:
    keys = part_keys(job, delivery)
    frames = delivery_frames(job.scene, delivery)
    apart = {"name", "first", "last", "step", *(() if delivery.format == "exr" else ("resolution",))}
    own = [ALGORITHM, delivery.model_dump(mode="json", exclude=apart), job.scene.time.fps]
    if delivery.single():
        key = _digest([own, [[frame, keys[frame]] for frame in frames]])
        return [_Wanted(_file_name(delivery, piece_name(delivery.name), None), "", tuple(frames), key)]
    pieces = [""]
    if delivery.format in ("ply", "obj"):
        pieces = [name for name in delivery.files() if name != "elements"]
        if "elements" in delivery.parts():
            pieces += [piece_name(e.name) for e in delivered_elements(job.scene)]
    if delivery.patches():
        pieces = [f"patch_{nth}" for nth in range(len(job.scene.sea.sets))]
    found = []
    for frame in frames:
        for piece in pieces:
            name = _file_name(delivery, piece or piece_name(delivery.name), frame + delivery.offset)
            found.append(_Wanted(name, piece, (frame,), _digest([own, frame, keys[frame]])))
    return found


def _file_name(delivery: Delivery, piece: str, number: int | None) -> str:
    name = delivery.pattern.replace("{piece}", piece)
    if number is None:
        return re.sub(r"[._-]*#+", "", name) + f".{delivery.format}"
    return re.sub("#+", lambda run: f"{number:0{len(run[0])}d}", name) + f".{delivery.format}"


def _frames_there(job: Job, delivery: Delivery) -> None:
    keys = all_keys(job)
    for stage in needed_stages(delivery):
        states = states_by_keys(job.store(stage), keys[stage])
        bad = [frame for frame in delivery_frames(job.scene, delivery) if states[frame] != "current"]
        if bad:
            some = ", ".join(map(str, bad[:5])) + (" and more" if len(bad) > 5 else "")
            raise DeliveryFailure(
                f"{len(bad)} {stage} frames are missing or out of date at {job.quality} ({some}); run the {stage} first"
            )


def _kept(folder: Path, entry: dict[str, Any] | None, wanted: _Wanted) -> bool:
    """Whether a file is there as the manifest has it, and made from what it would be made from now."""
    if entry is None or entry["key"] != wanted.key:
        return False
    path = folder / wanted.name
    return path.is_file() and path.stat().st_size == entry["bytes"] and _sha256(path) == entry["sha256"]


def _room(job: Job, delivery: Delivery, folder: Path, missing: list[_Wanted]) -> None:
    """DeliveryFailure if the disk is too small for the files that are missing."""
    frames = {frame for one in missing for frame in one.frames}
    if delivery.format == "exr":
        sides = [one.resolution for one in job.scene.sea.sets] if delivery.patches() else [delivery.resolution]
        each = SEA_PIXEL if delivery.patches() else PIXEL
        needed = float(len(frames) * each * sum(side**2 for side in sides))
    else:
        made = [stage for stage in needed_stages(delivery) if stage not in OF_SEA]
        stages = [job.store(stage).records() for stage in made]
        held = sum(records[f].size for records in stages for f in frames)
        if SEA in delivery.parts():
            held += len(frames) * SEA_POINT * len(at_rest(job.scene, delivery, 0.0)[0])
        needed = held * GROWN[delivery.format]
    free = shutil.disk_usage(folder).free
    if needed + SPARE > free:
        raise DeliveryFailure(
            f"needs about {needed / 1e9:.2f} GB and the disk has {free / 1e9:.2f} GB free; make room, or deliver fewer "
            "frames or another format"
        )


def _made(job: Job, delivery: Delivery, folder: Path, one: _Wanted, stop: Callable[[], bool]) -> dict[str, Any] | None:
    """Write a file, read it back and put it in its place; its entry in the manifest, or None if stopped."""
    path = folder / f"{one.name}.part"
    # USD and Alembic tell their format by the ending
    if delivery.format in ("usd", "abc"):
        path = folder / f"{one.name}.part.{delivery.format}"
    try:
        if not _written(job, delivery, path, one, stop):
            path.unlink(missing_ok=True)
            return None
        with path.open("rb+") as file:
            os.fsync(file.fileno())
        entry = {
            "frames": [f + delivery.offset for f in one.frames],
            "bytes": path.stat().st_size,
            "sha256": _sha256(path),
            "key": one.key,
        }
        os.replace(path, folder / one.name)
        return entry
    except BaseException:
        path.unlink(missing_ok=True)
        raise


def _written(job: Job, delivery: Delivery, path: Path, one: _Wanted, stop: Callable[[], bool]) -> bool:
    kind, frame, fps = delivery.format, one.frames[0], job.scene.time.fps
    if kind == "vdb":
        grids = frame_grids(job, delivery, frame)
        write_vdb(path, grids)
        verify_vdb(path, grids)
        return True
    if kind == "exr":
        images = frame_images(job, delivery, frame, one.piece)
        write_exr(path, images)
        verify_exr(path, images)
        return True

    def pieces(number: int) -> list[Piece]:
        found = frame_pieces(job, delivery, number)
        return [turned(p, delivery.unit, delivery.up) for p in found if not one.piece or p.name == one.piece]

    numbers = [f + delivery.offset for f in one.frames]
    if kind == "usd":
        with UsdFile(path, fps, delivery.unit, delivery.up, (numbers[0], numbers[-1])) as stage:
            for number, own in zip(numbers, one.frames, strict=True):
                if stop():
                    return False
                stage.add(number, pieces(own))
            stage.finish()
        verify_usd(path, ((number, pieces(own)) for number, own in zip(numbers, one.frames, strict=True)))
        return True
    if kind == "abc":
        archive = AlembicFile(path, fps, numbers[0], delivery.step)
        for own in one.frames:
            if stop():
                return False
            archive.add(pieces(own))
        archive.finish()
        verify_alembic(path, ((number / fps, pieces(own)) for number, own in zip(numbers, one.frames, strict=True)))
        return True
    found = pieces(frame)
    if kind == "glb":
        write_glb(path, found)
        verify_glb(path, found)
        return True
    (piece,) = found
    write = write_ply if kind == "ply" else write_obj
    write(path, piece.position, piece.triangle, piece.attributes)
    verify_plain(path, piece)
    return True


@contextmanager
def _told(folder: Path) -> Iterator[None]:
    """Errors of the disk and of damaged frames as sentences."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        yield
    except (DamagedFrame, NoVdb) as error:
        raise DeliveryFailure(str(error)) from error
    except OSError as error:
        if error.errno == errno.ENOSPC:
            raise DeliveryFailure("the disk is full; whole files are kept. Make room and deliver again") from error
        if not folder.is_dir():
            raise DeliveryFailure(f"the folder {folder.name} has gone away; nothing half-written is left") from error
        raise DeliveryFailure(f"could not be written: {error.strerror or error}") from error
    except RuntimeError as error:
        if isinstance(error, DeliveryFailure):
            raise
        if not folder.is_dir():
            raise DeliveryFailure(f"the folder {folder.name} has gone away; nothing half-written is left") from error
        raise DeliveryFailure(f"could not be written: {error}") from error


@contextmanager
def _alone(folder: Path) -> Iterator[None]:
    """Hold a delivery's folder alone; DeliveryFailure if another one is being written into it."""
    with (folder / LOCK).open("w") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise DeliveryFailure("this delivery is being written already; wait for it or stop it") from None
        yield


def _manifest(folder: Path) -> dict[str, Any]:
    try:
        found = json.loads((folder / MANIFEST).read_text(encoding="utf-8"))
    except (OSError, ValueError):
        return {}
    sound = isinstance(found, dict) and found.get("format") == FORMAT and isinstance(found.get("files"), dict)
    return found if sound else {}


def _write_manifest(folder: Path, book: dict[str, Any]) -> None:
    temporary = folder / f"{MANIFEST}.part"
    with temporary.open("w", encoding="utf-8") as file:
        json.dump(book, file, indent=1, sort_keys=True)
        file.flush()
        os.fsync(file.fileno())
    os.replace(temporary, folder / MANIFEST)


def _sha256(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def _digest(value: Any) -> str:
    text = json.dumps(value, sort_keys=True, separators=(",", ":"), default=asdict)
    return hashlib.sha256(text.encode()).hexdigest()[:32]
