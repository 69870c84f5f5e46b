"""What an operation is told to work on: things chosen by a question, by marks, or live as the very objects.

Live, a choice is the objects themselves: nothing else can be meant. Recorded, it is a question, or marks that find the
objects again (`fingerprints.py`) or are Unresolved.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal, get_args

from lithon.brep.analysis.twins import on_twins
from lithon.brep.topology import Body, Edge, Face, Model, Vertex
from lithon.errors import BadFile, Unresolved
from lithon.operations.fingerprints import (
    Fingerprint,
    body_mark,
    edge_mark,
    fingerprint,
    resolve,
    resolve_bodies,
    resolve_edges,
    resolve_vertices,
    vertex_mark,
)
from lithon.operations.questions import ask, parse

Kind = Literal["faces", "edges", "vertices", "bodies"]
Entity = Face | Edge | Vertex | Body
KINDS: tuple[Kind, ...] = get_args(Kind)
TYPES: dict[Kind, type[Entity]] = {"faces": Face, "edges": Edge, "vertices": Vertex, "bodies": Body}
#: One of each, in words.
ONE: dict[Kind, str] = {"faces": "face", "edges": "edge", "vertices": "vertex", "bodies": "body"}


@dataclass(frozen=True, slots=True)
class Choice:
    """Things of one kind, by a question or one by one; `twins`: and what lies alike on the twins of their bodies."""

    of: Kind
    question: str = ""
    marks: tuple[Fingerprint | str, ...] = ()
    twins: bool = False
    #: The very objects, while they are at hand. They are not written, and count for nothing where a question is asked.
    live: tuple[Entity, ...] = field(default=(), compare=False)

    @property
    def empty(self) -> bool:
        return not (self.question or self.marks or self.live)

    def on(self, model: Model) -> list[Any]:
        """What is meant on this model. Raises Unresolved where it is not there."""
        if self.question:
            return self._asked(model)
        found: list[Any] = list(self.live) if self.live and self._all_there(model) else self._marked(model)
        return on_twins(model, found) if self.twins and self.of == "faces" else found

    def recorded(self, model: Model) -> Choice:
        """The same with marks for what is there live, so that it can be written."""
        if self.question or not self.live or (self.marks and len(self.marks) == len(self.live)):
            return self
        return replace(self, marks=tuple(_mark(model, x) for x in self.live))

    def as_json(self) -> dict[str, Any]:
        if self.question:
            return {"question": self.question}
        if self.live and not self.marks:
            raise ValueError("what is chosen live must be recorded on its model before it can be written")
        return {self.of: list(self.marks), **({"twins": True} if self.twins else {})}

    @staticmethod
    def from_json(data: Any, of: Kind) -> Choice:
        """Raises BadFile where the data is no choice of this kind."""
        if isinstance(data, str):
            return Choice.asking(of, data)
        if not isinstance(data, dict):
            raise BadFile(f"a choice of {of} is a question or a list of marks, not {data!r}")
        if "question" in data:
            return Choice.asking(of, str(data["question"]))
        marks = data.get(of)
        if not isinstance(marks, list) or not all(isinstance(m, dict | str) for m in marks):
            raise BadFile(f"a choice of {of} has a list of marks under {of!r}")
        return Choice(of, marks=tuple(marks), twins=bool(data.get("twins")))

    @staticmethod
    def asking(of: Kind, question: str) -> Choice:
        """By a question, which is looked at now. Raises NotAQuestion."""
        parse(question)
        return Choice(of, question.strip())

    @staticmethod
    def made(of: Kind, value: Any) -> Choice:
        """Of whatever a script hands over: a question, an entity, several, a feature, another choice."""
        if isinstance(value, Choice):
            if value.of != of:
                raise BadFile(f"{of} are asked for here, not {value.of}")
            return value
        if isinstance(value, str):
            return Choice.asking(of, value)
        if isinstance(value, dict):
            return Choice.from_json(value, of)
        if of == "bodies" and isinstance(value, list | tuple) and value and all(isinstance(x, str) for x in value):
            return Choice(of, marks=tuple(value))
        items: Iterable[Any] = (value,) if isinstance(value, Face | Edge | Vertex | Body) else getattr(value, of, value)
        if not isinstance(items, Iterable):
            raise BadFile(f"{of} are asked for here, not {value!r}")
        live = tuple(dict.fromkeys(items))
        if any(not isinstance(x, TYPES[of]) for x in live):
            raise BadFile(f"{of} are asked for here, not {', '.join(sorted({type(x).__name__ for x in live}))}")
        return Choice(of, live=live)

    # ---- what is meant

    def _asked(self, model: Model) -> list[Any]:
        answer = ask(model, self.question)
        found: Sequence[Any] = getattr(answer, self.of, ())
        if self.of == "bodies" and not answer.bodies:
            found = tuple(dict.fromkeys(b for f in answer.faces for b in model.owners(f)))
        if not found:
            raise Unresolved(f"'{self.question}' finds nothing on this model" if not answer.items else
                             f"'{self.question}' finds no {self.of}")  # fmt: skip
        return list(found)

    def _all_there(self, model: Model) -> bool:
        return all(is_there(model, x) for x in self.live)

    def _marked(self, model: Model) -> list[Any]:
        if not self.marks:
            raise Unresolved(f"the chosen {self.of} are not on this model", remedy="choose them again on this model")
        marks: list[Any] = list(self.marks)
        if self.of == "bodies":
            return list(resolve_bodies(model, marks))
        if not all(isinstance(m, dict) for m in marks):
            raise BadFile(f"a recorded {ONE[self.of]} is not well formed")
        if self.of == "faces":
            return list(resolve(model, marks))
        return list(resolve_edges(model, marks) if self.of == "edges" else resolve_vertices(model, marks))


def is_there(model: Model, entity: Entity) -> bool:
    """Whether a model has this very thing."""
    if isinstance(entity, Body):
        return any(body is entity for body in model.bodies)
    if isinstance(entity, Face):
        return bool(model.owners(entity))
    if isinstance(entity, Edge):
        return any(entity in body.edges() for body in model.bodies)
    return any(entity in body.vertices() for body in model.bodies)


def _mark(model: Model, entity: Entity) -> Fingerprint:
    if isinstance(entity, Body):
        return body_mark(model, entity)
    if isinstance(entity, Face):
        return fingerprint(model, entity)
    return edge_mark(entity) if isinstance(entity, Edge) else vertex_mark(entity)


def of_entities(entities: Iterable[Entity]) -> dict[Kind, list[Entity]]:
    """Things by their kind."""
    out: dict[Kind, list[Entity]] = {kind: [] for kind in KINDS}
    for x in entities:
        out[next(kind for kind, made in TYPES.items() if isinstance(x, made))].append(x)
    return out
