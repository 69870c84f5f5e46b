"""The sill blocks of Tarnhow Lock: ground and masonry that do not quite meet, with crumbs left between
them, and two rough boulders fit for a hull."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.topology import Model


@dataclass(frozen=True, slots=True)
class Sill:
    """Dimensions in mm: the ground, three courses of blocks on it, and the sizes of the crumbs."""

    length: float = 3000.0
    width: float = 1200.0
    ground: float = 600.0
    block: tuple[float, float, float] = (960.0, 1200.0, 400.0)
    joint: float = 40.0
    crumbs: tuple[float, ...] = (9.0, 12.0, 15.0, 21.0, 26.0)
    boulders: tuple[float, float] = (260.0, 330.0)

    @property
    def block_volume(self) -> float:
        x, y, z = self.block
        return x * y * z

    def crumb_volume(self, k: int) -> float:
        """A crumb is a wedge: half a box of its size, as deep as it is long, a third as high."""
        s = self.crumbs[k]
        return s * s * (s / 3.0) / 2.0


SILL = Sill()


def _box(low: tuple[float, float, float], high: tuple[float, float, float]) -> tuple[Floats, Ints]:
    x, y, z = zip(low, high, strict=True)
    p = np.array([(a, b, c) for c in z for b in y for a in x], dtype=float)
    quads = [(0, 2, 3, 1), (4, 5, 7, 6), (0, 1, 5, 4), (1, 3, 7, 5), (3, 2, 6, 7), (2, 0, 4, 6)]
    return p, np.array([t for a, b, c, d in quads for t in ((a, b, c), (a, c, d))], dtype=np.int64)


def _wedge(at: tuple[float, float, float], size: float) -> tuple[Floats, Ints]:
    h = size / 3.0
    p = np.array([[0, 0, 0], [size, 0, 0], [0, 0, h], [0, size, 0], [size, size, 0], [0, size, h]], dtype=float)
    c = [(0, 1, 2), (3, 5, 4), (0, 3, 4), (0, 4, 1), (1, 4, 5), (1, 5, 2), (2, 5, 3), (2, 3, 0)]
    return p + at, np.array(c, dtype=np.int64)


def _boulder(centre: tuple[float, float, float], radius: float, seed: int) -> tuple[Floats, Ints]:
    """A ball of 20 * 16 triangles, dented."""
    g = (1.0 + np.sqrt(5.0)) / 2.0
    p = np.array([[-1, g, 0], [1, g, 0], [-1, -g, 0], [1, -g, 0], [0, -1, g], [0, 1, g], [0, -1, -g], [0, 1, -g],
                  [g, 0, -1], [g, 0, 1], [-g, 0, -1], [-g, 0, 1]])  # fmt: skip
    tri = [(0, 11, 5), (0, 5, 1), (0, 1, 7), (0, 7, 10), (0, 10, 11), (1, 5, 9), (5, 11, 4), (11, 10, 2), (10, 7, 6),
           (7, 1, 8), (3, 9, 4), (3, 4, 2), (3, 2, 6), (3, 6, 8), (3, 8, 9), (4, 9, 5), (2, 4, 11), (6, 2, 10),
           (8, 6, 7), (9, 8, 1)]  # fmt: skip
    points, corners = [*p], tri
    for _ in range(2):
        known: dict[tuple[int, int], int] = {}
        made = []

        def middle(a: int, b: int, known: dict[tuple[int, int], int] = known) -> int:
            key = (min(a, b), max(a, b))
            if key not in known:
                known[key] = len(points)
                points.append(0.5 * (points[a] + points[b]))
            return known[key]

        for a, b, c in corners:
            ab, bc, ca = middle(a, b), middle(b, c), middle(c, a)
            made += [(a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)]
        corners = made
    ball = np.array(points)
    ball /= np.linalg.norm(ball, axis=1, keepdims=True)
    dents = 1.0 + 0.06 * np.random.default_rng(seed).uniform(-1.0, 1.0, len(ball))
    return np.asarray(centre) + radius * dents[:, None] * ball, np.array(corners, dtype=np.int64)


def sill_parts() -> list[Triangles]:
    """Everything as triangles, by name."""
    s = SILL
    x, y, z = s.block
    parts = [Triangles(*_box((0, 0, -s.ground), (s.length, s.width, 0)), "ground")]
    for k in range(3):
        left = 20.0 + k * (x + s.joint / 2.0)
        parts.append(Triangles(*_box((left, 0, 0), (left + x, y, z)), f"course {k + 1}"))
    for k, size in enumerate(s.crumbs):
        # In the joints between the blocks, clear of them.
        left = 20.0 + x + (k % 2) * (x + s.joint / 2.0)
        gap = s.joint / 2.0 - size
        at = (left + max(gap, 0.0) / 2.0, 100.0 + 220.0 * k, 30.0) if gap > 0.0 else (60.0, 100.0 + 220.0 * k, z + 3.0)
        parts.append(Triangles(*_wedge(at, size), f"crumb {k + 1}"))
    for k, radius in enumerate(s.boulders):
        centre = (700.0 + 1400.0 * k, s.width / 2.0, z + 1.2 * radius)
        parts.append(Triangles(*_boulder(centre, radius, 3 + k), f"boulder {k + 1}"))
    return parts


def sill_blocks() -> Model:
    """As they stand on the intake table."""
    return Model.of(bodies_of(sill_parts())[0])
