"""Free-form surfaces through triangles: unfolded into the plane, fitted by a B-spline, and curves along their borders.

A patch is unfolded by the least-squares conformal map (Levy, Petitjean, Ray & Maillot 2002) and carries a
tensor-product B-spline of degree five: the one of least bending near its corners that passes through the curves around
it, whose parameters are corrected as the fit goes on (Hoschek 1988).
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
import shapely
from numba import njit

from lithon.arrays import Bools, Floats, Ints, cross_product, frozen, unit
from lithon.brep.faceted import CREASE
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import guide
from lithon.geometry.curves import Line
from lithon.geometry.spline_kernels import plain_feet
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.least_bending import Bending, control_net, spots
from lithon.mend.patch import DEGREE, uniform_knots
from lithon.progress import pulse

#: Spans a side, each tried where the one before does not come near enough; no more than triangles give a shape to, and
#: more than some only of so many.
_SPANS = (3, 6, 12, 20, 28, 36, 48, 64)
_USUAL, _DENSELY = 36, 1500
#: How far a surface reaches beyond its patch, as a share of its sides.
_MARGIN = 0.04
#: With what the curves around it need beyond the patch it is no more times as wide.
_BEYOND = 1.6
#: Weights of the corners within beside that of the curves around, one after the other: at first the curves may slide
#: along the surface; then it is held by them.
_WEIGHTS = (1.0, 0.1, 0.04, 0.01, 0.01)
#: Weights of going on calmly beyond a patch, the first tried first.
_CALM = (1e-4, 1e-5, 1e-6)
#: The share of what is allowed that is made use of: between the points looked at there are others.
_SURE = 0.5
#: How many times as far as its corners a face may stand off triangles' own border where it is only looked whether
#: there is one.
_LOOSE = 4.0
#: How many times too far off a fit is given up.
_FAR = 4.0
#: Of what a fit is off, the share that is left with more spans where they help.
_SLOW = 0.98
#: A surface may lean by so much (cosine) from the triangles that it stands for, looked at in about so many places, but
#: for those that have less of an area than this share of the largest.
_LEAN, _PLACES, _SLIVER = 0.5, 3000, 1e-3
#: A surface may bend with a radius of this part of the reach of its triangles: what is tighter is a fold.
_TIGHT = 450.0
#: How often the way that triangles lean is evened out with those around.
_SMOOTHED = 2
#: A triangle lower than this share of what corners may stand off says nothing of how a surface leans.
_FLAT = 2.0
#: Between corners a surface is held too, at so many places over a patch, as many on one side, with such a weight.
_BETWEEN, _SIDES, _FLATLY = 24, 24, 0.3
#: Parameters are corrected by so many steps, none longer than this.
_STEPS, _FEWER, _STEP = 6, 3, 0.05
#: Corners of a patch beyond which they are thinned.
_MOST = 4000


@dataclass(frozen=True, slots=True, eq=False)
class Sheet:
    """Triangles that unfold: points (n,3), corners (m,3), uv (n,2) between 0 and 1 but for the margin, and the lengths
    (mm) of the unit square's sides."""

    points: Floats
    corners: Ints
    uv: Floats
    sides: Floats

    def measures(self) -> tuple[float, Floats, Ints]:
        """Its diagonal (mm), the middle of its corners, and such of these as are looked at."""
        size = float(np.linalg.norm(np.ptp(self.points, axis=0)))
        return size, self.points.mean(axis=0), np.arange(len(self.points))[:: 1 + len(self.points) // _MOST]


def unfolded(points: Floats, corners: Ints) -> Sheet | None:
    """Triangles (m,3) of points (n,3) that hang together, laid into the plane; None where they cannot be laid there
    without a fold: they are closed, or bend too far."""
    used, own = np.unique(corners, return_inverse=True)
    p, t = points[used], own.reshape(-1, 3)
    rims = _rims(t)
    if not rims:
        return None
    a, b, c = (p[t[:, k]] for k in range(3))
    x2 = np.linalg.norm(b - a, axis=1)
    along = (b - a) / np.maximum(x2, 1e-300)[:, None]
    x3 = ((c - a) * along).sum(axis=1)
    y3 = np.linalg.norm(c - a - x3[:, None] * along, axis=1)
    area = np.maximum(x2 * y3, 1e-300)
    # Conformal where the sum of each corner's weight, the opposite side as a complex number, times its place is none.
    w = np.stack([(x3 - x2) + 1j * y3, -x3 - 1j * y3, x2 + 0j], axis=1) / np.sqrt(area)[:, None]
    m, n = len(t), len(p)
    row = np.repeat(np.arange(m), 3)
    real = scipy.sparse.csr_array((w.real.ravel(), (row, t.ravel())), shape=(m, n))
    imag = scipy.sparse.csr_array((w.imag.ravel(), (row, t.ravel())), shape=(m, n))
    matrix = scipy.sparse.block_array([[real, -imag], [imag, real]]).tocsc()
    longest = max(rims, key=len)
    one = longest[0]
    two = longest[int(np.argmax(np.linalg.norm(p[longest] - p[one], axis=1)))]
    pinned = np.array([one, two, n + one, n + two])
    values = np.array([0.0, float(np.linalg.norm(p[two] - p[one])), 0.0, 0.0])
    free = np.setdiff1d(np.arange(2 * n), pinned)
    left = matrix[:, free]
    out = np.zeros(2 * n)
    out[pinned] = values
    out[free] = scipy.sparse.linalg.spsolve((left.T @ left).tocsc(), -(left.T @ (matrix[:, pinned] @ values)))
    flat = out.reshape(2, n).T
    if not np.isfinite(flat).all():
        return None
    flat = flat - flat.mean(axis=0)
    flat = flat @ np.linalg.svd(flat, full_matrices=False)[2].T
    if _signed(flat, t).sum() < 0.0:
        flat[:, 1] *= -1.0
    if (_signed(flat, t) <= 0.0).any() or not _simple(flat, rims):
        return None
    low, high = flat.min(axis=0), flat.max(axis=0)
    sides = (high - low) * np.sqrt(float(np.sum(area)) / max(2.0 * float(_signed(flat, t).sum()), 1e-300))
    margin = _MARGIN * (high - low)
    return Sheet(p, t, (flat - low + margin) / (high - low + 2.0 * margin), sides)


def _signed(flat: Floats, t: Ints) -> Floats:
    a, b, c = (flat[t[:, k]] for k in range(3))
    return np.asarray(0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0]))


