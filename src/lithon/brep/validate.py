"""Whether a body is sound, and if not, what is wrong and where."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np

from lithon.arrays import Floats, cross_product, triangle_areas
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import origin_of, root_of
from lithon.brep.lineage import since
from lithon.brep.measures import face_area, prepare, unmeasured, volume
from lithon.brep.tessellation.division import divide_edges
from lithon.brep.tessellation.tessellate import (
    CrossesItself,
    body_mesh,
    face_mesh,
    leaks,
    outline_trouble,
    prepare_meshes,
)
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse
from lithon.errors import Refusal, spot
from lithon.geometry.batch import CurveBatch, RollBatch, spread
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.tolerance import MISS
from lithon.progress import pulse
from lithon.remembered import Remembered


@dataclass(frozen=True, slots=True)
class Flaw:
    """One thing wrong with a body."""

    kind: str
    text: str
    place: tuple[float, float, float]
    entity: Any


#: What was found wrong with a body at a tolerance.
_flaws = Remembered[Body, tuple[float, list[Flaw]]]("brep/validate:flaws")


def flaws(body: Body, tolerance: float) -> list[Flaw]:
    """Everything wrong with a body: openness, orientation, gaps, tangled boundaries, volume; cached. Only what is not
    as in a body that it was made of is looked at."""
    known = _flaws.get(body)
    if known is None or known[0] != tolerance:
        known = tolerance, _all_flaws(body, tolerance)
        if all(flaw.entity is not body for flaw in known[1]):  # what is known of a body must not hold it alive
            _flaws[body] = known
    return list(known[1])


def _all_flaws(body: Body, tolerance: float) -> list[Flaw]:
    new = since(body, lambda was: was.sheet == body.sheet and _flaws.get(was, (None,))[0] == tolerance)
    if new is None:
        faces, edges, found = list(dict.fromkeys(body.faces)), body.edges(), list[Flaw]()
    else:
        was, changed = new
        faces = [use.face for use in body.uses if use in changed.fresh]
        edges = tuple(edge for edge in body.edges() if edge in changed.edges)
        found = []
        if before := _flaws[was][1]:
            same = {use.face for use in body.uses}.difference(faces).union(body.edges()).difference(edges)
            found = [flaw for flaw in before if flaw.entity in same]
    divide_edges(edges)
    prepare_meshes(faces)
    found += ([] if body.sheet else _edge_flaws(body, edges)) + gap_flaws(edges, tolerance)
    doubtful = _doubtful(_sound_faces, faces, tolerance)
    off = _stand_off(f for f in doubtful if f.before is None)
    for face in doubtful:
        found += _face_flaws(face, tolerance, off)
    if not found and not body.sheet and _inside_out(body, faces):
        found.append(Flaw("inside-out", "the body encloses no positive volume", _at(body.faces[0]), body))
    return found


#: What is drawn holds a body's volume to within so much (share of its skin's area times its diagonal) and more.
_DRAWN = 2e-3
#: So few faces are measured at once.
_FEW = 20


def _inside_out(body: Body, fresh: Iterable[Face]) -> bool:
    """Whether a closed body, of which some faces were not measured yet, encloses no positive volume."""
    fresh = set(fresh)
    if len(unmeasured(body.faces)) <= len(fresh) + _FEW:  # what was there before has been measured
        return volume(body) <= 0.0
    points, triangles, _ = body_mesh(body)
    a, b, c = (points[triangles[:, k]] - points.mean(axis=0) for k in range(3))
    area = float(triangle_areas(points, triangles).sum())
    drawn = float((a * cross_product(b, c)).sum()) / 6.0
    if drawn > _DRAWN * area * float(np.linalg.norm(np.ptp(points, axis=0))):
        return False
    prepare(fresh)
    return volume(body) <= 0.0


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


def _edge_flaws(body: Body, edges: Iterable[Edge]) -> list[Flaw]:
    """Those of some edges of a body at which faces do not meet two by two."""
    out = []
    adj = adjacency(body)
    for edge in edges:
        uses = adj.uses[edge]
        if len(uses) % 2 == 0 and _balanced(uses):
            continue  # two sheets of skin, or more where the body touches itself along the edge
        place = _tuple(edge.at(0.5))
        if len(uses) == 1:
            out.append(Flaw("open edge", "an edge has a face on one side only", place, edge))
        elif len(uses) > 2:
            out.append(Flaw("crowded edge", f"an edge is used {len(uses)} times", place, edge))
        else:
            out.append(Flaw("flipped face", "two faces run the same way along their edge", place, edge))
    return out


def _balanced(uses: list[tuple[FaceUse, Coedge]]) -> bool:
    """Whether as many faces walk an edge one way as the other."""
    if len(uses) == 2:  # nearly always
        (use_a, a), (use_b, b) = uses
        return (a.forward == use_a.forward) != (b.forward == use_b.forward)
    return 2 * sum(coedge.forward == use.forward for use, coedge in uses) == len(uses)


def touching_edges(body: Body) -> list[Edge]:
    """Edges along which a body touches itself: four faces meet there, or more."""
    return [edge for edge, uses in adjacency(body).uses.items() if len(uses) > 2 and _balanced(uses)]


def widest_gap(body: Body) -> float:
    """How far (mm) an edge stands off its faces and vertices at the most."""
    body = root_of(body)
    most = max((off for off, _, _ in _stand_off(dict.fromkeys(body.faces)).values()), default=0.0)
    for edge in body.edges():
        for vertex, t in ((edge.start, edge.t0), (edge.end, edge.t1)):
            if vertex is not None:
                most = max(most, float(np.linalg.norm(vertex.point - edge.curve.point(np.array([t]))[0])))
    return most


def _stand_off(faces: Iterable[Face]) -> dict[Face, tuple[float, Edge, Floats]]:
    """How far (mm) edges stand off each face at the most, by seven points on each, which edge and where."""
    walls = {face: list(dict.fromkeys(face.edges())) for face in faces}
    edges = list(dict.fromkeys(edge for own in walls.values() for edge in own))
    if not edges:
        return {}
    row, t = spread(np.array([e.t0 for e in edges]), np.array([e.t1 for e in edges]), 7)
    points = CurveBatch.of([e.curve for e in edges]).points(row, t).reshape(-1, 7, 3)
    number = {edge: k for k, edge in enumerate(edges)}
    rows = {face: np.array([number[e] for e in own]) for face, own in walls.items() if own}
    rolls = [face for face in rows if isinstance(face.surface, Plane | Cylinder)]
    offs: dict[Face, Floats] = {}
    if rolls:
        count = np.array([len(rows[face]) for face in rolls])
        batch = RollBatch.of([f.surface for f in rolls if isinstance(f.surface, Plane | Cylinder)])
        at = points[np.concatenate([rows[face] for face in rolls])].reshape(-1, 3)
        off = batch.off(np.repeat(np.arange(len(rolls)), 7 * count), at).reshape(-1, 7)
        offs = dict(zip(rolls, np.split(off, np.cumsum(count)[:-1]), strict=True))
    out = {}
    for face, own in rows.items():
        if face in offs:
            away = offs[face]
        else:
            away = np.abs(face.surface.signed_distance(points[own].reshape(-1, 3))).reshape(-1, 7)
        worst = int(away.max(axis=1).argmax())
        out[face] = (float(away[worst].max()), edges[int(own[worst])], points[own[worst], 3])
    return out


_sound_edges = Remembered[Edge, float]("brep/validate:sound_edges")

T = TypeVar("T", Edge, Face)


def _sound(known: Remembered[T, float], entity: T, tolerance: float) -> bool:
    """Whether a face or edge was once found sound, or what it is a copy of."""
    if known.get(entity, -1.0) != tolerance and (origin := origin_of(entity)) is not None:
        entity = origin[1]
    return known.get(entity, -1.0) == tolerance


def _doubtful(known: Remembered[T, float], entities: Iterable[T], tolerance: float) -> list[T]:
    """Those that were not found sound yet."""
    return [e for e in known.unlike(entities, tolerance) if not _sound(known, e, tolerance)]


def gap_flaws(edges: Iterable[Edge], tolerance: float) -> list[Flaw]:
    """Edges that run backwards or miss their vertices; an edge once found sound is not looked at again."""
    out: list[Flaw] = []
    for edge in _doubtful(_sound_edges, edges, tolerance):
        before = len(out)
        if edge.t1 <= edge.t0:
            out.append(Flaw("reversed edge", "an edge ends before it starts", _tuple(edge.at(0.0)), edge))
            continue
        if edge.ring:
            _sound_edges[edge] = tolerance
            continue
        ends = edge.curve.point(np.array([edge.t0, edge.t1]))
        for vertex, point in ((edge.start, ends[0]), (edge.end, ends[1])):
            if vertex is not None and np.linalg.norm(vertex.point - point) > MISS * tolerance:
                out.append(Flaw("gap", "an edge does not reach its vertex", _tuple(point), edge))
        if len(out) == before:
            _sound_edges[edge] = tolerance
    return out


_sound_faces = Remembered[Face, float]("brep/validate:sound_faces")


_Off = dict[Face, tuple[float, Edge, Floats]]


def _face_flaws(face: Face, tolerance: float, off: _Off) -> list[Flaw]:
    """What is wrong with one face; a face once found sound is not looked at again."""
    if _sound(_sound_faces, face, tolerance):
        return []
    if face.before is not None and not _face_flaws(face.before, tolerance, {}):
        # A sound face less one of its holes is sound where what closes the hole is.
        found = [flaw for plug in face.plugs() for flaw in _face_flaws(plug, tolerance, {})]
    else:
        found = _look_at_face(face, tolerance, off if face in off else _stand_off([face]))
    if not found:
        _sound_faces[face] = tolerance
    return found


def outline_flaws(face: Face, tolerance: float) -> list[Flaw]:
    """What is wrong with the boundary of a face by itself; what is sound within may still leave it no area."""
    edges = tuple(dict.fromkeys(face.edges()))
    divide_edges(edges)
    return gap_flaws(edges, tolerance) or _outline_flaws(face, tolerance, _stand_off([face]), outline_trouble)


#: A face of no more area, in squares of the tolerance, has none: of a triangle with sides as long as the tolerance the
#: height is a tenth of it then.
_EMPTY = 0.05
#: What is drawn with so much is not that small.
_LARGE = 100.0


def _drawn_large(face: Face, area: float) -> bool:
    """Whether what is drawn of a face has more than an area (mm2): mostly its first triangle tells."""
    mesh = face_mesh(face)
    if len(mesh.triangles):
        (ax, ay, az), (bx, by, bz), (cx, cy, cz) = mesh.points[mesh.triangles[0]].tolist()
        nx = (by - ay) * (cz - az) - (bz - az) * (cy - ay)
        ny = (bz - az) * (cx - ax) - (bx - ax) * (cz - az)
        nz = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
        if nx * nx + ny * ny + nz * nz > 4.0 * area**2:
            return True
    return float(triangle_areas(mesh.points, mesh.triangles).sum()) > area


def _outline_flaws(face: Face, tolerance: float, off: _Off, trouble_of: Callable[[Face], str]) -> list[Flaw]:
    """What is wrong with how the edges of a face run, and with what is told of them when it is drawn."""
    pulse()
    if face in off and off[face][0] > MISS * tolerance:
        most, edge, place = off[face]
        return [Flaw("gap", f"an edge stands {most:.2g} mm off its face", _tuple(place), edge)]
    for loop in face.loops:
        for a, b in zip(loop, (*loop[1:], loop[0]), strict=True):
            if a.last is not b.first:
                return [Flaw("broken loop", "a loop does not join up", _at(face), face)]
    try:
        if (trouble := trouble_of(face)) != "":
            return [Flaw("tangled face", trouble, _at(face), face)]
    except CrossesItself as refusal:
        return [Flaw("tangled face", refusal.what, _tuple(refusal.place), face)]
    except Refusal as refusal:
        return [Flaw("tangled face", refusal.what, _at(face), face)]
    return []


def _look_at_face(face: Face, tolerance: float, off: _Off) -> list[Flaw]:
    if found := _outline_flaws(face, tolerance, off, lambda face: face_mesh(face).trouble):
        return found
    if leaks(face):
        return [Flaw("leak", "the triangles of a face do not end along its edges", _at(face), face)]
    # Its triangles end along its edges as these are walked: where they are large it is, and no turned one.
    if not _drawn_large(face, _LARGE * tolerance**2) and face_area(face) <= _EMPTY * tolerance**2:
        return [Flaw("empty face", "a face has no area", _at(face), face)]
    return []
