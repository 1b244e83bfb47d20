"""Models Tide Mill's geometry and writes its scenes: ``python -m demo.tide_mill``.

A small pottery in an old tide mill on an estuary; every name, shape and number is ours.
"""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

import numpy as np
from scipy.interpolate import Akima1DInterpolator

from basin.exchange import write_ply
from basin.geometry.mesh import TriangleMesh, facing_out
from basin.geometry.primitives import lathe_mesh
from basin.scene import parse_scene

HERE = Path(__file__).resolve().parent / "scenes"
PRODUCTION = "Tide Mill"
SHOTS = (
    "TM010 Glaze pour",
    "TM020 Sluice release",
    "TM024 Bucket into the trough",
    "TM030 Rain barrel",
    "TM034 Slip bottle",
    "TM040 Chain ferry",
)

OF_SEA = {"sea": True, "sea_foam": True, "wake": True, "sea_as": "as the camera sees it", "side": 3000.0, "points": 256}
OPEN = dict.fromkeys(("x_min", "x_max", "y_min", "y_max", "z_min", "z_max"), "open")


def extrusion(profile: list[tuple[float, float]], width: float) -> TriangleMesh:
    """A closed mesh from an outline in x, y (counter-clockwise), drawn out along z about 0."""
    outline = np.array(profile, dtype=float)
    n = len(outline)
    position = np.concatenate([np.column_stack([outline, np.full(n, z)]) for z in (-width / 2, width / 2)])
    caps = ears(outline)
    sides = [t for i in range(n) for j in ((i + 1) % n,) for t in ((i, j, n + j), (i, n + j, n + i))]
    back = [(c, b, a) for a, b, c in caps]
    front = [(a + n, b + n, c + n) for a, b, c in caps]
    return facing_out(TriangleMesh(position, np.array(sides + back + front, dtype=np.int32)))


def ears(outline: np.ndarray) -> list[tuple[int, int, int]]:
    """Triangles of a simple polygon, counter-clockwise, by cutting ears."""
    left = list(range(len(outline)))
    triangles = []

    def cross(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> float:
        return float((b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0]))

    while len(left) > 3:
        for i, middle in enumerate(left):
            before, after = left[i - 1], left[(i + 1) % len(left)]
            a, b, c = outline[before], outline[middle], outline[after]
            if cross(a, b, c) <= 1e-12:
                continue
            others = [outline[k] for k in left if k not in (before, middle, after)]
            if any(cross(a, b, p) >= 0 and cross(b, c, p) >= 0 and cross(c, a, p) >= 0 for p in others):
                continue
            triangles.append((before, middle, after))
            left.pop(i)
            break
        else:
            raise ValueError("the outline crosses itself")
    return [*triangles, (left[0], left[1], left[2])]


def race_steps() -> TriangleMesh:
    """Pond floor, four worn stone steps and the tail race."""
    top = [(-1.7, 0.62), (0.22, 0.62)]
    x, y = 0.22, 0.62
    for run, drop, wear in ((0.34, 0.14, 0.02), (0.31, 0.16, 0.015), (0.36, 0.13, 0.025), (0.33, 0.15, 0.01)):
        top += [(x + 0.03, y - drop), (x + run, y - drop - wear)]
        x, y = x + run, y - drop - wear
    top += [(x + 0.03, y - 0.02), (3.1, -0.06)]
    outline = [(-1.7, -0.4), (3.1, -0.4), *reversed(top)]
    return extrusion(outline, 1.2)


def post() -> TriangleMesh:
    """A worn mooring post."""
    profile = [(0, -0.3), (0.075, -0.3), (0.072, 0.2), (0.06, 0.45), (0.068, 0.6), (0.05, 0.66), (0, 0.67)]
    return lathe_mesh(np.array(profile, dtype=float), 28, closed_loop=False)


DISH = [(0.067, -0.002), (0.064, -0.007), (0.055, -0.012), (0.03, -0.0145), (0.0, -0.015)]


def barrel() -> TriangleMesh:
    """A bellied barrel; its lid, at the origin's height, is turned into a shallow dish where rain stands."""
    outside = [(0.40, -0.9), (0.45, -0.68), (0.47, -0.45), (0.45, -0.20), (0.41, 0.0), (0.4, 0.006)]
    lid = [
        (0.385, 0.006),
        (0.383, -0.006),
        (0.085, -0.006),
        (0.081, 0.0),
        (0.077, 0.003),
        (0.072, 0.003),
        (0.069, 0.001),
    ]
    return lathe_mesh(np.array([(0, -0.9), *outside, *lid, *DISH]), 96, closed_loop=False)


