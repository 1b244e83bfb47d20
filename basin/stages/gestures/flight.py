"""How a stream flies before it meets something: the parabola that every piece of it falls along.

No air and no spreading: each piece flies by itself, x(t) = x0 + v t + g t^2 / 2, and the stream thins as it quickens,
so that its litres a second stay (Torricelli; the drawn-out thread of any textbook of fluid mechanics). What is thick
holds itself back: it lands slower and wider (`basin.stages.regime.landing`).
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, replace
from threading import Lock

import numpy as np

from basin.geometry.deforming import Deforming
from basin.geometry.distance import Distance
from basin.geometry.pose import scale_of
from basin.geometry.shapes import FlatOpening, MeshShape
from basin.liquid.sources import InflowSource
from basin.liquid.thickness import Thickness
from basin.scene import Collider, Fill, Inflow, Scene
from basin.scene.model import Source, Substance
from basin.settings import value_at
from basin.stages.assembly import distance_of, inflow_sources
from basin.stages.files import SceneFiles, Shaped
from basin.stages.regime import landing

LONGEST = 20.0  # shot seconds that a stream is followed
MOST_POINTS = 1500
AWAY = 1.5  # voxels that a stream must have flown before what it comes from can be met
MOST_NODES = 120_000  # of a mesh's distance
MOST_KEPT = 48  # distances of colliders
MOST_BYTES = 300_000_000  # of them
DEFORMING_BYTES = 60_000_000
WALLS = ("x_min", "x_max", "y_min", "y_max", "z_min", "z_max")
NAMED = {"x_min": "the wall at least x", "x_max": "the wall at most x", "y_min": "the floor", "y_max": "the ceiling"}
NAMED |= {"z_min": "the wall at least z", "z_max": "the wall at most z"}


@dataclass(frozen=True)
class Flight:
    """A stream's way from its opening to what it first meets.

    Attributes
    ----------
    path : (n, 3) m; times : (n,) shot seconds since it left
    met : the collider or wall that it meets; empty if it goes on out of the domain
    leaves : whether it goes out through an open wall
    time, frame : shot second and frame at which its first liquid is there
    speed : m per shot second there; leaving : the same at the opening
    width : m across the stream there; voxels : the same in voxels
    litres_per_second, litres : of shot time, and from start to end of the shot
    """

    path: list[list[float]]
    times: list[float]
    met: str
    leaves: bool
    time: float
    frame: int
    speed: float
    leaving: float
    width: float
    voxels: float
    litres_per_second: float
    litres: float


def flight(scene: Scene, files: SceneFiles, index: int, quality: str, frame: int | None = None) -> Flight | None:
    """The flight of an inflow's liquid that leaves at a frame (its start if None); None if it does not fly.

    Raises
    ------
    SceneError
        If the element is no inflow.
    """
    element = scene.elements[index]
    if not isinstance(element, Inflow) or element.amount == "full":
        return None
    mouth = (
        None
        if isinstance(element.shape, FlatOpening)
        else kept_distance(element, scene, files, scene.voxel_size("draft"))
    )
    sources = inflow_sources(element, index, scene, files, mouth)
    if not sources:
        return None
    source, scale = sources[0], scene.time.time_scale
    start = source.start / scale if frame is None else scene.time.shot_time(frame)
    matrix = source.pose.matrix(start)
    velocity = source.speed_at(start) * scale  # per shot second, as it is seen
    speed = float(np.linalg.norm(velocity))
    gravity = value_at(scene.liquid.gravity, start) * scale**2
    if speed < 1e-6 and not gravity.any():
        return None
    dx = max(scene.voxel_size(quality), scene.voxel_size("draft"))  # of solids: finer ones are too dear for a gesture
    times = _moments(velocity, gravity, dx, np.array(scene.domain.size))
    origin = matrix[:3, 3] if isinstance(element.shape, FlatOpening) else _middle(source, matrix)
    path = origin + velocity * times[:, None] + 0.5 * gravity * times[:, None] ** 2
    end, met, leaves = _meets(scene, files, path, times + start, dx)
    there = velocity + gravity * times[end]
    fall = max(float(path[0, 1] - path[end, 1]), 0.0)
    arrival = float(np.linalg.norm(there)) * _held_back(scene, element, fall, speed, float(times[end]))
    rate = source.area_at(start) * speed
    width = 2 * np.sqrt(rate / max(arrival, 1e-9) / np.pi)
    return Flight(
        path=path[: end + 1].tolist(),
        times=times[: end + 1].tolist(),
        met=met,
        leaves=leaves,
        time=start + float(times[end]),
        frame=int(np.ceil(scene.time.first + (start + float(times[end])) * scene.time.fps - 1e-6)),
        speed=arrival,
        leaving=speed,
        width=float(width),
        voxels=float(width / scene.voxel_size(quality)),
        litres_per_second=rate * 1000,
        litres=_litres(sources, scene, rate),
    )


def falls(scene: Scene, files: SceneFiles, index: int, placed: np.ndarray, quality: str) -> tuple[float, str]:
    """Speed (m/s of liquid time) at which a fill meets what is below it, and what that is; "" if it meets nothing.

    Parameters
    ----------
    placed : (n, 3) points of it where it is put in, m
    """
    element, scale = scene.elements[index], scene.time.time_scale
    assert isinstance(element, Fill)
    start = 0.0 if element.start_frame is None else scene.time.shot_time(element.start_frame)
    velocity, gravity = np.array(element.velocity), value_at(scene.liquid.gravity, start) * scale**2
    if not velocity.any() and not gravity.any():
        return 0.0, ""
    way = velocity if velocity.any() else gravity
    along = (placed - placed.mean(axis=0)) @ (way / np.linalg.norm(way))
    front = placed.mean(axis=0) + float(along.max()) * way / np.linalg.norm(way)
    dx = max(scene.voxel_size(quality), scene.voxel_size("draft"))
    times = _moments(velocity, gravity, dx, np.array(scene.domain.size))
    path = front + velocity * times[:, None] + 0.5 * gravity * times[:, None] ** 2
    end, met, leaves = _meets(scene, files, path, times + start, dx)
    for other in scene.of_kind(Fill):
        if other is element or other.start_frame != element.start_frame:
            continue
        phi = (
            kept_distance(other, scene, files, dx)
            .at_time(0.0)
            .placed_at(path[: end + 1], scene.placement(other).matrix(0.0))
        )
        wet = np.flatnonzero(phi <= 0)
        if len(wet) and wet[0] < end:
            end, met, leaves = int(wet[0]), other.name, False
    return float(np.linalg.norm(velocity + gravity * times[end])) / scale, "" if leaves else met


def as_thick(source: Source, scene: Scene, age: float) -> Substance:
    """A source's liquid as thick as it is at an age (shot seconds)."""
    made, liquid = source.made_of(scene.liquid.density), scene.liquid
    start = max(getattr(source, "start", 0.0), 0.0)
    thick = Thickness(liquid.thickness, liquid.thickens_with, liquid.thickenings)
    times = float(thick.at(start + age, np.float32(age if liquid.thickens_with == "age" else source.mark)))
    return replace(made, viscosity=made.viscosity * times, yield_stress=made.yield_stress * times)


