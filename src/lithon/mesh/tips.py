"""Tips of faces, where two edges run into each other at a small angle, and necks, where they come near each other,
drawn together as far as they are narrower than what is ignored; compiled.

Each node of the one edge becomes one with a node of the other, from the tip on, as a zip is closed: what was the face
there is gone, and the faces beyond its two edges meet. Where it stops the face is as wide as what is ignored. A neck
that is drawn together where it is narrowest has two tips.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, cross_product, flag, unit, whole
from lithon.geometry.triples import length
from lithon.mesh.web import Web, around, at_side, kept_row, shape
from lithon.mesh.web_changes import beside, draw_in, folds, has, stays_good

#: A tip is narrower (radians) than the first of these; elements at one are poor below the second.
_NARROW, _POOR = np.radians(25.0), np.radians(13.0)
#: As a cosine; and what is beside a tip gets no flatter than this.
_SHARP, _LEAST = float(np.cos(_NARROW)), 0.12
#: A neck is no wider than this share of what is ignored.
_NECK = 0.2
#: Nodes become one across a face, or along an edge. Not plain ones: what is called is compiled for each of those.
_ACROSS, _ALONG = flag(True), flag(False)


def tips(points: Floats, triangles: Ints, of: Ints, kept: Ints, limit: float) -> tuple[Ints, Ints, Floats]:
    """The nodes and faces (k,2) at the tips of faces: the triangles (m,3), of faces (m,), that lie between two kept
    sides (s,2) at a small angle, and are narrower than a limit (mm) there. And those (j,2) where they are wider
    and a triangle is poor for its angle, with the places (j,2,3) on both sides where these are as far apart as that."""
    n = len(points)
    keys = np.unique(kept.min(axis=1) * n + kept.max(axis=1))
    ahead = np.roll(triangles, -1, axis=1)
    side = np.isin(np.minimum(triangles, ahead) * n + np.maximum(triangles, ahead), keys)  # of corner k and the next
    near, wide, places = list[Ints](), list[Ints](), list[Floats]()
    for k in range(3):
        at, one, two = triangles[:, k], triangles[:, (k + 1) % 3], triangles[:, (k + 2) % 3]
        rows = np.flatnonzero(side[:, k] & side[:, (k + 2) % 3] & ~side[:, (k + 1) % 3])
        at, one, two = at[rows], one[rows], two[rows]
        u, v = unit(points[one] - points[at]), unit(points[two] - points[at])
        angle = np.arctan2(np.linalg.norm(cross_product(u, v), axis=1), (u * v).sum(axis=1))
        nearer = np.minimum(
            np.linalg.norm(points[one] - points[at], axis=1), np.linalg.norm(points[two] - points[at], axis=1)
        )
        short = nearer * np.sin(np.minimum(angle, 0.5 * np.pi)) < limit
        owner = np.stack([at, of[rows]], axis=1)
        near.append(owner[short & (angle < _NARROW)])
        poor = ~short & (angle < _POOR)
        wide.append(owner[poor])
        far = (limit / np.maximum(angle[poor], 1e-9))[:, None]
        places.append(np.stack([points[at[poor]] + far * u[poor], points[at[poor]] + far * v[poor]], axis=1))
    return np.unique(np.concatenate(near), axis=0), np.concatenate(wide), np.concatenate(places)


def necks(points: Floats, triangles: Ints, of: Ints, kept: Ints, limit: float) -> Ints:
    """The sides (k,2) of triangles (m,3), of faces (m,), that go across a face from one kept side (s,2) to another
    where it is far narrower than a limit (mm), and the faces, as rows (k,3), the shortest first."""
    n = len(points)
    keys = np.unique(kept.min(axis=1) * n + kept.max(axis=1))
    a, b = triangles.ravel(), np.roll(triangles, -1, axis=1).ravel()
    on_edge = np.zeros(n, dtype=np.bool_)
    on_edge[kept] = True
    long = np.linalg.norm(points[a] - points[b], axis=1)
    rows = np.flatnonzero((a < b) & on_edge[a] & on_edge[b] & (long < _NECK * limit))
    rows = rows[~np.isin(a[rows] * n + b[rows], keys)]
    rows = rows[np.argsort(long[rows], kind="stable")]
    return np.stack([a[rows], b[rows], np.repeat(of, 3)[rows]], axis=1)


@njit(cache=True)
def draw_together(w: Web, at: Ints, across: Ints, limit: float, bound: Bools, changed: Bools) -> Ints:
    """Draw tips (k,2), nodes and faces, and necks (j,3), two nodes and a face, together where they are narrower than a
    limit (mm); the nodes (k+j,2) where tips are then, at the most two of each, -1 where none could be. bound (n,):
    those that stay; changed (n,): the nodes around; added to."""
    wide = w.star.shape[1]
    gone, one, two = np.empty(wide, np.int64), np.empty(3 * wide, np.int64), np.empty(3 * wide, np.int64)
    new, rows, was = np.empty((2 * wide, 3), np.int64), np.empty(2 * wide, np.int64), np.empty((2 * wide, 3))
    ends = np.full((len(at) + len(across), 2), -1)
    for k in range(len(at)):
        for way in range(2):
            past = _past(w, at[k, 0], at[k, 1], way)
            into = _closed(w, at[k, 0], at[k, 1], past, limit, bound, changed, gone, one, two, new, rows, was)
            if into >= 0:
                ends[k, way] = into
    for k in range(len(across)):
        u, v, f = across[k]
        if bound[u] or w.many[u] > 2:
            u, v = v, u
        if w.many[u] != 2 or w.many[v] < 2 or bound[u] or _in_common(w, u, v):
            continue
        if at_side(w, u, v, gone) != 2 or not _merged(w, u, v, f, _ACROSS, gone, one, two, new, rows, was):
            continue
        changed[v] = True
        for way in range(2):
            past = _past(w, v, f, way)
            into = _closed(w, v, f, past, limit, bound, changed, gone, one, two, new, rows, was)
            ends[len(at) + k, way] = into if into >= 0 else v
    return ends


@njit(cache=True)
def _in_common(w: Web, u: int, v: int) -> bool:
    """Whether the kept sides of two nodes end in a third: what is between them is no neck but a tip."""
    found = False
    for k in range(w.many[u]):
        found |= kept_row(w, v, w.kept[u, k]) >= 0
    return found


@njit(cache=True)
def _past(w: Web, m: int, f: int, way: int) -> Ints:
    """The parts of a face at a node lie each between two of its kept sides, and are two where they meet there alone:
    the other ends (2,) of the sides of the first, or the second (`way`), -1 where there are not so many."""
    out = np.full(2, -1)
    for k in range(w.many[m]):
        first = w.kept[m, k]
        last, x = -1, _third(w, m, first, f)
        came = first
        for _ in range(w.deg[m]):  # from triangle to triangle around the node
            if x < 0:
                break
            if kept_row(w, m, x) >= 0:
                last = x
                break
            came, x = x, _beyond(w, m, x, f, came)
        if last < 0 or first > last:
            continue
        if way == 0:
            out[0], out[1] = first, last
            return out
        way -= 1
    return out


@njit(cache=True)
def _beyond(w: Web, m: int, x: int, f: int, came: int) -> int:
    """The third node of the triangle of a face at a side that has not another node; -1 where there is none."""
    for k in range(w.deg[m]):
        t = w.star[m, k]
        if w.of[t] == f and has(w, t, x) and not has(w, t, came):
            for j in range(3):
                if w.tri[t, j] != m and w.tri[t, j] != x:
                    return int(w.tri[t, j])
    return -1


@njit(cache=True)
def _closed(
    w: Web,
    m: int,
    f: int,
    past: Ints,
    limit: float,
    bound: Bools,
    changed: Bools,
    gone: Ints,
    one: Ints,
    two: Ints,
    new: Ints,
    rows: Ints,
    was: Floats,
) -> int:
    """Draw a tip of a face together as far as it goes; the node where it is then, -1 where it could not be."""
    end = -1
    while True:
        into = _one_more(w, m, f, past, limit, bound, gone, one, two, new, rows, was)
        if into < 0:
            return end
        m = end = into
        changed[m] = True
        n = around(w, m, one)
        for i in range(n):
            changed[one[i]] = True


@njit(cache=True)
def _third(w: Web, m: int, a: int, f: int) -> int:
    """The third node of the only triangle of a face at a side; -1 where there are none or more."""
    found, count = -1, 0
    for k in range(w.deg[m]):
        t = w.star[m, k]
        if w.of[t] == f and has(w, t, a):
            count += 1
            for j in range(3):
                if w.tri[t, j] != m and w.tri[t, j] != a:
                    found = w.tri[t, j]
    return found if count == 1 else -1


@njit(cache=True)
def _one_more(
    w: Web,
    m: int,
    f: int,
    past: Ints,
    limit: float,
    bound: Bools,
    gone: Ints,
    one: Ints,
    two: Ints,
    new: Ints,
    rows: Ints,
    was: Floats,
) -> int:
    """Make the next two nodes at a tip one, or take one away that has none to meet; the node at the tip then, -1 where
    that is all. past (2,): the other ends of kept sides that are none of this tip's."""
    a, b, count = whole(-1), whole(-1), 0
    for k in range(w.many[m]):
        x = w.kept[m, k]
        if x != past[0] and x != past[1] and _third(w, m, x, f) >= 0:
            a, b = b, x
            count += 1
    if count != 2:
        return -1
    x, y = _third(w, m, a, f), _third(w, m, b, f)
    p = w.p
    if x == b:
        if not _sharp(p, m, a, b):
            return -1
        # Neither edge goes further than the limit.
        if not bound[a] and _off(w, b, m, a) <= limit and _merged(w, a, b, f, _ACROSS, gone, one, two, new, rows, was):
            return b
        if not bound[b] and _off(w, a, m, b) <= limit and _merged(w, b, a, f, _ACROSS, gone, one, two, new, rows, was):
            return a
        return -1
    # A node of one edge between two of it that both meet the same of the other: it goes, as does one between the two.
    for u, v in ((a, x), (b, y)):
        if not bound[u] and length(p, m, u) < limit and kept_row(w, u, v) >= 0 and w.many[u] == 2:
            return m if _merged(w, u, m, f, _ALONG, gone, one, two, new, rows, was) else -1
        if not bound[v] and w.many[v] == 0 and length(p, v, u) < limit:
            return m if _merged(w, v, u, f, _ACROSS, gone, one, two, new, rows, was) else -1
    return -1


