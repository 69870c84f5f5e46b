"""Who meets whom in a body: faces across edges, and how the material turns there."""

from __future__ import annotations

from collections import defaultdict
from typing import Literal

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.geometry.tolerance import SMOOTH

Turn = Literal["convex", "concave", "smooth"]


class Adjacency:
    """Index of one body, made once per body (bodies never change)."""

    def __init__(self, body: Body):
        self.body = body
        self.uses: dict[Edge, list[tuple[FaceUse, Coedge]]] = defaultdict(list)
        self.at_vertex: dict[Vertex, list[Edge]] = defaultdict(list)
        self.loop_of: dict[tuple[Face, Edge], Loop] = {}
        self.use_of: dict[Face, FaceUse] = {use.face: use for use in body.uses}
        for use in body.uses:
            for loop in use.face.loops:
                for coedge in loop:
                    self.uses[coedge.edge].append((use, coedge))
                    self.loop_of[(use.face, coedge.edge)] = loop
        for edge in self.uses:
            for vertex in {edge.start, edge.end} - {None}:
                assert vertex is not None
                self.at_vertex[vertex].append(edge)

    def across(self, face: Face, edge: Edge) -> Face:
        """The face on the other side of an edge; the face itself on a slit."""
        faces = [use.face for use, _ in self.uses[edge]]
        others = [f for f in faces if f is not face]
        return others[0] if others else face

    def neighbours(self, face: Face) -> list[Face]:
        found = dict.fromkeys(self.across(face, edge) for edge in face.edges())
        return [f for f in found if f is not face]

    def angle(self, edge: Edge) -> float:
        """How far the outward normal turns over the edge: positive convex, negative concave."""
        return edge_turn(self.uses[edge], edge)

    def turn(self, edge: Edge) -> Turn:
        angle = self.angle(edge)
        if abs(angle) < SMOOTH:
            return "smooth"
        return "convex" if angle > 0.0 else "concave"


def into_face(use: FaceUse, coedge: Coedge, share: float) -> tuple[Floats, Floats]:
    """At a share of an edge: the outward normal and the unit vector into the face. Both (3,)."""
    point = coedge.edge.at(share)
    outward = use.outward(point[None])[0]
    own = use.face.normal(point[None])[0]
    tangent = coedge.edge.direction(share) * (1.0 if coedge.forward else -1.0)
    return outward, np.cross(own, tangent)


def edge_turn(uses: list[tuple[FaceUse, Coedge]], edge: Edge) -> float:
    """Signed angle between the outward normals of the two faces at the middle of an edge."""
    if len(uses) != 2:
        return 0.0
    (use_a, co_a), (use_b, co_b) = uses
    n_a, _ = into_face(use_a, co_a, 0.5)
    n_b, inward_b = into_face(use_b, co_b, 0.5)
    sine = float(np.linalg.norm(np.cross(n_a, n_b)))
    size = float(np.arctan2(sine, float(n_a @ n_b)))
    # Convex where the other face falls away below this one's tangent plane.
    return size if float(n_a @ inward_b) <= 0.0 else -size


_index: dict[int, tuple[Body, Adjacency]] = {}


def adjacency(body: Body) -> Adjacency:
    """The index of a body, cached while it is among the latest few dozen asked for."""
    hit = _index.get(body.uid)
    if hit is not None and hit[0] is body:
        return hit[1]
    if len(_index) > 64:
        _index.clear()
    made = Adjacency(body)
    _index[body.uid] = (body, made)
    return made
