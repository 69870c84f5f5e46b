"""Surfaces of revolution about one axis meet in circles: their profiles are lines and circles in the
half-plane (distance from the axis r, height z), and meet there in points."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.geometry.curves import Circle, Curve
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tolerance import ANGULAR

#: ("line", a, b, c): a r + b z = c with a^2 + b^2 = 1. ("circle", r, z, radius, 0).
_Profile = tuple[str, float, float, float]


def coaxial(a: Surface, b: Surface, tolerance: float) -> list[Curve] | None:
    """The circles in which two surfaces about one axis meet; None where they have no common axis."""
    if isinstance(a, Sphere) and isinstance(b, Sphere) and np.allclose(a.frame.origin, b.frame.origin, 0.0, tolerance):
        return []
    frame = _common_axis(a, b, tolerance)
    if frame is None:
        return None
    one, other = _profile(a, frame), _profile(b, frame)
    out: list[Curve] = []
    for r, z in _points(one, other, tolerance):
        if r <= tolerance:
            continue
        at = frame.origin + z * frame.z + r * frame.x
        if max(abs(float(s.signed_distance(at))) for s in (a, b)) > 10.0 * tolerance:
            continue  # on the other nappe, or beyond the axis
        out.append(Circle.about(Frame(frozen(frame.origin + z * frame.z), frame.x, frame.y, frame.z), r))
    return out


def _common_axis(a: Surface, b: Surface, tolerance: float) -> Frame | None:
    kinds = (Plane, Cylinder, Cone, Sphere, Torus)
    if not isinstance(a, kinds) or not isinstance(b, kinds):
        return None
    turned = [s for s in (a, b) if isinstance(s, (Cylinder, Cone, Torus))]
    if turned:
        frame = turned[0].frame
    else:
        centre = next((s.frame.origin for s in (a, b) if isinstance(s, Sphere)), None)
        if centre is None:
            return None
        plane = next((s for s in (a, b) if isinstance(s, Plane)), None)
        way = plane.frame.z if plane is not None else b.frame.origin - a.frame.origin
        if np.linalg.norm(way) <= tolerance:
            return None
        frame = Frame.of(centre, unit(way))
    for s in (a, b):
        away = frame.local(s.frame.origin)
        off = float(np.hypot(away[0], away[1]))
        tilted = float(np.linalg.norm(cross_product(s.frame.z, frame.z))) > ANGULAR
        if isinstance(s, Plane):
            if tilted:
                return None
        elif off > tolerance or (tilted and not isinstance(s, Sphere)):
            return None
    return frame


def _profile(s: Surface, frame: Frame) -> _Profile:
    z = float(frame.local(s.frame.origin)[2])
    if isinstance(s, Plane):
        return ("line", 0.0, 1.0, z)
    if isinstance(s, Cylinder):
        return ("line", 1.0, 0.0, s.radius)
    if isinstance(s, Cone):
        way = float(np.sign(s.frame.z @ frame.z))
        a, b = float(np.cos(s.angle)), -way * float(np.sin(s.angle))
        return ("line", a, b, a * s.radius + b * z)
    if isinstance(s, Torus):
        return ("circle", s.major, z, s.minor)
    assert isinstance(s, Sphere)
    return ("circle", 0.0, z, s.radius)


def _points(one: _Profile, other: _Profile, tolerance: float) -> Floats:
    """Common points (n,2) of two profiles; touching ones once."""
    if one[0] == "circle" and other[0] == "line":
        one, other = other, one
    if one[0] == "line" and other[0] == "line":
        det = one[1] * other[2] - one[2] * other[1]
        if abs(det) < ANGULAR:
            return np.zeros((0, 2))
        return np.array([[one[3] * other[2] - one[2] * other[3], one[1] * other[3] - one[3] * other[1]]]) / det
    if one[0] == "line":
        n, centre, radius = np.array(one[1:3]), np.array(other[1:3]), other[3]
        d = one[3] - float(n @ centre)
        foot = centre + d * n
        across = np.array([-n[1], n[0]])
    else:
        c1, c2, r1, r2 = np.array(one[1:3]), np.array(other[1:3]), one[3], other[3]
        gap = float(np.linalg.norm(c2 - c1))
        if gap <= tolerance:
            return np.zeros((0, 2))
        n = (c2 - c1) / gap
        d, radius = (gap * gap + r1 * r1 - r2 * r2) / (2.0 * gap), r1
        foot, across = c1 + d * n, np.array([-n[1], n[0]])
        # How near to touching is told by the gap, not by d, which amplifies it.
        slack = min(abs(gap - r1 - r2), abs(gap - abs(r1 - r2)))
        if slack <= tolerance:
            return np.array([c1 + np.sign(d) * r1 * n])
    if abs(abs(d) - radius) <= tolerance:
        return np.array([foot])
    if abs(d) > radius:
        return np.zeros((0, 2))
    half = float(np.sqrt(radius * radius - d * d))
    return np.array([foot - half * across, foot + half * across])
