"""Mist: the mass of fine droplets in each voxel of a grid of its own, carried by the air that spray draws along.

Mass is pushed on, not fetched: what leaves a voxel arrives in the eight about where it goes, so that none is lost or
won whatever the air does. Air goes against nothing that is solid or liquid; what gathers it drives it apart (an
approximate projection: Almgren, Bell & Szymczak 1996, "A numerical method for the incompressible Navier-Stokes
equations based on an approximate projection").
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
from scipy.fft import dct, dst, idct, idst
from scipy.ndimage import gaussian_filter

from basin.kernels import kernel
from basin.whitewater.laws import AIR_DENSITY, PER_SIZE, SIZE_FROM, Fluids, grip_at, grips, step_in, terminal
from basin.whitewater.mist_settings import MistSettings

ALGORITHM = "mist-2"
MOST_VOXELS = 40_000_000
LEAST = 1e-12  # kg/m3, less is none
STRIDE, MOST_SUBSTEPS = 1.5, 8  # voxels that the fastest air goes in a substep, if there are not more of them than that
FREE, WET, SOLID = 0, 1, 2


@dataclass(frozen=True)
class Box:
    """Voxels of the mist.

    Attributes
    ----------
    low : (3,), m; voxel : m; count : of them, (3,)
    closed : bool (3, 2), sides that it does not leave through
    """

    low: np.ndarray
    voxel: float
    count: tuple[int, int, int]
    closed: np.ndarray

    def middles(self) -> np.ndarray:
        """Middles of all voxels, m, (nx, ny, nz, 3)."""
        index = np.moveaxis(np.indices(self.count), 0, -1)
        return self.low + (index + 0.5) * self.voxel


@dataclass(frozen=True)
class Shed:
    """Whitewater that gives off mist in a frame.

    Attributes
    ----------
    position, velocity : (n, 3), m and m/s, at its end; radius : (n,), m
    """

    position: np.ndarray
    velocity: np.ndarray
    radius: np.ndarray


@dataclass(frozen=True)
class Surroundings:
    """What mist meets in a frame.

    Attributes
    ----------
    state : uint8 (nx, ny, nz): air, liquid, or solid
    flow : (nx, ny, nz, 3), m/s, of the liquid where it is; else nothing
    wind : velocity of the air by winds, and drift by other forces, (nx, ny, nz, 3), m/s; none without
    """

    state: np.ndarray
    flow: np.ndarray
    wind: np.ndarray | None = None


@kernel
def _shed(position, velocity, radius, wind, back, drops, per_speed, low, voxel, density, heat, dt, mass, drag, push):
    """Mass (kg) given off, and the air's share in drag, in the eight voxels about each place `back` seconds ago."""
    told = 0.0
    for p in range(position.shape[0]):
        speed = 0.0
        for d in range(3):
            speed += (velocity[p, d] - wind[d]) ** 2
        speed = np.sqrt(speed)
        own = 4.0 / 3.0 * np.pi * radius[p] ** 3 * density
        given = own * heat * speed * dt
        place = step_in(2.0 * radius[p], SIZE_FROM, PER_SIZE)
        held = own * grip_at(drops, place, speed) * per_speed * dt
        x = (position[p, 0] - back * velocity[p, 0] - low[0]) / voxel - 0.5
        y = (position[p, 1] - back * velocity[p, 1] - low[1]) / voxel - 0.5
        z = (position[p, 2] - back * velocity[p, 2] - low[2]) / voxel - 0.5
        i, j, k = int(np.floor(x)), int(np.floor(y)), int(np.floor(z))
        fx, fy, fz = x - i, y - j, z - k
        for a in range(2):
            for b in range(2):
                for c in range(2):
                    u, v, w = i + a, j + b, k + c
                    if u < 0 or v < 0 or w < 0 or u >= mass.shape[0] or v >= mass.shape[1] or w >= mass.shape[2]:
                        continue
                    share = (fx if a else 1 - fx) * (fy if b else 1 - fy) * (fz if c else 1 - fz)
                    mass[u, v, w] += share * given
                    told += share * given
                    drag[u, v, w] += share * held
                    for d in range(3):
                        push[u, v, w, d] += share * held * (velocity[p, d] - wind[d])
    return told


