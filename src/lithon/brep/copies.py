"""A body that stands at several places: stored once, each of its copies a reference and a motion.

Faces, edges and vertices of a copy are made one by one when they are first asked for. What is known of a body (its
triangles, moments, features, findings) holds for its copies too: who asks takes it from there by the motion.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any, TypeVar, overload
from weakref import WeakValueDictionary

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.brep.topology import Body, Coedge, Edge, Elsewhere, Face, FaceUse, Vertex, backwards, new_uid, use_of
from lithon.errors import Refusal
from lithon.remembered import Remembered

Entity = TypeVar("Entity", bound=Vertex | Edge | Face)


class Copy(Elsewhere):
    """The face uses of a body, as they are under a rigid motion (4,4), a mirror included."""

    __slots__ = ("__weakref__", "_made", "_uses", "body", "mirror", "motion", "uid")

    def __init__(self, body: Body, motion: Floats, uid: int | None = None):
        self.body, self.motion, self.uid = body, frozen(motion), new_uid() if uid is None else uid
        self.mirror = bool(np.linalg.det(motion[:3, :3]) < 0.0)
        self._made: dict[Any, Any] = {}
        self._uses: list[FaceUse | None] = [None] * len(body.uses)
        _copies[self.uid] = self

    def __len__(self) -> int:
        return len(self._uses)

    @overload
    def __getitem__(self, at: int) -> FaceUse: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[FaceUse]: ...
    def __getitem__(self, at: int | slice) -> FaceUse | Sequence[FaceUse]:
        if isinstance(at, slice):
            return tuple(self[k] for k in range(*at.indices(len(self))))
        use = self._uses[at]
        if use is None:
            there = self.body.uses[at]
            use = self._uses[at] = use_of(self.face(there.face), there.forward)
        return use

    def __iter__(self) -> Iterator[FaceUse]:
        for k in range(len(self._uses)):
            yield self[k]

    def made_faces(self) -> tuple[Face, ...]:
        return tuple(x for x in self._made.values() if isinstance(x, Face))

    def use_of(self, face: Face) -> FaceUse | None:
        origin = origin_of(face)
        if origin is None or origin[0] is not self:
            return None
        return next(self[k] for k, use in enumerate(self.body.uses) if use.face is origin[1])

    def points(self, points: Floats) -> Floats:
        """Points (n,3) of the body where they are in the copy."""
        return np.asarray(points @ self.motion[:3, :3].T + self.motion[:3, 3])

    def back(self, points: Floats) -> Floats:
        """Points (n,3) in the copy where they are in the body."""
        return np.asarray((points - self.motion[:3, 3]) @ self.motion[:3, :3])

    def ways(self, vectors: Floats) -> Floats:
        """Directions (n,3) as they are in the copy."""
        return np.asarray(vectors @ self.motion[:3, :3].T)

    def face(self, face: Face) -> Face:
        """The copy of one of the body's faces."""
        if face not in self._made:
            loops = [tuple(Coedge(self.edge(c.edge), c.forward) for c in loop) for loop in face.loops]
            if self.mirror:  # what was on the left is on the right now
                loops = [backwards(loop) for loop in loops]
            surface = face.surface.moved(self.motion)
            made = Face(surface, tuple(loops), face.along, face.label, self._uid(face), None, (self, face))
            self._made[face] = made
        return self._made[face]

    def edge(self, edge: Edge) -> Edge:
        """The copy of one of the body's edges."""
        if edge not in self._made:
            start = None if edge.start is None else self.vertex(edge.start)
            end = None if edge.end is None else self.vertex(edge.end)
            curve = edge.curve.moved(self.motion)
            self._made[edge] = Edge(curve, edge.t0, edge.t1, start, end, self._uid(edge), (self, edge))
        return self._made[edge]

    def vertex(self, vertex: Vertex) -> Vertex:
        """The copy of one of the body's vertices."""
        if vertex not in self._made:
            self._made[vertex] = Vertex(frozen(self.points(vertex.point)), self._uid(vertex), (self, vertex))
        return self._made[vertex]

    def like(self, entity: Entity) -> Entity:
        """The copy of one of the body's entities."""
        out: Any
        if isinstance(entity, Face):
            out = self.face(entity)
        else:
            out = self.edge(entity) if isinstance(entity, Edge) else self.vertex(entity)
        return out

    def made(self, entity: Entity) -> Entity | None:
        """The copy of an entity of the body, if it has been made."""
        return self._made.get(entity)

    def nth(self, number: int) -> Vertex | Edge | Face:
        """The copy of the body's entity of that number; the same in every process."""
        out: Vertex | Edge | Face = self.like(_numbered(self.body)[0][number])
        return out

    def _uid(self, entity: Vertex | Edge | Face) -> int:
        return (self.uid + 1 + number_of(self, entity)) & ((1 << 63) - 1)


