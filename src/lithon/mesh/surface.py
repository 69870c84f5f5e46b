"""The surface mesh: edges divided by size, faces by Delaunay refinement of their flat domain.

Sizes and shapes are measured in space; the chart only says who lies beside whom. Charts that keep
angles are Delaunay as they are, others are brought there by swaps. Nodes of an edge are shared by all
faces on it, of whatever body; a bonded face is meshed once.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, run_along
from lithon.brep.charts import chart_of, parts_of
from lithon.brep.tessellation.domain import Domain, flat_domain
from lithon.brep.tessellation.opening import Opening, along
from lithon.brep.tessellation.triangulate import Tangled, Triangulation, triangulate
from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.splines import BSplineCurve
from lithon.mesh.face_nodes import legalise, refine, smooth
from lithon.mesh.sizing import SizeField, divide_edge, divide_edges
from lithon.progress import pulse

_FINER = 6
#: Nodes of one place that stand nearer, in sizes, leave no room for an element.
_APART = 0.02
_FINER = 6


def parted(edge: Edge, a: float, b: float, low: bool, high: bool) -> float:
    """Where between two parameters an edge gets a node: in the middle; where one end is a corner, at a distance of a
    power of two from that, so that edges which leave it at a small angle are parted alike (Ruppert, *A Delaunay
    refinement algorithm for quality 2-dimensional mesh generation*, 1995). low, high: whether a or b is a corner."""
    middle = 0.5 * (a + b)
    if low == high:
        return middle
    corner, other = (a, b) if low else (b, a)
    start, t = edge.curve.point(np.array([corner]))[0], other
    far = float(np.linalg.norm(edge.curve.point(np.array([other]))[0] - start))
    wanted = float(2.0 ** np.round(np.log2(0.5 * max(far, 1e-300))))
    for _ in range(4):  # a curve runs at its own pace
        t = corner + (t - corner) * wanted / max(far, 1e-300)
        far = float(np.linalg.norm(edge.curve.point(np.array([t]))[0] - start))
    return float(t) if 0.2 < (t - corner) / (other - corner) < 0.8 else middle


#: A size that is smaller by less is the same.
_SAME = 0.97


#: The kinds of what a mesh may not follow.
IGNORED = ("narrow_faces", "short_edges", "edges_draped_over", "tips")


@dataclass(slots=True)
class SurfaceMesh:
    """Nodes and triangles of all faces of some bodies, growing while a volume mesh recovers it.

    faces: the faces in order, a whole sphere or torus as its two halves; triangles (m,3) of node
    numbers, counter-clockwise about the face's normal; `of` (m,) the face index of each.
    """

    bodies: tuple[Body, ...]
    sizes: SizeField
    faces: tuple[Face, ...] = ()
    nodes: list[Floats] = field(default_factory=list)
    vertex_node: dict[Vertex, int] = field(default_factory=dict)
    edge_t: dict[Edge, Floats] = field(default_factory=dict)
    edge_nodes: dict[Edge, Ints] = field(default_factory=dict)
    cut_nodes: dict[Face, Ints] = field(default_factory=dict)
    cut_share: dict[Face, Floats] = field(default_factory=dict)
    cut_ends: dict[Face, Opening] = field(default_factory=dict)
    inner: dict[Face, tuple[Ints, Floats]] = field(default_factory=dict)
    singular: dict[Face, int] = field(default_factory=dict)
    by_face: dict[Face, Ints] = field(default_factory=dict)
    #: Edges that are cut in so many at least, since coarser ones would run into others.
    finer: dict[Edge, int] = field(default_factory=dict)
    #: Polylines of which every corner gets a node, for the same reason.
    cornered: frozenset[Edge] = frozenset()
    #: A mesh with other sizes, of which faces are taken over where these are the same.
    like: SurfaceMesh | None = None
    #: Where edges will be cut once they are asked for.
    foreseen: dict[Edge, Floats] = field(default_factory=dict)
    #: Nodes that two faces hold which only touch there.
    twice: list[int] = field(default_factory=list)
    #: What it does not follow: how many faces, edges and tips of faces, by kind.
    ignored: dict[str, int] = field(default_factory=lambda: dict.fromkeys(IGNORED, 0))
    _array: Floats = field(default_factory=lambda: np.zeros((0, 3)))

    # ---- nodes

    def _node(self, point: Floats) -> int:
        self.nodes.append(np.asarray(point, dtype=float))
        return len(self.nodes) - 1

    def _new_nodes(self, points: Floats) -> Ints:
        self.nodes.extend(np.array(points, dtype=float))
        return np.arange(len(self.nodes) - len(points), len(self.nodes))

    def _vertex(self, vertex: Vertex) -> int:
        if vertex not in self.vertex_node:
            self.vertex_node[vertex] = self._node(vertex.point)
        return self.vertex_node[vertex]

    def points(self) -> Floats:
        """Node coordinates (n,3)."""
        if len(self._array) < len(self.nodes):
            fresh = np.array(self.nodes[len(self._array) :])
            self._array = np.concatenate([self._array, fresh])
        return self._array.copy()

    def on_edges(self) -> dict[tuple[int, int], Edge]:
        """The sides that lie on edges, the lower node first."""
        out: dict[tuple[int, int], Edge] = {}
        for edge, ids in self.edge_nodes.items():
            walk = [*ids.tolist(), int(ids[0])] if edge.ring else ids.tolist()
            out |= {(min(s), max(s)): edge for s in itertools.pairwise(walk)}
        return out

    def sides(self) -> Ints:
        """The same (k,2), one edge after the other."""
        walks = [np.append(ids, ids[0]) if edge.ring else ids for edge, ids in self.edge_nodes.items()]
        pairs = [np.stack([walk[:-1], walk[1:]], axis=1) for walk in walks]
        return np.concatenate([np.zeros((0, 2), dtype=np.int64), *pairs])

    def divide(self, edge: Edge) -> tuple[Ints, Floats]:
        """The node numbers and points of an edge, divided on first asking."""
        if edge not in self.edge_nodes:
            t = self.foreseen.pop(edge, None)
            t = divide_edge(edge, self.sizes) if t is None else t
            if len(t) - 1 < (least := self.finer.get(edge, 0)):
                t = np.interp(np.linspace(0.0, len(t) - 1.0, least + 1), np.arange(len(t)), t)
            if edge in self.cornered and isinstance(edge.curve, BSplineCurve):
                t = _at_corners(edge.curve.knots, t)
            inside = self._new_nodes(edge.curve.point(t[1:-1])).tolist()
            if edge.ring:
                ids = [self._node(edge.curve.point(t[:1])[0]), *inside]
                t = t[:-1]
            else:
                assert edge.start is not None and edge.end is not None
                ids = [self._vertex(edge.start), *inside, self._vertex(edge.end)]
            self.edge_t[edge], self.edge_nodes[edge] = t, np.array(ids, dtype=np.int64)
        ids_array = self.edge_nodes[edge]
        return ids_array, np.array([self.nodes[i] for i in ids_array])

    def split_edge(self, edge: Edge, a: int, b: int) -> int:
        """Put a node between two neighbouring nodes of an edge."""
        ids, t = self.edge_nodes[edge], self.edge_t[edge]
        n = len(ids)
        span = n if edge.ring else n - 1
        for k in range(span):
            nxt = (k + 1) % n
            if {int(ids[k]), int(ids[nxt])} == {a, b}:
                t_next = float(t[nxt] if nxt else edge.t1)
                corners = (k == 0 and not edge.ring, nxt == n - 1 and not edge.ring)
                middle = parted(edge, float(t[k]), t_next, *corners)
                node = self._node(edge.curve.point(np.array([middle]))[0])
                self.edge_nodes[edge] = np.insert(ids, k + 1, node)
                self.edge_t[edge] = np.insert(t, k + 1, middle)
                return node
        raise KeyError("the nodes are not neighbours on the edge")

    def _cut(self, path: Floats, face: Face) -> tuple[Ints, Floats]:
        """Nodes along the cut that opens a face which goes around, at the bends of its path and between them."""
        if face not in self.cut_nodes:
            chart, share, done = chart_of(face), [], 0.0
            lengths = np.hypot(*np.diff(path, axis=0).T)
            for a, b, part in zip(path[:-1], path[1:], lengths / max(float(lengths.sum()), 1e-300), strict=True):
                spots = chart.point(a + np.linspace(0.0, 1.0, 33)[:, None] * (b - a))
                size = float(self.sizes.at(0.5 * (spots[:1] + spots[-1:]))[0])
                run = run_along(spots)
                n = max(1, round(float(run[-1]) / size))
                share.append(done + part * np.interp(np.arange(n) / n * run[-1], run, np.linspace(0.0, 1.0, 33)))
                done += part
            self.cut_share[face] = np.concatenate(share)[1:]
            self.cut_nodes[face] = self._new_nodes(chart.point(along(path, self.cut_share[face])))
        return self.cut_nodes[face], self.cut_share[face]

    def split_cut(self, face: Face, a: int, b: int) -> bool:
        """Put a node between two neighbours on a face's cut; False if they are not that."""
        if face not in self.cut_ends:
            return False
        cut = self.cut_ends[face]
        chain = [cut.low, *self.cut_nodes[face].tolist(), cut.high]
        share = np.concatenate([[0.0], self.cut_share[face], [1.0]])
        for k in range(len(chain) - 1):
            if {chain[k], chain[k + 1]} == {a, b}:
                # The cut runs straight in the flat, a helix in space on a cylinder.
                middle = 0.5 * (share[k] + share[k + 1])
                on = along(self._cut_path(face), np.array([middle]))
                node = self._node(chart_of(face).point(on)[0])
                self.cut_nodes[face] = np.insert(self.cut_nodes[face], k, node)
                self.cut_share[face] = np.insert(self.cut_share[face], k, middle)
                return True
        return False

    def _cut_path(self, face: Face) -> Floats:
        """Flat corners (k,2) of a face's cut, its upper end in the period of its last bend."""
        cut, chart = self.cut_ends[face], chart_of(face)
        low, high = chart.flat(np.array([self.nodes[cut.low], self.nodes[cut.high]]))
        high[0] += cut.shift(low, high, chart.flat_period or 1.0)
        return cut.path(low, high)

    # ---- faces

    def domain(self, face: Face) -> Domain:
        made = flat_domain(face, self.divide, self._cut, self.cut_ends.get(face))
        if made.cut is not None:
            self.cut_ends[face] = made.cut
        return made

    def mesh_face(self, face: Face) -> None:
        """Mesh a face for the first time: triangulate its boundary, refine, smooth."""
        domain = self.domain(face)
        singular = domain.flat_of(domain.chart.singular)
        region = _region(face, domain, singular)
        refine(domain, region, self.sizes)
        smooth(region, len(domain.keys) + len(singular))
        legalise(domain, region)
        flat = region.plane[len(domain.keys) :]
        ids = self._new_nodes(domain.surface_points(flat))
        self.singular[face] = len(singular)
        self.inner[face] = ids, flat
        self._store(face, domain, region, ids)

    def take_over(self, face: Face, changed: Bools) -> bool:
        """Mesh a face as it was; False where its edges are cut otherwise, or nodes (n,) of it want another size."""
        old = self.like
        assert old is not None
        for edge in face.edges():
            self.divide(edge)
            t = old.edge_t[edge]
            if len(t) != len(self.edge_t[edge]) or not np.allclose(t, self.edge_t[edge], rtol=0.0, atol=1e-9):
                return False
        used = np.unique(old.by_face[face])
        if changed[used].any():
            return False
        number = np.full(len(old.nodes), -1, dtype=np.int64)
        for edge in face.edges():
            number[old.edge_nodes[edge]] = self.edge_nodes[edge]
        ids, flat = old.inner[face]
        cut = old.cut_nodes.get(face, np.zeros(0, dtype=np.int64))
        if len(np.setdiff1d(used[number[used] < 0], np.concatenate([ids, cut]))):  # an apex that another face has too
            return False
        if face in old.cut_nodes:
            self.cut_share[face], self.cut_nodes[face] = old.cut_share[face], self._again(old, cut, number)
        self.inner[face], self.singular[face] = (self._again(old, ids, number), flat), old.singular[face]
        self.by_face[face] = number[old.by_face[face]]
        if face in old.cut_ends:
            was = old.cut_ends[face]
            self.cut_ends[face] = replace(was, low=int(number[was.low]), high=int(number[was.high]))
        return True

    def _again(self, old: SurfaceMesh, ids: Ints, number: Ints) -> Ints:
        """The nodes of another mesh, as new ones; `number` takes them."""
        number[ids] = self._new_nodes(np.array([old.nodes[i] for i in ids.tolist()]).reshape(-1, 3))
        return np.asarray(number[ids])

    def remesh_face(self, face: Face) -> None:
        """Triangulate a face again over its present nodes, boundary and inner ones."""
        domain = self.domain(face)
        ids, _ = self.inner[face]
        flat = domain.flat_of(np.array([self.nodes[i] for i in ids]).reshape(-1, 3))
        region = _region(face, domain, flat)
        legalise(domain, region)
        self._store(face, domain, region, ids)

    def take_in(self, face: Face, nodes: Sequence[int]) -> None:
        """Nodes that are there as some of a face's own, inside: of edges of other faces that touch it there, too."""
        ids, flat = self.inner[face]
        self.inner[face] = np.append(ids, np.array(nodes, dtype=np.int64)), flat
        self.twice += nodes

    def touching(self, face: Face, near: float) -> Ints | None:
        """The nodes of others that lie on a face, no further off it than so (mm); none at all where one is so near to a
        node that it has already that no element fits between."""
        points, own = self.points(), self.by_face[face]
        v = points[own]
        low, high = v.min(axis=(0, 1)) - near, v.max(axis=(0, 1)) + near
        known = np.union1d(own, self.inner[face][0])  # some may be new
        maybe = np.setdiff1d(np.flatnonzero(((points >= low) & (points <= high)).all(axis=1)), known)
        if not len(maybe):
            return maybe
        at = BoxTree.of(points, own).nearest(points[maybe])[1]
        on = maybe[np.linalg.norm(at - points[maybe], axis=1) <= near]
        both = np.concatenate([known, on])
        apart = scipy.spatial.cKDTree(points[both]).query(points[on], 2)[0][:, 1] if len(on) else np.zeros(0)
        return None if (apart < _APART * self.sizes.at(points[on])).any() else np.asarray(on)

    def add_inner(self, face: Face, point: Floats) -> int:
        """A further node inside a face, at the surface point nearest to `point`."""
        on = face.surface.project(np.asarray(point)[None])[0]
        node = self._node(on)
        ids, flat = self.inner[face]
        self.inner[face] = np.append(ids, node), flat
        return node

    def _store(self, face: Face, domain: Domain, region: Triangulation, inner_ids: Ints) -> None:
        ids = np.concatenate([domain.keys, inner_ids])
        triangles = ids[region.triangles]
        if face in self.cut_ends:
            cut = self.cut_ends[face]
            chain = [cut.low, *self.cut_nodes[face].tolist(), cut.high]
            triangles = _healed(face, triangles, chain, self.points())
        self.by_face[face] = triangles

    def triangles(self) -> tuple[Ints, Ints]:
        """All triangles (m,3) and the index (m,) of each one's face in `faces`."""
        parts = [self.by_face[f] for f in self.faces]
        return np.concatenate(parts), np.repeat(np.arange(len(parts)), [len(p) for p in parts])

    def set_triangles(self, triangles: Ints, of: Ints) -> None:
        """Other triangles over the same nodes, as `triangles` gives them."""
        for j, face in enumerate(self.faces):
            self.by_face[face] = triangles[of == j]


