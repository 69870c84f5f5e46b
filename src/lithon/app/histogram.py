"""A small histogram of element quality."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from lithon.app import theme
from lithon.arrays import Floats


class Histogram(QWidget):
    """Bars over [low, high]; those below `limit` are drawn in madder with a hatch."""

    def __init__(self, text: str, values: Floats, low: float, high: float, limit: float):
        super().__init__()
        self.text, self.low, self.high, self.limit = text, low, high, limit
        self.counts, self.edges = np.histogram(np.clip(values, low, high), bins=36, range=(low, high))
        self.below = int((values < limit).sum())
        self.least = float(values.min())
        self.setFixedHeight(92)

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(8.0))
        left, right, top, base = 2.0, self.width() - 4.0, 22.0, self.height() - 18.0
        p.setPen(QColor(theme.INK2))
        p.drawText(QRectF(left, 0, right, 18), Qt.AlignmentFlag.AlignLeft, self.text)
        tallest = max(1, int(self.counts.max()))
        step = (right - left) / len(self.counts)
        for k, count in enumerate(self.counts):
            if not count:
                continue
            height = max(1.5, (base - top) * count / tallest)
            bad = self.edges[k] < self.limit
            bar = QRectF(left + k * step, base - height, step - 1.5, height)
            p.fillRect(bar, QColor(theme.MADDER if bad else theme.VERDIGRIS))
            if bad:
                p.fillRect(bar, Qt.BrushStyle.BDiagPattern)
        p.setPen(QPen(QColor(theme.HAIR), 1.0))
        p.drawLine(int(left), int(base), int(right), int(base))
        x = left + (self.least - self.low) / (self.high - self.low) * (right - left)
        p.setPen(QPen(QColor(theme.INK), 1.4))
        p.drawLine(int(x), int(base), int(x), int(base + 4))
        p.setPen(QColor(theme.INK2))
        for value in np.linspace(self.low, self.high, 5):
            at = left + (value - self.low) / (self.high - self.low) * (right - left)
            box = QRectF(min(max(at - 25, left), right - 50), base + 3, 50, 14)
            where = (
                Qt.AlignmentFlag.AlignLeft
                if at < 25
                else (Qt.AlignmentFlag.AlignRight if at > right - 25 else Qt.AlignmentFlag.AlignHCenter)
            )
            p.drawText(box, where, f"{value:g}")
