"""Cards for places where the skin of a body passes through itself."""

from __future__ import annotations

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.analysis.openings import samples
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.tolerance import MISS
from lithon.survey.card import PATCH_EDGES, Finding, xyz
from lithon.words import many


def _plane_rim(body: Body, faces: tuple[Face, ...], tolerance: float) -> tuple[bool, tuple[Edge, ...]]:
    """Whether it is one face, held all around by others, whose outline lies in a plane; and its edges."""
    if len(faces) > 1 or len(faces[0].loops) != 1:
        return False, ()
    edges = tuple(dict.fromkeys(faces[0].edges()))
    if any(len(adjacency(body).uses[e]) != 2 for e in edges):
        return False, ()
    points = np.concatenate([samples(e) for e in edges])
    *_, size = np.linalg.svd(points - points.mean(axis=0), full_matrices=False)[1]
    return bool(size < MISS * tolerance), edges


_BY_HAND = "put a patch over the edges around it, or replace it by a simple surface"


def crossing_cards(body: Body, tolerance: float) -> list[Finding]:
    found = self_intersections(body, tolerance)
    if not found:
        return []
    faces = tuple(dict.fromkeys(f for one, two, _ in found for f in (one, two)))
    whole, edges = _plane_rim(body, faces, tolerance)
    every = np.concatenate([spots for *_, spots in found])
    reach = float(np.linalg.norm(np.ptp(every, axis=0)))
    return [
        Finding(
            "self-intersection",
            "stops",
            reach,
            xyz(every[len(every) // 2]),
            f"the skin passes through itself in {many(len(every), 'place')} of {many(len(faces), 'face')}",
            "Inside and outside are not told apart there: the volume cannot be filled.",
            PATCH_EDGES if whole else _BY_HAND,
            body,
            faces,
            edges,
            station="mend",
        )
    ]
