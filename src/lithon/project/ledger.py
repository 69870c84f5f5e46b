"""The ledger: the steps taken, each with the model it gave. It is the undo history and the recipe."""

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
from lithon.progress import SILENT, Progress
from lithon.project.steps import Outcome, Step, run_step
from lithon.survey.report import default_size


@dataclass(frozen=True, slots=True, eq=False)
class Entry:
    """A step as taken. `trouble` says why it could not be replayed; the model is then the one before."""

    step: Step
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


@dataclass(slots=True)
class Ledger:
    """Work on one source. `position` counts the entries in force; later ones are undone."""

    source: Source
    arrival: Arrival
    size: float
    entries: list[Entry] = field(default_factory=list)
    position: int = 0
    #: How many faces the mesher can take, if that is to be watched.
    face_budget: int | None = None

    @staticmethod
    def open(path: str | Path, unit: str | None = None, placement: Placement | None = None) -> Ledger:
        """Start from a STEP file or triangles; `unit` for files that name none. Raises BadFile."""
        path = Path(path)
        try:
            data = path.read_bytes()
        except OSError as error:
            raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
        return Ledger.of(Source(path.name, data, unit, placement or Placement()))

    @staticmethod
    def of(source: Source) -> Ledger:
        arrival = parse_model(source.data, source.name, source.unit, source.placement)
        return Ledger(source, arrival, default_size(arrival.model))

    @property
    def base(self) -> Model:
        return self.arrival.model

    @property
    def model(self) -> Model:
        """The model as it stands."""
        return self.before(self.position)

    def before(self, index: int) -> Model:
        """The model before entry `index`."""
        return self.entries[index - 1].outcome.model if index else self.base

    # ---- doing

    def try_step(self, step: Step, progress: Progress = SILENT) -> Outcome:
        """What a step would give; nothing is changed."""
        return run_step(self.model, step, progress)

    def take(self, step: Step, outcome: Outcome | None = None, progress: Progress = SILENT) -> Entry:
        """Take a step (with its outcome, where it was tried already); what was undone is forgotten."""
        entry = Entry(step, outcome if outcome is not None else self.try_step(step, progress))
        self.entries[self.position :] = [entry]
        self.position += 1
        return entry

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
        return self.adopt(start, replayed(self.before(start), self.entries[start:], progress))

    def adopt(self, start: int, entries: list[Entry]) -> list[str]:
        """Take the entries from `start` on as they were run again elsewhere; what went wrong, in words."""
        self.entries[start:] = entries
        return [
            f"step {start + k + 1}, {e.outcome.words}: {e.trouble}" for k, e in enumerate(entries) if e.on and e.trouble
        ]

    def switch(self, index: int, progress: Progress = SILENT) -> list[str]:
        """Switch an entry off or on and replay what follows."""
        self.entries[index] = replace(self.entries[index], on=not self.entries[index].on)
        return self.replay(index, progress)

    def change(self, index: int, step: Step, progress: Progress = SILENT) -> list[str]:
        """Put another step in the place of an entry's and replay what follows."""
        self.entries[index] = replace(self.entries[index], step=step)
        return self.replay(index, progress)

    # ---- the recipe

    def recipe(self) -> dict[str, Any]:
        """The steps in force as plain data."""
        return {
            "lithon recipe": 1,
            "units": "mm",
            "size": self.size,
            "steps": [e.step for e in self.entries[: self.position] if e.on],
        }


@dataclass(frozen=True, slots=True)
class Past:
    """What has been done to a source, as plain data: each step, its words and whether it is on; how many are in force;
    the rest of what was set."""

    steps: tuple[tuple[Step, str, bool], ...]
    position: int
    size: float
    face_budget: int | None
    unit: str | None
    placement: Placement

    @staticmethod
    def of(ledger: Ledger) -> Past:
        steps = tuple((e.step, e.outcome.words, e.on) for e in ledger.entries)
        source = ledger.source
        return Past(steps, ledger.position, ledger.size, ledger.face_budget, source.unit, source.placement)

    def on(self, ledger: Ledger, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
        """A ledger on which nothing has been done, with this work on it; and which steps could not be taken."""
        ledger.size, ledger.face_budget, ledger.position = self.size, self.face_budget, self.position
        ledger.entries = [Entry(step, Outcome(ledger.base, words, 0, 0.0), on) for step, words, on in self.steps]
        return ledger, ledger.replay(0, progress)


def replayed(model: Model, entries: Sequence[Entry], progress: Progress = SILENT) -> list[Entry]:
    """The entries run again, one after the other, from this model on. One that is off or fails has no effect."""
    out: list[Entry] = []
    for k, entry in enumerate(entries):
        progress.tell(k / max(1, len(entries)), entry.outcome.words)
        idle = Outcome(model, entry.outcome.words, 0, 0.0)
        if not entry.on:
            out.append(replace(entry, outcome=idle, trouble=""))
            continue
        try:
            out.append(replace(entry, outcome=run_step(model, entry.step, progress), trouble=""))
        except Cancelled:
            raise
        except LithonError as error:
            out.append(replace(entry, outcome=idle, trouble=str(error)))
        model = out[-1].outcome.model
    return out


def load_recipe(text: str) -> dict[str, Any]:
    """Raises BadFile unless the text is a recipe."""
    try:
        recipe = json.loads(text)
    except ValueError as error:
        raise BadFile(f"the recipe is not JSON ({error})") from error
    if not isinstance(recipe, dict) or recipe.get("lithon recipe") != 1 or not isinstance(recipe.get("steps"), list):
        raise BadFile("this is not a Lithon recipe of version 1")
    if not all(isinstance(s, dict) for s in recipe["steps"]):
        raise BadFile("a step of the recipe is not an object")
    return recipe


def run_recipe(ledger: Ledger, recipe: dict[str, Any], progress: Progress = SILENT) -> list[str]:
    """Take all steps of a recipe; those that do not resolve are reported and left out."""
    size = recipe.get("size")
    if size is not None:
        if not isinstance(size, (int, float)) or not 0.0 < float(size) < 1e9:
            raise BadFile("the recipe's size is not a positive length")
        ledger.size = float(size)
    troubles = []
    for k, step in enumerate(recipe["steps"]):
        progress.tell(k / max(1, len(recipe["steps"])), str(step.get("do")))
        try:
            ledger.take(step)
        except LithonError as error:
            troubles.append(f"step {k + 1}, {step.get('do')}: {error}")
    return troubles
