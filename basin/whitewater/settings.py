"""Settings of the whitewater stage."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import model_validator

from basin.settings import Part, setting

MOST_LAYERS, MOST_LETTERS = 8, 40
COUNTED, OF_AIR, BY_RATE, BORN = ["fullest", "all"], ["air"], ["rate"], ["air", "element", "rain"]


ONE_KIND = Literal[
    "all kinds", "spray", "foam", "bubbles", "all but spray", "all but foam", "all but bubbles"
]  # of whitewater, or all but one


def of_kinds(when: dict[str, Any], group: str, meaning: str) -> Any:
    """A setting that says which kinds of whitewater something is about."""
    return setting("all kinds", when=when, group=group, label="Kinds", meaning=meaning)


def of_layer(when: dict[str, Any], group: str) -> Any:
    """A setting that says which layer something is about; empty is all of them."""
    return setting("", when=when, group=group, control="layer", label="Layer", meaning="All layers, or one of them.")


def but_layer(when: dict[str, Any], group: str) -> Any:
    """A setting that turns the one layer into all but that."""
    return setting(False, when=when, group=group, label="All but this layer", meaning="Every layer but the one above.")


def _end(label: str, unit: str, which: str, otherwise: str) -> Any:
    where = "nothing is born below it" if which == "from" else "more gives birth no more"
    return setting(
        None,
        unit=unit,
        when={"born_of": ["air"]},
        group="Where it is born",
        ge=0,
        le=1e6,
        label=f"{label} {which}",
        meaning=f"In this range, {where}; the stage Air shows the values of this shot. Empty is {otherwise}.",
    )


def _to(label: str, unit: str = "") -> Any:
    return _end(label, unit, "to", "what 99 of 100 particles stay below in the shot's wildest frame")


def _from(label: str, unit: str, share: float) -> Any:
    return _end(label, unit, "from", f"{100 * share:.0f} % of the other end")


def _share(label: str, default: float) -> Any:
    return setting(
        default,
        when={"born_of": ["air"]},
        group="Where it is born",
        ge=0,
        le=1,
        slider=(0, 1),
        label=f"{label}, share",
        meaning="How much of it counts; with 0 nothing is born of it.",
    )


class Where(Part):
    """A limit on where the liquid gives birth."""

    by: Literal["speed", "depth", "age", "mark", "x", "height", "z", "collider"] = setting(
        "height",
        group="Limit",
        meaning="What it goes by: the liquid's speed (m/s), depth under the surface (m), age (s) or mark, a place "
        "along the scene's axes (m), or the distance to the nearest collider (m).",
    )
    none: float = setting(0.0, group="Limit", label="None at", meaning="Value at which nothing is born.")
    full: float = setting(1.0, group="Limit", label="Whole at", meaning="Value from which all is born.")

    @model_validator(mode="after")
    def _apart(self) -> Where:
        if self.none == self.full:
            raise ValueError("a limit needs two values that differ, from none to whole")
        return self


# below these, calm water would be searched for its own whispers: jets draw no air in under some 0.8 m/s (Bin 1993,
# "Gas entrainment by plunging liquid jets", Chem Eng Sci 48, from memory)
LEAST_TO = {"trapped": 0.5, "crest": 0.5, "vorticity": 5.0, "energy": 0.4}
FROM = {"trapped": 0.4, "crest": 0.4, "vorticity": 0.5, "energy": 0.1}  # of the other end, where a range is left empty


class Layer(Part):
    """Whitewater that is born, lives and is delivered together."""

    name: str = setting("foam and spray", group="How much", meaning="Name, once per scene.")
    born_of: Literal["air", "element", "rain", "drops"] = setting(
        "air",
        group="How much",
        label="Born of",
        meaning="The air that the liquid traps; an element of the scene: by hand from any shape, or from a body that "
        "goes through the surface; rain that falls onto the liquid; or the liquid's own drops that are too small for "
        "its mesh, which are then no part of the surface any more.",
    )
    largest: float = setting(
        3.0,
        unit="mm",
        when={"born_of": ["drops"]},
        group="How much",
        gt=0,
        le=1000,
        slider=(0.2, 30),
        scale="log",
        label="Drops, up to",
        meaning="Radius up to which a drop of the liquid is spray of the same mass; up to 1.6 times it, it goes over "
        "softly. It flies as the liquid does.",
    )
    element: str = setting(
        "",
        when={"born_of": ["element"]},
        group="How much",
        control="element",
        meaning="That it is born of.",
    )
    where: Literal["inside", "surface", "crossing"] = setting(
        "inside",
        when={"born_of": ["element"]},
        group="How much",
        meaning="All through the element, evenly over its surface, or where its surface goes through the liquid's: "
        "then the more the faster it goes against the liquid.",
    )
    picture: str = setting(
        "",
        when={"born_of": ["element"]},
        group="How much",
        label="By an image",
        control="image",
        meaning="Where it is bright most is born, where it is black nothing. PNG, JPEG or TIFF, relative to the scene "
        "document; #### stands for frame numbers.",
    )
    picture_along: Literal["x", "y", "z"] = setting(
        "y",
        when={"born_of": ["element"]},
        group="How much",
        label="Image projected along",
        meaning="Own axis of the element.",
    )
    picture_width: float = setting(
        1.0,
        unit="m",
        when={"born_of": ["element"]},
        group="How much",
        gt=0,
        slider=(0.05, 10),
        scale="log",
        label="Image width",
        meaning="In the element's own frame, about its origin; the image is repeated beyond.",
    )
    rain: float = setting(
        20.0,
        unit="mm/h",
        when={"born_of": ["rain"]},
        group="How much",
        gt=0,
        le=500,
        slider=(0.5, 100),
        scale="log",
        meaning="How hard it rains, over all of the domain, straight down; colliders shelter what is under them. 2 is "
        "light, 10 heavy, 50 a cloudburst.",
    )
    under: float = setting(
        0.2,
        when={"born_of": ["rain"]},
        group="How much",
        ge=0,
        le=1,
        slider=(0, 1),
        label="Bubbles, share",
        meaning="How much of what an impact makes is foam on the surface; the rest are drops that it throws.",
    )
    ask: Literal["fullest", "all", "air", "rate"] = setting(
        "fullest",
        when={"born_of": ["air", "element", "rain"]},
        group="How much",
        label="Ask for",
        meaning="So many particles at the fullest frame, so many in all over the shot, so many litres of air, or so "
        "many births a second where it is readiest. The rate for the first three is solved for over the whole shot.",
    )
    particles: float = setting(
        50_000.0,
        unit="particles",
        when={"ask": COUNTED, "born_of": BORN},
        group="How much",
        gt=0,
        le=2e9,
        slider=(1000, 10_000_000),
        scale="log",
        cost="Minutes, memory and disk go with them: 50 bytes on disk for each and frame.",
        meaning="How many. A shot uses tens of thousands to some millions.",
    )
    litres: float = setting(
        1.0,
        unit="l",
        when={"ask": OF_AIR, "born_of": BORN},
        group="How much",
        gt=0,
        le=1e6,
        slider=(0.01, 100),
        scale="log",
        label="Air",
        meaning="Volume of all bubbles, and foam's, that are born over the shot.",
    )
    rate: float = setting(
        10.0,
        unit="1/s",
        when={"ask": BY_RATE, "born_of": BORN},
        group="How much",
        gt=0,
        le=1e6,
        slider=(0.1, 1000),
        scale="log",
        meaning="Births of a liquid particle in a liquid second where it is readiest; of an element, of all of it; of "
        "rain, of every drop that splashes, whatever the time.",
    )
    trapped_share: float = _share("Trapped air", 1.0)
    trapped_from: float | None = _from("Trapped air", "m/s", FROM["trapped"])
    trapped_to: float | None = _to("Trapped air", "m/s")
    crest_share: float = _share("Crests", 1.0)
    crest_from: float | None = _from("Crests", "", FROM["crest"])
    crest_to: float | None = _to("Crests")
    vorticity_share: float = _share("Vorticity", 0.0)
    vorticity_from: float | None = _from("Vorticity", "1/s", FROM["vorticity"])
    vorticity_to: float | None = _to("Vorticity", "1/s")
    energy_from: float | None = _from("Energy", "J/kg", FROM["energy"])
    energy_to: float | None = _to("Energy", "J/kg")
    limits: list[Where] = setting(
        factory=list, group="Where it is born", control="list", meaning="Where it is born and where not; all count."
    )
    drop_radius: float = setting(
        0.8,
        unit="mm",
        group="Sizes",
        gt=0,
        le=10,
        slider=(0.05, 3),
        scale="log",
        label="Drops, mean radius",
        meaning="Of spray. Drops that a splash throws have 0.2 to 2 mm.",
    )
    drop_order: float = setting(
        4.0,
        group="Sizes",
        ge=1,
        le=100,
        slider=(2, 20),
        label="Drops, evenness",
        meaning="Order of the gamma law of their radii: 4 where rough threads of liquid tear, more for drops that are "
        "more alike.",
    )
    bubble_least: float = setting(
        0.3, unit="mm", group="Sizes", gt=0, le=20, slider=(0.05, 2), label="Bubbles, smallest", meaning="Radius."
    )
    bubble_most: float = setting(
        4.0, unit="mm", group="Sizes", gt=0, le=50, slider=(1, 10), label="Bubbles, largest", meaning="Radius."
    )
    hinze: float = setting(
        1.0,
        unit="mm",
        group="Sizes",
        gt=0,
        le=20,
        slider=(0.2, 4),
        label="Hinze radius",
        meaning="Up to it turbulence leaves bubbles whole, so that larger ones become rare; 1 mm under breaking waves.",
    )
    scatter: float = setting(
        0.15,
        group="Spray",
        ge=0,
        le=1,
        slider=(0, 0.5),
        meaning="Chance in the velocity that it is born with, as a share of the liquid's speed.",
    )
    windage: float = setting(
        1.0,
        unit="x",
        group="Spray",
        ge=0,
        le=20,
        slider=(0, 3),
        label="Drag of the air",
        meaning="Of that of drops of its size; wind acts through it.",
    )
    lands: float = setting(
        0.5,
        group="Spray",
        ge=0,
        le=1,
        slider=(0, 1),
        label="Becomes foam",
        meaning="How much of the spray that falls back goes on as foam; the rest is liquid again.",
    )
    splashes: float = setting(
        0.0,
        unit="drops",
        group="Spray",
        ge=0,
        le=20,
        slider=(0, 8),
        label="Drops of a landing",
        meaning="How many smaller drops spray throws up where it falls back, in the mean, if it is large and fast "
        "enough to splash.",
    )
    foam_life: float = setting(
        2.5,
        unit="s",
        group="Foam",
        gt=0,
        le=3600,
        slider=(0.2, 30),
        scale="log",
        label="Mean life",
        meaning="In liquid seconds, of bubbles of the Hinze radius at the surface; each lives by chance, longer or "
        "shorter.",
    )
    pops: float = setting(
        0.5,
        group="Foam",
        ge=0,
        le=2,
        slider=(0, 1),
        label="Large ones pop sooner",
        meaning="Power by which lives fall with the radius; 0 lets all live as long.",
    )
    gathers: float = setting(
        0.03,
        unit="m/s",
        group="Foam",
        ge=0,
        le=1,
        slider=(0, 0.2),
        label="Draws together",
        meaning="Speed with which foam drifts to where there is more of it, into rafts and streaks.",
    )
    spreads: float = setting(
        0.1,
        unit="m/s",
        group="Foam",
        ge=0,
        le=2,
        slider=(0, 0.5),
        meaning="Speed with which it gives way where it lies in more than one layer.",
    )
    clings: float = setting(
        0.5,
        group="Foam",
        ge=0,
        le=1,
        slider=(0, 1),
        label="Holds to walls",
        meaning="How much slower foam runs beside a collider, within a voxel.",
    )
    driven: float = setting(
        0.03,
        group="Foam",
        ge=0,
        le=1,
        slider=(0, 0.1),
        label="Driven by wind",
        meaning="Share of the wind's speed with which foam drifts over the liquid; some 3 % on open water.",
    )
    rises: float = setting(
        1.0,
        unit="x",
        group="Bubbles",
        ge=0,
        le=10,
        slider=(0, 2),
        label="Buoyancy",
        meaning="Of that of bubbles of its size.",
    )
    bursts: float = setting(
        0.2,
        unit="drops",
        group="Bubbles",
        ge=0,
        le=20,
        slider=(0, 5),
        label="Drops of a burst",
        meaning="How many droplets, of a tenth of its radius, a bubble of the foam throws up when it pops, in the "
        "mean.",
    )
    seed: int = setting(1, group="Chance", ge=0, le=10000, meaning="Another number, other chance.")

    def of_the_shot(self) -> bool:
        """Whether its rate or a range goes by the whole shot: an amount is asked for, or an end is left empty."""
        if self.born_of == "drops":
            return False
        if self.ask != "rate":
            return True
        counts = [name for name in FROM if getattr(self, f"{name}_share", 1.0) > 0]
        return self.born_of == "air" and any(getattr(self, f"{name}_to") is None for name in counts)

    @model_validator(mode="after")
    def _sound(self) -> Layer:
        if not self.name.strip() or len(self.name) > MOST_LETTERS:
            raise ValueError(f"a layer needs a name of 1 to {MOST_LETTERS} characters")
        for name in FROM:
            low, high = getattr(self, f"{name}_from"), getattr(self, f"{name}_to")
            if low is not None and high is not None and low >= high:
                raise ValueError(f"{name} is upside down, from {low:g} to {high:g}; swap them")
        if self.born_of == "element":
            if not self.element:
                raise ValueError(f"layer {self.name!r} is born of an element; choose which")
        elif self.born_of == "air" and not (self.trapped_share or self.crest_share or self.vorticity_share):
            raise ValueError(
                f"layer {self.name!r} has no births: the shares of trapped air, crests and vorticity are all 0; "
                "give one of them a share"
            )
        if self.bubble_least >= self.bubble_most:
            raise ValueError("the smallest bubbles are not smaller than the largest; swap them")
        return self


class WhitewaterSettings(Part):
    """Foam, spray and bubbles."""

    layers: list[Layer] = setting(
        factory=list,
        group="Layers",
        control="list",
        meaning="Each with births, sizes and behaviour of its own. Without any, there is no whitewater.",
    )

    def taking(self) -> tuple[int, float] | None:
        """The layer that takes over small drops of the liquid, and up to which radius, m."""
        for number, layer in enumerate(self.layers):
            if layer.born_of == "drops":
                return number, layer.largest * 1e-3
        return None

    @model_validator(mode="after")
    def _names(self) -> WhitewaterSettings:
        names = [layer.name for layer in self.layers]
        twice = sorted({n for n in names if names.count(n) > 1})
        if twice:
            raise ValueError(f"two layers are named {twice[0]!r}; give each its own name")
        if sum(layer.born_of == "drops" for layer in self.layers) > 1:
            raise ValueError("two layers take over the liquid's small drops; leave it to one of them")
        if len(names) > MOST_LAYERS:
            raise ValueError(f"{len(names)} layers; at most {MOST_LAYERS}")
        return self
