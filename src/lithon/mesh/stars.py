"""Elements around nodes and edges of a tetrahedral mesh, their quality, and how some are replaced by others.

Quality is the smallest sine of the six dihedral angles, or a multiple of the scaled Jacobian where that is less, as it
is in needles; negative for an inverted element.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole
from lithon.mesh.delaunay import FACE

MOST = 128  # elements in one neighbourhood

#: A scaled Jacobian of 0.12 is as bad as a dihedral angle of 16 degrees.
_NEEDLE = float(np.sin(np.radians(16.0)) / 0.12)
_NEEDLE_SQUARED = 2.0 * _NEEDLE**2


@njit(cache=True)
def quality(x: Floats, a: int, b: int, c: int, d: int) -> float:
    """Smallest sine of the dihedral angles of an element of four nodes, or `_NEEDLE` times the scaled Jacobian where
    that is less; with the sign of the volume."""
    return quality_at(x, a, b, c, x[d, 0], x[d, 1], x[d, 2])


@njit(cache=True)
def quality_at(x: Floats, a: int, b: int, c: int, dx: float, dy: float, dz: float) -> float:
    """As `quality`, the fourth corner being at a place. All is taken in squares until the end: one root for all six
    edges, and no views of arrays, which compiled code counts."""
    ox, oy, oz = x[a, 0], x[a, 1], x[a, 2]
    ux, uy, uz = x[b, 0] - ox, x[b, 1] - oy, x[b, 2] - oz
    vx, vy, vz = x[c, 0] - ox, x[c, 1] - oy, x[c, 2] - oz
    wx, wy, wz = dx - ox, dy - oy, dz - oz
    # Normals (twice the areas) of the faces opposite to d, c, b and a.
    dx, dy, dz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    cx, cy, cz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
    bx, by, bz = vy * wz - vz * wy, vz * wx - vx * wz, vx * wy - vy * wx
    ax, ay, az = -(dx + cx + bx), -(dy + cy + by), -(dz + cz + bz)
    six = dx * wx + dy * wy + dz * wz
    na, nb = ax * ax + ay * ay + az * az, bx * bx + by * by + bz * bz
    nc, nd = cx * cx + cy * cy + cz * cz, dx * dx + dy * dy + dz * dz
    tiny = 1e-300
    u, v, w = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, wx * wx + wy * wy + wz * wz
    p = (vx - ux) ** 2 + (vy - uy) ** 2 + (vz - uz) ** 2
    r = (wx - ux) ** 2 + (wy - uy) ** 2 + (wz - uz) ** 2
    s = (wx - vx) ** 2 + (wy - vy) ** 2 + (wz - vz) ** 2
    # sin(angle at an edge) = 6V |edge| / (2A 2A') with A, A' the two faces on the edge.
    q = min(u / (nc * nd + tiny), v / (nb * nd + tiny), w / (nb * nc + tiny))
    q = min(q, p / (na * nd + tiny), r / (na * nc + tiny), s / (na * nb + tiny))
    # The scaled Jacobian is 6V sqrt(2) over the product of the three edges at a corner, the longest of four.
    longest = max(max(u * v * w, u * p * r), max(v * p * s, w * r * s))
    q = np.sqrt(min(q, _NEEDLE_SQUARED / (longest + tiny)))
    return q * six if six > 0.0 else (six * q - 1e-9)


@njit(cache=True)
def q_of(x: Floats, tet: Ints, t: int) -> float:
    return quality(x, tet[t, 0], tet[t, 1], tet[t, 2], tet[t, 3])


@njit(cache=True)
def opposite(tet: Ints, t: int, v: int) -> int:
    """Where a node stands in an element, and the face opposite to it; -1 where it is not of it."""
    for i in range(4):
        if tet[t, i] == v:
            return i
    return -1


@njit(cache=True)
def star_of(tet: Ints, nbr: Ints, t0: int, v: int, out: Ints, seen: Ints, mark: int) -> int:
    """Elements around a node, found through faces; their number, or -1 if too many."""
    out[0] = t0
    seen[t0] = mark
    n, at = 1, 0
    while at < n:
        t = out[at]
        at += 1
        for i in range(4):
            u = nbr[t, i]
            if tet[t, i] == v or u < 0 or seen[u] == mark:
                continue
            if n >= MOST:
                return -1
            seen[u] = mark
            out[n] = u
            n += 1
    return n


@njit(cache=True)
def _has_side(new: Ints, n: int, key: Ints) -> bool:
    """Whether one of some elements (n,4) has three corners, told in order."""
    for k in range(n):
        hits = 0
        for j in range(4):
            if new[k, j] == key[0] or new[k, j] == key[1] or new[k, j] == key[2]:
                hits += 1
        if hits == 3:
            return True
    return False


@njit(cache=True)
def commit(
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    old: Ints,
    n_old: int,
    new: Ints,
    n_new: int,
    label: int,
) -> bool:
    """Replace elements by others that fill the same space, where each of these has beside it what one of those had:
    not where two sides around them lie over the same corners, as where a skin is folded, nor where one would be left
    over. Whether that was done. state: rows used, free rows, change count. new: nodes, and for each side the face whose
    wall it becomes where it has nothing behind it and was no wall before."""
    most = 4 * n_old
    key = np.empty((most, 3), dtype=np.int64)
    out_t = np.empty(most, dtype=np.int64)
    out_w = np.empty(most, dtype=np.int64)
    m = 0
    for k in range(n_old):
        t = old[k]
        for i in range(4):
            u = nbr[t, i]
            inside = False
            for j in range(n_old):
                if old[j] == u:
                    inside = True
            if inside:
                continue
            a, b, c = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
            low, high = min(a, b, c), max(a, b, c)
            key[m, 0], key[m, 1], key[m, 2] = low, a + b + c - low - high, high
            for j in range(m):
                if key[j, 0] == low and key[j, 1] == key[m, 1] and key[j, 2] == high:
                    return False
            out_t[m], out_w[m] = u, wall[t, i]
            m += 1
    for j in range(m):
        if out_t[j] >= 0 and not _has_side(new, n_new, key[j]):
            return False
    for k in range(n_old):
        tet[old[k], 0] = -1
    slots = np.empty(n_new, dtype=np.int64)
    for k in range(n_new):
        if k < n_old:
            slots[k] = old[k]
        elif state[1] > 0:
            state[1] -= 1
            slots[k] = free[state[1]]
        else:
            slots[k] = state[0]
            state[0] += 1
    for k in range(n_new, n_old):
        free[state[1]] = old[k]
        state[1] += 1
    open_key = np.empty((4 * n_new, 3), dtype=np.int64)
    open_t = np.empty(4 * n_new, dtype=np.int64)
    open_i = np.empty(4 * n_new, dtype=np.int64)
    n_open = 0
    for k in range(n_new):
        t = slots[k]
        for j in range(4):
            tet[t, j] = new[k, j]
            nbr[t, j] = -1
            wall[t, j] = -1
        lab[t] = label
    for k in range(n_new):
        t = slots[k]
        for i in range(4):
            a, b, c = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
            low, high = min(a, b, c), max(a, b, c)
            mid = a + b + c - low - high
            found = False
            for j in range(m):
                if key[j, 0] == low and key[j, 1] == mid and key[j, 2] == high:
                    u = out_t[j]
                    nbr[t, i] = u
                    wall[t, i] = out_w[j]
                    if u >= 0:
                        for w in range(4):
                            e = tet[u, w]
                            if e != a and e != b and e != c:
                                nbr[u, w] = t
                    found = True
                    break
            if found:
                continue
            for j in range(n_open):
                if open_t[j] >= 0 and open_key[j, 0] == low and open_key[j, 1] == mid and open_key[j, 2] == high:
                    u, w = open_t[j], open_i[j]
                    nbr[t, i] = u
                    nbr[u, w] = t
                    open_t[j] = -1
                    found = True
                    break
            if not found:
                open_key[n_open, 0], open_key[n_open, 1], open_key[n_open, 2] = low, mid, high
                open_t[n_open], open_i[n_open] = t, i
                n_open += 1
    for j in range(n_open):
        if open_t[j] >= 0:
            k = 0
            while slots[k] != open_t[j]:
                k += 1
            wall[open_t[j], open_i[j]] = new[k, 4 + open_i[j]]
    state[2] += 1
    return True


@njit(cache=True)
def star_quality(x: Floats, tet: Ints, star: Ints, n: int, stop: float) -> float:
    """The worst of n elements; of those that are no better than `stop` any, which comes first in the list from then on:
    what fails at one place fails at the next, mostly."""
    worst = 2.0
    for k in range(n):
        worst = min(worst, q_of(x, tet, star[k]))
        if worst <= stop:
            star[0], star[k] = star[k], star[0]
            return worst
    return worst


@njit(cache=True)
def outward(x: Floats, tet: Ints, t: int, i: int) -> tuple[float, float, float]:
    """Unit normal of an element's face, away from the element."""
    a, b, c = x[tet[t, FACE[i, 0]]], x[tet[t, FACE[i, 1]]], x[tet[t, FACE[i, 2]]]
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return -nx / size, -ny / size, -nz / size


