"""A surface mesh that is tied to no charts any more: triangles, and the sides of them that edges of the model take."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.brep.area import clamped
from lithon.brep.topology import Edge, Face
from lithon.geometry.triples import cross
from lithon.mesh.surface import SurfaceMesh, parted

Side = tuple[int, int]

#: Of two triangles whose common side is turned, before and after: how alike they look (cosine).
_FLAT = 0.95
#: How far a new node of a drape is brought to the true surface, as a share of the way to its neighbours: beyond the end
#: of a face its surface is another place.
_AWAY = 0.1
#: And the middle of a side elsewhere: so far it is over an arc of 120 degrees.
_SAG = 0.3
#: So many sides away from new nodes diagonals may be turned.
_RINGS = 4


def side_of(a: int, b: int) -> Side:
    return (a, b) if a < b else (b, a)


@dataclass(slots=True)
class Skin(SurfaceMesh):
    """A surface mesh that is triangles only. segments: the sides on edges of the model that are followed; draped: the
    faces that are meshed with others as one; tri (m,3) and of (m,): all triangles and their faces."""

    segments: dict[Side, Edge] = field(default_factory=dict)
    draped: frozenset[Face] = frozenset()
    tri: Ints = field(default_factory=lambda: np.zeros((0, 3), dtype=np.int64))
    of: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    def triangles(self) -> tuple[Ints, Ints]:
        return self.tri, self.of

    def on_edges(self) -> dict[Side, Edge]:
        return self.segments

    def set_triangles(self, triangles: Ints, of: Ints) -> None:
        self.tri, self.of = triangles, of

    def refine(self, sides: Iterable[Side], places: dict[int, Floats | int]) -> None:
        """A node in the middle of each side, and one in each of some triangles (by number) on the true surface below a
        point, or one that is there already; around them diagonals are turned until each face's triangles are
        Delaunay's again (Lawson 1977)."""
        sides = list(sides)
        touched = np.zeros(len(self.nodes), dtype=np.bool_)
        touched[np.array(sides, dtype=np.int64).ravel()] = True
        touched[self.tri[np.array(list(places), dtype=np.int64)]] = True
        for _ in range(_RINGS):
            touched[self.tri[touched[self.tri].any(axis=1)]] = True
        _Refined(self, np.flatnonzero(touched[self.tri].any(axis=1))).run(sides, places)


