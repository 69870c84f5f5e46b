"""What an operation is: a frozen value with declared parameters, and what it does to a model."""

from __future__ import annotations

import dataclasses
import shlex
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import TYPE_CHECKING, Any, ClassVar, Literal, Self

from lithon.brep.topology import Body, Edge, Face, Model, Vertex
from lithon.errors import BadFile, LithonError, Refusal
from lithon.geometry.surfaces import Surface
from lithon.mesh.mesh import Mesh
from lithon.operations.choices import KINDS, Choice, Kind, of_entities
from lithon.operations.marks import Marks
from lithon.operations.parameters import Parameter, Things
from lithon.operations.references import References
from lithon.operations.state import Settings, State
from lithon.progress import Progress

#: own: the engine has looked at each way through `brep/gate.py`; no worse: the result is looked at here; unchanged: the
#: operation says something of the model and leaves it as it is.
Gate = Literal["own", "no worse", "unchanged"]


@dataclass(frozen=True, slots=True)
class Chosen:
    """What is in hand: what an operation may be made of. Points (3,) that were clicked, too."""

    model: Model
    faces: tuple[Face, ...] = ()
    edges: tuple[Edge, ...] = ()
    vertices: tuple[Vertex, ...] = ()
    bodies: tuple[Body, ...] = ()
    points: tuple[tuple[float, float, float], ...] = ()
    size: float = 1.0
    marks: Marks = field(default_factory=Marks)

    def of(self, kind: Kind) -> tuple[Any, ...]:
        """What of this kind is chosen; the bodies of chosen faces where no body is."""
        if kind == "bodies" and not self.bodies:
            faces = set(self.faces)
            return tuple(b for b in self.model.bodies if any(b.use_of(f) is not None for f in faces))
        return tuple(getattr(self, kind))


@dataclass(frozen=True, slots=True)
class Made:
    """What an operation has made: the model, words for the Ledger, how many ways there are, lines of detail; marks,
    settings and references where it has changed them; a mesh where it has made one."""

    model: Model
    words: str
    solutions: int = 1
    details: Sequence[dict[str, Any]] = ()
    marks: Marks | None = None
    settings: Settings | None = None
    mesh: Mesh | None = None
    references: References | None = None
    #: Edges that say what it is about, where it changes no model: drawn while it is proposed.
    shown: Sequence[Edge] = ()


@dataclass(frozen=True, slots=True)
class Bench:
    """What an operation works on: the state, its parameters as they are on this model, and whom to tell."""

    state: State
    given: Mapping[str, Any]
    progress: Progress

    @property
    def model(self) -> Model:
        return self.state.model

    @property
    def tolerance(self) -> float:
        return self.state.model.tolerance

    def faces(self, name: str = "faces") -> list[Face]:
        return list(self.given[name])

    def edges(self, name: str = "edges") -> list[Edge]:
        return list(self.given[name])

    def bodies(self, name: str = "bodies") -> list[Body]:
        """The bodies of a parameter; all solids where it was left out, or all sheets where there are no others."""
        return list(self.given[name]) or [b for b in self.model.bodies if not b.sheet] or list(self.model.bodies)

    def body(self, name: str = "body") -> Body:
        found: Body = self.given[name][0]
        return found

    def surface(self, name: str = "cut") -> Surface:
        found: Surface = self.given[name]
        return found

    def by_body(self, faces: Sequence[Face]) -> list[tuple[Body, list[Face]]]:
        """Faces by the bodies that they bound, in the model's order."""
        out = []
        for body in self.model.bodies:
            own = [f for f in faces if body.use_of(f) is not None]
            if own:
                out.append((body, own))
        return out

    def edges_by_body(self, edges: Sequence[Edge]) -> list[tuple[Body, list[Edge]]]:
        """Edges by the bodies that have them, in the model's order."""
        every = set(edges)
        owned = ((body, [e for e in body.edges() if e in every]) for body in self.model.bodies)
        return [(body, own) for body, own in owned if own]


def param(parameter: Parameter[Any]) -> Any:
    """A field of an operation."""
    meta = {"parameter": parameter}
    if parameter.optional or parameter.default is not None:
        return field(default=parameter.default, metadata=meta)
    return field(metadata=meta)


