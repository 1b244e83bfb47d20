"""How whitewater lives: spray flies, foam rides the surface, bubbles rise; each becomes another where it belongs there.

All is in the liquid's own seconds. What each is goes by its depth under the liquid's level set, with a gap between both
ways so that nothing flickers. Speeds fall off exponentially in a substep, whatever its length: terminal speeds come out
as the laws have them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, fields, replace
from typing import Protocol

import numpy as np
from numba import prange

from basin.grid.tiles import sample, sample_velocity
from basin.kernels import kernel, shared
from basin.randomness import uniform
from basin.whitewater.fields import Between, Grid, flow_at, level_at
from basin.whitewater.laws import AIR_DENSITY, PER_SIZE, SIZE_FROM, Fluids, ends_at, grip_at, grips, step_in
from basin.whitewater.rafts import drifts
from basin.whitewater.rain import splashing
from basin.whitewater.settings import Layer

ALGORITHM = "whitewater-2"
SPRAY, FOAM, BUBBLE = 0, 1, 2
KINDS = ("spray", "foam", "bubbles")
LIVES, LANDED, POPPED, LOST = 0, 1, 2, 3  # what has come of one in a substep
GONE = np.float32(2.0)  # as the share of the frame at which it begins: never
# depths under the surface in voxels, negative above it, at which one kind becomes another
ON, FLAT, FARTHEST = np.float32(0.02), np.float32(0.04), np.float32(1.0)  # of the surface, at which one is on it
LANDS, RISEN, SUNK, TORN = np.float32(0.25), np.float32(0.3), np.float32(1.0), np.float32(-1.5)
STRIDE, MOST_SUBSTEPS = 1.5, 8  # voxels that the fastest goes in a substep, if there are not more of them than that
HARDEST = 100.0  # m/s2: what is drawn into eddies is drawn no harder
SHORTER, LONGER = 0.2, 5.0  # times the mean life, at most, by size
EMBRYO = 0.1  # of a bubble's radius: that of droplets that it throws as it bursts (Lhuissier & Villermaux 2012: 0.1)
THROWN = 2.0  # m/s, of these, from bubbles of a millimetre (Spiel 1995, from memory: some m/s, less for larger ones)
DRIES = 1.0  # s, in the mean, until a drop that lies on a wall is a film and gone
SLIDES = 0.7  # of its speed along a wall that spray keeps where it meets one
REBOUNDS, SATELLITE = 0.35, 0.3  # of a landing drop's speed and radius: those of drops that it throws (from memory)
OF_BURST, OF_IMPACT, OF_LIQUID = 3, 5, 6  # as sources
CHANCES = {
    "lands": 11,
    "patience": 12,
    "burst": 13,
    "thrown": 14,
    "splash": 15,
    "flung": 16,
}  # columns of chance that do not meet


@dataclass(frozen=True)
class Whitewater:
    """Particles of whitewater.

    Attributes
    ----------
    position, velocity : float32 (n, 3), m and m/s
    id : int64 (n,), never given twice; source : uint8, 0 trapped air, 1 a crest, 2 vorticity, 3 a burst, 4 an
        element, 5 an impact, 6 a drop of the liquid
    radius, age : float32 (n,), m and s
    patience : of lives of foam of its size in the mean, how many it has; spent : how many it has had
    kind, layer : uint8 (n,)
    seen : float32 (n, 3), velocity of the liquid about it a substep ago, m/s; not a number if none has passed
    begins : float32 (n,), share of the frame at which it was born, if it was born in this one
    """

    position: np.ndarray = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    velocity: np.ndarray = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    id: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))
    source: np.ndarray = field(default_factory=lambda: np.zeros(0, np.uint8))
    radius: np.ndarray = field(default_factory=lambda: np.zeros(0, np.float32))
    age: np.ndarray = field(default_factory=lambda: np.zeros(0, np.float32))
    patience: np.ndarray = field(default_factory=lambda: np.zeros(0, np.float32))
    spent: np.ndarray = field(default_factory=lambda: np.zeros(0, np.float32))
    kind: np.ndarray = field(default_factory=lambda: np.zeros(0, np.uint8))
    layer: np.ndarray = field(default_factory=lambda: np.zeros(0, np.uint8))
    seen: np.ndarray = field(default_factory=lambda: np.zeros((0, 3), np.float32))
    begins: np.ndarray = field(default_factory=lambda: np.zeros(0, np.float32))

    def __len__(self) -> int:
        return len(self.id)

    def arrays(self) -> dict[str, np.ndarray]:
        """All of it by name."""
        return {one.name: getattr(self, one.name) for one in fields(self)}

    @classmethod
    def of(cls, arrays: Mapping[str, np.ndarray]) -> Whitewater:
        """From such arrays, among which there may be others."""
        return cls(*(np.asarray(arrays[one.name]) for one in fields(cls)))

    @classmethod
    def still(cls, position: np.ndarray, radius: np.ndarray) -> Whitewater:
        """Spray at rest at places (n, 3), of radii (n,)."""
        n = len(position)
        zero, none = np.zeros(n, np.float32), np.full((n, 3), np.nan, np.float32)
        byte = np.zeros(n, np.uint8)
        return cls(
            position, np.zeros((n, 3), np.float32), np.zeros(n, np.int64), byte, radius, zero, zero, zero, byte, byte,
            none, zero,
        )  # fmt: skip

    def only(self, some: np.ndarray) -> Whitewater:
        """Some of them."""
        rows = np.flatnonzero(some) if some.dtype == bool else some
        return Whitewater(*(np.take(value, rows, axis=0) for value in self.arrays().values()))

    def joined(self, *others: Whitewater) -> Whitewater:
        """These, then others."""
        lists = zip(*(one.arrays().values() for one in (self, *others)), strict=True)
        return Whitewater(*(np.concatenate(values) for values in lists))


def named(
    kind: np.ndarray, layer: np.ndarray, names: Sequence[str], kinds: str, one_layer: str, but_layer: bool
) -> np.ndarray:
    """Which of whitewater, bool (n,), is of some kinds ("foam", "all but foam", "all kinds") and of one layer, or of
    all but that; an empty name is all layers."""
    found = np.ones(len(kind), bool)
    if kinds != "all kinds":
        found &= (kind == KINDS.index(kinds.removeprefix("all but "))) != kinds.startswith("all but ")
    if one_layer:
        found &= (layer == list(names).index(one_layer)) != but_layer
    return found


class Solids(Protocol):
    """What whitewater keeps out of."""

    def kept_out(
        self, before: np.ndarray, after: np.ndarray, start: float, end: float
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """Rows (m,) of those that met a solid on straight ways (n, 3) to (n, 3) between two shares of the frame; where
        they are then (m, 3), its outward normal there (m, 3) and its own velocity (m, 3), m/s."""

    def near(self, points: np.ndarray, reach: float, share: float) -> np.ndarray:
        """How near (n,) points are to a solid, 1 at it to 0 at a reach (m)."""


Air = Callable[[Whitewater, float, float], tuple[np.ndarray, np.ndarray]]
"""Velocity of the air (n, 3), m/s, and acceleration by all other forces (n, 3), m/s2, that whitewater feels at a share
of the frame, over so many seconds."""


@dataclass(frozen=True)
class Around:
    """What a frame of whitewater lives in.

    Attributes
    ----------
    before, after : the liquid at the frame's begin and end
    seconds : the frame's length
    gravity : (3,), m/s2
    low, high : corners of the domain, m; closed : bool (3, 2), walls of it; periodic : bool (3,)
    """

    before: Grid
    after: Grid
    seconds: float
    gravity: np.ndarray
    low: np.ndarray
    high: np.ndarray
    closed: np.ndarray
    periodic: np.ndarray
    solids: Solids | None = None
    air: Air | None = None


@kernel
def _towards(speed, falls, rate, dt):
    """Speed at which drag is asked for: its own, or nearer that at which it ends, so that no long step overshoots."""
    return speed if speed >= falls else speed + (falls - speed) * (1.0 - np.exp(-rate * dt))


@kernel
def _damped(rate, dt):
    """What is left of a speed that falls off at a rate, and the mean of that over the time."""
    x = rate * dt
    if x < 1e-4:
        return 1.0 - x, 1.0 - 0.5 * x
    left = np.exp(-x)
    return left, (1.0 - left) / x


@kernel
def _onto(field, where, x, y, z):
    """A place near the surface (cells) moved onto it, and how far it still is from it, voxels."""
    off = np.float32(0.0)
    for _ in range(3):
        off, a, b, c = level_at(field, where, x, y, z)
        steep = a * a + b * b + c * c
        if abs(off) < ON or steep < FLAT:
            break
        step = min(max(-off / steep, -FARTHEST), FARTHEST)
        x, y, z = x + step * a, y + step * b, z + step * c
    return x, y, z, off


@shared
def _ready(radius, layer, lives, place, life):
    """What stays through a frame: places among sizes, and mean lives, s."""
    for p in prange(radius.shape[0]):
        place[p] = step_in(2.0 * radius[p], SIZE_FROM, PER_SIZE)
        one = layer[p]
        of_size = (lives[one, 1] / max(radius[p], 1e-9)) ** lives[one, 2]
        life[p] = lives[one, 0] * min(max(of_size, SHORTER), LONGER)


@shared(fastmath={"contract", "nsz", "arcp"})
def _live(
    position, velocity, seen, radius, kind, begins, layer, age, spent, patience, place, life, drift, held,
    wind, push, blown, start, end, seconds, field, where, low, voxel, gravity, lighter, drops, bubbles, windage, driven,
    rises, event,
):  # fmt: skip
    for p in prange(position.shape[0]):
        event[p] = LIVES
        dt = (end - max(start, np.float64(begins[p]))) * seconds
        if dt <= 0.0:
            continue
        one = layer[p]
        x = np.float32((position[p, 0] - low[0]) / voxel)
        y = np.float32((position[p, 1] - low[1]) / voxel)
        z = np.float32((position[p, 2] - low[2]) / voxel)
        vx, vy, vz = np.float64(velocity[p, 0]), np.float64(velocity[p, 1]), np.float64(velocity[p, 2])
        per = dt / voxel
        age[p] += np.float32(dt)
        q = p if wind.shape[0] > 1 else 0
        if kind[p] == SPRAY:
            ox, oy, oz = vx - wind[q, 0], vy - wind[q, 1], vz - wind[q, 2]
            falls, hold = ends_at(drops, place[p])
            speed = _towards(np.sqrt(ox * ox + oy * oy + oz * oz), falls, hold, dt)
            rate = grip_at(drops, place[p], speed) * windage[one]
            left, mean = _damped(rate, dt)
            # what pulls, over dt: the speed that it adds and the way
            heavy = (1.0 - mean) / rate if rate * dt > 1e-4 else 0.5 * dt
            gx, gy, gz = gravity[0] + push[q, 0], gravity[1] + push[q, 1], gravity[2] + push[q, 2]
            x += np.float32((wind[q, 0] + ox * mean + gx * heavy) * per)
            y += np.float32((wind[q, 1] + oy * mean + gy * heavy) * per)
            z += np.float32((wind[q, 2] + oz * mean + gz * heavy) * per)
            vx = wind[q, 0] + ox * left + gx * mean * dt
            vy = wind[q, 1] + oy * left + gy * mean * dt
            vz = wind[q, 2] + oz * left + gz * mean * dt
            if level_at(field, where, x, y, z)[0] < -LANDS:
                event[p] = LANDED
        else:
            half = np.float32(0.5 * per)
            mx, my, mz = x + np.float32(vx) * half, y + np.float32(vy) * half, z + np.float32(vz) * half
            lx, ly, lz = flow_at(field, where, mx, my, mz)
            if kind[p] == FOAM:
                loose = np.float32(1.0) - held[p]
                vx, vy, vz = loose * lx + drift[p, 0], loose * ly + drift[p, 1], loose * lz + drift[p, 2]
                if blown:  # a push ends in a drift against the liquid, as a bubble's does
                    _, hold = ends_at(bubbles, place[p])
                    vx += loose * np.float32(driven[one] * wind[q, 0] + push[q, 0] / hold)
                    vy += loose * np.float32(driven[one] * wind[q, 1] + push[q, 1] / hold)
                    vz += loose * np.float32(driven[one] * wind[q, 2] + push[q, 2] / hold)
                x, y, z = x + np.float32(vx * per), y + np.float32(vy * per), z + np.float32(vz * per)
                if level_at(field, where, x, y, z)[0] > -TORN:
                    kind[p] = SPRAY
                else:
                    x, y, z, off = _onto(field, where, x, y, z)
                    if off < -SUNK:
                        kind[p] = BUBBLE
                    elif off > -TORN:
                        kind[p] = SPRAY
                spent[p] += np.float32(dt / life[p])
                if spent[p] >= patience[p]:
                    event[p] = POPPED
            else:
                # against the liquid: buoyancy, what eddies draw it with, drag. Twice as hard as a body without mass
                # would be, since it moves half its volume of liquid along.
                if seen[p, 0] != seen[p, 0]:
                    seen[p, 0], seen[p, 1], seen[p, 2] = lx, ly, lz
                ax = min(max((lx - seen[p, 0]) / dt, -HARDEST), HARDEST)
                ay = min(max((ly - seen[p, 1]) / dt, -HARDEST), HARDEST)
                az = min(max((lz - seen[p, 2]) / dt, -HARDEST), HARDEST)
                much = lighter * rises[one]
                ox, oy, oz = vx - seen[p, 0], vy - seen[p, 1], vz - seen[p, 2]
                falls, hold = ends_at(bubbles, place[p])
                speed = _towards(np.sqrt(ox * ox + oy * oy + oz * oz), falls, hold, dt)
                rate = grip_at(bubbles, place[p], speed)
                left, mean = _damped(rate, dt)
                heavy = (1.0 - mean) / rate if rate * dt > 1e-4 else 0.5 * dt
                gx = much * (ax - gravity[0]) + push[q, 0]
                gy = much * (ay - gravity[1]) + push[q, 1]
                gz = much * (az - gravity[2]) + push[q, 2]
                x += np.float32((lx + ox * mean + gx * heavy) * per)
                y += np.float32((ly + oy * mean + gy * heavy) * per)
                z += np.float32((lz + oz * mean + gz * heavy) * per)
                vx = lx + ox * left + gx * mean * dt
                vy = ly + oy * left + gy * mean * dt
                vz = lz + oz * left + gz * mean * dt
                off = level_at(field, where, x, y, z)[0]
                if off > -max(RISEN, np.float32(radius[p] / voxel)):
                    if off > -TORN:
                        event[p] = LOST
                    else:
                        kind[p] = FOAM
                        x, y, z, off = _onto(field, where, x, y, z)
            seen[p, 0], seen[p, 1], seen[p, 2] = lx, ly, lz
        velocity[p, 0], velocity[p, 1], velocity[p, 2] = vx, vy, vz
        position[p, 0] = np.float32(low[0] + np.float64(x) * voxel)
        position[p, 1] = np.float32(low[1] + np.float64(y) * voxel)
        position[p, 2] = np.float32(low[2] + np.float64(z) * voxel)


@shared
def _walled(position, velocity, kind, begins, spent, patience, low, high, closed, periodic, wet, dries, event):
    """Keep all within closed walls, carry on what leaves through periodic ones, lose what leaves through open ones.

    Spray at a wall dries; what is gone does nothing.
    """
    for p in prange(position.shape[0]):
        if begins[p] >= GONE:
            event[p] = LIVES
            continue
        held, lost = wet[p], False
        for axis in range(3):
            place = position[p, axis]
            if low[axis] <= place <= high[axis]:
                continue
            if periodic[axis]:
                size = high[axis] - low[axis]
                position[p, axis] = place - size * np.float32(np.floor((place - low[axis]) / size))
                continue
            side = 0 if place < low[axis] else 1
            if closed[axis, side]:
                position[p, axis] = low[axis] if side == 0 else high[axis]
                velocity[p, axis] = np.float32(0.0)
                held = True
            else:
                lost = True
        if held and kind[p] == SPRAY:
            spent[p] += dries
            lost = lost or spent[p] >= patience[p]
        if lost:
            event[p] = LOST


@kernel
def _settle(position, rows, low, voxel, field, where):
    """Move some onto the surface."""
    for n in range(rows.shape[0]):
        p = rows[n]
        x = np.float32((position[p, 0] - low[0]) / voxel)
        y = np.float32((position[p, 1] - low[1]) / voxel)
        z = np.float32((position[p, 2] - low[2]) / voxel)
        x, y, z, _ = _onto(field, where, x, y, z)
        position[p, 0], position[p, 1], position[p, 2] = low[0] + x * voxel, low[1] + y * voxel, low[2] + z * voxel


@shared
def _depths(cell, level, where, out):
    h = np.float32(0.5)
    for p in prange(cell.shape[0]):
        out[p] = -sample(level, where, cell[p, 0] - h, cell[p, 1] - h, cell[p, 2] - h)


@shared
def _flows(cell, u, v, w, where, out):
    for p in prange(cell.shape[0]):
        out[p, 0], out[p, 1], out[p, 2] = sample_velocity(u, v, w, where, cell[p, 0], cell[p, 1], cell[p, 2])


def flow_of(grid: Grid, points: np.ndarray) -> np.ndarray:
    """Velocity (n, 3), m/s, of the liquid at places (n, 3), m; nothing where there is none."""
    out = np.zeros((len(points), 3), np.float32)
    _flows(grid.cells(points), *grid.velocity, grid.where, out)
    return out


def depth_at(grid: Grid, points: np.ndarray) -> np.ndarray:
    """How deep places (n, 3), m, lie under the surface, voxels, float32 (n,)."""
    out = np.zeros(len(points), np.float32)
    _depths(grid.cells(points), grid.level, grid.where, out)
    return out


class Life:
    """Whitewater of some layers on its way through a shot.

    Attributes
    ----------
    state : all that there is
    next_id : of what is born next
    """

    def __init__(self, layers: Sequence[Layer], fluids: Fluids, state: Whitewater | None = None, next_id: int = 0):
        self.layers = layers
        self.state, self.next_id, self.fluids = state or Whitewater(), next_id, fluids
        self._drops, self._bubbles = grips(False, fluids), grips(True, fluids)
        self._lighter = (fluids.density - AIR_DENSITY) / (AIR_DENSITY + 0.5 * fluids.density)
        self._lives = np.array([[one.foam_life, one.hinze * 1e-3, one.pops] for one in layers]).reshape(-1, 3)

    def _each(self, name: str) -> np.ndarray:
        """A setting of each layer."""
        return np.array([getattr(one, name) for one in self.layers], float)

    def whole_lives(self) -> np.ndarray:
        """Seconds (n,) of foam that each has in all, by its size and by chance."""
        return self._sized(self.state)[1] * self.state.patience

    def frame(
        self, around: Around, newborn: Whitewater, stop: Callable[[], bool] = lambda: False
    ) -> dict[str, int] | None:
        """Live through a frame in which some are born; how many were born, popped, landed and left; None if stopped.

        Parameters
        ----------
        newborn : without ids, which they get here
        """
        newborn = replace(newborn, id=self._ids(len(newborn)))
        own = self.state
        state = replace(own, begins=np.zeros(len(own), np.float32)).joined(self._sound(newborn))
        between = Between(around.before, around.after)
        order = between.in_order(state.position)
        state = state if order is None else state.only(order)
        count = self._substeps(around, state)
        told = {"born": len(newborn), "popped": 0, "landed": 0, "left": 0}
        # those that there were, and those that they throw in this frame; what is gone stays in its row until its end
        states, still = [state, Whitewater()], [self._through(around, between, state), self._fresh(Whitewater())]
        for step in range(count):
            if stop():
                return None
            field = between.at((step + 0.5) / count, (step + 1) / count)
            thrown = Whitewater()
            for one, of_one in zip(states, still, strict=True):
                if not len(one):
                    continue
                event = self._step(around, between, field, one, of_one, step / count, (step + 1) / count)
                if event.any():
                    thrown = thrown.joined(self._after(around, between, field, one, event, told))
            if len(thrown):
                states[1] = states[1].joined(thrown)
                still[1] = [np.concatenate(two) for two in zip(still[1], self._fresh(thrown), strict=True)]
        there = [one.only(one.begins < GONE) if (one.begins >= GONE).any() else one for one in states]
        self.state = there[0].joined(there[1]) if len(there[1]) else there[0]
        return told

    def _fresh(self, thrown: Whitewater) -> list[np.ndarray]:
        """The same as `_through` of what is thrown."""
        return [np.zeros((len(thrown), 3), np.float32), np.zeros(len(thrown), np.float32), *self._sized(thrown)]

    def _sized(self, state: Whitewater) -> list[np.ndarray]:
        """Places among sizes (n,), and mean lives of foam as large (n,), s."""
        found = [np.empty(len(state), np.float32) for _ in range(2)]
        _ready(state.radius, state.layer, self._lives, *found)
        return found

    def _through(self, around: Around, between: Between, state: Whitewater) -> list[np.ndarray]:
        """What is taken as it is through a frame: how fast foam drifts together (n, 3), m/s, how much of the liquid's
        speed it loses at walls (n,), and `_sized`."""
        drift, held = np.zeros((len(state), 3), np.float32), np.zeros(len(state), np.float32)
        foam = np.flatnonzero(state.kind == FOAM)
        if len(foam):
            each = (state.position.take(foam, 0), state.radius.take(foam), state.layer.take(foam))
            drift[foam] = drifts(*each, between, between.at(0.0, 0.0), self._each("gathers"), self._each("spreads"))
            clings = self._each("clings")
            if around.solids and clings.any():
                near = around.solids.near(each[0], around.after.voxel, 0.0)
                held[foam] = near * clings[each[2]]
        return [drift, held, *self._sized(state)]

    def _ids(self, count: int) -> np.ndarray:
        first, self.next_id = self.next_id, self.next_id + count
        return np.arange(first, first + count, dtype=np.int64)

    @staticmethod
    def _sound(newborn: Whitewater) -> Whitewater:
        """With patience by chance, which falls off exponentially."""
        share = uniform(newborn.id, CHANCES["patience"], 1)[:, 0].astype(float)
        return replace(newborn, patience=(-np.log1p(-share)).astype(np.float32))

    @staticmethod
    def _substeps(around: Around, state: Whitewater) -> int:
        fastest = max((float(np.abs(one).max(initial=0)) for one in around.after.velocity), default=0.0)
        own = float(np.sqrt(np.einsum("pd,pd->p", state.velocity, state.velocity).max(initial=0)))
        way = max(fastest, own) * around.seconds / around.after.voxel
        return int(np.clip(np.ceil(way / STRIDE), 1, MOST_SUBSTEPS))

    def _step(
        self,
        around: Around,
        between: Between,
        field: np.ndarray,
        state: Whitewater,
        still: list[np.ndarray],
        start: float,
        end: float,
    ) -> np.ndarray:
        """One substep between two shares of a frame, in place; what came of each."""
        begun = state.position.copy()
        wind = push = np.zeros((1, 3))
        if around.air:
            wind, push = around.air(state, 0.5 * (start + end), (end - start) * around.seconds)
        drift, held, place, life = still
        event = np.zeros(len(state), np.uint8)
        blown = around.air is not None
        _live(
            state.position, state.velocity, state.seen, state.radius, state.kind, state.begins, state.layer, state.age,
            state.spent, state.patience, place, life, drift, held, wind, push, blown, start, end, around.seconds, field,
            between.where, between.low, between.voxel, around.gravity, self._lighter, self._drops, self._bubbles,
            self._each("windage"), self._each("driven"), self._each("rises"), event,
        )  # fmt: skip
        self._bound(around, state, begun, start, end, event)
        return event

    @staticmethod
    def _bound(
        around: Around, state: Whitewater, begun: np.ndarray, start: float, end: float, event: np.ndarray
    ) -> None:
        """Keep all out of solids and within closed walls, where spray dries; what leaves through open ones is lost."""
        wet = np.zeros(len(state), bool)  # or dry
        if around.solids:
            row, place, normal, own = around.solids.kept_out(begun, state.position, start, end)
            if len(row):
                state.position[row] = place
                against = state.velocity[row] - own
                into = np.minimum((against * normal).sum(axis=1, keepdims=True), 0.0)
                slowed = np.where((into < 0) & (state.kind[row] == SPRAY)[:, None], SLIDES, 1.0)
                state.velocity[row] = own + (against - into * normal) * slowed
                wet[row] = True
        walls = (np.float32(around.low), np.float32(around.high), around.closed, around.periodic)
        dries = np.float32((end - start) * around.seconds / DRIES)
        _walled(
            state.position, state.velocity, state.kind, state.begins, state.spent, state.patience, *walls, wet, dries,
            event,
        )  # fmt: skip

    def _after(
        self, around: Around, between: Between, field: np.ndarray, state: Whitewater, event: np.ndarray, told: dict
    ) -> Whitewater:
        """Droplets that are thrown after a substep; in place, what landed is foam or gone, what popped or left gone."""
        landed, popped = event == LANDED, event == POPPED
        told["landed"] += int(landed.sum())
        told["popped"] += int(popped.sum())
        told["left"] += int((event == LOST).sum())
        stays = uniform(state.id[landed], CHANCES["lands"], 1)[:, 0] < self._each("lands")[state.layer[landed]]
        state.kind[landed] = FOAM
        gone = popped | (event == LOST)
        at = np.flatnonzero(landed)
        gone[at[~stays]] = True
        state.seen[at] = np.nan
        _settle(state.position, at, between.low, between.voxel, field, between.where)
        state.begins[gone] = GONE
        return self._burst(around, state.only(popped)).joined(self._splashed(around, state.only(at)))

    def _burst(self, around: Around, burst: Whitewater) -> Whitewater:
        """Droplets of bubbles that burst: the smaller they are, the faster."""
        speed = THROWN * np.sqrt(1e-3 / np.maximum(burst.radius, 1e-4))
        return self._thrown(around, burst, self._each("bursts"), speed, EMBRYO, OF_BURST, ("burst", "thrown"))

    def _splashed(self, around: Around, landed: Whitewater) -> Whitewater:
        """Droplets of spray that falls back hard enough to splash."""
        mean = self._each("splashes")
        if not mean.any() or not len(landed):
            return Whitewater()
        against = landed.velocity - flow_of(around.after, landed.position)
        speed = np.linalg.norm(against.astype(float), axis=1)
        hard = np.flatnonzero(splashing(speed, 2.0 * landed.radius, self.fluids))
        fast = REBOUNDS * speed[hard]
        return self._thrown(around, landed.only(hard), mean, fast, SATELLITE, OF_IMPACT, ("splash", "flung"))

    def _thrown(
        self,
        around: Around,
        torn: Whitewater,
        mean: np.ndarray,
        speed: np.ndarray,
        smaller: float,
        source: int,
        chances: tuple[str, str],
    ) -> Whitewater:
        """Droplets that some throw up at the surface.

        Parameters
        ----------
        mean : of each layer, how many are thrown; speed : (n,), m/s, of the fastest; smaller : their radius by its
        chances : names of the chance of how many, and of where to
        """
        count = np.floor(mean[torn.layer] + uniform(torn.id, CHANCES[chances[0]], 1)[:, 0]).astype(np.int64)
        row = np.repeat(np.arange(len(torn)), count)
        drop = torn.only(row)
        drop = self._sound(replace(drop, id=self._ids(len(row))))
        chance = uniform(drop.id, CHANCES[chances[1]], 3).astype(float)
        aside = (chance[:, 1:] - 0.5) * 0.6
        flow = drop.velocity if source == OF_BURST else flow_of(around.after, drop.position)
        zero, none = np.zeros(len(row), np.float32), np.full((len(row), 3), np.nan, np.float32)
        fast = flow + (speed[row] * (0.3 + 0.7 * chance[:, 0]))[:, None] * upwards(around.gravity, aside)
        return replace(
            drop,
            velocity=fast.astype(np.float32),
            radius=(smaller * drop.radius).astype(np.float32),
            kind=np.full(len(row), SPRAY, np.uint8),
            source=np.full(len(row), source, np.uint8),
            age=zero,
            spent=zero.copy(),
            seen=none,
            begins=zero.copy(),
        )


def upwards(gravity: np.ndarray, aside: np.ndarray) -> np.ndarray:
    """Ways (n, 3) against gravity (3,), and so much aside (n, 2)."""
    pull = float(np.linalg.norm(gravity))
    up = -gravity / pull if pull > 0 else np.array([0.0, 1.0, 0.0])
    across = np.cross(up, [1.0, 0.0, 0.0] if abs(up[0]) < 0.9 else [0.0, 0.0, 1.0])
    across /= np.linalg.norm(across)
    return np.asarray(up + aside[:, :1] * across + aside[:, 1:] * np.cross(up, across))