@njit(cache=True)
def _others(tet: Ints, t0: int, a: int, b: int) -> tuple[int, int]:
    """The other two nodes c, d of an element on edge a-b, so that (a, b, c, d) is positive."""
    c, d = -1, -1
    for j in range(4):
        e = tet[t0, j]
        if e != a and e != b:
            if c < 0:
                c = e
            else:
                d = e
    # Make (a, b, c, d) positive.
    order = 0
    pos = np.empty(4, dtype=np.int64)
    for j in range(4):
        e = tet[t0, j]
        pos[j] = 0 if e == a else (1 if e == b else (2 if e == c else 3))
    for i in range(4):
        for j in range(i + 1, 4):
            if pos[i] > pos[j]:
                order += 1
    if order % 2 == 1:
        c, d = d, c
    return c, d


@njit(cache=True)
def ring_of(tet: Ints, nbr: Ints, wall: Ints, t0: int, a: int, b: int, ring: Ints, tets: Ints) -> int:
    """Nodes and elements around edge a-b, counter-clockwise about a->b; their number, 0 on a wall."""
    c, d = _others(tet, t0, a, b)
    n = 0
    t, here, nxt = t0, c, d
    while True:
        if n >= 12:
            return 0
        ring[n] = here
        tets[n] = t
        n += 1
        i = 0
        for j in range(4):
            if tet[t, j] == here:
                i = j
        if wall[t, i] >= 0 or nbr[t, i] < 0:
            return 0
        t = nbr[t, i]
        here = nxt
        if t == t0:
            return n
        for j in range(4):
            e = tet[t, j]
            if e != a and e != b and e != here:
                nxt = e


