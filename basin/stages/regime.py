"""What decides the look of a liquid that goes at a speed and is so large: numbers without a unit, and what they mean.

Definitions are those of any textbook of fluid mechanics (e.g. White 2011, table 5.2); each remark names its source.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.integrate import solve_bvp

from basin.scene.model import Substance

SHOWS = 4.0  # voxels across what is to be seen
SPLASHES = 2100.0  # of We Oh^-0.4, on a thin layer (Cossali, Coghe & Marengo 1997, Exp. Fluids 22; from memory)
DROPS = 1 / (4 * np.sqrt(3))  # of We^0.5 Re^0.25: into which a rim falls (Bhola & Chandra 1999, J. Mater. Sci. 34)
FOLDS, TALL = 1.2, 8.0  # a thread coils below this Reynolds number, above this many widths of fall (Cruickshank 1981)
DOWN = 0.1  # m down a wall at which its coat is told
KEPT = 0.94581  # of the capillary length times Ca^(2/3)
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
    """Numbers of a length (m) and a speed (m/s of liquid time), what is to be expected, and what they are of."""

    length: float
    speed: float
    numbers: list[Number]
    says: list[str]
    taken: str = ""


def _over(a: float, b: float) -> float | None:
    return a / b if b > 0 else None


def _size(metres: float) -> str:
    return f"{1000 * metres:.2g} mm" if metres < 1 else f"{metres:.3g} m"


def regime(
    made: Substance, length: float, speed: float, gravity: float, voxel: float, fall: float | None = None
) -> Regime:
    """What decides the look.

    Parameters
    ----------
    length : m, across what is looked at: a drop, a stream, a film
    speed : m/s, of liquid seconds
    gravity : m/s2; voxel : m
    fall : m that a stream has fallen when it lands; None of what is no stream
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
    if mu > 0 and gravity > 0 and fall is not None:
        says += _coils(mu / rho, length, speed, gravity, fall)
    if mu > 0 and gravity > 0:
        says += _films(made, speed, gravity, voxel)
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
            drops = DROPS * weber**0.5 * (np.sqrt(weber) / ohnesorge) ** 0.25
            says.append(
                "A drop as large that falls on a thin layer at this speed throws up a crown, whose rim breaks into "
                f"about {drops:.2g} drops."
            )
        else:
            says.append("A drop as large that falls on a thin layer at this speed sinks in without a splash.")
    return says


def coat(made: Substance, gravity: float, seconds: float = 1.0) -> float:
    """How thick (m) a coat is by then, a hand's breadth down an upright wall: sqrt(nu z / g t) (Jeffreys 1930)."""
    return float(np.sqrt(made.viscosity / made.density * DOWN / (gravity * seconds)))


def _films(made: Substance, speed: float, gravity: float, voxel: float) -> list[str]:
    """What clings to an upright wall (Jeffreys 1930), and what one keeps that is drawn out (Landau & Levich 1942)."""
    thick, says = coat(made, gravity), []
    says.append(
        f"{100 * DOWN:g} cm down an upright wall a coat is {_size(thick)} thick after a second, "
        f"{thick / voxel:.2g} voxels, and {_size(thick / 3)} after nine."
    )
    capillary = made.viscosity * speed / made.surface_tension if made.surface_tension > 0 else np.inf
    if 0 < capillary < 1:
        length = float(np.sqrt(made.surface_tension / (made.density * gravity)))
        kept = KEPT * length * capillary ** (2 / 3)
        says.append(f"A wall drawn out of it so fast keeps {_size(kept)} of it: {kept / voxel:.2g} voxels.")
    return says


def _coils(nu: float, width: float, speed: float, gravity: float, fall: float) -> list[str]:
    """How often a thread coils that is so wide (m) and so fast (m/s) where it lands, after a fall (m).

    The quickest of what viscosity, weight and inertia allow by the coil's size (Mahadevan et al. 1998, Ribe 2004);
    factors of their order are left out, but for the pi of the rate of flow.
    """
    if speed * width / nu > FOLDS or fall < TALL * width:
        return []
    radius = 0.5 * width
    viscous = speed / fall
    weighed = (gravity * speed**3 / (nu * radius**2)) ** 0.25
    thrown = (speed**4 / (nu * radius**2)) ** (1 / 3)
    turns = max(viscous, weighed, thrown) / (2 * np.pi)
    return [f"The thread coils about {turns:.1g} times a second where it lands."]


def clinging(made: Substance, angle: float, to: str) -> str:
    """What it takes to part a liquid from a wall that it meets at an angle (degrees): sigma (1 + cos) (Dupre 1869)."""
    work = made.surface_tension * (1 + float(np.cos(np.radians(angle))))
    return f"It holds to {to} with {work:.2g} J/m2: {angle:g} degrees."


def landing(nu: float, leaving: float, fall: float, gravity: float) -> float:
    """Speed (m/s) at which a thread that leaves downwards at one (m/s) lands after a fall (m): its viscosity brakes it.

    Steady: u u' = g + 3 nu u (u' / u)', with no pull left where it lands (three times the viscosity: Trouton 1906).
    """
    free = float(np.sqrt(leaving**2 + 2 * gravity * fall))
    if nu <= 0 or fall <= 0 or leaving <= 0:
        return free
    x = np.linspace(0.0, 1.0, 16)
    by, thick = gravity * fall / leaving**2, 3 * nu / (leaving * fall)

    def slopes(_: np.ndarray, y: np.ndarray) -> np.ndarray:
        return np.vstack([y[0] * y[1], (y[0] * y[1] - by / y[0]) / thick])

    def ends(top: np.ndarray, bottom: np.ndarray) -> np.ndarray:
        return np.array([top[0] - 1.0, bottom[1]])

    # from a thread that is not drawn out at all to the one there is
    guess, strength = np.vstack([np.ones_like(x), np.zeros_like(x)]), by
    for share in np.geomspace(min(1.0, thick / max(strength, 1e-12)), 1.0, 4):
        by = share * strength
        found = solve_bvp(slopes, ends, x, guess, tol=1e-2, max_nodes=2000)
        if not found.success:
            return free  # so little viscosity that its layers are too thin to be solved
        x, guess = found.x, found.y
    return min(float(guess[0, -1]) * leaving, free)
