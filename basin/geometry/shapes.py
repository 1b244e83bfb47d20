"""The shapes that elements can have, as settings, and their meshes."""

from __future__ import annotations

from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from basin.geometry import primitives
from basin.geometry.mesh import TriangleMesh
from basin.settings import Part, Vec3, setting


class Sphere(Part):
    kind: Literal["sphere"] = "sphere"
    radius: float = setting(
        0.1, unit="m", group="Shape", gt=0, slider=(0.01, 2), scale="log", meaning="Radius of the sphere."
    )


class Box(Part):
    kind: Literal["box"] = "box"
    size: Vec3 = setting((0.2, 0.2, 0.2), unit="m", group="Shape", meaning="Edge lengths, centred on the origin.")

    @model_validator(mode="after")
    def _positive(self) -> Box:
        if min(self.size) <= 0:
            raise ValueError("size must be positive in all three directions")
        return self


class MeshShape(Part):
    kind: Literal["mesh"] = "mesh"
    file: str = setting(
        "",
        group="Shape",
        meaning="Mesh file, relative to the scene document; #### stands for frame numbers of a mesh that deforms.",
        control="file",
    )
    unit: Literal["m", "cm", "mm", "in", "ft"] = setting(
        "m", group="Shape", meaning="What one unit of the file is in the real world."
    )
    up: Literal["y", "z", "x"] = setting("y", group="Shape", meaning="The file's axis that points up.")

    animated: bool = setting(
        False, group="Shape", meaning="Follow the animation in the file (USD, Alembic), where there is one."
    )

    part: str = setting(
        "", group="Shape", meaning="Of several meshes in the file the one that is meant; empty for all of them as one."
    )
    fine: str = setting(
        "",
        group="Shape",
        control="fine",
        label="Stands for",
        meaning="The finer mesh that is shown and delivered in its place; what acts is the file above.",
    )

    def shown(self) -> MeshShape:
        """What is shown and delivered: itself, or the mesh that it stands for."""
        return self.model_copy(update={"file": self.fine, "fine": ""}) if self.fine else self

    def own_part(self) -> str:
        """The part of its file that acts: a stand-in has none."""
        return "" if self.fine else self.part

    def is_sequence(self) -> bool:
        """Whether it deforms: a file for each frame, or one with animation."""
        return self.animated or "#" in self.file.rsplit("/", 1)[-1]


class GroundPlane(Part):
    kind: Literal["plane"] = "plane"


class Tub(Part):
    kind: Literal["tub"] = "tub"
    radius: float = setting(0.3, unit="m", group="Shape", gt=0, slider=(0.02, 5), scale="log", meaning="Outer radius.")
    height: float = setting(0.4, unit="m", group="Shape", gt=0, slider=(0.02, 5), scale="log", meaning="Height.")
    wall: float = setting(
        0.03, unit="m", group="Shape", gt=0, slider=(0.002, 0.2), scale="log", meaning="Thickness of wall and floor."
    )

    @model_validator(mode="after")
    def _room_inside(self) -> Tub:
        if self.wall >= min(self.radius, self.height):
            raise ValueError("wall is thicker than the vessel; make it thinner than radius and height")
        return self


class Tube(Part):
    kind: Literal["tube"] = "tube"
    radius: float = setting(0.1, unit="m", group="Shape", gt=0, slider=(0.01, 2), scale="log", meaning="Outer radius.")
    height: float = setting(
        0.5, unit="m", group="Shape", gt=0, slider=(0.02, 5), scale="log", meaning="Length along Y."
    )
    wall: float = setting(
        0.02, unit="m", group="Shape", gt=0, slider=(0.002, 0.2), scale="log", meaning="Thickness of the wall."
    )

    @model_validator(mode="after")
    def _room_inside(self) -> Tube:
        if self.wall >= self.radius:
            raise ValueError("wall is thicker than the tube; make it thinner than the radius")
        return self


class Disc(Part):
    kind: Literal["disc"] = "disc"
    radius: float = setting(
        0.05, unit="m", group="Shape", gt=0, slider=(0.005, 1), scale="log", meaning="Radius of the opening."
    )

    def half(self) -> tuple[float, float]:
        """How far (m) it reaches along its own X and Z."""
        return self.radius, self.radius

    def area(self) -> float:
        """Of the opening, m2."""
        return float(np.pi * self.radius**2)

    def holds(self, x: np.ndarray, z: np.ndarray) -> np.ndarray:
        """Which places in its plane (n,), metres, lie in the opening, bool (n,)."""
        return self.beyond(x, z) < 0

    def beyond(self, x: np.ndarray, z: np.ndarray) -> np.ndarray:
        """How far (m) places in its plane (n,) lie outside its rim, negative within."""
        return np.asarray(np.hypot(x, z) - self.radius)


class Slot(Part):
    kind: Literal["slot"] = "slot"
    width: float = setting(0.2, unit="m", group="Shape", gt=0, slider=(0.005, 2), scale="log", meaning="Along its X.")
    depth: float = setting(0.05, unit="m", group="Shape", gt=0, slider=(0.005, 2), scale="log", meaning="Along its Z.")

    def half(self) -> tuple[float, float]:
        """How far (m) it reaches along its own X and Z."""
        return self.width / 2, self.depth / 2

    def area(self) -> float:
        """Of the opening, m2."""
        return self.width * self.depth

    def holds(self, x: np.ndarray, z: np.ndarray) -> np.ndarray:
        """Which places in its plane (n,), metres, lie in the opening, bool (n,)."""
        return self.beyond(x, z) < 0

    def beyond(self, x: np.ndarray, z: np.ndarray) -> np.ndarray:
        """How far (m) places in its plane (n,) lie outside its sides, negative within."""
        return np.asarray(np.maximum(np.abs(x) - self.width / 2, np.abs(z) - self.depth / 2))


FillShape = Annotated[Sphere | Box | MeshShape, Field(discriminator="kind")]
InflowShape = Annotated[Disc | Slot | MeshShape, Field(discriminator="kind")]
ColliderShape = Annotated[MeshShape | Box | Sphere | GroundPlane | Tub | Tube, Field(discriminator="kind")]
Shape = Sphere | Box | MeshShape | GroundPlane | Tub | Tube | Disc | Slot
FlatOpening = Disc | Slot  # flat, facing its own Y

PLANE_REACH = 16.0


def primitive_mesh(shape: Shape) -> TriangleMesh:
    """Mesh of a shape that needs no file, in its own frame (metres)."""
    match shape:
        case Sphere():
            return primitives.sphere_mesh(shape.radius)
        case Box():
            return primitives.box_mesh(shape.size)
        case Tub():
            return primitives.tub_mesh(shape.radius, shape.height, shape.wall)
        case Tube():
            return primitives.tube_mesh(shape.radius, shape.height, shape.wall)
        case Disc():
            return primitives.disc_mesh(shape.radius)
        case Slot():
            return primitives.slot_mesh(shape.width, shape.depth)
        case GroundPlane():
            return primitives.box_mesh((PLANE_REACH, 1e-3, PLANE_REACH))
    raise TypeError("a mesh shape is read from its file")
