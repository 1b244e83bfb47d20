"""Settings of the sea."""

from __future__ import annotations

from itertools import pairwise
from math import log2
from typing import Any, Literal

from pydantic import Field, model_validator

from basin.settings import Curve, Part, Vec3, setting

MOST_SETS, MOST_SWELLS = 4, 6
SIZES = (32, 64, 128, 256, 512, 1024, 2048, 4096, 8192, 16384)
_MADE: dict[str, list[str]] = {"made": ["true"]}


def _when(**more: list[str]) -> dict[str, list[str]]:
    return {**_MADE, **more}


def _shown(group: str, control: str) -> dict[str, Any]:
    return {"group": group, "control": control, "when": _MADE}


class Swell(Part):
    """Waves that come from a wind elsewhere."""

    height: float = setting(
        0.5,
        unit="m",
        group="Swell",
        ge=0,
        le=30,
        slider=(0, 5),
        label="Significant height",
        meaning="Mean height of the highest third of its waves.",
    )
    period: float = setting(
        11.0,
        unit="s",
        group="Swell",
        gt=0.1,
        le=30,
        slider=(5, 20),
        label="Peak period",
        meaning="Of the waves that hold most of its energy.",
    )
    towards: float = setting(
        60.0,
        unit="deg",
        group="Swell",
        slider=(-180, 180),
        label="Goes towards",
        meaning="0 is along x, 90 along z.",
    )
    spread: float = setting(
        40.0,
        group="Swell",
        ge=1,
        le=500,
        slider=(5, 150),
        scale="log",
        label="Narrowness",
        meaning="Exponent s of its spreading, cos^2s: 10 is 25 degrees wide, 75 is 9, root mean square.",
    )
    peak: float = setting(
        6.0,
        group="Swell",
        ge=1,
        le=20,
        slider=(1, 10),
        label="Peakedness",
        meaning="How much higher its spectrum's peak stands than that of a fully grown sea.",
    )


class WaveSet(Part):
    """A patch of the sea that repeats, with the waves that fit on it and its grid."""

    size: float = setting(
        256.0,
        unit="m",
        group="Patch",
        gt=0,
        le=20_000,
        slider=(1, 2000),
        scale="log",
        label="Patch size",
        meaning="Edge of the patch. Waves longer than it cannot be on it; four times the longest is well.",
    )
    resolution: int = setting(
        512,
        unit="points",
        group="Patch",
        ge=32,
        le=16384,
        slider=(64, 2048),
        scale="log",
        cost="Twice of it: four times the memory, disk and time.",
        meaning="Points along its edge, at final, a power of two. Waves shorter than two cells cannot be on it.",
    )
    choppiness: float = setting(
        1.0,
        unit="x",
        group="Patch",
        ge=0,
        le=10,
        slider=(0, 2),
        meaning="How far points move to and fro under its waves: 1 is what water does by linear theory, more sharpens "
        "crests until they fold.",
    )

    @model_validator(mode="after")
    def _power(self) -> WaveSet:
        if self.resolution not in SIZES:
            near = min(SIZES, key=lambda n: abs(n - self.resolution))
            raise ValueError(f"resolution {self.resolution} is no power of two; take {near}")
        return self


class Hero(Part):
    """A crest of a given height at a place and frame."""

    frame: int = setting(48, group="Hero wave", ge=0, le=100_000, meaning="Frame at which it is there.")
    place: Vec3 = setting((0.0, 0.0, 0.0), unit="m", group="Hero wave", meaning="Where its crest is; height is left.")
    height: float = setting(
        1.5,
        unit="m",
        group="Hero wave",
        gt=0,
        le=40,
        slider=(0.1, 10),
        label="Crest height",
        meaning="Above still water.",
    )


