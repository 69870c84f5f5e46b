"""Bond: faces of two bodies that lie on each other become one shared face.

A face is shared when both outlines are the same. Contacts whose outlines differ are reported with
the area they have in common; they need imprinting first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from lithon.arrays import Floats
from lithon.brep.charts import chart_of
from lithon.brep.loops import flat_loop
from lithon.brep.measures import face_area
from lithon.brep.rewrite import rewrite
from lithon.brep.tessellate import edge_points
from lithon.brep.topology import Body, Edge, Face, FaceUse, Model, Vertex
from lithon.brep.validate import check
from lithon.errors import Refusal, spot
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True)
class Contact:
    """Two bodies on each other: the area (mm2) and whether it is 'shared' or 'unlike outlines'."""

    first: str
    second: str
    area: float
    verdict: str
    place: tuple[float, float, float]


def bond(
    model: Model, bodies: Sequence[Body] | None = None, gap: float | None = None, progress: Progress = SILENT
) -> tuple[Model, list[Contact]]:
    """Share all contacts among these bodies (default all), and list them.

    Raises Refusal when there is nothing to share, saying what contacts there are.
    """
    tolerance = gap if gap is not None else 20.0 * model.tolerance
    chosen = list(bodies) if bodies is not None else list(model.bodies)
    contacts: list[Contact] = []
    out = model
    current = {b.uid: b for b in chosen}
    made = 0
    for i, first in enumerate(chosen):
        progress.tell(i / len(chosen), f"looking at {first.name}")
        for second in chosen[i + 1 :]:
            a, b = current[first.uid], current[second.uid]
            if a is b or not _near(a, b, tolerance):
                continue
            changed, found = _share_pair(a, b, tolerance)
            contacts += found
            made += sum(c.verdict == "shared" for c in found)
            if changed is not b:
                check(changed, max(tolerance, model.tolerance))
                out = out.replaced(b, [changed])
                current[second.uid] = changed
    if not made:
        unlike = [c for c in contacts if c.verdict == "unlike outlines"]
        if unlike:
            raise Refusal(
                f"{len(unlike)} contacts have unlike outlines and cannot be shared without imprinting",
                where=spot(unlike[0].place),
                remedy="carve both bodies along the same planes first",
            )
        raise Refusal("no two of these bodies touch", remedy="a gap tolerance above the distance between them")
    return out, contacts


def _near(a: Body, b: Body, tolerance: float) -> bool:
    boxes = []
    for body in (a, b):
        p = np.concatenate([edge_points(e)[1] for e in body.edges()])
        boxes.append((p.min(axis=0) - tolerance, p.max(axis=0) + tolerance))
    return bool((boxes[0][0] <= boxes[1][1]).all() and (boxes[1][0] <= boxes[0][1]).all())


def _share_pair(a: Body, b: Body, tolerance: float) -> tuple[Body, list[Contact]]:
    """Body b on the faces, edges and vertices of a where they coincide."""
    contacts: list[Contact] = []
    vertices: dict[Vertex, Vertex] = {}
    edges: dict[Edge, tuple[Edge, bool]] = {}
    faces: dict[Face, tuple[Face, bool]] = {}
    for use_a in a.uses:
        for use_b in b.uses:
            if use_a.face is use_b.face or use_b.face in faces or not _opposed(use_a, use_b, tolerance):
                continue
            area = _common(use_a.face, use_b.face)
            if area <= 1e-6 * min(face_area(use_a.face), face_area(use_b.face)):
                continue
            matched = _same_outline(use_a.face, use_b.face, tolerance)
            place = edge_points(next(use_b.face.edges()))[1].mean(axis=0)
            verdict = "shared" if matched is not None else "unlike outlines"
            contacts.append(Contact(a.name, b.name, area, verdict, (float(place[0]), float(place[1]), float(place[2]))))
            if matched is None:
                continue
            edges.update(matched)
            for mine, (other, same) in matched.items():
                pairs = (
                    ((mine.start, other.start), (mine.end, other.end))
                    if same
                    else ((mine.start, other.end), (mine.end, other.start))
                )
                vertices.update({v: w for v, w in pairs if v is not None and w is not None and v is not w})
            at = use_a.face.surface.project(place[None])
            same_normal = float(use_a.face.normal(at)[0] @ use_b.face.normal(at)[0]) > 0.0
            faces[use_b.face] = (use_a.face, same_normal)
    return (rewrite(b, vertices, edges, faces) if faces else b), contacts


def _opposed(a: FaceUse, b: FaceUse, tolerance: float) -> bool:
    reach = 1.0
    p = edge_points(next(b.face.edges()))[1]
    if float(np.abs(a.face.surface.signed_distance(p)).max()) > tolerance:
        return False
    if not a.face.surface.same_as(b.face.surface, tolerance, reach):
        return False
    at = p[:1]
    return float(a.outward(at)[0] @ b.outward(at)[0]) < 0.0


def _common(a: Face, b: Face) -> float:
    """Area that two faces on one surface have in common."""
    shapes = []
    for face in (a, b):
        shape: shapely.Geometry = shapely.Polygon()
        for loop in face.loops:
            flat, advance = flat_loop(tuple(loop), chart_of(a), True)
            if advance:  # goes around: compare by the boxes of their heights instead
                return float(min(face_area(a), face_area(b))) if _heights_meet(a, b) else 0.0
            shape = shapely.symmetric_difference(shape, shapely.Polygon(flat).buffer(0.0))
        shapes.append(shape)
    return float(shapely.intersection(shapes[0], shapes[1]).area)


def _heights_meet(a: Face, b: Face) -> bool:
    spans: list[Floats] = []
    for face in (a, b):
        v = np.concatenate([chart_of(a).flat(edge_points(e)[1])[:, 1] for e in face.edges()])
        spans.append(np.array([v.min(), v.max()]))
    return bool(min(spans[0][1], spans[1][1]) - max(spans[0][0], spans[1][0]) > 1e-6)


def _same_outline(a: Face, b: Face, tolerance: float) -> dict[Edge, tuple[Edge, bool]] | None:
    """Each edge of b with its twin in a and whether it runs the same way; None if any has none."""
    twins: dict[Edge, tuple[Edge, bool]] = {}
    pool = list(dict.fromkeys(a.edges()))
    mine = list(dict.fromkeys(b.edges()))
    if len(pool) != len(mine):
        return None
    for edge in mine:
        hit = next(
            (t for t in ((other, _same_run(edge, other, tolerance)) for other in pool) if t[1] is not None), None
        )
        if hit is None or hit[1] is None:
            return None
        pool.remove(hit[0])
        twins[edge] = (hit[0], hit[1])
    return twins


def _same_run(a: Edge, b: Edge, tolerance: float) -> bool | None:
    """True or False for coinciding edges that run the same or the opposite way; None if they differ."""
    if a is b:
        return True
    if a.ring != b.ring:
        return None
    if a.ring:
        p = a.curve.point(np.linspace(a.t0, a.t1, 7))
        on_b = b.curve.point(b.curve.parameter(p))
        if float(np.linalg.norm(on_b - p, axis=1).max()) > tolerance:
            return None
        da, db = a.curve.derivative(np.array([a.t0]))[0], b.curve.derivative(b.curve.parameter(p[:1]))[0]
        return float(da @ db) > 0.0
    share = np.linspace(0.0, 1.0, 5)
    pa = a.curve.point(a.t0 + share * (a.t1 - a.t0))
    pb = b.curve.point(b.t0 + share * (b.t1 - b.t0))
    if float(np.linalg.norm(pa - pb, axis=1).max()) <= tolerance:
        return True
    if float(np.linalg.norm(pa - pb[::-1], axis=1).max()) <= tolerance:
        return False
    return None
