"""Triangles that pass through each other, cut along where they meet and kept where they part the inside from the
outside.

Exact: corners are put on a lattice of whole numbers, and where triangles meet are ratios of such, so that what two of
them cut is the same point for both (Zhou, Grinspun, Zorin & Jacobson 2016). What is skin is told by how often the whole
goes around both sides of it (Jacobson, Kavan & Sorkine-Hornung 2013).
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product, triangle_areas
from lithon.brep.cleaning import winding_number
from lithon.brep.meeting import may_meet
from lithon.geometry.boxtree import BoxTree
from lithon.progress import pulse

#: x, y, z and what they are divided by, which is positive; without a common divisor.
_Point = tuple[int, int, int, int]
_Segment = tuple[_Point, _Point]

#: Steps of the lattice along the longest side of all.
_STEPS = 2**34


def _point(x: int, y: int, z: int, w: int) -> _Point:
    g = math.gcd(x, y, z, w) if w > 0 else -math.gcd(x, y, z, w)
    return x // g, y // g, z // g, w // g


class _Triangle:
    """A triangle of lattice points, its plane n . p = d, and how it is looked at along an axis."""

    __slots__ = ("axis", "corners", "d", "n", "sign")

    def __init__(self, corners: list[_Point]):
        self.corners = corners
        (ax, ay, az, _), (bx, by, bz, _), (cx, cy, cz, _) = corners
        ux, uy, uz, vx, vy, vz = bx - ax, by - ay, bz - az, cx - ax, cy - ay, cz - az
        self.n = (uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx)
        self.d = self.n[0] * ax + self.n[1] * ay + self.n[2] * az
        self.axis = max(range(3), key=lambda k: abs(self.n[k]))
        self.sign = 1 if self.n[self.axis] > 0 else -1

    def side(self, p: _Point) -> int:
        """More than 0 above, less below; in proportion to the distance of lattice points."""
        n = self.n
        return n[0] * p[0] + n[1] * p[1] + n[2] * p[2] - self.d * p[3]

    def turn(self, p: _Point, q: _Point, r: _Point) -> int:
        """More than 0 where three points of the plane run around as the triangle's corners do."""
        i, j = (self.axis + 1) % 3, (self.axis + 2) % 3
        pw, qw, rw = p[3], q[3], r[3]
        first = p[i] * (q[j] * rw - r[j] * qw) - p[j] * (q[i] * rw - r[i] * qw)
        return self.sign * (first + pw * (q[i] * r[j] - r[i] * q[j]))

    def holds(self, p: _Point) -> bool:
        """Whether a point of the plane lies in it or on its border."""
        a, b, c = self.corners
        return self.turn(a, b, p) >= 0 and self.turn(b, c, p) >= 0 and self.turn(c, a, p) >= 0

    def inside(self, p: _Point) -> bool:
        a, b, c = self.corners
        return self.turn(a, b, p) > 0 and self.turn(b, c, p) > 0 and self.turn(c, a, p) > 0

    def cut(self, p: _Point, q: _Point, r: _Point, s: _Point) -> _Point:
        """Where the lines p-q and r-s of the plane, which are not parallel, meet."""
        tp, tq = self.turn(r, s, p), self.turn(r, s, q)
        return _point(p[0] * tq - q[0] * tp, p[1] * tq - q[1] * tp, p[2] * tq - q[2] * tp, p[3] * tq - q[3] * tp)


def _sides(corners: Sequence[_Point]) -> Iterable[_Segment]:
    return zip(corners, [*corners[1:], corners[0]], strict=True)


def _met(a: _Triangle, b: _Triangle) -> list[_Point]:
    """The ends of what two triangles of different planes have in common, one or two points; none where it is
    nothing."""
    over_b, over_a = [b.side(p) for p in a.corners], [a.side(p) for p in b.corners]
    for own in (over_b, over_a):
        if min(own) > 0 or max(own) < 0:
            return []
    out: dict[_Point, None] = {}
    for one, other, over in ((a, b, over_b), (b, a, over_a)):
        for k in range(3):
            p, q, s, t = one.corners[k], one.corners[(k + 1) % 3], over[k], over[(k + 1) % 3]
            if s == 0 and other.holds(p):
                out[p] = None
            elif (s > 0 > t) or (s < 0 < t):
                x = _point(p[0] * t - q[0] * s, p[1] * t - q[1] * s, p[2] * t - q[2] * s, t - s)
                if other.holds(x):
                    out[x] = None
    return list(out)


