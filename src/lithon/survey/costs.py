"""What things cost: how many of the elements of a forecast are there for one feature, face, edge or wall.

Every cell of the forecast is ruled by one of the sources of the size field. What the elements there cost is counted
for what that source is of: as many as there are, less those that there would be if it asked for nothing.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Ints
from lithon.brep.shells import closed
from lithon.brep.topology import Edge, Face, Model
from lithon.mesh.sizing import SizeField, SizeRules, size_field
from lithon.survey.card import Finding
from lithon.survey.features import features
from lithon.survey.forecast import pieces


@dataclass(frozen=True, slots=True, eq=False)
class Cost:
    """What some faces and edges, or the wall between two faces, cost: so many elements more than if they asked for no
    smaller ones."""

    faces: tuple[Face, ...]
    edges: tuple[Edge, ...]
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
        faces, edges = tuple(x for x in what if isinstance(x, Face)), tuple(x for x in what if isinstance(x, Edge))
        if n >= 0.5:
            out.append(Cost(faces, edges, len(faces) == 2 and not edges, n))
    return out


class Costs:
    """What everything costs, by what it is about."""

    def __init__(self, every: Iterable[Cost] = ()):
        self._about: dict[Face | Edge, list[Cost]] = defaultdict(list)
        self.total = 0.0
        for cost in every:
            self.total += cost.elements
            things: list[Face | Edge] = [*cost.faces, *cost.edges]
            for x in things:
                self._about[x].append(cost)

    def of(self, finding: Finding) -> float:
        """How many of the elements are there for what a finding is about: a wall for its two faces, else its faces and
        edges and what bounds only those."""
        faces, wall = set(finding.faces), finding.kind == "thin wall"
        edges = {*finding.edges, *(e for f in faces for e in f.edges())}
        things: list[Face | Edge] = [*faces, *edges]
        total = 0.0
        for cost in dict.fromkeys(c for x in things for c in self._about.get(x, [])):
            if wall or cost.wall:
                mine = wall and cost.wall and faces == set(cost.faces)
            else:
                mine = faces.issuperset(cost.faces) if cost.faces else edges.issuperset(cost.edges)
            total += cost.elements if mine else 0.0
        return total


def _groups(model: Model, field: SizeField) -> tuple[list[tuple[Face | Edge, ...]], Ints]:
    """Groups of what asks for sizes, and the group of each of the field's makers: a feature with its edges is one,
    else each maker is one by itself."""
    feature_of: dict[Face | Edge, tuple[Face | Edge, ...]] = {}
    for body in model.bodies:
        if closed(body):
            for feature in features(body):
                bounds = dict.fromkeys(e for f in feature.faces for e in f.edges())
                whole: tuple[Face | Edge, ...] = (*feature.faces, *bounds)
                for x in whole:
                    feature_of.setdefault(x, whole)
    number: dict[object, int] = {}
    named: list[tuple[Face | Edge, ...]] = []
    groups = np.empty(len(field.makers), dtype=np.int64)
    for k, maker in enumerate(field.makers):
        what: tuple[Face | Edge, ...] = maker
        key: object = frozenset(maker)
        if len(maker) == 1 and maker[0] in feature_of:
            what = feature_of[maker[0]]
            key = id(what)  # it may be long, and is held here
        groups[k] = number.setdefault(key, len(number))
        if len(number) > len(named):
            named.append(what)
    return named, groups
