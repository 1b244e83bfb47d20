"""What a force does, and where: settings."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from basin.geometry.shapes import Box, Sphere
from basin.settings import Curve, Part, Vec3, setting


class Wind(Part):
    """Air over the surface: a stress density * coefficient * speed^2 on it."""

    kind: Literal["wind"] = "wind"
    velocity: Vec3 | Curve = setting(
        (5.0, 0.0, 0.0), unit="m/s", group="Force", keyed=True, meaning="Velocity of the air, per shot second, as seen."
    )
    grip: float = setting(
        0.0013,
        group="Force",
        gt=0,
        le=1,
        slider=(0.0005, 0.05),
        scale="log",
        label="Drag coefficient",
        meaning="Of the surface; 0.001 to 0.002 over open water, more for a visible push in a small scene.",
    )


class Drag(Part):
    """Liquid slows down exponentially."""

    kind: Literal["drag"] = "drag"
    rate: float | Curve = setting(
        2.0,
        unit="1/s",
        group="Force",
        keyed=True,
        slider=(0.1, 50),
        scale="log",
        meaning="What is left of a velocity after t liquid seconds is exp(-rate t).",
    )


class Turbulence(Part):
    """Divergence-free noise that evolves."""

    kind: Literal["turbulence"] = "turbulence"
    strength: float | Curve = setting(
        2.0, unit="m/s2", group="Force", keyed=True, slider=(0, 20), meaning="Root mean square of the acceleration."
    )
    size: float = setting(
        0.2, unit="m", group="Force", gt=0, slider=(0.01, 2), scale="log", meaning="Length of its middle waves."
    )
    tempo: float = setting(
        1.0,
        unit="1/s",
        group="Force",
        ge=0,
        slider=(0, 10),
        meaning="Turns of its waves in a liquid second; 0 is still.",
    )
    seed: int = setting(1, group="Force", ge=0, le=10000, meaning="Another number, another noise.")


class Vortex(Part):
    """Liquid is turned about the element's Y axis."""

    kind: Literal["vortex"] = "vortex"
    strength: float | Curve = setting(
        3.0, unit="m/s2", group="Force", keyed=True, slider=(-20, 20), meaning="Acceleration around the axis."
    )


class Attraction(Part):
    """Liquid is drawn to the element's origin, or pushed away from it."""

    kind: Literal["attraction"] = "attraction"
    strength: float | Curve = setting(
        5.0, unit="m/s2", group="Force", keyed=True, slider=(-20, 20), meaning="Acceleration; below 0 it pushes away."
    )
    core: float = setting(
        0.05,
        unit="m",
        group="Force",
        gt=0,
        slider=(0.005, 1),
        scale="log",
        meaning="Distance from the origin within which it fades to nothing.",
    )


class Everywhere(Part):
    kind: Literal["everywhere"] = "everywhere"


Effect = Annotated[Wind | Drag | Turbulence | Vortex | Attraction, Field(discriminator="kind")]
Zone = Annotated[Everywhere | Box | Sphere, Field(discriminator="kind")]
