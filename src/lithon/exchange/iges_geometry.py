"""Curves and surfaces of IGES files, in millimetres and in their place."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import scipy

from lithon.arrays import Floats, frozen
from lithon.errors import BadFile
from lithon.exchange.iges_polynomial import conic_arc, cubic_curve, cubic_surface
from lithon.exchange.iges_records import Record, Records
from lithon.exchange.stretch import Stretch, Unread, extrusion_of, one_curve, revolution_of, ruled
from lithon.geometry.curves import TURN, Circle, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.offset import offset_of
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.spindle import spindle
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface

_MOST_POLES = 2_000_000


class IgesGeometry:
    """Reads geometry of the records; raises BadFile or Unread."""

    def __init__(self, records: Records):
        self.x = records
        self.scale = records.scale

    # ---- places

    def motion(self, number: int, depth: int = 0) -> Floats:
        """The matrix (4,4) behind a directory entry's pointer, in mm."""
        out = np.eye(4)
        if number == 0:
            return out
        if depth > 16:
            raise BadFile(f"the matrix {number} is defined by itself")
        record = self.x.get(abs(number), 124)
        m = np.array(record.reals(0, 12)).reshape(3, 4)
        turn = m[:, :3]
        if np.abs(turn @ turn.T - np.eye(3)).max() > 1e-3:
            raise BadFile(f"the matrix {number} does not keep lengths")
        u, _, v = np.linalg.svd(turn)
        out[:3, :3], out[:3, 3] = u @ v, self.scale * m[:, 3]
        return self.motion(record.matrix, depth + 1) @ out

    def _point(self, number: int) -> Floats:
        record = self.x.get(number, 116)
        p = self.scale * np.array(record.reals(0, 3))
        m = self.motion(record.matrix)
        return np.asarray(m[:3, :3] @ p + m[:3, 3])

    def _direction(self, number: int) -> Floats:
        record = self.x.get(number, 123)
        return np.asarray(self.motion(record.matrix)[:3, :3] @ np.array(record.reals(0, 3)))

    # ---- curves

    def curve(self, number: int, depth: int = 0) -> list[Stretch]:
        """The stretches of a curve from its start to its end."""
        record = self.x.get(number)
        if depth > 8:
            raise BadFile(f"the curve {number} is defined by itself")
        if record.kind == 102:
            many = record.integer(0)
            parts = [s for k in range(many) for s in self.curve(record.integer(1 + k), depth + 1)]
        else:
            reader = self._curves().get(record.kind)
            if reader is None:
                raise Unread(f"a curve of type {record.kind}")
            parts = reader(record)
        if record.matrix:
            motion = self.motion(record.matrix)
            parts = [part.moved(motion) for part in parts]
        return parts

    def _curves(self) -> dict[int, Callable[[Record], list[Stretch]]]:
        return {
            100: self._arc,
            104: self._conic,
            106: self._path,
            110: self._line,
            112: self._cubics,
            126: self._spline,
        }

    def _cubics(self, r: Record) -> list[Stretch]:
        curve = cubic_curve(r, self.scale)
        return [Stretch(curve, curve.low, curve.high)]

    def _line(self, r: Record) -> list[Stretch]:
        a, b = self.scale * np.array(r.reals(0, 6)).reshape(2, 3)
        length = float(np.linalg.norm(b - a))
        return [Stretch(Line.through(a, b), 0.0, length)] if length > 0.0 else []

    def _arc(self, r: Record) -> list[Stretch]:
        z, cx, cy, ax, ay, bx, by = self.scale * np.array(r.reals(0, 7))
        out = np.array([ax - cx, ay - cy, 0.0])
        radius = float(np.linalg.norm(out))
        if radius == 0.0:
            return []
        angle = float(np.mod(np.arctan2(by - cy, bx - cx) - np.arctan2(out[1], out[0]), TURN))
        if float(np.hypot(bx - ax, by - ay)) < 1e-9 * radius or angle < 1e-12:
            angle = TURN
        return [Stretch(Circle.about(Frame.of((cx, cy, z), (0, 0, 1), out), radius), 0.0, angle)]

    def _conic(self, r: Record) -> list[Stretch]:
        a, b, c, d, e, f, z, x1, y1, x2, y2 = r.reals(0, 11)
        s = self.scale
        quad = np.array([[a, b / 2.0], [b / 2.0, c]])
        if np.linalg.det(quad) <= 1e-12 * np.trace(quad) ** 2:
            form = np.array([[a, b / 2, d / 2], [b / 2, c, e / 2], [d / 2, e / 2, f]])
            arc = conic_arc(form, np.array([[x1, y1], [x2, y2]]))
            arc = replace(arc, control=frozen(s * (arc.control + [0.0, 0.0, z])))
            return [Stretch(arc, 0.0, 1.0)]
        middle = -0.5 * np.linalg.solve(quad, [d, e])
        level = float(middle @ quad @ middle) - f
        size, axes = np.linalg.eigh(quad * np.sign(np.trace(quad)))
        level *= np.sign(np.trace(quad))
        if level <= 0.0:
            raise BadFile(f"the conic {r.number} has no points")
        major, minor = np.sqrt(level / size)
        frame = Frame.of((s * middle[0], s * middle[1], s * z), (0, 0, 1), (*axes[:, 0], 0.0))
        curve = Ellipse(frame, s * float(major), s * float(minor))
        t0, t1 = curve.parameter(s * np.array([[x1, y1, z], [x2, y2, z]]))
        span = float(np.mod(t1 - t0, TURN))
        return [Stretch(curve, float(t0), float(t0) + (span if span > 1e-12 else TURN))]

    def _path(self, r: Record) -> list[Stretch]:
        kind, many = r.integer(0), r.integer(1)
        if kind == 1:
            z = r.real(2)
            flat = np.array(r.reals(3, 2 * many)).reshape(-1, 2)
            points = np.column_stack([flat, np.full(len(flat), z)])
        elif kind in (2, 3):
            points = np.array(r.reals(2, many * 3 * (kind - 1))).reshape(many, -1)[:, :3]
        else:
            raise BadFile(f"the path {r.number} is not well formed")
        points = self.scale * points
        if r.form == 63:
            points = np.vstack([points, points[:1]])
        out = []
        for p, q in itertools.pairwise(points):
            length = float(np.linalg.norm(q - p))
            if length > 0.0:
                out.append(Stretch(Line.through(p, q), 0.0, length))
        return out

    def _spline(self, r: Record) -> list[Stretch]:
        k, degree = r.integer(0), r.integer(1)
        if not (1 <= degree <= 40 and 1 <= k < _MOST_POLES):
            raise BadFile(f"the spline {r.number} makes no sense")
        at = 6
        knots = np.array(r.reals(at, k + degree + 2))
        at += k + degree + 2
        weights = np.array(r.reals(at, k + 1))
        at += k + 1
        control = self.scale * np.array(r.reals(at, 3 * (k + 1))).reshape(-1, 3)
        low, high = r.real(at + 3 * (k + 1)), r.real(at + 3 * (k + 1) + 1)
        if (np.diff(knots) < 0.0).any() or weights.min() <= 0.0 or not high > low:
            raise BadFile(f"the spline {r.number} makes no sense")
        curve = BSplineCurve(frozen(knots), degree, frozen(control), _weights(weights))
        low, high = max(low, curve.low), min(high, curve.high)
        if degree == 1 and np.ptp(weights) == 0.0:  # a polyline: each side is a line
            spots = curve.point(np.unique(np.concatenate([[low], knots[(knots > low) & (knots < high)], [high]])))
            return [
                Stretch(Line.through(p, q), 0.0, float(np.linalg.norm(q - p)))
                for p, q in itertools.pairwise(spots)
                if float(np.linalg.norm(q - p)) > 0.0
            ]
        return [Stretch(curve, low, high)]

    # ---- surfaces

    def surface(self, number: int) -> Surface:
        record = self.x.get(number)
        reader = self._surfaces().get(record.kind)
        if reader is None:
            raise Unread(f"a surface of type {record.kind}")
        made = reader(record)
        return made.moved(self.motion(record.matrix)) if record.matrix else made

    def _surfaces(self) -> dict[int, Callable[[Record], Surface]]:
        return {
            108: self._plane, 118: self._ruled, 120: self._revolved, 122: self._tabulated, 128: self._spline_surface,
            190: self._plane_at, 192: self._cylinder, 194: self._cone, 196: self._sphere, 198: self._torus,
            140: self._offset, 114: self._cubic_patches,
        }  # fmt: skip

    def _axis(self, r: Record, reference: int) -> Frame:
        """The frame of location, axis and, in form 1, reference direction."""
        x = self._direction(r.integer(reference)) if r.form == 1 and reference < len(r.values) else None
        return Frame.of(self._point(r.integer(0)), self._direction(r.integer(1)), x)

    def _plane(self, r: Record) -> Surface:
        a, b, c, d = r.reals(0, 4)
        normal = np.array([a, b, c])
        if not np.linalg.norm(normal) > 0.0:
            raise BadFile(f"the plane {r.number} has no normal")
        return Plane.of(self.scale * d * normal / float(normal @ normal), normal)

    def _plane_at(self, r: Record) -> Surface:
        return Plane(self._axis(r, 2))

    def _cylinder(self, r: Record) -> Surface:
        return Cylinder(self._axis(r, 3), self._length(r, 2))

    def _cone(self, r: Record) -> Surface:
        frame, angle = self._axis(r, 4), np.radians(r.real(3))
        if not 1e-6 < abs(angle) < np.pi / 2 - 1e-6 or r.real(2) < 0.0:
            raise BadFile(f"the cone {r.number} makes no sense")
        return Cone.of(frame.origin, frame.z, self.scale * r.real(2), float(angle), frame.x)

    def _sphere(self, r: Record) -> Surface:
        return Sphere.of(self._point(r.integer(0)), self._length(r, 1))

    def _torus(self, r: Record) -> Surface:
        torus = Torus(self._axis(r, 4), self._length(r, 2), self._length(r, 3))
        return torus if torus.major > torus.minor else spindle(torus)

    def _offset(self, r: Record) -> Surface:
        """At a distance along the normal that leans the way of the given vector."""
        toward, distance = np.array(r.reals(0, 3)), self.scale * r.real(3)
        basis = self.surface(r.integer(4))
        at = basis.normal(basis.project(basis.frame.origin[None]))[0]
        return offset_of(basis, distance if float(at @ toward) >= 0.0 else -distance)

    def _length(self, r: Record, k: int) -> float:
        length = self.scale * r.real(k)
        if length <= 0.0:
            raise BadFile(f"entity {r.number} has a radius that makes no sense")
        return length

    def _revolved(self, r: Record) -> Surface:
        axis, *more = self.curve(r.integer(0))
        if more or not isinstance(axis.curve, Line):
            raise Unread("a revolution about what is no line")
        profile = one_curve(self.curve(r.integer(1)), "a revolution")
        return revolution_of(profile, axis.curve.origin, axis.curve.direction)

    def _tabulated(self, r: Record) -> Surface:
        parts = self.curve(r.integer(0))
        profile = one_curve(parts, "an extrusion")
        return extrusion_of(profile, self.scale * np.array(r.reals(1, 3)) - parts[0].ends()[0])

    def _ruled(self, r: Record) -> Surface:
        """Between two curves by equal shares of their parameters (form 1) or, for lines and arcs, of their lengths."""
        one, two = (self.curve(r.integer(k)) for k in (0, 1))
        return ruled(one, [part.back() for part in reversed(two)] if r.integer(2) == 1 else two)

    def _cubic_patches(self, r: Record) -> Surface:
        return cubic_surface(r, self.scale)

    def _spline_surface(self, r: Record) -> Surface:
        k1, k2, m1, m2 = (r.integer(k) for k in range(4))
        if not (1 <= m1 <= 40 and 1 <= m2 <= 40 and k1 >= m1 and k2 >= m2 and (k1 + 1) * (k2 + 1) <= _MOST_POLES):
            raise BadFile(f"the surface {r.number} makes no sense")
        at = 9
        knots = []
        for k, m in ((k1, m1), (k2, m2)):
            knots.append(np.array(r.reals(at, k + m + 2)))
            at += k + m + 2
        many = (k1 + 1) * (k2 + 1)
        weights = np.array(r.reals(at, many)).reshape(k2 + 1, k1 + 1).T
        control = self.scale * np.array(r.reals(at + many, 3 * many)).reshape(k2 + 1, k1 + 1, 3).transpose(1, 0, 2)
        if any((np.diff(k) < 0.0).any() for k in knots) or weights.min() <= 0.0:
            raise BadFile(f"the surface {r.number} makes no sense")
        return BSplineSurface(frozen(knots[0]), frozen(knots[1]), m1, m2, frozen(control), _weights(weights))

    def on_surface(self, number: int, surface: Surface) -> list[Stretch]:
        """A curve in the parameters of a spline surface, as splines in space through points on it."""
        if not isinstance(surface, BSplineSurface):
            raise Unread("a boundary in the parameters of a surface that is no spline")
        out = []
        was, self.scale = self.scale, 1.0  # parameters are no lengths
        try:
            parts = self.curve(number)
        finally:
            self.scale = was
        for part in parts:
            uv = part.points(65)
            p = surface.at(uv[:, 0], uv[:, 1])[0]
            if float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum()) == 0.0:
                continue  # along a pole
            fit = scipy.interpolate.make_interp_spline(np.linspace(0.0, 1.0, 65), p, k=3)
            out.append(Stretch(BSplineCurve(frozen(fit.t), 3, frozen(fit.c)), 0.0, 1.0))
        return out


