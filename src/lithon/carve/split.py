"""Splitting bodies at a plane.

Edges are cut where they cross, faces along the section curves between those points, and each side
is closed by a cap whose outline is whatever edges the side's faces leave open. Both halves are
whole in themselves; sharing the cut is Bond's work.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import numpy as np
import shapely

from lithon.arrays import Floats, Ints
from lithon.brep.domain import flat_domain
from lithon.brep.loops import group, trace
from lithon.brep.rewrite import rewrite
from lithon.brep.shells import solids
from lithon.brep.tessellate import edge_points
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex, vertex_at
from lithon.brep.validate import check
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve
from lithon.geometry.frames import Frame
from lithon.geometry.meet import cross, meet
from lithon.geometry.surfaces import Plane
from lithon.progress import SILENT, Progress


def split(model: Model, bodies: Sequence[Body], plane: Plane, progress: Progress = SILENT) -> Model:
    """The model with these bodies cut at a plane, pieces named after the body and a letter.

    Raises Refusal where the plane misses all of them, or a cut face is shared with a body that is
    not cut.
    """
    cut_any = False
    out = model
    for k, body in enumerate(bodies):
        progress.tell(k / len(bodies), f"cutting {body.name}")
        pieces = split_body(body, plane, model.tolerance)
        if len(pieces) < 2:
            continue
        kept = {f for piece in pieces for f in piece.faces}
        for face in body.faces:
            if face not in kept and len(model.owners(face)) > 1:
                raise Refusal(
                    f"a face of {body.name} that is bonded to another body would be cut",
                    where=spot(face_place(face)),
                    remedy="carve first and bond afterwards",
                    entities=(face,),
                )
        cut_any = True
        out = out.replaced(body, pieces)
    if not cut_any:
        raise Refusal(
            "the plane does not pass through any of these bodies",
            where=spot(plane.frame.origin),
            remedy="move the plane, or choose other bodies",
        )
    return out


def face_place(face: Face) -> Floats:
    return np.asarray(next(face.edges()).at(0.5))


def split_body(body: Body, plane: Plane, tolerance: float) -> list[Body]:
    """The pieces of a body, positive side first; the body alone where the plane does not pass through."""
    parts = _cut_edges(body, plane, tolerance)
    sides = {side for pieces in parts.values() for _, side in pieces}
    if not {1, -1} <= sides:
        return [body]
    uses: dict[int, list[FaceUse]] = {1: [], -1: []}
    for use in body.uses:
        for side, faces in _cut_face(use, plane, parts, tolerance).items():
            uses[side] += [FaceUse(face, use.forward) for face in faces]
    pieces: list[Body] = []
    for side in (1, -1):
        closed = uses[side] + _caps(uses[side], plane, side, tolerance)
        for shell in solids(closed):
            pieces.append(Body(tuple(shell), body.name))
    pieces = [_own_cut(p, plane, tolerance) if _side_of(p, plane) < 0 else p for p in pieces]
    named = [Body(p.uses, f"{body.name} {chr(ord('A') + k)}") for k, p in enumerate(pieces)]
    return [check(p, tolerance) for p in named]


_Parts = dict[Edge, list[tuple[Edge, int]]]


def _side(plane: Plane, point: Floats, tolerance: float) -> int:
    d = float(plane.signed_distance(point))
    return 0 if abs(d) <= tolerance else (1 if d > 0.0 else -1)


def _cut_edges(body: Body, plane: Plane, tolerance: float) -> _Parts:
    """Each edge as its stretches in order, with the side of each; an uncut edge is itself."""
    out: _Parts = {}
    for edge in body.edges():
        samples = plane.signed_distance(edge.curve.point(np.linspace(edge.t0, edge.t1, 9)))
        if np.abs(samples).max() <= tolerance:
            out[edge] = [(edge, 0)]
            continue
        t = cross(edge.curve, plane, edge.t0, edge.t1, tolerance)
        if edge.ring:
            t = _crossings(edge, plane, np.unique(np.mod(t - edge.t0, edge.t1 - edge.t0)) + edge.t0)
        else:
            ends = edge.curve.point(np.array([edge.t0, edge.t1]))
            p = edge.curve.point(t) if len(t) else np.zeros((0, 3))
            apart = [min(np.linalg.norm(q - ends[0]), np.linalg.norm(q - ends[1])) > 2.0 * tolerance for q in p]
            t = _crossings(edge, plane, t[np.array(apart, dtype=bool)] if len(t) else t)
        if not len(t):
            middle = samples[np.abs(samples).argmax()]
            out[edge] = [(edge, 1 if middle > 0.0 else -1)]
            continue
        cuts = [vertex_at(p) for p in edge.curve.point(t)]
        if edge.ring:
            period = edge.t1 - edge.t0
            ts = [*t, t[0] + period]
            vs: list[Vertex | None] = [*cuts, cuts[0]]
        else:
            ts = [edge.t0, *t, edge.t1]
            vs = [edge.start, *cuts, edge.end]
        stretches = []
        for k in range(len(ts) - 1):
            piece = Edge(edge.curve, float(ts[k]), float(ts[k + 1]), vs[k], vs[k + 1])
            stretches.append((piece, 1 if float(plane.signed_distance(piece.at(0.5))) > 0.0 else -1))
        out[edge] = stretches
    return out


def _crossings(edge: Edge, plane: Plane, t: Floats) -> Floats:
    """Of the meeting parameters, those where the edge really changes sides (not mere touches)."""
    if not len(t):
        return t
    if edge.ring:
        marks = np.append(t, t[0] + edge.t1 - edge.t0)
        middle = 0.5 * (marks[1:] + marks[:-1])
        sign = np.sign(plane.signed_distance(edge.curve.point(middle)))
        return t[sign != np.roll(sign, 1)]
    marks = np.concatenate([[edge.t0], t, [edge.t1]])
    sign = np.sign(plane.signed_distance(edge.curve.point(0.5 * (marks[1:] + marks[:-1]))))
    return t[sign[1:] != sign[:-1]]


def _cut_face(use: FaceUse, plane: Plane, parts: _Parts, tolerance: float) -> dict[int, list[Face]]:
    """The face's pieces by side; the face itself where it lies on one side."""
    face = use.face
    normal = plane.frame.z
    if face.surface.same_as(plane, tolerance, 1e3):
        outward = use.outward(face_place(face)[None])[0]
        return {-1 if float(outward @ normal) > 0.0 else 1: [face]}
    pieces: list[tuple[Coedge, int]] = []
    for loop in face.loops:
        for c in loop:
            stretches = parts[c.edge] if c.forward else parts[c.edge][::-1]
            pieces += [(Coedge(e, c.forward), side) for e, side in stretches]
    sides = {side for _, side in pieces} - {0}
    untouched = all(parts[e][0][0] is e for e in face.edges())
    if len(sides) == 1:
        (only,) = sides
        if untouched:
            return {only: [face]}
    sections = _sections(face, plane, pieces, tolerance) if len(sides) == 2 else []
    out: dict[int, list[Face]] = {}
    for side in sides:
        coedges = [c for c, s in pieces if s == side or (s == 0 and _leans(face, c, normal) == side)]
        coedges += [c if _leans(face, c, normal) == side else c.reversed() for c in sections]
        loops = trace(coedges, face.surface, face.along)
        out[side] = [face.with_loops(g) for g in group(loops, face.surface, face.along)]
    return out


