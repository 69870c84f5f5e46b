"""The smallest of size_i + growth * distance over many sources, by branch and bound in a tree of boxes.

A box whose least size and whose distance together cannot beat what was found is not opened. What ruled at one point is
tried first at the next: points in an order that stays near itself are asked cheaply.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.geometry.boxtree import BoxTree
from lithon.threads import BLOCK, shared_out

#: An answer may be larger than the true one by this share.
_SLACK = 0.01


@dataclass(frozen=True, slots=True, eq=False)
class SizeTree:
    """sizes (m,) in leaf order; least (k,) the smallest within each node; `alike` (m,): the sources as one group."""

    boxes: BoxTree
    sizes: Floats
    least: Floats
    alike: Ints

    @staticmethod
    def of(points: Floats, sizes: Floats) -> SizeTree:
        """Over sources (m,3), m > 0, with their sizes (m,)."""
        boxes = BoxTree.of(points, np.repeat(np.arange(len(points))[:, None], 3, axis=1))
        sorted_sizes = np.ascontiguousarray(sizes[boxes.order])
        return SizeTree(boxes, sorted_sizes, _least(boxes.first, boxes.count, sorted_sizes),
                        np.zeros(len(sizes), dtype=np.int64))  # fmt: skip

    def at(self, points: Floats, growth: float, most: float, block: int = BLOCK) -> Floats:
        """Sizes (n,), none above `most`, at points (n,3). What is told at one point hangs on those before it in its
        block, as far as an answer may be off."""
        return self.ruled(points, growth, most, block=block)[0]

    def ruled(
        self,
        points: Floats,
        growth: float,
        most: float,
        groups: Ints | None = None,
        without: Ints | None = None,
        block: int = BLOCK,
    ) -> tuple[Floats, Ints]:
        """Sizes (n,) and the source (n,) that rules at each point, -1 where none asks for less than `most`. groups
        (m,) of the sources, and the one (n,) whose sources do not count at a point."""
        b = self.boxes
        points = np.ascontiguousarray(points, dtype=float)
        if groups is None or without is None:
            tags, without = self.alike, np.full(len(points), -1)
        else:
            tags = np.ascontiguousarray(groups[b.order])
        sizes, row = shared_out(
            lambda s: _smallest(b.corners, b.low, b.high, b.first, b.count, self.sizes, self.least, tags, points[s],
                                without[s], growth, most, block),
            len(points), block,
        )  # fmt: skip
        return sizes, np.where(row >= 0, b.order[np.maximum(row, 0)], -1)


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


@njit(cache=True, inline="always")
def _asked(corners: Floats, sizes: Floats, growth: float, k: int, p: Floats) -> float:
    """What a source asks for at a point."""
    d = 0.0
    for c in range(3):
        d += (corners[k, 0, c] - p[c]) ** 2
    return sizes[k] + growth * np.sqrt(d)


@njit(cache=True, nogil=True)
def _smallest(
    corners: Floats, low: Floats, high: Floats, first: Ints, count: Ints, sizes: Floats, least: Floats, tags: Ints,
    points: Floats, without: Ints, growth: float, most: float, block: int,
) -> tuple[Floats, Ints]:  # fmt: skip
    out, rows = np.empty(len(points)), np.empty(len(points), np.int64)
    stack, bound = np.empty(128, np.int64), np.empty(128)
    row = -1
    for n in range(len(points)):
        p = points[n]
        best = most
        if n % block == 0:
            row = -1
        if row >= 0:
            best = _asked(corners, sizes, growth, row, p)
            if best >= most or tags[row] == without[n]:
                best, row = most, -1
        stack[0], bound[0] = 0, least[0] + growth * _away(low[0], high[0], p)
        top = 1
        while top:
            top -= 1
            if bound[top] >= (1.0 - _SLACK) * best:
                continue
            node = stack[top]
            if count[node]:
                for k in range(first[node], first[node] + count[node]):
                    if tags[k] != without[n]:
                        asked = _asked(corners, sizes, growth, k, p)
                        if asked < best:
                            best, row = asked, k
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
        out[n], rows[n] = best, row
    return out, rows
