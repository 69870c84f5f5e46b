"""Starting the window."""

from __future__ import annotations

import sys
from pathlib import Path


def run_window(files: list[Path]) -> int:
    """Open the desk, with the first of the files on it, and run until it is closed."""
    from lithon.project.process import start

    started = start()  # it loads what it needs while the window does
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from lithon.app import theme
    from lithon.app.desk import Desk

    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Lithon")
    app.setFont(theme.font(9.5))
    desk = Desk(started)
    desk.show()
    if files:
        QTimer.singleShot(0, lambda: desk.open(files[0]))
    return int(app.exec())
