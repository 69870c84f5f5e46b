"""Exact measures: length, area, volume, centroid, inertia, boxes.

Faces are integrated through their boundary: on a surface with flat coordinates (u, v) Green's
theorem turns the integral of f into the loop integral of -F du with F the integral of f over v.
Gauss quadrature makes that exact to rounding on planes and cylinders, and converges as fast as the
integrands are smooth elsewhere. No triangles are involved.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, cross_product, evenly, frozen, gauss, given, unit
from lithon.brep.charts import chart_of, outline, parts_of
from lithon.brep.copies import Copy, copy_of, origin_of
from lithon.brep.topology import Body, Edge, Face, FaceUse
from lithon.geometry.batch import CurveBatch, RollBatch
from lithon.geometry.charts import Chart
from lithon.geometry.crossing import Crossing
from lithon.geometry.curves import Ellipse, Line
from lithon.geometry.facets import Facets
from lithon.geometry.poles import LuneChart, PoleChart
from lithon.geometry.rounds import Cone, PolarCone, PolarSphere, Sphere
from lithon.geometry.splines import BSplineCurve, SplineChart, evened
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import SweptChart
from lithon.remembered import Remembered

_NODES, _WEIGHTS = gauss(10)
#: Where a spline surface has so many knots each way what is between two of them is short, and fewer nodes are as good;
#: and so where an edge has so many.
_FINE, _MANY, _SHORT = 8, 32, gauss(6)
#: Straight from a foot to an edge the integrands are cubics: two nodes are exact.
_STRAIGHT, _STRAIGHT_WEIGHTS = gauss(2)


@dataclass(frozen=True, slots=True)
class MassProperties:
    """Of the solid at unit density: mm3, mm2, mm, and inertia (3,3) about the centroid in mm5."""

    volume: float
    area: float
    centroid: Floats
    inertia: Floats


_moments = Remembered[Face, Floats]("brep/measures:moments")
_edge_parts = Remembered[Edge, list[tuple[Surface, Floats]]]("brep/measures:edge_parts")


def _integrands(points: Floats, normals: Floats) -> Floats:
    """(n, 14): area, area centroid (3), volume, volume moments x (3), xx yy zz (3), xy yz zx (3)."""
    x, n = points, normals
    flux = (x * n).sum(axis=1) / 3.0
    first = x**2 * n / 2.0
    second = x**3 * n / 3.0
    mixed = np.stack(
        [
            x[:, 0] ** 2 * x[:, 1] * n[:, 0] / 2.0,
            x[:, 1] ** 2 * x[:, 2] * n[:, 1] / 2.0,
            x[:, 2] ** 2 * x[:, 0] * n[:, 2] / 2.0,
        ],
        axis=1,
    )
    ones = np.ones((len(x), 1))
    return np.concatenate([ones, x, flux[:, None], first, second, mixed], axis=1)


def _face_moments(face: Face) -> Floats:
    """The integrals (14,) of `_integrands` over a face, normals as the face's own."""
    hit = _moments.get(face)
    if hit is not None:
        return hit
    total = np.zeros(14)
    if isinstance(face.surface, Facets):
        total = _triangle_moments(face.surface)
        total[4:] *= 1.0 if face.along else -1.0
        _moments[face] = total
        return total
    if face.before is not None:
        _moments[face] = np.sum([_face_moments(part) for part in (face.before, *face.plugs())], axis=0)
        return _moments[face]
    if (corners := _three_corners(face)) is not None:
        normal = face.surface.frame.z if face.along else -face.surface.frame.z
        total = np.asarray(_over_triangles(given(corners), np.array([[0, 1, 2]]), given(normal[None]), *_DUNAVANT))
        if float(cross_product(corners[1] - corners[0], corners[2] - corners[0]) @ normal) < 0.0:
            total = -total  # walked the other way round: of less than nothing, as of any other face
        _moments[face] = total
        return total
    for part in parts_of(face):
        total += _loop_moments(part)
    # Loops run clockwise in the flat where the face is turned round: area keeps its sign by that,
    # what holds the normal once more changes with it.
    if not face.along:
        total[:4] = -total[:4]
    _moments[face] = total
    return total


