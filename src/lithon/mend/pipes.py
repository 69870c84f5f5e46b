"""Pipes through triangles: a circle carried along a curve, as cables, coils, hoses and bent tubes are.

Of a pipe all normals meet its spine, one radius away (Peternell & Pottmann, *Computing rational parametrizations of
canal surfaces*, 1997). What its surface bends in all, over its area, tells the radius, for what its spine bends adds up
to none around it; the spine is the B-spline from which corners stand off by that, brought nearest by Gauss-Newton with
feet of perpendiculars anew at each step, and least in its third differences (Eilers & Marx, *Flexible smoothing with
B-splines and penalties*, 1996). Circles stand across it on axes that turn about it the least (Wang, Jüttler, Zheng &
Liu, *Computation of rotation minimizing frames*, 2008).
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
import scipy
from scipy.interpolate import BSpline
from scipy.spatial import cKDTree

from lithon.arrays import Bools, Floats, Ints, cross_product, frozen, rows_of, run_along, unit
from lithon.brep.cleaning import side_pairs
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.mend.freeform import corner_normals
from lithon.mend.patch import DEGREE
from lithon.progress import pulse

#: Triangles that turn by less (radians) are of one pipe, the first tried first.
_SMOOTH = np.radians(30.0), np.radians(45.0), np.radians(60.0)
#: A pipe has so many triangles at least; so many times as far off may be those in its midst.
_FEWEST, _ISLAND = 60, 2.0
#: Spans of a spine at first for each radius of its length, and the most.
_SPANS, _MOST = 0.5, 512
#: So many steps bring a spine near, until none is longer than this share of the radius; feet by so many.
_STEPS, _STILL, _FEET = 20, 1e-7, 3
#: Up to so many corners times numbers it is a full matrix.
_FULL = 200_000
#: How far a spine goes on beyond its corners, in radii.
_BEYOND = 0.4
#: Of so many corners it is looked whether there are others all around, within so many radii of their middle.
_SOME, _NEAR_BY = 200, 1.25
#: By no more than this share of it half of the corners are nearer, or further, to the spine to begin with than in the
#: middle; they stand off the first that is brought near by no more of the radius; then most of them.
_AT_FIRST, _ROUGHLY, _NEARLY, _MOST_OF = 0.1, 0.1, 0.08, 0.9
#: Corners say less of it from so many times as far off as most.
_TRUST = 2.0
#: As near (a share of the radius) as that is near enough; more spans are worth it where they leave no more than this
#: share of how far most corners stand off.
_ENOUGH, _BETTER = 2e-5, 0.7
#: Weights, for each corner of a span: of third differences at first and then, and of staying where it is.
_CALM, _STAY = (1e-3, 1e-6), 2e-3
#: So many corners there are for each number that is told from them; of so many no more are looked at than tell it.
_CORNERS, _FEW = 2.0, 8000
#: A pipe is so many radii long at least, and bends with no less of them; so much of its circles is there: the mean of
#: the ways out from its spine is no longer.
_LONG, _TIGHT, _AROUND = 5.0, 1.05, 0.7
#: Where more of a spine (a share) lies on lines and arcs that are so many radii long, and such a share of it, those are
#: cylinders and tori; on so many of its points it is looked for.
_PLAIN, _PLAIN_LONG, _PLAIN_PART, _PLACES = 0.35, 3.0, 1.0 / 12.0, 12
#: A line is long (radii) on which a spine to begin with lies within so much (radii), and less with the square of its
#: length where it is shorter; seen in such steps (radii).
_STRAIGHT, _ON_LINE, _STEP = 10.0, 0.03, 0.5
#: And that within so many radii, or as far as corners scatter.
_AS_PLAIN = 2e-4
#: Spans around, and of how many spans of the spine those of the surface are at most.
_CIRCLE, _FINER = 12, 8


@dataclass(frozen=True, slots=True, eq=False)
class Pipe:
    """The surface of a pipe and its radius (mm), the triangles (rows) that lie on it, and how far (mm) their corners
    stand off."""

    surface: BSplineSurface
    radius: float
    rows: Ints
    off: float


def pipes_among(points: Floats, corners: Ints, most: float) -> list[Pipe]:
    """The pipes among triangles (m,3) of points (n,3), their corners, scattered or exact, no further off than `most`
    (mm); what is made of cylinders and tori is none."""
    i, j, _ = side_pairs(corners, len(points))
    a, b, c = (points[corners[:, k]] for k in range(3))
    normal = unit(cross_product(b - a, c - a))
    turn = (normal[i] * normal[j]).sum(axis=1)
    out, label = list[Pipe](), np.full(len(corners), -1, dtype=np.int64)
    tried = set[tuple[int, ...]]()
    # It is parted from its ends more surely by less, past a rim at a flat angle; few triangles around turn by more.
    for most_turned in _SMOOTH:
        for rows in _together(i, j, label < 0, turn > np.cos(most_turned)):
            key = len(rows), int(rows[0]), int(rows[-1])
            if len(rows) < _FEWEST or key in tried:
                continue
            tried.add(key)
            if (pipe := pipe_through(points, corners, rows, most)) is not None:
                label[pipe.rows] = len(out)
                out.append(pipe)
    return _without_islands(points, corners, normal, (i, j), label, out, most) if out else []


def _together(i: Ints, j: Ints, among: Bools, over: Bools) -> list[Ints]:
    """What hangs together (rows) of some triangles (m,), over such of the pairs i, j (k,) that share a side."""
    over = over & among[i] & among[j]
    graph = scipy.sparse.coo_array((np.ones(int(over.sum())), (i[over], j[over])), shape=(len(among), len(among)))
    count, label = scipy.sparse.csgraph.connected_components(graph, directed=False)
    return [rows for rows in rows_of(label, count) if among[rows[0]]]


def _without_islands(
    points: Floats, corners: Ints, normal: Floats, pairs: tuple[Ints, Ints], label: Ints, pipes: list[Pipe], most: float
) -> list[Pipe]:
    """Pipes with the few triangles in the midst of one that turn further from those around than others do."""
    i, j = np.concatenate(pairs), np.concatenate(pairs[::-1])
    for rows in _together(i, j, label < 0, np.ones(len(i), dtype=bool)):
        here = np.zeros(len(label), dtype=bool)
        here[rows] = True
        beside = np.unique(label[j[here[i] & ~here[j]]])
        if len(rows) < _FEWEST and len(beside) == 1:
            k = int(beside[0])
            surface, of = pipes[k].surface, np.append(rows, pipes[k].rows[:1])
            off = float(np.abs(surface.signed_distance(points[np.unique(corners[rows])])).max())
            # The corners of an end that is flat lie on the pipe as well.
            lean = (surface.normal(points[corners[of]].mean(axis=1)) * normal[of]).sum(axis=1)
            if off <= _ISLAND * most and float((lean * np.sign(lean[-1])).min()) > np.cos(_SMOOTH[-1]):
                pipes[k] = replace(pipes[k], rows=np.append(pipes[k].rows, rows), off=max(pipes[k].off, off))
    return pipes


def pipe_through(points: Floats, corners: Ints, rows: Ints, most: float, any_spine: bool = False) -> Pipe | None:
    """The pipe on which those triangles (rows) of (m,3) that hang together smoothly lie, their corners no further off
    than `most` (mm); none where too many do not, or where its spine is made of lines and arcs, unless it may be
    `any_spine`."""
    used, t = np.unique(corners[rows], return_inverse=True)
    p, t = points[used], t.reshape(-1, 3)
    if len(side_pairs(t, len(p))[0]) * 2 == 3 * len(t):
        return None  # it ends nowhere
    radius = _mean_radius(p, t)
    middle, scale = p.mean(axis=0), abs(radius)
    if not scale < float(np.linalg.norm(np.ptp(p, axis=0))):
        return None
    p = (p - middle) / scale
    center = p - np.sign(radius) * corner_normals(p, t)
    if not _surrounded(p, center):
        return None
    spine = _started(p, t, center)
    if spine is None or not _even_at_first(_away(spine, p)) or (not any_spine and _straight_at_first(spine, p)):
        return None
    found = _nearest(spine, p[:: 1 + len(p) // _FEW], most / scale)
    if found is None:
        return None
    spine, wide = found
    off = _away(spine, p) - wide
    good = (np.abs(off) <= most / scale)[t].all(axis=1)
    if good.mean() < _MOST_OF or not _is_pipe(spine, wide, p):
        return None
    exact = float(np.sqrt(np.mean(off[t[good]] ** 2)))
    if not any_spine and _plain(spine, max(0.5 * exact, _AS_PLAIN), p):
        return None
    made = _surface(spine, wide, 0.2 * exact)
    surface = BSplineSurface(made.knots_u, made.knots_v, DEGREE, DEGREE, frozen(made.control * scale + middle))
    far = np.abs(surface.signed_distance(points[used])) > most  # beyond its ends
    good &= ~far[t].any(axis=1)
    if good.mean() < _MOST_OF:
        return None
    own = np.unique(t[good])
    return Pipe(surface, wide * scale, rows[good], float(np.abs(surface.signed_distance(points[used[own]])).max()))


def _nearest(spine: BSplineCurve, p: Floats, most: float) -> tuple[BSplineCurve, float] | None:
    """A spine brought nearest to corners (n,3), with as many spans as help, and its radius; none where most of them
    stand further off than they may."""
    best: tuple[float, BSplineCurve, float] | None = None
    wide = 1.0
    while len(p) >= _CORNERS * (3 * len(spine.control) + 1):
        pulse("looking for pipes")
        spine, wide, off = _brought(spine, wide, p)
        if not 0.5 < wide < 2.0 or float(np.median(np.abs(off))) > _ROUGHLY:
            break
        told = float(np.quantile(np.abs(off), _MOST_OF))
        helped = best is None or told < _BETTER * best[0]
        if helped:
            best = told, spine, wide
        if not helped or told < _ENOUGH or len(spine.control) > _MOST:
            break
        spine = _finer(spine)
    return best[1:] if best is not None and best[0] <= min(most, _NEARLY) else None


def _away(spine: BSplineCurve, p: Floats) -> Floats:
    """How far (n,) points (n,3) are from a spine."""
    return np.asarray(np.linalg.norm(p - spine.point(spine.parameter(p)), axis=1))


def _surrounded(p: Floats, center: Floats) -> bool:
    """Whether there are corners (n,3) all around where most of some of them have the middle of their circle."""
    some = center[:: 1 + len(p) // _SOME]
    near = cKDTree(p).query_ball_point(some, _NEAR_BY)
    count = np.array([len(own) for own in near])
    way = p[np.concatenate(near).astype(np.int64)] - np.repeat(some, count, axis=0)
    row = np.repeat(np.arange(len(some)), count)
    mean = np.stack([np.bincount(row, unit(way)[:, k], len(some)) for k in range(3)], axis=1)
    return float(np.median(np.linalg.norm(mean, axis=1) / np.maximum(count, 1))) <= _AROUND


def _even_at_first(away: Floats) -> bool:
    """Whether half of the corners are about as far (n,) from the spine to begin with as each other."""
    wide = float(np.median(away))
    return float(np.median(np.abs(away - wide))) <= _AT_FIRST * wide


def _straight_at_first(spine: BSplineCurve, p: Floats) -> bool:
    """Whether so much of a spine to begin with, as far as corners (n,3) are beside it, lies on long lines that it is
    plain however near it is brought."""
    q, gone = _walked(spine, p[:: 1 + len(p) // _FEW])
    count = int(gone[-1] / _STEP)
    window = int(min(_STRAIGHT, 0.5 * gone[-1]) / _STEP)
    near = _ON_LINE * (window * _STEP / _STRAIGHT) ** 2
    if window < 4:
        return False
    q = np.stack([np.interp(np.arange(count) * _STEP, gone, q[:, k]) for k in range(3)], axis=1)
    first, last = q[:-window], q[window:]
    off = [q[part : len(q) - window + part] - first - part / window * (last - first)
           for part in (window // 4, window // 2, 3 * window // 4)]  # fmt: skip
    straight = np.max([np.linalg.norm(x, axis=1) for x in off], axis=0) <= near
    held = np.zeros(count + 1, dtype=np.int64)
    np.add.at(held, np.flatnonzero(straight), 1)
    np.add.at(held, np.flatnonzero(straight) + window, -1)
    return float((np.cumsum(held) > 0).mean()) > _PLAIN


def _mean_radius(p: Floats, t: Ints) -> float:
    """The area of triangles over what they turn in all; negative where they turn inwards."""
    i, j, _ = side_pairs(t, len(p))
    a, b, c = (p[t[:, k]] for k in range(3))
    cross = cross_product(b - a, c - a)
    n = unit(cross)
    middle = (a + b + c) / 3.0
    shared = (t[i][:, :, None] == t[j][:, None, :]).any(axis=2)
    apart = shared.argmin(axis=1)
    long = np.linalg.norm(p[t[i, apart - 1]] - p[t[i, apart - 2]], axis=1)
    turn = np.arccos(np.clip((n[i] * n[j]).sum(axis=1), -1.0, 1.0))
    sign = np.sign(((middle[i] - middle[j]) * n[i]).sum(axis=1))
    total = float((turn * sign * long).sum())
    return 0.5 * float(np.linalg.norm(cross, axis=1).sum()) / total if total else np.inf


def _started(p: Floats, t: Ints, center: Floats) -> BSplineCurve | None:
    """A spine to begin with: through what corners (n,3) say where their circle has its middle (n,3), in the order in
    which they follow along the triangles from one end."""
    sides = np.unique(np.sort(np.concatenate([t[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1), axis=0)
    long = np.linalg.norm(p[sides[:, 0]] - p[sides[:, 1]], axis=1)
    n = len(p)
    graph = scipy.sparse.coo_array((long, (sides[:, 0], sides[:, 1])), shape=(n, n)).tocsr()
    dijkstra = scipy.sparse.csgraph.dijkstra
    far = dijkstra(graph, directed=False, indices=0)
    far = dijkstra(graph, directed=False, indices=int(np.argmax(far)))
    reach = float(far.max())
    if not _LONG < reach < np.inf:
        return None
    edge = _BEYOND / reach
    s = edge + (1.0 - 2.0 * edge) * far / reach
    spans = int(np.clip(_SPANS * reach, 4, _MOST))
    for _ in range(3):
        curve = _least(_even(spans), s, center, _CALM[0])
        s = np.clip(curve.parameter(center), 0.0, 1.0)
        # As far along as the curve is long there, and no further beyond its ends than it should go on.
        at = np.linspace(0.0, 1.0, 8 * spans + 1)
        gone = run_along(curve.point(at))
        s = np.interp(s, at, gone)
        low, high = float(s.min()), float(s.max())
        reach = max(high - low, 1e-9)
        edge = _BEYOND / (reach + 2.0 * _BEYOND)
        s = edge + (1.0 - 2.0 * edge) * (s - low) / reach
        spans = int(np.clip(_SPANS * reach, 4, _MOST))
    if reach < _LONG:
        return None
    return _least(_even(spans), s, center, _CALM[0])


def _even(spans: int) -> Floats:
    """Knots with so many spans between 0 and 1, as far apart beyond."""
    return np.arange(-DEGREE, spans + DEGREE + 1) / spans


def _least(knots: Floats, s: Floats, points: Floats, calm: float = _CALM[1]) -> BSplineCurve:
    """The spline that comes nearest to points (n,3) at s (n,)."""
    basis = BSpline.design_matrix(np.clip(s, 0.0, 1.0), knots, DEGREE)
    count = basis.shape[1]
    weight = len(s) / count
    left = basis.T @ basis + calm * weight * _third(count)
    control = scipy.sparse.linalg.spsolve(left.tocsc(), basis.T @ points)
    return BSplineCurve(frozen(knots), DEGREE, frozen(np.asarray(control).reshape(-1, 3)))


def _third(count: int) -> scipy.sparse.csr_array:
    """What the squares of third differences of so many numbers add up to, as a matrix."""
    d = scipy.sparse.diags_array([-1.0, 3.0, -3.0, 1.0], offsets=[0, 1, 2, 3], shape=(count - 3, count))
    return (d.T @ d).tocsr()


def _brought(spine: BSplineCurve, radius: float, p: Floats) -> tuple[BSplineCurve, float, Floats]:
    """A spine and a radius brought nearest to corners (n,3), and how far (n,) these stand off outwards."""
    knots, control = spine.knots, spine.control
    count = len(control)
    weight = len(p) / count
    # Few numbers are had sooner as full matrices.
    full = len(p) * count <= _FULL
    bend = scipy.sparse.block_diag([*[_CALM[1] * weight * _third(count)] * 3, scipy.sparse.csr_array((1, 1))]).tocsr()
    stay = scipy.sparse.diags_array(np.append(np.full(3 * count, _STAY * weight), 0.0))
    held = bend + stay
    off, s = np.zeros(len(p)), spine.parameter(p)
    for _ in range(_STEPS):
        s = _feet(BSpline(knots, control, DEGREE), s, p)
        away = p - BSpline(knots, control, DEGREE)(s)
        far = np.linalg.norm(away, axis=1)
        off = far - radius
        way = away / np.maximum(far, 1e-300)[:, None]
        basis = BSpline.design_matrix(s, knots, DEGREE)
        rough = max(_TRUST * float(np.quantile(np.abs(off), _MOST_OF)), 1e-12)
        trust = 1.0 / (1.0 + (off / rough) ** 2)
        right = -(bend @ np.append(control.T.ravel(), 0.0))
        if full:
            basis = basis.toarray()
            jacobian = np.hstack([*(-way[:, k, None] * basis for k in range(3)), -np.ones((len(p), 1))])
            weighted = trust[:, None] * jacobian
            step = np.linalg.solve(weighted.T @ jacobian + held, right - weighted.T @ off)
        else:
            parts = [scipy.sparse.diags_array(-way[:, k]) @ basis for k in range(3)]
            jacobian = scipy.sparse.hstack([*parts, scipy.sparse.csr_array(-np.ones((len(p), 1)))]).tocsr()
            weighted = jacobian.multiply(trust[:, None]).tocsr()
            step = scipy.sparse.linalg.spsolve((weighted.T @ jacobian + held).tocsc(), right - weighted.T @ off)
        control = control + step[:-1].reshape(3, count).T
        radius += float(step[-1])
        if np.abs(step).max() < _STILL:
            break
    return BSplineCurve(knots, DEGREE, frozen(control)), radius, off


def _feet(curve: BSpline, s: Floats, p: Floats) -> Floats:
    """Where on a curve the feet (n,) of perpendiculars from points (n,3) are, not far from s (n,) (Newton)."""
    for _ in range(_FEET):
        away, one, two = curve(s) - p, curve(s, 1), curve(s, 2)
        speed = (one * one).sum(axis=1)
        slope = np.maximum(speed + (away * two).sum(axis=1), 0.1 * speed)
        s = np.clip(s - (away * one).sum(axis=1) / slope, 0.0, 1.0)
    return s


def _finer(spine: BSplineCurve) -> BSplineCurve:
    """The same curve of twice as many spans."""
    spans = 2 * (len(spine.control) - DEGREE)
    s = np.linspace(0.0, 1.0, 6 * spans + 1)
    return _least(_even(spans), s, spine.point(s))


def _is_pipe(spine: BSplineCurve, radius: float, p: Floats) -> bool:
    """Whether a spine bends nowhere as tightly as its radius, and corners (n,3) stand around it everywhere."""
    s = np.linspace(0.0, 1.0, 8 * len(spine.control))
    curve = BSpline(spine.knots, spine.control, DEGREE)
    one, two = curve(s, 1), curve(s, 2)
    bend = np.linalg.norm(cross_product(one, two), axis=1) / np.maximum(np.linalg.norm(one, axis=1), 1e-300) ** 3
    if float(bend.max()) * radius * _TIGHT >= 1.0:
        return False
    at = spine.parameter(p)
    part = np.minimum((at * len(spine.control)).astype(int), len(spine.control) - 1)
    count = np.maximum(np.bincount(part, minlength=len(spine.control)), 1)
    way = unit(p - spine.point(at))
    mean = np.stack([np.bincount(part, way[:, k], len(count)) / count for k in range(3)], axis=1)
    return float(np.quantile(np.linalg.norm(mean, axis=1), _MOST_OF)) <= _AROUND


def _walked(spine: BSplineCurve, p: Floats) -> tuple[Floats, Floats]:
    """Points (k,3) along a spine as far as corners (n,3) stand around it, and how far (k,) it is to each."""
    at = spine.parameter(p)
    q = spine.point(np.linspace(float(at.min()), float(at.max()), _PLACES * len(spine.control)))
    return q, run_along(q)


def _plain(spine: BSplineCurve, near: float, p: Floats) -> bool:
    """Whether most of a spine, as far as corners (n,3) stand around it, lies on lines and arcs within `near`, or is too
    short for that to be told."""
    q, gone = _walked(spine, p)
    long = float(gone[-1])
    # Within how far it can be told every curve is an arc over a stretch that grows with the cube root of that.
    least = max(_PLAIN_LONG * (near / _AS_PLAIN) ** (1.0 / 3.0), _PLAIN_PART * long)
    held, first = 0.0, 0
    if least > 0.5 * long:
        return True
    while first < len(q) - 1:
        reach = int(np.searchsorted(gone, gone[first] + least))
        last = first
        step = max(1, reach - first)
        while step:  # as far as one goes
            if last + step < len(q) and _on_an_arc(q[first : last + step + 1], near):
                last += step
                step *= 2
            else:
                step //= 2
        held += float(gone[last] - gone[first]) if last >= reach else 0.0
        first = last if last >= reach else first + max(1, (reach - first) // 8)
    return held > _PLAIN * long


def _on_an_arc(q: Floats, near: float) -> bool:
    """Whether points (n,3) lie on the arc, or the line, through the first, the last and that in the middle."""
    if len(q) < 4:
        return True
    a, b = q[len(q) // 2] - q[0], q[-1] - q[0]
    across = np.cross(a, b)
    size = float(across @ across)
    if size < (near * float(b @ b) ** 0.5) ** 2:
        way = b / np.linalg.norm(b)
        rest = q - q[0]
        return bool(np.linalg.norm(rest - np.outer(rest @ way, way), axis=1).max() <= near)
    center = q[0] + (float(b @ b) * np.cross(across, a) + float(a @ a) * np.cross(b, across)) / (2.0 * size)
    rest = q - center
    up = rest @ (across / np.sqrt(size))
    flat = np.linalg.norm(rest - np.outer(up, across / np.sqrt(size)), axis=1)
    return bool(np.abs(up).max() <= near and np.abs(flat - np.linalg.norm(q[0] - center)).max() <= near)


def _surface(spine: BSplineCurve, radius: float, near: float) -> BSplineSurface:
    """Circles around a spine, within `near` where that takes no more than some spans."""
    spans = len(spine.control) - DEGREE
    angle = 2.0 * np.pi / _CIRCLE
    # A uniform spline of degree five passes through (1, 26, 66, 26, 1) / 120 of its control points at a knot.
    out = radius * 120.0 / (66.0 + 52.0 * np.cos(angle) + 2.0 * np.cos(2.0 * angle))
    turn = angle * np.arange(_CIRCLE + DEGREE)
    curve = BSpline(spine.knots, spine.control, DEGREE)
    for finer in range(1, _FINER + 1):
        s = np.linspace(0.0, 1.0, 8 * finer * spans + 1)
        c, way = curve(s), unit(curve(s, 1))
        x = _frames(c, way)
        y = cross_product(way, x)
        knots = _even(finer * spans)
        fit = [_least(knots, s, value) for value in (c, x, y)]
        wrong = max(float(np.linalg.norm(f.point(s) - v, axis=1).max()) for f, v in zip(fit, (c, x, y), strict=True))
        if wrong <= near:
            break
    c, x, y = (f.control for f in fit)
    net = c + out * (np.cos(turn)[:, None, None] * x + np.sin(turn)[:, None, None] * y)
    return BSplineSurface(frozen(_even(_CIRCLE)), frozen(knots), DEGREE, DEGREE, frozen(net))


def _frames(c: Floats, way: Floats) -> Floats:
    """Axes (n,3) across a curve through points (n,3) with these ways (n,3) that turn about it the least."""
    out = np.zeros_like(way)
    first = cross_product(way[0], np.eye(3)[np.abs(way[0]).argmin()])
    out[0] = first / np.linalg.norm(first)
    for k in range(len(c) - 1):
        one = c[k + 1] - c[k]
        size = float(one @ one)
        x = out[k] - 2.0 / size * (one @ out[k]) * one
        z = way[k] - 2.0 / size * (one @ way[k]) * one
        two = way[k + 1] - z
        size = float(two @ two)
        out[k + 1] = x - (2.0 / size * (two @ x) * two if size > 0.0 else 0.0)
    return out
