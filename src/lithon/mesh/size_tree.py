"""The smallest of size_i + growth * distance over many sources, by branch and bound in a tree of boxes.

A box whose least size and whose distance together cannot beat what was found is not opened. Sizes grow no faster than
`growth`, so that what holds at one point bounds the next: points in an order that stays near itself are asked cheaply.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.geometry.boxtree import BoxTree

#: An answer may be larger than the true one by this share.
_SLACK = 0.01


@dataclass(frozen=True, slots=True, eq=False)
class SizeTree:
    """sizes (m,) in leaf order; least (k,) the smallest within each node."""

    boxes: BoxTree
    sizes: Floats
    least: Floats

    @staticmethod
    def of(points: Floats, sizes: Floats) -> SizeTree:
        """Over sources (m,3), m > 0, with their sizes (m,)."""
        boxes = BoxTree.of(points, np.repeat(np.arange(len(points))[:, None], 3, axis=1))
        sorted_sizes = np.ascontiguousarray(sizes[boxes.order])
        return SizeTree(boxes, sorted_sizes, _least(boxes.first, boxes.count, sorted_sizes))

    def at(self, points: Floats, growth: float, most: float) -> Floats:
        """Sizes (n,), none above `most`, at points (n,3)."""
        b = self.boxes
        points = np.ascontiguousarray(points, dtype=float)
        return _smallest(b.corners, b.low, b.high, b.first, b.count, self.sizes, self.least, points, growth, most)


@njit(cache=True, nogil=True)
def _least(first: Ints, count: Ints, sizes: Floats) -> Floats:
    out = np.empty(len(first))
    for k in range(len(first) - 1, -1, -1):  # children follow their parents
        if count[k]:
            out[k] = sizes[first[k] : first[k] + count[k]].min()
        else:
            out[k] = min(out[first[k]], out[first[k] + 1])
    return out


@njit(cache=True, inline="always")
def _away(low: Floats, high: Floats, p: Floats) -> float:
    d = 0.0
    for c in range(3):
        away = max(low[c] - p[c], 0.0, p[c] - high[c])
        d += away * away
    return np.sqrt(d)


@njit(cache=True, nogil=True)
def _smallest(
    corners: Floats, low: Floats, high: Floats, first: Ints, count: Ints, sizes: Floats, least: Floats,
    points: Floats, growth: float, most: float,
) -> Floats:  # fmt: skip
    out = np.empty(len(points))
    stack, bound = np.empty(128, np.int64), np.empty(128)
    best = most
    for n in range(len(points)):
        p = points[n]
        if n:
            step = 0.0
            for c in range(3):
                step += (p[c] - points[n - 1, c]) ** 2
            best = min(most, best + growth * np.sqrt(step))
        stack[0], bound[0] = 0, least[0] + growth * _away(low[0], high[0], p)
        top = 1
        while top:
            top -= 1
            if bound[top] >= (1.0 - _SLACK) * best:
                continue
            node = stack[top]
            if count[node]:
                for k in range(first[node], first[node] + count[node]):
                    d = 0.0
                    for c in range(3):
                        d += (corners[k, 0, c] - p[c]) ** 2
                    best = min(best, sizes[k] + growth * np.sqrt(d))
                continue
            left = first[node]
            a = least[left] + growth * _away(low[left], high[left], p)
            b = least[left + 1] + growth * _away(low[left + 1], high[left + 1], p)
            near, far = left, left + 1
            if b < a:
                near, far, a, b = far, near, b, a
            stack[top], bound[top] = far, b  # the nearer one is opened first
            stack[top + 1], bound[top + 1] = near, a
            top += 2
        out[n] = best
    return out