def unmeasured(faces: Iterable[Face]) -> list[Face]:
    """Those of some faces over which nothing has been integrated yet."""
    return _moments.missing(faces)


def known_moments(faces: Iterable[Face]) -> dict[Face, Floats]:
    """What has been integrated over faces so far, for another process to take over."""
    return {face: frozen(_moments[face]) for face in faces if face in _moments}


def learn_moments(found: dict[Face, Floats]) -> None:
    for face, moments in found.items():
        _moments.setdefault(face, moments)


#: Dunavant's rule of six points: shares (6,3) of a triangle's corners, weights (6,); exact for degree four.
_DUNAVANT = (
    np.concatenate([np.full((3, 3), g) + (1.0 - 3.0 * g) * np.eye(3) for g in (0.445948490915965, 0.091576213509771)]),
    np.repeat([0.223381589678011, 0.109951743655322], 3),
)


def _triangle_moments(facets: Facets) -> Floats:
    """Over triangles, exact: the integrands are of degree three."""
    triangles = np.ascontiguousarray(facets.triangles, dtype=np.int64)
    return np.asarray(_over_triangles(given(facets.points), triangles.copy(), given(facets.normals), *_DUNAVANT))


def _three_corners(face: Face) -> Floats | None:
    """The corners (3,3) of a plane face with three straight edges; none of any other."""
    if not isinstance(face.surface, Plane) or len(face.loops) != 1 or len(face.loops[0]) != 3:
        return None
    corners = []
    for coedge in face.loops[0]:
        if not isinstance(coedge.edge.curve, Line) or coedge.first is None:
            return None
        corners.append(coedge.first.point)
    return np.array(corners)


@njit(cache=True, nogil=True)
def _over_triangles(points: Floats, triangles: Ints, normals: Floats, shares: Floats, weights: Floats) -> Floats:
    """The integrals (14,) of `_integrands` over triangles, by the shares (q,3) of their corners and weights (q,)."""
    out, x = np.zeros(14), np.empty(3)
    for t in range(len(triangles)):
        a, b, c, n = points[triangles[t, 0]], points[triangles[t, 1]], points[triangles[t, 2]], normals[t]
        size = 0.0
        for k in range(3):
            i, j = (k + 1) % 3, (k + 2) % 3
            size += ((b[i] - a[i]) * (c[j] - a[j]) - (b[j] - a[j]) * (c[i] - a[i])) ** 2
        size = 0.5 * np.sqrt(size)
        for q in range(len(weights)):
            w = size * weights[q]
            out[0] += w
            for k in range(3):
                x[k] = shares[q, 0] * a[k] + shares[q, 1] * b[k] + shares[q, 2] * c[k]
            for k in range(3):
                square = x[k] * x[k] * n[k]
                out[1 + k] += w * x[k]
                out[4] += w * x[k] * n[k] / 3.0
                out[5 + k] += w * square / 2.0
                out[8 + k] += w * square * x[k] / 3.0
                out[11 + k] += w * square * x[(k + 1) % 3] / 2.0
    return out


