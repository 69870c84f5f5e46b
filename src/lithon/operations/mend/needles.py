"""Take out needles: triangles far lower than they are long, between creases, which no mesh can follow well."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.faceted import Triangles, bodies_of, faceted, regrouped
from lithon.brep.needles import Pruned, without_needles
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Face, Model, new_uid, rough_box
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.marks import Marks
from lithon.operations.mend.triangles import made_of_triangles
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Things, length, some_bodies
from lithon.survey.findings import body_is_drawn
from lithon.words import many

#: How high a needle is at the most, as a share of an element.
_LOW = 0.1


class TakeOutNeedles(Operation):
    """Take triangles out that are far lower than long: sides swapped, short ones drawn together."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    faces: Choice = param(Things(title="faces", help="only needles of these", of="faces", optional=True))
    height: float | None = param(
        length("lower than", "such go, and nothing moves further, where nothing is ignored a tenth of an element; "
               "left out: the ignore size", above=0.0, optional=True)
    )  # fmt: skip

    unbonded = "take them out"
    shapes = True

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(map(faceted, found))

    def do(self, bench: Bench) -> Made:
        height = self.height or bench.state.rules().ignore or _LOW * bench.state.settings.size
        only, marks = set(bench.faces()), bench.state.marks
        out, torn, gone, far = list[Body](), list[Body](), 0, 0.0
        chosen = made_of_triangles(bench, "Skim and Clear do exact faces")
        if only:
            chosen = [b for b in chosen if not only.isdisjoint(b.made_faces())]
        for k, body in enumerate(bench.model.bodies):
            if body not in chosen:
                out.append(body)
                continue
            bench.progress.tell(k / len(bench.model.bodies), f"needles of {body.name}")
            if self_intersections(body, bench.tolerance):
                torn.append(body)  # nobody could tell afterwards what was so before
                out.append(body)
                continue
            points, corners, owner = body_mesh(body)
            among: Bools | None = np.array([face in only for face in body.faces])[owner] if only else None
            held = _touching(points, body, bench.model, height)
            made = without_needles(points, corners, height, among, held)
            gone, far = gone + made.gone, max(far, made.moved)
            out.append(_refaced(body, made, owner, marks) if made.gone else body)
        if not gone and torn:
            raise Refusal(f"{torn[0].name} passes through itself", entities=tuple(torn),
                          remedy="clean the triangles first")  # fmt: skip
        if not gone:
            raise Refusal(f"no triangle lower than {height:.3g} mm can be taken out", entities=tuple(only),
                          remedy="a larger height, or drape what is narrow")  # fmt: skip
        return Made(Model(tuple(out), bench.tolerance), f"take {many(gone, 'needle')} out",
                    details=[{"needles": gone, "moved_mm": far}])  # fmt: skip


def _touching(points: Floats, body: Body, model: Model, near: float) -> Bools:
    """Which corners (n,) of a body's triangles stand on another body, or as near: where both share what they have in
    common, or are to, they stay."""
    out = np.zeros(len(points), dtype=np.bool_)
    for other in (b for b in model.bodies if b is not body):
        low, high = rough_box([other])
        there = np.flatnonzero(((points > low - near) & (points < high + near)).all(axis=1))
        if len(there) and body_is_drawn(other):
            away = np.linalg.norm(tree_of(other).nearest(points[there])[1] - points[there], axis=1)
            out[there[away <= near]] = True
    return out


def _refaced(body: Body, made: Pruned, owner: Ints, marks: Marks) -> Body:
    """The body of what is left: parted at creases, as it is when it is read; where its faces have names or are of
    patches, as it was."""
    if not any(face.label or marks.get("patch", face) is not None for face in body.faces):
        fresh = bodies_of([Triangles(made.points, made.corners, body.name, body.colour)])[0]
        if len(fresh) == 1:
            return replace(body, uses=fresh[0].uses, uid=new_uid())
    uses, own = regrouped(made.points, made.corners, owner[made.of])
    named = [replace(use, face=_like(use.face, body.uses[j].face)) for use, j in zip(uses, own, strict=True)]
    return replace(body, uses=tuple(named), uid=new_uid())


def _like(face: Face, before: Face) -> Face:
    """A face with the name of what it was."""
    return replace(face, label=before.label) if before.label else face