def barrel_water() -> TriangleMesh:
    """What stands in the lid's dish."""
    return lathe_mesh(np.array([*DISH[::-1], (0.0665, -0.004), (0.0, -0.004)]), 96, closed_loop=False)


def slip() -> TriangleMesh:
    """What fills the mixer's tub to a hand above its blade."""
    return lathe_mesh(np.array([(0, 0.05), (0.31, 0.05), (0.31, 0.3), (0, 0.3)]), 56, closed_loop=False)


def bowl() -> TriangleMesh:
    """A turned bowl upside down on its rim, its foot up, ready to be glazed."""
    outside = [(0.098, 0.0), (0.1, 0.012), (0.095, 0.035), (0.078, 0.062), (0.055, 0.078), (0.046, 0.082)]
    foot = [(0.045, 0.1), (0.036, 0.1), (0.034, 0.087), (0.0, 0.086)]
    return lathe_mesh(np.array([(0.0, 0.0), *outside, *foot]), 64, closed_loop=False)


def wheel() -> TriangleMesh:
    """The banding wheel that the bowl stands on: a plate with a low rim on a stem."""
    profile = [(0, -0.09), (0.03, -0.09), (0.03, -0.02), (0.16, -0.02), (0.16, 0.012), (0.147, 0.012), (0.145, 0.0)]
    return lathe_mesh(np.array([*profile, (0, 0.0)]), 64, closed_loop=False)


def cup(inside: float, outside: float) -> np.ndarray:
    """Outline of a round cup, its rim at the origin's height."""
    turn = np.linspace(0, np.pi / 2, 9)
    shell = [np.column_stack([r * np.sin(turn), -r * np.cos(turn)]) for r in (outside, inside)]
    rim = np.array([[outside, 0.012], [inside, 0.012]])
    found = np.concatenate([shell[0], rim, shell[1][::-1]])
    found[[0, -1], 0] = 0.0
    return found


def ladle() -> TriangleMesh:
    """A round ladle, its cup's rim about the origin."""
    return lathe_mesh(cup(0.055, 0.065), 48, closed_loop=False)


def glaze() -> TriangleMesh:
    """What fills the ladle to its brim."""
    turn = np.linspace(0, np.pi / 2, 9)
    profile = np.column_stack([0.055 * np.sin(turn), -0.055 * np.cos(turn)])
    profile[0, 0] = 0.0
    return lathe_mesh(np.array([*profile, (0.0, 0.0)]), 48, closed_loop=False)


BELLY, NECK, WALL = 0.026, 0.0085, 0.004  # inner radii of the slip bottle, and its wall


def bottle() -> TriangleMesh:
    """A stoneware bottle; the middle of its lip is the origin."""
    inside = [
        (NECK, 0.0),
        (NECK, -0.03),
        (0.013, -0.043),
        (0.022, -0.053),
        (BELLY, -0.065),
        (BELLY, -0.14),
        (0.0, -0.141),
    ]
    outside = [(r + WALL if r else 0.0, h - (0.0 if r else WALL)) for r, h in reversed(inside)]
    outside[1] = (BELLY + WALL, -0.145)
    rim = [(NECK + 0.003, 0.002), (NECK + 0.001, 0.002)]
    return lathe_mesh(np.array([*outside, *rim, *inside]), 64, closed_loop=False)


def bottle_slip() -> TriangleMesh:
    """What fills the bottle to its shoulder."""
    return lathe_mesh(
        np.array([(0, -0.141), (BELLY, -0.14), (BELLY, -0.065), (0.024, -0.058), (0, -0.058)]), 64, closed_loop=False
    )


def rounded(profile: list[tuple[float, float]], times: int = 6) -> list[tuple[float, float]]:
    """A profile with a curve through its points instead of straight pieces, so many of its own for each."""
    points = np.array(profile)
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    at = np.interp(np.arange((len(points) - 1) * times + 1) / times, np.arange(len(points)), along)
    curve = Akima1DInterpolator(along, points)(at)
    return [(max(float(r), 0.0), float(y)) for r, y in curve]


