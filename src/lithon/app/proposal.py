"""The Proposal: an operation before it is taken, on top of the Docket. Its form, its price, and what to press."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QGridLayout, QProgressBar, QVBoxLayout, QWidget

from lithon.app import theme
from lithon.app.asking import Proposal
from lithon.app.fields import FormWidget
from lithon.app.parts import button, label, number, restyle, row, signed, title
from lithon.app.work import Work
from lithon.brep.copies import root_of
from lithon.words import many


class ProposalPanel(QFrame):
    """Enter takes it, Esc drops it, Tab shows the next solution."""

    def __init__(self, work: Work):
        super().__init__()
        self.work = work
        self.setObjectName("proposal")
        self.lay = QVBoxLayout(self)
        self.lay.setContentsMargins(12, 10, 10, 10)
        self.lay.setSpacing(6)
        self.lay.addWidget(title("PROPOSAL"))
        self.name = label("", "big")
        self.subject = label("", "dim")
        self.lay.addWidget(self.name)
        self.lay.addWidget(self.subject)
        #: The fields, as long as the same operation is proposed.
        self.form: FormWidget | None = None
        self._body: QWidget | None = None
        work.proposal_changed.connect(self.refresh)
        work.selection_changed.connect(self._show_form)
        self.refresh()

    def refresh(self) -> None:
        p = self.work.proposal
        self.setVisible(p is not None)
        self._put_away()
        if p is None:
            return
        restyle(self, state=p.state)
        self.name.setText(p.row.title)
        also = f", and the like on {self.work.asking.twins()} more" if self.work.asking.on_twins() else ""
        self.subject.setText(p.subject + also if p.subject else p.row.help)
        if self.form is None:
            asking = self.work.asking
            self.form = FormWidget(p.form, asking.put, asking.type, asking.wait_for)
            self.lay.addWidget(self.form)
            self._show_form()
            if p.state == "asking" and not p.form.waiting:
                self.form.begin(p.form)
        self._show_form()
        self._body = body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        {"asking": self._asking, "thinking": self._thinking, "refused": self._refused, "ready": self._ready}[p.state](
            column, p
        )
        self.lay.addWidget(body)

    def _put_away(self) -> None:
        """What is only shown in the present state; the fields too, where another operation is proposed."""
        p = self.work.proposal
        gone = [self._body]
        if self.form is not None and (p is None or self.form.row is not p.row):
            gone.append(self.form)
            self.form = None
        for widget in gone:
            if widget is not None:
                self.lay.removeWidget(widget)
                widget.hide()
                widget.deleteLater()
        self._body = None

    def _show_form(self) -> None:
        p = self.work.proposal
        if p is not None and self.form is not None and self.work.ledger is not None:
            self.form.show_form(p.form, self.work.chosen(), ("solution",))

    def _asking(self, column: QVBoxLayout, p: Proposal) -> None:
        column.addWidget(row(button("Let go  (Esc)", self.work.drop)))

    def _thinking(self, column: QVBoxLayout, p: Proposal) -> None:
        bar = QProgressBar()
        bar.setTextVisible(False)
        bar.setRange(0, 100)
        bar.setValue(int(100 * p.share))
        column.addWidget(bar)
        column.addWidget(label(p.what or "working it out", "dim"))
        column.addWidget(row(button("Stop  (Esc)", self.work.drop)))

    def _refused(self, column: QVBoxLayout, p: Proposal) -> None:
        error = p.error
        assert error is not None
        first = label(f"■ {error.what}" + (f", at {error.where}" if error.where else "") + ".")
        first.setStyleSheet(f"color: {theme.MADDER};")
        column.addWidget(first)
        if error.remedy:
            column.addWidget(label(f"Try: {error.remedy}."))
        column.addWidget(label("The model is unchanged.", "dim"))
        places = [e for e in error.entities if hasattr(e, "loops")]
        keys = [button("Show me", lambda: self.work.show_faces.emit(places))] if places else []
        column.addWidget(row(*keys, button("Let go  (Esc)", self.work.drop)))

    def _ready(self, column: QVBoxLayout, p: Proposal) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        grid.setVerticalSpacing(2)
        for k, (name, value) in enumerate(self._price(p)):
            first = label(name, "dim", wrap=len(name) > 16)
            grid.addWidget(first, k, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(value, wrap=len(value) > 22), k, 1)
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        asking, outcome = self.work.asking, p.outcome
        assert outcome is not None
        if outcome.solutions > 1:
            k = int(p.form.values.get("solution", 0)) + 1
            column.addWidget(row(button(f"Solution {k} of {outcome.solutions}: next  (Tab)", asking.next_solution)))
        if others := asking.twins():
            words = "On this body only" if asking.on_twins() else f"On its {others} twin{'s' if others > 1 else ''} too"
            column.addWidget(row(button(f"{words}  (T)", asking.also_on_twins)))
        column.addWidget(row(button("Take it  (Enter)", asking.accept, "main"), button("Drop  (Esc)", self.work.drop)))

    def _price(self, p: Proposal) -> list[tuple[str, str]]:
        """What it changes, line by line."""
        outcome, model = p.outcome, self.work.model
        assert outcome is not None
        if outcome.model is model:
            lines = [("", outcome.words)]
        else:
            lines = [("faces", f"{outcome.faces_change:+d}"), ("volume", f"{signed(outcome.volume_change)} mm³")]
            shortest = min((e.length for body in outcome.model.bodies for e in root_of(body).edges()), default=0.0)
            lines.append(("shortest edge", f"{shortest:.3g} mm"))
            if p.elements is not None:
                before, after = p.elements
                lines.append(("elements", f"{number(before, 3)} → {number(after, 3)}"))
            else:
                lines.append(("elements", "counting…"))
        return lines + [detail_line(d) for d in outcome.details[:4]]


#: Endings of names under which outcomes tell their particulars, and units.
_UNITS = (("_mm3", "mm³"), ("_mm2", "mm²"), ("_mm", "mm"), ("_deg", "°"))


def detail_line(detail: Mapping[str, Any]) -> tuple[str, str]:
    """A particular of an outcome as a line: what it is about, and its numbers with their units."""
    known = ("verdict", "label", "kind", "wound", "part", "body")
    first = next((str(detail[k]) for k in known if k in detail), "moved" if set(detail) == {"moved_mm"} else "")
    parts = []
    for key, value in detail.items():
        unit = next(((ending, u) for ending, u in _UNITS if key.endswith(ending)), None)
        if key == "cure":
            parts.append(str(value))
        elif isinstance(value, dict):
            parts.append(", ".join(many(int(n), what) for what, n in value.items()))
        elif isinstance(value, bool | str | list):
            continue
        elif key == "share":
            parts.append(f"{100.0 * value:.4g} % of the whole")
        elif isinstance(value, int):
            parts.append(many(value, key[:-1]) if key.endswith("s") else f"{value} {key.replace('_', ' ')}")
        elif unit is not None:
            what = key.removesuffix(unit[0])
            gap = "" if unit[1] == "°" else " "
            parts.append(f"{number(value)}{gap}{unit[1]}" + ("" if what in ("area", "moved") else f" {what}"))
        else:
            parts.append(f"{number(value)} {key}")
    body = str(detail.get("body", ""))
    where = f" on {body}" if body and body != first else ""
    return first, ", ".join(parts) + where
