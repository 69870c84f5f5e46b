"""A face that is missing is made again: on a plane, on a cylinder or cone between two arcs about one axis, or on a
surface that the body has there already."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import Opening, open_edges, openings, samples, surfaces_over
from lithon.brep.gate import worse
from lithon.brep.loops import group, walks
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse
from lithon.errors import Refusal, spot
from lithon.progress import pulse


def openings_beside(body: Body, faces: Sequence[Face]) -> list[Opening]:
    """The openings that these faces are all around."""
    chosen, adj = set(faces), adjacency(body)
    return [o for o in openings(body) if all(use.face in chosen for e in o.edges for use, _ in adj.uses[e])]


def closed_over(body: Body, faces: Sequence[Face], tolerance: float) -> Body:
    """The body with a new face over each opening that the chosen faces are around. Edges do not move.

    Raises Refusal where no plane and no surface of the body passes through an opening's edges.
    """
    wanted = [o for o in openings_beside(body, faces) if o.gap is None]
    if not wanted:
        raise Refusal("these faces have no opening between them", remedy="choose all faces around the opening",
                      entities=tuple(faces))  # fmt: skip
    out = body
    for opening in wanted:
        if any(e in open_edges(out) for e in opening.edges):  # it may have been a hole in a face made before
            out = _closed_one(out, opening, tolerance)
    return out


def _closed_one(body: Body, opening: Opening, tolerance: float) -> Body:
    free = open_edges(body)
    for surface in surfaces_over(body, opening, free, tolerance):
        pulse()
        near = [
            c for c in free.values() if float(np.abs(surface.signed_distance(samples(c.edge))).max()) < 10.0 * tolerance
        ]
        loops = walks(near)
        for along in (True, False):
            try:
                made = group(loops, surface, along)
            except (Refusal, ValueError):
                continue
            new = [Face(surface, own, along) for own in made if any(c.edge in opening.edges for x in own for c in x)]
            if not new or any(_bad(face) for face in new):
                continue
            out = body.with_uses([*body.uses, *(FaceUse(face) for face in new)])
            if any(e in open_edges(out) for e in opening.edges):
                continue
            if not worse(out, [body], tolerance):
                return out
    raise Refusal(
        "no plane, cylinder or cone and no surface of this body passes through the edges of the opening",
        where=spot(opening.middle),
        remedy="sew its edges, or drop what hangs loose there",
    )  # fmt: skip


def _bad(face: Face) -> bool:
    try:
        return face_mesh(face).trouble != ""
    except Refusal:
        return True
