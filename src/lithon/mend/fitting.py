"""Surfaces brought nearest to points: least squares on a surface's own numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, given, whole
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface

PLANE, SPHERE, CYLINDER, CONE, TORUS = (whole(kind) for kind in range(5))
#: The spine of a torus is at least such a share of its tube: where it is thinner, as at rounded ends of pins, the tube
#: crosses itself; where it is nothing, it is a sphere.
THICK = 0.05
#: How many times as wide as what lies on it a tube about a known axis may be.
_WIDE = 20.0
#: What is told by less than this share of what is told best is not told.
TOLD, _SURELY_TOLD = 1e-10, 1e-5
#: A step after which all stand off by so many times as much (squared) went too far: it is halved, so often.
_TOO_FAR, _HALVES = 1.001, 5
_KINDS: dict[type[Surface], int] = {Plane: PLANE, Sphere: SPHERE, Cylinder: CYLINDER, Cone: CONE, Torus: TORUS}


def torus_about(frame: Frame, p: Floats) -> Torus | None:
    """The torus about an axis, a frame's z, whose tube comes nearest to points (n,3); none where that is a plane, a
    sphere or of no sense."""
    scale = float(np.ptp(p, axis=0).max())
    local = frame.local(p)
    made = circle_through(np.column_stack([np.hypot(local[:, 0], local[:, 1]), local[:, 2]]))
    if made is None:
        return None
    (major, height), minor = made
    if minor >= 50.0 * scale or major < THICK * minor:
        return None
    return Torus(frame.shifted(height * frame.z), float(major), minor)


def rings_around(torus: Torus, p: Floats, near: float) -> Floats:
    """Where (radians, (k,) from one end) around a torus's tube there are rings on which all points (n,3) stand within
    `near` (mm); empty where some stand between. Through any three rings about an axis there is a torus."""
    local = torus.frame.local(p)
    around = np.sort(np.arctan2(local[:, 2], np.hypot(local[:, 0], local[:, 1]) - torus.major))
    open_at = int(np.argmax(np.append(np.diff(around), around[0] + 2.0 * np.pi - around[-1])))
    around = np.concatenate([around[open_at + 1 :], around[: open_at + 1] + 2.0 * np.pi])
    apart = np.flatnonzero(np.diff(around) > near / torus.minor)
    rings = np.split(around, apart + 1)
    if any(float(ring[-1] - ring[0]) > 2.0 * near / torus.minor for ring in rings):
        return np.zeros(0)
    return np.array([ring.mean() for ring in rings])


def circle_through(flat: Floats) -> tuple[Floats, float] | None:
    """The circle (its middle, its radius) nearest to points (n,2), by its equation; none where they stand in a line."""
    found, _, rank, _ = np.linalg.lstsq(np.column_stack([2.0 * flat, np.ones(len(flat))]), (flat**2).sum(axis=1), 1e-12)
    radius = float(np.sqrt(max(found[2] + found[:2] @ found[:2], 0.0)))
    return (found[:2], radius) if rank == 3 and radius > 0.0 else None


@njit(cache=True)
def tubes(away: Floats, along: Floats, near: float) -> Floats:
    """The tori about axes on which points lie within `near` (mm) that are as far `away` (k,n) from each and `along`
    (k,n) it: a row for each of the axis, the radius and height of its tube's middle, and that of its tube. The first
    three points must be on it, and more than half of all."""
    out, found = np.empty((len(away), 4)), 0
    n = away.shape[1]
    for k in range(len(away)):
        x, y, most = away[k], along[k], n // 2
        wide = max(x.max() - x.min(), y.max() - y.min())
        for a in range(3):
            for b in range(a + 1, n):
                for c in range(b + 1, n):
                    ux, uy, vx, vy = x[b] - x[a], y[b] - y[a], x[c] - x[a], y[c] - y[a]
                    turn = ux * vy - uy * vx
                    u, v = ux * ux + uy * uy, vx * vx + vy * vy
                    if turn * turn <= 1e-6 * u * v or min(u, v) <= 25.0 * near * near:
                        continue
                    r, z = x[a] + 0.5 * (vy * u - uy * v) / turn, y[a] + 0.5 * (ux * v - vx * u) / turn
                    tube = np.hypot(x[a] - r, y[a] - z)
                    if r < THICK * tube or tube > _WIDE * wide:
                        continue
                    good, other = 0, False
                    for i in range(n):
                        if abs(np.hypot(x[i] - r, y[i] - z) - tube) <= near:
                            good += 1
                            # any three rings lie on one
                            fresh = True
                            for j in (a, b, c):
                                fresh = fresh and np.hypot(x[i] - x[j], y[i] - y[j]) > 5.0 * near
                            other = other or fresh
                        elif i < 3:
                            good = -n
                            break
                    if good > most and other:
                        if found and out[found - 1, 0] == k:
                            found -= 1
                        most = good
                        out[found, 0], out[found, 1], out[found, 2], out[found, 3] = k, r, z, tube
                        found += 1
    return out[:found]


def refined(surface: Surface, p: Floats, rounds: int = 12) -> Surface:
    """A surface brought nearest to points (n,3), in the sense of least squares (Gauss-Newton on its own numbers; the
    distances and their slopes as in Shakarji, *Least-squares fitting algorithms of the NIST algorithm testing system*,
    1998)."""
    kind: Any = type(surface)
    frame, numbers = surface.frame, _numbers(surface)
    start = np.array(frame.origin), np.array((frame.x, frame.y, frame.z)), np.array(numbers, dtype=np.float64)
    moved, origin, axes, numbers = nearest(_KINDS[kind], *start, given(p), rounds)
    return kind(Frame.of(origin, axes[2], axes[0]), *numbers.tolist()) if moved else surface


@njit(cache=True)
def nearest(
    kind: int, origin: Floats, axes: Floats, numbers: Floats, p: Floats, rounds: int
) -> tuple[bool, Floats, Floats, Floats]:
    """What `refined` does, on a surface's frame (origin (3,), axes (3,3) as rows) and its numbers; whether it has
    come nearer."""
    n, m = len(p), len(numbers)
    # Where it stands, and where it tries: origin, axes, numbers.
    here, made = np.empty(12 + m), np.empty(12 + m)
    for k in range(3):
        here[k] = origin[k]
        for c in range(3):
            here[3 + 3 * k + c] = axes[k, c]
    for k in range(m):
        here[12 + k] = numbers[k]
    off, slopes, move = np.empty(n), np.zeros((n, 5 + m)), np.zeros(5 + m)
    cost, moved = _look(kind, here, p, off, slopes), False
    for _ in range(rounds):
        fresh = np.inf
        for least in (TOLD, _SURELY_TOLD):  # what a ring and an apex do not tell is rounding, and leads astray
            if moved and least > TOLD:
                break
            solved(slopes, off, move, least)
            for _ in range(_HALVES):
                if _moved(kind, here, move, made):
                    fresh = _look(kind, made, p, off, slopes)
                if fresh < _TOO_FAR * cost:
                    break
                move *= 0.5
            if fresh < cost:
                break
            _look(kind, here, p, off, slopes)
        if not fresh < cost:
            break
        here[:] = made
        moved, gain, cost = True, cost - fresh, fresh
        if gain < 1e-6 * cost or cost < 1e-26 * n:
            break
    return moved, here[:3].copy(), here[3:12].copy().reshape(3, 3), here[12:].copy()


@njit(cache=True)
def _moved(kind: int, here: Floats, move: Floats, made: Floats) -> bool:
    """A surface that is shifted along its axes, tilted, and of other numbers; whether there is one."""
    for k in range(12, len(here)):
        made[k] = here[k] + move[k - 7]
        if made[k] <= 0.0:
            return False
    for k in range(3):
        made[k] = here[k] + move[0] * here[3 + k] + move[1] * here[6 + k] + move[2] * here[9 + k]
    for k in range(3, 12):
        made[k] = here[k]
    if kind == SPHERE:
        return True
    size = 0.0
    for k in range(3):
        made[9 + k] = here[9 + k] + move[3] * here[3 + k] + move[4] * here[6 + k]
        size += made[9 + k] * made[9 + k]
    along = 0.0
    for k in range(3):
        made[9 + k] /= np.sqrt(size)
        along += made[9 + k] * here[3 + k]
    size = 0.0
    for k in range(3):
        made[3 + k] = here[3 + k] - along * made[9 + k]
        size += made[3 + k] * made[3 + k]
    for k in range(3):
        made[3 + k] /= np.sqrt(size)
    for k in range(3):
        a, b = (k + 1) % 3, (k + 2) % 3
        made[6 + k] = made[9 + a] * made[3 + b] - made[9 + b] * made[3 + a]
    return True


@njit(cache=True)
def _look(kind: int, here: Floats, p: Floats, off: Floats, slopes: Floats) -> float:
    """Fill in how far points stand off a surface, and how that changes; the sum of squares."""
    cost = 0.0
    for i in range(len(p)):
        x, y, z = local_of(here, p[i])
        off[i] = _slope(kind, here[12:], x, y, z, slopes[i])
        cost += off[i] * off[i]
    return cost


@njit(cache=True)
def solved(a: Floats, b: Floats, x: Floats, least: float) -> int:
    """The least squares solution x (k,) of a (n,k) x = -b (n,) by orthogonal columns, the longest that is left first;
    what is told apart from those before by no more than a share `least` becomes 0. The rank; overwrites a and b."""
    n, k = a.shape
    order, upper, right = np.full(k, -1), np.zeros((k, k)), np.zeros(k)
    done = np.zeros(k, dtype=np.bool_)
    first, rank = 0.0, 0
    for step in range(k):
        best, length = -1, 0.0
        for j in range(k):
            own = 0.0
            if not done[j]:
                for i in range(n):
                    own += a[i, j] * a[i, j]
            if own > length:
                best, length = j, own
        length = np.sqrt(length)
        first = max(first, length)
        if best < 0 or length <= least * first:
            break
        order[step], upper[step, best], done[best] = best, length, True
        rank = step + 1
        own = 0.0
        for i in range(n):
            a[i, best] /= length
            own -= a[i, best] * b[i]
        right[step] = own
        for i in range(n):
            b[i] += own * a[i, best]
        for j in range(k):
            if not done[j]:
                own = 0.0
                for i in range(n):
                    own += a[i, best] * a[i, j]
                upper[step, j] = own
                for i in range(n):
                    a[i, j] -= own * a[i, best]
    for j in range(k):
        x[j] = 0.0
    for step in range(rank - 1, -1, -1):
        own = right[step]
        for j in range(k):
            if j != order[step]:
                own -= upper[step, j] * x[j]
        x[order[step]] = own / upper[step, order[step]]
    return rank


#: How many numbers say where and how large a surface is.
_FREE = {Plane: 3, Sphere: 4, Cylinder: 5, Cone: 6, Torus: 7}


def freedoms(surface: Surface) -> int:
    """How many numbers say where a simple surface is, and how large."""
    return _FREE[type(surface)]


def _numbers(s: Surface) -> Floats:
    """The radii and angle of a simple surface, in the order in which it is made of them."""
    if isinstance(s, Cone):
        return np.array([s.radius, s.angle])
    if isinstance(s, Torus):
        return np.array([s.major, s.minor])
    return np.array([s.radius]) if isinstance(s, Cylinder | Sphere) else np.zeros(0)


def slopes_of(kind: type[Surface], numbers: Floats, local: Floats) -> tuple[Floats, Floats]:
    """Signed distances (n,) of points in a surface's frame (n,3), and how they change (n,5+k) with a shift along the
    frame's axes, a tilt of its z towards x and y, and the surface's numbers. What changes nothing stays 0."""
    off, slopes = np.empty(len(local)), np.zeros((len(local), 5 + len(numbers)))
    here = np.concatenate([np.zeros(3), np.eye(3).ravel(), numbers])
    _look(_KINDS[kind], here, given(local), off, slopes)
    return off, slopes


@njit(cache=True)
def stand(kind: int, numbers: Floats, x: float, y: float, z: float) -> tuple[float, float, float]:
    """The signed distance of one point from a surface, and the parts of the normal beside it away from the axis (the
    centre of a sphere) and along it."""
    if kind == SPHERE:
        return np.sqrt(x * x + y * y + z * z) - numbers[0], 1.0, 0.0
    if kind == PLANE:
        return z, 0.0, 1.0
    across = np.hypot(x, y) - numbers[0]
    if kind == TORUS:
        far = max(np.hypot(across, z), 1e-300)
        return far - numbers[1], across / far, z / far
    if kind == CONE:
        cos, sin = np.cos(numbers[1]), np.sin(numbers[1])
        return across * cos - z * sin, cos, -sin
    return across, 1.0, 0.0


@njit(cache=True)
def _slope(kind: int, numbers: Floats, x: float, y: float, z: float, out: Floats) -> float:
    """The signed distance of one point and, filled in, how it changes."""
    off, flat, up = stand(kind, numbers, x, y, z)
    for k in range(len(out)):
        out[k] = 0.0
    if kind == SPHERE:
        far = max(off + numbers[0], 1e-300)
        out[0], out[1], out[2], out[5] = -x / far, -y / far, -z / far, -1.0
        return off
    if kind == PLANE:
        out[2], out[3], out[4] = -1.0, x, y
        return off
    rho = max(np.hypot(x, y), 1e-300)
    if kind == TORUS:
        out[2], out[5], out[6] = -up, -flat, -1.0
    elif kind == CONE:
        out[5], out[6] = -flat, (rho - numbers[0]) * up - z * flat
    else:
        out[5] = -1.0
    # On the axis, at an apex, there is no way away from it.
    far = 0.0 if rho <= 1e-9 * (numbers[0] + abs(z)) else flat / rho
    nx, ny = far * x, far * y
    out[0], out[1] = -nx, -ny
    out[3], out[4] = up * x - nx * z, up * y - ny * z
    return off


def placed(surface: Surface) -> tuple[int, Floats]:
    """A simple surface as compiled code takes it: its kind; origin, axes and numbers in one row."""
    frame = surface.frame
    return _KINDS[type(surface)], given(np.concatenate([frame.origin, frame.x, frame.y, frame.z, _numbers(surface)]))


@njit(cache=True)
def spread(
    kind: int, here: Floats, starts: Ints, other: Ints, label: Ints, points: Floats, corners: Ints, normal: Floats,
    near: float, lean: Floats, seed: int, seen: Ints, queue: Ints, walk: int,
) -> Ints:  # fmt: skip
    """The triangles of no patch (label (m,) below 0) that hang together with a seed, have their corners within `near`
    of a surface (as `placed` gives it) and look as it does beside the seed but for a turn, whose cosine is at least
    what `lean` (m,) says of each; with room for a walk, as `Marks` has it."""
    queue[0], head, tail, sense = seed, 0, 1, 0.0
    seen[seed] = walk
    kept = np.int64(0)
    while head < tail:
        i = queue[head]
        head += 1
        good = label[i] < 0
        for k in range(3):
            if good:
                x, y, z = local_of(here, points[corners[i, k]])
                good = abs(stand(kind, here[12:], x, y, z)[0]) <= near
        if good:
            turn = facing(kind, here, corners[i], points, normal[i])
            if sense == 0.0:
                sense = 1.0 if turn > 0.0 else -1.0
            good = turn * sense > lean[i]
        if not good:
            if kept == 0:
                break
            continue
        queue[kept] = i  # what was looked at before is known: its place is free
        kept += 1
        for k in range(starts[i], starts[i + 1]):
            j = other[k]
            if seen[j] != walk:
                seen[j] = walk
                queue[tail] = j
                tail += 1
    return queue[:kept].copy()


@njit(cache=True)
def facing(kind: int, here: Floats, corners: Ints, points: Floats, normal: Floats) -> float:
    """The cosine between the normal (3,) of a triangle and a surface's (as `placed` gives it) at its middle."""
    x, y, z = 0.0, 0.0, 0.0
    for k in range(3):
        u, v, w = local_of(here, points[corners[k]])
        x, y, z = x + u / 3.0, y + v / 3.0, z + w / 3.0
    _, flat, up = stand(kind, here[12:], x, y, z)
    a = normal[0] * here[3] + normal[1] * here[4] + normal[2] * here[5]
    b = normal[0] * here[6] + normal[1] * here[7] + normal[2] * here[8]
    c = normal[0] * here[9] + normal[1] * here[10] + normal[2] * here[11]
    if kind == SPHERE:
        return (a * x + b * y + c * z) / max(np.sqrt(x * x + y * y + z * z), 1e-300)
    return flat * (a * x + b * y) / max(np.hypot(x, y), 1e-300) + up * c


@njit(cache=True)
def local_of(here: Floats, p: Floats) -> tuple[float, float, float]:
    a, b, c = p[0] - here[0], p[1] - here[1], p[2] - here[2]
    return (
        a * here[3] + b * here[4] + c * here[5], a * here[6] + b * here[7] + c * here[8],
        a * here[9] + b * here[10] + c * here[11],
    )  # fmt: skip
