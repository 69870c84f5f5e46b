"""What hands and eyes do in the window's tests: click, press, wait, read what is written."""

import numpy as np

from lithon.brep.measures import volume


def settled(desk, qtbot) -> None:
    work = desk.work
    qtbot.waitUntil(lambda: not work.opening and work.findings_ready and work.costs is not None, timeout=60000)


def read(desk, qtbot) -> None:
    """Wait until a file that was asked for lies on the desk, or was refused."""
    qtbot.waitUntil(lambda: not desk.work.opening, timeout=60000)


def ready(desk, qtbot) -> None:
    qtbot.waitUntil(lambda: desk.work.proposal is not None and desk.work.proposal.state != "thinking", timeout=60000)


def click(desk, qtbot, point, modifier=None) -> None:
    """A real click in the view where a world point is seen."""
    from PySide6.QtCore import Qt

    modifier = modifier or Qt.KeyboardModifier.NoModifier
    qtbot.mouseClick(desk.view, Qt.MouseButton.LeftButton, modifier, desk.view.pixel_of(np.array(point, dtype=float)))


def drag_box(desk, qtbot, start, end, modifier=None) -> None:
    """Drag a box from one pixel of the view to another."""
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent

    modifier, left, view = modifier or Qt.KeyboardModifier.NoModifier, Qt.MouseButton.LeftButton, desk.view
    qtbot.mousePress(view, left, modifier, pos=start)
    qtbot.mouseMove(view, end)
    qtbot.wait(20)
    at = QPointF(end)
    view.mouseMoveEvent(
        QMouseEvent(QEvent.Type.MouseMove, at, view.mapToGlobal(at), Qt.MouseButton.NoButton, left, modifier)
    )
    qtbot.mouseRelease(view, left, modifier, pos=end)


def press(desk, qtbot, key) -> None:
    qtbot.keyClick(desk.view, key)


def total(desk) -> float:
    return sum(volume(b) for b in desk.work.model.bodies)


def desk_words(desk) -> str:
    from lithon.app.roster import in_words

    return "; ".join(in_words(desk.work.model, desk.work.faces, desk.work.edges, desk.work.points))


def labels(panel) -> str:
    from PySide6.QtWidgets import QLabel

    return " | ".join(x.text() for x in panel.findChildren(QLabel))


def button_of(panel, text):
    from PySide6.QtWidgets import QPushButton

    return next(b for b in panel.findChildren(QPushButton) if b.text() == text)


def cut_field(desk):
    """The field of the cut in the Proposal's form."""
    return desk.proposal.form.fields["cut"]