class SeaFoam(Part):
    """Foam where crests break."""

    made: bool = setting(
        True, group="Foam", label="Make foam", meaning="Whether crests that break leave foam, where there is a sea."
    )
    by: Literal["wind", "share", "threshold"] = setting(
        "wind",
        when=_MADE,
        group="Foam",
        label="How much",
        meaning="The share of the sea that such a wind usually covers (Monahan & O'Muircheartaigh 1980), a share of "
        "your own, or from a squeeze of the surface on.",
    )
    share: float = setting(
        0.02,
        when=_when(by=["share"]),
        group="Foam",
        gt=0,
        le=0.9,
        slider=(0.001, 0.3),
        scale="log",
        label="Share of the sea",
        meaning="Share that is covered in the mean over the shot.",
    )
    threshold: float = setting(
        0.5,
        when=_when(by=["threshold"]),
        group="Foam",
        ge=-5,
        le=1,
        slider=(-0.5, 1),
        meaning="It is born where the surface is squeezed to less than this: the Jacobian, 1 where it is at rest, 0 "
        "where it folds.",
    )
    fresh: float = setting(
        1.5,
        unit="s",
        when=_MADE,
        group="Foam",
        gt=0,
        le=600,
        slider=(0.2, 10),
        scale="log",
        label="Fresh, fades in",
        meaning="Time in which about a third is left of what is thick.",
    )
    lace: float = setting(
        6.0,
        unit="s",
        when=_MADE,
        group="Foam",
        gt=0,
        le=3600,
        slider=(1, 60),
        scale="log",
        label="Lace, fades in",
        meaning="The same of the thin lace that it leaves.",
    )
    leaves: float = setting(
        0.4,
        when=_MADE,
        group="Foam",
        ge=0,
        le=1,
        slider=(0, 1),
        label="Becomes lace",
        meaning="Share of what fades that goes on as lace.",
    )
    spreads: float = setting(
        0.02,
        unit="m2/s",
        when=_MADE,
        group="Foam",
        ge=0,
        le=10,
        slider=(0, 0.5),
        meaning="How fast it spreads out.",
    )
    wind: float = setting(
        0.01,
        unit="x",
        when=_MADE,
        group="Foam",
        ge=0,
        le=0.2,
        slider=(0, 0.05),
        label="Driven by wind",
        meaning="Share of the wind's speed at which it drifts besides the waves' own drift.",
    )
    pattern: float = setting(
        0.8,
        unit="m",
        when=_MADE,
        group="Foam",
        gt=0,
        le=100,
        slider=(0.1, 5),
        scale="log",
        label="Pattern",
        meaning="Size of the holes in its lace.",
    )
    run_up: int = setting(
        72,
        unit="frames",
        when=_MADE,
        group="Foam",
        ge=0,
        le=2000,
        slider=(0, 240),
        label="Run-up",
        meaning="Frames before the first from which it begins, so that the shot begins with foam in balance.",
    )


class WakeSettings(Part):
    """Waves that bodies make on the sea, and that come back from shores."""

    made: bool = setting(
        False,
        group="Wake",
        label="Make wakes",
        meaning="Whether colliders that move make waves on the sea, and still ones send waves back.",
    )
    size: float = setting(
        96.0,
        unit="m",
        when=_MADE,
        group="Window",
        gt=0,
        le=20_000,
        slider=(8, 1000),
        scale="log",
        label="Window",
        meaning="Edge of the square of water that holds wakes. Along its edges, over an eighth of it, they die.",
    )
    resolution: int = setting(
        512,
        unit="points",
        when=_MADE,
        group="Window",
        ge=32,
        le=8192,
        slider=(64, 2048),
        scale="log",
        cost="Twice of it: four times the memory, disk and time.",
        meaning="Points along its edge, at final, a power of two.",
    )
    stays: bool = setting(
        False,
        when=_MADE,
        group="Window",
        meaning="Whether the window stays in its place; else it goes along with what makes waves.",
    )
    place: Vec3 = setting(
        (0.0, 0.0, 0.0),
        unit="m",
        when=_when(stays=["true"]),
        group="Window",
        meaning="The window's middle; height is left.",
    )
    behind: float = setting(
        0.25,
        unit="x",
        when=_when(stays=["false"]),
        group="Window",
        ge=0,
        le=0.4,
        slider=(0, 0.4),
        label="Lies behind",
        meaning="By how much of the window its middle lies behind a body that goes, so that more of its wake fits.",
    )
    strength: float = setting(
        1.0,
        unit="x",
        when=_MADE,
        group="Waves",
        ge=0,
        le=20,
        slider=(0, 3),
        meaning="1 presses on the water with the weight of what a hull is in the place of.",
    )
    reach: float = setting(
        4.0,
        unit="m",
        when=_MADE,
        group="Waves",
        gt=0,
        le=1000,
        slider=(0.1, 20),
        scale="log",
        label="Felt down to",
        meaning="What of a body lies deeper makes no waves.",
    )
    fades: float = setting(
        40.0,
        unit="s",
        when=_MADE,
        group="Waves",
        gt=0,
        le=36_000,
        slider=(2, 300),
        scale="log",
        label="Waves fade in",
        meaning="Time in which about a third of them is left.",
    )
    eddies: float = setting(
        0.004,
        unit="m2/s",
        when=_MADE,
        group="Waves",
        ge=0,
        le=10,
        slider=(0, 0.1),
        label="Eddies",
        meaning="How much sooner short waves die: those of a length L at 79 times this over L squared, per second.",
    )
    choppiness: float = setting(
        1.0,
        unit="x",
        when=_MADE,
        group="Waves",
        ge=0,
        le=10,
        slider=(0, 2),
        meaning="How far points move to and fro under these waves.",
    )
    run_up: int = setting(
        96,
        unit="frames",
        when=_MADE,
        group="Waves",
        ge=0,
        le=5000,
        slider=(0, 480),
        label="Run-up",
        meaning="Frames before the first in which bodies come along as fast as they go at first, so that their wake is "
        "there.",
    )
    foam: bool = setting(
        True,
        when=_MADE,
        group="Foam of wakes",
        label="Foam of wakes",
        meaning="Whether hulls and waves that they make leave foam; it fades, spreads and drifts as the sea's does.",
    )
    churn: float = setting(
        0.25,
        unit="m/s",
        when=_when(foam=["true"]),
        group="Foam of wakes",
        gt=0,
        le=50,
        slider=(0.05, 5),
        scale="log",
        label="Born from",
        meaning="Bow and stern make foam where they push water down, or let it up, faster than this.",
    )
    breaks: float = setting(
        0.55,
        when=_when(foam=["true"]),
        group="Foam of wakes",
        ge=-5,
        le=1,
        slider=(-0.5, 1),
        label="Born where squeezed to",
        meaning="Waves of a wake make foam where they squeeze the surface to less than this: 1 is at rest, 0 folds.",
    )

    @model_validator(mode="after")
    def _power(self) -> WakeSettings:
        if self.resolution not in SIZES:
            near = min(SIZES, key=lambda n: abs(n - self.resolution))
            raise ValueError(f"resolution {self.resolution} is no power of two; take {near}")
        return self


