"""How far a sea's surface is squeezed by its horizontal motion, and from which choppiness on it folds.

Points go from X to x = X + c D(X). The stretch is the derivative of D, symmetric since D is a gradient; with its
eigenvalues m the surface is squeezed to 1 + c m along each eigenvector, and the Jacobian is their product. It folds
where one of them is 0 (Tessendorf 2001; of a single wave: where c k a > 1).
"""

from __future__ import annotations

import numpy as np
from numba import prange

from basin.kernels import shared

LEAST_SQUEEZE = 0.2  # at which slopes are reckoned where the surface is squeezed more
NEVER = 1e6  # choppiness of still water


@shared
def _jacobian(xx, zz, xz, chop, out):  # type: ignore[no-untyped-def]
    for i in prange(xx.shape[0]):
        for j in range(xx.shape[1]):
            one = np.float32(1.0)
            out[i, j] = (one + chop * xx[i, j]) * (one + chop * zz[i, j]) - (chop * xz[i, j]) ** 2


def jacobian(stretch: np.ndarray, choppiness: float) -> np.ndarray:
    """Jacobian (n, n), float32, of stretches xx, zz, xz (3, n, n)."""
    out = np.empty(stretch.shape[1:], np.float32)
    _jacobian(stretch[0], stretch[1], stretch[2], np.float32(choppiness), out)
    return out


def least_stretch(stretch: np.ndarray) -> np.ndarray:
    """The lower eigenvalue (n, n) of stretches xx, zz, xz (3, n, n)."""
    xx, zz, xz = stretch
    return np.asarray(0.5 * (xx + zz) - np.sqrt(0.25 * (xx - zz) ** 2 + xz**2))


def squeezed_along(stretch: np.ndarray) -> np.ndarray:
    """Unit vectors (2, n, n), x and z, along which the surface is squeezed most."""
    xx, zz, xz = stretch
    turn = 0.5 * np.arctan2(2 * xz, xx - zz) + 0.5 * np.pi
    return np.stack([np.cos(turn), np.sin(turn)])


def folds_from(stretches: list[np.ndarray]) -> float:
    """The choppiness at which a surface begins to fold, of stretches (3, n, n) of some moments."""
    least = min((float(least_stretch(one).min()) for one in stretches), default=0.0)
    return min(-1.0 / least, NEVER) if least < 0 else NEVER


def sharpened(height: np.ndarray, slope: np.ndarray, shift: np.ndarray) -> np.ndarray:
    """Heights (n, n) with crests sharpened to second order in place of points that move to and fro.

    In deep water eta2 = -D . grad eta (Nouguier et al. 2009, "Choppy wave model"), less its mean: crests are higher
    and narrower, troughs flatter, and nothing folds.
    """
    more = -(shift[0] * slope[0] + shift[1] * slope[1])
    return np.asarray(height + more - more.mean())


def bent(slope: np.ndarray, stretch: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Slopes (2, ...) of the surface as it is moved, of heights over the places that points are moved to, and
    Jacobians (...), by slopes (2, ...) at rest and stretches (3, ...), each times its choppiness."""
    xx, zz, xz = stretch
    squeezed = (1 + xx) * (1 + zz) - xz**2
    down = np.maximum(squeezed, LEAST_SQUEEZE)
    along, across = slope
    return np.stack([((1 + zz) * along - xz * across) / down, ((1 + xx) * across - xz * along) / down]), squeezed
