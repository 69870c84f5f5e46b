"""Faces put on other surfaces: their edges and corners follow, all else stays.

One engine for moving, tilting, offsetting and resizing faces. Every edge of a changed face becomes the curve in which
the surfaces on its two sides meet now; every corner the point on all surfaces around it, found from where it was by
least-norm Newton steps. Blends of constant radius beside a changed face are rolled along: the ball of their radius is
put between their supports again.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.gate import refuse_worse
from lithon.brep.rewrite import rewrite
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Curve
from lithon.geometry.meet import meet
from lithon.geometry.surfaces import Surface
from lithon.progress import pulse
from lithon.trim.rolling import rolled
from lithon.trim.running import bounded

#: Points along an edge by which it is found again.
_SHARES = np.linspace(0.0, 1.0, 9)


def resurfaced(
    body: Body, changes: Mapping[Face, Surface], tolerance: float, blends: bool = True,
    fixed: Mapping[Vertex, Vertex] | None = None,
) -> Body:  # fmt: skip
    """The body with faces on other surfaces. `blends`: whether blends beside them are rolled along. `fixed`: corners of
    which it is known which one they become.

    Raises Refusal where neighbours do not meet the changed faces, or where a face would turn inside out.
    """
    adj = adjacency(body)
    own = {use.face for use in body.uses}
    strange = [f for f in changes if f not in own]
    if strange:
        raise Refusal("a face that is to change is not of this body")
    new: dict[Face, Surface] = dict(changes)
    if blends:
        new |= rolled(adj, new, tolerance)
    return refuse_worse(_Resurfacer(body, adj, new, tolerance, fixed or {}).run(), [body], tolerance)


class _Resurfacer:
    def __init__(
        self, body: Body, adj: Adjacency, new: Mapping[Face, Surface], tolerance: float, fixed: Mapping[Vertex, Vertex]
    ):
        self.body, self.adj, self.new, self.tolerance = body, adj, new, tolerance
        self.near = 20.0 * tolerance
        self.vertices: dict[Vertex, Vertex] = dict(fixed)

    def surface(self, face: Face) -> Surface:
        return self.new.get(face, face.surface)

    def run(self) -> Body:
        touched = [e for e, uses in self.adj.uses.items() if any(u.face in self.new for u, _ in uses)]
        for edge in touched:
            if len(self.adj.uses[edge]) != 2:
                raise Refusal("a face beside an opening cannot be moved", where=spot(edge.at(0.5)),
                              remedy="close the opening first")  # fmt: skip
        corners = [v for e in touched for v in (e.start, e.end) if v is not None]
        for vertex in dict.fromkeys(corners):
            if vertex not in self.vertices:
                self.vertices[vertex] = self._corner(vertex)
        edges: dict[Edge, tuple[Edge, bool]] = {}
        changed = set(touched)
        around = {e for v in self.vertices for e in self.adj.at_vertex[v]}
        for edge in dict.fromkeys([*touched, *around]):
            edges[edge] = self._edge(edge, edge in changed)
        body = rewrite(self.body, self.vertices, edges)
        faces: dict[Face, tuple[Face, bool]] = {}
        for old, made in zip(self.body.uses, body.uses, strict=True):
            if old.face in self.new:
                faces[made.face] = self._face(old.face, made.face), True
        return rewrite(body, faces=faces)

    def _corner(self, vertex: Vertex) -> Vertex:
        """The point on all surfaces that meet in a corner, nearest to where it was."""
        faces = dict.fromkeys(u.face for e in self.adj.at_vertex[vertex] for u, _ in self.adj.uses[e])
        p, off = onto_all([self.surface(f) for f in faces], vertex.point[None])
        smooth = [e for e in self.adj.at_vertex[vertex] if len(self.adj.uses[e]) == 2 and self.adj.turn(e) == "smooth"]
        if smooth and off[0] < 1e3 * self.near:
            p = self._on_contact(smooth[0], [self.surface(f) for f in faces], p)
            off = np.array([max(abs(float(self.surface(f).signed_distance(p)[0])) for f in faces)])
        if off[0] > self.near:
            raise Refusal(
                "the faces around a corner do not meet in a point any more", where=spot(vertex.point),
                remedy="move it by less, or choose the faces beside it as well", entities=tuple(faces),
            )  # fmt: skip
        return Vertex(frozen(p[0]))

    def _on_contact(self, edge: Edge, surfaces: list[Surface], p: Floats) -> Floats:
        """A corner (1,3) at which two surfaces touch, along the curve in which they do: that is well told, where both
        distances alone are not."""
        (one, _), (two, _) = self.adj.uses[edge]
        a, b = self.surface(one.face), self.surface(two.face)
        curves = [edge.curve] if a.same_as(b, self.tolerance, 1e3) else meet(a, b, self.tolerance, p)
        if not curves:
            return p
        curve = min(curves, key=lambda c: float(self._off(c, p)[0]))
        t = curve.parameter(p)
        along = curve.derivative(t)[0]
        third = max(surfaces, key=lambda s: abs(float(s.normal(p)[0] @ along)))
        for _ in range(20):
            here, way = curve.point(t), curve.derivative(t)
            lean = (third.normal(here) * way).sum(axis=1)
            if abs(float(lean[0])) < 1e-9 * float(np.linalg.norm(way)):
                break
            t = t - third.signed_distance(here) / lean
        return curve.point(t)

    def _edge(self, edge: Edge, touched: bool) -> tuple[Edge, bool]:
        pulse()
        start, end = (None if v is None else self.vertices.get(v, v) for v in (edge.start, edge.end))
        points = np.array([edge.at(s) for s in _SHARES])
        if start is not None and end is not None and edge.start is not None and edge.end is not None:
            # Between its ends it goes along with them: moved by more than a radius, an arc's old middle lies across.
            share = np.asarray(_SHARES)[:, None]
            points = points + (1.0 - share) * (start.point - edge.start.point) + share * (end.point - edge.end.point)
        if not touched:  # it only runs on to new corners, or back
            return self._between(edge, edge.curve, start, end, points)
        (one, _), (two, _) = self.adj.uses[edge]
        if one.face is two.face:
            raise Refusal("an edge with one face on both sides cannot follow", where=spot(edge.at(0.5)))
        a, b = self.surface(one.face), self.surface(two.face)
        there, off = onto_all([a, b], points)
        ends = np.array([v.point for v in (start, end) if v is not None]).reshape(-1, 3)
        if off[4] > self.near and not len(ends):
            raise self._apart(edge)
        if a.same_as(b, self.tolerance, 1e3):
            curves: list[Curve] = [edge.curve]
        else:
            curves = meet(a, b, self.tolerance, np.vstack([there, ends]))
        fits = [c for c in curves if self._off(c, ends if len(ends) else there).max(initial=0.0) <= self.near]
        if not fits:
            raise self._apart(edge)
        curve = min(fits, key=lambda c: float(self._off(c, there[2:7]).max()))
        return self._between(edge, curve, start, end, there)

    def _between(
        self, edge: Edge, curve: Curve, start: Vertex | None, end: Vertex | None, points: Floats
    ) -> tuple[Edge, bool]:
        """The stretch of a curve that takes an edge's place, and whether it runs the same way."""
        if start is None or end is None:
            if curve.period is None:
                raise self._apart(edge)
            low = float(getattr(curve, "low", 0.0))
            ring = Edge(curve, low, low + float(curve.period))
            way = curve.derivative(curve.parameter(points[4][None]))[0]
            return ring, float(way @ edge.direction(0.5)) > 0.0
        t = curve.parameter(np.array([start.point, end.point]))
        if float(np.linalg.norm(curve.point(t) - [start.point, end.point], axis=1).max()) > self.near:
            raise self._apart(edge)
        if float(np.linalg.norm(end.point - start.point)) <= self.near:
            raise self._gone(edge)
        if edge.curve.kind == "line" and float((end.point - start.point) @ edge.direction(0.5)) <= 0.0:
            raise self._gone(edge)
        made = bounded(curve, float(t[0]), float(t[1]), start, end, points[4])
        return made, made.start is start

    def _face(self, old: Face, made: Face) -> Face:
        """The face on its new surface, looking the way it did."""
        surface = self.new[old]
        here, there = (next((e.at(0.5)[None] for e in face.edges()), None) for face in (old, made))
        if here is None or there is None:  # a whole sphere or torus has no edge
            here = there = face_mesh(old).points[:1]
        before, after = old.surface.normal(here)[0], surface.normal(there)[0]
        same = float(before @ after) > 0.0
        return Face(surface, made.loops, old.along == same, old.label)

    @staticmethod
    def _off(curve: Curve, points: Floats) -> Floats:
        return np.asarray(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1))

    def _apart(self, edge: Edge) -> Refusal:
        return Refusal(
            "two neighbours do not meet any more", where=spot(edge.at(0.5)), remedy="move it by less",
            entities=tuple(u.face for u, _ in self.adj.uses[edge]),
        )  # fmt: skip

    def _gone(self, edge: Edge) -> Refusal:
        return Refusal(
            "an edge beside it would vanish or turn round", where=spot(edge.at(0.5)),
            remedy="move it by less, or clear what stands in the way first",
            entities=tuple(u.face for u, _ in self.adj.uses[edge]),
        )  # fmt: skip
