"""Creases of a body in tetrahedra that come from a lattice: the skin's nodes that are nearest to corners and edges move
there, and sides of the skin that still go across an edge are parted on it.

It is what a lattice does to a skin (Labelle & Shewchuk, *Isosurface stuffing*, 2007), done once more to the lines on
it: first corners, then edges, nearest first, then what is left is cut. Whatever would leave an element flat is left
out: there the crease is cut off by what is between two nodes, as it was.
"""

from __future__ import annotations

import functools
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from lithon.arrays import Floats, Ints
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Edge
from lithon.mesh.parting import Elements
from lithon.progress import pulse

#: Over a crease the skin's normal turns by more (radians); at a corner the crease itself does.
_SHARP, _CORNER = np.radians(25.0), np.radians(35.0)
#: Nodes move no further than such shares of a cube's side: to a corner, to an edge.
_TO_CORNER, _TO_EDGE = 0.8, 0.42
#: How far apart points along creases are looked at, and how long a crease must be, as shares of a cube's side.
_ALONG, _LONG = 0.2, 1.0
#: A crease is no further from a side that goes across it than so many of its lengths.
_ACUTE = 1.6
#: How far a straight crease may be off a line, as a share of its length.
_FLAT = 1e-9
#: So many of the nodes or triangles around a corner are tried.
_TRIED = 6
#: How often sides are parted: what parts one can make room for another.
_ROUNDS = 3
#: Nearer to an end of a side than this share of it no node is put.
_END = 0.12


@dataclass(slots=True)
class _Creases:
    """Straight pieces of creases from points (k,3) to points (k,3), the number of each one's edge (k,) and the two face
    uses (e,2) beside each edge; corners (c,3) and the edges that meet there."""

    start: Floats
    end: Floats
    of: Ints
    beside: Ints
    corners: Floats
    meeting: list[set[int]]
    #: Of each edge (e,6) a point and its direction where it is straight, else not a number.
    lines: Floats
    spots: Floats = field(init=False)
    piece: Ints = field(init=False)
    tree: scipy.spatial.cKDTree = field(init=False)

    def sample(self, step: float) -> None:
        """Points along the pieces no further apart than a step (mm), to look for the nearest."""
        count = np.maximum(np.ceil(np.linalg.norm(self.end - self.start, axis=1) / step).astype(np.int64), 1)
        self.piece = np.repeat(np.arange(len(count)), count)
        share = (np.arange(count.sum()) - np.repeat(np.cumsum(count) - count, count) + 0.5) / np.repeat(count, count)
        self.spots = self.start[self.piece] + share[:, None] * (self.end - self.start)[self.piece]
        self.tree = scipy.spatial.cKDTree(self.spots)

    def nearest(self, points: Floats, most: float) -> tuple[Ints, Floats, Floats]:
        """The nearest piece (n,), -1 where none is nearer than `most` (mm), the nearest point on it (n,3) and how far
        that is (n,)."""
        away, row = self.tree.query(points, distance_upper_bound=most)
        there = np.isfinite(away)
        piece = np.where(there, self.piece[np.where(there, row, 0)], -1)
        a, way = self.start[piece], (self.end - self.start)[piece]
        t = ((points - a) * way).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-300)
        at = a + np.clip(t, 0.0, 1.0)[:, None] * way
        return piece, at, np.where(there, np.linalg.norm(at - points, axis=1), np.inf)


