"""Opening whatever a path names: a project with its steps, or a source to start from."""

from __future__ import annotations

from pathlib import Path

from lithon.progress import SILENT, Progress
from lithon.project.files import load_project
from lithon.project.ledger import SUFFIX, Ledger, Past

open = Ledger.open


def opened(path: Path, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """The work, and which of its steps could not be run again. Raises BadFile."""
    if path.suffix.lower() == SUFFIX:
        return load_project(path, progress)
    return Ledger.open(path), []


def revised(path: Path, past: Past, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """The same work on a new revision of its source, and which steps could not be taken on it: what they chose is not
    there, or they are refused. Raises BadFile."""
    return past.on(Ledger.open(path, past.unit, past.placement), progress)
