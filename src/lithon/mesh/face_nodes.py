"""Nodes inside a face, placed in its flat domain and judged in space: none too far from others, then evened out."""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.brep.tessellation.domain import Domain
from lithon.brep.tessellation.triangulate import Triangulation, _legalise, legalise_in_space
from lithon.geometry.rounds import ConeBand, Stereographic, TorusChart
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mesh.sizing import SizeField

#: Circumradius of an equilateral triangle of side one.
_EQUILATERAL = 1.0 / np.sqrt(3.0)


def refine(domain: Domain, region: Triangulation, sizes: SizeField) -> None:
    """Insert circumcentres of triangles that are too large or too slender (Chew 1993; Ruppert 1995).

    All lengths are those in space; a circumcentre is carried to the chart by its barycentric weights.
    """
    points = domain.surface_points(region.plane)
    judged = np.zeros((0, 3), dtype=np.int64)
    for _ in range(60):
        # What was refused a node once has no more room later: only what is new is looked at.
        every, n = region.tri[: region.count], len(judged)
        fresh = every[:, 0] >= 0
        fresh[:n] &= (every[:n] != judged).any(axis=1)
        rows = np.flatnonzero(fresh)
        judged = every.copy()
        tri, plane = every[rows], region.plane
        if len(plane) > len(points):
            points = np.concatenate([points, domain.surface_points(plane[len(points) :])])
        size = sizes.at(points[tri].mean(axis=1))
        bad, worth, goal, spare = _too_large(plane, points, tri, size)
        if not len(bad):
            return
        order = np.argsort(-worth, kind="stable")
        if region.add(goal[order], rows[bad[order]], spare[order]) == 0:
            return
        legalise(domain, region)


@njit(cache=True)
def _too_large(flat: Floats, points: Floats, tri: Ints, size: Floats) -> tuple[Ints, Floats, Floats, Floats]:
    """Of triangles (m,3) with wanted sizes (m,), those that are too large or too slender: their numbers, their radii as
    shares of the sizes, the flat points (k,2) that part them, and how far (k,) in the plane these keep from others. The
    nodes are in the plane (n,2) and in space (n,3)."""
    m = len(tri)
    bad, worth = np.empty(m, dtype=np.int64), np.empty(m)
    goal, spare = np.empty((m, 2)), np.empty(m)
    count = 0
    q, w, middle, centre = np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    for t in range(m):
        for i in range(3):
            q[i] = 0.0
            for c in range(3):
                q[i] += (points[tri[t, (i + 2) % 3], c] - points[tri[t, (i + 1) % 3], c]) ** 2
        all_q, most, least = q[0] + q[1] + q[2], max(q[0], q[1], q[2]), min(q[0], q[1], q[2])
        total = 0.0  # sixteen times the squared area
        for i in range(3):
            w[i] = q[i] * (all_q - 2.0 * q[i])
            total += w[i]
        radius = np.sqrt(q[0] * q[1] * q[2] / max(total, 1e-300))
        if least < 1e-12 * most:  # it goes all the way around from a cut to its other side: in space it has no width
            bad[count] = t
            worth[count] = np.sqrt(most) / size[t]
            goal[count] = 0.0
            for i in range(3):
                for c in range(2):
                    goal[count, c] += flat[tri[t, i], c] / 3.0
            spare[count] = min(0.72 * size[t], np.sqrt(most))
            count += 1
            continue
        if not (radius > 1.25 * _EQUILATERAL * size[t]
                or (radius > 1.35 * np.sqrt(least) and radius > 0.8 * _EQUILATERAL * size[t])):  # fmt: skip
            continue
        for i in range(3):  # the circumcentre of a flat triangle is nowhere: its middle serves
            w[i] = w[i] / total if total > 1e-14 * most**2 else 1.0 / 3.0
        far = 0.0
        for c in range(3):
            middle[c] = centre[c] = 0.0
            for i in range(3):
                middle[c] += points[tri[t, i], c] / 3.0
                centre[c] += w[i] * points[tri[t, i], c]
            far += (centre[c] - middle[c]) ** 2
        # A circumcentre far outside its triangle is approached no further than a size (off-centres).
        limit = min(1.0, 1.2 * size[t] / max(np.sqrt(far), 1e-300))
        a, b, c_ = tri[t, 0], tri[t, 1], tri[t, 2]
        wide = 0.0
        for i in range(3):
            one, other = tri[t, i], tri[t, (i + 2) % 3]
            wide = max(wide, np.hypot(flat[one, 0] - flat[other, 0], flat[one, 1] - flat[other, 1]))
        sx, sy = (flat[a, 0] + flat[b, 0] + flat[c_, 0]) / 3.0, (flat[a, 1] + flat[b, 1] + flat[c_, 1]) / 3.0
        dx = w[0] * flat[a, 0] + w[1] * flat[b, 0] + w[2] * flat[c_, 0] - sx
        dy = w[0] * flat[a, 1] + w[1] * flat[b, 1] + w[2] * flat[c_, 1] - sy
        # Two corners of one place, on both sides of a cut, have a circumcentre anywhere in the flat.
        limit = min(limit, wide / max(np.hypot(dx, dy), 1e-300))
        plane = abs((flat[b, 0] - flat[a, 0]) * (flat[c_, 1] - flat[a, 1])
                    - (flat[b, 1] - flat[a, 1]) * (flat[c_, 0] - flat[a, 0]))  # fmt: skip
        space = np.sqrt(max(total, 0.0)) / 2.0  # as `plane` twice the area
        stretch = np.sqrt(max(space, 1e-300) / max(plane, 1e-300))
        bad[count], worth[count] = t, radius / size[t]
        goal[count, 0], goal[count, 1] = sx + limit * dx, sy + limit * dy
        spare[count] = min(0.72 * size[t], 0.9 * radius) / stretch
        count += 1
    return bad[:count], worth[:count], goal[:count], spare[:count]


