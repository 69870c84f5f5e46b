"""Faces named so that the name lasts: by surface, place and size, never by a bare index."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats
from lithon.brep.copies import copy_of
from lithon.brep.measures import face_area, face_centroid, prepare
from lithon.brep.topology import Body, Face, Model, rough_box
from lithon.errors import BadFile, Unresolved, spot
from lithon.geometry.surfaces import Cylinder

Fingerprint = dict[str, Any]


def fingerprint(model: Model, face: Face) -> Fingerprint:
    """Plain data that finds the face again on this model, or on one much like it."""
    owners = model.owners(face)
    out: Fingerprint = {
        "kind": face.surface.kind,
        "body": owners[0].name if owners else "",
        "place": [round(float(c), 6) for c in face_centroid(face)],
        "area": round(face_area(face), 6),
        "direction": [round(float(c), 6) for c in face.surface.frame.z],
    }
    if isinstance(face.surface, Cylinder):
        out["radius"] = round(face.surface.radius, 6)
    return out


@dataclass(frozen=True, slots=True)
class _Marks:
    """What tells the faces of a body apart, in rows: kinds, radii (nan: none), areas, centroids, directions."""

    kinds: np.ndarray
    radii: Floats
    areas: Floats
    places: Floats
    directions: Floats

    @staticmethod
    def of(body: Body) -> _Marks:
        copy = copy_of(body)
        if body not in _known and copy is not None:
            there = _Marks.of(copy.body)
            _known[body] = replace(there, places=copy.points(there.places), directions=copy.ways(there.directions))
        if body not in _known:
            prepare(body.faces)
            faces = body.faces
            _known[body] = _Marks(
                np.array([f.surface.kind for f in faces]),
                np.array([f.surface.radius if isinstance(f.surface, Cylinder) else np.nan for f in faces]),
                np.array([face_area(f) for f in faces]),
                np.array([face_centroid(f) for f in faces]).reshape(-1, 3),
                np.array([f.surface.frame.z for f in faces]).reshape(-1, 3),
            )
        return _known[body]

    def away(self, kind: str, radius: float, area: float, place: Floats, direction: Floats) -> Floats:
        """How far (mm) each face of the same kind, radius, direction and about the same area lies; others inf."""
        like = self.kinds == kind
        like &= ~(np.abs(self.radii - radius) > 0.02 * radius + 1e-6)
        like &= np.abs(self.directions @ direction) >= 0.999
        like &= (0.7 * area <= self.areas) & (self.areas <= area / 0.7 + 1e-9)
        return np.where(like, np.linalg.norm(self.places - place, axis=1), np.inf)


_known: WeakKeyDictionary[Body, _Marks] = WeakKeyDictionary()


def resolve(model: Model, wanted: Sequence[Fingerprint]) -> list[Face]:
    """The faces of these fingerprints. Raises Unresolved naming those that are not there.

    A face counts as the same when kind, radius and direction agree, its area within 30 % and its
    place within 3 % of the model's diagonal; of several the nearest.
    """
    span = rough_box(model.bodies)
    reach = 0.03 * float(np.linalg.norm(span[1] - span[0]))
    places = [(body, k) for body in model.bodies for k in range(len(body.uses))]
    marks = [_Marks.of(body) for body in model.bodies]
    taken: dict[Face, None] = {}
    lost: list[str] = []
    for mark in wanted:
        try:
            place = np.array([float(c) for c in mark["place"]])
            direction = np.array([float(c) for c in mark["direction"]])
            kind, area, radius = str(mark["kind"]), float(mark["area"]), float(mark.get("radius", 0.0))
            if place.shape != (3,) or direction.shape != (3,):
                raise ValueError("a place and a direction have three numbers")
        except (KeyError, TypeError, ValueError) as error:
            raise BadFile(f"a recorded face is not well formed ({error})") from error
        away = np.concatenate([np.zeros(0), *(m.away(kind, radius, area, place, direction) for m in marks)])
        # The nearest that no other mark has taken; what two bodies share stands in both.
        near = (body.uses[k].face for body, k in (places[row] for row in _nearest(away, reach)))
        best = next((face for face in near if face not in taken), None)
        if best is None:
            lost.append(f"{kind} face at {spot(place)}")
        else:
            taken[best] = None
    if lost:
        raise Unresolved(
            f"{len(lost)} of {len(wanted)} recorded faces are not on this model",
            where=lost[0],
            remedy="choose them again on this model, or switch the step off",
        )
    return list(taken)


def _nearest(away: Floats, reach: float) -> list[int]:
    """The rows within reach, nearest first."""
    near = np.flatnonzero(away <= reach)
    return [int(k) for k in near[np.argsort(away[near], kind="stable")]]
