"""Bodies of revolution all the way round: rings about one axis, and between them faces that a turn carries along
themselves.

In a half-plane through the axis such a body shows its profile: every ring is a corner of it, every face a side. The
profile is meshed like the end of a sweep and carried around until it meets itself. A profile that reaches the axis
would be carried into wedges there; such a body is refused.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.brep.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, Loop, Vertex, backwards, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane

_ON = 1e-6  # mm, and radians, within which things share an axis


def zero_direction(way: Floats) -> Floats:
    """The unit direction across an axis at which all rings about it begin; the same for both senses."""
    least = np.eye(3)[int(np.argmin(np.abs(np.round(way, 9))))]
    across = least - float(least @ way) * way
    return np.asarray(across / np.linalg.norm(across))


@dataclass(slots=True)
class Sides:
    """Corners and sides of profiles, by the ring and the face they stand for: bodies that share a face share them."""

    corners: dict[Edge, Vertex] = field(default_factory=dict)
    sides: dict[Face, Edge] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, eq=False)
class Turn:
    """A body that is one profile carried around an axis. `around` stands for every circle that it goes along."""

    body: Body
    frame: Frame
    profile: Face
    around: Edge
    rings: tuple[Edge, ...]

    def at(self, points: Floats, share: float) -> Floats:
        """Points (n,3) after a share of the whole turn."""
        a = 2.0 * np.pi * share
        local = self.frame.local(points)
        x, y = local[:, 0], local[:, 1]
        return self.frame.world(
            np.stack([np.cos(a) * x - np.sin(a) * y, np.sin(a) * x + np.cos(a) * y, local[:, 2]], 1)
        )


def turn_of(body: Body, known: Sides) -> Turn:
    """How a body is turned around its axis; its sides are added to `known`. Raises Refusal naming what is in the
    way."""
    frame = _axis(body)
    rings = body.edges()
    for face in body.faces:
        if not _turns(face, frame):
            raise Refusal(f"a {face.surface.kind} face is not round about the axis", entities=(face,))
    for ring in rings:
        if not (ring.ring and isinstance(ring.curve, Circle)):
            raise Refusal(f"an edge of {body.name} does not go all the way round", where=spot(ring.at(0.5)))
    for face in body.faces:  # last: of a body that is not round it would say the wrong thing
        if len(face.loops) != 2 and not (isinstance(face.surface, Torus) and not face.loops):
            raise Refusal(
                f"the profile of {body.name} reaches the axis",
                where=spot(face_mesh(face).points[0]),
                remedy="carve out the core with a cylinder around the axis",
                entities=(face,),
            )
    for ring in rings:
        if ring not in known.corners:
            height = float((ring.curve.frame.origin - frame.origin) @ frame.z)  # type: ignore[attr-defined]
            known.corners[ring] = vertex_at(frame.world(np.array([[ring.curve.radius, 0.0, height]]))[0])  # type: ignore[attr-defined]
    for face in body.faces:
        if face not in known.sides:
            known.sides[face] = _side(face, frame, known)
    loops = _loops([known.sides[f] for f in body.faces], frame)
    plane = Plane(Frame.of(frame.origin, -frame.y, frame.x))
    profile = Face(plane, loops)
    reach = max(
        float(frame.local(e.at(s)[None])[0, 0]) for f in body.faces for e in (known.sides[f],) for s in (0.0, 0.5)
    )
    around = Edge(Circle.about(frame, reach), 0.0, 2.0 * np.pi)
    return Turn(body, frame, profile, around, rings)


def _axis(body: Body) -> Frame:
    """The axis as z, the half-plane of the profile through x; the same for all bodies about this axis."""
    for face in body.faces:
        if isinstance(face.surface, Cylinder | Cone | Torus):
            frame = face.surface.frame
            break
    else:
        circles = [e.curve for e in body.edges() if isinstance(e.curve, Circle)]
        if not circles:
            raise Refusal(f"{body.name} has no axis")
        frame = circles[0].frame
    way = np.asarray(frame.z)
    way = way if way[int(np.argmax(np.abs(np.round(way, 9))))] > 0.0 else -way
    return Frame.of(frame.origin - float(frame.origin @ way) * way, way, zero_direction(way))


def _turns(face: Face, axis: Frame) -> bool:
    """Whether a turn carries a face's surface along itself."""
    s = face.surface
    if isinstance(s, Plane):
        return abs(float(s.frame.z @ axis.z)) > 1.0 - 1e-9
    if not isinstance(s, Cylinder | Cone | Torus | Sphere):
        return False
    local = axis.local(s.frame.origin[None])[0]
    on_axis = float(np.hypot(local[0], local[1])) < _ON
    return on_axis and (isinstance(s, Sphere) or abs(float(s.frame.z @ axis.z)) > 1.0 - 1e-9)


