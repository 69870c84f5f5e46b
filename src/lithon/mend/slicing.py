"""Triangles that bend too far for one free-form face, cut by planes into parts that do not.

A part is cut where that leaves the two halves of it as flat as may be, by the plane across one of its axes; triangles
are divided where the plane passes, so that the border between two parts is a smooth line and no zigzag. New corners
stand where the smooth surface is, by curved sides with the normals of their ends (Vlachos, Peters, Boyd & Mitchell,
*Curved PN triangles*, 2001).
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, cross_product, unit
from lithon.brep.cleaning import side_pairs
from lithon.brep.faceted import CREASE, connected_sets
from lithon.mend.freeform import bent, corner_normals, unfolded

#: The mean normal of a part is at least so long: of half a ball it is a half, of a third of a bar four fifths.
_FLAT = 0.75
#: What has no more triangles is not cut.
_FEW = 24
#: So many times what is of few triangles goes to what is beside it.
_GIVEN = 12
#: Parts that one patch may come to.
_MOST = 48
#: A corner that stands nearer to a plane than this share of a side that crosses it stands on it.
_NEAR = 0.12
#: An axis along which it reaches no farther than this share of its greatest reach is none to cut across.
_THIN = 0.05
#: A side without bad places has at least this share of it, no more than that, and ends so far beside them (share of
#: its reach).
_CLEAN, _REST, _BESIDE = 0.15, 0.9, 0.02
#: A plane that cut before is taken again where it leaves so much of what the best one does.
_AS_WELL = 0.9
#: Where along an axis it is cut: shares of the area.
_WHERE = (0.35, 0.5, 0.65)


def sliced(
    points: Floats, corners: Ints, rows: Ints, fails: Callable[[Floats, Ints], Floats | None] | None = None
) -> tuple[Floats, Ints, Ints, Ints]:
    """Triangles (m,3) of points (n,3), some of them (rows), where they do not unfold, or `fails` tells at which places
    (k,3) they do, cut into parts that do not and that are fairly flat: the points, those there were first, the
    triangles, the one that each was a part of, and the part (m,) of each, -1 of the others."""
    fails = fails or (lambda p, t: None if unfolded(p, t) is not None else np.zeros((0, 3)))
    label = np.full(len(corners), -1, dtype=np.int64)
    label[rows] = 0
    parent = np.arange(len(corners))
    planes: list[tuple[Floats, Floats]] = []
    bad = fails(points, corners[rows])
    waiting, count = [] if bad is None else [0], 1
    while waiting:
        k = waiting.pop()
        own = np.flatnonzero(label == k)
        if count >= _MOST:
            continue
        if count > 1:
            bad = fails(points, corners[own])
            if bad is None and _flat(points, corners[own]) >= _FLAT:
                continue
        points, corners, of, part, _ = halved(points, corners, own, bad, planes)
        label, parent = label[of], parent[of]
        label[part >= 0] = count + part[part >= 0]
        for j in range(int(part.max()) + 1):
            waiting.append(count + j)
        count += int(part.max()) + 1
    return points, corners, parent, label


def smooth_sides(points: Floats, corners: Ints) -> tuple[Ints, Ints, Floats, Bools]:
    """Pairs (k,) of triangles (m,3) of points (n,3) side by side, how long (mm) the side is, and whether it is on no
    crease."""
    normal, _ = _measures(points, corners)
    normal = unit(normal)
    i, j, _ = side_pairs(corners, len(points))
    common = (corners[i][:, :, None] == corners[j][:, None, :]).any(axis=2)  # which of i's corners j has, too
    first, last = common.argmax(axis=1), 2 - common[:, ::-1].argmax(axis=1)
    row = np.arange(len(i))
    long = np.linalg.norm(points[corners[i][row, first]] - points[corners[i][row, last]], axis=1)
    return i, j, long, np.asarray((normal[i] * normal[j]).sum(axis=1) > np.cos(CREASE))


def by_creases(points: Floats, corners: Ints) -> Ints:
    """The part (m,) of each of some triangles (m,3) of points (n,3) as creases part them; what is of few goes to what
    it has the longest border with."""
    i, j, long, smooth = smooth_sides(points, corners)
    graph = scipy.sparse.coo_array((np.ones(int(smooth.sum())), (i[smooth], j[smooth])), shape=(len(corners),) * 2)
    part = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
    for _ in range(_GIVEN):
        count = np.bincount(part)
        one, two = part[i], part[j]
        apart = one != two
        one, two, by = np.r_[one[apart], two[apart]], np.r_[two[apart], one[apart]], np.r_[long[apart], long[apart]]
        few = (count[one] <= _FEW) & ((count[two] > count[one]) | ((count[two] == count[one]) & (two > one)))
        if not few.any():
            break
        border = scipy.sparse.coo_array((by[few], (one[few], two[few])), shape=(len(count),) * 2).tocsr()
        goes = np.arange(len(count))
        own = np.unique(one[few])
        goes[own] = border[own].argmax(axis=1)
        part = np.unique(goes[part], return_inverse=True)[1]
    return np.asarray(part)


def halved(
    points: Floats, corners: Ints, rows: Ints, bad: Floats | None = None,
    planes: list[tuple[Floats, Floats]] | None = None,
) -> tuple[Floats, Ints, Ints, Ints, Ints]:  # fmt: skip
    """Triangles (m,3) of points (n,3), some of them (rows) cut by a plane into parts, two or more: the points, those
    there were first, the triangles, the one that each was a part of, and the part (m,) of each, -1 of the others and of
    all where they are too few or no plane parts them; and the sides (k,2) on which new points are, in their order. bad
    (k,3): places of which one side is to be free; planes: those that cut before, which are taken again where they do as
    well, so that borders go on beyond each other; added to."""
    whole, sides = np.full(len(corners), -1, dtype=np.int64), np.zeros((0, 2), dtype=np.int64)
    none = points, corners, np.arange(len(corners)), whole, sides
    planes = [] if planes is None else planes
    plane = _plane(points, corners[rows], bad, planes) if len(rows) > _FEW else None
    if plane is None:
        return none
    if not any(plane is known for known in planes):
        planes.append(plane)
    mine = np.zeros(len(corners), dtype=bool)
    mine[rows] = True
    points, corners, of, sides = _cut(points, corners, mine, *plane)
    own = np.flatnonzero(mine[of])
    part = np.full(len(corners), -1, dtype=np.int64)
    ahead = _ahead(points, corners[own], *plane)
    if ahead.all() or not ahead.any():
        return points, corners, of, part, sides
    for side in (ahead, ~ahead):
        part[own[side]] = int(part.max()) + 1 + connected_sets(len(points), corners[own[side]])
    return points, corners, of, part, sides


def _measures(points: Floats, corners: Ints) -> tuple[Floats, Floats]:
    """Twice the areas times the normals (m,3), and the middles (m,3)."""
    a, b, c = (points[corners[:, k]] for k in range(3))
    return cross_product(b - a, c - a), (a + b + c) / 3.0


def _flat(points: Floats, corners: Ints) -> float:
    """How long the mean normal of triangles is."""
    normal, _ = _measures(points, corners)
    return float(np.linalg.norm(normal.sum(axis=0)) / max(float(np.linalg.norm(normal, axis=1).sum()), 1e-300))


def _plane(
    points: Floats, corners: Ints, bad: Floats | None, known: list[tuple[Floats, Floats]]
) -> tuple[Floats, Floats] | None:
    """A point and the normal of the plane that has most on a side without bad places (k,3), or, where there are none or
    they are everywhere, that leaves the flattest two halves; one that is known where it does about as well."""
    normal, middle = _measures(points, corners)
    area = np.linalg.norm(normal, axis=1)
    centre = area @ middle / area.sum()
    spread, lean = ((x * area[:, None]).T @ x for x in (middle - centre, unit(normal)))
    ways = np.concatenate([np.linalg.eigh(spread)[1].T, np.linalg.eigh(lean)[1].T])
    best: tuple[float, Floats, Floats] | None = None
    clean: tuple[float, Floats, Floats] | None = None
    widest = float(np.linalg.norm(middle - centre, axis=1).max())
    for way in ways:
        along = (middle - centre) @ way
        if float(np.ptp(along)) < _THIN * widest:
            continue  # it is as good as flat across that one
        for sense in (1.0, -1.0) if bad is not None and len(bad) else ():
            order = np.argsort(sense * along, kind="stable")
            rest = sense * along[order[int(np.searchsorted(np.cumsum(area[order]), _REST * area.sum()))]]
            at = min(float((sense * (bad - centre) @ way).min()) - _BESIDE * widest, float(rest))
            free = float(area[sense * along < at].sum()) / float(area.sum())
            if free > (_CLEAN if clean is None else clean[0]):
                clean = free, centre + sense * at * way, way
        order = np.argsort(along, kind="stable")
        share = np.cumsum(area[order]) / area.sum()
        for where in _WHERE:
            at = float(along[order[min(int(np.searchsorted(share, where)), len(order) - 1)]])
            ahead = along > at
            if not 0.1 < float(area[ahead].sum()) / float(area.sum()) < 0.9:
                continue
            flat = _halves(normal, area, ahead)
            if best is None or flat > best[0]:
                best = flat, centre + at * way, way
    found = clean or best
    if found is None:
        return None
    for plane in known:
        along = (middle - plane[0]) @ plane[1]
        if clean is not None and bad is not None:
            off = (bad - plane[0]) @ plane[1]
            free = max((float(area[s * along < float((s * off).min())].sum()) for s in (1.0, -1.0)), default=0.0)
            good = free > _AS_WELL * clean[0] * float(area.sum())
        else:
            good = best is not None and _halves(normal, area, along > 0.0) > _AS_WELL * best[0]
        if good and 0.1 < float(area[along > 0.0].sum()) / float(area.sum()) < 0.9:
            return plane
    return found[1:]


def _halves(normal: Floats, area: Floats, ahead: Bools) -> float:
    """How long the mean normals of two halves are, in the middle of both."""
    return sum(float(np.linalg.norm(normal[s].sum(axis=0))) for s in (ahead, ~ahead)) / float(area.sum())


def _ahead(points: Floats, corners: Ints, at: Floats, way: Floats) -> Bools:
    """Which triangles that a plane does not pass through are on its far side."""
    off = (points[corners] - at) @ way
    return np.asarray(np.take_along_axis(off, np.abs(off).argmax(axis=1)[:, None], axis=1)[:, 0] > 0.0)


def _cut(points: Floats, corners: Ints, mine: Bools, at: Floats, way: Floats) -> tuple[Floats, Ints, Ints, Ints]:
    """Some triangles (m,) and those beside them divided where a plane passes through the first: points, triangles,
    which triangle each was a part of, and the sides (k,2) on which new points are."""
    n = len(points)
    used = np.unique(corners[mine])
    off = np.zeros(n)
    off[used] = (points[used] - at) @ way
    sides = np.unique(np.sort(np.concatenate([corners[mine][:, [k, (k + 1) % 3]] for k in range(3)]), axis=1), axis=0)
    for _ in range(3):
        a, b = off[sides].T
        crossed = a * b < 0.0
        t = np.where(crossed, a / np.where(crossed, a - b, 1.0), 0.5)
        onto = np.concatenate([sides[crossed & (t < _NEAR), 0], sides[crossed & (t > 1.0 - _NEAR), 1]])
        if not len(onto):
            break
        off[onto] = 0.0
    a, b = off[sides].T
    crossed = a * b < 0.0
    if not crossed.any():
        return points, corners, np.arange(len(corners)), np.zeros((0, 2), dtype=np.int64)
    low, high = sides[crossed].T
    t = a[crossed] / (a[crossed] - b[crossed])
    fresh = bent(points, corner_normals(points, corners[mine], corners[~mine]), low, high, t)
    key = low * n + high
    order = np.argsort(key)
    key, number = key[order], n + order
    ends = np.sort(np.stack([corners, np.roll(corners, -1, axis=1)], axis=-1), axis=-1)
    wanted = ends[..., 0] * n + ends[..., 1]
    place = np.minimum(np.searchsorted(key, wanted), len(key) - 1)
    middle = np.where(key[place] == wanted, number[place], -1)  # of each side of each triangle its new corner
    whole = (middle < 0).all(axis=1)
    made, of = [corners[whole]], [np.flatnonzero(whole)]
    every = np.concatenate([points, fresh])
    for row in np.flatnonzero(~whole).tolist():
        parts = _parts(corners[row].tolist(), middle[row].tolist(), every)
        made.append(np.array(parts, dtype=np.int64))
        of.append(np.full(len(parts), row))
    return every, np.concatenate(made), np.concatenate(of), np.stack([low, high], axis=1)


def _parts(corner: list[int], middle: list[int], points: Floats) -> list[list[int]]:
    """A triangle with new corners on some of its sides (-1: none) as triangles."""
    split = [k for k in range(3) if middle[k] >= 0]
    if len(split) == 3:
        a, b, c = middle
        return [[corner[0], a, c], [corner[1], b, a], [corner[2], c, b], [a, b, c]]
    if len(split) == 1:
        k = split[0]
        p, q, r, m = corner[k], corner[(k + 1) % 3], corner[(k + 2) % 3], middle[k]
        return [[p, m, r], [m, q, r]]
    k = next(k for k in range(3) if middle[k] < 0)  # the side that is whole, from q to r
    q, r, p = corner[k], corner[(k + 1) % 3], corner[(k + 2) % 3]
    m, s = middle[(k + 1) % 3], middle[(k + 2) % 3]  # on r p and on p q
    tip = [p, s, m]
    if np.linalg.norm(points[q] - points[m]) <= np.linalg.norm(points[r] - points[s]):
        return [tip, [s, q, m], [q, r, m]]
    return [tip, [s, q, r], [s, r, m]]
