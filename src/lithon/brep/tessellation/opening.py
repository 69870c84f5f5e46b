"""Where a face that goes all the way round is cut open: straight from one end to the other where its holes leave room,
else on a bent way between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
import shapely
from numpy.typing import NDArray

from lithon.arrays import Bools, Floats, Ints
from lithon.errors import Refusal

#: A cut that passes a node of a loop within this share of its length touches it.
_CLEAR = 1e-6
#: A bent cut keeps this share of the room that its way has, where its bends are straightened.
_ROOM = 0.5
#: So many straight cuts are tried at once.
_AT_ONCE = 256
_STRAIGHT = np.zeros((0, 2))


@dataclass(frozen=True, slots=True, eq=False)
class Opening:
    """A cut from a node of the lower loop around to one of the upper: their keys, and the flat places (k,2) of its
    bends, seen from the lower end."""

    low: int
    high: int
    bends: Floats

    def path(self, low: Floats, high: Floats) -> Floats:
        """The corners (k+2,2) of the cut between its ends (2,) in the flat."""
        return np.vstack([low, low + self.bends, high])

    def shift(self, low: Floats, high: Floats, period: float) -> float:
        """What brings the upper end beside the cut's last bend: whole periods."""
        last = low + self.bends[-1] if len(self.bends) else low
        return -period * round(float(high[0] - last[0]) / period)


def along(path: Floats, share: Floats) -> Floats:
    """Points (n,2) of a polyline (k,2), each at a share (n,) of its length."""
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(path, axis=0).T))])
    at = np.asarray(share) * run[-1]
    return np.stack([np.interp(at, run, path[:, k]) for k in (0, 1)], axis=-1)


def legs_shared(path: Floats, counts: Ints) -> Floats:
    """The shares of a polyline's (k,2) length at which each leg is cut into so many pieces (k-1,), its corners among
    them, its ends not."""
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(path, axis=0).T))])
    run = run / max(float(run[-1]), 1e-300)
    steps = [np.linspace(a, b, n, endpoint=False) for a, b, n in zip(run[:-1], run[1:], counts.tolist(), strict=True)]
    return np.concatenate(steps)[1:]


def choose_cut(low: Floats, high: Floats, holes: list[Floats], period: float) -> tuple[int, int, Floats]:
    """Indices of the nodes on both loops (n,2), (m,2) between which a cut crosses nothing, and its bends (k,2), seen
    from its lower end: the shortest straight one, or a bent one.

    Raises Refusal where there is none.
    """
    gap = high[None, :, 0] - low[:, None, 0]
    turns = -np.round(gap / period)
    cost = np.hypot(gap + turns * period, high[None, :, 1] - low[:, None, 1])
    loops = [_closed(low, period), _closed(high, -period), *(np.vstack([h, h[:1]]) for h in holes)]
    a = np.concatenate([w[:-1] + [k * period, 0.0] for w in loops for k in (-2, -1, 0, 1, 2)])
    b = np.concatenate([w[1:] + [k * period, 0.0] for w in loops for k in (-2, -1, 0, 1, 2)])
    inner = a[len(a) - 5 * sum(map(len, holes)) :]
    order = np.argsort(cost, axis=None, kind="stable")
    order = order[: 50 * (len(low) + len(high))]
    touching: tuple[int, int] | None = None
    walls = _Walls(a, b)
    for block in np.split(order, np.arange(1, len(order), _AT_ONCE)):  # nearly always the first will do
        i, j = np.unravel_index(block, cost.shape)
        p, q = low[i], high[j] + np.stack([turns[i, j] * period, np.zeros(len(i))], axis=-1)
        for k in np.flatnonzero(~walls.crossed(p, q)).tolist():
            if not _touches(p[k], q[k], inner):
                return int(i[k]), int(j[k]), _STRAIGHT
            touching = touching or (int(i[k]), int(j[k]))
    if touching is not None:
        return *touching, _STRAIGHT
    bent = _bent(low, high, holes, period, walls)
    if bent is None:
        raise Refusal("a face that goes around cannot be cut open between its two ends")
    return bent


