"""Unsaved work, kept aside while the window is open and offered when it did not come to its end."""

from __future__ import annotations

import os
from pathlib import Path

from platformdirs import user_state_dir

from lithon.project.ledger import SUFFIX


def folder() -> Path:
    return Path(os.environ.get("LITHON_STATE") or user_state_dir("lithon"))


def kept_aside() -> Path:
    """This process's own copy; windows side by side do not write over each other's."""
    return folder() / f"unsaved-{os.getpid()}{SUFFIX}"


def forget() -> None:
    """The work is saved, or let go on purpose."""
    kept_aside().unlink(missing_ok=True)


def left_behind() -> list[Path]:
    """Copies whose window is gone, the newest first."""
    out = []
    for path in folder().glob(f"unsaved-*{SUFFIX}"):
        number = path.stem.rpartition("-")[2]
        if number.isdigit() and not Path(f"/proc/{number}").exists():
            out.append(path)
    return sorted(out, key=lambda p: -p.stat().st_mtime)
