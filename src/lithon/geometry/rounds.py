"""Cone, sphere and torus, with their charts. The normals point away from the axis, centre or spine."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, frozen, unit
from lithon.geometry.charts import NOWHERE, Chart, Outlines, gap_between, turns, widest_gap
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import TURN, Surface


def _polar(frame: Frame, points: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Distance from the axis (n,), height (n,), angle (n,) and unit radial vectors (n,3)."""
    p = frame.local(points)
    r, angle = np.hypot(p[..., 0], p[..., 1]), np.arctan2(p[..., 1], p[..., 0])
    return r, p[..., 2], np.mod(angle, TURN), _radial(frame, angle)


def _radial(frame: Frame, angle: Floats) -> Floats:
    return np.multiply.outer(np.cos(angle), frame.x) + np.multiply.outer(np.sin(angle), frame.y)


def _around(frame: Frame, angle: Floats) -> Floats:
    return np.multiply.outer(-np.sin(angle), frame.x) + np.multiply.outer(np.cos(angle), frame.y)


def _same_axis(a: Frame, b: Frame, tolerance: float, reach: float) -> bool:
    away = a.local(b.origin)
    tilt = float(np.linalg.norm(np.cross(a.z, b.z)))
    return tilt * reach <= tolerance and float(np.hypot(away[0], away[1])) <= tolerance


# ---- cone


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
        """A negative angle closes along the axis: the frame is turned so that it opens."""
        if angle < 0.0:
            return Cone(Frame.of(origin, -np.asarray(axis, dtype=float), x), float(radius), -float(angle))
        return Cone(Frame.of(origin, axis, x), float(radius), float(angle))

    @property
    def apex(self) -> Floats:
        return np.asarray(self.frame.origin - self.radius / np.tan(self.angle) * self.frame.z)

    def _split(self, points: Floats) -> tuple[Floats, Floats, Floats]:
        """Slant distance from the apex, height over the surface, radial vectors."""
        r, h, _, radial = _polar(self.frame, points)
        h = h + self.radius / np.tan(self.angle)
        sin, cos = np.sin(self.angle), np.cos(self.angle)
        return r * sin + h * cos, r * cos - h * sin, radial

    def normal(self, points: Floats) -> Floats:
        radial = _polar(self.frame, points)[3]
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
            _same_axis(self.frame, other.frame, max(tolerance, 1e-300), reach)
            and abs(self.angle - other.angle) * reach <= tolerance
            and apart <= tolerance
        )

    def chart(self, outlines: Outlines) -> Chart:
        every = np.concatenate(list(outlines)) if len(outlines) else self.frame.origin[None]
        slant, _, _ = self._split(every)
        around = sum(turns(_polar(self.frame, p)[2], TURN) for p in outlines)
        if around != 0 or slant.min() < 1e-9 * slant.max():
            return ConeTip(self, around != 0)
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
        theta = _polar(self.cone.frame, points)[2]
        rise = np.log(slant / self.slant) / np.sin(self.cone.angle)
        return self._scale * np.stack([theta, rise], axis=-1)

    def _at(self, flat: Floats) -> tuple[Floats, Floats]:
        flat = np.asarray(flat) / self._scale
        return self.slant * np.exp(flat[..., 1] * np.sin(self.cone.angle)), flat[..., 0]

    def point(self, flat: Floats) -> Floats:
        slant, theta = self._at(flat)
        c = self.cone
        up = np.sin(c.angle) * _radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.asarray(c.apex + slant[..., None] * up)

    def tangents(self, flat: Floats) -> Floats:
        slant, theta = self._at(flat)
        c = self.cone
        stretch = (slant / self.slant)[..., None]
        up = np.sin(c.angle) * _radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.stack([stretch * _around(c.frame, theta), stretch * up], axis=-2)


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
        theta = _polar(self.cone.frame, points)[2]
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
        return np.stack([_polar(self.cone.frame, points)[2], self.cone._split(points)[0]], axis=-1)

    def point(self, flat: Floats) -> Floats:
        theta, slant, c = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1], self.cone
        up = np.sin(c.angle) * _radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.asarray(c.apex + slant[..., None] * up)

    def tangents(self, flat: Floats) -> Floats:
        theta, slant, c = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1], self.cone
        up = np.sin(c.angle) * _radial(c.frame, theta) + np.cos(c.angle) * c.frame.z
        return np.stack([(slant * np.sin(c.angle))[..., None] * _around(c.frame, theta), up], axis=-2)


