"""Meshes in, read apart (`decoders`): OBJ, PLY, STL, glTF, USD and Alembic; OBJ and PLY out, written by hand.

Readers of these formats accept nearly anything; every count, index and number that they return is checked here.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from basin.apart import Answer, Ended, Told, call
from basin.exchange.files import (
    MOST_TRIANGLES,
    MOVING,
    UnusableFile,
    countable,
    kind_of,
    sequence_files,
    whole_file,
)
from basin.exchange.light import encoded
from basin.exchange.pieces import METRES, axes
from basin.geometry.deforming import MeshSequence
from basin.geometry.mesh import TriangleMesh, facing_out, weld_map, welded


def read_mesh(path: Path, unit: str = "m", up: str = "y", part: str = "") -> TriangleMesh:
    """Read a mesh, or one part of its file, as metres, Y up, welded, with closed meshes facing outwards.

    Raises
    ------
    UnusableFile
        If `read_points` does, or all triangles have no area.
    """
    mesh = convert(welded(read_points(path, part)), unit, up)
    if len(mesh.triangle) == 0:
        raise UnusableFile(f"{path.name}: all triangles have collapsed to points or lines")
    return facing_out(mesh) if mesh.open_edges() == 0 else mesh


def read_sequence(
    folder: Path,
    pattern: str,
    unit: str = "m",
    up: str = "y",
    fps: float = 24.0,
    tell: Callable[[int], None] = lambda _: None,
    part: str = "",
) -> MeshSequence:
    """Read a sequence of meshes with the same points as metres, Y up, welded alike; its times are frame numbers.

    They are those of the files, one for each, or, of one file with animation, those of its samples; Alembic counts in
    seconds, which are turned into frames of `fps`. `tell` hears how many files have been read.

    Raises
    ------
    UnusableFile
        If a file is missing or unusable, or has other points or triangles than the first one.
    """
    if "#" not in Path(pattern).name:
        return _animated(folder / pattern, unit, up, fps, part)
    files = sequence_files(folder, pattern)
    start = min(files)
    held = read_points(files[start], part)
    countable(Path(pattern).name, len(held.position), len(files))
    places = []
    for number, path in files.items():
        mesh = held if number == start else read_points(path, part)
        if len(mesh.position) != len(held.position):
            raise UnusableFile(
                f"{path.name}: has {len(mesh.position):,} points, {files[start].name} {len(held.position):,}; a mesh "
                "that deforms keeps its points. Export it again without remeshing"
            )
        if not np.array_equal(mesh.triangle, held.triangle):
            raise UnusableFile(
                f"{path.name}: its triangles are not those of {files[start].name}; a mesh that deforms keeps them. "
                "Export it again without remeshing"
            )
        places.append(mesh.position)
        tell(len(places))
    return _sequence(float(start), 1.0, places, held.triangle, unit, up)


def _sequence(
    start: float, step: float, places: list[np.ndarray], triangle: np.ndarray, unit: str, up: str
) -> MeshSequence:
    """Positions (n, 3) of one set of triangles at moments, as metres, Y up, welded alike, facing out if closed."""
    same, faces = weld_map(TriangleMesh(places[0], triangle))
    moments = [convert(TriangleMesh(place[same], faces), unit, up) for place in places]
    if moments[0].open_edges() == 0 and moments[0].volume() < 0:
        faces = faces[:, ::-1].copy()
    return MeshSequence(start, step, np.stack([m.position for m in moments]), faces)


def _animated(path: Path, unit: str, up: str, fps: float, part: str) -> MeshSequence:
    """The meshes of one file with animation."""
    number, moments, triangle = _moments(path, fps, part=part)
    if len(moments) < 2:
        raise UnusableFile(f"{path.name}: has no animation; use it as a mesh that does not deform")
    steps = np.diff(number)
    if steps.min() <= 0 or np.ptp(steps) > 1e-3 * steps.mean():
        raise UnusableFile(f"{path.name}: its samples are not evenly spaced; export it again with one a frame")
    places = [_checked(path, moment, triangle).position for moment in moments]
    return _sequence(float(number[0]), float(steps.mean()), places, triangle.astype(np.int32), unit, up)


def read_apart(function: str, path: Path, *given: Any) -> Answer:
    """Have a file read apart, with its folder in reach; UnusableFile if it cannot be."""
    try:
        return call(f"basin.exchange.decoders:{function}", *given, reach=[path.parent])
    except Ended as error:
        raise UnusableFile(f"{path.name}: {error}") from None
    except Told as error:
        raise UnusableFile(str(error)) from None


def _moments(
    path: Path, fps: float, only_first: bool = False, part: str = ""
) -> tuple[list[float], np.ndarray, np.ndarray]:
    """All moments of a USD or Alembic file; UnusableFile if it cannot be used."""
    whole_file(path)
    number, (places, triangle) = read_apart("moments", path, str(path), fps, only_first, part)
    return number, places, triangle


@dataclass(frozen=True)
class FileTold:
    """How many moments a file holds, and the unit and the up axis that it says it has, if it can say so."""

    moments: int
    unit: str | None
    up: str | None


def told(path: Path) -> FileTold:
    """What a file says of itself; UnusableFile if it cannot be read."""
    whole_file(path)
    if kind_of(path) not in MOVING:
        return FileTold(1, *(("m", "y") if kind_of(path) in ("glb", "gltf") else (None, None)))
    said, _ = read_apart("told", path, str(path))
    metres = said["metres"] or 0.0
    units = [name for name, size in METRES.items() if abs(size / metres - 1) < 1e-6] if metres > 0 else []
    return FileTold(said["moments"], units[0] if units else None, said["up"])


def parts(path: Path) -> list[tuple[str, int]]:
    """Names of the meshes in a file and how many polygons each has; UnusableFile if it cannot be read."""
    whole_file(path)
    found, _ = read_apart("names", path, str(path))
    return [(str(name), int(count)) for name, count in found]


def read_points(path: Path, part: str = "") -> TriangleMesh:
    """The points and triangles of a file, or of one part of it, as they are written; the first moment of one with
    animation.

    Raises
    ------
    UnusableFile
        If the file is missing, no mesh, empty, truncated, or has numbers that are not finite.
    """
    if kind_of(path) in MOVING:
        _, places, triangle = _moments(path, 24.0, only_first=True, part=part)
        return _checked(path, places[0], triangle, part)
    whole_file(path)
    _, (position, triangle) = read_apart("plain", path, str(path), part)
    return _checked(path, position, triangle, part)


def _checked(path: Path, position: np.ndarray, triangle: np.ndarray, part: str = "") -> TriangleMesh:
    """A mesh whose counts, indices and numbers are sound; UnusableFile if they are not."""
    if part and len(position) == 0:
        raise UnusableFile(f"{path.name}: has no mesh named {part}; choose another part, or all")
    if position.ndim != 2 or position.shape[-1] != 3 or triangle.ndim != 2 or triangle.shape[-1] != 3:
        raise UnusableFile(f"{path.name}: holds no triangles")
    if len(position) == 0 or len(triangle) == 0:
        raise UnusableFile(f"{path.name}: holds no triangles")
    if len(triangle) > MOST_TRIANGLES:
        raise UnusableFile(f"{path.name}: {len(triangle):,} triangles; thin it to under {MOST_TRIANGLES:,}")
    if triangle.min() < 0 or triangle.max() >= len(position):
        raise UnusableFile(f"{path.name}: triangles name vertices that are not there; the file is damaged")
    if not np.isfinite(position).all():
        bad = int((~np.isfinite(position).all(axis=1)).sum())
        raise UnusableFile(f"{path.name}: {bad} vertices are not finite numbers; mend them in the modelling program")
    return TriangleMesh(position, triangle.astype(np.int32))


def convert(mesh: TriangleMesh, unit: str, up: str) -> TriangleMesh:
    """File units and axes to metres with Y up, by a turn (never a mirror)."""
    position = mesh.position * METRES[unit] @ axes(up)
    return TriangleMesh(position, mesh.triangle)


def read_camera(path: Path, fps: float, unit: str, up: str) -> list[tuple[float, np.ndarray, float]]:
    """The first camera of a USD or Alembic file, in metres with Y up.

    Returns
    -------
    at each of its samples the frame number, the matrix (4, 4) that places it, and its upright angle in degrees

    Raises
    ------
    UnusableFile
        If the file cannot be read or has no camera.
    """
    whole_file(path)
    if kind_of(path) not in MOVING:
        raise UnusableFile(f"{path.name}: cameras are read from .{', .'.join(MOVING)} files")
    seen, (matrices,) = read_apart("camera", path, str(path), fps)
    if not seen:
        raise UnusableFile(f"{path.name}: has no camera")
    turn = np.eye(4)
    turn[:3, :3] = axes(up).T
    samples = []
    for (number, angle), matrix in zip(seen, matrices, strict=True):
        placed = turn @ matrix
        placed[:3, 3] *= METRES[unit]
        if not np.isfinite(placed).all() or not 0 < angle < 180:
            raise UnusableFile(f"{path.name}: its camera has numbers that cannot be")
        samples.append((number, placed, angle))
    return samples


Attributes = Mapping[str, np.ndarray]


def write_ply(
    path: Path, position: np.ndarray, triangle: np.ndarray | None = None, attributes: Attributes | None = None
) -> None:
    """Binary little-endian PLY.

    Attributes (n,) or (n, k) are properties by their names: `velocity` is vx, vy, vz in m/s per shot second,
    `colour` red, green, blue as sRGB bytes, others their name, with a number for each of several components.
    """
    fields: list[tuple[str, str, str, np.ndarray]] = [("x", "float", "<f4", position[:, 0])]
    fields += [(n, "float", "<f4", position[:, i]) for i, n in ((1, "y"), (2, "z"))]
    for name, value in (attributes or {}).items():
        columns = value.reshape(len(value), -1).T
        names = OWN_NAMES.get(name) or ([name] if len(columns) == 1 else [f"{name}{i}" for i in range(len(columns))])
        for own, column in zip(names, columns, strict=True):
            if name == "colour":
                column = np.round(255 * encoded(np.clip(column, 0, 1)))
                fields.append((own, "uchar", "u1", column))
            elif np.issubdtype(value.dtype, np.integer):
                fields.append((own, "int", "<i4", column))
            else:
                fields.append((own, "float", "<f4", column))
    vertex = np.empty(len(position), dtype=[(own, kind) for own, _, kind, _ in fields])
    for own, _, _, column in fields:
        vertex[own] = column
    lines = ["ply", "format binary_little_endian 1.0", "comment metres, Y up", f"element vertex {len(vertex)}"]
    lines += [f"property {kind} {own}" for own, kind, _, _ in fields]
    if triangle is not None:
        lines += [f"element face {len(triangle)}", "property list uchar int vertex_indices"]
    with path.open("wb") as file:
        file.write(("\n".join([*lines, "end_header"]) + "\n").encode())
        file.write(vertex.tobytes())
        if triangle is not None:
            face = np.empty(len(triangle), dtype=[("n", "u1"), ("v", "<i4", 3)])
            face["n"], face["v"] = 3, triangle
            file.write(face.tobytes())


OWN_NAMES = {"velocity": ["vx", "vy", "vz"], "normal": ["nx", "ny", "nz"], "colour": ["red", "green", "blue"]}


def write_obj(
    path: Path, position: np.ndarray, triangle: np.ndarray | None = None, attributes: Attributes | None = None
) -> None:
    """Wavefront OBJ in metres; colours after the positions, velocities as `#v` comment lines, since OBJ has no place
    for them, and no other attributes."""
    given = attributes or {}
    colour = given.get("colour")
    rows = position if colour is None else np.column_stack([position, encoded(np.clip(colour, 0, 1))])
    with path.open("w", encoding="ascii", newline="\n") as file:
        file.write("# metres, Y up; '#v' lines: velocity of each vertex, m/s\n")
        np.savetxt(file, rows, fmt="v" + " %.9g" * rows.shape[1])
        if "velocity" in given:
            np.savetxt(file, given["velocity"], fmt="#v %.9g %.9g %.9g")
        if triangle is not None:
            np.savetxt(file, triangle.astype(np.int64) + 1, fmt="f %d %d %d")
