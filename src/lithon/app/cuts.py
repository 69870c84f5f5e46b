"""Cuts that free: for bodies that cannot be swept, where to part them so that their pieces can be."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QWidget

from lithon.app import theme
from lithon.app.parts import Card, label
from lithon.app.work import Work
from lithon.brep.topology import Body, Model
from lithon.carve.freeing import Freeing
from lithon.errors import Cancelled, LithonError
from lithon.operations.carve.carve import Carve, cuts_in_words, place_of
from lithon.operations.choices import Choice
from lithon.operations.places import Cut

#: After a search was given up for something else, it is begun again so much later (ms).
_AGAIN = 700


class Cuts:
    """Asked for once for each model, when somebody looks; `changed` is called when they are known."""

    def __init__(self, work: Work, changed: Callable[[], None]):
        self.work, self.changed = work, changed
        self.found: dict[Body, list[Freeing]] | None = None
        self._of: Model | None = None

    def cards(self) -> list[QWidget]:
        """One for each body that cannot be swept, with a button for each way to cut it."""
        work = self.work
        if work.standings is None or work.model is None:
            return []
        fixed = [b for b in work.model.bodies if self._unswept(b)]
        if not fixed:
            return []
        if self._of is not work.model:
            self._ask(work.model)
        if self.found is None:
            return [label("Looking for cuts that make bodies sweepable…", "dim")]
        return [self._card(body, ways) for body, ways in self.found.items()]

    def _unswept(self, body: Body) -> bool:
        told = self.work.standing(body)
        return told is not None and told.kind == "tetrahedra"

    def _ask(self, model: Model) -> None:
        self._of, self.found = model, None

        def come(found: dict[Body, list[Freeing]]) -> None:
            if self._of is model:
                self.found = found
                self.changed()

        def fail(error: LithonError) -> None:
            if self._of is not model:
                return
            if isinstance(error, Cancelled):  # something else was asked for: afterwards again
                self._of = None
                QTimer.singleShot(_AGAIN, self.changed)
            else:
                self.found = {}
                self.work.told.emit(str(error), "bad")

        self.work.job("cuts", model, done=come, failed=fail, wanted=lambda: self._of is model)

    def _card(self, body: Body, ways: list[Freeing]) -> Card:
        told = self.work.standing(body)
        reason = told.reason if told is not None else ""
        if not ways:
            return Card("▲", theme.OCHRE, f"{body.name} cannot be swept", reason,
                        "No cut at one of its faces frees a part of it.")  # fmt: skip
        card = Card("▲", theme.OCHRE, f"{body.name} cannot be swept", reason, *(cuts_in_words(way) for way in ways))
        for first in dict.fromkeys(way.cuts[0] for way in ways):
            cut = Carve(cut=Cut.surface(first), bodies=Choice.made("bodies", body))
            card.add_button(f"Cut {place_of(first)}", lambda cut=cut: self.work.propose(cut))
        card.pressed = lambda: self.work.choose(faces=list(ways[0].cuts))
        return card
