"""Polygons of triangle files, cut into triangles."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.tessellation.triangulate import Tangled, triangulate


def cut_up(points: Floats, polygons: Sequence[Sequence[int]], notes: list[str]) -> Ints:
    """Triangles (m,3) of polygons, rows of points (n,3). A hollow polygon is cut by Delaunay, others fanned."""
    by_size: dict[int, list[Sequence[int]]] = {}
    for polygon in polygons:
        by_size.setdefault(len(polygon), []).append(polygon)
    out: list[Ints] = []
    tangled = 0
    for size, rows in sorted(by_size.items()):
        if size < 3:
            notes.append(f"{len(rows)} faces with fewer than three corners left out")
            continue
        corners = np.array(rows, dtype=np.int64)
        if size == 3:
            out.append(corners)
            continue
        p = points[corners]
        ahead, behind = np.roll(p, -1, axis=1) - p, p - np.roll(p, 1, axis=1)
        normal = cross_product(p, np.roll(p, -1, axis=1)).sum(axis=1)
        hollow = (np.einsum("mkc,mc->mk", cross_product(behind, ahead), normal) < 0.0).any(axis=1)
        fans = corners[~hollow]
        out += [np.stack([fans[:, 0], fans[:, k], fans[:, k + 1]], axis=1) for k in range(1, size - 1)]
        for row, q, n in zip(corners[hollow], p[hollow], normal[hollow], strict=True):
            n = n / max(float(np.linalg.norm(n)), 1e-300)
            x = q[1] - q[0] - ((q[1] - q[0]) @ n) * n
            x /= max(float(np.linalg.norm(x)), 1e-300)
            flat = np.stack([(q - q[0]) @ x, (q - q[0]) @ cross_product(n, x)], axis=1)
            k = np.arange(size)
            try:
                out.append(row[triangulate(flat, np.stack([k, (k + 1) % size], axis=1)).triangles])
            except (Tangled, ValueError, IndexError):
                tangled += 1
    if tangled:
        notes.append(f"{tangled} faces whose outline crosses itself left out")
    return np.concatenate(out) if out else np.zeros((0, 3), dtype=np.int64)