def _loop_moments(face: Face) -> Floats:
    total = np.zeros(14)
    base, hand = 0.0, 1.0
    chart: Chart
    if isinstance(face.surface, Plane | Cylinder):
        coedges = [c for loop in face.loops for c in loop]
        signs = np.array([1.0 if c.forward else -1.0 for c in coedges])
        return np.asarray(signs @ _rolled_moments([(c.edge, face.surface) for c in coedges]))
    if isinstance(face.surface, Cone):
        chart = PolarCone(face.surface)
    elif isinstance(face.surface, Sphere):
        lines = [outline(loop) for loop in face.loops]
        chart, hand = face.surface.polar(lines if face.along else [p[::-1] for p in lines]), -1.0
    else:
        chart = chart_of(face)
        start: float | None = None
        if isinstance(chart, PoleChart | LuneChart):
            chart, start = chart.fan()
        elif isinstance(chart, SplineChart) and not chart.winds and len(chart.knots()[1]) > 2 * len(chart.knots()[0]):
            chart = replace(chart, swap=not chart.swap)  # the inner integral goes from knot to knot
            start = chart.tip()
        base = float(chart.flat(next(face.edges()).at(0.37)[None])[0, 1]) if start is None else start
    for loop in face.loops:
        for coedge in loop:
            edge = coedge.edge
            along = hand * _run(edge, chart, base)
            total += along if coedge.forward else -along
    return total


#: Edges integrated at once: enough to be quick, few enough to be small.
_AT_ONCE = 400
_Side = tuple[Edge, Plane | Cylinder]


def prepare(faces: Iterable[Face]) -> None:
    """Integrate along the edges of many plane and cylindrical faces together: what a body as a whole needs."""
    wanted = [f for f in _moments.missing(faces) if f.before is None and origin_of(f) is None]
    rolled = [f for f in wanted if isinstance(f.surface, Plane | Cylinder) and _three_corners(f) is None]
    _rolled_moments([(e, f.surface) for f in rolled if isinstance(f.surface, Plane | Cylinder) for e in f.edges()])


def _rolled_moments(sides: list[_Side]) -> Floats:
    """Shares (k,14) of edges in the loop integral on surfaces that roll out, walked forward; cached."""
    out = np.empty((len(sides), 14))
    missing = []
    for k, (edge, surface) in enumerate(sides):
        for other, value in _edge_parts.setdefault(edge, []):
            if other is surface:
                out[k] = value
                break
        else:
            missing.append(k)
    for start in range(0, len(missing), _AT_ONCE):
        rows = missing[start : start + _AT_ONCE]
        out[rows] = _rolled([sides[k] for k in rows])
        for k in rows:
            _edge_parts[sides[k][0]].append((sides[k][1], out[k].copy()))
    return out


def _rolled(sides: list[_Side]) -> Floats:
    """As `_run`, for many edges (k,14) in one go."""
    edges = [edge for edge, _ in sides]
    uneven = np.array([isinstance(e.curve, BSplineCurve | Crossing) for e in edges])
    even, other = np.flatnonzero(~uneven), np.flatnonzero(uneven)
    pieces = np.array([_pieces(edges[k], 1) for k in even], dtype=np.int64)
    ends = np.array([(edges[k].t0, edges[k].t1) for k in even]).reshape(-1, 2)
    cuts = [_smooth_cuts(edges[k], 1) for k in other]
    every = np.concatenate([evenly(ends[:, 0], ends[:, 1], pieces), *cuts])
    of = np.repeat([*even, *other], [*(pieces + 1), *map(len, cuts)])
    within = of[1:] == of[:-1]
    start, half = every[:-1][within, None], np.diff(every)[within, None] / 2.0
    t, weight = (start + half + half * _NODES).ravel(), (half * _WEIGHTS).ravel()
    row = np.repeat(of[1:][within], len(_NODES))
    curves, surfaces = CurveBatch.of([e.curve for e in edges]), RollBatch.of([surface for _, surface in sides])
    out: Floats = _gathered(
        row, given(curves.points(row, t)), given(curves.speeds(row, t) * weight[:, None]), given(surfaces.origin),
        given(surfaces.axes), given(surfaces.radius), given(0.5 * (1.0 + _STRAIGHT)), given(0.5 * _STRAIGHT_WEIGHTS),
    )  # fmt: skip
    return out


