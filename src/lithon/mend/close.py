"""A face that is missing is made again: on a plane, on a cylinder or cone between two arcs about one axis, or on a
surface that the body has there already."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import Opening, openings, samples
from lithon.brep.gate import worse
from lithon.brep.loops import group
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle
from lithon.geometry.rounds import Cone
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import pulse


def openings_beside(body: Body, faces: Sequence[Face]) -> list[Opening]:
    """The openings that these faces are all around."""
    chosen, adj = set(faces), adjacency(body)
    return [o for o in openings(body) if all(use.face in chosen for e in o.edges for use, _ in adj.uses[e])]


def closed_over(body: Body, faces: Sequence[Face], tolerance: float) -> Body:
    """The body with a new face over each opening that the chosen faces are around. Edges do not move.

    Raises Refusal where no plane and no surface of the body passes through an opening's edges.
    """
    wanted = [o for o in openings_beside(body, faces) if o.gap is None]
    if not wanted:
        raise Refusal("these faces have no opening between them", remedy="choose all faces around the opening",
                      entities=tuple(faces))  # fmt: skip
    out = body
    for opening in wanted:
        if any(e in _open_edges(out) for e in opening.edges):  # it may have been a hole in a face made before
            out = _closed_one(out, opening, tolerance)
    return out


def _open_edges(body: Body) -> dict[Edge, Coedge]:
    """Open edges as a face on the other side walks them."""
    return {
        edge: Coedge(edge, c.forward != use.forward)
        for edge, ((use, c), *more) in adjacency(body).uses.items()
        if not more
    }


def _closed_one(body: Body, opening: Opening, tolerance: float) -> Body:
    free = _open_edges(body)
    for surface in _candidates(body, opening, free, tolerance):
        pulse()
        near = [
            c for c in free.values() if float(np.abs(surface.signed_distance(samples(c.edge))).max()) < 10.0 * tolerance
        ]
        loops = walks(near)
        for along in (True, False):
            try:
                made = group(loops, surface, along)
            except (Refusal, ValueError):
                continue
            new = [Face(surface, own, along) for own in made if any(c.edge in opening.edges for x in own for c in x)]
            if not new or any(_bad(face) for face in new):
                continue
            out = body.with_uses([*body.uses, *(FaceUse(face) for face in new)])
            if any(e in _open_edges(out) for e in opening.edges):
                continue
            if not worse(out, [body], tolerance):
                return out
    raise Refusal(
        "no plane, cylinder or cone and no surface of this body passes through the edges of the opening",
        where=spot(opening.middle),
        remedy="sew its edges, or drop what hangs loose there",
    )  # fmt: skip


def _bad(face: Face) -> bool:
    try:
        return face_mesh(face).trouble != ""
    except Refusal:
        return True


def _candidates(body: Body, opening: Opening, free: dict[Edge, Coedge], tolerance: float) -> Iterator[Surface]:
    """A plane through the edges, what turns from one arc to another, and whatever the body's faces lie on; each passes
    through all edges of the opening."""
    points = np.concatenate([samples(e) for e in opening.edges])
    middle = points.mean(axis=0)
    _, size, ways = np.linalg.svd(points - middle)
    flat = [Plane.of(middle, ways[2])] if len(size) > 1 and size[1] > 1e-9 * size[0] else []
    beside = {use.face.surface for e in opening.edges for use, _ in adjacency(body).uses[e]}
    # A lid that only went on as the face around it would hide a bore: its wall is tried first there.
    lid = any(s.kind == "plane" and float(np.abs(s.signed_distance(points)).max()) < 10.0 * tolerance for s in beside)
    round_ones = list(_between_arcs(opening, free))
    for surface in (*round_ones, *flat) if lid else (*flat, *round_ones):
        yield from _if_near(surface, points, tolerance)
    for surface in dict.fromkeys(face.surface for face in body.faces):
        if surface.kind != "plane":
            yield from _if_near(surface, points, tolerance)


def _between_arcs(opening: Opening, free: dict[Edge, Coedge]) -> Iterator[Surface]:
    """Cylinders and cones on which an arc of the opening and another open one, about the same axis, lie."""
    arcs = [e.curve for e in free if isinstance(e.curve, Circle)]
    for a in [e.curve for e in opening.edges if isinstance(e.curve, Circle)]:
        for b in arcs:
            there = a.frame.local(b.frame.origin[None])[0]
            level = abs(float(a.frame.z @ b.frame.z)) > 1.0 - 1e-9
            if b is a or not level or np.hypot(there[0], there[1]) > 1e-6 or abs(there[2]) < 1e-6:
                continue
            if abs(a.radius - b.radius) < 1e-6:
                yield Cylinder(a.frame, a.radius)
                continue
            low, high = sorted((a, b), key=lambda c: c.radius)
            rise = float((high.frame.origin - low.frame.origin) @ a.frame.z)
            angle = float(np.arctan2(high.radius - low.radius, abs(rise)))
            yield Cone.of(high.frame.origin, a.frame.z * np.sign(rise), high.radius, angle)


def _if_near(surface: Surface, points: Floats, tolerance: float) -> Iterator[Surface]:
    if float(np.abs(surface.signed_distance(points)).max()) < 10.0 * tolerance:
        yield surface


def walks(free: list[Coedge]) -> list[Loop]:
    """Coedges in loops; chains that do not come back to their start are left out."""
    left = dict.fromkeys(free)
    out: list[Loop] = []
    while left:
        first = next(iter(left))
        del left[first]
        walk = [first]
        while not first.edge.ring and walk[-1].last is not first.first:
            following = next((c for c in left if c.first is walk[-1].last), None)
            if following is None:
                break
            del left[following]
            walk.append(following)
        if first.edge.ring or walk[-1].last is first.first:
            out.append(tuple(walk))
    return out
