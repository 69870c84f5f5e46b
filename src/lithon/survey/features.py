"""Features told from the graph of faces: holes, straight fillets, pockets, bosses.

After Joshi & Chang (1988): faces are nodes, edges carry convex, concave or smooth.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal
from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats
from lithon.brep.adjacency import Adjacency, adjacency
from lithon.brep.charts import chart_of
from lithon.brep.loops import flat_loop
from lithon.brep.measures import face_centroid
from lithon.brep.tessellate import edge_points
from lithon.brep.topology import Body, Face, FaceUse, Loop
from lithon.geometry.curves import Line
from lithon.geometry.surfaces import Cylinder, Plane

Kind = Literal["hole", "fillet", "pocket", "boss"]


@dataclass(frozen=True, slots=True, eq=False)
class Feature:
    """A group of faces with a meaning. size: diameter of a hole, radius of a fillet, smallest width of
    a pocket or boss; depth: how deep, high or long. mm."""

    kind: Kind
    body: Body
    faces: tuple[Face, ...]
    size: float
    depth: float
    place: Floats
    through: bool = False
    convex: bool = True

    def words(self) -> str:
        """'hole, diameter 11 mm, through 12 mm'"""
        if self.kind == "hole":
            return f"hole, diameter {self.size:.4g} mm, {'through' if self.through else 'blind'} {self.depth:.4g} mm"
        if self.kind == "fillet":
            return f"{'outer' if self.convex else 'inner'} fillet, radius {self.size:.4g} mm, {self.depth:.4g} mm long"
        deep = "deep" if self.kind == "pocket" else "high"
        return f"{self.kind}, {self.size:.4g} mm wide, {self.depth:.4g} mm {deep}"


_features: WeakKeyDictionary[Body, tuple[Feature, ...]] = WeakKeyDictionary()


def features(body: Body) -> tuple[Feature, ...]:
    """All features of a body, each face in at most one of hole and fillet; cached."""
    hit = _features.get(body)
    if hit is None:
        adj = adjacency(body)
        holes = [h for use in body.uses if (h := _hole(adj, use)) is not None]
        fillets = [f for use in body.uses if (f := _fillet(adj, use)) is not None]
        taken = {f for h in holes for f in h.faces}
        hit = (*holes, *fillets, *_islands(adj, taken))
        _features[body] = hit
    return hit


def _hole(adj: Adjacency, use: FaceUse) -> Feature | None:
    """A concave full cylinder between an opening and another opening or a flat floor."""
    face = use.face
    if not isinstance(face.surface, Cylinder) or _outward_radial(use) > 0.0:
        return None
    rings = [loop for loop in face.loops if flat_loop(loop, chart_of(face), face.along)[1] != 0.0]
    if len(rings) != 2 or len(face.loops) != 2:
        return None
    faces, openings = [face], 0
    for loop in rings:
        over = {adj.across(face, c.edge) for c in loop}
        if len(over) != 1:
            return None
        other = over.pop()
        edges = {c.edge for c in loop}
        alike = {c.edge for c in adj.loop_of[(other, loop[0].edge)]} == edges
        if alike and len(other.loops) == 1:
            faces.append(other)
        elif alike:
            openings += 1
        else:
            return None
    if openings == 0:
        return None
    heights = [float(face.surface.frame.local(edge_points(c.edge)[1])[:, 2].mean()) for loop in rings for c in loop]
    depth = max(heights) - min(heights)
    middle = face.surface.frame.origin + 0.5 * (max(heights) + min(heights)) * face.surface.frame.z
    return Feature(
        "hole", adj.body, tuple(faces), 2.0 * face.surface.radius, depth, middle, through=openings == 2, convex=False
    )


def _outward_radial(use: FaceUse) -> float:
    point = next(use.face.edges()).at(0.5)[None]
    return float(use.outward(point)[0] @ use.face.surface.normal(point)[0])


def _fillet(adj: Adjacency, use: FaceUse) -> Feature | None:
    """A cylinder patch that runs smoothly into a neighbour along two straight edges."""
    face = use.face
    if not isinstance(face.surface, Cylinder) or len(face.loops) != 1:
        return None
    flat, advance = flat_loop(face.loops[0], chart_of(face), face.along)
    if advance:
        return None
    straight = [c.edge for c in face.loops[0] if isinstance(c.edge.curve, Line)]
    if len(straight) != 2 or any(adj.turn(e) != "smooth" for e in straight):
        return None
    width = float(flat[:, 0].max() - flat[:, 0].min())
    if width > np.pi * face.surface.radius * 1.01:
        return None
    sides = {adj.across(face, e) for e in straight}
    if len(sides) != 2 or not all(isinstance(s.surface, Plane) for s in sides):
        return None
    place = face.surface.project(face_centroid(face)[None])[0]
    return Feature(
        "fillet",
        adj.body,
        (face,),
        face.surface.radius,
        max(e.length for e in straight),
        place,
        convex=_outward_radial(use) > 0.0,
    )


def _islands(adj: Adjacency, taken: set[Face]) -> list[Feature]:
    """What an inner loop of a plane face encloses: a pocket where the rim is convex, a boss where not."""
    out = []
    for use in adj.body.uses:
        face = use.face
        if not isinstance(face.surface, Plane) or len(face.loops) < 2:
            continue
        for loop in face.loops:
            if adj.across(face, loop[0].edge) in taken:
                continue
            flat, _ = flat_loop(loop, chart_of(face), face.along)
            x, y = flat[:, 0], flat[:, 1]
            if float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) > 0.0:
                continue
            inside = _enclosed(adj, face, loop)
            if inside is None:
                continue
            out.append(_island(adj, face, loop, inside))
    return out


def _enclosed(adj: Adjacency, face: Face, loop: Loop) -> list[Face] | None:
    """Faces reached through a loop without coming back to its face; None if they come back."""
    seen = dict.fromkeys(adj.across(face, c.edge) for c in loop)
    stack = list(seen)
    while stack:
        current = stack.pop()
        for other in adj.neighbours(current):
            if other is face:
                own = {c.edge for c in loop}
                if any(adj.across(current, e) is face and e not in own for e in current.edges()):
                    return None
                continue
            if other not in seen:
                seen[other] = None
                stack.append(other)
    return None if len(seen) >= len(adj.body.uses) - 1 else list(seen)


def _island(adj: Adjacency, face: Face, loop: Loop, inside: list[Face]) -> Feature:
    points = np.concatenate([edge_points(e)[1] for f in inside for e in f.edges()])
    rim = np.concatenate([edge_points(c.edge)[1] for c in loop])
    depth = float(np.abs(face.surface.signed_distance(points)).max())
    flat = chart_of(face).flat(rim)
    spans = [np.ptp(flat @ [np.cos(a), np.sin(a)]) for a in np.linspace(0.0, np.pi, 36, endpoint=False)]
    turns = [adj.angle(c.edge) for c in loop]
    pocket = float(np.median(turns)) > 0.0
    return Feature(
        "pocket" if pocket else "boss",
        adj.body,
        tuple(inside),
        float(min(spans)),
        depth,
        np.asarray(points.mean(axis=0)),
        convex=not pocket,
    )


def feature_of(body: Body, face: Face) -> Feature | None:
    """The smallest feature that a face belongs to."""
    hits = [f for f in features(body) if face in f.faces]
    return min(hits, key=lambda f: len(f.faces)) if hits else None


__all__ = ["Feature", "Kind", "feature_of", "features"]
