"""Building solids from flat profiles: prisms, and what is sunk into or raised from a plane face.

The samples and the tests are built with this; it is exact and needs no intersection.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import frozen, unit
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder, Plane

Point2 = tuple[float, float]


@dataclass(frozen=True, slots=True)
class Piece:
    """A side of a profile, from `start` to the next piece's start: straight, or an arc about `centre`."""

    start: Point2
    centre: Point2 | None = None
    ccw: bool = True


@dataclass(frozen=True, slots=True)
class Round:
    """A full circle as a profile."""

    centre: Point2
    radius: float


Profile = Sequence[Piece] | Round


def rectangle(x0: float, y0: float, x1: float, y1: float, radius: float = 0.0) -> list[Piece]:
    """Counter-clockwise, with rounded corners where a radius is given."""
    r = radius
    if r <= 0.0:
        return [Piece((x0, y0)), Piece((x1, y0)), Piece((x1, y1)), Piece((x0, y1))]
    return [
        Piece((x0 + r, y0)), Piece((x1 - r, y0), (x1 - r, y0 + r)),
        Piece((x1, y0 + r)), Piece((x1, y1 - r), (x1 - r, y1 - r)),
        Piece((x1 - r, y1)), Piece((x0 + r, y1), (x0 + r, y1 - r)),
        Piece((x0, y1 - r)), Piece((x0, y0 + r), (x0 + r, y0 + r)),
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class _Tube:
    low: Loop
    high: Loop
    walls: tuple[Face, ...]


def _tube(frame: Frame, profile: Profile, z0: float, z1: float, solid_inside: bool) -> _Tube:
    """Walls over a counter-clockwise profile between two heights of a frame; the loops run with the
    profile. Wall normals point away from the material."""
    if isinstance(profile, Round):
        centre = frame.world(np.array([*profile.centre, 0.0]))
        about = Frame.of(centre, frame.z, frame.x)
        rings = [Edge(Circle.about(about.shifted(z * frame.z), profile.radius), 0.0, 2.0 * np.pi) for z in (z0, z1)]
        low_ring, high_ring = (Coedge(rings[0], True),), (Coedge(rings[1], True),)
        loops: tuple[Loop, ...] = (low_ring, (Coedge(rings[1], False),))
        if not solid_inside:
            loops = tuple(_turned(loop) for loop in loops)
        return _Tube(low_ring, high_ring, (Face(Cylinder(about, profile.radius), loops, along=solid_inside),))
    n = len(profile)
    points = [np.array(piece.start, dtype=float) for piece in profile]
    corner = [[Vertex(frozen(frame.world(np.array([*p, z])))) for p in points] for z in (z0, z1)]
    posts = []
    for k in range(n):
        line = Line.through(corner[0][k].point, corner[1][k].point)
        posts.append(Edge(line, 0.0, abs(z1 - z0), corner[0][k], corner[1][k]))
    lows, highs, walls = [], [], []
    for k, piece in enumerate(profile):
        nxt = (k + 1) % n
        low, high = (_side(frame, piece, points[nxt], z, corner[i][k], corner[i][nxt]) for i, z in enumerate((z0, z1)))
        loop: Loop = (low, Coedge(posts[nxt], True), high.reversed(), Coedge(posts[k], False))
        if piece.centre is None:
            along = points[nxt] - points[k]
            out = frame.x * along[1] - frame.y * along[0]
            normal = unit(out if solid_inside else -out)
            surface: Plane | Cylinder = Plane.of(corner[0][k].point, normal, frame.z)
            face_along = True
        else:
            centre = frame.world(np.array([*piece.centre, 0.0]))
            radius = float(np.linalg.norm(points[k] - np.array(piece.centre)))
            surface = Cylinder(Frame.of(centre, frame.z, frame.x), radius)
            face_along = piece.ccw == solid_inside
        walls.append(Face(surface, (loop if solid_inside else _turned(loop),), along=face_along))
        lows.append(low)
        highs.append(high)
    return _Tube(tuple(lows), tuple(highs), tuple(walls))


def _side(frame: Frame, piece: Piece, end: np.ndarray, z: float, a: Vertex, b: Vertex) -> Coedge:
    if piece.centre is None:
        line = Line.through(a.point, b.point)
        return Coedge(Edge(line, 0.0, float(np.linalg.norm(b.point - a.point)), a, b), True)
    centre = np.array(piece.centre)
    start = np.array(piece.start) - centre
    stop = end - centre
    circle = Circle.about(Frame.of(frame.world(np.array([*centre, z])), frame.z, frame.x), float(np.hypot(*start)))
    t_start, t_stop = float(np.arctan2(start[1], start[0])), float(np.arctan2(stop[1], stop[0]))
    if piece.ccw:
        t_stop += 2.0 * np.pi if t_stop <= t_start else 0.0
        return Coedge(Edge(circle, t_start, t_stop, a, b), True)
    t_start += 2.0 * np.pi if t_start <= t_stop else 0.0
    return Coedge(Edge(circle, t_stop, t_start, b, a), False)


def _turned(loop: Loop) -> Loop:
    return tuple(coedge.reversed() for coedge in reversed(loop))


def prism(profile: Profile, height: float, frame: Frame | None = None, name: str = "body") -> Body:
    """A counter-clockwise profile in a frame's xy plane, carried to a height along its z."""
    frame = frame or Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    tube = _tube(frame, profile, 0.0, height, solid_inside=True)
    bottom = Face(Plane(Frame.of(frame.origin, -frame.z, frame.x)), (_turned(tube.low),))
    top = Face(Plane(Frame.of(frame.origin + height * frame.z, frame.z, frame.x)), (tube.high,))
    return Body(tuple(FaceUse(f) for f in (bottom, top, *tube.walls)), name)


def face_toward(body: Body, direction: object, through: object = None) -> Face:
    """The plane face with this outward normal; of several, the one through a point, else the farthest."""
    d = unit(np.asarray(direction, dtype=float))
    hits = [
        use.face
        for use in body.uses
        if use.face.surface.kind == "plane" and use.outward(use.face.surface.frame.origin[None])[0] @ d > 1 - 1e-9
    ]
    if through is not None:
        at = np.asarray(through, dtype=float)
        hits = [f for f in hits if abs(float(f.surface.signed_distance(at))) < 1e-6]
    if not hits:
        raise ValueError("no plane face looks that way")
    return max(hits, key=lambda f: float(f.surface.frame.origin @ d))


def _added(body: Body, changes: dict[Face, Loop], new: Sequence[Face]) -> Body:
    uses = [
        FaceUse(use.face.with_loops((*use.face.loops, changes[use.face])), use.forward) if use.face in changes else use
        for use in body.uses
    ]
    return body.with_uses((*uses, *(FaceUse(f) for f in new)))


def sink(body: Body, face: Face, frame: Frame, profile: Profile, depth: float, through: Face | None = None) -> Body:
    """A pocket or hole: the profile (in `frame`, whose z is the face's outward normal and whose
    origin lies on the face) cut to a depth, or right through to a parallel opposite face."""
    tube = _tube(frame, profile, -depth, 0.0, solid_inside=False)
    changes = {face: _turned(tube.high)}
    new = list(tube.walls)
    if through is not None:
        changes[through] = tube.low
    else:
        floor = Plane(Frame.of(frame.origin - depth * frame.z, frame.z, frame.x))
        new.append(Face(floor, (tube.low,)))
    return _added(body, changes, new)


def raised(body: Body, face: Face, frame: Frame, profile: Profile, height: float) -> Body:
    """A boss: the profile (in `frame`, as for `sink`) standing on the face."""
    tube = _tube(frame, profile, 0.0, height, solid_inside=True)
    top = Face(Plane(Frame.of(frame.origin + height * frame.z, frame.z, frame.x)), (tube.high,))
    return _added(body, {face: _turned(tube.low)}, (*tube.walls, top))
