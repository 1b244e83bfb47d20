"""Reads files that nobody vouches for. `formats` and `images` call these functions apart (`basin.apart`).

The libraries that read these formats accept nearly anything and may do nearly anything with it. What a file counts is
compared with its length and with limits before they are asked, and none of them is given a way to other files.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from PIL import Image
from pxr import Work

from basin.apart import Answer
from basin.exchange import alembic, usd
from basin.exchange.files import MOST_TRIANGLES, MOVING, UnusableFile, kind_of, sequence_files

Work.SetConcurrencyLimit(1)  # no threads where one is forked
MOST_PIXELS = 64_000_000
WIDEST = 4096  # pixels a side; larger images are made smaller by a whole number


def plain(file: str, part: str = "") -> Answer:
    """Points (n, 3) and triangles (m, 3) of a file without animation, or of one part of it."""
    path = Path(file)
    kind = kind_of(path)
    {"ply": _check_ply_size, "stl": _check_stl_size, "glb": _check_gltf, "gltf": _check_gltf}.get(kind, _well)(path)
    if kind == "stl" and _is_binary_stl(path):
        return None, _binary_stl(path)
    if part:
        own = dict(_several(path, kind)).get(part)
        return None, own if own is not None else [np.zeros((0, 3)), np.zeros((0, 3), np.int64)]
    try:
        with path.open("rb") as opened:  # and no way to other files: materials and textures stay away
            loaded: Any = trimesh.load(opened, file_type=kind, process=False, force="mesh", skip_materials=True)
        position = np.asarray(loaded.vertices, np.float64)
        triangle = np.asarray(loaded.faces, np.int64)
    except MemoryError:
        raise
    except (Exception, SystemExit):  # the readers raise anything at all on damaged input
        raise UnusableFile(f"{path.name}: not a readable {kind.upper()} mesh") from None
    return None, [position, triangle]


def names(file: str) -> Answer:
    """Names of the meshes in a file and how many polygons each has; none where a format has no such thing."""
    path = Path(file)
    kind = kind_of(path)
    if kind in MOVING:
        return _moving(path, lambda: _reader(path).names(path)), []
    if kind not in ("obj", "glb", "gltf"):
        return [], []
    if kind != "obj":
        _check_gltf(path)
    return [(name, len(triangle)) for name, (_, triangle) in _several(path, kind)], []


def _several(path: Path, kind: str) -> list[tuple[str, list[np.ndarray]]]:
    """Meshes of a file by their names, where they are in it: points (n, 3) and triangles (m, 3)."""
    how: dict[str, Any] = {"split_objects": True, "group_material": False} if kind == "obj" else {}
    try:
        with path.open("rb") as opened:
            loaded: Any = trimesh.load(opened, file_type=kind, process=False, force="scene", skip_materials=True, **how)
        found = []
        for node in loaded.graph.nodes_geometry:
            matrix, geometry = loaded.graph[node]
            mesh = loaded.geometry[geometry]
            if len(getattr(mesh, "faces", ())):
                place = np.asarray(mesh.vertices, np.float64) @ matrix[:3, :3].T + matrix[:3, 3]
                triangle = np.asarray(mesh.faces, np.int64)
                turned = triangle[:, ::-1] if np.linalg.det(matrix[:3, :3]) < 0 else triangle
                found.append((str(node), [place, turned]))
    except MemoryError:
        raise
    except (Exception, SystemExit):  # the readers raise anything at all on damaged input
        raise UnusableFile(f"{path.name}: not a readable {kind.upper()} mesh") from None
    return sorted(found, key=lambda one: one[0])


def _well(_path: Path) -> None:
    """Nothing is told beforehand of these."""


def moments(file: str, fps: float, only_first: bool, part: str = "") -> Answer:
    """Frame numbers, points (moments, n, 3) and triangles (m, 3) of a USD or Alembic file, or of one part of it."""
    path = Path(file)
    number, places, triangle = _moving(path, lambda: _reader(path).read_moments(path, fps, only_first, part))
    return [round(n, 6) for n in number], [np.asarray(places), triangle]


def told(file: str) -> Answer:
    """How many moments a USD or Alembic file holds, its metres a unit and its up axis (none if it does not say)."""
    path = Path(file)
    count, metres, up = _moving(path, lambda: _reader(path).told(path))
    return {"moments": max(count, 1), "metres": metres, "up": up}, []


def camera(file: str, fps: float) -> Answer:
    """Frame number and upright angle (degrees), and matrices (samples, 4, 4), of the first camera of such a file."""
    path = Path(file)
    found = _moving(path, lambda: _reader(path).read_camera(path, fps))
    matrices = np.array([matrix for _, matrix, _ in found], np.float64).reshape(-1, 4, 4)
    return [[number, angle] for number, _, angle in found], [matrices]


def _reader(path: Path) -> Any:
    return alembic if kind_of(path) == "abc" else usd


def _moving(path: Path, read: Any) -> Any:
    try:
        return read()
    except (MemoryError, UnusableFile):
        raise
    except ValueError as error:
        raise UnusableFile(f"{path.name}: {error}") from None
    except Exception:  # the libraries raise errors of their own on damaged input
        raise UnusableFile(f"{path.name}: not a readable {kind_of(path).upper()} file") from None


def image(file: str) -> Answer:
    """An image's levels: uint8 or uint16 (rows, columns, 3)."""
    path = Path(file)
    try:
        with Image.open(path) as opened:
            _countable(path, opened)
            most = max(opened.size)
            small = opened.reduce(-(-most // WIDEST)) if most > WIDEST else opened
            if opened.mode.startswith("I"):
                grey = np.clip(np.asarray(small), 0, 65535).astype(np.uint16)
                return None, [np.repeat(grey[:, :, None], 3, axis=2)]
            return None, [np.asarray(small.convert("RGB"))]
    except (MemoryError, UnusableFile):
        raise
    except Exception:  # the decoders raise anything at all on damaged input
        raise UnusableFile(f"{path.name}: not a readable image") from None


def images(folder: str, pattern: str) -> Answer:
    """Nothing, if every file of an image or a numbered sequence can be an image."""
    path = Path(folder) / pattern
    files = sequence_files(Path(folder), pattern).values() if "#" in path.name else [path]
    for path in files:
        try:
            with Image.open(path) as opened:
                _countable(path, opened)
                opened.verify()
        except (MemoryError, UnusableFile):
            raise
        except Exception:
            raise UnusableFile(f"{path.name}: not a readable image") from None
    return None, []


def _countable(path: Path, opened: Image.Image) -> None:
    if opened.width * opened.height > MOST_PIXELS:
        raise UnusableFile(f"{path.name}: more than {MOST_PIXELS / 1e6:.0f} million pixels; make it smaller")


def _is_binary_stl(path: Path) -> bool:
    with path.open("rb") as file:
        head = file.read(84)
    return head[:5].lower() != b"solid" and len(head) == 84


def _binary_stl(path: Path) -> list[np.ndarray]:
    """Corners and triangles of a binary STL; trimesh takes ten times the file's size for them."""
    row = np.dtype([("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("flags", "<u2")])
    corner = np.fromfile(path, row, offset=84)["corner"].reshape(-1, 3).astype(np.float64)
    return [corner, np.arange(len(corner)).reshape(-1, 3)]


def _check_stl_size(path: Path) -> None:
    """Compare the count of a binary STL with the file's length before anything is allocated."""
    with path.open("rb") as file:
        head = file.read(84)
    size = path.stat().st_size
    if not _is_binary_stl(path):
        return  # text, or too short for the reader to go on
    count = int.from_bytes(head[80:84], "little")
    if 84 + 50 * count == size and count > MOST_TRIANGLES:
        raise UnusableFile(f"{path.name}: {count:,} triangles; thin it to under {MOST_TRIANGLES:,}")
    if 84 + 50 * count != size:
        raise UnusableFile(f"{path.name}: its header counts {count:,} triangles, its length says otherwise")


def _check_gltf(path: Path) -> None:
    """Compare the lengths that a glTF file tells of itself with what is there, before anything is allocated."""
    data = path.read_bytes()
    if kind_of(path) == "gltf":
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
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError):
        raise UnusableFile(f"{path.name}: not a readable glTF file") from None


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
            if int(words[2]) > 3 * MOST_TRIANGLES:
                raise UnusableFile(
                    f"{path.name}: {int(words[2]):,} of {words[1]}; at most {3 * MOST_TRIANGLES:,} are read"
                )
    if smallest > path.stat().st_size:
        raise UnusableFile(f"{path.name}: shorter than its header says; the file is truncated")
