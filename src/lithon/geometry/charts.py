"""Charts: how a face of a surface is rolled out onto the plane.

A chart is made for the loops of one face, so that its singular places (the far pole of a sphere, the
branch of an angle) lie off the face. Charts of planes and cylinders keep lengths; those of cones,
spheres and tori keep angles (isothermal coordinates: do Carmo, Differential Geometry, 4.2), so that a
triangulation that is Delaunay in the plane is nearly so on the surface; others keep neither.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from lithon.arrays import Floats
from lithon.geometry.polar import TURN

#: Closed polylines (n,3) along a face's loops, the face on their left seen against the surface normal.
Outlines = Sequence[Floats]
NOWHERE = np.zeros((0, 3))
#: Into how many steps a turn is parted to follow an outline.
_STEPS = 512


class Chart(Protocol):
    """A plane map of a part of a surface, right-handed about the surface normal."""

    @property
    def flat_period(self) -> float | None:
        """The length after which the first flat coordinate repeats, if it does."""
        ...

    @property
    def singular(self) -> Floats:
        """Points (k,3) inside the face where it has no tangent plane: every mesh has a node there."""
        ...

    def flat(self, points: Floats) -> Floats:
        """Flat coordinates (n,2) of the closest surface points to (n,3)."""
        ...

    def point(self, flat: Floats) -> Floats:
        """Surface points (n,3) at flat coordinates (n,2)."""
        ...

    def tangents(self, flat: Floats) -> Floats:
        """Derivatives (n,2,3) of `point` by both flat coordinates."""
        ...


def unrolled(closed: Floats, period: float) -> tuple[Floats, int]:
    """A closed sequence of coordinates (n,) without jumps, and how many periods it advances until it is back."""
    step = np.diff(np.append(closed, closed[:1]))
    step -= period * np.round(step / period)
    return closed[0] + np.append(0.0, np.cumsum(step[:-1])), round(float(step.sum()) / period)


def turns(closed: Floats, period: float) -> int:
    """How many periods a closed sequence of coordinates (n,) advances."""
    return unrolled(closed, period)[1]


def widest_gap(values: Floats, period: float) -> float:
    """The middle of the widest stretch of a circle of this period that holds none of the values."""
    v = np.sort(np.mod(values, period))
    gap = np.diff(np.append(v, v[0] + period))
    k = int(gap.argmax())
    return float(np.mod(v[k] + 0.5 * gap[k], period))


def gap_between(top: Floats, bottom: Floats, period: float) -> float:
    """The middle of the gap above a band: from the highest of its upper outline up to its lower one, a
    period on. The outlines' heights may straddle the place where the period begins."""
    high, rise = gap_above(top, bottom, period)
    return float(np.mod(high + 0.5 * rise, period))


def gap_above(top: Floats, bottom: Floats, period: float) -> tuple[float, float]:
    """Where that gap begins, and how high it is."""
    turn = 2.0 * np.pi / period
    centre = float(np.angle(np.exp(1j * turn * top).mean())) / turn
    away = top - centre
    high = centre + float((away - period * np.round(away / period)).max())
    rise = np.mod(bottom - high + 1e-9 * period, period) - 1e-9 * period
    return high, float(rise.min())


def above_band(top: tuple[Floats, Floats], bottom: tuple[Floats, Floats]) -> Floats | None:
    """Heights (k,) midway in the gap above a band around, at k equal steps of a turn of the first angle, where both
    angles repeat after a turn. Outlines are given as first and second angles; None where they leave no gap."""
    high, low = _lifted(top, max), _lifted(bottom, min)
    rise = low - high
    rise += TURN * np.ceil(-float(rise.min()) / TURN + 1e-9)
    return np.asarray(high + 0.5 * rise) if float(rise.min()) > 1e-6 else None


def _lifted(outline: tuple[Floats, Floats], which: Callable[[Floats, Floats], Floats]) -> Floats:
    """The greatest or least second angle (k,) of an outline that goes around, followed without jumps."""
    first, second = (np.unwrap(np.append(a, a[:1])) for a in outline)
    fine = np.linspace(0.0, len(first) - 1.0, 8 * _STEPS + 1)
    row = np.arange(len(first))
    u, v = np.interp(fine, row, first), np.interp(fine, row, second)
    at = np.round(np.mod(u, TURN) / TURN * _STEPS).astype(np.int64) % _STEPS
    pick = np.maximum if which is max else np.minimum
    out = np.full(_STEPS, -np.inf if which is max else np.inf)
    pick.at(out, at, v)
    known = np.flatnonzero(np.isfinite(out))
    out = np.interp(np.arange(_STEPS), known, out[known], period=_STEPS)
    # Between two steps the outline may rise above what it is at either.
    return np.asarray(pick(out, pick(np.roll(out, 1), np.roll(out, -1))))
