"""Where liquid comes into a run: fills at their frames, inflows between substeps, and what it is born with."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from basin.liquid import sources, texture
from basin.liquid.solids import SolidWorld
from basin.liquid.sources import FillSource, InflowSource, Newborn, Stream
from basin.liquid.world import LiquidState, LiquidWorld


@dataclass(frozen=True)
class _Poured:
    """What a source gives at a shot second: points (n, 3) in metres, volume of each and velocities, in voxels."""

    points: np.ndarray
    volume: float
    velocity: np.ndarray
    time: float
    crowded: float = sources.CROWDED


def fill(world: LiquidWorld, state: LiquidState, solids: SolidWorld, frame: int) -> None:
    """Put in the fills of a frame."""
    time, dx = (frame - world.first_frame) * world.frame_seconds, world.layout.dx
    for source in world.fills:
        if source.frame == frame:
            points, volume = sources.fill_particles(source, world.layout, solids, world.particles_per_cell, time)
            pace = source.carry * _own_velocity(world, source, points, time)
            _put(world, state, solids, source, _Poured(points, volume, (source.velocity + pace) / dx, time))


def pour(world: LiquidWorld, state: LiquidState, solids: SolidWorld, time: float, ahead: np.ndarray) -> None:
    """Put in what the inflows gave since the last substep, up to a shot second; nothing while there is enough.

    Parameters
    ----------
    ahead : (3,) voxels/s of gravity, which is taken off
    """
    now, dx, per_cell = time * world.time_scale, world.layout.dx, world.particles_per_cell
    for source in world.inflows:
        if world.particles_most is not None and len(state.particles) >= world.particles_most:
            return
        if source.full:
            if source.start <= now <= source.end:
                there = (state.particles, world.layout, per_cell, time, state.epoch)
                points, volume = sources.missing_particles(source, *there)
                pace = source.carry * _own_velocity(world, source, points, time)
                _put(world, state, solids, source, _Poured(points, volume, pace / dx - ahead, time, 0.0))
            continue
        stream = Stream(world.layout, per_cell, world.time_scale, float(np.linalg.norm(world.gravity_at(time))))
        points, pace, volume = sources.inflow_particles(source, stream, now - state.dt_before, now)
        if len(points):
            # a shape that opens takes in what lies in it already; from then on all that is asked for pushes its way
            opens = source.flow is None and source.opens(now - state.dt_before, now)
            crowded = sources.CROWDED * min(volume * per_cell, 1.0) if opens else 0.0
            _put(world, state, solids, source, _Poured(points, volume, pace / dx - ahead, time, crowded))


def _own_velocity(world: LiquidWorld, source: FillSource | InflowSource, points: np.ndarray, time: float) -> np.ndarray:
    return sources.own_velocity(source.pose, world.time_scale, time, points, source.distance)


def _put(
    world: LiquidWorld, state: LiquidState, solids: SolidWorld, source: FillSource | InflowSource, poured: _Poured
) -> None:
    """Put in what there is room for, with what it carries."""
    layout, per_cell, time = world.layout, world.particles_per_cell, poured.time
    place = layout.to_voxels(poured.points).astype(np.float32)
    free = sources.open_places(place, layout, solids, time)
    velocity = np.broadcast_to(poured.velocity, place.shape)[free]
    born = time * world.time_scale
    newborn = Newborn(place[free], poured.volume, velocity, source.number, born, poured.crowded)
    count = len(state.particles)
    state.particles, state.next_id = sources.put_in(state.particles, newborn, per_cell, state.next_id)
    if world.carried.width and len(state.particles) > count:
        _endow(world, state, source, count, time)
    state.poured += poured.volume * (len(state.particles) - count)
    state.speed = None


def _endow(world: LiquidWorld, state: LiquidState, source: FillSource | InflowSource, first: int, time: float) -> None:
    """Give particles from a row on what their source's liquid carries."""
    carried, number = state.particles.carried[first:], state.particles.id[first:]
    metres = world.layout.to_metres(state.particles.position[first:]).astype(np.float64)
    inverse = np.linalg.inv(source.pose.matrix(time))
    points = metres @ inverse[:3, :3].T + inverse[:3, 3]
    for names, values in source.given.items():
        carried[:, world.carried.at(*names)] = values(points, number, time)
    for name in texture.NAMES:
        if name in world.carried:
            carried[:, world.carried.at(name)] = metres


def renew_texture(world: LiquidWorld, state: LiquidState, frame: int) -> None:
    """Renew the rest positions whose turn it is at a frame."""
    if world.texture_clock:
        metres = world.layout.to_metres(state.particles.position)
        for one in texture.renewed(frame - world.first_frame, world.texture_clock):
            state.particles.carried[:, world.carried.at(texture.NAMES[one])] = metres
