"""``python -m basin.stages.warm``: compile every kernel by running a tiny scene, once per version."""

from __future__ import annotations

import os
import tempfile
from dataclasses import replace
from pathlib import Path
from typing import Any

from basin import source_hash
from basin.cache import Cache
from basin.scene import parse_scene
from basin.stages.judge import Asked, Judge
from basin.stages.run import run


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


def surfaces() -> list[dict[str, Any]]:
    """Settings of the surface that between them use every method, filter and mask."""
    masks: list[dict[str, Any]] = [{"kind": k} for k in ("everywhere", "speed", "collider", "thickness")]
    does = ("gaussian", "mean", "median", "curvature", "grow", "shrink")
    filters = [{"does": d, "mask": masks[n % 4]} for n, d in enumerate(does)]
    return [
        {},
        {"method": "anisotropic", "filters": filters, "colliders": "remove", "body": 1.0, "specks": 4},
        {"method": "averaged", "cuts": [{"by": "height", "height": 0.1}], "fairing": 1, "stretch": 0.5},
        {"method": "spheres", "cuts": [{"by": "height", "height": 0.1, "capped": False}], "thinning": 1.0},
    ]


def main() -> None:
    """Run the tiny scene unless this version's kernels were compiled before."""
    stamp = Path(os.environ["NUMBA_CACHE_DIR"]) / f"warm-{source_hash()}"
    if stamp.exists():
        return
    with tempfile.TemporaryDirectory() as folder:
        scene = {**tiny_scene(), "time": {"last": 2}}
        cache = Path(folder) / "cache"
        pool, *rest = scene["elements"]
        thick = {**scene, "elements": [{**pool, "viscosity": 5.0}, *rest]}
        for one in (thick, *({**scene, "surface": surface} for surface in surfaces())):
            for _ in run(parse_scene(one), Path(folder), Cache(cache)):
                pass
        asked = Asked(Path(folder), cache, scene, "final", 2)
        Judge().look(asked)
        Judge().look(replace(asked, middle=(0.2, 0.1, 0.2), reach=0.1))
    stamp.parent.mkdir(parents=True, exist_ok=True)
    stamp.touch()


if __name__ == "__main__":
    main()
