"""What the frames of a run show."""

from __future__ import annotations

from math import ceil

import numpy as np

from basin.cache import DamagedFrame, FrameRecord, StageCache
from basin.geometry.pose import Pose
from basin.geometry.shapes import Box
from basin.scene import Advice, Drain, Remedy, Scene, Show
from basin.stages.gestures.fit import fitted
from basin.stages.stage import Job, all_keys

SHARE = 0.25  # of a run's time that single particles take, from which they are told of
SECONDS = 5.0  # that they take at least
NAME = "Strays"


def flies_away(job: Job, stage: str) -> list[Advice]:
    """Single particles that are so much faster than the rest that the substeps go by them alone."""
    scene, store, keys = job.scene, job.store(stage), all_keys(job)[stage]
    records = {n: r for n, r in store.records().items() if keys.get(n) == r.key and not r.error}
    spent = {n: _spent(r, scene) for n, r in records.items()}
    seconds = sum(r.readings.get("seconds", 0.0) for r in records.values())
    lost = sum(spent.values())
    if lost < max(SHARE * seconds, SECONDS):
        return []
    frames = [n for n, s in spent.items() if s > 0]
    worst = max(frames, key=lambda n: spent[n])
    told, there = records[worst].readings, _fastest(store, records[worst])
    how = f"{told['alone']:.0f} of them at up to {told['speed_max']:.2g} m/s, the others {told['speed_together']:.2g}"
    return [
        Advice(
            f"single particles fly away from the rest, frames {frames[0]} to {frames[-1]}; at {worst} {how}",
            leads_to=f"substeps go by them and took {lost:.0f} of {seconds:.0f} s for it",
            remedy=_drained(job, there),
            rule=flies_away.__name__,
            show=Show(there, worst),
        )
    ]


def _spent(record: FrameRecord, scene: Scene) -> float:
    """Seconds of a frame that substeps took which its liquid would not have needed but for what flies alone."""
    r = record.readings
    if not r.get("alone") or not r.get("substeps") or not r.get("speed_together"):
        return 0.0
    wanted = max(ceil(r["substeps"] * r["speed_together"] / r["speed_max"]), scene.liquid.substeps_min)
    return r.get("seconds", 0.0) * max(1 - wanted / r["substeps"], 0.0)


def _fastest(store: StageCache, record: FrameRecord) -> tuple[float, float, float] | None:
    """Where (m) a frame's fastest particle is; None if the frame cannot be read."""
    try:
        arrays = store.frame(record.frame)
    except DamagedFrame:
        return None
    speed = np.einsum("ij,ij->i", arrays["velocity"], arrays["velocity"])
    x, y, z = (float(v) for v in arrays["position"][int(speed.argmax())])
    return x, y, z


def _drained(job: Job, stray: tuple[float, float, float] | None) -> Remedy | None:
    """A drain for all that is outside of what the scene needs; None if the stray is not."""
    fits = fitted(job.scene, job.files, job.quality)
    if fits is None or stray is None:
        return None
    low, size = np.array(fits.low), np.array(fits.size)
    if ((low <= stray) & (np.array(stray) <= low + size)).all():
        return None
    middle = low + 0.5 * size
    x, y, z = (round(float(v), 5) for v in middle)
    wide, high, deep = (round(float(v), 5) for v in size)
    drain = Drain(
        name=NAME, shape=Box(size=(wide, high, deep)), pose=Pose(translation=(x, y, z)), takes="outside"
    ).model_dump(mode="json")
    elements = [e.model_dump(mode="json") for e in job.scene.elements if e.name != NAME]
    return Remedy("Drain what strays", ("elements",), [*elements, drain])
