"""The one door for files: what a file is, is told by its content first and its name second."""

from __future__ import annotations

from pathlib import Path

from lithon.errors import BadFile
from lithon.exchange.step_read import Arrival, parse_step

#: Suffixes that are read, for file dialogs and the desktop.
SUFFIXES = (".step", ".stp", ".p21")


def read_model(path: str | Path) -> Arrival:
    """Read a file of any kind. Raises BadFile with one clear message when nothing usable is in it."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
    return parse_model(data, path.name)


def parse_model(data: bytes, name: str) -> Arrival:
    """Read the bytes of a file that has this name. Raises BadFile."""
    if not data.strip():
        raise BadFile(f"{name} is empty")
    return parse_step(data.decode("utf-8", errors="replace"), Path(name).stem)
