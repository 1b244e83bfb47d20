"""Small scenes that a shot can begin with: ``python -m demo.starts`` writes them.

Each shows one thing that liquid does, in a draft that is made while one waits. Shapes and numbers are ours.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np

from basin.exchange import write_ply
from basin.geometry.mesh import TriangleMesh
from basin.geometry.primitives import lathe_mesh
from basin.scene import parse_scene
from demo.tide_mill import OPEN, box_element, extrusion, mesh_element

HERE = Path(__file__).resolve().parent / "starts"


def jug() -> TriangleMesh:
    """A bellied stoneware jug without a lid."""
    height = np.linspace(0.0, 0.21, 15)
    outside = np.column_stack([0.082 + 0.034 * np.sin(np.pi * (height / 0.21) ** 0.8) - 0.04 * height, height])
    inside = np.column_stack([outside[::-1, 0] - 0.02, np.maximum(outside[::-1, 1], 0.02)])
    return lathe_mesh(np.array([(0, 0), *outside, *inside[:-2], (0, 0.02)]), 64, closed_loop=False)


def gourd() -> TriangleMesh:
    """The room inside a gourd of two bellies, closed above."""
    profile = [(0, 0), (0.06, 0.004), (0.098, 0.04), (0.105, 0.085), (0.08, 0.13), (0.034, 0.16), (0.034, 0.18)]
    upper = [(0.06, 0.205), (0.07, 0.24), (0.052, 0.275), (0.02, 0.292), (0, 0.295)]
    return lathe_mesh(np.array([*profile, *upper]), 64, closed_loop=False)


def spur() -> TriangleMesh:
    """A cog of six blunt teeth, 6 cm thick, standing on two of them."""
    turn = np.linspace(0, 2 * np.pi, 24, endpoint=False) + np.pi / 24
    radius = np.where(np.arange(24) % 4 < 2, 0.14, 0.085)
    return extrusion([(float(r * np.cos(a)), float(r * np.sin(a))) for r, a in zip(radius, turn, strict=True)], 0.06)


MODELS = {"jug": jug, "gourd": gourd, "spur": spur}


def scene(title: str, frames: int, domain: dict[str, Any], voxel: float, **more: Any) -> dict[str, Any]:
    """A starting scene: `voxel` is that of its draft (m), a third of it final."""
    liquid = {"voxel_size": round(voxel / 3, 6), **more.pop("liquid", {})}
    return {
        "format": "zinc-scene/1",
        "name": title,
        "time": {"first": 1, "last": frames, "fps": 24},
        "domain": domain,
        "liquid": liquid,
        "quality": {"draft": 3.0, "proof": 1.6},
        **more,
    }


def pour() -> dict[str, Any]:
    """A stream that fills a jug."""
    return scene(
        "Pour into a vessel",
        48,
        {"low": [-0.16, -0.02, -0.16], "size": [0.32, 0.5, 0.32], "walls": OPEN},
        0.0095,
        liquid={"flip_share": 0.9},
        camera={"eye": [0.66, 0.52, 0.86], "target": [0.0, 0.215, 0.0], "angle": 32},
        elements=[
            {
                "kind": "inflow",
                "name": "Stream",
                "shape": {"kind": "disc", "radius": 0.022},
                "amount": "flow",
                "flow": 1.3,
                "pose": {"translation": [0.015, 0.42, 0.0]},
            },
            mesh_element("collider", "Jug", "jug"),
            {"kind": "collider", "name": "Table", "shape": {"kind": "plane"}, "pose": {"translation": [0, -0.001, 0]}},
        ],
    )


def drop() -> dict[str, Any]:
    """A drop that falls into a pool."""
    return scene(
        "Drop into a pool",
        40,
        {"low": [-0.4, 0.0, -0.4], "size": [0.8, 0.7, 0.8], "walls": {"y_max": "open"}},
        0.02,
        liquid={"flip_share": 0.95},
        camera={"eye": [1.0, 0.75, 1.15], "target": [0.0, 0.2, 0.0], "angle": 32},
        elements=[
            box_element("fill", "Pool", [0.8, 0.2, 0.8], translation=[0.0, 0.1, 0.0]),
            {
                "kind": "fill",
                "name": "Drop",
                "shape": {"kind": "sphere", "radius": 0.085},
                "pose": {"translation": [0.0, 0.5, 0.0]},
            },
        ],
    )


def wall() -> dict[str, Any]:
    """A tank whose end wall pushes a wave along it."""
    stroke = [(0.0, -0.86), (0.25, -0.86), (0.75, -0.58), (1.5, -0.86), (2.0, -0.72)]
    keys = [{"time": t, "value": [x, 0.3, 0.0]} for t, x in stroke]
    return scene(
        "Tank with a moving wall",
        60,
        {"low": [-0.9, 0.0, -0.2], "size": [1.8, 0.7, 0.4], "walls": {"y_max": "open"}},
        0.025,
        liquid={"flip_share": 0.9},
        camera={"eye": [1.5, 1.05, 1.9], "target": [0.0, 0.2, 0.0], "angle": 34},
        elements=[
            box_element("fill", "Water", [1.7, 0.26, 0.4], translation=[0.05, 0.13, 0.0]),
            box_element("collider", "Pushing wall", [0.1, 0.62, 0.42], translation={"keys": keys}),
        ],
    )


def jet() -> dict[str, Any]:
    """A jet that breaks on a ball."""
    return scene(
        "Jet against an object",
        40,
        {"low": [-0.45, 0.0, -0.35], "size": [0.9, 0.6, 0.7], "walls": {**OPEN, "y_min": "closed"}},
        0.0145,
        liquid={"flip_share": 0.95},
        camera={"eye": [0.95, 0.7, 1.05], "target": [0.05, 0.22, 0.0], "angle": 32},
        elements=[
            {
                "kind": "inflow",
                "name": "Jet",
                "shape": {"kind": "disc", "radius": 0.04},
                "velocity": [3.0, 0.6, 0.0],
                "pose": {"translation": [-0.4, 0.26, 0.0], "rotation": [0.0, 0.0, -78.7]},
            },
            {
                "kind": "collider",
                "name": "Ball",
                "shape": {"kind": "sphere", "radius": 0.13},
                "pose": {"translation": [0.1, 0.3, 0.02]},
            },
        ],
    )


def shape_fills() -> dict[str, Any]:
    """Liquid that rises in a closed shape."""
    return scene(
        "A shape that fills",
        48,
        {"low": [-0.13, -0.02, -0.13], "size": [0.26, 0.34, 0.26], "walls": OPEN},
        0.0085,
        liquid={"flip_share": 0.8},
        camera={"eye": [0.42, 0.34, 0.56], "target": [0.0, 0.145, 0.0], "angle": 30},
        elements=[
            {**mesh_element("collider", "Gourd", "gourd"), "side": "inside"},
            {
                "kind": "inflow",
                "name": "Spout",
                "shape": {"kind": "disc", "radius": 0.018},
                "amount": "flow",
                "flow": 1.8,
                "velocity": [0.2, -1.0, 0.0],
                "pose": {"translation": [0.0, 0.26, 0.0]},
            },
        ],
    )


def shape_bursts() -> dict[str, Any]:
    """A shape of liquid that stands still a moment, then falls on the ground and bursts."""
    return scene(
        "A shape that bursts",
        40,
        {"low": [-0.5, 0.0, -0.4], "size": [1.0, 0.6, 0.8], "walls": {**OPEN, "y_min": "closed"}},
        0.0125,
        liquid={"flip_share": 0.97},
        camera={"eye": [0.85, 0.62, 1.15], "target": [0.0, 0.2, 0.0], "angle": 34},
        elements=[
            {
                **mesh_element("fill", "Cog of water", "spur", translation=[0.0, 0.36, 0.0], rotation=[0.0, 24.0, 0.0]),
                "velocity": [0.0, -1.2, 0.0],
            },
            {
                "kind": "force",
                "name": "Burst",
                "effect": {"kind": "attraction", "strength": -30.0, "core": 0.05},
                "pose": {"translation": [0.0, 0.3, 0.0]},
                "end": 0.12,
            },
        ],
    )


# an empty shot: a domain of a metre whose draft has thirty voxels across it
EMPTY = {
    "format": "zinc-scene/1",
    "liquid": {"voxel_size": 0.01, "flip_share": 0.9},
    "quality": {"draft": 3.0, "proof": 1.6},
}
# name of the folder, what it shows, the scene
STARTS = (
    ("pour", "A stream fills a jug on a table.", pour),
    ("drop", "A drop falls into a pool and throws up a crown.", drop),
    ("wall", "A keyed wall pushes waves along a tank.", wall),
    ("jet", "A jet breaks on a ball.", jet),
    ("fills", "A spout inside of a closed shape fills it.", shape_fills),
    ("bursts", "A shape of liquid flies apart on the ground.", shape_bursts),
)


def write(folder: Path = HERE) -> None:
    """Write scenes, their meshes and the index."""
    index = []
    for name, says, made in STARTS:
        document = made()
        home = folder / name
        home.mkdir(parents=True, exist_ok=True)
        for element in document["elements"]:
            file = element.get("shape", {}).get("file")
            if file:
                (home / "meshes").mkdir(parents=True, exist_ok=True)
                mesh = MODELS[Path(file).stem]()
                write_ply(home / file, mesh.position, mesh.triangle)
        parse_scene(document)
        (home / "scene.json").write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
        index.append({"name": name, "title": document["name"], "says": says})
    (folder / "empty.json").write_text(json.dumps(EMPTY, indent=1) + "\n", encoding="utf-8")
    (folder / "index.json").write_text(json.dumps(index, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    write()
