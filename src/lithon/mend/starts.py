"""Surfaces through a few triangles: plane, cylinder, cone, sphere and torus, started in closed form, each brought near
to the corners by least squares; compiled, since a mesh is parted by thousands of them.

Cylinder and cone start from the directions of normals, whose Gauss image is a circle; the torus from the axis that all
normals meet (Pottmann & Wallner 2001), and from the cylinder, bent. `brep.analysis.fits` does the same for one face.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, given, whole
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import CONE, CYLINDER, PLANE, SPHERE, THICK, TOLD, TORUS, local_of, nearest, solved, stand

_MAKES: dict[int, type[Plane] | type[Cylinder] | type[Cone] | type[Sphere] | type[Torus]] = {
    PLANE: Plane, CYLINDER: Cylinder, CONE: Cone, SPHERE: Sphere, TORUS: Torus,
}  # fmt: skip
#: Of what a surface is: how many radii and angles.
_MANY = np.array([0, 1, 1, 2, 2])
#: How many times as large as what lies on it a surface may be.
_LARGE = 50.0


def round_fits(p: Floats, n: Floats, middle: Floats, normal: Floats, near: float) -> list[tuple[float, Surface]]:
    """The round surfaces that corners (n,3) lie on within `near` (mm), each with how far (radians) triangles lean from
    it in the mean; n (n,3): normals at corners; middle, normal (m,3): of the triangles."""
    return _told(_fits(given(p), given(n), given(middle), given(normal), near))


def scattered_fits(p: Floats, n: Floats, most: float, torus: bool) -> list[Surface]:
    """The surfaces from which scattered corners (n,3) with normals (n,3) stand off by no more than `most` (mm) in the
    mean (root mean square); a torus where one is asked for, and its tube does not reach its axis: scatter bends thinner
    spines as it likes."""
    if len(p) < 3:
        return []
    return [surface for _, surface in _told(_scattered(given(p), given(n), most, torus))]


def _told(rows: Floats) -> list[tuple[float, Surface]]:
    """What rows of a kind, a measure, origin, axes and numbers say."""
    out: list[tuple[float, Surface]] = []
    for row in rows:
        kind = int(row[0])
        frame = Frame.of(row[2:5], row[11:14], row[5:8])
        out.append((float(row[1]), _MAKES[kind](frame, *row[14 : 14 + _MANY[kind]].tolist())))
    return out


@njit(cache=True)
def _start_of(row: Floats) -> tuple[int, Floats]:
    """The kind of a start, and its origin, axes and numbers, to be moved."""
    kind = int(row[0])
    return kind, row[1 : 13 + _MANY[kind]].copy()


@njit(cache=True)
def _tell(out: Floats, found: int, kind: int, measure: float, here: Floats) -> int:
    """A surface noted as found; how many there are then."""
    out[found, 0], out[found, 1] = kind, measure
    out[found, 2 : 2 + len(here)] = here
    return found + 1


@njit(cache=True)
def _scattered(p: Floats, n: Floats, most: float, torus: bool) -> Floats:
    """As `scattered_fits`: a row for each, its kind, how far corners stand off in the mean, origin, axes, numbers."""
    starts = np.zeros((6, 15))
    m = _plane(p, n, starts, whole(0))
    m = _cylinder(p, n, starts, m)
    m = _cone(p, n, starts, m)
    m = _sphere(p, starts, m)
    if torus:
        m = _torus(p, n, starts, m, 1.0001)
    out = np.empty((6, 16))
    found, k = 0, 0
    while k < m:
        kind, here = _start_of(starts[k])
        off = _nearer(kind, here, p, whole(6))[1]
        if off <= most:
            found = _tell(out, found, kind, off, here)
        if torus and kind == CYLINDER:
            m = _bent(p, here, starts, m)
        k += 1
    return out[:found]


@njit(cache=True)
def _fits(p: Floats, n: Floats, middle: Floats, normal: Floats, near: float) -> Floats:
    """As `round_fits`: a row for each, its kind, lean, origin, axes and numbers."""
    starts = np.zeros((7, 15))
    m = whole(0)
    # Triangles say better than their corners how a cylinder lies: theirs is the normal of a chord.
    for turn in range(2):
        q, w = (middle, normal) if turn == 0 else (p, n)
        m = _cylinder(q, w, starts, m)
        m = _cone(q, w, starts, m)
        m = _sphere(q, starts, m)
    m = _torus(p, n, starts, m, THICK)
    out = np.empty((m, 16))
    found = 0
    for k in range(m):
        kind, here = _start_of(starts[k])
        off, rounds = 2.0 * near, whole(4)
        while near < off < 30.0 * near and rounds <= 12:  # what comes near does so at once (Gauss-Newton)
            off = _nearer(kind, here, p, rounds)[0]
            rounds += 8
        if not off <= near:
            continue
        found = _tell(out, found, kind, _lean(kind, here, middle, normal), here)
    return out[:found]


@njit(cache=True)
def _nearer(kind: int, here: Floats, p: Floats, rounds: int) -> tuple[float, float]:
    """A surface brought nearest to points; how far the furthest is off, and all in the mean (root mean square)."""
    origin, axes, numbers = np.empty(3), np.empty((3, 3)), np.empty(len(here) - 12)
    for k in range(3):
        origin[k] = here[k]
        for c in range(3):
            axes[k, c] = here[3 + 3 * k + c]
    for k in range(len(numbers)):
        numbers[k] = here[12 + k]
    _, origin, axes, numbers = nearest(kind, origin, axes, numbers, p, rounds)
    for k in range(3):
        here[k] = origin[k]
        for c in range(3):
            here[3 + 3 * k + c] = axes[k, c]
    for k in range(len(numbers)):
        here[12 + k] = numbers[k]
    off, square = 0.0, 0.0
    for i in range(len(p)):
        x, y, z = local_of(here, p[i])
        away = stand(kind, here[12:], x, y, z)[0]
        off, square = max(off, abs(away)), square + away * away
    return off, np.sqrt(square / len(p))


@njit(cache=True)
def _lean(kind: int, here: Floats, middle: Floats, normal: Floats) -> float:
    """The mean angle between triangles and a surface."""
    total = 0.0
    for i in range(len(middle)):
        x, y, z = local_of(here, middle[i])
        _, flat, up = stand(kind, here[12:], x, y, z)
        a = normal[i, 0] * here[3] + normal[i, 1] * here[4] + normal[i, 2] * here[5]
        b = normal[i, 0] * here[6] + normal[i, 1] * here[7] + normal[i, 2] * here[8]
        c = normal[i, 0] * here[9] + normal[i, 1] * here[10] + normal[i, 2] * here[11]
        if kind == SPHERE:
            turn = (a * x + b * y + c * z) / max(np.sqrt(x * x + y * y + z * z), 1e-300)
        else:
            turn = flat * (a * x + b * y) / max(np.hypot(x, y), 1e-300) + up * c
        total += np.arccos(min(abs(turn), 1.0))
    return total / len(middle)


@njit(cache=True)
def _put(starts: Floats, m: int, kind: int, origin: Floats, axis: Floats, one: float, two: float) -> int:
    """A start noted, with any axes across."""
    x, z = np.empty(3), np.empty(3)
    long, least = np.sqrt(_dot(axis, axis)), 0
    for j in range(3):
        z[j] = axis[j] / long
        least = j if abs(z[j]) < abs(z[least]) else least
    for j in range(3):
        x[j] = (1.0 if j == least else 0.0) - z[least] * z[j]
    long = np.sqrt(_dot(x, x))
    for j in range(3):
        x[j] /= long
    row = starts[m]
    row[0] = kind
    for j in range(3):
        a, b = (j + 1) % 3, (j + 2) % 3
        row[1 + j], row[4 + j], row[10 + j] = origin[j], x[j], z[j]
        row[7 + j] = z[a] * x[b] - z[b] * x[a]
    row[13], row[14] = one, two
    return m + 1


@njit(cache=True)
def _mean(p: Floats) -> Floats:
    out = np.zeros(3)
    for i in range(len(p)):
        for k in range(3):
            out[k] += p[i, k]
    for k in range(3):
        out[k] /= len(p)
    return out


@njit(cache=True)
def _less(a: Floats, b: Floats, out: Floats) -> None:
    for k in range(3):
        out[k] = a[k] - b[k]


@njit(cache=True)
def _size(p: Floats) -> float:
    """The longest side of the box around points."""
    out = 0.0
    for k in range(3):
        low, high = p[0, k], p[0, k]
        for i in range(len(p)):
            low, high = min(low, p[i, k]), max(high, p[i, k])
        out = max(out, high - low)
    return out


@njit(cache=True)
def _gram(a: Floats, b: Floats) -> Floats:
    """The sums (3,3) of products of vectors (n,3), one of each pair of rows."""
    out = np.zeros((3, 3))
    for i in range(len(a)):
        for j in range(3):
            for k in range(3):
                out[j, k] += a[i, j] * b[i, k]
    return out


@njit(cache=True)
def _eigen(m: Floats) -> tuple[Floats, Floats]:
    """The eigenvalues of a symmetric matrix (3,3), the largest first, and its eigenvectors as rows (by rotations)."""
    a, v = np.empty((3, 3)), np.zeros((3, 3))
    for k in range(3):
        v[k, k] = 1.0
        for j in range(3):
            a[k, j] = 0.5 * (m[k, j] + m[j, k])
    for _ in range(30):
        off = abs(a[0, 1]) + abs(a[0, 2]) + abs(a[1, 2])
        if off <= 1e-300 or off < 1e-18 * (abs(a[0, 0]) + abs(a[1, 1]) + abs(a[2, 2])):
            break
        for p in range(2):
            for q in range(p + 1, 3):
                if a[p, q] == 0.0:
                    continue
                lean = (a[q, q] - a[p, p]) / (2.0 * a[p, q])
                t = 1.0 / (abs(lean) + np.sqrt(lean * lean + 1.0))
                t = t if lean >= 0.0 else -t
                c = 1.0 / np.sqrt(t * t + 1.0)
                s = t * c
                for k in range(3):
                    one, two = a[k, p], a[k, q]
                    a[k, p], a[k, q] = c * one - s * two, s * one + c * two
                for k in range(3):
                    one, two = a[p, k], a[q, k]
                    a[p, k], a[q, k] = c * one - s * two, s * one + c * two
                    one, two = v[p, k], v[q, k]
                    v[p, k], v[q, k] = c * one - s * two, s * one + c * two
    value = np.empty(3)
    for k in range(3):
        value[k] = a[k, k]
    for k in (0, 1, 0):
        if value[k] < value[k + 1]:
            value[k], value[k + 1] = value[k + 1], value[k]
            for j in range(3):
                v[k, j], v[k + 1, j] = v[k + 1, j], v[k, j]
    return value, v


@njit(cache=True)
def _dot(a: Floats, b: Floats) -> float:
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]


@njit(cache=True)
def _plane(p: Floats, n: Floats, starts: Floats, m: int) -> int:
    middle = _mean(p)
    q = np.empty((len(p), 3))
    for i in range(len(p)):
        _less(p[i], middle, q[i])
    axis = _eigen(_gram(q, q))[1][2]
    if _dot(axis, _mean(n)) < 0.0:
        for k in range(3):
            axis[k] = -axis[k]
    return _put(starts, m, PLANE, middle, axis, 0.0, 0.0)


@njit(cache=True)
def _cylinder(p: Floats, n: Floats, starts: Floats, m: int) -> int:
    value, ways = _eigen(_gram(n, n))
    if value[1] < 1e-6 * value[0]:
        return m  # all normals alike
    middle = _mean(p)
    rows, right, found, q = np.ones((len(p), 3)), np.empty(len(p)), np.empty(3), np.empty(3)
    for i in range(len(p)):
        _less(p[i], middle, q)
        x, y = _dot(q, ways[0]), _dot(q, ways[1])
        rows[i, 0], rows[i, 1], right[i] = 2.0 * x, 2.0 * y, -x * x - y * y
    rank = solved(rows, right, found, TOLD)
    radius = np.sqrt(max(found[2] + found[0] * found[0] + found[1] * found[1], 0.0))
    if rank < 3 or not 0.0 < radius < _LARGE * _size(p):
        return m
    for k in range(3):
        middle[k] += found[0] * ways[0, k] + found[1] * ways[1, k]
    return _put(starts, m, CYLINDER, middle, ways[2], radius, 0.0)


@njit(cache=True)
def _bent(p: Floats, cylinder: Floats, starts: Floats, m: int) -> int:
    """The torus that a cylinder bends to: where its spine is moved, leans and bends by the least squares of what points
    stand off it. Of a piece of a tube the normals meet the tangent of the spine nearly as well as the axis."""
    scale = _size(p)
    rows, right, found, q = np.ones((len(p), 7)), np.empty(len(p)), np.zeros(7), np.empty(3)
    for i in range(len(p)):
        q[0], q[1], q[2] = local_of(cylinder, p[i])
        away = max(np.hypot(q[0], q[1]), 1e-300)
        up = q[2] / scale
        for k in range(2):
            side = q[k] / away
            rows[i, k], rows[i, 2 + k], rows[i, 4 + k] = side, up * side, up * up * side
        right[i] = cylinder[12] - away
    if solved(rows, right, found, TOLD) < 7:
        return m
    bend = 2.0 * np.hypot(found[4], found[5]) / scale**2
    minor = cylinder[12] + found[6]
    if bend * _LARGE * scale < 1.0 or not 0.0 < minor < 1.0 / bend:
        return m
    long = np.hypot(found[4], found[5])
    toward = np.array([found[4] / long, found[5] / long, 0.0])
    along = np.array([found[2] / scale, found[3] / scale, 1.0])
    lean = _dot(toward, along) / _dot(along, along)
    for k in range(3):
        toward[k] -= lean * along[k]
    axis = np.array([along[1] * toward[2] - along[2] * toward[1], along[2] * toward[0] - along[0] * toward[2],
                     along[0] * toward[1] - along[1] * toward[0]])  # fmt: skip
    q[0], q[1], q[2] = found[0] + toward[0] / bend, found[1] + toward[1] / bend, toward[2] / bend
    origin, way = np.empty(3), np.zeros(3)
    for k in range(3):
        origin[k] = cylinder[k]
        for c in range(3):
            origin[k] += q[c] * cylinder[3 + 3 * c + k]
            way[k] += axis[c] * cylinder[3 + 3 * c + k]
    return _put(starts, m, TORUS, origin, way, 1.0 / bend, minor)


@njit(cache=True)
def _cone(p: Floats, n: Floats, starts: Floats, m: int) -> int:
    """Normals of a cone make one angle with its axis: n . axis = const; the apex solves (p - apex) . n = 0."""
    around, mean = np.empty((len(n), 3)), _mean(n)
    for i in range(len(n)):
        _less(n[i], mean, around[i])
    value, ways = _eigen(_gram(around, around))
    axis = ways[2]
    if value[1] < 1e-6 * max(value[0], 1e-24) or value[0] < 1e-6 * len(n):
        return m
    middle = _mean(p)
    rows, right, apex, q = np.empty((len(p), 3)), np.empty(len(p)), np.empty(3), np.empty(3)
    for i in range(len(p)):
        _less(p[i], middle, q)
        right[i] = -_dot(q, n[i])
        for k in range(3):
            rows[i, k] = n[i, k]
    if solved(rows, right, apex, TOLD) < 3 or np.sqrt(_dot(apex, apex)) > _LARGE * _size(p):
        return m
    if _dot(apex, axis) > 0.0:
        for k in range(3):
            axis[k] = -axis[k]
    lean = 0.0
    for i in range(len(n)):
        lean += abs(_dot(n[i], axis)) / len(n)
    angle = np.arcsin(min(lean, 1.0))
    if not 1e-3 < angle < np.pi / 2.0 - 1e-3:
        return m
    reach = -_dot(apex, axis)
    for k in range(3):
        middle[k] += apex[k] + reach * axis[k]
    return _put(starts, m, CONE, middle, axis, reach * np.tan(angle), angle)


@njit(cache=True)
def _sphere(p: Floats, starts: Floats, m: int) -> int:
    middle = _mean(p)
    rows, right, found, q = np.ones((len(p), 4)), np.empty(len(p)), np.empty(4), np.empty(3)
    for i in range(len(p)):
        _less(p[i], middle, q)
        for k in range(3):
            rows[i, k] = 2.0 * q[k]
        right[i] = -_dot(q, q)
    rank = solved(rows, right, found, TOLD)
    radius = np.sqrt(max(found[3] + _dot(found, found), 0.0))
    if rank < 4 or not 0.0 < radius < _LARGE * _size(p):
        return m
    for k in range(3):
        middle[k] += found[k]
        q[k] = 1.0 if k == 2 else 0.0
    return _put(starts, m, SPHERE, middle, q, radius, 0.0)


@njit(cache=True)
def _torus(p: Floats, n: Floats, starts: Floats, m: int, thick: float) -> int:
    """Minimises how far the axis, a line of which the direction has length one, misses the normals: a generalised
    eigenproblem."""
    middle, scale = _mean(p), _size(p)
    moments, q = np.empty((len(p), 3)), np.empty(3)
    for i in range(len(p)):
        _less(p[i], middle, q)
        for k in range(3):
            a, b = (k + 1) % 3, (k + 2) % 3
            moments[i, k] = (q[a] * n[i, b] - q[b] * n[i, a]) / scale
    inner, cross = _gram(moments, moments), _gram(n, moments)
    value, ways = _eigen(_gram(n, n))
    shift = np.zeros((3, 3))  # the inverse of the normals' own sums, where they tell it, times `cross`
    for e in range(3):
        if value[e] > 1e-10 * value[0]:
            for j in range(3):
                for k in range(3):
                    along = ways[e, 0] * cross[0, k] + ways[e, 1] * cross[1, k] + ways[e, 2] * cross[2, k]
                    shift[j, k] += ways[e, j] * along / value[e]
    for j in range(3):
        for k in range(3):
            inner[j, k] -= cross[0, j] * shift[0, k] + cross[1, j] * shift[1, k] + cross[2, j] * shift[2, k]
    axis = _eigen(inner)[1][2]
    foot = np.empty(3)
    for k in range(3):
        a, b = (k + 1) % 3, (k + 2) % 3
        foot[k] = middle[k] - scale * (axis[a] * _dot(shift[b], axis) - axis[b] * _dot(shift[a], axis))
    rows, right, found = np.ones((len(p), 3)), np.empty(len(p)), np.empty(3)
    for i in range(len(p)):
        _less(p[i], foot, q)
        high = _dot(q, axis)
        flat = np.sqrt(max(_dot(q, q) - high * high, 0.0))
        rows[i, 0], rows[i, 1], right[i] = 2.0 * flat, 2.0 * high, -flat * flat - high * high
    rank = solved(rows, right, found, TOLD)
    minor = np.sqrt(max(found[2] + found[0] * found[0] + found[1] * found[1], 0.0))
    if rank < 3 or not 0.0 < minor < _LARGE * scale or found[0] < thick * minor:
        return m
    for k in range(3):
        foot[k] += found[1] * axis[k]
    return _put(starts, m, TORUS, foot, axis, found[0], minor)
