"""A tree of boxes over triangles: nearest points, first hits of rays, and pairs of triangles that may meet.

Boxes are halved at the median of their longest side (Ericson, Real-Time Collision Detection, 6.2; the
closest point of a triangle is his 5.1.5).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, given
from lithon.threads import each_of, shared_out

_LEAF = 6
#: Triangles from which on pairs are looked for in two threads.
_MANY = 20_000


@dataclass(frozen=True, slots=True, eq=False)
class BoxTree:
    """corners (m,3,3) in leaf order, order (m,) to the caller's rows; nodes: low and high (k,3), first and
    count (k,) of a leaf's triangles, or the left child and 0 (the right one follows it)."""

    corners: Floats
    order: Ints
    low: Floats
    high: Floats
    first: Ints
    count: Ints

    @staticmethod
    def of(points: Floats, triangles: Ints) -> BoxTree:
        """Over triangles (m,3) of points (n,3)."""
        corners = np.ascontiguousarray(np.asarray(points, dtype=float)[triangles])
        order, low, high, first, count = _built(corners)
        return BoxTree(np.ascontiguousarray(corners[order]), order, low, high, first, count)

    def nearest(self, points: Floats) -> tuple[Ints, Floats]:
        """The nearest triangle (n,) and the nearest point on it (n,3) for points (n,3)."""
        p = given(points)
        row, at = shared_out(
            lambda s: _nearest(self.corners, self.low, self.high, self.first, self.count, p[s]), len(p)
        )
        return self.order[row], at

    def first_hits(
        self, origins: Floats, directions: Floats, least: float, most: float = np.inf
    ) -> tuple[Ints, Floats]:
        """The first triangle (n,) that each ray meets further away than `least` and nearer than `most`, or -1, and
        how far (n,), infinite where there is none."""
        o, d = given(origins), given(directions)
        row, far = shared_out(
            lambda s: _first_hits(
                self.corners, self.low, self.high, self.first, self.count, o[s], d[s], float(least), float(most)
            ),
            len(o),
        )
        hit = row >= 0
        return np.where(hit, self.order[np.maximum(row, 0)], -1), np.where(hit, far, np.inf)

    def without(self, gone: Bools) -> BoxTree:
        """The same tree blind to some of its triangles (m,): rays go through them."""
        corners = self.corners.copy()
        corners[gone[self.order]] = np.nan
        return BoxTree(corners, self.order, self.low, self.high, self.first, self.count)

    def own_pairs(self, tags: Ints, slack: float = 0.0) -> Ints:
        """Pairs (k,2), the smaller row first, of its own triangles whose boxes come within `slack` and whose tags (m,)
        differ; where it is negative, boxes that only touch do not count."""
        found = self._pairs(self, tags[self.order], tags[self.order], slack, own=True)
        pairs = self.order[found]
        return np.stack([pairs.min(axis=1), pairs.max(axis=1)], axis=1)

    def near_pairs(self, other: BoxTree, slack: float = 0.0) -> Ints:
        """Pairs (k,2) of triangles, one of each tree, whose boxes come within `slack`."""
        mine, theirs = np.zeros(len(self.order), dtype=np.int64), np.ones(len(other.order), dtype=np.int64)
        found = self._pairs(other, mine, theirs, slack, own=False)
        return np.stack([self.order[found[:, 0]], other.order[found[:, 1]]], axis=1)

    def _pairs(self, other: BoxTree, tags: Ints, their_tags: Ints, slack: float, own: bool) -> Ints:
        """Pairs (k,2) of rows in each tree's own order."""
        one, two = _tags_below(self.first, self.count, tags), _tags_below(other.first, other.count, their_tags)
        starts = np.zeros((1, 2), dtype=np.int64)
        # In the same parts on any number of cores, and so in the same order.
        if own and len(self.order) > _MANY:
            a, b = self.first[0], self.first[0] + 1
            starts = np.array([[a, a], [a, b], [b, b]])
        return np.concatenate(
            each_of(
                lambda some: _pairs(
                    self.low, self.high, self.first, self.count, self.corners, tags, one,
                    other.low, other.high, other.first, other.count, other.corners, their_tags, two, slack, own, some,
                ),
                np.array_split(starts, min(2, len(starts))),
            )
        )  # fmt: skip


