"""Sides of a web of triangles collapsed, split and swapped, where what comes of it is sound and better; compiled."""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, flag, whole
from lithon.geometry.triples import Vector, cosine, cross, length
from lithon.mesh.web import Web, around, at_side, drop, join, keep, kept_row, leave, let_go, shape, sides

#: Sides are split above and collapsed below these shares of the wanted size.
LONG, SHORT = 1.45, 0.68
#: Of a chain that goes on across a corner of the model: how straight (cosine).
STRAIGHT = 0.86

#: Two triangles lie on each other where they look apart as much (cosine).
_FOLD = -0.2
#: They lie on each other as they did before where they look apart so little less.
_AS_BEFORE = 0.02


@njit(cache=True)
def _may_go(w: Web, u: int, v: int, limit: float) -> bool:
    """Whether a node may be drawn into another: anywhere from within a face, along its edge from on one, and over
    a tiny edge from a corner that no more edges run into."""
    if not w.free[u]:
        return False
    many = w.many[u]
    if many == 0:
        return True
    k = kept_row(w, u, v)
    if k < 0:  # an edge that ends where what it met is not followed goes on to what is near there
        return many == 1 and length(w.p, u, v) < limit
    if w.tiny[u, k]:
        return bool(many <= w.many[v])
    if many != 2:
        return False
    x = w.kept[u, 1 - k]
    dot, one, two = 0.0, 0.0, 0.0
    for i in range(3):
        s, t = w.p[u, i] - w.p[x, i], w.p[v, i] - w.p[u, i]
        dot += s * t
        one += s * s
        two += t * t
    straight = dot > STRAIGHT * np.sqrt(one * two)
    return bool(straight and (w.edge[u, 0] == w.edge[u, 1] or w.tiny[u, 1 - k] or length(w.p, u, v) < limit))


@njit(cache=True)
def has(w: Web, t: int, v: int) -> bool:
    """Whether a triangle has a node."""
    return bool(w.tri[t, 0] == v or w.tri[t, 1] == v or w.tri[t, 2] == v)


@njit(cache=True)
def _folds_beyond(w: Web, a: int, b: int, c: int, u: int, v: int, was: Vector) -> bool:
    """Whether a triangle would lie on the one beyond its side from a to b that has neither of two more nodes, but over
    a kept side, or where with the normal that it had it did so no less."""
    if kept_row(w, a, b) >= 0:
        return False
    for k in range(w.deg[a]):
        t = w.star[a, k]
        if has(w, t, b) and not has(w, t, u) and not has(w, t, v):
            beyond = cross(w.p, w.tri[t, 0], w.tri[t, 1], w.tri[t, 2])
            if _lies_on(cross(w.p, a, b, c), beyond, was, beyond):
                return True
    return False


@njit(cache=True)
def _lies_on(one: Vector, two: Vector, one_was: Vector, two_was: Vector) -> bool:
    """Whether triangles of these normals lie on each other more than with those that they had."""
    c = cosine(one, two)
    return bool(c < _FOLD and c < cosine(one_was, two_was) - _AS_BEFORE)


@njit(cache=True)
def folds(w: Web, u: int, v: int, tri: Ints, n: int, looked: int, was: Floats) -> bool:
    """Whether of triangles (n,3) around a node, drawn in from another, two beside each other or one and what is beyond
    it would lie on each other, but over a kept side, or where they did: at steps lower than what is ignored they may.
    was (looked,3): the normals of those that move before."""
    for s in range(n):
        old = (was[s, 0], was[s, 1], was[s, 2]) if s < looked else cross(w.p, tri[s, 0], tri[s, 1], tri[s, 2])
        for k in range(3):
            x = tri[s, k]
            if x == v:
                if _folds_beyond(w, tri[s, (k + 1) % 3], tri[s, (k + 2) % 3], v, u, v, old):
                    return True
                continue
            if kept_row(w, v, x) >= 0:
                continue
            at, other = 0, whole(-1)
            for t in range(n):
                if tri[t, 0] == x or tri[t, 1] == x or tri[t, 2] == x:
                    at += 1
                    if t != s:
                        other = t
            if at == 2 and other > s:
                one = cross(w.p, tri[s, 0], tri[s, 1], tri[s, 2])
                two = cross(w.p, tri[other, 0], tri[other, 1], tri[other, 2])
                if _lies_on(one, two, old, (was[other, 0], was[other, 1], was[other, 2]) if other < looked else two):
                    return True
    return False


