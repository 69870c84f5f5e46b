"""Mend what is safe: every cure that moves nothing by more than a stated limit, over all bodies, until none is left."""

from __future__ import annotations

from lithon.errors import Refusal
from lithon.operations.cures import cured, told
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import length
from lithon.words import many

#: Cures that may be taken unseen.
_CURES = ("sew", "drop", "turn-outwards", "merge", "replace", "close")


class MendSafe(Operation):
    """Take every cure that moves nothing by more than a limit: sew, drop, turn, merge, replace, close."""

    limit: float | None = param(length("limit", "how far anything may move; left out: a two-hundredth of an element",
                                       above=0.0, optional=True))  # fmt: skip

    unbonded = "mend"
    on_sheets = True
    gate = "own"
    budget = 300.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        size = bench.state.settings.size
        limit = size / 200.0 if self.limit is None else self.limit
        out = cured(bench.state, limit, bench.progress, only=_CURES)
        details = told(out)
        left = sum(n for tally in out.tally.values() for what, n in tally.items() if what != "taken")
        if not details:
            raise Refusal(
                f"nothing can be mended within {limit:g} mm" if left else "there is nothing to mend",
                remedy=f"{many(left, 'card')} would move more, or do not close: look at them one by one" if left
                else "the checks find no wound",
            )  # fmt: skip
        most = max(d["moved_mm"] for d in details)
        words = f"mend {many(len(details), 'wound')}, moved by {most:.2g} mm at the most"
        if left:
            words += f"; {left} left"
        return Made(out.state.model, words, details=details, marks=out.state.marks)
