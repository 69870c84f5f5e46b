"""Who meets whom in a body: faces across edges, and how the material turns there."""

from __future__ import annotations

from collections import OrderedDict, defaultdict
from collections.abc import Callable
from dataclasses import dataclass, fields
from functools import cached_property
from typing import Literal, TypeVar
from weakref import WeakKeyDictionary, ref

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.lineage import change, since
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, ancestors
from lithon.geometry.batch import CurveBatch, RollBatch
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tolerance import SMOOTH
from lithon.remembered import Remembered

Turn = Literal["convex", "concave", "smooth"]


class Adjacency:
    """Index of one body, made once per body (bodies never change)."""

    def __init__(self, body: Body, was: Adjacency | None = None):
        """`was`: the index of a body that has most faces in common with this one."""
        self.body = body
        self.uses: dict[Edge, list[tuple[FaceUse, Coedge]]] = defaultdict(list)
        #: The edges that were asked about since somebody began to watch.
        self.asked: set[Edge] = set()
        self._touched: WeakKeyDictionary[Body, frozenset[Edge] | None] = WeakKeyDictionary()
        if was is not None:
            self._take_over(was)
            return
        for use in body.uses:
            for loop in use.face.loops:
                for coedge in loop:
                    self.uses[coedge.edge].append((use, coedge))

    def _take_over(self, was: Adjacency) -> None:
        """Index what is the same as in another body as it was there, in the order in which it would be found here."""
        new = change(self.body, was.body)
        place = {use: k for k, use in enumerate(self.body.uses)}
        again: dict[Edge, list[tuple[FaceUse, Coedge]]] = {
            edge: [entry for entry in was.uses.get(edge, ()) if entry[0] not in new.gone]
            for edge in new.touched(self.body)
        }
        for use in new.fresh:
            for loop in use.face.loops:
                for coedge in loop:
                    again[coedge.edge].append((use, coedge))
        for entries in again.values():
            entries.sort(key=lambda entry: place[entry[0]])
        old = was.uses
        for edge in self.body.edges():
            self.uses[edge] = again[edge] if edge in again else old[edge]

    def touched_since(self, was: Body | None) -> frozenset[Edge] | None:
        """The edges at which other faces meet than in a body that this one was made of; None where it was not."""
        if was is None:
            return None
        if was not in self._touched:
            if was is self.body:
                self._touched[was] = frozenset()
            else:
                self._touched[was] = change(self.body, was).edges if was in set(ancestors(self.body)) else None
        return self._touched[was]

    @cached_property
    def use_of(self) -> dict[Face, FaceUse]:
        return self.body.use_by_face()

    @cached_property
    def loop_of(self) -> dict[tuple[Face, Edge], Loop]:
        return {(face, c.edge): loop for face in self.body.faces for loop in face.loops for c in loop}

    @cached_property
    def at_vertex(self) -> dict[Vertex, list[Edge]]:
        out: dict[Vertex, list[Edge]] = defaultdict(list)
        for edge in self.uses:
            for vertex in {edge.start, edge.end} - {None}:
                assert vertex is not None
                out[vertex].append(edge)
        return out

    def across(self, face: Face, edge: Edge) -> Face:
        """The face on the other side of an edge; the face itself on a slit."""
        self.asked.add(edge)
        faces = [use.face for use, _ in self.uses[edge]]
        others = [f for f in faces if f is not face]
        return others[0] if others else face

    def neighbours(self, face: Face) -> list[Face]:
        found = dict.fromkeys(self.across(face, edge) for edge in face.edges())
        return [f for f in found if f is not face]

    def angle(self, edge: Edge) -> float:
        """How far the outward normal turns over the edge: positive convex, negative concave."""
        self.asked.add(edge)
        uses = self.uses[edge]
        known = _angles.get(edge)
        if known is None or known[0] != sides_of(uses):
            known = _angles[edge] = sides_of(uses), edge_turn(uses, edge)
        return known[1]

    def all_angles(self) -> None:
        """Find the angles of all edges in one go, for those who will ask for most of them."""
        fresh = [e for e, uses in self.uses.items() if len(uses) == 2 and _angles.get(e, (None,))[0] != sides_of(uses)]
        if not fresh:
            return
        batch = CurveBatch.of([e.curve for e in fresh])
        row = np.arange(len(fresh))
        t = np.array([0.5 * (e.t0 + e.t1) for e in fresh])
        at, ahead = batch.points(row, t), batch.speeds(row, t)
        sides = [self.uses[e][k] for k in (0, 1) for e in fresh]
        own = _normals([use.face for use, _ in sides], np.concatenate([at, at]))
        outward = own * np.array([1.0 if use.forward else -1.0 for use, _ in sides])[:, None]
        n_a, n_b = np.split(outward, 2)
        way = np.array([1.0 if c.forward else -1.0 for _, c in sides[len(fresh) :]])
        into = cross_product(own[len(fresh) :], way[:, None] * ahead)
        size = np.arctan2(np.linalg.norm(cross_product(n_a, n_b), axis=1), (n_a * n_b).sum(axis=1))
        convex = (n_a * into).sum(axis=1) <= 0.0
        for k in np.flatnonzero(size > FOLDED).tolist():
            convex[k] = holds_solid(self.uses[fresh[k]], fresh[k])
        for edge, angle in zip(fresh, np.where(convex, size, -size).tolist(), strict=True):
            _angles[edge] = sides_of(self.uses[edge]), angle

    def turn(self, edge: Edge) -> Turn:
        angle = self.angle(edge)
        if abs(angle) < SMOOTH:
            return "smooth"
        return "convex" if angle > 0.0 else "concave"


