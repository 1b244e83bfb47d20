"""How fast waves of a length go: linear theory (Airy 1845), with depth and surface tension."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

TENSION = 7.3e-5  # N/m over kg/m3, water
STEPS = 40


@dataclass(frozen=True)
class Water:
    """Gravity (m/s2), depth (m; None is deep), tension over density (m3/s2; 0 is none)."""

    gravity: float = 9.81
    depth: float | None = None
    tension: float = 0.0

    def shallow(self, k: np.ndarray) -> np.ndarray:
        """tanh(k h)."""
        return np.ones_like(k) if self.depth is None else np.tanh(np.minimum(k * self.depth, 50.0))

    def omega(self, k: np.ndarray) -> np.ndarray:
        """Angular frequency, rad/s, at wave numbers, rad/m."""
        k = np.asarray(k, float)
        return np.asarray(np.sqrt((self.gravity * k + self.tension * k**3) * self.shallow(k)))

    def group(self, k: np.ndarray) -> np.ndarray:
        """Speed of groups, m/s: the derivative of omega."""
        k = np.maximum(np.asarray(k, float), 1e-12)
        t = self.shallow(k)
        bend = np.zeros_like(k) if self.depth is None else self.depth * (1.0 - t**2)
        pulled = self.gravity + 3 * self.tension * k**2
        return np.asarray((pulled * t + (self.gravity * k + self.tension * k**3) * bend) / (2 * self.omega(k)))

    def number(self, omega: np.ndarray) -> np.ndarray:
        """Wave number at angular frequencies, by Newton's method from above and below."""
        omega = np.maximum(np.asarray(omega, float), 1e-12)
        low = omega**2 / self.gravity
        k = low if self.depth is None else np.maximum(low, omega / np.sqrt(self.gravity * self.depth))
        if self.tension > 0:
            k = np.minimum(k, np.cbrt(omega**2 / self.tension) + 1e-9)
        for _ in range(STEPS):
            k = np.maximum(k - (self.omega(k) - omega) / self.group(k), 0.1 * k)
        return np.asarray(k)
