"""Blends of constant radius, rolled anew: where the ball lies that touches their supports, and what it sweeps.

The ball's centre keeps its radius from each support, so that it runs where the supports' offsets meet: along a line it
sweeps a cylinder, along a circle a torus; between three supports it rests and is a sphere (Rossignac & Requicha 1984).
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Circle, Line
from lithon.geometry.frames import Frame
from lithon.geometry.meet import meet
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Surface


def blend_radius(face: Face) -> float | None:
    """The radius of the ball that a face may have been swept by."""
    s = face.surface
    if isinstance(s, Cylinder | Sphere):
        return s.radius
    return s.minor if isinstance(s, Torus) else None


def supports(adj: Adjacency, face: Face) -> list[Face]:
    """The faces that a blend runs between: those that it meets smoothly along its run; of a corner between three runs,
    the supports of those. Empty where it is no blend."""
    radius = blend_radius(face)
    if radius is None:
        return []
    out: dict[Face, None] = {}
    for edge in dict.fromkeys(face.edges()):
        if len(adj.uses[edge]) != 2 or adj.turn(edge) != "smooth":
            continue
        other = adj.across(face, edge)
        if not _section(edge, face, other):
            out[other] = None
        elif isinstance(face.surface, Sphere):
            out |= dict.fromkeys(f for f in supports_of_run(adj, other) if f is not face)
    return list(out)


def supports_of_run(adj: Adjacency, face: Face) -> list[Face]:
    """As `supports`, of a run alone."""
    return [] if isinstance(face.surface, Sphere) else supports(adj, face)


def _section(edge: Edge, face: Face, other: Face) -> bool:
    """Whether an edge is where one blend goes over into the next: an arc of the ball's own radius."""
    a, b = blend_radius(face), blend_radius(other)
    if a is None or b is None or abs(a - b) > 1e-6 * a or not isinstance(edge.curve, Circle):
        return False
    return abs(edge.curve.major - a) <= 1e-6 * a


def _centre(face: Face, near: Floats) -> Floats:
    """Where the ball of a blend lay when it was at a place (3,)."""
    s = face.surface
    if isinstance(s, Cylinder):
        return np.asarray(s.frame.origin + float((near - s.frame.origin) @ s.frame.z) * s.frame.z)
    if isinstance(s, Torus):
        return np.asarray(near + s.minor * -s.normal(s.project(near[None]))[0])
    return np.asarray(s.frame.origin)


def between(
    face: Face, on: Sequence[tuple[Surface, Surface]], radius: float, near: Floats, tolerance: float
) -> Surface:
    """The blend that a face becomes. on: each support's surface as it was and as it is now; near: a point (3,) of the
    face. Raises Refusal where the ball finds no place, or sweeps neither cylinder, torus nor sphere."""
    centre = _centre(face, near)
    shells = []
    for old, new in on:
        side = float(old.signed_distance(centre[None])[0])
        try:
            shells.append(new.offset(float(np.copysign(radius, side))))
        except ValueError as error:
            raise Refusal("the round is too large for the face beside it", where=spot(near),
                          remedy="take a smaller radius") from error  # fmt: skip
    if len(shells) >= 3:
        p, off = onto_all(shells, centre[None])
        if off[0] > 20.0 * tolerance:
            raise Refusal("a ball of this radius does not touch all faces at a corner", where=spot(near))
        return Sphere(Frame.of(p[0], face.surface.frame.z, face.surface.frame.x), radius)
    if len(shells) != 2:
        raise Refusal("a round without a face on each side cannot be rolled", where=spot(near))
    there, _ = onto_all(shells, centre[None])
    best: tuple[float, Surface] | None = None
    for curve in meet(shells[0], shells[1], tolerance, there):
        made: Surface | None = None
        if isinstance(curve, Line):
            made = Cylinder(Frame.of(curve.origin, curve.direction), radius)
        elif isinstance(curve, Circle):
            made = Torus(curve.frame, curve.major, radius)
        away = float(np.linalg.norm(curve.point(curve.parameter(there)) - there))
        if made is not None and (best is None or away < best[0]):
            best = away, made
    if best is None:
        raise Refusal("the round between these faces would be neither cylinder nor torus", where=spot(near),
                      remedy="clear the round first")  # fmt: skip
    return best[1]


def rolled(adj: Adjacency, new: Mapping[Face, Surface], tolerance: float) -> dict[Face, Surface]:
    """The blends beside faces that lie on other surfaces now, each as it lies between its supports."""
    out: dict[Face, Surface] = {}
    for face in adj.use_of:
        if face in new or blend_radius(face) is None:
            continue
        found = supports(adj, face)
        if len(found) >= 2 and any(f in new for f in found):
            out[face] = _again(face, found, new, blend_radius(face) or 0.0, tolerance)
    return out


def rolled_to(adj: Adjacency, faces: Collection[Face], radius: float, tolerance: float) -> dict[Face, Surface]:
    """Blends with another radius between the supports that they have. Raises Refusal where one is no blend."""
    out = {}
    for face in faces:
        found = supports(adj, face)
        if len(found) < 2:
            raise Refusal("what is chosen is no round between two faces", where=spot(next(face.edges()).at(0.5)),
                          remedy="choose a round, a hole or a boss", entities=(face,))  # fmt: skip
        out[face] = _again(face, found, {}, radius, tolerance)
    return out


def _again(face: Face, found: Sequence[Face], new: Mapping[Face, Surface], radius: float, tolerance: float) -> Surface:
    near = np.mean([e.at(0.5) for e in face.edges()], axis=0)
    near = face.surface.project(near[None])[0]
    return between(face, [(f.surface, new.get(f, f.surface)) for f in found], radius, near, tolerance)