def _side(face: Face, axis: Frame, known: Sides) -> Edge:
    """What a face shows in the half-plane: a line or an arc between two corners, or a whole circle."""
    ends = [known.corners[e] for e in face.edges()]
    s = face.surface
    if not isinstance(s, Torus | Sphere):
        a, b = ends
        step = b.point - a.point
        length = float(np.linalg.norm(step))
        return Edge(Line(a.point, frozen(step / length)), 0.0, length, a, b)
    height = float((s.frame.origin - axis.origin) @ axis.z)
    away, radius = (s.major, s.minor) if isinstance(s, Torus) else (0.0, s.radius)
    middle = axis.world(np.array([[away, 0.0, height]]))[0]
    circle = Circle.about(Frame.of(middle, -axis.y, axis.x), radius)
    if not ends:
        return Edge(circle, 0.0, 2.0 * np.pi)

    def angle(points: Floats) -> Floats:
        local = axis.local(points)
        return np.asarray(np.arctan2(local[:, 2] - height, np.hypot(local[:, 0], local[:, 1]) - away))

    a0, a1 = angle(np.array([v.point for v in ends]))
    span = float((a1 - a0) % (2.0 * np.pi))
    inside = ((angle(face_mesh(face).points) - a0) % (2.0 * np.pi)) < span
    if inside.mean() > 0.5:
        return Edge(circle, float(a0), float(a0) + span, ends[0], ends[1])
    return Edge(circle, float(a1), float(a1) + 2.0 * np.pi - span, ends[1], ends[0])


def _loops(sides: list[Edge], axis: Frame) -> tuple[Loop, ...]:
    """The sides in closed loops, the outer one first and counter-clockwise as the profile's plane sees it."""
    left = dict.fromkeys(sides)
    loops: list[Loop] = []
    while left:
        first = next(iter(left))
        del left[first]
        loop = [Coedge(first, True)]
        while not first.ring and loop[-1].last is not loop[0].first:
            here = loop[-1].last
            following = next((e for e in left if here in (e.start, e.end)), None)
            if following is None:
                raise Refusal("the profile does not close", where=spot(first.at(0.5)))
            del left[following]
            loop.append(Coedge(following, following.start is here))
        loops.append(tuple(loop))
    area = [_area(loop, axis) for loop in loops]
    outer = int(np.argmax(np.abs(area)))
    turned = [
        loop if (a > 0.0) == (k == outer) else backwards(loop)
        for k, (loop, a) in enumerate(zip(loops, area, strict=True))
    ]
    return (turned[outer], *(loop for k, loop in enumerate(turned) if k != outer))


def _area(loop: Loop, axis: Frame) -> float:
    """The area (mm2) that a loop encloses in the half-plane, positive from the axis's x to its z."""
    points = [c.edge.at(s if c.forward else 1.0 - s) for c in loop for s in np.linspace(0.0, 1.0, 17)[:-1]]
    local = axis.local(np.array(points))
    x, z = local[:, 0], local[:, 2]
    return float(0.5 * (x * np.roll(z, -1) - np.roll(x, -1) * z).sum())
