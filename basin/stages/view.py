"""Frames packed for a graphics processor: a small JSON header, then plain arrays.

Layout: ``ZBV1``, uint32 length of the header, the header (JSON, padded with blanks to four bytes),
then the arrays in the order and types that the header lists, each padded to four bytes.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

import numpy as np

from basin.attributes import ATTRIBUTES, shown
from basin.cache import StageCache
from basin.exchange.light import encoded
from basin.geometry.mesh import TriangleMesh, vertex_normals
from basin.sea.folding import bent
from basin.stages.bodies import Bodies
from basin.stages.solid import SolverSolid

LEVELS = 65535
MOST_SEEN = 512  # points along a patch of sea
SIZE_STEPS = 16  # of a radius, to twice as large
CHECKS = 24  # of the checked pattern that shows a texture, along the longest side of what is seen
_Shading = tuple[dict[str, Any], list[tuple[str, np.ndarray]]]


def pack(header: dict[str, Any], arrays: list[tuple[str, np.ndarray]]) -> bytes:
    """Join a header and arrays as described above."""
    header = {**header, "arrays": [[name, a.dtype.str.lstrip("<|"), a.size] for name, a in arrays]}
    text = json.dumps(header, separators=(",", ":")).encode()
    text += b" " * (-len(text) % 4)
    parts = [b"ZBV1", np.uint32(len(text)).tobytes(), text]
    for _, array in arrays:
        data = np.ascontiguousarray(array).tobytes()
        parts += [data, b"\0" * (-len(data) % 4)]
    return b"".join(parts)


def _within_bounds(position: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    low, high = position.min(axis=0), position.max(axis=0)
    span = np.maximum(high - low, 1e-9)
    return low, span, np.round((position - low) / span * LEVELS).astype("<u2")


def attributes(data: Mapping[str, np.ndarray]) -> list[str]:
    """What the points of a frame can be coloured by."""
    held = {*data, "speed", *(["age"] if "born" in data else []), *(["texture"] if "rest_share" in data else [])}
    return shown(held)


def shaded(data: Mapping[str, np.ndarray], by: str, some: Any = slice(None), time: float = 0.0) -> _Shading:
    """Numbers between 0 and 255 for some points of a frame by an attribute, and what they mean.

    Parameters
    ----------
    by : one of `attributes(data)`
    time : shot second of the frame, for ages

    Raises
    ------
    KeyError
        If the frame does not have the attribute.
    """
    row = ATTRIBUTES[by]
    if row.shown == "colours":
        coded = np.round(255 * encoded(np.clip(data[by][some], 0, 1))).astype(np.uint8)
        return {"by": by}, [("colour", coded.ravel())]
    if row.shown == "names":
        index = np.minimum(data[by][some], len(row.names) - 1).astype(np.uint8)
        return {"by": by, "names": list(row.names)}, [("shade", index)]
    if by == "texture":
        value = _checks(data, some)
    elif by == "speed":
        value = np.sqrt((data["velocity"][some] ** 2).sum(axis=1))
    elif by == "age":
        value = time - data["born"][some]
    else:
        value = data[by][some]
    value = np.asarray(value, np.float64)
    finite = value[np.isfinite(value)] if len(value) else np.zeros(1)
    low, top = (0.0 if row.from_nothing else float(finite.min())), float(finite.max())
    if by == "difference":  # what stayed lies in the middle of the ramp
        top = max(abs(low), abs(top))
        low = -top
    top = max(top, low + row.least_span)
    share = np.clip((np.nan_to_num(value) - low) / (top - low), 0, 1)
    histogram, _ = np.histogram(finite, bins=40, range=(low, top))
    near, far = np.percentile(finite, [5, 95])
    told = {
        "by": by,
        "unit": row.unit,
        "least": low,
        "top": top,
        "near": float(near),
        "far": float(far),
        "histogram": histogram.tolist(),
    }
    return told, [("shade", np.round(share * 255).astype(np.uint8))]


def _checks(data: Mapping[str, np.ndarray], some: Any) -> np.ndarray:
    """A checked pattern that travels along: the blend of both rest positions' patterns, from 0 to 1."""
    size = float(np.ptp(data["rest_a"], axis=0).max()) / CHECKS or 1.0
    share = float(data["rest_share"])
    first, second = (np.floor(data[name][some] / size).sum(axis=1) % 2 for name in ("rest_a", "rest_b"))
    return np.asarray((1 - share) * first + share * second)


def pack_particles(store: StageCache, frame: int, budget: int, by: str = "speed", time: float = 0.0) -> bytes:
    """A liquid frame as points coloured by an attribute, thinned to `budget` by a hash of the ids."""
    return pack_points(store.frame(frame), budget, by, time)


