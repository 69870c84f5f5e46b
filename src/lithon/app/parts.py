"""Small widgets that several panels are made of."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtWidgets import (
    QApplication,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMenu,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from lithon.app import theme


class Wrapped(QLabel):
    """A label that is as tall as its wrapped text needs; Qt's layouts forget that in scroll areas."""

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        if self.wordWrap() and event.size().width() != event.oldSize().width():
            self.setMinimumHeight(max(0, self.heightForWidth(self.width())))

    def setText(self, text: str) -> None:
        super().setText(text)
        if self.wordWrap() and self.width() > 1:
            self.setMinimumHeight(max(0, self.heightForWidth(self.width())))


def label(text: str = "", name: str = "", wrap: bool = True) -> QLabel:
    out = Wrapped(text)
    out.setObjectName(name)
    out.setWordWrap(wrap)
    out.setTextFormat(Qt.TextFormat.PlainText)
    return out


class Elided(QLabel):
    """A name on one line: what there is no room for ends in dots, and the whole is its tip."""

    def __init__(self, text: str, name: str = "", most: int | None = None):
        super().__init__()
        self.whole = ""
        self.setObjectName(name)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        if most is not None:
            self.setMaximumWidth(most)
        self.setText(text)

    def setText(self, text: str) -> None:
        self.whole = text
        self.setToolTip(text)
        self._fit()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        super().setText(self.fontMetrics().elidedText(self.whole, Qt.TextElideMode.ElideRight, max(12, self.width())))


def title(text: str) -> QLabel:
    out = label(text, "title", wrap=False)
    out.setFont(theme.font(8.5, 500))
    return out


def button(text: str, pressed: Callable[[], object], name: str = "", tip: str = "") -> QPushButton:
    out = QPushButton(text)
    out.setObjectName(name)
    out.setToolTip(tip)
    out.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    out.clicked.connect(lambda: pressed())
    return out


def choice(current: str, options: list[str], taken: Callable[[str], object], tip: str = "") -> QPushButton:
    """A button that shows what is chosen and offers the rest."""
    out = button(f"  {current}  ▾", lambda: None, "choice", tip)
    menu = QMenu(out)
    for option in options:
        menu.addAction(option, lambda o=option: taken(o))
    out.setMenu(menu)
    return out


def row(*widgets: QWidget, spacing: int = 6, stretch: bool = True) -> QWidget:
    out = QWidget()
    lay = QHBoxLayout(out)
    lay.setContentsMargins(0, 0, 0, 0)
    lay.setSpacing(spacing)
    for w in widgets:
        lay.addWidget(w)
    if stretch:
        lay.addStretch(1)
    return out


def restyle(widget: QWidget, **properties: object) -> None:
    """Set properties that the style sheet asks for, and apply it again."""
    for key, value in properties.items():
        widget.setProperty(key, value)
    widget.style().unpolish(widget)
    widget.style().polish(widget)


class _Column(QWidget):
    """What scrolls in a panel: as wide as that, whatever stands in it, so that nothing wide pushes all else aside."""

    def minimumSizeHint(self) -> QSize:
        return QSize(0, super().minimumSizeHint().height())


class Panel(QFrame):
    """A panel with a title over a scrolling column."""

    def __init__(self, text: str, scrolls: bool = True):
        super().__init__()
        self.setObjectName("panel")
        outer = QVBoxLayout(self)
        outer.setContentsMargins(12, 10, 6, 8)
        outer.setSpacing(8)
        self.head = QHBoxLayout()
        self.heading = title(text)
        self.head.addWidget(self.heading)
        self.head.addStretch(1)
        outer.addLayout(self.head)
        inside = _Column() if scrolls else QWidget()
        inside.setObjectName("scroll")
        self.column = QVBoxLayout(inside)
        self.column.setContentsMargins(0, 0, 6, 0)
        self.column.setSpacing(8)
        self.column.setAlignment(Qt.AlignmentFlag.AlignTop)
        if scrolls:
            area = QScrollArea()
            area.setWidgetResizable(True)
            area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
            # Always there, unseen where there is nothing to scroll: a bar that comes and goes changes the width, with
            # it the height of wrapped texts, and with that whether the bar is needed, without end.
            area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
            bar = area.verticalScrollBar()
            bar.rangeChanged.connect(lambda low, high: bar.setEnabled(high > low))
            bar.setEnabled(False)
            area.setWidget(inside)
            area.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            self.area = area
            outer.addWidget(area, 1)
        else:
            outer.addWidget(inside)

    def clear(self, keep: int = 0) -> None:
        """Take everything out of the column but the first `keep` widgets."""
        while self.column.count() > keep:
            item = self.column.takeAt(self.column.count() - 1)
            if item.widget() is not None:
                item.widget().hide()
                item.widget().deleteLater()

    def add(self, widget: QWidget) -> QWidget:
        self.column.addWidget(widget)
        return widget

    def lay_out(self) -> None:
        """Lay out at once what stands in the column: how tall wrapped texts are is known when they are as wide as they
        will be, and until then nothing is to be seen of them that others stand over."""
        inside = self.column.parentWidget()
        for k in range(self.column.count()):  # what is new would be shown later, and as tall as it must be after that
            widget = self.column.itemAt(k).widget()
            if widget is not None and not widget.testAttribute(Qt.WidgetAttribute.WA_WState_ExplicitShowHide):
                widget.show()
        for _ in range(2):
            for widget in (*inside.findChildren(QWidget), inside):
                if (layout := widget.layout()) is not None:
                    layout.activate()
            inside.updateGeometry()
            QApplication.sendPostedEvents(None, QEvent.Type.LayoutRequest)


class Card(QFrame):
    """A box with a line, some small print and a row of buttons."""

    def __init__(self, mark: str, colour: str, text: str, *lines: str):
        super().__init__()
        self.setObjectName("card")
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Maximum)
        self.lay = QVBoxLayout(self)
        self.lay.setContentsMargins(10, 7, 8, 7)
        self.lay.setSpacing(3)
        head = QHBoxLayout()
        head.setSpacing(6)
        sign = label(mark, wrap=False)
        sign.setStyleSheet(f"color: {colour};")
        sign.setAlignment(Qt.AlignmentFlag.AlignTop)
        head.addWidget(sign)
        head.addWidget(label(text), 1)
        self.lay.addLayout(head)
        for line in lines:
            if line:
                self.lay.addWidget(label(line, "dim"))
        self.buttons: QHBoxLayout | None = None
        self.pressed: Callable[[], object] | None = None

    def add_button(self, text: str, pressed: Callable[[], object], name: str = "quiet", tip: str = "") -> QPushButton:
        if self.buttons is None:
            self.buttons = QHBoxLayout()
            self.buttons.setSpacing(4)
            self.buttons.setContentsMargins(0, 3, 0, 0)
            self.lay.addLayout(self.buttons)
            self.buttons.addStretch(1)
        out = button(text, pressed, name, tip)
        self.buttons.insertWidget(self.buttons.count() - 1, out)
        return out

    def mousePressEvent(self, event) -> None:
        if self.pressed is not None:
            self.pressed()


def signed(value: float) -> str:
    """A change with its sign and three decimals; rounding's dust is zero."""
    return "0" if abs(value) < 5e-4 else f"{value:+.3f}"


def number(value: float, digits: int = 4) -> str:
    """A number with spaces between thousands at which no line breaks."""
    if abs(value) >= 10**digits:
        return f"{round(value):,}".replace(",", "\u00a0")
    return f"{value:.{digits}g}"
