"""One substep of the liquid, and the walk from frame to frame.

The order is that of the algorithm: sources, level set, resampling, particles to grid, forces,
pressure, extrapolation, grid to particles, spacing, advection. Positions belong to the substep's
start and end, velocities to its middle (leapfrog), so the state between substeps is the particles
and the length of the last substep alone.
"""

from __future__ import annotations

import time as clock
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from basin.grid.layout import Layout
from basin.liquid import (
    advection,
    extrapolation,
    forces,
    levelset,
    pressure,
    resampling,
    sources,
    spacing,
    timestep,
    transfer,
)
from basin.liquid.particles import Particles
from basin.liquid.solids import Body, Solids, SolidWorld
from basin.liquid.sorting import sorted_particles

ALGORITHM = "liquid-3"


class LiquidFailure(RuntimeError):
    """The liquid cannot go on; the message says why and what to change."""


@dataclass(frozen=True)
class LiquidWorld:
    """All that a liquid is computed from, free of the scene document.

    Attributes
    ----------
    time_scale : liquid seconds per shot second
    frame_seconds : shot seconds per frame
    first_frame : frame of the initial state
    """

    layout: Layout
    bodies: list[Body]
    fills: list[sources.FillSource]
    inflows: list[sources.InflowSource]
    gravity: np.ndarray
    particles_per_cell: int
    flip_share: float
    wall_friction: float
    substeps_min: int
    substeps_max: int
    cfl: float
    time_scale: float
    frame_seconds: float
    first_frame: int


@dataclass
class LiquidState:
    """Everything a run goes on from: particles, counters, and the length of the last substep."""

    particles: Particles = field(default_factory=Particles.empty)
    dt_before: float = 0.0
    next_id: int = 0
    epoch: int = 0
    lost: float = 0.0
    poured: float = 0.0


@dataclass(frozen=True)
class LiquidFields:
    """Grid fields at a frame: level set (voxels) and face velocities (voxels/s)."""

    phi: np.ndarray
    velocity: list[np.ndarray]


@dataclass
class Tally:
    """What the substeps of a frame did."""

    substeps: int = 0
    iterations: int = 0
    residual: float = 0.0
    unconverged: int = 0
    closed_components: int = 0
    longest_move: float = 0.0
    split: dict[str, float] = field(default_factory=dict)

    def clocked(self, name: str, start: float) -> float:
        """Add the time since `start` to a step; returns now."""
        now = clock.perf_counter()
        self.split[name] = self.split.get(name, 0.0) + now - start
        return now