@njit(cache=True)
def _goes_too(w: Web, u: int, v: int, corners: Ints) -> bool:
    """Whether a triangle, once u is drawn into v, has another tiny side left: it goes in its turn."""
    for i in range(3):
        a, b = corners[i], corners[(i + 1) % 3]
        row = kept_row(w, a, b)
        if row >= 0 and w.tiny[a, row]:
            return True
        if a == v or b == v:
            row = kept_row(w, u, b if a == v else a)
            if row >= 0 and w.tiny[u, row]:
                return True
    return False


@njit(cache=True)
def stays_good(
    w: Web,
    u: int,
    v: int,
    rows: Ints,
    m: int,
    stay: int,
    looked: int,
    before: float,
    tiny: bool,
    was: Floats,
    new: Ints,
) -> bool:
    """Whether triangles (m,), of which the first `stay` are u's, are good with v in the place of u; `looked` of them
    move. was (m,3): their normals before; new (m,3): filled."""
    p, going = w.p, np.zeros(m, dtype=np.bool_)
    after, sx, sy, sz = 1.0, 0.0, 0.0, 0.0
    for k in range(m):
        for j in range(3):
            x = w.tri[rows[k], j]
            new[k, j] = v if x == u else x
            if k < stay and not tiny and x != u and length(p, v, x) > 1.6 * max(w.size[u], w.size[v]):
                return False
        going[k] = tiny and _goes_too(w, u, v, new[k])
        if k < looked and not going[k]:
            after = min(after, shape(p, new[k, 0], new[k, 1], new[k, 2]))
            c = cross(p, new[k, 0], new[k, 1], new[k, 2])
            sx, sy, sz = sx + c[0], sy + c[1], sz + c[2]
    if after < min(0.2, 0.9 * before) or after < min(1e-3, before):
        return False
    for k in range(looked):
        c = cross(p, new[k, 0], new[k, 1], new[k, 2])
        mean = (sx, sy, sz) if w.small[w.of[rows[k]]] else (was[k, 0], was[k, 1], was[k, 2])
        if cosine(c, mean) < 0.3 and not going[k]:
            return False
    return True


@njit(cache=True)
def beside(w: Web, u: int, v: int, both: bool, rows: Ints, was: Floats) -> int:
    """The triangles (m,) of two nodes but those that have both, the first node's first; and the normals (m,3) that they
    have, the first node's, or `both`; how many they are."""
    m = 0
    for x in (u, v):
        for k in range(w.deg[x]):
            t = w.star[x, k]
            if has(w, t, u) and has(w, t, v):
                continue
            if x == u or both:
                was[m, 0], was[m, 1], was[m, 2] = cross(w.p, w.tri[t, 0], w.tri[t, 1], w.tri[t, 2])
            rows[m] = t
            m += 1
    return m


@njit(cache=True)
def draw_in(w: Web, u: int, v: int, gone: Ints, many: int, anew: bool) -> None:
    """Put a node in the place of another, without the triangles (m,), `many` of them, that have both: the triangles and
    kept sides of the first are the other's. `anew`: a side that both have keeps to the edge of the first from now
    on."""
    for k in range(many):
        drop(w, gone[k])
    while w.deg[u] > 0:
        t = w.star[u, 0]
        leave(w, u, t)
        for j in range(3):
            if w.tri[t, j] == u:
                w.tri[t, j] = v
        join(w, v, t)
    while w.many[u] > 0:
        x, edge, small = w.kept[u, 0], w.edge[u, 0], w.tiny[u, 0]
        let_go(w, u, x)
        if x != v and (anew or kept_row(w, v, x) < 0):
            keep(w, v, x, edge, small)


