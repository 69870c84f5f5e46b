"""The line or circle along which two surfaces run into each other without a crease.

Where surfaces are tangent, their intersection is ill conditioned: the least error parts them, or makes them cross
twice. What is told there is where the border of their patches runs. It is a line or a circle for planes, cylinders,
cones, spheres and tori as blends join them, and is taken for one where it lies on both surfaces.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, cross_product, unit
from lithon.brep.analysis.fits import circle_through
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.elementary import in_numbers, least_strain
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Surface
from lithon.mend.tangency import touching_curves

#: Surfaces whose normals part by less (radians) all along their border run into each other without a crease.
_TANGENT = np.radians(3.0)
#: How many times as far as corners stand off two surfaces they may stand off where those meet.
_SCATTER = 3.0


def tangent_curve(
    a: Surface, b: Surface, line: Floats, ends: Sequence[Floats], near: float, far: float
) -> Curve | None:
    """The line or circle along the border (n,3) of two patches that are tangent to each other there, through its `ends`
    (none of a ring), within `far` (mm) of the border and `near` of both surfaces. None where there is none such."""
    touching = touching_curve(a, b, line, near, far)
    if touching is not None and _lies(touching, (a, b), line, ends, near, strayed(a, b, far, touching)):
        return touching
    across = np.abs((a.normal(line) * b.normal(line)).sum(axis=1))
    if across.min() < np.cos(_TANGENT):
        return None
    if len(ends) == 2 and not (ends[0] == ends[1]).all():
        straight: Curve = Line.through(ends[0], ends[1])
        if _lies(straight, (a, b), line, ends, near, far):
            return straight
    for circle in _circles(a, b, line):
        if _lies(circle, (a, b), line, ends, near, far):
            return circle
    return None


def touching_curve(a: Surface, b: Surface, line: Floats, near: float, far: float) -> Curve | None:
    """The line or circle along which two surfaces touch, where the border (n,3) of their patches runs; none where they
    do not touch within `near` (mm). `far`: how far corners stand off them."""
    if any(float(np.abs(s.signed_distance(line)).max()) > far for s in (a, b)):
        return None
    best: tuple[float, Curve] | None = None
    for curve in touching_curves(a, b):
        t = curve.parameter(line)
        on = curve.point(t)
        away = float(np.linalg.norm(on - line, axis=1).max())
        if away > strayed(a, b, far, curve) or (best is not None and away >= best[0]):
            continue
        if any(float(np.abs(s.signed_distance(on)).max()) > near for s in (a, b)):
            continue
        if float(np.abs((a.normal(on) * b.normal(on)).sum(axis=1)).min()) > np.cos(_TANGENT):
            best = away, curve
    return None if best is None else best[1]


def scatter_of(off: Sequence[float]) -> float:
    """How far (mm) corners where patches meet may stand off where their surfaces do; `off`: how far they do off the
    surface of each."""
    return _SCATTER * max(off, default=0.0)


def strayed(a: Surface, b: Surface, far: float, curve: Curve | None = None) -> float:
    """How far (mm) the border of two patches strays from where their surfaces touch, when corners stand off them by
    some distance: as far as they part by less. `curve`: the one along which they touch; around the tube of a torus,
    where its spine leaves an axis sideways, they part by the square of that."""
    for s in (a, b):
        if isinstance(s, Torus) and isinstance(curve, Circle) and abs(float(curve.frame.z @ s.frame.z)) < 0.1:
            return far + float(np.sqrt(2.0 * s.major * np.sqrt(2.0 * s.minor * far)))
    bends = [float(r) for s in (a, b) for name in ("radius", "major", "minor") if (r := getattr(s, name, None))]
    return far + float(np.sqrt(2.0 * max(bends, default=0.0) * far))


def _lies(
    curve: Curve, surfaces: tuple[Surface, Surface], line: Floats, ends: Sequence[Floats], near: float, far: float
) -> bool:
    """Whether a curve passes points (n,3) and ends, and lies on two surfaces between them."""
    every = np.concatenate([line, *(end[None] for end in ends)])
    t = curve.parameter(every)
    away = np.linalg.norm(curve.point(t) - every, axis=1)
    if away.max() > far or away[len(line) :].max(initial=0.0) > near:
        return False
    if curve.period is not None:
        t = np.unwrap(t, period=curve.period)
    between = curve.point(np.linspace(t.min(), t.max(), 4 * len(line)))
    return all(float(np.abs(s.signed_distance(between)).max()) <= near for s in surfaces)


def _circles(a: Surface, b: Surface, line: Floats) -> list[Circle]:
    """Circles along points (n,3): about the axes of the two surfaces first, then the one nearest to the points."""
    if len(line) < 3:
        return []
    out = []
    for s in (a, b):
        if isinstance(s, Cylinder | Cone | Torus):
            local = s.frame.local(line)
            out.append(_about(s.frame.shifted(float(local[:, 2].mean()) * s.frame.z), line))
    middle = line.mean(axis=0)
    normal = np.linalg.svd(line - middle, full_matrices=False)[2][-1]
    for s in (a, b):  # around the tube of a torus: the axis lies in the circle's plane
        if isinstance(s, Torus):
            normal_there = normal - (normal @ s.frame.z) * s.frame.z
            if float(np.linalg.norm(normal_there)) > 0.5:
                spine = unit(cross_product(unit(normal_there), s.frame.z))
                spine = spine if float(spine @ (middle - s.frame.origin)) > 0.0 else -spine
                out.append(Circle.about(Frame.of(s.frame.origin + s.major * spine, unit(normal_there)), s.minor))
        if isinstance(s, Sphere) and float(abs((middle - s.frame.origin) @ normal)) < 1e-3 * s.radius:
            out.append(Circle.about(Frame.of(s.frame.origin, normal), s.radius))
    frame = Frame.of(middle, normal)
    (x, y), _ = circle_through(frame.local(line)[:, :2])
    return [*out, _about(frame.shifted(x * frame.x + y * frame.y), line)]


def _about(frame: Frame, line: Floats) -> Circle:
    """The circle about a frame's z through points, as near as may be."""
    return Circle.about(frame, float(np.hypot(*frame.local(line)[:, :2].T).mean()))


