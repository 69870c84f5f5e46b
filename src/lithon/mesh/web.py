"""Triangles with those around each node, and the sides that keep to edges of the model; compiled.

Every node knows its triangles and the sides at it that keep to an edge of the model. A side may have more than two
triangles, as where bodies share faces: such sides keep to edges.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints
from lithon.geometry.triples import cross, length

#: So many more triangles, and kept sides, than at first may come to a node.
_ROOM = 24


class Web(NamedTuple):
    """p (n,3), size (n,), rank (n,) and free (n,) of nodes, the rank how many planes of the model a node lies on; tri
    (m,3) and of (m,), -1 where there is none; star (n,s) and deg (n,) the triangles around a node; kept (n,k), edge,
    tiny and many (n,) the nodes to which kept sides lead, their edges, whether they are drawn together, and how many
    they are; group (f,) the drape of each face, -1 for none, and small (f,) whether it is narrow; used: how many rows
    of nodes and of triangles are taken."""

    p: Floats
    size: Floats
    rank: Ints
    free: Bools
    tri: Ints
    of: Ints
    star: Ints
    deg: Ints
    kept: Ints
    edge: Ints
    tiny: Bools
    many: Ints
    group: Ints
    small: Bools
    used: Ints


@njit(cache=True)
def shape(p: Floats, a: int, b: int, c: int) -> float:
    """1 for an equilateral triangle, 0 for one without area (Bank & Smith 1997)."""
    x, y, z = cross(p, a, b, c)
    sides = length(p, a, b) ** 2 + length(p, b, c) ** 2 + length(p, c, a) ** 2
    return float(2.0 * np.sqrt(3.0) * np.sqrt(x * x + y * y + z * z) / max(sides, 1e-300))


def web_of(points: Floats, sizes: Floats, rank: Ints, triangles: Ints, of: Ints, sides: Ints, edges: Ints, tiny: Bools,
           group: Ints, small: Bools) -> Web:  # fmt: skip
    """Of nodes (n,3) and triangles (m,3); sides (k,2) that keep to edges (k,), drawn together or not. Nothing is free
    yet; there is room for half as much again."""
    n, m = len(points), len(triangles)
    more = n // 2 + 1000
    wide = _ROOM + int(np.bincount(triangles.ravel()).max())
    deep = _ROOM + int(np.bincount(sides.ravel(), minlength=1).max(initial=0))

    def block(rows: int, width: int) -> Ints:
        return np.full((rows, width), -1, dtype=np.int64)

    w = Web(
        np.concatenate([points, np.zeros((more, 3))]), np.concatenate([sizes, np.zeros(more)]),
        np.concatenate([rank, np.zeros(more, dtype=np.int64)]),
        np.zeros(n + more, dtype=np.bool_), np.concatenate([triangles, block(2 * more, 3)]),
        np.concatenate([of, np.full(2 * more, -1)]), block(n + more, wide), np.zeros(n + more, dtype=np.int64),
        block(n + more, deep), block(n + more, deep), np.zeros((n + more, deep), dtype=np.bool_),
        np.zeros(n + more, dtype=np.int64), group, small, np.array([n, m], dtype=np.int64),
    )  # fmt: skip
    fill_stars(w)
    keep_all(w, sides, edges, tiny)
    return w


@njit(cache=True)
def kept_row(w: Web, a: int, b: int) -> int:
    """Where among the kept sides of a is the one to b; -1 where there is none."""
    for k in range(w.many[a]):
        if w.kept[a, k] == b:
            return k
    return -1


@njit(cache=True)
def keep(w: Web, a: int, b: int, edge: int, tiny: bool) -> None:
    """Make the side between two nodes keep to an edge."""
    for u, v in ((a, b), (b, a)):
        k = kept_row(w, u, v)
        if k < 0:
            k = w.many[u]
            w.many[u] += 1
        w.kept[u, k], w.edge[u, k], w.tiny[u, k] = v, edge, tiny


@njit(cache=True)
def keep_all(w: Web, sides: Ints, edges: Ints, tiny: Bools) -> None:
    """As `keep`, of sides (k,2)."""
    for k in range(len(sides)):
        keep(w, sides[k, 0], sides[k, 1], edges[k], tiny[k])


@njit(cache=True)
def let_go(w: Web, a: int, b: int) -> None:
    for u, v in ((a, b), (b, a)):
        k = kept_row(w, u, v)
        if k >= 0:
            last = w.many[u] - 1
            w.kept[u, k], w.edge[u, k], w.tiny[u, k] = w.kept[u, last], w.edge[u, last], w.tiny[u, last]
            w.many[u] = last


@njit(cache=True)
def fill_stars(w: Web) -> None:
    """Note every triangle with its nodes."""
    for t in range(w.used[1]):
        for k in range(3):
            v = w.tri[t, k]
            w.star[v, w.deg[v]] = t
            w.deg[v] += 1


@njit(cache=True)
def leave(w: Web, v: int, t: int) -> None:
    for k in range(w.deg[v]):
        if w.star[v, k] == t:
            w.deg[v] -= 1
            w.star[v, k] = w.star[v, w.deg[v]]
            return


@njit(cache=True)
def join(w: Web, v: int, t: int) -> None:
    w.star[v, w.deg[v]] = t
    w.deg[v] += 1


@njit(cache=True)
def drop(w: Web, t: int) -> None:
    for k in range(3):
        leave(w, w.tri[t, k], t)
    w.tri[t, 0] = w.tri[t, 1] = w.tri[t, 2] = -1


@njit(cache=True)
def around(w: Web, v: int, out: Ints) -> int:
    """The nodes beside a node; how many."""
    n = 0
    for k in range(w.deg[v]):
        for j in range(3):
            x = w.tri[w.star[v, k], j]
            if x == v:
                continue
            known = False
            for i in range(n):
                if out[i] == x:
                    known = True
                    break
            if not known:
                out[n] = x
                n += 1
    return n


@njit(cache=True)
def at_side(w: Web, a: int, b: int, out: Ints) -> int:
    """The triangles at a side; how many."""
    n = 0
    for k in range(w.deg[a]):
        t = w.star[a, k]
        if w.tri[t, 0] == b or w.tri[t, 1] == b or w.tri[t, 2] == b:
            out[n] = t
            n += 1
    return n


@njit(cache=True)
def near(w: Web, nodes: Bools, rings: int, within: Bools) -> Bools:
    """Nodes (n,) and those so many sides away from them, all but the first of a set."""
    out = nodes.copy()
    last = nodes.copy()
    for _ in range(rings):
        fresh = np.zeros(len(nodes), dtype=np.bool_)
        for v in range(w.used[0]):
            if last[v]:
                for k in range(w.deg[v]):
                    for j in range(3):
                        x = w.tri[w.star[v, k], j]
                        if not out[x] and within[x]:
                            fresh[x] = True
        out |= fresh
        last = fresh
    return out


@njit(cache=True)
def sides(w: Web, nodes: Bools) -> Ints:
    """The sides (k,2) at some nodes that may change: between free nodes, or kept ones at a free node."""
    buf = np.empty(3 * w.star.shape[1], dtype=np.int64)
    out = np.empty((64, 2), dtype=np.int64)
    m = 0
    for v in range(w.used[0]):
        if not nodes[v] or not w.free[v] or w.deg[v] == 0:
            continue
        n = around(w, v, buf)
        for k in range(n):
            x = buf[k]
            own = nodes[x] and w.free[x] and w.deg[x] > 0  # it is asked from there too
            if (own and x < v) or not (w.free[x] or kept_row(w, v, x) >= 0):
                continue
            if m == len(out):
                more = np.empty((2 * m, 2), dtype=np.int64)
                more[:m] = out
                out = more
            out[m, 0], out[m, 1] = min(v, x), max(v, x)
            m += 1
    return out[:m]


@njit(cache=True)
def inner_nodes(w: Web, nodes: Bools) -> tuple[Ints, Ints, Ints]:
    """Of some nodes (n,) those (k,) within drapes that no kept side touches; start (k + 1,) and the triangles (t,3)
    around each, those of node j from start[j] to start[j + 1]."""
    out = np.empty(w.used[0], dtype=np.int64)
    m, total = 0, 0
    for v in range(w.used[0]):
        if not nodes[v] or w.deg[v] == 0 or w.many[v] > 0:
            continue
        inside = True
        for k in range(w.deg[v]):
            inside = inside and w.group[w.of[w.star[v, k]]] >= 0
        if inside:
            out[m] = v
            m += 1
            total += w.deg[v]
    start, tri = np.zeros(m + 1, dtype=np.int64), np.empty((total, 3), dtype=np.int64)
    n = 0
    for j in range(m):
        for k in range(w.deg[out[j]]):
            for i in range(3):
                tri[n, i] = w.tri[w.star[out[j], k], i]
            n += 1
        start[j + 1] = n
    return out[:m], start, tri


@njit(cache=True)
def middles(p: Floats, start: Ints, around: Ints) -> Floats:
    """The middle (n,3) of the triangles around each node, weighted by area; rows start[k] to start[k + 1] of around."""
    out = np.zeros((len(start) - 1, 3))
    for k in range(len(start) - 1):
        total = 0.0
        for j in range(start[k], start[k + 1]):
            a, b, c = around[j, 0], around[j, 1], around[j, 2]
            x, y, z = cross(p, a, b, c)
            w = np.sqrt(x * x + y * y + z * z) + 1e-300
            total += w
            for i in range(3):
                out[k, i] += w * (p[a, i] + p[b, i] + p[c, i]) / 3.0
        for i in range(3):
            out[k, i] /= total
    return out


@njit(cache=True)
def settle(p: Floats, nodes: Ints, start: Ints, around: Ints, goal: Floats) -> None:
    """Move each node to its goal where no triangle around it gets much worse or turns."""
    old = np.empty((max(1, np.diff(start).max()), 3))
    for k in range(len(nodes)):
        v, many = nodes[k], start[k + 1] - start[k]
        before = 1.0
        for j in range(many):
            a, b, c = around[start[k] + j, 0], around[start[k] + j, 1], around[start[k] + j, 2]
            before = min(before, shape(p, a, b, c))
            old[j, 0], old[j, 1], old[j, 2] = cross(p, a, b, c)
        x, y, z = p[v, 0], p[v, 1], p[v, 2]
        p[v, 0], p[v, 1], p[v, 2] = goal[k, 0], goal[k, 1], goal[k, 2]
        after, turned = 1.0, False
        for j in range(many):
            a, b, c = around[start[k] + j, 0], around[start[k] + j, 1], around[start[k] + j, 2]
            after = min(after, shape(p, a, b, c))
            nx, ny, nz = cross(p, a, b, c)
            dot = nx * old[j, 0] + ny * old[j, 1] + nz * old[j, 2]
            size = (nx * nx + ny * ny + nz * nz) * (old[j, 0] ** 2 + old[j, 1] ** 2 + old[j, 2] ** 2)
            turned = turned or dot < 0.5 * np.sqrt(size)
        if after < min(0.9 * before, 0.4) or (turned and before > 1e-3):
            p[v, 0], p[v, 1], p[v, 2] = x, y, z