class Copied(Sequence[Entity]):
    """Entities of a body as they are in a copy of it, made when they are asked for."""

    __slots__ = ("copy", "sources")

    def __init__(self, copy: Copy, sources: Sequence[Entity]):
        self.copy, self.sources = copy, sources

    def __len__(self) -> int:
        return len(self.sources)

    @overload
    def __getitem__(self, at: int) -> Entity: ...
    @overload
    def __getitem__(self, at: slice) -> Sequence[Entity]: ...
    def __getitem__(self, at: int | slice) -> Entity | Sequence[Entity]:
        if isinstance(at, slice):
            return Copied(self.copy, self.sources[at])
        return self.copy.like(self.sources[at])


#: An entity without making it: the uid of the copy that it is in, 0 for none, and what it was made from, or itself.
Handle = tuple[int, Vertex | Edge | Face]


def handles(entities: Sequence[Entity]) -> list[Handle]:
    """What to tell entities of copies apart by, without making them."""
    if isinstance(entities, Copied):
        return [(entities.copy.uid, x) for x in entities.sources]
    return [handle(x) for x in entities]


def handle(entity: Vertex | Edge | Face) -> Handle:
    origin = origin_of(entity)
    return (0, entity) if origin is None else (origin[0].uid, origin[1])


def rim(face: Handle) -> list[Handle]:
    """The edges of a face."""
    copy, source = face
    assert isinstance(source, Face)
    return [(copy, e) if copy else handle(e) for e in source.edges()]


#: By uid, so that one which arrives from another process is the one that is here already.
_copies: WeakValueDictionary[int, Copy] = WeakValueDictionary()
_numbers = Remembered[Body, tuple[list[Any], dict[Any, int]]]("brep/copies:numbers")


def _numbered(body: Body) -> tuple[list[Any], dict[Any, int]]:
    """A body's entities in a steady order, and the number of each."""
    if body not in _numbers:
        order: list[Any] = [*dict.fromkeys(body.faces), *body.edges(), *body.vertices()]
        _numbers[body] = order, {entity: k for k, entity in enumerate(order)}
    return _numbers[body]


def number_of(copy: Copy, entity: Vertex | Edge | Face) -> int:
    """The number of an entity of the body that a copy is of."""
    return _numbered(copy.body)[1][entity]


def moved(body: Body, motion: Floats) -> Body:
    """The body under a rigid motion (4,4), a mirror included: a copy of it, or of the body that it is a copy of.

    Raises Refusal where the matrix stretches or shears.
    """
    turn = motion[:3, :3]
    if not np.isfinite(motion).all() or np.abs(turn.T @ turn - np.eye(3)).max() > 1e-6:
        raise Refusal("a body can only be moved, turned or mirrored, not stretched")
    copy = copy_of(body)
    whole = Copy(body, motion) if copy is None else Copy(copy.body, motion @ copy.motion)
    return replace(body, uses=whole, uid=new_uid())


def copy_of(body: Body) -> Copy | None:
    """What a body is a copy of and where, if it is one."""
    return body.uses if isinstance(body.uses, Copy) else None


def root_of(body: Body) -> Body:
    """The body that a body is a copy of, or itself: what holds for it holds for both."""
    return body.uses.body if isinstance(body.uses, Copy) else body


def origin_of(entity: Entity) -> tuple[Copy, Entity] | None:
    """The copy that an entity belongs to, and what it was made from there; None for one that stands for itself."""
    if entity.origin is None:
        return None
    copy, source = entity.origin  # type: ignore[misc]
    # What was made from it with another boundary or label is not it.
    return (copy, source) if copy.made(source) is entity else None  # type: ignore[has-type]


def arrived(body: Body, motion: Floats, uid: int) -> Copy:
    """The copy of this uid, made if it is not here yet."""
    known = _copies.get(uid)
    return Copy(body, motion, uid) if known is None else known