def _keeps_angles(domain: Domain) -> bool:
    return isinstance(domain.chart, Plane | Cylinder | ConeBand | Stereographic | TorusChart)


def legalise(domain: Domain, region: Triangulation) -> None:
    """Where the chart does not keep angles, swap by the angles in space."""
    if not _keeps_angles(domain):
        points = np.ascontiguousarray(domain.surface_points(region.plane))
        legalise_in_space(region.grid, points, region.tri, region.nbr, region.fix, region.count)


def smooth(region: Triangulation, fixed: int, sweeps: int = 6) -> None:
    """Move inner nodes towards the centroids of their neighbours, weighted by area, and restore
    the Delaunay property by swaps."""
    if region.points > fixed:
        _smoothed(region.grid, region.tri, region.nbr, region.fix, region.count, region.points, fixed, sweeps)


@njit(cache=True)
def _smoothed(grid: Ints, tri: Ints, nbr: Ints, fix: Ints, count: int, n: int, fixed: int, sweeps: int) -> None:
    total, weight = np.empty((n, 2)), np.empty(n)
    goal = np.empty((n, 2), dtype=np.int64)
    area = np.empty(count)
    back = np.zeros(n, dtype=np.bool_)
    for _ in range(sweeps):
        total[:], weight[:] = 0.0, 0.0
        for t in range(count):
            a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
            if a < 0:
                continue
            area[t] = float(grid[b, 0] - grid[a, 0]) * float(grid[c, 1] - grid[a, 1]) - float(
                grid[b, 1] - grid[a, 1]
            ) * float(grid[c, 0] - grid[a, 0])
            for axis in range(2):
                middle = float(grid[a, axis] + grid[b, axis] + grid[c, axis]) / 3.0 * area[t]
                for k in range(3):
                    total[tri[t, k], axis] += middle
            for k in range(3):
                weight[tri[t, k]] += area[t]
        goal[:] = grid[:n]
        for v in range(fixed, n):
            for axis in range(2):
                goal[v, axis] = np.int64(np.round(total[v, axis] / max(weight[v], 1e-300)))
        sound = False
        for _retry in range(10):
            back[:] = False
            sound = True
            for t in range(count):
                a, b, c = tri[t, 0], tri[t, 1], tri[t, 2]
                if a < 0:
                    continue
                now = float(goal[b, 0] - goal[a, 0]) * float(goal[c, 1] - goal[a, 1]) - float(
                    goal[b, 1] - goal[a, 1]
                ) * float(goal[c, 0] - goal[a, 0])
                if now <= 0.05 * area[t]:
                    sound = False
                    back[a] = back[b] = back[c] = True
            if sound:
                break
            for v in range(n):
                if back[v]:
                    goal[v] = grid[v]
        if not sound:
            return
        grid[:n] = goal
        _legalise(grid, tri, nbr, fix, count)
