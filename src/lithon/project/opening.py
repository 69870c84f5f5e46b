"""Opening whatever a path names: a project with its steps, or a source to start from."""

from __future__ import annotations

from pathlib import Path

from lithon.progress import SILENT, Progress
from lithon.project.files import SUFFIX, load_project
from lithon.project.ledger import Ledger

open = Ledger.open


def opened(path: Path, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """The work, and which of its steps could not be run again. Raises BadFile."""
    if path.suffix.lower() == SUFFIX:
        return load_project(path, progress)
    return Ledger.open(path), []
