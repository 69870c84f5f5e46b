"""Nodes and quads of swept bodies, shared by all of them.

Divisions are assigned over all bodies at once: edges that must agree form classes, each class one number. Shared
faces are meshed once.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
import scipy

from lithon.arrange.overlay import inner_point
from lithon.arrays import Floats, Ints, unit
from lithon.brep.area import area_of
from lithon.brep.topology import Edge, Face, FaceUse, Model, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Line
from lithon.mesh.cores import Cap
from lithon.mesh.hexes import hex_volumes
from lithon.mesh.motion import Sweep
from lithon.mesh.quads import face_middle, facing, mapped, opposite, paved
from lithon.mesh.sizing import SizeRules
from lithon.mesh.turns import Sides, Turn, zero_direction
from lithon.mesh.walls import Walls, walls_of


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
    walls: dict[Sweep, Walls] = field(default_factory=dict)
    #: Edges of no body that stand for a division: between two heights of a sweep, or along a wall without posts.
    rises: dict[tuple[Sweep, int] | Face, Edge] = field(default_factory=dict)
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
        edges = list(dict.fromkeys((*self.model.edges(), *self.known.sides.values(), *self.rises.values(), *own)))
        local = {entity: min(size, self.rules.size) for entity, size in self.rules.local if isinstance(entity, Edge)}
        for edge in edges:
            least = (
                1
                if edge.curve.kind == "line"
                else edge.curve.pieces(edge.t0, edge.t1, 1e9, 2.0 * np.pi / self.rules.around)
            )
            least = max(least, 6) if edge.ring else least
            r = self.root(edge)
            wanted[r] = max(wanted[r], least, round(edge.length / local.get(edge, self.rules.size)))
            step[r] = max(step[r], 4 if edge in self.fours else 2 if edge in self.even else 1)
        asked = self._asked_divisions()
        for edge in edges:
            r = self.root(edge)
            count = asked[r][1] if r in asked else wanted[r]
            self.counts[edge] = count + -count % step[r]
            if r in asked and self.counts[edge] != count:
                raise Refusal(
                    f"{count} elements along an edge do not go here: a multiple of {step[r]} is needed",
                    where=spot(asked[r][0].at(0.5)), remedy=f"{self.counts[edge]} elements", entities=(asked[r][0],),
                )  # fmt: skip

    def _asked_divisions(self) -> dict[Edge, tuple[Edge, int]]:
        """How many elements are asked for in a class of edges, and on which of them. Raises Refusal where two edges
        that must agree are to be divided differently."""
        out: dict[Edge, tuple[Edge, int]] = {}
        for edge, count in self.rules.divisions:
            r = self.root(edge)
            if r in out and out[r][1] != count:
                raise Refusal(
                    f"{out[r][1]} and {count} elements are asked for on edges that must agree",
                    where=spot(edge.at(0.5)), remedy="the same number on both", entities=(out[r][0], edge),
                )  # fmt: skip
            out[r] = edge, count
        return out

    def _agree_along(self, sweep: Sweep) -> None:
        walls = self.walls[sweep] = walls_of(sweep)
        for (below, _), edge in walls.over.items():
            self.same(below, edge)
        top = len(walls.heights) - 1
        for i in range(top):
            self._rise(sweep, (sweep, i), walls.heights[i + 1] - walls.heights[i])
        for (_, i), post in walls.posts.items():
            self.same(self.rises[sweep, i], post)
        levels: dict[Face, set[int]] = defaultdict(set)
        for (_, i), wall in walls.face.items():
            levels[wall].add(i)
        for wall, within in levels.items():
            if len(within) == 1:  # neighbours that meet there divide it alike
                (i,) = within
                self._rise(sweep, wall, walls.heights[i + 1] - walls.heights[i])
                self.same(self.rises[sweep, i], self.known.sides.get(wall, self.rises[wall]))
                self.same(self.rises[sweep, i], self.rises[wall])
        for use in (*sweep.source, *sweep.target):
            self.agree_on(use.face)

    def _rise(self, sweep: Sweep, key: tuple[Sweep, int] | Face, share: float) -> None:
        """An edge as long as a share of a motion, to be divided with what runs along it."""
        if key not in self.rises:
            self.rises[key] = Edge(Line(sweep.start, unit(sweep.motion.way)), 0.0, share * sweep.travel)

    def _agree_around(self, turn: Turn) -> None:
        for ring in turn.rings:
            self.same(ring, turn.around)
        if turn.cores:
            self.fours.add(turn.around)
        self.agree_on(turn.profile)

    def agree_on(self, face: Face) -> None:
        """Opposite sides of a face to be mapped are divided alike, all sides of one to be paved evenly."""
        across = opposite(face)
        if across is not None:
            for a, b in across:
                self.same(a.edge, b.edge)
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

    def face(self, face: Face) -> tuple[Ints, Ints]:
        """Inner nodes (n,) and quads (m,4) of an end face, made on first asking."""
        if face not in self.on_face:
            make = mapped(face, self.edge) if opposite(face) is not None else paved(face, self.edge, self.rules.size)
            inner = np.array([self.node(p) for p in make[0]], dtype=np.int64)
            quads = np.where(make[1] < 0, inner[np.clip(-1 - make[1], 0, len(inner) - 1)] if len(inner) else 0, make[1])
            self.on_face[face] = inner, quads
        return self.on_face[face]

    # ---- one body

    def sweep(self, s: Sweep) -> Ints:
        """The hexahedra (m,8) of one body."""
        parts = [self._outward(u) for u in s.source]
        base = np.concatenate([q for _, q in parts])
        shares = self._shares(s)
        column = self._columns(s, parts, shares)
        hexes = []
        for k in range(len(shares) - 1):
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
        quads = facing(use.face, quads, self.points)
        return inner, quads if use.forward else quads[:, ::-1]

    def _steps(self, s: Sweep) -> list[int]:
        """The number of the layer at each height."""
        many = [self.counts[self.rises[s, i]] for i in range(len(self.walls[s].heights) - 1)]
        return [0, *np.cumsum(many).tolist()]

    def _shares(self, s: Sweep) -> Floats:
        """The share of the motion at each layer (n+1,)."""
        steps = self._steps(s)
        return np.interp(np.arange(steps[-1] + 1), steps, self.walls[s].heights)

    def _columns(self, s: Sweep, parts: list[tuple[Ints, Ints]], shares: Floats) -> list[dict[int, int]]:
        """For each layer 0..n, the node above each source node."""
        layers = len(shares) - 1
        column: list[dict[int, int]] = [{} for _ in shares]
        for inner, quads in parts:
            for k in (*inner.tolist(), *np.unique(quads).tolist()):
                column[0][int(k)] = int(k)
        self._rows(s, column)
        self._fill_walls(s, column, shares)
        below = [int(k) for k in np.unique(np.concatenate([q for _, q in parts]))]
        todo = [k for k in below if k not in column[layers]]
        start = np.array([self.points[k] for k in todo]).reshape(-1, 3)
        for k in range(1, layers):
            for node, p in zip(todo, s.motion.at(start, float(shares[k])), strict=True):
                if node not in column[k]:
                    column[k][node] = self.node(p)
        self._target(s, parts, column[layers], todo, s.motion.at(start, 1.0))
        return column

    def _rows(self, s: Sweep, column: list[dict[int, int]]) -> None:
        """The nodes of edges over the source's rim and of posts."""
        walls, steps = self.walls[s], self._steps(s)
        for (below, i), edge in walls.over.items():
            ids, points = self.edge(below)
            there, spots = self.edge(edge)
            off, hit = scipy.spatial.cKDTree(spots).query(s.motion.at(points, float(walls.heights[i])))
            if off.max() > 1e-3 * self.rules.size:
                raise Refusal("a wall's two ends do not match", where=spot(points[0]))
            column[steps[i]].update(zip(ids.tolist(), there[hit].tolist(), strict=True))
        for (corner, i), post in walls.posts.items():
            foot = self.vertex(corner)
            run = self.edge(post)[0].tolist()
            run = run if run[0] == column[steps[i]].get(foot, run[0]) and run[-1] == column[steps[i + 1]].get(
                foot, run[-1]) else run[::-1]  # fmt: skip
            for k, node in enumerate(run):
                column[steps[i] + k][foot] = node

    def _fill_walls(self, s: Sweep, column: list[dict[int, int]], shares: Floats) -> None:
        """What is left of the walls, cell by cell; a wall that a neighbour has meshed must have a node there."""
        walls, steps = self.walls[s], self._steps(s)
        known = {wall: self.on_face[wall][0] for wall in s.walls if wall in self.on_face}
        trees = {
            wall: scipy.spatial.cKDTree(np.array([self.points[k] for k in ids]))
            for wall, ids in known.items()
            if len(ids)
        }
        fresh: dict[Face, list[int]] = defaultdict(list)
        quads: dict[Face, list[Ints]] = defaultdict(list)
        for (below, i), wall in walls.face.items():
            ids, points = self.edge(below)
            for k in range(steps[i], steps[i + 1] + 1):
                todo = [j for j, node in enumerate(ids.tolist()) if node not in column[k]]
                if not todo:
                    continue
                row = s.motion.at(points[todo], float(shares[k]))
                if wall in known:
                    made = self._there(s, wall, trees.get(wall), known[wall], row)
                else:
                    made = self.nodes(row)
                    fresh[wall] += made.tolist()
                column[k].update(zip(ids[todo].tolist(), made.tolist(), strict=True))
            grid = np.array([[column[k][node] for node in ids.tolist()] for k in range(steps[i], steps[i + 1] + 1)])
            grid = np.concatenate([grid, grid[:, :1]], axis=1) if below.ring else grid
            quads[wall].append(
                np.stack([grid[:-1, :-1], grid[:-1, 1:], grid[1:, 1:], grid[1:, :-1]], axis=-1).reshape(-1, 4)
            )
        for wall, found in quads.items():
            if wall not in known:
                sides = [facing(wall, q, self.points) for q in found]
                self.on_face[wall] = np.array(fresh[wall], dtype=np.int64), np.concatenate(sides)

    def _there(self, s: Sweep, wall: Face, tree: scipy.spatial.cKDTree | None, ids: Ints, points: Floats) -> Ints:
        """The nodes of a wall that lie at some points (n,3)."""
        off, where = tree.query(points) if tree is not None else (np.full(len(points), np.inf), [])
        if off.max() > 1e-3 * self.rules.size:
            raise Refusal(
                f"a wall of {s.body.name} is meshed otherwise by its neighbour", where=spot(points[0]), entities=(wall,)
            )
        return ids[where]

    def _target(
        self, s: Sweep, parts: list[tuple[Ints, Ints]], top: dict[int, int], todo: list[int], moved: Floats
    ) -> None:
        """The target's mesh is the source's, moved; one that is there already must be just that."""
        there = [self.on_face[u.face] for u in s.target if u.face in self.on_face]
        if there:
            ids = np.unique(np.concatenate([q.ravel() for _, q in there]))
            off, hit = (
                scipy.spatial.cKDTree(np.array([self.points[k] for k in ids])).query(moved)
                if len(moved)
                else (np.zeros(0), [])
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
        copies: dict[Face, list[Ints]] = defaultdict(list)
        for (_, quads), source in zip(parts, s.source, strict=True):
            copies[_over(s, source.face)].append(_through(top, quads)[:, ::-1])
        for face, found in copies.items():
            quads = np.concatenate(found)
            rim = np.concatenate([self.edge(e)[0] for e in face.edges()])
            self.on_face[face] = np.setdiff1d(np.unique(quads), rim), quads


def _over(s: Sweep, face: Face) -> Face:
    """The face of the target that a face of the source is carried to."""
    if len(s.target) == 1:
        return s.target[0].face
    at = s.motion.at(inner_point(face)[None], 1.0)
    return max((u.face for u in s.target), key=lambda f: int(area_of(f).side(at, 1e-6)[0]))


def _through(table: dict[int, int], quads: Ints) -> Ints:
    return np.array([[table[int(k)] for k in q] for q in quads], dtype=np.int64)


def _start(edge: Edge) -> float:
    """Where the nodes of a ring begin: circles about one axis all in one direction, so that they face each other."""
    if not (edge.ring and isinstance(edge.curve, Circle)):
        return 0.0
    frame = edge.curve.frame
    zero = zero_direction(frame.z)
    return float(np.arctan2(zero @ frame.y, zero @ frame.x)) - edge.t0
