"""A sea on patches that repeat: heights, displacements, slopes and velocities of a moment, by Fourier transforms.

Each wave number of a patch carries a wave of its own, c(k) with E|c|^2 = 2 Psi(k) dk^2, whose height is
Re c exp(i (k x - omega t)). Transforms of real fields hold half of the plane, so both c(k) and c(-k) go into
h(k) = (c(k) exp(-i omega t) + conj(c(-k)) exp(i omega t)) / 2 (Tessendorf 2001). What chance gives a wave depends on
its numbers and the seed alone: a finer grid adds waves and changes none.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numba import prange
from scipy import fft

from basin.kernels import shared
from basin.randomness import uniform
from basin.sea import spectra
from basin.sea.dispersion import TENSION, Water
from basin.sea.settings import SeaSettings, Swell, WaveSet, points_of
from basin.settings import value_at

FIELDS = (
    "height",
    "shift_x",
    "shift_z",
    "slope_x",
    "slope_z",
    "stretch_xx",
    "stretch_zz",
    "stretch_xz",
    "velocity_x",
    "velocity_y",
    "velocity_z",
)
SHIFTS, SLOPES, STRETCHES, VELOCITIES = slice(0, 3), slice(3, 5), slice(5, 8), slice(8, 11)
WITHIN = 0.5  # of the largest wave number of a patch: from there the next patch has the waves
WAVES = 6.0  # so many at least of the longest that a patch holds must fit on it, where another could hold them
TABLE = 4096


@dataclass(frozen=True)
class Blow:
    """A wind: speed at 10 m (m/s), direction that it goes in (radians from x to z)."""

    speed: float
    towards: float


def blow_at(settings: SeaSettings, time: float) -> Blow:
    """The wind at a shot second."""
    return Blow(float(value_at(settings.wind, time)[0]), float(np.radians(value_at(settings.towards, time)[0])))


@dataclass(frozen=True)
class Spectrum:
    """What waves a scene's sea has under a wind."""

    settings: SeaSettings
    water: Water
    blow: Blow

    @property
    def blows(self) -> bool:
        """Whether there are waves of the wind's."""
        if self.settings.by == "wind":
            return self.blow.speed > 0.1
        return self.settings.height > 0

    @cached_property
    def growth(self) -> spectra.Growth:
        """Of the wind's own waves; a peak of 1 rad/s where nothing blows."""
        s, g = self.settings, self.water.gravity
        if s.by == "height and period":
            return spectra.Growth(spectra.PM_ALPHA, 2 * np.pi / s.period)
        if not self.blows:
            return spectra.Growth(0.0, 1.0)
        speed = self.blow.speed
        if s.spectrum == "pierson-moskowitz":
            return spectra.Growth(spectra.PM_ALPHA, 0.8772 * g / (spectra.PM_HEIGHT * speed))
        if s.spectrum == "phillips":
            return spectra.Growth(spectra.PM_ALPHA, g / speed * (2.0 / 3.0) ** 0.25)
        if s.age is not None:
            return spectra.aged_growth(speed, s.age, g)
        seconds = None if s.duration is None else 3600.0 * s.duration
        return spectra.jonswap_growth(speed, spectra.fetch_number(speed, 1e3 * s.fetch, g, seconds), g)

    def wind_sea(self, k: np.ndarray) -> np.ndarray:
        """F(k), m3, of the wind's own waves."""
        k = np.maximum(np.asarray(k, float), 1e-9)
        if not self.blows:
            return np.zeros_like(k)
        found = self._grown(k) * self._level
        if self.settings.ripples:
            share = np.clip(np.log(k / 3.0) / np.log(10.0), 0.0, 1.0) ** 2
            found = (1 - share) * found + share * spectra.ripples(k, max(self.blow.speed, 0.1), self.water)
        return np.asarray(found)

    def _grown(self, k: np.ndarray) -> np.ndarray:
        s, water = self.settings, self.water
        if s.spectrum == "phillips" and s.by == "wind":
            return spectra.phillips(k, self.blow.speed, water.gravity)
        omega = water.omega(k)
        if s.spectrum == "pierson-moskowitz" and s.by == "wind":
            density = spectra.pierson_moskowitz(omega, self.blow.speed, water.gravity)
        else:
            peaked = s.peak if s.spectrum in ("jonswap", "tma") else 1.0
            density = spectra.jonswap(omega, self.growth, water.gravity, peaked)
        if s.spectrum == "tma":
            density = density * spectra.of_depth(omega, water)
        return np.asarray(density * water.group(k))

    @cached_property
    def _level(self) -> float:
        """What makes a sea as high as it is asked to be."""
        if self.settings.by != "height and period":
            return 1.0
        k = self.water.number(self.growth.peak * np.geomspace(0.2, 30.0, TABLE))
        held = float(np.trapezoid(self._grown(k), k))
        return self.settings.height**2 / 16.0 / max(held, 1e-30)

    def swell(self, one: Swell, k: np.ndarray) -> np.ndarray:
        """F(k), m3, of a swell: a narrow peak at its period."""
        growth = spectra.Growth(1.0, 2 * np.pi / one.period)
        omega = np.geomspace(0.2, 6.0, TABLE) * growth.peak
        held = float(np.trapezoid(spectra.jonswap(omega, growth, self.water.gravity, one.peak), omega))
        k = np.maximum(k, 1e-9)
        own = self.water.omega(k)
        density = np.where(own < omega[-1], spectra.jonswap(own, growth, self.water.gravity, one.peak), 0.0)
        return np.asarray(density * self.water.group(k) * one.height**2 / 16.0 / held)

    def all_waves(self, k: np.ndarray) -> np.ndarray:
        """F(k), m3, of all."""
        return np.asarray(self.wind_sea(k) + sum(self.swell(one, k) for one in self.settings.swells))

    @property
    def _as_wind(self) -> float:
        """The wind's speed; where height and period are given, that of a sea whose waves go as fast as the wind."""
        if self.settings.by == "wind":
            return self.blow.speed
        return self.water.gravity / self.growth.peak

    def over_plane(self, kx: np.ndarray, kz: np.ndarray) -> np.ndarray:
        """Psi (...), m4, at wave numbers of the plane; 0 at their origin."""
        k = np.hypot(kx, kz)
        angle = np.arctan2(kz, kx)
        some = k > 0
        table = np.geomspace(max(float(k[some].min(initial=1.0)), 1e-6), float(k.max(initial=1.0)) + 1e-6, TABLE)
        log = np.log(np.maximum(k, table[0]))

        def looked(values: np.ndarray) -> np.ndarray:
            return np.interp(log, np.log(table), values)

        # energies by their logarithm: they go by powers of the wave number
        own = np.exp(looked(np.log(np.maximum(self.wind_sea(table), 1e-300))))
        away = angle - self.blow.towards
        if self.settings.spreading == "donelan-banner":
            omega = self.water.omega(np.maximum(k, 1e-9))
            found = own * spectra.donelan_banner(away, omega, self.growth.peak)
        else:
            omega = self.water.omega(table)
            s = np.full(TABLE, self.settings.spread)
            if self.settings.spreading == "mitsuyasu":
                s = spectra.mitsuyasu(omega, self.growth.peak, self._as_wind, self.water.gravity)
            level, power = looked(np.log(spectra.cos2s(np.zeros(TABLE), s))), looked(s)
            cosine = np.maximum(np.abs(np.cos(0.5 * away)), 1e-30)
            found = own * np.exp(level + 2 * power * np.log(cosine))
        for one in self.settings.swells:
            held = looked(self.swell(one, table))
            found = found + held * spectra.cos2s(angle - np.radians(one.towards), one.spread)
        return np.where(some, found / np.maximum(k, 1e-30), 0.0)

    def longest(self) -> float:
        """Length, m, of the waves at the lowest peak."""
        peaks = [self.growth.peak] if self.blows else []
        peaks += [2 * np.pi / one.period for one in self.settings.swells if one.height > 0]
        return float(2 * np.pi / self.water.number(np.array([min(peaks, default=1.0)]))[0])


