"""Opening whatever a path names: a project with its steps, or a source to start from."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from lithon.exchange.placement import Placement
from lithon.progress import SILENT, Progress
from lithon.project.files import SUFFIX, load_project
from lithon.project.ledger import Entry, Ledger
from lithon.project.steps import Outcome, Step

open = Ledger.open


def opened(path: Path, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """The work, and which of its steps could not be run again. Raises BadFile."""
    if path.suffix.lower() == SUFFIX:
        return load_project(path, progress)
    return Ledger.open(path), []


@dataclass(frozen=True, slots=True)
class Past:
    """What has been done to a source, for another of its kind: each step, its words and whether it is on; how many are
    in force; the rest of what was set."""

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


def revised(path: Path, past: Past, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """The same work on a new revision of its source, and which steps could not be taken on it: what they chose is not
    there, or they are refused. Raises BadFile."""
    ledger = Ledger.open(path, past.unit, past.placement)
    ledger.size, ledger.face_budget = past.size, past.face_budget
    for step, words, on in past.steps:
        ledger.entries.append(Entry(step, Outcome(ledger.base, words, 0, 0.0), on))
    ledger.position = past.position
    return ledger, ledger.replay(0, progress)
