"""The shells of a body: connected sets of faces, solids and the voids inside them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

from lithon.brep.boxes import box
from lithon.brep.copies import root_of
from lithon.brep.measures import uses_volume
from lithon.brep.topology import Body, Edge, FaceUse
from lithon.remembered import Remembered

T = TypeVar("T")


def grouped(items: Sequence[T], keys: Callable[[T], Iterable[object]]) -> list[list[T]]:
    """Items joined wherever they have a key in common, in a steady order (union-find)."""
    holders: dict[object, list[int]] = defaultdict(list)
    for k, item in enumerate(items):
        for key in keys(item):
            holders[key].append(k)
    parent = list(range(len(items)))

    def root(k: int) -> int:
        while parent[k] != k:
            parent[k] = parent[parent[k]]
            k = parent[k]
        return k

    for members in holders.values():
        for k in members[1:]:
            parent[root(k)] = root(members[0])
    groups: dict[int, list[T]] = defaultdict(list)
    for k, item in enumerate(items):
        groups[root(k)].append(item)
    return list(groups.values())


def connected(uses: Sequence[FaceUse]) -> list[list[FaceUse]]:
    """Face uses grouped by common edges."""
    return grouped(uses, lambda use: use.face.edges())


def solids(uses: Sequence[FaceUse]) -> list[list[FaceUse]]:
    """The connected solids that closed face uses bound; a void goes with the solid whose box holds it."""
    groups = connected(uses)
    found = [s for s in groups if uses_volume(s) > 0.0]
    for void in (s for s in groups if uses_volume(s) <= 0.0):
        inner = box(Body(tuple(void)))
        for solid in found:
            outer = box(Body(tuple(solid)))
            if (inner[0] >= outer[0]).all() and (inner[1] <= outer[1]).all():
                solid += void
                break
    return found


def shells(body: Body) -> list[list[FaceUse]]:
    """The outer shell first, then the voids."""
    found = connected(body.uses)
    return found if len(found) == 1 else sorted(found, key=lambda s: -uses_volume(s))


def closed(body: Body) -> bool:
    """Whether every edge is used as often one way as the other."""
    return _closed.of(root_of(body), _is_closed)


def _is_closed(body: Body) -> bool:
    count: Counter[Edge] = Counter()
    for use in body.uses:
        for loop in use.face.loops:
            for c in loop:
                count[c.edge] += 1 if c.forward == use.forward else -1
    return not any(count.values())


_closed = Remembered[Body, bool]("brep/shells:closed")


def closes(uses: Sequence[FaceUse]) -> bool:
    """Whether every edge of some faces lies between two of them, whichever way they are turned."""
    count = Counter(edge for use in uses for edge in use.face.edges())
    return all(n % 2 == 0 for n in count.values())
