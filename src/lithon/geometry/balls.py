"""Inscribed balls: how large a ball can grow into a solid from a point of its surface before it touches a far side.

A ball that touches the surface at a point p and has its centre on the normal there is as large as the nearest place q
lets it be: its radius is |q - p|^2 / (2 n (q - p)). Balls at one point lie in each other, so that what a ball does not
reach cannot make it smaller: it shrinks from triangle to triangle (after Ma, Bae & Choi 2012) through a tree of boxes.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.geometry.boxtree import BoxTree, box_distance, closest_on
from lithon.threads import shared_out

#: A far side is one whose normal is this opposed (cosine): sides that lean away more are corners, not walls.
OPPOSED = 0.5


def inscribed(
    tree: BoxTree, normals: Floats, points: Floats, ways: Floats, sense: float, most: Floats
) -> tuple[Floats, Ints, Floats]:
    """Balls at points (n,3) that grow along unit vectors (n,3) from radii `most` (n,) down: radius (n,), the triangle
    that each touches or -1 where it is as large as it may be, and where it touches (n,3). normals (m,3): of the
    triangles; sense -1 where balls grow into a solid, 1 where they grow out of it."""
    facing = np.ascontiguousarray(-sense * normals[tree.order])
    p, w, m = np.ascontiguousarray(points), np.ascontiguousarray(ways), np.ascontiguousarray(most)
    radius, row, at = shared_out(
        lambda s: _inscribed(tree.corners, facing, tree.low, tree.high, tree.first, tree.count, p[s], w[s], m[s]),
        len(p),
    )
    return radius, np.where(row >= 0, tree.order[np.maximum(row, 0)], -1), at


@njit(cache=True, nogil=True)
def _inscribed(
    corners: Floats, normals: Floats, low: Floats, high: Floats, first: Ints, count: Ints, points: Floats,
    ways: Floats, most: Floats,
) -> tuple[Floats, Ints, Floats]:  # fmt: skip
    radius, row, at = most.copy(), np.full(len(points), -1, np.int64), np.zeros((len(points), 3))
    stack, trial, centre = np.empty(128, np.int64), np.empty(3), np.empty(3)
    for n in range(len(points)):
        p, way, r, top = points[n], ways[n], most[n], 1
        stack[0] = 0
        for c in range(3):
            centre[c] = p[c] + r * way[c]
        while top:
            top -= 1
            node = stack[top]
            if box_distance(low[node], high[node], centre) >= r * r:
                continue
            if count[node] == 0:
                a, b = first[node], first[node] + 1
                if box_distance(low[a], high[a], centre) < box_distance(low[b], high[b], centre):
                    a, b = b, a
                stack[top], stack[top + 1] = a, b
                top += 2
                continue
            for k in range(first[node], first[node] + count[node]):
                lean = normals[k, 0] * way[0] + normals[k, 1] * way[1] + normals[k, 2] * way[2]
                if not lean > OPPOSED:
                    continue
                for _ in range(24):
                    if not closest_on(corners[k], centre, trial) < r * r * (1.0 - 1e-9):
                        break
                    square, along = 0.0, 0.0
                    for c in range(3):
                        square += (trial[c] - p[c]) ** 2
                        along += (trial[c] - p[c]) * way[c]
                    if not square < 2.0 * along * r:
                        break
                    r = square / (2.0 * along)
                    row[n] = k
                    for c in range(3):
                        at[n, c] = trial[c]
                        centre[c] = p[c] + r * way[c]
        radius[n] = r
    return radius, row, at
