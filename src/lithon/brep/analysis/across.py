"""How far faces are apart beside the edge that they share."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, unit
from lithon.brep.analysis.adjacency import inward
from lithon.brep.topology import Edge, Face
from lithon.geometry.crossing import onto_all
from lithon.geometry.surfaces import Plane

#: So many steps bring a point of a face to its distance from the edge; that near (a share of it) is there.
_STEPS, _THERE = 60, 1e-12
#: And so near (a share of it) to the face.
_ON = 1e-9


def depth(edge: Edge, faces: Sequence[Face], distance: float) -> float:
    """How far (mm) the middle of an edge is from the line between the points of its two faces that are so far from
    it; all of the distance where one does not go so far."""
    one, two = (straight_across(edge, face, distance) for face in faces)
    return distance if one is None or two is None else float(np.linalg.norm(0.5 * (one + two) - edge.at(0.5)))


def straight_across(edge: Edge, face: Face, distance: float) -> Floats | None:
    """The point (3,) of a face's surface that is so far (mm) from the middle of one of its edges, straight across it
    and on the face's side; none where that does not go so far."""
    at, along = edge.at(0.5), unit(edge.direction(0.5))
    coedge = next(c for loop in face.loops for c in loop if c.edge is edge)
    into = unit(inward(face, coedge, 0.5))
    across, p, off = Plane.of(at, along), at + distance * into, np.inf
    for _ in range(_STEPS):
        p = onto_all([face.surface, across], p[None])[0][0]
        off = float(np.linalg.norm(p - at))
        if off == 0.0 or abs(off - distance) <= _THERE * distance:
            break
        p = at + (p - at) * (distance / off)
    there = abs(off - distance) <= _ON * distance and float((p - at) @ into) > 0.0
    return p if there and abs(float(face.surface.signed_distance(p[None])[0])) <= _ON * distance else None