def pot() -> TriangleMesh:
    """A hand-sized lidded pot with a knob."""
    body = rounded([(0.026, 0.0), (0.0285, 0.005), (0.036, 0.022), (0.039, 0.038), (0.035, 0.053), (0.026, 0.063)])
    lid = rounded([(0.0265, 0.066), (0.022, 0.069), (0.015, 0.0715), (0.0055, 0.0735)])
    knob = rounded([(0.0055, 0.077), (0.009, 0.0815), (0.007, 0.0865), (0.0, 0.088)])
    return lathe_mesh(np.array([(0.0, 0.0), *body, *lid, *knob]), 96, closed_loop=False)


def board() -> TriangleMesh:
    """A board of oak, its hinge at the origin."""
    return extrusion([(-0.03, 0.0), (0.03, 0.0), (0.025, 0.72), (-0.025, 0.72)], 0.78)


def mixer_blade() -> TriangleMesh:
    """A flat blade with ends bent against each other, about its shaft."""
    outline = [
        (-0.24, -0.035),
        (-0.1, -0.02),
        (0.1, -0.06),
        (0.24, -0.005),
        (0.24, 0.035),
        (0.1, 0.02),
        (-0.1, 0.06),
        (-0.24, 0.005),
    ]
    return extrusion(outline, 0.16)


def mesh_element(kind: str, name: str, file: str, **pose: Any) -> dict[str, Any]:
    """An element made of one of our meshes."""
    return {"kind": kind, "name": name, "shape": {"kind": "mesh", "file": f"meshes/{file}.ply"}, "pose": pose}


def box_element(kind: str, name: str, size: list[float], **pose: Any) -> dict[str, Any]:
    """A box element."""
    return {"kind": kind, "name": name, "shape": {"kind": "box", "size": size}, "pose": pose}


