"""The selection language: `holes where diameter <= 4 mm and depth < 20 mm in "plate"`, `edges along z where x > 3`.

question = nouns [along axis] [named "name"] [reach] [where condition {and condition}] [in "body name"]
reach = from point up to (faces | edges) point {point}; point = (x, y, z)
condition = measure (< | <= | > | >= | =) number [mm | mm2 | mm3]
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
from lark import Lark, Token, Transformer, UnexpectedInput

from lithon.brep.measures import face_area, face_centroid, face_width, volume
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.errors import LithonError
from lithon.operations.reach import Reach
from lithon.survey.families import FAMILIES, families
from lithon.survey.features import Feature, Kind, features

_GRAMMAR = r"""
start: NOUN [along] [named] [reach] ["where" condition ("and" condition)*] [inside]
along: "along" AXIS
named: "named" STRING
reach: "from" point "up" "to" FENCE point+
point: "(" NUMBER "," NUMBER "," NUMBER ")"
inside: "in" STRING
condition: MEASURE OP NUMBER UNIT?
AXIS: /[xyz]/
FENCE.2: /faces|edges/
NOUN: "faces" | "planes" | "cylinders" | "cones" | "spheres" | "tori"
    | "edges" | "holes" | "fillets" | "chamfers" | "pockets" | "windows" | "bosses"
    | "slots" | "ribs" | "words" | "threads" | "teeth"
    | "bodies"
