"""Elements of a lattice that are moved and parted near what is to be brought into it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints
from lithon.mesh.recover import tet_faces, triple_keys
from lithon.mesh.stars import quality


class Elements:
    """Tetrahedra (m,4) of points (n,3), of which those at some nodes (`near` (n,)) can be moved and parted; none of
    them gets worse than `least`, as `stars.quality` judges it, where it was not before."""

    def __init__(self, points: Floats, tets: Ints, near: Bools, least: float):
        self.least = least
        self.nodes, self.count = len(points), len(tets)
        #: Every element with a node that is near, so that all around such a node are there.
        self.zone = np.flatnonzero(near[tets].any(axis=1))
        self.first = len(tets)
        room = 4 * int(near.sum()) + 64
        self.x = np.concatenate([points, np.zeros((room, 3))])
        self.near = np.concatenate([near, np.ones(room, dtype=np.bool_)])
        self.tets = np.concatenate([tets, np.zeros((8 * room, 4), dtype=np.int64)])
        self.at = defaultdict[int, set[int]](set)
        for t, corners in zip(self.zone.tolist(), tets[self.zone].tolist(), strict=True):
            for v in corners:
                self.at[v].add(t)

    @property
    def made(self) -> tuple[Floats, Ints]:
        """The points (n,3) and the tetrahedra (m,4) as they are now."""
        tets = self.tets[: self.count]
        return self.x[: self.nodes], tets[tets[:, 0] != tets[:, 1]]

    def around(self) -> Ints:
        """The tetrahedra (m,4) with a node that is near."""
        own = self.tets[np.concatenate([self.zone, np.arange(self.first, self.count)])]
        return np.asarray(own[own[:, 0] != own[:, 1]])

    def skin(self) -> Ints:
        """The triangles (m,3) of the skin whose nodes are near."""
        faces = tet_faces(self.around())
        faces = faces[self.near[faces].all(axis=1)]
        _, first, times = np.unique(triple_keys(faces, self.nodes), return_index=True, return_counts=True)
        return np.asarray(faces[first[times == 1]])

    def fits(self, rows: Ints) -> bool:
        return _worst(self.x, self.tets, rows) > self.least

    def move(self, node: int, to: Floats) -> bool:
        """Move a node where no element around it gets flat by that."""
        rows = np.fromiter(self.at[node], np.int64)
        was = self.x[node].copy()
        self.x[node] = to
        if self.fits(rows):
            return True
        self.x[node] = was
        return False

    def put(self, fresh: Sequence[int]) -> None:
        """Elements that are new, behind all others."""
        for t in fresh:
            for v in self.tets[t].tolist():
                self.at[v].add(t)
        self.count += len(fresh)

    def parted(self, corners: Sequence[int], spot: Floats) -> int | None:
        """A node on a side (2) or a triangle (3), at a place: each element there becomes one for each of its corners,
        with the node instead of that. None where an element would be flat."""
        rows = sorted(set.intersection(*(self.at[v] for v in corners)))
        n, node = len(rows), self.nodes
        if node >= len(self.x) or self.count + 2 * n > len(self.tets) or not rows:
            return None
        old = self.tets[rows].copy()
        self.x[node] = spot
        first, *others = corners
        self.tets[rows] = np.where(old == first, node, old)
        made = [(self.count + k * n, v) for k, v in enumerate(others)]
        for start, v in made:
            self.tets[start : start + n] = np.where(old == v, node, old)
        fresh = list(range(self.count, self.count + len(others) * n))
        if not self.fits(np.array([*rows, *fresh], dtype=np.int64)):
            self.tets[rows] = old
            return None
        self.nodes = node + 1
        self.at[first].difference_update(rows)
        self.at[node].update(rows)
        self.put(fresh)
        return node


@njit(cache=True)
def _worst(x: Floats, tets: Ints, rows: Ints) -> float:
    worst = 2.0
    for t in rows:
        worst = min(worst, quality(x, tets[t, 0], tets[t, 1], tets[t, 2], tets[t, 3]))
    return worst
