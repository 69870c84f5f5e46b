"""Cure all: every card's cure taken, the worst first, as one step with its price and its list."""

from __future__ import annotations

from lithon.errors import Refusal
from lithon.operations.cures import SAFE, cured, in_short
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import length
from lithon.words import many


class CureAll(Operation):
    """Take every cure that moves nothing by more than a limit, worst first; what is rather kept stays."""

    limit: float | None = param(length("limit", "how far anything may move; left out: half an element", above=0.0,
                                       optional=True))  # fmt: skip

    on_sheets = True
    gate = "own"
    budget = 600.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        limit = bench.state.settings.size * SAFE if self.limit is None else self.limit
        out = cured(bench.state, limit, bench.progress)
        details = in_short(out)
        left = sum(n for tally in out.tally.values() for what, n in tally.items() if what != "taken")
        if not details:
            raise Refusal(
                f"no card has a cure that holds and moves less than {limit:g} mm" if left else "no card is open",
                remedy=f"{many(left, 'card')} to look at one by one" if left else "the mesh can be made",
            )  # fmt: skip
        most = max(d.get("moved_mm", 0.0) for d in details)
        count = sum(d["findings"] for d in details)
        words = f"cure {many(count, 'finding')}" + (f", moved by {most:.2g} mm at the most" if most else "")
        if left:
            words += f"; {left} left"
        return Made(out.state.model, words, details=details, marks=out.state.marks)
