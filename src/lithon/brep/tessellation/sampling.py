"""Points spread over triangles, as many across a needle as it is wide."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, Ints, cross_product


def spread(corners: Floats, spacing: float, most: int = 40) -> tuple[Floats, Ints]:
    """Points (n,3) over triangles (m,3,3), no farther apart than about `spacing`, corners and sides
    included, and the triangle (n,) of each. No triangle has more than `most` steps along it."""
    return _laid(corners, spacing, most, inside=False)


def spread_inside(corners: Floats, spacing: float, most: int = 40) -> tuple[Floats, Ints]:
    """As `spread`, but at the middles of cells, so that no point lies on a side."""
    return _laid(corners, spacing, most, inside=True)


def _laid(corners: Floats, spacing: float, most: int, inside: bool) -> tuple[Floats, Ints]:
    """Rows of points along each triangle's longest side, one behind the other towards the corner across from it."""
    sides = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
    first = sides.argmax(axis=1)
    rows = np.arange(len(corners))
    a, b, c = (corners[rows, (first + k) % 3] for k in range(3))
    longest = sides[rows, first]
    height = np.linalg.norm(cross_product(b - a, c - a), axis=1) / np.maximum(longest, 1e-300)
    along = np.clip(np.ceil(longest / spacing), 1, most).astype(np.int64)
    across = np.clip(np.ceil(height / spacing), 1, most).astype(np.int64)
    kind, which = np.unique(along * (most + 1) + across, return_inverse=True)
    order = np.argsort(which.reshape(-1), kind="stable")
    points, owner = [], []
    for k, some in enumerate(np.split(order, np.cumsum(np.bincount(which.reshape(-1)))[:-1])):
        u, t = _grid(int(kind[k]) // (most + 1), int(kind[k]) % (most + 1), inside)
        weights = np.stack([(1.0 - t) * (1.0 - u), (1.0 - t) * u, t], axis=1)
        trio = np.stack([a[some], b[some], c[some]], axis=1)
        points.append((weights[None] @ trio).reshape(-1, 3))
        owner.append(np.repeat(some, len(weights)))
    return np.concatenate(points), np.concatenate(owner)


def _grid(along: int, across: int, inside: bool) -> tuple[Floats, Floats]:
    """Shares along the longest side and towards the corner across, each (w,)."""
    us, ts = [], []
    for j in range(across if inside else across + 1):
        t = (j + (1.0 / 3.0 if across == 1 else 0.5)) / across if inside else j / across
        n = int(np.ceil(along * (1.0 - t)))
        us.append((np.arange(max(n, 1)) + 0.5) / max(n, 1) if inside else np.arange(n + 1) / max(n, 1))
        ts.append(np.full(len(us[-1]), t))
    return np.concatenate(us), np.concatenate(ts)
