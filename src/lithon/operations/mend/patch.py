"""Patch over: what is bad between chosen edges goes, one clean face takes its place."""

from __future__ import annotations

from typing import Any

import numpy as np

from lithon.brep.shells import closed
from lithon.errors import Refusal
from lithon.mend.patch import around, patched
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Things, edges
from lithon.words import many


class PatchOver(Operation):
    """Put one clean face between edges that close a loop; what hangs between them goes, the solid behind is filled."""

    edges: Choice = param(edges(help="all edges around the patch"))
    tangent: Choice = param(Things(title="smooth at", help="those of them at which it is tangent", of="edges",
                                   optional=True))  # fmt: skip
    curved: Choice = param(Things(title="curved at", help="those of them across which it goes on in the same curvature",
                                  of="edges", optional=True))  # fmt: skip
    instead: Choice = param(Things(title="instead of", help="faces that it replaces", of="faces", optional=True))

    unbonded = "patch over"
    on_sheets = True
    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> PatchOver | None:
        """Edges in hand all around what is torn, or around an opening."""
        if chosen.faces or chosen.vertices or len(chosen.edges) < (1 if any(e.ring for e in chosen.edges) else 2):
            return None
        owners = [b for b in chosen.model.bodies if set(chosen.edges) <= set(b.edges())]
        if len(owners) != 1 or closed(owners[0]) or not around(owners[0], chosen.edges):
            return None
        return cls(list(chosen.edges))

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.of(chosen) is not None

    def do(self, bench: Bench) -> Made:
        chosen = bench.edges()
        owners = [b for b in bench.model.bodies if set(chosen) & set(b.edges())]
        if len(owners) != 1:
            raise Refusal("the edges are not of one body", remedy="choose the edges around one patch")
        smooth, curved = bench.edges("tangent"), bench.edges("curved")
        strange = [e for e in (*smooth, *curved) if e not in set(chosen)]
        if strange:
            raise Refusal("an edge at which it is to be smooth is not around the patch", entities=tuple(strange),
                          remedy="choose it among the edges around the patch as well")  # fmt: skip
        instead = bench.faces("instead")
        made = patched(owners[0], chosen, bench.tolerance, smooth, curved, instead)
        words = f"patch over {many(len(chosen), 'edge')} with a {made.face.surface.kind}"
        words += f", off them by {made.off:.2g} mm at most" if made.off > bench.tolerance else ""
        if smooth or curved:
            words += f", {np.degrees(made.kink):.2g}° off smooth"
        if curved:
            words += f", its curvature {made.jump:.2g} 1/mm off theirs"
        if closed(made.body) and not closed(owners[0]):
            words += ", the solid is filled"
        detail: dict[str, Any] = {"part": f"{many(len(made.gone), 'face')} gone", "off_mm": made.off}
        if smooth or curved:
            detail["kink_deg"] = float(np.degrees(made.kink))
        if curved:
            detail["curvature_off_per_mm"] = made.jump
        return Made(bench.model.replaced(owners[0], [made.body]), words, details=[detail])
