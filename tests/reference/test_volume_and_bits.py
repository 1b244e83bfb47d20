"""Volume over a violent shot, and the same bits however a run is cut up."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
from django.test import SimpleTestCase, tag

from basin.cache import open_cache
from basin.exchange import write_ply
from basin.geometry.primitives import box_mesh, sphere_mesh
from demo.tide_mill import scenes, write
from tests.long import LONG
from tests.reference.cases import mean_level
from tests.reference.tanks import CLOSED, liquid
from tests.waiting import until

ROOT = Path(__file__).resolve().parent.parent.parent


class Volume(SimpleTestCase):
    """The level after a closed sluice has run for 5 s and rested for 3 s (requirement of the product)."""

    @tag(LONG)
    def test_closed_sluice_settles_at_its_first_level(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            write(Path(folder))
            document = scenes()["TM020"]
            # a flat basin instead of steps: then the settled level has one exact value
            elements = [e for e in document["elements"] if e["name"] in ("Mill pond", "Sluice gate")]
            elements[0]["pose"]["translation"] = [-0.83, 0.3, 0.0]
            for key in elements[1]["pose"]["translation"]["keys"]:
                key["value"][1] -= 0.62
            dx, low, size = 0.05, (-1.6, 0.0, -0.45), (3.0, 1.2, 0.9)
            run = liquid(dx, size, elements, walls=CLOSED, low=low, folder=Path(folder), flip_share=0.6)
            poured = run.state.particles.volume.sum(dtype=np.float64) * dx**3
            for frame in range(2, 2 + 8 * 24):
                run.advance_frame(frame)
        self.assertAlmostEqual(run.state.particles.volume.sum(dtype=np.float64) * dx**3 / poured, 1.0, places=5)
        # level of the surface itself, where the level set is zero, not the mass in the books
        level, expected = mean_level(run, 8.0), poured / (size[0] * size[2])
        self.assertLess(abs(level - expected), 0.03 * expected, f"{level:.4f} m, expected {expected:.4f} m")
        self.assertLess(abs(level - expected), 0.25 * dx, f"{level:.4f} m, expected {expected:.4f} m")


def busy_scene() -> dict[str, Any]:
    """More than 64 tiles, every kind of source, collider, wall and force, a drain, a band, a thin wall, keyed gravity.

    Particles merge and split, a collider comes and goes, an inflow is swung and gives litres by keys.
    """
    pushes = [
        {"kind": "wind", "velocity": [6, 0, 1], "grip": 0.05},
        {"kind": "drag", "rate": 3.0},
        {"kind": "turbulence", "strength": {"keys": [{"time": 0, "value": 4}, {"time": 0.4, "value": 8}]}},
        {"kind": "vortex", "strength": 5.0},
        {"kind": "attraction", "strength": -3.0},
    ]
    zone = {"kind": "sphere", "radius": 0.3}
    middle = {"translation": [0.5, 0.3, 0.4]}
    falling = {"keys": [{"time": 0, "value": [0, -9.8, 0]}, {"time": 0.5, "value": [1, -9.0, 0]}]}
    swung = {"keys": [{"time": 0, "value": [0.2, 0.7, 0.4]}, {"time": 0.5, "value": [0.3, 0.7, 0.2]}]}
    return {
        "format": "zinc-scene/1",
        "name": "busy",
        "time": {"last": 9},
        "domain": {
            "low": [0, 0, 0],
            "size": [1.0, 0.8, 0.8],
            "walls": {"x_max": "calm", "z_max": "open"},
            "calm": 0.2,
            "discard": 0.05,
        },
        "liquid": {"voxel_size": 0.025, "flip_share": 0.8, "band": 3.0, "gravity": falling},
        "quality": {"draft": 1, "proof": 1},
        "elements": [
            {
                "kind": "fill",
                "name": "pool",
                "shape": {"kind": "box", "size": [1.0, 0.2, 0.8]},
                "pose": {"translation": [0.5, 0.1, 0.4]},
            },
            {
                "kind": "fill",
                "name": "drop",
                "shape": {"kind": "sphere", "radius": 0.15},
                "pose": {"translation": [0.7, 0.4, 0.4]},
                "velocity": [0, -3, 0],
                "paint": {"kind": "random", "seed": 3},
            },
            {
                "kind": "inflow",
                "name": "jet",
                "shape": {"kind": "disc", "radius": 0.08},
                "pose": {"translation": swung, "rotation": [10, 0, 20]},
                "velocity": [0.5, -2.5, 0],
                "amount": "flow",
                "flow": {"keys": [{"time": 0, "value": 20}, {"time": 0.5, "value": 60}]},
                "carry": 0.5,
            },
            {
                "kind": "inflow",
                "name": "spring",
                "shape": {"kind": "mesh", "file": "spring.ply"},
                "pose": {"translation": [0.15, 0.3, 0.7]},
                "amount": "full",
                "start": 0.1,
            },
            {
                "kind": "drain",
                "name": "hole",
                "shape": {"kind": "box", "size": [0.2, 0.1, 0.2]},
                "pose": {"translation": [0.9, 0.05, 0.1]},
                "start": 0.15,
            },
            *({"kind": "force", "name": e["kind"], "effect": e, "zone": zone, "pose": middle} for e in pushes),
            {
                "kind": "collider",
                "name": "bowl",
                "shape": {"kind": "sphere", "radius": 0.12},
                "pose": {"translation": [0.3, 0.2, 0.6]},
                "side": "shell",
                "thickness": 0.05,
                "start": 0.1,
                "end": 0.25,
            },
            {
                "kind": "collider",
                "name": "sheet",
                "shape": {"kind": "box", "size": [0.008, 0.3, 0.4]},
                "pose": {"translation": [0.85, 0.1, 0.4], "rotation": [0, 30, 20]},
            },
            {
                "kind": "collider",
                "name": "paddle",
                "shape": {"kind": "box", "size": [0.08, 0.4, 0.5]},
                "pose": {
                    "translation": {
                        "keys": [{"time": 0, "value": [0.35, 0.2, 0.4]}, {"time": 0.5, "value": [0.7, 0.2, 0.4]}]
                    },
                    "rotation": {"keys": [{"time": 0, "value": [0, 0, 0]}, {"time": 0.5, "value": [0, 40, 30]}]},
                },
            },
            {
                "kind": "collider",
                "name": "fin",
                "shape": {"kind": "sphere", "radius": 0.06},
                "pose": {"translation": [0.1, 0.0, 0.2]},
                "attached": "paddle",
                "active": {"keys": [{"time": 0, "value": 0, "segment": "step"}, {"time": 0.2, "value": 1}]},
            },
            {
                "kind": "collider",
                "name": "swell",
                "shape": {"kind": "mesh", "file": "swell.##.ply"},
                "pose": {"translation": [0.2, 0.15, 0.15]},
            },
        ],
    }


class SameBits(SimpleTestCase):
    """Frames are the same bytes for 1 and 8 threads, and for a run on 2 that is killed with -9 again and again."""

    def command(self, folder: Path, to: str, threads: int) -> list[str]:
        return [
            *(sys.executable, "-m", "basin", "run", str(folder / "busy.json"), "--to", str(folder / to)),
            *("--stages", "liquid", "--threads", str(threads)),
        ]

    def test_killed_and_resumed_run_ends_with_the_same_bytes(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / "busy.json").write_text(json.dumps(busy_scene()))
            spring = box_mesh((0.1, 0.1, 0.1))
            write_ply(folder / "spring.ply", spring.position, spring.triangle)
            ball = sphere_mesh(0.08)
            for number in range(1, 15):
                grown = ball.position * (1 + 0.05 * np.sin(number / 2 + 20 * ball.position[:, :1]))
                write_ply(folder / f"swell.{number:02d}.ply", grown, ball.triangle)
            env = {**os.environ, "PYTHONPATH": str(ROOT)}

            def run_whole(to: str, threads: int) -> None:
                many = {**env, "NUMBA_NUM_THREADS": str(max(threads, 2))}
                subprocess.run(self.command(folder, to, threads), env=many, check=True, capture_output=True)

            run_whole("one", 1)
            run_whole("eight", 8)
            rng = random.Random(7)
            kills = 0
            for _ in range(40):
                process = subprocess.Popen(
                    self.command(folder, "killed", 2), env=env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
                )
                target = rng.randrange(2, 5)
                before = len(list((folder / "killed").glob("liquid/frame-*.npz")))
                frames = (folder / "killed" / "liquid").glob

                def far_enough(process: Any = process, wanted: int = before + target, frames: Any = frames) -> bool:
                    return process.poll() is not None or len(list(frames("frame-*.npz"))) >= wanted

                until(far_enough, "no frame was made", 120.0)
                try:  # somewhere within the frame after it
                    process.wait(rng.random() * 0.15)
                except subprocess.TimeoutExpired:
                    process.send_signal(signal.SIGKILL)
                    kills += 1
                if process.wait() == 0:
                    break
            self.assertGreaterEqual(kills, 2)
            run_whole("killed", 2)
            whole = open_cache(folder / "one").stage("liquid")
            records = whole.records()
            self.assertEqual(sorted(records), list(range(1, 10)))
            last = whole.frame(9)
            self.assertGreater(len(last["tile"]), 64)
            self.assertGreater(int(last["id"].max()), int(whole.frame(1)["id"].max()))
            volumes = np.unique(last["volume"])
            self.assertGreater(len(volumes), 3, "no particle was merged or split")
            for other in ("eight", "killed"):
                for frame in records:
                    a = whole.path(frame).read_bytes()
                    b = open_cache(folder / other).stage("liquid").path(frame).read_bytes()
                    self.assertEqual(a, b, f"frame {frame} of the run {other!r}")
            shutil.rmtree(folder / "killed")
