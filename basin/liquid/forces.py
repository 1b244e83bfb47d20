"""Forces on the liquid, as changes of velocity: gravity everywhere, and what acts within zones.

Each force is a function of place, time and velocity; they are added up at every face of the grid, and at
particles that fly alone. All of a pair's force is given in its middle, like gravity.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import prange

from basin.geometry.pose import Placement, scale_of
from basin.grid.fractions import SLIT
from basin.grid.layout import PAD, Layout
from basin.grid.tiles import Tiles, at
from basin.kernels import kernel, shared
from basin.liquid.effects import Attraction, Drag, Effect, Turbulence, Vortex, Wind
from basin.liquid.particles import Particles, V, X
from basin.liquid.settings import WATER
from basin.settings import value_at

WIND, DRAG, TURBULENCE, VORTEX, ATTRACTION = range(5)
EVERYWHERE, BOX, SPHERE = range(3)
AIR_DENSITY = 1.204  # kg/m3, at 20 degrees Celsius
MODES = 24
BEYOND = 2.0  # voxels: faces farther from the liquid are not its own
# columns of a force's row of numbers
KIND, STRENGTH, ZONE, SIZE, SOFT, INTO, AXIS, ORIGIN, AIR, CORE, SCALE, COLUMNS = (
    0,
    1,
    2,
    3,
    6,
    7,
    19,
    22,
    25,
    28,
    29,
    30,
)


@dataclass(frozen=True)
class Force:
    """A force as the solver sees it.

    Attributes
    ----------
    zone : EVERYWHERE, BOX or SPHERE; `size` (3,) its half edges, or its radius first (m)
    softness : m within the zone's edge over which the force comes up
    start, end : shot seconds between which it acts
    """

    name: str
    effect: Effect
    pose: Placement
    zone: int
    size: np.ndarray
    softness: float
    start: float
    end: float

    def strength(self, shot_time: float) -> float:
        """What scales it at a shot time: an acceleration (m/s2), a rate (1/s), or the grip of wind."""
        if not self.start <= shot_time <= self.end:
            return 0.0
        effect = self.effect
        if isinstance(effect, Wind):
            return effect.grip
        return float(value_at(effect.rate if isinstance(effect, Drag) else effect.strength, shot_time)[0])

    def row(self, shot_time: float, time_scale: float, density: float) -> np.ndarray:
        """Its numbers at a shot time, as kernels take them; `density` of the liquid, kg/m3."""
        effect, matrix = self.effect, self.pose.matrix(shot_time)
        out = np.zeros(COLUMNS)
        kinds = {Wind: WIND, Drag: DRAG, Turbulence: TURBULENCE, Vortex: VORTEX, Attraction: ATTRACTION}
        out[KIND], out[STRENGTH] = kinds[type(effect)], self.strength(shot_time)
        out[ZONE], out[SIZE : SIZE + 3], out[SOFT] = self.zone, self.size, self.softness
        out[INTO : INTO + 12] = np.linalg.inv(matrix)[:3].ravel()
        out[AXIS : AXIS + 3] = matrix[:3, 1] / np.linalg.norm(matrix[:3, 1])
        out[ORIGIN : ORIGIN + 3] = matrix[:3, 3]
        out[SCALE] = scale_of(matrix)
        if isinstance(effect, Wind):
            out[STRENGTH] *= AIR_DENSITY / density
            out[AIR : AIR + 3] = value_at(effect.velocity, shot_time) / time_scale
        if isinstance(effect, Attraction):
            out[CORE] = effect.core
        return out

    def waves(self, liquid_time: float) -> np.ndarray:
        """Turbulence as waves (MODES, 7): wave vector (1/m), amplitude (3,), phase; none for the others.

        Random Fourier modes (Kraichnan 1970): amplitudes stand square on the wave vectors, so that the sum has
        no divergence, and their mean square is 1. The phases turn with time.
        """
        effect = self.effect
        if not isinstance(effect, Turbulence):
            return np.zeros((0, 7))
        rng = np.random.default_rng(effect.seed)
        way = rng.normal(size=(MODES, 3))
        way /= np.linalg.norm(way, axis=1, keepdims=True)
        vector = way * 2 * np.pi / effect.size * 2 ** rng.uniform(-0.5, 0.5, (MODES, 1))
        across = np.cross(way, rng.normal(size=(MODES, 3)))
        across *= np.sqrt(2 / MODES) / np.linalg.norm(across, axis=1, keepdims=True)
        turns = effect.tempo * rng.normal(size=MODES)
        phase = 2 * np.pi * (rng.uniform(size=MODES) + turns * liquid_time)
        return np.concatenate([vector, across, phase[:, None]], axis=1)


@dataclass(frozen=True)
class Push:
    """All forces at one moment as numbers, and how long they act (s)."""

    row: np.ndarray
    wave: np.ndarray
    first_wave: np.ndarray
    dt: float


def gravity_kick(gravity: np.ndarray, dx: float, dt: float) -> np.ndarray:
    """Velocity change (3,) in voxels/s that gravity (3,) in m/s2 gives in `dt` seconds."""
    return np.asarray(gravity, np.float64) / dx * dt


def pull(forces: list[Force], shot_time: float) -> float:
    """Bound (m/s2) of the accelerations that do not depend on velocity, for the length of substeps."""
    total = 0.0
    for force in forces:
        strength = abs(force.strength(shot_time))
        if isinstance(force.effect, Turbulence):
            total += 2 * strength  # a root mean square
        elif isinstance(force.effect, Vortex | Attraction):
            total += strength
    return total


def push_at(forces: list[Force], shot_time: float, time_scale: float, dt: float, density: float = WATER) -> Push | None:
    """The forces that act at a shot time on liquid of a density, for `dt` liquid seconds; None if there is none."""
    acting = [f for f in forces if f.strength(shot_time) != 0.0]
    if not acting or dt == 0.0:
        return None
    waves = [f.waves(shot_time * time_scale) for f in acting]
    first = np.concatenate([[0], np.cumsum([len(w) for w in waves])])
    return Push(np.stack([f.row(shot_time, time_scale, density) for f in acting]), np.concatenate(waves), first, dt)


def add(velocity: list[np.ndarray], kick: np.ndarray) -> None:
    """Add a uniform kick (3,) to the face velocities, in place."""
    for axis in range(3):
        velocity[axis] += np.float32(kick[axis])


@kernel
def _depth(row, x, y, z):
    """Depth (m) of a place below the edge of a force's zone; negative outside."""
    if row[ZONE] == EVERYWHERE:
        return 1e9
    a = row[INTO] * x + row[INTO + 1] * y + row[INTO + 2] * z + row[INTO + 3]
    b = row[INTO + 4] * x + row[INTO + 5] * y + row[INTO + 6] * z + row[INTO + 7]
    c = row[INTO + 8] * x + row[INTO + 9] * y + row[INTO + 10] * z + row[INTO + 11]
    if row[ZONE] == SPHERE:
        return (row[SIZE] - np.sqrt(a * a + b * b + c * c)) * row[SCALE]
    return min(row[SIZE] - abs(a), min(row[SIZE + 1] - abs(b), row[SIZE + 2] - abs(c))) * row[SCALE]


