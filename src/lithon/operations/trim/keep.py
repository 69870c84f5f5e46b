"""Keep: a hold on faces, with its reason."""

from __future__ import annotations

from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Words, faces
from lithon.survey.judging import judged


class Keep(Operation):
    """Hold faces: they are not to be touched, and cards about them are put away."""

    on_sheets = True

    faces: Choice = param(faces(help="what stays"))
    reason: str = param(
        Words(
            title="reason",
            help="why, for whoever reads it later; left out: the wall beside it, where there is one",
            empty=True,
            optional=True,
            default="",
        )
    )

    gate = "unchanged"

    def do(self, bench: Bench) -> Made:
        chosen, size = bench.faces(), bench.state.settings.size
        found = [j for face in chosen if (j := judged(bench.model, face, size)) is not None]
        once = {j.feature.faces[0]: j for j in found}.values()
        evidence = next((words for j in once if (words := j.words())), "")
        reason = self.reason or evidence or "kept by hand"
        marks = bench.state.marks.put("hold", chosen, reason)
        details = [{"feature": j.feature.words(), "wall_mm": j.wall, "wall_elements": j.widths, "nearest": j.nearest,
                    "away_mm": j.away} for j in once]  # fmt: skip
        return Made(bench.model, f"keep: {self.reason or evidence}".rstrip(": "), marks=marks, details=details)
