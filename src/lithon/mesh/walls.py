"""The walls of a sweep: where a motion carries what bounds its source.

Edges of walls lie on the source, on the target, along the motion (posts), or at one height between (rows): where a
neighbour's imprint parts a wall. Edges are cut, for the mesh alone and from body to body, until each row lies over
one edge of the source and each post reaches from one height to the next.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.area import area_of, clamped
from lithon.brep.topology import Body, Coedge, Edge, Face, Model, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.mesh.motion import Sweep
from lithon.mesh.quads import sides_of

_SAME = 1e-5  # mm within which points are one, edges level or upright
_MERGED = 1e-3  # share of a side within which two corners lie across from each other
_FAR = 1e-3  # mm between what was cut to lie over each other
_SAMPLES = (0.0, 0.25, 0.5, 0.75, 1.0)


def kind_of(edge: Edge, s: Sweep) -> str:
    """'low', 'high', 'row', 'post', or nothing where an edge of a wall is none of these."""
    low, high = s.end_edges()
    if edge in low:
        return "low"
    if edge in high:
        return "high"
    base, share = s.motion.back(np.array([edge.at(x) for x in _SAMPLES]), s.start)
    if float(np.ptp(share)) * s.motion.length(base) < _SAME:
        return "row"
    return "post" if float(np.linalg.norm(base - base[0], axis=1).max()) < _SAME else ""


def is_wall(face: Face, s: Sweep) -> bool:
    return all(kind_of(edge, s) for edge in face.edges())


@dataclass(slots=True)
class Walls:
    """The walls of one sweep in cells: over each edge of the source's rim, between each two heights. `heights` are
    shares (m+1,) of the motion from 0 to 1."""

    heights: Floats
    rim: list[Edge]
    #: The edge over an edge of the source at a height, by the number of that; on the target also within its rim.
    over: dict[tuple[Edge, int], Edge] = field(default_factory=dict)
    #: The post over a corner of the source, by the number of the height that it starts from.
    posts: dict[tuple[Vertex, int], Edge] = field(default_factory=dict)
    face: dict[tuple[Edge, int], Face] = field(default_factory=dict)


def walls_of(s: Sweep) -> Walls:
    """Raises Refusal where an edge has no place over the source's rim."""
    kinds = _kinds(s)
    base = [edge for edge, kind in kinds.items() if kind == "low"]
    walls = {edge for wall in s.walls for edge in wall.edges()}
    out = Walls(_heights(s, kinds), [edge for edge in base if edge in walls])
    middles = scipy.spatial.cKDTree(np.array([edge.at(0.5) for edge in base])) if base else None
    corners = list(dict.fromkeys(v for e in base for v in (e.start, e.end) if v is not None))
    feet = scipy.spatial.cKDTree(np.array([v.point for v in corners])) if corners else None
    for edge, kind in kinds.items():
        under, share = s.motion.back(np.array([edge.at(x) for x in (0.0, 0.5, 1.0)]), s.start)
        if kind == "post":
            levels = sorted(_level(out.heights, float(share[i])) for i in (0, 2))
            off, k = feet.query(under[1]) if feet is not None else (np.inf, 0)
            if off > _FAR or levels[1] != levels[0] + 1:
                raise _lost(s, edge)
            out.posts[corners[int(k)], levels[0]] = edge
        elif middles is not None:
            near = np.atleast_1d(middles.query(under[1], k=min(4, len(base)))[1])
            below = _under(under, [base[int(k)] for k in near]) or _under(under, base)
            if below is None:
                raise _lost(s, edge)
            out.over[below, _level(out.heights, float(share[1]))] = edge
    top = len(out.heights) - 1
    for edge in out.rim:
        if (edge, top) not in out.over:
            raise _lost(s, edge)
        for i in range(top):
            out.face[edge, i] = _wall_at(s, edge, 0.5 * (out.heights[i] + out.heights[i + 1]))
    return out


def _kinds(s: Sweep) -> dict[Edge, str]:
    """All edges that the layers have to follow: those of the walls, and those between faces of an end."""
    low, high = s.end_edges()
    edges = dict.fromkeys((*(edge for wall in s.walls for edge in wall.edges()), *low, *high))
    return {edge: kind_of(edge, s) for edge in edges}


def _under(points: Floats, edges: list[Edge]) -> Edge | None:
    """The edge that points (n,3) lie on, if any."""
    off = [float(np.linalg.norm(e.curve.point(clamped(e, points)) - points, axis=1).max()) for e in edges]
    k = int(np.argmin(off))
    return edges[k] if off[k] < _FAR else None


def _lost(s: Sweep, edge: Edge) -> Refusal:
    return Refusal(f"a wall of {s.body.name} does not reach from its source to its target", where=spot(edge.at(0.5)),
                   remedy="carve it there")  # fmt: skip


