"""A face rolled out flat: its boundary nodes in the plane, unwrapped and, where it goes all the
way round, cut open once.

Shared by the tessellation for drawing and by the surface mesh, which differ only in how finely
edges are divided.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely

from lithon.arrays import Floats, Ints
from lithon.brep.charts import chart_of
from lithon.brep.tessellation.division import fresh_keys
from lithon.brep.tessellation.opening import Opening, along, choose_cut
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal, spot
from lithon.geometry.charts import Chart, unrolled

#: Keys (n,) and points (n,3) of an edge's nodes, from start to end; a ring's first is not repeated.
Divide = Callable[[Edge], tuple[Ints, Floats]]
#: Keys (k,) of the nodes wanted along a cut on a flat path (n,2), at its corners too, and how far along (k,) in 0..1.
CutNodes = Callable[[Floats, Face], tuple[Ints, Floats]]


@dataclass(frozen=True, slots=True, eq=False)
class Domain:
    """Boundary nodes of a face in its flat plane, counter-clockwise about the face's normal.

    keys (n,) node identities (a node of the cut appears twice, one in which loops touch once), flat (n,2),
    segments (k,2) rows of flat, `starts` where each loop's segments begin, mirror -1.0 where the flat first
    coordinate was turned over, `real` (k,) False on the cut.
    """

    keys: Ints
    flat: Floats
    segments: Ints
    starts: Ints
    real: Ints
    mirror: float
    chart: Chart
    #: The cut, where there is one.
    cut: Opening | None = None

    def polygon(self) -> shapely.Polygon:
        """The outline and its holes in the plane."""
        ends = np.append(self.starts[1:], len(self.segments))
        rings = [self.flat[self.segments[a:b, 0]] for a, b in zip(self.starts, ends, strict=True)]
        if min(len(ring) for ring in rings) < 3:
            raise Refusal("a boundary of a face encloses nothing", where=spot(self.surface_points(rings[0][:1])[0]))
        return shapely.Polygon(rings[0], rings[1:])

    def surface_points(self, flat: Floats) -> Floats:
        """The surface points (n,3) at flat points (n,2)."""
        return self.chart.point(flat * np.array([self.mirror, 1.0]))

    def flat_of(self, points: Floats) -> Floats:
        """Flat coordinates (n,2) of surface points (n,3), in the period that the outline covers."""
        flat = self.chart.flat(points) * np.array([self.mirror, 1.0])
        period = self.chart.flat_period
        if period is not None and len(flat):
            shape = shapely.Polygon(self.polygon().exterior)
            shapely.prepare(shape)
            base = np.round((shape.centroid.x - flat[:, 0]) / period)
            placed = np.zeros(len(flat), dtype=bool)
            out = flat.copy()
            for turn in (0, -1, 1, -2, 2):
                moved = flat[:, 0] + (base + turn) * period
                hit = ~placed & shapely.contains_xy(shape, moved, flat[:, 1])
                out[hit, 0] = moved[hit]
                placed |= hit
            flat = out
        return np.asarray(flat)


def flat_domain(face: Face, divide: Divide, cut_nodes: CutNodes | None = None, cut_at: Opening | None = None) -> Domain:
    """Roll out a face, cut open at `cut_at` where that is given.

    Raises Refusal where its loops cannot bound a region.
    """
    cut: Opening | None = None
    mirror = 1.0 if face.along else -1.0
    chart = chart_of(face)
    period = chart.flat_period
    loops = [_loop(face, chart, i, divide, mirror) for i in range(len(face.loops))]
    turns = [0 if period is None else round(loop[3] / period) for loop in loops]
    around = [k for k, turn in enumerate(turns) if turn != 0]
    if around:
        assert period is not None
        if len(around) != 2 or turns[around[0]] + turns[around[1]] != 0 or abs(turns[around[0]]) != 1:
            raise Refusal("a face goes around its axis but is not closed at both ends", where=_where(loops))
        bottom, top = sorted(around, key=lambda k: -turns[k])
        rest = [loops[k] for k in range(len(loops)) if k not in around]
        *outer, cut = _cut_open(face, loops[bottom], loops[top], rest, period, mirror, cut_nodes, cut_at)
        inner = rest
    else:
        if not loops:
            raise Refusal("a face has no boundary")
        areas = [_area(loop[2]) for loop in loops]
        k = int(np.argmax(areas))
        outer = [loops[k][0], loops[k][2], np.ones(len(loops[k][0]), dtype=np.int64)]
        inner = [loop for i, loop in enumerate(loops) if i != k]
    keys, flats, segments, real = [outer[0]], [outer[1]], [_ring(0, len(outer[0]))], [outer[2]]
    base = len(outer[0])
    shape = shapely.Polygon(outer[1]) if period is not None and inner else None
    for loop in inner:
        flat = loop[2] if shape is None else _shift_into(loop[2], shape, float(period or 0.0))
        keys.append(loop[0])
        flats.append(flat)
        segments.append(_ring(base, len(flat)))
        real.append(np.ones(len(flat), dtype=np.int64))
        base += len(flat)
    starts = np.cumsum([0, *(len(s) for s in segments[:-1])])
    nodes, every, sides = _touching(np.concatenate(keys), np.concatenate(flats), np.concatenate(segments))
    return Domain(nodes, every, sides, starts, np.concatenate(real), mirror, chart, cut)


def _touching(keys: Ints, flat: Floats, segments: Ints) -> tuple[Ints, Floats, Ints]:
    """With one node where loops touch each other in a vertex; both ends of a cut lie a period apart."""
    _, first, again = np.unique(keys, return_index=True, return_inverse=True)
    to = first[again]
    twice = np.flatnonzero(to != np.arange(len(keys)))
    if not len(twice):
        return keys, flat, segments
    near = np.abs(flat[twice] - flat[to[twice]]).max(axis=1) <= 1e-9 * np.abs(flat).max()
    target = np.arange(len(keys))
    target[twice[near]] = to[twice[near]]
    kept, place = np.unique(target, return_inverse=True)
    return keys[kept], flat[kept], place[segments]


_FlatLoop = tuple[Ints, Floats, Floats, float]


def _loop(face: Face, chart: Chart, index: int, divide: Divide, mirror: float) -> _FlatLoop:
    """Keys, points, unwrapped flat coordinates and the total advance around the period."""
    keys, points = [], []
    for coedge in face.loops[index]:
        k, p = divide(coedge.edge)
        if not coedge.forward:
            k, p = k[::-1], p[::-1]
        if not coedge.edge.ring:
            k, p = k[:-1], p[:-1]
        keys.append(k)
        points.append(p)
    key, point = np.concatenate(keys), np.concatenate(points)
    flat = chart.flat(point) * np.array([mirror, 1.0])
    advance = 0.0
    period = chart.flat_period
    if period is not None:
        flat[:, 0], around = unrolled(flat[:, 0], period)
        advance = period * around
    return key, point, flat, advance


def _ring(base: int, n: int) -> Ints:
    k = np.arange(n, dtype=np.int64)
    return np.stack([base + k, base + (k + 1) % n], axis=1)


def _area(flat: Floats) -> float:
    x, y = flat[:, 0], flat[:, 1]
    return 0.5 * float(x[:-1] @ y[1:] - x[1:] @ y[:-1] + x[-1] * y[0] - x[0] * y[-1])


def _where(loops: list[_FlatLoop]) -> str:
    return spot(loops[0][1].mean(axis=0)) if loops else ""


def _shift_into(flat: Floats, shape: shapely.Polygon, period: float) -> Floats:
    best, share = flat, -1.0
    middle = shape.centroid.x - flat[:, 0].mean()
    for turn in round(middle / period) + np.array([0, -1, 1]):
        moved = flat + np.array([turn * period, 0.0])
        inside = float(shapely.contains_xy(shape, moved[:, 0], moved[:, 1]).mean())
        if inside > share:
            best, share = moved, inside
    return best


def _cut_open(
    face: Face,
    bottom: _FlatLoop,
    top: _FlatLoop,
    holes: list[_FlatLoop],
    period: float,
    mirror: float,
    cut_nodes: CutNodes | None,
    cut_at: Opening | None,
) -> tuple[Ints, Floats, Ints, Opening]:
    """One closed outline from the two loops around: along the bottom, up a cut, back along the top, down the cut."""
    flip = np.array([mirror, 1.0])
    if cut_at is None:
        i, j, bends = choose_cut(bottom[2], top[2], [h[2] for h in holes], period)
        cut_at = Opening(int(bottom[0][i]), int(top[0][j]), bends * flip)
    else:
        i, j = int(np.flatnonzero(bottom[0] == cut_at.low)[0]), int(np.flatnonzero(top[0] == cut_at.high)[0])
    shift = cut_at.shift(bottom[2][i] * flip, top[2][j] * flip, period) * mirror
    low = np.roll(bottom[2], -i, axis=0)
    low[len(low) - i :, 0] += period if i else 0.0
    high = np.roll(top[2], -j, axis=0)
    high[len(high) - j :, 0] -= period if j else 0.0
    high[:, 0] += shift + period
    low = np.vstack([low, low[0] + [period, 0.0]])
    high = np.vstack([high, high[0] - [period, 0.0]])
    low_keys = np.append(np.roll(bottom[0], -i), bottom[0][i])
    high_keys = np.append(np.roll(top[0], -j), top[0][j])
    up_keys, up = np.zeros(0, dtype=np.int64), np.zeros((0, 2))
    path = cut_at.path(low[-1] * flip, high[0] * flip)
    if cut_nodes is not None:
        up_keys, share = cut_nodes(path, face)
        up = along(path, share) * flip
    elif len(cut_at.bends):
        up_keys, up = fresh_keys(len(cut_at.bends)), path[1:-1] * flip
    flat = np.vstack([low, up, high, (up - [period, 0.0])[::-1]])
    keys = np.concatenate([low_keys, up_keys, high_keys, up_keys[::-1]])
    real = np.ones(len(keys), dtype=np.int64)
    real[len(low) - 1 : len(low) + len(up)] = 0
    real[len(low) + len(up) + len(high) - 1 :] = 0
    return keys, flat, real, cut_at
