"""Nodes and quads of swept bodies, shared by all of them.

Divisions are assigned over all bodies at once: edges that must agree form classes, each class one number. Shared
faces are meshed once.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial import cKDTree

from lithon.arrays import Floats, Ints
from lithon.brep.area import off_edge
from lithon.brep.topology import Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle
from lithon.mesh.cores import Cap
from lithon.mesh.hexes import hex_volumes
from lithon.mesh.quads import face_middle, facing, four_sided, mapped, paved
from lithon.mesh.sizing import SizeRules
from lithon.mesh.sweep import Sweep
from lithon.mesh.turns import Sides, Turn, zero_direction
from lithon.mesh.walls import WallEdges, wall_edges


@dataclass(slots=True)
class Hexer:
    """Nodes and quads by vertex, edge and face, shared by all bodies."""

    model: Model
    rules: SizeRules
    plans: list[Sweep | Turn]
    known: Sides
    parent: dict[Edge, Edge] = field(default_factory=dict)
    even: set[Edge] = field(default_factory=set)
    fours: set[Edge] = field(default_factory=set)
    counts: dict[Edge, int] = field(default_factory=dict)
    points: list[Floats] = field(default_factory=list)
    at_vertex: dict[Vertex, int] = field(default_factory=dict)
    on_edge: dict[Edge, Ints] = field(default_factory=dict)
    on_face: dict[Face, tuple[Ints, Ints]] = field(default_factory=dict)
    #: Nodes around the rims of cores and within their caps.
    rims: dict[Vertex, Ints] = field(default_factory=dict)
    discs: dict[Cap, Ints] = field(default_factory=dict)

    # ---- divisions

    def root(self, edge: Edge) -> Edge:
        self.parent.setdefault(edge, edge)
        while self.parent[edge] is not edge:
            edge = self.parent[edge]
        return edge

    def same(self, a: Edge, b: Edge) -> None:
        self.parent[self.root(a)] = self.root(b)

    def assign(self) -> None:
        """One number of divisions for every class of edges that must agree."""
        for plan in self.plans:
            if isinstance(plan, Turn):
                self._agree_around(plan)
            else:
                self._agree_along(plan)
        wanted: dict[Edge, int] = defaultdict(int)
        step: dict[Edge, int] = defaultdict(lambda: 1)
        turns = [plan for plan in self.plans if isinstance(plan, Turn)]
        own = [edge for turn in turns for edge in (turn.around, *(core.inner for core in turn.cores))]
        edges = list(dict.fromkeys((*self.model.edges(), *self.known.sides.values(), *own)))
        for edge in edges:
            least = (
                1
                if edge.curve.kind == "line"
                else edge.curve.pieces(edge.t0, edge.t1, 1e9, 2.0 * np.pi / self.rules.around)
            )
            least = max(least, 6) if edge.ring else least
            r = self.root(edge)
            wanted[r] = max(wanted[r], least, round(edge.length / self.rules.size))
            step[r] = max(step[r], 4 if edge in self.fours else 2 if edge in self.even else 1)
        for edge in edges:
            r = self.root(edge)
            self.counts[edge] = wanted[r] + -wanted[r] % step[r]

    def _agree_along(self, sweep: Sweep) -> None:
        posts: list[Edge] = []
        for wall in sweep.walls:
            found = edges_of(wall, sweep)
            for low in found.low:
                self.same(low.edge, _above(low.edge, found, sweep).edge)
            posts += [c.edge for c in found.posts]
            if wall in self.known.sides:
                posts.append(self.known.sides[wall])
        for post in posts[1:]:
            self.same(posts[0], post)
        for use in (*sweep.source, *sweep.target):
            self._agree_on(use.face)

    def _agree_around(self, turn: Turn) -> None:
        for ring in turn.rings:
            self.same(ring, turn.around)
        if turn.cores:
            self.fours.add(turn.around)
        self._agree_on(turn.profile)

    def _agree_on(self, face: Face) -> None:
        """Opposite sides of a face to be mapped are divided alike, all sides of one to be paved evenly."""
        if four_sided(face):
            loop = face.loops[0]
            self.same(loop[0].edge, loop[2].edge)
            self.same(loop[1].edge, loop[3].edge)
        elif face not in self.known.sides:
            self.even |= set(face.edges())

    # ---- nodes

    def node(self, p: Floats) -> int:
        self.points.append(np.asarray(p, dtype=float))
        return len(self.points) - 1

    def nodes(self, points: Floats) -> Ints:
        """New nodes (n,) at points (n,3)."""
        first = len(self.points)
        self.points.extend(np.asarray(points, dtype=float))
        return np.arange(first, len(self.points), dtype=np.int64)

    def vertex(self, v: Vertex) -> int:
        if v not in self.at_vertex:
            self.at_vertex[v] = self.node(v.point)
        return self.at_vertex[v]

    def edge(self, edge: Edge) -> tuple[Ints, Floats]:
        if edge not in self.on_edge:
            t = _start(edge) + np.linspace(edge.t0, edge.t1, self.counts[edge] + 1)
            p = edge.curve.point(t)
            if edge.ring:
                ids = [self.node(q) for q in p[:-1]]
            else:
                assert edge.start is not None and edge.end is not None
                ids = [self.vertex(edge.start), *(self.node(q) for q in p[1:-1]), self.vertex(edge.end)]
            self.on_edge[edge] = np.array(ids, dtype=np.int64)
        ids_array = self.on_edge[edge]
        return ids_array, np.array([self.points[k] for k in ids_array])

    def chain(self, coedges: list[Coedge], closed: bool) -> tuple[Ints, Floats]:
        """Nodes (n,) and points (n,3) along edges that follow each other; a closed chain's first is not repeated."""
        ids: list[int] = []
        for c in coedges:
            own = self.edge(c.edge)[0]
            own = own if c.forward else own[::-1]
            ids += own.tolist() if not ids else own[1:].tolist()
        if closed and len(ids) > 1 and ids[0] == ids[-1]:
            ids.pop()
        return np.array(ids, dtype=np.int64), np.array([self.points[k] for k in ids])

    def face(self, face: Face) -> tuple[Ints, Ints]:
        """Inner nodes (n,) and quads (m,4) of an end face, made on first asking."""
        if face not in self.on_face:
            make = mapped(face, self.edge) if four_sided(face) else paved(face, self.edge, self.rules.size)
            inner = np.array([self.node(p) for p in make[0]], dtype=np.int64)
            quads = np.where(make[1] < 0, inner[np.clip(-1 - make[1], 0, len(inner) - 1)] if len(inner) else 0, make[1])
            self.on_face[face] = inner, quads
        return self.on_face[face]

    # ---- one body

    def sweep(self, s: Sweep) -> Ints:
        """The hexahedra (m,8) of one body."""
        parts = [self._outward(u) for u in s.source]
        base = np.concatenate([q for _, q in parts])
        layers = self._layers(s, base)
        column = self._columns(s, parts, layers)
        hexes = []
        for k in range(layers):
            low, high = column[k], column[k + 1]
            hexes.append(np.concatenate([_through(low, base), _through(high, base)], axis=1))
        out = np.concatenate(hexes)
        points = np.array(self.points)
        if hex_volumes(points, out).sum() < 0.0:
            out = out[:, [3, 2, 1, 0, 7, 6, 5, 4]]
        return out

    def _outward(self, use: FaceUse) -> tuple[Ints, Ints]:
        """The inner nodes and quads of an end face, counter-clockwise as seen from outside."""
        inner, quads = self.face(use.face)
        quads = facing(use.face, quads, np.array(self.points))
        return inner, quads if use.forward else quads[:, ::-1]

    def _layers(self, s: Sweep, base: Ints) -> int:
        for wall in s.walls:
            posts = edges_of(wall, s).posts
            if posts:
                return self.counts[posts[0].edge]
            if wall in self.known.sides:
                return self.counts[self.known.sides[wall]]
        travel = s.motion.length(np.array([self.points[k] for k in np.unique(base)]))
        return max(1, round(travel / self.rules.size))

    def _columns(self, s: Sweep, parts: list[tuple[Ints, Ints]], layers: int) -> list[dict[int, int]]:
        """For each layer 0..n, the node above each source node."""
        column: list[dict[int, int]] = [{} for _ in range(layers + 1)]
        for wall in s.walls:
            self._wall(s, wall, column, layers)
        for inner, quads in parts:
            for k in (*inner.tolist(), *np.unique(quads).tolist()):
                column[0][int(k)] = int(k)
        below = [int(k) for k in np.unique(np.concatenate([q for _, q in parts]))]
        todo = [k for k in below if k not in column[layers]]
        start = np.array([self.points[k] for k in todo]).reshape(-1, 3)
        for k in range(1, layers):
            for node, p in zip(todo, s.motion.at(start, k / layers), strict=True):
                if node not in column[k]:
                    column[k][node] = self.node(p)
        self._target(s, parts, column[layers], todo, s.motion.at(start, 1.0))
        return column

    def _target(
        self, s: Sweep, parts: list[tuple[Ints, Ints]], top: dict[int, int], todo: list[int], moved: Floats
    ) -> None:
        """The target's mesh is the source's, moved; one that is there already must be just that."""
        there = [self.on_face[u.face] for u in s.target if u.face in self.on_face]
        if there:
            ids = np.unique(np.concatenate([q.ravel() for _, q in there]))
            off, hit = (
                cKDTree(np.array([self.points[k] for k in ids])).query(moved) if len(moved) else (np.zeros(0), [])
            )
            if len(there) < len(s.target) or (len(moved) and off.max() > 1e-3 * self.rules.size):
                raise Refusal(
                    f"both ends of {s.body.name} are meshed by their neighbours, and differently",
                    where=spot(face_middle(s.target[0].face)),
                    remedy="carve so that the chain of swept bodies is open",
                )
            top.update({node: int(ids[k]) for node, k in zip(todo, hit, strict=True)})
            return
        for node, p in zip(todo, moved, strict=True):
            top[node] = self.node(p)
        if len(s.target) == 1:
            quads = np.concatenate([_through(top, q) for _, q in parts])
            inner = np.setdiff1d(np.unique(quads), np.concatenate([self.edge(e)[0] for e in s.target[0].face.edges()]))
            self.on_face[s.target[0].face] = inner, quads[:, ::-1]
            return
        for use, (inner, quads) in self._paired(s, parts, top):
            self.on_face[use.face] = inner, quads[:, ::-1]

    def _paired(
        self, s: Sweep, parts: list[tuple[Ints, Ints]], top: dict[int, int]
    ) -> list[tuple[FaceUse, tuple[Ints, Ints]]]:
        """Each target face with the copy of the source part that lies on it."""
        out = []
        for (inner, quads), source in zip(parts, s.source, strict=True):
            at = s.motion.at(face_middle(source.face)[None], 1.0)[0]
            use = min(s.target, key=lambda u: float(np.linalg.norm(face_middle(u.face) - at)))
            out.append((use, (np.array([top[int(k)] for k in inner], dtype=np.int64), _through(top, quads))))
        return out

    def _wall(self, s: Sweep, wall: Face, column: list[dict[int, int]], layers: int) -> None:
        """The grid of a wall: rows along its lower edge, columns along the motion."""
        found = edges_of(wall, s)
        ids, points = self.chain(found.low, found.around)
        top_ids, top_points = self.chain(found.high, found.around)
        moved = s.motion.at(points, 1.0)
        off, hit = cKDTree(top_points).query(moved)
        if off.max() > 1e-3 * self.rules.size:
            raise Refusal("a wall's two ends do not match", where=spot(points[0]), entities=(wall,))
        grid = np.empty((layers + 1, len(ids)), dtype=np.int64)
        grid[0], grid[layers] = ids, top_ids[hit]
        posts: dict[int, Ints] = {}
        for c in found.posts:
            post, _ = self.edge(c.edge)
            run = post if int(post[0]) in set(ids.tolist()) else post[::-1]
            posts[int(run[0])] = run
        known = self.on_face.get(wall)
        spots = np.array([self.points[k] for k in known[0]]) if known is not None and len(known[0]) else None
        tree = cKDTree(spots) if spots is not None else None
        fresh: list[int] = []
        for k in range(1, layers):
            row = s.motion.at(points, k / layers)
            for j, node in enumerate(ids.tolist()):
                if node in posts:
                    grid[k, j] = posts[node][k]
                elif tree is not None and known is not None:
                    gap, where = tree.query(row[j])
                    if gap > 1e-3 * self.rules.size:
                        raise Refusal(
                            f"a wall of {s.body.name} is meshed otherwise by its neighbour",
                            where=spot(row[j]),
                            entities=(wall,),
                        )
                    grid[k, j] = known[0][int(where)]
                elif node in column[k]:
                    grid[k, j] = column[k][node]
                else:
                    grid[k, j] = self.node(row[j])
                    fresh.append(int(grid[k, j]))
        for k in range(layers + 1):
            column[k].update(zip(ids.tolist(), grid[k].tolist(), strict=True))
        if known is None:
            cols = np.concatenate([grid, grid[:, :1]], axis=1) if found.around else grid
            quads = np.stack([cols[:-1, :-1], cols[:-1, 1:], cols[1:, 1:], cols[1:, :-1]], axis=-1).reshape(-1, 4)
            self.on_face[wall] = np.array(fresh, dtype=np.int64), quads


def _above(edge: Edge, wall: WallEdges, s: Sweep) -> Coedge:
    """The edge of a wall's target end that lies over one of its source end."""
    at = s.motion.at(edge.at(0.5)[None], 1.0)
    return min(wall.high, key=lambda c: float(off_edge(c.edge, at)[0]))


def _through(table: dict[int, int], quads: Ints) -> Ints:
    return np.array([[table[int(k)] for k in q] for q in quads], dtype=np.int64)


def _start(edge: Edge) -> float:
    """Where the nodes of a ring begin: circles about one axis all in one direction, so that they face each other."""
    if not (edge.ring and isinstance(edge.curve, Circle)):
        return 0.0
    frame = edge.curve.frame
    zero = zero_direction(frame.z)
    return float(np.arctan2(zero @ frame.y, zero @ frame.x)) - edge.t0


def edges_of(wall: Face, s: Sweep) -> WallEdges:
    found = wall_edges(wall, *s.end_edges())
    if found is None:
        raise Refusal(
            f"a wall of {s.body.name} does not reach from its source to its target",
            where=spot(face_middle(wall)), remedy="carve it there", entities=(wall,),
        )  # fmt: skip
    return found
