"""Meshes in: OBJ, PLY, STL and glTF through trimesh, USD and Alembic; OBJ and PLY out, written by hand.

Readers of these formats accept nearly anything; every count, index and number is checked here.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import trimesh

from basin.exchange import alembic, usd
from basin.exchange.light import encoded
from basin.exchange.pieces import METRES, axes
from basin.geometry.deforming import MeshSequence
from basin.geometry.mesh import TriangleMesh, facing_out, weld_map, welded

PLAIN = ("obj", "ply", "stl", "glb", "gltf")
MOVING = ("usd", "usda", "usdc", "usdz", "abc")  # formats that may hold animation in one file
LARGEST_FILE = 2_000_000_000
MOST_TRIANGLES = 20_000_000


class UnusableFile(ValueError):
    """A file that cannot be used; the message is a sentence for the artist."""


def read_mesh(path: Path, unit: str = "m", up: str = "y") -> TriangleMesh:
    """Read a mesh as metres, Y up, welded, with closed meshes facing outwards.

    Raises
    ------
    UnusableFile
        If `read_points` does, or all triangles have no area.
    """
    mesh = convert(welded(read_points(path)), unit, up)
    if len(mesh.triangle) == 0:
        raise UnusableFile(f"{path.name}: all triangles have collapsed to points or lines")
    return facing_out(mesh) if mesh.open_edges() == 0 else mesh


def sequence_files(folder: Path, pattern: str) -> dict[int, Path]:
    """Files of a sequence by their numbers, ascending; a run of # in the pattern stands for the number.

    Raises
    ------
    UnusableFile
        If there are none, or one between the first and the last is missing.
    """
    name = Path(pattern).name
    marks = re.search(r"#+", name)
    assert marks
    form = re.compile(re.escape(name[: marks.start()]) + r"(\d+)" + re.escape(name[marks.end() :]))
    here = (folder / pattern).parent
    found: dict[int, Path] = {}
    for path in sorted(here.iterdir()) if here.is_dir() else []:
        matched = form.fullmatch(path.name)
        if matched and len(matched[1]) >= len(marks[0]):
            found[int(matched[1])] = path
    if not found:
        raise UnusableFile(f"{pattern}: no file of this sequence is there")
    missing = [n for n in range(min(found), max(found)) if n not in found]
    if missing:
        raise UnusableFile(
            f"{pattern}: number {missing[0]} of the sequence is missing, between {min(found)} and {max(found)}; "
            "bring all its files"
        )
    return dict(sorted(found.items()))


def sequence_names(names: list[str]) -> tuple[str, dict[str, str]]:
    """The pattern that numbered files make up, and under which name each of them is kept for it.

    Raises
    ------
    UnusableFile
        If they are not named alike but for a number before the ending.
    """
    parts = {name: re.fullmatch(r"(.*?)(\d+)(\.\w+)", name) for name in names}
    found = {name: match for name, match in parts.items() if match}
    ends = {(match[1], match[3].lower()) for match in found.values()}
    if len(ends) != 1 or len(found) < len(names):
        raise UnusableFile(
            "these files are no sequence; they have to be named alike but for a number before the ending"
        )
    ((stem, kind),) = ends
    width = max(len(match[2]) for match in found.values())
    kept = {name: f"{stem}{match[2].zfill(width)}{kind}" for name, match in found.items()}
    return f"{stem}{'#' * width}{kind}", kept


def read_sequence(folder: Path, pattern: str, unit: str = "m", up: str = "y", fps: float = 24.0) -> MeshSequence:
    """Read a sequence of meshes with the same points as metres, Y up, welded alike; its times are frame numbers.

    They are those of the files, one for each, or, of one file with animation, those of its samples; Alembic counts in
    seconds, which are turned into frames of `fps`.

    Raises
    ------
    UnusableFile
        If a file is missing or unusable, or has other points or triangles than the first one.
    """
    if "#" not in Path(pattern).name:
        return _animated(folder / pattern, unit, up, fps)
    files = sequence_files(folder, pattern)
    start = min(files)
    held = read_points(files[start])
    places = []
    for number, path in files.items():
        mesh = held if number == start else read_points(path)
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


def _animated(path: Path, unit: str, up: str, fps: float) -> MeshSequence:
    """The meshes of one file with animation."""
    number, moments, triangle = _moments(path, fps)
    if len(moments) < 2:
        raise UnusableFile(f"{path.name}: has no animation; use it as a mesh that does not deform")
    sizes = {len(m) for m in moments}
    if len(sizes) > 1:
        raise UnusableFile(
            f"{path.name}: has {min(sizes):,} to {max(sizes):,} points; a mesh that deforms keeps its points. "
            "Export it again without remeshing"
        )
    steps = np.diff(number)
    if steps.min() <= 0 or np.ptp(steps) > 1e-3 * steps.mean():
        raise UnusableFile(f"{path.name}: its samples are not evenly spaced; export it again with one a frame")
    places = [_checked(path, moment, triangle).position for moment in moments]
    return _sequence(float(number[0]), float(steps.mean()), places, triangle.astype(np.int32), unit, up)


def _moments(path: Path, fps: float) -> tuple[list[float], list[np.ndarray], np.ndarray]:
    """All moments of a USD or Alembic file; UnusableFile if it cannot be used."""
    _whole_file(path)
    try:
        read = alembic.read_moments(path, fps) if _kind(path) == "abc" else usd.read_moments(path)
    except ValueError as error:
        raise UnusableFile(f"{path.name}: {error}") from None
    except Exception:  # the libraries raise errors of their own on damaged input
        raise UnusableFile(f"{path.name}: not a readable {_kind(path).upper()} file") from None
    return [round(n, 6) for n in read[0]], read[1], read[2]


def moments_in(path: Path) -> int:
    """How many moments of animation a file holds: 1 for still ones and for formats that have none."""
    return len(_moments(path, 24.0)[0]) if _kind(path) in MOVING else 1


def told_axes(path: Path) -> tuple[str | None, str | None]:
    """The unit and the up axis that a file says it has, if its format can say so; UnusableFile if it cannot be read."""
    if _kind(path) in ("glb", "gltf"):
        return "m", "y"
    if _kind(path) not in MOVING or _kind(path) == "abc":
        return None, None
    _whole_file(path)
    try:
        metres, up = usd.told_axes(path)
    except Exception:
        raise UnusableFile(f"{path.name}: not a readable {_kind(path).upper()} file") from None
    units = [name for name, size in METRES.items() if abs(size / metres - 1) < 1e-6] if metres > 0 else []
    return (units[0] if units else None), up


def _kind(path: Path) -> str:
    return path.suffix.lower().lstrip(".")


def _whole_file(path: Path) -> None:
    """UnusableFile if a file is missing, empty, huge, or of a kind that is not read."""
    if _kind(path) not in (*PLAIN, *MOVING):
        raise UnusableFile(f"{path.name}: meshes are read from .{', .'.join((*PLAIN, *MOVING))} files")
    if not path.is_file():
        raise UnusableFile(f"{path.name}: the file is not there")
    if path.stat().st_size == 0:
        raise UnusableFile(f"{path.name}: the file is empty")
    if path.stat().st_size > LARGEST_FILE:
        raise UnusableFile(f"{path.name}: larger than 2 GB; thin it out first")


def read_points(path: Path) -> TriangleMesh:
    """The points and triangles of a file as they are written; the first moment of one with animation.

    Raises
    ------
    UnusableFile
        If the file is missing, no mesh, empty, truncated, or has numbers that are not finite.
    """
    kind = _kind(path)
    if kind in MOVING:
        _, moments, triangle = _moments(path, 24.0)
        return _checked(path, moments[0], triangle)
    _whole_file(path)
    if kind == "ply":
        _check_ply_size(path)
    if kind == "stl":
        _check_stl_size(path)
    if kind in ("glb", "gltf"):
        _check_gltf(path)
    try:
        loaded: Any = trimesh.load(str(path), file_type=kind, process=False, force="mesh")
        position = np.asarray(loaded.vertices, np.float64)
        triangle = np.asarray(loaded.faces)
    except (Exception, SystemExit):  # the readers raise anything at all on damaged input
        raise UnusableFile(f"{path.name}: not a readable {kind.upper()} mesh") from None
    return _checked(path, position, triangle)


def _checked(path: Path, position: np.ndarray, triangle: np.ndarray) -> TriangleMesh:
    """A mesh whose counts, indices and numbers are sound; UnusableFile if they are not."""
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


def _check_stl_size(path: Path) -> None:
    """Compare the count of a binary STL with the file's length before anything is allocated."""
    with path.open("rb") as file:
        head = file.read(84)
    size = path.stat().st_size
    if head[:5].lower() == b"solid" or len(head) < 84:
        return  # text, or too short for the reader to go on
    count = int.from_bytes(head[80:84], "little")
    if 84 + 50 * count != size:
        raise UnusableFile(f"{path.name}: its header counts {count:,} triangles, its length says otherwise")


