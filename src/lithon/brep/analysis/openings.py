"""Where the skin of a body does not close: holes in it, and gaps between edges that should meet."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.area import off_edge
from lithon.brep.loops import walks
from lithon.brep.shells import grouped
from lithon.brep.topology import Body, Coedge, Edge, Face
from lithon.geometry.curves import Circle
from lithon.geometry.rounds import Cone
from lithon.geometry.surfaces import Cylinder, Plane, Surface

#: Samples along an edge.
_ALONG = 9


@dataclass(frozen=True, slots=True, eq=False)
class Opening:
    """Open edges that hang together: their length (mm) and, where they lie against others, the gap (mm)."""

    edges: tuple[Edge, ...]
    length: float
    gap: float | None
    middle: Floats


def samples(edge: Edge) -> Floats:
    return np.asarray(edge.curve.point(np.linspace(edge.t0, edge.t1, _ALONG)))


def openings(body: Body) -> list[Opening]:
    """The open boundaries of a body; edges that run beside one another are one opening, with a gap."""
    open_edges = [edge for edge, uses in adjacency(body).uses.items() if len(uses) == 1]
    if not open_edges:
        return []
    points = [samples(edge) for edge in open_edges]
    beside: dict[int, tuple[int, float]] = {}
    tree = scipy.spatial.cKDTree(np.concatenate(points))
    owner = np.repeat(np.arange(len(open_edges)), _ALONG)
    for k, edge in enumerate(open_edges):
        reach = 0.08 * edge.length
        near, row = tree.query(points[k][1:-1], k=min(4 * _ALONG, len(owner)), distance_upper_bound=reach)
        best: dict[int, list[float]] = {}
        for d, r in zip(np.atleast_2d(near), np.atleast_2d(row), strict=True):
            seen: set[int] = set()
            for distance, index in zip(d.tolist(), r.tolist(), strict=True):
                if not np.isfinite(distance) or index >= len(owner):
                    break
                other = int(owner[index])
                if other != k and other not in seen:
                    seen.add(other)
                    best.setdefault(other, []).append(distance)
        full = {o: float(np.median(ds)) for o, ds in best.items() if len(ds) >= _ALONG - 3}
        if full:
            other = min(full, key=lambda o: full[o])
            beside[k] = other, _distance(open_edges[k], open_edges[other])

    def keys(k: int) -> list[object]:
        edge = open_edges[k]
        out: list[object] = [v for v in (edge.start, edge.end) if v is not None]
        if k in beside:
            out.append(("pair", min(k, beside[k][0]), max(k, beside[k][0])))
        return out

    found = []
    for members in grouped(list(range(len(open_edges))), keys):
        gaps = [beside[k][1] for k in members if k in beside]
        edges = tuple(open_edges[k] for k in members)
        middle = np.concatenate([points[k] for k in members]).mean(axis=0)
        whole = len(gaps) >= 0.5 * len(members)
        found.append(Opening(edges, sum(e.length for e in edges), max(gaps) if whole else None, middle))
    return found


def torn_faces(body: Body) -> dict[Face, list[Edge]]:
    """Faces that hang on the others rather than these on them, or stand by themselves; with their open edges. Of an
    outline that is torn most is open, but not all: that would be an opening of the face."""
    free = {edge for edge, uses in adjacency(body).uses.items() if len(uses) == 1}
    out: dict[Face, list[Edge]] = {}
    for face in body.faces if free else ():
        own = [e for e in dict.fromkeys(face.edges()) if e in free]
        for loop in face.loops if own else ():
            open_length = sum(c.edge.length for c in loop if c.edge in free)
            held = sum(c.edge.length for c in loop if c.edge not in free)
            if open_length > held > 0.0 or len(own) == len(dict.fromkeys(face.edges())):
                out[face] = own
    return out


def tears(body: Body) -> list[tuple[tuple[Face, ...], tuple[Edge, ...]]]:
    """Faces that are torn off, by the loop of edges that would be open without them, where these close."""
    torn = torn_faces(body)
    held = {e for f in body.faces if f not in torn for e in f.edges()}
    torn = {f: own for f, own in torn.items() if held.intersection(f.edges())}  # what stands by itself tears nothing
    rest = body.with_uses(u for u in body.uses if u.face not in torn)
    if not torn or not rest.uses:
        return []
    free = open_edges(rest)
    loops = walks(list(free.values()))
    if not loops or sum(len(loop) for loop in loops) < len(free):
        return []
    middles = np.array([np.mean([c.edge.at(0.5) for c in loop], axis=0) for loop in loops])
    found: list[list[Face]] = [[] for _ in loops]
    for face in torn:
        at = np.mean([e.at(0.5) for e in face.edges()], axis=0)
        found[int(np.linalg.norm(middles - at, axis=1).argmin())].append(face)
    return [(tuple(own), tuple(c.edge for c in loop)) for own, loop in zip(found, loops, strict=True) if own]


def _distance(a: Edge, b: Edge) -> float:
    """The widest distance (mm) of the middle half of an edge from another edge."""
    mine = a.curve.point(a.t0 + np.linspace(0.25, 0.75, 7) * (a.t1 - a.t0))
    return float(off_edge(b, mine).max())


def open_edges(body: Body) -> dict[Edge, Coedge]:
    """Open edges as a face on the other side walks them."""
    return {
        edge: Coedge(edge, c.forward != use.forward)
        for edge, ((use, c), *more) in adjacency(body).uses.items()
        if not more
    }


def surfaces_over(body: Body, opening: Opening, free: dict[Edge, Coedge], tolerance: float) -> Iterator[Surface]:
    """A plane through the edges, what turns from one arc to another, and whatever the body's faces lie on; each passes
    through all edges of the opening."""
    points = np.concatenate([samples(e) for e in opening.edges])
    middle = points.mean(axis=0)
    _, size, ways = np.linalg.svd(points - middle)
    flat = [Plane.of(middle, ways[2])] if len(size) > 1 and size[1] > 1e-9 * size[0] else []
    beside = {use.face.surface for e in opening.edges for use, _ in adjacency(body).uses[e]}
    # A lid that only went on as the face around it would hide a bore: its wall is tried first there.
    lid = any(s.kind == "plane" and float(np.abs(s.signed_distance(points)).max()) < 10.0 * tolerance for s in beside)
    round_ones = list(_between_arcs(opening, free))
    for surface in (*round_ones, *flat) if lid else (*flat, *round_ones):
        yield from _if_near(surface, points, tolerance)
    for surface in dict.fromkeys(face.surface for face in body.faces):
        if surface.kind not in ("plane", "facets"):
            yield from _if_near(surface, points, tolerance)


def _between_arcs(opening: Opening, free: dict[Edge, Coedge]) -> Iterator[Surface]:
    """Cylinders and cones on which an arc of the opening and another open one, about the same axis, lie."""
    arcs = [e.curve for e in free if isinstance(e.curve, Circle)]
    for a in [e.curve for e in opening.edges if isinstance(e.curve, Circle)]:
        for b in arcs:
            there = a.frame.local(b.frame.origin[None])[0]
            level = abs(float(a.frame.z @ b.frame.z)) > 1.0 - 1e-9
            if b is a or not level or np.hypot(there[0], there[1]) > 1e-6 or abs(there[2]) < 1e-6:
                continue
            if abs(a.radius - b.radius) < 1e-6:
                yield Cylinder(a.frame, a.radius)
                continue
            low, high = sorted((a, b), key=lambda c: c.radius)
            rise = float((high.frame.origin - low.frame.origin) @ a.frame.z)
            angle = float(np.arctan2(high.radius - low.radius, abs(rise)))
            yield Cone.of(high.frame.origin, a.frame.z * np.sign(rise), high.radius, angle)


def _if_near(surface: Surface, points: Floats, tolerance: float) -> Iterator[Surface]:
    if float(np.abs(surface.signed_distance(points)).max()) < 10.0 * tolerance:
        yield surface
