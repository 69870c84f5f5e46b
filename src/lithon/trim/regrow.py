"""Regrowing a wound among several neighbours: which of them meet inside it is a triangulation of the rim.

The edges between consecutive neighbours are run on; each triangle of the rim's polygon is a corner where three faces
meet, each diagonal a new edge between two.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.meet import cross, meet
from lithon.geometry.surfaces import Surface
from lithon.progress import pulse
from lithon.trim.running import bounded, extended, reach

_MOST_NEIGHBOURS = 8


@dataclass(frozen=True, slots=True, eq=False)
class Neighbour:
    """One neighbour of the wound: its use, the rim coedges as its loop walks them, and the vertex at which the walk
    around the wound comes to the next one. A face that only touches the rim, at that vertex, has no coedges."""

    use: FaceUse
    rim: tuple[Coedge, ...]
    after: Vertex | None = None


def regrown(body: Body, entries: list[Neighbour], links: list[Link], corners_of: Corners) -> Iterator[Body]:
    """All ways to close, the nearest first; neighbours and links as `neighbours` gives them."""
    here, tolerance = corners_of.here, corners_of.tolerance
    k = len(entries)
    if k > _MOST_NEIGHBOURS:
        raise Refusal(
            f"the wound has {k} neighbours, more than {_MOST_NEIGHBOURS}", where=spot(here), remedy="clear it in parts"
        )
    if k == 2:
        made = _joined(body, entries, links, tolerance)
        if made is not None:
            yield made
        return
    ranked: list[tuple[float, Body]] = []
    apart: Counter[int] = Counter()
    often = {face for face, n in Counter(e.use.face for e in entries).items() if n > 1}

    def corner(t: Triangle) -> Vertex | None:
        faces = [entries[i].use.face for i in t]
        # One that is beside the wound twice meets the same others at both ends: each time where it is run on.
        at = [links[i][1].point for i, j in (*pairwise(t), (t[2], t[0])) if (j - i) % k == 1]
        near = np.mean(at, axis=0) if at and not often.isdisjoint(faces) else None
        return corners_of.meet([face.surface for face in faces], near)

    for n, triangles in enumerate(_triangulations(k)):
        pulse(f"way {n + 1} to close a wound between {k} faces")
        try:
            met = [corner(t) for t in triangles]
            corners = [c for c in met if c is not None]
            if len(corners) < len(met):
                apart.update(i for t, c in zip(triangles, met, strict=True) if c is None for i in t)
                continue
            reach = max(float(np.linalg.norm(c.point - here)) for c in corners)
            ranked.append((reach, _rebuilt(body, entries, links, triangles, corners, tolerance)))
        except Refusal:
            continue
    if not ranked and apart:
        face = entries[max(apart, key=apart.__getitem__)].use.face
        raise Refusal(
            f"the neighbours do not meet again over the wound: the {face.surface.kind} face beside it is in the way",
            where=spot(here), remedy="choose that face as well, or leave what it stands beside",
            entities=(face,),
        )  # fmt: skip
    for _, made in sorted(ranked, key=lambda entry: entry[0]):
        yield made


#: The edge between two neighbours in turn that ends at the wound, if there is one, and the vertex where it does.
Link = tuple[Edge | None, Vertex]


def neighbours(
    adj: Adjacency, gone: set[Face], entries: list[Neighbour], stay: bool
) -> tuple[list[Neighbour], list[Link]]:
    """All neighbours in turn and the links from each to the next. Where more than three faces meet at the rim, either
    the vertex stays and a new edge begins there, or the faces that only touch the rim are neighbours as well."""
    out: list[Neighbour] = []
    links: list[Link] = []
    uses = {use.face: use for use in adj.body.uses}
    rim = {c.edge for e in entries for c in e.rim}
    for k, entry in enumerate(entries):
        last, at, goal = entry, entry.after, entries[(k + 1) % len(entries)].use.face
        assert at is not None
        passed: set[Edge] = set()
        outside = [e for e in adj.at_vertex[at] if e not in rim and not any(u.face in gone for u, _ in adj.uses[e])]
        if stay and len(outside) > 1:
            out.append(entry)
            links.append((None, at))
            continue
        for _ in range(_MOST_NEIGHBOURS):
            out.append(last)
            own = set(last.use.face.edges())
            onward = [e for e in outside if e in own and e not in passed]
            if len(onward) != 1 or len(adj.uses[onward[0]]) != 2:
                raise Refusal(
                    "two neighbours of the wound have no edge to run on", where=spot(at.point),
                    remedy="choose the faces beside it as well",
                )  # fmt: skip
            passed.add(onward[0])
            links.append((onward[0], at))
            across = adj.across(last.use.face, onward[0])
            if across is goal:
                break
            last = Neighbour(uses[across], (), at)
        else:
            raise Refusal("too many faces meet at the rim of the wound", where=spot(at.point),
                          remedy="choose the faces beside it as well")  # fmt: skip
    return out, links


Triangle = tuple[int, int, int]
#: Where a numeric intersection starts looking around a wound (mm).
_AROUND = np.concatenate([np.zeros((1, 3)), np.eye(3), -np.eye(3)])


def _triangulations(k: int) -> Iterator[list[Triangle]]:
    """All triangulations of a polygon with corners 0..k-1."""

    def over(i: int, j: int) -> Iterator[list[Triangle]]:
        if j - i < 2:
            yield []
            return
        for m in range(i + 1, j):
            for left in over(i, m):
                for right in over(m, j):
                    yield [*left, (i, m, j), *right]

    yield from over(0, k - 1)


class Corners:
    """Where three surfaces meet, nearest to a wound; found once for all that ask."""

    def __init__(self, here: Floats, tolerance: float):
        self.here, self.tolerance = here, tolerance
        self._curves: dict[tuple[int, int], list[Curve]] = {}
        self._parted: dict[tuple[int, int], list[Curve]] = {}
        self._found: dict[tuple[object, ...], Floats | None] = {}

    def learn(self, entries: list[Neighbour], links: list[Link]) -> None:
        """Neighbours that lie on one surface meet where they were parted: their link says where that is."""
        for k, (edge, _) in enumerate(links):
            a, b = entries[k].use.face.surface, entries[(k + 1) % len(entries)].use.face.surface
            if edge is not None and a.same_as(b, self.tolerance, 1e3):
                for key in ((id(a), id(b)), (id(b), id(a))):
                    self._parted.setdefault(key, []).append(edge.curve)

    def meet(self, three: list[Surface], near: Floats | None = None) -> Vertex | None:
        """The corner, nearest to a point (3,) where one is given; None where they do not meet."""
        # The body that is cleared holds on to the surfaces.
        key = (*(id(s) for s in three), None if near is None else tuple(near.tolist()))
        if key not in self._found:
            self._found[key] = self._nearest(three, self.here if near is None else near)
        at = self._found[key]
        return None if at is None else vertex_at(at)

    def _nearest(self, three: list[Surface], here: Floats) -> Floats | None:
        best: Floats | None = None
        pairs = ((0, 1, 2), (1, 2, 0), (0, 2, 1))
        for a, b, c in sorted(pairs, key=lambda p: (id(three[p[0]]), id(three[p[1]])) not in self._parted):
            for curve in self._meet(three[a], three[b]):
                low, high = reach(curve)
                for p in curve.point(cross(curve, three[c], low, high, self.tolerance)):
                    if best is None or np.linalg.norm(p - here) < np.linalg.norm(best - here):
                        best = p
            if best is not None:
                return best
        return None

    def _meet(self, a: Surface, b: Surface) -> list[Curve]:
        key = id(a), id(b)
        if key not in self._curves:
            if a.same_as(b, self.tolerance, 1e3):
                self._curves[key] = self._parted.get(key, [])
            else:
                self._curves[key] = meet(a, b, self.tolerance, self.here[None] + _AROUND)
        return self._curves[key]


def _between(a: Surface, b: Surface, start: Vertex, end: Vertex, tolerance: float) -> Edge:
    """A new edge between two corners along where two surfaces meet, the short way round."""
    for curve in meet(a, b, tolerance, np.array([start.point, 0.5 * (start.point + end.point), end.point])):
        t = curve.parameter(np.array([start.point, end.point]))
        if float(np.linalg.norm(curve.point(t) - [start.point, end.point], axis=1).max()) > 20.0 * tolerance:
            continue
        return bounded(curve, float(t[0]), float(t[1]), start, end)
    raise Refusal("two neighbours do not meet along a curve between the new corners", where=spot(start.point))


def _rebuilt(
    body: Body,
    entries: list[Neighbour],
    links: list[Link],
    triangles: list[Triangle],
    corners: list[Vertex],
    tolerance: float,
) -> Body:
    """The body with the wound closed by this triangulation."""
    k = len(entries)
    side_corner: dict[int, Vertex] = {}
    diagonal: dict[tuple[int, int], list[int]] = {}
    for n, t in enumerate(triangles):
        for i, j in ((t[0], t[1]), (t[1], t[2]), (t[0], t[2])):
            if j - i == 1:
                side_corner[i] = corners[n]
            elif i == 0 and j == k - 1:
                side_corner[k - 1] = corners[n]
            else:
                diagonal.setdefault((i, j), []).append(n)
    moves: dict[Edge, list[tuple[Vertex, Vertex]]] = {}
    new: dict[tuple[int, int], Edge] = {}
    for i, (link, vertex) in enumerate(links):
        if link is not None:
            moves.setdefault(link, []).append((vertex, side_corner[i]))
        else:
            a, b = entries[i].use.face, entries[(i + 1) % k].use.face
            new[(i, (i + 1) % k)] = _between(a.surface, b.surface, vertex, side_corner[i], tolerance)
    ran = {edge: extended(edge, m, tolerance) for edge, m in moves.items()}
    for (i, j), (n, m) in diagonal.items():
        a, b = entries[i].use.face, entries[j].use.face
        if a is b:
            raise Refusal("a face would have to meet itself")
        new[(i, j)] = _between(a.surface, b.surface, corners[n], corners[m], tolerance)
    inserts: dict[object, list[Edge]] = {}
    rim: set[Edge] = {c.edge for e in entries for c in e.rim}
    for i, entry in enumerate(entries):
        place = entry.rim[0] if entry.rim else (entry.use.face, entry.after)
        inserts[place] = [edge for pair, edge in new.items() if i in pair]
    touched = _at_edges(body, rim | ran.keys())
    return body.with_uses(reloop(use, rim, ran, inserts) if use in touched else use for use in body.uses)


def _at_edges(body: Body, edges: Collection[Edge]) -> set[FaceUse]:
    """The uses of a body that some edges bound."""
    uses = adjacency(body).uses
    return {use for edge in edges for use, _ in uses.get(edge, ())}


def reloop(use: FaceUse, rim: set[Edge], ran: dict[Edge, Edge], inserts: dict[object, list[Edge]]) -> FaceUse:
    """A face with rim runs replaced by new edges and links by their run-on versions. inserts: the new edges by the
    first coedge of a run, or by face and vertex where a face only touches the rim."""
    if not any(e in rim or e in ran for e in use.face.edges()):
        return use
    loops: list[Loop] = []
    for loop in use.face.loops:
        out: list[Coedge] = []
        extra: list[Edge] = []
        for c in loop:
            extra += inserts.get((use.face, c.first), [])
            if c.edge in rim:
                extra += inserts.get(c, [])
            else:
                out.append(Coedge(ran[c.edge], c.forward) if c.edge in ran else c)
        loops.append(threaded(out, extra) if extra else tuple(out))
    return FaceUse(use.face.with_loops(loops), use.forward)


def threaded(coedges: list[Coedge], extra: list[Edge]) -> Loop:
    """Put new edges where the walk is broken, in the order and direction that join it up."""
    out: list[Coedge] = []
    pool = list(extra)
    for here, nxt in zip(coedges, [*coedges[1:], coedges[0]], strict=True):
        out.append(here)
        while out[-1].last is not nxt.first:
            at = out[-1].last
            hit = next((e for e in pool if at in (e.start, e.end)), None)
            if hit is None:
                raise Refusal("a neighbour's outline does not join up again")
            pool.remove(hit)
            out.append(Coedge(hit, hit.start is at))
    if pool:
        raise Refusal("a neighbour's outline does not join up again")
    return tuple(out)


def _joined(body: Body, entries: list[Neighbour], links: list[Link], tolerance: float) -> Body | None:
    """Two neighbours: the edges between them on both sides of the wound become one; where they are one and the same,
    the circle that it lies on closes."""
    (a, va), (b, vb) = links
    if a is None or b is None or not isinstance(a.curve, Line | Circle) or type(a.curve) is not type(b.curve):
        return None
    if float(np.linalg.norm(a.curve.point(a.curve.parameter(vb.point[None]))[0] - vb.point)) > 20.0 * tolerance:
        return None
    if a is b:
        if a.curve.period is None:
            return None
        one = Edge(a.curve, a.t0, a.t0 + a.curve.period)
    else:
        middle = b.at(0.5)
        if float(np.linalg.norm(a.curve.point(a.curve.parameter(middle[None]))[0] - middle)) > 20.0 * tolerance:
            return None
        far_a = a.start if a.end is va else a.end
        far_b = b.start if b.end is vb else b.end
        assert far_a is not None and far_b is not None
        t = a.curve.parameter(np.array([far_a.point, far_b.point]))
        one = bounded(a.curve, float(t[0]), float(t[1]), far_a, far_b)
        if a.curve.period is not None:  # the way on which the wound lies, however long
            on = float(a.curve.parameter(va.point[None])[0])
            ahead, whole = (float(np.mod(x - t[0], a.curve.period)) for x in (on, t[1]))
            start, far, end = (far_a, whole, far_b) if ahead < whole else (far_b, a.curve.period - whole, far_a)
            low = float(t[0] if ahead < whole else t[1])
            one = Edge(a.curve, low, low + far, start, end)
    rim = {c.edge for e in entries for c in e.rim}
    uses = []
    around = _at_edges(body, rim | {a, b})
    for use in body.uses:
        if use not in around:
            uses.append(use)
            continue
        loops: list[Loop] = []
        for loop in use.face.loops:
            out = [c for c in loop if c.edge not in rim and c.edge is not a and c.edge is not b]
            touched = len(out) < len(loop)
            if touched and one.ring:
                loops.append((Coedge(one, next(c.forward for c in loop if c.edge is a)),))
            else:
                loops.append(threaded(out, [one]) if touched and out else tuple(out))
        uses.append(FaceUse(use.face.with_loops(loops), use.forward))
    return body.with_uses(uses)
