"""Vertices, edges, faces, bodies and the model, as immutable values.

Conventions
- Edges run with growing curve parameter. A ring edge is a whole periodic curve without a vertex.
- A face's normal is its surface's normal, turned round where `along` is False. Looking against
  the face's normal, its loops keep the face on their left.
- A body uses a face forward when the face's normal points out of the body. A face used by two
  bodies (once forward, once not) *is* a bonded contact; nothing else marks it.
- There are no seams: a full cylinder wall is one face bounded by two ring edges.

Identity is what `is` says; `uid` carries identity across processes. `origin` is what an entity of a body that
stands elsewhere was made from; ask `brep/copies.py` for it.
"""

from __future__ import annotations

import uuid
from abc import abstractmethod
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from weakref import WeakValueDictionary, ref

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.geometry.batch import CurveBatch, spread
from lithon.geometry.curves import Curve
from lithon.geometry.facets import Facets
from lithon.geometry.surfaces import Surface
from lithon.geometry.tolerance import resolution
from lithon.remembered import Remembered


def new_uid() -> int:
    """An identity that no other process gives out."""
    return uuid.uuid4().int >> 65


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Vertex:
    point: Floats
    uid: int = field(default_factory=new_uid)
    origin: object = None


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Edge:
    """A stretch [t0, t1] of a curve, t0 < t1, between two vertices, or a ring with none."""

    curve: Curve
    t0: float
    t1: float
    start: Vertex | None = None
    end: Vertex | None = None
    uid: int = field(default_factory=new_uid)
    origin: object = None

    @property
    def ring(self) -> bool:
        return self.start is None

    @property
    def length(self) -> float:
        return self.curve.length(self.t0, self.t1)

    def at(self, share: float) -> Floats:
        """The point (3,) at a share 0..1 of the parameter range."""
        return np.asarray(self.curve.point(np.array([self.t0 + share * (self.t1 - self.t0)]))[0])

    def direction(self, share: float) -> Floats:
        """The unit tangent (3,) at a share 0..1 of the parameter range."""
        d = self.curve.derivative(np.array([self.t0 + share * (self.t1 - self.t0)]))[0]
        return np.asarray(d / np.linalg.norm(d))


@dataclass(frozen=True, slots=True, eq=False)
class Coedge:
    """An edge as a loop walks it."""

    edge: Edge
    forward: bool

    @property
    def first(self) -> Vertex | None:
        return self.edge.start if self.forward else self.edge.end

    @property
    def last(self) -> Vertex | None:
        return self.edge.end if self.forward else self.edge.start

    def reversed(self) -> Coedge:
        return Coedge(self.edge, not self.forward)


Loop = tuple[Coedge, ...]


def backwards(loop: Loop) -> Loop:
    return tuple(c.reversed() for c in reversed(loop))


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Face:
    surface: Surface
    loops: tuple[Loop, ...]
    along: bool = True
    label: str = ""
    uid: int = field(default_factory=new_uid)
    #: The face that this one was until some of its inner loops were dropped.
    before: Face | None = None
    origin: object = None

    def edges(self) -> Iterator[Edge]:
        for loop in self.loops:
            for coedge in loop:
                yield coedge.edge

    def normal(self, points: Floats) -> Floats:
        """The face's own normals (n,3) at points (n,3)."""
        n = self.surface.normal(points)
        return n if self.along else -n

    def with_loops(self, loops: Iterable[Loop]) -> Face:
        """The same place with other boundaries: a new face that keeps surface and label."""
        return replace(self, loops=tuple(loops), uid=new_uid(), before=None, origin=None)

    def without_loops(self, dropped: Collection[int]) -> Face:
        """Closed over some of its inner loops (their numbers). It remembers what it was, so that what
        is known of that face need not be found again."""
        kept = tuple(loop for k, loop in enumerate(self.loops) if k not in dropped)
        return replace(self, loops=kept, uid=new_uid(), before=self, origin=None)

    def plugs(self) -> tuple[Face, ...]:
        """What it covers more than the face that it was: one face for each inner loop dropped."""
        if self.before is None:
            return ()
        if self in _plugs:
            return _plugs[self]
        same = set(map(id, self.loops))
        gone = [loop for loop in self.before.loops if id(loop) not in same]
        if len(gone) + len(self.loops) != len(self.before.loops):  # they are alike, but made again
            kept = {tuple((c.edge.uid, c.forward) for c in loop) for loop in self.loops}
            gone = [x for x in gone if tuple((c.edge.uid, c.forward) for c in x) not in kept]
        made = (replace(self, loops=(backwards(loop),), uid=new_uid(), before=None, origin=None) for loop in gone)
        return _plugs.setdefault(self, tuple(made))


