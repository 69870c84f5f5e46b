"""The sheet of keys, made from the table of actions."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFrame, QGridLayout, QLabel, QWidget

from lithon.app import theme
from lithon.app.actions import ACTIONS, HAND
from lithon.app.parts import label, title

_COLUMNS = (("File", "Docket"), ("Trim", "Carve", "Bond", "Prove", "Look"), ("Hand and keys",))


class KeySheet(QFrame):
    def __init__(self, desk: QWidget):
        super().__init__(desk, Qt.WindowType.Popup)
        self.setObjectName("card")
        self.setStyleSheet(theme.STYLE)

    def toggle(self) -> None:
        """Show it in the middle of the desk, or put it away."""
        if self.isVisible():
            self.hide()
            return
        if self.layout() is None:
            self._fill()
        self.adjustSize()
        desk = self.parentWidget()
        self.move(desk.mapToGlobal(desk.rect().center()) - self.rect().center())
        self.show()

    def _fill(self) -> None:
        grid = QGridLayout(self)
        grid.setContentsMargins(22, 16, 22, 18)
        grid.setHorizontalSpacing(14)
        grid.setVerticalSpacing(3)
        groups: dict[str, list[tuple[str, str]]] = {}
        for a in ACTIONS:
            if a.key:
                groups.setdefault(a.group, []).append((a.key, a.title))
        groups["Hand and keys"] = list(HAND)
        for c, names in enumerate(_COLUMNS):
            r = 0
            for name in names:
                grid.addWidget(title(name.upper()), r, 2 * c, 1, 2)
                r += 1
                for key, words in groups.get(name, []):
                    k = QLabel(key)
                    k.setFont(theme.font(9.5, 600))
                    grid.addWidget(k, r, 2 * c)
                    what = label(words, wrap=False)
                    what.setContentsMargins(0, 0, 18, 0)  # apart from the next column's keys
                    grid.addWidget(what, r, 2 * c + 1)
                    r += 1
