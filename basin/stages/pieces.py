"""What leaves of a scene at a frame, in metres with Y up: surface, particles, elements, grids, heights."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import numpy as np

from basin.attributes import leaving
from basin.exchange.pieces import METRES, Piece, axes
from basin.exchange.vdb import Grid
from basin.geometry.shapes import GroundPlane, MeshShape
from basin.randomness import among
from basin.scene import Scene
from basin.scene.model import AnyElement, Delivery
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.keys import mesh_key
from basin.stages.raster import heights
from basin.stages.sea_pieces import lying_by, sea_images, sea_piece
from basin.stages.sea_stage import SEA
from basin.stages.stage import Job, all_keys, stages
from basin.whitewater.denser import denser
from basin.whitewater.life import named

MOMENT = 1e-3  # shot seconds over which the velocity of an element that deforms is taken
TILE = 8
OUTSIDE = 3.0  # voxels: what level sets say outside of their tiles


def needed_stages(delivery: Delivery) -> list[str]:
    """Stages whose frames a delivery needs."""
    return [stage.name for stage in stages().values() if {*stage.gives, stage.name} & set(delivery.parts())]


def _frame_with(job: Job, part: str, frame: int) -> Mapping[str, np.ndarray]:
    """The frame that a part of a delivery is made from."""
    (stage,) = [stage.name for stage in stages().values() if part in stage.gives]
    return job.store(stage).frame(frame)


def piece_name(name: str) -> str:
    """A name that all formats take: letters, digits and underscores, no digit first."""
    plain = re.sub(r"\W+", "_", name, flags=re.ASCII).strip("_") or "element"
    return plain if not plain[0].isdigit() else f"_{plain}"


def frame_pieces(job: Job, delivery: Delivery, frame: int) -> list[Piece]:
    """Meshes and points of a frame; DamagedFrame if a cached frame is not whole."""
    found = []
    parts, time = delivery.files(), job.scene.time.shot_time(frame)
    for name in parts:
        if name == SEA:
            found.append(sea_piece(job, delivery, frame))
        elif name in stages():
            data: Mapping[str, np.ndarray] = job.store(name).frame(frame)
            if "kind" in data:
                data = _whitewater(job, delivery, data)
            width = float(data["particle_spacing"]) if "particle_spacing" in data else 0.0
            found.append(Piece(name, data["position"], data.get("triangle"), _carried(data, time), width))
    if "elements" in parts:
        found += element_pieces(job.scene, job.files, time)
    return found


def _whitewater(job: Job, delivery: Delivery, data: Mapping[str, np.ndarray]) -> Mapping[str, np.ndarray]:
    """What leaves of a frame of whitewater."""
    names = [layer.name for layer in job.scene.whitewater.layers]
    some = named(data["kind"], data["layer"], names, delivery.kinds, delivery.layer, delivery.but_layer)
    data = _only(data, some)
    thins_last = delivery.denser is not None and delivery.order == "denser first"
    if delivery.share < 1 and not thins_last:
        data = _only(data, among(data["id"], delivery.share))
    if delivery.denser is not None:
        data = denser(data, delivery.denser * 1e-3, delivery.reach * 1e-3)
    return _only(data, among(data["id"], delivery.share)) if delivery.share < 1 and thins_last else data


def _only(data: Mapping[str, np.ndarray], some: np.ndarray) -> Mapping[str, np.ndarray]:
    return data if some.all() else {key: value[some] if value.ndim else value for key, value in data.items()}


def whitewater_count(job: Job, delivery: Delivery) -> tuple[int, int] | None:
    """How many points of whitewater leave at the frame that has most of it, and which that is; None without any."""
    records = {f: r for f, r in job.store("whitewater").records().items() if not r.error and "count" in r.readings}
    if "whitewater" not in delivery.parts() or not records:
        return None
    fullest = max(records, key=lambda frame: records[frame].readings["count"])
    return len(_whitewater(job, delivery, job.store("whitewater").frame(fullest))["id"]), fullest


def _carried(data: Mapping[str, np.ndarray], time: float) -> dict[str, np.ndarray]:
    """What points carry, with ages for moments of birth."""
    held = {name: data[name] for name in leaving(data)}
    held["speed"] = np.sqrt((held["velocity"] ** 2).sum(axis=1))
    if "rest_share" in data:
        share = float(data["rest_share"])
        held["rest_share"] = np.full(len(held["velocity"]), share, np.float32)
    if "born" in data:
        held["age"] = (time - data["born"]).astype(np.float32)
    return held


def delivered_elements(scene: Scene) -> list[AnyElement]:
    """Elements that are marked as delivered and have a shape, but for endless planes."""
    return [
        e for e in scene.elements if e.delivered and not isinstance(getattr(e, "shape", GroundPlane()), GroundPlane)
    ]


def _leaving(element: AnyElement) -> Any:
    """The shape of an element as it leaves: what a stand-in stands for."""
    shape = getattr(element, "shape", None)
    return shape.shown() if isinstance(shape, MeshShape) else shape


def element_pieces(scene: Scene, files: SceneFiles, time: float) -> list[Piece]:
    """Delivered elements as meshes where they are, with velocities if they move; one that is off has no points."""
    found = []
    for element in delivered_elements(scene):
        shape = _leaving(element)
        deforms = isinstance(shape, MeshShape) and shape.is_sequence()
        moves = scene.placement(element).moves() or deforms

        def at(t: float, element: AnyElement = element, shape: object = shape) -> tuple[np.ndarray, np.ndarray]:
            mesh = files.mesh_at(shape, scene.time, t) if isinstance(shape, MeshShape) else element_mesh(element, files)
            assert mesh is not None
            placed = mesh.transformed(scene.placement(element).matrix(t))
            return placed.position, placed.triangle

        position, triangle = at(time)
        attributes = {}
        if moves and not deforms:
            motion = scene.placement(element).motion(time)
            attributes["velocity"] = (position @ motion[:3, :3].T + motion[:3, 3]).astype(np.float32)
        elif moves:
            flow = (at(time + MOMENT)[0] - at(time - MOMENT)[0]) / (2 * MOMENT)
            attributes["velocity"] = flow.astype(np.float32)
        spans = element.acts(time, time) if hasattr(element, "acts") else [()]
        switches = hasattr(element, "spans") and element.spans() != [(0.0, np.inf)]
        if not spans:
            position, triangle = position[:0], triangle[:0]
            attributes = {name: value[:0] for name, value in attributes.items()}
        found.append(Piece(piece_name(element.name), position, triangle, attributes, still=not (moves or switches)))
    return found


def frame_grids(job: Job, delivery: Delivery, frame: int) -> list[Grid]:
    """Level set, density and velocity of a liquid frame's grid, or a mist's density and its air's velocity, in the
    delivery's unit and axes."""
    (part,) = delivery.parts()
    data = _frame_with(job, part, frame)
    dx, tile = float(data["grid_voxel"]), data["tile"]
    scale = 1.0 / METRES[delivery.unit]
    turn = axes(delivery.up) * scale
    matrix = np.eye(4)
    matrix[:3, :3] = turn * dx
    matrix[:3, 3] = turn @ (np.asarray(data["grid_low"]) + 0.5 * dx)
    if part == "mist":
        return [
            Grid("density", "fog", tile, data["tile_density"], 0.0, matrix),
            Grid("velocity", "velocity", tile, data["tile_air"].astype(np.float32) @ turn.T, 0.0, matrix),
        ]
    level = np.where(data["tile_held"] > 0, np.minimum(data["tile_phi"], -0.5 * dx), data["tile_phi"])
    density = np.clip(0.5 - level / dx, 0, 1)
    flow = np.stack([_centred(data[f"tile_{c}"], tile, axis) for axis, c in enumerate("uvw")], axis=-1)
    return [
        Grid("surface", "level set", tile, level * scale, OUTSIDE * dx * scale, matrix),
        Grid("density", "fog", tile, density, 0.0, matrix),
        Grid("velocity", "velocity", tile, flow @ turn.T, 0.0, matrix),
    ]


