"""Two bodies cut along each other: the common refinement of their vertices, edges and faces.

Every edge is cut where it meets a face of the other body, every face along the curves where it meets
faces of the other, or along their edges where both lie on one surface. What coincides is one object
afterwards. What to keep of it is for the operations built on this (`boolean`, `imprint`).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from weakref import ref

import numpy as np

from lithon.arrange.passages import Passages
from lithon.arrange.places import Places
from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.area import area_of, clamped, off_edge
from lithon.brep.boxes import edge_boxes, face_boxes, meeting
from lithon.brep.loops import group, trace
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import Crossing
from lithon.geometry.curves import Curve
from lithon.geometry.facets import Facets
from lithon.geometry.inscribed import planes_between
from lithon.geometry.meet import closed_form, cross, meet, where_they_cross
from lithon.geometry.tips import common_tips
from lithon.progress import pulse
from lithon.remembered import Remembered


@dataclass(slots=True)
class Overlay:
    """fragments: each face's pieces (the face itself where nothing cut it). common: edges that lie on
    both bodies. twins: fragments of the second body that coincide with one of the first, and whether
    their own normals agree."""

    fragments: dict[Face, list[Face]]
    common: set[Edge]
    twins: dict[Face, tuple[Face, bool]]
    pieces: dict[Edge, list[Coedge]]
    #: Vertices of the two that gave way to one at the same place.
    alias: dict[Vertex, Vertex]

    def applied(self, body: Body) -> Body:
        """A body with its edges and faces cut as here; itself where nothing of it was cut. It may be
        any body that has edges or faces in common with the two."""
        uses: list[FaceUse] = []
        for use in body.uses:
            # Kept, so that bodies that share a face of neither share what becomes of it.
            made = self.fragments.get(use.face) or self.fragments.setdefault(use.face, [self.recut(use.face)])
            uses += [FaceUse(piece, use.forward) for piece in made]
        same = len(uses) == len(body.uses) and all(x.face is y.face for x, y in zip(uses, body.uses, strict=True))
        return body if same else body.with_uses(uses)

    def recut(self, face: Face) -> Face:
        """A face of neither body on edges that were cut, or that end where a vertex gave way to another."""
        for e in face.edges():
            if e not in self.pieces and (e.start in self.alias or e.end in self.alias):
                ends = [None if v is None else self.alias.get(v, v) for v in (e.start, e.end)]
                self.pieces[e] = [Coedge(Edge(e.curve, e.t0, e.t1, ends[0], ends[1]), True)]
        if all(self.pieces.get(e, [Coedge(e, True)])[0].edge is e for e in face.edges()):
            return face
        return face.with_loops(_walk(loop, self.pieces) for loop in face.loops)


def _walk(loop: Loop, pieces: dict[Edge, list[Coedge]]) -> Loop:
    """A loop over the pieces of its edges."""
    out: list[Coedge] = []
    for c in loop:
        run = pieces.get(c.edge, [Coedge(c.edge, True)])
        out += run if c.forward else [p.reversed() for p in reversed(run)]
    return tuple(out)


def overlay(a: Body, b: Body, tolerance: float) -> Overlay:
    """Raises Refusal where an outline does not close or an intersection has no answer. It is kept: what two bodies
    make together is asked for in several ways."""
    kept = _made.get(a)
    if kept is not None and kept[0]() is b and kept[1] == tolerance:
        return kept[2]
    made = _Arranger(a, b, tolerance).run()
    _made[a] = ref(b), tolerance, made
    return made


#: By the first body: the second, the tolerance, and what they made.
_made = Remembered[Body, tuple[ref[Body], float, Overlay]]("arrange/overlay:made")


@dataclass(slots=True)
class _Cut:
    """Where an edge is cut: parameter and vertex."""

    t: float
    vertex: Vertex


@dataclass(slots=True)
class _Arranger:
    a: Body
    b: Body
    tolerance: float
    places: Places = field(init=False)
    alias: dict[Vertex, Vertex] = field(default_factory=dict)
    cuts: dict[Edge, list[_Cut]] = field(default_factory=lambda: defaultdict(list))
    pieces: dict[Edge, list[Coedge]] = field(default_factory=dict)
    bounds: dict[Face, set[Edge]] = field(default_factory=dict)
    added: dict[Face, list[Edge]] = field(default_factory=lambda: defaultdict(list))
    #: Edges by their ends, and rings by the middle of their box.
    known: dict[tuple[int, int], list[Edge]] = field(default_factory=lambda: defaultdict(list))
    rings: Places = field(init=False)
    ring_at: dict[Vertex, Edge] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.places, self.rings = Places(self.near), Places(self.near)

    @property
    def near(self) -> float:
        """Points this close are one."""
        return 20.0 * self.tolerance

    def _vertex(self, point: Floats) -> Vertex:
        """The vertex at a point, made on first asking."""
        found = self.places.find(point)
        if found is None:
            found = vertex_at(point)
            self.places.add(found)
        return found

    def _same(self, vertex: Vertex | None) -> Vertex | None:
        if vertex is None:
            return None
        return self.alias.get(vertex, vertex)

    def run(self) -> Overlay:
        for body in (self.a, self.b):
            for v in body.vertices():
                found = self.places.find(v.point)
                if found is None:
                    self.places.add(v)
                else:
                    self.alias[v] = found
        for one, other in ((self.a, self.b), (self.b, self.a)):
            edges, faces = one.edges(), other.faces
            for i, j in self._pairs(edge_boxes(edges), faces).tolist():
                self._edge_on_face(edges[i], faces[j])
        of_a, of_b = self.a.faces, self.b.faces
        meet_there = [(of_a[i], of_b[j]) for i, j in self._pairs_of_faces().tolist()]
        for f, g in meet_there:
            self._where_conics_cross(f, g)
        self._vertices_on_edges()
        for body in (self.a, self.b):
            for edge in body.edges():
                self.pieces[edge] = self._split(edge)
        for f, g in meet_there:
            self._faces(f, g)
        on_a = {c.edge for e in self.a.edges() for c in self.pieces[e]}
        on_b = {c.edge for e in self.b.edges() for c in self.pieces[e]}
        between = {e for edges in self.added.values() for e in edges}
        fragments = {f: self._fragments(f) for f in dict.fromkeys((*self.a.faces, *self.b.faces))}
        common = (on_a & on_b) | between
        alias = {a: b for a, b in self.alias.items() if a is not b}
        return Overlay(fragments, common, self._twins(fragments), self.pieces, alias)

    # ---- which may meet at all

    def _pairs(self, boxes: Floats, faces: Sequence[Face]) -> Ints:
        """Pairs (k,2) of boxes (n,2,3) and faces that may meet."""
        pairs = meeting(boxes, face_boxes(faces), 2.0 * self.near)
        return pairs[self._reaches(boxes[pairs[:, 0]], faces, pairs[:, 1])]

    def _pairs_of_faces(self) -> Ints:
        pairs = self._pairs(face_boxes(self.a.faces), self.b.faces)
        return pairs[self._reaches(face_boxes(self.b.faces)[pairs[:, 1]], self.a.faces, pairs[:, 0])]

    def _reaches(self, boxes: Floats, faces: Sequence[Face], row: Ints) -> Bools:
        """Whether boxes (n,2,3) reach the planes of faces (n numbers); of what is not plane it is not asked."""
        flat = [f.surface.kind == "plane" for f in faces]
        normals = np.array([f.surface.frame.z if p else np.zeros(3) for f, p in zip(faces, flat, strict=True)])
        origins = np.array([f.surface.frame.origin if p else np.zeros(3) for f, p in zip(faces, flat, strict=True)])
        n = normals[row]
        off = np.abs(((boxes.mean(axis=1) - origins[row]) * n).sum(axis=1))
        return np.asarray(off <= (0.5 * (boxes[:, 1] - boxes[:, 0]) * np.abs(n)).sum(axis=1) + 2.0 * self.near)

    # ---- cutting edges

    def _edge_on_face(self, edge: Edge, face: Face) -> None:
        """Cut an edge where it meets a face, and the face's own edges where it meets those."""
        pulse()
        samples = edge.curve.point(np.linspace(edge.t0, edge.t1, 7))
        if float(np.abs(face.surface.signed_distance(samples)).max()) <= self.near:
            return  # it lies in the surface: its meetings with the face's edges come from other faces
        t = cross(edge.curve, face.surface, edge.t0, edge.t1, self.tolerance)
        if not len(t):
            return
        points = edge.curve.point(t)
        for p, where, here in zip(points, area_of(face).side(points, self.near), t.tolist(), strict=True):
            if where < 0:
                continue
            vertex = self._vertex(p)
            self._cut(edge, here, vertex)
            if where == 0:
                for other in area_of(face).edges_at(p, self.near):
                    self._cut(other, float(clamped(other, p[None])[0]), vertex)

    def _where_conics_cross(self, f: Face, g: Face) -> None:
        """Cut edges where they pass through a place at which round faces of one inscribed sphere touch: four faces meet
        there, and an edge of either may run along one of the two conics."""
        planes = planes_between(f.surface, g.surface, self.tolerance)
        if planes is None:
            return
        nodes = where_they_cross(closed_form(f.surface, g.surface, self.tolerance) or [], self.near)
        inside = (area_of(f).side(nodes, self.near) >= 0) & (area_of(g).side(nodes, self.near) >= 0)
        for p in nodes[inside]:
            vertex = self._vertex(p)
            for edge in dict.fromkeys(e for face in (f, g) for e in area_of(face).edges_at(p, self.near)):
                self._cut(edge, float(clamped(edge, p[None])[0]), vertex)

    def _cut(self, edge: Edge, t: float, vertex: Vertex) -> None:
        if vertex in (self._same(edge.start), self._same(edge.end)):
            return
        if all(c.vertex is not vertex for c in self.cuts[edge]):
            self.cuts[edge].append(_Cut(t, vertex))

    def _vertices_on_edges(self) -> None:
        """Cut edges at vertices of the other body that lie on them (coplanar faces touch like that)."""
        for one, other in ((self.a, self.b), (self.b, self.a)):
            found = [v for v in dict.fromkeys(self._same(v) for v in one.vertices()) if v is not None]
            found += [c.vertex for e in one.edges() for c in self.cuts[e]]
            found = list(dict.fromkeys(found))
            if not found:
                continue
            points = np.array([v.point for v in found])
            edges = other.edges()
            pairs = meeting(edge_boxes(edges), np.stack([points, points], axis=1), self.near)
            for run in np.split(pairs, np.flatnonzero(np.diff(pairs[:, 0])) + 1) if len(pairs) else ():
                edge, inside = edges[int(run[0, 0])], run[:, 1]
                off = off_edge(edge, points[inside])
                for k in inside[off <= self.near].tolist():
                    self._cut(edge, float(clamped(edge, points[k][None])[0]), found[k])

    def _split(self, edge: Edge) -> list[Coedge]:
        """An edge as coedges along it, between its cuts."""
        start, end = self._same(edge.start), self._same(edge.end)
        cuts = sorted(self.cuts[edge], key=lambda c: c.t)
        if not cuts and start is edge.start and end is edge.end:
            return [self._known(edge)]
        if edge.ring and cuts:
            ts = [c.t for c in cuts] + [cuts[0].t + (edge.t1 - edge.t0)]
            vs: list[Vertex | None] = [*(c.vertex for c in cuts), cuts[0].vertex]
        else:
            ts, vs = [edge.t0, *(c.t for c in cuts), edge.t1], [start, *(c.vertex for c in cuts), end]
        return [self._known(Edge(edge.curve, ts[k], ts[k + 1], vs[k], vs[k + 1])) for k in range(len(ts) - 1)]

    def _known(self, edge: Edge) -> Coedge:
        """The edge that already stands in this place, as a coedge running the same way; or itself."""
        middle = edge.at(0.5)
        for other in self._beside(edge):
            if other is edge:
                return Coedge(edge, True)
            off = edge.length * 1e-6 + self.near
            if float(off_edge(other, middle[None])[0]) > off or float(off_edge(other, edge.at(0.23)[None])[0]) > off:
                continue
            way = other.curve.derivative(clamped(other, middle[None]))[0]
            return Coedge(other, bool(way @ edge.direction(0.5) > 0.0))
        if edge.ring:
            centre = vertex_at(edge_boxes([edge])[0].mean(axis=0))
            self.rings.add(centre)
            self.ring_at[centre] = edge
        else:
            self.known[self._ends(edge)].append(edge)
        return Coedge(edge, True)

    @staticmethod
    def _ends(edge: Edge) -> tuple[int, int]:
        ends = (id(edge.start), id(edge.end))
        return min(ends), max(ends)

    def _beside(self, edge: Edge) -> list[Edge]:
        """Known edges with the same ends, or rings about the same place."""
        if not edge.ring:
            return self.known[self._ends(edge)]
        box = edge_boxes([edge])[0]
        spare = 0.01 * float(np.linalg.norm(box[1] - box[0])) + self.near
        centre = box.mean(axis=0)
        return [self.ring_at[v] for v in self.rings.within(centre - spare, centre + spare)[0]]

    # ---- cutting faces

    def _faces(self, f: Face, g: Face) -> None:
        pulse()
        if f.surface is g.surface or f.surface.same_as(g.surface, self.near, area_of(f).reach):
            self._coincident(f, g)
            self._coincident(g, f)
            return
        mine = self._boundary(f), self._boundary(g)
        curves = self._curves(f, g)
        # Where surfaces touch each other their curves cross: bores of one radius whose axes meet do so twice.
        nodes = np.concatenate([where_they_cross(curves, self.near), common_tips(f.surface, g.surface, self.near)])
        for point in nodes[(area_of(f).side(nodes, self.near) > 0) & (area_of(g).side(nodes, self.near) > 0)]:
            self._vertex(point)
        for curve in curves:
            for edge in self._stretches(curve, f, g):
                for face, own in zip((f, g), mine, strict=True):
                    if edge not in own and edge not in self.added[face]:
                        self.added[face].append(edge)

    def _boundary(self, face: Face) -> set[Edge]:
        """The edges of a face once all edges are cut."""
        if face not in self.bounds:
            self.bounds[face] = {c.edge for e in face.edges() for c in self.pieces[e]}
        return self.bounds[face]

    def _coincident(self, f: Face, g: Face) -> None:
        """Edges of g that run inside f, on the surface both share."""
        known = self._boundary(f) | set(self.added[f])
        fresh = [edge for edge in self._boundary(g) if edge not in known]
        middles = np.array([edge.at(0.5) for edge in fresh]).reshape(-1, 3)
        self.added[f] += [fresh[k] for k in np.flatnonzero(area_of(f).side(middles, self.near) > 0)]

    def _curves(self, f: Face, g: Face) -> list[Curve]:
        """The curves on which the faces' surfaces meet, as far as the faces come near them."""
        low, high = self._common_box(f, g)
        mine, theirs = Passages.of(f, g.surface, low, high), Passages.of(g, f.surface, low, high)
        seeds = np.concatenate([mine.points, theirs.points, self._passed(f, g)])
        if len(seeds):
            known = self._standing(f, g)
            near = np.vstack([seeds, low, high])
            return meet(f.surface, g.surface, self.tolerance, near, known, lambda p: self._in_both(f, g, p))
        # No triangle passes the other surface: only a touch or a shallow cut is left, between surfaces
        # that are near each other and whose meeting has a closed form.
        if min(mine.gap, theirs.gap) > 0.02 * min(area_of(f).reach, area_of(g).reach) + self.near:
            return []
        return closed_form(f.surface, g.surface, self.tolerance) or []

    def _passed(self, f: Face, g: Face) -> Floats:
        """Where edges of one face (n,3) pass through the other: also where the faces cross so little that no triangle
        of one passes the other."""
        out = [np.zeros((0, 3))]
        for one, other in ((f, g), (g, f)):
            points = np.array([c.vertex.point for e in one.edges() for c in self.cuts.get(e, ())]).reshape(-1, 3)
            if len(points):
                out.append(points[np.abs(other.surface.signed_distance(points)) <= self.near])
        return np.concatenate(out)

    def _in_both(self, f: Face, g: Face, points: Floats) -> Bools:
        """Which points on both surfaces lie in both faces, or so near beside them that a branch may come in."""
        inside = [area_of(x).side(points, 0.02 * area_of(x).reach + self.near) >= 0 for x in (f, g)]
        return np.asarray(inside[0] & inside[1])

    def _standing(self, f: Face, g: Face) -> list[Curve]:
        """The curves on which edges of one face run along the surface of the other, as they do where a body was cut at
        that surface before, and where its halves lie smoothly beside each other."""
        found: dict[Curve, None] = {}
        for one, other in ((f, g), (g, f)):
            for edge in one.edges():
                curve = edge.curve
                if isinstance(curve, Crossing) and {curve.first, curve.second} == {f.surface, g.surface}:
                    found[curve] = None
                elif curve not in found:
                    points = np.array([edge.at(share) for share in (0.11, 0.5, 0.83)])
                    if float(np.abs(other.surface.signed_distance(points)).max()) < self.near:
                        found[curve] = None
        return list(found)

    def _stretches(self, curve: Curve, f: Face, g: Face) -> list[Edge]:
        """The stretches of a curve that run through both faces, as known edges."""
        spots, points = self.places.within(*self._common_box(f, g))
        if spots and not isinstance(curve, Crossing):
            off = np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1)
            spots = [spots[k] for k in np.flatnonzero(off <= self.near)]
        out: list[Edge] = []
        for edge in cut_at(curve, self._visits(curve, spots)):
            middle = np.array([edge.at(0.5), edge.at(0.31)])
            sides = [area_of(x).side(middle, self.near) for x in (f, g)]
            if all((s >= 0).all() for s in sides):
                out.append(self._known(edge).edge)
        return out

    def _visits(self, curve: Curve, spots: list[Vertex]) -> list[tuple[float, Vertex]]:
        """Where a curve runs through vertices that lie on it, in order."""
        if not spots:
            return []
        points = np.array([v.point for v in spots])
        if isinstance(curve, Crossing):
            row, t = curve.visits(points, self.near)
        else:
            row, t = np.arange(len(spots)), curve.parameter(points)
        found = [(here, spots[k]) for k, here in zip(row.tolist(), t.tolist(), strict=True)]
        return sorted(found, key=lambda visit: visit[0])

    def _common_box(self, f: Face, g: Face) -> tuple[Floats, Floats]:
        boxes = face_boxes([f, g])
        return boxes[:, 0].max(axis=0) - self.near, boxes[:, 1].min(axis=0) + self.near

    # ---- fragments

    def _fragments(self, face: Face) -> list[Face]:
        pulse()
        added = self._without_dangling(face)
        changed = any(
            len(self.pieces[c.edge]) > 1 or self.pieces[c.edge][0].edge is not c.edge
            for loop in face.loops
            for c in loop
        )
        if not added and not changed:
            return [face]
        if isinstance(face.surface, Facets) and (
            added or any(len(self.pieces[c.edge]) > 1 for loop in face.loops for c in loop)
        ):
            raise Refusal(
                "a face made of triangles cannot be parted by what it meets",
                where=spot(face.surface.points[0]),
                remedy="make it a solid of exact faces first; united, reduced and carved by planes it can be as it is",
                entities=(face,),
            )
        loops = [_walk(loop, self.pieces) for loop in face.loops]
        if not added:
            return [face.with_loops(loops)]
        both = [Coedge(e, way) for e in added for way in (True, False)]
        made = trace([*(c for loop in loops for c in loop), *both], face.surface, face.along)
        return [face.with_loops(loops) for loops in group(made, face.surface, face.along)]

    def _without_dangling(self, face: Face) -> list[Edge]:
        """The edges added to a face that lead from boundary to boundary or around."""
        added = list(self.added[face])
        while True:
            count: dict[Vertex | None, int] = defaultdict(int)
            for e in (*added, *self._boundary(face)):
                count[e.start] += 1
                count[e.end] += 1
            kept = [e for e in added if e.ring or (count[e.start] > 1 and count[e.end] > 1)]
            if len(kept) == len(added):
                return kept
            added = kept

    def _twins(self, fragments: dict[Face, list[Face]]) -> dict[Face, tuple[Face, bool]]:
        by_edges: dict[frozenset[Edge], list[Face]] = defaultdict(list)
        for f in self.a.faces:
            for piece in fragments[f]:
                by_edges[frozenset(piece.edges())].append(piece)
        out: dict[Face, tuple[Face, bool]] = {}
        for g in self.b.faces:
            for piece in fragments[g]:
                for twin in by_edges.get(frozenset(piece.edges()), ()):
                    if not twin.surface.same_as(piece.surface, self.near, area_of(twin).reach):
                        continue
                    at = inner_point(piece)
                    if int(area_of(twin).side(twin.surface.project(at[None]), self.near)[0]) >= 0:
                        same = bool(twin.normal(at[None])[0] @ piece.normal(at[None])[0] > 0.0)
                        out[piece] = (twin, same)
        return out


