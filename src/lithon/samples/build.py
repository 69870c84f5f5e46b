"""Building solids from flat profiles: prisms, and what is sunk into or raised from a plane face.

The walls follow a section: a path of straight and round pieces in (offset from the profile, height),
so that chamfers, fillets, counterbores, countersinks and drill tips are built exactly, without any
intersection. The samples and the tests are built with this.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.geometry.curves import TURN, Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.spindle import skin_at
from lithon.geometry.surfaces import Cylinder, Plane, Surface

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
class Section:
    """A path in (offset, height): pieces as of a profile, and where the last one ends. Offsets count
    away from the profile's inside."""

    pieces: tuple[Piece, ...]
    end: Point2

    @staticmethod
    def through(*points: Point2) -> Section:
        """Straight pieces from point to point."""
        return Section(tuple(Piece(p) for p in points[:-1]), points[-1])

    @property
    def points(self) -> Floats:
        return np.array([*(p.start for p in self.pieces), self.end], dtype=float)


def straight(low: float, high: float) -> Section:
    return Section.through((0.0, low), (0.0, high))


def rounded_top(low: float, high: float, radius: float) -> Section:
    """Up, and over an outer fillet to the inside."""
    return Section((Piece((0.0, low)), Piece((0.0, high - radius), (-radius, high - radius))), (-radius, high))


def rounded_floor(low: float, high: float, radius: float) -> Section:
    """From a floor through an inner fillet up along the wall of a pocket."""
    return Section((Piece((-radius, low), (-radius, low + radius)), Piece((0.0, low + radius))), (0.0, high))


def rounded_root(low: float, high: float, radius: float) -> Section:
    """From the ground around a boss through an inner fillet up along its wall."""
    return Section((Piece((radius, low), (radius, low + radius), ccw=False), Piece((0.0, low + radius))), (0.0, high))


_NOTHING = 1e-9


@dataclass(frozen=True, slots=True)
class _Tube:
    low: Loop
    high: Loop
    walls: tuple[Face, ...]


def _tube(frame: Frame, profile: Profile, section: Section, solid_inside: bool) -> _Tube:
    """Walls over a counter-clockwise profile in a frame's xy plane; the loops run with the profile.
    Wall normals point away from the material."""
    if isinstance(profile, Round):
        return _round_tube(frame, profile, section, solid_inside)
    n, levels = len(profile), section.points
    way = [_Side.of(profile, k) for k in range(n)]
    out = [_outward(way[k - 1], way[k], np.array(profile[k].start, dtype=float)) for k in range(n)]
    corner: list[list[Vertex]] = []
    for d, z in levels:
        row = [Vertex(frozen(_lift(frame, out[k].at(d), z))) for k in range(n)]
        for k in range(n):  # an arc that shrinks to nothing joins its two corners
            if way[k].gone(d):
                row[(k + 1) % n] = row[k]
        corner.append(row)
    posts = [[_post(frame, out[k], section, j, corner[j][k], corner[j + 1][k]) for k in range(n)]
             for j in range(len(levels) - 1)]  # fmt: skip
    for j in range(len(levels) - 1):
        for k in range(n):
            if way[k].gone(levels[j, 0]) and way[k].gone(levels[j + 1, 0]):
                posts[j][(k + 1) % n] = posts[j][k]
    rims = [[_rim(frame, way[k], d, z, corner[j][k], corner[j][(k + 1) % n]) for k in range(n)]
            for j, (d, z) in enumerate(levels)]  # fmt: skip
    walls = []
    for j in range(len(levels) - 1):
        for k in range(n):
            low, high = rims[j][k], rims[j + 1][k]
            parts = [low, posts[j][(k + 1) % n], high.reversed() if high else None, posts[j][k].reversed()]
            loop: Loop = tuple(c for c in parts if c is not None)
            if low is None and high is None:
                continue
            surface, seen = _wall(frame, way[k], section, j)
            along = bool(seen == solid_inside)
            walls.append(Face(surface, (loop if solid_inside else _turned(loop),), along=along))
    ends = [tuple(c for c in rims[j] if c is not None) for j in (0, -1)]
    return _Tube(ends[0], ends[1], tuple(walls))


def _lift(frame: Frame, p: Floats, z: float) -> Floats:
    return frame.world(np.array([p[0], p[1], z]))


