"""Charts: how a face of a surface is rolled out onto the plane.

A chart is made for the loops of one face, so that its singular places (the far pole of a sphere, the
branch of an angle) lie off the face. Charts of planes and cylinders keep lengths; those of cones,
spheres and tori keep angles (isothermal coordinates: do Carmo, Differential Geometry, 4.2), so that a
triangulation that is Delaunay in the plane is nearly so on the surface; others keep neither.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

import numpy as np

from lithon.arrays import Floats

#: Closed polylines (n,3) along a face's loops, the face on their left seen against the surface normal.
Outlines = Sequence[Floats]
NOWHERE = np.zeros((0, 3))


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


def turns(closed: Floats, period: float) -> int:
    """How many periods a closed sequence of coordinates (n,) advances."""
    step = np.diff(np.append(closed, closed[:1])) / period
    return round(float((step - np.round(step)).sum()))


def widest_gap(values: Floats, period: float) -> float:
    """The middle of the widest stretch of a circle of this period that holds none of the values."""
    v = np.sort(np.mod(values, period))
    gap = np.diff(np.append(v, v[0] + period))
    k = int(gap.argmax())
    return float(np.mod(v[k] + 0.5 * gap[k], period))


def gap_between(top: Floats, bottom: Floats, period: float) -> float:
    """The middle of the gap above a band: from the highest of its upper outline up to its lower one, a
    period on. The outlines' heights may straddle the place where the period begins."""
    turn = 2.0 * np.pi / period
    centre = float(np.angle(np.exp(1j * turn * top).mean())) / turn
    away = top - centre
    high = centre + float((away - period * np.round(away / period)).max())
    rise = np.mod(bottom - high + 1e-9 * period, period) - 1e-9 * period
    return float(np.mod(high + 0.5 * rise.min(), period))
