"""Spectra of waves: energy by frequency and wave number, its spreading over directions, its moments.

Variance densities are one-sided in frequency: the variance of the surface's height is the integral of S(omega) over
omega from 0, or of F(k) over k, or of Psi(kx, kz) over the whole plane, in which a wave stands at the direction it goes
in and nowhere else.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import gammaln

from basin.sea.dispersion import Water

PM_ALPHA, PM_BETA, PM_HEIGHT = 0.0081, 0.74, 1.026  # Pierson & Moskowitz 1964; wind at 19.5 m over that at 10 m
LEFT, RIGHT = 0.07, 0.09  # widths of JONSWAP's peak
FULL_GROWN = (3.5 / 0.13) ** (1 / 0.33)  # dimensionless fetch at which JONSWAP's peak is that of Pierson-Moskowitz


@dataclass(frozen=True)
class Growth:
    """How far a wind has raised its waves: level of the tail, and the peak's angular frequency, rad/s."""

    alpha: float
    peak: float


def fetch_number(wind: float, fetch: float, gravity: float, duration: float | None = None) -> float:
    """Dimensionless fetch g F / U^2 (fetch in m), no more than a wind of some seconds can use.

    Duration by the Coastal Engineering Manual (2002, II-2-35, from memory): g t / U = 77.23 x^0.67.
    """
    x = gravity * fetch / wind**2
    if duration is not None:
        x = min(x, (gravity * duration / (77.23 * wind)) ** (1 / 0.67))
    return min(x, FULL_GROWN)


def jonswap_growth(wind: float, fetch_number: float, gravity: float) -> Growth:
    """Growth with the fetch (Hasselmann et al. 1973): alpha 0.076 x^-0.22, peak frequency 3.5 g/U x^-0.33."""
    peak = 3.5 * gravity / wind * fetch_number**-0.33
    return Growth(0.076 * fetch_number**-0.22, 2.0 * np.pi * peak)


def aged_growth(wind: float, age: float, gravity: float) -> Growth:
    """The same at a wave age, speed of the peak's waves over the wind's."""
    frequency = gravity / (2.0 * np.pi * age * wind)
    return jonswap_growth(wind, float((3.5 * gravity / (wind * frequency)) ** (1 / 0.33)), gravity)


def pierson_moskowitz(omega: np.ndarray, wind: float, gravity: float) -> np.ndarray:
    """Fully grown sea, m2 s; wind at 10 m."""
    w = np.maximum(omega, 1e-9)
    high = PM_HEIGHT * wind
    return np.asarray(PM_ALPHA * gravity**2 * w**-5.0 * np.exp(-PM_BETA * (gravity / (high * w)) ** 4))


def jonswap(omega: np.ndarray, growth: Growth, gravity: float, peak: float = 3.3) -> np.ndarray:
    """Growing sea, m2 s (Hasselmann et al. 1973); with a peakedness of 1 the form of Pierson-Moskowitz."""
    w = np.maximum(omega, 1e-9)
    width = np.where(w <= growth.peak, LEFT, RIGHT)
    raised = peak ** np.exp(-0.5 * ((w / growth.peak - 1.0) / width) ** 2)
    return np.asarray(growth.alpha * gravity**2 * w**-5.0 * np.exp(-1.25 * (growth.peak / w) ** 4) * raised)


def of_depth(omega: np.ndarray, water: Water) -> np.ndarray:
    """Share (n,) that a depth leaves of a spectrum in deep water (Kitaigorodskii et al. 1975; TMA: Bouws et al. 1985).

    k^-3 dk/domega at the depth over the same in deep water; about (omega^2 h / g) / 2 where that is small.
    """
    if water.depth is None:
        return np.ones_like(omega)
    plain = Water(water.gravity, water.depth)
    k = plain.number(omega)
    deep = omega**2 / water.gravity
    return np.asarray((deep / np.maximum(k, 1e-12)) ** 3 * (2.0 * omega / water.gravity) ** -1 / plain.group(k))