@kernel
def _share(row, x, y, z):
    """How much of a force acts at a place, 0 to 1: it comes up smoothly within the zone's soft edge."""
    depth = _depth(row, x, y, z)
    if depth <= 0.0:
        return 0.0
    if depth >= row[SOFT]:
        return 1.0
    s = depth / row[SOFT]
    return s * s * (3.0 - 2.0 * s)


@kernel
def _change(row, wave, begin, end, x, y, z, u, v, w, skin, dt):
    """Change of velocity (m/s) by one force at a place (m); `skin` is the surface per volume there (1/m)."""
    share = _share(row, x, y, z)
    kind, strength = row[KIND], row[STRENGTH]
    if share == 0.0:
        return 0.0, 0.0, 0.0
    if kind == DRAG:
        lost = 1.0 - np.exp(-strength * share * dt)
        return -u * lost, -v * lost, -w * lost
    if kind == WIND:
        a, b, c = row[AIR] - u, row[AIR + 1] - v, row[AIR + 2] - w
        rate = strength * np.sqrt(a * a + b * b + c * c) * skin * share
        taken = 1.0 - np.exp(-rate * dt)
        return a * taken, b * taken, c * taken
    many = strength * share * dt
    if kind == TURBULENCE:
        a, b, c = 0.0, 0.0, 0.0
        for n in range(begin, end):
            turned = np.cos(wave[n, 0] * x + wave[n, 1] * y + wave[n, 2] * z + wave[n, 6])
            a, b, c = a + wave[n, 3] * turned, b + wave[n, 4] * turned, c + wave[n, 5] * turned
        return a * many, b * many, c * many
    rx, ry, rz = x - row[ORIGIN], y - row[ORIGIN + 1], z - row[ORIGIN + 2]
    if kind == VORTEX:
        ax, ay, az = row[AXIS], row[AXIS + 1], row[AXIS + 2]
        a, b, c = ay * rz - az * ry, az * rx - ax * rz, ax * ry - ay * rx
        far = np.sqrt(a * a + b * b + c * c)
        return (a / far * many, b / far * many, c / far * many) if far > 1e-9 else (0.0, 0.0, 0.0)
    far = np.sqrt(rx * rx + ry * ry + rz * rz)
    if far == 0.0:
        return 0.0, 0.0, 0.0
    many *= -min(far / row[CORE], 1.0) / far
    return rx * many, ry * many, rz * many