@dataclass(frozen=True, slots=True)
class _Side:
    """One piece of a profile with its end: the geometry at any offset."""

    start: Floats
    end: Floats
    centre: Floats | None
    ccw: bool

    @staticmethod
    def of(profile: Sequence[Piece], k: int) -> _Side:
        piece, end = profile[k], np.array(profile[(k + 1) % len(profile)].start, dtype=float)
        centre = None if piece.centre is None else np.array(piece.centre, dtype=float)
        return _Side(np.array(piece.start, dtype=float), end, centre, piece.ccw)

    def normal(self, p: Floats) -> Floats:
        """Away from the profile's inside, at one of its points."""
        if self.centre is None:
            d = unit(self.end - self.start)
            return np.array([d[1], -d[0]])
        return unit(p - self.centre) * (1.0 if self.ccw else -1.0)

    def radius(self, offset: float) -> float:
        assert self.centre is not None
        return float(np.linalg.norm(self.start - self.centre)) + (offset if self.ccw else -offset)

    def gone(self, offset: float) -> bool:
        return self.centre is not None and self.radius(offset) <= _NOTHING


@dataclass(frozen=True, slots=True)
class _Corner:
    """A corner of a profile and how it moves with the offset; smooth where both sides agree."""

    point: Floats
    way: Floats
    smooth: bool

    def at(self, offset: float) -> Floats:
        if offset and not np.isfinite(self.way).all():
            raise ValueError("a sharp corner beside an arc cannot be offset")
        return np.asarray(self.point + offset * self.way) if offset else self.point


def _outward(before: _Side, after: _Side, point: Floats) -> _Corner:
    a, b = before.normal(point), after.normal(point)
    if float(a @ b) > 1.0 - 1e-9:
        return _Corner(point, a, True)
    straight_both = before.centre is None and after.centre is None
    return _Corner(point, (a + b) / (1.0 + float(a @ b)) if straight_both else np.full(2, np.nan), False)


def _post(frame: Frame, corner: _Corner, section: Section, j: int, a: Vertex, b: Vertex) -> Coedge:
    piece, end = section.pieces[j], section.points[j + 1]
    if piece.centre is None:
        return Coedge(Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b), True)
    if not corner.smooth:
        raise ValueError("a round section needs a profile without sharp corners")
    out = frame.world(np.array([*corner.way, 0.0])) - frame.origin
    centre = _lift(frame, corner.at(piece.centre[0]), piece.centre[1])
    circle_frame = Frame.of(centre, cross_product(out, frame.z), out)
    start = np.array(piece.start) - piece.centre
    return _arc(circle_frame, start, end - np.array(piece.centre), piece.ccw, a, b)


def _arc(frame: Frame, start: Floats, stop: Floats, ccw: bool, a: Vertex, b: Vertex) -> Coedge:
    """An arc about the frame's origin from one direction (2,) to another, in the frame's xy."""
    circle = Circle.about(frame, float(np.hypot(*start)))
    t0, t1 = float(np.arctan2(start[1], start[0])), float(np.arctan2(stop[1], stop[0]))
    if ccw:
        return Coedge(Edge(circle, t0, t1 + (TURN if t1 <= t0 else 0.0), a, b), True)
    return Coedge(Edge(circle, t1, t0 + (TURN if t0 <= t1 else 0.0), b, a), False)


def _rim(frame: Frame, side: _Side, d: float, z: float, a: Vertex, b: Vertex) -> Coedge | None:
    if side.centre is None:
        return Coedge(Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b), True)
    if side.gone(d):
        return None
    about = Frame.of(_lift(frame, side.centre, z), frame.z, frame.x)
    r = side.radius(d)
    start, stop = (unit(p - side.centre) * r for p in (side.start, side.end))
    return _arc(about, start, stop, side.ccw, a, b)


def _wall(frame: Frame, side: _Side, section: Section, j: int) -> tuple[Surface, bool]:
    """The surface over one side and one piece of the section, and whether its normal is the section's:
    the right of its travel, seen with the offset to the right and the height up."""
    (d0, z0), (d1, z1) = section.points[j], section.points[j + 1]
    piece = section.pieces[j]
    if side.centre is None:
        n2 = side.normal(side.start)
        n = frame.world(np.array([*n2, 0.0])) - frame.origin
        along = frame.world(np.array([*(side.end - side.start), 0.0])) - frame.origin
        if piece.centre is None:
            return Plane.of(_lift(frame, side.start + d0 * n2, z0), (z1 - z0) * n - (d1 - d0) * frame.z, along), True
        centre = _lift(frame, side.start + piece.centre[0] * n2, piece.centre[1])
        return Cylinder.of(centre, along, float(np.hypot(d0 - piece.centre[0], z0 - piece.centre[1]))), piece.ccw
    axis = frame.world(np.array([*side.centre, 0.0]))
    return _turned_wall(frame, axis, side.radius(d0), side.radius(d1), side.ccw, piece, (z0, z1), section, j, side)


