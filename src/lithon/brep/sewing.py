"""Sewing: edges that lie on each other become one, and faces that then hang together are turned alike."""

from __future__ import annotations

import contextlib
import itertools
from collections import defaultdict
from collections.abc import Iterator

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.charts import chart_for
from lithon.brep.loops import flat_loop, signed_area
from lithon.brep.measures import face_area, uses_volume
from lithon.brep.proto import ProtoEdge, ProtoFaces
from lithon.brep.shells import connected
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse, Loop, backwards
from lithon.errors import Refusal

_SHARES = np.linspace(0.0, 1.0, 9)


def sew(proto: ProtoFaces, tolerance: float) -> float:
    """Vertices within `tolerance` (mm) become one, edges are cut where others end on them, and edges that then run
    together become one edge. Returns the largest distance over which anything was joined (mm)."""
    moved = _join_vertices(proto, tolerance)
    # A curve closed at a vertex is a ring, wherever on it the files have put that.
    proto.seam_ends |= {e.start for e in proto.edges.values() if e.start is not None and e.start == e.end}
    _cut_at_ends(proto, tolerance)
    return max(moved, _join_edges(proto, tolerance))


def _join_vertices(proto: ProtoFaces, tolerance: float) -> float:
    numbers = list(proto.points)
    if not numbers:
        return 0.0
    points = np.array([proto.points[n] for n in numbers])
    pairs = scipy.spatial.cKDTree(points).query_pairs(tolerance, output_type="ndarray")
    n = len(points)
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    _, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    _, first, size = np.unique(label, return_index=True, return_counts=True)
    middle = np.stack([np.bincount(label, points[:, c]) for c in range(3)], axis=1) / size[:, None]
    to = {numbers[k]: numbers[int(first[label[k]])] for k in range(n)}
    for k, number in enumerate(numbers):
        if to[number] == number and size[label[k]] > 1:
            proto.points[number] = middle[label[k]]
    for edge in proto.edges.values():
        edge.start = None if edge.start is None else to[edge.start]
        edge.end = None if edge.end is None else to[edge.end]
    return float(np.linalg.norm(points - middle[label], axis=1).max())


def _cut_at_ends(proto: ProtoFaces, tolerance: float) -> None:
    """Cut every edge at vertices of others that lie on it."""
    used = {n for loops in proto.loops.values() for loop in loops for n, _ in loop}
    ends = {v for n in used for v in (proto.edges[n].start, proto.edges[n].end) if v is not None}
    if not ends:
        return
    numbers = sorted(ends)
    points = np.array([proto.points[v] for v in numbers])
    tree = scipy.spatial.cKDTree(points)
    into: dict[int, list[int]] = {}
    fresh = max(proto.edges, default=0) + 1
    for n in sorted(used):
        edge = proto.edges[n]
        along = edge.at(np.linspace(0.0, 1.0, 17))
        reach = float(np.linalg.norm(np.diff(along, axis=0), axis=1).max())
        near = sorted({k for found in tree.query_ball_point(along, reach + tolerance) for k in found})
        near = [k for k in near if numbers[k] not in (edge.start, edge.end)]
        if not near:
            continue
        t = edge.curve.parameter(points[near])
        if edge.curve.period is not None:
            t = edge.t0 + np.mod(t - edge.t0, edge.curve.period)
        off = np.linalg.norm(edge.curve.point(t) - points[near], axis=1)
        margin = 1e-9 * (edge.t1 - edge.t0)
        hits = sorted(
            (float(t[i]), numbers[near[i]])
            for i in np.flatnonzero((off <= tolerance) & (t > edge.t0 + margin) & (t < edge.t1 - margin))
        )
        if not hits:
            continue
        if edge.start is None:
            stops = [*hits, (hits[0][0] + edge.t1 - edge.t0, hits[0][1])]
        else:
            stops = [(edge.t0, edge.start), *hits, (edge.t1, edge.end)]
        parts = []
        for (t0, a), (t1, b) in itertools.pairwise(stops):
            proto.edges[fresh] = ProtoEdge(edge.curve, t0, t1, a, b)
            parts.append(fresh)
            fresh += 1
        into[n] = parts
    for loops in proto.loops.values():
        for loop in loops:
            if any(n in into for n, _ in loop):
                loop[:] = [
                    (part, forward)
                    for n, forward in loop
                    for part in (into.get(n, [n]) if forward else into.get(n, [n])[::-1])
                ]