_plugs = Remembered[Face, tuple[Face, ...]]("brep/topology:plugs")


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class FaceUse:
    """A face as a body uses it."""

    face: Face
    forward: bool = True

    def outward(self, points: Floats) -> Floats:
        """Normals (n,3) that point out of the body."""
        n = self.face.normal(points)
        return n if self.forward else -n


_uses: WeakValueDictionary[tuple[int, bool], FaceUse] = WeakValueDictionary()


def use_of(face: Face, forward: bool) -> FaceUse:
    """The use of a face one way, the very same whenever it is asked for: what is known of it is found again."""
    out = _uses.get((face.uid, forward))
    if out is None or out.face is not face:
        out = _uses[(face.uid, forward)] = FaceUse(face, forward)
    return out


class Elsewhere(Sequence[FaceUse]):
    """The face uses of a body that is another one at another place; `Copy` in `brep/copies.py`."""

    __slots__ = ()
    body: Body

    @abstractmethod
    def points(self, points: Floats) -> Floats:
        """Points (n,3) of the other body where they are in this one."""

    @abstractmethod
    def made_faces(self) -> tuple[Face, ...]:
        """Those of its faces that anybody has asked for: nobody else can have others."""

    @abstractmethod
    def use_of(self, face: Face) -> FaceUse | None:
        """How it uses a face, if it does."""


@dataclass(frozen=True, slots=True, eq=False, weakref_slot=True)
class Body:
    #: A tuple, or those of another body at another place.
    uses: Sequence[FaceUse]
    name: str = "body"
    #: Where it hangs in the assembly it came from, outermost first.
    path: tuple[str, ...] = ()
    #: Red, green and blue, 0..1, as the file has it.
    colour: tuple[float, float, float] | None = None
    uid: int = field(default_factory=new_uid)
    #: Not the skin of a solid but faces by themselves: their free edges are meant, and any number may meet at one.
    sheet: bool = False
    #: Of a sheet, mm, where it stands for something thick.
    thickness: float | None = None
    #: Kept to look at and to take surfaces from; not meshed.
    reference: bool = False

    @property
    def faces(self) -> tuple[Face, ...]:
        return tuple(use.face for use in self.uses)

    def made_faces(self) -> tuple[Face, ...]:
        """Its faces; of a copy those that have been made, as only they can be somewhere else too."""
        return self.uses.made_faces() if isinstance(self.uses, Elsewhere) else self.faces

    def edges(self) -> tuple[Edge, ...]:
        """Each edge once, in a steady order."""
        if self not in _edges_of:
            _edges_of[self] = tuple(dict.fromkeys([c.edge for u in self.uses for loop in u.face.loops for c in loop]))
        return _edges_of[self]

    def vertices(self) -> tuple[Vertex, ...]:
        found = (v for edge in self.edges() for v in (edge.start, edge.end) if v is not None)
        return tuple(dict.fromkeys(found))

    def with_uses(self, uses: Iterable[FaceUse]) -> Body:
        made = replace(self, uses=tuple(uses), uid=new_uid())
        _made_of[made] = (ref(self), *_made_of.get(self, ())[: _GENERATIONS - 1])
        return made

    def outward(self, face: Face, points: Floats) -> Floats:
        """Normals (n,3) of one of its faces, pointing out of the body."""
        use = self.use_of(face)
        if use is None:
            raise KeyError("the face does not bound this body")
        return use.outward(points)

    def use_of(self, face: Face) -> FaceUse | None:
        """How it uses a face, if it does."""
        if isinstance(self.uses, Elsewhere):
            return self.uses.use_of(face)
        return self.use_by_face().get(face)

    def use_by_face(self) -> dict[Face, FaceUse]:
        """How it uses each of its faces; the first time where it uses one twice."""
        if self not in _use_by_face:
            table: dict[Face, FaceUse] = {}
            for use in self.uses:
                table.setdefault(use.face, use)
            _use_by_face[self] = table
        return _use_by_face[self]


