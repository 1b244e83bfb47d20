"""The scene model, composed from each part's settings."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field, model_validator

from basin.geometry.pose import Attached, Placement, Pose
from basin.geometry.shapes import Box, ColliderShape, Disc, FillShape, FlatOpening, GroundPlane, InflowShape, MeshShape
from basin.liquid.effects import Drag, Effect, Everywhere, Zone
from basin.liquid.paint import Paint, Plain
from basin.liquid.settings import LiquidSettings
from basin.scene.liquids import LIQUIDS
from basin.scene.liquids import Name as LiquidName
from basin.sea.settings import SeaFoam, SeaSettings, WakeSettings
from basin.settings import LEAST, Curve, Part, Vec3, on_spans, setting
from basin.surface.settings import SurfaceSettings
from basin.whitewater.mist_settings import MistSettings
from basin.whitewater.settings import ONE_KIND, WhitewaterSettings, but_layer, of_kinds, of_layer

T = TypeVar("T")
OWN = {"liquid": ["own numbers"]}
Wall = Literal["closed", "open", "periodic", "calm"]
FORMAT = "zinc-scene/1"
MOST_FRAMES = 10_000
MOST_ELEMENTS, MOST_DELIVERIES, LONGEST_CHAIN, MOST_ASIDE = 200, 20, 16, 1000
MOST_VIEWS = 50
MOST_VOXELS = 100_000  # along an edge of the domain
WATER, PEAT = (0.05, 0.21, 0.22), (0.35, 0.11, 0.03)  # linear red, green, blue


class Time(Part):
    """Frames, and how fast time passes for the liquid."""

    first: int = setting(1, group="Frames", ge=0, le=100000, meaning="First frame: the initial state.")
    last: int = setting(
        120, group="Frames", ge=0, le=100000, cost="Minutes and disk go with the frames.", meaning="Last frame."
    )
    fps: float = setting(24.0, unit="1/s", group="Frames", gt=0, le=1000, slider=(12, 60), meaning="Frames per second.")
    time_scale: float = setting(
        1.0,
        unit="x",
        group="Frames",
        gt=0,
        le=10,
        slider=(0.05, 2),
        scale="log",
        meaning="Liquid seconds per shot second: 0.1 is ten times slow motion.",
    )

    @model_validator(mode="after")
    def _forward(self) -> Time:
        if self.last < self.first:
            raise ValueError(f"frame range runs backwards ({self.first} to {self.last}); swap first and last")
        if self.last - self.first >= MOST_FRAMES:
            raise ValueError(f"{self.last - self.first + 1:,} frames; at most {MOST_FRAMES:,}, so make two shots of it")
        return self

    def shot_time(self, frame: int) -> float:
        """Shot seconds of a frame."""
        return (frame - self.first) / self.fps


class Walls(Part):
    """The six walls of the domain: closed; open (liquid leaves); periodic, an axis when both of its walls say so; or
    calm, where still liquid goes on outside and waves run out."""

    x_min: Wall = setting("closed", group="Walls", label="X least", meaning="Wall at the smallest x.")
    x_max: Wall = setting("closed", group="Walls", label="X most", meaning="Wall at the largest x.")
    y_min: Wall = setting("closed", group="Walls", label="Floor", meaning="Wall at the smallest y.")
    y_max: Wall = setting("open", group="Walls", label="Ceiling", meaning="Wall at the largest y.")
    z_min: Wall = setting("closed", group="Walls", label="Z least", meaning="Wall at the smallest z.")
    z_max: Wall = setting("closed", group="Walls", label="Z most", meaning="Wall at the largest z.")

    @model_validator(mode="after")
    def _pairs(self) -> Walls:
        for axis in "xyz":
            low, high = getattr(self, f"{axis}_min"), getattr(self, f"{axis}_max")
            if (low == "periodic") != (high == "periodic"):
                raise ValueError(f"{axis}: a periodic axis needs both of its walls periodic")
        return self

    def pairs(self) -> list[tuple[Wall, Wall]]:
        """(low, high) for x, y and z."""
        return [(self.x_min, self.x_max), (self.y_min, self.y_max), (self.z_min, self.z_max)]


def _angle(meaning: str) -> Any:
    return setting(90.0, unit="deg", group="Touch", ge=0, le=180, slider=(0, 180), meaning=meaning)


def _receding() -> Any:
    return setting(
        None,
        unit="deg",
        group="Touch",
        ge=0,
        le=180,
        slider=(0, 180),
        meaning="The same where liquid draws back; smaller, drops stay where they hang. Empty is the contact angle.",
    )


def _in_order(advancing: float, receding: float | None) -> None:
    if receding is not None and receding > advancing:
        raise ValueError("receding_angle is larger than contact_angle; liquid that draws back meets at a smaller one")


class Domain(Part):
    """The box in which liquid may exist."""

    low: Vec3 = setting((-0.5, 0.0, -0.5), unit="m", group="Box", label="Corner", meaning="Smallest corner.")
    size: Vec3 = setting((1.0, 1.0, 1.0), unit="m", group="Box", meaning="Edge lengths.")
    walls: Walls = Field(default_factory=Walls, description="What each wall does.")
    calm: float = setting(
        0.5,
        unit="m",
        group="Walls",
        gt=0,
        slider=(0.05, 5),
        scale="log",
        label="Depth of calm walls",
        meaning="Way before a calm wall over which waves run out; at least the longest wave that should.",
    )
    discard: float = setting(
        0.0,
        unit="m",
        group="Walls",
        ge=0,
        slider=(0, 0.5),
        label="Discard before open walls",
        meaning="Liquid that comes this near to an open wall is thrown away.",
    )
    contact_angle: float = _angle("The same of closed walls as of colliders.")
    receding_angle: float | None = _receding()

    @model_validator(mode="after")
    def _line(self) -> Domain:
        _in_order(self.contact_angle, self.receding_angle)
        return self

    @model_validator(mode="after")
    def _positive(self) -> Domain:
        if min(self.size) <= 0:
            raise ValueError("size must be positive in all three directions")
        if min(self.size) < LEAST["m"]:
            raise ValueError(f"size must be {LEAST['m']:g} m at least in all three directions")
        return self


class Element(Part):
    """What every element of the scene has."""

    name: str = Field(min_length=1, max_length=80, description="Name, once per scene.")
    pose: Pose = Field(default_factory=Pose, description="Where it is.")
    attached: str | None = setting(
        None, group="Place", control="element", label="Attached to", meaning="Element whose pose its own is within."
    )
    delivered: bool = setting(
        False, group="Place", meaning="Whether it leaves with deliveries that have elements, as a mesh."
    )
    shown: float | Curve = setting(
        1.0,
        group="Place",
        keyed=True,
        slider=(0, 1),
        meaning="Whether it is seen in the viewport: from 0.5 on. It acts all the same.",
    )
    hidden: bool = setting(False, group="Place", meaning="Put out of sight while setting up. It acts all the same.")
    locked: bool = setting(
        False, group="Place", meaning="Not picked nor moved in the viewport; settings and keys can be changed still."
    )
    group: str = setting("", group="Place", meaning="Elements of the same group are picked together.")


def _share(meaning: str) -> Any:
    return setting(0.0, group="Motion", ge=0, le=1, slider=(0, 1), label="Share of its own motion", meaning=meaning)


class Span(Element):
    """An element that does what it does between two moments, and while it is active."""

    start: float = setting(0.0, unit="s", group="Time", ge=0, meaning="Shot second from which it acts.")
    end: float | None = setting(
        None, unit="s", group="Time", meaning="Shot second until which it acts; empty for ever."
    )
    active: float | Curve = setting(
        1.0,
        group="Time",
        keyed=True,
        slider=(0, 1),
        meaning="Switches it on, from 0.5, and off between its start and its end.",
    )

    @model_validator(mode="after")
    def _forward(self) -> Span:
        if self.end is not None and self.end < self.start:
            raise ValueError("end lies before start; swap them")
        return self

    def until(self) -> float:
        """The end, which may be infinite."""
        return float("inf") if self.end is None else self.end

    def spans(self) -> list[tuple[float, float]]:
        """Shot seconds from and until which it acts, in order."""
        clipped = ((max(a, self.start), min(b, self.until())) for a, b in on_spans(self.active))
        return [(a, b) for a, b in clipped if a <= b]

    def acts(self, start: float, end: float) -> list[tuple[float, float]]:
        """The parts of [start, end] in which it acts."""
        return [(max(a, start), min(b, end)) for a, b in self.spans() if a <= end and b >= start]


@dataclass(frozen=True)
class Substance:
    """Density (kg/m3), viscosity (Pa s), yield stress (Pa), flow index and surface tension (N/m) of a liquid."""

    density: float
    viscosity: float
    yield_stress: float
    flow_index: float
    surface_tension: float


class Source(Element):
    """An element that gives liquid: what this is born with, and carries along."""

    liquid: LiquidName = setting(
        "own numbers",
        group="At birth",
        meaning="What it is: viscosity, yield stress, flow index and surface tension are then those of the manual's "
        "table of liquids, with its own density.",
    )
    viscosity: float = setting(
        0.0,
        when=OWN,
        unit="Pa s",
        group="At birth",
        ge=0,
        le=1e6,
        slider=(0.001, 1000),
        scale="log",
        cost="Any above 0 adds a solve to each substep, the longer the thicker, and memory a particle.",
        meaning="How hard it is to shear. Water has 0.001, too little to see; a thin oil 0.1, honey about 10, pitch "
        "many thousands. 0 computes none; what mixes takes the mean.",
    )
    yield_stress: float = setting(
        0.0,
        when=OWN,
        unit="Pa",
        group="At birth",
        ge=0,
        le=1e6,
        slider=(0.1, 1000),
        scale="log",
        cost="As viscosity does, and a little more.",
        meaning="Stress below which it does not flow but stays where it lies: ketchup has about 15, mayonnaise 80, "
        "soft clay some hundreds. 0 flows at any.",
    )
    flow_index: float = setting(
        1.0,
        when=OWN,
        group="At birth",
        ge=0.1,
        le=2.0,
        slider=(0.2, 1.5),
        meaning="How its stress grows with the rate of shear: 1 in proportion, below it flows the more easily the "
        "faster it is sheared, as paint and ketchup do, above it stiffens. Viscosity is then that at one per second.",
    )
    surface_tension: float = setting(
        0.0,
        when=OWN,
        unit="N/m",
        group="At birth",
        ge=0,
        le=1e5,
        slider=(0.005, 0.5),
        scale="log",
        label="Surface tension",
        cost="A twentieth more for each substep, and more of them where voxels are small.",
        meaning="How hard its surface pulls itself together: rims, drops, threads that pinch. Water has 0.073, oils "
        "and syrups 0.03 to 0.08, mercury 0.49. It shows below some centimetres; 0 computes none.",
    )
    paint: Paint = Field(default_factory=Plain, description="How the two colours and marks are laid out.")
    colour: Vec3 = setting(
        WATER, group="At birth", control="colour", meaning="Linear red, green and blue that the liquid carries along."
    )
    colour_to: Vec3 = setting(
        PEAT, group="At birth", control="colour", label="Second colour", meaning="The other one, if there are two."
    )
    mark: float = setting(
        0.0,
        group="At birth",
        slider=(0, 1),
        meaning="A number that the liquid carries along, for any use.",
    )
    mark_to: float = setting(
        1.0, group="At birth", slider=(0, 1), label="Second mark", meaning="The other one, if there are two."
    )

    @model_validator(mode="after")
    def _light(self) -> Source:
        if min(*self.colour, *self.colour_to) < 0:
            raise ValueError("colours cannot be negative")
        return self

    def made_of(self, density: float) -> Substance:
        """What its liquid is, in a scene whose liquid has a density (kg/m3) if it does not name one."""
        named = LIQUIDS.get(self.liquid)
        if named is None:
            return Substance(density, self.viscosity, self.yield_stress, self.flow_index, self.surface_tension)
        numbers = (named.viscosity, named.yield_stress, named.flow_index, named.surface_tension)
        return Substance(named.density, *numbers)

    def painted(self) -> bool:
        """Whether its liquid carries anything that another source's would not."""
        plain = self.paint == Plain() and self.colour == WATER and self.mark == 0.0
        return not plain


