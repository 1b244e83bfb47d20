"""What rules look at, each thing found once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from basin.geometry.shapes import GroundPlane
from basin.scene import Collider, Inflow, Scene, Show
from basin.stages.files import SceneFiles, element_mesh
from basin.stages.gestures.filling import Filling, filling
from basin.stages.gestures.flight import Flight, flight

MOST_POINTS = 2000  # of a collider's mesh that are looked at


@dataclass(frozen=True)
class Look:
    """A scene without problems, with its files."""

    scene: Scene
    files: SceneFiles

    @cached_property
    def flights(self) -> list[tuple[int, Inflow, Flight]]:
        """Inflows by their index, and how their streams fly at the final voxel."""
        found = []
        for index, element in enumerate(self.scene.elements):
            if isinstance(element, Inflow) and element.spans():
                way = flight(self.scene, self.files, index, "final")
                if way is not None:
                    found.append((index, element, way))
        return found

    @cached_property
    def fillings(self) -> list[tuple[int, Inflow, Filling]]:
        """Inflows by their index, and what they fill."""
        found = []
        for index, element, _ in self.flights:
            filled = filling(self.scene, self.files, index, "draft")
            if filled is not None:
                found.append((index, element, filled))
        return found

    @cached_property
    def solids(self) -> list[tuple[int, Collider, np.ndarray]]:
        """Colliders with a size by their index, and points (n, 3) of them in metres at the first frame."""
        found = []
        for index, element in enumerate(self.scene.elements):
            if not isinstance(element, Collider) or isinstance(element.shape, GroundPlane):
                continue
            mesh = element_mesh(element, self.files)
            if mesh is None or not len(mesh.position):
                continue
            some = mesh.position[:: max(len(mesh.position) // MOST_POINTS, 1)]
            matrix = self.scene.placement(element).matrix(0.0)
            found.append((index, element, some @ matrix[:3, :3].T + matrix[:3, 3]))
        return found

    def arrival(self, way: Flight) -> Show:
        """Where and when a stream arrives."""
        x, y, z = way.path[-1]
        return Show((x, y, z), min(max(way.frame, self.scene.time.first), self.scene.time.last))

    def at(self, point: np.ndarray, time: float = 0.0) -> Show:
        """A point at a shot second."""
        frame = round(self.scene.time.first + time * self.scene.time.fps)
        x, y, z = (float(v) for v in point)
        return Show((x, y, z), min(max(frame, self.scene.time.first), self.scene.time.last))
