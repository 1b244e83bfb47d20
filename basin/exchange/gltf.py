"""glTF 2.0 binary, written by hand: a node a piece, float positions, normals, colours, texture coordinates.

The format's unit is the metre and its up axis Y. Velocities and other attributes are application-specific ones, with
an underscore before their names in capitals, as the standard asks; ids are two 16-bit numbers, the lower one first.
"""

from __future__ import annotations

import json
import struct
from pathlib import Path
from typing import Any

import numpy as np

from basin.exchange.pieces import Piece
from basin.geometry.mesh import vertex_normals

FLOAT, UINT, SHORT = 5126, 5125, 5123
VERTICES, INDICES = 34962, 34963
POINTS, TRIANGLES = 0, 4
KINDS = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4"}


def write_glb(path: Path, pieces: list[Piece]) -> None:
    """Write pieces of one frame, in metres with Y up; those without points are left out."""
    document: dict[str, Any] = {
        "asset": {"version": "2.0", "generator": "Zinc Basin"},
        "scene": 0,
        "scenes": [{"nodes": []}],
        "nodes": [],
        "meshes": [],
        "accessors": [],
        "bufferViews": [],
        "buffers": [],
    }
    chunks: list[bytes] = []
    at = 0

    def add(array: np.ndarray, target: int, bounds: bool = False, kind: int = FLOAT) -> int:
        nonlocal at
        data = np.ascontiguousarray(array).tobytes()
        document["bufferViews"].append({"buffer": 0, "byteOffset": at, "byteLength": len(data), "target": target})
        chunks.append(data + b"\0" * (-len(data) % 4))
        at += len(chunks[-1])
        width = 1 if array.ndim == 1 or target == INDICES else array.shape[1]
        made: dict[str, Any] = {
            "bufferView": len(document["bufferViews"]) - 1,
            "componentType": UINT if target == INDICES else kind,
            "count": array.size // width,
            "type": KINDS[width],
        }
        if bounds:
            made |= {"min": array.min(axis=0).tolist(), "max": array.max(axis=0).tolist()}
        document["accessors"].append(made)
        return len(document["accessors"]) - 1

    for piece in pieces:
        if len(piece.position) == 0 or (piece.triangle is not None and len(piece.triangle) == 0):
            continue
        held = {"POSITION": add(np.asarray(piece.position, "<f4"), VERTICES, bounds=True)}
        for name, value in piece.attributes.items():
            if value.ndim > 1 and value.shape[1] not in KINDS:
                continue
            if name == "id":  # vertices may not hold 32 bits, and a float tells whole numbers apart up to 2^24 only
                halves = np.column_stack([value % 65536, value // 65536]).astype("<u2")
                held["_ID"] = add(halves, VERTICES, kind=SHORT)
                continue
            own = {"colour": "COLOR_0", "uv": "TEXCOORD_0"}.get(name, f"_{name.upper()}")
            given = np.column_stack([value[:, 0], 1 - value[:, 1]]) if name == "uv" else value  # their rows run down
            held[own] = add(np.asarray(given, "<f4"), VERTICES)
        primitive: dict[str, Any] = {"attributes": held, "mode": POINTS}
        if piece.triangle is not None:
            normal = vertex_normals(piece.position, piece.triangle)
            normal[~normal.any(axis=1)] = (0.0, 1.0, 0.0)  # the standard wants unit length everywhere
            held["NORMAL"] = add(normal.astype("<f4"), VERTICES)
            primitive |= {"mode": TRIANGLES, "indices": add(piece.triangle.astype("<u4").ravel(), INDICES)}
        document["meshes"].append({"name": piece.name, "primitives": [primitive]})
        document["nodes"].append({"name": piece.name, "mesh": len(document["meshes"]) - 1})
        document["scenes"][0]["nodes"].append(len(document["nodes"]) - 1)
    if chunks:
        document["buffers"].append({"byteLength": at})
    document = {name: value for name, value in document.items() if value or name == "scene"}
    if not document.get("nodes"):
        document["scenes"] = [{}]
    text = json.dumps(document, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    binary = b"".join(chunks)
    parts = [struct.pack("<II", len(text), 0x4E4F534A), text]
    if binary:
        parts += [struct.pack("<II", len(binary), 0x004E4942), binary]
    body = b"".join(parts)
    with path.open("wb") as file:
        file.write(struct.pack("<4sII", b"glTF", 2, 12 + len(body)) + body)
