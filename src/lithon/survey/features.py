"""Features told from the graph of faces: holes, fillets, chamfers, pockets, windows, bosses.

After Joshi & Chang (1988): faces are nodes, edges carry convex, concave or smooth. A fillet is a round
strip that runs smoothly into both neighbours; strips that go on in each other, and the corners
between them, are one chain and one feature. A hole is a stack of concave walls about one axis.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal, NamedTuple

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.analysis.adjacency import Adjacency, adjacency, as_before
from lithon.brep.charts import chart_of
from lithon.brep.copies import Copied, Copy, copy_of, handle, handles, root_of
from lithon.brep.lineage import ByFace, face_by_face
from lithon.brep.loops import flat_loop
from lithon.brep.measures import face_area, face_centroid
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Body, Edge, Face, FaceUse, Loop
from lithon.geometry.curves import Circle, Line
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tolerance import SMOOTH
from lithon.remembered import Remembered

Kind = Literal["hole", "fillet", "chamfer", "pocket", "window", "boss", "slot", "rib", "word", "thread", "teeth"]


@dataclass(frozen=True, slots=True, eq=False)
class Feature:
    """A group of faces with a meaning. size: diameter of a hole, radius of a fillet, width of a chamfer, smallest
    width of a pocket, window, boss, slot or rib, height of a word's letters, pitch of a thread; depth: how deep, high
    or long. mm."""

    kind: Kind
    body: Body
    faces: Sequence[Face]
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
        if self.kind == "chamfer":
            return f"chamfer, {self.size:.4g} mm wide, {self.depth:.4g} mm long"
        if self.kind == "window":
            return f"window, {self.size:.4g} mm wide, through {self.depth:.4g} mm"
        if self.kind == "thread":
            return f"{'outer' if self.convex else 'inner'} thread, pitch {self.size:.4g} mm, {self.depth:.4g} mm long"
        if self.kind == "word":
            return f"word, letters of {self.size:.4g} mm, {self.depth:.4g} mm {'high' if self.convex else 'deep'}"
        deep = "deep" if self.kind == "pocket" or not self.convex else "high"
        return f"{self.kind}, {self.size:.4g} mm wide, {self.depth:.4g} mm {deep}"


_features = Remembered[Body, tuple[Feature, ...]]("survey/features:features")


def features(body: Body) -> tuple[Feature, ...]:
    """All features of a body, each face in at most one of hole and fillet; cached."""
    return _features.over(body, copy_of, _found, lambda copy, there: tuple(carried(f, body, copy) for f in there))


def _found(body: Body) -> tuple[Feature, ...]:
    adj = adjacency(body)
    adj.all_angles()
    holes = _holes(adj)
    taken = {f for h in holes for f in h.faces}
    return (*holes, *_blends(adj, taken), *_islands(adj, taken))


def known_features(body: Body) -> tuple[Feature, ...] | None:
    """The features of a body, if they have been found."""
    return features(body) if root_of(body) in _features else None


def learn_features(body: Body, found: tuple[Feature, ...]) -> None:
    """Take over what another process found on the same body."""
    _features.setdefault(body, found)


def carried(f: Feature, body: Body, copy: Copy) -> Feature:
    """A feature of the body that another is a copy of, as it is in that."""
    return replace(f, body=body, faces=Copied(copy, f.faces), place=copy.points(f.place))


# ---- holes


def _holes(adj: Adjacency) -> list[Feature]:
    out: list[Feature] = []
    taken: set[Face] = set()
    narrow = sorted((u for u in adj.body.uses if isinstance(u.face.surface, Cylinder)), key=_radius)
    for use in narrow:
        if use.face in taken:
            continue
        found = as_before(adj, "hole", use.face, partial(_hole, adj, use), _faces_of)
        if found is not None:
            out.append(replace(found, body=adj.body))
            taken |= set(found.faces)
    order = {use.face: k for k, use in enumerate(adj.body.uses)}
    return sorted(out, key=lambda h: order[h.faces[0]])


def _faces_of(found: Feature | None) -> tuple[Face, ...]:
    return tuple(found.faces) if found is not None else ()


def _radius(use: FaceUse) -> float:
    assert isinstance(use.face.surface, Cylinder)
    return use.face.surface.radius


def _concave(use: FaceUse) -> bool:
    """Whether a face of revolution looks towards its axis."""
    if isinstance(use.face.surface, Cylinder):
        return use.forward != use.face.along  # a cylinder's own normal looks away from it
    point = next(use.face.edges()).at(0.5)[None]
    radial = use.face.surface.project(point) - use.face.surface.frame.origin
    radial = radial - (radial @ use.face.surface.frame.z)[:, None] * use.face.surface.frame.z
    return float(use.outward(point)[0] @ radial[0]) < 0.0


def _coaxial(face: Face, wall: Cylinder) -> bool:
    frame = face.surface.frame
    away = wall.frame.local(frame.origin)
    off = 0.0 if isinstance(face.surface, Plane) else float(np.hypot(away[0], away[1]))
    turn = 0.0 if isinstance(face.surface, Sphere) else float(np.linalg.norm(cross_product(frame.z, wall.frame.z)))
    return off <= 1e-6 * (1.0 + wall.radius) and turn <= 1e-7


def _hole(adj: Adjacency, use: FaceUse) -> Feature | None:
    """The stack of walls about a concave full cylinder, from opening to opening or floor."""
    face, wall = use.face, use.face.surface
    assert isinstance(wall, Cylinder)
    if not _concave(use) or len(face.loops) != 2 or not all(_goes_around(face, loop) for loop in face.loops):
        return None
    faces, openings, radius = [face], 0, wall.radius
    for loop in face.loops:
        here, rim = face, loop
        for _ in range(12):
            over = {adj.across(here, c.edge) for c in rim}
            if len(over) != 1:
                return None
            other = over.pop()
            back = adj.loop_of[(other, rim[0].edge)]
            if len(back) != len(rim) or {c.edge for c in back} != {c.edge for c in rim}:
                return None
            further = [x for x in other.loops if x is not back] if len(other.loops) <= 2 else []
            floor = len(other.loops) == 1 and _closes(other, wall)
            goes_on = (
                len(further) == 1
                and further[0][0].edge.ring
                and _coaxial(other, wall)
                and _is_wall(adj, adj.use_of[other], further[0], rim)
            )
            if floor or goes_on:
                faces.append(other)
            if floor:
                break
            if not goes_on and adj.turn(rim[0].edge) == "concave":
                return None  # it ends on a floor with something standing on it: a groove around that
            if not goes_on:
                openings += 1
                break
            here, rim = other, further[0]
    if openings == 0:
        return None
    p = np.concatenate([edge_points(e)[1] for f in faces for e in f.edges()])
    h = wall.frame.local(p)[:, 2]
    middle = wall.frame.origin + 0.5 * float(h.max() + h.min()) * wall.frame.z
    return Feature("hole", adj.body, tuple(faces), 2.0 * radius, float(np.ptp(h)), middle, openings == 2, convex=False)


def _goes_around(face: Face, loop: Loop) -> bool:
    curve = loop[0].edge.curve
    if loop[0].edge.ring and isinstance(curve, Circle) and isinstance(face.surface, Cylinder):
        return abs(float(curve.frame.z @ face.surface.frame.z)) > 0.5  # it lies on the wall: about it, or beside
    return flat_loop(loop, chart_of(face), face.along)[1] != 0.0


def _closes(face: Face, wall: Cylinder) -> bool:
    """A flat floor, a drill tip or a ball end."""
    return isinstance(face.surface, Plane) or (isinstance(face.surface, Cone | Sphere) and _coaxial(face, wall))


def _is_wall(adj: Adjacency, use: FaceUse, further: Loop, rim: Loop) -> bool:
    """A further wall, or the step to a wider one: entered over a convex edge, left over a concave one."""
    if isinstance(use.face.surface, Plane):
        return adj.turn(rim[0].edge) == "convex" and adj.turn(further[0].edge) == "concave"
    return isinstance(use.face.surface, Cylinder | Cone | Torus) and _concave(use)


# ---- fillets and chamfers

_strips: ByFace[tuple[float, float, bool] | None] = Remembered("survey/features:strips")
_bevels: ByFace[_Bevel | None] = Remembered("survey/features:bevels")


def _blends(adj: Adjacency, taken: set[Face]) -> list[Feature]:
    """Chains of fillet strips with their corners, and chamfers."""
    every = face_by_face(adj.body, _strips, "strip", lambda face: _strip(adj, adj.use_of[face]))
    strips = {face: found for face, found in every.items() if found is not None and face not in taken}
    out: list[Feature] = []
    left = dict.fromkeys(strips)
    while left:
        first = next(iter(left))
        chain, stack = [], [first]
        left.pop(first)
        while stack:
            face = stack.pop()
            chain.append(face)
            for other in adj.neighbours(face):
                if other in left and _alike(strips[face], strips[other]):
                    left.pop(other)
                    stack.append(other)
        radius = min(strips[f][0] for f in chain)
        place = chain[0].surface.project(face_centroid(chain[0])[None])[0]
        convex = strips[first][2]
        out.append(
            Feature("fillet", adj.body, tuple(chain), radius, sum(strips[f][1] for f in chain), place, convex=convex)
        )
    known = taken | set(strips)
    return out + _chamfers(adj, known)


def _chamfers(adj: Adjacency, known: set[Face]) -> list[Feature]:
    """Chamfers of one width that go on in each other are one, with the corners around which they do."""
    every = face_by_face(adj.body, _bevels, "chamfer", lambda face: _chamfer(adj, face))
    single: dict[Face, Feature] = {}
    corners: dict[Face, Feature] = {}
    for face, found in every.items():
        if found is not None and face not in known:
            place = face.surface.project(face_centroid(face)[None])[0]
            (single if found.long else corners)[face] = Feature(
                "chamfer", adj.body, (face,), found.width, found.length, place
            )
    out: list[Feature] = []
    while single:
        chain = [single.pop(next(iter(single)))]
        stack = [chain[0].faces[0]]
        while stack:
            face = stack.pop()
            smooth = {adj.across(face, e) for e in face.edges() if adj.turn(e) == "smooth"}
            for other in adj.neighbours(face):
                near = single if other in single else corners if other in corners and other in smooth else {}
                if other in near and abs(near[other].size - chain[0].size) <= 0.02 * chain[0].size:
                    chain.append(near.pop(other))
                    stack.append(other)
        faces = tuple(f for c in chain for f in c.faces)
        length = sum(c.depth for c in chain)
        out.append(Feature("chamfer", adj.body, faces, chain[0].size, length, chain[0].place, convex=True))
    return out


def _alike(a: tuple[float, float, bool], b: tuple[float, float, bool]) -> bool:
    return abs(a[0] - b[0]) <= 0.01 * max(a[0], b[0]) and a[2] == b[2]


def _strip(adj: Adjacency, use: FaceUse) -> tuple[float, float, bool] | None:
    """Radius, length and convexity of a face that runs smoothly into its neighbours on both sides."""
    face, s = use.face, use.face.surface
    if not isinstance(s, Cylinder | Torus | Sphere) or not face.loops:
        return None
    sides = [c.edge for loop in face.loops for c in loop if adj.turn(c.edge) == "smooth"]
    if len({adj.across(face, e) for e in sides} - {face}) < 2:
        return None
    at = next(face.edges()).at(0.5)[None]
    outer = float(use.outward(at)[0] @ s.normal(at)[0]) > 0.0
    if isinstance(s, Sphere):
        return (s.radius, 0.0, outer) if len(sides) >= 3 else None
    long = [e for e in sides if _runs_along(s, e)]
    if len({adj.across(face, e) for e in long} - {face}) < 2:
        return None
    if all(_rounder(adj.across(face, e), s) for e in long):
        return None  # what lies between two fillets is no fillet
    if _parallel([adj.across(face, e).surface for e in long]):
        return None  # a round end: without it its sides never meet
    points = np.concatenate([edge_points(e)[1] for e in long])
    if isinstance(s, Cylinder):
        if len(face.loops) != 1 or _goes_around(face, face.loops[0]):
            return None
        angle = np.ptp(chart_of(face).flat(points)[:, 0]) / s.radius
        unwrapped = np.ptp(flat_loop(face.loops[0], s, face.along)[0][:, 0]) / s.radius
        if min(float(angle), float(unwrapped)) > np.pi * 1.01:
            return None
        return s.radius, max(e.length for e in long), outer
    # Halfway around the tube at most: seen from the spine, all of the face lies on one side.
    ways = s.normal(points)
    if float(np.linalg.norm(ways.mean(axis=0))) < 1e-9 and len(long) < 2:
        return None
    return s.minor, max(e.length for e in long), outer


def _parallel(supports: list[Surface]) -> bool:
    """Whether all that a strip runs into are planes that have one direction."""
    planes = [s.frame.z for s in supports if isinstance(s, Plane)]
    return len(planes) == len(supports) and all(np.linalg.norm(cross_product(planes[0], n)) < 1e-6 for n in planes[1:])


def _rounder(face: Face, surface: Cylinder | Torus) -> bool:
    """Whether a face is of a smaller radius than a surface."""
    own = surface.radius if isinstance(surface, Cylinder) else surface.minor
    other = face.surface
    if isinstance(other, Cylinder | Sphere):
        return other.radius < own
    return isinstance(other, Torus) and other.minor < own


def _runs_along(surface: Cylinder | Torus, edge: Edge) -> bool:
    """Whether an edge follows the axis of a cylinder or the spine of a torus."""
    if isinstance(surface, Cylinder):
        return isinstance(edge.curve, Line)
    way = edge.direction(0.5)
    at = surface.frame.local(edge.at(0.5))
    around = cross_product(surface.frame.z, surface.frame.x * at[0] + surface.frame.y * at[1])
    return bool(abs(float(way @ around)) > 0.99 * np.linalg.norm(around))


class _Bevel(NamedTuple):
    """Width and length (mm); whether it is a strip, and not the corner where one goes around."""

    width: float
    length: float
    long: bool


def _chamfer(adj: Adjacency, face: Face) -> _Bevel | None:
    """A narrow plane or cone between two neighbours that it meets at 15 to 75 degrees, both convex."""
    if not isinstance(face.surface, Plane | Cone):
        return None
    ring = len(face.loops) == 2 and all(len(loop) == 1 for loop in face.loops)
    if ring:
        pairs = [(face.loops[0][0].edge, face.loops[1][0].edge)]
    elif len(face.loops) == 1 and len(face.loops[0]) == 4:
        e = [c.edge for c in face.loops[0]]
        pairs = [(e[0], e[2]), (e[1], e[3])]
    elif len(face.loops) == 1 and 4 < len(face.loops[0]) <= 6:  # it meets two others at an end
        one, two = sorted((c.edge for c in face.loops[0]), key=lambda e: -e.length)[:2]
        if {one.start, one.end} & {two.start, two.end}:
            return None
        pairs = [(one, two)]
    else:
        return None
    for a, b in pairs:
        angles = [np.degrees(adj.angle(e)) for e in (a, b)]
        others = [adj.across(face, e) for e in (a, b)]
        if not all(15.0 < x < 75.0 for x in angles) or others[0] is others[1]:
            continue
        length = 0.5 * (a.length + b.length)
        width = face_area(face) / length
        spans = [face_area(f) / length for f in others]
        # One side may be no wider than the chamfer: the end of a pin.
        if width < 0.4 * max(spans) and width < 1.1 * min(spans):
            if width < 0.5 * length:
                return _Bevel(width, length, True)
            if isinstance(face.surface, Cone) and not ring:
                return _Bevel(width, length, False)
    return None


# ---- pockets, windows and bosses


def _islands(adj: Adjacency, taken: set[Face]) -> list[Feature]:
    """What an inner loop of a plane face encloses: a pocket where the rim is convex, a boss where not; a window where
    its walls lead to another face's inner loop."""
    out: list[Feature] = []
    through: set[Face] = set()
    for use in adj.body.uses:
        face = use.face
        if not isinstance(face.surface, Plane) or len(face.loops) < 2:
            continue
        for loop in face.loops:
            if adj.across(face, loop[0].edge) in taken or adj.across(face, loop[0].edge) in through:
                continue
            way = "island ahead" if loop[0].forward else "island back"
            found = as_before(adj, way, loop[0].edge, partial(_within, adj, face, loop), _faces_of)
            if found is not None and len(found.faces) < len(adj.body.uses) - 1:
                out.append(replace(found, body=adj.body))
                through |= set(found.faces) if found.kind == "window" else set()
    return out