_edges_of = Remembered[Body, tuple[Edge, ...]]("brep/topology:edges_of")
_use_by_face = Remembered[Body, dict[Face, FaceUse]]("brep/topology:use_by_face")
#: What a body was made of by an exchange of some of its faces, and that before, so far back.
_made_of = Remembered[Body, tuple["ref[Body]", ...]]("brep/topology:made_of")
_GENERATIONS = 16


def ancestors(body: Body) -> Iterator[Body]:
    """The bodies that a body was made of one after the other and that are still about, the latest first."""
    for known in _made_of.get(body, ()):
        if (was := known()) is not None:
            yield was


@dataclass(frozen=True, slots=True, eq=False)
class Model:
    bodies: tuple[Body, ...]
    tolerance: float = 1e-6

    @staticmethod
    def of(bodies: Iterable[Body]) -> Model:
        """With the resolution that its size asks for."""
        bodies = tuple(bodies)
        box = rough_box(bodies)
        return Model(bodies, resolution(float(np.linalg.norm(box[1] - box[0]))))

    def faces(self) -> tuple[Face, ...]:
        return tuple(dict.fromkeys(face for body in self.bodies for face in body.faces))

    def faces_but_of(self, other: Model) -> tuple[Face, ...]:
        """The faces of its bodies that another model has not, and those that others may share of what both have."""
        both = set(other.bodies)
        some = (body.made_faces() if body in both else body.faces for body in self.bodies)
        return tuple(dict.fromkeys(face for faces in some for face in faces))

    def edges(self) -> tuple[Edge, ...]:
        return tuple(dict.fromkeys(edge for body in self.bodies for edge in body.edges()))

    def owners(self, face: Face) -> tuple[Body, ...]:
        return tuple(body for body in self.bodies if body.use_of(face) is not None)

    def face_count(self) -> int:
        return sum(len(body.uses) for body in self.bodies) - len(self.shared())

    def shared(self) -> tuple[Face, ...]:
        """Faces that bound two bodies: the bonded contacts."""
        count = Counter(face for body in self.bodies for face in dict.fromkeys(body.made_faces()))
        return tuple(face for face, n in count.items() if n > 1)

    def replaced(self, old: Body, new: Iterable[Body]) -> Model:
        """With one body replaced by others at its place; all else is the same object."""
        out: list[Body] = []
        for body in self.bodies:
            out.extend(new if body is old else (body,))
        return Model(tuple(out), self.tolerance)


def rough_box(bodies: Iterable[Body]) -> Floats:
    """Box (2,3) of points sampled on every edge and of triangles; exact enough to set a scale."""
    boxes = [_body_box(body) for body in bodies if body.uses]
    return np.array([np.min(boxes, axis=0)[0], np.max(boxes, axis=0)[1]]) if boxes else np.zeros((2, 3))


_boxes = Remembered[Body, Floats]("brep/topology:boxes")
_samples = Remembered[Body, Floats]("brep/topology:samples")


def _body_box(body: Body) -> Floats:
    if body not in _boxes:
        whole = body.uses
        points = whole.points(_sampled(whole.body)) if isinstance(whole, Elsewhere) else _sampled(body)
        _boxes[body] = np.array([points.min(axis=0), points.max(axis=0)])
    return _boxes[body]


def _sampled(body: Body) -> Floats:
    """Points (n,3) on every edge of a body, of its triangles, and around what has neither."""
    if body in _samples:
        return _samples[body]
    points: list[Floats] = []
    edges = body.edges()
    if edges:
        row, t = spread(np.array([e.t0 for e in edges]), np.array([e.t1 for e in edges]), 17)
        points.append(CurveBatch.of([e.curve for e in edges]).points(row, t))
    for face in dict.fromkeys(body.faces):
        if isinstance(face.surface, Facets):
            points.append(face.surface.points)
        elif not face.loops:  # a whole sphere or torus
            reach = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]])
            origin = face.surface.frame.origin
            points.append(face.surface.project(origin + 1e3 * (1.0 + np.abs(origin).max()) * reach))
    return _samples.setdefault(body, np.concatenate(points))


def vertex_at(point: object) -> Vertex:
    return Vertex(frozen(np.asarray(point, dtype=float)))
