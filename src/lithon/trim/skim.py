"""Skim: little steps, undercuts and splinters under a named clean surface are swallowed by one face on it.

The faces go that lie in a shallow layer under the surface, and those on it beside them. The edges between what is left
around run on to the surface, every neighbour gets one edge where it meets it, and one face closes them all.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.gate import refuse_worse
from lithon.brep.loops import group
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve
from lithon.geometry.meet import cross, meet
from lithon.geometry.surfaces import Surface
from lithon.geometry.tolerance import MISS
from lithon.progress import pulse
from lithon.trim.regrow import Neighbour, neighbours, reloop
from lithon.trim.rims import cycles, entries_of, rim_of, wounds_of
from lithon.trim.running import bounded, extended, reach


@dataclass(frozen=True, slots=True, eq=False)
class Skimmed:
    """A body with faces swallowed, how many, and how deep (mm) they lay at the most."""

    body: Body
    swallowed: int
    deepest: float


def skimmed(
    body: Body, surface: Surface, ahead: bool, depth: float, tolerance: float, only: Sequence[Face] = ()
) -> Skimmed:
    """The body with everything down to `depth` (mm) under a surface swallowed. `ahead`: whether the surface's normal
    looks out of the material; `only`: these faces and no others.

    Raises Refusal where there is nothing to swallow, or where a neighbour does not reach the surface.
    """
    layer = _layer(body.faces, surface, ahead, depth, tolerance)
    on = {f for f, (low, high) in layer.items() if max(-low, high) <= MISS * tolerance}
    under = {f for f in layer if f not in on and (not only or f in set(only))}
    if only and (left := [f for f in only if f not in layer]):
        raise Refusal("a chosen face does not lie in the layer under the surface", entities=tuple(left),
                      remedy="let the layer be deeper, or choose less")  # fmt: skip
    if not under:
        raise Refusal(f"nothing lies under the surface within {depth:g} mm", remedy="let the layer be deeper")
    regions = [r for r in wounds_of(adjacency(body), [*on, *under]) if set(r) & under]
    out = body
    for region in regions:
        if len(region) == len(body.uses):
            raise Refusal("the layer reaches through the whole body", remedy="let it be less deep")
        out = _Cover(out, region, surface, ahead, tolerance).run()
    swallowed = [f for r in regions for f in r if f in under]
    deepest = max(-layer[f][0] for f in swallowed)
    return Skimmed(refuse_worse(out, [body], tolerance), len(swallowed), deepest)


def lies_under(body: Body, face: Face, depth: float, tolerance: float) -> bool:
    """Whether beside a face there is something that could be swallowed under its surface."""
    at = face.surface.project(next(face.edges()).at(0.5)[None]) if face.loops else np.zeros((0, 3))
    if not len(at):
        return False
    ahead = float(body.outward(face, at)[0] @ face.surface.normal(at)[0]) > 0.0
    beside = [f for f in adjacency(body).neighbours(face) if f is not face]
    found = _layer(beside, face.surface, ahead, depth, tolerance)
    return any(low < -MISS * tolerance for low, _ in found.values())


def _layer(
    faces: Sequence[Face], surface: Surface, ahead: bool, depth: float, tolerance: float
) -> dict[Face, tuple[float, float]]:
    """The faces that lie between a depth (mm) and a surface, with the lowest and highest level of each."""
    out = {}
    for face in faces:
        pulse()
        points = [face_mesh(face).points, *(np.array([e.at(s) for s in (0.0, 0.25, 0.5, 0.75)]) for e in face.edges())]
        level = surface.signed_distance(np.concatenate(points)) * (1.0 if ahead else -1.0)
        low, high = float(level.min()), float(level.max())
        # The chords of a curved face lie off it; its nodes do not.
        if low >= -depth and high <= MISS * tolerance:
            out[face] = (low, high)
    return out


class _Cover:
    """One region of faces that goes, and the face that takes its place."""

    def __init__(self, body: Body, region: Sequence[Face], surface: Surface, ahead: bool, tolerance: float):
        self.body, self.gone, self.surface, self.ahead = body, set(region), surface, ahead
        self.region, self.tolerance = list(region), tolerance
        self.near = 20.0 * tolerance
        self.adj: Adjacency = adjacency(body)

    def run(self) -> Body:
        moves: dict[Edge, list[tuple[Vertex, Vertex]]] = {}
        inserts: dict[object, list[Edge]] = {}
        rings: dict[Coedge, Coedge] = {}
        rim: set[Edge] = set()
        loops: list[Loop] = []
        for cycle in cycles(rim_of(self.adj, self.region)):
            entries = entries_of(cycle)
            rim |= {c.edge for e in entries for c in e.rim}
            if len(entries) == 1:
                loops.append(self._ring(entries[0], rings))
            else:
                loops.append(self._round(entries, moves, inserts))
        ran = {edge: extended(edge, m, self.tolerance) for edge, m in moves.items()}
        uses = [self._with_rings(u, rings) for u in self.body.uses if u.face not in self.gone]
        kept = {c.edge for c in rings}
        uses = [reloop(u, rim - kept, ran, inserts) for u in uses]
        own = group(loops, self.surface, self.ahead)
        faces = [Face(self.surface, x, self.ahead, self._label()) for x in own]
        return self.body.with_uses([*uses, *(FaceUse(f) for f in faces)])

    def _label(self) -> str:
        """The name that all have that had one."""
        names = {f.label for f in self.region if f.label}
        return names.pop() if len(names) == 1 else ""

    def _with_rings(self, use: FaceUse, rings: dict[Coedge, Coedge]) -> FaceUse:
        if not any(c in rings for loop in use.face.loops for c in loop):
            return use
        loops = [(rings[loop[0]],) if loop[0] in rings else loop for loop in use.face.loops]
        return FaceUse(use.face.with_loops(loops), use.forward)

    def _ring(self, entry: Neighbour, rings: dict[Coedge, Coedge]) -> Loop:
        """Where one neighbour is all around: a closed curve of it with the surface, or the edges as they are."""
        samples = np.concatenate([self._samples(c) for c in entry.rim])
        if self._off(samples) <= self.near:
            for c in entry.rim:
                rings[c] = c
            # The neighbour walks them backwards.
            return tuple(self._facing(entry.use, c) for c in reversed(entry.rim))
        loop = next(loop for loop in entry.use.face.loops if entry.rim[0] in loop)
        if len(loop) != len(entry.rim):
            raise Refusal("a face around what is swallowed reaches it in part only", where=spot(samples[0]),
                          entities=(entry.use.face,), remedy="let the layer be deeper, or cut it first")  # fmt: skip
        curve = self._curve(entry.use.face, samples, np.zeros((0, 3)))
        if curve.period is None:
            raise self._apart(entry.use.face, samples[0])
        low = float(getattr(curve, "low", 0.0))
        ring = Edge(curve, low, low + float(curve.period))
        first = entry.rim[0]
        at = curve.parameter(self._samples(first)[2:3])
        way = curve.derivative(at)[0]
        before = first.edge.curve.derivative(np.array([0.5 * (first.edge.t0 + first.edge.t1)]))[0]
        same = (float(way @ before) > 0.0) == first.forward
        new = Coedge(ring, same)
        for c in loop:
            rings[c] = new
        return (self._facing(entry.use, new),)

    @staticmethod
    def _facing(use: FaceUse, c: Coedge) -> Coedge:
        """As the face on the other side walks an edge."""
        return Coedge(c.edge, c.forward != use.forward)

    def _round(
        self,
        entries: list[Neighbour],
        moves: dict[Edge, list[tuple[Vertex, Vertex]]],
        inserts: dict[object, list[Edge]],
    ) -> Loop:
        around, links = neighbours(self.adj, self.gone, entries, False)
        corners = [self._corner(edge, at) for edge, at in links]
        for (edge, at), corner in zip(links, corners, strict=True):
            if edge is not None and corner is not at:
                moves.setdefault(edge, []).append((at, corner))
        loop: list[Coedge] = []
        for k, entry in enumerate(around):
            start, end = corners[k - 1], corners[k]
            if start is end:
                raise Refusal("a face beside what is swallowed would vanish", where=spot(start.point),
                              entities=(entry.use.face,), remedy="choose it as well")  # fmt: skip
            edge = self._between(entry, start, end)
            place: object = entry.rim[0] if entry.rim else (entry.use.face, entry.after)
            inserts.setdefault(place, []).append(edge)
            loop.append(Coedge(edge, edge.start is start))
        return tuple(loop)

    def _corner(self, edge: Edge | None, at: Vertex) -> Vertex:
        """Where the edge between two neighbours meets the surface, nearest to where it ended."""
        if self._off(at.point[None]) <= self.near:
            return at
        if edge is None:
            raise Refusal("two neighbours of what is swallowed have no edge to run on", where=spot(at.point))
        low, high = reach(edge.curve)
        found = edge.curve.point(cross(edge.curve, self.surface, low, high, self.tolerance))
        if not len(found):
            raise Refusal("an edge beside what is swallowed does not reach the surface", where=spot(at.point),
                          remedy="cut the body at the surface instead")  # fmt: skip
        return vertex_at(found[np.linalg.norm(found - at.point, axis=1).argmin()])

    def _between(self, entry: Neighbour, start: Vertex, end: Vertex) -> Edge:
        if len(entry.rim) == 1:
            edge = entry.rim[0].edge
            if {edge.start, edge.end} == {start, end} and self._off(self._samples(entry.rim[0])) <= self.near:
                return edge
        samples = np.concatenate([self._samples(c) for c in entry.rim]) if entry.rim else np.zeros((0, 3))
        ends = np.array([start.point, end.point])
        curve = self._curve(entry.use.face, samples, ends)
        t = curve.parameter(ends)
        middle = samples[len(samples) // 2] if len(samples) else ends.mean(axis=0)
        return bounded(curve, float(t[0]), float(t[1]), start, end, middle)

    def _curve(self, face: Face, samples: Floats, ends: Floats) -> Curve:
        """Where a neighbour meets the surface, through the ends."""
        seeds = np.concatenate([samples, ends])
        found = meet(face.surface, self.surface, self.tolerance, seeds)
        fits = [c for c in found if not len(ends) or self._away(c, ends).max() <= self.near]
        if not fits:
            raise self._apart(face, seeds[0])
        return min(fits, key=lambda c: float(self._away(c, seeds).max()))

    def _apart(self, face: Face, at: Floats) -> Refusal:
        return Refusal("a neighbour of what is swallowed does not meet the surface", where=spot(at), entities=(face,),
                       remedy="cut the body at the surface instead")  # fmt: skip

    @staticmethod
    def _away(curve: Curve, points: Floats) -> Floats:
        return np.asarray(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1))

    @staticmethod
    def _samples(c: Coedge) -> Floats:
        return np.array([c.edge.at(s) for s in (0.0, 0.25, 0.5, 0.75, 1.0)])

    def _off(self, points: Floats) -> float:
        return float(np.abs(self.surface.signed_distance(points)).max())
