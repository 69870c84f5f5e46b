"""Start as `lithon demo` does, and end once the part is on screen: nothing else is loaded, or it would be timed."""

from __future__ import annotations

from typing import TYPE_CHECKING

from lithon.app.demo import demo_file
from lithon.app.main import run_window

if TYPE_CHECKING:
    from lithon.app.desk import Desk


def watch(desk: Desk) -> None:
    from PySide6.QtCore import QTimer

    def look() -> None:
        view = desk.view
        if desk.work.ledger is not None and view.skin.pieces and not view._stale and not view._drawn.isActive():
            desk.close()

    timer = QTimer(desk, interval=5)
    timer.timeout.connect(look)
    timer.start()


if __name__ == "__main__":
    run_window([demo_file()], shown=watch)
