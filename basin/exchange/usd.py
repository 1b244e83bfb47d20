"""USD, through usd-core: meshes and points with velocities and primvars, out and in; cameras in."""

from __future__ import annotations

import posixpath
from pathlib import Path
from types import TracebackType

import numpy as np
from pxr import Ar, Gf, Sdf, Usd, UsdGeom, Vt

from basin.exchange.files import MOST_TRIANGLES, UnusableFile, countable
from basin.exchange.pieces import METRES, Piece

LAYERS = (".usd", ".usda", ".usdc")
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
                each = "radius" in piece.attributes
                points.SetWidthsInterpolation(UsdGeom.Tokens.vertex if each else UsdGeom.Tokens.constant)
                widths.Set(Vt.FloatArray.FromNumpy(piece.widths()), time)
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
    """A stage as it is on disk now, made of what its file holds and nothing else.

    RuntimeError if it cannot be read; ValueError if it refers to other files.
    """
    if path.suffix.lower() == ".usdz":
        return _package(path)
    layer = Sdf.Layer.OpenAsAnonymous(str(path))
    if layer is None:
        raise RuntimeError("not a readable USD file")
    _within(layer, "", set())
    return Usd.Stage.Open(layer)


def _package(path: Path) -> Usd.Stage:
    """A package whose layers refer to each other only."""
    package = Sdf.ZipFile.Open(str(path))
    if not package:
        raise RuntimeError("not a readable USD package")
    names = {str(name) for name in package.GetFileNames()}
    for name in names:
        if posixpath.splitext(name)[1].lower() in LAYERS:
            layer = Sdf.Layer.OpenAsAnonymous(Ar.JoinPackageRelativePath([str(path), name]))
            if layer is None:
                raise RuntimeError("not a readable USD file")
            _within(layer, name, names)
    return Usd.Stage.Open(str(path))


def _within(layer: Sdf.Layer, name: str, names: set[str]) -> None:
    """ValueError if a layer refers to anything but names of the package that it lies in, or plays other layers."""
    for other in filter(None, layer.GetCompositionAssetDependencies()):  # those within the layer name nothing
        place = posixpath.normpath(posixpath.join(posixpath.dirname(name), other))
        if place not in names:
            raise ValueError(f"refers to another file, {other[:80]!r}; flatten it into one file and bring that")

    def look(place: Sdf.Path) -> None:
        found = layer.GetObjectAtPath(place)
        if found and any(key.startswith("clip") for key in found.ListInfoKeys()):
            raise ValueError("plays value clips of other files; flatten it into one file and bring that")

    layer.Traverse(Sdf.Path.absoluteRootPath, look)


def told(path: Path) -> tuple[int, float, str]:
    """How many moments a file holds, metres per unit and the up axis that it says it has."""
    stage = opened(path)
    metres, up = float(UsdGeom.GetStageMetersPerUnit(stage)), str(UsdGeom.GetStageUpAxis(stage)).lower()
    return len(_times(stage, _meshes(stage))), metres, up


def _meshes(stage: Usd.Stage, part: str = "") -> list[UsdGeom.Mesh]:
    """All meshes, or the one at a path."""
    meshes = [UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
    return [m for m in meshes if part in ("", str(m.GetPath()))]


def names(path: Path) -> list[tuple[str, int]]:
    """Paths of the meshes of a file, and how many polygons each has."""
    found, stage = [], opened(path)  # which must live as long as its meshes
    for mesh in _meshes(stage):
        counts = mesh.GetFaceVertexCountsAttr()
        held = counts.Get(Usd.TimeCode.EarliestTime()) or []
        found.append((str(mesh.GetPath()), len(held)))
    return found


def _times(stage: Usd.Stage, meshes: list[UsdGeom.Mesh]) -> list[float]:
    return sorted({t for m in meshes for t in m.GetPointsAttr().GetTimeSamples()} | _moved(stage, meshes))


def read_moments(
    path: Path, _fps: float = 24.0, only_first: bool = False, part: str = ""
) -> tuple[list[float], list[np.ndarray], np.ndarray]:
    """All meshes of a file as one, or a part of it: frame numbers, positions (n, 3) at each, triangles (m, 3).

    A file without time samples has one moment. Polygons are cut into fans. Points that change in number, or triangles
    that change, raise a ValueError.
    """
    stage = opened(path)
    meshes = _meshes(stage, part)
    times = _times(stage, meshes)[: 1 if only_first else None]
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
        follows(path.name, moments, len(times))
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
    many = np.maximum(counts - 2, 0)
    if many.sum() > MOST_TRIANGLES:
        raise ValueError(f"{many.sum():,} triangles; thin it to under {MOST_TRIANGLES:,}")
    polygon = np.repeat(np.arange(len(counts)), many)
    k = np.arange(len(polygon)) - np.repeat(np.cumsum(many) - many, many)
    first = (np.cumsum(counts) - counts)[polygon]
    found = corners[np.stack([first, first + k + 1, first + k + 2], axis=1)]
    return np.asarray(found[np.argsort(k, kind="stable")])  # the first of all polygons, then the second, and so on


def follows(name: str, moments: list[np.ndarray], count: int) -> None:
    """UnusableFile if the newest of some moments is of another mesh than the first, or all will be too many."""
    sizes = sorted({len(moments[0]), len(moments[-1])})
    if len(sizes) > 1:
        raise UnusableFile(
            f"{name}: has {sizes[0]:,} to {sizes[1]:,} points; a mesh that deforms keeps its points. Export it again "
            "without remeshing"
        )
    countable(name, len(moments[0]), count)


def read_camera(path: Path, _fps: float = 24.0) -> list[tuple[float, np.ndarray, float]]:
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