@kernel
def _on(mass, air, wind, falls, state, closed, voxel, dt, out):
    """Push mass on by the air; what went into liquid and what left, kg."""
    nx, ny, nz = mass.shape
    wet, left = 0.0, 0.0
    count = (nx, ny, nz)
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                own = mass[i, j, k]
                if own == 0.0:
                    continue
                at = (i, j, k)
                lower, part = np.zeros(3, np.int64), np.zeros(3)
                for d in range(3):
                    goes = at[d] + (air[i, j, k, d] + wind[i, j, k, d] + falls[d]) * dt / voxel
                    if closed[d, 0]:
                        goes = max(goes, 0.0)
                    if closed[d, 1]:
                        goes = min(goes, count[d] - 1.0)
                    lower[d] = int(np.floor(goes))
                    part[d] = goes - lower[d]
                for a in range(2):
                    for b in range(2):
                        for c in range(2):
                            share = (part[0] if a else 1 - part[0]) * (part[1] if b else 1 - part[1])
                            share *= part[2] if c else 1 - part[2]
                            if share == 0.0:
                                continue
                            u, v, w = lower[0] + a, lower[1] + b, lower[2] + c
                            if u < 0 or v < 0 or w < 0 or u >= nx or v >= ny or w >= nz:
                                left += share * own
                            elif state[u, v, w] == WET:
                                wet += share * own
                            elif state[u, v, w] == SOLID:
                                out[i, j, k] += share * own
                            else:
                                out[u, v, w] += share * own
    return wet, left


@kernel
def _fetched(air, wind, voxel, dt, out):
    """Air carried on by itself and the wind, trilinear, from where it comes."""
    nx, ny, nz, _ = air.shape
    for i in range(nx):
        for j in range(ny):
            for k in range(nz):
                x = min(max(i - (air[i, j, k, 0] + wind[i, j, k, 0]) * dt / voxel, 0.0), nx - 1.001)
                y = min(max(j - (air[i, j, k, 1] + wind[i, j, k, 1]) * dt / voxel, 0.0), ny - 1.001)
                z = min(max(k - (air[i, j, k, 2] + wind[i, j, k, 2]) * dt / voxel, 0.0), nz - 1.001)
                u, v, w = int(x), int(y), int(z)
                a, b, c = x - u, y - v, z - w
                for d in range(3):
                    low = air[u, v, w, d] * (1 - a) + air[u + 1, v, w, d] * a
                    low = low * (1 - b) + (air[u, v + 1, w, d] * (1 - a) + air[u + 1, v + 1, w, d] * a) * b
                    high = air[u, v, w + 1, d] * (1 - a) + air[u + 1, v, w + 1, d] * a
                    high = high * (1 - b) + (air[u, v + 1, w + 1, d] * (1 - a) + air[u + 1, v + 1, w + 1, d] * a) * b
                    out[i, j, k, d] = low * (1 - c) + high * c


def _apart(air: np.ndarray, voxel: float, closed: np.ndarray) -> None:
    """Drive apart air that gathers, in place. It does not pass sides that are closed; at open ones it is as outside."""
    parting = np.zeros(air.shape[:3])
    for d in range(3):
        parting += np.diff(_at_faces(air[..., d], d, closed[d]), axis=d) / voxel
    held, steep = parting, np.zeros(air.shape[:3])
    for d in range(3):
        there, _, wave = _waves(closed[d])
        n = air.shape[d]
        steep = steep + np.expand_dims(
            2.0 * (1.0 - np.cos(np.pi * wave(n) / n)) / voxel**2, [e for e in range(3) if e != d]
        )
        held = there(held, axis=d, norm="ortho")
    sealed = bool(closed.all())
    if sealed:
        steep[0, 0, 0] = 1.0
    held = held / -steep
    if sealed:
        held[0, 0, 0] = 0.0
    for d in range(3):
        held = _waves(closed[d])[1](held, axis=d, norm="ortho")
    for d in range(3):
        slope = np.diff(_beyond(held, d, closed[d]), axis=d) / voxel
        air[..., d] -= 0.5 * (
            np.take(slope, np.arange(air.shape[d]), d) + np.take(slope, np.arange(1, air.shape[d] + 1), d)
        )


def _waves(closed: np.ndarray) -> tuple[Any, Any, Callable[[int], np.ndarray]]:
    """Along an axis between two sides: transform, its inverse, and the numbers of its half waves.

    Cosines where pressure is level at a closed side, sines where it is nothing at an open one (Strang 1999, "The
    discrete cosine transform").
    """
    if closed.all():
        return partial(dct, type=2), partial(idct, type=2), lambda n: np.arange(n, dtype=float)
    if not closed.any():
        return partial(dst, type=2), partial(idst, type=2), lambda n: np.arange(1.0, n + 1)
    both = partial(dct, type=4) if closed[0] else partial(dst, type=4)
    return both, both, lambda n: np.arange(n) + 0.5


def _beyond(value: np.ndarray, axis: int, closed: np.ndarray) -> np.ndarray:
    """Pressure with a voxel beyond either side: the same where it is closed, its opposite where it is open."""
    first, last = np.take(value, [0], axis), np.take(value, [-1], axis)
    return np.concatenate([first if closed[0] else -first, value, last if closed[1] else -last], axis=axis)


