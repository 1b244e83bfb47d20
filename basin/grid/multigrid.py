"""A float32 multigrid V-cycle, the preconditioner of `basin.grid.poisson`."""

from __future__ import annotations

from basin.grid.finest import Finest
from basin.grid.levels import Level, coarser
from basin.grid.pencils import Matrix

COARSEST = 48  # rows below which a level is swept instead of coarsened


class Multigrid:
    """Levels over one matrix; `cycle` applies the preconditioner: the finest level's value from its right side."""

    def __init__(self, matrix: Matrix):
        self.finest = Finest(matrix)
        self.levels = [self.finest.next]  # those below it
        while len(self.levels[-1].place) > COARSEST:
            next_level = coarser(self.levels[-1])
            if next_level is None:
                break
            self.levels.append(next_level)

    def cycle(self) -> None:
        """One symmetric V-cycle from zero."""
        _cycle(self.finest)


def _cycle(level: Finest | Level) -> None:
    level.begin()
    if level.next:
        level.restrict()
        _cycle(level.next)
    level.finish()
