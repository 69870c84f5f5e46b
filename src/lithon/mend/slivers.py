"""Triangles without height: the corner opposite to the longest side lies on it. The triangle beyond takes the other
diagonal of both, which leaves the skin where it is (as in edge flips of caps: Botsch & Kobbelt, *A Robust Procedure to
Eliminate Degenerate Faces from Triangle Meshes*, 2001)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, Ints, triangle_areas
from lithon.mend.segments import Patch

#: How often what is beside a sliver may be one itself.
_ROUNDS = 8


def without_slivers(
    points: Floats, corners: Ints, patches: Sequence[Patch], tolerance: float
) -> tuple[Ints, list[Patch]]:
    """Triangles (m,3), none of which has an area less than the square of the tolerance (mm) as far as a diagonal helps,
    or a corner that can go; a sliver goes to the patch of the triangle beyond its longest side."""
    low = 2.0 * tolerance**2
    if not (triangle_areas(points, corners) <= low).any():
        return corners, list(patches)
    corners = corners.copy()
    owner = np.full(len(corners), -1, dtype=np.int64)
    gone: set[int] = set()
    for k, patch in enumerate(patches):
        owner[patch.rows] = k
    for _ in range(_ROUNDS):
        area = triangle_areas(points, corners)
        thin = np.array([t for t in np.flatnonzero(area <= low).tolist() if t not in gone], dtype=np.int64)
        beside = {side: t for t, (i, j, k) in enumerate(corners.tolist()) if t not in gone
                  for side in ((i, j), (j, k), (k, i))}  # fmt: skip
        changed: set[int] = set()
        for t in thin[np.argsort(area[thin], kind="stable")].tolist():
            a, b, c = _longest_first(points, corners[t])
            u = beside.get((b, a), -1)
            if u < 0 or t in changed or u in changed:
                continue
            d = int(next(v for v in corners[u].tolist() if v not in (a, b)))
            made = np.array([[c, a, d], [d, b, c]])
            taken = d == c or (c, d) in beside or (d, c) in beside
            if taken and (fan := _around(corners, beside, (a, b, c), d)):
                # Three triangles about a corner that lies on the side of one of them: without it they are one.
                out_of, whole = fan
                if not changed.isdisjoint(out_of):
                    continue
                owner[t] = owner[u]
                corners[t] = whole
                gone |= out_of - {t}
                changed |= out_of | {beside[side] for side in zip(whole, np.roll(whole, 1).tolist(), strict=True)
                                     if side in beside}  # fmt: skip
                corners[list(out_of - {t})] = 0
                continue
            if taken or float(triangle_areas(points, made).min()) <= float(area[[t, u]].min()):
                continue
            corners[[t, u]] = made
            owner[t] = owner[u]
            # What is beside either now has another neighbour: it is for the next round.
            changed |= {t, u} | {beside[side] for side in ((c, b), (a, c), (d, a), (b, d)) if side in beside}
        if not changed:
            break
    stay = np.array([t not in gone for t in range(len(corners))], dtype=bool)
    corners, owner = corners[stay], owner[stay]
    return corners, [replace(p, rows=np.flatnonzero(owner == k)) for k, p in enumerate(patches) if (owner == k).any()]


def _around(
    corners: Ints, beside: dict[tuple[int, int], int], sliver: tuple[int, int, int], d: int
) -> tuple[set[int], tuple[int, int, int]] | None:
    """The three triangles about an end of a sliver's longest side where there are no more, one of them the sliver, and
    the one that they make without that corner. `d`: the corner beyond that side."""
    a, b, c = sliver
    t, u = beside[a, b], beside[b, a]
    for side, whole in (((a, c), (b, c, d)), ((c, b), (c, a, d))):
        v = beside.get(side, -1)
        if v >= 0 and d in corners[v]:
            return {t, u, v}, whole
    return None


def _longest_first(points: Floats, corner: Ints) -> tuple[int, int, int]:
    """The corners of a triangle in its order, from the longest side on."""
    p = points[corner]
    k = int(np.linalg.norm(p[[1, 2, 0]] - p, axis=1).argmax())
    a, b, c = np.roll(corner, -k).tolist()
    return int(a), int(b), int(c)
