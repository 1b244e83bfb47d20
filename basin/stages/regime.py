"""What decides the look of a liquid that goes at a speed and is so large: numbers without a unit, and what they mean.

Definitions are those of any textbook of fluid mechanics (e.g. White 2011, table 5.2); each remark names its source.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.scene.model import Substance

SHOWS = 4.0  # voxels across what is to be seen
SPLASHES = 2100.0  # of We Oh^-0.4, on a thin layer (Cossali, Coghe & Marengo 1997, Exp. Fluids 22; from memory)
ROUND = 1.0  # Ohnesorge number from which threads thin without falling into drops
FASTEST, LONGEST = 0.34334, 9.014  # of a column's growth, sqrt(sigma / rho R^3), and its wave over R (Rayleigh 1878)
GROWTHS = 10.0  # times as much as it takes to grow by e, until a ripple of a ten-thousandth has cut a thread


@dataclass(frozen=True)
class Number:
    """One number: its name, its value (None where nothing acts that it compares), and what it compares."""

    name: str
    value: float | None
    compares: str


@dataclass(frozen=True)
class Regime:
    """Numbers of a length (m) and a speed (m/s), and what is to be expected, in words."""

    length: float
    speed: float
    numbers: list[Number]
    says: list[str]


def _over(a: float, b: float) -> float | None:
    return a / b if b > 0 else None


def _size(metres: float) -> str:
    return f"{1000 * metres:.2g} mm" if metres < 1 else f"{metres:.3g} m"


def regime(made: Substance, length: float, speed: float, gravity: float, voxel: float) -> Regime:
    """What decides the look.

    Parameters
    ----------
    length : m, across what is looked at: a drop, a stream, a film
    speed : m/s, of liquid seconds
    gravity : m/s2; voxel : m
    """
    rho, mu, sigma = made.density, made.viscosity, made.surface_tension
    weber = _over(rho * speed**2 * length, sigma)
    ohnesorge = _over(mu, float(np.sqrt(rho * sigma * length)))
    numbers = [
        Number("Reynolds", _over(rho * speed * length, mu), "inertia to viscosity"),
        Number("Froude", _over(speed, float(np.sqrt(gravity * length))), "speed to that of waves as long"),
        Number("Weber", weber, "inertia to tension"),
        Number("Bond", _over(rho * gravity * length**2, sigma), "weight to tension"),
        Number("Ohnesorge", ohnesorge, "viscosity to inertia and tension"),
        Number("Capillary", _over(mu * speed, sigma), "viscosity to tension"),
    ]
    says = []
    if mu == 0 and sigma == 0:
        says.append("Without viscosity and surface tension it has no other numbers; name a liquid to see them.")
    if length < SHOWS * voxel:
        finer = length / SHOWS
        says.append(
            f"It is {length / voxel:.2g} voxels across; {SHOWS:g} take a voxel of {_size(finer)}, with "
            f"{(voxel / finer) ** 3:.2g} times the particles."
        )
    if sigma > 0:
        says += _tense(made, length, speed, weber or 0.0, ohnesorge or 0.0)
        if gravity > 0:
            capillary = float(np.sqrt(sigma / (rho * gravity)))
            says.append(
                f"Tension holds up what is smaller than {_size(capillary)} against weight: "
                f"{capillary / voxel:.2g} voxels."
            )
    if mu > 0 and gravity > 0:
        layer = float((mu / rho) ** (2 / 3) / gravity ** (1 / 3))
        says.append(f"A film of less than {_size(layer)} runs off a wall slowly: {layer / voxel:.2g} voxels.")
    if made.yield_stress > 0 and gravity > 0:
        stays = made.yield_stress / (rho * gravity)
        says.append(f"A coat thinner than {_size(stays)} stays on an upright wall.")
    return Regime(length, speed, numbers, says)


def _tense(made: Substance, length: float, speed: float, weber: float, ohnesorge: float) -> list[str]:
    """What tension makes of it."""
    says, radius = [], 0.5 * length
    if ohnesorge < ROUND:
        time = float(np.sqrt(made.density * radius**3 / made.surface_tension) / FASTEST)
        says.append(
            f"A thread as thick falls into drops, one to every {_size(LONGEST * radius)} of it, in about "
            f"{GROWTHS * time:.2g} s."
        )
    else:
        says.append("A thread as thick thins and does not fall into drops.")
    if ohnesorge > 0 and speed > 0:
        splash = weber * ohnesorge**-0.4
        if splash > SPLASHES:
            says.append("A drop as large that falls on a thin layer at this speed throws up a crown that breaks.")
        else:
            says.append("A drop as large that falls on a thin layer at this speed sinks in without a splash.")
    return says
