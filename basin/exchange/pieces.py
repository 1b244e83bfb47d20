"""What leaves in one frame, and how it is turned into the unit and the axes of who takes it."""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

METRES = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
RATES = ("velocity",)  # attributes that are vectors in metres a second
DIRECTIONS = ("normal",)  # attributes that are unit vectors
LENGTHS = ("radius",)  # attributes in metres


@dataclass(frozen=True)
class Piece:
    """A mesh or points of one frame.

    Attributes
    ----------
    name : letters, digits and underscores
    position : float (n, 3); triangle : int (m, 3), counter-clockwise from outside, or None for points
    attributes : (n,) or (n, k) by name: `velocity` in lengths a second, `colour` linear, `uv`, and others
    width : diameter of points, in the same unit
    still : whether it is the same in all frames
    """

    name: str
    position: np.ndarray
    triangle: np.ndarray | None = None
    attributes: dict[str, np.ndarray] = field(default_factory=dict)
    width: float = 0.0
    still: bool = False

    def widths(self) -> np.ndarray:
        """Diameters of points, float32: of each (n,) if they have radii, or one for all (1,)."""
        each = 2 * self.attributes["radius"] if "radius" in self.attributes else np.array([self.width])
        return np.ascontiguousarray(each, np.float32)


def axes(up: str) -> np.ndarray:
    """The turn (3, 3) that brings vectors with Y up to those with another axis up; no mirror."""
    return {
        "y": np.eye(3),
        "z": np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]]),
        "x": np.array([[0.0, 1, 0], [-1, 0, 0], [0, 0, 1]]),
    }[up]


def turned(piece: Piece, unit: str, up: str) -> Piece:
    """A piece in metres with Y up, in another unit with another axis up."""
    scale = 1.0 / METRES[unit]
    if scale == 1.0 and up == "y":
        return piece
    turn = axes(up).T * scale
    attributes = {name: (v @ turn).astype(v.dtype) if name in RATES else v for name, v in piece.attributes.items()}
    attributes |= {n: (v @ axes(up).T).astype(v.dtype) for n, v in attributes.items() if n in DIRECTIONS}
    attributes |= {name: (v * scale).astype(v.dtype) for name, v in attributes.items() if name in LENGTHS}
    position = np.asarray(piece.position, np.float64) @ turn
    return replace(piece, position=position, attributes=attributes, width=piece.width * scale)
