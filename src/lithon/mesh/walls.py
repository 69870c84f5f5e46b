"""The walls of a sweep: their edges on the source, on the target and between, and edges cut so that both ends of
every wall have the same corners."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from lithon.arrays import Floats
from lithon.brep.area import clamped
from lithon.brep.topology import Body, Coedge, Edge, Face, Model, Vertex, vertex_at

if TYPE_CHECKING:
    from lithon.mesh.sweep import Sweep


@dataclass(frozen=True, slots=True)
class WallEdges:
    """Coedges of a wall in the order of its loop: on the source, on the target, and the posts between."""

    low: list[Coedge]
    high: list[Coedge]
    posts: list[Coedge]

    @property
    def around(self) -> bool:
        """Whether it closes on itself."""
        return not self.posts


def wall_edges(wall: Face, source: set[Edge], target: set[Edge]) -> WallEdges | None:
    """The edges of a face as those of a wall between ends with these edges; None where it is no wall."""
    sort = [
        ["low" if c.edge in source else "high" if c.edge in target else "post" for c in loop] for loop in wall.loops
    ]
    if len(wall.loops) == 2 and {tuple(set(s)) for s in sort} == {("low",), ("high",)}:
        low, high = sorted(zip(sort, wall.loops, strict=True), key=lambda entry: entry[0][0] != "low")
        return WallEdges(list(low[1]), list(high[1]), [])
    if len(wall.loops) != 1:
        return None
    loop, kinds = list(wall.loops[0]), sort[0]
    # Turned so that it begins with the first low edge after a post.
    start = next((k for k in range(len(loop)) if kinds[k] == "low" and kinds[k - 1] != "low"), None)
    if start is None:
        return None
    loop, kinds = loop[start:] + loop[:start], kinds[start:] + kinds[:start]
    runs: list[tuple[str, list[Coedge]]] = []
    for kind, c in zip(kinds, loop, strict=True):
        if not runs or runs[-1][0] != kind:
            runs.append((kind, []))
        runs[-1][1].append(c)
    if [kind for kind, _ in runs] != ["low", "post", "high", "post"] or len(runs[1][1]) != 1 or len(runs[3][1]) != 1:
        return None
    return WallEdges(runs[0][1], runs[2][1], [runs[1][1][0], runs[3][1][0]])


def matched(model: Model, sweeps: list[Sweep], tolerance: float) -> tuple[Model, bool]:
    """The model with edges cut where a wall's other end has a corner, and whether any was."""
    cuts: dict[Edge, list[tuple[float, Vertex]]] = defaultdict(list)
    for s in sweeps:
        source, target = s.end_edges()
        for wall in s.walls:
            found = wall_edges(wall, source, target)
            if found is None:
                continue
            for here, there, share in ((found.low, found.high, 1.0), (found.high, found.low, -1.0)):
                corners = [v.point for c in here for v in (c.edge.start, c.edge.end) if v is not None]
                if corners:
                    _cut(s.motion.at(np.array(corners), share), [c.edge for c in there], cuts, tolerance)
    if not cuts:
        return model, False
    chains = {edge: _chain(edge, at) for edge, at in cuts.items()}
    return Model(tuple(_on_chains(body, chains) for body in model.bodies), model.tolerance), True


def _cut(points: Floats, edges: list[Edge], cuts: dict[Edge, list[tuple[float, Vertex]]], tolerance: float) -> None:
    """Note where these points (n,3) lie within these edges."""
    for edge in edges:
        t = clamped(edge, points)
        at = edge.curve.point(t)
        off = np.linalg.norm(at - points, axis=1)
        ends = np.array([v.point for v in (edge.start, edge.end) if v is not None]).reshape(-1, 3)
        for k in np.flatnonzero(off <= 100.0 * tolerance).tolist():
            taken = [*ends, *(v.point for _, v in cuts.get(edge, []))]
            if all(float(np.linalg.norm(at[k] - p)) > 200.0 * tolerance for p in taken):
                cuts[edge].append((float(t[k]), vertex_at(at[k])))


def _chain(edge: Edge, at: list[tuple[float, Vertex]]) -> list[Edge]:
    stops = sorted(at, key=lambda stop: stop[0])
    if edge.ring:
        ts = [t for t, _ in stops] + [stops[0][0] + edge.t1 - edge.t0]
        vs: list[Vertex | None] = [*(v for _, v in stops), stops[0][1]]
    else:
        ts, vs = [edge.t0, *(t for t, _ in stops), edge.t1], [edge.start, *(v for _, v in stops), edge.end]
    return [Edge(edge.curve, ts[k], ts[k + 1], vs[k], vs[k + 1]) for k in range(len(ts) - 1)]


def _on_chains(body: Body, chains: dict[Edge, list[Edge]]) -> Body:
    made: dict[Face, Face] = {}
    for face in body.faces:
        if face in made or not any(e in chains for e in face.edges()):
            continue
        loops = []
        for loop in face.loops:
            walk: list[Coedge] = []
            for c in loop:
                parts = chains.get(c.edge, [c.edge])
                walk += [Coedge(e, c.forward) for e in (parts if c.forward else parts[::-1])]
            loops.append(tuple(walk))
        made[face] = face.with_loops(loops)
    if not made:
        return body
    return body.with_uses(type(u)(made.get(u.face, u.face), u.forward) for u in body.uses)