# ---- sphere


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
        away = self.normal(np.concatenate(list(outlines)))
        poles = _spread_directions(200)
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
        axes = np.stack([self.frame.x, self.frame.y, self.frame.z])
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
        r, h, theta, _ = _polar(self.frame, points)
        return np.stack([theta, np.arctan2(r, h)], axis=-1)

    def point(self, flat: Floats) -> Floats:
        theta, phi = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1]
        out = np.sin(phi)[..., None] * _radial(self.frame, theta) + np.multiply.outer(np.cos(phi), self.frame.z)
        return np.asarray(self.frame.origin + self.sphere.radius * out)

    def tangents(self, flat: Floats) -> Floats:
        """Left-handed: phi runs down from the pole."""
        theta, phi = np.asarray(flat)[..., 0], np.asarray(flat)[..., 1]
        around = (self.sphere.radius * np.sin(phi))[..., None] * _around(self.frame, theta)
        down = np.cos(phi)[..., None] * _radial(self.frame, theta) - np.multiply.outer(np.sin(phi), self.frame.z)
        return np.stack([around, self.sphere.radius * down], axis=-2)


# ---- torus


@dataclass(frozen=True, slots=True, eq=False)
class Torus:
    """A tube of radius `minor` around a spine circle of radius `major` about the frame's z. Where the
    tube is thicker than the spine's radius, only its part on the outer side of the axis belongs to it."""

    frame: Frame
    major: float
    minor: float
    kind: str = field(default="torus", init=False)

    @staticmethod
    def of(origin: object, axis: object, major: float, minor: float, x: object = None) -> Torus:
        return Torus(Frame.of(origin, axis, x), float(major), float(minor))

    def _tube(self, points: Floats) -> tuple[Floats, Floats, Floats, Floats]:
        """Angle around the axis, angle around the spine, distance from the spine, outward normals."""
        r, h, theta, radial = _polar(self.frame, points)
        phi = np.arctan2(h, r - self.major)
        normal = np.cos(phi)[..., None] * radial + np.multiply.outer(np.sin(phi), self.frame.z)
        return theta, phi, np.hypot(r - self.major, h), np.asarray(normal)

    def normal(self, points: Floats) -> Floats:
        return self._tube(points)[3]

    def signed_distance(self, points: Floats) -> Floats:
        return np.asarray(self._tube(points)[2] - self.minor)

    def project(self, points: Floats) -> Floats:
        _, _, off, normal = self._tube(points)
        return np.asarray(points - (off - self.minor)[..., None] * normal)

    def bend(self, points: Floats) -> Floats:
        phi = self._tube(points)[1]
        out = self.major + self.minor * np.cos(phi)
        return np.maximum(1.0 / self.minor, np.abs(np.cos(phi)) / np.maximum(np.abs(out), 1e-9 * self.minor))

    def moved(self, motion: Floats) -> Torus:
        return Torus(self.frame.moved(motion), self.major, self.minor)

    def offset(self, distance: float) -> Torus:
        if self.minor + distance <= 0.0:
            raise ValueError("the offset passes the spine of the torus")
        return Torus(self.frame, self.major, self.minor + distance)

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        return (
            isinstance(other, Torus)
            and _same_axis(self.frame, other.frame, tolerance, max(reach, self.major))
            and float(np.linalg.norm(self.frame.origin - other.frame.origin)) <= tolerance
            and abs(self.major - other.major) <= tolerance
            and abs(self.minor - other.minor) <= tolerance
        )

    def chart(self, outlines: Outlines) -> Chart:
        if not len(outlines):
            raise ValueError("a whole torus has no chart")
        tubes = [self._tube(p)[:2] for p in outlines]
        about_axis = [turns(theta, TURN) for theta, _ in tubes]
        about_spine = [turns(phi, TURN) for _, phi in tubes]
        if any(about_spine) and any(about_axis):
            raise ValueError("a face winds around a torus both ways")
        swap = any(about_spine)
        way = about_spine if swap else about_axis
        # The second coordinate and the outlines that go round, the lower one (running forward) first.
        second = [np.mod(-theta if swap else phi, TURN) for theta, phi in tubes]
        bottoms = [v for v, k in zip(second, way, strict=True) if k > 0]
        tops = [v for v, k in zip(second, way, strict=True) if k < 0]
        if bottoms and tops:
            branch = gap_between(tops[0], bottoms[0], TURN)
        else:
            branch = widest_gap(np.concatenate(second), TURN)
        phi = np.concatenate([p for _, p in tubes])
        scale = float(np.clip((self.major + self.minor * np.cos(phi)).mean(), 0.05 * self.minor, None))
        return TorusChart(self, swap, branch, scale)


