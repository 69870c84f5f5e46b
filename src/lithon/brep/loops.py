"""Loops in the flat: tracing them from coedges, and grouping them into faces."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Sequence

import numpy as np
import shapely

from lithon.arrays import Floats, cross_product, unit
from lithon.brep.charts import chart_for
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Coedge, Loop, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.charts import Chart, unrolled
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Surface
from lithon.geometry.tips import facing


def trace(coedges: Sequence[Coedge], surface: Surface, along: bool) -> list[Loop]:
    """Join coedges end to start into loops. Where several leave a vertex, the sharpest left turn is
    taken, so that loops touching at a point stay apart."""
    loops: list[Loop] = [(c,) for c in coedges if c.edge.ring]
    leaving: dict[Vertex, list[Coedge]] = defaultdict(list)
    for c in coedges:
        if c.first is not None:
            leaving[c.first].append(c)
    while any(leaving.values()):
        start = next(cs for cs in leaving.values() if cs)[0]
        leaving[_first(start)].remove(start)
        loop = [start]
        while True:
            at = loop[-1].last
            assert at is not None
            left = leaving.get(at, [])
            choices = [*left, start] if at is start.first else left
            if not choices:
                raise Refusal("a cut outline does not close", where=spot(at.point))
            pick = choices[0] if len(choices) == 1 else _leftmost(loop[-1], choices, surface, along)
            if pick is start:
                break
            left.remove(pick)
            loop.append(pick)
        loops += _apart(loop)
    return loops


def _apart(loop: list[Coedge]) -> list[Loop]:
    """A walk that comes through a vertex twice, as loops that only touch there."""
    out: list[Loop] = []
    stack: list[Coedge] = []
    seen: dict[Vertex, int] = {}
    for c in loop:
        vertex = _first(c)
        if vertex in seen:
            k = seen[vertex]
            out.append(tuple(stack[k:]))
            for gone in stack[k:]:
                del seen[_first(gone)]
            del stack[k:]
        seen[vertex] = len(stack)
        stack.append(c)
    out.append(tuple(stack))
    # Where only an edge walked both ways is left over, it is a slit between them: the walk stays whole.
    return [tuple(loop)] if any(len({c.edge for c in part}) < len(part) for part in out) else out


def _first(coedge: Coedge) -> Vertex:
    assert coedge.first is not None
    return coedge.first


def _leftmost(arriving: Coedge, choices: list[Coedge], surface: Surface, along: bool) -> Coedge:
    at = _first(choices[0]).point
    # Chords of one length instead of tangents: edges that leave in one direction part by their curvature.
    step = 0.1 * min(c.edge.length for c in (arriving, *choices))
    if step <= 0.0:
        raise Refusal(
            "an edge would be drawn together into a point", where=spot(at),
            remedy="a smaller gap, or clear the short edges there first",
        )  # fmt: skip

    normal = unit(facing(surface, at, 1e-3 * step)) * (1.0 if along else -1.0)

    def chord(c: Coedge, from_end: bool) -> Floats:
        """As it is seen along the normal: at the tip of a cone all edges lead down."""
        share = step / c.edge.length
        out = c.edge.at(1.0 - share if c.forward == from_end else share) - at
        return np.asarray(out - float(out @ normal) * normal)

    back = chord(arriving, True)

    def turn(c: Coedge) -> float:
        out = chord(c, False)
        angle = np.arctan2(float(cross_product(back, out) @ normal), float(back @ out))
        return float(np.mod(angle, 2.0 * np.pi))

    # Counted counter-clockwise from where we came, the largest angle keeps the face tightest on the left.
    return max(choices, key=turn)


def flat_loop(loop: Loop, chart: Chart, along: bool) -> tuple[Floats, float]:
    """Unwrapped flat points (n,2), mirrored where the face runs against its surface, and the advance."""
    parts = []
    for c in loop:
        points = edge_points(c.edge)[1]
        points = points if c.forward else points[::-1]
        parts.append(points if c.edge.ring else points[:-1])
    flat = chart.flat(np.concatenate(parts)) * np.array([1.0 if along else -1.0, 1.0])
    advance = 0.0
    for k, period in enumerate((chart.flat_period, getattr(chart, "second_period", None))):
        if period is not None:
            flat[:, k], around = unrolled(flat[:, k], period)
            advance = advance if k else period * around
    return flat, advance


def group(loops: Sequence[Loop], surface: Surface, along: bool) -> list[tuple[Loop, ...]]:
    """Sort loops into faces: each outline with the holes inside it; pairs that go around together."""
    chart = chart_for(surface, loops, along)
    flats = [flat_loop(loop, chart, along) for loop in loops]
    period = chart.flat_period or 0.0
    bottoms = [k for k, (_, adv) in enumerate(flats) if adv > 0.5 * period > 0.0]
    tops = [k for k, (_, adv) in enumerate(flats) if adv < -0.5 * period < 0.0]
    plain = [k for k in range(len(loops)) if k not in bottoms and k not in tops]
    if len(bottoms) != len(tops):
        raise Refusal("a face that goes around would be open at one end", where=_place(loops[(bottoms + tops)[0]]))

    def height(k: int) -> float:
        return float(flats[k][0][:, 1].mean())

    second = getattr(chart, "second_period", None)
    faces: list[list[int]] = []
    left = list(tops)
    for k in sorted(bottoms, key=height):
        # A band reaches from its lower outline up to the next upper one, over the period on a torus.
        free = [t for t in left if not _beside(loops[k], loops[t])] or left
        rise = {t: height(t) - height(k) for t in free}
        if second is not None:
            rise = {t: float(np.mod(r, second)) for t, r in rise.items()}
        above = {t: r for t, r in rise.items() if r > 0.0} or {t: abs(r) for t, r in rise.items()}
        top = min(above, key=lambda t: above[t])
        left.remove(top)
        faces.append([k, top])
    outers = [k for k in plain if signed_area(flats[k][0]) > 0.0]
    shapes = {k: shapely.Polygon(flats[k][0]).buffer(0.0) for k in outers}
    groups: dict[int, list[int]] = {k: [k] for k in outers}
    far: list[int] = []
    for k in plain:
        if k in groups:
            continue
        home = _home(flats[k][0], {o: shapes[o] for o in outers if not _beside(loops[k], loops[o])}, period, second)
        if home is not None:
            groups[home].append(k)
            continue
        if isinstance(surface, Sphere) or (isinstance(surface, Torus) and not faces):
            far.append(k)  # it bounds the face around the chart's own far pole, or all of a ring but patches
            continue
        if not faces:
            raise Refusal("a hole's outline lies in no face", where=_place(loops[k]))

        def over(outline: int, at: Floats) -> float:
            """How far the point lies above an outline that goes around, over the period on a torus."""
            flat = flats[outline][0]
            if second is None:  # it may turn back on its way, and stand at several heights there
                return 1.0 if _is_above(at, flat, flats[outline][1]) else -1.0
            away = flat[:, 0] - at[0]
            rise = float(at[1] - flat[np.abs(away - period * np.round(away / period)).argmin(), 1])
            return float(np.mod(rise, second))

        spots = flats[k][0][:: 1 + len(flats[k][0]) // 8]  # some of them may lie on an outline that it touches
        held = [sum(_between(over(f[0], p), over(f[1], p), second) for p in spots) for f in faces]
        faces[int(np.argmax(held))].append(k)
    return [tuple(loops[k] for k in f) for f in (*faces, *groups.values(), *([far] if far else []))]


def _is_above(at: Floats, flat: Floats, advance: float) -> bool:
    """Whether a point (2,) lies above an outline (n,2) that goes around once: straight below it passes it an odd number
    of times."""
    x = np.append(flat[:, 0], flat[0, 0] + advance)
    y = np.append(flat[:, 1], flat[0, 1])
    period, passed = abs(advance), 0
    for turn in range(int(np.floor((x.min() - at[0]) / period)), int(np.ceil((x.max() - at[0]) / period)) + 1):
        here = at[0] + turn * period
        k = np.flatnonzero((x[:-1] <= here) != (x[1:] <= here))
        height = y[k] + (here - x[k]) / (x[k + 1] - x[k]) * (y[k + 1] - y[k])
        passed += int((height < at[1]).sum())
    return passed % 2 == 1


def _between(over_low: float, over_high: float, period: float | None) -> bool:
    """Whether what lies so far above the lower and the upper end of a band lies in it; where heights repeat, what is
    above the upper end comes to the lower one first when it goes on upwards, unless it lies between them."""
    if period is None:
        return over_low >= -1e-9 and over_high <= 1e-9
    return over_low < over_high


def _beside(hole: Loop, outline: Loop) -> bool:
    """Whether two loops walk an edge in opposite ways: then they bound different faces."""
    runs = {(c.edge, not c.forward) for c in hole}
    return any((c.edge, c.forward) in runs for c in outline)


def _home(flat: Floats, shapes: dict[int, shapely.Geometry], period: float, second: float | None) -> int | None:
    """The smallest outline that holds most of a hole's points."""
    best: int | None = None
    shifts = (0.0,) if not period else (0.0, period, -period, 2.0 * period, -2.0 * period)
    rises = (0.0,) if not second else (0.0, second, -second)
    for k, shape in shapes.items():
        for s, rise in itertools.product(shifts, rises):
            held = float(shapely.intersects_xy(shape, flat[:, 0] + s, flat[:, 1] + rise).mean())
            if held > 0.5 and (best is None or shape.area < shapes[best].area):
                best = k
    return best


def signed_area(flat: Floats) -> float:
    x, y = flat[:, 0], flat[:, 1]
    return 0.5 * float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())


def _place(loop: Loop) -> str:
    return spot(loop[0].edge.at(0.0))


def walks(free: list[Coedge]) -> list[Loop]:
    """Coedges in loops; chains that do not come back to their start are left out."""
    left = dict.fromkeys(free)
    out: list[Loop] = []
    while left:
        first = next(iter(left))
        del left[first]
        walk = [first]
        while not first.edge.ring and walk[-1].last is not first.first:
            following = next((c for c in left if c.first is walk[-1].last), None)
            if following is None:
                break
            del left[following]
            walk.append(following)
        if first.edge.ring or walk[-1].last is first.first:
            out.append(tuple(walk))
    return out