class _Refined:
    """Some triangles (n,) of a skin as lists, with those beside each side."""

    def __init__(self, skin: Skin, rows: Ints):
        self.skin, self.rows = skin, rows
        self.tri: list[list[int]] = skin.tri[rows].tolist()
        self.of: list[int] = skin.of[rows].tolist()
        self.beside: dict[Side, set[int]] = defaultdict(set)
        for t in range(len(self.tri)):
            self._put(t)
        self.inner: dict[Face, list[int]] = defaultdict(list)
        self.gone: set[int] = set()
        ends, counts = np.unique(np.array(list(skin.segments), dtype=np.int64).reshape(-1, 2), return_counts=True)
        self.corners = set(ends[counts != 2].tolist())

    def run(self, sides: list[Side], places: dict[int, Floats | int]) -> None:
        skin = self.skin
        loose: list[Side] = []
        at = np.searchsorted(self.rows, np.array(list(places), dtype=np.int64)).tolist()
        for t, point in zip(at, places.values(), strict=True):  # first: the triangles are those of before
            loose += self._pierce(t, point)
        for (a, b), middle in zip(sides, self._middles(sides), strict=True):
            loose += self._halve(a, b, middle)
        self._turn(loose)
        n = len(self.rows)
        tri, of = np.array(self.tri, dtype=np.int64), np.array(self.of, dtype=np.int64)
        skin.tri[self.rows], skin.of[self.rows] = tri[:n], of[:n]
        skin.tri, skin.of = np.concatenate([skin.tri, tri[n:]]), np.concatenate([skin.of, of[n:]])
        if self.gone:
            gone = np.concatenate([self.rows, np.arange(len(skin.tri) - len(tri) + n, len(skin.tri))])[list(self.gone)]
            skin.tri, skin.of = np.delete(skin.tri, gone, axis=0), np.delete(skin.of, gone)
        if skin.twice:  # what two faces hold together slides on neither
            skin.inner = {f: (ids[~np.isin(ids, skin.twice)], chart) for f, (ids, chart) in skin.inner.items()}
        for face, fresh in self.inner.items():
            ids, chart = skin.inner[face]
            skin.inner[face] = (np.concatenate([ids, np.array(fresh, dtype=np.int64)]), chart)

    def _put(self, t: int) -> None:
        for k in range(3):
            self.beside[side_of(self.tri[t][k], self.tri[t][k - 1])].add(t)

    def _take(self, t: int) -> None:
        for k in range(3):
            self.beside[side_of(self.tri[t][k], self.tri[t][k - 1])].discard(t)

    def _set(self, t: int, corners: list[int]) -> None:
        self._take(t)
        self.tri[t] = corners
        self._put(t)

    def _new(self, corners: list[int], face: int) -> None:
        self.tri.append(corners)
        self.of.append(face)
        self._put(len(self.tri) - 1)

    def _around(self, rows: Iterable[int]) -> list[Side]:
        return [side_of(self.tri[t][k], self.tri[t][k - 1]) for t in rows for k in range(3)]

    def _pierce(self, t: int, point: Floats | int) -> list[Side]:
        a, b, c = self.tri[t]
        face = self.skin.faces[self.of[t]]
        if isinstance(point, int):
            node = point
            self.skin.twice.append(node)
        else:
            spot = face.surface.project(point[None])[0]
            reach = min(float(np.linalg.norm(self.skin.nodes[v] - point)) for v in (a, b, c))
            on_face = face not in self.skin.draped or float(np.linalg.norm(spot - point)) < _AWAY * reach
            node = self._node(spot if on_face else point, {self.of[t]} if on_face else set())
        self._set(t, [a, b, node])
        self._new([b, c, node], self.of[t])
        self._new([c, a, node], self.of[t])
        if isinstance(point, int):
            for made in (t, len(self.tri) - 2, len(self.tri) - 1):
                self._cancel(made)
        return [side_of(a, b), side_of(b, c), side_of(c, a)]

    def _cancel(self, t: int) -> None:
        """Two triangles over the same corners, one the back of the other, hold nothing between them: both go."""
        corners = set(self.tri[t])
        near = self.beside[side_of(self.tri[t][0], self.tri[t][1])]
        other = next((s for s in near if s != t and set(self.tri[s]) == corners), None)
        if other is None:
            return
        self.gone |= {t, other}
        self._take(t)
        self._take(other)
        for side in self._around([t]):
            if not self.beside[side]:
                self.skin.segments.pop(side, None)

    def _halve(self, a: int, b: int, middle: Floats) -> list[Side]:
        skin = self.skin
        rows = set(self.beside.get(side_of(a, b), ()))
        if not rows:
            return []
        edge = skin.segments.pop(side_of(a, b), None)
        node = self._node(middle, {self.of[t] for t in rows} if edge is None else set())
        if edge is not None:
            skin.segments[side_of(a, node)] = skin.segments[side_of(node, b)] = edge
        fresh = set(rows)
        for t in rows:
            old = self.tri[t]
            self._set(t, [node if v == a else v for v in old])
            fresh.add(len(self.tri))
            self._new([node if v == b else v for v in old], self.of[t])
        return [s for s in self._around(fresh) if node not in s]

    def _node(self, point: Floats, rows: set[int]) -> int:
        """A new node; within one face that is not draped it may slide later on."""
        node = self.skin._node(point)
        if len(rows) == 1:
            face = self.skin.faces[next(iter(rows))]
            if face not in self.skin.draped:
                self.inner[face].append(node)
        return node

    def _middles(self, sides: list[Side]) -> list[Floats]:
        """Of each side, on its edge or on the nearest surface of the faces beside it; these are asked once each."""
        nodes, skin = self.skin.nodes, self.skin
        out: list[Floats] = []
        asked: dict[int, list[int]] = defaultdict(list)
        for k, (a, b) in enumerate(sides):
            out.append(0.5 * (nodes[a] + nodes[b]))
            edge = skin.segments.get(side_of(a, b))
            if edge is not None:
                ta, tb, t = clamped(edge, np.array([nodes[a], nodes[b], out[k]])).tolist()
                if (tb - t) * (t - ta) > 0.0:
                    t = parted(edge, ta, tb, a in self.corners, b in self.corners)
                out[k] = np.asarray(edge.curve.point(np.array([t]))[0])
                continue
            for face in {self.of[t] for t in self.beside.get(side_of(a, b), ())}:
                asked[face].append(k)
        middles = np.array(out).reshape(-1, 3)
        best = np.full(len(sides), np.inf)
        for face, rows in asked.items():
            spots = skin.faces[face].surface.project(middles[rows])
            most = _AWAY if skin.faces[face] in skin.draped else _SAG
            for k, spot, away in zip(rows, spots, np.linalg.norm(spots - middles[rows], axis=1).tolist(), strict=True):
                a, b = sides[k]
                if away < min(best[k], most * float(np.linalg.norm(nodes[a] - nodes[b]))):
                    best[k], out[k] = away, spot
        return out

    def _turn(self, loose: list[Side]) -> None:
        for _ in range(20 * len(loose) + 20):
            if not loose:
                return
            loose += self._turned(loose.pop())

    def _turned(self, side: Side) -> list[Side]:
        """The diagonal of two triangles of one face exchanged where the angles before it are more than a half turn."""
        rows = self.beside.get(side, set())
        if len(rows) != 2 or side in self.skin.segments:
            return []
        one, other = rows
        if self.of[one] != self.of[other]:
            return []
        a, b = side
        k = self.tri[one].index(a)
        if self.tri[one][(k + 1) % 3] != b:
            a, b = b, a
        c = next(v for v in self.tri[one] if v not in side)
        d = next(v for v in self.tri[other] if v not in side)
        if c == d or self.beside.get(side_of(c, d)):
            return []
        p = self.skin.nodes
        if not _should_turn(np.stack((p[a], p[b], p[c], p[d]))):
            return []
        self._take(one)
        self._take(other)
        self.tri[one], self.tri[other] = [a, d, c], [d, b, c]
        self._put(one)
        self._put(other)
        return [side_of(a, d), side_of(d, b), side_of(b, c), side_of(c, a)]


