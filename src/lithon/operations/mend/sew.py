"""Sew: two edges along a gap become one."""

from __future__ import annotations

from lithon.brep.topology import Body, Face
from lithon.mend.sew import sewn
from lithon.operations.choices import Choice
from lithon.operations.mend.mending import beside_opening, mended
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import faces


class Sew(Operation):
    """Make one edge of two along the gap between the chosen faces."""

    faces: Choice = param(faces(help="all faces along the gap"))

    unbonded = "sew"
    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> Sew | None:
        made = super().of(chosen)
        return made if made is not None and beside_opening(chosen, True) else None

    def do(self, bench: Bench) -> Made:
        moved: list[float] = []

        def how(body: Body, own: list[Face]) -> Body:
            out, far = sewn(body, own, bench.tolerance)
            moved.append(far)
            return out

        out, _ = mended(bench, how)
        return Made(out, f"sew a gap, an edge moved by {max(moved):.3g} mm", details=[{"moved_mm": max(moved)}])