@dataclass(frozen=True, slots=True, eq=False)
class TorusChart:
    """Isothermal: a (theta, psi) with d psi = r d phi / (R + r cos phi); or a (psi, -theta) where the
    face goes around the spine. The second angle is counted from `branch`, which lies off the face."""

    torus: Torus
    swap: bool
    branch: float
    scale: float

    @property
    def flat_period(self) -> float | None:
        if not self.swap:
            return TURN * self.scale
        k = self.torus.major**2 - self.torus.minor**2
        return float(self.scale * TURN * self.torus.minor / np.sqrt(k)) if k > 0.0 else None

    @property
    def singular(self) -> Floats:
        return NOWHERE

    @property
    def second_period(self) -> float | None:
        """The period of the second coordinate, for faces that share a torus."""
        k = self.torus.major**2 - self.torus.minor**2
        if self.swap:
            return TURN * self.scale
        return float(self.scale * TURN * self.torus.minor / np.sqrt(k)) if k > 0.0 else None

    def _psi(self, phi: Floats) -> Floats:
        """The isothermal coordinate, continuous in phi."""
        big, small = self.torus.major, self.torus.minor
        turn = np.round(phi / TURN)
        half = np.tan(0.5 * (phi - TURN * turn))
        if big > small:
            k = np.sqrt(big**2 - small**2)
            return np.asarray(2.0 * small / k * np.arctan(np.sqrt((big - small) / (big + small)) * half)
                              + TURN * small / k * turn)  # fmt: skip
        if big == small:
            return np.asarray(half)
        k = np.sqrt(small**2 - big**2)
        inner = np.clip(np.sqrt((small - big) / (small + big)) * half, -1.0 + 1e-15, 1.0 - 1e-15)
        return np.asarray(2.0 * small / k * np.arctanh(inner))

    def _phi(self, psi: Floats) -> Floats:
        big, small = self.torus.major, self.torus.minor
        if big > small:
            k = np.sqrt(big**2 - small**2)
            turn = np.round(psi * k / (TURN * small))
            inner = np.tan(k / (2.0 * small) * (psi - TURN * small / k * turn))
            return np.asarray(2.0 * np.arctan(np.sqrt((big + small) / (big - small)) * inner) + TURN * turn)
        if big == small:
            return np.asarray(2.0 * np.arctan(psi))
        k = np.sqrt(small**2 - big**2)
        return np.asarray(2.0 * np.arctan(np.sqrt((small + big) / (small - big)) * np.tanh(k / (2.0 * small) * psi)))

    def flat(self, points: Floats) -> Floats:
        theta, phi, _, _ = self.torus._tube(points)
        if self.swap:
            second = self.branch + np.mod(-theta - self.branch, TURN)
            return self.scale * np.stack([self._psi(np.mod(phi, TURN)), second], axis=-1)
        if self.torus.major > self.torus.minor:
            phi = self.branch + np.mod(phi - self.branch, TURN)
        return self.scale * np.stack([theta, self._psi(phi)], axis=-1)

    def _at(self, flat: Floats) -> tuple[Floats, Floats]:
        flat = np.asarray(flat) / self.scale
        return (-flat[..., 1], self._phi(flat[..., 0])) if self.swap else (flat[..., 0], self._phi(flat[..., 1]))

    def point(self, flat: Floats) -> Floats:
        theta, phi = self._at(flat)
        t = self.torus
        out = t.major + t.minor * np.cos(phi)
        return np.asarray(
            t.frame.origin
            + out[..., None] * _radial(t.frame, theta)
            + np.multiply.outer(t.minor * np.sin(phi), t.frame.z)
        )

    def tangents(self, flat: Floats) -> Floats:
        theta, phi = self._at(flat)
        t = self.torus
        stretch = ((t.major + t.minor * np.cos(phi)) / self.scale)[..., None]
        about_axis = stretch * _around(t.frame, theta)
        up = np.multiply.outer(np.cos(phi), t.frame.z) - np.sin(phi)[..., None] * _radial(t.frame, theta)
        about_spine = stretch * up
        rows = [about_spine, -about_axis] if self.swap else [about_axis, about_spine]
        return np.stack(rows, axis=-2)
