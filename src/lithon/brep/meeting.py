"""Which pairs of triangles may have more in common than a side or a corner: what is left is looked at exactly."""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, cross_product, given, whole
from lithon.threads import shared_out

#: What is less than this (sine of an angle) may be rounding.
_NEARLY = 1e-6
#: Triangles that lie less than about a third of a degree apart (cosine) are looked at as of one plane.
_ONE_PLANE = 0.99999
#: Neighbours over a side meet in no more than that, but where one is folded back onto the other (cosine).
_FOLDED = -0.999


def may_meet(points: Floats, corners: Ints, pairs: Ints, slack: float) -> Bools:
    """Pairs (k,) of which neither lies all on one side of the other, by `slack` (mm), nor are neighbours that lie
    apart."""
    a, b, c = (points[corners[:, k]] for k in range(3))
    normal = cross_product(b - a, c - a)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    p, rows, two = given(points), _whole(corners), _whole(pairs)
    (out,) = shared_out(lambda some: (_may_meet(p, rows, normal, two[some], slack),), len(two))
    return np.asarray(out)


def _whole(rows: Ints) -> Ints:
    """Whole numbers as compiled code takes them, of whichever kind they came."""
    return np.array(rows, dtype=np.int64, order="C")


@njit(cache=True, nogil=True)
def _may_meet(points: Floats, corners: Ints, normal: Floats, pairs: Ints, slack: float) -> Bools:
    out = np.zeros(len(pairs), np.bool_)
    for row in range(len(pairs)):
        s, t = pairs[row, 0], pairs[row, 1]
        count, at, other = 0, whole(0), whole(0)
        for i in range(3):
            for j in range(3):
                if corners[s, i] == corners[t, j]:
                    count, at, other = count + 1, i, j
        turned = normal[s, 0] * normal[t, 0] + normal[s, 1] * normal[t, 1] + normal[s, 2] * normal[t, 2]
        if count >= 2 and turned >= _FOLDED:
            continue
        if _one_side(points, corners, normal, s, t, slack) or _one_side(points, corners, normal, t, s, slack):
            continue
        if count == 1:
            out[row] = _wedges_meet(points, corners, normal, s, t, at, other)
        elif count == 0 and abs(turned) > _ONE_PLANE:
            apart = _beside(points, corners, normal, s, t, slack) or _beside(points, corners, normal, t, s, slack)
            out[row] = not apart
        else:
            out[row] = True
    return out


@njit(cache=True, nogil=True)
def _one_side(points: Floats, corners: Ints, normal: Floats, s: int, t: int, slack: float) -> bool:
    """Whether triangle t lies all on one side of the plane of s."""
    low, high = np.inf, -np.inf
    for j in range(3):
        off = 0.0
        for k in range(3):
            off += (points[corners[t, j], k] - points[corners[s, 0], k]) * normal[s, k]
        low, high = min(low, off), max(high, off)
    return low > slack or high < -slack


@njit(cache=True, nogil=True)
def _beside(points: Floats, corners: Ints, normal: Floats, s: int, t: int, slack: float) -> bool:
    """Of two triangles of one plane nearly: whether a side of s has all of t on its outer side."""
    for i in range(3):
        a, b = corners[s, i], corners[s, (i + 1) % 3]
        x, y, z = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        n = normal[s]
        u, v, w = y * n[2] - z * n[1], z * n[0] - x * n[2], x * n[1] - y * n[0]  # outwards
        size = max(np.sqrt(u * u + v * v + w * w), 1e-300)
        low = np.inf
        for j in range(3):
            p = points[corners[t, j]]
            low = min(low, ((p[0] - points[a, 0]) * u + (p[1] - points[a, 1]) * v + (p[2] - points[a, 2]) * w) / size)
        if low > slack:
            return True
    return False


@njit(cache=True, nogil=True)
def _wedges_meet(points: Floats, corners: Ints, normal: Floats, s: int, t: int, at: int, other: int) -> bool:
    """Of two triangles with one corner in common: whether they may have more than that in common, a direction from it
    that lies between the sides of both, to rounding."""
    arms = np.empty((2, 2, 3))
    for side in range(2):
        own, k = (s, at) if side == 0 else (t, other)
        for j in range(2):
            size = 0.0
            for c in range(3):
                arms[side, j, c] = points[corners[own, (k + 1 + j) % 3], c] - points[corners[own, k], c]
                size += arms[side, j, c] ** 2
            for c in range(3):
                arms[side, j, c] /= max(np.sqrt(size), 1e-300)
    n, m = normal[s], normal[t]
    way = np.empty(3)
    size = 0.0
    for c in range(3):
        a, b = (c + 1) % 3, (c + 2) % 3
        way[c] = n[a] * m[b] - n[b] * m[a]
        size += way[c] ** 2
    size = np.sqrt(size)
    if size < 1e-3:  # of one plane nearly: an arm of the one between those of the other, or the same wedge
        one = _between(arms[0], n, arms[1, 0]) or _between(arms[0], n, arms[1, 1])
        return one or _between(arms[1], m, arms[0, 0]) or _between(arms[1], m, arms[0, 1])
    for sense in (1.0, -1.0):
        for c in range(3):
            way[c] *= sense / (size if sense > 0.0 else 1.0)
        if _between(arms[0], n, way) and _between(arms[1], m, way):
            return True
    return False


@njit(cache=True, nogil=True)
def _between(arms: Floats, n: Floats, way: Floats) -> bool:
    """Whether a direction lies between two arms, about their normal."""
    first, last = 0.0, 0.0
    for c in range(3):
        a, b = (c + 1) % 3, (c + 2) % 3
        first += (arms[0, a] * way[b] - arms[0, b] * way[a]) * n[c]
        last += (way[a] * arms[1, b] - way[b] * arms[1, a]) * n[c]
    return first > -_NEARLY and last > -_NEARLY
