"""Lines drawn by hand over a body, and the parameter that asks for one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Model
from lithon.errors import BadFile, LithonError
from lithon.operations.parameters import Parameter, Shown
from lithon.operations.places import Triple, triple
from lithon.operations.references import NO_REFERENCES, References


@dataclass(frozen=True, slots=True)
class Stroke:
    """Places along a line, in order."""

    points: tuple[Triple, ...]

    @staticmethod
    def of(points: Sequence[Sequence[float]]) -> Stroke:
        """Raises BadFile where they are fewer than two, or no points."""
        made = tuple(triple(p) for p in points)
        if len(made) < 2:
            raise BadFile("a line has two points or more")
        return Stroke(made)

    @staticmethod
    def parse(text: str) -> Stroke:
        """Of points with a semicolon between. Raises BadFile."""
        try:
            return Stroke.of([[float(x) for x in part.replace(",", " ").split()] for part in text.split(";")])
        except ValueError as error:
            raise BadFile(f"a line is written as 0 0 5; 1 0 5, not {text!r}") from error

    def text(self) -> str:
        return "; ".join(" ".join(map(repr, p)) for p in self.points)


@dataclass(frozen=True, slots=True, kw_only=True)
class Over(Parameter[Stroke | None]):
    """A line drawn over a body."""

    shown: ClassVar[Shown] = "stroke"
    metavar: ClassVar[str] = "LINE"

    def take(self, value: Any) -> Stroke | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            if self.optional:
                return self.default
            raise self.wrong("a line is needed")
        if isinstance(value, Stroke):
            return value
        try:
            return Stroke.parse(value) if isinstance(value, str) else Stroke.of(value)
        except (LithonError, TypeError) as error:
            raise self.wrong(error.what if isinstance(error, LithonError) else f"{value!r} is no line") from error

    def encode(self, value: Stroke | None) -> Any:
        return None if value is None else [list(p) for p in value.points]

    def text(self, value: Stroke | None) -> str:
        return "" if value is None else value.text()

    def on(self, value: Stroke | None, model: Model, references: References = NO_REFERENCES) -> Floats | None:
        return None if value is None else np.array(value.points)

    def schema(self) -> dict[str, Any]:
        return {"type": ["array", "null"] if self.optional else "array"}