def pack_points(
    data: Mapping[str, np.ndarray], budget: int, by: str = "speed", time: float = 0.0, **more: Any
) -> bytes:
    """`pack_particles` of a frame that is at hand; `more` goes into the header."""
    identity = data["id"]
    choices = attributes(data)
    chance = (identity.astype(np.uint64) * np.uint64(0x9E3779B97F4A7C15)) >> np.uint64(32)
    order = np.argsort(chance, kind="stable")[:budget]
    shading: _Shading = ({}, [])
    if len(order):
        shading = shaded(data, by if by in choices else "speed", order, time)
    spacing = float(data["particle_spacing"])
    more = {"total": len(identity), "choices": choices, **more}
    if "kind" in data and len(order):
        told, forms = _forms(data, order)
        shading, more = (shading[0], [*shading[1], *forms]), {**more, **told}
    return pack_cloud(data["position"][order], spacing, shading, **more)


def _forms(data: Mapping[str, np.ndarray], some: np.ndarray) -> _Shading:
    """What some of a frame's points of several kinds look like: kinds, layers, and sizes by powers of two."""
    names = ATTRIBUTES["kind"].names
    counts = np.bincount(data["kind"], minlength=len(names)).tolist()
    layers = np.bincount(data["layer"]).tolist()
    least = float(max(data["radius"].min(), 1e-7))
    size = np.clip(np.round(SIZE_STEPS * np.log2(data["radius"][some] / least)), 0, 255)
    told = {"forms": names, "counts": counts, "layers": layers, "least_radius": least}
    own = [(name, data[key][some].astype(np.uint8)) for name, key in (("form", "kind"), ("layer", "layer"))]
    return told, [*own, ("size", size.astype(np.uint8))]


def pack_cloud(position: np.ndarray, spacing: float, shading: _Shading = ({}, []), **more: Any) -> bytes:
    """Any points, drawn as balls that lie a spacing apart: 16-bit positions; `more` goes into the header."""
    if len(position) == 0:
        return pack({"kind": "points", "count": 0, "total": 0, **more}, [])
    low, span, place = _within_bounds(position)
    told, shades = shading
    header = {
        "kind": "points",
        "count": len(position),
        "total": len(position),
        "low": low.tolist(),
        "span": span.tolist(),
        "spacing": spacing,
        **told,
        **more,
    }
    return pack(header, [("position", place.ravel()), *shades])


def pack_surface(store: StageCache, frame: int, bodies: Bodies, by: str | None = None, time: float = 0.0) -> bytes:
    """A surface frame as an indexed mesh with normals, coloured by an attribute or as its liquids look."""
    data = store.frame(frame)
    choices = attributes(data)
    more: _Shading = ({}, [])
    if by in choices and len(data["position"]):
        more = shaded(data, by, time=time)
    elif len(data["position"]):
        more = ({}, [("body", bodies.coded(data).ravel())])
    return pack_mesh(data["position"], data["triangle"], more, choices=choices)


def pack_mesh(
    position: np.ndarray, triangle: np.ndarray, shading: _Shading = ({}, []), beside: _Shading = ({}, []), **more: Any
) -> bytes:
    """Any mesh: 16-bit positions, octahedral normals in two signed bytes; `more` goes into the header.

    `beside` are header entries and arrays of something else that is shown with it (`dots`).
    """
    more |= beside[0]
    if len(triangle) == 0:
        return pack({"kind": "mesh", "count": 0, "total": 0, **more}, beside[1])
    low, span, place = _within_bounds(np.asarray(position, np.float64))
    told, shades = shading
    header = {
        "kind": "mesh",
        "count": len(position),
        "total": len(triangle),
        "low": low.tolist(),
        "span": span.tolist(),
        **told,
        **more,
    }
    arrays = [
        ("position", place.ravel()),
        ("normal", octahedral(vertex_normals(position, triangle)).ravel()),
        *shades,
        ("index", triangle.astype("<u4").ravel()),
        *beside[1],
    ]
    return pack(header, arrays)


def dots(name: str, position: np.ndarray, spacing: float) -> _Shading:
    """Points to be shown beside a mesh, as balls that lie a spacing apart; nothing without any."""
    if len(position) == 0:
        return {}, []
    low, span, place = _within_bounds(position)
    told = {"count": len(position), "low": low.tolist(), "span": span.tolist(), "spacing": spacing}
    return {name: told}, [(f"{name}_position", place.ravel())]


SEA_FIELDS = {"wave_height": "m", "squeeze": "", "wave_slope": "", "foam": ""}  # what a sea can be coloured by