def _leans(face: Face, c: Coedge, normal: Floats) -> int:
    """On which side of the plane the face lies beside a coedge in the plane."""
    at = c.edge.at(0.5)
    tangent = c.edge.direction(0.5) * (1.0 if c.forward else -1.0)
    return 1 if float(np.cross(face.normal(at[None])[0], tangent) @ normal) > 0.0 else -1


def _sections(face: Face, plane: Plane, pieces: list[tuple[Coedge, int]], tolerance: float) -> list[Coedge]:
    """New edges across a face, along where its surface meets the plane."""
    ends = {v for c, _ in pieces for v in (c.first, c.last) if v is not None}
    on_plane = [v for v in ends if _side(plane, v.point, 2.0 * tolerance) == 0]
    domain = flat_domain(face, edge_points)
    shape = _shape(domain.flat, domain.segments)
    shapely.prepare(shape)
    already = [c.edge for c, side in pieces if side == 0]
    out: list[Coedge] = []
    for curve in meet(face.surface, plane, tolerance):
        here = [v for v in on_plane if _off(curve, v.point) <= 20.0 * tolerance]
        for edge in _stretches(curve, here):
            middle = edge.at(0.5)
            if any(_off_edge(e, middle) <= 20.0 * tolerance for e in already):
                continue
            if _inside(face, shape, domain.mirror, middle):
                out.append(Coedge(edge, True))
    return out


