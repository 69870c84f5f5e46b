"""Bodies brought together over gaps: faces of the second put on the surfaces of the first that they look at."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Sequence

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.area import area_of
from lithon.brep.boxes import box, face_boxes, meeting
from lithon.brep.faceted import faceted
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, FaceUse, Model
from lithon.errors import Refusal
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import Progress
from lithon.trim.resurface import resurfaced

#: Faces that are to lie on each other are parallel, or about one axis, but for such an angle (the sine).
_ALONG = 1e-4


def brought_together(
    model: Model, bodies: Sequence[Body], gap: float, progress: Progress, apart: Collection[Body] = ()
) -> tuple[Model, list[Body]]:
    """The model in which faces of these bodies that look at each other over no more than a gap (mm) lie on each other:
    of each pair of bodies the later one's are moved, or those of the earlier one where the later shares faces. And the
    bodies as they are in it. What is of triangles stays, and so do bodies of which both are to be left `apart`.

    Raises Refusal where a body's other faces do not meet those that move.
    """
    now = {body: body for body in bodies}
    for k, (a, b) in enumerate(itertools.combinations(bodies, 2)):
        progress.tell(k / max(1, len(bodies) * (len(bodies) - 1) // 2), f"bringing {b.name} to {a.name}")
        stays, moves = (a, b) if not _shares(model, now[b]) else (b, a)
        one, two = now[stays], now[moves]
        if (
            {a, b} <= set(apart)
            or faceted(one)
            or faceted(two)
            or not len(meeting(box(one)[None], box(two)[None], gap))
        ):
            continue
        new = {}
        for i, j in meeting(face_boxes(two.faces), face_boxes(one.faces), gap).tolist():
            mine, yours = two.uses[i], one.uses[j]
            if _apart(mine, yours, model.tolerance, gap):
                new[mine.face] = _onto(mine.face.surface, yours.face.surface)
        if not new:
            continue
        if _shares(model, two):
            raise Refusal(f"{one.name} and {two.name} share faces with others, and cannot be brought together",
                          remedy="close the gap first, then bond the others", entities=(one, two))  # fmt: skip
        try:
            moved = resurfaced(two, new, model.tolerance)
        except Refusal as refusal:
            raise Refusal(f"{two.name} cannot be brought to {one.name}: {refusal.what}", where=refusal.where,
                          remedy="leave these apart, or move the face by hand first",
                          entities=tuple(new)) from refusal  # fmt: skip
        model = model.replaced(two, [moved])
        now[moves] = moved
    return model, list(now.values())


def _shares(model: Model, body: Body) -> bool:
    return any(len(model.owners(face)) > 1 for face in body.faces)


def _apart(one: FaceUse, other: FaceUse, tolerance: float, gap: float) -> bool:
    """Whether two faces look at each other over more than a tolerance and no more than a gap, one over the other."""
    s, o = one.face.surface, other.face.surface
    p = face_mesh(one.face).points
    if isinstance(s, Plane) and isinstance(o, Plane):
        if float(np.linalg.norm(cross_product(s.frame.z, o.frame.z))) > _ALONG:
            return False
    elif isinstance(s, Cylinder) and isinstance(o, Cylinder):
        away = o.frame.local(s.frame.origin)
        aslant = float(np.linalg.norm(cross_product(s.frame.z, o.frame.z))) > _ALONG
        if aslant or float(np.hypot(away[0], away[1])) > gap:
            return False
    else:
        return False
    off = np.abs(o.signed_distance(p))
    if not 20.0 * tolerance < float(off.max()) or float(off.max()) > gap * (1.0 + 1e-9):
        return False
    if float((one.outward(p) * other.outward(o.project(p))).sum(axis=1).max()) > -0.5:
        return False
    q = face_mesh(other.face).points
    middles = [m.points[m.triangles].mean(axis=1) for m in (face_mesh(one.face), face_mesh(other.face))]
    over = area_of(other.face).side(o.project(np.concatenate([p, middles[0]])), tolerance)
    under = area_of(one.face).side(s.project(np.concatenate([q, middles[1]])), tolerance)
    return bool((over > 0).any() or (under > 0).any())


def _onto(own: Surface, target: Surface) -> Surface:
    """The surface of another face as a face's own: its normal looks the way it did."""
    if isinstance(own, Plane) and isinstance(target, Plane) and float(own.frame.z @ target.frame.z) < 0.0:
        return Plane.of(target.frame.origin, -target.frame.z, target.frame.x)
    return target
