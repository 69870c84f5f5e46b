"""Where two surfaces meet, and where a curve meets a surface, in closed form.

Covers planes and cylinders. What has no closed form here raises `Refusal`: the caller's model
stays as it was. Tangential contacts are returned as the line that they are.
"""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, frozen, unit
from lithon.errors import Refusal
from lithon.geometry.curves import TURN, Circle, Curve, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tolerance import ANGULAR


def meet(a: Surface, b: Surface, tolerance: float = 1e-7) -> list[Curve]:
    """The curves common to two surfaces that do not coincide; empty where they do not meet."""
    if isinstance(a, Plane) and isinstance(b, Plane):
        return _planes(a, b)
    if isinstance(a, Plane) and isinstance(b, Cylinder):
        return _plane_cylinder(a, b, tolerance)
    if isinstance(a, Cylinder) and isinstance(b, Plane):
        return _plane_cylinder(b, a, tolerance)
    if isinstance(a, Cylinder) and isinstance(b, Cylinder):
        return _cylinders(a, b, tolerance)
    raise Refusal(f"a {a.kind} and a {b.kind} cannot be intersected yet")


def _planes(a: Plane, b: Plane) -> list[Curve]:
    direction = np.cross(a.frame.z, b.frame.z)
    if np.linalg.norm(direction) < ANGULAR:
        return []
    direction = unit(direction)
    # The point of the line nearest to the middle of both origins keeps numbers small.
    middle = 0.5 * (a.frame.origin + b.frame.origin)
    rows = np.stack([a.frame.z, b.frame.z, direction])
    right = np.array([a.frame.z @ a.frame.origin, b.frame.z @ b.frame.origin, direction @ middle])
    return [Line(frozen(np.linalg.solve(rows, right)), frozen(direction))]


def _plane_cylinder(p: Plane, c: Cylinder, tolerance: float) -> list[Curve]:
    n, axis = p.frame.z, c.frame.z
    along = float(n @ axis)
    side = float(np.linalg.norm(np.cross(n, axis)))
    if side < ANGULAR:
        height = float((p.frame.origin - c.frame.origin) @ n) / along
        return [Circle.about(Frame.of(c.frame.origin + height * axis, axis, c.frame.x), c.radius)]
    if abs(along) < ANGULAR:
        toward = unit(n - along * axis)
        d = -float(p.signed_distance(c.frame.origin))
        across = np.cross(axis, toward)
        if abs(d) > c.radius + tolerance:
            return []
        foot = c.frame.origin + d * toward
        if abs(abs(d) - c.radius) <= tolerance:
            return [Line(frozen(c.frame.origin + np.sign(d) * c.radius * toward), frozen(axis))]
        half = float(np.sqrt(c.radius**2 - d**2))
        return [Line(frozen(foot + s * half * across), frozen(axis)) for s in (-1.0, 1.0)]
    t = float((p.frame.origin - c.frame.origin) @ n) / along
    centre = c.frame.origin + t * axis
    long = unit(axis - along * n) * np.sign(along)
    return [Ellipse(Frame.of(centre, n * np.sign(along), long), c.radius / abs(along), c.radius)]


def _cylinders(a: Cylinder, b: Cylinder, tolerance: float) -> list[Curve]:
    if np.linalg.norm(np.cross(a.frame.z, b.frame.z)) < ANGULAR:
        return _parallel_cylinders(a, b, tolerance)
    # Equal radii with crossing axes part into two plane ellipses (the one closed case besides).
    normal = unit(np.cross(a.frame.z, b.frame.z))
    gap = abs(float((b.frame.origin - a.frame.origin) @ normal))
    if abs(a.radius - b.radius) <= tolerance and gap <= tolerance:
        rows = np.stack([a.frame.z, -b.frame.z, normal], axis=1)
        s = np.linalg.solve(rows, b.frame.origin - a.frame.origin)
        crossing = a.frame.origin + s[0] * a.frame.z
        out: list[Curve] = []
        for sign in (1.0, -1.0):
            out += _plane_cylinder(Plane.of(crossing, a.frame.z + sign * b.frame.z), a, tolerance)
        return out
    reach = float(np.linalg.norm(np.cross(b.frame.origin - a.frame.origin, normal)))
    if gap > a.radius + b.radius + tolerance and reach >= 0.0:
        return []
    raise Refusal(
        "two cylinders with crossing axes and unlike radii have no closed intersection yet",
        remedy="clear or cut one of them first",
    )


