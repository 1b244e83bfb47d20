"""USD, through usd-core: meshes and points with velocities and primvars, out and in; cameras in."""

from __future__ import annotations

from pathlib import Path
from types import TracebackType

import numpy as np
from pxr import Gf, Sdf, Usd, UsdGeom, Vt

from basin.exchange.pieces import METRES, Piece

SAVED_AFTER = 8  # frames: what is saved need not be held in memory


class UsdFile:
    """A stage that frames are added to, one after the other; `finish` ends it.

    Raises
    ------
    ValueError
        If the up axis is X, which USD does not have.
    """

    def __init__(self, path: Path, fps: float, unit: str, up: str, span: tuple[int, int]) -> None:
        if up not in ("y", "z"):
            raise ValueError("USD knows Y and Z as up axes")
        self._stage = Usd.Stage.CreateNew(str(path))
        UsdGeom.SetStageUpAxis(self._stage, up.upper())
        UsdGeom.SetStageMetersPerUnit(self._stage, METRES[unit])
        self._stage.SetTimeCodesPerSecond(fps)
        self._stage.SetFramesPerSecond(fps)
        self._stage.SetStartTimeCode(span[0])
        self._stage.SetEndTimeCode(span[1])
        root = UsdGeom.Xform.Define(self._stage, "/delivery")
        self._stage.SetDefaultPrim(root.GetPrim())
        self._count = 0
        self._done: set[str] = set()

    def __enter__(self) -> UsdFile:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._stage = None

    def add(self, frame: int, pieces: list[Piece]) -> None:
        """Write pieces at a frame; one that stays the same is written once."""
        for piece in pieces:
            if piece.name in self._done and piece.still:
                continue
            self._done.add(piece.name)
            time = Usd.TimeCode.Default() if piece.still else Usd.TimeCode(frame)
            path = f"/delivery/{piece.name}"
            place = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(piece.position, np.float32))
            prim: UsdGeom.PointBased
            if piece.triangle is None:
                prim = points = UsdGeom.Points.Define(self._stage, path)
                points.CreatePointsAttr().Set(place, time)
                widths = points.CreateWidthsAttr()
                points.SetWidthsInterpolation(UsdGeom.Tokens.constant)
                widths.Set(Vt.FloatArray([piece.width]), time)
                if "id" in piece.attributes:
                    ids = np.ascontiguousarray(piece.attributes["id"], np.int64)
                    points.CreateIdsAttr().Set(Vt.Int64Array.FromNumpy(ids), time)
            else:
                prim = mesh = UsdGeom.Mesh.Define(self._stage, path)
                mesh.CreatePointsAttr().Set(place, time)
                mesh.CreateSubdivisionSchemeAttr().Set(UsdGeom.Tokens.none)
                mesh.CreateOrientationAttr().Set(UsdGeom.Tokens.rightHanded)
                counts = np.full(len(piece.triangle), 3, np.int32)
                mesh.CreateFaceVertexCountsAttr().Set(Vt.IntArray.FromNumpy(counts), time)
                corners = np.ascontiguousarray(piece.triangle.ravel(), np.int32)
                mesh.CreateFaceVertexIndicesAttr().Set(Vt.IntArray.FromNumpy(corners), time)
            if len(piece.position):
                box = np.stack([piece.position.min(axis=0), piece.position.max(axis=0)]).astype(np.float32)
                prim.CreateExtentAttr().Set(Vt.Vec3fArray.FromNumpy(box), time)
            self._attributes(prim, piece, time)
        self._count += 1
        if self._count % SAVED_AFTER == 0:
            self._stage.Save()

    @staticmethod
    def _attributes(prim: UsdGeom.PointBased, piece: Piece, time: Usd.TimeCode) -> None:
        api = UsdGeom.PrimvarsAPI(prim.GetPrim())
        for name, value in piece.attributes.items():
            if name == "id" and piece.triangle is None:
                continue
            if name == "velocity":
                flow = Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(value, np.float32))
                prim.CreateVelocitiesAttr().Set(flow, time)
                continue
            own, kind, array = _primvar(name, value)
            api.CreatePrimvar(own, kind, UsdGeom.Tokens.vertex).Set(array, time)

    def finish(self) -> None:
        """Save what is left."""
        self._stage.Save()


def _primvar(name: str, value: np.ndarray) -> tuple[str, Sdf.ValueTypeName, object]:
    types = Sdf.ValueTypeNames
    if name == "colour":
        return "displayColor", types.Color3fArray, Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(value, np.float32))
    if name == "uv":
        return "st", types.TexCoord2fArray, Vt.Vec2fArray.FromNumpy(np.ascontiguousarray(value, np.float32))
    if np.issubdtype(value.dtype, np.integer):
        if value.dtype.itemsize > 4:
            return name, types.Int64Array, Vt.Int64Array.FromNumpy(np.ascontiguousarray(value, np.int64))
        return name, types.IntArray, Vt.IntArray.FromNumpy(np.ascontiguousarray(value, np.int32))
    if value.ndim == 1:
        return name, types.FloatArray, Vt.FloatArray.FromNumpy(np.ascontiguousarray(value, np.float32))
    return name, types.Float3Array, Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(value, np.float32))


