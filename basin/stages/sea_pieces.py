"""What leaves of a sea at a frame: its surface as a mesh, a square or as the camera sees it, and patches as images.

The mesh is the sum of patches as they are laid to the horizon, with its wakes where they are asked for; the images are
one patch each, as it repeats. How they are sampled stands in docs/delivery-format.md.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from scipy.ndimage import map_coordinates

from basin.exchange.pieces import METRES, Piece, axes
from basin.scene import Scene
from basin.scene.model import Delivery
from basin.sea.folding import bent
from basin.sea.horizon import fan, quads
from basin.sea.numbers import laid
from basin.sea.wake import inside
from basin.settings import value_at
from basin.stages.sea_stage import SEA, WAKE
from basin.stages.stage import Job

FOAM = "sea_foam"
OF_SEA = (SEA, FOAM, WAKE)  # stages that its mesh is made from
WIDE = 16 / 9  # of a picture
BESIDE = 1.25  # times half of the camera's angle that a mesh covers, so that waves beside it throw their light too
UP, ALONG, ACROSS = 0, 1, 2  # rows of a frame's shifts


def at_rest(scene: Scene, delivery: Delivery, time: float) -> tuple[np.ndarray, np.ndarray]:
    """Places (p, 2), x and z, of a mesh's points on still water, and triangles (t, 3) that face up."""
    n = delivery.points
    if delivery.sea_as == "a square":
        side = np.linspace(-0.5, 0.5, n + 1) * delivery.side
        place = np.stack(np.meshgrid(side, side, indexing="ij"), axis=-1).reshape(-1, 2) + laid(scene.sea).middle
        return place, quads(n, n)
    eye, target, angle = _seen_from(scene, time)
    half = np.radians(float(angle[0])) / 2
    wide = min(BESIDE * float(np.arctan(np.tan(half) * WIDE)), np.pi)
    ahead = target - eye
    towards = float(np.arctan2(ahead[2], ahead[0]))
    height = max(abs(float(eye[1]) - scene.sea.level), 0.5)
    # the lower edge of the picture meets the water there
    down = np.arctan2(-ahead[1], np.hypot(ahead[0], ahead[2])) + half
    nearest = 0.5 * (height / np.tan(min(down, 1.5)) if down > 0.05 else delivery.side / 4)
    nearest = min(max(nearest, 0.2 * height), delivery.side / 4)
    return fan(eye, height, towards, wide, nearest, delivery.side, n)


def _seen_from(scene: Scene, time: float) -> list[np.ndarray]:
    """The camera's eye and target (3,), and its upright angle (1,), degrees."""
    view = scene.camera
    return [value_at(of, time) for of in (view.eye, view.target, view.angle)]


def lying_by(scene: Scene, delivery: Delivery, time: float) -> list[object]:
    """What a mesh depends on besides the frames that it is made from, for its key."""
    lies = laid(scene.sea)
    own: list[object] = [lies.middle.tolist(), lies.from_, lies.seed, scene.sea.level]
    return own if delivery.sea_as == "a square" else [*own, [of.tolist() for of in _seen_from(scene, time)]]


def _upright(slope: np.ndarray) -> np.ndarray:
    """Unit normals (3, ...) of slopes (2, ...)."""
    normal = np.stack([-slope[0], np.ones_like(slope[0]), -slope[1]])
    return normal / np.linalg.norm(normal, axis=0)


def sea_piece(job: Job, delivery: Delivery, frame: int) -> Piece:
    """The surface of a sea as a mesh; DamagedFrame if a cached frame is not whole."""
    parts = delivery.parts()
    data = job.store(SEA).frame(frame)
    foam = job.store(FOAM).frame(frame)["foam"] if FOAM in parts else None
    wake = job.store(WAKE).frame(frame) if WAKE in parts else None
    rest, triangle = at_rest(job.scene, delivery, job.scene.time.shot_time(frame))
    names = ("shift", "velocity", "slope", "stretch")
    patches = []
    for nth, size in enumerate(data["size"]):
        fields = np.concatenate([np.asarray(data[f"{name}_{nth}"], np.float32) for name in names])
        patches.append((float(size), np.ascontiguousarray(fields)))
    lies = laid(job.scene.sea)
    found = lies.over(rest, patches)
    shift, velocity = found[:, :3], found[:, 3:6]
    slope, squeeze = bent(found[:, 6:8].T, found[:, 8:11].T)
    lying = np.zeros(len(rest))
    if foam is not None:
        lying = lies.over(rest, [(float(data["size"][0]), np.asarray(foam[None], np.float32))], even=True)[:, 0]
    at = rest + shift[:, [ALONG, ACROSS]]
    position = np.stack([at[:, 0], job.scene.sea.level + shift[:, UP], at[:, 1]], axis=1)
    if wake is not None:
        fields = np.concatenate([*(np.asarray(wake[name], np.float32) for name in names), wake["foam"][None]])
        own = waked(wake, fields, at)
        position += own[:, [ALONG, UP, ACROSS]]
        velocity = velocity + own[:, 3:6]
        more, further = bent(own[:, 6:8].T, own[:, 8:11].T)
        slope, squeeze = slope + more, squeeze * further
        lying = 1 - (1 - lying) * (1 - own[:, 11])
    # texels of the first patch's image, whose rows run down while v goes up
    texel = rest / data["size"][0] + 0.5 / data["shift_0"].shape[-1]
    carried = {"velocity": velocity, "normal": _upright(slope).T, "jacobian": squeeze, "uv": texel * [1.0, -1.0]}
    if foam is not None or wake is not None:
        carried["foam"] = lying
    return Piece(SEA, position, triangle.astype(np.int32), {k: v.astype(np.float32) for k, v in carried.items()})


def waked(wake: Mapping[str, np.ndarray], fields: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Fields (f, n, n) of a window of wakes at places (p, 2), m: (p, f), softly nothing from its edges on."""
    count = fields.shape[-1]
    place = at / float(wake["cell"])
    within = place - np.asarray(wake["origin"])
    there = inside(within, count).min(axis=1)
    found = np.zeros((len(at), len(fields)))
    some = there > 0
    for n, one in enumerate(fields):
        found[some, n] = map_coordinates(one.astype(np.float32), place[some].T, order=1, mode="grid-wrap")
    return found * there[:, None]


def sea_images(job: Job, delivery: Delivery, frame: int, nth: int) -> dict[str, np.ndarray]:
    """A patch as channels (n, n), columns along x and rows along z, in the delivery's unit and axes."""
    data = job.store(SEA).frame(frame)
    scale = 1.0 / METRES[delivery.unit]
    turn = axes(delivery.up)
    up, along, across = np.asarray(data[f"shift_{nth}"], np.float32)
    slope, squeeze = bent(*(np.asarray(data[f"{name}_{nth}"], np.float64) for name in ("slope", "stretch")))
    vectors = {
        "displacement": scale * np.stack([along, up, across]),
        "velocity": scale * np.asarray(data[f"velocity_{nth}"], np.float32),
        "normal": _upright(slope),
    }
    channels = {"jacobian": squeeze}
    for name, field in vectors.items():
        turned = np.tensordot(turn, field, axes=1)
        channels |= {f"{name}.{axis}": turned[d] for d, axis in enumerate("XYZ")}
    if FOAM in delivery.parts() and nth == 0:
        channels["foam"] = job.store(FOAM).frame(frame)["foam"]
    return {name: np.ascontiguousarray(value.T, np.float32) for name, value in channels.items()}
