"""The air stage: where each frame of the liquid traps air, computed once and kept for all that is born of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from basin.attributes import Attribute, declare
from basin.cache import DamagedFrame, StageCache
from basin.readings import Reading
from basin.scene import Scene
from basin.stages import samples
from basin.stages.costs import air_cost
from basin.stages.keys import digest
from basin.stages.stage import Cost, Job, Keys, Look, Made, Stage, register
from basin.stages.view import pack_points
from basin.whitewater.fields import Grid
from basin.whitewater.potentials import ALGORITHM, NAMES, potentials

LIQUID = "liquid"
MOST = float(np.finfo(np.float16).max)
SHOWN = ("position", "velocity", "id", "particle_spacing")
FASTEST_OF = 99.0  # percent of the particles lie below what readings tell

declare(
    Attribute("trapped", unit="m/s", shown="ramp", from_nothing=True, least_span=0.01, leaves=False),
    Attribute("crest", shown="ramp", from_nothing=True, least_span=0.01, leaves=False),
    Attribute("energy", unit="J/kg", shown="ramp", from_nothing=True, least_span=1e-4, leaves=False),
)


def grid_of(data: Mapping[str, np.ndarray], slower: float) -> Grid:
    """The grid of a liquid frame, in the liquid's own seconds, of which a shot second has `slower`."""
    fields = (data[f"tile_{name}"] for name in ("phi", *"uvw"))
    return Grid.of(data["grid_low"], float(data["grid_voxel"]), data["tile"], *fields, slower=slower)


def frame_potentials(data: Mapping[str, np.ndarray], slower: float) -> dict[str, np.ndarray]:
    """Potentials of a liquid frame's particles, float16, in its order.

    Parameters
    ----------
    slower : liquid seconds in a shot second, by which what the frame holds is too fast
    """
    velocity = data["velocity"] / np.float32(slower)
    found, _, _ = potentials(data["position"], velocity, float(data["particle_spacing"]), grid_of(data, slower))
    return {name: np.minimum(value, MOST).astype(np.float16) for name, value in found.items()}


class AirStage(Stage):
    """Potentials of the liquid's particles."""

    name = "air"
    title = "Air"
    verb = "Look for air"
    seen = "Air"
    absent = "Nobody has looked for air in this frame yet."
    colouring = "trapped"
    definition = "WhitewaterSettings"
    part = "whitewater"
    reads = (LIQUID,)
    readings = (
        Reading("trapped_high", "Trapping, of 99 in 100 particles less", "m/s"),
        Reading("crest_high", "Crests, of 99 in 100 particles less"),
        Reading("vorticity_high", "Vorticity, of 99 in 100 particles less", "1/s"),
        Reading("energy_high", "Energy, of 99 in 100 particles less", "J/kg"),
        Reading("seconds", "Seconds per frame", "s"),
    )

    def on_demand(self, scene: Scene | None) -> bool:
        """Not where whitewater is made of it."""
        return scene is None or not scene.whitewater.layers

    def keys(self, job: Job, read: Mapping[str, Keys]) -> Keys:
        """Of the liquid's frames alone."""
        return {frame: digest([ALGORITHM, key]) for frame, key in read[LIQUID].items()}

    def world(self, job: Job) -> Any:
        """The liquid's frames."""
        return job.store(LIQUID)

    def make(self, job: Job, world: Any, frame: int) -> Made:
        """Potentials of a frame."""
        found = frame_potentials(world.frame(frame), job.scene.time.time_scale)
        high = {f"{n}_high": float(np.percentile(v, FASTEST_OF)) if len(v) else 0.0 for n, v in found.items()}
        return Made(found, high)

    def pack(self, store: StageCache, frame: int, look: Look) -> bytes:
        """The liquid's points, coloured by a potential."""
        own, liquid = store.frame(frame), store.beside(LIQUID).frame(frame)
        data = {**{name: liquid[name] for name in SHOWN}, **{name: own[name] for name in NAMES}}
        if len(data["trapped"]) != len(data["id"]):
            raise DamagedFrame(f"frame {frame} of the liquid is another now; look for its air again")
        return pack_points(data, look.budget, look.by, look.time)

    def cost(self, job: Job) -> Cost:
        """By the liquid's particles."""
        return air_cost(job.scene, job.files, job.quality)

    def warm_up(self) -> list[dict[str, Any]]:
        """Water is enough."""
        return samples.liquids()[:1]


register(AirStage())
