"""The liquid stage: frames between the solver and the cache."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Any

import numpy as np

from basin.cache import StageCache
from basin.geometry.shapes import Box, MeshShape
from basin.grid.layout import PAD, TILE, Layout
from basin.liquid import texture
from basin.liquid.band import Bulk
from basin.liquid.particles import Particles
from basin.liquid.room import WHOLE
from basin.liquid.step import ALGORITHM, Liquid
from basin.liquid.swing import Swing
from basin.liquid.world import LiquidFailure, LiquidFields, LiquidState, Tally
from basin.readings import Reading
from basin.scene import Advice, Collider, Force, Scene
from basin.stages import samples
from basin.stages.advice.frames import flies_away
from basin.stages.assembly import liquid_world
from basin.stages.carrying import carried_by
from basin.stages.costs import liquid_cost
from basin.stages.keys import liquid_keys
from basin.stages.stage import Cost, Job, Keys, Look, Made, Stage, Walk, register
from basin.stages.view import pack_particles

DEEP = -2.0  # voxels under the surface, from where on cells should be full
BAND = 2.49  # voxels: tiles whose level set never comes nearer to the surface from outside are left out


def frame_arrays(liquid: Liquid, fields: LiquidFields, frame: int | None = None) -> dict[str, np.ndarray]:
    """A liquid frame: particles in metres and shot seconds, sparse tiles of level set and velocity.

    With the number of the frame its rest positions come with their weights.
    """
    layout = liquid.world.layout
    return {
        **particle_arrays(liquid, frame),
        **_tiles(layout, fields, liquid.world.time_scale * layout.dx),
        "grid_low": layout.low - PAD * layout.dx,
        "grid_voxel": np.array(layout.dx),
    }


def particle_arrays(liquid: Liquid, frame: int | None = None) -> dict[str, np.ndarray]:
    """The particles of a `frame_arrays`."""
    layout, p = liquid.world.layout, liquid.state.particles
    per_shot = liquid.world.time_scale * layout.dx
    return {
        "position": layout.to_metres(p.position),
        "velocity": (p.velocity * np.float32(per_shot)).astype(np.float32),
        "id": p.id,
        "source": p.source,
        "volume": (p.volume * np.float32(layout.dx**3)).astype(np.float32),
        "born": (p.born / np.float32(liquid.world.time_scale)).astype(np.float32),
        **_carried(liquid, frame),
        "particle_spacing": np.array(layout.dx * liquid.world.particles_per_cell ** (-1 / 3)),
    }


def _carried(liquid: Liquid, frame: int | None) -> dict[str, np.ndarray]:
    """What particles carry along, by names."""
    w, carried = liquid.world, liquid.state.particles.carried
    found: dict[str, np.ndarray] = {}
    for row in w.carried.columns:
        column = carried[:, w.carried.at(row.name)]
        found[row.name] = column * np.float32(w.density) if row.per_density else column
        if row.width == 1:
            found[row.name] = found[row.name][:, 0]
    if w.texture_clock:
        if frame is None:
            return {name: value for name, value in found.items() if name not in texture.NAMES}
        share = texture.second_share(frame - w.first_frame, w.texture_clock)
        found["rest_share"] = np.array(share, np.float32)
    return found


def _tiles(layout: Layout, fields: LiquidFields, per_shot: float) -> dict[str, np.ndarray]:
    used = (fields.phi < BAND).any(axis=(1, 2, 3))
    return {
        "tile": fields.tiles.first[used] // TILE,
        "tile_held": (fields.bulk[used] > 0).astype(np.uint8),
        "tile_phi": (fields.phi[used] * np.float32(layout.dx)).astype(np.float32),
        **{
            f"tile_{name}": (field[used] * np.float32(per_shot)).astype(np.float32)
            for name, field in zip("uvw", fields.velocity, strict=True)
        },
    }


def state_arrays(state: LiquidState) -> dict[str, np.ndarray]:
    """A restart state as arrays."""
    counters = np.array([state.next_id, state.epoch], np.int64)
    bulk = state.bulk
    return {
        **state.particles.arrays(),
        "bulk_tile": bulk.number,
        "bulk_volume": bulk.volume,
        "bulk_owed": bulk.owed,
        "bulk_velocity": bulk.velocity,
        "swing_tile": state.swing.number,
        "swing_pull": state.swing.pull,
        "counters": counters,
        "parted": np.concatenate(state.parted),
        "parted_first": np.array(len(state.parted[0]), np.int64),
        "sums": np.array([state.dt_before, state.lost, state.drained, state.poured]),
    }


def state_from(arrays: Mapping[str, Any]) -> LiquidState:
    """The state that `state_arrays` wrote."""
    next_id, epoch = (int(x) for x in arrays["counters"])
    dt_before, lost, drained, poured = (float(x) for x in arrays["sums"])
    bulk = Bulk(*(arrays[f"bulk_{name}"] for name in ("tile", "volume", "owed", "velocity")))
    parted = np.split(arrays["parted"], [int(arrays["parted_first"])])
    swing = Swing(arrays["swing_tile"], arrays["swing_pull"])
    sums = (dt_before, next_id, epoch, lost, drained, poured)
    return LiquidState(Particles.of(arrays), *sums, bulk, swing, parted=list(parted))


def uneven_share(particles: Particles, fields: LiquidFields, per_cell: int) -> float:
    """Share of the cells deep in the liquid with fewer than half or more than twice the particles meant for one."""
    tiles = fields.tiles
    cell = particles.position.astype(np.int64)
    row = tiles.where[tuple((cell // TILE + 1).T)].astype(np.int64)
    within = (cell % TILE) @ np.array([TILE * TILE, TILE, 1])
    count = np.bincount(row * TILE**3 + within, minlength=fields.phi.size)
    deep = count[((fields.phi < DEEP) & (fields.room > WHOLE) & (fields.bulk == 0)).ravel()]
    return float(np.mean((2 * deep < per_cell) | (deep > 2 * per_cell))) if len(deep) else 0.0


READINGS = (
    Reading("speed_max", "Largest speed", "m/s"),
    Reading("speed_together", "Largest speed but for what flies alone", "m/s"),
    Reading("particles", "Particles"),
    Reading("alone", "Particles that fly alone"),
    Reading("volume", "Liquid volume", "m³"),
    Reading("volume_seen", "Volume inside the level set", "m³"),
    Reading("lost_volume", "Left through open walls", "m³"),
    Reading("drained_volume", "Left in drains", "m³"),
    Reading("substeps", "Substeps"),
    Reading("iterations", "Pressure iterations"),
    Reading("residual", "Residual of the pressure"),
    Reading("viscous_iterations", "Iterations of viscosity"),
    Reading("viscous_residual", "Residual of viscosity"),
    Reading("second_iterations", "Pressure iterations after viscosity"),
    Reading("second_residual", "Residual of the pressure after viscosity"),
    Reading("tension_width", "Width over which curvature is seen", "voxels"),
    Reading("tension_share", "Share of the surface tension that acts"),
    Reading("unconverged", "Solves that did not converge"),
    Reading("closed_pockets", "Closed pockets"),
    Reading("squeezed", "Pressed out of pockets", "m³/s"),
    Reading("longest_move", "Longest way in a substep", "voxels"),
    Reading("uneven", "Cells held unevenly, share"),
    Reading("redone", "Substeps done again"),
    Reading("held_back", "Substeps that held liquid back"),
    Reading("seconds", "Seconds per frame", "s"),
    Reading("force.", "Force on {}", "N"),
    Reading("torque.", "Torque on {}", "N m"),
)


def frame_readings(liquid: Liquid, fields: LiquidFields, tally: Tally) -> dict[str, float]:
    """Numbers measured on a frame; volumes in m3, speeds in m/s per shot second."""
    w, p = liquid.world, liquid.state.particles
    cell = w.layout.dx**3
    speed = np.sqrt((p.velocity * p.velocity).sum(axis=1)) if len(p) else np.zeros(1)
    # the sum over a tile first: what lies in it does not change with the tiles that there are
    # and only what is open: the level set goes on into walls
    full = (np.clip(0.5 - fields.phi, 0, 1) * fields.own).sum(axis=(1, 2, 3), dtype=np.float64).sum() * cell
    thick = {
        "viscous_iterations": float(tally.viscous_iterations),
        "viscous_residual": tally.viscous_residual,
        "second_iterations": float(tally.second_iterations),
        "second_residual": tally.second_residual,
    }
    tense = {"tension_width": tally.tension_width, "tension_share": tally.tension_share}
    return {
        "particles": float(len(p)),
        "volume": (float(p.volume.sum(dtype=np.float64)) + liquid.state.bulk.total()) * cell,
        "volume_seen": float(full),
        "lost_volume": liquid.state.lost * cell,
        "drained_volume": liquid.state.drained * cell,
        "speed_max": float(speed.max()) * w.layout.dx * w.time_scale,
        "speed_together": tally.together * w.layout.dx * w.time_scale,
        "alone": float(tally.alone),
        "substeps": float(tally.substeps),
        "iterations": float(tally.iterations),
        "residual": tally.residual,
        **(thick if "viscosity" in w.carried else {}),
        **(tense if "surface_tension" in w.carried else {}),
        "unconverged": float(tally.unconverged),
        "closed_pockets": float(tally.closed_components),
        "squeezed": tally.squeezed * cell * w.time_scale,
        "longest_move": tally.longest_move,
        "uneven": uneven_share(p, fields, w.particles_per_cell),
        "redone": float(tally.redone),
        "held_back": float(tally.held_back),
        **_pushes(liquid, tally),
    }


def _pushes(liquid: Liquid, tally: Tally) -> dict[str, float]:
    """Mean force (N) and torque about its origin (N m) on each collider over a frame, by its name."""
    w = liquid.world
    scale = w.density * w.layout.dx**4 / (w.frame_seconds * w.time_scale)
    total: dict[str, np.ndarray] = {}
    for body, impulse in zip(w.bodies, tally.impulse, strict=False):  # one that is switched on twice is two bodies
        total[body.name] = total.get(body.name, np.zeros(6)) + impulse
    found: dict[str, float] = {}
    for name, impulse in total.items():
        force, torque = impulse[:3] * scale, impulse[3:] * scale * w.layout.dx
        found[f"force.{name}"] = float(np.linalg.norm(force))
        for axis in range(3):
            found[f"force.{name}.{'xyz'[axis]}"] = float(force[axis])
            found[f"torque.{name}.{'xyz'[axis]}"] = float(torque[axis])
    return found


class LiquidWalk(Walk):
    """A liquid on its way through a shot."""

    def __init__(self, liquid: Liquid) -> None:
        self.liquid = liquid

    def advance(self, frame: int, stop: Callable[[], bool]) -> Made | None:
        """Go on to a frame; None if asked to stop between substeps."""
        liquid = self.liquid
        if frame == liquid.world.first_frame:
            fields, tally = liquid.begin(), Tally()
        else:
            made = liquid.advance_frame(frame, stop)
            if made is None:
                return None
            fields, tally = made
        return Made(frame_arrays(liquid, fields, frame), frame_readings(liquid, fields, tally))

    def state(self) -> dict[str, np.ndarray]:
        """The restart state."""
        return state_arrays(self.liquid.state)


class LiquidStage(Stage):
    """Particles and what the grid knows of them."""

    name = "liquid"
    title = "Liquid"
    verb = "Run"
    seen = "Particles"
    absent = "This frame has no liquid yet."
    letter = "p"
    kind = "points"
    colouring = "speed"
    definition = "LiquidSettings"
    part = "liquid"
    gives = ("grids",)
    sequential = True
    readings = READINGS
    failures = (LiquidFailure, OverflowError)

    def on_demand(self, scene: Scene | None) -> bool:
        """Where a sea is all that there is."""
        return scene is not None and scene.is_sea_alone()

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """See `basin.stages.keys`."""
        return liquid_keys(job.scene, job.files, job.quality, ALGORITHM)

    def walk(self, job: Job, state: Mapping[str, np.ndarray] | None) -> LiquidWalk:
        """From a restart state, or from the fills of the first frame."""
        world = liquid_world(job.scene, job.files, job.quality)
        return LiquidWalk(Liquid(world, None if state is None else state_from(state)))

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """Points."""
        return pack_particles(store, frame, look.budget, look.by, look.time)

    def cost(self, job: Job) -> Cost:
        """By the most particles that there will be."""
        return liquid_cost(job.scene, job.files, job.quality)

    def noticed(self, job: Job) -> list[Advice]:
        """Particles that fly away."""
        return flies_away(job, self.name)

    def warm_up(self) -> list[dict[str, Any]]:
        """Water first."""
        return samples.liquids()

    def needs(self, scene: Scene) -> Collection[int]:
        """Few scenes need all."""
        carried, liquid = carried_by(scene), scene.liquid
        thin = any(e.side == "shell" or isinstance(e.shape, MeshShape | Box) for e in scene.of_kind(Collider))
        pushed = scene.of_kind(Force) or any("periodic" in pair for pair in scene.domain.walls.pairs())
        special = liquid.band > 0 or liquid.texture_clock > 0
        return [0, *([1] if carried.width or thin else []), *([2] if pushed else []), *([3] if special else [])]


register(LiquidStage())