def _stretches(curve: Curve, here: list[Vertex]) -> list[Edge]:
    """The edges of a curve between neighbouring vertices on it; a ring where there are none."""
    if not here:
        return [Edge(curve, 0.0, curve.period)] if curve.period is not None else []
    t = curve.parameter(np.stack([v.point for v in here]))
    order = np.argsort(t)
    ts, vs = [float(t[k]) for k in order], [here[k] for k in order]
    if curve.period is not None:
        ts, vs = [*ts, ts[0] + curve.period], [*vs, vs[0]]
    return [Edge(curve, ts[k], ts[k + 1], vs[k], vs[k + 1]) for k in range(len(ts) - 1) if ts[k + 1] > ts[k]]


def _off(curve: Curve, point: Floats) -> float:
    return float(np.linalg.norm(curve.point(curve.parameter(point[None]))[0] - point))


def _off_edge(edge: Edge, point: Floats) -> float:
    t = float(edge.curve.parameter(point[None])[0])
    if edge.curve.period is not None:
        t = edge.t0 + np.mod(t - edge.t0, edge.curve.period)
    if not edge.t0 <= t <= edge.t1:
        return float("inf")
    return float(np.linalg.norm(edge.curve.point(np.array([t]))[0] - point))


def _shape(flat: Floats, segments: Ints) -> shapely.Polygon:
    rings, start = [], 0
    seg = segments
    for k in range(len(seg)):
        if seg[k, 1] == seg[start, 0]:
            rings.append(flat[seg[start : k + 1, 0]])
            start = k + 1
    return shapely.Polygon(rings[0], rings[1:])


def _inside(face: Face, shape: shapely.Polygon, mirror: float, point: Floats) -> bool:
    u, v = face.surface.flat(point[None])[0]
    period = face.surface.flat_period
    shifts = (0.0,) if period is None else (0.0, period, -period, 2.0 * period, -2.0 * period)
    return any(bool(shapely.contains_xy(shape, mirror * u + s, v)) for s in shifts)


def _caps(uses: list[FaceUse], plane: Plane, side: int, tolerance: float) -> list[FaceUse]:
    """Faces in the plane that close one side, outlined by the edges used only once."""
    count: dict[Edge, list[Coedge]] = defaultdict(list)
    for use in uses:
        for loop in use.face.loops:
            for c in loop:
                count[c.edge].append(c if use.forward else c.reversed())
    rim = [c[0].reversed() for c in count.values() if len(c) == 1]
    if not rim:
        return []
    frame = plane.frame
    surface = Plane(Frame.of(frame.origin, -side * frame.z, frame.x))
    for c in rim:
        if abs(float(surface.signed_distance(c.edge.at(0.37)))) > 20.0 * tolerance:
            raise Refusal("the cut leaves an opening off the plane", where=spot(c.edge.at(0.37)))
    loops = trace(rim, surface, True)
    return [FaceUse(Face(surface, g, label="cut")) for g in group(loops, surface, True)]


def _side_of(body: Body, plane: Plane) -> float:
    points = np.concatenate([edge_points(e)[1] for e in body.edges()])
    return float(plane.signed_distance(points).mean())


def _own_cut(body: Body, plane: Plane, tolerance: float) -> Body:
    """Its own copies of all vertices and edges in the plane, so that the halves stand apart."""
    vertices = {v: Vertex(v.point) for v in body.vertices() if _side(plane, v.point, 2.0 * tolerance) == 0}
    edges = {
        e: (Edge(e.curve, e.t0, e.t1), True)
        for e in body.edges()
        if e.ring and float(np.abs(plane.signed_distance(edge_points(e)[1])).max()) <= 2.0 * tolerance
    }
    return rewrite(body, vertices, edges)
