"""What a card of the Docket says."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.measures import face_area, face_sides, face_width
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.surfaces import Plane

#: stops: no mesh without doing something; costs: many small elements; note: good to know.
Severity = Literal["stops", "costs", "note"]


#: What of a finding an offer takes; beside: its faces and the neighbour that each goes on into most smoothly.
#: lines: the edges of all findings that are told together; edges are those of one.
#: bodies: those of all findings that are told together; body is that of one.
#: setback: how far what blunts an edge stands back from it.
#: pair: the body and the other; reach: a little more than how far these are apart.
#: smaller, larger: of two plane faces the one with less area, and the other.
Source = Literal[
    "faces", "edges", "lines", "body", "bodies", "other", "pair", "reach", "setback", "beside", "smaller", "larger"
]

#: What is taken of every finding that is told together; of the others that of the first.
OF_ALL: tuple[Source, ...] = ("faces", "lines", "beside", "bodies")


@dataclass(frozen=True, slots=True)
class Offer:
    """An operation that a card offers: its name, and which of its parameters takes what of the finding."""

    operation: str
    takes: tuple[tuple[str, Source], ...] = (("faces", "faces"),)
    #: It gives up something of the shape: for a person to decide.
    by_hand: bool = False
    #: What its button says, where that is not the operation's own name.
    word: str = ""

    @property
    def of_all(self) -> bool:
        """Whether it takes what all findings of a card are about, not that of the first alone."""
        return all(source in OF_ALL for _, source in self.takes)

    def __str__(self) -> str:
        return self.operation


CLEAR, DROP, MERGE, CLOSE, SEW, REPLACE = map(Offer, ("clear", "drop", "merge", "close", "sew", "replace"))
CLEAN = Offer("clean-triangles", (("bodies", "bodies"),))
NEEDLES = Offer("take-out-needles", (("bodies", "bodies"),), word="Take out")
PATCH = Offer("patch-over", (("edges", "edges"), ("instead", "faces")), word="Patch over")
PATCH_EDGES = Offer("patch-over", (("edges", "edges"),), word="Patch over")
#: A body that is nothing but skin; and one that may be meant, as one far smaller than the others.
DROP_BODY = Offer("drop-bodies", (("bodies", "bodies"),), word="Drop")
DROP_CRUMB = replace(DROP_BODY, by_hand=True)
TURN = Offer("turn-outwards", (("bodies", "bodies"),), word="Turn outwards")
PART = Offer("part", (("first", "body"), ("second", "other")))
#: Two bodies that stand apart by a little are brought together and share what they have in common then.
BRING = Offer("bond", (("bodies", "pair"), ("gap", "reach")), by_hand=True, word="Bring together")
#: The sides of a slot brought together: what is between them is filled.
FILL = Offer("run-to", (("face", "smaller"), ("target", "larger")), by_hand=True, word="Fill")
#: Edges where faces come together at next to no angle, made flat or filled.
BLUNT = Offer("bevel", (("edges", "lines"), ("setback", "setback")), word="Blunt")
FILL_CUT = replace(BLUNT, word="Fill")
#: Faces that are narrow in the mesh only: followed as one with what they go on into most smoothly.
DRAPE = Offer("drape", (("faces", "beside"),))
#: Edges that trouble the mesh only: it goes over them.
PASS = Offer("drape", (("edges", "lines"),))
#: Short edges, whose ends the mesh draws together.
DRAW = replace(PASS, by_hand=True)


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
    #: What cures it where the remedy is refused, the better first.
    instead: tuple[Offer, ...] = ()
    #: Of a body of triangles: told together with all that has the same cause, wherever and however large.
    by_cause: bool = False

    #: How far (mm) what blunts its edges stands back from them; 0 where nothing does.
    setback: float = 0.0

    @property
    def offer(self) -> Offer | None:
        """The operation that it offers, where what that takes is there."""
        return next(iter(self.offers), None)

    @property
    def offers(self) -> list[Offer]:
        """The operations that it offers one after another, where what they take is there."""
        every = [o for o in (self.remedy, *self.instead) if not isinstance(o, str)]
        return [o for o in every if all(self.given(source) for _, source in o.takes)]

    @property
    def advice(self) -> str:
        """What a person can do, where no operation is offered."""
        return self.remedy if isinstance(self.remedy, str) else ""

    def given(self, source: Source) -> list[Any]:
        """What an offer takes from the finding."""
        if source == "beside":
            return _with_neighbours(self.body, self.faces)
        if source in ("smaller", "larger"):
            pair = len(self.faces) == 2 and all(isinstance(f.surface, Plane) for f in self.faces)
            return [sorted(self.faces, key=face_area)[source == "larger"]] if pair else []
        if source in ("faces", "edges", "lines"):
            return list(self.faces if source == "faces" else self.edges)
        if source == "setback":
            return [self.setback] if self.setback > 0.0 else []
        found = {"other": (self.other,), "pair": (self.body, self.other)}.get(source, (self.body,))
        return [body for body in found if body is not None]

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


def _with_neighbours(body: Body, faces: Sequence[Face]) -> list[Face]:
    """Faces, and for each the neighbour over the edge at which least of the solid is given up when the two are meshed
    as one; none where they have no neighbour of the same name."""

    def wedge(edge: Edge) -> float:
        own = adj.across(face, edge)
        return face_width(own) * round(abs(float(np.sin(0.5 * adj.angle(edge)))), 3) * edge.length

    adj, out = adjacency(body), list(faces)
    for face in faces:
        over = [e for e in face.edges() if len(adj.uses.get(e, ())) == 2]
        over = [e for e in over if adj.across(face, e) is not face and adj.across(face, e).label == face.label]
        # Joined over an end, a strip would be as narrow as before.
        sides = set(face_sides(face))
        over = [e for e in over if e in sides] or over
        if not over:
            return []
        edge = min(over, key=lambda e: (wedge(e), -e.length))
        out.append(adj.across(face, edge))
    return list(dict.fromkeys(out))


def xyz(point: Any) -> tuple[float, float, float]:
    return (float(point[0]), float(point[1]), float(point[2]))


def share(length: float, size: float) -> str:
    """A length in words of the element size: '0.31 of an element', '2.4 elements'."""
    ratio = length / size
    return f"{ratio:.2g} of an element" if ratio < 1.0 else f"{ratio:.2g} elements"