@njit(cache=True, nogil=True)
def _gathered(
    row: Ints, points: Floats, steps: Floats, origin: Floats, axes: Floats, radius: Floats, shares: Floats,
    inner: Floats,
) -> Floats:  # fmt: skip
    """The integrals (k,14) of `_integrands` between curves on planes (radius 0) and cylinders and the line where the
    second flat coordinate is 0: of nodes (n,3) on the curves, weighted speeds (n,3) there, and each one's surface
    (n,)."""
    out = np.zeros((len(radius), 14))
    p, n, x, y, z = np.empty(3), np.empty(3), np.empty(3), np.empty(3), np.empty(3)
    foot, rise = np.empty(3), np.empty(3)
    for i in range(len(row)):
        k = row[i]
        r = radius[k]
        for c in range(3):
            p[c] = points[i, c] - origin[k, c]
            x[c], y[c], z[c] = axes[k, 0, c], axes[k, 1, c], axes[k, 2, c]
        a = p[0] * x[0] + p[1] * x[1] + p[2] * x[2]
        b = p[0] * y[0] + p[1] * y[1] + p[2] * y[2]
        run = 0.0
        if r > 0.0:
            height = p[0] * z[0] + p[1] * z[1] + p[2] * z[2]
            size = np.hypot(a, b)
            cos, sin = (a / size, b / size) if size > 0.0 else (1.0, 0.0)
            for c in range(3):
                n[c] = cos * x[c] + sin * y[c]
                foot[c] = origin[k, c] + r * n[c]
                rise[c] = height * z[c]
                run += steps[i, c] * (cos * y[c] - sin * x[c])
        else:
            height = b
            for c in range(3):
                n[c] = z[c]
                foot[c] = origin[k, c] + a * x[c]
                rise[c] = height * y[c]
                run += steps[i, c] * x[c]
        for s in range(len(shares)):
            w = -inner[s] * run * height
            for c in range(3):
                p[c] = foot[c] + shares[s] * rise[c]
            out[k, 0] += w
            for c in range(3):
                along = w * n[c] * p[c]
                out[k, 1 + c] += w * p[c]
                out[k, 4] += along / 3.0
                out[k, 5 + c] += along * p[c] / 2.0
                out[k, 8 + c] += along * p[c] * p[c] / 3.0
                out[k, 11 + c] += along * p[c] * p[(c + 1) % 3] / 2.0
    return out


def _run(edge: Edge, chart: Chart, base: float) -> Floats:
    """The loop integral (14,) along one edge, walked forward, the inner integral from the height `base`. Splines are
    integrated from knot to knot: Gauss's rule is as good as what it integrates is smooth."""
    cuts = _smooth_cuts(edge, 4 if isinstance(chart, SplineChart) else 8)
    knotted = chart if isinstance(chart, SplineChart | SweptChart) else None
    cuts = _by_tips(edge, chart, cuts)
    if knotted is not None:
        cuts = _at_knots(edge, knotted, cuts)
    pieces = len(cuts) - 1
    half = np.diff(cuts)[:, None] / 2.0
    fine = knotted is not None and min(len(k) for k in knotted.knots()) >= _FINE
    inner = _SHORT if fine else (_NODES, _WEIGHTS)
    nodes, weights = _SHORT if pieces >= _MANY else inner
    t = ((cuts[:-1, None] + half) + half * nodes).ravel()
    weight = np.broadcast_to(half * weights, (pieces, len(nodes))).ravel()
    flat = chart.flat(edge.curve.point(t))
    du = _flat_rate(chart, flat, edge.curve.derivative(t))
    rise = flat[:, 1] - base
    # Along the base, and straight towards it, nothing is added: on patches that are three edges of four.
    counts = np.flatnonzero(np.abs(du * rise) > 1e-14 * (np.abs(rise).max() + 1e-300) * np.linalg.norm(
        edge.curve.derivative(t), axis=1))  # fmt: skip
    if not len(counts):
        return np.zeros(14)
    flat, du, rise, weight = flat[counts], du[counts], rise[counts], weight[counts]
    if isinstance(chart, SplineChart) and not any(chart.surface.closed()):
        return chart.swept(flat, base, -weight * du, inner)
    heights = knotted.knots()[1] if knotted is not None else np.zeros(0)
    least = 2 if isinstance(chart, SplineChart) else 4
    own, height, parts = _stretches(base, rise, heights, least, inner)
    at = np.stack([flat[own, 0], height], axis=-1)
    points, frame = chart.spots(at) if isinstance(chart, SplineChart) else (chart.point(at), chart.tangents(at))
    normal = cross_product(frame[:, 0], frame[:, 1]) * (-1.0 if isinstance(chart, PolarSphere) else 1.0)
    stretch = np.linalg.norm(normal, axis=1)
    normal = normal / np.maximum(stretch, 1e-300)[:, None]
    return np.asarray(-((weight * du)[own] * parts * stretch) @ _integrands(points, normal))


