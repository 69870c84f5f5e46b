"""Edges rounded: a ball rolls along each, and what it sweeps takes the edge's place.

The ball touches both faces of an edge; where it touches are their new borders. At its ends a round runs out on the face
that stands there, goes over into the round of the next edge where the edges run on smoothly, or into a sphere where
three of them meet (Rossignac & Requicha 1984; Hoffmann 1989).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.gate import refuse_worse
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.frames import Frame
from lithon.geometry.meet import cross, meet
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import pulse
from lithon.trim.regrow import threaded
from lithon.trim.running import bounded, extended, reach


def rounded(body: Body, edges: Iterable[Edge], radius: float, tolerance: float) -> Body:
    """The body with edges rounded. Raises Refusal where a ball of the radius does not fit beside one, or where rounds
    meet in a way that has no answer here."""
    return refuse_worse(_Rounder(body, list(dict.fromkeys(edges)), radius, tolerance).run(), [body], tolerance)


@dataclass(slots=True)
class _Run:
    """One edge's round: the surface, the spine, and the contact curve on each of its faces."""

    edge: Edge
    faces: tuple[Face, Face]
    convex: bool
    spine: Curve
    surface: Surface
    contact: dict[Face, Curve]


class _Rounder:
    def __init__(self, body: Body, edges: list[Edge], radius: float, tolerance: float):
        self.body, self.radius, self.tolerance = body, radius, tolerance
        self.adj: Adjacency = adjacency(body)
        self.near = 20.0 * tolerance
        self.runs = {edge: self._run(edge) for edge in edges}
        #: Where the contact of a run on one of its faces ends, by edge, face and old vertex.
        self.ends: dict[tuple[Edge, Face, Vertex], Vertex] = {}
        #: Where other edges end now, by edge and old vertex.
        self.moves: dict[Edge, list[tuple[Vertex, Vertex]]] = defaultdict(list)
        #: Arcs across the ends of runs, by edge and vertex; and arcs that faces at an end get.
        self.arcs: dict[tuple[Edge, Vertex], Edge] = {}
        self.inserted: dict[Face, list[Edge]] = defaultdict(list)
        self.caps: list[FaceUse] = []

    def _refuse(
        self, what: str, at: Floats, remedy: str = "take a smaller radius", entities: tuple[Face, ...] = ()
    ) -> Refusal:
        return Refusal(what, where=spot(at), remedy=remedy, entities=entities)

    def _run(self, edge: Edge) -> _Run:
        pulse()
        uses = self.adj.uses[edge]
        at = edge.at(0.5)
        if len(uses) != 2 or uses[0][0].face is uses[1][0].face:
            raise self._refuse("an edge without two faces cannot be rounded", at, "choose another edge")
        turn = self.adj.turn(edge)
        if turn == "smooth":
            raise self._refuse("the faces go smoothly over into each other there", at, "choose a sharp edge")
        convex = turn == "convex"
        shells = [self._shell(use.face, convex, at) for use, _ in uses]
        there, off = onto_all(shells, at[None])
        if off[0] > self.near:
            raise self._refuse("a ball of this radius does not fit beside the edge", at)
        found = [c for c in meet(shells[0], shells[1], self.tolerance, there) if isinstance(c, Line | Circle)]
        spine = min(found, key=lambda c: _away(c, there), default=None)
        if spine is None:
            raise self._refuse("the round of this edge would be neither cylinder nor torus", at,
                               "choose an edge between planes and round faces")  # fmt: skip
        surface: Surface
        if isinstance(spine, Line):
            surface = Cylinder(Frame.of(spine.origin, spine.direction), self.radius)
        elif spine.major > self.radius * (1.0 + 1e-9):
            surface = Torus(spine.frame, spine.major, self.radius)
        else:
            raise self._refuse("the ball would roll over its own place", at)
        faces = (uses[0][0].face, uses[1][0].face)
        contact = {f: self._contact(f, surface, there) for f in faces}
        return _Run(edge, faces, convex, spine, surface, contact)

    def _contact(self, face: Face, surface: Surface, centre: Floats) -> Curve:
        """Where the round touches a face."""
        touch = face.surface.project(centre)
        curves = [c for c in meet(surface, face.surface, self.tolerance, touch) if _away(c, touch) < self.near]
        if not curves:
            raise self._refuse("the ball does not touch a face beside the edge", touch[0], entities=(face,))
        return min(curves, key=lambda c: _away(c, touch))

    # ---- ends

    def run(self) -> Body:
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
                self._corner(vertex, chosen)
            else:
                raise self._refuse("too many rounds meet at a corner", vertex.point, "round fewer edges at once")
        return self._rebuilt()

    def _third(self, curve: Curve, surface: Surface, near: Floats) -> Vertex:
        low, high = reach(curve)
        points = curve.point(cross(curve, surface, low, high, self.tolerance))
        if not len(points):
            raise self._refuse("a round does not reach the face at its end", near)
        return Vertex(frozen(points[int(np.linalg.norm(points - near, axis=1).argmin())]))

    def _runs_out(self, vertex: Vertex, edge: Edge, around: list[Edge]) -> None:
        """The round ends on the one other face at the vertex."""
        run = self.runs[edge]
        others = [e for e in around if e is not edge]
        own = set(run.faces)
        ends = {u.face for e in others for u, _ in self.adj.uses[e]} - own
        if len(others) != 2 or len(ends) != 1:
            raise self._refuse(
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
                raise self._refuse("the faces at the end of the edge cannot be told apart", vertex.point)
            self.moves[side[0]].append((vertex, p))
            self.ends[edge, face, vertex] = p
            got.append(p)
        curves = [
            c for c in meet(run.surface, end.surface, self.tolerance, np.array([v.point for v in got]))
            if _away(c, np.array([v.point for v in got])) < self.near
        ]  # fmt: skip
        if not curves:
            raise self._refuse("a round does not end on the face at its end", vertex.point)
        t = curves[0].parameter(np.array([v.point for v in got]))
        arc = bounded(curves[0], float(t[0]), float(t[1]), got[0], got[1], vertex.point)
        self.arcs[edge, vertex] = arc
        self.inserted[end].append(arc)

    def _stops(self, vertex: Vertex, edge: Edge, seam: Edge, on: Edge, end: Face) -> None:
        """The edge goes on smoothly and is not rounded there: the round stops at a flat end across it. `seam` is the
        smooth edge between one of its faces and the end's, `on` the one that goes on."""
        run = self.runs[edge]
        beside = next(f for f in run.faces if any(u.face is f for u, _ in self.adj.uses[seam]))
        other = next(f for f in run.faces if f is not beside)
        if not any(u.face is other for u, _ in self.adj.uses[on]):
            raise self._refuse("the faces at the end of the edge cannot be told apart", vertex.point)
        centre = _nearest(run.spine, vertex.point)
        low, high = (
            Vertex(frozen(run.contact[f].point(run.contact[f].parameter(centre[None]))[0])) for f in (beside, other)
        )
        if _away(seam.curve, low.point[None]) > self.near:
            raise self._refuse("a round cannot stop here: the edge between its faces and the next runs askew",
                               vertex.point, "choose the edges that go on from it as well")  # fmt: skip
        way = edge.direction(1.0 if edge.end is vertex else 0.0) * (1.0 if edge.end is vertex else -1.0)
        flat = Plane.of(vertex.point, -way if run.convex else way)
        lines = [c for c in meet(flat, other.surface, self.tolerance, np.array([high.point, vertex.point]))
                 if _away(c, np.array([high.point, vertex.point])) < self.near]  # fmt: skip
        if not lines:
            raise self._refuse("a round cannot stop here", vertex.point, "choose the edges that go on from it as well")
        circle = Circle.about(Frame.of(centre, way), self.radius)
        arc = self._piece(circle, low, high, vertex.point)
        down = self._piece(seam.curve, low, vertex, 0.5 * (low.point + vertex.point))
        across = self._piece(lines[0], high, vertex, 0.5 * (high.point + vertex.point))
        self.ends[edge, beside, vertex], self.ends[edge, other, vertex] = low, high
        self.moves[seam].append((vertex, low))
        self.arcs[edge, vertex] = arc
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
        """The round goes over into that of the next edge."""
        a, b = (self.runs[e] for e in chosen)
        ways = [unit(e.direction(0.0 if e.start is vertex else 1.0)) for e in chosen]
        if float(np.linalg.norm(cross_product(ways[0], ways[1]))) > 1e-6 or a.convex != b.convex:
            raise self._refuse(
                "two rounds meet at a corner where a third edge stays sharp", vertex.point,
                "choose the third edge too, or round one of them alone", a.faces,
            )  # fmt: skip
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
            raise self._refuse("two rounds in a row do not meet", vertex.point, "round one of them alone")
        for e in around:
            if e in self.runs:
                continue
            p = next((got[u.face] for u, _ in self.adj.uses[e] if u.face in got), None)
            if p is None or _away(e.curve, p.point[None]) > self.near:
                raise self._refuse("an edge between two rounds does not reach them", vertex.point)
            self.moves[e].append((vertex, p))
        circle = Circle.about(Frame.of(centre, ways[0]), self.radius)
        t = circle.parameter(np.array([v.point for v in ends]))
        arc = bounded(circle, float(t[0]), float(t[1]), ends[0], ends[1], vertex.point)
        self.arcs[a.edge, vertex] = self.arcs[b.edge, vertex] = arc

    def _corner(self, vertex: Vertex, chosen: list[Edge]) -> None:
        """Three rounds meet in a sphere."""
        runs = [self.runs[e] for e in chosen]
        if len({r.convex for r in runs}) > 1:
            raise self._refuse("rounds of inner and outer edges meet at a corner", vertex.point,
                               "round the inner edge by itself first")  # fmt: skip
        faces = list(dict.fromkeys(f for r in runs for f in r.faces))
        shells = [self._shell(f, runs[0].convex, vertex.point) for f in faces]
        centre, off = onto_all(shells, vertex.point[None])
        if off[0] > self.near:
            raise self._refuse("a ball of this radius does not rest in the corner", vertex.point)
        touch = {f: Vertex(frozen(f.surface.project(centre)[0])) for f in faces}
        arcs = []
        for run in runs:
            one, two = (touch[f] for f in run.faces)
            for face in run.faces:
                self.ends[run.edge, face, vertex] = touch[face]
            axis = run.spine.derivative(run.spine.parameter(centre))[0]
            circle = Circle.about(Frame.of(centre[0], axis), self.radius)
            t = circle.parameter(np.array([one.point, two.point]))
            arc = bounded(circle, float(t[0]), float(t[1]), one, two, vertex.point)
            self.arcs[run.edge, vertex] = arc
            arcs.append(arc)
        sphere = Sphere(Frame.of(centre[0], (0.0, 0.0, 1.0)), self.radius)
        first = arcs[0]
        loop = threaded([Coedge(first, True), Coedge(arcs[1], arcs[1].start is first.end)], arcs[2:]) if (
            first.end in (arcs[1].start, arcs[1].end)
        ) else threaded([Coedge(first, True), Coedge(arcs[2], arcs[2].start is first.end)], [arcs[1]])  # fmt: skip
        middle = unit(np.mean([v.point for v in touch.values()], axis=0) - centre[0])
        turn = np.zeros(3)
        for c in loop:
            assert c.first is not None and c.last is not None
            turn += cross_product(c.first.point - centre[0], c.last.point - centre[0])
        if (float(turn @ middle) > 0.0) != runs[0].convex:
            loop = tuple(c.reversed() for c in reversed(loop))
        self.caps.append(FaceUse(Face(sphere, (loop,), runs[0].convex)))

    def _shell(self, face: Face, convex: bool, at: Floats) -> Surface:
        s = face.surface
        outward = float(self.adj.use_of[face].outward(at[None])[0] @ s.normal(at[None])[0]) > 0.0
        try:
            return s.offset(self.radius if outward != convex else -self.radius)
        except (ValueError, NotImplementedError) as error:
            raise self._refuse(f"the ball does not fit on a {s.kind}", at) from error

    # ---- the result

    def _rebuilt(self) -> Body:
        sides: dict[tuple[Edge, Face], Edge] = {}
        for edge, run in self.runs.items():
            for face in run.faces:
                sides[edge, face] = self._side(run, face)
        ran = {edge: extended(edge, moves, self.tolerance) for edge, moves in self.moves.items()}
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
                arcs = [self.arcs[edge, v] for v in (edge.start, edge.end) if v is not None]
                bounds = (threaded([one, two], arcs),)
            uses.append(FaceUse(Face(run.surface, bounds, run.convex)))
        return self.body.with_uses([*uses, *self.caps])

    def _side(self, run: _Run, face: Face) -> Edge:
        """The edge along which the round touches a face."""
        curve, edge = run.contact[face], run.edge
        if edge.start is None or edge.end is None:
            low = float(getattr(curve, "low", 0.0))
            return Edge(curve, low, low + float(curve.period or 0.0))
        a, b = (self.ends[edge, face, v] for v in (edge.start, edge.end))
        t = curve.parameter(np.array([a.point, b.point]))
        if float((b.point - a.point) @ (edge.end.point - edge.start.point)) <= 0.0 and isinstance(curve, Line):
            raise self._refuse("rounds at both ends of an edge leave nothing of it", edge.at(0.5))
        return bounded(curve, float(t[0]), float(t[1]), a, b, edge.at(0.5))

    def _along(self, side: Edge, c: Coedge, face: Face) -> Coedge:
        if side.ring:
            at = side.curve.parameter(c.edge.at(0.5)[None])
            same = float(side.curve.derivative(at)[0] @ c.edge.direction(0.5)) > 0.0
            return Coedge(side, same == c.forward)
        assert c.first is not None
        return Coedge(side, side.start is self.ends[c.edge, face, c.first])


def _away(curve: Curve, points: Floats) -> float:
    return float(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1).max())


def _nearest(curve: Curve, point: Floats) -> Floats:
    return np.asarray(curve.point(curve.parameter(point[None]))[0])
