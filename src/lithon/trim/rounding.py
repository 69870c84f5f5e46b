"""Edges rounded: a ball rolls along each, and what it sweeps takes the edge's place.

The ball touches both faces of an edge; where three rounds meet it rests in the corner and is a sphere (Rossignac &
Requicha 1984; Hoffmann 1989).
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.analysis.across import straight_across
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Vertex
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.frames import Frame
from lithon.geometry.meet import meet
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Surface
from lithon.progress import pulse
from lithon.trim.regrow import threaded
from lithon.trim.running import bounded
from lithon.trim.strips import Run, Strips, away

#: Where a ball is looked for from, in radii from the edge: where faces are folded back onto each other, both are the
#: same way from it there.
_FROM = 0.0, 3.0, 10.0


def rounded(body: Body, edges: Iterable[Edge], radius: float, tolerance: float) -> Body:
    """The body with edges rounded. Raises Refusal where a ball of the radius does not fit beside one, or where rounds
    meet in a way that has no answer here."""
    return _Rounds(body, edges, radius, tolerance).made()


class _Rounds(Strips):
    noun, smaller = "round", "take a smaller radius"

    def run(self, edge: Edge) -> Run:
        pulse()
        faces, convex = self.about(edge)
        at = edge.at(0.5)
        shells = [self._shell(face, convex, at) for face in faces]
        ahead = self._ahead(edge, faces)
        for far in _FROM:
            there, off = onto_all(shells, (at + far * self.size * ahead)[None])
            if off[0] <= self.near:
                break
        else:
            raise self.refuse("a ball of this radius does not fit beside the edge", at)
        found = [c for c in meet(shells[0], shells[1], self.tolerance, there) if isinstance(c, Line | Circle)]
        spine = min(found, key=lambda c: away(c, there), default=None)
        if spine is None:
            raise self.refuse("the round of this edge would be neither cylinder nor torus", at,
                              "choose an edge between planes and round faces")  # fmt: skip
        surface: Surface
        if isinstance(spine, Line):
            surface = Cylinder(Frame.of(spine.origin, spine.direction), self.size)
        elif spine.major > self.size * (1.0 + 1e-9):
            surface = Torus(spine.frame, spine.major, self.size)
        else:
            raise self.refuse("the ball would roll over its own place", at)
        contact = {f: self._contact(f, surface, there) for f in faces}
        return Run(edge, faces, convex, convex, spine, surface, contact)

    @staticmethod
    def _ahead(edge: Edge, faces: tuple[Face, Face]) -> Floats:
        """The way (3,) between both faces from the middle of an edge."""
        ways = [straight_across(edge, face, 1e-3 * edge.length) for face in faces]
        into = np.sum([p - edge.at(0.5) for p in ways if p is not None], axis=0)
        return np.zeros(3) if not np.any(into) else unit(into)

    def _shell(self, face: Face, convex: bool, at: Floats) -> Surface:
        s = face.surface
        outward = float(self.adj.use_of[face].outward(at[None])[0] @ s.normal(at[None])[0]) > 0.0
        try:
            return s.offset(self.size if outward != convex else -self.size)
        except (ValueError, NotImplementedError) as error:
            raise self.refuse(f"the ball does not fit on a {s.kind}", at) from error

    def _contact(self, face: Face, surface: Surface, centre: Floats) -> Curve:
        """Where the round touches a face."""
        touch = face.surface.project(centre)
        curves = [c for c in meet(surface, face.surface, self.tolerance, touch) if away(c, touch) < self.near]
        if not curves:
            raise self.refuse("the ball does not touch a face beside the edge", touch[0], entities=(face,))
        return min(curves, key=lambda c: away(c, touch))

    def section(self, centre: Floats, way: Floats, a: Vertex, b: Vertex, near: Floats) -> Edge:
        circle = Circle.about(Frame.of(centre, way), self.size)
        t = circle.parameter(np.array([a.point, b.point]))
        return bounded(circle, float(t[0]), float(t[1]), a, b, near)

    def corner(self, vertex: Vertex, runs: list[Run], faces: list[Face]) -> None:
        """The rounds meet in a sphere."""
        shells = [self._shell(f, runs[0].convex, vertex.point) for f in faces]
        centre, off = onto_all(shells, vertex.point[None])
        if off[0] > self.near:
            raise self.refuse("a ball of this radius does not rest in the corner", vertex.point)
        touch = {f: Vertex(frozen(f.surface.project(centre)[0])) for f in faces}
        arcs = []
        for run in runs:
            one, two = (touch[f] for f in run.faces)
            for face in run.faces:
                self.ends[run.edge, face, vertex] = touch[face]
            axis = run.spine.derivative(run.spine.parameter(centre))[0]
            arcs.append(self.section(centre[0], axis, one, two, vertex.point))
            self.across[run.edge, vertex] = [arcs[-1]]
        sphere = Sphere(Frame.of(centre[0], (0.0, 0.0, 1.0)), self.size)
        first, second, third = arcs
        if first.end not in (second.start, second.end):
            second, third = third, second
        loop = threaded([Coedge(first, True), Coedge(second, second.start is first.end)], [third])
        middle = unit(np.mean([v.point for v in touch.values()], axis=0) - centre[0])
        turn = np.zeros(3)
        for c in loop:
            assert c.first is not None and c.last is not None
            turn += cross_product(c.first.point - centre[0], c.last.point - centre[0])
        if (float(turn @ middle) > 0.0) != runs[0].convex:
            loop = tuple(c.reversed() for c in reversed(loop))
        self.caps.append(FaceUse(Face(sphere, (loop,), runs[0].convex)))