@dataclass(slots=True)
class _Told:
    """What was told of a face or loop before: the answer, the faces in it, what it hangs on, and the last body of which
    it was known to hold."""

    answer: object
    inside: tuple[Face, ...]
    edges: dict[Edge, object]
    held: ref[Body]


_told: dict[tuple[str, object], _Told] = {}
_MOST_TOLD = 200_000
T = TypeVar("T")


def as_before(
    adj: Adjacency, what: str, about: Face | Edge, find: Callable[[], T], faces: Callable[[T], tuple[Face, ...]]
) -> T:
    """What `find` tells about a face or edge of a body: as it was told of a body before that had the same there. What
    it asks it must ask of `adj`, edge by edge. `faces`: those in its answer."""
    known = _told.get((what, about))
    if known is not None:
        touched = adj.touched_since(known.held())
        if touched is None or not touched.isdisjoint(known.edges):
            hold = all(f in adj.use_of for f in known.inside) and all(
                _beside(adj, e) == side for e, side in known.edges.items()
            )
        else:
            hold = True
        if hold:
            known.held = ref(adj.body)
            return known.answer  # type: ignore[return-value]
    before, adj.asked = adj.asked, set()
    found = find()
    if len(_told) > _MOST_TOLD:
        _told.clear()
    _told[what, about] = _Told(found, faces(found), {e: _beside(adj, e) for e in adj.asked}, ref(adj.body))
    adj.asked = before | adj.asked
    return found


def _beside(adj: Adjacency, edge: Edge) -> object:
    """What matters of the faces at an edge: the surfaces that they lie on, how they are walked, and whether they have
    one loop, two or more."""
    return [
        (_place(use.face.surface), use.face.along, use.forward, coedge.forward, min(len(use.face.loops), 3))
        for use, coedge in adj.uses.get(edge, ())
    ]


def _place(surface: Surface) -> object:
    """What a surface is told by: by value where that is little, since it may have come from another process."""
    if not isinstance(surface, Plane | Cylinder | Cone | Sphere | Torus):
        return surface
    frame, names = surface.frame, _NUMBERS[type(surface)]
    return type(surface), frame.origin.tobytes(), frame.z.tobytes(), *(getattr(surface, name) for name in names)


_NUMBERS: dict[type, tuple[str, ...]] = {
    kind: tuple(f.name for f in fields(kind) if f.type == "float") for kind in (Plane, Cylinder, Cone, Sphere, Torus)
}


#: Faces that turn by more over an edge are folded back onto each other; so far aside of it, as a share of its length,
#: is looked at what lies between them.
FOLDED, _ASIDE = np.pi - 1e-4, 0.02
#: For each edge the uses that were asked about, and the angle between them.
_angles = Remembered[Edge, tuple[tuple[tuple[int, bool, bool], ...], float]]("brep/analysis/adjacency:angles")


