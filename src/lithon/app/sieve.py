"""The Sieve: every size in the model on one log axis, with the element size as a handle to drag."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QBrush, QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QButtonGroup, QFrame, QGridLayout, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from lithon.app import theme
from lithon.app.parts import title
from lithon.app.work import Work
from lithon.brep.copies import Handle, handle, handles
from lithon.survey.sizes import LENSES, Lens, Mark, marks

_BIN = 7.0  # pixels between stacks of marks
#: Half the room (pixels) that a number on the scale has at the least.
_NARROW = 20.0
#: Lenses on what the mesh follows, or not.
_FOLLOWED = ("edges", "widths")
_PASSED = "not followed"


def scale(
    low: float, high: float, unit: str, place: Callable[[float], float], wide: Callable[[str], float], end: float
) -> list[tuple[float, str]]:
    """Where (pixels) one, two and five of each decade between two values stand, and what is written there: nothing
    where there is no room beside what was written last. wide: how wide (pixels) a text is; end: nothing is beyond."""
    out, last = [], -1e9
    for decade in range(int(np.floor(np.log10(low))), int(np.ceil(np.log10(high))) + 1):
        for step in (1, 2, 5):
            v = step * 10.0**decade
            if not low <= v <= high:
                continue
            x, text = place(v), f"{v:,.10g}".replace(",", " ") + f" {unit}"
            half = max(0.5 * wide(text), _NARROW)
            shown = x - half > last + 6.0 and 24.0 < x < end
            out.append((x, text if shown else ""))
            last = x + half if shown else last
    return out


class Axis(QWidget):
    """The axis itself. Emits sizes while the handle is dragged and a range when one is brushed."""

    dragged = Signal(float)
    dropped = Signal(float)
    brushed = Signal(float, float)

    def __init__(self) -> None:
        super().__init__()
        self.setMouseTracking(True)
        self.setMinimumHeight(84)
        self.lens: Lens = LENSES[0]
        self.values = np.zeros(0)
        self.chosen = np.zeros(0, dtype=bool)
        self.size = 1.0
        #: What is smaller is not followed by the mesh; 0 where everything is.
        self.ignored = 0.0
        self.range = (0.1, 100.0)
        self._grab = ""
        self._brush: tuple[float, float] | None = None

    # ---- values and pixels

    def set(self, lens: Lens, values: np.ndarray, chosen: np.ndarray, size: float) -> None:
        self.lens, self.values, self.chosen, self.size = lens, values, chosen, size
        inside = np.append(values[values > 0], size) if lens.unit == "mm" else values[values > 0]
        if not len(inside):
            inside = np.array([1.0, 10.0])
        low, high = float(inside.min()) / 2.2, float(inside.max()) * 2.2
        self.range = (low, high)
        self.update()

    def x(self, value: Any) -> Any:
        """The place of a value, or of several, on the axis."""
        low, high = self.range
        return 10.0 + (self.width() - 20.0) * np.log(value / low) / np.log(high / low)

    def value(self, x: float) -> float:
        low, high = self.range
        share = np.clip((x - 10.0) / (self.width() - 20.0), 0.0, 1.0)
        return float(low * (high / low) ** share)

    @property
    def has_handle(self) -> bool:
        return self.lens.unit == "mm"

    # ---- drawing

    def paintEvent(self, event) -> None:
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        p.setFont(theme.font(8.0))
        base = self.height() - 20.0
        self._paint_scale(p, base)
        if self._brush is not None:
            a, b = sorted(self._brush)
            p.fillRect(QRectF(a, 16.0, b - a, base - 16.0), QColor(44, 122, 107, 45))
        if self.has_handle:
            x = self.x(self.size)
            p.fillRect(QRectF(10.0, 18.0, max(0.0, x - 10.0), base - 18.0), QColor(181, 127, 40, 26))
            self._paint_ignored(p, base)
        self._paint_marks(p, base)
        if self.has_handle:
            self._paint_handle(p, base)
        elif len(self.values) > 1:
            self._paint_gap(p, base)

    def _paint_ignored(self, p: QPainter, base: float) -> None:
        """What is so small that the mesh goes over it."""
        wide = self.x(self.ignored) - 10.0 if self.ignored > 0.0 and self.lens.key in _FOLLOWED else 0.0
        if wide <= 0.0:
            return
        band = QRectF(10.0, 18.0, wide, base - 18.0)
        p.fillRect(band, QBrush(QColor(108, 102, 91, 70), Qt.BrushStyle.BDiagPattern))
        p.setPen(QColor(theme.INK2))
        if p.fontMetrics().horizontalAdvance(_PASSED) + 8.0 < wide:
            p.drawText(
                band.adjusted(5.0, 3.0, 0.0, 0.0), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, _PASSED
            )

    def _paint_scale(self, p: QPainter, base: float) -> None:
        p.setPen(QPen(QColor(theme.INK2), 1.0))
        p.drawLine(QPointF(10.0, base), QPointF(self.width() - 10.0, base))
        letters = p.fontMetrics()
        for x, text in scale(*self.range, self.lens.unit, self.x, letters.horizontalAdvance, self.width() - 30.0):
            p.setPen(QPen(QColor(theme.INK2), 1.0))
            p.drawLine(QPointF(x, base), QPointF(x, base + 4.0))
            if text:
                wide = letters.horizontalAdvance(text) + 2.0
                p.drawText(QRectF(x - 0.5 * wide, base + 4, wide, 15), Qt.AlignmentFlag.AlignHCenter, text)

    def _paint_marks(self, p: QPainter, base: float) -> None:
        if not len(self.values):
            p.setPen(QColor(theme.INK2))
            p.drawText(
                QRectF(10, 20, self.width() - 20, base - 24),
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignTop,  # clear of the size line
                f"no {self.lens.noun} in this model",
            )
            return
        column = np.round(self.x(self.values) / _BIN).astype(int)
        below = (self.values < self.size) & self.has_handle
        colour = np.where(self.chosen, 0, np.where(below, 1, 2))
        order = np.lexsort((colour, column))  # what is chosen stands at the foot of its column
        column, colour = column[order], colour[order]
        foot = np.flatnonzero(np.diff(column, prepend=column[0] - 1))
        count = np.diff(foot, append=len(column))
        height = np.arange(len(column)) - np.repeat(foot, count)  # of each mark above its column's foot
        rise = min(6.0, (base - 26.0) / max(1, int(count.max())))
        # Marks too small to be told apart are one box for each colour in a column.
        first = np.arange(len(column))
        if rise < 3.0:
            first = np.flatnonzero(np.diff(3 * column + colour, prepend=-1))
        piled = np.diff(first, append=len(column))
        left, tall = column[first] * _BIN - 2.6, np.maximum(1.2, piled * rise - 1.2)
        top = base - 2.0 - (height[first] + piled) * rise
        for k, paint in enumerate((theme.VERDIGRIS, theme.OCHRE, theme.INK2)):
            some = colour[first] == k
            solid = paint != theme.INK2 or rise < 3.0
            inset = 0.0 if solid else 0.5
            boxes = [
                QRectF(x + inset, y + inset, 5.2 - 2.0 * inset, t - 2.0 * inset)
                for x, y, t in zip(left[some].tolist(), top[some].tolist(), tall[some].tolist(), strict=True)
            ]
            p.setPen(Qt.PenStyle.NoPen if solid else QPen(QColor(paint), 1.0))
            p.setBrush(QColor(paint) if solid else Qt.BrushStyle.NoBrush)
            p.drawRects(boxes)

    def _paint_handle(self, p: QPainter, base: float) -> None:
        x = self.x(self.size)
        p.setPen(QPen(QColor(theme.INK), 1.6))
        p.drawLine(QPointF(x, 15.0), QPointF(x, base + 3.0))
        text = f"element {self.size:.3g} mm"
        width = p.fontMetrics().horizontalAdvance(text) + 14.0
        left = min(max(x - width / 2.0, 0.0), self.width() - width)
        p.setBrush(QColor(theme.INK))
        p.drawPolygon(
            QPolygonF(
                [
                    QPointF(left, 0),
                    QPointF(left + width, 0),
                    QPointF(left + width, 15),
                    QPointF(x + 4, 15),
                    QPointF(x, 20),
                    QPointF(x - 4, 15),
                    QPointF(left, 15),
                ]
            )
        )
        p.setBrush(Qt.BrushStyle.NoBrush)
        p.setPen(QColor(theme.PANEL))
        p.drawText(QRectF(left, 0, width, 15), Qt.AlignmentFlag.AlignCenter, text)

    def _paint_gap(self, p: QPainter, base: float) -> None:
        """The widest gap in the row is where crumbs part from bodies."""
        v = np.sort(self.values)
        k = int(np.argmax(v[1:] / v[:-1]))
        if v[k + 1] / v[k] < 3.0:
            return
        x = self.x(float(np.sqrt(v[k] * v[k + 1])))
        p.setPen(QPen(QColor(theme.OCHRE), 1.2, Qt.PenStyle.DashLine))
        p.drawLine(QPointF(x, 12.0), QPointF(x, base))
        p.drawText(QRectF(x - 60, 0, 120, 14), Qt.AlignmentFlag.AlignHCenter, "widest gap")

    # ---- the hand

    def mousePressEvent(self, event) -> None:
        x = event.position().x()
        if self.has_handle and abs(x - self.x(self.size)) < 9.0:
            self._grab = "handle"
        else:
            self._grab, self._brush = "brush", (x, x)

    def mouseMoveEvent(self, event) -> None:
        x = event.position().x()
        if self._grab == "handle":
            self.size = round_size(self.value(x))
            self.dragged.emit(self.size)
            self.update()
        elif self._grab == "brush" and self._brush is not None:
            self._brush = (self._brush[0], x)
            self.update()
        else:
            near = self.has_handle and abs(x - self.x(self.size)) < 9.0
            self.setCursor(Qt.CursorShape.SizeHorCursor if near else Qt.CursorShape.CrossCursor)

    def mouseReleaseEvent(self, event) -> None:
        if self._grab == "handle":
            self.dropped.emit(self.size)
        elif self._brush is not None:
            a, b = sorted(self._brush)
            if b - a > 3.0:
                self.brushed.emit(self.value(a), self.value(b))
        self._grab, self._brush = "", None
        self.update()


def round_size(value: float) -> float:
    """To two and a half significant digits, so that a dragged size is a sayable number."""
    power = 10.0 ** (np.floor(np.log10(value)) - 1.0)
    return float(f"{np.round(value / power * 2.0) / 2.0 * power:.6g}")


#: Lenses whose sizes take a while: the worker looks for them.
_FAR = ("fillets", "holes", "walls", "gaps")


class Sieve(QFrame):
    """Lenses at the left, the axis at the right."""

    lit = Signal(object, object)  # handles of faces and of edges: a set, a list

    def __init__(self, work: Work):
        super().__init__()
        self.setObjectName("panel")
        self.work = work
        self.lens = LENSES[0]
        self.marks: list[Mark] = []
        self._indexed: list[Mark] | None = None
        self._turn = 0
        self._asked: tuple[object, str] | None = None
        lay = QHBoxLayout(self)
        lay.setContentsMargins(12, 8, 12, 6)
        lay.setSpacing(14)
        left = QVBoxLayout()
        left.setSpacing(4)
        left.addWidget(title("SIEVE"))
        table = QGridLayout()
        table.setSpacing(1)
        left.addLayout(table)
        self.group = QButtonGroup(self)
        self.lens_buttons: dict[str, QPushButton] = {}
        for k, lens in enumerate(LENSES):
            b = QPushButton(lens.short)
            b.setToolTip(lens.title)
            b.setObjectName("quiet")
            b.setCheckable(True)
            b.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            b.clicked.connect(lambda _, lens=lens: self.use(lens))
            self.group.addButton(b)
            self.lens_buttons[lens.key] = b
            table.addWidget(b, k % 4, k // 4)
        left.addStretch(1)
        side = QWidget()
        side.setLayout(left)
        side.setFixedWidth(172)
        lay.addWidget(side)
        self.axis = Axis()
        lay.addWidget(self.axis, 1)
        self.axis.dragged.connect(self._dragged)
        self.axis.dropped.connect(self._dropped)
        self.axis.brushed.connect(self._brushed)
        work.model_changed.connect(self.refresh)
        work.size_changed.connect(lambda _: self.refresh())
        work.selection_changed.connect(self.recolour)
        work.ledger_changed.connect(self.recolour)
        self._bold()

    def use(self, lens: Lens) -> None:
        self.lens = lens
        self._bold()
        self.refresh()

    def _bold(self) -> None:
        for key, b in self.lens_buttons.items():
            on = key == self.lens.key
            b.setChecked(on)
            b.setStyleSheet(f"color: {theme.INK if on else theme.INK2}; font-weight: {600 if on else 400};")
            b.setText(("▸ " if on else "   ") + next(x.short for x in LENSES if x.key == key))

    def refresh(self) -> None:
        model = self.work.model
        if model is None or self.lens.key not in _FAR:
            self._turn += 1
            self.marks = marks(model, self.lens.key) if model is not None else []
            self.recolour()
            return
        if self._asked == (model, self.lens.key):
            self.recolour()  # only the size moved: the answer is there, or on its way
            return
        self._asked = (model, self.lens.key)
        self._turn += 1
        turn = self._turn
        self.marks = []
        self.recolour()

        def found(result: list[Mark]) -> None:
            if turn == self._turn:
                self.marks = result
                self.recolour()

        self.work.job("marks", model, self.lens.key, done=found)

    def recolour(self) -> None:
        if self.work.ledger is None:
            return
        if self._indexed is not self.marks:
            self._index()
        chosen = np.zeros(len(self.marks), dtype=bool)
        for things, needed in ((self.work.faces, self._needs[0]), (self.work.edges, self._needs[1])):
            rows = np.array([row for thing in things for row in self._rows.get(handle(thing), ())], dtype=np.int64)
            chosen |= (needed > 0) & (np.bincount(rows, minlength=len(chosen)) >= needed)
        self.axis.ignored = self.work.ledger.state.ignored or 0.0
        self.axis.set(self.lens, self._values, chosen, self.work.ledger.size)

    def _index(self) -> None:
        """Which marks a face or an edge belongs to, and how many faces and edges each mark has."""
        self._indexed = self.marks
        self._values = np.array([m.value for m in self.marks])
        self._rows: dict[Handle, list[int]] = {}
        for k, mark in enumerate(self.marks):
            for thing in (*handles(mark.faces), *handles(mark.edges)):
                self._rows.setdefault(thing, []).append(k)
        self._needs = (
            np.array([len(m.faces) for m in self.marks], dtype=np.int64),
            np.array([len(m.edges) for m in self.marks], dtype=np.int64),
        )

    def _dragged(self, size: float) -> None:
        below = [m for m in self.marks if m.value < size]
        self.lit.emit({f for m in below for f in handles(m.faces)}, [e for m in below for e in handles(m.edges)])
        self.work.size_dragged.emit(size)

    def _dropped(self, size: float) -> None:
        self.lit.emit(set(), [])
        self.work.set_size(size)

    def _brushed(self, low: float, high: float) -> None:
        hits = [m for m in self.marks if low <= m.value <= high]
        self.work.choose(list(dict.fromkeys(f for m in hits for f in m.faces)), [e for m in hits for e in m.edges])
