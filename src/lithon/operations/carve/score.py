"""Score: lines on faces, so that a load or a mesh control has its own face."""

from __future__ import annotations

from lithon.brep.measures import face_centroid
from lithon.carve.score import scored
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.carve.carve import across
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import CutAt, Things
from lithon.operations.places import Cut
from lithon.words import many


class Score(Operation):
    """Part faces where a plane, a cylinder about an axis or edge, or a face's surface passes; the solid stays one."""

    on_sheets = True

    cut: Cut = param(CutAt(title="where", help="z = 3; radius 5 about an edge: offset from it"))
    faces: Choice = param(Things(title="faces", help="left out: all that it passes", of="faces", optional=True))

    unbonded = "score"

    @classmethod
    def of(cls, chosen: Chosen) -> Score | None:
        return None  # where is never in hand with the faces that are parted

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return bool(chosen.faces) and cls.taken(chosen) is not None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        if not chosen.faces:
            return {"cut": across(chosen), "faces": Choice("faces")}
        first = chosen.faces[0]  # through its middle; a round one along its axis
        middle = first.surface.project(face_centroid(first)[None])[0]
        origin = middle if isinstance(first.surface, Plane) else first.surface.frame.origin
        return {
            "cut": Cut.at(origin.tolist(), first.surface.frame.x.tolist()),
            "faces": Choice.made("faces", chosen.faces),
        }

    def do(self, bench: Bench) -> Made:
        surface, chosen = bench.surface("cut"), bench.faces()
        out, before, refusal = bench.model, bench.model.face_count(), None
        for k, body in enumerate(bench.model.bodies):
            own = [f for f in chosen if body.use_of(f) is not None]
            if chosen and not own:
                continue
            bench.progress.tell(k / len(bench.model.bodies), f"scoring {body.name}")
            try:
                out = out.replaced(body, [scored(body, surface, bench.tolerance, own)])
            except Refusal as error:
                refusal = refusal or error
        if out is bench.model:
            raise refusal or Refusal("nothing is scored", remedy="choose other faces")
        return Made(out, f"score {many(out.face_count() - before, 'line')} at a {surface.kind}")
