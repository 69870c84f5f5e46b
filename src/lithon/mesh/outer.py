"""Changes of the outer skin that better the elements under it: another diagonal, a node less, a node more (inside too).

Each replaces some elements by others that fill the same space, where the skin is flat: a side between two coplanar
triangles of one face goes with the elements around it (Shewchuk, *Two Discrete Optimization Algorithms for the
Topological Improvement of Tetrahedral Meshes*, 2002: a ring open at the skin is triangulated like a closed one);
a node that slides on a plane is drawn into its neighbour there; and a node is set into the plane (Klingner & Shewchuk,
*Aggressive Tetrahedral Mesh Improvement*, 2007). Sides on edges of the model stay.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole
from lithon.mesh.delaunay import FACE
from lithon.mesh.slide import ON_LINE, ON_PLANE, onto
from lithon.mesh.stars import (
    MOST,
    commit,
    fan_of,
    opposite,
    outward,
    q_of,
    quality,
    quality_at,
    star_of,
    star_quality,
    triangulated,
)

_FLAT = 0.9986  # cosine of three degrees: triangles that may be divided anew
_GAIN = 1e-3  # what a change must add to the worst sine around it
_MORE = 1e-2  # and a node more


@njit(cache=True)
def _held(held: Ints, a: int, b: int) -> bool:
    """Whether a side lies on an edge of the model."""
    key = min(a, b) * 2**32 + max(a, b)
    k = np.searchsorted(held, key)
    return bool(k < len(held) and held[k] == key)


@njit(cache=True)
def _turned(x: Floats, a: int, b: int, c: int, normal: tuple[float, float, float]) -> float:
    """Cosine between a triangle's normal, of either sign, and another."""
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return abs(nx * normal[0] + ny * normal[1] + nz * normal[2]) / size


@njit(cache=True)
def swap_side(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    held: Ints,
    t0: int,
    a: int,
    b: int,
    new: Ints,
) -> bool:
    """Take side a-b out of the skin, and the elements around it anew, if that is better."""
    ring = np.empty(12, dtype=np.int64)
    tets = np.empty(12, dtype=np.int64)
    n = fan_of(tet, nbr, wall, t0, a, b, ring, tets)
    if n < 2 or n > 8:
        return False
    i, j = opposite(tet, tets[0], ring[1]), opposite(tet, tets[n - 1], ring[n - 1])
    face = wall[tets[0], i]
    if face < 0 or wall[tets[n - 1], j] != face or _held(held, a, b):
        return False
    one, other = outward(x, tet, tets[0], i), outward(x, tet, tets[n - 1], j)
    if one[0] * other[0] + one[1] * other[1] + one[2] * other[2] < _FLAT:
        return False
    if _turned(x, ring[0], ring[n], a, one) < _FLAT or _turned(x, ring[0], ring[n], b, one) < _FLAT:
        return False
    worst = 2.0
    for k in range(n):
        worst = min(worst, q_of(x, tet, tets[k]))
    m = triangulated(x, ring, n + 1, a, b, worst + _GAIN, new)
    if m == 0:
        return False
    new[:m, 4:] = face
    return bool(commit(tet, nbr, wall, lab, free, state, tets, n, new, m, lab[t0]))


@njit(cache=True)
def collapse_on_skin(
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
    kind: int,
    star: Ints,
    seen: Ints,
    new: Ints,
) -> bool:
    """Draw node v of a plane, or of a straight edge between two, into its neighbour w there, if the elements that
    remain are better than before."""
    state[3] += 1
    n = star_of(tet, nbr, t0, v, star, seen, state[3])
    if n < 0:
        return False
    one, other, first, second = -1, -1, False, False
    for k in range(n):
        t = star[k]
        for i in range(4):
            face = wall[t, i]
            if face < 0 or tet[t, i] == v:
                continue
            if nbr[t, i] >= 0 or (other >= 0 and face != one and face != other):
                return False
            if one < 0:
                one = face
            elif face != one:
                other = face
            if opposite(tet, t, w) >= 0 and tet[t, i] != w:
                first, second = first or face == one, second or face == other
    # A node between two faces may only go along their edge.
    if not first or (other >= 0) != (kind == ON_LINE) or (other >= 0 and not second):
        return False
    worst = star_quality(x, tet, star, n, -2.0) + _GAIN
    m = whole(0)
    for k in range(n):
        t = star[k]
        if opposite(tet, t, w) >= 0:
            continue
        for i in range(4):
            new[m, i] = w if tet[t, i] == v else tet[t, i]
            new[m, 4 + i] = wall[t, i]
        for i in range(4):
            if wall[t, i] >= 0 and tet[t, i] != v:
                a, b, c = new[m, FACE[i, 0]], new[m, FACE[i, 1]], new[m, FACE[i, 2]]
                if _turned(x, a, b, c, outward(x, tet, t, i)) < _FLAT:
                    return False
        if quality(x, new[m, 0], new[m, 1], new[m, 2], new[m, 3]) <= worst:
            return False
        m += 1
    return bool(commit(tet, nbr, wall, lab, free, state, star, n, new, m, lab[t0]))


