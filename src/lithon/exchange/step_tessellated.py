"""Tessellated shapes of AP242 (ISO 10303-42, tessellated geometry): solids and shells that are triangles."""

from __future__ import annotations

from typing import Any

import numpy as np

from lithon.arrays import Ints
from lithon.brep.faceted import Triangles
from lithon.errors import BadFile
from lithon.exchange.part21 import Exchange, Instance

_GROUPS = ("TESSELLATED_SOLID", "TESSELLATED_SHELL")


def triangles_of(exchange: Exchange, shape: Instance, scale: float) -> Triangles:
    """All triangles of a tessellated shape, in mm. Raises BadFile."""
    items = [exchange.get(ref) for ref in shape.values[1]] if shape.kind in _GROUPS else [shape]
    points, corners, base = [], [], 0
    for item in items:
        coordinates = exchange.get(item.values[1], "COORDINATES_LIST")
        xyz = scale * np.array(coordinates.values[2], dtype=float).reshape(-1, 3)
        made = _corners(item)
        rows = _index(item, len(xyz))
        if made.size == 0:
            continue
        if made.min() < 1 or made.max() > len(rows) or not np.isfinite(xyz).all() or np.abs(xyz).max() > 1e12:
            raise BadFile(f"the triangles of #{item.number} name points that are not there")
        points.append(xyz)
        corners.append(rows[made - 1] + base)
        base += len(xyz)
    if not corners:
        raise BadFile(f"#{shape.number} holds no triangles")
    return Triangles(np.concatenate(points), np.concatenate(corners))


def _index(item: Instance, count: int) -> Ints:
    """Rows of the coordinates for the numbers that the triangles use."""
    written = item.values[4] if item.kind.endswith("_SET") else item.values[5]
    rows = np.array(written or range(1, count + 1), dtype=np.int64) - 1
    if len(rows) and (rows.min() < 0 or rows.max() >= count):
        raise BadFile(f"#{item.number} names points that are not there")
    return rows


def _corners(item: Instance) -> Ints:
    """Triangles (m,3) of one-based numbers, strips and fans unrolled."""
    at = 5 if item.kind.endswith("_SET") else 6
    if not item.kind.startswith("COMPLEX"):
        return np.array(item.values[at], dtype=np.int64).reshape(-1, 3)
    out: list[tuple[Any, Any, Any]] = []
    for strip in item.values[at]:
        out += [(strip[k], strip[k + 1], strip[k + 2])[:: 1 if k % 2 == 0 else -1] for k in range(len(strip) - 2)]
    for fan in item.values[at + 1]:
        out += [(fan[0], fan[k], fan[k + 1]) for k in range(1, len(fan) - 1)]
    return np.array(out, dtype=np.int64).reshape(-1, 3)
