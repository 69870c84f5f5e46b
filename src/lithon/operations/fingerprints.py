"""Parts of a model named so that the name lasts: by kind, place and size, never by a bare index or a name alone.

A mark is plain data. Of things that are alike in all that a mark says (a doubled face, a body that stands there twice)
it says which: the first, the second. Finding it again gives that very one, or nothing: never another in its place.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.copies import Copy, copy_of, root_of
from lithon.brep.measures import face_area, face_centroid, prepare, volume
from lithon.brep.topology import Body, Edge, Face, Model, Vertex, rough_box
from lithon.errors import BadFile, Unresolved, spot
from lithon.geometry.surfaces import Cylinder
from lithon.remembered import Remembered

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
    if number := _number_of(model, face, out):
        out["number"] = number
    return out


def _number_of(model: Model, face: Face, mark: Fingerprint) -> int:
    """Which of the faces of a model that a mark fits exactly this one is."""
    one = _Wanted.of(mark)
    alike = 0
    for body in model.bodies:  # nearly always it is alone, and no face need be made of a copy
        m = _Marks.of(body)
        alike += int((m.away(one.kind, one.radius, one.area, one.place, one.direction) < _ALIKE).sum())
    if alike < 2:
        return 0
    same = [x for x, away in _fitting(model, [one])[0] if away < _ALIKE]
    return same.index(face) if face in same else 0


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
        return _known.over(body, copy_of, _Marks._found, lambda copy, there: there._moved(copy))

    @staticmethod
    def _found(body: Body) -> _Marks:
        prepare(body.faces)
        faces = body.faces
        return _Marks(
            np.array([f.surface.kind for f in faces]),
            np.array([f.surface.radius if isinstance(f.surface, Cylinder) else np.nan for f in faces]),
            np.array([face_area(f) for f in faces]),
            np.array([face_centroid(f) for f in faces]).reshape(-1, 3),
            np.array([f.surface.frame.z for f in faces]).reshape(-1, 3),
        )

    def _moved(self, copy: Copy) -> _Marks:
        return replace(self, places=copy.points(self.places), directions=copy.ways(self.directions))

    def away(self, kind: str, radius: float, area: float, place: Floats, direction: Floats) -> Floats:
        """How far (mm) each face of the same kind, radius, direction and about the same area lies; others inf."""
        like = self.kinds == kind
        like &= ~(np.abs(self.radii - radius) > 0.02 * radius + 1e-6)
        like &= np.abs(self.directions @ direction) >= 0.999
        like &= (0.7 * area <= self.areas) & (self.areas <= area / 0.7 + 1e-9)
        return np.where(like, np.linalg.norm(self.places - place, axis=1), np.inf)


_known = Remembered[Body, _Marks]("operations/fingerprints:known")


#: Things nearer than this (mm) to what a mark says are all that it says; marks are written to a millionth.
_ALIKE = 1e-5


@dataclass(frozen=True, slots=True)
class _Wanted:
    """What a mark of a face says."""

    kind: str
    place: Floats
    direction: Floats
    area: float
    radius: float
    number: int

    @staticmethod
    def of(mark: Fingerprint) -> _Wanted:
        try:
            out = _Wanted(
                str(mark["kind"]),
                _three(mark["place"]),
                _three(mark["direction"]),
                float(mark["area"]),
                float(mark.get("radius", 0.0)),
                int(mark.get("number", 0)),
            )
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise BadFile(f"a recorded face is not well formed ({error})") from error
        return out


def _three(values: Any) -> Floats:
    out = np.array([float(c) for c in values])
    if out.shape != (3,) or not np.isfinite(out).all():
        raise ValueError("a place and a direction have three numbers")
    return out


def _reach(model: Model) -> float:
    """How far (mm) a thing may have moved and still be the same."""
    span = rough_box(model.bodies)
    return 0.03 * float(np.linalg.norm(span[1] - span[0]))


def _fitting(model: Model, wanted: Sequence[_Wanted]) -> list[list[tuple[Face, float]]]:
    """For each, the faces that it may be, nearest first, with their distance (mm)."""
    reach = _reach(model)
    marks = [_Marks.of(body) for body in model.bodies]
    starts = np.cumsum([0, *(len(body.uses) for body in model.bodies)])
    out = []
    for one in wanted:
        rows = [m.away(one.kind, one.radius, one.area, one.place, one.direction) for m in marks]
        away = np.concatenate([np.zeros(0), *rows])
        found: dict[Face, float] = {}  # what two bodies share stands in both
        for row in _nearest(away, reach):
            at = int(np.searchsorted(starts, row, side="right")) - 1
            found.setdefault(model.bodies[at].uses[row - int(starts[at])].face, float(away[row]))
        out.append(list(found.items()))
    return out


def _nearest(away: Floats, reach: float) -> list[int]:
    """The rows within reach, nearest first; what differs by less than a mark can say stays in its order."""
    near = np.flatnonzero(away <= reach)
    return [int(k) for k in near[np.argsort(np.round(away[near] / _ALIKE), kind="stable")]]


def resolve(model: Model, wanted: Sequence[Fingerprint]) -> list[Face]:
    """The faces of these fingerprints. Raises Unresolved naming those that are not there.

    A face counts as the same when kind, radius and direction agree, its area within 30 % and its
    place within 3 % of the model's diagonal; of several the nearest, of equally near ones the one that the mark counts.
    """
    asked = [_Wanted.of(mark) for mark in wanted]
    taken: dict[Face, None] = {}
    lost: list[str] = []
    for one, near in zip(asked, _fitting(model, asked), strict=True):
        alike = [face for face, away in near if away < _ALIKE]
        if one.number:
            best = alike[one.number] if one.number < len(alike) else None
        else:
            best = next((face for face, _ in near if face not in taken), None)
        if best is None:
            lost.append(f"{one.kind} face at {spot(one.place)}")
        else:
            taken[best] = None
    if lost:
        raise _lost(len(lost), len(asked), "faces", lost[0])
    return list(taken)


def _lost(lost: int, of: int, what: str, where: str) -> Unresolved:
    return Unresolved(
        f"{lost} of {of} recorded {what} are not on this model",
        where=where,
        remedy="choose them again on this model, or switch the step off",
    )


# ---- edges and vertices


def edge_mark(edge: Edge) -> Fingerprint:
    """Plain data that finds an edge again."""
    middle = edge.curve.frame.origin if edge.ring and hasattr(edge.curve, "frame") else edge.at(0.5)
    return {"curve": edge.curve.kind, "place": [round(float(c), 6) for c in middle], "length": round(edge.length, 6)}


def resolve_edges(model: Model, wanted: Sequence[Fingerprint]) -> list[Edge]:
    """The edges of these marks: same kind of curve, length within 30 %, place within 3 % of the diagonal."""
    edges = model.edges()
    own = [edge_mark(edge) for edge in edges]
    places = np.array([mark["place"] for mark in own]).reshape(-1, 3)
    lengths = np.array([mark["length"] for mark in own])
    curves = np.array([mark["curve"] for mark in own])
    reach = _reach(model)
    taken: dict[Edge, None] = {}
    lost = []
    for mark in wanted:
        try:
            kind, place, length = str(mark["curve"]), _three(mark["place"]), float(mark["length"])
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise BadFile(f"a recorded edge is not well formed ({error})") from error
        like = (curves == kind) & (0.7 * length <= lengths) & (lengths <= length / 0.7 + 1e-9)
        away = np.where(like, np.linalg.norm(places - place, axis=1), np.inf)
        best = next((edges[k] for k in _nearest(away, reach) if edges[k] not in taken), None)
        if best is None:
            lost.append(f"{kind} at {spot(place)}")
        else:
            taken[best] = None
    if lost:
        raise _lost(len(lost), len(wanted), "edges", lost[0])
    return list(taken)


def vertex_mark(vertex: Vertex) -> Fingerprint:
    """Plain data that finds a vertex again."""
    return {"place": [round(float(c), 6) for c in vertex.point]}


def resolve_vertices(model: Model, wanted: Sequence[Fingerprint]) -> list[Vertex]:
    """The vertices nearest to the places of these marks, within 3 % of the diagonal."""
    vertices = list(dict.fromkeys(v for body in model.bodies for v in body.vertices()))
    places = np.array([v.point for v in vertices]).reshape(-1, 3)
    reach = _reach(model)
    taken: dict[Vertex, None] = {}
    lost = []
    for mark in wanted:
        try:
            place = _three(mark["place"])
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise BadFile(f"a recorded vertex is not well formed ({error})") from error
        near = _nearest(np.linalg.norm(places - place, axis=1), reach)
        best = next((vertices[k] for k in near if vertices[k] not in taken), None)
        if best is None:
            lost.append(spot(place))
        else:
            taken[best] = None
    if lost:
        raise _lost(len(lost), len(wanted), "vertices", lost[0])
    return list(taken)


# ---- bodies


def body_mark(model: Model, body: Body) -> Fingerprint:
    """Plain data that finds a body again, also where others have its name or stand where it does."""
    out: Fingerprint = {"name": body.name, **_build_of(body)}
    called = [b for b in model.bodies if b.name == body.name]
    if len(called) > 1:
        out["namesakes"] = len(called)
        alike = [b for b in called if _stands_alike(b, out)]
        if number := alike.index(body):
            out["number"] = number
    return out


def _build_of(body: Body) -> Fingerprint:
    kinds = Counter(use.face.surface.kind for use in root_of(body).uses)
    return {
        "place": [round(float(c), 6) for c in rough_box([body]).mean(axis=0)],
        "volume": float(f"{volume(body):.9g}"),
        "surfaces": dict(sorted(kinds.items())),
    }


def _stands_alike(body: Body, mark: Fingerprint) -> bool:
    """Whether a body is, to the digits of a mark, what that says."""
    own = _build_of(body)
    near = float(np.linalg.norm(np.array(own["place"]) - _three(mark["place"]))) < _ALIKE
    like = abs(own["volume"] - float(mark["volume"])) <= 1e-6 * abs(own["volume"]) + 1e-9
    return near and like and own["surfaces"] == mark["surfaces"]


def resolve_bodies(model: Model, wanted: Sequence[Fingerprint | str]) -> list[Body]:
    """The bodies of these marks, or of these names where only a name was written. Raises Unresolved.

    A name that one body has says enough, wherever that stands now. Where several have it, or had it when the mark was
    made, place, volume and surfaces tell which; where no body has it, they find it under another name.
    """
    out: dict[Body, None] = {}
    for mark in wanted:
        try:
            out[_body_of(model, {"name": mark} if isinstance(mark, str) else mark)] = None
        except (KeyError, TypeError, ValueError, AttributeError) as error:
            raise BadFile(f"a recorded body is not well formed ({error})") from error
    return list(out)


def _body_of(model: Model, mark: Fingerprint) -> Body:
    name = str(mark["name"])
    called = [b for b in model.bodies if b.name == name]
    if len(called) == 1 and int(mark.get("namesakes", 1)) == 1:
        return called[0]
    if "place" not in mark:
        if not called:
            raise Unresolved(f"no body is called {name}", remedy="choose it again, or switch the step off")
        raise Unresolved(
            f"{len(called)} bodies are called {name}, and only a name was recorded", remedy="choose the body again"
        )
    place, size, kinds = _three(mark["place"]), float(mark["volume"]), dict(mark["surfaces"])
    number = int(mark.get("number", 0))
    alike = [b for b in called or model.bodies if _stands_alike(b, mark)]
    if number < len(alike):
        return alike[number]
    # Changed a little, as on a new revision: taken where there is just one that it may be.
    reach = _reach(model)
    near = []
    for body in called or model.bodies:
        own = _build_of(body)
        close = float(np.linalg.norm(np.array(own["place"]) - place)) <= reach
        if close and own["surfaces"].keys() == kinds.keys() and 0.7 * size <= own["volume"] <= size / 0.7 + 1e-9:
            near.append(body)
    if len(near) == 1 and not alike and not number:
        return near[0]
    raise Unresolved(
        f"the recorded body {name} is not on this model" if not near else f"{name} may be any of {len(near)} bodies",
        where=spot(place),
        remedy="choose the body again on this model, or switch the step off",
    )