#: So many steps are taken to a point between surfaces.
_STEPS = 80


def between(
    surfaces: Sequence[Surface], start: Floats, near: float, far: float, curves: Sequence[Curve] = ()
) -> Floats:
    """The point (1,3) near one that lies on surfaces, and curves, as far as these let it: where two of them are all but
    tangent it stays between them, and does not run off along them. `near`, `far` (mm): what standing off the surfaces
    and off the start is counted in (Levenberg 1944, Marquardt 1963)."""

    numbers = [row for s in surfaces if (row := in_numbers(s)) is not None]
    if not curves and len(numbers) == len(surfaces):
        return np.asarray(least_strain(np.array(numbers), np.array(start[0]), near, far, _STEPS))[None]

    def cost(p: Floats) -> float:
        away = sum((float(s.signed_distance(p)[0]) / near) ** 2 for s in surfaces)
        away += sum(float(((p - c.point(c.parameter(p))) ** 2).sum()) / near**2 for c in curves)
        return away + float(((p - start) ** 2).sum()) / far**2

    p, now, damping = start.copy(), cost(start), 1.0 / far
    for _ in range(_STEPS):
        off = np.array([float(s.signed_distance(p)[0]) for s in surfaces]) / near
        slopes = np.array([s.normal(p)[0] for s in surfaces]) / near
        for c in curves:
            t = c.parameter(p)
            along = unit(c.derivative(t)[0])
            off = np.concatenate([off, (p - c.point(t))[0] / near])
            slopes = np.concatenate([slopes.reshape(-1, 3), (np.eye(3) - np.outer(along, along)) / near])
        rows = np.concatenate([slopes, np.eye(3) / far, np.eye(3) * damping])
        move = np.linalg.lstsq(rows, -np.concatenate([off, (p - start)[0] / far, np.zeros(3)]), rcond=None)[0]
        fresh = cost(p + move)
        if fresh < now:
            settled = now - fresh < 1e-9 * now
            p, now, damping = p + move, fresh, damping / 3.0
            if settled:
                break
        else:  # between surfaces that do not meet a whole step goes too far
            damping *= 4.0
            if damping > 1e4 / near:
                break  # there is no way on
    return p
