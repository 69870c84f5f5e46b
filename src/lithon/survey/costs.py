"""What things cost: how many of the elements of a forecast are there for one feature, face, edge or wall.

Every cell of the forecast is ruled by one of the sources of the size field. What the elements there cost is counted
for what that source is of: as many as there are, less those that there would be if it asked for nothing.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np

from lithon.arrays import Ints
from lithon.brep.copies import Copied, Handle, copy_of, handles, rim, root_of
from lithon.brep.shells import closed
from lithon.brep.topology import Edge, Face, Model
from lithon.mesh.sizing import Maker, SizeField, SizeRules, size_field
from lithon.survey.card import Finding
from lithon.survey.features import features
from lithon.survey.forecast import pieces

T = TypeVar("T", Face, Edge)


@dataclass(frozen=True, slots=True, eq=False)
class Cost:
    """What some faces and edges, or the wall between two faces, cost: so many elements more than if they asked for no
    smaller ones."""

    faces: Sequence[Face]
    edges: Sequence[Edge]
    wall: bool
    elements: float


def costs(model: Model, size: float, rules: SizeRules | None = None) -> list[Cost]:
    """What every feature, every other face and edge and every wall makes of the forecast, where it is anything."""
    rules = replace(rules or SizeRules(size), size=float(size))
    field = size_field(model.bodies, rules)
    named, groups = _groups(model, field)
    more = np.zeros(len(named))
    for body in model.bodies:
        for points, _, share, power in pieces(body, field):
            ruling, h, other = field.with_and_without(points, groups)
            excess = share * (1.0 / h**power - 1.0 / other**power)
            more += np.bincount(ruling[ruling >= 0], weights=excess[ruling >= 0], minlength=len(named))
    out = []
    for what, n in zip(named, more.tolist(), strict=True):
        faces, edges = _only(Face, what), _only(Edge, what)
        if n >= 0.5:
            out.append(Cost(faces, edges, len(faces) == 2 and not edges, n))
    return out


class Costs:
    """What everything costs, by what it is about."""

    def __init__(self, every: Iterable[Cost] = ()):
        self._about: dict[Handle, list[_Told]] = defaultdict(list)
        self.total = 0.0
        for cost in every:
            self.total += cost.elements
            told = _Told(frozenset(handles(cost.faces)), frozenset(handles(cost.edges)), cost.wall, cost.elements)
            for x in (*told.faces, *told.edges):
                self._about[x].append(told)

    def of(self, finding: Finding) -> float:
        """How many of the elements are there for what a finding is about: a wall for its faces, else its faces and
        edges and what bounds only those."""
        faces, wall = set(handles(finding.faces)), finding.kind == "thin wall"
        edges = {*handles(finding.edges), *(e for f in faces for e in rim(f))}
        total = 0.0
        for cost in dict.fromkeys(c for x in (*faces, *edges) for c in self._about.get(x, [])):
            if wall or cost.wall:
                mine = wall and cost.wall and faces.issuperset(cost.faces)
            else:
                mine = faces.issuperset(cost.faces) if cost.faces else edges.issuperset(cost.edges)
            total += cost.elements if mine else 0.0
        return total


@dataclass(frozen=True, slots=True, eq=False)
class _Told:
    """A cost by handles, so that nothing of a copy is made for it."""

    faces: frozenset[Handle]
    edges: frozenset[Handle]
    wall: bool
    elements: float


def _groups(model: Model, field: SizeField) -> tuple[list[Maker], Ints]:
    """Groups of what asks for sizes, and the group of each of the field's makers: a feature with its edges is one,
    else each maker is one by itself."""
    feature_of: dict[Handle, Maker] = {}
    for body in model.bodies:
        root, copy = root_of(body), copy_of(body)
        if closed(root):
            for feature in features(root):
                bounds = dict.fromkeys(e for f in feature.faces for e in f.edges())
                own: tuple[Face | Edge, ...] = (*feature.faces, *bounds)
                whole: Maker = own if copy is None else Copied(copy, own)
                for x in handles(whole):
                    feature_of.setdefault(x, whole)
    number: dict[object, int] = {}
    named: list[Maker] = []
    groups = np.empty(len(field.makers), dtype=np.int64)
    for k, maker in enumerate(field.makers):
        what, by = maker, handles(maker)
        key: object = frozenset(by)
        if len(by) == 1 and by[0] in feature_of:
            what = feature_of[by[0]]
            key = id(what)  # it may be long, and is held here
        groups[k] = number.setdefault(key, len(number))
        if len(number) > len(named):
            named.append(what)
    return named, groups


def _only(kind: type[T], what: Maker) -> Sequence[T]:
    """The faces, or the edges, of what asks."""
    if isinstance(what, Copied):
        return Copied(what.copy, [x for x in what.sources if isinstance(x, kind)])
    return tuple(x for x in what if isinstance(x, kind))
