"""Edges that should be one are made one: the better of two is kept, the faces of both end on it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import samples
from lithon.brep.area import off_edge
from lithon.brep.gate import kinds, worse
from lithon.brep.rewrite import rewrite
from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.errors import Refusal, spot
from lithon.mend.close import openings_beside
from lithon.progress import pulse


def sewn(body: Body, faces: Sequence[Face], tolerance: float) -> tuple[Body, float]:
    """The body with the gaps between the chosen faces sewn, and how far (mm) an edge was moved at the most.

    Raises Refusal where edges do not lie beside each other from end to end, or their faces would not reach.
    """
    gaps = [o for o in openings_beside(body, faces) if o.gap is not None]
    if not gaps:
        raise Refusal("these faces have no gap between them", remedy="choose all faces along the gap",
                      entities=tuple(faces))  # fmt: skip
    uses = adjacency(body).uses
    edges: dict[Edge, tuple[Edge, bool]] = {}
    vertices: dict[Vertex, Vertex] = {}
    moved = 0.0
    for gap in gaps:
        pulse()
        left = list(gap.edges)
        while left:
            a = left.pop()
            b = min(left, key=lambda e: float(off_edge(e, samples(a)).max()), default=None)
            far = max(float(off_edge(b, samples(a)).max()), float(off_edge(a, samples(b)).max())) if b else np.inf
            if b is None or far > 0.1 * min(a.length, b.length):
                raise Refusal(
                    "the edges along the gap do not lie beside each other from end to end", where=spot(a.at(0.5)),
                    remedy="clear one of the faces there, or drop it and close the opening",
                )  # fmt: skip
            left.remove(b)
            kept, gone = sorted((a, b), key=lambda e: _off_faces(e, [u.face for x in (a, b) for u, _ in uses[x]]))
            ends = [(kept.at(0.0), kept.at(1.0)), (gone.at(0.0), gone.at(1.0))]
            same = float(np.linalg.norm(ends[0][0] - ends[1][0])) <= float(np.linalg.norm(ends[0][0] - ends[1][1]))
            edges[gone] = kept, same
            for old, new in (
                (gone.start, kept.start if same else kept.end),
                (gone.end, kept.end if same else kept.start),
            ):
                if old is not None and new is not None and old is not new:
                    vertices[old] = new
            moved = max(moved, far)
    out = rewrite(body, vertices, edges)
    if found := worse(out, [body], tolerance):
        raise Refusal(
            f"sewn there, the faces would not reach the edge ({kinds(found)})", where=spot(gaps[0].middle),
            remedy="clear the narrower face, or rebuild it on a clean surface",
        )  # fmt: skip
    return out, moved


def _off_faces(edge: Edge, faces: list[Face]) -> float:
    """How far (mm) an edge stands off faces at the most."""
    return max(float(np.abs(f.surface.signed_distance(samples(edge))).max()) for f in faces)
