"""The surface mesh remade over what it does not follow.

What the faces' own mesh has beside drapes and below the ignore size is collapsed, split, swapped and smoothed in
space, each node brought back onto the true surfaces (Botsch & Kobbelt, *A remeshing approach to multiresolution
modeling*, 2004; Frey & Borouchaki 1998). Nodes on edges that stay keep to them, the corners of such edges stay; all
else of the mesh is as it was. From then on triangles are not tied to charts any more: where the tetrahedra miss one,
its side is halved.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.area import clamped
from lithon.brep.charts import parts_of
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Edge, Face
from lithon.geometry.boxtree import BoxTree
from lithon.mesh.drapes import Ignored, ignored
from lithon.mesh.surface import SurfaceMesh
from lithon.progress import pulse

_ROUNDS = 8
#: How many sides away from what is not followed a drape's own mesh is still worked over.
_RINGS = 5
_TRIES = 4
#: Sides are split above and collapsed below these shares of the wanted size.
_LONG, _SHORT = 1.45, 0.68
#: Of a chain that goes on across a corner of the model: how straight (cosine).
_STRAIGHT = 0.86

Side = tuple[int, int]
Vector = tuple[float, float, float]


@dataclass(slots=True)
class Skin(SurfaceMesh):
    """A surface mesh that is triangles only. segments: the sides on edges of the model that are followed; tri (m,3) and
    of (m,): all triangles and their faces."""

    segments: dict[Side, Edge] = field(default_factory=dict)
    tri: Ints = field(default_factory=lambda: np.zeros((0, 3), dtype=np.int64))
    of: Ints = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    def triangles(self) -> tuple[Ints, Ints]:
        return self.tri, self.of

    def set_triangles(self, triangles: Ints, of: Ints) -> None:
        self.tri, self.of = triangles, of

    def halve(self, sides: Iterable[Side]) -> None:
        """A node in the middle of each side, on the true edge or surface; the triangles beside it are halved."""
        tri, of = self.tri.tolist(), self.of.tolist()
        beside: dict[Side, set[int]] = defaultdict(set)

        def put(t: int, corners: list[int]) -> None:
            for k in range(3):
                beside[_side(corners[k], corners[k - 1])].add(t)

        for t, corners in enumerate(tri):
            put(t, corners)
        for a, b in sides:
            rows = beside.pop(_side(a, b), set())
            if not rows:
                continue
            node = self._node(self._middle(a, b, [self.faces[of[t]] for t in rows]))
            edge = self.segments.pop(_side(a, b), None)
            if edge is not None:
                self.segments[_side(a, node)] = self.segments[_side(node, b)] = edge
            for t in rows:
                old = tri[t]
                for k in range(3):
                    beside[_side(old[k], old[k - 1])].discard(t)
                tri[t], new = [node if v == a else v for v in old], [node if v == b else v for v in old]
                tri.append(new)
                of.append(of[t])
                put(t, tri[t])
                put(len(tri) - 1, new)
        self.tri, self.of = np.array(tri, dtype=np.int64), np.array(of, dtype=np.int64)

    def pierce(self, places: dict[int, Floats]) -> None:
        """A node in each of some triangles, on the true surface below a point; the triangle is parted in three."""
        tri, of = self.tri.tolist(), self.of.tolist()
        for t, point in places.items():
            a, b, c = tri[t]
            node = self._node(self.faces[of[t]].surface.project(point[None])[0])
            tri[t] = [a, b, node]
            tri += [[b, c, node], [c, a, node]]
            of += [of[t], of[t]]
        self.tri, self.of = np.array(tri, dtype=np.int64), np.array(of, dtype=np.int64)

    def _middle(self, a: int, b: int, faces: list[Face]) -> Floats:
        middle = 0.5 * (self.nodes[a] + self.nodes[b])
        edge = self.segments.get(_side(a, b))
        if edge is not None:
            return np.asarray(edge.curve.point(clamped(edge, middle[None]))[0])
        spots = [f.surface.project(middle[None])[0] for f in faces]
        best = min(spots, key=lambda p: float(np.linalg.norm(p - middle)))
        # Beyond the end of a draped face its surface is another place.
        near = float(np.linalg.norm(best - middle)) < 0.3 * float(np.linalg.norm(self.nodes[a] - self.nodes[b]))
        return best if near else middle


@njit(cache=True)
def _cross(p: Floats, a: int, b: int, c: int) -> Vector:
    """Twice the area of a triangle along its normal."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    wx, wy, wz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@njit(cache=True)
