"""Alembic, through alembic3d: meshes and points with velocities and parameters, out and in; cameras in.

Its polygons are listed clockwise seen from outside, so corners are turned round on the way out and in. Frame n lies at
n / fps seconds.
"""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import imath
import numpy as np
from alembic3d import Abc, AbcCoreAbstract, AbcGeom

from basin.exchange.pieces import Piece
from basin.exchange.usd import fans, follows

SCOPE = AbcGeom.GeometryScope.kVertexScope


def _vectors(value: np.ndarray) -> Any:
    array = np.ascontiguousarray(value, np.float32)
    return imath.V3fArrayFromBuffer(array) if len(array) else imath.V3fArray(0)


def _whole(value: np.ndarray) -> Any:
    array = np.ascontiguousarray(value, np.int32)
    return imath.IntArrayFromBuffer(array) if len(array) else imath.IntArray(0)


def _real(value: np.ndarray) -> Any:
    array = np.ascontiguousarray(value, np.float32)
    return imath.FloatArrayFromBuffer(array) if len(array) else imath.FloatArray(0)


class AlembicFile:
    """An archive that frames are added to, one after the other, without gaps."""

    def __init__(self, path: Path, fps: float, first: int, step: int = 1) -> None:
        self._archive = Abc.OArchive(str(path))
        self._sampling = self._archive.addTimeSampling(AbcCoreAbstract.TimeSampling(step / fps, first / fps))
        self._held: dict[str, tuple[Any, dict[str, Any]]] = {}

    def add(self, pieces: list[Piece]) -> None:
        """Write the pieces of the next frame; one that stays the same is written once."""
        for piece in pieces:
            if piece.name in self._held and piece.still:
                continue
            self._mesh(piece) if piece.triangle is not None else self._points(piece)

    def _mesh(self, piece: Piece) -> None:
        assert piece.triangle is not None
        if piece.name not in self._held:
            made = AbcGeom.OPolyMesh(self._archive.getTop(), piece.name, 0 if piece.still else self._sampling)
            self._held[piece.name] = (made, {})
        schema = self._held[piece.name][0].getSchema()
        corners = _whole(piece.triangle[:, ::-1].ravel())
        counts = _whole(np.full(len(piece.triangle), 3))
        sample = AbcGeom.OPolyMeshSchemaSample(_vectors(piece.position), corners, counts)
        if "velocity" in piece.attributes:
            sample.setVelocities(_vectors(piece.attributes["velocity"]))
        if "uv" in piece.attributes:
            flat = np.ascontiguousarray(piece.attributes["uv"], np.float32)
            held = imath.V2fArrayFromBuffer(flat) if len(flat) else imath.V2fArray(0)
            sample.setUVs(AbcGeom.OV2fGeomParamSample(held, SCOPE))
        schema.set(sample)
        self._parameters(schema, piece)

    def _points(self, piece: Piece) -> None:
        if piece.name not in self._held:
            made = AbcGeom.OPoints(self._archive.getTop(), piece.name, 0 if piece.still else self._sampling)
            self._held[piece.name] = (made, {})
        schema = self._held[piece.name][0].getSchema()
        identity = piece.attributes.get("id", np.arange(len(piece.position)))
        scope = SCOPE if "radius" in piece.attributes else AbcGeom.GeometryScope.kConstantScope
        widths = AbcGeom.OFloatGeomParamSample(_real(piece.widths()), scope)
        flow = _vectors(piece.attributes.get("velocity", np.zeros((0, 3))))
        schema.set(AbcGeom.OPointsSchemaSample(_vectors(piece.position), _whole(identity), flow, widths))
        self._parameters(schema, piece)

    def _parameters(self, schema: Any, piece: Piece) -> None:
        """Other attributes, as parameters a vertex."""
        made = self._held[piece.name][1]
        for name, value in piece.attributes.items():
            if name in ("velocity", "uv", "id"):
                continue
            if name == "colour":
                kind, sample, array = AbcGeom.OC3fGeomParam, AbcGeom.OC3fGeomParamSample, _colours(value)
            elif np.issubdtype(value.dtype, np.integer):
                kind, sample, array = AbcGeom.OInt32GeomParam, AbcGeom.OInt32GeomParamSample, _whole(value)
            elif value.ndim == 1:
                kind, sample, array = AbcGeom.OFloatGeomParam, AbcGeom.OFloatGeomParamSample, _real(value)
            else:
                kind, sample, array = AbcGeom.OV3fGeomParam, AbcGeom.OV3fGeomParamSample, _vectors(value)
            if name not in made:
                sampling = 0 if piece.still else self._sampling
                made[name] = kind(schema.getArbGeomParams(), name, False, SCOPE, 1, sampling)
            made[name].set(sample(array, SCOPE))

    def finish(self) -> None:
        """Close the archive: it is written when nothing refers to it any more."""
        self._held.clear()
        del self._archive


def _colours(value: np.ndarray) -> Any:
    array = np.ascontiguousarray(value, np.float32)
    return imath.C3fArray(imath.V3fArrayFromBuffer(array)) if len(array) else imath.C3fArray(0)


def _objects(parent: Any) -> Iterator[tuple[Any, Any]]:
    """All objects below one, each with its parent."""
    for i in range(parent.getNumChildren()):
        child = parent.getChild(i)
        yield parent, child
        yield from _objects(child)