def _rims(t: Ints) -> list[Ints]:
    """The loops of corners along which triangles end; none where they close, or where a loop passes a corner twice."""
    sides = {(int(a), int(b)) for tri in t for a, b in zip(tri, np.roll(tri, -1), strict=True)}
    follow = {a: b for a, b in sides if (b, a) not in sides}
    if len(follow) != sum((b, a) not in sides for a, b in sides):
        return []
    out = []
    while follow:
        loop = [next(iter(follow))]
        while (nxt := follow.pop(loop[-1])) != loop[0]:
            if nxt not in follow:
                return []
            loop.append(nxt)
        out.append(np.array(loop))
    return out


def _simple(flat: Floats, rims: list[Ints]) -> bool:
    """Whether the loops bound a region that does not lie over itself."""
    shapes = [shapely.Polygon(flat[rim]) for rim in rims]
    if not all(shape.is_valid for shape in shapes):
        return False
    outer = max(shapes, key=lambda s: s.area)
    return all(shape is outer or outer.contains(shape) for shape in shapes)


_RIPPLING = "a free-form face would ripple between the curves around it"


class NoFace(Refusal):
    """No free-form face of a patch is good enough; `places` (k,3): where the last one tried is not."""

    places: Floats = np.zeros((0, 3))

    @classmethod
    def at(cls, places: Floats, what: str, middle: Floats) -> NoFace:
        out = cls(what, where=spot(middle), remedy="part the patch, or keep the facets")
        out.places = places
        return out


class OffItsRim(NoFace):
    """None comes near enough to the curves around it."""


def fails(points: Floats, corners: Ints, allowed: float) -> Floats | None:
    """None where a free-form face of few spans comes so near (mm) to triangles (m,3) that unfold, whatever curves are
    around it; else where (k,3) it does not, as far as that can be told."""
    sheet = unfolded(points, corners)
    if sheet is None:
        return np.zeros((0, 3))
    try:
        through(
            sheet,
            [points[np.append(rim, rim[0])] for rim in _rims(corners)],
            _LOOSE * allowed,
            allowed,
            allowed,
            _SPANS[2],
        )
    except Refusal as refusal:
        return refusal.places if isinstance(refusal, NoFace) else np.zeros((0, 3))
    return None