def _stretches(
    base: float, rise: Floats, knots: Floats, least: int, rule: tuple[Floats, Floats]
) -> tuple[Ints, Floats, Floats]:
    """Nodes of a rule from a height up (or down) by each of several rises (n,), in stretches between knots and at least
    so many: the row of each node, its height, and its weight."""
    top = base + rise
    inner = base + np.multiply.outer(np.arange(1, least) / least, rise)
    ends = np.clip(knots[:, None], np.minimum(base, top), np.maximum(base, top))
    every = np.sort(np.concatenate([np.broadcast_to([[base]], (1, len(rise))), inner, ends, top[None]]), axis=0)
    width = np.diff(every, axis=0)
    stretch, own = np.nonzero(width > 1e-13 * np.abs(rise))
    low, wide = every[stretch, own], width[stretch, own]
    height = low[:, None] + wide[:, None] * 0.5 * (1.0 + rule[0])
    weight = (np.sign(rise)[own] * wide)[:, None] * 0.5 * rule[1]
    return np.repeat(own, len(rule[0])), height.ravel(), weight.ravel()


def _at_knots(edge: Edge, chart: SplineChart | SweptChart, cuts: Floats) -> Floats:
    """More cuts where an edge passes a knot of a spline surface, either way."""
    t = np.unique(np.concatenate([cuts, np.linspace(edge.t0, edge.t1, 33)]))
    flat = chart.flat(edge.curve.point(t))
    passed: list[tuple[Floats, ...]] = []
    for k, knots in enumerate(chart.knots()):
        if float(np.ptp(flat[:, k])) < 1e-9 * float(np.abs(flat[:, k]).max() + np.abs(knots).max(initial=0.0)):
            continue  # it runs along a knot, or between two
        away = flat[:, k, None] - knots
        row, which = np.nonzero((away[:-1] < 0.0) != (away[1:] < 0.0))
        column = np.full(len(row), float(k))
        passed.append((t[row], t[row + 1], away[row, which], away[row + 1, which], knots[which], column))
    if not passed:
        return cuts
    low, high, f_low, f_high, goal, column = (np.concatenate(x) for x in zip(*passed, strict=True))
    for _ in range(4 if len(low) else 0):  # the secant, kept within
        at = np.clip(low - f_low * (high - low) / (f_high - f_low), low, high)
        f = chart.flat(edge.curve.point(at))[np.arange(len(at)), column.astype(int)] - goal
        before = (f < 0.0) == (f_low < 0.0)
        low, f_low = np.where(before, at, low), np.where(before, f, f_low)
        high, f_high = np.where(before, high, at), np.where(before, f_high, f)
    out = np.unique(np.concatenate([cuts, np.where(np.abs(f_low) < np.abs(f_high), low, high)]))
    return out[np.concatenate([[True], np.diff(out) > 1e-9 * (edge.t1 - edge.t0)])]