@njit(cache=True)
def _part(order: Ints, key: Floats, low: int, high: int, half: int) -> None:
    """Reorder order[low..high] so that no key before `half` is greater than any from there on (Hoare's selection)."""
    while low < high:
        pivot = key[order[(low + high) // 2]]
        i, j = low, high
        while i <= j:
            while key[order[i]] < pivot:
                i += 1
            while key[order[j]] > pivot:
                j -= 1
            if i <= j:
                order[i], order[j] = order[j], order[i]
                i += 1
                j -= 1
        if half <= j:
            high = j
        elif half >= i:
            low = i
        else:
            return


@njit(cache=True, nogil=True)
def _built(corners: Floats) -> tuple[Ints, Floats, Floats, Ints, Ints]:
    m = len(corners)
    order = np.arange(m)
    middle = np.empty((3, m))
    for i in range(m):
        for c in range(3):
            middle[c, i] = (corners[i, 0, c] + corners[i, 1, c] + corners[i, 2, c]) / 3.0
    most = max(2, 4 * (m // _LEAF + 2))
    low, high = np.empty((most, 3)), np.empty((most, 3))
    first, count = np.zeros(most, np.int64), np.zeros(most, np.int64)
    stack = np.empty((128, 3), np.int64)
    stack[0, 0], stack[0, 1], stack[0, 2] = 0, 0, m
    inner_low, inner_high = np.empty(3), np.empty(3)
    top, nodes = 1, 1
    while top:
        top -= 1
        node, begin, end = stack[top, 0], stack[top, 1], stack[top, 2]
        if end - begin <= _LEAF:
            first[node], count[node] = begin, end - begin
            continue
        inner_low[:], inner_high[:] = np.inf, -np.inf
        for k in range(begin, end):
            for c in range(3):
                at = middle[c, order[k]]
                inner_low[c], inner_high[c] = min(inner_low[c], at), max(inner_high[c], at)
        axis = np.argmax(inner_high - inner_low)
        half = (begin + end) // 2
        _part(order, middle[axis], begin, end - 1, half)
        first[node], count[node] = nodes, 0
        stack[top, 0], stack[top, 1], stack[top, 2] = nodes, begin, half
        stack[top + 1, 0], stack[top + 1, 1], stack[top + 1, 2] = nodes + 1, half, end
        top += 2
        nodes += 2
    for node in range(nodes - 1, -1, -1):  # children come after their parents
        for c in range(3):
            low[node, c], high[node, c] = np.inf, -np.inf
        if count[node]:
            for k in range(first[node], first[node] + count[node]):
                for q in range(3):
                    for c in range(3):
                        at = corners[order[k], q, c]
                        low[node, c], high[node, c] = min(low[node, c], at), max(high[node, c], at)
        elif m:
            left, right = first[node], first[node] + 1
            for c in range(3):
                low[node, c] = min(low[left, c], low[right, c])
                high[node, c] = max(high[left, c], high[right, c])
    return order, low[:nodes].copy(), high[:nodes].copy(), first[:nodes].copy(), count[:nodes].copy()


@njit(cache=True, inline="always")
def box_distance(low: Floats, high: Floats, p: Floats) -> float:
    d = 0.0
    for c in range(3):
        away = max(low[c] - p[c], 0.0, p[c] - high[c])
        d += away * away
    return d


@njit(cache=True)
def closest_on(t: Floats, p: Floats, out: Floats) -> float:
    """Fill out (3,) with the point of a triangle (3,3) closest to p (3,); gives the squared distance."""
    d1, d2, d3, d4, d5, d6 = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for k in range(3):
        ab, ac = t[1, k] - t[0, k], t[2, k] - t[0, k]
        ap, bp, cp = p[k] - t[0, k], p[k] - t[1, k], p[k] - t[2, k]
        d1 += ab * ap
        d2 += ac * ap
        d3 += ab * bp
        d4 += ac * bp
        d5 += ab * cp
        d6 += ac * cp
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    v, w = 0.0, 0.0
    if d1 <= 0.0 and d2 <= 0.0:
        v, w = 0.0, 0.0
    elif d3 >= 0.0 and d4 <= d3:
        v, w = 1.0, 0.0
    elif vc <= 0.0 and d1 >= 0.0 and d3 <= 0.0:
        v, w = d1 / (d1 - d3) if d1 > d3 else 0.0, 0.0
    elif d6 >= 0.0 and d5 <= d6:
        v, w = 0.0, 1.0
    elif vb <= 0.0 and d2 >= 0.0 and d6 <= 0.0:
        v, w = 0.0, d2 / (d2 - d6) if d2 > d6 else 0.0
    elif va <= 0.0 and d4 - d3 >= 0.0 and d5 - d6 >= 0.0:
        s = (d4 - d3) / ((d4 - d3) + (d5 - d6)) if (d4 - d3) + (d5 - d6) > 0.0 else 0.0
        v, w = 1.0 - s, s
    else:
        total = va + vb + vc
        if total != 0.0:
            v, w = vb / total, vc / total
    distance = 0.0
    for k in range(3):
        out[k] = t[0, k] + v * (t[1, k] - t[0, k]) + w * (t[2, k] - t[0, k])
        distance += (out[k] - p[k]) ** 2
    return distance


@njit(cache=True, nogil=True)
def _nearest(
    corners: Floats, low: Floats, high: Floats, first: Ints, count: Ints, points: Floats
) -> tuple[Ints, Floats]:
    row, at = np.zeros(len(points), np.int64), np.empty((len(points), 3))
    stack, trial = np.empty(128, np.int64), np.empty(3)
    for n in range(len(points)):
        p, best, top = points[n], np.inf, 1
        stack[0] = 0
        while top:
            top -= 1
            node = stack[top]
            if box_distance(low[node], high[node], p) >= best:
                continue
            if count[node]:
                for k in range(first[node], first[node] + count[node]):
                    d = closest_on(corners[k], p, trial)
                    if d < best:
                        best, row[n] = d, k
                        at[n] = trial
                continue
            a, b = first[node], first[node] + 1
            if box_distance(low[a], high[a], p) < box_distance(low[b], high[b], p):
                a, b = b, a
            stack[top], stack[top + 1] = a, b
            top += 2
    return row, at


@njit(cache=True)
def _enters(low: Floats, high: Floats, o: Floats, d: Floats, far: float) -> float:
    """How far along a ray a box begins, or infinity where it is missed before `far`."""
    near = 0.0
    for c in range(3):
        if d[c] == 0.0:
            if o[c] < low[c] or o[c] > high[c]:
                return np.inf
            continue
        a, b = (low[c] - o[c]) / d[c], (high[c] - o[c]) / d[c]
        if a > b:
            a, b = b, a
        near, far = max(near, a * (1.0 - 1e-12)), min(far, b * (1.0 + 1e-12))
        if near > far:
            return np.inf
    return near


@njit(cache=True)
def _along(t: Floats, o: Floats, d: Floats) -> float:
    """How far along a ray a triangle (3,3) is met, or infinity (Moller & Trumbore 1997)."""
    ex, ey, ez = t[1, 0] - t[0, 0], t[1, 1] - t[0, 1], t[1, 2] - t[0, 2]
    fx, fy, fz = t[2, 0] - t[0, 0], t[2, 1] - t[0, 1], t[2, 2] - t[0, 2]
    hx, hy, hz = d[1] * fz - d[2] * fy, d[2] * fx - d[0] * fz, d[0] * fy - d[1] * fx
    det = ex * hx + ey * hy + ez * hz
    if det == 0.0:
        return np.inf
    sx, sy, sz = o[0] - t[0, 0], o[1] - t[0, 1], o[2] - t[0, 2]
    u = (sx * hx + sy * hy + sz * hz) / det
    if u < -1e-12 or u > 1.0 + 1e-12:
        return np.inf
    qx, qy, qz = sy * ez - sz * ey, sz * ex - sx * ez, sx * ey - sy * ex
    v = (d[0] * qx + d[1] * qy + d[2] * qz) / det
    if v < -1e-12 or u + v > 1.0 + 1e-12:
        return np.inf
    return (fx * qx + fy * qy + fz * qz) / det


@njit(cache=True, nogil=True)
def _first_hits(
    corners: Floats, low: Floats, high: Floats, first: Ints, count: Ints, origins: Floats, directions: Floats,
    least: float, most: float,
) -> tuple[Ints, Floats]:  # fmt: skip
    row, far = np.full(len(origins), -1, np.int64), np.full(len(origins), most)
    stack, near = np.empty(128, np.int64), np.empty(128)
    for n in range(len(origins)):
        o, d, top = origins[n], directions[n], 1
        stack[0], near[0] = 0, _enters(low[0], high[0], o, d, most)
        while top:
            top -= 1
            if near[top] >= far[n]:
                continue
            node = stack[top]
            if count[node]:
                for k in range(first[node], first[node] + count[node]):
                    t = _along(corners[k], o, d)
                    if t > least and t < far[n]:
                        far[n], row[n] = t, k
                continue
            a, b = first[node], first[node] + 1
            da, db = _enters(low[a], high[a], o, d, far[n]), _enters(low[b], high[b], o, d, far[n])
            if da < db:  # the nearer one is looked at first
                a, b, da, db = b, a, db, da
            stack[top], near[top] = a, da
            stack[top + 1], near[top + 1] = b, db
            top += 2
    return row, far


@njit(cache=True)
def _apart(low_a: Floats, high_a: Floats, low_b: Floats, high_b: Floats, slack: float) -> bool:
    apart = False
    for c in range(3):
        apart = apart or low_a[c] > high_b[c] + slack or low_b[c] > high_a[c] + slack
    return apart


@njit(cache=True)
def _triangles_apart(a: Floats, b: Floats, slack: float) -> bool:
    for c in range(3):
        if min(a[0, c], a[1, c], a[2, c]) > max(b[0, c], b[1, c], b[2, c]) + slack:
            return True
        if min(b[0, c], b[1, c], b[2, c]) > max(a[0, c], a[1, c], a[2, c]) + slack:
            return True
    return False


@njit(cache=True, nogil=True)
def _tags_below(first: Ints, count: Ints, tags: Ints) -> Ints:
    """The tag of all triangles below each node, or -1 where they differ."""
    one = np.empty(len(first), np.int64)
    for node in range(len(first) - 1, -1, -1):  # children come after their parents
        if count[node]:
            one[node] = tags[first[node]]
            for i in range(first[node] + 1, first[node] + count[node]):
                if tags[i] != one[node]:
                    one[node] = -1
        else:
            left, right = one[first[node]], one[first[node] + 1]
            one[node] = left if left == right else -1
    return one


@njit(cache=True, nogil=True)
def _pairs(
    low_a: Floats, high_a: Floats, first_a: Ints, count_a: Ints, corners_a: Floats, tags_a: Ints, one_a: Ints,
    low_b: Floats, high_b: Floats, first_b: Ints, count_b: Ints, corners_b: Floats, tags_b: Ints, one_b: Ints,
    slack: float, own: bool, starts: Ints,
) -> Ints:  # fmt: skip
    """Pairs of triangles with different tags whose boxes come within `slack`, below pairs of branches (s,2); branches
    of one tag alone (`one_a`, `one_b`) are not followed into each other. `own`: both trees are one, and each pair is
    wanted once."""
    out = np.empty((1024, 2), np.int64)
    found = 0
    stack = np.empty((4096, 2), np.int64)
    top = len(starts)
    stack[:top] = starts
    while top:
        top -= 1
        a, b = stack[top, 0], stack[top, 1]
        same = one_a[a] >= 0 and one_a[a] == one_b[b]
        if same or _apart(low_a[a], high_a[a], low_b[b], high_b[b], slack):
            continue
        if count_a[a] and count_b[b]:
            for i in range(first_a[a], first_a[a] + count_a[a]):
                for j in range(i + 1 if own and a == b else first_b[b], first_b[b] + count_b[b]):
                    if tags_a[i] == tags_b[j] or _triangles_apart(corners_a[i], corners_b[j], slack):
                        continue
                    if found == len(out):
                        bigger = np.empty((2 * found, 2), np.int64)
                        bigger[:found] = out
                        out = bigger
                    out[found, 0], out[found, 1] = i, j
                    found += 1
            continue
        if own and a == b:
            left, right = first_a[a], first_a[a] + 1
            stack[top, 0], stack[top, 1] = left, left
            stack[top + 1, 0], stack[top + 1, 1] = left, right
            stack[top + 2, 0], stack[top + 2, 1] = right, right
            top += 3
            continue
        size_a = (high_a[a] - low_a[a]).sum() if count_a[a] == 0 else -1.0
        size_b = (high_b[b] - low_b[b]).sum() if count_b[b] == 0 else -1.0
        if size_a >= size_b:
            stack[top, 0], stack[top, 1] = first_a[a], b
            stack[top + 1, 0], stack[top + 1, 1] = first_a[a] + 1, b
        else:
            stack[top, 0], stack[top, 1] = a, first_b[b]
            stack[top + 1, 0], stack[top + 1, 1] = a, first_b[b] + 1
        top += 2
    return out[:found].copy()