def through(
    sheet: Sheet, around: Sequence[Floats], near: float, allowed: float, most: float, spans: int = _SPANS[-1]
) -> tuple[BSplineSurface, float]:
    """The surface of a patch through points (k,3) of each curve around it to within `near` (mm), and how far (mm) its
    corners stand off; no farther than `allowed`, or where no such comes near the least found that is no farther than
    `most`. It has no more spans a side than `spans`.

    Raises Refusal where no surface of this kind does.
    """
    most = max(allowed, most)
    size, middle, own = sheet.measures()
    rim = np.concatenate(around)
    inner, border = (sheet.points[own] - middle) / size, (rim - middle) / size
    beside, beside_at = _along_sides(sheet, size / _BETWEEN)
    between = (beside - middle) / size
    few = np.sqrt(len(border) / max(1, len(inner) + len(between)))  # no more of them is no more weight
    at = _placed(sheet, rim)
    # Along a border that went to and fro the curve is drawn through what is smooth: beyond the patch too.
    low, high = np.minimum(at.min(axis=0) - _MARGIN, 0.0), np.maximum(at.max(axis=0) + _MARGIN, 1.0)
    if float((high - low).max()) > _BEYOND:
        far = ((at < -_MARGIN) | (at > 1.0 + _MARGIN)).any(axis=1)
        raise OffItsRim.at(rim[far], "the curves around a free-form face run far from it", middle)
    wide = high - low
    at, uv, beside_at, sides = (at - low) / wide, (sheet.uv - low) / wide, (beside_at - low) / wide, sheet.sides * wide
    best: _Fit | None = None
    held = False
    off, away, last = np.inf, np.inf, np.inf
    m = len(sheet.corners)
    finest = min(_SPANS[1] + 2.0 * np.sqrt(m), _USUAL if m < _DENSELY else np.inf, spans)
    for spans in (s for s in _SPANS if s <= finest):
        pulse(f"fitting a free-form face, {spans} spans a side")
        knots, bend = uniform_knots(spans), Bending.of(spans, sides / size)
        where, within, among = at.copy(), uv[own], beside_at.copy()
        before = np.inf
        for weight in _WEIGHTS:
            parts = [(where, border, 1.0), (within, inner, weight * few), (among, between, weight * few * _FLATLY)]
            net = control_net(knots, parts, bend)
            net = net * size + middle
            where, missed = plain_feet(knots, knots, DEGREE, net, where, rim, _STEPS, _STEP)
            within, stand = plain_feet(knots, knots, DEGREE, net, within, sheet.points[own], _FEWER, _STEP)
            among, _ = plain_feet(knots, knots, DEGREE, net, among, beside, _FEWER, _STEP)
            off, away = float(missed.max()), float(stand.max())
            made = BSplineSurface(frozen(knots), frozen(knots), DEGREE, DEGREE, frozen(net))
            if off <= _SURE * near and away <= (most if best is None or away <= allowed else best.away):
                best = _Fit(made, away, knots, parts, bend, where, within)
            if off <= _SURE * near and away <= allowed:
                break
            if off > _FAR * near and away > _FAR * allowed:
                break  # more steps do not help, more spans do
            if weight < 1.0 and (away > 2.0 * most or (weight == _WEIGHTS[-1] and off > 0.95 * before)):
                break
            before = off
        if best is not None and best.away <= allowed:
            break
        held = weight == _WEIGHTS[-1]  # by the curves, as far as it can be
        if held and spans >= _SPANS[2] and off > max(_SLOW * last, _SURE * near):
            break  # more spans do not help either
        last = off if held else np.inf
    if best is not None:
        points = rim, sheet.points[own]
        made, away, where = best.calmed(size, middle, points, around, _SURE * near, max(allowed, best.away))
        places = _ripples(made, sheet, uv, _FLAT * most, _lines(where, around))
        if len(places):
            raise NoFace.at(places, _RIPPLING, middle)
        return made, away
    places = np.concatenate([rim[missed > _SURE * near], sheet.points[own][stand > allowed]])
    which, kind = ("the curves around it", OffItsRim) if held and off > _SURE * near else ("its corners", NoFace)
    raise kind.at(places, f"no free-form face comes nearer to {which} than {max(off, away):.2g} mm", middle)


