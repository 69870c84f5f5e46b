"""What a body was made of: what is known of that one need not be found again where both are the same."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import cached_property
from typing import TypeVar
from weakref import ref

from lithon.brep.topology import Body, Edge, Face, FaceUse, ancestors
from lithon.remembered import Remembered

V = TypeVar("V")

#: A body of which more than this share is new is looked at as a whole.
_MUCH = 0.3


@dataclass(frozen=True, eq=False)
class Change:
    """How a body differs from one it was made of: the uses that are no longer there, and those that are new."""

    was: ref[Body]
    gone: frozenset[FaceUse]
    fresh: frozenset[FaceUse]

    @cached_property
    def edges(self) -> frozenset[Edge]:
        """The edges at which other faces meet than before, or none."""
        return frozenset(c.edge for use in (*self.gone, *self.fresh) for loop in use.face.loops for c in loop)

    def touched(self, body: Body) -> frozenset[Edge]:
        """Those of them that the body has."""
        return self.edges.intersection(body.edges())


_changes = Remembered[Body, Change]("brep/lineage:changes")


def change(body: Body, was: Body) -> Change:
    """How a body differs from another."""
    known = _changes.get(body)
    if known is None or known.was() is not was:
        old, new = frozenset(was.uses), frozenset(body.uses)
        known = _changes[body] = Change(ref(was), old - new, new - old)
    return known


def since(body: Body, known: Callable[[Body], bool]) -> tuple[Body, Change] | None:
    """The nearest body of those that a body was made of of which something is known, and how the body differs from it;
    none where there is no such body, or much is new."""
    for was in ancestors(body):
        if known(was):
            if any(len(frozenset(b.uses)) < len(b.uses) for b in (body, was)):
                return None  # what stands twice in a body is told apart by no set
            found = change(body, was)
            return (was, found) if len(found.fresh) <= _MUCH * len(body.uses) + 1 else None
    return None


#: What is told of the faces of a body, by what was asked.
ByFace = Remembered[Body, dict[Hashable, dict[Face, V]]]
#: So many questions are remembered of a body.
_QUESTIONS = 8


def face_by_face(body: Body, memory: ByFace[V], asked: Hashable, find: Callable[[Face], V]) -> dict[Face, V]:
    """What is told of each face of a body by that face, the faces over its edges and how it meets them there, and by
    nothing else: found only where the body is not as what it was made of."""
    known = memory.of(body, lambda _: {})
    if asked in known:
        return known[asked]
    found = since(body, lambda was: asked in memory.get(was, ()))
    if found is None:
        out = {face: find(face) for face in dict.fromkeys(body.faces)}
    else:
        old, edges, out = memory[found[0]][asked], found[1].edges, {}
        for face in dict.fromkeys(body.faces):
            same = face in old and not any(c.edge in edges for loop in face.loops for c in loop)
            out[face] = old[face] if same else find(face)
    while len(known) >= _QUESTIONS:
        known.pop(next(iter(known)))
    known[asked] = out
    return out
