"""Constrained Delaunay triangulation of a region of the plane, on an integer grid.

Points are inserted by cavities (Bowyer 1981, Watson 1981), boundary segments are forced by edge
swaps (Sloan 1993), the outside is removed by flooding. Further points may be inserted afterwards
without touching the segments (the refinement of faces uses that).

State of a triangulation, all int64: `tri` (m,3) corners counter-clockwise, `nbr` (m,3) the
triangle across the edge opposite to each corner (-1 none), `fix` (m,3) 1 on forced edges;
a dead triangle has tri[.,0] = -1. `last` (1,) is where the next walk starts.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole
from lithon.geometry.predicates import GRID_BITS, incircle, orient2


@njit(cache=True)
def _locate(p: Ints, tri: Ints, nbr: Ints, last: int, x: int, y: int) -> int:
    """The triangle holding (x, y), by a walk over visible edges; -1 if the walk leaves."""
    t = last
    for step in range(4 * len(tri) + 64):
        moved = False
        for k in range(3):
            i = (k + step) % 3
            a, b = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
            if orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], x, y) < 0:
                if nbr[t, i] < 0:
                    return -1
                t = nbr[t, i]
                moved = True
                break
        if not moved:
            return t
    return -1


@njit(cache=True)
def _insert(p: Ints, tri: Ints, nbr: Ints, fix: Ints, count: int, start: int, v: int) -> int:
    """Insert point v whose triangle is `start`; returns the new triangle count, or -1 if it
    coincides with a corner or lies on a forced edge. Arrays must have room for 3 more per point."""
    x, y = p[v, 0], p[v, 1]
    for k in range(3):
        c = tri[start, k]
        if p[c, 0] == x and p[c, 1] == y:
            return -1
        if fix[start, k] == 1:
            a, b = tri[start, (k + 1) % 3], tri[start, (k + 2) % 3]
            if orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], x, y) == 0:
                return -1
    dead = [start]
    tri0 = tri[start, 0]
    # A negative first corner marks membership; the corner is kept as -2 - corner.
    tri[start, 0] = -2 - tri0
    ea = [0]
    eb = [0]
    en = [0]
    ef = [0]
    ea.pop()
    eb.pop()
    en.pop()
    ef.pop()
    looked = 0
    while looked < len(dead):
        t = dead[looked]
        looked += 1
        for i in range(3):
            a, b = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
            if a < 0:
                a = -2 - a
            if b < 0:
                b = -2 - b
            u = nbr[t, i]
            if u >= 0 and tri[u, 0] < 0:
                continue
            inside = False
            if u >= 0 and fix[t, i] == 0:
                q0, q1, q2 = tri[u, 0], tri[u, 1], tri[u, 2]
                inside = incircle(p[q0, 0], p[q0, 1], p[q1, 0], p[q1, 1], p[q2, 0], p[q2, 1], x, y) > 0.0
            if inside:
                tri[u, 0] = -2 - tri[u, 0]
                dead.append(u)
            else:
                ea.append(a)
                eb.append(b)
                en.append(u)
                ef.append(fix[t, i])
    # An edge recorded before its far side joined the cavity is interior now: drop it.
    n = 0
    for k in range(len(ea)):
        if en[k] >= 0 and tri[en[k], 0] < 0:
            continue
        ea[n], eb[n], en[n], ef[n] = ea[k], eb[k], en[k], ef[k]
        n += 1
    for _ in range(n - len(dead)):
        dead.append(count)
        count += 1
    for k in range(n):
        t = dead[k]
        tri[t, 0], tri[t, 1], tri[t, 2] = v, ea[k], eb[k]
        nbr[t, 0], fix[t, 0] = en[k], ef[k]
        fix[t, 1] = 0
        fix[t, 2] = 0
        u = en[k]
        if u >= 0:
            for i in range(3):
                if tri[u, (i + 1) % 3] == eb[k] and tri[u, (i + 2) % 3] == ea[k]:
                    nbr[u, i] = t
    for k in range(n):
        for j in range(n):
            if ea[j] == eb[k]:
                nbr[dead[k], 1] = dead[j]
                nbr[dead[j], 2] = dead[k]
                break
    return count


@njit(cache=True)
def _flip(tri: Ints, nbr: Ints, fix: Ints, t: int, i: int) -> None:
    """Swap the edge of t opposite to corner i. Afterwards t = (c, a, d), u = (d, b, c)."""
    u = nbr[t, i]
    c, a, b = tri[t, i], tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
    j = 0
    for k in range(3):
        if nbr[u, k] == t and tri[u, (k + 1) % 3] == b:
            j = k
    d = tri[u, j]
    n_bc, f_bc = nbr[t, (i + 1) % 3], fix[t, (i + 1) % 3]
    n_ca, f_ca = nbr[t, (i + 2) % 3], fix[t, (i + 2) % 3]
    n_ad, f_ad = nbr[u, (j + 1) % 3], fix[u, (j + 1) % 3]
    n_db, f_db = nbr[u, (j + 2) % 3], fix[u, (j + 2) % 3]
    tri[t, 0], tri[t, 1], tri[t, 2] = c, a, d
    nbr[t, 0], nbr[t, 1], nbr[t, 2] = n_ad, u, n_ca
    fix[t, 0], fix[t, 1], fix[t, 2] = f_ad, 0, f_ca
    tri[u, 0], tri[u, 1], tri[u, 2] = d, b, c
    nbr[u, 0], nbr[u, 1], nbr[u, 2] = n_bc, t, n_db
    fix[u, 0], fix[u, 1], fix[u, 2] = f_bc, 0, f_db
    for w, old, new in ((n_ad, u, t), (n_bc, t, u)):
        if w >= 0:
            for k in range(3):
                if nbr[w, k] == old:
                    a1, b1 = tri[w, (k + 1) % 3], tri[w, (k + 2) % 3]
                    if new == t and a1 == d and b1 == a:
                        nbr[w, k] = t
                    if new == u and a1 == c and b1 == b:
                        nbr[w, k] = u


@njit(cache=True)
def _vertex_triangle(tri: Ints, count: int, nv: int) -> Ints:
    out = np.full(nv, -1, dtype=np.int64)
    for t in range(count):
        if tri[t, 0] >= 0:
            for k in range(3):
                out[tri[t, k]] = t
    return out


@njit(cache=True)
def _edge_at(tri: Ints, nbr: Ints, t0: int, a: int, b: int) -> tuple[int, int]:
    """Turn about corner a from t0 until edge a-b is found: its triangle and the corner opposite."""
    t = t0
    for _ in range(len(tri)):
        i = 0
        for k in range(3):
            if tri[t, k] == a:
                i = k
        if tri[t, (i + 1) % 3] == b:
            return t, (i + 2) % 3
        if tri[t, (i + 2) % 3] == b:
            return t, (i + 1) % 3
        t = nbr[t, (i + 1) % 3]
        if t < 0 or t == t0:
            break
    return -1, -1


@njit(cache=True)
def _triangle_at(tri: Ints, count: int, a: int, hint: Ints) -> int:
    """A triangle at corner a: the remembered one if it still is, else found by looking at all."""
    t = hint[a]
    if t >= 0 and (tri[t, 0] == a or tri[t, 1] == a or tri[t, 2] == a):
        return t
    for t in range(count):
        if tri[t, 0] >= 0 and (tri[t, 0] == a or tri[t, 1] == a or tri[t, 2] == a):
            hint[a] = t
            return t
    return -1


@njit(cache=True)
def _force(p: Ints, tri: Ints, nbr: Ints, fix: Ints, count: int, a: int, b: int, hint: Ints) -> int:
    """Make a-b an edge by swaps and mark it forced: 1, or 0 where a corner or segment is in the way."""
    t0 = _triangle_at(tri, count, a, hint)
    if t0 < 0:
        return 0
    t, i = _edge_at(tri, nbr, t0, a, b)
    if t < 0:
        for _ in range(10 * count + 100):
            # Find the first edge crossed on the way from a to b and swap it if its quad is convex;
            # else the next one on the way.
            done = False
            s, i = t0, whole(0)
            found = False
            for _turn in range(count):
                for k in range(3):
                    if tri[s, k] == a:
                        i = k
                c, d = tri[s, (i + 1) % 3], tri[s, (i + 2) % 3]
                oc = orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[c, 0], p[c, 1])
                od = orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[d, 0], p[d, 1])
                ahead = orient2(p[a, 0], p[a, 1], p[c, 0], p[c, 1], p[b, 0], p[b, 1]) >= 0
                if oc < 0 and od > 0 and ahead:
                    found = True
                    break
                s = nbr[s, (i + 1) % 3]
                if s < 0 or s == t0:
                    break
            if not found:
                return 0
            # Walk along the crossed edges until one can be swapped.
            for _walk in range(count):
                u = nbr[s, i]
                if u < 0 or fix[s, i] == 1:
                    return 0
                c, d = tri[s, (i + 1) % 3], tri[s, (i + 2) % 3]
                top = tri[s, i]
                j = 0
                for k in range(3):
                    if tri[u, k] != c and tri[u, k] != d:
                        j = k
                e = tri[u, j]
                left = orient2(p[top, 0], p[top, 1], p[c, 0], p[c, 1], p[e, 0], p[e, 1])
                right = orient2(p[top, 0], p[top, 1], p[e, 0], p[e, 1], p[d, 0], p[d, 1])
                if left > 0 and right > 0:
                    oe = orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[e, 0], p[e, 1])
                    ot = orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[top, 0], p[top, 1])
                    crossing_after = (oe > 0 and ot < 0) or (oe < 0 and ot > 0)
                    if not crossing_after or top == a:
                        _flip(tri, nbr, fix, s, i)
                        done = True
                        break
                    # Swapping keeps the count of crossings: still allowed, in alternation.
                    if (_walk + _) % 2 == 0:
                        _flip(tri, nbr, fix, s, i)
                        done = True
                        break
                oe = orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[e, 0], p[e, 1])
                if e == b:
                    break
                if oe == 0:
                    return 0
                # Next crossed edge of u: the one whose ends lie on both sides.
                if oe < 0:
                    opposite = c
                else:
                    opposite = d
                for k in range(3):
                    if tri[u, k] == opposite:
                        i = k
                s = u
            if not done:
                continue
            t0 = _triangle_at(tri, count, a, hint)
            t, i = _edge_at(tri, nbr, t0, a, b)
            if t >= 0:
                break
    if t < 0:
        return 0
    fix[t, i] = 1
    u = nbr[t, i]
    if u >= 0:
        for k in range(3):
            if tri[u, k] != a and tri[u, k] != b:
                fix[u, k] = 1
    return 1


@njit(cache=True)
def _legalise(p: Ints, tri: Ints, nbr: Ints, fix: Ints, count: int) -> None:
    """Swap until every free edge is Delaunay; after the first round only beside what was swapped."""
    again = np.ones(count, np.bool_)
    for _ in range(60):
        changed = False
        for t in range(count):
            if tri[t, 0] < 0 or not again[t]:
                continue
            again[t] = False
            for i in range(3):
                u = nbr[t, i]
                if u < 0 or fix[t, i] == 1:
                    continue
                c, a, b = tri[t, i], tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
                d = -1
                for k in range(3):
                    if tri[u, k] != a and tri[u, k] != b:
                        d = tri[u, k]
                if incircle(p[c, 0], p[c, 1], p[a, 0], p[a, 1], p[b, 0], p[b, 1], p[d, 0], p[d, 1]) > 0.0:
                    _flip(tri, nbr, fix, t, i)
                    again[t] = again[u] = changed = True
                    break
        if not changed:
            return


@njit(cache=True)
def legalise_in_space(p: Ints, x: Floats, tri: Ints, nbr: Ints, fix: Ints, count: int) -> None:
    """Swap while the two angles facing a free edge, measured at the points x (n,3) in space, add up to
    more than a half turn and the pair is convex in the plane; after the first round only beside what was swapped."""
    again = np.ones(count, np.bool_)
    for _ in range(40):
        changed = False
        for t in range(count):
            if tri[t, 0] < 0 or not again[t]:
                continue
            again[t] = False
            for i in range(3):
                u = nbr[t, i]
                if u < 0 or fix[t, i] == 1:
                    continue
                c, a, b = tri[t, i], tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
                d = -1
                for k in range(3):
                    if tri[u, k] != a and tri[u, k] != b:
                        d = tri[u, k]
                if _cotangent(x, c, a, b) + _cotangent(x, d, a, b) >= -1e-7:
                    continue
                # c-a-d-b is the pair; it must turn left at a and at b.
                if orient2(p[c, 0], p[c, 1], p[a, 0], p[a, 1], p[d, 0], p[d, 1]) <= 0:
                    continue
                if orient2(p[d, 0], p[d, 1], p[b, 0], p[b, 1], p[c, 0], p[c, 1]) <= 0:
                    continue
                _flip(tri, nbr, fix, t, i)
                again[t] = again[u] = changed = True
                break
        if not changed:
            return


@njit(cache=True)
def _cotangent(x: Floats, at: int, a: int, b: int) -> float:
    ux, uy, uz = x[a, 0] - x[at, 0], x[a, 1] - x[at, 1], x[a, 2] - x[at, 2]
    vx, vy, vz = x[b, 0] - x[at, 0], x[b, 1] - x[at, 1], x[b, 2] - x[at, 2]
    cx, cy, cz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    return (ux * vx + uy * vy + uz * vz) / (np.sqrt(cx * cx + cy * cy + cz * cz) + 1e-300)


@njit(cache=True, nogil=True)
def _build(p: Ints, order: Ints, tri: Ints, nbr: Ints, fix: Ints, segments: Ints) -> tuple[int, int]:
    """Insert all points in this order, force the segments, flood away the outside.
    Returns the triangle count, or -1 with the offending point or segment."""
    n = len(order)
    tri[0, 0], tri[0, 1], tri[0, 2] = n, n + 1, n + 2
    nbr[0, :] = -1
    fix[0, :] = 0
    count, last = whole(1), whole(0)
    for v in order:
        t = _locate(p, tri, nbr, last, p[v, 0], p[v, 1])
        if t < 0:
            return -1, v
        got = _insert(p, tri, nbr, fix, count, t, v)
        if got < 0:
            return -1, v
        count = got
        last = count - 1
    hint = _vertex_triangle(tri, count, n + 3)
    for k in range(len(segments)):
        if _force(p, tri, nbr, fix, count, segments[k, 0], segments[k, 1], hint) == 0:
            return -2, k
    _legalise(p, tri, nbr, fix, count)
    outside = np.zeros(count, dtype=np.int64)
    stack = [0]
    stack.pop()
    for t in range(count):
        if tri[t, 0] >= n or tri[t, 1] >= n or tri[t, 2] >= n:
            outside[t] = 1
            stack.append(t)
    while len(stack) > 0:
        t = stack.pop()
        for i in range(3):
            u = nbr[t, i]
            if u >= 0 and fix[t, i] == 0 and outside[u] == 0:
                outside[u] = 1
                stack.append(u)
    # Holes: beyond a forced edge the sides alternate.
    side = np.full(count, -1, dtype=np.int64)
    for t in range(count):
        if outside[t] == 1:
            side[t] = 0
            stack.append(t)
    while len(stack) > 0:
        t = stack.pop()
        for i in range(3):
            u = nbr[t, i]
            if u >= 0 and side[u] < 0:
                side[u] = side[t] if fix[t, i] == 0 else 1 - side[t]
                stack.append(u)
    for t in range(count):
        if side[t] != 1:
            for i in range(3):
                u = nbr[t, i]
                if u >= 0:
                    for k in range(3):
                        if nbr[u, k] == t:
                            nbr[u, k] = -1
    for t in range(count):
        if side[t] != 1:
            tri[t, 0] = -1
    return count, 0


@njit(cache=True)
def _add(
    p: Ints, tri: Ints, nbr: Ints, fix: Ints, count: int, candidates: Ints, near: Ints, spare: Floats, first: int
) -> tuple[int, int]:
    """Insert candidates (k,2), each known to be near triangle `near`, unless closer to the corners
    of its cavity's triangle than `spare` or beyond a forced edge. Returns counts of triangles, points."""
    n = first
    for k in range(len(candidates)):
        t = near[k]
        if tri[t, 0] < 0:
            continue
        x, y = candidates[k, 0], candidates[k, 1]
        # Walk; a forced edge on the way means that the candidate is hidden.
        ok = False
        for _step in range(200):
            moved = False
            for i in range(3):
                a, b = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
                if orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], x, y) < 0:
                    if fix[t, i] == 1 or nbr[t, i] < 0:
                        t = -1
                    else:
                        t = nbr[t, i]
                    moved = True
                    break
            if t < 0:
                break
            if not moved:
                ok = True
                break
        if not ok:
            continue
        close = False
        for i in range(3):
            c = tri[t, i]
            if np.hypot(float(p[c, 0] - x), float(p[c, 1] - y)) < spare[k]:
                close = True
            u = nbr[t, i]
            if u >= 0 and fix[t, i] == 0:
                for j in range(3):
                    c = tri[u, j]
                    if np.hypot(float(p[c, 0] - x), float(p[c, 1] - y)) < spare[k]:
                        close = True
            elif fix[t, i] == 1:
                a, b = tri[t, (i + 1) % 3], tri[t, (i + 2) % 3]
                base = np.hypot(float(p[b, 0] - p[a, 0]), float(p[b, 1] - p[a, 1]))
                away = float(orient2(p[a, 0], p[a, 1], p[b, 0], p[b, 1], x, y)) / base
                if away < 0.5 * spare[k]:
                    close = True
        if close:
            continue
        p[n, 0], p[n, 1] = x, y
        got = _insert(p, tri, nbr, fix, count, t, n)
        if got >= 0:
            count = got
            n += 1
    return count, n


