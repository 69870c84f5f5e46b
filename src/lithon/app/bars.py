"""The bars of the desk: the path of stations on top, the Ledger below."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import (
    QDoubleSpinBox,
    QFrame,
    QHBoxLayout,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from lithon.app import theme
from lithon.app.fields import FormWidget
from lithon.app.parts import button, label, number, restyle, row, signed, title
from lithon.app.work import Work
from lithon.operations.form import Form
from lithon.operations.operation import Chosen
from lithon.operations.table import STATIONS


class Path(QWidget):
    """The eight stations as stones on a line, each with its number of open cards."""

    went = Signal(str)

    def __init__(self, work: Work, counts: Callable[[], dict[str, int]]):
        super().__init__()
        self.work, self.counts = work, counts
        self.setFixedHeight(46)
        self.setMouseTracking(True)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        for signal in (work.station_changed, work.findings_changed, work.model_changed, work.opened):
            signal.connect(self.update)

    def sizeHint(self) -> QSize:
        return QSize(640, 46)

    def centre(self, k: int) -> float:
        step = self.width() / len(STATIONS)
        return (k + 0.5) * step

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        step = self.width() / len(STATIONS)
        y = 13.0
        p.setPen(QPen(QColor(theme.HAIR), 2.0))
        p.drawLine(int(self.centre(0)), int(y), int(self.centre(len(STATIONS) - 1)), int(y))
        counts = self.counts()
        for k, name in enumerate(STATIONS):
            here = name == self.work.station
            n = counts.get(name, 0)
            x = self.centre(k)
            radius = 9.0 if n else 5.0
            p.setPen(QPen(QColor(theme.INK if here else theme.INK2), 1.4))
            p.setBrush(QColor(theme.INK if here else theme.GROUND))
            p.drawEllipse(QRectF(x - radius, y - radius, 2 * radius, 2 * radius))
            if n:
                p.setFont(theme.font(7.5, 600))
                p.setPen(QColor(theme.PANEL if here else theme.INK))
                p.drawText(QRectF(x - 12, y - 9, 24, 18), Qt.AlignmentFlag.AlignCenter, str(n))
            p.setFont(theme.font(9.5, 600 if here else 400))
            p.setPen(QColor(theme.INK if here else theme.INK2))
            p.drawText(QRectF(x - step / 2, 24, step, 20), Qt.AlignmentFlag.AlignHCenter, name)

    def mousePressEvent(self, event) -> None:
        k = int(event.position().x() / (self.width() / len(STATIONS)))
        self.went.emit(STATIONS[min(max(k, 0), len(STATIONS) - 1)])


class SizeField(QDoubleSpinBox):
    """The element size, in words: typed here, dragged in the Sieve."""

    def __init__(self, work: Work):
        super().__init__()
        self.setRange(1e-6, 1e9)
        self.setDecimals(4)
        self.setSuffix(" mm")
        self.setKeyboardTracking(False)
        self.setFixedWidth(96)
        self.setAlignment(Qt.AlignmentFlag.AlignHCenter)
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        self.setToolTip("the element size everywhere")
        self.work = work
        work.size_changed.connect(self._show)
        work.size_dragged.connect(self._show)
        self.valueChanged.connect(self._typed)

    def textFromValue(self, value: float) -> str:
        return f"{value:.4g}"

    def _show(self, size: float) -> None:
        self.blockSignals(True)
        self.setValue(size)
        self.blockSignals(False)

    def _typed(self, value: float) -> None:
        self.work.set_size(value)
        self.clearFocus()


class LedgerBar(QFrame):
    """Each step a chip. Pointing at one tells what it changed; a click switches it off or on, a right click offers
    to change it."""

    def __init__(self, work: Work):
        super().__init__()
        self.setObjectName("panel")
        self.setFixedHeight(44)
        self.work = work
        outer = QHBoxLayout(self)
        outer.setContentsMargins(12, 4, 12, 4)
        outer.setSpacing(8)
        outer.addWidget(title("LEDGER"))
        inside = QWidget()
        inside.setObjectName("scroll")
        self.chips = QHBoxLayout(inside)
        self.chips.setContentsMargins(0, 0, 0, 0)
        self.chips.setSpacing(6)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        area.setWidget(inside)
        outer.addWidget(area, 1)
        self.totals = label("", wrap=False)
        outer.addWidget(self.totals)
        self.buttons: list[QPushButton] = []
        for signal in (work.ledger_changed, work.forecast_changed, work.opened):
            signal.connect(self.refresh)

    def refresh(self) -> None:
        while self.chips.count():
            item = self.chips.takeAt(0)
            if item.widget() is not None:
                item.widget().hide()
                item.widget().deleteLater()
        self.buttons = []
        ledger = self.work.ledger
        if ledger is None:
            self.totals.setText("")
            return
        whole = ledger.source.name
        short = whole if len(whole) < 34 else whole[:32] + "…"
        read = button(f"read {short}", lambda: None, "chip", f"{whole}: the file as it came; hold Space to see it")
        self.chips.addWidget(read)
        for k, entry in enumerate(ledger.entries):
            words = entry.outcome.words
            words = words if len(words) < 34 else words[:32] + "…"
            chip = button(words, lambda k=k: self.work.switch(k), "chip", self._tip(entry))
            restyle(chip, undone=k >= ledger.position, off=not entry.on, trouble=bool(entry.trouble))
            chip.setEnabled(k < ledger.position)
            chip.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
            chip.customContextMenuRequested.connect(lambda at, k=k, c=chip: self.menu(k).exec(c.mapToGlobal(at)))
            self.chips.addWidget(chip)
            self.buttons.append(chip)
        self.chips.addStretch(1)
        before, after = ledger.base.face_count(), ledger.model.face_count()
        forecast = self.work.forecast
        elements = f"~{number(forecast.elements, 3)}" if forecast is not None else "…"
        most = ledger.settings.budget
        over = most is not None and after > most
        budget = f" of {most}{' ▲ too many' if over else ''}" if most is not None else ""
        self.totals.setText(f"faces {before} → {after}{budget}    elements {elements}")
        self.totals.setStyleSheet(f"color: {theme.MADDER};" if over else "")

    def _tip(self, entry) -> str:
        if entry.trouble:
            return entry.trouble
        o = entry.outcome
        return (
            f"{o.words}\nfaces {o.faces_change:+d}, volume {signed(o.volume_change)} mm³\n"
            f"click to switch {'off' if entry.on else 'on'}; right click to change it"
        )

    def menu(self, k: int) -> QMenu:
        """What can be done with a step."""
        entry = self.work.ledger.entries[k]
        out = QMenu(self)
        out.addAction("Switch off" if entry.on else "Switch on", lambda: self.work.switch(k))
        if entry.operation.parameters():
            out.addAction("Change…", lambda: self.change(k))
        return out

    def change(self, k: int) -> None:
        """A small form over the chip with what can be changed in the step; Enter takes it, Esc lets go."""
        self.form = StepForm(self.work, k)
        self.form.adjustSize()
        corner = self.buttons[k].mapToGlobal(QPoint(0, 0))
        self.form.move(corner.x(), corner.y() - self.form.height() - 6)
        self.form.show()


class StepForm(QFrame):
    """The form of a recorded step, over its chip: what can be typed is changed here. Enter takes it, Esc lets go."""

    def __init__(self, work: Work, k: int):
        super().__init__(None, Qt.WindowType.Popup)
        self.setObjectName("card")
        self.setFont(theme.font(9.5))
        self.setMinimumWidth(330)
        self.work, self.k = work, k
        self.entry = work.ledger.entries[k]
        self.form = Form.of(self.entry.operation)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 10, 12, 10)
        column.addWidget(label(f"Change: {self.entry.outcome.words}", wrap=False))
        self.fields = FormWidget(self.form, self._put, self._type, None)
        column.addWidget(self.fields)
        column.addWidget(row(button("Change it", self.take, "main"), button("Let go  (Esc)", self.close)))
        self._show()

    def _put(self, key: str, value: object) -> None:
        self.form.put(key, value)
        self._show()

    def _type(self, key: str, text: str) -> None:
        self.form.type(key, text)
        self._show()

    def _show(self) -> None:
        before = self.work.ledger.state_before(self.k)
        self.fields.show_form(self.form, Chosen(before.model, size=before.settings.size, marks=before.marks))
        self.adjustSize()

    def take(self) -> None:
        operation = self.form.operation()
        if operation is None:
            self._show()
            return
        self.close()
        if operation != self.entry.operation:
            self.work.change(self.k, operation)

    def keyPressEvent(self, event) -> None:
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.take()
        else:
            super().keyPressEvent(event)
