"""The Docket: what to look at next in the present station, and its verbs."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit, QPushButton

from lithon.app import theme
from lithon.app.cuts import Cuts
from lithon.app.guide import guide
from lithon.app.heads import HEADS, about
from lithon.app.parts import Card, Panel, button, label, restyle, row
from lithon.app.work import Work
from lithon.operations.cures import ways
from lithon.operations.table import STATIONS, rows
from lithon.operations.trim.clear import Clear
from lithon.operations.trim.keep import Keep
from lithon.survey.card import share
from lithon.survey.groups import Group, Key, grouped

#: So many cards are laid out at once: nobody reads thousands, and laying them out takes as long as that sounds.
_CARDS = 40
_NOUNS = {
    "small hole": ("holes", "diameter"),
    "small fillet": ("fillets", "radius"),
    "small chamfer": ("chamfers", "width"),
    "pocket": ("pockets", "depth"),
    "low boss": ("bosses", "depth"),
}


class Docket(Panel):
    show_me = Signal(list, list)

    def __init__(self, work: Work, verbs: Callable[[str], list[tuple[str, Callable[[], object], str, bool]]]):
        super().__init__("DOCKET")
        self.work = work
        self.verbs = verbs
        self.current = 0
        self.groups: list[Group] = []
        self.most = _CARDS
        self.cards: list[Card] = []
        #: Which finding of a card was flown to last.
        self.walked: dict[Key, int] = {}
        self.verb: QPushButton | None = None
        self.cuts = Cuts(work, self._cuts_found)
        work.findings_changed.connect(self.refresh)
        work.station_changed.connect(self.refresh)
        work.mesh_changed.connect(self.refresh)
        work.selection_changed.connect(self._selection_moved)
        work.proposal_changed.connect(self._proposal_moved)
        work.opened.connect(self._opened)
        work.forecast_changed.connect(self._foreseen)
        work.standings_changed.connect(self._cuts_found)
        #: Where it was scrolled to, until new cards reach so far again.
        self._stood = 0
        self.area.verticalScrollBar().rangeChanged.connect(self._stand_again)
        self.area.verticalScrollBar().actionTriggered.connect(lambda action: self._stand_where_put())

    # ---- what stands on it

    def shown(self) -> list[Group]:
        station = self.work.station.lower()
        found = self.work.open_findings() if self.work.ledger is not None else []
        if station not in ("survey", "mend", "trim"):
            return []
        return grouped([f for f in found if station == "survey" or f.station == station])

    def counts(self) -> dict[str, int]:
        """Open cards by station, for the path."""
        found = self.work.open_findings() if self.work.ledger is not None else []
        out = {s: len(grouped([f for f in found if f.station == s.lower()])) for s in ("Mend", "Trim")}
        out["Survey"] = len(grouped(found))
        return out

    def _opened(self) -> None:
        self.walked.clear()  # cards of another file may have the same keys
        self.refresh()

    def refresh(self) -> None:
        self._fill()
        self.lay_out()

    def _fill(self) -> None:
        self._stood = 0
        self.clear()
        self.cards, self.verb, self.groups = [], None, self.shown()
        self.current = min(self.current, max(0, len(self.groups) - 1))
        station = self.work.station
        self.heading.setText(f"DOCKET · {station.upper()}")
        if self.work.ledger is None:
            self.add(label("Nothing is open yet.", "dim"))
            return
        work = self.work
        if work.page is not None:
            page = work.page
            self.add(guide(page, work.page_step, lambda k: work.follow(page, k), lambda: work.follow(None)))
        self._station_head(station)
        self.most = max(_CARDS, _CARDS * (1 + self.current // _CARDS), self.most if len(self.groups) > _CARDS else 0)
        for k, group in enumerate(self.groups[: self.most]):
            card = self._card(group)
            card.pressed = lambda k=k: self.choose(k)
            self.cards.append(card)
            self.add(card)
        if (left := len(self.groups) - self.most) > 0:
            self.add(row(button(f"{min(left, _CARDS)} more of {left} cards", self._more, "quiet")))
        if station in ("Survey", "Mend", "Trim"):
            if not self.work.findings_ready:
                self.add(label("Looking at the solid…", "dim"))
            elif not self.groups:
                self.add(label(f"Nothing stands in the way at elements of {self.work.ledger.size:g} mm.", "dim"))
        self._way_on(station)
        self._mark()

    def _more(self) -> None:
        self.most += _CARDS
        self.refresh()

    def _way_on(self, station: str) -> None:
        """The next station, one press away."""
        k = STATIONS.index(station)
        if k + 1 < len(STATIONS):
            nxt = STATIONS[k + 1]
            if nxt == "Mend" and not self.counts()["Mend"]:
                nxt = "Trim"
            self.add(row(button(f"On to {nxt} ›", lambda: self.work.go(nxt), "quiet")))

    def _station_head(self, station: str) -> None:
        if station in HEADS:
            HEADS[station](self)
        verbs = self.verbs(station)
        if verbs:
            finished = (station == "Bond" and bool(self.work.model.shared())) or (
                station == "Prove" and self.work.mesh is not None
            )
            for text, pressed, tip, main in verbs:
                b = button(text, pressed, "main" if main and not finished else "", tip)
                self.add(row(b))
                if main and not finished:
                    self.verb = b
            self._proposal_moved()

    def _proposal_moved(self) -> None:
        """One thing to press at a time: while something is proposed, the station's own verb steps back."""
        if self.verb is not None:
            self.verb.setObjectName("main" if self.work.proposal is None else "")
            restyle(self.verb)

    def _cuts_found(self) -> None:
        if self.work.station == "Carve":
            self.refresh()

    def _card(self, group: Group) -> Card:
        f = group.first
        colour, mark, word = theme.SEVERITY[f.severity]
        n = len(group.findings)
        size = self.work.ledger.size
        least, most = group.sizes
        small = least > 0.0 and most < 3.0 * size  # of what is larger it says nothing
        measure = share(most, size) if small else ""
        if small and most > 1.1 * least:
            measure = f"{least / size:.2g} to {measure}"
        lead = f"{measure[0].upper()}{measure[1:]}. " if measure and measure not in f.text + f.consequence else ""
        way = self.work.tried.get(group.key)
        far = f" {way.words}" if way is not None and way.number is not None else ""
        card = Card(mark, colour, group.text, f"{lead}{group.consequence}{self._cost(group)}{far}", f.keep)
        card.setToolTip(word)
        card.add_button("Show me", lambda g=group: self.show(g))
        if n > 1:
            at = self.walked.get(group.key)
            walk = card.add_button("Walk ›" if at is None else f"{at % n + 1} of {n} ›", lambda: self.walk(group, walk),
                                   tip="Fly to what the card is about, one after another")  # fmt: skip
        if way is not None and way.number is None:
            told = f"Nothing cures it by itself: {way.why}."
            told += f" {f.advice[0].upper()}{f.advice[1:]}." if f.advice else ""
            card.lay.insertWidget(card.lay.count() - 1, label(told, "dim"))
        elif f.offer is not None:
            offer = f.offers[way.number if way is not None else 0]
            first, *rest = (offer.word or rows()[offer.operation].title.split(" ")[0]).split(" ")
            every = ["all"] if n > 1 and offer.of_all else []
            card.add_button(" ".join([first, *every, *rest]), lambda g=group: self.remedy(g))
        elif f.advice:
            card.lay.insertWidget(card.lay.count() - 1, label(f"{f.advice[0].upper()}{f.advice[1:]}.", "dim"))
        if group.faces:
            card.add_button("Keep", lambda g=group: self.keep(g))
        return card

    def _cost(self, group: Group) -> str:
        """The elements that are there for what a card is about."""
        costs = self.work.costs
        elements = sum(costs.of(f) for f in group.findings) if costs is not None else 0.0
        if elements < 1.0 or group.first.severity != "costs":
            return ""
        what = "element" if round(elements) == 1 else "elements"
        return f" {'It makes' if len(group.findings) == 1 else 'Together'} about {about(elements)} {what}."

    # ---- doing

    def _mark(self) -> None:
        for k, card in enumerate(self.cards):
            restyle(card, chosen=k == self.current)

    def choose(self, k: int) -> None:
        """Make a card the current one and choose what it is about."""
        if not self.groups:
            return
        self.current = k % len(self.groups)
        if self.current >= len(self.cards):
            self.refresh()
        self._mark()
        group = self.groups[self.current]
        self.work.choose(group.faces, group.edges)
        self.area.ensureWidgetVisible(self.cards[self.current])

    def next(self) -> None:
        self.choose(self.current + 1)

    def show(self, group: Group | None = None) -> None:
        group = group or (self.groups[self.current] if self.groups else None)
        if group is not None:
            self.work.choose(group.faces, group.edges)
            self.show_me.emit(group.faces, group.edges)

    def walk(self, group: Group, pressed: QPushButton) -> None:
        """Fly to the next of what a card is about; its button says to which."""
        k = (self.walked.get(group.key, -1) + 1) % len(group.findings)
        self.walked[group.key] = k
        one = group.findings[k]
        faces = list(one.faces) if not one.edges else []  # a wound may lie in a face as large as the part
        self.work.choose(faces, list(one.edges))
        self.show_me.emit(faces, list(one.edges))
        pressed.setText(f"{k + 1} of {len(group.findings)} ›")

    def remedy(self, group: Group | None = None) -> None:
        """Propose the remedy of a card."""
        group = group or (self.groups[self.current] if self.groups else None)
        way = self.work.tried.get(group.key) if group is not None else None
        offered = list(ways(group)) if group is not None and (way is None or way.number is not None) else []
        operation = offered[way.number if way is not None else 0] if offered else None
        if group is None:
            return
        if operation is None:
            why = way.why if way is not None else group.first.advice
            self.work.told.emit(f"no operation cures this by itself: {why}", "plain")
            return
        self.work.choose(group.faces)
        self.work.propose(operation, group.text)

    def all_like_this(self) -> None:
        """Propose the remedy for everything of this kind up to this size."""
        if not self.groups:
            return
        f = self.groups[self.current].first
        if f.kind in _NOUNS:
            noun, measure = _NOUNS[f.kind]
            question = f"{noun} where {measure} <= {f.size + 1e-9:.6g} mm"
            self.work.propose(Clear(faces=question), question)

    def keep(self, group: Group | None = None) -> None:
        group = group or (self.groups[self.current] if self.groups else None)
        if group is not None and group.faces:
            reason = group.first.keep or "kept by hand"
            self.work.take(Keep(faces=group.faces, reason=f"{group.text}. {reason}"))

    def _foreseen(self) -> None:
        """Prices have come: on the cards with them, without taking from under the eye or the hand what lies there."""
        typing = any(field.hasFocus() for field in self.findChildren(QLineEdit))
        if self.work.station not in ("Survey", "Mend", "Trim") or self.work.forecast is None or typing:
            return
        stood = self.area.verticalScrollBar().value()
        self.refresh()
        self._stood = stood

    def _stand_where_put(self) -> None:
        self._stood = 0

    def _stand_again(self, low: int, high: int) -> None:
        if 0 < self._stood <= high:
            self.area.verticalScrollBar().setValue(self._stood)
            self._stood = 0

    def _selection_moved(self) -> None:
        if self.work.station == "Carve":
            self.refresh()


__all__ = ["Docket", "Group", "grouped"]