@njit(cache=True)
def _seen_from(x: Floats, new: Ints, m: int, p: Floats, stop: float) -> float:
    """The worst element between a place and m triangles; as of `star_quality`, what fails comes first."""
    worst = 2.0
    for k in range(m):
        worst = min(worst, quality_at(x, new[k, 0], new[k, 1], new[k, 2], p[0], p[1], p[2]))
        if worst <= stop:
            for j in range(3):
                new[0, j], new[k, j] = new[k, j], new[0, j]
            return worst
    return worst


@njit(cache=True)
def new_node(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    held: Ints,
    kind: Ints,
    places: Floats,
    plane: Floats,
    face: int,
    cavity: Ints,
    n: int,
    ways: Floats,
    new: Ints,
) -> bool:
    """Replace some elements by a star around a new node, if a place for it makes them better; where a face is given, on
    its plane, and otherwise inside."""
    if state[4] >= len(x):
        return False
    worst, flat = 2.0, 0
    m = whole(0)
    p = np.zeros(3)
    for k in range(n):
        t = cavity[k]
        worst = min(worst, q_of(x, tet, t))
        for i in range(4):
            u = nbr[t, i]
            inside = False
            for j in range(n):
                inside = inside or (u >= 0 and cavity[j] == u)
            if inside:
                if wall[t, i] >= 0:
                    return False
                continue
            if face >= 0 and wall[t, i] == face and u < 0:
                # What lies in the plane goes; the sides of what goes must not be edges of the model between two of it.
                for j in range(3):
                    c = tet[t, FACE[i, j]]
                    off = 0.0
                    for axis in range(3):
                        off += (x[c, axis] - plane[axis]) * plane[3 + axis]
                        p[axis] += x[c, axis]
                    reach = (
                        abs(x[c, 0] - x[tet[t, i], 0]) + abs(x[c, 1] - x[tet[t, i], 1]) + abs(x[c, 2] - x[tet[t, i], 2])
                    )
                    if abs(off) > 1e-6 * reach:
                        return False
                flat += 1
                continue
            if m + 1 >= MOST:
                return False
            for j in range(3):
                new[m, j] = tet[t, FACE[i, j]]
            m += 1
    if face >= 0 and flat == 0:
        return False
    for k in range(n):
        for i in range(4):
            for j in range(i):
                a, b = tet[cavity[k], i], tet[cavity[k], j]
                if flat > 1 and kind[a] < ON_PLANE and kind[b] < ON_PLANE and _held(held, a, b):
                    count = 0
                    for h in range(n):
                        for s in range(4):
                            if wall[cavity[h], s] == face and nbr[cavity[h], s] < 0:
                                there = tet[cavity[h], s] != a and tet[cavity[h], s] != b
                                if there and opposite(tet, cavity[h], a) >= 0 and opposite(tet, cavity[h], b) >= 0:
                                    count += 1
                    if count > 1:
                        return False
    step = 0.0
    if face < 0:
        for k in range(m):
            for j in range(3):
                for axis in range(3):
                    p[axis] += x[new[k, j], axis] / (3.0 * m)
    else:
        for axis in range(3):
            p[axis] /= 3.0 * flat
        onto(ON_PLANE, plane, p)
    for k in range(m):
        c = new[k, 0]
        step += np.sqrt((x[c, 0] - p[0]) ** 2 + (x[c, 1] - p[1]) ** 2 + (x[c, 2] - p[2]) ** 2) / m
    step *= 0.4
    best = _seen_from(x, new, m, p, -2.0)
    keep = p.copy()
    for _ in range(7):
        here = keep.copy()
        gained = False
        for w in range(14):
            for axis in range(3):
                p[axis] = here[axis] + step * ways[w, axis]
            if face >= 0:
                onto(ON_PLANE, plane, p)
            q = _seen_from(x, new, m, p, best)
            if q > best:
                best = q
                keep[:] = p
                gained = True
        if not gained:
            step *= 0.5
    if best <= worst + _MORE:
        return False
    v = state[4]
    state[4] += 1
    x[v, :] = keep
    if face >= 0:
        kind[v] = ON_PLANE
        places[v, :] = plane
    for k in range(m):
        new[k, 3] = v
    new[:m, 4:] = face
    return bool(commit(tet, nbr, wall, lab, free, state, cavity, n, new, m, lab[cavity[0]]))
