"""Offsets of free-form surfaces: exact by definition, since the foot of a point on the offset is its foot on the
basis. (Offsets of planes, cylinders, cones, spheres and tori are such surfaces again.)"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.geometry.charts import Chart, Outlines
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Surface


@dataclass(frozen=True, slots=True, eq=False)
class Offset:
    """All points at `distance` along the basis' normals; it must not reach the basis' centres of curvature."""

    basis: Surface
    distance: float
    kind: str = field(default="offset", init=False)

    @property
    def frame(self) -> Frame:
        return self.basis.frame

    def _raised(self, on: Floats) -> Floats:
        return np.asarray(on + self.distance * self.basis.normal(on))

    def normal(self, points: Floats) -> Floats:
        return self.basis.normal(points)

    def project(self, points: Floats) -> Floats:
        return self._raised(self.basis.project(points))

    def signed_distance(self, points: Floats) -> Floats:
        return np.asarray(self.basis.signed_distance(points) - self.distance)

    def bend(self, points: Floats) -> Floats:
        """From the basis' curvatures k, which become k / (1 + k distance) where it bends away from its normal: read
        off from how far the tangent plane stands above it, in four directions."""
        on = self.basis.project(points)
        n = self.basis.normal(on)
        side = cross_product(n, np.eye(3)[np.abs(n).argmin(axis=1)])
        side /= np.linalg.norm(side, axis=1, keepdims=True)
        up = cross_product(n, side)
        step = 1e-3 / np.maximum(self.basis.bend(on), 1e-6)
        out = np.zeros(len(on))
        for angle in np.arange(4) * np.pi / 4.0:
            way = np.cos(angle) * side + np.sin(angle) * up
            k = sum(self.basis.signed_distance(on + s * step[:, None] * way) for s in (-1.0, 1.0)) / step**2
            out = np.maximum(out, np.abs(k / np.maximum(np.abs(1.0 + k * self.distance), 1e-6)))
        return out

    def moved(self, motion: Floats) -> Surface:
        basis = self.basis.moved(motion)
        here = self.project(self.frame.origin[None])
        there = here @ motion[:3, :3].T + motion[:3, 3]
        # A mirror turns some normals over.
        sign = 1.0 if float(basis.signed_distance(there)[0]) * self.distance >= 0.0 else -1.0
        return Offset(basis, sign * self.distance)

    def offset(self, distance: float) -> Surface:
        total = self.distance + distance
        return self.basis if total == 0.0 else Offset(self.basis, total)

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        return (
            isinstance(other, Offset)
            and abs(self.distance - other.distance) <= tolerance
            and self.basis.same_as(other.basis, tolerance, reach)
        )

    def chart(self, outlines: Outlines) -> Chart:
        """The basis' chart; outlines are seen from their feet on it."""
        return OffsetChart(self, self.basis.chart([self.basis.project(p) for p in outlines]))


@dataclass(frozen=True, slots=True, eq=False)
class OffsetChart:
    """The chart of the basis, its points raised."""

    surface: Offset
    below: Chart

    @property
    def flat_period(self) -> float | None:
        return self.below.flat_period

    @property
    def singular(self) -> Floats:
        spots = self.below.singular
        return self.surface._raised(spots) if len(spots) else spots

    def flat(self, points: Floats) -> Floats:
        return self.below.flat(points)

    def point(self, flat: Floats) -> Floats:
        return self.surface._raised(self.below.point(flat))

    def tangents(self, flat: Floats) -> Floats:
        """The basis' plus what its normal does over a small step (central differences)."""
        flat = np.asarray(flat, dtype=float)
        made = np.array(self.below.tangents(flat))
        size = np.linalg.norm(made, axis=-1).max(axis=-1)
        step = 1e-5 / np.maximum(size, 1e-12) * max(1.0, abs(self.surface.distance))
        for k in (0, 1):
            h = np.zeros_like(flat)
            h[:, k] = step
            a, b = (self.surface.basis.normal(self.below.point(flat + s * h)) for s in (-1.0, 1.0))
            made[:, k] += self.surface.distance * (b - a) / (2.0 * step[:, None])
        return made


def offset_of(surface: Surface, distance: float) -> Surface:
    """The offset as the simplest surface that it is. Raises ValueError where it passes an axis or centre."""
    try:
        return surface.offset(distance)
    except ValueError:
        if surface.kind in ("b-spline", "extrusion", "revolution"):
            return Offset(surface, distance)
        raise


__all__ = ["Offset", "OffsetChart", "offset_of"]