def sides_of(uses: list[tuple[FaceUse, Coedge]]) -> tuple[tuple[int, bool, bool], ...]:
    """What an angle over an edge hangs on: the faces there and how they are walked."""
    return tuple((use.face.uid, use.forward, coedge.forward) for use, coedge in uses)


def _normals(faces: list[Face], points: Floats) -> Floats:
    """The own normal (n,3) of each face at a point (n,3) of its own."""
    out = np.empty((len(faces), 3))
    simple = [k for k, f in enumerate(faces) if isinstance(f.surface, Plane | Cylinder)]
    if simple:
        roll = RollBatch.of([f.surface for f in faces if isinstance(f.surface, Plane | Cylinder)])
        row = np.arange(len(simple))
        along = np.array([1.0 if faces[k].along else -1.0 for k in simple])
        out[simple] = along[:, None] * roll.spots(row, roll.flat(row, points[simple]))[2]
    others: dict[Face, list[int]] = defaultdict(list)
    for k, face in enumerate(faces):
        if not isinstance(face.surface, Plane | Cylinder):
            others[face].append(k)
    for face, rows in others.items():
        out[rows] = face.normal(points[rows])
    return out


def into_face(use: FaceUse, coedge: Coedge, share: float) -> tuple[Floats, Floats]:
    """At a share of an edge: the outward normal and the unit vector into the face. Both (3,)."""
    return use.outward(coedge.edge.at(share)[None])[0], inward(use.face, coedge, share)


def inward(face: Face, coedge: Coedge, share: float) -> Floats:
    """The unit vector (3,) into a face, straight across its edge at a share of that."""
    own = face.normal(coedge.edge.at(share)[None])[0]
    return cross_product(own, coedge.edge.direction(share) * (1.0 if coedge.forward else -1.0))


def edge_turn(uses: list[tuple[FaceUse, Coedge]], edge: Edge) -> float:
    """Signed angle between the outward normals of the two faces at the middle of an edge."""
    if len(uses) != 2:
        return 0.0
    (use_a, co_a), (use_b, co_b) = uses
    n_a, _ = into_face(use_a, co_a, 0.5)
    n_b, inward_b = into_face(use_b, co_b, 0.5)
    sine = float(np.linalg.norm(cross_product(n_a, n_b)))
    size = float(np.arctan2(sine, float(n_a @ n_b)))
    # Convex where the other face falls away below this one's tangent plane.
    convex = float(n_a @ inward_b) <= 0.0 if size < FOLDED else holds_solid(uses, edge)
    return size if convex else -size


def holds_solid(uses: list[tuple[FaceUse, Coedge]], edge: Edge, share: float = 0.5) -> bool:
    """Whether solid lies between two faces that are folded back onto each other at an edge, at a share of it: there
    their tangent planes are one, and what is beside it tells."""
    at, out = edge.at(share)[None], 0.0
    for (use, coedge), (other, _) in (uses, uses[::-1]):
        beside = use.face.surface.project(at + _ASIDE * edge.length * inward(use.face, coedge, share))
        surface = other.face.surface
        away = float(surface.signed_distance(beside)[0])
        out += away * float(np.sign(other.outward(at)[0] @ surface.normal(at)[0]))
    return out <= 0.0


_index: OrderedDict[Body, Adjacency] = OrderedDict()
#: Indices are kept of so many bodies at most, of so many faces together.
_MOST_BODIES, _MOST_FACES = 1_000, 100_000


def adjacency(body: Body) -> Adjacency:
    """The index of a body, kept while it is among the latest asked for."""
    hit = _index.get(body)
    if hit is not None:
        _index.move_to_end(body)
        return hit
    like = since(body, _index.__contains__)
    made = Adjacency(body, None if like is None else _index[like[0]])
    _index[body] = made
    while len(_index) > 1 and (len(_index) > _MOST_BODIES or sum(len(b.uses) for b in _index) > _MOST_FACES):
        _index.popitem(last=False)
    return made
