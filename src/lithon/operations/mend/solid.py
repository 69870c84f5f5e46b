"""Solid from triangles: facets become faces, and faces the simple surfaces that they are."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

from lithon.arrange.tidy import tidied
from lithon.brep.faceted import as_planes
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.mend.relations import related
from lithon.mend.solid import bordering, solid_of
from lithon.operations.choices import Choice
from lithon.operations.mend.patches import LADDER, Patched
from lithon.operations.mend.triangles import faceted, made_of_triangles
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import OneOf, length, some_bodies
from lithon.words import many


class SolidFromTriangles(Operation):
    """Make exact solids of triangles, with edges found anew; smooth: free-form faces where nothing simple fits."""

    bodies: Choice = param(some_bodies("bodies", "made of triangles; left out: all of them"))
    kind: str = param(OneOf(title="faces", options=("simple", "smooth", "facets"), default="simple", optional=True))
    tolerance: float | None = param(length("deviation", "how far corners may stand off a surface; left out: the least "
                                           "with which a solid comes out", above=0.0, optional=True))  # fmt: skip

    unbonded = "make a solid"
    gate = "own"
    budget = 600.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        return bool(found) and super().fits(chosen) and all(faceted(b) and closed(b) for b in found)

    def do(self, bench: Bench) -> Made:
        chosen = made_of_triangles(bench, "exact bodies are solids already")
        details: list[dict[str, Any]] = []
        out = bench.model
        for k, body in enumerate(chosen):
            bench.progress.tell(k / len(chosen), f"finding surfaces of {body.name}")
            made, off = self._of(body, bench)
            made = replace(made, name=body.name, path=body.path, colour=body.colour)
            out = out.replaced(body, [made])
            kinds = Counter(f.surface.kind for f in made.faces)
            details.append({"body": body.name, "faces": dict(kinds), "deviation_mm": off,
                            "volume_mm3": volume(made)})  # fmt: skip
        most = max(float(d["deviation_mm"]) for d in details)
        faces = sum(len(b.uses) for b in out.bodies if b not in bench.model.bodies)
        return Made(out, f"solid of {many(faces, 'face')}, {most:.2g} mm off at the most", details=details)

    def _of(self, body: Body, bench: Bench) -> tuple[Body, float]:
        if flaws(body, bench.tolerance):
            raise Refusal(f"the triangles of {body.name} are not closed", remedy="clean the triangles first",
                          entities=(body,))  # fmt: skip
        if self.kind == "facets":
            return tidied(as_planes(body), bench.tolerance), 0.0
        sheet = Patched.of(body, bench.state.marks)
        points, corners, smooth = sheet.points, sheet.corners, self.kind == "smooth"
        refusal: Refusal | None = None
        if sheet.whole:
            given = sheet.patches(smooth)
            least = max(3.0 * max(p.off for p in given), LADDER[0] * sheet.scale)
            steps = [least, *(near for s in LADDER if (near := s * sheet.scale) > least)] if smooth else [least]
            ways = iter([(given, near) for near in ([self.tolerance] if self.tolerance else steps)])
        else:
            ways = sheet.found(self.tolerance, smooth)
        for found, near in ways:
            try:
                found = related(points, corners, found, bordering(len(points), corners, found), near / 3.0)
                made, off = solid_of(points, corners, found, bench.tolerance, body.name, near if smooth else 0.0)
                wrong = flaws(made, bench.tolerance)
                if not wrong:
                    return made, max(off, *(p.off for p in found))
                refusal = refusal or Refusal(f"the solid would not be sound: {wrong[0].text}",
                                             remedy="allow more deviation, or keep the facets")  # fmt: skip
            except Refusal as error:
                refusal = refusal or error
        assert refusal is not None
        raise refusal
