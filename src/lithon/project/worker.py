"""The worker process: long operations run here, so that the window never stalls and a crash there
loses nothing. Jobs are plain functions of plain arguments; see `JOBS`."""

from __future__ import annotations

import contextlib
import gc
import signal
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

from lithon.arrays import Floats
from lithon.brep.analysis.symmetry import Symmetry, symmetry
from lithon.brep.boxes import face_boxes
from lithon.brep.copies import root_of
from lithon.brep.tessellation.division import divide_edges
from lithon.brep.tessellation.patches import Change, change
from lithon.brep.topology import Body, Face, Model
from lithon.brep.validate import flaws
from lithon.carve.freeing import Freeing, proposed
from lithon.errors import LithonError
from lithon.geometry.frames import Frame
from lithon.log import fault
from lithon.mesh.sizing import SizeRules
from lithon.operations.cures import Way, tried
from lithon.operations.fingerprints import fingerprint, resolve
from lithon.operations.operation import Operation
from lithon.operations.running import Outcome, run
from lithon.operations.state import State
from lithon.operations.trim.clear import Clear
from lithon.progress import Progress
from lithon.project.ledger import Entry, Ledger, Past, Source, replayed
from lithon.project.opening import opened, revised
from lithon.project.process import Started, start
from lithon.project.travel import make_ready
from lithon.project.wire import Parcel, Wire
from lithon.samples.build import Round, face_toward, prism, rectangle, sink
from lithon.survey.card import Finding
from lithon.survey.costs import Cost, costs
from lithon.survey.deviation import Deviation, deviation
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.survey.forecast import Forecast, forecast
from lithon.survey.groups import Key
from lithon.survey.measuring import Measure, wall
from lithon.survey.sizes import Mark, marks
from lithon.survey.standing import Standings, standings


def _drawn(*models: Model) -> None:
    """Make all triangles that a window will ask for; they go along with the answer."""
    for body in dict.fromkeys(root_of(body) for model in models for body in model.bodies):
        divide_edges(body.edges())
        make_ready(body.faces)


def _open(progress: Progress, path: Path) -> tuple[Ledger, list[str]]:
    ledger, troubles = opened(path, progress)
    progress.tell(0.9, "drawing")
    _drawn(ledger.base, ledger.model)
    return ledger, troubles


def _reread(progress: Progress, source: Source) -> Ledger:
    ledger = Ledger.of(source)
    _drawn(ledger.base)
    return ledger


def _revise(progress: Progress, path: Path, past: Past) -> tuple[Ledger, list[str]]:
    ledger, troubles = revised(path, past, progress)
    _drawn(ledger.base, ledger.model)
    return ledger, troubles


def _step(progress: Progress, state: State, operation: Operation) -> tuple[Outcome, Change]:
    """What an operation gives, and the ghost of it."""
    outcome = run(state, operation, progress)
    _drawn(outcome.model)
    return outcome, change(state.model, outcome.model)


def _survey(progress: Progress, model: Model, rules: SizeRules) -> list[Finding]:
    return findings(model, rules.size, rules=rules)


def _glance(progress: Progress, model: Model, rules: SizeRules) -> list[Finding]:
    return findings(model, rules.size, thorough=False, rules=rules)


def _standings(progress: Progress, model: Model) -> Standings:
    return standings(model)


def _marks(progress: Progress, model: Model, lens: str) -> list[Mark]:
    return marks(model, lens)


def _wall(progress: Progress, model: Model, face: Face, at: Floats) -> list[Measure]:
    return wall(model, face, at)


def _warm(progress: Progress, model: Model) -> None:
    """Look at every face once and clear a hole of a block, so that the first step waits for neither faces nor code."""
    block = prism(rectangle(0.0, 0.0, 10.0, 10.0), 5.0)
    hole = Round((5.0, 5.0), 2.0)
    top, low = face_toward(block, (0.0, 0.0, 1.0)), face_toward(block, (0.0, 0.0, -1.0))
    sunk = sink(block, top, Frame.of((0.0, 0.0, 5.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0)), hole, 5.0, low)
    before = State(Model.of([sunk]))
    change(before.model, run(before, Clear(faces=sunk.faces[-1])).model)
    for body in dict.fromkeys(root_of(body) for body in model.bodies):
        flaws(body, model.tolerance)
        progress.tell(0.0, "looking at the solid")
        face_boxes(body.faces)
        whole = Model((body,), model.tolerance)
        resolve(whole, [fingerprint(whole, body.faces[0])])
        progress.tell(0.0, "looking at the solid")
        features(body)
        progress.tell(0.0, "looking at the solid")


def _replay(progress: Progress, state: State, entries: list[Entry]) -> list[Entry]:
    out = replayed(state, entries, progress)
    _drawn(*(entry.outcome.model for entry in out[-1:]))
    return out


def _forecast(progress: Progress, model: Model, rules: SizeRules) -> Forecast:
    return forecast(model, rules.size, rules)


def _outlook(progress: Progress, model: Model, rules: SizeRules) -> tuple[list[Cost], Symmetry]:
    return costs(model, rules.size, rules), symmetry(model)