def _weights(weights: Floats) -> Floats | None:
    return None if float(np.ptp(weights)) <= 1e-14 * float(weights.max()) else frozen(weights)


def outline_of(surface: BSplineSurface) -> list[Stretch]:
    """The natural boundary of a spline surface, once round; sides of no length are left out."""
    (u0, v0), (u1, v1) = surface.range
    sides = []
    for axis, at, forward in ((1, v0, True), (0, u1, True), (1, v1, False), (0, u0, False)):
        knots = surface.knots_u if axis == 1 else surface.knots_v
        t = np.linspace(*((u0, u1) if axis == 1 else (v0, v1)), 4 * (len(knots) + 8))
        fixed = np.full(len(t), at)
        p = surface.at(t, fixed)[0] if axis == 1 else surface.at(fixed, t)[0]
        if float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum()) < 1e-9 * (1.0 + float(np.abs(p).max())):
            continue
        row = _side(surface, axis, at)
        curve = row if row is not None else _through(t, p)
        sides.append(Stretch(curve, curve.low, curve.high, forward))
    return sides


def _side(surface: BSplineSurface, axis: int, at: float) -> BSplineCurve | None:
    """The side of a clamped net as a spline; None where the net is not clamped there."""
    cross, degree = (surface.knots_v, surface.degree_v) if axis == 1 else (surface.knots_u, surface.degree_u)
    low = bool(np.ptp(cross[: degree + 1]) == 0.0 and at == cross[0])
    high = bool(np.ptp(cross[-degree - 1 :]) == 0.0 and at == cross[-1])
    if not low and not high:
        return None
    k = 0 if low else -1
    net = surface.control[:, k] if axis == 1 else surface.control[k]
    weights = surface.weights
    row = None if weights is None else frozen(weights[:, k] if axis == 1 else weights[k])
    knots, own = (surface.knots_u, surface.degree_u) if axis == 1 else (surface.knots_v, surface.degree_v)
    return BSplineCurve(knots, own, frozen(net), row)


def _through(t: Floats, p: Floats) -> BSplineCurve:
    fit = scipy.interpolate.make_interp_spline(t, p, k=3)
    return BSplineCurve(frozen(fit.t), 3, frozen(fit.c))