def _pieces(edge: Edge, least: int) -> int:
    """In how many even pieces, at least `least`, each one of an edge turns little."""
    # Along lines and conics the integrands are polynomials in t, cos t and sin t of low degree.
    step = 1.0 if isinstance(edge.curve, Line | Ellipse) else 0.5
    return max(least, edge.curve.pieces(edge.t0, edge.t1, 1e9, step))


def _smooth_cuts(edge: Edge, least: int) -> Floats:
    """Where an edge is cut so that each piece turns little and holds no knot, in at least `least` pieces."""
    cuts = np.linspace(edge.t0, edge.t1, _pieces(edge, least) + 1)
    if isinstance(edge.curve, BSplineCurve):
        cuts = np.unique(np.concatenate([cuts, edge.curve.corners(edge.t0, edge.t1)]))
        cuts = cuts[np.concatenate([[True], np.diff(cuts) > 1e-12 * (edge.t1 - edge.t0)])]
    uneven = isinstance(edge.curve, Crossing) or (
        isinstance(edge.curve, BSplineCurve) and edge.curve.weights is not None
    )
    return _by_speed(edge, cuts) if uneven else cuts


_speed_cuts = Remembered[Edge, Floats]("brep/measures:speed_cuts")


def _by_speed(edge: Edge, cuts: Floats) -> Floats:
    """More cuts where a crossing runs unevenly over its guide, as it does beside places where its surfaces touch, and a
    rational spline over its parameter, and where it bends sharply, as it does beside tips. Cached."""
    if edge not in _speed_cuts:
        _speed_cuts[edge] = _by_turn(edge, evened(edge.curve.derivative, cuts))
    return _speed_cuts[edge]


#: The most (radians) that a curve turns in a piece that Gauss's rule is used on.
_BENT = 0.5


def _by_turn(edge: Edge, cuts: Floats) -> Floats:
    for _ in range(24):
        way = unit(edge.curve.derivative(cuts))
        bent = np.flatnonzero((way[1:] * way[:-1]).sum(axis=1) < np.cos(_BENT))
        bent = bent[np.diff(cuts)[bent] > 1e-9 * (cuts[-1] - cuts[0])]
        if not len(bent):
            break
        cuts = np.sort(np.concatenate([cuts, 0.5 * (cuts[1:] + cuts[:-1])[bent]]))
    return cuts


def _by_tips(edge: Edge, chart: Chart, cuts: Floats) -> Floats:
    """More cuts where an edge passes poles of its chart: no piece is longer than it is away from them, since
    Gauss's rule converges as fast as the nearest pole is far."""
    ends = np.zeros((0, 3))
    if isinstance(chart, SplineChart | SweptChart):
        ends = np.array([pole.point for pole in chart.surface.poles()]).reshape(-1, 3)
        if len(ends):  # one that it leads to itself is neared straight
            own = edge.curve.point(np.array([edge.t0, edge.t1]))
            reached = np.linalg.norm(own[:, None] - ends, axis=2).min(axis=0) < 1e-6 * edge.length
            ends = ends[~reached]
    if not isinstance(chart, PolarCone | PolarSphere) and not len(ends):
        return cuts
    for _ in range(24):
        middle = 0.5 * (cuts[1:] + cuts[:-1])
        points = edge.curve.point(np.concatenate([cuts, middle]))
        length = np.linalg.norm(np.diff(points[: len(cuts)], axis=0), axis=1)
        middles = points[len(cuts) :]
        if len(ends):
            away = np.linalg.norm(middles[:, None] - ends, axis=2).min(axis=1)
        else:
            away = np.abs(chart.flat(middles)[:, 1])
        if isinstance(chart, PolarSphere):
            away = chart.sphere.radius * np.sin(away)
        wide = np.flatnonzero(length > np.maximum(away, 1e-9 * length.max()))
        if not len(wide):
            break
        cuts = np.sort(np.concatenate([cuts, middle[wide]]))
    return cuts