@dataclass(slots=True)
class Triangulation:
    """A growing triangulation of one region. `origin` and `unit` map grid to plane coordinates."""

    grid: Ints
    tri: Ints
    nbr: Ints
    fix: Ints
    points: int
    count: int
    origin: Floats
    unit: float

    @property
    def triangles(self) -> Ints:
        """Corners (m,3), counter-clockwise."""
        t = self.tri[: self.count]
        return t[t[:, 0] >= 0]

    @property
    def plane(self) -> Floats:
        """Point coordinates (n,2); the first ones are those given."""
        return self.origin + self.grid[: self.points] * self.unit

    def add(self, candidates: Floats, near: Ints, spare: Floats) -> int:
        """Insert candidates (k,2) unless too close to what is there; returns how many went in.

        `near` (k,) are rows of `tri` to start from, `spare` (k,) the least distance kept. What is not in the box
        of the region, or no number, is left out.
        """
        placed = np.round((candidates - self.origin) / self.unit)
        # Beyond the box of the region there is nothing, and no number that the predicates are exact for.
        within = ((placed >= 0.0) & (placed <= 1 << GRID_BITS)).all(axis=1)
        grid, near, spare = placed[within].astype(np.int64), near[within], spare[within]
        self._room(len(grid))
        before = self.points
        self.count, self.points = _add(
            self.grid, self.tri, self.nbr, self.fix, self.count, grid, near, spare / self.unit, self.points
        )
        return self.points - before

    def _room(self, more: int) -> None:
        if self.points + more > len(self.grid):
            self.grid = np.concatenate([self.grid, np.zeros((more + len(self.grid), 2), dtype=np.int64)])
        need = self.count + 3 * more + 8
        if need > len(self.tri):
            extra = np.full((need + len(self.tri) - len(self.tri), 3), -1, dtype=np.int64)
            self.tri, self.nbr = np.concatenate([self.tri, extra]), np.concatenate([self.nbr, extra])
            self.fix = np.concatenate([self.fix, np.zeros_like(extra)])


