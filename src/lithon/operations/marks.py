"""What an engineer has said of parts of a model, beside its geometry: names, holds, sizes, divisions, drapes, groups.

Marks go along with every operation. What stays the same object keeps its marks; what is new takes those of the thing
that it is a piece of, or that has become part of it, as its place on the same surface or curve shows.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any, Literal

import numpy as np

from lithon.arrange.overlay import inner_point
from lithon.arrays import Floats
from lithon.brep.area import area_of, off_edge
from lithon.brep.boxes import face_boxes
from lithon.brep.copies import copy_of, origin_of
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.errors import LithonError
from lithon.operations.choices import Entity
from lithon.remembered import Remembered

#: name: what a face is called. hold: why a thing is not to be touched. size: elements there, mm. divisions: elements
#: along an edge. drape: faces meshed as one bear the same word. group: bodies within which contacts are shared.
#: material: what a body is of, by name. passed: edges that the mesh goes over.
#: patch: faces of triangles that lie on one surface bear the same word.
Sort = Literal["name", "hold", "size", "divisions", "drape", "passed", "group", "material", "patch"]
_NONE: Mapping[tuple[Sort, Entity], Any] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class Marks:
    """Values by sort and thing."""

    of: Mapping[tuple[Sort, Entity], Any] = field(default_factory=lambda: _NONE)

    def get(self, sort: Sort, entity: Entity) -> Any:
        """What is said of a thing, or None."""
        return self.of.get((sort, entity))

    def all(self, sort: Sort) -> dict[Entity, Any]:
        """Everything of which something of this sort is said, and what."""
        return {entity: value for (own, entity), value in self.of.items() if own == sort}

    def put(self, sort: Sort, entities: Iterable[Entity], value: Any) -> Marks:
        """With this said of some things; None takes back what was said."""
        out = dict(self.of)
        for entity in entities:
            out.pop((sort, entity), None)
            if value is not None:
                out[(sort, entity)] = value
        return Marks(out)

    def carried(self, before: Model, after: Model) -> Marks:
        """As they are after an operation. What is gone takes its marks along."""
        if not self.of or after is before:
            return self
        heirs = _Heirs(before, after)
        out: dict[tuple[Sort, Entity], Any] = {}
        for (sort, entity), value in self.of.items():
            for heir in heirs.of(entity):
                out.setdefault((sort, heir), value)
        return Marks(out)

    def __reduce__(self) -> tuple[Any, ...]:
        return Marks, (dict(self.of),)


#: The edges and vertices of a body.
_outlines = Remembered[Body, frozenset[Entity]]("operations/marks:outlines")


class _Heirs:
    """What has become of the things of a model in another that was made of it."""

    def __init__(self, before: Model, after: Model):
        self.before, self.after = before, after
        self.near = 100.0 * after.tolerance
        old, new = set(before.bodies), set(after.bodies)
        self.kept = old & new
        self.fresh_bodies = [b for b in after.bodies if b not in old]
        was = {f for b in before.bodies if b not in new for f in b.faces}
        self.fresh_faces = [f for f in dict.fromkeys(f for b in self.fresh_bodies for f in b.faces) if f not in was]
        here = dict.fromkeys(f for b in self.fresh_bodies for f in b.faces)
        self.here: set[Entity] = set(here)
        for body in self.fresh_bodies:
            self.here.update(body.edges(), body.vertices())
        there = {e for b in before.bodies if b not in new for e in b.edges()}
        self.fresh_edges = [e for e in dict.fromkeys(e for b in self.fresh_bodies for e in b.edges()) if e not in there]
        self.boxes = _boxes(self.fresh_faces)
        self._inner: dict[Face, Floats] = {}

    def of(self, entity: Entity) -> list[Entity]:
        if isinstance(entity, Body):
            return list(self._of_body(entity))
        if entity in self.here or any(self._bounds(entity, body) for body in self.kept):
            return [entity]
        if isinstance(entity, Face):
            return [self.fresh_faces[k] for k in self._near(entity) if self._goes_on(entity, self.fresh_faces[k])]
        if isinstance(entity, Edge):
            return [e for e in self.fresh_edges if self._same_line(entity, e)]
        spots = (v for b in self.fresh_bodies for v in b.vertices())
        return list([v for v in spots if float(np.linalg.norm(v.point - entity.point)) < self.near][:1])

    @staticmethod
    def _bounds(entity: Entity, body: Body) -> bool:
        if isinstance(entity, Face):
            return body.use_of(entity) is not None
        return entity in _outlines.of(body, lambda b: frozenset((*b.edges(), *b.vertices())))

    def _near(self, face: Face) -> list[int]:
        """Which of the new faces reach the box of one."""
        own = _boxes([face])[0]
        apart = (self.boxes[:, 0] > own[1] + self.near) | (self.boxes[:, 1] < own[0] - self.near)
        return np.flatnonzero(~apart.any(axis=1)).tolist()

    def _of_body(self, body: Body) -> Iterator[Body]:
        if body in self.after.bodies:
            yield body
            return
        faces, copied = set(body.faces), copy_of(body)
        for new in self.fresh_bodies:
            same_copy = copied is not None and any(
                (o := origin_of(f)) is not None and o[0] is copied for f in new.faces
            )
            if (
                same_copy
                or not faces.isdisjoint(new.faces)
                or any(self._goes_on(f, n) for n in new.faces for f in faces)
            ):
                yield new

    def _goes_on(self, old: Face, new: Face) -> bool:
        """Whether a new face is a piece of an old one, or that a piece of it."""
        if new.before is old:
            return True
        return self._holds(old, new) or self._holds(new, old)

    def _holds(self, whole: Face, piece: Face) -> bool:
        if whole.surface.kind != piece.surface.kind:
            return False
        try:
            if piece not in self._inner:
                self._inner[piece] = inner_point(piece)
            point = self._inner[piece][None]
            if float(np.abs(whole.surface.signed_distance(point))[0]) > self.near:
                return False
            along = abs(float(whole.surface.normal(point)[0] @ piece.surface.normal(point)[0]))
            return along > 0.9999 and int(area_of(whole).side(point, self.near)[0]) >= 0
        except LithonError:
            return False  # a face that cannot be looked at goes on in nothing

    def _same_line(self, old: Edge, new: Edge) -> bool:
        ends = np.array([new.at(share) for share in (0.25, 0.5, 0.75)])
        if float(off_edge(old, ends).max()) < self.near:
            return True
        back = np.array([old.at(share) for share in (0.25, 0.5, 0.75)])
        return float(off_edge(new, back).max()) < self.near


def _boxes(faces: Sequence[Face]) -> Floats:
    """Boxes (n,2,3) of faces; without bounds where a face cannot be looked at."""
    try:
        return face_boxes(faces)
    except LithonError:
        everywhere = np.array([[[-np.inf] * 3, [np.inf] * 3]])
        return np.concatenate([_boxes([f]) for f in faces]) if len(faces) > 1 else everywhere


def held(marks: Marks) -> set[Face]:
    """The faces that are held."""
    return {x for x in marks.all("hold") if isinstance(x, Face)}