@njit(cache=True)
def fan_of(tet: Ints, nbr: Ints, wall: Ints, t0: int, a: int, b: int, ring: Ints, tets: Ints) -> int:
    """Nodes and elements around edge a-b of the outer skin, from one outer triangle on it to the other; the number of
    elements, one less than that of nodes. 0 where the edge is inside, and where other walls stand on it."""
    c, d = _others(tet, t0, a, b)
    t = t0
    for _ in range(12):
        i = 0
        for j in range(4):
            if tet[t, j] == d:
                i = j
        if nbr[t, i] < 0:
            break
        if wall[t, i] >= 0:
            return 0
        t = nbr[t, i]
        d = c
        for j in range(4):
            e = tet[t, j]
            if e != a and e != b and e != d:
                c = e
        if t == t0:
            return 0
    n = 0
    while n < 11:
        ring[n] = c
        tets[n] = t
        n += 1
        ring[n] = d
        i = 0
        for j in range(4):
            if tet[t, j] == c:
                i = j
        if nbr[t, i] < 0:
            return n
        if wall[t, i] >= 0:
            return 0
        t = nbr[t, i]
        c = d
        for j in range(4):
            e = tet[t, j]
            if e != a and e != b and e != c:
                d = e
    return 0


@njit(cache=True)
def triangulated(x: Floats, ring: Ints, n: int, a: int, b: int, least: float, new: Ints) -> int:
    """The best elements between nodes a, b and the polygon of n nodes around them, without edge a-b (Klincsek's dynamic
    programme); their number, 0 where one would be no better than `least`."""
    best = np.full((n, n), 2.0)
    split = np.zeros((n, n), dtype=np.int64)
    for length in range(2, n):
        for i in range(n - length):
            j = i + length
            top = -9.0
            for k in range(i + 1, j):
                q = min(best[i, k], best[k, j])
                if q > top and q > least:
                    q = min(q, quality(x, ring[i], ring[k], ring[j], b))
                    if q > top and q > least:
                        q = min(q, quality(x, ring[i], ring[j], ring[k], a))
                if q > top:
                    top = q
                    split[i, j] = k
            best[i, j] = top
    if best[0, n - 1] <= least:
        return 0
    stack = [(0, n - 1)]
    m = whole(0)
    while len(stack) > 0:
        i, j = stack.pop()
        if j - i < 2:
            continue
        k = split[i, j]
        new[m, 0], new[m, 1], new[m, 2], new[m, 3] = ring[i], ring[k], ring[j], b
        new[m + 1, 0], new[m + 1, 1], new[m + 1, 2], new[m + 1, 3] = ring[i], ring[j], ring[k], a
        m += 2
        stack.append((i, k))
        stack.append((k, j))
    return m