@functools.lru_cache(maxsize=2)
def _creases(body: Body, step: float, seams: frozenset[Edge]) -> _Creases | None:
    """The creases of a body, and such of its edges as are to be followed like them, that are worth following with cubes
    of a side (mm); the latest are kept, since they are brought into a lattice several times over and measured in what
    comes of it."""
    adj = adjacency(body)
    adj.all_angles()
    number = {use: k for k, use in enumerate(body.uses)}
    edges = [e for e, uses in adj.uses.items() if len(uses) == 2 and (e in seams or abs(adj.angle(e)) > _SHARP)]
    edges = _long_enough(edges, step)
    if not edges:
        return None
    lines = [_line(edge) for edge in edges]
    ends = defaultdict[int, list[tuple[int, Floats]]](list)  # by vertex: the edges there and where they go
    corners: list[Floats] = []
    meeting: list[set[int]] = []
    for k, (edge, line) in enumerate(zip(edges, lines, strict=True)):
        for vertex, one, other in ((edge.start, line[0], line[1]), (edge.end, line[-1], line[-2])):
            if vertex is not None:
                ends[id(vertex)].append((k, np.concatenate([one, other - one])))
        way = np.diff(line, axis=0)
        way = way / np.maximum(np.linalg.norm(way, axis=1, keepdims=True), 1e-300)
        for j in np.flatnonzero((way[1:] * way[:-1]).sum(axis=1) < np.cos(_CORNER)).tolist():
            corners.append(line[j + 1])
            meeting.append({k})
    for there in ends.values():
        ways = [w[3:] / max(float(np.linalg.norm(w[3:])), 1e-300) for _, w in there]
        if len(there) != 2 or float(ways[0] @ ways[1]) > -np.cos(_CORNER):
            corners.append(there[0][1][:3])
            meeting.append({k for k, _ in there})
    beside = [[number[use] for use, _ in adj.uses[e]] for e in edges]
    found = _Creases(
        np.concatenate([line[:-1] for line in lines]),
        np.concatenate([line[1:] for line in lines]),
        np.repeat(np.arange(len(edges)), [len(line) - 1 for line in lines]),
        np.array(beside, dtype=np.int64),
        np.array(corners).reshape(-1, 3),
        meeting,
        np.array([_straight(line) for line in lines]),
    )
    found.sample(_ALONG * step)
    return found


def along(body: Body, step: float, seams: frozenset[Edge] = frozenset()) -> Floats:
    """Points (n,3) along the creases of a body, and other edges, that are followed with cubes of a side (mm)."""
    creases = _creases(body, step, seams)
    return np.zeros((0, 3)) if creases is None else creases.spots


def _line(edge: Edge) -> Floats:
    points = edge_points(edge)[1]
    return np.concatenate([points, points[:1]]) if edge.ring else points


def _straight(line: Floats) -> Floats:
    """A point and the direction (6,) of a line of points (n,3); not a number where it is not straight."""
    out = np.full(6, np.nan)
    way = line[-1] - line[0]
    long = float(np.linalg.norm(way))
    if long > 0.0:
        way = way / long
        off = np.linalg.norm(np.cross(line - line[0], way), axis=1)
        if off.max() <= _FLAT * long:
            out[:3], out[3:] = line[0], way
    return out


def _long_enough(edges: list[Edge], step: float) -> list[Edge]:
    """Edges that hang together over more than a side of a cube."""
    groups: scipy.cluster.hierarchy.DisjointSet = scipy.cluster.hierarchy.DisjointSet(edges)
    first: dict[int, Edge] = {}
    for edge in edges:
        for vertex in (edge.start, edge.end):
            if vertex is not None:
                groups.merge(first.setdefault(id(vertex), edge), edge)
    return [e for own in groups.subsets() if sum(e.length for e in own) > _LONG * step for e in own]


def creased(
    points: Floats, tets: Ints, body: Body, step: float, least: float, seams: frozenset[Edge] = frozenset()
) -> tuple[Floats, Ints, Floats]:
    """Tetrahedra (m,4) of points (n,3) from cubes of a side (mm) on a body's skin, with the creases of that and other
    edges that are followed like them; none worse
    than `least`, as `stars.quality` judges it, where they were not before. Of each node (n,6) a point of the straight
    crease that it can slide on and the way along that; not a number elsewhere."""
    creases = _creases(body, step, seams)
    if creases is None:
        return points, tets, np.full((len(points), 6), np.nan)
    work = _Work(points, tets, body, creases, step, least)
    work.to_corners()
    work.to_edges()
    for _ in range(_ROUNDS):
        found = len(work.open)
        if not work.part() and found == len(work.open):
            break
        work.into_corners()
    lines = np.full((work.nodes, 6), np.nan)
    for node, (crease, *more) in work.on.items():
        if not more and node not in work.held:
            lines[node] = creases.lines[crease]
    return *work.made, lines


