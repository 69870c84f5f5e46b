"""The kinds of parameters that operations declare. Each knows how its value is written and read as data and as text,
how it is found on a model, what a form shows for it, and what to say when it is wrong."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from typing import Any, ClassVar, Generic, Literal, TypeVar

from lithon.brep.topology import Edge, Face, Model, Vertex
from lithon.errors import BadFile, LithonError, Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.choices import ONE, Choice, Kind
from lithon.operations.places import Axis, Cut, Spot, number
from lithon.operations.references import NO_REFERENCES, References

T = TypeVar("T")

#: What a form shows: things to pick, a cut, an axis, a point, a number, one of several, a line of text, a switch.
Shown = Literal["pick", "cut", "axis", "spot", "number", "choice", "text", "flag", "stroke"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter(Generic[T]):
    """What an operation asks for. title: its name in a form; help: a line on it; optional: whether it may be left out,
    which means `default`."""

    title: str
    help: str = ""
    optional: bool = False
    default: Any = None

    shown: ClassVar[Shown] = "text"
    #: What stands for a value on the command line.
    metavar: ClassVar[str] = "TEXT"

    def take(self, value: Any) -> T:
        """The value of what a script hands over. Raises BadFile in words where it does not fit."""
        raise NotImplementedError

    def encode(self, value: T) -> Any:
        """As plain data."""
        return value

    def decode(self, data: Any) -> T:
        """From plain data. Raises BadFile."""
        return self.take(data)

    def text(self, value: T) -> str:
        """As it is typed; nothing where the value is none."""
        return "" if value is None else str(value)

    def parse(self, text: str) -> T:
        """From what was typed. Raises BadFile."""
        return self.take(text)

    def on(self, value: T, model: Model, references: References = NO_REFERENCES) -> Any:
        """What is meant on a model and beside its references. Raises Unresolved or Refusal."""
        return value

    def recorded(self, value: T, model: Model) -> T:
        """The value with marks for what it holds live."""
        return value

    def schema(self) -> dict[str, Any]:
        """The data as JSON schema."""
        return {}

    def wrong(self, why: str) -> BadFile:
        return BadFile(f"{self.title}: {why}")


# ---- things of the model


@dataclass(frozen=True, slots=True, kw_only=True)
class Things(Parameter[Choice]):
    """Faces, edges, vertices or bodies: at least so many and, where that is said, at most."""

    of: Kind = "faces"
    least: int = 1
    most: int | None = None

    shown: ClassVar[Shown] = "pick"
    metavar: ClassVar[str] = "QUESTION"

    def take(self, value: Any) -> Choice:
        if value is None and self.optional:
            return Choice(self.of)
        try:
            return Choice.made(self.of, value)
        except LithonError as error:
            raise self.wrong(error.what) from error

    def encode(self, value: Choice) -> Any:
        return None if value.empty else value.as_json()

    def decode(self, data: Any) -> Choice:
        if data is None and self.optional:
            return Choice(self.of)
        try:
            return Choice.from_json(data, self.of)
        except LithonError as error:
            raise self.wrong(error.what) from error

    def text(self, value: Choice) -> str:
        if value.empty:
            return ""
        return value.question or json.dumps(value.as_json())

    def parse(self, text: str) -> Choice:
        said = text.strip()
        if not said:
            return self.decode(None)
        if said.startswith("{"):
            try:
                return self.decode(json.loads(said))
            except ValueError as error:
                raise self.wrong(f"{said!r} is not well formed ({error})") from error
        return self.take(said)

    def on(self, value: Choice, model: Model, references: References = NO_REFERENCES) -> list[Any]:
        if value.empty:
            if not self.optional:
                raise Refusal(f"{self.title}: nothing is chosen", remedy=f"choose {self.of}")
            return []
        found = value.on(model)
        many = f"{len(found)} {self.of if len(found) != 1 else ONE[self.of]}"
        if len(found) < self.least:
            raise Refusal(f"{self.title}: at least {self.least} {self.of} are asked for, {many} chosen",
                          remedy="choose more", entities=tuple(found))  # fmt: skip
        if self.most is not None and len(found) > self.most:
            raise Refusal(f"{self.title}: at most {self.most} asked for, {many} chosen", remedy="choose fewer",
                          entities=tuple(found))  # fmt: skip
        return found

    def recorded(self, value: Choice, model: Model) -> Choice:
        return value.recorded(model)

    def schema(self) -> dict[str, Any]:
        marks = {"type": "array", "items": {"type": ["object", "string"] if self.of == "bodies" else "object"}}
        one_of = [
            {"type": "object", "properties": {"question": {"type": "string"}}, "required": ["question"]},
            {"type": "object", "properties": {self.of: marks, "twins": {"type": "boolean"}}, "required": [self.of]},
        ]
        return {"anyOf": [*one_of, *([{"type": "null"}] if self.optional else [])]}


def faces(title: str = "faces", help: str = "", least: int = 1, most: int | None = None) -> Things:
    return Things(title=title, help=help, of="faces", least=least, most=most)


def one_face(title: str = "face", help: str = "") -> Things:
    return faces(title, help, 1, 1)


def edges(title: str = "edges", help: str = "", least: int = 1, most: int | None = None) -> Things:
    return Things(title=title, help=help, of="edges", least=least, most=most)


def bodies(title: str = "bodies", help: str = "", least: int = 1, most: int | None = None) -> Things:
    return Things(title=title, help=help, of="bodies", least=least, most=most)


def one_body(title: str = "body", help: str = "") -> Things:
    return bodies(title, help, 1, 1)


def some_bodies(title: str = "bodies", help: str = "left out: all of them") -> Things:
    return Things(title=title, help=help, of="bodies", optional=True)


# ---- places


@dataclass(frozen=True, slots=True, kw_only=True)
class CutAt(Parameter[Cut | None]):
    """A surface to cut at; `plane`: only a plane will do."""

    plane: bool = False

    shown: ClassVar[Shown] = "cut"
    metavar: ClassVar[str] = "CUT"

    def take(self, value: Any) -> Cut | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            if self.optional:
                return self.default
            raise self.wrong("a plane or surface is needed")
        if isinstance(value, Cut):
            return value
        try:
            return Cut.parse(value) if isinstance(value, str) else Cut.from_json(value)
        except LithonError as error:
            raise self.wrong(error.what) from error

    def encode(self, value: Cut | None) -> Any:
        return None if value is None else value.as_json()

    def text(self, value: Cut | None) -> str:
        return "" if value is None else value.text()

    def on(self, value: Cut | None, model: Model, references: References = NO_REFERENCES) -> Any:
        if value is None:
            return None
        surface = value.on(model, references)
        if self.plane and not isinstance(surface, Plane):
            raise Refusal(f"{self.title}: a plane is asked for, not a {surface.kind}", remedy="choose a plane face")
        return surface

    def recorded(self, value: Cut | None, model: Model) -> Cut | None:
        return None if value is None else value.recorded(model)

    def schema(self) -> dict[str, Any]:
        three = {"type": "array", "items": {"type": "number"}, "minItems": 3, "maxItems": 3}
        return {
            "type": ["object", "null"] if self.optional else "object",
            "properties": {
                "origin": three, "normal": three, "through": {"type": "array", "items": three}, "midway": {},
                "offset": {}, "surface": {}, "by": {"type": "number"}, "named": {"type": "string"},
                "turned": {}, "round": {"type": "number"}, "about": {"type": "object"},
            },
        }  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class About(Parameter[Axis | None]):
    """An axis or a direction."""

    shown: ClassVar[Shown] = "axis"
    metavar: ClassVar[str] = "AXIS"

    def take(self, value: Any) -> Axis | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            if self.optional:
                return self.default
            raise self.wrong("an axis is needed")
        if isinstance(value, Axis):
            return value
        try:
            return Axis.parse(value) if isinstance(value, str) else Axis.from_json(value)
        except LithonError as error:
            raise self.wrong(error.what) from error

    def encode(self, value: Axis | None) -> Any:
        return None if value is None else value.as_json()

    def text(self, value: Axis | None) -> str:
        return "" if value is None else value.text()

    def on(self, value: Axis | None, model: Model, references: References = NO_REFERENCES) -> Any:
        return None if value is None else value.on(model, references)

    def recorded(self, value: Axis | None, model: Model) -> Axis | None:
        return None if value is None else value.recorded(model)

    def schema(self) -> dict[str, Any]:
        return {"type": ["object", "null"] if self.optional else "object"}


@dataclass(frozen=True, slots=True, kw_only=True)
class At(Parameter[Spot | None]):
    """A point."""

    shown: ClassVar[Shown] = "spot"
    metavar: ClassVar[str] = "POINT"

    def take(self, value: Any) -> Spot | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            if self.optional:
                return self.default
            raise self.wrong("a point is needed")
        if isinstance(value, Spot):
            return value
        try:
            if isinstance(value, Vertex | Edge | Face):
                return Spot.on_entity(value)
            return Spot.parse(value) if isinstance(value, str) else Spot.from_json(value)
        except LithonError as error:
            raise self.wrong(error.what) from error

    def encode(self, value: Spot | None) -> Any:
        return None if value is None else value.as_json()

    def decode(self, data: Any) -> Spot | None:
        return self.take(data)

    def text(self, value: Spot | None) -> str:
        return "" if value is None else value.text()

    def on(self, value: Spot | None, model: Model, references: References = NO_REFERENCES) -> Any:
        return None if value is None else value.on(model, references)

    def recorded(self, value: Spot | None, model: Model) -> Spot | None:
        return None if value is None else value.recorded(model)

    def schema(self) -> dict[str, Any]:
        return {"type": ["object", "array", *(["null"] if self.optional else [])]}


# ---- numbers


@dataclass(frozen=True, slots=True, kw_only=True)
class Number(Parameter[float | None]):
    """A number within bounds; `above` itself is not allowed. unit: as it is shown; factor: what the typed number is
    multiplied by to be the value (degrees to radians)."""

    unit: str = ""
    above: float | None = None
    least: float | None = None
    most: float | None = None
    factor: float = 1.0

    shown: ClassVar[Shown] = "number"
    metavar: ClassVar[str] = "NUMBER"

    def take(self, value: Any) -> float | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            if self.optional:
                return self.default
            raise self.wrong("a number is needed")
        if isinstance(value, str):
            try:
                value = number(value.strip().removesuffix(self.unit) if self.unit else value) * self.factor
            except LithonError as error:
                raise self.wrong(error.what) from error
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise self.wrong(f"{value!r} is not a number")
        return self._within(float(value))

    def _within(self, value: float) -> float:
        for bad, words, bound in (
            (self.above is not None and value <= self.above, "above", self.above),
            (self.least is not None and value < self.least, "at least", self.least),
            (self.most is not None and value > self.most, "at most", self.most),
        ):
            if bad and bound is not None:
                raise self.wrong(f"it is {words} {self._said(bound)}, not {self._said(value)}")
        return value

    def _said(self, value: float) -> str:
        return f"{value / self.factor:.12g}{' ' + self.unit if self.unit else ''}"

    def text(self, value: float | None) -> str:
        if value is None:
            return ""
        shown = value / self.factor
        short = f"{shown:.12g}"  # what is typed is shown as it was typed, as long as nothing is lost
        return short if float(short) * self.factor == value else repr(shown)

    def schema(self) -> dict[str, Any]:
        out: dict[str, Any] = {"type": ["number", "null"] if self.optional else "number"}
        bounds = {"exclusiveMinimum": self.above, "minimum": self.least, "maximum": self.most}
        return {**out, **{key: value for key, value in bounds.items() if value is not None}}


def length(title: str, help: str = "", *, above: float | None = None, default: Any = None, optional: bool = False,
           least: float | None = None) -> Number:  # fmt: skip
    """A length in mm."""
    return Number(title=title, help=help, unit="mm", above=above, least=least, default=default, optional=optional)


def angle(title: str, help: str = "", default: Any = None) -> Number:
    """An angle: radians inside and in data, degrees where people read and type it."""
    return Number(title=title, help=help, unit="°", factor=math.pi / 180.0, default=default)


@dataclass(frozen=True, slots=True, kw_only=True)
class Count(Parameter[int]):
    """A whole number. `first`: what people count from; solutions are 0, 1, 2 in data, 1, 2, 3 in words."""

    least: int = 0
    most: int | None = None
    first: int = 0

    shown: ClassVar[Shown] = "number"
    metavar: ClassVar[str] = "COUNT"

    def take(self, value: Any) -> int:
        if isinstance(value, str):
            try:
                value = int(value) - self.first
            except ValueError as error:
                raise self.wrong(f"{value!r} is no whole number") from error
        if isinstance(value, bool) or (
            not isinstance(value, int) and not (isinstance(value, float) and value.is_integer())
        ):
            raise self.wrong(f"{value!r} is no whole number")
        if value < self.least or (self.most is not None and value > self.most):
            end = f" to {self.most + self.first}" if self.most is not None else " up"
            raise self.wrong(f"it is from {self.least + self.first}{end}, not {int(value) + self.first}")
        return int(value)

    def text(self, value: int) -> str:
        return str(value + self.first)

    def schema(self) -> dict[str, Any]:
        out = {"type": "integer", "minimum": self.least}
        return out if self.most is None else {**out, "maximum": self.most}


def solution() -> Count:
    """Which of several ways to do it, the nearest first."""
    return Count(title="solution", help="which of several ways", first=1, default=0, optional=True)


# ---- words


@dataclass(frozen=True, slots=True, kw_only=True)
class OneOf(Parameter[str]):
    """One of several words."""

    options: tuple[str, ...] = ()

    shown: ClassVar[Shown] = "choice"

    def take(self, value: Any) -> str:
        if value not in self.options:
            raise self.wrong(f"it is {', '.join(self.options[:-1])} or {self.options[-1]}, not {value!r}")
        return str(value)

    def schema(self) -> dict[str, Any]:
        return {"enum": list(self.options)}


@dataclass(frozen=True, slots=True, kw_only=True)
class Words(Parameter[str]):
    """A line of text; `empty`: whether it may say nothing."""

    empty: bool = False

    def take(self, value: Any) -> str:
        if not isinstance(value, str):
            raise self.wrong(f"a line of text is asked for, not {value!r}")
        said = " ".join(value.split())
        if not said and not self.empty:
            raise self.wrong("something must be said")
        return said

    def schema(self) -> dict[str, Any]:
        return {"type": "string"} if self.empty else {"type": "string", "minLength": 1}


@dataclass(frozen=True, slots=True, kw_only=True)
class Flag(Parameter[bool]):
    """Yes or no."""

    shown: ClassVar[Shown] = "flag"
    metavar: ClassVar[str] = "yes|no"

    def take(self, value: Any) -> bool:
        if isinstance(value, str) and value.strip().lower() in ("yes", "no"):
            return value.strip().lower() == "yes"
        if not isinstance(value, bool):
            raise self.wrong(f"it is yes or no, not {value!r}")
        return value

    def text(self, value: bool) -> str:
        return "yes" if value else "no"

    def schema(self) -> dict[str, Any]:
        return {"type": "boolean"}
