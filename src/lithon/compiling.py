"""How long this process has spent compiling kernels: the first use of one on a machine is no part of a search."""

from __future__ import annotations

import time
from typing import Any

from numba.core import event


class _Watch(event.Listener):
    """Adds up the outermost compilations."""

    def __init__(self) -> None:
        self.seconds, self.depth, self.since = 0.0, 0, 0.0

    def on_start(self, event: Any) -> None:
        if not self.depth:
            self.since = time.monotonic()
        self.depth += 1

    def on_end(self, event: Any) -> None:
        self.depth -= 1
        if not self.depth:
            self.seconds += time.monotonic() - self.since


_watch = _Watch()
event.register("numba:compile", _watch)  # type: ignore[no-untyped-call]


def seconds() -> float:
    """Since the process began."""
    return _watch.seconds