def scenes() -> dict[str, dict[str, Any]]:
    """Scene documents by file stem."""
    way = [(0.3, -0.06, 0.22), (1.3, -0.03, 0.2), (2.4, 0.03, 0.195), (3.4, -0.03, 0.2), (4.4, -0.08, 0.23)]
    tilt = [(0.3, 0.0), (1.3, -62.0), (2.4, -92.0), (3.4, -118.0), (4.4, -125.0)]
    ladle_pose = {
        "translation": {"keys": [{"time": t, "value": [x, y, 0.0]} for t, x, y in way]},
        "rotation": {"keys": [{"time": t, "value": [0.0, 0.0, a]} for t, a in tilt]},
    }
    pour = {
        "format": "zinc-scene/1",
        "name": SHOTS[0],
        "time": {"first": 1, "last": 132, "fps": 24},
        "domain": {
            "low": [-0.19, -0.04, -0.17],
            "size": [0.38, 0.34, 0.34],
            "walls": OPEN,
        },
        "liquid": {"voxel_size": 0.003, "density": 1500.0},
        "quality": {"draft": 1.5, "proof": 1.25},
        "surface": {
            "filters": [{"does": "gaussian", "width": 1.0}, {"does": "curvature", "width": 2.0}],
            "spray_radius": 0.0,
            "specks": 30,
            "colliders": "remove",
            "gap": -0.2,
            "fairing": 30,
        },
        "deliveries": [{"name": "for light", "format": "usd", "elements": True}],
        "camera": {"eye": [0.32, 0.3, 0.52], "target": [-0.01, 0.1, 0.0], "angle": 34},
        "elements": [
            {
                **mesh_element("fill", "Glaze", "glaze", translation=[-0.06, 0.22, 0.0]),
                "viscosity": 5.0,
                "surface_tension": 0.05,
                "colour": [0.2, 0.34, 0.3],
            },
            {**mesh_element("collider", "Bowl", "bowl"), "contact_angle": 25.0},
            {**mesh_element("collider", "Banding wheel", "wheel"), "contact_angle": 25.0},
            {**mesh_element("collider", "Ladle", "ladle"), "pose": ladle_pose, "contact_angle": 25.0},
        ],
    }
    lift = [{"time": 0.25, "value": [0.0, 1.02, 0.0]}, {"time": 1.1, "value": [0.0, 1.62, 0.0]}]
    sluice = {
        "format": "zinc-scene/1",
        "name": SHOTS[1],
        "time": {"first": 1, "last": 108, "fps": 24},
        "domain": {
            "low": [-1.6, -0.2, -0.45],
            "size": [4.5, 1.9, 0.9],
            "walls": {"x_min": "closed", "x_max": "open", "y_min": "open", "y_max": "open"},
        },
        "liquid": {"voxel_size": 0.0125, "flip_share": 0.6, "wall_friction": 0.05},
        "whitewater": {
            "layers": [
                {"particles": 150000, "trapped_from": 3.5, "trapped_to": 8.0, "crest_from": 2.5, "crest_share": 0.3}
            ]
        },
        "mist": {"made": True, "voxel": 0.025, "tears": 4.0, "carries": 3.0},
        "deliveries": [
            {"name": "for light", "format": "usd", "elements": True, "unit": "cm", "up": "z"},
            {"name": "mist", "format": "vdb", "mist": True},
        ],
        "camera": {"eye": [3.7, 2.0, 3.7], "target": [0.45, 0.5, 0.0], "angle": 36},
        "elements": [
            box_element("fill", "Mill pond", [1.54, 0.6, 0.9], translation=[-0.83, 0.92, 0.0]),
            mesh_element("collider", "Race and steps", "race_steps"),
            box_element("collider", "Sluice gate", [0.12, 0.8, 1.0], translation={"keys": lift}),
            mesh_element("collider", "Mooring post", "post", translation=[1.05, 0.1, 0.12]),
        ],
    }
    rain = {
        "format": "zinc-scene/1",
        "name": SHOTS[3],
        "time": {"first": 1, "last": 96, "fps": 24, "time_scale": 0.08},
        "domain": {
            "low": [-0.085, -0.02, -0.085],
            "size": [0.17, 0.115, 0.17],
            "walls": OPEN,
        },
        "liquid": {"voxel_size": 0.0009},
        "quality": {"draft": 1.7, "proof": 1.3},
        "surface": {
            "filters": [
                {"does": "gaussian", "width": 0.7},
                {"does": "curvature", "width": 1.5, "mask": {"kind": "thickness", "full": 0.009, "none": 0.003}},
            ],
            "colliders": "remove",
            "gap": -0.2,
        },
        "deliveries": [
            {"name": "for light", "format": "usd", "elements": True},
            {"name": "drops", "format": "abc", "surface": False, "liquid": True, "one_file": True, "last": 24},
            {"name": "level set", "format": "vdb", "unit": "cm", "step": 4},
            {"name": "from above", "format": "exr", "step": 4},
        ],
        "camera": {"eye": [0.14, 0.115, 0.24], "target": [0.0, 0.016, 0.0], "angle": 30},
        "elements": [
            {**mesh_element("fill", "Rain in the lid", "barrel_water"), "liquid": "water 20 C"},
            {
                "kind": "fill",
                "name": "Heavy drop",
                "shape": {"kind": "sphere", "radius": 0.01},
                "pose": {"translation": [0.004, 0.022, -0.003]},
                "velocity": [0.0, -0.12, 0.0],
                "liquid": "water 20 C",
                "paint": {"kind": "gradient"},
                "colour": [0.35, 0.11, 0.03],
                "colour_to": [0.6, 0.42, 0.12],
                "mark": 1.0,
                "mark_to": 1.0,
            },
            {**mesh_element("collider", "Barrel", "barrel"), "contact_angle": 50.0},
        ],
    }
    carried = [(0.0, -0.12, 0.15), (0.9, -0.035, 0.142), (3.6, -0.022, 0.13), (4.4, -0.06, 0.15)]
    tipped = [(0.2, 0.0), (1.2, -88.0), (2.6, -108.0), (3.6, -112.0), (4.3, -60.0)]
    held = {
        "translation": {"keys": [{"time": t, "value": [x, y, 0.0]} for t, x, y in carried]},
        "rotation": {"keys": [{"time": t, "value": [0.0, 0.0, a]} for t, a in tipped]},
    }
    neck = {
        "format": "zinc-scene/1",
        "name": SHOTS[4],
        "time": {"first": 1, "last": 120, "fps": 24},
        "domain": {
            "low": [-0.21, -0.026, -0.08],
            "size": [0.31, 0.23, 0.16],
            "walls": OPEN,
        },
        "liquid": {"voxel_size": 0.0016, "density": 1500.0},
        "quality": {"draft": 1.6, "proof": 1.25},
        "surface": {
            "filters": [{"does": "gaussian", "width": 1.0}, {"does": "curvature", "width": 2.0}],
            "spray_radius": 0.0,
            "specks": 30,
            "colliders": "remove",
            "gap": -0.2,
        },
        "deliveries": [{"name": "for light", "format": "usd", "elements": True}],
        "camera": {"eye": [0.12, 0.19, 0.42], "target": [-0.035, 0.08, 0.0], "angle": 29},
        "elements": [
            {
                **mesh_element("fill", "Slip", "bottle_slip"),
                "viscosity": 0.8,
                "surface_tension": 0.055,
                "colour": [0.62, 0.42, 0.28],
                "pose": {"translation": [carried[0][1], carried[0][2], 0.0]},
            },
            {**mesh_element("collider", "Bottle", "bottle"), "pose": held, "contact_angle": 20.0},
            {**mesh_element("collider", "Pot", "pot"), "contact_angle": 30.0},
            {**mesh_element("collider", "Banding wheel", "wheel"), "contact_angle": 30.0},
        ],
    }
    return {
        "TM010": pour,
        "TM020": sluice,
        "TM024": trough(),
        "TM030": rain,
        **other_drops(rain),
        "TM034": neck,
        "TM040": crossing(),
    }