@njit(cache=True)
def _collapse(
    w: Web, u: int, v: int, limit: float, gone: Ints, one: Ints, two: Ints, new: Ints, rows: Ints, was: Floats
) -> bool:
    """Draw a node into another where that leaves good triangles."""
    if not _may_go(w, u, v, limit):
        return False
    p = w.p
    many = at_side(w, u, v, gone)
    if many == 0:
        return False
    n_one, n_two = around(w, u, one), around(w, v, two)
    row = kept_row(w, u, v)
    tiny = row >= 0 and w.tiny[u, row]
    between = 0
    for i in range(n_one):
        x = one[i]
        shared = False
        for j in range(n_two):
            shared = shared or two[j] == x
        if not shared:
            continue
        between += 1
        # Between three kept sides is a face; one that is drawn together on all sides goes with them.
        ku, kv = kept_row(w, u, x), kept_row(w, v, x)
        if ku >= 0 and kv >= 0 and not (w.tiny[u, ku] and w.tiny[v, kv]):
            return False
    if between != many:
        return False
    stay = w.deg[u] - many
    if stay == 0 or stay + w.deg[v] - many > w.star.shape[1]:
        return False
    for k in range(w.many[u]):
        x = w.kept[u, k]
        if x != v and kept_row(w, v, x) < 0 and w.many[v] + w.many[u] > w.kept.shape[1]:
            return False
    # Ends drawn together are where more planes meet: what is flat stays so, and no side of a cusp crosses the other.
    x0, y0, z0 = p[v, 0], p[v, 1], p[v, 2]
    to_u = tiny and w.rank[u] > w.rank[v]
    m = beside(w, u, v, to_u, rows, was)
    before = 1.0
    for x in (u, v) if to_u else (u, u):
        for k in range(w.deg[x]):
            t = w.star[x, k]
            before = min(before, shape(p, w.tri[t, 0], w.tri[t, 1], w.tri[t, 2]))
    if to_u:
        p[v, 0], p[v, 1], p[v, 2] = p[u, 0], p[u, 1], p[u, 2]
    good = stays_good(w, u, v, rows, m, stay, m if to_u else stay, before, tiny, was, new)
    if not good or folds(w, u, v, new, m, m if to_u else stay, was):
        p[v, 0], p[v, 1], p[v, 2] = x0, y0, z0
        return False
    w.rank[v] = max(w.rank[v], w.rank[u]) if tiny else w.rank[v]
    draw_in(w, u, v, gone, many, flag(True))
    return True


@njit(cache=True)
def collapse_all(w: Web, nodes: Bools, limit: float, dirty: Bools) -> int:
    """Draw the ends of short sides at some nodes (n,) together, the shortest first, and of tiny ones; how many."""
    gone, one, two = (
        np.empty(w.star.shape[1], np.int64),
        np.empty(3 * w.star.shape[1], np.int64),
        np.empty(3 * w.star.shape[1], np.int64),
    )
    new, rows = np.empty((2 * w.star.shape[1], 3), np.int64), np.empty(2 * w.star.shape[1], np.int64)
    was = np.empty((2 * w.star.shape[1], 3))
    done = whole(0)
    for _ in range(20):
        pairs = sides(w, nodes)
        share = np.empty(len(pairs))
        for k in range(len(pairs)):
            a, b = pairs[k, 0], pairs[k, 1]
            share[k] = length(w.p, a, b) / min(w.size[a], w.size[b])
            row = kept_row(w, a, b)
            if share[k] >= SHORT and not (row >= 0 and w.tiny[a, row]):
                share[k] = np.inf
        before = done
        fresh = np.zeros(len(nodes), dtype=np.bool_)
        for k in np.argsort(share, kind="mergesort"):
            if share[k] == np.inf:
                break
            a, b = pairs[k, 0], pairs[k, 1]
            if at_side(w, a, b, gone) == 0:
                continue
            if _collapse(w, a, b, limit, gone, one, two, new, rows, was) or _collapse(
                w, b, a, limit, gone, one, two, new, rows, was
            ):
                done += 1
                for v in (a, b):
                    fresh[v] = True
                    n = around(w, v, one)
                    for i in range(n):
                        fresh[one[i]] = True
        dirty |= fresh
        if done == before:
            break
        nodes = fresh
    return int(done)


@njit(cache=True)
def _within(w: Web, a: int, b: int, buf: Ints) -> bool:
    """Whether a side runs within a drape."""
    n = at_side(w, a, b, buf)
    within = True
    for k in range(n):
        within = within and w.group[w.of[buf[k]]] >= 0
    return within


@njit(cache=True)
def split_all(w: Web, nodes: Bools, dirty: Bools) -> int:
    """A node in the middle of long sides within drapes, the longest first; how many. The last nodes are new."""
    buf, beside = np.empty(w.star.shape[1], dtype=np.int64), np.empty(3 * w.star.shape[1], dtype=np.int64)
    pairs = sides(w, nodes)
    share = np.zeros(len(pairs))
    for k in range(len(pairs)):
        a, b = pairs[k, 0], pairs[k, 1]
        share[k] = length(w.p, a, b) / max(w.size[a], w.size[b])
        if share[k] < LONG or kept_row(w, a, b) >= 0 or not _within(w, a, b, buf):
            share[k] = 0.0
    done = whole(0)
    for k in np.argsort(-share, kind="mergesort"):
        if share[k] == 0.0 or w.used[0] == len(w.p) or w.used[1] + w.star.shape[1] > len(w.tri):
            break
        a, b = pairs[k, 0], pairs[k, 1]
        n = at_side(w, a, b, buf)
        room = n > 0
        for i in range(n):
            for j in range(3):
                room = room and w.deg[w.tri[buf[i], j]] < w.star.shape[1]
        if not room:
            continue
        node = w.used[0]
        w.used[0] += 1
        for i in range(3):
            w.p[node, i] = 0.5 * (w.p[a, i] + w.p[b, i])
        w.size[node] = 0.5 * (w.size[a] + w.size[b])
        w.free[node] = True
        for i in range(n):
            t, fresh = buf[i], w.used[1]
            w.used[1] += 1
            w.of[fresh] = w.of[t]
            for j in range(3):
                x = w.tri[t, j]
                w.tri[fresh, j] = node if x == b else x
                w.tri[t, j] = node if x == a else x
                if x != b:
                    join(w, x, fresh)
            leave(w, a, t)
            join(w, node, t)
            join(w, node, fresh)
        m = around(w, node, beside)
        for i in range(m):
            dirty[beside[i]] = True
        dirty[node] = True
        done += 1
    return int(done)


