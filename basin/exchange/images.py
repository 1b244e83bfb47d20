"""Images for colours: PNG, JPEG and TIFF through Pillow, decoded to linear light."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np

from basin.exchange.files import IMAGES, UnusableFile, sequence_files
from basin.exchange.formats import read_apart
from basin.exchange.light import linear


def read_image(path: Path) -> np.ndarray:
    """Linear red, green and blue, float32 (rows, columns, 3).

    Raises
    ------
    UnusableFile
        If the file is missing, of another kind, damaged or too large.
    """
    if path.suffix.lower() not in IMAGES:
        raise UnusableFile(f"{path.name}: images are read from .png, .jpg and .tif files")
    if not path.is_file():
        raise UnusableFile(f"{path.name}: the file is not there")
    _, (levels,) = read_apart("image", path, str(path))
    most = np.iinfo(levels.dtype).max
    return np.asarray(linear(np.arange(most + 1) / most).astype(np.float32)[levels])


@dataclass(frozen=True)
class Pictures:
    """One image, or a numbered sequence of them that plays like the shot's frames.

    Attributes
    ----------
    files : by frame number; a single image has the number 0
    """

    files: dict[int, Path]

    def at_frame(self, frame: float) -> np.ndarray:
        """The image of a frame, the first or last one beyond them."""
        numbers = sorted(self.files)
        held = [n for n in numbers if n <= frame + 1e-6]
        path = self.files[held[-1] if held else numbers[0]]
        return _read_once(path, path.stat().st_mtime_ns)

    def digest(self) -> str:
        """Tells whether any file is another one."""
        total = hashlib.sha256()
        for number, path in sorted(self.files.items()):
            total.update(f"{number}".encode() + path.read_bytes())
        return total.hexdigest()


@lru_cache(maxsize=4)
def _read_once(path: Path, _changed: int) -> np.ndarray:
    return read_image(path)


def read_pictures(folder: Path, pattern: str) -> Pictures:
    """An image, or a sequence with # for its numbers; every file's head is looked at.

    Raises
    ------
    UnusableFile
        If `read_image` of the first one does, or a number between the first and the last is missing.
    """
    files = sequence_files(folder, pattern) if "#" in Path(pattern).name else {0: folder / pattern}
    read_image(files[min(files)])
    read_apart("images", folder / pattern, str(folder), pattern)
    return Pictures(files)
