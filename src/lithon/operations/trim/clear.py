"""Clear: faces go, their neighbours extend or trim until they meet again."""

from __future__ import annotations

from collections.abc import Sequence

from lithon.brep.topology import Face, Model
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import faces, solution
from lithon.survey.features import features
from lithon.trim.clear import clear
from lithon.words import many


class Clear(Operation):
    """Remove faces and let their neighbours close up."""

    faces: Choice = param(faces(help="what goes, such as: fillets where radius <= 2 mm"))
    solution: int = param(solution())

    unbonded = "clear"
    budget = 20.0
    gate = "own"

    def do(self, bench: Bench) -> Made:
        chosen = bench.faces()
        out, solutions = bench.model, 1
        for body, own in bench.by_body(chosen):
            ways = clear(body, own, bench.tolerance, bench.progress)
            solutions = max(solutions, len(ways))
            out = out.replaced(body, [ways[min(self.solution, len(ways) - 1)].body])
        asked = self.faces.question.split(" where")[0]
        words = f"clear {asked or in_words(bench.model, chosen)}" + (" on twins" if self.faces.twins else "")
        return Made(out, words, solutions)


def in_words(model: Model, faces: Sequence[Face]) -> str:
    """'4 fillets' where the faces are whole features of one kind, else '4 faces'."""
    chosen = set(faces)
    whole = [f for b in model.bodies for f in features(b) if set(f.faces) <= chosen]
    outer = [f for f in whole if not any(f is not g and set(f.faces) < set(g.faces) for g in whole)]
    kinds: set[str] = {f.kind for f in outer}
    if len(kinds) == 1 and {x for f in outer for x in f.faces} == chosen:
        n, kind = len(outer), kinds.pop()
    else:
        n, kind = len(faces), "face"
    return many(n, kind)