class Fill(Source):
    """Liquid put in once."""

    kind: Literal["fill"] = "fill"
    shape: FillShape = Field(default_factory=Box, description="Its shape.")
    velocity: Vec3 = setting(
        (0.0, 0.0, 0.0), unit="m/s", group="Motion", meaning="Velocity at the start, per shot second, as seen."
    )
    carry: float = _share("How much of the velocity of its moving pose the liquid starts with.")
    start_frame: int | None = setting(
        None, group="Motion", meaning="Frame at which the liquid is there; empty is the first frame."
    )


class Inflow(Source, Span):
    """Liquid poured over a span of time, through a flat opening (facing its own Y axis) or out of a shape."""

    kind: Literal["inflow"] = "inflow"
    shape: InflowShape = Field(default_factory=Disc, description="Its shape.")
    amount: Literal["speed", "flow", "total", "full"] = setting(
        "speed",
        group="Amount",
        meaning="What is given: velocity, litres per second, litres over its span, or that its shape is kept full.",
    )
    velocity: Vec3 = setting(
        (0.0, -1.0, 0.0),
        unit="m/s",
        group="Motion",
        meaning="Velocity of the liquid, per shot second, as seen; only its direction counts when litres are given.",
    )
    flow: float | Curve = setting(
        1.0,
        unit="l/s",
        when={"amount": ["flow"]},
        group="Amount",
        keyed=True,
        slider=(0.01, 100),
        scale="log",
        meaning="Litres per shot second.",
    )
    total: float = setting(
        10.0,
        unit="l",
        when={"amount": ["total"]},
        group="Amount",
        gt=0,
        slider=(0.1, 1000),
        scale="log",
        meaning="Litres from its start to its end.",
    )
    carry: float = _share("How much of the velocity of its moving pose the liquid is given besides.")

    @model_validator(mode="after")
    def _possible(self) -> Inflow:
        if self.amount == "total" and (self.end is None or self.end <= self.start):
            raise ValueError("a total needs an end after the start; say until when it pours")
        if self.amount == "full" and isinstance(self.shape, FlatOpening):
            raise ValueError("a flat opening holds nothing that could be kept full; use a shape with an inside")
        if self.amount in ("flow", "total") and not any(self.velocity):
            raise ValueError("velocity is zero, so litres have no direction; give it one")
        return self