def opened(path: Path) -> Usd.Stage:
    """A stage as it is on disk now; RuntimeError if it cannot be read."""
    layer = Sdf.Layer.OpenAsAnonymous(str(path))
    if layer is None:
        raise RuntimeError("not a readable USD file")
    return Usd.Stage.Open(layer)


def told_axes(path: Path) -> tuple[float, str]:
    """Metres per unit and the up axis that a file says it has."""
    stage = opened(path)
    return float(UsdGeom.GetStageMetersPerUnit(stage)), str(UsdGeom.GetStageUpAxis(stage)).lower()


def read_moments(path: Path) -> tuple[list[float], list[np.ndarray], np.ndarray]:
    """All meshes of a file as one: frame numbers, positions (n, 3) at each of them, triangles (m, 3).

    A file without time samples has one moment. Polygons are cut into fans. Points that change in number, or triangles
    that change, raise a ValueError.
    """
    stage = opened(path)
    meshes = [UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
    times = sorted({t for m in meshes for t in m.GetPointsAttr().GetTimeSamples()} | _moved(stage, meshes))
    moments: list[np.ndarray] = []
    triangle: np.ndarray | None = None
    for time in times or [Usd.TimeCode.Default()]:
        cache = UsdGeom.XformCache(time)
        places, faces, start = [], [], 0
        for mesh in meshes:
            place = np.array(mesh.GetPointsAttr().Get(time) or [], np.float64).reshape(-1, 3)
            matrix = np.array(cache.GetLocalToWorldTransform(mesh.GetPrim()))
            counts = np.array(mesh.GetFaceVertexCountsAttr().Get(time) or [], np.int64)
            corners = np.array(mesh.GetFaceVertexIndicesAttr().Get(time) or [], np.int64)
            cut = fans(counts, corners)
            mirrored = np.linalg.det(matrix[:3, :3]) < 0
            if (mesh.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded) != mirrored:
                cut = cut[:, ::-1]
            places.append(place @ matrix[:3, :3] + matrix[3, :3])
            faces.append(cut + start)
            start += len(place)
        moments.append(np.concatenate(places) if places else np.zeros((0, 3)))
        all_faces = np.concatenate(faces) if faces else np.zeros((0, 3), np.int64)
        if triangle is not None and not np.array_equal(triangle, all_faces):
            raise ValueError("its triangles change over time")
        triangle = all_faces
    assert triangle is not None
    return [float(t) for t in times] or [0.0], moments, triangle


def _moved(stage: Usd.Stage, meshes: list[UsdGeom.Mesh]) -> set[float]:
    """Times at which a transform above a mesh is keyed."""
    found: set[float] = set()
    for mesh in meshes:
        prim = mesh.GetPrim()
        while prim and not prim.IsPseudoRoot():
            if prim.IsA(UsdGeom.Xformable):
                found |= set(UsdGeom.Xformable(prim).GetTimeSamples())
            prim = prim.GetParent()
    return found


def fans(counts: np.ndarray, corners: np.ndarray) -> np.ndarray:
    """Polygons, counts (p,) and their corners one after the other, as triangles (m, 3); ValueError if they disagree."""
    if counts.sum() != len(corners) or (counts < 0).any():
        raise ValueError("its polygons name another number of corners than there are")
    begin = np.cumsum(counts) - counts
    pieces = [
        np.stack([corners[begin[counts > k + 1]], *(corners[begin[counts > k + 1] + k + d] for d in (0, 1))], axis=1)
        for k in range(1, int(counts.max(initial=0)) - 1)
    ]
    return np.concatenate(pieces) if pieces else np.zeros((0, 3), np.int64)


def read_camera(path: Path) -> list[tuple[float, np.ndarray, float]]:
    """The first camera of a file: frame number, matrix (4, 4) that places it, upright angle in degrees, at each sample.

    Empty if there is none. A camera looks along its own -Z, with Y up.
    """
    stage = opened(path)
    cameras = [UsdGeom.Camera(p) for p in stage.Traverse() if p.IsA(UsdGeom.Camera)]
    if not cameras:
        return []
    camera = cameras[0]
    times: set[float] = set(camera.GetFocalLengthAttr().GetTimeSamples())
    prim = camera.GetPrim()
    while prim and not prim.IsPseudoRoot():
        if prim.IsA(UsdGeom.Xformable):
            times |= set(UsdGeom.Xformable(prim).GetTimeSamples())
        prim = prim.GetParent()
    found = []
    for time in sorted(times) or [Usd.TimeCode.Default()]:
        seen: Gf.Camera = camera.GetCamera(time)
        matrix = np.array(UsdGeom.XformCache(time).GetLocalToWorldTransform(camera.GetPrim())).T
        number = 0.0 if isinstance(time, Usd.TimeCode) else float(time)
        found.append((number, matrix, float(seen.GetFieldOfView(Gf.Camera.FOVVertical))))
    return found
