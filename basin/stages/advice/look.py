"""What rules look at, each thing found once."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from basin.scene import Inflow, Scene
from basin.stages.files import SceneFiles
from basin.stages.flight import Flight, flight


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
