"""Poles of free-form surfaces: sides of the parameter range that are single points. A face that reaches one is
rolled out about it, one that reaches two with rows as long as they are in space, so that no side collapses."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from lithon.arrays import Floats, cross_product, unit
from lithon.geometry.charts import NOWHERE, Chart, Outlines, gap_above, turns, widest_gap


class Parametric(Protocol):
    """A surface of two parameters."""

    def parameters(self, points: Floats) -> Floats: ...

    def spot(self, uv: Floats) -> tuple[Floats, Floats, Floats]:
        """Points and both derivatives, each (n,3), at parameters (n,2)."""
        ...

    def plain(self, swap: bool, branch: float | None = None) -> Chart:
        """(u, v), or (v, -u) where `swap`, unscaled: for integrals. The second one's parameter is counted from
        `branch`, where that comes back."""
        ...


@dataclass(frozen=True, slots=True, eq=False)
class Pole:
    """`around` is the parameter (0 or 1) that runs about it, `value` the other one's there, `inward` +1 where that
    grows into the surface; `low` and `high` bound the angle, `closed` where it comes back, in `point` (3,)."""

    around: int
    value: float
    inward: float
    low: float
    high: float
    closed: bool
    point: Floats


def poles_of(surface: Parametric, low: Floats, high: Floats, closed: tuple[bool, bool]) -> list[Pole]:
    """Sides of the range low..high (2,) that have no length."""
    out = []
    size = None
    for around in (0, 1):
        other = 1 - around
        if closed[other]:
            continue
        for value, inward in ((low[other], 1.0), (high[other], -1.0)):
            uv = np.empty((9, 2))
            uv[:, around] = np.linspace(low[around], high[around], 9)
            uv[:, other] = value
            p = surface.spot(uv)[0]
            if size is None:
                uv[:, other] = 0.5 * (low[other] + high[other])
                size = float(np.ptp(surface.spot(uv)[0], axis=0).max())
            if float(np.ptp(p, axis=0).max()) <= 1e-7 * size:
                ends = float(low[around]), float(high[around])
                out.append(Pole(around, float(value), inward, *ends, closed[around], p.mean(axis=0)))
    return out


def touched(surface: Parametric, poles: list[Pole], outlines: Outlines) -> tuple[list[Pole], bool]:
    """The poles that a face with these outlines reaches, and whether it goes around one."""
    if not poles or not len(outlines):
        return [], False
    every = np.concatenate(list(outlines))
    size = float(np.ptp(every, axis=0).max())
    met = [p for p in poles if float(np.linalg.norm(every - p.point, axis=1).min()) <= 1e-6 * size]
    if met:
        return met, False
    for around in dict.fromkeys(p.around for p in poles if p.closed):
        span = poles[0].high - poles[0].low
        net = sum(turns(surface.parameters(p)[:, around], span) for p in outlines)
        if net:
            # The face is to the left: (u, v) is right-handed, (v, -u) too.
            toward = net if around == 0 else -net
            return [p for p in poles if p.around == around and p.inward * toward < 0.0][:1], True
    return [], False


def mean_normal(surface: Parametric, pole: Pole) -> Floats:
    """The mean (3,) of the surface's normals around a pole, where there is none."""
    uv = np.empty((32, 2))
    uv[:, pole.around] = pole.low + (np.arange(32) + 0.5) / 32.0 * (pole.high - pole.low)
    uv[:, 1 - pole.around] = pole.value + pole.inward * 1e-3
    _, du, dv = surface.spot(uv)
    return np.asarray(unit(cross_product(du, dv)).mean(axis=0))


def pole_chart(surface: Parametric, met: list[Pole], winding: bool, outlines: Outlines) -> Chart:
    return PoleChart.of(surface, met[0], winding) if len(met) == 1 else LuneChart.of(surface, met, outlines)


