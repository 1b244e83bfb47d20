"""Meshes one frame, or a region of it, again and again while settings change; keeps at hand what does not change."""

from __future__ import annotations

import time as clock
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy.spatial import cKDTree

from basin.cache import Cache, DamagedFrame
from basin.scene import Scene, SceneError, parse_scene
from basin.stages.bodies import bodies
from basin.stages.files import SceneFiles, keep_mesh
from basin.stages.surface_stage import SurfaceStage, SurfaceWorld
from basin.stages.view import attributes, dots, pack_mesh, shaded
from basin.surface.field import Points, SurfaceFailure
from basin.surface.health import health
from basin.surface.level import Whole
from basin.surface.mesh import SurfaceFrame, Surroundings, surface_frame
from basin.surface.settings import SurfaceSettings

(SOURCE,) = SurfaceStage.reads
RIM = 3.0  # kernel radii of particles about a region that are meshed with it
SAMPLED = 20_000  # vertices and particles at which thickness and room are looked at
THIN = 0.01  # share of the surface that may be thinner than the thickness that is told
MOST_THICK = 24  # voxels: beyond, liquid does not count as a sheet


class JudgeFailure(ValueError):
    """A frame that cannot be meshed; the message is a sentence for the artist."""


@dataclass(frozen=True)
class Asked:
    """What is to be looked at.

    Attributes
    ----------
    folder, cache : of the scene's files, and of its frames at the quality
    scene : the scene document with the settings as they are now
    middle, reach : of the region in metres, half its edge; the whole frame without a middle
    coarser : times the surface's voxel, for a quick look
    lived : of births, how many frames of life there are before the one that is seen
    by : attribute to colour by, "difference" for the way from the last setting; nothing for none
    """

    folder: Path
    cache: Path
    scene: dict[str, Any]
    quality: str
    frame: int
    middle: tuple[float, float, float] | None = None
    reach: float = 0.0
    coarser: float = 1.0
    by: str = ""
    lived: int = 0


@dataclass
class Judge:
    """Keeps one frame's particles and the last fields, so that only what changed is computed."""

    _held: tuple[Any, dict[str, np.ndarray]] | None = None
    _world: tuple[Any, SurfaceWorld] | None = None
    _last: dict[Any, tuple[Any, Whole | None]] = field(default_factory=dict)
    _before: dict[Any, Whole | None] = field(default_factory=dict)

    def look(self, asked: Asked) -> bytes:
        """The frame's surface packed for the viewport, its facts in the header; JudgeFailure if it cannot be made."""
        start = clock.perf_counter()
        scene, points, settings, around, voxel = self._ready(asked)
        try:
            surface = surface_frame(points, voxel, settings, around)
        except SurfaceFailure as error:
            raise JudgeFailure(str(error)) from None
        seconds = clock.perf_counter() - start
        facts = _facts(surface, points, voxel, self._volume(asked, scene), asked.middle is None)
        missed = left_out(surface, points)
        if asked.middle is not None:
            missed &= (np.abs(points.position - np.array(asked.middle)) < asked.reach).all(axis=1)
        if settings.cuts:  # what they take away is not missing
            missed[:] = False
        else:
            facts |= {"left_out": float(missed.sum()), "left_out_volume": float(points.volume[missed].sum())}
        surface = _within(surface, asked)
        held = dict(surface.attributes)
        before = self._remember(asked, scene.surface, surface.field)
        if before is not None and len(surface.position):
            held["difference"] = (1000 * before.at(surface.position)).astype(np.float32)
        choices = attributes(held)
        shading: Any = ({}, [])
        if asked.by in choices and len(surface.position):
            shading = shaded(held, asked.by, time=scene.time.shot_time(asked.frame))
        elif len(surface.position):
            shading = ({}, [("body", bodies(scene).coded({"position": surface.position, **held}).ravel())])
        facts |= {"seconds": seconds, "voxel_mm": 1000 * voxel}
        beside = dots("left_out", points.position[missed], points.spacing)
        return pack_mesh(surface.position, surface.triangle, shading, beside, choices=choices, facts=facts)

    def freeze(self, asked: Asked, path: Path) -> int:
        """Write the frame's whole surface as a PLY file of its own; returns its number of triangles."""
        _, points, settings, around, voxel = self._ready(replace(asked, middle=None, coarser=1.0))
        try:
            surface = surface_frame(points, voxel, settings, around)
        except SurfaceFailure as error:
            raise JudgeFailure(str(error)) from None
        if len(surface.triangle) == 0:
            raise JudgeFailure("this frame has no surface to freeze")
        keep_mesh(path, surface.position, surface.triangle, surface.attributes)
        return len(surface.triangle)

    def _ready(self, asked: Asked) -> tuple[Scene, Points, SurfaceSettings, Surroundings, float]:
        """What `surface_frame` takes, cropped to the region."""
        try:
            scene = parse_scene(asked.scene)
            points, voxel, settings, around = self._among(asked, scene).frame(self._data(asked), asked.frame)
        except (SceneError, DamagedFrame, ValueError) as error:
            raise JudgeFailure(str(error)) from None
        voxel *= asked.coarser
        if asked.middle is None:
            return scene, points, settings, around, voxel
        rim = asked.reach + RIM * settings.kernel_radius * points.spacing
        near = (np.abs(points.position - np.array(asked.middle)) < rim).all(axis=1)
        middle = np.array(asked.middle)
        grids = [grid.within(middle - rim, middle + rim) for grid in around.simulated]
        return scene, points.some(near), settings, replace(around, simulated=grids), voxel

    def _among(self, asked: Asked, scene: Scene) -> SurfaceWorld:
        """The scene's colliders, sampled once as long as nothing but the surface changes."""
        rest = scene.model_dump_json(exclude={"surface", "deliveries", "camera"})
        key = (asked.folder, asked.quality, rest)
        if self._world is None or self._world[0] != key:
            self._world = (key, SurfaceWorld(scene, SceneFiles(asked.folder), asked.quality))
        return self._world[1].with_surface(scene)

    def _data(self, asked: Asked) -> dict[str, np.ndarray]:
        store = Cache(asked.cache).stage(SOURCE)
        record = store.records().get(asked.frame)
        if record is None or record.error:
            raise JudgeFailure(f"frame {asked.frame} has no liquid yet; run the liquid first")
        key = (asked.cache, asked.frame, record.key, record.crc)
        if self._held is None or self._held[0] != key:
            frame = store.frame(asked.frame)
            self._held = (key, {name: frame[name] for name in frame})
        return self._held[1]

    def _volume(self, asked: Asked, scene: Scene) -> float | None:
        record = Cache(asked.cache).stage(SOURCE).records()[asked.frame]
        return self._among(asked, scene).volume(record.readings.get("volume", 0.0), asked.frame)

    def _remember(self, asked: Asked, settings: SurfaceSettings, made: Whole | None) -> Whole | None:
        """The field of the settings before the present ones, of the same frame."""
        where = (asked.cache, asked.frame, asked.middle, asked.reach)
        if where not in self._last:
            self._last.clear()
            self._before.clear()
        last = self._last.get(where)
        own = (settings.model_dump_json(), asked.coarser)
        if last is not None and last[0] != own:
            self._before[where] = last[1]
        self._last[where] = (own, made)
        return self._before.get(where)


