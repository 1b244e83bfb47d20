"""Files of every format that is read, scenes, and how they are spoilt; the same seed spoils alike."""

from __future__ import annotations

import copy
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image
from pxr import Sdf, UsdUtils

from basin.cache import Cache
from basin.exchange import parts, read_image, read_mesh, told, write_obj, write_ply
from basin.exchange.alembic import AlembicFile
from basin.exchange.files import IMAGES
from basin.exchange.gltf import write_glb
from basin.exchange.pieces import Piece
from basin.exchange.usd import UsdFile
from basin.geometry.primitives import sphere_mesh
from basin.scene import parse_scene
from basin.stages.advice import checked
from basin.stages.files import SceneFiles
from basin.stages.forecast import forecast
from basin.stages.stage import Job, all_keys

BINARY = ("ply", "stl", "glb", "usdc", "usdz", "abc", "png", "jpg", "tif")
TEXT = ("obj", "usda", "gltf")
# what counts, offsets and sizes are likely to be mistaken for
EXTREMES = [0, 1, 0x7F, 0xFF, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0x80000000, 0xFFFFFFFF, 0x7FFFFFFFFFFFFFFF]


def sound(folder: Path) -> dict[str, Path]:
    """A small sound file of every format."""
    ball = sphere_mesh(0.5, 8)
    there = {kind: folder / f"sound.{kind}" for kind in (*BINARY, *TEXT)}
    write_ply(there["ply"], ball.position, ball.triangle)
    write_obj(there["obj"], ball.position, ball.triangle)
    row = np.zeros(len(ball.triangle), [("normal", "<f4", 3), ("corner", "<f4", (3, 3)), ("flags", "<u2")])
    row["corner"] = ball.position[ball.triangle]
    there["stl"].write_bytes(b"binary".ljust(80) + len(row).to_bytes(4, "little") + row.tobytes())
    pieces = [[Piece("ball", ball.position + 0.1 * n, ball.triangle)] for n in range(3)]
    write_glb(there["glb"], pieces[0])
    there["gltf"].write_bytes(_as_text(there["glb"]))
    for kind in ("usda", "usdc"):
        with UsdFile(there[kind], 24, "m", "y", (1, 3)) as stage:
            for number, one in enumerate(pieces, 1):
                stage.add(number, one)
            stage.finish()
    UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(there["usdc"])), str(there["usdz"]))
    archive = AlembicFile(there["abc"], 24, 1)
    for one in pieces:
        archive.add(one)
    archive.finish()
    picture = Image.fromarray(np.random.default_rng(1).integers(0, 255, (24, 32, 3), np.uint8))
    for kind in ("png", "jpg", "tif"):
        picture.save(there[kind])
    return there


def _as_text(glb: Path) -> bytes:
    """A binary glTF as one with its values in a data address."""
    import base64
    import json

    data = glb.read_bytes()
    length = int.from_bytes(data[12:16], "little")
    document = json.loads(data[20 : 20 + length])
    held = base64.b64encode(data[28 + length :]).decode()
    document["buffers"][0]["uri"] = f"data:application/octet-stream;base64,{held}"
    return json.dumps(document).encode()


def spoilt(data: bytes, seed: int) -> bytes:
    """Data with bytes flipped, numbers made extreme, parts cut out, repeated, exchanged or ended early."""
    rng = np.random.default_rng(seed)
    held = bytearray(data)
    for _ in range(int(rng.integers(1, 6))):
        if not held:
            break
        at = int(rng.integers(len(held)))
        if rng.random() < 0.5:  # most of what steers a reader stands at the beginning or the end
            at = int(rng.choice([at % min(len(held), 256), len(held) - 1 - at % min(len(held), 256)]))
        span = int(rng.choice([1, 2, 4, 8, 16, 64, 512]))
        match int(rng.integers(7)):
            case 0:
                held[at] ^= 1 << int(rng.integers(8))
            case 1:
                width = int(rng.choice([1, 2, 4, 8]))
                value = EXTREMES[int(rng.integers(len(EXTREMES)))] % 256**width
                held[at : at + width] = value.to_bytes(width, "little")
            case 2:
                del held[at : at + span]
            case 3:
                held[at:at] = held[at : at + span] * int(rng.integers(1, 40))
            case 4:
                held[at : at + span] = rng.bytes(span)
            case 5:
                other = int(rng.integers(len(held)))
                held[at : at + span], held[other : other + span] = held[other : other + span], held[at : at + span]
            case _:
                held = held[:at] if rng.random() < 0.5 else held[at:]
    return bytes(held)


def used(path: Path) -> None:
    """A file as the application uses what is uploaded; UnusableFile if it cannot be."""
    if path.suffix in IMAGES:
        read_image(path)
    else:
        told(path)
        read_mesh(path)
        parts(path)


def used_scene(document: dict[str, Any], files: SceneFiles) -> None:
    """A document as the application uses what is kept; SceneError or ValueError if it cannot be."""
    scene = parse_scene(document)
    checked(scene, files)
    job = Job(scene, files, Cache(files.folder / "nowhere"), "draft")
    forecast(job)
    all_keys(job)


NUMBERS = [0, -1, 1, 2, 1e-300, 1e300, -1e308, 5e-324, 1e-9, 1e9, 1e6, 2**31, 2**63, -(2**63), 10**30, 0.5, 1e-4, 77.7]
WORDS = [
    "",
    "\0",
    "\ud800",
    "../../etc/passwd",
    "a" * 5000,
    "%00",
    "../take-1/draft",
    "\x1b[2J",
    "fill",
    "mesh",
    "full",
]
OTHERS: list[Any] = [
    None,
    True,
    [],
    {},
    [[[[]]]],
    {"keys": []},
    "NaN",
    [0, 0, 0],
    [1e300] * 3,
    [1],
    {"kind": "mesh", "file": "x.abc"},
]


def _places(document: Any, here: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """The ways to everything within a document."""
    below: Any = document.items() if isinstance(document, dict) else enumerate(document)
    found = [here] if here else []
    if isinstance(document, dict | list):
        for key, value in below:
            found += _places(value, (*here, key)) if isinstance(value, dict | list) else [(*here, key)]
    return found


def spoilt_scene(document: dict[str, Any], seed: int) -> dict[str, Any]:
    """A scene with values exchanged for others, taken out, or doubled."""
    rng = np.random.default_rng(seed)
    spoilt = copy.deepcopy(document)
    for _ in range(int(rng.integers(1, 5))):
        places = _places(spoilt)
        if not places:
            break
        *way, last = places[int(rng.integers(len(places)))]
        home: Any = spoilt
        for step in way:
            home = home[step]
        chosen = rng.random()
        value = home[last]
        number = isinstance(value, int | float) and not isinstance(value, bool)
        if chosen < 0.03:
            del home[last]
        elif chosen < 0.2 and isinstance(home, list):
            home += [copy.deepcopy(value) for _ in range(int(rng.integers(1, 60)))]
        elif chosen < 0.95 and number:
            scaled = type(value)(value * 10.0 ** rng.uniform(-3, 3) * rng.choice([-1, 1, 1, 1]))
            home[last] = scaled if rng.random() < 0.8 else NUMBERS[int(rng.integers(len(NUMBERS)))]
        elif chosen < 0.95:
            continue
        else:
            kinds: list[list[Any]] = [list(NUMBERS), list(WORDS), list(OTHERS)]
            some = kinds[int(rng.integers(3))]
            home[last] = copy.deepcopy(some[int(rng.integers(len(some)))])
    return spoilt