class Drain(Span):
    """Where liquid is thrown away."""

    kind: Literal["drain"] = "drain"
    shape: FillShape = Field(default_factory=Box, description="Its shape.")
    takes: Literal["inside", "outside"] = setting(
        "inside",
        group="Shape",
        label="Liquid goes",
        meaning="Inside of the shape, or everywhere outside of it: what strays from where it belongs is thrown away.",
    )


_ON_WHITEWATER: dict[str, list[str]] = {"acts_on": ["liquid and whitewater", "whitewater"]}
_MESHES = ["ply", "obj", "glb", "usd", "abc"]
_OF_SEA: dict[str, list[str]] = {"format": [*_MESHES, "exr"], "sea": ["true"]}
_SEA_MESH: dict[str, list[str]] = {"format": _MESHES, "sea": ["true"]}
_AS_POINTS: dict[str, list[str]] = {"format": _MESHES, "whitewater": ["true"]}


class Force(Span):
    """What pushes liquid, everywhere or in a zone with a soft edge."""

    kind: Literal["force"] = "force"
    effect: Effect = Field(default_factory=Drag, description="What it does.")
    zone: Zone = Field(default_factory=Everywhere, description="Where it does it.")
    softness: float = setting(
        0.1,
        unit="m",
        group="Zone",
        ge=0,
        slider=(0, 1),
        label="Soft edge",
        meaning="Way into the zone over which it comes up from nothing.",
    )
    acts_on: Literal["liquid and whitewater", "liquid", "whitewater"] = setting(
        "liquid and whitewater",
        group="Acts on",
        label="What",
        meaning="What it pushes. Wind carries spray along and foam by a share of its speed; bubbles it leaves.",
    )
    kinds: ONE_KIND = of_kinds(_ON_WHITEWATER, "Acts on", "Which of the whitewater it pushes.")
    layer: str = of_layer(_ON_WHITEWATER, "Acts on")
    but_layer: bool = but_layer(_ON_WHITEWATER, "Acts on")