@kernel
def _beside(field, where, i, j, k, axis, own):
    """Velocity component `own` at a face square on `axis`: its own, or the mean of the four faces about it."""
    if own == axis:
        return np.float64(at(field, where, i, j, k))
    total = np.float64(0.0)
    for p in range(2):
        for q in range(2):
            a = i - (p if axis == 0 else 0) + (q if own == 0 else 0)
            b = j - (p if axis == 1 else 0) + (q if own == 1 else 0)
            c = k - (p if axis == 2 else 0) + (q if own == 2 else 0)
            total += 0.25 * at(field, where, a, b, c)
    return total


@shared
def _skins(first, where, phi, ou, ov, ow, skin):
    """Surface per volume (1/voxel) of liquid cells: what they are fuller than their neighbours towards the air.

    Fullness is depth up to a voxel, so that it is nothing in cells without pressure, whatever the height of the
    surface, and adds up to 1 across it.
    """
    for t in prange(1, first.shape[0]):
        for i in range(8):
            for j in range(8):
                for k in range(8):
                    own = min(-phi[t, i, j, k], np.float32(1.0))
                    if own <= 0.0:
                        continue
                    a, b, c = first[t, 0] + i, first[t, 1] + j, first[t, 2] + k
                    total = 0.0
                    for s in range(6):
                        axis, ahead = s // 2, s % 2
                        da, db, dc = (1 if axis == 0 else 0), (1 if axis == 1 else 0), (1 if axis == 2 else 0)
                        faces = ou if axis == 0 else (ov if axis == 1 else ow)
                        free = at(faces, where, a + da * ahead, b + db * ahead, c + dc * ahead)
                        step = 1 if ahead else -1
                        other = min(max(-at(phi, where, a + step * da, b + step * db, c + step * dc), 0.0), 1.0)
                        less = max(own - other, 0.0) * free
                        total += less * less
                    skin[t, i, j, k] = np.sqrt(total)


@shared
def _push_faces(first, where, u0, v0, w0, phi, skin, opened, low, dx, rows, wave, begin, dt, axis, field):
    reach = np.sqrt(3.0) * 4.5 * dx
    for t in prange(1, first.shape[0]):
        x0 = low[0] + (first[t, 0] + 4.0 - PAD) * dx
        y0 = low[1] + (first[t, 1] + 4.0 - PAD) * dx
        z0 = low[2] + (first[t, 2] + 4.0 - PAD) * dx
        for f in range(rows.shape[0]):
            if _depth(rows[f], x0, y0, z0) < -reach:
                continue
            for i in range(8):
                for j in range(8):
                    for k in range(8):
                        if opened[t, i, j, k] <= SLIT:
                            continue
                        a, b, c = first[t, 0] + i, first[t, 1] + j, first[t, 2] + k
                        da, db, dc = (1 if axis == 0 else 0), (1 if axis == 1 else 0), (1 if axis == 2 else 0)
                        if min(phi[t, i, j, k], at(phi, where, a - da, b - db, c - dc)) >= BEYOND:
                            continue
                        x = low[0] + (a - PAD + (0.0 if axis == 0 else 0.5)) * dx
                        y = low[1] + (b - PAD + (0.0 if axis == 1 else 0.5)) * dx
                        z = low[2] + (c - PAD + (0.0 if axis == 2 else 0.5)) * dx
                        u = _beside(u0, where, a, b, c, axis, 0) * dx
                        v = _beside(v0, where, a, b, c, axis, 1) * dx
                        w = _beside(w0, where, a, b, c, axis, 2) * dx
                        beside = 0.5 * (skin[t, i, j, k] + at(skin, where, a - da, b - db, c - dc)) / dx
                        given = _change(rows[f], wave, begin[f], begin[f + 1], x, y, z, u, v, w, beside, dt)
                        field[t, i, j, k] += np.float32(given[axis] / dx)