def _covered(a: _Triangle, b: _Triangle) -> list[_Segment]:
    """Of two triangles of one plane, the parts of the second one's sides that lie in the first."""
    out = []
    for p, q in _sides(b.corners):
        found = {x: None for x in (p, q) if a.holds(x)}
        for r, s in _sides(a.corners):
            tp, tq = a.turn(r, s, p), a.turn(r, s, q)
            if (tp > 0 > tq) or (tp < 0 < tq):
                x = a.cut(p, q, r, s)
                if a.holds(x):
                    found[x] = None
        ends = sorted(found, key=lambda x: _along(p, q, x))
        if len(ends) > 1:
            out.append((ends[0], ends[-1]))
    return out


def _along(p: _Point, q: _Point, x: _Point) -> float:
    """How far along p-q a point of its line lies; exact enough to order points of a lattice's size."""
    from fractions import Fraction

    k = max(range(3), key=lambda i: abs(q[i] * p[3] - p[i] * q[3]))
    way = 1 if q[k] * p[3] > p[k] * q[3] else -1
    return way * Fraction(x[k], x[3])  # type: ignore[return-value]


class _Flat:
    """A triangle triangulated over points and segments within it, exactly."""

    def __init__(self, plane: _Triangle):
        self.plane = plane
        self.points: list[_Point] = list(plane.corners)
        self.number = {p: k for k, p in enumerate(self.points)}
        #: The third corner of the triangle on the left of each directed side.
        self.third: dict[tuple[int, int], int] = {}
        self._add(0, 1, 2)
        self.fixed: set[tuple[int, int]] = set()

    def _add(self, a: int, b: int, c: int) -> None:
        self.third[a, b], self.third[b, c], self.third[c, a] = c, a, b

    def _drop(self, a: int, b: int, c: int) -> None:
        for side in ((a, b), (b, c), (c, a)):
            del self.third[side]

    def _turn(self, a: int, b: int, c: int) -> int:
        return self.plane.turn(self.points[a], self.points[b], self.points[c])

    def triangles(self) -> list[tuple[int, int, int]]:
        return [(a, b, c) for (a, b), c in self.third.items() if a < b and a < c]

    def put(self, p: _Point) -> int:
        """The number of a point, which is part of the triangulation now."""
        if p in self.number:
            return self.number[p]
        n = self.number[p] = len(self.points)
        self.points.append(p)
        for a, b, c in self.triangles():
            s, t, u = self._turn(a, b, n), self._turn(b, c, n), self._turn(c, a, n)
            if s < 0 or t < 0 or u < 0:
                continue
            for (i, j, k), on in (((a, b, c), s), ((b, c, a), t), ((c, a, b), u)):
                if on == 0:
                    self._drop(i, j, k)
                    self._add(i, n, k)
                    self._add(n, j, k)
                    far = self.third.get((j, i))
                    if far is not None:
                        self._drop(j, i, far)
                        self._add(j, n, far)
                        self._add(n, i, far)
                    return n
            self._drop(a, b, c)
            self._add(a, b, n)
            self._add(b, c, n)
            self._add(c, a, n)
            return n
        raise AssertionError("a point lies outside of its triangle")

    def tie(self, a: int, b: int) -> None:
        """Make a side of two points, between which no other lies on the line (Sloan 1993)."""
        self.fixed.add((min(a, b), max(a, b)))
        if (a, b) in self.third or (b, a) in self.third:
            return
        crossed = [(i, j) for i, j in self.third if i < j and not {i, j} & {a, b} and self._crosses(a, b, i, j)]
        while crossed:
            i, j = crossed.pop(0)
            k, m = self.third[i, j], self.third[j, i]
            if self._turn(k, m, j) <= 0 or self._turn(m, k, i) <= 0:
                crossed.append((i, j))  # it can be turned once others are
                continue
            self._swap(i, j, k, m)
            if not {k, m} & {a, b} and self._crosses(a, b, k, m):
                crossed.append((min(k, m), max(k, m)))

    def _swap(self, i: int, j: int, k: int, m: int) -> None:
        self._drop(i, j, k)
        self._drop(j, i, m)
        self._add(k, i, m)
        self._add(m, j, k)

    def _crosses(self, a: int, b: int, i: int, j: int) -> bool:
        one, two = self._turn(a, b, i), self._turn(a, b, j)
        if not ((one > 0 > two) or (one < 0 < two)):
            return False
        one, two = self._turn(i, j, a), self._turn(i, j, b)
        return (one > 0 > two) or (one < 0 < two)

    def even(self) -> None:
        """Free sides turned where that makes the least angle larger."""
        p = np.array([[c / x[3] for c in x[:3]] for x in self.points])
        for _ in range(3):
            turned = False
            for i, j in list(self.third):
                if i > j or (i, j) in self.fixed or (i, j) not in self.third or (j, i) not in self.third:
                    continue
                k, m = self.third[i, j], self.third[j, i]
                if self._turn(k, m, j) <= 0 or self._turn(m, k, i) <= 0:
                    continue
                if _angle(p[k], p[i], p[j]) + _angle(p[m], p[i], p[j]) > math.pi + 1e-9:
                    self._swap(i, j, k, m)
                    turned = True
            if not turned:
                return