def _tried(progress: Progress, state: State, known: frozenset[Key]) -> dict[Key, Way]:
    return tried(state, known, 1.0, progress)


def _cuts(progress: Progress, model: Model) -> dict[Body, list[Freeing]]:
    return proposed(model, progress)


def _deviation(progress: Progress, before: Model, after: Model) -> Deviation:
    return deviation(before, after, progress)


def _rest(progress: Progress, seconds: float) -> str:
    """Do nothing for a while; lets the tests see progress and stopping without a heavy part."""
    start = time.monotonic()
    while (gone := time.monotonic() - start) < seconds:
        progress.tell(gone / seconds, "resting")
        time.sleep(0.01)
    return "rested"


@dataclass(frozen=True, slots=True)
class JobKind:
    """A job that a worker does. beside: nobody waits for it, so it runs in the second worker; lasting: much stays in
    memory after it; idle: given up as soon as somebody asks for another."""

    name: str
    run: Callable[..., Any]
    beside: bool = False
    lasting: bool = False
    idle: bool = False


_TABLE = (
    JobKind("open", _open, lasting=True),
    JobKind("reread", _reread, lasting=True),
    JobKind("revise", _revise, lasting=True),
    JobKind("step", _step),
    JobKind("replay", _replay, lasting=True),
    JobKind("warm", _warm, lasting=True, idle=True),
    JobKind("survey", _survey, beside=True, lasting=True),
    JobKind("standings", _standings, beside=True),
    JobKind("glance", _glance, beside=True),
    JobKind("marks", _marks, beside=True),
    JobKind("wall", _wall, beside=True),
    JobKind("forecast", _forecast, beside=True),
    JobKind("outlook", _outlook, beside=True),
    JobKind("deviation", _deviation, beside=True),
    JobKind("tried", _tried, beside=True, idle=True),
    JobKind("cuts", _cuts, beside=True, idle=True),
    JobKind("rest", _rest),
)
JOBS = {job.name: job for job in _TABLE}


def serve(connection: Connection) -> None:
    """Answer jobs until the connection closes. Messages: ('progress', id, share, what),
    ('done', id, result), ('failed', id, error). SIGUSR1 asks the running job to stop."""
    wire = Wire()
    last, telling = 0.0, threading.Lock()
    stop: set[int] = set()
    ahead: tuple[Path, Any] | None = None

    def on_signal(number: int, frame: object) -> None:
        stop.add(number)

    signal.signal(signal.SIGUSR1, on_signal)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            number, name, args = wire.unpack(connection.recv_bytes())
        except (EOFError, OSError):
            return
        if number == "done":
            continue  # another worker's answer: what is in it is known now
        if number == "ahead":
            with contextlib.suppress(Exception):  # asked for in earnest, it will say what is wrong
                ahead = args[0], _open(Progress(None, lambda: bool(stop)), args[0])
            continue
        current = number
        stop.clear()

        def report(share: float, what: str, number: int = current) -> None:
            nonlocal last
            with telling:  # some work is done in several threads
                now = time.monotonic()
                if now - last > 0.05:
                    last = now
                    connection.send_bytes(wire.pack(("progress", number, share, what)))

        try:
            if ahead is not None and name == "open" and args[0] == ahead[0]:
                result = ahead[1]
            else:
                result = JOBS[name].run(Progress(report, lambda: bool(stop)), *args)
            ahead = None
            answer = ("done", number, result)
        except LithonError as error:
            answer = ("failed", number, error)
        except Exception as error:
            answer = ("failed", number, fault(error, f"at the job {name!r}"))
        connection.send_bytes(wire.pack(answer))
        if name in JOBS and JOBS[name].lasting:
            # What was read or found stays: to look through it for rubbish would take longer than a step does.
            gc.collect()
            gc.freeze()


def read_ahead(started: Started, path: Path) -> None:
    """Have a worker that was just started read a file which it will soon be asked to open."""
    started.connection.send_bytes(Wire().pack(("ahead", "open", (path,))))


class WorkerHandle:
    """The near end: starts the process, sends jobs, reads answers. After a crash make another one."""

    def __init__(self, started: Started | None = None, nice: int = 0) -> None:
        self._numbers = 0
        started = started or start(nice)
        self.process, self.connection = started.process, started.connection
        self.wire = Wire()

    def submit(self, name: str, *args: Any) -> int:
        """Send a job; its number comes back with the answer."""
        self._numbers += 1
        self.connection.send_bytes(self.wire.pack((self._numbers, name, args)))
        return self._numbers

    def learn(self, parcel: Parcel) -> None:
        """Pass on what came from another worker as it came, if it can be understood here."""
        if parcel.whole:
            self.connection.send_bytes(parcel.data)
            self.wire.known.update(parcel.fresh)

    def receive(self) -> Any:
        """The next message. Raises EOFError when the process is gone."""
        return self.wire.unpack(self.connection.recv_bytes())

    def cancel(self) -> None:
        """Ask the running job to stop."""
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGUSR1)

    def close(self) -> None:
        self.connection.close()
        if self.process.poll() is None:
            self.process.kill()
        self.process.wait()


if __name__ == "__main__":
    serve(Connection(int(sys.argv[1])))