@njit(cache=True)
def _should_turn(p: Floats) -> bool:
    """Whether of triangles 0 1 2 and 1 0 3 of points (4,3) the angles at 2 and 3 are more than a half turn, and 0 3 2
    and 3 1 2 look the same way as they do."""
    if _angle(p, 2, 0, 1) + _angle(p, 3, 0, 1) < np.pi + 1e-6:
        return False
    s, t = cross(p, 0, 1, 2), cross(p, 1, 0, 3)
    mean = (s[0] + t[0], s[1] + t[1], s[2] + t[2])
    long = (mean[0] ** 2 + mean[1] ** 2 + mean[2] ** 2) ** 0.5
    if not long:
        return False
    for x in (cross(p, 0, 3, 2), cross(p, 3, 1, 2)):
        size = (x[0] ** 2 + x[1] ** 2 + x[2] ** 2) ** 0.5
        if x[0] * mean[0] + x[1] * mean[1] + x[2] * mean[2] < _FLAT * size * long:
            return False
    return True


@njit(cache=True)
def _angle(p: Floats, at: int, a: int, b: int) -> float:
    """At a point between the ways to two others (radians)."""
    n, dot = cross(p, at, a, b), 0.0
    for k in range(3):
        dot += (p[a, k] - p[at, k]) * (p[b, k] - p[at, k])
    return float(np.arctan2((n[0] ** 2 + n[1] ** 2 + n[2] ** 2) ** 0.5, dot))
