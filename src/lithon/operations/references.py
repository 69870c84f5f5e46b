"""Named planes, axes and points that stand beside the solid: drawn once, asked for by name ever after.

A reference is numbers: what it was drawn from may change or go, it stays where it was put.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from lithon.errors import Refusal, Unresolved
from lithon.geometry.surfaces import Plane, Surface

Sort = Literal["plane", "axis", "point"]
Triple = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Reference:
    """origin: a point of it, mm; way: the normal of a plane or the direction of an axis, of length one."""

    name: str
    sort: Sort
    origin: Triple
    way: Triple = (0.0, 0.0, 1.0)

    @property
    def plane(self) -> Surface:
        return Plane.of(np.array(self.origin), np.array(self.way))


@dataclass(frozen=True, slots=True)
class References:
    """By name, in the order in which they were made."""

    all: tuple[Reference, ...] = ()

    def __iter__(self) -> Iterator[Reference]:
        return iter(self.all)

    def find(self, name: str, sort: Sort) -> Reference:
        """Raises Unresolved where there is none, Refusal where it is of another sort."""
        found = next((r for r in self.all if r.name == name), None)
        if found is None:
            raise Unresolved(f"there is no reference {name!r}", remedy="draw it first, or choose another")
        if found.sort != sort:
            raise Refusal(f"{name!r} is a reference {found.sort}; a {sort} is asked for here", remedy="choose another")
        return found

    def put(self, reference: Reference) -> References:
        """With one more; one of that name gives way to it."""
        return References((*(r for r in self.all if r.name != reference.name), reference))

    def without(self, name: str) -> References:
        return References(tuple(r for r in self.all if r.name != name))


NO_REFERENCES = References()
