"""Right-handed orthonormal frames and rigid motions."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, frozen, unit


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
        main = unit(np.asarray(z, dtype=float))
        if not np.isfinite(main).all() or np.linalg.norm(main) < 0.5:
            raise ValueError("a frame needs a main direction of non-zero length")
        hint = np.asarray(x, dtype=float) if x is not None else np.zeros(3)
        side = hint - main * float(hint @ main)
        if np.linalg.norm(side) < 1e-9 * max(1.0, float(np.linalg.norm(hint))):
            least = np.eye(3)[int(np.argmin(np.abs(main)))]
            side = least - main * float(least @ main)
        side = unit(side)
        return Frame(frozen(np.asarray(origin, dtype=float)), frozen(side), frozen(np.cross(main, side)), frozen(main))

    def local(self, points: Floats) -> Floats:
        """World points (n,3) in this frame."""
        d = np.asarray(points, dtype=float) - self.origin
        return np.asarray(d @ np.stack([self.x, self.y, self.z], axis=1))

    def world(self, local: Floats) -> Floats:
        """Local coordinates (n,3) in the world."""
        return np.asarray(self.origin + np.asarray(local, dtype=float) @ np.stack([self.x, self.y, self.z]))

    def moved(self, motion: Floats) -> Frame:
        """Under a rigid motion (4,4); a mirror keeps x and z and turns y to stay right-handed."""
        rotation, shift = motion[:3, :3], motion[:3, 3]
        return Frame.of(rotation @ self.origin + shift, rotation @ self.z, rotation @ self.x)

    def shifted(self, by: Floats) -> Frame:
        """The same axes with the origin moved by a world vector (3,)."""
        return Frame(frozen(self.origin + by), self.x, self.y, self.z)