def _angle(at: Floats, a: Floats, b: Floats) -> float:
    u, v = a - at, b - at
    return math.acos(max(-1.0, min(1.0, float(u @ v) / max(float(np.linalg.norm(u) * np.linalg.norm(v)), 1e-300))))


@dataclass(slots=True)
class _Cut:
    """What a triangle is cut by: points, segments, and the triangles of its own plane that lie over it."""

    points: dict[_Point, None]
    segments: dict[_Segment, None]
    over: list[int]


@dataclass(frozen=True, slots=True, eq=False)
class Overlaid:
    """Triangles cut along where they meet: corners (k,3) of points (n,3), what lies there more than once only once, and
    of which given triangle (k,) each is a part. `over`: for the rows of such, the other given triangles there."""

    points: Floats
    corners: Ints
    origin: Ints
    over: dict[int, list[int]]

    def patches(self) -> Ints:
        """The patch (k,) that each belongs to: what runs on over sides of two triangles that run against each other."""
        m, n = len(self.corners), len(self.points)
        a, b = self.corners[:, [0, 1, 2]].T.ravel(), self.corners[:, [1, 2, 0]].T.ravel()
        key = np.minimum(a, b) * n + np.maximum(a, b)
        order = np.argsort(key, kind="stable")
        start = np.flatnonzero(np.r_[True, np.diff(key[order]) != 0])
        two = start[np.diff(np.r_[start, len(key)]) == 2]
        one, other = order[two], order[two + 1]
        along = a[one] == b[other]  # what runs the other way beside it is the same skin
        graph = scipy.sparse.coo_array((np.ones(int(along.sum())), (one[along] % m, other[along] % m)), shape=(m, m))
        return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])

    def largest(self, label: Ints) -> Ints:
        """For each label 0.. of some (k,) the largest triangle that bears it."""
        order = np.lexsort((-triangle_areas(self.points, self.corners), label))
        return order[np.flatnonzero(np.r_[True, np.diff(label[order]) != 0])]

    def middles(self, rows: Ints) -> Floats:
        """The middles (j,3) of some of the triangles (j,)."""
        return np.asarray(self.points[self.corners[rows]].mean(axis=1))


def overlaid(points: Floats, corners: Ints, tags: Ints) -> Overlaid:
    """Triangles (m,3) of points (n,3) laid over each other. Those with the same tag (m,) are known to meet in common
    corners and sides alone, or not at all."""
    return _Meetings.of(points, corners, tags).cut()


