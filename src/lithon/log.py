"""The log: a rotating file in the usual folder. What is our fault goes there with its traceback."""

from __future__ import annotations

import logging
import os
from functools import cache
from logging.handlers import RotatingFileHandler
from pathlib import Path

from platformdirs import user_log_dir

from lithon.errors import Fault


def log_file() -> Path:
    """Where the log lies."""
    return Path(os.environ.get("LITHON_STATE") or user_log_dir("lithon")) / "lithon.log"


@cache
def _logger(path: Path) -> logging.Logger:
    """The logger that writes there; without a folder that can be written to it keeps silent."""
    out = logging.getLogger(f"lithon.{path}")
    out.propagate = False
    out.setLevel(logging.INFO)
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = RotatingFileHandler(path, maxBytes=1_000_000, backupCount=3, encoding="utf-8")
    except OSError:
        handler = logging.NullHandler()
    handler.setFormatter(logging.Formatter("%(asctime)s %(process)d %(levelname)s %(message)s"))
    out.addHandler(handler)
    return out


def fault(error: BaseException, doing: str) -> Fault:
    """What to say of an error that nobody foresaw while `doing` something; the traceback goes to the log."""
    path = log_file()
    _logger(path).error("while %s", doing, exc_info=error)
    return Fault(
        f"this is our fault, not yours: {type(error).__name__} while {doing}",
        remedy=f"go on another way; the model is unchanged, and {path} has the particulars for those who mend Lithon",
    )
