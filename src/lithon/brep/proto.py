"""Faces in the making: points, edges and loops by number, while seams are dropped and edges found to be one."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Coedge, Edge, Face, Loop, Vertex
from lithon.errors import BadFile
from lithon.geometry.curves import Curve
from lithon.geometry.spindle import narrowed, skins
from lithon.geometry.surfaces import Surface


@dataclass(slots=True)
class ProtoEdge:
    """An edge while seams are being dropped. Ends are vertex numbers."""

    curve: Curve
    t0: float
    t1: float
    start: int | None
    end: int | None

    def at(self, shares: Floats) -> Floats:
        """Points (n,3) at shares 0..1 of the parameter range."""
        return self.curve.point(self.t0 + np.asarray(shares) * (self.t1 - self.t0))

    def length(self) -> float:
        return float(self.curve.length(self.t0, self.t1))

    def ends(self) -> list[int]:
        return [v for v in (self.start, self.end) if v is not None]


ProtoLoop = list[tuple[int, bool]]


class ProtoFaces:
    """points by number, edges between them, and for each face its surface, loops, sense and label."""

    def __init__(self) -> None:
        self.surfaces: dict[int, Surface] = {}
        self.points: dict[int, Floats] = {}
        self.edges: dict[int, ProtoEdge] = {}
        self.loops: dict[int, list[ProtoLoop]] = {}
        self.along: dict[int, tuple[bool, str]] = {}
        self.seam_ends: set[int] = set()

    def stretch(self, curve: Curve, start: int, end: int, number: int) -> ProtoEdge:
        """The stretch of a curve between two vertices."""
        ends = curve.parameter(np.array([self.points[start], self.points[end]]))
        t0, t1 = float(ends[0]), float(ends[1])
        if curve.period is not None:
            span = (t1 - t0) % curve.period
            whole = start == end or min(span, curve.period - span) < 1e-9 * curve.period
            t1 = t0 + (curve.period if whole else span)
        elif start == end and curve.kind != "line":
            t1 = t0  # a curve that goes nowhere
        elif t1 <= t0:
            away = float(np.linalg.norm(self.points[start] - self.points[end]))
            if start == end or away < 1e-9 * (1.0 + float(np.abs(self.points[start]).max())):
                t1 = t0
            else:
                raise BadFile(f"edge #{number} runs backwards along its curve")
        return ProtoEdge(curve, t0, t1, start, end)

    # ---- seams

    def without_seams(self, loop: ProtoLoop) -> list[ProtoLoop]:
        """Split a loop at every edge that it walks both ways."""
        for i, (number, forward) in enumerate(loop):
            for j in range(i + 1, len(loop)):
                if loop[j] == (number, not forward):
                    edge = self.edges[number]
                    self.seam_ends |= {v for v in (edge.start, edge.end) if v is not None}
                    halves = [loop[i + 1 : j], loop[j + 1 :] + loop[:i]]
                    return [part for half in halves if half for part in self.without_seams(half)]
        return [loop]

    def without_common(self, loops: list[ProtoLoop]) -> list[ProtoLoop]:
        """Join two loops of a face along an edge that one walks forward and the other back."""
        walked: dict[tuple[int, bool], int] = {}
        for j, two in enumerate(loops):
            for b, (number, forward) in enumerate(two):
                i = walked.get((number, not forward), j)
                if i != j:
                    a = loops[i].index((number, not forward))
                    edge = self.edges[number]
                    self.seam_ends |= {v for v in (edge.start, edge.end) if v is not None}
                    joined = loops[i][a + 1 :] + loops[i][:a] + two[b + 1 :] + two[:b]
                    rest = [loop for k, loop in enumerate(loops) if k not in (i, j)]
                    return self.without_common(rest + ([joined] if joined else []))
                walked[(number, forward)] = j
        return loops

    def _merge_at_seams(self) -> None:
        """Where only a seam held two edges of one curve apart, they become one edge or a ring."""
        walks: dict[int, list[ProtoLoop]] = defaultdict(list)
        for loops in self.loops.values():
            for loop in loops:
                for number, _ in loop:
                    walks[number].append(loop)
        used = set(walks)
        at: dict[int, list[int]] = defaultdict(list)
        for number in used:
            for v in (self.edges[number].start, self.edges[number].end):
                if v is not None:
                    at[v].append(number)
        for vertex in self.seam_ends:
            ends = at.get(vertex, [])
            if len(ends) != 2:
                continue
            a, b = ends
            if a != b:
                if self.edges[a].end != vertex:
                    a, b = b, a
                first, second = self.edges[a], self.edges[b]
                if first.end != vertex or second.start != vertex or not _same_curve(first.curve, second.curve):
                    continue
                joined = ProtoEdge(first.curve, first.t0, first.t1 + second.t1 - second.t0, first.start, second.end)
                self.edges[a] = joined
                for v in (second.end,):
                    if v is not None:
                        at[v] = [a if n == b else n for n in at[v]]
                for loop in walks[b]:
                    loop[:] = [entry for entry in loop if entry[0] != b]
        for number in {n for loops in self.loops.values() for loop in loops for n, _ in loop}:
            edge = self.edges[number]
            if edge.start is not None and edge.start == edge.end and edge.curve.period is not None:
                ends = at[edge.start]
                if all(n == number for n in ends):  # nothing else meets a ring's vertex
                    self.edges[number] = ProtoEdge(edge.curve, edge.t0, edge.t0 + edge.curve.period, None, None)

    # ---- values

    def frozen_faces(self) -> dict[int, Face]:
        """All faces read so far, by their numbers, with seams merged away."""
        self._merge_at_seams()
        vertices = {n: Vertex(p) for n, p in self.points.items()}

        def vertex(n: int | None) -> Vertex | None:
            return None if n is None else vertices[n]

        edges = {n: Edge(e.curve, e.t0, e.t1, vertex(e.start), vertex(e.end)) for n, e in self.edges.items()}
        faces: dict[int, Face] = {}
        for number, loops in self.loops.items():
            made: tuple[Loop, ...] = tuple(tuple(Coedge(edges[n], f) for n, f in loop) for loop in loops)
            along, label = self.along[number]
            surface = self.surfaces[number]
            if skins(surface):
                rims = [c.edge for loop in made for c in loop]
                surface = narrowed(surface, np.array([e.at(s) for e in rims for s in (0.1, 0.4, 0.8)]).reshape(-1, 3))
            faces[number] = Face(surface, made, along, label)
        return faces


def _same_curve(a: Curve, b: Curve) -> bool:
    if a is b:
        return True
    t = np.linspace(0.0, 5.0, 4)
    if a.kind != b.kind or a.kind not in ("line", "circle", "ellipse"):
        return False
    scale = float(np.abs(b.point(t)).max()) + 1.0
    same = np.abs(a.point(a.parameter(b.point(t))) - b.point(t)).max() < 1e-9 * scale
    way = a.derivative(a.parameter(b.point(t)))[0] @ b.derivative(t)[0] > 0.0
    return bool(same and way)
