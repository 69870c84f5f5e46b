"""The state of the desk: what is open, chosen, proposed and found. Views listen to its signals.

Long operations go to the worker process; answers come back as Qt events.
"""

from __future__ import annotations

import gc
import os
import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from lithon.app.asking import Asking, Proposal
from lithon.app.lane import Job, Lane
from lithon.app.recovery import forget, kept_aside
from lithon.arrays import Floats
from lithon.brep.analysis.symmetry import Symmetry
from lithon.brep.copies import handles
from lithon.brep.measures import learn_moments
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.errors import Cancelled, LithonError
from lithon.exchange.placement import Placement
from lithon.jobs.pages import Page
from lithon.mesh.mesh import Mesh
from lithon.operations.cures import Way
from lithon.operations.marks import held
from lithon.operations.operation import Chosen, Operation
from lithon.operations.prove.settings import FaceBudget
from lithon.operations.state import State
from lithon.project.files import save_project
from lithon.project.ledger import SUFFIX, Entry, Ledger, Past
from lithon.project.process import BACK, Started
from lithon.project.worker import JOBS, WorkerHandle
from lithon.survey.card import Finding
from lithon.survey.costs import Cost, Costs
from lithon.survey.features import learn_features
from lithon.survey.forecast import Forecast
from lithon.survey.groups import Key
from lithon.survey.standing import Standing, Standings

#: Cards are tried once nobody has asked for anything for so long (ms).
_IDLE = 2000
_LONG = 600  # ms: reading that takes longer is worth preparing for