class Tangled(ValueError):
    """The boundary of the region crosses or touches itself."""

    def __init__(self, message: str, points: tuple[int, ...]):
        super().__init__(message)
        self.points = points


def triangulate(points: Floats, segments: Ints) -> Triangulation:
    """Constrained Delaunay triangulation of the region bounded by `segments` (k,2) of `points` (n,2).

    The region is what lies on the odd side of the segments. Raises Tangled where segments cross
    or points coincide on a grid of 2**-26 of the region's size.
    """
    points = np.asarray(points, dtype=float)
    low = points.min(axis=0)
    extent = float((points.max(axis=0) - low).max()) or 1.0
    scale = extent / (1 << GRID_BITS)
    n = len(points)
    grid = np.zeros((n + 3, 2), dtype=np.int64)
    grid[:n] = np.round((points - low) / scale).astype(np.int64)
    far = 1 << (GRID_BITS + 1)
    grid[n:] = [[-far, -far], [2 * far, -far], [-far, 2 * far]]
    size = 2 * n + 64
    tri, nbr = np.full((size, 3), -1, dtype=np.int64), np.full((size, 3), -1, dtype=np.int64)
    fix = np.zeros((size, 3), dtype=np.int64)
    count, bad = _build(grid, _spatial_order(grid[:n]), tri, nbr, fix, np.asarray(segments, dtype=np.int64))
    if count == -1:
        raise Tangled("two boundary points coincide", (int(bad),))
    if count == -2:
        raise Tangled("the boundary crosses itself", tuple(int(i) for i in segments[bad]))
    return Triangulation(grid, tri, nbr, fix, n, int(count), low, scale)


def _spatial_order(grid: Ints) -> Ints:
    """An order in which each point is near the last: along a boustrophedon of strips."""
    n = len(grid)
    strips = max(1, int(np.sqrt(n / 2)))
    low, high = grid.min(axis=0), grid.max(axis=0)
    row = ((grid[:, 1] - low[1]) * strips) // max(1, int(high[1] - low[1]) + 1)
    x = np.where(row % 2 == 0, grid[:, 0], -grid[:, 0])
    return np.asarray(np.lexsort((x, row)), dtype=np.int64)
