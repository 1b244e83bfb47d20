"""Between linear light and sRGB's code values (IEC 61966-2-1)."""

from __future__ import annotations

import numpy as np


def linear(coded: np.ndarray) -> np.ndarray:
    """Linear light of sRGB values from 0 to 1."""
    return np.where(coded <= 0.04045, coded / 12.92, ((coded + 0.055) / 1.055) ** 2.4)


def encoded(light: np.ndarray) -> np.ndarray:
    """sRGB values from 0 to 1 of linear light."""
    return np.where(light <= 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055)
