"""Files on their way in: sent in as many requests as they need, then read together, and kept or gone."""

from __future__ import annotations

import re
import secrets
import shutil
import time as clock
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

from django.core.files.uploadedfile import UploadedFile

from basin.stages.imports import sequence_names
from studio.errors import Refused
from studio.productions.models import Take

MOST_FILES = 10_000
KEPT_SECONDS = 24 * 3600  # of files that nothing was made of

read: dict[str, int] = {}  # files of an upload that have been read, while they are


def _folder(take: Take, upload: str) -> Path:
    folder = take.folder / "uploads" / upload
    if not re.fullmatch(r"[0-9a-f]{32}", upload) or not folder.is_dir():
        raise Refused(["These files are not there any more; send them again."], 404)
    return folder


def begun(take: Take) -> str:
    """A place for files; what was left of others a day ago goes."""
    home = take.folder / "uploads"
    for old in home.glob("*"):
        with suppress(OSError):
            if clock.time() - old.stat().st_mtime > KEPT_SECONDS:
                shutil.rmtree(old)
    upload = secrets.token_hex(16)
    (home / upload).mkdir(parents=True)
    return upload


def received(take: Take, upload: str, files: Sequence[UploadedFile]) -> int:
    """Put files to others of an upload; returns how many there are now. Refused if they are too many."""
    folder = _folder(take, upload)
    there = {path.name for path in folder.iterdir()}
    if len(there) + len(files) > MOST_FILES:
        raise Refused([f"These are more than {MOST_FILES:,} files; bring fewer frames."])
    for one in files:
        name = re.sub(r"[^A-Za-z0-9._-]+", "_", Path(one.name or "file").name)[-80:].lstrip(".") or "file"
        part = folder / f".part-{secrets.token_hex(4)}"
        try:
            with part.open("wb") as written:
                for chunk in one.chunks():
                    written.write(chunk)
            part.replace(folder / name)
        except OSError as error:
            part.unlink(missing_ok=True)
            raise Refused(
                [f"{name}: could not be kept ({error.strerror}); make room and send it again."], 507
            ) from None
        there.add(name)
    return len(there)


@contextmanager
def taken(take: Take, upload: str) -> Iterator[tuple[Path, str]]:
    """The folder of an upload, and the name or pattern that its files make up; it is gone afterwards.

    What is wrong with a file is Refused.
    """
    folder = _folder(take, upload)
    try:
        names = sorted(path.name for path in folder.iterdir() if not path.name.startswith("."))
        if not names:
            raise Refused(["No file has come; choose one."])
        file, kept = sequence_names(names) if len(names) > 1 else (names[0], {names[0]: names[0]})
        for name in names:
            (folder / name).rename(folder / kept[name])
        yield folder, file
    except ValueError as error:
        raise Refused([str(error)]) from None
    finally:
        read.pop(upload, None)
        shutil.rmtree(folder, ignore_errors=True)
