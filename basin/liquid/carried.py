"""What particles carry along besides what every liquid needs: which attributes, and in which columns."""

from __future__ import annotations

from dataclasses import dataclass

from basin.attributes import ATTRIBUTES, Attribute


@dataclass(frozen=True)
class Carried:
    """Columns of `Particles.carried`, one after the other.

    Attributes
    ----------
    names : of the attributes that are carried
    """

    names: tuple[str, ...] = ()

    @property
    def columns(self) -> list[Attribute]:
        """The attributes in the order of their columns."""
        return [ATTRIBUTES[name] for name in self.names]

    @property
    def width(self) -> int:
        """How many numbers a particle carries."""
        return sum(column.width for column in self.columns)

    def at(self, *names: str) -> slice:
        """Columns of an attribute, or of several that lie one after the other."""
        first = self.names.index(names[0])
        begin = sum(column.width for column in self.columns[:first])
        assert self.names[first : first + len(names)] == names
        return slice(begin, begin + sum(ATTRIBUTES[name].width for name in names))

    def __contains__(self, name: str) -> bool:
        return name in self.names
