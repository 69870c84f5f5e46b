"""Triangles cleaned: welded, what has no area or stands twice dropped, turned alike, holes filled, islands and inner
fragments dropped, what passes through itself parted in inside and outside.

Holes are filled by the triangulation of least area over their rim (Barequet & Sharir 1995; Liepa 2003).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy
from numba import njit

from lithon.arrays import Bools, Floats, Ints, by_label, cross_product, given, triangle_areas
from lithon.brep.faceted import enclosed
from lithon.errors import Refusal
from lithon.progress import pulse
from lithon.threads import shared_out

#: A rim of more corners than this is filled about its middle.
_LONGEST = 300
#: In diagonals: triangles lower than this have no area; so often those that come of it are looked at again.
_FLAT, _FLIPS = 1e-7, 10


@dataclass(slots=True)
class Cleaned:
    """points (n,3), corners (m,3), and how many of each sort of wound were healed; `left`: rims that stayed open."""

    points: Floats
    corners: Ints
    healed: dict[str, int] = field(default_factory=dict)
    left: int = 0


def cleaned(points: Floats, corners: Ints, weld: float | None = None, islands: float = 0.02) -> Cleaned:
    """Triangles without wounds, as far as they can be told.

    weld: points nearer than this (mm) become one; a hundred-thousandth of the diagonal where left out. islands: sets
    of triangles with less than this share of the whole area go, and so do those that lie inside others the wrong way.
    Nothing may be left of what encloses nothing.
    """
    out = Cleaned(np.asarray(points, dtype=float), np.asarray(corners, dtype=np.int64))
    scale = float(np.linalg.norm(np.ptp(out.points, axis=0))) if len(out.points) else 0.0
    if not scale > 0.0:
        raise Refusal("there are no triangles with any extent")
    _weld(out, weld if weld is not None else 1e-5 * scale)
    _drop_flat(out)
    _drop_doubled(out)
    _flip_flat(out, _FLAT * scale)
    _drop_surplus(out)
    _turn(out)
    _fill(out)
    _drop_islands(out, islands)
    if len(out.corners):  # where points become one that are far apart, nothing is left
        _turn_outward(out)
        if not out.left:
            _part_inside_from_outside(out, scale)
    used, local = np.unique(out.corners, return_inverse=True)
    out.points, out.corners = out.points[used], local.reshape(-1, 3)
    return out


def belonging(parts: Sequence[tuple[Floats, Ints]], weld: float | None = None) -> Ints:
    """Which sets (k,) of triangles are torn apart only: they share a side where points nearer than `weld` (mm) are one;
    a number for each, the same for those that belong together."""
    points = np.concatenate([p for p, _ in parts])
    starts = np.cumsum([0, *(len(p) for p, _ in parts)])
    whole = Cleaned(points, np.concatenate([c + start for (_, c), start in zip(parts, starts, strict=False)]))
    _weld(whole, weld if weld is not None else 1e-5 * float(np.linalg.norm(np.ptp(points, axis=0))))
    key, owner, _ = _sides(whole.corners, len(points))
    of = np.repeat(np.arange(len(parts)), [len(c) for _, c in parts])[owner]
    order = np.argsort(key, kind="stable")
    same = key[order][1:] == key[order][:-1]
    return _groups(len(parts), of[order][:-1][same], of[order][1:][same])


def _note(out: Cleaned, what: str, count: int) -> None:
    if count:
        out.healed[what] = out.healed.get(what, 0) + int(count)


def _weld(out: Cleaned, near: float) -> None:
    tree = scipy.spatial.cKDTree(out.points)
    pairs = tree.query_pairs(near, output_type="ndarray")
    n = len(out.points)
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(n, n))
    count, group = scipy.sparse.csgraph.connected_components(graph, directed=False)
    first = np.full(count, n)
    np.minimum.at(first, group, np.arange(n))
    apart = (out.points[first[group]] != out.points).any(axis=1)
    _note(out, "points welded", int(apart.sum()))
    out.corners = first[group][out.corners]


def _drop_flat(out: Cleaned) -> None:
    c = out.corners
    twice = (c[:, 0] == c[:, 1]) | (c[:, 1] == c[:, 2]) | (c[:, 2] == c[:, 0])
    _note(out, "triangles without area", int(twice.sum()))
    out.corners = c[~twice]


def _flip_flat(out: Cleaned, least: float) -> None:
    """Triangles lower than `least` (mm) over their longest side, whose third corner stands on it: the triangle beyond
    that side is parted there instead."""
    before = left = 0
    for turn in range(_FLIPS):
        c = out.corners
        p = out.points[c]
        long = np.linalg.norm(np.roll(p, -1, axis=1) - p, axis=2)
        twice = np.linalg.norm(cross_product(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
        flat = np.flatnonzero(twice <= least * long.max(axis=1))
        before, left = len(flat) if turn == 0 else before, len(flat)
        if not len(flat):
            break
        n = len(out.points)
        key, owner, _up = _sides(c, n)
        order = np.argsort(key, kind="stable")
        key, owner = key[order], owner[order]

        def of(a: int, b: int, key: Ints = key, owner: Ints = owner, n: int = n) -> list[int]:
            side = min(a, b) * n + max(a, b)
            return [int(t) for t in owner[np.searchsorted(key, side) : np.searchsorted(key, side, "right")]]

        gone, taken, made = np.zeros(len(c), dtype=bool), set[int](), set[tuple[int, int]]()
        for t in flat.tolist():
            a, b, top = np.roll(c[t], -int(long[t].argmax())).tolist()
            beyond = [o for o in of(a, b) if o != t]
            if t in taken or len(beyond) > 1 or taken.intersection(beyond):
                continue
            if not beyond:
                gone[t] = True
                continue
            (o,) = beyond
            far = next(v for v in c[o].tolist() if v not in (a, b))
            side = (min(top, far), max(top, far))
            if far == top or side in made or of(*side):
                continue
            x, y, _far = np.roll(c[o], -(c[o].tolist().index(far) + 1)).tolist()
            out.corners[t], out.corners[o] = (x, top, far), (top, y, far)
            taken |= {t, o}
            made.add(side)
        if not taken and not gone.any():
            break
        out.corners = out.corners[~gone]
    _note(out, "triangles without area", before - left)


def _drop_doubled(out: Cleaned) -> None:
    key = np.sort(out.corners, axis=1)
    order = np.lexsort((key[:, 2], key[:, 0] * len(out.points) + key[:, 1]))
    again = np.zeros(len(key), dtype=bool)
    again[1:] = (key[order[1:]] == key[order[:-1]]).all(axis=1)
    _note(out, "triangles doubled", int(again.sum()))
    out.corners = out.corners[np.sort(order[~again])]


def _sides(corners: Ints, n: int) -> tuple[Ints, Ints, Bools]:
    """Of all sides (3m,) the undirected key, the triangle and whether it runs up."""
    a, b = corners[:, [0, 1, 2]].T.ravel(), corners[:, [1, 2, 0]].T.ravel()
    key = np.minimum(a, b) * n + np.maximum(a, b)
    return key, np.tile(np.arange(len(corners)), 3), np.asarray(a < b)


def _drop_surplus(out: Cleaned) -> None:
    """Where three triangles or more share a side, those that hang by it alone go."""
    for _ in range(10):
        key, owner, _up = _sides(out.corners, len(out.points))
        _, back, count = np.unique(key, return_inverse=True, return_counts=True)
        many = count[back.reshape(-1)] > 2
        free = count[back.reshape(-1)] == 1
        hang = np.zeros(len(out.corners), dtype=bool)
        over = np.zeros(len(out.corners), dtype=bool)
        np.logical_or.at(over, owner[many], True)
        np.logical_or.at(hang, owner[free], True)
        gone = over & hang
        if not gone.any():
            return
        _note(out, "triangles that hang on a side of others", int(gone.sum()))
        out.corners = out.corners[~gone]


def side_pairs(corners: Ints, n: int) -> tuple[Ints, Ints, Bools]:
    """Triangles (k,) and (k,) with a side that just they share, and whether they run along it the same way."""
    key, owner, up = _sides(corners, n)
    order = np.argsort(key, kind="stable")
    k = key[order]
    start = np.flatnonzero(np.r_[True, k[1:] != k[:-1]])
    two = start[np.diff(np.r_[start, len(k)]) == 2]
    i, j = order[two], order[two + 1]
    return owner[i], owner[j], np.asarray(up[i] == up[j])


def _turn(out: Cleaned) -> None:
    """All triangles of a connected set look the same way: the way in which fewest are turned."""
    a, b, same = side_pairs(out.corners, len(out.points))
    flip = _two_coloured(len(out.corners), a, b, same)
    group = _groups(len(out.corners), a, b)
    turned = np.bincount(group, weights=flip)
    whole = np.bincount(group)
    flip = np.where(turned[group] > 0.5 * whole[group], ~flip, flip)
    _note(out, "triangles turned", int(flip.sum()))
    out.corners = np.where(flip[:, None], out.corners[:, ::-1], out.corners)


def _groups(m: int, a: Ints, b: Ints) -> Ints:
    graph = scipy.sparse.coo_array((np.ones(len(a)), (a, b)), shape=(m, m))
    return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])


def _two_coloured(m: int, a: Ints, b: Ints, differ: Bools) -> Bools:
    """Which triangles are to be turned, so that neighbours agree; breadth first from the first of each set."""
    order, starts = by_label(np.concatenate([a, b]), m)
    return _spread(starts, np.concatenate([b, a])[order], np.concatenate([differ, differ])[order])


@njit(cache=True)
def _spread(starts: Ints, other: Ints, differ: Bools) -> Bools:
    m = len(starts) - 1
    seen = np.zeros(m, np.bool_)
    flip = np.zeros(m, np.bool_)
    queue = np.empty(m, np.int64)
    for root in range(m):
        if seen[root]:
            continue
        seen[root] = True
        queue[0] = root
        head, tail = 0, 1
        while head < tail:
            i = queue[head]
            head += 1
            for k in range(starts[i], starts[i + 1]):
                j = other[k]
                if not seen[j]:
                    seen[j] = True
                    flip[j] = flip[i] != differ[k]
                    queue[tail] = j
                    tail += 1
    return flip


def rims(corners: Ints, n: int) -> list[list[int]]:
    """Closed walks along sides that one triangle has alone, the way a triangle in the hole would walk them."""
    key, owner, _ = _sides(corners, n)
    _, back, count = np.unique(key, return_inverse=True, return_counts=True)
    open_side = np.flatnonzero(count[back.reshape(-1)] == 1)
    m = len(corners)
    a, b = corners[owner[open_side], open_side // m], corners[owner[open_side], (open_side // m + 1) % 3]
    onward: dict[int, list[int]] = defaultdict(list)
    for i, j in zip(b.tolist(), a.tolist(), strict=True):
        onward[i].append(j)
    out = []
    while onward:
        start = next(iter(onward))
        walk, at = [start], start
        while True:
            nxt = onward[at].pop()
            if not onward[at]:
                del onward[at]
            if nxt == start or nxt not in onward:
                if nxt == start:
                    out.append(walk)
                break
            if nxt in walk:  # a loop within the walk is a rim of its own
                cut = walk.index(nxt)
                out.append(walk[cut:])
                walk = walk[: cut + 1]
            else:
                walk.append(nxt)
            at = nxt
    return [w for w in out if len(w) >= 3]


def _fill(out: Cleaned) -> None:
    """Close every rim."""
    found = rims(out.corners, len(out.points))
    if not found:
        return
    made: list[Ints] = []
    more: list[Floats] = []
    count = len(out.points)
    for rim in found:
        pulse("filling holes")
        ids = np.array(rim)
        if len(rim) <= _LONGEST:
            local = least_area(np.ascontiguousarray(out.points[ids]))
            made.append(ids[local])
        else:
            more.append(out.points[ids].mean(axis=0)[None])
            made.append(np.stack([ids, np.roll(ids, -1), np.full(len(ids), count)], axis=1))
            count += 1
    _note(out, "holes filled", len(found))
    out.points = np.concatenate([out.points, *more])
    out.corners = np.concatenate([out.corners, *made])
    out.left = len(rims(out.corners, len(out.points)))


@njit(cache=True)
def least_area(p: Floats) -> Ints:
    """The triangulation (n-2,3) of a closed polygon (n,3) in space whose area is least; of equal ones that with the
    least perimeter."""
    n = len(p)
    cost = np.zeros((n, n))
    best = np.zeros((n, n), np.int64)
    for gap in range(2, n):
        for i in range(n - gap):
            j = i + gap
            cost[i, j] = np.inf
            for m in range(i + 1, j):
                ux, uy, uz = p[m, 0] - p[i, 0], p[m, 1] - p[i, 1], p[m, 2] - p[i, 2]
                vx, vy, vz = p[j, 0] - p[i, 0], p[j, 1] - p[i, 1], p[j, 2] - p[i, 2]
                cx, cy, cz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
                around = np.sqrt(ux * ux + uy * uy + uz * uz) + np.sqrt(vx * vx + vy * vy + vz * vz)
                own = 0.5 * np.sqrt(cx * cx + cy * cy + cz * cz)
                # Three corners on a line make no triangle, however cheap it were.
                own += around * around * (1.0 if own < 1e-7 * around * around else 1e-6)
                c = cost[i, m] + cost[m, j] + own
                if c < cost[i, j]:
                    cost[i, j], best[i, j] = c, m
    out = np.empty((n - 2, 3), np.int64)
    stack = np.empty((2 * n, 2), np.int64)
    stack[0, 0], stack[0, 1] = 0, n - 1
    top, k = 1, 0
    while top:
        top -= 1
        i, j = stack[top, 0], stack[top, 1]
        if j - i < 2:
            continue
        m = best[i, j]
        out[k, 0], out[k, 1], out[k, 2] = i, m, j
        k += 1
        stack[top, 0], stack[top, 1] = i, m
        stack[top + 1, 0], stack[top + 1, 1] = m, j
        top += 2
    return out


def _drop_islands(out: Cleaned, share: float) -> None:
    """Small sets go, and closed ones inside another that look outwards there: they bound nothing."""
    a, b, _ = side_pairs(out.corners, len(out.points))
    group = _groups(len(out.corners), a, b)
    area = np.bincount(group, weights=triangle_areas(out.points, out.corners))
    if len(area) < 2:
        return
    small = area < share * area.sum()
    biggest = int(area.argmax())
    rest = out.corners[group == biggest]
    for k in np.flatnonzero(~small).tolist():
        own = out.corners[group == k]
        if k == biggest or enclosed(out.points, own) * enclosed(out.points, rest) < 0.0:
            continue  # what is turned the other way within it is a hollow
        around = winding_number(out.points, rest, out.points[own[:9, 0]])
        small[k] = bool((np.abs(around) > 0.5).mean() > 0.5)
    gone = small[group]
    _note(out, "islands and inner fragments dropped", int(small.sum()))
    out.corners = out.corners[~gone]


def winding_number(points: Floats, corners: Ints, at: Floats) -> Floats:
    """How often triangles go around points (n,3): the solid angles under which they are seen, over 4 pi (Van Oosterom &
    Strackee 1983; Jacobson, Kavan & Sorkine-Hornung 2013). It need not be whole where they are open."""
    p, spots = given(points), given(at)
    rows = np.ascontiguousarray(corners, dtype=np.int64).view()
    rows.flags.writeable = False  # compiled once, whatever it was
    (out,) = shared_out(lambda some: (_around(p, rows, spots[some]),), len(spots))
    return np.asarray(out)


@njit(cache=True, nogil=True)
def _around(points: Floats, corners: Ints, at: Floats) -> Floats:
    out = np.zeros(len(at))
    to, far = np.empty((3, 3)), np.empty(3)
    for n in range(len(at)):
        for t in range(len(corners)):
            for k in range(3):
                for c in range(3):
                    to[k, c] = points[corners[t, k], c] - at[n, c]
                far[k] = np.sqrt(to[k, 0] ** 2 + to[k, 1] ** 2 + to[k, 2] ** 2)
            top = (
                to[0, 0] * (to[1, 1] * to[2, 2] - to[1, 2] * to[2, 1])
                + to[0, 1] * (to[1, 2] * to[2, 0] - to[1, 0] * to[2, 2])
                + to[0, 2] * (to[1, 0] * to[2, 1] - to[1, 1] * to[2, 0])
            )
            low = far[0] * far[1] * far[2]
            for k in range(3):
                a, b = to[k], to[(k + 1) % 3]
                low += (a[0] * b[0] + a[1] * b[1] + a[2] * b[2]) * far[(k + 2) % 3]
            out[n] += np.arctan2(top, low)
    return out / (2.0 * np.pi)


def _part_inside_from_outside(out: Cleaned, scale: float) -> None:
    """Where triangles pass through each other they are cut, and what is not skin goes."""
    from lithon.brep.arrangement import skin_of

    out.points, out.corners, count = skin_of(out.points, out.corners)
    if not count:
        return
    _note(out, "pairs of triangles that passed through each other", count)
    plain = dict(out.healed)
    _weld(out, 1e-8 * scale)  # what is cut where three planes nearly meet
    _drop_flat(out)
    out.healed = plain
    key = np.sort(out.corners, axis=1)
    _, back, times = np.unique(key, axis=0, return_inverse=True, return_counts=True)
    out.corners = out.corners[times[back.reshape(-1)] == 1]  # two back to back bound nothing
    _drop_crumbs(out)


def _drop_crumbs(out: Cleaned) -> None:
    """Closed sets that are nothing but rounding go."""
    a, b, _ = side_pairs(out.corners, len(out.points))
    group = _groups(len(out.corners), a, b)
    area = np.bincount(group, weights=triangle_areas(out.points, out.corners))
    out.corners = out.corners[area[group] > 1e-6 * area.sum()]


def _turn_outward(out: Cleaned) -> None:
    """Sets that are inside out as a whole are turned, but for hollows."""
    a, b, _ = side_pairs(out.corners, len(out.points))
    group = _groups(len(out.corners), a, b)
    area = np.bincount(group, weights=triangle_areas(out.points, out.corners))
    biggest = int(area.argmax())
    if enclosed(out.points, out.corners[group == biggest]) < 0.0:
        _note(out, "turned inside out", 1)
        out.corners = out.corners[:, ::-1]