def push(velocity: list[np.ndarray], phi: np.ndarray, opened: list[np.ndarray], tiles: Tiles, force: Push) -> None:
    """Let forces change the face velocities (voxels/s), in place.

    Parameters
    ----------
    phi : level set in voxels
    opened : face fractions [u, v, w]
    """
    tiles.wrap(*velocity)
    layout, before, skin = tiles.layout, [u.copy() for u in velocity], tiles.field()
    if (force.row[:, KIND] == WIND).any():
        _skins(tiles.first, tiles.where, phi, *opened, skin)
        tiles.wrap(skin)
    for axis in range(3):
        where = (tiles.first, tiles.where, *before, phi, skin, opened[axis], layout.low, layout.dx)
        _push_faces(*where, force.row, force.wave, force.first_wave, force.dt, axis, velocity[axis])


@kernel
def _felt(points, skin, rows, wave, begin, out):
    for p in range(len(points)):
        for f in range(rows.shape[0]):
            x, y, z = points[p]
            a, b, c = _change(rows[f], wave, begin[f], begin[f + 1], x, y, z, 0.0, 0.0, 0.0, skin, 1e-6)
            out[p, 0], out[p, 1], out[p, 2] = out[p, 0] + a, out[p, 1] + b, out[p, 2] + c


def felt(points: np.ndarray, force: Push, skin: float) -> np.ndarray:
    """Accelerations (n, 3) in m/s2 that liquid at rest feels at points (n, 3) in metres; `skin` is its surface per
    volume there (1/m), which wind acts on."""
    out = np.zeros((len(points), 3))
    _felt(np.ascontiguousarray(points, np.float64), skin, force.row, force.wave, force.first_wave, out)
    return out * 1e6


@kernel
def _on_bodies(points, velocity, rows, wave, begin, dt, air, change):
    for p in range(len(points)):
        x, y, z = points[p]
        u, v, w = velocity[p]
        for f in range(rows.shape[0]):
            if rows[f, KIND] == WIND:
                share = _share(rows[f], x, y, z) if rows[f, STRENGTH] != 0.0 else 0.0
                for d in range(3):
                    air[p, d] += share * rows[f, AIR + d]
                continue
            a, b, c = _change(rows[f], wave, begin[f], begin[f + 1], x, y, z, u, v, w, 0.0, dt)
            change[p, 0], change[p, 1], change[p, 2] = change[p, 0] + a, change[p, 1] + b, change[p, 2] + c


def on_bodies(points: np.ndarray, velocity: np.ndarray, force: Push) -> tuple[np.ndarray, np.ndarray]:
    """What small bodies feel at points (n, 3), m, that move (n, 3), m/s: the air's velocity (n, 3), m/s, by all winds,
    and the mean acceleration (n, 3), m/s2, by the other forces over the time that they act."""
    air, change = np.zeros((len(points), 3)), np.zeros((len(points), 3))
    given = (np.ascontiguousarray(points, float), np.ascontiguousarray(velocity, float))
    _on_bodies(*given, force.row, force.wave, force.first_wave, force.dt, air, change)
    return air, change / force.dt


@kernel(parallel=True)
def _push_alone(alone, record, low, dx, rows, wave, begin, dt):
    for p in prange(record.shape[0]):
        if not alone[p]:
            continue
        x = low[0] + (np.float64(record[p, X]) - PAD) * dx
        y = low[1] + (np.float64(record[p, X + 1]) - PAD) * dx
        z = low[2] + (np.float64(record[p, X + 2]) - PAD) * dx
        for f in range(rows.shape[0]):
            u, v, w = record[p, V] * dx, record[p, V + 1] * dx, record[p, V + 2] * dx
            a, b, c = _change(rows[f], wave, begin[f], begin[f + 1], x, y, z, u, v, w, 0.0, dt)
            record[p, V] += np.float32(a / dx)
            record[p, V + 1] += np.float32(b / dx)
            record[p, V + 2] += np.float32(c / dx)


def push_alone(particles: Particles, alone: np.ndarray, layout: Layout, force: Push) -> None:
    """The same for particles that fly alone (bool (n,)); wind leaves them, since it acts on a surface."""
    _push_alone(alone, particles.record, layout.low, layout.dx, force.row, force.wave, force.first_wave, force.dt)
