"""How a node slides on the surface that holds it, for the kernels of `improve`.

A place is eight numbers: a point of the axis (the apex of a cone), the axis, normal or direction, and two sizes:
cylinder and sphere their radius; cone the sine and cosine of its half angle; torus both its radii.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, whole

#: What may move how.
FIXED, FREE, ON_PLANE, ON_CYLINDER, ON_SPHERE, ON_CONE, ON_TORUS, ON_LINE = (whole(k) for k in range(8))


@njit(cache=True)
def _split(place: Floats, p: Floats) -> tuple[float, float, float, float, float]:
    """Height along the axis, distance from it, and the unit vector away from it."""
    x, y, z = p[0] - place[0], p[1] - place[1], p[2] - place[2]
    h = x * place[3] + y * place[4] + z * place[5]
    rx, ry, rz = x - h * place[3], y - h * place[4], z - h * place[5]
    r = np.sqrt(rx * rx + ry * ry + rz * rz)
    s = 1.0 / max(r, 1e-300)
    return h, r, rx * s, ry * s, rz * s


@njit(cache=True)
def away(kind: int, place: Floats, p: Floats) -> tuple[float, float, float]:
    """The surface's unit normal at a point on it."""
    if kind == ON_PLANE:
        return place[3], place[4], place[5]
    if kind == ON_SPHERE:
        x, y, z = p[0] - place[0], p[1] - place[1], p[2] - place[2]
        s = 1.0 / max(np.sqrt(x * x + y * y + z * z), 1e-300)
        return x * s, y * s, z * s
    h, r, rx, ry, rz = _split(place, p)
    a, b = 1.0, 0.0
    if kind == ON_CONE:
        a, b = place[7], -place[6]
    elif kind == ON_TORUS:
        a, b = r - place[6], h
        s = 1.0 / max(np.sqrt(a * a + b * b), 1e-300)
        a, b = a * s, b * s
    return a * rx + b * place[3], a * ry + b * place[4], a * rz + b * place[5]


@njit(cache=True)
def onto(kind: int, place: Floats, p: Floats) -> None:
    """Bring a point back onto its surface."""
    if kind < ON_PLANE:
        return
    if kind == ON_PLANE:
        d = (p[0] - place[0]) * place[3] + (p[1] - place[1]) * place[4] + (p[2] - place[2]) * place[5]
        for i in range(3):
            p[i] -= d * place[3 + i]
        return
    if kind == ON_SPHERE:
        x, y, z = away(kind, place, p)
        p[0], p[1], p[2] = place[0] + place[6] * x, place[1] + place[6] * y, place[2] + place[6] * z
        return
    h, r, rx, ry, rz = _split(place, p)
    if kind == ON_LINE:
        r = 0.0
    elif kind == ON_CYLINDER:
        r = place[6]
    elif kind == ON_CONE:
        slant = max(r * place[6] + h * place[7], 0.0)
        r, h = slant * place[6], slant * place[7]
    else:
        u, v = r - place[6], h
        s = place[7] / max(np.sqrt(u * u + v * v), 1e-300)
        r, h = place[6] + u * s, v * s
    p[0] = place[0] + h * place[3] + r * rx
    p[1] = place[1] + h * place[4] + r * ry
    p[2] = place[2] + h * place[5] + r * rz
