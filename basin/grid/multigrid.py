"""A float32 multigrid V-cycle, the preconditioner of `basin.grid.poisson`."""

from __future__ import annotations

from copy import copy
from itertools import pairwise

import numpy as np

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

    def apart(self, matrix: Matrix) -> Multigrid:
        """The same over a matrix of its own, whose coupling to the surface may grow."""
        own = copy(self)
        own.levels = [level.apart() for level in self.levels]
        own.finest = self.finest.apart(matrix, own.levels[0])
        for level, below in pairwise(own.levels):
            level.next = below
        return own

    def hold(self, places: np.ndarray, more: np.ndarray) -> None:
        """Couple unknowns at some places (m,) more strongly (m,) to the free surface on all levels."""
        row = self.finest.hold(places, more)
        for level in self.levels:
            more = 0.5 * more
            level.hold(row, more)
            if level.next:
                row = level.parent[row]

    def cycle(self) -> None:
        """One symmetric V-cycle from zero."""
        _cycle(self.finest)


def _cycle(level: Finest | Level) -> None:
    level.begin()
    if level.next:
        level.restrict()
        _cycle(level.next)
    level.finish()
