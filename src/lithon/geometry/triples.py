"""Sides and normals of triangles, compiled: corners are rows of points (n,3)."""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats

Vector = tuple[float, float, float]


@njit(cache=True)
def cross(p: Floats, a: int, b: int, c: int) -> Vector:
    """Twice the area of a triangle along its normal."""
    ux, uy, uz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    wx, wy, wz = p[c, 0] - p[a, 0], p[c, 1] - p[a, 1], p[c, 2] - p[a, 2]
    return uy * wz - uz * wy, uz * wx - ux * wz, ux * wy - uy * wx


@njit(cache=True)
def length(p: Floats, a: int, b: int) -> float:
    """How far two points are apart."""
    x, y, z = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    return float(np.sqrt(x * x + y * y + z * z))


@njit(cache=True)
def cosine(a: Vector, b: Vector) -> float:
    """Of the angle between two vectors; 1 where one has no length."""
    both = (a[0] ** 2 + a[1] ** 2 + a[2] ** 2) * (b[0] ** 2 + b[1] ** 2 + b[2] ** 2)
    return (a[0] * b[0] + a[1] * b[1] + a[2] * b[2]) / both**0.5 if both > 0.0 else 1.0