def _within(adj: Adjacency, face: Face, loop: Loop) -> Feature | None:
    """What a loop of a plane face encloses, if it is an inner one."""
    flat, _ = flat_loop(loop, chart_of(face), face.along)
    x, y = flat[:, 0], flat[:, 1]
    if float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) > 0.0:
        return None
    inside = _enclosed(adj, face, loop)
    return _island(adj, face, loop, inside) if inside is not None else _window(adj, face, loop)


def _window(adj: Adjacency, face: Face, loop: Loop) -> Feature | None:
    """A loop whose walls all end at one inner loop of another face, both rims convex."""
    walls = dict.fromkeys(adj.across(face, c.edge) for c in loop)
    rim = {c.edge for c in loop}
    far = [(e, other) for w in walls for e in w.edges() if e not in rim and (other := adj.across(w, e)) not in walls]
    if not far or face in walls or any(other is not far[0][1] for _, other in far):
        return None
    other, ends = far[0][1], {e for e, _ in far}
    back = adj.loop_of[(other, far[0][0])]
    if other is face or len(other.loops) < 2 or {c.edge for c in back} != ends:
        return None
    if any(adj.turn(e) != "convex" for e in (*rim, *ends)):
        return None
    found = _island(adj, face, loop, list(walls))
    return replace(found, kind="window", through=True, convex=False)


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
    return list(seen)


def _island(adj: Adjacency, face: Face, loop: Loop, inside: list[Face]) -> Feature:
    points = np.concatenate([edge_points(e)[1] for f in inside for e in f.edges()])
    rim = np.concatenate([edge_points(c.edge)[1] for c in loop])
    height = face.surface.signed_distance(points) * (1.0 if face.along == adj.use_of[face].forward else -1.0)
    depth = float(np.abs(height).max())
    flat = chart_of(face).flat(rim)
    spans = [np.ptp(flat @ [np.cos(a), np.sin(a)]) for a in np.linspace(0.0, np.pi, 36, endpoint=False)]
    turn = float(np.median([adj.angle(c.edge) for c in loop]))
    # Where the rim runs smoothly into the walls, what lies farthest off the face tells.
    pocket = turn > 0.0 if abs(turn) > SMOOTH else float(height[np.abs(height).argmax()]) < 0.0
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
    hits = [f for f in features(body) if handle(face) in handles(f.faces)]
    return min(hits, key=lambda f: len(f.faces)) if hits else None


__all__ = ["Feature", "Kind", "feature_of", "features", "known_features", "learn_features"]