def phillips(k: np.ndarray, wind: float, gravity: float) -> np.ndarray:
    """F(k), m3: alpha/2 k^-3 exp(-1/(kL)^2), L = U^2/g, the form of graphics (Phillips 1958; Tessendorf 2001).

    As Tessendorf's A exp(-1/(kL)^2) / k^4 |cos|^2 over the whole plane, with A = alpha / (2 pi): so its tail is that of
    the other spectra.
    """
    k = np.maximum(k, 1e-12)
    return np.asarray(0.5 * PM_ALPHA * k**-3.0 * np.exp(-1.0 / (k * wind**2 / gravity) ** 2))


def ripples(k: np.ndarray, wind: float, water: Water) -> np.ndarray:
    """F(k), m3, of waves of centimetres (Elfouhaily et al. 1997, high-frequency part)."""
    least, slowest = 370.0, 0.23  # rad/m and m/s of the slowest waves
    drag = wind * np.sqrt(1e-3 * (0.8 + 0.065 * wind))  # friction velocity, Wu 1982
    level = 0.01 * (1.0 + (1.0 if drag <= slowest else 3.0) * np.log(max(drag, 1e-6) / slowest))
    speed = water.omega(k) / np.maximum(k, 1e-12)
    curved = 0.5 * max(level, 0.0) * slowest / np.maximum(speed, 1e-9) * np.exp(-0.25 * (k / least - 1.0) ** 2)
    return np.asarray(curved * np.maximum(k, 1e-12) ** -3.0)


def cos2s(angle: np.ndarray, s: np.ndarray | float) -> np.ndarray:
    """Spreading cos^2s(angle / 2), 1/rad, whole over the circle (Longuet-Higgins et al. 1963)."""
    s = np.asarray(s, float)
    log = (2 * s - 1) * np.log(2.0) + 2 * gammaln(s + 1) - gammaln(2 * s + 1) - np.log(np.pi)
    cosine = np.abs(np.cos(0.5 * angle))
    return np.asarray(np.exp(log + 2 * s * np.log(np.maximum(cosine, 1e-30))))


def mitsuyasu(omega: np.ndarray, peak: float, wind: float, gravity: float) -> np.ndarray:
    """Exponent s by frequency (Mitsuyasu et al. 1975): 11.5 (peak U / g)^-2.5 at the peak, narrower than anywhere."""
    r = np.maximum(omega, 1e-9) / peak
    most = 11.5 * (peak * max(wind, 1e-6) / gravity) ** -2.5
    return np.clip(most * np.where(r < 1, r**5, r**-2.5), 0.0, 500.0)


def donelan_banner(angle: np.ndarray, omega: np.ndarray, peak: float) -> np.ndarray:
    """Spreading sech^2(beta angle), 1/rad (Donelan et al. 1985, with the tail of Banner 1990)."""
    r = np.maximum(omega / peak, 1e-6)
    tail = 10.0 ** (-0.4 + 0.8393 * np.exp(-0.567 * np.log(np.maximum(r, 1.0) ** 2)))
    beta = np.where(r < 0.95, 2.61 * np.maximum(r, 0.56) ** 1.3, np.where(r < 1.6, 2.28 * r**-1.3, tail))
    inside = (angle + np.pi) % (2 * np.pi) - np.pi
    return np.asarray(0.5 * beta / np.cosh(np.minimum(beta * np.abs(inside), 300.0)) ** 2 / np.tanh(beta * np.pi))


@dataclass(frozen=True)
class Moments:
    """What a spectrum says of its waves: heights (m) and periods (s).

    Attributes
    ----------
    height : significant, 4 sqrt(m0)
    peak, mean, crossing : period of the peak; m0/m1; of upward crossings, sqrt(m0/m2), each times 2 pi
    slope : mean square slope of what is within the frequencies
    """

    height: float
    peak: float
    mean: float
    crossing: float
    slope: float


def moments(omega: np.ndarray, density: np.ndarray, number: np.ndarray) -> Moments:
    """Of S (n,) at frequencies (n,) whose wave numbers are (n,)."""

    def of(values: np.ndarray) -> float:
        return float(np.trapezoid(density * values, omega))

    m0, m1, m2 = of(np.ones_like(omega)), of(omega), of(omega**2)
    if m0 <= 0:
        return Moments(0.0, 0.0, 0.0, 0.0, 0.0)
    peak = 2 * np.pi / float(omega[int(np.argmax(density))])
    return Moments(4 * m0**0.5, peak, 2 * np.pi * m0 / m1, 2 * np.pi * (m0 / m2) ** 0.5, of(number**2))