def trough() -> dict[str, Any]:
    """A bucket that is emptied into a horse trough."""
    walls = {
        "Trough floor": ([1.3, 0.05, 0.6], [0.0, 0.025, 0.0]),
        "Trough end": ([0.05, 0.45, 0.6], [-0.625, 0.225, 0.0]),
        "Trough far end": ([0.05, 0.45, 0.6], [0.625, 0.225, 0.0]),
        "Trough front": ([1.2, 0.45, 0.05], [0.0, 0.225, 0.275]),
        "Trough back": ([1.2, 0.45, 0.05], [0.0, 0.225, -0.275]),
    }
    tilt = [
        {"time": 0.2, "value": [0.0, 0.0, 0.0]},
        {"time": 1.0, "value": [0.0, 0.0, -112.0]},
        {"time": 1.5, "value": [0.0, 0.0, -128.0]},
    ]
    bucket = {
        "kind": "collider",
        "name": "Bucket",
        "shape": {"kind": "tub", "radius": 0.15, "height": 0.32, "wall": 0.03},
        "pose": {"translation": [-0.32, 0.86, 0.0], "rotation": {"keys": tilt}},
    }
    water = {
        "kind": "fill",
        "name": "Water in the bucket",
        "shape": {"kind": "box", "size": [0.16, 0.22, 0.16]},
        "pose": {"translation": [-0.32, 1.0, 0.0]},
    }
    return {
        "format": "zinc-scene/1",
        "name": SHOTS[2],
        "time": {"first": 1, "last": 84, "fps": 24},
        "domain": {"low": [-0.8, 0.0, -0.45], "size": [1.7, 1.35, 0.9], "walls": OPEN},
        "liquid": {"voxel_size": 0.009, "flip_share": 0.6},
        "quality": {"draft": 2.2},
        "whitewater": {
            "layers": [
                {"name": "bubbles and foam", "particles": 60000, "foam_life": 1.2, "splashes": 1.5},
            ]
        },
        "deliveries": [{"name": "foam", "format": "usd", "surface": True, "whitewater": True}],
        "camera": {"eye": [0.95, 1.45, 1.55], "target": [0.0, 0.4, 0.0], "angle": 36},
        "elements": [
            box_element("fill", "Water in the trough", [1.2, 0.27, 0.5], translation=[0.0, 0.185, 0.0]),
            water,
            bucket,
            *(
                {**box_element("collider", name, size, translation=place), "group": "Trough"}
                for name, (size, place) in walls.items()
            ),
        ],
    }


def ferry() -> TriangleMesh:
    """A flat hull with raked ends, which floats to the origin's height."""
    side = [(-5.6, 0.55), (-4.2, -0.45), (4.2, -0.45), (5.6, 0.55), (5.6, 0.72), (-5.6, 0.72)]
    return extrusion(side, 4.4)


def rails() -> TriangleMesh:
    """The ferry's rails on both sides, with seven posts each."""
    bars = []
    for side in (-2.1, 2.1):
        posts = [(-4.5 + 1.5 * n, 0.035, 0.72, 1.62) for n in range(7)]
        for x, half, low, high in [*posts, (0.0, 4.6, 1.59, 1.65)]:
            bar = extrusion([(x - half, low), (x + half, low), (x + half, high), (x - half, high)], 0.06)
            bars.append((bar.position + np.array([0.0, 0.0, side]), bar.triangle))
    before = np.cumsum([0, *(len(position) for position, _ in bars[:-1])])
    triangles = [triangle + n for (_, triangle), n in zip(bars, before, strict=True)]
    return TriangleMesh(np.concatenate([position for position, _ in bars]), np.concatenate(triangles).astype(np.int32))