def _bent(
    low: Floats, high: Floats, holes: list[Floats], period: float, walls: _Walls
) -> tuple[int, int, Floats] | None:
    """A way between the holes, through the middles of the sides of triangles between them, the shortest where what is
    wide counts for less: within one period, where it meets none of its own copies, or, where there is none, the
    shortest of all. `walls`: all loops and their copies."""
    turns = np.arange(-2, 3) * period
    beside = period * round(float(low[:, 0].mean() - high[:, 0].mean()) / period)
    highs = np.concatenate([high + [t + beside, 0.0] for t in turns[::-1]])
    room = shapely.Polygon(np.concatenate([*(low + [t, 0.0] for t in turns), highs]))
    room = room if room.is_valid else shapely.make_valid(room)
    copies = []
    for hole in holes:
        near = period * round(float(low[:, 0].mean() - hole[:, 0].mean()) / period)
        copies += [shapely.Polygon(hole + [near + k * period, 0.0]) for k in range(-3, 4)]
    room = room.difference(shapely.union_all(copies))
    corners = shapely.get_coordinates(shapely.constrained_delaunay_triangles(room)).reshape(-1, 4, 2)[:, :3]
    places, number = np.unique(corners.reshape(-1, 2), axis=0, return_inverse=True)
    triangles = number.reshape(-1, 3)
    ends = np.sort(np.stack([triangles, np.roll(triangles, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
    sides, side_of, count = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
    side_of, open_ = (
        side_of.reshape(-1, 3),
        count == 2,
    )  # a triangle's k-th side is between its k-th corner and the next
    # Stations of a way are the sides between two triangles; it starts at a node below and ends at one above.
    wide = np.hypot(*(places[sides[:, 1]] - places[sides[:, 0]]).T)
    station = np.concatenate([places[sides].mean(axis=1), places])
    at = {(float(x), float(y)): k for k, (x, y) in enumerate(places)}
    starts = {at[x, y]: k for k, (x, y) in enumerate(low.tolist()) if (x, y) in at}
    goals = {at[x, y]: k % len(high) for k, (x, y) in enumerate(highs.tolist()) if (x, y) in at}
    is_start, is_goal = np.isin(triangles, list(starts)), np.isin(triangles, list(goals))
    links: list[tuple[Ints, Ints]] = []
    for k in range(3):
        s, t = side_of[:, k], side_of[:, (k + 1) % 3]  # the second is across from the first corner
        through = open_[s] & open_[t]
        links += [(s[through], t[through]), (t[through], s[through])]
        corner = len(sides) + triangles[:, k]
        first, last = is_start[:, k] & open_[t], is_goal[:, k] & open_[t]
        links += [(corner[first], t[first]), (t[last], corner[last])]
    row, col = (np.concatenate(x) for x in zip(*links, strict=True))
    least = np.minimum(*(np.append(wide, np.full(len(places), np.inf))[x] for x in (row, col)))
    cost = np.hypot(*(station[row] - station[col]).T) / least
    within = np.abs(station[:, 0] - low[:, 0].mean()) <= 0.5 * period
    for links_kept in (within[row] & within[col], np.ones(len(row), dtype=bool)):
        graph = scipy.sparse.coo_array(
            (cost[links_kept], (row[links_kept], col[links_kept])), shape=(len(station), len(station))
        ).tocsr()
        way = _shortest(graph, [len(sides) + k for k in starts], [len(sides) + k for k in goals])
        if way:
            path = _straightened(station[way], wide[way[1:-1]], walls)
            apart = [shapely.LineString(path + [k * period, 0.0]) for k in range(1, 4)]
            if not shapely.intersects(shapely.LineString(path), apart).any():
                return starts[way[0] - len(sides)], goals[way[-1] - len(sides)], path[1:-1] - path[0]
    return None


def _shortest(graph: scipy.sparse.csr_array, starts: list[int], goals: list[int]) -> list[int]:
    """The stations of the shortest way from any of some to any of others; none where there is no way."""
    if not starts or not goals:
        return []
    far, before, _ = scipy.sparse.csgraph.dijkstra(graph, indices=starts, return_predecessors=True, min_only=True)
    way = [min(goals, key=lambda k: far[k])]
    if not np.isfinite(far[way[0]]):
        return []
    while before[way[-1]] >= 0:
        way.append(int(before[way[-1]]))
    return way[::-1]


def _straightened(path: Floats, wide: Floats, walls: _Walls) -> Floats:
    """A path (k,2) with as few of its bends as it needs to keep away from walls by a share of the room that is `wide`
    (k-2,) at the bends left out."""
    kept = [0]
    while kept[-1] < len(path) - 1:
        k = kept[-1]
        ends = np.arange(len(path) - 1, k, -1)
        p, q = np.broadcast_to(path[k], (len(ends), 2)), path[ends]
        room = np.minimum.accumulate(np.append(wide[k:], np.inf))[ends - k - 2]  # at the bends between
        inner = shapely.linestrings(np.stack([p + 0.1 * (q - p), p + 0.9 * (q - p)], axis=1))
        fit = ~walls.crossed(p, q) & (walls.away(inner) >= 0.5 * _ROOM * room)
        fit[-1] = True  # the next bend
        kept.append(int(ends[fit.argmax()]))
    return path[kept]


class _Walls:
    """Segments a-b (n,2) that no cut may cross."""

    def __init__(self, a: Floats, b: Floats):
        self.a, self.b = a, b
        self.tree: shapely.STRtree | None = None

    def _found(self) -> shapely.STRtree:
        if self.tree is None:
            self.tree = shapely.STRtree(shapely.linestrings(np.stack([self.a, self.b], axis=1)))
        return self.tree

    def crossed(self, p: Floats, q: Floats) -> Bools:
        """Which of the segments p-q (m,2) properly cross or run into one."""
        if len(p) == 1:
            return np.array([_crosses(p, q, self.a, self.b).any()])
        row, wall = self._found().query(shapely.linestrings(np.stack([p, q], axis=1)))
        out = np.zeros(len(p), dtype=bool)
        out[row[_crosses(p[row], q[row], self.a[wall], self.b[wall])]] = True
        return out

    def away(self, lines: NDArray[np.object_]) -> Floats:
        """How far each of some lines (m,) is from the nearest."""
        (row, _), far = self._found().query_nearest(lines, return_distance=True, all_matches=False)
        out = np.full(len(lines), np.inf)
        out[row] = far
        return out


def _closed(loop: Floats, advance: float) -> Floats:
    return np.vstack([loop, loop[0] + [advance, 0.0]])


def _touches(p: Floats, q: Floats, points: Floats) -> bool:
    """Whether segment p-q passes so near to any of points (n,2) that rounding says on which side they are."""
    way = q - p
    size = float(way @ way)
    along = (points - p) @ way
    off = np.abs((points[:, 0] - p[0]) * way[1] - (points[:, 1] - p[1]) * way[0])
    return bool(((along > 0.0) & (along < size) & (off < _CLEAR * size)).any())


def _crosses(p: Floats, q: Floats, a: Floats, b: Floats) -> Bools:
    """Which segments p-q (n,2) properly cross or run into those a-b (n,2) beside them."""
    slack = (1e-9 * (np.abs(q - p).sum(axis=-1) + 1e-300)) ** 2
    inner_p, inner_q = p + 1e-6 * (q - p), q - 1e-6 * (q - p)

    def side(o: Floats, d: Floats, x: Floats) -> Floats:
        return np.asarray(
            (d[..., 0] - o[..., 0]) * (x[..., 1] - o[..., 1]) - (d[..., 1] - o[..., 1]) * (x[..., 0] - o[..., 0])
        )

    s1, s2 = side(inner_p, inner_q, a), side(inner_p, inner_q, b)
    s3, s4 = side(a, b, inner_p), side(a, b, inner_q)
    return np.asarray((s1 * s2 <= slack) & (s3 * s4 <= slack))
