"""Levelling a step: a narrow plane between two parallel ones goes, and one of the two takes the plane of the other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrange.tidy import tidied
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.measures import face_area
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Vertex
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane, Surface
from lithon.trim.resurface import resurfaced

#: Normals that differ by less are parallel.
_PARALLEL = 1e-6


@dataclass(frozen=True, slots=True, eq=False)
class Step:
    """A plane face between two parallel plane ones that look the same way, longer than it is high: over its edge `up`
    it meets `high` from outside, over `down` it meets `low` in a corner; `ends` are its other edges."""

    face: Face
    up: Edge
    down: Edge
    high: Face
    low: Face
    ends: tuple[Edge, ...]


def step_of(adj: Adjacency, face: Face) -> Step | None:
    """The step that a face is; None where it is none."""
    if not isinstance(face.surface, Plane) or len(face.loops) != 1 or len(face.loops[0]) != 4:
        return None
    edges = [c.edge for c in face.loops[0]]
    if any(len(adj.uses[e]) != 2 or e.ring for e in edges):
        return None
    for up in edges:
        for down in edges:
            high, low = adj.across(face, up), adj.across(face, down)
            if up is down or high is low or not _same_way(adj, high, low):
                continue
            if adj.angle(up) > 0.5 and adj.angle(down) < -0.5 and _long(up, down):
                return Step(face, up, down, high, low, tuple(e for e in edges if e is not up and e is not down))
    return None


def _same_way(adj: Adjacency, one: Face, two: Face) -> bool:
    """Whether two faces are planes with one outward normal."""
    if not isinstance(one.surface, Plane) or not isinstance(two.surface, Plane):
        return False
    n, m = (f.surface.frame.z * (1.0 if f.along == adj.use_of[f].forward else -1.0) for f in (one, two))
    return float(np.linalg.norm(n - m)) < _PARALLEL


def _long(up: Edge, down: Edge) -> bool:
    """Whether two edges that have no vertex in common are longer than they are apart: a chamfer between two walls has
    such ends, and is no step."""
    if {up.start, up.end} & {down.start, down.end}:
        return False
    return 0.5 * (up.length + down.length) > float(np.linalg.norm(up.at(0.5) - down.at(0.5)))


def levelled(body: Body, step: Step, tolerance: float) -> Iterator[Body]:
    """The body without a step, the smaller of the two faces put on the plane of the larger, then the other way; what
    stands around that face follows. The ways that are refused are left out; the last refusal is raised where all are.
    """
    adj = adjacency(body)
    refusal: Refusal | None = None
    count = 0
    for moving in sorted((step.high, step.low), key=face_area):
        try:
            yield _moved(body, adj, step, moving, tolerance)
            count += 1
        except Refusal as error:
            refusal = error
    if not count and refusal is not None:
        raise refusal


def _moved(body: Body, adj: Adjacency, step: Step, moving: Face, tolerance: float) -> Body:
    """The body with one of the two faces beside a step on the plane of the other."""
    goes, stays = (step.up, step.down) if moving is step.high else (step.down, step.up)
    target = step.low if moving is step.high else step.high
    onto = _ends_onto(goes, stays, step.ends)
    surface: Surface = target.surface
    uses: list[FaceUse] = []
    fresh: dict[Face, Face] = {}
    touched = {use for e in (goes, *step.ends) for use, _ in adj.uses[e]}
    for use in body.uses:
        if use.face is step.face:
            continue
        if use not in touched:
            uses.append(use)
            continue
        loops = []
        for loop in use.face.loops:
            walk: list[Coedge] = []
            for c in loop:
                if c.edge is goes:
                    first = c.first
                    walk.append(Coedge(stays, first is not None and stays.start is onto[first]))
                elif c.edge not in step.ends:
                    walk.append(c)
            loops.append(tuple(walk))
        fresh[use.face] = use.face.with_loops(loops)
        uses.append(replace(use, face=fresh[use.face]))
    fixed = {**{v: v for v in onto.values()}, **onto}
    out = resurfaced(body.with_uses(uses), {fresh[moving]: surface}, tolerance, fixed=fixed)
    between = [
        e for e, at in adjacency(out).uses.items() if len(at) == 2 and all(u.face.surface is surface for u, _ in at)
    ]
    return tidied(out, tolerance, between)


def _ends_onto(goes: Edge, stays: Edge, ends: Sequence[Edge]) -> dict[Vertex, Vertex]:
    """Where the ends of the edge that goes come to lie: the vertices at the other end of what leads there."""
    out: dict[Vertex, Vertex] = {}
    for end in (v for v in (goes.start, goes.end) if v is not None):
        there = [v for e in ends if end in (e.start, e.end) for v in (e.start, e.end) if v in (stays.start, stays.end)]
        if len(there) != 1 or there[0] is None:
            raise Refusal("a step ends in more than one edge")
        out[end] = there[0]
    return out
