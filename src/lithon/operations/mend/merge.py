"""Merge: faces that were split for no reason become one again."""

from __future__ import annotations

from lithon.mend.merge import merged
from lithon.operations.choices import Choice
from lithon.operations.mend.mending import mended
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import faces


class Merge(Operation):
    """Join faces over the edges between them, where one surface goes on there; no point moves."""

    faces: Choice = param(faces(help="faces side by side on one surface", least=2))

    unbonded = "merge"

    def do(self, bench: Bench) -> Made:
        out, chosen = mended(bench, lambda body, own: merged(body, own, bench.tolerance))
        return Made(out, f"merge {len(chosen)} faces")
