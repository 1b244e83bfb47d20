"""Waves that bodies make on still water: a window of surface in which waves of all lengths go as water's do.

Height h and potential f of the surface go by h_t = k tanh(kd) f, f_t = -g h - p / density (Airy 1845; with pressure
Lamb 1932, section 242). Over a step in which the pressure stays, each wave number's pair turns by its own angle about
what the pressure would hold down, exactly (Tessendorf 2014, "eWave"). A hull presses with the weight of the water that
it is in the place of, by Archimedes; it lies in its own dent when it rests and leaves waves when it moves.

The window follows the bodies. Its points lie on a ring in both directions: a point of the scene is always the same
number modulo the count, so that nothing is copied when the window goes on. Waves die towards its edges (Israeli &
Orszag 1981, both of the pair). On shores they come back: what is behind a shore's edge is made the mirrored picture of
what is before it.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numba import prange
from scipy import fft
from scipy.ndimage import distance_transform_edt

from basin.kernels import shared
from basin.sea.dispersion import Water
from basin.sea.foam import looked

EDGE = 8  # points along the window's edge over which what lies on it, and what is seen of it, goes
STRIDE = 16  # points by which the window goes on
BORDER = 0.125  # of the window, along each edge, where waves die
DYING = 5.0  # over a period of a wave as long as the border is wide: how fast, at the edge
THREADS = 2


@shared
def _turned(a, p, cos, over, times, out):  # type: ignore[no-untyped-def]
    """Turns pairs (2, n, m) of heights and potentials."""
    for i in prange(a.shape[0]):
        for j in range(a.shape[1]):
            h, f, c = a[i, j], p[i, j], cos[i, j]
            out[0, i, j] = c * h + over[i, j] * f
            out[1, i, j] = c * f - times[i, j] * h


@shared
def _settled(pair, draught, die_x, die_z, height, potential):  # type: ignore[no-untyped-def]
    """Takes the dent back off, and what dies towards the edges."""
    for i in prange(height.shape[0]):
        for j in range(height.shape[1]):
            left = die_x[i] * die_z[j]
            height[i, j] = pair[0, i, j] * left - draught[i, j]
            potential[i, j] = pair[1, i, j] * left


@shared
def _derived(h, f, kx, kz, flat, shallow, out):  # type: ignore[no-untyped-def]
    """Transforms (10, n, m) of displacement, slopes, stretches and velocities from those of waves and potential."""
    for i in prange(h.shape[0]):
        for j in range(h.shape[1]):
            x, z = kx[i], kz[j]
            k = np.sqrt(x * x + z * z)
            one = flat[i, j] / k if k > 0 else np.float32(0.0)
            ux, uz = x * one, z * one
            a, p = h[i, j], f[i, j]
            out[0, i, j] = complex(-ux * a.imag, ux * a.real)
            out[1, i, j] = complex(-uz * a.imag, uz * a.real)
            out[2, i, j] = complex(-x * a.imag, x * a.real)
            out[3, i, j] = complex(-z * a.imag, z * a.real)
            out[4, i, j] = -ux * x * a
            out[5, i, j] = -uz * z * a
            out[6, i, j] = -ux * z * a
            out[7, i, j] = complex(-x * p.imag, x * p.real)
            out[8, i, j] = k * shallow[i, j] * p
            out[9, i, j] = complex(-z * p.imag, z * p.real)


@shared
def _mirrored(field, x, z, weight, found):  # type: ignore[no-untyped-def]
    """What points (a,) behind an edge have: that of places (in points) before it, less and less far behind."""
    for q in prange(x.shape[0]):
        found[q] = weight[q] * looked(field, x[q], z[q])


def inside(within: np.ndarray, count: int) -> np.ndarray:
    """1 inside of a window along an axis, softly 0 at its edges, at places in points from its first."""
    return np.clip(np.minimum(within, count - 1.0 - within) / EDGE, 0.0, 1.0)


def _single(values: np.ndarray) -> np.ndarray:
    return np.ascontiguousarray(values, np.float32)


@dataclass(frozen=True)
class _Shore:
    """Points behind shores' edges (rows and columns), the places (a,) that they mirror, and how much of these they
    have."""

    at: tuple[np.ndarray, ...]
    x: np.ndarray
    z: np.ndarray
    weight: np.ndarray


@dataclass
class WaveField:
    """Waves on a window of still water.

    Attributes
    ----------
    cell : m between points; count : points along the window
    water : gravity, depth and tension
    fades : liquid seconds in which a third of all waves is left; eddies : m2/s, by which short ones die sooner
    height, potential : (n, n), m and m2/s; point (i, j) is where i and j are numbers of points modulo n
    draught : (n, n) m, how deep hulls lie in the water
    origin : (2,) number of the window's first point, from which on a number stands for a place
    """

    cell: float
    count: int
    water: Water
    fades: float = np.inf
    eddies: float = 0.0
    height: np.ndarray = field(init=False)
    potential: np.ndarray = field(init=False)
    draught: np.ndarray = field(init=False)
    origin: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        n = self.count
        self.height, self.potential, self.draught = (np.zeros((n, n), np.float32) for _ in range(3))
        self.origin = np.full(2, -(n // 2), np.int64)
        step = 2 * np.pi / (n * self.cell)
        self.kx = (fft.fftfreq(n, 1.0 / n) * step).astype(np.float32)
        self.kz = (np.arange(n // 2 + 1) * step).astype(np.float32)
        self._k = np.hypot(self.kx[:, None], self.kz[None, :]).astype(np.float32)
        self._law: tuple[float, tuple[np.ndarray, np.ndarray, np.ndarray]] | None = None
        self._shore: _Shore | None = None

    @property
    def size(self) -> float:
        """Edge of the window, m."""
        return self.count * self.cell

    @property
    def border(self) -> float:
        """Along each edge, where waves die, m."""
        return BORDER * self.size

    def follow(self, place: np.ndarray) -> bool:
        """Have the window about a place (2,), m; whether it went on."""
        wanted = np.rint(place / self.cell / STRIDE).astype(np.int64) * STRIDE - self.count // 2
        gone = bool((wanted != self.origin).any())
        self.origin = wanted
        return gone

    def _turns(self, seconds: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """cos, sin over and sin times of each wave's angle in a step, with what dies."""
        if self._law is None or self._law[0] != seconds:
            k = self._k.astype(np.float64)
            omega = self.water.omega(k)
            stiff = self.water.gravity + self.water.tension * k**2
            left = np.exp(-seconds * (1.0 / self.fades + 2 * self.eddies * k**2))
            turn = omega * seconds
            over = omega / stiff
            back = np.divide(1.0, over, out=np.zeros_like(over), where=over > 0)  # a level raised all over drives none
            cos, sin = left * np.cos(turn), left * np.sin(turn)
            self._law = seconds, (_single(cos), _single(sin * over), _single(sin * back))
        return self._law[1]

    def _dying(self, axis: int, seconds: float) -> np.ndarray:
        """What is left (n,) after a step, by the point's number along an axis, modulo the count."""
        edge = self.border
        period = float(2 * np.pi / self.water.omega(np.array([2 * np.pi / edge]))[0])
        number = np.arange(self.count)
        within = (number - self.origin[axis]) % self.count
        away = np.minimum(within, self.count - 1 - within) * self.cell
        rate = DYING / period * np.maximum(1 - away / edge, 0.0) ** 2
        return np.exp(-rate * seconds).astype(np.float32)

    def press(self, hulls: list[tuple[np.ndarray, np.ndarray]]) -> np.ndarray:
        """The draught (n, n) of hulls (depths (a, b), numbers (2,) of the first point) on the window's points."""
        found = np.zeros_like(self.draught)
        for deep, begin in hulls:
            self._laid(found, deep, begin)
        return found

    def _laid(self, onto: np.ndarray, given: np.ndarray, begin: np.ndarray) -> None:
        """Lay a piece on the window; what of it is outside is left out."""
        first = np.maximum(self.origin - begin, 0)
        last = np.minimum(self.origin + self.count - begin, given.shape)
        if (last <= first).any():
            return
        part = given[first[0] : last[0], first[1] : last[1]]
        rows, columns = ((begin[d] + np.arange(first[d], last[d])) % self.count for d in range(2))
        where = np.ix_(rows, columns)
        onto[where] = np.maximum(onto[where], part)

    def points(self) -> np.ndarray:
        """Places (n n, 2), m, of the window's points, from its first."""
        x, z = ((self.origin[d] + np.arange(self.count)) * self.cell for d in range(2))
        return np.stack(np.meshgrid(x, z, indexing="ij"), axis=-1).reshape(-1, 2)

    def set_shores(self, solid: np.ndarray | None) -> None:
        """Where shores and rocks stand in the surface: bool (n, n) from the window's first point; None nowhere."""
        if solid is None or not solid.any() or solid.all():
            self._shore = None
            return
        deep, nearest = distance_transform_edt(solid, return_indices=True)
        at = np.argwhere(solid)
        own = deep[solid]
        way = np.stack([one[solid] for one in nearest], axis=1) - at
        edge = at + way * ((own - 0.5) / own)[:, None]
        mirror = 2 * edge - at
        reach = self.border / self.cell
        fading = np.clip(2 * (1 - own / reach), 0.0, 1.0)
        self._shore = _Shore(
            tuple(((at + self.origin) % self.count).T),
            np.ascontiguousarray(mirror[:, 0] + self.origin[0]),
            np.ascontiguousarray(mirror[:, 1] + self.origin[1]),
            (fading**2 * (3 - 2 * fading)).astype(np.float32),
        )

    def rest(self, draught: np.ndarray) -> None:
        """Have hulls lie at rest in still water, in their dents."""
        self.draught, self.height = draught, -draught
        self.potential = np.zeros_like(draught)

    def step(self, seconds: float, draught: np.ndarray | None = None) -> None:
        """Go on by liquid seconds, in which hulls lie in the water so deep."""
        self.draught = np.zeros_like(self.height) if draught is None else draught
        given = np.stack([self.height + self.draught, self.potential])
        if self._shore is not None:
            for one in given:
                found = np.empty(len(self._shore.x), np.float32)
                _mirrored(one, self._shore.x, self._shore.z, self._shore.weight, found)
                one[self._shore.at] = found
        pair = fft.rfft2(given, axes=(1, 2), workers=THREADS, overwrite_x=True)
        _turned(pair[0], pair[1], *self._turns(seconds), pair)
        back = fft.irfft2(pair, axes=(1, 2), workers=THREADS, overwrite_x=True, s=self.height.shape)
        dying = (self._dying(axis, seconds) for axis in range(2))
        _settled(back, self.draught, *dying, self.height, self.potential)

    def fields(self) -> np.ndarray:
        """Fields (11, n, n), float32, in the order of `basin.sea.field.FIELDS`; m, 1, m/s (liquid).

        What points are moved by sideways, and by how much that squeezes them, is of the waves alone, not of the dent
        that a hull lies in.
        """
        k = self._k
        given = np.stack([self.height + self.draught, self.potential])
        waves, potential = fft.rfft2(given, axes=(1, 2), workers=THREADS, overwrite_x=True)
        shallow = self.water.shallow(k).astype(np.float32)
        out = np.empty((10, *waves.shape), np.complex64)
        flat = (1.0 / np.maximum(shallow, 1e-6)).astype(np.float32)
        _derived(waves, potential, self.kx, self.kz, flat, shallow, out)
        out[:, self.count // 2] = 0.0  # waves of two cells' length stand for two directions at once
        out[:, :, self.count // 2] = 0.0
        more = fft.irfft2(out, axes=(1, 2), workers=THREADS, overwrite_x=True, s=self.height.shape)
        return np.concatenate([self.height[None], more])


@dataclass(frozen=True)
class Reach:
    """Where a wake goes, of a body that keeps its speed.

    Attributes
    ----------
    wavelength : m, of the waves that follow it; 0 where it goes faster than any wave
    angle : degrees of each arm from its way
    length : m behind it, to where a tenth of the waves is left
    """

    wavelength: float
    angle: float
    length: float


def reach_of(speed: float, water: Water, fades: float, travelled: float) -> Reach:
    """Of a wake behind a body that goes at a speed, m/s, and has gone some way, m.

    Waves that follow it go as fast as it does; each part of its wake goes with the group's speed, so the arms stand at
    the largest angle that any wave's group takes: 19.47 degrees in deep water (Kelvin 1887), more as the speed nears
    that of the longest waves (Havelock 1908); beyond it arms are those of the longest, arcsin(c / speed).
    """
    if speed <= 1e-6:
        return Reach(0.0, 0.0, 0.0)
    k = np.geomspace(1e-4, 1e3, 20_000)
    phase = water.omega(k) / k
    slow = phase < speed
    follows = water.depth is None or speed < np.sqrt(water.gravity * water.depth)
    # a wave at an angle a to the way keeps up if its phase speed is V cos a; its group has gone c_g of V t
    cosine = phase[slow] / speed
    group = water.group(k[slow]) / speed
    sine = np.sqrt(1 - cosine**2)
    angle = float(np.degrees(np.arctan2(group * sine, 1 - group * cosine)).max(initial=0.0))
    tenth = fades * np.log(10.0)
    first = float(k[slow][0])
    # where none goes as fast as it does, arms alone are left behind: their groups go at c, at that angle
    behind = speed - float(water.group(np.array([first]))[0]) * (1.0 if follows else cosine[0])
    return Reach(2 * np.pi / first if follows else 0.0, angle, float(min(behind * tenth, travelled * behind / speed)))
