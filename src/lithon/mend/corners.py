"""Corners of a scan at which more patches come together than surfaces meet in a point there.

Where two corners of a part stand a side or less apart, which triangle between them went to which patch is chance, and
both can come to be one: four patches around it, whose surfaces have no point in common. A triangle or two beside it
that lie on another of them as well are given to that one, and there are two corners again.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, rows_of, unit
from lithon.geometry.crossing import onto_all
from lithon.mend.borders import on_surface
from lithon.mend.seams import scatter_of
from lithon.mend.segments import Patch

#: As many patches meet in a corner anywhere.
_USUAL = 3
#: No more triangles of a patch about a corner are given away; they may stand off the other by so many times as much as
#: those that are of it do, and lean from it by no more (cosine).
_FEW, _AS_WELL, _LEAN = 2, 1.5, 0.7
#: So often it is gone through again: what is parted here can come together there.
_ROUNDS = 3


def untangled(points: Floats, corners: Ints, patches: Sequence[Patch], near: float) -> list[Patch]:
    """Patches of closed triangles, where more than three of them meet, parted so that these meet in
    points to within `near` (mm) as far as triangles may change over for it."""
    found = _Corners(points, corners, patches, near)
    if not any(found.mend() for _ in range(_ROUNDS)):
        return list(patches)
    out = []
    for patch, rows in zip(patches, rows_of(found.label, len(patches)), strict=True):
        if len(rows) == len(patch.rows) and (rows == np.sort(patch.rows)).all():
            out.append(patch)
        elif len(rows):
            out.append(on_surface(points, corners, replace(patch, rows=rows)))
    return out


class _Corners:
    def __init__(self, points: Floats, corners: Ints, patches: Sequence[Patch], near: float):
        self.points, self.corners, self.patches, self.near = points, corners, patches, near
        self.label = np.full(len(corners), -1, dtype=np.int64)
        for k, patch in enumerate(patches):
            self.label[patch.rows] = k
        a, b, c = (points[corners[:, k]] for k in range(3))
        self.normal = unit(cross_product(b - a, c - a))
        self.fans = rows_of(corners.ravel(), len(points))

    def mend(self) -> bool:
        """Go through all corners once; whether any triangle changed over."""
        pairs = np.unique(np.stack([self.corners.ravel(), np.repeat(self.label, 3)], axis=1), axis=0)
        count = np.bincount(pairs[:, 0], minlength=len(self.points))
        return sum(self._parted(v) for v in np.flatnonzero(count > _USUAL).tolist()) > 0

    def _fan(self, v: int) -> Ints:
        return self.fans[v] // 3

    def _meet(self, v: int) -> bool:
        """Whether the surfaces of all patches around a corner have a point in common near it."""
        labels = np.unique(self.label[self._fan(v)]).tolist()
        if len(labels) <= _USUAL:
            return True
        known = [s for k in labels if (s := self.patches[k].surface) is not None]
        here = self.points[v][None]
        there, missed = onto_all(known, here)
        far = self.near + scatter_of([self.patches[k].off for k in labels])
        return len(known) < len(labels) or bool(missed[0] <= self.near and np.linalg.norm(there - here) <= far)

    def _parted(self, v: int) -> bool:
        """Give the triangles of one patch about a corner to another, those that lie on it best; whether any may be."""
        if self._meet(v):
            return False
        fan = self._fan(v)
        mine = self.label[fan]
        best: tuple[float, Ints, int] | None = None
        for k in np.unique(mine).tolist():
            rows = fan[mine == k]
            if len(rows) > _FEW or len(rows) == len(self.patches[k].rows):
                continue
            ends = set(self.corners[rows].ravel().tolist()) - {v}
            beside = [t for t in fan[mine != k].tolist() if len(ends.intersection(self.corners[t].tolist()))]
            for to in np.unique(self.label[beside]).tolist():
                if self.patches[to].surface is None:
                    continue
                off = self._off(rows, to)
                most = _AS_WELL * max(self.patches[k].off, self.patches[to].off)
                if off <= most and (best is None or off < best[0]) and self._holds(rows, to, [v, *ends]):
                    best = off, rows, to
        if best is not None:
            self.label[best[1]] = best[2]
        return best is not None

    def _off(self, rows: Ints, to: int) -> float:
        """How far (mm) triangles stand off the surface of a patch, infinite where they lean from it."""
        surface = self.patches[to].surface
        assert surface is not None
        p = self.points[self.corners[rows]]
        lean = np.abs((surface.normal(p.mean(axis=1)) * self.normal[rows]).sum(axis=1)).min()
        return float(np.abs(surface.signed_distance(p.reshape(-1, 3))).max()) if lean > _LEAN else np.inf

    def _holds(self, rows: Ints, to: int, around: Sequence[int]) -> bool:
        """Whether all corners around some triangles were points on their surfaces if these were of another patch."""
        was = self.label[rows].copy()
        self.label[rows] = to
        good = all(self._meet(v) for v in around)
        self.label[rows] = was
        return good
