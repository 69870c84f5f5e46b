"""Faces hardly wider than the tolerance are closed like a zip: their two long sides become one edge, their short
sides a vertex. Nothing is extended, and nothing moves by more than what is called the same place anyway."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Collection, Iterable

import numpy as np
import scipy

from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.analysis.openings import samples
from lithon.brep.area import off_edge
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.errors import Refusal, spot

#: An edge as the pieces that take its place, in its own direction; none where it shrinks to a vertex.
Pieces = list[Coedge]


def collapsed(body: Body, faces: Collection[Face], reach: float, edges: Collection[Edge] = ()) -> Body:
    """The body without these faces, whose sides come to lie on each other, and without these edges, each of which
    becomes a vertex. reach: how far (mm) sides, and ends, may be apart.

    Raises Refusal where a face is wider than that.
    """
    adj = adjacency(body)
    thin = set(faces)
    rim = list(dict.fromkeys([*(e for face in faces for e in face.edges()), *edges]))
    to = _joined_vertices(rim, adj, reach)
    pieces = _joined_edges({edge: _cut(edge, to, reach) for edge in rim}, adj, thin, reach)
    for vertex, other in to.items():
        for edge in adj.at_vertex[vertex] if other is not vertex else ():
            if edge not in pieces:
                start, end = (to.get(v, v) if v is not None else None for v in (edge.start, edge.end))
                pieces[edge] = [Coedge(Edge(edge.curve, edge.t0, edge.t1, start, end), True)]
    uses: list[FaceUse] = []
    for use in body.uses:
        face = use.face
        if not any(edge in pieces for edge in face.edges()):
            uses.append(use)
            continue
        loops = [made for loop in face.loops if (made := _walked(loop, pieces))]
        if face in thin and loops:
            raise Refusal("a face is too wide to be closed by joining its sides", where=spot(loops[0][0].edge.at(0.5)))
        if face not in thin and len(loops) < len(face.loops):
            raise Refusal("a face beside it would lose its outline", where=spot(next(face.edges()).at(0.5)))
        if loops:
            uses.append(FaceUse(face.with_loops(loops), use.forward))
    return body.with_uses(uses)


def _joined_vertices(rim: Iterable[Edge], adj: Adjacency, reach: float) -> dict[Vertex, Vertex]:
    """Every vertex of these edges with the one that takes its place: of those within reach, where most edges end."""
    ends = list(dict.fromkeys(v for edge in rim for v in (edge.start, edge.end) if v is not None))
    if not ends:
        return {}
    pairs = scipy.spatial.cKDTree([v.point for v in ends]).query_pairs(reach, output_type="ndarray")
    shape = (len(ends), len(ends))
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=shape)
    _, group = scipy.sparse.csgraph.connected_components(graph, directed=False)
    members: dict[int, list[Vertex]] = defaultdict(list)
    for vertex, k in zip(ends, group.tolist(), strict=True):
        members[k].append(vertex)
    return {v: max(all_, key=lambda x: len(adj.at_vertex[x])) for all_ in members.values() for v in all_}


def _cut(edge: Edge, to: dict[Vertex, Vertex], reach: float) -> Pieces:
    """An edge between the vertices that remain, cut at those of them that lie on it."""
    kept = [v for v in dict.fromkeys(to.values()) if v not in (to.get(end) for end in (edge.start, edge.end) if end)]
    off = off_edge(edge, np.array([v.point for v in kept])) if kept else np.zeros(0)
    on = [v for v, d in zip(kept, off.tolist(), strict=True) if d <= reach]
    if edge.start is None or edge.end is None:
        return [Coedge(edge, True)]  # a ring that others end on has no thin face beside it
    start, end = to[edge.start], to[edge.end]
    if start is end and not on and edge.length <= 4.0 * reach:
        return []
    if start is edge.start and end is edge.end and not on:
        return [Coedge(edge, True)]
    t = edge.curve.parameter(np.array([v.point for v in on])) if on else np.zeros(0)
    if edge.curve.period is not None:
        t = edge.t0 + np.mod(t - edge.t0, edge.curve.period)
    stops = [(edge.t0, start), *sorted(zip(t.tolist(), on, strict=True), key=lambda s: s[0]), (edge.t1, end)]
    return [Coedge(Edge(edge.curve, a, b, v, w), True) for (a, v), (b, w) in itertools.pairwise(stops)]


def _joined_edges(cut: dict[Edge, Pieces], adj: Adjacency, thin: set[Face], reach: float) -> dict[Edge, Pieces]:
    """Pieces that run together become one: the one that lies best on the faces that stay."""
    beside: dict[Edge, list[Face]] = {}
    by_ends: dict[frozenset[Vertex | None], list[list[Edge]]] = defaultdict(list)
    for edge, parts in cut.items():
        for part in parts:
            beside[part.edge] = [use.face for use, _ in adj.uses[edge] if use.face not in thin]
            here = samples(part.edge)
            for group in by_ends[frozenset((part.edge.start, part.edge.end))]:
                if off_edge(group[0], here).max() <= reach and off_edge(part.edge, samples(group[0])).max() <= reach:
                    group.append(part.edge)
                    break
            else:
                by_ends[frozenset((part.edge.start, part.edge.end))].append([part.edge])
    one: dict[Edge, Coedge] = {}
    for groups in by_ends.values():
        for group in groups:
            faces = [f for e in group for f in beside[e]]
            best = min(group, key=lambda e: _stand_off(e, faces))
            for e in group:
                middle = e.at(0.5)
                t = best.curve.parameter(middle[None])
                one[e] = Coedge(best, bool(best.curve.derivative(t)[0] @ e.direction(0.5) > 0.0))
    return {
        edge: [one[part.edge] for part in parts]
        for edge, parts in cut.items()
        if not (len(parts) == 1 and one[parts[0].edge].edge is edge)
    }


def _stand_off(edge: Edge, faces: list[Face]) -> float:
    return max((float(np.abs(f.surface.signed_distance(samples(edge))).max()) for f in faces), default=0.0)


def _walked(loop: Loop, pieces: dict[Edge, Pieces]) -> Loop:
    """A loop over the pieces, without what it walks there and back at once."""
    out: list[Coedge] = []
    for c in loop:
        parts = pieces.get(c.edge, [Coedge(c.edge, True)])
        for part in parts if c.forward else reversed(parts):
            step = Coedge(part.edge, part.forward == c.forward)
            if out and out[-1].edge is step.edge and out[-1].forward != step.forward:
                out.pop()
            else:
                out.append(step)
    while len(out) > 1 and out[0].edge is out[-1].edge and out[0].forward != out[-1].forward:
        out = out[1:-1]
    return tuple(out)