def _at_faces(value: np.ndarray, axis: int, closed: np.ndarray) -> np.ndarray:
    """Means between voxels along an axis; through the box's sides nothing if they are closed, else as beside them."""
    first, last = np.take(value, [0], axis), np.take(value, [-1], axis)
    wide = np.concatenate([-first if closed[0] else first, value, -last if closed[1] else last], axis=axis)
    n = wide.shape[axis]
    return np.asarray(0.5 * (np.take(wide, np.arange(n - 1), axis) + np.take(wide, np.arange(1, n), axis)))


@dataclass
class Mist:
    """Mist on its way through a shot.

    Attributes
    ----------
    mass : (nx, ny, nz), kg, in each voxel
    air : (nx, ny, nz, 3), m/s, that spray and liquid have given the air
    """

    settings: MistSettings
    box: Box
    fluids: Fluids
    mass: np.ndarray = field(default_factory=lambda: np.zeros(0))
    air: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def __post_init__(self) -> None:
        if not self.mass.size:
            self.mass, self.air = np.zeros(self.box.count), np.zeros((*self.box.count, 3))
        self._drops = grips(False, self.fluids)

    def frame(
        self,
        shed: Shed,
        around: Surroundings,
        gravity: np.ndarray,
        seconds: float,
        stop: Callable[[], bool] = lambda: False,
    ) -> dict[str, float] | None:
        """Go on by a frame; how much, kg, came off, fell into liquid, left and faded; None if stopped.

        Parameters
        ----------
        gravity : (3,), m/s2; seconds : length of the frame
        """
        told = {"given": 0.0, "wet": 0.0, "left": 0.0, "faded": 0.0}
        mass, air = self.mass, self.air
        fastest = float(np.abs(air).max(initial=0.0))
        count = int(np.clip(np.ceil(fastest * seconds / (STRIDE * self.box.voxel)), 1, MOST_SUBSTEPS))
        dt = seconds / count
        pull = float(np.linalg.norm(gravity))
        speed = terminal(False, 2e-6 * self.settings.radius, self.fluids.row())
        falls = speed * gravity / pull if pull > 0 else np.zeros(3)
        wind = np.zeros((*self.box.count, 3)) if around.wind is None else around.wind
        for step in range(count):
            if stop():
                return None
            back = (1 - (step + 0.5) / count) * seconds
            mass, air = self._step(mass.copy(), air, shed, around, wind, falls, back, dt, told)
        self.mass, self.air = mass, air
        return told

    def _step(
        self,
        mass: np.ndarray,
        air: np.ndarray,
        shed: Shed,
        around: Surroundings,
        wind: np.ndarray,
        falls: np.ndarray,
        back: float,
        dt: float,
        told: dict[str, float],
    ) -> tuple[np.ndarray, np.ndarray]:
        settings, box = self.settings, self.box
        drag, push = np.zeros(box.count), np.zeros((*box.count, 3))
        mean = wind.reshape(-1, 3).mean(axis=0)
        per_mass = settings.carries / (AIR_DENSITY * box.voxel**3)
        told["given"] += _shed(
            shed.position.astype(float), shed.velocity.astype(float), shed.radius.astype(float), mean, back,
            self._drops, per_mass, box.low, box.voxel, self.fluids.density, settings.tears, dt, mass, drag, push,
        )  # fmt: skip
        carried = np.empty_like(air)
        _fetched(air, wind, box.voxel, dt, carried)
        # as much as drag gives, which ends when air and spray go alike
        carried = (carried + push) / (1.0 + drag)[..., None] * np.exp(-dt / settings.rests)
        self._met(carried, around, wind)
        _apart(carried, box.voxel, box.closed)
        self._met(carried, around, wind)
        out = np.zeros_like(mass)
        wet, left = _on(mass, carried, wind, falls, around.state, box.closed, box.voxel, dt, out)
        if settings.spreads > 0:
            before = out.sum()
            sigma = np.sqrt(2.0 * settings.spreads * dt) / box.voxel
            out = np.maximum(gaussian_filter(out, sigma, mode="reflect", truncate=6.0), 0.0)
            out[around.state != FREE] = 0.0
            after = out.sum()
            out *= before / after if after > 0 else 0.0
        stays = np.exp(-dt / settings.lives)
        told["faded"] += float(out.sum()) * (1.0 - stays)
        told["wet"] += wet
        told["left"] += left
        out *= stays
        out[out < LEAST * box.voxel**3] = 0.0
        return out, carried

    @staticmethod
    def _met(air: np.ndarray, around: Surroundings, wind: np.ndarray) -> None:
        """Air at the liquid goes with it; at solids, where `flow` is nothing, it rests."""
        np.subtract(around.flow, wind, out=air, where=(around.state != FREE)[..., None])
