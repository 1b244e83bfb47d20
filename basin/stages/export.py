"""Leaves a stage's frames as files of an open format."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from basin.cache import Cache
from basin.exchange import write_obj, write_ply
from basin.surface.attributes import CARRIED

WRITERS = {"obj": write_obj, "ply": write_ply}
GIVEN = (*CARRIED, "vorticity")


def export(cache: Cache, stage: str, kind: str, folder: Path, frames: tuple[int, int] | None = None) -> Iterator[Path]:
    """Write a file per cached frame, ``surface.0012.obj`` and so on; yields each path.

    Raises
    ------
    FileNotFoundError
        If the stage has no frames in the range.
    DamagedFrame
        If a frame's file is not whole.
    """
    store = cache.stage(stage)
    wanted = [
        r.frame
        for r in sorted(store.records().values(), key=lambda r: r.frame)
        if not r.error and store.whole(r) and (frames is None or frames[0] <= r.frame <= frames[1])
    ]
    if not wanted:
        raise FileNotFoundError(f"{stage}: no frames to export")
    folder.mkdir(parents=True, exist_ok=True)
    for number in wanted:
        data = store.frame(number)
        path = folder / f"{stage}.{number:04d}.{kind}"
        given = {name: data[name] for name in GIVEN if name in data}
        WRITERS[kind](path, data["position"], data.get("triangle"), given)
        yield path
