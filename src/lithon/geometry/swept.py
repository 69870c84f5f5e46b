"""Surfaces swept by a curve: along a line (extrusion) or around an axis (revolution).

Closest points need a search along the profile only: the sweep itself is solved in closed form.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, span_by_span, unit
from lithon.geometry.charts import NOWHERE, Chart, Outlines, gap_between, turns, widest_gap
from lithon.geometry.curves import TURN, Circle, Curve
from lithon.geometry.frames import Frame
from lithon.geometry.poles import Pole, pole_chart, poles_of, touched
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Surface


def profile_range(curve: Curve) -> tuple[float, float]:
    if isinstance(curve, BSplineCurve):
        return curve.low, curve.high
    if curve.period is not None:
        return 0.0, float(curve.period)
    raise ValueError("the profile of a swept surface must be bounded: a straight one sweeps a simple surface")


def _closest(place: Callable[[Floats], Floats], samples: tuple[Floats, Floats], wanted: Floats, closed: bool) -> Floats:
    """Parameters (n,) at which a planar curve `place`, (n,) to (n,2), comes nearest to `wanted` (n,2). samples: those
    to start from, from end to end, and where they are."""
    t, gap = np.zeros(len(wanted)), np.full(len(wanted), np.inf)
    for start in _lowest(samples[1], wanted, closed).T:  # a curve that comes near itself has several feet
        other = _foot(place, samples[0], start, wanted, closed)
        away = ((place(other) - wanted) ** 2).sum(axis=1)
        nearer = away < gap
        t[nearer], gap[nearer] = other[nearer], away[nearer]
    return t


#: How many of the samples nearest by are looked at, each lower than its neighbours.
_FEET = 3


def _lowest(at: Floats, wanted: Floats, closed: bool) -> Ints:
    """Of samples along a curve (k,2), for each point (n,2) the nearest three that have no nearer neighbour (n,3)."""
    out = np.empty((len(wanted), _FEET), dtype=np.int64)
    for k in range(0, len(wanted), 2048):
        away = ((wanted[k : k + 2048, None] - at[None]) ** 2).sum(axis=2)
        ends = (away[:, -2:-1], away[:, 1:2]) if closed else (np.full((len(away), 1), np.inf),) * 2
        framed = np.concatenate([ends[0], away, ends[1]], axis=1)
        dips = (away <= framed[:, :-2]) & (away <= framed[:, 2:])
        out[k : k + 2048] = np.argsort(np.where(dips, away, np.inf), axis=1)[:, :_FEET]
    return out


def _foot(place: Callable[[Floats], Floats], grid: Floats, start: Ints, wanted: Floats, closed: bool) -> Floats:
    """The foot of the perpendicular (n,) from each point within a step of a sample (n,), by Newton; a step that leads
    further away is made smaller."""
    low, high = grid[0], grid[-1]
    t, steps = grid[start], np.diff(grid)
    lower, upper = t - steps[start - 1], t + steps[np.minimum(start, len(steps) - 1)]
    if not closed:
        lower, upper = np.maximum(lower, low), np.minimum(upper, high)
    h, share = 5e-5 * (upper - lower), np.ones(len(t))
    miss = np.full(len(t), np.inf)
    for _ in range(60):
        a, m, b = place(t - h), place(t), place(t + h)
        miss = np.minimum(miss, ((m - wanted) ** 2).sum(axis=1))
        d, dd = (b - a) / (2 * h[:, None]), (a - 2 * m + b) / (h * h)[:, None]
        f = ((m - wanted) * d).sum(axis=1)
        g = (d * d).sum(axis=1) + ((m - wanted) * dd).sum(axis=1)
        g = np.where(g > 0.1 * (d * d).sum(axis=1), g, (d * d).sum(axis=1) + 1e-300)
        new = np.clip(t - share * f / g, lower, upper)
        if np.abs(new - t).max(initial=0.0) < 1e-13 * (abs(high) + abs(low) + 1.0):
            break
        nearer = ((place(new) - wanted) ** 2).sum(axis=1) <= miss * (1.0 + 1e-14)
        t, share = np.where(nearer, new, t), np.where(nearer, np.minimum(1.0, 2.0 * share), 0.3 * share)
    return np.asarray(low + np.mod(t - low, high - low) if closed else t)


@dataclass(frozen=True, slots=True, eq=False)
class _Swept:
    """What both have in common: parameters (t along the profile, s along the sweep), normal dt x ds
    turned by `sense` so that charts are right-handed about it."""

    profile: Curve
    frame: Frame
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    def parameters(self, points: Floats) -> Floats:
        raise NotImplementedError

    def at(self, ts: Floats) -> tuple[Floats, Floats, Floats]:
        """Point, dt, ds, each (n,3), at parameters (n,2)."""
        raise NotImplementedError

    def spot(self, uv: Floats) -> tuple[Floats, Floats, Floats]:
        return self.at(uv)

    def plain(self, swap: bool, branch: float | None = None) -> Chart:
        return SweptChart(self, 1.0, 1.0, swap, None, None if branch is None else TURN, branch)

    def poles(self) -> list[Pole]:
        return []

    def flat(self) -> BSplineCurve | None:
        """The profile in the plane in which closest points are sought, (x, y, 0); None where that is no spline."""
        if "flat" not in self._kept:
            self._kept["flat"] = self._flattened() if isinstance(self.profile, BSplineCurve) else None
        made: BSplineCurve | None = self._kept["flat"]
        return made

    def _flattened(self) -> BSplineCurve | None:
        raise NotImplementedError

    def _on_profile(self, wanted: Floats, place: Callable[[Floats], Floats]) -> Floats:
        """Parameters (n,) of the profile nearest to points (n,2) of that plane, into which `place` takes parameters."""
        flat = self.flat()
        if flat is not None:
            return flat.parameter(np.column_stack([wanted, np.zeros(len(wanted))]))
        if "grid" not in self._kept:
            ends = profile_range(self.profile)
            knots = self.profile.corners(*ends) if isinstance(self.profile, BSplineCurve) else np.array(ends)
            grid = span_by_span(knots, 32, 256)
            self._kept["grid"] = grid, place(grid)
        return _closest(place, self._kept["grid"], wanted, self.profile.period is not None)

    def _off_poles(self, ts: Floats) -> Floats:
        """Parameters (n,2), those at a pole moved to where the surface has a normal."""
        low, high = profile_range(self.profile)
        for pole in self.poles():
            step = 1e-3 * (high - low)
            ts[:, 0] = np.where(np.abs(ts[:, 0] - pole.value) < 1e-3 * step, pole.value + pole.inward * step, ts[:, 0])
        return ts

    def _flat_points(self, points: Floats) -> tuple[tuple[int, ...], Floats]:
        points = np.asarray(points, dtype=float)
        return points.shape[:-1], points.reshape(-1, 3)

    def normal(self, points: Floats) -> Floats:
        shape, p = self._flat_points(points)
        _, dt, ds = self.at(self._off_poles(self.parameters(p)))
        return unit(cross_product(dt, ds)).reshape(*shape, 3)

    def project(self, points: Floats) -> Floats:
        shape, p = self._flat_points(points)
        return self.at(self.parameters(p))[0].reshape(*shape, 3)

    def signed_distance(self, points: Floats) -> Floats:
        shape, p = self._flat_points(points)
        on, dt, ds = self.at(self.parameters(p))
        away = p - on
        side = np.where((away * cross_product(dt, ds)).sum(axis=1) < 0.0, -1.0, 1.0)
        return np.asarray((side * np.linalg.norm(away, axis=1)).reshape(shape))

    def bend(self, points: Floats) -> Floats:
        """From how the normal turns over a small step along the profile and across it."""
        ts = self._off_poles(self.parameters(self.project(points)))
        on = self.at(ts)[0]
        out = np.zeros(len(on))
        for k in (0, 1):
            h = np.zeros((1, 2))
            h[0, k] = 1e-4
            a, b = self.at(ts - h), self.at(ts + h)
            gap = np.maximum(np.linalg.norm(b[0] - a[0], axis=1), 1e-300)
            turn = np.linalg.norm(unit(cross_product(b[1], b[2])) - unit(cross_product(a[1], a[2])), axis=1)
            out = np.maximum(out, turn / gap)
        return out

    def offset(self, distance: float) -> Surface:
        raise ValueError("a free-form surface has no exact offset")

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if not isinstance(other, type(self)):
            return False
        low, high = profile_range(self.profile)
        t = np.linspace(low, high, 23)
        mine = self.at(np.stack([t, np.zeros(23)], axis=1))[0]
        return bool(np.abs(other.signed_distance(mine)).max() <= tolerance)

    def _chart(self, outlines: Outlines, sweep_period: float | None, stretch: float) -> Chart:
        met, winding = touched(self, self.poles(), outlines)
        if met:
            return pole_chart(self, met, winding, outlines)
        low, high = profile_range(self.profile)
        profile_period = high - low if self.profile.period is not None else None
        params = [self.parameters(p) for p in outlines]
        around = [[0 if p is None else turns(ts[:, k], p) for ts in params]
                  for k, p in ((0, profile_period), (1, sweep_period))]  # fmt: skip
        if any(around[0]) and any(around[1]):
            raise ValueError("a face winds around a swept surface both ways")
        # Outlines that go round nowhere are unwrapped along the sweep, one by one: together they may leave no gap.
        swap = any(around[1]) or (sweep_period is not None and not any(around[0]))
        other = 0 if swap else 1
        period = (profile_period, sweep_period)[other]
        branch = None
        if period is not None and params:
            # In the chart (s, -t) the second coordinate runs backwards.
            sign = -1.0 if swap else 1.0
            second = [sign * ts[:, other] for ts in params]
            way = around[1] if swap else around[0]
            bottoms = [v for v, k in zip(second, way, strict=True) if k > 0]
            tops = [v for v, k in zip(second, way, strict=True) if k < 0]
            both = bool(bottoms and tops)
            gap = gap_between(tops[0], bottoms[0], period) if both else widest_gap(np.concatenate(second), period)
            branch = sign * gap
        speed = float(
            np.linalg.norm(self.at(np.stack([np.linspace(low, high, 65), np.zeros(65)], axis=1))[1], axis=1).mean()
        )
        own = (profile_period, sweep_period)[1 if swap else 0] if swap or any(around[0]) else None
        return SweptChart(self, speed, stretch, swap, own, period, branch)


@dataclass(frozen=True, slots=True, eq=False)
class Extrusion(_Swept):
    """profile(t) + s * frame.z."""

    kind: str = field(default="extrusion", init=False)

    @staticmethod
    def of(profile: Curve, direction: object) -> Extrusion:
        start = profile.point(np.array([profile_range(profile)[0]]))[0]
        return Extrusion(profile, Frame.of(start, direction))

    def parameters(self, points: Floats) -> Floats:
        p = self.frame.local(points)

        def place(t: Floats) -> Floats:
            return self.frame.local(self.profile.point(t))[..., :2]

        t = self._on_profile(p[:, :2], place)
        return np.stack([t, p[:, 2] - self.frame.local(self.profile.point(t))[:, 2]], axis=1)

    def _flattened(self) -> BSplineCurve:
        made = self.profile
        assert isinstance(made, BSplineCurve)
        return BSplineCurve(made.knots, made.degree, self.frame.local(made.control) * [1.0, 1.0, 0.0], made.weights)

    def at(self, ts: Floats) -> tuple[Floats, Floats, Floats]:
        p, d = self.profile.point(ts[:, 0]), self.profile.derivative(ts[:, 0])
        return p + np.multiply.outer(ts[:, 1], self.frame.z), d, np.broadcast_to(self.frame.z, p.shape)

    def moved(self, motion: Floats) -> Extrusion:
        frame = self.frame.moved(motion)
        if np.linalg.det(motion[:3, :3]) < 0.0:  # a mirror would turn the normal: sweep the other way
            frame = Frame.of(frame.origin, -frame.z)
        return Extrusion(self.profile.moved(motion), frame)

    def chart(self, outlines: Outlines) -> Chart:
        return self._chart(outlines, None, 1.0)


@dataclass(frozen=True, slots=True, eq=False)
class Revolution(_Swept):
    """profile(t) turned by s about the frame's z."""

    kind: str = field(default="revolution", init=False)

    @staticmethod
    def of(profile: Curve, origin: object, axis: object) -> Revolution:
        return Revolution(profile, Frame.of(origin, axis))

    def poles(self) -> list[Pole]:
        """Ends of the profile on the axis."""
        if "poles" not in self._kept:
            low, high = profile_range(self.profile)
            t_closed = self.profile.period is not None
            self._kept["poles"] = poles_of(self, np.array([low, 0.0]), np.array([high, TURN]), (t_closed, True))
        found: list[Pole] = self._kept["poles"]
        return found

    def ring_between(self, pole: Pole) -> Circle:
        """The ring half way along the profile."""
        low, high = profile_range(self.profile)
        r, z = self._half(np.array([0.5 * (low + high)]))[0]
        return Circle.about(self.frame.shifted(z * self.frame.z), float(r))

    def _flattened(self) -> BSplineCurve | None:
        """The profile in (radius, height), where it lies on one side of a plane that holds the axis."""
        made = self.profile
        assert isinstance(made, BSplineCurve)
        local = self.frame.local(made.control)
        out = np.hypot(local[:, 0], local[:, 1])
        far = int(out.argmax())
        if out[far] < 1e-12 or (made.weights is not None and made.weights.min() <= 0.0):
            return None
        way = local[far, :2] / out[far]
        r, off = local[:, :2] @ way, local[:, :2] @ np.array([-way[1], way[0]])
        size = float(np.ptp(local, axis=0).max()) + out[far]
        if np.abs(off).max() > 1e-12 * size or r.min() < -1e-12 * size:
            return None
        flat = np.column_stack([np.maximum(r, 0.0), local[:, 2], np.zeros(len(r))])
        return BSplineCurve(made.knots, made.degree, flat, made.weights)

    def _way(self) -> Floats | None:
        """Where the profile is a circle in a plane that holds the axis: the way (2,) from the axis to its middle."""
        if "way" not in self._kept:
            self._kept["way"] = None
            if isinstance(self.profile, Circle):
                middle, normal = self.frame.local(self.profile.frame.origin)[:2], self.profile.frame.z
                away = float(np.hypot(*middle))
                upright = abs(float(normal @ self.frame.z)) < 1e-12
                if upright and away > 1e-9 * self.profile.radius:
                    off = float(normal @ (self.profile.frame.origin - self.frame.origin))
                    if abs(off) < 1e-12 * (away + self.profile.radius):
                        self._kept["way"] = middle / away
        way: Floats | None = self._kept["way"]
        return way

    def _on_circle(self, wanted: Floats, way: Floats) -> Floats:
        """Parameters (n,) on such a circle nearest to (radius, height) (n,2). What of it lies beyond the axis comes to
        where it is seen from the other side."""
        found, gap = np.zeros(len(wanted)), np.full(len(wanted), np.inf)
        for side in (1.0, -1.0):
            there = np.column_stack([side * np.outer(wanted[:, 0], way), wanted[:, 1]])
            t = self.profile.parameter(self.frame.world(there))
            away = ((self._half(t) - wanted) ** 2).sum(axis=1)
            found, gap = np.where(away < gap, t, found), np.minimum(gap, away)
        return found

    def _half(self, t: Floats) -> Floats:
        p = self.frame.local(self.profile.point(t))
        return np.stack([np.hypot(p[..., 0], p[..., 1]), p[..., 2]], axis=-1)

    def parameters(self, points: Floats) -> Floats:
        p = self.frame.local(points)
        wanted = np.stack([np.hypot(p[:, 0], p[:, 1]), p[:, 2]], axis=1)
        way = self._way()
        t = self._on_profile(wanted, self._half) if way is None else self._on_circle(wanted, way)
        q = self.frame.local(self.profile.point(t))
        return np.stack([t, np.mod(np.arctan2(p[:, 1], p[:, 0]) - np.arctan2(q[:, 1], q[:, 0]), TURN)], axis=1)

    def at(self, ts: Floats) -> tuple[Floats, Floats, Floats]:
        axes = np.array([self.frame.x, self.frame.y, self.frame.z])
        p, d = self.frame.local(self.profile.point(ts[:, 0])), self.profile.derivative(ts[:, 0]) @ axes.T
        c, s = np.cos(ts[:, 1]), np.sin(ts[:, 1])

        def turned(q: Floats) -> Floats:
            return np.stack([c * q[:, 0] - s * q[:, 1], s * q[:, 0] + c * q[:, 1], q[:, 2]], axis=1)

        local = turned(p)
        ds = np.stack([-local[:, 1], local[:, 0], np.zeros(len(ts))], axis=1)
        return self.frame.world(local), turned(d) @ axes, ds @ axes

    def moved(self, motion: Floats) -> Revolution:
        return Revolution(self.profile.moved(motion), self.frame.moved(motion))

    def chart(self, outlines: Outlines) -> Chart:
        every = np.concatenate(list(outlines)) if len(outlines) else self.frame.origin[None]
        p = self.frame.local(every)
        return self._chart(outlines, TURN, max(float(np.hypot(p[:, 0], p[:, 1]).mean()), 1e-6))


