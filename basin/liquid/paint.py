"""What liquid is born with: two colours and two marks, and how they are laid out over its source."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from basin.randomness import uniform
from basin.settings import Part, setting

WIDTH = 4  # of what is carried: red, green, blue (linear), mark
GREY = np.array([0.2126, 0.7152, 0.0722])  # luminance of linear red, green and blue (ITU-R BT.709)
Axis = Literal["x", "y", "z"]


class Plain(Part):
    """The first colour and mark throughout."""

    kind: Literal["plain"] = "plain"


class Gradient(Part):
    """From the first to the second across the source, or while it pours."""

    kind: Literal["gradient"] = "gradient"
    along: Literal["x", "y", "z", "radius", "time"] = setting(
        "y", group="At birth", meaning="Own axis of the source, way from its Y axis, or time from its start to its end."
    )


class Figure(Part):
    """A regular pattern of both."""

    kind: Literal["figure"] = "figure"
    form: Literal["checks", "stripes", "dots"] = setting("checks", group="At birth", meaning="Of the pattern.")
    along: Axis = setting("y", group="At birth", label="Stripes across", meaning="Own axis along which stripes follow.")
    size: float = setting(
        0.05,
        unit="m",
        group="At birth",
        gt=0,
        slider=(0.005, 1),
        scale="log",
        label="Pattern size",
        meaning="Edge of a check, width of a stripe, or distance of dots.",
    )


class Picture(Part):
    """Colours of an image, projected along an own axis of the source; marks by its brightness."""

    kind: Literal["image"] = "image"
    file: str = setting(
        "",
        group="At birth",
        label="Image",
        control="image",
        meaning="PNG, JPEG or TIFF, relative to the scene document; #### stands for frame numbers.",
    )
    along: Axis = setting("z", group="At birth", label="Projected along", meaning="Own axis of the source.")
    width: float = setting(
        1.0,
        unit="m",
        group="At birth",
        gt=0,
        slider=(0.05, 10),
        scale="log",
        label="Image width",
        meaning="In the source's own frame, about its origin; the image is repeated beyond.",
    )


class Scattered(Part):
    """A mixture of both, at random for each particle."""

    kind: Literal["random"] = "random"
    seed: int = setting(1, group="At birth", ge=0, le=9999, meaning="Another seed is another draw.")


Paint = Annotated[Plain | Gradient | Figure | Picture | Scattered, Field(discriminator="kind")]


@dataclass(frozen=True)
class Birth:
    """Colour and mark of what a source gives.

    Attributes
    ----------
    ends : float (2, 4), the first and the second red, green, blue and mark
    low, high : (3,), bounds of the source in its own frame, metres
    start, end : shot seconds between which it pours; `end` may be infinite
    picture : shot second -> linear colours (rows, columns, 3), for an image
    """

    paint: Paint
    ends: np.ndarray
    low: np.ndarray
    high: np.ndarray
    start: float = 0.0
    end: float = np.inf
    picture: Callable[[float], np.ndarray] | None = None

    def at(self, points: np.ndarray, number: np.ndarray, time: float) -> np.ndarray:
        """What particles carry, float32 (n, 4).

        Parameters
        ----------
        points : (n, 3) metres in the source's own frame
        number : (n,) ids, from which chance is drawn
        time : shot second
        """
        if isinstance(self.paint, Picture):
            assert self.picture is not None
            colour = seen_through(self.picture(time), points, self.paint.along, self.paint.width)
            mark = self.ends[0, 3] + (colour @ GREY) * (self.ends[1, 3] - self.ends[0, 3])
            return np.column_stack([colour, mark]).astype(np.float32)
        share = self._share(points, number, time)[:, None]
        return ((1 - share) * self.ends[0] + share * self.ends[1]).astype(np.float32)

    def _share(self, points: np.ndarray, number: np.ndarray, time: float) -> np.ndarray:
        """How much of the second there is, (n,) from 0 to 1."""
        paint = self.paint
        if isinstance(paint, Gradient):
            if paint.along == "time":
                span = self.end - self.start
                return np.full(len(points), min(max((time - self.start) / span, 0.0), 1.0) if span > 0 else 0.0)
            if paint.along == "radius":
                widest = float(np.abs([self.low[[0, 2]], self.high[[0, 2]]]).max())
                return np.clip(np.hypot(points[:, 0], points[:, 2]) / max(widest, 1e-12), 0, 1)
            axis = "xyz".index(paint.along)
            span = max(float(self.high[axis] - self.low[axis]), 1e-12)
            return np.clip((points[:, axis] - self.low[axis]) / span, 0, 1)
        if isinstance(paint, Figure):
            step = points / paint.size
            if paint.form == "dots":
                off = step - np.round(step)
                return ((off**2).sum(axis=1) < 0.09).astype(float)
            axes = slice(None) if paint.form == "checks" else ["xyz".index(paint.along)]
            return np.asarray(np.floor(step[:, axes] + 1e-6).sum(axis=1) % 2)
        if isinstance(paint, Scattered):
            return uniform(number, paint.seed, 1)[:, 0].astype(float)
        return np.zeros(len(points))


def seen_through(picture: np.ndarray, points: np.ndarray, along: Axis, width: float) -> np.ndarray:
    """Colours (n, 3) of an image (rows, columns, 3) at points (n, 3), bilinear, repeated; its top is up.

    Seen from the far end of the axis it is projected along: from +Z its right is +X, from +X it is -Z; from +Y its
    top is -Z.
    """
    right, up = {"x": (-points[:, 2], points[:, 1]), "y": (points[:, 0], -points[:, 2])}.get(
        along, (points[:, 0], points[:, 1])
    )
    rows, columns = picture.shape[:2]
    x = (right / width + 0.5) * columns - 0.5
    y = (0.5 - up / width * columns / rows) * rows - 0.5
    i, j = np.floor(y).astype(int), np.floor(x).astype(int)
    fy, fx = (y - i)[:, None], (x - j)[:, None]

    def at(a: np.ndarray, b: np.ndarray) -> np.ndarray:
        return picture[a % rows, b % columns].astype(float)

    top = at(i, j) * (1 - fx) + at(i, j + 1) * fx
    bottom = at(i + 1, j) * (1 - fx) + at(i + 1, j + 1) * fx
    return np.asarray(top * (1 - fy) + bottom * fy)
