"""A solid that a plane face sweeps along a straight way."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, backwards, new_uid
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Line
from lithon.geometry.rational import rational
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Extrusion


def extruded(face: Face, way: Floats, name: str = "body") -> Body:
    """The solid between a plane face and where a way (3,) takes it; it shares nothing with the face.

    Raises Refusal where the way runs along the face.
    """
    if not isinstance(face.surface, Plane):
        raise Refusal(f"only a plane face can be carried along, not a {face.surface.kind}", entities=(face,))
    normal = face.normal(face.surface.frame.origin[None])[0]
    if abs(float(normal @ way)) <= 1e-9 * float(np.linalg.norm(way)):
        raise Refusal("the way runs along the face", where=spot(face.surface.frame.origin), entities=(face,))
    ahead = float(normal @ way) > 0.0
    motion = np.eye(4)
    motion[:3, 3] = way
    low: dict[object, object] = {}
    high: dict[object, object] = {}

    def corner(v: Vertex, where: dict[object, object], shift: Floats) -> Vertex:
        return where.setdefault(v, Vertex(frozen(v.point + shift)))  # type: ignore[return-value]

    def side(e: Edge, where: dict[object, object], shift: Floats, m: Floats) -> Edge:
        if e not in where:
            ends = [None if v is None else corner(v, where, shift) for v in (e.start, e.end)]
            where[e] = Edge(e.curve.moved(m), e.t0, e.t1, ends[0], ends[1])
        return where[e]  # type: ignore[return-value]

    posts: dict[Vertex, Edge] = {}

    def post(v: Vertex) -> Edge:
        if v not in posts:
            a, b = corner(v, low, np.zeros(3)), corner(v, high, way)
            posts[v] = Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(way)), a, b)
        return posts[v]

    walls: list[FaceUse] = []
    floors: list[Loop] = []
    tops: list[Loop] = []
    for loop in face.loops:
        # Walked so that, seen against the way, the face is on the left.
        walk = loop if ahead else backwards(loop)
        one = [Coedge(side(c.edge, low, np.zeros(3), np.eye(4)), c.forward) for c in walk]
        two = [Coedge(side(c.edge, high, way, motion), c.forward) for c in walk]
        for c, a, b in zip(walk, one, two, strict=True):
            if c.first is None or c.last is None:
                around: tuple[Loop, ...] = ((a,), (b.reversed(),))
            else:
                around = ((a, Coedge(post(c.last), True), b.reversed(), Coedge(post(c.first), False)),)
            at = c.edge.at(0.5)
            out = cross_product(c.edge.direction(0.5) * (1.0 if c.forward else -1.0), unit(way))
            surface = _wall(c.edge, way)
            walls.append(FaceUse(Face(surface, around, bool(float(surface.normal(at[None])[0] @ out) > 0.0))))
        floors.append(tuple(one))
        tops.append(tuple(two))
    floor = replace(face, loops=tuple(map(backwards, floors)), along=face.along != ahead, label="", uid=new_uid(),
                    before=None, origin=None)  # fmt: skip
    top = Face(face.surface.moved(motion), tuple(tops), face.along == ahead)
    return Body((FaceUse(floor), FaceUse(top), *walls), name)


def _wall(edge: Edge, way: Floats) -> Surface:
    curve = edge.curve
    if isinstance(curve, Line):
        return Plane.of(edge.at(0.0), cross_product(curve.direction, way))
    if isinstance(curve, Circle) and float(np.linalg.norm(cross_product(curve.frame.z, unit(way)))) < 1e-10:
        return Cylinder(curve.frame, curve.major)
    if curve.period is not None and not edge.ring:  # an arc by itself: no seam of the whole may lie on it
        return Extrusion.of(rational(curve, edge.t0, edge.t1), way)
    return Extrusion.of(curve, way)