def _within(surface: SurfaceFrame, asked: Asked) -> SurfaceFrame:
    """The part of a surface in the region asked for, with the attributes of its vertices."""
    if asked.middle is None or len(surface.triangle) == 0:
        return surface
    away = np.abs(surface.position - np.array(asked.middle)).max(axis=1) - asked.reach
    inside = (away < 0)[surface.triangle].any(axis=1)
    used, triangle = np.unique(surface.triangle[inside], return_inverse=True)
    attributes_there = {name: value[used] for name, value in surface.attributes.items()}
    return SurfaceFrame(
        surface.position[used], triangle.reshape(-1, 3).astype(np.int32), attributes_there, surface.field
    )


def _facts(surface: SurfaceFrame, points: Points, voxel: float, volume: float | None, whole: bool) -> dict[str, float]:
    """Numbers beside the picture: of `health`, `smallest_sheet` (m), and `needed_radius` in spacings."""
    found = health(surface, voxel, volume)
    if not whole:
        found = {name: found[name] for name in ("triangles", "degenerate", "flipped") if name in found}
    sheet = smallest_sheet(surface)
    if sheet is not None:
        found["smallest_sheet"] = sheet
    radius = needed_radius(surface, points)
    if radius is not None:
        found["needed_radius"] = radius
    return found


def left_out(surface: SurfaceFrame, points: Points) -> np.ndarray:
    """Which particles (n,) the mesh does not show: balls of their volumes that lie outside of it altogether."""
    if surface.field is None:
        return np.ones(len(points.position), bool)
    return np.asarray(surface.field.at(points.position) > np.cbrt(points.volume * 3 / (4 * np.pi)))


def smallest_sheet(surface: SurfaceFrame) -> float | None:
    """Thickness in metres of the liquid's thinnest parts, a hundredth of the surface being thinner; None without any.

    Straight in from vertices, up to `MOST_THICK` voxels.
    """
    if surface.field is None or len(surface.position) == 0:
        return None
    held = surface.field
    place = surface.position[:: max(len(surface.position) // SAMPLED, 1)].astype(np.float64)
    h = held.voxel
    slope = np.stack([held.at(place + d) - held.at(place - d) for d in 0.5 * h * np.eye(3)], axis=1)
    out = slope / np.maximum(np.linalg.norm(slope, axis=1, keepdims=True), 1e-30)
    thick = np.full(len(place), float(MOST_THICK))
    before = np.zeros(len(place))
    going = np.ones(len(place), bool)
    for step in np.arange(0.5, MOST_THICK, 0.5):
        value = held.at(place[going] - step * h * out[going])
        ended = (value >= 0) & (step > 0.5)
        index = np.flatnonzero(going)[ended]
        share = before[index] / np.minimum(before[index] - value[ended], -1e-30)
        thick[index] = step - 0.5 + 0.5 * np.clip(share, 0, 1)
        before[going] = np.minimum(value, -1e-30)
        going[index] = False
        if not going.any():
            break
    return float(np.percentile(thick, 100 * THIN)) * h


def needed_radius(surface: SurfaceFrame, points: Points) -> float | None:
    """Radius in spacings from which on balls about the particles leave no hole in the body; None without a body.

    The widest room between particles two voxels and more under the surface.
    """
    if surface.field is None or len(points.position) == 0:
        return None
    deep = surface.field.deeper(2 * surface.field.voxel)
    if len(deep) == 0:
        return None
    rng = np.random.default_rng(1)
    some = deep if len(deep) <= SAMPLED else deep[rng.choice(len(deep), SAMPLED, replace=False)]
    away, _ = cKDTree(points.position).query(some, distance_upper_bound=4 * points.spacing)
    away = away[np.isfinite(away)]
    return float(away.max()) / points.spacing if len(away) else None


_OWN = Judge()


def look(asked: Asked) -> bytes:
    """`Judge.look` of the one judge of this process."""
    return _OWN.look(asked)


def freeze(asked: Asked, path: Path) -> int:
    """`Judge.freeze` of the one judge of this process."""
    return _OWN.freeze(asked, path)
