"""Settings of the surface stage."""

from __future__ import annotations

from typing import Literal

from basin.settings import Part, setting


class SurfaceSettings(Part):
    """How particles become a surface."""

    voxel_share: float = setting(
        0.5,
        unit="x",
        group="Detail",
        ge=0.2,
        le=2,
        slider=(0.25, 1.0),
        label="Surface voxel",
        meaning="Voxel of the surface as a share of the liquid's voxel; 0.5 is twice as fine.",
    )
    method: Literal["density", "averaged", "spheres"] = setting(
        "density",
        group="Shape",
        meaning="From particles to a surface: the half-full contour of a smooth density, a ball about a weighted mean "
        "of the particles, or a ball about each of them.",
    )
    particle_radius: float = setting(
        0.9,
        unit="spacings",
        group="Shape",
        gt=0,
        le=3,
        slider=(0.4, 1.5),
        label="Particle radius",
        meaning="Of the balls of the methods averaged and spheres. Balls about a resting lattice leave no holes from "
        "0.87 on, half the diagonal of its cell.",
    )
    kernel_radius: float = setting(
        2.0,
        unit="spacings",
        group="Shape",
        ge=1,
        le=4,
        slider=(1.5, 3),
        label="Kernel radius",
        meaning="Reach of each particle in particle spacings: larger is smoother, and thin sheets go sooner.",
    )
    spray_radius: float = setting(
        0.62,
        unit="spacings",
        group="Shape",
        ge=0,
        le=1.5,
        slider=(0, 1),
        label="Spray radius",
        meaning="Radius of a lone particle; 0.62 keeps its volume, 0 leaves spray out.",
    )
    smoothing: int = setting(
        1, unit="passes", group="Shape", ge=0, le=20, slider=(0, 8), meaning="Smoothing passes over the level set."
    )
    softness: float = setting(
        2.0,
        unit="spacings",
        group="Attributes",
        ge=1.2,
        le=6,
        slider=(1.5, 4),
        meaning="Reach of the particles that a vertex takes velocity, colour, mark and age from; larger is softer.",
    )
