"""The torus and its charts. The normal points away from the spine."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats
from lithon.geometry.charts import NOWHERE, Chart, Outlines, above_band, gap_between, turns, widest_gap
from lithon.geometry.frames import Frame
from lithon.geometry.polar import TURN, around, polar, radial, same_axis
from lithon.geometry.surfaces import Surface


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
        r, h, theta, radial = polar(self.frame, points)
        phi = np.arctan2(h, r - self.major)
        normal = np.cos(phi)[..., None] * radial + np.multiply.outer(np.sin(phi), self.frame.z)
        return theta, phi, np.hypot(r - self.major, h), np.asarray(normal)

    def angles(self, points: Floats) -> tuple[Floats, Floats]:
        """Angle around the axis and angle around the spine (n,), in the sense of which the normal is right-handed."""
        return self._tube(points)[:2]

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
            and same_axis(self.frame, other.frame, tolerance, max(reach, self.major))
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
        first = [phi if swap else theta for theta, phi in tubes]
        branch: Floats | None = None
        if len(bottoms) == len(tops) == 1:
            low, high = way.index(1), way.index(-1)
            branch = above_band((first[high], second[high]), (first[low], second[low]))
        elif not any(way):
            # A patch may reach around the tube so far that its ends lie over each other, at different places.
            lifts = [(np.unwrap(u), np.unwrap(v)) for u, v in zip(first, second, strict=True)]
            outer = [lift for lift in lifts if _enclosed(*lift) > 0.0]
            if len(outer) == 1 and float(np.ptp(outer[0][0])) < 0.98 * TURN:
                branch = above_band(outer[0], outer[0])
        if branch is None:
            flat = gap_between(tops[0], bottoms[0], TURN) if bottoms and tops else None
            branch = np.array([widest_gap(np.concatenate(second), TURN) if flat is None else flat])
        phi = np.concatenate([p for _, p in tubes])
        scale = float(np.clip((self.major + self.minor * np.cos(phi)).mean(), 0.05 * self.minor, None))
        return TorusChart(self, swap, branch, scale)


def _enclosed(u: Floats, v: Floats) -> float:
    return float((u * np.roll(v, -1) - np.roll(u, -1) * v).sum())


@dataclass(frozen=True, slots=True, eq=False)
class TorusChart:
    """Isothermal: a (theta, psi) with d psi = r d phi / (R + r cos phi); or a (psi, -theta) where the
    face goes around the spine. The second angle is counted from `branch`, a curve that lies off the face: its heights
    (k,) at k equal steps of a turn of the first angle."""

    torus: Torus
    swap: bool
    branch: Floats
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

    def _from(self, first: Floats) -> Floats:
        """Where the second angle is counted from, at a first angle."""
        k = len(self.branch)
        return np.asarray(np.interp(first * (k / TURN), np.arange(k), self.branch, period=k))

    def flat(self, points: Floats) -> Floats:
        theta, phi, _, _ = self.torus._tube(points)
        if self.swap:
            start = self._from(phi)
            second = start + np.mod(-theta - start, TURN)
            return self.scale * np.stack([self._psi(np.mod(phi, TURN)), second], axis=-1)
        if self.torus.major > self.torus.minor:
            start = self._from(theta)
            phi = start + np.mod(phi - start, TURN)
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
            + out[..., None] * radial(t.frame, theta)
            + np.multiply.outer(t.minor * np.sin(phi), t.frame.z)
        )

    def tangents(self, flat: Floats) -> Floats:
        theta, phi = self._at(flat)
        t = self.torus
        stretch = ((t.major + t.minor * np.cos(phi)) / self.scale)[..., None]
        about_axis = stretch * around(t.frame, theta)
        up = np.multiply.outer(np.cos(phi), t.frame.z) - np.sin(phi)[..., None] * radial(t.frame, theta)
        about_spine = stretch * up
        rows = [about_spine, -about_axis] if self.swap else [about_axis, about_spine]
        return np.stack(rows, axis=-2)
