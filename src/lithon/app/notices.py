"""What must be read above the view: what went wrong, in full, and a file that is being read."""

from __future__ import annotations

import time

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QVBoxLayout, QWidget

from lithon.app.parts import button, label, restyle
from lithon.app.work import Work

_SHORT = 0.4  # s: what is read sooner needs no words


class Notices(QWidget):
    def __init__(self, work: Work):
        super().__init__()
        self.work = work
        lay = QVBoxLayout(self)
        lay.setContentsMargins(0, 0, 0, 0)
        lay.setSpacing(4)
        self.trouble, self.trouble_text = self._bar("refused", "Understood", self.hush)
        self.reading, self.reading_text = self._bar("", "Stop  (Esc)", work.stop_opening)
        lay.addWidget(self.trouble)
        lay.addWidget(self.reading)
        self._since = 0.0
        self._clock = QTimer(self, interval=250)
        self._clock.timeout.connect(self._tick)
        work.opening_changed.connect(self._opening_moved)
        self._fit()

    def _bar(self, state: str, verb: str, call) -> tuple[QFrame, QWidget]:
        bar = QFrame()
        bar.setObjectName("proposal")
        bar.setProperty("state", state)
        lay = QHBoxLayout(bar)
        lay.setContentsMargins(12, 6, 8, 6)
        text = label("")
        lay.addWidget(text, 1)
        lay.addWidget(button(verb, call))
        restyle(bar)
        bar.hide()
        return bar, text

    def _fit(self) -> None:
        self.setVisible(not (self.trouble.isHidden() and self.reading.isHidden()))

    def tell(self, text: str) -> None:
        """What went wrong stays until it is clicked away."""
        self.trouble_text.setText(text)
        self.trouble.show()
        self._fit()

    def hush(self) -> None:
        self.trouble.hide()
        self._fit()

    def _opening_moved(self) -> None:
        if self.work.opening:
            self._since = time.monotonic()
            self._clock.start()
        else:
            self._clock.stop()
            self.reading.hide()
            self._fit()

    def _tick(self) -> None:
        gone = time.monotonic() - self._since
        if gone > _SHORT:
            self.reading_text.setText(f"Reading {self.work.opening}… {gone:.0f} s")
            self.reading.show()
            self._fit()
