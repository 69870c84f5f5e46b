"""Needless edges out: faces that go on over an edge on one surface become one face, edges that go on
over a vertex on one curve become one edge."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import replace

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.loops import group, trace
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Vertex, new_uid
from lithon.errors import Refusal
from lithon.geometry.surfaces import Surface


def tidied(body: Body, tolerance: float, among: Collection[Edge] | None = None) -> Body:
    """The body without needless edges (of those given, or all) and vertices; itself where there are none."""
    return _edges_joined(_faces_joined(body, tolerance, among), tolerance)


def same_surface(a: Surface, b: Surface, tolerance: float) -> bool:
    """Whether two surfaces are one, to a few times the tolerance (mm)."""
    return a is b or a.same_as(b, 20.0 * tolerance, 10.0)


def _faces_joined(body: Body, tolerance: float, among: Collection[Edge] | None) -> Body:
    adj = adjacency(body)
    parent: dict[Face, Face] = {f: f for f in body.faces}

    def root(f: Face) -> Face:
        while parent[f] is not f:
            parent[f] = parent[parent[f]]
            f = parent[f]
        return f

    needless: set[Edge] = set()
    for edge, uses in adj.uses.items():
        if len(uses) != 2 or (among is not None and edge not in among):
            continue
        (u, _), (v, _) = uses
        if not same_surface(u.face.surface, v.face.surface, tolerance) or u.face.label != v.face.label:
            continue
        at = edge.at(0.5)[None]
        if float(u.outward(at)[0] @ v.outward(at)[0]) > 0.5:
            needless.add(edge)
            parent[root(u.face)] = root(v.face)
    if not needless:
        return body
    groups: dict[Face, list[FaceUse]] = defaultdict(list)
    for use in body.uses:
        groups[root(use.face)].append(use)
    out: list[FaceUse] = []
    for members in groups.values():
        lost = [e for use in members for e in use.face.edges() if e in needless]
        if not lost:
            out += members
            continue
        try:
            out += _merged(members, needless)
        except Refusal:
            out += members  # one face cannot hold them all: they stay apart
    return body.with_uses(out)


def _merged(members: list[FaceUse], needless: set[Edge]) -> list[FaceUse]:
    """Faces on one surface without the edges between them."""
    first = members[0]
    face = first.face
    coedges: list[Coedge] = []
    for use in members:
        turned = use.forward != first.forward
        for loop in use.face.loops:
            for c in loop:
                if c.edge not in needless:
                    coedges.append(c.reversed() if turned else c)
    if not coedges:
        made = [face.with_loops(())]
    else:
        loops = trace(coedges, face.surface, face.along)
        made = [face.with_loops(found) for found in group(loops, face.surface, face.along)]
    for new in made:
        face_mesh(new)
    return [FaceUse(new, first.forward) for new in made]


def _edges_joined(body: Body, tolerance: float) -> Body:
    """Join pairs of edges at vertices that nothing else meets."""
    while True:
        at: dict[Vertex, list[Edge]] = defaultdict(list)
        for edge in body.edges():
            for v in (edge.start, edge.end):
                if v is not None:
                    at[v].append(edge)
        swap: dict[Edge, tuple[Edge, bool] | None] = {}
        for vertex, edges in at.items():
            if len(edges) != 2 or any(e in swap for e in edges):
                continue
            joined = _joined(edges[0], edges[1], vertex, tolerance)
            if joined is not None:
                swap[edges[1]] = None  # first, as both are one edge where it closes on the vertex
                swap[edges[0]] = (joined, _same_way(edges[0], joined))
        if not swap:
            return body
        uses = []
        for use in body.uses:
            if not any(e in swap for e in use.face.edges()):
                uses.append(use)
                continue
            loops = []
            for loop in use.face.loops:
                walk = []
                for c in loop:
                    hit = swap.get(c.edge, (c.edge, True))
                    if hit is not None:
                        walk.append(Coedge(hit[0], c.forward == hit[1]))
                loops.append(tuple(walk))
            uses.append(FaceUse(replace(use.face, loops=tuple(loops), uid=new_uid()), use.forward))
        body = body.with_uses(uses)


def _same_way(edge: Edge, whole: Edge) -> bool:
    p = edge.at(0.5)
    d = whole.curve.derivative(whole.curve.parameter(p[None]))[0]
    return bool(d @ edge.direction(0.5) > 0.0)


def _joined(a: Edge, b: Edge, vertex: Vertex, tolerance: float) -> Edge | None:
    """One edge for two that go on at a vertex along one curve."""
    if a is b:
        period = a.curve.period
        if a.start is a.end and period is not None and abs(a.t1 - a.t0 - period) < 1e-9 * period:
            return Edge(a.curve, a.t0, a.t0 + period)
        return None
    probe = b.curve.point(b.t0 + np.array([0.15, 0.5, 0.85]) * (b.t1 - b.t0))
    if np.linalg.norm(a.curve.point(a.curve.parameter(probe)) - probe, axis=1).max() > 20.0 * tolerance:
        return None
    other_a = a.start if a.end is vertex else a.end
    other_b = b.start if b.end is vertex else b.end
    period = a.curve.period
    forward = a.end is vertex
    if a.start is a.end or b.start is b.end or other_a is None or other_b is None:
        return None
    t = float(a.curve.parameter(other_b.point[None])[0])
    if period is not None:
        if other_a is other_b:
            return Edge(a.curve, a.t0, a.t0 + period)
        t = a.t0 + float(np.mod(t - a.t0, period)) if forward else a.t1 - float(np.mod(a.t1 - t, period))
    else:
        # An open curve must really go on past the vertex, not turn back on itself.
        if (forward and t <= a.t1) or (not forward and t >= a.t0):
            return None
    if forward:
        return Edge(a.curve, a.t0, t, other_a, other_b)
    return Edge(a.curve, t, a.t1, other_b, other_a)
