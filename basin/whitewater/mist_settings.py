"""Settings of the mist stage."""

from __future__ import annotations

from basin.settings import Part, setting
from basin.whitewater.settings import but_layer, of_layer

_MADE: dict[str, list[str]] = {"made": ["true"]}


class MistSettings(Part):
    """Droplets too fine to be told apart, as a density in the air."""

    made: bool = setting(
        False, group="Mist", label="Make mist", meaning="Whether what flies leaves mist in the air; runs then make it."
    )
    layer: str = of_layer(_MADE, "Mist")
    but_layer: bool = but_layer(_MADE, "Mist")
    tears: float = setting(
        1.0,
        unit="1/s",
        when=_MADE,
        group="Mist",
        ge=0,
        le=100,
        slider=(0.01, 20),
        scale="log",
        label="Comes off",
        meaning="Share of its mass that spray gives off in a liquid second where it goes at 1 m/s against the "
        "air; at twice that twice as much. It loses nothing by it.",
    )
    voxel: float | None = setting(
        None,
        unit="m",
        when=_MADE,
        group="Mist",
        gt=0,
        slider=(0.002, 0.5),
        scale="log",
        label="Voxel of its own",
        cost="Half of it: eight times the memory and disk.",
        meaning="How fine the mist is; empty is twice the liquid's voxel.",
    )
    radius: float = setting(
        30.0,
        unit="um",
        when=_MADE,
        group="Air",
        gt=0,
        le=500,
        slider=(5, 200),
        scale="log",
        label="Droplets, radius",
        meaning="By which it sinks through the air: 0.1 m/s at 30 um.",
    )
    carries: float = setting(
        1.0,
        unit="x",
        when=_MADE,
        group="Air",
        ge=0,
        le=1000,
        slider=(0, 20),
        label="Draws air along",
        meaning="How much of its momentum whitewater gives to the air about it. More, where there are fewer and larger "
        "particles than there would be drops.",
    )
    rests: float = setting(
        1.0,
        unit="s",
        when=_MADE,
        group="Air",
        gt=0,
        le=3600,
        slider=(0.1, 10),
        scale="log",
        label="Comes to rest in",
        meaning="Liquid seconds in which air that was drawn along keeps about a third of its speed.",
    )
    spreads: float = setting(
        0.01,
        unit="m2/s",
        when=_MADE,
        group="Mist",
        ge=0,
        le=10,
        slider=(0, 0.2),
        meaning="How fast turbulence thins it out (diffusivity).",
    )
    lives: float = setting(
        4.0,
        unit="s",
        when=_MADE,
        group="Mist",
        gt=0,
        le=3600,
        slider=(0.2, 30),
        scale="log",
        label="Fades in",
        meaning="Liquid seconds in which about a third of it is left.",
    )
