"""Curves and surfaces of STEP files (ISO 10303-42)."""

from __future__ import annotations

from typing import Any

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, run_along
from lithon.errors import BadFile
from lithon.exchange.part21 import Exchange, Instance, Ref, Typed
from lithon.geometry.curves import Circle, Curve, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.offset import offset_of
from lithon.geometry.rational import Part, joined
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.spindle import spindle
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Extrusion, Revolution

_MOST_POLES = 2_000_000


class GeometryReader:
    """Reads geometry in millimetres; `scale` and `radians` are the file's units."""

    def __init__(self, exchange: Exchange):
        self.x = exchange
        self.scale = 1.0
        self.radians = 1.0
        self.notes: list[str] = []
        #: Surfaces whose normal here is opposite to the one that the file means.
        self.turned: set[int] = set()

    def _numbers(self, values: Any, n: int, owner: Instance) -> Floats:
        out = np.array([float(v) for v in values], dtype=float)
        if len(out) != n or not np.isfinite(out).all() or np.abs(out).max(initial=0.0) > 1e12:
            raise BadFile(f"entity #{owner.number} holds coordinates that make no sense")
        return out

    def _point(self, ref: Any) -> Floats:
        point = self.x.get(ref, "CARTESIAN_POINT")
        return frozen(self.scale * self._numbers(point.values[1], 3, point))

    def _direction(self, ref: Any) -> Floats:
        direction = self.x.get(ref, "DIRECTION")
        return self._numbers(direction.values[1], 3, direction)

    def _frame(self, ref: Any) -> Frame:
        place = self.x.get(ref, "AXIS2_PLACEMENT_3D")
        z = self._direction(place.values[2]) if place.values[2] is not None else np.array([0.0, 0.0, 1.0])
        x = self._direction(place.values[3]) if len(place.values) > 3 and place.values[3] is not None else None
        return Frame.of(self._point(place.values[1]), z, x)

    def _length(self, value: Any, owner: Instance) -> float:
        length = self.scale * float(value)
        if not np.isfinite(length) or length <= 0.0 or length > 1e12:
            raise BadFile(f"entity #{owner.number} has a radius that makes no sense")
        return length

    # ---- curves

    def _curve(self, ref: Any, depth: int = 0) -> Curve | None:
        """The curve behind a reference; None for a kind that is not read."""
        curve = self.x.get(ref)
        if depth > 8:
            raise BadFile(f"the curve #{curve.number} is defined by itself")
        if curve.kind in ("SURFACE_CURVE", "SEAM_CURVE", "INTERSECTION_CURVE", "TRIMMED_CURVE"):
            return self._curve(curve.values[1], depth + 1)
        if curve.kind == "LINE":
            vector = self.x.get(curve.values[2], "VECTOR")
            direction = self._direction(vector.values[1])
            size = float(np.linalg.norm(direction))
            if size == 0.0:
                raise BadFile(f"the line #{curve.number} has no direction")
            return Line(self._point(curve.values[1]), frozen(direction / size))
        if curve.kind == "CIRCLE":
            return Circle.about(self._frame(curve.values[1]), self._length(curve.values[2], curve))
        if curve.kind == "ELLIPSE":
            return self._ellipse(curve)
        if curve.kind == "POLYLINE":
            points = np.array([self._point(p) for p in curve.values[1]])
            t = run_along(points)
            return BSplineCurve(frozen([t[0], *t, t[-1]]), 1, frozen(points))
        if curve.kind == "COMPOSITE_CURVE":
            return joined(self._parts(curve, depth), 1e-3)
        if curve.kind == "OFFSET_CURVE_3D":
            return self._offset_curve(curve, depth)
        if "B_SPLINE_CURVE" in curve.parts or curve.kind == "B_SPLINE_CURVE_WITH_KNOTS":
            return self._spline_curve(curve)
        return None

    def _parts(self, curve: Instance, depth: int) -> list[Part]:
        """The segments of a composite curve, one after the other."""
        out: list[Part] = []
        for ref in curve.values[1]:
            segment = self.x.get(ref, "COMPOSITE_CURVE_SEGMENT")
            part = self.x.get(segment.values[2])
            same = segment.values[1] == "T"
            if part.kind == "TRIMMED_CURVE":
                basis = self._curve(part.values[1], depth + 1)
                if basis is None:
                    raise BadFile(f"the composite curve #{curve.number} has a part that is not read")
                t0, t1 = (self._trim(basis, part, part.values[k]) for k in (2, 3))
                forward = part.values[4] == "T"
                if not forward:
                    t0, t1 = t1, t0
                if basis.period is not None and t1 <= t0:
                    t1 += basis.period
                if t1 < t0:
                    raise BadFile(f"the trimmed curve #{part.number} ends before it starts")
                out.append((basis, t0, t1, forward == same))
                continue
            whole = self._curve(segment.values[2], depth + 1)
            if isinstance(whole, BSplineCurve):
                out.append((whole, whole.low, whole.high, same))
            elif whole is not None and whole.period is not None:
                out.append((whole, 0.0, whole.period, same))
            else:
                raise BadFile(f"the composite curve #{curve.number} has a part without ends")
        if not out:
            raise BadFile(f"the composite curve #{curve.number} is empty")
        return out

    def _trim(self, basis: Curve, owner: Instance, bounds: Any) -> float:
        """Where a trimmed curve begins or ends: by a point, which is sure, or by the file's own parameter."""
        for bound in bounds:
            if isinstance(bound, Ref):
                return float(basis.parameter(self._point(bound)[None])[0])
        for bound in bounds:
            value = bound.values[0] if isinstance(bound, Typed) else bound
            if isinstance(value, int | float):
                if isinstance(basis, Line):
                    return self.scale * float(value)
                return float(value) * (self.radians if isinstance(basis, Ellipse) else 1.0)
        raise BadFile(f"the trimmed curve #{owner.number} has no ends")

    def _offset_curve(self, curve: Instance, depth: int) -> Curve | None:
        """By the standard: along tangent x reference direction. Lines and circles stay such; splines are fitted."""
        basis = self._curve(curve.values[1], depth + 1)
        away, across = self.scale * float(curve.values[2]), self._direction(curve.values[4])
        if basis is None or not np.isfinite(away) or not np.linalg.norm(across) > 0.0:
            return None
        across = across / np.linalg.norm(across)
        if isinstance(basis, Line):
            side = cross_product(basis.direction, across)
            return Line(frozen(basis.origin + away * side / np.linalg.norm(side)), basis.direction)
        if isinstance(basis, Circle) and abs(float(basis.frame.z @ across)) > 1.0 - 1e-12:
            radius = basis.radius + away * float(np.sign(basis.frame.z @ across))
            return Circle.about(basis.frame, self._length(radius / self.scale, curve))
        if not isinstance(basis, BSplineCurve):
            return None
        t = np.linspace(basis.low, basis.high, 16 * len(basis.control) + 1)
        side = cross_product(basis.derivative(t), across)
        fit = scipy.interpolate.make_interp_spline(
            t, basis.point(t) + away * side / np.linalg.norm(side, axis=1, keepdims=True), k=5
        )
        self.notes.append(f"the offset curve #{curve.number} is taken as a spline through {len(t)} of its points")
        return BSplineCurve(frozen(fit.t), 5, frozen(fit.c))

    def _ellipse(self, curve: Instance) -> Ellipse:
        """The longer axis becomes the frame's x, whatever the file calls it."""
        frame = self._frame(curve.values[1])
        a, b = (self._length(v, curve) for v in curve.values[2:4])
        if a >= b:
            return Ellipse(frame, a, b)
        return Ellipse(Frame.of(frame.origin, frame.z, frame.y), b, a)

    def _spline_curve(self, curve: Instance) -> BSplineCurve:
        if curve.kind == "B_SPLINE_CURVE_WITH_KNOTS" and len(curve.parts) == 1:
            _, degree, poles, _, _, _, counts, knots, _ = curve.values
        else:
            degree, poles = curve.parts["B_SPLINE_CURVE"][:2]
            counts, knots = curve.parts["B_SPLINE_CURVE_WITH_KNOTS"][:2]
        control = np.array([self._point(p) for p in poles])
        weights = self._weights(curve, "RATIONAL_B_SPLINE_CURVE", control.shape[:1])
        written = self._knots(curve, int(degree), len(control), counts, knots)
        return BSplineCurve(frozen(written), int(degree), frozen(control), weights)

    def _weights(self, owner: Instance, kind: str, shape: tuple[int, ...]) -> Floats | None:
        if kind not in owner.parts:
            return None
        out = np.array(owner.parts[kind][0], dtype=float)
        if out.shape != shape or not np.isfinite(out).all() or out.min() <= 0.0:
            raise BadFile(f"the weights of #{owner.number} make no sense")
        return frozen(out)

    def _knots(self, owner: Instance, degree: int, poles: int, counts: Any, knots: Any) -> Floats:
        many = [int(c) for c in counts]
        values = np.array([float(k) for k in knots])
        sound = (
            1 <= degree <= 40
            and len(many) == len(values)
            and sum(many) == poles + degree + 1 <= _MOST_POLES
            and min(many, default=0) >= 1
            and bool(np.isfinite(values).all())
            and bool((np.diff(values) > 0.0).all())
        )
        if not sound:
            raise BadFile(f"the knots of #{owner.number} make no sense")
        return np.repeat(values, many)

    # ---- surfaces

    def _surface(self, ref: Any, depth: int = 0) -> Surface | None:
        """The surface behind a reference; None for a kind that is not read. Where its normal is not the
        file's, the reference is in `turned` afterwards."""
        surface = self.x.get(ref)
        if depth > 8:
            raise BadFile(f"the surface #{surface.number} is defined by itself")
        v = surface.values if len(surface.parts) == 1 else []
        if surface.kind == "PLANE":
            return Plane(self._frame(v[1]))
        if surface.kind == "CYLINDRICAL_SURFACE":
            return Cylinder(self._frame(v[1]), self._length(v[2], surface))
        if surface.kind == "CONICAL_SURFACE":
            return self._cone(surface)
        if surface.kind == "SPHERICAL_SURFACE":
            return Sphere(self._frame(v[1]), self._length(v[2], surface))
        if surface.kind in ("TOROIDAL_SURFACE", "DEGENERATE_TOROIDAL_SURFACE"):
            torus = Torus(self._frame(v[1]), self._length(v[2], surface), self._length(v[3], surface))
            # Where the tube crosses the axis, a face lies on one of two skins; which, its edges tell.
            return torus if torus.major > torus.minor else spindle(torus)
        if surface.kind == "SURFACE_OF_LINEAR_EXTRUSION":
            return self._extrusion(surface)
        if surface.kind == "SURFACE_OF_REVOLUTION":
            return self._revolution(surface)
        if surface.kind in ("RECTANGULAR_TRIMMED_SURFACE", "CURVE_BOUNDED_SURFACE", "OFFSET_SURFACE"):
            return self._derived(surface, depth)
        if "B_SPLINE_SURFACE_WITH_KNOTS" in surface.parts or "B_SPLINE_SURFACE" in surface.parts:
            return self._spline_surface(surface)
        return None

    def _derived(self, surface: Instance, depth: int) -> Surface | None:
        """A trimmed surface is its basis: the face's loops bound it. An offset one has its own place."""
        basis = self._surface(surface.values[1], depth + 1)
        turned = int(surface.values[1]) in self.turned
        if basis is None:
            return None
        if surface.kind == "OFFSET_SURFACE":
            distance = self.scale * float(surface.values[2]) * (-1.0 if turned else 1.0)
            if not np.isfinite(distance):
                raise BadFile(f"the offset #{surface.number} makes no sense")
            basis = offset_of(basis, distance)
        elif surface.kind == "RECTANGULAR_TRIMMED_SURFACE" and len(surface.values) > 7:
            turned = turned != ((surface.values[6] == "T") != (surface.values[7] == "T"))
        if turned:
            self.turned.add(surface.number)
        return basis

    def _cone(self, surface: Instance) -> Surface:
        frame, angle = self._frame(surface.values[1]), self.radians * float(surface.values[3])
        radius = self.scale * float(surface.values[2])
        if not np.isfinite(radius) or radius < 0.0 or not 1e-6 < abs(angle) < np.pi / 2 - 1e-6:
            raise BadFile(f"the cone #{surface.number} makes no sense")
        return Cone.of(frame.origin, frame.z, radius, angle, frame.x)

    def _extrusion(self, surface: Instance) -> Surface | None:
        profile = self._curve(surface.values[1])
        vector = self.x.get(surface.values[2], "VECTOR")
        along = self._direction(vector.values[1])
        if profile is None or np.linalg.norm(along) == 0.0:
            return None
        along = along / np.linalg.norm(along)
        if isinstance(profile, Line):
            return Plane.of(profile.origin, cross_product(profile.direction, along), profile.direction)
        if isinstance(profile, Circle) and abs(float(profile.frame.z @ along)) > 1.0 - 1e-12:
            return self._meant(surface, Cylinder(profile.frame, profile.radius), float(profile.frame.z @ along) > 0.0)
        return Extrusion.of(profile, along)

    def _meant(self, surface: Instance, made: Surface, same: bool) -> Surface:
        if not same:
            self.turned.add(surface.number)
        return made

    def _revolution(self, surface: Instance) -> Surface | None:
        """By the standard u is the angle and v runs along the profile: the normal is (axis x radius) x
        tangent. Ours is tangent x (axis x radius), so the axis is turned round."""
        profile = self._curve(surface.values[1])
        place = self.x.get(surface.values[2], "AXIS1_PLACEMENT")
        origin = self._point(place.values[1])
        axis = self._direction(place.values[2]) if place.values[2] is not None else np.array([0.0, 0.0, 1.0])
        if profile is None:
            return None
        frame = Frame.of(origin, axis)
        # Where the file's normal points, at a place on the profile that is off the axis.
        t = np.linspace(0.13, 1.0, 7)
        if isinstance(profile, BSplineCurve):
            t = profile.low + (profile.high - profile.low) * np.linspace(0.13, 0.91, 7)
        p, d = profile.point(t), profile.derivative(t)
        local = frame.local(p)
        k = int(np.hypot(local[:, 0], local[:, 1]).argmax())
        means = cross_product(cross_product(frame.z, p[k] - origin), d[k])

        def meant(made: Surface) -> Surface:
            return self._meant(surface, made, float(made.normal(p[k][None])[0] @ means) > 0.0)

        if isinstance(profile, Line):
            lean = float(profile.direction @ frame.z)
            near = frame.local(profile.origin[None])[0]
            side = frame.local((profile.origin + profile.direction)[None])[0] - near
            if abs(near[0] * side[1] - near[1] * side[0]) > 1e-9 * (1.0 + float(np.hypot(near[0], near[1]))):
                return None  # a line beside the axis makes a hyperboloid
            if abs(lean) < 1e-12:
                return meant(Plane.of(profile.origin, frame.z))
            radius = float(np.hypot(near[0], near[1]))
            if abs(lean) > 1.0 - 1e-14:
                return meant(Cylinder.of(origin + near[2] * frame.z, frame.z, radius))
            grow = float(np.hypot(local[k, 0], local[k, 1])) - radius
            rise = float(local[k, 2] - near[2])
            return meant(Cone.of(origin + near[2] * frame.z, frame.z, radius, np.arctan2(grow, rise) if rise > 0.0
                                 else np.arctan2(-grow, -rise)))  # fmt: skip
        if isinstance(profile, Circle):
            middle = frame.local(profile.frame.origin[None])[0]
            away = float(np.hypot(middle[0], middle[1]))
            upright = abs(float(profile.frame.z @ frame.z)) < 1e-12
            if upright and away < 1e-9 * profile.radius:
                return meant(Sphere(Frame.of(profile.frame.origin, frame.z), profile.radius))
            inside = abs(float(profile.frame.z @ (profile.frame.origin - origin))) < 1e-9 * (away + profile.radius)
            if upright and inside and away > profile.radius:
                centre = origin + middle[2] * frame.z
                return meant(Torus(Frame.of(centre, frame.z), away, profile.radius))
        return Revolution.of(profile, origin, -frame.z)

    def _spline_surface(self, surface: Instance) -> BSplineSurface:
        if len(surface.parts) == 1:
            _, du, dv, poles, _, _, _, _, mu, mv, ku, kv, _ = surface.values
        else:
            du, dv, poles = surface.parts["B_SPLINE_SURFACE"][:3]
            mu, mv, ku, kv = surface.parts["B_SPLINE_SURFACE_WITH_KNOTS"][:4]
        control = np.array([[self._point(p) for p in row] for row in poles])
        if control.ndim != 3:
            raise BadFile(f"the control net of #{surface.number} is ragged")
        return BSplineSurface(
            frozen(self._knots(surface, int(du), control.shape[0], mu, ku)),
            frozen(self._knots(surface, int(dv), control.shape[1], mv, kv)),
            int(du),
            int(dv),
            frozen(control),
            self._weights(surface, "RATIONAL_B_SPLINE_SURFACE", control.shape[:2]),
        )
