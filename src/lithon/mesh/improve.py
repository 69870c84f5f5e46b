"""Better tetrahedra: smoothing, swaps, collapses and inserted nodes, worst elements first.

Everything is local: an element below the goal is offered, in turn, a better place for its nodes,
the removal of an edge (best new triangulation of its ring by Klincsek's dynamic programme, Shewchuk
2002), the exchange of a face for an edge, the collapse of an edge, and a new node in its
neighbourhood. A change is made only where the worst element of the neighbourhood gets better
(Freitag & Ollivier-Gooch 1997; Klingner & Shewchuk 2007).

Quality is the smallest sine of the six dihedral angles, or a multiple of the scaled Jacobian where that is less, as it
is in needles; negative for an inverted element.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole
from lithon.mesh.delaunay import FACE
from lithon.mesh.slide import FIXED, FREE, ON_PLANE, away, onto
from lithon.progress import Progress

_MOST = 128  # elements in one neighbourhood
_GAIN = 1e-4  # what a change must add to the worst sine around it

#: A scaled Jacobian of 0.12 is as bad as a dihedral angle of 16 degrees.
_NEEDLE = float(np.sin(np.radians(16.0)) / 0.12)

_WAYS = np.array(
    [[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1],
     [1, 1, 1], [-1, 1, 1], [1, -1, 1], [1, 1, -1], [-1, -1, 1], [-1, 1, -1], [1, -1, -1], [-1, -1, -1]],
    dtype=np.float64,
)  # fmt: skip
_WAYS /= np.linalg.norm(_WAYS, axis=1)[:, None]


@njit(cache=True, fastmath=False)
def quality(a: Floats, b: Floats, c: Floats, d: Floats) -> float:
    """Smallest sine of the dihedral angles, or `_NEEDLE` times the scaled Jacobian where that is less; with the sign of
    the volume."""
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    wx, wy, wz = d[0] - a[0], d[1] - a[1], d[2] - a[2]
    # Normals (twice the areas) of the faces opposite to d, c, b and a.
    dx, dy, dz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    cx, cy, cz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
    bx, by, bz = vy * wz - vz * wy, vz * wx - vx * wz, vx * wy - vy * wx
    ax, ay, az = -(dx + cx + bx), -(dy + cy + by), -(dz + cz + bz)
    six = dx * wx + dy * wy + dz * wz
    na, nb = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(bx * bx + by * by + bz * bz)
    nc, nd = np.sqrt(cx * cx + cy * cy + cz * cz), np.sqrt(dx * dx + dy * dy + dz * dz)
    tiny = 1e-300
    u, v, w = (
        np.sqrt(ux * ux + uy * uy + uz * uz),
        np.sqrt(vx * vx + vy * vy + vz * vz),
        np.sqrt(wx * wx + wy * wy + wz * wz),
    )
    p = np.sqrt((vx - ux) ** 2 + (vy - uy) ** 2 + (vz - uz) ** 2)
    r = np.sqrt((wx - ux) ** 2 + (wy - uy) ** 2 + (wz - uz) ** 2)
    s = np.sqrt((wx - vx) ** 2 + (wy - vy) ** 2 + (wz - vz) ** 2)
    # sin(angle at an edge) = 6V |edge| / (2A 2A') with A, A' the two faces on the edge.
    q = min(u / (nc * nd + tiny), v / (nb * nd + tiny), w / (nb * nc + tiny))
    q = min(q, p / (na * nd + tiny), r / (na * nc + tiny), s / (na * nb + tiny))
    # The scaled Jacobian is 6V sqrt(2) over the product of the three edges at a corner, the longest of four.
    longest = max(max(u * v * w, u * p * r), max(v * p * s, w * r * s))
    q = min(q, _NEEDLE * np.sqrt(2.0) / (longest + tiny))
    return q * six if six > 0.0 else (six * q - 1e-9)


@njit(cache=True)
def _q(x: Floats, tet: Ints, t: int) -> float:
    return quality(x[tet[t, 0]], x[tet[t, 1]], x[tet[t, 2]], x[tet[t, 3]])


@njit(cache=True)
def _star(tet: Ints, nbr: Ints, t0: int, v: int, out: Ints, seen: Ints, mark: int) -> int:
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
            if n >= _MOST:
                return -1
            seen[u] = mark
            out[n] = u
            n += 1
    return n


@njit(cache=True)
def _commit(
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
) -> None:
    """Replace elements by others that fill the same space. state: rows used, free rows, change count."""
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
            out_t[m], out_w[m] = u, wall[t, i]
            m += 1
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
    state[2] += 1


@njit(cache=True)
def _star_quality(x: Floats, tet: Ints, star: Ints, n: int, stop: float) -> float:
    worst = 2.0
    for k in range(n):
        worst = min(worst, _q(x, tet, star[k]))
        if worst <= stop:
            return worst
    return worst


@njit(cache=True)
def _lean(x: Floats, tet: Ints, wall: Ints, star: Ints, n: int, v: int, kind: int, place: Floats) -> float:
    """How well the surface triangles around a node face along the surface's normal: the cosine of
    the worst where most face outwards, minus that of the best where most face inwards (a bore)."""
    low, high = 2.0, -2.0
    rx, ry, rz = away(kind, place, x[v])
    for k in range(n):
        t = star[k]
        for i in range(4):
            if wall[t, i] < 0 or tet[t, i] == v:
                continue
            nx, ny, nz = _outward(x, tet, t, i)
            cosine = nx * rx + ny * ry + nz * rz
            low, high = min(low, cosine), max(high, cosine)
    return low if low + high > 0.0 else -high


@njit(cache=True)
def _outward(x: Floats, tet: Ints, t: int, i: int) -> tuple[float, float, float]:
    """Unit normal of an element's face, away from the element."""
    a, b, c = x[tet[t, FACE[i, 0]]], x[tet[t, FACE[i, 1]]], x[tet[t, FACE[i, 2]]]
    ux, uy, uz = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    vx, vy, vz = c[0] - a[0], c[1] - a[1], c[2] - a[2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return -nx / size, -ny / size, -nz / size


@njit(cache=True)
def _smooth(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    kind: Ints,
    places: Floats,
    t0: int,
    v: int,
    star: Ints,
    seen: Ints,
    state: Ints,
) -> bool:
    """Move one node to where the worst element around it is best; pattern search with shrinking steps.
    A node on a face moves only as long as the surface around it does not fold."""
    state[3] += 1
    n = _star(tet, nbr, t0, v, star, seen, state[3])
    if n < 0:
        return False
    best = _star_quality(x, tet, star, n, -2.0)
    first = best
    on_face = kind[v] >= ON_PLANE
    least = min(0.8, _lean(x, tet, wall, star, n, v, kind[v], places[v])) if on_face else 0.0
    start = x[v].copy()
    here = x[v].copy()
    keep = x[v].copy()
    goal = np.zeros(3)
    reach = 0.0
    for k in range(n):
        for j in range(4):
            c = tet[star[k], j]
            if c != v:
                for axis in range(3):
                    goal[axis] += x[c, axis]
                reach += np.sqrt((x[c, 0] - here[0]) ** 2 + (x[c, 1] - here[1]) ** 2 + (x[c, 2] - here[2]) ** 2)
    goal /= 3.0 * n
    reach /= 3.0 * n
    for share in (1.0, 0.5):
        for axis in range(3):
            x[v, axis] = here[axis] + share * (goal[axis] - here[axis])
        onto(kind[v], places[v], x[v])
        q = _star_quality(x, tet, star, n, best)
        if q > best and (not on_face or _lean(x, tet, wall, star, n, v, kind[v], places[v]) >= least):
            best = q
            keep[:] = x[v]
    step = 0.3 * reach
    spin = (v * 7919 + state[3] * 104729) % 1000 / 1000.0 * 6.283185307
    co, si = np.cos(spin), np.sin(spin)
    for _ in range(5):
        here[:] = keep
        gained = False
        for w in range(14):
            wx = _WAYS[w, 0] * co - _WAYS[w, 1] * si
            wy = _WAYS[w, 0] * si + _WAYS[w, 1] * co
            x[v, 0] = here[0] + step * wx
            x[v, 1] = here[1] + step * wy
            x[v, 2] = here[2] + step * _WAYS[w, 2]
            onto(kind[v], places[v], x[v])
            q = _star_quality(x, tet, star, n, best)
            if q > best and (not on_face or _lean(x, tet, wall, star, n, v, kind[v], places[v]) >= least):
                best = q
                keep[:] = x[v]
                gained = True
        if not gained:
            step *= 0.45
    # A gain that small, on an element that nothing can mend, is not worth what the others around lose.
    if first > 0.0 and best < first + _GAIN:
        x[v, :] = start
        return False
    x[v, :] = keep
    return best > first


@njit(cache=True)
def _ring(tet: Ints, nbr: Ints, wall: Ints, t0: int, a: int, b: int, ring: Ints, tets: Ints) -> int:
    """Nodes and elements around edge a-b, counter-clockwise about a->b; their number, 0 on a wall."""
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
def _remove_edge(
    x: Floats, tet: Ints, nbr: Ints, wall: Ints, lab: Ints, free: Ints, state: Ints, t0: int, a: int, b: int, new: Ints
) -> bool:
    """Replace the elements around an edge by the best ones without it, if that is better."""
    ring = np.empty(12, dtype=np.int64)
    tets = np.empty(12, dtype=np.int64)
    n = _ring(tet, nbr, wall, t0, a, b, ring, tets)
    if n < 3 or n > 9:
        return False
    worst = 2.0
    for k in range(n):
        worst = min(worst, _q(x, tet, tets[k]))
    best = np.full((n, n), 2.0)
    split = np.zeros((n, n), dtype=np.int64)
    for length in range(2, n):
        for i in range(n - length):
            j = i + length
            top = -9.0
            for k in range(i + 1, j):
                q = min(best[i, k], best[k, j])
                if q > top and q > worst:
                    q = min(q, quality(x[ring[i]], x[ring[k]], x[ring[j]], x[b]))
                    if q > top and q > worst:
                        q = min(q, quality(x[ring[i]], x[ring[j]], x[ring[k]], x[a]))
                if q > top:
                    top = q
                    split[i, j] = k
            best[i, j] = top
    if best[0, n - 1] <= worst + _GAIN:
        return False
    stack = [(0, n - 1)]
    m = 0
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
    _commit(tet, nbr, wall, lab, free, state, tets, n, new, m, lab[t0])
    return True


@njit(cache=True)
def _remove_face(
    x: Floats, tet: Ints, nbr: Ints, wall: Ints, lab: Ints, free: Ints, state: Ints, t: int, i: int, new: Ints
) -> bool:
    """Replace two elements by three around the edge between their far corners, if that is better."""
    u = nbr[t, i]
    if u < 0 or wall[t, i] >= 0:
        return False
    f0, f1, f2 = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
    d = tet[t, i]
    e = -1
    for j in range(4):
        c = tet[u, j]
        if c != f0 and c != f1 and c != f2:
            e = c
    worst = min(_q(x, tet, t), _q(x, tet, u)) + _GAIN
    if (
        quality(x[e], x[d], x[f0], x[f1]) <= worst
        or quality(x[e], x[d], x[f1], x[f2]) <= worst
        or quality(x[e], x[d], x[f2], x[f0]) <= worst
    ):
        return False
    tri = (f0, f1, f2)
    for k in range(3):
        new[k, 0], new[k, 1], new[k, 2], new[k, 3] = e, d, tri[k], tri[(k + 1) % 3]
    old = np.array([t, u])
    _commit(tet, nbr, wall, lab, free, state, old, whole(2), new, whole(3), lab[t])
    return True


@njit(cache=True)
def _collapse(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    t0: int,
    v: int,
    w: int,
    star: Ints,
    seen: Ints,
    new: Ints,
) -> bool:
    """Move free node v into its neighbour w, if the elements that remain are better than before."""
    state[3] += 1
    n = _star(tet, nbr, t0, v, star, seen, state[3])
    if n < 0:
        return False
    worst = _star_quality(x, tet, star, n, -2.0) + 1e-3
    m = whole(0)
    for k in range(n):
        t = star[k]
        holds = False
        for j in range(4):
            holds = holds or tet[t, j] == w
        if holds:
            continue
        for j in range(4):
            new[m, j] = w if tet[t, j] == v else tet[t, j]
        if quality(x[new[m, 0]], x[new[m, 1]], x[new[m, 2]], x[new[m, 3]]) <= worst:
            return False
        m += 1
    _commit(tet, nbr, wall, lab, free, state, star, n, new, m, lab[t0])
    return True


@njit(cache=True)
def _faces_quality(x: Floats, new: Ints, m: int, p: Floats, stop: float) -> float:
    worst = 2.0
    for k in range(m):
        worst = min(worst, quality(x[new[k, 0]], x[new[k, 1]], x[new[k, 2]], p))
        if worst <= stop:
            return worst
    return worst


@njit(cache=True)
def _new_node(
    x: Floats, tet: Ints, nbr: Ints, wall: Ints, lab: Ints, free: Ints, state: Ints, cavity: Ints, n: int, new: Ints
) -> bool:
    """Replace some elements by a star around a new node, if a place for it makes them better."""
    if state[4] >= len(x):
        return False
    worst = 2.0
    m = whole(0)
    p = np.zeros(3)
    for k in range(n):
        t = cavity[k]
        worst = min(worst, _q(x, tet, t))
        for i in range(4):
            u = nbr[t, i]
            inside = False
            for j in range(n):
                inside = inside or (cavity[j] == u)
            if inside:
                if wall[t, i] >= 0:
                    return False
                continue
            if m + 1 >= _MOST:
                return False
            for j in range(3):
                new[m, j] = tet[t, FACE[i, j]]
            m += 1
    step = 0.0
    for k in range(m):
        for j in range(3):
            for axis in range(3):
                p[axis] += x[new[k, j], axis] / (3.0 * m)
    for k in range(m):
        c = new[k, 0]
        step += np.sqrt((x[c, 0] - p[0]) ** 2 + (x[c, 1] - p[1]) ** 2 + (x[c, 2] - p[2]) ** 2) / m
    step *= 0.4
    best = _faces_quality(x, new, m, p, -2.0)
    keep = p.copy()
    for _ in range(7):
        p[:] = keep
        here = p.copy()
        gained = False
        for w in range(14):
            for axis in range(3):
                p[axis] = here[axis] + step * _WAYS[w, axis]
            q = _faces_quality(x, new, m, p, best)
            if q > best:
                best = q
                keep[:] = p
                gained = True
        if not gained:
            step *= 0.5
    if best <= worst + 0.01:
        return False
    v = state[4]
    state[4] += 1
    x[v, :] = keep
    for k in range(m):
        new[k, 3] = v
    label = lab[cavity[0]]
    _commit(tet, nbr, wall, lab, free, state, cavity, n, new, m, label)
    return True


@njit(cache=True)
def _peel(x: Floats, tet: Ints, nbr: Ints, wall: Ints, free: Ints, state: Ints, t: int) -> bool:
    """Drop a flat element that lies with two sides on one outer face: the surface takes the other
    diagonal."""
    count, face = 0, -1
    for i in range(4):
        if wall[t, i] >= 0:
            if nbr[t, i] >= 0 or (count > 0 and wall[t, i] != face):
                return False
            face = wall[t, i]
            count += 1
    if count != 2:
        return False
    # Only where the two new sides face the way the two old ones did: else the surface would fold.
    for i in range(4):
        for j in range(4):
            if wall[t, i] >= 0 and wall[t, j] < 0:
                ax, ay, az = _outward(x, tet, t, i)
                bx, by, bz = _outward(x, tet, t, j)
                if ax * bx + ay * by + az * bz > -0.8:
                    return False
    for i in range(4):
        u = nbr[t, i]
        if u >= 0:
            for j in range(4):
                if nbr[u, j] == t:
                    nbr[u, j] = -1
                    wall[u, j] = face
    tet[t, 0] = -1
    free[state[1]] = t
    state[1] += 1
    state[2] += 1
    return True


@njit(cache=True)
def _pass(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    seen: Ints,
    kind: Ints,
    places: Floats,
    goal: float,
    grow: bool,
) -> int:
    """Offer every change to every element below the goal, worst first; how many were made. Leaves in state[5]
    how many lay below it before."""
    before = state[2]
    moved = 0
    used = state[0]
    q = np.empty(used)
    for t in range(used):
        q[t] = _q(x, tet, t) if tet[t, 0] >= 0 else 9.0
    order = np.argsort(q)
    state[5] = (q < goal).sum()
    star = np.empty(_MOST, dtype=np.int64)
    new = np.empty((2 * _MOST, 4), dtype=np.int64)
    cavity = np.empty(_MOST, dtype=np.int64)
    for t in order:
        if q[t] >= goal:
            break
        if tet[t, 0] < 0 or state[0] + 200 > len(tet):
            continue
        now = _q(x, tet, t)
        if now >= goal:
            continue
        for j in range(4):
            v = tet[t, j]
            if kind[v] != FIXED and _smooth(x, tet, nbr, wall, kind, places, t, v, star, seen, state):
                moved += 1
        if _q(x, tet, t) >= goal:
            continue
        if _q(x, tet, t) < 0.17 and _peel(x, tet, nbr, wall, free, state, t):
            continue
        done = False
        corners = tet[t].copy()
        for i in range(4):
            for j in range(i + 1, 4):
                if not done:
                    done = _remove_edge(x, tet, nbr, wall, lab, free, state, t, corners[i], corners[j], new)
        for i in range(4):
            if not done:
                done = _remove_face(x, tet, nbr, wall, lab, free, state, t, i, new)
        for i in range(4):
            for j in range(4):
                if not done and i != j and kind[corners[i]] == FREE:
                    done = _collapse(x, tet, nbr, wall, lab, free, state, t, corners[i], corners[j], star, seen, new)
        if done or not grow:
            continue
        ring = np.empty(12, dtype=np.int64)
        for i in range(4):
            for j in range(i + 1, 4):
                if not done:
                    n = _ring(tet, nbr, wall, t, corners[i], corners[j], ring, cavity)
                    if n >= 3:
                        done = _new_node(x, tet, nbr, wall, lab, free, state, cavity, n, new)
        if not done:
            cavity[0] = t
            n = whole(1)
            for i in range(4):
                if nbr[t, i] >= 0 and wall[t, i] < 0:
                    cavity[n] = nbr[t, i]
                    n += 1
            done = _new_node(x, tet, nbr, wall, lab, free, state, cavity, n, new)
    return state[2] - before + moved


@dataclass(slots=True)
class Cells:
    """Elements being improved: points (n,3), tets (m,4), their neighbours, walls and labels (m,..)."""

    points: Floats
    tet: Ints
    nbr: Ints
    wall: Ints
    lab: Ints
    kind: Ints
    places: Floats


def improve(cells: Cells, progress: Progress, goal_degrees: float = 16.0, passes: int = 14) -> Cells:
    """A better mesh of the same regions. Stops when nothing lies below the goal or nothing helps."""
    n, m = len(cells.points), len(cells.tet)
    more = n // 4 + 2000
    room = m // 2 + 8 * more
    x = np.concatenate([cells.points, np.zeros((more, 3))])
    kind = np.concatenate([cells.kind, np.full(more, FREE, dtype=np.int64)])
    places = np.concatenate([cells.places, np.zeros((more, 8))])
    block = np.full((room, 4), -1, dtype=np.int64)
    tet, nbr, wall = (np.concatenate([a, block]) for a in (cells.tet, cells.nbr, cells.wall))
    lab = np.concatenate([cells.lab, np.full(room, -1, dtype=np.int64)])
    free = np.zeros(m + room, dtype=np.int64)
    seen = np.zeros(m + room, dtype=np.int64)
    state = np.array([m, 0, 0, 0, n, 0], dtype=np.int64)
    goal = float(np.sin(np.radians(goal_degrees)))
    easy = float(np.sin(np.radians(28.0)))
    below = 0
    for turn in range(passes):
        progress.tell(0.75 + 0.22 * turn / passes, "improving elements")
        level = easy if turn < 3 else goal
        made = _pass(x, tet, nbr, wall, lab, free, state, seen, kind, places, level, turn >= 2)
        # Around what nothing can mend, one element is only bettered at the expense of others: then it is enough.
        if turn >= 3 and (made == 0 or (turn > 3 and state[5] > below > 0)):
            break
        below = int(state[5])
    live = tet[: state[0], 0] >= 0
    row = np.cumsum(live) - 1
    links = nbr[: state[0]][live]
    links = np.where(links >= 0, row[links], -1)
    top = int(state[4])
    return Cells(
        x[:top], tet[: state[0]][live], links, wall[: state[0]][live], lab[: state[0]][live], kind[:top], places[:top]
    )
