"""What a card of the Docket says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from lithon.brep.topology import Body, Edge, Face

#: stops: no mesh without doing something; costs: many small elements; note: good to know.
Severity = Literal["stops", "costs", "note"]


@dataclass(frozen=True, slots=True, eq=False)
class Finding:
    """One card of the Docket. Lengths in mm."""

    kind: str
    severity: Severity
    size: float
    place: tuple[float, float, float]
    text: str
    consequence: str
    remedy: str
    body: Body
    faces: Sequence[Face] = ()
    edges: Sequence[Edge] = ()
    #: Which station the card belongs to.
    station: str = "trim"
    #: Why it should rather be kept, where there is a reason.
    keep: str = ""
    #: The other body, where it is about two.
    other: Body | None = None

    def as_json(self) -> dict[str, Any]:
        return {
            "kind": self.kind,
            "severity": self.severity,
            "size_mm": self.size,
            "place_mm": list(self.place),
            "text": self.text,
            "remedy": self.remedy,
            "body": self.body.name,
        }


def xyz(point: Any) -> tuple[float, float, float]:
    return (float(point[0]), float(point[1]), float(point[2]))


def share(length: float, size: float) -> str:
    """A length in words of the element size: '0.31 of an element', '2.4 elements'."""
    ratio = length / size
    return f"{ratio:.2g} of an element" if ratio < 1.0 else f"{ratio:.2g} elements"
