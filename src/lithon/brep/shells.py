"""The shells of a body: connected sets of faces, solids and the voids inside them."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.boxes import box
from lithon.brep.copies import root_of
from lithon.brep.measures import uses_volume
from lithon.brep.topology import Body, Coedge, Edge, FaceUse
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
    """The connected solids that closed face uses bound, each as a part of them; a void goes with the solid whose box
    holds it. What touches only along an edge is not connected."""
    sides: dict[Edge, list[tuple[int, Coedge]]] = defaultdict(list)
    for k, use in enumerate(uses):
        for loop in use.face.loops:
            for coedge in loop:
                sides[coedge.edge].append((k, coedge))
    joints: list[list[object]] = [[] for _ in uses]
    for edge, around in sides.items():
        wedges = _wedges(edge, [(uses[k], c) for k, c in around]) if len(around) > 2 else [0] * len(around)
        for (k, _), wedge in zip(around, wedges, strict=True):
            joints[k].append((edge, wedge))
    groups = [[uses[k] for k in group] for group in grouped(range(len(uses)), lambda k: joints[k])]
    found = [s for s in groups if uses_volume(s) > 0.0]
    for void in (s for s in groups if uses_volume(s) <= 0.0):
        inner = box(Body(tuple(void)))
        for solid in found:
            outer = box(Body(tuple(solid)))
            if (inner[0] >= outer[0]).all() and (inner[1] <= outer[1]).all():
                solid += void
                break
    return found


def _wedges(edge: Edge, sides: Sequence[tuple[FaceUse, Coedge]]) -> list[int]:
    """The wedge of a solid that each use of a face at an edge bounds, as one number a use: seen along the edge, they
    bound wedges of solid in pairs. All one where they do not."""
    at = edge.at(0.5)
    step = 0.01 * edge.length  # far enough for walls that leave in one direction to part by their curvature
    ahead = edge.at(0.5 + 1e-4) - edge.at(0.5 - 1e-4)
    ahead /= max(float(np.linalg.norm(ahead)), 1e-300)
    ways, opens = [], []
    for use, coedge in sides:
        run = 1.0 if coedge.forward else -1.0
        into = cross_product(use.face.normal(at[None])[0], run * ahead)  # the face is to the left
        ways.append(use.face.surface.project((at + step * into)[None])[0] - at)
        opens.append(coedge.forward != use.forward)  # counter-clockwise of it is solid
    first = ways[0] - float(ways[0] @ ahead) * ahead
    second = cross_product(ahead, first)
    angle = np.array([np.arctan2(float(way @ second), float(way @ first)) for way in ways])
    order = np.argsort(angle)
    order = np.roll(order, -int(np.argmax(np.array(opens)[order])))
    in_pairs = all(opens[k] == (place % 2 == 0) for place, k in enumerate(order))
    if not in_pairs or np.diff(np.sort(angle)).min() < 1e-9:
        return [0] * len(sides)
    wedge = np.empty(len(sides), dtype=np.int64)
    wedge[order] = np.arange(len(sides)) // 2
    return [int(w) for w in wedge]


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
