"""Reads back what was written, by other code than what wrote it, and compares it value by value."""

from __future__ import annotations

import json
from collections.abc import Iterable
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from alembic3d import Abc, AbcGeom
from pxr import Usd, UsdGeom

from basin.exchange.exr import read_exr
from basin.exchange.pieces import Piece
from basin.exchange.usd import opened
from basin.exchange.vdb import Grid, read_vdb

ROUNDED = 1.2e-7  # of the largest number: what single precision may lose; text has nine digits, which lose nothing


class Differs(OSError):
    """A file does not hold what was written into it."""


def _same(what: str, found: np.ndarray | None, wanted: np.ndarray, exact: bool = False) -> None:
    found = np.zeros((0, *wanted.shape[1:])) if found is None else np.asarray(found).reshape(-1, *wanted.shape[1:])
    if found.shape != wanted.shape:
        raise Differs(f"{what}: {len(found):,} read back, {len(wanted):,} written")
    off = np.abs(found.astype(np.float64) - wanted.astype(np.float64)).max(initial=0.0)
    most = np.abs(wanted.astype(np.float64)).max(initial=0.0)
    if not off <= (0 if exact else max(ROUNDED * most, 1e-30)):
        raise Differs(f"{what}: read back with other values, by {off:.3g}")


def verify_plain(path: Path, piece: Piece) -> None:
    """A PLY or OBJ file against the piece that it holds (trimesh reads it)."""
    if len(piece.position) == 0:
        return  # the reader takes no empty files
    kind = path.name.removesuffix(".part").rsplit(".", 1)[-1]
    with path.open("rb") as file:
        loaded = trimesh.load(file, file_type=kind, process=False, maintain_order=True)
    _same("points", loaded.vertices, np.asarray(piece.position, np.float32))
    if piece.triangle is not None:
        _same("triangles", getattr(loaded, "faces", None), piece.triangle, exact=True)
    raw = loaded.metadata.get("_ply_raw", {}).get("vertex", {}).get("data")
    if raw is not None and "velocity" in piece.attributes:
        flow = np.stack([raw[n] for n in ("vx", "vy", "vz")], axis=-1)
        _same("velocities", flow, np.asarray(piece.attributes["velocity"], np.float32))


