"""Edges bevelled: a flat strip takes each edge's place, whose borders stand back from it by the same on both faces.

Along a line the strip is a plane, along a circle a cone, a cylinder or a plane; so both faces must run along the edge
with it: straight on beside a line, around its axis beside a circle.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.analysis.across import straight_across
from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.geometry.cones import Cone
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Circle, Curve, Line
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import pulse
from lithon.trim.strips import Run, Strips, away

#: Where a contact curve, as long as its edge, is seen to lie on its face.
_ALONG = np.linspace(0.0, 1.0, 9)


def bevelled(body: Body, edges: Iterable[Edge], setback: float, tolerance: float) -> Body:
    """The body with edges bevelled, the borders of each strip so far (mm) from the edge. Raises Refusal where a face
    beside one is not as wide or does not run along the edge, or where strips meet in a way that has no answer here."""
    return _Bevels(body, edges, setback, tolerance).made()


class _Bevels(Strips):
    noun, smaller = "bevel", "take a smaller setback"

    def run(self, edge: Edge) -> Run:
        pulse()
        faces, convex = self.about(edge)
        at = edge.at(0.5)
        if not isinstance(edge.curve, Line) and type(edge.curve) is not Circle:
            raise self.refuse("the bevel of this edge would be neither plane nor cone", at, "choose a line or a circle")
        touch = np.array([self._back(edge, face) for face in faces])
        contact = {face: self._contact(edge, face, p) for face, p in zip(faces, touch, strict=True)}
        surface = self._through(edge, touch, at)
        outwards = float(surface.normal(touch.mean(axis=0)[None])[0] @ (at - touch.mean(axis=0))) > 0.0
        return Run(edge, faces, convex, outwards == convex, edge.curve, surface, contact)

    def _back(self, edge: Edge, face: Face) -> Floats:
        p = straight_across(edge, face, self.size)
        if p is None:
            raise self.refuse("a face beside the edge is not as wide as the setback", edge.at(0.5), entities=(face,))
        return p

    def _contact(self, edge: Edge, face: Face, touch: Floats) -> Curve:
        """Where a bevel begins on a face: the edge's own curve through a point (3,) of it."""
        curve: Curve
        if isinstance(edge.curve, Line):
            curve = Line(touch, edge.curve.direction)
        else:
            assert isinstance(edge.curve, Circle)
            frame = edge.curve.frame
            height = float((touch - frame.origin) @ frame.z)
            axis = frame.origin + height * frame.z
            if float(np.linalg.norm(touch - axis)) <= self.near:
                raise self.refuse("the bevel would reach the axis of the edge", edge.at(0.5))
            if float((touch - axis) @ (edge.at(0.5) - frame.origin)) <= 0.0:
                raise self.refuse("the bevel would reach beyond the axis of the edge", edge.at(0.5))
            curve = Circle.about(Frame.of(axis, frame.z, frame.x), float(np.linalg.norm(touch - axis)))
        t = curve.parameter(touch[None]) + (0.5 - _ALONG) * (edge.t1 - edge.t0)
        if float(np.abs(face.surface.signed_distance(curve.point(t))).max()) > self.near:
            raise self.refuse(f"the {face.surface.kind} beside the edge does not run along it", edge.at(0.5),
                              "round the edge, or choose another", (face,))  # fmt: skip
        return curve

    def _through(self, edge: Edge, touch: Floats, at: Floats) -> Surface:
        """The surface through both borders, whose points across the middle of the edge are (2,3)."""
        if float(np.linalg.norm(touch[1] - touch[0])) <= self.near:
            raise self.refuse("there is nothing between the faces at this setback", at, "take a larger setback")
        if isinstance(edge.curve, Line):
            return Plane.of(touch[0], unit(cross_product(touch[1] - touch[0], edge.curve.direction)))
        assert isinstance(edge.curve, Circle)
        frame = edge.curve.frame
        height = (touch - frame.origin) @ frame.z
        radius = np.linalg.norm(touch - frame.origin - height[:, None] * frame.z, axis=1)
        rise, grow = float(height[1] - height[0]), float(radius[1] - radius[0])
        foot = frame.origin + height[0] * frame.z
        if abs(rise) <= 1e-9 * abs(grow):
            return Plane(Frame.of(foot, frame.z, frame.x))
        if abs(grow) <= 1e-9 * abs(rise):
            return Cylinder(Frame.of(foot, frame.z, frame.x), float(radius[0]))
        return Cone.of(foot, frame.z, float(radius[0]), float(np.arctan2(grow, rise)), frame.x)

    def section(self, centre: Floats, way: Floats, a: Vertex, b: Vertex, near: Floats) -> Edge:
        return Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b)

    def corner(self, vertex: Vertex, runs: list[Run], faces: list[Face]) -> None:
        """The strips meet two and two in edges, which meet in a point."""
        apex = self._common([run.surface for run in runs], vertex)
        for face in faces:
            one, two = (run for run in runs if face in run.faces)
            touch = self._common([face.surface, one.surface, two.surface], vertex)
            edge = self.between(one.surface, two.surface, touch, apex, vertex.point)
            for run in (one, two):
                if away(run.contact[face], touch.point[None]) > self.near:
                    raise self.refuse("two bevels do not meet on the face between them", vertex.point, entities=(face,))
                self.ends[run.edge, face, vertex] = touch
                self.across.setdefault((run.edge, vertex), []).append(edge)

    def _common(self, surfaces: list[Surface], vertex: Vertex) -> Vertex:
        p, off = onto_all(surfaces, vertex.point[None])
        if off[0] > self.near:
            raise self.refuse("three bevels do not meet in a corner", vertex.point)
        return Vertex(frozen(p[0]))
