"""A solid lofted between two plane faces: corner to corner, side to side."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, backwards, new_uid
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Line
from lithon.geometry.rounds import Cone
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface


def bridged(a: FaceUse, b: FaceUse, name: str = "bridge") -> Body:
    """The solid between two plane faces that look at each other, with a ruled face over each pair of sides.

    Raises Refusal where their outlines do not pair: other numbers of sides, arcs against lines, holes.
    """
    for use in (a, b):
        if not isinstance(use.face.surface, Plane):
            raise Refusal("a bridge stands between plane faces", entities=(use.face,), remedy="choose plane faces")
        if len(use.face.loops) != 1:
            raise Refusal("a face with holes cannot be bridged", entities=(use.face,), remedy="clear the holes first")
    if not facing(a, b):
        raise Refusal("the two faces do not look at each other", where=spot(_middle(a.face)),
                      remedy="choose faces with a gap between them", entities=(a.face, b.face))  # fmt: skip
    one, two = _walked(a), backwards(_walked(b))
    if len(one) != len(two):
        raise Refusal(f"one face has {len(one)} sides and the other {len(two)}", entities=(a.face, b.face),
                      remedy="choose faces with as many sides")  # fmt: skip
    low, high = _fresh(one), _paired(_fresh(one), _fresh(two))
    posts: dict[Vertex, Edge] = {}

    def post(u: Vertex, v: Vertex) -> Edge:
        if u not in posts:
            posts[u] = Edge(Line.through(u.point, v.point), 0.0, float(np.linalg.norm(v.point - u.point)), u, v)
        return posts[u]

    walls = []
    for c, d in zip(low, high, strict=True):
        if c.first is None or d.first is None:
            if (c.first is None) != (d.first is None):
                raise Refusal("a round outline cannot be bridged with one that has corners", entities=(a.face, b.face))
            loops: tuple[Loop, ...] = ((c,), (d.reversed(),))
        else:
            assert c.last is not None and d.last is not None
            loops = ((c, Coedge(post(c.last, d.last), True), d.reversed(), Coedge(post(c.first, d.first), False)),)
        surface = _between(c, d)
        here = c.edge.at(0.5)
        out = cross_product(c.edge.direction(0.5) * (1.0 if c.forward else -1.0), d.edge.at(0.5) - here)
        normal = surface.normal(surface.project(here[None]))[0]
        walls.append(FaceUse(Face(surface, loops, bool(float(normal @ out) > 0.0))))
    floor = _cap(a.face, tuple(backwards(low)), -_outward(a))
    top = _cap(b.face, tuple(high), -_outward(b))
    return Body((floor, top, *walls), name)


def facing(a: FaceUse, b: FaceUse) -> bool:
    """Whether two plane faces look at each other over a gap."""
    way = _middle(b.face) - _middle(a.face)
    far = float(np.linalg.norm(way))
    return float(_outward(a) @ way) > 1e-9 * far and float(_outward(b) @ way) < -1e-9 * far


def _cap(face: Face, loop: Loop, outward: Floats) -> FaceUse:
    along = float(face.surface.frame.z @ outward) > 0.0
    return FaceUse(replace(face, loops=(loop,), along=along, label="", uid=new_uid(), before=None, origin=None))


def _middle(face: Face) -> Floats:
    return np.asarray(np.mean([e.at(s) for e in face.edges() for s in (0.0, 0.25, 0.5, 0.75)], axis=0))


def _outward(use: FaceUse) -> Floats:
    return np.asarray(use.outward(use.face.surface.frame.origin[None])[0])


def _walked(use: FaceUse) -> Loop:
    """The outline with the face on the left, seen from outside the body."""
    loop = use.face.loops[0]
    return loop if use.forward else backwards(loop)


def _fresh(loop: Loop) -> Loop:
    """The same outline with edges and vertices of its own."""
    ends: dict[Vertex, Vertex] = {}

    def own(v: Vertex | None) -> Vertex | None:
        return None if v is None else ends.setdefault(v, Vertex(frozen(v.point)))

    return tuple(
        Coedge(Edge(c.edge.curve, c.edge.t0, c.edge.t1, own(c.edge.start), own(c.edge.end)), c.forward) for c in loop
    )


def _paired(low: Loop, high: Loop) -> Loop:
    """The second outline begun where its sides lie nearest to those of the first."""
    n = len(low)
    here, there = (np.array([c.edge.at(0.5) for c in loop]) for loop in (low, high))
    there_flat = there - there.mean(axis=0) + here.mean(axis=0)
    best = min(range(n), key=lambda k: float(np.linalg.norm(np.roll(there_flat, -k, axis=0) - here, axis=1).sum()))
    return high[best:] + high[:best]


def _between(c: Coedge, d: Coedge) -> Surface:
    """The ruled surface between two sides."""
    a, b = c.edge.curve, d.edge.curve
    if isinstance(a, Line) and isinstance(b, Line):
        p = [x.point for x in (c.first, c.last, d.last, d.first) if x is not None]
        normal = cross_product(p[1] - p[0], p[3] - p[0])
        if not float(np.linalg.norm(normal)) > 0.0:
            normal = cross_product(p[2] - p[1], p[3] - p[2])
        if abs(float((p[2] - p[0]) @ unit(normal))) < 1e-9 * float(np.linalg.norm(p[2] - p[0])):
            return Plane.of(p[0], normal, p[1] - p[0])
        knots = np.array([0.0, 0.0, 1.0, 1.0])
        net = np.array([[p[0], p[3]], [p[1], p[2]]])
        return BSplineSurface(knots, knots, 1, 1, net, None)
    if isinstance(a, Circle) and isinstance(b, Circle):
        z = a.frame.z
        gap = b.frame.origin - a.frame.origin
        along = float(gap @ z)
        coaxial = float(np.linalg.norm(cross_product(z, b.frame.z))) < 1e-9
        if coaxial and float(np.linalg.norm(gap - along * z)) < 1e-9 * (1.0 + abs(along)):
            if abs(a.major - b.major) < 1e-9 * a.major:
                return Cylinder(a.frame, a.major)
            return Cone.of(
                a.frame.origin, z * np.sign(along), a.major, float(np.arctan2(b.major - a.major, abs(along)))
            )
    raise Refusal("two sides cannot be joined by a ruled face", where=spot(c.edge.at(0.5)),
                  remedy="choose faces whose sides are alike")  # fmt: skip
