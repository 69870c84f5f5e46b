"""The curve where two surfaces cross, when it has no closed form.

It is followed by marching (Patrikalakis & Maekawa, Shape Interrogation, ch. 5): a step along
n1 x n2, Newton back onto both surfaces, shorter steps where it turns. The points guide a spline; a
point of the curve is the guide's, brought onto both surfaces within the plane across the guide, so
that it is exact to rounding whatever the guide's error.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, cross_product, frozen, gauss, given, run_along
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve
from lithon.geometry.elementary import beside_guide, half_branch, onto_two
from lithon.geometry.frames import Frame
from lithon.geometry.rows import feet, row_of
from lithon.geometry.splines import BSplineCurve, turning_pieces
from lithon.geometry.surfaces import Plane, Surface
from lithon.geometry.tips import common_tips, tips
from lithon.progress import pulse

#: Where surfaces lean no more to each other (a sine), or turn about each other more often, they touch all along.
_ALONG, _OFTEN = 0.05, 8
#: Where they lean this share of what they do elsewhere they may touch.
_LITTLE = 0.5
#: In tolerances: surfaces nearer to each other touch.
TOUCH = 20.0
#: Turn allowed in one marching step, the most steps that one half of a branch may take, and how often it may try.
_TURN, _STEPS, _TRIES = 0.12, 1500, 3000
Wanted = Callable[[Floats], Bools]
#: The most points that all branches of one pair may have together.
_ALL = 6000


def onto_all(surfaces: Sequence[Surface], points: Floats) -> tuple[Floats, Floats]:
    """Points (n,3) moved onto all of some surfaces at once by least-norm steps, and how far off (n,) they end."""
    p = np.array(points, dtype=float)
    least, stalled = np.inf, 0
    # Of planes one step leads to the place nearest to all, and the next takes off what rounding left.
    for _ in range(2 if all(isinstance(s, Plane) for s in surfaces) else 60):
        d = np.stack([s.signed_distance(p) for s in surfaces], axis=1)
        worst = float(np.abs(d).max(initial=0.0))
        stalled = 0 if worst < 0.9 * least else stalled + 1
        least = min(least, worst)
        # Where surfaces are tangent it comes nearer by halves; where they have no point in common it does not.
        if worst < 1e-13 * (1.0 + float(np.abs(p).max(initial=0.0))) or stalled > 4:
            break
        n = np.stack([s.normal(p) for s in surfaces], axis=1)
        p = p - np.einsum("nij,nj->ni", np.linalg.pinv(n, rcond=1e-7), d)
    return p, np.abs(np.stack([s.signed_distance(p) for s in surfaces], axis=1)).max(axis=1)


def onto_both(a: Surface, b: Surface, points: Floats, rounds: int = 30) -> tuple[Floats, Floats]:
    """Points (n,3) moved by least-norm Newton steps onto both surfaces, and how far off (n,) they end."""
    pulse()
    one, two = row_of(a, points), row_of(b, points)
    if one is not None and two is not None:
        return onto_two(one, two, given(points), feet(a, points), feet(b, points), rounds)
    p = np.array(points, dtype=float)
    before = np.inf
    for _ in range(rounds):
        f = np.stack([a.signed_distance(p), b.signed_distance(p)], axis=1)
        worst, scale = float(np.abs(f).max(initial=0.0)), 1.0 + float(np.abs(p).max(initial=0.0))
        # Done, or as near as rounding lets it come.
        if worst < 1e-13 * scale or (worst < 1e-10 * scale and worst > 0.25 * before):
            break
        before = worst
        na, nb = a.normal(p), b.normal(p)
        c = (na * nb).sum(axis=1)
        det = np.maximum(1.0 - c * c, 1e-8)
        wa, wb = (f[:, 0] - c * f[:, 1]) / det, (f[:, 1] - c * f[:, 0]) / det
        p -= wa[:, None] * na + wb[:, None] * nb
    off = np.maximum(np.abs(a.signed_distance(p)), np.abs(b.signed_distance(p)))
    return p, np.asarray(off)


@dataclass(frozen=True, slots=True, eq=False)
class Crossing:
    """Points common to two surfaces along a guide. The parameter is the guide's (about the length)."""

    first: Surface
    second: Surface
    guide: BSplineCurve
    kind: str = "crossing"
    #: Lengths of stretches, as they were asked for.
    _lengths: dict[tuple[float, float], float] = field(default_factory=dict, repr=False)
    #: Where feet of the guide are on the two surfaces.
    _along: list[Floats] = field(default_factory=list, repr=False)

    @property
    def period(self) -> float | None:
        return self.guide.period

    @property
    def low(self) -> float:
        return self.guide.low

    @property
    def high(self) -> float:
        return self.guide.high

    def _starts(self, t: Floats) -> tuple[Floats, Floats]:
        """Parameters (n,2) on both surfaces of places along the guide that are near those of parameters (n,)."""
        if not self._along:
            places = np.linspace(self.low, self.high, 4 * len(self.guide.control) + 1)
            run = self.guide.point(places)
            for surface in (self.first, self.second):
                at = np.array(feet(surface, run))
                for end, beside in ((0, 1), (-1, -2)):  # of a tip all angles are parameters: the curve's own is meant
                    gap = np.linalg.norm(tips(surface) - run[end], axis=1)
                    if gap.min(initial=np.inf) < 1e-6 * (self.high - self.low):
                        at[end] = at[beside]
                self._along.append(at)
        a, b = self._along
        share = (self.guide._wrap(t) - self.low) / (self.high - self.low)
        row = np.clip(np.round(share * (len(a) - 1)), 0, len(a) - 1).astype(np.int64)
        return a[row], b[row]

    def _at(self, t: Floats) -> tuple[Floats, Floats]:
        """Points and first derivatives (n,3) for (n,) parameters."""
        guide = self.guide._values(self.guide._wrap(t), 2)
        one, two = row_of(self.first, guide[0]), row_of(self.second, guide[0])
        if one is not None and two is not None:
            return beside_guide(one, two, given(guide), *self._starts(t))
        g, d, dd = guide
        p = g.copy()
        for _ in range(12):
            f = np.stack([self.first.signed_distance(p), self.second.signed_distance(p), ((p - g) * d).sum(1)], axis=1)
            rows = np.stack([self.first.normal(p), self.second.normal(p), d], axis=1)
            det = np.linalg.det(rows)
            flat = np.abs(det) < 1e-9 * np.linalg.norm(d, axis=1)
            rows[flat] = np.eye(3)
            step = np.linalg.solve(rows, f[..., None])[..., 0]
            step[flat] = 0.0
            p -= step
            if np.abs(step).max(initial=0.0) < 1e-14 * (1.0 + np.abs(p).max(initial=0.0)):
                break
        way = cross_product(self.first.normal(p), self.second.normal(p))
        along = (way * d).sum(axis=1)
        tangential = np.abs(along) < 1e-9 * np.linalg.norm(d, axis=1)
        speed = ((d * d).sum(axis=1) - ((p - g) * dd).sum(axis=1)) / np.where(tangential, 1.0, along)
        return p, np.where(tangential[:, None], d, way * speed[:, None])

    def point(self, t: Floats) -> Floats:
        t = np.asarray(t, dtype=float)
        return self._at(t.ravel())[0].reshape(*t.shape, 3)

    def derivative(self, t: Floats) -> Floats:
        t = np.asarray(t, dtype=float)
        return self._at(t.ravel())[1].reshape(*t.shape, 3)

    def parameter(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        p = points.reshape(-1, 3)
        t = self.guide.parameter(p)
        for _ in range(6):
            at, d = self._at(t)
            t = t - ((at - p) * d).sum(axis=1) / np.maximum((d * d).sum(axis=1), 1e-300)
            if self.period is None:
                t = np.clip(t, self.low, self.high)
        return np.asarray(self.guide._wrap(t).reshape(points.shape[:-1]))

    def visits(self, points: Floats, near: float) -> tuple[Ints, Floats]:
        """Where it comes this near to points (n,3): the numbers of points (k,) and the parameters (k,), in order. A
        point has several where the curve runs through a place at which its surfaces touch."""
        t = np.linspace(self.low, self.high, 4 * len(self.guide.control) + 1)
        step = float(t[1] - t[0])
        t = t if self.period is None else t[:-1]
        run = self.guide.point(t)
        gap = np.linalg.norm(run - points[:, None], axis=2)
        before, after = np.roll(gap, 1, axis=1), np.roll(gap, -1, axis=1)
        if self.period is None:
            before[:, 0] = after[:, -1] = np.inf
        reach = 2.0 * float(np.linalg.norm(np.diff(run, axis=0), axis=1).max())
        row, k = np.nonzero((gap <= before) & (gap <= after) & (gap <= reach))
        start = best = t[k]
        for _ in range(8):
            at, d = self._at(best)
            best = best - ((at - points[row]) * d).sum(axis=1) / np.maximum((d * d).sum(axis=1), 1e-300)
            best = np.clip(best, start - 2.0 * step, start + 2.0 * step)
            if self.period is None:
                best = np.clip(best, self.low, self.high)
        hit = np.linalg.norm(self.point(best) - points[row], axis=1) <= near if len(row) else np.zeros(0, dtype=bool)
        row, best = row[hit], best[hit]
        order = np.lexsort((best, row))
        row, best = row[order], best[order]
        again = np.append(False, (np.diff(row) == 0) & (np.diff(best) <= 0.01 * step))[: len(row)]
        return row[~again], best[~again]

    def moved(self, motion: Floats) -> Crossing:
        return Crossing(self.first.moved(motion), self.second.moved(motion), self.guide.moved(motion))

    def length(self, t0: float, t1: float) -> float:
        if (t0, t1) not in self._lengths:
            self._lengths[t0, t1] = self._length(t0, t1)
        return self._lengths[t0, t1]

    def _length(self, t0: float, t1: float) -> float:
        nodes, weights = gauss(8)
        cuts = np.linspace(t0, t1, 17)
        half = np.diff(cuts)[:, None] / 2.0
        t = (cuts[:-1, None] + half) + half * nodes
        return float(abs((np.linalg.norm(self.derivative(t), axis=-1) * weights * half).sum()))

    def pieces(self, t0: float, t1: float, chord: float, angle: float) -> int:
        return turning_pieces(self.guide.derivative(np.linspace(t0, t1, 65)), angle)

    def fitted(self, t0: float, t1: float, tolerance: float) -> BSplineCurve:
        """A cubic B-spline within the tolerance of the stretch, for files that know no crossings."""
        n = 16
        while True:
            t = np.linspace(t0, t1, n + 1)
            made = _spline(t, self.point(t), False)
            between = 0.5 * (t[1:] + t[:-1])
            if n >= 4096 or np.linalg.norm(made.point(between) - self.point(between), axis=1).max() <= tolerance:
                return made
            n *= 2


def _spline(t: Floats, points: Floats, closed: bool) -> BSplineCurve:
    """The cubic interpolating spline; of a closed one the last point is the first."""
    degree = min(3, len(t) - 1)
    if closed:
        loose = scipy.interpolate.make_interp_spline(t, points, k=3, bc_type="periodic")
        # Clamp it: a periodic spline's own knots stick out at both ends.
        from scipy.interpolate import insert

        tck = (loose.t, [loose.c[:, i] for i in range(3)], 3)
        for end in (t[0], t[-1]):
            have = int(np.isclose(tck[0], end).sum())
            tck = insert(float(end), tck, m=3 - have) if have < 3 else tck
        knots = np.asarray(tck[0])
        control = np.stack([np.asarray(c)[: len(knots) - 4] for c in tck[1]], axis=1)
        first, last = int(np.searchsorted(knots, t[0], "left")), int(np.searchsorted(knots, t[-1], "right"))
        inner = knots[first:last]
        return BSplineCurve(frozen(np.concatenate([[t[0]], inner, [t[-1]]])), 3,
                            frozen(control[first - 1 : first - 1 + len(inner) - 2]))  # fmt: skip
    made = scipy.interpolate.make_interp_spline(t, points, k=degree)
    return BSplineCurve(frozen(made.t), degree, frozen(made.c))


def guide(points: Floats, closed: bool) -> BSplineCurve:
    """The spline through points (n,3) of a curve, over about its length; of a closed one the last is the first."""
    t = run_along(points)
    return _spline(t, points, closed)


def march(
    a: Surface, b: Surface, seed: Floats, low: Floats, high: Floats, longest: float, over: bool = True
) -> tuple[Floats, bool] | None:
    """Points (n,3) of the branch through a seed within a box, and whether it closes; None where the
    surfaces touch at the seed instead of crossing. `over`: whether it may go straight on where branches cross, or
    nearly do."""
    start, off = onto_both(a, b, seed[None])
    if off[0] > 1e-9 * (1.0 + np.abs(seed).max()):
        return None
    halves = []
    for sign in (1.0, -1.0):
        run = _half(a, b, start[0], sign, low, high, longest, over)
        if run is None:
            return None
        points, closed = run
        if closed:
            return np.array([*points, points[0]]), True
        halves.append(points)
    points = [*halves[1][:0:-1], *halves[0]]
    return (np.array(points), False) if len(points) > 1 else None


def _half(
    a: Surface, b: Surface, start: Floats, sign: float, low: Floats, high: Floats, longest: float, over: bool
) -> tuple[list[Floats], bool] | None:
    box = given(np.stack([low, high]))
    one, two = row_of(a, box), row_of(b, box)
    if one is not None and two is not None:
        pulse("following where two surfaces meet")
        stand = feet(a, start[None])[0], feet(b, start[None])[0]
        found, closed = half_branch(one, two, given(start), *stand, sign, box, longest, _TURN, _STEPS, _TRIES,
                                    over)  # fmt: skip
        return (list(found), closed) if len(found) else None
    points, step = [start], 0.25 * longest
    heading = _tangent(a, b, start)
    if heading is None:
        return None
    first = heading = sign * heading
    side = sign
    gone = 0.0
    tries = 0
    while len(points) < _STEPS and tries < _TRIES:
        tries += 1
        if tries % 32 == 0:
            pulse("following where two surfaces meet")
        here = points[-1]
        p, off = onto_both(a, b, (here + step * heading)[None], rounds=12)
        new = _tangent(a, b, p[0])
        if new is None:  # on a tip, or where they touch: up to there
            step *= 0.5
            if step < 1e-6 * longest:
                break
            continue
        beyond = 1.0 if float(new @ heading) >= 0.0 else -1.0
        new = beyond * new
        turn = float(np.arccos(np.clip(new @ heading, -1.0, 1.0)))
        went, forth = float(np.linalg.norm(p[0] - here)), float((p[0] - here) @ heading)  # over a tip it comes back
        strays = not over and beyond != side
        off_both = off[0] > 1e-9 * (1.0 + np.abs(p).max())
        if off_both or turn > _TURN or not (forth > 0.3 * step and went < 2.0 * step) or strays:
            step *= 0.5
            if step < 1e-6 * longest:
                break
            continue
        gone += went
        back = start - here
        along = float(back @ heading)
        if len(points) > 3 and 0.0 < along <= 1.01 * went and np.linalg.norm(back - along * heading) < 0.5 * step \
                and float(first @ new) > 0.5:  # fmt: skip
            return points, True
        points.append(p[0])
        if (p[0] < low).any() or (p[0] > high).any():
            break
        heading, side = new, beyond
        if turn < 0.4 * _TURN:
            step = min(1.6 * step, longest)
    return points, False


def _tangent(a: Surface, b: Surface, p: Floats) -> Floats | None:
    way = cross_product(a.normal(p[None])[0], b.normal(p[None])[0])
    size = float(np.linalg.norm(way))
    return way / size if size > 1e-7 else None


def crossings(
    a: Surface, b: Surface, near: Floats, known: Sequence[Curve] = (), wanted: Wanted | None = None,
    tolerance: float = 1e-7,
) -> list[Crossing]:  # fmt: skip
    """All branches that pass the neighbourhood of a cloud of points (n,3) near both surfaces. `known`: branches that
    need not be followed again; they are not among those that are returned. `wanted` tells of points (n,3) on both
    surfaces at which of them (n,) a branch is of any interest.

    Raises Refusal where the surfaces run so close together that no end is found.
    """
    low, high = near.min(axis=0), near.max(axis=0)
    size = float(np.linalg.norm(high - low)) or 1.0
    seeds, off = onto_both(a, b, near)
    spare = 0.15 * size
    good = (off < 1e-9 * (1.0 + np.abs(seeds).max(initial=0.0))) & (
        (seeds > low - spare) & (seeds < high + spare)).all(axis=1)  # fmt: skip
    left = seeds[good]
    if wanted is not None and len(left):
        left = left[wanted(left)]
    out: list[Crossing] = []
    longest = 0.05 * size
    ends = common_tips(a, b, tolerance)
    for curve in known:
        if len(left):
            # Where surfaces touch along a curve, what is on both to rounding may still be a way off it: the surfaces
            # part with the square of the distance, and the angle between them grows with it.
            away = _off(curve, left)
            lean = np.linalg.norm(cross_product(a.normal(left), b.normal(left)), axis=1)
            left = left[(away > 1e-3 * longest) & (lean * away > 2e-7 * size)]
    gone = 0
    for _ in range(64):
        if not len(left):
            break
        if gone > _ALL:
            raise Refusal(
                f"a {a.kind} and a {b.kind} run so close together here that where they meet cannot be told",
                where=spot(left[0]), remedy="move the cut a little, or merge or clear one of the faces first",
            )  # fmt: skip
        run = march(a, b, left[0], low - spare, high + spare, longest)
        if run is None:
            left = left[1:]
            continue
        if any(gap > TOUCH * tolerance for _, gap in touches(a, b, run[0])):
            # Branches come near each other, and do not cross.
            run = march(a, b, left[0], low - spare, high + spare, longest, over=False) or run
        points, closed = run
        gone += len(points)
        if len(points) < 4:
            left = left[1:]
            continue
        curve = Crossing(a, b, guide(points if closed else _to_tips(points, ends, longest), closed))
        out.append(curve)
        away = _off(curve, left)
        away[0] = 0.0
        doubtful = np.flatnonzero((away > 1e-3 * longest) & (away < 0.05 * longest))  # the guide itself may stray
        if len(doubtful):
            on = curve.point(curve.parameter(left[doubtful]))
            away[doubtful] = np.linalg.norm(on - left[doubtful], axis=1)
        left = left[away > 1e-3 * longest]
    return out


def _to_tips(points: Floats, tips: Floats, longest: float) -> Floats:
    """A branch (n,3) with its ends at tips (k,3) of the surfaces: near one it cannot be followed, as there the surface
    turns without end."""
    for tip in tips:
        away = np.linalg.norm(points - tip, axis=1)
        reached = away[[0, -1]] < 0.1 * longest  # a loop does so at both ends
        kept = points[away > 0.01 * longest]
        if reached.any() and len(kept) > 2:
            points = np.vstack([tip[None][: int(reached[0])], kept, tip[None][: int(reached[1])]])
    return points


def touches(a: Surface, b: Surface, run: Floats, turning: bool = False) -> list[tuple[Floats, float]]:
    """The places (3,) along a branch (n,3) where the two surfaces lie the other way about it beyond: they touch there,
    or nearly so, and another branch crosses; and how far (mm) apart they are there. `turning`: where a border may go on
    along the other one as well."""
    if len(run) < 3:
        return []
    ways = cross_product(a.normal(run), b.normal(run))
    lean = np.linalg.norm(ways, axis=1)
    if float(lean.max()) < _ALONG:
        return []
    sides = run[1:] - run[:-1]
    over = (ways[:-1] * sides).sum(axis=1) * (ways[1:] * sides).sum(axis=1) < 0.0
    if turning:
        least = np.append(False, (lean[1:-1] <= lean[:-2]) & (lean[1:-1] <= lean[2:]))
        over |= least & (lean[:-1] < _LITTLE * lean.max())
    found = np.flatnonzero(over).tolist()
    out: list[tuple[Floats, float]] = []
    for k in found if len(found) <= _OFTEN else ():
        reach = float(np.linalg.norm(sides[k])) * (2.0 if turning else 1.0)
        spot = touch(a, b, 0.5 * (run[k] + run[k + 1]), reach)
        if spot is not None and not any(float(np.linalg.norm(spot - p)) < 1e-3 * reach for p, _ in out):
            out.append((spot, abs(float(b.signed_distance(spot[None])[0]))))
    return out


def touch(a: Surface, b: Surface, start: Floats, reach: float) -> Floats | None:
    """The place (3,) on a surface within a reach (mm) at which another's normal is its own; by Newton's method."""

    def onto(p: Floats) -> Floats:
        for _ in range(4):
            p = p - a.signed_distance(p)[:, None] * a.normal(p)
        return p

    p = onto(start[None])
    for _ in range(12):
        frame = Frame.of(p[0], a.normal(p)[0])
        sides = np.stack([frame.x, frame.y], axis=1)
        h = 1e-4 * reach
        spots = onto(np.concatenate([p, p + h * sides.T, p - h * sides.T]))
        lean = b.normal(spots) @ sides - (b.normal(spots) * a.normal(spots)).sum(axis=1)[:, None] * (
            a.normal(spots) @ sides)  # fmt: skip
        slope = (lean[1:3] - lean[3:5]).T / (2.0 * h)
        if abs(float(np.linalg.det(slope))) < 1e-12 / reach**2:
            return None
        step = sides @ np.linalg.solve(slope, -lean[0])
        size = float(np.linalg.norm(step))
        p = onto(p + step * min(1.0, reach / max(size, 1e-300)))
        if float(np.linalg.norm(p[0] - start)) > 2.0 * reach:
            return None
        if size < 1e-12 * (1.0 + float(np.abs(p).max())):
            break
    return np.asarray(p[0])


def _off(curve: Curve, points: Floats) -> Floats:
    """How far (n,) points (n,3) are off a curve, or off the guide of a crossing."""
    run = curve.guide if isinstance(curve, Crossing) else curve
    return np.asarray(np.linalg.norm(run.point(run.parameter(points)) - points, axis=1))
