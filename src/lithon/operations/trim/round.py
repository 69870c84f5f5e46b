"""Round: a ball of given radius rolls along edges."""

from __future__ import annotations

from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import edges, length
from lithon.trim.rounding import rounded
from lithon.words import many


class RoundEdges(Operation):
    """Round edges, inner and outer ones, with a radius."""

    edges: Choice = param(edges(help="what is rounded"))
    radius: float = param(length("radius", above=0.0))

    unbonded = "round edges"
    dragged = "radius"
    gate = "own"

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "radius": round(0.5 * chosen.size, 6)}

    def do(self, bench: Bench) -> Made:
        chosen = bench.edges()
        out = bench.model
        for body, own in bench.edges_by_body(chosen):
            bench.progress.tell(0.1, f"rounding edges of {body.name}")
            out = out.replaced(body, [rounded(body, own, self.radius, bench.tolerance)])
        return Made(out, f"round {many(len(chosen), 'edge')} with a radius of {self.radius:g} mm")