class _Work(Elements):
    """The tetrahedra near creases, as they are moved and parted."""

    def __init__(self, points: Floats, tets: Ints, body: Body, creases: _Creases, step: float, least: float):
        self.creases, self.body, self.step = creases, body, step
        near = np.isfinite(creases.tree.query(points, distance_upper_bound=2.5 * step)[0])
        super().__init__(points, tets, near, least)
        #: The creases that a node is on, and the nodes at corners.
        self.on: dict[int, set[int]] = {}
        self.held: set[int] = set()
        #: The corners that have no node yet.
        self.open = np.arange(len(creases.corners))
        self.on_skin = np.unique(self.skin())

    def to_corners(self) -> None:
        """The node that is nearest to each corner and can moves there."""
        tree = scipy.spatial.cKDTree(self.x[self.on_skin])
        for c in self.open.tolist():
            corner = self.creases.corners[c]
            away, rows = tree.query(corner, k=_TRIED, distance_upper_bound=_TO_CORNER * self.step)
            near = self.on_skin[rows[np.isfinite(away)]].tolist()
            if any(self._take(node, corner, self.creases.meeting[c]) for node in near):
                self._got(c)

    def into_corners(self) -> None:
        """What corners have no node yet get one: of those around on edges that meet there, or a new one in a side or a
        triangle of the skin."""
        triangles = self.skin()
        tree = scipy.spatial.cKDTree(self.x[triangles].mean(axis=1))
        for c in self.open.tolist():
            corner, meeting = self.creases.corners[c], self.creases.meeting[c]
            rows = tree.query(corner, k=min(_TRIED, len(triangles)), distance_upper_bound=2.0 * self.step)[1]
            near = triangles[np.atleast_1d(rows)[np.atleast_1d(rows) < len(triangles)]].tolist()
            nodes = sorted({v for t in near for v in t}, key=lambda v: float(np.linalg.norm(self.x[v] - corner)))
            sides = dict.fromkeys((min(a, b), max(a, b)) for t in near for a, b in zip(t, [*t[1:], t[0]], strict=True))
            done = (
                any(self.on.get(v, meeting) <= meeting and self._take(v, corner, meeting, anyhow=True) for v in nodes)
                or any(self._parted(t, corner, meeting) for t in near)
                or any(self._parted(side, corner, meeting) for side in sides)
            )
            if done:
                self._got(c)

    def _got(self, corner: int) -> None:
        self.open = self.open[self.open != corner]

    def _take(self, node: int, to: Floats, creases: set[int], anyhow: bool = False) -> bool:
        """Move a node onto creases, where it is on none yet (`anyhow`: or at no corner)."""
        if (node in self.on and not anyhow) or node in self.held or not self.move(node, to):
            return False
        self.on[node] = set(creases)
        if len(creases) > 1:
            self.held.add(node)
        return True

    def to_edges(self) -> None:
        """Nodes that are near to an edge move there, the nearest first."""
        piece, at, away = self.creases.nearest(self.x[self.on_skin], _TO_EDGE * self.step)
        for k in np.argsort(away, kind="stable").tolist():
            node = int(self.on_skin[k])
            if away[k] > _TO_EDGE * self.step:
                break
            self._take(node, at[k], {int(self.creases.of[piece[k]])})

    def part(self) -> int:
        """Sides of the skin from one face to another get a node on the crease between these; how many did."""
        pulse("finding creases")
        triangles = self.skin()
        self.on_skin = np.unique(triangles)
        faces = {v: frozenset([k]) for v, k in zip(self.on_skin.tolist(), self._owners().tolist(), strict=True)}
        beside = [frozenset(pair) for pair in self.creases.beside.tolist()]
        faces |= {v: frozenset().union(*(beside[c] for c in own)) for v, own in self.on.items()}
        pairs = np.unique(np.sort(triangles[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
        pairs = pairs[[faces[a].isdisjoint(faces[b]) for a, b in pairs.tolist()]]
        if not len(pairs):
            return 0
        done = 0
        piece, share, spot = self._crossings(pairs, [(faces[a], faces[b]) for a, b in pairs.tolist()])
        for k in np.argsort(np.abs(share - 0.5), kind="stable").tolist():
            a, b = pairs[k].tolist()
            if not self._beside(a, faces).isdisjoint(self._beside(b, faces)):
                continue  # one of its ends has moved
            if piece[k] >= 0:
                crease = {int(self.creases.of[piece[k]])}
                near, far = (a, b) if share[k] < 0.5 else (b, a)
                if min(share[k], 1.0 - share[k]) > _END and self._parted((a, b), spot[k], crease):
                    done += 1
                    continue
                if any(self._take(node, spot[k], crease) for node in (near, far)):
                    done += 1
                    continue
            done += self._turned(a, b, faces)
        return done

    def _beside(self, node: int, faces: dict[int, frozenset[int]]) -> frozenset[int]:
        """The faces that a node of the skin is on, by what it was on (`faces`) and is now."""
        own = [f for c in self.on.get(node, ()) for f in self.creases.beside[c].tolist()]
        return frozenset(own) if own else faces.get(node, frozenset())

    def _turned(self, a: int, b: int, faces: dict[int, frozenset[int]]) -> bool:
        """A side of the skin exchanged for the one between the nodes opposite, where these are on one face: what is
        between is filled with an element, or the one that is there goes."""
        rows = self.at[a] & self.at[b]
        count = Counter(v for t in rows for v in self.tets[t].tolist() if v not in (a, b))
        ends = [v for v, times in count.items() if times == 1]
        if len(ends) != 2 or self._beside(ends[0], faces).isdisjoint(self._beside(ends[1], faces)):
            return False
        c, d = ends
        # The element beside a, b and c is on the other side of these than what is filled.
        t = next(t for t in rows if c in self.tets[t])
        one, two, *rest = (d if v not in (a, b, c) else v for v in self.tets[t].tolist())
        n = self.count
        if n < len(self.tets) and not self.at[c] & self.at[d]:
            self.tets[n] = [two, one, *rest]
            if self.fits(np.array([n], dtype=np.int64)):
                self.put([n])
                return True
        return self._without(a, b, sorted(rows), c) or self._without(a, b, sorted(rows), d)

    def _without(self, a: int, b: int, rows: list[int], c: int) -> bool:
        """The elements around a side of the skin made anew without it and without what is between the skin and the side
        from c to the other node opposite: each that does not hold c becomes two with it."""
        old = self.tets[rows]
        left = old[(old != c).all(axis=1)]
        if any(self.at[v] <= set(rows) for v in (a, b)) or self.count + 2 * len(left) > len(self.tets):
            return False
        if not len(left) and len(self.at[c]) < 2:
            return False
        fresh = list(range(self.count, self.count + 2 * len(left)))
        self.tets[fresh] = np.concatenate([np.where(left == a, c, left), np.where(left == b, c, left)])
        if fresh and not self.fits(np.array(fresh, dtype=np.int64)):
            return False
        for t, corners in zip(rows, old.tolist(), strict=True):
            for v in corners:
                self.at[v].discard(t)
        self.tets[rows] = 0
        self.put(fresh)
        return True

    def _owners(self) -> Ints:
        """The face use that each node of the skin lies on."""
        row, _ = tree_of(self.body).nearest(self.x[self.on_skin])
        return np.asarray(body_mesh(self.body)[2][row])

    def _crossings(
        self, pairs: Ints, faces: Sequence[tuple[frozenset[int], frozenset[int]]]
    ) -> tuple[Ints, Floats, Floats]:
        """Where sides (n,2) pass a crease from one of the faces at their one end to one at the other (n): the piece
        (n,), -1 for none, the share of the side (n,), and the point of the crease (n,3)."""
        a, b = self.x[pairs[:, 0]], self.x[pairs[:, 1]]
        long = np.linalg.norm(b - a, axis=1)
        piece, best = np.full(len(pairs), -1), np.full(len(pairs), np.inf)
        share, spot = np.full(len(pairs), 0.5), 0.5 * (a + b)
        beside = self.creases.beside.tolist()
        for s in (0.5, 0.25, 0.75):
            here, at, _ = self.creases.nearest(a + s * (b - a), _ACUTE * float(long.max()))
            for _ in range(4):  # to and fro between the side and the crease
                t = np.clip(((at - a) * (b - a)).sum(axis=1) / np.maximum(long**2, 1e-300), 0.0, 1.0)
                here, at, away = self.creases.nearest(a + t[:, None] * (b - a), _ACUTE * float(long.max()))
            for k in np.flatnonzero((here >= 0) & (away < best) & (away < _ACUTE * long)).tolist():
                (p, q), (one, two) = beside[self.creases.of[here[k]]], faces[k]
                if (p in one and q in two) or (q in one and p in two):
                    piece[k], best[k], share[k], spot[k] = here[k], away[k], t[k], at[k]
        return piece, share, spot

    def _parted(self, corners: Sequence[int], spot: Floats, creases: set[int]) -> bool:
        """A node on creases, on a side (2) or a triangle (3) of the skin."""
        node = self.parted(corners, spot)
        if node is None:
            return False
        self.on[node] = set(creases)
        if len(creases) > 1:
            self.held.add(node)
        return True