def skin_of(points: Floats, corners: Ints, more: float | None = None) -> tuple[Floats, Ints, int]:
    """The triangles (k,3) with points (n,3) that part what triangles (m,3) go around from what they do not, looking
    outwards, and how many pairs of them passed through each other; where none does they are as they were. more: what
    they go around more often than this is inside, whether any pass through each other or not."""
    meetings = _Meetings.of(points, corners, np.arange(len(corners)))
    if not meetings.through and more is None:
        return points, corners, 0
    made = meetings.cut()
    keep = _parts_in_from_out(points, corners, made, 0.5 if more is None else more)
    tri = np.where((keep < 0)[:, None], made.corners[:, ::-1], made.corners)[keep != 0]
    used, local = np.unique(tri, return_inverse=True)
    return made.points[used], local.reshape(-1, 3), meetings.through


@dataclass(frozen=True, slots=True, eq=False)
class _Meetings:
    """How triangles (m,3) of points (n,3) meet: where those points are on a lattice (n,3) that begins at `low`, `step`
    apart; what cuts which triangle; triangles made for it; how many pairs pass through each other."""

    points: Floats
    corners: Ints
    lattice: Ints
    low: Floats
    step: float
    cuts: dict[int, _Cut]
    made: dict[int, _Triangle]
    through: int

    @staticmethod
    def of(points: Floats, corners: Ints, tags: Ints) -> _Meetings:
        low = points.min(axis=0)
        step = float(np.ptp(points, axis=0).max()) / _STEPS
        lattice = np.rint((points - low) / step).astype(np.int64)
        pairs = BoxTree.of(points, corners).own_pairs(tags, 4.0 * step)
        pairs = pairs[may_meet(points, corners, pairs, 8.0 * step)]
        made: dict[int, _Triangle] = {}

        def triangle(t: int) -> _Triangle:
            if t not in made:
                made[t] = _Triangle([(x, y, z, 1) for x, y, z in lattice[corners[t]].tolist()])
            return made[t]

        cuts: dict[int, _Cut] = defaultdict(lambda: _Cut({}, {}, []))
        through = 0
        for i, j in pairs.tolist():
            pulse("looking where triangles pass through each other")
            a, b = triangle(i), triangle(j)
            if not any(a.n) or not any(b.n):
                continue
            common = set(a.corners) & set(b.corners)
            if not any(a.side(p) for p in b.corners):
                through += _over(cuts, i, j, a, b, common)
                continue
            if len(common) > 1:
                continue
            found = _met(a, b)
            if not found or set(found) <= common:
                continue
            for t in (i, j):
                cuts[t].points.update(dict.fromkeys(found))
                if len(found) == 2:
                    cuts[t].segments[found[0], found[1]] = None
            through += len(found) == 2 and any(not _on_a_side(t, found) for t in (a, b))
        return _Meetings(points, corners, lattice, low, step, cuts, made, through)

    def cut(self) -> Overlaid:
        number: dict[_Point, int] = {}
        spots: list[Floats] = []
        place = [(x, y, z, 1) for x, y, z in self.lattice.tolist()]
        for v, p in enumerate(place):
            if p not in number:
                number[p] = len(spots)
                spots.append(self.points[v])
        own = np.array([number[p] for p in place])
        whole = np.array([t not in self.cuts for t in range(len(self.corners))])
        out: list[tuple[int, int, int]] = [tuple(t) for t in own[self.corners[whole]].tolist()]
        origin = np.flatnonzero(whole).tolist()
        over: dict[int, list[int]] = {}
        for t, cut in self.cuts.items():
            pulse("cutting triangles")
            flat = _split(self.made[t], cut)
            ids = []
            for p in flat.points:
                if p not in number:
                    number[p] = len(spots)
                    spots.append(self.low + self.step * np.array([c / p[3] for c in p[:3]]))
                ids.append(number[p])
            for a, b, c in flat.triangles():
                middle = _middle(flat.points[a], flat.points[b], flat.points[c])
                there = [other for other in cut.over if self.made[other].inside(middle)]
                if there and min(there) < t:
                    continue  # of what lies there twice one is enough
                if there:
                    over[len(out)] = there
                out.append((ids[a], ids[b], ids[c]))
                origin.append(t)
        return Overlaid(np.array(spots), np.array(out, dtype=np.int64), np.array(origin), over)


