"""Many curves, or many planes and cylinders, evaluated in one go.

A body has thousands of them and each is asked for a handful of points: one call for all of them
costs what a few single calls do.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.geometry.curves import Curve, Ellipse, Line
from lithon.geometry.surfaces import Cylinder, Plane


@dataclass(frozen=True, slots=True, eq=False)
class CurveBatch:
    """Curves as arrays: point = middle + a t of lines, middle + a cos t + b sin t of conics; `others`
    are asked one by one."""

    curves: Sequence[Curve]
    straight: Ints
    others: Ints
    middle: Floats
    a: Floats
    b: Floats

    @staticmethod
    def of(curves: Sequence[Curve]) -> CurveBatch:
        n = len(curves)
        middle, a, b = np.zeros((n, 3)), np.zeros((n, 3)), np.zeros((n, 3))
        straight, others = np.zeros(n, dtype=bool), np.zeros(n, dtype=bool)
        for k, curve in enumerate(curves):
            if isinstance(curve, Line):
                straight[k] = True
                middle[k], a[k] = curve.origin, curve.direction
            elif isinstance(curve, Ellipse):
                middle[k], a[k], b[k] = curve.frame.origin, curve.frame.x, curve.frame.y
                a[k] *= curve.major
                b[k] *= curve.minor
            else:
                others[k] = True
        return CurveBatch(curves, straight, others, middle, a, b)

    def points(self, row: Ints, t: Floats) -> Floats:
        """Point (n,3) of the curve `row` (n,) at `t` (n,); rows in runs of the same curve are quickest."""
        straight = self.straight[row]
        at = np.where(straight, t, np.cos(t))[:, None] * self.a[row] + np.sin(t)[:, None] * self.b[row]
        return self._one_by_one(self.middle[row] + at, row, t, "point")

    def speeds(self, row: Ints, t: Floats) -> Floats:
        """First derivative (n,3), likewise."""
        straight = self.straight[row]
        at = np.where(straight, 1.0, -np.sin(t))[:, None] * self.a[row] + np.cos(t)[:, None] * self.b[row]
        return self._one_by_one(at, row, t, "derivative")

    def _one_by_one(self, out: Floats, row: Ints, t: Floats, what: str) -> Floats:
        odd = np.flatnonzero(self.others[row])
        if len(odd):
            for run in np.split(odd, np.flatnonzero(np.diff(row[odd])) + 1):
                out[run] = getattr(self.curves[int(row[run[0]])], what)(t[run])
        return out


def spread(t0: Floats, t1: Floats, n: int) -> tuple[Ints, Floats]:
    """For each of k stretches n equal parameters from end to end: rows (k n,) and t (k n,)."""
    share = np.linspace(0.0, 1.0, n)
    return np.repeat(np.arange(len(t0)), n), (t0[:, None] + share * (t1 - t0)[:, None]).ravel()


@dataclass(frozen=True, slots=True, eq=False)
class RollBatch:
    """Planes and cylinders as arrays; the radius of a plane is 0. Flat coordinates as their own."""

    origin: Floats
    axes: Floats
    radius: Floats

    @staticmethod
    def of(surfaces: Sequence[Plane | Cylinder]) -> RollBatch:
        frames = [s.frame for s in surfaces]
        return RollBatch(
            np.array([f.origin for f in frames]).reshape(-1, 3),
            np.array([(f.x, f.y, f.z) for f in frames]).reshape(-1, 3, 3),
            np.array([s.radius if isinstance(s, Cylinder) else 0.0 for s in surfaces]),
        )

    def flat(self, row: Ints, points: Floats) -> Floats:
        """Flat coordinates (n,2) of points (n,3) on the surfaces `row` (n,); angles from 0 to a turn."""
        p = np.einsum("nk,njk->nj", points - self.origin[row], self.axes[row])
        radius = self.radius[row]
        angle = np.mod(np.arctan2(p[:, 1], p[:, 0]), 2.0 * np.pi)
        round_ = radius > 0.0
        return np.stack([np.where(round_, radius * angle, p[:, 0]), np.where(round_, p[:, 2], p[:, 1])], axis=1)

    def spots(self, row: Ints, flat: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """The points where the second flat coordinate is 0, what leads from there to the points themselves,
        the unit normals and the unit tangents along the first flat coordinate, each (n,3)."""
        radius = self.radius[row]
        round_ = (radius > 0.0)[:, None]
        x, y, z = (self.axes[row, k] for k in range(3))
        angle = flat[:, 0] / np.where(radius > 0.0, radius, 1.0)
        cos, sin = np.cos(angle)[:, None], np.sin(angle)[:, None]
        out = cos * x + sin * y
        foot = self.origin[row] + np.where(round_, radius[:, None] * out, flat[:, :1] * x)
        rise = flat[:, 1:] * np.where(round_, z, y)
        return foot, rise, np.where(round_, out, z), np.where(round_, cos * y - sin * x, x)

    def off(self, row: Ints, points: Floats) -> Floats:
        """How far (n,) points lie off their surfaces."""
        p = np.einsum("nk,njk->nj", points - self.origin[row], self.axes[row])
        radius = self.radius[row]
        return np.asarray(np.abs(np.where(radius > 0.0, np.hypot(p[:, 0], p[:, 1]) - radius, p[:, 2])))
