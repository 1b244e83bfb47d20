"""What a force does: lines along its push, from the very kernels that the solver takes it from."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.stats import qmc

from basin.geometry.pose import scale_of
from basin.geometry.shapes import Box, Sphere
from basin.liquid import forces
from basin.scene import Force, Scene
from basin.stages.assembly import forces_of

LINES, POINTS = 48, 24
LONG = 0.12  # of the zone's size that a line is long


@dataclass(frozen=True)
class Pushes:
    """Lines (n, 3) in metres along what liquid at rest feels, and how strong it is.

    Attributes
    ----------
    lines : of at most POINTS points; none where nothing is felt
    strongest, mean : m per liquid second squared, where it acts at all
    """

    lines: list[list[list[float]]]
    strongest: float
    mean: float


def pushes(scene: Scene, index: int, frame: int, quality: str) -> Pushes:
    """What a force does at a frame; nothing if it is no force or does not act then."""
    element = scene.elements[index]
    time = scene.time.shot_time(frame)
    if not isinstance(element, Force):
        return Pushes([], 0.0, 0.0)
    push = forces.push_at(forces_of(element, scene), time, scene.time.time_scale, 1.0, scene.liquid.density)
    if push is None:
        return Pushes([], 0.0, 0.0)
    skin = 1.0 / scene.voxel_size(quality)  # a surface that lies across its cell
    points, reach = _places(element, scene, time)
    felt = forces.felt(points, push, skin)
    strength = np.linalg.norm(felt, axis=1)
    some = strength > 1e-9
    if not some.any():
        return Pushes([], 0.0, 0.0)
    lines = _lines(points[some], push, skin, LONG * reach)
    return Pushes(lines, float(strength.max()), float(strength[some].mean()))


def _places(element: Force, scene: Scene, time: float) -> tuple[np.ndarray, float]:
    """Points (n, 3) spread over a force's zone, or the domain; and how large (m) that is."""
    share = qmc.Halton(3, scramble=False).random(LINES + 1)[1:]
    low, size = np.array(scene.domain.low), np.array(scene.domain.size)
    if isinstance(element.zone, Box | Sphere):
        matrix = scene.placement(element).matrix(time)
        half = np.array(element.zone.size) / 2 if isinstance(element.zone, Box) else np.full(3, element.zone.radius)
        own = (2 * share - 1) * half
        points = own @ matrix[:3, :3].T + matrix[:3, 3]
        return points, 2 * float(half.max()) * scale_of(matrix)
    return low + share * size, float(size.max())


def _lines(start: np.ndarray, push: forces.Push, skin: float, long: float) -> list[list[list[float]]]:
    """Lines (m) from points (n, 3) along what is felt, by midpoint steps; longer where it is stronger."""
    first = np.linalg.norm(forces.felt(start, push, skin), axis=1)
    step = long / (POINTS - 1) * (0.25 + 0.75 * first / first.max())[:, None]

    def way(points: np.ndarray) -> np.ndarray:
        felt = forces.felt(points, push, skin)
        return np.asarray(felt / np.maximum(np.linalg.norm(felt, axis=1, keepdims=True), 1e-12))

    path = [start]
    for _ in range(POINTS - 1):
        middle = path[-1] + 0.5 * step * way(path[-1])
        path.append(path[-1] + step * way(middle))
    return [[[round(float(x), 5) for x in point] for point in one] for one in np.stack(path, axis=1)]