@dataclass(frozen=True)
class Hold:
    """Wave numbers, rad/m, that a patch holds: from one on and below another."""

    low: float
    high: float


def holds(sets: Sequence[WaveSet]) -> list[Hold]:
    """Which waves are on which patch: each on the largest whose grid is fine enough, once."""
    found: list[Hold] = []
    low = 0.0
    for one, other in zip(sets, [*sets[1:], None], strict=True):
        most = np.pi * one.resolution / one.size
        if other is None:
            found.append(Hold(low, most))
            continue
        change = min(max(WITHIN * most, WAVES * 2 * np.pi / other.size), most)
        found.append(Hold(low, change))
        low = change
    return found


@shared
def _of_moment(a, b, omega, kx, kz, up, turned, out):  # type: ignore[no-untyped-def]
    """Transforms (f, n, n/2 + 1) of all fields. `turned` is the time in seconds; `up` is what a depth leaves of
    horizontal motion, over that of the vertical."""
    for i in prange(a.shape[0]):
        for j in range(a.shape[1]):
            phase = omega[i, j] * turned
            phase -= 2.0 * np.pi * np.floor(phase / (2.0 * np.pi))
            c, s = np.float32(np.cos(phase)), np.float32(np.sin(phase))
            p, q = a[i, j], b[i, j]
            pr, pi = p.real * c + p.imag * s, p.imag * c - p.real * s
            qr, qi = q.real * c - q.imag * s, q.imag * c + q.real * s
            hr, hi = pr + qr, pi + qi
            dr, di = pr - qr, pi - qi
            x, z, flat = kx[i], kz[j], up[i, j]
            k = np.sqrt(x * x + z * z)
            one = np.float32(1.0) / k if k > 0 else np.float32(0.0)
            w = np.float32(omega[i, j])
            ux, uz = x * one * flat, z * one * flat
            out[0, i, j] = complex(hr, hi)
            out[1, i, j] = complex(-ux * hi, ux * hr)
            out[2, i, j] = complex(-uz * hi, uz * hr)
            out[3, i, j] = complex(-x * hi, x * hr)
            out[4, i, j] = complex(-z * hi, z * hr)
            out[5, i, j] = complex(-ux * x * hr, -ux * x * hi)
            out[6, i, j] = complex(-uz * z * hr, -uz * z * hi)
            out[7, i, j] = complex(-ux * z * hr, -ux * z * hi)
            out[8, i, j] = complex(w * ux * dr, w * ux * di)
            out[9, i, j] = complex(w * di, -w * dr)
            out[10, i, j] = complex(w * uz * dr, w * uz * di)


