"""Where the skin of a body does not close: holes in it, and gaps between edges that should meet."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.area import off_edge
from lithon.brep.shells import grouped
from lithon.brep.topology import Body, Edge

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


def _distance(a: Edge, b: Edge) -> float:
    """The widest distance (mm) of the middle half of an edge from another edge."""
    mine = a.curve.point(a.t0 + np.linspace(0.25, 0.75, 7) * (a.t1 - a.t0))
    return float(off_edge(b, mine).max())
