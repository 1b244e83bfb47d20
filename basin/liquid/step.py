"""One substep of the liquid, and the walk from frame to frame.

The order is that of the algorithm: sources, level set, resampling, particles to grid, forces,
pressure, viscosity, extrapolation, grid to particles, spacing, advection. Substeps come in pairs of equal length
(advection-reflection, Zehnder, Narain & Thomaszewski 2018): the first one turns the divergence that the
pressure takes away into its opposite, the second one, in the middle of the pair, gives gravity for both
and takes the divergence away. So a pair is symmetric in time, keeps the energy of turning flow, and
leaves velocities that belong to the same moment as the positions. Viscosity acts there too, for both, on
what the pressure has left, so that it meets no weight that the ground bears; its work is made free of divergence again.
What particles that turn miss of gravity in the first half is made up for by a mean over pairs (`swing.py`).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from basin.geometry.deforming import Deforming
from basin.grid.tiles import Tiles
from basin.liquid import (
    advection,
    band,
    crowding,
    extrapolation,
    films,
    forces,
    levelset,
    pouring,
    pressure,
    reaction,
    resampling,
    sources,
    spacing,
    swing,
    tension,
    texture,
    thin,
    timestep,
    transfer,
    viscosity,
    yielding,
)
from basin.liquid.band import Below, Births, Bulk, MadeOf
from basin.liquid.particles import Particles
from basin.liquid.parting import Parting
from basin.liquid.solids import HOLDS, Solids, SolidWorld
from basin.liquid.sorting import Arranged, Cells, Tiling, cells_at_walls, sorted_particles
from basin.liquid.world import LiquidFailure, LiquidFields, LiquidState, LiquidWorld, Spike, Tally

ALGORITHM = "liquid-22"
THICK = ("viscosity", "yield_stress")  # go by how thick liquid is at a moment
LONGEST_MOVE = 5.0  # voxels in a substep, whatever the settings allow
SPIKE = 4.0  # times the expected way: more than that in one substep is a failure, not a splash
MOST_HALVINGS = 4
LEAST_REACH = 4  # cells that the level set's stencils look beyond a particle's own


@dataclass
class Moment:
    """What is known in a substep, in the order in which it comes to be known.

    Attributes
    ----------
    time, dt : shot second at which it begins; its length in liquid seconds
    reflects : whether it is the first of a pair
    acting : liquid seconds for which forces act in it
    kick : (3,) voxels/s that gravity gives
    push : what the other forces do; None without any
    expected : voxels that the fastest is expected to move
    reach : cells beyond their own that particles may need
    tiling, tiles, hidden : see `basin.liquid.sorting.Arranged`
    below : liquid without particles
    made_of : what the particles of tiles are, where somebody asks
    density : what the particles' kernels fill of their room, and what lies below the band
    phi : level set (voxels)
    velocity, before : face velocities, as they are now and as particles gave them
    mass : particle volume about faces
    surface : as the pressure meets it
    system : of the pressure
    solved, contact : the same and the solids as liquid meets them, from which it may part
    ballistic : particles with no liquid about them, and those of viscous films too thin for the grid
    cells : where the particles of cells near walls are
    film : thickness of those films, see `basin.liquid.films`; None if nothing is viscous
    valid : faces that carry the liquid's velocity
    nu : viscosity in cells, voxels^2/s; None if nothing is viscous
    """

    time: float
    dt: float
    reflects: bool
    acting: float
    kick: np.ndarray
    push: forces.Push | None
    expected: float = 0.0
    reach: int = LEAST_REACH
    tiling: Tiling = field(init=False)
    tiles: Tiles = field(init=False)
    hidden: np.ndarray = field(init=False)
    below: Below = field(init=False)
    solids: Solids = field(init=False)
    made_of: MadeOf | None = None
    density: np.ndarray = field(init=False)
    phi: np.ndarray = field(init=False)
    velocity: list[np.ndarray] = field(init=False)
    before: list[np.ndarray] = field(init=False)
    mass: list[np.ndarray] = field(init=False)
    surface: pressure.Surface = field(init=False)
    system: pressure.System = field(init=False)
    solved: pressure.System = field(init=False)
    contact: Solids = field(init=False)
    ballistic: np.ndarray = field(init=False)
    cells: Cells = field(init=False)
    film: np.ndarray | None = None
    valid: list[np.ndarray] = field(init=False)
    nu: np.ndarray | None = None


class Liquid:
    """A liquid on its way through the frames of a shot."""

    def __init__(self, world: LiquidWorld, state: LiquidState | None = None):
        self.world = world
        self.state = state or LiquidState(Particles.empty(world.carried.width))
        pull, dx = float(np.linalg.norm(world.gravity_at(0.0))), world.layout.dx
        poured = [(inflow, inflow.hangs(pull, dx, world.time_scale)) for inflow in world.inflows]
        self._mouths = [inflow for inflow, hangs in poured if hangs]
        plugs = [sources.nozzle(inflow, world.layout, world.time_scale, hangs) for inflow, hangs in poured]
        bodies = [*world.bodies, *(plug for plug in plugs if plug is not None)]
        self.solid_world = SolidWorld(world.layout, bodies, world.time_scale, world.walls)

    def begin(self) -> LiquidFields:
        """Make the first frame: the fills, before anything moves."""
        self.come_to(self.world.first_frame)
        return self.fields(0.0)

    def come_to(self, frame: int) -> None:
        """What happens at a frame rather than between two."""
        pouring.fill(self.world, self.state, self.solid_world, frame)
        pouring.renew_texture(self.world, self.state, frame)

    def advance_frame(self, frame: int, stop: Callable[[], bool] = lambda: False) -> tuple[LiquidFields, Tally] | None:
        """Go from `frame` - 1 to `frame`; None if asked to stop between substeps.

        Raises
        ------
        LiquidFailure
            If velocities are no longer finite.
        """
        made = self.move(frame, stop)
        if made is None:
            return None
        fields, tally = made
        return self.fields((frame - self.world.first_frame) * self.world.frame_seconds, fields), tally

    def move(self, frame: int, stop: Callable[[], bool] = lambda: False) -> tuple[LiquidFields | None, Tally] | None:
        """`advance_frame` that leaves it at the fields of the last substep; none if there was none."""
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
                w.limits,
            )
            dt = (whole - done) / count
            dt, fields = self._checked_pair(shot_time, dt, tally)
            done = done + 2 * dt if whole - done > 3 * dt else whole
            tally.substeps += 2
        self.come_to(frame)
        return fields, tally

    def fields(self, shot_time: float, last: LiquidFields | None = None) -> LiquidFields:
        """Level set of the particles as they are, with the face velocities last used."""
        s = self.state
        s.particles, tiling = sorted_particles(s.particles, self.world.layout)
        tiles = tiling.surroundings(LEAST_REACH, *s.bulk.boxes(self.world.layout.tiles))
        solids = self.solid_world.at(tiles, shot_time, 0.0)
        hidden = thin.unseen(s.particles, tiling, tiles, solids.thin)
        density = levelset.density(s.particles, tiling, tiles, hidden)
        volume = s.bulk.on(tiles).volume
        band.add_share(density, volume, tiles)
        phi = levelset.level_set(density, solids)
        if last is None:
            velocity, _ = transfer.to_grid(s.particles, tiling, tiles, hidden)
        else:
            velocity = [last.tiles.carried(field, tiles) for field in last.velocity]
        return LiquidFields(tiles, phi, velocity, solids.own, solids.near, volume)

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
        first = self._substep(shot_time, dt, tally, spikes_pass, reflects=True)
        middle = shot_time + dt / self.world.time_scale
        last = self._substep(middle, dt, tally, spikes_pass, reflects=False)
        gravity, dx = self.world.gravity_at(middle), self.world.layout.dx
        kick = forces.gravity_kick(gravity, dx, 2 * dt)
        most = float(np.linalg.norm(gravity)) + forces.pull(self.world.forces, middle)
        self.state.swing = self.state.swing.renewed(first, last, kick, 2 * dt, most / dx)
        return last

    def _substep(self, time: float, dt: float, tally: Tally, spikes_pass: bool, reflects: bool) -> LiquidFields:
        """Go on by `dt` liquid seconds from a shot second; what it did is added to `tally`.

        Raises
        ------
        Spike
            If the liquid has become far too fast, unless spikes may pass: moves are then held to what
            the grid can follow.
        LiquidFailure
            If velocities are no longer finite although spikes may pass.
        """
        m = self._moment(time, dt, reflects)
        with tally.clocked("sources and sort"):
            self._pour_and_sort(m)
        with tally.clocked("solids"):
            m.solids = self.solid_world.at(m.tiles, time, dt / self.world.time_scale)
        with tally.clocked("level set"):
            self._find_surface(m)
        with tally.clocked("band"):
            self._keep_band(m)
        with tally.clocked("resampling"):
            self._resample(m)
        with tally.clocked("particles to grid"):
            m.velocity, m.mass = transfer.to_grid(self.state.particles, m.tiling, m.tiles, m.hidden)
            band.merge(m.velocity, m.below.velocity, m.below.volume, m.tiles)
            m.before = [u.copy() for u in m.velocity]
        with tally.clocked("tension"):
            m.surface = self._surface(m, tally)
        with tally.clocked("pressure"):
            self._push(m)
            self._project(m, tally)
        self._damp(m, tally)
        with tally.clocked("extrapolation"):
            self._extrapolate(m)
        with tally.clocked("grid to particles"):
            self._carry_back(m, tally, spikes_pass)
        begin = self.state.particles.position.copy() if len(m.solids.thin) else self.state.particles.position
        with tally.clocked("spacing"):
            crowding.keep_apart(self._arranged(m), m.cells, m.film, m.solids)
            shift = spacing.spread(self._arranged(m), m.system, m.density, m.phi, m.solids, m.ballistic)
        with tally.clocked("advection"):
            self._advect(m, begin)
            self._flow_below(m, shift)
        self.state.dt_before, self.state.epoch = dt, self.state.epoch + 1
        return LiquidFields(m.tiles, m.phi, m.velocity, m.solids.own, m.solids.near, m.below.volume)

    def _moment(self, time: float, dt: float, reflects: bool) -> Moment:
        w, acting = self.world, 0.0 if reflects else 2 * dt
        kick = forces.gravity_kick(w.gravity_at(time), w.layout.dx, acting)
        push = forces.push_at(w.forces, time, w.time_scale, acting, w.density)
        return Moment(time, dt, reflects, acting, kick, push)

    def _arranged(self, m: Moment) -> Arranged:
        return Arranged(self.state.particles, m.tiling, m.tiles, m.hidden)

    def _sort(self, m: Moment) -> None:
        """Bring particles in order again, and find what they do not see."""
        self.state.particles, m.tiling = sorted_particles(self.state.particles, self.world.layout)
        m.hidden = thin.unseen(self.state.particles, m.tiling, m.tiles, m.solids.thin)

    def _pour_and_sort(self, m: Moment) -> None:
        w, s = self.world, self.state
        # particles born in the middle of a pair have missed none of the first half's gravity
        pouring.pour(w, s, self.solid_world, m.time, 0.5 * m.kick)
        s.particles, m.tiling = sorted_particles(s.particles, w.layout)
        m.expected = max(w.cfl, self._fastest(m.time, m.dt) * m.dt + float(np.linalg.norm(m.kick)) * m.dt)
        m.reach = max(int(np.ceil(min(m.expected, LONGEST_MOVE))) + 2, LEAST_REACH)
        m.tiles = m.tiling.surroundings(m.reach, *s.bulk.boxes(w.layout.tiles))
        m.below = s.bulk.on(m.tiles)

    def _find_surface(self, m: Moment) -> None:
        particles = self.state.particles
        m.hidden = thin.unseen(particles, m.tiling, m.tiles, m.solids.thin)
        m.density = levelset.density(particles, m.tiling, m.tiles, m.hidden)
        band.add_share(m.density, m.below.volume, m.tiles)
        m.phi = levelset.level_set(m.density, m.solids)
        sources.fill_mouths(m.phi, m.tiles, self._mouths, self.world.time_scale, m.time)

    def _births(self, m: Moment) -> Births:
        assert m.made_of is not None
        return Births(self.world.particles_per_cell, self.state.next_id, self.state.epoch, m.made_of)

    def _keep_band(self, m: Moment) -> None:
        """Let cells take in particles below the band, or give them back."""
        w, s = self.world, self.state
        if w.band > 0 or "viscosity" in w.carried or "surface_tension" in w.carried:
            m.made_of = band.made_of(s.particles, m.tiling, m.tiles)
        if w.band <= 0:
            return

        def distance_of(place: np.ndarray) -> np.ndarray:
            return self.solid_world.distance_of(place, m.time)

        births = self._births(m)
        s.particles = band.exchanged(self._arranged(m), m.below, m.phi, m.solids, w.band, births, distance_of)
        if w.texture_clock:  # those that rise are like the mean of their tile, so at rest as far off as from its middle
            risen = np.flatnonzero(s.particles.id >= s.next_id)
            place = s.particles.position[risen]
            off = (place - (np.floor(place / 8) * 8 + 4)) * np.float32(w.layout.dx)
            s.particles.carried[risen, w.carried.at(*texture.NAMES)] += np.tile(off, 2)
        s.next_id = max(s.next_id, int(s.particles.id.max(initial=0)) + 1)
        self._sort(m)

    def _resample(self, m: Moment) -> None:
        w, s, kept = self.world, self.state, self.state.particles
        s.particles, s.next_id = resampling.resampled(
            self._arranged(m), m.phi, w.particles_per_cell, s.next_id, s.epoch, w.surface_particles
        )
        if s.particles is not kept:
            self._sort(m)

    def _push(self, m: Moment) -> None:
        """Let forces act on the grid, and on particles that the grid does not hold."""
        particles, layout = self.state.particles, self.world.layout
        m.system = pressure.assemble(m.phi, m.solids)
        m.cells = cells_at_walls(self._arranged(m), m.solids.phi)
        m.ballistic = levelset.ballistic(particles, m.tiling, m.system.index, m.tiles)
        if "viscosity" in self.world.carried:
            m.film = films.measured(self._arranged(m), m.cells, m.phi, m.ballistic, self._viscosity(m.time), m.solids)
        if m.push is not None:
            forces.push(m.velocity, m.phi, m.solids.open, m.tiles, m.push)
            forces.push_alone(particles, m.ballistic, layout, m.push)
        # gravity last: a drag that took something off what pressure is about to balance would drive currents
        forces.add(m.velocity, m.kick)

    def _viscosity(self, time: float) -> np.ndarray:
        """Of every particle, voxels^2/s."""
        value = self._carries("viscosity", self.state.particles, time)
        return np.asarray(value / np.float32(self.world.layout.dx**2))

    def _carries(self, name: str, what: Particles | MadeOf, time: float) -> np.ndarray:
        """What particles, or tiles, carry of a name as it acts at a moment: as thick as they are then."""
        w = self.world
        value = what.carried[:, w.carried.at(name).start]
        return value * w.thickness.of(what, w.carried, time, w.time_scale) if name in THICK else value

    def _at_cells(self, m: Moment, name: str, mean: Callable[..., np.ndarray] = viscosity.mean_at_cells) -> np.ndarray:
        """What particles carry of a name as it acts, at cells' centres."""
        assert m.made_of is not None
        value, like = (self._carries(name, what, m.time) for what in (self.state.particles, m.made_of))
        return mean(self.state.particles, value, m.tiling, m.tiles, like, m.hidden)

    def _surface(self, m: Moment, tally: Tally) -> pressure.Surface:
        """The free surface as the pressure meets it."""
        w, dx = self.world, self.world.layout.dx
        if "surface_tension" not in w.carried or m.reflects or w.tension == 0.0:
            return pressure.Surface(m.phi)
        stiff = w.tension * m.dt**2 / dx**3
        softening = tension.Softening.of(stiff)
        tally.tensed(softening.width, softening.share)
        bent = tension.curvature(m.phi, m.solids, m.before, tension.creep(stiff) / m.dt)
        bent = tension.softened(bent, softening, m.solids)
        pull = self._at_cells(m, "surface_tension")
        return pressure.Surface(m.phi, np.float32(softening.share * m.acting / dx**3) * pull * bent)

    def _project(self, m: Moment, tally: Tally) -> None:
        """Make the flow free of divergence."""
        w = self.world
        # what a wall bears acts for as long as what pulls at it: forces for both halves of a pair
        kick, dx = 2 * m.dt, w.layout.dx
        bears = w.wall_adhesion * kick / (w.density * dx**2) + tension.adhesion(m.solids) * w.tension * kick / dx**3
        bears = np.where(m.solids.touch[:, HOLDS] > 0, np.inf, bears)
        parting = Parting(m.system, m.surface, m.solids)
        half = int(m.reflects)
        m.valid, solution = parting.project(m.velocity, m.kick, bears, self.state.parted[half])
        m.solved, m.contact = parting.system, parting.solids
        self.state.parted = [parting.cells() if n == half else cells for n, cells in enumerate(self.state.parted)]
        tally.pressed(solution)
        tally.pushed(self._impulses(m, solution.value, m.reflects))

    def _impulses(self, m: Moment, value: np.ndarray, reflects: bool) -> np.ndarray:
        """What a projection gave to the bodies."""
        return reaction.impulses(m.solved, value, m.contact, m.velocity, m.before, reflects, self._centres(m.time))

    def _damp(self, m: Moment, tally: Tally) -> None:
        """Let viscosity act, and make what it leaves free of divergence again."""
        w = self.world
        if "viscosity" not in w.carried:
            return
        with tally.clocked("viscosity"):
            nu, nu_edge = self._at_cells(m, "viscosity", viscosity.at_cells), viscosity.AS_CELLS
            if "yield_stress" in w.carried:
                stress, index = self._at_cells(m, "yield_stress"), self._at_cells(m, "flow_index")
                nu, nu_edge = yielding.apparent(nu, stress, index, m.before, m.mass, m.contact)
                nu_edge /= np.float32(w.layout.dx**2)
            m.nu = nu / w.layout.dx**2
            m.velocity, m.valid = extrapolation.at_rim(m.velocity, m.before, m.valid, m.mass, m.tiles)
            if m.reflects:
                return
            pushed = [
                np.where(v > 0, u - u0, np.float32(0)) for u, u0, v in zip(m.velocity, m.before, m.valid, strict=True)
            ]
            m.velocity = extrapolation.outwards(m.velocity, m.valid, extrapolation.RIM, m.tiles)
            centre = self._centres(m.time)
            args = (m.velocity, pushed, m.phi, m.nu, m.contact, 2 * m.dt, nu_edge, centre)
            damped, acted, dragged = viscosity.act(*args)
            tally.damped(damped)
            tally.pushed(dragged)
        with tally.clocked("pressure"):
            valid, again = pressure.project(m.solved, pressure.Surface(m.phi), m.contact, m.velocity, np.zeros(3))
            m.valid = [np.maximum(a, b) for a, b in zip(valid, acted, strict=True)]
            tally.pressed_again(again)
            tally.pushed(self._impulses(m, again.value, reflects=False))

    def _extrapolate(self, m: Moment) -> None:
        """Give faces beyond the liquid, and in walls, the velocities that particles near them should see."""
        m.velocity = extrapolation.outwards(m.velocity, m.valid, m.reach, m.tiles)
        m.velocity = extrapolation.onto_walls(m.velocity, m.contact, self.world.wall_friction)
        if m.nu is not None:
            viscosity.stick(m.velocity, m.nu, m.contact)

    def _carry_back(self, m: Moment, tally: Tally, spikes_pass: bool) -> None:
        """Give particles the grid's velocities."""
        s, arranged = self.state, self._arranged(m)
        flip = self.world.flip_share
        s.speed = transfer.to_particles(arranged, m.velocity, m.before, flip, m.ballistic, m.kick, m.reflects)
        if m.film is not None:
            films.slow(arranged, m.film, self._viscosity(m.time), m.kick, m.solids, m.acting)
        move = s.speed * m.dt
        if not move <= SPIKE * m.expected and not spikes_pass:
            raise Spike
        if not np.isfinite(move):
            raise LiquidFailure("velocities are no longer finite; allow more substeps or slow the colliders down")
        tally.held_back += int(move > LONGEST_MOVE)
        tally.longest_move = max(tally.longest_move, min(move, LONGEST_MOVE))
        if not m.reflects:
            tally.flew(m.ballistic if m.film is None else m.ballistic & (m.film[:, 0] == 0), s.particles.velocity)

    def _advect(self, m: Moment, begin: np.ndarray) -> None:
        """Move particles, which began at (n, 3), and take away what leaves."""
        w, s, arranged = self.world, self.state, self._arranged(m)
        later = self._end(m)
        start = advection.advance(arranged, m.velocity, m.dt, LONGEST_MOVE, m.ballistic)
        walls = advection.Walls(*self.solid_world.distance_at(m.tiles, later), m.solids.motion)
        advection.keep_out(arranged, start, walls, m.ballistic, w.wall_friction, m.dt)
        thin.keep_apart(arranged, begin, m.solids.thin, m.solids.motion, m.ballistic, w.wall_friction)
        if m.reflects:
            swing.turn(start, arranged, m.ballistic, s.swing, 2 * m.dt)
        s.particles, left = advection.wrapped_and_drained(s.particles, m.tiling, w.discard)
        s.lost += left
        s.particles, swallowed = sources.drained(s.particles, w.drains, w.layout, later)
        s.drained += swallowed

    def _flow_below(self, m: Moment, shift: list[np.ndarray]) -> None:
        """Move what lies below the band, by the flow and by what spacing shifted at faces."""
        w, s = self.world, self.state
        if w.band <= 0:
            return
        below = m.below
        below.velocity = band.carry(m.velocity, m.before, below.volume, m.tiles, m.dt, m.reflects)
        way = [np.float32(m.dt) * u + d for u, d in zip(m.velocity, shift, strict=True)]
        given = band.flowed(below, way, m.solids, self._births(m))
        s.particles, s.next_id = s.particles.joined(given), s.next_id + len(given)
        s.drained += band.drained(below.volume, w.drains, m.tiles, self._end(m))
        s.bulk = Bulk.of(m.tiles, below)

    def _end(self, m: Moment) -> float:
        """Shot second at which a substep ends."""
        return m.time + m.dt / self.world.time_scale

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