def _at_corners(knots: Floats, t: Floats) -> Floats:
    """The parameters of a polyline's corners, its knots, with others between as near as those (n,) from end to end."""
    own = knots[(knots > t[0]) & (knots < t[-1])]
    step, stops = float(t[-1] - t[0]) / (len(t) - 1), np.unique([t[0], *own, t[-1]])
    parts = [np.linspace(a, b, max(1, round((b - a) / step)) + 1)[:-1] for a, b in itertools.pairwise(stops.tolist())]
    return np.append(np.concatenate(parts), t[-1])


def _healed(face: Face, triangles: Ints, chain: list[int], points: Floats) -> Ints:
    """Make a face Delaunay across the cut that opened it: swaps spread from the cut's sides (Lawson
    1977), in flat coordinates taken around each edge, where the period does not show."""
    chart = chart_of(face)
    period = chart.flat_period or 1.0
    mirror = np.array([1.0 if face.along else -1.0, 1.0])
    tri = triangles.copy()
    sides = _Sides(tri)
    stack = list(itertools.pairwise(chain))
    for _ in range(40 * len(tri)):
        if not stack:
            break
        a, b = stack.pop()
        left, right = sides.of(a, b), sides.of(b, a)
        if left < 0 or right < 0:
            continue
        c = next(v for v in tri[left].tolist() if v not in (a, b))
        d = next(v for v in tri[right].tolist() if v not in (a, b))
        if c == d or sides.of(c, d) >= 0 or sides.of(d, c) >= 0:
            continue
        q = chart.flat(points[[a, b, c, d]]) * mirror
        q -= q[0].copy()
        q[:, 0] -= period * np.round(q[:, 0] / period)
        if not _swap_helps(*q):
            continue
        tri[left], tri[right] = [a, d, c], [d, b, c]
        sides.changed |= {(a, b): -1, (b, a): -1}
        for k in (left, right):
            x, y, z = tri[k].tolist()
            sides.changed |= {(x, y): k, (y, z): k, (z, x): k}
        stack += [(a, d), (d, b), (b, c), (c, a)]
    return tri


