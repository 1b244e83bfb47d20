"""What a run will cost, before it is run."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from basin.cache import Cache
from basin.scene import Advice
from basin.stages.costs import liquid_size
from basin.stages.pace import Expected, Pace
from basin.stages.stage import Cost, Dial, Job, stages

SHARE = 0.9  # of the machine's memory that a run may take


@dataclass(frozen=True)
class Forecast:
    """Expected size of a shot.

    Attributes
    ----------
    voxels : voxels of the domain; particles : most particles at any frame
    costs : of each stage, by name
    times : that each stage will take, by name; as this machine's own runs have it, if they are known
    dials : what each stage's size follows from, of those whose it is not the liquid's voxel
    """

    quality: str
    voxel_size: float
    voxels: int
    particles: int
    frames: int
    memory_of_machine: int
    costs: dict[str, Cost]
    times: dict[str, Expected]
    dials: dict[str, Dial]

    @property
    def seconds(self) -> Expected:
        """Of all stages, one after the other."""
        all_of_them = self.times.values()
        return Expected(*(sum(getattr(t, end) for t in all_of_them) for end in ("likely", "least", "most")))

    @property
    def memory(self) -> int:
        """Bytes that the hungriest stage takes."""
        return max(cost.memory for cost in self.costs.values())

    @property
    def disk(self) -> int:
        """Bytes of all frames of all stages."""
        return sum(cost.disk for cost in self.costs.values())

    @property
    def fits(self) -> bool:
        """Whether all stages fit this machine's memory."""
        return self.refusal(self.costs) is None

    def refusal(self, names: Iterable[str]) -> Advice | None:
        """What refuses a run of some stages; None if they fit."""
        for name in names:
            memory = self.costs[name].memory
            if memory > SHARE * self.memory_of_machine:
                dial = self.dials.get(name)
                if dial is not None:
                    return Advice(
                        f"{dial.what}; making it takes about {memory / 1e9:.0f} GB of memory and this machine has "
                        f"{self.memory_of_machine / 1e9:.0f} GB. {dial.remedy}",
                        where=dial.where,
                    )
                return Advice(
                    f"{self.voxel_size * 1000:.3g} mm means {self.particles / 1e6:.0f} million particles in "
                    f"{self.voxels / 1e6:.0f} million voxels; making the {name} takes about {memory / 1e9:.0f} GB of "
                    f"memory and this machine has {self.memory_of_machine / 1e9:.0f} GB. Use a coarser voxel or a "
                    "smaller domain",
                    where="liquid.voxel_size",
                )
        return None

    def lacking(self, folder: Path, names: Iterable[str]) -> Advice | None:
        """What is said if the disk has no room for the frames of some stages besides those that are there."""
        there = folder
        while not there.is_dir() and there != there.parent:
            there = there.parent
        free = shutil.disk_usage(there).free
        needed = sum(self.costs[name].disk - Cache(folder).stage(name).size() for name in names)
        if needed <= free:
            return None
        return Advice(
            f"its frames take about {_bytes(needed)} and the disk has {_bytes(free)} free. Make room, or use "
            "a coarser voxel",
            where="liquid.voxel_size",
        )


def _bytes(count: float) -> str:
    return f"{count / 1e9:.1f} GB" if count >= 1e8 else f"{count / 1e6:.0f} MB"


def forecast(job: Job, pace: Pace | None = None) -> Forecast:
    """Forecast from the scene alone, and from how fast this machine has been."""
    pace = pace or Pace(Path(os.devnull))
    costs = {stage.name: stage.cost(job) for stage in stages().values()}
    scene = job.scene
    size = liquid_size(scene, job.files, job.quality)
    return Forecast(
        job.quality,
        scene.voxel_size(job.quality),
        size.voxels,
        size.particles,
        scene.time.last - scene.time.first + 1,
        os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES"),
        costs,
        {name: pace.expect(name, cost.seconds) for name, cost in costs.items()},
        {name: dial for name, stage in stages().items() if (dial := stage.dial(job)) is not None},
    )


FINEST, COARSEST = 1 / 3000, 1 / 4  # of the domain's longest edge: voxels among which one is looked for
HALVINGS = 22


def voxel_for(job: Job, what: str, value: float, pace: Pace | None = None) -> float:
    """The final voxel size (m) at which a forecast has about a number of particles, bytes of memory or seconds.

    Raises
    ------
    ValueError
        If no voxel of this domain has so many, or so few.
    """

    def at(voxel: float) -> float:
        found = forecast(Job(job.scene.at_voxel(voxel), job.files, job.cache, job.quality), pace)
        return {"particles": float(found.particles), "memory": float(found.memory), "seconds": found.seconds.likely}[
            what
        ]

    factor = job.scene.quality.factor(job.quality)
    reach = max(job.scene.domain.size)
    fine, coarse = FINEST * reach / factor, COARSEST * reach / factor
    if not at(coarse) <= value <= at(fine):
        raise ValueError(
            f"no voxel of this domain gives {value:.3g}; it lies between {at(coarse):.3g} and {at(fine):.3g}"
        )
    for _ in range(HALVINGS):
        middle = (fine * coarse) ** 0.5
        fine, coarse = (middle, coarse) if at(middle) > value else (fine, middle)
    return float(f"{coarse:.4g}")
