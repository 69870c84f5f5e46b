"""The Docket: what to look at next in the present station, and its verbs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QLineEdit, QPushButton

from lithon.app import theme
from lithon.app.cuts import Cuts
from lithon.app.guide import guide
from lithon.app.histogram import Histogram
from lithon.app.parts import Card, Panel, button, choice, label, number, restyle, row, title
from lithon.app.work import Work
from lithon.brep.copies import root_of
from lithon.exchange.placement import ORIGINS, UPS, Placement
from lithon.mesh.compare import compared
from lithon.mesh.recover import Failure
from lithon.mesh.verdict import UNASKED, Verdict, verdict
from lithon.operations.cures import ways
from lithon.operations.prove.drapes import IgnoreBelow
from lithon.operations.prove.mesh import MakeMesh, from_lattice
from lithon.operations.state import IGNORED
from lithon.operations.table import STATIONS, rows
from lithon.operations.trim.clear import Clear
from lithon.operations.trim.cure import CureAll
from lithon.operations.trim.keep import Keep
from lithon.survey.findings import share
from lithon.survey.groups import Group, Key, grouped
from lithon.survey.outlook import smaller_parts
from lithon.words import many

#: So many notes of an arrival are shown as cards.
_NOTES = 6
#: So many cards are laid out at once: nobody reads thousands, and laying them out takes as long as that sounds.
_CARDS = 40
_APPROXIMATION = "Faces that fail are left out, and what they covered is closed by triangles"
_NOUNS = {
    "small hole": ("holes", "diameter"),
    "small fillet": ("fillets", "radius"),
    "small chamfer": ("chamfers", "width"),
    "pocket": ("pockets", "depth"),
}


def _about(count: float) -> str:
    """A count to three digits: more of a forecast would be noise."""
    return number(round(float(f"{count:.3g}")), 3)


def _short(length: float) -> str:
    """Two or three digits, and no exponent where a person would write none."""
    if length >= 1e4:
        return f"{length / 1e3:.3g}k"
    digits = 3 if length >= 1.0 else 2
    return f"{float(f'{length:.{digits}g}'):g}" if length >= 1e-3 or length == 0.0 else f"{length:.0e}"


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
        if station in _HEADS:
            _HEADS[station](self)
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

    def _head_intake(self) -> None:
        ledger = self.work.ledger
        arrival, model = ledger.arrival, ledger.base
        kind = Path(ledger.source.name).suffix.lstrip(".").upper() or "data"
        exact = not any(f.surface.kind == "facets" for body in model.bodies for f in root_of(body).faces)
        many = f"{len(model.bodies)} {'body' if len(model.bodies) == 1 else 'bodies'}"
        card = Card(
            "●",
            theme.VERDIGRIS,
            ledger.source.name,
            f"{len(ledger.source.data) // 1024 + 1} kB of {kind}, {many}, {model.face_count()} faces",
            "Exact faces and edges; seams dropped." if exact else "Triangles, parted into faces at their creases.",
            "The file itself is never touched.",
        )
        self.add(card)
        if arrival.unit is not None:
            self._unit_card(arrival.unit)
        if not exact and not ledger.entries:
            self._place_card(ledger.source.placement)
        for note in arrival.notes[:_NOTES]:
            self.add(Card(*theme.SEVERITY["note"][1::-1], note))
        if len(arrival.notes) > _NOTES:
            self.add(label(f"and {len(arrival.notes) - _NOTES} more notes", "dim"))

    def _unit_card(self, choice) -> None:
        """The box in every unit that the file may mean; a press reads it again in that unit."""
        card = Card(
            "?",
            theme.OCHRE,
            f"The file names no unit: read in {choice.unit}",
            f"{choice.why.capitalize()}. Its box in mm:",
        )
        table = QGridLayout()
        table.setContentsMargins(0, 2, 0, 0)
        table.setHorizontalSpacing(10)
        table.setVerticalSpacing(0)
        for k, (unit, box) in enumerate(choice.boxes.items()):
            chosen = unit == choice.unit
            pick = button(("● " if chosen else "○ ") + unit, lambda u=unit: self.work.reread(u), "quiet")
            pick.setToolTip(f"Read the file again in {unit}")
            table.addWidget(pick, k, 0)
            size = label(" × ".join(_short(c) for c in box), "" if chosen else "dim", wrap=False)
            table.addWidget(size, k, 1)
        table.setColumnStretch(1, 1)
        card.lay.addLayout(table)
        self.add(card)

    def _place_card(self, place: Placement) -> None:
        """Scale, the axis that is up and the origin of triangles; a change reads the file again."""
        card = Card("○", theme.INK2, "Its place can still be changed", "Until the first step is taken.")
        table = QGridLayout()
        table.setContentsMargins(0, 2, 0, 0)
        table.setHorizontalSpacing(10)
        up = choice(
            place.up,
            list(UPS),
            lambda text: self.work.reread(placement=replace(place, up=text)),
            "Which axis of the file becomes our z",
        )
        origin = choice(
            place.origin,
            list(ORIGINS),
            lambda text: self.work.reread(placement=replace(place, origin=text)),
            "Where the origin is put",
        )
        scale = QLineEdit(f"{place.scale:.10g}")
        scale.setObjectName("place-scale")
        scale.setToolTip("A factor on top of the unit; Enter takes it")
        scale.editingFinished.connect(lambda: self._rescale(place, scale))
        for k, (text, widget) in enumerate((("up", up), ("origin", origin), ("scale", scale))):
            table.addWidget(label(text, "dim", wrap=False), k, 0)
            table.addWidget(widget, k, 1)
        table.setColumnStretch(1, 1)
        card.lay.addLayout(table)
        self.add(card)

    def _rescale(self, place: Placement, field: QLineEdit) -> None:
        try:
            factor = float(field.text().replace(",", "."))
        except ValueError:
            self.work.told.emit(f"{field.text()!r} is no number", "bad")
            field.setText(f"{place.scale:.10g}")
            return
        if factor != place.scale:
            self.work.reread(placement=replace(place, scale=factor))

    def _head_survey(self) -> None:
        """What a mesh will have, what its half would, and how many faces there may be."""
        work = self.work
        seen, costs = work.forecast, work.costs
        known = costs is not None and costs.total >= 0.5
        small = f" {_about(costs.total)} of them are there for small things." if costs is not None and known else ""
        parts = smaller_parts(work.symmetry, seen.elements) if seen is not None and work.symmetry is not None else []
        card = Card(
            "≈",
            theme.INK2,
            f"{_about(seen.elements)} elements" if seen is not None else "Counting elements…",
            f"Down to {_short(seen.smallest_mm)} mm.{small}" if seen is not None else "",
            " ".join(f"{words.capitalize()}: {_about(elements)}." for words, elements in parts),
        )
        budget = work.ledger.settings.budget
        limit = QLineEdit("" if budget is None else str(budget))
        limit.setObjectName("face-budget")
        limit.setPlaceholderText("no limit")
        limit.setMaximumWidth(76)
        limit.setToolTip("How many faces the mesher can take; watched in the Ledger. Enter takes it")
        limit.editingFinished.connect(lambda: work.set_face_budget(limit.text()))
        limit.returnPressed.connect(limit.clearFocus)  # keys belong to the desk again
        faces = work.model.face_count()
        card.lay.addWidget(row(label(f"{faces} faces; at most", "dim", wrap=False), limit))
        below = work.ledger.state.ignored
        said = f"Not followed below {_short(below)} mm" if below else "However small, it is followed"
        change = button("Change", lambda: work.propose(IgnoreBelow(below or 0.0)), "quiet", "The size below which the "
                        "mesh goes over faces, edges and corners; the solid stays as it is")  # fmt: skip
        line = row(label(said, "dim"), change, stretch=False)  # in two lines where the number is long
        line.layout().setStretch(0, 1)
        card.lay.addWidget(line)
        self.add(card)
        cures = [g for g in self.groups if g.first.offers and not g.first.keep]
        if len(cures) > 1:
            self.add(
                row(
                    button(
                        f"Cure all {len(cures)}",
                        lambda: work.propose(CureAll()),
                        "",
                        "Every cure that moves nothing by more than half an element, the worst first, as one step",
                    )
                )
            )

    def _head_carve(self) -> None:
        self.add(
            label(
                "Choose two plane faces for a cut midway, one for an offset, or three points. "
                "With nothing chosen the cut stands across the middle.",
                "dim",
            )
        )
        for widget in self.cuts.cards():
            self.add(widget)

    def _cuts_found(self) -> None:
        if self.work.station == "Carve":
            self.refresh()

    def _head_bond(self) -> None:
        model = self.work.model
        shared = model.shared()
        if len(model.bodies) < 2:
            self.add(label("One body only: there is nothing to share. Carve first.", "dim"))
        elif not shared:
            self.add(
                label(
                    f"{len(model.bodies)} bodies stand apart. Shared faces make their meshes match node for node.",
                    "dim",
                )
            )
        from lithon.brep.measures import face_area

        for face in shared:
            a, b = model.owners(face)
            card = Card("▨", theme.VERDIGRIS, f"{a.name}  +  {b.name}", f"shared over {number(face_area(face))} mm²")
            card.pressed = lambda face=face: self.work.choose(faces=[face])
            self.add(card)

    def _head_prove(self) -> None:
        mesh = self.work.mesh
        if mesh is None:
            self.add(
                label(
                    f"A conformal mesh of all bodies at {self.work.ledger.size:g} mm. "
                    "Boundaries and shared faces are recovered in full.",
                    "dim",
                )
            )
            self._warned()
            return
        q = mesh.quality
        smallest = float(q.smallest_angle.min())
        told = verdict(mesh)
        ignored = self.work.ledger.state.rules().ignore or 0.0
        cut_off = any(off > ignored for off in mesh.rounded.values())
        good = told.good and not mesh.failures and not cut_off
        only_skin = mesh.shape.flat and bool(mesh.failures) and not all(b.sheet for b in mesh.bodies)
        what = "area" if mesh.shape.flat else "volume"
        held = from_lattice(mesh) if mesh.rounded else "boundary recovered"
        matched = "all shared faces match" if mesh.conformal() else "not conformal"
        self.add(
            Card(
                "✓" if good else "▲",
                theme.VERDIGRIS if good else theme.OCHRE,
                f"{number(len(mesh.elements), 3)} {mesh.kind}, {number(len(mesh.points), 3)} nodes",
                "no volume: what could be covered is kept" if only_skin else f"{held}, {matched}",
                f"{what} {100.0 * (mesh.volume_ratio - 1.0):+.3f} % against the exact one",
                told.words(),
            )
        )
        for failure in mesh.failures:  # what is not there comes before what is poor
            self._failed(failure)
        if not told.good:
            self._poor(told)
        if only_skin:
            self.add(row(button("Mesh an approximation", self._approximate, "", _APPROXIMATION)))
        self.add(
            Histogram(f"smallest {mesh.shape.angles} angle, degrees", q.smallest_angle, 0.0, mesh.shape.right, 10.0)
        )
        self.add(Histogram("scaled Jacobian", q.scaled_jacobian, 0.0, 1.0, 0.1))
        drawn = "the outlines of what failed are" if mesh.failures else "the twelve worst are"
        self.add(
            label(
                f"Worst element {smallest:.1f}°, its Jacobian {q.scaled_jacobian[q.worst(1)[0]]:.2f}; "
                f"{drawn} drawn in madder.",
                "dim",
            )
        )
        before = self.work.ledger.mesh_before()
        if before is not None:
            self.add(title("BEFORE, AND NOW"))
            for what, one, two in compared(before, mesh):
                self.add(label(f"{what}: {one} → {two}" if one != two else f"{what}: {one}, as before", "dim"))

    def _warned(self) -> None:
        """What the survey has found that would stop a mesh, before one is asked for."""
        stops = grouped([f for f in self.work.open_findings() if f.severity == "stops"])
        if not stops:
            return
        card = Card("■", theme.MADDER, f"{many(len(stops), 'card')} would stop it",
                    *(g.text for g in stops[:3]))  # fmt: skip
        faces = list(dict.fromkeys(f for g in stops for f in g.first.faces))
        if faces:
            card.add_button("Show me", lambda: self.work.choose(faces=faces))
        card.add_button("Mesh an approximation", self._approximate)
        card.setToolTip(_APPROXIMATION)
        self.add(card)

    def _approximate(self) -> None:
        self.work.propose(MakeMesh(elements="tet", approximate=True))

    def _poor(self, told: Verdict) -> None:
        """Where elements are poor and why, the most of them first."""
        where = told.where()
        card = Card("■" if told.lenient else "▲", theme.MADDER if told.lenient else theme.OCHRE,
                    "not good enough everywhere", *where[:4])  # fmt: skip
        if len(where) > 4:
            card.setToolTip("\n".join(where))
        faces = list(dict.fromkeys(p.face for p in told.places if p.face is not None))
        if faces:
            card.add_button("Show me", lambda: self.work.choose(faces=faces))
        ledger = self.work.ledger
        below = round(IGNORED * ledger.state.smallest, 6)
        if ledger.state.ignored is None and any(p.cause != UNASKED for p in told.places):
            card.add_button(f"Ignore below {below:g} mm", lambda: self.work.propose(IgnoreBelow(below)))
        if self.work.mesh is not None and self.work.mesh.better:
            lattice = MakeMesh(elements="tet", lattice=True)
            off = max(self.work.mesh.better.values())
            tip = f"Fewer elements are poor; creases are cut off by up to {off:.2g} mm."
            card.add_button("Mesh from a lattice", lambda: self.work.propose(lattice), tip=tip)
        self.add(card)

    def _failed(self, failure: Failure) -> None:
        """What could not be meshed, and where."""
        card = Card("■", theme.MADDER, failure.what, failure.remedy)
        if failure.face is not None:
            face = failure.face
            card.add_button("Show me", lambda: self.work.choose(faces=[face]))
        self.add(card)

    def _head_deliver(self) -> None:
        mesh = self.work.mesh
        self.add(
            label(
                "Geometry as STEP, the mesh as VTU with bodies, faces and labels, the steps as a recipe that runs "
                "without a window, and a report.",
                "dim",
            )
        )
        if mesh is None:
            self.add(label("No mesh yet: make one in Prove to write it.", "dim"))

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
        return f" {'It makes' if len(group.findings) == 1 else 'Together'} about {_about(elements)} {what}."

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


#: What stands at the head of the Docket, by station.
_HEADS: dict[str, Callable[[Docket], None]] = {
    "Intake": Docket._head_intake,
    "Survey": Docket._head_survey,
    "Carve": Docket._head_carve,
    "Bond": Docket._head_bond,
    "Prove": Docket._head_prove,
    "Deliver": Docket._head_deliver,
}

__all__ = ["Docket", "Group", "grouped"]