class _Sides:
    """Which of some triangles (m,3) has a directed side; those that have changed are told in `changed`, -1 for none."""

    def __init__(self, triangles: Ints) -> None:
        self.changed: dict[tuple[int, int], int] = {}
        self._most = int(triangles.max()) + 1
        keys = (triangles * self._most + np.roll(triangles, -1, axis=1)).ravel()
        self._order = np.argsort(keys, kind="stable")
        self._keys = keys[self._order]

    def of(self, a: int, b: int) -> int:
        if (a, b) in self.changed:
            return self.changed[a, b]
        key = a * self._most + b
        at = int(np.searchsorted(self._keys, key))
        return int(self._order[at]) // 3 if at < len(self._keys) and self._keys[at] == key else -1


def _swap_helps(a: Floats, b: Floats, c: Floats, d: Floats) -> bool:
    """Whether edge a-b, with c on its left and d on its right, should become c-d."""

    def turn(p: Floats, q: Floats, r: Floats) -> float:
        return float((q[0] - p[0]) * (r[1] - p[1]) - (q[1] - p[1]) * (r[0] - p[0]))

    scale = float(((b - a) ** 2).sum())
    if turn(a, d, c) <= 1e-9 * scale or turn(d, b, c) <= 1e-9 * scale:
        return False
    rows = np.array([p - d for p in (a, b, c)])
    lifted = np.column_stack([rows, (rows**2).sum(axis=1)])
    return float(np.linalg.det(lifted)) > 1e-9 * scale**2


