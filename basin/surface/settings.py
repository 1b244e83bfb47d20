"""Settings of the surface stage."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from basin.geometry.pose import Pose
from basin.geometry.shapes import Box, FillShape
from basin.settings import Part, Vec3, setting


class Everywhere(Part):
    kind: Literal["everywhere"] = "everywhere"


class BySpeed(Part):
    kind: Literal["speed"] = "speed"
    full: float = setting(
        0.2, unit="m/s", group="Mask", ge=0, slider=(0, 10), label="Whole at", meaning="Speed at which it acts wholly."
    )
    none: float = setting(
        2.0, unit="m/s", group="Mask", ge=0, slider=(0, 10), label="None at", meaning="Speed at which it does nothing."
    )


class ByCollider(Part):
    kind: Literal["collider"] = "collider"
    full: float = setting(
        0.1, unit="m", group="Mask", slider=(0, 1), label="Whole at", meaning="Distance to the nearest collider there."
    )
    none: float = setting(
        0.02, unit="m", group="Mask", slider=(0, 1), label="None at", meaning="Distance at which it does nothing."
    )


class ByThickness(Part):
    kind: Literal["thickness"] = "thickness"
    full: float = setting(
        0.1, unit="m", group="Mask", ge=0, slider=(0, 1), label="Whole at", meaning="Thickness of the liquid there."
    )
    none: float = setting(
        0.02, unit="m", group="Mask", ge=0, slider=(0, 1), label="None at", meaning="Thickness without effect."
    )


Mask = Annotated[Everywhere | BySpeed | ByCollider | ByThickness, Field(discriminator="kind")]


class Filter(Part):
    """A pass over the level set."""

    does: Literal["gaussian", "mean", "median", "curvature", "grow", "shrink"] = setting(
        "gaussian",
        group="Filter",
        meaning="Blur with a bell or a box, the middle value of neighbours (takes single bumps out, keeps edges), flow "
        "by curvature (takes bumps out, leaves flat parts), or move the surface out or in.",
    )
    width: float = setting(
        1.0,
        unit="voxels",
        group="Filter",
        gt=0,
        le=20,
        slider=(0.3, 4),
        meaning="Of the surface's voxels: deviation of the bell, half width of the box or the neighbours, radius of "
        "the ball that just goes, way that the surface moves.",
    )
    repeats: int = setting(
        1,
        unit="times",
        group="Filter",
        ge=1,
        le=50,
        slider=(1, 10),
        cost="Each pass costs again.",
        meaning="How often.",
    )
    mask: Mask = Field(default_factory=Everywhere, description="Where it acts.")


class Cut(Part):
    """Takes a part of the liquid away."""

    by: Literal["box", "plane", "height", "domain"] = setting(
        "box",
        group="Cut",
        meaning="A box, a plane, a level plane at a height, or the domain drawn in by a margin.",
    )
    away: Literal["outside", "inside"] = setting(
        "outside",
        group="Cut",
        label="Take away",
        meaning="What lies outside of the box or domain, behind the plane, or above the height; or what lies inside, "
        "before, or below.",
    )
    centre: Vec3 = setting(
        (0.0, 0.0, 0.0),
        unit="m",
        when={"by": ["box", "plane"]},
        group="Cut",
        meaning="Of the box, or a point of the plane.",
    )
    size: Vec3 = setting(
        (1.0, 1.0, 1.0), unit="m", when={"by": ["box"]}, group="Cut", meaning="Edge lengths of the box."
    )
    normal: Vec3 = setting(
        (0.0, 1.0, 0.0), when={"by": ["plane"]}, group="Cut", meaning="Side of the plane that is outside."
    )
    height: float = setting(0.0, unit="m", when={"by": ["height"]}, group="Cut", meaning="Of the level plane.")
    margin: float = setting(
        0.0, unit="m", when={"by": ["domain"]}, group="Cut", slider=(0, 0.5), meaning="From the domain's walls."
    )
    capped: bool = setting(True, group="Cut", meaning="Closed where it is cut, or left open.")

    @model_validator(mode="after")
    def _possible(self) -> Cut:
        if min(self.size) <= 0:
            raise ValueError("size must be positive in all three directions")
        if self.by == "plane" and not any(self.normal):
            raise ValueError("the normal is zero, so the plane has no side; give it one")
        return self


class Join(Part):
    """Liquid that is added before the filters."""

    shape: FillShape = Field(default_factory=Box, description="Its shape.")
    pose: Pose = Field(default_factory=Pose, description="Where it is.")


class JoinedCache(Part):
    """Particles of another cache that are meshed with this one's."""

    folder: str = setting(
        "",
        group="Joined cache",
        control="cache",
        meaning="Cache folder of another take at a quality, relative to the scene document.",
    )
    offset: int = setting(0, unit="frames", group="Joined cache", meaning="Added to the frame number to find its own.")


