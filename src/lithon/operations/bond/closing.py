"""Bodies brought together over gaps: faces of the second put on the surfaces of the first that they look at."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.area import area_of
from lithon.brep.boxes import box, face_boxes, meeting
from lithon.brep.faceted import faceted
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse, Model
from lithon.errors import Refusal
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import Progress
from lithon.trim.resurface import resurfaced

#: Faces that are to lie on each other are parallel, or about one axis, but for such an angle (the sine).
_ALONG = 1e-4


def brought_together(
    model: Model, bodies: Sequence[Body], gap: float, progress: Progress, apart: Collection[Body] = ()
) -> tuple[Model, list[Body]]:
    """The model in which faces of these bodies that look at each other over no more than a gap (mm) lie on each other,
    and the bodies as they are in it. Each is brought to those before it, but for those that share faces, which stay
    and come first; a face goes to the nearest, and one that lies on another already stays. What is of triangles stays,
    and so do bodies of which both are to be left `apart`.

    Raises Refusal where a body's other faces do not meet those that move.
    """
    now = {body: body for body in bodies}
    order = sorted(bodies, key=lambda body: not _shares(model, body))
    for k, body in enumerate(order):
        progress.tell(k / len(order), f"bringing {body.name} to the others")
        near: dict[Face, tuple[float, Surface, str]] = {}
        for j, other in enumerate(order):
            if other is body or {body, other} <= set(apart) or faceted(body) or faceted(other):
                continue
            for mine, yours, off in _facing(body, now[other], gap, model.tolerance):
                if off <= 20.0 * model.tolerance:  # it lies on that
                    near[mine] = 0.0, mine.surface, other.name
                elif j < k and (mine not in near or off < near[mine][0]):
                    near[mine] = off, _onto(mine.surface, yours.surface), other.name
        new = {face: surface for face, (off, surface, _) in near.items() if off > 0.0}
        if not new:
            continue
        to = next(name for off, _, name in near.values() if off > 0.0)
        if _shares(model, body):
            raise Refusal(f"{to} and {body.name} share faces with others, and cannot be brought together",
                          remedy="close the gap first, then bond the others", entities=(body,))  # fmt: skip
        try:
            moved = resurfaced(body, new, model.tolerance)
        except Refusal as refusal:
            raise Refusal(f"{body.name} cannot be brought to {to}: {refusal.what}", where=refusal.where,
                          remedy="leave these apart, or move the face by hand first",
                          entities=tuple(new)) from refusal  # fmt: skip
        model = model.replaced(body, [moved])
        now[body] = moved
    return model, [now[body] for body in bodies]


def _facing(body: Body, other: Body, gap: float, tolerance: float) -> Iterator[tuple[Face, Face, float]]:
    """The faces of a body that look at another's over no more than a gap, with these and how far (mm) they are."""
    if len(meeting(box(body)[None], box(other)[None], gap)):
        for i, j in meeting(face_boxes(body.faces), face_boxes(other.faces), gap).tolist():
            mine, yours = body.uses[i], other.uses[j]
            off = _apart(mine, yours, tolerance, gap) if mine.face is not yours.face else 0.0
            if off is not None:
                yield mine.face, yours.face, off


def _shares(model: Model, body: Body) -> bool:
    return any(len(model.owners(face)) > 1 for face in body.faces)


def _apart(one: FaceUse, other: FaceUse, tolerance: float, gap: float) -> float | None:
    """How far (mm) two faces are apart that look at each other over no more than a gap, one over the other; none for
    others."""
    s, o = one.face.surface, other.face.surface
    p = face_mesh(one.face).points
    if isinstance(s, Plane) and isinstance(o, Plane):
        if float(np.linalg.norm(cross_product(s.frame.z, o.frame.z))) > _ALONG:
            return None
    elif isinstance(s, Cylinder) and isinstance(o, Cylinder):
        away = o.frame.local(s.frame.origin)
        aslant = float(np.linalg.norm(cross_product(s.frame.z, o.frame.z))) > _ALONG
        if aslant or float(np.hypot(away[0], away[1])) > gap:
            return None
    else:
        return None
    off = float(np.abs(o.signed_distance(p)).max())
    if off > gap * (1.0 + 1e-9):
        return None
    if float((one.outward(p) * other.outward(o.project(p))).sum(axis=1).max()) > -0.5:
        return None
    q = face_mesh(other.face).points
    middles = [m.points[m.triangles].mean(axis=1) for m in (face_mesh(one.face), face_mesh(other.face))]
    over = area_of(other.face).side(o.project(np.concatenate([p, middles[0]])), tolerance)
    under = area_of(one.face).side(s.project(np.concatenate([q, middles[1]])), tolerance)
    return off if (over > 0).any() or (under > 0).any() else None


def _onto(own: Surface, target: Surface) -> Surface:
    """The surface of another face as a face's own: its normal looks the way it did."""
    if isinstance(own, Plane) and isinstance(target, Plane) and float(own.frame.z @ target.frame.z) < 0.0:
        return Plane.of(target.frame.origin, -target.frame.z, target.frame.x)
    return target