@dataclass(frozen=True, slots=True)
class _Fit:
    """A surface and how far (mm) corners stand off it; what it was fitted to, and the feet of the points around it
    (k,2) and of its corners (n,2)."""

    made: BSplineSurface
    away: float
    knots: Floats
    parts: list[tuple[Floats, Floats, float]]
    bend: Bending
    where: Floats
    within: Floats

    def calmed(
        self, size: float, middle: Floats, points: tuple[Floats, Floats], around: Sequence[Floats], near: float,
        allowed: float,
    ) -> tuple[BSplineSurface, float, Floats]:  # fmt: skip
        """The surface that goes on beyond its patch as calmly as may be, so that nothing of it comes back there: where
        the points (k,3) and (n,3) stay as near (mm) as they have to. How far its corners stand off, and the feet."""
        beyond = spots(len(self.knots) - 2 * DEGREE - 1)
        beyond = beyond[~_within(_lines(self.where, around), beyond)]
        for calm in _CALM:
            net = control_net(self.knots, self.parts, self.bend, beyond, calm) * size + middle
            where, missed = plain_feet(self.knots, self.knots, DEGREE, net, self.where, points[0], _STEPS, _STEP)
            _, stand = plain_feet(self.knots, self.knots, DEGREE, net, self.within, points[1], _FEWER, _STEP)
            if float(missed.max()) <= near and float(stand.max()) <= allowed:
                knots = frozen(self.knots)
                return BSplineSurface(knots, knots, DEGREE, DEGREE, frozen(net)), float(stand.max()), where
        return self.made, self.away, self.where