@njit(cache=True)
def _off(w: Web, v: int, m: int, a: int) -> float:
    """How far (mm) a node is off the kept sides before and behind a node that follows another along an edge."""
    out = _from_side(w.p, v, m, a)
    for k in range(w.many[a]):
        if w.kept[a, k] != m:
            out = min(out, _from_side(w.p, v, a, w.kept[a, k]))
    return out


@njit(cache=True)
def _from_side(p: Floats, v: int, a: int, b: int) -> float:
    dot, whole_side = 0.0, 0.0
    for i in range(3):
        dot += (p[v, i] - p[a, i]) * (p[b, i] - p[a, i])
        whole_side += (p[b, i] - p[a, i]) ** 2
    t = min(max(dot / max(whole_side, 1e-300), 0.0), 1.0)
    out = 0.0
    for i in range(3):
        out += (p[v, i] - p[a, i] - t * (p[b, i] - p[a, i])) ** 2
    return float(np.sqrt(out))


@njit(cache=True)
def _sharp(p: Floats, m: int, a: int, b: int) -> bool:
    dot, one, two = 0.0, 0.0, 0.0
    for i in range(3):
        s, t = p[a, i] - p[m, i], p[b, i] - p[m, i]
        dot += s * t
        one += s * s
        two += t * t
    return bool(dot > _SHARP * np.sqrt(one * two))