def _turned_wall(
    frame: Frame, axis: Floats, r0: float, r1: float, convex: bool, piece: Piece, z: tuple[float, float],
    section: Section, j: int, side: _Side | Round,
) -> tuple[Surface, bool]:  # fmt: skip
    """A wall of revolution between two radii."""
    (d0, _), (d1, _) = section.points[j], section.points[j + 1]
    low = axis + z[0] * frame.z
    if piece.centre is None:
        if abs(d1 - d0) <= _NOTHING:
            return Cylinder(Frame.of(low, frame.z, frame.x), r0), (z[1] > z[0]) == convex
        if abs(z[1] - z[0]) <= _NOTHING:
            return Plane.of(low, -(d1 - d0) * frame.z, frame.x), True
        angle = float(np.arctan2(r1 - r0, z[1] - z[0])) if z[1] > z[0] else float(np.arctan2(r0 - r1, z[0] - z[1]))
        big, at = (r0, low) if r0 >= r1 else (r1, axis + z[1] * frame.z)
        return Cone.of(at, frame.z, big, angle, frame.x), (z[1] > z[0]) == convex
    spine = side.radius(piece.centre[0]) if isinstance(side, _Side) else side.radius + piece.centre[0]
    minor = float(np.hypot(d0 - piece.centre[0], section.points[j][1] - piece.centre[1]))
    about = Frame.of(axis + piece.centre[1] * frame.z, frame.z, frame.x)
    if abs(spine) <= _NOTHING:
        return Sphere(about, minor), piece.ccw
    torus = Torus(about, spine, minor)
    if abs(spine) > minor + _NOTHING:
        return torus, piece.ccw
    # The tube crosses the axis: the wall lies on one of its two skins.
    centre = np.array([spine, piece.centre[1]])
    middle = centre + minor * unit(np.array([r0, z[0]]) + np.array([r1, z[1]]) - 2.0 * centre)
    skin, same = skin_at(torus, axis + middle[0] * frame.x + middle[1] * frame.z)
    return skin, piece.ccw == same


def _round_tube(frame: Frame, profile: Round, section: Section, solid_inside: bool) -> _Tube:
    axis = frame.world(np.array([*profile.centre, 0.0]))
    levels = section.points
    rings: list[Coedge | None] = []
    for d, z in levels:
        r = profile.radius + d
        about = Frame.of(axis + z * frame.z, frame.z, frame.x)
        rings.append(Coedge(Edge(Circle.about(about, r), 0.0, TURN), True) if r > _NOTHING else None)
    walls = []
    for j, piece in enumerate(section.pieces):
        (d0, z0), (d1, z1) = levels[j], levels[j + 1]
        surface, seen = _turned_wall(
            frame, axis, profile.radius + d0, profile.radius + d1, True, piece, (z0, z1), section, j, profile
        )
        low, high = rings[j], rings[j + 1]
        loops: list[Loop] = [(low,)] if low is not None else []
        loops += [(high.reversed(),)] if high is not None else []
        if not solid_inside:
            loops = [_turned(loop) for loop in loops]
        walls.append(Face(surface, tuple(loops), along=seen == solid_inside))
    ends: list[Loop] = [(c,) if c is not None else () for c in (rings[0], rings[-1])]
    return _Tube(ends[0], ends[1], tuple(walls))


def revolved(points: Sequence[Piece], frame: Frame, name: str = "body") -> Body:
    """A closed profile in (distance from the axis, height), counter-clockwise, turned once around the
    frame's z. Pieces along the axis itself bound nothing."""
    ends = [p.start for p in points]
    n = len(points)
    on_axis = [e[0] <= _NOTHING for e in ends]
    # Begin where the profile leaves the axis.
    start = next((k for k in range(n) if on_axis[k] and (points[k].centre or not on_axis[(k + 1) % n])), None)
    order = [points[(k + (start or 0)) % len(points)] for k in range(len(points))]
    if start is not None and order[-1].start[0] <= _NOTHING:
        section = Section(tuple(order[:-1]), order[-1].start)
    else:
        section = Section(tuple(order), order[0].start)
    tube = _round_tube(frame, Round((0.0, 0.0), 0.0), section, solid_inside=True)
    walls = list(tube.walls)
    if start is None:  # the path closes: its last ring is its first
        first, last = tube.low[0].edge, tube.high[0].edge
        walls[-1] = walls[-1].with_loops(
            tuple(Coedge(first, c.forward) if c.edge is last else c for c in loop) for loop in walls[-1].loops
        )
    return Body(tuple(FaceUse(w) for w in walls), name)