def _matrix(found: Any, second: float) -> np.ndarray:
    """Placement (4, 4) of an object's points, by all transforms above it, for columns."""
    matrix = np.eye(4)
    while found.valid() and found.getName() != "ABC":
        if AbcGeom.IXform.matches(found.getHeader()):
            schema = AbcGeom.IXform(found.getParent(), found.getName()).getSchema()
            value = schema.getValue(Abc.ISampleSelector(second)).getMatrix()
            own = np.array([[value[r][c] for c in range(4)] for r in range(4)]).T
            matrix = own @ matrix
            if not schema.getInheritsXforms():
                break
        found = found.getParent()
    return matrix


def _seconds(schema: Any) -> list[float]:
    sampling = schema.getTimeSampling()
    return [float(sampling.getSampleTime(n)) for n in range(schema.getNumSamples())]


def _times(found: Any, schema: Any) -> set[float]:
    """Times at which an object or a transform above it has samples, if it has more than one."""
    own = _seconds(schema)
    times = set(own) if len(own) > 1 else set()
    while found.valid() and found.getName() != "ABC":
        if AbcGeom.IXform.matches(found.getHeader()):
            above = _seconds(AbcGeom.IXform(found.getParent(), found.getName()).getSchema())
            times |= set(above) if len(above) > 1 else set()
        found = found.getParent()
    return times


def _opened(path: Path) -> Any:
    """An archive; ValueError if it is of the older kind, which may refer to other files."""
    with path.open("rb") as file:
        if file.read(5) != b"Ogawa":
            raise ValueError("not an Alembic file as written today (Ogawa); export it again")
    return Abc.IArchive(str(path))


def names(path: Path) -> list[tuple[str, int]]:
    """Paths of the meshes of an archive, and how many polygons each has."""
    first = Abc.ISampleSelector(0)
    return [
        (child.getFullName(), len(schema.getValue(first).getFaceCounts())) for child, schema in _meshes(_opened(path))
    ]


def _meshes(archive: Any, part: str = "") -> list[tuple[Any, Any]]:
    """All meshes, or the one at a path."""
    found = []
    for parent, child in _objects(archive.getTop()):
        if AbcGeom.IPolyMesh.matches(child.getHeader()) and part in ("", child.getFullName()):
            found.append((child, AbcGeom.IPolyMesh(parent, child.getName()).getSchema()))
    return found


def _moments(meshes: list[tuple[Any, Any]]) -> list[float]:
    return sorted({round(t, 9) for child, schema in meshes for t in _times(child, schema)})


def told(path: Path) -> tuple[int, None, None]:
    """How many moments an archive holds; it tells neither its unit nor its axes."""
    return len(_moments(_meshes(_opened(path)))), None, None


def read_moments(
    path: Path, fps: float, only_first: bool = False, part: str = ""
) -> tuple[list[float], list[np.ndarray], np.ndarray]:
    """All meshes of an archive as one, or a part of it: frame numbers, positions (n, 3) at each, triangles (m, 3).

    RuntimeError if it cannot be read; ValueError if its points or triangles change.
    """
    archive = _opened(path)
    meshes = _meshes(archive, part)
    times = _moments(meshes)[: 1 if only_first else None]
    moments: list[np.ndarray] = []
    triangle: np.ndarray | None = None
    for second in times or [0.0]:
        places, faces, start = [], [], 0
        for child, schema in meshes:
            value = schema.getValue(Abc.ISampleSelector(second))
            place = np.array(value.getPositions(), np.float64).reshape(-1, 3)
            matrix = _matrix(child, second)
            counts = np.array(value.getFaceCounts(), np.int64)
            cut = fans(counts, np.array(value.getFaceIndices(), np.int64))[:, ::-1]
            if np.linalg.det(matrix[:3, :3]) < 0:
                cut = cut[:, ::-1]
            places.append(place @ matrix[:3, :3].T + matrix[:3, 3])
            faces.append(cut + start)
            start += len(place)
        moments.append(np.concatenate(places) if places else np.zeros((0, 3)))
        follows(path.name, moments, len(times))
        all_faces = np.concatenate(faces) if faces else np.zeros((0, 3), np.int64)
        if triangle is not None and not np.array_equal(triangle, all_faces):
            raise ValueError("its triangles change over time")
        triangle = all_faces
    assert triangle is not None
    return [t * fps for t in times] or [0.0], moments, triangle


def read_camera(path: Path, fps: float) -> list[tuple[float, np.ndarray, float]]:
    """The first camera of an archive: frame number, matrix (4, 4) that places it, upright angle in degrees.

    Empty if there is none. A camera looks along its own -Z, with Y up.
    """
    archive = _opened(path)
    for parent, child in _objects(archive.getTop()):
        if not AbcGeom.ICamera.matches(child.getHeader()):
            continue
        schema = AbcGeom.ICamera(parent, child.getName()).getSchema()
        found = []
        for second in sorted(_times(child, schema)) or [0.0]:
            sample = schema.getValue(Abc.ISampleSelector(second))
            # millimetres of focal length, centimetres of aperture
            half = sample.getVerticalAperture() * 10 / 2 / sample.getFocalLength()
            found.append((second * fps, _matrix(child, second), float(np.degrees(2 * np.arctan(half)))))
        return found
    return []