class Patch:
    """The waves of one patch.

    Attributes
    ----------
    size : edge, m; count : points along it
    loop_seconds : liquid seconds after which it is the same again, if it is to be
    """

    def __init__(self, one: WaveSet, hold: Hold, nth: int, settings: SeaSettings, water: Water, count: int) -> None:
        self.set, self.hold, self.nth, self.settings, self.water = one, hold, nth, settings, water
        self.size, self.count = one.size, count
        self.loop_seconds: float | None = None
        step = 2 * np.pi / one.size
        self.step = step
        self.kx = fft.fftfreq(count, 1.0 / count) * step
        self.kz = np.arange(count // 2 + 1) * step
        k = np.hypot(self.kx[:, None], self.kz[None, :])
        self.held = (k >= hold.low) & (k < hold.high) & (k > 0)
        # waves of two cells' length stand for two directions at once: they are left out
        self.held[count // 2] = False
        self.held[:, count // 2] = False
        self._k = k

    @cached_property
    def omega(self) -> np.ndarray:
        """Angular frequency (n, n/2 + 1), bent to those that loop if it must."""
        omega = self.water.omega(self._k)
        return omega if self.loop_seconds is None else np.asarray(looped(omega, self.loop_seconds))

    @cached_property
    def chance(self) -> tuple[np.ndarray, np.ndarray]:
        """Of the waves at k and at -k: complex normal numbers of unit variance, (n, n/2 + 1) each."""
        m = np.rint(self.kx / self.step).astype(np.int64)[:, None]
        n = np.rint(self.kz / self.step).astype(np.int64)[None, :]
        return self._normal(m, n), self._normal(-m, -n)

    def _normal(self, m: np.ndarray, n: np.ndarray) -> np.ndarray:
        number = ((m + 32768).astype(np.uint64) << np.uint64(20)) + (n + 32768).astype(np.uint64)
        drawn = uniform(number.ravel(), self.settings.seed * 16 + self.nth, 2).astype(float)
        radius = np.sqrt(-np.log(1.0 - drawn[:, 0]))
        return np.asarray((radius * np.exp(2j * np.pi * drawn[:, 1])).reshape(number.shape))

    def spread(self, spectrum: Spectrum) -> tuple[np.ndarray, np.ndarray]:
        """Variance 2 Psi dk^2 (n, n/2 + 1) of the waves at k and at -k, m2."""
        kx, kz = np.broadcast_arrays(self.kx[:, None], self.kz[None, :])
        area = 2.0 * self.step**2
        there = np.where(self.held, area * spectrum.over_plane(kx, kz), 0.0)
        back = np.where(self.held, area * spectrum.over_plane(-kx, -kz), 0.0)
        return there, back

    def waves(self, spectrum: Spectrum) -> tuple[np.ndarray, np.ndarray]:
        """c(k) and c(-k), m, complex (n, n/2 + 1)."""
        there, back = self.spread(spectrum)
        first, second = self.chance
        return np.sqrt(there) * first, np.sqrt(back) * second

    def flat(self, depth: float) -> np.ndarray:
        """What horizontal motion is over vertical at a depth below still water (m), (n, n/2 + 1), float32."""
        if self.water.depth is None:
            return np.ones(self._k.shape, np.float32)
        reach = np.clip(self._k * max(self.water.depth - depth, 1e-6), 1e-6, 50.0)
        return (1.0 / np.tanh(reach)).astype(np.float32)

    def sunk(self, depth: float) -> np.ndarray:
        """What vertical motion at a depth (m) is over that at the surface, (n, n/2 + 1)."""
        if depth == 0.0:
            return np.ones(self._k.shape)
        if self.water.depth is None:
            return np.asarray(np.exp(-self._k * depth))
        h = self.water.depth
        over = np.exp(-self._k * depth) * -np.expm1(-2 * self._k * max(h - depth, 0.0))
        return np.where(self._k > 0, over / np.maximum(-np.expm1(-2 * self._k * h), 1e-30), 0.0)


def looped(omega: np.ndarray, seconds: float) -> np.ndarray:
    """Frequencies bent to the nearest that come round in a time, at least once where they are not 0."""
    base = 2 * np.pi / seconds
    return np.asarray(np.where(omega > 0, np.maximum(np.rint(omega / base), 1.0) * base, 0.0))


@dataclass(frozen=True)
class Moving:
    """A patch's waves under a wind, ready for any moment."""

    patch: Patch
    a: np.ndarray
    b: np.ndarray

    def transforms(self, seconds: float, depth: float = 0.0) -> np.ndarray:
        """Transforms (f, n, n/2 + 1), complex64, of all fields at a time in liquid seconds, at a depth (m)."""
        patch = self.patch
        out = np.empty((len(FIELDS), patch.count, patch.count // 2 + 1), np.complex64)
        a, b = self.a, self.b
        if depth > 0:
            sunk = patch.sunk(depth)
            a, b = (a * sunk).astype(np.complex64), (b * sunk).astype(np.complex64)
        kx, kz = patch.kx.astype(np.float32), patch.kz.astype(np.float32)
        _of_moment(a, b, patch.omega, kx, kz, patch.flat(depth), float(seconds), out)
        return out

    def fields(self, seconds: float, depth: float = 0.0, some: slice = slice(None)) -> np.ndarray:
        """Fields (f, n, n), float32, in the order of `FIELDS`; rows go along x, columns along z. m, 1, m/s (liquid)."""
        given = self.transforms(seconds, depth)[some]
        return np.asarray(
            fft.irfft2(given, axes=(1, 2), norm="forward", workers=2, overwrite_x=True, s=(self.patch.count,) * 2)
        )


class Sea:
    """A scene's sea: all of its patches."""

    def __init__(
        self,
        settings: SeaSettings,
        gravity: float = 9.81,
        *,
        fps: float = 24.0,
        time_scale: float = 1.0,
        first: int = 1,
        coarser: float = 1.0,
    ) -> None:
        self.settings, self.fps, self.time_scale, self.first = settings, fps, time_scale, first
        self.water = Water(gravity, settings.depth, TENSION if settings.ripples else 0.0)
        self.patches = []
        for nth, (one, hold) in enumerate(zip(settings.sets, holds(settings.sets), strict=True)):
            count = points_of(one, coarser)
            patch = Patch(one, hold, nth, settings, self.water, count)
            if settings.loop:
                patch.loop_seconds = settings.loop / fps * time_scale
            self.patches.append(patch)
        self._kept: tuple[Blow, list[Moving]] | None = None

    def shot_time(self, frame: float) -> float:
        """Shot seconds of a frame."""
        return (frame - self.first) / self.fps

    def spectrum(self, frame: float) -> Spectrum:
        """Under the wind of a frame."""
        return Spectrum(self.settings, self.water, blow_at(self.settings, self.shot_time(frame)))

    def moving(self, frame: float) -> list[Moving]:
        """All patches under the wind of a frame; the hero's crest is in them."""
        spectrum = self.spectrum(frame)
        if self._kept is None or self._kept[0] != spectrum.blow:
            self._kept = spectrum.blow, self._raised(spectrum)
        return self._kept[1]

    def _raised(self, spectrum: Spectrum) -> list[Moving]:
        waves = [patch.waves(spectrum) for patch in self.patches]
        hero = self.settings.hero
        if hero is not None:
            own = self.spectrum(hero.frame)
            held = [patch.spread(own) for patch in self.patches]
            alike = own.blow == spectrum.blow
            asked = waves if alike else [patch.waves(own) for patch in self.patches]
            time = self.shot_time(hero.frame) * self.time_scale
            more = raised(self.patches, asked, held, hero.place, time, hero.height)
            if not alike:  # what is added goes with the waves that there are
                now = [patch.spread(spectrum) for patch in self.patches]
                more = [
                    tuple(np.sqrt(n / np.maximum(h, 1e-30)) * m for n, h, m in zip(new, had, given, strict=True))
                    for new, had, given in zip(now, held, more, strict=True)
                ]
            waves = [(first + m, second + n) for (first, second), (m, n) in zip(waves, more, strict=True)]
        found = []
        for patch, (first, second) in zip(self.patches, waves, strict=True):
            a, b = 0.5 * first, 0.5 * np.conj(second)
            found.append(Moving(patch, a.astype(np.complex64), b.astype(np.complex64)))
        return found

    def fields(self, frame: float, depth: float = 0.0) -> list[np.ndarray]:
        """Fields (f, n, n) of each patch at a frame; velocities in m per liquid second."""
        seconds = self.shot_time(frame) * self.time_scale
        return [moving.fields(seconds, depth) for moving in self.moving(frame)]


def raised(
    patches: Sequence[Patch],
    waves: Sequence[tuple[np.ndarray, np.ndarray]],
    held: Sequence[tuple[np.ndarray, np.ndarray]],
    place: Sequence[float],
    seconds: float,
    height: float,
) -> list[tuple[np.ndarray, ...]]:
    """What waves must be given besides so that a crest of a height stands at a place and time.

    The likeliest sea that has it: waves are normal, so those on condition that the height is so and that it rises
    neither to a side nor on are the given ones and their covariance with what is asked (Lindgren 1970; Tromans et al.
    1991, "NewWave"). Returns complex pairs like `waves`.
    """
    rows, flat, variance = [], [], []
    for patch, pair, spread in zip(patches, waves, held, strict=True):
        for sign, own, of in ((1.0, pair[0], spread[0]), (-1.0, pair[1], spread[1])):
            # the first column holds k and -k both, and so each of its waves twice
            once = np.ones(own.shape)
            once[:, 0] = 0.5
            kx, kz = sign * patch.kx[:, None], sign * patch.kz[None, :]
            turn = np.exp(1j * (kx * place[0] + kz * place[2] - patch.omega * seconds))
            asked = [turn, 1j * kx * turn, 1j * kz * turn, -1j * patch.omega * turn]
            rows.append(np.stack([(a * once).ravel() for a in asked]))
            flat.append(own.ravel())
            variance.append((of / np.maximum(once, 0.5)).ravel() * 1.0)
    gone = [np.real(row @ own) for row, own in zip(rows, flat, strict=True)]
    now = np.sum(gone, axis=0)
    wanted = np.array([height, 0.0, 0.0, 0.0])
    # covariance of what is asked: Re(sum of a conj(b) sigma^2) / 2 for complex normal waves
    joint = np.sum([np.real((row * of) @ np.conj(row).T) for row, of in zip(rows, variance, strict=True)], axis=0)
    factor = np.linalg.lstsq(joint, wanted - now, rcond=1e-12)[0]
    more = [of * (factor @ np.conj(row)) for row, of in zip(rows, variance, strict=True)]
    found: list[tuple[np.ndarray, ...]] = []
    for n, patch in enumerate(patches):
        shape = (patch.count, patch.count // 2 + 1)
        found.append((more[2 * n].reshape(shape), more[2 * n + 1].reshape(shape)))
    return found