class Collider(Span):
    """A solid that the liquid meets: still, moved by its pose, or deformed by a sequence of meshes."""

    kind: Literal["collider"] = "collider"
    delivered: bool = setting(
        True, group="Place", meaning="Whether it leaves with deliveries that have elements, as a mesh."
    )
    shape: ColliderShape = Field(default_factory=Box, description="Its shape.")
    side: Literal["outside", "inside", "shell", "ground"] = setting(
        "outside",
        group="Shape",
        label="Liquid is",
        meaning="Outside of the shape, inside of it (the shape is the room in a vessel), on both sides of a shell, or "
        "above an open mesh that is the ground, solid all the way down.",
    )
    sampling: float | None = setting(
        None,
        unit="m",
        group="Shape",
        gt=0,
        slider=(0.001, 0.1),
        scale="log",
        label="Voxel of its own",
        cost="Half of it: eight times the memory of this collider, and slower starts.",
        meaning="How finely a mesh's distance is sampled; empty is the liquid's own voxel.",
    )
    thickness: float = setting(
        0.02,
        unit="m",
        when={"side": ["shell"]},
        group="Shape",
        gt=0,
        slider=(0.001, 0.2),
        scale="log",
        label="Of a shell",
        meaning="Thickness of a shell.",
    )
    contact_angle: float = _angle(
        "Liquid with surface tension meets it at this angle, measured through the liquid: 0 to 30 spreads out (water "
        "on clean glass), 60 to 100 stands as drops (skin, plastics), 110 and more rolls off (wax)."
    )
    receding_angle: float | None = _receding()
    slip_length: float | None = setting(
        0.0,
        unit="m",
        group="Touch",
        ge=0,
        slider=(0.0001, 0.1),
        scale="log",
        meaning="How far below its surface thick liquid that slides along it would be at rest: 0 sticks, empty slides "
        "freely. Liquid without viscosity slides anyway.",
    )

    at_sea: Literal["by itself", "makes waves", "sends waves back", "nothing"] = setting(
        "by itself",
        group="Sea",
        label="On a sea it",
        meaning="Where the scene makes wakes: by itself, what moves makes waves and what stands still sends them back.",
    )

    @model_validator(mode="after")
    def _sides(self) -> Collider:
        if self.side != "outside" and isinstance(self.shape, GroundPlane):
            raise ValueError("a ground plane has no inside; liquid can only be outside of it")
        if self.side == "ground" and not isinstance(self.shape, MeshShape):
            raise ValueError("only a mesh can be the ground; let liquid be outside of this shape")
        return self

    @model_validator(mode="after")
    def _line(self) -> Collider:
        _in_order(self.contact_angle, self.receding_angle)
        return self


