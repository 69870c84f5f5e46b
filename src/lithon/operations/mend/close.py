"""Close: a face that is missing is made."""

from __future__ import annotations

from lithon.mend.close import closed_over
from lithon.operations.choices import Choice
from lithon.operations.mend.mending import beside_opening, mended
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import faces


class Close(Operation):
    """Make the face that is missing between the chosen ones, which are all around the opening."""

    faces: Choice = param(faces(help="all faces around the opening"))

    unbonded = "close"
    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> Close | None:
        made = super().of(chosen)
        return made if made is not None and beside_opening(chosen, False) else None

    def do(self, bench: Bench) -> Made:
        out, _ = mended(bench, lambda body, own: closed_over(body, own, bench.tolerance))
        new = out.face_count() - bench.model.face_count()
        return Made(out, f"close {new} opening{'s' if new != 1 else ''}")