@njit(cache=True)
def _swap(w: Web, a: int, b: int, buf: Ints, beside: Ints, corners: Ints) -> bool:
    """The other diagonal of two triangles of one face or drape, where it makes the worse of them better. corners (4,):
    what stands around them."""
    if kept_row(w, a, b) >= 0 or at_side(w, a, b, buf) != 2:
        return False
    one, other = buf[0], buf[1]
    f, g = w.of[one], w.of[other]
    if f != g and (w.group[f] < 0 or w.group[f] != w.group[g]):
        return False
    first = False
    for k in range(3):
        first = first or (w.tri[one, k] == a and w.tri[one, (k + 1) % 3] == b)
    if not first:
        one, other = other, one
        first = False
        for k in range(3):
            first = first or (w.tri[one, k] == a and w.tri[one, (k + 1) % 3] == b)
        if not first:
            return False
    c, d = whole(-1), whole(-1)
    for k in range(3):
        if w.tri[one, k] != a and w.tri[one, k] != b:
            c = w.tri[one, k]
        if w.tri[other, k] != a and w.tri[other, k] != b:
            d = w.tri[other, k]
    if c == d or w.deg[c] == w.star.shape[1] or w.deg[d] == w.star.shape[1]:
        return False
    n = around(w, c, beside)
    for k in range(n):
        if beside[k] == d:
            return False
    p = w.p
    old = min(shape(p, a, b, c), shape(p, b, a, d))
    if min(shape(p, a, d, c), shape(p, d, b, c)) < 1.02 * old + 1e-9:
        return False
    x, y = cross(p, a, b, c), cross(p, b, a, d)
    mean = (x[0] + y[0], x[1] + y[1], x[2] + y[2])
    s, t = cross(p, a, d, c), cross(p, d, b, c)
    if cosine(s, mean) < 0.5 or cosine(t, mean) < 0.5 or cosine(s, t) < min(_FOLD, cosine(x, y)):
        return False
    for i, j, e, away in ((a, d, c, b), (d, b, c, a), (b, c, d, a), (c, a, d, b)):
        if _folds_beyond(w, i, j, e, away, away, cross(p, i, j, away)):
            return False
    leave(w, b, one)
    leave(w, a, other)
    w.tri[one, 0], w.tri[one, 1], w.tri[one, 2] = a, d, c
    w.tri[other, 0], w.tri[other, 1], w.tri[other, 2] = d, b, c
    join(w, d, one)
    join(w, c, other)
    corners[0], corners[1], corners[2], corners[3] = a, b, c, d
    return True


@njit(cache=True)
def swap_all(w: Web, nodes: Bools, dirty: Bools) -> None:
    """Other diagonals at some nodes (n,) where they make the worse of two triangles better."""
    buf, beside = np.empty(w.star.shape[1], dtype=np.int64), np.empty(3 * w.star.shape[1], dtype=np.int64)
    corners = np.empty(4, dtype=np.int64)
    start = sides(w, nodes)
    most = 20 * len(start) + 20
    stack = np.empty((len(start) + 4 * most + 4, 2), dtype=np.int64)
    stack[: len(start)] = start
    top = len(start)
    for _ in range(most):
        if top == 0:
            break
        top -= 1
        if _swap(w, stack[top, 0], stack[top, 1], buf, beside, corners):
            a, b, c, d = corners[0], corners[1], corners[2], corners[3]
            for k in range(4):
                dirty[corners[k]] = True
            for s, t in ((a, d), (d, b), (b, c), (c, a)):
                stack[top, 0], stack[top, 1] = s, t
                top += 1
