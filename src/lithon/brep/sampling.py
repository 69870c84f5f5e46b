"""Points spread over triangles."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, Ints


def spread(corners: Floats, spacing: float, most: int = 40) -> tuple[Floats, Ints]:
    """Points (n,3) over triangles (m,3,3), no farther apart than about `spacing`, corners and sides
    included, and the triangle (n,) of each. No triangle is cut more than `most` times a side."""
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    cuts = np.clip(np.ceil(longest / spacing), 1, most).astype(int)
    points, owner = [], []
    for n in np.unique(cuts):
        rows = np.flatnonzero(cuts == n)
        i, j = np.meshgrid(np.arange(n + 1), np.arange(n + 1), indexing="ij")
        inside = i + j <= n
        weights = np.stack([i[inside], j[inside], n - i[inside] - j[inside]], axis=1) / n
        points.append(np.einsum("wk,mkd->mwd", weights, corners[rows]).reshape(-1, 3))
        owner.append(np.repeat(rows, len(weights)))
    return np.concatenate(points), np.concatenate(owner)


def spread_inside(corners: Floats, spacing: float, most: int = 40) -> tuple[Floats, Ints]:
    """As `spread`, but at the centroids of the small triangles, so that no point lies on a side."""
    longest = np.linalg.norm(corners - np.roll(corners, 1, axis=1), axis=2).max(axis=1)
    cuts = np.clip(np.ceil(longest / spacing), 1, most).astype(int)
    points, owner = [], []
    for n in np.unique(cuts):
        rows = np.flatnonzero(cuts == n)
        i, j = np.meshgrid(np.arange(n), np.arange(n), indexing="ij")
        inside = i + j < n
        a, b = (i[inside] + 1.0 / 3.0) / n, (j[inside] + 1.0 / 3.0) / n
        weights = np.stack([a, b, 1.0 - a - b], axis=1)
        points.append(np.einsum("wk,mkd->mwd", weights, corners[rows]).reshape(-1, 3))
        owner.append(np.repeat(rows, len(weights)))
    return np.concatenate(points), np.concatenate(owner)
