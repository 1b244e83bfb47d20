"""Small scenes of our own: for compiling kernels, and for tests."""

from __future__ import annotations

from typing import Any


def tiny_scene() -> dict[str, Any]:
    """A scene of a few thousand particles that uses every kind of element."""
    return {
        "format": "zinc-scene/1",
        "name": "warm",
        "time": {"last": 3},
        "domain": {"low": [0, 0, 0], "size": [0.4, 0.4, 0.4]},
        "liquid": {"voxel_size": 0.025, "flip_share": 0.5, "wall_friction": 0.1},
        "quality": {"draft": 1, "proof": 1},
        "elements": [
            {
                "kind": "fill",
                "name": "pool",
                "shape": {"kind": "box", "size": [0.4, 0.1, 0.4]},
                "pose": {"translation": [0.2, 0.05, 0.2]},
            },
            {
                "kind": "inflow",
                "name": "jet",
                "shape": {"kind": "disc", "radius": 0.05},
                "pose": {"translation": [0.3, 0.3, 0.3]},
                "velocity": [0, -1, 0],
            },
            {
                "kind": "collider",
                "name": "paddle",
                "shape": {"kind": "box", "size": [0.06, 0.1, 0.2]},
                "pose": {
                    "translation": {
                        "keys": [{"time": 0, "value": [0.1, 0.1, 0.2]}, {"time": 1, "value": [0.3, 0.1, 0.2]}]
                    }
                },
            },
        ],
    }


def block_into_pool() -> dict[str, Any]:
    """A scene of some fifteen thousand particles: a block of water that falls into a pool."""

    def block(name: str, size: list[float], middle: list[float]) -> dict[str, Any]:
        return {"kind": "fill", "name": name, "shape": {"kind": "box", "size": size}, "pose": {"translation": middle}}

    return {
        "format": "zinc-scene/1",
        "name": "block into a pool",
        "domain": {"low": [0, 0, 0], "size": [0.8, 0.8, 0.8]},
        "liquid": {"voxel_size": 0.04},
        "elements": [
            block("pool", [0.8, 0.16, 0.8], [0.4, 0.08, 0.4]),
            block("block", [0.24, 0.24, 0.24], [0.4, 0.5, 0.4]),
        ],
    }


BALL = "ball.ply"  # a mesh that whoever runs these scenes puts beside them


def liquids() -> list[dict[str, Any]]:
    """Scenes that between them use every kernel of the liquid: water, thick and thin-walled, large and pushed, deep."""
    scene = {**tiny_scene(), "time": {"last": 2}}
    pool, *rest = scene["elements"]
    plate = {
        "kind": "collider",
        "name": "plate",
        "shape": {"kind": "box", "size": [0.005, 0.2, 0.2]},
        "pose": {"translation": [0.2, 0.05, 0.2], "rotation": [0, 20, 30]},
    }
    ball = {
        "kind": "collider",
        "name": "ball",
        "shape": {"kind": "mesh", "file": BALL},
        "pose": {"translation": [0.3, 0.1, 0.3]},
    }
    thick = {**pool, "viscosity": 5.0, "mark": 0.5}
    block = {**pool, "shape": {"kind": "box", "size": [0.4, 0.38, 0.4]}, "pose": {"translation": [0.2, 0.19, 0.2]}}
    wind = {"kind": "force", "name": "wind", "effect": {"kind": "wind"}}
    large = {
        **scene,
        "domain": {**scene["domain"], "walls": {"z_min": "periodic", "z_max": "periodic"}},
        "liquid": {**scene["liquid"], "voxel_size": 0.0125},
        "elements": [block, wind],
    }
    deep = {**scene["liquid"], "band": 3.0, "texture_clock": 4}
    return [scene, {**scene, "elements": [thick, *rest, plate, ball]}, large, {**scene, "liquid": deep}]


def mists() -> list[dict[str, Any]]:
    """The same, with mist."""
    return [{**one, "mist": {"made": True}} for one in whitewaters()]


def whitewaters() -> list[dict[str, Any]]:
    """A scene whose layer of whitewater uses every kernel of it."""
    wind = {"kind": "force", "name": "wind", "effect": {"kind": "wind"}}
    layer = {"ask": "rate", "rate": 1000.0, "bursts": 2.0, "vorticity_share": 0.5}
    scene = tiny_scene()
    return [{**scene, "elements": [*scene["elements"], wind], "whitewater": {"layers": [layer]}}]


def surfaces() -> list[dict[str, Any]]:
    """Scenes whose surfaces between them use every method, filter and mask, the usual one first."""
    masks: list[dict[str, Any]] = [{"kind": k} for k in ("everywhere", "speed", "collider", "thickness")]
    does = ("gaussian", "mean", "median", "curvature", "grow", "shrink")
    filters = [{"does": d, "mask": masks[n % 4]} for n, d in enumerate(does)]
    settings: list[dict[str, Any]] = [
        {},
        {"method": "anisotropic", "filters": filters, "colliders": "remove", "body": 1.0, "specks": 4},
        {"method": "averaged", "cuts": [{"by": "height", "height": 0.1}], "fairing": 1},
        {"method": "spheres", "cuts": [{"by": "height", "height": 0.1, "capped": False}], "thinning": 1.0},
        {"method": "spheres", "stretch": 0.5, "body": 1.0},
    ]
    made = [{**tiny_scene(), "time": {"last": 2}, "surface": one} for one in settings]
    made[-1]["liquid"] = {**made[-1]["liquid"], "band": 3.0}
    return made


def seas() -> list[dict[str, Any]]:
    """A small sea with foam."""
    sea = {"made": True, "wind": 12.0, "fetch": 5.0, "sets": [{"size": 40.0, "resolution": 32}], "unlike": 30.0}
    return [{"format": "zinc-scene/1", "name": "sea", "time": {"last": 3}, "sea": sea, "sea_foam": {"run_up": 8}}]


def wakes() -> list[dict[str, Any]]:
    """A ball that goes through the water of a small sea past a post."""
    (sea,) = seas()
    keys = [{"time": 0.0, "value": [0.0, 0.0, 0.0], "segment": "linear"}, {"time": 1.0, "value": [2.0, 0.0, 0.0]}]
    ball = {"kind": "collider", "name": "ball", "shape": {"kind": "sphere", "radius": 1.0}}
    ball["pose"] = {"translation": {"keys": keys}}
    post = {"kind": "collider", "name": "post", "shape": {"kind": "box", "size": [1.0, 4.0, 1.0]}}
    post["pose"] = {"translation": [0.0, 0.0, 4.0]}
    wake = {"made": True, "size": 24.0, "resolution": 64, "run_up": 4}
    return [{**sea, "name": "wakes", "wake": wake, "elements": [ball, post]}]
