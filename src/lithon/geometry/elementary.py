"""Planes, cylinders, cones, spheres and tori as numbers, for compiled code that follows where two of them cross.

One row of numbers tells one surface: its kind, the point and the two directions of its frame that count, and its sizes.
That of a B-spline (`rows` makes it) its degrees, whether it closes, its knots and control points, and between them the
parameters of the place that was asked of last: who follows a curve stays near, and the next is sought from there.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, given
from lithon.geometry.cones import Cone
from lithon.geometry.spheres import Sphere
from lithon.geometry.spline_kernels import ROWS, surface_at, surface_closest
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tori import Torus

_PLANE, _CYLINDER, _CONE, _SPHERE, _TORUS, SPLINE = range(6)
#: Where the knots of a B-spline begin in its row, and where the parameters of its last place are.
_HEAD, _LAST = 12, 7
#: So many Newton steps are taken at the most to a point of a crossing.
_ROUNDS = 12


def in_numbers(surface: Surface) -> Floats | None:
    """The row (12,) that tells a surface: kind, point, x, z, and two sizes; None for one of another kind."""
    origin, sizes = surface.frame.origin, (0.0, 0.0)
    match surface:
        case Plane():
            kind = _PLANE
        case Cylinder():
            kind, sizes = _CYLINDER, (surface.radius, 0.0)
        case Cone():
            kind, sizes, origin = _CONE, (np.sin(surface.angle), np.cos(surface.angle)), surface.apex
        case Sphere():
            kind, sizes = _SPHERE, (surface.radius, 0.0)
        case Torus():
            kind, sizes = _TORUS, (surface.major, surface.minor)
        case _:
            return None
    return given(np.concatenate([[float(kind)], origin, surface.frame.x, surface.frame.z, sizes]))


@njit(cache=True)
def _off_spline(s: Floats, x: float, y: float, z: float) -> tuple[float, float, float, float]:
    """As `_off`, of a B-spline, from the last place on."""
    du, dv = int(s[1]), int(s[2])
    at = _HEAD + int(s[5])
    ku, kv = s[_HEAD:at], s[at : at + int(s[6])]
    net = s[at + int(s[6]) :].reshape((int(s[9]), int(s[10]), 4))
    start, point = np.empty((1, 2)), np.empty((1, 3))
    start[0, 0], start[0, 1] = s[_LAST], s[_LAST + 1]
    point[0, 0], point[0, 1], point[0, 2] = x, y, z
    found = surface_closest(ku, kv, du, dv, net, s[3] > 0.0, s[4] > 0.0, start, point)
    s[_LAST], s[_LAST + 1] = found[0, 0], found[0, 1]
    fu, fv, out = np.empty((ROWS, du + 1)), np.empty((ROWS, dv + 1)), np.empty((6, 7))
    surface_at(ku, kv, du, dv, net, found[0, 0], found[0, 1], fu, fv, out)
    px, py, pz = x - out[0, 0], y - out[0, 1], z - out[0, 2]
    nx, ny, nz, size = _across(out)
    if size == 0.0:  # at a pole the normal is that beside it
        low_u, high_u, low_v, high_v = ku[du], ku[len(ku) - du - 1], kv[dv], kv[len(kv) - dv - 1]
        u = found[0, 0] + 1e-3 * (0.5 * (low_u + high_u) - found[0, 0])
        v = found[0, 1] + 1e-3 * (0.5 * (low_v + high_v) - found[0, 1])
        surface_at(ku, kv, du, dv, net, u, v, fu, fv, out)
        nx, ny, nz, size = _across(out)
    size = max(size, 1e-300)
    nx, ny, nz = nx / size, ny / size, nz / size
    away = np.sqrt(px * px + py * py + pz * pz)
    return (away if px * nx + py * ny + pz * nz >= 0.0 else -away), nx, ny, nz


@njit(cache=True)
def _across(out: Floats) -> tuple[float, float, float, float]:
    """The product of the two derivatives of a surface at a place, and its length."""
    nx = out[1, 1] * out[2, 2] - out[1, 2] * out[2, 1]
    ny = out[1, 2] * out[2, 0] - out[1, 0] * out[2, 2]
    nz = out[1, 0] * out[2, 1] - out[1, 1] * out[2, 0]
    return nx, ny, nz, np.sqrt(nx * nx + ny * ny + nz * nz)


@njit(cache=True)
def _stand(s: Floats, uv: Floats) -> None:
    """Look for the next place on a B-spline from parameters (2,) on."""
    if int(s[0]) == SPLINE:
        s[_LAST], s[_LAST + 1] = uv[0], uv[1]


@njit(cache=True)
def _off(s: Floats, x: float, y: float, z: float) -> tuple[float, float, float, float]:
    """The signed distance of a point from a surface, and the normal there, as the surfaces themselves give them."""
    kind = int(s[0])
    if kind == SPLINE:
        return _off_spline(s, x, y, z)
    x, y, z = x - s[1], y - s[2], z - s[3]
    h = x * s[7] + y * s[8] + z * s[9]
    if kind == _PLANE:
        return h, s[7], s[8], s[9]
    if kind == _SPHERE:
        r = np.sqrt(x * x + y * y + z * z)
        if r > 0.0:
            return r - s[10], x / r, y / r, z / r
        return -s[10], s[7], s[8], s[9]
    rx, ry, rz = x - h * s[7], y - h * s[8], z - h * s[9]
    r = np.sqrt(rx * rx + ry * ry + rz * rz)
    if r > 1e-15 * (1.0 + abs(h)):  # on the axis what is left is rounding
        rx, ry, rz = rx / r, ry / r, rz / r
    else:
        rx, ry, rz = s[4], s[5], s[6]
    if kind == _CYLINDER:
        return r - s[10], rx, ry, rz
    if kind == _CONE:
        across, along = s[11], -s[10]
        d = r * across + h * along
        if r * s[10] + h * s[11] < 0.0:
            d = np.sqrt(r * r + h * h)
    else:
        away = r - s[10]
        tube = np.sqrt(away * away + h * h)
        across, along = (away / tube, h / tube) if tube > 0.0 else (1.0, 0.0)
        d = tube - s[11]
    return d, across * rx + along * s[7], across * ry + along * s[8], across * rz + along * s[9]


@njit(cache=True)
def _onto(a: Floats, b: Floats, p: Floats, rounds: int) -> float:
    """Move a point (3,) by least-norm Newton steps onto both surfaces; how far off it ends."""
    before = np.inf
    for _ in range(rounds):
        f, ax, ay, az = _off(a, p[0], p[1], p[2])
        g, bx, by, bz = _off(b, p[0], p[1], p[2])
        worst = max(abs(f), abs(g))
        scale = 1.0 + max(abs(p[0]), abs(p[1]), abs(p[2]))
        # Done, or as near as rounding lets it come.
        if worst < 1e-13 * scale or (worst < 1e-10 * scale and worst > 0.25 * before):
            return worst
        before = worst
        c = ax * bx + ay * by + az * bz
        det = max(1.0 - c * c, 1e-8)
        wa, wb = (f - c * g) / det, (g - c * f) / det
        p[0] -= wa * ax + wb * bx
        p[1] -= wa * ay + wb * by
        p[2] -= wa * az + wb * bz
    return max(abs(_off(a, p[0], p[1], p[2])[0]), abs(_off(b, p[0], p[1], p[2])[0]))


@njit(cache=True)
def onto_two(a: Floats, b: Floats, points: Floats, ua: Floats, ub: Floats, rounds: int) -> tuple[Floats, Floats]:
    """Points (n,3) moved by least-norm Newton steps onto both surfaces (rows), where their feet have parameters (n,2),
    and how far off (n,) they end."""
    p, off = points.copy(), np.zeros(len(points))
    for i in range(len(p)):
        _stand(a, ua[i])
        _stand(b, ub[i])
        off[i] = _onto(a, b, p[i], rounds)
    return p, off


@njit(cache=True)
def _least_squares(rows: Floats, right: Floats) -> Floats:
    """The least-squares solution (3,) of rows (m,3), right (m,), by Householder's reflections; both are used up."""
    m = len(right)
    out = np.zeros(3)
    for k in range(3):
        size = 0.0
        for i in range(k, m):
            size += rows[i, k] ** 2
        size = np.sqrt(size)
        if size == 0.0:
            continue
        head = rows[k, k] + (size if rows[k, k] >= 0.0 else -size)
        scale = head * head - rows[k, k] ** 2 + size * size
        rows[k, k] = head
        for j in range(k + 1, 4):
            dot = 0.0
            for i in range(k, m):
                dot += rows[i, k] * (right[i] if j == 3 else rows[i, j])
            dot *= 2.0 / scale
            for i in range(k, m):
                if j == 3:
                    right[i] -= dot * rows[i, k]
                else:
                    rows[i, j] -= dot * rows[i, k]
        rows[k, k] = -size if head > 0.0 else size
    for k in range(2, -1, -1):
        rest = right[k]
        for j in range(k + 1, 3):
            rest -= rows[k, j] * out[j]
        out[k] = rest / rows[k, k] if rows[k, k] != 0.0 else 0.0
    return out