def pack_sea(
    data: Mapping[str, np.ndarray],
    foam: np.ndarray | None = None,
    by: str = "",
    wake: Mapping[str, np.ndarray] | None = None,
) -> bytes:
    """Patches of a sea, coloured as it looks or by one of `SEA_FIELDS`, and its wakes.

    For each patch, and for the window of the wakes, what its points are moved by (x, y, z; 16 bits within its bounds),
    and slopes along x and z, Jacobian and foam (half floats), rows along x; coarser where it has more than `MOST_SEEN`
    points a side. Slopes are those of the surface as it is moved: of heights over the places that points are moved to.
    Wakes lie on the surface as the patches move it.
    """
    patches: list[dict[str, Any]] = []
    seen: dict[str, np.ndarray] = {}
    arrays: list[tuple[str, np.ndarray]] = []
    for nth, size in enumerate(data["size"]):
        shift, slope, stretch = (data[f"{name}_{nth}"] for name in ("shift", "slope", "stretch"))
        told, fields, made = _shown_patch(str(nth), shift, slope, stretch, foam if nth == 0 else None)
        patches.append({"size": float(size), **told})
        seen = seen or fields
        arrays += made
    header: dict[str, Any] = {"kind": "sea", "patches": patches}
    if wake is not None:
        told, fields, made = _shown_patch("wake", wake["shift"], wake["slope"], wake["stretch"], wake["foam"])
        cell = float(wake["cell"])
        low = (wake["origin"] * cell).tolist()
        header["wake"] = {
            "size": cell * wake["shift"].shape[-1],
            "from": low,
            "bodies": wake["bodies"].tolist(),
            **told,
        }
        seen = {name: np.concatenate([seen[name].ravel(), fields[name].ravel()]) for name in seen}
        arrays += made
    points = sum(one["count"] ** 2 for one in patches)
    choices = [name for name in SEA_FIELDS if name != "foam" or foam is not None or wake is not None]
    told = _ranged(seen[by], SEA_FIELDS[by], by in ("wave_slope", "foam")) | {"by": by} if by in choices else {}
    return pack(header | {"count": points, "total": points, "choices": choices} | told, arrays)


def _shown_patch(
    name: str, shift: np.ndarray, slope: np.ndarray, stretch: np.ndarray, foam: np.ndarray | None
) -> tuple[dict[str, Any], dict[str, np.ndarray], list[tuple[str, np.ndarray]]]:
    """What a patch is told by, its fields that it can be coloured by, and its arrays."""
    shift, slope = _coarser(shift), _coarser(slope)
    slope, squeezed = bent(slope, _coarser(stretch))
    squeezed = np.asarray(squeezed, np.float32)
    lying = np.zeros_like(squeezed) if foam is None else _coarser(foam[None])[0]
    moved = np.stack([shift[1], shift[0], shift[2]], axis=-1).reshape(-1, 3)
    low, span, place = _within_bounds(moved)
    told = {"count": len(squeezed), "low": low.tolist(), "span": span.tolist()}
    shade = np.stack([slope[0], slope[1], squeezed, lying], axis=-1).astype("<f2")
    fields = {"wave_height": shift[0], "squeeze": squeezed, "wave_slope": np.hypot(*slope), "foam": lying}
    return told, fields, [(f"shift_{name}", place.ravel()), (f"shade_{name}", shade.ravel().view("<u2"))]


def _ranged(value: np.ndarray, unit: str, from_nothing: bool) -> dict[str, Any]:
    """What a ramp over a field is told by."""
    value = np.asarray(value, np.float64)
    low, top = (0.0 if from_nothing else float(value.min())), float(value.max())
    top = max(top, low + 1e-6)
    near, far = np.percentile(value, [5, 95])
    histogram, _ = np.histogram(value, bins=40, range=(low, top))
    ends = {"least": low, "top": top, "near": float(near), "far": float(far)}
    return {"unit": unit, **ends, "histogram": histogram.tolist()}


def _coarser(fields: np.ndarray) -> np.ndarray:
    """Means (f, m, m) of fields (f, n, n) over squares of points, `MOST_SEEN` a side at most."""
    fields = np.asarray(fields, np.float32)
    by = max(fields.shape[-1] // MOST_SEEN, 1)
    n = fields.shape[-1] // by
    return np.asarray(fields.reshape(len(fields), n, by, n, by).mean(axis=(2, 4))) if by > 1 else fields


def pack_element(mesh: TriangleMesh) -> bytes:
    """A collider or source for viewing, with flat sides: each triangle has its own corners."""
    corner = mesh.position[mesh.triangle].reshape(-1, 3)
    return pack_mesh(corner, np.arange(len(corner)).reshape(-1, 3))


def pack_solid(solid: SolverSolid) -> bytes:
    """A collider as the solver sees it, with its errors in mm."""
    told: dict[str, Any] = {"voxel": 1000 * solid.voxel, "largest": 1000 * solid.largest, "mean": 1000 * solid.mean}
    return pack_mesh(solid.mesh.position, solid.mesh.triangle, **told)


def octahedral(normal: np.ndarray) -> np.ndarray:
    """Unit vectors (n, 3) to int8 (n, 2) (Cigolle et al. 2014, "A survey of efficient representations")."""
    flat = normal / np.maximum(np.abs(normal).sum(axis=1, keepdims=True), 1e-30)
    sign = np.where(flat[:, :2] >= 0, 1.0, -1.0)
    folded = np.where(flat[:, 2:] >= 0, flat[:, :2], (1 - np.abs(flat[:, 1::-1])) * sign)
    return np.round(folded * 127).astype(np.int8)
