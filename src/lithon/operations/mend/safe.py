"""Mend what is safe: every cure that moves nothing by more than a stated limit, over all bodies, until none is left."""

from __future__ import annotations

from typing import Any

from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.operations.mend.close import Close
from lithon.operations.mend.drop import Drop
from lithon.operations.mend.merge import Merge
from lithon.operations.mend.replace import Replace
from lithon.operations.mend.sew import Sew
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import length
from lithon.operations.running import Outcome, run
from lithon.operations.state import State
from lithon.survey.card import Finding
from lithon.survey.findings import findings
from lithon.words import many

_CURES: dict[str, type[Operation]] = {"sew": Sew, "drop": Drop, "merge": Merge, "replace": Replace, "close": Close}


class MendSafe(Operation):
    """Take every cure that moves nothing by more than a limit: sew, drop, merge, replace, close."""

    limit: float | None = param(length("limit", "how far anything may move; left out: a two-hundredth of an element",
                                       above=0.0, optional=True))  # fmt: skip

    unbonded = "mend"
    gate = "own"
    budget = 300.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        size = bench.state.settings.size
        limit = size / 200.0 if self.limit is None else self.limit
        state, failed = bench.state, set()
        details: list[dict[str, Any]] = []
        while True:
            card = next((c for c in _cards(state.model, size) if _key(c) not in failed), None)
            if card is None:
                break
            bench.progress.tell(min(0.95, 0.05 * len(details)), f"{card.kind} in {card.body.name}")
            out = _taken(state, card, bench)
            if out is None or (moved := deviation(out)) > limit:
                failed.add(_key(card))
                continue
            state = out.state
            details.append({"kind": card.kind, "body": card.body.name, "place_mm": list(card.place),
                            "cure": str(card.remedy), "moved_mm": moved})  # fmt: skip
        left = _cards(state.model, size)
        if not details:
            raise Refusal(
                f"nothing can be mended within {limit:g} mm" if left else "there is nothing to mend",
                remedy=f"{many(len(left), 'card')} would move more, or do not close: look at them one by one" if left
                else "the checks find no wound",
            )  # fmt: skip
        most = max(d["moved_mm"] for d in details)
        words = f"mend {many(len(details), 'wound')}, moved by {most:.2g} mm at the most"
        if left:
            words += f"; {len(left)} left"
        return Made(state.model, words, details=details, marks=state.marks)


def _taken(state: State, card: Finding, bench: Bench) -> Outcome | None:
    """What a card's cure gives, or nothing where it is refused."""
    try:
        return run(state, _CURES[str(card.remedy)](list(card.faces)), bench.progress)
    except Refusal:
        return None


def _cards(model: Model, size: float) -> list[Finding]:
    """Cards whose cure is one of those that may be taken unseen."""
    return [c for c in findings(model, size) if c.offer is not None and str(c.remedy) in _CURES and c.faces]


def _key(card: Finding) -> tuple[Any, ...]:
    return card.kind, *(round(x, 6) for x in card.place)


def deviation(out: Outcome) -> float:
    """How far (mm) a cure has moved anything, as it tells itself; what only fills, drops or joins moves nothing."""
    return max((float(d["moved_mm"]) for d in out.details if "moved_mm" in d), default=0.0)
