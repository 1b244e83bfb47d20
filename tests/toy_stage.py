"""A stage for tests, declared in a file of its own: the centre of mass of each liquid frame."""

from __future__ import annotations

CENTRE = '''
"""The centre of mass of each frame."""

import numpy as np

from basin.readings import Reading
from basin.stages.keys import digest
from basin.stages.stage import Cost, Made, Stage, register
from basin.stages.view import pack_cloud


class Centre(Stage):
    name, title, verb, seen, letter = "centre", "Centre", "Weigh", "Centre", "m"
    absent = "This frame has not been weighed yet."
    reads = ("liquid",)
    readings = (Reading("height", "Height of the centre", "m"), Reading("seconds", "Seconds per frame", "s"))

    def keys(self, job, read):
        return {frame: digest(["centre-1", key]) for frame, key in read["liquid"].items()}

    def world(self, job):
        return job.store("liquid")

    def make(self, job, world, frame):
        data = world.frame(frame)
        place = np.average(data["position"], axis=0, weights=data["volume"])
        return Made({"position": place[None].astype(np.float32)}, {"height": float(place[1])})

    def pack(self, store, frame, look):
        return pack_cloud(store.frame(frame)["position"], 0.05)

    def cost(self, job):
        return Cost(10_000_000, 1000 * (job.scene.time.last - job.scene.time.first + 1))


register(Centre())
'''
