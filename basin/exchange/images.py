"""Images for colours: PNG, JPEG and TIFF through Pillow, decoded to linear light."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image

from basin.exchange.formats import UnusableFile, sequence_files
from basin.exchange.light import linear

KINDS = (".png", ".jpg", ".jpeg", ".tif", ".tiff")
MOST_PIXELS = 64_000_000


def read_image(path: Path) -> np.ndarray:
    """Linear red, green and blue, float32 (rows, columns, 3).

    Raises
    ------
    UnusableFile
        If the file is missing, of another kind, damaged or too large.
    """
    if path.suffix.lower() not in KINDS:
        raise UnusableFile(f"{path.name}: images are read from .png, .jpg and .tif files")
    if not path.is_file():
        raise UnusableFile(f"{path.name}: the file is not there")
    try:
        with Image.open(path) as image:
            if image.width * image.height > MOST_PIXELS:
                raise UnusableFile(f"{path.name}: more than {MOST_PIXELS / 1e6:.0f} million pixels; make it smaller")
            deep = image.mode.startswith("I")
            coded = np.asarray(image if deep else image.convert("RGB"), np.float64)
    except UnusableFile:
        raise
    except Exception:  # the decoders raise anything at all on damaged input
        raise UnusableFile(f"{path.name}: not a readable image") from None
    if deep:
        coded = np.repeat(coded[:, :, None], 3, axis=2) / 257.0
    return linear(np.clip(coded / 255.0, 0, 1)).astype(np.float32)


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
    for path in files.values():
        try:
            with Image.open(path) as image:
                image.verify()
        except Exception:
            raise UnusableFile(f"{path.name}: not a readable image") from None
    return Pictures(files)
