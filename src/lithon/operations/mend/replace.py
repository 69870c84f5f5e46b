"""Replace: free-form faces become the simple surfaces that they are."""

from __future__ import annotations

from lithon.brep.topology import Body, Face
from lithon.mend.replace import replaced
from lithon.operations.choices import Choice
from lithon.operations.mend.mending import mended
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import faces

#: Kinds of surfaces that nothing simpler can take the place of.
SIMPLE = ("plane", "cylinder", "cone", "sphere", "torus", "facets")


class Replace(Operation):
    """Put free-form faces on the plane, cylinder, cone or sphere that they are."""

    faces: Choice = param(faces(help="free-form faces"))

    unbonded = "replace"
    on_sheets = True
    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> Replace | None:
        free = chosen.faces and all(f.surface.kind not in SIMPLE for f in chosen.faces)
        return super().of(chosen) if free else None

    def do(self, bench: Bench) -> Made:
        off: list[float] = []

        def how(body: Body, own: list[Face]) -> Body:
            out, most = replaced(body, own, bench.tolerance)
            off.append(most)
            return out

        out, chosen = mended(bench, how)
        many = f"{len(chosen)} free-form face{'s' if len(chosen) > 1 else ''}"
        return Made(out, f"replace {many}, {1e3 * max(off):.2g} microns off at the most",
                    details=[{"moved_mm": max(off)}])  # fmt: skip
