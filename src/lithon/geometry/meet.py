"""Where two surfaces meet, and where a curve meets a surface.

Closed forms where there are any: planes, cylinders, cones, spheres and tori that share an axis, and
the conics of planes. All else is followed numerically (`crossing`), which needs points near the place.
Tangential contacts are returned as the line or circle that they are.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, frozen, span_by_span, unit
from lithon.errors import Refusal
from lithon.geometry.coaxial import coaxial
from lithon.geometry.crossing import Crossing, Wanted, crossings, touches
from lithon.geometry.curves import TURN, Circle, Curve, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.inscribed import planes_between
from lithon.geometry.planar import open_conic, plane_extrusion, plane_revolution
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.sections import plane_turned
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Extrusion, Revolution
from lithon.geometry.tolerance import ANGULAR
from lithon.progress import pulse

#: A conic that stands off a surface by more tolerances lies on its other nappe.
_NAPPE = 1e3


def meet(
    a: Surface,
    b: Surface,
    tolerance: float = 1e-7,
    near: Floats | None = None,
    known: Sequence[Curve] = (),
    wanted: Wanted | None = None,
) -> list[Curve]:
    """The curves common to two surfaces that do not coincide; empty where they do not meet.

    near: points (n,3) about the place asked for, of which some should be within an element or so of
    the curves; without it a pair that has no closed form raises Refusal. known: curves of this pair that stand there
    already; they are among what is returned, and not followed again. wanted: see
    `crossings`.
    """
    pulse()
    closed = closed_form(a, b, tolerance)
    if closed is not None:
        return closed
    if near is None or not len(near):
        raise Refusal(f"where a {a.kind} and a {b.kind} meet has no closed form here")
    conics = _of_one_sphere(a, b, tolerance, near)
    if conics is not None:
        return conics
    for p, c in ((a, b), (b, a)):
        if isinstance(p, Plane) and isinstance(c, Cone):
            return open_conic(p, c, near)
        if isinstance(p, Plane) and isinstance(c, Torus | Revolution) and not known:
            cut = plane_turned(p, c, tolerance)
            if cut is not None:
                return list(cut)
    return [*known, *crossings(a, b, near, known, wanted, tolerance)]


def closed_form(a: Surface, b: Surface, tolerance: float) -> list[Curve] | None:
    """The curves, or None where there is no closed form."""
    if isinstance(a, Plane) and isinstance(b, Plane):
        return _planes(a, b)
    shared = coaxial(a, b, tolerance)
    if shared is not None:
        return shared
    if isinstance(b, Plane) and not isinstance(a, Plane):
        a, b = b, a
    if isinstance(a, Plane):
        if isinstance(b, Cylinder):
            return _plane_cylinder(a, b, tolerance)
        if isinstance(b, Cone):
            return _plane_cone(a, b, tolerance)
        if isinstance(b, Torus):
            return _plane_torus(a, b, tolerance)
        if isinstance(b, Extrusion):
            return plane_extrusion(a, b, tolerance, cross)
        if isinstance(b, Revolution):
            return plane_revolution(a, b, tolerance, cross)
    if isinstance(a, Cylinder) and isinstance(b, Cylinder):
        return _cylinders(a, b, tolerance)
    return _of_one_sphere(a, b, tolerance)


def _of_one_sphere(a: Surface, b: Surface, tolerance: float, near: Floats | None = None) -> list[Curve] | None:
    """The plane conics of two surfaces of one inscribed sphere; None of others, and of conics that do not close, unless
    it is known how far these are asked for."""
    planes = planes_between(a, b, tolerance)
    if planes is None:
        return None
    # Across a cylinder they close, whatever they do across a cone.
    through, other = (b, a) if isinstance(b, Cylinder) else (a, b)
    out: list[Curve] = []
    for plane in planes:
        curves = closed_form(plane, through, tolerance)
        if curves is None and isinstance(through, Cone) and near is not None:
            curves = open_conic(plane, through, near)
        if curves is None:
            return None
        # The other nappe of a cone is not of it.
        out += [c for c in curves if abs(float(other.signed_distance(_amid(c)[None])[0])) <= _NAPPE * tolerance]
    return out


def _amid(curve: Curve) -> Floats:
    """A point (3,) of a conic."""
    return curve.point(np.array([0.5 * (curve.low + curve.high) if isinstance(curve, BSplineCurve) else 0.0]))[0]


def _plane_cone(p: Plane, c: Cone, tolerance: float) -> list[Curve] | None:
    n, axis = p.frame.z, c.frame.z
    along = abs(float(n @ axis))
    d = float(p.signed_distance(c.apex))
    if abs(d) <= tolerance:  # through the apex: its generators, or the apex alone
        lean = np.arcsin(min(along, 1.0))  # between plane and axis
        if lean > c.angle + ANGULAR:
            return []
        foot = axis - float(axis @ n) * n
        if np.linalg.norm(foot) < ANGULAR:
            return []
        foot = unit(foot)
        half = np.arccos(np.clip(np.cos(c.angle) / np.cos(lean), -1.0, 1.0))
        side = cross_product(n, foot)
        ways = [np.cos(half) * foot + s * np.sin(half) * side for s in (-1.0, 1.0)]
        return [Line(frozen(c.apex), frozen(unit(w))) for w in (ways if half > 1e-7 else ways[:1])]
    if along <= np.sin(c.angle) + 1e-9:
        return None  # a parabola or hyperbola: see `open_conic`
    # An ellipse: its long axis lies in the plane through the cone's axis and the plane's normal.
    long = unit(axis - float(axis @ n) * n)
    side = unit(cross_product(axis, long))
    across = unit(cross_product(side, axis))
    ends = []
    for s in (-1.0, 1.0):
        way = np.cos(c.angle) * axis + s * np.sin(c.angle) * across
        t = -d / float(way @ n)
        if t <= 0.0:
            return []  # the plane cuts the other nappe
        ends.append(c.apex + t * way)
    centre = 0.5 * (ends[0] + ends[1])
    major = 0.5 * float(np.linalg.norm(ends[1] - ends[0]))
    h = float((centre - c.apex) @ axis)
    r = h * np.tan(c.angle)
    off = float((centre - c.apex) @ across)
    minor = float(np.sqrt(max(r * r - off * off, 0.0)))
    return [Ellipse(Frame.of(centre, n, ends[1] - ends[0]), major, minor)]


def _plane_torus(p: Plane, t: Torus, tolerance: float) -> list[Curve] | None:
    """A plane through the axis cuts two circles; one across it is coaxial; others have no conics."""
    if abs(float(p.frame.z @ t.frame.z)) > ANGULAR or abs(float(p.signed_distance(t.frame.origin))) > tolerance:
        return None
    way = cross_product(p.frame.z, t.frame.z)
    out: list[Curve] = []
    for s in (-1.0, 1.0):
        frame = Frame.of(t.frame.origin + s * t.major * way, p.frame.z, s * way)
        out.append(Circle.about(frame, t.minor))
    return out


def _planes(a: Plane, b: Plane) -> list[Curve]:
    direction = cross_product(a.frame.z, b.frame.z)
    if np.linalg.norm(direction) < ANGULAR:
        return []
    direction = unit(direction)
    # The point of the line nearest to the middle of both origins keeps numbers small.
    middle = 0.5 * (a.frame.origin + b.frame.origin)
    rows = np.array([a.frame.z, b.frame.z, direction])
    right = np.array([a.frame.z @ a.frame.origin, b.frame.z @ b.frame.origin, direction @ middle])
    return [Line(frozen(np.linalg.solve(rows, right)), frozen(direction))]


def _plane_cylinder(p: Plane, c: Cylinder, tolerance: float) -> list[Curve]:
    n, axis = p.frame.z, c.frame.z
    along = float(n @ axis)
    side = float(np.linalg.norm(cross_product(n, axis)))
    if side < ANGULAR:
        height = float((p.frame.origin - c.frame.origin) @ n) / along
        return [Circle.about(Frame.of(c.frame.origin + height * axis, axis, c.frame.x), c.radius)]
    if abs(along) < ANGULAR:
        toward = unit(n - along * axis)
        d = -float(p.signed_distance(c.frame.origin))
        across = cross_product(axis, toward)
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


def _cylinders(a: Cylinder, b: Cylinder, tolerance: float) -> list[Curve] | None:
    if np.linalg.norm(cross_product(a.frame.z, b.frame.z)) < ANGULAR:
        return _parallel_cylinders(a, b, tolerance)
    conics = _of_one_sphere(a, b, tolerance)
    if conics is not None:
        return conics
    normal = unit(cross_product(a.frame.z, b.frame.z))
    gap = abs(float((b.frame.origin - a.frame.origin) @ normal))
    return [] if gap > a.radius + b.radius + tolerance else None


def where_they_cross(curves: Sequence[Curve], near: float) -> Floats:
    """The points (n,3) at which curves of two surfaces come within `near` (mm) of each other: plane curves of different
    planes, and such branches as pass through places where the surfaces touch."""
    flat = [(c, plane) for c in curves if (plane := _plane_of(c)) is not None]
    out: list[Floats] = []
    for k, (one, first) in enumerate(flat):
        for other, second in flat[k + 1 :]:
            if np.linalg.norm(cross_product(first.frame.z, second.frame.z)) < ANGULAR:
                continue
            low, high = (one.low, one.high) if isinstance(one, BSplineCurve) else (0.0, TURN)
            t = cross(one, second, low, high, near)
            points = one.point(t)
            away = np.linalg.norm(other.point(other.parameter(points)) - points, axis=1)
            out += list(points[away <= near])
    for curve in curves:
        if isinstance(curve, Crossing):
            t = np.linspace(curve.low, curve.high, 4 * len(curve.guide.control) + 1)
            out += [spot for spot, gap in touches(curve.first, curve.second, curve.point(t)) if gap <= near]
    return np.array(out).reshape(-1, 3)


def _plane_of(curve: Curve) -> Plane | None:
    """The plane in which a conic lies."""
    if isinstance(curve, Ellipse):
        return Plane(curve.frame)
    if isinstance(curve, BSplineCurve) and curve.degree == 2 and len(curve.control) == 3:
        first, middle, last = curve.control
        normal = cross_product(first - middle, last - middle)
        if np.linalg.norm(normal) > ANGULAR * np.linalg.norm(first - middle) * np.linalg.norm(last - middle):
            return Plane.of(middle, normal)
    return None  # a line written as a parabola lies in many


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
    across = cross_product(a.frame.z, toward) * float(np.sqrt(y2))
    return [Line(frozen(foot - across), a.frame.z), Line(frozen(foot + across), a.frame.z)]


def cross(curve: Curve, surface: Surface, t0: float, t1: float, tolerance: float = 1e-7) -> Floats:
    """Parameters (n,) in [t0, t1], sorted, where a curve meets a surface that does not hold it."""
    pulse()
    found = None
    if isinstance(curve, Line):
        found = _line_roots(curve, surface, t0, t1, tolerance)
    elif isinstance(curve, Ellipse) and isinstance(surface, Plane):
        found = _conic_roots(curve, surface, tolerance)
    if found is None:
        found = _roots(curve, surface, t0, t1, tolerance)
    if curve.period is not None and found.size:
        found = t0 + np.mod(found - t0, curve.period)
    speed = float(np.linalg.norm(curve.derivative(np.array([t0]))))
    margin = tolerance / max(speed, 1e-300)
    found = np.sort(found[(found >= t0 - margin) & (found <= t1 + margin)])
    if found.size > 1:
        found = found[np.concatenate([[True], np.diff(found) > margin])]
    if curve.period is not None and found.size > 1 and found[0] + curve.period - found[-1] <= margin:
        found = found[:-1]  # the place where it begins, once more
    return np.asarray(found)


def _conic_roots(curve: Ellipse, plane: Plane, tolerance: float) -> Floats:
    """Where a circle or ellipse passes a plane; once where it comes through by less than the tolerance, or
    stays as near: then it touches."""
    height = float(plane.signed_distance(curve.frame.origin))
    a, b = curve.major * float(curve.frame.x @ plane.frame.z), curve.minor * float(curve.frame.y @ plane.frame.z)
    rise = float(np.hypot(a, b))
    if rise <= tolerance or abs(height) > rise + tolerance:
        return np.zeros(0)
    top = float(np.arctan2(b, a))
    if abs(height) >= rise - tolerance:
        return np.array([top if height < 0.0 else top + np.pi])
    half = float(np.arccos(-height / rise))
    return np.array([top - half, top + half])


def _touch(a: float, b: float, c: float, radius: float, tolerance: float) -> Floats:
    """Where a line meets a round wall: roots of a t^2 + 2 b t + c, c being a square of distances less the radius';
    one where the line is as far from the axis as the wall, to the tolerance."""
    nearest = -b / a
    away = float(np.sqrt(max(c + radius * radius + b * nearest, 0.0)))
    return np.array([nearest]) if abs(away - radius) <= tolerance else _quadratic(a, b, c)


def _line_roots(line: Line, surface: Surface, t0: float, t1: float, tolerance: float) -> Floats | None:
    """In closed form; None where there is none and the stretch is short enough to search."""
    if isinstance(surface, Plane):
        slope = float(line.direction @ surface.frame.z)
        if abs(slope) < ANGULAR:
            return np.zeros(0)
        return np.array([-float(surface.signed_distance(line.origin)) / slope])
    p = surface.frame.local(line.origin)
    d = surface.frame.local(line.origin + line.direction) - p
    if isinstance(surface, Cylinder):
        if d[0] ** 2 + d[1] ** 2 < ANGULAR**2:
            return np.zeros(0)
        c = p[0] ** 2 + p[1] ** 2 - surface.radius**2
        return _touch(d[0] ** 2 + d[1] ** 2, p[0] * d[0] + p[1] * d[1], c, surface.radius, tolerance)
    if isinstance(surface, Sphere):
        return _touch(1.0, float(p @ d), float(p @ p) - surface.radius**2, surface.radius, tolerance)
    if isinstance(surface, Cone):
        k = np.tan(surface.angle) ** 2
        z = p[2] + surface.radius / np.tan(surface.angle)
        a, b = d[0] ** 2 + d[1] ** 2 - k * d[2] ** 2, p[0] * d[0] + p[1] * d[1] - k * z * d[2]
        c = p[0] ** 2 + p[1] ** 2 - k * z**2
        if abs(a) < 1e-12:
            t = np.array([-c / (2.0 * b)]) if abs(b) > 1e-300 else np.zeros(0)
        else:
            t = _quadratic(a, b, c)
        return np.asarray(t[z + t * d[2] >= -tolerance])
    if isinstance(surface, Torus):
        # |p + t d|^2 + R^2 - r^2 squared against 4 R^2 (x^2 + y^2): a quartic, polished by Newton.
        t_near = -float(p @ d)
        p = p + t_near * d
        u = np.array([1.0, 2.0 * float(p @ d), float(p @ p) + surface.major**2 - surface.minor**2])
        flat = np.array([d[0] ** 2 + d[1] ** 2, 2.0 * (p[0] * d[0] + p[1] * d[1]), p[0] ** 2 + p[1] ** 2])
        quartic = np.polymul(u, u)
        quartic[2:] -= 4.0 * surface.major**2 * flat
        roots = np.roots(quartic)
        small = 1e-4 * (surface.major + surface.minor)
        t = np.asarray(np.real(roots[np.abs(np.imag(roots)) < small]), dtype=float)
        for _ in range(40 if t.size else 0):
            at = surface.frame.world(p + np.multiply.outer(t, d))
            lean = np.asarray(surface.normal(at) @ line.direction)
            t = t - np.clip(surface.signed_distance(at) / np.where(np.abs(lean) > 1e-9, lean, np.inf), -small, small)
        at = surface.frame.world(p + np.multiply.outer(t, d))
        return np.asarray(t[np.abs(surface.signed_distance(at)) <= tolerance] + t_near)
    if t1 - t0 > 1e5:
        # A far-reaching line is searched where the surface can be.
        spots = surface.control.reshape(-1, 3) if isinstance(surface, BSplineSurface) else surface.frame.origin[None]
        reach = float(np.ptp(spots, axis=0).max()) or 1e3
        t = line.parameter(spots)
        return _roots(line, surface, float(t.min()) - reach, float(t.max()) + reach, tolerance)
    return None


def _quadratic(a: float, b: float, c: float) -> Floats:
    """Roots of a t^2 + 2 b t + c, a double one where rounding alone keeps it from touching."""
    disc = b * b - a * c
    if disc < -1e-14 * (b * b + abs(a * c)):
        return np.zeros(0)
    root = float(np.sqrt(max(disc, 0.0)))
    q = -(b + root) if b >= 0.0 else -(b - root)
    if q == 0.0:
        return np.zeros(1)
    return np.array([q / a, c / q])


#: How much longer than its chord the way between two samples of a curve may be.
_BOW = 1.25


def _roots(curve: Curve, surface: Surface, t0: float, t1: float, tolerance: float) -> Floats:
    """By samples: bisection where the distance changes sign, a search for the lowest point where it only comes near."""
    corners = curve.corners(t0, t1) if isinstance(curve, BSplineCurve) else np.array([t0, t1])
    t = span_by_span(corners, 32, 240)
    at = curve.point(t)
    f = surface.signed_distance(at)
    off = np.abs(f)
    # A distance falls no faster than the way is long: what lies between two samples is at least so far away.
    least = 0.5 * (off[1:] + off[:-1] - _BOW * np.linalg.norm(np.diff(at, axis=0), axis=1))
    near = np.minimum(least[1:], least[:-1]) <= tolerance
    dip = np.flatnonzero(near & (off[1:-1] <= off[:-2]) & (off[1:-1] <= off[2:]) & (f[:-2] * f[2:] > 0.0)) + 1
    bottom = _lowest(curve, surface, t, dip, np.sign(f[dip - 1]))
    depth = surface.signed_distance(curve.point(bottom)) * np.sign(f[dip - 1]) if len(dip) else np.zeros(0)
    through = depth < 0.0  # between two samples it comes through and back
    row = np.flatnonzero(f[:-1] * f[1:] < 0.0)
    begun, passed = _beside_roots(curve, surface, t, f, tolerance)
    low = np.concatenate([t[row], t[dip - 1][through], bottom[through], begun])
    high = np.concatenate([t[row + 1], bottom[through], t[dip + 1][through], passed])
    sign = np.sign(surface.signed_distance(curve.point(low))) if len(low) else low
    for _ in range(55 if len(low) else 0):
        middle = 0.5 * (low + high)
        same = np.sign(surface.signed_distance(curve.point(middle))) == sign
        low, high = np.where(same, middle, low), np.where(same, high, middle)
    touches = bottom[~through & (depth <= tolerance)]
    middle = 0.5 * (low + high)
    if len(middle):  # over the end of a surface, and where another part of it is nearer, the side changes by a leap
        middle = middle[np.abs(surface.signed_distance(curve.point(middle))) <= tolerance]
    return np.concatenate([middle, t[off <= tolerance], touches])


def _beside_roots(curve: Curve, surface: Surface, t: Floats, f: Floats, tolerance: float) -> tuple[Floats, Floats]:
    """Where samples t (n,) with distances f (n,) hide a root beside one that a sample is on: from (k,), to (k,)."""
    begun, passed = [np.zeros(0)], [np.zeros(0)]
    on = np.flatnonzero(np.abs(f) <= tolerance)
    for side in (1, -1):
        k = on[(on + side >= 0) & (on + side < len(t))]
        k = k[np.abs(f[k + side]) > tolerance]
        close = t[k] + 1e-3 * (t[k + side] - t[k])
        if len(k):
            other = surface.signed_distance(curve.point(close)) * np.sign(f[k + side]) < -1e-12 * np.abs(f).max()
            begun.append(close[other])
            passed.append(t[k + side][other])
    return np.concatenate(begun), np.concatenate(passed)


def _lowest(curve: Curve, surface: Surface, t: Floats, dip: Ints, side: Floats) -> Floats:
    """Of samples where the distance dips without changing its sign (`side`), where it is lowest on that side."""
    low, high = t[dip - 1], t[dip + 1]
    for _ in range(60 if len(dip) else 0):  # thirds: the distance has one lowest point between
        a, b = low + (high - low) / 3.0, high - (high - low) / 3.0
        fa, fb = (side * surface.signed_distance(curve.point(x)) for x in (a, b))
        low, high = np.where(fa <= fb, low, a), np.where(fa <= fb, b, high)
    return np.asarray(0.5 * (low + high))


def midway(a: Plane, b: Plane) -> Plane:
    """The plane midway between two planes: parallel ones halve the gap, others the angle."""
    n = b.frame.z if float(a.frame.z @ b.frame.z) > -1e-12 else -b.frame.z
    if float(np.linalg.norm(cross_product(a.frame.z, n))) < 1e-9:
        middle = a.frame.origin + 0.5 * float((b.frame.origin - a.frame.origin) @ a.frame.z) * a.frame.z
        return Plane.of(middle, a.frame.z, a.frame.x)
    line = meet(a, b)[0]
    return Plane.of(frozen(line.point(np.zeros(1))[0]), a.frame.z + n)
