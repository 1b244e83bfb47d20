"""What can be said of files from their names and sizes: formats, limits, numbered sequences."""

from __future__ import annotations

import re
from pathlib import Path

from basin.apart import Told

PLAIN = ("obj", "ply", "stl", "glb", "gltf")
IMAGES = (".png", ".jpg", ".jpeg", ".tif", ".tiff")
MOVING = ("usd", "usda", "usdc", "usdz", "abc")  # formats that may hold animation in one file
LARGEST_FILE = 2_000_000_000  # bytes
MOST_TRIANGLES = 20_000_000
LARGEST_MOTION = 1_000_000_000  # bytes of all points of a mesh that deforms, 24 for each at each of its moments
MOST_MOMENTS = 10_000


class UnusableFile(Told):
    """A file that cannot be used; the message is a sentence for the artist."""


def kind_of(path: Path) -> str:
    """A file's format by its ending."""
    return path.suffix.lower().lstrip(".")


def whole_file(path: Path) -> None:
    """UnusableFile if a mesh's file is missing, empty, huge, or of a kind that is not read."""
    if kind_of(path) not in (*PLAIN, *MOVING):
        raise UnusableFile(f"{path.name}: meshes are read from .{', .'.join((*PLAIN, *MOVING))} files")
    if not path.is_file():
        raise UnusableFile(f"{path.name}: the file is not there")
    if path.stat().st_size == 0:
        raise UnusableFile(f"{path.name}: the file is empty")
    if path.stat().st_size > LARGEST_FILE:
        raise UnusableFile(f"{path.name}: larger than 2 GB; thin it out first")


def countable(name: str, points: int, moments: int) -> None:
    """UnusableFile if the motion of so many points would be more than is read."""
    if moments > MOST_MOMENTS:
        raise UnusableFile(f"{name}: holds {moments:,} moments; at most {MOST_MOMENTS:,} are read")
    if points * moments * 24 > LARGEST_MOTION:
        raise UnusableFile(
            f"{name}: {points:,} points at {moments:,} moments are {points * moments * 24 / 1e9:.1f} GB; at most "
            f"{LARGEST_MOTION / 1e9:.0f} GB are read. Thin it out, or bring fewer frames"
        )


def sequence_files(folder: Path, pattern: str) -> dict[int, Path]:
    """Files of a sequence by their numbers, ascending; a run of # in the pattern stands for the number.

    Raises
    ------
    UnusableFile
        If there are none, or one between the first and the last is missing.
    """
    name = Path(pattern).name
    marks = re.search(r"#+", name)
    assert marks
    form = re.compile(re.escape(name[: marks.start()]) + r"(\d+)" + re.escape(name[marks.end() :]))
    here = (folder / pattern).parent
    found: dict[int, Path] = {}
    for path in sorted(here.iterdir()) if here.is_dir() else []:
        matched = form.fullmatch(path.name)
        if matched and len(matched[1]) >= len(marks[0]):
            found[int(matched[1])] = path
    if not found:
        raise UnusableFile(f"{pattern}: no file of this sequence is there")
    missing = [n for n in range(min(found), max(found)) if n not in found]
    if missing:
        raise UnusableFile(
            f"{pattern}: number {missing[0]} of the sequence is missing, between {min(found)} and {max(found)}; "
            "bring all its files"
        )
    return dict(sorted(found.items()))


def sequence_names(names: list[str]) -> tuple[str, dict[str, str]]:
    """The pattern that numbered files make up, and under which name each of them is kept for it.

    Raises
    ------
    UnusableFile
        If they are not named alike but for a number before the ending.
    """
    parts = {name: re.fullmatch(r"(.*?)(\d+)(\.\w+)", name) for name in names}
    found = {name: match for name, match in parts.items() if match}
    ends = {(match[1], match[3].lower()) for match in found.values()}
    if len(ends) != 1 or len(found) < len(names):
        raise UnusableFile(
            "these files are no sequence; they have to be named alike but for a number before the ending"
        )
    ((stem, kind),) = ends
    width = max(len(match[2]) for match in found.values())
    kept = {name: f"{stem}{match[2].zfill(width)}{kind}" for name, match in found.items()}
    return f"{stem}{'#' * width}{kind}", kept
