"""Curves: line, circle, ellipse. Every method takes and returns arrays.

A curve is unbounded (or periodic); an edge bounds it by two parameters. Angles run
counter-clockwise about the frame's z.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from lithon.arrays import Floats, frozen, gauss, unit
from lithon.geometry.frames import Frame

TURN = 2.0 * np.pi


class Curve(Protocol):
    """What every curve answers. `period` is None for an open curve."""

    @property
    def kind(self) -> str: ...

    @property
    def period(self) -> float | None: ...

    def point(self, t: Floats) -> Floats:
        """Points (n,3) at parameters (n,)."""
        ...

    def derivative(self, t: Floats) -> Floats:
        """First derivatives (n,3) at parameters (n,)."""
        ...

    def parameter(self, points: Floats) -> Floats:
        """Parameters (n,) of the closest points to (n,3)."""
        ...

    def moved(self, motion: Floats) -> Curve:
        """Under a rigid motion or a mirror (4,4): the same parameters give the moved points."""
        ...

    def length(self, t0: float, t1: float) -> float:
        """Arc length between two parameters."""
        ...

    def pieces(self, t0: float, t1: float, chord: float, angle: float) -> int:
        """Into how many equal parameter steps a stretch is cut for this chord error and turn."""
        ...


@dataclass(frozen=True, slots=True, eq=False)
class Line:
    """origin + t * direction, direction of length one, so that t is a length."""

    origin: Floats
    direction: Floats
    kind: str = field(default="line", init=False)

    @staticmethod
    def through(a: Floats, b: Floats) -> Line:
        return Line(frozen(a), frozen(unit(np.asarray(b) - np.asarray(a))))

    @property
    def period(self) -> float | None:
        return None

    def point(self, t: Floats) -> Floats:
        return np.asarray(self.origin + np.multiply.outer(np.asarray(t, dtype=float), self.direction))

    def derivative(self, t: Floats) -> Floats:
        return np.asarray(np.zeros_like(np.asarray(t, dtype=float))[..., None] + self.direction)

    def parameter(self, points: Floats) -> Floats:
        return np.asarray((np.asarray(points) - self.origin) @ self.direction)

    def moved(self, motion: Floats) -> Line:
        turn = motion[:3, :3]
        return Line(frozen(turn @ self.origin + motion[:3, 3]), frozen(turn @ self.direction))

    def length(self, t0: float, t1: float) -> float:
        return abs(t1 - t0)

    def pieces(self, t0: float, t1: float, chord: float, angle: float) -> int:
        return 1


@dataclass(frozen=True, slots=True, eq=False)
class Ellipse:
    """Semi-axes `major` along the frame's x and `minor` along y; t is the eccentric angle."""

    frame: Frame
    major: float
    minor: float
    kind: str = field(default="ellipse", init=False)

    @property
    def period(self) -> float | None:
        return TURN

    def point(self, t: Floats) -> Floats:
        t = np.asarray(t, dtype=float)
        return self.frame.world(np.stack([self.major * np.cos(t), self.minor * np.sin(t), 0.0 * t], axis=-1))

    def derivative(self, t: Floats) -> Floats:
        t = np.asarray(t, dtype=float)
        local = np.stack([-self.major * np.sin(t), self.minor * np.cos(t), 0.0 * t], axis=-1)
        return np.asarray(local @ np.array([self.frame.x, self.frame.y, self.frame.z]))

    def parameter(self, points: Floats) -> Floats:
        p = self.frame.local(points)
        x, y = p[..., 0], p[..., 1]
        t = np.arctan2(y / self.minor, x / self.major)
        if self.major != self.minor:
            for _ in range(8):  # Newton on (p - c(t)) . c'(t) = 0; the start is exact on the curve
                c, s = np.cos(t), np.sin(t)
                dx, dy = self.major * c - x, self.minor * s - y
                f = -dx * self.major * s + dy * self.minor * c
                g = (self.major * s) ** 2 + (self.minor * c) ** 2 - dx * self.major * c - dy * self.minor * s
                t = t - f / np.where(np.abs(g) > 1e-300, g, 1.0)
        return np.asarray(np.mod(t, TURN))

    def moved(self, motion: Floats) -> Ellipse:
        frame, turn = self.frame, motion[:3, :3]
        z = turn @ frame.z * (1.0 if np.linalg.det(turn) > 0.0 else -1.0)
        place = Frame.of(turn @ frame.origin + motion[:3, 3], z, turn @ frame.x)
        return type(self)(place, self.major, self.minor)

    def length(self, t0: float, t1: float) -> float:
        nodes, weights = gauss(24)
        cuts = np.linspace(t0, t1, 9)
        half = np.diff(cuts)[:, None] / 2.0
        t = (cuts[:-1, None] + half) + half * nodes
        return float(abs((np.linalg.norm(self.derivative(t), axis=-1) * weights * half).sum()))

    def pieces(self, t0: float, t1: float, chord: float, angle: float) -> int:
        radius = self.major
        step = min(angle, 2.0 * np.arccos(max(-1.0, 1.0 - min(chord / radius, 1.0))))
        return max(1, int(np.ceil(abs(t1 - t0) / step - 1e-9)))


@dataclass(frozen=True, slots=True, eq=False)
class Circle(Ellipse):
    """A circle about the frame's z; t is the angle from x."""

    kind: str = field(default="circle", init=False)

    @staticmethod
    def about(frame: Frame, radius: float) -> Circle:
        return Circle(frame, radius, radius)

    @property
    def radius(self) -> float:
        return self.major

    def length(self, t0: float, t1: float) -> float:
        return abs(t1 - t0) * self.major
