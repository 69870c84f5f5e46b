"""Pieces of a skin that give way where they do not become faces: they are cut in parts, become free-form, take in a
triangle beside them, or stay facets."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, rows_of, triangle_areas
from lithon.brep.faceted import connected_sets
from lithon.mend.freeform import NoFace, fails
from lithon.mend.meetings import FACETS, Failure, Piece
from lithon.mend.segments import Patch
from lithon.mend.slicing import by_creases, halved, sliced

#: A simple surface that fails on so many triangles becomes free-form; patches are cut until there are so many.
_FREE, _PIECES = 8, 600
#: So often triangles are taken into a patch, or triangles of it stay facets, where the two hinder each other; and no
#: more of it (a share) each time, and hardly any where it could be parted instead.
_TAKEN, _PEELED, _PEEL, _HARDLY = 8, 8, 0.2, 0.03
#: What has a smaller share of the skin is no loss.
_WORTH = 5e-3
#: After so many times they do so all along those that it does not meet.
_FAR_OFF = 2
#: What is no larger a share of the skin is not cut any more; and when it is late.
_SMALL, LARGE = 2e-3, 0.02


@dataclass(slots=True)
class Skin:
    """Triangles, the pieces they are parted into, and those pieces (numbers, and why) that stay facets."""

    points: Floats
    corners: Ints
    pieces: list[Piece]
    stay: dict[int, str]

    def bend_to(
        self, failures: Sequence[Failure], memory: dict[object, Any], least: float = 0.0
    ) -> tuple[list[Failure], bool]:
        """Where a triangle hinders a free-form face it becomes a part of it; where one fails its patch is cut in parts,
        and where a simple one does it becomes free-form, if they have more than the `least` share of the skin. Returns
        the failures for which nothing of this can be done, and whether anything was."""
        least = max(least, _SMALL) * sum(piece.area for piece in self.pieces)
        taken = {
            f.row: k for f in failures if f.row is not None and (k := self._taker(f, memory["beside"])) is not None
        }
        self._take_in(taken)
        left, changed = list[Failure](), set(taken.values())
        for failure in failures:
            among = [k for k in failure.among if k != FACETS and k not in self.stay]
            large = [k for k in among if self.pieces[k].area > least]
            if failure.row in taken or not changed.isdisjoint(among):
                continue
            if failure.row is not None and self._peel_smallest(self._by_area(among), failure, changed, _HARDLY):
                continue  # one triangle is no reason to part what fits
            which = self._give_way(large, failure, memory)
            if which is None:
                left.append(failure)
            else:
                changed.add(which)
        return left, bool(changed)

    def _give_way(self, among: list[int], failure: Failure, memory: dict[object, Any]) -> int | None:
        """The largest free-form patch of some that can be cut, which is done, else the smallest simple one, which
        becomes free-form; none where neither is there."""
        among = self._by_area(among)
        free = [k for k in among if self.pieces[k].surface is None]
        no_face = isinstance(failure.refusal, NoFace)
        if not no_face and (k := self._bend(among)) is not None:
            return k  # where surfaces do not meet that is no fault of what has none yet
        bad = failure.refusal.places if isinstance(failure.refusal, NoFace) else None
        for k in reversed(free):
            if self._cut(k, memory, bad):
                return k
        return self._bend(among) if no_face else None

    def _by_area(self, among: Sequence[int]) -> list[int]:
        """Some patches, the smallest first."""
        return sorted((k for k in among if k != FACETS), key=lambda k: self.pieces[k].area)

    def _bend(self, among: Sequence[int]) -> int | None:
        """Make the first of some simple pieces that is large enough free-form; none where there is no such."""
        for k in among:
            if self.pieces[k].surface is not None and len(self.pieces[k].rows) >= _FREE:
                self.pieces[k] = replace(self.pieces[k], surface=None, mark=object(), region=object())
                return k
        return None

    def _taker(self, failure: Failure, beside: Mapping[tuple[int, int], int]) -> int | None:
        """The free-form patch across a side of a triangle that hinders it, which may be a part of it as well."""
        assert failure.row is not None
        a, b, c = self.corners[failure.row].tolist()
        rows = [beside.get(side, -1) for side in ((b, a), (c, b), (a, c))]
        free = [
            k for k in failure.among
            if k != FACETS and k not in self.stay and self.pieces[k].surface is None and self.pieces[k].moved < _TAKEN
        ]  # fmt: skip
        return next((k for k in free if np.isin(rows, self.pieces[k].rows).any()), None)

    def _take_in(self, taken: Mapping[int, int]) -> None:
        """Make triangles (rows) that stayed facets a part of free-form patches beside them."""
        if not taken:
            return
        area = triangle_areas(self.points, self.corners)
        more: dict[int, list[int]] = defaultdict(list)
        for row, k in taken.items():
            more[k].append(row)
        for k, piece in enumerate(self.pieces):
            if k in more or k in self.stay:
                rows = np.union1d(piece.rows, more[k]) if k in more else np.setdiff1d(piece.rows, list(taken))
                if len(rows) != len(piece.rows):
                    moved = piece.moved + (k in more)
                    self.pieces[k] = replace(
                        piece, rows=rows, area=float(area[rows].sum()), region=object(), moved=moved
                    )

    def _cut(self, k: int, memory: dict[object, Any], bad: Floats | None) -> bool:
        """Cut a piece in parts, where it can be, one of them without the bad places (k,3)."""
        if len(self.pieces) >= _PIECES:
            return False
        points, corners, of, part, sides = halved(self.points, self.corners, self.pieces[k].rows, bad)
        if int(part.max()) < 1:
            return False
        along = memory.get("along", {})
        for v, (a, b) in enumerate(sides.tolist(), len(self.points)):
            if (a, b) in along:
                along[a, v] = along[b, v] = along[a, b]
        label = np.full(len(self.corners), -1, dtype=np.int64)
        for j, piece in enumerate(self.pieces):
            label[piece.rows] = j
        label = label[of]
        n, parts = len(self.pieces), int(part.max()) + 1
        label[part > 0] = n - 1 + part[part > 0]
        area = triangle_areas(points, corners)
        regions = [replace(self.pieces[k], region=object()) for _ in range(parts)]
        every = [*self.pieces[:k], regions[0], *self.pieces[k + 1 :], *regions[1:]]
        self.pieces = [
            replace(piece, rows=rows, area=float(area[rows].sum()))
            for piece, rows in zip(every, rows_of(label, n + parts - 1), strict=True)
        ]
        self.points, self.corners = points, corners
        for known in ("beside", "sides"):
            memory.pop(known, None)
        return True

    def give_up(self, failures: Sequence[Failure], all_of: bool) -> bool:
        """Let patches stay facets until one of each failure does, the smallest, or all but the largest of it; of those
        that are large beside what hinders them only what is there. Whether that leaves any other and changes
        anything."""
        stay, before = self.stay, len(self.stay)
        changed = set[int]()
        for failure in failures:
            among = self._by_area(failure.among)
            if not changed.isdisjoint(among) or self._peel_smallest(among, failure, changed, _PEEL):
                continue
            if all_of:
                left = [k for k in among if k not in stay]
                stay.update((k, failure.refusal.what) for k in left[: max(1, len(left) - 1)])
            elif among and not any(k in stay for k in among):
                stay[among[0]] = failure.refusal.what
        return before < len(stay) < len(self.pieces)

    def _peel_smallest(self, among: Sequence[int], failure: Failure, changed: set[int], most: float) -> bool:
        """Let those triangles of the smallest of some patches stay facets that are at the corners of a failure. Whether
        that could be done, as it is not small and they are no more than a share of it; it is added to `changed`."""
        if not failure.at or not among or any(k in self.stay for k in among):
            return False
        if self.pieces[among[0]].area < _WORTH * sum(piece.area for piece in self.pieces):
            return False  # all of it stays so, and what is beside it is whole
        if not self._peel(among[0], failure, most):
            return False
        changed.add(among[0])
        return True

    def _peel(self, k: int, failure: Failure, most: float) -> bool:
        """Let the triangles of a patch at the corners of a failure stay facets, where they are no larger share."""
        piece, area = self.pieces[k], triangle_areas(self.points, self.corners)
        own, at = self.corners[piece.rows], np.array(failure.at)
        if piece.moved >= _FAR_OFF:  # place by place it would go on: all along the others at once
            rest = [self.corners[self.pieces[j].rows].ravel() for j in failure.among if j not in (k, FACETS)]
            at = np.union1d(
                at, np.intersect1d(own, np.concatenate(rest)) if rest else own[np.isin(own, at).any(axis=1)]
            )
        touching = np.isin(own, at).any(axis=1)
        gone, kept = piece.rows[touching], piece.rows[~touching]
        if not len(gone) or piece.moved >= _PEELED or float(area[gone].sum()) > most * piece.area:
            return False
        group = connected_sets(len(self.points), self.corners[kept])
        parts = [
            replace(piece, rows=rows, area=float(area[rows].sum()), region=object(), moved=piece.moved + 1)
            for g in range(int(group.max()) + 1)
            if len(rows := kept[group == g])
        ]
        self.pieces[k] = parts[0]
        self.pieces += parts[1:]
        self.stay[len(self.pieces)] = failure.refusal.what
        self.pieces.append(Piece(None, gone, float(area[gone].sum())))
        return True


def pieces_of(
    points: Floats, corners: Ints, patches: Sequence[Patch], free: bool, within: float | None = None
) -> tuple[Floats, Ints, list[Piece]]:
    """What hangs together of each patch; where faces may be free-form, what bends too far for one cut into parts that
    do not, with triangles divided where it is cut. `within`: creases part it, too, and parts are so small that each
    comes so near (mm) to a face of its own."""
    label, of = np.full(len(corners), -1, dtype=np.int64), list[Patch]()
    for patch in patches:
        if patch.surface is None and within is not None:
            group = by_creases(points, corners[patch.rows])
        else:
            group = connected_sets(len(points), corners[patch.rows])
        label[patch.rows] = len(of) + group
        of += [patch] * (int(group.max()) + 1)
    for k, patch in enumerate(list(of)) if free else ():
        if patch.surface is None:
            told = None if within is None else partial(fails, allowed=within)
            points, corners, parent, part = sliced(points, corners, np.flatnonzero(label == k), told)
            label = np.where(part > 0, len(of) - 1 + part, label[parent])
            of += [patch] * max(int(part.max()), 0)
    area = triangle_areas(points, corners)
    return (
        points,
        corners,
        [
            Piece(patch.surface, rows, float(area[rows].sum()), patch.off)
            for patch, rows in zip(of, rows_of(label, len(of)), strict=True)
            if len(rows)
        ],
    )
