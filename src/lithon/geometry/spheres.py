"""The sphere and its charts. The normal points away from the centre."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, cross_product, unit
from lithon.geometry.charts import NOWHERE, Chart, Outlines
from lithon.geometry.frames import Frame
from lithon.geometry.polar import TURN, around, polar, radial
from lithon.geometry.surfaces import Surface


@dataclass(frozen=True, slots=True, eq=False)
class Sphere:
    """About the frame's origin."""

    frame: Frame
    radius: float
    kind: str = field(default="sphere", init=False)

    @staticmethod
    def of(centre: object, radius: float) -> Sphere:
        return Sphere(Frame.of(centre, (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)), float(radius))

    def normal(self, points: Floats) -> Floats:
        away = np.asarray(points) - self.frame.origin
        size = np.linalg.norm(away, axis=-1, keepdims=True)
        return np.where(size > 0.0, away / np.where(size > 0.0, size, 1.0), self.frame.z)

    def signed_distance(self, points: Floats) -> Floats:
        return np.asarray(np.linalg.norm(np.asarray(points) - self.frame.origin, axis=-1) - self.radius)

    def project(self, points: Floats) -> Floats:
        return np.asarray(self.frame.origin + self.radius * self.normal(points))

    def bend(self, points: Floats) -> Floats:
        return np.full(len(points), 1.0 / self.radius)

    def moved(self, motion: Floats) -> Sphere:
        return Sphere(self.frame.moved(motion), self.radius)

    def offset(self, distance: float) -> Sphere:
        if self.radius + distance <= 0.0:
            raise ValueError("the offset passes the centre of the sphere")
        return Sphere(self.frame, self.radius + distance)

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        return (
            isinstance(other, Sphere)
            and abs(self.radius - other.radius) <= tolerance
            and float(np.linalg.norm(self.frame.origin - other.frame.origin)) <= tolerance
        )

    def chart(self, outlines: Outlines) -> Chart:
        """Stereographic, from the point off the face that is farthest from its outlines."""
        return Stereographic(self, self._facing(outlines, both=False))

    def polar(self, outlines: Outlines) -> PolarSphere:
        """Polar angles about an axis whose far pole is off the face and both poles off its outlines."""
        return PolarSphere(self, self._facing(outlines, both=True) if len(outlines) else self.frame)

    def _facing(self, outlines: Outlines, both: bool) -> Frame:
        if not len(outlines):
            raise ValueError("a whole sphere has no chart")
        loops = [self.normal(points) for points in outlines]
        away = np.concatenate(loops)
        poles = np.concatenate([_spread_directions(200), *(_beside(loop) for loop in loops)])
        cosine = poles @ away.T
        near = np.abs(cosine).max(axis=1) if both else cosine.max(axis=1)
        for k in np.argsort(near, kind="stable").tolist():
            frame = Frame.of(self.frame.origin, -poles[k], None)
            made = Stereographic(self, frame)
            areas = [_signed_area(made.flat(p)) for p in outlines]
            if areas[int(np.argmax(np.abs(areas)))] > 0.0:
                return frame
        raise ValueError("no point of the sphere lies off the face")


def _spread_directions(n: int) -> Floats:
    """Unit vectors (n,3) spread evenly (the golden spiral)."""
    k = np.arange(n) + 0.5
    z, turn = 1.0 - 2.0 * k / n, np.pi * (1.0 + 5.0**0.5) * k
    r = np.sqrt(1.0 - z * z)
    return np.stack([r * np.cos(turn), r * np.sin(turn), z], axis=1)


def _beside(loop: Floats) -> Floats:
    """Directions (n,3) about a loop of directions, the middle of it and some on both sides: what a face leaves
    open may be smaller than the gaps between directions spread evenly."""
    size = float(np.linalg.norm(np.ptp(loop, axis=0)))
    some = np.arange(0, len(loop), max(1, len(loop) // 8))
    across = cross_product(loop[some], np.roll(loop, -1, axis=0)[some] - loop[some])
    across /= np.maximum(np.linalg.norm(across, axis=1, keepdims=True), 1e-300)
    both = [loop[some] + step * size * across for step in (0.2, -0.2, 0.02, -0.02)]
    return np.asarray(unit(np.concatenate([loop.mean(axis=0)[None] + 1e-9, *both])))


def _signed_area(flat: Floats) -> float:
    x, y = flat[:, 0], flat[:, 1]
    return 0.5 * float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())


@dataclass(frozen=True, slots=True, eq=False)
class Stereographic:
    """Isothermal: 2 R tan(phi/2) at the angle phi from the frame's z, seen from its far pole."""

    sphere: Sphere
    frame: Frame

    @property
    def flat_period(self) -> float | None:
        return None

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        p = unit(self.frame.local(points))
        # 2 R (x, y) / (1 + z), kept finite near the far pole.
        return 2.0 * self.sphere.radius * p[..., :2] / np.maximum(1.0 + p[..., 2], 1e-12)[..., None]

    def point(self, flat: Floats) -> Floats:
        r = self.sphere.radius
        flat = np.asarray(flat)
        q = (flat**2).sum(axis=-1)
        d = 4.0 * r * r + q
        local = np.stack([4 * r * r * flat[..., 0] / d, 4 * r * r * flat[..., 1] / d, r * (4 * r * r - q) / d], axis=-1)
        return self.frame.world(local)

    def tangents(self, flat: Floats) -> Floats:
        r = self.sphere.radius
        u, v = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1]
        d = 4.0 * r * r + u * u + v * v
        k = 4.0 * r * r / d**2
        along_u = np.stack([k * (d - 2 * u * u), -2 * k * u * v, -4.0 * r * k * u], axis=-1)
        along_v = np.stack([-2 * k * u * v, k * (d - 2 * v * v), -4.0 * r * k * v], axis=-1)
        axes = np.array([self.frame.x, self.frame.y, self.frame.z])
        return np.stack([along_u @ axes, along_v @ axes], axis=-2)


@dataclass(frozen=True, slots=True, eq=False)
class PolarSphere:
    """(theta, phi), phi from the frame's z: for integrals, which start at phi = 0 whatever theta is."""

    sphere: Sphere
    frame: Frame

    @property
    def flat_period(self) -> float | None:
        return TURN

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        r, h, theta, _ = polar(self.frame, points)
        return np.stack([theta, np.arctan2(r, h)], axis=-1)

    def point(self, flat: Floats) -> Floats:
        theta, phi = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1]
        out = np.sin(phi)[..., None] * radial(self.frame, theta) + np.multiply.outer(np.cos(phi), self.frame.z)
        return np.asarray(self.frame.origin + self.sphere.radius * out)

    def tangents(self, flat: Floats) -> Floats:
        """Left-handed: phi runs down from the pole."""
        theta, phi = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1]
        sideways = (self.sphere.radius * np.sin(phi))[..., None] * around(self.frame, theta)
        down = np.cos(phi)[..., None] * radial(self.frame, theta) - np.multiply.outer(np.sin(phi), self.frame.z)
        return np.stack([sideways, self.sphere.radius * down], axis=-2)