def _length(p: Floats, a: int, b: int) -> float:
    x, y, z = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    return float(np.sqrt(x * x + y * y + z * z))


@njit(cache=True)
def _shape(p: Floats, a: int, b: int, c: int) -> float:
    """1 for an equilateral triangle, 0 for one without area (Bank & Smith 1997)."""
    x, y, z = _cross(p, a, b, c)
    sides = _length(p, a, b) ** 2 + _length(p, b, c) ** 2 + _length(p, c, a) ** 2
    return float(2.0 * np.sqrt(3.0) * np.sqrt(x * x + y * y + z * z) / max(sides, 1e-300))


def _total(vectors: list[Vector]) -> Vector:
    x, y, z = (sum(c) for c in zip(*vectors, strict=True))
    return x, y, z


def _cosine(a: Vector, b: Vector) -> float:
    """Of the angle between two vectors; 1 where one has no length."""
    both = (a[0] ** 2 + a[1] ** 2 + a[2] ** 2) * (b[0] ** 2 + b[1] ** 2 + b[2] ** 2)
    return (a[0] * b[0] + a[1] * b[1] + a[2] * b[2]) / both**0.5 if both > 0.0 else 1.0


@njit(cache=True)
def _middles(p: Floats, start: Ints, around: Ints) -> Floats:
    """The middle (n,3) of the triangles around each node, weighted by area; rows start[k] to start[k + 1] of around."""
    out = np.zeros((len(start) - 1, 3))
    for k in range(len(start) - 1):
        total = 0.0
        for j in range(start[k], start[k + 1]):
            a, b, c = around[j, 0], around[j, 1], around[j, 2]
            x, y, z = _cross(p, a, b, c)
            w = np.sqrt(x * x + y * y + z * z) + 1e-300
            total += w
            for i in range(3):
                out[k, i] += w * (p[a, i] + p[b, i] + p[c, i]) / 3.0
        for i in range(3):
            out[k, i] /= total
    return out


@njit(cache=True)
def _settle(p: Floats, nodes: Ints, start: Ints, around: Ints, goal: Floats) -> None:
    """Move each node to its goal where no triangle around it gets much worse or turns."""
    old = np.empty((64, 3))
    for k in range(len(nodes)):
        v, many = nodes[k], start[k + 1] - start[k]
        if many > 64:
            continue
        before = 1.0
        for j in range(many):
            a, b, c = around[start[k] + j, 0], around[start[k] + j, 1], around[start[k] + j, 2]
            before = min(before, _shape(p, a, b, c))
            old[j, 0], old[j, 1], old[j, 2] = _cross(p, a, b, c)
        x, y, z = p[v, 0], p[v, 1], p[v, 2]
        p[v, 0], p[v, 1], p[v, 2] = goal[k, 0], goal[k, 1], goal[k, 2]
        after, turned = 1.0, False
        for j in range(many):
            a, b, c = around[start[k] + j, 0], around[start[k] + j, 1], around[start[k] + j, 2]
            after = min(after, _shape(p, a, b, c))
            nx, ny, nz = _cross(p, a, b, c)
            dot = nx * old[j, 0] + ny * old[j, 1] + nz * old[j, 2]
            size = (nx * nx + ny * ny + nz * nz) * (old[j, 0] ** 2 + old[j, 1] ** 2 + old[j, 2] ** 2)
            turned = turned or dot < 0.5 * np.sqrt(size)
        if after < min(0.9 * before, 0.4) or (turned and before > 1e-3):
            p[v, 0], p[v, 1], p[v, 2] = x, y, z


def _side(a: int, b: int) -> Side:
    return (a, b) if a < b else (b, a)


