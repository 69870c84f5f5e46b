"""Take out needles: triangles far lower than they are long, between creases, which no mesh can follow well."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Bools, Floats
from lithon.brep.faceted import faceted, regrouped
from lithon.brep.needles import without_needles
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Face, Model, new_uid, rough_box
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.mend.triangles import made_of_triangles
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Things, length, some_bodies
from lithon.survey.findings import body_is_drawn
from lithon.words import many

#: How high a needle is at the most, as a share of an element.
_LOW = 0.1


class TakeOutNeedles(Operation):
    """Take triangles out that are far lower than long: sides swapped, short ones drawn together, faces kept."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    faces: Choice = param(Things(title="faces", help="only needles of these", of="faces", optional=True))
    height: float | None = param(
        length("lower than", "such go, and nothing moves further, where nothing is ignored a tenth of an element; "
               "left out: the ignore size", above=0.0, optional=True)
    )  # fmt: skip

    unbonded = "take them out"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(map(faceted, found))

    def do(self, bench: Bench) -> Made:
        height = self.height or bench.state.rules().ignore or _LOW * bench.state.settings.size
        only = set(bench.faces())
        out, gone, far = list[Body](), 0, 0.0
        chosen = made_of_triangles(bench, "Skim and Clear do exact faces")
        if only:
            chosen = [b for b in chosen if not only.isdisjoint(b.made_faces())]
        for k, body in enumerate(bench.model.bodies):
            if body not in chosen:
                out.append(body)
                continue
            bench.progress.tell(k / len(bench.model.bodies), f"needles of {body.name}")
            points, corners, owner = body_mesh(body)
            among: Bools | None = np.array([face in only for face in body.faces])[owner] if only else None
            made = without_needles(points, corners, height, among, _touching(points, body, bench.model, height))
            if not made.gone:
                out.append(body)
                continue
            gone, far = gone + made.gone, max(far, made.moved)
            uses, own = regrouped(made.points, made.corners, owner[made.of])
            named = [replace(use, face=_like(use.face, body.uses[j].face)) for use, j in zip(uses, own, strict=True)]
            out.append(replace(body, uses=tuple(named), uid=new_uid()))
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


def _like(face: Face, before: Face) -> Face:
    """A face with the name of what it was."""
    return replace(face, label=before.label) if before.label else face
