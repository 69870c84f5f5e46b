"""Walls and slots: where two sides of a body stand close to each other, back to back or face to face."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.thickness import Field, clearance, thickness
from lithon.brep.topology import Body, Face
from lithon.survey.card import xyz

Wall = tuple[float, tuple[Face, Face], tuple[float, float, float]]


def walls(body: Body, most: float) -> list[Wall]:
    """The thinnest place (mm) between each pair of faces that make a wall thinner than `most`, with the faces
    and the place. Neighbours make a corner, not a wall."""
    return _narrowest(body, thickness(body), most)


def slots(body: Body, most: float) -> list[Wall]:
    """Likewise the narrowest place between faces that look at each other across a void narrower than `most`."""
    return _narrowest(body, clearance(body, most), most)


def _narrowest(body: Body, field: Field, most: float) -> list[Wall]:
    where, wall, own, far, facing = field
    rows = np.flatnonzero(np.isfinite(wall) & (wall < most) & (far >= 0) & (own != far) & (facing < -0.5))
    rows = rows[np.argsort(wall[rows], kind="stable")]
    low, high = np.minimum(own[rows], far[rows]), np.maximum(own[rows], far[rows])
    _, first = np.unique(low * len(body.uses) + high, return_index=True)
    adj = adjacency(body)
    out = []
    for k in np.sort(first).tolist():
        a, b = body.uses[int(low[k])].face, body.uses[int(high[k])].face
        if b not in adj.neighbours(a):
            place = where[rows[k]]
            near = a if own[rows[k]] == low[k] else b
            out.append((_exact(near, a, b, place, float(wall[rows[k]])), (a, b), xyz(place)))
    return out


def _exact(near: Face, a: Face, b: Face, place: Floats, seen: float) -> float:
    """The wall between the true surfaces where triangles say `seen`; that, where they differ by more than
    chords do (the wall is not straight across)."""
    far = b if near is a else a
    true = abs(float(far.surface.signed_distance(near.surface.project(place[None]))[0]))
    return true if abs(true - seen) < 0.03 * seen else seen
