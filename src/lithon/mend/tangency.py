"""Where two simple surfaces touch along a line or a circle, told from the surfaces alone.

Two surfaces about one axis touch where their profiles do; cylinders side by side, a plane and a cylinder or a
cone along a ruling; a torus and what its tube goes on into, a cylinder or a ball, around the tube.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from lithon.arrays import Floats, cross_product, unit
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface

#: Directions are alike, or square, where they part by less (the sine).
_ALIKE = 1e-3


def touching_curves(a: Surface, b: Surface) -> Iterator[Curve]:
    """The lines and circles along which two surfaces may touch; whether they do is for whoever asks to see."""
    for s, o in ((a, b), (b, a)):
        if isinstance(s, Cylinder) and isinstance(o, Plane):
            foot = o.project(s.frame.origin[None])[0]
            yield Line.through(foot, foot + s.frame.z)
        if isinstance(s, Cone) and isinstance(o, Plane):
            yield from _along_a_ruling(s, o)
        if isinstance(s, Torus) and isinstance(o, Cylinder | Sphere):
            yield from _around_the_tube(s, o)
    if isinstance(a, Cylinder) and isinstance(b, Cylinder):
        yield from _side_by_side(a, b)
    yield from _about_one_axis(a, b)


def _around_the_tube(s: Torus, o: Cylinder | Sphere) -> Iterator[Curve]:
    z, away = s.frame.z, o.frame.origin - s.frame.origin
    way = o.frame.z if isinstance(o, Cylinder) else cross_product(z, away)
    flat = way - float(way @ z) * z
    if float(np.linalg.norm(flat)) <= 0.5 * float(np.linalg.norm(way)):
        return
    spine = unit(cross_product(flat, z))
    for side in (spine, -spine):
        yield Circle.about(Frame.of(s.frame.origin + s.major * side, unit(flat)), s.minor)


def _along_a_ruling(s: Cone, o: Plane) -> Iterator[Curve]:
    flat = o.frame.z - float(o.frame.z @ s.frame.z) * s.frame.z
    if float(np.linalg.norm(flat)) < 1e-9:
        return
    for out in (unit(flat), -unit(flat)):
        way = np.sin(s.angle) * out + np.cos(s.angle) * s.frame.z
        start = s.apex + (s.radius / np.sin(s.angle) or 1.0) * way
        a, b = o.project(np.array([start, start + way]))
        if float(np.linalg.norm(b - a)) > 0.5:
            yield Line.through(a, b)


def _side_by_side(a: Cylinder, b: Cylinder) -> Iterator[Curve]:
    z, away = a.frame.z, b.frame.origin - a.frame.origin
    flat = away - float(away @ z) * z
    if float(np.linalg.norm(cross_product(z, b.frame.z))) > _ALIKE or float(np.linalg.norm(flat)) < 1e-9 * a.radius:
        return
    for side in (1.0, -1.0):
        foot = a.frame.origin + side * a.radius * unit(flat)
        yield Line.through(foot, foot + z)


def _about_one_axis(a: Surface, b: Surface) -> Iterator[Curve]:
    """Circles about the axis that two surfaces have in common."""
    axes = [s.frame for s in (a, b) if isinstance(s, Cylinder | Cone | Torus)]
    if not axes:
        return
    axis = axes[0]
    one, two = _profile(a, axis), _profile(b, axis)
    if one is None or two is None:
        return
    for (centre, radius), other in ((one, two), (two, one)):
        if np.ndim(radius):  # a line, by a point of it and its direction
            continue
        to, far = other
        if np.ndim(far):
            spots = [to + float((centre - to) @ far) * far]
        else:
            way = to - centre
            if float(np.linalg.norm(way)) < 1e-9 * float(radius):
                continue
            spots = [centre + float(radius) * unit(way), centre - float(radius) * unit(way)]
        for rho, height in spots:
            if rho > 0.0:
                yield Circle.about(axis.shifted(float(height) * axis.z), float(rho))


def _profile(s: Surface, axis: Frame) -> tuple[Floats, Floats | float] | None:
    """The profile of a surface in the half plane (away from, along) an axis: a centre and a radius, or a point and a
    direction; none where it does not turn about that axis."""
    local = axis.local(s.frame.origin[None])[0]
    along = float(np.linalg.norm(cross_product(s.frame.z, axis.z))) < _ALIKE
    centred = float(np.hypot(local[0], local[1])) < _ALIKE * max(_size(s), 1e-300)
    height, sense = float(local[2]), float(np.sign(s.frame.z @ axis.z))
    if isinstance(s, Plane) and along:
        return np.array([0.0, height]), np.array([1.0, 0.0])
    if isinstance(s, Sphere) and centred:
        return np.array([0.0, height]), s.radius
    if not (along and centred):
        return None
    if isinstance(s, Cylinder):
        return np.array([s.radius, height]), np.array([0.0, 1.0])
    if isinstance(s, Cone):
        return np.array([s.radius, height]), np.array([np.sin(s.angle), sense * np.cos(s.angle)])
    if isinstance(s, Torus):
        return np.array([s.major, height]), s.minor
    return None


def _size(s: Surface) -> float:
    return float(getattr(s, "radius", 0.0) or getattr(s, "minor", 0.0))