class SurfaceSettings(Part):
    """How particles become a surface."""

    voxel_share: float = setting(
        0.5,
        unit="x",
        group="Detail",
        ge=0.2,
        le=2,
        slider=(0.25, 1.0),
        cost="Half of it: four times the minutes and triangles.",
        label="Surface voxel",
        meaning="Voxel of the surface as a share of the liquid's voxel; 0.5 is twice as fine.",
    )
    method: Literal["density", "anisotropic", "averaged", "spheres"] = setting(
        "density",
        group="Shape",
        meaning="From particles to a surface: the half-full contour of a smooth density, the same with kernels that "
        "follow the neighbours, a ball about a weighted mean of the particles, or a ball about each of them.",
    )
    particle_radius: float = setting(
        0.9,
        unit="spacings",
        when={"method": ["averaged", "spheres"]},
        group="Shape",
        gt=0,
        le=3,
        slider=(0.4, 1.5),
        label="Particle radius",
        meaning="Of the balls of the methods averaged and spheres. Balls about a resting lattice leave no holes from "
        "0.87 on, half the diagonal of its cell; Judge shows the radius that a frame needs.",
    )
    kernel_radius: float = setting(
        2.0,
        unit="spacings",
        when={"method": ["density", "anisotropic", "averaged"]},
        group="Shape",
        ge=1,
        le=4,
        slider=(1.5, 3),
        label="Kernel radius",
        cost="Minutes go with its third power.",
        meaning="Reach of each particle in particle spacings: larger is smoother, and thin sheets go sooner.",
    )
    thinnest: float = setting(
        0.3,
        unit="spacings",
        when={"method": ["density", "anisotropic", "averaged"]},
        group="Shape",
        ge=0,
        le=1,
        slider=(0, 1),
        label="Thinnest sheet",
        meaning="Films, sheets and threads down to this thickness are drawn as thick as they are by all methods but "
        "spheres, however coarse the voxel; what is thinner becomes spray. 0 lets all go "
        "that falls below half of what fills the kernel.",
    )
    body: float = setting(
        0.0,
        unit="voxels",
        group="Shape",
        ge=0,
        le=2,
        slider=(0, 2),
        label="Simulation's body from",
        meaning="Depth under the surface, in the liquid's voxels, from which the simulation's own level set is taken: "
        "closes voids in the body; 0 never does.",
    )
    stretch: float = setting(
        0.0,
        unit="frames",
        group="Spray",
        ge=0,
        le=2,
        slider=(0, 1),
        meaning="How much of the way of a frame particles are drawn out along their motion, at most to four radii "
        "each way; by the methods anisotropic and spheres, and for spray by all.",
    )
    spray_radius: float = setting(
        0.62,
        unit="spacings",
        group="Spray",
        ge=0,
        le=1.5,
        slider=(0, 1),
        label="Spray radius",
        meaning="Radius of a lone particle, or one in a speck; 0.62 keeps its volume, 0 leaves it out.",
    )
    specks: int = setting(
        0,
        unit="particles",
        group="Spray",
        ge=0,
        le=1000,
        slider=(0, 50),
        label="Specks below",
        meaning="Separate pieces of fewer particles are specks and become balls of the spray radius; 0 has none.",
    )
    joins: list[Join] = setting(
        factory=list, group="Join", control="list", meaning="Shapes that are added to the liquid before the filters."
    )
    caches: list[JoinedCache] = setting(
        factory=list, group="Join", control="list", label="Joined caches", meaning="Other caches meshed with this one."
    )
    filters: list[Filter] = setting(
        factory=lambda: [Filter(width=0.7)],
        group="Filters",
        control="list",
        meaning="Passes over the level set, in this order.",
    )
    hold_volume: bool = setting(
        True,
        group="Filters",
        label="Hold volume",
        meaning="Move the surface after the filters so that they take no volume, and the mesh by up to 0.15 voxels so "
        "that it holds the particles' volume, ragged splashes by more; grow, shrink, joins and cuts keep theirs.",
    )
    colliders: Literal["leave", "remove"] = setting(
        "leave",
        group="Cuts",
        cost="Removing asks for the distance of each collider, which takes most of a frame where they are meshes.",
        meaning="Leave the surface at colliders as the particles have it, or draw it up to them and remove what lies "
        "inside.",
    )
    gap: float = setting(
        0.0,
        unit="mm",
        when={"colliders": ["remove"]},
        group="Cuts",
        ge=-100,
        le=100,
        slider=(-2, 2),
        label="Gap to colliders",
        meaning="Between liquid and colliders when what lies inside is removed; below zero they overlap.",
    )
    cuts: list[Cut] = setting(factory=list, group="Cuts", control="list", meaning="Parts that are taken away.")
    fairing: int = setting(
        0,
        unit="passes",
        group="Mesh",
        ge=0,
        le=50,
        slider=(0, 20),
        cost="A little for each pass.",
        meaning="Smoothing passes over the mesh that keep its volume (Taubin 1995).",
    )
    subdivide: int = setting(
        0,
        unit="times",
        group="Mesh",
        ge=0,
        le=2,
        slider=(0, 2),
        cost="Four times the triangles each time.",
        meaning="Each triangle into four, rounded (Loop 1987).",
    )
    thinning: float = setting(
        0.0,
        unit="mm",
        group="Mesh",
        ge=0,
        le=100,
        slider=(0, 5),
        cost="A little time; saves disk.",
        meaning="How far the mesh may go from itself to do with fewer triangles; 0 keeps all.",
    )
    softness: float = setting(
        2.0,
        unit="spacings",
        group="Attributes",
        ge=1.2,
        le=6,
        slider=(1.5, 4),
        cost="A little more for each vertex.",
        meaning="Reach of the particles that a vertex takes velocity, colour, mark and age from; larger is softer.",
    )
    unwrap: bool = setting(
        False,
        group="Attributes",
        cost="Much slower than all the rest of a frame.",
        meaning="Lay each frame's mesh out flat for texture coordinates of its own; slow, and for short sequences.",
    )

    @model_validator(mode="before")
    @classmethod
    def _older(cls, given: Any) -> Any:
        """Scenes had a number of smoothing passes before they had filters; each was as a bell of 0.7 voxels."""
        if isinstance(given, dict) and "smoothing" in given:
            given = dict(given)
            passes = given.pop("smoothing")
            if isinstance(passes, int) and not isinstance(passes, bool) and "filters" not in given:
                given["filters"] = [{"width": 0.7, "repeats": passes}] if passes > 0 else []
        return given