def remade(surface: SurfaceMesh, avoid: Collection[Face] = ()) -> SurfaceMesh:
    """The mesh without what its rules say is not followed; itself where that is nothing. Where triangles would pass
    through each other, as in a wall thinner than what is ignored, and beside faces to be avoided, all is followed."""
    found = ignored(surface.bodies, surface.sizes.rules).without(avoid)
    for _ in range(_TRIES):
        if not found:
            return surface
        out = _Remaker(surface, found).run()
        triangles, of = out.triangles()
        bad = {surface.faces[j] for j in np.unique(of[cutting_pairs(out.points(), triangles)].ravel())}
        if not bad:
            return out
        found = found.without(bad)
    return surface


class _Remaker:
    """The mesh as it is remade: triangles by number, with the sets of them around each node."""

    def __init__(self, surface: SurfaceMesh, found: Ignored):
        self.surface, self.found = surface, found
        self.faces = surface.faces
        self.p = surface.points()
        self.count = len(self.p)
        triangles, of = surface.triangles()
        self.tri: dict[int, tuple[int, int, int]] = {}
        self.of: dict[int, int] = {}
        self.star: dict[int, set[int]] = defaultdict(set)
        self.next = 0
        for corners, face in zip(triangles.tolist(), of.tolist(), strict=True):
            self._add(tuple(corners), face)
        self.segments: dict[Side, Edge] = {}
        self.hard: dict[int, set[int]] = defaultdict(set)
        self.tiny: set[Side] = set()
        soft_nodes: set[int] = set()
        for edge, ids in surface.edge_nodes.items():
            walk = [*ids.tolist(), int(ids[0])] if edge.ring else ids.tolist()
            if edge in found.soft:
                soft_nodes |= set(walk)
                continue
            for a, b in itertools.pairwise(walk):
                self._harden(a, b, edge)
                if edge in found.tiny:
                    self.tiny.add(_side(a, b))
        whole = {part: f for body in surface.bodies for f in dict.fromkeys(body.faces) for part in parts_of(f)}
        self.group = np.full(len(self.faces), -1)
        self.small = np.array([whole[f] in found.small for f in self.faces])
        for k, group in enumerate(found.groups):
            for j, face in enumerate(self.faces):
                if whole[face] in group:
                    self.group[j] = k
        # What may change: draped faces about the edges that are not followed, and around what is drawn together.
        draped = {v for t, corners in self.tri.items() if self.group[self.of[t]] >= 0 for v in corners}
        narrow = {v for t, corners in self.tri.items() if self.small[self.of[t]] for v in corners}
        near = {v for side in self.tiny for v in side}
        self.free = self._about((soft_nodes | narrow) & draped, _RINGS, draped) | self._about(near, 2)
        self.size = np.asarray(surface.sizes.at(self.p)).tolist()
        touched = sorted({self.of[t] for v in self.free for t in self.star[v]})
        meshes = [face_mesh(self.faces[j]) for j in touched]
        base = np.cumsum([0, *(len(m.points) for m in meshes)])
        self._tree = BoxTree.of(
            np.concatenate([m.points for m in meshes]),
            np.concatenate([m.triangles + b for m, b in zip(meshes, base, strict=False)]),
        )
        self._owner = np.repeat(touched, [len(m.triangles) for m in meshes])

    def _about(self, nodes: set[int], rings: int, within: set[int] | None = None) -> set[int]:
        """Nodes and those so many sides away from them, all of a set."""
        out, last = set(nodes), nodes
        for _ in range(rings):
            last = {w for v in last for t in self.star[v] for w in self.tri[t]} - out
            last = last if within is None else last & within
            out |= last
        return out

    # ---- the pieces

    def _add(self, corners: tuple[int, ...], face: int) -> None:
        a, b, c = corners
        self.tri[self.next], self.of[self.next] = (a, b, c), face
        for v in corners:
            self.star[v].add(self.next)
        self.next += 1

    def _drop(self, t: int) -> None:
        for v in self.tri[t]:
            self.star[v].discard(t)
        del self.tri[t], self.of[t]

    def _harden(self, a: int, b: int, edge: Edge) -> None:
        self.segments[_side(a, b)] = edge
        self.hard[a].add(b)
        self.hard[b].add(a)

    def _soften(self, a: int, b: int) -> Edge:
        self.hard[a].discard(b)
        self.hard[b].discard(a)
        return self.segments.pop(_side(a, b))

    def _around(self, v: int) -> set[int]:
        return {w for t in self.star[v] for w in self.tri[t]} - {v}

    def _cross(self, corners: tuple[int, ...]) -> Vector:
        a, b, c = corners
        return _cross(self.p, a, b, c)

    def _shape(self, corners: tuple[int, ...]) -> float:
        a, b, c = corners
        return _shape(self.p, a, b, c)

    def _length(self, a: int, b: int) -> float:
        return _length(self.p, a, b)

    def _new(self, point: Floats, size: float) -> int:
        if self.count == len(self.p):
            self.p = np.concatenate([self.p, np.zeros_like(self.p)])
        self.p[self.count] = point
        self.size.append(size)
        self.count += 1
        return self.count - 1

    # ---- what is done to them

    def run(self) -> Skin:
        self.dirty = set(self.free)
        for _ in range(_ROUNDS):
            pulse("draping the surface")
            now, self.dirty = self.dirty, set()
            changed = self._collapse_all(now)
            changed += self._split_all(now | self.dirty)
            self._swap_all(now | self.dirty)
            self._smooth(now | self.dirty)
            if not changed:
                break
        self._swap_all(self.free)
        return self._made()

    def _sides(self, nodes: Iterable[int]) -> set[Side]:
        out: set[Side] = set()
        for v in nodes:
            if v in self.free and self.star.get(v):
                out.update(_side(v, w) for w in self._around(v) if w in self.free or _side(v, w) in self.segments)
        return out

    def _collapse_all(self, nodes: Iterable[int]) -> int:
        done = 0
        for _ in range(20):
            sides = [(self._length(a, b) / min(self.size[a], self.size[b]), a, b) for a, b in self._sides(nodes)]
            short = sorted(s for s in sides if s[0] < _SHORT or _side(s[1], s[2]) in self.tiny)
            before, fresh = done, set[int]()
            for _, a, b in short:
                if not (self.star[a] and self.star[b]) or b not in self._around(a):
                    continue
                pulse()
                if self._collapse(a, b) or self._collapse(b, a):
                    done += 1
                    fresh |= self._around(a) | self._around(b) | {a, b}
            self.dirty |= fresh
            if done == before:
                break
            nodes = fresh
        return done

    def _may_go(self, u: int, v: int) -> bool:
        """Whether a node may be drawn into another: anywhere from within a face, along its edge from on one, and over
        a tiny edge from a corner that no more edges run into."""
        if u not in self.free:
            return False
        along = self.hard[u]
        if not along:
            return True
        limit = self.surface.sizes.rules.ignore or 0.0
        if v not in along:  # an edge that ends where what it met is not followed goes on to what is near there
            return len(along) == 1 and self._length(u, v) < limit
        if _side(u, v) in self.tiny:
            return len(along) <= len(self.hard[v])
        if len(along) != 2:
            return False
        (w,) = along - {v}
        one, two = self.p[u] - self.p[w], self.p[v] - self.p[u]
        same = self.segments[_side(u, w)] is self.segments[_side(u, v)]
        straight = float(one @ two) > _STRAIGHT * float(np.linalg.norm(one) * np.linalg.norm(two))
        return straight and (same or _side(u, w) in self.tiny or self._length(u, v) < limit)

    def _collapse(self, u: int, v: int) -> bool:
        if not self._may_go(u, v):
            return False
        gone = self.star[u] & self.star[v]
        between = self._around(u) & self._around(v)
        if len(between) != len(gone):
            return False
        # Between three followed sides is a face; one that is drawn together on all sides goes with them.
        both = [w for w in between if w in self.hard[u] and w in self.hard[v]]
        if any(not self.tiny.issuperset((_side(u, w), _side(v, w))) for w in both):
            return False
        stay = [t for t in self.star[u] if t not in gone]
        if not stay:
            return False
        tiny = _side(u, v) in self.tiny
        before = min(self._shape(self.tri[t]) for t in self.star[u])
        moved = [tuple(v if x == u else x for x in self.tri[t]) for t in stay]
        shape = min(map(self._shape, moved))
        if shape < min(0.2, before) or shape < 1e-3:
            return False
        if not tiny and max(self._length(v, w) for c in moved for w in c) > 1.6 * max(self.size[u], self.size[v]):
            return False
        crosses = [self._cross(c) for c in moved]
        mean = _total(crosses)
        for t, cross in zip(stay, crosses, strict=True):
            if _cosine(cross, mean if self.small[self.of[t]] else self._cross(self.tri[t])) < 0.3:
                return False
        if self._folds(v, [*moved, *(self.tri[t] for t in self.star[v] - gone)]):
            return False
        for t in list(gone):
            self._drop(t)
        for t, corners in zip(stay, moved, strict=True):
            face = self.of[t]
            self._drop(t)
            self._add(corners, face)
        for w in list(self.hard[u]):
            tiny_side = _side(u, w) in self.tiny
            self.tiny.discard(_side(u, w))
            edge = self._soften(u, w)
            if w != v:
                self._harden(v, w, edge)
                if tiny_side:
                    self.tiny.add(_side(v, w))
        self.star.pop(u, None)
        return True

    def _folds(self, v: int, around: list[tuple[int, ...]]) -> bool:
        """Whether two triangles beside each other around a node would lie on each other, but over a followed edge."""
        by: dict[int, list[tuple[int, ...]]] = defaultdict(list)
        for corners in around:
            for w in corners:
                if w != v:
                    by[w].append(corners)
        inner = [two for w, two in by.items() if len(two) == 2 and _side(v, w) not in self.segments]
        return any(_cosine(self._cross(a), self._cross(b)) < -0.2 for a, b in inner)

    def _split_all(self, nodes: Iterable[int]) -> int:
        long = [
            (self._length(a, b) / max(self.size[a], self.size[b]), a, b)
            for a, b in self._sides(nodes)
            if _side(a, b) not in self.segments and self._within(a, b)
        ]
        done = 0
        for share, a, b in sorted(long, reverse=True):
            if share < _LONG:
                break
            if b not in self._around(a):
                continue
            both = list(self.star[a] & self.star[b])
            middle = 0.5 * (self.p[a] + self.p[b])
            node = self._new(self._onto(middle[None])[0], 0.5 * (self.size[a] + self.size[b]))
            self.free.add(node)
            for t in both:
                corners, face = self.tri[t], self.of[t]
                self._drop(t)
                for old in (a, b):
                    self._add(tuple(node if x == old else x for x in corners), face)
            self.dirty |= self._around(node) | {node}
            done += 1
        return done

    def _within(self, a: int, b: int) -> bool:
        """Whether a side runs within a drape."""
        return all(self.group[self.of[t]] >= 0 for t in self.star[a] & self.star[b])

    def _swap_all(self, nodes: Iterable[int]) -> None:
        """Other diagonals where they make the worse of two triangles better."""
        stack = list(self._sides(nodes))
        for _ in range(20 * len(stack) + 20):
            if not stack:
                break
            stack += self._swap(*stack.pop())

    def _swap(self, a: int, b: int) -> list[Side]:
        if _side(a, b) in self.segments:
            return []
        both = list(self.star[a] & self.star[b])
        if len(both) != 2 or not self._alike(*both):
            return []
        one = next((t for t in both if self._runs(t, a, b)), None)
        if one is None:
            return []
        other = both[0] if one is both[1] else both[1]
        c = next(v for v in self.tri[one] if v not in (a, b))
        d = next(v for v in self.tri[other] if v not in (a, b))
        if c == d or d in self._around(c):
            return []
        new = (a, d, c), (d, b, c)
        old = min(self._shape(self.tri[t]) for t in both)
        if min(map(self._shape, new)) < 1.02 * old + 1e-9:
            return []
        mean = _total([self._cross(self.tri[one]), self._cross(self.tri[other])])
        if any(_cosine(self._cross(corners), mean) < 0.5 for corners in new):
            return []
        faces = self.of[one], self.of[other]
        self._drop(one)
        self._drop(other)
        for corners, face in zip(new, faces, strict=True):
            self._add(corners, face)
        self.dirty |= {a, b, c, d}
        return [_side(a, d), _side(d, b), _side(b, c), _side(c, a)]

    def _alike(self, s: int, t: int) -> bool:
        """Whether two triangles are of one face or one drape."""
        f, g = self.of[s], self.of[t]
        return f == g or (self.group[f] >= 0 and self.group[f] == self.group[g])

    def _runs(self, t: int, a: int, b: int) -> bool:
        x, y, z = self.tri[t]
        return (a, b) in ((x, y), (y, z), (z, x))

    def _smooth(self, nodes: Iterable[int]) -> None:
        """Nodes within drapes moved to the middle of what is around them, and back onto the surface."""
        inner = [v for v in sorted(nodes) if self.star.get(v) and not self.hard[v] and self._inner(v)]
        if not inner:
            return
        stars = [sorted(self.star[v]) for v in inner]
        start = np.cumsum([0, *map(len, stars)])
        around = np.array([self.tri[t] for star in stars for t in star], dtype=np.int64)
        nodes = np.array(inner, dtype=np.int64)
        for _ in range(2):
            pulse()
            goal = self._onto(_middles(self.p, start, around))
            _settle(self.p, nodes, start, around, goal)

    def _inner(self, v: int) -> bool:
        return all(self.group[self.of[t]] >= 0 for t in self.star[v])

    def _onto(self, points: Floats) -> Floats:
        """Points (n,3) on the true surfaces, of the faces that are nearest."""
        row, at = self._tree.nearest(points)
        owner = self._owner[row]
        out = at.copy()
        for j in np.unique(owner):
            own = owner == j
            out[own] = self.faces[j].surface.project(points[own])
        far = (
            np.linalg.norm(out - at, axis=1)
            > np.linalg.norm(at - points, axis=1) + 1e-3 * self.surface.sizes.rules.size
        )
        out[far] = at[far]  # beyond the face's end the surface is another place
        return out

    # ---- the end

    def _made(self) -> Skin:
        """Numbered anew, each triangle with the face of its drape that is nearest."""
        used = sorted({v for corners in self.tri.values() for v in corners})
        number = {v: k for k, v in enumerate(used)}
        keys = list(self.tri)
        tri = np.array([[number[v] for v in self.tri[t]] for t in keys], dtype=np.int64)
        of = np.array([self.of[t] for t in keys], dtype=np.int64)
        points = self.p[used]
        for k in range(len(self.found.groups)):
            rows = np.flatnonzero(self.group[of] == k)
            mine = np.flatnonzero(self.group == k)
            of[rows] = self._nearest_of(mine, points[tri[rows]].mean(axis=1))
        out = Skin(self.surface.bodies, self.surface.sizes, self.faces, list(points))
        # Of an edge between faces that were left out for failing there is nothing.
        kept = {side: e for side, e in self.segments.items() if side[0] in number and side[1] in number}
        out.segments = {_side(number[a], number[b]): e for (a, b), e in kept.items()}
        out.set_triangles(tri, of)
        on_edge = {v for side in out.segments for v in side}
        empty: Ints = np.zeros(0, dtype=np.int64)
        owner: dict[int, set[int]] = defaultdict(set)
        for corners, j in zip(tri.tolist(), of.tolist(), strict=True):
            for v in corners:
                owner[v].add(j)
        inner: dict[int, list[int]] = defaultdict(list)
        for v, found in owner.items():
            if v not in on_edge and len(found) == 1 and self.group[next(iter(found))] < 0:
                inner[next(iter(found))].append(v)
        for j, face in enumerate(self.faces):
            out.inner[face] = (np.array(inner[j], dtype=np.int64) if inner[j] else empty, np.zeros((0, 2)))
            out.singular[face] = 0
        return out

    def _nearest_of(self, faces: Ints, points: Floats) -> Ints:
        meshes = [face_mesh(self.faces[j]) for j in faces]
        base = np.cumsum([0, *(len(m.points) for m in meshes)])
        tree = BoxTree.of(np.concatenate([m.points for m in meshes]),
                          np.concatenate([m.triangles + b for m, b in zip(meshes, base, strict=False)]))  # fmt: skip
        row, _ = tree.nearest(points)
        return np.repeat(faces, [len(m.triangles) for m in meshes])[row]
