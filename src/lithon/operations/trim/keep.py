"""Keep: a hold on faces, with its reason."""

from __future__ import annotations

from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Words, faces


class Keep(Operation):
    """Hold faces: they are not to be touched, and cards about them are put away."""

    on_sheets = True

    faces: Choice = param(faces(help="what stays"))
    reason: str = param(
        Words(title="reason", help="why, for whoever reads it later", empty=True, optional=True, default="")
    )

    gate = "unchanged"

    def do(self, bench: Bench) -> Made:
        marks = bench.state.marks.put("hold", bench.faces(), self.reason or "kept by hand")
        return Made(bench.model, f"keep: {self.reason}".rstrip(": "), marks=marks)
