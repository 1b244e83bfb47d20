"""What a liquid is computed from, what it goes on from, and what its substeps tell."""

from __future__ import annotations

import time as clock
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace

import numpy as np

from basin.grid.layout import Layout
from basin.grid.poisson import Solution
from basin.grid.tiles import Tiles
from basin.liquid import forces, sources
from basin.liquid.band import Bulk
from basin.liquid.carried import Carried
from basin.liquid.particles import Particles
from basin.liquid.parting import NO_CELLS
from basin.liquid.settings import WATER
from basin.liquid.solids import NEUTRAL, Body, Touch
from basin.liquid.swing import Swing
from basin.liquid.tension import SHARP
from basin.liquid.thickness import Thickness
from basin.liquid.timestep import Limits
from basin.liquid.viscosity import TOLERANCE, Damped
from basin.settings import Curve


class LiquidFailure(RuntimeError):
    """The liquid cannot go on; the message says why and what to change."""


class Spike(RuntimeError):
    """A substep made the liquid much faster than it can have become; its state is of no use."""


@dataclass(frozen=True)
class LiquidWorld:
    """All that a liquid is computed from, free of the scene document.

    Attributes
    ----------
    gravity : m/s2, which keys over shot time may replace
    time_scale : liquid seconds per shot second
    frame_seconds : shot seconds per frame
    first_frame : frame of the initial state
    wall_adhesion : Pa that a wall can pull liquid with
    discard : voxels from an open wall within which liquid is thrown away
    carried : what each particle carries along
    texture_clock : frames after which a rest position is renewed; 0 if none are carried
    density : kg/m3
    thickness : of which viscosities and yield stresses are multiples
    tension : largest of any source, over the density, m3/s2
    walls : how liquid meets closed walls
    particles_most : particles from which on inflows hold back
    """

    layout: Layout
    bodies: list[Body]
    fills: list[sources.FillSource]
    inflows: list[sources.InflowSource]
    drains: list[sources.DrainZone]
    forces: list[forces.Force]
    gravity: np.ndarray
    gravity_keys: Curve | None
    particles_per_cell: int
    surface_particles: int
    band: float
    flip_share: float
    wall_friction: float
    wall_adhesion: float
    substeps_min: int
    substeps_max: int
    cfl: float
    time_scale: float
    frame_seconds: float
    first_frame: int
    discard: float = 0.0
    carried: Carried = field(default_factory=Carried)
    texture_clock: int = 0
    density: float = WATER
    thickness: Thickness = field(default_factory=Thickness)
    particles_most: int | None = None
    tension: float = 0.0
    walls: Touch = NEUTRAL

    def gravity_at(self, shot_time: float) -> np.ndarray:
        """Acceleration of free fall (3,), m per liquid second squared."""
        return self.gravity if self.gravity_keys is None else self.gravity_keys.at(shot_time)

    @property
    def limits(self) -> Limits:
        """What bounds the length of a substep."""
        longest = np.sqrt(SHARP * self.layout.dx**3 / self.tension) if self.tension > 0 else np.inf
        return Limits(self.layout.dx, self.cfl, self.substeps_min, self.substeps_max, float(longest))


@dataclass
class LiquidState:
    """Everything a run goes on from: particles, counters, and the length of the last substep.

    Attributes
    ----------
    bulk : liquid below the band of particles; replaced, never changed
    parted : cells that parted from walls (`Parting.cells`) in the second and in the first half of the last pair
    swing : of the flow between a pair's halves; replaced, never changed
    speed : of the fastest particle (voxels/s), if it is known
    lost, drained, poured : volumes (voxels^3) that left through open walls, in drains, and that inflows gave
    """

    particles: Particles = field(default_factory=Particles.empty)
    dt_before: float = 0.0
    next_id: int = 0
    epoch: int = 0
    lost: float = 0.0
    drained: float = 0.0
    poured: float = 0.0
    bulk: Bulk = field(default_factory=Bulk.none)
    swing: Swing = field(default_factory=Swing.none)
    speed: float | None = None
    parted: list[np.ndarray] = field(default_factory=lambda: [NO_CELLS, NO_CELLS])

    def copy(self) -> LiquidState:
        """A state that does not change with this one."""
        return replace(self, particles=self.particles.copy())


