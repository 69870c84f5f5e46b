"""The ledger: the steps taken, each with the state it gave. It is the undo history and the recipe."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from lithon.brep.topology import Model
from lithon.errors import BadFile, Cancelled, LithonError
from lithon.exchange.intake import parse_model
from lithon.exchange.placement import Placement
from lithon.exchange.step_read import Arrival
from lithon.mesh.mesh import Mesh
from lithon.operations.operation import Bench, Operation
from lithon.operations.prove.mesh import MakeMesh
from lithon.operations.prove.settings import ElementSize
from lithon.operations.recorded import VERSION, read, read_kept
from lithon.operations.running import Outcome, run
from lithon.operations.state import IGNORED, Settings, State
from lithon.progress import SILENT, Progress
from lithon.survey.report import default_size

#: What files that projects are kept in end with.
SUFFIX = ".lithon"


@dataclass(frozen=True, slots=True, eq=False)
class Entry:
    """A step as taken. `trouble` says why it could not be replayed; the state is then the one before."""

    operation: Operation
    outcome: Outcome
    on: bool = True
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Source:
    """The file that the work started from, kept as it was read; `unit` where one was chosen for it, `placement` how
    its triangles are put in place."""

    name: str
    data: bytes
    unit: str | None = None
    placement: Placement = field(default_factory=Placement)


#: The name of a source that is none: what is on the table was made here.
NOTHING = "from nothing"


@dataclass(slots=True)
class Ledger:
    """Work on one source. `position` counts the entries in force; later ones are undone. `start`: the settings before
    the first step."""

    source: Source
    arrival: Arrival
    start: Settings
    entries: list[Entry] = field(default_factory=list)
    position: int = 0

    @staticmethod
    def open(path: str | Path, unit: str | None = None, placement: Placement | None = None) -> Ledger:
        """Start from a STEP file or triangles; `unit` for files that name none. Raises BadFile."""
        path = Path(path)
        if path.suffix.lower() == SUFFIX:
            raise BadFile(f"{path.name} is a project and no file of geometry: the window opens it, and load_project")
        try:
            data = path.read_bytes()
        except OSError as error:
            raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
        return Ledger.of(Source(path.name, data, unit, placement or Placement()))

    @staticmethod
    def empty() -> Ledger:
        """With nothing read: the first thing on the table is made here."""
        return Ledger.of(Source(NOTHING, b""))

    @staticmethod
    def of(source: Source) -> Ledger:
        if source.name == NOTHING and not source.data:
            return Ledger(source, Arrival(Model((), 1e-6), []), Settings(5.0, share=IGNORED))
        arrival = parse_model(source.data, source.name, source.unit, source.placement)
        return Ledger(source, arrival, Settings(default_size(arrival.model), share=IGNORED))

    @property
    def base(self) -> Model:
        return self.arrival.model

    @property
    def state(self) -> State:
        """The model, its marks and the settings as they stand."""
        return self.state_before(self.position)

    @property
    def model(self) -> Model:
        """The model as it stands."""
        return self.state.model

    @property
    def settings(self) -> Settings:
        return self.state.settings

    @property
    def size(self) -> float:
        """The element size, mm."""
        return self.settings.size

    def state_before(self, index: int) -> State:
        """The state before entry `index`."""
        return self.entries[index - 1].outcome.state if index else State(self.base, settings=self.start)

    def before(self, index: int) -> Model:
        """The model before entry `index`."""
        return self.state_before(index).model

    # ---- doing

    def try_step(self, step: Operation | dict[str, Any], progress: Progress = SILENT) -> Outcome:
        """What a step would give; nothing is changed."""
        return run(self.state, _operation(step), progress)

    def take(
        self, step: Operation | dict[str, Any], outcome: Outcome | None = None, progress: Progress = SILENT
    ) -> Entry:
        """Take a step (with its outcome, where it was tried already); what was undone is forgotten."""
        tried = outcome if outcome is not None else self.try_step(step, progress)
        entry = Entry(tried.operation or _operation(step), tried)
        self.entries[self.position :] = [entry]
        self.position += 1
        return entry

    def set_size(self, size: float) -> Entry:
        """Set the element size: a step like any other, but in place of one just before that set it too."""
        last = self.entries[self.position - 1] if self.position else None
        step = ElementSize(size=size)
        if last is not None and isinstance(last.operation, ElementSize) and last.on and not last.trouble:
            outcome = run(self.state_before(self.position - 1), step)
            self.position -= 1
            return self.take(step, outcome)
        return self.take(step)

    def undo(self) -> bool:
        self.position -= self.position > 0
        return self.position < len(self.entries)

    def redo(self) -> bool:
        if self.position == len(self.entries):
            return False
        self.position += 1
        return True

    def replay(self, start: int = 0, progress: Progress = SILENT) -> list[str]:
        """Run the entries again from `start`; those that fail stay, marked, without effect."""
        return self.adopt(start, replayed(self.state_before(start), self.entries[start:], progress))

    def adopt(self, start: int, entries: list[Entry]) -> list[str]:
        """Take the entries from `start` on as they were run again elsewhere; what went wrong, in words."""
        state = self.state_before(start)
        joined = []
        for entry in entries:
            joined.append(replace(entry, outcome=rejoined(state, entry.outcome)))
            state = joined[-1].outcome.state
        self.entries[start:] = joined
        return [
            f"step {start + k + 1}, {e.outcome.words}: {e.trouble}" for k, e in enumerate(entries) if e.on and e.trouble
        ]

    def switch(self, index: int, progress: Progress = SILENT) -> list[str]:
        """Switch an entry off or on and replay what follows."""
        self.entries[index] = replace(self.entries[index], on=not self.entries[index].on)
        return self.replay(index, progress)

    def change(self, index: int, step: Operation, progress: Progress = SILENT) -> list[str]:
        """Put another step in the place of an entry's and replay what follows."""
        self.entries[index] = replace(self.entries[index], operation=step)
        return self.replay(index, progress)

    def mesh(self) -> Mesh | None:
        """The mesh of the model as it stands, where one was made of it since the last change and is at hand."""
        for k in reversed(range(self.position)):
            entry, before = self.entries[k], self.state_before(k)
            if entry.on and entry.outcome.mesh is not None:
                return entry.outcome.mesh
            after = entry.outcome.state
            if after.model is not before.model or after.rules() != before.rules():
                return None
        return None

    def mesh_before(self) -> Mesh | None:
        """The last mesh that was made before the present one, as far as it is at hand."""
        found = [e.outcome.mesh for e in self.entries[: self.position] if e.on and e.outcome.mesh is not None]
        now = self.mesh()
        earlier = [mesh for mesh in found if mesh is not now]
        return earlier[-1] if earlier and now is not None else None

    # ---- the recipe

    def recipe(self) -> dict[str, Any]:
        """The steps in force as plain data."""
        return {
            "lithon recipe": VERSION,
            "units": "mm",
            "size": self.start.size,
            "steps": [e.operation.as_json() for e in self.entries[: self.position] if e.on],
        }


