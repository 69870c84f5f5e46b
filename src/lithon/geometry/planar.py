"""Planes through cones and swept surfaces, where what they have in common is a conic that does not close, a line, or
the profile's own image."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.geometry.curves import Circle, Curve, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Extrusion, Revolution, profile_range
from lithon.geometry.tolerance import ANGULAR

#: A plane that leans less than this towards the way of an extrusion throws the profile's image too far.
_LEAST_LEAN = 1e-3
#: A profile that meets a plane oftener than this runs within it.
_MOST_MEETS = 24
#: Parameters in a range where a curve meets a plane, as `meet.cross` finds them.
Cross = Callable[[Curve, Plane, float, float, float], Floats]


def open_conic(p: Plane, c: Cone, near: Floats) -> list[Curve]:
    """The parabola, or the branch of a hyperbola on the cone's own side, as far as points (n,3) reach twice over.

    The generators that meet the plane are an arc of a circle, and the plane takes that arc to the conic by a central
    projection from the apex: so it is one rational quadratic piece, exactly.
    """
    n, axis, apex = p.frame.z, c.frame.z, c.apex
    d = float(p.signed_distance(apex))
    far = 2.0 * float(np.linalg.norm(near - apex, axis=1).max())
    across = unit(n - float(n @ axis) * axis) * -np.sign(d)  # the way in which the plane is nearest
    side = cross_product(axis, across)
    cos, sin = float(np.cos(c.angle)), float(np.sin(c.angle))
    # Along the generator turned by an angle from there, the plane is 1 / (flat + steep cos(angle)) away.
    flat, steep = -cos * float(axis @ n) / d, -sin * float(across @ n) / d
    if flat + steep <= 1.0 / far:
        return []
    turn = float(np.arccos(np.clip((1.0 / far - flat) / steep, -1.0, 1.0)))
    ends = [cos * axis + sin * (np.cos(turn) * across + s * np.sin(turn) * side) for s in (-1.0, 1.0)]
    rays = np.array([ends[0], np.cos(turn) * cos * axis + sin * across, ends[1]])
    weights = -(rays @ n) / d
    knots = frozen(np.array([0.0, 0.0, 0.0, 1.0, 1.0, 1.0]))
    return [BSplineCurve(knots, 2, frozen(apex + rays / weights[:, None]), frozen(weights / weights[0]))]


def plane_extrusion(p: Plane, e: Extrusion, tolerance: float, cross: Cross) -> list[Curve] | None:
    """The profile carried along the sweep into the plane; lines where the plane holds the direction."""
    n, way = p.frame.z, e.frame.z
    lean = float(n @ way)
    if abs(lean) < ANGULAR:
        ts = cross(e.profile, p, *profile_range(e.profile), tolerance)
        if len(ts) > _MOST_MEETS:
            return None
        return [Line(frozen(at), frozen(way)) for at in e.profile.point(ts)]
    if abs(lean) < _LEAST_LEAN:
        return None

    def image(points: Floats) -> Floats:
        return points - np.multiply.outer((points - p.frame.origin) @ n / lean, way)

    if isinstance(e.profile, BSplineCurve):
        return [BSplineCurve(e.profile.knots, e.profile.degree, frozen(image(e.profile.control)), e.profile.weights)]
    if isinstance(e.profile, Ellipse):
        frame = e.profile.frame
        centre = image(frame.origin)
        arms = [image(frame.origin + r * x) - centre
                for r, x in ((e.profile.major, frame.x), (e.profile.minor, frame.y))]  # fmt: skip
        axes, sizes, _ = np.linalg.svd(np.stack(arms, axis=1), full_matrices=False)
        if sizes[1] < ANGULAR * sizes[0]:
            return None
        return [Ellipse(Frame.of(centre, cross_product(axes[:, 0], axes[:, 1]), axes[:, 0]), *map(float, sizes))]
    return None


def plane_revolution(p: Plane, r: Revolution, tolerance: float, cross: Cross) -> list[Curve] | None:
    """Circles across the axis, and the profile on both sides of it in a plane that holds it."""
    n, axis = p.frame.z, r.frame.z
    if np.linalg.norm(cross_product(n, axis)) < ANGULAR:
        ts = cross(r.profile, p, *profile_range(r.profile), tolerance)
        if len(ts) > _MOST_MEETS:
            return None
        local = r.frame.local(r.profile.point(ts))
        sizes, heights = np.hypot(local[:, 0], local[:, 1]), local[:, 2]
        return [Circle.about(r.frame.shifted(float(h) * axis), float(size))
                for size, h in zip(sizes, heights, strict=True) if size > tolerance]  # fmt: skip
    flat = r.flat()
    holds_axis = abs(float(n @ axis)) < ANGULAR and abs(float(p.signed_distance(r.frame.origin))) <= tolerance
    if not holds_axis or flat is None:
        return None
    out: list[Curve] = []
    for sign in (1.0, -1.0):
        side = sign * cross_product(n, axis)
        control = r.frame.origin + np.multiply.outer(flat.control[:, 0], side) + np.multiply.outer(
            flat.control[:, 1], axis)  # fmt: skip
        out.append(BSplineCurve(flat.knots, flat.degree, frozen(control), flat.weights))
    return out
