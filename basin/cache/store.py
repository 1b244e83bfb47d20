"""A folder per stage, a file per frame, a journal of what was written.

A frame is an uncompressed NumPy ``.npz`` (a zip of ``.npy`` arrays, each with a CRC-32 that readers
check). It is written under a temporary name, flushed, renamed, and then entered into the stage's
``manifest.jsonl``: the last line about a frame counts, and lines that are cut short or damaged are left out, so that
their frames are made again. See docs/cache-format.md.
"""

from __future__ import annotations

import fcntl
import json
import os
import zlib
from collections import OrderedDict
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

FORMAT = "zinc-cache/1"
KEEP_STATES = 2
KEEP_EVERY = 12
MOST_JOURNALS = 64  # that are kept at hand


class DamagedFrame(RuntimeError):
    """A frame or state file that is missing, cut short or changed."""


class StageBusy(RuntimeError):
    """Somebody else is writing this stage."""


@dataclass(frozen=True)
class FrameRecord:
    """What the manifest says of one frame."""

    frame: int
    key: str
    size: int = 0
    crc: int = 0
    readings: dict[str, float] = field(default_factory=dict)
    error: str = ""

    def is_sound(self) -> bool:
        """Whether all is of the kind that it should be."""
        whole = all(isinstance(n, int) and n >= 0 for n in (self.frame, self.size, self.crc))
        told = isinstance(self.readings, dict) and all(isinstance(v, float | int) for v in self.readings.values())
        return whole and told and isinstance(self.key, str) and isinstance(self.error, str)


class Frame(Mapping[str, np.ndarray]):
    """Arrays of one frame by name, read when asked for."""

    def __init__(self, path: Path):
        try:
            self._file = np.load(path, allow_pickle=False)
            self._names = [str(name) for name in self._file.files]
        except Exception as error:  # zip and array headers raise anything at all when they are damaged
            raise DamagedFrame(f"{path.name}: damaged or missing ({type(error).__name__})") from None
        self._path = path

    def __getitem__(self, name: str) -> np.ndarray:
        if name not in self._names:
            raise KeyError(name)
        try:
            return np.asarray(self._file[name])
        except Exception as error:
            raise DamagedFrame(f"{self._path.name}: {name} is damaged ({type(error).__name__})") from None

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)


class StageCache:
    """Frames of one stage at one quality."""

    def __init__(self, folder: Path):
        self.folder = folder

    def beside(self, name: str) -> StageCache:
        """Frames of another stage of the same take at the same quality."""
        return StageCache(self.folder.parent / name)

    def path(self, frame: int) -> Path:
        """File of a frame."""
        return self.folder / f"frame-{frame:06d}.npz"

    def state_path(self, frame: int) -> Path:
        """File of the restart state that belongs to a frame."""
        return self.folder / f"state-{frame:06d}.npz"

    def records(self) -> dict[int, FrameRecord]:
        """Manifest entries by frame number."""
        stamp = self.stamp()
        if stamp is None:
            return {}
        known = _journals.pop(self.folder, None)
        if known is None or known[0] != stamp:
            known = (stamp, _records(self.folder / "manifest.jsonl"))
        _journals[self.folder] = known
        while len(_journals) > MOST_JOURNALS:
            _journals.popitem(last=False)
        return dict(known[1])

    def stamp(self) -> tuple[int, ...] | None:
        """What changes whenever the manifest does; None without one."""
        try:
            told = (self.folder / "manifest.jsonl").stat()
        except OSError:
            return None
        return told.st_ino, told.st_size, told.st_mtime_ns

    def frame(self, number: int) -> Frame:
        """Arrays of a frame; DamagedFrame if the file is not whole."""
        return Frame(self.path(number))

    def whole(self, record: FrameRecord) -> bool:
        """Whether the file has the size that the manifest says (cheap; arrays carry CRCs)."""
        try:
            return self.path(record.frame).stat().st_size == record.size
        except OSError:
            return False

    def verify(self, record: FrameRecord) -> bool:
        """Whether every byte is as written."""
        try:
            return _crc(self.path(record.frame)) == (record.size, record.crc)
        except OSError:
            return False

    def write(self, number: int, key: str, arrays: Mapping[str, np.ndarray], readings: dict[str, float]) -> FrameRecord:
        """Put a frame safely on disk and enter it into the manifest."""
        _write_npz(self.path(number), arrays)
        size, crc = _crc(self.path(number))
        record = FrameRecord(number, key, size, crc, readings)
        self._enter(record)
        return record

    def write_failure(self, number: int, key: str, error: str) -> None:
        """Enter that a frame could not be made, and why."""
        self._enter(FrameRecord(number, key, error=error))

    def write_state(
        self, number: int, key: str, arrays: Mapping[str, np.ndarray], keys: Mapping[int, str] | None = None
    ) -> None:
        """Write a restart state; of those that `keys` of frames call valid the newest two and every twelfth are kept.

        Without keys all count as valid.
        """
        _write_npz(self.state_path(number), {**arrays, "key": np.array(key)})
        states = self.states()
        valid = [n for n in states if n == number or keys is None or self._key_of_state(n) == keys.get(n)]
        kept = {*valid[-KEEP_STATES:], *(n for n in valid if n % KEEP_EVERY == 0)}
        for old in set(states) - kept:
            self.state_path(old).unlink(missing_ok=True)

    def _key_of_state(self, number: int) -> str:
        try:
            return str(self.state(number)["key"])
        except (DamagedFrame, KeyError):
            return ""

    def states(self) -> list[int]:
        """Frames with a restart state, ascending."""
        numbers = [p.stem.removeprefix("state-") for p in self.folder.glob("state-*.npz")]
        return sorted(int(number) for number in numbers if number.isdecimal())

    def state(self, number: int) -> Frame:
        """Arrays of a restart state."""
        return Frame(self.state_path(number))

    def delete(self) -> int:
        """Remove all frames and states; returns the bytes freed."""
        freed = 0
        with self.locked():
            for path in [*self.folder.glob("*.npz"), *self.folder.glob("*.tmp"), self.folder / "manifest.jsonl"]:
                if path.exists():
                    freed += path.stat().st_size
                    path.unlink()
        return freed

    def size(self) -> int:
        """Bytes on disk."""
        return sum(p.stat().st_size for p in self.folder.glob("*.npz")) if self.folder.exists() else 0

    def is_held(self) -> bool:
        """Whether somebody is writing this stage."""
        return is_held(self.folder / "lock")

    @contextmanager
    def locked(self) -> Iterator[None]:
        """Hold the stage alone; StageBusy if a run or another program has it."""
        self.folder.mkdir(parents=True, exist_ok=True)
        with (self.folder / "lock").open("w") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                raise StageBusy(f"{self.folder.name}: another run is writing this stage") from None
            yield

    def _enter(self, record: FrameRecord) -> None:
        journal = self.folder / "manifest.jsonl"
        entry = _line(asdict(record))
        with journal.open("a+b") as file:
            file.seek(0, os.SEEK_END)
            if file.tell():
                file.seek(-1, os.SEEK_END)
                if file.read(1) != b"\n":
                    file.write(b"\n")  # a line cut short by a crash ends here
            else:
                file.write((json.dumps({"format": FORMAT}) + "\n").encode())
            file.write((entry + "\n").encode())
            file.flush()
            os.fsync(file.fileno())