@dataclass(frozen=True)
class LiquidFields:
    """Grid fields at a frame, on tiles: level set (voxels), face velocities (voxels/s), open share of cells and about
    them, and the volume (voxels^3) of cells without particles."""

    tiles: Tiles
    phi: np.ndarray
    velocity: list[np.ndarray]
    own: np.ndarray
    room: np.ndarray
    bulk: np.ndarray


@dataclass
class Tally:
    """What the substeps of a frame did.

    Attributes
    ----------
    residual, viscous_residual, second_residual : largest of the pressure, of viscosity, and of the pressure after it
    squeezed : voxels^3 per second
    impulse : on the bodies; see `basin.liquid.reaction`
    tension_width, tension_share : widest mean of curvatures (voxels), and least share of the tension that could act
    alone, together : particles with no liquid about them, and voxels/s of the fastest of the others, at its end
    split : seconds by step
    """

    substeps: int = 0
    iterations: int = 0
    viscous_iterations: int = 0
    second_iterations: int = 0
    residual: float = 0.0
    viscous_residual: float = 0.0
    second_residual: float = 0.0
    unconverged: int = 0
    closed_components: int = 0
    squeezed: float = 0.0
    longest_move: float = 0.0
    redone: int = 0
    held_back: int = 0
    alone: int = 0
    together: float = 0.0
    tension_width: float = 0.0
    tension_share: float = 1.0
    impulse: np.ndarray = field(default_factory=lambda: np.zeros((0, 6)))
    split: dict[str, float] = field(default_factory=dict)

    @contextmanager
    def clocked(self, name: str) -> Iterator[None]:
        """Add the time that a step takes to what it has taken."""
        begin = clock.perf_counter()
        yield
        self.split[name] = self.split.get(name, 0.0) + clock.perf_counter() - begin

    def pressed(self, solution: Solution) -> None:
        """Note a solve of the pressure."""
        self.iterations += solution.iterations
        self.residual = max(self.residual, solution.residual)
        self.unconverged += int(solution.residual > SOLVED)
        self.closed_components = max(self.closed_components, solution.closed_components)
        self.squeezed = max(self.squeezed, solution.squeezed)

    def pressed_again(self, solution: Solution) -> None:
        """Note a solve of the pressure after viscosity."""
        self.second_iterations += solution.iterations
        self.second_residual = max(self.second_residual, solution.residual)
        self.unconverged += int(solution.residual > SOLVED)

    def damped(self, solution: Damped) -> None:
        """Note a solve of viscosity."""
        self.viscous_iterations += solution.iterations
        self.viscous_residual = max(self.viscous_residual, solution.residual)
        self.unconverged += int(solution.residual > TOLERANCE)

    def tensed(self, width: float, share: float) -> None:
        """Note how tension acted."""
        self.tension_width, self.tension_share = max(self.tension_width, width), min(self.tension_share, share)

    def flew(self, ballistic: np.ndarray, velocity: np.ndarray) -> None:
        """Note how many particles (of n) fly alone, and how fast the others are."""
        rest = velocity[~ballistic]
        self.alone = len(velocity) - len(rest)
        self.together = float(np.sqrt(np.einsum("ij,ij->i", rest, rest).max())) if len(rest) else 0.0

    def pushed(self, impulse: np.ndarray) -> None:
        """Add to the bodies' impulses."""
        self.impulse = impulse if len(self.impulse) == 0 else self.impulse + impulse


SOLVED = 1e-6  # true residual of a solve that has converged
