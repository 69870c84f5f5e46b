"""Lines drawn by hand over triangles: what they part, and what lies under them."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.cleaning import side_pairs
from lithon.errors import Refusal, spot
from lithon.mend.links import flood, lists

#: Sides that lie so many times their own length off the line are twice, five times, ... as dear on the way along it.
_ASTRAY = 0.5
#: A line whose ends are no farther apart than so many sides goes round.
_CLOSED = 2.0
#: So many places of a line are looked at.
_PLACES = 400


def along(line: Floats) -> Floats:
    """Places (k,3) along a line (n,3), evenly, its ends among them."""
    step = np.linalg.norm(np.diff(line, axis=0), axis=1)
    at = np.append(0.0, np.cumsum(step))
    if len(line) < 2 or at[-1] <= 0.0:
        return line[:1]
    t = np.linspace(0.0, at[-1], _PLACES)
    return np.stack([np.interp(t, at, line[:, k]) for k in range(3)], axis=1)


def parted_by(points: Floats, corners: Ints, rows: Ints, line: Floats) -> list[Ints]:
    """What a line (n,3) over some triangles (rows) parts them into: where it runs from border to border, or round, cut
    along the sides that lie nearest to it; an end within them is led on to the border. Itself where it parts nothing.

    The way along it is the shortest (Dijkstra) where sides off the line are longer than they are.
    """
    own = corners[rows]
    i, j, _ = side_pairs(own, len(points))
    apart = (own[i][:, :, None] == own[j][:, None, :]).any(axis=2).argmin(axis=1)
    between = np.stack([own[i, apart - 1], own[i, apart - 2]], axis=1)
    every = np.sort(own[:, [[0, 1], [1, 2], [2, 0]]].reshape(-1, 2), axis=1)
    once, count = np.unique(every, axis=0, return_counts=True)
    rim = np.unique(once[count == 1])
    used = np.unique(own)
    number = np.full(len(points), -1, dtype=np.int64)
    number[used] = np.arange(len(used))
    a, b = points[once[:, 0]], points[once[:, 1]]
    long = np.linalg.norm(b - a, axis=1)
    scale = float(np.median(long))
    places = along(line)
    off = scipy.spatial.cKDTree(places).query(0.5 * (a + b))[0]
    dear = long * (1.0 + (off / (_ASTRAY * scale)) ** 2)
    heads, tails = number[once[:, 0]], number[once[:, 1]]
    graph = scipy.sparse.coo_array((dear, (heads, tails)), shape=(len(used), len(used))).tocsr()
    near = scipy.spatial.cKDTree(points[used]).query(places)[1]
    if float(np.linalg.norm(places[0] - places[-1])) <= _CLOSED * scale and len(np.unique(near)) > 3:
        third = len(near) // 3
        stops = [int(near[0]), int(near[third]), int(near[2 * third]), int(near[0])]
    else:
        stops = [int(near[0]), int(near[-1])]
        if len(rim):
            for end in (0, -1):
                reach = scipy.sparse.csgraph.dijkstra(graph, directed=False, indices=stops[end])[number[rim]]
                to = int(number[rim[int(reach.argmin())]])
                if to != stops[end] and np.isfinite(reach.min()):
                    stops.insert(0 if end == 0 else len(stops), to)
    cut: set[tuple[int, int]] = set()
    for one, two in pairwise(stops):
        before = scipy.sparse.csgraph.dijkstra(graph, directed=False, indices=one, return_predecessors=True)[1]
        here = two
        while here != one and before[here] >= 0:
            cut.add((min(here, int(before[here])), max(here, int(before[here]))))
            here = int(before[here])
    ends = np.sort(number[between], axis=1)
    open_ = np.array([(p, q) not in cut for p, q in ends.tolist()], dtype=bool)
    m = len(rows)
    joined = scipy.sparse.coo_array((np.ones(int(open_.sum())), (i[open_], j[open_])), shape=(m, m))
    count_, label = scipy.sparse.csgraph.connected_components(joined, directed=False)
    return [rows[label == k] for k in range(count_)]


def under(points: Floats, corners: Ints, line: Floats, width: float) -> Ints:
    """The triangles whose middle is no farther than a width (mm) from a line (n,3) drawn over them, and that hang
    together with those on it. Raises Refusal where the line is not on them."""
    places = along(line)
    middle = points[corners].mean(axis=1)
    tree = scipy.spatial.cKDTree(middle)
    nearest = np.unique(tree.query(places)[1])
    sides = np.linalg.norm(points[corners] - points[np.roll(corners, -1, axis=1)], axis=2).max(axis=1)
    gap = scipy.spatial.cKDTree(places).query(middle)[0]
    seeds = nearest[gap[nearest] <= np.maximum(width, sides[nearest])]
    if not len(seeds):
        raise Refusal("the line is not on the triangles", where=spot(places[0]), remedy="draw it on the body")
    mask: Bools = gap <= width
    mask[seeds] = True
    i, j, _ = side_pairs(corners, len(points))
    starts, other = lists(len(corners), i, j)
    out = np.zeros(len(corners), dtype=bool)
    for seed in seeds.tolist():
        if not out[seed]:
            out[flood(starts, other, mask, seed)] = True
    return np.flatnonzero(out)