def _held_back(scene: Scene, element: Inflow, fall: float, leaving: float, age: float) -> float:
    """Share of the speed of a free fall (m) that a stream lands with which leaves at a speed, m per shot second."""
    made, scale = as_thick(element, scene, age), scene.time.time_scale
    down = float(np.linalg.norm(value_at(scene.liquid.gravity, 0.0)))
    if made.viscosity == 0 or down == 0 or leaving == 0:
        return 1.0
    own = (leaving / scale, fall, down)
    return landing(made.viscosity / made.density, *own) / landing(0.0, *own)


def _moments(velocity: np.ndarray, gravity: np.ndarray, dx: float, size: np.ndarray) -> np.ndarray:
    """Shot seconds (n,) at which the path is looked at: until it must have left, at most half a voxel apart."""
    reach = 2.0 * float(np.linalg.norm(size))
    speed, pull = float(np.linalg.norm(velocity)), float(np.linalg.norm(gravity))
    fall = np.sqrt(2 * reach / pull) if pull > 0 else np.inf
    longest = min(LONGEST, reach / speed if pull == 0 else fall + 2 * speed / pull)
    coarse = np.linspace(0.0, longest, 400)[:, None]
    away = np.linalg.norm(velocity * coarse + 0.5 * gravity * coarse**2, axis=1) > reach
    longest = float(coarse[int(away.argmax()), 0]) if away.any() else longest
    count = int(np.clip(longest * (speed + pull * longest) / (0.5 * dx), 60, MOST_POINTS))
    return np.linspace(0.0, longest, count)


def _middle(source: InflowSource, matrix: np.ndarray) -> np.ndarray:
    """The middle of an inflow's shape."""
    shape = source.distance.at_time(0.0) if isinstance(source.distance, Deforming) else source.distance
    assert shape is not None
    return np.asarray(shape.corners(matrix).mean(axis=0))


