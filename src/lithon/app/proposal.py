"""The Proposal: any command before it is taken, on top of the Docket."""

from __future__ import annotations

from PySide6.QtWidgets import QFrame, QGridLayout, QProgressBar, QVBoxLayout, QWidget

from lithon.app import theme
from lithon.app.parts import button, label, number, restyle, row, signed, title
from lithon.app.work import Proposal, Work
from lithon.brep.copies import root_of


class ProposalPanel(QFrame):
    """Parameters, price, and what to press. Enter takes it, Esc drops it, Tab shows the next solution."""

    def __init__(self, work: Work):
        super().__init__()
        self.work = work
        self.setObjectName("proposal")
        self.lay = QVBoxLayout(self)
        self.lay.setContentsMargins(12, 10, 10, 10)
        self.lay.setSpacing(6)
        self._body: QWidget | None = None
        work.proposal_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        p = self.work.proposal
        self.setVisible(p is not None)
        if self._body is not None:
            self.lay.removeWidget(self._body)
            self._body.hide()
            self._body.deleteLater()
            self._body = None
        if p is None:
            return
        restyle(self, state=p.state)
        self._body = body = QWidget()
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        column.addWidget(title("PROPOSAL"))
        column.addWidget(label(p.title, "big"))
        if p.subject:
            twins = p.step is not None and p.step.get("select", {}).get("twins")
            also = f", and the like on {self.work.twins_of_proposal()} more" if twins else ""
            column.addWidget(label(p.subject + also, "dim"))
        if p.state == "thinking":
            self._thinking(column, p)
        elif p.state == "refused":
            self._refused(column, p)
        else:
            self._ready(column, p)
        self.lay.addWidget(body)

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
        lines = [("faces", f"{p.outcome.faces_change:+d}")]
        if p.outcome.model is not self.work.model:
            lines.append(("volume", f"{signed(p.outcome.volume_change)} mm³"))
            shortest = min((e.length for body in p.outcome.model.bodies for e in root_of(body).edges()), default=0.0)
            lines.append(("shortest edge", f"{shortest:.3g} mm"))
        if p.outcome.model is not self.work.model and p.kind != "bond":
            if p.elements is not None:
                before, after = p.elements
                lines.append(("elements", f"{number(before, 3)} → {number(after, 3)}"))
            else:
                lines.append(("elements", "counting…"))
        for contact in p.outcome.details[:4]:
            named = f" on {contact['body']}" if "label" in contact else ""
            lines.append((contact.get("verdict") or contact["label"], f"{number(contact['area_mm2'])} mm²{named}"))
        for k, (name, value) in enumerate(lines):
            grid.addWidget(label(name, "dim", wrap=False), k, 0)
            grid.addWidget(label(value, wrap=False), k, 1)
        grid.setColumnStretch(1, 1)
        column.addLayout(grid)
        if p.outcome.solutions > 1:
            k = int(p.step.get("solution", 0)) + 1
            column.addWidget(
                row(button(f"Solution {k} of {p.outcome.solutions}: next  (Tab)", self.work.next_solution))
            )
        if others := self.work.twins_of_proposal():
            both = bool(p.step["select"].get("twins"))
            words = "On this body only" if both else f"On its {others} twin{'s' if others > 1 else ''} too"
            column.addWidget(row(button(f"{words}  (T)", self.work.also_on_twins)))
        column.addWidget(
            row(button("Take it  (Enter)", self.work.accept, "main"), button("Drop  (Esc)", self.work.drop))
        )