class SeaSettings(Part):
    """A sea by its spectra."""

    made: bool = setting(
        False, group="Sea", label="Make a sea", meaning="Whether the shot has a sea; runs then make it."
    )
    by: Literal["wind", "height and period"] = setting(
        "wind", when=_MADE, group="Wind", label="Set by", meaning="What the waves follow from."
    )
    wind: float | Curve = setting(
        8.0,
        unit="m/s",
        when=_MADE,
        group="Wind",
        keyed=True,
        slider=(0, 30),
        label="Wind at 10 m",
        meaning="Speed of the wind ten metres above the water. Beaufort 3 is 4.4 m/s, 5 is 9.3, 7 is 15.5, 9 is 22.6.",
    )
    towards: float | Curve = setting(
        0.0,
        unit="deg",
        when=_MADE,
        group="Wind",
        keyed=True,
        slider=(-180, 180),
        label="Blows towards",
        meaning="0 is along x, 90 along z.",
    )
    spectrum: Literal["jonswap", "pierson-moskowitz", "tma", "phillips"] = setting(
        "jonswap",
        when=_MADE,
        group="Wind",
        meaning="JONSWAP grows with the fetch; Pierson-Moskowitz is fully grown; TMA is JONSWAP in water of a depth; "
        "Phillips is the plain form of graphics, fully grown and without a peak of its own.",
    )
    fetch: float = setting(
        100.0,
        unit="km",
        when=_when(by=["wind"], spectrum=["jonswap", "tma"]),
        group="Wind",
        gt=0,
        le=20_000,
        slider=(0.2, 1000),
        scale="log",
        meaning="Way over water that the wind has blown along.",
    )
    duration: float | None = setting(
        None,
        unit="h",
        when=_when(by=["wind"], spectrum=["jonswap", "tma"]),
        group="Wind",
        gt=0,
        le=1000,
        slider=(0.2, 72),
        scale="log",
        label="Has blown for",
        meaning="Hours; empty is long enough for its fetch.",
    )
    age: float | None = setting(
        None,
        when=_when(by=["wind"], spectrum=["jonswap", "tma"]),
        group="Wind",
        gt=0,
        le=2,
        slider=(0.2, 1.2),
        label="Wave age",
        meaning="Speed of the longest waves over the wind's, in place of fetch and duration: 0.3 is young and steep, "
        "1.2 fully grown.",
    )
    height: float = setting(
        1.0,
        unit="m",
        when=_when(by=["height and period"]),
        group="Wind",
        ge=0,
        le=30,
        slider=(0.05, 12),
        scale="log",
        label="Significant height",
        meaning="Mean height of the highest third of the waves.",
    )
    period: float = setting(
        5.0,
        unit="s",
        when=_when(by=["height and period"]),
        group="Wind",
        gt=0.1,
        le=30,
        slider=(1, 18),
        label="Peak period",
        meaning="Of the waves that hold most of the energy.",
    )
    peak: float = setting(
        3.3,
        when=_when(spectrum=["jonswap", "tma"]),
        group="Wind",
        ge=1,
        le=20,
        slider=(1, 7),
        label="Peakedness",
        meaning="How much higher the spectrum's peak stands than that of a fully grown sea; 3.3 in the mean.",
    )
    spreading: Literal["mitsuyasu", "donelan-banner", "cos2s"] = setting(
        "mitsuyasu",
        when=_MADE,
        group="Directions",
        meaning="How waves spread about the wind: by wave age (Mitsuyasu 1975), by frequency alone (Donelan & Banner), "
        "or the same for all, cos^2s.",
    )
    spread: float = setting(
        8.0,
        when=_when(spreading=["cos2s"]),
        group="Directions",
        ge=0,
        le=500,
        slider=(1, 100),
        scale="log",
        label="Narrowness",
        meaning="Exponent s: 2 is 51 degrees wide, 10 is 25, 75 is 9, root mean square.",
    )
    ripples: bool = setting(
        False,
        when=_MADE,
        group="Directions",
        label="Ripples",
        meaning="Whether surface tension acts on waves of centimetres, with the ripples that the wind makes there "
        "(Elfouhaily et al. 1997).",
    )
    swells: list[Swell] = Field(
        default_factory=list,
        max_length=MOST_SWELLS,
        title="Swell",
        description="Waves from elsewhere, added.",
        json_schema_extra={"zinc": _shown("Swell", "list")},
    )
    level: float = setting(
        0.0, unit="m", when=_MADE, group="Water", slider=(-10, 10), label="Still water at", meaning="Its height."
    )
    depth: float | None = setting(
        None,
        unit="m",
        when=_MADE,
        group="Water",
        gt=0,
        le=11_000,
        slider=(1, 200),
        scale="log",
        meaning="Of the water; empty is deep.",
    )
    sets: list[WaveSet] = Field(
        default_factory=lambda: [WaveSet(), WaveSet(size=34.0, resolution=256)],
        min_length=1,
        max_length=MOST_SETS,
        title="Patches",
        description="From large to small; each holds the waves that the ones before it are too coarse for.",
        json_schema_extra={"zinc": _shown("Patches", "list")},
    )
    unlike: float = setting(
        160.0,
        unit="m",
        when=_MADE,
        group="Patches",
        gt=0,
        le=1e5,
        slider=(20, 1000),
        scale="log",
        label="Repeats until",
        meaning="Distance from the hero place, or the origin, beyond which the patch is laid anew at random places, "
        "blended, so that nothing repeats to the horizon.",
    )
    seed: int = setting(1, when=_MADE, group="Patches", ge=0, le=1_000_000, meaning="Another one, another sea.")
    loop: int | None = setting(
        None,
        unit="frames",
        when=_MADE,
        group="Patches",
        ge=2,
        le=100_000,
        label="Loops in",
        meaning="Frames after which it is the same again; frequencies are bent to that. Empty never.",
    )
    hero: Hero | None = Field(
        default=None,
        title="Hero wave",
        description="A crest of a given height at a place and frame.",
        json_schema_extra={"zinc": _shown("Hero wave", "")},
    )

    @model_validator(mode="after")
    def _ordered(self) -> SeaSettings:
        sizes = [one.size for one in self.sets]
        if any(b >= a for a, b in pairwise(sizes)):
            raise ValueError("patches go from large to small; make each smaller than the one before it")
        held = [k.value for k in self.wind.keys] if isinstance(self.wind, Curve) else [self.wind]
        if not all(isinstance(v, float | int) and 0 <= v <= 100 for v in held):
            raise ValueError("wind is a speed of 0 to 100 m/s")
        return self


def points_of(one: WaveSet | WakeSettings, coarser: float) -> int:
    """Points along a patch or window whose cells are so many times coarser."""
    return max(int(2 ** round(log2(one.resolution / coarser))), SIZES[0])


def beaufort(force: float) -> float:
    """Wind at 10 m, m/s, of a Beaufort force (WMO: 0.836 B^1.5)."""
    return float(0.836 * force**1.5)
