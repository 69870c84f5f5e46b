"""How long operations say how far they are, and are asked to stop."""

from __future__ import annotations

from collections.abc import Callable

from lithon.errors import Cancelled


class Progress:
    """Passed down to long operations. `tell` reports a share 0..1 and raises Cancelled on request."""

    def __init__(self, report: Callable[[float, str], None] | None = None, stopped: Callable[[], bool] | None = None):
        self._report = report
        self._stopped = stopped

    def tell(self, share: float, what: str = "") -> None:
        if self._stopped is not None and self._stopped():
            raise Cancelled()
        if self._report is not None:
            self._report(share, what)


#: For callers that do not care.
SILENT = Progress()
