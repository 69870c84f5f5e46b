"""The fields of a form, one for each kind of parameter. A field shows a value and tells what becomes of it."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QButtonGroup, QGridLayout, QLineEdit, QPushButton, QVBoxLayout, QWidget

from lithon.app.parts import label, restyle, row
from lithon.brep.topology import Body, rough_box
from lithon.operations.carve.carve import round_cut
from lithon.operations.choices import ONE, Choice
from lithon.operations.form import Form
from lithon.operations.operation import Chosen
from lithon.operations.parameters import Parameter, Things
from lithon.operations.places import Axis, Cut, Spot

#: What a field calls: a value was set, text was typed, it waits for a pick.
Put = Callable[[str, Any], None]
Type = Callable[[str, str], None]
Wait = Callable[[str, str], None]


class Field(QWidget):
    """One parameter: its title, its value, and what is wrong with that. What is set in it goes to `put` or `typed`."""

    def __init__(self, key: str, parameter: Parameter[Any], put: Put, typed: Type, wait: Wait | None):
        super().__init__()
        self.key, self.parameter = key, parameter
        self.put, self.typed, self.wait = put, typed, wait
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(2)
        self.build()
        self.said = label("")
        self.said.setObjectName("wrong")
        self.said.hide()
        self.column.addWidget(self.said)

    def build(self) -> None:
        """Make what is in it."""
        raise NotImplementedError

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        """Show a value; `chosen` is what is in hand, `waiting` whether a pick goes here."""
        raise NotImplementedError

    def say(self, wrong: str) -> None:
        """What is wrong, under it; nothing where all is well."""
        self.said.setText(wrong)
        self.said.setVisible(bool(wrong))

    def named(self) -> QWidget:
        out = label(self.parameter.title, "dim", wrap=False)
        out.setToolTip(self.parameter.help)
        out.setMinimumWidth(62)
        return out


class Line(QLineEdit):
    """A line that is taken on Enter or when it is left; the wheel turns numbers."""

    def __init__(self, field: Field, turn: Callable[[float], None] | None = None):
        super().__init__()
        self.field, self.turn, self.was = field, turn, ""
        self.setToolTip(field.parameter.help)
        self.editingFinished.connect(self._done)

    def show_text(self, text: str) -> None:
        if not (self.hasFocus() and self.text() != self.was):
            self.was = text
            self.setText(text)

    def _done(self) -> None:
        if self.text() != self.was:
            self.was = self.text()
            self.field.typed(self.field.key, self.text())

    def keyPressEvent(self, event) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.setText(self.was)
            self.clearFocus()
            return
        super().keyPressEvent(event)
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.clearFocus()  # keys belong to the desk again

    def wheelEvent(self, event) -> None:
        if self.turn is not None:
            self.turn(1.0 if event.angleDelta().y() > 0 else -1.0)
            event.accept()


class TextField(Field):
    """Words and numbers, as they are typed."""

    def build(self) -> None:
        self.value: Any = None
        self.line = Line(self, self._turned if self.parameter.shown == "number" else None)
        unit = getattr(self.parameter, "unit", "")
        parts = [self.named(), self.line, *([label(unit, "dim", wrap=False)] if unit else [])]
        self.column.addWidget(row(*parts, stretch=False))

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        self.value = value
        hint = self.parameter.help
        self.line.setPlaceholderText(
            (hint.partition("left out: ")[2] or "as it is") if self.parameter.optional else hint
        )
        self.line.show_text(self.parameter.text(value) if value is not None else "")

    def _turned(self, way: float) -> None:
        if isinstance(self.value, int):
            self.put(self.key, self.value + int(way))
        elif isinstance(self.value, float):
            self.put(self.key, stepped(self.value, way))


def stepped(value: float, way: float) -> float:
    """A number one step further: a twentieth of its power of ten."""
    power = 10.0 ** math.floor(math.log10(abs(value))) if value else 1.0
    return float(f"{value + way * 0.05 * power:.6g}")


class Toggles(QWidget):
    """Buttons of which one is pressed."""

    def __init__(self, options: list[tuple[str, str]], taken: Callable[[str], object], columns: int = 4):
        super().__init__()
        grid = QGridLayout(self)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        self.group = QButtonGroup(self)
        self.buttons: dict[str, QPushButton] = {}
        for k, (key, text) in enumerate(options):
            b = QPushButton(text)
            b.setObjectName("toggle")
            b.setCheckable(True)
            b.setFocusPolicy(Qt.FocusPolicy.NoFocus)
            b.clicked.connect(lambda _, key=key: taken(key))
            self.group.addButton(b)
            self.buttons[key] = b
            grid.addWidget(b, k // columns, k % columns)

    def press(self, key: str | None) -> None:
        self.group.setExclusive(False)
        for own, b in self.buttons.items():
            b.setChecked(own == key)
        self.group.setExclusive(True)


class OneOfField(Field):
    """One of several words."""

    def build(self) -> None:
        options = [(o, o) for o in getattr(self.parameter, "options", ())]
        self.toggles = Toggles(options, lambda key: self.put(self.key, key))
        self.column.addWidget(row(self.named(), self.toggles))

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        self.toggles.press(value)


class FlagField(Field):
    """Yes or no."""

    def build(self) -> None:
        self.toggles = Toggles([("yes", "yes"), ("no", "no")], lambda key: self.put(self.key, key == "yes"))
        self.column.addWidget(row(self.named(), self.toggles))

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        self.toggles.press("yes" if value else "no")


class PickField(Field):
    """Things of the model: picked in the view while it waits, or by a question that is typed."""

    def build(self) -> None:
        self.line = Line(self)
        self.pick = QPushButton("Pick")
        self.pick.setObjectName("toggle")
        self.pick.setCheckable(True)
        self.pick.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.pick.clicked.connect(self._pick)
        self.pick.setVisible(self.wait is not None)
        self.column.addWidget(row(self.named(), self.line, self.pick, stretch=False))

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        assert isinstance(self.parameter, Things)
        of = self.parameter.of
        self.line.show_text(value.question if isinstance(value, Choice) else "")
        empty = not isinstance(value, Choice) or value.empty
        said = self.parameter.help.partition("left out: ")[2] if empty else ""
        self.line.setPlaceholderText(
            f"pick {'a ' + ONE[of] if self.parameter.most == 1 else of} in the view"
            if waiting
            else said or told(value, of)
        )
        self.pick.setChecked(waiting)
        restyle(self.line, waiting=waiting)

    def _pick(self) -> None:
        if self.wait is not None:
            self.wait(self.key if self.pick.isChecked() else "", "")


def told(value: Any, of: str) -> str:
    """What is chosen, in words."""
    if not isinstance(value, Choice) or value.empty:
        return f"all {of}" if of == "bodies" else f"no {of}"
    things = value.live or value.marks
    if len(things) == 1:
        (one,) = things
        name = one.name if isinstance(one, Body) else one.get("name", "") if isinstance(one, dict) else ""
        return name or f"1 {ONE[value.of]}"
    return f"{len(things)} {of}"


#: Ways to describe a cut, and their words.
WAYS = (
    ("midway", "Midway"), ("offset", "Offset"), ("through", "Points"), ("surface", "Face"), ("x", "x ="), ("y", "y ="),
    ("z", "z ="), ("round", "Round"),
)  # fmt: skip
_HINTS = {
    "midway": "Choose two plane faces (Ctrl adds the second).",
    "offset": "Choose one plane face. Positive is outwards.",
    "surface": "Choose one face: its surface, extended, cuts.",
    "through": "Click three points in the view.",
    "round": "Choose an edge or a round face: a cylinder about its axis cuts.",
}


class CutField(Field):
    """A surface to cut at."""

    def build(self) -> None:
        self.chosen: Chosen | None = None
        self.way = ""
        self.column.addWidget(self.named())
        self.toggles = Toggles(list(WAYS), self.use)
        self.column.addWidget(self.toggles)
        self.amount = Line(self, self._turned)
        self.amount.editingFinished.disconnect()
        self.amount.editingFinished.connect(self._amount_typed)
        self.lead, unit = label("at", "dim", wrap=False), label("mm", "dim", wrap=False)
        self.amount_row = row(self.lead, self.amount, unit, stretch=False)
        self.column.addWidget(self.amount_row)
        self.hint = label("", "dim")
        self.column.addWidget(self.hint)
        for way in ("midway", "offset", "through", "surface", "round"):
            self.toggles.buttons[way].setVisible(self.wait is not None)
        self.value: Cut | None = None

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        self.value, self.chosen = value, chosen or self.chosen
        if value is not None and not waiting:
            self.way = value.way if value.way != "at" else "xyz"[value.axis] if value.axis is not None else ""
        self.toggles.press(self.way or None)
        number = self._number()
        self.lead.setText("radius" if self.way == "round" else "at")
        self.amount_row.setVisible(number is not None and not waiting)
        if number is not None:
            self.amount.show_text(f"{number:.7g}")
        self.hint.setText(_HINTS.get(self.way, "") if waiting else "")
        self.hint.setVisible(bool(self.hint.text()))

    def _number(self) -> float | None:
        return self.value.amount if self.value is not None else None

    def use(self, way: str) -> None:
        """Another way to describe it: from what is in hand, or what is picked next."""
        self.way = way
        made = self._made(way)
        if made is not None:
            self.put(self.key, made)
        elif self.wait is not None:
            self.wait(self.key, way)

    def _made(self, way: str) -> Cut | None:
        chosen = self.chosen
        if chosen is None:
            return None
        if way in "xyz":
            k = "xyz".index(way)
            middle = round(float(rough_box(chosen.model.bodies).mean(axis=0)[k]), 6) + 0.0
            return Cut.at(middle * np.eye(3)[k], np.eye(3)[k])
        if way == "round":
            return round_cut(chosen)
        faces = chosen.faces
        planes = [f for f in faces if f.surface.kind == "plane"]
        if way == "midway" and len(planes) == 2:
            return Cut.midway(*planes)
        if way == "offset" and len(planes) == 1:
            return Cut.offset(planes[0], -chosen.size)
        if way == "surface" and len(faces) == 1:
            return Cut.surface(faces[0])
        return Cut.through(chosen.points) if way == "through" and len(chosen.points) == 3 else None

    def _amount_typed(self) -> None:
        if self.amount.text() != self.amount.was:
            self.amount.was = self.amount.text()
            try:
                self.set_amount(float(self.amount.text().replace(",", ".")))
            except ValueError:
                self.typed(self.key, f"z = {self.amount.text()}")  # it says what is wrong with that

    def set_amount(self, amount: float) -> None:
        """Move the cut: its offset, or its coordinate."""
        if self.value is not None and self.value.amount is not None and math.isfinite(amount):
            self.put(self.key, self.value.moved_to(amount))

    def _turned(self, way: float) -> None:
        number = self._number()
        if number is not None:
            step = 0.1 * self.chosen.size if self.chosen is not None else 0.1
            self.set_amount(float(f"{number + way * step:.7g}"))


class AxisField(Field):
    """An axis: one of the three, or that of something picked."""

    def build(self) -> None:
        self.toggles = Toggles([("x", "x"), ("y", "y"), ("z", "z"), ("pick", "Pick")], self._taken)
        self.toggles.buttons["pick"].setVisible(self.wait is not None)
        self.column.addWidget(row(self.named(), self.toggles))

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        own = None
        if isinstance(value, Axis):
            own = "pick" if value.of is not None else next((c for c in "xyz" if value == Axis.parse(c)), None)
        self.toggles.press("pick" if waiting else own)

    def _taken(self, key: str) -> None:
        if key != "pick":
            self.put(self.key, Axis.parse(key))
        elif self.wait is not None:
            self.wait(self.key, "")


class SpotField(PickField):
    """A point: typed, or that of something picked."""

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        snapped = isinstance(value, Spot) and value.of is not None
        self.line.show_text("" if snapped or value is None else value.text())
        words = told(value.of, value.of.of) if snapped else "as it is" if self.parameter.optional else "x y z"
        self.line.setPlaceholderText("pick a vertex, an edge or a face" if waiting else words)
        self.pick.setChecked(waiting)
        restyle(self.line, waiting=waiting)


#: Lines of more places are not written out.
_LEGIBLE = 3


class StrokeField(PickField):
    """A line over a body: drawn in the view while it waits, or typed."""

    def build(self) -> None:
        super().build()
        self.pick.setText("Draw")

    def show_value(self, value: Any, chosen: Chosen | None, waiting: bool) -> None:
        short = value is not None and len(value.points) <= _LEGIBLE
        self.line.show_text(value.text() if short else "")
        idle = "none" if self.parameter.optional else "x y z; x y z"
        words = idle if value is None else f"drawn, {len(value.points)} places"
        self.line.setPlaceholderText("draw in the view" if waiting else words)
        self.line.setToolTip("Drag over the body with the left button." if waiting else self.parameter.help)
        self.pick.setChecked(waiting)
        restyle(self.line, waiting=waiting)


FIELDS: dict[str, type[Field]] = {
    "pick": PickField, "cut": CutField, "axis": AxisField, "spot": SpotField, "number": TextField, "choice": OneOfField,
    "text": TextField, "flag": FlagField, "stroke": StrokeField,
}  # fmt: skip


class FormWidget(QWidget):
    """The fields of a form."""

    def __init__(self, form: Form, put: Put, typed: Type, wait: Wait | None):
        super().__init__()
        self.row = form.row
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(5)
        self.fields: dict[str, Field] = {}
        for key, parameter in form.parameters.items():
            made = FIELDS[parameter.shown](key, parameter, put, typed, wait)
            self.fields[key] = made
            column.addWidget(made)
        self.said = label("")
        self.said.setObjectName("wrong")
        column.addWidget(self.said)

    def begin(self, form: Form) -> None:
        """Let what is missing be typed at once."""
        for key in form.missing():
            field = self.fields[key]
            if isinstance(field, TextField):
                field.line.setFocus()
                return

    def show_form(self, form: Form, chosen: Chosen | None, hidden: tuple[str, ...] = ()) -> None:
        for key, field in self.fields.items():
            field.setVisible(key not in hidden)
            field.show_value(form.values.get(key), chosen, form.waiting == key)
            field.say(form.wrong.get(key, ""))
        self.said.setText(form.wrong.get("", ""))
        self.said.setVisible(bool(self.said.text()))