def _along_sides(sheet: Sheet, step: float) -> tuple[Floats, Floats]:
    """Points (k,3) on sides of triangles that are longer than a step (mm), so far apart, and where they lie in the
    plane of a patch (k,2)."""
    sides = np.unique(np.sort(sheet.corners[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1), axis=0)
    a, b = sheet.points[sides[:, 0]], sheet.points[sides[:, 1]]
    count = np.minimum((np.linalg.norm(b - a, axis=1) / step).astype(int), _SIDES)
    row = np.repeat(np.arange(len(sides)), count)
    nth = np.arange(len(row)) - np.repeat(np.cumsum(count) - count, count)
    t = (nth + 1.0) / (count[row] + 1.0)
    low, high = sides[row].T
    share = t[:, None]
    points = bent(sheet.points, corner_normals(sheet.points, sheet.corners), low, high, t)
    return points, np.asarray((1.0 - share) * sheet.uv[low] + share * sheet.uv[high])


def _lines(where: Floats, around: Sequence[Floats]) -> Floats:
    """What is drawn (m,4) between the places (n,2) of points along each of some curves."""
    ends = np.cumsum([len(points) for points in around])[:-1]
    return np.concatenate([np.hstack([own[:-1], own[1:]]) for own in np.split(where, ends)])


@njit(cache=True, nogil=True)
def _within(lines: Floats, at: Floats) -> Bools:
    """Which of some places (n,2) lie within what lines (m,4) go around, in whatever order they are."""
    out = np.zeros(len(at), dtype=np.bool_)
    for k in range(len(lines)):
        x0, y0, x1, y1 = lines[k, 0], lines[k, 1], lines[k, 2], lines[k, 3]
        if y0 == y1:
            continue
        for n in range(len(at)):
            x, y = at[n, 0], at[n, 1]
            if (y0 > y) != (y1 > y) and x < x0 + (y - y0) * (x1 - x0) / (y1 - y0):
                out[n] = not out[n]
    return out


def _ripples(surface: BSplineSurface, sheet: Sheet, uv: Floats, least: float, lines: Floats) -> Floats:
    """Where (k,3) a surface leans far from the triangles that it stands for, or bends as nothing of their size does."""
    return np.concatenate([_leaning(surface, sheet, uv, least, lines), _folds(surface, sheet, uv, lines)])


def _folds(surface: BSplineSurface, sheet: Sheet, uv: Floats, lines: Floats) -> Floats:
    """Where (k,3) a surface bends too far to be what its triangles stand for, along the lines (m,4) around it and in
    the middles of triangles."""
    at = np.concatenate([lines[:, :2], uv[sheet.corners].mean(axis=1)])
    reach = float(np.linalg.norm(np.ptp(sheet.points, axis=0)))
    return surface.at(*at[surface.bend_at(*at.T) * reach > _TIGHT].T)[0]


def _leaning(surface: BSplineSurface, sheet: Sheet, uv: Floats, least: float, lines: Floats) -> Floats:
    """Where (k,3) a surface leans far from the triangles that it stands for, whose corners lie at uv (n,2), of places
    spread over each that is no lower (mm) than `least`, those within the lines (m,4) around it."""
    a, b, c = (sheet.points[sheet.corners[:, k]] for k in range(3))
    normal = cross_product(b - a, c - a)
    twice = np.linalg.norm(normal, axis=1)
    longest = np.max([np.linalg.norm(p - q, axis=1) for p, q in ((a, b), (b, c), (c, a))], axis=0)
    rows = np.flatnonzero((twice > _SLIVER * twice.max()) & (twice > least * longest))
    if not len(rows):
        return np.zeros((0, 3))
    steps = int(np.clip(np.sqrt(2.0 * _PLACES / len(rows)), 1, 6))
    first, second = np.indices((steps, steps)).reshape(2, -1)
    inside = first + second < steps
    u, v = ((k[inside] + 1.0 / 3.0) / steps for k in (first, second))
    own = uv[sheet.corners[rows]]
    at = np.einsum("k,ni->nki", 1.0 - u - v, own[:, 0]) + np.einsum("k,ni->nki", u, own[:, 1])
    at += np.einsum("k,ni->nki", v, own[:, 2])
    within = _within(lines, at.reshape(-1, 2)).reshape(at.shape[:2])
    there, du, dv = surface.frames(*at.reshape(-1, 2).T)
    # What is finer than how far it may stand off is smoothed over: it is held against how triangles lean on the whole.
    for _ in range(_SMOOTHED):
        corner = np.zeros_like(sheet.points)
        np.add.at(corner, sheet.corners.ravel(), np.repeat(normal, 3, axis=0))
        normal = twice[:, None] * unit(corner[sheet.corners].sum(axis=1))
    cos = (unit(cross_product(du, dv)).reshape(*at.shape[:2], 3) * unit(normal[rows])[:, None]).sum(axis=2)
    return np.asarray(there.reshape(*at.shape[:2], 3)[within & (cos < _LEAN)])


def _placed(sheet: Sheet, rim: Floats) -> Floats:
    """Where points (k,3) beside the border of a patch lie in its plane, beyond it too: as the nearest triangle does."""
    from lithon.geometry.boxtree import BoxTree

    rows, _ = BoxTree.of(sheet.points, sheet.corners).nearest(rim)
    t = sheet.corners[rows]
    a, b, c = (sheet.points[t[:, k]] for k in range(3))
    e, f, g = b - a, c - a, rim - a
    ee, ef, ff = (e * e).sum(axis=1), (e * f).sum(axis=1), (f * f).sum(axis=1)
    eg, fg = (e * g).sum(axis=1), (f * g).sum(axis=1)
    det = np.maximum(ee * ff - ef**2, 1e-300)
    s, r = (ff * eg - ef * fg) / det, (ee * fg - ef * eg) / det
    u = sheet.uv[t]
    return np.asarray(u[:, 0] + s[:, None] * (u[:, 1] - u[:, 0]) + r[:, None] * (u[:, 2] - u[:, 0]))


# ---- sides as curves

#: Normals at the ends of a side part by no more (cosine) where it is bent.
_SMOOTH = 0.7


def corner_normals(points: Floats, corners: Ints, beside: Ints | None = None) -> Floats:
    """The normals (n,3) at the corners of some triangles (m,3), none elsewhere, weighted so that they are those of a
    ball where the corners lie on one (Max, *Weights for computing vertex normals from facet normals*, 1999). `beside`
    (k,3): others that tell of them where no crease is between."""
    out = _weighted(points, corners, None)
    if beside is not None:
        out += _weighted(points, beside, out)
    return out / np.maximum(np.linalg.norm(out, axis=1), 1e-300)[:, None]


def _weighted(points: Floats, corners: Ints, like: Floats | None) -> Floats:
    """The sums (n,3) at corners of the weighted normals of triangles (m,3), without those that turn as far as a crease
    from what they should be `like` (n,3)."""
    out = np.zeros((len(points), 3))
    for k in range(3):
        own = corners[:, k]
        one, two = points[corners[:, (k + 1) % 3]] - points[own], points[corners[:, (k + 2) % 3]] - points[own]
        across = cross_product(one, two)
        share = 1.0 / np.maximum((one * one).sum(axis=1) * (two * two).sum(axis=1), 1e-300)
        if like is not None:
            size = np.linalg.norm(across, axis=1) * np.linalg.norm(like[own], axis=1)
            share[(across * like[own]).sum(axis=1) <= np.cos(CREASE) * size] = 0.0
        np.add.at(out, own, across * share[:, None])
    return out


def bent(points: Floats, normals: Floats, low: Ints, high: Ints, t: Floats) -> Floats:
    """Points (k,3) on sides from some corners to others (k,), a share t (k,) along, bent as the normals at their ends
    say (Vlachos, Peters, Boyd & Mitchell, *Curved PN triangles*, 2001), straight where these part widely."""
    a, b, one, two = points[low], points[high], normals[low], normals[high]
    side = b - a
    near = (2.0 * a + b - (side * one).sum(axis=1)[:, None] * one) / 3.0
    far = (2.0 * b + a + (side * two).sum(axis=1)[:, None] * two) / 3.0
    t, s = t[:, None], 1.0 - t[:, None]
    curved = s**3 * a + 3.0 * s * s * t * near + 3.0 * s * t * t * far + t**3 * b
    smooth = (one * two).sum(axis=1) > _SMOOTH
    return np.asarray(np.where(smooth[:, None], curved, s * a + t * b))


#: A side over which what is smooth stands no higher, as a share of it, is straight.
_STRAIGHT = 1e-3


def sagitta(points: Floats, corners: Ints) -> float:
    """How high (mm) what is smooth stands over the middles of those sides of triangles (m,3) that are bent, in the
    median; 0 where none is."""
    sides = np.unique(np.sort(np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1), axis=0)
    low, high = sides.T
    flat = 0.5 * (points[low] + points[high])
    over = np.linalg.norm(
        bent(points, corner_normals(points, corners), low, high, np.full(len(low), 0.5)) - flat, axis=1
    )
    over = over[over > _STRAIGHT * np.linalg.norm(points[high] - points[low], axis=1)]
    return float(np.median(over)) if len(over) else 0.0


# ---- curves


def curve_along(
    line: Floats, ends: tuple[Floats, Floats] | None, slack: float, on: Surface | None, near: float, count: int = 96,
    lay: Callable[[Floats], Floats] | None = None,
) -> BSplineCurve | Line:  # fmt: skip
    """A smooth curve along a chain of corners (n,3), no farther off them than about `slack` (mm) in the mean; from one
    of the `ends` to the other, closed where there are none (then the last corner is the first). `on`: a surface on
    which it lies to within `near` (mm). count: chords that are tried at first. lay: brings points (n,3) of it to
    where it should pass.

    Raises Refusal where it does not come to lie on the surface.
    """
    closed = ends is None
    if len(line) == 2 and (on is None or isinstance(on, Plane)):
        assert ends is not None
        return Line.through(ends[0], ends[1])
    drawn = _drawn(line, closed, slack)
    while True:
        s = np.linspace(0.0, 1.0, count + 1)
        p = drawn(s)
        if ends is not None:
            p = p + np.outer(1.0 - s, ends[0] - p[0]) + np.outer(s, ends[1] - p[-1])
        if on is not None:
            p = on.project(p)
        elif lay is not None:
            p = lay(p)
        if closed:
            p[-1] = p[0]
        else:
            assert ends is not None
            p[0], p[-1] = ends
        if (np.linalg.norm(np.diff(p, axis=0), axis=1) <= 1e-12 * float(np.abs(p).max())).any():
            raise Refusal("the border of a free-form face is too short for a curve", where=spot(line[0]),
                          remedy="unite the patches, or keep the facets")  # fmt: skip
        made = guide(p, closed)
        if on is None:
            return made
        t = np.linspace(made.low, made.high, 4 * count + 1)
        off = float(np.abs(on.signed_distance(made.point(t))).max())
        if off <= 0.3 * near:
            return made
        if count > 3000:
            raise Refusal("no curve comes to lie on the surface beside a free-form face", where=spot(line[0]),
                          remedy="allow more deviation, or keep the facets")  # fmt: skip
        count *= 2


#: So many corners around a point tell how a surface runs there, and how fast what they say fades; where corners are far
#: apart.
_AROUND, _FADING = (30, 48), (4.0, 12.0)


def smoothly_among(points: Floats, normals: Floats, coarse: bool) -> Callable[[Floats], Floats]:
    """What brings points (n,3) onto the smooth surface that corners (m,3) with normals (m,3) lie on: along the normal,
    to a cubic fitted by moving least squares to those around (Levin 2003); through those that are `coarse`, exact and
    far apart (Lancaster & Salkauskas 1981)."""
    tree = scipy.spatial.cKDTree(points)
    most, fading = min(_AROUND[coarse], len(points)), _FADING[coarse]

    def lay(p: Floats) -> Floats:
        far, row = tree.query(p, most)
        wide = far.max(axis=1, keepdims=True) + 1e-300
        weight = np.exp(-fading * (far / wide) ** 2)
        if coarse:
            weight /= (far / wide) ** 2 + 1e-3
        z = (normals[row] * weight[..., None]).sum(axis=1)
        z /= np.maximum(np.linalg.norm(z, axis=1, keepdims=True), 1e-300)
        x = cross_product(z, np.eye(3)[np.abs(z).argmin(axis=1)])
        x /= np.linalg.norm(x, axis=1, keepdims=True)
        own = np.stack([x, cross_product(z, x), z], axis=1)
        local = np.einsum("nij,nkj->nki", own, points[row] - p[:, None]) / wide[..., None]
        u, v, w = local[..., 0], local[..., 1], local[..., 2]
        terms = np.stack([u**i * v**j for i in range(4) for j in range(4 - i)], axis=-1)
        left = np.einsum("nk,nki,nkj->nij", weight, terms, terms) + 1e-9 * np.eye(terms.shape[-1])
        height = np.linalg.solve(left, np.einsum("nk,nki,nk->ni", weight, terms, w)[..., None])[:, 0, 0]
        return np.asarray(p + (height * wide[:, 0])[:, None] * z)

    return lay


def _drawn(line: Floats, closed: bool, slack: float):  # type: ignore[no-untyped-def]
    """A function from 0..1 to points: the smoothest spline that stays within `slack` of corners in the mean."""
    from scipy.interpolate import splev, splprep

    step = np.linalg.norm(np.diff(line, axis=0), axis=1)
    s = np.concatenate([[0.0], np.cumsum(step)]) / max(float(step.sum()), 1e-300)
    p, s = _spaced(line, s)
    degree = min(5, len(p) - 1)
    if closed and len(p) < 7:
        fine = np.linspace(0.0, 1.0, 13)
        p, s = np.stack([np.interp(fine, s, p[:, k]) for k in range(3)], axis=1), fine
        degree = 5
    fine = np.linspace(0.0, 1.0, 12 * len(p) + 1)
    chain = scipy.spatial.cKDTree(np.stack([np.interp(fine, s, p[:, k]) for k in range(3)], axis=1))
    most = max(3.0 * slack, _SWING * float(np.linalg.norm(np.diff(p, axis=0), axis=1).max()))
    for k, times in ((degree, 1.0), (min(3, degree), 1.0), (min(3, degree), 5.0)):
        # With full output it is not warned where rounding keeps it from just this sum: the nearest there is will do.
        (tck, _), *_rest = splprep(p.T, u=s, s=len(p) * (times * slack) ** 2, k=k, per=closed, full_output=1)
        if chain.query(np.stack(splev(fine, tck), axis=1))[0].max() <= most:
            break  # it does not swing out
    return lambda t: np.stack(splev(t, tck), axis=1)


#: Corners of a chain that follow the one before by less than this share of the usual step say nothing of its way;
#: where one follows by so many steps the way between is straight. So far (in steps) a curve may swing out.
_DENSE, _LONG, _SWING = 0.3, 2.5, 0.15


def _spaced(line: Floats, s: Floats) -> tuple[Floats, Floats]:
    """A chain without corners that stand next to others, and with some on long straight stretches; how far along it (0
    to 1) each is."""
    least = _DENSE * float(np.median(np.diff(s)))
    keep = [0]
    for k in range(1, len(s) - 1):
        if s[k] - s[keep[-1]] > least and 1.0 - s[k] > least:
            keep.append(k)
    kept = s[[*keep, len(s) - 1]]
    usual = float(np.median(np.diff(kept)))
    parts = [np.linspace(a, b, 1 + (max(1, round((b - a) / usual)) if b - a > _LONG * usual else 1))[:-1]
             for a, b in itertools.pairwise(kept.tolist())]  # fmt: skip
    at = np.append(np.concatenate(parts), kept[-1])
    return np.stack([np.interp(at, s, line[:, k]) for k in range(3)], axis=1), at
