"""What a card of the Docket says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

from lithon.brep.topology import Body, Edge, Face

#: stops: no mesh without doing something; costs: many small elements; note: good to know.
Severity = Literal["stops", "costs", "note"]


@dataclass(frozen=True, slots=True)
class Offer:
    """An operation that a card offers: its name, and which of its parameters takes what of the finding."""

    operation: str
    takes: tuple[tuple[str, Literal["faces", "edges", "body", "other"]], ...] = (("faces", "faces"),)

    def __str__(self) -> str:
        return self.operation


CLEAR, DROP, MERGE, CLOSE, SEW, REPLACE = map(Offer, ("clear", "drop", "merge", "close", "sew", "replace"))
PATCH = Offer("patch-over", (("edges", "edges"), ("instead", "faces")))
PATCH_EDGES = Offer("patch-over", (("edges", "edges"),))
PART = Offer("part", (("first", "body"), ("second", "other")))


@dataclass(frozen=True, slots=True, eq=False)
class Finding:
    """One card of the Docket. Lengths in mm. remedy: an operation, or advice in words where a person must judge."""

    kind: str
    severity: Severity
    size: float
    place: tuple[float, float, float]
    text: str
    consequence: str
    remedy: Offer | str
    body: Body
    faces: Sequence[Face] = ()
    edges: Sequence[Edge] = ()
    #: Which station the card belongs to.
    station: str = "trim"
    #: Why it should rather be kept, where there is a reason.
    keep: str = ""
    #: The other body, where it is about two.
    other: Body | None = None

    @property
    def offer(self) -> Offer | None:
        """The operation that it offers, where what that takes is there."""
        offer = self.remedy
        if isinstance(offer, str) or any(not self.given(source) for _, source in offer.takes):
            return None
        return offer

    @property
    def advice(self) -> str:
        """What a person can do, where no operation is offered."""
        return self.remedy if isinstance(self.remedy, str) else ""

    def given(self, source: Literal["faces", "edges", "body", "other"]) -> list[Any]:
        """What an offer takes from the finding."""
        if source in ("faces", "edges"):
            return list(self.faces if source == "faces" else self.edges)
        found = self.body if source == "body" else self.other
        return [found] if found is not None else []

    def as_json(self) -> dict[str, Any]:
        return {
            "kind": self.kind,
            "severity": self.severity,
            "size_mm": self.size,
            "place_mm": list(self.place),
            "text": self.text,
            "remedy": str(self.remedy),
            "body": self.body.name,
        }


def xyz(point: Any) -> tuple[float, float, float]:
    return (float(point[0]), float(point[1]), float(point[2]))


def share(length: float, size: float) -> str:
    """A length in words of the element size: '0.31 of an element', '2.4 elements'."""
    ratio = length / size
    return f"{ratio:.2g} of an element" if ratio < 1.0 else f"{ratio:.2g} elements"
