"""Right-handed orthonormal frames and rigid motions."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, frozen


@dataclass(frozen=True, slots=True, eq=False)
class Frame:
    """Origin and three orthonormal axes, z = x cross y. All (3,)."""

    origin: Floats
    x: Floats
    y: Floats
    z: Floats

    @staticmethod
    def of(origin: object, z: object, x: object = None) -> Frame:
        """From an origin, a main direction and, where it matters, a direction near x."""
        a, b, c = _normed(z)
        if not 0.5 < a * a + b * b + c * c < 2.0:
            raise ValueError("a frame needs a main direction of non-zero length")
        u, v, w = (float(t) for t in np.asarray(x, dtype=float)) if x is not None else (0.0, 0.0, 0.0)
        along, size = u * a + v * b + w * c, math.sqrt(u * u + v * v + w * w)
        u, v, w = u - along * a, v - along * b, w - along * c
        if math.sqrt(u * u + v * v + w * w) < 1e-9 * max(1.0, size):
            least = min(range(3), key=lambda k: abs((a, b, c)[k]))
            along = (a, b, c)[least]
            u, v, w = (float(k == least) - along * t for k, t in enumerate((a, b, c)))
        u, v, w = _normed((u, v, w))
        return Frame(frozen(np.asarray(origin, dtype=float)), frozen((u, v, w)),
                     frozen((b * w - c * v, c * u - a * w, a * v - b * u)), frozen((a, b, c)))  # fmt: skip

    def local(self, points: Floats) -> Floats:
        """World points (n,3) in this frame."""
        d = np.asarray(points, dtype=float) - self.origin
        return np.asarray(d @ np.array((self.x, self.y, self.z)).T)

    def world(self, local: Floats) -> Floats:
        """Local coordinates (n,3) in the world."""
        return np.asarray(self.origin + np.asarray(local, dtype=float) @ np.array((self.x, self.y, self.z)))

    def moved(self, motion: Floats) -> Frame:
        """Under a rigid motion (4,4); a mirror keeps x and z and turns y to stay right-handed."""
        rotation, shift = motion[:3, :3], motion[:3, 3]
        return Frame.of(rotation @ self.origin + shift, rotation @ self.z, rotation @ self.x)

    def shifted(self, by: Floats) -> Frame:
        """The same axes with the origin moved by a world vector (3,)."""
        return Frame(frozen(self.origin + by), self.x, self.y, self.z)


def _normed(vector: object) -> tuple[float, float, float]:
    """A vector's numbers, of length one; one of no length stays as it is."""
    a, b, c = (float(t) for t in np.asarray(vector, dtype=float))
    size = math.sqrt(a * a + b * b + c * c)
    return (a / size, b / size, c / size) if size > 0.0 else (a, b, c)