@dataclass(frozen=True, slots=True, eq=False)
class PoleChart:
    """About one pole: distance from it by the one parameter, angle by the other."""

    surface: Parametric
    pole: Pole
    #: Radians in a unit of the angle, mm in a unit of the other parameter.
    turn: float
    reach: float
    winding: bool

    @staticmethod
    def of(surface: Parametric, pole: Pole, winding: bool) -> PoleChart:
        span = pole.high - pole.low
        uv = np.empty((33, 2))
        uv[:, pole.around] = np.linspace(pole.low, pole.high, 33)
        other = 1 - pole.around
        step = 1e-3
        uv[:, other] = pole.value + pole.inward * step
        p = surface.spot(uv)[0]
        away = np.linalg.norm(p - pole.point, axis=1)
        angle = float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum() / max(away.mean(), 1e-300))
        angle = 2.0 * np.pi if pole.closed else float(np.clip(angle, 0.2, 5.5))
        return PoleChart(surface, pole, angle / span, float(away.mean() / step), winding)

    @property
    def flat_period(self) -> float | None:
        return None

    @property
    def singular(self) -> Floats:
        return self.pole.point[None] if self.winding else NOWHERE

    @property
    def _hand(self) -> float:
        """Which way the angle turns, so that the chart is right-handed about the normal."""
        return (1.0 if self.pole.around == 0 else -1.0) * -self.pole.inward

    def flat(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        uv = self.surface.parameters(points.reshape(-1, 3))
        out = self._flat_of(uv)
        return out.reshape(*points.shape[:-1], 2)

    def _flat_of(self, uv: Floats) -> Floats:
        pole = self.pole
        angle = self._hand * self.turn * (uv[:, pole.around] - 0.5 * (pole.low + pole.high))
        away = self.reach * np.abs(uv[:, 1 - pole.around] - pole.value)
        return np.stack([away * np.cos(angle), away * np.sin(angle)], axis=1)

    def _uv(self, flat: Floats) -> Floats:
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        pole = self.pole
        angle = np.arctan2(flat[:, 1], flat[:, 0])
        out = np.empty_like(flat)
        out[:, pole.around] = np.clip(
            0.5 * (pole.low + pole.high) + self._hand * angle / self.turn, pole.low, pole.high
        )
        out[:, 1 - pole.around] = pole.value + pole.inward * np.hypot(flat[:, 0], flat[:, 1]) / self.reach
        return out

    def point(self, flat: Floats) -> Floats:
        return self.surface.spot(self._uv(flat))[0].reshape(*np.shape(flat)[:-1], 3)

    def tangents(self, flat: Floats) -> Floats:
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        away = np.hypot(flat[:, 0], flat[:, 1])
        least = 1e-7 * self.reach * (self.pole.high - self.pole.low)
        flat = np.where((away < least)[:, None], [[least, 0.0]], flat)  # at the pole itself: beside it
        away = np.maximum(away, least)
        uv = self._uv(flat)
        made = self.surface.spot(uv)
        by_angle, by_away = made[1 + self.pole.around], made[2 - self.pole.around]
        cos, sin = flat[:, :1] / away[:, None], flat[:, 1:] / away[:, None]
        outward = self.pole.inward * by_away / self.reach
        sideways = self._hand * by_angle / (self.turn * away[:, None])
        return np.stack([cos * outward - sin * sideways, sin * outward + cos * sideways], axis=1)

    def fan(self) -> tuple[Chart, float | None]:
        """The chart to integrate in, and where inner integrals begin: at the pole, whether the face goes around it or
        only reaches it. So it is all one where the angle's range begins."""
        swap = self.pole.around == 1
        return self.surface.plain(swap), -self.pole.value if swap else self.pole.value


def _hand(pole: Pole) -> float:
    """Whether (angle, other parameter) is right-handed about the normal, or (-angle, other parameter)."""
    return 1.0 if pole.around == 0 else -1.0


def _outside(surface: Parametric, a: Pole, b: Pole, outlines: Outlines) -> float:
    """An angle that a face between two poles leaves out. With the face to its left, what leads upwards from pole to
    pole is its right side and what leads downwards its left one: it may be wider than what it leaves out."""
    hand, span = _hand(a), a.high - a.low
    up, down, every = list[Floats](), list[Floats](), list[Floats]()
    for p in outlines:
        uv = surface.parameters(p)
        value = (uv[:, 1 - a.around] - a.value) / (b.value - a.value)
        angle = hand * (uv[:, a.around] - a.low)
        at = np.flatnonzero((value < 1e-6) | (value > 1.0 - 1e-6))  # there any angle will do
        for first, last in zip(at, np.roll(at, -1), strict=True):
            between = np.arange(first + 1, last if last > first else last + len(p)) % len(p)
            rise = (value[last] - value[first]) * (b.value - a.value)
            if len(between) and abs(value[last] - value[first]) > 0.5:
                (up if rise > 0.0 else down).append(angle[between])
        every.append(np.delete(angle, at))
    if up and down:  # of several faces beside each other, where none is
        left = np.concatenate(down)
        high, rise = max((gap_above(right, left, span) for right in up), key=lambda gap: gap[1])
        return a.low + hand * (high + 0.5 * rise)
    return a.low + hand * widest_gap(np.concatenate(every), span)


@dataclass(frozen=True, slots=True, eq=False)
class LuneChart:
    """Between two poles: rows along the angle, each as long as it is in space."""

    surface: Parametric
    poles: tuple[Pole, Pole]
    reach: float
    #: Where the angle is counted from: outside the face, where it comes back.
    start: float

    @staticmethod
    def of(surface: Parametric, met: list[Pole], outlines: Outlines) -> LuneChart:
        a, b = met[:2]
        start = _outside(surface, a, b, outlines) if a.closed else a.low
        uv = np.empty((65, 2))
        uv[:, a.around] = 0.5 * (a.low + a.high)
        uv[:, 1 - a.around] = np.linspace(a.value, b.value, 65)
        p = surface.spot(uv)[0]
        length = float(np.linalg.norm(np.diff(p, axis=0), axis=1).sum())
        return LuneChart(surface, (a, b), length / abs(b.value - a.value), start)

    @property
    def flat_period(self) -> float | None:
        return None

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def _width(self, value: Floats) -> Floats:
        """Length (n,) of a unit of the angle at these values of the other parameter, in the middle."""
        a = self.poles[0]
        uv = np.empty((len(value), 2))
        uv[:, a.around] = 0.5 * (a.low + a.high)
        uv[:, 1 - a.around] = value
        return np.asarray(np.linalg.norm(self.surface.spot(uv)[1 + a.around], axis=1))

    @property
    def _hand(self) -> float:
        return _hand(self.poles[0])

    def _from_start(self, angle: Floats) -> Floats:
        a = self.poles[0]
        return np.asarray(np.mod(angle - self.start, a.high - a.low) if a.closed else angle - self.start)

    def flat(self, points: Floats) -> Floats:
        points = np.asarray(points, dtype=float)
        uv = self.surface.parameters(points.reshape(-1, 3))
        a = self.poles[0]
        value = uv[:, 1 - a.around]
        along = self._width(value) * (self._from_start(uv[:, a.around]) - 0.5 * (a.high - a.low))
        return np.stack([self._hand * along, self.reach * value], axis=1).reshape(*points.shape[:-1], 2)

    def _uv(self, flat: Floats) -> tuple[Floats, Floats]:
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        a, b = self.poles
        value = np.clip(flat[:, 1] / self.reach, min(a.value, b.value), max(a.value, b.value))
        width = np.maximum(self._width(value), 1e-9 * self.reach)
        uv = np.empty_like(flat)
        uv[:, 1 - a.around] = value
        span = a.high - a.low
        angle = np.clip(0.5 * span + self._hand * flat[:, 0] / width, 0.0, span) + self.start
        uv[:, a.around] = a.low + np.mod(angle - a.low, span) if a.closed else angle
        return uv, width

    def point(self, flat: Floats) -> Floats:
        return self.surface.spot(self._uv(flat)[0])[0].reshape(*np.shape(flat)[:-1], 3)

    def tangents(self, flat: Floats) -> Floats:
        uv, width = self._uv(flat)
        a = self.poles[0]
        made = self.surface.spot(uv)
        by_angle, by_value = made[1 + a.around], made[2 - a.around]
        value = uv[:, 1 - a.around]
        h = 1e-6 * abs(self.poles[1].value - a.value)
        slope = (self._width(value + h) - self._width(value - h)) / (2.0 * h)
        along = self._from_start(uv[:, a.around]) - 0.5 * (a.high - a.low)
        first = self._hand * by_angle / width[:, None]
        second = (by_value - by_angle * (along * slope / width)[:, None]) / self.reach
        return np.stack([first, second], axis=1)

    def fan(self) -> tuple[Chart, float | None]:
        """The chart to integrate in, inner integrals along the angle; where they begin is all one."""
        a = self.poles[0]
        return self.surface.plain(a.around == 0, self.start if a.closed else None), None
