"""Where a face that goes all the way round is cut open: straight from one end to the other where its holes leave room,
else on a bent way between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy
import shapely
from numpy.typing import NDArray

from lithon.arrays import Bools, Floats, Ints, run_along
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
    run = run_along(path)
    at = np.asarray(share) * run[-1]
    return np.stack([np.interp(at, run, path[:, k]) for k in (0, 1)], axis=-1)


def legs_shared(path: Floats, counts: Ints) -> Floats:
    """The shares of a polyline's (k,2) length at which each leg is cut into so many pieces (k-1,), its corners among
    them, its ends not."""
    run = run_along(path)
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
    """A way between the holes, the shortest where what is wide counts for less: within one period, where it meets none
    of its own copies, or, where there is none, the shortest of all. `walls`: all loops and their copies."""
    beside = period * round(float(low[:, 0].mean() - high[:, 0].mean()) / period)
    highs = np.concatenate([high + [beside + k * period, 0.0] for k in range(2, -3, -1)])
    lows = np.concatenate([low + [k * period, 0.0] for k in range(-2, 3)])
    ways = _Ways.through(_room(np.concatenate([lows, highs]), holes, float(low[:, 0].mean()), period))
    starts, goals = ways.nodes(low), ways.nodes(highs)
    row, col, cost = ways.links(list(starts), list(goals))
    within = np.abs(ways.station[:, 0] - low[:, 0].mean()) <= 0.5 * period
    for kept in (within[row] & within[col], np.ones(len(row), dtype=bool)):
        many = len(ways.station)
        graph = scipy.sparse.coo_array((cost[kept], (row[kept], col[kept])), shape=(many, many)).tocsr()
        way = _shortest(graph, list(starts), list(goals))
        if way:
            path = _straightened(ways.station[way], ways.wide[way[1:-1]], walls)
            copies = [shapely.LineString(path + [k * period, 0.0]) for k in range(1, 4)]
            if not shapely.intersects(shapely.LineString(path), copies).any():
                return starts[way[0]], goals[way[-1]] % len(high), path[1:-1] - path[0]
    return None


def _room(outline: Floats, holes: list[Floats], middle: float, period: float) -> shapely.Geometry:
    """What an outline (n,2) of some periods encloses besides the holes' copies."""
    whole = shapely.Polygon(outline)
    copies = []
    for hole in holes:
        near = period * round((middle - float(hole[:, 0].mean())) / period)
        copies += [shapely.Polygon(hole + [near + k * period, 0.0]) for k in range(-3, 4)]
    return (whole if whole.is_valid else shapely.make_valid(whole)).difference(shapely.union_all(copies))


@dataclass(frozen=True, slots=True, eq=False)
class _Ways:
    """Triangles (m,3) of a room. A way through them passes from middle to middle of the sides between two of them, and
    starts and ends at corners: its stations (n,2) are the sides, so `wide` (s,), and then the corners."""

    triangles: Ints
    side_of: Ints
    open: Bools
    wide: Floats
    station: Floats

    @staticmethod
    def through(room: shapely.Geometry) -> _Ways:
        corners = shapely.get_coordinates(shapely.constrained_delaunay_triangles(room)).reshape(-1, 4, 2)[:, :3]
        places, number = np.unique(corners.reshape(-1, 2), axis=0, return_inverse=True)
        triangles = number.reshape(-1, 3)
        ends = np.sort(np.stack([triangles, np.roll(triangles, -1, axis=1)], axis=2).reshape(-1, 2), axis=1)
        sides, side_of, count = np.unique(ends, axis=0, return_inverse=True, return_counts=True)
        wide = np.hypot(*(places[sides[:, 1]] - places[sides[:, 0]]).T)
        # A triangle's k-th side lies between its k-th corner and the next.
        return _Ways(
            triangles, side_of.reshape(-1, 3), count == 2, wide, np.vstack([places[sides].mean(axis=1), places])
        )

    def nodes(self, points: Floats) -> dict[int, int]:
        """The stations at points (n,2), with their places in these."""
        first = len(self.wide)
        at = {(x, y): k for k, (x, y) in enumerate(self.station[first:].tolist(), first)}
        return {at[x, y]: k for k, (x, y) in enumerate(points.tolist()) if (x, y) in at}

    def links(self, starts: list[int], goals: list[int]) -> tuple[Ints, Ints, Floats]:
        """From which station to which a way may go, and what each step costs: its length over the room that it has."""
        corner = len(self.wide) + self.triangles
        is_start, is_goal = np.isin(corner, starts), np.isin(corner, goals)
        links: list[tuple[Ints, Ints]] = []
        for k in range(3):
            s, t = self.side_of[:, k], self.side_of[:, (k + 1) % 3]  # the second is across from the k-th corner
            through = self.open[s] & self.open[t]
            links += [(s[through], t[through]), (t[through], s[through])]
            first, last = is_start[:, k] & self.open[t], is_goal[:, k] & self.open[t]
            links += [(corner[first, k], t[first]), (t[last], corner[last, k])]
        row, col = (np.concatenate(x) for x in zip(*links, strict=True))
        room = np.append(self.wide, np.full(len(self.station) - len(self.wide), np.inf))
        length = np.hypot(*(self.station[row] - self.station[col]).T)
        return row, col, length / np.minimum(room[row], room[col])


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
