"""Faces named so that the name lasts: by surface, place and size, never by a bare index."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from lithon.brep.measures import face_area, face_centroid
from lithon.brep.topology import Face, Model, rough_box
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


def resolve(model: Model, wanted: Sequence[Fingerprint]) -> list[Face]:
    """The faces of these fingerprints. Raises Unresolved naming those that are not there.

    A face counts as the same when kind, radius and direction agree, its area within 30 % and its
    place within 3 % of the model's diagonal; of several the nearest.
    """
    span = rough_box(model.bodies)
    reach = 0.03 * float(np.linalg.norm(span[1] - span[0]))
    faces = model.faces()
    out: list[Face] = []
    lost: list[str] = []
    for mark in wanted:
        try:
            place = np.array([float(c) for c in mark["place"]])
            direction = np.array([float(c) for c in mark["direction"]])
            kind, area, radius = str(mark["kind"]), float(mark["area"]), float(mark.get("radius", 0.0))
        except (KeyError, TypeError, ValueError) as error:
            raise BadFile(f"a recorded face is not well formed ({error})") from error
        best: Face | None = None
        nearest = reach
        for face in faces:
            if face.surface.kind != kind or face in out:
                continue
            if isinstance(face.surface, Cylinder) and abs(face.surface.radius - radius) > 0.02 * radius + 1e-6:
                continue
            if abs(float(face.surface.frame.z @ direction)) < 0.999:
                continue
            if not 0.7 * area <= face_area(face) <= area / 0.7 + 1e-9:
                continue
            away = float(np.linalg.norm(face_centroid(face) - place))
            if away <= nearest:
                best, nearest = face, away
        if best is None:
            lost.append(f"{kind} face at {spot(place)}")
        else:
            out.append(best)
    if lost:
        raise Unresolved(
            f"{len(lost)} of {len(wanted)} recorded faces are not on this model",
            where=lost[0],
            remedy="choose them again on this model, or switch the step off",
        )
    return out
