"""The deviation map: what was read, in colours that say how far it stands off what has become of it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QLinearGradient, QPainter
from PySide6.QtWidgets import QWidget

from lithon.app import scene, theme
from lithon.errors import LithonError
from lithon.survey.deviation import Deviation

if TYPE_CHECKING:
    from lithon.app.view import SolidView


class DeviationMap:
    """Shown in place of the solid while it is on; asked for anew when the model changes."""

    def __init__(self, view: SolidView):
        self.view, self.on = view, False
        self.found: Deviation | None = None
        self._of: object = None
        self.scale = _Scale(view)

    @property
    def shown(self) -> bool:
        return self.on and self.found is not None and not self.view.showing_original

    def toggle(self) -> None:
        self.on = not self.on
        self.view.rebuild()  # the solid's edges and the mesh give way to it and come back

    def draw(self) -> None:
        """Put it where it is now; measured first where that has not been done."""
        work = self.view.work
        if work.ledger is None:
            self.on = False
        elif self.on and self._of is not work.model:
            self._of, self.found = work.model, None
            model = work.model

            def come(found: Deviation) -> None:
                if self._of is model:
                    self.found = found
                    work.told.emit(found.words(), "good")
                    self.view.rebuild()

            def fail(error: LithonError) -> None:
                self._of, self.on = None, False
                work.told.emit(str(error), "bad")

            work.job("deviation", work.ledger.base, model, done=come, failed=fail)
        self.scale.setVisible(self.shown)
        if self.shown:
            self.scale.tell(self.found)
        self.view.put_layer("deviation", [scene.deviation_actor(self.found)] if self.shown else [])


class _Scale(QWidget):
    """The colours with their numbers, over a corner of the view."""

    def __init__(self, view: SolidView):
        super().__init__(view)
        self.words = ("", "", "")
        self.setFixedSize(330, 58)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hide()

    def tell(self, found: Deviation) -> None:
        self.words = found.ends()
        self.move(14, 14)
        self.update()

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.fillRect(self.rect(), QColor(theme.PANEL))
        p.setFont(theme.font(8.0))
        p.setPen(QColor(theme.INK))
        p.drawText(QRectF(10, 4, 310, 16), Qt.AlignmentFlag.AlignLeft, "what was read lies, mm")
        bar = QRectF(10, 23, self.width() - 20.0, 11)
        ramp = QLinearGradient(bar.left(), 0, bar.right(), 0)
        for at, colour in zip((0.0, 0.5, 1.0), scene.DEVIATION, strict=True):
            ramp.setColorAt(at, QColor(colour))
        p.fillRect(bar, ramp)
        p.setPen(QColor(theme.INK2))
        places = (Qt.AlignmentFlag.AlignLeft, Qt.AlignmentFlag.AlignHCenter, Qt.AlignmentFlag.AlignRight)
        for text, where in zip(self.words, places, strict=True):
            p.drawText(QRectF(10, 38, bar.width(), 16), where, text)