class Operation:
    """Base of all operations. A subclass is a frozen dataclass by itself; its fields are made by `param`."""

    #: What becomes of faces that two bodies share: the words of the refusal, or none where they may be among those
    #: that the operation is about.
    unbonded: ClassVar[str] = ""
    gate: ClassVar[Gate] = "no worse"
    #: Whether it is run again when a project is opened; what changes no model and takes its time is not.
    replayed: ClassVar[bool] = True
    #: Whether it is taken as soon as it is there: what has nothing to weigh first.
    at_once: ClassVar[bool] = False
    #: How long (s) a search of it may take at most.
    budget: ClassVar[float] = 60.0
    #: Whether it changes the shape a little where what mends a skin does not: then its volume counts as well.
    shapes: ClassVar[bool] = False
    #: Whether it works on sheets too; most work on solids.
    on_sheets: ClassVar[bool] = False
    #: The number that an arrow in the view stands for.
    dragged: ClassVar[str] = ""
    #: As it is known in files and scripts; the table says.
    name: ClassVar[str] = ""

    if TYPE_CHECKING:
        # Whatever `take` of its parameters understands; the stub of `lithon.do` says it for each.
        def __init__(self, *values: Any, **more: Any) -> None: ...

    def __init_subclass__(cls) -> None:
        dataclass(frozen=True)(cls)

    def __post_init__(self) -> None:
        for key, parameter in self.parameters().items():
            object.__setattr__(self, key, parameter.take(getattr(self, key)))

    # ---- its parameters

    @classmethod
    @cache
    def parameters(cls) -> Mapping[str, Parameter[Any]]:
        """What it asks for, by name, in order."""
        return {f.name: f.metadata["parameter"] for f in dataclasses.fields(cls)}  # type: ignore[arg-type]

    def with_(self, **values: Any) -> Self:
        """The same with some parameters changed. Raises BadFile where a value does not fit."""
        unknown = values.keys() - self.parameters().keys()
        if unknown:
            raise BadFile(f"{self.name} has no {', '.join(sorted(unknown))}")
        return dataclasses.replace(self, **values)  # type: ignore[type-var]

    def recorded(self, model: Model) -> Self:
        """The same with marks for what it holds live, so that it can be written."""
        values = {key: p.recorded(getattr(self, key), model) for key, p in self.parameters().items()}
        if all(value is getattr(self, key) for key, value in values.items()):
            return self
        return self.with_(**values)

    def as_json(self) -> dict[str, Any]:
        """As plain data: its name under 'do', and each parameter that is not as it is when left out."""
        out: dict[str, Any] = {"do": self.name}
        for key, p in self.parameters().items():
            value = getattr(self, key)
            told = p.encode(value)
            if not (p.optional and (told is None or value == p.default)):
                out[key] = told
        return out

    @classmethod
    def from_json(cls, data: Mapping[str, Any]) -> Self:
        """Raises BadFile, saying which parameter is wrong and why."""
        parameters = cls.parameters()
        unknown = [key for key in data if key != "do" and key not in parameters]
        if unknown:
            raise BadFile(f"{cls.name} has no {', '.join(map(repr, unknown))}")
        values = {}
        for key, p in parameters.items():
            if key in data:
                values[key] = p.decode(data[key])
            elif p.default is None and not p.optional:
                raise BadFile(f"{cls.name} needs {key} ({p.title})")
        return cls(**values)

    def text(self) -> str:
        """As it may be typed: its name, and name=value for each parameter that is not as it is when left out."""
        told = self.as_json()
        words = [f"{key}={p.text(getattr(self, key))}" for key, p in self.parameters().items() if key in told]
        return shlex.join([self.name, *words])

    @classmethod
    def from_text(cls, words: Sequence[str]) -> Self:
        """Of the words after the name, as name=value. Raises BadFile."""
        values: dict[str, Any] = {}
        parameters = cls.parameters()
        for word in words:
            key, equals, value = word.partition("=")
            if not equals or key not in parameters:
                raise BadFile(f"{cls.name} has {', '.join(parameters) or 'no parameters'}; {word!r} says none of them")
            values[key] = parameters[key].parse(value)
        for key, p in parameters.items():
            if key not in values and p.default is None and not p.optional:
                raise BadFile(f"{cls.name} needs {key} ({p.title})")
        return cls(**values)

    @classmethod
    def schema(cls) -> dict[str, Any]:
        """JSON schema of the plain data."""
        parameters = cls.parameters()
        needed = [key for key, p in parameters.items() if p.default is None and not p.optional]
        return {
            "type": "object",
            "properties": {"do": {"const": cls.name}, **{key: p.schema() for key, p in parameters.items()}},
            "required": ["do", *needed],
            "additionalProperties": False,
        }

    def on_twins(self, also: bool) -> Self:
        """The same done to the twins of its bodies too, or not; for faces that were chosen one by one."""
        out = {
            key: dataclasses.replace(value, twins=also and not value.question)
            for key, p in self.parameters().items()
            if isinstance(p, Things) and p.of == "faces" and not (value := getattr(self, key)).empty
        }
        return self.with_(**out)

    @property
    def for_twins(self) -> bool:
        """Whether it is done to the twins too."""
        return any(isinstance(v := getattr(self, key), Choice) and v.twins for key in self.parameters())

    # ---- what it works on

    @classmethod
    def taken(cls, chosen: Chosen) -> dict[str, Any] | None:
        """What the parameters that ask for things take of what is in hand; None where they need more, or where
        something is in hand that none of them asks for."""
        shared, left = cls._shared_out(chosen)
        values = {key: mine for key, mine in shared.items() if mine}
        asked = {p.of for p in cls.parameters().values() if isinstance(p, Things)}
        for key, p in cls.parameters().items():
            if isinstance(p, Things) and len(shared[key]) < p.least and not p.optional:
                return None
        picked = [kind for kind in ("faces", "edges", "vertices") if chosen.of(kind)]
        strange = any(kind not in asked and not (kind == "faces" and "bodies" in asked) for kind in picked)
        return None if strange or not asked or any(left[kind] for kind in asked) else values

    @classmethod
    def _shared_out(cls, chosen: Chosen) -> tuple[dict[str, list[Any]], dict[Kind, list[Any]]]:
        """What is in hand, by the parameter that takes it, and what is left of each kind. A parameter that takes any
        number leaves those that come after it what they cannot do without."""
        left = {kind: list(chosen.of(kind)) for kind in KINDS}
        things = [(key, p) for key, p in cls.parameters().items() if isinstance(p, Things)]
        out: dict[str, list[Any]] = {}
        for n, (key, p) in enumerate(things):
            later = sum(q.least for _, q in things[n + 1 :] if q.of == p.of and not q.optional)
            most = max(len(left[p.of]) - later, p.least) if p.most is None else p.most
            out[key], left[p.of] = left[p.of][:most], left[p.of][most:]
        return out, left

    @classmethod
    def needed(cls) -> list[str]:
        """The parameters that are no things, and must be given."""
        return [
            key
            for key, p in cls.parameters().items()
            if not isinstance(p, Things) and p.default is None and not p.optional
        ]

    @classmethod
    def of(cls, chosen: Chosen) -> Self | None:
        """The operation made of what is in hand, or None where that does not fit. By default: the parameters that ask
        for things take what is chosen of their kind, all others are left out, and everything chosen must be taken."""
        values = cls.taken(chosen)
        if values is None or cls.needed():
            return None
        try:
            return cls(**values)
        except LithonError:
            return None

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        """Whether it is offered for what is in hand: it could be done, once what else it needs is given."""
        made = cls.of(chosen) is not None
        return made or (bool(cls.needed()) and cls.taken(chosen) is not None)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, Any]:
        """Values for a form that is opened: what fits of what is in hand, and a sensible start for the rest."""
        made = cls.of(chosen)
        if made is not None:
            return {key: getattr(made, key) for key in cls.parameters()}
        shared, _ = cls._shared_out(chosen)
        values = {key: p.default for key, p in cls.parameters().items()}
        for key, mine in shared.items():
            of = cls.parameters()[key].of  # type: ignore[attr-defined]
            values[key] = Choice.made(of, mine) if mine else Choice(of)
        return values

    def live_faces(self) -> tuple[Face, ...]:
        """The faces that it is about, as far as they are chosen live."""
        out: list[Face] = []
        for key, p in self.parameters().items():
            value = getattr(self, key)
            if isinstance(p, Things) and value.of == "faces":
                out += of_entities(value.live)["faces"]  # type: ignore[arg-type]
        return tuple(out)

    # ---- what it does

    def subject(self) -> str:
        """What it is about, in a line for the Proposal."""
        words = []
        for key, p in self.parameters().items():
            value = getattr(self, key)
            if isinstance(p, Things):
                if value.question:
                    words.append(value.question)
                elif not value.empty:
                    n = len(value.live or value.marks)
                    words.append(f"{n} {p.of}" if n != 1 else _named(value, p))
        return ", ".join(words)

    def check(self, bench: Bench) -> None:
        """Raises Refusal where it cannot begin on this model."""
        sheets = [] if self.on_sheets else [body for body in bench.model.bodies if body.sheet]
        for body in sheets:
            if any(body in owners or not set(body.edges()).isdisjoint(owners) for owners in self._asked(bench)):
                raise Refusal(f"{body.name} is a sheet, and this works on solids", remedy="choose solids",
                              entities=body.faces)  # fmt: skip
        if self.unbonded:
            for key, p in self.parameters().items():
                if not isinstance(p, Things) or p.of not in ("faces", "bodies"):
                    continue
                things = bench.given[key]
                faces = things if p.of == "faces" else [f for b in things for f in b.faces]
                shared = tuple(f for f in faces if len(bench.model.owners(f)) > 1)
                if shared:
                    raise Refusal(
                        f"a bonded {'face' if p.of == 'faces' else 'body'} is among what was chosen",
                        remedy=f"{self.unbonded} first and bond afterwards", entities=shared,
                    )  # fmt: skip

    def _asked(self, bench: Bench) -> Iterator[set[Any]]:
        """Of each parameter that asks for things: the bodies of its faces, its edges, or its bodies."""
        for key, p in self.parameters().items():
            if isinstance(p, Things):
                things = bench.given[key]
                if p.of == "faces":
                    yield {body for face in things for body in bench.model.owners(face)}
                elif p.of in ("edges", "bodies"):
                    yield set(bench.bodies(key) if p.of == "bodies" else things)

    def do(self, bench: Bench) -> Made:
        """Do it. Raises Refusal, saying what, where and what to try."""
        raise NotImplementedError


def _named(value: Choice, parameter: Things) -> str:
    """One thing that is chosen, by its name where it has one."""
    if value.live:
        (item,) = value.live
        return (
            item.name
            if isinstance(item, Body)
            else f"1 {parameter.of[:-1] if parameter.of != 'vertices' else 'vertex'}"
        )
    (mark,) = value.marks
    return str(
        mark if isinstance(mark, str) else mark.get("name") or mark.get("kind") or mark.get("curve") or "a place"
    )
