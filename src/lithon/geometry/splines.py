"""(Rational) B-spline curves and surfaces; a polyline is a curve of degree one.

The numbers come from `spline_kernels`; here are the curves and surfaces that use them.
"""

from __future__ import annotations

import itertools
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, gauss, given, span_by_span
from lithon.geometry.charts import NOWHERE, Chart, Outlines, turns, widest_gap
from lithon.geometry.frames import Frame
from lithon.geometry.poles import Pole, pole_chart, poles_of, touched
from lithon.geometry.spline_kernels import (
    curve_closest,
    curve_values,
    surface_closest,
    surface_frames,
    surface_values,
    swept_integrals,
)
from lithon.geometry.surfaces import Surface

#: In how many regions of a surface more a closest point is sought.
_REGIONS = 4
#: A point nearer to its foot than this share of the step between samples lies on the surface as far as its edges and
#: corners do: another foot could be nearer by less than that only.
_ON = 1e-3
#: How often a piece of a curve that runs unevenly is halved.
_EVENED = 16
#: How often a stretch of a curve that turns sharply is halved.
_HALVINGS = 12


def _weighted(control: Floats, weights: Floats | None) -> Floats:
    """Homogeneous control points (..., 4)."""
    w = np.ones(control.shape[:-1]) if weights is None else weights
    return np.concatenate([control * w[..., None], w[..., None]], axis=-1)


