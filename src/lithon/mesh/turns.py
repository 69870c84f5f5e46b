"""Bodies of revolution all the way round: rings about one axis, and between them faces that a turn carries along
themselves.

In a half-plane through the axis such a body shows its profile: every ring is a corner of it, every face a side. The
profile is meshed like the end of a sweep and carried around until it meets itself. Where it reaches the axis a core
is parted from it first (`cores.py`).
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, Loop, Vertex, backwards, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Revolution, profile_range
from lithon.mesh.cores import Cap, Core, Pole, across, cut_at, pairs, room, share_of

_ON = 1e-6  # mm, and radians, within which things share an axis


def zero_direction(way: Floats) -> Floats:
    """The unit direction across an axis at which all rings about it begin; the same for both senses."""
    least = np.eye(3)[int(np.argmin(np.abs(np.round(way, 9))))]
    across = least - float(least @ way) * way
    return np.asarray(across / np.linalg.norm(across))


@dataclass(slots=True)
class Sides:
    """Corners and sides of profiles, by the ring and the face they stand for: bodies that share a face share them.
    So they do caps, the lower one of a face being its first."""

    corners: dict[Edge, Vertex] = field(default_factory=dict)
    sides: dict[Face, Edge] = field(default_factory=dict)
    caps: dict[tuple[Face, int], Cap] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, eq=False)
class Turn:
    """A body that is one profile carried around an axis, and the cores about it. `around` stands for every circle
    that it goes along."""

    body: Body
    frame: Frame
    profile: Face
    around: Edge
    rings: tuple[Edge, ...]
    cores: tuple[Core, ...]

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
        if isinstance(face.surface, Torus) and (len(face.loops) == 1 or face.surface.minor >= face.surface.major):
            raise Refusal(
                f"a torus face of {body.name} reaches the axis",
                where=spot(face.surface.frame.origin),
                remedy="carve out the core with a cylinder around the axis",
                entities=(face,),
            )
    for ring in rings:
        if ring not in known.corners:
            height = float((ring.curve.frame.origin - frame.origin) @ frame.z)  # type: ignore[attr-defined]
            known.corners[ring] = vertex_at(frame.world(np.array([[ring.curve.radius, 0.0, height]]))[0])  # type: ignore[attr-defined]
    cores = _cores(body, frame, known)
    loops = _loops([*(known.sides[f] for f in body.faces), *(core.inner for core in cores)], frame)
    plane = Plane(Frame.of(frame.origin, -frame.y, frame.x))
    profile = Face(plane, loops)
    reach = max(
        float(frame.local(e.at(s)[None])[0, 0]) for f in body.faces for e in (known.sides[f],) for s in (0.0, 0.5)
    )
    around = Edge(Circle.about(frame, reach), 0.0, 2.0 * np.pi)
    return Turn(body, frame, profile, around, rings, cores)


def _cores(body: Body, axis: Frame, known: Sides) -> tuple[Core, ...]:
    """What lies about the axis; the sides of the faces, without it, are added to `known`."""
    whole = {face: _side(face, axis, known) for face in body.faces}
    poles = [pole for face, side in whole.items() for pole in _poles(face, side, axis)]
    rest = dict(whole)
    cores = []
    for ends in pairs(poles, body.name):
        others = [side for face, side in whole.items() if all(face is not end.face for end in ends)]
        free = room(ends, others, axis)
        caps = []
        for end in ends:
            key = end.face, int(end.reversed and not end.face.loops)
            if key not in known.caps:
                known.caps[key], rest[end.face] = cut_at(replace(end, side=rest[end.face]), share_of(free), axis)
            at = axis.local(known.caps[key].rim.point[None])[0]
            if float(np.hypot(at[0], at[1])) > 0.95 * free:
                raise Refusal(
                    f"the core of {body.name} would not fit into its neighbour's", where=spot(end.side.at(0.5)),
                    remedy="carve out the core with a cylinder around the axis", entities=(end.face,),
                )  # fmt: skip
            caps.append(known.caps[key])
        cores.append(across(caps[0], caps[1]))
    for face, side in rest.items():
        known.sides.setdefault(face, side)
    return tuple(cores)


def _poles(face: Face, side: Edge, axis: Frame) -> list[Pole]:
    """Where the axis passes through a face."""
    if isinstance(face.surface, Torus) or len(face.loops) > 1:
        return []
    local = axis.local(np.array([side.at(0.0), side.at(1.0)]))
    found = [(local[0], False), (local[1], True)]
    return [Pole(face, float(p[2]), side, back) for p, back in found if np.hypot(p[0], p[1]) < _ON]


def _axis(body: Body) -> Frame:
    """The axis as z, the half-plane of the profile through x; the same for all bodies about this axis."""
    for face in body.faces:
        if isinstance(face.surface, Cylinder | Cone | Torus | Revolution):
            frame = face.surface.frame
            break
    else:
        frames = [e.curve.frame for e in body.edges() if isinstance(e.curve, Circle)]
        frames += [face.surface.frame for face in body.faces if isinstance(face.surface, Sphere)]
        if not frames:
            raise Refusal(f"{body.name} has no axis")
        frame = frames[0]
    way = np.asarray(frame.z)
    way = way if way[int(np.argmax(np.abs(np.round(way, 9))))] > 0.0 else -way
    return Frame.of(frame.origin - float(frame.origin @ way) * way, way, zero_direction(way))


def _turns(face: Face, axis: Frame) -> bool:
    """Whether a turn carries a face's surface along itself."""
    s = face.surface
    if isinstance(s, Plane):
        return abs(float(s.frame.z @ axis.z)) > 1.0 - 1e-9
    if not isinstance(s, Cylinder | Cone | Torus | Sphere | Revolution):
        return False
    local = axis.local(s.frame.origin[None])[0]
    on_axis = float(np.hypot(local[0], local[1])) < _ON
    if isinstance(s, Revolution) and not _in_half_plane(s, axis):
        return False
    return on_axis and (isinstance(s, Sphere) or abs(float(s.frame.z @ axis.z)) > 1.0 - 1e-9)