def _parallel_cylinders(a: Cylinder, b: Cylinder, tolerance: float) -> list[Curve]:
    away = b.frame.origin - a.frame.origin
    away = away - float(away @ a.frame.z) * a.frame.z
    d = float(np.linalg.norm(away))
    if d <= tolerance or d > a.radius + b.radius + tolerance or d < abs(a.radius - b.radius) - tolerance:
        return []
    toward = away / d
    x = (d * d + a.radius**2 - b.radius**2) / (2.0 * d)
    y2 = a.radius**2 - x * x
    foot = a.frame.origin + x * toward
    if y2 <= tolerance * max(a.radius, b.radius):
        return [Line(frozen(foot), a.frame.z)]
    across = np.cross(a.frame.z, toward) * float(np.sqrt(y2))
    return [Line(frozen(foot - across), a.frame.z), Line(frozen(foot + across), a.frame.z)]


def cross(curve: Curve, surface: Surface, t0: float, t1: float, tolerance: float = 1e-7) -> Floats:
    """Parameters (n,) in [t0, t1], sorted, where a curve meets a surface that does not hold it."""
    found = _line_roots(curve, surface) if isinstance(curve, Line) else _roots(curve, surface, t0, t1, tolerance)
    if curve.period is not None and found.size:
        found = t0 + np.mod(found - t0, curve.period)
    speed = float(np.linalg.norm(curve.derivative(np.array([t0]))))
    margin = tolerance / max(speed, 1e-300)
    found = np.sort(found[(found >= t0 - margin) & (found <= t1 + margin)])
    if found.size > 1:
        found = found[np.concatenate([[True], np.diff(found) > margin])]
    return np.asarray(found)


def _line_roots(line: Line, surface: Surface) -> Floats:
    if isinstance(surface, Plane):
        slope = float(line.direction @ surface.frame.z)
        if abs(slope) < ANGULAR:
            return np.zeros(0)
        return np.array([-float(surface.signed_distance(line.origin)) / slope])
    if isinstance(surface, Cylinder):
        p, d = surface.frame.local(line.origin), surface.frame.local(line.origin + line.direction)
        d = d - p
        a, b = float(d[0] ** 2 + d[1] ** 2), float(p[0] * d[0] + p[1] * d[1])
        c = float(p[0] ** 2 + p[1] ** 2) - surface.radius**2
        if a < ANGULAR**2:
            return np.zeros(0)
        disc = b * b - a * c
        touch = 1e-14 * (b * b + abs(a * c))
        if disc < -touch:
            return np.zeros(0)
        root = float(np.sqrt(max(disc, 0.0)))
        return np.array([(-b - root) / a, (-b + root) / a])
    raise Refusal(f"a line and a {surface.kind} cannot be intersected yet")


def _roots(curve: Curve, surface: Surface, t0: float, t1: float, tolerance: float) -> Floats:
    """Ellipse or circle on a plane in closed form, on a cylinder by bracketing and bisection."""
    if isinstance(curve, Ellipse) and isinstance(surface, Plane):
        n = surface.frame.z
        a, b = curve.major * float(curve.frame.x @ n), curve.minor * float(curve.frame.y @ n)
        c = float(surface.signed_distance(curve.frame.origin))
        size = float(np.hypot(a, b))
        if size < ANGULAR * curve.major or abs(c) > size + tolerance:
            return np.zeros(0)
        turn = np.arctan2(b, a)
        half = float(np.arccos(np.clip(-c / size, -1.0, 1.0)))
        return np.mod(np.array([turn - half, turn + half]), TURN)
    t = np.linspace(t0, t1, 241)
    f = surface.signed_distance(curve.point(t))
    at = np.flatnonzero(f[:-1] * f[1:] < 0.0)
    low, high, sign = t[at], t[at + 1], np.sign(f[at])
    for _ in range(60):
        middle = 0.5 * (low + high)
        same = np.sign(surface.signed_distance(curve.point(middle))) == sign
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    touching = t[np.abs(f) <= tolerance]
    return np.concatenate([0.5 * (low + high), touching])
