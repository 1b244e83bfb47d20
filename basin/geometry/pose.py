"""Where an element is: translation, rotation and uniform scale, still or keyframed."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any, Protocol

import numpy as np
from pydantic import model_validator
from scipy.spatial.transform import Rotation

from basin.settings import Curve, Part, Vec3, rate_at, setting, value_at, value_over


def scale_of(matrix: np.ndarray) -> float:
    """Size factor of an affine matrix (4, 4) that turns, moves and scales evenly."""
    return float(np.cbrt(abs(np.linalg.det(matrix[:3, :3]))))


def box_in(low: np.ndarray, high: np.ndarray, matrix: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Corners (3,) of the box about a box of the scene, in the frame that a matrix (4, 4) places."""
    corner = np.stack(np.meshgrid(*np.stack([low, high]).T, indexing="ij"), axis=-1).reshape(-1, 3)
    inverse = np.linalg.inv(matrix)
    own = corner @ inverse[:3, :3].T + inverse[:3, 3]
    return own.min(axis=0), own.max(axis=0)


class Placement(Protocol):
    """Where something is over shot time."""

    def moves(self) -> bool:
        """Whether it is not the same at all times."""
        ...

    def matrix(self, time: float) -> np.ndarray:
        """Affine matrix (4, 4), its own frame to the scene, at a shot time."""
        ...

    def motion(self, time: float) -> np.ndarray:
        """Velocity per shot second of what goes along, (4, 4): velocity = motion @ (x, 1) at a place of the scene."""
        ...

    def over(self, start: float, end: float) -> list[Any]:
        """What frames over [start, end] depend on, for hashing."""
        ...


@dataclass(frozen=True)
class Attached:
    """A placement within that of something else, with which it moves, turns and grows."""

    to: Placement
    own: Placement

    def moves(self) -> bool:
        """Whether it is not the same at all times."""
        return self.to.moves() or self.own.moves()

    def matrix(self, time: float) -> np.ndarray:
        """Affine matrix (4, 4), its own frame to the scene, at a shot time."""
        return np.asarray(self.to.matrix(time) @ self.own.matrix(time))

    def motion(self, time: float) -> np.ndarray:
        """Velocity of what goes along: that of the other's frame, and its own within it."""
        to = self.to.matrix(time)
        return np.asarray(self.to.motion(time) + to @ self.own.motion(time) @ np.linalg.inv(to))

    def over(self, start: float, end: float) -> list[Any]:
        """What frames over [start, end] depend on, for hashing."""
        return [*self.to.over(start, end), *self.own.over(start, end)]


@dataclass(frozen=True)
class Shifted:
    """A placement of something that lies away from its own origin by a shift (3,)."""

    of: Placement
    shift: np.ndarray

    def moves(self) -> bool:
        """Whether it is not the same at all times."""
        return self.of.moves()

    def matrix(self, time: float) -> np.ndarray:
        """Affine matrix (4, 4), its own frame to the scene, at a shot time."""
        own = np.eye(4)
        own[:3, 3] = self.shift
        return np.asarray(self.of.matrix(time) @ own)

    def motion(self, time: float) -> np.ndarray:
        """Velocity of what goes along, which a shift does not change."""
        return self.of.motion(time)

    def over(self, start: float, end: float) -> list[Any]:
        """What frames over [start, end] depend on, for hashing."""
        return [*self.of.over(start, end), self.shift.tolist()]


SMALLEST = 1e-4  # scale


@lru_cache(maxsize=1024)
def _turn(x: float, y: float, z: float) -> np.ndarray:
    """Turns (degrees) about X, then Y, then Z of the scene, (3, 3); kept, since most are asked for again and again."""
    return np.asarray(Rotation.from_euler("xyz", [x, y, z], degrees=True).as_matrix())


class Pose(Part):
    """Placement of an element; each value may be a number or a curve over shot seconds."""

    translation: Vec3 | Curve = setting(
        (0.0, 0.0, 0.0), unit="m", group="Place", keyed=True, meaning="Where the element's origin is."
    )
    rotation: Vec3 | Curve = setting(
        (0.0, 0.0, 0.0),
        unit="deg",
        group="Place",
        keyed=True,
        meaning="Turns about X, then Y, then Z of the scene. More than 180 degrees between keys is a longer turn.",
    )
    scale: float | Curve = setting(
        1.0, unit="x", group="Place", keyed=True, slider=(0.1, 4.0), scale="log", meaning="Uniform size factor."
    )

    @model_validator(mode="after")
    def _sized(self) -> Pose:
        given = [key.value for key in self.scale.keys] if isinstance(self.scale, Curve) else [self.scale]
        if not all(isinstance(one, float | int) and SMALLEST <= one <= 1 / SMALLEST for one in given):
            raise ValueError(f"scale lies between {SMALLEST:g} and {1 / SMALLEST:,.0f}; switch off what is to vanish")
        return self

    def moves(self) -> bool:
        """Whether any value has more than one key."""
        values = (self.translation, self.rotation, self.scale)
        return any(isinstance(v, Curve) and len(v.keys) > 1 for v in values)

    def matrix(self, time: float) -> np.ndarray:
        """Affine matrix (4, 4), element to scene, at a shot time."""
        result = np.eye(4)
        result[:3, :3] = _turn(*map(float, value_at(self.rotation, time))) * float(value_at(self.scale, time)[0])
        result[:3, 3] = value_at(self.translation, time)
        return result

    def motion(self, time: float) -> np.ndarray:
        """Velocity per shot second of what goes along, (4, 4), from the curves' own rates: see `Placement`.

        Turns are about X, then Y, then Z, so the rate about X is turned by the others, that about Y by the last.
        """
        a, b, c = np.radians(rate_at(self.rotation, time))
        _, y, z = value_at(self.rotation, time)
        spin = Rotation.from_euler("yz", [y, z], degrees=True).apply([a, 0.0, 0.0])
        spin = spin + Rotation.from_euler("z", z, degrees=True).apply([0.0, b, 0.0]) + np.array([0.0, 0.0, c])
        growth = float(rate_at(self.scale, time)[0] / value_at(self.scale, time)[0])
        result = np.zeros((4, 4))
        result[:3, :3] = np.cross(np.eye(3), spin) + growth * np.eye(3)
        result[:3, 3] = rate_at(self.translation, time) - result[:3, :3] @ value_at(self.translation, time)
        return result

    def over(self, start: float, end: float) -> list[Any]:
        """What frames over [start, end] depend on, for hashing."""
        return [value_over(v, start, end) for v in (self.translation, self.rotation, self.scale)]