def _litres(sources: list[InflowSource], scene: Scene, rate: float) -> float:
    """Litres until the shot's end."""
    last, scale = scene.time.shot_time(scene.time.last), scene.time.time_scale
    seconds = sum(max(min(s.end / scale, last) - max(s.start / scale, 0.0), 0.0) for s in sources)
    return rate * 1000 * seconds


def _meets(scene: Scene, files: SceneFiles, path: np.ndarray, moments: np.ndarray, dx: float) -> tuple[int, str, bool]:
    """Where the path ends: index of its last point, what it meets there, whether it leaves through an open wall."""
    low = np.array(scene.domain.low)
    high = low + np.array(scene.domain.size)
    outside = np.flatnonzero(((path < low) | (path > high)).any(axis=1))
    end, met, leaves = len(path) - 1, "", False
    inside = ((path >= low) & (path <= high)).all(axis=1)
    if inside.any():
        after = outside[outside > np.flatnonzero(inside)[0]]
        if len(after):
            end = int(after[0])
            out = np.concatenate([low - path[end], path[end] - high])[[0, 3, 1, 4, 2, 5]]
            wall = WALLS[int(out.argmax())]
            leaves = getattr(scene.domain.walls, wall) == "open"
            met = "" if leaves else NAMED[wall]
    flown = np.concatenate([[0.0], np.linalg.norm(np.diff(path, axis=0), axis=1).cumsum()])
    for element in scene.of_kind(Collider):
        phi = _distances(element, scene, files, path[: end + 1], moments[: end + 1], dx)
        free = np.flatnonzero((phi > 0.25 * dx) | (flown[: end + 1] > AWAY * dx))
        if not len(free):
            continue
        solid = np.flatnonzero(phi[free[0] :] <= 0) + free[0]
        if len(solid) and solid[0] < end:
            end, met, leaves = int(solid[0]), element.name, False
    return end, met, leaves


def _distances(
    element: Collider, scene: Scene, files: SceneFiles, path: np.ndarray, moments: np.ndarray, dx: float
) -> np.ndarray:
    """Distance (n,) of a collider from points (n, 3), each at its own moment; far away while it does not act."""
    pose = scene.placement(element)
    held = kept_distance(element, scene, files, dx)
    # what deforms is looked at as it is when the stream leaves: its forms are too dear for a gesture
    form = held.at_time(float(moments[0]))
    if pose.moves():
        matrices = np.stack([pose.matrix(float(t)) for t in moments])
        inverse = np.linalg.inv(matrices)
        own = np.einsum("nij,nj->ni", inverse[:, :3, :3], path) + inverse[:, :3, 3]
        found = form.at(own) * scale_of(matrices[0])
    else:
        found = form.placed_at(path, pose.matrix(0.0))
    acts = np.zeros(len(path), bool)
    for begin, until in element.spans():
        acts |= (moments >= begin) & (moments <= until)
    return np.where(acts, found, np.inf)


_kept: OrderedDict[tuple[object, ...], Distance | Deforming] = OrderedDict()
_lock = Lock()


def kept_distance(element: Shaped, scene: Scene, files: SceneFiles, dx: float) -> Distance | Deforming:
    """`distance_of` an element, kept at hand: gestures ask for the same ones many times a second.

    Large meshes are sampled more coarsely than every `dx` metres, so that nobody waits for far too fine a voxel.
    """
    pose, shape = scene.placement(element), element.shape
    where = () if pose.moves() else (*scene.domain.low, *scene.domain.size, pose.matrix(0.0).tobytes())
    file = ""
    if isinstance(shape, MeshShape):
        file = str(files.stamp(scene)) if shape.is_sequence() else files.mesh_digest(shape)
    solid = (element.side, element.thickness) if isinstance(element, Collider) else ()
    key = (shape.model_dump_json(), file, *solid, dx, *where)
    with _lock:
        if key in _kept:
            _kept.move_to_end(key)
            return _kept[key]
    made = distance_of(element, scene, files, dx, MOST_NODES)
    with _lock:
        _kept[key] = made
        while len(_kept) > 1 and (len(_kept) > MOST_KEPT or sum(map(_size, _kept.values())) > MOST_BYTES):
            _kept.popitem(last=False)
    return made


def _size(held: Distance | Deforming) -> int:
    """Bytes of a distance, about."""
    return held.field.nbytes if isinstance(held, Distance) else DEFORMING_BYTES
