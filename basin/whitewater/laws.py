"""How drops fall and bubbles rise, and how large they are: laws of the literature.

Everything is in SI; sizes are diameters where they decide a drag, radii where they decide a number, as in the sources.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from scipy.special import gammaincinv

from basin.kernels import kernel

G = 9.80665  # m/s2
AIR_DENSITY, AIR_VISCOSITY = 1.204, 1.82e-5  # kg/m3, Pa s, at 20 C
# Eotvos numbers from which drops are no spheres any more, and between which each law of their fall holds
FLAT, FLATTER, FLATTEST = 0.5, 1.84, 5.0
TURBULENT = 1000.0  # Reynolds number from which a sphere's drag stays
BREAKS = 4.7  # Weber number at which turbulence breaks a bubble (Deane & Stokes 2002)
LARGE, SMALL = 10.0 / 3.0, 3.0 / 2.0  # powers by which numbers of bubbles fall with their radius


@dataclass(frozen=True)
class Fluids:
    """The liquid and the air about it.

    Attributes
    ----------
    density : kg/m3; viscosity : Pa s; tension : N/m, of the liquid
    pull : strength of gravity, m/s2
    """

    density: float = 998.2
    viscosity: float = 1.0e-3
    tension: float = 0.0728
    pull: float = G

    def row(self) -> np.ndarray:
        """For kernels, float64 (4,)."""
        return np.array([self.density, self.viscosity, self.tension, self.pull])


@kernel
def sphere_drag(reynolds):
    """Drag coefficient of a sphere (Schiller & Naumann 1933; 0.44 beyond a Reynolds number of 1000)."""
    if reynolds <= 0.0:
        return np.inf
    if reynolds > TURBULENT:
        return 0.44
    return 24.0 / reynolds * (1.0 + 0.15 * reynolds**0.687)


@kernel
def eotvos(size, density, tension, pull):
    """Weight over tension of a body so large, m, whose density differs by so much from what is about it."""
    return pull * density * size * size / max(tension, 1e-12)


@kernel
def _terminal_of_flat(size, fluids):
    """Speed at which a flattened drop falls in air (Clift, Grace & Weber 1978, eqs 7-13 to 7-15, from memory)."""
    density, _, tension, pull = fluids[0], fluids[1], fluids[2], fluids[3]
    heavier = density - AIR_DENSITY
    weight = eotvos(size, heavier, tension, pull)
    morton = pull * AIR_VISCOSITY**4 * heavier / (AIR_DENSITY**2 * tension**3)
    if weight <= FLATTER:
        reynolds = 1.62 * weight**0.755
    elif weight <= FLATTEST:
        reynolds = 1.83 * weight**0.555
    else:
        reynolds = 2.0 * weight**0.5
    return reynolds * morton**-0.25 * AIR_VISCOSITY / (AIR_DENSITY * size)


@kernel
def _drag_at(speed, size):
    """Drag coefficient of a sphere in air at a speed."""
    return sphere_drag(AIR_DENSITY * speed * size / AIR_VISCOSITY)


@kernel
def drop_drag(speed, size, fluids):
    """Drag coefficient of a drop that goes through air at a speed (m/s).

    Small ones are spheres. Large ones flatten with the square of their speed, so that they fall as fast as they do.
    """
    drag = _drag_at(speed, size)
    heavier = fluids[0] - AIR_DENSITY
    if fluids[3] <= 0.0 or heavier <= 0.0 or eotvos(size, heavier, fluids[2], fluids[3]) <= FLAT:
        return drag
    falls = _terminal_of_flat(size, fluids)
    flat = 4.0 / 3.0 * fluids[3] * size * heavier / (AIR_DENSITY * falls * falls)
    more = flat - _drag_at(falls, size)
    return drag + max(more, 0.0) * min((speed / falls) ** 2, 1.0)


@kernel
def bubble_drag(speed, size, fluids):
    """Drag coefficient of a bubble in water that is not clean (Tomiyama, Kataoka, Zun & Sakaguchi 1998, eq. 35)."""
    round_one = sphere_drag(fluids[0] * speed * size / max(fluids[1], 1e-12))
    if fluids[3] <= 0.0:
        return round_one
    weight = eotvos(size, fluids[0] - AIR_DENSITY, fluids[2], fluids[3])
    return max(round_one, 8.0 / 3.0 * weight / (weight + 4.0))


@kernel
def drop_grip(speed, size, fluids):
    """Rate (1/s) at which a drop loses its speed through the air, at that speed."""
    drag = drop_drag(max(speed, 1e-9), size, fluids)
    return 0.75 * drag * max(speed, 1e-9) * AIR_DENSITY / (fluids[0] * size)


@kernel
def bubble_grip(speed, size, fluids):
    """The same of a bubble in liquid, which moves half its volume of liquid along (added mass)."""
    drag = bubble_drag(max(speed, 1e-9), size, fluids)
    return 0.75 * drag * max(speed, 1e-9) * fluids[0] / ((AIR_DENSITY + 0.5 * fluids[0]) * size)


@kernel
def terminal(of_bubble, size, fluids):
    """Speed (m/s) at which a drop falls in still air, or a bubble rises in still liquid: drag and weight in balance."""
    heavy = AIR_DENSITY + 0.5 * fluids[0] if of_bubble else fluids[0]
    pull = fluids[3] * (fluids[0] - AIR_DENSITY) / heavy
    low, high = 0.0, 100.0
    for _ in range(80):
        middle = 0.5 * (low + high)
        grip = bubble_grip(middle, size, fluids) if of_bubble else drop_grip(middle, size, fluids)
        if grip * middle < pull:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


def hinze_radius(dissipation: float, fluids: Fluids) -> float:
    """Radius (m) of the largest bubble that turbulence of so many W/kg leaves (Hinze 1955; Deane & Stokes 2002)."""
    return float(2.0**-1.6 * dissipation**-0.4 * (fluids.tension * BREAKS / fluids.density) ** 0.6)


def bubble_radii(share: np.ndarray, hinze: float, least: float, most: float) -> np.ndarray:
    """Radii (n,) of bubbles under breaking waves, between two, by numbers of them (Deane & Stokes 2002).

    For each radius there are as many as its power of -3/2 up to Hinze's, and of -10/3 beyond.

    Parameters
    ----------
    share : (n,) in [0, 1), evenly spread: of all, how many are smaller
    """
    knee = min(max(hinze, least), most)
    below = _integral(least, knee, SMALL)
    above = _integral(knee, most, LARGE) * knee ** (LARGE - SMALL)  # so that both meet
    at = np.asarray(share, float) * (below + above)
    small = _reached(least, np.minimum(at, below), SMALL)
    large = _reached(knee, np.maximum(at - below, 0.0) / knee ** (LARGE - SMALL), LARGE)
    return np.where(at < below, small, np.minimum(large, most))


def _integral(low: float, high: float, power: float) -> float:
    """Of r to minus a power."""
    return float((low ** (1.0 - power) - high ** (1.0 - power)) / (power - 1.0))


def _reached(low: float, area: np.ndarray, power: float) -> np.ndarray:
    """Where that integral from `low` on has a value."""
    return np.asarray((low ** (1.0 - power) - (power - 1.0) * area) ** (1.0 / (1.0 - power)))


def drop_radii(share: np.ndarray, mean: float, order: float = 4.0) -> np.ndarray:
    """Radii (n,) of drops that ligaments break into: a gamma distribution of an order about a mean, m.

    Villermaux, Marmottant & Duplat 2004, "Ligament-mediated spray formation", Phys Rev Lett 92.

    Parameters
    ----------
    share : (n,) in [0, 1), evenly spread: of all, how many are smaller
    order : 4 and more the smoother the ligaments
    """
    return np.asarray(mean / order * gammaincinv(order, np.asarray(share, float)))


def breaks_up(speed: float, fluids: Fluids, viscosity: float | None = None) -> float:
    """Size (m) from which the air breaks a drop that goes through it at a speed (Pilch & Erdman 1987).

    Its Weber number is then 12 (1 + 1.077 Oh^1.6).
    """
    size = 12.0 * fluids.tension / (AIR_DENSITY * speed**2)
    for _ in range(50 if viscosity else 0):
        ohnesorge = (viscosity or 0.0) / math.sqrt(fluids.density * fluids.tension * size)
        size = 12.0 * (1.0 + 1.077 * ohnesorge**1.6) * fluids.tension / (AIR_DENSITY * speed**2)
    return size


# sizes (m) and speeds (m/s) between which grips are looked up; beyond, those of the ends hold
SIZES, SPEEDS, STEPS = (2e-6, 0.2), (1e-4, 100.0), 256
SIZE_FROM, PER_SIZE = math.log(SIZES[0]), (STEPS - 1) / math.log(SIZES[1] / SIZES[0])
SPEED_FROM, PER_SPEED = math.log(SPEEDS[0]), (STEPS - 1) / math.log(SPEEDS[1] / SPEEDS[0])
Grips = tuple[np.ndarray, np.ndarray, np.ndarray]


@kernel
def _fill_grips(of_bubble, fluids, size, speed, rate, falls, hold):
    for i in range(len(size)):
        falls[i] = terminal(of_bubble, size[i], fluids)
        for j in range(len(speed)):
            rate[i, j] = bubble_grip(speed[j], size[i], fluids) if of_bubble else drop_grip(speed[j], size[i], fluids)
        hold[i] = bubble_grip(falls[i], size[i], fluids) if of_bubble else drop_grip(falls[i], size[i], fluids)


def grips(of_bubble: bool, fluids: Fluids) -> Grips:
    """Rates (1/s) at which drops or bubbles lose their speed, terminal speeds and the rates at these, to look up."""
    size, speed = np.geomspace(*SIZES, STEPS), np.geomspace(*SPEEDS, STEPS)
    rate, falls, hold = np.empty((STEPS, STEPS), np.float32), np.empty(STEPS, np.float32), np.empty(STEPS, np.float32)
    _fill_grips(of_bubble, fluids.row(), size, speed, rate, falls, hold)
    return rate, falls, hold


@kernel(inline="always")
def step_in(value, begin, per):
    """Place of a value in a table, in steps; kept within it."""
    return min(max((np.log(max(value, 1e-12)) - begin) * per, 0.0), STEPS - 1.001)


@kernel(inline="always")
def ends_at(table, place):
    """Terminal speed of what has a place among sizes, and the rate at which it loses that."""
    _, falls, hold = table
    i = np.uint64(place)
    a, on = place - i, np.uint64(1)
    return falls[i] + (falls[i + on] - falls[i]) * a, hold[i] + (hold[i + on] - hold[i]) * a


@kernel(inline="always")
def grip_at(table, place, speed):
    """Rate at which what has a place among sizes loses its speed, at a speed."""
    rate, _, _ = table
    i = np.uint64(place)
    b = step_in(speed, SPEED_FROM, PER_SPEED)
    j = np.uint64(b)
    a, b, on = place - i, b - j, np.uint64(1)
    low = rate[i, j] + (rate[i, j + on] - rate[i, j]) * b
    high = rate[i + on, j] + (rate[i + on, j + on] - rate[i + on, j]) * b
    return low + (high - low) * a
