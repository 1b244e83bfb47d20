"""What particles carry along besides what every liquid needs: which columns there are, and where."""

from __future__ import annotations

from dataclasses import dataclass

from basin.liquid import paint, texture


@dataclass(frozen=True)
class Carried:
    """Columns of `Particles.carried`: colour and mark, viscosity, rest positions, each only if it is wanted.

    Attributes
    ----------
    painted : whether there are colours and marks (`basin.liquid.paint`), the first columns
    viscous : whether there is a kinematic viscosity, m2 per liquid second, after them
    textured : whether there are rest positions (`basin.liquid.texture`), the last columns
    """

    painted: bool = False
    viscous: bool = False
    textured: bool = False

    @property
    def width(self) -> int:
        """How many numbers a particle carries."""
        return self.paint + int(self.viscous) + (texture.WIDTH if self.textured else 0)

    @property
    def paint(self) -> int:
        """How many of the first columns are colour and mark, which is where the viscosity's column is."""
        return paint.WIDTH if self.painted else 0
