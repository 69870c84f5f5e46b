"""Surfaces brought nearest to points: least squares on a surface's own numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

from lithon.arrays import Floats, cross_product, given
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface

_PLANE, _SPHERE, _CYLINDER, _CONE, _TORUS = range(5)
_KINDS: dict[type[Surface], int] = {Plane: _PLANE, Sphere: _SPHERE, Cylinder: _CYLINDER, Cone: _CONE, Torus: _TORUS}


def torus_near(p: Floats, n: Floats) -> Surface | None:
    """A torus about the axis that all normals meet: the linear complex nearest to them (Pottmann & Wallner 2001)."""
    middle = p.mean(axis=0)
    scale = float(np.ptp(p, axis=0).max())
    q = (p - middle) / scale
    rows = np.concatenate([cross_product(q, n), n], axis=1)
    # Minimise |rows x| with the direction part of length one: a generalised eigenproblem.
    m = rows.T @ rows
    inner = m[:3, :3] - m[:3, 3:] @ np.linalg.pinv(m[3:, 3:], rcond=1e-10) @ m[3:, :3]
    axis = np.linalg.eigh(inner)[1][:, 0]
    moment = -np.linalg.pinv(m[3:, 3:], rcond=1e-10) @ m[3:, :3] @ axis
    foot = middle + scale * cross_product(axis, moment)
    frame = Frame.of(foot, axis)
    local = frame.local(p)
    flat = np.column_stack([np.hypot(local[:, 0], local[:, 1]), local[:, 2]])
    rows2 = np.column_stack([2.0 * flat, np.ones(len(flat))])
    found, _, rank, _ = np.linalg.lstsq(rows2, (flat**2).sum(axis=1), rcond=1e-12)
    if rank < 3:
        return None
    minor = float(np.sqrt(max(found[2] + found[:2] @ found[:2], 0.0)))
    major = float(found[0])
    if not 0.0 < minor < 50.0 * scale or major < minor * 1.0001:
        return None
    return Torus(frame.shifted(found[1] * frame.z), major, minor)


def refined(surface: Surface, p: Floats, rounds: int = 12) -> Surface:
    """A surface brought nearest to points (n,3), in the sense of least squares (Gauss-Newton on its own numbers; the
    distances and their slopes as in Shakarji, *Least-squares fitting algorithms of the NIST algorithm testing system*,
    1998)."""
    kind: Any = type(surface)
    frame, numbers = surface.frame, _numbers(surface)
    axes = given(np.array((frame.x, frame.y, frame.z)))
    moved, origin, axes, numbers = _nearest(_KINDS[kind], given(frame.origin), axes, given(numbers), given(p), rounds)
    return kind(Frame.of(origin, axes[2], axes[0]), *numbers.tolist()) if moved else surface


@njit(cache=True)
def _nearest(
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
        _solved(slopes, off, move)
        if not _moved(kind, here, move, made):
            break
        fresh = _look(kind, made, p, off, slopes)
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
    if kind == _SPHERE:
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
    numbers, local, cost = here[12:], np.empty(3), 0.0
    for i in range(len(p)):
        for k in range(3):
            local[k] = 0.0
            for c in range(3):
                local[k] += (p[i, c] - here[c]) * here[3 + 3 * k + c]
        off[i] = _slope(kind, numbers, local[0], local[1], local[2], slopes[i])
        cost += off[i] * off[i]
    return cost


@njit(cache=True)
def _solved(a: Floats, b: Floats, x: Floats) -> None:
    """The least squares solution x (k,) of a (n,k) x = -b (n,) by orthogonal columns, the longest that is left first;
    what is not told apart from those before becomes 0. Overwrites a and b."""
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
        if best < 0 or length <= 1e-10 * first:
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
def _slope(kind: int, numbers: Floats, x: float, y: float, z: float, out: Floats) -> float:
    """The signed distance of one point and, filled in, how it changes."""
    for k in range(len(out)):
        out[k] = 0.0
    if kind == _SPHERE:
        far = max(np.sqrt(x * x + y * y + z * z), 1e-300)
        out[0], out[1], out[2], out[5] = -x / far, -y / far, -z / far, -1.0
        return far - numbers[0]
    if kind == _PLANE:
        out[2], out[3], out[4] = -1.0, x, y
        return z
    rho = max(np.hypot(x, y), 1e-300)
    flat, up, off = 1.0, 0.0, rho - numbers[0]
    if kind == _TORUS:
        far = max(np.hypot(off, z), 1e-300)
        flat, up = off / far, z / far
        off = far - numbers[1]
        out[2], out[5], out[6] = -up, -flat, -1.0
    elif kind == _CONE:
        flat, up = np.cos(numbers[1]), -np.sin(numbers[1])
        out[5], out[6] = -flat, off * up - z * flat
        off = off * flat + z * up
    else:
        out[5] = -1.0
    nx, ny = flat * x / rho, flat * y / rho
    out[0], out[1] = -nx, -ny
    out[3], out[4] = up * x - nx * z, up * y - ny * z
    return off