def crossing() -> dict[str, Any]:
    """The chain ferry on the estuary in a fresh breeze."""
    way = [{"time": 0.0, "value": [-4.0, 0.0, 0.0], "segment": "linear"}, {"time": 5.0, "value": [4.0, 0.0, 0.0]}]
    nod = [{"time": 0.7 * n, "value": [0.6 * (-1) ** n, 0.0, 0.5 * (-1) ** (n // 2)]} for n in range(8)]
    hull = mesh_element("collider", "Ferry", "ferry", translation={"keys": way}, rotation={"keys": nod})

    def aboard(name: str, size: list[float], place: list[float]) -> dict[str, Any]:
        return {**box_element("collider", name, size, translation=place), "attached": "Ferry", "group": "Ferry"}

    return {
        "format": "zinc-scene/1",
        "name": SHOTS[5],
        "time": {"first": 1, "last": 120, "fps": 24},
        "domain": {"low": [-9.0, -1.5, -5.0], "size": [18.0, 5.0, 10.0], "walls": OPEN},
        "liquid": {"voxel_size": 0.2},
        "sea": {
            "made": True,
            "wind": 9.3,
            "towards": 25.0,
            "fetch": 4.0,
            "depth": 9.0,
            "sets": [{"size": 64.0, "resolution": 1024, "choppiness": 1.1}],
            "unlike": 48.0,
        },
        "wake": {"made": True, "size": 48.0, "resolution": 1024, "run_up": 240},
        "sea_foam": {"pattern": 0.35},
        "camera": {"eye": [-11.5, 2.3, 13.0], "target": [1.5, 0.9, 0.0], "angle": 34},
        "elements": [
            {**hull, "group": "Ferry"},
            aboard("Wheelhouse", [1.5, 2.1, 1.3], [2.6, 1.75, -1.35]),
            aboard("Wheelhouse roof", [1.8, 0.1, 1.6], [2.6, 2.85, -1.35]),
            {**mesh_element("collider", "Rails", "ferry_rails"), "attached": "Ferry", "group": "Ferry"},
        ],
        "deliveries": [
            {"name": "for light", "format": "usd", "surface": False, "elements": True, **OF_SEA},
            {"name": "patches", "format": "exr", "sea": True, "sea_foam": True},
        ],
    }


def other_drops(rain: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """The rain barrel's other takes by file stem: what falls slower, and what holds together less and more."""
    gentle, soapy, taut = (copy.deepcopy(rain) for _ in range(3))
    gentle["elements"][1]["velocity"] = [0.0, -0.06, 0.0]
    for document, tension in ((soapy, 0.025), (taut, 0.3)):
        for source in document["elements"][:2]:
            source |= {"liquid": "own numbers", "viscosity": 0.001, "surface_tension": tension}
    return {"TM030.a-gentler-drop": gentle, "TM030.a-third-of-the-tension": soapy, "TM030.four-times-the-tension": taut}


def stress_scenes() -> dict[str, dict[str, Any]]:
    """Scenes that are hard on the solver, not part of the demo's contact sheet."""
    bucket = {
        "format": "zinc-scene/1",
        "name": "TM025 Bucket against the post",
        "time": {"first": 1, "last": 48, "fps": 24},
        "domain": {
            "low": [-1.0, 0.0, -0.7],
            "size": [2.4, 1.6, 1.4],
            "walls": {"x_min": "open", "x_max": "open", "y_max": "open", "z_min": "open", "z_max": "open"},
        },
        "liquid": {"voxel_size": 0.01, "flip_share": 0.6},
        "camera": {"eye": [1.2, 1.3, 2.9], "target": [0.2, 0.5, 0.0], "angle": 36},
        "elements": [
            {
                "kind": "fill",
                "name": "Thrown water",
                "shape": {"kind": "box", "size": [0.34, 0.22, 0.22]},
                "pose": {"translation": [-0.6, 0.55, 0.02], "rotation": [0, 0, 12]},
                "velocity": [7.0, 1.6, 0.0],
            },
            mesh_element("collider", "Mill post", "post", translation=[0.35, 0.3, 0.0], scale=1.3),
        ],
    }
    swing = [{"time": 0.3 + 0.55 * i, "value": [0.0, 0.0, 22.0 * (-1) ** i if i else 0.0]} for i in range(8)]
    stones = [
        {
            "kind": "collider",
            "name": f"Stone {i + 1}",
            "shape": {"kind": "sphere", "radius": r},
            "pose": {"translation": [x, y, z]},
        }
        for i, (x, y, z, r) in enumerate(
            [(0.35, 0.02, -0.18, 0.24), (0.75, -0.04, 0.16, 0.3), (1.2, 0.0, -0.14, 0.26), (1.6, -0.02, 0.18, 0.28)]
        )
    ]
    waves = {
        "format": "zinc-scene/1",
        "name": "TM026 Board and stepping stones",
        "time": {"first": 1, "last": 96, "fps": 24},
        "domain": {"low": [-1.0, 0.0, -0.4], "size": [3.2, 1.1, 0.8], "walls": {"x_max": "open"}},
        "liquid": {"voxel_size": 0.0125, "flip_share": 0.6},
        "camera": {"eye": [1.6, 1.4, 2.9], "target": [0.6, 0.2, 0.0], "angle": 40},
        "elements": [
            box_element("fill", "Mill pond", [3.2, 0.3, 0.8], translation=[0.6, 0.15, 0.0]),
            mesh_element("collider", "Hinged board", "board", translation=[-0.5, 0.0, 0.0], rotation={"keys": swing}),
            *stones,
        ],
    }
    turn = {"keys": [{"time": 0.2, "value": [90, 0, 0], "segment": "linear"}, {"time": 4.0, "value": [90, 1800, 0]}]}
    tub = {"kind": "collider", "name": "Tub", "shape": {"kind": "tub", "radius": 0.36, "height": 0.5, "wall": 0.05}}
    mixer = {
        "format": "zinc-scene/1",
        "name": "TM028 Clay mixer",
        "time": {"first": 1, "last": 96, "fps": 24},
        "domain": {
            "low": [-0.5, -0.05, -0.5],
            "size": [1.0, 1.0, 1.0],
            "walls": {"x_min": "open", "x_max": "open", "z_min": "open", "z_max": "open"},
        },
        "liquid": {"voxel_size": 0.01, "flip_share": 0.6},
        "camera": {"eye": [0.9, 1.1, 1.3], "target": [0.0, 0.25, 0.0], "angle": 36},
        "elements": [
            mesh_element("fill", "Slip", "slip"),
            tub,
            mesh_element("collider", "Blade", "mixer_blade", translation=[0.0, 0.16, 0.0], rotation=turn),
            {
                "kind": "inflow",
                "name": "Water hose",
                "shape": {"kind": "disc", "radius": 0.025},
                "pose": {"translation": [0.18, 0.75, 0.0], "rotation": [0, 0, 10]},
                "amount": "flow",
                "flow": {
                    "keys": [{"time": 1.0, "value": 0.0}, {"time": 1.5, "value": 2.5}, {"time": 3.0, "value": 0.0}]
                },
                "velocity": [0.0, -1.0, 0.0],
                "start": 1.0,
                "end": 3.0,
            },
        ],
    }
    return {"stress-TM025": bucket, "stress-TM026": waves, "stress-TM028": mixer}


def write(folder: Path = HERE) -> None:
    """Write meshes and scenes."""
    (folder / "meshes").mkdir(parents=True, exist_ok=True)
    models = {
        "race_steps": race_steps(),
        "post": post(),
        "barrel": barrel(),
        "barrel_water": barrel_water(),
        "board": board(),
        "mixer_blade": mixer_blade(),
        "slip": slip(),
        "bowl": bowl(),
        "wheel": wheel(),
        "ladle": ladle(),
        "glaze": glaze(),
        "bottle": bottle(),
        "bottle_slip": bottle_slip(),
        "pot": pot(),
        "ferry": ferry(),
        "ferry_rails": rails(),
    }
    for name, mesh in models.items():
        if mesh.open_edges():
            raise ValueError(f"{name}: {mesh.open_edges()} open edges")
        write_ply(folder / "meshes" / f"{name}.ply", mesh.position, mesh.triangle)
    for stem, document in {**scenes(), **stress_scenes()}.items():
        parse_scene(document)
        (folder / f"{stem}.json").write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    write()
