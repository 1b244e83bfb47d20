"""Settings of the liquid stage."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from pydantic import model_validator

from basin.settings import Curve, Part, Vec3, setting

WATER = 998.2  # kg/m3, at 20 degrees Celsius
LEAST_BAND = 3.0  # voxels: the level set tells distances only so far


class Thickening(Part):
    """How thick liquid is at an age or a mark."""

    at: float = setting(
        0.0,
        group="Thickening",
        slider=(0, 10),
        label="Age or mark",
        meaning="Seconds since it came, or the mark that it carries.",
    )
    times: float = setting(
        1.0,
        group="Thickening",
        gt=0,
        le=1e6,
        slider=(0.01, 100),
        scale="log",
        label="As thick",
        meaning="How many times as thick it is there.",
    )


class LiquidSettings(Part):
    """How the liquid is computed."""

    voxel_size: float = setting(
        0.02,
        unit="m",
        group="Detail",
        gt=0,
        slider=(0.002, 0.2),
        scale="log",
        cost="Half of it: eight times the particles, memory and disk, and about sixteen times the minutes.",
        meaning="Edge of a voxel at final quality; draft and proof multiply it. Smaller is finer.",
    )
    particles_per_cell: int = setting(
        8,
        unit="pt",
        group="Detail",
        ge=1,
        le=27,
        slider=(4, 16),
        label="Particles per cell",
        cost="Minutes, memory and disk go with it.",
        meaning="Particles put into each voxel of liquid.",
    )
    surface_particles: int = setting(
        1,
        unit="times",
        group="Detail",
        ge=1,
        le=8,
        slider=(1, 8),
        label="More at the surface",
        cost="Minutes, memory and disk of what is near the surface go with it.",
        meaning="So many times as many particles, each as much smaller, within a voxel and a half of the surface: "
        "finer drops and rims, and a calmer surface, at the same voxel.",
    )
    band: float = setting(
        0.0,
        unit="voxels",
        group="Detail",
        ge=0,
        le=6,
        slider=(0, 6),
        label="Particle band",
        cost="Saves memory and minutes in deep water: they go by the surface instead of the volume.",
        meaning="Depth under the surface that keeps particles; below, the grid alone carries the liquid and its "
        "volume. 0 keeps particles everywhere; 4 to 6 suits deep water.",
    )
    particles_most: int | None = setting(
        None,
        unit="particles",
        group="Detail",
        ge=1,
        le=1_000_000_000,
        label="Particles at most",
        cost="Bounds memory and minutes of what pours.",
        meaning="Inflows hold back while the liquid has so many particles, at whatever quality; empty for no limit.",
    )
    gravity: Vec3 | Curve = setting(
        (0.0, -9.80665, 0.0), unit="m/s2", group="Behaviour", keyed=True, meaning="Acceleration of free fall."
    )
    density: float = setting(
        WATER,
        unit="kg/m3",
        group="Behaviour",
        gt=0,
        slider=(500, 3000),
        meaning="Mass of a cubic metre: what pressures, viscosities and wind weigh against. Water has 998.",
    )
    thickness: float | Curve = setting(
        1.0,
        group="Behaviour",
        keyed=True,
        slider=(0.01, 100),
        scale="log",
        meaning="All viscosities and yield stresses are multiplied by it: thin on its way up, thick on its way down.",
    )
    thickens_with: Literal["nothing", "age", "mark"] = setting(
        "nothing",
        group="Behaviour",
        meaning="What else makes it thicker or thinner: how long it is there (it cools, it sets), or the mark that "
        "its sources gave it, in whatever unit: a temperature, a share of water.",
    )
    thickenings: list[Thickening] = setting(
        factory=list,
        group="Behaviour",
        control="list",
        when={"thickens_with": ["age", "mark"]},
        meaning="How many times as thick it is at which age or mark; between two of them evenly by ratio.",
    )
    flip_share: float = setting(
        0.0,
        group="Behaviour",
        ge=0,
        le=1,
        slider=(0, 1),
        label="FLIP share",
        meaning="0 takes velocities and their gradient from the grid (calm); at 1 particles keep their own (lively).",
    )
    wall_friction: float = setting(
        0.0,
        group="Behaviour",
        ge=0,
        le=1,
        slider=(0, 1),
        meaning="Share of the sliding speed that is taken off liquid where it touches walls, a layer of about a "
        "voxel: 0 slides freely; at 1 films and drops are dragged with the wall, deep liquid hardly. For a hold that "
        "does not depend on the voxel give the liquid a viscosity.",
    )
    wall_adhesion: float = setting(
        0.0,
        unit="Pa",
        group="Behaviour",
        ge=0,
        slider=(0, 2000),
        meaning="Pull that walls bear before liquid next to air parts from them. A film of 1 cm of water under a "
        "ceiling pulls with 98 Pa; at 0 nothing hangs.",
    )
    substeps_min: int = setting(
        1,
        group="Time",
        ge=1,
        le=100,
        slider=(1, 8),
        label="Substeps, least",
        cost="Minutes go with it where the liquid is slow.",
        meaning="Fewest steps per frame; they are taken in twos.",
    )
    substeps_max: int = setting(
        16,
        group="Time",
        ge=1,
        le=400,
        slider=(1, 32),
        label="Substeps, most",
        cost="Minutes go with it where the liquid is fast.",
        meaning="Most steps per frame; they are taken in twos.",
    )
    cfl: float = setting(
        2.0,
        unit="voxels",
        group="Time",
        gt=0,
        le=5,
        slider=(0.5, 5),
        label="CFL limit",
        cost="Half of it: twice the minutes where the liquid is fast.",
        meaning="How far the fastest liquid may move in one substep.",
    )

    texture_clock: int = setting(
        0,
        unit="frames",
        group="Texture",
        ge=0,
        le=1000,
        slider=(0, 48),
        label="Texture renewed every",
        cost="Memory and disk of six more numbers a particle.",
        meaning="Texture coordinates that travel with the liquid are renewed after so many frames, an even number: "
        "long ones stay with the liquid, short ones stretch less. 0 carries none.",
    )

    @model_validator(mode="before")
    @classmethod
    def _newer(cls, values: Any) -> Any:
        """Scenes written before walls had an adhesion said whether they let go; all do now."""
        return {k: v for k, v in values.items() if k != "wall_contact"} if isinstance(values, dict) else values

    @model_validator(mode="after")
    def _no_less_than_none(self) -> LiquidSettings:
        given = self.thickness
        values = [key.value for key in given.keys] if isinstance(given, Curve) else [given]
        if any(np.asarray(value, float).min() < 0 for value in values):
            raise ValueError("thickness is below 0; liquid can be no thinner than without any viscosity")
        return self

    @model_validator(mode="after")
    def _even(self) -> LiquidSettings:
        if self.texture_clock % 2:
            raise ValueError("texture_clock is odd; its textures are renewed half of it apart; use an even number")
        return self

    @model_validator(mode="after")
    def _deep_enough(self) -> LiquidSettings:
        if 0 < self.band < LEAST_BAND:
            raise ValueError(f"band is thinner than {LEAST_BAND:g} voxels; make it thicker, or 0 for no band")
        return self

    @model_validator(mode="after")
    def _ordered(self) -> LiquidSettings:
        if self.substeps_min > self.substeps_max:
            raise ValueError("substeps_min is larger than substeps_max; lower it or raise the most")
        return self
