"""Thickness of the solid behind its surface, by rays through the tessellation."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np
from numba import njit, prange

from lithon.arrays import Floats, Ints
from lithon.brep.sampling import spread_inside
from lithon.brep.tessellate import body_mesh
from lithon.brep.topology import Body
from lithon.brep.trees import tree_of


@njit(cache=True, parallel=False)
def _first_hits(
    starts: Floats, rays: Floats, a: Floats, ab: Floats, ac: Floats, low: Floats, high: Floats, least: float
) -> tuple[Floats, Ints]:
    """Distance along each ray to the first triangle beyond `least` (Moller & Trumbore 1997)."""
    n = len(starts)
    out = np.full(n, np.inf)
    which = np.full(n, -1, dtype=np.int64)
    for r in prange(n):
        ox, oy, oz = starts[r]
        dx, dy, dz = rays[r]
        best = np.inf
        for t in range(len(a)):
            # Slab test of the triangle's box against the ray, cheap and mostly decisive.
            near, far = 0.0, best
            miss = False
            for axis in range(3):
                o, d = starts[r, axis], rays[r, axis]
                if abs(d) < 1e-12:
                    if o < low[t, axis] or o > high[t, axis]:
                        miss = True
                        break
                else:
                    s0, s1 = (low[t, axis] - o) / d, (high[t, axis] - o) / d
                    if s0 > s1:
                        s0, s1 = s1, s0
                    near, far = max(near, s0), min(far, s1)
                    if near > far:
                        miss = True
                        break
            if miss:
                continue
            px = dy * ac[t, 2] - dz * ac[t, 1]
            py = dz * ac[t, 0] - dx * ac[t, 2]
            pz = dx * ac[t, 1] - dy * ac[t, 0]
            det = ab[t, 0] * px + ab[t, 1] * py + ab[t, 2] * pz
            if abs(det) < 1e-14:
                continue
            tx, ty, tz = ox - a[t, 0], oy - a[t, 1], oz - a[t, 2]
            u = (tx * px + ty * py + tz * pz) / det
            if u < -1e-9 or u > 1.0 + 1e-9:
                continue
            qx, qy, qz = ty * ab[t, 2] - tz * ab[t, 1], tz * ab[t, 0] - tx * ab[t, 2], tx * ab[t, 1] - ty * ab[t, 0]
            v = (dx * qx + dy * qy + dz * qz) / det
            if v < -1e-9 or u + v > 1.0 + 1e-9:
                continue
            s = (ac[t, 0] * qx + ac[t, 1] * qy + ac[t, 2] * qz) / det
            if s > least and s < best:
                best = s
                which[r] = t
        out[r] = best
    return out, which


def ray_hits(starts: Floats, rays: Floats, points: Floats, triangles: Ints, least: float) -> tuple[Floats, Ints]:
    """First hit beyond `least`: distances (n,), inf where none, and triangle indices (n,), -1."""
    corners = points[triangles]
    low, high = corners.min(axis=1) - 1e-9, corners.max(axis=1) + 1e-9
    a, ab, ac = corners[:, 0], corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    distance, which = _first_hits(
        np.ascontiguousarray(starts), np.ascontiguousarray(rays), np.ascontiguousarray(a), ab, ac, low, high, least
    )
    return distance, which


_walls: WeakKeyDictionary[Body, tuple[Floats, Floats, Ints, Ints, Floats]] = WeakKeyDictionary()


def thickness(body: Body) -> tuple[Floats, Floats, Ints, Ints, Floats]:
    """Sample points (n,3) on the surface, the wall behind each (n,), the face use index of the
    sample (n,) and of the wall's far side (n,), and the cosine (n,) between the two outward normals.
    About one sample per 1/60 of the diagonal; cached."""
    hit = _walls.get(body)
    if hit is not None:
        return hit
    points, triangles, owner = body_mesh(body)
    corners = points[triangles]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(cross, axis=1)
    sound = np.flatnonzero(size > 0.0)
    scale = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    spots, row = spread_inside(corners[sound], scale / 60.0)
    row = sound[row]
    inward = -cross[row] / size[row, None]
    which, distance = tree_of(body).first_hits(spots, inward, 1e-7 * scale)
    far = np.where(which >= 0, owner[which], -1)
    facing = np.where(
        which >= 0, (cross[row] * cross[which]).sum(axis=1) / (size[row] * np.maximum(size[which], 1e-300)), 1.0
    )
    made = spots, distance, owner[row], far, facing
    _walls[body] = made
    return made