@njit(cache=True)
def _merged(
    w: Web,
    u: int,
    v: int,
    face: int,
    across: bool,
    gone: Ints,
    one: Ints,
    two: Ints,
    new: Ints,
    rows: Ints,
    was: Floats,
) -> bool:
    """Make a node one with another at the tip of a face, across it or along its edge, where that leaves good triangles
    of all others; the kept sides of the first are then the other's."""
    many = at_side(w, u, v, gone)
    if many == 0 or w.many[u] > max(2, w.many[v]):
        return False
    for k in range(many):
        if across and w.of[gone[k]] != face:
            return False
    n_one, n_two = around(w, u, one), around(w, v, two)
    between = 0
    for i in range(n_one):
        for j in range(n_two):
            if one[i] == two[j]:
                between += 1
    stay = w.deg[u] - many
    if between != many or stay <= 0 or stay + w.deg[v] - many > w.star.shape[1]:
        return False
    if w.many[u] + w.many[v] > w.kept.shape[1]:
        return False
    m = beside(w, u, v, flag(False), rows, was)
    good = stays_good(w, u, v, rows, m, stay, stay, 0.0, flag(True), was, new)
    if not good or folds(w, u, v, new, m, stay, was):
        return False
    for k in range(stay):
        t = rows[k]
        if w.of[t] == face:
            continue  # it goes in its turn, or is as wide as what is ignored
        after = shape(w.p, new[k, 0], new[k, 1], new[k, 2])
        if after < _LEAST and after < 0.9 * shape(w.p, w.tri[t, 0], w.tri[t, 1], w.tri[t, 2]):
            return False
    draw_in(w, u, v, gone, many, flag(False))
    return True