@njit(cache=True)
def _strain(surfaces: Floats, p: Floats, start: Floats, near: float, far: float) -> float:
    out = 0.0
    for k in range(len(surfaces)):
        out += (_off(surfaces[k], p[0], p[1], p[2])[0] / near) ** 2
    for c in range(3):
        out += ((p[c] - start[c]) / far) ** 2
    return out


@njit(cache=True)
def least_strain(surfaces: Floats, start: Floats, near: float, far: float, rounds: int) -> Floats:
    """The point (3,) near one on surfaces (k,12) as far as these let it, as `seams.between` has it."""
    p = start.copy()
    now, damping = _strain(surfaces, p, start, near, far), 1.0 / far
    count = len(surfaces)
    rows, right = np.empty((count + 6, 3)), np.empty(count + 6)
    for _ in range(rounds):
        rows[:], right[:] = 0.0, 0.0
        for k in range(count):
            d, nx, ny, nz = _off(surfaces[k], p[0], p[1], p[2])
            rows[k, 0], rows[k, 1], rows[k, 2], right[k] = nx / near, ny / near, nz / near, -d / near
        for c in range(3):
            rows[count + c, c], right[count + c] = 1.0 / far, (start[c] - p[c]) / far
            rows[count + 3 + c, c] = damping
        there = p + _least_squares(rows, right)
        fresh = _strain(surfaces, there, start, near, far)
        if fresh < now:
            done = now - fresh < 1e-9 * now
            p, now, damping = there, fresh, damping / 3.0
            if done:
                break
        else:  # between surfaces that do not meet a whole step goes too far
            damping *= 4.0
            if damping > 1e4 / near:
                break  # there is no way on
    return p