AnyElement = Annotated[Fill | Inflow | Collider | Drain | Force, Field(discriminator="kind")]


class View(Part):
    """Where the shot is seen from."""

    eye: Vec3 | Curve = setting((2.2, 1.5, 2.6), unit="m", group="Camera", keyed=True, meaning="Place of the camera.")
    target: Vec3 | Curve = setting((0.0, 0.4, 0.0), unit="m", group="Camera", keyed=True, meaning="Point it looks at.")
    angle: float | Curve = setting(
        35.0, unit="deg", group="Camera", keyed=True, slider=(15, 70), meaning="Upright angle, above 1 and up to 120."
    )
    roll: float | Curve = setting(
        0.0,
        unit="deg",
        group="Camera",
        keyed=True,
        slider=(-45, 45),
        meaning="Turn about the line of sight: above 0 the camera leans to its right.",
    )
    film: float = setting(
        36.0,
        unit="mm",
        group="Camera",
        gt=0,
        le=200,
        slider=(10, 70),
        label="Film width",
        meaning="Of a frame of 16 to 9: what a focal length is told on. The picture follows from the angle alone.",
    )
    backdrop: str = setting(
        "",
        group="Camera",
        control="image",
        meaning="Image, or numbered images (####), behind everything when the view is through the shot camera.",
    )

    @model_validator(mode="after")
    def _angles(self) -> View:
        held = self.angle.keys if isinstance(self.angle, Curve) else []
        given = [k.value for k in held] if held else [self.angle]
        if not all(isinstance(a, float | int) and 1 < a <= 120 for a in given):
            raise ValueError("the upright angle lies above 1 and up to 120 degrees")
        return self


class NamedView(View):
    """A view that is kept under a name."""

    name: str = Field(min_length=1, max_length=80, description="Name, once per scene.")


