"""How edges are divided: once, so that the faces on both sides use the same points.

Each point along an edge has a key of its own, by which faces' triangles are joined.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats, Ints, evenly
from lithon.brep.copies import origin_of
from lithon.brep.topology import Edge, Vertex
from lithon.geometry.batch import CurveBatch
from lithon.geometry.curves import Ellipse, Line
from lithon.geometry.splines import BSplineCurve
from lithon.remembered import Remembered

#: Largest turn between neighbouring triangles along a curve.
ANGLE = np.radians(10.0)
#: Largest distance of a chord from its arc, as a share of the arc's radius bounds the rest.
CHORD = 1.0
_edges = Remembered[Edge, tuple[Ints, Floats]]("brep/tessellation/division:edges")
_vertices = Remembered[Vertex, int]("brep/tessellation/division:vertices")
_next_key = [0]
_closer = [0]


def fresh_keys(n: int) -> Ints:
    first = _next_key[0]
    _next_key[0] += n
    return np.arange(first, first + n, dtype=np.int64)


def _vertex_key(vertex: Vertex) -> int:
    if vertex not in _vertices:
        _vertices[vertex] = int(fresh_keys(1)[0])
    return _vertices[vertex]


def _pieces(edge: Edge) -> int:
    """Into how many pieces an edge is divided; a bent one is never its own chord, which may be an edge too."""
    n = edge.curve.pieces(edge.t0, edge.t1, CHORD, ANGLE)
    return n if isinstance(edge.curve, Line) else max(n, 8 if edge.ring else 2)


def edge_points(edge: Edge) -> tuple[Ints, Floats]:
    """Keys (n,) and points (n,3) along an edge; a ring's first point is not repeated."""
    hit = _edges.get(edge)
    if hit is not None:
        return hit
    origin = origin_of(edge)
    if origin is not None:
        take_edge(edge, origin[0].points(edge_points(origin[1])[1]))
        return _edges[edge]
    n = _pieces(edge)
    t = np.linspace(edge.t0, edge.t1, n + 1)
    if isinstance(edge.curve, BSplineCurve) and edge.curve.degree == 1:
        t = edge.curve.corners(edge.t0, edge.t1)
        n = len(t) - 1
    _edges[edge] = _named(edge, edge.curve.point(t))
    return _edges[edge]


def _named(edge: Edge, points: Floats) -> tuple[Ints, Floats]:
    """Keys for points (n,3) from end to end of an edge, which start and end at its vertices."""
    if edge.ring:
        return fresh_keys(len(points) - 1), points[:-1].copy()
    assert edge.start is not None and edge.end is not None
    points = points.copy()
    points[0], points[-1] = edge.start.point, edge.end.point
    return np.concatenate([[_vertex_key(edge.start)], fresh_keys(len(points) - 2), [_vertex_key(edge.end)]]), points


def divide_edges(edges: Iterable[Edge]) -> None:
    """The points of many edges together: what a body as a whole needs."""
    wanted = [e for e in _edges.missing(edges) if isinstance(e.curve, Line | Ellipse) and origin_of(e) is None]
    if len(wanted) < 4:
        return
    pieces = np.array([_pieces(e) for e in wanted])
    t = evenly(np.array([e.t0 for e in wanted]), np.array([e.t1 for e in wanted]), pieces)
    count = pieces + 1
    every = CurveBatch.of([e.curve for e in wanted]).points(np.repeat(np.arange(len(wanted)), count), t)
    for edge, points in zip(wanted, np.split(every, np.cumsum(count)[:-1]), strict=True):
        _edges[edge] = _named(edge, points)


#: How often an edge is divided into twice as many pieces as its bend asks for.
_HALVINGS = 4


def divide_closer(edges: Iterable[Edge], a: Floats, b: Floats) -> list[Edge]:
    """Divide those of some edges into twice as many pieces whose arcs stray from their chords as far as a segment a-b
    (3,) is from these, so that one may cross the other where the arcs do not; and return them. What was drawn on them
    has to be drawn again."""
    spots = a + np.linspace(0.0, 1.0, 33)[:, None] * (b - a)
    closer = []
    for edge in edges:
        if isinstance(edge.curve, Line) or origin_of(edge) is not None:
            continue
        own = edge_points(edge)[1]
        n = len(own) if edge.ring else len(own) - 1
        t = np.linspace(edge.t0, edge.t1, n + 1)
        p = edge.curve.point(t)
        even = np.allclose(p[1:-1], own[1:] if edge.ring else own[1:-1], rtol=0.0, atol=1e-9)
        if n >= _pieces(edge) << _HALVINGS or not even:
            continue  # or divided elsewhere, where it has to stay so
        way = np.diff(p, axis=0)
        stray = np.linalg.norm(edge.curve.point(0.5 * (t[1:] + t[:-1])) - 0.5 * (p[1:] + p[:-1]), axis=1)
        off = spots[:, None] - p[:-1]
        share = np.clip((off * way).sum(axis=2) / np.maximum((way * way).sum(axis=1), 1e-300), 0.0, 1.0)
        away = np.linalg.norm(off - share[..., None] * way, axis=2).min(axis=0)
        if (away <= 3.0 * stray).any():
            _edges[edge] = _named(edge, edge.curve.point(np.linspace(edge.t0, edge.t1, 2 * n + 1)))
            closer.append(edge)
    if closer:
        _closer[0] += 1
        made_from = {edge: origin for edge in list(_edges) if (origin := origin_of(edge)) is not None}
        copies = [edge for edge, origin in made_from.items() if origin[1] in closer]
        for edge in copies:
            del _edges[edge]
        closer += copies
    return closer


def times_closer() -> int:
    """How often edges have been divided closer so far."""
    return _closer[0]


def known_edges(edges: Iterable[Edge]) -> dict[Edge, Ints]:
    """The keys along those of the edges that have been divided."""
    return {edge: _edges[edge][0] for edge in edges if edge in _edges}


def take_edge(edge: Edge, points: Floats) -> Ints:
    """Take over how an edge was divided elsewhere, points (n,3) as `edge_points` gives them; its keys (n,) here."""
    _edges[edge] = _named(edge, np.vstack([points, points[:1]]) if edge.ring else points)
    return _edges[edge][0]
