"""Stretches of curves that follow each other, and the surfaces that they carry: revolved, extruded, ruled."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.errors import BadFile
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.frames import Frame
from lithon.geometry.rational import Part, common, joined
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Extrusion, Revolution

#: Stretches that turn less where they meet (rad) are one smooth curve.
_SMOOTH = 1e-2
#: Stretches may stand apart by this (mm) where they should meet.
_APART = 2e-2


@dataclass(frozen=True, slots=True, eq=False)
class Stretch:
    """A stretch of a curve, walked from t0 to t1 where `forward`, else back."""

    curve: Curve
    t0: float
    t1: float
    forward: bool = True

    def ends(self) -> Floats:
        """First and last point (2,3) as walked."""
        p = self.curve.point(np.array([self.t0, self.t1]))
        return p if self.forward else p[::-1]

    def points(self, n: int) -> Floats:
        t = np.linspace(self.t0, self.t1, n)
        return self.curve.point(t if self.forward else t[::-1])

    def headings(self) -> Floats:
        """Unit directions (2,3) at first and last point as walked."""
        d = unit(self.curve.derivative(np.array([self.t0, self.t1])))
        return d if self.forward else -d[::-1]

    def moved(self, motion: Floats) -> Stretch:
        return Stretch(self.curve.moved(motion), self.t0, self.t1, self.forward)

    def back(self) -> Stretch:
        return Stretch(self.curve, self.t0, self.t1, not self.forward)

    def part(self) -> Part:
        return self.curve, self.t0, self.t1, self.forward


class Unread(Exception):
    """A kind of curve or surface that is not read; the message says which."""


def one_curve(parts: list[Stretch], use: str) -> Curve:
    """The curve that stretches in a row lie on: their own if they share it, else a spline through them.

    Raises Unread where they meet at corners: what such a row carries is several surfaces.
    """
    if not parts:
        raise BadFile(f"{use} has no profile")
    if all(_on_one(parts[0].curve, p.curve) for p in parts[1:]):
        return parts[0].curve
    for a, b in itertools.pairwise(parts):
        if float(np.arccos(np.clip(a.headings()[1] @ b.headings()[0], -1.0, 1.0))) > _SMOOTH:
            raise Unread(f"{use} of curves that meet at a corner")
    try:
        return joined([p.part() for p in parts], _APART)
    except ValueError as error:
        raise Unread(f"{use} of several curves: {error}") from error


def _on_one(a: Curve, b: Curve) -> bool:
    """Whether two lines or two circles are the same."""
    if isinstance(a, Line) and isinstance(b, Line):
        across = b.origin - a.origin
        return bool(
            np.linalg.norm(cross_product(a.direction, b.direction)) < 1e-9
            and np.linalg.norm(cross_product(a.direction, across)) < 1e-9 * (1.0 + np.linalg.norm(across))
        )
    if isinstance(a, Circle) and isinstance(b, Circle):
        near = 1e-9 * a.radius
        return bool(
            np.linalg.norm(a.frame.origin - b.frame.origin) < near
            and abs(a.radius - b.radius) < near
            and abs(float(a.frame.z @ b.frame.z)) > 1.0 - 1e-12
        )
    return a is b


def ruled(one: list[Stretch], two: list[Stretch]) -> Surface:
    """Between two rails by equal shares of their parameters. Which way its normal looks is not promised."""
    rails = []
    for parts in (one, two):
        try:
            rails.append(joined([p.part() for p in parts], _APART))
        except (ValueError, IndexError) as error:
            raise Unread(f"a ruled surface: {error}") from error
    simple = _simple(one, two)
    if simple is not None:
        return simple
    a, b = common(*rails)
    weights = None
    if a.weights is not None or b.weights is not None:
        weights = frozen(np.stack([np.ones(len(k.control)) if k.weights is None else k.weights for k in (a, b)], 1))
    net = frozen(np.stack([a.control, b.control], axis=1))
    return BSplineSurface(a.knots, frozen([0.0, 0.0, 1.0, 1.0]), a.degree, 1, net, weights)


def _simple(one: list[Stretch], two: list[Stretch]) -> Surface | None:
    """The plane between two lines, the plane, cylinder or cone between two arcs about one axis."""
    if len(one) != 1 or len(two) != 1:
        return None
    a, b = one[0], two[0]
    (a0, a1), (b0, b1) = a.ends(), b.ends()
    size = float(np.ptp([a0, a1, b0, b1], axis=0).max())
    if isinstance(a.curve, Line) and isinstance(b.curve, Line):
        normal = cross_product(a1 - b0, b1 - a0)
        if np.linalg.norm(normal) <= 1e-12 * size**2 or abs(float(unit(normal) @ (b0 - a0))) > 1e-9 * size:
            return None
        return Plane.of(a0, normal)
    if isinstance(a.curve, Circle) and isinstance(b.curve, Circle):
        axis = a.curve.frame
        there = axis.local(b.curve.frame.origin[None])[0]
        aligned = abs(float(axis.z @ b.curve.frame.z)) > 1.0 - 1e-12 and np.hypot(there[0], there[1]) < 1e-9 * size
        out = [axis.local(p) for p in (a0, b0, a.points(3)[1], b.points(3)[1])]
        flat = [np.arctan2(p[1], p[0]) for p in out]
        gaps = [abs((flat[k + 1] - flat[k] + np.pi) % (2.0 * np.pi) - np.pi) for k in (0, 2)]
        if aligned and max(gaps) < 1e-9 and float(np.linalg.norm(b0 - a0)) > 0.0:
            return revolution_of(Line.through(a0, b0), axis.origin, axis.z)
    return None


def extrusion_of(profile: Curve, along: Floats) -> Surface:
    """A profile along a direction; planes and cylinders where it is one."""
    size = float(np.linalg.norm(along))
    if not size > 0.0:
        raise BadFile("an extrusion has no direction")
    along = along / size
    if isinstance(profile, Line):
        return Plane.of(profile.origin, cross_product(profile.direction, along), profile.direction)
    if isinstance(profile, Circle) and abs(float(profile.frame.z @ along)) > 1.0 - 1e-12:
        return Cylinder(profile.frame, profile.radius)
    return Extrusion.of(profile, along)


def revolution_of(profile: Curve, origin: Floats, axis: Floats) -> Surface:
    """A profile about an axis; simple surfaces where it is one. Which way its normal looks is not promised."""
    frame = Frame.of(origin, axis)
    if isinstance(profile, Line):
        near = frame.local(profile.origin[None])[0]
        side = frame.local((profile.origin + profile.direction)[None])[0] - near
        radius = float(np.hypot(near[0], near[1]))
        if abs(near[0] * side[1] - near[1] * side[0]) <= 1e-9 * (1.0 + radius):  # it meets the axis, or runs along it
            lean = float(profile.direction @ frame.z)
            if abs(lean) < 1e-12:
                return Plane.of(profile.origin, frame.z)
            if abs(lean) > 1.0 - 1e-14:
                return Cylinder.of(origin + near[2] * frame.z, frame.z, radius)
            t = (0.0, 1.0) if radius > 1e-9 else (1.0, 2.0)
            a, b = (frame.local(profile.point(np.array([s])))[0] for s in t)
            slope = (np.hypot(b[0], b[1]) - np.hypot(a[0], a[1])) / (b[2] - a[2])
            foot = origin + a[2] * frame.z
            return Cone.of(foot, frame.z, float(np.hypot(a[0], a[1])), float(np.arctan(slope)))
    if isinstance(profile, Circle):
        middle = frame.local(profile.frame.origin[None])[0]
        away = float(np.hypot(middle[0], middle[1]))
        upright = abs(float(profile.frame.z @ frame.z)) < 1e-9
        if upright and away < 1e-9 * profile.radius:
            return Sphere(Frame.of(profile.frame.origin, frame.z), profile.radius)
        inside = abs(float(profile.frame.z @ (profile.frame.origin - origin))) < 1e-9 * (away + profile.radius)
        if upright and inside and away > profile.radius:
            return Torus(Frame.of(origin + middle[2] * frame.z, frame.z), away, profile.radius)
    return Revolution.of(profile, origin, frame.z)