@njit(cache=True)
def beside_guide(a: Floats, b: Floats, guide: Floats, ua: Floats, ub: Floats) -> tuple[Floats, Floats]:
    """Points (n,3) on both surfaces (rows) in the plane across a guide, whose points and first two derivatives are
    given (3,n,3), and the parameters (n,2) of its points' feet; and the first derivatives (n,3) of the curve that they
    are on."""
    n = guide.shape[1]
    p, d = guide[0].copy(), guide[1].copy()
    for i in range(n):
        _stand(a, ua[i])
        _stand(b, ub[i])
        x, y, z = p[i]
        tx, ty, tz = guide[1, i]
        speed = np.sqrt(tx * tx + ty * ty + tz * tz)
        before = np.inf
        for _ in range(_ROUNDS):
            f, ax, ay, az = _off(a, x, y, z)
            g, bx, by, bz = _off(b, x, y, z)
            h = (x - guide[0, i, 0]) * tx + (y - guide[0, i, 1]) * ty + (z - guide[0, i, 2]) * tz
            wx, wy, wz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
            det = wx * tx + wy * ty + wz * tz
            if abs(det) < 1e-9 * speed:
                break
            sx = (f * (by * tz - bz * ty) + g * (ty * az - tz * ay) + h * wx) / det
            sy = (f * (bz * tx - bx * tz) + g * (tz * ax - tx * az) + h * wy) / det
            sz = (f * (bx * ty - by * tx) + g * (tx * ay - ty * ax) + h * wz) / det
            x, y, z = x - sx, y - sy, z - sz
            step, scale = max(abs(sx), abs(sy), abs(sz)), 1.0 + max(abs(x), abs(y), abs(z))
            # Done, or as near as rounding lets it come.
            if step < 1e-14 * scale or (step < 1e-12 * scale and step > 0.25 * before):
                break
            before = step
        p[i, 0], p[i, 1], p[i, 2] = x, y, z
        f, ax, ay, az = _off(a, x, y, z)
        g, bx, by, bz = _off(b, x, y, z)
        wx, wy, wz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
        along = wx * tx + wy * ty + wz * tz
        if abs(along) >= 1e-9 * speed:
            bent = 0.0
            for k in range(3):
                bent += (p[i, k] - guide[0, i, k]) * guide[2, i, k]
            rate = (speed * speed - bent) / along
            d[i, 0], d[i, 1], d[i, 2] = rate * wx, rate * wy, rate * wz
    return p, d


