"""What every surface answers; plane and cylinder. Every method takes and returns arrays.

These two are developable and are their own charts: `flat` rolls them out onto a plane without
stretching, which is where faces are triangulated and meshed.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.geometry.charts import NOWHERE, Chart, Outlines
from lithon.geometry.frames import Frame

TURN = 2.0 * np.pi


class Surface(Protocol):
    """What every surface answers."""

    @property
    def kind(self) -> str: ...

    @property
    def frame(self) -> Frame: ...

    def chart(self, outlines: Outlines) -> Chart:
        """The chart for a face with these outlines. Raises ValueError where no chart holds it."""
        ...

    def bend(self, points: Floats) -> Floats:
        """The largest normal curvature (n,), one over mm, at the surface points closest to (n,3)."""
        ...

    def normal(self, points: Floats) -> Floats:
        """Unit normals (n,3) at the surface points closest to (n,3)."""
        ...

    def signed_distance(self, points: Floats) -> Floats:
        """Distances (n,) of (n,3), positive on the side of the normal."""
        ...

    def project(self, points: Floats) -> Floats:
        """The closest surface points (n,3)."""
        ...

    def moved(self, motion: Floats) -> Surface: ...

    def offset(self, distance: float) -> Surface:
        """The surface at this distance along the normal."""
        ...

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        """Whether both hold the same points, within the tolerance over a length `reach`."""
        ...


@dataclass(frozen=True, slots=True, eq=False)
class Plane:
    """Through the frame's origin; the normal is the frame's z."""

    frame: Frame
    kind: str = field(default="plane", init=False)

    @staticmethod
    def of(origin: object, normal: object, x: object = None) -> Plane:
        return Plane(Frame.of(origin, normal, x))

    @property
    def flat_period(self) -> float | None:
        return None

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def chart(self, outlines: Outlines) -> Chart:
        return self

    def bend(self, points: Floats) -> Floats:
        return np.zeros(len(points))

    def tangents(self, flat: Floats) -> Floats:
        return np.broadcast_to(np.array([self.frame.x, self.frame.y]), (len(flat), 2, 3))

    def flat(self, points: Floats) -> Floats:
        return self.frame.local(points)[..., :2]

    def point(self, flat: Floats) -> Floats:
        flat = np.asarray(flat)
        return self.frame.world(np.concatenate([flat, np.zeros((*flat.shape[:-1], 1))], axis=-1))

    def normal(self, points: Floats) -> Floats:
        return np.asarray(np.zeros_like(np.asarray(points, dtype=float)) + self.frame.z)

    def signed_distance(self, points: Floats) -> Floats:
        return np.asarray((np.asarray(points) - self.frame.origin) @ self.frame.z)

    def project(self, points: Floats) -> Floats:
        return np.asarray(points - np.multiply.outer(self.signed_distance(points), self.frame.z))

    def moved(self, motion: Floats) -> Plane:
        normal = motion[:3, :3] @ self.frame.z
        return Plane(
            Frame.of(motion[:3, :3] @ self.frame.origin + motion[:3, 3], normal, motion[:3, :3] @ self.frame.x)
        )

    def offset(self, distance: float) -> Plane:
        return Plane(self.frame.shifted(distance * self.frame.z))

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if not isinstance(other, Plane):
            return False
        tilt = float(np.linalg.norm(cross_product(self.frame.z, other.frame.z)))
        return tilt * reach <= tolerance and abs(float(self.signed_distance(other.frame.origin))) <= tolerance


@dataclass(frozen=True, slots=True, eq=False)
class Cylinder:
    """About the frame's z; the normal points away from the axis. Flat: (radius * angle, height)."""

    frame: Frame
    radius: float
    kind: str = field(default="cylinder", init=False)

    @staticmethod
    def of(origin: object, axis: object, radius: float, x: object = None) -> Cylinder:
        return Cylinder(Frame.of(origin, axis, x), float(radius))

    @property
    def flat_period(self) -> float | None:
        return TURN * self.radius

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def chart(self, outlines: Outlines) -> Chart:
        return self

    def bend(self, points: Floats) -> Floats:
        return np.full(len(points), 1.0 / self.radius)

    def tangents(self, flat: Floats) -> Floats:
        angle = np.asarray(flat)[:, 0] / self.radius
        along = np.multiply.outer(-np.sin(angle), self.frame.x) + np.multiply.outer(np.cos(angle), self.frame.y)
        return np.stack([along, np.broadcast_to(self.frame.z, along.shape)], axis=1)

    def flat(self, points: Floats) -> Floats:
        p = self.frame.local(points)
        angle = np.mod(np.arctan2(p[..., 1], p[..., 0]), TURN)
        return np.stack([self.radius * angle, p[..., 2]], axis=-1)

    def point(self, flat: Floats) -> Floats:
        flat = np.asarray(flat)
        angle = flat[..., 0] / self.radius
        return self.frame.world(
            np.stack([self.radius * np.cos(angle), self.radius * np.sin(angle), flat[..., 1]], axis=-1)
        )

    def _radial(self, points: Floats) -> tuple[Floats, Floats]:
        p = self.frame.local(points)
        length = np.hypot(p[..., 0], p[..., 1])
        safe = np.where(length > 0.0, length, 1.0)
        cos = np.where(length > 0.0, p[..., 0] / safe, 1.0)
        sin = np.where(length > 0.0, p[..., 1] / safe, 0.0)
        return length, np.asarray(np.multiply.outer(cos, self.frame.x) + np.multiply.outer(sin, self.frame.y))

    def normal(self, points: Floats) -> Floats:
        return self._radial(points)[1]

    def signed_distance(self, points: Floats) -> Floats:
        return np.asarray(self._radial(points)[0] - self.radius)

    def project(self, points: Floats) -> Floats:
        length, radial = self._radial(points)
        return np.asarray(points - (length - self.radius)[..., None] * radial)

    def moved(self, motion: Floats) -> Cylinder:
        return Cylinder(self.frame.moved(motion), self.radius)

    def offset(self, distance: float) -> Cylinder:
        if self.radius + distance <= 0.0:
            raise ValueError("the offset passes the axis of the cylinder")
        return Cylinder(self.frame, self.radius + distance)

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if not isinstance(other, Cylinder) or abs(self.radius - other.radius) > tolerance:
            return False
        tilt = float(np.linalg.norm(cross_product(self.frame.z, other.frame.z)))
        away = self.frame.local(other.frame.origin)
        return tilt * reach <= tolerance and float(np.hypot(away[0], away[1])) <= tolerance
