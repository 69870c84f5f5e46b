"""Needles taken out of triangles: what is much lower than its sides are long goes, and nothing moves further than a
height.

A triangle whose third corner stands near the midst of its longest side gives that side up for the other diagonal of the
two triangles beside it; one with a short side has its two ends made one (decimation as of Schroeder, Zarge & Lorensen
1992, with the error summed up by triangle). Lowest first. What is changed must not fold: triangles that are no needles
keep looking the way they did.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, triangle_areas
from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.cleaning import side_pairs
from lithon.geometry.triples import cosine, cross, length
from lithon.progress import pulse

#: So often all that is low is gone through; so often what led to a crossing is left alone and all begun anew.
_PASSES, _TRIES = 12, 4
#: By how much at most (the cosine) triangles turn that are no needles: less than over a crease.
_TURN = 0.94
#: The first place where they turn by less than this (the cosine) is taken.
_LITTLE = 0.98
#: The corners around one, at most.
_AROUND = 256


@dataclass(frozen=True, slots=True)
class Pruned:
    """Points (n,3) and corners (m,3) after it, of which triangle before each (m,) is what is left or was divided
    otherwise; how many needles went, and how far (mm) the skin can have moved at the most."""

    points: Floats
    corners: Ints
    of: Ints
    gone: int
    moved: float


def has_needles(points: Floats, corners: Ints, height: float) -> bool:
    """Whether any can be taken out, as far as nothing else is in its way."""
    x, tri, every = points.copy(), corners.copy(), np.ones(len(corners), dtype=np.bool_)
    stays = np.zeros(len(points), dtype=np.bool_)
    return _taken_out(x, tri, np.arange(len(tri)), np.zeros(len(tri)), every, height, stays, 1) > 0


def without_needles(
    points: Floats, corners: Ints, height: float, only: Bools | None = None, held: Bools | None = None
) -> Pruned:
    """Triangles (m,3) of points (n,3) without those lower (mm) over their longest side than `height`, `only` some of
    them (m,), as far as nothing moves by more than that, folds, or passes through something else. What is between
    points that are `held` (n,) stays as it is."""
    stays = np.zeros(len(points), dtype=np.bool_) if held is None else held.copy()
    torn = cutting_pairs(points, corners) if len(corners) else np.zeros((0, 2), dtype=np.int64)
    stays[corners[torn.ravel()].ravel()] = True  # what passes through itself is another matter
    for _ in range(_TRIES):
        x, tri = points.copy(), corners.copy()
        low = np.ones(len(tri), dtype=np.bool_) if only is None else only.copy()
        error, of = np.zeros(len(tri)), np.arange(len(tri))
        changed = _taken_out(x, tri, of, error, low, height, stays)
        if not changed:
            break
        row = np.flatnonzero(tri[:, 0] >= 0)
        crossing = cutting_pairs(x, tri[row])
        # Of two that pass through each other one has changed, or they did before.
        same = (tri == corners).all(axis=1) & (x[tri] == points[corners]).all(axis=(1, 2))
        pairs = row[crossing]
        fresh = np.unique(pairs[~same[pairs].all(axis=1)])
        if not len(fresh):
            used, local = np.unique(tri[row], return_inverse=True)
            return Pruned(x[used], local.reshape(-1, 3), of[row], changed, float(error.max()))
        stays[tri[fresh].ravel()] = True
        stays[corners[fresh].ravel()] = True
    return Pruned(points, corners, np.arange(len(corners)), 0, 0.0)


def _taken_out(x: Floats, tri: Ints, of: Ints, error: Floats, low: Bools, height: float, stays: Bools,
               passes: int = _PASSES) -> int:  # fmt: skip
    """Change triangles in place until none that is `low` is lower than a height, or nothing helps; how many went."""
    nbr = _neighbours(tri, len(x))
    star, other = np.empty((2, _AROUND), dtype=np.int64)
    gone = 0
    for _ in range(passes):
        pulse("taking needles out")
        rows = np.flatnonzero(low & (tri[:, 0] >= 0))
        v = x[tri[rows]]
        long = np.linalg.norm(v - np.roll(v, 1, axis=1), axis=2).max(axis=1)
        high = 2.0 * triangle_areas(x, tri[rows]) / np.maximum(long, 1e-300)
        needles = high < height
        order = rows[needles][np.argsort(high[needles], kind="stable")]
        now = _gone_through(x, tri, nbr, of, error, order, height, stays, star, other)
        gone += now
        if not now:
            break
    return gone


def _neighbours(tri: Ints, n: int) -> Ints:
    """Of each triangle (m,3) the one beyond the side opposite to each corner; -1 where there is none, or not one."""
    out = np.full(tri.shape, -1, dtype=np.int64)
    i, j, _ = side_pairs(tri, n)
    for a, b in ((i, j), (j, i)):
        inside = (tri[a][:, :, None] == tri[b][:, None, :]).any(axis=2)
        out[a, inside.argmin(axis=1)] = b
    return out


@njit(cache=True)
def _height(x: Floats, a: int, b: int, c: int) -> float:
    """How high (mm) a triangle stands over its longest side."""
    n = cross(x, a, b, c)
    twice = np.sqrt(n[0] ** 2 + n[1] ** 2 + n[2] ** 2)
    return float(twice / max(length(x, a, b), length(x, b, c), length(x, c, a), 1e-300))


@njit(cache=True)
def _at(tri: Ints, t: int, v: int) -> int:
    """Which corner of a triangle a point is."""
    return 0 if tri[t, 0] == v else 1 if tri[t, 1] == v else 2 if tri[t, 2] == v else -1


@njit(cache=True)
def _star(tri: Ints, nbr: Ints, t0: int, v: int, out: Ints) -> int:
    """The triangles around a point, from one of them on; how many, 0 where they do not close."""
    t, n = t0, 0
    while n < len(out):
        out[n] = t
        n += 1
        t = nbr[t, (_at(tri, t, v) + 1) % 3]
        if t < 0:
            return 0
        if t == t0:
            return n
    return 0


@njit(cache=True)
def _linked(tri: Ints, star: Ints, n: int, v: int) -> bool:
    """Whether one of the triangles around another point has this corner."""
    found = False
    for k in range(n):
        found = found or _at(tri, star[k], v) >= 0
    return found


@njit(cache=True)
def _join(tri: Ints, nbr: Ints, t: int, i: int, u: int) -> None:
    """Put a triangle beyond the side opposite to corner i of another."""
    nbr[t, i] = u
    if u >= 0:
        a, b = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
        for j in range(3):
            if tri[u, j] != a and tri[u, j] != b:
                nbr[u, j] = t


@njit(cache=True)
def _swapped(
    x: Floats, tri: Ints, nbr: Ints, of: Ints, error: Floats, t: int, height: float, own: float, stays: Bools,
    star: Ints,
) -> bool:  # fmt: skip
    """Give up the longest side of a triangle, whose third corner stands near to it, for the other diagonal."""
    i = 0
    for k in range(1, 3):
        if length(x, tri[t, (k + 1) % 3], tri[t, (k + 2) % 3]) > length(x, tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]):
            i = k
    c, a, b, u = tri[t, i], tri[t, (i + 1) % 3], tri[t, (i + 2) % 3], nbr[t, i]
    if u < 0:
        return False
    j = 0
    for k in range(3):
        if tri[u, k] != a and tri[u, k] != b:
            j = k
    d = tri[u, j]
    far = max(error[t], error[u]) + own
    if d == c or far > height or (stays[a] and stays[b] and (stays[c] or stays[d])):
        return False
    n = _star(tri, nbr, t, c, star)
    if n == 0 or _linked(tri, star, n, d):
        return False
    if min(_height(x, c, a, d), _height(x, d, b, c)) <= own:
        return False
    over = cross(x, b, a, d)
    low = _height(x, b, a, d) < height
    if not low and (cosine(over, cross(x, c, a, d)) < _TURN or cosine(over, cross(x, d, b, c)) < _TURN):
        return False
    # (a, b, c) and (b, a, d) become (c, a, d) and (d, b, c).
    ca, cb, da, db = nbr[t, (i + 2) % 3], nbr[t, (i + 1) % 3], -1, -1
    for k in range(3):
        if tri[u, k] == b:
            da = nbr[u, k]
        elif tri[u, k] == a:
            db = nbr[u, k]
    tri[t, 0], tri[t, 1], tri[t, 2] = c, a, d
    tri[u, 0], tri[u, 1], tri[u, 2] = d, b, c
    _join(tri, nbr, t, 0, da)
    _join(tri, nbr, t, 2, ca)
    _join(tri, nbr, u, 0, cb)
    _join(tri, nbr, u, 2, db)
    nbr[t, 1], nbr[u, 1] = u, t
    error[t] = error[u] = far
    of[t] = of[u]
    return True


@njit(cache=True)
def _place(x: Floats, tri: Ints, star: Ints, n: int, v: int, w: int, height: float, a: Floats, b: Floats) -> None:
    """Add the planes of the triangles around a point that are no needles, by their area, to the equations for the place
    that is nearest to all of them (Garland & Heckbert 1997), seen from another point."""
    for k in range(n):
        s = star[k]
        if _height(x, tri[s, 0], tri[s, 1], tri[s, 2]) < height:
            continue
        m = cross(x, tri[s, 0], tri[s, 1], tri[s, 2])
        size = np.sqrt(m[0] ** 2 + m[1] ** 2 + m[2] ** 2)
        off = (m[0] * (x[v, 0] - x[w, 0]) + m[1] * (x[v, 1] - x[w, 1]) + m[2] * (x[v, 2] - x[w, 2])) / size
        for i in range(3):
            b[i] += m[i] * off
            for c in range(3):
                a[i, c] += m[i] * m[c] / size


@njit(cache=True)
def _solved(a: Floats, b: Floats, slack: float, x: Floats, v: int, w: int, here: Floats) -> None:
    """The place that solves equations (3,3) and (3,) seen from a point, drawn by `slack` to the middle between that and
    another."""
    m00, m11, m22 = a[0, 0] + slack, a[1, 1] + slack, a[2, 2] + slack
    m01, m02, m12 = a[0, 1], a[0, 2], a[1, 2]
    r0 = b[0] + 0.5 * slack * (x[v, 0] - x[w, 0])
    r1 = b[1] + 0.5 * slack * (x[v, 1] - x[w, 1])
    r2 = b[2] + 0.5 * slack * (x[v, 2] - x[w, 2])
    c00, c01, c02 = m11 * m22 - m12 * m12, m02 * m12 - m01 * m22, m01 * m12 - m02 * m11
    c11, c12, c22 = m00 * m22 - m02 * m02, m01 * m02 - m00 * m12, m00 * m11 - m01 * m01
    one = 1.0 / max(m00 * c00 + m01 * c01 + m02 * c02, 1e-300)
    here[0] = x[w, 0] + one * (c00 * r0 + c01 * r1 + c02 * r2)
    here[1] = x[w, 1] + one * (c01 * r0 + c11 * r1 + c12 * r2)
    here[2] = x[w, 2] + one * (c02 * r0 + c12 * r1 + c22 * r2)


@njit(cache=True)
def _turned_by(
    x: Floats, tri: Ints, star: Ints, n: int, v: int, w: int, height: float, p: Floats
) -> tuple[float, float, float]:
    """What comes of moving a point together with a neighbour: by how much (the cosine) the triangles around it that are
    no needles turn at most, and how high the lowest is before and after."""
    worst, least, before = 1.0, 1e300, 1e300
    was = x[v, 0], x[v, 1], x[v, 2]
    for k in range(n):
        s = star[k]
        i = _at(tri, s, v)
        a, b = tri[s, (i + 1) % 3], tri[s, (i + 2) % 3]
        high, way = _height(x, v, a, b), cross(x, v, a, b)
        before = min(before, high)
        if a != w and b != w:
            x[v, 0], x[v, 1], x[v, 2] = p[0], p[1], p[2]
            least = min(least, _height(x, v, a, b))
            if high >= height:
                worst = min(worst, cosine(way, cross(x, v, a, b)))
            x[v, 0], x[v, 1], x[v, 2] = was
    return worst, least, before


@njit(cache=True)
def _together(
    x: Floats, tri: Ints, nbr: Ints, error: Floats, t: int, v: int, w: int, height: float, stays: Bools, star: Ints,
    other: Ints, p: Floats,
) -> float:  # fmt: skip
    """Where two neighbours become one point (`p`) with the least turning of what is around them, and how far (mm) that
    moves anything in all; less than 0 where they cannot."""
    n = _star(tri, nbr, t, v, star)
    m = _star(tri, nbr, t, w, other)
    if stays[v] or stays[w] or n < 3 or m < 3 or n + m < 7:
        return -1.0
    common, far = 0, 0.0
    for k in range(n):
        s = star[k]
        far = max(far, error[s])
        c = tri[s, (_at(tri, s, v) + 1) % 3]  # each neighbour comes once as the corner after it
        common += int(c != w and _linked(tri, other, m, c))
    for k in range(m):
        far = max(far, error[other[k]])
    if common != 2:
        return -1.0
    a, b = np.zeros((3, 3)), np.zeros(3)
    _place(x, tri, star, n, v, w, height, a, b)
    _place(x, tri, other, m, w, w, height, a, b)
    weight = (a[0, 0] + a[1, 1] + a[2, 2]) / 3.0
    best, moves = _TURN, -1.0
    here = np.empty(3)
    for way in range(5):
        if way < 2:  # nearest to all planes, and as near to the middle between the two as these leave open
            slack = weight * (1e-6 if way == 0 else 1e-2) + 1e-300
            _solved(a, b, slack, x, v, w, here)
        elif way == 2:
            for i in range(3):
                here[i] = 0.5 * (x[v, i] + x[w, i])
        else:
            for i in range(3):
                here[i] = x[v, i] if way == 3 else x[w, i]
        one_way, other_way = 0.0, 0.0
        for i in range(3):
            one_way += (here[i] - x[v, i]) ** 2
            other_way += (here[i] - x[w, i]) ** 2
        step = np.sqrt(max(one_way, other_way))
        if far + step > height:
            continue
        one = _turned_by(x, tri, star, n, v, w, height, here)
        two = _turned_by(x, tri, other, m, w, v, height, here)
        turn = min(one[0], two[0])
        if turn > best and min(one[1], two[1]) > min(one[2], two[2]):
            best, moves = turn, far + step
            for i in range(3):
                p[i] = here[i]
            if turn > _LITTLE:
                break
    return moves


@njit(cache=True)
def _draw(
    x: Floats, tri: Ints, nbr: Ints, error: Floats, t: int, v: int, w: int, p: Floats, far: float, star: Ints
) -> None:
    """Make one of two neighbours, at a place; the two triangles beside the side between them go."""
    m = _star(tri, nbr, t, w, star)
    for k in range(m):
        error[star[k]] = far
    n = _star(tri, nbr, t, v, star)
    x[w, 0], x[w, 1], x[w, 2] = p[0], p[1], p[2]
    for k in range(n):
        s = star[k]
        error[s] = far
        if _at(tri, s, w) < 0:
            tri[s, _at(tri, s, v)] = w
            continue
        one, two = nbr[s, _at(tri, s, v)], nbr[s, _at(tri, s, w)]
        for j in range(3):
            if nbr[one, j] == s:
                nbr[one, j] = two
                break
        for j in range(3):
            if nbr[two, j] == s:
                nbr[two, j] = one
                break
        tri[s, 0] = -1


@njit(cache=True)
def _gone_through(
    x: Floats, tri: Ints, nbr: Ints, of: Ints, error: Floats, order: Ints, height: float, stays: Bools, star: Ints,
    other: Ints,
) -> int:  # fmt: skip
    """Go through triangles in an order and change those lower than a height in place; how many went."""
    p = np.empty(3)
    gone = 0
    for t in order:
        own = _height(x, tri[t, 0], tri[t, 1], tri[t, 2]) if tri[t, 0] >= 0 else height
        if own >= height:
            continue
        i = 0
        for k in range(1, 3):
            here = length(x, tri[t, (k + 1) % 3], tri[t, (k + 2) % 3])
            if here < length(x, tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]):
                i = k
        v, w = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
        far = _together(x, tri, nbr, error, t, v, w, height, stays, star, other, p)
        if far >= 0.0:
            _draw(x, tri, nbr, error, t, v, w, p, far, star)
            gone += 1
        else:
            gone += int(_swapped(x, tri, nbr, of, error, t, height, own, stays, star))
    return gone