class Liquid:
    """A liquid on its way through the frames of a shot."""

    def __init__(self, world: LiquidWorld, state: LiquidState | None = None):
        self.world = world
        self.state = state or LiquidState()
        self.solid_world = SolidWorld(world.layout, world.bodies, world.time_scale)
        self._room: tuple[int, levelset.Room] | None = None

    def begin(self) -> LiquidFields:
        """Make the first frame: the fills, before anything moves."""
        solids = self.solid_world.at(0.0, 0.0)
        self._fill(self.world.first_frame, solids)
        return self.fields(solids)

    def advance_frame(self, frame: int, stop: Callable[[], bool] = lambda: False) -> tuple[LiquidFields, Tally] | None:
        """Go from `frame` - 1 to `frame`; None if asked to stop between substeps.

        Raises
        ------
        LiquidFailure
            If velocities are no longer finite.
        """
        w, tally = self.world, Tally()
        whole = w.frame_seconds * w.time_scale
        begin = (frame - 1 - w.first_frame) * w.frame_seconds
        done = 0.0
        fields: LiquidFields | None = None
        while whole - done > 1e-9 * whole:
            if stop():
                return None
            shot_time = begin + done / w.time_scale
            count = timestep.steps_left(
                whole - done,
                tally.substeps,
                self._fastest(shot_time, whole),
                w.gravity,
                w.layout.dx,
                w.cfl,
                w.substeps_min,
                w.substeps_max,
            )
            dt = (whole - done) / count
            fields = self._substep(shot_time, dt, tally)
            done = whole if count == 1 else done + dt
            tally.substeps += 1
        end = begin + w.frame_seconds
        solids = self.solid_world.at(end, 0.0)
        self._fill(frame, solids)
        velocity = fields.velocity if fields else None
        return self.fields(solids, velocity), tally

    def fields(self, solids: Solids, velocity: list[np.ndarray] | None = None) -> LiquidFields:
        """Level set of the particles as they are, with the face velocities last used."""
        self.state.particles, tiling = sorted_particles(self.state.particles, self.world.layout)
        share = levelset.density(self.state.particles, tiling, self.world.layout)
        phi = levelset.level_set(share, self._room_of(solids))
        if velocity is None:
            velocity, _ = transfer.to_grid(self.state.particles, tiling, self.world.layout)
        return LiquidFields(phi, velocity)

    def _substep(self, shot_time: float, dt: float, tally: Tally) -> LiquidFields:
        w, s, layout = self.world, self.state, self.world.layout
        now = clock.perf_counter()
        solids = self.solid_world.at(shot_time, dt / w.time_scale)
        space = self._room_of(solids)
        now = tally.clocked("solids", now)
        self._pour(shot_time, solids)
        s.particles, tiling = sorted_particles(s.particles, layout)
        now = tally.clocked("sources and sort", now)
        share = levelset.density(s.particles, tiling, layout)
        phi = levelset.level_set(share, space)
        now = tally.clocked("level set", now)
        s.particles, s.next_id = resampling.resampled(s.particles, phi, w.particles_per_cell, s.next_id, s.epoch)
        s.particles, tiling = sorted_particles(s.particles, layout)
        alone = levelset.ballistic(s.particles, phi)
        now = tally.clocked("resampling", now)
        velocity, _mass = transfer.to_grid(s.particles, tiling, layout)
        before = [u.copy() for u in velocity]
        now = tally.clocked("particles to grid", now)
        kick = forces.gravity_kick(w.gravity, layout.dx, s.dt_before, dt)
        forces.add(velocity, kick)
        system = pressure.assemble(phi, solids, layout)
        valid, solution = pressure.project(system, phi, solids, velocity)
        now = tally.clocked("pressure", now)
        extrapolation.outwards(velocity, valid, int(np.ceil(w.cfl)) + 2, layout)
        extrapolation.onto_walls(velocity, solids, w.wall_friction, layout)
        now = tally.clocked("extrapolation", now)
        transfer.to_particles(s.particles, velocity, before, w.flip_share, alone, kick)
        now = tally.clocked("grid to particles", now)
        spacing.spread(s.particles, system, share, space.near, phi, solids, layout, alone)
        now = tally.clocked("spacing", now)
        start = s.particles.position.copy()
        s.particles.position = advection.advance(s.particles, velocity, dt, alone)
        later_phi, later_owner = self.solid_world.distance_at(shot_time + dt / w.time_scale)
        advection.keep_out(start, s.particles, later_phi, later_owner, solids.motion, alone, w.wall_friction)
        if not np.isfinite(s.particles.velocity).all():
            raise LiquidFailure("velocities are no longer finite; allow more substeps or slow the colliders down")
        s.particles, drained = advection.wrapped_and_drained(s.particles, layout)
        s.lost += drained
        tally.clocked("advection", now)
        s.dt_before, s.epoch = dt, s.epoch + 1
        tally.iterations += solution.iterations
        tally.residual = max(tally.residual, solution.residual)
        tally.unconverged += int(solution.residual > 1e-6)
        tally.closed_components = max(tally.closed_components, solution.closed_components)
        tally.longest_move = max(tally.longest_move, self._speed() * dt)
        return LiquidFields(phi, velocity)

    def _room_of(self, solids: Solids) -> levelset.Room:
        if self._room is None or self._room[0] != id(solids):
            self._room = (id(solids), levelset.room(solids.volume))
            self._room_owner = solids  # keeps the id from being used again
        return self._room[1]

    def _speed(self) -> float:
        v = self.state.particles.velocity
        return float(np.sqrt((v * v).sum(axis=1).max())) if len(v) else 0.0

    def _fastest(self, shot_time: float, whole: float) -> float:
        speed = self._speed()
        for inflow in self.world.inflows:
            speed = max(speed, float(np.linalg.norm(inflow.velocity)) / self.world.layout.dx)
        for body in self.world.bodies:
            if body.pose.moves() and np.isfinite(body.distance.high).all():
                d = body.distance
                later = shot_time + whole / self.world.time_scale
                reach = np.array([d.low, d.high])
                a, b = (reach @ m[:3, :3].T + m[:3, 3] for m in (body.pose.matrix(shot_time), body.pose.matrix(later)))
                speed = max(speed, float(np.abs(b - a).max()) / whole / self.world.layout.dx)
        return speed

    def _fill(self, frame: int, solids: Solids) -> None:
        w = self.world
        for fill in w.fills:
            if fill.frame != frame:
                continue
            time = (frame - w.first_frame) * w.frame_seconds
            points, volume = sources.fill_particles(fill, w.layout, w.particles_per_cell, time)
            self._put(points, volume, fill.velocity, fill.number, time, solids)

    def _pour(self, shot_time: float, solids: Solids) -> None:
        w = self.world
        now = shot_time * w.time_scale
        for inflow in w.inflows:
            points, volume = sources.inflow_particles(
                inflow, w.layout, w.particles_per_cell, shot_time, now - self.state.dt_before, now
            )
            if len(points):
                self._put(points, volume, inflow.velocity, inflow.number, shot_time, solids)

    def _put(
        self, points: np.ndarray, volume: float, velocity: np.ndarray, number: int, time: float, solids: Solids
    ) -> None:
        w, s = self.world, self.state
        # velocities live half a substep back: take off the half kick that these have not missed
        behind = forces.gravity_kick(w.gravity, w.layout.dx, s.dt_before, 0.0)
        count = len(s.particles)
        s.particles, s.next_id = sources.put_in(
            s.particles,
            points,
            volume,
            velocity / w.layout.dx - behind,
            number,
            time * w.time_scale,
            s.next_id,
            w.layout,
            solids.phi,
            w.particles_per_cell,
        )
        s.poured += volume * (len(s.particles) - count)
