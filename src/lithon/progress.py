"""How long operations say how far they are, are asked to stop, and keep to a budget of time.

`tell` is called by whoever was handed the progress. What lies deeper, in the loops of a search, calls `pulse`, which
finds the progress of the operation under way by itself.
"""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from lithon.compiling import seconds
from lithon.errors import Cancelled, Spent

#: However much others take of a machine, so much of the time that passes (a share) is counted.
_AT_LEAST = 1.0 / 3.0


class _Own:
    """Time that passes (s) as far as this process is at work in it: what other programs take of a busy machine makes no
    search shorter, and so no result another one."""

    def __init__(self) -> None:
        self._lock, self._total = threading.Lock(), 0.0
        self._wall, self._at_work = time.monotonic(), time.process_time()

    def __call__(self) -> float:
        with self._lock:
            wall, at_work = time.monotonic(), time.process_time()
            passed = wall - self._wall
            self._total += min(max(at_work - self._at_work, _AT_LEAST * passed), passed)
            self._wall, self._at_work = wall, at_work
            return self._total


_own = _Own()


def now() -> float:
    """The time (s) of this process, but for what was spent compiling: a budget is for the search."""
    return _own() - seconds()


class Progress:
    """Passed down to long operations. `tell` reports a share 0..1 and raises Cancelled on request, and Spent when the
    budget (s) has run out."""

    def __init__(
        self,
        report: Callable[[float, str], None] | None = None,
        stopped: Callable[[], bool] | None = None,
        budget: float | None = None,
    ):
        self._report = report
        self._stopped = stopped
        self._share = 0.0
        self._what = ""
        self.budget = budget
        self._end = None if budget is None else now() + budget

    def tell(self, share: float, what: str = "") -> None:
        self._share, self._what = share, what or self._what
        self.pulse()

    def pulse(self, what: str = "") -> None:
        """As `tell`, from within: the share stays what it was; `what` says what is being tried."""
        if self._stopped is not None and self._stopped():
            raise Cancelled()
        if self._end is not None and now() > self._end:
            tried = what or self._what
            raise Spent(
                f"no answer was found within {self.budget:g} s" + (f"; the last was {tried}" if tried else ""),
                remedy="choose less at once, or what is simpler",
            )
        if self._report is not None:
            self._report(self._share, what or self._what)

    def seconds_left(self) -> float:
        """How much (s) of the budget is left, infinite without one."""
        return math.inf if self._end is None else self._end - now()

    def bring_home(self, seconds: float) -> None:
        """Where a budget runs out sooner it goes on for so long (s): for what was found within it."""
        if self._end is not None:
            self._end = max(self._end, now() + seconds)

    def part(self, low: float, high: float) -> Progress:
        """What tells of one of several like things done in turn: its shares are those between two of this one."""
        return self if (low, high) == (0.0, 1.0) else _Part(self, low, high)

    @contextmanager
    def within(self, budget: float) -> Iterator[None]:
        """No longer than this (s) for what is done inside; a shorter budget that holds already goes on."""
        was = self.budget, self._end
        end = now() + budget
        if self._end is None or end < self._end:
            self.budget, self._end = budget, end
        try:
            yield
        finally:
            self.budget, self._end = was

    @contextmanager
    def under_way(self) -> Iterator[Progress]:
        """The progress that `pulse` of this module finds, for what is done inside."""
        token = _current.set(self)
        try:
            yield self
        finally:
            _current.reset(token)


class _Part(Progress):
    def __init__(self, whole: Progress, low: float, high: float):
        super().__init__()
        self._whole, self._low, self._high = whole, low, high

    def tell(self, share: float, what: str = "") -> None:
        self._whole.tell(self._low + share * (self._high - self._low), what)

    def pulse(self, what: str = "") -> None:
        super().pulse(what)  # a budget of its own
        self._whole.pulse(what)

    def seconds_left(self) -> float:
        return min(super().seconds_left(), self._whole.seconds_left())

    def bring_home(self, seconds: float) -> None:
        super().bring_home(seconds)
        self._whole.bring_home(seconds)


#: For callers that do not care.
SILENT = Progress()

_current: ContextVar[Progress] = ContextVar("progress", default=SILENT)


def seconds_left() -> float:
    """How long (s) the operation under way may go on, infinite where nobody set a bound."""
    return _current.get().seconds_left()


def bring_home(seconds: float) -> None:
    """Where the budget of the operation under way runs out sooner it goes on for so long (s): what was found within it
    is still to be looked at."""
    _current.get().bring_home(seconds)


def pulse(what: str = "") -> None:
    """A sign of life out of a loop: raises Cancelled where the operation under way is to stop, Spent where its budget
    has run out. Costs less than a microsecond where nobody listens."""
    _current.get().pulse(what)