def _check_gltf(path: Path) -> None:
    """Compare the lengths that a glTF file tells of itself with what is there, before anything is allocated."""
    data = path.read_bytes()
    if _kind(path) == "gltf":
        document, held = data, None
    else:
        if len(data) < 20 or data[:4] != b"glTF" or int.from_bytes(data[8:12], "little") != len(data):
            raise UnusableFile(f"{path.name}: not a glTF file, or shorter than its header says")
        length = int.from_bytes(data[12:16], "little")
        document, held = data[20 : 20 + length], len(data) - 28 - length
    try:
        told = json.loads(document)
        views = told.get("bufferViews", [])
        for buffer in told.get("buffers", [])[:1]:
            if held is not None and "uri" not in buffer and int(buffer["byteLength"]) > held:
                raise UnusableFile(f"{path.name}: shorter than its header says; the file is truncated")
        for accessor in told.get("accessors", []):
            if "bufferView" in accessor:
                view = views[accessor["bufferView"]]
                if int(accessor["count"]) > int(view["byteLength"]):
                    raise UnusableFile(f"{path.name}: counts more values than it holds")
        if any(str(b.get("uri", "data:")).partition(":")[0] != "data" for b in told.get("buffers", [])):
            raise UnusableFile(f"{path.name}: its values lie in another file; export it as one binary file (.glb)")
    except UnusableFile:
        raise
    except (ValueError, KeyError, TypeError, IndexError, AttributeError):
        raise UnusableFile(f"{path.name}: not a readable glTF file") from None


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
    _whole_file(path)
    if _kind(path) not in MOVING:
        raise UnusableFile(f"{path.name}: cameras are read from .{', .'.join(MOVING)} files")
    try:
        found = alembic.read_camera(path, fps) if _kind(path) == "abc" else usd.read_camera(path)
    except Exception:
        raise UnusableFile(f"{path.name}: not a readable {_kind(path).upper()} file") from None
    if not found:
        raise UnusableFile(f"{path.name}: has no camera")
    turn = np.eye(4)
    turn[:3, :3] = axes(up).T
    samples = []
    for number, matrix, angle in found:
        placed = turn @ matrix
        placed[:3, 3] *= METRES[unit]
        if not np.isfinite(placed).all() or not 0 < angle < 180:
            raise UnusableFile(f"{path.name}: its camera has numbers that cannot be")
        samples.append((number, placed, angle))
    return samples


def _check_ply_size(path: Path) -> None:
    """Compare the counts in a PLY header with the file's length before anything is allocated."""
    with path.open("rb") as file:
        head = file.read(65536)
    if not head.startswith(b"ply"):
        raise UnusableFile(f"{path.name}: not a readable PLY mesh")
    end = head.find(b"end_header")
    if end < 0:
        raise UnusableFile(f"{path.name}: its PLY header has no end")
    smallest = 0
    for line in head[:end].decode("latin-1").splitlines():
        words = line.split()
        if len(words) == 3 and words[0] == "element":
            if not words[2].isdigit():
                raise UnusableFile(f"{path.name}: its PLY header counts {words[2]!r} of {words[1]!r}")
            smallest += int(words[2])
    if smallest > path.stat().st_size:
        raise UnusableFile(f"{path.name}: shorter than its header says; the file is truncated")


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


OWN_NAMES = {"velocity": ["vx", "vy", "vz"], "colour": ["red", "green", "blue"]}


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
