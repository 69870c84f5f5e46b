"""Triangles of faces and bodies, watertight by construction.

Each edge is divided once; the faces on both sides use those points. Results are cached per edge
and per face, which never change.
"""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.domain import flat_domain
from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.brep.triangulate import Tangled, Triangulation, triangulate
from lithon.errors import Refusal, spot

#: Largest turn between neighbouring triangles along a curve.
ANGLE = np.radians(10.0)
#: Largest distance of a chord from its arc, as a share of the arc's radius bounds the rest.
CHORD = 1.0


@dataclass(frozen=True, slots=True, eq=False)
class FaceMesh:
    """Triangles of one face: points (n,3), corners (m,3) counter-clockwise about the face's normal,
    keys (n,) identities of points on edges (negative for points inside the face)."""

    points: Floats
    triangles: Ints
    keys: Ints


_edges: WeakKeyDictionary[Edge, tuple[Ints, Floats]] = WeakKeyDictionary()
_vertices: WeakKeyDictionary[Vertex, int] = WeakKeyDictionary()
_faces: WeakKeyDictionary[Face, FaceMesh] = WeakKeyDictionary()
_next_key = [0]


def _fresh(n: int) -> Ints:
    first = _next_key[0]
    _next_key[0] += n
    return np.arange(first, first + n, dtype=np.int64)


def _vertex_key(vertex: Vertex) -> int:
    if vertex not in _vertices:
        _vertices[vertex] = int(_fresh(1)[0])
    return _vertices[vertex]


def edge_points(edge: Edge) -> tuple[Ints, Floats]:
    """Keys (n,) and points (n,3) along an edge; a ring's first point is not repeated."""
    hit = _edges.get(edge)
    if hit is not None:
        return hit
    n = edge.curve.pieces(edge.t0, edge.t1, CHORD, ANGLE)
    if edge.ring:
        n = max(n, 8)
    t = np.linspace(edge.t0, edge.t1, n + 1)
    points = edge.curve.point(t)
    if edge.ring:
        made = _fresh(n), points[:-1]
    else:
        assert edge.start is not None and edge.end is not None
        points[0], points[-1] = edge.start.point, edge.end.point
        keys = np.concatenate([[_vertex_key(edge.start)], _fresh(n - 1), [_vertex_key(edge.end)]])
        made = keys, points
    _edges[edge] = made
    return made


def face_mesh(face: Face) -> FaceMesh:
    """The triangles of a face. Raises Refusal where its boundary is tangled."""
    hit = _faces.get(face)
    if hit is not None:
        return hit
    domain = flat_domain(face, edge_points)
    try:
        region = triangulate(domain.flat, domain.segments)
    except Tangled as error:
        place = domain.surface_points(face, domain.flat[[error.points[0]]])[0]
        raise Refusal(
            f"the boundary of a {face.surface.kind} face crosses itself", where=spot(place), entities=(face,)
        ) from error
    if face.surface.flat_period is not None:
        _bend(region, ANGLE * face.surface.flat_period / (2.0 * np.pi))
    flat = region.plane
    points = domain.surface_points(face, flat)
    boundary = {key: i for i, key in enumerate(domain.keys.tolist())}
    for edge in dict.fromkeys(face.edges()):
        for key, point in zip(*edge_points(edge), strict=True):
            points[boundary[int(key)]] = point
    keys = np.concatenate([domain.keys, np.full(len(flat) - len(domain.keys), -1)])
    points, keys, triangles = _merge(points, keys, region.triangles)
    made = FaceMesh(points, triangles, keys)
    _faces[face] = made
    return made


def _merge(points: Floats, keys: Ints, triangles: Ints) -> tuple[Floats, Ints, Ints]:
    """Join the two copies of nodes on a cut."""
    first: dict[int, int] = {}
    target = np.arange(len(keys))
    for i, key in enumerate(keys.tolist()):
        if key >= 0:
            target[i] = first.setdefault(key, i)
    kept, inverse = np.unique(target, return_inverse=True)
    return points[kept], keys[kept], inverse[triangles]


def _bend(region: Triangulation, step: float) -> None:
    """Add points until no triangle spans more than 1.6 steps around the axis."""
    for _ in range(12):
        rows = np.flatnonzero(region.tri[: region.count, 0] >= 0)
        corners = region.plane[region.tri[rows]]
        span = corners[:, :, 0].max(axis=1) - corners[:, :, 0].min(axis=1)
        wide = span > 1.6 * step
        if not wide.any():
            return
        a, b = corners[wide], np.roll(corners[wide], -1, axis=1)
        longest = np.abs(a[:, :, 0] - b[:, :, 0]).argmax(axis=1)
        pick = np.arange(len(a))
        # A point on the middle of the widest edge, or beside it where the edge is forced.
        middle = 0.5 * (a[pick, longest] + b[pick, longest])
        forced = region.fix[rows[wide], (longest + 2) % 3] == 1
        middle[forced] = a[forced].mean(axis=1)
        if region.add(middle, rows[wide], np.full(len(middle), 0.3 * step)) == 0:
            return


def body_mesh(body: Body) -> tuple[Floats, Ints, Ints]:
    """Points (n,3), triangles (m,3) facing outwards and the index (m,) of each one's face use."""
    points, triangles, owner = [], [], []
    known: dict[int, int] = {}
    total = 0
    for index, use in enumerate(body.uses):
        mesh = face_mesh(use.face)
        ids = np.empty(len(mesh.keys), dtype=np.int64)
        new: list[int] = []
        for i, key in enumerate(mesh.keys.tolist()):
            if key >= 0 and key in known:
                ids[i] = known[key]
            else:
                ids[i] = total + len(new)
                new.append(i)
                if key >= 0:
                    known[key] = int(ids[i])
        points.append(mesh.points[new])
        total += len(new)
        corners = ids[mesh.triangles]
        triangles.append(corners if use.forward else corners[:, ::-1])
        owner.append(np.full(len(corners), index, dtype=np.int64))
    return np.concatenate(points), np.concatenate(triangles), np.concatenate(owner)


def open_edges(triangles: Ints) -> int:
    """How many directed triangle sides have no partner: 0 for a watertight, oriented set."""
    a = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]])
    n = int(a.max()) + 1 if len(a) else 1
    forward, backward = a[:, 0] * n + a[:, 1], a[:, 1] * n + a[:, 0]
    unique, counts = np.unique(forward, return_counts=True)
    partners = np.isin(unique, backward)
    return int((~partners).sum() + (counts - 1).sum())
