"""The files that a scene names, read once: meshes, sequences of them, images, other takes' caches.

What keys need of a file is remembered by its identity (place, size, times) for the whole process, so that a page that
asks for the state of every frame does not read or hash a mesh again.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import BaseModel

from basin.cache import Cache, StageCache
from basin.exchange import Pictures, UnusableFile, read_mesh, read_pictures, read_sequence, sequence_files, write_ply
from basin.geometry.deforming import MeshSequence
from basin.geometry.mesh import TriangleMesh
from basin.geometry.shapes import Box, MeshShape, Sphere, primitive_mesh
from basin.liquid.paint import Picture
from basin.scene import Collider, Drain, Fill, Force, Inflow, Scene
from basin.scene.model import Time
from basin.whitewater.settings import Layer

Shaped = Fill | Inflow | Collider | Drain
MOST_KNOWN = 20_000
_known: OrderedDict[Any, Any] = OrderedDict()


def _once(key: Any, made: Callable[[], Any]) -> Any:
    """What was made for a key before, or is made now; the oldest are forgotten."""
    if key not in _known:
        _known[key] = made()
        while len(_known) > MOST_KNOWN:
            _known.popitem(last=False)
    return _known[key]


def _identity(path: Path) -> tuple[Any, ...]:
    """What changes when a file does; UnusableFile if it is not there."""
    try:
        told = path.stat()
    except OSError:
        raise UnusableFile(f"{path.name}: is not there; import it again") from None
    return str(path), told.st_ino, told.st_size, told.st_mtime_ns, told.st_ctime_ns


def _named_files(part: Any) -> set[str]:
    """Files of meshes and images that a scene names, anywhere."""
    if isinstance(part, MeshShape | Picture):
        return {file for file in (part.file, getattr(part, "fine", "")) if file}
    if isinstance(part, Layer) and part.picture:
        return {part.picture}
    if isinstance(part, BaseModel):
        return set().union(*(_named_files(value) for _, value in part))
    if isinstance(part, list):
        return set().union(*map(_named_files, part))
    return set()


@lru_cache(maxsize=6)
def _recent(path: Path, unit: str, up: str, part: str, _identity: tuple[Any, ...]) -> TriangleMesh:
    return read_mesh(path, unit, up, part)


@lru_cache(maxsize=2)
def _recent_sequence(
    folder: Path, file: str, unit: str, up: str, fps: float, part: str, _identity: tuple[Any, ...]
) -> MeshSequence:
    return read_sequence(folder, file, unit, up, fps, part=part)


@dataclass
class SceneFiles:
    """Meshes and images of a scene, read once each.

    Attributes
    ----------
    folder : where the scene document's files are relative to
    """

    folder: Path
    _cache: dict[tuple[str, str, str], TriangleMesh] = field(default_factory=dict)
    _sequences: dict[tuple[str, str, str], MeshSequence] = field(default_factory=dict)
    _pictures: dict[str, Pictures] = field(default_factory=dict)
    _identities: dict[str, tuple[Any, ...]] = field(default_factory=dict)
    _others: dict[str, dict[int, str]] = field(default_factory=dict)

    def mesh(self, shape: MeshShape) -> TriangleMesh:
        """The mesh of a shape in metres, a sequence's first one; UnusableFile if it cannot be used."""
        key = (shape.file, shape.unit, f"{shape.up} {shape.own_part()}")
        if key not in self._cache:
            path = self._inside(shape.file, "mesh")
            if shape.is_sequence():
                self._cache[key] = self._numbered(shape).mesh(-np.inf)
            else:
                self._cache[key] = _recent(path, shape.unit, shape.up, shape.own_part(), _identity(path))
        return self._cache[key]

    def mesh_digest(self, shape: MeshShape) -> str:
        """What tells the mesh of a shape that does not deform from others; UnusableFile as above."""
        path = self._inside(shape.file, "mesh")
        return str(_once((_identity(path), shape.unit, shape.up, shape.own_part()), lambda: self.mesh(shape).digest()))

    def sequence_digests(self, shape: MeshShape, time: Time, start: float, end: float) -> list[str]:
        """What tells a shape that deforms from others over [start, end] (shot seconds); UnusableFile as above."""

        def digests() -> list[str]:
            sequence = self.sequence(shape, time)
            if not sequence.changes_over(start, end):
                return [sequence.mesh(end).digest()]
            step = sequence.step  # velocities at a moment come from the files on both sides
            moments = (start - step, start, 0.5 * (start + end), end, end + step)
            return [sequence.mesh(t).digest() for t in moments]

        own = (self._stamps(shape.file), shape.unit, shape.up, shape.own_part(), time.first, time.fps, start, end)
        found: list[str] = _once(own, digests)
        return found

    def pictures_digest(self, paint: Picture) -> str:
        """What tells an image or sequence from others; UnusableFile as above."""
        path = self._inside(paint.file, "image")
        paths = sequence_files(self.folder, paint.file).values() if "#" in path.name else [path]
        return str(_once(tuple(_identity(p) for p in paths), lambda: self.pictures(paint).digest()))

    def mesh_at(self, shape: MeshShape, time: Time, moment: float) -> TriangleMesh:
        """The mesh of a shape at a shot second, as `mesh` if it does not deform."""
        return self.sequence(shape, time).mesh(moment) if shape.is_sequence() else self.mesh(shape)

    def sequence(self, shape: MeshShape, time: Time) -> MeshSequence:
        """The meshes of a shape whose file is a sequence, numbered like the frames; UnusableFile as above."""
        return self._numbered(shape, time.fps).played(time.first, time.fps)

    def _numbered(self, shape: MeshShape, fps: float = 24.0) -> MeshSequence:
        key = (shape.file, shape.unit, f"{shape.up} {fps} {shape.own_part()}")
        if key not in self._sequences:
            own = (self.folder, shape.file, shape.unit, shape.up, fps, shape.own_part())
            self._sequences[key] = _recent_sequence(*own, self._stamps(shape.file))
        return self._sequences[key]

    def _stamps(self, file: str) -> tuple[Any, ...]:
        """Identities of the files of a sequence."""
        if file not in self._identities:
            path = self._inside(file, "mesh")
            paths = sequence_files(self.folder, file).values() if "#" in path.name else [path]
            self._identities[file] = tuple(_identity(p) for p in paths)
        return self._identities[file]

    def pictures(self, paint: Picture) -> Pictures:
        """The image or images of a paint; UnusableFile if they cannot be used."""
        if paint.file not in self._pictures:
            self._inside(paint.file, "image")
            self._pictures[paint.file] = read_pictures(self.folder, paint.file)
        return self._pictures[paint.file]

    def other_cache(self, folder: str) -> StageCache:
        """The liquid of a cache that is joined, beside the scene's folder or within it; UnusableFile if elsewhere."""
        path = (self.folder / folder).resolve()
        if not folder:
            raise UnusableFile("a joined cache names no folder; choose a take, or take it out")
        if not path.is_relative_to(self.folder.resolve().parent):
            raise UnusableFile(f"joined cache {folder}: lies elsewhere than the scene")
        return Cache(path).stage("liquid")

    def other_key(self, folder: str, frame: int) -> str:
        """What tells a frame of a joined cache from others; empty if it is not there."""
        if folder not in self._others:
            self._others[folder] = {n: record.key for n, record in self.other_cache(folder).records().items()}
        return self._others[folder].get(frame, "")

    def stamp(self, scene: Scene) -> tuple[Any, ...]:
        """What changes whenever a file that a scene names does, or one of a cache that is joined."""
        found: list[Any] = []
        for file in sorted(_named_files(scene)):
            try:
                found.append(self._stamps(file))
            except ValueError as error:
                found.append(str(error))
        for joined in scene.surface.caches:
            with suppress(ValueError):
                found.append(self.other_cache(joined.folder).stamp())
        return tuple(found)

    def _inside(self, file: str, kind: str) -> Path:
        if not file:
            raise UnusableFile(f"no {kind} file is named; import one")
        if "\0" in file or len(file) > 1000:
            raise UnusableFile(f"{file[:40]!r} is no name of a file; import one")
        path = (self.folder / file).resolve()
        if not path.is_relative_to(self.folder.resolve()):
            raise UnusableFile(f"{file}: lies outside the scene's folder")
        return path


def picture_of(layer: Layer) -> Picture:
    """The image by which a layer of whitewater is born."""
    return Picture(file=layer.picture, along=layer.picture_along, width=layer.picture_width)


def keep_mesh(
    path: Path, position: np.ndarray, triangle: np.ndarray, attributes: dict[str, np.ndarray] | None = None
) -> None:
    """Write a mesh of our own making (positions (n, 3) in m) beside a scene as PLY, whole or not at all."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.part")
    write_ply(part, position, triangle, attributes)
    part.replace(path)


def element_mesh(element: Shaped | Force, files: SceneFiles) -> TriangleMesh | None:
    """Mesh of an element in its own frame; None for a force that acts everywhere."""
    if isinstance(element, Force):
        return primitive_mesh(element.zone) if isinstance(element.zone, Box | Sphere) else None
    shape = element.shape
    return files.mesh(shape) if isinstance(shape, MeshShape) else primitive_mesh(shape)