def _operation(step: Operation | dict[str, Any]) -> Operation:
    return step if isinstance(step, Operation) else read(step)


@dataclass(frozen=True, slots=True)
class Past:
    """What has been done to a source: each step, its words and whether it is on; how many are in force; the settings
    that it began with; how the source is read."""

    steps: tuple[tuple[Operation, str, bool], ...]
    position: int
    start: Settings
    unit: str | None
    placement: Placement

    @staticmethod
    def of(ledger: Ledger) -> Past:
        steps = tuple((e.operation, e.outcome.words, e.on) for e in ledger.entries)
        source = ledger.source
        return Past(steps, ledger.position, ledger.start, source.unit, source.placement)

    def on(self, ledger: Ledger, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
        """A ledger on which nothing has been done, with this work on it; and which steps could not be taken."""
        ledger.start, ledger.position = self.start, self.position
        first = State(ledger.base, settings=self.start)
        ledger.entries = [Entry(step, Outcome(first, words), on) for step, words, on in self.steps]
        return ledger, ledger.replay(0, progress)


def replayed(state: State, entries: Sequence[Entry], progress: Progress = SILENT) -> list[Entry]:
    """The entries run again, one after the other, from this state on. One that is off or fails has no effect."""
    out: list[Entry] = []
    for k, entry in enumerate(entries):
        progress.tell(k / max(1, len(entries)), entry.outcome.words)
        idle = Outcome(state, entry.outcome.words, operation=entry.operation)
        if not entry.on:
            out.append(replace(entry, outcome=idle, trouble=""))
            continue
        try:
            out.append(replace(entry, outcome=_again(state, entry, progress), trouble=""))
        except Cancelled:
            raise
        except LithonError as error:
            out.append(replace(entry, outcome=idle, trouble=str(error)))
        state = out[-1].outcome.state
    return out


def rejoined(state: State, outcome: Outcome) -> Outcome:
    """An outcome that comes from another process: where nothing was done to the model of the state that it was made of,
    it is that very model."""
    one, two = state.model.bodies, outcome.model.bodies
    same = len(one) == len(two) and all(a is b for a, b in zip(one, two, strict=True))
    if not same or outcome.model is state.model:
        return outcome
    return replace(outcome, state=replace(outcome.state, model=state.model))


def _again(state: State, entry: Entry, progress: Progress) -> Outcome:
    """An entry on another state. A mesh is not made again: that it was, and how, is known."""
    if isinstance(entry.operation, MakeMesh):
        noted = entry.operation.noted(Bench(state, {}, progress))
        after = replace(state, settings=noted.settings or state.settings)
        return Outcome(after, entry.outcome.words, operation=entry.operation)
    return run(state, entry.operation, progress)


def load_recipe(text: str) -> dict[str, Any]:
    """Raises BadFile unless the text is a recipe."""
    try:
        recipe = json.loads(text)
    except ValueError as error:
        raise BadFile(f"the recipe is not JSON ({error})") from error
    if not isinstance(recipe, dict) or "lithon recipe" not in recipe or not isinstance(recipe.get("steps"), list):
        raise BadFile("this is not a Lithon recipe")
    if recipe["lithon recipe"] not in range(1, VERSION + 1):
        raise BadFile(f"this recipe is of version {recipe['lithon recipe']!r}; {VERSION} and older are read here")
    if not all(isinstance(s, dict) for s in recipe["steps"]):
        raise BadFile("a step of the recipe is not an object")
    return recipe


def run_recipe(ledger: Ledger, recipe: dict[str, Any], progress: Progress = SILENT) -> list[str]:
    """Take all steps of a recipe; those that do not resolve are reported and left out."""
    size = recipe.get("size")
    if size is not None:
        if isinstance(size, bool) or not isinstance(size, int | float) or not 0.0 < float(size) < 1e9:
            raise BadFile("the recipe's size is not a positive length")
        ledger.start = replace(ledger.start, size=float(size))
    troubles = []
    for k, step in enumerate(recipe["steps"]):
        progress.tell(k / max(1, len(recipe["steps"])), str(step.get("do")))
        try:
            operation = read_kept(step, int(recipe["lithon recipe"]))
            entry = Entry(operation, Outcome(ledger.state, str(step.get("do"))))
            ledger.take(operation, _again(ledger.state, entry, progress))
        except Cancelled:
            raise
        except LithonError as error:
            troubles.append(f"step {k + 1}, {step.get('do')}: {error}")
    return troubles