@dataclass(frozen=True, slots=True, eq=False)
class SweptChart:
    """(t, s) scaled to mean lengths; (s, -t) where the face goes around the sweep."""

    surface: _Swept
    speed: float
    stretch: float
    swap: bool
    own: float | None
    period: float | None
    branch: float | None

    @property
    def flat_period(self) -> float | None:
        return None if self.own is None else self.own * (self.stretch if self.swap else self.speed)

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        ts = self.surface.parameters(points.reshape(-1, 3))
        k = 0 if self.swap else 1
        if self.branch is not None and self.period is not None:
            ts[:, k] = self.branch + np.mod(ts[:, k] - self.branch, self.period)
        out = ts * [self.speed, self.stretch]
        if self.swap:
            out = np.stack([out[:, 1], -out[:, 0]], axis=1)
        return np.asarray(out.reshape(*points.shape[:-1], 2))

    def knots(self) -> tuple[Floats, Floats]:
        """Where the profile is less smooth, as values of the first and of the second flat coordinate."""
        profile = self.surface.profile
        if not isinstance(profile, BSplineCurve):
            return np.zeros(0), np.zeros(0)
        inner = np.unique(profile.knots)
        if profile.period is not None:  # it may be counted from anywhere
            inner = np.unique(np.concatenate([inner - profile.period, inner, inner + profile.period]))
        else:
            inner = inner[1:-1]
        return (np.zeros(0), np.sort(-inner * self.speed)) if self.swap else (inner * self.speed, np.zeros(0))

    def _ts(self, flat: Floats) -> Floats:
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        ts = np.stack([-flat[:, 1], flat[:, 0]], axis=1) if self.swap else flat
        return np.asarray(ts / [self.speed, self.stretch])

    def point(self, flat: Floats) -> Floats:
        return self.surface.at(self._ts(flat))[0].reshape(*np.shape(flat)[:-1], 3)

    def tangents(self, flat: Floats) -> Floats:
        _, dt, ds = self.surface.at(self._ts(flat))
        dt, ds = dt / self.speed, ds / self.stretch
        return np.stack([ds, -dt] if self.swap else [dt, ds], axis=1)


__all__ = ["Extrusion", "Revolution", "SweptChart"]