def inner_point(face: Face) -> Floats:
    """A point (3,) well inside a face: on the surface over the middle of a triangle, the larger the better, or
    beside an edge. Triangles have chords for edges, so it is asked whether the true face holds it."""
    mesh = face_mesh(face)
    v = mesh.points[mesh.triangles]
    size = np.linalg.norm(cross_product(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
    order = np.argsort(-size, kind="stable")[:64]
    spots = face.surface.project(v[order].mean(axis=1))
    if face.surface.kind == "plane" and all(e.curve.kind == "line" for e in face.edges()):
        return np.asarray(spots[0])
    area = area_of(face)
    near = 1e-7 * area.reach
    for few in (1, len(spots), 0):  # what is beside edges costs more, and is seldom needed
        candidates = spots[:few] if few else _beside_edges(face)
        held = np.flatnonzero(area.side(candidates, near) > 0)
        if len(held):
            return np.asarray(candidates[held[0]])
    return np.asarray(spots[0])


def _beside_edges(face: Face) -> Floats:
    """Points (n,3) on a face's surface a little way in from its edges, the farther ones first."""
    coedges = [c for loop in face.loops for c in loop]
    out = []
    for step in (0.1, 0.03, 0.01, 3e-3, 1e-3, 3e-4, 1e-4):
        for share in (0.5, 0.3, 0.7):
            for c in coedges:
                at = c.edge.at(share)[None]
                way = c.edge.direction(share) * (1.0 if c.forward else -1.0)
                out.append(at + step * c.edge.length * cross_product(face.normal(at), way))
    return face.surface.project(np.concatenate(out)) if out else np.zeros((0, 3))


def cut_at(curve: Curve, visits: Sequence[tuple[float, Vertex]]) -> list[Edge]:
    """The stretches of a curve between vertices on it, given in order with their parameters; a whole ring where there
    are none. What runs beyond the outermost vertices of an open curve bounds nothing and is left out."""
    if not visits:
        if curve.period is None:
            return []
        low = float(getattr(curve, "low", 0.0))
        return [Edge(curve, low, low + curve.period)]
    ts, vs = [t for t, _ in visits], [v for _, v in visits]
    if curve.period is not None:
        ts, vs = [*ts, ts[0] + curve.period], [*vs, vs[0]]
    return [Edge(curve, ts[k], ts[k + 1], vs[k], vs[k + 1]) for k in range(len(ts) - 1) if ts[k + 1] > ts[k]]


__all__ = ["Overlay", "cut_at", "inner_point", "overlay"]
