"""Starting the window."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from lithon.app.desk import Desk


def run_window(files: list[Path], shown: Callable[[Desk], None] = lambda desk: None) -> int:
    """Open the desk, with the first of the files on it, and run until it is closed. shown: told once it is."""
    # The engines first: what is forked now has them, and reads the file while Qt and VTK are loaded here.
    from lithon.project.process import FORE, found_nursery, start
    from lithon.project.worker import read_ahead, serve

    found_nursery(serve)
    started = start(FORE)
    if files:
        read_ahead(started, files[0])
    # VTK before Qt: the binding looks into the source of every module that is imported after it.
    import vtkmodules.vtkInteractionStyle
    import vtkmodules.vtkRenderingOpenGL2  # noqa: F401
    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication

    from lithon.app import theme
    from lithon.app.desk import Desk

    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Lithon")
    app.setFont(theme.font(9.5))
    desk = Desk(started)
    desk.show()
    shown(desk)
    if files:
        QTimer.singleShot(0, lambda: desk.open(files[0]))
    return int(app.exec())
