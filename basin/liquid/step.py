"""One substep of the liquid, and the walk from frame to frame.

The order is that of the algorithm: sources, level set, resampling, particles to grid, forces,
pressure, viscosity, extrapolation, grid to particles, spacing, advection. Substeps come in pairs of equal length
(advection-reflection, Zehnder, Narain & Thomaszewski 2018): the first one turns the divergence that the
pressure takes away into its opposite, the second one, in the middle of the pair, gives gravity for both
and takes the divergence away. So a pair is symmetric in time, keeps the energy of turning flow, and
leaves velocities that belong to the same moment as the positions. Viscosity acts there too, for both, on
what the pressure has left, so that it meets no weight that the ground bears; its work is made free of divergence again.
"""

from __future__ import annotations

import time as clock
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from basin.geometry.deforming import Deforming
from basin.grid.layout import Layout
from basin.grid.tiles import Tiles
from basin.liquid import (
    advection,
    band,
    extrapolation,
    forces,
    levelset,
    pressure,
    reaction,
    resampling,
    sources,
    spacing,
    texture,
    thin,
    timestep,
    transfer,
    viscosity,
)
from basin.liquid.band import Bulk
from basin.liquid.carried import Carried
from basin.liquid.particles import Particles
from basin.liquid.settings import WATER
from basin.liquid.solids import Body, Solids, SolidWorld
from basin.liquid.sorting import Tiling, sorted_particles
from basin.settings import Curve

ALGORITHM = "liquid-10"
LONGEST_MOVE = 5.0  # voxels in a substep, whatever the settings allow
SPIKE = 4.0  # times the expected way: more than that in one substep is a failure, not a splash
MOST_HALVINGS = 4
LEAST_REACH = 4  # cells that the level set's stencils look beyond a particle's own


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
    discard : voxels from an open wall within which liquid is thrown away
    carried : what each particle carries along
    texture_clock : frames after which a rest position is renewed; 0 if none are carried
    density : kg/m3
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
    band: float
    flip_share: float
    wall_friction: float
    walls_let_go: bool
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

    def gravity_at(self, shot_time: float) -> np.ndarray:
        """Acceleration of free fall (3,), m per liquid second squared."""
        return self.gravity if self.gravity_keys is None else self.gravity_keys.at(shot_time)