def _over(cuts: dict[int, _Cut], i: int, j: int, a: _Triangle, b: _Triangle, common: set[_Point]) -> bool:
    """Note how two triangles of one plane cut each other; whether they lie over each other."""
    parts = [(i, _covered(a, b)), (j, _covered(b, a))]
    within = any(not _on_a_side(t, s) for t, own in ((a, parts[0][1]), (b, parts[1][1])) for s in own)
    same = len(common) == 3
    if not within and not same:
        for t, own in parts:
            cuts[t].points.update({p: None for s in own for p in s if p not in common})
        return False
    for t, own in parts:
        cuts[t].segments.update(dict.fromkeys(own))
        cuts[t].points.update({p: None for s in own for p in s})
    cuts[i].over.append(j)
    cuts[j].over.append(i)
    return True


def _on_a_side(t: _Triangle, ends: Sequence[_Point]) -> bool:
    return any(t.turn(p, q, ends[0]) == 0 == t.turn(p, q, ends[1]) for p, q in _sides(t.corners))


def _split(plane: _Triangle, cut: _Cut) -> _Flat:
    """A triangle over all that cuts it."""
    flat = _Flat(plane)
    segments = list(cut.segments)
    spots = dict.fromkeys([*cut.points, *(p for s in segments for p in s)])
    for k, (p, q) in enumerate(segments):
        for r, s in segments[:k]:
            tp, tq = plane.turn(r, s, p), plane.turn(r, s, q)
            if (tp > 0 > tq) or (tp < 0 < tq):
                tr, ts = plane.turn(p, q, r), plane.turn(p, q, s)
                if (tr > 0 > ts) or (tr < 0 < ts):
                    spots[plane.cut(p, q, r, s)] = None
    for p in spots:
        flat.put(p)
    for p, q in segments:
        low, high = _along(p, q, p), _along(p, q, q)
        on = [(at, x) for x in flat.points if plane.turn(p, q, x) == 0 and low <= (at := _along(p, q, x)) <= high]
        line = [flat.number[x] for _, x in sorted(on)]
        for a, b in pairwise(line):
            flat.tie(a, b)
    flat.even()
    return flat


def _middle(a: _Point, b: _Point, c: _Point) -> _Point:
    w = a[3] * b[3] * c[3]
    x, y, z = (a[k] * b[3] * c[3] + b[k] * a[3] * c[3] + c[k] * a[3] * b[3] for k in range(3))
    return _point(x, y, z, 3 * w)


def _parts_in_from_out(points: Floats, corners: Ints, made: Overlaid, more: float) -> Ints:
    """For each cut triangle of some (m,3) 1 where it is skin and looks outwards, -1 where it is and looks inwards, 0
    where it is not."""
    patch = made.patches()
    best = made.largest(patch)
    keep = np.zeros(len(best), dtype=np.int64)
    for k, row in enumerate(best.tolist()):
        pulse("telling inside from outside")
        t = int(made.origin[row])
        without = [t, *made.over.get(row, ())]
        lean = sum(1.0 if same_way(points, corners, t, o) else -1.0 for o in without)
        rest = np.delete(corners, without, axis=0)
        around = float(winding_number(points, rest, made.middles(best[k : k + 1]))[0])
        above, below = around - 0.5 * lean > more, around + 0.5 * lean > more
        keep[k] = int(below) - int(above)
    return keep[patch]


def same_way(points: Floats, corners: Ints, s: int, t: int) -> bool:
    """Whether two of some triangles (m,3) that lie over each other look the same way."""
    a, b = (cross_product(q[1] - q[0], q[2] - q[0]) for q in (points[corners[s]], points[corners[t]]))
    return float(a @ b) > 0.0