@dataclass(frozen=True, slots=True, eq=False)
class BSplineCurve:
    """Knots with their multiplicities written out, control points (n,3), weights (n,) or None."""

    knots: Floats
    degree: int
    control: Floats
    weights: Floats | None = None
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    @property
    def kind(self) -> str:
        return "polyline" if self.degree == 1 else "b-spline"

    @property
    def low(self) -> float:
        return float(self.knots[self.degree])

    @property
    def high(self) -> float:
        return float(self.knots[-self.degree - 1])

    @property
    def period(self) -> float | None:
        return self.high - self.low if self._closed() else None

    def _closed(self) -> bool:
        if "closed" not in self._kept:
            ends = self._values(np.array([self.low, self.high]), 0)[0]
            size = float(np.ptp(self.control, axis=0).max())
            self._kept["closed"] = bool(np.linalg.norm(ends[1] - ends[0]) <= 1e-7 * size + 1e-12)
        return bool(self._kept["closed"])

    def _net(self) -> Floats:
        """Homogeneous control points (n,4)."""
        if "net" not in self._kept:
            self._kept["net"] = np.ascontiguousarray(_weighted(self.control, self.weights))
        net: Floats = self._kept["net"]
        return net

    def _values(self, t: Floats, order: int) -> list[Floats]:
        t = np.asarray(t, dtype=float)
        made = curve_values(given(self.knots), self.degree, self._net(), given(t.ravel()))
        return [made[k].reshape(*t.shape, 3) for k in range(order + 1)]

    def _wrap(self, t: Floats) -> Floats:
        t = np.asarray(t, dtype=float)
        if self._closed():
            span = self.high - self.low
            inside = (t >= self.low) & (t <= self.high)
            return np.where(inside, t, self.low + np.mod(t - self.low, span))
        return t  # beyond its ends a curve goes on as its last polynomial

    def point(self, t: Floats) -> Floats:
        return self._values(self._wrap(t), 0)[0]

    def derivative(self, t: Floats) -> Floats:
        return self._values(self._wrap(t), 1)[1]

    def _samples(self) -> tuple[Floats, Floats]:
        """Parameters (k,) and points (k,3), close enough together for Newton to start from: between two the curve
        does not turn by more than about a radian."""
        if "samples" not in self._kept:
            knots = np.unique(self.knots[self.degree : len(self.knots) - self.degree])
            n = max(4 * self.degree, -(-64 // max(1, len(knots) - 1)))
            steps = knots[:-1, None] + np.diff(knots)[:, None] * (np.arange(n) / n)
            t = np.append(steps.ravel(), knots[-1])
            for _ in range(_HALVINGS if self.degree > 1 else 0):
                width = np.diff(t)
                d = np.array([self._values(t[:-1] + share * width, 1)[1] for share in (0.01, 0.5, 0.99)])
                d /= np.maximum(np.linalg.norm(d, axis=2, keepdims=True), 1e-300)
                turn = np.arccos(np.clip((d[1:] * d[:-1]).sum(axis=2), -1.0, 1.0)).sum(axis=0)
                sharp = (turn > 1.0) & (width > 1e-9 * (t[-1] - t[0]))
                if not sharp.any():
                    break
                t = np.sort(np.concatenate([t, t[:-1][sharp] + 0.5 * width[sharp]]))
            self._kept["samples"] = t, self.point(t)
        found: tuple[Floats, Floats] = self._kept["samples"]
        return found

    def parameter(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        t, samples = self._samples()
        p = given(points.reshape(-1, 3))
        return curve_closest(given(self.knots), self.degree, self._net(), samples, t, p).reshape(points.shape[:-1])

    def moved(self, motion: Floats) -> BSplineCurve:
        control = self.control @ motion[:3, :3].T + motion[:3, 3]
        return BSplineCurve(self.knots, self.degree, frozen(control), self.weights)

    def _cuts(self, t0: float, t1: float) -> Floats:
        inner = np.unique(self.knots)
        if self._closed():
            span = self.high - self.low
            inner = np.unique(np.concatenate([inner - span, inner, inner + span]))
        return np.concatenate([[t0], inner[(inner > t0) & (inner < t1)], [t1]])

    def corners(self, t0: float, t1: float) -> Floats:
        """The ends of a stretch and the knots between them: the corners of a polyline."""
        return self._cuts(t0, t1)

    def length(self, t0: float, t1: float) -> float:
        known = self._kept.get("length")  # of the stretch asked for last: most curves have one edge
        if known is None or known[0] != (t0, t1):
            self._kept["length"] = known = (t0, t1), self._length(min(t0, t1), max(t0, t1))
        return float(known[1])

    def _length(self, t0: float, t1: float) -> float:
        cuts = self._cuts(t0, t1)
        if self.degree == 1 and self.weights is None:
            return float(np.linalg.norm(np.diff(self.point(cuts), axis=0), axis=1).sum())
        # Where a weight is next to nothing it runs as fast as it likes, and through a hairpin hardly at all.
        cuts = evened(self.derivative, cuts)
        nodes, weights = gauss(16)
        half = np.diff(cuts)[:, None] / 2.0
        t = (cuts[:-1, None] + half) + half * nodes
        return float((np.linalg.norm(self.derivative(t), axis=-1) * weights * half).sum())

    def pieces(self, t0: float, t1: float, chord: float, angle: float) -> int:
        if self.degree == 1:
            # Equal steps must come near every corner; corners that lie on the steps are met exactly.
            return max(1, len(self._cuts(t0, t1)) - 1)
        return turning_pieces(self.derivative(np.linspace(t0, t1, 129)), angle)


def turning_pieces(tangents: Floats, angle: float) -> int:
    """Equal steps so that none turns by more than this angle, from tangents at equal steps."""
    d = tangents / np.maximum(np.linalg.norm(tangents, axis=1, keepdims=True), 1e-300)
    turn = 2.0 * np.arcsin(np.clip(0.5 * np.linalg.norm(np.diff(d, axis=0), axis=1), 0.0, 1.0))
    return int(np.clip(np.ceil(len(turn) * float(turn.max()) / angle - 1e-9), 1, 512))


def evened(derivative: Any, cuts: Floats) -> Floats:
    """More cuts (k,) where a curve runs unevenly over its parameter: until the length of every piece, by Gauss's rule,
    is that of its halves."""
    nodes, weights = gauss(10)
    for _ in range(_EVENED):
        half = np.diff(cuts)[:, None] / 2.0
        whole = (cuts[:-1, None] + half) + half * nodes
        low, high = (cuts[:-1, None] + shift * half + 0.5 * half * nodes for shift in (0.5, 1.5))
        speed = np.linalg.norm(derivative(np.concatenate([whole, low, high]).ravel()), axis=1)
        once, a, b = np.split((speed.reshape(-1, len(nodes)) * weights).sum(axis=1), 3)
        off = half[:, 0] * np.abs(once - 0.5 * (a + b))
        rough = np.flatnonzero(off > 1e-10 * float((half[:, 0] * once).sum()))
        if not len(rough) or len(cuts) > 2000:
            break
        cuts = np.sort(np.concatenate([cuts, 0.5 * (cuts[rough] + cuts[rough + 1])]))
    return cuts


def curvature(derivative: Any, t: Floats) -> Floats:
    """Curvatures (n,) of a curve at parameters (n,), from differences of its unit tangents."""
    h = 1e-4 * max(float(np.ptp(t)), 1e-6)
    a, b = derivative(t - h), derivative(t + h)
    speed = 0.5 * (np.linalg.norm(a, axis=1) + np.linalg.norm(b, axis=1))
    turn = a / np.linalg.norm(a, axis=1, keepdims=True) - b / np.linalg.norm(b, axis=1, keepdims=True)
    return np.asarray(np.linalg.norm(turn, axis=1) / np.maximum(2.0 * h * speed, 1e-300))


# ---- surfaces


@dataclass(frozen=True, slots=True, eq=False)
class BSplineSurface:
    """Control points (nu,nv,3), weights (nu,nv) or None, knots written out. The normal is du x dv."""

    knots_u: Floats
    knots_v: Floats
    degree_u: int
    degree_v: int
    control: Floats
    weights: Floats | None = None
    kind: str = field(default="b-spline", init=False)
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    @property
    def frame(self) -> Frame:
        return Frame.of(self.control.reshape(-1, 3).mean(axis=0), (0.0, 0.0, 1.0))

    @property
    def range(self) -> Floats:
        """[[u0, v0], [u1, v1]]."""
        return np.array([
            [self.knots_u[self.degree_u], self.knots_v[self.degree_v]],
            [self.knots_u[-self.degree_u - 1], self.knots_v[-self.degree_v - 1]],
        ])  # fmt: skip

    def closed(self) -> tuple[bool, bool]:
        """Whether it closes on itself in u and in v."""
        if "closed" not in self._kept:
            (u0, v0), (u1, v1) = self.range
            s = np.linspace(0.0, 1.0, 9)
            size = float(np.ptp(self.control.reshape(-1, 3), axis=0).max())
            u, v = u0 + s * (u1 - u0), v0 + s * (v1 - v0)
            across_u = self.at(np.full(9, u0), v)[0] - self.at(np.full(9, u1), v)[0]
            across_v = self.at(u, np.full(9, v0))[0] - self.at(u, np.full(9, v1))[0]
            self._kept["closed"] = tuple(bool(np.abs(d).max() <= 1e-6 * size) for d in (across_u, across_v))
        found: tuple[bool, bool] = self._kept["closed"]
        return found

    def at(self, u: Floats, v: Floats) -> list[Floats]:
        """Point, du, dv, duu, duv, dvv, each (n,3), at parameters (n,)."""
        made = surface_values(
            given(self.knots_u), given(self.knots_v), self.degree_u, self.degree_v, self._net(), given(u), given(v),
        )  # fmt: skip
        return list(made)

    def frames(self, u: Floats, v: Floats) -> list[Floats]:
        """Point, du, dv, each (n,3), at parameters (n,)."""
        made = surface_frames(
            given(self.knots_u), given(self.knots_v), self.degree_u, self.degree_v, self._net(), given(u), given(v),
        )  # fmt: skip
        return list(made)

    def inner_knots(self) -> tuple[Floats, Floats]:
        """The knots along u and along v between which it is one polynomial piece, or a quotient of two; without the
        ends, but where it is closed: these are knots too, and repeat with the period."""
        out = []
        sides = ((self.knots_u, self.degree_u), (self.knots_v, self.degree_v))
        for (knots, degree), closed in zip(sides, self.closed(), strict=True):
            k = np.unique(knots[degree : len(knots) - degree])
            span = k[-1] - k[0]
            out.append(np.concatenate([k[:-1] - span, k, k[1:] + span]) if closed else k[1:-1])
        return out[0], out[1]

    def _net(self) -> Floats:
        """Homogeneous control points (nu,nv,4)."""
        if "net" not in self._kept:
            self._kept["net"] = np.ascontiguousarray(_weighted(self.control, self.weights))
        net: Floats = self._kept["net"]
        return net

    def wrapped(self, uv: Floats) -> Floats:
        """Parameters (n,2) brought into the range: by the period where closed, else to its rim."""
        low, high = self.range
        out = np.array(uv, dtype=float)
        for k, closed in enumerate(self.closed()):
            span = high[k] - low[k]
            inside = (out[:, k] >= low[k]) & (out[:, k] <= high[k])
            out[:, k] = np.where(inside, out[:, k], low[k] + np.mod(out[:, k] - low[k], span)) if closed else np.clip(
                out[:, k], low[k], high[k])  # fmt: skip
        return out

    def _grid(self) -> tuple[Floats, Floats, scipy.spatial.cKDTree, Floats]:
        """Samples to start from: their parameters (n,2) and places in the grid (n,2), the samples themselves, and how
        far (mm) from each (n,) any point of the surface in a cell beside it is, about."""
        if "grid" not in self._kept:
            spans = ((self.knots_u, self.degree_u), (self.knots_v, self.degree_v))
            u, v = (span_by_span(k[degree : len(k) - degree], degree + 1, 24) for k, degree in spans)
            uv = np.stack(np.meshgrid(u, v, indexing="ij"), axis=-1).reshape(-1, 2)
            uv = self._off_poles(uv)  # around a pole, not in it: there every angle is as near
            place = np.stack(np.meshgrid(np.arange(len(u)), np.arange(len(v)), indexing="ij"), axis=-1).reshape(-1, 2)
            spots = self.at(uv[:, 0], uv[:, 1])[0]
            cells = spots.reshape(len(u), len(v), 3)
            across = (cells[1:, 1:] - cells[:-1, :-1], cells[1:, :-1] - cells[:-1, 1:])
            # The middle of a cell is half its longer diagonal away from a corner; a bent one a little more.
            cell = 0.75 * np.maximum(*(np.linalg.norm(d, axis=2) for d in across))
            reach = np.zeros(cells.shape[:2])
            for i, j in itertools.product((0, 1), (0, 1)):
                around = reach[i : i + len(cell), j : j + cell.shape[1]]
                np.maximum(around, cell, out=around)
            self._kept["grid"] = uv, place, scipy.spatial.cKDTree(spots), reach.ravel()
        found: tuple[Floats, Floats, scipy.spatial.cKDTree, Floats] = self._kept["grid"]
        return found

    def parameters(self, points: Floats) -> Floats:
        """Parameters (n,2) of the closest points to (n,3). Distance and normal are mostly asked for the
        same points one after the other: the last answer is kept."""
        points = np.asarray(points, dtype=float)
        key = points.tobytes()
        if self._kept.get("asked") != key:
            self._kept["answer"] = self._parameters(points)
            self._kept["asked"] = key
        answer: Floats = self._kept["answer"]
        return answer.copy()

    def learn(self, points: Floats, uv: Floats) -> None:
        """Points (n,3) are those at uv (n,2): who asks for their parameters next need not look for them."""
        self._kept["asked"], self._kept["answer"] = points.tobytes(), uv

    def _parameters(self, points: Floats) -> Floats:
        """From the nearest sample; and again from those of other regions, where these might be nearer: a surface that
        comes near itself has more than one foot of a perpendicular. Where it folds within a cell of the grid the
        answer can still be another foot than the nearest."""
        uv_all, place, tree, reach = self._grid()
        near, start = tree.query(points)
        out = self._from(uv_all[start], points)
        gap = np.linalg.norm(self.at(out[:, 0], out[:, 1])[0] - points, axis=1)
        # What lies as near as that lies on the surface, and another foot is hardly nearer.
        doubt = np.flatnonzero((gap > _ON * reach[start]) & (gap > near - reach[start]))
        if not len(doubt):
            return out
        many = min(24, len(uv_all))
        nears, starts = (a.reshape(len(doubt), -1) for a in tree.query(points[doubt], k=many))
        here = tree.query(self.at(out[doubt, 0], out[doubt, 1])[0])[1]
        left = np.abs(place[starts] - place[here][:, None]).max(axis=2) > 1
        for _ in range(_REGIONS):
            left &= nears - reach[starts] < gap[doubt, None]
            again = np.flatnonzero(left.any(axis=1))
            if not len(again):
                break
            rows, first = doubt[again], starts[again, left[again].argmax(axis=1)]
            other = self._from(uv_all[first], points[rows])
            there = self.at(other[:, 0], other[:, 1])[0]
            now = np.linalg.norm(there - points[rows], axis=1)
            better = now < gap[rows]
            out[rows[better]], gap[rows[better]] = other[better], now[better]
            for seen in (first, tree.query(there)[1]):
                left[again] &= np.abs(place[starts[again]] - place[seen][:, None]).max(axis=2) > 1
        return out

    def _from(self, start: Floats, points: Floats) -> Floats:
        """Parameters (n,2) of closest points to (n,3), from starts (n,2)."""
        closed_u, closed_v = self.closed()
        return surface_closest(
            given(self.knots_u), given(self.knots_v), self.degree_u, self.degree_v, self._net(), closed_u, closed_v,
            given(start), given(points),
        )  # fmt: skip

    def _shape(self, points: Floats) -> tuple[tuple[int, ...], Floats]:
        points = np.asarray(points, dtype=float)
        return points.shape[:-1], points.reshape(-1, 3)

    def spot(self, uv: Floats) -> tuple[Floats, Floats, Floats]:
        p, du, dv, *_ = self.at(uv[:, 0], uv[:, 1])
        return p, du, dv

    def plain(self, swap: bool, branch: float | None = None) -> Chart:
        return SplineChart(self, frozen(np.ones(2)), swap, False, (branch, None) if swap else (None, branch))

    def ring_between(self, pole: Pole) -> BSplineCurve:
        """The row half way from a pole to the other end of the range."""
        low, high = self.range
        k = 1 - pole.around
        net = _weighted(self.control, self.weights)
        knots, degree = (self.knots_v, self.degree_v) if k == 1 else (self.knots_u, self.degree_u)
        rows = scipy.interpolate.BSpline(knots, net.transpose(1, 0, 2) if k == 1 else net, degree)
        row = rows(0.5 * (low[k] + high[k]))
        own, order = (self.knots_u, self.degree_u) if k == 1 else (self.knots_v, self.degree_v)
        weights = None if self.weights is None else frozen(row[:, 3])
        return BSplineCurve(own, order, frozen(row[:, :3] / row[:, 3:]), weights)

    def poles(self) -> list[Pole]:
        if "poles" not in self._kept:
            low, high = self.range
            self._kept["poles"] = poles_of(self, low, high, self.closed())
        found: list[Pole] = self._kept["poles"]
        return found

    def _off_poles(self, uv: Floats) -> Floats:
        """Parameters (n,2), those at a pole moved to where the surface has a normal: by a thousandth of the range."""
        low, high = self.range
        for pole in self.poles():
            k = 1 - pole.around
            step = 1e-3 * (high[k] - low[k])
            uv[:, k] = np.where(np.abs(uv[:, k] - pole.value) < 1e-3 * step, pole.value + pole.inward * step, uv[:, k])
        return uv

    def normal(self, points: Floats) -> Floats:
        shape, p = self._shape(points)
        uv = self._off_poles(self.parameters(p))
        _, du, dv, _, _, _ = self.at(uv[:, 0], uv[:, 1])
        n = cross_product(du, dv)
        return np.asarray((n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)).reshape(*shape, 3))

    def project(self, points: Floats) -> Floats:
        shape, p = self._shape(points)
        uv = self.parameters(p)
        there = self.at(uv[:, 0], uv[:, 1])[0]
        self.learn(there, uv)  # what is brought onto it is mostly asked about next
        return there.reshape(*shape, 3)

    def signed_distance(self, points: Floats) -> Floats:
        shape, p = self._shape(points)
        uv = self.parameters(p)
        at, du, dv, _, _, _ = self.at(uv[:, 0], uv[:, 1])
        away = p - at
        size = np.linalg.norm(away, axis=1)
        at_pole = np.flatnonzero(np.linalg.norm(cross_product(du, dv), axis=1) == 0.0)
        side = np.sign((away * cross_product(du, dv)).sum(axis=1))
        if len(at_pole):
            side[at_pole] = np.sign((away[at_pole] * self.normal(p[at_pole])).sum(axis=1))
        return np.asarray((size * np.where(side == 0.0, 1.0, side)).reshape(shape))

    def bend(self, points: Floats) -> Floats:
        uv = self._off_poles(self.parameters(np.asarray(points)))
        return self.bend_at(uv[:, 0], uv[:, 1])

    def bend_at(self, u: Floats, v: Floats) -> Floats:
        """The larger principal curvature (n,) at parameters (n,)."""
        mean, gauss = self._curvatures(u, v)
        return np.asarray(np.abs(mean) + np.sqrt(np.maximum(mean**2 - gauss, 0.0)))

    def roundness_at(self, u: Floats, v: Floats) -> Floats:
        """The sum of the principal curvatures (n,), 1/mm, at parameters (n,): positive where it bends away from its
        normal, as a ball does from the one that looks outwards."""
        return -2.0 * self._curvatures(u, v)[0]

    def _curvatures(self, u: Floats, v: Floats) -> tuple[Floats, Floats]:
        """The mean and the Gaussian curvature (n,) at parameters (n,)."""
        _, du, dv, duu, duv, dvv = self.at(u, v)
        n = cross_product(du, dv)
        n = n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        e, f, g = (du * du).sum(1), (du * dv).sum(1), (dv * dv).sum(1)
        second, m, k = (duu * n).sum(1), (duv * n).sum(1), (dvv * n).sum(1)
        det = np.maximum(e * g - f * f, 1e-300)
        return (e * k - 2 * f * m + g * second) / (2 * det), (second * k - m * m) / det

    def moved(self, motion: Floats) -> BSplineSurface:
        control = self.control @ motion[:3, :3].T + motion[:3, 3]
        if np.linalg.det(motion[:3, :3]) < 0.0:  # a mirror would turn the normal: exchange u and v
            w = None if self.weights is None else frozen(self.weights.T)
            return BSplineSurface(self.knots_v, self.knots_u, self.degree_v, self.degree_u,
                                  frozen(control.transpose(1, 0, 2)), w)  # fmt: skip
        return BSplineSurface(self.knots_u, self.knots_v, self.degree_u, self.degree_v, frozen(control), self.weights)

    def offset(self, distance: float) -> BSplineSurface:
        raise ValueError("a free-form surface has no exact offset")

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if self is other:
            return True
        if not isinstance(other, BSplineSurface):
            return False
        mine, theirs = self._grid()[2].data[::7], other._grid()[2].data[::7]
        return bool(
            np.abs(other.signed_distance(mine)).max() <= tolerance
            and np.abs(self.signed_distance(theirs)).max() <= tolerance
        )

    def chart(self, outlines: Outlines) -> Chart:
        met, winding = touched(self, self.poles(), outlines)
        if met:
            return pole_chart(self, met, winding, outlines)
        low, high = self.range
        middle = self._grid()[0]
        _, du, dv, *_ = self.at(middle[:, 0], middle[:, 1])
        scale = np.array([np.linalg.norm(du, axis=1).mean(), np.linalg.norm(dv, axis=1).mean()])
        scale = np.maximum(scale, 1e-9 * scale.max())
        closed, span = self.closed(), high - low
        uvs = [self.parameters(p) for p in outlines]
        winds = [any(turns(uv[:, k], span[k]) for uv in uvs) if closed[k] else False for k in (0, 1)]
        if all(winds):
            raise ValueError("a face winds around a spline surface both ways")
        branch = [widest_gap(np.concatenate([uv[:, k] for uv in uvs]) - low[k], span[k]) + low[k]
                  if closed[k] and uvs else None for k in (0, 1)]  # fmt: skip
        return SplineChart(self, frozen(scale), winds[1], winds[0] or winds[1], (branch[0], branch[1]))


@dataclass(frozen=True, slots=True, eq=False)
class SplineChart:
    """The parameters, scaled to mean lengths; (v, -u) where the face goes around v."""

    surface: BSplineSurface
    scale: Floats
    swap: bool
    winds: bool
    branch: tuple[float | None, float | None]

    @property
    def flat_period(self) -> float | None:
        k = 1 if self.swap else 0
        low, high = self.surface.range
        return float((high[k] - low[k]) * self.scale[k]) if self.winds else None

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def knots(self) -> tuple[Floats, Floats]:
        """The inner knots of the surface along both flat coordinates."""
        u, v = (k * scale for k, scale in zip(self.surface.inner_knots(), self.scale, strict=True))
        return (v, -u[::-1]) if self.swap else (u, v)

    def swept(self, flat: Floats, base: float, weight: Floats, rule: tuple[Floats, Floats]) -> Floats:
        """The weighted sum (14,) of the integrals of `brep.measures._integrands` over the surface, straight in the
        chart from where its second coordinate is `base` to places (n,2), by a rule between knots. Not where it winds
        or is closed."""
        surface, k = self.surface, 1 if self.swap else 0
        uv = self._uv(flat)
        knots, degrees = (surface.knots_u, surface.knots_v), (surface.degree_u, surface.degree_v)
        net = surface._net().transpose(1, 0, 2) if self.swap else surface._net()
        start = self._uv(np.array([[flat[0, 0], base]]))[0, 1 - k]
        out: Floats = swept_integrals(
            given(knots[k]), given(knots[1 - k]), degrees[k], degrees[1 - k], given(net), given(uv[:, k]), float(start),
            given(uv[:, 1 - k]), given(weight), given(surface.inner_knots()[1 - k]), given(rule[0]), given(rule[1]),
        )  # fmt: skip
        out = out / self.scale[k]
        if self.swap:  # the second coordinate runs against the surface's, and so does the normal
            out[:4] = -out[:4]
        return out

    def tip(self) -> float | None:
        """The second flat coordinate at which the surface runs together in a point, at an end of its range."""
        k = 0 if self.swap else 1
        rows = np.moveaxis(self.surface.control, k, 0)
        for end, at in ((0, self.surface.range[0][k]), (-1, self.surface.range[1][k])):
            if not float(np.ptp(rows[end], axis=0).max()):
                return float(at * self.scale[k]) * (-1.0 if self.swap else 1.0)
        return None

    def flat(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        uv = self.surface.parameters(points.reshape(-1, 3))
        low, high = self.surface.range
        for k in (0, 1):
            branch = self.branch[k]
            if branch is not None and not (self.winds and k == (1 if self.swap else 0)):
                uv[:, k] = branch + np.mod(uv[:, k] - branch, high[k] - low[k])
        out = uv * self.scale
        if self.swap:
            out = np.stack([out[:, 1], -out[:, 0]], axis=1)
        return np.asarray(out.reshape(*points.shape[:-1], 2))

    def _uv(self, flat: Floats) -> Floats:
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        uv = np.stack([-flat[:, 1], flat[:, 0]], axis=1) if self.swap else flat
        return self.surface.wrapped(uv / self.scale)

    def point(self, flat: Floats) -> Floats:
        uv = self._uv(flat)
        points = self.surface.frames(uv[:, 0], uv[:, 1])[0]
        self.surface.learn(points, uv)
        return points.reshape(*np.shape(flat)[:-1], 3)

    def tangents(self, flat: Floats) -> Floats:
        return self.spots(flat)[1]

    def spots(self, flat: Floats) -> tuple[Floats, Floats]:
        """Points (n,3) and tangents (n,2,3) at flat points (n,2), at the price of one."""
        uv = self._uv(flat)
        points, du, dv = self.surface.frames(uv[:, 0], uv[:, 1])
        du, dv = du / self.scale[0], dv / self.scale[1]
        return points, np.stack([dv, -du] if self.swap else [du, dv], axis=1)