def _heights(s: Sweep, kinds: dict[Edge, str]) -> Floats:
    """The shares of the motion at which rows lie, from 0 to 1."""
    rows = np.array([edge.at(x) for edge, kind in kinds.items() if kind == "row" for x in (0.0, 0.5)]).reshape(-1, 3)
    posts = np.array([edge.at(x) for edge, kind in kinds.items() if kind == "post" for x in (0.0, 1.0)]).reshape(-1, 3)
    points = np.concatenate([rows, posts])
    if not len(points):
        return np.array([0.0, 1.0])
    base, share = s.motion.back(points, s.start)
    near = _SAME / max(s.motion.length(base), 1e-300)
    inner = np.sort(share[(share > 10.0 * near) & (share < 1.0 - 10.0 * near)])
    kept = inner[np.diff(inner, prepend=-1.0) > 10.0 * near] if len(inner) else inner
    return np.concatenate([[0.0], kept, [1.0]])


def _level(heights: Floats, share: float) -> int:
    return int(np.abs(heights - share).argmin())


def _wall_at(s: Sweep, edge: Edge, share: float) -> Face:
    """The wall over the middle of an edge of the source."""
    at = s.motion.at(edge.at(0.5)[None], share)
    near = [f for f in s.walls if abs(float(f.surface.signed_distance(at)[0])) < _FAR]
    if len(near) > 1:
        near = [f for f in near if area_of(f).side(at, _SAME)[0] >= 0] or near
    if not near:
        raise _lost(s, edge)
    return near[0]


# ---- cutting


def matched(model: Model, sweeps: list[Sweep], tolerance: float) -> tuple[Model, bool]:
    """The model with edges of walls cut where others have corners over or below them, and whether any was."""
    cuts: dict[Edge, list[tuple[float, Vertex]]] = defaultdict(list)
    for s in sweeps:
        kinds = _kinds(s)
        heights = _heights(s, kinds)
        vertices = dict.fromkeys(v for e in kinds for v in (e.start, e.end) if v is not None)
        corners = [v.point for v in vertices]
        feet = _distinct(s.motion.back(np.array(corners), s.start)[0]) if corners else np.zeros((0, 3))
        for edge, kind in kinds.items():
            under, share = s.motion.back(edge.at(0.5)[None], s.start)
            if kind == "post":
                levels = [s.motion.at(under, float(h)) for h in heights[1:-1]]
                _cut(np.concatenate([under[:0], *levels]), edge, cuts, tolerance)
            elif len(feet):
                level = {"low": 0.0, "high": 1.0}.get(kind, float(share[0]))
                _cut(s.motion.at(feet, level), edge, cuts, tolerance)
        for use in (*s.source, *s.target):
            _cut_across(use.face, cuts, tolerance)
    if not cuts:
        return model, False
    chains = {edge: _chain(edge, at) for edge, at in cuts.items()}
    made: dict[Face, Face] = {}  # by all bodies: what they share stays shared
    return Model(tuple(_on_chains(body, chains, made) for body in model.bodies), model.tolerance), True


def _cut_across(face: Face, cuts: dict[Edge, list[tuple[float, Vertex]]], tolerance: float) -> None:
    """Where one side of a four-sided end is parted, so is the one across from it: it can be mapped then."""
    sides = sides_of(face)
    for k in range(4 if sides is not None else 0):
        assert sides is not None
        here, there = sides[k], [c.reversed() for c in reversed(sides[(k + 2) % 4])]
        lengths = [c.edge.length for c in here]
        shares = np.cumsum(lengths)[:-1] / sum(lengths)
        across = np.concatenate([[0.0], np.cumsum([c.edge.length for c in there])])
        for share in shares.tolist():
            if np.abs(across[1:-1] / across[-1] - share).min(initial=1.0) > _MERGED:
                i = int(np.searchsorted(across, share * across[-1]) - 1)
                part = (share * across[-1] - across[i]) / (across[i + 1] - across[i])
                c = there[i]
                _cut(c.edge.at(part if c.forward else 1.0 - part)[None], c.edge, cuts, tolerance)


def _distinct(points: Floats) -> Floats:
    """One of each of several points (n,3) that are the same."""
    pairs = scipy.spatial.cKDTree(points).query_pairs(_SAME)
    return points[sorted(set(range(len(points))) - {max(p) for p in pairs})]


def _cut(points: Floats, edge: Edge, cuts: dict[Edge, list[tuple[float, Vertex]]], tolerance: float) -> None:
    """Note where these points (n,3) lie within this edge."""
    if not len(points):
        return
    p = np.array([edge.at(s) for s in np.linspace(0.0, 1.0, 9)])
    reach = 100.0 * tolerance + (0.0 if edge.curve.kind == "line" else 0.2 * edge.length)
    points = points[((points > p.min(axis=0) - reach) & (points < p.max(axis=0) + reach)).all(axis=1)]
    if not len(points):
        return
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


def _on_chains(body: Body, chains: dict[Edge, list[Edge]], made: dict[Face, Face]) -> Body:
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
    if not any(face in made for face in body.faces):
        return body
    return body.with_uses(type(u)(made.get(u.face, u.face), u.forward) for u in body.uses)