def _join_edges(proto: ProtoFaces, tolerance: float) -> float:
    used = sorted({n for loops in proto.loops.values() for loop in loops for n, _ in loop})
    by_ends: dict[tuple[int, int], list[int]] = defaultdict(list)
    to: dict[int, tuple[int, bool]] = {}
    most = 0.0
    for n in used:
        edge = proto.edges[n]
        ends = (-1 if edge.start is None else edge.start, -1 if edge.end is None else edge.end)
        key = (min(ends), max(ends))
        points = edge.at(_SHARES)
        for other in by_ends[key]:
            off, same = _together(points, proto.edges[other])
            if off <= tolerance:
                to[n] = (other, same)
                most = max(most, off)
                break
        else:
            by_ends[key].append(n)
    for loops in proto.loops.values():
        for loop in loops:
            loop[:] = [(to[n][0], forward == to[n][1]) if n in to else (n, forward) for n, forward in loop]
    return most


def _together(points: Floats, other: ProtoEdge) -> tuple[float, bool]:
    """How far points (n,3) along an edge stand off another edge at the most, and whether both run the same way."""
    t = other.curve.parameter(points)
    if other.curve.period is not None:
        t = other.t0 + np.mod(t - other.t0, other.curve.period)
        span = other.t1 - other.t0
        t = np.where(t > other.t0 + span, np.where(t - other.t0 - span < other.curve.period - t + other.t0,
                                                   other.t1, other.t0), t)  # fmt: skip
    t = np.clip(t, other.t0, other.t1)
    off = float(np.linalg.norm(other.curve.point(t) - points, axis=1).max())
    middle = len(points) // 2
    way = other.curve.derivative(t[middle : middle + 1])[0] @ (points[middle + 1] - points[middle - 1])
    return off, bool(way > 0.0)


def turned_alike(faces: list[Face]) -> list[FaceUse]:
    """Uses of the faces such that neighbours run against each other along their edges; closed sets face outwards."""
    adj = adjacency(Body(tuple(FaceUse(f) for f in faces)))
    forward: dict[Face, bool] = {}
    for first in faces:
        if first in forward:
            continue
        forward[first] = True
        stack = [first]
        while stack:
            face = stack.pop()
            for loop in face.loops:
                for c in loop:
                    for use, other in adj.uses[c.edge]:
                        if use.face not in forward and len(adj.uses[c.edge]) == 2:
                            forward[use.face] = (other.forward == c.forward) != forward[face]
                            stack.append(use.face)
    uses = [FaceUse(face, forward[face]) for face in faces]
    out: list[FaceUse] = []
    for shell in connected(uses):
        balanced = sum(c.forward == u.forward for u in shell for x in u.face.loops for c in x)
        every = sum(len(x) for u in shell for x in u.face.loops)
        if 2 * balanced == every and uses_volume(shell) < 0.0:
            shell = [FaceUse(u.face, not u.forward) for u in shell]
        out += shell
    return out


def righted(face: Face) -> Face:
    """The face with its loops walked as they must be: outlines counter-clockwise, holes clockwise, the lower of two
    rings along the period and the upper one against it. Raises Refusal where no way round bounds a region."""
    refusal: Refusal | None = None
    for way in _ways(face):
        try:
            if face_mesh(way).trouble == "" and face_area(way) > 0.0:
                return way
        except Refusal as error:
            refusal = refusal or error
    raise refusal or Refusal("its boundary encloses nothing", entities=(face,))


def _ways(face: Face) -> Iterator[Face]:
    if not face.loops:
        yield face
        return
    if face.surface.kind not in ("sphere", "torus"):  # there the loops alone do not tell the sides apart
        with contextlib.suppress(Refusal, ValueError):
            yield face.with_loops(_turned_loops(face))
    yield face
    yield face.with_loops(backwards(loop) for loop in face.loops)


def _turned_loops(face: Face) -> list[Loop]:
    chart = chart_for(face.surface, face.loops, face.along)
    flats = [flat_loop(loop, chart, face.along) for loop in face.loops]
    areas = [signed_area(flat) for flat, _ in flats]
    around = [k for k, (_, advance) in enumerate(flats) if advance != 0.0]
    outer = max(range(len(flats)), key=lambda k: abs(areas[k])) if not around else -1
    low = min(around, key=lambda k: float(flats[k][0][:, 1].mean())) if around else -1
    out = []
    for k, loop in enumerate(face.loops):
        right = (flats[k][1] > 0.0) == (k == low) if k in around else (areas[k] > 0.0) == (k == outer)
        out.append(loop if right else backwards(loop))
    return out
