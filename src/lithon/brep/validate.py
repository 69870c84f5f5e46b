"""Whether a body is sound, and if not, what is wrong and where."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from weakref import WeakKeyDictionary

import numpy as np

from lithon.brep.adjacency import adjacency
from lithon.brep.charts import parts_of
from lithon.brep.domain import flat_domain
from lithon.brep.measures import face_area, volume
from lithon.brep.tessellate import body_mesh, edge_points, face_mesh, open_edges
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse
from lithon.errors import Refusal, spot


@dataclass(frozen=True, slots=True)
class Flaw:
    """One thing wrong with a body."""

    kind: str
    text: str
    place: tuple[float, float, float]
    entity: Any


def flaws(body: Body, tolerance: float) -> list[Flaw]:
    """Everything wrong with a body: openness, orientation, gaps, tangled boundaries, volume."""
    found = _edge_flaws(body) + _gap_flaws(body, tolerance)
    for face in dict.fromkeys(body.faces):
        found += _face_flaws(face, tolerance)
    if not found:
        _, triangles, _ = body_mesh(body)
        if open_edges(triangles):
            found.append(Flaw("leak", "the triangles of the body do not close", _at(body.faces[0]), body))
        elif volume(body) <= 0.0:
            found.append(Flaw("inside-out", "the body encloses no positive volume", _at(body.faces[0]), body))
    return found


def check(body: Body, tolerance: float) -> Body:
    """The body itself, or a Refusal naming the first flaw and how many there are."""
    found = flaws(body, tolerance)
    if not found:
        return body
    first = found[0]
    more = f" (and {len(found) - 1} more flaws)" if len(found) > 1 else ""
    raise Refusal(
        f"the result would not be a sound solid: {first.text}{more}", where=spot(first.place), entities=(first.entity,)
    )


def _at(face: Face) -> tuple[float, float, float]:
    for edge in face.edges():
        return _tuple(edge.at(0.5))
    return _tuple(face.surface.frame.origin)


def _tuple(point: Any) -> tuple[float, float, float]:
    return (float(point[0]), float(point[1]), float(point[2]))


def _edge_flaws(body: Body) -> list[Flaw]:
    out = []
    for edge, uses in adjacency(body).uses.items():
        place = _tuple(edge.at(0.5))
        if len(uses) == 1:
            out.append(Flaw("open edge", "an edge has a face on one side only", place, edge))
        elif len(uses) % 2 == 0 and _balanced(uses):
            continue  # two sheets of skin, or more where the body touches itself along the edge
        elif len(uses) > 2:
            out.append(Flaw("crowded edge", f"an edge is used {len(uses)} times", place, edge))
        else:
            out.append(Flaw("flipped face", "two faces run the same way along their edge", place, edge))
    return out


def _balanced(uses: list[tuple[FaceUse, Coedge]]) -> bool:
    """Whether as many faces walk an edge one way as the other."""
    return 2 * sum(coedge.forward == use.forward for use, coedge in uses) == len(uses)


def touching_edges(body: Body) -> list[Edge]:
    """Edges along which a body touches itself: four faces meet there, or more."""
    return [edge for edge, uses in adjacency(body).uses.items() if len(uses) > 2 and _balanced(uses)]


def widest_gap(body: Body) -> float:
    """How far (mm) an edge stands off its faces and vertices at the most."""
    most = 0.0
    at: dict[Edge, Any] = {}
    for edge in body.edges():
        points = edge.curve.point(np.linspace(edge.t0, edge.t1, 7))
        at[edge] = points
        for vertex, point in ((edge.start, points[0]), (edge.end, points[-1])):
            if vertex is not None:
                most = max(most, float(np.linalg.norm(vertex.point - point)))
    for face in dict.fromkeys(body.faces):
        edges = list(dict.fromkeys(face.edges()))
        if edges:
            every = np.concatenate([at[edge] for edge in edges])
            most = max(most, float(np.abs(face.surface.signed_distance(every)).max()))
    return most


def _gap_flaws(body: Body, tolerance: float) -> list[Flaw]:
    out: list[Flaw] = []
    for edge in body.edges():
        if edge.t1 <= edge.t0:
            out.append(Flaw("reversed edge", "an edge ends before it starts", _tuple(edge.at(0.0)), edge))
            continue
        ends = edge.curve.point(np.array([edge.t0, edge.t1]))
        for vertex, point in ((edge.start, ends[0]), (edge.end, ends[1])):
            if vertex is not None and np.linalg.norm(vertex.point - point) > 10.0 * tolerance:
                out.append(Flaw("gap", "an edge does not reach its vertex", _tuple(point), edge))
    return out


_sound_faces: WeakKeyDictionary[Face, float] = WeakKeyDictionary()


def _face_flaws(face: Face, tolerance: float) -> list[Flaw]:
    """What is wrong with one face; a face once found sound is not looked at again."""
    if _sound_faces.get(face, -1.0) == tolerance:
        return []
    found = _look_at_face(face, tolerance)
    if not found:
        _sound_faces[face] = tolerance
    return found


def _look_at_face(face: Face, tolerance: float) -> list[Flaw]:
    for edge in dict.fromkeys(face.edges()):
        points = edge.curve.point(np.linspace(edge.t0, edge.t1, 7))
        off = float(np.abs(face.surface.signed_distance(points)).max())
        if off > 10.0 * tolerance:
            return [Flaw("gap", f"an edge stands {off:.2g} mm off its face", _tuple(points[3]), edge)]
    for loop in face.loops:
        for a, b in zip(loop, (*loop[1:], loop[0]), strict=True):
            if a.last is not b.first:
                return [Flaw("broken loop", "a loop does not join up", _at(face), face)]
    try:
        for part in () if face.surface.kind == "facets" else parts_of(face):
            domain = flat_domain(part, edge_points)
            shape = domain.polygon()
            if not shape.exterior.is_ccw or shape.area <= 0.0:
                return [Flaw("inside-out face", "a face's outer boundary runs backwards", _at(face), face)]
            if not shape.is_valid:
                return [Flaw("tangled face", "a face's boundary touches or crosses itself", _at(face), face)]
        face_mesh(face)
    except Refusal as refusal:
        return [Flaw("tangled face", refusal.what, _at(face), face)]
    if face_area(face) <= tolerance**2:
        return [Flaw("empty face", "a face has no area", _at(face), face)]
    return []
