"""The cone and its charts. The normal points away from the axis."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.geometry.charts import NOWHERE, Chart, Outlines, turns
from lithon.geometry.frames import Frame
from lithon.geometry.polar import TURN, around, polar, radial, same_axis
from lithon.geometry.surfaces import Surface


@dataclass(frozen=True, slots=True, eq=False)
class Cone:
    """About the frame's z, of `radius` at the frame's origin, opening upwards by the half `angle`
    (0 < angle < pi/2). Only the nappe above the apex belongs to it."""

    frame: Frame
    radius: float
    angle: float
    kind: str = field(default="cone", init=False)

    @staticmethod
    def of(origin: object, axis: object, radius: float, angle: float, x: object = None) -> Cone:
        """A negative angle closes along the axis: the frame is turned so that it opens; and so does one of more than a
        right angle, for lines go both ways."""
        angle = float(np.remainder(angle + 0.5 * np.pi, np.pi)) - 0.5 * np.pi
        if angle < 0.0:
            return Cone(Frame.of(origin, -np.asarray(axis, dtype=float), x), float(radius), -float(angle))
        return Cone(Frame.of(origin, axis, x), float(radius), float(angle))

    @property
    def apex(self) -> Floats:
        return np.asarray(self.frame.origin - self.radius / np.tan(self.angle) * self.frame.z)

    def _split(self, points: Floats) -> tuple[Floats, Floats, Floats]:
        """Slant distance from the apex, height over the surface, radial vectors."""
        r, h, _, radial = polar(self.frame, points)
        h = h + self.radius / np.tan(self.angle)
        sin, cos = np.sin(self.angle), np.cos(self.angle)
        return r * sin + h * cos, r * cos - h * sin, radial

    def normal(self, points: Floats) -> Floats:
        radial = polar(self.frame, points)[3]
        return np.asarray(np.cos(self.angle) * radial - np.sin(self.angle) * self.frame.z)

    def signed_distance(self, points: Floats) -> Floats:
        slant, off, _ = self._split(points)
        away = np.linalg.norm(np.asarray(points) - self.apex, axis=-1)
        return np.where(slant >= 0.0, off, away)

    def project(self, points: Floats) -> Floats:
        slant, _, radial = self._split(points)
        up = np.sin(self.angle) * radial + np.cos(self.angle) * self.frame.z
        return np.asarray(self.apex + np.maximum(slant, 0.0)[..., None] * up)

    def bend(self, points: Floats) -> Floats:
        slant = np.maximum(self._split(points)[0], 1e-12 * (1.0 + self.radius))
        return np.asarray(1.0 / (slant * np.tan(self.angle)))

    def moved(self, motion: Floats) -> Cone:
        return Cone(self.frame.moved(motion), self.radius, self.angle)

    def offset(self, distance: float) -> Cone:
        apex = self.apex - distance / np.sin(self.angle) * self.frame.z
        radius = self.radius if self.radius > 0.0 else 1.0
        origin = apex + radius / np.tan(self.angle) * self.frame.z
        return Cone(Frame(frozen(origin), self.frame.x, self.frame.y, self.frame.z), radius, self.angle)

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if not isinstance(other, Cone) or float(self.frame.z @ other.frame.z) <= 0.0:
            return False
        apart = float(np.linalg.norm(self.apex - other.apex)) * np.sin(self.angle)
        return (
            same_axis(self.frame, other.frame, max(tolerance, 1e-300), reach)
            and abs(self.angle - other.angle) * reach <= tolerance
            and apart <= tolerance
        )

    def chart(self, outlines: Outlines) -> Chart:
        every = np.concatenate(list(outlines)) if len(outlines) else self.frame.origin[None]
        slant, _, _ = self._split(every)
        if slant.min() < 1e-9 * slant.max():
            return ConeTip(self, inside=False)
        if sum(turns(polar(self.frame, p)[2], TURN) for p in outlines) != 0:
            return ConeTip(self, inside=True)
        return ConeBand(self, float(np.exp(np.log(slant).mean())))


@dataclass(frozen=True, slots=True, eq=False)
class ConeBand:
    """Isothermal, off the apex: (a theta, a log(s / s0) / sin(alpha)), a the radius at slant s0."""

    cone: Cone
    slant: float

    @property
    def _scale(self) -> float:
        return float(self.slant * np.sin(self.cone.angle))

    @property
    def flat_period(self) -> float | None:
        return TURN * self._scale

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        slant = np.maximum(self.cone._split(points)[0], 1e-12 * self.slant)
        theta = polar(self.cone.frame, points)[2]
        rise = np.log(slant / self.slant) / np.sin(self.cone.angle)
        return self._scale * np.stack([theta, rise], axis=-1)

    def _at(self, flat: Floats) -> tuple[Floats, Floats]:
        flat = np.asarray(flat) / self._scale
        return self.slant * np.exp(flat[..., 1] * np.sin(self.cone.angle)), flat[..., 0]

    def point(self, flat: Floats) -> Floats:
        slant, theta = self._at(flat)
        c = self.cone
        up = np.sin(c.angle) * radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.asarray(c.apex + slant[..., None] * up)

    def tangents(self, flat: Floats) -> Floats:
        slant, theta = self._at(flat)
        c = self.cone
        stretch = (slant / self.slant)[..., None]
        up = np.sin(c.angle) * radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.stack([stretch * around(c.frame, theta), stretch * up], axis=-2)


@dataclass(frozen=True, slots=True, eq=False)
class ConeTip:
    """Seen along the axis, slant lengths kept: s (cos theta, -sin theta). Holds the apex."""

    cone: Cone
    inside: bool

    @property
    def flat_period(self) -> float | None:
        return None

    @property
    def singular(self) -> Floats:
        return self.cone.apex[None] if self.inside else NOWHERE

    def flat(self, points: Floats) -> Floats:
        slant = np.maximum(self.cone._split(points)[0], 0.0)
        theta = polar(self.cone.frame, points)[2]
        return slant[..., None] * np.stack([np.cos(theta), -np.sin(theta)], axis=-1)

    def point(self, flat: Floats) -> Floats:
        flat = np.asarray(flat)
        slant, c = np.hypot(flat[..., 0], flat[..., 1]), self.cone
        side = np.multiply.outer(flat[..., 0], c.frame.x) - np.multiply.outer(flat[..., 1], c.frame.y)
        return np.asarray(c.apex + np.sin(c.angle) * side + np.multiply.outer(slant * np.cos(c.angle), c.frame.z))

    def tangents(self, flat: Floats) -> Floats:
        c = self.cone
        slant = np.maximum(np.hypot(flat[..., 0], flat[..., 1]), 1e-300)[..., None]
        share = np.asarray(flat) / slant
        u = np.sin(c.angle) * c.frame.x + np.multiply.outer(share[..., 0] * np.cos(c.angle), c.frame.z)
        v = -np.sin(c.angle) * c.frame.y + np.multiply.outer(share[..., 1] * np.cos(c.angle), c.frame.z)
        return np.stack([u, v], axis=-2)


@dataclass(frozen=True, slots=True, eq=False)
class PolarCone:
    """(theta, s): no chart to triangulate in, but one in which integrals reach the apex."""

    cone: Cone

    @property
    def flat_period(self) -> float | None:
        return TURN

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        return np.stack([polar(self.cone.frame, points)[2], self.cone._split(points)[0]], axis=-1)

    def point(self, flat: Floats) -> Floats:
        theta, slant, c = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1], self.cone
        up = np.sin(c.angle) * radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.asarray(c.apex + slant[..., None] * up)

    def tangents(self, flat: Floats) -> Floats:
        theta, slant, c = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1], self.cone
        up = np.sin(c.angle) * radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.stack([(slant * np.sin(c.angle))[..., None] * around(c.frame, theta), up], axis=-2)