@dataclass
class LiquidState:
    """Everything a run goes on from: particles, counters, and the length of the last substep.

    Attributes
    ----------
    bulk : liquid below the band of particles; replaced, never changed
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
    speed: float | None = None

    def copy(self) -> LiquidState:
        """A state that does not change with this one."""
        return replace(self, particles=self.particles.copy())


@dataclass(frozen=True)
class LiquidFields:
    """Grid fields at a frame, on tiles: level set (voxels), face velocities (voxels/s), open share about cells,
    and the volume (voxels^3) of cells without particles."""

    tiles: Tiles
    phi: np.ndarray
    velocity: list[np.ndarray]
    room: np.ndarray
    bulk: np.ndarray


@dataclass
class Tally:
    """What the substeps of a frame did."""

    substeps: int = 0
    iterations: int = 0
    viscous_iterations: int = 0
    residual: float = 0.0
    unconverged: int = 0
    closed_components: int = 0
    squeezed: float = 0.0  # voxels^3 per second
    longest_move: float = 0.0
    redone: int = 0
    held_back: int = 0
    impulse: np.ndarray = field(default_factory=lambda: np.zeros((0, 6)))  # on the bodies; see `reaction`
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
        self.state = state or LiquidState(Particles.empty(world.carried.width))
        plugs = [sources.nozzle(inflow, world.layout, world.time_scale) for inflow in world.inflows]
        bodies = [*world.bodies, *(plug for plug in plugs if plug is not None)]
        self.solid_world = SolidWorld(world.layout, bodies, world.time_scale)

    def begin(self) -> LiquidFields:
        """Make the first frame: the fills, before anything moves."""
        self._fill(self.world.first_frame)
        self._renew_texture(self.world.first_frame)
        return self.fields(0.0)

    def _renew_texture(self, frame: int) -> None:
        w, particles = self.world, self.state.particles
        if w.texture_clock:
            which = texture.renewed(frame - w.first_frame, w.texture_clock)
            texture.renew(particles.carried, w.layout.to_metres(particles.position), which)

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
        self.state.speed = None  # as a resumed run finds it
        fields: LiquidFields | None = None
        while whole - done > 1e-9 * whole:
            if stop():
                return None
            shot_time = begin + done / w.time_scale
            count = timestep.steps_left(
                whole - done,
                tally.substeps,
                self._fastest(shot_time, whole),
                float(np.linalg.norm(w.gravity_at(shot_time))) + forces.pull(w.forces, shot_time),
                w.layout.dx,
                w.cfl,
                w.substeps_min,
                w.substeps_max,
            )
            dt = (whole - done) / count
            dt, fields = self._checked_pair(shot_time, dt, tally)
            done = done + 2 * dt if whole - done > 3 * dt else whole
            tally.substeps += 2
        end = begin + w.frame_seconds
        self._fill(frame)
        self._renew_texture(frame)
        return self.fields(end, fields), tally

    def fields(self, shot_time: float, last: LiquidFields | None = None) -> LiquidFields:
        """Level set of the particles as they are, with the face velocities last used."""
        s = self.state
        s.particles, tiling = sorted_particles(s.particles, self.world.layout)
        tiles = tiling.surroundings(LEAST_REACH, *s.bulk.boxes(self.world.layout.tiles))
        solids = self.solid_world.at(tiles, shot_time, 0.0)
        hidden = thin.unseen(s.particles, tiling, tiles, solids.thin)
        share = levelset.density(s.particles, tiling, tiles, hidden)
        volume, *_ = s.bulk.on(tiles)
        band.add_share(share, volume, tiles)
        phi = levelset.level_set(share, solids)
        if last is None:
            velocity, _ = transfer.to_grid(s.particles, tiling, tiles, hidden)
        else:
            velocity = [last.tiles.carried(field, tiles) for field in last.velocity]
        return LiquidFields(tiles, phi, velocity, solids.near, volume)

    def _checked_pair(self, shot_time: float, dt: float, tally: Tally) -> tuple[float, LiquidFields]:
        """Two substeps, redone with half their length when they spike; returns the length that went well."""
        before, impulse = self.state.copy(), tally.impulse
        for _ in range(MOST_HALVINGS):
            try:
                return dt, self.pair(shot_time, dt, tally)
            except Spike:
                self.state, tally.impulse = before.copy(), impulse
                dt *= 0.5
                tally.redone += 1
        return dt, self.pair(shot_time, dt, tally, spikes_pass=True)

    def pair(self, shot_time: float, dt: float, tally: Tally, spikes_pass: bool = False) -> LiquidFields:
        """Go on by two substeps of `dt` liquid seconds each from a shot time; see `_substep`."""
        self._substep(shot_time, dt, tally, spikes_pass, reflects=True)
        return self._substep(shot_time + dt / self.world.time_scale, dt, tally, spikes_pass, reflects=False)

    def _substep(self, shot_time: float, dt: float, tally: Tally, spikes_pass: bool, reflects: bool) -> LiquidFields:
        """Go on by `dt` liquid seconds from a shot time; what it did is added to `tally`.

        Raises
        ------
        Spike
            If the liquid has become far too fast, unless spikes may pass: moves are then held to what
            the grid can follow.
        LiquidFailure
            If velocities are no longer finite although spikes may pass.
        """
        w, s, layout = self.world, self.state, self.world.layout
        now = clock.perf_counter()
        acting = 0.0 if reflects else 2 * dt
        kick = forces.gravity_kick(w.gravity_at(shot_time), layout.dx, acting)
        push = forces.push_at(w.forces, shot_time, w.time_scale, acting, w.density)
        # particles born in the middle of a pair have missed none of the first half's gravity
        self._pour(shot_time, 0.5 * kick)
        s.particles, tiling = sorted_particles(s.particles, layout)
        expected = max(w.cfl, self._fastest(shot_time, dt) * dt + float(np.linalg.norm(kick)) * dt)
        farthest = min(expected, LONGEST_MOVE)
        reach = max(int(np.ceil(farthest)) + 2, LEAST_REACH)
        tiles = tiling.surroundings(reach, *s.bulk.boxes(layout.tiles))
        volume, owed, carried = s.bulk.on(tiles)
        now = tally.clocked("sources and sort", now)
        solids = self.solid_world.at(tiles, shot_time, dt / w.time_scale)
        now = tally.clocked("solids", now)
        hidden = thin.unseen(s.particles, tiling, tiles, solids.thin)
        share = levelset.density(s.particles, tiling, tiles, hidden)
        band.add_share(share, volume, tiles)
        phi = levelset.level_set(share, solids)
        now = tally.clocked("level set", now)
        like = band.made_of(s.particles, tiling, tiles) if w.band > 0 or w.carried.viscous else None
        if w.band > 0:
            assert like is not None
            tiling, hidden = self._keep_band(tiling, phi, solids, volume, carried, shot_time, like)
            now = tally.clocked("band", now)
        kept = s.particles
        s.particles, s.next_id = resampling.resampled(
            s.particles, tiling, phi, tiles, w.particles_per_cell, s.next_id, s.epoch, hidden
        )
        if s.particles is not kept:
            s.particles, tiling = sorted_particles(s.particles, layout)
            hidden = thin.unseen(s.particles, tiling, tiles, solids.thin)
        now = tally.clocked("resampling", now)
        velocity, grid_mass = transfer.to_grid(s.particles, tiling, tiles, hidden)
        band.merge(velocity, carried, volume, tiles)
        before = [u.copy() for u in velocity]
        now = tally.clocked("particles to grid", now)
        system = pressure.assemble(phi, solids)
        alone = levelset.ballistic(s.particles, tiling, system.index, tiles)
        if push is not None:
            forces.push(velocity, phi, solids.open, tiles, push)
            forces.push_alone(s.particles, alone, layout, push)
        # gravity last: a drag that took something off what pressure is about to balance would drive currents
        forces.add(velocity, kick)
        solved, contact = system, solids
        if w.walls_let_go:
            solved, contact = pressure.let_go(system, phi, solids, velocity, kick)
        valid, solution = pressure.project(solved, phi, contact, velocity, kick)
        changed = (velocity, before, reflects)
        pushed = reaction.impulses(solved, solution.value, contact, *changed, self._centres(shot_time))
        tally.impulse = pushed if len(tally.impulse) == 0 else tally.impulse + pushed
        now = tally.clocked("pressure", now)
        thick = None
        if like is not None and w.carried.viscous:
            thick = viscosity.at_cells(s.particles, w.carried.paint, tiling, tiles, like, hidden) / layout.dx**2
            velocity, valid = extrapolation.at_rim(velocity, before, valid, grid_mass, tiles)
            if not reflects:
                velocity = extrapolation.outwards(velocity, valid, extrapolation.RIM, tiles)
                matrix = viscosity.Viscous(phi, thick, contact, 2 * dt)
                damped = matrix.damp(velocity)
                tally.viscous_iterations += damped.iterations
                tally.unconverged += int(damped.residual > viscosity.TOLERANCE)
                now = tally.clocked("viscosity", now)
                valid, again = pressure.project(solved, phi, contact, velocity, np.zeros(3))
                valid = [np.maximum(a, b) for a, b in zip(valid, matrix.faces(), strict=True)]
                tally.iterations += again.iterations
                now = tally.clocked("pressure", now)
        velocity = extrapolation.outwards(velocity, valid, reach, tiles)
        velocity = extrapolation.onto_walls(velocity, contact, w.wall_friction)
        if thick is not None:
            viscosity.stick(velocity, thick, contact)
        now = tally.clocked("extrapolation", now)
        own = (s.particles, tiling, tiles)
        s.speed = transfer.to_particles(*own, velocity, before, w.flip_share, alone, kick, reflects, hidden)
        move = s.speed * dt
        if not move <= SPIKE * expected and not spikes_pass:
            raise Spike
        if not np.isfinite(move):
            raise LiquidFailure("velocities are no longer finite; allow more substeps or slow the colliders down")
        tally.held_back += int(move > LONGEST_MOVE)
        now = tally.clocked("grid to particles", now)
        begin = s.particles.position.copy() if len(solids.thin) else s.particles.position
        shift = spacing.spread(s.particles, tiling, system, share, phi, solids, alone, hidden)
        now = tally.clocked("spacing", now)
        start = advection.advance(s.particles, tiling, velocity, tiles, dt, LONGEST_MOVE, alone, hidden)
        later_phi, later_owner = self.solid_world.distance_at(tiles, shot_time + dt / w.time_scale)
        wall = (later_phi, later_owner, solids.motion)
        advection.keep_out(start, s.particles, tiling, tiles, *wall, alone, w.wall_friction, dt)
        thin.keep_apart(begin, s.particles, tiling, tiles, solids.thin, solids.motion, alone, w.wall_friction)
        s.particles, left = advection.wrapped_and_drained(s.particles, tiling, w.discard)
        s.lost += left
        later = shot_time + dt / w.time_scale
        s.particles, swallowed = sources.drained(s.particles, w.drains, layout, later)
        s.drained += swallowed
        if w.band > 0:
            carried = band.carry(velocity, before, volume, tiles, dt, reflects)
            shift = [np.float32(dt) * u + d for u, d in zip(velocity, shift, strict=True)]
            assert like is not None
            passed = (solids, w.particles_per_cell, s.next_id, s.epoch, like)
            volume, given = band.flowed(volume, owed, carried, shift, *passed)
            s.particles, s.next_id = s.particles.joined(given), s.next_id + len(given)
            s.drained += band.drained(volume, w.drains, tiles, later)
            s.bulk = Bulk.of(tiles, volume, owed, carried)
        tally.clocked("advection", now)
        s.dt_before, s.epoch = dt, s.epoch + 1
        tally.iterations += solution.iterations
        tally.residual = max(tally.residual, solution.residual)
        tally.unconverged += int(solution.residual > 1e-6)
        tally.closed_components = max(tally.closed_components, solution.closed_components)
        tally.squeezed = max(tally.squeezed, solution.squeezed)
        tally.longest_move = max(tally.longest_move, min(move, LONGEST_MOVE))
        return LiquidFields(tiles, phi, velocity, solids.near, volume)

    def _keep_band(
        self,
        tiling: Tiling,
        phi: np.ndarray,
        solids: Solids,
        volume: np.ndarray,
        carried: list[np.ndarray],
        shot_time: float,
        like: band.MadeOf,
    ) -> tuple[Tiling, np.ndarray]:
        """Let cells take in particles below the band, or give them back; the new order, and what they see."""
        w, s = self.world, self.state
        own = (w.band, w.particles_per_cell, s.next_id, self.solid_world, shot_time, like)
        s.particles = band.exchanged(s.particles, tiling, phi, solids, volume, carried, *own)
        if w.texture_clock:  # those that rise are like the mean of their tile, so at rest as far off as from its middle
            risen = np.flatnonzero(s.particles.id >= s.next_id)
            place = s.particles.position[risen]
            off = (place - (np.floor(place / 8) * 8 + 4)) * np.float32(w.layout.dx)
            s.particles.carried[risen, -texture.WIDTH :] += np.tile(off, 2)
        s.next_id = max(s.next_id, int(s.particles.id.max(initial=0)) + 1)
        s.particles, tiling = sorted_particles(s.particles, w.layout)
        return tiling, thin.unseen(s.particles, tiling, solids.tiles, solids.thin)

    def _centres(self, shot_time: float) -> np.ndarray:
        """Origins of the bodies (n, 3) in voxels."""
        places = [body.pose.matrix(shot_time)[:3, 3] for body in self.solid_world.bodies]
        return self.world.layout.to_voxels(np.array(places).reshape(-1, 3))

    def _fastest(self, shot_time: float, whole: float) -> float:
        if self.state.speed is None:
            self.state.speed = self.state.particles.fastest()
        speed = self.state.speed
        for inflow in self.world.inflows:
            if not inflow.full:
                speed = max(speed, float(np.linalg.norm(inflow.speed_at(shot_time))) / self.world.layout.dx)
        for body in self.world.bodies:
            later = shot_time + whole / self.world.time_scale
            if isinstance(body.distance, Deforming):
                ways = [
                    body.distance.sequence.positions(t) @ m[:3, :3].T + m[:3, 3]
                    for t, m in ((t, body.pose.matrix(t)) for t in (shot_time, later))
                ]
                speed = max(
                    speed, float(np.linalg.norm(ways[1] - ways[0], axis=1).max()) / whole / self.world.layout.dx
                )
            elif body.pose.moves() and np.isfinite(body.distance.high).all():
                d = body.distance
                reach = np.array([d.low, d.high])
                a, b = (reach @ m[:3, :3].T + m[:3, 3] for m in (body.pose.matrix(shot_time), body.pose.matrix(later)))
                speed = max(speed, float(np.abs(b - a).max()) / whole / self.world.layout.dx)
        return speed

    def _fill(self, frame: int) -> None:
        w = self.world
        for fill in w.fills:
            if fill.frame != frame:
                continue
            time = (frame - w.first_frame) * w.frame_seconds
            points, volume = sources.fill_particles(fill, w.layout, w.particles_per_cell, time)
            carried = fill.carry * sources.own_velocity(fill.pose, w.time_scale, time, points, fill.distance)
            self._put(points, volume, (fill.velocity + carried) / w.layout.dx, fill, time)

    def _pour(self, shot_time: float, ahead: np.ndarray) -> None:
        """Put in what the inflows gave since the last substep, `ahead` (3,) voxels/s of gravity taken off."""
        w, s = self.world, self.state
        now = shot_time * w.time_scale
        for inflow in w.inflows:
            if inflow.full:
                if inflow.start <= now <= inflow.end:
                    there = (s.particles, w.layout, w.particles_per_cell, shot_time, s.epoch)
                    points, volume = sources.missing_particles(inflow, *there)
                    moved = (inflow.pose, w.time_scale, shot_time, points, inflow.distance)
                    pace = inflow.carry * sources.own_velocity(*moved)
                    self._put(points, volume, pace / w.layout.dx - ahead, inflow, shot_time, 0.0)
                continue
            own = (inflow, w.layout, w.particles_per_cell, w.time_scale)
            fall = float(np.linalg.norm(w.gravity_at(shot_time)))
            points, pace, volume = sources.inflow_particles(*own, now - s.dt_before, now, fall)
            if len(points):
                # where litres are given none may be left out; smaller particles lie closer
                crowded = sources.CROWDED * min(volume * w.particles_per_cell, 1.0) if inflow.flow is None else 0.0
                self._put(points, volume, pace / w.layout.dx - ahead, inflow, shot_time, crowded)

    def _put(
        self,
        points: np.ndarray,
        volume: float,
        velocity: np.ndarray,
        source: sources.FillSource | sources.InflowSource,
        time: float,
        crowded: float = sources.CROWDED,
    ) -> None:
        w, s = self.world, self.state
        place = w.layout.to_voxels(points).astype(np.float32)
        free = sources.open_places(place, w.layout, self.solid_world, time)
        place, velocity = place[free], np.broadcast_to(velocity, place.shape)[free]
        count = len(s.particles)
        s.particles, s.next_id = sources.put_in(
            s.particles,
            place,
            volume,
            velocity,
            source.number,
            time * w.time_scale,
            s.next_id,
            w.particles_per_cell,
            crowded,
        )
        columns = w.carried
        if columns.width and len(s.particles) > count:
            metres = w.layout.to_metres(s.particles.position[count:]).astype(np.float64)
            if columns.painted:
                colours = sources.coloured(source, metres, s.particles.id[count:], time)
                s.particles.carried[count:, : columns.paint] = colours
            if columns.viscous:
                s.particles.carried[count:, columns.paint] = source.viscosity
            if columns.textured:
                texture.renew(s.particles.carried[count:], metres, [0, 1])
        s.poured += volume * (len(s.particles) - count)
        s.speed = None