class Quality(Part):
    """How much coarser than final the other qualities are."""

    draft: float = setting(
        4.0,
        unit="x",
        group="Quality",
        ge=1,
        le=16,
        cost="As the voxel: half of it, sixteen times the minutes.",
        meaning="Voxel of a draft, times final.",
    )
    proof: float = setting(
        2.0,
        unit="x",
        group="Quality",
        ge=1,
        le=16,
        cost="As the voxel: half of it, sixteen times the minutes.",
        meaning="Voxel of a proof, times final.",
    )

    def factor(self, quality: str) -> float:
        """Voxel size multiplier of a quality."""
        return {"draft": self.draft, "proof": self.proof, "final": 1.0}[quality]


class Delivery(Part):
    """A named set of files for who takes over: what leaves, which frames, and how it is written."""

    name: str = setting("surface", group="Delivery", meaning="Name, once per scene; its folder is called so.")
    format: Literal["ply", "obj", "glb", "usd", "abc", "vdb", "exr"] = setting(
        "usd",
        group="Files",
        meaning="Open format of the files. OpenVDB takes the liquid's grid: level set, density, velocity; OpenEXR the "
        "surface from above: height, depth, velocity.",
    )
    surface: bool = setting(
        True,
        when={"format": _MESHES},
        group="What leaves",
        meaning="The meshed surface, with all that its vertices carry.",
    )
    liquid: bool = setting(
        False,
        when={"format": _MESHES},
        group="What leaves",
        meaning="The particles, with all that they carry.",
    )
    whitewater: bool = setting(
        False,
        when={"format": _MESHES},
        group="What leaves",
        meaning="Foam, spray and bubbles as points with their kinds, radii, ages and lives.",
    )
    kinds: ONE_KIND = of_kinds(_AS_POINTS, "What leaves", "Which of the whitewater leaves.")
    layer: str = of_layer(_AS_POINTS, "What leaves")
    but_layer: bool = but_layer(_AS_POINTS, "What leaves")
    share: float = setting(
        1.0,
        when=_AS_POINTS,
        group="What leaves",
        gt=0,
        le=1,
        slider=(0.01, 1),
        label="Share of the whitewater",
        meaning="How much of it leaves, by its ids: the same of it in all frames, and all of it in the cache.",
    )
    denser: float | None = setting(
        None,
        unit="mm",
        when=_AS_POINTS,
        group="What leaves",
        gt=0,
        slider=(0.5, 50),
        scale="log",
        label="Denser, to a spacing",
        cost="Half of it: up to eight times the points.",
        meaning="New points are put between those of a kind and layer until they lie so far apart: about the volume "
        "over its third power, of foam the area over its square. Empty is none.",
    )
    reach: float = setting(
        20.0,
        unit="mm",
        when=_AS_POINTS,
        group="What leaves",
        gt=0,
        slider=(1, 200),
        scale="log",
        label="Between points up to",
        meaning="Points that are farther from each other have none put between them.",
    )
    order: Literal["thinned first", "denser first"] = setting(
        "thinned first",
        when=_AS_POINTS,
        group="What leaves",
        meaning="Whether the share is taken before others are put between, or of all of them.",
    )
    mist: bool = setting(
        False,
        when={"format": ["vdb"]},
        group="What leaves",
        label="Mist",
        meaning="The mist's density and the air's velocity, in the place of the liquid's grid.",
    )
    sea: bool = setting(
        False,
        when={"format": [*_MESHES, "exr"]},
        group="What leaves",
        meaning="The sea's surface as a mesh; as images, in the place of the liquid's heights, each of its patches.",
    )
    sea_foam: bool = setting(
        False,
        when=_OF_SEA,
        group="What leaves",
        label="Its foam",
        meaning="What the sea's surface carries of foam; in images that of the first patch.",
    )
    wake: bool = setting(
        False, when=_SEA_MESH, group="What leaves", label="Its wakes", meaning="Wakes are added to the surface."
    )
    sea_as: Literal["a square", "as the camera sees it"] = setting(
        "a square",
        when=_SEA_MESH,
        group="What leaves",
        label="Its mesh is",
        meaning="A square of even mesh about where its patches lie as they are, or a fan from under the camera that "
        "is fine where that is near.",
    )
    side: float = setting(
        100.0,
        unit="m",
        when=_SEA_MESH,
        group="What leaves",
        gt=0,
        le=100_000,
        slider=(10, 10_000),
        scale="log",
        label="As far as",
        meaning="Side of the square, or how far from the camera the fan goes.",
    )
    points: int = setting(
        512,
        when=_SEA_MESH,
        group="What leaves",
        ge=8,
        le=4096,
        slider=(128, 2048),
        scale="log",
        label="Its quads across",
        cost="Twice of it: four times the points.",
        meaning="Along a side of the square, or across the fan.",
    )
    elements: bool = setting(
        False,
        when={"format": _MESHES},
        group="What leaves",
        meaning="Elements that are marked as delivered, as meshes.",
    )
    one_file: bool = setting(
        False,
        when={"format": ["usd", "abc"]},
        group="Files",
        label="One file",
        meaning="All frames in one file (USD, Alembic), or a file for each.",
    )
    pattern: str = setting(
        "{piece}.####",
        group="Files",
        label="File names",
        meaning="{piece} is what the file holds, # the frame number, padded to as many digits.",
    )
    unit: Literal["m", "cm", "mm", "in", "ft"] = setting("m", group="Files", meaning="What one unit of the files is.")
    up: Literal["y", "z", "x"] = setting("y", group="Files", label="Up axis", meaning="Axis of the files that is up.")
    first: int | None = setting(None, group="Frames", meaning="First frame; empty is the shot's first.")
    last: int | None = setting(None, group="Frames", meaning="Last frame; empty is the shot's last.")
    step: int = setting(1, unit="frames", group="Frames", ge=1, le=1000, meaning="Every how many frames.")
    offset: int = setting(0, unit="frames", group="Frames", meaning="Added to frame numbers in the files.")
    resolution: int = setting(
        512,
        unit="pixels",
        when={"format": ["exr"]},
        group="Files",
        ge=16,
        le=8192,
        slider=(128, 2048),
        meaning="Longer side of the images.",
    )

    @model_validator(mode="after")
    def _possible(self) -> Delivery:
        if not re.fullmatch(r"[\w][\w .-]*", self.name) or len(self.name) > 80:
            raise ValueError("a delivery's name is made of letters, digits, blanks, dots and dashes")
        if not re.fullmatch(r"[\w#{}.-]+", self.pattern) or self.pattern.startswith("."):
            raise ValueError("file names are made of letters, digits, dots, dashes, # and {piece}; no folders")
        if re.sub(r"\{piece\}", "", self.pattern).count("{") or "}" in self.pattern.replace("{piece}", ""):
            raise ValueError("file names know {piece} alone in braces")
        if len(re.findall("#+", self.pattern)) > 1 or (not self.single() and "#" not in self.pattern):
            raise ValueError("file names need one run of # for the frame number")
        if "{piece}" not in self.pattern and (self.format in ("ply", "obj") or self.patches()):
            raise ValueError("file names need {piece}, since each piece is a file of its own")
        if not self.parts():
            raise ValueError("nothing leaves; choose what does")
        self._known_by_format()
        if self.first is not None and self.last is not None and self.last < self.first:
            raise ValueError(f"frames run backwards ({self.first} to {self.last}); swap first and last")
        return self

    def _known_by_format(self) -> None:
        if self.format == "glb" and (self.unit, self.up) != ("m", "y"):
            raise ValueError("glTF is in metres with Y up; leave unit and up axis so, or choose another format")
        if self.format == "usd" and self.up == "x":
            raise ValueError("USD knows Y and Z as up axes; choose one of them")

    def parts(self) -> list[str]:
        """What leaves, by name."""
        if self.format == "vdb":
            return ["mist" if self.mist else "grids"]
        of_sea = ["sea", *(name for name in ("sea_foam", "wake") if getattr(self, name))] if self.sea else []
        if self.format == "exr":
            return [name for name in of_sea if name != "wake"] or ["heights"]
        own = [name for name in ("surface", "liquid", "whitewater", "elements") if getattr(self, name)]
        return own + of_sea

    def files(self) -> list[str]:
        """Of `parts`, those that are pieces of their own, in files of their own where a format holds one."""
        return [name for name in self.parts() if name not in ("sea_foam", "wake")]

    def patches(self) -> bool:
        """Whether it is the sea's patches as images."""
        return self.sea and self.format == "exr"

    def single(self) -> bool:
        """Whether all frames go into one file."""
        return self.one_file and self.format in ("usd", "abc")