def _centred(faces: np.ndarray, tile: np.ndarray, axis: int) -> np.ndarray:
    """Values at the lower faces of voxels (t, 8, 8, 8) as means at their middles; at the rim of tiles that have no
    neighbour the last face's."""
    row = {tuple(t): n for n, t in enumerate(tile.tolist())}
    after = tile.copy()
    after[:, axis] += 1
    beside = np.array([row.get(tuple(t), -1) for t in after.tolist()], np.int64)
    next_face = np.roll(faces, -1, axis=axis + 1)
    rim: list[slice | int] = [slice(None)] * 4
    rim[axis + 1] = -1
    own = np.take(faces, -1, axis=axis + 1)
    first = np.take(faces, 0, axis=axis + 1)
    next_face[tuple(rim)] = np.where((beside >= 0)[:, None, None], first[np.maximum(beside, 0)], own)
    return np.asarray((faces + next_face) / 2)


def frame_images(job: Job, delivery: Delivery, frame: int, piece: str) -> dict[str, np.ndarray]:
    """Channels of an image of a frame: a patch of the sea, or the surface's heights."""
    if delivery.patches():
        return sea_images(job, delivery, frame, int(piece.removeprefix("patch_")))
    return frame_heights(job, delivery, frame)


def frame_heights(job: Job, delivery: Delivery, frame: int) -> dict[str, np.ndarray]:
    """The surface from above over the domain: height, depth and velocity, in the delivery's unit and axes."""
    data = _frame_with(job, "heights", frame)
    low, size = np.array(job.scene.domain.low), np.array(job.scene.domain.size)
    pixel = max(size[0], size[2]) / delivery.resolution
    flow = data["velocity"] @ axes(delivery.up).T
    shape = tuple(max(round(float(s / pixel)), 1) for s in (size[2], size[0]))
    found = heights(data["position"], data["triangle"], flow, low, pixel, shape)
    scale = 1.0 / METRES[delivery.unit]
    return {name: (value if name == "A" else value * scale).astype(np.float32) for name, value in found.items()}


def part_keys(job: Job, delivery: Delivery) -> dict[int, list[object]]:
    """What the files of each frame depend on besides the delivery's own settings."""
    scene, made = job.scene, all_keys(job)
    needed = [made[stage] for stage in needed_stages(delivery)]
    keys: dict[int, list[object]] = {}
    for frame in range(scene.time.first, scene.time.last + 1):
        own: list[object] = [keys_of[frame] for keys_of in needed]
        if SEA in delivery.files() and not delivery.patches():
            own += lying_by(scene, delivery, scene.time.shot_time(frame))
        if "heights" in delivery.parts():
            own.append([list(scene.domain.low), list(scene.domain.size)])
        if "elements" in delivery.parts():
            time = scene.time.shot_time(frame)
            for e in delivered_elements(scene):
                shape = _leaving(e)
                digest = (
                    mesh_key(shape, scene, job.files, time, time)
                    if isinstance(shape, MeshShape)
                    else shape.model_dump()
                )
                acts = bool(e.acts(time, time)) if hasattr(e, "acts") else True
                moved = scene.placement(e).over(time - MOMENT, time + MOMENT)
                own.append([e.name, digest, moved, acts])
        keys[frame] = own
    return keys
