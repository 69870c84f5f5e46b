"""Ways to spoil a sound solid on purpose, each with what it did, where and how large."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats, cross_product, frozen
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, new_uid, vertex_at
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane


@dataclass(frozen=True, slots=True)
class Wound:
    """The kind of finding that must tell of it, a place on it, how far (mm) its extent reaches from there,
    and the measure (mm) that the finding must give; None where it has none."""

    kind: str
    place: tuple[float, float, float]
    reach: float
    size: float | None


def _spot(points: Floats) -> tuple[tuple[float, float, float], float]:
    """The middle of points (n,3) and how far they reach from it."""
    middle = points.mean(axis=0)
    far = float(np.linalg.norm(points - middle, axis=1).max())
    return (float(middle[0]), float(middle[1]), float(middle[2])), far


def _along(loop: Loop) -> Floats:
    return np.concatenate([c.edge.curve.point(np.linspace(c.edge.t0, c.edge.t1, 17)) for c in loop])


def _with_edges(body: Body, new: dict[Edge, list[tuple[Edge, bool]]], more: dict[Face, list[FaceUse]]) -> Body:
    """Edges exchanged for chains of edges in every loop (in the edge's own direction); faces for others."""
    uses: list[FaceUse] = []
    for use in body.uses:
        if use.face in more:
            uses += more[use.face]
            continue
        loops, changed = [], False
        for loop in use.face.loops:
            walk: list[Coedge] = []
            for c in loop:
                chain = new.get(c.edge)
                if chain is None:
                    walk.append(c)
                    continue
                changed = True
                ordered = chain if c.forward else chain[::-1]
                walk += [Coedge(e, same == c.forward) for e, same in ordered]
            loops.append(tuple(walk))
        uses.append(FaceUse(use.face.with_loops(loops), use.forward) if changed else use)
    return body.with_uses(uses)


def face_lost(body: Body, face: Face) -> tuple[Body, list[Wound]]:
    """A face missing: one opening for each of its loops."""
    wounds = []
    for loop in face.loops:
        place, reach = _spot(_along(loop))
        wounds.append(Wound("open boundary", place, reach, sum(c.edge.length for c in loop)))
    return body.with_uses(use for use in body.uses if use.face is not face), wounds


def _halved(edge: Edge, t: float) -> tuple[Edge, Edge, Vertex]:
    middle = vertex_at(edge.curve.point(np.array([t]))[0])
    first = Edge(edge.curve, edge.t0, t, edge.start, middle)
    return first, Edge(edge.curve, t, edge.t1, middle, edge.end), middle


def edge_nicked(body: Body, edge: Edge, length: float) -> tuple[Body, list[Wound]]:
    """A needless vertex `length` before the end of a straight edge: a short edge."""
    long, short, _ = _halved(edge, edge.t1 - length)
    wound = Wound("short edge", _tuple(short.at(0.5)), length, length)
    return _with_edges(body, {edge: [(long, True), (short, True)]}, {}), [wound]


def _tuple(p: Floats) -> tuple[float, float, float]:
    return float(p[0]), float(p[1]), float(p[2])


def gap_opened(body: Body, face: Face, edge: Edge, width: float) -> tuple[Body, list[Wound]]:
    """A face drawn back from a straight edge by `width` in the middle: the edge is doubled, bowed for it."""
    use = next(u for u in body.uses if u.face is face)
    coedge = next(c for loop in face.loops for c in loop if c.edge is edge)
    way = edge.direction(0.5) * (1.0 if coedge.forward == use.forward else -1.0)
    into = cross_product(use.outward(edge.at(0.5)[None])[0], way)
    a, b = edge.at(0.0), edge.at(1.0)
    control = np.array([a, 0.5 * (a + b) + 2.0 * width * into, b])
    bowed = BSplineCurve(frozen([0, 0, 0, 1, 1, 1]), 2, frozen(control))
    other = Edge(bowed, 0.0, 1.0, edge.start, edge.end)
    loops = [tuple(Coedge(other, c.forward) if c.edge is edge else c for c in loop) for loop in face.loops]
    changed = {face: [FaceUse(face.with_loops(loops), use.forward)]}
    wound = Wound("gap between edges", _tuple(edge.at(0.5)), edge.length, width)
    return _with_edges(body, {}, changed), [wound]


def wall_cut(body: Body, face: Face, low: Edge, high: Edge, shares: tuple[float, ...]) -> tuple[Body, list[Wound]]:
    """A four-sided plane face cut by straight edges from `low` to `high`, its two opposite edges, at shares
    of their lengths, for no reason."""
    (loop,) = face.loops
    use = next(u for u in body.uses if u.face is face)
    walk = list(loop)
    k = next(i for i, c in enumerate(walk) if c.edge is low)
    walk = walk[k:] + walk[:k]
    if len(walk) != 4 or walk[2].edge is not high:
        raise ValueError("the face is not four-sided between these edges")
    chains: dict[Edge, list[tuple[Edge, bool]]] = {}
    cuts: dict[Edge, list[Vertex]] = {}
    for edge, at in ((low, walk[0].forward), (high, not walk[2].forward)):
        rest, chain, vertices = edge, [], []
        for s in sorted(shares if at else tuple(1.0 - s for s in shares)):
            first, rest, vertex = _halved(rest, edge.t0 + s * (edge.t1 - edge.t0))
            chain.append((first, True))
            vertices.append(vertex)
        chains[edge] = [*chain, (rest, True)]
        cuts[edge] = vertices if at else vertices[::-1]
    bottom = [Coedge(e, walk[0].forward) for e, _ in (chains[low] if walk[0].forward else chains[low][::-1])]
    top = [Coedge(e, walk[2].forward) for e, _ in (chains[high] if walk[2].forward else chains[high][::-1])][::-1]
    posts = []
    for a, b in zip(cuts[low], cuts[high], strict=True):
        posts.append(Edge(Line.through(a.point, b.point), 0.0, float(np.linalg.norm(b.point - a.point)), a, b))
    strips = []
    for i, (below, above) in enumerate(zip(bottom, top, strict=True)):
        right = Coedge(posts[i], True) if i < len(posts) else walk[1]
        left = Coedge(posts[i - 1], False) if i else walk[3]
        strips.append(FaceUse(Face(face.surface, ((below, right, above, left),), face.along), use.forward))
    place, reach = _spot(_along(loop))
    return _with_edges(body, chains, {face: strips}), [Wound("needless split", place, reach, None)]


def plane_disguised(body: Body, face: Face) -> tuple[Body, list[Wound]]:
    """A plane face on a bicubic spline surface that is that plane."""
    assert isinstance(face.surface, Plane)
    plane, points = face.surface, np.concatenate([_along(loop) for loop in face.loops])
    flat = plane.flat(points)
    low, high = flat.min(axis=0), flat.max(axis=0)
    low, high = low - 0.1 * (high - low), high + 0.1 * (high - low)
    u, v = (np.linspace(low[k], high[k], 4) for k in (0, 1))
    net = plane.point(np.stack(np.meshgrid(u, v, indexing="ij"), axis=-1).reshape(-1, 2)).reshape(4, 4, 3)
    knots = frozen([0, 0, 0, 0, 1, 1, 1, 1])
    return _resurfaced(body, face, BSplineSurface(knots, knots, 3, 3, frozen(net)), points)


def bore_disguised(body: Body, face: Face) -> tuple[Body, list[Wound]]:
    """A full cylinder on the rational spline surface that is that cylinder (The NURBS Book, 8.3)."""
    assert isinstance(face.surface, Cylinder)
    cylinder, points = face.surface, np.concatenate([_along(loop) for loop in face.loops])
    height = cylinder.frame.local(points)[:, 2]
    low, high = float(height.min()), float(height.max())
    square = np.array([[1, 0], [1, 1], [0, 1], [-1, 1], [-1, 0], [-1, -1], [0, -1], [1, -1], [1, 0]], dtype=float)
    net = np.array([[[*(cylinder.radius * s), z] for z in (low - 1.0, high + 1.0)] for s in square])
    weights = np.repeat(np.where(np.arange(9) % 2 == 0, 1.0, np.sqrt(0.5))[:, None], 2, axis=1)
    around = frozen([0, 0, 0, 0.25, 0.25, 0.5, 0.5, 0.75, 0.75, 1, 1, 1])
    made = BSplineSurface(
        around, frozen([0, 0, 1, 1]), 2, 1, frozen(cylinder.frame.world(net.reshape(-1, 3)).reshape(9, 2, 3)),
        frozen(weights),
    )  # fmt: skip
    return _resurfaced(body, face, made, points)


def _resurfaced(body: Body, face: Face, surface: BSplineSurface, points: Floats) -> tuple[Body, list[Wound]]:
    at = points[:1]
    same = float(surface.normal(at)[0] @ face.surface.normal(at)[0]) > 0.0
    new = replace(face, surface=surface, along=face.along == same, uid=new_uid())
    use = next(u for u in body.uses if u.face is face)
    place, reach = _spot(points)
    return _with_edges(body, {}, {face: [FaceUse(new, use.forward)]}), [Wound("disguised surface", place, reach, None)]


def sheet_hidden(body: Body, centre: Floats, normal: Floats, side: float) -> tuple[Body, list[Wound]]:
    """A square sheet left inside the solid."""
    frame = Frame.of(centre, normal)
    corners = frame.world(0.5 * side * np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]], dtype=float))
    vertices = [vertex_at(c) for c in corners]
    loop = []
    for a, b in zip(vertices, vertices[1:] + vertices[:1], strict=True):
        loop.append(Coedge(Edge(Line.through(a.point, b.point), 0.0, side, a, b), True))
    sheet = FaceUse(Face(Plane(frame), (tuple(loop),)))
    wound = Wound("hidden sheet", _tuple(frame.origin), side, side)
    return body.with_uses([*body.uses, sheet]), [wound]


def straight_edges(body: Body, face: Face, least: float) -> list[Edge]:
    """Straight edges of a face between two plane faces, at least so long."""
    adj = adjacency(body)
    return [
        e
        for e in face.edges()
        if e.curve.kind == "line"
        and e.length > least
        and all(use.face.surface.kind == "plane" for use, _ in adj.uses[e])
    ]