@dataclass(frozen=True)
class Cache:
    """All stages of one take at one quality."""

    folder: Path

    def stage(self, name: str) -> StageCache:
        """The cache of a stage, whether it has frames or not."""
        return StageCache(self.folder / name)


_journals: OrderedDict[Path, tuple[tuple[int, ...], dict[int, FrameRecord]]] = OrderedDict()


def _line(entry: dict[str, Any]) -> str:
    """A line of a manifest, with what shows that it is whole."""
    text = json.dumps(entry, sort_keys=True)
    return json.dumps({**entry, "sum": zlib.crc32(text.encode())}, sort_keys=True)


def _records(journal: Path) -> dict[int, FrameRecord]:
    """Entries of a manifest by frame number; lines that are not whole are left out."""
    found: dict[int, FrameRecord] = {}
    try:
        lines = journal.read_bytes().splitlines()
    except OSError:
        return found
    for line in lines:
        with suppress(ValueError, TypeError, RecursionError):
            entry = json.loads(line)
            told = entry.pop("sum", None) if isinstance(entry, dict) else None
            if told is not None and told != zlib.crc32(json.dumps(entry, sort_keys=True).encode()):
                continue
            if isinstance(entry, dict) and "frame" in entry:
                record = FrameRecord(**entry)
                if record.is_sound():
                    found[record.frame] = record
    return found


def is_held(lock: Path) -> bool:
    """Whether a process holds a lock's file."""
    if not lock.exists():
        return False
    with lock.open("r+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return True
    return False


def open_cache(folder: str | Path) -> Cache:
    """Open a cache folder for reading.

    Raises
    ------
    FileNotFoundError
        If the folder does not exist.
    """
    path = Path(folder)
    if not path.is_dir():
        raise FileNotFoundError(f"{folder}: no cache here")
    return Cache(path)


def _write_npz(path: Path, arrays: Mapping[str, np.ndarray]) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    temporary = path.with_suffix(".tmp")
    with temporary.open("wb") as file:
        np.savez(file, **arrays)  # type: ignore[arg-type]
        file.flush()
        os.fsync(file.fileno())
    os.replace(temporary, path)


def _crc(path: Path) -> tuple[int, int]:
    size, crc = 0, 0
    with path.open("rb") as file:
        while block := file.read(1 << 22):
            size += len(block)
            crc = zlib.crc32(block, crc)
    return size, crc
