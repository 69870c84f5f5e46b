"""Bevel: edges made flat, or filled by a flat, to a given setback."""

from __future__ import annotations

from lithon.brep.analysis.across import depth
from lithon.brep.analysis.adjacency import adjacency
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import edges, length
from lithon.trim.bevelling import bevelled
from lithon.words import many


class BevelEdges(Operation):
    """Bevel edges, inner and outer ones: a flat that stands back from each by the same on both faces."""

    edges: Choice = param(edges(help="what is made flat; an inner one is filled"))
    setback: float = param(length("setback", above=0.0, help="from the edge to where the flat begins on each face"))

    unbonded = "bevel edges"
    dragged = "setback"
    gate = "own"

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "setback": round(0.5 * chosen.size, 6)}

    def do(self, bench: Bench) -> Made:
        chosen = bench.edges()
        out, deep = bench.model, 0.0
        for body, own in bench.edges_by_body(chosen):
            bench.progress.tell(0.1, f"bevelling edges of {body.name}")
            out = out.replaced(body, [bevelled(body, own, self.setback, bench.tolerance)])
            uses = adjacency(body).uses
            deep = max(deep, *(depth(e, [use.face for use, _ in uses[e]], self.setback) for e in own))
        # Nothing else tells how far a knife edge has gone: the flat is nowhere far from either face.
        return Made(out, f"bevelled {many(len(chosen), 'edge')} to {self.setback:g} mm", details=[{"moved_mm": deep}])