class Scene(Part):
    """All that a take describes."""

    format: Literal["zinc-scene/1"] = "zinc-scene/1"
    name: str = Field("Untitled", min_length=1, max_length=120)
    time: Time = Field(default_factory=Time)
    domain: Domain = Field(default_factory=Domain)
    liquid: LiquidSettings = Field(default_factory=LiquidSettings)
    surface: SurfaceSettings = Field(default_factory=SurfaceSettings)
    whitewater: WhitewaterSettings = Field(default_factory=WhitewaterSettings)
    mist: MistSettings = Field(default_factory=MistSettings)
    sea: SeaSettings = Field(default_factory=SeaSettings)
    wake: WakeSettings = Field(default_factory=WakeSettings)
    sea_foam: SeaFoam = Field(default_factory=SeaFoam)
    quality: Quality = Field(default_factory=Quality)
    camera: View = Field(default_factory=View)
    views: list[NamedView] = Field(default_factory=list, max_length=MOST_VIEWS, description="Views kept by name.")
    elements: list[AnyElement] = Field(default_factory=list, max_length=MOST_ELEMENTS)
    deliveries: list[Delivery] = setting(
        factory=list, group="Deliveries", control="list", meaning="Named sets of files that leave."
    )
    aside: list[str] = Field(default_factory=list, max_length=MOST_ASIDE, description="Advice that was put aside.")

    @model_validator(mode="after")
    def _deliveries(self) -> Scene:
        names = [d.name.lower() for d in self.deliveries]
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise ValueError(f"two deliveries are named {twice[0]!r}; give each its own name")
        if len(names) > MOST_DELIVERIES:
            raise ValueError(f"{len(names)} deliveries; at most {MOST_DELIVERIES}")
        return self

    @model_validator(mode="after")
    def _grid(self) -> Scene:
        count = max(self.domain.size) / self.liquid.voxel_size
        if count > MOST_VOXELS:
            raise ValueError(
                f"the domain is {count:,.0f} voxels long; at most {MOST_VOXELS:,}, so take a coarser voxel or make it "
                "smaller"
            )
        return self

    @model_validator(mode="after")
    def _names(self) -> Scene:
        names = [e.name for e in self.elements]
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise ValueError(f"two elements are named {twice[0]!r}; give each its own name")
        for element in self.elements:
            self._chain(element)
        return self

    def _chain(self, element: AnyElement) -> list[AnyElement]:
        """An element and those that it is attached to, in turn."""
        chain = [element]
        by_name = {e.name: e for e in self.elements}
        while chain[-1].attached:
            name = chain[-1].attached
            if name not in by_name:
                raise ValueError(f"{chain[-1].name!r} is attached to {name!r}, which is not there; choose another one")
            chain.append(by_name[name])
            if len(chain) > LONGEST_CHAIN + 1:
                raise ValueError(f"{element.name!r} is attached over more than {LONGEST_CHAIN} others; take some off")
            if any(chain[-1] is one for one in chain[:-1]):
                loop = " to ".join(repr(e.name) for e in chain)
                raise ValueError(f"attached in a ring, {loop}; take one of them off")
        return chain

    def is_sea_alone(self) -> bool:
        """Whether it has a sea and nothing that gives liquid."""
        return self.sea.made and not any(isinstance(e, Source) for e in self.elements)

    def placement(self, element: AnyElement) -> Placement:
        """Where an element is over shot time, with all that it is attached to."""
        placed: Placement = element.pose
        for other in self._chain(element)[1:]:
            placed = Attached(other.pose, placed)
        return placed

    def voxel_size(self, quality: str) -> float:
        """Voxel size of the liquid in metres at a quality."""
        return self.liquid.voxel_size * self.quality.factor(quality)

    def at_voxel(self, size: float) -> Scene:
        """The same scene at another final voxel size (m)."""
        return self.model_copy(update={"liquid": self.liquid.model_copy(update={"voxel_size": size})})

    def of_kind(self, kind: type[T]) -> list[T]:
        """Elements of one kind, in order."""
        return [e for e in self.elements if isinstance(e, kind)]