MEASURE: "pitch" | "height" | "diameter" | "radius" | "length" | "area" | "width" | "depth" | "volume" | "x" | "y" | "z"
OP: "<=" | ">=" | "<" | ">" | "="
UNIT: /mm[23²³]?/
%import common.SIGNED_NUMBER -> NUMBER
%import common.ESCAPED_STRING -> STRING
%import common.WS
%ignore WS
"""

_OPS: dict[str, Callable[[float, float], bool]] = {
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b + 1e-9 * max(1.0, abs(b)),
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b - 1e-9 * max(1.0, abs(b)),
    "=": lambda a, b: abs(a - b) <= 1e-6 * max(1.0, abs(b)),
}


def _radius(face: Face) -> float:
    return float(getattr(face.surface, "radius", np.nan))


def _place(k: int) -> Callable[[Any], float]:
    """Where the middle of a face or edge is along an axis, mm."""

    def at(thing: Any) -> float:
        middle = face_centroid(thing) if isinstance(thing, Face) else thing.at(0.5)
        return float(middle[k])

    return at


_PLACES: dict[str, Callable[[Any], float]] = {name: _place(k) for k, name in enumerate("xyz")}
_SURFACES = {"planes": "plane", "cylinders": "cylinder", "cones": "cone", "spheres": "sphere", "tori": "torus"}
_MEASURES: dict[str, dict[str, Callable[[Any], float]]] = {
    "holes": {"diameter": lambda f: f.size, "radius": lambda f: 0.5 * f.size, "depth": lambda f: f.depth},
    "chamfers": {"width": lambda f: f.size, "length": lambda f: f.depth},
    "fillets": {"radius": lambda f: f.size, "length": lambda f: f.depth},
    "pockets": {"width": lambda f: f.size, "depth": lambda f: f.depth},
    "windows": {"width": lambda f: f.size, "depth": lambda f: f.depth},
    "bosses": {"width": lambda f: f.size, "depth": lambda f: f.depth},
    "slots": {"width": lambda f: f.size, "depth": lambda f: f.depth},
    "ribs": {"width": lambda f: f.size, "height": lambda f: f.depth},
    "words": {"height": lambda f: f.size, "depth": lambda f: f.depth},
    "threads": {"pitch": lambda f: f.size, "length": lambda f: f.depth},
    "teeth": {"width": lambda f: f.size, "height": lambda f: f.depth},
    "faces": {"area": face_area, "width": face_width, **_PLACES},
    "planes": {"area": face_area, "width": face_width, **_PLACES},
    "cylinders": {"radius": _radius, "diameter": lambda f: 2.0 * _radius(f), "area": face_area, **_PLACES},
    "cones": {"area": face_area, **_PLACES},
    "spheres": {"radius": _radius, "diameter": lambda f: 2.0 * _radius(f), "area": face_area, **_PLACES},
    "tori": {"radius": lambda f: float(f.surface.minor), "area": face_area, **_PLACES},
    "edges": {"length": lambda e: e.length, **_PLACES},
    "bodies": {"volume": volume},
}
#: The kinds of features, by their nouns.
FEATURES: dict[str, Kind] = {
    "holes": "hole", "fillets": "fillet", "chamfers": "chamfer", "pockets": "pocket", "windows": "window",
    "bosses": "boss", "slots": "slot", "ribs": "rib", "words": "word", "threads": "thread", "teeth": "teeth",
}  # fmt: skip


class NotAQuestion(LithonError):
    """The text does not follow the selection language."""


@dataclass(frozen=True, slots=True)
class Question:
    noun: str
    conditions: tuple[tuple[str, str, float], ...]
    body: str | None
    along: int | None = None
    name: str | None = None
    reach: Reach | None = None


@dataclass(frozen=True, slots=True, eq=False)
class Answer:
    """What a question finds: `items` counts features, faces, edges or bodies."""

    items: int
    faces: tuple[Face, ...]
    edges: tuple[Edge, ...]
    bodies: tuple[Body, ...]


class _Build(Transformer[Token, Any]):
    def condition(self, parts: list[Any]) -> tuple[str, str, float]:
        return str(parts[0]), str(parts[1]), float(parts[2])

    def along(self, parts: list[Any]) -> dict[str, Any]:
        return {"along": "xyz".index(str(parts[0]))}

    def named(self, parts: list[Any]) -> dict[str, Any]:
        return {"name": str(parts[0])[1:-1]}

    def point(self, parts: list[Any]) -> list[float]:
        return [float(p) for p in parts]

    def reach(self, parts: list[Any]) -> dict[str, Any]:
        seed, fence, *points = parts
        kind: Any = str(fence)
        return {"reach": Reach(tuple(seed), kind, tuple(tuple(p) for p in points))}

    def inside(self, parts: list[Any]) -> dict[str, Any]:
        return {"body": str(parts[0])[1:-1]}

    def start(self, parts: list[Any]) -> Question:
        more: dict[str, Any] = {"body": None}
        for part in parts[1:]:
            if isinstance(part, dict):
                more |= part
        return Question(str(parts[0]), tuple(p for p in parts[1:] if isinstance(p, tuple)), **more)


@lru_cache(maxsize=1)
def _parser() -> Lark:
    return Lark(_GRAMMAR, parser="lalr")


def parse(text: str) -> Question:
    """Raises NotAQuestion saying where the text goes wrong and what could stand there."""
    try:
        question = _Build().transform(_parser().parse(text.strip()))
    except UnexpectedInput as error:
        raise NotAQuestion(
            f"'{text.strip()}' is not understood from place {getattr(error, 'column', 1)} on",
            remedy="for example: holes where diameter <= 4 mm",
        ) from error
    assert isinstance(question, Question)
    if question.along is not None and question.noun not in ("edges", "planes", "cylinders"):
        raise NotAQuestion(f"{question.noun} run along no axis", remedy="edges, planes or cylinders do")
    if question.name is not None and question.noun not in ("faces", *_SURFACES):
        raise NotAQuestion(f"{question.noun} have no names", remedy="faces do")
    if question.reach is not None and question.noun not in ("faces", *_SURFACES):
        raise NotAQuestion(f"{question.noun} are not walked from one to the next", remedy="faces are")
    for measure, _, _ in question.conditions:
        if measure not in _MEASURES[question.noun]:
            raise NotAQuestion(
                f"{question.noun} have no {measure}", remedy=", ".join(_MEASURES[question.noun]) + " instead"
            )
    return question


def next_words(text: str) -> list[str]:
    """Words that may stand where a question breaks off, for completion."""
    words = text.split()
    done = words if text.endswith(" ") or not text else words[:-1]
    if not done:
        return list(_MEASURES)
    noun, last = done[0], done[-1]
    measures = list(_MEASURES.get(noun, {}))
    if last in ("where", "and"):
        return measures
    if last in measures:
        return list(_OPS)
    if len(done) == 1:
        return ["where"] if noun in _MEASURES else []
    return ["mm", "and"] if last not in _OPS else []


def _is(face: Face, q: Question) -> bool:
    """Whether a face is of the kind, name and direction that are asked for."""
    if q.noun in _SURFACES and face.surface.kind != _SURFACES[q.noun]:
        return False
    if q.name is not None and face.label != q.name:
        return False
    return q.along is None or abs(abs(float(face.surface.frame.z[q.along])) - 1.0) < 1e-6


def _runs(edge: Edge, along: int | None) -> bool:
    """Whether an edge is straight and runs along an axis."""
    if along is None:
        return True
    return edge.curve.kind == "line" and abs(abs(float(edge.direction(0.5)[along])) - 1.0) < 1e-6


def ask(model: Model, text: str) -> Answer:
    """Evaluate a question on a model."""
    q = parse(text)
    bodies = [b for b in model.bodies if q.body is None or b.name == q.body]

    def passes(item: Any) -> bool:
        return all(_OPS[op](_MEASURES[q.noun][m](item), value) for m, op, value in q.conditions)

    if q.noun in FEATURES:
        kind = FEATURES[q.noun]
        every_one = (f for b in bodies for f in (families(b, kind) if kind in FAMILIES else features(b)))
        hits: list[Feature] = [f for f in every_one if f.kind == kind and passes(f)]
        return Answer(len(hits), tuple(dict.fromkeys(x for f in hits for x in f.faces)), (), ())
    if q.noun == "faces" or q.noun in _SURFACES:
        among = set(q.reach.faces(model)) if q.reach is not None else None
        every = (f for b in bodies for f in b.faces if among is None or f in among)
        faces = tuple(dict.fromkeys(f for f in every if _is(f, q) and passes(f)))
        return Answer(len(faces), faces, (), ())
    if q.noun == "edges":
        edges = tuple(dict.fromkeys(e for b in bodies for e in b.edges() if _runs(e, q.along) and passes(e)))
        return Answer(len(edges), (), edges, ())
    chosen = tuple(b for b in bodies if passes(b))
    return Answer(len(chosen), tuple(dict.fromkeys(f for b in chosen for f in b.faces)), (), chosen)