def _in_half_plane(s: Revolution, axis: Frame) -> bool:
    """Whether the profile lies in one half-plane through the axis: it is the face's side then, but for a turn."""
    p = axis.local(s.profile.point(np.linspace(*profile_range(s.profile), 33)))
    far = np.hypot(p[:, 0], p[:, 1])
    lead = p[int(far.argmax()), :2] / far.max()
    off = np.abs(p[:, 0] * lead[1] - p[:, 1] * lead[0])
    return bool(off.max() < 1e-6 and (p[:, :2] @ lead).min() > -1e-6)


def _side(face: Face, axis: Frame, known: Sides) -> Edge:
    """What a face shows in the half-plane: a line or an arc between two corners, or a whole circle. Where it reaches
    the axis its end there is a vertex of its own."""
    ends = [known.corners[e] for e in face.edges()]
    s = face.surface
    if not isinstance(s, Torus):
        ends += [vertex_at(p) for p in _tips(face, axis)]
    if isinstance(s, Revolution):
        return _meridian(s, axis, ends, face)
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
    if isinstance(s, Sphere):  # a half circle at most, from one end up to the other
        low, high = (0, 1) if a0 < a1 else (1, 0)
        return Edge(circle, float(min(a0, a1)), float(max(a0, a1)), ends[low], ends[high])
    span = float((a1 - a0) % (2.0 * np.pi))
    inside = ((angle(face_mesh(face).points) - a0) % (2.0 * np.pi)) < span
    if inside.mean() > 0.5:
        return Edge(circle, float(a0), float(a0) + span, ends[0], ends[1])
    return Edge(circle, float(a1), float(a1) + 2.0 * np.pi - span, ends[1], ends[0])


def _meridian(s: Revolution, axis: Frame, ends: list[Vertex], face: Face) -> Edge:
    """The profile of a revolved face, turned into the half-plane, between two ends."""
    p = axis.local(s.profile.point(np.linspace(*profile_range(s.profile), 33)))
    far = p[int(np.hypot(p[:, 0], p[:, 1]).argmax())]
    c, d = far[:2] / np.hypot(far[0], far[1])
    axes = np.array([axis.x, axis.y, axis.z])
    motion = np.eye(4)
    motion[:3, :3] = axes.T @ np.array([[c, d, 0.0], [-d, c, 0.0], [0.0, 0.0, 1.0]]) @ axes
    motion[:3, 3] = axis.origin - motion[:3, :3] @ axis.origin
    curve = s.profile.moved(motion)
    if not ends:
        return Edge(curve, *profile_range(s.profile))
    t = curve.parameter(np.array([v.point for v in ends]))
    first, last = (0, 1) if t[0] < t[1] else (1, 0)
    t0, t1 = float(t[first]), float(t[last])
    if curve.period is not None:
        local = axis.local(face_mesh(face).points)
        flat = axis.world(np.stack([np.hypot(local[:, 0], local[:, 1]), np.zeros(len(local)), local[:, 2]], axis=1))
        at = np.mod(curve.parameter(flat) - t0, curve.period)
        if (at < t1 - t0).mean() < 0.5:  # the other way round
            first, last, t0, t1 = last, first, t1, t0 + curve.period
    return Edge(curve, t0, t1, ends[first], ends[last])


def _tips(face: Face, axis: Frame) -> list[Floats]:
    """The points of the axis on a face, the lower first."""
    s = face.surface
    if len(face.loops) > 1:
        return []
    height = float((s.frame.origin - axis.origin) @ axis.z)
    if isinstance(s, Plane):
        heights = [height]
    elif isinstance(s, Cone):
        heights = [height - s.radius / np.tan(s.angle) * float(s.frame.z @ axis.z)]
    elif isinstance(s, Sphere):
        heights = [height - s.radius, height + s.radius]
        if face.loops:
            ring = float((next(iter(face.edges())).curve.frame.origin - axis.origin) @ axis.z)  # type: ignore[attr-defined]
            above = axis.local(face_mesh(face).points)[:, 2].mean() > ring
            heights = heights[1:] if above else heights[:1]
    elif isinstance(s, Revolution):
        points = face_mesh(face).points
        there = [p.point for p in s.poles() if float(np.linalg.norm(points - p.point, axis=1).min()) < 1e-6]
        heights = sorted(float((p - axis.origin) @ axis.z) for p in there)
    else:
        heights = []
    return [axis.world(np.array([[0.0, 0.0, h]]))[0] for h in heights]


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