@njit(cache=True)
def _along(a: Floats, b: Floats, p: Floats, way: Floats) -> bool:
    """Write the direction (3,) in which the surfaces cross at a point; whether they do."""
    _, ax, ay, az = _off(a, p[0], p[1], p[2])
    _, bx, by, bz = _off(b, p[0], p[1], p[2])
    way[0], way[1], way[2] = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    size = np.sqrt(way[0] ** 2 + way[1] ** 2 + way[2] ** 2)
    if size <= 1e-7:
        return False
    for k in range(3):
        way[k] /= size
    return True


@njit(cache=True)
def half_branch(
    a: Floats,
    b: Floats,
    start: Floats,
    ua: Floats,
    ub: Floats,
    sign: float,
    box: Floats,
    longest: float,
    turning: float,
    most: int,
    tries: int,
    over: bool,
) -> tuple[Floats, bool]:
    """Points (n,3) of the branch from one that is on both surfaces (rows), at parameters (2,) of theirs, to one side,
    within a box (2,3), and whether it came back; none where the surfaces touch there. `turning`: the most (radians)
    that one step may turn; `over`: whether it may go straight on where branches cross, or nearly do."""
    _stand(a, ua)
    _stand(b, ub)
    points = np.zeros((most, 3))
    points[0] = start
    heading, new, p = np.zeros(3), np.zeros(3), np.zeros(3)
    if not _along(a, b, start, heading):
        return points[:0], False
    for k in range(3):
        heading[k] *= sign
    first = heading.copy()
    count, step = 1, 0.25 * longest
    at_a, at_b = a[_LAST : _LAST + 2].copy(), b[_LAST : _LAST + 2].copy()
    for _ in range(tries):
        if count >= most:
            break
        here = points[count - 1]
        # From where the last good step led: one that went over a tip leaves it on the other side.
        _stand(a, at_a)
        _stand(b, at_b)
        for k in range(3):
            p[k] = here[k] + step * heading[k]
        off = _onto(a, b, p, 12)
        if not _along(a, b, p, new):  # on a tip, or where they touch: up to there
            step *= 0.5
            if step < 1e-6 * longest:
                break
            continue
        cos, went, forth, along, span, ahead, scale = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 1.0
        for k in range(3):
            cos += new[k] * heading[k]
        side = 1.0 if cos >= 0.0 else -1.0
        for k in range(3):
            new[k] *= side
            went += (p[k] - here[k]) ** 2
            forth += (p[k] - here[k]) * heading[k]
            along += (start[k] - here[k]) * heading[k]
            span += (start[k] - here[k]) ** 2
            ahead += first[k] * new[k]
            scale = max(scale, 1.0 + abs(p[k]))
        went = np.sqrt(went)
        turn = np.arccos(min(abs(cos), 1.0))
        # Beyond a place at which branches cross the surfaces lie the other way about it.
        strays = not over and cos * sign < 0.0
        if off > 1e-9 * scale or turn > turning or not (forth > 0.3 * step and went < 2.0 * step) or strays:
            step *= 0.5
            if step < 1e-6 * longest:
                break
            continue
        beside = np.sqrt(max(span - along * along, 0.0))
        if count > 3 and 0.0 < along <= 1.01 * went and beside < 0.5 * step and ahead > 0.5:
            return points[:count].copy(), True
        outside = False
        for k in range(3):
            points[count, k] = p[k]
            heading[k] = new[k]
            outside |= p[k] < box[0, k] or p[k] > box[1, k]
        count, sign = count + 1, side
        at_a, at_b = a[_LAST : _LAST + 2].copy(), b[_LAST : _LAST + 2].copy()
        if outside:
            break
        if turn < 0.4 * turning:
            step = min(1.6 * step, longest)
    return points[:count].copy(), False
