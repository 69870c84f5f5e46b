"""The Proposal: an operation before it is taken. Its form, its ghost, its price; tried in the worker."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from lithon.brep.tessellation.patches import Change
from lithon.brep.topology import Body
from lithon.errors import Cancelled, LithonError
from lithon.operations.form import Form
from lithon.operations.operation import Operation
from lithon.operations.running import Outcome
from lithon.operations.table import Row
from lithon.project.ledger import rejoined
from lithon.survey.forecast import Forecast

if TYPE_CHECKING:
    from lithon.app.work import Work


@dataclass(slots=True)
class Proposal:
    """A form and what comes of it. state: asking (something is missing), thinking, ready, refused."""

    form: Form
    operation: Operation | None
    subject: str = ""
    state: str = "thinking"
    outcome: Outcome | None = None
    ghost: Change | None = None
    #: The one body that was chosen when it was made.
    body: Body | None = None
    error: LithonError | None = None
    share: float = 0.0
    what: str = ""
    elements: tuple[int, int] | None = None

    @property
    def row(self) -> Row:
        return self.form.row

    @property
    def kind(self) -> str:
        return self.form.row.name


class Asking:
    """What is proposed, and everything that can be done with it."""

    def __init__(self, work: Work):
        self.work = work
        self.proposal: Proposal | None = None

    # ---- making one

    def begin(self, row: Row, empty: str = "", way: str = "") -> None:
        """Open the form of an operation with what is in hand; where nothing is missing, try it."""
        if self.work.ledger is not None:
            self.abandon()
            form = Form.begun(row, self.work.chosen(), empty, way)
            self._show(Proposal(form, None, body=self.work.chosen_body()))

    def propose(self, operation: Operation, subject: str = "") -> None:
        """Try an operation that is whole, and show what it would give."""
        if self.work.ledger is not None:
            self.abandon()
            self._show(Proposal(Form.of(operation), None, subject, body=self.work.chosen_body()))

    def put(self, key: str, value: Any) -> None:
        """A value was set in the form."""
        self._changed(key, lambda form: form.put(key, value))

    def type(self, key: str, text: str) -> None:
        """A value was typed into the form."""
        self._changed(key, lambda form: form.type(key, text))

    def wait_for(self, key: str, way: str = "") -> None:
        """Let a field of the form wait for a pick, or none (''); a cut in one way of describing it."""
        p = self.proposal
        if p is not None:
            p.form.waiting, p.form.way = key, way
            if way == "through":
                self.work.points = []
            self.work.proposal_changed.emit()

    @property
    def wants_points(self) -> bool:
        """Whether a click in the view is a point now."""
        p = self.proposal
        return p is not None and bool(p.form.waiting) and p.form.way == "through"

    def picked(self) -> None:
        """Something was chosen in the view: it goes into the field that waits."""
        p = self.proposal
        if p is not None and p.form.waiting and p.form.pick(self.work.chosen()):
            p.body = self.work.chosen_body() or p.body
            self._again(p)

    def _changed(self, key: str, change: Any) -> None:
        p = self.proposal
        if p is None:
            return
        before = p.form.values.get(key)
        if change(p.form) and p.form.values.get(key) == before and p.operation is not None:
            return
        self._again(p)

    def _again(self, p: Proposal) -> None:
        if p.state == "thinking":
            self.work.stop()
        self._show(Proposal(p.form, None, body=p.body))

    def _show(self, p: Proposal) -> None:
        """Put it on the desk; try it where it is whole."""
        self.proposal = p
        p.operation = p.form.operation()
        if p.operation is None:
            p.state = "asking"
        else:
            p.subject = p.subject or p.operation.subject()
            self._try(p, p.operation)
        self.work.proposal_changed.emit()

    def _try(self, p: Proposal, operation: Operation) -> None:
        work = self.work
        assert work.ledger is not None
        state = work.ledger.state

        def done(answer: tuple[Outcome, Change]) -> None:
            if self.proposal is not p:
                return
            p.outcome, p.ghost = rejoined(state, answer[0]), answer[1]
            p.state = "ready"
            if operation.at_once:
                self.accept()
                return
            work.proposal_changed.emit()
            if p.outcome.model is not state.model:
                work.job(
                    "forecast", p.outcome.model, p.outcome.state.rules(), done=priced, failed=lambda error: None,
                    wanted=lambda: self.proposal is p,
                )  # fmt: skip

        def priced(result: Forecast) -> None:
            if self.proposal is p and work.forecast is not None:
                p.elements = (work.forecast.elements, result.elements)
                work.proposal_changed.emit()

        def failed(error: LithonError) -> None:
            if self.proposal is not p:
                return
            if isinstance(error, Cancelled):
                self.proposal = None
                work.told.emit(f"{p.row.title} stopped; nothing has changed", "plain")
            else:
                p.error, p.state = error, "refused"
            work.proposal_changed.emit()

        def moved(share: float, what: str) -> None:
            if self.proposal is p:
                p.share, p.what = share, what
                work.proposal_changed.emit()

        wanted = None if operation.at_once else (lambda: self.proposal is p)
        work.job("step", state, operation, done=done, failed=failed, progress=moved, wanted=wanted or (lambda: True))

    # ---- what is done with it

    def next_solution(self) -> None:
        p = self.proposal
        if p is not None and p.outcome is not None and p.outcome.solutions > 1 and "solution" in p.form.values:
            self.put("solution", (int(p.form.values["solution"]) + 1) % p.outcome.solutions)

    def twins(self) -> int:
        """How many other bodies are twins of the one that a proposal changes."""
        p, known = self.proposal, self.work.standings
        if p is None or p.body is None or known is None or p.operation is None or not p.operation.live_faces():
            return 0
        return next((len(group) - 1 for group in known.groups if p.body in group), 0)

    def on_twins(self) -> bool:
        """Whether it is proposed for the twins too."""
        p = self.proposal
        return p is not None and p.operation is not None and p.operation.for_twins

    def also_on_twins(self) -> None:
        """Propose the same for the twins too, or for the one body again."""
        p = self.proposal
        if p is not None and p.operation is not None and self.twins():
            operation = p.operation.on_twins(not p.operation.for_twins)
            self._show(Proposal(Form.of(operation), None, p.subject, body=p.body))

    def accept(self) -> bool:
        """Take what is ready."""
        p = self.proposal
        ledger = self.work.ledger
        if p is None or p.state != "ready" or p.outcome is None or p.operation is None or ledger is None:
            return False
        before = ledger.state
        ledger.take(p.operation, p.outcome)
        self.proposal = None
        self.work.proposal_changed.emit()
        self.work.state_moved(before)
        change = p.outcome.faces_change
        whole = p.outcome.mesh is None or not p.outcome.mesh.failures
        words = f"{p.outcome.words}: faces {change:+d}" if change else p.outcome.words
        self.work.told.emit(words, "good" if whole else "plain")
        return True

    def drop(self) -> None:
        """Let go of it; what runs for it is asked to stop."""
        p = self.proposal
        if p is None:
            return
        if p.state == "thinking":
            self.work.stop()
            if p.operation is not None and p.operation.at_once:
                return  # it says itself that it has stopped
        self.proposal = None
        self.work.proposal_changed.emit()

    def abandon(self) -> None:
        """Let go of it because another takes its place."""
        if self.proposal is not None and self.proposal.state == "thinking":
            self.work.stop()
        self.proposal = None
