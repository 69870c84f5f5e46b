"""Walls and slots: where two sides of a body stand close to each other, back to back or face to face."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, rows_of
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.thickness import Field, clearance, thickness
from lithon.brep.topology import Body, Face
from lithon.survey.card import xyz

#: What is thinner by less (ratio) is not thinner but for rounding.
_LESS = 1.0 - 1e-6
#: How much thicker (ratio) a wall may be that is told together with one beside it.
_ALIKE = 1.5

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
            true = _exact(near, a, b, place, float(wall[rows[k]]))
            if true < _LESS * most:
                out.append((true, (a, b), xyz(place)))
    return out


def joined(body: Body, found: Sequence[Wall]) -> list[tuple[float, tuple[Face, ...], tuple[float, float, float]]]:
    """Walls with those beside them that are about as thick: a pin is one, however many pairs of faces
    it has. For each the thinnest place and all its faces, thinnest first."""
    found = sorted(found, key=lambda wall: wall[0])
    adj, at = adjacency(body), defaultdict[Face, list[int]](list)
    for k, (_, faces, _) in enumerate(found):
        for face in faces:
            at[face].append(k)
    first = list(range(len(found)))

    def root(k: int) -> int:
        while first[k] != k:
            first[k] = k = first[first[k]]
        return k

    for k, (wall, faces, _) in enumerate(found):
        for other in {j for f in faces for g in (f, *adj.neighbours(f)) for j in at.get(g, ()) if j < k}:
            if wall <= _ALIKE * found[other][0]:
                low, high = sorted((root(k), root(other)))
                first[high] = low
    told: dict[int, dict[Face, None]] = defaultdict(dict)
    for k, (_, faces, _) in enumerate(found):
        told[root(k)].update(dict.fromkeys(faces))
    return [(found[k][0], tuple(faces), found[k][2]) for k, faces in sorted(told.items())]


class Thinness:
    """How thick a body is behind any place of its skin."""

    def __init__(self, body: Body):
        where, wall, own, far, facing = thickness(body)
        self._rows = {use.face: rows for use, rows in zip(body.uses, rows_of(own, len(body.uses)), strict=True)}
        self._where, self._far, self._faces = where, far, body.faces
        self._adj = adjacency(body)
        self._wall = np.where((far >= 0) & (own != far) & (facing < -0.5), wall, np.inf)

    def at(self, places: Floats, faces: Sequence[Sequence[Face]]) -> Floats:
        """The thinnest wall (n,) behind any of some faces, each where it is looked at nearest to a place (n,3);
        infinite where there is none, or only that of two faces that meet: they make a corner."""
        asked = defaultdict[Face, list[int]](list)
        for k, own in enumerate(faces):
            for face in own:
                asked[face].append(k)
        out = np.full(len(places), np.inf)
        for face, about in asked.items():
            rows = self._rows.get(face, ())
            if len(rows):
                away = ((places[about][:, None] - self._where[rows]) ** 2).sum(axis=2)
                nearest = rows[away.argmin(axis=1)]
                beside = self._adj.neighbours(face)
                corner = np.array([k >= 0 and self._faces[k] in beside for k in self._far[nearest].tolist()])
                out[about] = np.minimum(out[about], np.where(corner, np.inf, self._wall[nearest]))
        return out


def _exact(near: Face, a: Face, b: Face, place: Floats, seen: float) -> float:
    """The wall between the true surfaces where triangles say `seen`; that, where they differ by more than
    chords do (the wall is not straight across)."""
    far = b if near is a else a
    true = abs(float(far.surface.signed_distance(near.surface.project(place[None]))[0]))
    return true if abs(true - seen) < 0.03 * seen else seen
