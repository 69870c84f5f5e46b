"""Cylindrical coordinates about a frame's z, shared by the surfaces that have an axis."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.geometry.frames import Frame

TURN = 2.0 * np.pi


def polar(frame: Frame, points: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Distance from the axis (n,), height (n,), angle (n,) and unit radial vectors (n,3)."""
    p = frame.local(points)
    r, angle = np.hypot(p[..., 0], p[..., 1]), np.arctan2(p[..., 1], p[..., 0])
    return r, p[..., 2], np.mod(angle, TURN), radial(frame, angle)


def radial(frame: Frame, angle: Floats) -> Floats:
    return np.multiply.outer(np.cos(angle), frame.x) + np.multiply.outer(np.sin(angle), frame.y)


def around(frame: Frame, angle: Floats) -> Floats:
    return np.multiply.outer(-np.sin(angle), frame.x) + np.multiply.outer(np.cos(angle), frame.y)


def same_axis(a: Frame, b: Frame, tolerance: float, reach: float) -> bool:
    away = a.local(b.origin)
    tilt = float(np.linalg.norm(cross_product(a.z, b.z)))
    return tilt * reach <= tolerance and float(np.hypot(away[0], away[1])) <= tolerance
