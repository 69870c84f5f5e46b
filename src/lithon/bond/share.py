"""Bond: where bodies lie on each other, both get the common outline and share one face there.

Faces are imprinted by laying the bodies over each other (`arrange`); what coincides and looks the
opposite way becomes one face. Bodies that run into each other are reported and left apart.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrange.boolean import sides
from lithon.arrange.overlay import Overlay, inner_point, overlay
from lithon.bond.facets import Common, triangles_shared
from lithon.brep.boxes import box, face_boxes, meeting
from lithon.brep.faceted import faceted
from lithon.brep.measures import face_area
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse, Model
from lithon.brep.validate import check
from lithon.errors import Refusal, spot
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True)
class Contact:
    """Two bodies on each other: the area (mm2), the verdict 'shared' or 'overlap', and a place on it."""

    first: str
    second: str
    area: float
    verdict: str
    place: tuple[float, float, float]


def bond(
    model: Model,
    bodies: Sequence[Body] | None = None,
    gap: float | None = None,
    progress: Progress = SILENT,
    apart: Collection[Body] = (),
) -> tuple[Model, list[Contact]]:
    """Share all contacts among these bodies (default all), and list them.

    gap: plane faces of triangles this far apart (mm) still count as touching; the second body is drawn onto the first.
    apart: bodies between which nothing is shared.
    Raises Refusal when there is nothing to share, saying what contacts there are.
    """
    wide = model.tolerance if gap is None else max(gap / 20.0, model.tolerance)
    # Bodies change while contacts are shared, their places in the model do not; names may be double.
    chosen = None if bodies is None else set(bodies)
    places = [k for k, body in enumerate(model.bodies) if chosen is None or body in chosen]
    kept = {k for k, body in enumerate(model.bodies) if body in set(apart)}
    contacts: list[Contact] = []
    out = model
    for i, first in enumerate(places):
        progress.tell(i / len(places), f"looking at {model.bodies[first].name}")
        for second in places[i + 1 :]:
            a, b = out.bodies[first], out.bodies[second]
            if first in kept and second in kept:
                continue
            tolerance = wide if faceted(a) and faceted(b) else model.tolerance
            if _may_touch(a, b, 20.0 * tolerance):
                out, found = _share_pair(out, a, b, tolerance)
                contacts += found
    if not any(c.verdict == "shared" for c in contacts):
        over = [c for c in contacts if c.verdict == "overlap"]
        if over:
            raise Refusal(
                f"{over[0].first} and {over[0].second} run into each other",
                where=spot(over[0].place),
                remedy="subtract one from the other first",
            )
        if any(all(out.bodies.index(b) in places for b in out.owners(f)) for f in out.shared()):
            raise Refusal("all that these bodies have in common is shared already")
        if any(faceted(out.bodies[k]) for k in places):
            raise Refusal(
                "no two of these bodies lie on each other",
                remedy="a gap tolerance above the distance between plane faces; of round ones, which share where their "
                "triangles are the same, make exact solids first",
            )
        raise Refusal("no two of these bodies touch", remedy="a gap tolerance above the distance between them")
    return out, contacts


def touching(model: Model, a: Body, b: Body) -> Model:
    """The model with what two of its bodies have in common shared; itself where they do not lie on each other."""
    return _share_pair(model, a, b, model.tolerance)[0] if _may_touch(a, b, 20.0 * model.tolerance) else model


def _may_touch(a: Body, b: Body, near: float) -> bool:
    return _near(a, b, near) and ((faceted(a) and faceted(b)) or _opposed(a, b, near) or _near(a, b, -near))


def _near(a: Body, b: Body, tolerance: float) -> bool:
    """Whether their boxes, grown by the tolerance (or shrunk by a negative one), meet."""
    return len(meeting(box(a)[None], box(b)[None], 2.0 * tolerance)) > 0


def _opposed(a: Body, b: Body, near: float) -> bool:
    """Whether any two faces, not yet shared, lie on one surface looking opposite ways."""
    for i, j in meeting(face_boxes(a.faces), face_boxes(b.faces), 2.0 * near).tolist():
        use_a, use_b = a.uses[i], b.uses[j]
        if use_a.face is use_b.face or use_a.face.surface.kind != use_b.face.surface.kind:
            continue
        p = face_mesh(use_a.face).points[:1]
        if float(np.abs(use_b.face.surface.signed_distance(p)[0])) > near:
            continue
        if use_a.face.surface.same_as(use_b.face.surface, near, 10.0) and float(
            use_a.outward(p)[0] @ use_b.outward(p)[0]
        ) < 0.0:  # fmt: skip
            return True
    return False


def _share_pair(model: Model, a: Body, b: Body, tolerance: float) -> tuple[Model, list[Contact]]:
    """The model with two of its bodies sharing what they have in common."""
    if faceted(a) and faceted(b):
        common = triangles_shared(model, a, b, tolerance)
        if isinstance(common, Common):
            return model, [Contact(a.name, b.name, common.area, "overlap", common.place)]
        if common is not None:
            return common[0], [Contact(a.name, b.name, one.area, "shared", one.place) for one in common[1]]
    shared = set(a.faces) & set(b.faces)
    made = overlay(a, b, tolerance)
    opposed = _opposed_twins(a, b, made, shared)
    over = _overlap(a, b, made, tolerance)
    if over is not None:
        p = inner_point(over)
        place = (float(p[0]), float(p[1]), float(p[2]))
        return model, [Contact(a.name, b.name, face_area(over), "overlap", place)]
    if not opposed:
        return model, []
    contacts, bodies = [], []
    for twin in opposed.values():
        p = inner_point(twin)
        contacts.append(Contact(a.name, b.name, face_area(twin), "shared", (float(p[0]), float(p[1]), float(p[2]))))
    for body in model.bodies:
        changed = made.applied(body)
        if body is b:
            uses = [_exchanged(use, opposed) for use in changed.uses]
            changed = changed.with_uses(uses)
        bodies.append(body if changed is body else check(changed, max(model.tolerance, 2.0 * tolerance)))
    return Model(tuple(bodies), model.tolerance), contacts


def _exchanged(use: FaceUse, opposed: dict[Face, Face]) -> FaceUse:
    twin = opposed.get(use.face)
    if twin is None:
        return use
    at = inner_point(twin)[None]
    same = float(twin.normal(at)[0] @ use.face.normal(at)[0]) > 0.0
    return FaceUse(twin, use.forward == same)


def _opposed_twins(a: Body, b: Body, made: Overlay, shared: set[Face]) -> dict[Face, Face]:
    """Fragments of b with the coinciding fragment of a, where the bodies lie on opposite sides."""
    way_a = {p: use.forward for use in a.uses for p in made.fragments[use.face]}
    out = {}
    for use in b.uses:
        for piece in made.fragments[use.face]:
            hit = made.twins.get(piece)
            if hit is None or use.face in shared or hit[0] is piece:
                continue
            twin, same_normal = hit
            if same_normal == (way_a[twin] != use.forward):
                out[piece] = twin
    return out


def _overlap(a: Body, b: Body, made: Overlay, tolerance: float) -> Face | None:
    """A fragment of one body that lies inside the other, if there is one."""
    tw_a = {twin for twin, _ in made.twins.values()}
    for own, other, twins in ((a, b, tw_a), (b, a, set(made.twins))):
        common = set(own.faces) & set(other.faces)
        for piece, inside in sides(own, other, made, twins | common, tolerance).items():
            if inside:
                return piece
    return None