def verify_glb(path: Path, pieces: list[Piece]) -> None:
    """A glTF file against its pieces (trimesh reads it)."""
    full = [p for p in pieces if len(p.position) and (p.triangle is None or len(p.triangle))]
    if not full:
        return
    with path.open("rb") as file:
        scene = trimesh.load(file, file_type="glb", process=False, maintain_order=True, force="scene")
    for piece in full:
        found = scene.geometry.get(piece.name)
        if found is None:
            raise Differs(f"{piece.name}: not in the file")
        _same("points", found.vertices, np.asarray(piece.position, np.float32))
        if piece.triangle is not None:
            _same("triangles", found.faces, piece.triangle, exact=True)
    held = _vertex_attributes(path)
    for piece in full:
        for name, value in piece.attributes.items():
            if name in ("colour", "uv"):
                continue  # trimesh turns these into pictures of its own
            own = held[piece.name].get(f"_{name.upper()}")
            if name == "id":
                _same("ids", own, np.column_stack([value % 65536, value // 65536]), exact=True)
            elif value.ndim == 1 or value.shape[1] <= 4:
                _same(name, own, np.asarray(value, np.float32), exact=True)


def _vertex_attributes(path: Path) -> dict[str, dict[str, np.ndarray]]:
    """What the vertices of each mesh of a glTF file carry, by the names in the file (the standard, section 3.6)."""
    data = path.read_bytes()
    length = int.from_bytes(data[12:16], "little")
    document, binary = json.loads(data[20 : 20 + length]), data[28 + length :]
    found: dict[str, dict[str, np.ndarray]] = {}
    for mesh in document.get("meshes", []):
        held = found[mesh["name"]] = {}
        for name, index in mesh["primitives"][0]["attributes"].items():
            told = document["accessors"][index]
            view = document["bufferViews"][told["bufferView"]]
            kind = {5123: "<u2", 5126: "<f4"}[told["componentType"]]
            width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4}[told["type"]]
            values = np.frombuffer(binary, kind, told["count"] * width, view["byteOffset"])
            held[name] = values.reshape(told["count"], width)
    return found


def verify_usd(path: Path, frames: Iterable[tuple[int, list[Piece]]]) -> None:
    """Frames of a USD file, by their numbers, against their pieces."""
    stage = opened(path)
    for frame, pieces in frames:
        _verify_usd_frame(stage, frame, pieces)


def _verify_usd_frame(stage: Usd.Stage, frame: int, pieces: list[Piece]) -> None:
    for piece in pieces:
        prim = stage.GetPrimAtPath(f"/delivery/{piece.name}")
        if not prim:
            raise Differs(f"{piece.name}: not in the file")
        time = Usd.TimeCode.Default() if piece.still else Usd.TimeCode(frame)
        base = UsdGeom.PointBased(prim)
        _same("points", _array(base.GetPointsAttr(), time), np.asarray(piece.position, np.float32))
        if "velocity" in piece.attributes:
            flow = np.asarray(piece.attributes["velocity"], np.float32)
            _same("velocities", _array(base.GetVelocitiesAttr(), time), flow)
        if piece.triangle is not None:
            corners = _array(UsdGeom.Mesh(prim).GetFaceVertexIndicesAttr(), time)
            _same("triangles", corners, piece.triangle, exact=True)


def _array(attribute: Usd.Attribute, time: Usd.TimeCode) -> np.ndarray | None:
    value = attribute.Get(time)
    return None if value is None else np.array(value)


def verify_alembic(path: Path, frames: Iterable[tuple[float, list[Piece]]]) -> None:
    """Frames of an Alembic file, by their seconds, against their pieces."""
    top = Abc.IArchive(str(path)).getTop()
    for second, pieces in frames:
        _verify_alembic_frame(top, second, pieces)


def _verify_alembic_frame(top: Any, second: float, pieces: list[Piece]) -> None:
    names = {top.getChild(i).getName() for i in range(top.getNumChildren())}
    select = Abc.ISampleSelector(second, Abc.ISampleSelector.TimeIndexType.kNearIndex)
    for piece in pieces:
        if piece.name not in names:
            raise Differs(f"{piece.name}: not in the file")
        kind = AbcGeom.IPoints if piece.triangle is None else AbcGeom.IPolyMesh
        value = kind(top, piece.name).getSchema().getValue(select)
        _same("points", np.array(value.getPositions()), np.asarray(piece.position, np.float32))
        if "velocity" in piece.attributes:
            flow = np.asarray(piece.attributes["velocity"], np.float32)
            _same("velocities", np.array(value.getVelocities()) if value.getVelocities() else None, flow)
        if piece.triangle is not None:
            corners = np.array(value.getFaceIndices(), np.int64).reshape(-1, 3)[:, ::-1]
            _same("triangles", corners, piece.triangle, exact=True)


def verify_vdb(path: Path, grids: list[Grid]) -> None:
    """An OpenVDB file against its grids."""
    found = read_vdb(path)
    names = found["names"].tolist()
    for grid in grids:
        if grid.name not in names:
            raise Differs(f"{grid.name}: not in the file")
        n = names.index(grid.name)
        low, values = found[f"low{n}"], found[f"values{n}"]
        for tile, wanted in zip(grid.tile, grid.values, strict=True):
            # what is as the background is not stored
            read = np.full(wanted.shape, grid.background, np.float32)
            start = 8 * tile.astype(np.int64) - low
            size = np.array(values.shape[:3])
            begin, end = np.clip(start, 0, size), np.clip(start + 8, 0, size)
            if (end > begin).all():
                block = tuple(slice(int(b), int(e)) for b, e in zip(begin, end, strict=True))
                own = tuple(slice(int(b), int(e)) for b, e in zip(begin - start, end - start, strict=True))
                read[own] = values[block]
            _same(grid.name, read, np.asarray(wanted, np.float32))
        _same("placement", found[f"matrix{n}"].ravel(), np.asarray(grid.matrix).ravel())


def verify_exr(path: Path, channels: dict[str, np.ndarray]) -> None:
    """An OpenEXR image against its channels."""
    found = read_exr(path)
    for name, wanted in channels.items():
        _same(name, found.get(name), np.asarray(wanted, np.float32), exact=True)
