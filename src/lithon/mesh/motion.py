"""How a body is swept: a motion along a line or around an axis, and what it takes onto what."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.topology import Body, Edge, Face, FaceUse
from lithon.mesh.quads import face_middle


@dataclass(frozen=True, slots=True)
class Motion:
    """Along `way` by `amount` mm, or about `way` through `origin` by `amount` radians."""

    turning: bool
    origin: Floats
    way: Floats
    amount: float

    def at(self, points: Floats, share: float) -> Floats:
        """Points (n,3) after a share of the motion."""
        if not self.turning:
            return np.asarray(points + share * self.amount * self.way)
        a = share * self.amount
        p = points - self.origin
        along = np.multiply.outer(p @ self.way, self.way)
        return np.asarray(self.origin + along + np.cos(a) * (p - along) + np.sin(a) * cross_product(self.way, p))

    def back(self, points: Floats, start: Floats) -> tuple[Floats, Floats]:
        """Where points (n,3) come from, and after which shares (n,) of the motion, if it began at `start` (3,)."""
        if not self.turning:
            far = (points - start) @ self.way
            return points - np.multiply.outer(far, self.way), far / self.amount
        p, q = points - self.origin, start - self.origin
        along = np.multiply.outer(p @ self.way, self.way)
        x = q - float(q @ self.way) * self.way
        if float(np.linalg.norm(x)) < 1e-300:  # a start on the axis turns nowhere: any direction counts the angle
            x = cross_product(self.way, np.eye(3)[int(np.argmin(np.abs(self.way)))])
        x = x / np.linalg.norm(x)
        y = cross_product(self.way, x)
        slack = 0.5 * (2.0 * np.pi - self.amount)
        angle = np.mod(np.arctan2(p @ y, p @ x) + slack, 2.0 * np.pi) - slack
        away = np.linalg.norm(p - along, axis=1)
        return self.origin + along + np.multiply.outer(away, x), angle / self.amount

    def length(self, points: Floats) -> float:
        """How far a typical point travels."""
        if not self.turning:
            return self.amount
        p = points - self.origin
        return float(np.linalg.norm(p - np.multiply.outer(p @ self.way, self.way), axis=1).mean() * self.amount)


@dataclass(frozen=True, slots=True, eq=False)
class Sweep:
    """How a body is swept: source faces, target faces, the walls between, and the motion."""

    body: Body
    source: tuple[FaceUse, ...]
    target: tuple[FaceUse, ...]
    walls: tuple[Face, ...]
    motion: Motion
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    @property
    def start(self) -> Floats:
        """A point (3,) of the source's plane."""
        if "start" not in self._kept:
            self._kept["start"] = face_middle(self.source[0].face)
        point: Floats = self._kept["start"]
        return point

    @property
    def travel(self) -> float:
        """How far (mm) a typical point of the source's rim goes."""
        if "travel" not in self._kept:
            self._kept["travel"] = self.motion.length(np.array([e.at(0.5) for e in self.end_edges()[0]]))
        far: float = self._kept["travel"]
        return far

    def end_edges(self) -> tuple[set[Edge], set[Edge]]:
        """The edges of the source and those of the target."""
        if "ends" not in self._kept:
            self._kept["ends"] = tuple({e for u in uses for e in u.face.edges()} for uses in (self.source, self.target))
        found: tuple[set[Edge], set[Edge]] = self._kept["ends"]
        return found