def _region(face: Face, domain: Domain, inner: Floats) -> Triangulation:
    try:
        return triangulate(np.vstack([domain.flat, inner]), domain.segments)
    except Tangled as error:
        k = error.points[0]
        flat = np.vstack([domain.flat, inner])[[k]]
        place = domain.surface_points(flat)[0]
        raise Refusal(
            f"a {face.surface.kind} face cannot be meshed at this size: {error}",
            where=spot(place),
            remedy="a smaller element size, or clear what is narrow there",
            entities=(face,),
        ) from error


def surface_mesh(bodies: tuple[Body, ...], sizes: SizeField, like: SurfaceMesh | None = None) -> SurfaceMesh:
    """Mesh every face of the bodies, shared ones once. Where the chords of a face's bent edges run into each other, as
    those of two circles close to one another do, these edges are cut finer, polylines at their own corners.

    like: a mesh of the same bodies with other sizes, of which faces are taken over where these are the same. Raises
    Refusal naming a face that cannot be meshed.
    """
    changed = np.zeros(0, dtype=np.bool_)
    if like is not None:
        points = like.points()
        changed = sizes.at(points) < _SAME * like.sizes.at(points)
    faces = tuple(dict.fromkeys(part for body in bodies for face in body.faces for part in parts_of(face)))
    asked = {edge for edge, _ in sizes.rules.divisions}
    finer: dict[Edge, int] = {}
    cornered: frozenset[Edge] = frozenset()
    for turn in range(_FINER + 1):
        mesh = SurfaceMesh(bodies, sizes, faces, finer=finer, like=like, cornered=cornered)
        edges = list(dict.fromkeys(edge for face in faces for edge in face.edges()))
        mesh.foreseen = dict(zip(edges, divide_edges(edges, sizes), strict=True))
        try:
            for face in faces:
                pulse()
                if like is None or not mesh.take_over(face, changed):
                    mesh.mesh_face(face)
            mesh.like = None
            return mesh
        except Refusal as refusal:
            if turn == _FINER or not isinstance(refusal.__cause__, Tangled):
                raise
            bent = [e for e in dict.fromkeys(face.edges()) if e.curve.kind != "line" and e not in asked]
            if not bent:
                raise
            if rough := [e for e in bent if e.curve.kind == "polyline" and e not in cornered]:
                cornered = cornered | set(rough)
                continue
            finer = finer | {e: 2 * (len(mesh.edge_t[e]) - (0 if e.ring else 1)) for e in bent}
    raise AssertionError("it has come to an end before")
