"""An operation in the making: what its form holds while some of it is still missing. It knows no window."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from lithon.brep.topology import Edge, Face, Vertex
from lithon.errors import LithonError
from lithon.operations.carve.carve import cut_of, round_cut
from lithon.operations.carve.references import axis_of
from lithon.operations.choices import Choice
from lithon.operations.operation import Chosen, Operation
from lithon.operations.parameters import About, At, CutAt, Parameter, Things
from lithon.operations.places import Axis, Spot
from lithon.operations.strokes import Over
from lithon.operations.table import Row, row_of


@dataclass(slots=True)
class Form:
    """The values so far, by parameter; what is wrong with what was typed; which parameter waits for a pick."""

    row: Row
    values: dict[str, Any]
    wrong: dict[str, str] = field(default_factory=dict)
    waiting: str = ""
    #: How the cut that waits is to be described; 'through' takes points.
    way: str = ""

    @staticmethod
    def begun(row: Row, chosen: Chosen, empty: str = "", way: str = "") -> Form:
        """With what fits of what is in hand; what is missing waits to be picked. `empty`: what shall wait all the same,
        and which `way` it shall be described."""
        out = Form(row, row.operation.begun(chosen))
        if empty:
            out.values[empty] = None
        out.waiting, out.way = out._to_pick(), way
        return out

    @staticmethod
    def of(operation: Operation) -> Form:
        """Of an operation that is whole."""
        return Form(row_of(operation), {key: getattr(operation, key) for key in operation.parameters()})

    @property
    def parameters(self) -> dict[str, Parameter[Any]]:
        return dict(self.row.operation.parameters())

    def missing(self) -> list[str]:
        """The parameters without which it cannot be done, and that have no value yet."""
        return [key for key, p in self.parameters.items() if not p.optional and self._empty(self.values.get(key), p)]

    def _to_pick(self) -> str:
        """The first parameter that is missing and can be picked."""
        return next(
            (k for k in self.missing() if isinstance(self.parameters[k], Things | CutAt | About | At | Over)), ""
        )

    @staticmethod
    def _empty(value: Any, parameter: Parameter[Any]) -> bool:
        if isinstance(parameter, Things):
            return not isinstance(value, Choice) or value.empty
        return value is None

    def operation(self) -> Operation | None:
        """The operation, once nothing is missing or wrong."""
        if self.missing() or self.wrong:
            return None
        try:
            return self.row.operation(**self.values)
        except LithonError as error:
            self.wrong[""] = error.what
            return None

    def put(self, key: str, value: Any) -> bool:
        """Give a parameter a value. Returns whether it took it; what is wrong is remembered otherwise."""
        self.wrong.pop("", None)
        try:
            self.values[key] = self.parameters[key].take(value)
        except LithonError as error:
            self.wrong[key] = error.what
            return False
        self._took(key)
        return True

    def _took(self, key: str) -> None:
        """A value is there: what waited for it need wait no longer, unless more of its kind may follow."""
        self.wrong.pop(key, None)
        if key == self.waiting and not isinstance(self.parameters[key], Things):
            self.waiting, self.way = self._to_pick(), ""

    def type(self, key: str, text: str) -> bool:
        """As `put`, of what was typed."""
        self.wrong.pop("", None)
        try:
            self.values[key] = self.parameters[key].parse(text)
        except LithonError as error:
            self.wrong[key] = error.what
            return False
        self._took(key)
        return True

    def pick(self, chosen: Chosen) -> bool:
        """Take what was picked in the view into the parameter that waits. Returns whether it fits there."""
        key = self.waiting
        parameter = self.parameters.get(key)
        if isinstance(parameter, Things):
            things = chosen.of(parameter.of)
            if not things:
                return False
            full = parameter.most is not None and len(things) >= parameter.most
            self.put(key, things[-parameter.most :] if parameter.most is not None else things)
            if full:  # nothing more fits: on to what is missing still
                self.waiting = self._to_pick()
            return True
        if isinstance(parameter, CutAt):
            if self.way == "through" and len(chosen.points) < 3:
                return False
            cut = round_cut(chosen) if self.way == "round" else cut_of(chosen)
            if cut is None or (self.way and cut.way != self.way):
                return False
            self.waiting = self.way = ""
            return self.put(key, cut)
        if isinstance(parameter, About) and (chosen.faces or chosen.edges):
            axis = axis_of(chosen) or Axis.along((chosen.edges or chosen.faces)[-1])
            self.waiting = ""
            return self.put(key, axis)
        if isinstance(parameter, At) and (chosen.vertices or chosen.edges or chosen.faces):
            self.waiting = ""
            picked: list[Face | Edge | Vertex] = [*chosen.faces, *chosen.edges, *chosen.vertices]
            return self.put(key, Spot.on_entity(picked[-1]))
        return False
