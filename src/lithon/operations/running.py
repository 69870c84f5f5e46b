"""One way to run any operation: find what it means on the model, check, do, look at the result, tell the outcome.

Decoding, resolving and doing are three things with three kinds of error: BadFile, Unresolved and Refusal. Any other
error is a bug of ours and is told as one (`log.fault`). Whatever happens, the state that was given is unchanged.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from lithon.brep.gate import refuse_worse
from lithon.brep.measures import volume
from lithon.brep.topology import Edge, Model
from lithon.errors import Fault, LithonError, Refusal
from lithon.log import fault
from lithon.mesh.mesh import Mesh
from lithon.operations.operation import Bench, Made, Operation
from lithon.operations.references import NO_REFERENCES, References
from lithon.operations.state import State
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True, eq=False)
class Outcome:
    """A state after an operation: words for the Ledger, the price, how many ways there are; the operation itself as it
    can be written."""

    state: State
    words: str
    faces_change: int = 0
    volume_change: float = 0.0
    solutions: int = 1
    details: tuple[dict[str, Any], ...] = ()
    operation: Operation | None = None
    mesh: Mesh | None = None
    shown: tuple[Edge, ...] = ()

    @property
    def model(self) -> Model:
        return self.state.model


def run(state: State, operation: Operation, progress: Progress = SILENT) -> Outcome:
    """What an operation gives on a state. Raises Unresolved, Refusal or Cancelled; Fault where it is our fault."""
    try:
        with progress.under_way(), progress.within(operation.budget):
            return _run(state, operation, progress)
    except LithonError:
        raise
    except Exception as error:
        raise fault(error, f"doing {operation.name or type(operation).__name__}") from error


def _run(state: State, operation: Operation, progress: Progress) -> Outcome:
    progress.tell(0.0, "looking at what is meant")
    bench = Bench(state, resolved(state.model, operation, state.references), progress)
    operation.check(bench)
    written = operation.recorded(state.model)
    made = operation.do(bench)
    progress.pulse("looking at the result")
    _gated(state.model, made, operation)
    if made.model is not state.model and not made.model.bodies:
        raise Refusal("nothing would be left", remedy="leave something in")
    marks = made.marks if made.marks is not None else state.marks.carried(state.model, made.model)
    references = state.references if made.references is None else made.references
    after = State(made.model, marks, made.settings or state.settings, references)
    return outcome(state, after, made, written)


def outcome(before: State, after: State, made: Made, written: Operation) -> Outcome:
    """In words and numbers, what has become of a state."""
    one, two = before.model, after.model
    same = one is two
    return Outcome(
        after,
        made.words,
        0 if same else two.face_count() - one.face_count(),
        0.0 if same else sum(map(volume, two.bodies)) - sum(map(volume, one.bodies)),
        made.solutions,
        tuple(made.details),
        written,
        made.mesh,
        tuple(made.shown),
    )


def resolved(model: Model, operation: Operation, references: References = NO_REFERENCES) -> Mapping[str, Any]:
    """The parameters of an operation as they are on a model. Raises Unresolved or Refusal."""
    return {key: p.on(getattr(operation, key), model, references) for key, p in operation.parameters().items()}


def _gated(before: Model, made: Made, operation: Operation) -> None:
    """Raises Refusal where a result is worse than what it was made of; a Fault where an operation breaks its word."""
    if operation.gate == "unchanged":
        if made.model is not before:
            raise Fault(f"{operation.name} has changed the model, which it never does")
        return
    if operation.gate == "own":
        return
    old = set(before.bodies)
    gone = [body for body in before.bodies if body not in set(made.model.bodies)]
    for body in made.model.bodies:
        if body not in old:
            refuse_worse(body, gone, made.model.tolerance)