def _turned(loop: Loop) -> Loop:
    return tuple(coedge.reversed() for coedge in reversed(loop))


def prism(
    profile: Profile, height: float, frame: Frame | None = None, name: str = "body", section: Section | None = None
) -> Body:
    """A counter-clockwise profile in a frame's xy plane, carried to a height along its z."""
    frame = frame or Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    section = section or straight(0.0, height)
    tube = _tube(frame, profile, section, solid_inside=True)
    z0, z1 = section.points[0, 1], section.points[-1, 1]
    bottom = Face(Plane(Frame.of(frame.origin + z0 * frame.z, -frame.z, frame.x)), (_turned(tube.low),))
    top = Face(Plane(Frame.of(frame.origin + z1 * frame.z, frame.z, frame.x)), (tube.high,))
    return Body(tuple(FaceUse(f) for f in (bottom, top, *tube.walls)), name)


def polyhedron(points: Floats, sides: Sequence[Sequence[int]], name: str = "body") -> Body:
    """A solid of plane sides: points (n,3) and, for each side, the numbers of its corners, counter-clockwise as seen
    from outside."""
    corners = [Vertex(frozen(p)) for p in np.asarray(points, dtype=float)]
    edges: dict[tuple[int, int], Edge] = {}
    faces = []
    for side in sides:
        loop = []
        for a, b in zip(side, [*side[1:], side[0]], strict=True):
            key = (min(a, b), max(a, b))
            if key not in edges:
                low, high = corners[key[0]], corners[key[1]]
                line = Line.through(low.point, high.point)
                edges[key] = Edge(line, 0.0, float(np.linalg.norm(high.point - low.point)), low, high)
            loop.append(Coedge(edges[key], a < b))
        p = np.array([corners[k].point for k in side])
        normal = cross_product(p, np.roll(p, -1, axis=0)).sum(axis=0)
        faces.append(Face(Plane(Frame.of(p[0], normal, p[1] - p[0])), (tuple(loop),)))
    return Body(tuple(FaceUse(f) for f in faces), name)


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


def sink(
    body: Body, face: Face, frame: Frame, profile: Profile, depth: float, through: Face | None = None,
    section: Section | None = None,
) -> Body:  # fmt: skip
    """A pocket or hole: the profile (in `frame`, whose z is the face's outward normal and whose
    origin lies on the face) cut to a depth, or right through to a parallel opposite face. A section
    runs from the bottom up to height 0; one that starts on its own axis needs no floor."""
    section = section or straight(-depth, 0.0)
    tube = _tube(frame, profile, section, solid_inside=False)
    changes = {face: _turned(tube.high)}
    new = list(tube.walls)
    if through is not None:
        changes[through] = tube.low
    elif tube.low:
        floor = Plane(Frame.of(frame.origin + section.points[0, 1] * frame.z, frame.z, frame.x))
        new.append(Face(floor, (tube.low,)))
    return _added(body, changes, new)


def raised(
    body: Body, face: Face, frame: Frame, profile: Profile, height: float, section: Section | None = None
) -> Body:
    """A boss: the profile (in `frame`, as for `sink`) standing on the face."""
    section = section or straight(0.0, height)
    tube = _tube(frame, profile, section, solid_inside=True)
    top = Face(Plane(Frame.of(frame.origin + section.points[-1, 1] * frame.z, frame.z, frame.x)), (tube.high,))
    return _added(body, {face: _turned(tube.low)}, (*tube.walls, top))


def flanged(body: Body, face: Face, frame: Frame, profile: Round, thickness: float) -> Body:
    """A round plate laid on a plane face (whose outward normal is the frame's z) and reaching beyond it."""
    tube = _tube(frame, profile, straight(0.0, thickness), solid_inside=True)
    below = Face(Plane(Frame.of(frame.origin, -frame.z, frame.x)), (_turned(tube.low), *face.loops))
    above = Face(Plane(Frame.of(frame.origin + thickness * frame.z, frame.z, frame.x)), (tube.high,))
    kept = [use for use in body.uses if use.face is not face]
    return body.with_uses((*kept, *(FaceUse(f) for f in (below, *tube.walls, above))))
