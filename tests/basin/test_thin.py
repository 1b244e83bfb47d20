"""Thin walls: what is remembered of them is what would be found anew."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from django.test import SimpleTestCase

from basin.grid.tiles import tiles_near
from basin.liquid.solids import SolidWorld
from basin.scene import parse_scene
from basin.stages.assembly import liquid_world
from basin.stages.files import SceneFiles


class Remembering(SimpleTestCase):
    """A still thin plate that a box comes near to, and goes away from."""

    def test_it_is_as_found_anew_at_every_moment(self) -> None:
        keys = [{"time": t, "value": [x, 0.4, 0.4]} for t, x in ((0.0, 0.1), (0.5, 0.34), (1.0, 0.1))]
        plate = {"kind": "collider", "name": "Plate", "shape": {"kind": "box", "size": [0.01, 0.5, 0.5]}}
        plate["pose"] = {"translation": [0.41, 0.4, 0.4], "rotation": [0, 0, 12]}
        box = {"kind": "collider", "name": "Box", "shape": {"kind": "box", "size": [0.1, 0.3, 0.3]}}
        box["pose"] = {"translation": {"keys": keys}}
        scene = parse_scene(
            {
                "format": "zinc-scene/1",
                "domain": {"low": [0, 0, 0], "size": [0.8, 0.8, 0.8]},
                "liquid": {"voxel_size": 0.025},
                "elements": [plate, box],
            }
        )
        world = liquid_world(scene, SceneFiles(Path(".")), "final")
        middle = world.layout.to_voxels(np.full((1, 3), 0.4)).astype(np.int64)
        tiles = tiles_near(world.layout, middle - 12, middle + 12, 0)
        long_lived = SolidWorld(world.layout, world.bodies, 1.0)
        rooms = []
        for time in (0.0, 0.0, 0.25, 0.5, 0.75, 1.0):
            kept = long_lived.at(tiles, time, 0.01)
            fresh = SolidWorld(world.layout, world.bodies, 1.0).at(tiles, time, 0.01)
            self.assertGreater(len(kept.thin), 0)
            for name in ("near", "wide", "middle"):
                np.testing.assert_array_equal(getattr(kept, name), getattr(fresh, name), f"{name} at {time}")
            np.testing.assert_array_equal(kept.thin.hidden, fresh.thin.hidden)
            for a, b in zip(kept.open, fresh.open, strict=True):
                np.testing.assert_array_equal(a, b)
            rooms.append(float(kept.near.sum()))
        self.assertGreater(max(rooms) - min(rooms), 1.0)  # the box takes room where the plate is
