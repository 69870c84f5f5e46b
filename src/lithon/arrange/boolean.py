"""Union, subtraction and intersection of exact solids, from their overlay."""

from __future__ import annotations

from typing import Literal

import numpy as np

from lithon.arrange.overlay import Overlay, inner_point, overlay
from lithon.arrange.tidy import tidied
from lithon.arrays import Bools, Floats
from lithon.brep.area import area_of
from lithon.brep.arrangement import skin_of
from lithon.brep.boxes import face_boxes
from lithon.brep.faceted import Triangles, bodies_of, soup_of, welded
from lithon.brep.rewrite import all_apart
from lithon.brep.shells import grouped, solids
from lithon.brep.topology import Body, Face, FaceUse
from lithon.brep.validate import check
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Line
from lithon.geometry.meet import cross
from lithon.progress import pulse

Operation = Literal["union", "subtract", "intersect"]


def combine(a: Body, b: Body, operation: Operation, tolerance: float) -> list[Body]:
    """The solids of `a` united with, reduced by or limited to `b`; none where nothing remains.

    Raises Refusal where the result would not be a sound solid.
    """
    if all(use.face.surface.kind == "facets" for use in (*a.uses, *b.uses)):
        return _of_triangles(a, b, operation, tolerance)
    made = overlay(a, b, tolerance)
    uses = _kept(a, b, made, operation, tolerance)
    if not uses:
        return []
    found = solids(uses)
    if not found:
        raise Refusal("the two bodies leave no solid", where=spot(inner_point(uses[0].face)))
    names = [a.name] if len(found) == 1 else [f"{a.name} {chr(ord('A') + k)}" for k in range(len(found))]
    parts = (Body(tuple(shell), name) for shell, name in zip(found, names, strict=True))
    return [check(part, tolerance) for part in all_apart(tidied(part, tolerance, made.common) for part in parts)]


#: How often the triangles of two bodies, of a subtrahend turned inside out, go around what is left at the least.
_OFTEN = {"union": 0.5, "subtract": 0.5, "intersect": 1.5}


def _of_triangles(a: Body, b: Body, operation: Operation, tolerance: float) -> list[Body]:
    one, two = soup_of(a), soup_of(b)
    theirs = two.corners[:, ::-1] if operation == "subtract" else two.corners
    points, corners = welded(
        np.concatenate([one.points, two.points]), np.concatenate([one.corners, theirs + len(one.points)])
    )
    points, corners, _ = skin_of(points, corners, _OFTEN[operation])
    if not len(corners):
        return []
    found = bodies_of([Triangles(points, corners, a.name, a.colour)])[0]
    return [check(body, tolerance) for body in found]


def _kept(a: Body, b: Body, made: Overlay, operation: Operation, tolerance: float) -> list[FaceUse]:
    twins_of_a = {twin: (piece, same) for piece, (twin, same) in made.twins.items()}
    out: list[FaceUse] = []
    inside_a = sides(a, b, made, set(twins_of_a), tolerance)
    inside_b = sides(b, a, made, set(made.twins), tolerance)
    forward = {use.face: use.forward for use in b.uses}
    owner_b = {piece: face for face in b.faces for piece in made.fragments[face]}
    for use in a.uses:
        for piece in made.fragments[use.face]:
            if piece in twins_of_a:
                other, same_normal = twins_of_a[piece]
                same_way = same_normal == (use.forward == forward[owner_b[other]])
                if same_way == (operation != "subtract"):
                    out.append(FaceUse(piece, use.forward))
            elif inside_a[piece] == (operation == "intersect"):
                out.append(FaceUse(piece, use.forward))
    for use in b.uses:
        for piece in made.fragments[use.face]:
            if piece not in made.twins and inside_b[piece] == (operation != "union"):
                out.append(FaceUse(piece, use.forward != (operation == "subtract")))
    return out


def sides(own: Body, other: Body, made: Overlay, twins: set[Face], tolerance: float) -> dict[Face, bool]:
    """For each fragment of a body that is no twin, whether it lies inside the other body. Fragments
    joined by edges that are not on the other body lie alike, so that one answer serves many."""
    pieces = [p for f in own.faces for p in made.fragments[f] if p not in twins]
    out: dict[Face, bool] = {}
    for alike in grouped(pieces, lambda piece: [e for e in piece.edges() if e not in made.common]):
        pulse()
        out.update(dict.fromkeys(alike, holds(other, inner_point(alike[0]), tolerance)))
    return out


def holds(body: Body, point: Floats, tolerance: float) -> bool:
    """Whether a point lies inside a body: how often a ray leaves it, on the exact surfaces. A ray that
    passes an edge or grazes a face is replaced by another."""
    rng = np.random.default_rng(7)
    boxes = face_boxes(body.faces)
    low, high = boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)
    slack = 0.02 * float(np.linalg.norm(high - low))
    if (point < low - slack).any() or (point > high + slack).any():
        return False
    length = float(np.linalg.norm(high - low)) + float(np.linalg.norm(point - 0.5 * (low + high))) + 1.0
    for _ in range(24):
        way = rng.normal(size=3)
        ray = Line(point, way / np.linalg.norm(way))
        count = 0
        for k in np.flatnonzero(_may_hit(ray, boxes)):
            face = body.faces[k]
            t = cross(ray, face.surface, 0.0, length, tolerance)
            t = t[t > 0.0]
            p = ray.point(t)
            where = area_of(face).side(p, 50.0 * tolerance)
            hit = where >= 0
            lean = np.abs(face.surface.normal(p[hit]) @ ray.direction) if hit.any() else np.ones(0)
            if (where == 0).any() or (lean < 1e-3).any():
                break
            count += int(hit.sum())
        else:
            return count % 2 == 1
    raise Refusal("whether a part lies inside the other body cannot be told", where=spot(point))


def _may_hit(ray: Line, boxes: Floats) -> Bools:
    """Whether a ray may come through boxes (n,2,3)."""
    spare = 0.02 * np.linalg.norm(boxes[:, 1] - boxes[:, 0], axis=1)[:, None] + 1e-6
    with np.errstate(divide="ignore", invalid="ignore"):
        a, b = (boxes[:, 0] - spare - ray.origin) / ray.direction, (boxes[:, 1] + spare - ray.origin) / ray.direction
    enters, leaves = np.nanmax(np.minimum(a, b), axis=1), np.nanmin(np.maximum(a, b), axis=1)
    return np.asarray((enters <= leaves) & (leaves >= 0.0))