class Work(QObject):
    opened = Signal()
    opening_changed = Signal()
    model_changed = Signal()
    ledger_changed = Signal()
    size_changed = Signal(float)
    size_dragged = Signal(float)
    selection_changed = Signal()
    findings_changed = Signal()
    standings_changed = Signal()
    proposal_changed = Signal()
    mesh_changed = Signal()
    station_changed = Signal()
    forecast_changed = Signal()
    show_faces = Signal(list)
    told = Signal(str, str)  # text, kind: plain, good, bad

    def __init__(self, parent: QObject | None = None, started: Started | None = None):
        super().__init__(parent)
        self.ledger: Ledger | None = None
        #: The name of the file that is being read.
        self.opening = ""
        self.path: Path | None = None
        self.saved_as: Path | None = None
        self.station = "Intake"
        self.faces: list[Face] = []
        self.edges: list[Edge] = []
        self.points: list[tuple[float, float, float]] = []
        #: Where on the chosen face the last click was, and to how many digits measures are told.
        self.at: Floats | None = None
        self.digits = 6
        self.hidden: set[Body] = set()
        self.findings: list[Finding] = []
        self.findings_ready = False
        self.asking = Asking(self)
        self.mesh: Mesh | None = None
        #: The page of the job that is followed, and how far.
        self.page: Page | None = None
        self.page_step = 0
        self.forecast: Forecast | None = None
        #: What everything costs at the present size, and the symmetry of the model, once they are known.
        self.costs: Costs | None = None
        self.symmetry: Symmetry | None = None
        self.standings: Standings | None = None
        #: Which of the offers of a card holds, as far as they were tried while nobody asked for anything.
        self.tried: dict[Key, Way] = {}
        self._told_all = False
        self._idle = QTimer(self, singleShot=True, interval=_IDLE)
        self._idle.timeout.connect(self._try_cards)
        self._fore, self._back = Lane(self, started), Lane(self, nice=BACK)
        self._turn = self._loading = 0
        self._renewed = False
        self._soon = QTimer(self, singleShot=True, interval=1500)
        self._soon.timeout.connect(self._autosave)

    # ---- the worker

    @property
    def _worker(self) -> WorkerHandle | None:
        return self._fore.worker

    def job(
        self,
        name: str,
        *args: Any,
        done: Callable[[Any], None],
        failed: Callable[[LithonError], None] | None = None,
        progress: Callable[[float, str], None] | None = None,
        wanted: Callable[[], bool] = lambda: True,
    ) -> None:
        """Run a job in the worker; the callbacks come later, in this thread."""
        fail = failed if failed is not None else (lambda error: self.told.emit(str(error), "bad"))
        lane = self._back if JOBS[name].beside else self._fore
        lane.submit(Job(name, done, fail, progress or (lambda share, what: None), wanted), *args)

    def close(self) -> None:
        self._loading += 1  # nothing that is being read is waited for
        self._fore.close()
        self._back.close()
        self._soon.stop()
        self._idle.stop()

    def stop(self) -> None:
        """Ask the running job to stop."""
        self._fore.stop()

    # ---- opening and saving

    @property
    def model(self) -> Model | None:
        return self.ledger.model if self.ledger is not None else None

    def open(self, path: Path, then: Callable[[], None] = lambda: None, kept: bool = True) -> None:
        """Open a solid or a project; it is read in the worker. On an error what was open stays open."""

        def read(answer: tuple[Ledger, list[str]]) -> None:
            ledger, troubles = answer
            self.path = path
            self.saved_as = path if kept and path.suffix.lower() == SUFFIX else None
            self.hidden.clear()
            self.station = "Survey"
            self._adopt(ledger)
            then()
            for text in (*troubles, *ledger.arrival.notes):
                self.told.emit(text, "bad")
            if not troubles:
                bodies = len(ledger.model.bodies)
                self.told.emit(
                    f"{bodies} bod{'ies' if bodies != 1 else 'y'}, {ledger.model.face_count()} faces, in mm", "good"
                )

        self._load(path.name, "open", path, read)

    def _load(self, name: str, job: str, argument: Any, read: Callable[[Any], None]) -> None:
        """Have the worker read something; nothing else is under way meanwhile, and the last asked for counts."""
        self.drop()
        if self.opening or self.proposal is not None:
            self.stop()
        self._loading += 1
        turn = self._loading
        self._now_opening(name)
        QTimer.singleShot(_LONG, lambda: self._expect(turn))

        def done(answer: Any) -> None:
            if turn == self._loading:
                self._now_opening("")
                self._renewed = False
                self._back.learn(self._fore.parcel)
                read(answer)

        def failed(error: LithonError) -> None:
            if turn == self._loading:
                self._now_opening("")
                self._look_again()
                self.told.emit(str(error), "plain" if isinstance(error, Cancelled) else "bad")

        arguments = argument if isinstance(argument, tuple) else (argument,)
        self.job(job, *arguments, done=done, failed=failed, wanted=lambda: turn == self._loading)

    def _expect(self, turn: int) -> None:
        """A file that takes its time: have a process ready that will survey it, instead of one that still looks at
        what lies here."""
        if self.opening and turn == self._loading:
            self._back.renew()
            self._renewed = True

    def _look_again(self) -> None:
        """What lies here stays: take up its survey where that was broken off."""
        if self._renewed:
            self._renewed = False
            self.resurvey()

    def _now_opening(self, name: str) -> None:
        self.opening = name
        self.opening_changed.emit()

    def stop_opening(self) -> None:
        """Let go of the file that is being read; whether it waits or is under way, its answer is not taken."""
        if self.opening:
            self._loading += 1
            self._now_opening("")
            self.stop()
            self._look_again()
            self.told.emit("reading stopped; nothing has changed", "plain")

    def start_empty(self) -> None:
        """An empty table: the first thing on it is made here."""
        self.stop_opening()
        self.path = None
        self._adopt(Ledger.empty())
        self.told.emit("an empty table: add a block, a cylinder or a ring", "good")

    def follow(self, page: Page | None, step: int = 0) -> None:
        """Have a job's page on the desk, at a step; or none."""
        self.page, self.page_step = page, step
        self.station_changed.emit()

    def _adopt(self, ledger: Ledger) -> None:
        """Put another ledger on the desk."""
        self.ledger = ledger
        self.page = None
        self.drop()
        self._clear_selection()
        self.opened.emit()
        self.station_changed.emit()
        self._model_moved()
        self.size_changed.emit(ledger.size)
        gc.freeze()  # the model stays: no look for rubbish shall go through it while somebody works

    def reread(self, unit: str | None = None, placement: Placement | None = None) -> None:
        """Read the source again in another unit or place; not once steps have been taken on it."""
        if self.ledger is None or self.path is None:
            return
        if self.ledger.entries:
            self.told.emit("unit and place are settled once a step is taken: undo the steps first", "bad")
            return
        source = self.ledger.source

        def read(ledger: Ledger) -> None:
            self._adopt(ledger)
            self.told.emit(f"read again in {unit}" if unit else "read again in its new place", "good")

        again = replace(source, unit=unit or source.unit, placement=placement or source.placement)
        self._load(source.name, "reread", again, read)

    def revise(self, path: Path) -> None:
        """Take in a new revision of the source: all steps are run again on it; those that do not resolve are told."""
        if self.ledger is None:
            return
        was = self.ledger.base

        def read(answer: tuple[Ledger, list[str]]) -> None:
            ledger, troubles = answer
            self.path = path
            self._adopt(ledger)
            for text in (*troubles, *ledger.arrival.notes):
                self.told.emit(text, "bad")
            taken = sum(e.on and not e.trouble for e in ledger.entries[: ledger.position])
            steps = f"{taken} of {ledger.position} steps taken again" if ledger.position else "no steps to take again"
            change = f"{path.name} has {ledger.base.face_count()} faces as read, the one before had {was.face_count()}"
            self.told.emit(f"{steps}; {change}", "plain" if troubles else "good")

        self._load(path.name, "revise", (path, Past.of(self.ledger)), read)

    def save(self, path: Path | None = None) -> bool:
        """Save the project. Returns whether a file was written; without a path and a name, it was not."""
        target = path or self.saved_as
        if self.ledger is None or target is None:
            return False
        try:
            save_project(self.ledger, target)
        except LithonError as error:
            self.told.emit(str(error), "bad")
            return False
        self.saved_as = target
        forget()
        self.told.emit(f"saved as {target.name}", "good")
        return True

    def write(self, path: Path, writer: Callable[[Path], None]) -> bool:
        """Write a delivery; failures are told."""
        try:
            writer(path)
        except LithonError as error:
            self.told.emit(str(error), "bad")
            return False
        except OSError as error:
            self.told.emit(f"{path.name} cannot be written: {error.strerror or error}", "bad")
            return False
        self.told.emit(f"wrote {path.name} ({os.path.getsize(path) // 1024} kB)", "good")
        return True

    def _autosave(self) -> None:
        """Keep a copy of unsaved work aside, for the day the window does not come to its end."""
        if self.ledger is not None and self.ledger.entries:
            try:
                save_project(self.ledger, kept_aside())
            except LithonError as error:
                self.told.emit(str(error), "bad")

    # ---- the model and its size

    def _model_moved(self) -> None:
        self._soon.start()
        self.mesh = self.ledger.mesh() if self.ledger is not None else None
        self.standings = self.symmetry = None
        self._clear_selection()
        self.model_changed.emit()
        self.ledger_changed.emit()
        self.mesh_changed.emit()
        self.resurvey()

    def set_size(self, size: float) -> None:
        """Set the element size: a step, or in place of the last one that set it."""
        if self.ledger is None or not size > 0.0 or size == self.ledger.size:
            return
        before = self.ledger.state
        try:
            self.ledger.set_size(float(size))
        except LithonError as error:
            self.told.emit(str(error), "bad")
            self.size_changed.emit(self.ledger.size)
            return
        self.state_moved(before)

    def set_face_budget(self, text: str) -> None:
        """How many faces there may be, from what was typed; nothing lifts it."""
        if self.ledger is None:
            return
        now = self.ledger.settings.budget
        digits = text.strip()
        if digits and not (digits.isdecimal() and int(digits) > 0):
            self.told.emit(f"{text!r} is no number of faces", "bad")
        elif (int(digits) if digits else None) != now:
            self.take(FaceBudget(faces=int(digits) if digits else 0))
            return
        self.forecast_changed.emit()

    def resurvey(self) -> None:
        """Look again at the present model and size; answers to older questions are dropped."""
        if self.ledger is None:
            return
        self._turn += 1
        turn = self._turn
        self.findings_ready = False
        self.tried = {}
        self._told_all = False
        self.forecast = self.costs = None
        self.forecast_changed.emit()
        self.findings_changed.emit()
        model, rules = self.ledger.model, self.ledger.state.rules()

        def found(result: list[Finding]) -> None:
            if turn == self._turn:
                self.findings, self.findings_ready = result, True
                self.findings_changed.emit()
                self._idle.start()

        def seen(result: list[Finding]) -> None:
            if turn == self._turn and not self.findings_ready:
                self.findings = result
                self.findings_changed.emit()

        def foreseen(result: Forecast) -> None:
            if turn == self._turn:
                self.forecast = result
                self.forecast_changed.emit()

        def told(result: tuple[list[Cost], Symmetry]) -> None:
            if turn == self._turn:
                self.costs, self.symmetry = Costs(result[0]), result[1]
                self.forecast_changed.emit()

        def stood(result: Standings) -> None:
            if turn == self._turn:
                self.standings = result
                learn_moments(result.moments)
                for body, found in result.features.items():
                    learn_features(body, found)
                self.standings_changed.emit()

        def asked() -> bool:
            return turn == self._turn

        self.job("warm", model, done=lambda result: None, failed=lambda error: None, wanted=asked)
        self.job("glance", model, rules, done=seen, wanted=asked)
        if self.standings is None:
            self.job("standings", model, done=stood, wanted=asked)
        self.job("survey", model, rules, done=found, wanted=asked)
        self.job("forecast", model, rules, done=foreseen, wanted=asked)
        self.job("outlook", model, rules, done=told, wanted=asked)

    def _try_cards(self) -> None:
        """Try what cards offer, some at a time, before anybody presses it."""
        if self.ledger is None or not self.findings_ready:
            return
        turn = self._turn
        known = frozenset(self.tried)

        def come(fresh: dict[Key, Way]) -> None:
            if turn != self._turn:
                return
            self.tried |= fresh
            # What is refused is told at once; how far the others move, when all are known: cards do not flicker.
            if any(way.number != 0 for way in fresh.values()) or (not fresh and known and not self._told_all):
                self._told_all = not fresh
                self.findings_changed.emit()
            if fresh:
                self._try_cards()

        def again(error: LithonError) -> None:
            if turn != self._turn:
                return
            if isinstance(error, Cancelled):  # somebody asked for something: later
                self._idle.start()
            else:
                self.told.emit(str(error), "bad")

        self.job("tried", self.ledger.state, known, done=come, failed=again, wanted=lambda: turn == self._turn)

    def standing(self, body: Body) -> Standing | None:
        """How a body can be meshed, once that is known."""
        return self.standings.of.get(body) if self.standings is not None else None

    def open_findings(self) -> list[Finding]:
        """Findings on what is not marked as kept."""
        kept = set(handles(list(self.kept_faces())))
        return [f for f in self.findings if not (f.faces and kept.issuperset(handles(f.faces)))]

    def kept_faces(self) -> set[Face]:
        return held(self.ledger.state.marks) if self.ledger is not None else set()

    def go(self, station: str) -> None:
        if station != self.station:
            self.station = station
            self.station_changed.emit()

    # ---- choosing

    def _clear_selection(self) -> None:
        self.faces, self.edges, self.points = [], [], []
        self.selection_changed.emit()

    def choose(
        self, faces: Sequence[Face] = (), edges: Sequence[Edge] = (), toggle: bool = False, at: Floats | None = None
    ) -> None:
        """Choose faces and edges; with `toggle`, those already chosen are let go. `at` is where a face was clicked."""
        self.at = at
        if toggle:
            for item in faces:
                self.faces.remove(item) if item in self.faces else self.faces.append(item)
            for item in edges:
                self.edges.remove(item) if item in self.edges else self.edges.append(item)
        else:
            self.faces, self.edges = list(faces), list(edges)
        self._chosen_moved()

    def choose_point(self, point: tuple[float, float, float]) -> None:
        self.points = [*self.points, point][-3:]
        self._chosen_moved()

    def _chosen_moved(self) -> None:
        self.selection_changed.emit()
        self.asking.picked()

    def chosen_body(self) -> Body | None:
        model = self.model
        owners = {b for f in self.faces for b in model.owners(f)} if model is not None else set()
        return owners.pop() if len(owners) == 1 else None

    # ---- proposals

    @property
    def proposal(self) -> Proposal | None:
        return self.asking.proposal

    def propose(self, operation: Operation, subject: str = "") -> None:
        """Try an operation in the worker and show what it would give."""
        self.asking.propose(operation, subject)

    def chosen(self) -> Chosen:
        """What is in hand, as operations want to know it."""
        assert self.ledger is not None
        return Chosen(self.ledger.model, tuple(self.faces), tuple(self.edges), points=tuple(self.points),
                      size=self.ledger.size, marks=self.ledger.state.marks)  # fmt: skip

    def drop(self) -> None:
        """Let go of the proposal."""
        self.asking.drop()

    # ---- the ledger

    def take(self, operation: Operation) -> None:
        """Do what takes no time and has nothing to weigh: hold something, set something. What is refused is told."""
        if self.ledger is None:
            return
        before = self.ledger.state
        try:
            self.ledger.take(operation)
        except LithonError as error:
            self.told.emit(str(error), "bad")
            return
        self.state_moved(before)

    def undo(self) -> None:
        if self.ledger is not None and self.ledger.position:
            self.drop()
            before = self.ledger.state
            self.ledger.undo()
            self.state_moved(before)

    def redo(self) -> None:
        if self.ledger is not None:
            before = self.ledger.state
            if self.ledger.redo():
                self.drop()
                self.state_moved(before)

    def state_moved(self, before: State) -> None:
        """The ledger stands at another state: tell whoever shows what has changed between the two."""
        ledger = self.ledger
        assert ledger is not None
        now = ledger.state
        self._soon.start()
        if now.model is not before.model:
            self.hidden = carried(self.hidden, before.model, now.model)
            self._model_moved()
            if now.settings.size != before.settings.size:
                self.size_changed.emit(now.settings.size)
            return
        mesh = ledger.mesh()
        if now.settings.size != before.settings.size:
            self.mesh = mesh
            self.size_changed.emit(now.settings.size)
            self.mesh_changed.emit()
            self.resurvey()
        elif mesh is not self.mesh or now.rules() != before.rules():
            self.mesh = mesh
            if now.rules() != before.rules():
                self.resurvey()
            if mesh is not None:
                self.station = "Prove"
                self.station_changed.emit()
            self.mesh_changed.emit()
        if now.marks is not before.marks:
            self.findings_changed.emit()
        self.ledger_changed.emit()
        self.forecast_changed.emit()

    def switch(self, index: int) -> None:
        """Switch a step off or on; what follows is run again in the worker."""
        if self.ledger is not None:
            entry = self.ledger.entries[index]
            self._run_again(index, replace(entry, on=not entry.on))

    def change(self, index: int, operation: Operation) -> None:
        """Put another step in the place of a recorded one; what follows is run again in the worker."""
        if self.ledger is not None:
            self._run_again(index, replace(self.ledger.entries[index], operation=operation, on=True))

    def _run_again(self, index: int, first: Entry) -> None:
        ledger = self.ledger
        assert ledger is not None
        self.drop()
        was, before = list(ledger.entries), ledger.state

        def done(entries: list[Entry]) -> None:
            if self.ledger is not ledger or any(a is not b for a, b in zip(ledger.entries, was, strict=False)):
                return  # something else was done in the meantime
            troubles = ledger.adopt(index, entries)
            self.state_moved(before)
            self.ledger_changed.emit()
            for text in troubles:
                self.told.emit(text, "bad")

        self.told.emit("running the steps again…", "plain")
        self.job("replay", ledger.state_before(index), [first, *was[index + 1 :]], done=done)


def carried(hidden: set[Body], before: Model, after: Model) -> set[Body]:
    """What is hidden after an operation: what was, and what was made of it."""
    old, new = set(before.bodies), set(after.bodies)
    out = hidden & new
    fresh = [b for b in after.bodies if b not in old]
    for body in hidden - new:
        faces = set(body.made_faces())
        # By the faces that stay; of what keeps none, by its own name or that of a piece of it.
        piece = re.compile(re.escape(body.name) + r"( [A-Z]+)?")
        out |= {b for b in fresh if not faces.isdisjoint(b.made_faces()) or piece.fullmatch(b.name)}
    return out
