"""OpenEXR images: named float channels."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import OpenEXR


def write_exr(path: Path, channels: dict[str, np.ndarray]) -> None:
    """Write float32 channels (height, width) by name, ZIP-compressed scan lines."""
    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    plain = {name: np.ascontiguousarray(value, np.float32) for name, value in channels.items()}
    with OpenEXR.File(header, plain) as file:
        file.write(str(path))


def read_exr(path: Path) -> dict[str, np.ndarray]:
    """Channels (height, width) of an image by name; OSError if it is damaged."""
    try:
        with OpenEXR.File(str(path), separate_channels=True) as file:
            return {name: np.array(channel.pixels) for name, channel in file.channels().items()}
    except (RuntimeError, ValueError) as error:
        raise OSError(str(error)) from None
