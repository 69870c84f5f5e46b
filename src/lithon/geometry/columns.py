"""Which points of a lattice lie within triangles, from what the lines of the lattice pass.

One line tells for all points on it: of the sides it passes beyond a point, those that look ahead less those that look
back.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.geometry.boxtree import BoxTree

#: Sides that a line may pass.
_MOST = 4096


def windings(tree: BoxTree, points: Floats, axis: int, step: float) -> Ints:
    """How often the triangles of a tree go around points (n,3), told along an axis (0 to 2). Points are taken to be on
    one line where they are as near across it as rounding leaves them; step: their distance from the next."""
    across = [k for k in range(3) if k != axis]
    cell = np.round((points[:, across] - points[:, across].min(axis=0)) / (1e-3 * step)).astype(np.int64)
    order = np.lexsort((cell[:, 1], cell[:, 0]))
    new = np.any(np.diff(cell[order], axis=0), axis=1)
    starts = np.concatenate([[0], np.flatnonzero(new) + 1, [len(points)]])
    out = np.empty(len(points), dtype=np.int64)
    out[order] = _wound(
        tree.corners, tree.low, tree.high, tree.first, tree.count,
        np.ascontiguousarray(points[order]), starts, axis, across[0], across[1],
    )  # fmt: skip
    return out


@njit(cache=True, nogil=True)
def _wound(
    corners: Floats, low: Floats, high: Floats, first: Ints, count: Ints,
    points: Floats, starts: Ints, axis: int, u: int, v: int,
) -> Ints:  # fmt: skip
    out = np.zeros(len(points), np.int64)
    stack = np.empty(128, np.int64)
    at, sense = np.empty(_MOST), np.empty(_MOST, np.int64)
    ahead = -1 if axis == 1 else 1  # x, z and y are left-handed
    for row in range(len(starts) - 1):
        begin, end = starts[row], starts[row + 1]
        a, b = points[begin, u], points[begin, v]
        hits, top = 0, 1
        stack[0] = 0
        while top:
            top -= 1
            node = stack[top]
            if a < low[node, u] or a > high[node, u] or b < low[node, v] or b > high[node, v]:
                continue
            if not count[node]:
                stack[top], stack[top + 1] = first[node], first[node] + 1
                top += 2
                continue
            for k in range(first[node], first[node] + count[node]):
                au, av = corners[k, 0, u] - a, corners[k, 0, v] - b
                bu, bv = corners[k, 1, u] - a, corners[k, 1, v] - b
                cu, cv = corners[k, 2, u] - a, corners[k, 2, v] - b
                ab, bc, ca = au * bv - av * bu, bu * cv - bv * cu, cu * av - cv * au
                whole = ab + bc + ca
                inward = (ab > 0.0 and bc > 0.0 and ca > 0.0) or (ab < 0.0 and bc < 0.0 and ca < 0.0)
                if inward and hits < _MOST:
                    share = bc * corners[k, 0, axis] + ca * corners[k, 1, axis] + ab * corners[k, 2, axis]
                    at[hits], sense[hits] = share / whole, ahead if whole > 0.0 else -ahead
                    hits += 1
        for n in range(begin, end):
            for k in range(hits):
                if at[k] > points[n, axis]:
                    out[n] += sense[k]
    return out
