"""Strips that take the place of edges: rounds and bevels.

A strip touches both faces of an edge, and where it does are their new borders. At its ends it runs out on the face that
stands there, goes over into the strip of the next edge where the edges run on smoothly, is mitred with it where they do
not and a third edge stays, or meets two others at a corner (Rossignac & Requicha 1984; Hoffmann 1989).
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.gate import refuse_worse
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve, Line
from lithon.geometry.facets import Facets
from lithon.geometry.meet import cross, meet
from lithon.geometry.surfaces import Plane, Surface
from lithon.trim.regrow import threaded
from lithon.trim.running import bounded, extended, reach

#: Steps that bring two curves to where they meet.
_STEPS = 30


@dataclass(slots=True)
class Run:
    """What takes one edge's place: a surface, whether its normal looks out of the solid, the curve that it is swept
    along, and the contact curve on each of the edge's faces."""

    edge: Edge
    faces: tuple[Face, Face]
    convex: bool
    outwards: bool
    spine: Curve
    surface: Surface
    contact: dict[Face, Curve]


class Strips(ABC):
    """Strips along some edges of a body, and the body that has them."""

    #: What one is called, and what to try where one is too large.
    noun: ClassVar[str]
    smaller: ClassVar[str]

    def __init__(self, body: Body, edges: Iterable[Edge], size: float, tolerance: float):
        self.body, self.size, self.tolerance = body, size, tolerance
        self.adj: Adjacency = adjacency(body)
        self.near = 20.0 * tolerance
        self.runs = {edge: self.run(edge) for edge in dict.fromkeys(edges)}
        #: Where the contact of a run on one of its faces ends, by edge, face and old vertex.
        self.ends: dict[tuple[Edge, Face, Vertex], Vertex] = {}
        #: Where other edges end now, by edge and old vertex.
        self.moves: dict[Edge, list[tuple[Vertex, Vertex]]] = defaultdict(list)
        #: Edges across the ends of runs, by edge and vertex; and edges that faces at an end get.
        self.across: dict[tuple[Edge, Vertex], list[Edge]] = {}
        self.inserted: dict[Face, list[Edge]] = defaultdict(list)
        self.caps: list[FaceUse] = []

    @abstractmethod
    def run(self, edge: Edge) -> Run:
        """What takes the place of an edge. Raises Refusal."""

    @abstractmethod
    def section(self, centre: Floats, way: Floats, a: Vertex, b: Vertex, near: Floats) -> Edge:
        """The edge across a strip (along `way` (3,), whose spine is at `centre` there) between both contact curves, on
        the side of a point (3,)."""

    @abstractmethod
    def corner(self, vertex: Vertex, runs: list[Run], faces: list[Face]) -> None:
        """Bring three strips that stand about three faces together."""

    def refuse(self, what: str, at: Floats, remedy: str = "", entities: tuple[Face, ...] = ()) -> Refusal:
        return Refusal(what, where=spot(at), remedy=remedy or self.smaller, entities=entities)

    def about(self, edge: Edge) -> tuple[tuple[Face, Face], bool]:
        """The two faces of an edge, and whether it is convex. Raises Refusal where it is not sharp between two."""
        uses, at = self.adj.uses[edge], edge.at(0.5)
        if len(uses) != 2 or uses[0][0].face is uses[1][0].face:
            raise self.refuse(f"an edge without two faces can have no {self.noun}", at, "choose another edge")
        if any(isinstance(use.face.surface, Facets) for use, _ in uses):
            raise self.refuse(
                f"an edge of triangles can have no {self.noun}", at, "make a solid of the triangles first"
            )
        turn = self.adj.turn(edge)
        if turn == "smooth":
            raise self.refuse("the faces go smoothly over into each other there", at, "choose a sharp edge")
        return (uses[0][0].face, uses[1][0].face), turn == "convex"

    # ---- ends

    def made(self) -> Body:
        """The body with all strips. Raises Refusal."""
        at: dict[Vertex, list[Edge]] = defaultdict(list)
        for edge in self.runs:
            for v in (edge.start, edge.end):
                if v is not None:
                    at[v].append(edge)
        for vertex, chosen in at.items():
            around = self.adj.at_vertex[vertex]
            if len(chosen) == 1:
                self._runs_out(vertex, chosen[0], around)
            elif len(chosen) == 2:
                self._runs_on(vertex, chosen, around)
            elif len(chosen) == 3 == len(around):
                self._meet_in_corner(vertex, [self.runs[e] for e in chosen])
            else:
                raise self.refuse(f"too many {self.noun}s meet at a corner", vertex.point, "choose fewer edges")
        return refuse_worse(self._rebuilt(), [self.body], self.tolerance)

    def _third(self, curve: Curve, surface: Surface, near: Floats) -> Vertex:
        low, high = reach(curve)
        points = curve.point(cross(curve, surface, low, high, self.tolerance))
        if not len(points):
            raise self.refuse(f"a {self.noun} does not reach the face at its end", near)
        return Vertex(frozen(points[int(np.linalg.norm(points - near, axis=1).argmin())]))

    def _runs_out(self, vertex: Vertex, edge: Edge, around: list[Edge]) -> None:
        """The strip ends on the one other face at the vertex."""
        run = self.runs[edge]
        others = [e for e in around if e is not edge]
        own = set(run.faces)
        ends = {u.face for e in others for u, _ in self.adj.uses[e]} - own
        if len(others) != 2 or len(ends) != 1:
            raise self.refuse(
                "more than one face stands at the end of the edge", vertex.point, "choose the next edge as well",
                run.faces,
            )  # fmt: skip
        (end,) = ends
        smooth = [e for e in others if self.adj.turn(e) == "smooth"]
        if smooth:
            self._stops(vertex, edge, smooth[0], next(e for e in others if e is not smooth[0]), end)
            return
        got: list[Vertex] = []
        for face in run.faces:
            p = self._third(run.contact[face], end.surface, vertex.point)
            side = [e for e in others if any(u.face is face for u, _ in self.adj.uses[e])]
            if len(side) != 1:
                raise self.refuse("the faces at the end of the edge cannot be told apart", vertex.point)
            self.moves[side[0]].append((vertex, p))
            self.ends[edge, face, vertex] = p
            got.append(p)
        off = f"a {self.noun} does not end on the face at its end"
        arc = self.between(run.surface, end.surface, got[0], got[1], vertex.point, off)
        self.across[edge, vertex] = [arc]
        self.inserted[end].append(arc)

    def _stops(self, vertex: Vertex, edge: Edge, seam: Edge, on: Edge, end: Face) -> None:
        """The edge goes on smoothly and is not rounded there: the strip stops at a flat end across it. `seam` is the
        smooth edge between one of its faces and the end's, `on` the one that goes on."""
        run = self.runs[edge]
        beside = next(f for f in run.faces if any(u.face is f for u, _ in self.adj.uses[seam]))
        other = next(f for f in run.faces if f is not beside)
        if not any(u.face is other for u, _ in self.adj.uses[on]):
            raise self.refuse("the faces at the end of the edge cannot be told apart", vertex.point)
        centre = _nearest(run.spine, vertex.point)
        low, high = (
            Vertex(frozen(run.contact[f].point(run.contact[f].parameter(centre[None]))[0])) for f in (beside, other)
        )
        if away(seam.curve, low.point[None]) > self.near:
            raise self.refuse(f"a {self.noun} cannot stop here: the edge between its faces and the next runs askew",
                               vertex.point, "choose the edges that go on from it as well")  # fmt: skip
        way = edge.direction(1.0 if edge.end is vertex else 0.0) * (1.0 if edge.end is vertex else -1.0)
        flat = Plane.of(vertex.point, -way if run.convex else way)
        lines = [c for c in meet(flat, other.surface, self.tolerance, np.array([high.point, vertex.point]))
                 if away(c, np.array([high.point, vertex.point])) < self.near]  # fmt: skip
        if not lines:
            raise self.refuse(
                f"a {self.noun} cannot stop here", vertex.point, "choose the edges that go on from it as well"
            )
        arc = self.section(centre, way, low, high, vertex.point)
        down = self._piece(seam.curve, low, vertex, 0.5 * (low.point + vertex.point))
        across = self._piece(lines[0], high, vertex, 0.5 * (high.point + vertex.point))
        self.ends[edge, beside, vertex], self.ends[edge, other, vertex] = low, high
        self.moves[seam].append((vertex, low))
        self.across[edge, vertex] = [arc]
        self.inserted[other].append(across)
        self.inserted[end].append(down)
        loop = threaded([Coedge(arc, arc.start is low)], [across, down])
        turn = cross_product(high.point - low.point, vertex.point - low.point)
        if float(turn @ flat.frame.z) < 0.0:
            loop = tuple(c.reversed() for c in reversed(loop))
        self.caps.append(FaceUse(Face(flat, (loop,))))

    @staticmethod
    def _piece(curve: Curve, a: Vertex, b: Vertex, near: Floats) -> Edge:
        t = curve.parameter(np.array([a.point, b.point]))
        return bounded(curve, float(t[0]), float(t[1]), a, b, near)

    def _runs_on(self, vertex: Vertex, chosen: list[Edge], around: list[Edge]) -> None:
        """The strip goes over into that of the next edge."""
        a, b = (self.runs[e] for e in chosen)
        ways = [unit(e.direction(0.0 if e.start is vertex else 1.0)) for e in chosen]
        if float(np.linalg.norm(cross_product(ways[0], ways[1]))) > 1e-6 or a.convex != b.convex:
            self._mitred(vertex, (a, b), around)
            return
        centre = _nearest(a.spine, vertex.point)
        got: dict[Face, Vertex] = {}
        for run in (a, b):
            for face in run.faces:
                if face not in got:
                    p = run.contact[face].point(run.contact[face].parameter(centre[None]))[0]
                    same = next((v for v in got.values() if np.linalg.norm(v.point - p) <= self.near), None)
                    got[face] = same or Vertex(frozen(p))
                self.ends[run.edge, face, vertex] = got[face]
        ends = list(dict.fromkeys(got.values()))
        if len(ends) != 2:
            raise self.refuse(f"two {self.noun}s in a row do not meet", vertex.point, "choose one of them alone")
        for e in around:
            if e in self.runs:
                continue
            p = next((got[u.face] for u, _ in self.adj.uses[e] if u.face in got), None)
            if p is None or away(e.curve, p.point[None]) > self.near:
                raise self.refuse(f"an edge between two {self.noun}s does not reach them", vertex.point)
            self.moves[e].append((vertex, p))
        arc = self.section(centre, ways[0], ends[0], ends[1], vertex.point)
        self.across[a.edge, vertex] = self.across[b.edge, vertex] = [arc]

    def _mitred(self, vertex: Vertex, runs: tuple[Run, Run], around: list[Edge]) -> None:
        """Two strips meet in a curve at a corner; a third edge, which stays, ends where that does."""
        a, b = runs
        shared = [f for f in a.faces if f in b.faces]
        third = [e for e in around if e not in self.runs]
        other = "choose the third edge too, or one of them alone"
        if len(third) != 1 or len(shared) != 1 or a.convex != b.convex:
            raise self.refuse(f"two {self.noun}s meet at a corner where other edges stay", vertex.point, other, a.faces)
        on = shared[0]
        beside = [next(f for f in run.faces if f is not on) for run in runs]
        # Where curves meet: a round touches its faces there, and where surfaces touch is known to half the digits only.
        crossings = [_crossing(a.contact[on], b.contact[on], vertex.point)]
        crossings += [
            _crossing(run.contact[f], third[0].curve, vertex.point) for run, f in zip(runs, beside, strict=True)
        ]
        (touched, *ends), off = zip(*crossings, strict=True)
        if max(off) > self.near or float(np.linalg.norm(ends[0] - ends[1])) > self.near:
            raise self.refuse(
                f"two {self.noun}s do not meet at the third edge of a corner", vertex.point, other, a.faces
            )
        touch, foot = Vertex(frozen(touched)), Vertex(frozen(ends[0]))
        edge = self.between(a.surface, b.surface, touch, foot, vertex.point)
        for run, face in zip(runs, beside, strict=True):
            self.ends[run.edge, on, vertex], self.ends[run.edge, face, vertex] = touch, foot
            self.across[run.edge, vertex] = [edge]
        self.moves[third[0]].append((vertex, foot))

    def _meet_in_corner(self, vertex: Vertex, runs: list[Run]) -> None:
        if len({r.convex for r in runs}) > 1:
            raise self.refuse(f"{self.noun}s of inner and outer edges meet at a corner", vertex.point,
                              "choose the inner edge by itself first")  # fmt: skip
        self.corner(vertex, runs, list(dict.fromkeys(f for r in runs for f in r.faces)))

    def between(self, one: Surface, two: Surface, a: Vertex, b: Vertex, near: Floats, apart: str = "") -> Edge:
        """The edge from one point to another in which two surfaces meet, near a point (3,). Raises Refusal, which says
        `apart`, where they do not."""
        ends = np.array([a.point, b.point])
        curves = [c for c in meet(one, two, self.tolerance, ends) if away(c, ends) < self.near]
        if not curves:
            raise self.refuse(apart or f"two {self.noun}s do not meet", near)
        return self._piece(curves[0], a, b, near)

    # ---- the result

    def _rebuilt(self) -> Body:
        sides: dict[tuple[Edge, Face], Edge] = {}
        for edge, run in self.runs.items():
            for face in run.faces:
                sides[edge, face] = self._side(run, face)
        ran = {edge: self._ran(edge, moves) for edge, moves in self.moves.items()}
        uses: list[FaceUse] = []
        walked: dict[tuple[Edge, Face], Coedge] = {}
        for use in self.body.uses:
            face = use.face
            own = dict.fromkeys(face.edges())
            extra = self.inserted.get(face, [])
            if not extra and not any(e in ran or (e, face) in sides for e in own):
                uses.append(use)
                continue
            loops = []
            left = list(extra)
            for loop in face.loops:
                out: list[Coedge] = []
                for c in loop:
                    if (c.edge, face) in sides:
                        made = self._along(sides[c.edge, face], c, face)
                        walked[c.edge, face] = made if use.forward else made.reversed()
                        out.append(made)
                    else:
                        out.append(Coedge(ran[c.edge], c.forward) if c.edge in ran else c)
                ends = {v for c in out for v in (c.first, c.last)}
                mine = [e for e in left if e.start in ends and e.end in ends]
                left = [e for e in left if e not in mine]
                loops.append(threaded(out, mine) if mine else tuple(out))
            uses.append(FaceUse(face.with_loops(loops), use.forward))
        for edge, run in self.runs.items():
            one, two = (walked[edge, f].reversed() for f in run.faces)
            if edge.ring:
                bounds: tuple[Loop, ...] = ((one,), (two,))
            else:
                caps = [e for v in (edge.start, edge.end) if v is not None for e in self.across[edge, v]]
                bounds = (threaded([one, two], caps),)
            uses.append(FaceUse(Face(run.surface, bounds, run.outwards)))
        return self.body.with_uses([*uses, *self.caps])

    def _ran(self, edge: Edge, moves: list[tuple[Vertex, Vertex]]) -> Edge:
        try:
            return extended(edge, moves, self.tolerance)
        except Refusal as error:
            raise self.refuse(f"a {self.noun} is wider than what is beside its end", edge.at(0.5)) from error

    def _side(self, run: Run, face: Face) -> Edge:
        """The edge along which a strip touches a face."""
        curve, edge = run.contact[face], run.edge
        if edge.start is None or edge.end is None:
            low = float(getattr(curve, "low", 0.0))
            return Edge(curve, low, low + float(curve.period or 0.0))
        a, b = (self.ends[edge, face, v] for v in (edge.start, edge.end))
        t = curve.parameter(np.array([a.point, b.point]))
        if float((b.point - a.point) @ (edge.end.point - edge.start.point)) <= 0.0 and isinstance(curve, Line):
            raise self.refuse(f"{self.noun}s at both ends of an edge leave nothing of it", edge.at(0.5))
        return bounded(curve, float(t[0]), float(t[1]), a, b, edge.at(0.5))

    def _along(self, side: Edge, c: Coedge, face: Face) -> Coedge:
        if side.ring:
            at = side.curve.parameter(c.edge.at(0.5)[None])
            same = float(side.curve.derivative(at)[0] @ c.edge.direction(0.5)) > 0.0
            return Coedge(side, same == c.forward)
        assert c.first is not None
        return Coedge(side, side.start is self.ends[c.edge, face, c.first])


def away(curve: Curve, points: Floats) -> float:
    return float(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1).max())


def _crossing(one: Curve, two: Curve, near: Floats) -> tuple[Floats, float]:
    """Where two curves meet, near a point (3,), and how far (mm) they miss each other there: by Gauss-Newton."""
    t = np.array([float(c.parameter(near[None])[0]) for c in (one, two)])
    gap = np.zeros(3)
    for _ in range(_STEPS):
        gap = one.point(t[:1])[0] - two.point(t[1:])[0]
        ways = np.stack([one.derivative(t[:1])[0], -two.derivative(t[1:])[0]], axis=1)
        step = np.linalg.lstsq(ways, gap, rcond=None)[0]
        t = t - step
        if float(np.abs(step).max()) < 1e-15 * (1.0 + float(np.abs(t).max())):
            break
    return np.asarray(one.point(t[:1])[0]), float(np.linalg.norm(gap))


def _nearest(curve: Curve, point: Floats) -> Floats:
    return np.asarray(curve.point(curve.parameter(point[None]))[0])
