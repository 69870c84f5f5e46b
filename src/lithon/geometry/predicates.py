"""Exact orientation and in-circle tests on an integer grid.

Points are int64 coordinates of magnitude up to 2**28, so differences fit 2**29, 2x2 minors 2**59
and squared lengths 2**60: all exact in int64. What exceeds that is decided by a floating filter
and, where the filter cannot tell, by error-free expansions. Method: J. R. Shewchuk, "Adaptive
precision floating-point arithmetic and fast robust geometric predicates" (1997), made simpler by
the bounded integers.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole

GRID_BITS = 26
_SPLIT = 134217729.0  # 2**27 + 1
_SURE = (1e-14 * 360.0) ** 2  # three times what is needed, squared


@njit(cache=True, inline="always")
def _two_sum(a: float, b: float) -> tuple[float, float]:
    s = a + b
    bb = s - a
    return s, (a - (s - bb)) + (b - bb)


@njit(cache=True, inline="always")
def _two_product(a: float, b: float) -> tuple[float, float]:
    p = a * b
    c = _SPLIT * a
    ah = c - (c - a)
    al = a - ah
    c = _SPLIT * b
    bh = c - (c - b)
    bl = b - bh
    return p, al * bl - (((p - ah * bh) - al * bh) - ah * bl)


@njit(cache=True)
def _grow(e: Floats, n: int, b: float) -> int:
    """Add one double to an expansion of n parts, in place; returns the new count, zeros dropped."""
    q = b
    m = 0
    for i in range(n):
        s, r = _two_sum(q, e[i])
        q = s
        if r != 0.0:
            e[m] = r
            m += 1
    if q != 0.0 or m == 0:
        e[m] = q
        m += 1
    return m


@njit(cache=True)
def _grow_product(e: Floats, n: int, a: float, b: float) -> int:
    p, r = _two_product(a, b)
    if r != 0.0:
        n = _grow(e, n, r)
    return _grow(e, n, p)


@njit(cache=True, inline="always")
def _parts(x: int) -> tuple[float, float]:
    """An int64 of up to 62 bits as two doubles, exactly."""
    high = float(x)
    return high, float(x - np.int64(high))


@njit(cache=True)
def orient2(ax: int, ay: int, bx: int, by: int, cx: int, cy: int) -> int:
    """Twice the signed area of a triangle; positive counter-clockwise. Exact."""
    return (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)


@njit(cache=True)
def incircle(ax: int, ay: int, bx: int, by: int, cx: int, cy: int, px: int, py: int) -> float:
    """Positive where p lies inside the circle through a, b, c (counter-clockwise). Sign exact."""
    adx, ady = ax - px, ay - py
    bdx, bdy = bx - px, by - py
    cdx, cdy = cx - px, cy - py
    bc = bdx * cdy - bdy * cdx
    ca = cdx * ady - cdy * adx
    ab = adx * bdy - ady * bdx
    al, bl, cl = adx * adx + ady * ady, bdx * bdx + bdy * bdy, cdx * cdx + cdy * cdy
    fa, fb, fc = float(al) * float(bc), float(bl) * float(ca), float(cl) * float(ab)
    det = fa + fb + fc
    if abs(det) > 1e-14 * (abs(fa) + abs(fb) + abs(fc)):
        return det
    e = np.zeros(32)
    n = whole(1)
    for lift, minor in ((al, bc), (bl, ca), (cl, ab)):
        l1, l0 = _parts(lift)
        m1, m0 = _parts(minor)
        n = _grow_product(e, n, l0, m0)
        n = _grow_product(e, n, l0, m1)
        n = _grow_product(e, n, l1, m0)
        n = _grow_product(e, n, l1, m1)
    return e[n - 1]


@njit(cache=True)
def orient3(p: Ints, a: int, b: int, c: int, d: int) -> float:
    """Six times the signed volume of the tetrahedron of rows a, b, c, d of points (n,3) int64: positive where d lies on
    the side of (b-a) x (c-a). Sign exact. (Rows by number: compiled code counts views of them, which takes longer
    than the arithmetic.)"""
    x, y, z = p[d, 0], p[d, 1], p[d, 2]
    ax, ay, az = p[a, 0] - x, p[a, 1] - y, p[a, 2] - z
    bx, by, bz = p[b, 0] - x, p[b, 1] - y, p[b, 2] - z
    cx, cy, cz = p[c, 0] - x, p[c, 1] - y, p[c, 2] - z
    m1, m2, m3 = by * cz - bz * cy, bz * cx - bx * cz, bx * cy - by * cx
    f1, f2, f3 = float(ax) * float(m1), float(ay) * float(m2), float(az) * float(m3)
    det = f1 + f2 + f3
    if abs(det) > 1e-14 * (abs(f1) + abs(f2) + abs(f3)):
        return -det
    return _orient3_exact(ax, ay, az, m1, m2, m3)


@njit(cache=True)
def _orient3_exact(ax: int, ay: int, az: int, m1: int, m2: int, m3: int) -> float:
    e = np.zeros(16)
    n = whole(1)
    for x, m in ((ax, m1), (ay, m2), (az, m3)):
        h, low = _parts(m)
        n = _grow_product(e, n, float(x), low)
        n = _grow_product(e, n, float(x), h)
    return -e[n - 1]


@njit(cache=True)
def _minor3(e: Floats, a: Ints, b: Ints, c: Ints, p: Ints) -> int:
    """det[a-p; b-p; c-p] as an expansion in e; returns its count of parts."""
    bx, by, bz = b[0] - p[0], b[1] - p[1], b[2] - p[2]
    cx, cy, cz = c[0] - p[0], c[1] - p[1], c[2] - p[2]
    e[0] = 0.0
    n = whole(1)
    for x, m in ((a[0] - p[0], by * cz - bz * cy), (a[1] - p[1], bz * cx - bx * cz), (a[2] - p[2], bx * cy - by * cx)):
        h, low = _parts(m)
        n = _grow_product(e, n, float(x), low)
        n = _grow_product(e, n, float(x), h)
    return n


@njit(cache=True)
def _insphere_exact(a: Ints, b: Ints, c: Ints, d: Ints, p: Ints) -> float:
    total = np.zeros(256)
    m = whole(1)
    minor = np.zeros(16)
    for k in range(4):
        if k == 0:
            n, q, sign = _minor3(minor, b, c, d, p), a, -1.0
        elif k == 1:
            n, q, sign = _minor3(minor, a, c, d, p), b, 1.0
        elif k == 2:
            n, q, sign = _minor3(minor, a, b, d, p), c, -1.0
        else:
            n, q, sign = _minor3(minor, a, b, c, p), d, 1.0
        x, y, z = q[0] - p[0], q[1] - p[1], q[2] - p[2]
        h, low = _parts(x * x + y * y + z * z)
        for i in range(n):
            m = _grow_product(total, m, sign * low, minor[i])
            m = _grow_product(total, m, sign * h, minor[i])
    return total[m - 1]


@njit(cache=True)
def insphere(p: Ints, a: int, b: int, c: int, d: int, e: int) -> float:
    """Positive where row e of points (n,3) int64 lies inside the sphere through rows a, b, c, d with
    orient3(p, a, b, c, d) > 0. Sign exact."""
    x, y, z = p[e, 0], p[e, 1], p[e, 2]
    ax, ay, az = float(p[a, 0] - x), float(p[a, 1] - y), float(p[a, 2] - z)
    bx, by, bz = float(p[b, 0] - x), float(p[b, 1] - y), float(p[b, 2] - z)
    cx, cy, cz = float(p[c, 0] - x), float(p[c, 1] - y), float(p[c, 2] - z)
    dx, dy, dz = float(p[d, 0] - x), float(p[d, 1] - y), float(p[d, 2] - z)
    ab, bc, cd = ax * by - ay * bx, bx * cy - by * cx, cx * dy - cy * dx
    da, ac, bd = dx * ay - dy * ax, ax * cy - ay * cx, bx * dy - by * dx
    abc = az * bc - bz * ac + cz * ab
    bcd = bz * cd - cz * bd + dz * bc
    cda = cz * da + dz * ac + az * cd
    dab = dz * ab + az * bd + bz * da
    al, bl = ax * ax + ay * ay + az * az, bx * bx + by * by + bz * bz
    cl, dl = cx * cx + cy * cy + cz * cz, dx * dx + dy * dy + dz * dz
    det = (dl * abc - cl * dab) + (bl * cda - al * bcd)
    # The size below is never more than 120 times the fifth power of the farthest distance: often that decides.
    far = max(max(al, bl), max(cl, dl))
    if det * det > _SURE * far * far * far * far * far:
        return -det
    size = (
        al * (abs(bz * cd) + abs(cz * bd) + abs(dz * bc))
        + bl * (abs(cz * da) + abs(dz * ac) + abs(az * cd))
        + cl * (abs(dz * ab) + abs(az * bd) + abs(bz * da))
        + dl * (abs(az * bc) + abs(bz * ac) + abs(cz * ab))
        + (al + bl + cl + dl) * (abs(abc) + abs(bcd) + abs(cda) + abs(dab))
    )
    if abs(det) > 1e-14 * size:
        return -det
    return -_insphere_exact(p[a], p[b], p[c], p[d], p[e])
