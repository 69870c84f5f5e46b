"""What a job is, and how one is played: its source is written as a file, read, worked on by operations; what was done
is written as a recipe and done again on the file as it was; every number is compared with a closed form."""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.exchange.deliver import write_triangles
from lithon.exchange.step_write import write_step
from lithon.mesh.mesh import Mesh
from lithon.operations.operation import Operation
from lithon.operations.running import Outcome
from lithon.operations.table import rows
from lithon.project.ledger import Ledger


@dataclass(frozen=True, slots=True)
class Check:
    """A number of the result beside what it must be; `near`: how far off it may be, as a share or, of 0, as it is."""

    what: str
    got: float
    wanted: float
    near: float = 1e-9

    @property
    def holds(self) -> bool:
        return abs(self.got - self.wanted) <= self.near * max(abs(self.wanted), 1.0 if self.wanted == 0.0 else 0.0)


@dataclass(slots=True)
class Bench:
    """A job while it is played: the work, its last mesh, and what was checked."""

    ledger: Ledger
    folder: Path
    checks: list[Check] = field(default_factory=list)
    mesh: Mesh | None = None

    @property
    def model(self) -> Model:
        return self.ledger.model

    def take(self, operation: Operation) -> Outcome:
        """Do a step."""
        outcome = self.ledger.take(operation).outcome
        self.mesh = outcome.mesh or self.mesh
        return outcome

    def check(self, what: str, got: float, wanted: float, near: float = 1e-9) -> None:
        self.checks.append(Check(what, float(got), float(wanted), near))

    @property
    def volume(self) -> float:
        return float(sum(map(volume, self.model.bodies)))


Play = Callable[[Bench], None]


@dataclass(frozen=True, slots=True)
class Job:
    """ident: as J07; comes: what is brought; lines: the ways in which it goes, each from the same source; lacks: what
    the job asks for that is not played yet."""

    ident: str
    title: str
    comes: Callable[[], Model] | None
    lines: Sequence[tuple[str, Play]]
    suffix: str = ".step"
    lacks: str = ""


@dataclass(slots=True)
class Played:
    """How a job went."""

    job: Job
    steps: int
    seconds: float
    elements: int
    checks: list[Check]

    @property
    def holds(self) -> bool:
        return all(c.holds for c in self.checks)


def play(job: Job) -> Played:
    """Play a job. Raises what its operations raise."""
    start, steps, elements = time.monotonic(), 0, 0
    checks: list[Check] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for line, run in job.lines:
            ledger = _opened(job, folder)
            before = ledger.source.data
            bench = Bench(ledger, folder)
            run(bench)
            steps += len(ledger.entries)
            elements += len(bench.mesh.elements) if bench.mesh is not None else 0
            bench.check("the source is untouched", float(ledger.source.data == before), 1.0)
            wrong = sum(len(flaws(b, bench.model.tolerance)) for b in bench.model.bodies)
            bench.check("flaws", wrong, 0.0)
            again = _again(job, folder, ledger)
            for one, two in zip(_sizes(bench.model), _sizes(again.model), strict=True):
                bench.check("the recipe gives the same", two, one, 1e-9)
            mark = f"{line}: " if len(job.lines) > 1 else ""
            checks += [Check(mark + c.what, c.got, c.wanted, c.near) for c in bench.checks]
    return Played(job, steps, time.monotonic() - start, elements, checks)


def _sizes(model: Model) -> list[float]:
    return sorted(volume(b) for b in model.bodies)


def _opened(job: Job, folder: Path) -> Ledger:
    if job.comes is None:
        return Ledger.empty()
    path = folder / f"{job.ident.lower()}{job.suffix}"
    if not path.exists():
        (write_step if job.suffix == ".step" else write_triangles)(job.comes(), path)
    return Ledger.open(path, "mm" if job.suffix != ".step" else None)


def _again(job: Job, folder: Path, ledger: Ledger) -> Ledger:
    """The recipe of what was done, from its text, on the file as it was."""
    out = _opened(job, folder)
    for step in json.loads(json.dumps(ledger.recipe()))["steps"]:
        if rows()[step["do"]].operation.replayed:  # a mesh changes no model, and takes its time
            out.take(step)
    return out