def _flat_rate(chart: Chart, flat: Floats, speed: Floats) -> Floats:
    """How fast the first flat coordinate changes (n,) where a point moves over the surface by (n,3)."""
    frame = chart.tangents(flat)
    u, v = frame[:, 0], frame[:, 1]
    e, f, g = (u * u).sum(axis=1), (u * v).sum(axis=1), (v * v).sum(axis=1)
    a, b = (u * speed).sum(axis=1), (v * speed).sum(axis=1)
    det = e * g - f * f
    return np.asarray(np.where(det > 0.0, (a * g - b * f) / np.where(det > 0.0, det, 1.0), 0.0))


def face_area(face: Face) -> float:
    origin = origin_of(face)
    if origin is not None:
        return face_area(origin[1])
    return float(_face_moments(face)[0])


def face_width(face: Face) -> float:
    """Twice the area over the perimeter (mm): the width of a strip, about the radius of what is round."""
    return 2.0 * face_area(face) / max(sum(e.length for e in face.edges()), 1e-300)


def face_sides(face: Face) -> list[Edge]:
    """The edges of a face but the ends of a strip, which are no longer than it is wide; of what is no strip all."""
    least = STRIP * face_width(face)
    return [edge for edge in face.edges() if edge.length > least]


#: An edge is a side of a face, and no end of it, where it is longer than so many of its widths.
STRIP = 1.5


def face_centroid(face: Face) -> Floats:
    origin = origin_of(face)
    if origin is not None:
        return origin[0].points(face_centroid(origin[1]))
    m = _face_moments(face)
    if m[0] == 0.0:  # a face of no area is where its edges are
        return np.mean([edge.at(0.5) for edge in face.edges()], axis=0)
    return np.asarray(m[1:4] / m[0])


def uses_volume(uses: tuple[FaceUse, ...] | list[FaceUse]) -> float:
    """Volume (mm3) enclosed by face uses; negative for a void."""
    prepare(u.face for u in uses)
    return float(sum(_face_moments(u.face)[4] * (1.0 if u.forward else -1.0) for u in uses))


_masses = Remembered[Body, MassProperties]("brep/measures:masses")


def mass_properties(body: Body) -> MassProperties:
    return _masses.over(body, copy_of, _mass_properties, _moved_mass)


def _moved_mass(copy: Copy, there: MassProperties) -> MassProperties:
    turn = copy.motion[:3, :3]
    return MassProperties(there.volume, there.area, copy.points(there.centroid), turn @ there.inertia @ turn.T)


def _mass_properties(body: Body) -> MassProperties:
    prepare(body.faces)
    own = np.array([_face_moments(use.face) for use in body.uses]).reshape(-1, 14)
    signs = np.array([1.0 if use.forward else -1.0 for use in body.uses])
    m = np.concatenate([own[:, :4].sum(axis=0), signs @ own[:, 4:]])
    if body.sheet:  # it encloses nothing; its middle is that of its area
        return MassProperties(0.0, float(m[0]), m[1:4] / m[0], np.zeros((3, 3)))
    volume = float(m[4])
    c = m[5:8] / volume if volume else np.zeros(3)
    xx, yy, zz = m[8:11] - volume * c**2
    xy, yz, zx = m[11] - volume * c[0] * c[1], m[12] - volume * c[1] * c[2], m[13] - volume * c[2] * c[0]
    inertia = np.array([[yy + zz, -xy, -zx], [-xy, xx + zz, -yz], [-zx, -yz, xx + yy]])
    return MassProperties(volume, float(m[0]), c, inertia)


def area(body: Body) -> float:
    """Of all its faces, mm2."""
    return mass_properties(body).area


def volume(body: Body) -> float:
    """What it encloses, mm3; nothing where it is a sheet."""
    return mass_properties(body).volume


def angle_between(a: Floats, b: Floats) -> float:
    """The angle between two directions, accurate down to very small ones (Kahan 2006)."""
    a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
    return float(2.0 * np.arctan2(np.linalg.norm(a - b), np.linalg.norm(a + b)))
