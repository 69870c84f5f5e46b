"""Delaunay tetrahedralisation of points on an integer grid, with walls that later points respect.

Insertion by cavities (Bowyer 1981, Watson 1981) in a spatially coherent order, with exact
predicates, so no degenerate case needs a rule of its own: strictly inside the sphere or not.

State: `p` (n,3) int64 grid points; `tet` (m,4) corners with orient3 > 0, tet[.,0] = -1 when dead;
`nbr` (m,4) the tetrahedron across the face opposite to each corner, -1 beyond the box; `wall`
(m,4) the number of the surface triangle in that face or -1; `lab` (m,) region, -1 outside.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints
from lithon.geometry.predicates import insphere, orient3
from lithon.threads import shared_out

#: Corners of the face opposite to each corner; seen from it the corner lies on the positive side.
FACE = np.array([[1, 3, 2], [0, 2, 3], [0, 3, 1], [0, 1, 2]], dtype=np.int64)
_EXTENT = 1 << 26
_HASH = 1 << 16


@njit(cache=True)
def _walk(p: Ints, tet: Ints, nbr: Ints, start: int, v: int) -> int:
    """The tetrahedron holding point v, by a walk through visible faces; -1 when it leaves."""
    t = start
    for step in range(len(tet) + 64):
        moved = False
        for k in range(4):
            i = (k + step) & 3
            a, b, c = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
            if orient3(p, a, b, c, v) < 0.0:
                t = nbr[t, i]
                moved = True
                break
        if t < 0 or not moved:
            return t
    return -1


@njit(cache=True)
def _insert(
    p: Ints,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    stamp: Ints,
    keys: Ints,
    vals: Ints,
    work: Ints,
    start: int,
    v: int,
    clear: float,
) -> int:
    """Insert point v lying in tetrahedron `start`; 1 done, 0 refused, -1 no room for it (nothing changed).

    state: [count of rows used, count of free rows, stamp]. `clear` > 0 refuses points nearer than
    that to a corner or half that to a wall of the cavity. Walls bound the cavity. `work` (8, n) holds the
    cavity and its faces while they are found; a cavity that outgrows it is refused.
    """
    qx, qy, qz = p[v, 0], p[v, 1], p[v, 2]
    state[2] += 1
    mark = state[2]
    cavity, face = work[0], work[1]
    most = work.shape[1]
    cavity[0] = start
    inside, faces = 1, 0
    stamp[start] = mark
    at = 0
    for k in range(4):
        c = tet[start, k]
        if p[c, 0] == qx and p[c, 1] == qy and p[c, 2] == qz:
            return 0
    while at < inside:
        t = cavity[at]
        at += 1
        if clear > 0.0:
            for k in range(4):
                c = tet[t, k]
                dx, dy, dz = float(p[c, 0] - qx), float(p[c, 1] - qy), float(p[c, 2] - qz)
                if dx * dx + dy * dy + dz * dz < clear * clear:
                    return 0
        for i in range(4):
            u = nbr[t, i]
            if u >= 0 and stamp[u] == mark:
                if wall[t, i] >= 0:
                    return 0
                continue
            grow = False
            if u >= 0 and wall[t, i] < 0:
                grow = insphere(p, tet[u, 0], tet[u, 1], tet[u, 2], tet[u, 3], v) > 0.0
            if grow:
                if inside == most:
                    return 0
                stamp[u] = mark
                cavity[inside] = u
                inside += 1
            else:
                if faces == most:
                    return 0
                face[faces] = 4 * t + i
                faces += 1
    n = 0
    for k in range(faces):
        t, i = face[k] // 4, face[k] % 4
        u = nbr[t, i]
        if u >= 0 and stamp[u] == mark:
            if wall[t, i] >= 0:
                return 0
            continue
        face[n] = face[k]
        n += 1
    # Without walls the cavity is a star around q; beside walls that must be seen to hold.
    for k in range(n):
        t, i = face[k] // 4, face[k] % 4
        a, b, c = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
        six = orient3(p, a, b, c, v)
        if six <= 0.0:
            return 0
        if clear > 0.0 and wall[t, i] >= 0:
            ux, uy, uz = float(p[b, 0] - p[a, 0]), float(p[b, 1] - p[a, 1]), float(p[b, 2] - p[a, 2])
            wx, wy, wz = float(p[c, 0] - p[a, 0]), float(p[c, 1] - p[a, 1]), float(p[c, 2] - p[a, 2])
            nx, ny, nz = uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx
            if six < 0.5 * clear * np.sqrt(nx * nx + ny * ny + nz * nz):
                return 0
    if state[0] + n - state[1] - inside > len(tet):
        return -1
    label = lab[start]
    slots = 256  # few enough to be near, and four times as many as sides of new faces at the least
    while slots < 12 * n and slots < _HASH:
        slots *= 2
    mask = slots - 1
    made, outer, walls, rows = work[2], work[3], work[4], work[5:8]
    for k in range(n):
        t, i = face[k] // 4, face[k] % 4
        for j in range(3):
            rows[j, k] = tet[t, FACE[i, j]]
        outer[k] = nbr[t, i]
        walls[k] = wall[t, i]
    for k in range(inside):
        t = cavity[k]
        tet[t, 0] = -1
        free[state[1]] = t
        state[1] += 1
    for k in range(n):
        if state[1] > 0:
            state[1] -= 1
            made[k] = free[state[1]]
        else:
            made[k] = state[0]
            state[0] += 1
    for k in range(n):
        t = made[k]
        for j in range(3):
            tet[t, j] = rows[j, k]
            wall[t, j] = -1
        tet[t, 3] = v
        wall[t, 3] = walls[k]
        lab[t] = label
        stamp[t] = 0
        u = outer[k]
        nbr[t, 3] = u
        if u >= 0:
            # The face of u is the one whose three corners are this face's.
            for j in range(4):
                c = tet[u, j]
                if c != rows[0, k] and c != rows[1, k] and c != rows[2, k]:
                    nbr[u, j] = t
        for j in range(3):  # the face opposite corner j stands on the edge of the other two and on v
            a, b = rows[(j + 1) % 3, k], rows[(j + 2) % 3, k]
            if a > b:
                a, b = b, a
            key = a * np.int64(4294967296) + b + 1
            slot = (a * np.int64(73856093) + b * np.int64(19349663)) & mask
            while keys[slot] != 0 and keys[slot] != key:
                slot = (slot + 1) & mask
            if keys[slot] == 0:
                keys[slot] = key
                vals[slot] = k * 4 + j
            else:
                other = vals[slot]
                s, w = made[other // 4], other % 4
                nbr[t, j] = s
                nbr[s, w] = t
    for k in range(n):  # clear only what was used
        for j in range(3):
            a, b = rows[(j + 1) % 3, k], rows[(j + 2) % 3, k]
            if a > b:
                a, b = b, a
            slot = (a * np.int64(73856093) + b * np.int64(19349663)) & mask
            while keys[slot] != 0:
                keys[slot] = 0
                slot = (slot + 1) & mask
    state[3] = made[0]
    return 1


@njit(cache=True, nogil=True)
def _insert_all(
    p: Ints,
    order: Ints,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    stamp: Ints,
    keys: Ints,
    vals: Ints,
    work: Ints,
    inner: bool,
    clear: Floats,
) -> Ints:
    """Insert points in this order; returns which went in, -1 from where there was no room.
    `inner`: only into labelled regions."""
    done = np.zeros(len(order), dtype=np.int64)
    for k in range(len(order)):
        v = order[k]
        start = state[3]
        t = _walk(p, tet, nbr, start, v)
        if t < 0:
            continue
        state[3] = t  # the next is not far, whether this goes in or not
        if inner and lab[t] < 0:
            continue
        done[k] = _insert(p, tet, nbr, wall, lab, free, state, stamp, keys, vals, work, t, v, clear[k])
        if done[k] < 0:
            done[k:] = -1
            break
    return done


@njit(cache=True, nogil=True)
def _labels(p: Ints, first: int, end: int, tet: Ints, nbr: Ints, lab: Ints, start: int) -> Ints:
    """The regions in which the points from `first` to before `end` lie; -1 outside."""
    out = np.full(end - first, -1, dtype=np.int64)
    for k in range(len(out)):
        t = _walk(p, tet, nbr, start, first + k)
        if t >= 0:
            out[k] = lab[t]
            start = t
    return out


@dataclass(slots=True)
class Tetrahedra:
    """A growing Delaunay tetrahedralisation of a box that holds all points to come."""

    p: Ints
    points: int
    tet: Ints
    nbr: Ints
    wall: Ints
    lab: Ints
    free: Ints
    stamp: Ints
    state: Ints
    origin: Floats
    unit: float
    _keys: Ints
    _vals: Ints
    _work: Ints

    @staticmethod
    def box(low: Floats, high: Floats) -> Tetrahedra:
        """Six tetrahedra filling a box around `low`..`high`; its corners are points 0..7."""
        extent = float((high - low).max())
        unit = extent / _EXTENT
        far = 1 << 27
        corner = np.array([[x, y, z] for z in (-1, 1) for y in (-1, 1) for x in (-1, 1)], dtype=np.int64) * far
        split = np.array([[0, 1, 3, 7], [0, 5, 1, 7], [0, 4, 5, 7], [0, 6, 4, 7], [0, 2, 6, 7], [0, 3, 2, 7]])
        p = np.zeros((1024, 3), dtype=np.int64)
        p[:8] = corner
        tet = np.full((4096, 4), -1, dtype=np.int64)
        nbr = np.full((4096, 4), -1, dtype=np.int64)
        tet[:6] = split
        sides: dict[tuple[int, ...], tuple[int, int]] = {}
        for t in range(6):
            if orient3(p, *tet[t]) < 0.0:
                tet[t, [0, 1]] = tet[t, [1, 0]]
            for i in range(4):
                key = tuple(sorted(int(c) for c in tet[t, FACE[i]]))
                if key in sides:
                    s, j = sides[key]
                    nbr[t, i], nbr[s, j] = s, t
                sides[key] = (t, i)
        return Tetrahedra(
            p, 8, tet, nbr, np.full_like(tet, -1), np.zeros(4096, dtype=np.int64), np.zeros(4096, dtype=np.int64),
            np.zeros(4096, dtype=np.int64), np.array([6, 0, 0, 0], dtype=np.int64), 0.5 * (low + high), unit,
            np.zeros(_HASH, dtype=np.int64), np.zeros(_HASH, dtype=np.int64),
            np.zeros((8, _HASH // 4), dtype=np.int64),
        )  # fmt: skip

    def _room(self, more: int) -> None:
        need = self.points + more
        if need > len(self.p):
            self.p = np.concatenate([self.p, np.zeros((max(need, len(self.p)), 3), dtype=np.int64)])
        need = int(self.state[0]) + 9 * more + 1024
        if need > len(self.tet):
            extra = max(need, 2 * len(self.tet)) - len(self.tet)
            block = np.full((extra, 4), -1, dtype=np.int64)
            self.tet, self.nbr, self.wall = (np.concatenate([a, block]) for a in (self.tet, self.nbr, self.wall))
            zeros = np.zeros(extra, dtype=np.int64)
            self.lab, self.free, self.stamp = (np.concatenate([a, zeros]) for a in (self.lab, self.free, self.stamp))

    def snap(self, points: Floats) -> Ints:
        """Grid coordinates (n,3) of world points."""
        return np.round((np.asarray(points) - self.origin) / self.unit).astype(np.int64)

    def world(self) -> Floats:
        """World coordinates of all points (n,3), the box corners first."""
        return np.asarray(self.origin + self.p[: self.points] * self.unit)

    def labels(self, points: Floats) -> Ints:
        """The region (n,) in which each of some world points (n,3) lies; -1 outside. Quick where each is near the one
        before."""
        p = np.concatenate([self.p[: self.points], self.snap(points)])
        n, start = self.points, int(self.state[3])
        (found,) = shared_out(
            lambda s: (_labels(p, n + s.start, n + s.stop, self.tet, self.nbr, self.lab, start),), len(points)
        )
        return np.asarray(found)

    def add(self, points: Floats, inner: bool = False, clear: Floats | None = None) -> Bools:
        """Insert world points (n,3) in spatial order. Points keep their order in numbering; those
        that are refused (too close, outside when `inner`) are left out. Returns which went in."""
        self._room(len(points))
        n = len(points)
        grid = self.snap(points)
        first = self.points
        self.p[first : first + n] = grid
        order = spatial_order(grid)
        spare = np.zeros(n) if clear is None else clear[order] / self.unit
        done = np.zeros(n, dtype=bool)
        begin = 0
        while begin < n:
            got = _insert_all(
                self.p,
                first + order[begin:],
                self.tet,
                self.nbr,
                self.wall,
                self.lab,
                self.free,
                self.state,
                self.stamp,
                self._keys,
                self._vals,
                self._work,
                inner,
                spare[begin:],
            )
            done[order[begin:]] = got == 1
            gone = got < 0
            begin = n if not gone.any() else begin + int(np.argmax(gone))
            if begin < n:
                self._room(max(n - begin, len(self._work[0]) // 8))  # one point may need as many as fit there
        keep = np.flatnonzero(done)
        self.points = first + len(keep)
        if len(keep) < n:
            self.p[first : self.points] = grid[keep]
            number = np.full(n, -1, dtype=np.int64)
            number[keep] = first + np.arange(len(keep))
            _renumber(self.tet[: self.state[0]], first, number)
        return done

    @property
    def live(self) -> Ints:
        """Rows of `tet` that are alive."""
        return np.flatnonzero(self.tet[: self.state[0], 0] >= 0)


@njit(cache=True)
def _renumber(tet: Ints, first: int, number: Ints) -> None:
    """Give the points from `first` on in tetrahedra (m,4) other numbers (n,)."""
    for t in range(len(tet)):
        for k in range(4):
            if tet[t, k] >= first:
                tet[t, k] = number[tet[t, k] - first]


@njit(cache=True)
def _morton(grid: Ints, low: Ints, span: int) -> Ints:
    """The places (n,) of grid points on a Morton curve through 1024 cells each way."""
    code = np.zeros(len(grid), dtype=np.int64)
    for k in range(len(grid)):
        for axis in range(3):
            cell = (grid[k, axis] - low[axis]) * 1023 // span
            for bit in range(10):
                code[k] |= ((cell >> bit) & 1) << (3 * bit + axis)
    return code


def spatial_order(grid: Ints) -> Ints:
    """Rows of (n,3) along a Morton curve, in rounds of growing size (Amenta, Choi & Rote 2003)."""
    n = len(grid)
    if n < 2:
        return np.arange(n, dtype=np.int64)
    low = grid.min(axis=0)
    span = max(1, int((grid.max(axis=0) - low).max()))
    code = _morton(grid, low, span)
    rng = np.random.default_rng(7)
    rounds = np.minimum(-np.log2(rng.random(n) + 1e-12).astype(np.int64) // 2, int(np.log2(n)) // 2)
    return np.asarray(np.lexsort((code, -rounds)), dtype=np.int64)
