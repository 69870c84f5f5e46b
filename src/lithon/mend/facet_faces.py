"""Faces of single triangles beside exact ones: a plane each, or, over a side that is curved, the cone from the corner
opposite to it, so that both sides of every edge lie on it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, frozen, unit
from lithon.brep.topology import Coedge, Edge, Face, FaceUse, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import guide
from lithon.geometry.curves import Curve, Line
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.freeform import curve_along

#: A triangle whose corners have moved may lean by so much (cosine) from how it was.
_LEAN = 0.5
#: What bows by no more than this share of what is near is straight: off an exact surface, and off a curve of a free-
#: form face, which it misses by about as much as that.
_ON, _STRAIGHT = 0.8, 0.45
#: A curved side may bow into its triangle by so much of its height.
_BOW = 0.6


def line_between(a: Vertex, b: Vertex) -> Edge:
    """The straight edge from one vertex to another."""
    return Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b)


def chord_on(surface: Surface, a: Vertex, b: Vertex, near: float) -> Edge:
    """The edge from one vertex of a surface to another that lies on it to within `near` (mm): straight where it may
    be. Raises Refusal where none comes to lie there."""
    t = np.linspace(0.0, 1.0, 9)[1:-1, None]
    if float(np.abs(surface.signed_distance(a.point + t * (b.point - a.point))).max()) <= _ON * near:
        return line_between(a, b)
    ends = a.point, b.point
    curve = curve_along(np.array(ends), ends, 0.0, surface, near, 8)
    if not isinstance(curve, BSplineCurve):
        return line_between(a, b)
    return Edge(curve, curve.low, curve.high, a, b)


def piece_of(curve: Curve, low: float, high: float, a: Vertex, b: Vertex, near: float) -> Edge:
    """The edge along a curve from one vertex on it, at `low`, to another, at `high`, as a curve of its own."""
    p = curve.point(np.linspace(low, high, 17))
    p[0], p[-1] = a.point, b.point
    way = b.point - a.point
    off = np.linalg.norm(cross_product(p - a.point, way / max(float(np.linalg.norm(way)), 1e-300)), axis=1)
    if float(off.max()) <= _STRAIGHT * near:
        return line_between(a, b)
    own = guide(p, False)
    return Edge(own, own.low, own.high, a, b)


class FacetFaces:
    """Faces of triangles, corners (m,3) of points (n,3): `made` are the vertices that corners have already, `edges` the
    edges that sides (the smaller corner first) have already, with the others as neighbours. `memory` keeps what was
    made before: what has the same neighbours is the same again, and known to be sound."""

    def __init__(
        self, points: Floats, corners: Ints, made: dict[int, Vertex], edges: Mapping[tuple[int, int], tuple[Edge, int]],
        memory: dict[object, Any],
    ):  # fmt: skip
        self.points, self.corners, self.made, self.memory = points, corners, made, memory
        #: The edge of a side, and the corner at which it starts.
        self.edges = dict(edges)
        #: Corners that are on a border: elsewhere a triangle is what it was before.
        self.border = set(made)

    def uses(self, row: int) -> list[FaceUse]:
        """The faces of one triangle, outwards as it is. Raises Refusal where its corners have moved too far."""
        corner = self.corners[row].tolist()
        inner = None if self.border.intersection(corner) else ("inner", *corner)
        if inner in self.memory:
            known: list[FaceUse] = self.memory[inner]
            return known
        p = np.array([self._vertex(v).point for v in corner])
        was = self.points[corner]
        now, before = (cross_product(q[1] - q[0], q[2] - q[0]) for q in (p, was))
        size, lean = float(np.linalg.norm(now)), float(now @ before)
        if size <= 0.0 or lean < _LEAN * size * float(np.linalg.norm(before)):
            raise Refusal("a triangle beside a patch would turn over", where=spot(was.mean(axis=0)),
                          remedy="allow more deviation, or keep the facets")  # fmt: skip
        walk = [self._side(a, b) for a, b in zip(corner, corner[1:] + corner[:1], strict=True)]
        for k, side in enumerate(walk):
            if not isinstance(side.edge.curve, Line) and not _within(side, p, now, k):
                raise Refusal("a curved edge runs through the triangle beside it", where=spot(p.mean(axis=0)),
                              remedy="allow more deviation, or keep the facets")  # fmt: skip
        key = ("facet", *corner, *(id(c.edge) for c in walk))
        if key not in self.memory:
            self.memory[key] = self._faces(corner, walk, p, now)
        made: list[FaceUse] = self.memory[key]
        if inner is not None:
            self.memory[inner] = made
        return made

    def _faces(self, corner: list[int], walk: list[Coedge], p: Floats, now: Floats) -> list[FaceUse]:
        bent = [k for k, c in enumerate(walk) if not isinstance(c.edge.curve, Line)]
        if not bent:
            return [_face(Plane.of(p[0], now, p[1] - p[0]), walk, p, now)]
        if len(bent) == 1:
            k = bent[0]
            return [_face(_cone(walk[k].edge, p[(k + 2) % 3]), walk, p, now)]
        middle = Vertex(frozen(p.mean(axis=0)))
        spokes = [line_between(middle, self._vertex(v)) for v in corner]
        out = []
        for k, side in enumerate(walk):
            own = [side, Coedge(spokes[(k + 1) % 3], False), Coedge(spokes[k], True)]
            q = np.array([p[k], p[(k + 1) % 3], middle.point])
            plain = isinstance(side.edge.curve, Line)
            normal = cross_product(q[1] - q[0], q[2] - q[0])
            surface = Plane.of(q[0], normal, q[1] - q[0]) if plain else _cone(side.edge, middle.point)
            out.append(_face(surface, own, q, normal))
        return out

    def _vertex(self, v: int) -> Vertex:
        if v not in self.made:
            self.made[v] = self.memory.setdefault(("corner", v), Vertex(frozen(self.points[v])))
        return self.made[v]

    def _side(self, a: int, b: int) -> Coedge:
        key = (min(a, b), max(a, b))
        if key not in self.edges:
            ends = self._vertex(key[0]), self._vertex(key[1])
            own = ("side", *map(id, ends))
            if own not in self.memory:
                self.memory[own] = line_between(*ends)
            self.edges[key] = self.memory[own], key[0]
        edge, start = self.edges[key]
        return Coedge(edge, start == a)


def _within(side: Coedge, p: Floats, normal: Floats, k: int) -> bool:
    """Whether an edge over side k of a triangle bows little into it, and the cone from the corner opposite leans little
    from it all along."""
    a, b, apex = p[k], p[(k + 1) % 3], p[(k + 2) % 3]
    inward, t = cross_product(normal, b - a), np.linspace(side.edge.t0, side.edge.t1, 33)
    on, way = side.edge.curve.point(t), side.edge.curve.derivative(t) * (1.0 if side.forward else -1.0)
    if float(((on - a) @ inward).max()) > _BOW * float((apex - a) @ inward):
        return False
    return bool((unit(cross_product(way, apex - on)) @ unit(normal)).min() >= _LEAN)


def _face(surface: Surface, walk: list[Coedge], p: Floats, normal: Floats) -> FaceUse:
    there = surface.project(p.mean(axis=0)[None])
    return FaceUse(Face(surface, (tuple(walk),), float(surface.normal(there)[0] @ normal) > 0.0))


def _cone(edge: Edge, apex: Floats) -> BSplineSurface:
    """All straight lines from a point to an edge, which is all of its spline."""
    curve = edge.curve
    assert isinstance(curve, BSplineCurve) and curve.weights is None
    net = np.stack([np.broadcast_to(apex, curve.control.shape), curve.control], axis=1)
    return BSplineSurface(curve.knots, frozen([0.0, 0.0, 1.0, 1.0]), curve.degree, 1, frozen(net))
